"""The declaration of bringing into line."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.cloud.outgoing import from_store
from kerb.core.errors import OutputError
from kerb.core.geometry.rigid import Rigid
from kerb.core.progress import Progress
from kerb.core.quantity import quantity
from kerb.core.things import moved
from kerb.formats.write_things import ENDINGS, write_cloud, write_thing
from kerb.formats.written import placed_when_complete
from kerb.studies.align.pairs import about_place, matrix_of
from kerb.studies.align.picking import with_place
from kerb.studies.align.run import run
from kerb.studies.align.setup import AlignSetup
from kerb.studies.align.typed import typed_motion
from kerb.studies.kind import (
    ANGLE,
    COUNT,
    HEADLINE,
    LENGTH,
    REPORT,
    SHEET,
    SUMMARY,
    Correction,
    FigureAbout,
    MoveStep,
    Option,
    PlaceStep,
    StudyKind,
)
from kerb.studies.outcome import Outcome
from kerb.studies.sources import Sources

OUT = tuple(dict.fromkeys((*ENDINGS["cloud"], *ENDINGS["surface"], *ENDINGS["model"])))
ABOUT = (
    FigureAbout("rms", "Residual distance, RMS", LENGTH, (HEADLINE, SHEET, SUMMARY, REPORT)),
    FigureAbout("mean_abs", "Residual distance, mean absolute", LENGTH, optional=True),
    FigureAbout("overlap", "Points with a match", "share", optional=True),
    FigureAbout("rotation", "Rotation", ANGLE),
    FigureAbout("shift", "Translation", LENGTH),
    FigureAbout("shift_e", "East", LENGTH, signed=True),
    FigureAbout("shift_n", "North", LENGTH, signed=True),
    FigureAbout("shift_z", "Up", LENGTH, signed=True),
    FigureAbout("scale_ppm", "Scale", "ppm", signed=True, optional=True),
    FigureAbout("pairs_rms", "Pairs, rms", LENGTH, optional=True),
    FigureAbout("iterations", "Rounds", COUNT),
)


def motion_of(outcome: Outcome) -> Rigid:
    """The motion that an outcome found."""
    rows = outcome.tables["matrix"].rows
    return matrix_of(" ".join(repr(float(v)) for row in rows for v in row))


def write(_setup: AlignSetup, outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write what was moved, or the matrix as text. Raises OutputError."""
    notes: list[tuple[str, str]] = []
    if outcome.value("rms") is None and outcome.verdict:
        raise OutputError(f"nothing was written. {outcome.verdict}")
    motion = motion_of(outcome)
    if paths.get("out"):
        source, path = sources.source("moving"), Path(paths["out"])
        if source.store is not None:
            store = source.store.snapshot()
            whole = about_place(motion, np.mean(source.store.bounds, axis=0))
            store.place(whole if store.placement is None else store.placement.then(whole))
            notes += write_cloud(from_store(store), path, Progress())[1]
        elif source.item is not None:
            notes += write_thing(moved(source.item, motion), path, Progress())
    if paths.get("matrix-out"):
        lines = [" ".join(f"{float(v):.12g}" for v in row) for row in outcome.tables["matrix"].rows]
        with placed_when_complete(Path(paths["matrix-out"])) as partial:
            partial.write_text("\n".join(lines) + "\n", encoding="utf-8")
    return notes


def corrections(outcome: Outcome) -> tuple[Correction, ...]:
    """The motion that was found, for a moved copy."""
    if "matrix" not in outcome.tables or outcome.value("rms") is None:
        return ()
    size = quantity(outcome.value("shift"), outcome.unit)
    words = f"moved by {size} and turned by {outcome.value('rotation'):.4f}°, into line"
    return (Correction("moving", motion_of(outcome), words, words[:1].upper() + words[1:]),)


def describe(_setup: dict[str, Any], outcome: Outcome) -> list[str]:
    """What stands beside the rms: how far it moves."""
    return [f"moved by {quantity(outcome.value('shift'), outcome.unit)}, turned by {outcome.value('rotation'):.3f}°"]


def trial() -> tuple[AlignSetup, ...]:
    """A mound onto itself, from where it is and from anywhere, and by pairs."""
    return (
        AlignSetup(),
        AlignSetup(search_any=True),
        AlignSetup(pairs="0 0 0 0 0 1; 5 0 0 5 0 1; 0 5 0 0 5 1; 0 0 5 0 0 6"),
    )


ALIGN = StudyKind(
    id="align",
    title="Align",
    question="Does it fit, and how has it to be moved?",
    group="Change",
    name="Align",
    setup=AlignSetup,
    run=run,
    figures=ABOUT,
    options=(
        Option("out", "what was moved: " + ", ".join(OUT), endings=OUT),
        Option("matrix-out", "the 4 × 4 matrix as text", endings=(".txt",)),
    ),
    write=write,
    help_page="align.md",
    example="kerb align may.laz --to march.laz --out aligned.laz --matrix-out matrix.txt",
    key="Ctrl+Shift+J",
    panes=("plan", "section"),
    tables=("directions", "matrix", "forms", "pairs"),
    describe=describe,
    corrections=corrections,
    move_step=MoveStep(
        "Move by eye",
        "Drag and turn it in plan or section, arrows for millimetres; Enter keeps it as the start",
        "moving",
        "start",
        lambda text, middle: typed_motion(text, middle) if text.strip() else Rigid(),
    ),
    place_steps=(
        PlaceStep(
            "Pick pairs",
            "Click a place on what moves, then the same place on what stays; pair by pair",
            "pairs",
            with_place,
            True,
        ),
    ),
    trial=trial,
    apart=True,
)
