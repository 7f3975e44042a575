"""The declaration of the accuracy study."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.errors import OutputError
from kerb.core.geometry.features import SurveyPoints
from kerb.core.quantity import quantity
from kerb.formats.vector import write_features
from kerb.studies.accuracy.figures import ABOUT
from kerb.studies.accuracy.run import mean_of_control, run
from kerb.studies.accuracy.setup import AccuracySetup
from kerb.studies.kind import Correction, Option, StudyKind
from kerb.studies.outcome import Outcome
from kerb.studies.sources import Sources

ENDINGS = (".gpkg", ".geojson", ".shp")


def correction(outcome: Outcome) -> Correction | None:
    """The mean difference of the control points taken out of what is tested; None without control points."""
    mean = mean_of_control(outcome)
    if mean is None:
        return None
    size = quantity(abs(mean), outcome.unit)
    way = "lowered" if mean > 0 else "raised"
    return Correction("cloud", (0.0, 0.0, -mean), f"{way} by {size}, the mean of its control points")


def write(_setup: AccuracySetup, outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write the points with all that was found of them as fields. Raises OutputError."""
    path = Path(paths["out"])
    if path.suffix.lower() not in ENDINGS:
        raise OutputError(f"{path}: points with their differences are written as {', '.join(ENDINGS)}")
    table = outcome.tables["points"]
    names = [column.name for column in table.columns]
    cells = dict(zip(names, zip(*table.rows, strict=True), strict=True))
    places = np.array([[np.nan if v is None else v for v in cells[axis]] for axis in ("e", "n", "z")], float).T
    points = SurveyPoints(places, tuple(cells["name"]), tuple(cells["code"]))
    fields = {name: list(cells[name]) for name in names if name not in ("name", "code", "e", "n", "z")}
    return write_features(path, points, None, sources.source("cloud").reference, fields)


def describe(setup: dict[str, Any], _outcome: Outcome) -> list[str]:
    """What stands beside the figure: of which points it is."""
    return [{"check": "of check points", "control": "of control points"}.get(setup["use"], "of all points")]


def trial() -> tuple[AccuracySetup, ...]:
    """Points on a mound, by every way."""
    return tuple(AccuracySetup(points="points", way=way) for way in ("tin", "idw", "plane", "median"))


ACCURACY = StudyKind(
    id="accuracy",
    title="Accuracy",
    question="How good is it?",
    group="Accuracy",
    name="Accuracy",
    setup=AccuracySetup,
    run=run,
    figures=ABOUT,
    help_page="accuracy.md",
    example="kerb accuracy flight.laz --points checkpoints.csv --surface tin --report accuracy.pdf",
    key="Ctrl+Shift+A",
    panes=("plan", "section", "orbit"),
    tables=("standards", "points", "beside", "tests", "ways"),
    describe=describe,
    options=(Option("out", "the points with their differences as fields: .gpkg, .geojson or .shp", endings=ENDINGS),),
    write=write,
    correction=correction,
    trial=trial,
)
