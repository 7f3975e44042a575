"""Levels under the wheels of a truck along a path: differences across its axles and between them.

Trucks in narrow aisles follow one line, so the floor is read where their wheels go. Both axles follow the path, as on rails.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import InputError

MOST_READINGS = 200_000


@dataclass(frozen=True)
class Truck:
    """Distance between the front wheels, between the rear wheels (0 for a single one), and between the axles."""

    front: float
    rear: float
    base: float


@dataclass(frozen=True)
class Ride:
    """Readings along a path, NaN where a wheel is off the floor: ``stations`` (n,) of the front axle, ``wheels`` (n, 4) levels
    of front left, front right, rear left and rear right."""

    stations: Floats
    wheels: Floats

    @property
    def across_front(self) -> Floats:
        """Left front wheel less right front wheel."""
        return np.asarray(self.wheels[:, 0] - self.wheels[:, 1])

    @property
    def across_rear(self) -> Floats:
        """Left rear wheel less right rear wheel."""
        return np.asarray(self.wheels[:, 2] - self.wheels[:, 3])

    @property
    def along(self) -> Floats:
        """Mean of the front wheels less mean of the rear wheels."""
        return np.asarray(self.wheels[:, :2].mean(axis=1) - self.wheels[:, 2:].mean(axis=1))


def wheel_places(path: Floats, truck: Truck, step: float) -> tuple[Floats, Floats]:
    """Stations (n,) of the front axle and places (n, 4, 2) of the wheels, ``step`` apart along a path (m, 2).

    The rear axle starts where the path starts. Raises InputError for a path that is shorter than the truck, or too long.
    """
    path = np.asarray(path, float)
    path = path[np.r_[True, np.any(np.diff(path, axis=0) != 0, axis=1)]]
    legs = np.hypot(*np.diff(path, axis=0).T) if len(path) > 1 else np.empty(0)
    reached = np.r_[0.0, np.cumsum(legs)]
    if reached[-1] < truck.base:
        raise InputError(
            f"the path is {reached[-1]:.3g} long, shorter than the truck ({truck.base:g} between its axles)"
        )
    count = int((reached[-1] - truck.base) / step + 1e-9) + 1
    if count > MOST_READINGS:
        raise InputError(f"{count} readings {step:g} apart are too many; {MOST_READINGS} are possible")
    stations = np.asarray(truck.base + step * np.arange(count), np.float64)
    ways = np.diff(path, axis=0) / legs[:, None]

    def axle(at: Floats, track: float) -> Floats:
        leg = np.clip(np.searchsorted(reached, at, side="right") - 1, 0, len(legs) - 1)
        middle = path[leg] + (at - reached[leg])[:, None] * ways[leg]
        left = np.column_stack([-ways[leg, 1], ways[leg, 0]]) * track / 2
        return np.stack([middle + left, middle - left], axis=1)

    places = np.concatenate(
        [axle(stations, truck.front), axle(np.asarray(stations - truck.base, np.float64), truck.rear)], axis=1
    )
    return stations, np.asarray(places, np.float64)
