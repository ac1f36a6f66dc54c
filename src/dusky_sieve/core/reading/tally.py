"""Ink at the places where a layout has marks and bare paper, counted block by block.

A kind is the bare places, or the marks, of one block; a place's ink is the mean of one byte or three, so that medians
and quantiles are looked up in a table of all values there are.
"""

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.reading.compiled import compiled, middle

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]
Bools = NDArray[np.bool_]
Bytes = NDArray[np.uint8]

LEVELS = 3 * 255 + 1  # sums of three bytes
DEPTH_FREE, DEPTH_SPREAD = 0.25, 0.6  # log ratio of strengths that says nothing yet, and its one-sigma beyond
UNSEEN_COLOUR = 0.3  # likeness of a block whose colour cannot be told
LEAST_SHARE = 0.01  # of the light that marks take, below which they have no colour
COLOUR_POWER = 3  # how hard a colour unlike the hint counts against a block


@compiled
def ink_at(places: Floats, near: Bytes, spots: int) -> tuple[Floats, Bools, Whole]:
    """Ink (steps * n,), whether on the map, and the pixel counted along rows, of probing points.

    places : (steps, 1, n, 2) map pixels, or (steps, 2, n, 2) where `spots` is 3: the middles and one spot right of each; as
    far to the left another one counts.
    """
    steps, _, count, _ = places.shape
    height, width = near.shape
    ink, seen, pixel = np.empty(steps * count), np.ones(steps * count, np.bool_), np.zeros(steps * count, np.int64)
    for step in range(steps):
        for n in range(count):
            total, at = 0, step * count + n
            for spot in range(spots):
                x, y = places[step, 0, n, 0], places[step, 0, n, 1]
                if spot > 0:
                    side = 3 - 2 * spot
                    x += side * (places[step, 1, n, 0] - x)
                    y += side * (places[step, 1, n, 1] - y)
                x, y = np.rint(x), np.rint(y)
                if x >= 0 and y >= 0 and x < width and y < height:
                    total += int(near[int(y), int(x)])
                    if spot == 0:
                        pixel[at] = int(y) * width + int(x)
                else:
                    seen[at] = False
            ink[at] = total / spots
    return ink, seen, pixel


@compiled
def levels(ink: Floats, inside: Bools, kind: Whole, kinds: int, shares: Floats) -> tuple[Whole, Floats]:
    """How many places of each kind are inside (kinds,), and the ink that shares of them lie below, (shares, kinds); 0 of none."""
    table = np.zeros((kinds, LEVELS), np.int32)
    for n in range(len(ink)):
        if inside[n]:
            table[kind[n], int(np.rint(3 * ink[n]))] += 1
    count = np.zeros(kinds, np.int64)
    found = np.zeros((len(shares), kinds))
    for k in range(kinds):
        count[k] = table[k].sum()
        for s in range(len(shares)):
            if count[k] > 0:
                found[s, k] = _ranked(table[k], int(np.rint(shares[s] * (count[k] - 1)))) / 3
    return count, found


@compiled
def _ranked(table: NDArray[np.int32], rank: int) -> int:
    """The value of a rank, 0 of the least, by how often each one was seen (values,)."""
    seen = 0
    for value in range(len(table)):
        seen += table[value]
        if seen > rank:
            return value
    return len(table) - 1


@compiled
def shares_of(ink: Floats, inside: Bools, block: Whole, low: Floats, high: Floats) -> Floats:
    """Each place's ink (n,) from its block's bare paper, 0, to a mark, 1; 0 where it is not inside."""
    share = np.zeros(len(ink))
    for n in range(len(ink)):
        if inside[n]:
            k = block[n]
            share[n] = min(max((ink[n] - low[k]) / (high[k] - low[k]), 0.0), 1.0)
    return share


@compiled
def medians_of(codes: Bytes, pixel: Whole, told: Bools, kind: Whole, kinds: int) -> tuple[Floats, Whole]:
    """Medians (kinds, 3) of the bytes (pixels, 3) at those pixels (n,) that are told, and how many they are (kinds,)."""
    table = np.zeros((kinds, 3, 256), np.int32)
    count = np.zeros(kinds, np.int64)
    for n in range(len(pixel)):
        if told[n]:
            count[kind[n]] += 1
            for band in range(3):
                table[kind[n], band, codes[pixel[n], band]] += 1
    medians = np.zeros((kinds, 3))
    for k in range(kinds):
        for band in range(3):
            if count[k] > 0:
                below, above = _ranked(table[k, band], (count[k] - 1) // 2), _ranked(table[k, band], count[k] // 2)
                medians[k, band] = (below + above) / 2
    return medians, count


@compiled
def likeness(share: Floats, hints: Floats, depths: Floats) -> tuple[Floats, Floats]:
    """How well the light that blocks' marks take (blocks, 3) goes with the layout's colours and strengths, and its colours.

    hints, depths : (blocks, 3) unit vectors and (blocks,) how much each ink takes; colours : (blocks, 3), 0 where none is told.
    Strengths go by each other: a grey is no black, either way round.
    """
    n = len(share)
    like, colours, off, known = np.zeros(n), np.zeros((n, 3)), np.zeros(n), np.zeros(n, np.bool_)
    for k in range(n):
        depth = np.sqrt(share[k, 0] ** 2 + share[k, 1] ** 2 + share[k, 2] ** 2)
        known[k] = depth > LEAST_SHARE
        if known[k]:
            alike = 0.0
            for band in range(3):
                colours[k, band] = share[k, band] / depth
                alike += colours[k, band] * hints[k, band]
            like[k] = min(max(alike, 0.0), 1.0) ** COLOUR_POWER
            off[k] = np.log(depth / depths[k])
        elif depth > 0:
            like[k] = UNSEEN_COLOUR
    if known.sum() >= 2:
        typical = middle(off[known])
        for k in range(n):
            if known[k]:
                beyond = max(abs(off[k] - typical) - DEPTH_FREE, 0.0)
                like[k] *= np.exp(-0.5 * (beyond / DEPTH_SPREAD) ** 2)
    return like, colours
