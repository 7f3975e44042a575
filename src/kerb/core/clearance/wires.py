"""Wires over a road: things as thin as a wire found among points, a catenary fitted to each span, its lowest place and its
sag."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats, Ints
from kerb.core.clearance.pieces import pieces_of

# Cubes in which wires hang together (m); a wire is at least so long and at most so thick (m), with so many points.
CUBE_M, SHORTEST_M, THICKEST_M, FEWEST = 0.5, 4.0, 0.15, 12
SAMPLES = 400


@dataclass(frozen=True)
class Wire:
    """A catenary in a vertical plane: at distances s from ``start`` (2,) along ``way`` (2,), z = level + a (cosh((s − middle)
    / a) − 1); from ``span[0]`` to ``span[1]``. ``rms`` is how far its points lie off it in height, ``rows`` which they are."""

    start: Floats
    way: Floats
    a: float
    middle: float
    level: float
    span: tuple[float, float]
    rms: float
    rows: Ints

    def height(self, s: Floats) -> Floats:
        """Elevations at distances along it."""
        return np.asarray(self.level + self.a * (np.cosh((s - self.middle) / self.a) - 1.0))

    def places(self, count: int = SAMPLES) -> Floats:
        """Places (count, 3) along it."""
        s = np.linspace(*self.span, count)
        return np.column_stack([self.start + s[:, None] * self.way, self.height(s)])

    @property
    def length(self) -> float:
        """Length of the wire itself."""
        first, last = ((end - self.middle) / self.a for end in self.span)
        return float(self.a * (np.sinh(last) - np.sinh(first)))

    @property
    def sag(self) -> float:
        """The largest vertical distance of the wire below the straight between its ends."""
        s = np.linspace(*self.span, SAMPLES)
        z = self.height(s)
        chord = z[0] + (z[-1] - z[0]) * (s - s[0]) / (s[-1] - s[0])
        return float((chord - z).max())

    def lowest(self, road: Callable[[Floats], Floats]) -> tuple[Floats, float]:
        """Place (3,) at which it hangs least over a road, and how high; NaN where there is no road under it."""
        xyz = self.places(4 * SAMPLES)
        over = xyz[:, 2] - road(xyz[:, :2])
        if not np.isfinite(over).any():
            return xyz[int(np.argmin(xyz[:, 2]))], float("nan")
        k = int(np.nanargmin(over))
        return xyz[k], float(over[k])

    def longer(self, ratio: float) -> Wire:
        """The same wire between the same ends, its length times a ratio, as heat makes it: stretching under load left out.

        With h and v the distance between the ends across and up, √(L² − v²) = 2 a sinh(h / 2a).
        """
        h = self.span[1] - self.span[0]
        ends = self.height(np.array(self.span))
        v = float(ends[1] - ends[0])
        pull = np.sqrt(max((self.length * ratio) ** 2 - v**2, 0.0)) / h
        if pull <= 1 + 1e-12:
            return self
        x = scipy.optimize.brentq(lambda x: np.sinh(x) / x - pull, 1e-6, 20.0)
        a = h / (2 * x)
        # Where the ends differ the lowest place lies to the side of the lower one.
        middle = (self.span[0] + self.span[1]) / 2 - a * float(np.arcsinh(v / (2 * a * np.sinh(x))))
        level = float(ends[0] - a * (np.cosh((self.span[0] - middle) / a) - 1.0))
        return Wire(self.start, self.way, a, middle, level, self.span, self.rms, self.rows)


def wires_in(points: Floats, metre: float) -> list[Wire]:
    """Wires among points (n, 3): what hangs together, is long and thin and lies in one vertical plane; longest first."""
    if len(points) < FEWEST:
        return []
    found = []
    for rows in _together(points, CUBE_M * metre):
        if len(rows) >= FEWEST:
            wire = fitted(points, rows, metre)
            if wire is not None:
                found.append(wire)
    return sorted(found, key=lambda wire: wire.span[0] - wire.span[1])


def _together(points: Floats, cube: float) -> list[Ints]:
    own = pieces_of(points, cube)
    order = np.argsort(own, kind="stable")
    return np.split(order, np.flatnonzero(np.diff(own[order])) + 1)


def fitted(points: Floats, rows: Ints, metre: float) -> Wire | None:
    """The catenary through points, by least squares of heights; None where they are no wire."""
    xy, z = points[rows, :2], points[rows, 2]
    start = xy.mean(axis=0)
    _, vectors = np.linalg.eigh((xy - start).T @ (xy - start))
    way = vectors[:, 1]
    s = (xy - start) @ way
    across = (xy - start) @ vectors[:, 0]
    span = float(np.ptp(s))
    if span < SHORTEST_M * metre or np.percentile(np.abs(across), 95) > THICKEST_M * metre:
        return None
    # A parabola tells where to begin: near its lowest place a catenary has the curvature 1 / a.
    curve, slope, _ = np.polyfit(s, z, 2)
    a = 1.0 / (2 * max(curve, 1e-9))
    first = np.array([np.log(np.clip(a, 1e-3 * span, 1e6 * span)), np.clip(-slope * a, -1e3 * span, 1e3 * span)])
    first = np.append(first, float(np.median(z - _sagged(s, *first))))
    scale = max(0.02 * metre, 1e-9)

    def off_by(p: Floats) -> Floats:
        return np.asarray((p[2] + _sagged(s, p[0], p[1]) - z) / scale)

    solved = scipy.optimize.least_squares(off_by, first, loss="soft_l1", x_scale=[1.0, span, scale * 10])
    log_a, middle, level = (float(value) for value in solved.x)
    off = level + _sagged(s, log_a, middle) - z
    if not np.isfinite(off).all() or np.percentile(np.abs(off), 90) > THICKEST_M * metre:
        return None
    rms = float(np.sqrt(np.mean(off**2)))
    return Wire(start, way, float(np.exp(log_a)), middle, level, (float(s.min()), float(s.max())), rms, rows)


def _sagged(s: Floats, log_a: float, middle: float) -> Floats:
    a = np.exp(np.clip(log_a, -20.0, 40.0))
    # 2 a sinh²(u / 2) is a (cosh u − 1) without the loss of digits of flat wires.
    return np.asarray(2 * a * np.sinh(np.clip((s - middle) / (2 * a), -300, 300)) ** 2)
