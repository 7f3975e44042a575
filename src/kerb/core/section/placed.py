"""A section of its own: where it stands, which way one looks, how wide and thick it is, and how it is moved."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from kerb.core.arrays import Floats, Mask
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.view import CloudView, Narrowing
from kerb.core.errors import NotDeterminable

# Ways to set a section at a surface: across it, looking at its face, or level.
ACROSS, FACE, LEVEL = "across", "face", "level"
UPRIGHT, DOWN = 0.0, 90.0
# What leans less than this from level (in degrees) has no direction of its own.
FLAT = 5.0
FEWEST = 6


@dataclass(frozen=True)
class PlacedSection:
    """A slice through ``middle`` (easting, northing, elevation), in the job unit.

    ``azimuth`` (degrees, clockwise from north) is the way one looks; ``tilt`` is 0 for an upright section and 90 for a level
    one, looked at from above. Half of ``thickness`` lies before and half behind the plane; a step moves it by ``step``, by its
    thickness where that is 0. ``exaggeration`` stretches what is up in the picture.
    """

    id: str
    name: str
    middle: tuple[float, float, float]
    azimuth: float
    width: float
    thickness: float
    tilt: float = UPRIGHT
    exaggeration: float = 1.0
    step: float = 0.0

    @property
    def axes(self) -> Floats:
        """To the right, up in the picture, and the way one looks, as rows of a (3, 3) rotation."""
        a, t = np.radians(self.azimuth), np.radians(self.tilt)
        right = np.array([np.cos(a), -np.sin(a), 0.0])
        look = np.array([np.sin(a) * np.cos(t), np.cos(a) * np.cos(t), -np.sin(t)])
        return np.array([right, np.cross(right, look), look])

    @property
    def upright(self) -> bool:
        """Whether its plane stands upright, so that elevations are up in it."""
        return self.tilt == UPRIGHT

    @property
    def ends(self) -> Floats:
        """Left and right end in plan, (2, 2)."""
        half = 0.5 * self.width * self.axes[0, :2]
        return np.array(self.middle[:2]) + np.array([-half, half])

    def band(self) -> Floats:
        """The slice seen from above, (4, 2): as deep as it is; one that is not upright as high as it is wide."""
        right, up, look = self.axes
        deep = look[:2] * self.thickness / 2 if self.upright else up[:2] * self.width / 2
        side = right[:2] * self.width / 2
        return np.array([-side - deep, side - deep, side + deep, -side + deep]) + self.middle[:2]

    def local(self, xyz: Floats) -> Floats:
        """Offset to the right, distance behind the plane, and elevation (of one that is not upright: height over its middle in
        its plane), (n, 3), of job places (n, 3)."""
        right, up, look = self.axes
        away = xyz - np.array(self.middle)
        return np.column_stack([away @ right, away @ look, away @ up + (self.middle[2] if self.upright else 0.0)])

    def job(self, flat: Floats) -> Floats:
        """Job places (n, 3) of places (n, 2) in its plane, offset and elevation or height: the reverse of :meth:`local`."""
        right, up, _ = self.axes
        above = flat[:, 1] - (self.middle[2] if self.upright else 0.0)
        return np.asarray(np.array(self.middle) + flat[:, :1] * right + above[:, None] * up)

    def inside(self, store: CloudStore) -> Mask:
        """Which points (n,) of a cloud lie in the slice: within its thickness and width, of one that is not upright within a
        square of its width."""
        half = np.array([self.width, self.width, self.thickness]) / 2
        signs = np.array([[i, j, k] for i in (-1, 1) for j in (-1, 1) for k in (-1, 1)])
        corners = self.middle + (signs * half) @ self.axes
        low, high = corners.min(axis=0), corners.max(axis=0)
        if self.upright:
            low[2], high[2] = -np.inf, np.inf
        box = (low[0], low[1], low[2]), (high[0], high[1], high[2])
        rows = CloudView(store, Narrowing(box=box, with_aside=True, with_withheld=True)).all_rows()
        local = np.abs(self.local(store.coordinates(rows)))
        good = (local[:, 0] <= half[0]) & (local[:, 1] <= half[2])
        if not self.upright:
            good &= local[:, 2] <= half[1]
        found = np.zeros(store.count, np.bool_)
        found[rows[good]] = True
        return found

    def stepped(self, by: int) -> PlacedSection:
        """Moved by so many steps the way one looks."""
        return self.moved(self.axes[2] * (self.step or self.thickness) * by)

    def moved(self, by: Floats) -> PlacedSection:
        """Moved by a vector (3,)."""
        return replace(self, middle=_three(np.array(self.middle) + by))

    def flipped(self) -> PlacedSection:
        """Looked at from the other side."""
        if abs(self.tilt) == DOWN:
            return replace(self, tilt=-self.tilt)
        return replace(self, azimuth=(self.azimuth + 180.0) % 360.0, tilt=-self.tilt)

    def with_ends(self, left: Floats, right: Floats) -> PlacedSection:
        """Between two other ends (2,) in plan."""
        step = right - left
        middle = (left + right) / 2
        return replace(
            self, middle=(float(middle[0]), float(middle[1]), self.middle[2]), width=float(np.hypot(*step)),
            azimuth=_looks(step),
        )  # fmt: skip

    def copies(self, count: int, spacing: float) -> list[PlacedSection]:
        """So many more of it, each further by a spacing, the way one looks."""
        return [self.moved(self.axes[2] * spacing * n) for n in range(1, count + 1)]


def through(a: Floats, b: Floats, thickness: float) -> PlacedSection:
    """An upright section between two places (3,); its western end, or southern one, lies at the left."""
    if (a[0], a[1]) > (b[0], b[1]):
        a, b = b, a
    start = PlacedSection("", "", _three((a + b) / 2), 0.0, 0.0, thickness)
    return start.with_ends(a[:2], b[:2])


def between(a: Floats, b: Floats, width: float) -> PlacedSection:
    """The section that lies between two places (3,) of a body, as thick as they are apart: upright where they are further
    apart in plan than in height, else level. Raises NotDeterminable, when they are one."""
    step = b - a
    apart, high = float(np.hypot(*step[:2])), abs(float(step[2]))
    if not apart and not high:
        raise NotDeterminable("both picks are the same place, nothing lies between them")
    if apart >= high:
        azimuth = float(np.degrees(np.arctan2(step[0], step[1]))) % 360.0
        return PlacedSection("", "", _three((a + b) / 2), azimuth, width, apart)
    return PlacedSection("", "", _three((a + b) / 2), 0.0, width, high, DOWN)


def square_to(place: Floats, normal: Floats, way: str, size: tuple[float, float]) -> PlacedSection:
    """A section of some width and thickness through a place (3,) of a surface with a normal (3,).

    ``across`` cuts it square, ``face`` looks at it, ``level`` is a level slice. Where the surface is level itself (within
    five degrees) across means looking north.
    """
    width, thickness = size
    lean = float(np.degrees(np.arctan2(np.hypot(*normal[:2]), abs(normal[2]))))
    azimuth = float(np.degrees(np.arctan2(normal[0], normal[1]))) if lean > FLAT else 90.0
    if way == LEVEL:
        return PlacedSection("", "", _three(place), 0.0, width, thickness, DOWN)
    # A face is looked at from where the eye was, against its normal; a cut has the outside at its right.
    turn = 180.0 if way == FACE else -90.0
    return PlacedSection("", "", _three(place), (azimuth + turn) % 360.0, width, thickness)


def normal_of(points: Floats, towards: Floats) -> Floats:
    """Unit normal (3,) of the plane of least squares of distance through points (n, 3), on the side ``towards`` (3,) points.

    Raises NotDeterminable, when there are fewer than six or they lie along a line.
    """
    if len(points) < FEWEST:
        raise NotDeterminable("there are too few points to tell how the surface stands")
    _, spread, axes = np.linalg.svd(points - points.mean(axis=0), full_matrices=False)
    if spread[1] <= 0.05 * spread[0]:
        raise NotDeterminable("the points lie along a line, how the surface stands cannot be told")
    normal = axes[2]
    return np.asarray(normal if normal @ towards >= 0 else -normal)


def _looks(step: Floats) -> float:
    """The way one looks at a line, its start at the left: 90° to the left of its direction."""
    return float(np.degrees(np.arctan2(step[0], step[1])) - 90.0) % 360.0


def _three(place: Floats) -> tuple[float, float, float]:
    return float(place[0]), float(place[1]), float(place[2])
