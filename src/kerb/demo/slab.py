"""The new quay slab: a floor with waves, a hump, a pond at the door and a step at a joint, with racks and a vehicle on it."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from kerb.core.arrays import Floats
from kerb.demo import yard
from kerb.demo.flights import write_flight

SEED, FILE = 20260701, "quay-slab.laz"
# Local south-western corner, size and level; points a square metre, and their noise.
CORNER, SIZE, LEVEL, DENSITY, NOISE = (74.0, -60.0), (24.0, 15.0), 3.2, 260.0, 0.0005
# Waves along and across: amplitude and length of each.
WAVES = ((0.0015, 6.0), (0.001, 4.5))
# Middle, radius and height of a cone on it; middle, radius and depth of a cone into it, by the east door; step at a joint.
HUMP = (9.0, 5.0), 1.6, 0.009
POND = (21.0, 8.0), 2.0, 0.010
JOINT, STEP = 14.0, 0.003
# What stands on it, from corner to corner with its height: two racks and a vehicle.
ON_IT = (((2.0, 11.5), (9.0, 12.7), 3.0), ((11.0, 11.5), (18.0, 12.7), 3.0), ((16.0, 2.0), (20.2, 4.0), 1.9))


def level(xy: Floats) -> Floats:
    """Level (n,) of the slab at places (n, 2) counted from its corner."""
    x, y = xy.T
    (along, long), (across, wide) = WAVES
    z = LEVEL + along * np.sin(2 * np.pi * x / long) + across * np.sin(2 * np.pi * y / wide)
    for (middle, radius, height), sign in ((HUMP, 1.0), (POND, -1.0)):
        z = z + sign * height * np.clip(1 - np.hypot(*(xy - middle).T) / radius, 0, None)
    return np.asarray(z + np.where(x > JOINT, STEP, 0.0))


def scan() -> Floats:
    """Points (n, 3) in job coordinates: the slab where nothing hides it, and what stands on it."""
    rng = np.random.default_rng(SEED)
    xy = rng.uniform(0, 1, (int(DENSITY * SIZE[0] * SIZE[1]), 2)) * SIZE
    found = []
    for low, high, tall in ON_IT:
        hidden = ((xy > low) & (xy < high)).all(axis=1)
        # The outside of a box: its top and its sides.
        size = np.subtract(high, low)
        top = rng.uniform(0, 1, (int(40 * size.prod()), 2)) * size + low
        found.append(np.column_stack([top, np.full(len(top), LEVEL + tall)]))
        side = rng.uniform(0, 1, (int(40 * 2 * size.sum() * tall), 2))
        at = side[:, 0] * 2 * size.sum()
        edge = np.interp(at, np.cumsum([0, size[0], size[1], size[0], size[1]]), np.arange(5.0))
        corners = np.array([low, (high[0], low[1]), high, (low[0], high[1]), low], float)
        place = np.column_stack([np.interp(edge, np.arange(5.0), corners[:, k]) for k in (0, 1)])
        found.append(np.column_stack([place, LEVEL + 0.05 + side[:, 1] * (tall - 0.05)]))
        xy = xy[~hidden]
    found.append(np.column_stack([xy, level(xy)]))
    points = np.concatenate(found)
    points[:, 2] += rng.normal(0, NOISE, len(points))
    return np.asarray(points + [*(yard.ORIGIN + CORNER), 0.0])


def write(folder: Path) -> None:
    """Write its scan, in tenths of a millimetre."""
    write_flight(folder / FILE, scan(), step=0.0001)
