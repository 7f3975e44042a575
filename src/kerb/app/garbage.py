"""Full garbage collections, made when nobody waits for the window.

Python looks through everything that lives once its newer objects have outlived some rounds. In a job of ten thousand steps that
holds the window for a quarter of a second, in the middle of a step. Young objects are looked through as ever.
"""

from __future__ import annotations

import gc
from collections.abc import Callable

from PySide6.QtCore import QObject, Qt, QTimer
from PySide6.QtGui import QCursor, QGuiApplication

EVERY_MS = 3000
# So many rounds of the middle generation make a full one worth while, as Python has it by itself.
ROUNDS = 10
NEVER = 1_000_000


class Sweeper(QObject):
    """Looks now and then whether the mouse rests and ``state`` gives what it gave before, and collects then."""

    def __init__(self, state: Callable[[], object]) -> None:
        super().__init__()
        self._state, self._thresholds = state, gc.get_threshold()
        self._before: tuple[object, object] | None = None
        gc.set_threshold(*self._thresholds[:2], NEVER)
        self._timer = QTimer(self, interval=EVERY_MS)
        self._timer.timeout.connect(self.look)
        self._timer.start()

    def look(self) -> None:
        """Collect what is no longer used, when nothing was done since the last look."""
        place, state = QCursor.pos(), self._state()
        same = self._before is not None and self._before[0] == place and self._before[1] is state
        self._before = place, state
        if same and QGuiApplication.mouseButtons() == Qt.MouseButton.NoButton and gc.get_count()[2] >= ROUNDS:
            gc.collect()

    def stop(self) -> None:
        """Leave it to Python again."""
        self._timer.stop()
        gc.set_threshold(*self._thresholds)
