"""What a photograph is worth: sharp, square, lit, complete; what is wrong with it, where, and what to do."""

import math
from typing import Literal

import numpy as np

from dusky_sieve.core.layout import Frozen
from dusky_sieve.core.reading.document import PhotoReading
from dusky_sieve.core.reading.registration import of_reading

Question = Literal["sharp", "square", "lit", "complete"]

CODES: dict[Question, tuple[str, ...]] = {
    "sharp": ("blurred", "small"),
    "square": ("doubtful",),
    "lit": ("glare", "dim"),
    "complete": ("cut_off", "covered"),
}
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
        words = [w.message for w in warned]
        angle = angle_deg(photo) if question == "square" else 0.0
        if angle > SKEWED_DEG:
            words.append(f"Taken about {angle:.0f}° from straight above: hold the phone over the middle of the sheet.")
        blocks = tuple(dict.fromkeys(w.block for w in warned if w.block))
        remarks.append(Remark(question=question, good=not words, words=tuple(words), blocks=blocks))
    return tuple(remarks)


def angle_deg(photo: PhotoReading) -> float:
    """Angle between the line of sight and the sheet's normal, degrees, from the homography.

    A plane seen at angle t by a camera that is far off keeps its length one way and is shortened by cos t the other:
    the ratio of the singular values of the local map at the sheet's middle (weak perspective).
    """
    if photo.sheet_to_photo is None:
        return 0.0
    box = photo.warp_box_mm or (0.0, 0.0, 1.0, 1.0)
    middle = np.array([box[0] + box[2] / 2, box[1] + box[3] / 2])
    flat = of_reading(photo.sheet_to_photo, None, None)
    here, across, down = flat.to_photo(middle + np.array([[0, 0], [0.5, 0], [0, 0.5]]))
    long, short = np.linalg.svd(np.stack([across - here, down - here]), compute_uv=False)
    return math.degrees(math.acos(min(1.0, float(short / long)))) if long > 0 else 0.0
