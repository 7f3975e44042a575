"""Single points far above or below everything round them: birds, reflections, errors of ranging."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from kerb.core.arrays import Floats, Ints, Mask

CELLS = (4.0, 12.0)
FEW = 3
LEAST = 5


def lone(points: Floats, spacing: float, least: float) -> Mask:
    """Which of (n, 3) points stand alone, up to three together, ``least`` or more above or below what is beneath them.

    In square cells of four and twelve spacings the heights of a surface follow one another closely, however steep; what
    is parted from them by a gap of ``least`` and half a cell or more, and has fewer than four points within that distance
    in space, stands alone. Where a cell has fewer than five points nothing is said.
    """
    found = np.zeros(len(points), bool)
    for cells in CELLS:
        cell = cells * spacing
        rest = np.flatnonzero(~found)
        found[rest[_parted(points[rest], cell, max(least, 0.5 * cell))]] = True
    rows = np.flatnonzero(found)
    if len(rows):
        found[rows] = _alone(points, rows, least)
    return found


def _parted(points: Floats, cell: float, gap: float) -> Ints:
    """Rows of the three lowest and highest of a cell that a gap in height parts from the rest."""
    if not len(points):
        return np.empty(0, np.int64)
    key = np.floor((points[:, :2] - points[:, :2].min(axis=0)) / cell).astype(np.int64)
    flat = key[:, 0] * (int(key[:, 1].max()) + 1) + key[:, 1]
    # Most cells have nothing odd: only those with a great range of heights are looked at one by one.
    order = np.argsort(flat, kind="stable")
    starts = np.flatnonzero(np.diff(flat[order], prepend=-1))
    z = points[order, 2]
    spread = np.maximum.reduceat(z, starts) - np.minimum.reduceat(z, starts)
    ends = np.append(starts[1:], len(order))
    rows: list[Ints] = [np.empty(0, np.int64)]
    for start, end in zip(starts[spread > gap], ends[spread > gap], strict=True):
        if end - start < LEAST:
            continue
        group = order[start:end]
        group = group[np.argsort(points[group, 2])]
        steps = np.flatnonzero(np.diff(points[group, 2]) > gap)
        low = steps[steps < FEW]
        high = steps[steps >= len(group) - 1 - FEW]
        if len(low):
            rows.append(group[: low[-1] + 1])
        if len(high):
            rows.append(group[high[0] + 1 :])
    return np.concatenate(rows)


def _alone(points: Floats, rows: Ints, reach: float) -> Mask:
    """Which of some rows have no more than three points, themselves among them, within a distance in space."""
    low, high = points[rows].min(axis=0) - reach, points[rows].max(axis=0) + reach
    near = points[np.all((points >= low) & (points <= high), axis=1)] if len(rows) < len(points) // 2 else points
    count = cKDTree(near).query_ball_point(points[rows], reach, return_length=True)
    return np.asarray(count <= FEW)
