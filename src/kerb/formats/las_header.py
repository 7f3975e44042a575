"""The head of a LAS file, checked before anything is believed: public header block and variable length records.

Field offsets follow ASPRS LAS 1.4 R15, table 3. Only what passes here is handed to laspy.
"""

from __future__ import annotations

import io
import struct
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO

import laspy
import numpy as np

from kerb.core.errors import FormatError
from kerb.core.units import LENGTH_UNITS

HEADER_SIZES = {0: 227, 1: 227, 2: 227, 3: 235, 4: 375}
RECORD_LENGTHS = {0: 20, 1: 28, 2: 26, 3: 34, 4: 57, 5: 63, 6: 30, 7: 36, 8: 38, 9: 59, 10: 67}
VLR_HEAD = 54
EVLR_HEAD = 60
EVLR_KEPT = 4_000_000
EXTRA_BYTES = ("LASF_Spec", 4)
# Formats 0 to 5 keep whole degrees under another name than the later ones, which count in steps of 0.006 degrees.
RANK, ANGLE, ANGLE_STEP = "scan_angle_rank", "scan_angle", 0.006
# The detail of a stream that says which of the two kinds of GPS time its times are.
STANDARD_TIME = "gps_standard"
LASZIP = ("laszip encoded", 22204)


@dataclass(frozen=True)
class Record:
    """A variable length record as it stands in the file."""

    user: str
    number: int
    description: bytes
    data: bytes

    @property
    def key(self) -> tuple[str, int]:
        """What kind of record it is."""
        return self.user, self.number


@dataclass
class LasHead:
    """The checked head of a LAS or LAZ file."""

    path: Path
    block: bytes
    records: list[Record]
    extended: list[Record]
    count: int
    size: int
    warnings: list[tuple[str, str]] = field(default_factory=list)

    @property
    def minor(self) -> int:
        """Minor version, 0 to 4."""
        return self.block[25]

    @property
    def compressed(self) -> bool:
        """Whether the points are LAZ."""
        return bool(self.block[104] & 0xC0)

    @property
    def extra_units(self) -> dict[str, str]:
        """Length units of extra dimensions by name, where their description is a unit code and nothing else."""
        units = {}
        for record in self.records:
            for at in range(0, len(record.data) - 191, 192) if record.key == EXTRA_BYTES else ():
                code = _text(record.data[at + 160 : at + 192])
                if code in LENGTH_UNITS:
                    units[_text(record.data[at + 4 : at + 36])] = code
        return units

    @property
    def point_format(self) -> int:
        """Point format number, 0 to 10."""
        return self.block[104] & 0x3F

    @property
    def record_length(self) -> int:
        """Bytes of a point record, extra bytes included."""
        return int(struct.unpack_from("<H", self.block, 105)[0])

    @property
    def points_at(self) -> int:
        """File offset of the first point."""
        return int(struct.unpack_from("<I", self.block, 96)[0])

    @property
    def wkt_flag(self) -> bool:
        """Whether the global encoding says that the reference system is WKT."""
        return bool(self.block[6] & 0x10)

    @property
    def standard_time(self) -> bool:
        """Whether times are adjusted standard GPS time and not seconds of the week."""
        return bool(self.block[6] & 0x01)

    @property
    def scale(self) -> np.ndarray:
        """Scale factors, (3,)."""
        return np.array(struct.unpack_from("<3d", self.block, 131))

    @property
    def origin(self) -> np.ndarray:
        """Offsets, (3,)."""
        return np.array(struct.unpack_from("<3d", self.block, 155))

    @property
    def stated_bounds(self) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest corner as the header claims, (3,) each."""
        values = struct.unpack_from("<6d", self.block, 179)
        return np.array(values[1::2]), np.array(values[0::2])

    def to_bytes(self) -> bytes:
        """Header block and records in one piece, with offsets that fit and no points after them."""
        body = b"".join(_vlr_bytes(record) for record in self.records)
        block = bytearray(self.block)
        struct.pack_into("<I", block, 96, len(block) + len(body))
        struct.pack_into("<I", block, 100, len(self.records))
        # Waveforms are not carried over: nothing may point at them, nor say where they are.
        block[6] &= ~0x06 & 0xFF
        if len(block) >= 235:
            struct.pack_into("<Q", block, 227, 0)
        if len(block) >= 247:
            struct.pack_into("<QI", block, 235, 0, 0)
        return bytes(block) + body

    def to_laspy(self) -> laspy.LasHeader:
        """The same head as laspy reads it. Raises FormatError when laspy will not have it."""
        return laspy_header(self.to_bytes(), str(self.path))


def no_data(header: laspy.LasHeader) -> dict[str, float]:
    """The value that stands for none, of each extra dimension that has one (ASPRS LAS 1.4 R15, table 24)."""
    found = {}
    for item in header.point_format.extra_dimensions:
        value = item.no_data
        if value is not None and np.size(value) == 1:
            found[item.name] = float(np.ravel(value)[0])
    return found


def parts_of_arrays(header: laspy.LasHeader) -> dict[str, list[str]]:
    """Names of the columns that extra dimensions of two or three elements become, by dimension.

    Types 11 to 30 of the extra bytes of LAS 1.4; since its revision 14 one dimension an element is written in their place.
    Longer ones are bytes without a meaning.
    """
    return {
        item.name: [f"{item.name}_{k + 1}" for k in range(item.num_elements)]
        for item in header.point_format.extra_dimensions
        if item.num_elements in (2, 3)
    }


def steps_of_rank(degrees: np.ndarray) -> np.ndarray:
    """Whole degrees as the steps that later formats count in."""
    return np.asarray(np.round(np.asarray(degrees, float) / ANGLE_STEP))


def laspy_header(blob: bytes, name: str) -> laspy.LasHeader:
    """A laspy header from bytes kept by :meth:`LasHead.to_bytes`. Raises FormatError."""
    try:
        header = _keeping_no_data(laspy.LasHeader.read_from(io.BytesIO(blob)))
        header.point_format.dtype()  # extra dimensions of no size are found out only here
        return header
    except Exception as error:  # laspy lets struct, value and numpy errors through; all mean the same here
        raise FormatError(f"{name}: the LAS header cannot be read ({error})") from None


def _keeping_no_data(header: laspy.LasHeader) -> laspy.LasHeader:
    """The header with the values that stand for none at its dimensions, where laspy drops them on reading."""
    said = {}
    for record in header.vlrs.get("ExtraBytesVlr"):
        for item in record.extra_bytes_structs:
            if item.no_data is not None:
                said[item.format_name()] = np.atleast_1d(item.no_data)
    if said:
        dimensions = header.point_format.dimensions
        dimensions[:] = [d._replace(no_data=said[d.name]) if d.name in said else d for d in dimensions]
    return header


def read_head(path: Path) -> LasHead:
    """Read and check the head of a LAS or LAZ file.

    Raises
    ------
    FormatError, naming the file and what is wrong with it.
    """
    size = path.stat().st_size
    with open(path, "rb") as stream:
        block = _public_block(stream, path, size)
        head = LasHead(path, block, [], [], 0, size)
        _check_geometry(head)
        head.records = _named_extras(_read_vlrs(stream, head))
        head.count = _stated_count(head)
        if head.minor >= 4:
            head.extended = _read_evlrs(stream, head)
    return head


def _public_block(stream: BinaryIO, path: Path, size: int) -> bytes:
    start = stream.read(227)
    if start[:4] != b"LASF":
        raise FormatError(f"{path}: not a LAS or LAZ file (it does not start with 'LASF')")
    if len(start) < 227:
        raise FormatError(f"{path}: ends inside the header ({size} bytes)")
    major, minor = start[24], start[25]
    if major != 1 or minor not in HEADER_SIZES:
        raise FormatError(f"{path}: LAS version {major}.{minor} is not one of 1.0 to 1.4")
    stated = struct.unpack_from("<H", start, 94)[0]
    if stated < HEADER_SIZES[minor] or stated > size:
        raise FormatError(f"{path}: header size {stated} does not fit LAS 1.{minor} ({HEADER_SIZES[minor]} bytes)")
    block = start + stream.read(stated - 227)
    if len(block) < stated:
        raise FormatError(f"{path}: ends inside the header ({size} bytes)")
    return block


def _check_geometry(head: LasHead) -> None:
    path, minimum = head.path, RECORD_LENGTHS.get(head.point_format)
    if minimum is None:
        raise FormatError(f"{path}: point format {head.point_format} is not one of 0 to 10")
    if head.record_length < minimum:
        raise FormatError(
            f"{path}: point records of {head.record_length} bytes are too short for format "
            f"{head.point_format} ({minimum} bytes)"
        )
    if not len(head.block) <= head.points_at <= head.size:
        raise FormatError(f"{path}: points are said to start at byte {head.points_at} of {head.size}")
    if not np.all(np.isfinite(head.scale)) or np.any(head.scale == 0):
        raise FormatError(f"{path}: scale factors {tuple(head.scale.tolist())} are not usable")
    if np.any(np.abs(head.scale) > 1e6) or not np.all(np.abs(head.origin) < 1e15):
        raise FormatError(f"{path}: scale or offset is absurd ({head.scale.tolist()}, {head.origin.tolist()})")


def _stated_count(head: LasHead) -> int:
    legacy = int(struct.unpack_from("<I", head.block, 107)[0])
    if head.minor >= 4 and len(head.block) >= 255:
        return int(struct.unpack_from("<Q", head.block, 247)[0]) or legacy
    return legacy


def _read_vlrs(stream: BinaryIO, head: LasHead) -> list[Record]:
    number = int(struct.unpack_from("<I", head.block, 100)[0])
    room = head.points_at - len(head.block)
    if number * VLR_HEAD > room:
        raise FormatError(f"{head.path}: {number} header records do not fit in the {room} bytes before the points")
    records = []
    for index in range(number):
        start = stream.read(VLR_HEAD)
        user, kind, length = struct.unpack("<2x16sHH32x", start)
        if stream.tell() + length > head.points_at:
            raise FormatError(f"{head.path}: header record {index + 1} runs into the points")
        records.append(Record(_text(user), kind, start[22:], stream.read(length)))
    return records


def _read_evlrs(stream: BinaryIO, head: LasHead) -> list[Record]:
    if len(head.block) < 247:
        return []
    at, number = struct.unpack_from("<QI", head.block, 235)
    records: list[Record] = []
    if number == 0:
        return records
    if at < head.points_at or at + number * EVLR_HEAD > head.size:
        head.warnings.append(("evlr", f"{number} records after the points are announced but not there"))
        return records
    stream.seek(at)
    for _ in range(number):
        start = stream.read(EVLR_HEAD)
        if len(start) < EVLR_HEAD:
            break
        user, kind, length = struct.unpack("<2x16sHQ32x", start)
        if stream.tell() + length > head.size:
            head.warnings.append(("evlr", f"record '{_text(user)}' after the points runs past the end of the file"))
            break
        if length > EVLR_KEPT:
            head.warnings.append(("evlr", f"record '{_text(user)}' of {length} bytes after the points is not kept"))
            stream.seek(length, 1)
            continue
        records.append(Record(_text(user), kind, start[28:], stream.read(length)))
    return records


def _named_extras(records: list[Record]) -> list[Record]:
    """Put all extra-byte descriptions into one record and give nameless or doubled ones a name of their own."""
    extras = [record for record in records if record.key == EXTRA_BYTES]
    if not extras:
        return records
    taken: set[str] = set()
    described = []
    for record in extras:
        for at in range(0, len(record.data) - 191, 192):
            entry = bytearray(record.data[at : at + 192])
            name = _text(bytes(entry[4:36])) or f"extra_{len(taken) + 1}"
            while name in taken or name in ("X", "Y", "Z", "xyz", "aside"):
                name = f"{name[:28]}_{len(taken) + 1}"
            taken.add(name)
            entry[4:36] = name.encode()[:32].ljust(32, b"\0")
            described.append(bytes(entry))
    merged = Record("LASF_Spec", 4, extras[0].description, b"".join(described))
    others = [record for record in records if record.key != EXTRA_BYTES]
    return [*others, merged]


def _vlr_bytes(record: Record) -> bytes:
    user = record.user.encode("utf-8", "replace")[:16].ljust(16, b"\0")
    description = record.description[:32].ljust(32, b"\0")
    return struct.pack("<2x16sHH", user, record.number, len(record.data)) + description + record.data


def _text(raw: bytes) -> str:
    return raw.split(b"\0", 1)[0].decode("utf-8", "replace").strip()
