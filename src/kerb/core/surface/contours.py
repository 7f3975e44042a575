"""Contours of a triangulated surface: exact on its triangles, or on a smoother surface through its vertices.

Smooth ones are contours as well, of triangles parted into sixteen along cubic edges (Hermite, with the mean gradient of the
triangles round each vertex): lines of one surface, so that no two levels can cross, which smoothing the lines themselves would
not keep.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Ints, Ints32
from kerb.core.errors import InputError
from kerb.core.progress import Progress
from kerb.core.sorting import sorted_keys
from kerb.core.surface.contour_kernels import cross_levels, follow, place
from kerb.core.surface.tin import Tin

MOST_LEVELS = 100_000
SMOOTH_ROUNDS = 2
MOST_SMOOTH = 40_000_000


@dataclass(frozen=True)
class Contour:
    """One line of a level: places (n, 2) in job coordinates; a closed one ends where it begins."""

    level: float
    xy: Floats

    @property
    def closed(self) -> bool:
        """Whether it comes back to where it begins."""
        return len(self.xy) > 3 and bool((self.xy[0] == self.xy[-1]).all())

    @property
    def length(self) -> float:
        """Its length in plan."""
        return float(np.hypot(*np.diff(self.xy, axis=0).T).sum())


def contours(tin: Tin, interval: float, base: float = 0.0, progress: Progress | None = None) -> list[Contour]:
    """The lines of all levels base + k interval, lowest first. A corner on a level counts as above it.

    Raises InputError, when the interval cannot be or makes too many levels; Cancelled.
    """
    if not (np.isfinite(interval) and interval > 0 and np.isfinite(base)):
        raise InputError(f"an interval of {interval:g} between contours must be above zero")
    if not len(tin.triangles):
        return []
    z = tin.vertices[:, 2] + tin.origin[2]
    vertices = np.column_stack([tin.vertices[:, :2], z])
    used = z[tin.triangles]
    lowest, highest = (int(np.floor((v - base) / interval)) for v in (used.min(), used.max()))
    lowest, highest = lowest - 2, highest + 2
    if highest - lowest > MOST_LEVELS:
        raise InputError(f"an interval of {interval:g} makes {highest - lowest} levels; the most is {MOST_LEVELS}")
    counts = np.zeros(highest - lowest + 2, np.int64)
    cross_levels(z, tin.triangles, base, interval, lowest, counts, np.empty(0, np.int32), False)
    at = np.cumsum(counts)
    listed = np.empty(int(at[-1]), np.int32)
    cross_levels(z, tin.triangles, base, interval, lowest, at[:-1].copy(), listed, True)
    edges, ends = edges_of(tin.triangles)
    across, seen = np.empty((len(ends), 2), np.int32), np.full(len(ends), -1, np.int32)
    found: list[Contour] = []
    for number in np.flatnonzero(np.diff(at)).tolist():
        if progress is not None:
            progress.step(number / max(len(at) - 1, 1), "Following contours")
        mine, level = listed[at[number] : at[number + 1]], base + (lowest + number) * interval
        crossed, starts = np.empty(3 * len(mine) + 2, np.int32), np.empty(len(mine) + 2, np.int64)
        lines = int(follow(vertices, tin.triangles, edges, level, mine, across, seen, number, crossed, starts))
        places = np.empty((int(starts[lines]), 2))
        place(vertices, ends, level, crossed[: len(places)], places)
        places += tin.origin[:2]
        for k in range(lines):
            line = _without_doubles(places[starts[k] : starts[k + 1]])
            if len(line) > 1:
                found.append(Contour(level, line))
    return found


def _without_doubles(line: Floats) -> Floats:
    """A line without places that follow upon the same place, where it passes through a corner."""
    keep = np.concatenate([[True], (np.diff(line, axis=0) != 0).any(axis=1)])
    return line[keep]


def edges_of(triangles: Ints32) -> tuple[Ints32, Ints32]:
    """The number of the edge from each corner to the next, (t, 3), and both ends of each edge (e, 2), the lower number first."""
    a, b = triangles.ravel().astype(np.uint64), np.roll(triangles, -1, axis=1).ravel().astype(np.uint64)
    low, high = np.minimum(a, b), np.maximum(a, b)
    order, keys = sorted_keys((low << np.uint64(32)) | high)
    new = np.concatenate([[True], keys[1:] != keys[:-1]])
    number = np.empty(len(keys), np.int32)
    number[order] = np.cumsum(new) - 1
    first = keys[new]
    ends = np.column_stack([first >> np.uint64(32), first & np.uint64(0xFFFFFFFF)]).astype(np.int32)
    return number.reshape(-1, 3), ends


def smoothed(tin: Tin, rounds: int = SMOOTH_ROUNDS) -> Tin:
    """A smoother surface through the same vertices: each triangle parted into four so many times, new vertices on cubic edges.

    Raises InputError, when that makes too many triangles.
    """
    if len(tin.triangles) * 4**rounds > MOST_SMOOTH:
        raise InputError(f"{len(tin.triangles)} triangles are too many to be smoothed; thin the surface first")
    vertices, triangles = tin.vertices, tin.triangles
    slopes = gradients(vertices, triangles)
    for _ in range(rounds):
        number, ends = edges_of(triangles)
        a, b = ends[:, 0], ends[:, 1]
        away = vertices[b, :2] - vertices[a, :2]
        middle = (vertices[a] + vertices[b]) / 2
        # Of the cubic with given ends and slopes, at its middle.
        middle[:, 2] += np.einsum("ij,ij->i", slopes[a] - slopes[b], away) / 8
        first = len(vertices)
        vertices, slopes = np.concatenate([vertices, middle]), np.concatenate([slopes, (slopes[a] + slopes[b]) / 2])
        m, (p, q, r) = number + first, triangles.T
        triangles = np.concatenate([
            np.column_stack([p, m[:, 0], m[:, 2]]), np.column_stack([q, m[:, 1], m[:, 0]]),
            np.column_stack([r, m[:, 2], m[:, 1]]), m,
        ]).astype(np.int32)  # fmt: skip
    return Tin(vertices, triangles, tin.origin)


def gradients(vertices: Floats, triangles: Ints32) -> Floats:
    """Slope east and north at each vertex (n, 2): the mean of the triangles round it by their plan area."""
    a, b, c = (vertices[triangles[:, k]] for k in range(3))
    u, v = b - a, c - a
    double = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
    east, north = u[:, 2] * v[:, 1] - v[:, 2] * u[:, 1], u[:, 0] * v[:, 2] - v[:, 0] * u[:, 2]
    sums = [np.zeros(len(vertices)) for _ in range(3)]
    for k in range(3):
        for total, values in zip(sums, (double, east, north), strict=True):
            total += np.bincount(triangles[:, k], values, len(vertices))
    weight = np.where(sums[0] > 0, sums[0], 1.0)
    return np.column_stack([sums[1] / weight, sums[2] / weight])


def index_every(interval: float, level: float, base: float, every: int = 5) -> bool:
    """Whether a level is an index line, drawn heavier: every fifth by common practice."""
    return round((level - base) / interval) % every == 0


def label_places(lines: list[Contour], spacing: float) -> tuple[Ints, Floats]:
    """Where labels stand along lines: the number of the line and the place (n, 2), one at the middle of each ``spacing`` of
    it."""
    rows: list[int] = []
    found: list[Floats] = []
    for number, line in enumerate(lines):
        steps = np.hypot(*np.diff(line.xy, axis=0).T)
        along = np.concatenate([[0.0], np.cumsum(steps)])
        if along[-1] < spacing / 4:
            continue
        many = max(1, int(along[-1] // spacing))
        at = (np.arange(many) + 0.5) * along[-1] / many
        found.append(np.column_stack([np.interp(at, along, line.xy[:, 0]), np.interp(at, along, line.xy[:, 1])]))
        rows += [number] * many
    return np.array(rows, np.int64), np.concatenate([np.empty((0, 2)), *found])
