"""Read E57 files (ASTM E2807): several setups with their poses as one cloud, by way of libE57Format (pye57).

Lengths in E57 are metres and angles radians, by the standard. The setup of each point stays a column.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrays import AnyArray, Floats
from kerb.core.cloud.layout import Columns
from kerb.core.cloud.quantise import About, FloatStream
from kerb.core.errors import FormatError, InputError
from kerb.core.reference import ReferenceSystem, from_text, local_grid
from kerb.core.units import METRE

HEAD = 48
PAGE, PAYLOAD = 1024, 1020
MOST_XML = 64_000_000
CARTESIAN = ("cartesianX", "cartesianY", "cartesianZ")
SPHERICAL = ("sphericalRange", "sphericalAzimuth", "sphericalElevation")
COLOURS = {"colorRed": "red", "colorGreen": "green", "colorBlue": "blue"}
INVALID = ("cartesianInvalidState", "sphericalInvalidState")
SETUP = "point_source_id"


@dataclass(frozen=True)
class Setup:
    """One scan of the file: name, number of records and pose (rotation (3, 3), translation (3,))."""

    number: int
    name: str
    count: int
    rotation: Floats
    translation: Floats
    fields: tuple[str, ...]
    colour_limit: float

    def to_json(self) -> dict[str, Any]:
        """What is kept with the cloud."""
        return {
            "number": self.number + 1, "name": self.name, "count": self.count,
            "rotation": self.rotation.tolist(), "translation": self.translation.tolist(),
        }  # fmt: skip


class E57Stream(FloatStream):
    """The valid points of all setups, or of some, placed by their poses."""

    def __init__(self, path: Path, chosen: tuple[int, ...] = ()) -> None:
        """``chosen`` are numbers of setups from 0, empty for all. Raises FormatError naming the file."""
        check_e57(path)
        self.path = path
        with Opened(path) as file:
            self.setups = _setups(file, path)
            reference, notes = _reference(file)
        if chosen:
            self.setups = [setup for setup in self.setups if setup.number in chosen]
        if not any(setup.count for setup in self.setups):
            raise FormatError(f"{path}: holds no points")
        self._shared = _shared_fields(self.setups)
        details = {"setups": [setup.to_json() for setup in self.setups]}
        super().__init__(
            self._read, About(str(path), "E57", reference, details), sum(setup.count for setup in self.setups)
        )
        self.warnings += notes
        left_out = sorted({name for s in self.setups for name in s.fields if ":" in name})
        if left_out:
            self.warnings.append(("fields", f"fields of extensions are not kept: {', '.join(left_out)}"))

    def _read(self, size: int) -> Iterator[tuple[Floats, Columns]]:
        for setup in self.setups:
            if setup.count:
                yield from self._scan(setup, size)

    def _scan(self, setup: Setup, size: int) -> Iterator[tuple[Floats, Columns]]:
        place = CARTESIAN if CARTESIAN[0] in setup.fields else SPHERICAL
        invalid = next((name for name in INVALID if name in setup.fields), None)
        wanted = [*place, *(name for name in self._shared if name in setup.fields)]
        wanted += [invalid] if invalid else []
        capacity = min(size, setup.count)
        with Opened(self.path) as file:
            try:
                arrays, buffers = _buffers(file, wanted, capacity)
                reader = file.get_header(setup.number).points.reader(buffers)
                while True:
                    got = reader.read()
                    if not got:
                        break
                    rows: Any = slice(0, got)
                    if invalid:
                        rows = np.flatnonzero(arrays[invalid][:got] == 0)
                    xyz = np.column_stack([arrays[name][rows] for name in place])
                    if place is SPHERICAL:
                        xyz = _cartesian(xyz)
                    xyz = xyz @ setup.rotation.T + setup.translation
                    yield xyz, self._columns(setup, arrays, rows, len(xyz))
                reader.close()
            except _faults() as error:
                raise FormatError(f"{self.path}: setup '{setup.name}' cannot be read ({_words(error)})") from None

    def _columns(self, setup: Setup, arrays: dict[str, AnyArray], rows: Any, count: int) -> Columns:
        out: Columns = {SETUP: np.full(count, setup.number + 1, np.uint16)}
        for field, kind in self._shared.items():
            values = arrays[field][rows].copy() if field in arrays else np.zeros(count, kind)
            name = COLOURS.get(field, {"rowIndex": "row", "columnIndex": "column"}.get(field, field))
            if field in COLOURS and setup.colour_limit not in (255.0, 65535.0) and setup.colour_limit > 0:
                values = np.clip(values * (65535 / setup.colour_limit), 0, 65535).astype(np.uint16)
            out[name] = values.astype(np.uint16) if field in COLOURS else values
        return out


def check_e57(path: Path) -> None:
    """Hold the head and the XML part of a file against each other before the library is let at it.

    Raises
    ------
    InputError, when it cannot be opened; FormatError, when it is no E57 file, is cut off, or declares entities.
    """
    try:
        size = path.stat().st_size
        with open(path, "rb") as stream:
            head = stream.read(HEAD)
            if head[:8] != b"ASTM-E57":
                raise FormatError(f"{path}: not an E57 file (it does not start with 'ASTM-E57')")
            if len(head) < HEAD:
                raise FormatError(f"{path}: ends inside its head")
            length, at, xml = (int.from_bytes(head[k : k + 8], "little") for k in (16, 24, 32))
            if length != size or at + xml > size or xml > MOST_XML:
                raise FormatError(f"{path}: ends too early: its head says {length} bytes, there are {size}")
            stream.seek(at // PAGE * PAGE)
            pages = stream.read((xml // PAYLOAD + 3) * PAGE)
    except OSError as error:
        raise InputError(f"{path}: {error.strerror or error}") from None
    text = b"".join(pages[k : k + PAYLOAD] for k in range(0, len(pages), PAGE))
    if b"<!DOCTYPE" in text or b"<!ENTITY" in text:
        raise FormatError(f"{path}: its XML declares entities, which no E57 file needs; not read")


class Opened:
    """An E57 file that is closed again, with the library's errors turned into ours."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def __enter__(self) -> Any:
        import pye57

        try:
            self.file = pye57.E57(str(self.path))
        except Exception as error:  # libE57Format raises RuntimeError subclasses of its own
            raise FormatError(f"{self.path}: not a readable E57 file ({_words(error)})") from None
        return self.file

    def __exit__(self, *_args: object) -> None:
        self.file.close()


def _setups(file: Any, path: Path) -> list[Setup]:
    found = []
    try:
        for number in range(file.scan_count):
            head = file.get_header(number)
            fields = tuple(head.point_fields)
            if CARTESIAN[0] not in fields and SPHERICAL[0] not in fields:
                continue
            posed = head.has_pose()
            turn = _rotation(head) if posed else np.eye(3)
            shift = np.array([_number(head, "pose", "translation", axis) for axis in "xyz"])
            name = _text(head, "name") or f"Setup {number + 1}"
            found.append(Setup(number, name, int(head.point_count), turn, shift, fields, _colour_limit(head)))
    except _faults() as error:
        raise FormatError(f"{path}: its list of setups cannot be read ({_words(error)})") from None
    if not found:
        raise FormatError(f"{path}: holds no scan with coordinates")
    for setup in found:
        if not (np.isfinite(setup.rotation).all() and np.isfinite(setup.translation).all()):
            raise FormatError(f"{path}: the pose of setup '{setup.name}' is no number")
    return found


def _rotation(head: Any) -> Floats:
    """Rotation matrix of the pose's unit quaternion (w, x, y, z); a zero one means none."""
    w, x, y, z = (_number(head, "pose", "rotation", part) for part in "wxyz")
    norm = np.sqrt(w * w + x * x + y * y + z * z)
    if not norm > 0:
        return np.eye(3)
    w, x, y, z = w / norm, x / norm, y / norm, z / norm
    return np.array([
        [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
        [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
        [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
    ])  # fmt: skip


def _number(head: Any, *keys: str) -> float:
    """A number of the scan's description, 0 where it is not there. By name, because the order in files differs."""
    node = head.node
    try:
        for key in keys:
            node = node[key]
        return float(node.value())
    except _faults():
        return 0.0


def _text(head: Any, key: str) -> str:
    try:
        return str(head.node[key].value())
    except _faults():
        return ""


def _colour_limit(head: Any) -> float:
    try:
        return float(head.node["colorLimits"]["colorRedMaximum"].value())
    except _faults():
        return 255.0


def _reference(file: Any) -> tuple[ReferenceSystem, list[tuple[str, str]]]:
    try:
        text = str(file.root["coordinateMetadata"].value()).strip()
    except _faults():
        text = ""
    if text:
        try:
            # Whatever unit the system counts in, numbers of this format are metres (ASTM E2807, 6.3).
            return replace(from_text(text), unit=METRE, vertical_unit=METRE), []
        except InputError:
            return local_grid(METRE), [("crs-conflict", "the reference system of the file cannot be understood")]
    return local_grid(METRE), [("crs-missing", "the file names no reference system; E57 is in metres by its standard")]


def _shared_fields(setups: list[Setup]) -> dict[str, np.dtype]:
    """Columns of the cloud: what any setup has, filled with zeros in those that lack it."""
    every = {name for setup in setups for name in setup.fields}
    out: dict[str, np.dtype] = {}
    if "intensity" in every:
        out["intensity"] = np.dtype(np.float32)
    if all(name in every for name in COLOURS):
        out.update({name: np.dtype(np.uint16) for name in COLOURS})
    if {"rowIndex", "columnIndex"} <= every:
        out.update({name: np.dtype(np.int32) for name in ("rowIndex", "columnIndex")})
    return out


def _buffers(file: Any, names: list[str], capacity: int) -> tuple[dict[str, AnyArray], Any]:
    from pye57 import libe57

    arrays: dict[str, AnyArray] = {}
    buffers = libe57.VectorSourceDestBuffer()
    for name in names:
        kind: Any = np.float64
        if name == "intensity":
            kind = np.float32
        elif name in COLOURS:
            kind = np.uint16
        elif name in ("rowIndex", "columnIndex"):
            kind = np.int32
        elif name in INVALID:
            kind = np.int8
        arrays[name] = np.empty(capacity, kind)
        buffers.append(libe57.SourceDestBuffer(file.image_file, name, arrays[name], capacity, True, True))
    return arrays, buffers


def _cartesian(spherical: Floats) -> Floats:
    """Range, azimuth, elevation to x, y, z, as the standard defines them."""
    distance, azimuth, elevation = spherical.T
    flat = distance * np.cos(elevation)
    return np.column_stack([flat * np.cos(azimuth), flat * np.sin(azimuth), distance * np.sin(elevation)])


def _faults() -> tuple[type[BaseException], ...]:
    """What pye57 and the library under it raise."""
    from pye57 import libe57

    return (libe57.E57Exception, RuntimeError, KeyError, ValueError, AttributeError, TypeError)


def _words(error: BaseException) -> str:
    return " ".join(str(error).split("****")[0].split())[:160]
