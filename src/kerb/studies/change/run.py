"""Distances of a cloud from another survey, a surface or a model, with statistics, regions and a value for each point."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import scipy

from kerb.core.arrays import Floats
from kerb.core.change.distances import (
    BY_PLANE,
    MESH,
    NEAREST,
    NORMAL,
    SHAPES,
    SIGNED,
    TRIANGULATED,
    VERTICAL,
    Distances,
    How,
    distances,
)  # fmt: skip
from kerb.core.change.regions import regions
from kerb.core.cloud.neighbours import NeighbourIndex
from kerb.core.cloud.store import PART, CloudStore
from kerb.core.cloud.view import CloudView
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.closest import MeshDistance
from kerb.core.geometry.mesh import Element, TriangleMesh, joined
from kerb.core.geometry.shapes import PLANE, Shape, fitted
from kerb.core.progress import Progress
from kerb.core.quantity import labelled, quantity
from kerb.core.robust import spread
from kerb.core.surface.surfaces import Surface, TinSurface
from kerb.core.surface.tin import Tin
from kerb.core.things import SURFACE
from kerb.core.units import LengthUnit
from kerb.studies.change.setup import AUTO, ChangeSetup
from kerb.studies.layers import FoundLabels, flakes, histogram, needles
from kerb.studies.outcome import Attribute, Column, Figure, Note, Outcome, Table
from kerb.studies.sources import Sources, numbered

STUDY = "change"
MOST_DRAWN = 200_000
MOST_REGIONS = 30
# Distance lines that are drawn, and how thick they are, in spacings.
MOST_LINES, LINE_WIDTH = 60_000, 0.15
SHAPE_POINTS = 20_000
# A probe farther from all compared points than this has none.
PROBE_SPACINGS = 10.0
SCALE_SPACINGS, CYLINDER_SPACINGS, DEPTH_SPACINGS, REGION_SPACINGS = 20.0, 10.0, 40.0, 6.0
WORDS = {
    "nearest": "nearest point", "plane": "plane through the neighbours of the nearest point",
    "triangulated": "Delaunay triangle of the neighbours of the nearest point",
    "quadric": "quadric through the neighbours of the nearest point",
    "normal": "along the normal of the reference, between means in a cylinder", "mesh": "nearest place of the mesh",
    "vertical": "upright", "fit-plane": "from the plane fitted to the reference",
    "fit-cylinder": "from the cylinder fitted to the reference", "fit-sphere": "from the sphere fitted to the reference",
}  # fmt: skip

LARGEST = "Largest change"


def run(setup: ChangeSetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'how far did it move?'. Raises InputError, when it cannot be measured in this way; NotDeterminable; Cancelled."""
    setup.check()
    store, unit = sources.store("compared"), sources.unit
    ring = setup.area.ring("area") if setup.area else None
    view = setup.compared.of(store, ring)
    method, why = _method(setup, sources)
    how = _how(setup, sources, method)
    against = _against(setup, sources, method, view)
    found = distances(view, against, how, progress.within(0.0, 0.9))
    known = np.isfinite(found.distance)
    if not known.any():
        raise NotDeterminable("no point of the compared cloud has a match: do they not meet?")
    outcome = Outcome(STUDY, unit.code, store.reference.code, {}, setup.settings() | {"method": method})
    outcome.inputs = [
        sources.input("compared", "compared", len(found.rows), setup.compared.words(store)), sources.input("against", "against"),
        *(sources.input(numbered("further", number), "further model") for number in range(len(setup.further))),
    ]  # fmt: skip
    away = found.distance[known]
    outcome.figures = _figures(setup, found, away, method, unit)
    outcome.warnings += _notes(setup, sources, outcome, method, why)
    outcome.tables["statistics"] = _statistics(away, unit.code)
    if isinstance(against, Shape):
        outcome.tables["shape"] = _shape(against, unit)
    if isinstance(against, MeshDistance) and against.repaired:
        name, many = sources.source("against").name, against.repaired
        words = f"{name}: {many} triangles look the other way than those beside them; they were turned for the sign"
        outcome.warnings.append(Note("turned-triangles", words))
    _by_pieces(outcome, setup, (store, found, against), unit)
    if setup.probes:
        _probe(outcome, setup, store, found, unit)
    _draw(outcome, setup, store, found, unit)
    outcome.charts = [histogram("Distances", _sample(away), labelled("distance", unit.code), "points")]
    title = f"Distance from {sources.source('against').name}"
    outcome.attributes = {"distance": Attribute(title, "", "", unit.code, _column(store, found.rows, found.distance))}
    for axis, name in enumerate(("east", "north", "up")):
        column = _column(store, found.rows, found.parts[:, axis])
        outcome.attributes[f"distance_{name}"] = Attribute(f"{title}, {name}", "", "", unit.code, column)
    if method == NORMAL:
        column = _column(store, found.rows, found.detection)
        outcome.attributes["detection"] = Attribute("Level of detection (95 %)", "", "", unit.code, column)
    outcome.method = _words(setup, how, method, unit)
    return outcome


def _column(store: CloudStore, rows: np.ndarray, values: np.ndarray) -> np.ndarray:
    column = np.full(store.count, np.nan, np.float32)
    column[rows] = values
    return column


def _thing(sources: Sources, key: str = "against") -> object | None:
    item = sources.source(key).item
    return item.thing if item is not None else None


def _mesh(sources: Sources, key: str, several: bool) -> TriangleMesh:
    """A model, or a surface as triangles; of several each element bears the name of its model. Raises InputError for a cloud."""
    source, thing = sources.source(key), _thing(sources, key)
    if source.store is not None:
        raise InputError(f"{source.name}: is a cloud, a distance to a mesh needs triangles")
    if not isinstance(thing, TriangleMesh):
        low, high = source.whole.bounds
        tin: Tin = source.whole.tin(low, high)
        thing = TriangleMesh(tin.points, tin.triangles)
    if not several:
        return thing
    whole = (Element("", "", 0, len(thing.triangles)),)
    named = tuple(replace(one, name=f"{source.name}: {one.name}".rstrip(": ")) for one in thing.elements or whole)
    return TriangleMesh(thing.vertices, thing.triangles, named)


def _method(setup: ChangeSetup, sources: Sources) -> tuple[str, str]:
    """The way that is taken, and why where Kerb proposed it. Raises InputError, when it does not fit the reference."""
    cloud = sources.source("against").store is not None
    if setup.method == AUTO:
        return _proposed(sources)
    if cloud and setup.method == MESH:
        raise InputError(f"{sources.source('against').name}: is a cloud, a distance to a mesh needs triangles")
    if not cloud and setup.method not in (MESH, VERTICAL):
        raise InputError(
            f"{sources.source('against').name}: is no cloud: '{setup.method}' needs one; take mesh or vertical"
        )
    return setup.method, ""


def _proposed(sources: Sources) -> tuple[str, str]:
    """By what the reference is, and how rough and flat it is about its own planes."""
    source = sources.source("against")
    if source.store is None:
        if source.kind == SURFACE and not isinstance(_thing(sources), TriangleMesh):
            return VERTICAL, "the reference is a grid of elevations"
        return MESH, "the reference has triangles"
    store = source.store
    rows = store.fair_rows(3000)
    sample = store.coordinates(rows)
    around = store.coordinates(store.fair_rows(400_000))
    index = NeighbourIndex(around - around[0])
    _, near = index.nearest(sample - around[0], min(16, len(around)))
    groups = around[near] - sample[:, None]
    values = np.linalg.eigvalsh(
        np.einsum("ijk,ijl->ikl", groups - groups.mean(axis=1, keepdims=True), groups) / groups.shape[1]
    )
    rough = float(np.sqrt(np.median(np.maximum(values[:, 0], 0.0))))
    wide = float(np.sqrt(np.median(values[:, 2])))
    size = quantity(rough, sources.unit.code)
    if rough > 0.25 * wide:
        return (
            NORMAL,
            f"neighbours of the reference scatter by {size}, a quarter of their distance and more: means are compared",
        )
    if rough < 0.02 * wide:
        return TRIANGULATED, f"the reference is smooth (neighbours scatter by {size})"
    return BY_PLANE, f"the reference is nearly flat between neighbours, with a noise of {size}"


def _how(setup: ChangeSetup, sources: Sources, method: str) -> How:
    store = sources.source("against").store
    step = max(store.spacing, sources.store("compared").spacing) if store is not None else 1.0
    return How(
        method, round(setup.neighbours), setup.radius, setup.max_distance,
        setup.normal_scale if setup.normal_scale is not None else SCALE_SPACINGS * step,
        setup.cylinder if setup.cylinder is not None else CYLINDER_SPACINGS * step,
        setup.depth if setup.depth is not None else DEPTH_SPACINGS * step, setup.registration_error,
        setup.coarsest,
    )  # fmt: skip


def _against(
    setup: ChangeSetup, sources: Sources, method: str, view: CloudView
) -> CloudView | MeshDistance | Surface | Shape:
    if setup.further and method != MESH:
        raise InputError(f"further models go with distances from a mesh, not with “{WORDS[method]}”")
    if method in SHAPES:
        reference = setup.against.of(sources.store("against"))
        rows = reference.all_rows(Progress())
        # A shape is told by a fair share of the points.
        return fitted(SHAPES[method], reference.store.coordinates(rows[:: max(1, len(rows) // SHAPE_POINTS)]))
    if method == MESH:
        keys = ["against", *(numbered("further", number) for number in range(len(setup.further)))]
        return MeshDistance(joined([_mesh(sources, key, len(keys) > 1) for key in keys]))
    if method == VERTICAL:
        surface = sources.surface("against", setup.against)
        low, high = view.store.bounds
        return TinSurface(surface.tin(low, high), surface.reference)
    return setup.against.of(sources.store("against"))


def _shape(shape: Shape, unit: LengthUnit) -> Table:
    """What the fitted shape is, in the unit of the job."""
    rows: list[tuple[str, float]] = [(f"Centre, {word}", float(v)) for word, v in zip("ENZ", shape.centre, strict=True)]
    if shape.radius:
        rows.append(("Radius", shape.radius))
    rows.append(("Points from it, rms", shape.rms))
    if np.any(shape.axis):
        what = "Normal" if shape.kind == PLANE else "Axis"
        rows += [(f"{what}, {word} (no unit)", float(v)) for word, v in zip("ENZ", shape.axis, strict=True)]
    return Table(f"Fitted {shape.kind}", (Column("what", "", ""), Column("value", unit.code, "Value")), tuple(rows))


def _by_pieces(
    outcome: Outcome, setup: ChangeSetup, what: tuple[CloudStore, Distances, object], unit: LengthUnit
) -> None:
    """Statistics of each element of a model, and of each part of the compared cloud, where there is more than one."""
    store, found, against = what
    known = np.flatnonzero(np.isfinite(found.distance))
    if isinstance(against, MeshDistance) and found.faces is not None and len(against.elements) > 1:
        elements = against.elements
        firsts = np.array([one.first for one in elements])
        number = np.searchsorted(firsts, found.faces[known], side="right") - 1
        names = [one.name for one in elements]
        outcome.tables["elements"] = _pieces(
            "By element of the model", names, number, found.distance[known], (setup, unit)
        )
    if store.part_names and store.has(PART):
        number = store.column(PART)[found.rows[known]].astype(np.int64)
        names = ["(no part)"] * (max([0, *store.part_names.values()]) + 1)
        for name, part in store.part_names.items():
            names[part] = name
        outcome.tables["parts"] = _pieces("By part of the cloud", names, number, found.distance[known], (setup, unit))


def _pieces(
    title: str, names: list[str], number: np.ndarray, away: Floats, how: tuple[ChangeSetup, LengthUnit]
) -> Table:
    setup, unit = how
    rows = []
    for piece in np.unique(number).tolist():
        mine = away[number == piece]
        inside = float(np.mean(np.abs(mine) <= setup.tolerance)) if setup.tolerance is not None else None
        rows.append((names[piece], float(len(mine)), float(mine.mean()), float(np.median(mine)),
                     float(np.sqrt(np.mean(mine**2))), float(mine.min()), float(mine.max()), inside))  # fmt: skip
    length = unit.code
    columns = (
        Column("name", "", "Name"), Column("count", "", "Points"), Column("mean", length, "Mean"),
        Column("median", length, "Median"), Column("rms", length, "RMS"), Column("min", length, "Least"),
        Column("max", length, "Largest"), Column("within", "share", "Within the tolerance"),
    )  # fmt: skip
    return Table(title, columns, tuple(sorted(rows, key=lambda row: -abs(row[3]))))


def _probe(outcome: Outcome, setup: ChangeSetup, store: CloudStore, found: Distances, unit: LengthUnit) -> None:
    """The compared point nearest in plan to each probe, the place it is counted from, and what lies between."""
    known = np.flatnonzero(np.isfinite(found.distance))
    xyz = store.coordinates(found.rows[known])
    tree: Any = scipy.spatial.cKDTree(xyz[:, :2])
    away, near = tree.query(setup.probes.places)
    rows = []
    for number, (at, off) in enumerate(zip(near.tolist(), away.tolist(), strict=True), 1):
        if off > PROBE_SPACINGS * store.spacing:
            outcome.warnings.append(Note("probe", f"probe {number} has no compared point near it"))
            continue
        parts = found.parts[known[at]].astype(float)
        rows.append((str(number), *xyz[at], *(xyz[at] - parts), *parts, found.distance[known[at]]))
    code = unit.code
    outcome.tables["probes"] = Table(
        "Probes",
        (Column("number", "", "No."), *(Column(n, code, w) for n, w in (
            ("e", "Easting"), ("n", "Northing"), ("z", "Elevation"), ("ref_e", "Reference E"), ("ref_n", "Reference N"),
            ("ref_z", "Reference Z"), ("de", "dE"), ("dn", "dN"), ("dz", "dZ"), ("distance", "Distance")))),
        tuple((row[0], *(float(v) for v in row[1:])) for row in rows),
    )  # fmt: skip
    if rows:
        places = np.array([row[1:4] for row in rows], float)
        values = tuple(float(row[-1]) for row in rows)
        names = tuple(f"P{row[0]}" for row in rows)
        outcome.layers["probes"] = FoundLabels(
            places, names, title="Probes", values=values, bounds=(None,) * len(rows), unit=code
        )


def _figures(setup: ChangeSetup, found: Distances, away: Floats, method: str, unit: LengthUnit) -> dict[str, Figure]:
    length, tolerance = unit.code, setup.tolerance
    signed = method in SIGNED
    detection = found.detection[np.isfinite(found.distance)]
    significant = float(np.mean(np.abs(away) > detection)) if method == NORMAL else None
    inside = float(np.mean(np.abs(away) <= tolerance)) if tolerance is not None else None
    percentile = np.percentile(away, [5, 50, 95])
    far = float(percentile[0] if abs(percentile[0]) > abs(percentile[2]) else percentile[2])
    share = "5th" if far == percentile[0] else "95th"
    return {
        "largest_change": Figure(far, length, LARGEST, note=f"the {share} percentile of all distances: no region of change"),
        "count": Figure(float(len(away)), "", "Points with a distance"),
        "unmatched": Figure(float(len(found.distance) - len(away)), "", "Without a match"),
        "mean": Figure(float(away.mean()), length, "Mean"),
        "std": Figure(float(away.std(ddof=1)) if len(away) > 1 else None, length, "Standard deviation"),
        "rms": Figure(float(np.sqrt(np.mean(away**2))), length, "RMS"),
        "median": Figure(float(percentile[1]), length, "Median"),
        "p05": Figure(float(percentile[0]), length, "5th percentile"),
        "p95": Figure(float(percentile[2]), length, "95th percentile"),
        "min": Figure(float(away.min()), length, "Least"),
        "max": Figure(float(away.max()), length, "Largest"),
        "mean_abs": Figure(float(np.abs(away).mean()) if signed else None, length, "Mean size"),
        "within": Figure(inside, "share", "Within the tolerance"),
        "significant_share": Figure(significant, "share", "Share beyond the level of detection"),
        "detection": Figure(float(np.median(detection)) if method == NORMAL else None, length, "Level of detection, median"),
    }  # fmt: skip


def _statistics(away: Floats, unit: str) -> Table:
    named = zip(("1st", "25th", "75th", "99th"), np.percentile(away, [1, 25, 75, 99]).tolist(), strict=True)
    rows = (("Spread (1.4826 MAD)", spread(away)), *((f"{name} percentile", value) for name, value in named))
    return Table("Further statistics", (Column("what", "", ""), Column("value", unit, "Value")), rows)


def _notes(setup: ChangeSetup, sources: Sources, outcome: Outcome, method: str, why: str) -> list[Note]:
    one, other = sources.source("compared").name, sources.source("against").name
    middle = outcome.value("median") or 0.0
    notes = []
    if method in SIGNED:
        side = "on the positive side of" if middle > 0 else "on the negative side of"
        side = ("above" if middle > 0 else "below") if method == VERTICAL else side
        notes.append(Note("sense", f"compared: {one}, against: {other}; half the points lie "
                          f"{quantity(abs(middle), outcome.unit)} or more {side} it"))  # fmt: skip
    else:
        notes.append(Note("sense", f"compared: {one}, against: {other}; distances have no sign"))
    if why:
        notes.append(Note("proposed", f"{WORDS[method]}: {why}"))
    if method == NEAREST:
        store = sources.source("against").store
        if store is not None:
            notes.append(Note("nearest", f"a nearest point lies up to half a spacing aside: distances below about "
                              f"{quantity(store.spacing / 2, outcome.unit)} tell nothing"))  # fmt: skip
    lost = outcome.value("unmatched") or 0.0
    if lost:
        share = lost / (lost + (outcome.value("count") or 0.0))
        notes.append(Note("unmatched", f"{int(lost)} points ({100 * share:.1f} %) have no match and count for nothing"))
    return notes


def _sample(values: Floats, most: int = 500_000) -> Floats:
    return values[:: max(1, len(values) // most)]


def _draw(outcome: Outcome, setup: ChangeSetup, store: CloudStore, found: Distances, unit: LengthUnit) -> None:
    known = np.flatnonzero(np.isfinite(found.distance))
    some = known[:: max(1, len(known) // MOST_DRAWN)]
    xyz = store.coordinates(found.rows[some])
    apart = store.spacing * np.sqrt(max(len(known) / max(len(some), 1), 1.0))
    title = "Distance: positive outside or above"
    outcome.layers["distances"] = flakes(xyz, found.distance[some], float(apart), title, unit.code)
    few = some[:: max(1, len(some) // MOST_LINES)]
    if len(few):
        ends = store.coordinates(found.rows[few]), found.parts[few].astype(float)
        thin = LINE_WIDTH * float(store.spacing)
        outcome.layers["lines"] = needles(
            ends[0] - ends[1], ends[1] * setup.stretch, thin, found.distance[few], unit.code
        )
    level = setup.tolerance
    if level is None and "detection" in outcome.figures:
        level = outcome.value("detection")
    if not level or outcome.value("mean_abs") is None:
        return
    every = store.coordinates(found.rows[known])
    made = regions(every, found.distance[known], level, REGION_SPACINGS * store.spacing)[:MOST_REGIONS]
    area, volume = unit.area_code(), unit.volume_code()
    outcome.tables["regions"] = Table(
        "Regions of change",
        (Column("number", "", "No."), Column("e", unit.code, "Easting"), Column("n", unit.code, "Northing"),
         Column("area", area, "Area in plan"), Column("mean", unit.code, "Mean distance"),
         Column("volume", volume, "Area × mean", bound="u95"), Column("u95", volume, "± 95 %, rim")),
        tuple((k, *one.middle[:2], one.area, one.mean, one.volume, one.volume_u95) for k, one in enumerate(made, 1)),
    )  # fmt: skip
    if made:
        largest = "mean distance of the region of change with the largest volume"
        outcome.figures["largest_change"] = Figure(made[0].mean, unit.code, LARGEST, note=largest)
        places = np.array([one.middle for one in made])
        names, means = tuple(str(k) for k in range(1, len(made) + 1)), tuple(one.mean for one in made)
        outcome.layers["regions"] = FoundLabels(
            places, names, title="Regions of change", values=means, bounds=(None,) * len(made), unit=unit.code
        )


def _words(setup: ChangeSetup, how: How, method: str, unit: LengthUnit) -> str:
    said = f"Distance of each compared point: {WORDS[method]}."
    if method == NORMAL:
        scales = " or ".join(f"{scale:.4g}" for scale in how.scales)
        said += (
            f" Normals of neighbourhoods {scales} {unit.symbol} wide, cylinders {how.cylinder:.4g} wide "
            f"and twice {how.depth:.4g} long; level of detection 1.96 (√(s₁²/n₁ + s₂²/n₂) + {how.error:g})."
        )
    elif method in ("plane", "triangulated", "quadric"):
        said += (
            f" {how.neighbours} neighbours."
            if how.radius is None
            else f" Neighbours within {how.radius:g} {unit.symbol}."
        )
    if setup.max_distance is not None:
        said += f" Points farther than {setup.max_distance:g} {unit.symbol} have no match."
    return said
