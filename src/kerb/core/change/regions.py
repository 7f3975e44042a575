"""Regions of change: connected ground on which distances pass a level, with area, mean and volume."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats, ends

MOST_CELLS = 4_000_000
FEWEST_CELLS = 4


@dataclass(frozen=True)
class Region:
    """A region: its middle (easting, northing, elevation), plan area, mean distance and area times mean; the area of the cells
    along its ``rim``, which pass the ``level`` as a whole or not at all."""

    middle: tuple[float, float, float]
    area: float
    mean: float
    rim: float = 0.0
    level: float = 0.0

    @property
    def volume(self) -> float:
        """Plan area times mean distance, with its sign."""
        return self.area * self.mean

    @property
    def volume_u95(self) -> float:
        """What the volume may be off by at the rim: half of its cells, as high as the level that they pass."""
        return 0.5 * self.rim * self.level


def regions(points: Floats, away: Floats, level: float, cell: float) -> list[Region]:
    """Regions of points (n, 3) whose cell means of distances (n,) pass a level, those of one sign that touch, largest first."""
    known = np.isfinite(away)
    points, away = points[known], away[known]
    if not len(points) or not level > 0:
        return []
    low, high = ends(points[:, :2])
    size = high - low
    cell = max(cell, float(np.sqrt(size.prod() / MOST_CELLS)))
    shape = tuple((np.floor(size / cell).astype(int) + 1)[::-1].tolist())
    place = np.floor((points[:, :2] - low) / cell).astype(np.int64)
    number = place[:, 1] * shape[1] + place[:, 0]
    count = np.bincount(number, minlength=shape[0] * shape[1])
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = (np.bincount(number, away, len(count)) / count).reshape(shape)
        z = (np.bincount(number, points[:, 2], len(count)) / count).reshape(shape)
    found: list[Region] = []
    for sign in (1.0, -1.0):
        label, _ = scipy.ndimage.label(np.nan_to_num(sign * mean) > level, np.ones((3, 3)))
        for k, span in enumerate(scipy.ndimage.find_objects(label), 1):
            inside = label[span] == k
            if np.count_nonzero(inside) < FEWEST_CELLS:
                continue
            rows, columns = np.nonzero(inside)
            east = low[0] + (span[1].start + columns.mean() + 0.5) * cell
            north = low[1] + (span[0].start + rows.mean() + 0.5) * cell
            middle = float(east), float(north), float(np.nanmean(z[span][inside]))
            inner = scipy.ndimage.binary_erosion(np.pad(inside, 1).astype(bool), np.ones((3, 3), bool))[1:-1, 1:-1]
            rim = float(np.count_nonzero(inside & ~inner)) * cell**2
            area = np.count_nonzero(inside) * cell**2
            found.append(Region(middle, area, float(mean[span][inside].mean()), rim, level))
    return sorted(found, key=lambda region: -abs(region.volume))
