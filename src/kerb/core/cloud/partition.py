"""Arrange points into tiles: leaves of an adaptive octree in Morton order, in bounded memory.

A tile holds at most about ``TILE_POINTS`` points however dense the place is, so that a flat yard, a façade and a
tunnel all work, and one stray point a thousand kilometres away cannot put all the others into one tile.

Points come in runs, as they were read. Each run is sorted by leaves where it lies; a tile is then a piece of each run, and
nothing is written a second time before the tiles are put together (merging of sorted runs: Knuth, The Art of Computer
Programming 3, 5.4).
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from kerb.core.arrays import AnyArray, Floats, Ints, Ints32
from kerb.core.cloud.partition_kernels import bounds, count_cells, order_by_leaf
from kerb.core.parallel import each, ranges
from kerb.core.progress import Progress

TILE_POINTS = 50_000
CHUNK = 1_000_000
MAX_DEPTH = 7


class Column(Protocol):
    """Values of points, (n, …), that can be written over."""

    @property
    def values(self) -> AnyArray:
        """All of them, as they are now."""
        ...

    def put(self, at: int, values: AnyArray) -> None:
        """Write values from row ``at`` on."""
        ...


@dataclass(frozen=True)
class Rows:
    """Columns of points: integer coordinates ``xyz`` and all others.

    ``low`` and ``high`` (3,) hold all coordinates; coordinate = ``scale`` times integer.
    """

    xyz: Column
    others: Sequence[Column]
    scale: Floats
    low: Ints
    high: Ints


@dataclass(frozen=True)
class Pieces:
    """Ranges of rows, one behind the other: where each starts and how many it has, (pieces,) both."""

    starts: Ints
    counts: Ints

    @property
    def total(self) -> int:
        """How many rows they have."""
        return int(self.counts.sum())

    def rows(self) -> Ints:
        """Numbers of the rows, (total,)."""
        before = np.cumsum(self.counts) - self.counts
        return np.repeat(self.starts - before, self.counts) + np.arange(self.total)

    def spans(self) -> list[slice]:
        """The ranges as slices."""
        return [slice(a, a + n) for a, n in zip(self.starts.tolist(), self.counts.tolist(), strict=True)]

    def part(self, first: int, last: int) -> Pieces:
        """What lies between two places of the whole."""
        ends = np.cumsum(self.counts)
        begin, end = (np.clip(at - (ends - self.counts), 0, self.counts) for at in (first, last))
        return Pieces(self.starts + begin, end - begin)


def arrange(rows: Rows, progress: Progress) -> list[Pieces]:
    """Sort the points run by run, and say which pieces of the runs a tile is put together from.

    Returns
    -------
    list of tiles, in Morton order, covering every row once; the order within a tile is that of the file.

    Raises
    ------
    Cancelled, when the progress is stopped.
    """
    total = len(rows.xyz.values)
    starts = np.arange(0, total, CHUNK)
    runs = Pieces(starts, np.minimum(starts + CHUNK, total) - starts)
    return _arrange(rows, runs, (rows.low, rows.high), progress)


def _arrange(rows: Rows, runs: Pieces, within: tuple[Ints, Ints], progress: Progress) -> list[Pieces]:
    low, high = within
    count = runs.total
    extent = float(((high - low) * rows.scale).max())
    if count <= TILE_POINTS or extent == 0.0:
        return [runs.part(at, at + TILE_POINTS) for at in range(0, count, TILE_POINTS)]
    depth = int(np.clip(np.ceil(np.log2(max(count / TILE_POINTS, 1)) / 2) + 3, 2, MAX_DEPTH))
    cells = low, rows.scale * (2**depth / extent), parted(2**depth)
    spans, xyz = runs.spans(), rows.xyz.values

    def counted(some: tuple[int, int]) -> Ints32:
        counts = np.zeros(8**depth, np.int32)
        for span in spans[slice(*some)]:
            count_cells(xyz[span], *cells, counts)
        return counts

    # Few at a time: each needs a table of all cells.
    counts = each(counted, ranges(len(spans), 1, 2), progress.within(0.0, 0.3), "Arranging tiles")
    leaf_of, leaf_counts = leaves(np.sum(counts, axis=0, dtype=np.int64), depth)

    def sorted_(span: slice) -> Ints:
        own = np.zeros(len(leaf_counts), np.int64)
        order = np.empty(span.stop - span.start, np.int32)
        order_by_leaf(xyz[span], *cells, leaf_of, own, order)
        for column in (rows.xyz, *rows.others):
            column.put(span.start, column.values[span].take(order, axis=0))
        return own

    own = np.array(each(sorted_, spans, progress.within(0.3, 1.0), "Arranging tiles"))
    starts = runs.starts[:, None] + np.cumsum(own, axis=1) - own
    tiles: list[Pieces] = []
    for leaf, size in enumerate(leaf_counts.tolist()):
        there = own[:, leaf] > 0
        tile = Pieces(starts[there, leaf], own[there, leaf])
        # Leaves that are still too full are cut by the same method.
        fits = size <= 2 * TILE_POINTS
        tiles += [tile] if fits else _arrange(rows, tile, bounds_of(xyz, tile.spans()), progress.within(1.0, 1.0))
    return tiles


def leaves(counts: Ints, depth: int) -> tuple[Ints32, Ints]:
    """Leaves of the octree over fine cell counts, none above ``TILE_POINTS`` unless a single fine cell is.

    Parameters
    ----------
    counts: (8**depth,) points of each fine cell, in Morton order.

    Returns
    -------
    leaf_of: (8**depth,) number of the leaf each fine cell belongs to; leaf_counts: (leaves,), all above zero.
    """
    pyramid = [counts]
    for _ in range(depth):
        pyramid.append(pyramid[-1].reshape(-1, 8).sum(axis=1))
    fine_start = np.zeros(counts.shape[0], bool)
    open_nodes = np.zeros(1, np.int64)
    for level in range(depth, -1, -1):
        size = pyramid[level][open_nodes]
        closed = (size <= TILE_POINTS) | (level == 0)
        fine_start[open_nodes[closed] * 8**level] = True
        open_nodes = (open_nodes[~closed, None] * 8 + np.arange(8)).ravel()
    number = np.cumsum(fine_start) - 1
    leaf_counts = np.bincount(number, weights=counts).astype(np.int64)
    kept = np.cumsum(leaf_counts > 0) - 1
    return kept[number].astype(np.int32), leaf_counts[leaf_counts > 0]


def bounds_of(xyz: Ints32, spans: Iterable[slice] = (slice(None),)) -> tuple[Ints, Ints]:
    """Lowest and highest of integer coordinates (n, 3) in some ranges of rows, (3,) each."""
    low, high = np.full(3, np.iinfo(np.int64).max), np.full(3, np.iinfo(np.int64).min)
    for span in spans:
        bounds(xyz[span], low, high)
    return low, high


def parted(below: int) -> Ints32:
    """The numbers from nought to ``below`` with two empty bits after each bit: what Morton codes are put together from."""
    numbers = np.arange(below, dtype=np.int32)
    return np.sum([((numbers >> k) & 1) << 3 * k for k in range(MAX_DEPTH)], axis=0, dtype=np.int32)
