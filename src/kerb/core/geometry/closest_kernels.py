"""The nearest place on millions of triangles: boxes in a tree over their middles in Morton order, gone through nearest first."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel

LEAF = 4
# What of a triangle is nearest: its face, an edge (from corner k to the next), or a corner.
FACE, EDGE, CORNER = 0, 1, 4
# Rounding: a box is left out where it is farther than the nearest found by more than this factor.
ROOM = 1.0 + 1e-9


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
def _spread(n):
    """Two zero bits between each of the lowest 21 bits of n."""
    n &= np.uint64(0x1FFFFF)
    n = (n | (n << np.uint64(32))) & np.uint64(0x1F00000000FFFF)
    n = (n | (n << np.uint64(16))) & np.uint64(0x1F0000FF0000FF)
    n = (n | (n << np.uint64(8))) & np.uint64(0x100F00F00F00F00F)
    n = (n | (n << np.uint64(4))) & np.uint64(0x10C30C30C30C30C3)
    return (n | (n << np.uint64(2))) & np.uint64(0x1249249249249249)


@kernel
def cube_keys(places, low, step, keys):
    """Morton keys of places (n, 3) by cubes of a side from ``low``; what lies further out belongs to the outermost cubes."""
    most = 2.0**21 - 1
    for i in range(places.shape[0]):
        key = np.uint64(0)
        for axis in range(3):
            at = min(max((places[i, axis] - low[axis]) / step, 0.0), most)
            key |= _spread(np.uint64(at)) << np.uint64(axis)
        keys[i] = key


@inline
def _away(boxes, k, x, y, z):
    """Square of the distance from a place to a box."""
    dx = max(max(boxes[k, 0] - x, x - boxes[k, 3]), 0.0)
    dy = max(max(boxes[k, 1] - y, y - boxes[k, 4]), 0.0)
    dz = max(max(boxes[k, 2] - z, z - boxes[k, 5]), 0.0)
    return dx * dx + dy * dy + dz * dz


@inline
def nearest_of(x, y, z, t, k):
    """What of triangle ``t[k]`` (nine numbers) is nearest to (x, y, z), and the place there (Ericson 2005, 5.1.5)."""
    ax, ay, az, bx, by, bz, cx, cy, cz = t[k, 0], t[k, 1], t[k, 2], t[k, 3], t[k, 4], t[k, 5], t[k, 6], t[k, 7], t[k, 8]
    abx, aby, abz = bx - ax, by - ay, bz - az
    acx, acy, acz = cx - ax, cy - ay, cz - az
    d1 = abx * (x - ax) + aby * (y - ay) + abz * (z - az)
    d2 = acx * (x - ax) + acy * (y - ay) + acz * (z - az)
    d3 = abx * (x - bx) + aby * (y - by) + abz * (z - bz)
    d4 = acx * (x - bx) + acy * (y - by) + acz * (z - bz)
    d5 = abx * (x - cx) + aby * (y - cy) + abz * (z - cz)
    d6 = acx * (x - cx) + acy * (y - cy) + acz * (z - cz)
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
    # The place is a + v ab + w ac.
    v = w = 0.0
    if d1 <= 0.0 and d2 <= 0.0:
        kind = CORNER
    elif d3 >= 0.0 and d4 <= d3:
        kind, v = CORNER + 1, 1.0
    elif vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        kind, v = EDGE, d1 / (d1 - d3)
    elif d6 >= 0.0 and d5 <= d6:
        kind, w = CORNER + 2, 1.0
    elif vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        kind, w = EDGE + 2, d2 / (d2 - d6)
    elif va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        kind, w = EDGE + 1, (d4 - d3) / ((d4 - d3) + (d5 - d6))
    else:
        scale = 1.0 / (va + vb + vc)
        kind, v, w = FACE, vb * scale, vc * scale
    if kind == CORNER + 1:
        hx, hy, hz = bx, by, bz
    elif kind == CORNER + 2:
        hx, hy, hz = cx, cy, cz
    elif kind == EDGE + 1:
        hx, hy, hz = bx + w * (cx - bx), by + w * (cy - by), bz + w * (cz - bz)
    else:
        hx, hy, hz = ax + v * abx + w * acx, ay + v * aby + w * acy, az + v * abz + w * acz
    return kind, hx, hy, hz


@kernel
def closest(places, rows, corners, order, boxes, leaves, limit, face, feature, found):
    """Of each place (m, 3) in the order of ``rows`` the nearest triangle (-1: none within ``limit``), what of it is nearest, and
    the place there (m, 3). ``corners`` (n, 9) are those of the triangles in the order of the tree. Where two are just as far, the
    lower number of a triangle wins, so that the order in which places are asked for changes nothing.
    """
    stack, away = np.empty(128, np.int64), np.empty(128)
    last = 0
    for i in rows:
        x, y, z = places[i, 0], places[i, 1], places[i, 2]
        best = limit * limit
        face[i] = -1
        many = 1
        stack[0], away[0] = 0, _away(boxes, 0, x, y, z)
        # What was nearest to the place before is a good guess: little else is looked at where places follow one another.
        _, hx, hy, hz = nearest_of(x, y, z, corners, last)
        d = ((hx - x) ** 2 + (hy - y) ** 2 + (hz - z) ** 2) * ROOM
        if d < best:
            best = d
        while many:
            many -= 1
            k = stack[many]
            if away[many] > best * ROOM:
                continue
            if k >= leaves:
                first = (k - leaves) * LEAF
                for t in range(first, min(first + LEAF, len(order))):
                    kind, hx, hy, hz = nearest_of(x, y, z, corners, t)
                    d = (hx - x) ** 2 + (hy - y) ** 2 + (hz - z) ** 2
                    if d < best or (d == best and (face[i] < 0 or order[t] < face[i])):
                        best, last = d, t
                        face[i], feature[i] = order[t], kind
                        found[i, 0], found[i, 1], found[i, 2] = hx, hy, hz
                continue
            left, right = 2 * k + 1, 2 * k + 2
            one, other = _away(boxes, left, x, y, z), _away(boxes, right, x, y, z)
            # The nearer one last, so that it is looked at first.
            if one > other:
                left, right, one, other = right, left, other, one
            if other <= best * ROOM:
                stack[many], away[many] = right, other
                many += 1
            if one <= best * ROOM:
                stack[many], away[many] = left, one
                many += 1
