"""Tables. They never leave this package: queries hand out core values and plain records."""

from datetime import UTC, datetime

from sqlalchemy import CheckConstraint, Column, Float, ForeignKey, String, Text, UniqueConstraint
from sqlmodel import Field, SQLModel


def now_utc() -> datetime:
    return datetime.now(UTC)


def _owner(table: str) -> Column[int]:
    return Column(ForeignKey(f"{table}.id", ondelete="RESTRICT"), nullable=False, index=True)


class PrinterRow(SQLModel, table=True):
    __tablename__ = "printer"
    id: int | None = Field(default=None, primary_key=True)
    slug: str = Field(unique=True)
    name: str
    about: str = ""
    document: str = Field(sa_column=Column(Text, nullable=False))  # core Printer as JSON, as of the first event
    layout: str = Field(sa_column=Column(Text, nullable=False))  # core Layout as JSON
    inks: str = Field(default="{}", sa_column=Column(Text, nullable=False))  # channel name to ink colour
    sheet_note: str = ""
    position: int = 0
    habits: str = Field(default="{}", sa_column=Column(Text, nullable=False, server_default="{}"))


class PhotoRow(SQLModel, table=True):
    __tablename__ = "photo"
    __table_args__ = (UniqueConstraint("printer_id", "digest"),)
    id: int | None = Field(default=None, primary_key=True)
    printer_id: int = Field(sa_column=_owner("printer"))
    digest: str = Field(sa_column=Column(String(64), nullable=False))
    name: str
    media: str
    size: int
    backing: str
    arrived: str


class CaseRow(SQLModel, table=True):
    __tablename__ = "trouble"
    id: int | None = Field(default=None, primary_key=True)
    printer_id: int = Field(sa_column=_owner("printer"))
    number: int
    opened: str
    closed: str | None = None
    outcome: str | None = None
    start: str = Field(sa_column=Column(Text, nullable=False))  # core Printer as JSON: levels and pad at the start


class SheetRow(SQLModel, table=True):
    __tablename__ = "sheet"
    id: int | None = Field(default=None, primary_key=True)
    printer_id: int = Field(sa_column=_owner("printer"))
    case_id: int | None = Field(
        default=None, sa_column=Column(ForeignKey("trouble.id", ondelete="RESTRICT"), index=True)
    )
    photo_id: int | None = Field(
        default=None, sa_column=Column(ForeignKey("photo.id", ondelete="RESTRICT"), index=True)
    )
    more_photos: str | None = Field(default=None, sa_column=Column(Text))  # keys of further photos, as JSON
    at: str = Field(index=True)
    reading: str | None = Field(
        default=None, sa_column=Column(Text)
    )  # core Reading as JSON; none for faults told by hand
    faults: str | None = Field(
        default=None, sa_column=Column(Text)
    )  # channel to ChannelFaults as JSON; none: not accepted
    lines: str | None = Field(default=None, sa_column=Column(Text))  # channel to light lines counted, as JSON
    changes: str | None = Field(default=None, sa_column=Column(Text))  # core Changes as JSON, oldest first
    why: str | None = None  # why nothing was read
    bad: int | None = None  # faults that were vouched for; none: not accepted
    person: str = ""


class EventRow(SQLModel, table=True):
    """A step, a level reading or a note of a case. A started step has no `finished` yet."""

    __tablename__ = "event"
    __table_args__ = (CheckConstraint("kind in ('step', 'level', 'note')"),)
    id: int | None = Field(default=None, primary_key=True)
    printer_id: int = Field(sa_column=_owner("printer"))
    case_id: int | None = Field(
        default=None, sa_column=Column(ForeignKey("trouble.id", ondelete="RESTRICT"), index=True)
    )
    kind: str
    at: str = Field(index=True)
    started: str | None = None
    finished: str | None = None
    dropped: str | None = None
    document: str = Field(sa_column=Column(Text, nullable=False))
    person: str = ""


class EntryRow(SQLModel, table=True):
    """The book. Rows are only ever added; a trigger refuses anything else."""

    __tablename__ = "entry"
    id: int | None = Field(default=None, primary_key=True)
    printer_id: int = Field(sa_column=_owner("printer"))
    case_id: int | None = Field(
        default=None, sa_column=Column(ForeignKey("trouble.id", ondelete="RESTRICT"), index=True)
    )
    event_id: int | None = Field(
        default=None, sa_column=Column(ForeignKey("event.id", ondelete="RESTRICT"), index=True)
    )
    document: str = Field(sa_column=Column(Text, nullable=False))
    what: str = Field(default="step", sa_column=Column(String, nullable=False, server_default="step"))
    at: str = Field(default="", sa_column=Column(String, nullable=False, server_default=""))
    channel: str = Field(default="", sa_column=Column(String, nullable=False, server_default=""))
    ink_ml: float = Field(default=0.0, sa_column=Column(Float, nullable=False, server_default="0"))
    waste_ml: float = Field(default=0.0, sa_column=Column(Float, nullable=False, server_default="0"))
    cost: float = Field(default=0.0, sa_column=Column(Float, nullable=False, server_default="0"))
    replaces: int | None = Field(default=None, index=True)
    person: str = Field(default="", sa_column=Column(String, nullable=False, server_default=""))


class DoneRow(SQLModel, table=True):
    """Forms that were already acted on, so that one sent twice acts once."""

    __tablename__ = "done"
    token: str = Field(sa_column=Column(String(64), primary_key=True))
    went_to: str
    at: str


class LadderRow(SQLModel, table=True):
    """A ladder that somebody made or brought in."""

    __tablename__ = "ladder"
    id: str = Field(sa_column=Column(String(60), primary_key=True))
    document: str = Field(sa_column=Column(Text, nullable=False))
    at: str
    person: str = ""


class PhoneRow(SQLModel, table=True):
    """A phone paired with a printer until a moment. The secret itself is not kept, only its digest."""

    __tablename__ = "phone"
    digest: str = Field(sa_column=Column(String(64), primary_key=True))
    printer_id: int = Field(sa_column=_owner("printer"))
    until: str
    sheet_id: int | None = Field(
        default=None, sa_column=Column(ForeignKey("sheet.id", ondelete="RESTRICT"), index=True)
    )
    state: str = "waiting"


class UpkeepRow(SQLModel, table=True):
    """What somebody said about a task of upkeep: done, skipped, moved."""

    __tablename__ = "upkeep"
    id: int | None = Field(default=None, primary_key=True)
    printer_id: int = Field(sa_column=_owner("printer"))
    task: str
    at: str
    document: str = Field(sa_column=Column(Text, nullable=False))
    person: str = ""


class SecretRow(SQLModel, table=True):
    """The secret in the address of a feed."""

    __tablename__ = "secret"
    name: str = Field(sa_column=Column(String(40), primary_key=True))
    value: str


class StampRow(SQLModel, table=True):
    """A number that every change of what belongs to a printer moves on; triggers keep it."""

    __tablename__ = "stamp"
    printer_id: int = Field(primary_key=True, sa_column_kwargs={"autoincrement": False})
    number: int
