"""The plan picture of a heap for the report: the cloud drawn by the window's own code, with toe, contours and grid."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Bytes, Floats
from kerb.core.cloud.classes import NOISE_CLASSES
from kerb.core.cloud.store import CloudStore
from kerb.draw.camera import Camera, fitted
from kerb.draw.picture import render
from kerb.draw.scene import CloudLayer, MeshLayer, Scene, Style
from kerb.studies.outcome import Outcome

PIXELS = (960, 720)
STEPS = (1.0, 2.0, 2.5, 5.0, 10.0)
GAP_COLOUR = (60, 60, 60)


@dataclass(frozen=True)
class PlanPicture:
    """A rendered plan: image (h, w, 3) red green blue, its camera, and what was drawn on it."""

    image: Bytes
    camera: Camera
    contour: float
    low: float
    high: float
    ramp: str

    @property
    def size(self) -> tuple[int, int]:
        """(width, height) in pixels."""
        return self.image.shape[1], self.image.shape[0]

    def to_pixels(self, places: Floats) -> Floats:
        """Pixel positions (n, 2) of job places (n, 3)."""
        return self.camera.project(places, self.size)[:, :2]


def round_step(span: float, parts: int) -> float:
    """A round interval that cuts ``span`` into about ``parts``."""
    raw = span / max(parts, 1)
    if raw <= 0:
        return 1.0
    power = 10.0 ** np.floor(np.log10(raw))
    return float(next(step * power for step in STEPS if step * power >= raw * 0.999))


def heap_plan(store: CloudStore, outcome: Outcome, size: tuple[int, int] = PIXELS) -> PlanPicture | None:
    """Draw the heap of an outcome in plan with contour lines; None when it has no toe line."""
    line = outcome.lines.get("toe")
    if line is None:
        return None
    low, high = line.points.min(axis=0), line.points.max(axis=0)
    top = outcome.meshes.get("top")
    if top is not None:
        low, high = np.minimum(low, top.vertices.min(axis=0)), np.maximum(high, top.vertices.max(axis=0))
    margin = 0.08 * float(max(high[0] - low[0], high[1] - low[1]))
    camera = fitted(low - margin, high + margin, size, Camera((0.0, 0.0, 0.0), 1.0))
    interval = round_step(float(high[2] - low[2]), 12)
    # The ramp starts below the ground, so that the ground is not its darkest colour.
    style = Style(low=float(low[2] - 0.35 * (high[2] - low[2])), high=float(high[2]), contour=interval)
    good = np.ones(256, bool)
    good[list(NOISE_CLASSES)] = False
    scene = Scene([CloudLayer(store, style, good)], background=(255, 255, 255), ink=(20, 22, 24))
    gaps = outcome.meshes.get("gaps")
    if gaps is not None and len(gaps.triangles):
        scene.meshes.append(MeshLayer(gaps.vertices, gaps.triangles, GAP_COLOUR, 0.8, 0.8, hatch=True))
    picture = render(scene, camera, size)
    image = np.ascontiguousarray(picture.image[:, :, 2::-1])
    return PlanPicture(image, camera, interval, float(low[2]), float(high[2]), style.ramp)
