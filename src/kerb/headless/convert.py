"""``kerb convert IN... OUT``: LAS and LAZ to LAS and LAZ, thinned, filtered, joined, in another unit or system."""

from __future__ import annotations

import argparse
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import laspy
import numpy as np
import pyproj

from kerb.core.arrays import AnyArray, Floats, Mask
from kerb.core.errors import InputError, OutputError
from kerb.core.geometry import polygon
from kerb.core.progress import Progress
from kerb.core.units import LengthUnit, length_unit
from kerb.formats.las_read import LasStream
from kerb.formats.points import open_points, stated_unit
from kerb.formats.polygons import one_polygon
from kerb.headless.options import check_output, progress_to_terminal
from kerb.studies.outcome import Figure, Input, Note, Outcome

CHUNK = 1_000_000


@dataclass
class Filters:
    """Which points go through. ``spacing`` keeps the first point of each cube of that size."""

    every: int = 1
    spacing: float = 0.0
    classes: tuple[int, ...] = ()
    ring: Floats | None = None
    seen: int = 0
    occupied: AnyArray | None = None

    def keep(self, points: Floats, classes: AnyArray | None) -> Mask:
        """Which of the next points (n, 3) go through."""
        number = np.arange(self.seen, self.seen + len(points))
        self.seen += len(points)
        keep = number % self.every == 0
        if self.classes and classes is not None:
            keep &= np.isin(classes, self.classes)
        if self.ring is not None:
            keep &= polygon.contains(self.ring, points)
        if self.spacing > 0:
            keep[keep] = self._first_in_cell(points[keep])
        return keep

    def _first_in_cell(self, points: Floats) -> Mask:
        cells = np.floor(points / self.spacing).astype(np.int64)
        key = (cells[:, 0] * 73_856_093) ^ (cells[:, 1] * 19_349_663) ^ (cells[:, 2] * 83_492_791)
        key = np.column_stack([key, cells[:, 0] * 2_097_169 + cells[:, 1]]).view("i8,i8").ravel()
        _, first = np.unique(key, return_index=True)
        fresh = np.zeros(len(points), bool)
        fresh[first] = True
        if self.occupied is not None and len(self.occupied):
            fresh &= ~np.isin(key, self.occupied)
        new = key[fresh]
        self.occupied = new if self.occupied is None else np.concatenate([self.occupied, new])
        return fresh


@dataclass(frozen=True)
class Target:
    """How the output's coordinates are: unit and reference system of the first input unless said otherwise."""

    unit: LengthUnit | None
    to_crs: str = ""


def convert(inputs: list[Path], out: Path, args: argparse.Namespace, progress: Progress) -> Outcome:
    """Write the points of some files that go through the filters as one file.

    Raises
    ------
    InputError, FormatError or OutputError, naming the file; Cancelled. Neither leaves an output file.
    """
    if out.suffix.lower() not in (".las", ".laz"):
        raise OutputError(f"{out}: the output must end in .las or .laz")
    filters = _filters(args)
    target = Target(length_unit(args.unit) if args.unit else None, args.to_crs or "")
    streams = [_opened(path, args) for path in inputs]
    notes: list[Note] = []
    header = _header(streams[0], target, notes)
    partial = out.with_name(out.name + ".partial")
    try:
        with open(partial, "wb") as sink:
            compress = out.suffix.lower() == ".laz"
            with laspy.open(sink, "w", header=header, do_compress=compress, closefd=False) as writer:
                counts = [_pour(stream, writer, header, (filters, target), progress) for stream in streams]
        if not sum(after for _, after in counts):
            raise OutputError(f"{out}: no point goes through the filters")
        partial.replace(out)
    except OSError as error:
        partial.unlink(missing_ok=True)
        raise OutputError(f"{out}: {error.strerror or error}") from None
    except BaseException:
        partial.unlink(missing_ok=True)
        raise
    return _outcome(streams, counts, out, notes, target)


def _opened(path: Path, args: argparse.Namespace) -> LasStream:
    stream = open_points(path, args.partial)
    if not isinstance(stream, LasStream):
        raise InputError(f"{path}: only LAS and LAZ can be converted")
    return stated_unit(stream, length_unit(args.unit_in)) if args.unit_in else stream  # type: ignore[return-value]


def _filters(args: argparse.Namespace) -> Filters:
    if args.every < 1:
        raise InputError("--every must be one or more")
    if args.spacing < 0 or not np.isfinite(args.spacing):
        raise InputError("--spacing must be above zero")
    ring = None
    if args.within:
        path, _, name = str(args.within).partition("#")
        ring = polygon.checked(one_polygon(Path(path), name).xy, path)
    return Filters(args.every, args.spacing, tuple(args.classes or ()), ring)


def _header(stream: LasStream, target: Target, notes: list[Note]) -> laspy.LasHeader:
    header = stream.head.to_laspy()
    drop = {"laszip encoded", "copc"}
    changed = _unit_changes(stream, target)
    if changed or target.to_crs:
        drop.add("LASF_Projection")
    header.vlrs = laspy.vlrs.vlrlist.VLRList([vlr for vlr in header.vlrs if vlr.user_id not in drop])
    if changed and not target.to_crs:
        assert target.unit is not None
        factor = stream.layout.reference.unit.metres / target.unit.metres
        header.scales, header.offsets = header.scales * factor, header.offsets * factor
        notes.append(
            Note(
                "crs-dropped",
                f"numbers are now {target.unit.plural}; the reference system's record was left out",
            )
        )
    if target.to_crs:
        crs = pyproj.CRS.from_user_input(target.to_crs)
        header.scales = np.full(3, 1e-7 if crs.is_geographic else 0.001)
        first = next(iter(stream.chunks(1000)))
        points = _transformed(stream, _places(stream, first), target)
        header.offsets = np.floor(points.mean(axis=0))
        header.add_crs(crs)
    return header


def _unit_changes(stream: LasStream, target: Target) -> bool:
    return target.unit is not None and target.unit != stream.layout.reference.unit


def _places(stream: LasStream, records: AnyArray) -> Floats:
    return np.asarray(stream.layout.origin + records["xyz"] * stream.layout.scale)


def _transformed(stream: LasStream, points: Floats, target: Target) -> Floats:
    source = stream.layout.reference
    if target.to_crs:
        if not source.wkt:
            raise InputError(f"{stream.path}: names no reference system, so it cannot be transformed")
        change = pyproj.Transformer.from_crs(source.wkt, target.to_crs, always_xy=True)
        return np.column_stack(change.transform(*points.T))
    if target.unit is None:
        return points
    return np.asarray(points * (source.unit.metres / target.unit.metres))


def _pour(
    stream: LasStream, writer: Any, header: laspy.LasHeader, how: tuple[Filters, Target], progress: Progress
) -> tuple[int, int]:
    filters, target = how
    before = after = 0
    for records in stream.chunks(CHUNK):
        progress.step(before / max(stream.count, 1), f"Converting {stream.path.name}")
        before += len(records)
        columns = stream.layout.split(records)
        points = _places(stream, records)
        keep = filters.keep(points, columns.get("classification"))
        if not keep.any():
            continue
        after += int(keep.sum())
        packed = laspy.ScaleAwarePointRecord.zeros(int(keep.sum()), header=header)
        places = _transformed(stream, points[keep], target)
        integers = np.round((places - header.offsets) / header.scales)
        if np.abs(integers).max(initial=0) > 2**31 - 1:
            raise InputError(f"{stream.path}: lies too far from the first file for its coordinate scale")
        for axis, name in enumerate("XYZ"):
            packed.array[name] = integers[:, axis].astype(np.int32)
        for name in header.point_format.dimension_names:
            if name in columns:
                packed[name] = columns[name][keep]
        writer.write_points(packed)
    return before, after


def _outcome(
    streams: list[LasStream], counts: list[tuple[int, int]], out: Path, notes: list[Note], target: Target
) -> Outcome:
    reference = streams[0].layout.reference
    unit = (target.unit or reference.unit).code
    outcome = Outcome("convert", unit, target.to_crs or reference.code or reference.name, {}, {"out": str(out)})
    outcome.inputs = [
        Input("file", str(s.path), a, b, s.layout.reference.sentence) for s, (a, b) in zip(streams, counts, strict=True)
    ]
    outcome.figures = {
        "count_in": Figure(sum(a for a, _ in counts), "", "Points read"),
        "count_out": Figure(sum(b for _, b in counts), "", "Points written"),
    }
    outcome.warnings = notes + [Note(*note) for stream in streams for note in stream.warnings]
    return outcome


def run_convert(args: argparse.Namespace) -> Outcome:
    """The verb ``convert``."""
    *inputs, out = [Path(item) for item in args.files]
    if not inputs:
        raise InputError("convert needs at least one input and one output file")
    check_output(out, args, [str(path) for path in inputs])
    return convert(inputs, out, args, progress_to_terminal())
