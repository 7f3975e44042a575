"""The published figures, tables and words of an accuracy study."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from kerb.core.accuracy.beneath import IDW, MEDIAN, PLANE, TIN, WAYS
from kerb.core.accuracy.differences import (
    FEWEST_2014,
    FEWEST_2023,
    FEWEST_NSSDA,
    SIGNIFICANT,
    Summary,
    biased,
    combined,
    normal,
    spread_words,
    summary,
    tilt,
)
from kerb.core.arrays import Floats, Mask
from kerb.core.quantity import digits, labelled, quantity
from kerb.core.units import METRE, LengthUnit, convert
from kerb.studies.accuracy.rows import TestedPoint
from kerb.studies.accuracy.setup import LEFT_OUT, AccuracySetup
from kerb.studies.kind import COUNT, HEADLINE, LENGTH, REPORT, SHEET, SUMMARY, FigureAbout
from kerb.studies.layers import Plot
from kerb.studies.outcome import Column, Figure, Input, Note, Outcome, Table
from kerb.studies.sources import Source, Sources

BOTH = (SHEET, REPORT)
ABOUT = (
    FigureAbout("rms", "RMSE in height", LENGTH, (HEADLINE, SHEET, SUMMARY, REPORT)),
    FigureAbout("n", "Checkpoints used", COUNT, (SHEET, SUMMARY, REPORT)),
    FigureAbout("left_out", "Points left out", COUNT, BOTH),
    FigureAbout("mean", "Mean difference", LENGTH, (SHEET, SUMMARY, REPORT), signed=True),
    FigureAbout("median", "Median difference", LENGTH, BOTH, signed=True),
    FigureAbout("std", "Standard deviation", LENGTH, BOTH),
    FigureAbout("min", "Lowest difference", LENGTH, BOTH, signed=True),
    FigureAbout("max", "Highest difference", LENGTH, BOTH, signed=True),
    FigureAbout("accuracy95", "Accuracy at 95 % (NSSDA)", LENGTH, (SHEET, SUMMARY, REPORT)),
    FigureAbout("p95", "95th percentile", LENGTH, BOTH),
    FigureAbout("vegetated95", "95th percentile in vegetation", LENGTH, BOTH),
    FigureAbout("n_vegetated", "Points in vegetation", COUNT, BOTH, optional=True),
    FigureAbout("rms_total", "RMSE incl. checkpoint accuracy (RMSEv)", LENGTH, BOTH),
    FigureAbout("targets", "Targets that count", COUNT, BOTH, optional=True),
    FigureAbout("mean_e", "Mean difference east", LENGTH, BOTH, optional=True, signed=True),
    FigureAbout("mean_n", "Mean difference north", LENGTH, BOTH, optional=True, signed=True),
    FigureAbout("rms_e", "RMSE east", LENGTH, BOTH, optional=True),
    FigureAbout("rms_n", "RMSE north", LENGTH, BOTH, optional=True),
    FigureAbout("rms_radial", "Radial RMSE", LENGTH, BOTH, optional=True),
    FigureAbout("accuracy95_horizontal", "Horizontal accuracy at 95 % (NSSDA)", LENGTH, BOTH, optional=True),
)
LABELS = {about.name: about.label for about in ABOUT}
WAY_WORDS = {TIN: "Triangle", IDW: "Inverse distance", PLANE: "Local plane", MEDIAN: "Median"}
PLAIN_UNITS = {"m": "meters", "ft": "feet", "us-ft": "US survey feet"}
CLASS_STEP_M = 0.01
# A limit is kept where it is passed by rounding only.
DUST = 1e-6


def worded(
    setup: AccuracySetup, rows: list[TestedPoint], found: Summary, what: tuple[Floats, Mask, Mask], code: str
) -> dict[str, Figure]:
    """Every figure; None where no point is left."""
    d, _, vegetated = what
    side = "" if not found.n else "above" if found.mean > 0 else "below"
    said = f"what is tested lies {quantity(abs(found.mean), code)} {side} the points" if found.n and found.mean else ""
    half = (found.mean_high - found.mean_low) / 2
    values: dict[str, tuple[float | None, str, float | None, str]] = {
        "rms": (found.rms, code, None, ""),
        "n": (found.n, "", None, ""),
        "left_out": (sum(row.role == LEFT_OUT or bool(row.reason) for row in rows), "", None, ""),
        "mean": (found.mean, code, half if np.isfinite(half) else None, said),
        "median": (found.median, code, None, ""),
        "std": (found.std, code, None, "" if found.n > 1 else "needs two points"),
        "min": (found.low, code, None, ""),
        "max": (found.high, code, None, ""),
        "accuracy95": (found.accuracy95, code, None, "1.96 × RMSE"),
        "p95": (found.p95, code, None, "of the absolute differences"),
        "vegetated95": (
            float(np.percentile(np.abs(d[vegetated]), 95)) if vegetated.any() else None, code, None,
            "" if vegetated.any() else "no point is in vegetation",
        ),
        "n_vegetated": (float(vegetated.sum()) or None, "", None, "not in the other figures"),
        "rms_total": (
            combined(found.rms, setup.point_accuracy) if setup.point_accuracy is not None else None, code, None,
            "" if setup.point_accuracy is not None else "the accuracy of the points is not stated",
        ),
    }  # fmt: skip
    known = lambda v: None if v is None or not np.isfinite(v) else v  # noqa: E731
    return {name: Figure(known(v), unit, LABELS[name], u95, note) for name, (v, unit, u95, note) in values.items()}


def tables(
    setup: AccuracySetup, rows: list[TestedPoint], what: tuple[Floats, Mask, Mask], sources: Sources
) -> dict[str, Table]:
    """A row a point; all ways beside each other; the tests; what each standard says."""
    code = sources.unit.code
    length = lambda name, label: Column(name, code, label)  # noqa: E731
    finite = lambda v: float(v) if np.isfinite(v) else None  # noqa: E731
    columns = (
        Column("name", "", "Point"), Column("role", "", "Role"), length("e", "Easting"), length("n", "Northing"),
        length("z", "Elevation"), length("cloud_z", "Tested"), length("dz", "Tested − point"), Column("used", "", "Counts"),
        Column("reason", "", "Reason"), Column("remark", "", "Review"), Column("slope", "%", "Slope"),
        length("rough", "Roughness"), length("nearest", "Nearest point"), Column("code", "", "Code"),
        Column("vegetated", "", "In vegetation"),
    )  # fmt: skip
    cells = tuple(
        (
            row.name, row.role, float(row.place[0]), float(row.place[1]), finite(row.place[2]), finite(row.height),
            finite(row.dz), "yes" if row.used else "no", row.reason, row.remark, finite(100 * row.found.slope),
            finite(row.found.rough), finite(row.found.nearest), row.code, "yes" if row.vegetated else "",
        )
        for row in rows
    )  # fmt: skip
    made = {"points": Table("Points", columns, cells)}
    if sources.source("cloud").store is not None:
        made["ways"] = _ways(rows, code)
    d, used, vegetated = what
    if used.any():
        xy = np.array([row.place[:2] for row in rows])[used]
        made["tests"] = _tests(d[used], xy, code)
        made["standards"] = Table(
            "Standards", (Column("standard", "", "Standard"), Column("statement", "", "Statement")),
            tuple(statements(setup, summary(d[used]), d[vegetated], sources.unit)),
        )  # fmt: skip
    return made


@dataclass(frozen=True)
class Beside:
    """One of several things that were held against the same points, and its differences."""

    source: Source
    d: Floats


def add_beside(outcome: Outcome, found: list[Beside], code: str) -> None:
    """The table of all that were held against the same points, and their means in the order of their dates."""
    known = lambda v: None if not np.isfinite(v) else float(v)  # noqa: E731
    ordered = sorted(found, key=lambda one: one.source.epoch)
    cells = []
    for one in ordered:
        s = summary(one.d)
        cells.append(
            (one.source.name, one.source.epoch, s.n, *map(known, (s.mean, s.median, s.std, s.rms, s.accuracy95)))
        )
    length = lambda name, label: Column(name, code, label)  # noqa: E731
    columns = (
        Column("of", "", "Tested"), Column("date", "", "Date"), Column("n", "", "Points"), length("mean", "Mean"),
        length("median", "Median"), length("std", "Standard deviation"), length("rms", "RMSE"),
        length("accuracy95", "At 95 %"),
    )  # fmt: skip
    outcome.tables["beside"] = Table("Beside one another", columns, tuple(cells))
    outcome.inputs += [Input("tested", one.source.path or one.source.name, one.source.count, len(one.d),
                             survey=one.source.epoch, key=one.source.key)
                       for one in found[1:]]  # fmt: skip
    means = np.array([np.mean(one.d) if len(one.d) else np.nan for one in ordered])
    names = tuple(one.source.epoch or one.source.name for one in ordered)
    outcome.charts.append(
        Plot(
            "Mean by date",
            "bars",
            np.arange(len(means), dtype=float),
            np.nan_to_num(means),
            "",
            labelled("tested − point", code),
            names,
        )
    )


def _ways(rows: list[TestedPoint], code: str) -> Table:
    cells: list[tuple[Any, ...]] = []
    for way in WAYS:
        d = np.array([row.found.heights.get(way, np.nan) - row.place[2] for row in rows if row.open])
        found = summary(d[np.isfinite(d)])
        known = lambda v: None if not np.isfinite(v) else float(v)  # noqa: E731
        cells.append((WAY_WORDS[way], found.n, *map(known, (found.mean, found.median, found.std, found.rms))))
    columns = (Column("way", "", "Height by"), Column("n", "", "Points"), Column("mean", code, "Mean"),
               Column("median", code, "Median"), Column("std", code, "Standard deviation"),
               Column("rms", code, "RMSE"))  # fmt: skip
    return Table("All ways", columns, tuple(cells))


def _tests(d: Floats, xy: Floats, code: str) -> Table:
    found, (p, is_biased), shape, plane = summary(d), biased(d), normal(d), tilt(xy, d)
    know = lambda p: "too few points" if not np.isfinite(p) else f"p = {p:.3f}" if p >= 0.001 else "p < 0.001"  # noqa: E731
    show = lambda v: quantity(float(v), code)  # noqa: E731
    rows = [
        ("Mean, 95 % interval", f"{show(found.mean_low)} to {show(found.mean_high)}", know(p),
         "significant bias" if is_biased else "no significant bias"),
        ("RMSE, 95 % interval", f"{show(found.rms_low)} to {show(found.rms_high)}", "", "for normal differences"),
        ("Normal (Shapiro and Wilk)", "", know(shape),
         "not normally distributed: use the 95th percentile, not 1.96 × RMSE" if shape < SIGNIFICANT else "may be normal"),
    ]  # fmt: skip
    if plane is not None:
        way = np.degrees(np.arctan2(plane.east, plane.north)) % 360
        tilt_words = f"{1000 * plane.slope:.3f} mm/m towards {way:.0f}°"
        says = f"tilted; {show(plane.rms)} would be left" if plane.significant else "no significant tilt"
        rows.append(("Tilt (F test)", tilt_words, know(plane.p), says))
    return Table("Tests", (Column("test", "", "Test"), Column("value", "", "Value"), Column("p", "", "Chance"),
                           Column("says", "", "It says")), tuple(rows))  # fmt: skip


def statements(setup: AccuracySetup, found: Summary, vegetated: Floats, unit: LengthUnit) -> list[tuple[str, str]]:
    """What each standard says of the figures, in its own form of words (recalled); of ground in vegetation apart."""
    code, plain = unit.code, PLAIN_UNITS.get(unit.code, unit.plural)
    centimetres = lambda v: 100 * convert(v, unit, METRE)  # noqa: E731
    total = combined(found.rms, setup.point_accuracy)
    few = lambda n: f" Too few points: {found.n}, the standard asks for {n}." if found.n < n else ""  # noqa: E731
    said = [
        ("NSSDA (FGDC-STD-007.3-1998)",
         f"Tested {found.accuracy95:.3f} {plain} vertical accuracy at 95% confidence level.{few(FEWEST_NSSDA)}"),
        ("ASPRS 2014",
         f"This data set was tested to meet ASPRS Positional Accuracy Standards for Digital Geospatial Data (2014) for a "
         f"{_class(found.rms, unit)} cm RMSEz Vertical Accuracy Class. Actual NVA accuracy was found to be RMSEz = "
         f"{centimetres(found.rms):.1f} cm, equating to +/- {centimetres(found.accuracy95):.1f} cm at 95% confidence level."
         f"{few(FEWEST_2014)}"),
        ("ASPRS 2023",
         f"This data set was tested to meet ASPRS Positional Accuracy Standards for Digital Geospatial Data, Edition 2 (2023) "
         f"for a {_class(total, unit)} cm RMSEV Vertical Positional Accuracy Class. The tested vertical positional accuracy was "
         f"found to be RMSEV = {centimetres(total):.1f} cm"
         + (", the accuracy of the points included." if setup.point_accuracy is not None
            else "; the accuracy of the points is not stated and not included.") + few(FEWEST_2023)),
    ]  # fmt: skip
    if len(vegetated):
        p95, rmse = float(np.percentile(np.abs(vegetated), 95)), float(np.sqrt(np.mean(vegetated**2)))
        said.insert(2, ("ASPRS 2014, vegetated", f"Actual VVA accuracy was found to be +/- {centimetres(p95):.1f} cm at the "
                                                 f"95th percentile ({len(vegetated)} points)."))  # fmt: skip
        said.append(("ASPRS 2023, vegetated", f"Tested vegetated vertical accuracy (VVA): RMSEV = "
                                              f"{centimetres(combined(rmse, setup.point_accuracy)):.1f} cm."))  # fmt: skip
    if setup.wanted:
        met = total <= setup.wanted * (1 + DUST)
        proven = "" if found.n >= FEWEST_2014 else f" Sample too small to be conclusive (n = {found.n})."
        said.insert(0, ("Verdict", f"Required RMSE {quantity(setup.wanted, code)}: {'met' if met else 'not met'} "
                                   f"({quantity(total, code)}).{proven}"))  # fmt: skip
    return said


def _class(rms: float, unit: LengthUnit) -> str:
    """The class that is met: RMSE rounded up to whole centimetres."""
    return f"{np.ceil(round(convert(rms, unit, METRE) / CLASS_STEP_M, 6)):.0f}"


def statistics_notes(setup: AccuracySetup, sources: Sources, what: tuple[Floats, Floats], found: Summary) -> list[Note]:
    """What the analyst and the client must know of the figures."""
    d, xy = what
    notes: list[Note] = []
    if found.n < FEWEST_NSSDA:
        notes.append(
            Note("few-points", f"{found.n} checkpoints used; the standards require {FEWEST_NSSDA} to {FEWEST_2023}")
        )
    if biased(d)[1] and found.n >= 3:
        side = "above" if found.mean > 0 else "below"
        size = quantity(abs(found.mean), sources.unit.code)
        notes.append(
            Note("bias", f"Significant vertical bias: tested data average {size} {side} the checkpoints (p < 0.05)")
        )
    plane = tilt(xy, d)
    if plane is not None and plane.significant:
        notes.append(Note("tilt", f"Significant tilt in the differences: {digits(1000 * plane.slope)} mm/m"))
    source = sources.source("cloud")
    if source.store is not None:
        low, high = source.store.bounds
    else:
        low, high = sources.surface("cloud", setup.cloud).bounds
    wanting = spread_words(xy, low[:2], high[:2])
    if wanting and found.n >= 4:
        notes.append(Note("spread", f"Checkpoints are not spread over the data: {wanting}"))
    return notes


def method(setup: AccuracySetup, sources: Sources, wanted: str) -> str:
    """How the figures come about."""
    store = sources.source("cloud").store
    radius = setup.radius or (4.0 * store.spacing if store is not None else 0.0)
    ways = {
        TIN: "linearly in the Delaunay triangle over the point",
        IDW: f"as the mean of the {setup.neighbours:.0f} nearest points with weights 1/d²",
        PLANE: f"on a robust plane through the points within {radius:.3g} {sources.unit.symbol}",
        MEDIAN: f"as the median of the points within {radius:.3g} {sources.unit.symbol}",
    }
    how = ways[setup.way] if store is not None else "on the surface"
    who = {"check": "check points", "control": "control points", "all": "all points"}[wanted]
    return (
        f"Differences are tested minus point: positive means that what is tested lies above. Its height is taken {how}. "
        f"Figures are of {who} that are not left out. RMSE: root of the mean square of differences; 95 %: 1.96 × RMSE "
        "(NSSDA). Intervals by Student's t and chi square, outliers by Grubbs' test, tilt by the F test."
    )
