"""What the store hands out: frozen records of core values with their keys."""

from dataclasses import dataclass, field
from datetime import datetime

from dusky_sieve.core.case import ChannelFaults, LevelEvent, NoteEvent, Printer, StepEvent
from dusky_sieve.core.layout import Backing, Layout
from dusky_sieve.core.reading import Change, Reading
from dusky_sieve.core.upkeep import TaskName


@dataclass(frozen=True)
class Habits:
    """What a room does the same way each time with a printer.

    ticked : lines of the list before printing that stay ticked
    accept_sure : a reading without an unsure mark is accepted without somebody looking at it
    intervals : days between two times of a task of upkeep, where the owner set them; 0 for never
    doubts : of a layout learnt from a photo, what somebody should check
    """

    ticked: tuple[str, ...] = ()
    accept_sure: bool = False
    doubts: tuple[str, ...] = ()
    intervals: dict[TaskName, float] = field(default_factory=dict)


@dataclass(frozen=True)
class PrinterRecord:
    """A printer as it was set up. `inks` maps channel names to their colours."""

    id: int
    slug: str
    name: str
    about: str
    printer: Printer
    layout: Layout
    inks: dict[str, str]
    sheet_note: str
    habits: Habits


@dataclass(frozen=True)
class PhotoRecord:
    """A stored photo's facts; the bytes lie in the photo folder under the digest."""

    id: int
    printer_id: int
    digest: str
    name: str
    media: str
    backing: Backing
    arrived: datetime


@dataclass(frozen=True)
class CaseRecord:
    """A case: from the first bad sheet until clear or handed over."""

    id: int
    printer_id: int
    number: int
    opened: datetime
    closed: datetime | None
    outcome: str | None
    start: Printer


@dataclass(frozen=True)
class SheetRecord:
    """A sheet: read from a photo, or told by hand. `faults` None until somebody accepted the reading.

    read : whether there is a reading, which lists of sheets leave out; bad : faults in all once accepted
    """

    id: int
    printer_id: int
    case_id: int | None
    photo_ids: tuple[int, ...]
    at: datetime
    reading: Reading | None
    faults: dict[str, ChannelFaults] | None
    lines: dict[str, int]
    changes: tuple[Change, ...]
    why: str | None
    person: str
    read: bool = False
    bad: int | None = None


@dataclass(frozen=True)
class EventRecord:
    """A step, level reading or note. A step under way has `started` and neither `finished` nor `dropped`."""

    id: int
    printer_id: int
    case_id: int | None
    event: StepEvent | LevelEvent | NoteEvent
    started: datetime | None
    finished: datetime | None
    dropped: datetime | None
    person: str

    @property
    def under_way(self) -> bool:
        """Whether this step was started and neither finished nor dropped."""
        return self.started is not None and self.finished is None and self.dropped is None


@dataclass(frozen=True)
class PhoneRecord:
    """A phone paired with a printer until a moment; `state` is how far it is: waiting, open, reading, read."""

    digest: str
    printer_id: int
    until: datetime
    state: str
    sheet_id: int | None
