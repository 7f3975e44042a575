"""The figure under the cursor: volume by grid columns, fast enough to follow a dragged vertex or level.

The points around the heap are gridded once; moving the line then costs the cells it covers. The full answer by
triangulation follows at rest and replaces this one.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import NotDeterminable
from kerb.core.geometry import polygon
from kerb.core.progress import Progress
from kerb.core.surface.grid import HeightGrid, filled, gridded
from kerb.core.surface.pulling import pulled
from kerb.core.surface.tin import Tin
from kerb.core.surface.toe import GroundReader
from kerb.core.surface.volume import Base, Volume
from kerb.core.units import LengthUnit, density_unit
from kerb.studies.drawn import Drawn
from kerb.studies.outcome import Attribute, Figure, Outcome
from kerb.studies.sources import Sources
from kerb.studies.stockpile import drawing
from kerb.studies.stockpile.figures import LABELS, mass_per_volume
from kerb.studies.stockpile.heap import Ground, gather, make_base, read_toe, surface_under
from kerb.studies.stockpile.second_way import volume_by_grid
from kerb.studies.stockpile.setup import StockpileSetup

LIVE_CELLS = 160_000
ROOM = 0.35


class LiveHeap:
    """Everything that stays the same while a toe line near a place is dragged."""

    def __init__(self, setup: StockpileSetup, sources: Sources) -> None:
        """Grid the points around the toe of ``setup``, with room to move it. Raises as :func:`gather` does."""
        ring = setup.ring()
        grown = polygon.offset(ring, ROOM * float(np.sqrt(abs(polygon.area(ring)))))[0]
        wide = replace(setup, toe=Drawn.of(grown))
        self.sources = sources
        self.ground = gather(sources.cloud("cloud"), wide, sources.unit, Progress())
        self.region = grown
        self.asked = (setup.cloud, setup.surface)
        self.grid = _live_grid(self.ground, grown)
        self.reader = GroundReader(self.ground.points, self.ground.search(ring, setup))
        self._surface: Tin | None = None

    def covers(self, setup: StockpileSetup) -> bool:
        """Whether a toe line still lies in the gridded region and asks for the same points."""
        if (setup.cloud, setup.surface) != self.asked or len(setup.toe.xy) < 3:
            return False
        return bool(polygon.contains(self.region, setup.toe.places).all())

    def answer(self, setup: StockpileSetup) -> Outcome:
        """Volume above and below the base for a setup. Raises InputError or NotDeterminable with the reason."""
        setup.check()
        ring = setup.ring()
        toe = read_toe(self.ground, ring, setup, self.reader)
        if setup.base == "surface":
            if self._surface is None:
                self._surface = surface_under(self.sources.surface("surface", setup.surface), self.region)
            base: Base = self._surface
        else:
            base = make_base(setup, toe, ring, None)
        unit = self.sources.unit
        figures = _figures(volume_by_grid(self.grid, setup.area(), base), setup, unit)
        outcome = Outcome("stockpile", unit.code, "", figures, setup.settings(), live=True)
        outcome.layers = drawing.toe_lines(toe, setup.area().holes)
        if setup.base != "surface":
            # A base of a million triangles is not handed round with every move of the mouse.
            outcome.layers["base"] = drawing.base_mesh(base, setup.area())
            outcome.attributes["over"] = Attribute("Height above base", "base", "toe", unit.code)
        return outcome

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


def _figures(volume: Volume, setup: StockpileSetup, unit: LengthUnit) -> dict[str, Figure]:
    cubic, square = unit.volume_code(), unit.area_code()
    values = {"net": (volume.net, cubic), "above": (volume.above, cubic), "below": (volume.below, cubic),
              "plan_area": (volume.area, square)}  # fmt: skip
    per_volume = mass_per_volume(setup.density, setup.density_unit, unit)
    if per_volume is not None:
        values["mass"] = (volume.net * per_volume, density_unit(setup.density_unit).mass_code)
    return {name: Figure(value, code, LABELS[name]) for name, (value, code) in values.items()}


def _live_grid(ground: Ground, region: Floats) -> HeightGrid:
    cell = max(2 * ground.spacing, float(np.sqrt(abs(polygon.area(region)) / LIVE_CELLS)))
    grid = gridded(ground.points, *_box(region), cell)
    return filled(grid, polygon.coverage(region, grid.low, cell, grid.shape) > 0)


def _box(ring: Floats) -> tuple[Floats, Floats]:
    return ring.min(axis=0), ring.max(axis=0)
