"""Which points are ground: a progressive morphological filter on the lowest points, then distance to their surface.

Sources: K. Zhang et al., A progressive morphological filter for removing nonground measurements from airborne LIDAR
data, IEEE Transactions on Geoscience and Remote Sensing 41 (2003); T. Pingel, K. Clarke, W. McBride, An improved simple
morphological filter for the terrain classification of airborne LIDAR data, ISPRS Journal 77 (2013). What is ours is
said in ``docs/methods/ground.md``.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy

from kerb.core.arrays import Bytes, Floats, Floats32, Ints, Mask
from kerb.core.cloud.classes import GROUND, NOISE_CLASSES, UNCLASSIFIED
from kerb.core.cloud.ground_kernels import lowest_points, under_disk
from kerb.core.cloud.large import STEEPEST, LargeThing, judged
from kerb.core.cloud.own_numbers import in_own_numbers
from kerb.core.cloud.store import CloudStore, needs_plan
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.parallel import each, ranges
from kerb.core.progress import Progress, silent
from kerb.core.setting import Setting, setting
from kerb.core.surface.grid import MAX_CELLS
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.units import LengthUnit

GROWTH = 1.4
EDGE_NEIGHBOURS, SLOPING_NEIGHBOURS = 8, 4
# A lowest point is no ground when a closing over its neighbours lifts it by more than the ground's own rise in a cell
# and this many steps: the low-outlier test of Pingel et al. 2013, whose 500 % let points up to 5 m deep pass.
LOW_POINT_STEPS = 4.0
# What stands up to the rise of the steepest ground within a cell cannot be told from ground; keep that under 1 m.
MOST_RISE_M = 1.0
LEAST_SPACINGS = 2.5
SPACINGS_PER_CELL = 4.0
LEAST_CELL_M = 0.5
TERRAIN_CELL_M = 3.0
FEWEST_TERRAIN_CELLS = 50
# Noise lies this far below the ground round it, in cells of three metres even on steep slopes.
PIT_M = 2.5
STEPPED = 0.35
MOST_CELL_M = 2.0


@dataclass(frozen=True)
class Terrain:
    """Usual settings for a kind of terrain, lengths in metres."""

    title: str
    slope: float
    step: float
    object_size: float


TERRAINS = {
    "flat": Terrain("Flat yard, works floor", 0.10, 0.12, 120.0),
    "rolling": Terrain("Rolling ground", 0.30, 0.20, 120.0),
    "steep": Terrain("Steep slopes", 0.70, 0.30, 20.0),
    "benches": Terrain("Quarry benches and heaps", 1.00, 0.25, 12.0),
}


@dataclass(frozen=True)
class GroundSettings:
    """How the filter decides; lengths in the unit of the cloud.

    ``slope`` is the steepest ground that need not be a step (rise over run), ``step`` the height over the ground's
    surface up to which a point belongs to it, ``object_size`` the width of the largest thing that is to go, ``cell``
    the width of the cells whose lowest points are looked at. ``turned`` are places (easting, northing) on large things
    that are to be taken for the opposite of what their edges say.
    """

    slope: float = setting(
        0.3, Setting("Slope", "Steepest ground that is no step, rise over run (0.3 is 30 %)", "", low=0.0, high=5.0)
    )
    step: float = setting(
        0.2, Setting("Step", "Height over the ground's surface up to which a point belongs to it", "length", low=0.0)
    )
    object_size: float = setting(
        30.0, Setting("Object size", "Width of the largest thing that is to be removed", "length", low=0.0)
    )
    cell: float = setting(
        1.0, Setting("Cell", "Width of the cells whose lowest points are looked at", "length", low=0.0)
    )
    turned: tuple[tuple[float, float], ...] = ()

    @staticmethod
    def of(terrain: str, unit: LengthUnit, spacing: float) -> GroundSettings:
        """The usual settings for a terrain, in a cloud of a unit and point spacing (in that unit)."""
        usual = TERRAINS[terrain]
        apart = spacing * unit.metres
        cell = float(np.clip(SPACINGS_PER_CELL * apart, LEAST_CELL_M, MOST_CELL_M))
        cell = min(cell, max(MOST_RISE_M / usual.slope, LEAST_SPACINGS * apart))
        return GroundSettings(
            usual.slope, usual.step / unit.metres, usual.object_size / unit.metres, round(cell, 2) / unit.metres
        )

    @staticmethod
    def usual(terrain: str, store: CloudStore) -> GroundSettings:
        """The usual settings for a terrain and the point spacing of a cloud where it has points at all."""
        unit = store.reference.unit
        return GroundSettings.of(terrain, unit, _spacing(store, 1.0 / unit.metres))

    def check(self) -> None:
        """Raises InputError, when a value cannot be."""
        for name in ("slope", "step", "object_size", "cell"):
            value = getattr(self, name)
            if not (np.isfinite(value) and value > 0):
                raise InputError(f"{name.replace('_', ' ')} must be above zero, not {value:g}")
        if self.object_size < self.cell:
            raise InputError(f"object size {self.object_size:g} is smaller than a cell of {self.cell:g}")
        if not np.isfinite(np.array(self.turned, float)).all():
            raise InputError("a place on a large thing needs an easting and a northing")

    def fitting(self, low: Floats, high: Floats) -> GroundSettings:
        """For a cloud from its lowest to its highest corner: nothing in it is larger than it is itself.

        Raises InputError, when a place on a large thing lies outside of it.
        """
        for east, north in self.turned:
            if not (
                low[0] - self.cell <= east <= high[0] + self.cell and low[1] - self.cell <= north <= high[1] + self.cell
            ):
                raise InputError(f"the place {east:.1f}, {north:.1f} lies outside of the cloud")
        longest = 2 * float(np.hypot(*(high[:2] - low[:2]))) + self.cell
        return replace(self, object_size=min(self.object_size, longest))


@in_own_numbers
def ground(
    store: CloudStore, settings: GroundSettings, progress: Progress, among: Mask | None = None,
    told: list[LargeThing] | None = None,
) -> Bytes:  # fmt: skip
    """Class of every point, (n,) uint8: 2 ground, 1 what is not; noise classes (7, 18) stay, set-aside points too.

    Classes that the cloud has are not looked at otherwise. ``among``, (n,), are the points that are looked at, all that
    are not set aside when None; others keep their class (0 where there is none). ``told`` is filled with the large things
    that were judged by their edges.

    Raises
    ------
    InputError, when the settings cannot be or make too large a grid; NotDeterminable, when no surface can be found;
    Cancelled.
    """
    needs_plan(store)
    settings.check()
    used = store.in_use() if among is None else among
    corner, far = _extent(store, used)
    settings = settings.fitting(corner, far)
    low, row = _lowest(store, settings.cell, used, progress.within(0.0, 0.15))
    plain, bare, things = _cells(low, row >= 0, settings, corner, progress.within(0.15, 0.45))
    if told is not None:
        told += [replace(t, middle=_place_of(t.middle, corner, settings.cell)) for t in things]
    if bare.sum() < 3:
        raise NotDeterminable("fewer than three cells of ground were found; is the object size too large?")
    surface = triangulate(store.coordinates(np.sort(row[bare])))
    progress.step(0.6, "Finding ground: comparing with its surface")
    near = _Near(surface, settings, *_steepness(low, bare, bare & ~plain, settings))
    given = store.column("classification") if store.has("classification") else None
    result = np.zeros(store.count, np.uint8)

    def decide(tile: int) -> None:
        rows = store.rows_of(tile)
        if given is not None:
            result[rows] = given[rows]
        mine = used[rows] & ~np.isin(result[rows], NOISE_CLASSES)
        if mine.any():
            is_ground = near.ground(store.coordinates(rows)[mine], corner)
            result[rows][mine] = np.where(is_ground, GROUND, UNCLASSIFIED)

    each(decide, range(len(store.tiles)), progress.within(0.6, 1.0), "Finding ground")
    return result


def _cells(
    low: Floats, known: Mask, settings: GroundSettings, corner: Floats, progress: Progress
) -> tuple[Mask, Mask, list[LargeThing]]:
    """Cells whose lowest point is ground by openings alone, and when large things are judged by their edges; those."""
    plain = _bare(low, settings, progress) & known
    bare, things = judged(low, plain, known, settings.cell, settings.step, _cells_of(settings, corner, low.shape))
    return plain, bare, things


def _cells_of(settings: GroundSettings, corner: Floats, shape: tuple[int, ...]) -> Ints:
    """Row and column (n, 2) of the places whose things are turned over."""
    places = np.array(settings.turned, float).reshape(-1, 2)
    cells = np.floor((places - corner[:2]) / settings.cell).astype(np.int64)[:, ::-1]
    return np.clip(cells, 0, np.array(shape[:2]) - 1)


def _place_of(cell: tuple[float, float], corner: Floats, size: float) -> tuple[float, float]:
    return float(corner[0] + (cell[0] + 0.5) * size), float(corner[1] + (cell[1] + 0.5) * size)


def terrain_of(store: CloudStore) -> str:
    """Which of :data:`TERRAINS` a cloud is most like, from the fall and the steps of its lowest points.

    Ground is taken as the lowest points of wide cells that an opening with a small disk leaves; its steepness decides,
    and where most of it is much flatter than its steep parts it is one of benches or heaps.
    """
    metres = store.reference.unit.metres
    cell = max(TERRAIN_CELL_M / metres, 4 * store.spacing)
    try:
        low, row = _lowest(store, cell, store.in_use(), silent())
    except (InputError, NotDeterminable):
        return "rolling"
    known = row >= 0
    if known.sum() < FEWEST_TERRAIN_CELLS:
        return "rolling"
    bare = _opened(_without_pits(low, known, PIT_M / metres), 2)
    rise_y, rise_x = np.gradient(bare.astype(float), cell)
    rise = np.hypot(rise_x, rise_y)[known]
    usual, steep = np.percentile(rise, [75, 92])
    if steep > TERRAINS["rolling"].slope and usual < STEPPED * steep:
        return "flat" if _only_objects(store) else "benches"
    return next((name for name in ("flat", "rolling") if steep <= TERRAINS[name].slope), "steep")


def _only_objects(store: CloudStore) -> bool:
    """Whether all that is large on a flat yard has steps all round, as bridges and halls have and heaps have not."""
    settings = GroundSettings.usual("flat", store)
    used = store.in_use()
    corner, _ = _extent(store, used)
    low, row = _lowest(store, settings.cell, used, silent())
    _, _, things = _cells(low, row >= 0, settings, corner, silent())
    return bool(things) and not any(thing.ground for thing in things)


def _spacing(store: CloudStore, cell: float) -> float:
    """Distance between neighbours from the area of the cells that hold points: a cloud in patches is not a thin one."""
    try:
        _, row = _lowest(store, cell, store.in_use(), silent())
    except InputError:
        return store.spacing
    return float(np.sqrt(np.count_nonzero(row >= 0) * cell * cell / max(store.used, 1)))


def _extent(store: CloudStore, used: Mask) -> tuple[Floats, Floats]:
    """Lowest and highest corner, (3,) each, of the tiles that hold any of some points."""
    tiles = store.tiles[[tile for tile in range(len(store.tiles)) if used[store.rows_of(tile)].any()]]
    if not len(tiles):
        raise NotDeterminable("there are no points to look for ground in")
    return tiles["low"].min(axis=0), tiles["high"].max(axis=0)


def _lowest(store: CloudStore, cell: float, used: Mask, progress: Progress) -> tuple[Floats, Ints]:
    """Lowest elevation of each cell (rows of northing; NaN without points) and the row of that point (-1)."""
    corner, far = _extent(store, used)
    size = np.floor((far[:2] - corner[:2]) / cell).astype(np.int64) + 1
    if size.astype(float).prod() > MAX_CELLS:
        raise InputError(f"cell size {cell:g} makes {size.astype(float).prod():.3g} cells; the most is {MAX_CELLS}")
    shape = (int(size[1]), int(size[0]))
    start = np.round((corner - store.origin) / store.scale).astype(np.int64)
    lowest, row = np.zeros(shape, np.int64), np.full(shape, -1, np.int64)
    for number in range(len(store.tiles)):
        progress.step(number / len(store.tiles), "Finding ground: lowest points")
        rows = store.rows_of(number)
        if not used[rows].any():
            continue
        xyz = np.asarray(store.xyz[rows]).astype(np.int64) - start
        lowest_points(xyz, used[rows], store.scale, 1.0 / cell, np.array(shape), rows.start, lowest, row)
    return np.where(row >= 0, lowest * store.scale[2], np.nan), row


def _bare(low: Floats, settings: GroundSettings, progress: Progress) -> Mask:
    """Cells whose lowest point is ground: those that openings with growing disks do not lower by much."""
    known = np.isfinite(low)
    filled = _filled(low, known).astype(np.float32)
    closed = -_opened(-filled, 1)
    dropped = closed - filled > settings.slope * settings.cell + LOW_POINT_STEPS * settings.step
    filled = _filled(np.where(known & ~dropped, low, np.nan), known & ~dropped).astype(np.float32)
    bare = ~dropped
    last, before = filled, 0
    radii = _radii(settings.object_size / 2 / settings.cell)
    for number, radius in enumerate(radii):
        progress.step(number / len(radii), "Finding ground: removing what stands on it")
        opened = _opened(last, radius)
        # Between the growth of the window (Zhang et al.) and its whole radius (Pingel et al.): measured as the best of
        # the three, most of all where ground comes in patches.
        reach = (radius - before / 2) * settings.cell
        bare &= last - opened <= settings.slope * reach + settings.step
        last, before = opened, radius
    return bare


def _without_pits(low: Floats, known: Mask, deep: float) -> Floats32:
    """The lowest points without single ones far below all round them, which are noise."""
    filled = _filled(low, known).astype(np.float32)
    pits = -_opened(-filled, 2) - filled > deep
    return _filled(np.where(known & ~pits, low, np.nan), known & ~pits).astype(np.float32)


def _radii(most: float) -> list[int]:
    radii = [1]
    while radii[-1] < most:
        radii.append(min(max(radii[-1] + 1, round(radii[-1] * GROWTH)), max(int(np.ceil(most)), 1)))
    return radii


def _opened(grid: Floats32, radius: int) -> Floats32:
    """Opening with a disk: the highest of the lowest. The border goes on as it comes, so that slopes stay slopes."""
    padded = np.pad(grid, 2 * radius, mode="reflect", reflect_type="odd")
    return -_lowest_within(-_lowest_within(padded, radius), radius)


def _lowest_within(grid: Floats32, radius: int) -> Floats32:
    """Lowest value within ``radius`` cells, for all cells but ``radius`` at every side."""
    across = np.arange(-radius, radius + 1)
    half = np.floor(np.sqrt((radius + 0.5) ** 2 - across**2)).astype(np.int64).clip(0, radius)
    level = np.floor(np.log2(2 * half + 1)).astype(np.int64)
    levels = np.empty((int(level.max()) + 1, *grid.shape), np.float32)
    levels[0] = grid
    for k in range(1, len(levels)):
        step = 1 << (k - 1)
        levels[k] = levels[k - 1]
        np.minimum(levels[k - 1][:, :-step], levels[k - 1][:, step:], out=levels[k][:, :-step])
    out = np.empty((grid.shape[0] - 2 * radius, grid.shape[1] - 2 * radius), np.float32)
    each(lambda span: under_disk(levels, half, level, radius, *span, out), ranges(len(out), 64))
    return out


def _filled(low: Floats, known: Mask) -> Floats:
    """Cells without points take the nearest cell's value."""
    if known.all():
        return low
    if not known.any():
        raise NotDeterminable("there are no points to look for ground in")
    nearest = scipy.ndimage.distance_transform_edt(~known, return_distances=False, return_indices=True)
    return np.asarray(low[tuple(nearest)])


def _steepness(low: Floats, bare: Mask, given_back: Mask, settings: GroundSettings) -> tuple[Floats, Mask]:
    """How far the ground itself may rise within half a cell, and where it steps: (rows, columns) each."""
    known = bare & np.isfinite(low)
    land = _filled(np.where(known, low, np.nan), known)
    padded = np.pad(land, 1, mode="edge")
    across, along = padded[1:-1, 2:] - padded[1:-1, :-2], padded[2:, 1:-1] - padded[:-2, 1:-1]
    rise = np.hypot(across, along) / (2 * settings.cell)
    steps = scipy.ndimage.maximum_filter(land, 3) - scipy.ndimage.minimum_filter(land, 3) > 2 * settings.step
    # At the rim of the data thin triangles reach far along it and over any step on their way.
    steps |= known & ~scipy.ndimage.binary_erosion(known, np.ones((3, 3), bool))
    # Slopes of large things that are ground after all are as steep as they are.
    around = scipy.ndimage.binary_dilation(given_back, np.ones((3, 3), bool))
    most = np.where(around, max(STEEPEST, settings.slope), settings.slope)
    return np.asarray(np.minimum(rise, most) * settings.cell / 2), steps


class _Near:
    """Whether points are near enough to the surface of the lowest points."""

    def __init__(self, surface: Tin, settings: GroundSettings, room: Floats, steps: Mask) -> None:
        self.surface, self.settings, self.room, self.steps = surface, settings, room, steps
        self.tree = scipy.spatial.cKDTree(surface.vertices[:, :2])

    def ground(self, points: Floats, corner: Floats) -> Mask:
        """Which of (n, 3) points are ground; ``corner`` is where the cells begin."""
        most = np.array(self.room.shape)[::-1] - 1
        cells = np.clip(((points[:, :2] - corner[:2]) / self.settings.cell).astype(np.int64), 0, most)
        column, row = cells[:, 0], cells[:, 1]
        allowed = self.settings.step + self.room[row, column]
        near: Mask = np.abs(points[:, 2] - self._base(points)) <= allowed
        left = np.nonzero(~near & self.steps[row, column])[0]
        if len(left):
            near[left] = self._at_edge(points[left], allowed[left])
        return near

    def _base(self, points: Floats) -> Floats:
        base = self.surface.at(points[:, :2])
        outside = np.nonzero(~np.isfinite(base))[0]
        if len(outside):
            nearest = self.tree.query(points[outside, :2] - self.surface.origin[:2])[1]
            base[outside] = self.surface.vertices[nearest, 2] + self.surface.origin[2]
        return base

    def _at_edge(self, points: Floats, allowed: Floats) -> Mask:
        """Points beside the edge of a step, where the surface already falls: mirrored at a lowest point on their side
        they must lie on the ground there (Axelsson's mirror points, 2000)."""
        found = np.zeros(len(points), np.bool_)
        local = points - self.surface.origin
        neighbours = range(1, min(EDGE_NEIGHBOURS, len(self.surface.vertices)) + 1)
        distance, index = map(np.asarray, self.tree.query(local[:, :2], k=list(neighbours)))
        for rank, (away, vertex) in enumerate(zip(distance.T, index.T, strict=True)):
            at = self.surface.vertices[vertex]
            # The nearest may lie up or down the slope; of those further off only what is as high tells of a terrace.
            rise = self.settings.slope * away if rank < SLOPING_NEIGHBOURS else 0.0
            level = np.abs(at[:, 2] - local[:, 2]) <= self.settings.step + rise
            todo = np.nonzero(level & ~found)[0]
            if len(todo):
                mirrored = 2 * at[todo] - local[todo] + self.surface.origin
                found[todo] = np.abs(mirrored[:, 2] - self._base(mirrored)) <= allowed[todo]
        return found
