"""Run a stockpile study: gather, shape, measure twice, judge, and put the answer into an outcome."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from kerb.core.arrays import Floats, Mask
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import NotDeterminable
from kerb.core.geometry.plane import Plane
from kerb.core.progress import Progress
from kerb.core.reference import is_geographic
from kerb.core.surface.grid import HeightGrid, filled, gridded
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.surface.volume import Volume, between
from kerb.core.units import METRE, LengthUnit
from kerb.studies.outcome import Input, LineLayer, MeshLayer, Note, Outcome
from kerb.studies.stockpile import figures, notes, profiles, shape, uncertainty
from kerb.studies.stockpile.heap import BaseSource, Heap, base_elevations, gather, shape_heap
from kerb.studies.stockpile.live import volume_by_grid
from kerb.studies.stockpile.setup import StockpileSetup

STUDY = "stockpile"
GAP_SPACINGS = 6.0
CELL_SPACINGS = 2.0


@dataclass(frozen=True)
class HeapData:
    """What a stockpile study reads: the cloud of the top and, for base 'surface', what is the base."""

    cloud: CloudStore
    unit: LengthUnit = METRE
    base: BaseSource | None = None
    cloud_path: str = ""
    base_path: str = ""
    stated: tuple[Note, ...] = ()


@dataclass(frozen=True)
class Measured:
    """Numbers found for a heap, before they are worded."""

    heap: Heap
    volume: Volume
    second: Volume
    cell: float
    noise: float
    gap: Mask
    gap_edge: float
    surface: tuple[float, str]
    slopes: shape.Slopes
    parts: list[uncertainty.Part] = field(default_factory=list)

    @property
    def gap_area(self) -> float:
        """Plan area that no point covers."""
        return float(self.heap.top.plan_areas[self.gap].sum())


def run(setup: StockpileSetup, data: HeapData, progress: Progress) -> Outcome:
    """Answer 'how much is in this heap?'.

    Returns
    -------
    Outcome whose figures are None, with a warning that says why, where the data do not support them.

    Raises
    ------
    InputError, when the setup is wrong; Cancelled.
    """
    setup.check()
    outcome = Outcome(
        study=STUDY,
        unit=data.unit.code,
        crs=data.cloud.reference.code or data.cloud.reference.name,
        figures=figures.none(data.unit, setup),
        settings=settings_used(setup),
        method=notes.method(setup, data.cloud),
    )
    outcome.warnings += data.stated
    outcome.inputs.append(Input("compared", data.cloud_path, data.cloud.count, 0, notes.cloud_detail(data.cloud)))
    if is_geographic(data.cloud.reference):
        outcome.warnings.append(Note("degrees", "coordinates are degrees: transform the cloud to a projected system"))
        return outcome
    try:
        ground = gather(data.cloud, setup, data.unit, progress.within(0.0, 0.15))
        heap = shape_heap(ground, setup, data.base, progress.within(0.15, 0.6))
        measured = measure(heap, setup, progress.within(0.6, 0.95))
    except NotDeterminable as reason:
        outcome.warnings.append(Note("not-determinable", f"Not determinable: {reason}"))
        return outcome
    outcome.inputs[0] = Input(
        "compared", data.cloud_path, data.cloud.count, len(heap.inside), notes.cloud_detail(data.cloud)
    )
    if data.base is not None and setup.base == "surface":
        outcome.inputs.append(Input("against", data.base_path, data.base.count, data.base.count))
    outcome.figures = figures.worded(measured, setup)
    outcome.tables = figures.tables(measured, data.unit)
    outcome.settings = settings_used(setup, measured.cell, measured.gap_edge, uncertainty.toe_error(setup, heap))
    outcome.warnings += notes.about(measured, setup, data)
    _add_layers(outcome, measured)
    progress.step(1.0, "Done")
    return outcome


def measure(heap: Heap, setup: StockpileSetup, progress: Progress) -> Measured:
    """Volumes both ways, uncertainty and description of a shaped heap. Raises Cancelled."""
    progress.step(0.0, "Adding prisms")
    volume = between(heap.top, heap.base, progress.within(0.0, 0.4))
    cell = setup.cell or CELL_SPACINGS * heap.ground.spacing
    progress.step(0.4, "Second way, by grid")
    grid, _ = shape.heap_grid(heap, cell)
    second = volume_by_grid(grid, heap.ring, heap.base)
    noise = uncertainty.point_noise(heap)
    gap_edge = setup.gap_edge or GAP_SPACINGS * heap.ground.spacing
    gap = shape.gap_triangles(heap.top, gap_edge)
    progress.step(0.6, "Judging the uncertainty")
    wide = _wide_grid(heap, cell)
    parts = uncertainty.parts(heap, setup, wide, noise, _gap_table(heap.top, gap))
    progress.step(0.9, "Describing the heap")
    return Measured(
        heap,
        volume,
        second,
        cell,
        noise,
        gap,
        gap_edge,
        shape.surface_area(heap, noise),
        shape.slopes(heap),
        parts,
    )


def settings_used(
    setup: StockpileSetup, cell: float | None = None, gap_edge: float | None = None, toe: float | None = None
) -> dict:
    """The settings with automatic ones replaced by the values they took."""
    used = setup.to_json()
    used["cell"] = setup.cell if cell is None else cell
    used["gap_edge"] = setup.gap_edge if gap_edge is None else gap_edge
    used["toe_error"] = setup.toe_error if toe is None else toe
    return used


def _wide_grid(heap: Heap, cell: float) -> HeightGrid:
    """Grid of all points in and around the heap, so that the toe line can be moved outwards on it."""
    points = heap.ground.points
    grid = gridded(points, points[:, :2].min(axis=0) - cell, points[:, :2].max(axis=0) + cell, cell)
    return filled(grid, np.ones(grid.shape, bool))


def _gap_table(top: Tin, gap: Mask) -> Floats:
    corners = top.vertices[top.triangles[gap], 2]
    if not len(corners):
        return np.empty((0, 2))
    return np.column_stack([top.plan_areas[gap], np.ptp(corners, axis=1)])


def _add_layers(outcome: Outcome, found: Measured) -> None:
    heap = found.heap
    outcome.lines["toe"] = LineLayer(heap.toe.base_points, closed=True)
    if isinstance(heap.base, Plane):
        rim = np.column_stack([heap.ring, heap.base.at(heap.ring)])
        base = triangulate(np.empty((0, 3)), rim)
    else:
        base = heap.base
    outcome.meshes["base"] = MeshLayer(base.points, base.triangles)
    outcome.meshes["top"] = MeshLayer(heap.top.points, heap.top.triangles)
    gaps = heap.top.only(found.gap)
    outcome.meshes["gaps"] = MeshLayer(gaps.points, gaps.triangles)
    outcome.profiles = profiles.across(heap, lambda xy: base_elevations(heap.base, heap.ring, xy))
