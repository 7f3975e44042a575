"""Drawn geometry of a setup: rings, lines, places and directions as plain values that compare and are kept."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import shapely

from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.geometry import polygon
from kerb.core.geometry.area import Ring, ring_of


@dataclass(frozen=True)
class Drawn:
    """Vertices in plan; ``z`` holds typed elevations, None where the data say it (empty: everywhere).

    ``holes`` are rings inside a drawn ring; ``stretches`` say of the line behind each vertex what the analyst stated
    it to be (empty: the data say it). What vertices and stretches mean depends on the field.
    """

    xy: Ring = ()
    z: tuple[float | None, ...] = ()
    holes: tuple[Ring, ...] = ()
    stretches: tuple[str, ...] = ()

    @staticmethod
    def of(places: Any, holes: Any = ()) -> Drawn:
        """From anything with two or more numbers a vertex."""
        return Drawn(ring_of(places), (), tuple(ring_of(hole) for hole in holes))

    def __bool__(self) -> bool:
        return bool(self.xy)

    @property
    def places(self) -> Floats:
        """The vertices, (n, 2)."""
        return np.array(self.xy, float).reshape(-1, 2)

    def ring(self, name: str) -> Floats:
        """As a closed line, (n, 2), counter-clockwise. Raises InputError naming it, as :func:`polygon.checked` does."""
        if not self.xy:
            raise InputError(f"{name}: not drawn yet")
        return polygon.checked(self.places, name)

    def typed(self, ring: Floats) -> dict[int, float]:
        """Typed elevations by vertex number of a ring made of these vertices."""
        if not any(z is not None for z in self.z):
            return {}
        known = {place: z for place, z in zip(self.xy, self.z, strict=True) if z is not None}
        return {i: known[p] for i, p in enumerate(map(tuple, ring.tolist())) if p in known}

    def level(self, vertex: int) -> float | None:
        """The typed elevation of a vertex."""
        return self.z[vertex] if vertex < len(self.z) else None

    def moved(self, vertex: int, place: tuple[float, float]) -> Drawn:
        """With a vertex somewhere else."""
        return replace(self, xy=(*self.xy[:vertex], place, *self.xy[vertex + 1 :]))

    def with_vertex(self, before: int, place: tuple[float, float]) -> Drawn:
        """With a vertex more, at number ``before``; both halves of a stretch stay what it was."""
        z = (*self.z[:before], None, *self.z[before:]) if self.z else ()
        kinds = self.stretches
        if kinds:
            kinds = (*kinds[:before], kinds[before - 1], *kinds[before:])
        return replace(self, xy=(*self.xy[:before], place, *self.xy[before:]), z=z, stretches=kinds)

    def without(self, vertex: int) -> Drawn:
        """With a vertex less."""
        return replace(
            self, xy=(*self.xy[:vertex], *self.xy[vertex + 1 :]), z=(*self.z[:vertex], *self.z[vertex + 1 :]),
            stretches=(*self.stretches[:vertex], *self.stretches[vertex + 1 :]),
        )  # fmt: skip

    def with_level(self, vertex: int, z: float | None) -> Drawn:
        """With the elevation of a vertex typed, or read from the data again."""
        levels = list(self.z) or [None] * len(self.xy)
        levels[vertex] = z
        return replace(self, z=tuple(levels) if any(level is not None for level in levels) else ())

    def stretch(self, vertex: int) -> str:
        """What was stated of the stretch behind a vertex."""
        return self.stretches[vertex] if vertex < len(self.stretches) else ""

    def with_stretch(self, vertex: int, kind: str) -> Drawn:
        """With something stated of a stretch, or nothing."""
        kinds = list(self.stretches) or [""] * len(self.xy)
        kinds[vertex] = kind
        return replace(self, stretches=tuple(kinds) if any(kinds) else ())

    def stated(self, ring: Floats) -> dict[int, str]:
        """What was stated of the stretches behind the vertices of a ring made of these vertices."""
        if not self.stretches:
            return {}
        ends = zip(self.xy, (*self.xy[1:], self.xy[0]), self.stretches, strict=True)
        known = {frozenset((a, b)): kind for a, b, kind in ends if kind}
        places = [tuple(row) for row in ring.tolist()]
        pairs = (frozenset((a, b)) for a, b in zip(places, (*places[1:], places[0]), strict=True))
        return {i: known[pair] for i, pair in enumerate(pairs) if pair in known}

    def stretch_words(self) -> str:
        """What was stated, for a field of a file: a word a vertex, ``-`` for none, counter-clockwise from the first."""
        kinds = list(self.stretches)
        if kinds and self._clockwise():
            kinds = kinds[::-1]
        return " ".join(kind or "-" for kind in kinds)

    def with_words(self, words: str, known: Collection[str]) -> Drawn:
        """With what :meth:`stretch_words` wrote, whichever way round the file has the ring.

        Raises InputError, when there is not a word a vertex or one that is not ``known``.
        """
        kinds = ["" if word == "-" else word for word in words.split()]
        if not kinds:
            return self
        if len(kinds) != len(self.xy):
            raise InputError(f"stretches: {len(kinds)} words for {len(self.xy)} vertices")
        wrong = next((kind for kind in kinds if kind and kind not in known), None)
        if wrong is not None:
            raise InputError(f"stretches: '{wrong}' is not one of {', '.join(known)}")
        if self._clockwise():
            kinds = kinds[::-1]
        return replace(self, stretches=tuple(kinds) if any(kinds) else ())

    def _clockwise(self) -> bool:
        return not shapely.LinearRing(self.places).is_ccw

    def to_json(self) -> dict[str, Any]:
        """A plain dictionary."""
        data: dict[str, Any] = {"xy": [list(place) for place in self.xy]}
        if self.stretches:
            data["stretches"] = list(self.stretches)
        if self.z:
            data["z"] = list(self.z)
        if self.holes:
            data["holes"] = [[list(place) for place in hole] for hole in self.holes]
        return data

    @staticmethod
    def from_json(data: dict[str, Any]) -> Drawn:
        """The reverse of :meth:`to_json`. Raises TypeError or ValueError."""
        return Drawn(ring_of(data.get("xy", ())), tuple(data.get("z", ())),
                     tuple(ring_of(hole) for hole in data.get("holes", ())),
                     tuple(map(str, data.get("stretches", ()))))  # fmt: skip


@dataclass(frozen=True)
class Item:
    """One of many drawn rings of a field, with a name and values of its own (text or number, by name).

    ``taken`` False keeps it in the list without its being counted.
    """

    key: str
    name: str
    ring: Drawn
    values: tuple[tuple[str, Any], ...] = ()
    taken: bool = True
    origin: str = field(default="", compare=True)

    def value(self, name: str, otherwise: Any = None) -> Any:
        """One of its own values."""
        return dict(self.values).get(name, otherwise)

    def with_value(self, name: str, value: Any) -> Item:
        """With one of its own values set; None takes it away."""
        rest = {key: held for key, held in self.values if key != name}
        return replace(self, values=tuple((rest | ({} if value is None else {name: value})).items()))

    def to_json(self) -> dict[str, Any]:
        """A plain dictionary."""
        return {"key": self.key, "name": self.name, "ring": self.ring.to_json(), "values": dict(self.values),
                "taken": self.taken, "origin": self.origin}  # fmt: skip

    @staticmethod
    def from_json(data: dict[str, Any]) -> Item:
        """The reverse of :meth:`to_json`. Raises KeyError, TypeError or ValueError."""
        return Item(str(data["key"]), str(data["name"]), Drawn.from_json(data["ring"]),
                    tuple(data.get("values", {}).items()), bool(data.get("taken", True)), data.get("origin", ""))  # fmt: skip
