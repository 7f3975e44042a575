"""Read closed lines: GeoJSON, GeoPackage, Shapefile, KML, DXF, LandXML; WKT and plain coordinate text by hand.

Text is a vertex a line, easting northing and optionally elevation, separated by comma, semicolon, tab or blanks; a
header line may name the columns in another order.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import shapely
from shapely.errors import ShapelyError

from kerb.core.arrays import Floats
from kerb.core.errors import FormatError, InputError
from kerb.formats.vector import check_vector, column_of

GDAL_SUFFIXES = {".geojson", ".json", ".gpkg", ".shp", ".kml", ".fgb"}
DRAWING_SUFFIXES = {".dxf", ".xml", ".landxml"}
MOST_VERTICES = 200_000
LARGEST_TEXT = 50_000_000
EASTING = {"e", "x", "easting", "east"}
NORTHING = {"n", "y", "northing", "north"}
ELEVATION = {"z", "elevation", "height", "level", "h"}
NAME_FIELDS = ("name", "Name", "NAME", "id", "label")


@dataclass(frozen=True)
class NamedRing:
    """A closed line with its name: (n, 2) easting northing, elevations (n,) where the file has them, holes."""

    name: str
    xy: Floats
    z: Floats | None = None
    holes: tuple[tuple[tuple[float, float], ...], ...] = ()


@dataclass(frozen=True)
class Shapes:
    """Shapes (n, of shapely, None where a feature has none) with names and fields of n values each."""

    shapes: list[Any]
    names: list[str]
    fields: dict[str, Any]
    crs: str = ""


def read_polygons(path: Path) -> list[NamedRing]:
    """All closed lines of a file.

    Raises
    ------
    InputError, when it cannot be opened; FormatError, when it holds no polygon or is damaged.
    """
    if not path.exists():
        raise InputError(f"{path}: no such file")
    suffix = path.suffix.lower()
    if suffix in GDAL_SUFFIXES:
        rings = _by_gdal(path)
    elif suffix in DRAWING_SUFFIXES:
        rings = _by_drawing(path)
    else:
        text = _opened(path)
        rings = _wkt(path, text) if re.match(r"\s*(SRID=\d+;)?(MULTI)?POLYGON", text, re.I) else [_text(path, text)]
    if not rings:
        raise FormatError(f"{path}: holds no polygon")
    for ring in rings:
        if not np.isfinite(ring.xy).all():
            raise FormatError(f"{path}: '{ring.name}' has a vertex that is not a number")
        if len(ring.xy) > MOST_VERTICES:
            raise FormatError(f"{path}: '{ring.name}' has {len(ring.xy)} vertices; the most is {MOST_VERTICES}")
    return rings


def _by_drawing(path: Path) -> list[NamedRing]:
    """Closed lines of a drawing or a LandXML file; one without a name is called by its layer and number."""
    from kerb.formats.dxf_read import read_dxf
    from kerb.formats.landxml_read import read_landxml

    lines = read_dxf(path).lines if path.suffix.lower() == ".dxf" else read_landxml(path).lines
    rings = []
    for number, line in enumerate((line for line in lines if line.closed), 1):
        z = line.xyz[:, 2] if np.isfinite(line.xyz[:, 2]).all() else None
        rings.append(NamedRing(line.name or f"{line.layer} {number}".strip(), line.xyz[:, :2], z))
    return rings


def read_shapes(path: Path) -> Shapes:
    """Shapes of a vector file as they are, with names and fields. Raises InputError or FormatError."""
    import pyogrio
    from pyogrio.errors import DataLayerError, DataSourceError

    if path.suffix.lower() != ".fgb":
        check_vector(path)
    shapes: list[Any] = []
    names: list[str] = []
    found: list[dict[str, Any]] = []
    crs = ""
    try:
        for layer in [str(name) for name, kind in pyogrio.list_layers(path) if kind is not None]:
            meta, _, geometry, columns = pyogrio.raw.read(path, layer=layer)
            crs = crs or meta["crs"] or ""
            fields = dict(zip((str(name) for name in meta["fields"]), columns, strict=True))
            named = next((fields[name] for name in NAME_FIELDS if name in fields), [None] * len(geometry))
            names += [str(len(shapes) + row) if name is None else str(name) for row, name in enumerate(named, 1)]
            shapes += list(shapely.from_wkb(geometry))
            found.append(fields)
    except (DataSourceError, DataLayerError, ShapelyError, ValueError) as error:
        raise FormatError(f"{path}: cannot be read ({error})") from None
    if len(found) == 1:
        return Shapes(shapes, names, found[0], crs)
    counts = [len(next(iter(fields.values()), ())) for fields in found]
    joined = {}
    for key in dict.fromkeys(key for fields in found for key in fields):
        # A layer that lacks the column has no value in it.
        parts = [fields.get(key, np.full(count, None)) for fields, count in zip(found, counts, strict=True)]
        joined[key] = column_of([_plain(value) for part in parts for value in part])
    return Shapes(shapes, names, joined, crs)


def _plain(value: Any) -> Any:
    return value.item() if isinstance(value, np.generic) else value


def _by_gdal(path: Path) -> list[NamedRing]:
    found = read_shapes(path)
    return [ring for shape, name in zip(found.shapes, found.names, strict=True) for ring in _rings_of(shape, name)]


def _rings_of(shape: shapely.Geometry | None, name: str) -> list[NamedRing]:
    if shape is None or shapely.is_empty(shape):
        return []
    parts = list(getattr(shape, "geoms", [shape]))
    rings = []
    for number, part in enumerate(parts):
        line = part.exterior if part.geom_type == "Polygon" else part
        closed = part.geom_type == "Polygon" or (part.geom_type == "LineString" and part.is_closed)
        if not closed:
            continue
        coordinates = shapely.get_coordinates(line, include_z=True)[:-1]
        z = coordinates[:, 2] if np.isfinite(coordinates[:, 2]).all() else None
        label = name if len(parts) == 1 else f"{name}.{number + 1}"
        inner = part.interiors if part.geom_type == "Polygon" else ()
        holes = tuple(tuple((float(x), float(y)) for x, y, *_ in ring.coords[:-1]) for ring in inner)
        rings.append(NamedRing(label, coordinates[:, :2], z, holes))
    return rings


def _wkt(path: Path, text: str) -> list[NamedRing]:
    try:
        return _rings_of(shapely.from_wkt(re.sub(r"^\s*SRID=\d+;", "", text)), path.stem)
    except ShapelyError as error:
        raise FormatError(f"{path}: cannot be read as WKT ({error})") from None


def _opened(path: Path) -> str:
    if path.stat().st_size > LARGEST_TEXT:
        raise FormatError(f"{path}: too large for a list of vertices")
    try:
        return path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError:
        raise FormatError(f"{path}: not a text file and not a known format for lines") from None


def read_line(path: Path) -> NamedRing:
    """The one open line of a text file: WKT, or a vertex a line.

    Raises
    ------
    InputError, when it cannot be opened; FormatError, when it holds no line.
    """
    if not path.exists():
        raise InputError(f"{path}: no such file")
    text = _opened(path)
    if re.match(r"\s*(SRID=\d+;)?LINESTRING", text, re.I):
        try:
            places = shapely.get_coordinates(shapely.from_wkt(text.partition(";")[2] or text), include_z=True)
        except ShapelyError as error:
            raise FormatError(f"{path}: not WKT ({' '.join(str(error).split())[:100]})") from None
        return NamedRing(path.stem, places[:, :2], places[:, 2])
    return _text(path, text)


def _text(path: Path, text: str) -> NamedRing:
    lines = [line.strip() for line in text.splitlines()]
    lines = [line for line in lines if line and not line.startswith(("#", "//", "!"))]
    if not lines:
        raise FormatError(f"{path}: holds no vertices")
    order = _column_order(_cells(lines[0]))
    if order is not None:
        lines = lines[1:]
    places = order or {"e": 0, "n": 1, "z": 2}
    rows = []
    for number, line in enumerate(lines, 1):
        cells = _cells(line)
        try:
            rows.append([float(cells[places[key]]) for key in ("e", "n", "z") if places.get(key, 99) < len(cells)])
        except (ValueError, IndexError):
            raise FormatError(f"{path}: vertex {number} is not two or three numbers: '{line[:60]}'") from None
    if len({len(row) for row in rows}) != 1 or len(rows[0]) < 2:
        raise FormatError(f"{path}: not every vertex has the same number of values")
    table = np.array(rows)
    return NamedRing(path.stem, table[:, :2], table[:, 2] if table.shape[1] > 2 else None)


def _cells(line: str) -> list[str]:
    return [cell.strip().strip('"') for cell in re.split(r"[,;\t]|\s+", line) if cell.strip()]


def _column_order(cells: list[str]) -> dict[str, int] | None:
    """Columns by name when the first line is a header, None when it is numbers."""
    try:
        float(cells[0])
    except ValueError:
        pass
    else:
        return None
    names = [re.split(r"[\s(\[]", cell.lower())[0] for cell in cells]
    order = {}
    for key, known in (("e", EASTING), ("n", NORTHING), ("z", ELEVATION)):
        for place, name in enumerate(names):
            if name in known:
                order[key] = place
                break
    return order if "e" in order and "n" in order else {"e": 0, "n": 1, "z": 2}
