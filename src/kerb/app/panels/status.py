"""The status line: cursor coordinates with unit, points shown of total, a hint or message, background work."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QHBoxLayout, QProgressBar, QToolButton, QWidget

from kerb.app.session import Session
from kerb.app.tasks import Task
from kerb.app.widgets import Label, made
from kerb.core.arrays import Floats
from kerb.core.quantity import MINUS, count, symbol
from kerb.draw.picture import Picture

SAID_MS = 7000


class Status(QWidget):
    """A thin line along the bottom."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("status")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(27)
        self.session = session
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 0, 14, 0)
        row.setSpacing(16)
        self.place, self.points, self.words, self.work = Label(), Label(), Label(), Label()
        self.place.setMinimumWidth(270)
        for label in (self.place, self.points, self.words, self.work):
            label.setProperty("role", "small")
        self.progress = made(QProgressBar(), textVisible=False, maximum=1000)
        self.progress.setFixedWidth(120)
        self.stop = made(QToolButton(), text="Cancel", toolTip="Stop the background work")
        self.stop.clicked.connect(self._stop)
        for label in (self.place, self.points, self.words):
            row.addWidget(label)
        row.addStretch(1)
        hidden: tuple[QWidget, ...] = (self.work, self.progress, self.stop)
        for widget in hidden:
            row.addWidget(widget)
            widget.hide()
        self._hint = ""
        self._task: Task | None = None
        self._timer = made(QTimer(self), singleShot=True, interval=SAID_MS)
        self._timer.timeout.connect(lambda: self.words.setText(self._hint))
        session.said.connect(self.say)
        session.working.connect(lambda _task: self.mirror())

    def show_place(self, place: Floats | None, offset: float | None = None) -> None:
        """Coordinates under the cursor; in a section its offset too."""
        if place is None or self.session.job is None:
            self.place.setText("")
            return
        d = self.session.decimals.length
        unit = symbol(self.session.unit)
        z = f"   Z {place[2]:.{d}f}" if np.isfinite(place[2]) else ""
        aside = f"offset {offset:.{d}f}   ".replace("-", MINUS) if offset is not None else ""
        self.place.setText(f"{aside}E {place[0]:.{d}f}   N {place[1]:.{d}f}{z} {unit}")

    def show_points(self, picture: Picture | None) -> None:
        """How many points the picture shows."""
        if picture is None:
            self.points.setText("")
            return
        total = sum(layer.store.used for layer in picture.scene.clouds)
        self.points.setText(f"{count(min(picture.buffer.drawn, total))} of {count(total)} points drawn")

    def show_hint(self, text: str) -> None:
        """What the chosen tool waits for."""
        self._hint = text
        self.words.setText(text)

    def say(self, text: str) -> None:
        """A message that goes away by itself."""
        self.words.setText(text)
        self._timer.start()

    def mirror(self) -> None:
        """Show background work other than computing, which has its own bar."""
        tasks = [task for task in self.session.tasks if task is not self.session.compute_task]
        task = tasks[0] if tasks else None
        for widget in (self.work, self.progress, self.stop):
            widget.setVisible(task is not None)
        if task is not None and task is not self._task:
            self.work.setText(task.title)
            self.progress.setValue(0)
            task.progressed.connect(self._progress)
        self._task = task

    def _progress(self, fraction: float, sentence: str) -> None:
        self.progress.setValue(int(1000 * fraction))
        if sentence:
            self.work.setText(sentence)

    def _stop(self) -> None:
        if self._task is not None:
            self._task.stop()
