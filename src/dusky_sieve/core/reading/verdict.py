"""What a photograph is worth: sharp, square, lit, complete; what is wrong with it, where, and what to do."""

from typing import Literal

from dusky_sieve.core.layout import Frozen
from dusky_sieve.core.reading.document import PhotoReading, Warned
from dusky_sieve.core.reading.registration import of_reading

Question = Literal["sharp", "square", "lit", "complete"]

CODES: dict[Question, tuple[str, ...]] = {
    "sharp": ("blurred", "small"),
    "square": ("doubtful",),
    "lit": ("glare", "dim"),
    "complete": ("cut_off", "covered"),
}
MOST_NAMED = 4  # blocks named where the same is said of more
SKEWED_DEG = 22.0  # angle from straight above over which marks of the far side crowd; the reader is built for 30


class Remark(Frozen):
    """The answer to one question about a photo. `blocks` are those it is wrong at; `words` say what to do."""

    question: Question
    good: bool
    words: tuple[str, ...] = ()
    blocks: tuple[str, ...] = ()


def photo_verdict(photo: PhotoReading) -> tuple[Remark, ...]:
    """The four answers about a photo on which the sheet was found; none where it was not."""
    if not photo.found:
        return ()
    remarks = []
    for question, codes in CODES.items():
        warned = [w for w in photo.warnings if w.code in codes]
        words = [sentence for code in codes for sentence in _said([w for w in warned if w.code == code])]
        angle = angle_deg(photo) if question == "square" else 0.0
        if angle > SKEWED_DEG:
            words.append(f"Taken about {angle:.0f}° from straight above: hold the phone over the middle of the sheet.")
        blocks = tuple(dict.fromkeys(w.block for w in warned if w.block))
        remarks.append(Remark(question=question, good=not words, words=tuple(words), blocks=blocks))
    return tuple(remarks)


def _said(warned: list[Warned]) -> list[str]:
    """What warnings of one kind say: the first in full, of what other blocks it holds as well in a sentence together."""
    others = list(dict.fromkeys(w.block for w in warned[1:] if w.block))
    if not others:
        return [w.message for w in warned]
    more = len(others) - MOST_NAMED
    named = [*others[:MOST_NAMED], f"{more} more"] if more > 1 else others
    listed = " and ".join([", ".join(named[:-1]), named[-1]] if len(named) > 1 else named)
    return [warned[0].message, f"Likewise the {listed} block{'s' if len(others) > 1 else ''}."]


def angle_deg(photo: PhotoReading) -> float:
    """Angle between the line of sight and the sheet's normal, degrees; 0 where the sheet was not found."""
    if photo.sheet_to_photo is None:
        return 0.0
    return of_reading(photo.sheet_to_photo, photo.warp_mm, photo.warp_box_mm).angle_deg()
