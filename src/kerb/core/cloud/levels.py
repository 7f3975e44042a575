"""The lowest surface of each place (a floor under clutter) and the underside of what spans over it (a soffit)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.cloud.cells import Cells, marked
from kerb.core.cloud.own_numbers import in_own_numbers
from kerb.core.cloud.store import CloudStore
from kerb.core.progress import Progress
from kerb.core.setting import Setting, check_positive, setting


@dataclass(frozen=True)
class LowestSurface:
    """Lowest points of columns; lengths in the unit of the cloud."""

    cell: float = setting(0.5, Setting("Cell", "Width of the columns", "length", low=0.0))
    thickness: float = setting(
        0.03, Setting("Thickness", "So far above the lowest level a point belongs to it", "length", low=0.0)
    )
    fewest: int = setting(
        3, Setting("At least", "Fewer points than this at one level are strays, not a surface", "", low=1)
    )


@dataclass(frozen=True)
class Underside:
    """First surface over a free space; lengths in the unit of the cloud."""

    cell: float = setting(0.5, Setting("Cell", "Width of the columns", "length", low=0.0))
    clear: float = setting(2.0, Setting("Clear height", "Free height under it, without any point", "length", low=0.0))
    thickness: float = setting(
        0.05, Setting("Thickness", "So far above its lowest point a point belongs to it", "length", low=0.0)
    )


@in_own_numbers
def lowest_surface(store: CloudStore, how: LowestSurface, among: Mask, progress: Progress) -> Mask:
    """Points, (n,), of the lowest level of their column that ``fewest`` points lie at, within ``thickness``.

    Raises InputError, when a value cannot be; Cancelled.
    """
    check_positive(cell=how.cell, thickness=how.thickness)
    cells, z, starts, order = _columns(store, how.cell, among, progress)
    sorted_z, column = z[order], np.repeat(np.arange(cells.count), np.diff(starts))
    level = first_level(sorted_z, column, how.fewest, how.thickness, cells.count)
    over = sorted_z - level[column]
    return marked(order[(over >= 0) & (over <= how.thickness)], store.count)


@in_own_numbers
def underside(store: CloudStore, how: Underside, among: Mask, progress: Progress) -> Mask:
    """Points, (n,), within ``thickness`` over the lowest free space of ``clear`` height in their column.

    Columns without such a space under something have no underside. Raises InputError; Cancelled.
    """
    check_positive(cell=how.cell, thickness=how.thickness, clear_height=how.clear)
    cells, z, starts, order = _columns(store, how.cell, among, progress)
    sorted_z, column = z[order], np.repeat(np.arange(cells.count), np.diff(starts))
    gap = np.zeros(len(sorted_z), np.bool_)
    gap[1:] = (column[1:] == column[:-1]) & (np.diff(sorted_z) >= how.clear)
    level = _of_first(gap, sorted_z, column, cells.count)
    over = sorted_z - level[column]
    return marked(order[(over >= 0) & (over <= how.thickness)], store.count)


def _columns(store: CloudStore, cell: float, among: Mask, progress: Progress) -> tuple[Cells, Floats, Ints, Ints]:
    cells = Cells.of(store, cell, among, progress.within(0.0, 0.6), upright=True)
    z = np.asarray(store.xyz[:, 2], float) * float(store.scale[2])
    starts, order = cells.ordered(z, progress.within(0.6, 1.0))
    return cells, z, starts, order


def first_level(z: Floats, column: Ints, fewest: int, thickness: float, count: int) -> Floats:
    """For each column of rising heights the lowest that ``fewest`` points, itself too, lie within a thickness of."""
    further = fewest - 1
    good = np.zeros(len(z), np.bool_)
    last = max(len(z) - further, 0)
    good[:last] = (column[further:] == column[:last]) & (z[further:] - z[:last] <= thickness)
    return _of_first(good, z, column, count)


def _of_first(good: Mask, z: Floats, column: Ints, count: int) -> Floats:
    """Height of the first good point of each column, (count,), NaN without one; columns are in rising order."""
    rows = np.flatnonzero(good)
    mine = column[rows]
    first = np.ones(len(mine), np.bool_)
    first[1:] = mine[1:] != mine[:-1]
    level = np.full(count, np.nan)
    level[mine[first]] = z[rows[first]]
    return level
