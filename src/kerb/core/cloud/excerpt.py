"""Some points of a store as a store of their own: its tiles, without the points that stay behind."""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path

import numpy as np

from kerb.core.arrays import Ints, Mask
from kerb.core.cloud.builder import tile_row
from kerb.core.cloud.layout import Layout
from kerb.core.cloud.sets import PointSets
from kerb.core.cloud.store import CLASSES, TILE_TYPE, CloudStore, column_files
from kerb.core.errors import InputError, JobError, OutputError
from kerb.core.progress import Progress
from kerb.core.space import mapped_array, put_in_place, refusal

LEAST_IN_TILE = 20_000


def excerpt(store: CloudStore, mask: Mask, folder: Path, progress: Progress) -> CloudStore:
    """Write the points of a mask, (n,), as a store at ``folder``: columns, attributes and given classes come along.

    Tiles that become small are joined with their neighbours, and shuffled again.

    Raises
    ------
    InputError, when the mask is empty; OutputError, when the folder exists; JobError, when it cannot be written;
    Cancelled. Nothing is left behind then.
    """
    if not mask.any():
        raise InputError("there are no points in it")
    if folder.exists():
        raise OutputError(f"{folder}: already there, not overwritten")
    work = folder.with_name(folder.name + ".partial")
    shutil.rmtree(work, ignore_errors=True)
    try:
        work.mkdir(parents=True)
        _write(store, _groups(store, mask), work, progress)
        progress.check()
        put_in_place(work, folder)
    except OSError as error:
        shutil.rmtree(work, ignore_errors=True)
        raise JobError(refusal(error, folder)) from None
    except BaseException:
        shutil.rmtree(work, ignore_errors=True)
        raise
    return CloudStore.open(folder)


def _groups(store: CloudStore, mask: Mask) -> list[Ints]:
    """Rows of each tile to be, in store order within it unless tiles were joined."""
    groups: list[Ints] = []
    waiting: list[Ints] = []
    size = 0
    for tile in range(len(store.tiles)):
        rows = store.rows_of(tile)
        mine = np.flatnonzero(mask[rows]) + rows.start
        if not len(mine):
            continue
        waiting.append(mine)
        size += len(mine)
        if size >= LEAST_IN_TILE:
            groups.append(_joined(waiting, len(groups)))
            waiting, size = [], 0
    if waiting:
        groups.append(_joined(waiting, len(groups)))
    return groups


def _joined(pieces: list[Ints], seed: int) -> Ints:
    rows = np.concatenate(pieces)
    return rows if len(pieces) == 1 else np.random.default_rng(seed).permutation(rows)


def _write(store: CloudStore, groups: list[Ints], work: Path, progress: Progress) -> None:
    total = sum(len(rows) for rows in groups)
    layout = Layout(store.scale, store.origin, np.dtype("u1"), lambda _rows: {}, store.reference)
    table = np.zeros(len(groups), TILE_TYPE)
    first = 0
    for number, rows in enumerate(groups):
        table[number] = tile_row(np.ascontiguousarray(store.xyz[rows]), layout, first)
        first += len(rows)
    np.save(work / "tiles.npy", table)
    names = ["xyz", *store.names]
    for done, name in enumerate(names):
        column = store.column(name)
        full, constant = column_files(work, name)
        if name != "xyz" and column.strides[0] == 0:
            np.save(constant, np.asarray(column[0]))
            continue
        target = mapped_array(full, column.dtype, (total, *column.shape[1:]))
        at = 0
        for rows in groups:
            progress.step((done + at / total) / len(names), "Writing columns")
            target[at : at + len(rows)] = column[rows]
            at += len(rows)
    own = [*store.meta.columns, *([CLASSES] if CLASSES in store.names and CLASSES not in store.meta.columns else [])]
    meta = replace(store.meta, count=total, columns=own, attributes=dict(store.meta.attributes))
    made = CloudStore(work, meta, table)
    made.sets = PointSets()
    made.write_meta()
