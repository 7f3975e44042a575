"""Make a surface, say how high, how large and how far from all points it lies."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import shapely

from kerb.core.arrays import Floats, Mask
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.thinning import Thinning
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import polygon
from kerb.core.geometry.area import inside_any
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.progress import Progress
from kerb.core.quantity import labelled, quantity, round_number
from kerb.core.surface.cloud_top import STRAY_M, strays, usual_spacing
from kerb.core.surface.columns import several_layers
from kerb.core.surface.cutting import cut_to
from kerb.core.surface.elevation import ElevationGrid, placed
from kerb.core.surface.gridding import TRIANGLES, cell_levels, gaps_filled, grid_on
from kerb.core.surface.making import LEVELS, MOST_VERTICES, Shape, departure, level_table, mean_level, surface_from
from kerb.core.surface.spikes import Spikes, spike_free
from kerb.core.surface.surfaces import MARGIN_SPACINGS
from kerb.core.surface.tin import Tin
from kerb.core.things import SURFACE, Placed
from kerb.core.units import LengthUnit
from kerb.studies.fields import COUNTED
from kerb.studies.inputs import LARGE_SHARE, strays_note
from kerb.studies.layers import FoundMesh, FoundPoints, Plot
from kerb.studies.outcome import Column, Figure, Made, Note, Outcome, Table
from kerb.studies.sources import Sources
from kerb.studies.surface.setup import CONCAVE, GRID, SurfaceSetup

STUDY = "surface"
# Larger ones are drawn by the holding that they become.
MOST_DRAWN = 2_000_000
# Columns that are looked at for layers, the least height between those, and how many are marked.
# How far below the lowest corner of a triangle what it holds off lies at least, in metres.
SPIKE_M = 0.5
LAYER_SPACINGS, LAYER_M, MOST_LOOKED_AT, MOST_MARKED = 4.0, 0.5, 10_000_000, 4000


def run(setup: SurfaceSetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'what does the ground look like as a surface?'.

    Raises InputError, when a setting or line cannot be; NotDeterminable; Cancelled.
    """
    setup.check()
    store, unit = sources.store("cloud"), sources.unit
    among = _among(setup, store, progress.within(0.0, 0.05))
    used = int(np.count_nonzero(among))
    among, gone = _without_strays(setup, store, among)
    before = int(np.count_nonzero(among))
    among = _without_spikes(setup, store, among, unit, progress.within(0.05, 0.1))
    spikes = before - int(np.count_nonzero(among))
    thin, shape = _how(setup, sources)
    lines = sources.lines("breaklines").lines if setup.breaklines else ()
    grid: ElevationGrid | None = None
    filled = 0
    if setup.form == GRID:
        grid, filled = _grid(setup, store, among, (thin, shape), progress.within(0.1, 0.7))
        tin = grid.tin()
    else:
        tin = surface_from(store, among, thin, shape, progress.within(0.1, 0.7))
        tin = cut_to(tin, setup.cloud.within) if setup.cloud.within else tin
    away = departure(store, among, tin, progress.within(0.7, 0.95)) if thin is not None or grid is not None else None
    outcome = Outcome(STUDY, unit.code, store.reference.code, {}, setup.settings())
    outcome.inputs = [sources.input("cloud", "cloud", used, setup.cloud.words(store))]
    if setup.breaklines:
        outcome.inputs.append(sources.input("breaklines", "break lines", len(lines)))
    z = tin.vertices[np.unique(tin.triangles), 2] + tin.origin[2]
    length, area, volume = unit.code, unit.area_code(), unit.volume_code()
    outcome.figures = {
        "vertices": Figure(float(len(tin.vertices)), "", "Vertices"),
        "triangles": Figure(float(len(tin.triangles)), "", "Triangles"),
        "plan_area": Figure(tin.plan_area if grid is None else grid.known * grid.cell**2, area, "Area in plan"),
        "surface_area": Figure(tin.surface_area, area, "Area along the surface"),
        "lowest": Figure(float(z.min()), length, "Lowest"),
        "highest": Figure(float(z.max()), length, "Highest"),
        "mean": Figure(mean_level(tin), length, "Mean level", note="by plan area"),
        "thinned_max": Figure(away.largest if away else None, length, "Farthest point from it"),
        "thinned_rms": Figure(away.rms if away else None, length, "All points from it, rms"),
    }
    outcome.figures |= {
        "cells": Figure(float(grid.known) if grid is not None else None, "", "Cells"),
        "filled_cells": Figure(float(filled) if grid is not None else None, "", "Cells in filled gaps"),
    }
    note = strays_note(sources.source("cloud").name, gone, length)
    if note is not None:
        outcome.warnings.append(note)
        outcome.layers["strays"] = FoundPoints(gone, "gap", "Excluded strays")
    _tell_left_out(setup, outcome, tin)
    if setup.spike_edge is not None:
        share = f"{spikes} of {used} points ({100 * spikes / used:.1f} %)"
        outcome.settings |= {"spike_depth": _depth(setup, unit)}
        outcome.warnings.append(Note("spikes", f"{share} lie under triangles of higher points and were left out"))
    if grid is not None:
        outcome.settings |= {"cell": grid.cell}
    if away is not None and grid is not None:
        lost = f"{quantity(away.largest, length)} of the surface between cells, {quantity(away.rms, length)} in the mean (rms)"
        words = f"{grid.known} cells of {quantity(grid.cell, length)}, {filled} of them in filled gaps; points lie within {lost}"
        outcome.warnings.append(Note("gridded", words))
    elif away is not None:
        stay = " that stay" if spikes else ""
        outcome.warnings.append(
            Note("thinned", f"{len(tin.vertices)} of {used} points are vertices; all points{stay} lie within "
                 f"{quantity(away.largest, length)} of the surface, {quantity(away.rms, length)} in the mean (rms)")
        )  # fmt: skip
    _mark_layers(outcome, setup, store, among, unit)
    levels = np.linspace(float(z.min()), float(z.max()), LEVELS) if np.ptp(z) > 0 else z[:1]
    areas, volumes = level_table(tin, levels)
    outcome.tables["levels"] = Table(
        "Area and volume above levels",
        (
            Column("level", length, "Level"),
            Column("area", area, "Area above"),
            Column("volume", volume, "Volume above"),
        ),
        tuple(zip(levels.tolist(), areas.tolist(), volumes.tolist(), strict=True)),
    )
    outcome.charts = [
        Plot(
            "Volume above a level",
            "curve",
            levels,
            volumes,
            labelled("level", unit.code),
            labelled("volume", unit.volume_code()),
        )
    ]
    outcome.layers |= (
        {}
        if setup.keep and len(tin.triangles) > MOST_DRAWN
        else {"surface": FoundMesh(tin.points, tin.triangles, "top", "Surface", shown=False, ground=True)}
    )
    outcome.method = _method(setup, unit.symbol)
    if setup.keep:
        item = Placed(SURFACE, grid if grid is not None else TriangleMesh(tin.points, tin.triangles), store.reference)
        outcome.makes = [Made(f"Surface of {sources.source('cloud').name}", item)]
    return outcome


def _mark_layers(outcome: Outcome, setup: SurfaceSetup, store: CloudStore, among: Mask, unit: LengthUnit) -> None:
    """Mark where points lie above one another: there the surface jumps between them."""
    rows = np.flatnonzero(among)
    points = store.coordinates(rows[:: max(1, len(rows) // MOST_LOOKED_AT)])
    cell = LAYER_SPACINGS * store.spacing * np.sqrt(max(len(rows) / max(len(points), 1), 1.0))
    if not cell > 0:
        return
    places = several_layers(points, float(cell), LAYER_M / unit.metres)
    if not len(places):
        return
    area = quantity(len(places) * float(cell) ** 2, unit.area_code())
    outcome.warnings.append(
        Note("layers", f"on {area} points lie in several layers above one another (overhangs, roofs, trees): one elevation a "
             "place cannot hold them. Take classes, the lowest or highest of a spacing, or an area without them; for what "
             "changed on a face that leans over there is a study of its own")
    )  # fmt: skip
    z = np.full(len(places), outcome.value("highest") or 0.0)
    outcome.layers["layers"] = FoundPoints(
        np.column_stack([places, z])[:MOST_MARKED], "gap", "Several layers", shown=len(places) <= MOST_MARKED
    )


def _tell_left_out(setup: SurfaceSetup, outcome: Outcome, tin: Tin) -> None:
    """Say beside the figure that a longest edge leaves out most of what the points span."""
    if setup.max_edge is None or setup.boundary or setup.cloud.within or setup.form == GRID:
        return
    hull = shapely.convex_hull(shapely.MultiPoint(tin.vertices[:, :2])).area
    if tin.plan_area < LARGE_SHARE * hull:
        longest = quantity(setup.max_edge, outcome.unit)
        words = f"Edges up to {longest} leave out {100 * (1 - tin.plan_area / hull):.0f} % of what the points span."
        outcome.doubt("left-out", "Most of the surface is left out", words)


def _how(setup: SurfaceSetup, sources: Sources) -> tuple[Thinning | None, Shape]:
    """How points are thinned, and what shapes the surface."""
    thin = Thinning(setup.thin, setup.spacing) if setup.spacing is not None else None
    lines = sources.lines("breaklines").lines if setup.breaklines else ()
    closed = [np.concatenate([line.xyz, line.xyz[:1]]) if line.closed else line.xyz for line in lines]
    ring = setup.boundary.ring("boundary") if setup.boundary else None
    return thin, Shape(closed, ring, setup.max_edge, ring is None and setup.rim == CONCAVE)


def gridded(setup: SurfaceSetup, sources: Sources, progress: Progress) -> ElevationGrid:
    """The grid by itself, to be written. Raises as :func:`run` does."""
    store = sources.store("cloud")
    among, _ = _without_strays(setup, store, _among(setup, store, progress))
    among = _without_spikes(setup, store, among, sources.unit, progress)
    return _grid(setup, store, among, _how(setup, sources), progress)[0]


def _grid(
    setup: SurfaceSetup, store: CloudStore, among: Mask, how: tuple[Thinning | None, Shape], progress: Progress
) -> tuple[ElevationGrid, int]:
    """A grid of the points that count, cut off outside of the boundary, and how many of its cells lie in filled gaps."""
    cell = setup.cell if setup.cell is not None else round_number(2 * store.spacing)
    if setup.level == TRIANGLES:
        grid = grid_on(surface_from(store, among, *how, progress), cell)
    else:
        progress.step(0.2, "Sorting points into cells")
        grid = cell_levels(store.coordinates(np.flatnonzero(among)), cell, setup.level)
    filled = 0
    if setup.fill is not None:
        grid, new = gaps_filled(grid, setup.fill)
        filled = int(np.count_nonzero(new))
    ring = how[1].ring
    if ring is not None:
        grid = _cells_where(grid, lambda xy: polygon.contains(ring, xy))
    if setup.cloud.within:
        grid = _cells_where(grid, lambda xy: inside_any(setup.cloud.within, xy))
    if grid.known < 4:
        raise NotDeterminable("fewer than four cells have points: take a cell that fits the spacing of the points")
    return grid, filled


def _cells_where(grid: ElevationGrid, inside: Callable[[Floats], Mask]) -> ElevationGrid:
    """The cells of a grid whose middle lies inside."""
    rows, columns = np.meshgrid(*(np.arange(size) for size in grid.z.shape), indexing="ij")
    middle = placed(grid.affine, np.column_stack([columns.ravel() + 0.5, rows.ravel() + 0.5]))
    return replace(grid, z=np.where(inside(middle).reshape(grid.z.shape), grid.z, np.nan))


def _without_strays(setup: SurfaceSetup, store: CloudStore, among: Mask) -> tuple[Mask, Floats]:
    """The points of a mask without single strays, and those (k, 3)."""
    rows = np.flatnonzero(among)
    # What lies alone under trees is looked for by what holds it off.
    if setup.strays == COUNTED or setup.spike_edge is not None or len(rows) > MOST_VERTICES:
        return among, np.empty((0, 3))
    points = store.coordinates(rows)
    alone = strays(points, usual_spacing(points), STRAY_M / store.reference.unit.metres)
    stay = among.copy()
    stay[rows[alone]] = False
    return stay, points[alone]


def _among(setup: SurfaceSetup, store: CloudStore, progress: Progress) -> Mask:
    """The points that count; an area cuts the surface, and points a little beyond it carry its border."""
    among = np.zeros(store.count, np.bool_)
    scope, ring = setup.cloud, None
    if scope.within:
        corners = np.concatenate([area.outline for area in scope.within])
        low, high = corners.min(axis=0), corners.max(axis=0)
        room = MARGIN_SPACINGS * store.spacing + 0.05 * float(np.sqrt(np.prod(high - low)))
        scope, ring = replace(scope, within=()), polygon.box(low - room, high + room)
    among[scope.of(store, ring).all_rows(progress)] = True
    if not among.any():
        raise InputError("no points of the cloud count")
    return among


def _depth(setup: SurfaceSetup, unit: LengthUnit) -> float:
    return setup.spike_depth if setup.spike_depth is not None else SPIKE_M / unit.metres


def _without_spikes(setup: SurfaceSetup, store: CloudStore, among: Mask, unit: LengthUnit, progress: Progress) -> Mask:
    """The points of a mask that lie under no held triangle; all, where spikes are kept."""
    if setup.spike_edge is None:
        return among
    rows = np.flatnonzero(among)
    if len(rows) > MOST_VERTICES:
        raise InputError(f"{len(rows)} points are more than {MOST_VERTICES} to look for spikes in: give an area")
    found = spike_free(store.coordinates(rows), Spikes(setup.spike_edge, _depth(setup, unit)), progress)
    stay = np.zeros_like(among)
    stay[rows[found.kept]] = True
    return stay


def _method(setup: SurfaceSetup, unit: str) -> str:
    if setup.form == GRID:
        what = (
            "the surface of triangles in its middle" if setup.level == TRIANGLES else f"the {setup.level} of its points"
        )
        said = f"A grid of square cells at whole multiples of their side; the level of each is {what}."
        if setup.fill is not None:
            said += f" Gaps up to {setup.fill:g} {unit} from a known cell are interpolated between those round them."
        return said
    said = "Delaunay triangulation in plan of "
    if setup.spacing is None:
        said += "all points that count."
    else:
        said += f"one point in each square of {setup.spacing:g} {unit}, the {setup.thin} one."
    if setup.spike_edge is not None:
        said += (
            f" Points under triangles of higher points with edges up to {setup.spike_edge:g} {unit} were left out "
            "(Khosravipour et al. 2016)."
        )
    if setup.breaklines:
        said += " Edges follow the break lines."
    if setup.rim == CONCAVE and not setup.boundary:
        said += " It ends at a concave outline of the points."
    if setup.max_edge is not None:
        said += f" Triangles with an edge longer than {setup.max_edge:g} {unit} are left out."
    return said
