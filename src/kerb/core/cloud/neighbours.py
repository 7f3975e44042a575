"""Neighbour search on a grid: k nearest points, or all within a radius, for survey clouds.

Points are sorted into the cells of one grid, planar (columns of unlimited height) for terrain and spatial otherwise.
On dense clouds this is many times faster than a k-d tree and gives the same answer; ``bench/`` has the ratio.
"""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Floats, Ints
from kerb.core.cloud.neighbours_kernels import cell_numbers, nearest, place, within
from kerb.core.parallel import each, ranges

POINTS_PER_CELL = 3.0
CELLS_PER_POINT = 4
PLANAR_RATIO = 8.0


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
        low, high = points.min(axis=0), points.max(axis=0)
        if not (np.isfinite(low).all() and np.isfinite(high).all()):
            raise ValueError("points hold values that are not finite")
        size = high - low
        if planar is None:
            planar = bool(size[2] * PLANAR_RATIO < max(size[0], size[1]))
        self.low = low
        self.cell, self.shape = _grid(size, len(points), planar)
        cells = np.empty(len(points), np.int64)
        counts = np.zeros(int(self.shape.prod()) + 1, np.int64)
        cell_numbers(points, low, 1.0 / self.cell, self.shape, cells, counts)
        self.starts = np.cumsum(counts)
        self.ordered = np.empty_like(points)
        self.order = np.empty(len(points), np.int64)
        place(points, cells, self.starts[:-1].copy(), self.ordered, self.order)

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
        asked, order = self._by_cell(queries)

        def some(span: tuple[int, int]) -> None:
            rows = order[span[0] : span[1]]
            near = np.empty((len(rows), k)), np.empty((len(rows), k), np.int64)
            grid = (self.ordered, self.order, self.starts, self.low, self.cell, self.shape)
            nearest(*grid, asked[span[0] : span[1]], limit, *near)
            distances[rows], indices[rows] = near

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

    def _by_cell(self, queries: Floats) -> tuple[Floats, Ints]:
        """Queries by cell, so that neighbours in memory are asked about together, and where each came from."""
        if len(queries) < 1000:
            return queries, np.arange(len(queries))
        cells = np.empty(len(queries), np.int64)
        counts = np.zeros(int(self.shape.prod()) + 1, np.int64)
        cell_numbers(queries, self.low, 1.0 / self.cell, self.shape, cells, counts)
        asked = np.empty_like(queries)
        order = np.empty(len(queries), np.int64)
        place(queries, cells, np.cumsum(counts)[:-1].copy(), asked, order)
        return asked, order


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
