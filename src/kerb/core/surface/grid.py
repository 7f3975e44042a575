"""Elevation grids: mean elevation of the points in each square cell, with empty cells told apart from filled ones."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.surface.delaunay import delaunay
from kerb.core.surface.grid_kernels import add_points
from kerb.core.surface.tin import Tin

MAX_CELLS = 60_000_000


@dataclass(frozen=True)
class HeightGrid:
    """Elevations ``z`` (rows of y, columns of x) of cells of size ``cell`` from the lower left corner ``low``.

    ``count`` holds the points in each cell; z is NaN where nothing is known.
    """

    low: Floats
    cell: float
    z: Floats
    count: Ints

    @property
    def shape(self) -> tuple[int, int]:
        """(rows, columns)."""
        return self.z.shape[0], self.z.shape[1]

    def centres(self) -> Floats:
        """Centres of all cells, (rows * columns, 2)."""
        return centres_of(self.low, self.cell, self.shape)

    def at(self, xy: Floats) -> Floats:
        """Bilinear elevation at (n, 2) places; NaN near unknown cells and outside."""
        column = (xy[:, 0] - self.low[0]) / self.cell - 0.5
        row = (xy[:, 1] - self.low[1]) / self.cell - 0.5
        return np.asarray(
            scipy.ndimage.map_coordinates(self.z, [row, column], order=1, mode="constant", cval=np.nan, prefilter=False)
        )


def centres_of(low: Floats, cell: float, shape: tuple[int, int]) -> Floats:
    """Centres (rows * columns, 2) of the cells of a grid from its lower left corner, row after row."""
    rows, columns = shape
    x, y = low[0] + (np.arange(columns) + 0.5) * cell, low[1] + (np.arange(rows) + 0.5) * cell
    return np.column_stack([np.tile(x, rows), np.repeat(y, columns)])


def shape_over(low: Floats, high: Floats, cell: float) -> tuple[int, int]:
    """Rows and columns of a grid that covers a plan box. Raises InputError, when there would be too many cells."""
    size = np.ceil((high[:2] - low[:2]) / cell) + 1
    if not cell > 0 or float(size.prod()) > MAX_CELLS:
        raise InputError(f"a cell of {cell:g} makes {float(size.prod()):.3g} cells; the most is {MAX_CELLS}")
    return int(size[1]), int(size[0])


def gridded(points: Floats, low: Floats, high: Floats, cell: float) -> HeightGrid:
    """Mean elevation of (n, 3) points in the cells of a grid that covers ``low`` to ``high`` in plan.

    Raises
    ------
    InputError, when the cell size is not positive or the grid would be larger than memory allows.
    """
    if not cell > 0:
        raise InputError(f"cell size {cell} must be above zero")
    size = np.ceil((high[:2] - low[:2]) / cell).astype(float) + 1
    if size.prod() > MAX_CELLS:
        raise InputError(f"cell size {cell:g} makes {size.prod():.3g} cells; the most is {MAX_CELLS}")
    shape = int(size[1]), int(size[0])
    total, count = np.zeros(shape), np.zeros(shape, np.int64)
    # Some height among them: sums of what is left of each lose nothing to rounding.
    middle = float(points[0, 2]) if len(points) else 0.0
    local = np.ascontiguousarray(points - np.array([low[0], low[1], middle]))
    add_points(local, 1.0 / cell, total, count)
    with np.errstate(invalid="ignore", divide="ignore"):
        z = np.where(count > 0, total / count + middle, np.nan)
    return HeightGrid(np.asarray(low[:2], float), cell, z, count)


def filled(grid: HeightGrid, wanted: Mask) -> HeightGrid:
    """The grid with empty ``wanted`` cells interpolated linearly from the cells around each gap.

    Beyond the outermost known cells the nearest one is taken.
    """
    empty = wanted & ~np.isfinite(grid.z)
    known = np.isfinite(grid.z)
    if not empty.any() or not known.any():
        return grid
    border = known & scipy.ndimage.binary_dilation(empty, iterations=2)
    z = grid.z.copy()
    places = np.argwhere(empty)
    if border.sum() > 3:
        around = np.column_stack([np.argwhere(border), grid.z[border]])
        try:
            z[empty] = Tin(around, delaunay(around[:, :2]), np.zeros(3)).at(places.astype(float))
        except NotDeterminable:  # all known cells in one line: nothing to interpolate between
            z[empty] = np.nan
    left = wanted & ~np.isfinite(z)
    if left.any():
        nearest = scipy.ndimage.distance_transform_edt(~known, return_distances=False, return_indices=True)
        z[left] = grid.z[tuple(axis[left] for axis in nearest)]
    return replace(grid, z=z)
