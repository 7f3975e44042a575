"""Kernels that put ground points in order and move them by less than their resolution."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import kernel


@kernel
def keys_of_places(xyz, east, north, keys):
    """Easting and northing of whole places (n, 3), from the lowest ones, as one number each."""
    for k in range(len(keys)):
        keys[k] = (np.uint64(np.int64(xyz[k, 0]) - east) << np.uint64(32)) | np.uint64(np.int64(xyz[k, 1]) - north)


@kernel
def lowest_of_places(xyz, order, keys, lowest, over):
    """Write one place for each key, with the lowest elevation there, and how far each given one lies over it; and their count."""
    count, k = 0, 0
    while k < len(keys):
        last, low = k, xyz[order[k], 2]
        while last < len(keys) and keys[last] == keys[k]:
            low = min(low, xyz[order[last], 2])
            last += 1
        lowest[count, 0], lowest[count, 1], lowest[count, 2] = xyz[order[k], 0], xyz[order[k], 1], low
        for row in order[k:last]:
            over[row] = np.int64(xyz[row, 2]) - np.int64(low)
        count, k = count + 1, last
    return count


@kernel
def nudged(xyz, start, scale, share, out):
    """Places (n, 3) from whole ones, each moved in plan by up to half of ``share`` of the resolution: a number that looks random
    and is always the same for the same easting and northing."""
    for k in range(xyz.shape[0]):
        mixed = (np.uint64(xyz[k, 0]) * np.uint64(0x9E3779B97F4A7C15)) ^ (
            np.uint64(xyz[k, 1]) * np.uint64(0xC2B2AE3D27D4EB4F)
        )
        mixed = (mixed ^ (mixed >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        mixed = (mixed ^ (mixed >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        mixed ^= mixed >> np.uint64(31)
        for axis in range(3):
            out[k, axis] = start[axis] + xyz[k, axis] * scale[axis]
        out[k, 0] += ((mixed & np.uint64(0xFFFFFFFF)) / 2.0**32 - 0.5) * share * scale[0]
        out[k, 1] += ((mixed >> np.uint64(32)) / 2.0**32 - 0.5) * share * scale[1]


@kernel
def cell_numbers(places, cell, columns, numbers):
    """The cell, row after row, of places (n, 3) that are nowhere below nought but by rounding."""
    for k in range(len(numbers)):
        east, north = max(np.floor(places[k, 0] / cell), 0.0), max(np.floor(places[k, 1] / cell), 0.0)
        numbers[k] = np.uint64(north) * np.uint64(columns) + np.uint64(east)
