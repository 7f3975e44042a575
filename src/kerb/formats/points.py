"""Open a file of points by what it is, in the unit and place that the job wants, alone or several as one cloud."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrays import AnyArray, Floats
from kerb.core.cloud.layout import Columns, Layout, PointStream
from kerb.core.cloud.quantise import About, FloatStream
from kerb.core.cloud.setups import DETAIL, SETUP, renumbered, with_setups
from kerb.core.errors import InputError
from kerb.core.placing import CONVERT, TRANSFORM, Placing, same_system
from kerb.core.reference import UNKNOWN, ReferenceSystem
from kerb.core.units import LengthUnit
from kerb.formats.las_header import ANGLE, RANK, STANDARD_TIME, steps_of_rank
from kerb.formats.las_read import LasStream
from kerb.formats.text_table import TextPlan

FILE = "source_file"
MOST_FILES = 65_000


@dataclass(frozen=True)
class Opening:
    """How a file of points is to be opened.

    ``partial`` takes the good points of one that breaks off; ``plan`` says what the columns of a text are; ``setups``
    are numbers of E57 setups from 0, empty for all; ``box`` (plan corners) and ``spacing`` let a COPC file skip parts.
    """

    partial: bool = False
    plan: TextPlan | None = None
    setups: tuple[int, ...] = ()
    box: tuple[Floats, Floats] | None = None
    spacing: float = 0.0
    reference: ReferenceSystem = UNKNOWN


def open_points(path: Path, partial: bool = False, how: Opening | None = None) -> PointStream:
    """A stream of the points of a file. Raises InputError, FormatError or TruncatedError naming it."""
    how = how or Opening(partial)
    if path.is_dir():
        raise InputError(f"{path}: is a folder, not a file of points")
    if not path.exists():
        raise InputError(f"{path}: no such file")
    with open(path, "rb") as stream:
        start = stream.read(8)
    suffix = path.suffix.lower()
    if start[:4] == b"LASF" or suffix in (".las", ".laz"):
        return _las(path, how)
    if start == b"ASTM-E57" or suffix == ".e57":
        from kerb.formats.e57_read import E57Stream

        return E57Stream(path, how.setups)
    if start[:3] == b"ply" or suffix == ".ply":
        from kerb.formats.ply import PlyStream

        return PlyStream(path, how.partial)
    return _text(path, how)


def _las(path: Path, how: Opening) -> PointStream:
    from kerb.formats.copc_read import CopcStream, is_copc

    stream = LasStream(path, how.partial)
    if (how.box is not None or how.spacing > 0) and is_copc(stream):
        return CopcStream(path, how.box, how.spacing)
    return Upright(stream) if np.any(stream.layout.scale < 0) else stream


def _text(path: Path, how: Opening) -> PointStream:
    from kerb.formats.recognise import examine
    from kerb.formats.text_points import TextStream

    seen = examine(path)
    if seen.format != "text":
        raise InputError(f"{path}: is a {seen.format} file, not a file of points")
    reference = seen.reference if how.reference is UNKNOWN else how.reference
    stream = TextStream(path, how.plan, reference)
    if reference.certainty != "assumed":
        stream.warnings = [note for note in stream.warnings if note[0] != "crs-missing"]
    return stream


LIMIT = 2**31 - 1
TIME = "gps_time"


class Stated:
    """A stream whose reference system the analyst states."""

    def __init__(self, stream: PointStream, reference: ReferenceSystem) -> None:
        self._stream = stream
        self.count = stream.count
        self.layout = replace(stream.layout, reference=reference)
        if reference != stream.layout.reference:
            # The file's own record of its system no longer holds when the points are written again.
            self.layout = replace(self.layout, details={**self.layout.details, "converted": ["", reference.code]})

    @property
    def warnings(self) -> list[tuple[str, str]]:
        """Those of the stream, but that it names no system."""
        return [note for note in self._stream.warnings if note[0] != "crs-missing"]

    def chunks(self, size: int) -> Iterator[AnyArray]:
        """The records as they are."""
        return self._stream.chunks(size)


class Upright:
    """A stream whose scale is below zero on some axis, which the format allows: the integers change their sign instead."""

    def __init__(self, stream: PointStream) -> None:
        self._stream = stream
        self.count = stream.count
        self._sign = np.where(stream.layout.scale < 0, -1, 1)
        self.layout = replace(stream.layout, scale=np.abs(stream.layout.scale))

    @property
    def warnings(self) -> list[tuple[str, str]]:
        """Those of the stream."""
        return self._stream.warnings

    def chunks(self, size: int) -> Iterator[AnyArray]:
        """The records with integers of the other sign."""
        for records in self._stream.chunks(size):
            turned = records.copy()
            turned["xyz"] = np.clip(records["xyz"].astype(np.int64) * self._sign, -LIMIT, LIMIT)
            yield turned


class Scaled:
    """A stream in another unit, or with easting and northing exchanged: the integers of the file stay as they are."""

    def __init__(self, stream: PointStream, placing: Placing) -> None:
        self._stream = stream
        self._swap = placing.swap
        self.count = stream.count
        plan, height = placing.factors
        order = [1, 0, 2] if placing.swap else [0, 1, 2]
        factor = np.array([plan, plan, height])
        details = dict(stream.layout.details)
        if plan != 1.0 or height != 1.0 or placing.swap or placing.result != stream.layout.reference:
            details["converted"] = [placing.source.unit.code, placing.result.unit.code]
        details = with_setups(details, lambda places: places[:, order] * factor)
        self.layout: Layout = replace(
            stream.layout,
            scale=stream.layout.scale[order] * factor,
            origin=stream.layout.origin[order] * factor,
            reference=placing.result,
            details=details,
        )
        self._note = _placing_note(placing)

    @property
    def warnings(self) -> list[tuple[str, str]]:
        """Those of the stream, and what was done."""
        return [*self._stream.warnings, *self._note]

    def chunks(self, size: int) -> Iterator[AnyArray]:
        """The records as they are; only the layout tells the unit."""
        for records in self._stream.chunks(size):
            if self._swap:
                records = records.copy()
                records["xyz"] = records["xyz"][:, [1, 0, 2]]
            yield records


class Transformed(FloatStream):
    """A stream in another reference system."""

    def __init__(self, stream: PointStream, placing: Placing) -> None:
        """Raises InputError, when there is no way from system to system."""
        self._stream = stream
        self._mapper = placing.mapper()
        layout = stream.layout
        details = {**layout.details, "converted": [layout.reference.code, placing.result.code]}
        details = with_setups(details, self._mapper)
        super().__init__(self._moved, About(layout.source, layout.source_format, placing.result, details), stream.count)
        self._note = _placing_note(placing)

    def _moved(self, size: int) -> Iterator[tuple[Floats, Columns]]:
        layout = self._stream.layout
        for records in self._stream.chunks(size):
            yield self._mapper(layout.origin + records["xyz"] * layout.scale), layout.split(records)

    def chunks(self, size: int) -> Iterator[AnyArray]:
        """Records in the new system."""
        yield from super().chunks(size)
        own = [note for note in self.warnings if note[0] in ("not-finite", "out-of-reach")]
        self.warnings = [*self._stream.warnings, *self._note, *own]


class Joined(FloatStream):
    """Several streams as one; each point keeps the number of its file in the column ``source_file``."""

    def __init__(self, streams: list[PointStream]) -> None:
        """Raises InputError, when they are in different units or systems or there are too many."""
        if len(streams) > MOST_FILES:
            raise InputError(f"{len(streams)} files are too many for one cloud; the most is {MOST_FILES}")
        first = streams[0].layout
        for stream in streams[1:]:
            if stream.layout.reference.unit != first.reference.unit:
                words = f"{stream.layout.reference.unit.plural}, the first file in {first.reference.unit.plural}"
                raise InputError(f"{stream.layout.source}: is in {words}; convert it before joining")
            own = stream.layout.reference
            if own.vertical_unit != first.reference.vertical_unit:
                words = f"{own.vertical_unit.plural}, those of the first file in {first.reference.vertical_unit.plural}"
                raise InputError(f"{stream.layout.source}: heights are in {words}; convert it before joining")
            if own.wkt and first.reference.wkt and not same_system(own, first.reference):
                words = f"{own.name}, the first file in {first.reference.name}"
                raise InputError(f"{stream.layout.source}: is in {words}; transform it before joining")
        self._streams = streams
        self._kinds = _shared_kinds(streams)
        self._mixed: list[tuple[str, str]] = []
        times = {stream.layout.details.get(STANDARD_TIME) for stream in streams} - {None}
        if len(times) > 1 and self._kinds.pop(TIME, None) is not None:
            words = "some files count GPS time by the week and some do not: times are left out of the joined cloud"
            self._mixed.append(("gps-time", words))
        if RANK in self._kinds and ANGLE in self._kinds:
            del self._kinds[RANK]  # whole degrees become steps of 0.006 degrees
        lists = sorted({name for stream in streams for name in _listed(stream)})
        if lists:
            self._mixed.append(("not-held", f"not joined, since they hold several numbers a point: {', '.join(lists)}"))
        names = [Path(stream.layout.source).name for stream in streams]
        standard = {STANDARD_TIME: True} if times == {True} else {}
        details: dict[str, Any] = {
            **standard,
            "files": [stream.layout.source for stream in streams],
            "file_names": names,
        }
        setups, self._numbers = renumbered([stream.layout.details for stream in streams])
        if setups:
            details[DETAIL] = setups
        about = About(first.source, first.source_format, first.reference, details)
        super().__init__(self._pieces_of_all, about, sum(stream.count for stream in streams))

    def _pieces_of_all(self, size: int) -> Iterator[tuple[Floats, Columns]]:
        for number, stream in enumerate(self._streams):
            layout = stream.layout
            for records in stream.chunks(size):
                have = layout.split(records)
                if ANGLE in self._kinds and ANGLE not in have and RANK in have:
                    have[ANGLE] = steps_of_rank(have[RANK])
                columns: Columns = {
                    name: have[name].astype(kind) if name in have else np.zeros(len(records), kind)
                    for name, kind in self._kinds.items()
                }
                if self._numbers[number]:
                    columns[SETUP] = _exchanged(columns[SETUP], self._numbers[number])
                columns[FILE] = np.full(len(records), number, np.uint16)
                yield layout.origin + records["xyz"] * layout.scale, columns

    def chunks(self, size: int) -> Iterator[AnyArray]:
        """Records of all files, one file after the other."""
        yield from super().chunks(size)
        own = [note for note in self.warnings if note[0] in ("not-finite", "out-of-reach")]
        several = [(code, f"{Path(s.layout.source).name}: {text}") for s in self._streams for code, text in s.warnings]
        self.warnings = [*several, *self._mixed, *own]


def _listed(stream: PointStream) -> list[str]:
    """Columns of a stream that hold several numbers a point."""
    first = next(iter(stream.chunks(16)), None)
    return [] if first is None else [name for name, values in stream.layout.split(first).items() if values.ndim > 1]


def _exchanged(values: AnyArray, change: dict[int, int]) -> AnyArray:
    """Numbers of setups as they are in the joined cloud."""
    table = np.arange(int(values.max(initial=0)) + 1)
    for old, new in change.items():
        if old < len(table):
            table[old] = new
    return table[values].astype(values.dtype)


def _shared_kinds(streams: list[PointStream]) -> dict[str, np.dtype]:
    """Columns of a joined cloud: what any file has, in a type that holds the values of all."""
    kinds: dict[str, np.dtype] = {}
    for stream in streams:
        first = next(iter(stream.chunks(16)), None)
        if first is None:
            continue
        for name, values in stream.layout.split(first).items():
            if values.ndim == 1 and name != FILE:
                kinds[name] = np.promote_types(kinds[name], values.dtype) if name in kinds else values.dtype
    return kinds


def placed(stream: PointStream, placing: Placing) -> PointStream:
    """A stream where a placing puts it; the stream itself where nothing changes. Raises InputError."""
    if placing.how == TRANSFORM:
        return Transformed(stream, placing)
    if placing.factors == (1.0, 1.0) and not placing.swap and placing.result == stream.layout.reference:
        return stream
    return Scaled(stream, placing)


def middle_of(stream: PointStream) -> tuple[float, float] | None:
    """A place (2,) in the middle of the first points; None where no system is known that it could be looked up in."""
    if not stream.layout.reference.wkt:
        return None
    first = next(iter(stream.chunks(1000)), None)
    if first is None:
        return None
    place = stream.layout.origin + first["xyz"].mean(axis=0) * stream.layout.scale
    return float(place[0]), float(place[1])


def in_unit(stream: PointStream, target: LengthUnit) -> PointStream:
    """The stream itself when it is in ``target`` already, else converted about the origin."""
    reference = stream.layout.reference
    if reference.unit == target and reference.vertical_unit == target:
        return stream
    return placed(stream, Placing(CONVERT, reference, replace(reference, unit=target, vertical_unit=target)))


def stated_unit(stream: PointStream, unit: LengthUnit) -> PointStream:
    """The stream with its unit stated by the analyst; the numbers stay."""
    reference = stream.layout.reference.confirmed(unit)
    if reference.wkt and reference.unit != stream.layout.reference.unit:
        reference = replace(reference, wkt="", code="", name=f"{reference.name} (unit overruled)")
    return stated_system(stream, reference)


def stated_system(stream: PointStream, reference: ReferenceSystem) -> PointStream:
    """The stream with its reference system stated by the analyst; the numbers stay."""
    return Stated(stream, reference)


def _placing_note(placing: Placing) -> list[tuple[str, str]]:
    if placing.how == CONVERT:
        words = placing.sentence
        return [] if "without effect" in words else [("unit-converted", words)]
    if placing.how == TRANSFORM:
        return [("crs-transformed", placing.sentence)]
    return [("swapped", "easting and northing were exchanged")] if placing.swap else []
