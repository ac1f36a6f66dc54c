"""Reading a sheet: photo arrays in, a reading out.

Steps, each in a module of its own: `inkmap` and `find` (where might the sheet be), `align` and `locate` (where
it is), `registration` (homography and smooth warp), `measure` (ink and place of each mark), `judge` (states).
"""

from dusky_sieve.core.reading.document import BlockReading, Fault, PhotoReading, Reading, Warned
from dusky_sieve.core.reading.sheet import UprightPhoto, read_sheet

__all__ = ["BlockReading", "Fault", "PhotoReading", "Reading", "UprightPhoto", "Warned", "read_sheet"]
