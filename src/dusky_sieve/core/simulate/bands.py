"""What is done to a picture's three bands, one band at a time: numpy is slow where its innermost loop is three long."""

from collections.abc import Iterable, Iterator

import cv2
import numpy as np
from numpy.typing import ArrayLike, NDArray

Image = NDArray[np.float32]

STRIPE = 32  # rows done at once: what is made of them on the way stays in the processor's cache


def stripes(rows: int) -> Iterator[slice]:
    """The rows of a picture, a few at a time, from the top."""
    return (slice(y, y + STRIPE) for y in range(0, rows, STRIPE))


def in_colour(grey: Image, colour: ArrayLike) -> Image:
    """A picture (rows, columns, 3) of one tint from its brightness (rows, columns)."""
    return np.asarray(cv2.merge([grey * tint for tint in np.asarray(colour, np.float32)]), np.float32)


def scale(picture: Image, by: Iterable[Image]) -> None:
    """Multiplies each band of (rows, columns, 3) in place by its own factors (rows, columns)."""
    for band, factor in enumerate(by):
        picture[..., band] *= factor


def lead(picture: Image, to: ArrayLike, share: Image) -> None:
    """Leads (rows, columns, 3) in place a share (rows, columns) of the way to a colour (3,) or to another such picture."""
    there = np.broadcast_to(np.asarray(to, np.float32), picture.shape)
    for rows in stripes(len(picture)):
        way = there[rows] - picture[rows]
        way *= cv2.merge([share[rows]] * picture.shape[-1])
        picture[rows] += way
