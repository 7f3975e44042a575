"""Kernels of the neighbour search: cells of a grid, and k nearest or all within a radius by growing rings of cells."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel


@inline
def _cell(value, low, inverse, size):
    return min(max(int((value - low) * inverse), 0), size - 1)


@kernel
def cell_numbers(points, low, inverse, shape, out):
    """Write the cell of each point; what lies outside belongs to the outermost cells."""
    for i in range(points.shape[0]):
        a = _cell(points[i, 0], low[0], inverse, shape[0])
        b = _cell(points[i, 1], low[1], inverse, shape[1])
        c = _cell(points[i, 2], low[2], inverse, shape[2])
        out[i] = np.uint64((a * shape[1] + b) * shape[2] + c)


@kernel
def take(points, order, out):
    """``out`` = ``points[order]``."""
    for i in range(len(order)):
        row = order[i]
        out[i, 0], out[i, 1], out[i, 2] = points[row, 0], points[row, 1], points[row, 2]


@inline
def _offer(squared, index, best, who, k):
    """Insert a candidate into the sorted list of the k best."""
    at = k - 1
    while at > 0 and best[at - 1] > squared:
        best[at] = best[at - 1]
        who[at] = who[at - 1]
        at -= 1
    best[at] = squared
    who[at] = index


@inline
def _scan(ordered, first, last, x, y, z, best, who, k):
    for i in range(first, last):
        dx = ordered[i, 0] - x
        dy = ordered[i, 1] - y
        dz = ordered[i, 2] - z
        squared = dx * dx + dy * dy + dz * dz
        if squared < best[k - 1]:
            _offer(squared, i, best, who, k)


@kernel
def nearest_one(ordered, order, starts, low, cell, shape, queries, rows, limit, distances, indices):
    """As :func:`nearest` for one neighbour in columns: the three by three round a query first, a row of cells at a time, which
    settles nearly all. Comes back with how many are left: their distance is NaN."""
    inverse = 1.0 / cell
    nx, ny = shape[0], shape[1]
    left = 0
    for q in range(queries.shape[0]):
        x, y, z = queries[q, 0], queries[q, 1], queries[q, 2]
        row = rows[q]
        a, b = int(np.floor((x - low[0]) * inverse)), int(np.floor((y - low[1]) * inverse))
        if a < 0 or b < 0 or a >= nx or b >= ny:
            distances[row, 0] = np.nan
            left += 1
            continue
        first, last = max(b - 1, 0), min(b + 1, ny - 1)
        best, who = limit * limit, -1
        for step in range(3):
            i = a + (0 if step == 0 else (1 if step == 1 else -1))
            if i < 0 or i >= nx:
                continue
            if step == 1:
                gap = low[0] + i * cell - x
                if gap * gap >= best:
                    continue
            elif step == 2:
                gap = x - low[0] - (i + 1) * cell
                if gap * gap >= best:
                    continue
            for k in range(starts[i * ny + first], starts[i * ny + last + 1]):
                dx, dy, dz = ordered[k, 0] - x, ordered[k, 1] - y, ordered[k, 2] - z
                squared = dx * dx + dy * dy + dz * dz
                if squared < best:
                    best, who = squared, k
        side = min(
            min(x - low[0] - a * cell, low[0] + (a + 1) * cell - x),
            min(y - low[1] - b * cell, low[1] + (b + 1) * cell - y),
        )
        reach = cell + side
        if best > reach * reach:
            distances[row, 0] = np.nan
            left += 1
        else:
            distances[row, 0] = np.sqrt(best) if who >= 0 else np.inf
            indices[row, 0] = order[who] if who >= 0 else -1
    return left


# Of the square of a distance: how much farther than that of the query before a neighbour is looked for at first.
ALIKE = 1.4


@inline
def _beyond(step, at, place, low, cell):
    """How far a place lies from the cells ``step`` before or behind its own (at) along an axis."""
    if step == 0:
        return 0.0
    return low + (at + step) * cell - place if step > 0 else place - low - (at + step + 1) * cell


@kernel
def nearest_few(ordered, order, starts, low, cell, shape, queries, rows, limit, half, distances, indices):
    """As :func:`nearest` from a block of cells round a query, ``half`` to each side of its own, which settles nearly all where
    that is wide enough for k: runs of cells that follow one another in memory, from the middle outwards. Comes back with how many
    are left: their first distance is NaN."""
    k = distances.shape[1]
    best = np.empty(k)
    who = np.empty(k, np.int64)
    inverse = 1.0 / cell
    nx, ny, nz = shape[0], shape[1], shape[2]
    flat = nz == 1
    left, last = 0, np.inf
    for q in range(queries.shape[0]):
        x, y, z = queries[q, 0], queries[q, 1], queries[q, 2]
        row = rows[q]
        a, b = int(np.floor((x - low[0]) * inverse)), int(np.floor((y - low[1]) * inverse))
        c = 0 if flat else int(np.floor((z - low[2]) * inverse))
        if a < 0 or b < 0 or c < 0 or a >= nx or b >= ny or c >= nz:
            distances[row, 0] = np.nan
            left += 1
            continue
        # Queries follow one another: the k-th neighbour lies about as far off as that of the one before, and what is farther need
        # not be sorted in. Where that was too near, once more without.
        bound = min(last * ALIKE, limit * limit)
        while True:
            best[:] = bound
            who[:] = -1
            for m in range(2 * half + 1):
                i = (m + 1) // 2 if m % 2 == 1 else -(m // 2)
                if a + i < 0 or a + i >= nx:
                    continue
                gap_a = _beyond(i, a, x, low[0], cell)
                if gap_a * gap_a >= best[k - 1]:
                    continue
                if flat:
                    n = (a + i) * ny
                    first, end = starts[n + max(b - half, 0)], starts[n + min(b + half, ny - 1) + 1]
                    _scan(ordered, first, end, x, y, z, best, who, k)
                    continue
                for m2 in range(2 * half + 1):
                    j = (m2 + 1) // 2 if m2 % 2 == 1 else -(m2 // 2)
                    if b + j < 0 or b + j >= ny:
                        continue
                    gap_b = _beyond(j, b, y, low[1], cell)
                    if gap_a * gap_a + gap_b * gap_b >= best[k - 1]:
                        continue
                    n = ((a + i) * ny + b + j) * nz
                    first, end = starts[n + max(c - half, 0)], starts[n + min(c + half, nz - 1) + 1]
                    _scan(ordered, first, end, x, y, z, best, who, k)
            if who[k - 1] >= 0 or bound >= limit * limit:
                break
            bound = limit * limit
        side = min(
            min(x - low[0] - a * cell, low[0] + (a + 1) * cell - x),
            min(y - low[1] - b * cell, low[1] + (b + 1) * cell - y),
        )
        if not flat:
            side = min(side, min(z - low[2] - c * cell, low[2] + (c + 1) * cell - z))
        reach = half * cell + side
        if best[k - 1] > reach * reach:
            distances[row, 0] = np.nan
            left += 1
            continue
        last = best[k - 1]
        for i in range(k):
            distances[row, i] = np.sqrt(best[i]) if who[i] >= 0 else np.inf
            indices[row, i] = order[who[i]] if who[i] >= 0 else -1
    return left


@kernel
def nearest(ordered, order, starts, low, cell, shape, queries, rows, limit, distances, indices):
    """The k nearest of each query within ``limit``, written to its row; distance inf and index -1 where there are fewer."""
    k = distances.shape[1]
    best = np.empty(k)
    who = np.empty(k, np.int64)
    inverse = 1.0 / cell
    nx, ny, nz = shape[0], shape[1], shape[2]
    widest = max(nx, max(ny, nz))
    for q in range(queries.shape[0]):
        x, y, z = queries[q, 0], queries[q, 1], queries[q, 2]
        best[:] = limit * limit
        who[:] = -1
        a = int(np.floor((x - low[0]) * inverse))
        b = int(np.floor((y - low[1]) * inverse))
        c = int(np.floor((z - low[2]) * inverse)) if nz > 1 else 0
        # Distance to the nearest side of the query's own cell: a ring r is at least r - 1 cells plus that away.
        side = min(x - low[0] - a * cell, low[0] + (a + 1) * cell - x)
        side = min(side, min(y - low[1] - b * cell, low[1] + (b + 1) * cell - y))
        if nz > 1:
            side = min(side, min(z - low[2] - c * cell, low[2] + (c + 1) * cell - z))
        outside = max(max(-a, a - nx + 1), max(-b, b - ny + 1))
        if nz > 1:
            outside = max(outside, max(-c, c - nz + 1))
        ring = max(outside, 0)
        while ring <= widest + max(outside, 0):
            if ring > 0:
                reach = (ring - 1) * cell + side
                if reach > 0.0 and reach * reach >= best[k - 1]:
                    break
            for i in range(max(a - ring, 0), min(a + ring, nx - 1) + 1):
                edge_a = i == a - ring or i == a + ring
                gap_a = max(max(low[0] + i * cell - x, x - low[0] - (i + 1) * cell), 0.0)
                if ring > 0 and gap_a * gap_a >= best[k - 1]:
                    continue
                for j in range(max(b - ring, 0), min(b + ring, ny - 1) + 1):
                    gap_b = max(max(low[1] + j * cell - y, y - low[1] - (j + 1) * cell), 0.0)
                    if ring > 0 and gap_a * gap_a + gap_b * gap_b >= best[k - 1]:
                        continue
                    if nz == 1:
                        if edge_a or j == b - ring or j == b + ring:
                            n = i * ny + j
                            _scan(ordered, starts[n], starts[n + 1], x, y, z, best, who, k)
                        continue
                    row = (i * ny + j) * nz
                    if edge_a or j == b - ring or j == b + ring:
                        k0 = max(c - ring, 0)
                        k1 = min(c + ring, nz - 1)
                        if k0 <= k1:
                            _scan(ordered, starts[row + k0], starts[row + k1 + 1], x, y, z, best, who, k)
                    else:
                        if 0 <= c - ring < nz:
                            n = row + c - ring
                            _scan(ordered, starts[n], starts[n + 1], x, y, z, best, who, k)
                        if ring > 0 and 0 <= c + ring < nz:
                            n = row + c + ring
                            _scan(ordered, starts[n], starts[n + 1], x, y, z, best, who, k)
            ring += 1
        for i in range(k):
            if who[i] >= 0:
                distances[rows[q], i] = np.sqrt(best[i])
                indices[rows[q], i] = order[who[i]]
            else:
                distances[rows[q], i] = np.inf
                indices[rows[q], i] = -1


@inline
def _apart(ordered, i, x, y, z):
    """Square of the distance from a point to a place."""
    dx, dy, dz = ordered[i, 0] - x, ordered[i, 1] - y, ordered[i, 2] - z
    return dx * dx + dy * dy + dz * dz


@inline
def _reach(value, radius, low, inverse, size):
    """First and last cell along an axis that a radius round a value can touch."""
    first = max(int(np.floor((value - radius - low) * inverse)), 0)
    return first, min(int(np.floor((value + radius - low) * inverse)), size - 1)


@kernel
def crowded(ordered, starts, low, cell, shape, queries, radius, enough, out):
    """Whether at least ``enough`` points lie within ``radius`` of each query; stops counting there."""
    inverse = 1.0 / cell
    limit = radius * radius
    for q in range(queries.shape[0]):
        x, y, z = queries[q, 0], queries[q, 1], queries[q, 2]
        a0, a1 = _reach(x, radius, low[0], inverse, shape[0])
        b0, b1 = _reach(y, radius, low[1], inverse, shape[1])
        c0, c1 = _reach(z, radius, low[2], inverse, shape[2]) if shape[2] > 1 else (0, 0)
        # Outwards from the middle column: the nearest are there, and counting ends sooner.
        middle = min(max(int(np.floor((x - low[0]) * inverse)), a0), a1)
        count = 0
        for step in range(2 * (a1 - a0) + 2):
            a = middle + ((step + 1) // 2 if step % 2 == 1 else -(step // 2))
            if a < a0 or a > a1 or c0 > c1:
                continue
            for b in range(b0, b1 + 1):
                row = (a * shape[1] + b) * shape[2]
                for i in range(starts[row + c0], starts[row + c1 + 1]):
                    if _apart(ordered, i, x, y, z) <= limit:
                        count += 1
                        if count >= enough:
                            break
                if count >= enough:
                    break
            if count >= enough:
                break
        out[q] = count >= enough


@kernel
def within(ordered, order, starts, low, cell, shape, queries, radius, offsets, found, fill):
    """Count the points within radius (fill False: into found[q]) or list them (fill True: from found[offsets[q]])."""
    inverse = 1.0 / cell
    limit = radius * radius
    for q in range(queries.shape[0]):
        x, y, z = queries[q, 0], queries[q, 1], queries[q, 2]
        a0, a1 = _reach(x, radius, low[0], inverse, shape[0])
        b0, b1 = _reach(y, radius, low[1], inverse, shape[1])
        c0, c1 = _reach(z, radius, low[2], inverse, shape[2]) if shape[2] > 1 else (0, 0)
        at = offsets[q]
        for a in range(a0, a1 + 1):
            for b in range(b0, b1 + 1):
                if c0 > c1:
                    continue
                row = (a * shape[1] + b) * shape[2]
                for i in range(starts[row + c0], starts[row + c1 + 1]):
                    if _apart(ordered, i, x, y, z) <= limit:
                        if fill:
                            found[at] = order[i]
                        at += 1
        if not fill:
            found[q] = at - offsets[q]


@kernel
def mean_of_others(distances, farthest, count, mean):
    """Mean of the distances (n, k) to ``count`` nearest others, the first being the point itself; those that are missing or
    beyond ``farthest`` count as that far away."""
    for q in range(distances.shape[0]):
        total = 0.0
        for i in range(1, distances.shape[1]):
            total += min(distances[q, i], farthest)
        mean[q] = (total + (count + 1 - distances.shape[1]) * farthest) / count


@kernel
def near_any(places, others, reach, near):
    """Mark places (n, 3) that have one of some others (m, 3) within ``reach``."""
    for k in range(places.shape[0]):
        for m in range(others.shape[0]):
            away = 0.0
            for axis in range(3):
                away += (places[k, axis] - others[m, axis]) ** 2
            if away <= reach * reach:
                near[k] = True
                break
