"""What lies about a click: the points in a circle, and the target in it."""

from __future__ import annotations

import numpy as np

from kerb.app.views.view import SECTION, View
from kerb.core.arrays import Floats
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.target import Chequer, Target, brightness_of, middle_of
from kerb.core.cloud.view import CloudView, Narrowing
from kerb.core.section.frame import Frame
from kerb.core.section.slab import slab


def target_at(view: View, hit: Floats, radius: float) -> tuple[Floats, Chequer | Target]:
    """The middle (3,) of a painted target round a place, as a view sees it. Raises NotDeterminable."""
    right, down, forward = view.camera.axes
    near, far = view.camera.limits(view.pixels)
    places, levels = [np.empty((0, 3))], [np.empty(0)]
    for layer in view.scene.clouds:
        low, high = hit - radius, hit + radius
        box = (low[0], low[1], low[2]), (high[0], high[1], high[2])
        rows = CloudView(layer.store, Narrowing(box=box)).all_rows()
        level = brightness_of(layer.store, rows)
        if level is not None:
            xyz = layer.store.coordinates(rows)
            depth = (xyz - np.array(view.camera.target)) @ forward
            seen = (depth >= near) & (depth <= far) if view.mode == SECTION else np.ones(len(rows), np.bool_)
            places.append(xyz[seen])
            levels.append(level[seen])
    away = np.concatenate(places) - hit
    found = middle_of(np.column_stack([away @ right, away @ -down]), np.concatenate(levels), radius)
    # As deep as the surface round it lies.
    deep = float(np.median(away @ forward))
    return hit + found.place[0] * right - found.place[1] * down + deep * forward, found


def in_circle(view: View, store: CloudStore, hit: Floats, radius: float) -> Floats:
    """Points (n, 3) of a cloud within a circle round a place: in a section those of the slice, else those above and below."""
    camera = view.camera
    if view.mode == SECTION and camera.thickness is not None:
        frame = Frame(0.0, (hit[0], hit[1]), np.radians(camera.heading), 2 * radius, 2 * camera.thickness)
        ahead = frame.ahead @ (hit[:2] - np.array(camera.target[:2]))
        local = slab(CloudView(store), frame)
        # The slice is where the camera's is, and not where the point that was hit lies in it.
        inside = np.abs(local[:, 1] + ahead) <= camera.thickness / 2
        near = np.hypot(local[:, 0], (local[:, 2] - hit[2]) * camera.exaggeration) <= radius
        local = local[inside & near]
        plan = hit[:2] + local[:, :1] * frame.right + local[:, 1:2] * frame.ahead
        return np.column_stack([plan, local[:, 2]])
    box = ((hit[0] - radius, hit[1] - radius, -1e300), (hit[0] + radius, hit[1] + radius, 1e300))
    points = CloudView(store, Narrowing(box=box)).points()
    return points[np.hypot(*(points[:, :2] - hit[:2]).T) <= radius]
