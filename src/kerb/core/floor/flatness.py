"""F-numbers of sample lines (ASTM E1155; formulas and rules recalled): FF of flatness and FL of levelness.

Elevations h are read every 12 inches along a line. Flatness goes by their second differences q, levelness by the differences z
over ten feet, in inches:

    FF = 4.57 / (3 s_q + |mean q|)        FL = 12.5 / (3 s_z + |mean z|)

Two samples of n1 and n2 readings combine as F = F1 F2 sqrt((n1 + n2) / (n2 F1² + n1 F2²)).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import scipy

from kerb.core.arrays import Floats
from kerb.core.errors import InputError

INCH = 0.0254
STEP = 12 * INCH
# Readings between which levelness is counted: ten feet.
LEVEL_STEPS = 10
# A line is at least eleven feet long, so that it has a difference over ten feet; and stays this far off edges and joints.
SHORTEST, OFF_THE_EDGE = 11 * 12 * INCH, 24 * INCH
# No floor of finite readings is told flatter than this.
HIGHEST = 1000.0
# Readings that stay together when the spread of an F-number is estimated: neighbours have readings in common.
BLOCK = 12


@dataclass(frozen=True)
class LineReadings:
    """Readings ``h`` (n,) in metres, 12 inches apart along a line, NaN where there is no floor; ``places`` (n, 2)."""

    name: str
    h: Floats
    places: Floats = field(default_factory=lambda: np.empty((0, 2)))

    @property
    def q(self) -> Floats:
        """Second differences in inches, those that are known."""
        h = self.h / INCH
        q = h[2:] - 2 * h[1:-1] + h[:-2]
        return np.asarray(q[np.isfinite(q)])

    @property
    def z(self) -> Floats:
        """Differences over ten feet in inches, those that are known."""
        h = self.h / INCH
        z = h[LEVEL_STEPS:] - h[:-LEVEL_STEPS]
        return np.asarray(z[np.isfinite(z)])


@dataclass(frozen=True)
class FNumber:
    """An F-number of ``n`` differences; ``low`` and ``high`` are its one-sided 95 % bounds, NaN where there are too few."""

    value: float
    n: int
    low: float = float("nan")
    high: float = float("nan")
    low90: float = float("nan")


def stations(start: Floats, end: Floats, unit_m: float) -> Floats:
    """Places (n, 2) every 12 inches from start to end (2,), in a unit of so many metres. Raises InputError for a short line."""
    step = np.asarray(end, float) - np.asarray(start, float)
    length = float(np.hypot(*step))
    if length * unit_m < SHORTEST - 1e-6:
        raise InputError(f"a sample line is at least 11 ft (3.353 m) long; this one is {length * unit_m:.3f} m")
    count = int(np.floor(length * unit_m / STEP + 1e-9)) + 1
    return np.asarray(start, float) + np.arange(count)[:, None] * (STEP / unit_m) * (step / length)


def f_of(differences: Floats, constant: float) -> float:
    """An F-number of differences (n,) in inches; NaN for fewer than two."""
    if len(differences) < 2:
        return float("nan")
    down = 3 * float(np.std(differences, ddof=1)) + abs(float(np.mean(differences)))
    return min(constant / down, HIGHEST) if down > 0 else HIGHEST


def flatness(lines: Sequence[LineReadings]) -> FNumber:
    """FF of all lines by the combining rule, with bounds."""
    return _combined([line.q for line in lines], 4.57)


def levelness(lines: Sequence[LineReadings]) -> FNumber:
    """FL of all lines by the combining rule, with bounds."""
    return _combined([line.z for line in lines], 12.5)


def combined(parts: Sequence[tuple[float, int]]) -> tuple[float, int]:
    """F-number and number of readings of several samples, each (F, n), by the rule of the standard, pair by pair."""
    known = [(f, n) for f, n in parts if np.isfinite(f) and n > 0]
    if not known:
        return float("nan"), 0
    (f, n), *rest = known
    for other, m in rest:
        f = f * other * float(np.sqrt((n + m) / (m * f**2 + n * other**2)))
        n += m
    return f, n


def _combined(samples: Sequence[Floats], constant: float) -> FNumber:
    value, n = combined([(f_of(sample, constant), len(sample)) for sample in samples])
    return FNumber(value, n, *_bounds(samples, constant, value))


def _bounds(samples: Sequence[Floats], constant: float, value: float) -> tuple[float, float, float]:
    """One-sided bounds, of 95 % below and above and of 90 % below: blocks of neighbouring differences left out one after the
    other (delete-one-block jackknife of the logarithm, Student's t), since neighbours share readings."""
    blocks = [(k, part) for k, sample in enumerate(samples) for part in np.array_split(np.arange(len(sample)),
              max(1, len(sample) // BLOCK)) if len(part)]  # fmt: skip
    if len(blocks) < 4 or not np.isfinite(value):
        return float("nan"), float("nan"), float("nan")
    whole = [(f_of(sample, constant), len(sample)) for sample in samples]
    logs = []
    for k, part in blocks:
        own = np.delete(samples[k], part)
        logs.append(np.log(combined([*whole[:k], (f_of(own, constant), len(own)), *whole[k + 1 :]])[0]))
    many = len(blocks)
    spread = float(np.sqrt((many - 1) / many * np.sum((np.array(logs) - np.mean(logs)) ** 2)))
    wide, narrow = (spread * float(scipy.stats.t.ppf(share, many - 1)) for share in (0.95, 0.90))
    return value * float(np.exp(-wide)), value * float(np.exp(wide)), value * float(np.exp(-narrow))


def without_noise(lines: Sequence[LineReadings], noise: float) -> float:
    """FF that the readings would have without their own noise (standard deviation ``noise`` in metres, alike and independent).

    A second difference has six times the variance of a reading: 1 + 4 + 1.
    """
    parts = []
    for line in lines:
        q = line.q
        if len(q) < 2:
            continue
        left = max(float(np.var(q, ddof=1)) - 6 * (noise / INCH) ** 2, 0.0)
        down = 3 * float(np.sqrt(left)) + abs(float(np.mean(q)))
        parts.append((min(4.57 / down, HIGHEST) if down > 0 else HIGHEST, len(q)))
    return combined(parts)[0]


def wanted_readings(area: float) -> int:
    """How many readings the standard asks of an area in square metres: 2 sqrt(A) from 320 to 1600 ft², A / 20 above."""
    feet = area / 0.3048**2
    return int(np.ceil(2 * np.sqrt(max(feet, 320.0)) if feet <= 1600 else feet / 20))


def laid_out(corners: Floats, unit_m: float, wanted: int) -> list[tuple[Floats, Floats]]:
    """Sample lines (start, end) inside the bounding box of a floor (its corners (n, 2)), two feet off its sides.

    Lines run in two directions square to one another at 45° to the sides of the box, so that none follows a joint that runs along
    them, as many as the wanted readings need.
    """
    low, high = np.min(corners, axis=0) + OFF_THE_EDGE / unit_m, np.max(corners, axis=0) - OFF_THE_EDGE / unit_m
    if np.any(high <= low):
        return []
    middle, reach = 0.5 * (low + high), float(np.hypot(*(high - low)))
    lines: list[tuple[Floats, Floats]] = []
    for number in range(1, 40):
        lines = []
        for way in (np.array([1.0, 1.0]) / np.sqrt(2), np.array([1.0, -1.0]) / np.sqrt(2)):
            across = np.array([-way[1], way[0]])
            for k in range(number):
                at = middle + across * reach * ((k + 0.5) / number - 0.5)
                piece = _clipped(at, way, low, high)
                if piece is not None and float(np.hypot(*(piece[1] - piece[0]))) * unit_m >= SHORTEST:
                    lines.append(piece)
        readings = sum(int(np.hypot(*(b - a)) * unit_m / STEP) - 1 for a, b in lines)
        if readings >= wanted and len(lines) > 1:
            break
    return lines


def _clipped(at: Floats, way: Floats, low: Floats, high: Floats) -> tuple[Floats, Floats] | None:
    """The part of a line through a place that lies in a box."""
    with np.errstate(divide="ignore"):
        ends = np.sort(np.stack([(low - at) / way, (high - at) / way]), axis=0)
    first, last = float(ends[0].max()), float(ends[1].min())
    return (at + first * way, at + last * way) if last > first else None
