"""Triangles and normals turned alike along a surface, whatever way each was given."""

from __future__ import annotations

from typing import Any

import numpy as np
import scipy

from kerb.core.arrays import TINY, Floats, Ints, Mask
from kerb.core.geometry.orient_kernels import join_turned

# Neighbours whose normals differ by more than this (cosine) say nothing of each other's side.
WEAK = 0.3
NEIGHBOURS = 10
# A face whose normals point some way by this on the average is turned so.
CLEAR = 0.3


def turned_triangles(corners: Ints, areas: Floats) -> Mask:
    """Which triangles (m,) look the other way than most of what they hang together with, by edges that two triangles share.

    ``corners`` (m, 3) number places, ``areas`` (m,) weigh. Edges of three triangles or more join nothing.
    """
    m = len(corners)
    edges = np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]])
    size = int(corners.max(initial=0)) + 1
    key = np.sort(edges, axis=1) @ np.array([size, 1])
    order = np.argsort(key, kind="stable")
    keys = key[order]
    same = keys[1:] == keys[:-1]
    # Runs of exactly two.
    pair = np.flatnonzero(same & ~np.append(same[1:], False) & ~np.insert(same[:-1], 0, False))
    a, b = order[pair], order[pair + 1]
    # Two triangles that look the same way run along their common edge in opposite ways.
    against = edges[a, 0] == edges[b, 0]
    if not against.any():
        return np.zeros(m, np.bool_)
    parent, turned = np.arange(m), np.zeros(m, np.bool_)
    join_turned(a % m, b % m, against, parent, turned)
    weight = np.bincount(parent, np.where(turned, areas, -areas), m)
    return np.asarray(turned ^ (weight[parent] > 0))


def alike(places: Floats, normals: Floats, setups: Floats, middle: Floats) -> Floats:
    """Normals (n, 3) at places turned alike along each face, and each face towards the nearest of its setups (k, 3), where there
    are some; else up, out of its own middle where it bends round that, or away from ``middle`` (3,) in plan.

    Neighbours are joined along a minimum spanning tree of how much their normals differ (Hoppe et al. 1992, *Surface
    reconstruction from unorganized points*, recalled); those that are nearly square to one another are not.
    """
    n = len(places)
    if n < 2:
        return normals
    local = places - places.mean(axis=0)
    tree: Any = scipy.spatial.cKDTree(local)
    near = tree.query(local, min(NEIGHBOURS, n))[1]
    one, other = np.repeat(np.arange(n), near.shape[1] - 1), near[:, 1:].ravel()
    dot = np.einsum("ij,ij->i", normals[one], normals[other])
    keep = np.abs(dot) > WEAK
    one, other, dot = one[keep], other[keep], dot[keep]
    order = np.argsort(-np.abs(dot), kind="stable")
    parent, turned = np.arange(n), np.zeros(n, np.bool_)
    join_turned(one[order], other[order], dot[order] < 0, parent, turned)
    found = np.where(turned[:, None], -normals, normals)
    # One side for a face as a whole, by the first of these that is clear.
    count = np.maximum(np.bincount(parent, minlength=n), 1)
    own = np.column_stack([np.bincount(parent, local[:, k], n) for k in range(3)]) / count[:, None]
    outwards = (places - middle) * [1.0, 1.0, 0.0]
    ways = [found[:, 2], _along(found, local - own[parent]), _along(found, outwards)]
    if len(setups):
        around: Any = scipy.spatial.cKDTree(setups)
        stood = around.query(places)[1]
        ways.insert(0, _along(found, setups[stood] - places))
    chosen = np.bincount(parent, ways[-1], n)
    for way in ways[-2::-1]:
        total = np.bincount(parent, way, n)
        chosen = np.where(np.abs(total) > CLEAR * count, total, chosen)
    return np.where((chosen[parent] < 0)[:, None], -found, found)


def _along(normals: Floats, ways: Floats) -> Floats:
    """How far normals (n, 3) point the way of vectors (n, 3), -1 to 1."""
    size = np.maximum(np.linalg.norm(ways, axis=1), TINY)
    return np.asarray(np.einsum("ij,ij->i", normals, ways) / size)
