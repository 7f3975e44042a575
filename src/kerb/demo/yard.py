"""The laydown yard of Saltmarrow Quay, an invented ferry harbour: ground, heaps, wall and clutter as formulas.

Every heap is a height over the ground with a closed-form volume, so that what Kerb finds can be held against truth.
Coordinates are metres in ETRS89 / UTM zone 30N, at a place where there is only sea.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Mask

CRS = "EPSG:25830"
ORIGIN = np.array([380_000.0, 5_560_000.0])
SIZE = (140.0, 104.0)
WALL_X = 128.0
WALL_THICK = 0.6
WALL_TOP = 7.9
BEHIND_WALL = 7.2
SEED = 20260311


@dataclass(frozen=True)
class Frustum:
    """An elliptical cone frustum, or the western half of one: height, base half axes and top share of them."""

    name: str
    material: str
    density: float
    centre: tuple[float, float]
    half_axes: tuple[float, float]
    height: float
    top_share: float
    turn_deg: float = 0.0
    half: bool = False

    def over_ground(self, xy: Floats) -> Floats:
        """Height over the ground at local (n, 2) places, zero outside."""
        return np.asarray(np.clip(self.height * (1 - self._share(xy)) / (1 - self.top_share), 0, self.height))

    def _share(self, xy: Floats) -> Floats:
        a = np.radians(self.turn_deg)
        east, north = xy[:, 0] - self.centre[0], xy[:, 1] - self.centre[1]
        along, across = east * np.cos(a) + north * np.sin(a), -east * np.sin(a) + north * np.cos(a)
        share = np.hypot(along / self.half_axes[0], across / self.half_axes[1])
        if self.half:
            share[east > 0] = 1.0
        return np.asarray(share)

    @property
    def volume(self) -> float:
        """Volume over the ground in m³: π h a b (1 + k + k²) / 3, half of it against a wall."""
        k = self.top_share
        whole = np.pi * self.height / 3 * self.half_axes[0] * self.half_axes[1] * (1 + k + k * k)
        return float(whole / 2 if self.half else whole)

    def toe(self, vertices: int = 28, outside: float = 0.15) -> Floats:
        """A toe line a little outside the true one, (n, 2) in job coordinates; along the wall where there is one."""
        stop = np.pi if self.half else 2 * np.pi
        angle = np.linspace(0, stop, vertices, endpoint=self.half) + (np.pi / 2 if self.half else 0)
        a = np.radians(self.turn_deg)
        along, across = ((axis + outside) * f(angle) for axis, f in zip(self.half_axes, (np.cos, np.sin), strict=True))
        east, north = along * np.cos(a) - across * np.sin(a), along * np.sin(a) + across * np.cos(a)
        if self.half:
            east = np.minimum(east, -0.02)
        return np.column_stack([east, north]) + np.array(self.centre) + ORIGIN


HEAPS = (
    Frustum("Heap 1, river gravel", "River gravel", 1.70, (42.0, 56.0), (19.0, 13.0), 7.4, 0.18, turn_deg=24.0),
    Frustum("Heap 2, crushed rock", "Crushed rock", 1.60, (88.0, 74.0), (9.5, 9.5), 5.6, 0.16),
    Frustum("Heap 3, washed sand", "Washed sand", 1.55, (WALL_X, 34.0), (9.0, 9.0), 3.5, 0.17, half=True),
)


def ground(xy: Floats) -> Floats:
    """Elevation of the uneven yard at local places, in metres."""
    x, y = xy[:, 0], xy[:, 1]
    fall = 3.4 + 0.004 * x - 0.006 * y
    waves = 0.06 * np.sin(x / 21.0 + 0.4) * np.cos(y / 17.0) + 0.03 * np.sin(y / 9.0 + x / 31.0)
    return np.asarray(fall + waves)


def surface(xy: Floats) -> Floats:
    """Elevation of ground, heaps, wall and the terrace behind it at local (n, 2) places."""
    z = ground(xy)
    for heap in HEAPS:
        z = z + heap.over_ground(xy)
    z[xy[:, 0] > WALL_X] = WALL_TOP
    behind = xy[:, 0] > WALL_X + WALL_THICK
    z[behind] = BEHIND_WALL + 0.01 * (xy[behind, 0] - WALL_X)
    return z


@dataclass(frozen=True)
class Box:
    """A box-shaped thing on the yard."""

    centre: tuple[float, float]
    size: tuple[float, float, float]
    lift: float = 0.0

    def inside(self, xy: Floats) -> Mask:
        """Which places lie under it."""
        away = np.abs(xy - np.array(self.centre))
        return np.asarray((away[:, 0] < self.size[0] / 2) & (away[:, 1] < self.size[1] / 2))

    def top(self, xy: Floats) -> Floats:
        """Elevation of its roof."""
        return ground(xy) + self.lift + self.size[2]


LOADER = (
    Box((72.0, 38.0), (5.2, 2.6, 1.5)),
    Box((73.0, 38.0), (1.8, 2.2, 3.1)),
    Box((69.2, 38.0), (1.2, 2.9, 0.9)),
)
# Plants: east, north, radius.
BUSHES = (
    (98.6, 68.2, 1.3),
    (100.1, 70.0, 0.9),
    (58.0, 93.0, 1.6),
    (60.5, 95.0, 1.2),
    (20.0, 12.0, 1.8),
    (97.6, 79.9, 0.8),
)
# Places without points: east, north, half axes.
GAPS = ((47.0, 60.5, 1.9, 1.2), (112.0, 12.0, 4.0, 2.2), (70.0, 8.0, 3.0, 1.6), (90.4, 71.6, 0.9, 0.7))
