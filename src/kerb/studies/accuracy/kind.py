"""The declaration of the accuracy study."""

from __future__ import annotations

from typing import Any

from kerb.core.quantity import quantity
from kerb.studies.accuracy.figures import ABOUT
from kerb.studies.accuracy.run import mean_of_control, run
from kerb.studies.accuracy.setup import AccuracySetup
from kerb.studies.kind import Correction, StudyKind
from kerb.studies.outcome import Outcome


def correction(outcome: Outcome) -> Correction | None:
    """The mean difference of the control points taken out of what is tested; None without control points."""
    mean = mean_of_control(outcome)
    if mean is None:
        return None
    size = quantity(abs(mean), outcome.unit)
    way = "lowered" if mean > 0 else "raised"
    return Correction("cloud", (0.0, 0.0, -mean), f"{way} by {size}, the mean of its control points")


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
    tables=("standards", "points", "tests", "ways"),
    describe=describe,
    correction=correction,
    trial=trial,
)
