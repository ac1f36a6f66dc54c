"""Reading a sheet: photo arrays in, a reading out.

Steps, each in a module of its own: `inkmap`, `tilt` and `find` (where might the sheet be), `align`, `follow`,
`score` and `locate` (where it is), `registration` and `refine` (homography and smooth warp), `patches` and `measure`
(ink and place of each mark), `judge` (states), `fills` (light lines), `sheet` (all of it in order).
"""

from dusky_sieve.core.reading.correct import (
    Change,
    MarkState,
    corrected,
    marks_within,
    numbers_of,
    states_of,
    taken_back,
)
from dusky_sieve.core.reading.document import BlockReading, Fault, PhotoReading, Reading, Warned, parse_reading
from dusky_sieve.core.reading.locate import Corners
from dusky_sieve.core.reading.sheet import UprightPhoto, read_sheet
from dusky_sieve.core.reading.verdict import Remark, photo_verdict

__all__ = [
    "BlockReading", "Change", "Corners", "Fault", "MarkState", "PhotoReading", "Reading", "Remark", "UprightPhoto", "Warned", "corrected",
    "marks_within", "numbers_of", "parse_reading", "photo_verdict", "read_sheet", "states_of", "taken_back",
]  # fmt: skip
