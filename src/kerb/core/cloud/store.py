"""The tile store: a folder of memory-mapped columns that opens at once whatever its size.

``store.json`` says scale, origin and columns; ``tiles.npy`` is the tile table; ``xyz.npy`` holds integer coordinates;
each further column is ``NAME.npy``, or ``NAME.constant.npy`` while it has one value for all points.
"""

from __future__ import annotations

import copy
import json
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import quote

import numpy as np

from kerb.core.arrayfile import loaded
from kerb.core.arrays import AnyArray, Bytes, Floats, Ints, Mask
from kerb.core.cloud import sets
from kerb.core.cloud.sets import PointSets
from kerb.core.cloud.setups import ScanSetup, setups_of
from kerb.core.errors import InputError, JobError
from kerb.core.geometry.rigid import Rigid
from kerb.core.parallel import each, ranges
from kerb.core.reference import ReferenceSystem, unfit
from kerb.core.space import put_in_place, refusal
from kerb.core.units import LENGTH_UNITS

TILE_TYPE = np.dtype([("first", "i8"), ("count", "i8"), ("low", "f8", (3,)), ("high", "f8", (3,)), ("spacing", "f8")])
VERSION = 1
ASIDE, PART, CLASSES = "aside", "part", "classification"
ELEVATION = "elevation"


@dataclass
class StoreMeta:
    """What ``store.json`` says."""

    count: int
    scale: list[float]
    origin: list[float]
    columns: list[str]
    reference: dict[str, Any]
    source: str = ""
    source_format: str = ""
    details: dict[str, Any] = field(default_factory=dict)
    attributes: dict[str, str] = field(default_factory=dict)
    made_with: dict[str, str] = field(default_factory=dict)
    version: int = VERSION

    def to_json(self) -> dict[str, Any]:
        """A plain dictionary."""
        return asdict(self)


def column_files(folder: Path, name: str) -> tuple[Path, Path]:
    """Where a column is kept in full, and where as one value. Names come from files, so no path may hide in them."""
    safe = quote(name, safe=" ").replace(".", "%2E")
    return folder / f"{safe}.npy", folder / f"{safe}.constant.npy"


class CloudStore:
    """An imported cloud. Opening reads the tile table only; columns are mapped when first asked for."""

    def __init__(self, folder: Path, meta: StoreMeta, tiles: AnyArray) -> None:
        self.folder = folder
        self.meta = meta
        self.tiles = self._own_tiles = tiles
        self.placement: Rigid | None = None
        self.scale: Floats = np.array(meta.scale, float)
        self.origin: Floats = np.array(meta.origin, float)
        self.reference = ReferenceSystem.from_json(meta.reference)
        self._columns: dict[str, AnyArray] = {}
        # Small facts about the points that are asked for with every picture; forgotten when values change.
        self.remembered: dict[str, tuple[float, ...]] = {}
        # Which points the present filters show, with the filters it was worked out for.
        self.mask: tuple[str, Bytes] | None = None
        self.sets = PointSets()
        self.part_names: dict[str, int] = {}
        self._gone = 0
        self._lent: dict[str, str] = {}

    @staticmethod
    def open(folder: Path) -> CloudStore:
        """Open a store folder. Raises JobError when it is missing, damaged or of a newer version."""
        try:
            data = json.loads((folder / "store.json").read_text(encoding="utf-8"))
            if data.get("version", 0) > VERSION:
                raise JobError(f"{folder}: written by a newer Kerb (store version {data['version']})")
            meta = StoreMeta(**data)
            tiles = loaded(folder / "tiles.npy")
            shape = loaded(folder / "xyz.npy", mapped=True).shape
            if tiles.dtype != TILE_TYPE or shape != (meta.count, 3) or int(tiles["count"].sum()) != meta.count:
                raise JobError(f"{folder}: the imported cloud is damaged (tile table and points disagree)")
            store = CloudStore(folder, meta, tiles)
            lost = [name for name in store.names if not store.has(name)]
            if store.scale.shape != (3,) or store.origin.shape != (3,) or lost:
                without = f" (without {', '.join(lost[:5])})" if lost else ""
                raise JobError(f"{folder}: the imported cloud is damaged{without}")
        except (OSError, ValueError, TypeError, KeyError, AttributeError, OverflowError) as error:
            raise JobError(f"{folder}: the imported cloud cannot be read ({error})") from None
        return store

    def snapshot(self) -> CloudStore:
        """The cloud as it is at this moment, for work on another thread: later steps of the analyst do not reach it."""
        made = copy.copy(self)
        made._columns, made.remembered = dict(self._columns), dict(self.remembered)
        made.part_names = dict(self.part_names)
        return made

    def unplaced(self) -> CloudStore:
        """The cloud in the numbers it was imported with, for work that compares its points with each other only."""
        if self.placement is None:
            return self
        made = self.snapshot()
        made.place(None)
        return made

    @property
    def setups(self) -> tuple[ScanSetup, ...]:
        """The setups of the scanner that saw the points, where they stand now; none where the files told none."""
        found = setups_of(self.meta.details)
        return found if self.placement is None else tuple(setup.mapped(self.placement) for setup in found)

    def place(self, placement: Rigid | None) -> None:
        """Look at the cloud moved by a rigid transform; nothing on disk changes."""
        placement = None if placement is not None and placement.still else placement
        if placement == self.placement:
            return
        self.placement = placement
        self.tiles = self._own_tiles if placement is None else _moved_tiles(self._own_tiles, placement)
        self.remembered = {}
        self.mask = None

    @property
    def count(self) -> int:
        """Number of points, set-aside ones included."""
        return self.meta.count

    @property
    def bounds(self) -> tuple[Floats, Floats]:
        """Lowest and highest corner, (3,) each, of all points."""
        return self.tiles["low"].min(axis=0), self.tiles["high"].max(axis=0)

    @property
    def spacing(self) -> float:
        """Typical distance between neighbouring points: the median over points of their tile's spacing."""
        order = np.argsort(self.tiles["spacing"])
        running = np.cumsum(self.tiles["count"][order])
        middle = int(np.searchsorted(running, running[-1] / 2))
        return float(self.tiles["spacing"][order][middle])

    def fair_rows(self, most: int) -> Ints:
        """Rows of about ``most`` points in use, each tile giving its share of the whole: within a tile any first points
        are a fair sample of it, and a tile with few points must not weigh as much as a full one."""
        first, counts = self.tiles["first"].astype(np.int64), self.tiles["count"].astype(np.int64)
        share = min(1.0, most / max(int(counts.sum()), 1))
        ends = np.floor(np.cumsum(counts) * share + 0.5).astype(np.int64)
        some = np.minimum(np.diff(ends, prepend=0), counts)
        rows = np.repeat(first - np.cumsum(some) + some, some) + np.arange(int(some.sum()))
        aside = self.aside()
        return rows if aside is None else rows[np.asarray(aside[rows]) == 0]

    @property
    def xyz(self) -> AnyArray:
        """Integer coordinates, (n, 3) int32, memory-mapped."""
        return self.column("xyz")

    @property
    def names(self) -> list[str]:
        """Columns of the source file, then attributes made since; classes too where points were given some."""
        given = [CLASSES] if self.sets.given and CLASSES not in self.meta.columns else []
        return [*self.meta.columns, *given, *self.meta.attributes]

    def present(self, name: str) -> tuple[int, ...]:
        """Every value of a column of whole numbers, set-aside points included, in order. Raises KeyError."""
        key = f"present {name}"
        values = self.remembered.get(key)
        if values is None:
            # Another thread may forget it again at any time: it is asked for once.
            values = different_values(self.column(name))
            self.remembered[key] = values
        return tuple(int(value) for value in values)

    @property
    def flat(self) -> bool:
        """Whether the file had heights in place of elevations; those are then the column ``elevation``."""
        return ELEVATION in self.meta.columns and self.column(ELEVATION).ndim == 1

    def unit_of(self, name: str) -> str:
        """Unit code of an attribute that Kerb made or of a column whose file says it; empty where none is known."""
        return str(
            self._lent.get(name) or self.meta.attributes.get(name) or self.meta.details.get("units", {}).get(name, "")
        )

    def lengths(self, name: str, rows: slice | AnyArray = slice(None)) -> AnyArray:
        """Values of a column in the unit of elevations; one that says no other unit is taken to be in it."""
        values, own, wanted = np.asarray(self.column(name)[rows]), self.unit_of(name), self.reference.vertical_unit
        if own not in LENGTH_UNITS or own == wanted.code:
            return values
        return np.asarray(values * (LENGTH_UNITS[own].metres / wanted.metres))

    def elevations(self, rows: slice | AnyArray) -> Floats:
        """Elevations (n,) of some rows, wherever the cloud has them."""
        if self.flat:
            return np.asarray(self.lengths(ELEVATION, rows), float)
        if self.placement is not None:
            return np.asarray(self.coordinates(rows)[:, 2])
        return np.asarray(self.xyz[rows, 2] * self.scale[2] + self.origin[2])

    def column(self, name: str) -> AnyArray:
        """A column of n values, memory-mapped, or one value seen n times.

        Raises KeyError for an unknown one; JobError, when it is damaged.
        """
        if name not in self._columns:
            found = self._read(name)
            if found is None:
                raise KeyError(name)
            self._columns[name] = found
        return self._columns[name]

    def _read(self, name: str) -> AnyArray | None:
        path, constant = column_files(self.folder, name)
        try:
            if path.exists():
                found = loaded(path, mapped=True)
            elif constant.exists():
                value = loaded(constant)
                found = np.broadcast_to(value, (self.count, *value.shape))
            else:
                return None
        except (OSError, ValueError) as error:
            raise JobError(f"{self.folder}: the column '{name}' is damaged ({error})") from None
        if found.ndim not in (1, 2) or len(found) != self.count or found.dtype.kind not in "iufb":
            raise JobError(f"{self.folder}: the column '{name}' is damaged (of another size or type)")
        return found

    def has(self, name: str) -> bool:
        """Whether a column or attribute of that name exists."""
        return name in self._columns or any(path.exists() for path in column_files(self.folder, name))

    def coordinates(self, rows: slice | AnyArray) -> Floats:
        """Job coordinates, (m, 3) float64, of some rows."""
        own = self.origin + self.xyz[rows] * self.scale
        return own if self.placement is None else self.placement(own)

    def rows_of(self, tile: int) -> slice:
        """The rows of a tile."""
        first = int(self.tiles["first"][tile])
        return slice(first, first + int(self.tiles["count"][tile]))

    def aside(self) -> Bytes | None:
        """One byte a point, not zero where it is set aside; None when nothing is."""
        return self.column(ASIDE) if self.has(ASIDE) else None

    @property
    def used(self) -> int:
        """Number of points that are not set aside."""
        return self.count - self._gone

    def in_use(self) -> Mask:
        """Which points (n,) are not set aside."""
        aside = self.aside()
        return np.ones(self.count, np.bool_) if aside is None else np.asarray(aside) == 0

    def keep_set(self, mask: Mask) -> str:
        """Write a set of points, (n,), and return the name that :class:`PointSets` know it by. Raises OSError."""
        if len(mask) != self.count:
            raise ValueError(f"{len(mask)} values for {self.count} points")
        return sets.keep(self.folder, mask)

    def set_of(self, name: str) -> Mask:
        """The points, (n,), of a kept set. Raises JobError, when it is missing or damaged."""
        return sets.mask_of(self.folder, name, self.count)

    def take_sets(self, wanted: PointSets) -> None:
        """Set aside, part and classify points as kept sets say. Raises JobError, when one is missing or damaged."""
        before, columns = self.sets, dict(self._columns)
        if wanted.aside != before.aside:
            columns.pop(ASIDE, None)
            if wanted.aside:
                columns[ASIDE] = self.set_of(wanted.aside).view(np.uint8)
        if wanted.parts != before.parts:
            self._make_parts(columns, wanted)
        if wanted.given != before.given:
            self._give_classes(columns, wanted)
        # Only now: a set that cannot be read leaves everything as it was.
        self._columns, self.sets = columns, wanted
        self._gone = int(np.count_nonzero(columns[ASIDE])) if ASIDE in columns else 0
        self.remembered.clear()
        self.mask = None

    def _make_parts(self, columns: dict[str, AnyArray], wanted: PointSets) -> None:
        """The column of parts from the one there was: only parts that changed are read."""
        before = columns.pop(PART, None)
        if not wanted.parts:
            return
        kept = [part for part in self.sets.parts if part in wanted.parts]
        numbers = np.array(before) if kept and before is not None else np.zeros(self.count, np.uint8)
        for part in self.sets.parts if kept else ():
            if part not in wanted.parts:
                sets.paint(numbers, numbers == part[0], 0)
        for number, name in wanted.parts:
            if (number, name) not in kept:
                sets.paint(numbers, sets.taken(self.folder, name, self.count), number)
        columns[PART] = numbers

    def _give_classes(self, columns: dict[str, AnyArray], wanted: PointSets) -> None:
        before = self.sets.given
        new = wanted.given
        if before and new[: len(before)] == before:
            classes, new = np.array(columns[CLASSES]), new[len(before) :]
        else:
            columns.pop(CLASSES, None)
            own = self._read(CLASSES)
            if not new:
                return
            classes = np.zeros(self.count, np.uint8) if own is None else np.array(own, np.uint8)
        for name, code in new:
            sets.paint(classes, sets.taken(self.folder, name, self.count), code)
        columns[CLASSES] = classes

    def add_attribute(self, name: str, unit: str, values: AnyArray) -> None:
        """Keep a value for every point under a new name, or replace an attribute that Kerb made.

        Raises
        ------
        ValueError, when the length differs or the name is a column of the source.
        """
        if len(values) != self.count:
            raise ValueError(f"{len(values)} values for {self.count} points")
        if name in self.meta.columns or name in ("xyz", ASIDE, PART, CLASSES):
            raise ValueError(f"'{name}' is a column of the source and stays as it is")
        partial = self.folder / "attribute.partial.npy"
        try:
            np.save(partial, values)
            put_in_place(partial, column_files(self.folder, name)[0])
        except OSError as error:
            partial.unlink(missing_ok=True)
            raise JobError(refusal(error, self.folder)) from None
        self._columns.pop(name, None)
        self.remembered.clear()
        self.mask = None
        self.meta.attributes[name] = unit
        self.meta.made_with[name] = self.sets.mark
        self.write_meta()

    def confirm(self, name: str) -> None:
        """Say that an attribute holds for the classes and set-aside points as they are now."""
        self.meta.made_with[name] = f"{self.meta.made_with.get(name, '')} {self.sets.mark}"
        self.write_meta()

    def outdated(self, name: str) -> bool:
        """Whether classes were given or points set aside since an attribute was computed."""
        return self.sets.mark not in self.meta.made_with.get(name, self.sets.mark)

    def lend(self, name: str, values: AnyArray, unit: str = "") -> None:
        """Show values for every point under a name for as long as the store is open; nothing is written.

        Raises ValueError, when the length differs.
        """
        if len(values) != self.count:
            raise ValueError(f"{len(values)} values for {self.count} points")
        self._columns[name] = values
        self._lent[name] = unit
        self.remembered.clear()
        self.mask = None

    def write_meta(self) -> None:
        """Write ``store.json`` in one step. Raises JobError, when it cannot be written."""
        partial = self.folder / "store.json.partial"
        try:
            partial.write_text(json.dumps(self.meta.to_json(), indent=1), encoding="utf-8")
            put_in_place(partial, self.folder / "store.json")
        except OSError as error:
            partial.unlink(missing_ok=True)
            raise JobError(refusal(error, self.folder)) from None


def _moved_tiles(tiles: AnyArray, placement: Rigid) -> AnyArray:
    """The tile table with bounds that hold the moved tiles."""
    moved = tiles.copy()
    low, high = tiles["low"], tiles["high"]
    corners = np.stack([np.where([bool(k & 1), bool(k & 2), bool(k & 4)], high, low) for k in range(8)], axis=1)
    seen = placement(corners.reshape(-1, 3)).reshape(-1, 8, 3)
    moved["low"], moved["high"] = seen.min(axis=1), seen.max(axis=1)
    moved["spacing"] *= placement.scale
    return moved


def different_values(column: AnyArray) -> tuple[float, ...]:
    """The different values of a column. Of small numbers without sorting them, which is many times slower."""
    if column.dtype.kind != "u" or column.dtype.itemsize > 2 or column.strides[0] == 0:
        return tuple(np.unique(column if column.strides[0] else column[:1]).tolist())
    found = np.zeros(1 << (8 * column.dtype.itemsize), np.bool_)

    def look(span: tuple[int, int]) -> None:
        for at in range(*span, sets.BLOCK):
            # Two threads that set the same value do no harm.
            found[column[at : min(at + sets.BLOCK, span[1])]] = True

    each(look, ranges(len(column), least=500_000))
    return tuple(np.flatnonzero(found).tolist())


def needs_plan(store: CloudStore) -> None:
    """Raises InputError, when a cloud's system has no plan with heights over it."""
    words = unfit(store.reference, *store.bounds)
    if words:
        raise InputError(words)
