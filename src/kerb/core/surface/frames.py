"""Frames in which a face that overhangs is a surface: laid on a plane, or unrolled about an axis.

A frame turns places (east, north, up) into (along, across, out): two ways over the face and one out of it. What lies between
two surfaces ``out`` over the ground of a frame is their true volume: on a plane because the frame is turned and shifted only,
about an axis because out is r² / 2 R, with R the radius that the ways along are measured on.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import NotDeterminable
from kerb.core.geometry.shapes import CYLINDER, PLANE, fitted
from kerb.core.surface.tin import triangulate

# Bins that the turn about an axis is parted into, to find where the data leave it open.
BINS = 720
EAST, NORTH, UP = np.eye(3)
LEVEL = 0.02
# A plane whose normal is this upright is ground seen from above. Parts of a surface are level when theirs are; they say which
# side is open when they are that share of it, and agree by that share.
FLAT, LEVEL_PARTS, FEWEST_LEVEL, AGREED = 0.9, 0.9, 0.03, 0.8
LONG_EDGES, MOST_LOOKED_AT = 5.0, 200_000
# An axis farther away than so many sizes of the points is one of another system.
FAR_OFF = 1000.0


@dataclass(frozen=True)
class OnPlane:
    """A frame laid on a plane: ``axes`` (3, 3) are the ways along (level), across (up it) and out, about ``middle`` (3,)."""

    middle: Floats
    axes: Floats

    def of(self, places: Floats) -> Floats:
        """Places (n, 3) in the frame."""
        return np.asarray((places - self.middle) @ self.axes.T)

    def back(self, framed: Floats) -> Floats:
        """Places (n, 3) of the frame in the world."""
        return np.asarray(framed @ self.axes + self.middle)

    def depth(self, out: Floats) -> Floats:
        """How far out values of the frame lie, as a length."""
        return out

    @property
    def whole_turn(self) -> float | None:
        """How far it is along once round; None, where it does not close."""
        return None


@dataclass(frozen=True)
class AboutAxis:
    """A frame unrolled about an axis through ``middle`` (3,): ``axes`` (3, 3) are the way opposite to which it is cut open, the
    one a quarter turn on, and the axis; out is away from it, or towards it where ``sign`` is -1."""

    middle: Floats
    axes: Floats
    radius: float
    sign: float

    def of(self, places: Floats) -> Floats:
        """Places (n, 3) in the frame."""
        x, y, across = self.axes @ (places - self.middle).T
        along = self.sign * self.radius * np.arctan2(y, x)
        return np.column_stack([along, across, self.sign * (x**2 + y**2) / (2 * self.radius)])

    def back(self, framed: Floats) -> Floats:
        """Places (n, 3) of the frame in the world."""
        turn, r = self.sign * framed[:, 0] / self.radius, np.abs(self.depth(framed[:, 2]))
        return np.asarray(np.column_stack([r * np.cos(turn), r * np.sin(turn), framed[:, 1]]) @ self.axes + self.middle)

    def depth(self, out: Floats) -> Floats:
        """How far out values of the frame lie, as a length."""
        return np.asarray(self.sign * np.sqrt(np.maximum(2 * self.radius * self.sign * out, 0.0)))

    @property
    def whole_turn(self) -> float | None:
        """How far it is along once round; None, where it does not close."""
        return 2 * np.pi * self.radius


Frame = OnPlane | AboutAxis


def on_plane(points: Floats, eye: Floats | None = None, turned: bool = False) -> OnPlane:
    """A frame on the plane that fits (n, 3) points best. Out is to the side of ``eye`` (3,), where one is given, else the side
    that the level parts of the surface look up to; the other way where it is ``turned``. Raises NotDeterminable, also where
    nothing says which side is open."""
    plane = fitted(PLANE, points)
    out = plane.axis
    if eye is not None:
        out = -out if float((eye - plane.centre) @ out) < 0 else out
    elif abs(out[2]) > FLAT:
        out = out if out[2] > 0 else -out
    else:
        out = out * _open_side(points, _laid_on(plane.centre, out))
    return _laid_on(plane.centre, -out if turned else out)


def _open_side(points: Floats, frame: OnPlane) -> float:
    """1 where what is level in the surface over a frame (a foot, a berm, a top) looks up on the side of out, -1 where it does
    on the other one: no ground is seen from below. Raises NotDeterminable, when there is too little of it or it disagrees."""
    framed = frame.of(points[:: max(1, len(points) // MOST_LOOKED_AT)])
    tin = triangulate(framed)
    tin = tin.only(tin.longest_edges <= LONG_EDGES * float(np.median(tin.longest_edges)))
    corners = frame.back(tin.points)[tin.triangles]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    size = np.linalg.norm(normal, axis=1)
    level = np.abs(normal[:, 2]) > LEVEL_PARTS * size
    up, all_ = float(size[level & (normal[:, 2] > 0)].sum()), float(size[level].sum())
    if all_ < FEWEST_LEVEL * float(size.sum()) or max(up, all_ - up) < AGREED * all_:
        raise NotDeterminable(
            "which side of the face is open cannot be told: give a place in front of it (In front, --seen-from E,N)"
        )
    return 1.0 if up > all_ - up else -1.0


def _laid_on(centre: Floats, out: Floats) -> OnPlane:
    across = UP - out[2] * out
    if np.linalg.norm(across) < LEVEL:
        across = NORTH - out[1] * out
    across = across / np.linalg.norm(across)
    return OnPlane(centre, np.array([np.cross(across, out), across, out]))


def about_axis(points: Floats, line: Floats | None = None, inwards: bool = False) -> AboutAxis:
    """A frame about the line (2, 3), or the axis of the cylinder that fits (n, 3) points best, cut open where they leave the
    widest gap. Out is away from the axis, or towards it. Raises NotDeterminable."""
    if line is None:
        cylinder = fitted(CYLINDER, points)
        middle, axis = cylinder.centre, cylinder.axis
    else:
        length = float(np.linalg.norm(line[1] - line[0]))
        if length == 0.0:
            raise NotDeterminable("the two ends of the axis are one place")
        middle, axis = line[0], (line[1] - line[0]) / length
        axis = -axis if axis[2] < -LEVEL or (abs(axis[2]) <= LEVEL and axis @ (EAST + NORTH) < 0) else axis
    x = np.cross(UP if abs(axis[2]) < 0.9 else EAST, axis)
    x = x / np.linalg.norm(x)
    y = np.cross(axis, x)
    local = points - middle
    a, b = local @ x, local @ y
    radius = float(np.median(np.hypot(a, b)))
    if radius <= 0.0:
        raise NotDeterminable("the points lie on the axis")
    if radius > FAR_OFF * float(np.ptp(points, axis=0).max()):
        raise NotDeterminable(f"the axis lies {radius:.6g} away from the points: is its system or unit another?")
    taken = np.bincount((np.arctan2(b, a) / (2 * np.pi) % 1.0 * BINS).astype(int) % BINS, minlength=BINS) > 0
    opposite = _middle_of_gap(taken) + np.pi
    front = np.cos(opposite) * x + np.sin(opposite) * y
    return AboutAxis(middle, np.array([front, np.cross(axis, front), axis]), radius, -1.0 if inwards else 1.0)


def _middle_of_gap(taken: np.ndarray) -> float:
    """The turn in the middle of the longest run round without points; where there is none, half a turn."""
    if taken.all():
        return float(np.pi)
    first = int(np.argmax(taken))
    turned = np.append(np.roll(taken, -first), True)
    at = np.flatnonzero(turned)
    k = int(np.argmax(np.diff(at)))
    return 2 * np.pi * (((at[k] + at[k + 1] + 1) / 2 + first) % BINS) / BINS
