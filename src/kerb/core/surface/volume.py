"""Volumes between a top surface and a base: above and below apart, exact for the surfaces given.

Sign: above is where the top lies over the base, below where it lies under it; both are positive numbers and
net = above - below.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.geometry.plane import Plane
from kerb.core.parallel import each, ranges
from kerb.core.progress import Progress
from kerb.core.surface.grid import HeightGrid
from kerb.core.surface.overlay import change
from kerb.core.surface.tin import Tin
from kerb.core.surface.volume_kernels import over_heights

Base = Plane | Tin


@dataclass(frozen=True)
class Volume:
    """Volumes and plan areas above and below a base, and the plan area both surfaces share."""

    above: float
    below: float
    area_above: float
    area_below: float
    area: float

    @property
    def net(self) -> float:
        """Above minus below."""
        return self.above - self.below


def between(top: Tin, base: Base, progress: Progress | None = None) -> Volume:
    """Volume between a surface and a base plane or base surface by the prisms under its triangles.

    Raises Cancelled, when the progress is stopped.
    """
    if not isinstance(base, Plane):
        found = change(base, top, progress=progress)
        # Where both are the same the top lies on the base, which counts as above.
        return Volume(found.fill, found.cut, found.fill_area + found.same_area, found.cut_area, found.area)
    heights = top.vertices[:, 2] + top.origin[2] - base.at(top.points)

    def some(span: tuple[int, int]) -> Floats:
        sums = np.zeros(5)
        over_heights(top.plan_areas, top.triangles, heights, span[0], span[1], sums)
        sums[4] = top.plan_areas[span[0] : span[1]].sum()
        return sums

    parts = each(some, ranges(len(top.triangles)), progress, "Adding prisms")
    return Volume(*np.sum(parts, axis=0).tolist())


def by_grid(grid: HeightGrid, share: Floats, base: Floats) -> Volume:
    """Volume by grid columns: ``share`` (rows, columns) of each cell counts, ``base`` is its elevation there.

    Cells without an elevation (NaN in the grid or in the base) count for nothing.
    """
    heights = grid.z - base
    usable = (share > 0) & np.isfinite(heights)
    column = share[usable] * grid.cell**2
    height = heights[usable]
    up = height >= 0
    return Volume(
        float(np.sum(column[up] * height[up])),
        float(-np.sum(column[~up] * height[~up])),
        float(column[up].sum()),
        float(column[~up].sum()),
        float(column.sum()),
    )
