"""Sorting tens of millions of whole numbers on all cores: by their highest bits into buckets, then each bucket by itself."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import AnyArray, Floats, Ints, ends
from kerb.core.parallel import each, ranges
from kerb.core.sorting_kernels import by_counting, cell_keys, count_buckets, into_buckets, spread_of

BUCKET_BITS, WORTH_BUCKETS = 9, 200_000
# Buckets with no more different values than so many times their keys are sorted by counting.
CELLS_A_KEY = 4
# Cells a side; what lies further out belongs to the last.
MOST_CELLS = 2.0**31 - 1


def sorted_keys(keys: AnyArray) -> tuple[Ints, AnyArray]:
    """Rows in the order of their keys (n,) of 64 bits without sign, those alike in the order given; and the keys in order."""
    most = int(keys.max(initial=0))
    top = most.bit_length() - BUCKET_BITS
    if len(keys) < WORTH_BUCKETS or top <= 0:
        if most < CELLS_A_KEY * len(keys) + 64:
            order, ordered = np.arange(len(keys)), keys.copy()
            by_counting(ordered, order, np.uint64(0), most + 1)
            return order, ordered
        order = np.argsort(keys, kind="stable")
        return order, keys[order]
    shift, pieces = np.uint64(top), ranges(len(keys), 100_000)
    counts = np.zeros((len(pieces), 1 << BUCKET_BITS), np.int64)
    each(lambda k: count_buckets(keys[slice(*pieces[k])], shift, counts[k]), range(len(pieces)))
    at = np.cumsum(np.concatenate([[0], counts.T.ravel()]))[:-1].reshape(-1, len(pieces)).T.copy()
    first = [*at[0].tolist(), len(keys)]
    order, ordered = np.empty(len(keys), np.int64), np.empty_like(keys)
    each(
        lambda k: into_buckets(keys[slice(*pieces[k])], pieces[k][0], shift, at[k], ordered, order), range(len(pieces))
    )

    def one(bucket: int) -> None:
        own = slice(first[bucket], first[bucket + 1])
        if 1 << top <= CELLS_A_KEY * (own.stop - own.start):
            by_counting(ordered[own], order[own], np.uint64(bucket << top), 1 << top)
            return
        rank = np.argsort(ordered[own], kind="stable")
        order[own], ordered[own] = order[own][rank], ordered[own][rank]

    each(one, [k for k in range(1 << BUCKET_BITS) if first[k + 1] - first[k] > 1])
    return order, ordered


def run_medians(values: Floats, starts: Ints) -> Floats:
    """Median of each run of values (n,); runs begin at ``starts`` (k,), follow one another and none is empty."""
    size = np.diff(np.append(starts, len(values)))
    ordered = values[np.lexsort((values, np.repeat(np.arange(len(starts)), size)))]
    return np.asarray((ordered[starts + (size - 1) // 2] + ordered[starts + size // 2]) / 2)


def by_cells(places: Floats, low: Floats, cell: float) -> tuple[Ints, Ints]:
    """Rows of places (n, 2 or more) put together by the square cell of the plan they lie in, counted from ``low``; and where each
    cell that holds any begins among them, in rising order of easting, then northing. Rows of one cell stay in order."""
    if not len(places):
        return np.empty(0, np.int64), np.empty(0, np.int64)
    order, keys = sorted_keys(_cells(places, low, cell))
    return order, np.flatnonzero(np.concatenate([[True], keys[1:] != keys[:-1]]))


def spread_by_cells(points: Floats, low: Floats, cell: float) -> tuple[AnyArray, Floats, Floats, Ints]:
    """The square cell of the plan each of points (n, 3) lies in, as a number (n,) that rises with easting, then northing; and by
    these numbers the lowest and the highest elevation and how many points there are, none in some."""
    keys = _cells(points, low, cell)
    cells = int(keys.max(initial=0)) + 1
    if cells > CELLS_A_KEY * len(keys) + 64:
        held, inverse = np.unique(keys, return_inverse=True)
        keys, cells = inverse.astype(np.uint64), len(held)
    lowest, highest, many = np.full(cells, np.inf), np.full(cells, -np.inf), np.zeros(cells, np.int64)
    spread_of(keys, points[:, 2], lowest, highest, many)
    return keys, lowest, highest, many


def _cells(places: Floats, low: Floats, cell: float) -> AnyArray:
    """A number (n,) for the square cell of the plan that each place lies in."""
    keys = np.empty(len(places), np.uint64)
    first, last = (np.floor((extreme - low[:2]) / cell) for extreme in ends(places[:, :2]))
    most = np.minimum(last - first, MOST_CELLS)
    each(
        lambda piece: cell_keys(places[slice(*piece)], low, cell, first, most, keys[slice(*piece)]),
        ranges(len(keys), 100_000),
    )
    return keys
