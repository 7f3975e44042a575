"""What ground that has not changed says of two surfaces: how far the later lies above, its tilt, and the noise between them.

Differences are looked at in square blocks: neighbours share what is wrong with them, blocks hardly do, so the error of the
mean is that of block means (batch means; JCGM 100:2008 4.2 for the mean of independent ones).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import cast

import numpy as np
import scipy
import shapely

from kerb.core.arrays import TINY, Floats, ends
from kerb.core.errors import NotDeterminable
from kerb.core.robust import spread

FEWEST_PLACES, FEWEST_BLOCKS = 30, 6
# Blocks along the longer side at first; then so much smaller ones, some sizes long, until there are enough.
BLOCKS_A_SIDE, SMALLER, SIZES = 8, 1.6, 6
FAR = 5.0
ROUNDING = 1e-12
CALM, SMALLEST_SHARE, LAGS = 0.9, 0.01, (1, 2, 4, 8)


@dataclass(frozen=True)
class Stable:
    """Of differences (later minus earlier) on stable ground: their mean with its 95 % bound, spread, and over how far they
    are alike.

    ``plane`` (3,) are level at ``middle`` (2,) and slopes east and north; ``tilted`` says whether the slopes are significant
    (F test of block means at 95 %). ``reach`` is the side of a square over which noise is shared: the spread of means over an
    area A is ``noise`` reach / √A.
    """

    offset: float
    u95: float
    noise: float
    count: int
    reach: float
    middle: Floats
    plane: Floats
    tilted: bool

    def at(self, xy: Floats, tilt: bool) -> Floats:
        """What would be taken out at (n, 2) places: the offset, or the plane."""
        if not tilt:
            return np.full(len(xy), self.offset)
        return np.asarray(self.plane[0] + (xy - self.middle) @ self.plane[1:])


def stable_ground(xy: Floats, dz: Floats) -> Stable:
    """From places (n, 2) and differences (n,) of even density. Single ones that are far off do not count.

    Raises NotDeterminable, when there are fewer than thirty or they fill fewer than six blocks.
    """
    known = np.isfinite(dz)
    xy, dz = xy[known], dz[known]
    if len(dz) < FEWEST_PLACES:
        raise NotDeterminable(f"stable ground has {len(dz)} places with both surfaces, {FEWEST_PLACES} are needed")
    good = np.abs(dz - np.median(dz)) <= FAR * spread(dz)
    xy, dz = xy[good], dz[good]
    block, size = _blocks(xy)
    count = np.bincount(block)
    weight = count / count.sum()
    means = np.bincount(block, dz) / count
    if len(count) < FEWEST_BLOCKS:
        raise NotDeterminable(f"stable ground fills {len(count)} blocks, {FEWEST_BLOCKS} are needed")
    offset = float(dz.mean())
    # Blocks hold different numbers of places: error of their weighted mean (ratio estimate).
    many = len(count)
    error = float(np.sqrt(many / (many - 1) * np.sum((weight * (means - offset)) ** 2)))
    u95 = float(scipy.stats.t.ppf(0.975, many - 1)) * error
    noise = float(dz.std(ddof=1))
    centre = xy.mean(axis=0)
    places = np.column_stack([np.bincount(block, xy[:, k]) / count for k in (0, 1)]) - centre
    plane, tilted = _plane(places, means, count)
    area = float(size**2)
    within = float(np.sqrt(np.average((means - offset) ** 2, weights=count)))
    # Of independent noise the spread of block means would be noise / sqrt(n): what is more is shared.
    reach = within / noise * np.sqrt(area) if noise > 0 else 0.0
    return Stable(offset, u95, noise, len(dz), float(reach), centre, plane, tilted)


def _blocks(xy: Floats) -> tuple[np.ndarray, float]:
    """A block number for each place, and the side of the blocks: those with too few places are left to their neighbours' size."""
    low, high = ends(xy)
    side = float(max((high - low).max() / BLOCKS_A_SIDE, 1e-9))
    for _ in range(SIZES):
        found, block = np.unique(np.floor((xy - low) / side).astype(np.int64), axis=0, return_inverse=True)
        if len(found) >= FEWEST_BLOCKS:
            break
        side /= SMALLER
    return block.ravel(), side


def _plane(places: Floats, means: Floats, count: np.ndarray) -> tuple[Floats, bool]:
    root = np.sqrt(count)[:, None]
    design = np.column_stack([np.ones(len(means)), places])
    level = float(np.average(means, weights=count))
    if np.linalg.matrix_rank(design) < 3:
        return np.array([level, 0.0, 0.0]), False
    plane, *_ = np.linalg.lstsq(design * root, means * root[:, 0], rcond=None)
    before, after = (float(np.sum(count * (means - told) ** 2)) for told in (level, design @ plane))
    free = len(means) - 3
    # What rounding makes of differences that are all alike is no tilt.
    least = max((ROUNDING * float(np.abs(means).max())) ** 2 * float(count.sum()), TINY)
    value = (before - after) / 2 / (after / free + least)
    return np.asarray(plane), bool(value > scipy.stats.f.ppf(0.95, 2, free))


def proposals(dz: Floats, cell: float, most: int = 6) -> list[shapely.Polygon]:
    """Where the ground has likely not changed, the largest first, from differences (rows of y, columns of x) of square cells.

    Coordinates are counted from the lower left corner of the first cell. What most of the cells agree on within their noise (told
    by cells up to eight apart) is taken for no change; where more was dug than was left alone that is wrong, so proposals are to
    be looked at. Cells count that lie within three times the noise with nine tenths of their surroundings, in pieces of a
    hundredth of the whole or more. Common practice, not a standard.
    """
    known = np.isfinite(dz)
    # Cells between the same points are alike: the noise is that of cells far enough apart.
    apart = [
        np.concatenate([(dz[k:] - dz[:-k]).ravel(), (dz[:, k:] - dz[:, :-k]).ravel()])
        for k in LAGS
        if k < min(dz.shape)
    ]
    spreads = [spread(some[np.isfinite(some)], 0.0) for some in apart if np.isfinite(some).any()]
    if not spreads or np.count_nonzero(known) < FEWEST_PLACES:
        return []
    noise = max(max(spreads) / np.sqrt(2), 1e-9)
    values = np.sort(dz[known])
    # The window of four times the noise that holds the most cells.
    holds = np.searchsorted(values, values + 4 * noise, side="right") - np.arange(len(values))
    first = int(np.argmax(holds))
    usual = float(np.median(values[first : first + holds[first]]))
    near = known & (np.abs(np.nan_to_num(dz) - usual) <= 3 * noise)
    calm = near & (scipy.ndimage.uniform_filter(near.astype(float), 5, mode="constant") >= CALM)
    piece, _ = scipy.ndimage.label(calm)
    size = np.bincount(piece[calm])
    found = []
    for number in np.argsort(-size)[:most].tolist():
        if size[number] < max(SMALLEST_SHARE * np.count_nonzero(known), FEWEST_PLACES):
            continue
        rows, columns = np.nonzero(piece == number)
        boxes = shapely.box(columns * cell, rows * cell, (columns + 1) * cell, (rows + 1) * cell)
        # Cells that share edges are one polygon, and that it stays; a hole of a few cells is a few strays.
        whole = cast(shapely.Polygon, shapely.union_all(boxes).simplify(1.5 * cell))
        holes = [hole for hole in whole.interiors if shapely.Polygon(hole).area >= FEWEST_PLACES * cell**2]
        found.append(shapely.Polygon(whole.exterior, holes))
    return found
