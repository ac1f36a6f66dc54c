"""Sums over whole pictures, done so that they are quick: a band and a few rows at a time, chance by OpenCV.

numpy is slow where its innermost loop is three long.
"""

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
    tints = np.asarray(colour, np.float32)
    picture = np.empty((*grey.shape, len(tints)), np.float32)
    for rows in stripes(len(grey)):  # whole bands beside the picture would have to be asked of the system each time
        cv2.merge([grey[rows] * tint for tint in tints], picture[rows])
    return picture


def chance(shape: tuple[int, ...], rng: np.random.Generator) -> Image:
    """Normal deviates (shape), mean 0 and one sigma 1, by OpenCV: a photo asks for millions, and numpy's take thrice as long."""
    cv2.setRNGSeed(int(rng.integers(2**31)))
    deviates = np.empty((shape[0], int(np.prod(shape[1:]))), np.float32)
    cv2.randn(deviates, np.zeros(1), np.ones(1))
    return deviates.reshape(shape)


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
