"""The slab of a scanned floor as a grid of levels: grown from a place, or the lowest large surface beneath what stands on it."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy

from kerb.core.arrays import Floats, Ints, Mask, ends
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.floor.floor_kernels import grow, low_of_runs, node_levels
from kerb.core.geometry.area import Area, inside_any
from kerb.core.parallel import each, ranges
from kerb.core.sorting import by_cells

LOWEST, MEDIAN = "lowest", "median"
MOST_CELLS = 40_000_000
# The lowest points of a cell are those within this share of them; what stands on the floor has most of the rest.
LOW_SHARE = 0.1
FEWEST = 3
NEIGHBOURS = 6


@dataclass(frozen=True)
class Rules:
    """How the slab is told from what is on it, in the unit of the points.

    ``step`` is how much neighbouring cells of it may differ, ``band`` how far points of it lie from its level, ``edge`` how far
    nodes stay off its rim and off what stands on it. Grids with one ``origin`` (easting, northing of the corner of a cell) have
    their nodes at the same places; without, cells are counted from the south-western corner of the points.
    ``rank`` is the most points of a cell that may lie below its low level (0: any share of them), where far more hang over it.
    """

    spacing: float
    radius: float
    take: str = MEDIAN
    step: float = 0.01
    band: float = 0.02
    edge: float = 0.0
    origin: tuple[float, float] | None = None
    rank: int = 0


@dataclass(frozen=True)
class Slab:
    """Levels ``z`` (rows, columns) of nodes, NaN off the slab; node (0, 0) lies at ``corner``, the next ``spacing`` beside it.

    ``noise`` is the standard deviation of the points about the slab within the footprint of a node, ``count`` (rows, columns)
    how many points decided a level.
    """

    z: Floats
    corner: tuple[float, float]
    spacing: float
    noise: float
    count: Ints
    points: Floats
    radius: float = 0.0

    @property
    def known(self) -> Mask:
        """Which nodes have a level."""
        return np.isfinite(self.z)

    @property
    def places(self) -> Floats:
        """Plan places (n, 2) of the nodes with a level, row by row."""
        rows, columns = np.nonzero(self.known)
        return np.column_stack([columns, rows]) * self.spacing + np.asarray(self.corner)

    @property
    def levels(self) -> Floats:
        """Their levels (n,)."""
        return np.asarray(self.z[self.known])

    @property
    def cell_area(self) -> float:
        """The plan area that a node stands for."""
        return self.spacing**2

    def only(self, keep: Mask) -> Slab:
        """The same with some nodes (rows, columns) alone."""
        return replace(self, z=np.where(keep, self.z, np.nan))


@dataclass(frozen=True)
class Members:
    """What belongs to a slab: its ``points`` (n, 3) and its ``cells`` (rows, columns) from a corner ``low``; how far all
    points lie ``above`` the level of their cells, and the low level of each cell (``rough``)."""

    points: Floats
    cells: Mask
    low: Floats
    above: Floats
    rough: Floats


def members(points: Floats, rules: Rules, seed: tuple[float, float] | None = None) -> Members:
    """The points and cells of the slab in points (n, 3), as :func:`slab_of` finds it. Raises InputError; NotDeterminable."""
    if len(points) < FEWEST:
        raise NotDeterminable("there are too few points for a floor")
    low, high = ends(points[:, :2])
    if rules.origin is not None:
        low = rules.origin + np.floor((low - rules.origin) / rules.spacing) * rules.spacing
    size = np.floor((high - low) / rules.spacing).astype(np.int64) + 1
    if size.astype(float).prod() > MOST_CELLS:
        raise InputError(
            f"a spacing of {rules.spacing:g} makes {size.astype(float).prod():.3g} nodes; the most is {MOST_CELLS}"
        )
    shape = int(size[1]), int(size[0])
    rough = _lowest(points, low, rules.spacing, shape, rules.rank)
    start = _seeded(rough, low, rules, seed)
    number = grow(rough, rules.step, start)
    if start >= 0:
        member = number == number.ravel()[start]
    else:
        counts = np.bincount(number[number >= 0]) if (number >= 0).any() else np.empty(0, np.int64)
        if not len(counts):
            raise NotDeterminable("no surface was found among the lowest points")
        member = number == int(counts.argmax())
    smooth = _smoothed(np.where(member, rough, np.nan))
    above = _above(points, smooth, low, rules.spacing)
    mine = points[np.abs(above) <= rules.band]
    if len(mine) < FEWEST:
        raise NotDeterminable("fewer than three points lie on the surface that was found")
    return Members(mine, member, low, above, rough)


def slab_of(
    points: Floats, rules: Rules, areas: tuple[Area, ...] = (), seed: tuple[float, float] | None = None
) -> Slab:
    """The slab in points (n, 3).

    The lowest points of cells that touch with no step between them make one surface; of all such surfaces it is the one at
    ``seed`` (easting, northing), or the largest. Walls, columns, goods and what lies lower or higher than a step are no part
    of it. ``areas`` limit the nodes, not the points.

    Raises
    ------
    InputError, when the spacing makes too many nodes; NotDeterminable, when there is no surface, or none at the seed.
    """
    part = members(points, rules, seed)
    low, mine, member, above = part.low, part.points, part.cells, part.above
    corner, shape, rough = low + 0.5 * rules.spacing, member.shape, part.rough
    z, count, spread = _levels(mine[:, :2] - corner, np.ascontiguousarray(mine[:, 2]), shape, rules)
    z[~member] = np.nan
    # Single cells that no point happens to lie in are no rim from which nodes would have to keep off.
    z = _gaps_filled(z, ~np.isfinite(z) & (member | ~np.isfinite(rough)))
    z = _off_the_edge(z, points[above > rules.band, :2], low, rules)
    if areas:
        rows, columns = np.nonzero(np.isfinite(z))
        nodes = np.column_stack([columns, rows]) * rules.spacing + corner
        out = ~inside_any(areas, nodes)
        z[rows[out], columns[out]] = np.nan
    if not np.isfinite(z).any():
        raise NotDeterminable("no node of the floor is left; the edge distance or the area leaves nothing")
    noise = float(np.sqrt(np.median(spread[np.isfinite(spread)]))) if np.isfinite(spread).any() else float("nan")
    return Slab(z, (float(corner[0]), float(corner[1])), rules.spacing, noise, count, mine, rules.radius)


def _lowest(points: Floats, low: Floats, cell: float, shape: tuple[int, int], rank: int = 0) -> Floats:
    """A low level of each cell (rows, columns): the tenth part of its points from below, so that a stray does not decide."""
    order, starts = by_cells(points, low, cell)
    place = np.floor((points[order[starts], :2] - low) / cell).astype(np.int64)
    level = np.full(shape, np.nan)
    z, stops = np.ascontiguousarray(points[:, 2]), np.append(starts, len(order))
    low_of = lambda part: low_of_runs(z, order[: stops[part[1]]], starts[part[0] : part[1]], LOW_SHARE, rank)  # noqa: E731
    level[place[:, 1], place[:, 0]] = np.concatenate(each(low_of, ranges(len(starts), 1000)))
    return level


def _levels(xy: Floats, z: Floats, shape: tuple[int, int], rules: Rules) -> tuple[Floats, Ints, Floats]:
    """Levels, numbers of points and variances of all nodes (rows, columns), bands of rows on all cores."""
    work = lambda band: node_levels(xy, z, rules.spacing, rules.radius, shape, band, rules.take == MEDIAN)  # noqa: E731
    level, count, spread = zip(*each(work, ranges(shape[0], 64, 1)), strict=True)
    return np.concatenate(level), np.concatenate(count), np.concatenate(spread)


def _seeded(rough: Floats, low: Floats, rules: Rules, seed: tuple[float, float] | None) -> int:
    """The flat number of the cell at a seed, -1 without one."""
    if seed is None:
        return -1
    column, row = np.floor((np.asarray(seed) - low) / rules.spacing).astype(int).tolist()
    inside = 0 <= row < rough.shape[0] and 0 <= column < rough.shape[1]
    if not inside or not np.isfinite(rough[row, column]):
        raise NotDeterminable(
            f"there are no points at the place {seed[0]:.2f}, {seed[1]:.2f} from which the floor is to grow"
        )
    return row * rough.shape[1] + column


def _smoothed(level: Floats) -> Floats:
    """The median of three by three cells, so that one cell that is off does not decide what belongs to the slab."""
    padded = np.pad(level, 1, constant_values=np.nan)
    stack = [padded[r : r + level.shape[0], c : c + level.shape[1]] for r in range(3) for c in range(3)]
    # Cells without a level go to the end; the middle of what is known stands half way through the rest.
    ranked = np.sort(np.stack(stack), axis=0)
    known = np.isfinite(ranked).sum(axis=0)
    take = lambda at: np.take_along_axis(ranked, np.maximum(at, 0)[None], axis=0)[0]  # noqa: E731
    middle = 0.5 * (take((known - 1) // 2) + take(known // 2))
    return np.where(np.isfinite(level), middle, np.nan)


def _gaps_filled(z: Floats, gaps: Mask) -> Floats:
    """Single nodes of the slab that no point lies near, with the mean of their neighbours where six of the eight are known."""
    if not gaps.any():
        return z
    padded = np.pad(z, 1, constant_values=np.nan)
    around = np.stack(
        [padded[r : r + z.shape[0], c : c + z.shape[1]] for r in range(3) for c in range(3) if (r, c) != (1, 1)]
    )
    known = np.isfinite(around)
    many = known.sum(axis=0)
    mean = np.where(known, around, 0.0).sum(axis=0) / np.maximum(many, 1)
    return np.where(gaps & (many >= NEIGHBOURS), mean, z)


def _above(points: Floats, smooth: Floats, low: Floats, cell: float) -> Floats:
    """How far points (n, 3) lie above the level of their cells, NaN where a cell has none."""

    def some(span: tuple[int, int]) -> Floats:
        x, y, z = points[slice(*span)].T
        # No point lies below the lowest, so that cutting off the fraction is the floor.
        return z - smooth[((y - low[1]) / cell).astype(np.int64), ((x - low[0]) / cell).astype(np.int64)]

    return np.concatenate(each(some, ranges(len(points), 100_000)))


def _off_the_edge(z: Floats, standing: Floats, low: Floats, rules: Rules) -> Floats:
    """Without the nodes nearer to the rim of the slab, or to what stands on it (plan places (n, 2)), than the edge distance."""
    if not rules.edge > 0:
        return z
    inside = np.isfinite(z)
    column, row = np.floor((standing - low) / rules.spacing).astype(np.int64).T
    # A cell is taken up when more than a stray stands in it.
    many = np.bincount(row * z.shape[1] + column, minlength=z.size).reshape(z.shape)
    free = inside & (many < FEWEST)
    distance = scipy.ndimage.distance_transform_edt(np.pad(free, 1), sampling=rules.spacing)[1:-1, 1:-1]
    # To the rim of a cell, which is half a cell nearer than the middle of the next.
    return np.where(distance - 0.5 * rules.spacing >= rules.edge, z, np.nan)
