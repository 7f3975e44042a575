"""A surface while its steps are drawn and dragged: what came before the first step that differs is not done again."""

from __future__ import annotations

from kerb.core.surface.mending import Mended
from kerb.studies.drawn import Item
from kerb.studies.mend.run import changes, mended_parts, taken, whole
from kerb.studies.mend.setup import MendSetup
from kerb.studies.mend.steps import apply
from kerb.studies.outcome import Outcome
from kerb.studies.sources import Sources


class LiveMend:
    """The surface, and what it was after each step that was asked about last."""

    def __init__(self, setup: MendSetup, sources: Sources) -> None:
        self.asked, self.unit = setup, sources.unit
        first = sources.surface("surface", setup.surface)
        self.other = sources.surface("other", setup.other) if setup.other.holding else None
        self.crs, self.start = first.reference.code, whole(first)
        self.done: list[tuple[Item, Mended]] = []

    def covers(self, setup: MendSetup) -> bool:
        """As long as the surfaces are the same."""
        return setup.surface == self.asked.surface and setup.other == self.asked.other

    def answer(self, setup: MendSetup) -> Outcome:
        """The figures after all steps. Raises InputError, when one cannot be done."""
        setup.check()
        done: list[tuple[Item, Mended]] = []
        m = self.start
        for number, step in enumerate(taken(setup)):
            if number < len(self.done) and self.done[number][0] == step:
                m = self.done[number][1]
            else:
                self.done = []
                m = apply(m, step, self.other)
            done.append((step, m))
        self.done = done
        outcome = Outcome("mend", self.unit.code, self.crs, changes(m, self.unit), {}, live=True)
        outcome.layers |= mended_parts(m)
        return outcome


def ready(setup: MendSetup, sources: Sources) -> LiveMend:
    """Read what live answers need."""
    return LiveMend(setup, sources)
