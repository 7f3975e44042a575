"""Noise of the vertices of a surface: how far they lie off the planes through their neighbours."""

from __future__ import annotations

import numpy as np

from kerb.core.robust import spread
from kerb.core.surface.contours import edges_of
from kerb.core.surface.tin import Tin

SAMPLE, FEWEST_NEIGHBOURS, FEWEST = 2000, 5, 10
# More triangles than this are judged in the middle of the surface only.
MOST_TRIANGLES = 400_000


def roughness(tin: Tin) -> tuple[float, float]:
    """Spread of vertices about the plane through their neighbours (median), and the spacing of vertices (median edge)."""
    if len(tin.triangles) > MOST_TRIANGLES:
        tin = _middle_of(tin)
    _, edges = edges_of(tin.triangles)
    v = tin.vertices
    spacing = float(np.median(np.hypot(*(v[edges[:, 0], :2] - v[edges[:, 1], :2]).T)))
    both = np.concatenate([edges, edges[:, ::-1]])
    order = np.argsort(both[:, 0], kind="stable")
    owner, other = both[order].T
    first = np.searchsorted(owner, np.arange(len(v) + 1))
    rows = np.arange(0, len(v), max(1, len(v) // SAMPLE))
    counts = first[rows + 1] - first[rows]
    left = np.empty(0)
    # Those with as many neighbours have designs of one shape, which are solved at once.
    for many in np.unique(counts[counts >= FEWEST_NEIGHBOURS]).tolist():
        own = rows[counts == many]
        near = other[first[own][:, None] + np.arange(many)]
        design = np.concatenate([np.ones((*near.shape, 1)), v[near, :2] - v[own, None, :2]], axis=2)
        # At the vertex itself the plane is its first coefficient, which errs by the length of its weights.
        weights = np.linalg.pinv(design)[:, 0]
        rest = v[own, 2] - np.sum(weights * v[near, 2], axis=1)
        left = np.append(left, rest / np.sqrt(1.0 + np.sum(weights**2, axis=1)))
    if len(left) < FEWEST:
        return 0.0, spacing
    return spread(left, 0.0), spacing


def _middle_of(tin: Tin) -> Tin:
    """Some hundred thousand triangles round the middle one."""
    corner = tin.vertices[tin.triangles[:, 0], :2]
    away = np.abs(corner - np.median(corner, axis=0)).max(axis=1)
    return tin.compact(away <= np.partition(away, MOST_TRIANGLES)[MOST_TRIANGLES])
