"""Lines and marks of a scene as strokes on the picture: what lies behind something is told apart, to be drawn faintly.

The picture itself is made of pixels; strokes stay lines, so that a screen and a page each draw them as sharp as they can.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np

from kerb.core.arrays import Floats, Floats32, Mask
from kerb.draw.camera import Camera
from kerb.draw.scene import LineLayer

STEP_PIXELS = 5.0
MOST_STEPS = 4_000
SLACK_PIXELS = 4.0
STEEP = 80.0


@dataclass(frozen=True)
class Stroke:
    """A piece of a line in pixels, (k, 2), ``hidden`` where something lies before it."""

    points: Floats
    hidden: bool


def strokes(
    layer: LineLayer, camera: Camera, size: tuple[int, int], depth: Floats32 | None, outside: bool = False
) -> list[Stroke]:
    """A line on the picture. ``depth`` (h, w) is what the picture drew; without it, and in plan, nothing is hidden.

    Pieces behind the eye are left out. Of a slice only what lies in it is drawn; with ``outside`` the rest counts as hidden.
    """
    xyz = np.vstack([layer.xyz, layer.xyz[:1]]) if layer.closed else layer.xyz
    if len(xyz) < 2 or not np.isfinite(xyz).all():
        return []
    if camera.thickness is not None:
        return _sliced(camera.project(xyz, size), camera.limits(size), outside)
    test = depth is not None and camera.tilt < STEEP and camera.thickness is None
    seen = camera.project(_denser(xyz, camera, size) if test else xyz, size)
    if not test:
        return [Stroke(piece, False) for piece in _known(seen)]
    assert depth is not None
    hidden = _hidden(seen, camera, depth)
    made: list[Stroke] = []
    for first, last in _runs(np.isfinite(seen[:, :2]).all(axis=1)):
        cuts = [first, *(np.flatnonzero(np.diff(hidden[first:last])) + first + 1).tolist(), last]
        for start, end in pairwise(cuts):
            # Pieces share their ends, so that the line has no gaps.
            made.append(Stroke(seen[start : min(end + 1, last), :2], bool(hidden[start])))
    return [stroke for stroke in made if len(stroke.points) > 1]


def _sliced(seen: Floats, limits: tuple[float, float], outside: bool) -> list[Stroke]:
    """The pieces of a projected line (n, 3) within two depths, cut off exactly at both; the others hidden, if wanted."""
    places = [seen[:1]]
    for a, b in pairwise(seen):
        run = b[2] - a[2]
        shares = [(limit - a[2]) / run for limit in limits] if abs(run) > 1e-12 else []
        inner = sorted(share for share in shares if 0 < share < 1)
        places.append(np.array([a + share * (b - a) for share in (*inner, 1.0)]))
    whole = np.concatenate(places)
    middle = (whole[:-1, 2] + whole[1:, 2]) / 2
    inside = (middle >= limits[0]) & (middle <= limits[1])
    made = []
    for start, end in _runs(inside):
        made.append(Stroke(whole[start : end + 1, :2], False))
    if outside:
        made += [Stroke(whole[start : end + 1, :2], True) for start, end in _runs(~inside)]
    return made


def _denser(xyz: Floats, camera: Camera, size: tuple[int, int]) -> Floats:
    at = camera.project(xyz, size)[:, :2]
    pieces = []
    for number in range(len(xyz) - 1):
        length = np.hypot(*(at[number + 1] - at[number]))
        parts = int(np.clip(np.nan_to_num(length / STEP_PIXELS, nan=20.0), 1, MOST_STEPS))
        share = np.arange(parts)[:, None] / parts
        pieces.append(xyz[number] + share * (xyz[number + 1] - xyz[number]))
    return np.vstack([*pieces, xyz[-1:]])


def _hidden(seen: Floats, camera: Camera, depth: Floats32) -> Mask:
    height, width = depth.shape
    with np.errstate(invalid="ignore"):
        x, y = np.nan_to_num(seen[:, 0], nan=-1.0), np.nan_to_num(seen[:, 1], nan=-1.0)
    inside = (x >= 0) & (x < width) & (y >= 0) & (y < height)
    hidden = np.zeros(len(seen), np.bool_)
    before = depth[y[inside].astype(int), x[inside].astype(int)]
    slack = SLACK_PIXELS * camera.scale / max(np.sin(np.radians(abs(camera.tilt))), 0.2)
    hidden[inside] = before < seen[inside, 2] - slack
    return hidden


def _known(seen: Floats) -> list[Floats]:
    runs = _runs(np.isfinite(seen[:, :2]).all(axis=1))
    return [seen[first:last, :2] for first, last in runs if last - first > 1]


def _runs(good: Any) -> list[tuple[int, int]]:
    edges = np.flatnonzero(np.diff(np.concatenate([[False], np.atleast_1d(good), [False]])))
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))
