"""Points that are there twice: at the very same place, or because several files cover the same ground."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Mask
from kerb.core.cloud.own_numbers import in_own_numbers
from kerb.core.cloud.seams import BySource, by_source, offsets, stays
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import InputError
from kerb.core.parallel import each
from kerb.core.progress import Progress
from kerb.core.setting import Setting, setting

PRIMES = np.array([0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9], np.uint64)
MOST_TOGETHER = 4
SOURCES = ("source_file", "point_source_id")
DENSEST, FIRST, LAST = "densest", "first", "last"
PREFERRED = (
    (DENSEST, "The one with most points there"),
    (FIRST, "The one that comes first"),
    (LAST, "The one that comes last"),
)


BETWEEN = (("source_file", "Files"), ("point_source_id", "Strips or setups"))


@dataclass(frozen=True)
class Duplicates:
    """Points at the same place as another; nothing to set."""


@dataclass(frozen=True)
class Overlap:
    """Ground covered by more than one file or strip; ``cell`` in the unit of the cloud."""

    by: str = setting(
        "source_file",
        Setting("Between", "What covers the same ground", choices=BETWEEN),
    )  # fmt: skip
    keep: str = setting(DENSEST, Setting("Keep", "Which stays where several cover a cell", choices=PREFERRED))
    cell: float = setting(1.0, Setting("Cell", "Width of the cells in plan they are compared in", "length", low=0.0))


@in_own_numbers
def duplicates(store: CloudStore, _how: Duplicates, among: Mask, progress: Progress) -> Mask:
    """Points, (n,), whose easting, northing and elevation equal those of an earlier one of ``among``. Raises Cancelled.

    The first in store order stays. Equal places always lie in one tile.
    """
    found = np.zeros(store.count, np.bool_)

    def of_tile(tile: int) -> None:
        rows = store.rows_of(tile)
        mine = np.flatnonzero(among[rows])
        xyz = np.asarray(store.xyz[rows])[mine]
        order = np.lexsort((mine, xyz[:, 2], xyz[:, 1], xyz[:, 0]))
        again = (xyz[order][1:] == xyz[order][:-1]).all(axis=1)
        found[rows.start + mine[order[1:][again]]] = True

    each(of_tile, range(len(store.tiles)), progress, "Looking for duplicate points")
    return found


def given_twice(points: Floats) -> Mask:
    """Which of (n, 3) points stand at the very place of an earlier one."""
    bits = np.ascontiguousarray(points + 0.0).view(np.uint64)
    key = (bits * PRIMES).sum(axis=1, dtype=np.uint64)
    order = np.argsort(key, kind="stable")
    found = np.zeros(len(points), np.bool_)
    for back in range(1, MOST_TOGETHER):
        # Of equal keys the earlier rows come first; those a few before are looked at too, should a key stand for two places.
        same = (key[order][back:] == key[order][:-back]) & (points[order][back:] == points[order][:-back]).all(axis=1)
        if not same.any():
            break
        found[order[back:][same]] = True
    return found


@in_own_numbers
def overlap(
    store: CloudStore, how: Overlap, among: Mask, progress: Progress, told: list[str] | None = None
) -> Mask:  # fmt: skip
    """Points, (n,), of the files or strips that do not stay in the cells that several cover.

    ``told`` is filled with sentences on how much one lies above another there.

    Raises InputError, when the cloud does not tell them apart; Cancelled.
    """
    if how.by not in SOURCES or not store.has(how.by):
        raise InputError(
            f"the cloud does not say which {'file' if how.by == 'source_file' else 'strip'} a point is from"
        )
    seen = by_source(store, how.by, how.cell, among, progress)
    counts = seen.counts
    if len(seen.codes) < 2:
        raise InputError("all points are from the same one; there is no overlap")
    progress.step(0.9, "Comparing")
    if how.keep == DENSEST:
        winner = stays(seen.cells, counts)
    elif how.keep == FIRST:
        winner = (counts > 0).argmax(axis=1)
    else:
        winner = len(seen.codes) - 1 - (counts[:, ::-1] > 0).argmax(axis=1)
    if told is not None:
        told += _told(store, how, seen)
    found = np.zeros(store.count, np.bool_)
    found[seen.rows] = seen.source != winner[seen.cells.number[seen.rows]]
    return found


def _told(store: CloudStore, how: Overlap, seen: BySource) -> list[str]:
    """The vertical offsets between the sources, in words."""
    names = seen.codes
    called = dict(enumerate(store.meta.details.get("file_names", []))) if how.by == "source_file" else {}
    word, unit = ("file" if how.by == "source_file" else "strip"), store.reference.unit.symbol
    return [
        f"{called.get(int(names[o.one]), f'{word} {names[o.one]}')} lies {abs(o.height):.3f} {unit} "
        f"{'above' if o.height >= 0 else 'below'} {called.get(int(names[o.other]), f'{word} {names[o.other]}')} "
        f"(median of {o.cells} cells, spread {o.spread:.3f} {unit})"
        for o in offsets(seen)
    ]
