"""The kinds of things a job holds besides clouds, with the one place that knows where each of them lies."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.geometry.features import LineSet, SurveyPoints, bounds_of
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.geometry.rigid import Rigid
from kerb.core.placing import Placing
from kerb.core.reference import ReferenceSystem
from kerb.core.surface.elevation import Affine, ElevationGrid, placed

CLOUD, POINTS, LINES, SURFACE, MODEL, PICTURE = "cloud", "points", "lines", "surface", "model", "picture"
KINDS = {
    CLOUD: "Point cloud", POINTS: "Survey points", LINES: "Lines and areas", SURFACE: "Surface", MODEL: "Model",
    PICTURE: "Picture",
}  # fmt: skip
SAMPLE = 60_000


@dataclass(frozen=True)
class PictureRef:
    """A picture in a file of its own: its size in pixels and where it lies. ``tiles`` names a tile service instead."""

    width: int
    height: int
    affine: Affine
    file: str = "picture.tif"
    tiles: str = ""

    @property
    def corners(self) -> Floats:
        """Its four corners in plan, (4, 2)."""
        return placed(
            self.affine, np.array([[0, 0], [self.width, 0], [self.width, self.height], [0, self.height]], float)
        )


Thing = SurveyPoints | LineSet | TriangleMesh | ElevationGrid | PictureRef


@dataclass(frozen=True)
class Placed:
    """A thing with the reference system of its numbers."""

    kind: str
    thing: Thing
    reference: ReferenceSystem

    @property
    def bounds(self) -> tuple[Floats, Floats]:
        """Lowest and highest corner, (3,) each; NaN elevations where it has none."""
        return bounds_of_thing(self.thing)

    @property
    def middle(self) -> tuple[float, float]:
        """The place in the middle of its plan bounds."""
        low, high = self.bounds
        return float((low[0] + high[0]) / 2), float((low[1] + high[1]) / 2)

    @property
    def count(self) -> int:
        """How many points, lines, triangles, cells or pixels it has."""
        return count_of(self.thing)


def sample_of(thing: Thing) -> Floats:
    """Some places of a thing, (n, 3), for the place check and thumbnails."""
    if isinstance(thing, PictureRef):
        side = np.linspace(0, 1, 40)
        grid = np.stack(np.meshgrid(side * thing.width, side * thing.height), -1).reshape(-1, 2)
        return np.column_stack([placed(thing.affine, grid), np.full(len(grid), np.nan)])
    if isinstance(thing, ElevationGrid):
        step = max(1, int(np.sqrt(thing.z.size / SAMPLE)))
        rows, columns = np.mgrid[0 : thing.z.shape[0] : step, 0 : thing.z.shape[1] : step]
        xy = placed(thing.affine, np.column_stack([columns.ravel() + 0.5, rows.ravel() + 0.5]))
        z = np.asarray(thing.z[::step, ::step], float).ravel()
        return np.asarray(np.column_stack([xy, z])[np.isfinite(z)])
    if isinstance(thing, TriangleMesh):
        # Not by vertices or triangles: a design of few large ones has next to none where most of it lies.
        return thing.spread(SAMPLE)
    places = thing.vertices if isinstance(thing, LineSet) else thing.xyz
    return np.asarray(places[:: max(1, len(places) // SAMPLE)])


def bounds_of_thing(thing: Thing) -> tuple[Floats, Floats]:
    """Lowest and highest corner, (3,) each."""
    if isinstance(thing, ElevationGrid):
        return thing.bounds
    if isinstance(thing, PictureRef):
        corners = thing.corners
        none = np.array([np.nan])
        return np.concatenate([corners.min(axis=0), none]), np.concatenate([corners.max(axis=0), none])
    if isinstance(thing, TriangleMesh):
        return bounds_of(thing.vertices)
    return bounds_of(thing.vertices if isinstance(thing, LineSet) else thing.xyz)


def count_of(thing: Thing) -> int:
    """How many points, lines, triangles, known cells or pixels a thing has."""
    if isinstance(thing, TriangleMesh):
        return len(thing.triangles)
    if isinstance(thing, ElevationGrid):
        return thing.known
    if isinstance(thing, PictureRef):
        return thing.width * thing.height
    return thing.count


def words_for(kind: str, thing: Thing) -> str:
    """What a count of a thing counts, in the plural."""
    if isinstance(thing, ElevationGrid):
        return "cells"
    return {POINTS: "points", LINES: "lines", SURFACE: "triangles", MODEL: "triangles", PICTURE: "pixels"}[kind]


def relocated(item: Placed, placing: Placing) -> Placed:
    """A thing where a placing puts it. Grids that are transformed become triangles; pictures are warped elsewhere.

    Raises InputError, when there is no way from system to system.
    """
    thing, plan_height = item.thing, placing.factors
    if isinstance(thing, PictureRef):
        return Placed(item.kind, _picture(thing, placing), placing.result)
    if isinstance(thing, ElevationGrid):
        if placing.exact and not placing.swap:
            return Placed(item.kind, thing.scaled(*plan_height), placing.result)
        tin = thing.tin()
        thing = TriangleMesh(tin.points, tin.triangles)
    if isinstance(thing, LineSet) and placing.exact and not placing.swap:
        return Placed(item.kind, thing.scaled(*plan_height), placing.result)
    if isinstance(thing, LineSet):
        return Placed(item.kind, thing.mapped(placing.mapper(), placing.station_factor), placing.result)
    moved: Any = thing.mapped(placing.mapper())
    return Placed(item.kind, moved, placing.result)


def moved(item: Placed, placement: Rigid) -> Placed:
    """A thing moved by a rigid transform; grids become triangles, and of a picture only shift and turn in plan count."""
    thing: Any = item.thing
    if isinstance(thing, PictureRef):
        corners = np.array([[thing.affine[2], thing.affine[5], 0.0]])
        origin = placement(corners)[0]
        linear = placement.linear[:2, :2] @ np.array([thing.affine[:2], thing.affine[3:5]])
        affine = (*linear[0].tolist(), float(origin[0]), *linear[1].tolist(), float(origin[1]))
        return replace(item, thing=replace(thing, affine=affine))
    if isinstance(thing, ElevationGrid):
        tin = thing.tin()
        thing = TriangleMesh(tin.points, tin.triangles)
    return replace(item, thing=thing.mapped(placement))


def _picture(thing: PictureRef, placing: Placing) -> PictureRef:
    plan, _ = placing.factors
    affine: Affine = tuple(value * plan for value in thing.affine)  # type: ignore[assignment]
    return replace(thing, affine=affine)
