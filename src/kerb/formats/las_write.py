"""Write points as LAS or LAZ with every dimension they came with.

Points that came from LAS go out in their own version, point format, scale, offset and header records; others as LAS
1.4, format 6 or 7, with further columns as extra dimensions. The file is written beside its name and moved there when
complete.
"""

from __future__ import annotations

import base64
import contextlib
from pathlib import Path
from typing import Any

import laspy
import numpy as np
import pyproj
from laspy.vlrs.vlrlist import VLRList

from kerb.core.cloud.layout import Columns
from kerb.core.cloud.outgoing import Outgoing, channel
from kerb.core.cloud.store import ELEVATION
from kerb.core.errors import OutputError
from kerb.core.progress import Progress
from kerb.formats.las_header import (
    ANGLE,
    RANK,
    STANDARD_TIME,
    laspy_header,
    no_data,
    parts_of_arrays,
    steps_of_rank,
)
from kerb.formats.las_units import unit_records
from kerb.formats.written import placed_when_complete

DROPPED = {"laszip encoded", "copc"}
PROJECTION = "LASF_Projection"
EXTRA_KINDS = "uif"
COLOURS = ("red", "green", "blue")


def write_las(outgoing: Outgoing, path: Path, progress: Progress, clipped: dict[str, int] | None = None) -> int:
    """Write points to ``path``; ``.laz`` compresses. ``clipped`` gets the number of values out of range, by name.

    Returns
    -------
    Number of points written.

    Raises
    ------
    OutputError, when the folder cannot be written or nothing is left to write; Cancelled. Neither leaves a file.
    """
    header = _header(outgoing)
    nothing = no_data(header)
    colours = _colour_depth(outgoing)
    intensity = _intensity_range(outgoing)
    written = 0
    with (
        placed_when_complete(path) as partial,
        open(partial, "wb") as stream,
        laspy.open(stream, "w", header=header, do_compress=path.suffix.lower() == ".laz", closefd=False) as out,
    ):
        for xyz, columns in outgoing.blocks():
            progress.step(written / max(outgoing.count, 1), f"Writing {path.name}")
            if len(xyz):
                out.write_points(_records(header, xyz, columns, (colours, intensity), nothing, clipped))
                written += len(xyz)
        extended = _extended(outgoing)
        if extended and written:
            out.write_evlrs(extended)
        if not written:
            raise OutputError(f"{path}: no points are left to write")
    return written


def _header(outgoing: Outgoing) -> laspy.LasHeader:
    blob = outgoing.details.get("las_header")
    if blob is None or _high_classes(outgoing, blob):
        header = _fresh_header(outgoing)
    else:
        header = laspy_header(base64.b64decode(blob), outgoing.source)
        moved = bool(outgoing.details.get("converted"))
        dropped = DROPPED | ({PROJECTION} if moved else set())
        header.vlrs = VLRList([vlr for vlr in header.vlrs if vlr.user_id not in dropped])
        if moved:
            _add_reference(header, outgoing)
        if ELEVATION in outgoing.kinds:
            # By this the reader knows that elevations are meant, and no dimension that happens to have the name.
            header.generating_software = "Kerb"
        _add_made(header, outgoing)
    header.scales, header.offsets = outgoing.scale, outgoing.origin
    return header


def _high_classes(outgoing: Outgoing, blob: str) -> bool:
    """Whether classes do not fit in the five bits that the file's old point format has for them."""
    if laspy_header(base64.b64decode(blob), outgoing.source).point_format.id >= 6:
        return False
    found = (
        int(columns["classification"].max(initial=0)) for _, columns in outgoing.blocks() if "classification" in columns
    )
    return any(most > 31 for most in found)


def _fresh_header(outgoing: Outgoing) -> laspy.LasHeader:
    coloured = all(name in outgoing.kinds for name in COLOURS)
    header = laspy.LasHeader(point_format=7 if coloured else 6, version="1.4")
    header.system_identifier, header.generating_software = "OTHER", "Kerb"
    if outgoing.details.get(STANDARD_TIME):
        header.global_encoding.gps_time_type = laspy.header.GpsTimeType.STANDARD
    _add_reference(header, outgoing)
    _add_made(header, outgoing)
    return header


def _add_reference(header: laspy.LasHeader, outgoing: Outgoing) -> None:
    """The reference system as WKT, or at least the unit as GeoTIFF keys where there is only a unit."""
    reference = outgoing.reference
    stated = False
    if reference.wkt:
        # Before LAS 1.4, and with its older point formats, only GeoTIFF keys may say it, which need an EPSG code.
        with contextlib.suppress(RuntimeError):
            header.add_crs(pyproj.CRS.from_wkt(reference.wkt), keep_compatibility=header.point_format.id < 6)
            stated = True
    if not stated:
        header.vlrs.extend(unit_records(reference))
        header.global_encoding.wkt = False


def _add_made(header: laspy.LasHeader, outgoing: Outgoing) -> None:
    """Columns the point format has no place for, as extra dimensions."""
    known = set(header.point_format.dimension_names).union(*parts_of_arrays(header).values())
    for name, kind in outgoing.kinds.items():
        if name in known or name == RANK or kind.kind not in EXTRA_KINDS or kind.itemsize > 8 or kind == np.float16:
            continue
        unit = outgoing.units.get(name, "")
        header.add_extra_dim(laspy.ExtraBytesParams(name[:32], kind, description=unit[:32]))


def _records(
    header: laspy.LasHeader,
    xyz: Any,
    columns: Columns,
    spread: tuple[bool, Any],
    nothing: dict[str, float],
    clipped: dict[str, int] | None,
) -> Any:
    points = laspy.ScaleAwarePointRecord.zeros(len(xyz), header=header)
    for axis, name in enumerate("XYZ"):
        points.array[name] = xyz[:, axis]
    names = set(header.point_format.dimension_names)
    wide, intensity = spread
    for name, values in columns.items():
        name = name[:32]
        if name == RANK and name not in names and ANGLE not in columns:
            name, values = ANGLE, steps_of_rank(values)
        if name not in names:
            continue
        if name in nothing and values.dtype.kind == "f":
            values = np.where(np.isnan(values), nothing[name], values)
        if name in COLOURS:
            values = channel(values, wide)
        elif name == "intensity" and intensity is not None:
            low, high = intensity
            values = np.clip((values - low) / (high - low) * 65535, 0, 65535).astype(np.uint16)
        fitting, over = _fitting(points[name], values)
        points[name] = fitting
        if over and clipped is not None:
            clipped[name] = clipped.get(name, 0) + over
    for name, parts in parts_of_arrays(header).items():
        if all(part in columns for part in parts):
            points[name] = np.column_stack([columns[part] for part in parts])
    for name in ("return_number", "number_of_returns"):
        if name in names and name not in columns:
            points[name] = np.ones(len(xyz), np.uint8)
    return points


def _fitting(field: Any, values: Any) -> tuple[Any, int]:
    """Values as a field of the record takes them: decimals of a whole field are rounded, what is out of range is clipped.

    How many were out of range comes with them.
    """
    kind = np.asarray(field[:0]).dtype
    if kind.kind in "iu" and values.dtype.kind in "iuf" and values.dtype != kind:
        limits = np.iinfo(kind)
        whole = np.nan_to_num(np.round(values)) if values.dtype.kind == "f" else values
        # Whole numbers out of range would wrap round.
        over = (whole < limits.min) | (whole > limits.max)
        return np.clip(whole, limits.min, limits.max).astype(kind), int(over.sum())
    return values, 0


def _colour_depth(outgoing: Outgoing) -> bool:
    """Whether colours use all 16 bits; those of LAS files are taken as they are."""
    if "las_header" in outgoing.details or "red" not in outgoing.kinds:
        return True
    if outgoing.kinds["red"].itemsize == 1:
        return False
    return any(int(columns["red"].max(initial=0)) > 255 for _, columns in outgoing.blocks())


def _intensity_range(outgoing: Outgoing) -> tuple[float, float] | None:
    """Range of float intensities, which LAS keeps as 16 bit; None when they fit as they are."""
    kind = outgoing.kinds.get("intensity")
    if kind is None or kind.kind != "f":
        return None
    low, high, whole = np.inf, -np.inf, True
    for _, columns in outgoing.blocks():
        good = columns["intensity"][np.isfinite(columns["intensity"])]
        if len(good):
            low, high = min(low, float(good.min())), max(high, float(good.max()))
            whole &= bool(np.all(good == np.round(good)))
    if whole and low >= 0 and high <= 65535:
        return (0.0, 65535.0)
    return (low, high if high > low else low + 1.0)


def _extended(outgoing: Outgoing) -> VLRList:
    records = VLRList([])
    for item in outgoing.details.get("las_extended", []):
        if item["user"] in DROPPED or (item["user"] == PROJECTION and outgoing.details.get("converted")):
            continue
        description = bytes.fromhex(item["description"]).split(b"\0", 1)[0].decode("utf-8", "replace")
        data = base64.b64decode(item["data"])
        records.append(laspy.VLR(item["user"], item["number"], description, data))
    return records
