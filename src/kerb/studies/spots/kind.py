"""The declaration of the spot levels study."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.geometry.features import SurveyPoints
from kerb.core.progress import Progress
from kerb.core.quantity import one_two_five
from kerb.core.things import POINTS, Placed
from kerb.formats.dxf_write import Texts
from kerb.formats.write_things import endings_for, write_thing
from kerb.studies.kind import COUNT, HEADLINE, LENGTH, REPORT, SHEET, SUMMARY, FigureAbout, Option, StudyKind
from kerb.studies.outcome import Outcome
from kerb.studies.sources import Sources
from kerb.studies.spots.run import run
from kerb.studies.spots.setup import SpotsSetup
from kerb.studies.trials import square

USUAL_NODES = 2000
ABOUT = (
    FigureAbout("count", "Nodes with a level", COUNT, (HEADLINE, SHEET, SUMMARY, REPORT)),
    FigureAbout("empty", "Nodes without points", COUNT),
    FigureAbout("lowest", "Lowest", LENGTH, optional=True),
    FigureAbout("highest", "Highest", LENGTH, optional=True),
    FigureAbout("mean", "Mean", LENGTH, optional=True),
    FigureAbout("mean_change", "Mean change", LENGTH, signed=True, optional=True),
)


def write(_setup: SpotsSetup, outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write the nodes by the ending of the file, changes as further columns. Raises OutputError."""
    table = outcome.tables["points"]
    names = [column.name for column in table.columns]
    cells = dict(zip(names, zip(*table.rows, strict=True), strict=True)) if table.rows else dict.fromkeys(names, ())
    xyz = np.array([cells["e"], cells["n"], cells["z"]], float).T.reshape(-1, 3)
    extra = {
        name: tuple("" if v is None else f"{round(float(v), 4) + 0.0:.4f}" for v in cells[name])
        for name in ("later_z", "change")
        if name in cells
    }
    points = SurveyPoints(xyz, tuple(cells["name"]), tuple(cells["code"]), extra)
    item = Placed(POINTS, points, sources.store("cloud").reference)
    digits = {"m": 3, "mm": 0, "cm": 1}.get(outcome.unit, 2)
    return write_thing(item, Path(paths["out"]), Progress(), texts=Texts(decimals=digits))


def describe(setup: dict[str, Any], outcome: Outcome) -> list[str]:
    """What stands beside the number of nodes: their spacing."""
    return [f"every {setup['spacing']:g} {outcome.unit}"]


def begin(setup: SpotsSetup, low: Floats, high: Floats) -> SpotsSetup:
    """A spacing that makes some two thousand nodes of what there is."""
    area = float(np.prod(high[:2] - low[:2]))
    return (
        replace(setup, spacing=one_two_five(float(np.sqrt(area / USUAL_NODES))))
        if np.isfinite(area) and area > 0
        else setup
    )


def trial() -> tuple[SpotsSetup, ...]:
    """A grid over a mound by each way, turned, and within a ring."""
    ring = square(4.0)
    return (
        SpotsSetup(spacing=2.0),
        SpotsSetup(spacing=1.5, take="lowest", rotation=30.0, first_name="N001", code="GR", keep=True),
        SpotsSetup(spacing=1.0, take="median", area=ring),
    )


SPOTS = StudyKind(
    id="spots",
    title="Spot levels",
    question="What is the level at each node of a grid?",
    group="Surfaces",
    name="Spot levels",
    setup=SpotsSetup,
    run=run,
    figures=ABOUT,
    options=(Option("out", "the nodes: " + ", ".join(endings_for(POINTS)), endings=endings_for(POINTS)),),
    write=write,
    help_page="surfaces.md",
    example="kerb spots floor.laz --spacing 1 --take median --radius 0.1 --first-name S1 --out levels.csv",
    key="Ctrl+Shift+P",
    panes=("plan",),
    tables=("points",),
    describe=describe,
    begin=begin,
    at_once=False,
    trial=trial,
    of_selection=True,
)
