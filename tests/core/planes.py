"""Strokes of a sheet as teaching sees them, drawn from cells of a lattice."""

import numpy as np

from dusky_sieve.core.reading.inkmap import InkMap
from dusky_sieve.core.teaching.assign import Piece
from dusky_sieve.core.teaching.plane import Plane

CYAN, RED = (0.8, 0.5, 0.1), (0.2, 0.7, 0.7)


def plane_of(middle, long, *, wide=3.0, ink=CYAN, picture=None) -> Plane:
    """A plane, which is its own ink map, with level strokes of lengths (n,) about middles (n, 2)."""
    middle, half = np.array(middle, float), np.array(long, float) / 2
    ends = middle[:, None] + half[:, None, None] * np.array([[-1.0, 0.0], [1.0, 0.0]])
    colour = np.broadcast_to(np.array(ink, float), (len(middle), 3))
    colour = colour / np.linalg.norm(colour, axis=1, keepdims=True)
    small = np.zeros((8, 8, 3), np.uint8) if picture is None else picture
    seen = InkMap(np.zeros(small.shape[:2], np.uint8), small, 1.0)
    return Plane(np.eye(3), seen, ends, np.full(len(middle), wide), colour, np.full((len(middle), 3), 230.0), middle)


def strokes_at(cells, slope=0.3, gap=lambda column: 0.0, *, at=(0.0, 0.0), ink=lambda column, row: CYAN, push=()) -> Plane:  # fmt: skip
    """A plane with a stroke of 20 pixels at each cell, column and row, of a lattice that a lens widens to the right."""
    middle = np.array([(30.0 * c + 0.02 * c**2 + gap(c), 40.0 * r + slope * c) for c, r in cells]) + at
    for cell in push:
        middle[cells.index(cell)] += push[cell]
    return plane_of(middle, [20.0] * len(cells), ink=[ink(c, r) for c, r in cells])


def piece_of(plane: Plane, cells, box=(0.0, 0.0, 1.0, 1.0), **fields) -> Piece:
    """The plane's first strokes as a candidate for a block, in those cells."""
    column, row = np.array(cells).T
    n = len(cells)
    return Piece(box, plane.colour[0], plane.ends[:n], plane.wide[:n], column, row, **fields)
