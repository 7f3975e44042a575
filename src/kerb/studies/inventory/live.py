"""The total under the cursor: only the heap whose line moves is measured again."""

from __future__ import annotations

from kerb.core.errors import KerbError
from kerb.studies.drawn import Drawn
from kerb.studies.inventory.figures import LABELS
from kerb.studies.inventory.setup import InventorySetup, heap_setup
from kerb.studies.outcome import Figure, Outcome
from kerb.studies.sources import Sources
from kerb.studies.stockpile.live import LiveHeap

MOST_KEPT = 60


class LiveYard:
    """A live heap for each line that was asked about."""

    def __init__(self, setup: InventorySetup, sources: Sources) -> None:
        self.sources = sources
        self.asked = _asked(setup)
        self._heaps: dict[str, LiveHeap] = {}
        self._answers: dict[str, tuple[object, Outcome | None]] = {}

    def covers(self, setup: InventorySetup) -> bool:
        """Whether the same points are asked for."""
        return _asked(setup) == self.asked

    def answer(self, setup: InventorySetup) -> Outcome:
        """Sums of quick volumes. Raises InputError, when something is missing."""
        setup.check()
        unit = self.sources.unit
        outcome = Outcome("inventory", unit.code, "", {}, setup.settings(), live=True)
        sums = {"net": 0.0, "above": 0.0, "below": 0.0}
        known = 0
        for item in setup.taken():
            one = self._one(item.key, item.ring, setup)
            if one is None:
                continue
            known += 1
            for name in sums:
                sums[name] += one.value(name) or 0.0
            outcome.layers |= {f"{name} {item.key}": layer for name, layer in one.layers.items() if name == "toe"}
        code = unit.volume_code()
        outcome.figures = {
            f"total_{name}": Figure(value if known else None, code, LABELS[f"total_{name}"])
            for name, value in sums.items()
        }
        outcome.figures["heaps"] = Figure(known, "", LABELS["heaps"])
        return outcome

    def _one(self, key: str, ring: Drawn, setup: InventorySetup) -> Outcome | None:
        item = next(item for item in setup.heaps if item.key == key)
        one = heap_setup(setup, item)
        mark = one.shorn()
        if key in self._answers and self._answers[key][0] == mark:
            return self._answers[key][1]
        try:
            heap = self._heaps.get(key)
            if heap is None or not heap.covers(one):
                if len(self._heaps) >= MOST_KEPT:
                    self._heaps.pop(next(iter(self._heaps)))
                heap = self._heaps[key] = LiveHeap(one, self.sources)
            answer: Outcome | None = heap.answer(one)
        except KerbError:
            answer = None
        self._answers[key] = (mark, answer)
        return answer


def _asked(setup: InventorySetup) -> tuple[object, ...]:
    return setup.cloud, setup.surface, setup.earlier
