"""Where each pixel of a picture lies on another, worked out at every so many pixels: the way between them is smooth."""

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Map = NDArray[np.float32]


def warp_maps(place: Callable[[Floats], Floats], size: tuple[int, int], step: int) -> tuple[Map, Map]:
    """x and y (rows, columns) for cv2.remap, exact at every `step` pixels across and down and linear between.

    place : the other picture's points (n, 2) from pixels (n, 2) of this one; asked one node beyond its edges too
    size : columns and rows
    """
    # Resized, node k comes to lie at pixel step * k + (step - 1) / 2, and the first is one before the picture's first.
    across, down = (np.arange(-1, side // step + 2) * step + (step - 1) / 2 for side in size)
    nodes = np.stack(np.meshgrid(across, down), axis=-1).reshape(-1, 2)
    coarse = place(nodes).astype(np.float32).reshape(len(down), len(across), 2)
    wide = (cv2.resize(axis, None, fx=step, fy=step, interpolation=cv2.INTER_LINEAR) for axis in cv2.split(coarse))
    x, y = (np.asarray(axis[step : step + size[1], step : step + size[0]], np.float32) for axis in wide)
    return x, y
