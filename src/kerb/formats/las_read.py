"""Read LAS 1.0–1.4 and LAZ, every point format, as a stream of records for the store.

A file that ends before its header says raises TruncatedError with the number of good points; the caller may ask
again with ``partial=True`` to take those. What the header claims never decides how much memory is taken.
"""

from __future__ import annotations

import base64
import io
from collections.abc import Iterator
from pathlib import Path
from typing import Any, BinaryIO

import laspy
import lazrs
import numpy as np

from kerb.core.arrays import AnyArray
from kerb.core.cloud.layout import Columns, Layout, free_name
from kerb.core.cloud.partition_kernels import mark_varying
from kerb.core.cloud.store import ELEVATION
from kerb.core.errors import FormatError, InputError, TruncatedError
from kerb.core.parallel import cores, each, ranges
from kerb.formats.las_header import LASZIP, STANDARD_TIME, LasHead, no_data, parts_of_arrays, read_head
from kerb.formats.las_layers import check_layers
from kerb.formats.las_reference import reference_of

SAFE_LAZ_CHUNK = 5_000_000
USUAL_LAZ_CHUNK = 50_000
VARIABLE_CHUNK = 0xFFFFFFFF
RECOVERY_STEP = 5_000
SAMPLE_PLACES = 24


class LasStream:
    """The points of a LAS or LAZ file, read once from front to back."""

    def __init__(self, path: Path, partial: bool = False) -> None:
        """Open a file. Raises InputError when it cannot be opened, FormatError when its head is not usable."""
        try:
            self.head = read_head(path)
        except OSError as error:
            raise InputError(f"{path}: {error.strerror or error}") from None
        self.path = path
        self.partial = partial
        self.header = self.head.to_laspy()
        reference, warnings = reference_of(self.head)
        self.warnings = [*self.head.warnings, *warnings]
        self.count = self.head.count
        if self.count == 0:
            raise FormatError(f"{path}: the file holds no points")
        self._check_room()
        self.layout = Layout(
            scale=self.head.scale,
            origin=self.head.origin,
            record=_record_type(self.header, self.head),
            split=_splitter(self.header),
            reference=reference,
            source=str(path),
            source_format="LAZ" if self.head.compressed else "LAS",
            details=_details(self.head),
        )

    def _check_room(self) -> None:
        """Compare the count with the bytes there are; take fewer points only when that was asked for."""
        if self.head.compressed:
            return
        room = max(self.head.size - self.head.points_at, 0)
        good = min(self.count, room // self.head.record_length)
        if good < self.count:
            self._accept_break(good)

    def _accept_break(self, good: int) -> None:
        text = f"the header says {self.head.count} points, the file holds {good}"
        if not self.partial or good == 0:
            raise TruncatedError(f"{self.path}: ends too early: {text}", good, self.head.count)
        self.warnings.append(("truncated", f"{text}; these were read"))
        self.count = good

    def chunks(self, size: int) -> Iterator[AnyArray]:
        """Records of the layout's type, ``size`` or fewer at a time.

        Raises
        ------
        TruncatedError, when the file breaks off and ``partial`` was not asked for.
        """
        with open(self.path, "rb") as stream:
            stream.seek(self.head.points_at)
            yield from (self._unpack(stream, size) if self.head.compressed else self._plain(stream, size))

    def sample(self, most: int) -> AnyArray:
        """Records from all over the file, at most about ``most``, without reading all of it.

        Raises FormatError, when not even the first points can be read.
        """
        places = np.unique(np.linspace(0, max(self.count - 1, 0), SAMPLE_PLACES).astype(np.int64))
        each = max(1, most // len(places))
        if self.head.compressed and not self._can_seek():
            return next(self.chunks(most))
        if self.head.compressed:
            with open(self.path, "rb") as stream:
                check_layers(stream, self.head, laszip_record(self.head))
        pieces = []
        try:
            with open(self.path, "rb") as stream:
                for place in places.tolist():
                    rows = np.empty(min(each, self.count - place), self.layout.record)
                    if self.head.compressed:
                        stream.seek(self.head.points_at)
                        unpacker = lazrs.LasZipDecompressor(stream, laszip_record(self.head))
                        unpacker.seek(place)
                        unpacker.decompress_many(rows.view(np.uint8))
                    else:
                        stream.seek(self.head.points_at + place * self.head.record_length)
                        raw = np.frombuffer(stream.read(rows.nbytes), np.uint8)
                        rows = raw[: len(raw) // rows.itemsize * rows.itemsize].view(self.layout.record)
                    pieces.append(rows)
        except BaseException as error:
            if not is_fault(error):
                raise
            return next(self.chunks(most))
        return np.concatenate(pieces)

    def _can_seek(self) -> bool:
        """Whether the chunk table is there and sound, so that places far into the file cost one chunk and no more."""
        data = laszip_record(self.head)
        if int.from_bytes(data[12:16], "little") == VARIABLE_CHUNK:
            return False
        with open(self.path, "rb") as stream:
            return _chunk_table_sound(stream, self.head, data)

    def _plain(self, stream: BinaryIO, size: int) -> Iterator[AnyArray]:
        left = self.count
        while left:
            raw = stream.read(min(size, left) * self.head.record_length)
            records = np.frombuffer(raw[: len(raw) // self.head.record_length * self.head.record_length], np.uint8)
            rows = records.view(self.layout.record)
            if not len(rows):
                return
            left -= len(rows)
            yield rows

    def _unpack(self, stream: BinaryIO, size: int) -> Iterator[AnyArray]:
        done = 0
        try:
            unpacker = _decompressor(stream, self.head)
            some = _at_once(self.head)
            while done < self.count:
                rows = np.empty(min(size, self.count - done), self.layout.record)
                for at in range(0, len(rows), some):
                    unpacker.decompress_many(rows[at : at + some].view(np.uint8))
                done += len(rows)
                yield rows
        except BaseException as error:
            if isinstance(error, InputError) or not is_fault(error):
                raise
            yield from self._recover(done, error)

    def _recover(self, done: int, reason: BaseException) -> Iterator[AnyArray]:
        """Read on from ``done`` in small steps until the break, then say how far it went."""
        pieces = list(self._small_steps(done))
        good = done + sum(len(piece) for piece in pieces)
        if good == 0:
            raise FormatError(
                f"{self.path}: the compressed points cannot be read ({' '.join(str(reason).split())})"
            ) from None
        self._accept_break(good)
        yield from pieces

    def _small_steps(self, done: int) -> Iterator[AnyArray]:
        with open(self.path, "rb") as stream:
            try:
                unpacker = _front_to_back(stream, self.head, laszip_record(self.head))
                at = 0
                while at < self.count:
                    rows = np.empty(min(RECOVERY_STEP, self.count - at), self.layout.record)
                    unpacker.decompress_many(rows.view(np.uint8))
                    at += len(rows)
                    if at > done:
                        yield rows[max(0, len(rows) - (at - done)) :]
            except BaseException as error:
                if not is_fault(error):
                    raise


def is_fault(error: BaseException) -> bool:
    """Whether a file is to blame: lazrs reports a broken stream as an error or as a Rust panic, a BaseException."""
    return isinstance(error, Exception) or type(error).__name__ == "PanicException"


def laszip_record(head: LasHead) -> bytes:
    """The record that says how the points are compressed. Raises FormatError when it is not there."""
    for record in head.records:
        if record.key == LASZIP:
            return record.data
    raise FormatError(f"{head.path}: marked as compressed, but the record that says how is missing")


def _decompressor(stream: BinaryIO, head: LasHead) -> Any:
    """The parallel decompressor where the file's chunk table is sound, else the one that reads front to back."""
    data = laszip_record(head)
    if len(data) < 34:
        raise FormatError(f"{head.path}: the compression record is too short")
    check_layers(stream, head, data)
    stream.seek(head.points_at)
    if _chunk_table_sound(stream, head, data):
        return lazrs.ParLasZipDecompressor(stream, data)
    return _front_to_back(stream, head, data)


class _WithoutTable(io.RawIOBase):
    """The file as if its chunk table were empty: its offset and an empty table stand where lazrs looks for them."""

    def __init__(self, stream: BinaryIO, start: int, size: int) -> None:
        self.stream, self.start, self.size = stream, start, size
        self.at = start
        self.patches = {start: size.to_bytes(8, "little"), size: bytes(8)}

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self.at

    def seek(self, offset: int, whence: int = 0) -> int:
        self.at = offset + (0, self.at, self.size + 8)[whence]
        return self.at

    def readinto(self, buffer: Any) -> int:
        self.stream.seek(self.at)
        data = bytearray(self.stream.read(len(buffer)))
        for place, patch in self.patches.items():
            for i, value in enumerate(patch):
                k = place + i - self.at
                if 0 <= k < len(buffer):
                    data.extend(bytes(max(k + 1 - len(data), 0)))
                    data[k] = value
        buffer[: len(data)] = data
        self.at += len(data)
        return len(data)


def _at_once(head: LasHead) -> int:
    """How many points to unpack at a time. lazrs holds Python's lock meanwhile, which stops all that is drawn: so no more than
    one compressed chunk for each core, a twentieth of a second."""
    per_chunk = int.from_bytes(laszip_record(head)[12:16], "little")
    return per_chunk * cores() if 0 < per_chunk <= SAFE_LAZ_CHUNK else USUAL_LAZ_CHUNK * cores()


def _front_to_back(stream: BinaryIO, head: LasHead, data: bytes) -> Any:
    """A decompressor that needs no chunk table. Chunks of varying size cannot be read without one."""
    if int.from_bytes(data[12:16], "little") == VARIABLE_CHUNK:
        raise FormatError(f"{head.path}: the table of its compressed chunks is damaged")
    source = io.BufferedReader(_WithoutTable(stream, head.points_at, head.size), 1 << 16)
    source.seek(head.points_at)
    return lazrs.LasZipDecompressor(source, data)


def _chunk_table_sound(stream: BinaryIO, head: LasHead, data: bytes) -> bool:
    """Whether the table of compressed chunks can be what it says.

    lazrs takes memory for as many chunks and bytes as the table claims, and ends the whole process when there is not
    so much; so the claims are held against the size of the file first.
    """
    per_chunk = int.from_bytes(data[12:16], "little")
    if per_chunk == 0 or (per_chunk != VARIABLE_CHUNK and per_chunk > SAFE_LAZ_CHUNK):
        return False
    stream.seek(head.points_at)
    at = int.from_bytes(stream.read(8), "little", signed=True)
    if at == -1:
        stream.seek(-8, 2)
        at = int.from_bytes(stream.read(8), "little", signed=True)
    if not head.points_at + 8 <= at <= head.size - 8:
        return False
    stream.seek(at)
    chunks = int.from_bytes(stream.read(8)[4:], "little")
    most = head.size - head.points_at if per_chunk == VARIABLE_CHUNK else -(-head.count // per_chunk) + 1
    if chunks > min(most, head.size - head.points_at):
        return False
    try:
        stream.seek(at)
        table = lazrs.read_chunk_table_only(stream, lazrs.LazVlr(data))
    except BaseException as error:
        if not is_fault(error):
            raise
        return False
    finally:
        stream.seek(head.points_at)
    return sum(entry[1] for entry in table) <= head.size


def _record_type(header: laspy.LasHeader, head: LasHead) -> np.dtype:
    """The file's record with X, Y and Z seen as one field ``xyz``."""
    raw = header.point_format.dtype()
    names, formats, offsets = ["xyz"], [np.dtype(("<i4", (3,)))], [0]
    for name in raw.names[3:]:
        kind, offset = raw.fields[name][:2]
        names.append(name)
        formats.append(kind)
        offsets.append(offset)
    if raw.itemsize > head.record_length:
        raise FormatError(f"{head.path}: extra dimensions do not fit in records of {head.record_length} bytes")
    return np.dtype({"names": names, "formats": formats, "offsets": offsets, "itemsize": head.record_length})


def _splitter(header: laspy.LasHeader) -> Any:
    point_format = header.point_format
    names: dict[str, str] = {}
    arrays = parts_of_arrays(header)
    for name in point_format.dimension_names:
        if name not in ("X", "Y", "Z") and name not in arrays:
            # Kerb itself writes the elevations of a cloud of heights under that name, and means it.
            own = name == ELEVATION and str(header.generating_software).startswith("Kerb")
            names[name] = name if own else free_name(name, names.values())

    nothing = no_data(header)

    raw = point_format.dtype()
    kinds = [raw.fields[name] for name in raw.names]

    def split(records: AnyArray) -> Columns:
        # The same bytes as laspy names their parts, without a copy; records may be longer than these.
        as_laspy = np.dtype(
            {
                "names": raw.names,
                "formats": [k[0] for k in kinds],
                "offsets": [k[1] for k in kinds],
                "itemsize": records.itemsize,
            }
        )
        points = laspy.PackedPointRecord(np.ascontiguousarray(records).view(as_laspy), point_format)
        one = points[:1]
        bits = {name: field for name, (field, _) in points.sub_fields_dict.items()}
        alike = _alike(points.array)

        def column(name: str) -> AnyArray:
            if bits.get(name, name) not in alike:
                return np.asarray(points[name])
            first = np.asarray(one[name])
            return np.broadcast_to(first, (len(points), *first.shape[1:]))

        found = {own: column(name) for name, own in names.items()}
        for name, parts in arrays.items():
            values = column(name)
            found |= {free_name(part, found): values[:, k] for k, part in enumerate(parts)}
        for name, value in nothing.items():
            if name in names:
                found[names[name]] = _known(found[names[name]], value)
        return found

    return split


def _alike(records: AnyArray) -> set[str]:
    """Fields that have the same bytes in all records, found in one pass: most fields of a tile, and none need be unpacked."""
    if not len(records):
        return set()
    rows = records.view(np.uint8).reshape(len(records), records.dtype.itemsize)

    def varies(piece: tuple[int, int]) -> AnyArray:
        found = np.zeros(rows.shape[1], np.uint8)
        mark_varying(rows[slice(*piece)], rows[0], found)
        return found

    varying = np.bitwise_or.reduce(each(varies, ranges(len(rows), 50_000, 1)))
    fields = (records.dtype.fields or {}).items()
    return {name for name, (kind, at, *_) in fields if not varying[at : at + kind.itemsize].any()}


def _known(values: AnyArray, nothing: float) -> AnyArray:
    """Values with what stands for none as NaN; whole numbers become decimals that hold them."""
    kind = (
        values.dtype if values.dtype.kind == "f" else np.dtype(np.float64 if values.dtype.itemsize > 2 else np.float32)
    )
    wide = values.astype(kind)
    return np.where(wide == np.asarray(nothing, kind), np.asarray(np.nan, kind), wide)


def _details(head: LasHead) -> dict[str, Any]:
    """What is needed to write the cloud back as it came."""
    low, high = head.stated_bounds
    extended = [
        {"user": r.user, "number": r.number, "description": r.description.hex(), "data": _packed(r.data)}
        for r in head.extended
    ]
    return {
        "las_header": _packed(head.to_bytes()),
        "las_extended": extended,
        "las_version": f"1.{head.minor}",
        "point_format": head.point_format,
        "stated_low": low.tolist(),
        "stated_high": high.tolist(),
        "units": head.extra_units,
        STANDARD_TIME: bool(head.standard_time),
    }


def _packed(data: bytes) -> str:
    return base64.b64encode(data).decode("ascii")
