"""Columns for the compared cloud that an outcome offers: heights of its points over a surface, inside a line."""

from __future__ import annotations

import numpy as np
import shapely

from kerb.core.arrays import Floats, Floats32
from kerb.core.cloud.store import CloudStore
from kerb.core.geometry import polygon
from kerb.core.surface.tin import Tin
from kerb.studies.outcome import Attribute, Outcome

# Lines of holes are named so, behind the line they are cut out of.
HOLE = "hole "


def values_of(attribute: Attribute, outcome: Outcome, store: CloudStore) -> Floats32 | None:
    """A value for every point, (n,), NaN outside of the lines; None where the outcome lacks what it takes.

    ``inside`` names a closed line, or the beginning of the names of several.
    """
    if attribute.values is not None:
        return np.asarray(attribute.values) if len(attribute.values) == store.count else None
    mesh = outcome.mesh(attribute.over)
    rings = [line.xyz for name, _ in outcome.layers.items() if name.startswith(attribute.inside)
             if (line := outcome.line(name)) is not None and line.closed]  # fmt: skip
    if mesh is None or not rings or not len(mesh.triangles):
        return None
    surface = Tin.of(mesh.vertices, mesh.triangles)
    values = np.full(store.count, np.nan, np.float32)
    for ring in rings:
        _fill(values, store, ring, surface)
    for name in outcome.layers:
        hole = outcome.line(name) if name.startswith(HOLE) else None
        if hole is not None:
            _fill(values, store, hole.xyz, None)
    return values


def _fill(values: Floats32, store: CloudStore, ring: Floats, surface: Tin | None) -> None:
    """Heights over a surface for the points in a ring; none where there is no surface."""
    low, high = ring[:, :2].min(axis=0), ring[:, :2].max(axis=0)
    tiles = store.tiles
    touching = np.all(tiles["high"][:, :2] >= low, axis=1) & np.all(tiles["low"][:, :2] <= high, axis=1)
    for tile in np.flatnonzero(touching):
        rows = store.rows_of(int(tile))
        points = store.coordinates(rows)
        inside = polygon.contains(ring, points)
        if surface is None:
            values[np.arange(rows.start, rows.stop)[inside]] = np.nan
        elif inside.any():
            base = elevations(surface, ring, points[inside])
            values[np.arange(rows.start, rows.stop)[inside]] = points[inside, 2] - base


def elevations(surface: Tin, ring: Floats, xy: Floats) -> Floats:
    """Elevations of a surface at (n, 2 or more) places; those just outside take it from the nearest place on the ring."""
    z = surface.at(xy)
    lost = ~np.isfinite(z)
    if lost.any():
        line = shapely.LinearRing(ring)
        on_line = shapely.line_interpolate_point(line, shapely.line_locate_point(line, shapely.points(xy[lost])))
        z[lost] = surface.at(shapely.get_coordinates(on_line))
    return z
