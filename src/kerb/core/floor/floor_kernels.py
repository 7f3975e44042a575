"""Number kernels of floors: growing a surface, levels of nodes, gaps under a straightedge, filling of depressions."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import kernel


@kernel
def grow(level, step, start):
    """Number of the surface that each cell (rows, columns) belongs to: cells that touch by a side and differ by no more than a
    step are one; -1 where there is no level. From ``start`` only that surface is grown."""
    rows, columns = level.shape
    number = np.full(level.shape, -1, np.int64)
    flat_level, flat = level.ravel(), number.ravel()
    stack = np.empty(rows * columns, np.int64)
    found = 0
    first, last = (start, start + 1) if start >= 0 else (0, rows * columns)
    for begin in range(first, last):
        if flat[begin] >= 0 or not np.isfinite(flat_level[begin]):
            continue
        flat[begin] = found
        top = 0
        stack[0] = begin
        while top >= 0:
            cell = stack[top]
            top -= 1
            r, c = cell // columns, cell % columns
            for dr, dc in ((-1, 0), (1, 0), (0, -1), (0, 1)):
                rr, cc = r + dr, c + dc
                if rr < 0 or cc < 0 or rr >= rows or cc >= columns:
                    continue
                other = rr * columns + cc
                if flat[other] < 0 and abs(flat_level[other] - flat_level[cell]) <= step:
                    flat[other] = found
                    top += 1
                    stack[top] = other
        found += 1
    return number


@kernel
def low_of_runs(z, order, starts, share, rank):
    """For runs of places of ``order`` that begin at ``starts``, the level below which so much of each lies; no more than ``rank``
    places where that is above nought."""
    found = np.empty(len(starts))
    for run in range(len(starts)):
        stop = starts[run + 1] if run + 1 < len(starts) else len(order)
        own = np.sort(z[order[starts[run] : stop]])
        below = int(share * len(own))
        if rank > 0:
            # With few places in all, fewer may lie below.
            below = min(rank, below) if below > 0 else 0
        found[run] = own[below]
    return found


@kernel
def node_levels(xy, z, spacing, radius, shape, band, median):
    """Level, number of points and variance about a level footprint of the nodes in a band (first row, row after the last) of a
    grid (rows, columns), from points (n, 2) relative to node (0, 0): the median or the lowest within a radius; NaN without
    any."""
    columns = shape[1]
    begin, stop = band
    flat_count = np.zeros((stop - begin) * columns, np.int64)
    reach = int(np.floor(radius / spacing + 0.5 + 1e-9))
    for k in range(len(z)):
        r0 = int(np.round(xy[k, 1] / spacing))
        if r0 < begin - reach or r0 >= stop + reach:
            continue
        c0 = int(np.round(xy[k, 0] / spacing))
        for r in range(max(r0 - reach, begin), min(r0 + reach + 1, stop)):
            for c in range(max(c0 - reach, 0), min(c0 + reach + 1, columns)):
                dx, dy = xy[k, 0] - c * spacing, xy[k, 1] - r * spacing
                if dx * dx + dy * dy <= radius * radius:
                    flat_count[(r - begin) * columns + c] += 1
    first = np.zeros(len(flat_count) + 1, np.int64)
    for k in range(len(flat_count)):
        first[k + 1] = first[k] + flat_count[k]
    values = np.empty(first[-1], np.float64)
    fill = first[:-1].copy()
    for k in range(len(z)):
        r0 = int(np.round(xy[k, 1] / spacing))
        if r0 < begin - reach or r0 >= stop + reach:
            continue
        c0 = int(np.round(xy[k, 0] / spacing))
        for r in range(max(r0 - reach, begin), min(r0 + reach + 1, stop)):
            for c in range(max(c0 - reach, 0), min(c0 + reach + 1, columns)):
                dx, dy = xy[k, 0] - c * spacing, xy[k, 1] - r * spacing
                if dx * dx + dy * dy <= radius * radius:
                    cell = (r - begin) * columns + c
                    values[fill[cell]] = z[k]
                    fill[cell] += 1
    level = np.full(len(flat_count), np.nan)
    spread = np.full(len(flat_count), np.nan)
    for cell in range(len(flat_count)):
        n = flat_count[cell]
        if n == 0:
            continue
        own = np.sort(values[first[cell] : first[cell + 1]])
        if median:
            half = n // 2
            level[cell] = own[half] if n % 2 else 0.5 * (own[half - 1] + own[half])
        else:
            level[cell] = own[0]
        if n > 3:
            mean = own.mean()
            total = 0.0
            for value in own:
                total += (value - mean) ** 2
            spread[cell] = total / (n - 1)
    size = (stop - begin, columns)
    return level.reshape(size), flat_count.reshape(size), spread.reshape(size)


@kernel
def line_gaps(z, window, gap):
    """Raise ``gap`` (n,) to the gap under any straightedge of at most ``window`` steps that rests on a line of levels (n,).

    A straightedge rests on two nodes when all between them lie no higher than it. NaN breaks the line.
    """
    n = len(z)
    for i in range(n - 1):
        if not np.isfinite(z[i]):
            continue
        steepest = -np.inf
        for j in range(i + 1, min(i + window, n - 1) + 1):
            if not np.isfinite(z[j]):
                break
            slope = (z[j] - z[i]) / (j - i)
            if slope < steepest:
                continue
            steepest = slope
            for k in range(i + 1, j):
                under = z[i] + slope * (k - i) - z[k]
                if under > gap[k]:
                    gap[k] = under


@kernel
def grid_gaps(z, windows, ways):
    """The largest gap at each node (rows, columns) under straightedges along ways (k, 2) of (row, column) steps, each of at most
    so many steps."""
    rows, columns = z.shape
    most = np.zeros(z.shape)
    line = np.empty(rows + columns)
    own = np.empty(rows + columns)
    for way in range(len(ways)):
        dr, dc = ways[way, 0], ways[way, 1]
        window = windows[way]
        for r0 in range(rows):
            for c0 in range(columns):
                # Lines begin where the node before lies off the grid.
                if 0 <= r0 - dr < rows and 0 <= c0 - dc < columns:
                    continue
                n = 0
                r, c = r0, c0
                while 0 <= r < rows and 0 <= c < columns:
                    line[n] = z[r, c]
                    own[n] = 0.0
                    n += 1
                    r += dr
                    c += dc
                if n < 3:
                    continue
                line_gaps(line[:n], window, own[:n])
                r, c = r0, c0
                for k in range(n):
                    if own[k] > most[r, c]:
                        most[r, c] = own[k]
                    r += dr
                    c += dc
    return most


@kernel
def flooded(z, outlet, outside, open_rim):
    """Priority flood: the level (rows, columns) to which water stands where it can leave through outlets and, where the rim is
    open, over it to what lies ``outside``; and the flat number of the node to which each drains (-1 where it leaves)."""
    rows, columns = z.shape
    water = np.full(z.shape, np.nan)
    to = np.full(rows * columns, -1, np.int64)
    closed = np.zeros(rows * columns, np.bool_)
    heap_z = np.empty(rows * columns)
    heap_n = np.empty(rows * columns, np.int64)
    size = 0
    flat, out, wet = z.ravel(), outlet.ravel(), water.ravel()
    for cell in range(rows * columns):
        if not np.isfinite(flat[cell]):
            continue
        r, c = cell // columns, cell % columns
        rim = out[cell]
        if not rim and not open_rim:
            continue
        for dr in range(-1, 2):
            for dc in range(-1, 2):
                rr, cc = r + dr, c + dc
                if rr < 0 or cc < 0 or rr >= rows or cc >= columns or outside[rr, cc]:
                    rim = True
        if rim:
            closed[cell] = True
            wet[cell] = flat[cell]
            size = _push(heap_z, heap_n, size, flat[cell], cell)
    while size > 0:
        level, cell = heap_z[0], heap_n[0]
        size = _pop(heap_z, heap_n, size)
        r, c = cell // columns, cell % columns
        for dr in range(-1, 2):
            for dc in range(-1, 2):
                rr, cc = r + dr, c + dc
                if rr < 0 or cc < 0 or rr >= rows or cc >= columns:
                    continue
                other = rr * columns + cc
                if closed[other] or not np.isfinite(flat[other]):
                    continue
                closed[other] = True
                to[other] = cell
                wet[other] = max(flat[other], level)
                size = _push(heap_z, heap_n, size, wet[other], other)
    return water, to


@kernel
def _push(heap_z, heap_n, size, value, node):
    k = size
    heap_z[k], heap_n[k] = value, node
    while k > 0:
        up = (k - 1) // 2
        if heap_z[up] <= heap_z[k]:
            break
        heap_z[up], heap_z[k] = heap_z[k], heap_z[up]
        heap_n[up], heap_n[k] = heap_n[k], heap_n[up]
        k = up
    return size + 1


@kernel
def _pop(heap_z, heap_n, size):
    size -= 1
    heap_z[0], heap_n[0] = heap_z[size], heap_n[size]
    k = 0
    while True:
        low = 2 * k + 1
        if low >= size:
            break
        if low + 1 < size and heap_z[low + 1] < heap_z[low]:
            low += 1
        if heap_z[k] <= heap_z[low]:
            break
        heap_z[low], heap_z[k] = heap_z[k], heap_z[low]
        heap_n[low], heap_n[k] = heap_n[k], heap_n[low]
        k = low
    return size
