"""Areas with fields: polygons read with their holes and given fields, written back with more."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from kerb.core.errors import FormatError, OutputError
from kerb.core.reference import UNKNOWN, ReferenceSystem
from kerb.formats.polygons import GDAL_SUFFIXES, NAME_FIELDS, read_polygons, read_shapes
from kerb.formats.vector import column_of, stated_system_of, write_layers

WRITTEN = (".geojson", ".json", ".gpkg")


@dataclass(frozen=True)
class Areas:
    """Polygons (shapely) with names, the fields they came with and their system as the file states it."""

    shapes: list[Any]
    names: list[str]
    fields: dict[str, Any] = field(default_factory=dict)
    reference: ReferenceSystem = UNKNOWN


def read_areas(path: Path) -> Areas:
    """All areas of a file of any format that closed lines are read from. Raises InputError or FormatError."""
    if path.suffix.lower() not in GDAL_SUFFIXES:
        rings = read_polygons(path)
        return Areas([_checked(path, ring.name, shapely.Polygon(ring.xy)) for ring in rings], [r.name for r in rings])
    found = read_shapes(path)
    keep = [n for n, shape in enumerate(found.shapes) if shape is not None and shape.geom_type.endswith("Polygon")]
    if not keep:
        raise FormatError(f"{path}: holds no polygon")
    names = [found.names[n] for n in keep]
    areas = [_checked(path, name, shapely.force_2d(found.shapes[n])) for n, name in zip(keep, names, strict=True)]
    fields = {key: values[keep] for key, values in found.fields.items()}
    return Areas(areas, names, fields, stated_system_of(found.crs) if found.crs else UNKNOWN)


def _checked(path: Path, name: str, shape: Any) -> Any:
    if not shape.is_valid or shape.is_empty:
        raise FormatError(f"{path}: area '{name}' {shapely.is_valid_reason(shape).lower()}")
    return shape


def check_areas_output(path: Path) -> None:
    """Raises OutputError, when areas are not written with this ending: a Shapefile would cut the names of fields."""
    if path.suffix.lower() not in WRITTEN:
        raise OutputError(f"{path}: areas with fields are written as {', '.join(WRITTEN)}")


def write_areas(
    areas: Areas, added: dict[str, list[Any]], path: Path, reference: ReferenceSystem
) -> list[tuple[str, str]]:
    """Write areas with their own fields and ``added`` ones, which take the place of those of the same name.

    The system is that of the areas, ``reference`` where their file stated none. Returns notes. Raises OutputError.
    """
    check_areas_output(path)
    # GeoPackage looks at field names without regard to case.
    taken = {name.lower() for name in added}
    fields = {name: values for name, values in areas.fields.items() if name.lower() not in taken and name != "fid"}
    if not any(name in fields for name in NAME_FIELDS):
        fields = {"name": np.array(areas.names, object), **fields}
    fields |= {name: column_of(values) for name, values in added.items()}
    shapes = areas.shapes
    if any(shape.geom_type != "Polygon" for shape in shapes):
        shapes = [shapely.multipolygons(getattr(shape, "geoms", [shape])) for shape in shapes]
    system = areas.reference if areas.reference.wkt else reference
    return write_layers(path, [(path.stem, np.array(shapes, object), fields)], system)
