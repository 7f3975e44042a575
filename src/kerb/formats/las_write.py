"""Write a store, or some of its rows, as LAS or LAZ with every dimension it came with.

A cloud that came from LAS goes out in its own version, point format, scale, offset and header records; the file is
written beside its name and moved there when complete.
"""

from __future__ import annotations

import base64
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import laspy
import numpy as np
from laspy.vlrs.vlrlist import VLRList

from kerb.core.arrays import Ints
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import OutputError
from kerb.core.progress import Progress
from kerb.formats.las_header import laspy_header

ROWS = 1_000_000
DROPPED = {"laszip encoded", "copc"}


def write_las(store: CloudStore, path: Path, rows: Iterator[Ints] | None, progress: Progress) -> int:
    """Write rows of a store (all of them when ``rows`` is None) to ``path``; ``.laz`` compresses.

    Returns
    -------
    Number of points written.

    Raises
    ------
    OutputError, when the folder cannot be written or nothing is left to write; Cancelled. Neither leaves a file.
    """
    header = _header(store)
    partial = path.with_name(path.name + ".partial")
    written = 0
    try:
        with (
            open(partial, "wb") as stream,
            laspy.open(stream, "w", header=header, do_compress=path.suffix.lower() == ".laz", closefd=False) as out,
        ):
            for block in _blocks(store, rows):
                progress.step(written / max(store.count, 1), f"Writing {path.name}")
                out.write_points(_records(store, header, block))
                written += len(block)
            extended = _extended(store)
            if extended and written:
                out.write_evlrs(extended)
        if not written:
            raise OutputError(f"{path}: no points are left to write")
        partial.replace(path)
    except OSError as error:
        partial.unlink(missing_ok=True)
        raise OutputError(f"{path}: {error.strerror or error}") from None
    except BaseException:
        partial.unlink(missing_ok=True)
        raise
    return written


def _blocks(store: CloudStore, rows: Iterator[Ints] | None) -> Iterator[Ints]:
    if rows is None:
        for at in range(0, store.count, ROWS):
            yield np.arange(at, min(at + ROWS, store.count))
        return
    for block in rows:
        for at in range(0, len(block), ROWS):
            yield block[at : at + ROWS]


def _header(store: CloudStore) -> laspy.LasHeader:
    blob = store.meta.details.get("las_header")
    if blob is None:
        raise OutputError(f"{store.meta.source}: came from no LAS file; its point format is not known")
    header = laspy_header(base64.b64decode(blob), store.meta.source)
    dropped = DROPPED | ({"LASF_Projection"} if store.meta.details.get("converted") else set())
    header.vlrs = VLRList([vlr for vlr in header.vlrs if vlr.user_id not in dropped])
    header.scales, header.offsets = store.scale, store.origin
    return header


def _records(store: CloudStore, header: laspy.LasHeader, rows: Ints) -> Any:
    points = laspy.ScaleAwarePointRecord.zeros(len(rows), header=header)
    xyz = store.xyz[rows]
    for axis, name in enumerate("XYZ"):
        points.array[name] = xyz[:, axis]
    for name in header.point_format.dimension_names:
        if name not in ("X", "Y", "Z"):
            points[name] = store.column(name)[rows]
    return points


def _extended(store: CloudStore) -> VLRList:
    records = VLRList([])
    for item in store.meta.details.get("las_extended", []):
        if item["user"] in DROPPED:
            continue
        description = bytes.fromhex(item["description"]).split(b"\0", 1)[0].decode("utf-8", "replace")
        data = base64.b64decode(item["data"])
        records.append(laspy.VLR(item["user"], item["number"], description, data))
    return records
