"""The nearest place on millions of triangles: boxes in a tree over their middles in Morton order, gone through nearest first."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel

LEAF = 4
# What of a triangle is nearest: its face, an edge (from corner k to the next), or a corner.
FACE, EDGE, CORNER = 0, 1, 4


@kernel
def leaf_boxes(vertices, triangles, order, boxes, first):
    """Boxes (low, high; (n, 6)) of groups of LEAF triangles in order, from row ``first`` on."""
    for k in range((len(order) + LEAF - 1) // LEAF):
        for axis in range(3):
            low, high = np.inf, -np.inf
            for t in range(k * LEAF, min((k + 1) * LEAF, len(order))):
                for c in range(3):
                    value = vertices[triangles[order[t], c], axis]
                    low, high = min(low, value), max(high, value)
            boxes[first + k, axis], boxes[first + k, 3 + axis] = low, high


@kernel
def inner_boxes(boxes, first, count):
    """Boxes of a full binary tree over leaves: node k holds nodes 2 k + 1 and 2 k + 2."""
    for k in range(first + count, boxes.shape[0]):
        for axis in range(3):
            boxes[k, axis], boxes[k, 3 + axis] = np.inf, -np.inf
    for k in range(first - 1, -1, -1):
        for axis in range(3):
            boxes[k, axis] = min(boxes[2 * k + 1, axis], boxes[2 * k + 2, axis])
            boxes[k, 3 + axis] = max(boxes[2 * k + 1, 3 + axis], boxes[2 * k + 2, 3 + axis])


@inline
def _away(boxes, k, x, y, z):
    """Square of the distance from a place to a box."""
    dx = max(max(boxes[k, 0] - x, x - boxes[k, 3]), 0.0)
    dy = max(max(boxes[k, 1] - y, y - boxes[k, 4]), 0.0)
    dz = max(max(boxes[k, 2] - z, z - boxes[k, 5]), 0.0)
    return dx * dx + dy * dy + dz * dz


@kernel
def nearest_of(p, a, b, c, out):
    """Write the place of a triangle nearest to p, and come back with what of it that is (Ericson 2005, 5.1.5)."""
    ab, ac, ap = np.empty(3), np.empty(3), np.empty(3)
    d1 = d2 = d3 = d4 = d5 = d6 = 0.0
    for k in range(3):
        ab[k], ac[k], ap[k] = b[k] - a[k], c[k] - a[k], p[k] - a[k]
        d1 += ab[k] * ap[k]
        d2 += ac[k] * ap[k]
    if d1 <= 0.0 and d2 <= 0.0:
        out[:] = a
        return CORNER
    for k in range(3):
        d3 += ab[k] * (p[k] - b[k])
        d4 += ac[k] * (p[k] - b[k])
    if d3 >= 0.0 and d4 <= d3:
        out[:] = b
        return CORNER + 1
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        v = d1 / (d1 - d3)
        for k in range(3):
            out[k] = a[k] + v * ab[k]
        return EDGE
    for k in range(3):
        d5 += ab[k] * (p[k] - c[k])
        d6 += ac[k] * (p[k] - c[k])
    if d6 >= 0.0 and d5 <= d6:
        out[:] = c
        return CORNER + 2
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        w = d2 / (d2 - d6)
        for k in range(3):
            out[k] = a[k] + w * ac[k]
        return EDGE + 2
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        for k in range(3):
            out[k] = b[k] + w * (c[k] - b[k])
        return EDGE + 1
    scale = 1.0 / (va + vb + vc)
    for k in range(3):
        out[k] = a[k] + ab[k] * vb * scale + ac[k] * vc * scale
    return FACE


@kernel
def closest(places, vertices, triangles, order, boxes, leaves, limit, face, feature, found):
    """Of each place (m, 3) the nearest triangle (-1: none within ``limit``), what of it is nearest, and the place there (m,
    3)."""
    stack, away = np.empty(128, np.int64), np.empty(128)
    here = np.empty(3)
    for i in range(places.shape[0]):
        x, y, z = places[i, 0], places[i, 1], places[i, 2]
        best = limit * limit
        face[i] = -1
        many = 1
        stack[0], away[0] = 0, _away(boxes, 0, x, y, z)
        while many:
            many -= 1
            k = stack[many]
            if away[many] > best or (away[many] == best and face[i] >= 0):
                continue
            if k >= leaves:
                first = (k - leaves) * LEAF
                for t in range(first, min(first + LEAF, len(order))):
                    row = order[t]
                    kind = nearest_of(
                        places[i],
                        vertices[triangles[row, 0]],
                        vertices[triangles[row, 1]],
                        vertices[triangles[row, 2]],
                        here,
                    )
                    d = (here[0] - x) ** 2 + (here[1] - y) ** 2 + (here[2] - z) ** 2
                    if d < best or (d == best and face[i] < 0):
                        best, face[i], feature[i] = d, row, kind
                        found[i, 0], found[i, 1], found[i, 2] = here[0], here[1], here[2]
                continue
            left, right = 2 * k + 1, 2 * k + 2
            one, other = _away(boxes, left, x, y, z), _away(boxes, right, x, y, z)
            # The nearer one last, so that it is looked at first.
            if one > other:
                left, right, one, other = right, left, other, one
            if other <= best:
                stack[many], away[many] = right, other
                many += 1
            if one <= best:
                stack[many], away[many] = left, one
                many += 1
