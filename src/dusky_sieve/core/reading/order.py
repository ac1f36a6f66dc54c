"""Medians and quantiles of finite values: numpy's own look for NaN and weigh methods for ten times as long as they compute.

A reading asks for thousands of them, of a hundred values each.
"""

from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def median(values: NDArray[Any], axis: int = -1) -> Floats:
    """The middle value along an axis, the mean of the two in the middle of an even number; of one value at least."""
    count = values.shape[axis]
    half = count // 2
    if count % 2:
        return np.asarray(np.partition(values, half, axis).take(half, axis))
    ordered = np.partition(values, (half - 1, half), axis)
    return np.asarray(
        0.5 * ordered.take(half - 1, axis) + 0.5 * ordered.take(half, axis)
    )  # two bytes overflow their sum


def one_sigma(off: NDArray[Any]) -> float:
    """Robust one-sigma about nothing of what values (n,) lie off by: a normal's, from the median; of one value at least."""
    return 1.4826 * float(median(np.abs(off)))


def quantile(values: NDArray[Any], share: float, axis: int = -1) -> Floats:
    """The value along an axis that a share, 0..1, lies below, straight between neighbours; of one value at least."""
    ordered = np.sort(values, axis)
    place = share * (values.shape[axis] - 1)
    low = int(place)
    above = ordered.take(min(low + 1, values.shape[axis] - 1), axis)
    below = ordered.take(low, axis)
    return np.asarray(below + (above - below) * (place - low))
