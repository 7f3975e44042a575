"""The wall of a tunnel as a map: deviations from the design line by station and length along the line."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.alignment import Alignment
from kerb.core.parallel import each, ranges
from kerb.core.sorting import by_cells, run_medians
from kerb.core.tunnel.profile import DesignLine
from kerb.core.tunnel.tunnel_kernels import along_line

MOST_CELLS = 40_000_000
# A line is looked along by chords that lie no farther off than this (m).
CHORD_M, STRIDE = 0.0002, 32
# A line that turns by less (radians) is straight; feet near the middle of a bend move by no more than this allows.
STRAIGHT, LEAST = 1e-9, 0.1
# Of a cell the points nearest to the outermost ones count: what stands off the wall lies farther in.
OUTER = 0.9


@dataclass(frozen=True)
class Axis:
    """An alignment as chords: ``vertices`` (k, 3) with elevations, ``along`` (k,) their distances, ``azimuth`` (k,) in
    radians."""

    alignment: Alignment
    vertices: Floats
    along: Floats
    azimuth: Floats

    @staticmethod
    def of(alignment: Alignment, metre: float) -> Axis:
        """Raises InputError, when it has no profile of elevations."""
        vertices, stations = alignment.flattened(CHORD_M * metre)
        z = alignment.elevation(stations)
        known = np.flatnonzero(np.isfinite(z))
        if len(known) < 2:
            raise InputError(f"alignment '{alignment.name}' has no elevations")
        along = np.interp(stations, alignment.marks, alignment.starts)
        some = slice(int(known[0]), int(known[-1]) + 1)
        azimuth = np.unwrap(alignment.plan_at(along)[1])
        return Axis(alignment, np.column_stack([vertices[some, :2], z[some]]), along[some], azimuth[some])

    @property
    def length(self) -> float:
        """Its length in plan, as far as it has elevations."""
        return float(self.along[-1] - self.along[0])

    def local(self, points: Floats) -> tuple[Floats, Floats]:
        """Distances along (n,) of points (n, 3), and where they lie across (n, 2): to the right and up."""
        along, offset = np.empty(len(points)), np.empty(len(points))
        vertices = np.ascontiguousarray(self.vertices[:, :2])

        def some(span: tuple[int, int]) -> None:
            part = slice(*span)
            along_line(points[part], vertices, self.along, STRIDE, along[part], offset[part])
            if bends:
                self._settle(points[part], along[part], offset[part])

        bends = float(np.ptp(self.azimuth)) > STRAIGHT
        each(some, ranges(len(points), 50_000))
        up = points[:, 2] - np.interp(along, self.along, self.vertices[:, 2])
        return along, np.column_stack([offset, up])

    def _settle(self, points: Floats, along: Floats, offset: Floats) -> None:
        """Feet that stand square to the line itself and not to its chords: two steps of Newton's method, in place."""
        bend = self.bend(along)
        for _ in range(2):
            azimuth = np.interp(along, self.along, self.azimuth)
            x, y = (points[:, axis] - np.interp(along, self.along, self.vertices[:, axis]) for axis in (0, 1))
            ahead = x * np.sin(azimuth) + y * np.cos(azimuth)
            offset[:] = x * np.cos(azimuth) - y * np.sin(azimuth)
            inside = (along > self.along[0]) & (along < self.along[-1])
            along += np.where(inside, ahead / np.maximum(1.0 - bend * offset, LEAST), 0.0)

    def world(self, along: Floats, across: Floats) -> Floats:
        """Places (n, 3) of what lies at distances along and across (n, 2)."""
        place = np.column_stack([np.interp(along, self.along, self.vertices[:, axis]) for axis in (0, 1)])
        azimuth = np.interp(along, self.along, self.azimuth)
        right = np.column_stack([np.cos(azimuth), -np.sin(azimuth)])
        z = np.interp(along, self.along, self.vertices[:, 2]) + across[:, 1]
        return np.column_stack([place + across[:, :1] * right, z])

    def bend(self, along: Floats) -> Floats:
        """Curvature (n,) of the plan at distances along, to the right positive."""
        step = max(self.length / 2000, 1e-6)
        a, b = (np.interp(along + d, self.along, self.azimuth) for d in (-step, step))
        ends = float(self.along[0]), float(self.along[-1])
        reach = np.clip(along + step, *ends) - np.clip(along - step, *ends)
        return np.asarray((b - a) / np.maximum(reach, 1e-12))


@dataclass(frozen=True)
class WallPoints:
    """Points of a wall: ``along`` (n,), ``across`` (n, 2), their ``angle`` (n,) from the centre of the design line, ``radial``
    (n,) the distance from the line along the ray, beyond it positive, ``arc`` (n,) the length along the line where the ray
    meets it."""

    along: Floats
    across: Floats
    angle: Floats
    radial: Floats
    arc: Floats


def wall_points(axis: Axis, points: Floats, design: DesignLine) -> WallPoints:
    """Points (n, 3) by station and design line."""
    along, across = axis.local(points)
    local = across - design.centre
    angle = np.arctan2(local[:, 1], local[:, 0])
    radius, arc = design.at(angle)
    return WallPoints(along, across, angle, np.hypot(*local.T) - radius, arc)


@dataclass(frozen=True)
class WallMap:
    """Deviations ``d`` (stations, bins) along rays, NaN where the wall was not seen, of cells whose middles lie at ``along``
    (stations,) and at ``arc`` (bins,); ``step`` and ``width`` are their sizes; ``count`` how many points each has, ``off``
    those that hold what stands off the wall."""

    d: Floats
    along: Floats
    arc: Floats
    step: float
    width: float
    count: Ints
    off: Mask
    noise: float

    @property
    def seen(self) -> Mask:
        """Cells in which the wall is known."""
        return np.isfinite(self.d)


def wall_map(
    points: WallPoints, design: DesignLine, span: tuple[float, float], cell: tuple[float, float], stands_off: float
) -> WallMap:
    """The map of a wall between two distances along, in cells near to a size along and round.

    In each cell the median of the points counts that lie within half the distance of what stands off behind the outer tenth. What
    lies farther in than all that is round it by more than that distance is no wall. Raises InputError; NotDeterminable.
    """
    long = span[1] - span[0]
    rows, columns = max(1, round(long / cell[0])), max(8, round(design.length / cell[1]))
    if rows * columns > MOST_CELLS:
        raise InputError(f"a cell of {cell[0]:g} makes {rows * columns:.3g} cells; the most is {MOST_CELLS}")
    step, width = long / rows, design.length / columns
    inside = np.flatnonzero((points.along >= span[0]) & (points.along < span[1]))
    if not len(inside):
        raise NotDeterminable("no points lie along the alignment between these stations")
    place = np.column_stack([(points.along[inside] - span[0]) / step, points.arc[inside] / width])
    place[:, 1] = np.clip(place[:, 1], 0, columns - 1e-9)
    order, starts = by_cells(place, np.zeros(2), 1.0)
    count = np.diff(np.append(starts, len(order)))
    at = place[order[starts]].astype(np.int64)
    d = points.radial[inside][order]
    own = np.repeat(np.arange(len(starts)), count)
    # What is farther in than the outer ones of its cell by half the distance stands before the wall.
    ranked = d[np.lexsort((d, own))]
    outer = ranked[starts + np.minimum((OUTER * count).astype(np.int64), count - 1)]
    keep = np.abs(d - outer[own]) <= stands_off / 2
    kept = np.bincount(own[keep], minlength=len(starts))
    first = np.concatenate([[0], np.cumsum(kept)[:-1]])
    level = np.full((rows, columns), np.nan)
    many = np.zeros((rows, columns), np.int64)
    good = kept > 0
    level[at[good, 0], at[good, 1]] = run_medians(d[keep], first[good])
    many[at[:, 0], at[:, 1]] = kept
    spread = np.abs(d[keep] - level[at[own[keep], 0], at[own[keep], 1]])
    noise = 1.4826 * float(np.median(spread)) if len(spread) else 0.0
    off = _standing_off(level, stands_off)
    level[off] = np.nan
    level = _pinholes_filled(level, off)
    along = np.asarray(span[0] + (np.arange(rows) + 0.5) * step, np.float64)
    arc = np.asarray((np.arange(columns) + 0.5) * width, np.float64)
    return WallMap(level, along, arc, step, width, many, off, noise)


def _standing_off(level: Floats, stands_off: float) -> Mask:
    """Cells that lie farther in than the middle of those round them, once round, by more than a distance."""
    known = np.isfinite(level)
    if not known.any():
        return np.zeros(level.shape, bool)
    # The middle of what is round a cell is told on blocks of cells, once round.
    rows, columns = level.shape
    filled = np.pad(_filled(level), ((0, -rows % BLOCK), (0, -columns % BLOCK)), mode="edge")
    blocks = filled.reshape(filled.shape[0] // BLOCK, BLOCK, filled.shape[1] // BLOCK, BLOCK)
    coarse = np.median(blocks, axis=(1, 3))
    wide = min(AROUND // 2, coarse.shape[1] - 1)
    padded = np.pad(
        np.pad(coarse, ((0, 0), (wide, wide)), mode="wrap"), ((AROUND // 2, AROUND // 2), (0, 0)), mode="edge"
    )
    middle = scipy.ndimage.percentile_filter(padded, SHARE, size=AROUND, mode="nearest")
    middle = middle[AROUND // 2 : -(AROUND // 2), wide : middle.shape[1] - wide]
    around = np.repeat(np.repeat(middle, BLOCK, axis=0), BLOCK, axis=1)[:rows, :columns]
    return _with_edges(level, known & (level < around - stands_off), stands_off / 2)


def _with_edges(level: Floats, inner: Mask, jump: float) -> Mask:
    """Of cells that lie farther in, those of things with an edge: round rock that bulges the wall runs on without a step."""
    number, count = patches_of(inner)
    if not count:
        return inner
    outer = _filled(np.where(inner, np.nan, level))
    ring = np.pad(np.pad(~inner, ((0, 0), (1, 1)), mode="wrap"), ((1, 1), (0, 0)), constant_values=False)
    beside = ring[:-2, 1:-1] | ring[2:, 1:-1] | ring[1:-1, :-2] | ring[1:-1, 2:]
    rim = inner & beside
    steps = scipy.ndimage.median(outer - level, np.where(rim, number, 0), np.arange(1, count + 1))
    edged = np.concatenate([[False], np.nan_to_num(steps, nan=np.inf) > jump])
    return np.asarray(edged[number])


# Blocks of so many cells, so many of them about each, and which share of these lies inside of what the wall is taken for.
BLOCK, AROUND, SHARE = 3, 7, 60


def _filled(level: Floats) -> Floats:
    """Every cell with a level: unknown ones with that of the nearest known one."""
    known = np.isfinite(level)
    if known.all():
        return level
    at = scipy.ndimage.distance_transform_edt(~known, return_distances=False, return_indices=True)
    return np.asarray(level[tuple(at)])


def _pinholes_filled(level: Floats, off: Mask) -> Floats:
    """Single cells without a point, with the mean of their neighbours, once round."""
    padded = np.pad(np.pad(level, ((0, 0), (1, 1)), mode="wrap"), ((1, 1), (0, 0)), constant_values=np.nan)
    around = np.stack(
        [padded[r : r + level.shape[0], c : c + level.shape[1]] for r in range(3) for c in range(3) if (r, c) != (1, 1)]
    )
    known = np.isfinite(around)
    many = known.sum(axis=0)
    mean = np.where(known, around, 0.0).sum(axis=0) / np.maximum(many, 1)
    # A section alone has neighbours to the left and right only.
    wanted = 5 if len(level) > 1 else 2
    return np.where(~np.isfinite(level) & ~off & (many >= wanted), mean, level)


def patches_of(beyond: Mask) -> tuple[Ints, int]:
    """Numbers (rows, columns), from 1, of cells that touch, once round, and how many there are."""
    label, count = scipy.ndimage.label(beyond, np.ones((3, 3)))
    rows = np.arange(len(label))
    pairs = []
    for shift in (-1, 0, 1):
        other = np.clip(rows + shift, 0, len(rows) - 1)
        both = (label[rows, 0] > 0) & (label[other, -1] > 0)
        pairs.append(np.column_stack([label[rows, 0][both], label[other, -1][both]]))
    seam = np.concatenate(pairs)
    graph = scipy.sparse.coo_matrix((np.ones(len(seam), bool), (seam[:, 0], seam[:, 1])), (count + 1, count + 1))
    _, whole = scipy.sparse.csgraph.connected_components(graph, directed=False)
    _, number = np.unique(whole[1:], return_inverse=True)
    renamed = np.concatenate([[0], number + 1]).astype(np.int64)
    return renamed[label], int(number.max()) + 1 if count else 0


@dataclass(frozen=True)
class Bins:
    """What bins of a design line stand for: from the centre, the angle each turns through, the mean distance to the line times it
    (``reach``), the direction (n, 2) of its middle and the distance to the line there."""

    turn: Floats
    reach: Floats
    way: Floats
    radius: Floats

    @staticmethod
    def of(design: DesignLine, count: int) -> Bins:
        """Bins of equal length along the line, integrated over eight parts each."""
        width, parts = design.length / count, 8
        edges = design.where(np.arange(count * parts + 1) * width / parts) - design.centre
        a, b = edges[:-1], edges[1:]
        turn = np.abs(np.arctan2(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0], (a * b).sum(axis=1))).reshape(count, parts)
        radius = ((np.hypot(*a.T) + np.hypot(*b.T)) / 2).reshape(count, parts)
        middle = edges[parts // 2 : count * parts : parts]
        long = np.hypot(*middle.T)
        return Bins(turn.sum(axis=1), (turn * radius).sum(axis=1), middle / long[:, None], long)

    def areas(self, d: Floats) -> Floats:
        """Areas between the line and a wall that stands d (…, n) off it along the rays, inside negative."""
        return np.asarray(d * self.reach + 0.5 * d**2 * self.turn)
