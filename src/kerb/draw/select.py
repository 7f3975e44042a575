"""Which points lie under lines drawn on the screen, in any view."""

from __future__ import annotations

import numpy as np
import shapely

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.parallel import each
from kerb.core.progress import Progress
from kerb.draw.camera import Camera
from kerb.draw.points import Sight, corners_seen
from kerb.draw.scene import CloudLayer
from kerb.draw.select_kernels import under_edges


def under_outline(
    layer: CloudLayer, camera: Camera, size: tuple[int, int], rings: list[Floats], progress: Progress
) -> Mask:
    """Points (n,) of a layer that are shown and lie under rings (k, 2) in pixels, however deep.

    What lies in an even number of rings is outside, also where a ring crosses itself. A slice keeps its limits. Tiles
    wholly inside or outside are not looked at point by point. Raises Cancelled.
    """
    area = shapely.make_valid(shapely.Polygon(rings[0], rings[1:]))
    shapely.prepare(area)
    store = layer.store
    shown, values = layer.mask()
    near, far = camera.limits(size)
    sight = Sight.of(layer, camera, size)
    edges = np.concatenate([np.column_stack([ring, np.roll(ring, -1, axis=0)]) for ring in rings]).astype(float)
    bounds = np.array([*edges[:, :2].min(axis=0), *edges[:, :2].max(axis=0)])
    corners = corners_seen(layer, camera, size)
    flat: Mask = np.asarray(np.isfinite(corners[:, :, :2]).all(axis=(1, 2)))
    seen = np.where(flat[:, None, None], corners[:, :, :2], 0.0)
    low, high = seen.min(axis=1), seen.max(axis=1)
    boxes = shapely.box(low[:, 0], low[:, 1], high[:, 0], high[:, 1])
    touched: Mask = np.asarray(~flat | shapely.intersects(area, boxes))
    deep = (corners[:, :, 2].min(axis=1) >= near) & (corners[:, :, 2].max(axis=1) <= far)
    whole: Mask = np.asarray(flat & deep & shapely.contains_properly(area, boxes), np.bool_)
    found = np.zeros(store.count, np.bool_)

    def of_tile(tile: int) -> None:
        rows = store.rows_of(tile)
        if whole[tile]:
            found[rows] = True
        else:
            some = _near(edges, low[tile], high[tile]) if flat[tile] else edges
            under_edges(
                sight.xyz[rows], sight.centre, sight.matrix, camera.perspective, near, far, some, bounds, found[rows]
            )
        if len(shown) > 1:
            found[rows] &= values[np.minimum(shown[rows], 255)]

    each(of_tile, np.flatnonzero(touched).tolist(), progress, "Selecting points")
    return found


def _near(edges: Floats, low: Floats, high: Floats) -> Floats:
    """Edges that a ray to the right from a place in a box can cross."""
    touch = (edges[:, 1::2].max(axis=1) >= low[1]) & (edges[:, 1::2].min(axis=1) <= high[1])
    touch &= edges[:, ::2].max(axis=1) >= low[0]
    return edges[touch]


def brushed(path: Floats, radius: float) -> list[Floats]:
    """Rings round a path (k, 2) of a brush, in pixels."""
    line = shapely.LineString(path) if len(path) > 1 else shapely.Point(path[0])
    area = line.buffer(radius, quad_segs=6)
    return [shapely.get_coordinates(ring)[:-1] for ring in (area.exterior, *area.interiors)]


def drawn_rows(layer: CloudLayer, rows: Ints) -> Mask:
    """Points (n,) of a layer that some pixel of a picture shows; ``rows`` as the picture keeps them."""
    mine = rows[(rows >= layer.first_row) & (rows < layer.first_row + layer.store.count)] - layer.first_row
    found = np.zeros(layer.store.count, np.bool_)
    found[mine] = True
    return found
