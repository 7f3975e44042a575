"""Places that points tell better than any single one of them: the centre of a sphere, the corner of three planes, the middle of a
painted target."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Floats, Mask
from kerb.core.cloud.target import middle_of
from kerb.core.errors import NotDeterminable
from kerb.core.geometry.shapes import PLANE, SPHERE, Shape, fitted
from kerb.core.robust import spread

NEAREST, SPHERE_CENTRE, CORNER, PAINTED = "nearest", "sphere", "corner", "painted"
# Draws of three points for a plane, points that a plane needs, and how far beside it its own lie: in noises, and of the reach
# while it is looked for.
DRAWS, FEWEST, NOISES, CLOSE = 400, 30, 3.0, 0.02
# A part of the points that is less is no plane of a corner; planes that meet at less than some 15 degrees count as one.
LEAST_PART, LEAST_VOLUME, ALONG, MOST_PLANES = 0.05, 0.02, 0.25, 6
# Of a sphere so much of its radius may its points lie beside it.
ROUNDNESS = 0.08
SEED = 20260
# Of so many points planes are drawn.
DRAWN_FROM = 4000


def sphere_centre(points: Floats, place: Floats, reach: float) -> Shape:
    """The sphere on which (n, 3) points within a reach of a place (3,) on it lie. Raises NotDeterminable.

    What does not belong to it, as the tripod it stands on, is left out step by step: a first sphere goes through the points
    nearest to the place, and takes in what lies on it.
    """
    near = points[_within(points, place, reach)]
    if len(near) < FEWEST:
        raise NotDeterminable(f"fewer than {FEWEST} points lie there for a sphere")
    ordered = near[np.argsort(np.linalg.norm(near - place, axis=1))]
    found = fitted(SPHERE, ordered[: max(FEWEST, len(near) // 4)])
    for _ in range(4):
        beside = np.abs(found.nearest(near)[0])
        mine = near[beside <= max(NOISES * found.rms, ROUNDNESS * found.radius)]
        found = fitted(SPHERE, mine)
    if found.radius > reach or found.rms > ROUNDNESS * found.radius or len(mine) < FEWEST:
        raise NotDeterminable("the points there lie on no sphere that fits into the reach")
    return found


def corner(points: Floats, place: Floats, reach: float) -> Floats:
    """Where the three largest planes through (n, 3) points within a reach of a place (3,) meet. Raises NotDeterminable.

    Planes are found one after the other by draws of three points (Fischler and Bolles 1981, recalled) and fitted to their points.
    """
    rest = points[_within(points, place, reach)]
    least, planes = max(FEWEST, LEAST_PART * len(rest)), list[Shape]()
    for _ in range(MOST_PLANES):
        mine = _plane_in(rest, reach) if len(rest) >= least else np.zeros(len(rest), np.bool_)
        if len(planes) == 3 or np.count_nonzero(mine) < least:
            break
        plane = fitted(PLANE, rest[mine])
        # What runs along one that is larger, as a board on a wall, tells nothing more.
        if all(np.linalg.norm(np.cross(plane.axis, other.axis)) > ALONG for other in planes):
            planes.append(plane)
        rest = rest[~mine]
    if len(planes) < 3:
        raise NotDeterminable(f"{len(planes)} planes meet there, a corner has three")
    normals = np.array([plane.axis for plane in planes])
    if abs(float(np.linalg.det(normals))) < LEAST_VOLUME:
        raise NotDeterminable("the planes there meet in a line, they tell no corner")
    found = np.linalg.solve(normals, np.array([plane.axis @ (plane.centre - place) for plane in planes])) + place
    if not _within(found[None], place, reach).any():
        raise NotDeterminable("the planes there meet farther off than the reach")
    return np.asarray(found)


def painted(points: Floats, brightness: Floats, place: Floats, reach: float) -> Floats:
    """The middle (3,) of a painted target, however it hangs, by (n, 3) points round a place (3,) and their brightness (n,).

    On the largest plane within the reach. Raises NotDeterminable.
    """
    near = points[_within(points, place, reach)]
    mine = _plane_in(near, reach) if len(near) >= FEWEST else np.zeros(len(near), np.bool_)
    if np.count_nonzero(mine) < FEWEST:
        raise NotDeterminable("no plane lies there that a target is painted on")
    plane = fitted(PLANE, near[mine])
    off = (points - plane.centre) @ plane.axis
    on = np.abs(off) <= NOISES * plane.rms
    across = np.linalg.svd(plane.axis[None])[2][1:]
    start = place - ((place - plane.centre) @ plane.axis) * plane.axis
    found = middle_of((points[on] - start) @ across.T, brightness[on], 2 * reach)
    at = start + np.array(found.place) @ across
    if not _within(at[None], place, reach).any():
        raise NotDeterminable("what stands out there lies farther off than the reach")
    return np.asarray(at)


def _within(points: Floats, place: Floats, reach: float) -> Mask:
    return np.asarray(np.linalg.norm(points - place, axis=1) <= reach)


def _plane_in(points: Floats, reach: float) -> Mask:
    """The points (n,) of the largest plane; how thick it is is told by itself."""
    rng = np.random.default_rng(SEED)
    close = CLOSE * reach
    some = points[rng.permutation(len(points))[:DRAWN_FROM]]
    a, b, c = some[rng.integers(len(some), size=(DRAWS, 3))].transpose(1, 0, 2)
    normals = np.cross(b - a, c - a)
    with np.errstate(invalid="ignore"):
        # Three points in a line tell no plane: nothing lies on it.
        normals /= np.linalg.norm(normals, axis=1)[:, None]
    beside = np.abs((some - some[0]) @ normals.T - np.einsum("ij,ij->i", a - some[0], normals))
    best = int(np.argmax(np.count_nonzero(beside <= close, axis=0)))
    centre, normal = a[best], normals[best]
    for _ in range(3):
        away = (points - centre) @ normal
        flat = np.abs(away) <= close
        if np.count_nonzero(flat) < FEWEST:
            return np.zeros(len(points), np.bool_)
        mine = np.abs(away) <= NOISES * spread(away[flat], 0.0)
        plane = fitted(PLANE, points[mine])
        centre, normal = plane.centre, plane.axis
    return np.asarray(mine)
