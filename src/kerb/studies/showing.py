"""An outcome's layers as layers of a scene: the one place where roles become colours, for views and report alike."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from kerb.core.arrays import ends
from kerb.core.quantity import Decimals
from kerb.draw.ramps import SIGNED, table
from kerb.draw.scene import Colour, LineLayer, MarkLayer, MeshLayer, Scene
from kerb.studies.layers import FoundDimensions, FoundLabels, FoundLine, FoundMesh, FoundPoints, Layer
from kerb.studies.outcome import Outcome
from kerb.studies.roles import ROLES

GAPS = (2.0, 3.0)


def toggles(outcome: Outcome | None) -> list[tuple[str, str]]:
    """(name, title) of the layers that are shown on wish."""
    if outcome is None:
        return []
    return [(name, layer.title or name) for name, layer in outcome.layers.items() if not layer.shown]


@dataclass(frozen=True)
class How:
    """How values in labels are printed, and how meshes with values are coloured (low, high, ramp, bands): evenly about nought
    where nothing is said."""

    decimals: Decimals = field(default_factory=Decimals)
    look: Mapping[str, Any] = field(default_factory=dict)


PLAIN = How()


def put(
    scene: Scene, outcome: Outcome, palette: Mapping[str, Colour], wanted: set[str], skip: frozenset[str] = frozenset(),
    how: How = PLAIN,
) -> None:  # fmt: skip
    """Add the layers of an outcome to a scene: those shown by themselves, and those in ``wanted``.

    ``skip`` names those that whoever asks draws with handles.
    """
    for name, layer in outcome.layers.items():
        if (layer.shown or name in wanted) and name not in skip:
            _put(scene, layer, palette, how)


def limits_of(values: np.ndarray | None, look: Mapping[str, Any]) -> tuple[float, float]:
    """Between which values a map is coloured."""
    low, high = (
        even if typed is None else float(typed)
        for even, typed in zip(_even(values), (look.get("low"), look.get("high")), strict=True)
    )
    return (low, high) if high > low else (low, low + 1e-9)


def _put(scene: Scene, layer: Layer, palette: Mapping[str, Colour], how: How) -> None:
    decimals, look = how.decimals, how.look
    colour = palette.get(layer.role, palette["mark"])
    if isinstance(layer, FoundMesh):
        if len(layer.triangles):
            front, behind = ROLES.get(layer.role, ROLES["mark"]).seen
            ramp = str(look.get("ramp", layer.ramp or SIGNED)) if layer.values is not None else ""
            own = {"low": layer.limits[0], "high": layer.limits[1]} if layer.limits else {}
            look = {**own, "bands": layer.bands, **{key: value for key, value in look.items() if value is not None}}
            span = _reach(layer.values)
            scene.meshes.append(
                MeshLayer(layer.vertices, layer.triangles, colour, front, behind, layer.hatch, ramp,
                          limits_of(layer.values, look), span, layer.values, tuple(look.get("bands", ())),
                          title=layer.title, unit=layer.unit)
            )  # fmt: skip
    elif isinstance(layer, FoundLine):
        if len(layer.xyz):
            dash = GAPS if layer.gapped else ()
            scene.lines.append(LineLayer(layer.xyz, colour, closed=layer.closed, title=layer.title, dash=dash))
    elif isinstance(layer, FoundPoints):
        colours = np.tile(np.array(colour, np.uint8), (len(layer.xyz), 1))
        if layer.values is not None:
            low, high = _even(layer.values)
            inks = table(SIGNED)
            # What has no value is drawn as zero is.
            place = np.interp(np.nan_to_num(layer.values), (low, high), (0, len(inks) - 1))
            colours = inks[place.astype(int)]
        scene.marks.append(MarkLayer(layer.xyz, colours, layer.names))
    elif isinstance(layer, FoundLabels):
        colours = np.tile(np.array(colour, np.uint8), (len(layer.xyz), 1))
        scene.marks.append(MarkLayer(layer.xyz, colours, layer.said(decimals), marked=False))
    elif isinstance(layer, FoundDimensions):
        scene.lines += [LineLayer(ends, colour, 1.1) for ends in layer.ends]
        colours = np.tile(np.array(colour, np.uint8), (len(layer.ends), 1))
        scene.marks.append(MarkLayer(layer.ends.mean(axis=1), colours, layer.texts, marked=False))


def _reach(values: np.ndarray | None) -> tuple[float, float]:
    """The least and the largest value there is."""
    known = values[np.isfinite(values)] if values is not None else np.array([])
    return (float(known.min()), float(known.max())) if len(known) else (0.0, 1.0)


def _even(values: np.ndarray | None) -> tuple[float, float]:
    """Limits that are alike on both sides of zero."""
    known = np.abs(values[np.isfinite(values)]) if values is not None else ()
    most = float(np.percentile(known, 98)) if len(known) else 0.0
    most = most if most > 0 else 1.0
    return -most, most


def bounds_of(outcome: Outcome) -> tuple[np.ndarray, np.ndarray] | None:
    """Lowest and highest corner, (3,) each, of everything the outcome draws; None where it draws nothing."""
    places = []
    for layer in outcome.layers.values():
        if isinstance(layer, FoundMesh):
            places.append(layer.vertices)
        elif isinstance(layer, FoundDimensions):
            places.append(layer.ends.reshape(-1, 3))
        else:
            places.append(layer.xyz)
    known = [xyz[np.isfinite(xyz).all(axis=1)] for xyz in places if len(xyz)]
    known = [xyz for xyz in known if len(xyz)]
    return ends(np.concatenate(known)) if known else None
