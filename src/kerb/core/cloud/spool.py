"""Points as they come, column by column on the disk, until all are there and can be arranged."""

from __future__ import annotations

import os
from pathlib import Path
from typing import cast

import numpy as np

from kerb.core.arrays import AnyArray, Ints
from kerb.core.cloud.layout import Layout
from kerb.core.cloud.partition import CHUNK, Rows, bounds_of
from kerb.core.once import Once
from kerb.core.parallel import each, ranges
from kerb.core.space import write_at

XYZ = "xyz"
AT_ONCE = 10_000


class Spool:
    """Columns of a stream in the order of its file. What has only one value is not written before another one comes."""

    def __init__(self, folder: Path, layout: Layout) -> None:
        """``folder`` is made. Raises OSError."""
        folder.mkdir()
        self.folder, self.layout = folder, layout
        self.count = 0
        self.columns: dict[str, _Column] = {}
        self._ends: list[tuple[Ints, Ints]] = []

    def add(self, records: AnyArray) -> None:
        """Put records of the layout behind those that are there. Raises OSError."""
        if not len(records):
            return
        values = {XYZ: records[XYZ], **self.layout.split(records)}
        for name, those in values.items():
            if name not in self.columns:
                self.columns[name] = _Column(self.folder / f"{len(self.columns)}.rows", those, name != XYZ)
        todo = [(self.columns[name], those) for name, those in values.items()]
        todo = [(column, those) for column, those in todo if column.takes(self.count, those)]

        def part(piece: tuple[int, int]) -> tuple[Ints, Ints]:
            # So few at a time that their bytes are fetched once for all columns.
            for first in range(*piece, AT_ONCE):
                some = slice(first, min(first + AT_ONCE, piece[1]))
                for column, those in todo:
                    column.room[some] = those[some]
            return bounds_of(self.columns[XYZ].room[slice(*piece)])

        self._ends += each(part, ranges(len(records), AT_ONCE))
        # The widest first: what is left to the end is short.
        each(lambda pair: pair[0].put(self.count, pair[0].room), sorted(todo, key=lambda pair: -pair[0].one.nbytes))
        self.count += len(records)

    def rows(self) -> Rows:
        """What was written, to be arranged. Raises OSError."""
        varying = {name: column for name, column in self.columns.items() if not column.constant}
        lows, highs = zip(*self._ends, strict=True)
        xyz = varying.pop(XYZ)
        return Rows(xyz, list(varying.values()), self.layout.scale, np.min(lows, axis=0), np.max(highs, axis=0))

    def close(self) -> None:
        """Nothing more is added."""
        for column in self.columns.values():
            column.close()


class _Column:
    """The values of one column; ``one`` stands for all of them as long as there is only one."""

    def __init__(self, path: Path, values: AnyArray, may_be_constant: bool) -> None:
        self.path = path
        self.one: AnyArray = values[0].copy()
        self.kind, self.shape = values.dtype, values.shape[1:]
        self.room = np.empty((0, *self.shape), self.kind)
        self._handle = None if may_be_constant else self._opened()

    @property
    def constant(self) -> bool:
        return self._handle is None

    @Once
    def values(self) -> AnyArray:
        """All values, once all are there; what :meth:`put` changes shows in them."""
        return np.memmap(self.path, self.kind, "r").reshape(-1, *self.shape)

    def takes(self, before: int, values: AnyArray) -> bool:
        """Whether values that come behind the ``before`` ones which are there are to be put into the room, or ``one`` will do."""
        if self.constant:
            # What is one value spread over all has no stride.
            if _all_equal(values if values.strides[0] else values[:1], self.one):
                return False
            self._handle = self._opened()
            for first in range(0, before, CHUNK):
                self.put(first, np.broadcast_to(self.one, (min(CHUNK, before - first), *self.shape)))
        if len(self.room) != len(values):
            self.room = np.empty((len(values), *self.shape), self.kind)
        return True

    def put(self, at: int, values: AnyArray) -> None:
        """Write values from row ``at`` on. Not into mapped pages: a disk may have no room for a second copy of them."""
        write_at(cast(int, self._handle), at * self.one.nbytes, np.ascontiguousarray(values))

    def close(self) -> None:
        if self._handle is not None:
            os.close(self._handle)

    def _opened(self) -> int:
        return os.open(self.path, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o666)


def _all_equal(values: AnyArray, constant: AnyArray) -> bool:
    # What is no number is the same as what is none.
    return bool(np.all((values == constant) | ((values != values) & (constant != constant))))
