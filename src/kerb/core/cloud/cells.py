"""Cells of one size that hold points: which cell each point is in, which cells touch. What thinning and cleaning need.

Tiles are numbered on all cores, then joined; a cell that several tiles share has one number.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Ints, Ints32, Mask
from kerb.core.cloud.cells_kernels import (
    best_points,
    join_touching,
    merge_cells,
    moments,
    neighbours_of,
    number_points,
    place_by_cell,
    sort_within,
)  # fmt: skip
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import InputError
from kerb.core.parallel import each, ranges
from kerb.core.progress import Progress

MOST_CELLS_A_SIDE = 1 << 30
# Of the 26 neighbours of a cube, in the kernel's order, those at its own height.
UPRIGHT_NEIGHBOURS = [k for k, place in enumerate(p for p in range(27) if p != 13) if place % 3 == 1]


@dataclass(frozen=True)
class Cells:
    """Cells of a cloud. ``keys`` (m, 3) are their places, in cells from ``corner``; upright ones have z = 0.

    ``number`` (n,) is the cell of each point, -1 for points that do not count; ``table`` finds a cell by its place.
    """

    size: float
    upright: bool
    corner: Floats
    keys: Ints32
    number: Ints32
    table: Ints32

    @staticmethod
    def of(store: CloudStore, size: float, among: Mask, progress: Progress, upright: bool = False) -> Cells:
        """Number the cells that points of a mask, (n,), lie in: cubes, or columns of unlimited height (``upright``).

        Raises InputError, when the size cannot be; Cancelled.
        """
        corner, far = store.bounds
        if not (np.isfinite(size) and size > 0):
            raise InputError(f"the cell size must be above zero, not {size:g}")
        wide = float((far - corner).max())
        if wide / size > MOST_CELLS_A_SIDE:
            raise InputError(
                f"a cell size of {size:g} is too small for a cloud {wide:.4g} {store.reference.unit.symbol} wide"
            )
        number = np.empty(store.count, np.int32)
        inverse = np.array([1.0, 1.0, 0.0 if upright else 1.0]) / size
        start = _start(store, corner)

        def of_tile(tile: int) -> Ints32:
            rows = store.rows_of(tile)
            count = rows.stop - rows.start
            keys = np.empty((count, 3), np.int32)
            found = number_points(
                store.xyz[rows], among[rows], start, store.scale, inverse, _table(count), keys, number[rows]
            )
            return keys[:found].copy()

        tiles = range(len(store.tiles))
        own = each(of_tile, tiles, progress.within(0.0, 0.7), "Sorting points into cells")
        several = np.concatenate(own) if own else np.empty((0, 3), np.int32)
        keys, table = np.empty_like(several), _table(len(several))
        joined = np.empty(len(several), np.int32)
        count = merge_cells(several, table, keys, joined)
        starts = np.concatenate([[0], np.cumsum([len(mine) for mine in own])])

        def renumber(tile: int) -> None:
            mine = number[store.rows_of(tile)]
            inside = mine >= 0
            mine[inside] = joined[starts[tile] + mine[inside]]

        each(renumber, tiles, progress.within(0.8, 1.0), "Sorting points into cells")
        return Cells(size, upright, corner, keys[:count].copy(), number, table)

    @property
    def count(self) -> int:
        """Number of cells that hold points."""
        return len(self.keys)

    @property
    def counts(self) -> Ints:
        """Number of points in each cell, (m,)."""
        return np.bincount(self.number[self.number >= 0], minlength=self.count)

    def pieces(self) -> Ints32:
        """Number of the piece each cell belongs to, (m,): cells that touch by side, edge or corner are one piece."""
        parent = np.empty(self.count, np.int32)
        join_touching(self.keys, self.table, np.array([1, 1, 0 if self.upright else 1]), parent)
        return parent

    def around(self) -> Ints32:
        """Numbers of the cells that touch each cell, (m, 8 or 26), -1 where there is none."""
        return self.around_of(np.arange(self.count))

    def around_of(self, some: Ints) -> Ints32:
        """Numbers of the cells that touch each of some cells, (k, 8 or 26), -1 where there is none."""
        found = np.empty((len(some), 26), np.int32)
        neighbours_of(self.keys[some], self.keys, self.table, found)
        return found[:, UPRIGHT_NEIGHBOURS] if self.upright else found

    def best(self, store: CloudStore, score: Callable[[slice], Floats], progress: Progress) -> Ints:
        """Row of the point of lowest score in each cell, (m,); of equal ones the first. ``score`` is asked by tile."""
        best, row = np.empty(self.count), np.full(self.count, -1, np.int64)
        for tile in range(len(store.tiles)):
            progress.step(tile / len(store.tiles), "Choosing points")
            rows = store.rows_of(tile)
            best_points(self.number[rows], score(rows), rows.start, best, row)
        return row

    def ordered(self, values: Floats, progress: Progress) -> tuple[Ints, Ints]:
        """Rows of the points of each cell, by rising value: cell k has ``order[starts[k]:starts[k + 1]]``."""
        starts = np.concatenate([[0], np.cumsum(self.counts)])
        order = np.empty(int(starts[-1]), np.int64)
        place_by_cell(self.number, starts[:-1].copy(), order)
        each(
            lambda span: sort_within(starts, order, values, *span), ranges(self.count), progress, "Sorting within cells"
        )
        return starts, order

    def moments(self, store: CloudStore, progress: Progress) -> Floats:
        """Count, sums, and products (xx, xy, xz, yy, yz, zz) of places from its middle, of each cell, (m, 10)."""
        sums = np.zeros((self.count, 10))
        start = _start(store, self.corner)
        for tile in range(len(store.tiles)):
            progress.step(tile / len(store.tiles), "Looking at cells")
            rows = store.rows_of(tile)
            moments(store.xyz[rows], self.number[rows], start, store.scale, self.size, self.keys, sums)
        return sums


def marked(rows: Ints, total: int) -> Mask:
    """Rows as a mask, (total,)."""
    mask = np.zeros(total, np.bool_)
    mask[rows] = True
    return mask


def _start(store: CloudStore, corner: Floats) -> Ints:
    """The corner in whole steps: places in cells are then exact, however large the coordinates are."""
    return np.asarray(np.round((corner - store.origin) / store.scale), np.int64)


def _table(count: int) -> Ints32:
    size = 16
    while size < 2 * count:
        size *= 2
    return np.full(size, -1, np.int32)
