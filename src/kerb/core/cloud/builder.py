"""Build a store folder from a stream of points: read once, arrange into tiles, shuffle, write columns.

Memory is bounded by a chunk and a tile. The folder appears under its final name only when it is complete; a stop or
an error leaves nothing behind.
"""

from __future__ import annotations

import json
import shutil
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from pathlib import Path

import numpy as np

from kerb.core.arrays import AnyArray, Ints32
from kerb.core.cloud.layout import Layout, PointStream
from kerb.core.cloud.partition import CHUNK, TILE_POINTS, Rows, arrange, bounds_of
from kerb.core.cloud.partition_kernels import bounds, touch_voxels
from kerb.core.cloud.store import TILE_TYPE, CloudStore, StoreMeta, column_files
from kerb.core.errors import FormatError, OutputError
from kerb.core.parallel import each
from kerb.core.progress import Progress
from kerb.core.space import RowFile, mapped_rows, put_in_place, refusal

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
        rows = _spool(stream, work, progress.within(0.0, 0.5), preview)
        tiles = arrange(rows, progress.within(0.5, 0.7))
        arranged = rows.back
        # Before the columns are written, so that no more than twice the store is on the disk at any time.
        del rows
        (work / "front.rows").unlink()
        _write(stream.layout, arranged, tiles, work, progress.within(0.7, 1.0))
        del arranged
        (work / "back.rows").unlink()
        progress.check()
        put_in_place(work, folder)
    except OSError as error:
        shutil.rmtree(work, ignore_errors=True)
        raise OutputError(refusal(error, folder)) from None
    except BaseException:
        shutil.rmtree(work, ignore_errors=True)
        raise
    return CloudStore.open(folder)


def _spool(stream: PointStream, work: Path, progress: Progress, preview: Preview | None) -> Rows:
    """Copy the stream to disk as it comes; a file's own count is not trusted, what arrives is counted."""
    layout = stream.layout
    arrived, ends = 0, []
    with open(work / "front.rows", "wb") as spool:
        for records in _ahead(stream.chunks(CHUNK)):
            progress.step(arrived / max(stream.count, 1), "Reading points")
            records = np.ascontiguousarray(records)
            spool.write(records.view(np.uint8).data)
            ends.append(bounds_of(records))
            arrived += len(records)
            if preview is not None:
                step = max(1, len(records) // PREVIEW_POINTS)
                preview(np.ascontiguousarray(records["xyz"][::step]), layout)
    if arrived == 0:
        raise FormatError(f"{layout.source}: holds no points")
    front = np.memmap(work / "front.rows", layout.record, "r+", shape=(arrived,))
    back = mapped_rows(work / "back.rows", layout.record, arrived)
    lows, highs = zip(*ends, strict=True)
    return Rows(front, back, layout.scale, np.min(lows, axis=0), np.max(highs, axis=0))


def _ahead(chunks: Iterator[AnyArray]) -> Iterator[AnyArray]:
    """The same chunks, the next one unpacked while the present one is written."""
    with ThreadPoolExecutor(1, thread_name_prefix="kerb-core-ahead") as reader:
        waiting = reader.submit(next, chunks, None)
        while True:
            records = waiting.result()
            if records is None:
                return
            waiting = reader.submit(next, chunks, None)
            yield records


class _ColumnFile:
    """A column that is kept as one value for as long as it has only one. Tiles are put by any thread, in any order."""

    def __init__(self, folder: Path, name: str, total: int) -> None:
        self.folder, self.name, self.total = folder, name, total
        self.constant: AnyArray | None = None
        self.file: RowFile | None = None
        self.alike: list[tuple[int, int]] = []
        self._lock = threading.Lock()

    def put(self, at: int, values: AnyArray) -> None:
        with self._lock:
            if self.constant is None:
                self.constant = values[0].copy()
            # What is one value spread over all has no stride.
            if self.file is None and _all_equal(values if values.strides[0] else values[:1], self.constant):
                self.alike.append((at, len(values)))
                return
            if self.file is None:
                path = column_files(self.folder, self.name)[0]
                self.file = RowFile(path, values.dtype, (self.total, *values.shape[1:]))
                for first, count in self.alike:
                    self.file.put(first, np.broadcast_to(self.constant, (count, *values.shape[1:])))
        self.file.put(at, values)


def _all_equal(values: AnyArray, constant: AnyArray | None) -> bool:
    if constant is None:
        return False
    same = values == constant
    if values.dtype.kind == "f":
        same |= (values != values) & (constant != constant)
    return bool(np.all(same))


def _write(layout: Layout, records: AnyArray, tiles: list[tuple[int, int]], work: Path, step: Progress) -> None:
    total = len(records)
    columns: dict[str, _ColumnFile] = {}
    table = np.zeros(len(tiles), TILE_TYPE)
    xyz_file = RowFile(work / "xyz.npy", np.int32, (total, 3))
    bare = records.view(np.dtype((np.void, records.dtype.itemsize)))

    def write(group: tuple[int, int]) -> None:
        start, end = tiles[group[0]][0], sum(tiles[group[1] - 1])
        rows = np.empty(end - start, layout.record)
        for number in range(*group):
            first, count = tiles[number]
            # A fixed seed for each tile: the same file always makes the same store.
            order = np.random.default_rng(number).permutation(count)
            mine = rows[first - start : first - start + count]
            bare[first : first + count].take(order, out=mine.view(bare.dtype), mode="clip")
            xyz = np.ascontiguousarray(mine["xyz"])
            xyz_file.put(first, xyz)
            table[number] = tile_row(xyz, layout, first)
        for name, values in layout.split(rows).items():
            # What is the same for all threads: the first that asks makes it.
            columns.setdefault(name, _ColumnFile(work, name, total)).put(start, values)
        if start // KEEP_EVERY < end // KEEP_EVERY:
            keeper.submit(keep)

    def files() -> list[RowFile]:
        return [xyz_file, *(column.file for column in list(columns.values()) if column.file is not None)]

    def keep() -> None:
        for file in files():
            file.keep()

    # The disk is busy while columns are written, not afterwards alone.
    keeper = ThreadPoolExecutor(1, thread_name_prefix="kerb-core-keep")
    try:
        # The first by itself: columns come in the order in which a tile names them.
        some = _groups(tiles)
        write(some[0])
        each(write, some[1:], step, "Writing columns")
    finally:
        keeper.shutdown(cancel_futures=True)
        for file in files():
            file.close()
    np.save(work / "tiles.npy", table)
    constants = {}
    for name, column in columns.items():
        if column.file is None and column.constant is not None:
            constants[name] = column.constant
    _write_meta(layout, work, table, list(columns), constants)


def _groups(tiles: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Ranges of tiles that together hold about as much as a full one: what a column costs besides its values is by the range."""
    ends = np.cumsum([count for _, count in tiles])
    cuts = np.flatnonzero(np.diff(ends // TILE_POINTS)) + 1
    edges = [0, *cuts.tolist(), len(tiles)]
    return list(pairwise(edges))


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
