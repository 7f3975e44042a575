"""The drawn shapes of the open study: rings, lines and places of its fields, whatever study it is."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from kerb.app.session import Session
from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.geometry import polygon
from kerb.studies.drawn import Drawn, Item
from kerb.studies.fields import DRAWN, LINE, PLACES, RING, RINGS, Field
from kerb.studies.layers import FoundLine
from kerb.studies.outcome import Outcome
from kerb.studies.setup import Setup

FEWEST = {RING: 3, RINGS: 3, LINE: 2, PLACES: 1}


def counted(number: int, kind: str) -> str:
    """So many vertices, or places where no line joins them."""
    if kind == PLACES:
        return f"{number} place{'s' if number != 1 else ''}"
    return f"{number} vertices"


@dataclass(frozen=True)
class Shape:
    """One drawn shape: the field it belongs to, of many rings the key of its item, and its vertices.

    ``quiet`` ones only move what is shown, such as the line of a profile.
    """

    field: str
    about: Field
    drawn: Drawn
    item: str = ""
    name: str = ""
    taken: bool = True
    way: str = ""

    @property
    def kind(self) -> str:
        """What it is drawn as."""
        return self.about.drawn_as(self.way)

    @property
    def key(self) -> str:
        """Tells it from the others."""
        return f"{self.field}:{self.item}"

    @property
    def closed(self) -> bool:
        """Whether it is a ring."""
        return self.kind in (RING, RINGS)

    @property
    def joined(self) -> bool:
        """Whether a line runs from vertex to vertex: single places have none."""
        return self.kind != PLACES

    @property
    def quiet(self) -> bool:
        """Whether it changes no figure."""
        return self.about.show_only

    @property
    def label(self) -> str:
        """What it is called in messages."""
        return self.name or self.about.label.lower()

    def fits(self, drawn: Drawn) -> bool:
        """Whether other vertices would make a shape of its kind."""
        try:
            if self.closed:
                polygon.checked(drawn.places, self.label)
            return len(drawn.xy) >= FEWEST.get(self.kind, 1)
        except InputError:
            return False

    def values(self, setup: Setup, drawn: Drawn) -> dict[str, Any]:
        """The values of the setup that give it other vertices."""
        if not self.item:
            return {self.field: drawn}
        items: tuple[Item, ...] = getattr(setup, self.field)
        return {self.field: tuple(replace(i, ring=drawn) if i.key == self.item else i for i in items)}

    def removed(self, setup: Setup) -> dict[str, Any]:
        """The values of the setup without it."""
        if not self.item:
            return {self.field: Drawn()}
        return {self.field: tuple(i for i in getattr(setup, self.field) if i.key != self.item)}


def shapes_of(session: Session) -> list[Shape]:
    """Everything that is drawn for the open study as it is now, the draft included; quiet ones last."""
    setup = session.setup
    if setup is None:
        return []
    found: list[Shape] = []
    for name, about in setup.declared().items():
        value = getattr(setup, name)
        if about.kind in DRAWN and value and not about.show_only:
            found.append(Shape(name, about, value))
        elif about.kind == RINGS and not about.hidden:
            found += [
                Shape(name, about, i.ring, i.key, i.name, i.taken, str(i.value("way", ""))) for i in value if i.ring
            ]
    return found + _profiles(session, setup)


def _profiles(session: Session, setup: Setup) -> list[Shape]:
    """Lines of the profiles that are shown: where the setup says, else where the outcome put them."""
    shown = session.shown()
    if not shown.whole or shown.outcome is None:
        return []
    found = []
    for chart in shown.outcome.profiles:
        if chart.field:
            own = getattr(setup, chart.field)
            found.append(
                Shape(chart.field, setup.declared()[chart.field], own or Drawn.of(chart.line), name=chart.title)
            )
    return found


def layer_of(outcome: Outcome | None, shape: Shape) -> FoundLine | None:
    """The line of an outcome that a shape became: named as its field, or by the key of its item at the end."""
    if outcome is None:
        return None
    if not shape.item:
        return outcome.line(shape.field)
    return next(
        (
            layer
            for name, layer in outcome.layers.items()
            if isinstance(layer, FoundLine) and not layer.gapped and name.endswith(f" {shape.item}")
        ),
        None,
    )


def gaps_of(outcome: Outcome | None, shape: Shape) -> list[FoundLine]:
    """The breaks of an outcome in the line that a shape became."""
    if outcome is None or layer_of(outcome, shape) is None:
        return []
    mine = f" {shape.item}" if shape.item else ""
    return [
        layer
        for name, layer in outcome.layers.items()
        if isinstance(layer, FoundLine) and layer.gapped and name.endswith(mine)
    ]


def elevated(outcome: Outcome | None, shape: Shape, otherwise: float) -> Floats:
    """Where the vertices of a shape are drawn, (n, 3): at typed elevations, else on the outcome's line, else level."""
    xy = shape.drawn.places
    line = layer_of(outcome, shape)
    z = np.full(len(xy), otherwise)
    if line is not None and len(line.xyz):
        nearest = [int(np.argmin(np.hypot(*(line.xyz[:, :2] - place).T))) for place in xy]
        z = line.xyz[nearest, 2]
    elif outcome is not None and outcome.layers:
        heights = [layer.xyz[:, 2] for layer in outcome.layers.values() if isinstance(layer, FoundLine)]
        z = np.full(len(xy), float(np.median(np.concatenate(heights)))) if heights else z
    for vertex in range(len(xy)):
        typed = shape.drawn.level(vertex)
        if typed is not None:
            z[vertex] = typed
    return np.column_stack([xy, z])


def drawable(setup: Setup) -> list[str]:
    """Fields that are drawn by hand, in order."""
    return [
        name for name, about in setup.declared().items() if about.kind in (*DRAWN, RINGS) and not about.hidden
        and setup.counts(name)
    ]  # fmt: skip


def with_ring(setup: Setup, field: str, drawn: Drawn, way: str = "") -> tuple[dict[str, Any], str]:
    """The values of the setup with a newly drawn shape, of one of the ways of the field, and what it is called."""
    about = setup.declared()[field]
    if about.kind != RINGS:
        return {field: drawn}, about.label.lower()
    items: tuple[Item, ...] = getattr(setup, field)
    number = next(n for n in range(1, len(items) + 2) if f"d{n}" not in {i.key for i in items})
    names = {i.name for i in items}
    own = (("way", way),) if way else ()
    base = next((one.label for one in about.ways if one.id == way), about.label.removesuffix("s"))
    name = next(f"{base} {n}" for n in range(1, len(items) + 2) if f"{base} {n}" not in names)
    return {field: (*items, Item(f"d{number}", name, drawn, own, True, "drawn"))}, name
