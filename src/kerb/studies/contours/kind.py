"""The declaration of the contours study."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.progress import Progress
from kerb.core.quantity import one_two_five
from kerb.core.things import LINES, Placed
from kerb.formats.write_things import endings_for, write_thing
from kerb.studies.contours.run import labels_of, line_set, lines_of, run
from kerb.studies.contours.setup import ContoursSetup
from kerb.studies.fields import COUNTED
from kerb.studies.kind import COUNT, HEADLINE, LENGTH, REPORT, SHEET, SUMMARY, FigureAbout, Option, StudyKind
from kerb.studies.outcome import Outcome
from kerb.studies.sources import Sources

USUAL_LEVELS = 20
ABOUT = (
    FigureAbout("lines", "Lines", COUNT, (HEADLINE, SHEET, SUMMARY, REPORT)),
    FigureAbout("total_length", "Length in all", LENGTH),
    FigureAbout("levels", "Levels", COUNT),
    FigureAbout("lowest", "Lowest level", LENGTH, optional=True),
    FigureAbout("highest", "Highest level", LENGTH, optional=True),
)


def write(setup: ContoursSetup, _outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write all lines by the ending of the file. Raises OutputError; what the run raises."""
    surface = sources.surface("surface", setup.surface, setup.strays == COUNTED, setup.longest)
    lines = lines_of(setup, surface, Progress())
    item = Placed(LINES, line_set(lines, setup.interval, setup.base), surface.reference)
    return write_thing(item, Path(paths["out"]), Progress(), texts=labels_of(lines, setup))


def describe(setup: dict[str, Any], outcome: Outcome) -> list[str]:
    """What stands beside the number of lines: the interval."""
    return [f"every {setup['interval']:g} {outcome.unit}"]


def begin(setup: ContoursSetup, low: Floats, high: Floats) -> ContoursSetup:
    """An interval that makes some twenty levels of what there is, as maps have it: 1, 2, 5, 10 …"""
    relief = float(high[2] - low[2])
    return replace(setup, interval=one_two_five(relief / USUAL_LEVELS)) if np.isfinite(relief) and relief > 0 else setup


def trial() -> tuple[ContoursSetup, ...]:
    """A mound, exact and smooth."""
    return ContoursSetup(interval=0.5), ContoursSetup(interval=0.5, smooth=True)


CONTOURS = StudyKind(
    id="contours",
    title="Contours",
    question="Where do the levels run?",
    group="Surfaces",
    name="Contours",
    setup=ContoursSetup,
    run=run,
    figures=ABOUT,
    options=(Option("out", "the lines: " + ", ".join(endings_for(LINES)), endings=endings_for(LINES)),),
    write=write,
    help_page="surfaces.md",
    example="kerb contours ground.xml --interval 0.5 --out contours.dxf",
    key="Ctrl+Shift+L",
    panes=("plan",),
    tables=("levels",),
    describe=describe,
    begin=begin,
    trial=trial,
)
