"""Areas with fields: polygons read with their holes and given fields, written back with more."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import shapely
from shapely.errors import ShapelyError

from kerb.core.errors import FormatError, OutputError
from kerb.formats.polygons import GDAL_SUFFIXES, NAME_FIELDS, read_polygons
from kerb.formats.vector import check_vector
from kerb.formats.written import placed_when_complete

WRITTEN = {".geojson": "GeoJSON", ".json": "GeoJSON", ".gpkg": "GPKG"}


@dataclass(frozen=True)
class Areas:
    """Polygons (shapely) with names, the fields they came with and their system as the file states it."""

    shapes: list[Any]
    names: list[str]
    fields: dict[str, Any] = field(default_factory=dict)
    crs: str = ""


def read_areas(path: Path) -> Areas:
    """All areas of a file of any format that closed lines are read from. Raises InputError or FormatError."""
    if path.suffix.lower() not in GDAL_SUFFIXES:
        rings = read_polygons(path)
        return Areas([_checked(path, ring.name, shapely.Polygon(ring.xy)) for ring in rings], [r.name for r in rings])
    import pyogrio
    from pyogrio.errors import DataLayerError, DataSourceError

    if path.suffix.lower() != ".fgb":
        check_vector(path)
    try:
        meta, _, geometry, columns = pyogrio.raw.read(path)
        shapes = shapely.force_2d(shapely.from_wkb(geometry))
    except (DataSourceError, DataLayerError, ShapelyError, ValueError) as error:
        raise FormatError(f"{path}: cannot be read ({error})") from None
    fields = dict(zip(meta["fields"].tolist(), columns, strict=True))
    named = next((fields[name] for name in NAME_FIELDS if name in fields), None)
    keep = [n for n, shape in enumerate(shapes) if shape is not None and shape.geom_type.endswith("Polygon")]
    if not keep:
        raise FormatError(f"{path}: holds no polygon")
    names = [str(named[n]) if named is not None and named[n] is not None else str(n + 1) for n in keep]
    areas = [_checked(path, name, shapes[n]) for n, name in zip(keep, names, strict=True)]
    return Areas(areas, names, {key: values[keep] for key, values in fields.items()}, meta["crs"] or "")


def _checked(path: Path, name: str, shape: Any) -> Any:
    if not shape.is_valid or shape.is_empty:
        raise FormatError(f"{path}: area '{name}' {shapely.is_valid_reason(shape).lower()}")
    return shape


def check_areas_output(path: Path) -> None:
    """Raises OutputError, when areas are not written with this ending."""
    if path.suffix.lower() not in WRITTEN:
        raise OutputError(f"{path}: areas with fields are written as {', '.join(WRITTEN)}")


def write_areas(areas: Areas, added: dict[str, list[Any]], path: Path, crs: str) -> None:
    """Write areas with their own fields and ``added`` ones, which take the place of those of the same name.

    Raises OutputError.
    """
    import pyogrio
    from pyogrio.errors import DataLayerError, DataSourceError

    check_areas_output(path)
    # GeoPackage looks at field names without regard to case.
    taken = {name.lower() for name in added}
    fields = {name: values for name, values in areas.fields.items() if name.lower() not in taken and name != "fid"}
    if not any(name in fields for name in NAME_FIELDS):
        fields = {"name": np.array(areas.names, object), **fields}
    fields |= {name: _column(values) for name, values in added.items()}
    shapes = np.array(areas.shapes, object)
    kinds = {shape.geom_type for shape in areas.shapes}
    kind = "Polygon" if kinds == {"Polygon"} else "MultiPolygon"
    if kind == "MultiPolygon":
        shapes = np.array([shapely.multipolygons(getattr(s, "geoms", [s])) for s in areas.shapes], object)
    options = {"RFC7946": "NO", "COORDINATE_PRECISION": "9"} if WRITTEN[path.suffix.lower()] == "GeoJSON" else {}
    try:
        with placed_when_complete(path) as partial:
            pyogrio.raw.write(
                partial, shapely.to_wkb(shapes), list(fields.values()), list(fields), geometry_type=kind,
                driver=WRITTEN[path.suffix.lower()], crs=areas.crs or crs or None, layer=path.stem, **options,
            )  # fmt: skip
    except (DataSourceError, DataLayerError, OSError) as error:
        raise OutputError(f"{path}: cannot be written ({error})") from None


def _column(values: list[Any]) -> Any:
    if all(isinstance(value, int) for value in values):
        return np.array(values, np.int64)
    return np.array([np.nan if value is None else value for value in values], np.float64)
