"""A triangulated surface cut to areas in plan, exact: triangles on the border are parted, and keep their planes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import shapely

from kerb.core.arrays import Floats
from kerb.core.errors import NotDeterminable
from kerb.core.geometry.area import Area, inside_any
from kerb.core.parallel import each, ranges
from kerb.core.surface.tin import ON_LINE, Tin
from kerb.core.surface.tin_kernels import touched

# Pieces of a triangle below this share of it are rounding.
LEAST = 1e-9


def cut_to(tin: Tin, areas: Sequence[Area], welded: bool = True) -> Tin:
    """The part of a surface inside areas, which may lie over one another. Where lines are to be followed from triangle to
    triangle it has to be ``welded``: pieces then share vertices with their neighbours. Raises NotDeterminable, when nothing is
    left."""
    middle = tin.vertices[tin.triangles, :2].mean(axis=1) + tin.origin[:2]
    inside = inside_any(tuple(areas), middle)
    border = np.zeros(len(tin.triangles), np.bool_)
    for area in areas:
        for ring in (area.outline, *area.holes):
            border |= _touched(tin, np.ascontiguousarray(ring - tin.origin[:2]))
    rows = np.flatnonzero(border)
    shape = shapely.union_all(
        [shapely.transform(shapely.make_valid(a.shape), lambda xy: xy - tin.origin[:2]) for a in areas]
    )
    shapely.prepare(shape)
    corners = tin.vertices[tin.triangles[rows]]
    outlines: Any = shapely.polygons(corners[:, :, :2])
    pieces = shapely.intersection(outlines, shape)
    whole = inside & ~border
    made = [tin.vertices[tin.triangles[whole]] if welded else np.empty((0, 3, 3))]
    made += [
        parted(piece, plane_of(corner), LEAST * float(outline.area))
        for piece, corner, outline in zip(pieces, corners, outlines, strict=True)
    ]
    found = soup(np.concatenate(made), tin.origin)
    if not welded:
        triangles = np.concatenate([tin.triangles[whole], found.triangles + np.int32(len(tin.vertices))])
        found = Tin(np.concatenate([tin.vertices, found.vertices]), triangles, tin.origin)
    if not len(found.triangles):
        raise NotDeterminable("the surface does not reach into the areas")
    return found


def _touched(tin: Tin, ring: Floats) -> np.ndarray:
    out = np.empty(len(tin.triangles), np.bool_)
    room = ON_LINE * float(np.abs(ring).max())

    def some(span: tuple[int, int]) -> None:
        touched(tin.vertices, tin.triangles[slice(*span)], ring, True, room, out[slice(*span)])

    each(some, ranges(len(out), 200_000))
    return out


def plane_of(corners: Floats) -> Floats:
    """Elevation at the origin and slopes east and north (3,) of a triangle (3, 3) that does not stand upright."""
    a, u, v = corners[0], corners[1] - corners[0], corners[2] - corners[0]
    det = u[0] * v[1] - u[1] * v[0]
    if det == 0.0:
        return np.array([a[2], 0.0, 0.0])
    east, north = (u[2] * v[1] - v[2] * u[1]) / det, (u[0] * v[2] - v[0] * u[2]) / det
    return np.array([a[2] - east * a[0] - north * a[1], east, north])


def parted(shape: Any, plane: Floats, least: float) -> Floats:
    """Triangles (m, 3, 3) of a plan geometry lifted to a plane; pieces of an area up to ``least`` are left out."""
    found = [np.empty((0, 3, 3))]
    for piece in shapely.get_parts(shape):
        if piece.geom_type != "Polygon" or piece.area <= least:
            continue
        parts = shapely.get_parts(shapely.constrained_delaunay_triangles(piece))
        corners = np.array([shapely.get_coordinates(part)[:3] for part in parts]).reshape(-1, 3, 2)
        z = plane[0] + corners @ plane[1:]
        found.append(np.concatenate([corners, z[:, :, None]], axis=2))
    return np.concatenate(found)


def soup(corners: Floats, origin: Floats) -> Tin:
    """A surface of single triangles (m, 3, 3), turned counter-clockwise, with corners on one place as one vertex."""
    flat = corners.reshape(-1, 3)
    vertices, number = np.unique(flat, axis=0, return_inverse=True)
    triangles = number.reshape(-1, 3).astype(np.int32)
    made = Tin(np.ascontiguousarray(vertices), triangles, origin)
    areas = made.plan_areas
    triangles[areas < 0] = triangles[areas < 0][:, [0, 2, 1]]
    return Tin(made.vertices, triangles[areas != 0], origin)
