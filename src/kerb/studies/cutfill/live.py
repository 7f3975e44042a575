"""Cut and fill while something is dragged: columns of a grid that was read once."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import NotDeterminable
from kerb.core.geometry.area import Area
from kerb.core.progress import silent
from kerb.core.surface.grid import centres_of, shape_over
from kerb.core.surface.outline import cell_shares
from kerb.core.surface.overlay import Change, by_columns
from kerb.studies.cutfill.compared import Compared, compared, extent
from kerb.studies.cutfill.figures import added
from kerb.studies.cutfill.setup import CutfillSetup
from kerb.studies.outcome import Figure, Outcome
from kerb.studies.sources import Sources

CELLS = 250_000


class LiveCutfill:
    """Both surfaces read at the cells of a grid over all that they share."""

    def __init__(self, setup: CutfillSetup, sources: Sources) -> None:
        self.asked, self.unit = setup, sources.unit
        # Areas are laid over what is read: it is read everywhere. Moving a level moves the difference by as much.
        found = compared(replace(setup, areas=(), level=0.0 if setup.level is not None else None), sources, silent())
        self.crs = sources.surface("earlier", setup.earlier).reference.code
        self.low, high = extent(found, None)
        self.cell = float(np.sqrt(np.prod(np.maximum(high - self.low, 1e-9)) / CELLS))
        self.shape = shape_over(self.low, high, self.cell)
        self.dz, self.share = self._read(found)

    def _read(self, found: Compared) -> tuple[Floats, Floats]:
        """The difference in the middle of what both cover of each cell, and that share of it."""
        ground = found.ground(None, self.low)
        if ground is None:
            dz = found.difference(centres_of(self.low, self.cell, self.shape)).reshape(self.shape)
            return dz, np.ones(self.shape)
        share, middle = cell_shares(ground, np.zeros(2), self.cell, self.shape)
        return found.difference(middle.reshape(-1, 2) + self.low).reshape(self.shape), share

    def covers(self, setup: CutfillSetup) -> bool:
        """As long as the same two are compared in the same way."""
        same = ("earlier", "later", "exchanged", "stable", "take_out", "longest", "sheet")
        return all(getattr(setup, name) == getattr(self.asked, name) for name in same) and (setup.level is None) == (
            self.asked.level is None
        )

    def answer(self, setup: CutfillSetup) -> Outcome:
        """The figures by columns. Raises InputError or NotDeterminable."""
        setup.check()
        dz, areas = self.dz, setup.named_areas()
        if setup.level is not None:
            dz = dz + (-setup.level if setup.exchanged else setup.level)
        asked: list[Area | None] = [*areas] or [None]
        found = added([self._one(dz, one, setup.detect or 0.0) for one in asked])
        if found.area <= 0:
            raise NotDeterminable("the two surfaces share no ground here")
        volume, area = self.unit.volume_code(), self.unit.area_code()
        figures = {
            "net": Figure(found.net, volume, "Net: fill − cut"), "fill": Figure(found.fill, volume, "Fill"),
            "cut": Figure(found.cut, volume, "Cut"), "fill_area": Figure(found.fill_area, area, "Area of fill"),
            "cut_area": Figure(found.cut_area, area, "Area of cut"),
        }  # fmt: skip
        return Outcome("cutfill", self.unit.code, self.crs, figures, {}, live=True)

    def _one(self, dz: np.ndarray, area: Area | None, band: float) -> Change:
        rows, columns = slice(0, self.shape[0]), slice(0, self.shape[1])
        low = self.low
        if area is not None:
            first = np.clip(
                np.floor((area.outline.min(axis=0) - self.low) / self.cell).astype(int), 0, self.shape[::-1]
            )
            last = np.clip(np.ceil((area.outline.max(axis=0) - self.low) / self.cell).astype(int), 0, self.shape[::-1])
            rows, columns = slice(first[1], last[1]), slice(first[0], last[0])
            low = self.low + first * self.cell
        part = dz[rows, columns]
        share = self.share[rows, columns]
        if area is not None and part.size:
            share = share * area.coverage(low, self.cell, part.shape)
        some = share > 0
        return by_columns(part[some], share[some] * self.cell**2, band)


def ready(setup: CutfillSetup, sources: Sources) -> LiveCutfill:
    """Read what live answers need."""
    return LiveCutfill(setup, sources)
