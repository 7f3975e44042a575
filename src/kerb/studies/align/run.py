"""Bring a cloud or model into line with another: by pairs, by closest points, and say what is not determined."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kerb.core.accuracy.horizontal import fitted
from kerb.core.align.anyhow import any_start
from kerb.core.align.closest import Fit, HowFit, refined
from kerb.core.align.search import upright_start
from kerb.core.align.targets import MeshTarget, PointTarget, Target, evenly
from kerb.core.arrays import Floats
from kerb.core.cloud.view import CloudView
from kerb.core.errors import InputError
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.geometry.rigid import Rigid
from kerb.core.progress import Progress
from kerb.core.quantity import labelled, number, quantity
from kerb.studies.align.pairs import FEWEST_PAIRS, about_place, one_left_out, pairs_of, scale_of
from kerb.studies.align.setup import AlignSetup
from kerb.studies.align.typed import forms_of, typed_motion
from kerb.studies.layers import FoundPoints, Plot, flakes, histogram
from kerb.studies.outcome import Column, Figure, Note, Outcome, Table
from kerb.studies.scope import Scope
from kerb.studies.sources import Sources

STUDY = "align"
# The target is a fair sample of so many points, the moving one of so many.
# Below this share of points with a match a fit is not accepted, unless the overlap is stated (60 to 75 % is good: common
# practice); and the share of changed ground that is worth a word.
ALIGNED, LEAST_CHANGED = 0.6, 0.01
# Pairs that fit so much better mirrored are.
MIRRORED = 0.2
MOST_FIXED, MOST_MOVING, MOST_SEARCHED = 2_000_000, 200_000, 60_000


def run(setup: AlignSetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'does it fit, and how does it have to be moved?'.

    Raises InputError, when pairs or a matrix cannot be; NotDeterminable, when they do not fix a motion; Cancelled.
    """
    setup.check()
    unit = sources.unit
    moving = _points("moving", setup.moving, sources, MOST_MOVING)
    origin = np.floor(moving.mean(axis=0))
    outcome = Outcome(STUDY, unit.code, sources.source("moving").reference.code, {}, setup.settings())
    outcome.inputs = [sources.input("moving", "moving"), sources.input("to", "fixed")]
    start = typed_motion(setup.start, _middle(sources, moving)) if setup.start.strip() else Rigid()
    typed = bool(setup.only_start and setup.start.strip())
    fit: Fit | None = None
    motion = start
    if setup.search_any and not setup.pairs.strip():
        motion = _searched_anyhow(setup, sources, outcome, moving, progress.within(0.0, 0.25))
    elif setup.search and not setup.pairs.strip():
        motion = _searched(setup, sources, outcome, moving, progress.within(0.0, 0.25))
    if setup.pairs.strip():
        motion = _by_pairs(setup, outcome, unit.code)
    if not typed and (not setup.pairs.strip() or setup.refine):
        target = _target(setup, sources, origin, progress.within(0.25, 0.35))
        how = HowFit(setup.overlap, setup.max_distance)
        fit = refined(evenly(moving) - origin, target, _from(motion, origin), how, progress.within(0.35, 0.95))
        motion = _to(fit.motion, origin)
    motion = about_place(motion, moving.mean(axis=0))
    _tell(outcome, motion, fit, unit.code)
    if fit is not None:
        _judge(outcome, setup, fit)
    outcome.method = _words(setup)
    return outcome


def _middle(sources: Sources, moving: Floats) -> Floats:
    """The middle of the box of what moves: what a typed turn is about."""
    store = sources.source("moving").store
    low, high = store.bounds if store is not None else (moving.min(axis=0), moving.max(axis=0))
    return (low + high) / 2


def _from(motion: Rigid, origin: Floats) -> Rigid:
    """A motion of coordinates as one of those from an origin."""
    moved = motion(origin[None])[0]
    return Rigid.of(motion.matrix, np.zeros(3), moved - origin, motion.scale)


def _to(motion: Rigid, origin: Floats) -> Rigid:
    """A motion of coordinates from an origin as one of whole coordinates."""
    return Rigid.of(motion.matrix, np.array(motion.about) + origin, np.array(motion.shift), motion.scale)


def _points(name: str, scope: Scope, sources: Sources, most: int) -> Floats:
    """A fair sample of the points that count, or places evenly on the triangles of a mesh."""
    source = sources.source(name)
    if source.store is not None:
        view: CloudView = scope.of(sources.store(name))
        points = view.sample(most) if view.narrowing != CloudView(source.store).narrowing else source.store.coordinates(
            source.store.fair_rows(most)
        )  # fmt: skip
        if len(points) < 3:
            raise InputError(f"{source.name}: no points count")
        return points
    return _mesh(name, sources).spread(most // 4)


def _mesh(name: str, sources: Sources) -> TriangleMesh:
    source = sources.source(name)
    thing = source.item.thing if source.item is not None else None
    if isinstance(thing, TriangleMesh):
        return thing
    tin = source.whole.tin(*source.whole.bounds)
    return TriangleMesh(tin.points, tin.triangles)


def _target(setup: AlignSetup, sources: Sources, origin: Floats, progress: Progress) -> Target:
    progress.step(0.1, "Reading what stays")
    if sources.source("to").store is not None:
        return PointTarget(evenly(_points("to", setup.to, sources, MOST_FIXED)) - origin)
    mesh = _mesh("to", sources)
    spacing = 1.0
    store = sources.source("moving").store
    if store is not None:
        spacing = store.spacing
    return MeshTarget(TriangleMesh(mesh.vertices - origin, mesh.triangles), spacing)


def _searched(setup: AlignSetup, sources: Sources, outcome: Outcome, moving: Floats, progress: Progress) -> Rigid:
    """A start by heights. What it is worth, and whether another would be as good, is told."""
    found = upright_start(moving, _points("to", setup.to, sources, MOST_MOVING), progress)
    angle = float(np.degrees(np.arctan2(found.motion.matrix[1, 0], found.motion.matrix[0, 0])))
    outcome.warnings.append(
        Note("search", f"the start was found by heights: a turn of {number(angle, 0)}° about the upright; they go together with "
             f"r = {found.correlation:.2f} over {found.overlap:.0%} of the smaller one")
    )  # fmt: skip
    if found.other is not None:
        outcome.warnings.append(
            Note(
                "search-other",
                f"a turn of {number(found.other, 0)}° fits nearly as well: look which is right, or give pairs",
            )
        )
    return found.motion


def _searched_anyhow(
    setup: AlignSetup, sources: Sources, outcome: Outcome, moving: Floats, progress: Progress
) -> Rigid:
    found = any_start(
        moving[:: max(1, len(moving) // MOST_SEARCHED)], _points("to", setup.to, sources, MOST_SEARCHED), progress
    )
    angle = float(np.degrees(np.arccos(np.clip((np.trace(found.motion.matrix) - 1) / 2, -1, 1))))
    said = f"the start was found by places that look alike: a turn of {number(angle, 0)}°"
    said += f"; {found.share:.0%} of the places find another"
    outcome.warnings.append(Note("search", said))
    if found.doubtful:
        outcome.warnings.append(
            Note("search-other", "another motion fits nearly as well: look which is right, or give pairs")
        )
    return found.motion


def _by_pairs(setup: AlignSetup, outcome: Outcome, unit: str) -> Rigid:
    names, moving, fixed = pairs_of(setup.pairs)
    motion, _, left = fitted(moving, fixed, setup.scaled)
    away = np.linalg.norm(left, axis=1)
    alone = one_left_out(moving, fixed, setup.scaled)
    mirrored = [fitted(moving * mirror, fixed, setup.scaled)[2] for mirror in np.ones((3, 3)) - 2 * np.eye(3)]
    least = min(float(np.sqrt(np.mean(rest**2))) for rest in mirrored)
    if len(names) > FEWEST_PAIRS and least < MIRRORED * float(np.sqrt(np.mean(left**2))):
        words = "the pairs fit far better as a mirror image: are two columns exchanged, or one of the wrong sign?"
        outcome.doubt("mirrored", "Pairs look mirrored", words)
    length = lambda name, label: Column(name, unit, label)  # noqa: E731
    outcome.tables["pairs"] = Table(
        "Pairs",
        (Column("name", "", "Name"), length("de", "dE"), length("dn", "dN"), length("dz", "dZ"), length("away", "Distance"),
         length("left_out", "From what the others give")),
        tuple((n, *row, d, o) for n, row, d, o in zip(names, left.tolist(), away.tolist(), alone, strict=True)),
    )  # fmt: skip
    if not setup.scaled:
        change, u95 = (1e6 * value for value in scale_of(moving, fixed))
        said = f"a scale of {number(change, 0, signed=True)} ± {number(u95, 0)} ppm would fit; it is not taken"
        said += " (not significant)" if abs(change) <= u95 else ""
        outcome.warnings.append(Note("scale", said))
    if len(names) == 3:
        outcome.warnings.append(
            Note("few-pairs", "three pairs fix the motion without a check; a fourth would show a mistake")
        )
    outcome.figures["pairs_rms"] = Figure(float(np.sqrt(np.mean(away**2))), unit, "Pairs, rms")
    return motion


def _tell(outcome: Outcome, motion: Rigid, fit: Fit | None, unit: str) -> None:
    angle = float(np.degrees(np.arccos(np.clip((np.trace(motion.matrix) - 1) / 2, -1, 1))))
    east, north, up = motion.shift
    pairs = outcome.figures.pop("pairs_rms", Figure(None, unit, "Pairs, rms"))
    outcome.figures = {
        "iterations": Figure(float(fit.iterations if fit else 0), "", "Rounds"),
        "rms": Figure(fit.rms if fit else pairs.value, unit, "Residual distance, RMS"),
        "mean_abs": Figure(fit.mean_abs if fit else None, unit, "Residual distance, mean absolute"),
        "overlap": Figure(fit.overlap if fit else None, "share", "Points with a match"),
        "rotation": Figure(angle, "deg", "Rotation"),
        "shift": Figure(float(np.linalg.norm(motion.shift)), unit, "Translation", note="the middle of the moving one"),
        "shift_e": Figure(east, unit, "East"),
        "shift_n": Figure(north, unit, "North"),
        "shift_z": Figure(up, unit, "Up"),
        "scale_ppm": Figure(1e6 * (motion.scale - 1) if motion.scale != 1.0 else None, "ppm", "Scale"),
        "pairs_rms": pairs,
    }
    outcome.settings["about"] = list(motion.about)
    matrix = motion.table
    outcome.tables["forms"] = forms_of(motion)
    outcome.tables["matrix"] = Table(
        "Matrix, acting on coordinates",
        tuple(Column(f"c{k}", "", f"c{k}", exact=True) for k in range(1, 5)),
        tuple(map(tuple, matrix.tolist())),
    )
    if fit is None:
        return
    outcome.tables["directions"] = Table(
        "What the data determine",
        (Column("name", "", "Direction"), Column("determined", "", "Determined"), Column("u95", unit, "± 95 %")),
        tuple((d.name, "yes" if d.determined else "no", d.u95 if d.determined else None) for d in fit.directions),
    )

    def signed(value: float) -> str:
        return quantity(value, unit, signed=True)

    for one in fit.directions:
        if not one.determined:
            outcome.warnings.append(
                Note("undetermined", f"Not determined by the data: {one.name}; the result may be off that way")
            )
    outcome.warnings.append(
        Note("moved", f"the middle moves by {quantity(float(np.linalg.norm(motion.shift)), unit)} ({signed(east)} east, "
             f"{signed(north)} north, {signed(up)} up) and turns by {angle:.4f}°")
    )  # fmt: skip
    outcome.charts = [
        Plot(
            "Convergence",
            "curve",
            np.arange(1.0, len(fit.history) + 1),
            np.array(fit.history),
            "round",
            labelled("rms", unit),
        ),
        histogram("Distances after it", fit.left, labelled("distance", unit), "points", normal=True),
    ]
    origin = np.floor(np.array(motion.about))
    places = fit.motion(fit.places) + origin
    area = float(np.prod(np.ptp(places[:, :2], axis=0)))
    apart = np.sqrt(area / len(places))
    outcome.layers["distances"] = flakes(places, fit.left, float(apart), "Distance after it", unit)


def _judge(outcome: Outcome, setup: AlignSetup, fit: Fit) -> None:
    """Withhold the figure of a fit that is none: too few points match, or another motion fits as well."""
    rivals = [note for note in outcome.warnings if note.code == "search-other"]
    if setup.overlap is None and fit.overlap < ALIGNED:
        text = (
            f"{100 * fit.overlap:.0f} % of the moving points lie near what stays; below {100 * ALIGNED:.0f} % the result is not "
            "accepted unless the overlap is stated"
        )
        outcome.doubt("not-aligned", f"Not aligned: {100 * fit.overlap:.0f} % of the points match", text)
    elif fit.uneven:
        text = (
            "distances differ more from place to place than they scatter in each: the scene has changed widely, or the two do "
            "not show the same; align on parts that have not changed"
        )
        outcome.doubt("not-one-scene", "Not reliable: most of the scene differs", text)
    elif rivals:
        outcome.warnings.remove(rivals[0])
        outcome.doubt("search-other", "Ambiguous: another motion fits almost as well", rivals[0].text)
    if outcome.verdict:
        outcome.figures["rms"] = replace(outcome.figures["rms"], value=None, note=outcome.verdict)
    if fit.changed > LEAST_CHANGED:
        words = f"Part of the scene has changed: {100 * fit.changed:.0f} % of the moving points were not counted"
        outcome.warnings.append(Note("changed", words))
        origin = np.floor(np.array(motion_about(outcome)))
        outcome.layers["changed"] = FoundPoints(fit.motion(fit.changed_places) + origin, "gap", "Changed, not counted")


def motion_about(outcome: Outcome) -> tuple[float, ...]:
    """The place that the shifts of an outcome are those of."""
    return tuple(outcome.settings["about"])


def _words(setup: AlignSetup) -> str:
    said = ""
    typed = bool(setup.only_start and setup.start.strip())
    if typed:
        said = "The typed motion as it is. "
    if setup.pairs.strip():
        said = f"Least squares of pairs ({'seven' if setup.scaled else 'six'} parameters; Umeyama 1991). "
    if not typed and (not setup.pairs.strip() or setup.refine):
        said += (
            "Closest points onto the planes of what stays, coarse to fine, with Tukey's weights; directions whose eigenvalue of "
            "the normal equations is no more than noise of the normals makes are held. Shifts are those of the middle."
        )
    return said
