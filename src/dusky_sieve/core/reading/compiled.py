"""Small arrays quickly: loops compiled to machine code, for what numpy needs dozens of passes for, and algebra on one core.

A reading asks for thousands of such passes, of a few hundred values each, and each costs more than its arithmetic.
"""

from collections.abc import Callable
from typing import Any, TypeVar, cast

import numba
import numpy as np
from numpy.typing import NDArray
from threadpoolctl import ThreadpoolController

Floats = NDArray[np.float64]
Picture = NDArray[np.float32] | NDArray[np.uint8]
AnyFunction = TypeVar("AnyFunction", bound=Callable[..., Any])

_LIBRARIES = ThreadpoolController()
ANY_ORDER = {"reassoc", "contract"}  # of LLVM's liberties with floating point: none that assumes there is no NaN


def compiled(function: AnyFunction) -> AnyFunction:
    """The same function as machine code, made at its first call and kept beside the source for later runs.

    Arguments are arrays without gaps, in rows, and plain numbers: each other kind of array would be compiled again.
    Division by zero gives infinity, as in numpy; sums may be taken in another order than written.
    """
    return cast(AnyFunction, numba.njit(cache=True, nogil=True, error_model="numpy", fastmath=ANY_ORDER)(function))


def on_one_core(function: AnyFunction) -> AnyFunction:
    """The same function, while which matrices are multiplied and solved on one core.

    Of small ones further cores have little to do but wait for the next, and are kept from other work.
    """
    return cast(AnyFunction, _LIBRARIES.wrap(limits=1, user_api="blas")(function))


def in_rows(values: Floats) -> Floats:
    """The same values without gaps, row by row."""
    return np.ascontiguousarray(values, np.float64)


@compiled
def solved(normal: Floats, pull: Floats) -> Floats:
    """x (n,) of normal @ x = pull, by Cholesky's decomposition; of a symmetric positive matrix its lower half is read.

    NaN where it is not positive.
    """
    n = len(pull)
    root, x = np.zeros((n, n)), pull.copy()
    for i in range(n):
        for j in range(i + 1):
            left = normal[i, j]
            for k in range(j):
                left -= root[i, k] * root[j, k]
            root[i, j] = np.sqrt(left) if i == j else left / root[j, j]
        for k in range(i):
            x[i] -= root[i, k] * x[k]
        x[i] /= root[i, i]
    for i in range(n - 1, -1, -1):
        for k in range(i + 1, n):
            x[i] -= root[k, i] * x[k]
        x[i] /= root[i, i]
    return x


@compiled
def add_row(normal: Floats, pull: Floats, row: Floats, weight: float, off: float) -> None:
    """Adds an equation row @ x = off, by its weight, to normal equations: to the lower half of (n, n), and to (n,)."""
    for k in range(len(row)):
        part = weight * row[k]
        pull[k] += part * off
        for m in range(k + 1):
            normal[k, m] += part * row[m]


@compiled
def on_picture(picture: Picture, x: float, y: float) -> bool:
    """Whether a place lies on a picture, not beyond the middles of its outermost pixels; NaN does not."""
    height, width = picture.shape
    return x >= 0 and y >= 0 and x <= width - 1 and y <= height - 1


@compiled
def straight_between(picture: Picture, x: float, y: float) -> float:
    """A picture's value at a place on it, straight between its pixels."""
    height, width = picture.shape
    column, row = min(int(x), width - 2), min(int(y), height - 2)
    fx, fy = x - column, y - row
    above = picture[row, column] * (1 - fx) + picture[row, column + 1] * fx
    below = picture[row + 1, column] * (1 - fx) + picture[row + 1, column + 1] * fx
    return float(above * (1 - fy) + below * fy)


@compiled
def ranked(values: Any, rank: int) -> float:
    """The value (n,) of that rank, 0 of the least, by Hoare's selection; numpy's own takes seconds to compile."""
    own = values.copy()
    low, high = 0, len(own) - 1
    while low < high:
        pivot, i, j = own[(low + high) // 2], low, high
        while i <= j:
            while own[i] < pivot:
                i += 1
            while own[j] > pivot:
                j -= 1
            if i <= j:
                own[i], own[j] = own[j], own[i]
                i, j = i + 1, j - 1
        if rank <= j:
            high = j
        elif rank >= i:
            low = i
        else:
            break
    return float(own[rank])


@compiled
def middle(values: Any) -> float:
    """The median of values (n,), one at least."""
    n = len(values)
    return 0.5 * (ranked(values, (n - 1) // 2) + ranked(values, n // 2)) if n % 2 == 0 else ranked(values, n // 2)
