"""The upper storey of the harbour office: five rooms and a corridor with doors, a round stair tower, a column and furniture."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from kerb.core.arrays import Floats
from kerb.demo import yard
from kerb.demo.flights import write_flight

SEED, FILE = 20260703, "office-storey.laz"
# Local corner, turn in degrees, floor and height; points a square metre of wall, and their noise.
CORNER, TURN, FLOOR, HIGH, DENSITY, NOISE = (96.0, 60.0), 8.0, 8.2, 2.7, 700.0, 0.003
# Rooms from corner to corner between the faces of their walls; doors as (room, side, from, to) along that side.
ROOMS = (
    ((0.0, 0.0), (5.0, 4.2)), ((5.15, 0.0), (9.0, 4.2)), ((9.15, 0.0), (15.0, 4.2)), ((0.0, 4.35), (15.0, 6.0)),
    ((0.0, 6.15), (7.0, 10.5)), ((7.15, 6.15), (15.0, 10.5)),
)  # fmt: skip
DOORS = ((0, "n", 3.6, 4.5), (1, "n", 1.4, 2.3), (2, "n", 2.0, 3.0), (3, "s", 3.6, 4.5), (3, "s", 6.55, 7.45),
         (3, "s", 11.15, 12.15), (3, "n", 1.0, 2.0), (3, "n", 9.0, 10.0), (4, "s", 1.0, 2.0), (5, "s", 1.85, 2.85))  # fmt: skip
TOWER, COLUMN = ((17.4, 5.2), 2.0), ((11.0, 8.4), 0.25)
FURNITURE = ((1.0, 1.0, 1.2), (3.5, 2.5, 0.9), (6.5, 2.0, 1.4), (12.0, 1.5, 1.3), (3.0, 8.5, 1.5), (13.0, 9.3, 1.6))


def walls() -> list[tuple[Floats, Floats]]:
    """Faces of walls from place to place (2,), counted from the corner of the storey, doors left open."""
    found = []
    for number, (low, high) in enumerate(ROOMS):
        (w, s), (e, n) = low, high
        sides = {"s": ((w, s), (e, s)), "n": ((w, n), (e, n)), "w": ((w, s), (w, n)), "e": ((e, s), (e, n))}
        for side, (a, b) in sides.items():
            start, end = np.array(a), np.array(b)
            long = float(np.hypot(*(end - start)))
            cuts = sorted((first, last) for room, which, first, last in DOORS if (room, which) == (number, side))
            at = 0.0
            for first, last in (*cuts, (long, long)):
                if first > at:
                    found.append((start + (end - start) * at / long, start + (end - start) * first / long))
                at = last
    return found


def scan() -> Floats:
    """Points (n, 3) in job coordinates."""
    rng = np.random.default_rng(SEED)
    found = []
    for a, b in walls():
        n = int(DENSITY * HIGH * np.hypot(*(b - a)))
        found.append(np.column_stack([a + rng.random((n, 1)) * (b - a), HIGH * rng.random(n)]))
    for (x, y), radius in (TOWER, COLUMN):
        n = int(DENSITY * HIGH * 2 * np.pi * radius)
        turn = rng.uniform(0, 2 * np.pi, n)
        found.append(np.column_stack([x + radius * np.cos(turn), y + radius * np.sin(turn), HIGH * rng.random(n)]))
    for low, high in ROOMS:
        n = int(400 * np.prod(np.subtract(high, low)))
        found.append(np.column_stack([rng.uniform(low, high, (n, 2)), np.zeros(n)]))
    for x, y, tall in FURNITURE:
        found.append(np.column_stack([rng.normal([x, y], 0.2, (1500, 2)), tall * rng.random(1500)]))
    points = np.concatenate(found)
    points += rng.normal(0, NOISE, points.shape)
    angle = np.radians(TURN)
    turned = points[:, :2] @ np.array([[np.cos(angle), np.sin(angle)], [-np.sin(angle), np.cos(angle)]])
    return np.column_stack([turned + yard.ORIGIN + CORNER, points[:, 2] + FLOOR])


def write(folder: Path) -> None:
    """Write its scan."""
    write_flight(folder / FILE, scan(), step=0.0005)
