"""The declaration of the study of a face."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.progress import Progress
from kerb.core.things import SURFACE
from kerb.formats.write_things import endings_for, write_thing
from kerb.studies.drawn import Drawn
from kerb.studies.kind import Option, StudyKind
from kerb.studies.outcome import Outcome
from kerb.studies.rockface.figures import ABOUT
from kerb.studies.rockface.run import face_of, run
from kerb.studies.rockface.setup import RockfaceSetup
from kerb.studies.scope import Scope
from kerb.studies.sources import Sources
from kerb.studies.trials import square


def write(setup: RockfaceSetup, _outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write the face at the later date as triangles, by the ending of the file. Raises OutputError; what running raises."""
    return write_thing(face_of(setup, sources, Progress()), Path(paths["out"]), Progress())


def describe(_setup: dict[str, Any], outcome: Outcome) -> list[str]:
    """What stands beside the net volume: which is compared with which."""
    return [outcome.method.partition(",")[0]]


def trial() -> tuple[RockfaceSetup, ...]:
    """A mound against itself: on its plane, and about an upright axis through its top."""
    axis = Drawn.of(np.array([[0.0, 0.0]]))
    ring = square(6.0)
    same = Scope("cloud")
    return RockfaceSetup(same, same), RockfaceSetup(same, same, area=ring, frame="axis", axis=axis, level_error=0.01)


ROCKFACE = StudyKind(
    id="rockface",
    title="Overhanging face",
    question="What came off a face that leans over?",
    group="Surfaces",
    name="Face",
    setup=RockfaceSetup,
    run=run,
    figures=ABOUT,
    options=(
        Option("out", "the face at the later date: " + ", ".join(endings_for(SURFACE)), endings=endings_for(SURFACE)),
    ),
    write=write,
    help_page="rockface.md",
    example="kerb rockface before.laz after.laz --frame plane --report face.pdf",
    panes=("orbit",),
    tables=("frame", "uncertainty"),
    shared=("Offset",),
    describe=describe,
    trial=trial,
)
