"""Kernels of clearances: the lowest point of each cell that is no stray, and what a moving envelope meets."""

from __future__ import annotations

from math import floor, nan

from kerb.core.jit import kernel

# So many strays are passed over in one cell.
PATIENCE = 64


@kernel
def levels_on(z, places, west, south, spacing, out):
    """Bilinear levels (n,) of nodes ``z`` (rows, columns) at places (n, 2 or more), the first node at (west, south); with nodes
    missing the others decide where they outweigh them. NaN off the nodes."""
    rows, columns = z.shape
    for i in range(len(places)):
        out[i] = nan
        x, y = (places[i, 0] - west) / spacing, (places[i, 1] - south) / spacing
        if not (-0.5 < x < columns - 0.5 and -0.5 < y < rows - 0.5):
            continue
        x, y = min(max(x, 0.0), columns - 1.0), min(max(y, 0.0), rows - 1.0)
        left, down = min(int(x), max(columns - 2, 0)), min(int(y), max(rows - 2, 0))
        level, weight = 0.0, 0.0
        for r in range(2):
            for c in range(2):
                row, column = min(down + r, rows - 1), min(left + c, columns - 1)
                share = (1.0 - abs(x - left - c)) * (1.0 - abs(y - down - r))
                value = z[row, column]
                if share > 0.0 and value == value:
                    level += share * value
                    weight += share
        if weight > 0.5:
            out[i] = level / weight


@kernel
def moments(points, west, south, spacing, base, sums):
    """Moments of points (n, 3) by the node they lie nearest to, ``sums`` (10, rows, columns): number, u, v, z, uu, uv, vv, uz,
    vz and zz, with u and v in spacings from the node and z from ``base``."""
    rows, columns = sums.shape[1], sums.shape[2]
    for i in range(len(points)):
        x, y, z = (points[i, 0] - west) / spacing, (points[i, 1] - south) / spacing, points[i, 2] - base
        column, row = floor(x + 0.5), floor(y + 0.5)
        if not (0 <= column < columns and 0 <= row < rows):
            continue
        u, v = x - column, y - row
        sums[0, row, column] += 1.0
        sums[1, row, column] += u
        sums[2, row, column] += v
        sums[3, row, column] += z
        sums[4, row, column] += u * u
        sums[5, row, column] += u * v
        sums[6, row, column] += v * v
        sums[7, row, column] += u * z
        sums[8, row, column] += v * z
        sums[9, row, column] += z * z


@kernel
def lowest_of_cells(xyz, height, order, starts, runs, grid, rule, radius, stray, lowest, begin, end):
    """The lowest point, by ``height`` (n,), of each run of cell-sorted points that has enough others within a radius.

    ``order`` (n,) are rows cell by cell, ``starts`` (k + 1,) where runs begin, ``runs`` (k, 2) column and row of each, ``grid``
    (rows, columns) the run of a cell or -1; ``rule`` is how many cells the radius spans and how many others are needed. Runs from
    ``begin`` to ``end`` are done. ``stray`` (n,) is set for points that are
    passed over, ``lowest`` (k,) to the row that is found, -1 where there is none.
    """
    rows, columns = grid.shape
    reach, need = rule
    square = radius * radius
    for k in range(begin, end):
        lowest[k] = -1
        for _ in range(PATIENCE):
            best = -1
            for i in range(starts[k], starts[k + 1]):
                row = order[i]
                if not stray[row] and (best < 0 or height[row] < height[best]):
                    best = row
            if best < 0:
                break
            x, y, z = xyz[best, 0], xyz[best, 1], xyz[best, 2]
            found = 0
            for r in range(max(runs[k, 1] - reach, 0), min(runs[k, 1] + reach + 1, rows)):
                for c in range(max(runs[k, 0] - reach, 0), min(runs[k, 0] + reach + 1, columns)):
                    other = grid[r, c]
                    if other < 0:
                        continue
                    for i in range(starts[other], starts[other + 1]):
                        row = order[i]
                        dx, dy, dz = xyz[row, 0] - x, xyz[row, 1] - y, xyz[row, 2] - z
                        apart = dx * dx + dy * dy + dz * dz
                        # What lies at the same place is the same point given twice.
                        if 0.0 < apart <= square:
                            found += 1
                            if found >= need:
                                break
                    if found >= need:
                        break
                if found >= need:
                    break
            if found >= need:
                lowest[k] = best
                break
            stray[best] = True


@kernel
def envelope_meets(points, spans, frames, half_length, outline, out):
    """What a vehicle has over and beside it at each of its stations.

    ``spans`` (k, 2) are the rows of ``points`` (n, 3) that it may meet, ``frames`` (k, 7) its middle, its direction, the level
    of its floor and how that rises ahead and to the right; ``outline`` (m, 2) is its cross-section. ``out`` (k, 4) is set to
    the least height over its floor of points within its width, the least distance from its middle line of those to the left
    and to the right, up to its height, and the least distance of any from the outline, negative inside it.
    """
    corners = len(outline)
    low, high, bottom, top = 1e30, -1e30, 1e30, -1e30
    for j in range(corners):
        low = min(low, outline[j, 0])
        high = max(high, outline[j, 0])
        bottom = min(bottom, outline[j, 1])
        top = max(top, outline[j, 1])
    for k in range(len(frames)):
        over, left, right, least = 1e30, 1e30, 1e30, 1e30
        x0, y0, dx, dy, floor, slope, lean = frames[k]
        for i in range(spans[k, 0], spans[k, 1]):
            x, y = points[i, 0] - x0, points[i, 1] - y0
            u = x * dx + y * dy
            if abs(u) > half_length:
                continue
            v = x * dy - y * dx
            w = points[i, 2] - floor - slope * u - lean * v
            if low <= v <= high and w < over:
                over = w
            if w <= top:
                if v < 0.0 and -v < left:
                    left = -v
                if v >= 0.0 and v < right:
                    right = v
            # What lies farther from the box round the outline than the nearest so far cannot be nearer to the outline.
            beside, above = max(low - v, v - high, 0.0), max(bottom - w, w - top, 0.0)
            if least > 0.0 and beside * beside + above * above >= least * least:
                continue
            inside, nearest = False, 1e30
            for j in range(corners):
                ax, ay = outline[j]
                bx, by = outline[(j + 1) % corners]
                ex, ey = bx - ax, by - ay
                long = ex * ex + ey * ey
                share = 0.0 if long == 0.0 else min(max(((v - ax) * ex + (w - ay) * ey) / long, 0.0), 1.0)
                px, py = v - ax - share * ex, w - ay - share * ey
                nearest = min(nearest, px * px + py * py)
                if (ay > w) != (by > w) and v < ax + (w - ay) / (by - ay) * ex:
                    inside = not inside
            apart = nearest**0.5
            least = min(least, -apart if inside else apart)
        out[k, 0] = over
        out[k, 1] = left
        out[k, 2] = right
        out[k, 3] = least
