"""The scene of a session: its visible clouds in their colouring, and the surfaces of the open study."""

from __future__ import annotations

from dataclasses import asdict, fields, replace
from typing import Any

import numpy as np

from kerb.app.session import Session
from kerb.app.theme import Theme
from kerb.core.arrays import Mask
from kerb.core.cloud.store import CloudStore
from kerb.core.geometry import polygon
from kerb.draw.scene import CloudLayer, MeshLayer, Scene, Style, robust_limits
from kerb.job.job import Change
from kerb.job.state import Holding
from kerb.studies.stockpile.heap import base_elevations, usable_classes
from kerb.studies.stockpile.setup import NOISE_CLASSES

OVER_BASE = "height above base"
TITLES = {
    "elevation": "Elevation", "colour": "Colour", "class": "Class", "source": "Source file or strip",
    "intensity": "Intensity", "slope": "Slope", OVER_BASE: "Above base",
}  # fmt: skip
UNITS = {"slope": "deg"}
NOT_OFFERED = {"red", "green", "blue", "nir", "classification", "aside", "part"}


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
    choices += [("slope", "Slope"), (OVER_BASE, "Height above base")]
    for name in store.names:
        column = store.column(name)
        plain = column.ndim == 1 and column.strides[0] != 0 and name not in NOT_OFFERED
        if name == "point_source_id" and plain:
            choices.append(("source", TITLES["source"]))
        elif plain and name != "slope":
            choices.append((name, TITLES.get(name, name.replace("_", " ").capitalize())))
    return choices


def build(session: Session, theme: Theme, noise: bool = False) -> Scene:
    """The scene as the session is now; points of noise classes only when they are wanted."""
    scene = Scene()
    if session.job is None:
        return scene
    for holding in session.job.state.holdings:
        if holding.visible:
            store = session.job.store(holding)
            shown = None if noise or usable_classes(store) is None else _without_noise()
            scene.clouds.append(CloudLayer(store, style_of(holding), shown))
    outcome = session.outcome()
    if outcome is not None and session.study is not None and not session.stale(session.study):
        gaps = outcome.meshes.get("gaps")
        if gaps is not None and len(gaps.triangles):
            scene.meshes.append(MeshLayer(gaps.vertices, gaps.triangles, theme.ink_rgb, 0.75, 0.75, hatch=True))
    return scene


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


def data_span(layer: CloudLayer) -> tuple[float, float]:
    """Robust span of the values that colour a layer."""
    return robust_limits(CloudLayer(layer.store, replace(layer.style, low=None, high=None)), share=0.2)


def unit_of(store: CloudStore, by: str, job_unit: str) -> str:
    """Unit code of what a cloud is coloured by."""
    if by in ("elevation", OVER_BASE):
        return job_unit
    return UNITS.get(by, store.meta.attributes.get(by, ""))


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
