"""Stations along a line or alignment: whole ones at an interval, typed ones, and how they are written."""

from __future__ import annotations

import re
from itertools import pairwise

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.geometry.alignment import Alignment, Element, Grade, straight
from kerb.core.units import LengthUnit

MOST_STATIONS = 100_000
# Stations nearer to one another than this share of the line are one.
SAME = 1e-9
# A full station of the trade: 1000 m on metric jobs, 100 ft elsewhere (common practice).
FULL = {"m": 1000.0}
FULL_FEET = 100.0
DEGREE = np.pi / 180


def alignment_of(xyz: Floats, name: str = "", with_profile: bool = False) -> Alignment:
    """A drawn line (n, 2 or 3) as an alignment of straights, stations counted from nought at its first vertex; with
    the elevations of its vertices as its profile, where they are known and asked for.

    Raises InputError, when fewer than two of its places differ.
    """
    xy = np.asarray(xyz, float)[:, :2]
    if not np.isfinite(xy).all():
        raise InputError(f"{name or 'the line'}: a coordinate is no number")
    keep = np.append(True, np.hypot(*np.diff(xy, axis=0).T) > 0)
    xy = xy[keep]
    if len(xy) < 2:
        raise InputError(f"{name or 'the line'}: needs at least two places that differ")
    elements: list[Element] = [straight(a, b) for a, b in pairwise(xy)]
    profile: tuple[Grade, ...] = ()
    z = np.asarray(xyz, float)[keep, 2] if with_profile and np.shape(xyz)[1] > 2 else np.full(1, np.nan)
    if np.isfinite(z).all():
        along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(xy, axis=0).T))])
        profile = tuple(Grade(float(s), float(level)) for s, level in zip(along, z, strict=True))
    return Alignment(name, 0.0, tuple(elements), profile)


def whole_stations(alignment: Alignment, interval: float) -> Floats:
    """Where multiples of an interval are written along an alignment, its ends included where they fall on one.

    Stations count on from the start; what is written follows station equations. Raises InputError, when the interval is
    not above zero or makes too many.
    """
    if not (np.isfinite(interval) and interval > 0):
        raise InputError(f"the interval must be above zero, not {interval:g}")
    if alignment.length / interval > MOST_STATIONS:
        count = alignment.length / interval + 1
        raise InputError(f"an interval of {interval:g} makes {count:.0f} sections; the most is {MOST_STATIONS}")
    end = alignment.end_station
    return np.unique(np.concatenate([_multiples(*run, interval, run[1] == end) for run in alignment.runs()]))


def _multiples(first: float, last: float, ahead: float, interval: float, closed: bool) -> Floats:
    """Stations counted on from the start at which a multiple of an interval is written, on a stretch between equations.

    Its end belongs to the next stretch, unless it is ``closed``.
    """
    loose = SAME * max(abs(first), abs(last), last - first)
    end = ahead + last - first + (loose if closed else -loose)
    low, high = np.ceil((ahead - loose) / interval), np.floor(end / interval)
    # Nought and not minus nought.
    found = np.arange(low, high + 1) * interval + 0.0
    return np.asarray(np.clip(found + (first - ahead), first, last))


def chosen_stations(
    alignment: Alignment, interval: float | None, typed: Floats, ends: bool = False, vertices: bool = False
) -> Floats:
    """All stations that are asked for, counted on from the start, in order and each once; ``typed`` ones are as written.

    Without an interval only what is typed counts. ``ends`` adds both ends, ``vertices`` every place where the curvature or
    direction changes. Raises InputError, naming a station that is not on the line.
    """
    first, last = float(alignment.marks[0]), alignment.end_station
    loose = SAME * max(abs(first), abs(last), alignment.length) + 1e-9
    parts = [np.empty(0)]
    for station in typed.tolist():
        places = alignment.counted(station, loose)
        if not places:
            end = alignment.shown(last)
            raise InputError(f"station {station:g} is not on the line, which runs from {first:g} to {end:g}")
        parts.append(np.clip(places, first, last))
    if interval is not None:
        parts.append(whole_stations(alignment, interval))
    if ends:
        parts.append(np.array([first, last]))
    if vertices:
        parts.append(alignment.marks)
    every = np.sort(np.concatenate(parts))
    return every[np.append(True, np.diff(every) > loose)] if len(every) else every


def parsed(text: str, unit: LengthUnit) -> Floats:
    """Stations typed as ``120, 0+140, 1+05.5``: full stations of 1000 m, or of 100 ft, before the plus sign.

    Raises InputError, naming what is no station.
    """
    found = []
    for word in re.split(r"[,;\s]+", text.strip()):
        if not word:
            continue
        match = re.fullmatch(r"(-?)(?:(\d+)\+)?(\d+(?:\.\d*)?|\.\d+)", word)
        if match is None:
            raise InputError(f"'{word[:40]}' is no station; write them as 120, 0+140")
        sign, full, rest = match.groups()
        value = float(full or 0) * full_station(unit) + float(rest)
        found.append(-value if sign else value)
    return np.array(found, float)


def full_station(unit: LengthUnit) -> float:
    """Length of a full station in a unit."""
    return FULL.get(unit.code, FULL_FEET)


def written(station: float, unit: LengthUnit) -> str:
    """A station as it is written on drawings: ``0+140.00``, ``12+50.00``."""
    full = full_station(unit)
    sign, value = ("-", -station) if station < -0.005 else ("", max(station, 0.0))
    before, rest = divmod(round(value, 2), full)
    return f"{sign}{before:.0f}+{rest:0{len(f'{full:.0f}') + 2}.2f}"


def direction_at(alignment: Alignment, stations: Floats) -> Floats:
    """Azimuths (n,) in radians of an alignment at stations; at a corner that between both of its sides."""
    starts, marks = alignment.starts, alignment.marks
    along = np.interp(stations, marks, starts)
    loose = SAME * max(alignment.length, 1.0)

    def side(shift: float) -> Floats:
        at = np.clip(along + shift, 0.0, starts[-1])
        which = np.clip(np.searchsorted(starts, at, side="right") - 1, 0, len(alignment.elements) - 1)
        out = np.empty(len(at))
        for number, element in enumerate(alignment.elements):
            mine = which == number
            out[mine] = element.direction(np.clip(along[mine] - starts[number], 0.0, element.length))
        return out

    before, after = side(-loose), side(loose)
    return np.asarray(np.arctan2(np.sin(before) + np.sin(after), np.cos(before) + np.cos(after)))
