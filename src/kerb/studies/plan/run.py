"""Run a floor plan: lines fitted to a level slice of the cloud, and the rooms between them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.view import CloudView
from kerb.core.errors import InputError
from kerb.core.geometry.area import inside_any
from kerb.core.geometry.features import Line, LineSet
from kerb.core.plan.rooms import Room, open_ends, rooms_of
from kerb.core.plan.slice_cells import cells_of
from kerb.core.plan.walls import Rules, Wall, drawn_wall, walls_of
from kerb.core.progress import Progress
from kerb.core.things import LINES, Placed
from kerb.studies.layers import FoundLabels, FoundLine
from kerb.studies.outcome import Column, Figure, Made, Note, Outcome, Table
from kerb.studies.plan.setup import PlanSetup
from kerb.studies.sources import Sources

STUDY = "plan"
MOST_DRAWN = 4000
# Chords of arcs lie no farther off than this share of the tolerance.
CHORD = 0.25
# Lines whose points lie off by more than this share of the tolerance are told.
ROUGH = 0.6


def run(setup: PlanSetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'where do the walls stand?'. Raises InputError, NotDeterminable; Cancelled."""
    setup.check()
    store, unit = sources.store("cloud"), sources.unit
    assert setup.level is not None
    places = slice_of(setup, store, progress.within(0.0, 0.4))
    cells = cells_of(places, setup.tolerance)
    progress.step(0.5, "Fitting lines")
    rules = Rules(setup.tolerance, setup.shortest, setup.arcs, float(np.radians(setup.square)))
    added = [
        drawn_wall(a, b) for item in setup.added() for a, b in zip(item.ring.places, item.ring.places[1:], strict=False)
    ]
    walls = walls_of(cells, rules, progress.within(0.5, 0.9), added)
    metre = 1.0 / unit.metres
    rooms = rooms_of(walls, setup.opening, setup.tolerance, metre)
    outcome = Outcome(STUDY, unit.code, store.reference.code or store.reference.name, {}, setup.settings())
    outcome.inputs = [sources.input("cloud", "cloud", len(places), setup.cloud.words(store))]
    outcome.figures = {
        "rooms": Figure(float(len(rooms)), "", "Rooms"),
        "room_area": Figure(float(sum(room.area for room in rooms)) if rooms else None, f"{unit.code}2", "Area of the rooms"),
        "lines": Figure(float(len(walls)), "", "Lines"),
        "length": Figure(float(sum(wall.length for wall in walls)), unit.code, "Length of the lines"),
    }  # fmt: skip
    outcome.tables = {"rooms": _room_table(rooms, unit.code), "lines": _line_table(walls, unit.code)}
    outcome.warnings = _notes(setup, walls, rooms, unit.symbol)
    _draw(outcome, setup, walls, rooms)
    outcome.method = (
        f"Points {setup.thickness:g} {unit.symbol} thick about elevation {setup.level:g} {unit.symbol}; lines of least squares "
        f"distances through cells of {setup.tolerance:g} {unit.symbol}, 95 % of them within the tolerance, joined over small "
        f"gaps and brought together at corners; none shorter than {setup.shortest:g} {unit.symbol}. Rooms are the areas "
        f"between wall faces, openings up to {setup.opening:g} {unit.symbol} closed; what is nowhere wider than 0.6 m "
        "or smaller than 1 m² is none."
    )
    if setup.keep and walls:
        made = Placed(LINES, line_set(setup, walls, rooms), store.reference)
        outcome.makes = [Made(f"Plan of {sources.source('cloud').name}", made)]
    return outcome


def slice_of(setup: PlanSetup, store: CloudStore, progress: Progress) -> Floats:
    """Plan places (n, 2) of the points in the slice. Raises InputError, when it lies beside the cloud; Cancelled."""
    assert setup.level is not None
    low, high = setup.level - setup.thickness / 2, setup.level + setup.thickness / 2
    bottom, top = (float(end[2]) for end in store.bounds)
    if high < bottom or low > top:
        raise InputError(f"no points in the slice at {setup.level:g}; the cloud extends from {bottom:.3f} to {top:.3f}")
    view = setup.cloud.of(store)
    wide = ((-np.inf, -np.inf, low), (np.inf, np.inf, high))
    places = CloudView(store, replace(view.narrowing, box=wide)).points(progress)[:, :2]
    off = setup.left_out()
    return np.asarray(places[~inside_any(off, places)]) if off and len(places) else places


def _room_table(rooms: list[Room], unit: str) -> Table:
    columns = (
        Column("name", "", "Room"), Column("area", f"{unit}2", "Area", resolution=0.01), Column("perimeter", unit, "Perimeter"),
        Column("e", unit, "Easting", minor=True), Column("n", unit, "Northing", minor=True),
    )  # fmt: skip
    rows = tuple(
        (name, room.area, room.perimeter, *map(float, room.middle))
        for name, room in zip(_names(rooms), rooms, strict=True)
    )
    return Table("Rooms", columns, rows)


def _names(rooms: list[Room]) -> list[str]:
    return [f"Room {number}" for number in range(1, len(rooms) + 1)]


def _line_table(walls: list[Wall], unit: str) -> Table:
    columns = (
        Column("name", "", "Line"), Column("e1", unit, "Easting from"), Column("n1", unit, "Northing from"),
        Column("e2", unit, "Easting to"), Column("n2", unit, "Northing to"), Column("length", unit, "Length"),
        Column("radius", unit, "Radius"), Column("rms", unit, "RMS off the line", resolution=0.0001),
        Column("points", "", "Points"),
    )  # fmt: skip
    rows = tuple(
        (
            f"L{number}", *map(float, wall.a), *map(float, wall.b), wall.length, wall.radius or None,
            wall.rms if wall.points else None, wall.points,
        )
        for number, wall in enumerate(walls, 1)
    )  # fmt: skip
    return Table("Lines", columns, rows, printed=20)


def _notes(setup: PlanSetup, walls: list[Wall], rooms: list[Room], mark: str) -> list[Note]:
    notes = []
    if not walls:
        notes.append(Note("no-lines", f"no line of {setup.shortest:g} {mark} or longer found in the slice"))
    loose = open_ends(walls, setup.opening, setup.tolerance)
    if walls and loose:
        more = "rooms bounded by them are missing"
        notes.append(
            Note("open-ends", f"{loose} line end{'s' if loose > 1 else ''} not connected to another line; {more}")
        )
    rough = sum(wall.rms > ROUGH * setup.tolerance for wall in walls if wall.points)
    if rough:
        limit = f"{100 * ROUGH:.0f} % of the tolerance of {setup.tolerance:g} {mark}"
        notes.append(Note("rough", f"RMS above {limit} on {rough} line{'s' if rough > 1 else ''}"))
    if len(walls) > MOST_DRAWN:
        notes.append(
            Note(
                "not-drawn",
                f"only the {MOST_DRAWN} longest of {len(walls)} lines are drawn; exported files contain all",
            )
        )
    return notes


def _draw(outcome: Outcome, setup: PlanSetup, walls: list[Wall], rooms: list[Room]) -> None:
    assert setup.level is not None
    for number, wall in enumerate(walls[:MOST_DRAWN], 1):
        xyz = _raised(wall.vertices(CHORD * setup.tolerance), setup.level)
        outcome.layers[f"line {number}"] = FoundLine(
            xyz, "edge" if wall.points else "mark", "Walls" if wall.points else "Drawn walls"
        )
    if rooms:
        for number, room in enumerate(rooms, 1):
            for part, ring in enumerate(room.rings):
                outcome.layers[f"room {number}.{part}"] = FoundLine(
                    _raised(ring, setup.level), "base", "Rooms", closed=True
                )
        middles = _raised(np.array([room.middle for room in rooms]), setup.level)
        outcome.layers["rooms"] = FoundLabels(
            middles, tuple(_names(rooms)), title="Room areas", values=tuple(room.area for room in rooms),
            bounds=(None,) * len(rooms), unit=f"{outcome.unit}2", resolution=0.01,
        )  # fmt: skip


def _raised(xy: Floats, level: float) -> Floats:
    return np.column_stack([xy, np.full(len(xy), level)])


def line_set(setup: PlanSetup, walls: list[Wall], rooms: list[Room]) -> LineSet:
    """Walls and outlines of rooms as lines at the level of the slice, each on its layer."""
    assert setup.level is not None
    made = []
    for number, wall in enumerate(walls, 1):
        xyz = _raised(wall.vertices(CHORD * setup.tolerance), setup.level)
        made.append(Line(xyz, False, f"L{number}", "walls" if wall.points else "drawn walls"))
    for name, room in zip(_names(rooms), rooms, strict=True):
        made += [Line(_raised(ring, setup.level), True, name, "rooms") for ring in room.rings]
    return LineSet(tuple(made))
