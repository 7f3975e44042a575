"""The declaration of the surface study."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from kerb.core.progress import Progress
from kerb.core.things import SURFACE as SURFACE_HOLDING
from kerb.core.things import Placed
from kerb.formats.write_things import endings_for, write_thing
from kerb.studies.kind import AREA, COUNT, HEADLINE, LENGTH, REPORT, SHEET, SUMMARY, FigureAbout, Option, StudyKind
from kerb.studies.outcome import Outcome
from kerb.studies.sources import Sources
from kerb.studies.surface.run import gridded, run
from kerb.studies.surface.setup import GRID, SurfaceSetup
from kerb.studies.trials import square

ABOUT = (
    FigureAbout("plan_area", "Area in plan", AREA, (HEADLINE, SHEET, SUMMARY, REPORT)),
    FigureAbout("surface_area", "Area along the surface", AREA),
    FigureAbout("lowest", "Lowest", LENGTH),
    FigureAbout("highest", "Highest", LENGTH),
    FigureAbout("mean", "Mean level", LENGTH),
    FigureAbout("vertices", "Vertices", COUNT),
    FigureAbout("triangles", "Triangles", COUNT),
    FigureAbout("cells", "Cells", COUNT, optional=True),
    FigureAbout("filled_cells", "Cells in filled gaps", COUNT, optional=True),
    FigureAbout("thinned_max", "Farthest point from it", LENGTH, optional=True),
    FigureAbout("thinned_rms", "All points from it, rms", LENGTH, optional=True),
)


def write(setup: SurfaceSetup, outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write the surface by the ending of the file. Raises OutputError."""
    reference = sources.store("cloud").reference
    made = outcome.surface_made(reference)
    if setup.form == GRID and not outcome.makes:
        made = Placed(SURFACE_HOLDING, gridded(setup, sources, Progress()), reference)
    return write_thing(made, Path(paths["out"]), Progress()) if made is not None else []


def describe(_setup: dict[str, Any], outcome: Outcome) -> list[str]:
    """What stands beside the area: how many triangles."""
    return [f"{int(outcome.value('triangles') or 0)} triangles"]


def trial() -> tuple[SurfaceSetup, ...]:
    """A mound whole, thinned, and within a ring."""
    ring = square(4.0)
    return (
        SurfaceSetup(),
        SurfaceSetup(spacing=0.5, thin="median", max_edge=3.0),
        SurfaceSetup(form="grid", fill=2.0),
        SurfaceSetup(boundary=ring),
    )


SURFACE = StudyKind(
    id="surface",
    title="Surface",
    question="What is the ground as a surface?",
    group="Surfaces",
    name="Surface",
    setup=SurfaceSetup,
    run=run,
    figures=ABOUT,
    options=(
        Option("out", "the surface: " + ", ".join(endings_for(SURFACE_HOLDING)), endings=endings_for(SURFACE_HOLDING)),
    ),
    write=write,
    help_page="surfaces.md",
    example="kerb surface site.laz --classes 2 --spacing 0.5 --max-edge 5 --out ground.xml",
    key="Ctrl+Shift+U",
    panes=("plan",),
    tables=("levels",),
    describe=describe,
    trial=trial,
    of_selection=True,
)
