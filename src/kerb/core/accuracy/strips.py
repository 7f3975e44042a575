"""How strips or files lie above one another where they cover the same ground, without any points; and which of them is off."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats, Mask
from kerb.core.cloud.own_numbers import in_own_numbers
from kerb.core.cloud.seams import FEWEST_IN_CELL, SAME_PLACE, BySource, Offset, by_source, offsets
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import NotDeterminable
from kerb.core.progress import Progress
from kerb.core.robust import COVERS_95, median_error

FEWEST_CELLS = 20
# A strip is looked along in so many pieces; those with fewer cells that another covers too do not count.
PIECES, FEWEST_PIECES, FEWEST_IN_PIECE = 20, 6, 3


@dataclass(frozen=True)
class Trend:
    """How a strip rises along its length against those beside it: ``slope`` (a ratio) with its 95 % bound, towards an ``azimuth``
    in degrees clockwise from north."""

    slope: float
    u95: float
    azimuth: float

    @property
    def significant(self) -> bool:
        """Whether it is more than chance would make of it."""
        return abs(self.slope) > self.u95


@dataclass(frozen=True)
class StripLevel:
    """How far a strip lies above the middle of them all (median), and its 95 % bound; NaN where it meets no other."""

    code: int
    level: float
    u95: float
    cells: int
    trend: Trend | None = None


@dataclass(frozen=True)
class Strips:
    """``codes`` of the strips; ``pairs`` by their places in that list; ``levels`` of each; and of the cells that two or more
    cover ``corners`` (m, 2), ``z`` (m,) and ``differences`` (m,): the one of highest number minus that of the lowest."""

    codes: tuple[int, ...]
    pairs: tuple[Offset, ...]
    levels: tuple[StripLevel, ...]
    cell: float
    corners: Floats
    z: Floats
    differences: Floats


@in_own_numbers
def strips(store: CloudStore, by: str, cell: float, among: Mask, progress: Progress) -> Strips:
    """Compare the sources of a column, by cells in plan, with the points of a mask (n,).

    Cells and elevations are in the numbers the cloud was imported with, whatever its placement. Offsets are medians over
    cells of the difference of elevations at the same place. Levels are those that fit all offsets by least squares with the
    inverse squares of their errors for weights; their median is 0, so that one strip that is off does not pull the others.

    Raises NotDeterminable, when no two of them share 20 cells; InputError; Cancelled.
    """
    seen = by_source(store, by, cell, among, progress)
    found = tuple(one for one in offsets(seen) if one.cells >= FEWEST_CELLS)
    if not found:
        raise NotDeterminable("no two strips or files cover the same ground")
    enough = seen.counts >= FEWEST_IN_CELL
    rows = np.flatnonzero(enough.sum(axis=1) > 1)
    first, last = enough[rows].argmax(axis=1), enough.shape[1] - 1 - enough[rows][:, ::-1].argmax(axis=1)
    means = _levelled(seen)
    low, high = means[rows, first], means[rows, last]
    known = np.isfinite(high - low)
    rows, low, high = rows[known], low[known], high[known]
    places = seen.cells.corner[:2] + (seen.cells.keys[:, :2] + 0.5) * cell
    trends = [_trend(places, means, np.isfinite(means) & enough, k) for k in range(len(seen.codes))]
    codes = tuple(int(code) for code in seen.codes)
    corners = seen.cells.corner[:2] + seen.cells.keys[rows, :2] * cell
    levels = _levels(codes, found, trends)
    return Strips(codes, found, levels, cell, corners, high + seen.middle, high - low)


def _levelled(seen: BySource) -> Floats:
    """Mean elevations (m, k) of each source in each cell, brought to one place along the slope of the cell; NaN where a source
    has too few points there, or lies in another part of it than the rest."""
    enough = seen.counts >= FEWEST_IN_CELL
    with np.errstate(invalid="ignore", divide="ignore"):
        means = np.where(enough, seen.sums / seen.counts, np.nan)
    weight = np.where(enough, 1.0, 0.0)[:, :, None]
    middle = (seen.centres * weight).sum(axis=1) / np.maximum(weight.sum(axis=1), 1.0)
    away = seen.centres - middle[:, None]
    near = (np.abs(away) <= SAME_PLACE * seen.size).all(axis=2)
    return np.asarray(np.where(near, means - np.sum(away * seen.slopes[:, None], axis=2), np.nan))


def _trend(places: Floats, means: Floats, enough: Mask, one: int) -> Trend | None:
    """The trend of one strip (column of ``means``) against the mean of the others in its cells, along its longest extent.

    Medians of pieces along it are fitted by a line: neighbouring cells share what is wrong with them, pieces hardly do, and a few
    cells with a bush or a car move no median. None, when it lies beside others for fewer than six pieces.
    """
    own = enough[:, one]
    if int(own.sum()) < FEWEST_CELLS:
        return None
    middle = places[own].mean(axis=0)
    _, axes = np.linalg.eigh(np.cov((places[own] - middle).T))
    axis = axes[:, 1] if (axes[1, 1], axes[0, 1]) > (0.0, 0.0) else -axes[:, 1]
    rows = np.flatnonzero(own & (enough.sum(axis=1) > 1))
    others = np.where(enough, means, np.nan)[rows]
    others[:, one] = np.nan
    along, above = (places[rows] - middle) @ axis, means[rows, one] - np.nanmean(others, axis=1)
    if not len(rows) or not np.ptp(along) > 0:
        return None
    piece = np.minimum((along - along.min()) / np.ptp(along) * PIECES, PIECES - 1).astype(np.int64)
    held = [piece == k for k in range(PIECES) if np.count_nonzero(piece == k) >= FEWEST_IN_PIECE]
    if len(held) < FEWEST_PIECES:
        return None
    x, y = (np.array([np.median(values[some]) for some in held]) for values in (along, above))
    fit = scipy.stats.linregress(x, y)
    u95 = float(scipy.stats.t.ppf(0.975, len(x) - 2) * fit.stderr)
    return Trend(float(fit.slope), u95, float(np.degrees(np.arctan2(axis[0], axis[1])) % 360))


def _levels(codes: tuple[int, ...], pairs: tuple[Offset, ...], trends: list[Trend | None]) -> tuple[StripLevel, ...]:
    n = len(codes)
    design, wanted = np.zeros((len(pairs), n)), np.array([one.height for one in pairs])
    for row, one in enumerate(pairs):
        design[row, one.one], design[row, one.other] = 1.0, -1.0
    error = np.array([median_error(max(one.spread, 1e-9), one.cells) for one in pairs])
    inverse = np.linalg.pinv(design / error[:, None], rcond=1e-9)
    level = inverse @ (wanted / error)
    spread = np.sqrt(np.sum(inverse**2, axis=1))
    met: Mask = np.asarray(design.any(axis=0))
    # Of each group that hangs together by itself the median is nought.
    groups = _groups(n, pairs)
    made = []
    for number, code in enumerate(codes):
        mine = [k for k in range(n) if groups[k] == groups[number] and met[k]]
        zero = float(np.median(level[mine])) if mine else np.nan
        cells = sum(one.cells for one in pairs if number in (one.one, one.other))
        value = float(level[number]) - zero if met[number] else np.nan
        made.append(
            StripLevel(code, value, float(COVERS_95 * spread[number]) if met[number] else np.nan, cells, trends[number])
        )
    return tuple(made)


def _groups(n: int, pairs: tuple[Offset, ...]) -> list[int]:
    """Which strips hang together by offsets: a number for each."""
    group = list(range(n))
    for one in pairs:
        a, b = group[one.one], group[one.other]
        group = [a if g == b else g for g in group]
    return group
