"""The geometry of one heap: which points are inside, the toe line, the top surface and the base."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, field, replace

import numpy as np
import scipy
import shapely

from kerb.core.arrays import Floats, Mask
from kerb.core.cloud.repeats import given_twice
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import plane, polygon
from kerb.core.geometry.area import Area
from kerb.core.geometry.plane import Plane
from kerb.core.progress import Progress
from kerb.core.sorting import by_cells
from kerb.core.surface.cloud_top import STRAY_M
from kerb.core.surface.cloud_top import strays as stray_points
from kerb.core.surface.surfaces import Surface
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.surface.toe import NO_POINTS, GroundReader, Search, Toe, plane_through
from kerb.core.surface.volume import Base
from kerb.core.units import LengthUnit
from kerb.studies.attributes import elevations
from kerb.studies.fields import COUNTED
from kerb.studies.stockpile.setup import OVER_GROUND, HeapSetup, StockpileSetup

FEWEST_POINTS = 10
JUMP_M = 0.3
JUMP_SHARE = 0.4
SMALLEST_RADIUS_M = 0.15
RADIUS_SPACINGS = 5.0
WIDTH_M = 0.3
SLACK_SPACINGS = 3.0
SLACK_M = 0.2


@dataclass(frozen=True)
class Ground:
    """Points that a heap is measured from: those inside the toe and those round it that show the ground.

    ``strays`` (k, 3) are single points far above or below the rest that were left out, ``doubles`` how many points stood at the
    very place of another and count once.
    """

    points: Floats
    spacing: float
    unit: LengthUnit
    strays: Floats = field(default_factory=lambda: np.empty((0, 3)))
    doubles: int = 0

    def search(self, ring: Floats, setup: HeapSetup) -> Search:
        """How to look at the ground along a ring of this cloud."""
        return search_of(setup, self.spacing, self.unit, polygon.perimeter(ring))


@dataclass(frozen=True)
class Heap:
    """A heap ready to be measured: ``area`` is what the toe line encloses less its holes, ``ring`` the line itself."""

    ring: Floats
    area: Area
    inside: Floats
    toe: Toe
    top: Tin
    base: Base
    ground: Ground


def line_error(setup: HeapSetup, spacing: float, unit: LengthUnit) -> float:
    """The stated bound of the toe position, else three spacings, and no less than a hand on the mouse: 0.2 m."""
    return setup.toe_error if setup.toe_error is not None else usual_error(spacing, unit)


def usual_error(spacing: float, unit: LengthUnit) -> float:
    """How far a drawn line may be off the toe: three spacings, and no less than a hand on the mouse, 0.2 m."""
    return max(SLACK_SPACINGS * spacing, SLACK_M / unit.metres)


def search_of(setup: HeapSetup, spacing: float, unit: LengthUnit, length: float = 0.0) -> Search:
    """How to look at the ground along a line of some length in a cloud of some spacing."""
    radius = max(RADIUS_SPACINGS * spacing, SMALLEST_RADIUS_M / unit.metres)
    return Search(
        radius=radius,
        step=max(2 * radius, length / 240),
        # Through a wide disc a plane cannot follow the foot of a slope: what parts two of them is no step.
        jump=max(JUMP_M / unit.metres, JUMP_SHARE * radius),
        # Not the stated bound: that says how sure the volume is, and does not move it.
        slack=usual_error(spacing, unit),
        width=max(RADIUS_SPACINGS * spacing, WIDTH_M / unit.metres),
    )


def gather(store: CloudStore, setup: StockpileSetup, unit: LengthUnit, progress: Progress) -> Ground:
    """Points of the cloud in and around the toe line, without noise classes and what is set aside.

    Raises
    ------
    NotDeterminable, when the toe lies outside the cloud or the cloud lacks the part or a filtered attribute; Cancelled.
    """
    ring = setup.ring()
    spacing = store.spacing
    outer = polygon.offset(ring, 2 * search_of(setup, spacing, unit).reach)[0]
    points = setup.cloud.of(store, outer).points(progress)
    if not len(points):
        raise NotDeterminable("no points lie in or near the toe line")
    again = given_twice(points)
    doubles = int(np.count_nonzero(again))
    points = points[~again] if doubles else points
    fine = local_spacing(points, outer, spacing)
    if setup.strays == COUNTED:
        return Ground(points, fine, unit, doubles=doubles)
    stray = stray_points(points, fine, STRAY_M / unit.metres)
    if not stray.any():
        return Ground(points, fine, unit, doubles=doubles)
    return Ground(points[~stray], fine, unit, points[stray], doubles)


def local_spacing(points: Floats, ring: Floats, otherwise: float) -> float:
    """Mean spacing of the points in a ring from the area they touch, in cells of about sixteen points."""
    area = abs(polygon.area(ring))
    cell = float(np.sqrt(area / len(points)) * 4)
    if cell <= 0:
        return otherwise
    touched = len(by_cells(points, ring[:, :2].min(axis=0), cell)[1])
    return float(np.sqrt(touched * cell**2 / len(points)))


def shape_heap(ground: Ground, setup: StockpileSetup, surface: Surface | None, progress: Progress) -> Heap:
    """Toe line, top surface and base of a heap.

    Raises
    ------
    NotDeterminable, with fewer than ten points inside or no ground at the line; InputError; Cancelled.
    """
    ring, area = setup.ring(), setup.area()
    inside = ground.points[area.contains(ground.points)]
    if len(inside) < FEWEST_POINTS:
        raise NotDeterminable(f"only {len(inside)} points lie inside the toe line, {FEWEST_POINTS} are needed")
    progress.step(0.1, "Reading the toe line")
    toe = read_toe(ground, ring, setup)
    progress.step(0.2, "Triangulating the top")
    step = 3 * ground.spacing
    holes = [_finer(_rim(hole, inside, step), step) for hole in area.holes]
    top = triangulate(inside, _finer(toe.top_points, step), holes=holes)
    progress.step(0.8, "Making the base")
    base = make_base(setup, toe, ring, surface)
    return Heap(ring, area, inside, toe, top, base, ground)


def _rim(hole: Floats, points: Floats, step: float) -> Floats:
    """The line of a hole (n, 3) at the elevation of the points round it."""
    line = polygon.along(hole, step)
    near = points[
        shapely.dwithin(shapely.LinearRing(line - line[0]), shapely.points(points[:, :2] - line[0]), 3 * step)
    ]
    if len(near) < 3:
        raise NotDeterminable("no points lie beside a hole of the toe line")
    level = np.full(len(line), np.nan)
    with suppress(NotDeterminable):
        level = triangulate(near).at(line)
    nearest = scipy.spatial.cKDTree(near[:, :2]).query(line)[1]
    return np.column_stack([line, np.where(np.isfinite(level), level, near[nearest, 2])])


def _finer(line: Floats, step: float) -> Floats:
    """The closed line (n, 3) with samples at most ``step`` apart, so that its own triangles bridge no gap."""
    pieces = []
    for start, end in zip(line, np.roll(line, -1, axis=0), strict=True):
        parts = max(1, int(np.ceil(np.hypot(*(end - start)[:2]) / step)))
        pieces.append(start + (np.arange(parts)[:, None] / parts) * (end - start))
    return np.concatenate(pieces)


def read_toe(ground: Ground, ring: Floats, setup: StockpileSetup, reader: GroundReader | None = None) -> Toe:
    """Toe line from the ground; where the base does not need it (a level, a surface), gaps in it are no error."""
    reader = reader or GroundReader(near_line(ground, ring, setup), ground.search(ring, setup))
    try:
        stated = {number: kind == OVER_GROUND for number, kind in setup.toe.stated(ring).items()}
        return reader.read(ring, setup.toe.typed(ring), stated)
    except NotDeterminable:
        if setup.base not in ("level", "surface"):
            raise
        middle = float(np.median(ground.points[:, 2]))
        toe = reader.read(ring, dict.fromkeys(range(len(ring)), middle))
        return replace(toe, kind=np.full(len(toe.kind), NO_POINTS))


def near_line(ground: Ground, ring: Floats, setup: StockpileSetup) -> Floats:
    """Points close enough to the line to be asked about."""
    reach = 1.1 * ground.search(ring, setup).reach
    close = _within_reach(ring, reach, ground.points)
    return ground.points[close]


def _within_reach(ring: Floats, reach: float, points: Floats) -> Mask:
    outer = polygon.offset(ring, reach)
    close = np.zeros(len(points), bool)
    for part in outer:
        close |= polygon.contains(part, points)
    for part in polygon.offset(ring, -reach):
        close &= ~polygon.contains(part, points)
    return close


def make_base(setup: StockpileSetup, toe: Toe, ring: Floats, surface: Surface | None) -> Base:
    """The base that the setup asks for. Raises InputError or NotDeterminable with the reason."""
    if setup.base == "toe":
        return triangulate(np.empty((0, 3)), toe.base_points)
    if setup.base == "plane":
        return plane_through(toe)
    if setup.base == "lowest":
        return plane.level(lowest_toe(toe))
    if setup.base == "level":
        assert setup.level is not None
        return plane.level(setup.level)
    if surface is None:
        raise InputError("base 'surface': the surface to stand on is not there")
    return surface_under(surface, ring)


def lowest_toe(toe: Toe) -> float:
    """Lowest ground along the toe, robust: no lower than two neighbouring samples agree on."""
    pairs = np.maximum(toe.base, np.roll(toe.base, 1))
    return float(pairs.min())


def surface_under(surface: Surface, ring: Floats) -> Tin:
    """Surface under a toe line. Raises NotDeterminable, when there is none under the line."""
    try:
        found = surface.tin(ring.min(axis=0), ring.max(axis=0))
    except NotDeterminable:
        raise NotDeterminable("the base surface has no points under the toe line") from None
    if not np.isfinite(found.at(ring)).any():
        raise NotDeterminable("the base surface does not reach under the toe line")
    return found


def base_elevations(base: Base, ring: Floats, xy: Floats) -> Floats:
    """Base elevation at places; those just outside a base surface take it from the nearest place on the line."""
    return base.at(xy) if isinstance(base, Plane) else elevations(base, ring, xy)
