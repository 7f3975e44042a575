"""Run an accuracy study: the height of what is tested at each point, differences, figures, and what each standard says."""

from __future__ import annotations

import numpy as np
import scipy

from kerb.core.accuracy.beneath import TIN, Beneath, HowBeneath, beneath_all
from kerb.core.accuracy.differences import Summary, outliers, summary
from kerb.core.arrays import Floats, Mask
from kerb.core.errors import NotDeterminable
from kerb.core.geometry.features import SurveyPoints
from kerb.core.progress import Progress
from kerb.core.quantity import Decimals, first_of, labelled, quantity, round_number
from kerb.core.surface.surfaces import Surface
from kerb.core.units import LengthUnit
from kerb.studies.accuracy import figures, overlapping, targets
from kerb.studies.accuracy.points import given_twice, tested_points
from kerb.studies.accuracy.rows import BAR_SHARE, NO_ELEVATION, NO_POINTS, OUTSIDE, TestedPoint
from kerb.studies.accuracy.setup import ALL, AUTO, CHECK, CONTROL, AccuracySetup
from kerb.studies.layers import FoundDimensions, FoundLabels, FoundPoints, Plot, histogram
from kerb.studies.outcome import Note, Outcome
from kerb.studies.scope import Scope
from kerb.studies.sources import Sources, numbered

STUDY = "accuracy"
RADIUS_SPACINGS = 4.0
# Points this near to each other in plan are one place.
TWIN_M = 0.05
# What stands this far above the ground round a point is no noise of it.
STANDS_M, ROUGH_TIMES, ROUGH_M = 0.5, 3.0, 0.03
MOST_LABELS = 300
# What rounding of coordinates makes of a limit, as a share of it; how far beyond the scale a stray bar goes.
DUST, CLIPPED = 1e-3, 2.0
# Weights of the corners of a triangle at a random place in it have a mean sum of squares of a half: the noise that is left.
TRIANGLE_NOISE = 0.71
# The noise of the cloud is told from this share of the spread on, with this many points at least.
NOISE_SHARE, LEAST_NOISE_M, FEWEST_ROUGH, FEWEST_IN_PLANE = 0.4, 0.003, 5, 8
TALL = Decimals(length=2)


def run(setup: AccuracySetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'how good is it?'.

    Raises InputError, when the setup or a named point cannot be; NotDeterminable without heights; Cancelled.
    """
    setup.check()
    rows, wanted = _tested(setup, sources, progress.within(0.0, 0.6)) if setup.points else ([], ALL)
    outcome = _told(setup, sources, rows, wanted)
    if setup.strips:
        overlapping.add_strips(outcome, setup, sources, progress.within(0.6, 1.0))
    picked = targets.matched(rows, sources.points("picked")) if setup.picked and rows else []
    targets.add_targets(outcome, picked, wanted, sources.unit)
    twice = given_twice(sources.points("picked").names) if setup.picked and rows else []
    if twice:
        outcome.warnings.append(Note("picks", f"picked more than once, and not compared: {first_of(twice, 6)}"))
    if picked:
        outcome.inputs.append(sources.input("picked", "picked in it"))
    if setup.others and rows:
        figures.add_beside(outcome, _beside(setup, sources, rows, progress), sources.unit.code)
    return outcome


def _tested(setup: AccuracySetup, sources: Sources, progress: Progress) -> tuple[list[TestedPoint], str]:
    """Every point with what was found of it, and whose differences make the figures."""
    points, of_control = tested_points(setup, sources)
    roles, reasons, given = setup.roles(points, of_control)
    rows = _rows(setup, sources, points, progress)
    vegetated = setup.in_vegetation(points)
    wanted = _wanted(setup, given)
    for row, role, reason, in_vegetation in zip(rows, roles, reasons, vegetated, strict=True):
        row.role, row.reason, row.vegetated = role, reason, in_vegetation
    _judge(setup, rows, sources.unit)
    for row in rows:
        row.used = not row.reason and (wanted == ALL or row.role == wanted)
    return rows, wanted


def _wanted(setup: AccuracySetup, given: bool) -> str:
    if setup.use == AUTO:
        return CHECK if given else ALL
    return setup.use


def _rows(setup: AccuracySetup, sources: Sources, points: SurveyPoints, progress: Progress) -> list[TestedPoint]:
    if not np.isfinite(points.xyz[:, 2]).any():
        raise NotDeterminable("none of the points has an elevation")
    found, heights = _heights(setup, sources, ("cloud", setup.cloud), points, progress)
    return [
        TestedPoint(name, code, CHECK, xyz, one, float(height))
        for name, code, xyz, one, height in zip(points.names, points.codes, points.xyz, found, heights, strict=True)
    ]


def _heights(
    setup: AccuracySetup, sources: Sources, what: tuple[str, Scope], points: SurveyPoints, progress: Progress
) -> tuple[list[Beneath], list[float]]:
    """What a cloud or surface says at each point, and its height there by the way that was chosen."""
    name, scope = what
    if sources.source(name).store is not None:
        store = sources.store(name)
        view = scope.of(store)
        how = HowBeneath(round(setup.neighbours), setup.radius or RADIUS_SPACINGS * store.spacing)
        found = beneath_all(view, points.xyz[:, :2], how, progress)
        return found, [one.heights[setup.way] for one in found]
    surface: Surface = sources.surface(name, scope)
    heights = surface.at(points.xyz[:, :2]).tolist()
    return [
        Beneath({TIN: z}, hole=bool(np.isnan(z)), slope=_slope(surface, p[:2]))
        for z, p in zip(heights, points.xyz, strict=True)
    ], heights


def _beside(
    setup: AccuracySetup, sources: Sources, rows: list[TestedPoint], progress: Progress
) -> list[figures.Beside]:
    """The same points that count, held against others; what has a height there."""
    points, used = tested_points(setup, sources)[0], np.array([row.open for row in rows], bool)
    made = [figures.Beside(sources.source("cloud"), np.array([row.dz for row in rows if row.open]))]
    for number, scope in enumerate(setup.others):
        name = numbered("others", number)
        _, heights = _heights(setup, sources, (name, scope), points, progress)
        d = (np.array(heights) - points.xyz[:, 2])[used]
        made.append(figures.Beside(sources.source(name), d[np.isfinite(d)]))
    return made


def _slope(surface: Surface, place: Floats) -> float:
    """Rise over run of a surface round a place, over half a unit to each side."""
    z = surface.at(place + 0.5 * np.array([[1.0, 0], [-1, 0], [0, 1], [0, -1]]))
    return float(np.hypot(z[0] - z[1], z[2] - z[3]))


def _judge(setup: AccuracySetup, rows: list[TestedPoint], unit: LengthUnit) -> None:
    """Reasons that keep a point from counting, and remarks on what is odd: those the analyst decides on."""
    metre = unit.metres
    for row in rows:
        if row.reason:
            continue
        if not np.isfinite(row.place[2]):
            row.reason = NO_ELEVATION
        elif not np.isfinite(row.height):
            row.reason = OUTSIDE if row.found.hole else NO_POINTS
        elif setup.max_slope is not None and 100 * row.found.slope > setup.max_slope * (1 + DUST):
            row.reason = f"slope {100 * row.found.slope:.0f} %"
    known = [r.found.rough for r in rows if np.isfinite(r.found.rough)]
    usual = float(np.median(known)) if known else np.nan
    _twins(rows, TWIN_M / metre)
    good = [r for r in rows if not r.reason]
    # Where all agree to the last digit a hundredth of a millimetre is no difference but rounding.
    far = outliers(np.round(metre * np.array([r.dz for r in good]), 5)) if good else np.empty(0, bool)
    for row, off in zip(good, far, strict=True):
        said = [row.remark] if row.remark else []
        if row.found.over > STANDS_M / metre:
            said.append(f"under something {quantity(row.found.over, unit.code, TALL)} high?")
        elif row.found.tallest > STANDS_M / metre:
            said.append(
                f"something stands up to {quantity(row.found.tallest, unit.code, TALL)} above the ground beside it"
            )
        elif np.isfinite(usual) and row.found.rough > max(ROUGH_TIMES * usual, ROUGH_M / metre):
            said.append("rough ground, grass?" if row.dz > 0 else "rough ground")
        if off:
            said.append("differs from all others: disturbed, or mistaken for another?")
        row.remark = "; ".join(said)


def _twins(rows: list[TestedPoint], reach: float) -> None:
    xy = np.array([row.place[:2] for row in rows])
    for a, b in sorted(scipy.spatial.cKDTree(xy - xy.mean(axis=0)).query_pairs(reach)):
        independent = "" if rows[a].role == rows[b].role else f" ({rows[a].role}): not independent"
        rows[b].remark = f"same place as {rows[a].name}{independent}"


def _told(setup: AccuracySetup, sources: Sources, rows: list[TestedPoint], wanted: str) -> Outcome:
    unit = sources.unit
    used = np.array([row.open for row in rows], bool)
    d = np.array([row.dz for row in rows])
    found = summary(d[used])
    reference = sources.source("cloud").reference
    settings = {**setup.settings(), "use": wanted}
    outcome = Outcome(STUDY, unit.code, reference.code or reference.name, {}, settings)
    outcome.inputs = [sources.input("cloud", "tested")]
    counted = int(sum(row.used for row in rows))
    outcome.inputs += [sources.input("points", "against", counted)] if setup.points else []
    outcome.inputs += [sources.input("control_list", "control")] if setup.points and setup.control_list else []
    vegetated = np.array([row.vegetated and row.used for row in rows], bool)
    outcome.figures = figures.worded(setup, rows, found, (d, used, vegetated), unit.code)
    outcome.tables = figures.tables(setup, rows, (d, used, vegetated), sources)
    outcome.warnings = [*sources.stated, *(_warnings(setup, sources, rows, (d, used), found) if setup.points else [])]
    outcome.method = figures.method(setup, sources, wanted)
    _draw(outcome, rows, d, used | vegetated)
    return outcome


def _warnings(
    setup: AccuracySetup, sources: Sources, rows: list[TestedPoint], what: tuple[Floats, Mask], found: Summary
) -> list[Note]:
    notes = []
    d, used = what
    odd = sorted((row for row in rows if row.remark and not row.reason), key=lambda row: -abs(row.dz))
    twice = given_twice(tuple(row.name for row in rows))
    if twice:
        notes.append(Note("names", f"names that stand for several points: {first_of(twice, 6)}"))
    if odd:
        names = first_of([f"{row.name} ({row.remark})" for row in odd], 6)
        notes.append(Note("look-at", f"Review {len(odd)} checkpoints before accepting the result: {names}"))
    out = [row for row in rows if row.reason]
    if out:
        names = first_of([f"{row.name} ({row.reason})" for row in out], 6)
        notes.append(Note("left-out", f"{len(out)} of {len(rows)} points excluded: {names}"))
    if not found.n:
        notes.append(Note("no-points", "no point is left to make figures of"))
        return notes
    xy = np.array([row.place[:2] for row in rows])[used]
    notes += _noise_of_cloud(setup, rows, found, sources.unit)
    notes += figures.statistics_notes(setup, sources, (d[used], xy), found)
    roles = {row.role for row in rows if row.used}
    if CONTROL in roles and CHECK in roles:
        notes.append(
            Note("mixed", "control and check points are counted together: control that was adjusted to proves nothing")
        )
    elif roles == {CONTROL}:
        notes.append(Note("control-only", "only control points count: what was adjusted to them proves nothing"))
    return notes


def _noise_of_cloud(setup: AccuracySetup, rows: list[TestedPoint], found: Summary, unit: LengthUnit) -> list[Note]:
    """What the noise of the cloud adds by triangles, where that is a good part of the spread, and what would take it out."""
    rough = [(row.found.rough, row.found.count) for row in rows if row.open and np.isfinite(row.found.rough)]
    if setup.way != TIN or len(rough) < FEWEST_ROUGH:
        return []
    noise, many = (float(value) for value in np.median(np.array(rough, float), axis=0))
    part = noise * TRIANGLE_NOISE
    if not part > NOISE_SHARE * found.std or part * unit.metres < LEAST_NOISE_M or many < FEWEST_IN_PLANE:
        return []
    words = (
        f"The cloud's own noise near the points is {quantity(noise, unit.code)} (1σ); by triangles it makes about "
        f"{quantity(part, unit.code)} of the standard deviation of {quantity(found.std, unit.code)}. A local plane through "
        f"some {many:.0f} points reduces it to {quantity(noise / np.sqrt(many), unit.code)} (Height by: Local plane)"
    )
    return [Note("cloud-noise", words)]


def _draw(outcome: Outcome, rows: list[TestedPoint], d: Floats, used: Mask) -> None:
    xyz = np.array([row.place for row in rows]).reshape(-1, 3)
    known = np.isfinite(xyz).all(axis=1)
    counted = used & known
    code = outcome.unit
    if counted.any():
        names = tuple(row.name for row, on in zip(rows, counted, strict=True) if on)
        # Labels have the names; many points have them beside the mark only.
        few = counted.sum() <= MOST_LABELS
        outcome.layers["differences"] = FoundPoints(
            xyz[counted], "mark", "Differences", code, d[counted], () if few else names
        )
        if few:
            outcome.layers["values"] = FoundLabels(
                xyz[counted], names, title="Names and differences", values=tuple(d[counted].tolist()),
                bounds=(None,) * int(counted.sum()), unit=code,
            )  # fmt: skip
        values = np.sort(d[counted])
        outcome.charts = [
            histogram("Differences", values, labelled("tested − point", code), "points", normal=True),
            Plot("Quantiles", "scatter", _quantiles(len(values)), values, "quantile of the normal distribution",
                 labelled("tested − point", code)),
        ]  # fmt: skip
        _bars(outcome, xyz[counted], d[counted])
    rest = known & ~used
    if rest.any():
        names = tuple(row.name for row, on in zip(rows, rest, strict=True) if on)
        outcome.layers["others"] = FoundPoints(xyz[rest], "label", "Points that do not count", names=names)


def _bars(outcome: Outcome, xyz: Floats, d: Floats) -> None:
    """Signed bars to scale: upwards in plan where what is tested lies above the point, downwards where below; and a scale."""
    most, extent = _usual_most(d), float(np.ptp(xyz[:, :2], axis=0).max())
    d = np.clip(d, -CLIPPED * most, CLIPPED * most)
    if most <= 0 or extent <= 0:
        return
    round_ = round_number(most)
    length = BAR_SHARE * extent * round_ / most
    for name, title, role, mine in (
        ("bars above", "Bars, tested above", "fill", d > 0), ("bars below", "Bars, tested below", "cut", d < 0),
    ):  # fmt: skip
        if mine.any():
            tips = xyz[mine].copy()
            tips[:, 1] += length * d[mine] / round_
            outcome.layers[name] = FoundDimensions(np.stack([xyz[mine], tips], axis=1), (), role, title)
    corner = np.append(xyz[:, :2].min(axis=0) - [BAR_SHARE * extent, 0.0], float(np.median(xyz[:, 2])))
    ends = np.array([[corner, corner + [0.0, length, 0.0]]])
    words = f"bars: {quantity(round_, outcome.unit)}"
    outcome.layers["bar scale"] = FoundDimensions(ends, (words,), "dimension", "Scale of the bars")


def _usual_most(d: Floats) -> float:
    """The largest difference, or three times the 90th percentile where a stray one is far larger."""
    size = np.abs(d)
    return float(min(size.max(), 3 * np.percentile(size, 90)) or size.max())


def _quantiles(n: int) -> Floats:
    """Places of n values in order on the axis of a normal plot: quantiles of (i − 0.5) / n."""
    import scipy

    return np.asarray(scipy.stats.norm.ppf((np.arange(n) + 0.5) / n))


def of_control(outcome: Outcome) -> tuple[Floats, Floats]:
    """Places (n, 3) and differences (n,) of the control points that have a height and are not left out."""
    names = [column.name for column in outcome.tables["points"].columns]
    role, e, n, z, dz, reason = (names.index(name) for name in ("role", "e", "n", "z", "dz", "reason"))
    mine = [row for row in outcome.tables["points"].rows if row[role] == CONTROL and not row[reason]]
    places = np.array([(row[e], row[n], row[z]) for row in mine], float).reshape(-1, 3)
    return places, np.array([row[dz] for row in mine], float)
