"""The declaration of the study that makes a floor plan."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.geometry.features import Line, LineSet
from kerb.core.progress import Progress
from kerb.core.quantity import quantity
from kerb.core.things import LINES, Placed
from kerb.formats.dxf_write import Text, Texts
from kerb.formats.write_things import endings_for, write_thing
from kerb.studies.kind import (
    AREA,
    COUNT,
    HEADLINE,
    LENGTH,
    REPORT,
    SHEET,
    SUMMARY,
    FigureAbout,
    Option,
    PlaceStep,
    StudyKind,
)
from kerb.studies.layers import FoundLabels, FoundLine
from kerb.studies.outcome import Outcome
from kerb.studies.plan.run import run
from kerb.studies.plan.setup import PlanSetup
from kerb.studies.sources import Sources

ABOUT = (
    FigureAbout("rooms", "Rooms", COUNT, (HEADLINE, SHEET, SUMMARY, REPORT)),
    FigureAbout("room_area", "Area of the rooms", AREA, (SHEET, SUMMARY, REPORT)),
    FigureAbout("lines", "Lines", COUNT),
    FigureAbout("length", "Length of the lines", LENGTH),
)
# The usual height of the slice above the floor in thicknesses of it, and as a share of the height of what was scanned.
ABOVE, SHARE = 12.0, 0.4
LETTERS = 0.15


def write(_setup: PlanSetup, outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write lines and rooms by the ending of the file, in a drawing with the names and areas of rooms. Raises OutputError."""
    reference = sources.store("cloud").reference
    item = Placed(LINES, drawing_of(outcome), reference)
    return write_thing(item, Path(paths["out"]), Progress(), texts=_labels(outcome, reference.unit.metres))


def drawing_of(outcome: Outcome) -> LineSet:
    """The lines and rooms of an outcome, each on its layer."""
    made = []
    for name, layer in outcome.layers.items():
        if isinstance(layer, FoundLine):
            kind, _, number = name.partition(" ")
            called = f"L{number}" if kind == "line" else f"Room {number.partition('.')[0]}"
            made.append(Line(layer.xyz, layer.closed, called, layer.title.lower()))
    return LineSet(tuple(made))


def _labels(outcome: Outcome, metres: float) -> Texts:
    layer = outcome.layers.get("rooms")
    if not isinstance(layer, FoundLabels):
        return Texts()
    more = tuple(
        Text(
            (float(x), float(y), float(z)), f"{name}  {quantity(area, layer.unit, resolution=0.01)}", layer="room names"
        )
        for (x, y, z), name, area in zip(layer.xyz, layer.texts, layer.values, strict=True)
    )
    return Texts(more, LETTERS / metres)


def describe(setup: dict[str, Any], outcome: Outcome) -> list[str]:
    """What stands beside the number of rooms: the lines, and the level of the slice."""
    return [f"{outcome.value('lines') or 0:.0f} lines at {setup['level']:g} {outcome.unit}"]


def begin(setup: PlanSetup, low: Floats, high: Floats) -> PlanSetup:
    """A slice some 1.2 m above the lowest place, lower in low rooms."""
    height = float(high[2] - low[2])
    if not np.isfinite(height) or height <= 0:
        return setup
    return replace(setup, level=round(float(low[2]) + min(ABOVE * setup.thickness, SHARE * height), 2))


def level_at(_setup: PlanSetup, _sources: Sources, place: Floats) -> dict[str, Any]:
    """The slice through a place. Raises InputError, when the click tells no elevation."""
    if not np.isfinite(place[2]):
        raise InputError("no elevation at the clicked place")
    return {"level": round(float(place[2]), 3)}


def trial() -> tuple[PlanSetup, ...]:
    """A ring of the mound, with and without arcs."""
    plain = PlanSetup(level=1.0, thickness=0.5, tolerance=0.3, shortest=0.5)
    return plain, replace(plain, arcs=True, square=1.0)


PLAN = StudyKind(
    id="plan",
    title="Floor plan",
    question="Where are the walls, and how large are the rooms?",
    group="Surfaces",
    name="Floor plan",
    setup=PlanSetup,
    run=run,
    figures=ABOUT,
    options=(Option("out", "walls and rooms: " + ", ".join(endings_for(LINES)), endings=endings_for(LINES)),),
    write=write,
    help_page="plan.md",
    example="kerb plan office.e57 --level 4.2 --thickness 0.1 --out office.dxf",
    key="Ctrl+Alt+P",
    panes=("plan",),
    tables=("rooms", "lines"),
    describe=describe,
    begin=begin,
    follow=lambda setup, cloud: replace(setup, cloud=replace(setup.cloud, holding=cloud, part="", only=())),
    place_steps=(
        PlaceStep("Pick level", "Click a wall: the slice passes through the clicked point", "level", level_at, True),
    ),
    trial=trial,
    contoured=False,
    at_once=False,
)
