"""The figure under the cursor: volume by grid columns, fast enough to follow a dragged vertex or level.

The points around the heap are gridded once; moving the line then costs the cells it covers. The full answer by
triangulation follows at rest and replaces this one.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import NotDeterminable
from kerb.core.geometry import polygon
from kerb.core.progress import Progress
from kerb.core.surface.grid import HeightGrid, filled, gridded
from kerb.core.surface.tin import Tin
from kerb.core.surface.toe import GroundReader, Toe, pulled
from kerb.core.surface.volume import Base, Volume, by_grid
from kerb.core.units import LengthUnit
from kerb.studies.stockpile.heap import BaseSource, Ground, base_elevations, gather, make_base, read_toe, surface_under
from kerb.studies.stockpile.setup import StockpileSetup

LIVE_CELLS = 160_000
ROOM = 0.35


@dataclass(frozen=True)
class LiveAnswer:
    """A quick answer with the geometry it came from."""

    volume: Volume
    toe: Toe
    base: Base


class LiveHeap:
    """Everything that stays the same while a toe line near a place is dragged."""

    def __init__(
        self, store: CloudStore, setup: StockpileSetup, unit: LengthUnit, base_store: BaseSource | None = None
    ) -> None:
        """Grid the points around the toe of ``setup``, with room to move it. Raises as :func:`gather` does."""
        ring = setup.ring()
        grown = polygon.offset(ring, ROOM * float(np.sqrt(abs(polygon.area(ring)))))[0]
        wide = replace(setup, toe=tuple(map(tuple, grown.tolist())), toe_z=())
        self.ground = gather(store, wide, unit, Progress())
        self.region = grown
        self.asked = _points_asked(setup)
        self.grid = _live_grid(self.ground, grown)
        self.reader = GroundReader(self.ground.points, self.ground.search(ring))
        self.base_store = base_store
        self._surface: Tin | None = None

    def covers(self, setup: StockpileSetup) -> bool:
        """Whether a toe line still lies in the gridded region and asks for the same points."""
        if _points_asked(setup) != self.asked:
            return False
        return bool(polygon.contains(self.region, np.array(setup.toe)).all())

    def answer(self, setup: StockpileSetup) -> LiveAnswer:
        """Volume above and below the base for a setup. Raises InputError or NotDeterminable with the reason."""
        ring = setup.ring()
        toe = read_toe(self.ground, ring, setup, self.reader)
        if setup.base == "surface" and self.base_store is not None:
            self._surface = self._surface or surface_under(self.base_store, self.region)
            base: Base = self._surface
        else:
            base = make_base(setup, toe, ring, self.base_store)
        return LiveAnswer(volume_by_grid(self.grid, ring, base), toe, base)

    def pulled_toe(self, setup: StockpileSetup, reach: float) -> Floats:
        """The toe line moved to the break of slope within ``reach``. Raises NotDeterminable."""
        ring = setup.ring()
        if not polygon.contains(self.region, ring).all():
            raise NotDeterminable("the line reaches out of the data around the heap")
        cell = max(2 * self.ground.spacing, reach / 12)
        reach = max(reach, 5 * cell)
        fine = gridded(self.ground.points, *_box(self.region), cell)
        known = filled(fine, np.ones(fine.shape, bool))
        return pulled(known, ring, reach)


def _points_asked(setup: StockpileSetup) -> tuple[object, ...]:
    return setup.classes, setup.part, setup.only


def volume_by_grid(grid: HeightGrid, ring: Floats, base: Base) -> Volume:
    """Volume between a grid and a base inside a ring that lies within the grid, by columns."""
    rows, columns = _window(grid, ring)
    low = grid.low + np.array([columns.start, rows.start]) * grid.cell
    part = HeightGrid(low, grid.cell, grid.z[rows, columns], grid.count[rows, columns])
    share = polygon.coverage(ring, low, grid.cell, part.shape)
    wanted = share > 1e-12
    base_z = np.full(part.shape, np.nan)
    base_z[wanted] = base_elevations(base, ring, part.centres()[wanted.ravel()])
    return by_grid(part, share, base_z)


def _window(grid: HeightGrid, ring: Floats) -> tuple[slice, slice]:
    first = np.floor((ring.min(axis=0) - grid.low) / grid.cell).astype(int)
    last = np.floor((ring.max(axis=0) - grid.low) / grid.cell).astype(int) + 1
    first = np.maximum(first, 0)
    return slice(int(first[1]), int(last[1])), slice(int(first[0]), int(last[0]))


def _live_grid(ground: Ground, region: Floats) -> HeightGrid:
    cell = max(2 * ground.spacing, float(np.sqrt(abs(polygon.area(region)) / LIVE_CELLS)))
    grid = gridded(ground.points, *_box(region), cell)
    return filled(grid, polygon.coverage(region, grid.low, cell, grid.shape) > 0)


def _box(ring: Floats) -> tuple[Floats, Floats]:
    return ring.min(axis=0), ring.max(axis=0)
