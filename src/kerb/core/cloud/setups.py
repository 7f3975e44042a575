"""Setups of a scanner: where each stood, which way it was turned, and which points are its own. They stay with the cloud.

In the details of a store or a stream they are plain dictionaries, so that they are kept as JSON; here they have types.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from kerb.core.arrays import Floats

# The column of points that tells the setup of each; LAS has it for strips and sources.
SETUP = "point_source_id"
DETAIL = "setups"
# So far along each axis of a setup are places mapped, to see how a map turns it (in the cloud's unit).
REACH = 1.0


@dataclass(frozen=True)
class ScanSetup:
    """One setup: ``number`` as in the column, ``count`` of points in its file, and its pose.

    A place p in front of the scanner lies at ``rotation`` (3, 3) p + ``position`` (3,), in the cloud's unit.
    """

    number: int
    name: str
    count: int
    rotation: Floats
    position: Floats

    @staticmethod
    def of_json(data: dict[str, Any]) -> ScanSetup:
        """The reverse of :meth:`to_json`. Raises KeyError, TypeError or ValueError."""
        turn = np.asarray(data["rotation"], float).reshape(3, 3)
        return ScanSetup(int(data["number"]), str(data["name"]), int(data.get("count", 0)), turn,
                         np.asarray(data["translation"], float).reshape(3))  # fmt: skip

    def to_json(self) -> dict[str, Any]:
        """A plain dictionary."""
        return {"number": self.number, "name": self.name, "count": self.count, "rotation": self.rotation.tolist(),
                "translation": self.position.tolist()}  # fmt: skip

    def mapped(self, mapper: Callable[[Floats], Floats]) -> ScanSetup:
        """The setup elsewhere; ``mapper`` takes and gives (n, 3). Its turn is the rotation nearest to that of the map."""
        frame = np.concatenate([np.zeros((1, 3)), REACH * self.rotation.T]) + self.position
        seen = mapper(frame)
        axes = (seen[1:] - seen[0]).T
        u, _, v = np.linalg.svd(axes)
        turn = u @ np.diag([1.0, 1.0, np.linalg.det(u @ v)]) @ v
        return ScanSetup(self.number, self.name, self.count, turn, seen[0])


def setups_of(details: dict[str, Any]) -> tuple[ScanSetup, ...]:
    """The setups in the details of a store or stream; none where there are none."""
    return tuple(ScanSetup.of_json(item) for item in details.get(DETAIL, ()))


def with_setups(details: dict[str, Any], mapper: Callable[[Floats], Floats]) -> dict[str, Any]:
    """Details with their setups mapped; the details themselves where there are none."""
    if not details.get(DETAIL):
        return details
    return {**details, DETAIL: [setup.mapped(mapper).to_json() for setup in setups_of(details)]}


def renumbered(each: list[dict[str, Any]]) -> tuple[list[dict[str, Any]], list[dict[int, int]]]:
    """The setups of several streams numbered anew from 1, and for each stream what its numbers become."""
    found: list[dict[str, Any]] = []
    changes: list[dict[int, int]] = []
    for details in each:
        change: dict[int, int] = {}
        for item in details.get(DETAIL, ()):
            change[int(item["number"])] = len(found) + 1
            found.append({**item, "number": len(found) + 1})
        changes.append(change)
    return found, changes
