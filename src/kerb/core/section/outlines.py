"""Closed outlines of what a slice cuts: the cells that its points cover, and the lines round them."""

from __future__ import annotations

import numpy as np
import scipy
import shapely

from kerb.core.arrays import Floats
from kerb.core.errors import InputError, NotDeterminable

CELL_SPACINGS = 3.0
MOST_CELLS = 16_000_000
# Specks of fewer cells are left out.
FEWEST_CELLS = 6
SIMPLER = 0.75


def outlines(local: Floats, cell: float) -> list[shapely.Polygon]:
    """Outlines, with their holes, of places (n, 2) in the plane of a slice, the largest first.

    Cells with a point are filled, gaps of one or two of them closed, and the rings simplified within three quarters of a cell,
    so that they lie within about one cell of the outermost points. Raises NotDeterminable without points; InputError for a
    cell that makes too many.
    """
    if not len(local):
        raise NotDeterminable("no point lies in the slice")
    if not cell > 0:
        raise InputError(f"cell size {cell} must be above zero")
    low = local.min(axis=0)
    size = np.floor((local.max(axis=0) - low) / cell).astype(np.int64) + 5
    if size.prod() > MOST_CELLS:
        raise InputError(f"cell size {cell:g} makes {size.prod():.3g} cells; the most is {MOST_CELLS}")
    covered = np.zeros((int(size[1]), int(size[0])), np.bool_)
    place = np.floor((local - low) / cell).astype(np.int64) + 2
    covered[place[:, 1], place[:, 0]] = True
    covered = scipy.ndimage.binary_closing(covered, np.ones((3, 3), np.bool_))
    # Runs of covered cells, row by row: they begin and end where a cell differs from the one before.
    edges = np.diff(np.pad(covered, ((0, 0), (1, 1))).astype(np.int8), axis=1)
    (row, first), (_, last) = np.nonzero(edges > 0), np.nonzero(edges < 0)
    x, y = low - 2 * cell
    whole = shapely.union_all(
        shapely.box(x + first * cell, y + row * cell, x + last * cell, y + (row + 1) * cell)
    )  # fmt: skip
    found: list[shapely.Polygon] = []
    for shape in shapely.get_parts(whole).tolist():
        simple = shape.simplify(cell * SIMPLER)
        if shape.area >= FEWEST_CELLS * cell * cell and isinstance(simple, shapely.Polygon) and not simple.is_empty:
            found.append(simple)
    return sorted(found, key=lambda shape: -shape.area)
