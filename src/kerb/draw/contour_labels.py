"""Where the contour lines of a plan picture are labelled: along a few columns and rows, far from one another."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Floats, Floats32
from kerb.draw.picture import STEEPEST_CONTOUR, Picture

COLUMNS, ROWS = 7, 5
APART = 90.0
EVEN = 7
MARGIN = 24


def contour_labels(picture: Picture, interval: float, apart: float = APART) -> list[tuple[float, float, float]]:
    """(x, y, elevation) in pixels of a picture that looks straight down; every fifth line first, then the others.

    A line is labelled where the elevation, evened over a few pixels, passes it by no more than a step in a pixel.
    """
    width, height = picture.size
    if interval <= 0 or picture.camera.tilt < 89.0 or min(width, height) < 4 * MARGIN:
        return []
    level = picture.camera.target[2] - picture.buffer.depth
    jump = STEEPEST_CONTOUR * picture.camera.scale
    found: list[tuple[float, float, float]] = []
    for x in np.linspace(MARGIN, width - MARGIN, COLUMNS).astype(int).tolist():
        found += [(float(x), y, z) for y, z in _crossings(level[:, x], interval, jump)]
    for y in np.linspace(MARGIN, height - MARGIN, ROWS).astype(int).tolist():
        found += [(x, float(y), z) for x, z in _crossings(level[y], interval, jump)]
    found = [place for place in found if MARGIN < place[0] < width - MARGIN and MARGIN < place[1] < height - MARGIN]
    found.sort(key=lambda place: round(place[2] / interval) % 5 != 0)
    taken: list[tuple[float, float, float]] = []
    for place in found:
        if all(np.hypot(place[0] - other[0], place[1] - other[1]) >= apart for other in taken):
            taken.append(place)
    return taken


def _crossings(line: Floats | Floats32, interval: float, jump: float) -> list[tuple[float, float]]:
    """(pixel, elevation) where a line of elevations passes a multiple of the interval, by no more than ``jump`` in a pixel."""
    known = np.isfinite(line)
    if known.sum() < 2 * EVEN:
        return []
    weight = np.convolve(known, np.ones(EVEN), "same")
    with np.errstate(invalid="ignore", divide="ignore"):
        even = np.convolve(np.where(known, line, 0.0), np.ones(EVEN), "same") / weight
    even[weight < EVEN] = np.nan
    step = np.floor(even / interval)
    passed = np.flatnonzero((np.abs(np.diff(step)) == 1) & (np.abs(np.diff(even)) <= jump))
    return [(float(at), float(max(step[at], step[at + 1]) * interval)) for at in passed.tolist()]
