"""Which points count: a holding, narrowed by classes, part, filters and areas. The one implementation of that question.

What is set aside never counts; the noise classes only when they are chosen by number.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from kerb.core.arrays import Floats, Mask
from kerb.core.cloud import filters
from kerb.core.cloud.classes import GROUND_CLASSES, NOISE_CLASSES
from kerb.core.cloud.filters import Filter, lacking
from kerb.core.cloud.store import CLASSES, CloudStore
from kerb.core.cloud.view import CloudView, Narrowing
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.area import Area, ring_of


@dataclass(frozen=True)
class Scope:
    """Points, or anything with elevations, of a holding. Everything left empty does not narrow."""

    holding: str = ""
    classes: tuple[int, ...] = ()
    part: str = ""
    only: tuple[Filter, ...] = ()
    within: tuple[Area, ...] = ()

    @property
    def narrow(self) -> bool:
        """Whether it is less than the whole holding."""
        return bool(self.classes or self.part or self.only or self.within)

    def check(self, label: str) -> None:
        """Raises InputError, naming what cannot be."""
        for condition in self.only:
            condition.check()
        for number, area in enumerate(self.within, 1):
            area.check(f"{label}: area {area.name or number}")
        if any(not 0 <= code <= 255 for code in self.classes):
            raise InputError(f"{label}: class numbers are 0 to 255")

    def of(self, store: CloudStore, ring: Floats | None = None) -> CloudView:
        """The points of a cloud that count, those in a ring (n, 2) only where one is given.

        Raises NotDeterminable, when the cloud lacks the part or an attribute that points are chosen by.
        """
        if self.classes and not store.has(CLASSES):
            raise NotDeterminable("the cloud has no classes to choose points by")
        missing = lacking(store, self.only)
        if missing:
            raise NotDeterminable(f"the cloud has no attribute '{missing[0]}' to filter by")
        if self.part and self.part not in store.part_names:
            known = ", ".join(store.part_names) or "none"
            raise NotDeterminable(f"the cloud has no part '{self.part}'; there are: {known}")
        part = store.part_names[self.part] if self.part else None
        classes = self.classes or usable_classes(store)
        return CloudView(store, Narrowing(None, ring, classes, part, self.only, self.within))

    def words(self, store: CloudStore | None = None) -> str:
        """What counts, for a report: ``points of class 2 in the part Road``."""
        said = (
            f"points of class {', '.join(map(str, self.classes))}" if self.classes else "all points but noise classes"
        )
        if self.part:
            said += f" in the part {self.part}"
        if self.only and store is not None:
            said += f" with {filters.worded(self.only, store)}"
        if self.within:
            said += " inside " + (self.within[0].name or "the area" if len(self.within) == 1 else "the areas")
        return said

    def to_json(self) -> dict[str, Any]:
        """A plain dictionary."""
        return {
            "holding": self.holding, "classes": list(self.classes), "part": self.part,
            "only": filters.to_json(self.only),
            "within": [{"name": a.name, "rings": [[list(p) for p in ring] for ring in a.rings]} for a in self.within],
        }  # fmt: skip

    @staticmethod
    def from_json(data: dict[str, Any]) -> Scope:
        """The reverse of :meth:`to_json`; what is missing does not narrow. Raises TypeError or ValueError."""
        areas = [Area(tuple(ring_of(r) for r in a["rings"]), a.get("name", "")) for a in data.get("within", ())]
        return Scope(
            data.get("holding", ""), tuple(int(c) for c in data.get("classes", ())), data.get("part", ""),
            filters.from_json(data.get("only", ())), tuple(areas),
        )  # fmt: skip


def usable_classes(store: CloudStore) -> tuple[int, ...] | None:
    """All classes but noise, or None (no narrowing) when the cloud has no noise."""
    if not store.has(CLASSES) or not set(store.present(CLASSES)) & set(NOISE_CLASSES):
        return None
    return tuple(code for code in range(256) if code not in NOISE_CLASSES)


def ground_classes(store: CloudStore) -> tuple[int, ...]:
    """The ground classes of a classified cloud; empty where it has no ground, or nothing but ground and noise."""
    if not store.has(CLASSES):
        return ()
    present = set(store.present(CLASSES))
    ground = tuple(code for code in GROUND_CLASSES if code in present)
    return ground if ground and present - {*GROUND_CLASSES, *NOISE_CLASSES} else ()


def without_noise() -> Mask:
    """Which of the 256 classes are shown when noise is not."""
    shown = np.ones(256, bool)
    shown[list(NOISE_CLASSES)] = False
    return shown
