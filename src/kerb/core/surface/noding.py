"""Lines that cross or nearly coincide, split at each meeting and snapped to a fine grid, so that they can be followed by edges.

Snap rounding after Hobby 1999 and Halperin and Packer 2002, as GEOS does it (recalled).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import shapely

from kerb.core.arrays import Floats, Ints

# Sides of the grid that are tried in turn, as shares of the extent.
GRIDS = (1e-8, 1e-7, 1e-6, 1e-5)


def noded(lines: Sequence[Floats], grid: float) -> tuple[Floats, Ints]:
    """Vertices (n, 3) on a grid and pairs of them (k, 2) that no other pair crosses, from lines (m, 3) in plan.

    A vertex takes its elevation from the nearest place on the lines given.
    """
    parts: Any = [shapely.LineString(line[:, :2]) for line in lines if len(line) > 1]
    whole = shapely.union_all(parts, grid_size=grid)
    pieces = [shapely.get_coordinates(piece) for piece in shapely.get_parts(whole) if piece.geom_type == "LineString"]
    places = np.concatenate([np.empty((0, 2)), *pieces])
    xy, number = np.unique(places, axis=0, return_inverse=True)
    number, at, edges = number.ravel(), 0, [np.empty((0, 2), np.int64)]
    for piece in pieces:
        mine = number[at : at + len(piece)]
        edges.append(np.column_stack([mine[:-1], mine[1:]]))
        at += len(piece)
    pairs = np.unique(np.sort(np.concatenate(edges), axis=1), axis=0)
    return np.column_stack([xy, _levels(lines, xy)]), pairs[pairs[:, 0] != pairs[:, 1]]


def _levels(lines: Sequence[Floats], xy: Floats) -> Floats:
    """Elevations (n,) at places of the nearest segment of lines (m, 3)."""
    starts = np.concatenate([line[:-1] for line in lines if len(line) > 1])
    stops = np.concatenate([line[1:] for line in lines if len(line) > 1])
    segments: Any = shapely.linestrings(np.stack([starts[:, :2], stops[:, :2]], axis=1))
    nearest = shapely.STRtree(segments).nearest(shapely.points(xy))
    a, b = starts[nearest], stops[nearest]
    length = np.sum((b - a)[:, :2] ** 2, axis=1)
    share = np.sum((xy - a[:, :2]) * (b - a)[:, :2], axis=1) / np.where(length > 0, length, 1.0)
    return np.asarray(a[:, 2] + np.clip(share, 0.0, 1.0) * (b[:, 2] - a[:, 2]))
