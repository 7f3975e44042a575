"""A floor made ready to be told: the slab, what it is held against, sample lines, straightedges and water."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy

from kerb.core.arrays import Floats, Mask, ends
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.floor import flatness as f
from kerb.core.floor.evenness import Gaps
from kerb.core.floor.slab import Rules, Slab, slab_of
from kerb.core.floor.water import Water
from kerb.core.geometry.area import inside_any
from kerb.core.parallel import each, ranges
from kerb.core.progress import Progress
from kerb.core.quantity import quantity, round_number
from kerb.core.surface.cloud_top import usual_spacing
from kerb.core.units import LengthUnit
from kerb.studies.floor.setup import DESIGN, FIT, LEAST, LEVEL, PLANE, FloorSetup
from kerb.studies.sources import Sources

# A tenth of a millimetre says something of a floor, a tenth of an F-number too.
FINE_M, F_STEP, FEWEST_NODES = 0.0001, 0.1, 4
# A median has 1.2533 times the standard deviation of a mean (normal points, large samples).
OF_MEDIAN = 1.2533
# Lines are laid out with some readings to spare.
SPARE = 1.25
# Nodes where nothing is said: so far apart, but two widths of the points at least, and no more than a million.
USUAL_M, WIDTHS, MOST_NODES = 0.15, 2.0, 1_000_000
# Of a large cloud a patch of twice so many points tells how far apart they lie.
PATCH = 1_000_000
FOOT_POINTS, FOOT_M = 30, (0.025, 0.075)


@dataclass(frozen=True)
class Found:
    """What was found of a floor. ``away`` (rows, columns) are deviations from the reference, up positive."""

    setup: FloorSetup
    unit: LengthUnit
    slab: Slab
    away: Floats
    lines: list[f.LineReadings]
    gaps: Gaps
    water: Water

    @property
    def d(self) -> Floats:
        """Deviations (n,) of the nodes with a level."""
        return np.asarray(self.away[self.slab.known])

    @property
    def limits(self) -> tuple[float, float]:
        """The tolerance above and below."""
        return self.setup.tolerance, self.setup.tolerance_below or self.setup.tolerance

    @property
    def fine(self) -> float:
        """A tenth of a millimetre in the job unit."""
        return FINE_M / self.unit.metres

    @property
    def noise(self) -> float:
        """Standard deviation of a reading by the scatter of its points about the floor, in the job unit."""
        slab = self.slab
        many = max(density_of(slab) * np.pi * foot_of(self.setup, slab, self.unit) ** 2, 1.0)
        return OF_MEDIAN * slab.noise / float(np.sqrt(many)) if many > 1 else slab.noise


def density_of(slab: Slab) -> float:
    """Points of the floor to a square unit."""
    area = max(float(np.isfinite(slab.z).sum()), 1.0) * slab.cell_area
    return (
        float(slab.count[slab.known].mean()) / (np.pi * slab.radius**2) if slab.radius > 0 else len(slab.points) / area
    )


def foot_of(setup: FloorSetup, slab: Slab, unit: LengthUnit) -> float:
    """The footprint of a reading: what is set, else wide enough for some thirty points within 25 to 75 mm."""
    if setup.foot is not None:
        return setup.foot
    wanted = float(np.sqrt(FOOT_POINTS / (np.pi * max(density_of(slab), 1e-12))))
    return float(np.clip(wanted, FOOT_M[0] / unit.metres, FOOT_M[1] / unit.metres))


def found_slab(setup: FloorSetup, points: Floats, unit: LengthUnit) -> Slab:
    """The floor in the points that count, without what is left out. Raises InputError; NotDeterminable."""
    if len(points) < FEWEST_NODES:
        raise NotDeterminable("there are too few points for a floor")
    # Rows of a cloud follow its tiles, so that those in the middle are a patch of it.
    middle = len(points) // 2
    apart = usual_spacing(points[max(middle - PATCH, 0) : middle + PATCH])
    if setup.spacing is None:
        low, high = ends(points[:, :2])
        box = float((high - low).prod())
        least = max(WIDTHS * apart, float(np.sqrt(box / MOST_NODES)))
        usual = round_number(USUAL_M / unit.metres)
        spacing = usual if least <= usual else round_number(least)
    else:
        spacing = setup.spacing
    if spacing < apart:
        raise InputError(f"a spacing of {spacing:g} is finer than the points, which lie {apart:.3g} apart")
    radius = setup.radius if setup.radius is not None else spacing / 2
    seed = setup.seed.xy[0] if setup.seed.xy else None
    rules = Rules(spacing, radius, setup.take, setup.step, setup.band, setup.edge)
    areas = setup.cloud.within
    slab = slab_of(points, rules, areas, (float(seed[0]), float(seed[1])) if seed is not None else None)
    if setup.gone():
        slab = slab.only(on_grid(slab, ~inside_any(setup.gone(), slab.places)))
    if int(slab.known.sum()) < FEWEST_NODES:
        raise NotDeterminable("fewer than four nodes of the floor are left")
    return slab


def on_grid(slab: Slab, keep: Mask) -> Mask:
    """What is said of the nodes with a level (n,), as a mask of all (rows, columns)."""
    out = np.zeros(slab.z.shape, bool)
    out[slab.known] = keep
    return out


def reference_of(setup: FloorSetup, slab: Slab, sources: Sources) -> tuple[Any, str]:
    """A function from plan places (n, 2) to levels (n,), NaN where there is none, and what it is in words. Raises InputError."""
    places, z, unit = slab.places, slab.levels, sources.unit
    if setup.reference == DESIGN:
        return sources.surface("design", setup.design).at, f"the design surface {sources.source('design').name}"
    if setup.reference == LEVEL:
        typed = float(setup.reference_level or 0.0)
        return lambda xy: np.full(
            len(xy), typed
        ), f"a level of {quantity(typed, unit.code, resolution=FINE_M / unit.metres)}"
    if setup.reference == PLANE:
        east, north = setup.plane()
        at, typed = np.array(setup.falls_at.xy[0]), float(setup.reference_level or 0.0)
        return (
            lambda xy: typed + (xy - at) @ np.array([east, north]),
            f"a plane that falls {setup.falls} (percent, bearing)",
        )
    if setup.reference == FIT:
        middle = places.mean(axis=0)
        design = np.column_stack([np.ones(len(z)), places - middle])
        found, *_ = np.linalg.lstsq(design, z, rcond=None)
        fall = 100 * float(np.hypot(*found[1:]))
        bearing = float(np.degrees(np.arctan2(-found[1], -found[2])) % 360)
        return (
            lambda xy: found[0] + (xy - middle) @ found[1:],
            f"the plane that fits best, falling {fall:.3f} % to {bearing:.0f}°",
        )
    if setup.reference == LEAST:
        least = least_level(z, setup.tolerance, setup.tolerance_below or setup.tolerance)
        words = quantity(least, unit.code, resolution=FINE_M / unit.metres)
        return lambda xy: np.full(len(xy), least), f"the level that needs least grinding and filling, {words}"
    mean = float(z.mean())
    return lambda xy: np.full(
        len(xy), mean
    ), f"its mean level, {quantity(mean, unit.code, resolution=FINE_M / unit.metres)}"


def least_level(z: Floats, above: float, below: float) -> float:
    """The level against which least lies beyond the tolerance, above and below together.

    What lies beyond grows by one for every node that comes to lie beyond, so that the sum is convex: at its least as many nodes
    lie above as below. Where nothing lies beyond over a span of levels, its middle.
    """
    low, high = np.sort(z) - above, np.sort(z) + below
    if low[-1] <= high[0]:
        return float(0.5 * (low[-1] + high[0]))
    levels = np.sort(np.concatenate([low, high]))
    too_high = len(z) - np.searchsorted(low, levels, side="right")
    too_low = np.searchsorted(high, levels, side="right")
    first = int(np.flatnonzero(too_low >= too_high)[0])
    return float(levels[first])


def read_lines(setup: FloorSetup, sources: Sources, slab: Slab, progress: Progress) -> list[f.LineReadings]:
    """Readings along the sample lines, each the median of the points of the floor in a footprint. Raises InputError."""
    metres = sources.unit.metres
    named: list[tuple[str, Floats, Floats]] = []
    if setup.lines:
        for number, line in enumerate(sources.lines("lines").lines, 1):
            for part, (a, b) in enumerate(zip(line.xyz[:-1, :2], line.xyz[1:, :2], strict=True), 1):
                name = line.name or f"line {number}"
                named.append((name if len(line.xyz) == 2 else f"{name}.{part}", a, b))
    else:
        area = float(slab.known.sum()) * slab.cell_area * metres**2
        box = float(np.prod(np.ptp(slab.places, axis=0))) * metres**2
        # What stands on the floor takes its part of the readings.
        wanted = int(f.wanted_readings(area) * np.clip(SPARE * box / max(area, 1e-9), 1.0, 3.0))
        named = [(f"L{n}", a, b) for n, (a, b) in enumerate(f.laid_out(slab.places, metres, wanted), 1)]
    progress.step(0.4, "Reading sample lines")
    stations = []
    for name, a, b in named:
        try:
            stations.append(f.stations(a, b, metres))
        except InputError as error:
            raise InputError(f"{name}: {error}") from None
    made = []
    levels = levels_at(slab, stations, foot_of(setup, slab, sources.unit))
    for (name, _, _), places, h in zip(named, stations, levels, strict=True):
        if setup.lines and not np.isfinite(h).any():
            raise InputError(f"{name}: no reading of it lies on the floor")
        made.append(f.LineReadings(name, h * metres, places))
    return [line for line in made if np.isfinite(line.h).sum() > f.LEVEL_STEPS]


def levels_at(slab: Slab, groups: Sequence[Floats], foot: float) -> list[Floats]:
    """Median levels of the points of the floor within a footprint of places, (n,) for each group of places (n, 2).

    NaN off the nodes that count: near an edge, or in an area that is left out.
    """
    places = np.concatenate([np.empty((0, 2)), *groups])
    h = np.full(len(places), np.nan)
    on = np.flatnonzero(_on(slab, places))
    if len(on):
        points = slab.points[_beside(slab, places[on], foot)]
        near: Any = scipy.spatial.cKDTree(points[:, :2]).query_ball_point(places[on], foot) if len(points) else []
        for at, rows in zip(on, near, strict=False):
            h[at] = float(np.median(points[rows, 2])) if rows else np.nan
    return np.split(h, np.cumsum([len(group) for group in groups])[:-1]) if groups else []


def _beside(slab: Slab, places: Floats, foot: float) -> Mask:
    """Which points of a slab lie in cells that a footprint round places (n, 2) may reach: a tree of all would take too long."""
    wide = max(foot, slab.spacing)
    (low, high), (west, east) = ends(slab.points[:, :2]), ends(places)
    low, high = np.minimum(low, west) - 2 * wide, np.maximum(high, east) + 2 * wide
    columns, rows = (np.floor((high - low) / wide).astype(np.int64) + 1).tolist()
    reached = np.zeros((rows, columns), bool)
    column, row = np.floor((places - low) / wide).astype(np.int64).T
    for down in (-1, 0, 1):
        for aside in (-1, 0, 1):
            reached[row + down, column + aside] = True

    def some(span: tuple[int, int]) -> Mask:
        x, y = (slab.points[slice(*span), axis] for axis in (0, 1))
        # Nothing lies below the lowest, so that cutting off the fraction is the floor.
        return np.asarray(reached[((y - low[1]) / wide).astype(np.int32), ((x - low[0]) / wide).astype(np.int32)])

    return np.concatenate(each(some, ranges(len(slab.points), 100_000)))


def _on(slab: Slab, places: Floats) -> Mask:
    """Which places (n, 2) lie on a node that counts."""
    column, row = np.round((places - np.asarray(slab.corner)) / slab.spacing).astype(int).T
    inside = (row >= 0) & (row < slab.z.shape[0]) & (column >= 0) & (column < slab.z.shape[1])
    out = np.zeros(len(places), bool)
    out[inside] = slab.known[row[inside], column[inside]]
    return out
