"""The steps that mend a surface: what each is drawn as and does. In order they are the history of the surface."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.setting import Setting
from kerb.core.surface import mending
from kerb.core.surface.mending import Mended
from kerb.core.surface.surfaces import Surface
from kerb.studies.drawn import Drawn, Item
from kerb.studies.fields import LINE, PLACES, RING, Way

# Shores are sampled so many times round, whatever their length.
SAMPLES = 200
ROUNDS = 5
SHORE_SHARE = 10.0

WAYS = (
    Way("vertex", "Vertex", PLACES, "Add vertices, at the value or, without one, on the surface"),
    Way("level", "Level of a vertex", PLACES, "Give the nearest vertices the value as elevation"),
    Way("off", "Without a vertex", PLACES, "Take the nearest vertices out"),
    Way("swap", "Other edge", PLACES, "Turn the edge nearest to each place to join the other two corners"),
    Way("line", "Break line", LINE, "Edges follow the line: vertices with typed elevations at those, others on the surface"),
    Way("bare", "Without vertices", RING, "Take all vertices inside out"),
    Way("spikes", "Remove spikes", RING, "Remove vertices inside that stand off their neighbours by more than the value"),
    Way("smooth", "Smoother", RING, "Vertices inside go to the mean of their neighbours, as many times as the value says (5)"),
    Way("raise", "Raised by", RING, "Raise what lies inside by the value, lower it where that is below nought"),
    Way("mean", "Mean brought to", RING, "Raise or lower what lies inside until its mean level is the value"),
    Way("water", "Water at a level", RING, "Make the area level at the value; without one at its lowest shore"),
    Way("still", "Water at mean shore", RING, "Make the area level at the mean of its shore"),
    Way("share", "Water at a share of shore", RING, "Make the area level so that the value in % of its shore lies lower (10)"),
    Way("river", "River", RING, "Draw down one bank and back up the other, as many vertices on each: water that falls steadily"),
    Way("keep", "Only inside", RING, "Leave out what lies outside"),
    Way("cut", "Without inside", RING, "Leave out what lies inside"),
    Way("other", "Other surface inside", RING, "Take the other surface inside; along the line, the mean of both"),
)  # fmt: skip
KINDS = {way.id: way.kind for way in WAYS}
LABELS = {way.id: way.label for way in WAYS}
WAY, VALUE = "way", "value"
OWN = (
    Setting("Way", "What the step does", "text", choices=tuple((way.id, way.label) for way in WAYS)),
    Setting(
        "Value", "A level or a height in the unit of the job, a share in % or a number of rounds, as the way needs it"
    ),
)
NEEDED = {"level": "an elevation", "spikes": "a height", "raise": "a height", "mean": "a level"}


def apply(m: Mended, step: Item, other: Surface | None) -> Mended:
    """A surface after one more step. Raises InputError naming the step and saying why it cannot be done."""
    way, value = str(step.value(WAY, "")), step.value(VALUE)
    if way not in KINDS:
        raise InputError(f"{step.name}: '{way}' is no way to mend a surface")
    if way in NEEDED and value is None:
        raise InputError(f"{step.name}: needs {NEEDED[way]} as its value")
    try:
        if KINDS[way] == PLACES:
            return _at_places(m, way, step.ring, value)
        if KINDS[way] == LINE:
            typed = [step.ring.level(k) for k in range(len(step.ring.xy))]
            z = np.array([np.nan if level is None else level for level in typed])
            return mending.along_line(m, np.column_stack([step.ring.places, z]))[0]
        return _in_ring(m, way, step.ring.ring(step.name), (value, other))
    except InputError as error:
        said = str(error)
        raise InputError(said if said.startswith(step.name) else f"{step.name}: {said}") from None


def _at_places(m: Mended, way: str, drawn: Drawn, value: float | None) -> Mended:
    for number, place in enumerate(drawn.places):
        own = drawn.level(number)
        level = own if own is not None else value
        if way == "vertex":
            m = mending.with_vertex(m, place, level)
        elif way == "level":
            assert level is not None
            m = mending.vertex_level(m, place, level)
        elif way == "off":
            m = mending.without_vertices(m, np.array([mending.nearest_vertex(m, place)]))
        else:
            m = mending.swapped(m, place)
    return m


def _in_ring(m: Mended, way: str, ring: Floats, more: tuple[float | None, Surface | None]) -> Mended:
    value, other = more
    step = float(np.hypot(*(np.roll(ring, -1, axis=0) - ring).T).sum()) / SAMPLES
    simple: dict[str, Callable[[], Mended]] = {
        "bare": lambda: mending.without_vertices(m, mending.inside(m, ring)),
        "spikes": lambda: mending.without_spikes(m, ring, abs(float(value or 0.0))),
        "smooth": lambda: mending.smoothed(m, ring, max(int(ROUNDS if value is None else value), 1)),
        "raise": lambda: mending.raised(m, ring, float(value or 0.0)),
        "mean": lambda: mending.brought_to_mean(m, ring, float(value or 0.0)),
        "river": lambda: mending.river(m, ring, step),
        "keep": lambda: mending.cut_out(m, ring, keep=True),
        "cut": lambda: mending.cut_out(m, ring),
    }
    if way in simple:
        return simple[way]()
    if way == "other":
        if other is None:
            raise InputError("choose the other surface")
        return mending.other_inside(m, ring, other.at, other.tin(ring.min(axis=0), ring.max(axis=0)).points)
    return mending.water(m, ring, water_level(m, way, ring, value))


def water_level(m: Mended, way: str, ring: Floats, value: float | None) -> float:
    """The level of a water area by its way. Raises InputError, when no shore lies on the surface."""
    if way == "water" and value is not None:
        return float(value)
    levels = mending.shore(m, ring, float(np.hypot(*(np.roll(ring, -1, axis=0) - ring).T).sum()) / SAMPLES)
    if not len(levels):
        raise InputError("no part of the line lies on the surface")
    if way == "water":
        return float(levels.min())
    if way == "still":
        return float(levels.mean())
    return float(np.percentile(levels, SHORE_SHARE if value is None else np.clip(value, 0.0, 100.0)))


# The history as a file: GeoJSON (RFC 7946) in the system of the job, a feature a step, in order.

SHAPES = {RING: "Polygon", LINE: "LineString", PLACES: "MultiPoint"}


def to_features(steps: tuple[Item, ...]) -> str:
    """Steps as the text of a GeoJSON file."""
    features = []
    for step in steps:
        kind = KINDS[str(step.value(WAY))]
        places: list[Any] = [list(place) for place in step.ring.xy]
        about = {"name": step.name, WAY: step.value(WAY), VALUE: step.value(VALUE), "taken": step.taken}
        if step.ring.z:
            about["levels"] = list(step.ring.z)
        coordinates: list[Any] = [[*places, places[0]]] if kind == RING else places
        geometry = {"type": SHAPES[kind], "coordinates": coordinates}
        features.append(json.dumps({"type": "Feature", "properties": about, "geometry": geometry}))
    return '{"type": "FeatureCollection", "features": [\n' + ",\n".join(features) + "\n]}\n"


def from_features(path: Path) -> tuple[Item, ...]:
    """The steps that a GeoJSON file holds. Raises InputError naming the file and what is wrong."""
    try:
        features = json.loads(path.read_text(encoding="utf-8"))["features"]
        return tuple(_step(feature, number) for number, feature in enumerate(features, 1))
    except OSError as error:
        raise InputError(f"{path}: {error.strerror or error}") from None
    except InputError as error:
        raise InputError(f"{path}: {error}") from None
    except (ValueError, KeyError, TypeError, IndexError, AttributeError):
        raise InputError(f"{path}: is no file of steps that mend a surface (GeoJSON features with a way)") from None


def _step(feature: Any, number: int) -> Item:
    about, geometry = feature["properties"], feature["geometry"]
    name, way = str(about.get("name") or f"Step {number}"), str(about[WAY])
    if way not in KINDS:
        raise InputError(f"{name}: '{way}' is no way to mend a surface; these are: {', '.join(KINDS)}")
    kind, places = KINDS[way], geometry["coordinates"]
    if geometry["type"] == "Point" and kind == PLACES:
        places = [places]
    elif geometry["type"] != SHAPES[kind]:
        raise InputError(f"{name}: is a {geometry['type']}, for '{way}' it has to be a {SHAPES[kind]}")
    if kind == RING:
        places = places[0][:-1] if places[0][0] == places[0][-1] else places[0]
    drawn = Drawn.of(places)
    levels = about.get("levels") or [place[2] if len(place) > 2 else None for place in places]
    if any(level is not None for level in levels):
        drawn = replace(drawn, z=tuple(None if level is None else float(level) for level in levels))
    if not np.isfinite(drawn.places).all() or len(drawn.z) not in (0, len(drawn.xy)):
        raise InputError(f"{name}: a place is not a number")
    value = about.get(VALUE)
    numbers = [float(one) for one in (value, *drawn.z) if one is not None]
    if not np.isfinite(numbers).all():
        raise InputError(f"{name}: its value or a level is not a number")
    values = ((WAY, way), *(((VALUE, float(value)),) if value is not None else ()))
    return Item(f"s{number}", name, drawn, values, bool(about.get("taken", True)), "file")
