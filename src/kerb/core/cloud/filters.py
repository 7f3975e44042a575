"""Filters: which points are shown, by values or a range of a column, or by nearness to a colour. All must hold."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import asdict, dataclass, fields, replace
from typing import Any

import numpy as np

from kerb.core.arrays import AnyArray, Floats, Mask
from kerb.core.cloud.classes import CLASS_NAMES
from kerb.core.cloud.store import CLASSES, ELEVATION, PART, CloudStore
from kerb.core.errors import InputError
from kerb.core.parallel import each, ranges
from kerb.core.progress import Progress
from kerb.core.quantity import first_of, number, symbol

COLOUR = "colour"
CHANNELS = ("red", "green", "blue")
# Columns whose numbers are names: they are filtered by value, all others by range.
LISTED = (
    CLASSES, PART, "point_source_id", "source_file", "return_number", "number_of_returns", "user_data",
    "scan_direction_flag", "edge_of_flight_line", "scanner_channel", "synthetic", "key_point", "withheld", "overlap",
)  # fmt: skip
MOST_NAMED = 3
NOT_FILTERED = (*CHANNELS, "nir", "aside")


@dataclass(frozen=True)
class Filter:
    """One condition on ``column`` (a column of the cloud, ``elevation`` or ``colour``).

    ``values`` are those that pass; without them ``low`` and ``high``, both included, in the unit of the column; of
    colours those within ``tolerance`` (0 to 255, in each channel) of ``colour``. ``outside`` turns it round, ``on``
    False leaves it without effect.
    """

    column: str
    values: tuple[int, ...] = ()
    low: float | None = None
    high: float | None = None
    colour: tuple[int, ...] = ()
    tolerance: int = 24
    outside: bool = False
    on: bool = True

    def check(self) -> None:
        """Raises InputError, when the filter cannot be."""
        if self.column == COLOUR:
            if len(self.colour) != 3 or not all(0 <= c <= 255 for c in self.colour):
                raise InputError("a colour filter needs red, green and blue from 0 to 255")
        elif not self.values and self.low is None and self.high is None:
            raise InputError(f"the filter on {self.column} names neither values nor limits")
        for end in (self.low, self.high):
            if end is not None and not np.isfinite(end):
                raise InputError(f"the filter on {self.column} has a limit that is no number")


WIDE = "wide colours"


def to_json(conditions: tuple[Filter, ...]) -> list[dict[str, Any]]:
    """Filters as plain dictionaries, equal to what is read back from a file."""
    plain = [asdict(condition) for condition in conditions]
    return [{k: list(v) if isinstance(v, tuple) else v for k, v in item.items()} for item in plain]


def from_json(items: Iterable[dict[str, Any]]) -> tuple[Filter, ...]:
    """Filters of plain dictionaries; keys of newer versions are left out. Raises TypeError for anything else."""
    known = {item.name for item in fields(Filter)}
    found = []
    for item in items:
        values = {key: value for key, value in item.items() if key in known}
        for key in ("values", "colour"):
            values[key] = tuple(values.get(key, ()))
        found.append(Filter(**values))
    return tuple(found)


def words(condition: Filter, title: str, names: Mapping[int, str], unit: str) -> str:
    """A filter in words: ``title`` is what its column is called, ``names`` what its values are, ``unit`` a code."""
    no = "not " if condition.outside else ""
    if condition.column == COLOUR:
        return f"{title} {no}like #{bytes(condition.colour).hex()}"
    if condition.values:
        return f"{title} {no}{first_of([str(names.get(value, value)) for value in condition.values], MOST_NAMED)}"
    wide = (condition.high or 0) - (condition.low or 0) > 1000
    low, high = (number(v, 0 if wide else 2) if v is not None else "…" for v in (condition.low, condition.high))
    return f"{title} {no}{low} – {high} {symbol(unit)}".rstrip()


def worded(conditions: tuple[Filter, ...], store: CloudStore) -> str:
    """Filters that are on as a sentence for a report; units as the cloud has them."""
    said = []
    for condition in conditions:
        name = condition.column
        own = store.reference.vertical_unit.code if name == ELEVATION else store.unit_of(name)
        names = CLASS_NAMES if name == CLASSES else {}
        if condition.on:
            said.append(words(condition, name.replace("_", " "), names, own))
    return "; ".join(said)


def lacking(store: CloudStore, conditions: tuple[Filter, ...]) -> list[str]:
    """Columns that filters ask for and the cloud does not have."""
    needed = {COLOUR: "red", ELEVATION: ""}
    names = [needed.get(f.column, f.column) for f in conditions if f.on]
    return [name for name in names if name and not store.has(name)]


def offered(store: CloudStore) -> list[str]:
    """Columns of a cloud that a filter can be set on: those that tell its points apart."""
    found = [ELEVATION, *([COLOUR] if store.has("red") else [])]
    for name in [*store.names, *([PART] if store.sets.parts else [])]:
        column = store.column(name)
        if column.ndim == 1 and column.strides[0] != 0 and name not in (*NOT_FILTERED, *found):
            found.append(name)
    return found


def holds(store: CloudStore, condition: Filter, rows: slice | AnyArray) -> Mask:
    """Which of some rows pass one filter; all where the cloud lacks the column."""
    name = condition.column
    if name == COLOUR:
        if not store.has("red"):
            return np.ones(_size(store, rows), np.bool_)
        inside = _near_colour(store, condition, rows)
    elif name == ELEVATION:
        moved = store.flat or store.placement is not None
        inside = _passes(store.elevations(rows), condition) if moved else _elevations_within(store, condition, rows)
    elif not store.has(name):
        return np.ones(_size(store, rows), np.bool_)
    else:
        inside = _passes(np.asarray(store.column(name)[rows]), condition)
    return ~inside if condition.outside else inside


def kept(store: CloudStore, conditions: tuple[Filter, ...], progress: Progress | None = None) -> Mask:
    """Which points, (n,), pass every filter that is on. Set-aside points are not looked at apart. Raises Cancelled."""
    out = np.ones(store.count, np.bool_)
    active = [condition for condition in conditions if condition.on]
    if not active:
        return out

    def some(span: tuple[int, int]) -> None:
        rows = slice(*span)
        for condition in active:
            out[rows] &= holds(store, condition, rows)

    each(some, ranges(store.count, least=500_000), progress, "Filtering points")
    return out


def toggled(conditions: tuple[Filter, ...], column: str, value: int) -> tuple[Filter, ...]:
    """The filters after a value of a listed column was hidden, or shown again if it was."""
    mine = next((f for f in conditions if f.column == column and f.values and f.on), None)
    if mine is None:
        return (*conditions, Filter(column, (value,), outside=True))
    values = tuple(sorted(set(mine.values) ^ {value}))
    changed = (replace(mine, values=values),) if values else ()
    return tuple(item for f in conditions for item in (changed if f is mine else (f,)))


def hidden_values(conditions: tuple[Filter, ...], column: str, values: Iterable[int]) -> set[int]:
    """Which of some values of a listed column are taken out by name."""
    mine = [f for f in conditions if f.on and f.column == column and f.values]
    return {value for value in values if any((value in f.values) == f.outside for f in mine)}


def _passes(values: AnyArray, condition: Filter) -> Mask:
    if condition.values:
        if values.dtype == np.uint8:
            table = np.zeros(256, np.bool_)
            table[[v for v in condition.values if 0 <= v <= 255]] = True
            return np.asarray(table[values])
        return np.asarray(np.isin(values, condition.values))
    inside: Mask = np.ones(len(values), np.bool_)
    if condition.low is not None:
        inside &= values >= condition.low
    if condition.high is not None:
        inside &= values <= condition.high
    return inside


def _elevations_within(store: CloudStore, condition: Filter, rows: slice | AnyArray) -> Mask:
    """Compared as integers: no elevation is computed. A limit within a thousandth of a step counts as on it."""
    z = store.xyz[rows, 2]
    inside: Mask = np.ones(len(z), np.bool_)
    scale, origin = float(store.scale[2]), float(store.origin[2])
    if condition.low is not None:
        inside &= z >= np.ceil((condition.low - origin) / scale - 1e-3)
    if condition.high is not None:
        inside &= z <= np.floor((condition.high - origin) / scale + 1e-3)
    return inside


def _near_colour(store: CloudStore, condition: Filter, rows: slice | AnyArray) -> Mask:
    wide = is_wide(store)
    inside: Mask | None = None
    for name, wanted in zip(CHANNELS, condition.colour, strict=True):
        values = np.asarray(store.column(name)[rows])
        away = np.abs((values >> 8 if wide else values).astype(np.int16) - wanted) <= condition.tolerance
        inside = away if inside is None else inside & away
    assert inside is not None
    return inside


def colour_of(store: CloudStore, row: int) -> tuple[int, ...]:
    """Red, green and blue of a point, 0 to 255 each. Raises KeyError, when the cloud has no colours."""
    wide = is_wide(store)
    return tuple(int(store.column(name)[row]) >> (8 if wide else 0) for name in CHANNELS)


def is_wide(store: CloudStore) -> bool:
    """Whether colours take 16 bits; many files keep 8-bit ones in 16-bit fields."""
    columns = [store.column(name) for name in CHANNELS]
    if all(column.dtype.itemsize == 1 for column in columns):
        return False
    # Of the whole cloud, once: a dark corner of it says nothing.
    wide = store.remembered.get(WIDE)
    if wide is None:
        wide = (float(any(int(np.max(column, initial=0)) > 255 for column in columns)),)
        store.remembered[WIDE] = wide
    return bool(wide[0])


def counts(store: CloudStore, column: str) -> dict[int, int]:
    """How many points in use have each value of a listed column."""
    values, aside = store.column(column), store.aside()
    if values.dtype.kind != "u" or values.dtype.itemsize > 2:
        found, numbers = np.unique(np.asarray(values)[store.in_use()], return_counts=True)
        return dict(zip(found.tolist(), numbers.tolist(), strict=True))

    def some(span: tuple[int, int]) -> AnyArray:
        own = np.asarray(values[slice(*span)])
        own = own if aside is None else own[np.asarray(aside[slice(*span)]) == 0]
        return np.bincount(own, minlength=1 << (8 * values.dtype.itemsize))

    total = np.sum(each(some, ranges(store.count, least=500_000)), axis=0)
    return {int(value): int(total[value]) for value in np.flatnonzero(total)}


def _size(store: CloudStore, rows: slice | AnyArray) -> int:
    return len(range(*rows.indices(store.count))) if isinstance(rows, slice) else len(rows)


def values_of(store: CloudStore, column: str, rows: slice | AnyArray = slice(None)) -> Floats:
    """Values, float64, of a column of numbers or of ``elevation``. Raises KeyError for a column that is not there."""
    if column == ELEVATION:
        return store.elevations(rows)
    return np.asarray(store.column(column)[rows], float)


def spread(
    store: CloudStore, column: str, conditions: tuple[Filter, ...] = (), bins: int = 96
) -> tuple[Floats, Floats]:
    """Edges (bins + 1,) and counts (bins,) of a column over a fair sample of what passes some filters.

    The ends leave out the outermost 0.1 percent, so that one stray value does not squeeze all others into a bar.
    """
    rows = store.fair_rows(400_000)
    keep = np.ones(len(rows), np.bool_)
    for condition in conditions:
        keep &= holds(store, condition, rows)
    rows = rows[keep]
    values = values_of(store, column, rows)
    values = values[np.isfinite(values)]
    if not len(values):
        return np.linspace(0.0, 1.0, bins + 1), np.zeros(bins)
    low, high = np.percentile(values, [0.1, 99.9])
    if high <= low:
        low, high = float(values.min()) - 0.5, float(values.max()) + 0.5
    counts, edges = np.histogram(values, bins, (low, high))
    return np.asarray(edges), counts.astype(float)
