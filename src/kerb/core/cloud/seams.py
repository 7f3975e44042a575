"""Which of several strips or files stays where they cover the same ground, so that seams are short and regions whole.

Cells that several cover hang together in regions. Where one of them has clearly more points there, it stays in the whole
region; of like ones each stays on its own side, and the seam runs where both reach equally far beyond it. A cell that
the one that stays left empty keeps what is there.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import scipy

from kerb.core.arrays import AnyArray, Floats, Ints, Mask
from kerb.core.cloud.cells import Cells
from kerb.core.cloud.store import CloudStore
from kerb.core.progress import Progress
from kerb.core.robust import spread

# One with so many times the points of another is the denser one; below that they are alike.
CLEARLY = 1.25
# Gaps in the cover up to twice as many cells wide are no edge of a strip.
CLOSED = 2
FEWEST_IN_CELL = 3
REGION_CELLS = 3
# Means of places that lie farther apart than this share of a cell are those of different parts of it.
SAME_PLACE = 0.25
# Of less spread than this share of a cell in either way a slope is not known.
LEAST_SPREAD = 0.02
AT_A_TIME = 4_000_000
# A region wider than this is divided on coarser cells.
MOST_CELLS = 6_000_000


@dataclass(frozen=True)
class Offset:
    """How much higher one source lies than another where both cover the ground, in the unit of the cloud."""

    one: int
    other: int
    height: float
    spread: float
    cells: int


@dataclass(frozen=True)
class BySource:
    """Points of a cloud by the cell in plan they lie in and the source they are from.

    ``codes`` (k,) are the values of the column; ``rows`` (n,) the points that count and ``source`` (n,) the place of each one's
    code; ``counts`` (m, k) how many of each lie in each cell, ``sums`` (m, k) of their elevations over ``middle``; ``centres``
    (m, k, 2) the means of their places, and ``slopes`` (m, 2) how the ground rises in each cell, 0 where that is not known.
    """

    cells: Cells
    codes: AnyArray
    rows: Ints
    source: Ints
    counts: Ints
    sums: Floats
    middle: float
    size: float
    centres: Floats
    slopes: Floats


def by_source(store: CloudStore, by: str, size: float, among: Mask, progress: Progress) -> BySource:
    """Count the points of a mask (n,) by cells of a size and the values of a column. Raises InputError; Cancelled."""
    cells = Cells.of(store, size, among, progress.within(0.0, 0.7), upright=True)
    rows = np.flatnonzero(cells.number >= 0)
    codes, source = np.unique(np.asarray(store.column(by))[rows], return_inverse=True)
    progress.step(0.8, "Comparing")
    pair = cells.number[rows].astype(np.int64) * len(codes) + source
    shape = cells.count, len(codes)
    z = np.asarray(store.elevations(rows), float)
    # Sums of large elevations would lose their last digits.
    middle = float(np.median(z)) if len(z) else 0.0
    counts = np.bincount(pair, minlength=shape[0] * shape[1]).reshape(shape)
    sums = np.bincount(pair, z - middle, shape[0] * shape[1]).reshape(shape)
    centres, slopes = _plan_of(store, (rows, pair, z - middle), counts, size, progress.within(0.8, 1.0))
    return BySource(cells, codes, rows, source, counts, np.asarray(sums), middle, size, centres, slopes)


def _plan_of(
    store: CloudStore, points: tuple[Ints, Ints, Floats], counts: Ints, size: float, progress: Progress
) -> tuple[Floats, Floats]:
    """Mean places of the points of each source in each cell (m, k, 2), and the slope of each cell (m, 2): that of the planes
    through the points of each source there that are parallel, by least squares."""
    rows, pair, z = points
    many = counts.size
    sums = np.zeros((8, many))
    origin = store.bounds[0][:2]
    for first in range(0, len(rows), AT_A_TIME):
        progress.step(first / max(len(rows), 1), "Comparing")
        some = slice(first, first + AT_A_TIME)
        x, y = (store.coordinates(rows[some])[:, :2] - origin).T
        own, h = pair[some], z[some]
        for k, value in enumerate((x, y, h, x * x, x * y, y * y, x * h, y * h)):
            sums[k] += np.bincount(own, value, many)
    n = np.maximum(counts.ravel(), 1)
    means = sums[:3] / n
    # Products about the means of each source, added up over the sources of a cell.
    about = np.array([
        sums[3] - n * means[0] ** 2, sums[4] - n * means[0] * means[1], sums[5] - n * means[1] ** 2,
        sums[6] - n * means[0] * means[2], sums[7] - n * means[1] * means[2],
    ]).reshape(5, *counts.shape).sum(axis=2)  # fmt: skip
    xx, xy, yy, xz, yz = about
    det = xx * yy - xy**2
    known = det > (LEAST_SPREAD * size**2 * np.maximum(counts.sum(axis=1), 1)) ** 2
    safe = np.where(known, det, 1.0)
    slopes = np.column_stack([(yy * xz - xy * yz) / safe, (xx * yz - xy * xz) / safe])
    return means[:2].T.reshape(*counts.shape, 2), np.where(known[:, None], slopes, 0.0)


def differences(seen: BySource, one: int, other: int) -> Floats:
    """How far one source lies above another in each cell (m,); NaN where they do not cover the same ground."""
    with np.errstate(invalid="ignore", divide="ignore"):
        means = np.where(seen.counts >= FEWEST_IN_CELL, seen.sums / seen.counts, np.nan)
    away = seen.centres[:, one] - seen.centres[:, other]
    apart = means[:, one] - means[:, other] - np.sum(seen.slopes * away, axis=1)
    return np.asarray(np.where((np.abs(away) <= SAME_PLACE * seen.size).all(axis=1), apart, np.nan))


def stays(cells: Cells, counts: Ints) -> Ints:
    """Which source (column of ``counts``, (m, k) points of each cell) stays in each cell, (m,)."""
    best = counts.argmax(axis=1)
    contested = (counts > 0).sum(axis=1) > 1
    if not contested.any():
        return best
    place = cells.keys[:, :2].astype(np.int64)
    for rows in _regions(place, contested):
        best[rows] = _of_region(place, counts, rows)
    return best


def _regions(place: Ints, contested: Mask) -> list[Ints]:
    """Rows of the contested cells of each region: those hang together that lie within a few cells of one another."""
    rows = np.flatnonzero(contested)
    blocks, block = np.unique(place[rows] // REGION_CELLS, axis=0, return_inverse=True)
    tree = scipy.spatial.cKDTree(blocks)
    pairs = tree.query_pairs(1.5, output_type="ndarray")
    graph = scipy.sparse.coo_array((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), (len(blocks), len(blocks)))
    count, label = scipy.sparse.csgraph.connected_components(graph, directed=False)
    own = label[block.ravel()]
    order = np.argsort(own, kind="stable")
    cuts = np.searchsorted(own[order], np.arange(count + 1))
    return [rows[order[a:b]] for a, b in pairwise(cuts.tolist())]


def _of_region(place: Ints, counts: Ints, rows: Ints) -> Ints:
    mine = counts[rows]
    usual = mine.sum(axis=0) / np.maximum((mine > 0).sum(axis=0), 1)
    alike = np.flatnonzero(usual >= usual.max() / CLEARLY)
    # Sources with next to nothing in the region do not divide it.
    alike = alike[(mine[:, alike] > 0).mean(axis=0) > 0.5] if len(alike) > 1 else alike
    if len(alike) > 1:
        depth = np.column_stack([_depth(place, counts, int(source), rows) for source in alike])
        winner = alike[depth.argmax(axis=1)]
    else:
        winner = np.full(len(rows), int(usual.argmax()) if not len(alike) else int(alike[0]))
    empty = mine[np.arange(len(rows)), winner] == 0
    winner[empty] = mine[empty].argmax(axis=1)
    return np.asarray(winner)


def _depth(place: Ints, counts: Ints, source: int, rows: Ints) -> Floats:
    """How far some cells lie from what others cover and this source does not, in cells."""
    size = float(np.prod(np.ptp(place[rows], axis=0) + 1.0))
    coarse = max(1, int(np.ceil(np.sqrt(size / MOST_CELLS))))
    low, high = place[rows].min(axis=0) // coarse, place[rows].max(axis=0) // coarse
    # What goes on beyond the region is looked at as far as the region is wide: further inside is deep enough.
    room = int((high - low).max()) + CLOSED
    low, high = low - room, high + room
    at = place // coarse
    near = np.flatnonzero(((at >= low) & (at <= high)).all(axis=1))
    every = np.zeros(high - low + 1, np.bool_)
    own = every.copy()
    every[tuple((at[near] - low).T)] = True
    own[tuple((at[near[counts[near, source] > 0]] - low).T)] = True
    closed = scipy.ndimage.binary_closing(np.pad(own, CLOSED), iterations=CLOSED)[CLOSED:-CLOSED, CLOSED:-CLOSED]
    lacking = every & ~closed & ~own
    if not lacking.any():
        return np.full(len(rows), np.inf)
    found = scipy.ndimage.distance_transform_edt(~lacking)
    return np.asarray(found[tuple((at[rows] - low).T)])


def offsets(seen: BySource) -> list[Offset]:
    """Vertical offsets between sources: the median over cells that two cover of the difference of their elevations at the same
    place, taken along the slope of the cell; the spread is 1.4826 times the median absolute deviation.

    Where the points of two lie in different parts of a cell they touch there and cover nothing together.
    """
    found = []
    for one in range(seen.counts.shape[1]):
        for other in range(one + 1, seen.counts.shape[1]):
            apart = differences(seen, one, other)
            apart = apart[np.isfinite(apart)]
            if len(apart):
                middle = float(np.median(apart))
                found.append(Offset(one, other, middle, spread(apart), len(apart)))
    return found
