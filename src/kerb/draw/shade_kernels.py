"""Kernels that turn depth and values into colour: eye-dome lighting, ramps, contour lines, composition."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import kernel


@kernel
def eye_dome(depth, first, last, per_pixel, perspective, strength, shade):
    """Darken a pixel by how far its neighbours lie in front of it (eye-dome lighting, Boucheny 2009).

    ``per_pixel`` is the size of a pixel in the depth unit (parallel view); in perspective the logarithm of depth is
    compared instead. Two rings of neighbours, at 1 and 3 pixels.
    """
    height, width = depth.shape
    for y in range(first, last):
        for x in range(width):
            d = depth[y, x]
            if not np.isfinite(d):
                shade[y, x] = 1.0
                continue
            total = 0.0
            for ring in range(2):
                step = 1 if ring == 0 else 3
                for k in range(8):
                    dx = (1, 1, 0, -1, -1, -1, 0, 1)[k] * step
                    dy = (0, 1, 1, 1, 0, -1, -1, -1)[k] * step
                    nx, ny = x + dx, y + dy
                    if nx < 0 or ny < 0 or nx >= width or ny >= height:
                        continue
                    n = depth[ny, nx]
                    if not np.isfinite(n):
                        continue
                    if perspective:
                        rise = (np.log2(d) - np.log2(n)) * 300.0
                    else:
                        rise = (d - n) / per_pixel
                    if rise > 0.0:
                        total += min(rise / step, 4.0)
            shade[y, x] = np.exp(-strength * total / 16.0)


@kernel
def smooth(values, weight, radius, first, last, along_x, out, out_weight):
    """One pass of a box mean over known pixels (weight above zero), along x or y."""
    height, width = values.shape
    for y in range(first, last):
        for x in range(width):
            total = 0.0
            known = 0.0
            if along_x:
                for n in range(max(x - radius, 0), min(x + radius + 1, width)):
                    total += values[y, n] * weight[y, n]
                    known += weight[y, n]
            else:
                for n in range(max(y - radius, 0), min(y + radius + 1, height)):
                    total += values[n, x] * weight[n, x]
                    known += weight[n, x]
            out_weight[y, x] = known
            out[y, x] = total / known if known > 0.0 else 0.0


@kernel
def relief(elevation, weight, first, last, per_pixel, strength, shade):
    """Soft light from the north-west on the smoothed elevation picture, multiplied into ``shade``."""
    height, width = elevation.shape
    for y in range(max(first, 1), min(last, height - 1)):
        for x in range(1, width - 1):
            if weight[y, x] <= 0.0 or weight[y, x - 1] <= 0.0 or weight[y, x + 1] <= 0.0:
                continue
            if weight[y - 1, x] <= 0.0 or weight[y + 1, x] <= 0.0:
                continue
            gx = (elevation[y, x + 1] - elevation[y, x - 1]) / (2.0 * per_pixel)
            gy = (elevation[y + 1, x] - elevation[y - 1, x]) / (2.0 * per_pixel)
            norm = np.sqrt(1.0 + gx * gx + gy * gy)
            light = (-0.5 * gx - 0.5 * gy + 0.7071) / norm
            shade[y, x] *= 1.0 + strength * (light / 0.7071 - 1.0)


@kernel
def contours(elevation, weight, first, last, interval, jump, strength, image, ink):
    """Draw contour lines a pixel wide over the image where the smoothed elevation crosses multiples of interval.

    Every fifth line is stronger. Steps between neighbours above ``jump`` are edges of things, not ground, and get
    no line.
    """
    height, width = elevation.shape
    for y in range(max(first, 1), min(last, height - 1)):
        for x in range(1, width - 1):
            if weight[y, x] <= 0.0:
                continue
            z = elevation[y, x]
            gx = 0.5 * (elevation[y, x + 1] - elevation[y, x - 1])
            gy = 0.5 * (elevation[y + 1, x] - elevation[y - 1, x])
            if weight[y, x - 1] <= 0.0 or weight[y, x + 1] <= 0.0:
                continue
            if weight[y - 1, x] <= 0.0 or weight[y + 1, x] <= 0.0:
                continue
            slope = np.sqrt(gx * gx + gy * gy)
            if slope > jump or slope <= 1e-12:
                continue
            lines = z / interval
            nearest = np.floor(lines + 0.5)
            away = abs(lines - nearest) * interval / slope
            index = int(nearest) % 5 == 0
            cover = (1.15 if index else 0.85) - away
            # Lines closer than three pixels would fill the slope with ink: fade them.
            crowd = interval / slope
            if not index and crowd < 3.0:
                cover *= max(crowd - 1.5, 0.0) / 1.5
            if cover > 0.0:
                alpha = min(cover, 1.0) * (strength if index else strength * 0.6)
                for k in range(3):
                    image[y, x, k] = np.uint8(image[y, x, k] * (1.0 - alpha) + ink[k] * alpha)


@kernel
def ramp_colours(values, low, high, table, beyond, faded, out):
    """Colours (n, 3) of values by a table (m, 3); beyond: 0 clamp, 1 fade what lies outside low..high."""
    last = table.shape[0] - 1
    scale = last / (high - low) if high > low else 0.0
    for i in range(values.shape[0]):
        v = values[i]
        if not np.isfinite(v):
            out[i, 0], out[i, 1], out[i, 2] = faded[0], faded[1], faded[2]
            continue
        at = (v - low) * scale
        outside = v < low or v > high
        k = int(min(max(at, 0.0), float(last)) + 0.5)
        for c in range(3):
            colour = table[k, c]
            if outside and beyond == 1:
                colour = np.uint8((int(colour) + 5 * int(faded[c])) // 6)
            out[i, c] = colour


@kernel
def paint(colours, places, shade, background, first, last, image):
    """Put colours (n, 3), times shade, into image (h, w, 4) as blue, green, red; places (h, w) is -1 for background."""
    for y in range(first, last):
        for x in range(places.shape[1]):
            n = places[y, x]
            if n < 0:
                for c in range(3):
                    image[y, x, 2 - c] = background[c]
            else:
                s = shade[y, x]
                for c in range(3):
                    image[y, x, 2 - c] = np.uint8(min(colours[n, c] * s, 255.0))
            image[y, x, 3] = 255


@kernel
def overlay(image, depth, rows, mesh_depth, mesh_rows, first, last, tones, opacity, hidden, hatch):
    """Blend a drawn mesh over the picture where it is in front; ``hidden`` is its opacity where it is behind.

    ``tones`` (triangles or 1, 3) is the shaded colour of each triangle; ``hatch`` draws diagonal lines in place of a
    fill. What is opaque hides what is drawn later: its depth goes into ``depth``, and no point is left in ``rows``.
    """
    single = tones.shape[0] == 1
    for y in range(first, last):
        for x in range(image.shape[1]):
            d = mesh_depth[y, x]
            if not np.isfinite(d):
                continue
            alpha = opacity if d <= depth[y, x] else hidden
            if hatch:
                alpha = max(opacity, hidden) if (x + y) % 7 < 2 else 0.0
            if alpha <= 0.0:
                continue
            t = 0 if single else mesh_rows[y, x]
            for c in range(3):
                image[y, x, 2 - c] = np.uint8(image[y, x, 2 - c] * (1.0 - alpha) + min(tones[t, c], 255.0) * alpha)
            if opacity >= 0.5 and not hatch and d < depth[y, x]:
                depth[y, x] = d
                rows[y, x] = -1


@kernel
def seams(image, depth, mesh_depth, mesh_rows, first, last, ink, strength):
    """Draw the edges between the triangles of a mesh where it is seen: pixels whose right or lower neighbour is another triangle.

    Where triangles are hardly larger than pixels their edges would be all there is to see: they fade.
    """
    height, width = depth.shape
    for y in range(first, min(last, height - 1)):
        for x in range(width - 1):
            if not (np.isfinite(mesh_depth[y, x]) and mesh_depth[y, x] <= depth[y, x]):
                continue
            here = mesh_rows[y, x]
            if mesh_rows[y, x + 1] == here and mesh_rows[y + 1, x] == here:
                continue
            crowd = 0
            for n in range(max(x - 3, 0), min(x + 3, width - 1)):
                crowd += mesh_rows[y, n] != mesh_rows[y, n + 1]
            for n in range(max(y - 3, 0), min(y + 3, height - 1)):
                crowd += mesh_rows[n, x] != mesh_rows[n + 1, x]
            alpha = strength * min(max((9.0 - crowd) / 5.0, 0.0), 1.0)
            for c in range(3):
                image[y, x, c] = np.uint8(image[y, x, c] * (1.0 - alpha) + ink[c] * alpha)


@kernel
def drape(image, depth, first, last, sight, texture, inverse, level, under, over):
    """Blend a picture into the image where the ground is: ``under`` its opacity where nothing is drawn, ``over`` on
    what is drawn.

    ``sight`` (5, 3): right, down and forward axes, target, and (pixel scale, focal or 0 for parallel, distance); its
    vertical parts are those of a stretched world, with the stretch in ``inverse[6]``. ``texture`` (h, w, 4) red, green,
    blue, opacity; ``inverse`` (7,) turns easting and northing relative to the target into texture column and row.
    Background is put on the level plane ``level`` (relative to the target).
    """
    height, width = depth.shape
    rows, columns = texture.shape[0], texture.shape[1]
    scale, focal, distance = sight[4, 0], sight[4, 1], sight[4, 2]
    stretch = inverse[6]
    for y in range(first, last):
        for x in range(width):
            d = float(depth[y, x])
            known = np.isfinite(d)
            strength = over if known else under
            if strength <= 0.0:
                continue
            dx, dy = x + 0.5 - width / 2, y + 0.5 - height / 2
            if not known:
                if focal > 0.0:
                    fall = (dx * sight[0, 2] + dy * sight[1, 2]) / focal + sight[2, 2]
                    if fall == 0.0:
                        continue
                    d = (level * stretch + distance * sight[2, 2]) / fall
                    if d <= 0.0:
                        continue
                else:
                    if sight[2, 2] == 0.0:
                        continue
                    d = (level * stretch - (dx * sight[0, 2] + dy * sight[1, 2]) * scale) / sight[2, 2]
            reach = d / focal if focal > 0.0 else scale
            ahead = d - distance
            east = dx * reach * sight[0, 0] + dy * reach * sight[1, 0] + ahead * sight[2, 0]
            north = dx * reach * sight[0, 1] + dy * reach * sight[1, 1] + ahead * sight[2, 1]
            column = inverse[0] * east + inverse[1] * north + inverse[2]
            row = inverse[3] * east + inverse[4] * north + inverse[5]
            if not (0.0 <= column < columns and 0.0 <= row < rows):
                continue
            c, r = int(column), int(row)
            alpha = strength * texture[r, c, 3] / 255.0
            for k in range(3):
                image[y, x, 2 - k] = np.uint8(image[y, x, 2 - k] * (1.0 - alpha) + texture[r, c, k] * alpha)
