"""The declaration of the stockpile study."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from kerb.core.quantity import symbol
from kerb.studies.kind import Step, StudyKind
from kerb.studies.outcome import Outcome
from kerb.studies.stockpile.figures import ABOUT, SHARED
from kerb.studies.stockpile.live import LiveHeap
from kerb.studies.stockpile.pull import pull, wider
from kerb.studies.stockpile.run import run
from kerb.studies.stockpile.setup import StockpileSetup, upgraded
from kerb.studies.trials import circle


def describe(setup: dict[str, Any], _outcome: Outcome) -> list[str]:
    """What stands beside the figure: material and density."""
    density, material = setup.get("density"), setup.get("material")
    at = [f"at {density:g} {symbol(setup.get('density_unit', ''))}"] if density else []
    return [*at, *([str(material)] if material else [])]


def trial() -> tuple[StockpileSetup, ...]:
    """A ring round the foot of a mound of seven metres' radius, over two kinds of base."""
    toe = circle(7.0)
    return StockpileSetup(toe=toe), StockpileSetup(toe=toe, base="level", level=0.5)


STOCKPILE = StudyKind(
    id="stockpile",
    title="Stockpile",
    question="How much is in it?",
    group="Volumes",
    name="Heap",
    setup=StockpileSetup,
    run=run,
    figures=ABOUT,
    live=LiveHeap,
    steps=(
        Step(
            "pull", "Pull to toe", "Move the line to the break of slope near it; undo takes it back", "toe", pull,
            "Pulled to the toe. The dotted line is where it was; Ctrl+Z takes it back.", "Ctrl+T",
            remark=wider,
        ),
    ),
    help_page="stockpile.md",
    example="kerb stockpile yard.laz --toe heap2.geojson --density 1.6 --report heap2.pdf",
    key="Ctrl+Shift+N",
    tables=("uncertainty",),
    shared=SHARED,
    describe=describe,
    trial=trial,
    follow=lambda setup, cloud: replace(setup, cloud=replace(setup.cloud, holding=cloud, part="", only=())),
    upgrade=upgraded,
)  # fmt: skip
