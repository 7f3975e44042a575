"""The declaration of the study that mends a surface."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from kerb.core.errors import OutputError
from kerb.core.progress import Progress
from kerb.core.things import SURFACE as SURFACE_HOLDING
from kerb.formats.write_things import endings_for, write_thing
from kerb.formats.written import placed_when_complete
from kerb.studies.drawn import Drawn
from kerb.studies.kind import (
    AREA,
    COUNT,
    HEADLINE,
    LENGTH,
    REPORT,
    SHEET,
    SUMMARY,
    VOLUME,
    FigureAbout,
    Option,
    StudyKind,
)
from kerb.studies.mend.live import ready
from kerb.studies.mend.run import run
from kerb.studies.mend.setup import MendSetup
from kerb.studies.mend.steps import from_features, to_features
from kerb.studies.outcome import Outcome
from kerb.studies.sources import Sources
from kerb.studies.trials import item, square

ABOUT = (
    FigureAbout("net", "Net change: raised − lowered", VOLUME, (HEADLINE, SHEET, SUMMARY, REPORT)),
    FigureAbout("raised", "Raised", VOLUME),
    FigureAbout("lowered", "Lowered", VOLUME),
    FigureAbout("changed_area", "Area changed", AREA),
    FigureAbout("plan_area", "Area in plan", AREA),
    FigureAbout("plan_area_before", "Area in plan before", AREA),
    FigureAbout("lowest", "Lowest", LENGTH),
    FigureAbout("highest", "Highest", LENGTH),
    FigureAbout("mean", "Mean level", LENGTH),
    FigureAbout("triangles", "Triangles", COUNT),
)


def write(setup: MendSetup, outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write the mended surface by the ending of the file, and the steps as GeoJSON. Raises OutputError."""
    notes: list[tuple[str, str]] = []
    if paths.get("out"):
        made = outcome.surface_made(sources.surface("surface", setup.surface).reference)
        notes += write_thing(made, Path(paths["out"]), Progress()) if made is not None else []
    if paths.get("steps-out"):
        path = Path(paths["steps-out"])
        if path.suffix.lower() not in (".geojson", ".json"):
            raise OutputError(f"{path}: steps are written as .geojson")
        with placed_when_complete(path) as partial:
            partial.write_text(to_features(setup.steps), encoding="utf-8")
    return notes


def describe(_setup: dict[str, Any], outcome: Outcome) -> list[str]:
    """What stands beside the net change: how many steps."""
    table = outcome.tables.get("steps")
    return [f"{len(table.rows)} step{'s' if len(table.rows) != 1 else ''}"] if table is not None else []


def follow(setup: MendSetup, cloud: str) -> MendSetup:
    """The same steps on another surface."""
    return replace(setup, surface=replace(setup.surface, holding=cloud))


def trial() -> tuple[MendSetup, ...]:
    """A mound with a vertex, a break line, a pond and a raised square."""
    ring = square(2.0)
    place, line = Drawn.of(ring.xy[:1]), Drawn.of(ring.xy[1:3])
    return (
        MendSetup(steps=(item("a", place, way="vertex"), item("b", line, way="line"))),
        MendSetup(
            steps=(item("a", ring, way="raise", value=0.5), item("b", ring, way="smooth"), item("c", ring, way="water"))
        ),
    )


MEND = StudyKind(
    id="mend",
    title="Mended surface",
    question="What has to be mended on a surface?",
    group="Surfaces",
    name="Mended surface",
    setup=MendSetup,
    run=run,
    figures=ABOUT,
    live=ready,
    options=(
        Option("out", "the surface: " + ", ".join(endings_for(SURFACE_HOLDING)), endings=endings_for(SURFACE_HOLDING)),
        Option("steps-out", "the steps, to be read by --steps for another epoch (.geojson)", endings=(".geojson",)),
    ),
    write=write,
    help_page="mending.md",
    example="kerb mend may.xml --steps mends.geojson --out may-mended.xml",
    tables=("steps",),
    describe=describe,
    follow=follow,
    read_items=from_features,
    trial=trial,
)
