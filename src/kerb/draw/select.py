"""Which points lie under an outline drawn on the screen, in any view."""

from __future__ import annotations

import numpy as np
import shapely

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.geometry import polygon
from kerb.core.parallel import each
from kerb.core.progress import Progress
from kerb.draw.camera import Camera
from kerb.draw.scene import CloudLayer


def under_outline(
    layer: CloudLayer, camera: Camera, size: tuple[int, int], outline: Floats, progress: Progress
) -> Mask:
    """Points (n,) of a layer that are shown and lie under an outline (k, 2) in pixels, however deep.

    A slice keeps its limits. Tiles wholly inside or outside the outline are not looked at point by point.

    Raises
    ------
    InputError, when the outline crosses itself; Cancelled.
    """
    ring = polygon.checked(outline, "outline")
    area = shapely.Polygon(ring)
    shapely.prepare(area)
    store = layer.store
    shown, values = layer.mask()
    near, far = camera.limits(size)
    found = np.zeros(store.count, np.bool_)

    def of_tile(tile: int) -> None:
        corners = camera.project(_corners(store.tiles["low"][tile], store.tiles["high"][tile]), size)
        rows = store.rows_of(tile)
        inside: Mask | None = None
        if np.isfinite(corners[:, :2]).all():
            box = shapely.box(*corners[:, :2].min(axis=0), *corners[:, :2].max(axis=0))
            if not area.intersects(box):
                return
            whole = area.contains(box) and corners[:, 2].min() >= near and corners[:, 2].max() <= far
            inside = np.ones(rows.stop - rows.start, np.bool_) if whole else None
        if inside is None:
            seen = camera.project(store.coordinates(rows), size)
            inside = polygon.contains(ring, np.nan_to_num(seen[:, :2], nan=-1e9))
            inside &= (seen[:, 2] >= near) & (seen[:, 2] <= far)
        if len(shown) > 1:
            inside &= values[np.minimum(shown[rows], 255)]
        found[rows] = inside

    each(of_tile, range(len(store.tiles)), progress, "Selecting points")
    return found


def drawn_rows(layer: CloudLayer, rows: Ints) -> Mask:
    """Points (n,) of a layer that some pixel of a picture shows; ``rows`` as the picture keeps them."""
    mine = rows[(rows >= layer.first_row) & (rows < layer.first_row + layer.store.count)] - layer.first_row
    found = np.zeros(layer.store.count, np.bool_)
    found[mine] = True
    return found


def _corners(low: Floats, high: Floats) -> Floats:
    return np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
