"""What a stream of points looks like to the store: scale, origin and columns, whatever file it comes from."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterator
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np

from kerb.core.arrays import AnyArray, Floats
from kerb.core.reference import UNKNOWN, ReferenceSystem

Columns = dict[str, AnyArray]


@dataclass(frozen=True)
class Layout:
    """How integer coordinates and records of a stream are to be read.

    ``scale`` and ``origin`` are (3,): coordinate = origin + scale * integer, in the cloud's unit. ``record`` has the
    field ``xyz`` (3 int32) and whatever else the file carries; ``split`` turns records into named columns.
    """

    scale: Floats
    origin: Floats
    record: np.dtype
    split: Callable[[AnyArray], Columns]
    reference: ReferenceSystem = UNKNOWN
    source: str = ""
    source_format: str = ""
    details: dict[str, Any] = field(default_factory=dict)


class PointStream(Protocol):
    """A file of points that can be read once, in chunks of records of its layout."""

    layout: Layout
    count: int

    @property
    def warnings(self) -> list[tuple[str, str]]:
        """What is odd about the file, as (code, sentence); complete when all chunks were given."""
        ...

    def chunks(self, size: int) -> Iterator[AnyArray]:
        """Records in file order, ``size`` or fewer at a time."""
        ...


# Names the store has for itself; a file's column of such a name gets another.
RESERVED = ("xyz", "aside", "part", "tiles", "elevation", "row", "meta")


def free_name(name: str, taken: Container[str] = ()) -> str:
    """A name for a column of a file that collides with nothing of the store's nor with ``taken`` ones."""
    wanted = f"{name} of file" if name.lower() in RESERVED else name
    number = 2
    free = wanted
    while free in taken:
        free, number = f"{wanted} {number}", number + 1
    return free
