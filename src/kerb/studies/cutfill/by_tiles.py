"""Cut and fill of clouds too large for one triangulation: tile by tile, each with the points round it, so that the triangles
inside a tile are those of the whole."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import numpy as np
import shapely

from kerb.core.arrays import Floats
from kerb.core.errors import NotDeterminable
from kerb.core.geometry.area import Area
from kerb.core.geometry.polygon import box
from kerb.core.progress import Progress
from kerb.core.surface.cloud_top import rim_edge
from kerb.core.surface.cutting import cut_to
from kerb.core.surface.overlay import Change, change, covered, mask_of
from kerb.core.surface.surfaces import CloudTop, Surface
from kerb.core.surface.tin import Tin

# Points of the larger cloud to a tile: two triangulations of it take some hundreds of megabytes.
TILE_POINTS = 1_500_000


@dataclass(frozen=True)
class Tiled:
    """Two surfaces asked for tile by tile: ``surfaces`` are the earlier and the later, a level as its triangles; ``lower`` takes
    out of a later one what stable ground says; triangles of clouds with an edge over ``longest`` are left out."""

    surfaces: tuple[Surface | Tin, Surface | Tin]
    low: Floats
    high: Floats
    count: int
    lower: Callable[[Tin], Tin]
    longest: float | None = None

    def tiles(self) -> Iterator[tuple[Floats, Floats]]:
        """Corners (2,) of the tiles that cover the plan box, row by row."""
        size = self.high - self.low
        many = max(1, -(-self.count // TILE_POINTS))
        across = max(1, round(float(np.sqrt(many * size[0] / max(size[1], 1e-9)))))
        sides = np.array([across, max(1, -(-many // across))])
        step = size / sides
        for row in range(sides[1]):
            for column in range(sides[0]):
                at = np.array([column, row])
                yield self.low + at * step, self.low + (at + 1) * step

    def changed(self, area: Area | None, band: float, progress: Progress) -> tuple[Change, list[float]]:
        """What changed inside an area, or everywhere, and the plan area of each surface there. Raises Cancelled."""
        sums, sizes = np.zeros(6), np.zeros(2)
        tiles = list(self.tiles())
        surfaces = [_with_rim(surface, tiles[len(tiles) // 2]) for surface in self.surfaces]
        for number, (low, high) in enumerate(tiles):
            progress.step(number / len(tiles), f"Tile {number + 1} of {len(tiles)}")
            parts = _parts_of(area, low, high)
            if not parts:
                continue
            tins = [self._tin_of(surface, low, high) for surface in surfaces]
            if tins[1] is not None:
                tins[1] = self.lower(tins[1])
            if area is None:
                # Cut once: to clip every piece to the tile would take twice as long.
                tins = [_cut(tin, parts) for tin in tins]
                sizes += [0.0 if tin is None else tin.plan_area for tin in tins]
                sums += _changed(tins, None, band)
                continue
            for part in parts:
                mask = mask_of(part)
                sizes += [0.0 if tin is None else covered(tin, mask) for tin in tins]
                sums += _changed(tins, mask, band)
        return Change(*sums.tolist()), sizes.tolist()

    def _tin_of(self, surface: Surface | Tin, low: Floats, high: Floats) -> Tin | None:
        if isinstance(surface, Tin):
            return surface
        try:
            tin = surface.tin(low, high)
        except NotDeterminable:
            return None
        long = self.longest is not None and isinstance(surface, CloudTop)
        return tin.compact(tin.longest_edges <= self.longest) if long else tin


def _cut(tin: Tin | None, parts: list[Area]) -> Tin | None:
    try:
        return None if tin is None else cut_to(tin, parts, welded=False)
    except NotDeterminable:
        return None


def _changed(tins: list[Tin | None], mask: Tin | None, band: float) -> Floats:
    """What changed between two surfaces as numbers in the order of :class:`Change`; 0 where one is missing."""
    earlier, later = tins
    if earlier is None or later is None:
        return np.zeros(6)
    one = change(earlier, later, mask, band)
    return np.array([one.fill, one.cut, one.fill_area, one.cut_area, one.area, one.same_area])


def _with_rim(surface: Surface | Tin, tile: tuple[Floats, Floats]) -> Surface | Tin:
    """A cloud with one longest edge along its rim for all tiles: that of a tile in its middle."""
    if not isinstance(surface, CloudTop) or surface.longest is not None:
        return surface
    try:
        return replace(surface, longest=rim_edge(surface.tin(*tile)))
    except NotDeterminable:
        return surface


def _parts_of(area: Area | None, low: Floats, high: Floats) -> list[Area]:
    """The parts of an area inside a tile; the tile itself where there is no area."""
    if area is None:
        return [Area((tuple(map(tuple, box(low, high).tolist())),))]
    corner = area.outline[0]
    shape = shapely.transform(area.shape, lambda xy: xy - corner)
    cut = shapely.clip_by_rect(shape, *(low - corner), *(high - corner))
    found = [part for part in Area.of(shapely.transform(cut, lambda xy: xy + corner)) if len(part.outline) > 2]
    return [part for part in found if part.size > 0]
