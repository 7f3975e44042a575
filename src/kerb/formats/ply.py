"""PLY files, ascii and binary: their head, their vertices as a stream of points, and points written as PLY.

The format is the one of Greg Turk's description (Stanford, 1994; recalled): a head in lines, then elements in order.
Vertices are read in place from a memory map, which general readers of the format do not do for large clouds.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrays import AnyArray, Floats
from kerb.core.cloud.layout import Columns, free_name
from kerb.core.cloud.outgoing import Outgoing, bounds
from kerb.core.cloud.quantise import About, FloatStream
from kerb.core.errors import FormatError, InputError, OutputError, TruncatedError
from kerb.core.placing import consistent
from kerb.core.progress import Progress
from kerb.core.reference import UNKNOWN, ReferenceSystem, from_text, is_geographic, local_grid
from kerb.core.units import FILE_UNITS
from kerb.formats.opened import first_bytes
from kerb.formats.written import placed_when_complete

MOST_HEAD = 100_000
KINDS = {
    "char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1", "short": "i2", "int16": "i2", "ushort": "u2",
    "uint16": "u2", "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4", "float": "f4", "float32": "f4",
    "double": "f8", "float64": "f8", "int64": "i8", "uint64": "u8", "longlong": "i8", "ulonglong": "u8",
}  # fmt: skip
WRITTEN = {
    "u1": "uchar", "i1": "char", "u2": "ushort", "i2": "short", "u4": "uint", "i4": "int", "f4": "float",
    "f8": "double",
}  # fmt: skip
NAMED = {
    "diffuse_red": "red", "diffuse_green": "green", "diffuse_blue": "blue", "class": "classification",
    "scalar_intensity": "intensity",
}  # fmt: skip
ROWS_AT_ONCE = 200_000


@dataclass(frozen=True)
class PlyElement:
    """An element of the head: its properties as (name, numpy code), with the count type in front for lists."""

    name: str
    count: int
    properties: tuple[tuple[str, str, str], ...]

    @property
    def plain(self) -> bool:
        """Whether it has no lists, so that all rows are equally long."""
        return all(not listed for _, _, listed in self.properties)

    def record(self, order: str) -> np.dtype:
        """A row in memory, without lists."""
        return np.dtype([(name, order + kind) for name, kind, listed in self.properties if not listed])


@dataclass(frozen=True)
class PlyHead:
    """What the head says; ``at`` is where the data start, ``order`` ``<``, ``>`` or nothing for ascii.

    ``unit``, ``heights`` (their unit) and ``system`` (a code) are what comments of Kerb's own say.
    """

    path: Path
    elements: tuple[PlyElement, ...]
    order: str
    at: int
    unit: str
    heights: str = ""
    system: str = ""

    def element(self, name: str) -> PlyElement | None:
        """An element by name."""
        return next((element for element in self.elements if element.name == name), None)

    @property
    def faces(self) -> int:
        """Number of faces."""
        found = self.element("face")
        return found.count if found else 0


def read_ply_head(path: Path) -> PlyHead:
    """The head of a PLY file.

    Raises
    ------
    InputError, when it cannot be opened; FormatError, naming what is wrong with it.
    """
    raw = first_bytes(path, MOST_HEAD)
    end = re.search(rb"end_header[ \t]*\r?\n", raw)
    if not raw.startswith(b"ply") or end is None:
        raise FormatError(f"{path}: not a PLY file (no head that starts with 'ply' and ends with 'end_header')")
    order: str | None = None
    elements: list[tuple[str, int, list[tuple[str, str, str]]]] = []
    properties: list[tuple[str, str, str]] = []
    said = {"unit": "", "heights": "", "system": ""}
    for line in raw[: end.start()].decode("latin-1").splitlines()[1:]:
        words = line.split()
        if not words or words[0] == "obj_info":
            continue
        if words[0] == "comment":
            if len(words) > 2 and words[1] in ("unit", "heights") and words[2] in FILE_UNITS:
                said[words[1]] = words[2]
            elif len(words) > 3 and words[1:3] == ["reference", "system"] and words[3].startswith("EPSG:"):
                said["system"] = words[3]
        elif words[0] == "format" and len(words) >= 2:
            order = {"ascii": "", "binary_little_endian": "<", "binary_big_endian": ">"}.get(words[1])
        elif words[0] == "element" and len(words) == 3 and words[2].isdigit():
            properties = []
            elements.append((words[1], int(words[2]), properties))
        elif words[0] == "property" and elements:
            properties.append(_property(path, words))
        else:
            raise FormatError(f"{path}: the head has a line that makes no sense: '{line[:60]}'")
    if order is None:
        raise FormatError(f"{path}: the head names no known format")
    made = tuple(PlyElement(name, count, tuple(props)) for name, count, props in elements)
    for element in made:
        names = [name for name, _, _ in element.properties]
        if len(set(names)) != len(names):
            raise FormatError(f"{path}: element '{element.name}' has two properties of the same name")
    return PlyHead(path, made, order, end.end(), **said)


def _property(path: Path, words: list[str]) -> tuple[str, str, str]:
    kinds = words[2:4] if words[1] == "list" else words[1:2]
    if len(words) < 3 or any(kind not in KINDS for kind in kinds) or (words[1] == "list" and len(words) != 5):
        raise FormatError(f"{path}: the head has a property that makes no sense: '{' '.join(words)[:60]}'")
    if words[1] == "list":
        return words[4], KINDS[words[3]], KINDS[words[2]]
    return words[2], KINDS[words[1]], ""


class PlyStream(FloatStream):
    """The vertices of a PLY file."""

    def __init__(self, path: Path, partial: bool = False) -> None:
        """Raises FormatError naming the file; TruncatedError when it ends too early and ``partial`` is not wanted."""
        self.head = read_ply_head(path)
        self.partial = partial
        vertex = self.head.element("vertex")
        if vertex is None or not vertex.count:
            raise FormatError(f"{path}: holds no vertices")
        names = {name for name, _, listed in vertex.properties if not listed}
        if not {"x", "y", "z"} <= names:
            raise FormatError(f"{path}: its vertices have no x, y and z")
        self.vertex = vertex
        self.good = vertex.count
        if self.head.order:
            self._map = self._mapped()
        reference = ply_reference(self.head)
        super().__init__(self._read, About(str(path), "PLY", reference), self.good)
        if self.good < vertex.count:
            self.warnings.append(("truncated", f"the head says {vertex.count} points, the file holds {self.good}"))
        lists = [name for name, _, listed in vertex.properties if listed]
        if lists:
            self.warnings.append(("not-held", f"lists are no values of a point, not read: {', '.join(lists)}"))
        if reference == UNKNOWN:
            self.warnings.append(("crs-missing", "a PLY file names no reference system; its unit is unknown"))

    def _mapped(self) -> AnyArray:
        path, vertex = self.head.path, self.vertex
        if not vertex.plain:
            raise FormatError(f"{path}: its vertices have lists, which Kerb does not read")
        at = self.head.at
        for element in self.head.elements:
            if element is vertex:
                break
            if not element.plain:
                raise FormatError(f"{path}: lists stand before the vertices, which Kerb does not read")
            at += element.count * element.record(self.head.order).itemsize
        record = vertex.record(self.head.order)
        room = max(path.stat().st_size - at, 0) // record.itemsize
        if room < vertex.count:
            if not self.partial or not room:
                text = f"{path}: ends too early: the head says {vertex.count} points, the file holds {room}"
                raise TruncatedError(text, room, vertex.count)
            self.good = room
        return np.memmap(path, record, "r", offset=at, shape=(self.good,))

    def _read(self, size: int) -> Iterator[tuple[Floats, Columns]]:
        if not self.head.order:
            yield from self._ascii(size)
            return
        for at in range(0, self.good, size):
            yield _split(np.asarray(self._map[at : at + size]))

    def _ascii(self, size: int) -> Iterator[tuple[Floats, Columns]]:
        """Rows of words; a row that is not as long as it should be ends the reading with its number."""
        path, record = self.head.path, self.vertex.record("<")
        skip = 0
        for element in self.head.elements:
            if element is self.vertex:
                break
            skip += element.count
        done = 0
        with open(path, encoding="latin-1") as stream:
            stream.seek(self.head.at)
            for _ in range(skip):
                if not stream.readline():
                    break
            while done < self.vertex.count:
                lines = _lines(stream, min(size, ROWS_AT_ONCE, self.vertex.count - done))
                if not lines:
                    break
                rows = lines if self.vertex.plain else _unlisted(path, self.vertex, lines, done)
                yield _split(_parsed(path, rows, record, done))
                done += len(lines)
        if done < self.vertex.count and not self.partial:
            text = f"{path}: ends too early: the head says {self.vertex.count} points, the file holds {done}"
            raise TruncatedError(text, done, self.vertex.count)


def _lines(stream: Any, count: int) -> list[str]:
    lines: list[str] = []
    while len(lines) < count:
        line = stream.readline(100_000)
        if not line:
            break
        if line.strip():
            lines.append(line)
    return lines


def _parsed(path: Path, lines: list[str], record: np.dtype, done: int) -> AnyArray:
    names = record.names or ()
    out = np.empty(len(lines), record)
    try:
        # Whole numbers of 64 bits do not pass through decimals unharmed.
        wide = [name for name in names if record[name].kind in "iu" and record[name].itemsize == 8]
        table = np.loadtxt(lines, np.float64, ndmin=2, usecols=range(len(names)))
        for column, name in enumerate(names):
            with np.errstate(invalid="ignore"):
                out[name] = table[:, column]
        for name in wide:
            column = names.index(name)
            out[name] = [int(line.split()[column]) for line in lines]
    except ValueError as error:
        raise FormatError(f"{path}: a vertex after number {done} is not what the head says ({error})") from None
    return out


def _unlisted(path: Path, element: PlyElement, lines: list[str], done: int) -> list[str]:
    """Rows of words without those of lists, which a point has no place for."""
    rows = []
    for number, line in enumerate(lines, done + 1):
        words, kept, at = line.split(), [], 0
        try:
            for _, _, listed in element.properties:
                if listed:
                    at += 1 + int(words[at])
                else:
                    kept.append(words[at])
                    at += 1
        except (IndexError, ValueError):
            raise FormatError(f"{path}: vertex {number} is not what the head says") from None
        rows.append(" ".join(kept))
    return rows


def _split(rows: AnyArray) -> tuple[Floats, Columns]:
    xyz = np.column_stack([rows[axis].astype(np.float64) for axis in "xyz"])
    columns: Columns = {}
    for name in rows.dtype.names or ():
        if name in ("x", "y", "z"):
            continue
        values = rows[name]
        kept = NAMED.get(name.lower(), name.lower() if name.lower() in ("red", "green", "blue", "intensity") else name)
        if kept in ("red", "green", "blue"):
            values = _channel(values)
        if kept == "classification" and values.dtype.kind == "f":
            values = np.clip(np.nan_to_num(values), 0, 255)
        if kept == "classification":
            values = values.astype(np.uint8)
        columns[free_name(kept, columns)] = np.ascontiguousarray(values, values.dtype.newbyteorder("="))
    return xyz, columns


def _channel(values: AnyArray) -> AnyArray:
    """A colour channel as 0 to 255; floats run from 0 to 1."""
    if values.dtype.kind == "f":
        return np.asarray(np.clip(np.nan_to_num(values) * 255, 0, 255)).astype(np.uint16)
    return values.astype(np.uint16)


def write_ply(outgoing: Outgoing, path: Path, progress: Progress) -> int:
    """Write points as binary PLY with double coordinates, every column, and the unit in a comment.

    Returns the number of points. Raises OutputError, when nothing is left to write; Cancelled.
    """
    count = bounds(outgoing)[2]
    if not count:
        raise OutputError(f"{path}: no points are left to write")
    names = {name: re.sub(r"[^A-Za-z0-9_]+", "_", name) for name in outgoing.kinds}
    kinds = {name: kind.newbyteorder("<") for name, kind in outgoing.kinds.items() if kind.str[1:] in WRITTEN}
    fields = [(axis, "<f8") for axis in "xyz"] + [(names[name], kind.str) for name, kind in kinds.items()]
    record = np.dtype(fields)
    head = ["ply", "format binary_little_endian 1.0", "comment written by Kerb"]
    if outgoing.reference.certainty != "assumed":
        if not is_geographic(outgoing.reference):
            head.append(f"comment unit {outgoing.reference.unit.code}")
        head.append(f"comment heights {outgoing.reference.vertical_unit.code}")
    if outgoing.reference.code or outgoing.reference.name:
        head.append(f"comment reference system {outgoing.reference.code} {outgoing.reference.name}".replace("\n", " "))
    head.append(f"element vertex {count}")
    head += [f"property {WRITTEN[record[name].str[1:]]} {name}" for name in record.names or ()]
    with placed_when_complete(path) as partial, open(partial, "wb") as stream:
        stream.write(("\n".join([*head, "end_header"]) + "\n").encode("ascii", "replace"))
        done = 0
        for xyz, columns in outgoing.blocks():
            progress.step(done / count, f"Writing {path.name}")
            rows = np.empty(len(xyz), record)
            for axis, values in zip("xyz", outgoing.places(xyz).T, strict=True):
                rows[axis] = values
            for name in kinds:
                rows[names[name]] = columns[name]
            stream.write(rows.tobytes())
            done += len(rows)
    return count


def ply_reference(head: PlyHead) -> ReferenceSystem:
    """The system or the local grid of the unit that comments of the head name, else unknown."""
    reference = UNKNOWN
    if head.system:
        with suppress(InputError):
            reference = from_text(head.system)
    if head.unit:
        unit = FILE_UNITS[head.unit]
        reference = replace(reference, unit=unit, vertical_unit=unit) if reference.wkt else local_grid(unit)
    if head.heights and reference != UNKNOWN:
        reference = consistent(replace(reference, vertical_unit=FILE_UNITS[head.heights]))
    return reference
