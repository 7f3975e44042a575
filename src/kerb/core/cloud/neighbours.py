"""Neighbour search on a grid: k nearest points, or all within a radius, for survey clouds.

Points are sorted into the cells of one grid, planar (columns of unlimited height) for terrain and spatial otherwise.
On dense clouds this is many times faster than a k-d tree and gives the same answer; ``bench/`` has the ratio.
"""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import AnyArray, Floats, Ints, ends
from kerb.core.cloud.neighbours_kernels import cell_numbers, nearest, nearest_few, nearest_one, take, within
from kerb.core.parallel import each, ranges
from kerb.core.sorting import sorted_keys
from kerb.core.sorting_kernels import run_starts

POINTS_PER_CELL = 3.0
CELLS_PER_POINT = 4
PLANAR_RATIO = 8.0
FEWEST_SORTED = 1000
# How much farther than in the mean the k-th neighbour may lie before the search widens.
ROOM = 1.2


class NeighbourIndex:
    """Points, (n, 3), sorted into grid cells. Coordinates are taken relative to the first corner internally."""

    def __init__(self, points: Floats, planar: bool | None = None) -> None:
        """Sort the points. ``planar`` None chooses columns when the cloud is much wider than high.

        Raises
        ------
        ValueError, when ``points`` is empty or holds values that are not finite.
        """
        if len(points) == 0:
            raise ValueError("no points to search")
        points = np.ascontiguousarray(points, float)
        low, high = ends(points)
        if not (np.isfinite(low).all() and np.isfinite(high).all()):
            raise ValueError("points hold values that are not finite")
        size = high - low
        if planar is None:
            planar = bool(size[2] * PLANAR_RATIO < max(size[0], size[1]))
        self.low = low
        self.cell, self.shape = _grid(size, len(points), planar)
        self.ordered, self.order, keys = _by_cell(points, low, self.cell, self.shape)
        self.starts = np.full(int(self.shape.prod()) + 1, len(points), np.int64)
        each(lambda span: run_starts(keys, *span, self.starts), ranges(len(points), 100_000))

    def nearest(self, queries: Floats, k: int = 1, limit: float = np.inf) -> tuple[Floats, Ints]:
        """The ``k`` nearest points of each query, nearest first.

        Parameters
        ----------
        queries: (m, 3); limit: only points closer than this, in the unit of the points.

        Returns
        -------
        distances (m, k), inf where there are fewer than k; indices (m, k) into the points given, -1 there.
        """
        queries = np.ascontiguousarray(queries, float)
        distances = np.empty((len(queries), k))
        indices = np.empty((len(queries), k), np.int64)
        # Queries by cell, so that neighbours in memory are asked about together.
        asked, rows = queries, np.arange(len(queries))
        if len(queries) >= FEWEST_SORTED:
            asked, rows, _ = _by_cell(queries, self.low, self.cell, self.shape)
        grid = (self.ordered, self.order, self.starts, self.low, self.cell, self.shape)

        # So many cells to each side hold the k nearest where points lie as densely as they do in the mean.
        half = max(int(np.ceil(ROOM * np.sqrt(k / (np.pi * POINTS_PER_CELL)) - 0.25)), 1)

        def some(span: tuple[int, int]) -> None:
            mine, to = asked[slice(*span)], rows[slice(*span)]
            if k == 1 and self.shape[2] == 1:
                left = nearest_one(*grid, mine, to, limit, distances, indices)
            else:
                left = nearest_few(*grid, mine, to, limit, half, distances, indices)
            if not left:
                return
            rest = np.isnan(distances[to, 0])
            mine, to = mine[rest], to[rest]
            nearest(*grid, mine, to, limit, distances, indices)

        each(some, ranges(len(queries)))
        return distances, indices

    def within(self, queries: Floats, radius: float) -> tuple[Ints, Ints]:
        """All points within ``radius`` of each query.

        Returns
        -------
        offsets (m + 1,) and indices: those of query i are ``indices[offsets[i]:offsets[i + 1]]``, in no order.
        """
        queries = np.ascontiguousarray(queries, float)
        grid = (self.ordered, self.order, self.starts, self.low, self.cell, self.shape)
        offsets = np.zeros(len(queries) + 1, np.int64)

        def counted(span: tuple[int, int]) -> None:
            zeros = np.zeros(span[1] - span[0], np.int64)
            within(*grid, queries[span[0] : span[1]], radius, zeros, offsets[span[0] + 1 : span[1] + 1], False)

        spans = ranges(len(queries))
        each(counted, spans)
        offsets = np.cumsum(offsets)
        found = np.empty(int(offsets[-1]), np.int64)

        def listed(span: tuple[int, int]) -> None:
            within(*grid, queries[span[0] : span[1]], radius, offsets[span[0] : span[1] + 1], found, True)

        each(listed, spans)
        return offsets, found


def _by_cell(points: Floats, low: Floats, cell: float, shape: Ints) -> tuple[Floats, Ints, AnyArray]:
    """Points (n, 3) in the order of their cells, where each came from, and their cells."""
    keys = np.empty(len(points), np.uint64)
    spans = ranges(len(points), 100_000)
    each(lambda span: cell_numbers(points[slice(*span)], low, 1.0 / cell, shape, keys[slice(*span)]), spans)
    order, keys = sorted_keys(keys)
    ordered = np.empty_like(points)
    each(lambda span: take(points, order[slice(*span)], ordered[slice(*span)]), spans)
    return ordered, order, keys


def _grid(size: Floats, count: int, planar: bool) -> tuple[float, Ints]:
    """Cell size and number of cells, about three points a cell and never more than a few cells a point."""
    sides = np.sort(size[:2] if planar else size)[::-1]
    if sides[0] == 0.0:
        return 1.0, np.ones(3, np.int64)
    plane = sides[0] * max(sides[1], sides[0] * 1e-6)
    cell = float(np.sqrt(plane * POINTS_PER_CELL / count))
    extent = np.where([False, False, planar], 0.0, size)
    for _ in range(200):
        shape = np.floor(extent / cell).astype(np.int64) + 1
        if shape.astype(float).prod() <= CELLS_PER_POINT * count + 64:
            break
        cell *= 1.2
    return cell, shape
