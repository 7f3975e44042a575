"""Kernels of the picture maker: points and triangles into a depth buffer.

Depth grows away from the eye. Ties go to the lower row number, so a picture does not depend on how the work is cut.
"""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel


@inline
def _project(matrix, x, y, z, perspective):
    """Screen x, y (pixels) and depth (job unit) of a place; the depth is negative behind the eye."""
    a = matrix[0, 0] * x + matrix[0, 1] * y + matrix[0, 2] * z + matrix[0, 3]
    b = matrix[1, 0] * x + matrix[1, 1] * y + matrix[1, 2] * z + matrix[1, 3]
    c = matrix[2, 0] * x + matrix[2, 1] * y + matrix[2, 2] * z + matrix[2, 3]
    if perspective:
        inverse = matrix[3, 3] / c if c > 1e-9 else 0.0
        return matrix[3, 0] + a * inverse, matrix[3, 1] + b * inverse, c
    return matrix[3, 0] + a, matrix[3, 1] + b, c


@kernel
def splat(xyz, pieces, row0, centre, matrix, perspective, near, far, mask, shown, depth, rows):
    """Draw points of integer coordinates as discs; returns how many are seen.

    ``pieces`` (k, 3): rows from and to, and pixels across.
    ``matrix`` (4, 4): rows 0..2 turn integer offsets from ``centre`` into right, down and depth (pixels, pixels, job
    unit); row 3 holds screen centre x, y, unused, focal length. ``mask`` (n or 1,) with ``shown`` (256,) hides points.
    """
    height, width = depth.shape
    single = mask.shape[0] == 1
    count = 0
    for p in range(pieces.shape[0]):
        first, last, size = pieces[p, 0], pieces[p, 1], pieces[p, 2]
        half = size // 2
        even = size % 2 == 0
        round_off = (size * 0.5) ** 2 + 0.3
        for i in range(first, last):
            if not shown[mask[0 if single else i]]:
                continue
            x = float(xyz[i, 0] - centre[0])
            y = float(xyz[i, 1] - centre[1])
            z = float(xyz[i, 2] - centre[2])
            sx, sy, d = _project(matrix, x, y, z, perspective)
            if d < near or d > far:
                continue
            if not (-8.0 < sx < width + 8.0 and -8.0 < sy < height + 8.0):
                continue
            count += 1
            distance = np.float32(d)
            row = row0 + i
            if size == 1:
                px, py = int(sx), int(sy)
                if 0 <= px < width and 0 <= py < height and sx >= 0.0 and sy >= 0.0 and distance < depth[py, px]:
                    depth[py, px] = distance
                    rows[py, px] = row
                continue
            bx = int(np.floor(sx + 0.5)) if even else int(np.floor(sx))
            by = int(np.floor(sy + 0.5)) if even else int(np.floor(sy))
            for py in range(max(by - half, 0), min(by - half + size, height)):
                for px in range(max(bx - half, 0), min(bx - half + size, width)):
                    if size > 3:
                        ex, ey = px + 0.5 - sx, py + 0.5 - sy
                        if ex * ex + ey * ey > round_off:
                            continue
                    if distance < depth[py, px]:
                        depth[py, px] = distance
                        rows[py, px] = row
    return count


@kernel
def merge(depth, rows, other_depth, other_rows, first, last):
    """Take the nearer of two pictures for image rows first..last, into the first."""
    for y in range(first, last):
        for x in range(depth.shape[1]):
            d = other_depth[y, x]
            if d < depth[y, x] or (d == depth[y, x] and other_rows[y, x] < rows[y, x]):
                depth[y, x] = d
                rows[y, x] = other_rows[y, x]


@inline
def _first_known(rows, y, x, dy, dx, reach):
    """How many steps it is to the first pixel with a point, 0 when there is none within ``reach``."""
    found = 0
    for step in range(1, reach + 1):
        ny, nx = y + step * dy, x + step * dx
        if ny < 0 or nx < 0 or ny >= rows.shape[0] or nx >= rows.shape[1]:
            break
        if rows[ny, nx] >= 0:
            found = step
            break
    return found


@kernel
def close_pinholes(depth, rows, widest, first, last, out_depth, out_rows):
    """Fill background that is no wider than ``widest`` pixels from left to right, or from above to below; the rest stays open."""
    for y in range(first, last):
        for x in range(depth.shape[1]):
            out_depth[y, x] = depth[y, x]
            out_rows[y, x] = rows[y, x]
            if rows[y, x] >= 0:
                continue
            nearest = np.float32(np.inf)
            row = np.int64(-1)
            for dy, dx in ((0, 1), (1, 0)):
                one = _first_known(rows, y, x, -dy, -dx, widest)
                two = _first_known(rows, y, x, dy, dx, widest + 1 - one) if one else 0
                if two:
                    for step in (-one, two):
                        there = depth[y + step * dy, x + step * dx]
                        if there < nearest:
                            nearest = there
                            row = rows[y + step * dy, x + step * dx]
            if row >= 0:
                out_depth[y, x] = nearest
                out_rows[y, x] = row


@kernel
def elevation_of(depth, first, last, axes, target, focal, distance, scale, exaggeration, perspective, out):
    """Elevation of each drawn pixel from its depth (the vertical part of unprojecting it)."""
    height, width = depth.shape
    for y in range(first, last):
        for x in range(width):
            d = depth[y, x]
            if not np.isfinite(d):
                out[y, x] = np.nan
                continue
            dx, dy = x + 0.5 - width / 2, y + 0.5 - height / 2
            reach = d / focal if perspective else scale
            rise = dx * reach * axes[0, 2] + dy * reach * axes[1, 2] + (d - distance) * axes[2, 2]
            out[y, x] = target[2] + rise / exaggeration


@kernel
def project_vertices(vertices, matrix, perspective, out):
    """Screen x, y and depth of mesh vertices (n, 3), given relative to the view's centre in the job unit."""
    for i in range(vertices.shape[0]):
        sx, sy, d = _project(matrix, vertices[i, 0], vertices[i, 1], vertices[i, 2], perspective)
        out[i, 0] = sx
        out[i, 1] = sy
        out[i, 2] = d


@kernel
def fill_triangles(screen, triangles, near, far, perspective, top, bottom, depth, rows):
    """Draw projected triangles into image rows top..bottom of the depth buffer (``rows`` keeps the triangle).

    What lies nearer than ``near`` or beyond ``far`` is cut off; in perspective a triangle that reaches behind the eye has
    no place on the screen and is left out.
    """
    width = depth.shape[1]
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        da, db, dc = screen[a, 2], screen[b, 2], screen[c, 2]
        nearest = min(da, min(db, dc))
        if nearest > far or (nearest < near if perspective else max(da, max(db, dc)) < near):
            continue
        ax, ay, bx, by, cx, cy = (
            screen[a, 0],
            screen[a, 1],
            screen[b, 0],
            screen[b, 1],
            screen[c, 0],
            screen[c, 1],
        )
        y0 = max(int(np.ceil(min(ay, min(by, cy)) - 0.5)), top)
        y1 = min(int(np.floor(max(ay, max(by, cy)) - 0.5)), bottom - 1)
        if y0 > y1:
            continue
        x0 = max(int(np.ceil(min(ax, min(bx, cx)) - 0.5)), 0)
        x1 = min(int(np.floor(max(ax, max(bx, cx)) - 0.5)), width - 1)
        if x0 > x1:
            continue
        det = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
        if det == 0.0:
            continue
        inverse = 1.0 / det
        for y in range(y0, y1 + 1):
            py = y + 0.5
            for x in range(x0, x1 + 1):
                px = x + 0.5
                s = ((px - ax) * (cy - ay) - (cx - ax) * (py - ay)) * inverse
                r = ((bx - ax) * (py - ay) - (px - ax) * (by - ay)) * inverse
                if s < 0.0 or r < 0.0 or s + r > 1.0:
                    continue
                d = np.float32(da + s * (db - da) + r * (dc - da))
                if near <= d <= far and d < depth[y, x]:
                    depth[y, x] = d
                    rows[y, x] = t


@kernel
def stroke_segments(ends, colours, half, top, bottom, image):
    """Draw straight pieces (n, 4: x, y, x, y in pixels) of width ``2 half`` into image rows top..bottom, edges blended."""
    width = image.shape[1]
    for k in range(ends.shape[0]):
        ax, ay, bx, by = ends[k, 0], ends[k, 1], ends[k, 2], ends[k, 3]
        room = half + 0.5
        y0, y1 = max(int(np.floor(min(ay, by) - room)), top), min(int(np.ceil(max(ay, by) + room)), bottom)
        x0, x1 = max(int(np.floor(min(ax, bx) - room)), 0), min(int(np.ceil(max(ax, bx) + room)), width)
        dx, dy = bx - ax, by - ay
        length = dx * dx + dy * dy
        for y in range(y0, y1):
            for x in range(x0, x1):
                px, py = x + 0.5 - ax, y + 0.5 - ay
                share = min(max((px * dx + py * dy) / length, 0.0), 1.0) if length > 0.0 else 0.0
                away = np.hypot(px - share * dx, py - share * dy)
                cover = min(max(room - away, 0.0), 1.0)
                if cover > 0.0:
                    for c in range(3):
                        old = float(image[y, x, c])
                        image[y, x, c] = np.uint8(old + cover * (colours[k, 2 - c] - old) + 0.5)
