"""The two profiles across a heap, along its length and its width, and any other the analyst draws."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
import shapely

from kerb.core.arrays import Floats
from kerb.core.geometry import polygon
from kerb.studies.layers import Profile
from kerb.studies.profiles import eastward
from kerb.studies.stockpile.heap import Heap
from kerb.studies.stockpile.setup import StockpileSetup

SAMPLES = 400
OVERHANG = 0.08


def across(heap: Heap, base_at: Callable[[Floats], Floats], setup: StockpileSetup) -> list[Callable[[], Profile]]:
    """What makes the profiles along the longer and the shorter axis of the toe's smallest rectangle, or where they were put."""
    found: list[Callable[[], Profile]] = []
    for line, name in zip(axes(heap.ring), ("length_profile", "width_profile"), strict=True):
        own = getattr(setup, name)
        found.append(partial(profile, heap, base_at, eastward(own.places) if own else line, name))
    return found


def axes(ring: Floats) -> tuple[Floats, Floats]:
    """Length and width line of a ring, (2, 2) each, through the middle of its smallest enclosing rectangle."""
    shift = ring[0]
    box = shapely.Polygon(ring - shift).minimum_rotated_rectangle
    corners = shapely.get_coordinates(box)[:4] + shift
    middle = corners.mean(axis=0)
    a, b = corners[1] - corners[0], corners[2] - corners[1]
    if np.hypot(*a) < np.hypot(*b):
        a, b = b, a
    stretch = 0.5 + OVERHANG
    length, width = (eastward(np.array([middle - side * stretch, middle + side * stretch])) for side in (a, b))
    return length, width


def profile(heap: Heap, base_at: Callable[[Floats], Floats], line: Floats, field: str) -> Profile:
    """Top and base along a line (2, 2). Outside the toe the top is read from the points nearby, the base is NaN."""
    share = np.linspace(0.0, 1.0, SAMPLES)[:, None]
    xy = line[0] + share * (line[1] - line[0])
    distance = share[:, 0] * float(np.hypot(*(line[1] - line[0])))
    top = heap.top.along(line).at(xy)
    inside = np.isfinite(top)
    base = np.full(SAMPLES, np.nan)
    if inside.any():
        base[inside] = base_at(xy[inside])
    beside = _along(heap, line, reach=2 * heap.ground.spacing)
    top[~inside] = beside[~inside]
    about = StockpileSetup.declared()[field]
    return Profile(about.title, line, distance, (("Top", "top", top), ("Base", "base", base)), field, about.cuts)


def _along(heap: Heap, line: Floats, reach: float) -> Floats:
    """Median elevation of the points within ``reach`` of the line, for each sample of it; NaN where there are none."""
    length = float(np.hypot(*(line[1] - line[0])))
    direction = (line[1] - line[0]) / length
    aside = reach * np.array([-direction[1], direction[0]])
    first, last = line[0] - reach * direction, line[1] + reach * direction
    strip = np.array([first - aside, last - aside, last + aside, first + aside])
    near = heap.ground.points[polygon.contains(strip, heap.ground.points)]
    along = (near[:, :2] - line[0]) @ direction
    order = np.argsort(along)
    place, z = along[order], near[order, 2]
    width = max(reach, length / SAMPLES)
    centres = np.linspace(0.0, length, SAMPLES)
    begins, stops = np.searchsorted(place, centres - width), np.searchsorted(place, centres + width)
    return np.array([np.median(z[a:b]) if b > a else np.nan for a, b in zip(begins, stops, strict=True)])
