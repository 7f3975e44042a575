"""Arrange point records into tiles: leaves of an adaptive octree in Morton order, in bounded memory.

A tile holds at most about ``TILE_POINTS`` points however dense the place is, so that a flat yard, a façade and a
tunnel all work, and one stray point a thousand kilometres away cannot put all the others into one tile.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from kerb.core.arrays import AnyArray, Floats, Ints, Ints32
from kerb.core.cloud.partition_kernels import bounds, count_cells, scatter
from kerb.core.parallel import each, ranges
from kerb.core.progress import Progress

TILE_POINTS = 50_000
CHUNK = 1_000_000
MAX_DEPTH = 7


@dataclass
class Rows:
    """Point records in two alternating buffers on disk; ``front`` holds the truth. ``low`` and ``high`` (3,) hold them all."""

    front: AnyArray
    back: AnyArray
    scale: Floats
    low: Ints
    high: Ints

    def swapped(self) -> Rows:
        """The same rows with the buffers' roles exchanged."""
        return replace(self, front=self.back, back=self.front)


def arrange(rows: Rows, progress: Progress) -> list[tuple[int, int]]:
    """Sort the records of ``rows.front`` into tiles, written to ``rows.back``.

    Returns
    -------
    list of (first row, count), in Morton order, covering every row once.

    Raises
    ------
    Cancelled, when the progress is stopped.
    """
    return _arrange_range(rows, 0, len(rows.front), (rows.low, rows.high), progress)


def _arrange_range(
    rows: Rows, first: int, last: int, within: tuple[Ints, Ints], progress: Progress
) -> list[tuple[int, int]]:
    low, high = within
    count = last - first
    extent = float(((high - low) * rows.scale).max())
    if count <= TILE_POINTS or extent == 0.0:
        rows.back[first:last] = rows.front[first:last]
        return [(at, min(TILE_POINTS, last - at)) for at in range(first, last, TILE_POINTS)]
    depth = int(np.clip(np.ceil(np.log2(max(count / TILE_POINTS, 1)) / 2) + 3, 2, MAX_DEPTH))
    xyz, source, out = rows.front["xyz"], as_words(rows.front), as_words(rows.back)
    cells = low, rows.scale * (2**depth / extent), parted(2**depth)
    # Few pieces: each needs a table of all cells.
    pieces = [(first + a, first + b) for a, b in ranges(count, CHUNK, 2)]

    def counted(piece: tuple[int, int]) -> Ints32:
        counts = np.zeros(8**depth, np.int32)
        for part in _chunks(piece):
            count_cells(xyz[slice(*part)], *cells, counts)
        return counts

    counts = each(counted, pieces, progress.within(0.0, 0.4), "Arranging tiles")
    leaf_of, leaf_counts = leaves(np.sum(counts, axis=0, dtype=np.int64), depth)
    starts = first + np.concatenate([[0], np.cumsum(leaf_counts)[:-1]])
    # Where in its leaf each piece goes on after those before it: the order within a leaf is that of the file.
    # Cells before the first that has points belong to no leaf; they count nothing.
    at = np.maximum(leaf_of, 0)
    own = each(lambda some: np.bincount(at, weights=some, minlength=len(leaf_counts)).astype(np.int64), counts)
    cursors = starts + np.cumsum(own, axis=0) - own

    def scattered(number: int) -> None:
        for a, b in _chunks(pieces[number]):
            scatter(source[a:b], xyz[a:b], *cells, leaf_of, cursors[number], out)

    each(scattered, range(len(pieces)), progress.within(0.4, 1.0), "Arranging tiles")
    return _refine(rows, starts, leaf_counts, progress)


def _chunks(span: tuple[int, int]) -> list[tuple[int, int]]:
    return [(at, min(at + CHUNK, span[1])) for at in range(span[0], span[1], CHUNK)]


def _refine(rows: Rows, starts: Ints, counts: Ints, progress: Progress) -> list[tuple[int, int]]:
    """Cut leaves that are still too full, by the same method within the leaf."""
    tiles: list[tuple[int, int]] = []
    for start, count in zip(starts.tolist(), counts.tolist(), strict=True):
        if count <= 2 * TILE_POINTS:
            tiles.append((start, count))
            continue
        within = bounds_of(rows.back[start : start + count])
        tiles += _arrange_range(rows.swapped(), start, start + count, within, progress)
        rows.back[start : start + count] = rows.front[start : start + count]
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
    leaf_counts = np.bincount(number, weights=counts, minlength=int(number[-1]) + 1).astype(np.int64)
    kept = np.cumsum(leaf_counts > 0) - 1
    return kept[number].astype(np.int32), leaf_counts[leaf_counts > 0]


def bounds_of(records: AnyArray) -> tuple[Ints, Ints]:
    """Lowest and highest coordinates of records, (3,) each."""
    low, high = np.full(3, np.iinfo(np.int64).max), np.full(3, np.iinfo(np.int64).min)
    bounds(records["xyz"], low, high)
    return low, high


def parted(below: int) -> Ints32:
    """The numbers from nought to ``below`` with two empty bits after each bit: what Morton codes are put together from."""
    numbers = np.arange(below, dtype=np.int32)
    return np.sum([((numbers >> k) & 1) << 3 * k for k in range(MAX_DEPTH)], axis=0, dtype=np.int32)


def as_words(records: AnyArray) -> AnyArray:
    """Records as rows of the widest words that fit, (n, words)."""
    width = records.dtype.itemsize
    word = next(size for size in (4, 2, 1) if width % size == 0)
    return records.view(f"u{word}").reshape(len(records), width // word)
