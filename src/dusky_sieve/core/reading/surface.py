"""A robust smooth surface through values at places: what lens, lamp and focus change slowly over a block."""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.reading.compiled import compiled, in_rows, middle, solved

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]

ROUNDS = 5  # of reweighting
HELD = (0.0, 0.1, 1.0)  # how much terms of degree 0, 1 and more are held back, of a hundredth of all weights
LEAST_LIMIT = 1e-3  # of the values' own unit: what they may stand out by where all lie on the surface


@lru_cache(maxsize=4)
def _powers(degree: int) -> tuple[NDArray[np.int64], Floats]:
    """Powers of x and y of a polynomial's terms, (t, 2), and how much each is held back, (t,)."""
    powers = np.array([(total - j, j) for total in range(degree + 1) for j in range(total + 1)])
    return powers, np.array([HELD[min(i + j, 2)] for i, j in powers])


def smooth_surface(places: Floats, value: Floats, usable: Bools, degree: int = 2, *, apart: bool = False) -> Floats:
    """A robust surface through values (n,) or (n, k) at places (n, 2); those that stand out in any count less.

    degree : of the polynomial; beyond the first its terms are held back a little, the higher the more
    apart : whether what stands out in one of the k counts less in that one only
    """
    powers, held = _powers(degree)
    if usable.sum() < 2 * len(held):
        return np.broadcast_to(np.median(value, axis=0), value.shape)
    known = np.flatnonzero(usable)
    aims = in_rows(np.atleast_2d(value.T))
    terms = _terms(in_rows(places), powers)
    fits = fitted(in_rows(terms[:, known]), in_rows(aims[:, known]), held, np.ones(len(known)), apart)
    return np.asarray((fits @ terms).T.reshape(value.shape))


@compiled
def _terms(places: Floats, powers: NDArray[np.int64]) -> Floats:
    """Polynomial terms (t, n) at places (n, 2), scaled to -1..1 over them."""
    n = len(places)
    terms = np.ones((len(powers), n))
    for axis in range(2):
        low, high = places[:, axis].min(), places[:, axis].max()
        for j in range(n):
            scaled = 2 * (places[j, axis] - low) / (high - low + 1e-9) - 1
            for t in range(len(powers)):
                for _ in range(powers[t, axis]):
                    terms[t, j] *= scaled
    return terms


@compiled
def fitted(terms: Floats, aims: Floats, held: Floats, sure: Floats, apart: bool) -> Floats:
    """Coefficients (k, t) of terms (t, n) whose sums lie through aims (k, n), by Cauchy weights; see smooth_surface.

    held : (t,) how much each is held back, of a hundredth of all weights; sure : (n,) weights to start from
    """
    k, n = aims.shape
    fits, left, weight = np.zeros((k, len(held))), np.zeros((k, n)), np.ones((k, n))
    for i in range(k):
        weight[i] = sure
    for _ in range(ROUNDS):
        for i in range(k):
            fits[i] = _weighted(terms, aims[i], weight[i], held)
            _leave(terms, aims[i], fits[i], left[i])
        if not apart:
            for i in range(1, k):
                for j in range(n):
                    left[0, j] = max(left[0, j], left[i, j])
        for i in range(k):
            if apart or i == 0:
                limit = 2 * (1.4826 * middle(left[i]) + LEAST_LIMIT)
                for j in range(n):
                    weight[i, j] = sure[j] / (1 + (left[i, j] / limit) ** 2)
            else:
                weight[i] = weight[0]
    return fits


@compiled
def _leave(terms: Floats, aim: Floats, fit: Floats, left: Floats) -> None:
    """Writes how far a fit (t,) leaves the aim (n,)."""
    left[:] = aim
    for t in range(len(fit)):
        for j in range(len(left)):
            left[j] -= fit[t] * terms[t, j]
    for j in range(len(left)):
        left[j] = abs(left[j])


@compiled
def _weighted(terms: Floats, aim: Floats, weight: Floats, held: Floats) -> Floats:
    """Coefficients (t,) of least squares, held back."""
    t, n = terms.shape
    normal, pull, scaled = np.zeros((t, t)), np.zeros(t), np.zeros(n)
    for a in range(t):
        for j in range(n):
            scaled[j] = weight[j] * terms[a, j]
        pull[a] = _dot(scaled, aim)
        for b in range(a + 1):
            normal[a, b] = _dot(scaled, terms[b])
    for a in range(t):
        normal[a, a] += 0.01 * held[a] * weight.sum() + 1e-9
    return solved(normal, pull)


@compiled
def _dot(a: Floats, b: Floats) -> float:
    total = 0.0
    for j in range(len(a)):
        total += a[j] * b[j]
    return total
