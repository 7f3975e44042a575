"""A vehicle or gauge that moves along a line: what it has over and beside it at every place, its length in curves, on humps
and in sags included."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats
from kerb.core.clearance.clearance_kernels import envelope_meets
from kerb.core.clearance.road import Road
from kerb.core.errors import InputError
from kerb.core.geometry.alignment import Alignment
from kerb.core.parallel import each, ranges
from kerb.core.progress import Progress

MOST_STATIONS = 200_000
NOTHING = 1e29
# Rounds in which the chord between the axles comes to its length.
ROUNDS = 4


@dataclass(frozen=True)
class Vehicle:
    """An outline (n, 2) across and up, counted from the middle of the floor it stands on, of a body so long; its axles stand
    ``wheelbase`` apart, the body reaches as far beyond one as beyond the other."""

    outline: Floats
    length: float
    wheelbase: float

    @property
    def width(self) -> float:
        """Its full width."""
        return float(np.ptp(self.outline[:, 0]))

    @property
    def height(self) -> float:
        """Its height over the road."""
        return float(self.outline[:, 1].max())


@dataclass(frozen=True)
class Passage:
    """What a vehicle has at each station (k,): ``over``, the least height over its floor of what hangs within its width (inf:
    nothing); ``left`` and ``right``, the distance from its middle line of what stands beside it; ``remains``, the least
    distance of anything from its outline, negative where it is touched. ``places`` (k, 3) are its middle on the road, ``ways``
    (k, 2) its direction."""

    stations: Floats
    places: Floats
    ways: Floats
    over: Floats
    left: Floats
    right: Floats
    remains: Floats


def outline_of(words: str) -> Floats:
    """An outline of words: ``4.2x4.5``, width and height, or corners ``across,up across,up ...``. Raises InputError."""
    plain = words.lower().replace("×", "x").strip()
    try:
        if "x" in plain:
            width, height = (float(word) for word in plain.split("x"))
            if not (0 < width < 1e6 and 0 < height < 1e6):
                raise ValueError
            return np.array([[-width / 2, 0], [width / 2, 0], [width / 2, height], [-width / 2, height]])
        corners = np.array([[float(number) for number in pair.split(",")] for pair in plain.replace(";", " ").split()])
        if corners.ndim != 2 or corners.shape[1] != 2 or len(corners) < 3 or not np.isfinite(corners).all():
            raise ValueError
    except ValueError:
        raise InputError(
            f"'{words[:40]}' is no envelope; write WIDTHxHEIGHT, such as 4.2x4.5, or corners across,up separated by spaces"
        ) from None
    return corners


def passage(points: Floats, road: Road, line: Alignment, vehicle: Vehicle, step: float, progress: Progress) -> Passage:
    """Drive a vehicle along a line over a road, between points (n, 3) that are no part of it.

    Its axles follow the line; its floor is the plane through the road under both axles, leaning as the road does across. Raises
    InputError, when there are too many stations or the line lies beside the road; Cancelled.
    """
    length = line.length
    many = int(np.floor(length / step + 1e-9)) + 1
    if many > MOST_STATIONS:
        raise InputError(f"a step of {step:g} makes {many} stations; the most is {MOST_STATIONS}")
    along = np.asarray(np.arange(many) * step, np.float64)
    half = vehicle.wheelbase / 2
    # Axles stay on the line; a vehicle does not hang over its ends.
    along = (
        along[(along >= half - 1e-9) & (along <= length - half + 1e-9)] if length >= vehicle.wheelbase else np.empty(0)
    )
    if not len(along):
        raise InputError("the line is shorter than the vehicle's wheelbase")
    place = _placed_along(line)
    back, front = _axles(place, along, vehicle.wheelbase)
    middle = (back + front) / 2
    ways = front - back if half > 0 else _ways(line, along)
    ways = ways / np.maximum(np.hypot(*ways.T), 1e-12)[:, None]
    z_back, z_front, z_middle = road.at(back), road.at(front), road.at(middle)
    known = np.isfinite(z_back) & np.isfinite(z_front) & np.isfinite(z_middle)
    if not known.any():
        raise InputError("the path of the envelope does not lie on the road")
    right = np.column_stack([ways[:, 1], -ways[:, 0]])
    reach = vehicle.width / 2
    lean = (road.at(middle + reach * right) - road.at(middle - reach * right)) / (2 * reach)
    slope = (z_front - z_back) / vehicle.wheelbase if half > 0 else (road.rise(middle) * ways).sum(axis=1)
    floor = (z_back + z_front) / 2
    frames = np.column_stack([middle, ways, floor, slope, np.nan_to_num(lean)])[known]
    stations = along[known]
    near, order_at = _near(points, line, vehicle)
    first = np.searchsorted(order_at, stations - vehicle.length / 2 - reach)
    last = np.searchsorted(order_at, stations + vehicle.length / 2 + reach)
    out = np.empty((len(stations), 4))
    outline = np.ascontiguousarray(vehicle.outline)

    def some(span: tuple[int, int]) -> None:
        progress.check()
        part = slice(*span)
        spans = np.column_stack([first[part], last[part]])
        envelope_meets(near, spans, frames[part], vehicle.length / 2, outline, out[part])

    each(some, ranges(len(stations), 16))
    out[out >= NOTHING] = np.inf
    shown = np.asarray(np.interp(stations, line.starts, line.marks), np.float64)
    places = np.column_stack([frames[:, :2], frames[:, 4]])
    return Passage(shown, places, frames[:, 2:4], *out.T)


def _axles(place: Callable[[Floats], Floats], along: Floats, wheelbase: float) -> tuple[Floats, Floats]:
    """Places of both axles on the line: as far apart as the wheelbase, straight across a curve."""
    half = np.full(len(along), wheelbase / 2)
    for _ in range(ROUNDS if wheelbase > 0 else 0):
        apart = np.hypot(*(place(along + half) - place(along - half)).T)
        half *= np.clip(wheelbase / np.maximum(apart, 1e-9 * wheelbase), 0.9, 1.1)
    return place(along - half), place(along + half)


def _placed_along(line: Alignment) -> Callable[[Floats], Floats]:
    """A function from distances along a line to plan places (n, 2)."""
    return lambda s: line.plan_at(s)[0]


def _ways(line: Alignment, along: Floats) -> Floats:
    azimuth = line.plan_at(along)[1]
    return np.column_stack([np.sin(azimuth), np.cos(azimuth)])


def _near(points: Floats, line: Alignment, vehicle: Vehicle) -> tuple[Floats, Floats]:
    """Points within reach of the line, in order of their distance along it, and those distances."""
    vertices, _ = line.flattened(0.01 * vehicle.width)
    room = vehicle.width / 2 + vehicle.length / 4 + vehicle.width
    low, high = vertices.min(axis=0)[:2] - room, vertices.max(axis=0)[:2] + room
    inside = np.flatnonzero(np.all((points[:, :2] >= low) & (points[:, :2] <= high), axis=1))
    station, offset = _along_polyline(points[inside, :2], vertices[:, :2])
    keep = np.abs(offset) <= room
    order = np.argsort(station[keep], kind="stable")
    return np.ascontiguousarray(points[inside[keep]][order]), station[keep][order]


def _along_polyline(xy: Floats, vertices: Floats) -> tuple[Floats, Floats]:
    """Distance along a polyline of its place nearest to each of places (n, 2), and how far off that is; ends go on straight."""
    legs = np.diff(vertices, axis=0)
    long = np.hypot(*legs.T)
    keep = long > 0
    start, legs, long = vertices[:-1][keep], legs[keep], long[keep]
    before = np.concatenate([[0.0], np.cumsum(long)[:-1]])
    step = max(float(long.sum()) / 20_000, 1e-9)
    parts = np.maximum(np.ceil(long / step).astype(int), 1)
    which = np.repeat(np.arange(len(long)), parts)
    share = (np.arange(len(which)) - np.repeat(np.cumsum(parts) - parts, parts) + 0.5) / parts[which]
    _, nearest = scipy.spatial.cKDTree(start[which] + share[:, None] * legs[which]).query(xy, workers=-1)
    leg = which[nearest]
    away = xy - start[leg]
    unit = legs[leg] / long[leg, None]
    along = (away * unit).sum(axis=1)
    inner = np.clip(along, np.where(leg == 0, -np.inf, 0.0), np.where(leg == len(long) - 1, np.inf, long[leg]))
    return before[leg] + inner, np.hypot(*(away - inner[:, None] * unit).T)
