"""The land round the yard of Saltmarrow Quay, as an agency flies it: hills, a shore, sheds and woods, as formulas.

Local coordinates are those of the yard; inside the yard the ground is the yard's own.
"""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import AnyArray, Floats
from kerb.demo import yard

GROUND, TREES, BUILDING, WATER = 2, 5, 6, 9
SEA_LEVEL = 0.4
BIAS = 0.035
NOISE = 0.04
SHEDS = (
    ((-60.0, 40.0), (36.0, 18.0), 7.5), ((-40.0, 130.0), (24.0, 14.0), 5.5), ((190.0, 60.0), (50.0, 22.0), 9.0),
    ((230.0, 170.0), (30.0, 30.0), 6.0), ((60.0, 190.0), (44.0, 16.0), 8.0),
)  # fmt: skip


def ground(xy: Floats) -> Floats:
    """Elevation of the bare ground at local (n, 2) places."""
    x, y = xy[:, 0], xy[:, 1]
    outside = np.hypot(np.maximum(np.maximum(-x, x - yard.SIZE[0]), 0), np.maximum(np.maximum(-y, y - yard.SIZE[1]), 0))
    rise = 1 - np.exp(-((outside / 180.0) ** 2))
    hills = 16.0 + 9.0 * np.sin(x / 130.0 + 0.7) * np.cos(y / 160.0) + 4.0 * np.sin((x + y) / 70.0)
    z = yard.ground(xy) + rise * np.maximum(hills - 3.0, -4.0)
    out_to_sea = (y + 95.0 + 14.0 * np.sin(x / 60.0)) / 9.0
    shore = 1 / (1 + np.exp(np.clip(out_to_sea, -60, 60)))
    return np.asarray(z * (1 - shore) + (SEA_LEVEL - 1.5) * shore)


def flown(xy: Floats, rng: np.random.Generator, later: bool) -> tuple[Floats, AnyArray]:
    """Points (n, 3) and classes of a flight over local places; ``later`` has the heaps on the yard."""
    z, classes = ground(xy), np.full(len(xy), GROUND, np.uint8)
    if later:
        inside = np.all((xy > 0) & (xy < np.array(yard.SIZE)), axis=1)
        z[inside] = yard.surface(xy[inside])
    wood = (np.sin(xy[:, 0] / 47.0) * np.sin(xy[:, 1] / 53.0) > 0.35) & (z > 8.0)
    tree = wood & (rng.uniform(0, 1, len(xy)) < 0.65)
    z[tree] += rng.uniform(1.5, 13.0, int(tree.sum()))
    classes[tree] = TREES
    for centre, size, height in SHEDS:
        under = np.all(np.abs(xy - np.array(centre)) < np.array(size) / 2, axis=1)
        if under.any():
            z[under] = float(ground(np.array([centre]))[0]) + height
            classes[under] = BUILDING
    sea = z < SEA_LEVEL
    z[sea], classes[sea] = SEA_LEVEL, WATER
    return np.column_stack([xy, z + BIAS + rng.normal(0, NOISE, len(xy))]), classes


def colours(xy: Floats) -> AnyArray:
    """Red, green, blue (n, 3) of the picture tiles at local places."""
    z = ground(xy)
    out = np.empty((len(xy), 3))
    grain = 1 + 0.05 * np.sin(xy[:, 0] * 1.7) * np.sin(xy[:, 1] * 1.3)
    out[:] = (138, 146, 106)
    inside = np.all((xy > -8) & (xy < np.array(yard.SIZE) + 8), axis=1)
    out[inside] = (176, 170, 158)
    wood = (np.sin(xy[:, 0] / 47.0) * np.sin(xy[:, 1] / 53.0) > 0.35) & (z > 8.0)
    out[wood] = (84, 108, 70)
    for heap, tone in zip(yard.HEAPS, ((150, 132, 108), (128, 130, 134), (206, 186, 142)), strict=True):
        out[inside & (heap.over_ground(xy) > 0.05)] = tone
    for centre, size, _ in SHEDS:
        out[np.all(np.abs(xy - np.array(centre)) < np.array(size) / 2, axis=1)] = (150, 92, 78)
    out[z < SEA_LEVEL] = (92, 122, 138)
    step = 12.0
    slope = (ground(xy + [step, 0]) - ground(xy - [step, 0])) - (ground(xy + [0, step]) - ground(xy - [0, step]))
    shade = 1 + np.clip(slope / (4 * step), -0.25, 0.25)
    return np.clip(out * (grain * shade)[:, None], 0, 255).astype(np.uint8)
