"""The rest of the quay: the shore slope before and after a storm, a cut face that leans over before and after a blast, and the
corridor of the harbour office as built against its model. All with known sizes."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.geometry.mesh import TriangleMesh, joined
from kerb.core.geometry.rigid import Rigid
from kerb.demo import yard
from kerb.demo.boxes import box
from kerb.demo.flights import write_flight

SEED = 20260601
# The shore slope: local corners, one in how much it falls to the south, points a square metre, and where none came back after.
SHORE_LOW, SHORE_HIGH, SHORE_TOP, SHORE_FALL, SHORE_DENSITY = (4.0, -66.0), (64.0, -34.0), 3.0, 3.0, 16.0
PATCH = (50.0, -47.0), (56.0, -41.0)
# The cut face: its foot at the west, length, height, how far it leans over, points a square metre.
FACE_FOOT, FACE_LONG, FACE_HIGH, FACE_LEAN, FACE_DENSITY = (150.0, 118.0, 4.0), 26.0, 10.0, np.radians(12.0), 90.0
# The corridor, its length, width and height; points a square metre; what is out of place, and by how much.
HALL, HALL_LONG, HALL_WIDE, HALL_HIGH, HALL_DENSITY = (74.0, -24.0, 3.6), 24.0, 3.0, 3.0, 160.0
BEAMS, COLUMNS = 5, 6
LOW_BEAM, BEAM_LOW, OUT_COLUMN, COLUMN_OUT = "Beam 3", 0.035, "Column 4", 0.02
NOISE = 0.004
# What brings the second scan of the corridor into line, but for how far it slides along.
CORRIDOR = Rigid.turned(0.4, np.array([*(yard.ORIGIN + [86.0, -22.5]), 5.0]), np.array([0.12, 0.08, 0.05]))


@dataclass(frozen=True)
class Bowl:
    """A paraboloid of some depth on an ellipse of the plan: dug where the depth is above nought, else heaped."""

    middle: tuple[float, float]
    axes: tuple[float, float]
    depth: float

    def at(self, xy: Floats) -> Floats:
        """Depth at local places (n, 2)."""
        away = ((xy[:, 0] - self.middle[0]) / self.axes[0]) ** 2 + ((xy[:, 1] - self.middle[1]) / self.axes[1]) ** 2
        return np.asarray(self.depth * np.clip(1.0 - away, 0.0, 1.0))

    @property
    def volume(self) -> float:
        """π a b d / 2, in m³."""
        return abs(np.pi * self.axes[0] * self.axes[1] * self.depth / 2)


@dataclass(frozen=True)
class Cone:
    """A cone that came off the face: where along and across it, its radius and depth."""

    middle: tuple[float, float]
    radius: float
    depth: float

    def at(self, s: Floats, t: Floats) -> Floats:
        """Depth along and across the face."""
        away = np.hypot(s - self.middle[0], t - self.middle[1])
        return np.asarray(self.depth * np.clip(1.0 - away / self.radius, 0.0, 1.0))

    @property
    def volume(self) -> float:
        """π r² d / 3, in m³."""
        return float(np.pi * self.radius**2 * self.depth / 3)


SCOUR, DEPOSIT = Bowl((20.0, -52.0), (6.5, 4.5), 1.2), Bowl((38.0, -44.0), (6.0, 3.5), -0.7)
BLAST = (Cone((9.0, 5.0), 2.4, 1.5), Cone((19.0, 6.2), 1.6, 0.8))


def shore(later: bool) -> Floats:
    """Points (n, 3) of the shore slope in job coordinates."""
    rng = np.random.default_rng(SEED + later)
    size = np.array(SHORE_HIGH) - np.array(SHORE_LOW)
    xy = rng.uniform(SHORE_LOW, SHORE_HIGH, (int(size.prod() * SHORE_DENSITY), 2))
    if later:
        inside = ((xy > PATCH[0]) & (xy < PATCH[1])).all(axis=1)
        xy = xy[~inside]
    z = SHORE_TOP + (xy[:, 1] - SHORE_HIGH[1]) / SHORE_FALL + 0.04 * np.sin(xy[:, 0] / 3.0)
    z = z - (SCOUR.at(xy) + DEPOSIT.at(xy) if later else 0.0) + rng.normal(0, 0.02, len(xy))
    return np.column_stack([xy + yard.ORIGIN, z])


def face(later: bool) -> Floats:
    """Points (n, 3) of the cut face in job coordinates; it looks south, and its head stands out over its foot."""
    rng = np.random.default_rng(SEED + 2 + later)
    n = int(FACE_LONG * FACE_HIGH * FACE_DENSITY)
    s, t = rng.uniform(0, FACE_LONG, n), rng.uniform(0, FACE_HIGH, n)
    out = 0.15 * np.sin(s / 1.7) * np.cos(t / 1.3) + rng.normal(0, NOISE, n)
    if later:
        out = out - sum(cone.at(s, t) for cone in BLAST)
    up = np.array([0.0, -np.sin(FACE_LEAN), np.cos(FACE_LEAN)])
    way = np.array([0.0, -np.cos(FACE_LEAN), -np.sin(FACE_LEAN)])
    local = s[:, None] * [1.0, 0.0, 0.0] + t[:, None] * up + out[:, None] * way
    return np.asarray(local + np.array(FACE_FOOT) + np.append(yard.ORIGIN, 0.0))


def pieces(as_built: bool) -> list[TriangleMesh]:
    """The corridor as boxes in job coordinates, as designed or as it was built."""
    x, y, z = (np.array(HALL) + np.append(yard.ORIGIN, 0.0)).tolist()
    made = [
        box("Floor", (x, y, z - 0.3), (HALL_LONG, HALL_WIDE, 0.3)),
        box("Ceiling", (x, y, z + HALL_HIGH), (HALL_LONG, HALL_WIDE, 0.2)),
        box("North wall", (x, y + HALL_WIDE, z), (HALL_LONG, 0.2, HALL_HIGH)),
        box("South wall", (x, y - 0.2, z), (HALL_LONG, 0.2, HALL_HIGH)),
    ]  # fmt: skip
    for k in range(BEAMS):
        name = f"Beam {k + 1}"
        down = BEAM_LOW if as_built and name == LOW_BEAM else 0.0
        made.append(box(name, (x + 2.0 + 5.0 * k, y, z + HALL_HIGH - 0.4 - down), (0.3, HALL_WIDE, 0.4)))
    for k in range(COLUMNS):
        name = f"Column {k + 1}"
        off = COLUMN_OUT if as_built and name == OUT_COLUMN else 0.0
        made.append(box(name, (x + 1.0 + 4.2 * k, y + off, z), (0.35, 0.35, HALL_HIGH - 0.4)))
    return made


def model() -> TriangleMesh:
    """The corridor as designed, in job coordinates."""
    return joined(pieces(False))


def scan(second: bool = False) -> Floats:
    """Points (n, 3) on what is seen from inside the corridor; a second scan saw floor, ceiling and walls, and lies elsewhere."""
    rng = np.random.default_rng(SEED + 4 + second)
    low = np.array(HALL) + np.append(yard.ORIGIN, 0.0)
    high = low + [HALL_LONG, HALL_WIDE, HALL_HIGH]
    found = []
    for piece in pieces(True):
        name = piece.elements[0].name
        if second and name.startswith(("Beam", "Column")):
            continue
        corners = piece.vertices[piece.triangles]
        for a, b, c in corners:
            n = int(np.linalg.norm(np.cross(b - a, c - a)) / 2 * HALL_DENSITY)
            u, v = np.sqrt(rng.uniform(0, 1, (1, n))), rng.uniform(0, 1, (1, n))
            found.append(((1 - u) * a[:, None] + u * (1 - v) * b[:, None] + u * v * c[:, None]).T)
    points = np.concatenate(found)
    inside = ((points > low - 1e-3) & (points < high + 1e-3)).all(axis=1)
    points = points[inside] + rng.normal(0, 0.002, (int(inside.sum()), 3))
    return np.asarray(CORRIDOR.inverse()(points)) if second else points


FLIGHTS = {
    "shore-before.laz": lambda: shore(False), "shore-after.laz": lambda: shore(True), "face-before.laz": lambda: face(False),
    "face-after.laz": lambda: face(True), "office-scan.laz": scan, "corridor-second-scan.laz": lambda: scan(True),
}  # fmt: skip


def write(folder: Path) -> None:
    """Write all clouds."""
    for name, made in FLIGHTS.items():
        write_flight(folder / name, made())
