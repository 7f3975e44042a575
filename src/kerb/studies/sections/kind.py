"""The declaration of the sections study."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.section.drawing import SectionDrawing
from kerb.core.section.frame import Frame
from kerb.core.section.placed import PlacedSection
from kerb.core.section.stations import written
from kerb.formats.sections_write import ENDINGS, Series, write_flat, write_sections
from kerb.studies.drawn import Drawn
from kerb.studies.kind import COUNT, HEADLINE, LENGTH, REPORT, SHEET, SUMMARY, FigureAbout, Option, PlaceStep, StudyKind
from kerb.studies.layers import Sections
from kerb.studies.outcome import Outcome
from kerb.studies.sections.run import run
from kerb.studies.sections.setup import SectionsSetup
from kerb.studies.sources import Sources

ABOUT = (
    FigureAbout("sections", "Sections", COUNT, (HEADLINE, SHEET, SUMMARY, REPORT)),
    FigureAbout("empty", "Without points", COUNT, (SHEET, REPORT)),
    FigureAbout("lowest", "Lowest point", LENGTH, (SHEET, REPORT)),
    FigureAbout("highest", "Highest point", LENGTH, (SHEET, REPORT)),
    FigureAbout("shots", "Survey points in sections", COUNT, (SHEET, REPORT)),
)


def drawings(outcome: Outcome) -> list[SectionDrawing]:
    """The sections of an outcome as they are handed over; one along a line as (station, elevation)."""
    shown = next((chart for chart in outcome.charts if isinstance(chart, Sections)), None)
    if shown is None:
        return _along(outcome)
    shots: dict[float, list[tuple[str, float, float, float]]] = {}
    for station, name, offset, z, away in outcome.tables["shots"].rows if "shots" in outcome.tables else ():
        shots.setdefault(station, []).append((name, offset, z, away))
    made = []
    for number, name in enumerate(shown.names):
        frame = shown.frame(number)
        lines = tuple((trace.title, trace.places) for trace in shown.one(number)[0])
        made.append(SectionDrawing(frame, name, lines, tuple(shots.get(frame.station, ()))))
    return made


def _along(outcome: Outcome) -> list[SectionDrawing]:
    """The section along a line: its offsets are stations."""
    (profile,) = outcome.profiles
    stations, path = np.array(outcome.settings["stations"], float), np.array(outcome.settings["path"], float)
    step = path[-1] - path[0]
    length = float(profile.distance[-1])
    frame = Frame(float(stations[0]), tuple(path[0].tolist()), float(np.arctan2(*step)) - np.pi / 2, length, 0.0)
    lines = tuple((title, np.column_stack([profile.distance + stations[0], z])) for title, _, z in profile.traces)
    shots = outcome.tables["shots"].rows if "shots" in outcome.tables else ()
    counted = outcome.settings.get("shot_stations", [row[0] for row in shots])
    found = tuple((row[1], station, *row[3:]) for station, row in zip(counted, shots, strict=True))
    return [SectionDrawing(frame, "along", lines, found, (stations, path))]


def write(setup: SectionsSetup, outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write the sections where they lie, or laid out flat. Raises OutputError; InputError."""
    series = Series(drawings(outcome), setup.alignment(sources), sources.store("cloud").reference)
    notes = []
    if paths.get("out"):
        notes += write_sections(series, Path(paths["out"]))
    if paths.get("flat"):
        notes += write_flat(series, Path(paths["flat"]))
    return notes


def describe(setup: dict[str, Any], outcome: Outcome) -> list[str]:
    """What stands beside the number of sections: how wide and thick they are."""
    if setup["way"] == "along":
        return [f"along the line, {setup['thickness']:g} {outcome.unit} thick"]
    return [f"{setup['width']:g} {outcome.unit} wide, slices of {setup['thickness']:g} {outcome.unit}"]


def from_section(section: PlacedSection, count: int, spacing: float) -> dict[str, Any]:
    """A line through the middle of a section, the way one looks at it, with sections as wide and thick as it is."""
    start, way = np.array(section.middle[:2]), section.axes[2][:2]
    line = Drawn.of(np.array([start, start + way * spacing * count]))
    return {
        "line": line,
        "interval": abs(spacing),
        "width": section.width,
        "thickness": section.thickness,
        "at_ends": True,
    }


def with_station(setup: SectionsSetup, sources: Sources, place: Floats) -> dict[str, Any]:
    """The station of the line that lies nearest to a place, added to those that are typed. Raises InputError."""
    alignment = setup.alignment(sources)
    station = float(alignment.locate(place[None, :2])[0][0])
    if not np.isfinite(station):
        raise InputError("there is no station square to the line here; click beside it")
    word = written(alignment.shown(station), sources.unit)
    known = [w for w in re.split(r"[,;\s]+", setup.stations.strip()) if w]
    return {"stations": ", ".join([*known, *([] if word in known else [word])])}


def trial() -> tuple[SectionsSetup, ...]:
    """A bent line across a mound at the origin."""
    line = Drawn.of(np.array([[-8.0, -2.0], [0.0, 0.0], [7.0, 5.0]]))
    return (
        SectionsSetup(line=line, interval=4.0, width=10.0, step=0.5),
        SectionsSetup(line=line, stations="3, 5", take="lowest"),
        SectionsSetup(line=line, way="along", thickness=2.0, step=0.5),
    )


SECTIONS = StudyKind(
    id="sections",
    title="Sections",
    question="What does it look like across the line?",
    group="Sections",
    name="Sections",
    setup=SectionsSetup,
    run=run,
    figures=ABOUT,
    options=(
        Option(
            "out",
            "the sections where they lie, or as a table: .dxf, .gpkg, .shp, .xml (LandXML) or .csv",
            endings=ENDINGS,
        ),
        Option("flat", "the sections side by side in rows, with frames and levels: .dxf", endings=(".dxf",)),
    ),
    write=write,
    help_page="sections.md",
    example="kerb sections road.laz --along axis.xml --interval 20 --width 30 --thickness 0.5 --out sections.dxf",
    key="Ctrl+Shift+E",
    panes=("plan", "section"),
    tables=("sections",),
    describe=describe,
    trial=trial,
    from_section=from_section,
    place_steps=(
        PlaceStep("Pick in plan", "Each click adds the station that lies nearest to it", "stations", with_station),
    ),
)
