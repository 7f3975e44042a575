"""Planes, spheres and cylinders of any direction fitted to points, and distances from them.

Orthogonal distances are made small with a robust loss (soft L1 of residuals over their own spread), so that a bracket on a pipe
or a bush before a wall does not pull the shape. Orthogonal fitting of spheres and cylinders: A. B. Forbes, Least-squares
best-fit geometric elements, NPL report DITC 140/89, 1991 (recalled).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import TINY, Floats, Mask
from kerb.core.cloud.neighbours import NeighbourIndex
from kerb.core.cloud.normals_kernels import least_spread
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.robust import spread

PLANE, SPHERE, CYLINDER = "plane", "sphere", "cylinder"
FEWEST = {PLANE: 3, SPHERE: 4, CYLINDER: 6}
SAMPLE, NEIGHBOURS = 20_000, 12
# Of a fitted radius: seen from one side over less than this share of it, points tell no radius.
SHALLOW = 0.02
# The scale of a robust loss where all lies on the shape but for rounding.
LEAST_SCALE = 1e-9
# A direction leans so much at least for its sign to be more than noise; residuals beyond so many spreads are left out at last.
LEVEL, FAR = 0.01, 4.0
# A fit that is going somewhere is there after a dozen steps; points of no such shape would let it walk on for minutes.
MOST_STEPS = 40


@dataclass(frozen=True)
class Shape:
    """A fitted shape: ``centre`` (3,), ``axis`` (3,) of unit length (normal of a plane; nought of a sphere), ``radius``, and the
    ``rms`` of the points it was fitted to."""

    kind: str
    centre: Floats
    axis: Floats
    radius: float
    rms: float

    def nearest(self, points: Floats) -> tuple[Floats, Floats]:
        """Signed distances (n,) of points (n, 3) and the places (n, 3) on the shape: positive on the side the normal of a plane
        points to, and outside."""
        local = points - self.centre
        if self.kind == PLANE:
            away = local @ self.axis
            return away, points - away[:, None] * self.axis
        if self.kind == CYLINDER:
            local = local - (local @ self.axis)[:, None] * self.axis
        far = np.linalg.norm(local, axis=1)
        away = far - self.radius
        way = local / np.maximum(far, TINY)[:, None]
        return away, points - away[:, None] * way


def fitted(kind: str, points: Floats) -> Shape:
    """A shape through (n, 3) points. The normal of a plane and the axis of a cylinder point up, or where they are level east,
    or else north.

    Raises InputError for another kind; NotDeterminable, when the points do not tell the shape.
    """
    if kind not in FEWEST:
        raise InputError(f"'{kind}' is no shape that can be fitted")
    if len(points) < FEWEST[kind]:
        raise NotDeterminable(f"a {kind} needs {FEWEST[kind]} points, there are {len(points)}")
    some = points[:: max(1, len(points) // SAMPLE)]
    middle = some.mean(axis=0)
    local = some - middle
    size = float(np.sqrt((local**2).sum(axis=1).mean()))
    if size == 0.0:
        raise NotDeterminable(f"the points for a {kind} lie on one place")
    local = local / size
    found = {PLANE: _plane, SPHERE: _sphere, CYLINDER: _cylinder}[kind](local)
    shape = Shape(kind, middle + size * found.centre, _turned(found.axis), size * found.radius, 0.0)
    away, _ = shape.nearest(some)
    return Shape(kind, shape.centre, shape.axis, shape.radius, float(np.sqrt(np.mean(away**2))))


def _turned(axis: Floats) -> Floats:
    """An axis or its reverse, so that its first of up, east and north that is not nought is positive."""
    for value in axis[[2, 0, 1]].tolist():
        if abs(value) > LEVEL:
            return axis if value > 0 else -axis
    return axis


def _plane(local: Floats) -> Shape:
    weights = np.ones(len(local))
    for _ in range(12):
        centre = np.average(local, axis=0, weights=weights)
        values, vectors = np.linalg.eigh(np.cov((local - centre).T, aweights=weights))
        away = (local - centre) @ vectors[:, 0]
        away = away - np.median(away)
        # The weights of the soft L1 loss; what is far off counts for nothing.
        scale = max(spread(away), TINY)
        weights = np.where(np.abs(away) <= FAR * scale, 1 / np.sqrt(1 + (away / scale) ** 2), 0.0)
    if values[1] <= 1e-9 * values[2]:
        raise NotDeterminable("the points lie on one line, a plane through them is not fixed")
    return Shape(PLANE, centre, vectors[:, 0], 0.0, 0.0)


def _sphere(local: Floats) -> Shape:
    design = np.column_stack([2 * local, np.ones(len(local))])
    start, _, rank, _ = np.linalg.lstsq(design, (local**2).sum(axis=1), rcond=1e-9)
    if rank < 4:
        raise NotDeterminable("the points lie on one plane, a sphere through them is not fixed")
    radius = np.sqrt(max(float(start[3] + start[:3] @ start[:3]), TINY))

    def rest(x: Floats) -> Floats:
        return np.asarray(np.linalg.norm(local - x[:3], axis=1) - x[3])

    x = _least(rest, np.append(start[:3], radius))
    _deep_enough(SPHERE, local - x[:3], x[3])
    return Shape(SPHERE, x[:3], np.zeros(3), float(abs(x[3])), 0.0)


def _cylinder(local: Floats) -> Shape:
    """Normals of a cylinder lie across its axis: the direction that they have least of is where it starts."""
    index = NeighbourIndex(local)
    _, near = index.nearest(local, min(NEIGHBOURS, len(local)))
    normals = np.empty_like(local)
    least_spread(local, near, FEWEST[PLANE], normals)
    axis = np.linalg.eigh(normals.T @ normals)[1][:, 0]
    across = np.linalg.svd(axis[None])[2][1:]
    flat = local @ across.T
    circle = np.linalg.lstsq(np.column_stack([2 * flat, np.ones(len(flat))]), (flat**2).sum(axis=1), rcond=1e-9)[0]
    radius = np.sqrt(max(float(circle[2] + circle[:2] @ circle[:2]), TINY))

    def parts(x: Floats) -> tuple[Floats, Floats]:
        way = axis + x[2] * across[0] + x[3] * across[1]
        way = way / np.linalg.norm(way)
        return way, x[0] * across[0] + x[1] * across[1]

    def rest(x: Floats) -> Floats:
        way, centre = parts(x)
        off = local - centre
        return np.asarray(np.linalg.norm(off - (off @ way)[:, None] * way, axis=1) - x[4])

    x = _least(rest, np.array([circle[0], circle[1], 0.0, 0.0, radius]))
    way, centre = parts(x)
    off = local - centre
    _deep_enough(CYLINDER, off - (off @ way)[:, None] * way, x[4])
    return Shape(CYLINDER, centre, way, float(abs(x[4])), 0.0)


def _least(rest: Callable[[Floats], Floats], start: Floats) -> Floats:
    scale = max(spread(rest(start)), LEAST_SCALE)
    for _ in range(3):
        found = scipy.optimize.least_squares(rest, start, loss="soft_l1", f_scale=scale, max_nfev=MOST_STEPS)
        start, scale = found.x, max(spread(found.fun), LEAST_SCALE)
    for _ in range(3):
        # What is far off still pulls a little: at last it counts for nothing.
        now = rest(start)
        good = np.abs(now - np.median(now)) <= FAR * scale

        def some(x: Floats, good: Mask = good) -> Floats:
            return rest(x)[good]

        start = scipy.optimize.least_squares(some, start, max_nfev=MOST_STEPS).x
        scale = max(spread(rest(start)[good]), LEAST_SCALE)
    return np.asarray(start)


def _deep_enough(kind: str, off: Floats, radius: float) -> None:
    """Raises NotDeterminable, when the points show so little of the curve that noise would make the radius."""
    away = np.linalg.norm(off, axis=1)
    way = (off / np.maximum(away, TINY)[:, None]).mean(axis=0)
    seen = off @ (way / max(float(np.linalg.norm(way)), TINY))
    if float(np.percentile(seen, 99) - np.percentile(seen, 1)) < SHALLOW * abs(radius) and np.linalg.norm(way) > 0.5:
        raise NotDeterminable(f"the points show too little of a {kind} to tell its radius")
