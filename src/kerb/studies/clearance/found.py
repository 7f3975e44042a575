"""Clearances made ready to be told: the road, what hangs over it, the lowest of each cell, lane and place, and what is
uncertain."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np
import scipy

from kerb.core.arrays import Floats, Ints, Mask, ends
from kerb.core.clearance.beams import Beams, beams_of
from kerb.core.clearance.envelope import Passage
from kerb.core.clearance.over import COMPANIONS, Lowest, heights_over, lowest_by_cell, standing, supports
from kerb.core.clearance.road import Road, road_in, road_of
from kerb.core.clearance.wires import Wire, wires_in
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.area import Area, inside_any
from kerb.core.once import Once
from kerb.core.progress import Progress
from kerb.core.units import LengthUnit
from kerb.studies.clearance.setup import COUNTED, FITTED, SQUARE, ClearanceSetup
from kerb.studies.sources import Sources

# The road is read at nodes so far apart (m) and carried over gaps so wide (m); what is lower over it is road (m).
ROAD_NODES_M, ROAD_GAP_M, ROAD_TOP_M = 0.2, 4.0, 0.15
WIDTHS, LEAST_M, NEAR_M, NEAR_SPACINGS = 2.0, 2.0, 0.1, 4.0
# Above is taken for below where more than this share of it lies under the road.
EXCHANGED = 0.5
# Noise is told from so many places of each of some patches of so many points, by so many neighbours; what is next to the lowest
# place lies within so many reaches of strays.
PROBES, PATCHES, PATCH, NEIGHBOURS, PROBE = 100, 5, 40_000, 12, 4.0
# Cubes (m) in which points are thinned before the shortest distance is looked for, and how many pairs are looked at again.
CUBE_M = 0.1
# Wires are looked for in no more points than this.
MOST_FOR_WIRES = 3_000_000


@dataclass(frozen=True)
class Found:
    """What was found. ``points`` (n, 3) hang over the road, ``rows`` (n,) are theirs in the cloud, ``height`` (n,) over the road;
    ``walls`` (m, 3) are points beside and under them that are no road. ``lowest`` is by cell, on a grid of ``shape`` from
    ``low``, ``cells`` (k, 2) column and row of each; ``open`` (k,) those that no support stands in."""

    setup: ClearanceSetup
    unit: LengthUnit
    road: Road
    points: Floats
    rows: Ints
    height: Floats
    lowest: Lowest
    low: Floats
    cells: Ints
    open: Mask
    uncovered: float
    near: float
    walls: Floats
    below: Floats
    up: Floats
    stands: Floats
    off_road: Floats
    beams: Beams
    lanes: list[Area] = field(default_factory=list)
    wires: list[Wire] = field(default_factory=list)
    passage: Passage | None = None

    @property
    def rows_lowest(self) -> Ints:
        """Rows among the points of the lowest of each cell that counts."""
        return self.lowest.rows[self.open]

    @property
    def best(self) -> int:
        """Row of the lowest of all. There is one."""
        rows = self.rows_lowest
        return int(rows[np.argmin(self.height[rows])])

    @Once
    def noise(self) -> float:
        """Standard deviation of the points above about the plane through their nearest neighbours, the median of many places;
        0 where it cannot be told. Rows of a cloud follow its tiles, so that a stretch of them is a patch of it."""
        if len(self.points) < 4 * NEIGHBOURS:
            return 0.0
        firsts = np.linspace(0, max(len(self.points) - PATCH, 0), PATCHES if len(self.points) > PATCH else 1).astype(
            int
        )
        least = []
        for first in firsts.tolist():
            some = self.points[first : first + PATCH]
            _, near = scipy.spatial.cKDTree(some).query(some[:: max(1, len(some) // PROBES)], k=NEIGHBOURS, workers=-1)
            off = some[near] - some[near].mean(axis=1, keepdims=True)
            least.append(np.linalg.eigvalsh(np.einsum("nki,nkj->nij", off, off) / (NEIGHBOURS - 3))[:, 0])
        return float(np.sqrt(np.median(np.maximum(np.concatenate(least), 0.0))))

    @Once
    def u95(self) -> float:
        """95 % bound of the lowest clearance: noise above and below, what may hang lower between points, how the road bends,
        registration.

        The lowest of many noisy points lies low by some √(2 ln n) of their noise.
        """
        rows = self.rows_lowest
        noise = self.noise * np.sqrt(2 * np.log(max(len(rows), 2)))
        road = 0.0 if not np.isfinite(self.road.noise) else 1.96 * self.road.noise
        bend = float(self.road.bend(self.points[[self.best], :2])[0])
        return float(np.sqrt(noise**2 + road**2 + self.between**2 + bend**2 + self.setup.registration_error**2))

    @Once
    def between(self) -> float:
        """How much lower a place between points may be: half of what the points next to the lowest one stand higher."""
        place = self.points[self.best]
        near = _about(self.points, place, PROBE * self.near)
        if len(near) < 3:
            return 0.5 * self.near
        apart = np.linalg.norm(self.points[near] - place, axis=1)
        beside = near[np.argsort(apart, kind="stable")[1:7]]
        return float(0.5 * np.median(np.abs(self.points[beside, 2] - place[2])))

    @Once
    def nearest(self) -> float:
        """The shortest distance in space between what hangs and what is below."""
        return nearest_between(self)

    def posted(self, value: float | None) -> float | None:
        """What may be posted for a lowest clearance: less its bound and the margin, rounded down to the step."""
        if value is None:
            return None
        step = self.setup.posted_step
        return float(np.floor((value - self.u95 - self.setup.margin) / step + 1e-9) * step)


def asked_again(found: Found, setup: ClearanceSetup) -> Found:
    """The same with other lanes, places and requirements; what does not follow from these is kept. Raises InputError."""
    made = replace(found, setup=setup, lanes=setup.lane_areas())
    for name in ("noise", "between", "nearest"):
        made.__dict__[name] = getattr(found, name)
    return made


def find(setup: ClearanceSetup, sources: Sources, progress: Progress) -> Found:
    """Find the road and what hangs over it. Raises InputError; NotDeterminable; Cancelled."""
    store, unit = sources.store("above"), sources.unit
    metre = 1.0 / unit.metres
    view = setup.above.of(store)
    rows = view.all_rows(progress.within(0.0, 0.05))
    points = store.coordinates(rows)
    if len(points) < 3:
        raise NotDeterminable("too few points above")
    road, below, up = _road(setup, sources, points, metre, progress.within(0.05, 0.3))
    progress.step(0.3, "Heights over the road")
    height = heights_over(points, road, setup.measure == SQUARE)
    one = one_cloud(setup, sources)
    keep, stands, off_road = _over(setup, points, height, metre, one)
    walls = _beside(setup, points[keep], up)
    if setup.gone():
        keep &= ~inside_any(setup.gone(), points)
    limit = np.inf if setup.most is None else setup.most
    if not (keep & (height <= limit)).any():
        if not keep.any():
            raise NotDeterminable("no points above the road")
        least = float(height[keep].min())
        raise NotDeterminable(
            f"no points within {limit:g} {unit.symbol} above the road; the lowest is {least:.3f} {unit.symbol}"
        )
    keep &= height <= limit
    points, rows, height = points[keep], rows[keep], height[keep]
    near = setup.stray_radius or max(NEAR_M * metre, NEAR_SPACINGS * store.spacing)
    progress.step(0.4, "Looking for the lowest")
    lowest = _lowest(setup, points, height, near)
    if len(walls):
        walls = walls[~_among(walls, points[lowest.strays])]
    low = ends(points[:, :2])[0]
    cells = np.floor((points[lowest.rows, :2] - low) / setup.cell).astype(np.int64)
    least = setup.least if setup.least is not None else (LEAST_M * metre if one else 0.0)
    taken = supports(points, height, low, setup.cell, least) if least > 0 else set()
    open_ = np.array([(int(a), int(b)) not in taken for a, b in cells], bool)
    if not open_.any():
        raise NotDeterminable("only supports or isolated points above the road")
    progress.step(0.8, "Looking for wires and beams")
    wires = wires_in(points, metre) if setup.wires == FITTED and len(points) <= MOST_FOR_WIRES else []
    thin = np.zeros(len(points), bool)
    for wire in wires:
        thin[wire.rows] = True
    solid = open_ & ~thin[lowest.rows]
    beams = _beams(points, lowest.rows[solid], cells[solid], setup.cell, metre)
    out = np.floor(off_road[:, :2] / setup.cell).astype(np.int64)
    uncovered = len(np.unique(out, axis=0)) * setup.cell**2 if len(out) else 0.0
    return Found(setup, unit, road, points, rows, height, lowest, low, cells, open_, uncovered, near, walls, below, up, stands,
                 off_road, beams, setup.lane_areas(), wires)  # fmt: skip


def one_cloud(setup: ClearanceSetup, sources: Sources) -> bool:
    """Whether what is above is a whole scan with the road in it."""
    if setup.by_itself:
        return True
    below = sources.items.get("below")
    return below is not None and below.store is sources.store("above") and not setup.above.narrow


def _road(
    setup: ClearanceSetup, sources: Sources, points: Floats, metre: float, progress: Progress
) -> tuple[Road, Floats, Floats]:
    """The road, the points of the cloud below that it was found in, and those of them that stand up from it."""
    none = np.empty((0, 3))
    nodes, gap = ROAD_NODES_M * metre, ROAD_GAP_M * metre
    seed = setup.road.xy[0] if setup.road.xy else None
    at = (float(seed[0]), float(seed[1])) if seed is not None else None
    low, high = ends(points)
    if setup.by_itself:
        wide = max(nodes, WIDTHS * sources.store("above").spacing)
        return road_in(points, wide, gap, metre, at)[0], none, none
    if setup.level is not None and not setup.below.holding:
        level = setup.level
        wide = max(nodes, float((high - low)[:2].max()) / 500)
        return road_of(lambda xy: np.full(len(xy), level), low, high, wide), none, none
    source = sources.source("below")
    if source.store is not None:
        below = setup.below.of(source.store).points(progress)
        if len(below) < 3:
            raise NotDeterminable("too few points below")
        road, up = road_in(below, max(nodes, WIDTHS * source.store.spacing), gap, metre, at)
        return road, below, below[up]
    surface = sources.surface("below", setup.below)
    first, last = surface.bounds
    start, end = np.maximum(low[:2], first[:2]) - nodes, np.minimum(high[:2], last[:2]) + nodes
    if np.any(end <= start):
        raise InputError("above and below do not overlap in plan")
    return road_of(surface.at, start, end, max(nodes, float((end - start).max()) / 3000)), none, none


def _over(
    setup: ClearanceSetup, points: Floats, height: Floats, metre: float, one: bool
) -> tuple[Mask, Floats, Floats]:
    """Which points hang over the road; those of what stands on it; and those that have no road under them."""
    known = np.isfinite(height)
    if not known.any():
        raise InputError("above and below do not overlap in plan")
    if not one:
        under = float(np.mean(height[known] < 0))
        if under > EXCHANGED:
            raise InputError(
                f"{100 * under:.0f} % of the points above lie below the road: above and below are exchanged"
            )
        return known & (height > 0), np.empty((0, 3)), points[~known]
    free = known & (height > ROAD_TOP_M * metre)
    stands = np.zeros(len(points), bool)
    if setup.standing != COUNTED and free.any():
        at = np.flatnonzero(free)
        stands[at] = standing(points[at], height[at], metre)
    return free & ~stands, points[stands], np.empty((0, 3))


def _beside(setup: ClearanceSetup, over: Floats, up: Floats) -> Floats:
    """Points that an envelope may meet: all that hangs, and what stands beside the road."""
    return np.concatenate([over, up]) if setup.envelope else np.empty((0, 3))


def _lowest(setup: ClearanceSetup, points: Floats, height: Floats, near: float) -> Lowest:
    return lowest_by_cell(points, height, setup.cell, near, 0 if setup.strays == COUNTED else COMPANIONS)


def lowest_within(found: Found, inside: Ints) -> int:
    """The lowest that counts among the rows that are asked for, -1 where there is none."""
    if not len(inside):
        return -1
    own = found.points[inside, :2]
    middle, half = (own.min(axis=0) + own.max(axis=0)) / 2, np.ptp(own, axis=0) / 2
    # What lies beside keeps a point company but is not asked for.
    around = _about(found.points, middle, half + found.near)
    height = np.where(np.isin(around, inside, assume_unique=True), found.height[around], np.inf)
    lowest = _lowest(found.setup, found.points[around], height, found.near)
    good = np.isfinite(lowest.height)
    if not good.any():
        return -1
    rows = lowest.rows[good]
    return int(around[rows[np.argmin(lowest.height[good])]])


def near_place(found: Found, place: Floats, open_: Mask) -> Ints:
    """Rows of the points within the radius of a place (2,), in cells that no support stands in."""
    rows = _about(found.points, place, np.full(2, found.setup.radius))
    rows = rows[np.hypot(*(found.points[rows, :2] - place).T) <= found.setup.radius]
    return rows[open_[rows]]


def in_open_cells(found: Found) -> Mask:
    """Which points lie in cells that no support stands in."""
    shut = found.cells[~found.open]
    if not len(shut):
        return np.ones(len(found.points), bool)
    places = np.floor((found.points[:, :2] - found.low) / found.setup.cell).astype(np.int64)
    wide = int(places[:, 0].max()) + 1
    return ~np.isin(places[:, 1] * wide + places[:, 0], shut[:, 1] * wide + shut[:, 0])


def _beams(points: Floats, rows: Ints, cells: Ints, cell: float, metre: float) -> Beams:
    if not len(cells):
        return Beams(np.zeros((0, 0), np.int32), ())
    under = np.full(tuple((cells.max(axis=0) + 1)[::-1]), np.nan)
    under[cells[:, 1], cells[:, 0]] = points[rows, 2]
    return beams_of(under, cell, metre)


def nearest_between(found: Found) -> float:
    """The shortest distance in space between what hangs and what is below: the road, and all that stands up from it.

    The road is a plane about the foot of each low place; where that is nearest, single points above and below decide.
    """
    rows = found.rows_lowest
    over = found.points[rows]
    rise = found.road.rise(over[:, :2])
    straight = over[:, 2] - found.road.at(over[:, :2])
    apart = straight / np.sqrt(1 + (rise**2).sum(axis=1))
    at = int(np.nanargmin(apart))
    best = float(apart[at])
    if not len(found.below):
        return best
    foot = over[at, :2] + apart[at] * rise[at] / np.sqrt(1 + (rise[at] ** 2).sum())
    closest = _closest(found, over[at], foot)
    best = closest if np.isfinite(closest) else best
    low, high = ends(over[:, :2])
    standing_up = found.up[np.all((found.up[:, :2] >= low - best) & (found.up[:, :2] <= high + best), axis=1)]
    if len(standing_up):
        kept = np.ones(len(found.points), bool)
        kept[found.lowest.strays] = False
        all_over = found.points[kept]
        thin = all_over[_thinned(all_over, CUBE_M / found.unit.metres)]
        away, _ = scipy.spatial.cKDTree(standing_up).query(thin, distance_upper_bound=best, workers=-1)
        near = thin[away < np.inf]
        if len(near):
            room = np.sqrt(3) * CUBE_M / found.unit.metres
            close = all_over[_within(all_over, near, room)]
            best = min(best, float(np.min(scipy.spatial.cKDTree(standing_up).query(close, workers=-1)[0])))
    return best


def _about(points: Floats, place: Floats, room: Floats | float) -> Ints:
    """Rows of the points that lie in a box about a place, by as many coordinates as it has."""
    wide = np.broadcast_to(room, (len(place),))
    rows = np.flatnonzero(np.abs(points[:, 0] - place[0]) <= wide[0])
    for axis in range(1, len(place)):
        rows = rows[np.abs(points[rows, axis] - place[axis]) <= wide[axis]]
    return rows


def _closest(found: Found, place: Floats, foot: Floats) -> float:
    """The shortest distance between single points about a place above and about its foot on the road; inf where there are
    none."""
    room = PROBE * found.near + found.road.spacing
    over = found.points[_about(found.points, place, room)]
    under = found.below[_about(found.below, foot, room)]
    strays = found.points[found.lowest.strays]
    over = over[~_among(over, strays)]
    if not len(over) or not len(under):
        return np.inf
    return float(np.min(scipy.spatial.cKDTree(under).query(over)[0]))


def _among(points: Floats, others: Floats) -> Mask:
    """Which points (n, 3) are at the places of others."""
    if not len(others):
        return np.zeros(len(points), bool)
    return np.asarray(scipy.spatial.cKDTree(others).query(points, distance_upper_bound=1e-9)[0] == 0)


def _thinned(points: Floats, cube: float) -> Ints:
    """One row of each cube that holds points."""
    place = np.floor((points - points.min(axis=0)) / cube).astype(np.int64)
    wide, deep = (place.max(axis=0) + 1)[:2].tolist()
    return np.unique((place[:, 2] * deep + place[:, 1]) * wide + place[:, 0], return_index=True)[1]


def _within(points: Floats, places: Floats, reach: float) -> Mask:
    away, _ = scipy.spatial.cKDTree(places).query(points, distance_upper_bound=reach * (1 + 1e-9), workers=-1)
    return np.isfinite(away)
