"""Sums over heaps: volumes, masses and their uncertainty, by material, and change since an earlier survey.

Independent parts of the uncertainty add by root sum of squares; the vertical bias between two surveys is the same under
every heap and adds plainly (JCGM 100:2008, 5.2: fully correlated inputs).
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from kerb.studies.drawn import Item
from kerb.studies.outcome import Outcome
from kerb.studies.parts import joined, parts_of
from kerb.studies.stockpile.figures import SHARED

NOW, GONE = "now", "gone"


@dataclass(frozen=True)
class Row:
    """A heap: what it is, what was found of it, and of the heap at its place in the earlier survey."""

    name: str
    material: str
    density: float | None
    kind: str = NOW
    values: dict[str, float | None] = field(default_factory=dict)
    parts: dict[str, float] = field(default_factory=dict)
    before: float | None = None
    before_name: str = ""
    before_parts: dict[str, float] = field(default_factory=dict)
    notes: int = 0

    @property
    def net(self) -> float | None:
        """Net volume; None where it is not determinable or the heap is gone."""
        return self.values.get("net")

    @property
    def change(self) -> float | None:
        """Present less earlier volume, counting a heap that is not there as nothing; None without an earlier survey."""
        if self.kind == GONE:
            return None if self.before is None else -self.before
        if self.net is None or self.before is None:
            return None
        return self.net - self.before


@dataclass(frozen=True)
class Total:
    """Sums over rows. ``u95`` is None where nothing could be determined."""

    above: float
    below: float
    net: float
    mass: float | None
    u95: float | None
    mass_u95: float | None
    change: float | None
    change_u95: float | None
    count: int


def rows(now: list[tuple[Item, Outcome]], before: list[tuple[Item, Outcome]], pairs: dict[int, int]) -> list[Row]:
    """A row for each present heap, then one for each earlier heap that is gone."""
    found = []
    for n, (item, one) in enumerate(now):
        old = before[pairs[n]] if n in pairs else None
        earlier = None if not before else 0.0 if old is None else old[1].value("net")
        found.append(
            Row(
                item.name, str(item.value("material", "")), one.settings.get("density"), NOW,
                {name: figure.value for name, figure in one.figures.items()}, parts_of(one), earlier,
                old[0].name if old is not None else "", parts_of(old[1]) if old is not None else {}, len(one.warnings),
            )
        )  # fmt: skip
    for b, (item, one) in enumerate(before):
        if b not in pairs.values():
            material, density = str(item.value("material", "")), one.settings.get("density")
            found.append(Row(item.name, material, density, GONE, before=one.value("net"), before_parts=parts_of(one)))
    return found


def without_change(found: list[Row]) -> list[str]:
    """Names of the heaps whose change cannot be told although there is an earlier survey."""
    surveyed = any(row.kind == GONE or row.before is not None or row.before_name for row in found)
    return [row.name for row in found if row.change is None] if surveyed else []


def total(found: list[Row]) -> Total:
    """Sums over rows; those without a figure are left out."""
    known = [row for row in found if row.net is not None]
    weighed = [row for row in known if row.values.get("mass") is not None]
    per_volume = [_per_volume(row) for row in weighed]
    # A change of some of the heaps is no change of the yard: without all of them there is none.
    changed = [] if without_change(found) else [row for row in found if row.change is not None]
    mass = float(sum(row.values["mass"] or 0.0 for row in weighed)) if weighed and len(weighed) == len(known) else None
    return Total(
        above=float(sum(row.values.get("above") or 0.0 for row in known)),
        below=float(sum(row.values.get("below") or 0.0 for row in known)),
        net=float(sum(row.net or 0.0 for row in known)),
        mass=mass,
        u95=joined([row.parts for row in known], SHARED) if known else None,
        mass_u95=joined([row.parts for row in weighed], SHARED, per_volume) if mass is not None else None,
        change=float(sum(row.change or 0.0 for row in changed)) if changed else None,
        change_u95=_of_two(changed) if changed else None,
        count=len(known),
    )


def _of_two(changed: list[Row]) -> float:
    """The uncertainty of a change: the biases of two surveys have nothing to do with each other."""
    now, before = [row.parts for row in changed], [row.before_parts for row in changed]
    return float(np.hypot(joined(now, SHARED), joined(before, SHARED)))


def _per_volume(row: Row) -> float:
    net, mass = row.net or 0.0, row.values.get("mass") or 0.0
    return mass / net if net else 0.0


def by_material(found: list[Row]) -> dict[str, list[Row]]:
    """Rows by material, in order of first use."""
    groups: dict[str, list[Row]] = {}
    for row in found:
        groups.setdefault(row.material, []).append(row)
    return groups
