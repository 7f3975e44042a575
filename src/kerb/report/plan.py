"""The plan picture of a chapter: the cloud and what the outcome draws, by the window's own code, with contours and grid."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from kerb.core.arrays import Bytes, Floats
from kerb.core.cloud.store import CloudStore
from kerb.core.quantity import Decimals, round_step
from kerb.draw.camera import Camera, fitted
from kerb.draw.contour_labels import contour_labels
from kerb.draw.picture import Picture, render
from kerb.draw.scene import CloudLayer, MeshLayer, Scene, Style, value_map
from kerb.studies.outcome import Outcome
from kerb.studies.registry import study_kind
from kerb.studies.roles import PAPER
from kerb.studies.scope import without_noise
from kerb.studies.showing import How, bounds_of, put

PIXELS = (960, 720)
LABELS_APART = 150.0
# Shares of the picture's width: of the legend at its left, and that stays free at its right.
LEGEND, BESIDE = 0.17, 0.04
# So far beyond the cloud, as a share of its size, things belong to the picture.
NEAR = 0.05
FROM_ABOVE = (0.0, 90.0)


@dataclass(frozen=True)
class PlanPicture:
    """A rendered plan: image (h, w, 3) red green blue, its camera and scene, and the ramp of its elevations."""

    image: Bytes
    camera: Camera
    contour: float
    low: float
    high: float
    ramp: str
    scene: Scene = field(default_factory=Scene)
    gaps: bool = False
    profiles: tuple[Floats, ...] = ()
    labels: tuple[tuple[float, float, float], ...] = ()

    @property
    def size(self) -> tuple[int, int]:
        """(width, height) in pixels."""
        return self.image.shape[1], self.image.shape[0]

    @property
    def from_above(self) -> bool:
        """Whether it is a plan, and no look at a face."""
        return self.camera.tilt == 90.0

    def to_pixels(self, places: Floats) -> Floats:
        """Pixel positions (n, 2) of job places (n, 3)."""
        return self.camera.project(places, self.size)[:, :2]


def _framed(low: Floats, high: Floats, way: tuple[float, float], size: tuple[int, int]) -> Camera:
    """A camera that sees a box, moved aside for the legend as far as there is room beside it."""
    margin = 0.08 * float(max(high[0] - low[0], high[1] - low[1], 1e-6))
    heading, tilt = way
    camera = fitted(low - margin, high + margin, size, Camera((0.0, 0.0, 0.0), 1.0, heading=heading, tilt=tilt))
    corners = np.array(list(itertools.product(*zip(low, high, strict=True))))
    across = camera.project(corners, size)[:, 0]
    wanted, room = LEGEND * size[0] - across.min(), (1 - BESIDE) * size[0] - across.max()
    return camera.panned(float(np.clip(wanted, 0.0, max(room, 0.0))), 0.0)


def _level(picture: Picture, least: float) -> bool:
    """Whether all but five in a hundred pixels at each end lie within so little: a floor, on which lines would be its noise."""
    depth = picture.buffer.depth[np.isfinite(picture.buffer.depth)]
    return len(depth) > 0 and bool(np.ptp(np.percentile(depth, [5, 95])) < least)


def _within(ends: tuple[Floats, Floats], store: CloudStore | None) -> tuple[Floats, Floats]:
    """What is shown in plan: what was found, as far as it lies on the cloud or near it. A point left out for lying far off
    does not make all others small."""
    if store is None:
        return ends
    low, high = store.bounds
    room = NEAR * (high[:2] - low[:2])
    first, last = ends[0].copy(), ends[1].copy()
    first[:2], last[:2] = np.maximum(first[:2], low[:2] - room), np.minimum(last[:2], high[:2] + room)
    return (first, last) if np.all(last[:2] > first[:2]) else ends


def plan_of(
    store: CloudStore | None, outcome: Outcome, profiles: Sequence[Floats] = (), decimals: Decimals | None = None,
    size: tuple[int, int] = PIXELS, look: Mapping[str, Any] | None = None,
) -> PlanPicture | None:  # fmt: skip
    """Draw what an outcome found in plan, over its cloud with contour lines; None when it draws nothing.

    ``profiles`` are lines (2, 2) that are drawn with it; ``decimals`` say how values in labels are printed; ``look`` how a map
    is coloured.
    """
    ends = bounds_of(outcome)
    if ends is None:
        return None
    low, high = _within(ends, store)
    camera = _framed(low, high, outcome.seen_from or FROM_ABOVE, size)
    # Lines of equal elevation belong to what is seen from above.
    lines = high[2] > low[2] and camera.tilt == 90.0 and study_kind(outcome.study).contoured
    interval = round_step(float(high[2] - low[2]), 12) if lines else 0.0
    if store is not None and not high[2] > low[2]:
        # What is drawn at one level tells nothing of the cloud's.
        low[2], high[2] = (float(end[2]) for end in store.bounds)
    # The ramp starts below the ground, so that the ground is not its darkest colour.
    bottom, top = float(low[2] - 0.35 * (high[2] - low[2])), float(high[2])
    style = Style(low=bottom, high=top, contour=interval)

    def drawn(style: Style) -> Picture:
        clouds = [CloudLayer(store, style, without_noise())] if store is not None else []
        scene = Scene(clouds, background=(255, 255, 255), ink=(20, 22, 24))
        ground = outcome.ground if store is None else None
        if ground is not None and not ground.shown:
            # Without a cloud the surface itself is what lies under what was found.
            faces = ground.vertices, ground.triangles, PAPER["top"]
            scene.meshes.append(MeshLayer(*faces, ramp=style.ramp, limits=(bottom, top), contour=style.contour))
        put(scene, outcome, PAPER, set(), how=How(decimals or Decimals(), look or {}))
        return render(scene, camera, size)

    picture = drawn(style)
    scene, labels = picture.scene, contour_labels(picture, interval, LABELS_APART)
    if interval > 0 and _level(picture, interval / 10):
        interval, labels, picture = 0.0, [], drawn(replace(style, contour=0.0))
    elif interval > 0 and (not labels or value_map(scene)):
        # A map may lie over the lines, and along walls none is drawn: what nobody sees is neither numbered nor told.
        inked = np.any(picture.image != drawn(replace(style, contour=0.0)).image, axis=2)
        labels = [(x, y, z) for x, y, z in labels if inked[int(y) - 3 : int(y) + 4, int(x) - 3 : int(x) + 4].any()]
        interval = interval if inked.any() else 0.0
    image = np.ascontiguousarray(picture.image[:, :, 2::-1])
    hatched = any(mesh.hatch for mesh in scene.meshes)
    return PlanPicture(image, camera, interval, bottom, top, style.ramp, scene, hatched, tuple(profiles), tuple(labels))
