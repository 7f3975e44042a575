"""A level slice of a cloud as small cells: how many points lie in each, where their middle is, and how the wall runs there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.errors import NotDeterminable
from kerb.core.parallel import ranges
from kerb.core.sorting import by_cells

# A place on a wall has at least so many cells round it, and its spread along the wall is so many times that across.
FEWEST_ROUND = 4
LONG = 6.0
# Neighbours that are looked at round a cell at most, and cells at a time.
MOST_ROUND = 48
AT_ONCE = 50_000


@dataclass(frozen=True)
class SliceCells:
    """Middles ``xy`` (n, 2) of the points of each cell, ``count`` (n,) of them, the sum of squares ``spread`` (n, 3) of their
    distances from the middle (xx, xy, yy), and ``way`` (n,), the direction of the wall there in radians (0 to π, NaN where
    the cells round it do not lie along one)."""

    xy: Floats
    count: Ints
    spread: Floats
    way: Floats
    reach: float

    @property
    def on_walls(self) -> Mask:
        """Cells that lie on a wall."""
        return np.isfinite(self.way)


def cells_of(xy: Floats, size: float) -> SliceCells:
    """Cells of a size of the points (n, 2) of a slice. Raises NotDeterminable, when there are too few."""
    if len(xy) < FEWEST_ROUND:
        raise NotDeterminable(f"{len(xy)} points in the slice: too few for a floor plan")
    low = xy.min(axis=0)
    local = xy - low
    order, first = by_cells(local, np.zeros(2), size)
    count = np.diff(np.append(first, len(order)))
    sorted_xy = local[order]
    middle = np.add.reduceat(sorted_xy, first) / count[:, None]
    off = sorted_xy - np.repeat(middle, count, axis=0)
    squares = np.column_stack([off[:, 0] ** 2, off[:, 0] * off[:, 1], off[:, 1] ** 2])
    spread = np.add.reduceat(squares, first)
    way, reach = _ways(middle, size)
    return SliceCells(middle + low, count, spread, way, reach)


def _ways(middle: Floats, size: float) -> tuple[Floats, float]:
    """Direction of the wall at each cell from the principal axis of the cells round it, and how far those reach."""
    tree = scipy.spatial.cKDTree(middle)
    near, _ = tree.query(middle, k=[min(FEWEST_ROUND, len(middle))], workers=-1)
    reach = max(3.0 * size, 1.5 * float(np.median(near)))
    pieces = [_ways_of(tree, middle, slice(*span), reach) for span in ranges(len(middle), AT_ONCE)]
    return np.concatenate(pieces), reach


def _ways_of(tree: scipy.spatial.cKDTree, middle: Floats, some: slice, reach: float) -> Floats:
    most = min(MOST_ROUND, len(middle))
    away, other = tree.query(middle[some], k=np.arange(1, most + 1), distance_upper_bound=reach, workers=-1)
    there = np.isfinite(away)
    number = there.sum(axis=1)
    places = np.where(there[..., None], middle[np.where(there, other, 0)], 0.0)
    mean = places.sum(axis=1) / np.maximum(number, 1)[:, None]
    off = np.where(there[..., None], places - mean[:, None], 0.0)
    xx, xy, yy = (off[..., 0] ** 2).sum(axis=1), (off[..., 0] * off[..., 1]).sum(axis=1), (off[..., 1] ** 2).sum(axis=1)
    half, turn = (xx + yy) / 2, np.hypot((xx - yy) / 2, xy)
    along, across = half + turn, np.maximum(half - turn, 0.0)
    way = 0.5 * np.arctan2(2 * xy, xx - yy) % np.pi
    return np.where((number >= FEWEST_ROUND) & (along > LONG * across), way, np.nan)
