"""The second, independent volume of a heap: columns of a grid with exact shares of the cells at the line."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.geometry.area import Area
from kerb.core.surface.grid import HeightGrid
from kerb.core.surface.volume import Base, Volume, by_grid
from kerb.studies.stockpile.heap import base_elevations


def volume_by_grid(grid: HeightGrid, area: Area, base: Base) -> Volume:
    """Volume between a grid and a base over an area that lies within the grid, by columns."""
    ring = area.outline
    rows, columns = _window(grid, ring)
    low = grid.low + np.array([columns.start, rows.start]) * grid.cell
    part = HeightGrid(low, grid.cell, grid.z[rows, columns], grid.count[rows, columns])
    share = area.coverage(low, grid.cell, part.shape)
    wanted = share > 1e-12
    base_z = np.full(part.shape, np.nan)
    base_z[wanted] = base_elevations(base, ring, part.centres()[wanted.ravel()])
    return by_grid(part, share, base_z)


def _window(grid: HeightGrid, ring: Floats) -> tuple[slice, slice]:
    first = np.floor((ring.min(axis=0) - grid.low) / grid.cell).astype(int)
    last = np.floor((ring.max(axis=0) - grid.low) / grid.cell).astype(int) + 1
    first = np.maximum(first, 0)
    return slice(int(first[1]), int(last[1])), slice(int(first[0]), int(last[0]))
