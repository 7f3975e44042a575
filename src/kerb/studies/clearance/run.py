"""Run clearances: find the road and what hangs over it, the lowest places, what passes, wires, and how sure that is."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kerb.core.clearance.envelope import Vehicle, outline_of, passage
from kerb.core.progress import Progress
from kerb.studies.clearance.figures import figures, put_notes, put_tables
from kerb.studies.clearance.found import Found, asked_again, find
from kerb.studies.clearance.picture import draw
from kerb.studies.clearance.setup import SQUARE, ClearanceSetup
from kerb.studies.outcome import Attribute, Outcome
from kerb.studies.sources import Sources, numbered

STUDY = "clearance"
# What a quick answer follows: no point is looked for anew.
QUICK = (
    "lanes", "lane_width", "picks", "radius", "pattern", "required", "posted_step", "margin", "registration_error", "path",
    "envelope", "length", "wheelbase", "step", "warmer", "expansion", "later",
)  # fmt: skip


def run(setup: ClearanceSetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'how much clearance is there over the road?'. Raises InputError, NotDeterminable; Cancelled."""
    setup.check()
    outline = outline_of(setup.envelope) if setup.envelope else None
    store, unit = sources.store("above"), sources.unit
    found = find(setup, sources, progress.within(0.0, 0.6))
    if outline is not None:
        vehicle = Vehicle(outline, setup.length, setup.wheelbase)
        way = passage(found.walls, found.road, setup.line(sources), vehicle, setup.step, progress.within(0.65, 0.8))
        found = replace(found, passage=way)
    progress.step(0.8, "Lanes and places")
    outcome = told(found, sources)
    outcome.inputs = [sources.input("above", "above", len(found.points), setup.above.words(store))]
    outcome.inputs += [sources.input("below", "below")] if setup.below.holding else []
    outcome.inputs += [sources.input("points", "points")] if setup.points else []
    outcome.inputs += [sources.input("along", "path")] if setup.envelope and setup.along else []
    outcome.inputs += [sources.input(numbered("later", n), "further date") for n in range(len(setup.later))]
    column = np.full(store.count, np.nan, np.float32)
    column[found.rows] = found.height
    outcome.attributes = {"clearance": Attribute("Clearance over the road", "", "", unit.code, column)}
    return outcome


def told(found: Found, sources: Sources) -> Outcome:
    """What was found as an outcome: figures, tables, notes and layers."""
    store = sources.store("above")
    crs = store.reference.code or store.reference.name
    outcome = Outcome(STUDY, found.unit.code, crs, figures(found), found.setup.settings())
    put_tables(outcome, found, sources)
    put_notes(outcome, found)
    draw(outcome, found)
    outcome.method = _method(found)
    return outcome


class LiveClearance:
    """The road and what hangs over it, found once: lanes, places and what is required are answered from it."""

    def __init__(self, setup: ClearanceSetup, sources: Sources) -> None:
        """Find them. Raises InputError; NotDeterminable."""
        self.sources = sources
        self.found = replace(find(replace(setup, envelope="", later=()), sources, Progress()), passage=None)
        self.asked = _bare(setup)

    def covers(self, setup: ClearanceSetup) -> bool:
        """As long as only lanes, places and what is required change."""
        return _bare(setup) == self.asked

    def answer(self, setup: ClearanceSetup) -> Outcome:
        """The same without the envelope and further dates, marked live. Raises InputError."""
        quick = replace(setup, envelope="", later=())
        outcome = told(asked_again(self.found, quick), self.sources)
        outcome.live = True
        return outcome


def _bare(setup: ClearanceSetup) -> ClearanceSetup:
    """What decides what is found: all but lanes, places and what is required."""
    plain = ClearanceSetup()
    return replace(setup, **{name: getattr(plain, name) for name in QUICK})


def _method(found: Found) -> str:
    setup, mark = found.setup, found.unit.symbol
    under = "a given level" if setup.level is not None and not setup.below.holding else "the road"
    if setup.by_itself:
        under = "the road, detected in the same cloud as the largest continuous surface of lowest points"
    how = "perpendicular to the road below" if setup.measure == SQUARE else "vertically"
    return (
        f"Heights of single points above {under}, measured {how}; the map shows the lowest point of each cell of "
        f"{setup.cell:g} {mark}. Points with fewer than two neighbours within {found.near:.3g} {mark} are excluded. The posted "
        f"value is the lowest clearance less its 95 % bound and a margin of {setup.margin:g} {mark}, rounded down to "
        f"{setup.posted_step:g} {mark}. "
        "The bound contains noise, possible lower points between measured ones, the noise of the road and the stated "
        "registration error."
    )
