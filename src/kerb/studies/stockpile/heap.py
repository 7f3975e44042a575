"""The geometry of one heap: which points are inside, the toe line, the top surface and the base."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import shapely

from kerb.core.arrays import Floats, Mask
from kerb.core.cloud.classes import NOISE_CLASSES
from kerb.core.cloud.filters import lacking
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.view import CloudView, Narrowing
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import plane, polygon
from kerb.core.geometry.plane import Plane
from kerb.core.progress import Progress
from kerb.core.surface.design import DesignSurface
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.surface.toe import NO_POINTS, GroundReader, Search, Toe, plane_through
from kerb.core.surface.volume import Base
from kerb.core.units import LengthUnit
from kerb.studies.stockpile.setup import StockpileSetup

FEWEST_POINTS = 10
JUMP_M = 0.3
SMALLEST_RADIUS_M = 0.15
RADIUS_SPACINGS = 5.0
BaseSource = CloudStore | DesignSurface


@dataclass(frozen=True)
class Ground:
    """Points that a heap is measured from: those inside the toe and those round it that show the ground."""

    points: Floats
    spacing: float
    unit: LengthUnit
    left_out: int = 0

    def search(self, ring: Floats) -> Search:
        """How to look at the ground along a ring of this cloud."""
        radius = max(RADIUS_SPACINGS * self.spacing, SMALLEST_RADIUS_M / self.unit.metres)
        step = max(2 * radius, polygon.perimeter(ring) / 240)
        return Search(radius=radius, step=step, jump=JUMP_M / self.unit.metres)


@dataclass(frozen=True)
class Heap:
    """A heap ready to be measured."""

    ring: Floats
    inside: Floats
    toe: Toe
    top: Tin
    base: Base
    ground: Ground


def gather(store: CloudStore, setup: StockpileSetup, unit: LengthUnit, progress: Progress) -> Ground:
    """Points of the cloud in and around the toe line, without noise classes and what is set aside.

    Raises
    ------
    NotDeterminable, when the toe lies outside the cloud or the cloud lacks the part or a filtered attribute; Cancelled.
    """
    ring = setup.ring()
    spacing = store.spacing
    margin = max(3 * RADIUS_SPACINGS * spacing, 3 * SMALLEST_RADIUS_M / unit.metres)
    outer = polygon.offset(ring, margin)[0]
    classes = setup.classes or usable_classes(store)
    missing = lacking(store, setup.only)
    if missing:
        raise NotDeterminable(f"the cloud has no attribute '{missing[0]}' to filter by")
    part = _part_number(store, setup.part)
    view = CloudView(store, Narrowing(ring=outer, classes=classes, part=part, filters=setup.only))
    points = view.points(progress)
    if not len(points):
        raise NotDeterminable("no points lie in or near the toe line")
    return Ground(points, local_spacing(points, outer, spacing), unit)


def _part_number(store: CloudStore, name: str) -> int | None:
    if name and name not in store.part_names:
        known = ", ".join(store.part_names) or "none"
        raise NotDeterminable(f"the cloud has no part '{name}'; there are: {known}")
    return store.part_names[name] if name else None


def usable_classes(store: CloudStore) -> tuple[int, ...] | None:
    """All classes but noise, or None (no narrowing) when the cloud has no noise."""
    if not store.has("classification"):
        return None
    if not set(store.present("classification")) & set(NOISE_CLASSES):
        return None
    return tuple(range(256))[:7] + tuple(c for c in range(8, 256) if c not in NOISE_CLASSES)


def local_spacing(points: Floats, ring: Floats, otherwise: float) -> float:
    """Mean spacing of the points in a ring from the area they touch, in cells of about sixteen points."""
    area = abs(polygon.area(ring))
    cell = float(np.sqrt(area / len(points)) * 4)
    if cell <= 0:
        return otherwise
    keys = np.floor((points[:, :2] - ring[:, :2].min(axis=0)) / cell).astype(np.int64)
    touched = len(np.unique(keys[:, 0] * 2_000_003 + keys[:, 1]))
    return float(np.sqrt(touched * cell**2 / len(points)))


def shape_heap(ground: Ground, setup: StockpileSetup, base_store: BaseSource | None, progress: Progress) -> Heap:
    """Toe line, top surface and base of a heap.

    Raises
    ------
    NotDeterminable, with fewer than ten points inside or no ground at the line; InputError; Cancelled.
    """
    ring = setup.ring()
    inside = ground.points[polygon.contains(ring, ground.points)]
    if len(inside) < FEWEST_POINTS:
        raise NotDeterminable(f"only {len(inside)} points lie inside the toe line, {FEWEST_POINTS} are needed")
    progress.step(0.1, "Reading the toe line")
    toe = read_toe(ground, ring, setup)
    progress.step(0.2, "Triangulating the top")
    top = triangulate(inside, _finer(toe.top_points, 3 * ground.spacing))
    progress.step(0.8, "Making the base")
    base = make_base(setup, toe, ring, base_store)
    return Heap(ring, inside, toe, top, base, ground)


def _finer(line: Floats, step: float) -> Floats:
    """The closed line (n, 3) with samples at most ``step`` apart, so that its own triangles bridge no gap."""
    pieces = []
    for start, end in zip(line, np.roll(line, -1, axis=0), strict=True):
        parts = max(1, int(np.ceil(np.hypot(*(end - start)[:2]) / step)))
        pieces.append(start + (np.arange(parts)[:, None] / parts) * (end - start))
    return np.concatenate(pieces)


def read_toe(ground: Ground, ring: Floats, setup: StockpileSetup, reader: GroundReader | None = None) -> Toe:
    """Toe line from the ground; where the base does not need it (a level, a surface), gaps in it are no error."""
    reader = reader or GroundReader(near_line(ground, ring), ground.search(ring))
    try:
        return reader.read(ring, setup.typed())
    except NotDeterminable:
        if setup.base not in ("level", "surface"):
            raise
        middle = float(np.median(ground.points[:, 2]))
        toe = reader.read(ring, dict.fromkeys(range(len(ring)), middle))
        return replace(toe, kind=np.full(len(toe.kind), NO_POINTS))


def near_line(ground: Ground, ring: Floats) -> Floats:
    """Points close enough to the line to be asked about."""
    reach = 1.5 * ground.search(ring).radius
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


def make_base(setup: StockpileSetup, toe: Toe, ring: Floats, base_store: BaseSource | None) -> Base:
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
    if base_store is None:
        raise InputError("base 'surface': the surface to stand on is not there")
    return surface_under(base_store, ring)


def lowest_toe(toe: Toe) -> float:
    """Lowest ground along the toe, robust: no lower than two neighbouring samples agree on."""
    pairs = np.maximum(toe.base, np.roll(toe.base, 1))
    return float(pairs.min())


def surface_under(store: BaseSource, ring: Floats) -> Tin:
    """Surface of another cloud or of a design under the toe line, with a margin so that it covers the line.

    Raises NotDeterminable, when there is none under the line.
    """
    if isinstance(store, DesignSurface):
        found = store.near(ring.min(axis=0), ring.max(axis=0))
        if not np.isfinite(found.at(ring)).any():
            raise NotDeterminable("the base surface does not reach under the toe line")
        return found
    margin = 5 * store.spacing + 0.05 * np.sqrt(abs(polygon.area(ring)))
    outer = polygon.offset(ring, float(margin))[0]
    points = CloudView(store, Narrowing(ring=outer, classes=usable_classes(store))).points()
    if len(points) < 3:
        raise NotDeterminable("the base surface has no points under the toe line")
    return triangulate(points)


def base_elevations(base: Base, ring: Floats, xy: Floats) -> Floats:
    """Base elevation at places; those just outside a base surface take it from the nearest place on the line."""
    z = base.at(xy)
    lost = ~np.isfinite(z)
    if isinstance(base, Plane) or not lost.any():
        return z
    line = shapely.LinearRing(ring)
    on_line = shapely.line_interpolate_point(line, shapely.line_locate_point(line, shapely.points(xy[lost])))
    z[lost] = base.at(shapely.get_coordinates(on_line))
    return z
