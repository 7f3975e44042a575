"""Make a surface, say how high, how large and how far from all points it lies."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Mask
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.thinning import Thinning
from kerb.core.errors import InputError
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.progress import Progress
from kerb.core.quantity import quantity
from kerb.core.surface.making import LEVELS, Shape, departure, level_table, mean_level, surface_from
from kerb.core.things import SURFACE, Placed
from kerb.studies.layers import FoundMesh, Plot
from kerb.studies.outcome import Column, Figure, Made, Note, Outcome, Table
from kerb.studies.sources import Sources
from kerb.studies.surface.setup import SurfaceSetup

STUDY = "surface"
# Larger ones are drawn by the holding that they become.
MOST_DRAWN = 2_000_000


def run(setup: SurfaceSetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'what does the ground look like as a surface?'.

    Raises InputError, when a setting or line cannot be; NotDeterminable; Cancelled.
    """
    setup.check()
    store, unit = sources.store("cloud"), sources.unit
    among = _among(setup, store, progress.within(0.0, 0.1))
    thin = Thinning(setup.thin, setup.spacing) if setup.spacing is not None else None
    lines = sources.lines("breaklines").lines if setup.breaklines else ()
    ring = setup.boundary.ring("boundary") if setup.boundary else None
    closed = [np.concatenate([line.xyz, line.xyz[:1]]) if line.closed else line.xyz for line in lines]
    tin = surface_from(store, among, thin, Shape(closed, ring, setup.max_edge), progress.within(0.1, 0.7))
    away = departure(store, among, tin, progress.within(0.7, 0.95)) if thin is not None else None
    outcome = Outcome(STUDY, unit.code, store.reference.code, {}, setup.settings())
    used = int(np.count_nonzero(among))
    outcome.inputs = [sources.input("cloud", "cloud", used, setup.cloud.words(store))]
    if setup.breaklines:
        outcome.inputs.append(sources.input("breaklines", "break lines", len(lines)))
    z = tin.vertices[np.unique(tin.triangles), 2] + tin.origin[2]
    length, area, volume = unit.code, unit.area_code(), unit.volume_code()
    outcome.figures = {
        "vertices": Figure(float(len(tin.vertices)), "", "Vertices"),
        "triangles": Figure(float(len(tin.triangles)), "", "Triangles"),
        "plan_area": Figure(tin.plan_area, area, "Area in plan"),
        "surface_area": Figure(tin.surface_area, area, "Area along the surface"),
        "lowest": Figure(float(z.min()), length, "Lowest"),
        "highest": Figure(float(z.max()), length, "Highest"),
        "mean": Figure(mean_level(tin), length, "Mean level", note="by plan area"),
        "thinned_max": Figure(away.largest if away else None, length, "Farthest point from it"),
        "thinned_rms": Figure(away.rms if away else None, length, "All points from it, rms"),
    }
    if away is not None:
        outcome.warnings.append(
            Note("thinned", f"{len(tin.vertices)} of {used} points are vertices; all points lie within "
                 f"{quantity(away.largest, length)} of the surface, {quantity(away.rms, length)} in the mean (rms)")
        )  # fmt: skip
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
        Plot("Volume above a level", "curve", levels, volumes, f"level ({unit.symbol})", f"volume ({volume})")
    ]
    outcome.layers = (
        {}
        if setup.keep and len(tin.triangles) > MOST_DRAWN
        else {"surface": FoundMesh(tin.points, tin.triangles, "top", "Surface", shown=False)}
    )
    outcome.method = _method(setup, unit.symbol)
    if setup.keep:
        item = Placed(SURFACE, TriangleMesh(tin.points, tin.triangles), store.reference)
        outcome.makes = [Made(f"Surface of {sources.source('cloud').name}", item)]
    return outcome


def _among(setup: SurfaceSetup, store: CloudStore, progress: Progress) -> Mask:
    among = np.zeros(store.count, np.bool_)
    among[setup.cloud.of(store).all_rows(progress)] = True
    if not among.any():
        raise InputError("no points of the cloud count")
    return among


def _method(setup: SurfaceSetup, unit: str) -> str:
    said = "Delaunay triangulation in plan of "
    if setup.spacing is None:
        said += "all points that count."
    else:
        said += f"one point in each square of {setup.spacing:g} {unit}, the {setup.thin} one."
    if setup.breaklines:
        said += " Edges follow the break lines."
    if setup.max_edge is not None:
        said += f" Triangles with an edge longer than {setup.max_edge:g} {unit} are left out."
    return said
