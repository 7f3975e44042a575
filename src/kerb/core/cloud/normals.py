"""Normals of the surface at each point, from the plane through its nearest neighbours, and the slope they tell."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Floats32
from kerb.core.cloud.neighbours import NeighbourIndex
from kerb.core.cloud.normals_kernels import least_spread
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.view import CloudView, Narrowing
from kerb.core.parallel import each
from kerb.core.progress import Progress

NEIGHBOURS = 16
FEWEST = 6
HALO_SPACINGS = 6.0


def normals(store: CloudStore, progress: Progress) -> Floats32:
    """Unit normals, (n, 3), pointing up; NaN with fewer than six neighbours within twelve point spacings.

    Each tile is taken with a halo of its surroundings, so that its edges are as good as its middle. The plane is the
    total least-squares one: the eigenvector of the smallest eigenvalue of the neighbours' covariance.

    Raises
    ------
    Cancelled, when the progress is stopped.
    """
    result = np.full((store.count, 3), np.nan, np.float32)

    def of_tile(number: int) -> None:
        tile = store.tiles[number]
        halo = HALO_SPACINGS * float(tile["spacing"]) + 1e-9
        box = (tuple((tile["low"] - halo).tolist()), tuple((tile["high"] + halo).tolist()))
        around = CloudView(store, Narrowing(box=box, with_aside=True)).points()
        if len(around) < FEWEST:
            return
        rows, origin = store.rows_of(number), around.mean(axis=0)
        local = around - origin
        k = min(NEIGHBOURS, len(around))
        _, index = NeighbourIndex(local).nearest(store.coordinates(rows) - origin, k, 2 * halo)
        least_spread(local, index, FEWEST, result[rows])

    each(of_tile, range(len(store.tiles)), progress, "Computing normals")
    return result


def slopes(store: CloudStore, progress: Progress) -> Floats32:
    """Inclination in degrees (0 level, 90 upright) at every point, NaN where there is no normal. Raises Cancelled."""
    upright = normals(store, progress)[:, 2]
    return np.asarray(np.degrees(np.arccos(np.clip(upright, 0.0, 1.0))), np.float32)
