"""Points, lines and areas in GeoPackage, GeoJSON, Shapefile and KML, read and written through GDAL (pyogrio).

What a file claims by its name is held against its first bytes before GDAL sees it: GDAL would otherwise open anything
it knows, among it descriptions that point to other files or to the network.
"""

from __future__ import annotations

import csv
import re
import sqlite3
import time
import warnings
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import shapely
from shapely.errors import ShapelyError

from kerb.core.errors import FormatError, InputError, OutputError
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.quantity import first_of
from kerb.core.reference import UNKNOWN, ReferenceSystem, definition, from_text, is_geographic
from kerb.core.space import why
from kerb.formats.opened import first_bytes
from kerb.formats.written import placed_when_complete, refuse_others

VECTOR_SUFFIXES = {".geojson": "GeoJSON", ".json": "GeoJSON", ".gpkg": "GPKG", ".shp": "ESRI Shapefile", ".kml": "KML"}
NAME_FIELDS = ("name", "point", "pt", "id", "label")
CODE_FIELDS = ("code", "feature", "desc", "description", "type", "class")
LAYER_FIELDS = ("layer",)
MOST_FEATURES = 5_000_000
# Shapely's numbers of kinds of shapes: points and several of them, lines, rings and areas, and collections.
POINT_TYPES, LINE_TYPES, COLLECTION = (0, 4), (1, 2, 3, 5, 6), 7
# Seconds that a view may take, looked at every so many steps of the base.
LONGEST_VIEW, STEPS = 10.0, 100_000
# Letters of a Shapefile's field names, and the table beside it that says what was cut.
SHORT, FIELD_TABLE = 10, ".fields.csv"
COMPANIONS = (".shx", ".dbf", ".prj", ".cpg")
DEGREES_NOTE = "GeoJSON by its standard is in degrees; the job's coordinates and system were written all the same"


@dataclass(frozen=True)
class VectorLayer:
    """A layer of a file: its name, how many features, of which kind (``points``, ``lines`` or ``mixed``), and how many of
    them are points or hold points; the others are lines and areas."""

    name: str
    count: int
    kind: str
    points: int = 0

    def of_kind(self, kind: str) -> int:
        """How many features are ``points``, or ``lines`` and areas."""
        return self.points if kind == "points" else self.count - self.points


def check_vector(path: Path) -> None:
    """Raise InputError or FormatError unless the file is what its name says."""
    driver = VECTOR_SUFFIXES.get(path.suffix.lower())
    start = first_bytes(path, 65_536)
    text = start.lstrip(b"\xef\xbb\xbf \t\r\n")
    good = {
        "GPKG": start.startswith(b"SQLite format 3\0"),
        "ESRI Shapefile": start.startswith(b"\0\0\x27\x0a"),
        "GeoJSON": text.startswith(b"{") and b'"type"' in start,
        "KML": text.startswith(b"<") and b"<kml" in start and b"<!DOCTYPE" not in start and b"<!ENTITY" not in start,
    }.get(driver or "", False)
    if not good:
        raise FormatError(f"{path}: is not a {driver or 'known vector'} file by its first bytes")
    if driver == "KML" and _declares_entities(path):
        raise FormatError(f"{path}: declares XML entities, which no KML file needs; not read")
    if driver == "GPKG":
        _check_views(path)


def _declares_entities(path: Path) -> bool:
    with open(path, "rb") as stream:
        tail = b""
        while block := stream.read(1 << 20):
            if b"<!DOCTYPE" in tail + block or b"<!ENTITY" in tail + block:
                return True
            tail = block[-16:]
    return False


def vector_layers(path: Path) -> tuple[list[VectorLayer], ReferenceSystem]:
    """Layers of a file and its reference system. Raises InputError or FormatError naming it."""
    import pyogrio

    check_vector(path)
    layers, reference = [], UNKNOWN
    try:
        for name, kind in pyogrio.list_layers(path):
            info = pyogrio.read_info(path, layer=name, force_feature_count=True, force_total_bounds=True)
            layers.append(_layer(path, str(name), max(int(info["features"]), 0), _kind(kind)))
            if reference is UNKNOWN and info.get("crs"):
                reference = stated_system_of(info["crs"])
                if is_geographic(reference) and _beyond_degrees(info.get("total_bounds")):
                    # GDAL takes a GeoJSON without a system for degrees, which these numbers cannot be.
                    reference = UNKNOWN
    except Exception as error:  # pyogrio and GDAL raise a dozen kinds, all meaning that the file is no good
        raise FormatError(f"{path}: cannot be read ({_words(error)})") from None
    if not layers or not any(layer.count for layer in layers):
        raise FormatError(f"{path}: holds no features")
    return layers, reference


def _layer(path: Path, name: str, count: int, kind: str) -> VectorLayer:
    """A layer; of one that says no kind, or several, what it holds is counted."""
    import pyogrio

    if kind != "mixed" or not 0 < count <= MOST_FEATURES:
        return VectorLayer(name, count, kind, count if kind == "points" else 0)
    _, _, geometry, _ = pyogrio.raw.read(path, layer=name, columns=[])
    kinds = shapely.get_type_id(shapely.from_wkb(geometry))
    known = np.isin(kinds, (*POINT_TYPES, *LINE_TYPES, COLLECTION))
    points = int(np.isin(kinds, (*POINT_TYPES, COLLECTION)).sum())
    found = "points" if points == known.sum() else "mixed" if points else "lines"
    return VectorLayer(name, int(known.sum()), found, points)


def _check_views(path: Path) -> None:
    """Refuse a GeoPackage whose views compute without end: a view may hold a query that calls itself."""
    began = time.monotonic()
    try:
        # Opened as it is, never written to, and no query takes longer than this.
        with closing(sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro&immutable=1", uri=True)) as base:
            base.set_progress_handler(lambda: time.monotonic() - began > LONGEST_VIEW, STEPS)
            views = [row[0] for row in base.execute("SELECT name FROM sqlite_master WHERE type = 'view'")]
            for name in views:
                quoted = str(name).replace('"', '""')
                base.execute(f'SELECT count(*) FROM (SELECT 1 FROM "{quoted}" LIMIT {MOST_FEATURES + 1})').fetchone()
    except sqlite3.OperationalError as error:
        if "interrupted" in str(error):
            raise FormatError(
                f"{path}: a view of it computes for more than {LONGEST_VIEW:.0f} seconds; not read"
            ) from None
    except sqlite3.Error as error:
        raise FormatError(f"{path}: is damaged ({_words(error)})") from None


def read_features(path: Path, layers: tuple[str, ...] = ()) -> tuple[SurveyPoints, LineSet, ReferenceSystem]:
    """Points, and lines with areas, of some layers or of all.

    Raises
    ------
    InputError or FormatError, naming the file.
    """
    every, reference = vector_layers(path)
    if sum(layer.count for layer in every) > MOST_FEATURES:
        raise FormatError(f"{path}: has more than {MOST_FEATURES} features")
    points: list[tuple[tuple[float, ...], str, str]] = []
    extras: list[dict[str, str]] = []
    lines: list[Line] = []
    given: list[dict[str, Any]] = []
    for layer in every:
        if (layers and layer.name not in layers) or not layer.count:
            continue
        fields, shapes, columns = _read(path, layer.name)
        for number, shape in enumerate(shapes):
            if shape is None or shapely.is_empty(shape):
                continue
            values = {name: _cell(column[number]) for name, column in zip(fields, columns, strict=True)}
            name, code = _field(values, NAME_FIELDS), _field(values, CODE_FIELDS)
            under = _field(values, LAYER_FIELDS) or layer.name
            for part in _parts(shape):
                if part.geom_type == "Point":
                    points.append((tuple(shapely.get_coordinates(part, include_z=True)[0]), name, code))
                    extras.append(values)
                else:
                    rings = _lines(part, name, under)
                    lines += rings
                    own = {key: _native(column[number]) for key, column in zip(fields, columns, strict=True)}
                    given += [own] * len(rings)
    for line in lines:
        if not np.isfinite(line.xyz[:, :2]).all():
            raise FormatError(f"{path}: '{line.name or line.layer}' has a vertex that is not a number")
    return _points(points, extras), LineSet(tuple(lines), fields=_fields(given)), reference


def _beyond_degrees(bounds: Any) -> bool:
    return bounds is not None and bool(np.any(np.abs(np.array(bounds)) > np.array([360.5, 90.5, 360.5, 90.5])))


def _read(path: Path, layer: str) -> tuple[list[str], Any, list[Any]]:
    import pyogrio

    try:
        meta, _, geometry, columns = pyogrio.raw.read(path, layer=layer)
        whole = _whole_names(path) if path.suffix.lower() == ".shp" else {}
        return [whole.get(str(name), str(name)) for name in meta["fields"]], shapely.from_wkb(geometry), list(columns)
    except ShapelyError as error:
        raise FormatError(f"{path}: a shape of layer '{layer}' is damaged ({_words(error)})") from None
    except Exception as error:  # as above
        raise FormatError(f"{path}: layer '{layer}' cannot be read ({_words(error)})") from None


def _parts(shape: Any) -> list[Any]:
    found = []
    for part in getattr(shape, "geoms", [shape]):
        found += _parts(part) if hasattr(part, "geoms") else [part]
    return found


def _lines(part: Any, name: str, layer: str) -> list[Line]:
    if part.geom_type == "Polygon":
        rings = [part.exterior, *part.interiors]
        named = [name] + [f"{name} hole {k}".strip() for k in range(1, len(rings))]
        return [Line(_coordinates(ring)[:-1], True, n, layer) for ring, n in zip(rings, named, strict=True)]
    xyz = _coordinates(part)
    closed = len(xyz) > 3 and bool(np.array_equal(xyz[0, :2], xyz[-1, :2]))
    return [Line(xyz[:-1] if closed else xyz, closed, name, layer)]


def _coordinates(part: Any) -> Any:
    return shapely.get_coordinates(part, include_z=True)


def _points(points: list[Any], extras: list[dict[str, str]]) -> SurveyPoints:
    if not points:
        return SurveyPoints(np.empty((0, 3)), (), ())
    keys = dict.fromkeys(key for values in extras for key in values)
    used = [key for key in keys if key.lower() != "fid" and not _told(key, extras, NAME_FIELDS, CODE_FIELDS)]
    names = tuple(name or str(n) for n, (_, name, _) in enumerate(points, 1))
    return SurveyPoints(
        np.array([xyz for xyz, _, _ in points]), names, tuple(code for _, _, code in points),
        {key: tuple(values.get(key, "") for values in extras) for key in used},
    )  # fmt: skip


def _fields(given: list[dict[str, Any]]) -> dict[str, tuple[Any, ...]]:
    keys = dict.fromkeys(key for values in given for key in values)
    used = [key for key in keys if key.lower() != "fid" and not _told(key, given, NAME_FIELDS, LAYER_FIELDS)]
    return {key: tuple(values.get(key) for values in given) for key in used}


def _told(key: str, rows: list[dict[str, Any]], *roles: tuple[str, ...]) -> bool:
    """Whether all that a column holds is said already by a role of the features, such as their name."""
    for role in roles:
        if key.lower() not in role:
            continue
        cells = [{name: _cell(value) for name, value in values.items()} for values in rows]
        return all(not values.get(key) or values[key] == _field(values, role) for values in cells)
    return False


def _native(value: Any) -> Any:
    """A value as Python has it, so that it can be kept and written again; a missing number is None."""
    plain = value.item() if isinstance(value, np.generic) else value
    if plain is None or isinstance(plain, (int, str)):
        return plain
    if isinstance(plain, float):
        return plain if np.isfinite(plain) else None
    return str(plain)


def _kind(geometry: Any) -> str:
    text = str(geometry or "").lower()
    if "point" in text:
        return "points"
    return "lines" if "line" in text or "polygon" in text else "mixed"


def _field(values: dict[str, str], names: tuple[str, ...]) -> str:
    lowered = {key.lower(): value for key, value in values.items()}
    return next((lowered[name] for name in names if lowered.get(name)), "")


def _cell(value: Any) -> str:
    if value is None or (isinstance(value, float) and np.isnan(value)):
        return ""
    return str(value)


def stated_system_of(text: str) -> ReferenceSystem:
    """The system that a file names, unknown where the name means nothing to PROJ."""
    try:
        return from_text(text)
    except InputError:
        return UNKNOWN


def _words(error: BaseException) -> str:
    return " ".join(str(error).split())[:200]


def write_features(
    path: Path, points: SurveyPoints | None, lines: LineSet | None, reference: ReferenceSystem, fields: Any = None
) -> list[tuple[str, str]]:
    """Write points, or lines and areas, to GeoPackage, GeoJSON or Shapefile, by the ending.

    ``fields`` adds columns (name to n values). A Shapefile and a GeoJSON hold one kind of geometry here: of a set with
    lines and areas the areas are written as closed lines.

    Returns
    -------
    Notes as (code, text).

    Raises
    ------
    OutputError, when there is nothing to write or the folder cannot be written.
    """
    layers = []
    if points is not None and points.count:
        extra = {key: _numbers(values) for key, values in points.extra.items()}
        columns = {"name": points.names, "code": points.codes, **extra, **(fields or {})}
        shapes = np.array([shapely.Point(_flat(place[None])[0]) for place in points.xyz], object)
        layers.append(("points", shapes, columns))
    if lines is not None and lines.count:
        layers.append(("lines", *_shapes(lines)))
    return write_layers(path, layers, reference)


def _numbers(values: tuple[str, ...]) -> Any:
    """A column of texts as numbers, where each is written as a number is and comes back as the same text."""
    for kind in (int, float):
        try:
            if any(values) and all(not text or str(kind(text)) == text for text in values):
                return column_of([kind(text) if text else None for text in values])
        except (ValueError, OverflowError):
            continue
    return values


def write_layers(
    path: Path, layers: list[tuple[str, Any, dict[str, Any]]], reference: ReferenceSystem
) -> list[tuple[str, str]]:
    """Write layers, each a name, shapes (n,) of one kind and columns of n values. Notes and errors as above."""
    driver = VECTOR_SUFFIXES.get(path.suffix.lower())
    if driver is None or driver == "KML":
        raise OutputError(f"{path}: points, lines and areas are written as .gpkg, .geojson or .shp")
    if not layers:
        raise OutputError(f"{path}: nothing to write")
    if driver != "GPKG" and len(layers) > 1:
        raise OutputError(f"{path}: a {driver} file holds points or lines, not both; choose .gpkg")
    if driver == "ESRI Shapefile":
        refuse_others(
            path, *(path.with_suffix(suffix) for suffix in COMPANIONS), path.with_name(path.stem + FIELD_TABLE)
        )
    with placed_when_complete(path) as partial:
        try:
            for number, (name, shapes, columns) in enumerate(layers):
                title = path.stem if driver == "GeoJSON" else name
                _write_layer(partial, driver, (title, number > 0), shapes, columns, reference)
            _counted(partial, [(name, len(shapes)) for name, shapes, _ in layers])
        except (OSError, OutputError):
            raise
        except Exception as error:  # pyogrio and GDAL raise a dozen kinds
            raise OutputError(f"{path}: {why(_words(error), path.parent)}") from None
        if driver == "ESRI Shapefile":
            _move_companions(partial, path)
    flat = sum(int((~shapely.has_z(shapes)).sum()) for _, shapes, _ in layers)
    notes = [("geojson-degrees", DEGREES_NOTE)] if driver == "GeoJSON" and reference.wkt else []
    if not reference.wkt and (driver == "GeoJSON" or not definition(reference)):
        notes.append(("unit-unsaid", f"the numbers are in {reference.unit.plural}; the file cannot say so"))
    if driver == "ESRI Shapefile":
        notes += _write_field_table(path, list(layers[0][2]))
    if driver == "ESRI Shapefile" and flat and any(shapely.has_z(shapes).any() for _, shapes, _ in layers):
        notes.append(("no-elevation", f"{flat} shapes have no elevation; a Shapefile needs one: written as 0"))
    return notes


def _flat(xyz: Any) -> Any:
    """Places with elevations, or without them where one is missing: a shape has elevations everywhere or nowhere."""
    return xyz if np.isfinite(xyz[:, 2]).all() else xyz[:, :2]


def _shapes(lines: LineSet) -> tuple[Any, dict[str, Any]]:
    areas = all(line.closed for line in lines.lines)
    shapes: list[Any] = []
    kept = [area[0] for area in lines.areas()] if areas else range(len(lines.lines))
    if areas:
        for outline, *holes in lines.areas():
            rings = [lines.lines[number].xyz for number in (outline, *holes)]
            upright = all(np.isfinite(ring[:, 2]).all() for ring in rings)
            rings = [ring if upright else ring[:, :2] for ring in rings]
            shapes.append(shapely.Polygon(rings[0], rings[1:]))
    else:
        for line in lines.lines:
            xyz = _flat(line.xyz)
            shapes.append(shapely.LineString(np.vstack([xyz, xyz[:1]]) if line.closed else xyz))
    columns: dict[str, Any] = {key: [getattr(lines.lines[n], key) for n in kept] for key in ("name", "layer")}
    columns |= {key: column_of([values[n] for n in kept]) for key, values in lines.fields.items()}
    return np.array(shapes, object), columns


def column_of(values: list[Any]) -> Any:
    """Values as a column: integers, numbers with NaN for those that are missing, or texts."""
    if all(isinstance(value, int) for value in values):
        return np.array(values, np.int64)
    if all(value is None or isinstance(value, (int, float)) for value in values):
        return np.array([np.nan if value is None else value for value in values], np.float64)
    return np.array(["" if value is None else str(value) for value in values], object)


def _write_layer(
    path: Path, driver: str, layer: tuple[str, bool], shapes: Any, columns: dict[str, Any], system: ReferenceSystem
) -> None:
    import pyogrio

    name, append = layer
    kinds = set(shapely.get_type_id(shapes).tolist())
    geometry = {0: "Point", 1: "LineString", 3: "Polygon", 6: "MultiPolygon"}[kinds.pop()]
    if shapely.has_z(shapes).any():
        geometry += " Z"
    fields = _field_names(list(columns), driver)
    data = [_values(values) for values in columns.values()]
    options = {"RFC7946": "NO"} if driver == "GeoJSON" else {}
    wkt = system.wkt if driver == "GeoJSON" else definition(system)
    with warnings.catch_warnings():
        # That there is no reference system is said in the notes.
        warnings.simplefilter("ignore")
        pyogrio.raw.write(
            path, shapely.to_wkb(shapes, output_dimension=3), data, fields, driver=driver, append=append,
            layer=None if driver == "ESRI Shapefile" else name, geometry_type=geometry, crs=wkt or None,
            layer_options=options, encoding="UTF-8",
        )  # fmt: skip


def _values(values: Any) -> Any:
    if isinstance(values, np.ndarray):
        return values
    return np.array(list(values), object if not _numeric(values) else float)


def _numeric(values: Any) -> bool:
    return all(isinstance(value, (int, float, np.number)) for value in values)


def _counted(path: Path, layers: list[tuple[str, int]]) -> None:
    """Count what was written: the library lets a disk that is full when a file is closed pass without a word."""
    import pyogrio

    for name, count in layers:
        found = pyogrio.read_info(path, layer=name if len(layers) > 1 else 0, force_feature_count=True)["features"]
        if found != count:
            raise OutputError(f"{path}: {found} of {count} shapes could be written")


def _field_names(names: list[str], driver: str) -> list[str]:
    """Names a driver can keep. Those of a Shapefile have ten characters: a share for each word, and no doubles."""
    if driver != "ESRI Shapefile":
        return names
    out: list[str] = []
    for name in names:
        words = re.findall(r"[A-Za-z0-9]+", name) or ["field"]
        words = [word for word in words if len(word) > 3] or words
        room = max(1, (SHORT + 1) // len(words) - 1)
        short = "_".join([*(word[:room] for word in words[:-1]), words[-1]])[:SHORT]
        short = name if re.fullmatch(r"\w{1,10}", name, re.ASCII) else short
        number = 2
        while short.lower() in (item.lower() for item in out):
            short = f"{short[: SHORT - len(str(number))].rstrip('_')}{number}"
            number += 1
        out.append(short)
    return out


def _write_field_table(path: Path, names: list[str]) -> list[tuple[str, str]]:
    """Which field of a Shapefile is which column, in a table beside it; nothing where no name was cut."""
    pairs = list(zip(_field_names(names, "ESRI Shapefile"), names, strict=True))
    cut = [f"{name} as {short}" for short, name in pairs if short != name]
    beside = path.with_name(f"{path.stem}{FIELD_TABLE}")
    if not cut:
        return []
    with placed_when_complete(beside) as partial, open(partial, "w", encoding="utf-8", newline="") as out:
        csv.writer(out).writerows([("field", "name"), *pairs])
    words = f"field names of a Shapefile have ten characters: {first_of(cut, 6)}; the whole names are in {beside.name}"
    return [("names-cut", words)]


def _whole_names(path: Path) -> dict[str, str]:
    """Whole names of the fields of a Shapefile, where a table beside it says them."""
    beside = path.with_name(f"{path.stem}{FIELD_TABLE}")
    try:
        with open(beside, encoding="utf-8", newline="") as stream:
            rows = list(csv.reader(stream))
    except (OSError, ValueError, csv.Error):
        return {}
    return {row[0]: row[1] for row in rows[1:256] if len(row) == 2} if rows[:1] == [["field", "name"]] else {}


def _move_companions(partial: Path, path: Path) -> None:
    for suffix in COMPANIONS:
        companion = partial.with_suffix(suffix)
        if companion.exists():
            companion.replace(path.with_suffix(suffix))
