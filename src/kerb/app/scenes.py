"""The scene of a session: its visible clouds in their colouring, and the surfaces of the open study."""

from __future__ import annotations

from dataclasses import asdict, fields, replace
from typing import Any

import numpy as np

from kerb.app.session import Session
from kerb.app.theme import Theme
from kerb.core.arrays import Mask
from kerb.core.cloud.classes import CLASS_NAMES, NOISE_CLASSES
from kerb.core.cloud.heights import HEIGHT
from kerb.core.cloud.store import ELEVATION, PART, CloudStore
from kerb.core.geometry import polygon
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.things import CLOUD, MODEL, PICTURE, SURFACE
from kerb.draw.ramps import source_table
from kerb.draw.scene import NO_PART, CloudLayer, MeshLayer, Scene, Style, robust_limits
from kerb.job.job import Change
from kerb.job.state import Holding
from kerb.studies.stockpile.heap import base_elevations, usable_classes

OVER_BASE = "height above base"
MODEL_TONE = (196, 190, 178)
TITLES = {
    "elevation": "Elevation", "colour": "Colour", "class": "Class", "source": "Setup, strip or source",
    "intensity": "Intensity", "slope": "Slope", OVER_BASE: "Above base",
    "source_file": "Source file", HEIGHT: "Above ground", PART: "Part",
}  # fmt: skip
UNITS = {"slope": "deg"}
NOT_OFFERED = {"red", "green", "blue", "nir", "classification", "aside", PART}


def style_of(holding: Holding) -> Style:
    """The colouring of a holding."""
    names = {item.name for item in fields(Style)}
    values = {key: value for key, value in holding.style.items() if key in names}
    if "plain" in values:
        values["plain"] = tuple(values["plain"])
    return Style(**values)


def style_change(holding: Holding, **values: Any) -> Change:
    """Colour a holding otherwise. How a thing looks is no step of the work: undo passes over it."""
    style = {**asdict(style_of(holding)), **values}
    after = replace(holding, style=style)
    return Change(f"Coloured {holding.name}", lambda state: state.with_holding(after), values, undoable=False)


def colour_choices(store: CloudStore) -> list[tuple[str, str]]:
    """What a cloud can be coloured by: only what tells its points apart."""
    choices = [("elevation", "Elevation")]
    if store.has("red"):
        choices.append(("colour", "Colour"))
    if store.has("classification"):
        choices.append(("class", "Class"))
    if store.sets.parts:
        choices.append((PART, TITLES[PART]))
    choices += [("slope", "Slope"), (OVER_BASE, "Height above base")]
    for name in store.names:
        column = store.column(name)
        if name == "source_file":
            choices.append((name, TITLES[name]))
            continue
        plain = column.ndim == 1 and column.strides[0] != 0 and name not in (*NOT_OFFERED, ELEVATION)
        if name == "point_source_id" and plain:
            choices.append(("source", TITLES["source"]))
        elif plain and name != "slope":
            choices.append((name, TITLES.get(name, name.replace("_", " ").capitalize())))
    return choices


def build(session: Session, theme: Theme, wanted: set[str] = frozenset()) -> Scene:
    """The scene as the session is now; points of ``noise`` classes and set ``aside`` only when they are wanted."""
    scene = Scene()
    if session.job is None:
        return scene
    for holding in session.job.state.holdings:
        if not holding.visible:
            continue
        if holding.kind == CLOUD:
            store = session.job.store(holding)
            shown = None if "noise" in wanted or usable_classes(store) is None else _without_noise()
            scene.clouds.append(
                CloudLayer(
                    store, style_of(holding), shown, filters=holding.filters, with_aside="aside" in wanted,
                    hidden_parts=tuple(part.number for part in holding.parts if not part.shown),
                    inks={part.number: _rgb(part.ink) for part in holding.parts},
                )
            )  # fmt: skip
        elif holding.kind in (SURFACE, MODEL):
            scene.meshes.append(_mesh_layer(session, holding))
    _share_elevations(scene)
    outcome = session.outcome()
    if outcome is not None and session.study is not None and not session.stale(session.study):
        gaps = outcome.meshes.get("gaps")
        if gaps is not None and len(gaps.triangles):
            scene.meshes.append(MeshLayer(gaps.vertices, gaps.triangles, theme.ink_rgb, 0.75, 0.75, hatch=True))
    return scene


def _mesh_layer(session: Session, holding: Holding) -> MeshLayer:
    """A surface coloured by its elevations, or a model in one tone; made once and kept, for its shading is costly."""
    key = f"{holding.id} {holding.points}"
    if key not in session.meshes:
        thing = session.job.thing(holding).thing
        if isinstance(thing, ElevationGrid):
            tin = thing.tin()
            vertices, triangles = tin.points, tin.triangles
        else:
            vertices, triangles = thing.vertices, thing.triangles
        z = vertices[triangles[:: max(1, len(triangles) // 200_000)], 2]
        low, high = (float(v) for v in np.percentile(z, [1, 99])) if z.size else (0.0, 1.0)
        ramp = "Shore" if holding.kind == SURFACE else ""
        session.meshes[key] = MeshLayer(vertices, triangles, MODEL_TONE, ramp=ramp, limits=(low, max(high, low + 1e-9)))
    return session.meshes[key]


def _share_elevations(scene: Scene) -> None:
    """Surfaces take ramp and limits of a cloud that is coloured by elevation: one colour means one elevation."""
    cloud = next((layer for layer in scene.clouds if layer.style.by == "elevation"), None)
    if cloud is None:
        return
    limits = cloud.limits()
    scene.meshes = [
        mesh if not mesh.ramp or (mesh.ramp, mesh.limits) == (cloud.style.ramp, limits)
        else replace(mesh, ramp=cloud.style.ramp, limits=limits)
        for mesh in scene.meshes
    ]  # fmt: skip


def low_level(session: Session) -> float:
    """The lowest elevation of anything shown: where a backdrop lies."""
    lows = []
    for holding in session.job.state.holdings if session.job is not None else ():
        if holding.visible and holding.kind != PICTURE:
            lows.append(session.job.bounds_of(holding)[0][2])
    known = [low for low in lows if np.isfinite(low)]
    return float(min(known)) if known else 0.0


def _without_noise() -> Mask:
    shown = np.ones(256, bool)
    shown[list(NOISE_CLASSES)] = False
    return shown


def surface_layers(session: Session, theme: Theme, top: bool, base: bool) -> list[MeshLayer]:
    """Base and top of the open study as surfaces to draw."""
    outcome, layers = session.outcome(), []
    if outcome is None:
        return layers
    if base and "base" in outcome.meshes:
        mesh = outcome.meshes["base"]
        layers.append(MeshLayer(mesh.vertices, mesh.triangles, _rgb(theme.base), 0.85, 0.35))
    if top and "top" in outcome.meshes:
        mesh = outcome.meshes["top"]
        layers.append(MeshLayer(mesh.vertices, mesh.triangles, (214, 178, 112), 1.0, 0.0))
    return layers


VALUE_COLUMNS = {
    "class": "classification", "source": "point_source_id", "source_file": "source_file", PART: PART,
}  # fmt: skip


def value_names(store: CloudStore, column: str, holding: Holding | None = None) -> dict[int, str]:
    """Names of the values of a listed column, where they have any: classes, files, setups, parts."""
    details = store.meta.details
    if column == "classification":
        return CLASS_NAMES
    if column == "source_file":
        return dict(enumerate(details.get("file_names", [])))
    if column == PART and holding is not None:
        return {0: "No part", **{part.number: part.name for part in holding.parts}}
    if column == "point_source_id":
        return {item["number"]: item["name"] for item in details.get("setups", [])}
    return {}


def value_entries(store: CloudStore, by: str, holding: Holding) -> list[tuple[int, str, tuple[int, ...]]]:
    """Values of a column that is a list, with names and colours: parts, setups of a scanner, files joined."""
    if by == PART:
        inks = [(part.number, part.name, _rgb(part.ink)) for part in holding.parts]
        return [*inks, (0, "No part", NO_PART)]
    codes = store.present(VALUE_COLUMNS[by])
    names = value_names(store, VALUE_COLUMNS[by])
    colours = source_table()
    return [(c, str(names.get(c, f"Source {c}")), tuple(int(v) for v in colours[c % 256])) for c in codes]


def data_span(layer: CloudLayer) -> tuple[float, float]:
    """Robust span of the values that colour a layer."""
    return robust_limits(CloudLayer(layer.store, replace(layer.style, low=None, high=None)), share=0.2)


def unit_of(store: CloudStore, by: str, job_unit: str) -> str:
    """Unit code of what a cloud is coloured by."""
    if by in ("elevation", OVER_BASE):
        return job_unit
    return UNITS.get(by, store.unit_of(by))


def lend_height_over_base(session: Session) -> bool:
    """Give the cloud of the open study its heights over the base inside the toe; False where there is no answer."""
    study, answer, job = session.study, session.live.answer, session.job
    if study is None or job is None or answer is None:
        return False
    holding = job.state.holding(study.setup.get("cloud", ""))
    if holding is None:
        return False
    store = job.store(holding)
    ring = session.setup.ring()
    values = np.full(store.count, np.nan, np.float32)
    low, high = ring.min(axis=0), ring.max(axis=0)
    touching = np.all(store.tiles["high"][:, :2] >= low, axis=1) & np.all(store.tiles["low"][:, :2] <= high, axis=1)
    for tile in np.flatnonzero(touching):
        rows = store.rows_of(int(tile))
        points = store.coordinates(rows)
        inside = polygon.contains(ring, points)
        if inside.any():
            over = points[inside, 2] - base_elevations(answer.base, ring, points[inside, :2])
            values[np.arange(rows.start, rows.stop)[inside]] = over
    store.lend(OVER_BASE, values)
    return True


def _rgb(text: str) -> tuple[int, int, int]:
    return int(text[1:3], 16), int(text[3:5], 16), int(text[5:7], 16)
