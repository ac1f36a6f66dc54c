"""What is done to a picture's three bands, one band at a time: numpy is slow where its innermost loop is three long."""

from collections.abc import Iterable

import cv2
import numpy as np
from numpy.typing import ArrayLike, NDArray

Image = NDArray[np.float32]


def in_colour(grey: Image, colour: ArrayLike) -> Image:
    """A picture (rows, columns, 3) of one tint from its brightness (rows, columns)."""
    return np.asarray(cv2.merge([grey * tint for tint in np.asarray(colour, np.float32)]), np.float32)


def scale(picture: Image, by: Iterable[Image]) -> None:
    """Multiplies each band of (rows, columns, 3) in place by its own factors (rows, columns)."""
    for band, factor in enumerate(by):
        picture[..., band] *= factor


def lead(picture: Image, to: ArrayLike, share: Image) -> None:
    """Leads (rows, columns, 3) in place a share (rows, columns) of the way to a colour (3,) or to another such picture."""
    there = np.asarray(to, np.float32)
    for band in range(picture.shape[-1]):
        picture[..., band] += share * (there[..., band] - picture[..., band])
