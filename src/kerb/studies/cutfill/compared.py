"""The two surfaces of cut and fill made ready: as triangles over where they are asked about, exchanged, a level, what is
taken out."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import shapely

from kerb.core.arrays import Floats, ends
from kerb.core.cloud.view import CloudView
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import polygon
from kerb.core.geometry.area import Area, inside_any
from kerb.core.once import Once
from kerb.core.progress import Progress
from kerb.core.quantity import quantity
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.surface.grid import centres_of, shape_over
from kerb.core.surface.making import MOST_VERTICES
from kerb.core.surface.outline import outline
from kerb.core.surface.roughness import roughness
from kerb.core.surface.stable import Stable, stable_ground
from kerb.core.surface.surfaces import CloudTop, Surface, TinSurface
from kerb.core.surface.tin import Tin
from kerb.core.things import CLOUD, MODEL
from kerb.studies.cutfill.by_tiles import Tiled
from kerb.studies.cutfill.setup import AUTOMATIC, DESIGNS, KEEP, PLANE, REFUSE, CutfillSetup
from kerb.studies.fields import COUNTED
from kerb.studies.scope import Scope
from kerb.studies.sources import Source, Sources

# Vertices that depart from the plane through their neighbours by less than this share of their spacing are those of a design.
PLANAR = 1e-4
STABLE_PLACES = 200_000
# Points of a cloud that is too large for one triangulation which its pictures and its bound are made of.
MOST_SAMPLE = 2_000_000
# Two surveys never end at just the same rim: less than this share of what both cover is not worth a note.
RIM_SHARE = 0.005


@dataclass(frozen=True)
class Compared:
    """Both surfaces; what each is called; the level where one of them is one; what stable ground said and what was taken out;
    and which of them are measured: a level or a design has neither noise nor anything between its vertices. Of clouds too large
    for one triangulation both are those of a fair sample, and ``tiled`` gives volumes of all points."""

    earlier: Tin
    later: Tin
    names: tuple[str, str]
    level: float | None = None
    stable: Stable | None = None
    taken_out: bool = False
    measured: tuple[bool, bool] = (True, True)
    tiled: Tiled | None = None

    @Once
    def outlines(self) -> list[Any]:
        """What each covers in plan, counted from the origin of the earlier one; None for one that is torn all over."""
        return [outline(tin, self.earlier.origin[:2]) for tin in (self.earlier, self.later)]

    def ground(self, area: Area | None, low: Floats) -> Any | None:
        """What both cover, within an area where there is one, counted from ``low`` (2,); None where an outline is not known."""
        if any(one is None for one in self.outlines):
            return None
        found = self.outlines[0].intersection(self.outlines[1])
        shift = self.earlier.origin[:2] - low
        found = shapely.transform(found, lambda xy: xy + shift)
        return found if area is None else found.intersection(shapely.transform(area.shape, lambda xy: xy - low))

    def difference(self, xy: Floats) -> Floats:
        """Later minus earlier at (n, 2) places."""
        return self.later.at(xy) - self.earlier.at(xy)


def compared(setup: CutfillSetup, sources: Sources, progress: Progress) -> Compared:
    """Read and triangulate both. Raises InputError, when there are too many points or they do not meet; NotDeterminable."""
    asked = [setup.earlier] if setup.level is not None else [setup.earlier, setup.later]
    fields = ("earlier", "later")[: len(asked)]
    areas = [*setup.named_areas(), *setup.named_areas("stable")]
    low, high = _box(setup, sources, areas)
    tins: list[Tin] = []
    surfaces: list[Surface | Tin] = []
    measured, most = [], 0
    for number, (name, scope) in enumerate(zip(fields, asked, strict=True)):
        progress.step(0.1 + 0.4 * number, f"Triangulating {sources.source(name).name}")
        surface = _surface(name, scope, sources, setup)
        count = _points_in(surface, (low, high))
        most = max(most, count)
        surfaces.append(surface)
        tins.append(
            _tin(surface, sources.source(name).name, (low, high), setup, MOST_SAMPLE if count > MOST_VERTICES else 0)
        )
        measured.append(name not in DESIGNS[setup.design] and not _is_design(setup, sources.source(name), tins[-1]))
    names = [sources.source(name).name for name in fields]
    if setup.level is not None:
        tins.append(_level(tins[0], setup.level))
        names.append(f"level {setup.level:g}")
        measured.append(False)
        surfaces.append(tins[1])
    if setup.exchanged:
        tins, names, measured, surfaces = tins[::-1], names[::-1], measured[::-1], surfaces[::-1]
    found = Compared(tins[0], tins[1], (names[0], names[1]), setup.level, measured=(measured[0], measured[1]))
    if most > MOST_VERTICES:
        found = replace(found, tiled=Tiled((surfaces[0], surfaces[1]), low, high, most, lambda tin: tin, setup.longest))
    grounds = setup.named_areas("stable")
    if not grounds or setup.level is not None:
        return found
    stable = stable_of(found, grounds)
    found = replace(found, stable=stable)
    if setup.take_out == KEEP:
        return found

    def lowered(tin: Tin) -> Tin:
        vertices = tin.vertices.copy()
        vertices[:, 2] -= stable.at(tin.points[:, :2], setup.take_out == PLANE)
        return replace(tin, vertices=vertices)

    tiled = replace(found.tiled, lower=lowered) if found.tiled is not None else None
    return replace(found, later=lowered(found.later), taken_out=True, tiled=tiled)


def extent(found: Compared, area: Area | None) -> tuple[Floats, Floats]:
    """The plan box of an area, else of what both surfaces may cover."""
    if area is not None:
        return area.outline.min(axis=0), area.outline.max(axis=0)
    boxes = [ends(tin.vertices[:, :2] + tin.origin[:2]) for tin in (found.earlier, found.later)]
    return np.maximum(boxes[0][0], boxes[1][0]), np.minimum(boxes[0][1], boxes[1][1])


def difference_grid(found: Compared, areas: list[Area], box: tuple[Floats, Floats], cell: float) -> ElevationGrid:
    """Later minus earlier at the middle of square cells over a plan box, NaN outside of areas where there are any.

    Raises InputError, when there would be too many cells.
    """
    low, high = box
    shape = shape_over(low, high, cell)
    centres = centres_of(low, cell, shape)
    dz = found.difference(centres)
    if areas:
        dz[~inside_any(tuple(areas), centres)] = np.nan
    top = float(low[1]) + shape[0] * cell
    return ElevationGrid(dz.reshape(shape)[::-1], (cell, 0.0, float(low[0]), 0.0, -cell, top))


def stable_of(found: Compared, grounds: list[Area]) -> Stable:
    """What stable ground says, at places of an even lattice in it. Raises NotDeterminable."""
    places = [np.empty((0, 2))]
    total = sum(area.size for area in grounds)
    step = np.sqrt(total / STABLE_PLACES)
    for area in grounds:
        low, high = area.outline.min(axis=0), area.outline.max(axis=0)
        across = max(float(step), float((high - low).max()) / 400)
        grid = centres_of(low, across, shape_over(low, high, across))
        places.append(grid[area.contains(grid)])
    xy = np.concatenate(places)
    return stable_ground(xy, found.difference(xy))


def _box(setup: CutfillSetup, sources: Sources, areas: list[Area]) -> tuple[Floats, Floats]:
    """The plan box that is looked at: of the areas, else where both lie."""
    if setup.named_areas():
        rings = np.concatenate([area.outline for area in areas])
        return rings.min(axis=0), rings.max(axis=0)
    bounds = [sources.surface("earlier", setup.earlier).bounds]
    if setup.level is None:
        bounds.append(sources.surface("later", setup.later).bounds)
    low, high = (np.array([corner[k][:2] for corner in bounds]) for k in (0, 1))
    if len(bounds) == 2 and np.any(low.max(axis=0) >= high.min(axis=0)):
        one, other = (sources.source(name).name for name in ("earlier", "later"))
        raise InputError(f"{one} and {other} do not lie above one another: is the system or unit of one of them wrong?")
    # What only one of them covers is counted too.
    return low.min(axis=0), high.max(axis=0)


def _is_design(setup: CutfillSetup, source: Source, tin: Tin) -> bool:
    """Whether a surface is taken for a design by itself: a model, or triangles that follow planes."""
    if setup.design != AUTOMATIC or source.kind == CLOUD:
        return False
    if source.kind == MODEL:
        return True
    sigma, spacing = roughness(tin)
    return sigma < PLANAR * spacing


def _one_sheet(surface: Surface, setup: CutfillSetup, source: Source, unit: str) -> Surface:
    """A surface with one elevation a place. Raises InputError, where sheets lie over one another and none was chosen."""
    if not isinstance(surface, TinSurface) or surface.folded is None:
        return surface
    if setup.sheet == REFUSE:
        east, north = surface.folded.place
        raise InputError(
            f"{source.name}: on {quantity(surface.folded.area, unit + '2')} its triangles lie over one another (such as at "
            f"{east:.2f} E {north:.2f} N): choose the top or the bottom sheet (--sheet top or bottom)"
        )
    return surface.from_side(setup.sheet)


def _surface(name: str, scope: Scope, sources: Sources, setup: CutfillSetup) -> Surface:
    surface = sources.surface(name, scope, setup.strays == COUNTED, setup.longest)
    return _one_sheet(surface, setup, sources.source(name), sources.unit.code)


def _points_in(surface: Surface, box: tuple[Floats, Floats]) -> int:
    """How many points of a cloud lie in a plan box; 0 for anything else."""
    if not isinstance(surface, CloudTop):
        return 0
    view = surface.view
    if view.store.count <= MOST_VERTICES:
        return view.store.count
    return CloudView(view.store, replace(view.narrowing, ring=polygon.box(*box))).count()


def _tin(surface: Surface, name: str, box: tuple[Floats, Floats], setup: CutfillSetup, sample: int) -> Tin:
    """The triangles in a plan box; of a cloud those of a fair sample of some points, where a number is given."""
    longest = setup.longest
    try:
        tin = surface.sampled(sample) if sample and isinstance(surface, CloudTop) else surface.tin(*box)
    except NotDeterminable as error:
        raise NotDeterminable(f"{name}: {error}") from None
    if longest is not None and isinstance(surface, CloudTop):
        tin = tin.compact(tin.longest_edges <= longest)
    return tin


def _level(beside: Tin, level: float) -> Tin:
    """A level over all that another surface covers."""
    points = beside.points
    corners = np.column_stack([polygon.box(points.min(axis=0) - 1.0, points.max(axis=0) + 1.0), np.full(4, level)])
    return Tin.of(corners, np.array([[0, 1, 2], [0, 2, 3]], np.int32))
