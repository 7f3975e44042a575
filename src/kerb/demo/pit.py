"""The link-span pit east of the yard: an excavation in March and in May, with known volumes, a road that did not change, an
offset between the two flights, and the design of the pit."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kerb.core.arrays import Floats, Mask
from kerb.core.geometry.features import Line, LineSet
from kerb.core.geometry.mesh import Element, TriangleMesh
from kerb.core.geometry.polygon import box
from kerb.core.geometry.rigid import Rigid
from kerb.demo import yard
from kerb.demo.flights import write_flight

LOW, HIGH = (160.0, 20.0), (240.0, 84.0)
DENSITY, NOISE = 12.0, 0.015
# How much higher the flight of May lies than that of March.
OFFSET = 0.035
ROAD = ((162.0, 22.0), (238.0, 30.0))
SEED = 20260520


# What brings the second scan of May into line.
SECOND_SCAN = Rigid.turned(0.35, np.array([*(yard.ORIGIN + [200.0, 52.0]), 3.0]), np.array([0.42, -0.27, 0.16]))


@dataclass(frozen=True)
class Excavation:
    """A pit with a level offset from the ground: rim corners (local), depth, and how far the sides lean in."""

    low: tuple[float, float]
    high: tuple[float, float]
    depth: float
    batter: float

    def under_ground(self, xy: Floats) -> Floats:
        """Depth below the ground at local (n, 2) places."""
        inside = np.minimum(xy - np.array(self.low), np.array(self.high) - xy).min(axis=1)
        return np.asarray(self.depth * np.clip(inside / self.batter, 0.0, 1.0))

    @property
    def volume(self) -> float:
        """Volume in m³, by the prismoidal formula h (A1 + 4 Am + A2) / 6, exact for plane sides."""
        size = np.array(self.high) - np.array(self.low)
        areas = [float(np.prod(size - 2 * self.batter * share)) for share in (0.0, 0.5, 1.0)]
        return self.depth * (areas[0] + 4 * areas[1] + areas[2]) / 6


MARCH = Excavation((184.0, 40.0), (220.0, 68.0), 1.5, 3.0)
MAY = Excavation((180.0, 36.0), (224.0, 72.0), 4.0, 7.0)
BERM = Excavation((166.0, 40.0), (174.0, 70.0), -1.6, 3.0)


# A ditch along the north that falls eastwards, and a pond that rain left by May: water shows as points that scatter below it.
DITCH_LOW, DITCH_HIGH, DITCH_DEEP, DITCH_FALL, WATER = (166.0, 78.6), (228.0, 82.4), 0.7, 0.006, 0.3
POND, POND_SIZE, POND_DEEP = (235.2, 58.0), (3.2, 7.0), 0.45
SCATTER = 0.12


def ground(xy: Floats) -> Floats:
    """Elevation of the made ground at local (n, 2) places."""
    return np.asarray(3.6 + 0.006 * (xy[:, 0] - LOW[0]) - 0.004 * (xy[:, 1] - LOW[1]) + 0.05 * np.sin(xy[:, 0] / 11.0))


def ditch_depth(xy: Floats) -> Floats:
    """How far the ditch lies below the ground at local places: banks of 1 m, and a bottom that falls eastwards."""
    inside = np.minimum(xy[:, 1] - DITCH_LOW[1], DITCH_HIGH[1] - xy[:, 1])
    ends = np.clip(np.minimum(xy[:, 0] - DITCH_LOW[0], DITCH_HIGH[0] - xy[:, 0]), 0.0, 1.0)
    deep = DITCH_DEEP + DITCH_FALL * (xy[:, 0] - DITCH_LOW[0])
    return np.asarray(deep * np.clip(inside, 0.0, 1.0) * ends)


def pond_depth(xy: Floats) -> Floats:
    """How far the hollow of the pond lies below the ground."""
    away = np.hypot((xy[:, 0] - POND[0]) / POND_SIZE[0], (xy[:, 1] - POND[1]) / POND_SIZE[1])
    return np.asarray(POND_DEEP * np.clip(1.0 - away**2, 0.0, 1.0))


def under_water(xy: Floats) -> Mask:
    """Where water stood in May, at local places."""
    return np.asarray((ditch_depth(xy) > DITCH_DEEP - WATER) | (pond_depth(xy) > 0.1))


def surface(xy: Floats, later: bool) -> Floats:
    """Elevation at local places, in March or in May; without what the flight of May lies too high."""
    z = ground(xy) - (MAY if later else MARCH).under_ground(xy) - ditch_depth(xy) - pond_depth(xy)
    return np.asarray(z - BERM.under_ground(xy)) if later else z


def cut() -> float:
    """What was dug out between the two, in m³: the pit of May holds that of March."""
    return MAY.volume - MARCH.volume


def fill() -> float:
    """What was heaped up as a berm, in m³."""
    return -BERM.volume


def write(path: Path, later: bool, off: bool = False) -> Path:
    """Write one flight as LAZ 1.4 with its reference system. Returns the path. ``off`` turns and shifts it by known amounts."""
    rng = np.random.default_rng(SEED + later + 2 * off)
    n = int(np.prod(np.array(HIGH) - np.array(LOW)) * DENSITY)
    xy = rng.uniform(LOW, HIGH, (n, 2))
    xy = xy[np.argsort(np.floor(xy[:, 1] / 8.0), kind="stable")]
    z = surface(xy, later) + rng.normal(0, NOISE, n) + (OFFSET if later else 0.0)
    if later:
        wet = under_water(xy)
        z[wet] += SCATTER * rng.standard_normal(np.count_nonzero(wet))
    xyz = np.column_stack([xy + yard.ORIGIN, z])
    return write_flight(path, SECOND_SCAN.inverse()(xyz) if off else xyz, "simulated drone")


def rectangle(low: tuple[float, float], high: tuple[float, float]) -> Floats:
    """Corners (4, 2) in job coordinates of a local rectangle."""
    return box(low, high) + yard.ORIGIN


def works() -> Floats:
    """Round everything that was worked on, (4, 2) in job coordinates."""
    return rectangle((164.0, 34.0), (230.0, 76.0))


def road() -> Floats:
    """The paved road that did not change, (4, 2) in job coordinates."""
    return rectangle(*ROAD)


def pond() -> Floats:
    """Round the pond on its shore, (n, 2) in job coordinates."""
    angle = np.linspace(0, 2 * np.pi, 16, endpoint=False)
    return np.column_stack([np.cos(angle), np.sin(angle)]) * POND_SIZE * 0.98 + POND + yard.ORIGIN


def ditch() -> Floats:
    """Down one bank of the ditch's water and back up the other, (n, 2) in job coordinates."""
    x = np.linspace(DITCH_LOW[0] + 1.5, DITCH_HIGH[0] - 1.5, 7)
    south, north = np.full(7, DITCH_LOW[1] + 0.45), np.full(7, DITCH_HIGH[1] - 0.45)
    return np.concatenate([np.column_stack([x, south]), np.column_stack([x, north])[::-1]]) + yard.ORIGIN


def areas() -> LineSet:
    """The works and the road as areas at ground level."""
    made = []
    for name, ring in (("works", works()), ("road, not changed", road())):
        z = ground(ring - yard.ORIGIN)
        made.append(Line(np.column_stack([ring, z]), True, name, "areas"))
    return LineSet(tuple(made))


def design() -> TriangleMesh:
    """The pit as designed: 0.2 m deeper than it is, with the same sides."""
    size = MAY.batter * (MAY.depth + 0.2) / MAY.depth
    outer = rectangle(MAY.low, MAY.high)
    inner = rectangle((MAY.low[0] + size, MAY.low[1] + size), (MAY.high[0] - size, MAY.high[1] - size))
    z = ground(outer - yard.ORIGIN), ground(inner - yard.ORIGIN) - MAY.depth - 0.2
    vertices = np.concatenate([np.column_stack([outer, z[0]]), np.column_stack([inner, z[1]])])
    sides = [
        [a, b, c] for k in range(4) for a, b, c in ((k, (k + 1) % 4, 4 + k), ((k + 1) % 4, 4 + (k + 1) % 4, 4 + k))
    ]
    triangles = np.array([*sides, [4, 5, 6], [4, 6, 7]], np.int32)
    return TriangleMesh(vertices, triangles, (Element("Link-span pit", "surface", 0, len(triangles)),))
