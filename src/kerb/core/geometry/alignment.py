"""Alignments: a horizontal line of straights, arcs and clothoids with stations, and a vertical profile over it.

Every horizontal element has curvature that changes linearly along it, so one description serves all three. A clothoid
is its own integral (x, y) = ∫ (sin, cos)(azimuth + k0 s + (k1 − k0) s² / 2L) ds, taken here by Gauss–Legendre
quadrature; arcs and straights in closed form. Vertical curves are parabolas: z = z0 + g0 s + (g1 − g0) s² / 2L
(any surveying handbook).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import scipy

from kerb.core.arrays import TINY, Floats
from kerb.core.errors import InputError

NODES, WEIGHTS = np.polynomial.legendre.leggauss(12)
STRAIGHT = 1e-12
LARGEST_TURN = 0.5
NEWTON_STEPS, LEAST_SLOPE, LARGEST_STEP = 12, 0.05, 0.1
CHECKED, MAPPED_TO, MOST_HALVINGS = 9, 2e-4, 8
SAME_STATION = 2e-9
# Chords of one vertical curve at most.
MOST_PARTS = 20_000
Mapper = Callable[[Floats], Floats]


@dataclass(frozen=True)
class Element:
    """A piece of a horizontal alignment.

    ``start`` is (easting, northing); ``azimuth`` in radians, clockwise from north; ``length`` along it; curvatures
    ``k0`` and ``k1`` at its ends in 1 / length unit, positive turning right.
    """

    start: tuple[float, float]
    azimuth: float
    length: float
    k0: float = 0.0
    k1: float = 0.0

    def direction(self, s: Floats) -> Floats:
        """Azimuth in radians at distances ``s`` (n,) along the element."""
        rate = (self.k1 - self.k0) / self.length if self.length else 0.0
        return np.asarray(self.azimuth + self.k0 * s + 0.5 * rate * s * s)

    def at(self, s: Floats) -> Floats:
        """Plan places (n, 2) at distances ``s`` (n,) along the element."""
        s = np.asarray(s, float)
        if abs(self.k0 - self.k1) > STRAIGHT:
            return self._integrated(s)
        a0 = self.azimuth
        if abs(self.k0) < STRAIGHT:
            step = np.column_stack([np.sin(a0) * s, np.cos(a0) * s])
        else:
            # The chord of an arc: finite however flat the curve, unlike radius times a difference of cosines.
            half = 0.5 * self.k0 * s
            chord = s * np.sinc(half / np.pi)
            step = np.column_stack([np.sin(a0 + half) * chord, np.cos(a0 + half) * chord])
        return np.asarray(self.start) + step

    def _integrated(self, s: Floats) -> Floats:
        turn = max(abs(self.k0), abs(self.k1)) * self.length
        pieces = max(1, int(np.ceil(turn / LARGEST_TURN)))
        share = (np.arange(pieces)[:, None] + (NODES + 1) / 2) / pieces
        at = s[:, None] * share.ravel()[None, :]
        weight = np.tile(WEIGHTS / (2 * pieces), pieces)
        angle = self.direction(at)
        step = np.column_stack([(np.sin(angle) * weight).sum(axis=1), (np.cos(angle) * weight).sum(axis=1)])
        return np.asarray(self.start) + step * s[:, None]

    @property
    def end(self) -> Floats:
        """Plan place (2,) of its end."""
        return np.asarray(self.at(np.array([self.length]))[0])

    def scaled(self, factor: float) -> Element:
        """The same element in another unit."""
        start = (self.start[0] * factor, self.start[1] * factor)
        return Element(start, self.azimuth, self.length * factor, self.k0 / factor, self.k1 / factor)

    def halves(self) -> tuple[Element, Element]:
        """The same element as two of half its length; curvature is linear, so both are exact."""
        half = 0.5 * self.length
        middle, k = self.at(np.array([half]))[0], 0.5 * (self.k0 + self.k1)
        turn = float(self.direction(np.array([half]))[0])
        return (Element(self.start, self.azimuth, half, self.k0, k),
                Element((float(middle[0]), float(middle[1])), turn, half, k, self.k1))  # fmt: skip

    def mapped(self, mapper: Mapper, level: float) -> tuple[Element, float]:
        """The element nearest to its image under a map of (n, 3) places, and how far that is off in plan, at most.

        A map of one reference system to another turns and scales a short piece by the same amounts all along: the
        element keeps its form, and the ends of its image say how it is placed.
        """
        share = np.linspace(0.0, 1.0, CHECKED)
        own = self.at(share * self.length)
        image = mapper(np.column_stack([own, np.full(CHECKED, level)]))[:, :2]
        chord, seen = own[-1] - own[0], image[-1] - image[0]
        scale = float(np.hypot(*seen) / np.hypot(*chord))
        turn = float(np.arctan2(seen[0], seen[1]) - np.arctan2(chord[0], chord[1]))
        start = (float(image[0, 0]), float(image[0, 1]))
        made = Element(start, self.azimuth + turn, self.length * scale, self.k0 / scale, self.k1 / scale)
        return made, float(np.hypot(*(made.at(share * made.length) - image).T).max())

    def steps(self, tolerance: float) -> Floats:
        """Distances at which chords stay within ``tolerance`` of the element, its ends among them."""
        sharpest = max(abs(self.k0), abs(self.k1))
        if sharpest < STRAIGHT:
            return np.array([0.0, self.length])
        chord = np.sqrt(8 * tolerance / sharpest)
        return np.linspace(0.0, self.length, max(2, int(np.ceil(self.length / chord)) + 1))


# Ends of an arc that are closer than this many radians may be meant to be one place.
MEETING = 1e-4


@dataclass(frozen=True)
class Grade:
    """A point of vertical intersection: station, elevation, and the length of the parabola over it (0: a kink).

    ``before`` is how much of that length lies before the station where it is not half: an unsymmetrical curve, two
    parabolas that meet at the station (any handbook of road design).
    """

    station: float
    elevation: float
    curve: float = 0.0
    before: float | None = None

    @property
    def lengths(self) -> tuple[float, float]:
        """Length of the curve before and behind the station."""
        first = self.curve / 2 if self.before is None else self.before
        return first, self.curve - first


@dataclass(frozen=True)
class Alignment:
    """A named alignment from ``start_station``; ``profile`` may be empty.

    ``stations`` are those of the ends of its elements where they are not their lengths added up: after a map, which
    stretches lengths by some parts in a million, the stations stay those of the design. ``equations`` are, in order, a
    station that counts on from the start and what is written there from it on (the ahead side of a station equation).
    """

    name: str
    start_station: float
    elements: tuple[Element, ...]
    profile: tuple[Grade, ...] = ()
    stations: tuple[float, ...] = ()
    equations: tuple[tuple[float, float], ...] = ()

    def shown(self, station: float) -> float:
        """A station that counts on from the start as it is written, where station equations change the count."""
        before = [(at, ahead) for at, ahead in self.equations if at <= station]
        return station if not before else before[-1][1] + station - before[-1][0]

    def counted(self, shown: float, loose: float = 1e-9) -> list[float]:
        """The reverse of :meth:`shown`: where it is written so, counted on from the start. None in a gap, two in an overlap."""
        found: list[float] = []
        for first, last, ahead in self.runs():
            station = first + shown - ahead
            # The end of a stretch belongs to the next one, unless it is the last.
            end = last + loose if last == self.end_station else last - loose
            if first - loose <= station <= end:
                found.append(station)
        return found

    def runs(self) -> list[tuple[float, float, float]]:
        """The stretches between equations: first and last station counted on from the start, and what is written at the first."""
        starts = [(float(self.marks[0]), float(self.marks[0])), *self.equations]
        ends = [*(at for at, _ in self.equations), self.end_station]
        return [(first, last, ahead) for (first, ahead), last in zip(starts, ends, strict=True)]

    @property
    def length(self) -> float:
        """Length in plan."""
        return float(sum(element.length for element in self.elements))

    @property
    def end_station(self) -> float:
        """Station of its end."""
        return float(self.marks[-1])

    @property
    def starts(self) -> Floats:
        """Distance along of the start of each element, and of the end of the last, (n + 1,)."""
        return np.concatenate([[0.0], np.cumsum([element.length for element in self.elements])])

    @property
    def marks(self) -> Floats:
        """Station of the start of each element, and of the end of the last, (n + 1,)."""
        return np.array(self.stations, float) if self.stations else self.start_station + self.starts

    def at(self, stations: Floats) -> Floats:
        """Places (n, 3) at stations (n,); NaN beyond the ends, and NaN elevations without a profile.

        Raises InputError when there is no element.
        """
        if not self.elements:
            raise InputError(f"alignment '{self.name}' has no element")
        starts = self.starts
        along = self._along(np.asarray(stations, float))
        out = np.full((len(along), 3), np.nan)
        which = np.clip(np.searchsorted(starts, along, side="right") - 1, 0, len(self.elements) - 1)
        for number, element in enumerate(self.elements):
            mine = (which == number) & (along >= -1e-9) & (along <= starts[-1] + 1e-9)
            if mine.any():
                out[mine, :2] = element.at(along[mine] - starts[number])
        out[:, 2] = self.elevation(np.asarray(stations, float))
        return out

    def elevation(self, stations: Floats) -> Floats:
        """Profile elevations (n,) at stations; NaN outside the profile."""
        out = np.full(len(stations), np.nan)
        if len(self.profile) < 2:
            return out
        x = np.array([grade.station for grade in self.profile])
        z = np.array([grade.elevation for grade in self.profile])
        inside = (stations >= x[0] - 1e-9) & (stations <= x[-1] + 1e-9)
        out[inside] = np.interp(stations[inside], x, z)
        slope = np.diff(z) / np.diff(x)
        for number in range(1, len(x) - 1):
            length = self.profile[number].curve
            first, last = self.profile[number].lengths
            start = x[number] - first
            on = inside & (stations > start) & (stations < x[number] + last)
            if length > 0 and on.any():
                g0, g1 = slope[number - 1], slope[number]
                s = stations[on] - start
                if first == last:
                    out[on] = z[number] - g0 * length / 2 + g0 * s + (g1 - g0) * s * s / (2 * length)
                    continue
                # How far the curve stands off the station's point, shared by both of its parabolas.
                off, rest = (g1 - g0) * first * last / (2 * length), length - s
                ahead = z[number] - g0 * (first - s) + off * (s / max(first, TINY)) ** 2
                behind = z[number] + g1 * (last - rest) + off * (rest / max(last, TINY)) ** 2
                out[on] = np.where(s < first, ahead, behind)
        return out

    def _along(self, stations: Floats) -> Floats:
        """Distances along (n,) of stations (n,); beyond the ends they go on as they are."""
        if not self.stations:
            return stations - self.start_station
        marks, starts = self.marks, self.starts
        inside = np.interp(stations, marks, starts)
        return inside + np.minimum(stations - marks[0], 0.0) + np.maximum(stations - marks[-1], 0.0)

    def locate(self, xy: Floats) -> tuple[Floats, Floats]:
        """Stations (n,) and offsets (n,) of plan places (n, 2), offsets positive to the right; the reverse of :meth:`at`.

        The foot is the nearest place of the alignment at which the line to it stands square; NaN where there is none,
        which is beyond the ends. At a kink the foot is the corner. Found by Newton's method on
        (p - c(s)) · t(s) = 0 with the derivative k(s) o - 1 (Frenet), from the nearest of close samples.
        Raises InputError when there is no element.
        """
        if not self.elements:
            raise InputError(f"alignment '{self.name}' has no element")
        xy = np.asarray(xy, float)[:, :2]
        samples = self._samples()
        _, nearest = scipy.spatial.cKDTree(self._plan(samples)[0] - xy[0] if len(xy) else self._plan(samples)[0]).query(
            xy - xy[0] if len(xy) else xy
        )
        total, s = self.starts[-1], samples[nearest]
        for _ in range(NEWTON_STEPS):
            place, azimuth, bend = self._plan(s)
            away = xy - place
            ahead = away[:, 0] * np.sin(azimuth) + away[:, 1] * np.cos(azimuth)
            aside = away[:, 0] * np.cos(azimuth) - away[:, 1] * np.sin(azimuth)
            slope = np.maximum(1.0 - bend * aside, LEAST_SLOPE)
            s = np.clip(s + np.clip(ahead / slope, -LARGEST_STEP * total, LARGEST_STEP * total), 0.0, total)
        place, azimuth, _ = self._plan(s)
        away = xy - place
        ahead = away[:, 0] * np.sin(azimuth) + away[:, 1] * np.cos(azimuth)
        aside = away[:, 0] * np.cos(azimuth) - away[:, 1] * np.sin(azimuth)
        offset = np.where(aside < 0, -1.0, 1.0) * np.hypot(*away.T)
        stations = np.interp(s, self.starts, self.marks)
        loose = 1e-6 * max(1.0, total * 1e-3)
        beyond = ((s <= 0.0) & (ahead < -loose)) | ((s >= total) & (ahead > loose))
        stations[beyond] = offset[beyond] = np.nan
        return stations, offset

    def _samples(self) -> Floats:
        """Distances along, so close together that the nearest one lies on the way to the foot."""
        found = []
        for start, element in zip(self.starts, self.elements, strict=False):
            sharpest = max(abs(element.k0), abs(element.k1), 1.0 / max(element.length, 1e-9))
            parts = int(np.clip(np.ceil(element.length * sharpest * 12), 8, 4000))
            found.append(start + np.linspace(0.0, element.length, parts + 1))
        return np.unique(np.concatenate(found))

    def plan_at(self, along: Floats) -> tuple[Floats, Floats]:
        """Places (n, 2) and azimuths (n,) in radians at distances along (n,), those beyond an end at the end."""
        place, azimuth, _ = self._plan(np.clip(along, 0.0, self.starts[-1]))
        return place, azimuth

    def _plan(self, along: Floats) -> tuple[Floats, Floats, Floats]:
        """Places (n, 2), azimuths (n,) and curvatures (n,) at distances along (n,) within its length."""
        starts = self.starts
        which = np.clip(np.searchsorted(starts, along, side="right") - 1, 0, len(self.elements) - 1)
        place, azimuth, bend = np.empty((len(along), 2)), np.empty(len(along)), np.empty(len(along))
        for number in np.unique(which).tolist():
            mine, element = which == number, self.elements[number]
            s = along[mine] - starts[number]
            place[mine], azimuth[mine] = element.at(s), element.direction(s)
            bend[mine] = element.k0 + (element.k1 - element.k0) * (s / element.length if element.length else 0.0)
        return place, azimuth, bend

    def mapped(self, mapper: Mapper) -> Alignment:
        """The same alignment under a map of (n, 3) places, with the stations of the design.

        Elements are cut in halves until each is as near to its image as ``MAPPED_TO`` (in the unit of the map's result).
        Raises whatever the map raises.
        """
        level = float(np.mean([grade.elevation for grade in self.profile])) if self.profile else 0.0
        made: list[Element] = []
        marks = [float(self.marks[0])]
        waiting = [(e, float(a), float(b), 0) for e, a, b in
                   zip(self.elements, self.marks[:-1], self.marks[1:], strict=True)][::-1]  # fmt: skip
        while waiting:
            element, first, last, depth = waiting.pop()
            seen, off = element.mapped(mapper, level)
            if off > MAPPED_TO and depth < MOST_HALVINGS:
                front, back = element.halves()
                middle = 0.5 * (first + last)
                waiting += [(back, middle, last, depth + 1), (front, first, middle, depth + 1)]
                continue
            made.append(seen)
            marks.append(last)
        profile = self.profile
        if profile:
            known = np.array([grade.station for grade in profile])
            on = self.at(np.clip(known, marks[0], marks[-1]))[:, :2]
            z = mapper(np.column_stack([on, [grade.elevation for grade in profile]]))[:, 2]
            profile = tuple(replace(g, elevation=float(v)) for g, v in zip(profile, z, strict=True))
        return replace(self, elements=tuple(made), profile=profile, stations=tuple(marks))

    def flattened(self, tolerance: float) -> tuple[Floats, Floats]:
        """Vertices (n, 3) whose chords stay within ``tolerance`` in plan and in profile, and their stations (n,)."""
        stations: list[Floats] = []
        for number, element in enumerate(self.elements):
            stations.append(np.interp(self.starts[number] + element.steps(tolerance), self.starts, self.marks))
        for number, grade in enumerate(self.profile):
            stations.append(np.array([grade.station]))
            if grade.curve > 0 and 0 < number < len(self.profile) - 1:
                before, after = self.profile[number - 1], self.profile[number + 1]
                g0 = (grade.elevation - before.elevation) / (grade.station - before.station)
                g1 = (after.elevation - grade.elevation) / (after.station - grade.station)
                bend = max(abs(g1 - g0) / grade.curve, 1e-12)
                parts = int(np.clip(np.ceil(grade.curve / np.sqrt(8 * tolerance / bend)) + 1, 2, MOST_PARTS))
                first, _ = grade.lengths
                stations.append(grade.station - first + np.linspace(0.0, 1.0, 2 * parts - 1) * grade.curve)
        first, last = float(self.marks[0]), self.end_station
        every: Floats = np.unique(np.round(np.concatenate(stations), 9)).astype(np.float64)
        # Rounding may put an end beside itself: the ends are those of the alignment, whatever their decimals.
        every = every[(every > first + SAME_STATION) & (every < last - SAME_STATION)]
        every = np.concatenate([[first], every, [last]])
        return self.at(every), every

    def scaled(self, plan: float, height: float) -> Alignment:
        """The same alignment in another unit; stations are lengths in plan."""
        elements = tuple(element.scaled(plan) for element in self.elements)
        return replace(self.counted_by(plan, height), elements=elements)

    def counted_by(self, plan: float, height: float = 1.0) -> Alignment:
        """The same place with its stations, and what they count, in another unit."""
        return replace(
            self,
            start_station=self.start_station * plan,
            stations=tuple(station * plan for station in self.stations),
            equations=tuple((at * plan, ahead * plan) for at, ahead in self.equations),
            profile=tuple(
                Grade(
                    g.station * plan,
                    g.elevation * height,
                    g.curve * plan,
                    None if g.before is None else g.before * plan,
                )
                for g in self.profile
            ),
        )


def straight(start: Floats, end: Floats) -> Element:
    """A straight from place to place, (2,) each."""
    step = np.asarray(end, float)[:2] - np.asarray(start, float)[:2]
    return Element((float(start[0]), float(start[1])), float(np.arctan2(step[0], step[1])), float(np.hypot(*step)))


def arc(start: Floats, centre: Floats, end: Floats, right: bool, length: float | None = None) -> Element:
    """An arc about ``centre`` from ``start`` to ``end``, turning right or left. Raises InputError without a radius.

    Where both ends nearly meet, ``length`` tells whether nearly nothing or nearly a circle lies between; without it the
    former is meant.
    """
    first, last = (np.asarray(place, float)[:2] - np.asarray(centre, float)[:2] for place in (start, end))
    radius = float(np.hypot(*first))
    if not radius > 0:
        raise InputError("an arc starts at its own centre")
    bearings = [float(np.arctan2(step[0], step[1])) for step in (first, last)]
    sweep = (bearings[1] - bearings[0]) % (2 * np.pi) if right else (bearings[0] - bearings[1]) % (2 * np.pi)
    if 2 * np.pi - sweep < MEETING and not (length is not None and length > np.pi * radius):
        sweep -= 2 * np.pi
    if sweep < MEETING and length is not None and length > np.pi * radius:
        sweep += 2 * np.pi
    sweep = max(sweep, 0.0)
    curvature = (1 if right else -1) / radius
    azimuth = bearings[0] + (np.pi / 2 if right else -np.pi / 2)
    return Element((float(start[0]), float(start[1])), azimuth, radius * sweep, curvature, curvature)


def exact_in_arcs(alignment: Alignment) -> bool:
    """Whether it is made of straights and arcs less than a full circle alone, in plan only."""
    plain = all(abs(e.k0 - e.k1) <= STRAIGHT and abs(e.k0) * e.length < 2 * np.pi for e in alignment.elements)
    return bool(alignment.elements) and not alignment.profile and plain
