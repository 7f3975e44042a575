"""Run a stockpile study: gather, shape, measure twice, judge, and put the answer into an outcome."""

from __future__ import annotations

from typing import Any

import numpy as np

from kerb.core.arrays import Floats, Mask, ends
from kerb.core.errors import NotDeterminable
from kerb.core.parallel import beside
from kerb.core.progress import Progress
from kerb.core.surface.grid import HeightGrid, filled, gridded
from kerb.core.surface.tin import Tin
from kerb.core.surface.volume import between
from kerb.studies.layers import Layer
from kerb.studies.outcome import Attribute, Note, Outcome
from kerb.studies.sources import Sources
from kerb.studies.stockpile import drawing, figures, notes, profiles, shape, uncertainty
from kerb.studies.stockpile.heap import Heap, base_elevations, gather, shape_heap
from kerb.studies.stockpile.measured import Measured
from kerb.studies.stockpile.second_way import volume_by_grid
from kerb.studies.stockpile.setup import StockpileSetup

STUDY = "stockpile"
GAP_SPACINGS = 6.0
CELL_SPACINGS = 2.0


def run(setup: StockpileSetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'how much is in this heap?'.

    Returns
    -------
    Outcome whose figures are None, with a warning that says why, where the data do not support them.

    Raises
    ------
    InputError, when the setup is wrong; Cancelled.
    """
    setup.check()
    unit, cloud = sources.unit, sources.cloud("cloud")
    outcome = Outcome(
        study=STUDY,
        unit=unit.code,
        crs=cloud.reference.code or cloud.reference.name,
        figures=figures.none(unit, setup),
        settings=settings_used(setup),
        method=notes.method(setup, cloud),
    )
    detail = notes.cloud_detail(cloud)
    outcome.inputs.append(sources.input("cloud", "compared", 0, detail))
    unfit = notes.no_volume(cloud)
    if unfit is not None:
        outcome.warnings += [*sources.stated, unfit]
        return outcome
    try:
        found = measured(setup, sources, progress.within(0.0, 0.95))
    except NotDeterminable as reason:
        outcome.warnings += [*sources.stated, Note("not-determinable", f"Not determinable: {reason}")]
        return outcome
    heap = found.heap
    outcome.inputs[0] = sources.input("cloud", "compared", len(heap.inside), detail)
    if setup.base == "surface":
        outcome.inputs.append(sources.input("surface", "against"))
    outcome.settings = settings_used(setup, found.cell, found.gap_edge, uncertainty.toe_error(setup, heap))
    outcome.figures, about, outcome.layers, *outcome.charts = beside(
        lambda: figures.worded(found, setup),
        lambda: notes.about(found, setup, sources),
        lambda: _layers(found),
        *profiles.across(heap, lambda xy: base_elevations(heap.base, heap.ring, xy), setup),
    )
    outcome.tables = figures.tables(found, unit)
    outcome.warnings += [*notes.of_inputs(setup, sources), *about]
    outcome.attributes["over"] = Attribute("Height above base", "base", "toe", outcome.unit)
    progress.step(1.0, "Done")
    return outcome


def measured(setup: StockpileSetup, sources: Sources, progress: Progress) -> Measured:
    """Everything that is measured of one heap. Raises NotDeterminable, InputError; Cancelled."""
    ground = gather(sources.cloud("cloud"), setup, sources.unit, progress.within(0.0, 0.15))
    surface = sources.surface("surface", setup.surface) if setup.base == "surface" else None
    heap = shape_heap(ground, setup, surface, progress.within(0.15, 0.6))
    return measure(heap, setup, progress.within(0.6, 1.0))


def measure(heap: Heap, setup: StockpileSetup, progress: Progress) -> Measured:
    """Volumes both ways, uncertainty and description of a shaped heap. Raises Cancelled."""
    progress.step(0.0, "Adding prisms")
    volume = between(heap.top, heap.base, progress.within(0.0, 0.4))
    cell = setup.cell or CELL_SPACINGS * heap.ground.spacing
    progress.step(0.4, "Second way, by grid")
    gap_edge = setup.gap_edge or GAP_SPACINGS * heap.ground.spacing
    second, noise, wide, slopes, gap = beside(
        lambda: volume_by_grid(shape.heap_grid(heap, cell)[0], heap.area, heap.base),
        lambda: uncertainty.point_noise(heap),
        lambda: _wide_grid(heap, cell),
        lambda: shape.slopes(heap),
        lambda: shape.gap_triangles(heap.top, gap_edge),
    )
    progress.step(0.7, "Judging the uncertainty")
    parts = uncertainty.parts(heap, setup, wide, noise, _gap_table(heap.top, gap))
    progress.step(0.9, "Describing the heap")
    surface = shape.surface_area(heap, noise[0])
    return Measured(heap, volume, second, cell, gap, gap_edge, surface, slopes, parts)


def settings_used(
    setup: StockpileSetup, cell: float | None = None, gap_edge: float | None = None, toe: float | None = None
) -> dict[str, Any]:
    """The settings with automatic ones replaced by the values they took."""
    used = setup.settings()
    used["cell"] = setup.cell if cell is None else cell
    used["gap_edge"] = setup.gap_edge if gap_edge is None else gap_edge
    used["toe_error"] = setup.toe_error if toe is None else toe
    return used


def _wide_grid(heap: Heap, cell: float) -> HeightGrid:
    """Grid of all points in and around the heap, so that the toe line can be moved outwards on it."""
    points = heap.ground.points
    low, high = ends(points[:, :2])
    grid = gridded(points, low - cell, high + cell, cell)
    return filled(grid, np.ones(grid.shape, bool))


def _gap_table(top: Tin, gap: Mask) -> Floats:
    corners = top.vertices[top.triangles[gap], 2]
    if not len(corners):
        return np.empty((0, 2))
    return np.column_stack([top.plan_areas[gap], np.ptp(corners, axis=1)])


def _layers(found: Measured) -> dict[str, Layer]:
    heap = found.heap
    lines, base = drawing.toe_lines(heap.toe, heap.area.holes), drawing.base_mesh(heap.base, heap.area)
    return lines | {"base": base} | drawing.top_meshes(heap.top, found.gap)
