"""Cut and fill over several dates, the same again with one more, and areas proposed as stable ground."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np

from kerb.core.errors import InputError, NotDeterminable
from kerb.core.progress import Progress
from kerb.core.quantity import labelled
from kerb.core.surface.grid import centres_of, shape_over
from kerb.core.surface.overlay import Change, change, mask_of
from kerb.core.surface.stable import proposals
from kerb.core.surface.tin import Tin
from kerb.studies.cutfill.compared import compared, extent
from kerb.studies.cutfill.figures import added
from kerb.studies.cutfill.setup import CutfillSetup
from kerb.studies.drawn import Drawn, Item
from kerb.studies.layers import Plot
from kerb.studies.outcome import Column, Note, Outcome, Table
from kerb.studies.scope import Scope
from kerb.studies.sources import Sources, numbered

CELLS_ALONG = 200


def add(outcome: Outcome, setup: CutfillSetup, sources: Sources, first: Change, progress: Progress) -> None:
    """A table and a chart of each date against the earlier surface, by date; ``first`` is what the later one gave.

    What stable ground says is taken out of each by itself. Raises as a comparison does; Cancelled.
    """
    found = [(sources.source("later"), first)]
    for number, scope in enumerate(setup.further):
        key = numbered("further", number)
        progress.step(number / len(setup.further), f"Comparing {sources.source(key).name}")
        twin = Sources(sources.unit, {**sources.items, "later": sources.items[key]}, sources.stated)
        both = compared(replace(setup, later=scope), twin, progress)
        masks: list[Tin | None] = [mask_of(area) for area in setup.named_areas()]
        masks = masks or [None]
        band = setup.detect or 0.0
        found.append((sources.source(key), added([change(both.earlier, both.later, mask, band) for mask in masks])))
        outcome.inputs.append(sources.input(key, "further date"))
    # By date where all have one, else as they were chosen.
    if all(source.epoch for source, _ in found):
        found.sort(key=lambda one: one[0].epoch)
    else:
        outcome.warnings.append(Note("no-dates", "not all epochs have a date: the series is in the order chosen"))
    volume = sources.unit.volume_code()
    rows, before = [], 0.0
    for source, one in found:
        rows.append((source.epoch or source.name, one.fill, one.cut, one.net, one.net - before))
        before = one.net
    outcome.tables["series"] = Table(
        "By date",
        (
            Column("date", "", "Date"), Column("fill", volume, "Fill"), Column("cut", volume, "Cut"),
            Column("net", volume, "Net since the first"), Column("step", volume, "Net since the one before"),
        ),
        tuple(rows),
    )  # fmt: skip
    net = np.array([one.net for _, one in found])
    names = tuple(row[0] for row in rows)
    outcome.charts.append(
        Plot(
            "Net by date",
            "bars",
            np.arange(len(net), dtype=float),
            net,
            "",
            labelled("fill − cut", sources.unit.volume_code()),
            names,
        )
    )


def follow(setup: CutfillSetup, cloud: str) -> CutfillSetup:
    """The same with one date more. Raises InputError, when there is no later surface yet."""
    if not setup.later.holding:
        raise InputError("choose the later surface first")
    return replace(setup, further=(*setup.further, Scope(cloud)))


def propose(setup: CutfillSetup, sources: Sources, progress: Progress) -> CutfillSetup:
    """With areas where the ground likely did not change; what was drawn stays. Raises InputError, NotDeterminable; Cancelled."""
    if setup.level is not None:
        raise NotDeterminable("a level has no stable ground: choose a later surface")
    wide = replace(setup, areas=(), stable=(), take_out="none")
    found = compared(wide, sources, progress)
    low, high = extent(found, None)
    if np.any(high <= low):
        raise NotDeterminable("the two surfaces share no ground here")
    cell = float((high - low).max()) / CELLS_ALONG
    shape = shape_over(low, high, cell)
    shapes = proposals(found.difference(centres_of(low, cell, shape)).reshape(shape), cell)
    if not shapes:
        raise NotDeterminable("no ground was found on which the two agree: mark some that cannot have moved")
    kept = tuple(item for item in setup.stable if item.origin != "proposed")
    taken = {item.key for item in kept}
    made = []
    for number, ring in enumerate(shapes, 1):
        key = next(f"g{n}" for n in itertools.count(1) if f"g{n}" not in taken)
        taken.add(key)
        rings = [np.round(np.array(one.coords)[:-1] + low, 3) for one in (ring.exterior, *ring.interiors)]
        made.append(Item(key, f"Stable ground {number}", Drawn.of(rings[0], rings[1:]), (), True, "proposed"))
    return replace(setup, stable=(*kept, *made))
