"""The reading as a document: what was found on the photographs, nozzle by nozzle."""

from typing import Literal

from dusky_sieve.core.errors import parsed
from dusky_sieve.core.layout import Backing, Frozen

State = Literal["firing", "missing", "deflected", "weak", "unsure"]

# One table of warnings: code, then the sentence. {block} and {share} are filled in.
WARNINGS = {
    "cut_off": "The {block} block runs over the edge of the photo: step back so that the whole pattern is in the frame.",
    "glare": "Glare covers {share} of the {block} block: tilt the sheet or move the lamp.",
    "covered": "Something lies over or under {share} of the {block} block: take it away, or print on bare paper, or those marks stay unsure.",
    "doubtful": "For {share} of the {block} block it is in doubt which mark is whose: lay the sheet flatter and photograph it from straight above.",
    "blurred": "The {block} block is out of focus: rest the phone on something and photograph it again.",
    "dim": "The {block} block hardly shows: photograph it by a window or under a lamp.",
    "small": "The pattern is small on this photo ({share} px per nozzle pitch): go closer, so that it fills the frame.",
}


class Warned(Frozen):
    """One thing a person should know about a photo."""

    code: Literal["cut_off", "glare", "covered", "doubtful", "blurred", "dim", "small"]
    message: str
    block: str | None = None


class PhotoReading(Frozen):
    """What became of one photo."""

    file: str
    width: int
    height: int
    backing: Backing
    found: bool
    why: str | None = None
    sheet_to_photo: tuple[tuple[float, ...], ...] | None = None
    warp_mm: tuple[tuple[float, ...], ...] | None = None
    warp_box_mm: tuple[float, float, float, float] | None = None
    residual_um: float | None = None
    px_per_mm: float | None = None
    warnings: tuple[Warned, ...] = ()


class Fault(Frozen):
    """A nozzle that does not fire as it should, or of which the photo does not say."""

    nozzle: int
    state: Literal["missing", "deflected", "weak", "unsure"]
    confidence: float | None = None
    ink: float | None = None
    offset_um: tuple[float, float] | None = None


class LightLine(Frozen):
    """A light line across a fill: its centre below the top edge, its width, the share of ink it lacks, its nozzle."""

    y_mm: float
    width_um: float
    contrast: float
    nozzle: int | None = None


class BlockReading(Frozen):
    """One block's nozzles, or one fill's light lines. `read` False says `why`."""

    id: str
    channel: str
    head: int
    kind: Literal["marks", "solid"]
    read: bool
    why: str | None = None
    shift_um: tuple[float, float] | None = None
    counts: dict[str, int] | None = None
    faults: tuple[Fault, ...] = ()
    uniformity: float | None = None
    lines: tuple[LightLine, ...] | None = None


class Reading(Frozen):
    """One sheet, read."""

    format: Literal["dusky-sieve-reading"] = "dusky-sieve-reading"
    version: Literal[1] = 1
    layout: str
    photos: tuple[PhotoReading, ...]
    blocks: tuple[BlockReading, ...]


def parse_reading(text: str | bytes, name: str = "reading") -> Reading:
    """A reading from its JSON text; UnusableInput names the field at fault and what was expected there."""
    return parsed(Reading, text, name)
