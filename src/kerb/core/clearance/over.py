"""What hangs over a road: heights of points over it, the lowest of each cell, strays, supports and what stands on the road."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Ints, Mask, ends
from kerb.core.clearance.clearance_kernels import lowest_of_cells
from kerb.core.clearance.pieces import pieces_of
from kerb.core.clearance.road import Road
from kerb.core.errors import InputError
from kerb.core.parallel import each, ranges
from kerb.core.sorting import by_cells

MOST_CELLS = 40_000_000
# A point counts when so many others lie within the reach of strays.
COMPANIONS = 2
# What stands on the road begins no higher than this over it, and is no taller than a vehicle may be (m).
FOOT_M, TALLEST_M = 0.8, 4.7
# Side of the cubes in which things are told apart (m).
CUBE_M = 0.25


@dataclass(frozen=True)
class Lowest:
    """The lowest point of each cell: row numbers ``rows`` (k,) among the points, heights over the road ``height`` (k,).

    ``strays`` are rows that were passed over.
    """

    rows: Ints
    height: Floats
    strays: Ints


def heights_over(points: Floats, road: Road, square: bool = False) -> Floats:
    """How high points (n, 3) lie over a road (n,), vertically or square to it; NaN off it.

    Square to it is the distance from the plane that touches the road straight below.
    """

    def some(span: tuple[int, int]) -> Floats:
        part = points[slice(*span)]
        over = part[:, 2] - road.at(part[:, :2])
        if square:
            rise = road.rise(part[:, :2])
            over /= np.sqrt(1.0 + (rise**2).sum(axis=1))
        return over

    pieces = each(some, ranges(len(points), 100_000))
    return np.concatenate(pieces) if pieces else np.empty(0)


def lowest_by_cell(points: Floats, height: Floats, cell: float, radius: float, companions: int = COMPANIONS) -> Lowest:
    """The lowest point of each square cell that is no stray: it has so many companions within a radius, wherever they lie.

    Raises InputError, when the cell makes too many.
    """
    if not len(points):
        return Lowest(np.empty(0, np.int64), np.empty(0), np.empty(0, np.int64))
    low, high = ends(points[:, :2])
    size = np.floor((high - low) / cell).astype(np.int64) + 1
    if size.astype(float).prod() > MOST_CELLS:
        raise InputError(f"a cell of {cell:g} makes {size.astype(float).prod():.3g} cells; the most is {MOST_CELLS}")
    order, first = by_cells(points, low, cell)
    starts = np.append(first, len(order))
    runs = np.floor((points[order[first], :2] - low) / cell).astype(np.int64)
    grid = np.full((int(size[1]), int(size[0])), -1, np.int64)
    grid[runs[:, 1], runs[:, 0]] = np.arange(len(first))
    stray, found = np.zeros(len(points), bool), np.full(len(first), -1, np.int64)
    xyz, reach = np.ascontiguousarray(points), int(np.ceil(radius / cell)) if companions else 0

    def some(span: tuple[int, int]) -> None:
        lowest_of_cells(xyz, height, order, starts, runs, grid, (reach, companions), radius, stray, found, *span)

    each(some, ranges(len(first), 500))
    rows = found[found >= 0]
    return Lowest(rows, height[rows], np.flatnonzero(stray))


def standing(points: Floats, height: Floats, metre: float) -> Mask:
    """Which points (n, 3) belong to what stands on the road: things of touching cubes that begin at the road and end no higher
    than a vehicle may."""
    own = pieces_of(points, CUBE_M * metre)
    count = int(own.max(initial=0))
    bottom, top = np.full(count + 1, np.inf), np.full(count + 1, -np.inf)
    np.minimum.at(bottom, own, height)
    np.maximum.at(top, own, height)
    stands = (bottom < FOOT_M * metre) & (top <= TALLEST_M * metre)
    return np.asarray(stands[own])


def supports(points: Floats, height: Floats, low: Floats, cell: float, least: float) -> set[tuple[int, int]]:
    """Cells, by column and row from ``low``, in which something reaches down to less than ``least`` over the road, and those
    beside them."""
    down = np.unique(np.floor((points[height < least, :2] - low) / cell).astype(np.int64), axis=0)
    return {(int(a) + i, int(b) + j) for a, b in down for i in (-1, 0, 1) for j in (-1, 0, 1)}
