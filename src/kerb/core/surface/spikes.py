"""Points that would make spikes are left out: those that lie under a surface which higher points make already.

Khosravipour, Skidmore and Isenburg (2016), Generating spike-free digital surface models using LiDAR raw point clouds: a new
approach for forestry applications, International Journal of Applied Earth Observation and Geoinformation 52, 104-114: points
are put into a Delaunay triangulation from the highest down; a triangle whose edges are all shorter than a length is held from
the level on that lies a depth below its lowest corner, and what lies under it is passed over.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Ints32, Mask
from kerb.core.errors import InputError
from kerb.core.geometry.polygon import box
from kerb.core.progress import Progress
from kerb.core.surface.delaunay import BITS, in_steps
from kerb.core.surface.spikes_kernels import LEVELS, put_in

AT_A_TIME = 200_000
# Points to a cell of the finest hints, and how much larger the cells of each next level are.
A_CELL, LARGER = 4, 16


@dataclass(frozen=True)
class Spikes:
    """Which triangles hold: with ``edge`` or less in plan, from ``depth`` below their lowest corner; both in the points' unit."""

    edge: float
    depth: float


@dataclass(frozen=True)
class SpikeFree:
    """Which points (n,) stay, and the triangles (m, 3) between them, those to the box round them (corners n and up) included."""

    kept: Mask
    triangles: Ints32


def spike_free(points: Floats, spikes: Spikes, progress: Progress) -> SpikeFree:
    """Points (n, 3) without those under held triangles; of several on one place in plan the highest stays.

    Raises InputError, when edge or depth cannot be; Cancelled.
    """
    if not (np.isfinite(spikes.edge) and spikes.edge > 0 and np.isfinite(spikes.depth) and spikes.depth >= 0):
        raise InputError("spikes: the longest edge must be above 0, the depth 0 or more")
    n = len(points)
    xy, whole = in_steps(np.ascontiguousarray(points[:, :2]))
    own, span = np.ptp(xy, axis=0), np.ptp(points[:, :2], axis=0)
    factor = float(own.max() / span.max()) if span.max() > 0 else 1.0
    edge = spikes.edge * factor
    room = np.ceil(2.0 * edge + 0.01 * own.max())
    low, wide = xy.min(axis=0) - room, own + 2 * room
    places = np.vstack([xy, box(low, low + wide)])
    whole = whole and bool((wide < 2**BITS).all())
    triangles, beside = (np.full((2 * n + 2, 3), -1, np.int32) for _ in range(2))
    triangles[:2] = [[n, n + 1, n + 2], [n, n + 2, n + 3]]
    beside[0, 1], beside[1, 2] = 1, 0
    finest = float(np.sqrt(wide.prod() * min(A_CELL / n, 1.0)))
    cells = np.array([finest * LARGER**k for k in range(LEVELS)])
    columns, rows = (int(one) + 1 for one in wide / finest)
    hints = np.full((LEVELS, rows, columns), -1, np.int32)
    z = np.ascontiguousarray(points[:, 2])
    order = np.argsort(-z, kind="stable")
    kept = np.zeros(n, np.bool_)
    limits, state = (edge * edge, spikes.depth), (2, 0, 0)
    for first in range(0, n, AT_A_TIME):
        progress.step(first / n, "Looking for spikes")
        some = order[first : first + AT_A_TIME]
        state = put_in(places, z, some, whole, limits, low, cells, hints, triangles, beside, kept, state)
    return SpikeFree(kept, triangles[: state[0]])
