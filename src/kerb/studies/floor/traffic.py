"""What a floor says of trucks that follow a path: readings under their wheels, a table of them and profiles."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.floor.slab import Slab
from kerb.core.floor.traffic import Ride, Truck, wheel_places
from kerb.core.progress import Progress
from kerb.core.units import LengthUnit
from kerb.studies.floor.found import FINE_M, foot_of, levels_at
from kerb.studies.floor.setup import FloorSetup
from kerb.studies.layers import Profile
from kerb.studies.outcome import Column, Outcome, Table
from kerb.studies.sources import Sources

STEP_M, MOST_PROFILES = 0.05, 4


def read_paths(setup: FloorSetup, sources: Sources, slab: Slab, progress: Progress) -> list[tuple[str, Floats, Ride]]:
    """(name, path, readings) of every path that trucks follow. Raises InputError for one that is too short or off the floor."""
    if not setup.traffic:
        return []
    truck = Truck(setup.front_track, setup.rear_track, setup.wheelbase)
    progress.step(0.0, "Reading under the wheels")
    made, places = [], []
    for number, line in enumerate(sources.lines("traffic").lines, 1):
        name, path = line.name or f"path {number}", line.xyz[:, :2]
        try:
            stations, wheels = wheel_places(path, truck, STEP_M / sources.unit.metres)
        except InputError as error:
            raise InputError(f"{name}: {error}") from None
        made.append((name, path, stations))
        places.append(wheels.reshape(-1, 2))
    rides = []
    for (name, path, stations), h in zip(
        made, levels_at(slab, places, foot_of(setup, slab, sources.unit)), strict=True
    ):
        if not np.isfinite(h.reshape(-1, 4)).all(axis=1).any():
            raise InputError(f"{name}: nowhere are all wheels on the floor")
        rides.append((name, path, Ride(stations, h.reshape(-1, 4))))
    return rides


def put_paths(outcome: Outcome, setup: FloorSetup, unit: LengthUnit, rides: Sequence[tuple[str, Floats, Ride]]) -> None:
    """Put the table of what the wheels meet, and profiles of the first paths, into an outcome."""
    if not rides:
        return
    fine, code = FINE_M / unit.metres, unit.code
    rows: list[tuple[Any, ...]] = []
    for name, path, ride in rides:
        told = [("Front axle, left less right", ride.across_front, setup.most_across)]
        told += [("Rear axle, left less right", ride.across_rear, setup.most_across)] if setup.rear_track > 0 else []
        told += [("Front less rear axle", ride.along, setup.most_along)] if setup.wheelbase > 0 else []
        rows += [(name, what, *_row(ride.stations, d, most)) for what, d, most in told]
        if len(outcome.charts) < 24 and len([c for c in outcome.charts if c.title.startswith("Path ")]) < MOST_PROFILES:
            traces = (("Front left", "top", ride.wheels[:, 0]), ("Front right", "base", ride.wheels[:, 1]))
            outcome.charts.append(Profile(f"Path {name}", path, ride.stations, traces))
    columns = (
        Column("name", "", "Path"), Column("what", "", "Difference"), Column("largest", code, "Largest", resolution=fine),
        Column("station", code, "At station"), Column("p95", code, "95 % lie below", resolution=fine),
        Column("limit", code, "Limit", resolution=fine), Column("beyond", "share", "Beyond"), Column("read", "share", "Read"),
        Column("verdict", "", "Limit is"),
    )  # fmt: skip
    outcome.tables["traffic"] = Table("Under the wheels", columns, tuple(rows))


def _row(stations: Floats, d: Floats, most: float | None) -> tuple[Any, ...]:
    known = np.isfinite(d)
    if not known.any():
        return None, None, None, most, None, 0.0, "not known"
    size = np.abs(np.where(known, d, 0.0))
    worst = int(size.argmax())
    beyond = None if most is None else float((size[known] > most).mean())
    verdict = "" if most is None else "met" if size[worst] <= most else "not met"
    p95 = float(np.percentile(size[known], 95))
    return float(d[worst]), float(stations[worst]), p95, most, beyond, float(known.mean()), verdict
