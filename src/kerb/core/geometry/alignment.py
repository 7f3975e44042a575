"""Alignments: a horizontal line of straights, arcs and clothoids with stations, and a vertical profile over it.

Every horizontal element has curvature that changes linearly along it, so one description serves all three. A clothoid
is its own integral (x, y) = ∫ (sin, cos)(azimuth + k0 s + (k1 − k0) s² / 2L) ds, taken here by Gauss–Legendre
quadrature; arcs and straights in closed form. Vertical curves are parabolas: z = z0 + g0 s + (g1 − g0) s² / 2L
(any surveying handbook).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import InputError

NODES, WEIGHTS = np.polynomial.legendre.leggauss(12)
STRAIGHT = 1e-12
LARGEST_TURN = 0.5


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

    def steps(self, tolerance: float) -> Floats:
        """Distances at which chords stay within ``tolerance`` of the element, its ends among them."""
        sharpest = max(abs(self.k0), abs(self.k1))
        if sharpest < STRAIGHT:
            return np.array([0.0, self.length])
        chord = np.sqrt(8 * tolerance / sharpest)
        return np.linspace(0.0, self.length, max(2, int(np.ceil(self.length / chord)) + 1))


@dataclass(frozen=True)
class Grade:
    """A point of vertical intersection: station, elevation, and the length of the parabola over it (0: a kink)."""

    station: float
    elevation: float
    curve: float = 0.0


@dataclass(frozen=True)
class Alignment:
    """A named alignment from ``start_station``; ``profile`` may be empty."""

    name: str
    start_station: float
    elements: tuple[Element, ...]
    profile: tuple[Grade, ...] = ()

    @property
    def length(self) -> float:
        """Length in plan."""
        return float(sum(element.length for element in self.elements))

    @property
    def end_station(self) -> float:
        """Station of its end."""
        return self.start_station + self.length

    def at(self, stations: Floats) -> Floats:
        """Places (n, 3) at stations (n,); NaN beyond the ends, and NaN elevations without a profile.

        Raises InputError when there is no element.
        """
        if not self.elements:
            raise InputError(f"alignment '{self.name}' has no element")
        along = np.asarray(stations, float) - self.start_station
        starts = np.concatenate([[0.0], np.cumsum([element.length for element in self.elements])])
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
            start = x[number] - length / 2
            on = inside & (stations > start) & (stations < x[number] + length / 2)
            if length > 0 and on.any():
                g0, g1 = slope[number - 1], slope[number]
                s = stations[on] - start
                out[on] = z[number] - g0 * length / 2 + g0 * s + (g1 - g0) * s * s / (2 * length)
        return out

    def flattened(self, tolerance: float) -> tuple[Floats, Floats]:
        """Vertices (n, 3) whose chords stay within ``tolerance`` in plan and in profile, and their stations (n,)."""
        stations, at = [], self.start_station
        for element in self.elements:
            stations.append(at + element.steps(tolerance))
            at += element.length
        for number, grade in enumerate(self.profile):
            stations.append(np.array([grade.station]))
            if grade.curve > 0 and 0 < number < len(self.profile) - 1:
                before, after = self.profile[number - 1], self.profile[number + 1]
                g0 = (grade.elevation - before.elevation) / (grade.station - before.station)
                g1 = (after.elevation - grade.elevation) / (after.station - grade.station)
                bend = max(abs(g1 - g0) / grade.curve, 1e-12)
                parts = max(2, int(np.ceil(grade.curve / np.sqrt(8 * tolerance / bend))) + 1)
                stations.append(grade.station + np.linspace(-0.5, 0.5, parts) * grade.curve)
        every: Floats = np.unique(np.round(np.concatenate(stations), 9)).astype(np.float64)
        every = every[(every >= self.start_station) & (every <= self.end_station + 1e-9)]
        return self.at(every), every

    def scaled(self, plan: float, height: float) -> Alignment:
        """The same alignment in another unit; stations are lengths in plan."""
        return replace(
            self,
            start_station=self.start_station * plan,
            elements=tuple(element.scaled(plan) for element in self.elements),
            profile=tuple(Grade(g.station * plan, g.elevation * height, g.curve * plan) for g in self.profile),
        )


def straight(start: Floats, end: Floats) -> Element:
    """A straight from place to place, (2,) each."""
    step = np.asarray(end, float)[:2] - np.asarray(start, float)[:2]
    return Element((float(start[0]), float(start[1])), float(np.arctan2(step[0], step[1])), float(np.hypot(*step)))


def arc(start: Floats, centre: Floats, end: Floats, right: bool) -> Element:
    """An arc about ``centre`` from ``start`` to ``end``, turning right or left. Raises InputError without a radius."""
    first, last = (np.asarray(place, float)[:2] - np.asarray(centre, float)[:2] for place in (start, end))
    radius = float(np.hypot(*first))
    if not radius > 0:
        raise InputError("an arc starts at its own centre")
    bearings = [float(np.arctan2(step[0], step[1])) for step in (first, last)]
    sweep = (bearings[1] - bearings[0]) % (2 * np.pi) if right else (bearings[0] - bearings[1]) % (2 * np.pi)
    curvature = (1 if right else -1) / radius
    azimuth = bearings[0] + (np.pi / 2 if right else -np.pi / 2)
    return Element((float(start[0]), float(start[1])), azimuth, radius * sweep, curvature, curvature)
