"""Points as connected pieces: those in cubes that touch one another."""

from __future__ import annotations

import numpy as np
import scipy

from kerb.core.arrays import Floats, Ints

MOST_CUBES = 60_000_000


def pieces_of(points: Floats, cube: float) -> Ints:
    """Piece number (n,), from 1, of each point (n, 3); cubes are connected by faces, edges and corners.

    Above 60 million cubes, larger ones are used.
    """
    if not len(points):
        return np.empty(0, np.int64)
    low, high = points.min(axis=0), points.max(axis=0)
    while float(np.prod(np.floor((high - low) / cube) + 1)) > MOST_CUBES:
        cube *= 1.5
    place = np.floor((points - low) / cube).astype(np.int32)
    taken = np.zeros(place.max(axis=0) + 1, bool)
    taken[tuple(place.T)] = True
    label, _ = scipy.ndimage.label(taken, np.ones((3, 3, 3), bool))
    return np.asarray(label[tuple(place.T)])
