"""Read IFC models through ifcopenshell: element types with their counts, and the chosen ones as meshes.

Geometry comes in metres, placed by the model's own map conversion where it has one (IfcMapConversion, ISO 16739-1).
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import FormatError, InputError
from kerb.core.geometry.mesh import Element, TriangleMesh, checked, joined
from kerb.core.parallel import cores
from kerb.core.progress import Progress, silent
from kerb.core.reference import ReferenceSystem, from_text, local_grid
from kerb.core.units import METRE
from kerb.formats.apart import run_apart
from kerb.formats.opened import first_bytes

LARGEST = 2_000_000_000
LEFT_OUT = ("IfcOpeningElement", "IfcSpace", "IfcSite", "IfcAnnotation", "IfcGrid", "IfcVirtualElement")


@dataclass(frozen=True)
class IfcHead:
    """Element types with a shape and how many there are; ``usual`` are those ticked at first."""

    types: dict[str, int]
    schema: str
    reference: ReferenceSystem
    notes: list[tuple[str, str]] = field(default_factory=list)

    @property
    def usual(self) -> tuple[str, ...]:
        """Types that are built: all but openings, spaces and the like."""
        return tuple(name for name in self.types if name not in LEFT_OUT)


def read_ifc_head(path: Path) -> IfcHead:
    """What a model holds. Raises InputError or FormatError naming the file."""
    _check(path)
    return run_apart(head_of, path, progress=silent())


def read_ifc(path: Path, types: tuple[str, ...], progress: Progress) -> tuple[TriangleMesh, list[tuple[str, str]]]:
    """Meshes of the chosen element types, all usual ones when none is named; an element each.

    Raises
    ------
    InputError or FormatError, when the file is no model or none of its chosen elements has a shape; Cancelled.
    """
    _check(path)
    return run_apart(meshes_of, path, types, progress=progress)


def head_of(path: Path, _progress: Progress) -> IfcHead:
    """:func:`read_ifc_head` in the process that may end by it."""
    model = _model(path)
    counts = Counter(product.is_a() for product in model.by_type("IfcProduct") if product.Representation is not None)
    if not counts:
        raise FormatError(f"{path}: holds no element with a shape")
    reference, notes = _reference(model)
    return IfcHead(dict(sorted(counts.items())), model.schema, reference, notes)


def meshes_of(path: Path, types: tuple[str, ...], progress: Progress) -> tuple[TriangleMesh, list[tuple[str, str]]]:
    """:func:`read_ifc` in the process that may end by it."""
    import ifcopenshell.geom

    head, model = head_of(path, progress), _model(path)
    wanted = types or head.usual
    unknown = [name for name in wanted if name not in head.types]
    if unknown:
        raise InputError(f"{path}: holds no {', '.join(unknown)}; there are {', '.join(head.types)}")
    products = [
        p for name in wanted for p in model.by_type(name, include_subtypes=False) if p.Representation is not None
    ]
    settings = ifcopenshell.geom.settings()
    settings.set("use-world-coords", True)
    settings.set("weld-vertices", True)
    meshes, done = [], 0
    iterator = ifcopenshell.geom.iterator(settings, model, cores(), include=products)
    if iterator.initialize():
        while True:
            shape = iterator.get()
            done += 1
            progress.step(done / max(len(products), 1), f"Shaping {path.name}")
            mesh = _mesh_of(shape, model, path)
            if mesh is not None:
                meshes.append(mesh)
            if not iterator.next():
                break
    if not meshes:
        raise FormatError(f"{path}: none of the chosen elements has a shape that can be made")
    notes = list(head.notes)
    lost = len(products) - len(meshes)
    if lost > 0:
        notes.append(("no-shape", f"{lost} elements have a shape that cannot be made; left out"))
    order = {name: place for place, name in enumerate(wanted)}
    meshes.sort(key=lambda mesh: order.get(mesh.elements[0].kind, 0))
    return joined(meshes).mapped(_map_conversion(model)), notes


def _mesh_of(shape: Any, model: Any, path: Path) -> TriangleMesh | None:
    vertices = np.array(shape.geometry.verts, float).reshape(-1, 3)
    faces = np.array(shape.geometry.faces, np.int64).reshape(-1, 3)
    if not len(faces):
        return None
    mesh = checked(vertices, faces, str(path))
    product = model.by_id(shape.id)
    name = " ".join(part for part in (product.Name or "", product.GlobalId) if part)
    return TriangleMesh(mesh.vertices, mesh.triangles, (Element(name, product.is_a(), 0, len(mesh.triangles)),))


def _check(path: Path) -> None:
    if b"ISO-10303-21" not in first_bytes(path, 2048, LARGEST):
        raise FormatError(f"{path}: not an IFC model (it does not start with 'ISO-10303-21')")


def _model(path: Path) -> Any:
    import ifcopenshell

    try:
        model = ifcopenshell.open(str(path))
    except Exception as error:  # the library raises its own and RuntimeErrors of the parser under it
        raise FormatError(f"{path}: cannot be read as IFC ({' '.join(str(error).split())[:160]})") from None
    if not model.by_type("IfcProject"):
        raise FormatError(f"{path}: holds no project; it is damaged or cut off")
    return model


def _reference(model: Any) -> tuple[ReferenceSystem, list[tuple[str, str]]]:
    notes: list[tuple[str, str]] = []
    if model.schema != "IFC2X3":
        for system in model.by_type("IfcProjectedCRS"):
            try:
                # Whatever unit the system counts in, the numbers that are handed on are metres.
                return replace(from_text(str(system.Name)), unit=METRE, vertical_unit=METRE), notes
            except InputError:
                notes.append(("crs-conflict", f"the model names a system that is not known: {str(system.Name)[:60]}"))
    notes.append(("crs-missing", "the model is in its own coordinates, in metres"))
    return local_grid(METRE), notes


def _model_unit(model: Any) -> float:
    """The length unit of the project, in metres."""
    from ifcopenshell.util.unit import calculate_unit_scale

    return float(calculate_unit_scale(model))


def _map_unit(model: Any) -> float:
    """The unit of the map's coordinates, in metres; that of the project where none is named (ISO 16739-1)."""
    from ifcopenshell.util.unit import get_prefix_multiplier

    named = [system.MapUnit for system in model.by_type("IfcProjectedCRS") if system.MapUnit is not None]
    if not named:
        return _model_unit(model)
    unit, factor = named[0], 1.0
    if unit.is_a("IfcConversionBasedUnit"):
        factor = float(unit.ConversionFactor.ValueComponent.wrappedValue)
        unit = unit.ConversionFactor.UnitComponent
    return factor * float(get_prefix_multiplier(unit.Prefix) if unit.Prefix else 1.0)


def _map_conversion(model: Any) -> Callable[[Floats], Floats]:
    """From the model's own coordinates, in metres, to the map, by its IfcMapConversion."""
    found = model.by_type("IfcMapConversion") if model.schema != "IFC2X3" else []
    if not found:
        return lambda points: points
    item = found[0]
    east, north, up = (float(value or 0.0) for value in (item.Eastings, item.Northings, item.OrthogonalHeight))
    along = 1.0 if item.XAxisAbscissa is None else float(item.XAxisAbscissa)
    across = 0.0 if item.XAxisOrdinate is None else float(item.XAxisOrdinate)
    norm = float(np.hypot(along, across))
    c, s = (along / norm, across / norm) if norm else (1.0, 0.0)
    # Scale takes lengths of the model's unit to the map's; the geometry here is metres already.
    scale = 1.0 if item.Scale is None else float(item.Scale)
    # Where it is left out, or said to be one between unlike units, the lengths themselves are meant.
    ratio = 1.0 if scale == 1.0 else scale * _map_unit(model) / _model_unit(model)
    east, north, up = (value * _map_unit(model) for value in (east, north, up))

    def to_map(points: Floats) -> Floats:
        x, y, z = points.T
        return ratio * np.column_stack([c * x - s * y, s * x + c * y, z]) + [east, north, up]

    return to_map
