"""The declaration of the accuracy study."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.accuracy.beneath import HowBeneath, deciding
from kerb.core.accuracy.differences import tilt
from kerb.core.accuracy.horizontal import fitted, levelled
from kerb.core.arrays import Floats
from kerb.core.errors import NotDeterminable, OutputError
from kerb.core.geometry.features import SurveyPoints
from kerb.core.geometry.rigid import Rigid
from kerb.core.quantity import quantity
from kerb.formats.vector import write_features
from kerb.studies.accuracy.figures import ABOUT
from kerb.studies.accuracy.run import RADIUS_SPACINGS, of_control, run
from kerb.studies.accuracy.setup import CHECK, CONTROL, LEFT_OUT, AccuracySetup, with_role
from kerb.studies.kind import Correction, Kept, Option, RowStep, StudyKind
from kerb.studies.outcome import Outcome
from kerb.studies.sources import Sources

ENDINGS = (".gpkg", ".geojson", ".shp")


def corrections(outcome: Outcome) -> tuple[Correction, ...]:
    """What would be taken out of what is tested by its control points: the mean; the median; a plane where they are tilted;
    the motions of least squares of targets. Nothing without control points."""
    places, d = of_control(outcome)
    found: list[Correction] = []
    if len(d):
        found = [_raised(float(v), what, outcome.unit) for v, what in ((np.mean(d), "mean"), (np.median(d), "median"))]
    plane = tilt(places[:, :2], d) if len(d) else None
    if plane is not None and plane.significant:
        move = levelled(places, (plane.east, plane.north), float(np.mean(d)))
        way = np.degrees(np.arctan2(plane.east, plane.north)) % 360
        words = f"levelled by {1000 * plane.slope:.3f} mm/m towards {way:.0f}°, the plane of its control points"
        found.append(Correction("cloud", move, words, "Plane: " + words.partition(",")[0]))
    return (*found, *_motions(*control_targets(outcome), outcome.unit))


def _motions(moving: Floats, fixed: Floats, unit: str) -> tuple[Correction, ...]:
    """The motions of least squares of targets: six parameters, and seven with a scale. Nothing where they fix none."""
    found: list[Correction] = []
    for scaled, many in ((False, "six"), (True, "seven")):
        try:
            motion, scale, left = fitted(moving, fixed, scaled)
        except NotDeterminable:
            return ()
        turn = np.degrees(np.arccos(np.clip((np.trace(motion.matrix) - 1) / 2, -1, 1)))
        size = quantity(float(np.linalg.norm(motion.shift)), unit)
        rms = quantity(float(np.sqrt(np.mean(np.sum(left**2, axis=1)))), unit)
        ppm = f"{1e6 * (scale - 1):+.0f} ppm"
        done = f"turned by {turn:.4f}°, moved by {size}" + (f" and scaled by {ppm}" if scaled else "")
        words = f"{done}, the fit of {len(moving)} control targets by {many} parameters"
        more = f"; {rms} left" + ("" if scaled else f", a scale of {ppm} stays")
        found.append(Correction("cloud", motion, words, f"Targets, {many} parameters: {done}{more}"))
    return tuple(found)


def _raised(value: float, what: str, unit: str) -> Correction:
    way = "lowered" if value > 0 else "raised"
    words = f"{way} by {quantity(abs(value), unit)}, the {what} of its control points"
    return Correction(
        "cloud", Rigid(shift=(0.0, 0.0, -value)), words, f"{what.capitalize()}: {words.partition(',')[0]}"
    )


def control_targets(outcome: Outcome) -> tuple[Floats, Floats]:
    """Picked and measured places (n, 3) of the control targets."""
    if "targets" not in outcome.tables:
        return np.empty((0, 3)), np.empty((0, 3))
    names = [column.name for column in outcome.tables["points"].columns]
    at = {
        row[names.index("name")]: [row[names.index(axis)] for axis in ("e", "n", "z")]
        for row in outcome.tables["points"].rows
    }
    rows = [row for row in outcome.tables["targets"].rows if row[1] == CONTROL and None not in at[row[0]]]
    fixed = np.array([at[row[0]] for row in rows], float).reshape(-1, 3)
    return fixed + np.array([row[2:5] for row in rows], float).reshape(-1, 3), fixed


def keeps(_setup: AccuracySetup, outcome: Outcome) -> Kept | None:
    """Roles of the points, and why some are left out, for their list."""
    if "points" not in outcome.tables:
        return None
    table = outcome.tables["points"]
    names = [column.name for column in table.columns]
    at = {name: names.index(name) for name in ("name", "role", "reason")}
    roles = {row[at["name"]]: str(row[at["role"]]) for row in table.rows}
    # What the study itself leaves out, such as points outside of the data, is no role.
    reasons = {
        row[at["name"]]: str(row[at["reason"]] or "") if row[at["role"]] == LEFT_OUT else "" for row in table.rows
    }
    return Kept("points", {"role": roles, "reason": reasons}, {"control": "", "checks": "", "left_out": ""})


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


def neighbours(setup: AccuracySetup, sources: Sources, place: Floats) -> Floats:
    """The points of the tested cloud that decide its height at a place; nothing of a surface."""
    store = sources.source("cloud").store
    if store is None:
        return np.empty((0, 3))
    how = HowBeneath(round(setup.neighbours), setup.radius or RADIUS_SPACINGS * store.spacing)
    return deciding(setup.cloud.of(store), place[:2], setup.way, how)


ROW_STEPS = (
    RowStep("points", "Control: may be used to adjust", lambda setup, names, _text: with_role(setup, names, CONTROL)),
    RowStep("points", "Check: only to prove", lambda setup, names, _text: with_role(setup, names, CHECK)),
    RowStep(
        "points", "Leave out…", lambda setup, names, text: with_role(setup, names, LEFT_OUT, text),
        "Reason, such as grass, slope, outside, base station, disturbed", "disturbed",
    ),
)  # fmt: skip


def describe(setup: dict[str, Any], outcome: Outcome) -> list[str]:
    """What stands beside the figure: of which points it is, and what was corrected in the data before."""
    said = [{"check": "of checkpoints", "control": "of control points"}.get(setup["use"], "of all points")]
    moved = [
        step for one in outcome.inputs[:1] for step in one.steps if " lowered by " in step or " raised by " in step
    ]
    return said + moved[-1:]


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
    panes=("plan", "section", "section"),
    tables=("standards", "beside", "points", "targets", "strip_levels", "strips", "tests", "ways"),
    describe=describe,
    options=(Option("out", "the points with their differences as fields: .gpkg, .geojson or .shp", endings=ENDINGS),),
    write=write,
    corrections=corrections,
    keeps=keeps,
    row_steps=ROW_STEPS,
    deciding=neighbours,
    trial=trial,
)
