"""Lay a face out in its frame at two dates, and say what lies before it and what is gone from it."""

from __future__ import annotations

from typing import Any

import numpy as np

from kerb.core.arrays import TINY, Floats, Mask, ends
from kerb.core.cloud.setups import setups_of
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.area import Area, ring_of
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.geometry.polygon import box
from kerb.core.progress import Progress
from kerb.core.quantity import labelled, quantity, round_number
from kerb.core.surface.cloud_top import STRAY_M, strays, usual_spacing
from kerb.core.surface.columns import several_layers
from kerb.core.surface.frames import UP, AboutAxis, Frame, about_axis, on_plane
from kerb.core.surface.making import MOST_VERTICES
from kerb.core.surface.overlay import Change, change, covered, mask_of, pieces
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.things import SURFACE, Placed
from kerb.core.units import LengthUnit
from kerb.studies.cutfill.compared import RIM_SHARE, Compared
from kerb.studies.cutfill.run import CELLS_ALONG, by_grid
from kerb.studies.cutfill.setup import CutfillSetup
from kerb.studies.cutfill.uncertainty import Where, parts
from kerb.studies.fields import COUNTED
from kerb.studies.inputs import strays_note
from kerb.studies.layers import FoundLine, FoundMesh, FoundPoints, histogram
from kerb.studies.outcome import Column, Figure, Input, Note, Outcome, Table
from kerb.studies.parts import against, combined
from kerb.studies.rockface.figures import LABELS
from kerb.studies.rockface.setup import AXIS, RockfaceSetup
from kerb.studies.sources import Sources

STUDY, FIELDS = "rockface", ("earlier", "later")
# The longest edge by itself, in usual longest edges of triangles; so many times that is taken over the cut of a whole turn.
LONGEST_EDGES = 8.0
LAYER_EDGES, LAYER_M, MOST_MARKED = 4.0, 0.5, 4000
MOST_PIECES, ROUND = 600_000, 48
# What looks down by more than two degrees leans over.
LEANS = float(np.sin(np.radians(2.0)))


def run(setup: RockfaceSetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'what came off, or onto, a face?'.

    Raises InputError, when there are too many points; NotDeterminable, when they tell no frame or do not meet; Cancelled.
    """
    setup.check()
    unit = sources.unit
    clouds = [
        _points(setup, sources, name, progress.within(0.2 * k, 0.2 * k + 0.1))
        for k, name in enumerate(("earlier", "later"))
    ]
    frame = _frame(setup, sources, clouds[0])
    progress.step(0.35, "Triangulating in the frame")
    framed = [frame.of(points) for points in clouds]
    gone = [_strays(setup, one, frame, unit) for one in framed]
    odd = [points[mask] for points, mask in zip(clouds, gone, strict=True)]
    clouds = [points[~mask] for points, mask in zip(clouds, gone, strict=True)]
    framed = [points[~mask] for points, mask in zip(framed, gone, strict=True)]
    tins = [_tin(points, frame, setup.longest) for points in framed]
    names = (sources.source("earlier").name, sources.source("later").name)
    found = Compared(tins[0], tins[1], names)
    turn = _once_round(frame, framed)
    mask = mask_of(turn) if turn is not None else None
    exact = change(found.earlier, found.later, mask, 0.0, progress.within(0.5, 0.8))
    if exact.area <= 0:
        raise NotDeterminable("the two dates share no part of the face")
    second = by_grid(found, turn, _cell(setup, found, turn), 0.0)
    where = Where(np.empty((0, 3)), (turn,) if turn is not None else ())
    bounds = parts(CutfillSetup(level_error=setup.level_error), found, exact, where, unit.symbol)
    outcome = Outcome(STUDY, unit.code, sources.store("earlier").reference.code, {}, setup.settings())
    outcome.seen_from = _seen_from(frame, clouds[0])
    outcome.settings["seen_from"] = list(outcome.seen_from)
    outcome.inputs = [
        _input(setup, sources, name, len(points)) for name, points in zip(("earlier", "later"), clouds, strict=True)
    ]
    only = [max(covered(tin, mask) - exact.area, 0.0) for tin in tins]
    over = _overhang(found.earlier, frame)
    outcome.figures = _figures(frame, exact, second, (combined(bounds), only, over), unit, framed)
    about = (Column("part", "", "Part"), Column("u95", unit.volume_code(), "± 95 %"), Column("how", "", "How"))
    outcome.tables["uncertainty"] = Table(
        "Uncertainty budget (95 %)", about, tuple((part.name, part.u95, part.how) for part in bounds)
    )
    outcome.tables["frame"] = _frame_table(frame, unit)
    _draw(outcome, found, frame, mask, progress.within(0.85, 0.95))
    _say(outcome, setup, found, (exact, only), unit)
    for name, points in zip(names, odd, strict=True):
        note = strays_note(name, points, unit.code)
        if note is not None:
            outcome.warnings.append(note)
            outcome.layers[f"strays {name}"] = FoundPoints(points, "gap", f"Excluded strays of {name}")
    _mark_layers(outcome, framed, frame, tins[0], unit)
    dz = _depths(found, frame, turn)
    outcome.charts = [histogram("Changes", dz, labelled("change", unit.code), "places")]
    outcome.method = _method(setup, frame, names)
    return outcome


def _strays(setup: RockfaceSetup, framed: Floats, frame: Frame, unit: LengthUnit) -> Mask:
    """Which points (n,) stand alone before or behind the face."""
    if setup.strays == COUNTED:
        return np.zeros(len(framed), np.bool_)
    own = np.column_stack([framed[:, :2], frame.depth(framed[:, 2])])
    return strays(own, usual_spacing(own), STRAY_M / unit.metres)


def face_of(setup: RockfaceSetup, sources: Sources, progress: Progress) -> Placed:
    """The face at the later date as triangles in the world, to be written. Raises as :func:`run` does."""
    clouds = [_points(setup, sources, name, progress) for name in FIELDS]
    frame = _frame(setup, sources, clouds[0])
    tin = _tin(frame.of(clouds[1]), frame, setup.longest)
    return Placed(SURFACE, TriangleMesh(frame.back(tin.points), tin.triangles), sources.store("later").reference)


def _points(setup: RockfaceSetup, sources: Sources, name: str, progress: Progress) -> Floats:
    scope = getattr(setup, name)
    ring = setup.area.ring("area") if setup.area else None
    view = scope.of(sources.store(name), ring)
    points = view.points(progress)
    said = sources.source(name).name
    if len(points) > MOST_VERTICES:
        raise InputError(f"{said}: {len(points)} points are more than {MOST_VERTICES}: give an area, or thin it")
    if len(points) < 3:
        raise NotDeterminable(f"{said}: fewer than three points count")
    return points


def _frame(setup: RockfaceSetup, sources: Sources, points: Floats) -> Frame:
    if setup.frame == AXIS:
        line = None
        if setup.axis:
            places = setup.axis.places[:2]
            middle = float(np.median(points[:, 2]))
            typed = [setup.axis.level(k) for k in range(len(places))]
            line = np.column_stack([places, [middle if z is None else z for z in typed]])
            if len(line) == 1:
                line = np.concatenate([line, line + UP])
        return about_axis(points, line, setup.turned)
    stood = setups_of(sources.store("earlier").meta.details)
    eye = np.mean([one.position for one in stood], axis=0) if stood else None
    if setup.front:
        level = setup.front.level(0)
        eye = np.append(setup.front.places[0], float(np.median(points[:, 2])) if level is None else level)
    return on_plane(points, eye, setup.turned)


def _tin(framed: Floats, frame: Frame, longest: float | None) -> Tin:
    turn = frame.whole_turn
    if turn is None:
        return _short(triangulate(framed), longest)
    # What lies beside the cut is laid on both sides of it, so that the surface goes on over it.
    first = triangulate(framed)
    reach = (longest if longest is not None else LONGEST_EDGES * float(np.median(first.longest_edges))) * 2
    low, high = framed[:, 0] < -turn / 2 + reach, framed[:, 0] > turn / 2 - reach
    if not low.any() or not high.any():
        return _short(first, longest)
    sides = [framed, framed[low] + [turn, 0, 0], framed[high] - [turn, 0, 0]]
    return _short(triangulate(np.concatenate(sides)), longest)


def _short(tin: Tin, longest: float | None) -> Tin:
    edges = tin.longest_edges
    limit = longest if longest is not None else LONGEST_EDGES * float(np.median(edges))
    if not (edges <= limit).any():
        raise NotDeterminable(f"every triangle has an edge longer than {limit:g}")
    return tin.compact(edges <= limit)


def _once_round(frame: Frame, framed: list[Floats]) -> Area | None:
    """Once round an axis as an area of the frame, so that nothing counts twice; None on a plane."""
    if frame.whole_turn is None:
        return None
    half = frame.whole_turn / 2
    low, high = (float(one[1]) for one in ends(np.concatenate(framed)[:, :2]))
    return Area((ring_of(box((-half, low - 1), (half, high + 1))),), "once round")


def _cell(setup: RockfaceSetup, found: Compared, turn: Area | None) -> float:
    if setup.cell is not None:
        return setup.cell
    low, high = ends(found.earlier.points[:, :2])
    return round_number(float((high - low).max()) / CELLS_ALONG)


def _input(setup: RockfaceSetup, sources: Sources, name: str, used: int) -> Input:
    return sources.input(name, name, used, getattr(setup, name).words(sources.store(name)))


def _overhang(tin: Tin, frame: Frame) -> float:
    """Share of the face whose way out leans down: what one elevation a place cannot hold."""
    corners = frame.back(tin.points)[tin.triangles]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    size = np.linalg.norm(normal, axis=1)
    return float(size[normal[:, 2] < -LEANS * size].sum() / max(float(size.sum()), TINY))


def _figures(
    frame: Frame, exact: Change, second: Change, more: tuple[float | None, list[float], float], unit: LengthUnit,
    framed: list[Floats],
) -> dict[str, Figure]:  # fmt: skip
    u95, only, over = more
    length, area, volume = unit.code, unit.area_code(), unit.volume_code()
    low, high = ends(framed[0])
    percent = against(second.net, exact.net, u95)
    values: dict[str, tuple[float | None, str, float | None, str]] = {
        "net": (exact.net, volume, u95, "grown minus gone"),
        "gone": (exact.cut, volume, None, "the later lies behind the earlier"),
        "grown": (exact.fill, volume, None, "the later lies before the earlier"),
        "gone_area": (exact.cut_area, area, None, "along the frame"),
        "grown_area": (exact.fill_area, area, None, "along the frame"),
        "face_area": (exact.area, area, None, "along the frame, where both dates are"),
        "only_earlier_area": (only[0], area, None, "not counted"),
        "only_later_area": (only[1], area, None, "not counted"),
        "overhang": (100 * over, "%", None, "of the earlier face"),
        "along": (float(high[0] - low[0]), length, None, ""),
        "across": (float(high[1] - low[1]), length, None, ""),
        "check_net": (second.net, volume, None, "by columns of the frame"),
        "check_percent": (percent, "%", None, ""),
    }
    return {name: Figure(value, code, LABELS[name], bound, note) for name, (value, code, bound, note) in values.items()}


def _frame_table(frame: Frame, unit: LengthUnit) -> Table:
    columns = (Column("what", "", "What"), Column("east", unit.code, "East"), Column("north", unit.code, "North"),
               Column("up", unit.code, "Up"))  # fmt: skip
    ways = (
        ("cut open opposite to", "a quarter turn on", "axis")
        if isinstance(frame, AboutAxis)
        else ("along", "across", "out")
    )
    rows: list[tuple[Any, ...]] = [("middle", *frame.middle.tolist())]
    rows += [(name, *axis.tolist()) for name, axis in zip(ways, frame.axes, strict=True)]
    if isinstance(frame, AboutAxis):
        rows.append(("radius", frame.radius, None, None))
    return Table("Frame", columns, tuple(rows))


def _depths(found: Compared, frame: Frame, turn: Area | None) -> Floats:
    low, high = ends(found.earlier.points[:, :2])
    if turn is not None:
        low, high = np.maximum(low, turn.outline.min(axis=0)), np.minimum(high, turn.outline.max(axis=0))
    places = np.stack(np.meshgrid(*(np.linspace(low[k], high[k], 200) for k in (0, 1))), axis=-1).reshape(-1, 2)
    out = [frame.depth(tin.at(places)) for tin in (found.later, found.earlier)]
    dz = out[0] - out[1]
    return np.asarray(dz[np.isfinite(dz)])


def _draw(outcome: Outcome, found: Compared, frame: Frame, mask: Tin | None, progress: Progress) -> None:
    later, earlier = found.later, found.earlier
    if len(later.triangles) + len(earlier.triangles) <= MOST_PIECES:
        corners, dz = pieces(earlier, later, mask, progress)
        framed, dz = corners.reshape(-1, 3), dz.ravel()
        triangles = np.arange(len(framed), dtype=np.int32).reshape(-1, 3)
    else:
        framed, triangles = later.points, later.triangles
        dz = framed[:, 2] - earlier.at(framed[:, :2])
        keep = np.isfinite(dz)[triangles].all(axis=1)
        triangles = triangles[keep]
    values = np.nan_to_num(frame.depth(framed[:, 2]) - frame.depth(framed[:, 2] - dz))
    title = "Change: before the face above nought, behind it below"
    outcome.layers["difference"] = FoundMesh(frame.back(framed), triangles, "map", title, outcome.unit, values)
    for tin, name, title in ((earlier, "earlier", found.names[0]), (later, "later", found.names[1])):
        outcome.layers[name] = FoundMesh(frame.back(tin.points), tin.triangles, "base", title, shown=False)
    low, high = ends(np.concatenate([earlier.points, later.points])[:, :2])
    if isinstance(frame, AboutAxis):
        half = np.pi * frame.radius
        along, r = np.linspace(max(low[0], -half), min(high[0], half), ROUND), frame.radius / 2 * frame.sign
        for name, across in (("foot", low[1]), ("head", high[1])):
            arc = np.column_stack([along, np.full(ROUND, across), np.full(ROUND, r)])
            outcome.layers[f"frame {name}"] = FoundLine(frame.back(arc), "dimension", "Frame", shown=name == "foot")
        axis = frame.middle + np.array([[low[1]], [high[1]]]) * frame.axes[2]
        outcome.layers["axis"] = FoundLine(axis, "dimension", "Axis of the frame")
    else:
        rim = np.column_stack([box(low, high), np.zeros(4)])
        outcome.layers["frame"] = FoundLine(frame.back(rim), "dimension", "Frame", closed=True)


def _say(
    outcome: Outcome, setup: RockfaceSetup, found: Compared, more: tuple[Change, list[float]], unit: LengthUnit
) -> None:
    exact, only = more
    earlier, later = found.names
    words = "before" if exact.net >= 0 else "behind"
    assert outcome.seen_from is not None
    heading, tilt = outcome.seen_from
    side = f"bearing {(heading + 180) % 360:.0f}°, {abs(tilt):.0f}° {'up' if tilt >= 0 else 'down'}"
    about = (
        "away from its axis"
        if setup.frame == AXIS and not setup.turned
        else "towards its axis"
        if setup.frame == AXIS
        else side
    )
    notes = [
        Note("sense", f"grown: {later} lies before {earlier}, as seen from outside; as a whole it lies {words}"),
        Note("side", f"out of the face was taken to be {about}; “Other side out” turns it round"),
    ]
    notes += [
        Note("uncovered", f"{quantity(size, unit.area_code())} is covered by {name} only and not counted")
        for size, name in zip(only, found.names, strict=True) if size > RIM_SHARE * exact.area
    ]  # fmt: skip
    if setup.earlier == setup.later:
        notes.insert(0, Note("same", f"{earlier} is held against itself: choose the other date"))
    if setup.level_error is None:
        notes.append(Note("no-place", "how the two dates lie to one another is not stated: the bound is without it"))
    outcome.warnings += notes


def _mark_layers(outcome: Outcome, framed: list[Floats], frame: Frame, tin: Tin, unit: LengthUnit) -> None:
    """Where even the frame has several layers: a bush before the face, or a face that folds back."""
    cell = LAYER_EDGES * float(np.median(tin.longest_edges))
    own = [np.column_stack([points[:, :2], frame.depth(points[:, 2])]) for points in framed]
    places = np.concatenate([several_layers(points, cell, LAYER_M / unit.metres) for points in own])
    if not len(places):
        return
    area = quantity(len(np.unique(np.round(places / cell), axis=0)) * cell**2, unit.area_code())
    outcome.warnings.append(
        Note("layers", f"on {area} points lie in several layers even in this frame (a bush before the face, or a face that folds "
             "back): set them aside, or take a smaller area or another frame")
    )  # fmt: skip
    out = np.full(len(places), float(np.median(tin.points[:, 2])))
    marked = frame.back(np.column_stack([places, out])[:MOST_MARKED])
    outcome.layers["layers"] = FoundPoints(marked, "gap", "Several layers", shown=len(places) <= MOST_MARKED)


def _seen_from(frame: Frame, points: Floats) -> tuple[float, float]:
    """Heading and tilt of one who looks at the face from before it."""
    out = frame.axes[2]
    if isinstance(frame, AboutAxis):
        turn = frame.sign * float(frame.of(points)[:, 0].mean()) / frame.radius
        out = frame.sign * (np.cos(turn) * frame.axes[0] + np.sin(turn) * frame.axes[1])
    heading = float(np.degrees(np.arctan2(-out[0], -out[1])) % 360.0) if np.hypot(out[0], out[1]) > 1e-6 else 0.0
    return heading, float(np.degrees(np.arcsin(np.clip(out[2], -1.0, 1.0))))


def _method(setup: RockfaceSetup, frame: Frame, names: tuple[str, str]) -> str:
    where = "laid on the plane that fits the earlier points best"
    if isinstance(frame, AboutAxis):
        axis = "a drawn axis" if setup.axis else "the axis of the cylinder that fits the earlier points best"
        where = f"unrolled about {axis}"
    return (
        f"{names[1]} minus {names[0]}, both triangulated in a frame {where}. Both triangulations are laid over one another and "
        "their prisms added exactly, parted where the sign changes."
    )
