"""Distances of the points of a cloud from a reference: nearest point, a local model, along the local normal, a mesh, upright.

Work goes block by block of the compared cloud with what lies round it, so that memory is bounded by blocks and not by clouds.
What is farther than was looked is looked for again, farther out.

Sign: positive where the compared point lies outside, above, or on the side the normal of the reference points to.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import scipy

from kerb.core.arrays import TINY, Floats, Floats32, Ints, Ints32, ends
from kerb.core.change.local_kernels import PLANE, QUADRIC, TRIANGLE, along_normals, local_distances
from kerb.core.cloud.neighbours import NeighbourIndex
from kerb.core.cloud.normals_kernels import least_spread
from kerb.core.cloud.view import CloudView
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.closest import MeshDistance
from kerb.core.geometry.orient import alike
from kerb.core.geometry.shapes import CYLINDER, SPHERE, Shape
from kerb.core.geometry.shapes import PLANE as FLAT
from kerb.core.parallel import each, ranges
from kerb.core.progress import Progress, silent
from kerb.core.surface.surfaces import Surface

NEAREST, BY_PLANE, TRIANGULATED, BY_QUADRIC, NORMAL, MESH, VERTICAL = (
    "nearest", "plane", "triangulated", "quadric", "normal", "mesh", "vertical"
)  # fmt: skip
SHAPES = {f"fit-{kind}": kind for kind in (FLAT, CYLINDER, SPHERE)}
MODELS = {BY_PLANE: PLANE, TRIANGULATED: TRIANGLE, BY_QUADRIC: QUADRIC}
SIGNED = (BY_PLANE, TRIANGULATED, BY_QUADRIC, NORMAL, MESH, VERTICAL, *SHAPES)
BLOCK_POINTS = 1_000_000
FIRST_HALO_SPACINGS, HALO_GROWTH = 12.0, 4.0
MOST_IN_RADIUS = 48
# Of a scale the side of the cubes whose middles stand for its points: some forty lie in it on a surface, no more than so many.
CUBE_SHARE, MOST_IN_SCALE = 0.14, 96
FEWEST = 3
FEWEST_IN_CYLINDER = 4
# Points of the reference that say which way its faces look, and how many neighbours make their normals.
SIDE_PLACES, SIDE_NEIGHBOURS = 30_000, 10


@dataclass(frozen=True)
class How:
    """The way, and its settings in the job unit: ``neighbours`` or ``radius`` of a local model, ``limit`` beyond which a
    point has no match; of the way along normals ``scale`` (diameter for the normal), ``cylinder`` (diameter), ``depth`` (half
    length), the registration ``error``, and the ``coarsest`` of several scales for the normal, of which the flattest counts."""

    way: str
    neighbours: int = 8
    radius: float | None = None
    limit: float | None = None
    scale: float = 1.0
    cylinder: float = 1.0
    depth: float = 2.0
    error: float = 0.0
    coarsest: float | None = None

    @property
    def scales(self) -> tuple[float, ...]:
        """Diameters of neighbourhoods that give normals: that of the scale, and twice as wide each up to the coarsest."""
        found = [self.scale]
        while self.coarsest is not None and found[-1] * 2 <= self.coarsest * (1 + 1e-9):
            found.append(found[-1] * 2)
        return tuple(found)


@dataclass(frozen=True)
class Distances:
    """For the points that count: their ``rows`` (m,) in the cloud, distance (m,), components E, N, Z (m, 3), level of
    detection (m,); NaN where there is no match. Of a mesh the ``faces`` (m,) that are nearest, -1 where there is none."""

    rows: Ints
    distance: Floats
    parts: Floats32
    detection: Floats32
    faces: Ints32 | None = None


Block = Callable[[Floats], tuple[Any, ...]]


def distances(
    compared: CloudView, against: CloudView | MeshDistance | Surface | Shape, how: How, progress: Progress
) -> Distances:
    """Distances of the points that count. Raises InputError, when a setting cannot be; NotDeterminable; Cancelled."""
    _check(how)
    work = _work(compared, against, how)
    rows = [np.empty(0, np.int64)]
    found: list[tuple[Any, ...]] = []
    total, done = max(compared.store.count, 1), 0
    for block in _blocks(compared):
        progress.step(done / total, "Measuring distances")
        found.append(work(compared.store.coordinates(block)))
        rows.append(block)
        done += len(block)
    if not found:
        raise NotDeterminable("no points of the compared cloud count")
    away, parts, detection = (np.concatenate([one[k] for one in found]) for k in range(3))
    faces = np.concatenate([one[3] for one in found]) if len(found[0]) > 3 else None
    return Distances(np.concatenate(rows), away, parts.astype(np.float32), detection.astype(np.float32), faces)


def _check(how: How) -> None:
    for name in ("scale", "cylinder", "depth"):
        value = getattr(how, name)
        if how.way == NORMAL and not (np.isfinite(value) and value > 0):
            raise InputError(f"{name} must be above zero, not {value:g}")
    if how.limit is not None and not how.limit > 0:
        raise InputError(f"a largest distance of {how.limit:g} must be above zero")
    if how.radius is not None and not how.radius > 0:
        raise InputError(f"a radius of {how.radius:g} must be above zero")
    if how.way in MODELS and how.radius is None and not FEWEST <= how.neighbours <= MOST_IN_RADIUS:
        raise InputError(f"a local model takes {FEWEST} to {MOST_IN_RADIUS} neighbours, not {how.neighbours}")


def _blocks(view: CloudView) -> Iterator[Ints]:
    """Rows that count, so many tiles at once that they have about a million: neighbours in order are neighbours in space."""
    held: list[Ints] = []
    size = 0
    for rows in view.rows():
        held.append(rows)
        size += len(rows)
        if size >= BLOCK_POINTS:
            yield np.concatenate(held)
            held, size = [], 0
    if size:
        yield np.concatenate(held)


def _work(compared: CloudView, against: CloudView | MeshDistance | Surface | Shape, how: How) -> Block:
    none = lambda n: np.full(n, np.nan)  # noqa: E731
    limit = how.limit if how.limit is not None else np.inf
    if isinstance(against, MeshDistance):

        def to_mesh(points: Floats) -> tuple[Any, ...]:
            found = against.nearest(points, limit)
            return found.distance, points - found.place, none(len(points)), found.face

        return to_mesh
    if isinstance(against, Shape):

        def to_shape(points: Floats) -> tuple[Floats, Floats, Floats]:
            away, places = against.nearest(points)
            away[np.abs(away) > limit] = np.nan
            return away, points - places, none(len(points))

        return to_shape
    if how.way == VERTICAL:
        surface = against if not isinstance(against, CloudView) else None
        if surface is None:
            raise InputError("upright distances need a surface")

        def upright(points: Floats) -> tuple[Floats, Floats, Floats]:
            away = points[:, 2] - surface.at(points[:, :2])
            away[np.abs(away) > limit] = np.nan
            return away, np.column_stack([np.zeros((len(points), 2)), away]), none(len(points))

        return upright
    assert isinstance(against, CloudView)
    sides = _Sides(against) if how.way != NEAREST else None
    if how.way == NORMAL:
        assert sides is not None
        return lambda points: _along(points, compared, against, how, sides)
    return lambda points: _searched(points, against, how, limit, sides)


def _reference(against: CloudView, low: Floats, high: Floats) -> Floats:
    """The points of the reference that count in a box, (n, 3)."""
    box = (tuple(low.tolist()), tuple(high.tolist()))
    return CloudView(against.store, replace(against.narrowing, box=box)).points()


class _Sides:
    """Which way the faces of a reference look: normals of a fair share of its points, turned alike along each face."""

    def __init__(self, against: CloudView) -> None:
        rows = against.all_rows(silent())
        some = rows[:: max(1, len(rows) // SIDE_PLACES)]
        store = against.store
        self.places, self.normals = np.empty((0, 3)), np.empty((0, 3))
        if len(some) < FEWEST + 1:
            return
        places = store.coordinates(some)
        origin = places[0]
        _, near = NeighbourIndex(places - origin).nearest(places - origin, min(SIDE_NEIGHBOURS, len(places)))
        normals = np.empty((len(places), 3))
        least_spread(places - origin, near, FEWEST, normals)
        known = np.isfinite(normals[:, 0])
        self.places, low_high = places[known], store.bounds
        setups = np.array([one.position for one in store.setups], float).reshape(-1, 3)
        self.normals = alike(self.places, normals[known], setups, (low_high[0] + low_high[1]) / 2)
        self.tree: Any = scipy.spatial.cKDTree(self.places - origin)
        self.origin = origin

    def turn(self, normals: Floats, places: Floats) -> Floats:
        """Normals (n, 3) at places turned to the side of the face they lie on."""
        if len(self.places):
            known = np.flatnonzero(np.isfinite(normals).all(axis=1))
            _, near = self.tree.query(places[known] - self.origin)
            against = np.einsum("ij,ij->i", normals[known], self.normals[near]) < 0
            normals[known[against]] *= -1.0
        return normals


def _searched(
    points: Floats, against: CloudView, how: How, limit: float, sides: _Sides | None
) -> tuple[Floats, Floats, Floats]:
    """Nearest point, or a local model round it: looked for within a halo, and farther out where that is not enough."""
    away, parts = np.full(len(points), np.nan), np.full((len(points), 3), np.nan)
    halo = min(FIRST_HALO_SPACINGS * max(against.store.spacing, 1e-9), limit)
    first, last = against.store.bounds
    todo = np.arange(len(points))
    while len(todo):
        low, high = ends(points[todo])
        low, high = low - halo, high + halo
        around = _reference(against, low, high)
        everything = bool(np.all(low <= first) and np.all(high >= last))
        if len(around):
            origin = around[0]
            index = NeighbourIndex(around - origin)
            mine = points[todo] - origin
            nearest, who = index.nearest(mine, 1, limit)
            sure = (nearest[:, 0] <= halo) | everything | (halo >= limit)
            matched = sure & (who[:, 0] >= 0)
            rows, own = todo[matched], who[matched, 0]
            near = around[own] - origin
            if how.way == NEAREST:
                away[rows], parts[rows] = nearest[matched, 0], mine[matched] - near
            elif len(rows):
                local = around - origin
                assert sides is not None
                found, normals = _modelled(mine[matched], near, (local, index), sides, how, origin)
                away[rows], parts[rows] = found, found[:, None] * normals
            todo = todo[~sure]
        elif everything or halo >= limit:
            break
        if everything or halo >= limit:
            break
        halo = min(HALO_GROWTH * halo, limit)
    return away, parts, np.full(len(points), np.nan)


def _modelled(
    places: Floats, near: Floats, reference: tuple[Floats, NeighbourIndex], sides: _Sides, how: How, origin: Floats
) -> tuple[Floats, Floats]:
    """Distances (m,) of places from the model round their nearest points ``near`` (m, 3), and its normals (m, 3)."""
    local, index = reference
    k = MOST_IN_RADIUS if how.radius is not None else how.neighbours
    _, beside = index.nearest(near, min(k, len(local)), how.radius if how.radius is not None else np.inf)
    normals = _normals(local, beside, near, sides, origin)
    found, way = np.empty(len(places)), MODELS[how.way]

    def some(span: tuple[int, int]) -> None:
        rows = slice(*span)
        local_distances(places[rows], local, beside[rows], normals[rows], way, found[rows])

    each(some, ranges(len(places)))
    return found, normals


def _normals(local: Floats, index: Ints, places: Floats, sides: _Sides, origin: Floats) -> Floats:
    """Unit normals (m, 3) of the planes through neighbours, turned to the side of their face."""
    normals = np.empty((len(index), 3))
    each(
        lambda span: least_spread(local, index[slice(*span)], FEWEST, normals[slice(*span)]), ranges(len(index), 20_000)
    )
    return sides.turn(normals, places + origin)


def _at_scales(around: Floats, mine: Floats, scales: tuple[float, ...], origin: Floats) -> Floats:
    """Normals (m, 3) of planes through all that lies within half a scale of places (m, 3), at the scale where that is flattest.

    A neighbourhood may hold thousands of points: the middles of some forty small cubes stand for them.
    """
    best, normals = np.full(len(mine), np.inf), np.full((len(mine), 3), np.nan)
    for scale in scales:
        middles = _cube_middles(around, CUBE_SHARE * scale) - origin
        _, beside = NeighbourIndex(middles).nearest(mine, min(MOST_IN_SCALE, len(middles)), scale / 2)

        def some(span: tuple[int, int], middles: Floats = middles, beside: Ints = beside) -> None:
            rows = slice(*span)
            own = np.empty((span[1] - span[0], 3))
            least_spread(middles, beside[rows], FEWEST, own)
            rough = (
                _roughness(middles, beside[rows], own)
                if len(scales) > 1
                else np.where(np.isnan(own[:, 0]), np.inf, 0.0)
            )
            better = rough < best[rows]
            best[rows] = np.where(better, rough, best[rows])
            normals[rows] = np.where(better[:, None], own, normals[rows])

        each(some, ranges(len(mine), 20_000, 16))
    return normals


def _cube_middles(around: Floats, side: float) -> Floats:
    """The mean of the points (n, 3) in each cube of a grid that lies the same for every part of a cloud."""
    cell = np.floor(around / side).astype(np.int64)
    low = cell.min(axis=0)
    many = cell.max(axis=0) - low + 1
    cell -= low
    _, number = np.unique((cell[:, 0] * many[1] + cell[:, 1]) * many[2] + cell[:, 2], return_inverse=True)
    count = np.bincount(number)
    return np.column_stack([np.bincount(number, around[:, k] - around[0, k]) / count for k in range(3)]) + around[0]


def _roughness(points: Floats, index: Ints, normals: Floats) -> Floats:
    """The share of the spread of neighbours that lies along a normal, (m,): 0 on a plane; infinite where there is no normal."""
    known = index >= 0
    count = np.maximum(known.sum(axis=1), 1)
    near = np.where(known[:, :, None], points[index], 0.0)
    near = np.where(known[:, :, None], near - near.sum(axis=1, keepdims=True) / count[:, None, None], 0.0)
    along = np.einsum("mkj,mj->mk", near, normals)
    share = (along**2).sum(axis=1) / np.maximum((near**2).sum(axis=(1, 2)), TINY)
    return np.where(np.isnan(normals[:, 0]), np.inf, share)


def _along(
    points: Floats, compared: CloudView, against: CloudView, how: How, sides: _Sides
) -> tuple[Floats, Floats, Floats]:
    """Along the normal of the reference at each point, between the means of both clouds in a cylinder (Lague et al. 2013)."""
    reach = max(how.scales[-1] / 2, float(np.hypot(how.cylinder / 2, how.depth)))
    low, high = ends(points)
    around = _reference(against, low - reach, high + reach)
    own = _reference(compared, low - reach, high + reach)
    nothing = np.full(len(points), np.nan), np.full((len(points), 3), np.nan), np.full(len(points), np.nan)
    if len(around) < FEWEST:
        return nothing
    origin = around[0]
    local, mine = around - origin, points - origin
    index, other = NeighbourIndex(local), NeighbourIndex(own - origin)
    normals = sides.turn(_at_scales(around, mine, how.scales, origin), points)
    one, two = ((of.ordered, of.starts, of.low, of.cell, of.shape) for of in (other, index))
    out = np.empty((len(points), 4))
    each(
        lambda span: along_normals(
            mine[slice(*span)], normals[slice(*span)], how.cylinder / 2, how.depth, one, two,
            FEWEST_IN_CYLINDER, how.error, out[slice(*span)],
        ),
        ranges(len(points), 5_000),
    )  # fmt: skip
    away = out[:, 0]
    if how.limit is not None:
        away = np.where(np.abs(away) <= how.limit, away, np.nan)
    return away, away[:, None] * normals, out[:, 1]
