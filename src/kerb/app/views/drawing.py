"""Draws the scene on a thread: a quick picture while the view moves, the complete one when it rests."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace

from PySide6.QtCore import QObject, Signal

from kerb.app.tasks import Latest
from kerb.draw.camera import Camera
from kerb.draw.picture import Picture, render
from kerb.draw.scene import Scene

MOVING_POINTS = 700_000
FRAME_SECONDS = 0.045
REST_SECONDS = 0.12
FACTORS = (1.0, 0.75, 0.5)


class Drawing(QObject):
    """The latest picture of a scene from a camera."""

    drawn = Signal(object)
    rested = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._worker = Latest("drawing", self)
        self._worker.done.connect(self._finished)
        self._factor = 1
        self.resting = True

    def ask(self, scene: Scene, camera: Camera, size: tuple[int, int], moving: bool) -> None:
        """Draw this next; what was asked before and has not begun is dropped."""
        self.resting = False
        self._worker.submit(lambda overtaken: self._draw(scene, camera, size, moving, overtaken))

    def _draw(
        self, scene: Scene, camera: Camera, size: tuple[int, int], moving: bool, overtaken: Callable[[], bool]
    ) -> Picture | None:
        if moving:
            factor = FACTORS[self._factor]
            small = max(int(size[0] * factor), 8), max(int(size[1] * factor), 8)
            start = time.perf_counter()
            picture = render(scene, replace(camera, scale=camera.scale * size[0] / small[0]), small, MOVING_POINTS)
            self._adapt(time.perf_counter() - start)
            self.drawn.emit(picture)
            wait_until = time.perf_counter() + REST_SECONDS
            while time.perf_counter() < wait_until:
                if overtaken():
                    return None
                time.sleep(0.01)
        picture = render(scene, camera, size, None, overtaken)
        return picture if picture.buffer.complete or not overtaken() else None

    def _adapt(self, seconds: float) -> None:
        """Coarser pixels when a frame took too long, finer ones when there is time to spare."""
        if seconds > FRAME_SECONDS and self._factor < len(FACTORS) - 1:
            self._factor += 1
        elif seconds < FRAME_SECONDS * 0.4 and self._factor > 0:
            self._factor -= 1

    def _finished(self, result: object) -> None:
        if isinstance(result, Picture):
            self.resting = True
            self.drawn.emit(result)
            self.rested.emit()

    def idle(self) -> bool:
        """Whether the complete picture is there."""
        return self._worker.idle()

    def close(self) -> None:
        self._worker.close()
