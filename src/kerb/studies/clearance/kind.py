"""The declaration of the study of clearances."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.cloud.outgoing import from_store
from kerb.core.errors import OutputError
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.progress import Progress
from kerb.core.quantity import quantity
from kerb.core.things import POINTS, Placed
from kerb.formats.dxf_write import Text, Texts, write_dxf
from kerb.formats.write_things import write_cloud, write_thing
from kerb.studies.clearance.run import LiveClearance, run
from kerb.studies.clearance.setup import ClearanceSetup
from kerb.studies.drawn import Drawn
from kerb.studies.kind import AREA, COUNT, HEADLINE, LENGTH, REPORT, SHEET, SUMMARY, FigureAbout, Option, StudyKind
from kerb.studies.layers import FoundLabels, FoundLine
from kerb.studies.outcome import Outcome
from kerb.studies.sources import Sources

ABOUT = (
    FigureAbout("lowest", "Lowest clearance", LENGTH, (HEADLINE, SHEET, SUMMARY, REPORT)),
    FigureAbout("posted", "Posted value", LENGTH, (SHEET, SUMMARY, REPORT)),
    FigureAbout("highest_load", "Maximum load height", LENGTH, (SHEET, SUMMARY, REPORT), optional=True),
    FigureAbout("remains", "Minimum clearance of the envelope", LENGTH, (SHEET, SUMMARY, REPORT), optional=True),
    FigureAbout("nearest", "Shortest 3D distance", LENGTH),
    FigureAbout("lowest_e", "Easting of the lowest point", LENGTH),
    FigureAbout("lowest_n", "Northing of the lowest point", LENGTH),
    FigureAbout("lowest_z", "Elevation of the lowest point", LENGTH),
    FigureAbout("covered_area", "Area evaluated", AREA),
    FigureAbout("uncovered_area", "Without road below", AREA),
    FigureAbout("strays", "Isolated points excluded", COUNT),
)
CLOUDS = (".laz", ".las", ".ply", ".e57")
TABLES = (".csv",)
DRAWING = (".dxf",)
ENDINGS = (*CLOUDS, *TABLES, *DRAWING)


def write(_setup: ClearanceSetup, outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write the cloud with its clearances as a column, the places with their values as a table, or a drawing. Raises
    OutputError."""
    path, store = Path(paths["out"]), sources.store("above")
    ending = path.suffix.lower()
    if ending in CLOUDS:
        attribute = outcome.attributes["clearance"]
        made = {"clearance": attribute.values}
        _, notes = write_cloud(from_store(store, made=made, units={"clearance": attribute.unit}), path, Progress())
        return notes
    labels = outcome.layers["lowest"]
    assert isinstance(labels, FoundLabels)
    said = tuple(
        f"{name} {quantity(value, labels.unit)}" for name, value in zip(labels.texts, labels.values, strict=True)
    )
    points = SurveyPoints(
        labels.xyz,
        labels.texts,
        ("",) * len(said),
        {"description": said, "clearance": tuple(f"{v:.4f}" for v in labels.values if v is not None)},
    )
    if ending in TABLES:
        return write_thing(Placed(POINTS, points, store.reference), path, Progress())
    if ending not in DRAWING:
        raise OutputError(f"{path}: clearances are written as {', '.join(ENDINGS)}")
    lines = LineSet(
        tuple(
            Line(layer.xyz, layer.closed, name, layer.title.lower())
            for name, layer in outcome.layers.items()
            if isinstance(layer, FoundLine)
        )
    )
    texts = tuple(
        Text((float(x), float(y), float(z)), words, layer="clearances")
        for (x, y, z), words in zip(labels.xyz, said, strict=True)
    )
    return write_dxf(path, store.reference.unit, points, lines, None, Texts(texts, 0.2 / store.reference.unit.metres))


def describe(setup: dict[str, Any], outcome: Outcome) -> list[str]:
    """What stands beside the lowest clearance: the posted value."""
    posted = outcome.figures.get("posted")
    said = [f"posted value {posted.text()}"] if posted is not None and posted.value is not None else []
    return [*said, *([f"{setup['required']:g} {outcome.unit} required"] if setup.get("required") else [])]


def trial() -> tuple[ClearanceSetup, ...]:
    """The mound over a level, with an envelope that is driven across it."""
    path = Drawn.of(np.array([[-4.0, 0.0], [4.0, 0.0]]))
    over = ClearanceSetup(level=-5.0, cell=0.5, radius=1.0, stray_radius=2.0)
    return over, replace(over, measure="square", path=path, envelope="2x3", length=2.0, wheelbase=1.0, strays="counted",
                         picks=Drawn.of(np.zeros((1, 2))))  # fmt: skip


CLEARANCE = StudyKind(
    id="clearance",
    title="Clearance",
    question="How much clearance is there over the road?",
    group="Structures",
    name="Clearance",
    setup=ClearanceSetup,
    run=run,
    live=LiveClearance,
    figures=ABOUT,
    options=(
        Option(
            "out",
            f"the cloud with the clearance of each point: {', '.join(CLOUDS)}; places and their values: .csv, .dxf",
            endings=ENDINGS,
        ),
    ),
    write=write,
    help_page="clearance.md",
    example="kerb clearance bridge.laz --over road.laz --lanes lanes.geojson --report clearance.pdf",
    key="Ctrl+Alt+C",
    panes=("plan", "orbit"),
    tables=("lanes", "matrix", "beams", "points", "wires", "passage", "dates"),
    describe=describe,
    follow=lambda setup, cloud: replace(setup, above=replace(setup.above, holding=cloud, part="", only=())),
    trial=trial,
    contoured=False,
)
