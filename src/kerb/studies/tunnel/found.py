"""A tunnel made ready to be told: the map of its wall, its sections, and what lies between the wall and the design line."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.progress import Progress
from kerb.core.quantity import round_number
from kerb.core.section.stations import chosen_stations, parsed
from kerb.core.tunnel.profile import DesignLine, of_words
from kerb.core.tunnel.wall import Axis, Bins, WallMap, WallPoints, wall_map, wall_points
from kerb.core.units import LengthUnit
from kerb.studies.sources import Sources
from kerb.studies.tunnel.setup import NORMAL, TunnelSetup

USUAL_SECTIONS, FEWEST = 20, 30
# The usual cell: so many metres, so many spacings of the points at least.
CELL_M, SPACINGS = 0.1, 3.0
# Points farther off the design line than this many of its widths belong to something else.
REACH = 1.5
# A wall that stands off the line by more than this share of its width is that of another one.
UNLIKE = 0.3


@dataclass(frozen=True)
class Section:
    """One section: its station as it is counted, its distance along, deviations (bins,) along rays and square to the line, and
    how many points it has."""

    station: float
    along: float
    d: Floats
    square: Floats
    points: int
    slice: Floats


@dataclass(frozen=True)
class Found:
    """What was found of a tunnel. ``square`` (rows, bins) is how far the wall stands off the line by the chosen way;
    ``earlier`` the map of an earlier scan on the same cells."""

    setup: TunnelSetup
    unit: LengthUnit
    axis: Axis
    design: DesignLine
    wall: WallMap
    bins: Bins
    off_line: Floats
    sections: list[Section]
    used: int
    radial: Floats
    rows: Ints
    earlier: WallMap | None = None

    @property
    def stretch(self) -> Floats:
        """How much longer than on the alignment a cell is (rows, bins): shorter on the inside of a curve."""
        d = np.nan_to_num(self.wall.d)
        aside = self.design.centre[0] + self.bins.way[:, 0] * (self.bins.radius + d / 2)
        return np.asarray(1.0 - self.axis.bend(self.wall.along)[:, None] * aside)

    @property
    def volumes(self) -> Floats:
        """Volumes (rows, bins) between the line and the wall, inside negative, 0 where it was not seen."""
        return np.asarray(np.nan_to_num(self.bins.areas(self.wall.d)) * self.wall.step * self.stretch)

    @property
    def cell_areas(self) -> Floats:
        """Areas (rows, bins) of the cells on the design line."""
        aside = self.design.centre[0] + self.bins.way[:, 0] * self.bins.radius
        return np.asarray(self.wall.width * self.wall.step * (1.0 - self.axis.bend(self.wall.along)[:, None] * aside))

    def places(self, wall: WallMap | None = None) -> Floats:
        """Places (rows, bins, 3) of the wall in the middle of cells, NaN where it was not seen."""
        own = wall or self.wall
        across = self.design.centre + self.bins.way * (self.bins.radius + own.d)[..., None]
        rows, columns = own.d.shape
        flat = self.axis.world(np.repeat(own.along, columns), across.reshape(-1, 2))
        return flat.reshape(rows, columns, 3)


def off_the_line(setup: TunnelSetup, design: DesignLine, bins: Bins, d: Floats) -> Floats:
    """How far a wall that stands d (…, bins) off along rays stands off by the chosen way."""
    if setup.way != NORMAL:
        return d
    out = np.full(d.shape, np.nan)
    known = np.isfinite(d)
    places = design.centre + bins.way * (bins.radius + np.nan_to_num(d))[..., None]
    out[known] = design.normal_distance(places[known])
    return out


def find(setup: TunnelSetup, sources: Sources, progress: Progress) -> Found:
    """Read the wall. Raises InputError; NotDeterminable; Cancelled."""
    store, unit = sources.store("cloud"), sources.unit
    design = of_words(setup.profile)
    axis = Axis.of(setup.line(sources), 1.0 / unit.metres)
    view = setup.cloud.of(store)
    rows = view.all_rows(progress.within(0.0, 0.05))
    progress.step(0.05, "Reading points")
    points, near = _near(axis, store.coordinates(rows), design)
    if len(near) < FEWEST:
        raise NotDeterminable("fewer than thirty points lie along the alignment: does it belong to this cloud?")
    wide = float(np.ptp(design.corners, axis=0).mean())
    stands = float(np.median(points.radial))
    if abs(stands) > UNLIKE * wide:
        where = "inside of" if stands < 0 else "beyond"
        words = f"the wall is {abs(stands):.3g} {unit.symbol} {where} the design profile, which is {wide:.3g} wide"
        raise InputError(f"{words}: wrong size or unit?")
    progress.step(0.3, "The map of the wall")
    span = _span(points, axis)
    cell = setup.cell or round_number(max(CELL_M / unit.metres, SPACINGS * store.spacing))
    wall = wall_map(points, design, span, (cell, cell), setup.stands_off)
    bins = Bins.of(design, wall.d.shape[1])
    off = off_the_line(setup, design, bins, wall.d)
    progress.step(0.7, "Sections")
    sections = _sections(setup, axis, points, design, (*span, cell), unit)
    earlier = None
    if setup.earlier.holding:
        other = setup.earlier.of(sources.store("earlier"))
        before, kept = _near(axis, sources.store("earlier").coordinates(other.all_rows()), design)
        if len(kept) < FEWEST:
            raise NotDeterminable("fewer than thirty points of the earlier scan lie along the alignment")
        earlier = wall_map(before, design, span, (wall.step, wall.width), setup.stands_off)
    return Found(setup, unit, axis, design, wall, bins, off, sections, len(near), points.radial, rows[near], earlier)


def _near(axis: Axis, xyz: Floats, design: DesignLine) -> tuple[WallPoints, Ints]:
    """Points along the alignment that may be of its wall, and their row numbers."""
    wide = float(np.ptp(design.corners, axis=0).max())
    room = REACH * wide
    low, high = axis.vertices.min(axis=0) - room, axis.vertices.max(axis=0) + room
    near = np.flatnonzero(np.all((xyz >= low) & (xyz <= high), axis=1))
    if not len(near):
        raise InputError("the alignment lies beside the cloud")
    points = wall_points(axis, xyz[near], design)
    inside = (points.along >= axis.along[0]) & (points.along <= axis.along[-1])
    keep = inside & (np.abs(points.radial) <= wide)
    if keep.sum() < FEWEST <= inside.sum():
        away = float(np.median(np.abs(points.radial[inside])))
        raise InputError(
            f"points along the alignment are {away:.3g} off a design profile {wide:.3g} wide: wrong size or unit?"
        )
    return _only(points, keep), near[keep]


def _only(points: WallPoints, keep: Mask | Ints | slice) -> WallPoints:
    return WallPoints(
        points.along[keep], points.across[keep], points.angle[keep], points.radial[keep], points.arc[keep]
    )


def _span(points: WallPoints, axis: Axis) -> tuple[float, float]:
    """From where to where the wall was scanned: single points far off do not count."""
    low, high = np.percentile(points.along, [0.02, 99.98])
    least, most = float(points.along.min()), float(points.along.max())
    room = 0.01 * (high - low)
    first, last = (least if low - least < room else float(low)), (most if most - high < room else float(high))
    if last - first <= 0:
        raise NotDeterminable("all points lie at one station")
    return max(first, float(axis.along[0])), min(last + 1e-9 * axis.length, float(axis.along[-1]))


def _sections(
    setup: TunnelSetup,
    axis: Axis,
    points: WallPoints,
    design: DesignLine,
    span: tuple[float, float, float],
    unit: LengthUnit,
) -> list[Section]:
    line = axis.alignment
    typed, interval = parsed(setup.stations, unit), setup.interval
    if interval is None and not len(typed):
        interval = round_number((span[1] - span[0]) / USUAL_SECTIONS)
    counted = chosen_stations(line, interval, typed, False, False)
    order = np.argsort(points.along, kind="stable")
    ranked = points.along[order]
    half, made = setup.thickness / 2, []
    for station in counted.tolist():
        along = float(np.interp(station, line.marks, line.starts))
        if not span[0] - half <= along <= span[1] + half:
            continue
        first, last = np.searchsorted(ranked, [along - half, along + half])
        own = order[first:last]
        if len(own) < FEWEST:
            continue
        some = replace(_only(points, own), along=np.full(len(own), along))
        flat = wall_map(some, design, (along - half, along + half), (setup.thickness, span[2]), setup.stands_off)
        bins = Bins.of(design, flat.d.shape[1])
        square = off_the_line(setup, design, bins, flat.d)
        made.append(Section(station, along, flat.d[0], square[0], len(own), points.across[own]))
    if not made:
        raise InputError("no station has points of the wall: choose an interval or stations that lie along the scan")
    return made
