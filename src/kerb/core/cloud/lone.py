"""Single points far above or below everything round them: birds, reflections, errors of ranging."""

from __future__ import annotations

import numpy as np
import scipy

from kerb.core.arrays import Floats, Ints, Mask, ends
from kerb.core.sorting import spread_by_cells

CELLS = (4.0, 12.0)
FEW = 3
REACH_SPACINGS = 3.0
LEAST = 5


def lone(points: Floats, spacing: float, least: float) -> Mask:
    """Which of (n, 3) points stand alone, up to three together, ``least`` or more above or below what is beneath them.

    In square cells of four and twelve spacings the heights of a surface follow one another closely, however steep; what
    is parted from them by a gap of ``least`` and half a cell or more, and has fewer than four points within ``least``
    and three spacings of it in space, stands alone. Where a cell has fewer than five points nothing is said.
    """
    found = np.zeros(len(points), bool)
    for cells in CELLS:
        cell = cells * spacing
        rest = np.flatnonzero(~found) if found.any() else slice(None)
        parted = _parted(points[rest], cell, max(least, 0.5 * cell))
        found[parted if isinstance(rest, slice) else rest[parted]] = True
    rows = np.flatnonzero(found)
    if len(rows):
        found[rows] = _alone(points, rows, max(least, REACH_SPACINGS * spacing))
    return found


def _parted(points: Floats, cell: float, gap: float) -> Ints:
    """Rows of the three lowest and highest of a cell that a gap in height parts from the rest."""
    if not len(points):
        return np.empty(0, np.int64)
    which, lowest, highest, many = spread_by_cells(points, ends(points[:, :2])[0], cell)
    # Most cells have nothing odd: only those with a great range of heights are put in order of height.
    odd = (highest - lowest > gap) & (many >= LEAST)
    order, sizes = np.flatnonzero(odd[which]), many[odd]
    order = order[np.lexsort((points[order, 2], which[order]))]
    z, starts = points[order, 2], np.cumsum(sizes) - sizes
    stops = starts + sizes
    rows: list[Ints] = [np.empty(0, np.int64)]
    below, above = np.zeros(len(starts), np.int64), np.zeros(len(starts), np.int64)
    for k in range(min(FEW, LEAST - 1)):
        # How many at each end lie beyond the innermost gap that is near enough to it.
        below = np.where(z[starts + k + 1] - z[starts + k] > gap, k + 1, below)
        above = np.where(z[stops - k - 1] - z[stops - k - 2] > gap, k + 1, above)
    for k in range(FEW):
        rows.append(order[starts[below > k] + k])
        rows.append(order[stops[above > k] - k - 1])
    return np.unique(np.concatenate(rows))


def _alone(points: Floats, rows: Ints, reach: float) -> Mask:
    """Which of some rows have no more than three points, themselves among them, within a distance in space."""
    low, high = points[rows].min(axis=0) - reach, points[rows].max(axis=0) + reach
    near = points[np.all((points >= low) & (points <= high), axis=1)] if len(rows) < len(points) // 2 else points
    count = scipy.spatial.cKDTree(near).query_ball_point(points[rows], reach, return_length=True)
    return np.asarray(count <= FEW)
