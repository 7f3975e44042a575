"""The scene of a session: its visible clouds in their colouring, surfaces, and what the open study found."""

from __future__ import annotations

from dataclasses import asdict, fields, replace
from typing import Any

import numpy as np
import shapely

from kerb.app.session import Session
from kerb.app.theme import Theme
from kerb.core.arrays import Floats
from kerb.core.cloud.classes import CLASS_NAMES
from kerb.core.cloud.heights import HEIGHT
from kerb.core.cloud.store import ELEVATION, PART, CloudStore
from kerb.core.cloud.view import CloudView, Narrowing
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.things import CLOUD, MODEL, PICTURE, SURFACE
from kerb.draw.ramps import ROUND, source_table
from kerb.draw.scene import ASPECT, NO_PART, SLOPE, CloudLayer, MeshLayer, Scene, Style, robust_limits
from kerb.job.job import Change
from kerb.job.state import Holding
from kerb.studies.outcome import Attribute
from kerb.studies.roles import ACCENT, BASE, EDGE, INK, SHEET, on_screen
from kerb.studies.scope import usable_classes, without_noise
from kerb.studies.showing import How, put

# Points that tell how high the ground lies along a line.
ALONG = 2000

MODEL_TONE = (196, 190, 178)
TITLES = {
    "elevation": "Elevation", "colour": "Colour", "class": "Class", "source": "Setup, strip or source",
    "intensity": "Intensity", "slope": "Slope", "source_file": "Source file", HEIGHT: "Above ground",
    PART: "Part",
}  # fmt: skip
UNITS = {"slope": "deg"}
PLAIN, FULL_TURN = "plain", (0.0, 360.0)
# What surfaces can be coloured by, in words, and the unit where it is not that of the job.
SURFACE_BY = {ELEVATION: ("Elevation", ""), SLOPE: ("Slope", "deg"), ASPECT: ("Aspect", "deg"), PLAIN: ("One tone", "")}
NOT_OFFERED = {"red", "green", "blue", "nir", "classification", "aside", PART}


# Triangles of a surface in a picture; more are finer than its pixels.
MOST_DRAWN = 2_000_000


def style_of(holding: Holding) -> Style:
    """The colouring of a holding."""
    names = {item.name for item in fields(Style)}
    values = {key: value for key, value in holding.style.items() if key in names}
    for name in ("plain", "bands"):
        if name in values:
            values[name] = tuple(values[name])
    return Style(**values)


def style_change(holding: Holding, **values: Any) -> Change:
    """Colour a holding otherwise. How a thing looks is no step of the work: undo passes over it."""
    style = {**asdict(style_of(holding)), **values}
    after = replace(holding, style=style)
    return Change(f"Coloured {holding.name}", lambda state: state.with_holding(after), values).as_look()


def column_of(attribute: Attribute) -> str:
    """The name of the column that an attribute of an outcome is lent under."""
    return attribute.title.lower()


def colour_choices(store: CloudStore, attributes: dict[str, Attribute]) -> list[tuple[str, str]]:
    """What a cloud can be coloured by: only what tells its points apart, and what the open study offers."""
    choices = [("elevation", "Elevation")]
    if store.has("red"):
        choices.append(("colour", "Colour"))
    if store.has("classification"):
        choices.append(("class", "Class"))
    if store.sets.parts:
        choices.append((PART, TITLES[PART]))
    choices.append(("slope", "Slope"))
    choices += [(column_of(attribute), attribute.title) for attribute in attributes.values()]
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


def build(session: Session, theme: Theme, wanted: set[str], drawn: frozenset[str] = frozenset()) -> Scene:
    """The scene as the session is now; points of ``noise`` classes and set ``aside`` only when they are wanted.

    ``drawn`` names layers of the open study that are drawn with handles.
    """
    scene = Scene()
    if session.job is None:
        return scene
    surfaces: dict[int, str] = {}
    for holding in session.job.state.holdings:
        if not holding.visible:
            continue
        held = session.held[1] if session.held is not None and session.held[0] == holding.id else None
        if holding.kind == CLOUD:
            store, style = session.job.store(holding), style_of(holding)
            if held is not None:
                # Its colours stay what they are while it is moved.
                limits = (
                    CloudLayer(store, style).limits() if store.has(style.by) or style.by == ELEVATION else (None, None)
                )
                style = replace(style, low=limits[0], high=limits[1])
                store = store.snapshot()
                store.place(held if store.placement is None else store.placement.then(held))
            shown = None if "noise" in wanted or usable_classes(store) is None else without_noise()
            scene.clouds.append(
                CloudLayer(
                    store, style, shown, filters=holding.filters, with_aside="aside" in wanted,
                    hidden_parts=tuple(part.number for part in holding.parts if not part.shown),
                    inks={part.number: _rgb(part.ink) for part in holding.parts},
                )
            )  # fmt: skip
        elif holding.kind in (SURFACE, MODEL):
            if holding.kind == SURFACE and held is None:
                surfaces[len(scene.meshes)] = _mesh_key(holding)
            mesh = _mesh_layer(session, holding)
            scene.meshes.append(mesh if held is None else replace(mesh, vertices=held(mesh.vertices)))
    _colour_surfaces(scene, session, surfaces)
    outcome = session.shown().outcome
    if outcome is not None:
        look = session.study.look if session.study is not None else {}
        put(scene, outcome, palette(theme), wanted, drawn, How(session.decimals, look))
    return scene


def palette(theme: Theme) -> dict[str, tuple[int, int, int]]:
    """The colour of each role of a layer."""
    return on_screen({
        INK: theme.ink_rgb, SHEET: _rgb(theme.sheet), ACCENT: _rgb(theme.accent), EDGE: _rgb(theme.edge), BASE: _rgb(theme.base),
    })  # fmt: skip


def surface_by(style: Style) -> str:
    """What surfaces of a style are coloured by."""
    return style.by if style.by in SURFACE_BY else ELEVATION


def _mesh_key(holding: Holding) -> str:
    return f"{holding.data} {holding.edited} {holding.placement}"


def _mesh_layer(session: Session, holding: Holding) -> MeshLayer:
    """A surface coloured by its elevations, or a model in one tone; made once and kept, for its shading is costly."""
    key = _mesh_key(holding)
    if key not in session.meshes:
        thing: Any = session.open_job.thing(holding).thing
        if isinstance(thing, ElevationGrid):
            tin = thing.tin(MOST_DRAWN)
            vertices, triangles = tin.points, tin.triangles
        else:
            vertices, triangles = thing.vertices, thing.triangles
        z = vertices[triangles[:: max(1, len(triangles) // 200_000)], 2]
        low, high = (float(v) for v in np.percentile(z, [1, 99])) if z.size else (0.0, 1.0)
        ramp = "Shore" if holding.kind == SURFACE else ""
        span = (low, max(high, low + 1e-9))
        session.meshes[key] = MeshLayer(vertices, triangles, MODEL_TONE, ramp=ramp, limits=span, span=span)
    return session.meshes[key]


def elevation_cloud(scene: Scene) -> CloudLayer | None:
    """The cloud whose ramp of elevations surfaces share."""
    return next((layer for layer in scene.clouds if layer.style.by == "elevation"), None)


def first_surface(session: Session) -> Holding | None:
    """The surface whose style all that are shown share."""
    state = session.job.state if session.job is not None else None
    return next((h for h in state.of_kind(SURFACE) if h.visible), None) if state is not None else None


def surface_span(scene: Scene) -> tuple[float, float] | None:
    """Span of what colours the surfaces shown; None where there are none, or they have one tone."""
    found = [m.span for m in scene.meshes if m.ramp and m.values is None]
    return (min(low for low, _ in found), max(high for _, high in found)) if found else None


def _colour_surfaces(scene: Scene, session: Session, keys: dict[int, str]) -> None:
    """All surfaces share the look of the first; ``keys`` are those of them among the meshes.

    One colour means one elevation: where that colours them they take ramp and limits of a cloud that is coloured by it too.
    """
    first = first_surface(session)
    if first is None or not keys:
        return
    style = style_of(first)
    by = surface_by(style)
    cloud = elevation_cloud(scene) if by == ELEVATION else None
    ends = style if cloud is None else cloud.style
    low, high = (style.low, style.high) if cloud is None else cloud.limits()
    spans = [scene.meshes[place].span for place in keys]
    if by == SLOPE:
        spans = [(0.0, scene.meshes[place].steepest) for place in keys]
    span = FULL_TURN if by == ASPECT else (min(one for one, _ in spans), max(one for _, one in spans))
    wanted: dict[str, Any] = {
        "by": by, "ramp": ROUND if by == ASPECT else "" if by == PLAIN else ends.ramp,
        "limits": span if by == ASPECT else (span[0] if low is None else low, span[1] if high is None else high),
        "bands": () if by == ASPECT else ends.bands, "edges": style.edges, "contour": style.contour,
    }  # fmt: skip
    if by != ELEVATION:
        wanted["span"] = span
    for place, key in keys.items():
        mesh = session.meshes.get(f"{key} as shown", scene.meshes[place])
        if any(getattr(mesh, name) != value for name, value in wanted.items()):
            mesh = replace(scene.meshes[place], **wanted)
        session.meshes[f"{key} as shown"] = scene.meshes[place] = mesh


def low_level(session: Session) -> float:
    """The lowest elevation of anything shown: where a backdrop lies."""
    lows = []
    for holding in session.job.state.holdings if session.job is not None else ():
        if holding.visible and holding.kind != PICTURE:
            lows.append(session.open_job.bounds_of(holding)[0][2])
    known = [low for low in lows if np.isfinite(low)]
    return float(min(known)) if known else 0.0


def level_along(session: Session, line: Floats, aside: float) -> float | None:
    """Middle elevation of the shown clouds along a line (n, 2), up to so far beside it; None where none of them lies there."""
    if session.job is None or not len(line):
        return None
    strip = shapely.LineString(line - line[0]).buffer(aside, cap_style="flat")
    ring = shapely.get_coordinates(strip.exterior)[:-1] + line[0]
    found = [
        CloudView(session.job.store(holding), Narrowing(ring=ring)).sample(ALONG)[:, 2]
        for holding in session.job.state.of_kind(CLOUD) if holding.visible
    ]  # fmt: skip
    heights = np.concatenate([np.empty(0), *found])
    return float(np.median(heights)) if len(heights) else None


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
    return robust_limits(replace(layer, style=replace(layer.style, low=None, high=None)), share=0.2)


def unit_of(store: CloudStore, by: str, job_unit: str) -> str:
    """Unit code of what a cloud is coloured by."""
    if by == "elevation":
        return job_unit
    return UNITS.get(by, store.unit_of(by))


def _rgb(text: str) -> tuple[int, int, int]:
    return int(text[1:3], 16), int(text[3:5], 16), int(text[5:7], 16)
