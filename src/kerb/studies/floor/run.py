"""Run a floor: find the slab, hold it against a reference, read F-numbers, lay straightedges and let water run."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kerb.core.errors import NotDeterminable
from kerb.core.floor.evenness import straightedge
from kerb.core.floor.water import water_on
from kerb.core.progress import Progress
from kerb.core.quantity import quantity
from kerb.studies.floor.dates import put_dates
from kerb.studies.floor.figures import figures, put_notes, put_tables
from kerb.studies.floor.found import FEWEST_NODES, Found, found_slab, on_grid, read_lines, reference_of
from kerb.studies.floor.picture import draw
from kerb.studies.floor.setup import DESIGN, FloorSetup
from kerb.studies.floor.traffic import put_paths, read_paths
from kerb.studies.outcome import Note, Outcome
from kerb.studies.sources import Sources

STUDY = "floor"


def run(setup: FloorSetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'how flat and level is it?'. Raises InputError, NotDeterminable; Cancelled."""
    setup.check()
    store, unit = sources.store("cloud"), sources.unit
    points = replace(setup.cloud, within=()).of(store).points(progress.within(0.0, 0.15))
    slab = found_slab(setup, points, unit)
    progress.step(0.4, "Holding it against the reference")
    level, words = reference_of(setup, slab, sources)
    beside = int(np.count_nonzero(~np.isfinite(level(slab.places))))
    if beside:
        slab = slab.only(on_grid(slab, np.isfinite(level(slab.places))))
    if int(slab.known.sum()) < FEWEST_NODES:
        raise NotDeterminable("the design surface does not lie under the floor")
    away = np.full(slab.z.shape, np.nan)
    away[slab.known] = slab.levels - level(slab.places)
    lines = read_lines(setup, sources, slab, progress)
    rides = read_paths(setup, sources, slab, progress.within(0.45, 0.5))
    gaps = straightedge(slab.z, slab.spacing, setup.straightedge, progress.within(0.5, 0.8))
    outlets = sources.points("outlets").xyz[:, :2] if setup.outlets else None
    water = water_on(slab.z, slab.corner, slab.spacing, setup.puddle, outlets)
    found = Found(setup, unit, slab, away, lines, gaps, water)
    outcome = Outcome(STUDY, unit.code, store.reference.code or store.reference.name, figures(found), setup.settings())
    outcome.inputs = [sources.input("cloud", "cloud", len(slab.points), setup.cloud.words(store))]
    outcome.inputs += [sources.input("lines", "sample lines")] if setup.lines else []
    outcome.inputs += [sources.input("outlets", "outlets")] if setup.outlets else []
    outcome.inputs += [sources.input("traffic", "truck paths")] if setup.traffic else []
    outcome.inputs += [sources.input("design", "design surface")] if setup.reference == DESIGN else []
    outcome.inputs += [sources.input("plan", "plan")] if setup.plan else []
    put_tables(outcome, found, sources)
    put_notes(outcome, found)
    if beside:
        area = quantity(beside * slab.cell_area, unit.area_code())
        outcome.warnings.append(
            Note("beside-design", f"{area} of the floor have no design surface under them and do not count")
        )
    draw(outcome, found, sources)
    put_dates(outcome, found, sources, level, progress.within(0.8, 1.0))
    put_paths(outcome, setup, unit, rides)
    outcome.method = _method(found, words)
    return outcome


def _method(found: Found, words: str) -> str:
    setup, mark = found.setup, found.unit.symbol
    return (
        f"The floor is the surface of the lowest points that runs on without a step of {setup.step:g} {mark}; nodes every "
        f"{found.slab.spacing:g} {mark} take the {setup.take} of its points within {found.slab.radius:g} {mark}, "
        f"{setup.edge:g} {mark} off edges and what stands on it. Held against {words}. "
        "F-numbers by the formulas of ASTM E1155 (recalled): readings every 12 in, "
        "FF = 4.57 / (3 s + |mean|) of second differences, FL = 12.5 / (3 s + |mean|) of differences over 10 ft, in inches; "
        "lines combine by the rule of the standard, bounds by leaving out blocks of twelve readings. Straightedge: the largest "
        f"gap under {setup.straightedge:g} {mark} laid in eight directions. Water by priority flood."
    )
