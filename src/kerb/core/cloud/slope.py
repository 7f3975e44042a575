"""Slope of the ground at each point: inclination of the plane through its nearest neighbours, tile by tile."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Floats, Floats32
from kerb.core.cloud.neighbours import NeighbourIndex
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.view import CloudView, Narrowing
from kerb.core.progress import Progress

NEIGHBOURS = 16
HALO_SPACINGS = 6.0


def slopes(store: CloudStore, progress: Progress) -> Floats32:
    """Inclination in degrees (0 level, 90 upright) at every point, NaN with fewer than six neighbours.

    Each tile is taken with a halo of its surroundings, so that its edges are as good as its middle. The plane is the
    total least-squares one: the eigenvector of the smallest eigenvalue of the neighbours' covariance.

    Raises
    ------
    Cancelled, when the progress is stopped.
    """
    result = np.full(store.count, np.nan, np.float32)
    for number, tile in enumerate(store.tiles):
        progress.step(number / len(store.tiles), "Computing slope")
        halo = HALO_SPACINGS * float(tile["spacing"]) + 1e-9
        low, high = tile["low"] - halo, tile["high"] + halo
        box = (tuple(low.tolist()), tuple(high.tolist()))
        around = CloudView(store, Narrowing(box=box, with_aside=True)).points()
        rows = store.rows_of(number)
        result[rows] = _inclination(store.coordinates(rows), around, 2 * halo)
    return result


def _inclination(points: Floats, around: Floats, reach: float) -> Floats32:
    k = min(NEIGHBOURS, len(around))
    if k < 6:
        return np.full(len(points), np.nan, np.float32)
    origin = around.mean(axis=0)
    local = around - origin
    distance, index = NeighbourIndex(local).nearest(points - origin, k, reach)
    known = np.isfinite(distance)
    near = np.where(known[:, :, None], local[np.maximum(index, 0)], 0.0)
    count = known.sum(axis=1)
    mean = near.sum(axis=1) / np.maximum(count, 1)[:, None]
    centred = np.where(known[:, :, None], near - mean[:, None, :], 0.0)
    covariance = np.einsum("nki,nkj->nij", centred, centred)
    _, vectors = np.linalg.eigh(covariance)
    upright = np.abs(vectors[:, 2, 0])
    slope = np.degrees(np.arccos(np.clip(upright, 0.0, 1.0)))
    slope[count < 6] = np.nan
    return slope.astype(np.float32)
