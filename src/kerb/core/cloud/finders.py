"""The one registry of ways to find points: noise, repeats, surfaces, ground, thinning. Each gives a mask.

What is found is looked at first; what is done with it is the analyst's choice.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from kerb.core.arrays import Mask
from kerb.core.cloud.classes import GROUND
from kerb.core.cloud.ground import GroundSettings, ground, terrain_of
from kerb.core.cloud.levels import LowestSurface, Underside, lowest_surface, underside
from kerb.core.cloud.noise import (
    LowPoints,
    Outliers,
    Pieces,
    Sparse,
    low_points,
    outliers,
    piece_of,
    small_pieces,
    sparse,
)
from kerb.core.cloud.repeats import SOURCES, Duplicates, Overlap, duplicates, overlap
from kerb.core.cloud.smooth import Smooth, smooth_surface
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.thinning import Thinning, thinned
from kerb.core.progress import Progress
from kerb.core.quantity import round_number, rounded
from kerb.core.setting import Setting, setting, settings_of
from kerb.core.units import METRE

ASIDE, PART, CLASSES = "set aside", "part", "classes"


@dataclass(frozen=True)
class Piece:
    """What hangs together with a point; ``gap`` in the unit of the cloud."""

    gap: float = setting(0.5, Setting("Gap", "Points nearer than this hang together", "length", low=0.0))


@dataclass(frozen=True)
class Finder:
    """A way to find points. ``find(store, settings, among, progress)`` gives a mask (n,) of points in ``among``.

    ``usual`` adapts the settings to a cloud's spacing and unit; ``then`` is what is mostly done with the points. A
    ``seeded`` one starts at a point that is clicked: ``find`` takes its row after the settings. One that ``tells`` takes a
    list at the end and fills it with sentences on what it saw.
    """

    id: str
    title: str
    help: str
    settings: type
    find: Callable[..., Mask]
    usual: Callable[[CloudStore], Any]
    then: str = ASIDE
    page: str = "cleaning.md"
    seeded: bool = False
    tells: bool = False


def _found_ground(store: CloudStore, how: GroundSettings, among: Mask, progress: Progress) -> Mask:
    return among & (ground(store, how, progress, among) == GROUND)


def _found_piece(store: CloudStore, how: Piece, row: int, among: Mask, progress: Progress) -> Mask:
    return piece_of(store, row, how.gap, among, progress)


def _usual_ground(store: CloudStore) -> GroundSettings:
    return GroundSettings.usual(terrain_of(store), store)


def _length(store: CloudStore, spacings: float, metres: float = 0.0) -> float:
    """A round length of some point spacings, at least so many metres, in the unit of the cloud."""
    return rounded(max(spacings * store.spacing, metres / store.reference.unit.metres))


def _metres(store: CloudStore, metres: float) -> float:
    return metres if store.reference.unit == METRE else round_number(metres / store.reference.unit.metres)


def _usual_overlap(store: CloudStore) -> Overlap:
    by = next((name for name in SOURCES if store.has(name) and store.column(name).strides[0] != 0), SOURCES[0])
    return Overlap(by=by, cell=_length(store, 5, 1.0))


FINDERS: dict[str, Finder] = {
    finder.id: finder
    for finder in (
        Finder(
            "ground", "Ground", "Ground by surface analysis: without vegetation, vehicles and buildings",
            GroundSettings, _found_ground, _usual_ground, CLASSES, "ground.md",
        ),
        Finder(
            "outliers", "Noise: far from neighbours", "Points whose neighbours are farther than usual in this cloud",
            Outliers, outliers, lambda s: Outliers(),
        ),
        Finder(
            "sparse", "Noise: few neighbours", "Points with few others within a radius",
            Sparse, sparse, lambda s: Sparse(radius=_length(s, 6)),
        ),
        Finder(
            "low", "Noise: low points", "Points under everything around them, such as reflections from below",
            LowPoints, low_points, lambda s: LowPoints(drop=_metres(s, 0.5), cell=_length(s, 12, 3.0)),
        ),
        Finder(
            "pieces", "Noise: small pieces", "Groups of few points by themselves: birds, sparks, passers-by",
            Pieces, small_pieces, lambda s: Pieces(gap=_length(s, 5)),
        ),
        Finder(
            "duplicates", "Duplicate points", "Points at the very same place as another; the first of them stays",
            Duplicates, duplicates, lambda s: Duplicates(),
        ),
        Finder(
            "overlap", "Overlap of files or strips", "Points of all but one file or strip where several cover it",
            Overlap, overlap, _usual_overlap, tells=True,
        ),
        Finder(
            "lowest", "Lowest surface", "The floor under clutter: the lowest level of each place",
            LowestSurface, lowest_surface,
            lambda s: LowestSurface(cell=_length(s, 6), thickness=_metres(s, 0.03)), PART,
        ),
        Finder(
            "underside", "Underside", "The soffit of a bridge or slab: the first surface over a free space",
            Underside, underside,
            lambda s: Underside(cell=_length(s, 6), clear=_metres(s, 2.0), thickness=_metres(s, 0.05)), PART,
        ),
        Finder(
            "smooth", "Smooth surface at a point", "A floor, road or soffit: it grows to the next step or rough place",
            Smooth, smooth_surface,
            lambda s: Smooth(_metres(s, 0.03), _metres(s, 0.02), cell=_length(s, 5, 0.2)), PART, seeded=True,
        ),
        Finder(
            "piece", "Piece at a point", "Everything that hangs together with a point",
            Piece, _found_piece, lambda s: Piece(gap=_length(s, 3)), PART, seeded=True,
        ),
        Finder(
            "thin", "Thin and sample", "The points that stay when the cloud is thinned",
            Thinning, thinned, lambda s: Thinning(spacing=_length(s, 4)), PART,
        ),
    )
}  # fmt: skip


def strip(store: CloudStore, middle: tuple[float, float], most: int) -> tuple[Mask, tuple[float, float, float, float]]:
    """Points, (n,), of a strip from west to east through a place, about ``most`` of them, to be looked at first.

    Also the strip itself: lowest easting, northing, highest easting, northing.
    """
    low, high = store.bounds
    share = min(1.0, most / max(store.count, 1))
    half = float(high[1] - low[1]) * share / 2
    centre = float(np.clip(middle[1], low[1] + half, high[1] - half))
    south, north = centre - half, centre + half
    if store.placement is not None:
        northing = store.coordinates(slice(0, store.count))[:, 1]
        return (northing >= south) & (northing <= north), (float(low[0]), south, float(high[0]), north)
    ends = (np.array([south, north]) - store.origin[1]) / store.scale[1]
    y = store.xyz[:, 1]
    return (y >= ends[0] - 0.5) & (y <= ends[1] + 0.5), (float(low[0]), south, float(high[0]), north)


def scaled(settings: Any, factor: float) -> Any:
    """The same settings for numbers in another unit: lengths times a factor."""
    lengths = [name for name, (about, _) in settings_of(type(settings)).items() if about.unit == "length"]
    return replace(settings, **{name: getattr(settings, name) * factor for name in lengths})
