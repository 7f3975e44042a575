"""Generate the yard's point cloud with a fixed seed: noise, a vehicle, plants, gaps and strays among good points."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import laspy
import numpy as np
import pyproj

from kerb.core.arrays import AnyArray, Floats
from kerb.demo import yard

DENSITY = 160.0
NOISE = 0.012
# Borders of the flight strips (northings), how wide they overlap, and the strip that is tilted along its length: which, and how
# much it rises towards the east.
STRIPS, OVERLAP, TILTED, TILT = (20.0, 38.0, 88.0), 6.0, 4, 0.0003
GROUND, PLANTS, UNASSIGNED, STRUCTURE, NOISE_CLASS = 2, 4, 1, 6, 7


@dataclass
class Points:
    """Points with what a drone survey gives them: local coordinates, class, colour and intensity."""

    xyz: Floats
    classes: AnyArray
    colours: AnyArray
    intensity: AnyArray
    strips: AnyArray


def generate(density: float = DENSITY) -> Points:
    """Points of the yard in local coordinates, always the same for the same density (points a square metre)."""
    rng = np.random.default_rng(yard.SEED)
    open_points = _open_ground(rng, density)
    pieces = [
        open_points,
        _wall_face(rng, density),
        _loader_sides(rng, density),
        _plants(rng, density),
        _strays(rng),
    ]
    xyz = np.concatenate([xyz for xyz, _ in pieces])
    classes = np.concatenate([np.full(len(xyz), code) if np.isscalar(code) else code for xyz, code in pieces])
    keep = _outside_gaps(xyz) | (classes == NOISE_CLASS)
    xyz, classes = xyz[keep], classes[keep].astype(np.uint8)
    xyz[:, 2] += rng.normal(0, NOISE, len(xyz))
    strips = _strips(xyz)
    xyz[strips == TILTED, 2] += TILT * (xyz[strips == TILTED, 0] - yard.SIZE[0] / 2)
    # Rows of the file follow the lines flown, as a real file does.
    order = np.lexsort((xyz[:, 0], np.floor(xyz[:, 1] / 6.0), strips))
    xyz, classes, strips = xyz[order], classes[order], strips[order]
    colours = _colours(rng, xyz, classes)
    intensity = np.clip(colours.mean(axis=1) * 180 + rng.normal(0, 1500, len(xyz)), 0, 65535).astype(np.uint16)
    return Points(xyz, classes, colours, intensity, strips)


def write(path: Path, density: float = DENSITY, colour: bool = True) -> Path:
    """Write the yard as LAZ 1.4 with its reference system, by way of a temporary name. Returns the path."""
    points = generate(density)
    header = laspy.LasHeader(point_format=7 if colour else 6, version="1.4")
    header.scales = np.full(3, 0.001)
    header.offsets = np.array([*yard.ORIGIN, 0.0])
    header.add_crs(pyproj.CRS.from_user_input(yard.CRS))
    header.system_identifier, header.generating_software = "simulated drone", "Kerb demo"
    las = laspy.LasData(header)
    las.xyz = points.xyz + np.array([*yard.ORIGIN, 0.0])
    las.classification, las.intensity = points.classes, points.intensity
    las.return_number = las.number_of_returns = np.ones(len(points.xyz), np.uint8)
    las.point_source_id = points.strips
    las.gps_time = 100_000.0 + points.strips * 60.0 + np.floor(points.xyz[:, 1] / 6.0) * 4.0 + points.xyz[:, 0] / 40.0
    if colour:
        las.red, las.green, las.blue = (points.colours.astype(np.uint16) * 257).T
    path.parent.mkdir(parents=True, exist_ok=True)
    partial = path.with_name("partial-" + path.name)
    las.write(str(partial))
    partial.replace(path)
    return path


def _strips(xyz: Floats) -> AnyArray:
    """The flight strip of each point, (n,), from the south: where two overlap, points of both lie among one another."""
    north = np.searchsorted(STRIPS, xyz[:, 1]) + 1
    # Without a draw of the generator: what it makes of everything else stays what it was.
    turn = np.floor(xyz[:, 0] / 0.08) + np.floor(xyz[:, 1] / 0.08)
    for number, border in enumerate(STRIPS, 1):
        between = np.abs(xyz[:, 1] - border) < OVERLAP / 2
        north[between] = number + (turn[between] % 2 == 0)
    return north.astype(np.uint16)


def _open_ground(rng: np.random.Generator, density: float) -> tuple[Floats, AnyArray]:
    """One point in each cell of a jittered grid: the even spread that image matching gives."""
    step = 1 / np.sqrt(density)
    shape = int(yard.SIZE[0] / step), int(yard.SIZE[1] / step)
    i, j = np.divmod(np.arange(shape[0] * shape[1]), shape[1])
    xy = (np.column_stack([i, j]) + rng.uniform(0, 1, (len(i), 2))) * step
    z = yard.surface(xy)
    classes = np.full(len(xy), GROUND)
    classes[(xy[:, 0] > yard.WALL_X) & (xy[:, 0] < yard.WALL_X + yard.WALL_THICK)] = STRUCTURE
    for box in yard.LOADER:
        under = box.inside(xy)
        z[under] = np.maximum(z[under], box.top(xy[under]))
        classes[under] = UNASSIGNED
    return np.column_stack([xy, z]), classes


def _wall_face(rng: np.random.Generator, density: float) -> tuple[Floats, int]:
    """The front of the retaining wall above ground and heap; drones see walls with fewer points."""
    n = int(yard.SIZE[1] * 4.5 * density * 0.4)
    xy = np.column_stack([np.full(n, yard.WALL_X - 1e-3), rng.uniform(0, yard.SIZE[1], n)])
    foot = yard.surface(xy)
    z = rng.uniform(3.0, yard.WALL_TOP, n)
    above = z > foot
    face = np.column_stack([xy + np.column_stack([rng.normal(0, 0.01, n), np.zeros(n)]), z])
    return face[above], STRUCTURE


def _loader_sides(rng: np.random.Generator, density: float) -> tuple[Floats, int]:
    sides = []
    for box in yard.LOADER:
        n = int(2 * (box.size[0] + box.size[1]) * box.size[2] * density * 0.5)
        along = rng.uniform(-0.5, 0.5, n)
        edge = rng.integers(0, 4, n)
        dx = np.where(edge < 2, along, np.where(edge == 2, -0.5, 0.5)) * box.size[0]
        dy = np.where(edge >= 2, along, np.where(edge == 0, -0.5, 0.5)) * box.size[1]
        xy = np.column_stack([dx, dy]) + np.array(box.centre)
        sides.append(np.column_stack([xy, yard.ground(xy) + rng.uniform(0.1, box.size[2], n)]))
    return np.concatenate(sides), UNASSIGNED


def _plants(rng: np.random.Generator, density: float) -> tuple[Floats, int]:
    plants = []
    for east, north, radius in yard.BUSHES:
        n = int(np.pi * radius**2 * density * 2.2)
        reach, angle = radius * np.sqrt(rng.uniform(0, 1, n)), rng.uniform(0, 2 * np.pi, n)
        xy = np.column_stack([east + reach * np.cos(angle), north + reach * np.sin(angle)])
        crown = np.sqrt(np.clip(1 - (reach / radius) ** 2, 0, None)) * radius * 1.3
        z = yard.surface(xy) + crown * rng.uniform(0.15, 1, n)
        plants.append(np.column_stack([xy, z]))
    return np.concatenate(plants), PLANTS


def _strays(rng: np.random.Generator) -> tuple[Floats, int]:
    """Points in the air and below ground, classified as noise."""
    xy = rng.uniform(0, 1, (60, 2)) * np.array(yard.SIZE)
    z = yard.surface(xy) + rng.choice([-2.5, 6.0, 9.0], 60) + rng.normal(0, 0.5, 60)
    return np.column_stack([xy, z]), NOISE_CLASS


def _outside_gaps(xyz: Floats) -> AnyArray:
    keep = np.ones(len(xyz), bool)
    for east, north, a, b in yard.GAPS:
        keep &= np.hypot((xyz[:, 0] - east) / a, (xyz[:, 1] - north) / b) > 1
    return keep


def _colours(rng: np.random.Generator, xyz: Floats, classes: AnyArray) -> AnyArray:
    """Red, green, blue 0..255 by what a place is made of, with grain."""
    colour = np.empty((len(xyz), 3))
    colour[:] = (172, 166, 154)
    for heap, tone in zip(yard.HEAPS, ((150, 132, 108), (128, 130, 134), (206, 186, 142)), strict=True):
        colour[heap.over_ground(xyz[:, :2]) > 0.02] = tone
    colour[xyz[:, 0] > yard.WALL_X + yard.WALL_THICK] = (122, 134, 96)
    colour[classes == STRUCTURE] = (188, 186, 180)
    colour[classes == PLANTS] = (86, 116, 62)
    colour[classes == UNASSIGNED] = (206, 148, 46)
    colour *= 1 + rng.normal(0, 0.06, len(xyz))[:, None]
    return np.clip(colour, 0, 255).astype(np.uint8)
