"""Kernels on cells that hold points: numbering them, joining those that touch, and sums over the points of each."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel


@inline
def slot(x, y, z, last):
    """Where a cell belongs in a table of ``last + 1`` places, a power of two."""
    h = (x * 73856093) ^ (y * 19349663) ^ (z * 83492791)
    h = (h ^ (h >> 29)) * -4658895280553007687
    return (h ^ (h >> 32)) & last


@inline
def _find(table, keys, x, y, z):
    """Number of a cell, or -1."""
    last = table.shape[0] - 1
    at = slot(x, y, z, last)
    while table[at] >= 0:
        k = table[at]
        if keys[k, 0] == x and keys[k, 1] == y and keys[k, 2] == z:
            return k
        at = (at + 1) & last
    return -1


@inline
def _enter(table, keys, x, y, z, found):
    """Number of a cell, which is entered as number ``found`` where it is not there yet."""
    last = table.shape[0] - 1
    at = slot(x, y, z, last)
    while table[at] >= 0:
        k = table[at]
        if keys[k, 0] == x and keys[k, 1] == y and keys[k, 2] == z:
            return k
        at = (at + 1) & last
    table[at] = found
    keys[found, 0], keys[found, 1], keys[found, 2] = x, y, z
    return found


@kernel
def number_points(xyz, keep, start, scale, inverse, table, keys, number):
    """Number the cells of integer points (n, 3) in order of first use; -1 for points that are not kept.

    A cell is ``floor((xyz - start) * scale * inverse)``. ``table`` is filled with -1, of a power of two in size, and
    never more than half full; ``keys`` has room for n cells. Returns how many cells there are.
    """
    found = 0
    for i in range(xyz.shape[0]):
        if not keep[i]:
            number[i] = -1
            continue
        x = np.int64(np.floor((xyz[i, 0] - start[0]) * scale[0] * inverse[0]))
        y = np.int64(np.floor((xyz[i, 1] - start[1]) * scale[1] * inverse[1]))
        z = np.int64(np.floor((xyz[i, 2] - start[2]) * scale[2] * inverse[2]))
        mine = _enter(table, keys, x, y, z, found)
        if mine == found:
            found += 1
        number[i] = mine
    return found


@kernel
def merge_cells(several, table, keys, number):
    """Number cells (m, 3) that may be named more than once; as :func:`number_points`. Returns how many there are."""
    found = 0
    for i in range(several.shape[0]):
        x, y, z = np.int64(several[i, 0]), np.int64(several[i, 1]), np.int64(several[i, 2])
        mine = _enter(table, keys, x, y, z, found)
        if mine == found:
            found += 1
        number[i] = mine
    return found


@inline
def _root(parent, i):
    while parent[i] != i:
        parent[i] = parent[parent[i]]
        i = parent[i]
    return i


@kernel
def join_touching(keys, table, reach, parent):
    """Join cells that touch by side, edge or corner; ``reach`` (3,) is 1 along axes that count. ``parent`` (m,)."""
    for i in range(keys.shape[0]):
        parent[i] = i
    for i in range(keys.shape[0]):
        x, y, z = np.int64(keys[i, 0]), np.int64(keys[i, 1]), np.int64(keys[i, 2])
        for dx in range(-reach[0], 1):
            for dy in range(-reach[1], reach[1] + 1):
                for dz in range(-reach[2], reach[2] + 1):
                    # One of each pair of opposite neighbours is enough.
                    if dx == 0 and (dy > 0 or (dy == 0 and dz >= 0)):
                        continue
                    other = _find(table, keys, x + dx, y + dy, z + dz)
                    if other >= 0:
                        a, b = _root(parent, i), _root(parent, other)
                        if a != b:
                            parent[max(a, b)] = min(a, b)
    for i in range(keys.shape[0]):
        parent[i] = _root(parent, i)


@kernel
def neighbours_of(some, keys, table, found):
    """Numbers of the 26 cells around each place of ``some`` (k, 3), -1 where there is none, into ``found`` (k, 26)."""
    for i in range(some.shape[0]):
        k = 0
        for dx in range(-1, 2):
            for dy in range(-1, 2):
                for dz in range(-1, 2):
                    if dx == 0 and dy == 0 and dz == 0:
                        continue
                    found[i, k] = _find(
                        table, keys, np.int64(some[i, 0]) + dx, np.int64(some[i, 1]) + dy, np.int64(some[i, 2]) + dz
                    )
                    k += 1


@kernel
def best_points(number, score, first, best, row):
    """Keep in ``row`` the point of lowest score of each cell, its score in ``best``; points start at row ``first``."""
    for i in range(number.shape[0]):
        c = number[i]
        if c >= 0 and (row[c] < 0 or score[i] < best[c]):
            best[c] = score[i]
            row[c] = first + i


@kernel
def place_by_cell(number, starts, order):
    """Rows by cell, in row order within each; ``starts`` is consumed. Points of no cell are left out."""
    for i in range(number.shape[0]):
        c = number[i]
        if c >= 0:
            order[starts[c]] = i
            starts[c] += 1


@kernel
def sort_within(starts, order, values, first, last):
    """Sort the rows of cells ``first``..``last`` by value, equal ones by row."""
    for c in range(first, last):
        a, b = starts[c], starts[c + 1]
        if b - a < 2:
            continue
        mine = order[a:b].copy()
        by = np.argsort(values[mine], kind="mergesort")
        order[a:b] = mine[by]


@kernel
def moments(xyz, number, start, scale, size, keys, sums):
    """Add to ``sums`` (m, 10) the count, sums and products of the places of points within their cells."""
    for i in range(xyz.shape[0]):
        c = number[i]
        if c < 0:
            continue
        x = (xyz[i, 0] - start[0]) * scale[0] - (keys[c, 0] + 0.5) * size
        y = (xyz[i, 1] - start[1]) * scale[1] - (keys[c, 1] + 0.5) * size
        z = (xyz[i, 2] - start[2]) * scale[2] - (keys[c, 2] + 0.5) * size
        s = sums[c]
        s[0] += 1.0
        s[1] += x
        s[2] += y
        s[3] += z
        s[4] += x * x
        s[5] += x * y
        s[6] += x * z
        s[7] += y * y
        s[8] += y * z
        s[9] += z * z
