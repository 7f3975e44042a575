"""The drainage adit under the headland: a curve with a climb, a horseshoe with known over- and underbreak, a ventilation duct, a
gap behind a machine, and a second scan with shotcrete and a place that moved in."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.geometry.alignment import Alignment, Grade, arc, straight
from kerb.core.geometry.features import Line, LineSet
from kerb.core.reference import from_text
from kerb.core.tunnel.profile import DesignLine, of_words
from kerb.core.tunnel.wall import Axis
from kerb.demo import yard
from kerb.demo.flights import write_flight
from kerb.formats.landxml_write import LandXmlContent, write_landxml

SEED, ROCK, LINED, AXIS = 20260704, "adit-rock.laz", "adit-lined.laz", "adit-alignment.xml"
PROFILE, LENGTH, COUNT, NOISE = "horseshoe:4x4", 60.0, 260_000, 0.004
# Local start of the straight, then a curve to the left: its radius; elevations at the start, where the grade changes, at the end.
START, STRAIGHT, RADIUS = (170.0, -40.0), 25.0, 60.0
LEVELS = (3.5, 3.75, 4.45)
# Taken beyond the line on average, and waves of it; a patch of rock inside: station, length along the line, radius, depth.
BEYOND, WAVE, INSIDE = 0.12, 0.05, (38.0, 9.0, 1.1, 0.26)
LINING, THIN, MOVED = 0.09, (20.0, 24.0), (48.0, 0.03)
DUCT, MACHINE = (0.9, 3.2, 0.18), (30.0, 32.0)


def alignment() -> Alignment:
    """The axis in job coordinates, stations from 100."""
    a = yard.ORIGIN + np.array(START)
    b = a + [STRAIGHT, 0.0]
    turn = (LENGTH - STRAIGHT) / RADIUS
    centre = b + [0.0, RADIUS]
    end = centre + RADIUS * np.array([np.sin(turn), -np.cos(turn)])
    grades = tuple(
        Grade(100.0 + s, z, c) for s, z, c in zip((0.0, STRAIGHT, LENGTH), LEVELS, (0.0, 20.0, 0.0), strict=True)
    )
    return Alignment("Adit", 100.0, (straight(a, b), arc(b, centre, end, False)), grades)


def design() -> DesignLine:
    """Its design line."""
    return of_words(PROFILE)


def beyond(along: Floats, length: Floats) -> Floats:
    """How far (n,) the rock stands beyond the line at distances along and lengths round."""
    rough = BEYOND + WAVE * np.sin(2 * np.pi * along / 7) * np.cos(2 * np.pi * length / 3.5)
    station, round_, radius, deep = INSIDE
    away = np.hypot(along - station, length - round_) / radius
    return np.asarray(rough - (deep + BEYOND) * np.clip(1 - away**2, 0, None))


def scan(lined: bool) -> Floats:
    """Points (n, 3) in job coordinates: rock, or the lining on it."""
    rng = np.random.default_rng(SEED + lined)
    line, axis = design(), Axis.of(alignment(), 1.0)
    along, length = rng.uniform(0, LENGTH, COUNT), rng.uniform(0, line.length, COUNT)
    off = beyond(along, length)
    if lined:
        thin = (along > THIN[0]) & (along < THIN[1])
        off = off - np.where(thin, 0.5 * LINING, LINING) - MOVED[1] * np.exp(-(((along - MOVED[0]) / 2) ** 2))
    place = line.where(length)
    out = place - line.centre
    out /= np.hypot(*out.T)[:, None]
    across = place + (off + rng.normal(0, NOISE, COUNT))[:, None] * out
    x, y, radius = DUCT
    # Behind the machine nothing was seen of the lower right; the duct hides what is behind it.
    behind = (along > MACHINE[0]) & (along < MACHINE[1]) & (across[:, 1] < 1.2) & (across[:, 0] > 0)
    ray, duct = np.arctan2(*(across - [0.0, 1.6]).T[::-1]), np.arctan2(y - 1.6, x)
    hidden = np.abs(ray - duct) < radius / np.hypot(x, y - 1.6)
    points = axis.world(along[~behind & ~hidden], across[~behind & ~hidden])
    s, turn = rng.uniform(0, LENGTH, 18_000), rng.uniform(0, 2 * np.pi, 18_000)
    tube = axis.world(s, np.column_stack([x + radius * np.cos(turn), y + radius * np.sin(turn)]))
    return np.concatenate([points, tube])


def write(folder: Path) -> None:
    """Write both scans and the alignment."""
    write_flight(folder / ROCK, scan(False), step=0.0005)
    write_flight(folder / LINED, scan(True), step=0.0005)
    axis = alignment()
    line = Line(axis.flattened(0.01)[0], False, axis.name, "alignments")
    write_landxml(folder / AXIS, LandXmlContent(None, LineSet((line,), (axis,)), {}), from_text(yard.CRS))
