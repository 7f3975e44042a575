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
def overlay(image, depth, mesh_depth, mesh_rows, first, last, light, colour, opacity, hidden, hatch):
    """Blend a drawn mesh over the picture where it is in front; ``hidden`` is its opacity where it is behind.

    ``light`` (triangles,) is the shade of each triangle; ``hatch`` draws diagonal lines in place of a fill.
    """
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
            s = 1.0 if hatch else light[mesh_rows[y, x]]
            for c in range(3):
                image[y, x, 2 - c] = np.uint8(image[y, x, 2 - c] * (1.0 - alpha) + min(colour[c] * s, 255.0) * alpha)
