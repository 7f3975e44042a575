"""Elevation grids from points: the lowest, highest, mean or median of each cell, gaps filled up to a distance or left open."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import scipy

from kerb.core.arrays import Floats, Mask, ends
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.sorting import by_cells, run_medians
from kerb.core.surface.delaunay import delaunay
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.surface.grid import centres_of, shape_over
from kerb.core.surface.tin import Tin

LOWEST, HIGHEST, MEAN, MEDIAN, TRIANGLES = "lowest", "highest", "mean", "median", "tin"


def cell_levels(points: Floats, cell: float, take: str) -> ElevationGrid:
    """Elevations of square cells from (n, 3) points; cells without points have none.

    Cell borders lie at whole multiples of the cell, so that grids of one cell size fit one another. A place on a border belongs
    to the cell to its north and east. Raises InputError, when there would be too many cells; NotDeterminable without points.
    """
    if not len(points):
        raise NotDeterminable("no points count")
    low, shape = _frame(points, cell)
    order, starts = by_cells(points, low, cell)
    z, first = points[order, 2], points[order[starts], :2]
    if take == LOWEST:
        values = np.minimum.reduceat(z, starts)
    elif take == HIGHEST:
        values = np.maximum.reduceat(z, starts)
    elif take == MEAN:
        values = np.add.reduceat(z - z[0], starts) / np.diff(np.append(starts, len(z))) + z[0]
    elif take == MEDIAN:
        values = run_medians(z, starts)
    else:
        raise InputError(f"'{take}' is no level of a cell")
    column, row = np.floor((first - low) / cell).astype(np.int64).T
    grid = np.full(shape, np.nan)
    grid[row, column] = values
    return _placed(grid, low, cell)


def grid_on(tin: Tin, cell: float) -> ElevationGrid:
    """Elevations of a surface in the middle of square cells. Raises InputError, when there would be too many."""
    low, shape = _frame(tin.points, cell)
    return _placed(tin.at(centres_of(low, cell, shape)).reshape(shape), low, cell)


def gaps_filled(grid: ElevationGrid, distance: float) -> tuple[ElevationGrid, Mask]:
    """A grid with cells that lie no farther than ``distance`` from a known one interpolated, and which those are.

    Linear between the known cells round a gap; nothing is taken on beyond the outermost ones.
    """
    known = np.isfinite(grid.z)
    away = scipy.ndimage.distance_transform_edt(~known) * grid.cell
    wanted = ~known & (away <= distance + 1e-9 * grid.cell)
    rim = known & scipy.ndimage.binary_dilation(wanted, np.ones((3, 3), np.bool_), iterations=2)
    if not wanted.any() or np.count_nonzero(rim) < 3:
        return grid, np.zeros(known.shape, np.bool_)
    around = np.column_stack([np.argwhere(rim), grid.z[rim]]).astype(float)
    try:
        levels = Tin(around, delaunay(around[:, :2]), np.zeros(3)).at(np.argwhere(wanted).astype(float))
    except NotDeterminable:  # all known cells in one line: nothing lies between
        return grid, np.zeros(known.shape, np.bool_)
    z = np.array(grid.z, float)
    z[wanted] = levels
    return replace(grid, z=z), wanted & np.isfinite(z)


def _frame(points: Floats, cell: float) -> tuple[Floats, tuple[int, int]]:
    if not (np.isfinite(cell) and cell > 0):
        raise InputError(f"cell: {cell:g} must be above zero")
    first, last = ends(points[:, :2])
    low = np.floor(first / cell) * cell
    # A cell more than the last place needs is made where that lies on a border.
    shape_over(low, last, cell)
    rows, columns = (np.floor((last - low) / cell).astype(int) + 1)[::-1].tolist()
    return low, (rows, columns)


def _placed(grid: Floats, low: Floats, cell: float) -> ElevationGrid:
    """From rows of y upwards to the grid as files have it, the northern row first."""
    top = float(low[1]) + grid.shape[0] * cell
    return ElevationGrid(grid[::-1].copy(), (cell, 0.0, float(low[0]), 0.0, -cell, top))
