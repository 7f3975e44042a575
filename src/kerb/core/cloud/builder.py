"""Build a store folder from a stream of points: read once, arrange into tiles, shuffle, write columns.

Memory is bounded by a chunk and a tile. The folder appears under its final name only when it is complete; a stop or
an error leaves nothing behind.
"""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from itertools import pairwise
from pathlib import Path

import numpy as np

from kerb.core.arrays import AnyArray, Ints, Ints32
from kerb.core.cloud.layout import Layout, PointStream
from kerb.core.cloud.partition import CHUNK, TILE_POINTS, Pieces, Rows, arrange
from kerb.core.cloud.partition_kernels import bounds, touch_voxels
from kerb.core.cloud.spool import XYZ, Spool
from kerb.core.cloud.store import TILE_TYPE, CloudStore, StoreMeta, column_files
from kerb.core.errors import FormatError, OutputError
from kerb.core.parallel import each
from kerb.core.progress import Progress
from kerb.core.space import RowFile, put_in_place, refusal

Preview = Callable[[Ints32, Layout], None]
PREVIEW_POINTS = 60_000
VOXELS = 32
KEEP_EVERY = 4_000_000


def build(stream: PointStream, folder: Path, progress: Progress, preview: Preview | None = None) -> CloudStore:
    """Write the points of ``stream`` as a store at ``folder`` and open it.

    ``preview`` is given a thinned sample of each chunk as it is read, so that a picture can be shown early.

    Raises
    ------
    OutputError, when the folder exists; FormatError, when the stream has no points; Cancelled.
    """
    if folder.exists():
        raise OutputError(f"{folder}: already there, not overwritten")
    work = folder.with_name(folder.name + ".partial")
    shutil.rmtree(work, ignore_errors=True)
    try:
        work.mkdir(parents=True)
        spool = _spool(stream, work, progress.within(0.0, 0.6), preview)
        try:
            rows = spool.rows()
            tiles = arrange(rows, progress.within(0.6, 0.75))
            _write(spool, rows, tiles, work, progress.within(0.75, 1.0))
            del rows
        finally:
            spool.close()
        shutil.rmtree(spool.folder)
        progress.check()
        put_in_place(work, folder)
    except OSError as error:
        shutil.rmtree(work, ignore_errors=True)
        raise OutputError(refusal(error, folder)) from None
    except BaseException:
        shutil.rmtree(work, ignore_errors=True)
        raise
    return CloudStore.open(folder)


def _spool(stream: PointStream, work: Path, progress: Progress, preview: Preview | None) -> Spool:
    """Copy the stream to disk as it comes; a file's own count is not trusted, what arrives is counted."""
    layout = stream.layout
    spool = Spool(work / "spool", layout)
    try:
        for records in stream.chunks(CHUNK):
            progress.step(spool.count / max(stream.count, 1), "Reading points")
            spool.add(records)
            if preview is not None and len(records):
                step = max(1, len(records) // PREVIEW_POINTS)
                preview(np.ascontiguousarray(records["xyz"][::step]), layout)
        if spool.count == 0:
            raise FormatError(f"{layout.source}: holds no points")
    except BaseException:
        spool.close()
        raise
    return spool


def _write(spool: Spool, rows: Rows, tiles: list[Pieces], work: Path, step: Progress) -> None:
    layout = spool.layout
    names = [name for name, column in spool.columns.items() if name != XYZ]
    varying = [name for name in names if not spool.columns[name].constant]
    table = np.zeros(len(tiles), TILE_TYPE)
    first = np.cumsum([0, *(tile.total for tile in tiles)])
    files: dict[str, RowFile] = {}

    def write(group: tuple[int, int]) -> None:
        # A fixed seed for each tile: the same file always makes the same store.
        order = [np.random.default_rng(k).permutation(tiles[k].rows()) for k in range(*group)]
        start, wanted = int(first[group[0]]), np.concatenate(order)
        xyz = rows.xyz.values.take(wanted, axis=0)
        files[XYZ].put(start, xyz)
        for k in range(*group):
            table[k] = tile_row(xyz[first[k] - start : first[k + 1] - start], layout, int(first[k]))
        for name, column in zip(varying, rows.others, strict=True):
            files[name].put(start, column.values.take(wanted, axis=0))
        if start // KEEP_EVERY < first[group[1]] // KEEP_EVERY:
            kept.append(keeper.submit(keep))

    def keep() -> None:
        for file in files.values():
            file.keep()

    # The disk is busy while columns are written, not afterwards alone.
    kept: list[Future[None]] = []
    keeper = ThreadPoolExecutor(1, thread_name_prefix="kerb-core-keep")
    try:
        for name, column in zip([XYZ, *varying], [rows.xyz, *rows.others], strict=True):
            files[name] = RowFile(column_files(work, name)[0], column.values.dtype, column.values.shape)
        each(write, _groups(first), step, "Writing columns")
    finally:
        keeper.shutdown(cancel_futures=True)
        for file in files.values():
            file.close()
    for one in kept:
        # What the disk refused it tells once, and to who asked.
        if not one.cancelled():
            one.result()
    np.save(work / "tiles.npy", table)
    constants = {name: spool.columns[name].one for name in names if spool.columns[name].constant}
    _write_meta(layout, work, table, names, constants)


def _groups(first: Ints) -> list[tuple[int, int]]:
    """Ranges of tiles that together hold about as much as a full one: what a column costs besides its values is by the range."""
    cuts = np.flatnonzero(np.diff(first[1:] // TILE_POINTS)) + 1
    return list(pairwise([0, *cuts.tolist(), len(first) - 1]))


def tile_row(xyz: Ints32, layout: Layout, first: int) -> tuple:
    """A row of the tile table for integer coordinates (n, 3) that start at row ``first`` of the store."""
    low, high = np.full(3, np.iinfo(np.int32).max), np.full(3, np.iinfo(np.int32).min)
    bounds(xyz, low, high)
    size = np.maximum((high - low.astype(np.int64)) * layout.scale, 0)
    corners = layout.origin + layout.scale * low, layout.origin + layout.scale * high
    return (first, len(xyz), corners[0], corners[1], _spacing(xyz, low, size, layout))


def _spacing(xyz: Ints32, low: Ints32, size: AnyArray, layout: Layout) -> float:
    """Typical distance of neighbours on the surface, from the voxels it touches."""
    # Few points need few voxels: about sixteen points to each touched one, or the voxel itself is measured.
    side = int(np.clip(np.sqrt(len(xyz)) / 4, 2, VOXELS))
    voxel = float(size.max()) / side
    if voxel == 0.0:
        return 0.0
    touched = np.zeros(side**3, np.bool_)
    touch_voxels(xyz, low.astype(np.int64), layout.scale / voxel, side, touched)
    return float(voxel * np.sqrt(touched.sum() / len(xyz)))


def _write_meta(layout: Layout, work: Path, table: AnyArray, names: list[str], constants: dict) -> None:
    for name, value in constants.items():
        np.save(column_files(work, name)[1], value)
    meta = StoreMeta(
        count=int(table["count"].sum()),
        scale=layout.scale.tolist(),
        origin=layout.origin.tolist(),
        columns=names,
        reference=layout.reference.to_json(),
        source=layout.source,
        source_format=layout.source_format,
        details=layout.details,
    )
    (work / "store.json").write_text(json.dumps(meta.to_json(), indent=1), encoding="utf-8")
