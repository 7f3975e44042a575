"""The points of a cloud within the slice of a section, and the line they make."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kerb.core.arrays import Floats, Mask
from kerb.core.cloud.view import CloudView
from kerb.core.robust import spread
from kerb.core.section.frame import Frame
from kerb.core.sorting import run_medians

LOWEST, MEDIAN, HIGHEST = "lowest", "median", "highest"


def slab(view: CloudView, frame: Frame) -> Floats:
    """Offset, distance ahead, elevation (n, 3) of the points that lie in the slice, its faces included."""
    room = 1e-6 * max(frame.width, frame.thickness)
    narrowed = CloudView(view.store, replace(view.narrowing, ring=frame.corners(room)))
    local = frame.local(narrowed.points())
    return local[within(frame, local)]


def within(frame: Frame, local: Floats) -> Mask:
    """Which places (n, 3) in the frame of a section lie in its slice; a millionth of its size is let pass for rounding."""
    loose = 1e-9 * max(frame.width, frame.thickness, 1.0)
    return np.asarray(
        (np.abs(local[:, 0]) <= frame.width / 2 + loose) & (np.abs(local[:, 1]) <= frame.thickness / 2 + loose)
    )


def line_of(local: Floats, width: float, step: float, take: str) -> tuple[Floats, Floats]:
    """The line of a slice at offsets that are multiples of a step: (n,) offsets and elevations, NaN where it has no points.

    Each offset has the points within half a step of it. ``lowest`` and ``highest`` take one of them as it is. The median is
    that of what is left when the fall along the section is taken out, so that points which lie unevenly
    within a step do not shift it on a slope.
    """
    half = int(np.floor(width / 2 / step + 1e-9))
    offsets = np.arange(-half, half + 1).astype(np.float64) * step
    count = len(offsets)
    cell = np.floor(local[:, 0] / step + 0.5).astype(np.int64) + half
    good = (cell >= 0) & (cell < count)
    cell, offset, z = cell[good], local[good, 0], local[good, 2]
    if take == MEDIAN:
        first = _medians(cell, z, count)
        where = _medians(cell, offset, count)
        fall = _falls(where, first)
        z = z - fall[cell] * (offset - offsets[cell])
        return offsets, _medians(cell, z, count)
    out = np.full(count, np.inf if take == LOWEST else -np.inf)
    (np.minimum if take == LOWEST else np.maximum).at(out, cell, z)
    return offsets, np.where(np.isfinite(out), out, np.nan)


def spread_about(local: Floats, offset: Floats, z: Floats) -> float | None:
    """How points (n, 3) of a slice are spread about its line: 1.4826 times the median absolute distance in height; None where
    there are none between two places of the line."""
    known = np.isfinite(z)
    if not len(local) or known.sum() < 2:
        return None
    away = local[:, 2] - np.interp(local[:, 0], offset[known], z[known], left=np.nan, right=np.nan)
    # In a gap nothing is known of the line.
    step = float(np.median(np.diff(offset[known])))
    after = np.searchsorted(offset[known], local[:, 0]).clip(1, known.sum() - 1)
    gap = offset[known][after] - offset[known][after - 1]
    away = away[np.isfinite(away) & (gap <= 1.5 * step)]
    return spread(away) if len(away) else None


def _medians(cell: np.ndarray, values: Floats, count: int) -> Floats:
    """Median of the values of each cell, NaN where there are none."""
    sizes = np.bincount(cell, minlength=count)
    full = sizes > 0
    out = np.full(count, np.nan)
    out[full] = run_medians(values[np.argsort(cell, kind="stable")], (np.cumsum(sizes) - sizes)[full])
    return out


def _falls(offsets: Floats, z: Floats) -> Floats:
    """Fall of a line at each of its places: the gentler of those to both neighbours, so that a step beside it does not count;
    nought where they run opposite ways or there is no neighbour."""
    x, level = np.pad(offsets, 1, constant_values=np.nan), np.pad(z, 1, constant_values=np.nan)
    left, right = (z - level[:-2]) / (offsets - x[:-2]), (level[2:] - z) / (x[2:] - offsets)
    left, right = np.where(np.isfinite(left), left, right), np.where(np.isfinite(right), right, left)
    gentler = np.where(np.abs(left) < np.abs(right), left, right)
    return np.asarray(np.nan_to_num(np.where(left * right > 0, gentler, 0.0)))


def simplified(offset: Floats, z: Floats, tolerance: float) -> tuple[Floats, Floats]:
    """A line with as few vertices as keep it within ``tolerance`` (Douglas and Peucker 1973), gaps left open."""
    import shapely

    known = np.isfinite(z)
    kept: list[Floats] = []
    for run in np.split(np.arange(len(z)), np.flatnonzero(np.diff(known.astype(np.int8))) + 1):
        if not known[run[0]]:
            continue
        line = np.column_stack([offset[run], z[run]])
        if len(run) > 2:
            line = shapely.get_coordinates(shapely.LineString(line).simplify(tolerance, preserve_topology=False))
        if kept:
            kept.append(np.array([[(kept[-1][-1, 0] + line[0, 0]) / 2, np.nan]]))
        kept.append(line)
    whole = np.concatenate(kept) if kept else np.empty((0, 2))
    return whole[:, 0], whole[:, 1]
