"""Points on their way into a file, whatever they come from: a store, some of its rows, or a stream just read."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from kerb.core.arrays import AnyArray, Floats, Ints, Ints32
from kerb.core.cloud.layout import Columns, Layout, PointStream
from kerb.core.cloud.setups import with_setups
from kerb.core.cloud.store import ASIDE, ELEVATION, CloudStore
from kerb.core.errors import FormatError
from kerb.core.reference import ReferenceSystem
from kerb.core.units import LengthUnit

ROWS = 1_000_000
INNER = {ASIDE, "part"}
Blocks = Callable[[], Iterator[tuple[Ints32, Columns]]]


@dataclass(frozen=True)
class Outgoing:
    """Coordinate = origin + scale * integer. ``kinds`` tells the dtype of each column.

    ``blocks()`` starts at the front each time; ``count`` is a guess where a filter decides. ``details`` are those of
    the file the points came from, ``units`` of columns that Kerb made.
    """

    scale: Floats
    origin: Floats
    reference: ReferenceSystem
    kinds: dict[str, np.dtype]
    blocks: Blocks
    count: int
    source: str = ""
    details: dict[str, Any] = field(default_factory=dict)
    units: dict[str, str] = field(default_factory=dict)

    def places(self, xyz: Ints32) -> Floats:
        """Coordinates (n, 3) of integers."""
        return np.asarray(self.origin + xyz * self.scale)

    def in_unit(self, unit: LengthUnit) -> Outgoing:
        """The same points in another unit: scale and origin change, the integers stay."""
        plan = self.reference.unit.metres / unit.metres
        height = self.reference.vertical_unit.metres / unit.metres
        factor = np.array([plan, plan, height])
        if plan == height == 1.0:
            return self
        reference = replace(self.reference, unit=unit, vertical_unit=unit)
        if plan != 1.0:
            reference = replace(
                reference, wkt="", code="", name=f"{self.reference.name}, in {unit.plural}".lstrip(", ")
            )
        details = with_setups(self.details, lambda places: places * factor)
        return replace(
            self, scale=self.scale * factor, origin=self.origin * factor, reference=reference, details=details
        )


def from_store(
    store: CloudStore,
    rows: Callable[[], Iterator[Ints]] | None = None,
    made: Columns | None = None,
    units: dict[str, str] | None = None,
) -> Outgoing:
    """Rows of a store, all that are not set aside when ``rows`` is None.

    ``made`` are columns of values for every point of the store that are added to its own or take their place, ``units``
    those of the added ones.
    """  # fmt: skip
    values = {name: store.column(name) for name in store.names if name not in INNER} | (made or {})
    kinds = {name: _kind(column) for name, column in values.items()}

    def blocks() -> Iterator[tuple[Ints32, Columns]]:
        for block in rows() if rows is not None else _all_rows(store):
            for at in range(0, len(block), ROWS):
                some = block[at : at + ROWS]
                places = np.asarray(store.xyz[some]) if store.placement is None else _requantised(store, some, origin)
                yield places, {name: np.asarray(values[name][some]) for name in kinds}

    origin = store.origin if store.placement is None else np.floor(store.bounds[0])
    details = store.meta.details if store.placement is None else with_setups(store.meta.details, store.placement)
    return Outgoing(
        store.scale, origin, store.reference, kinds, blocks, store.count, store.meta.source,
        details, {**store.meta.attributes, **(units or {})},
    )  # fmt: skip


def _requantised(store: CloudStore, rows: Ints, origin: Floats) -> Ints32:
    """Coordinates of a placed cloud as whole steps of its own scale from a new origin."""
    return np.round((store.coordinates(rows) - origin) / store.scale).astype(np.int32)


def with_elevations(outgoing: Outgoing, name: str) -> Outgoing:
    """The same points with a column in place of their elevations, which become the column ``elevation``.

    Raises ValueError, when the elevations were replaced before or there is no such column.
    """
    if ELEVATION in outgoing.kinds:
        raise ValueError("its elevations were replaced already: it carries them as 'elevation'")
    if name not in outgoing.kinds:
        raise ValueError(f"has no '{name}'")
    scale, origin = float(outgoing.scale[2]), float(outgoing.origin[2])

    def blocks() -> Iterator[tuple[Ints32, Columns]]:
        for xyz, columns in outgoing.blocks():
            known = np.isfinite(columns[name])
            replaced = xyz[known].copy()
            replaced[:, 2] = np.round(columns[name][known] / scale)
            own = {key: values[known] for key, values in columns.items()}
            yield replaced, own | {ELEVATION: origin + xyz[known, 2] * scale}

    kinds = outgoing.kinds | {ELEVATION: np.dtype(np.float64)}
    flat = np.array([*outgoing.origin[:2], 0.0])
    units = outgoing.units | {ELEVATION: outgoing.reference.vertical_unit.code}
    return replace(outgoing, origin=flat, kinds=kinds, blocks=blocks, units=units)


def from_stream(stream: PointStream) -> Outgoing:
    """The points of a stream, read again each time the blocks are asked for. Raises FormatError when there are none."""
    first = next(iter(stream.chunks(1000)), None)
    if first is None:
        raise FormatError(f"{stream.layout.source}: holds no points")
    kinds = {name: _kind(values) for name, values in stream.layout.split(first[:1]).items()}

    def blocks() -> Iterator[tuple[Ints32, Columns]]:
        for records in stream.chunks(ROWS):
            columns = stream.layout.split(records)
            yield np.ascontiguousarray(records["xyz"]), {name: columns[name] for name in kinds}

    layout = stream.layout
    return Outgoing(
        layout.scale, layout.origin, layout.reference, kinds, blocks, stream.count, layout.source, layout.details
    )


def _kind(values: AnyArray) -> np.dtype:
    """The type of a column; of one with several numbers a point it has a shape, and only LAS takes it."""
    return np.dtype((values.dtype, values.shape[1:])) if values.ndim > 1 else values.dtype


def _all_rows(store: CloudStore) -> Iterator[Ints]:
    aside = store.aside()
    for at in range(0, store.count, ROWS):
        every = np.arange(at, min(at + ROWS, store.count))
        yield every if aside is None else every[aside[every] == 0]


def bounds(outgoing: Outgoing) -> tuple[Floats, Floats, int]:
    """Lowest and highest corner, (3,) each, and the true count; one pass over the points."""
    low, high, total = np.full(3, np.inf), np.full(3, -np.inf), 0
    for xyz, _ in outgoing.blocks():
        if len(xyz):
            low, high = np.minimum(low, xyz.min(axis=0)), np.maximum(high, xyz.max(axis=0))
            total += len(xyz)
    corners = np.array([outgoing.origin + low * outgoing.scale, outgoing.origin + high * outgoing.scale])
    return corners.min(axis=0), corners.max(axis=0), total


def channel(values: AnyArray, wide: bool) -> AnyArray:
    """Colour values as 16 bit; those of an 8 bit file are spread out."""
    return values.astype(np.uint16) if wide else values.astype(np.uint16) * 257


class OutgoingStream:
    """Points on their way out as a stream to be read, as a file would be: what a job holds is an input like any other."""

    def __init__(self, outgoing: Outgoing) -> None:
        self._outgoing = outgoing
        first = next((columns for _, columns in outgoing.blocks()), {})
        names = [name for name in outgoing.kinds if name in first and first[name].ndim == 1]
        fields: list[Any] = [("xyz", "<i4", (3,)), *((name, outgoing.kinds[name]) for name in names)]
        self._names = names
        self.count = outgoing.count
        self.warnings: list[tuple[str, str]] = []
        self.layout = Layout(
            outgoing.scale, outgoing.origin, np.dtype(fields), lambda rows: {name: rows[name] for name in names},
            outgoing.reference, outgoing.source, "Kerb", outgoing.details,
        )  # fmt: skip

    def chunks(self, size: int) -> Iterator[AnyArray]:
        """Records of the layout, ``size`` or fewer at a time."""
        for xyz, columns in self._outgoing.blocks():
            records = np.empty(len(xyz), self.layout.record)
            records["xyz"] = xyz
            for name in self._names:
                records[name] = columns[name]
            for at in range(0, len(records), max(size, 1)):
                yield records[at : at + size]
