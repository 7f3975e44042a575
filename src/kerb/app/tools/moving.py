"""Move what the open study moves by eye: drag and turn it in plan or section, with arrow keys by millimetres."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent
from scipy.spatial.transform import Rotation

from kerb.app.session import Session
from kerb.app.stage import Stage
from kerb.app.tools.base import Tool
from kerb.app.widgets import there
from kerb.core.arrays import Floats
from kerb.core.geometry.rigid import Rigid
from kerb.core.quantity import symbol
from kerb.core.units import LENGTH_UNITS
from kerb.studies.kind import MoveStep

# What an arrow key moves by, in metres, and turns by, in degrees; with Shift ten times that.
STEP_M, STEP_DEGREES = 0.001, 0.01
ARROWS = {
    Qt.Key.Key_Left: (-1.0, 0.0), Qt.Key.Key_Right: (1.0, 0.0), Qt.Key.Key_Up: (0.0, -1.0), Qt.Key.Key_Down: (0.0, 1.0),
}  # fmt: skip


class MoveByEye(Tool):
    """What moves follows the mouse, in all views; nothing of it is kept before Enter."""

    hint = (
        "Drag what moves, with Ctrl it turns about the way you look; arrows move it by 1 mm, with Shift by 10, with Ctrl they "
        "turn it by 0.01°. Enter keeps it, Esc leaves it where it was."
    )
    cursor = Qt.CursorShape.SizeAllCursor

    def __init__(
        self, stage: Stage, session: Session, step: MoveStep, start: Rigid, finished: Callable[[], None]
    ) -> None:
        super().__init__(stage.view)
        self.stage, self.session, self.step, self.finished = stage, session, step, finished
        setup = session.setup
        self.holding = getattr(setup, step.moving).holding if setup is not None else ""
        low, high = session.open_job.bounds_of(there(session.open_job.state.holding(self.holding)))
        middle = (low + high) / 2
        self.motion = Rigid.of(start.matrix, middle, start(middle[None])[0] - middle, start.scale)
        self._before: list[Rigid] = []
        self._grip: tuple[QPointF, Rigid] | None = None
        self._show(self.motion)

    def _show(self, motion: Rigid) -> None:
        self.motion = motion
        self.session.held = (self.holding, motion)
        east, north, up = motion.shift
        angle = float(np.degrees(np.arccos(np.clip((np.trace(motion.matrix) - 1) / 2, -1, 1))))
        unit = symbol(self.session.unit)
        self.session.said.emit(
            f"Moved by {east:+.3f} east, {north:+.3f} north, {up:+.3f} up ({unit}) and turned by {angle:.3f}°. Enter keeps it."
        )
        self.stage.toggled.emit()
        if self._grip is not None:
            # While it is dragged the view draws as while the eye moves.
            self.view.redraw(moving=True)

    def _step(self, motion: Rigid) -> None:
        self._before.append(self.motion)
        self._show(motion)

    def _shifted(self, motion: Rigid, dx: float, dy: float) -> Rigid:
        """Moved by lengths to the right and down in the view."""
        right, down, _ = self.view.camera.axes
        way = (right * dx + down * dy) / np.array([1.0, 1.0, self.view.camera.exaggeration])
        return Rigid.of(motion.matrix, np.array(motion.about), np.array(motion.shift) + way, motion.scale)

    def _turned(self, motion: Rigid, degrees: float) -> Rigid:
        """Turned clockwise as seen, about its own middle and the way one looks."""
        turn = _about(self.view.camera.axes[2], np.radians(degrees))
        return Rigid.of(turn @ motion.matrix, np.array(motion.about), np.array(motion.shift), motion.scale)

    # Mouse

    def press(self, event: QMouseEvent) -> bool:
        """Take hold of it, wherever."""
        self._grip = (event.position(), self.motion)
        return True

    def move(self, event: QMouseEvent) -> None:
        """Drag or turn it."""
        if self._grip is None:
            return
        start, motion = self._grip
        at = event.position()
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            middle = self.view.to_widget(np.array(motion.about) + np.array(motion.shift))[0]
            first, now = (np.arctan2(p.y() - middle[1], p.x() - middle[0]) for p in (start, at))
            self._show(self._turned(motion, float(np.degrees(now - first))))
        else:
            length = self.view.ratio * self.view.camera.scale
            self._show(self._shifted(motion, (at.x() - start.x()) * length, (at.y() - start.y()) * length))

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        """Let go of it."""
        if self._grip is not None and self._grip[1] != self.motion:
            self._before.append(self._grip[1])
        self._grip = None

    # Keys

    def key(self, event: QKeyEvent) -> bool:
        """Arrows move and turn, Enter keeps, Esc leaves."""
        key = Qt.Key(event.key())
        if key in ARROWS:
            times = 10.0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
            x, y = ARROWS[key]
            if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
                self._step(self._turned(self.motion, (x or y) * times * STEP_DEGREES))
            else:
                step = times * STEP_M / LENGTH_UNITS[self.session.unit].metres
                self._step(self._shifted(self.motion, x * step, y * step))
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            words = " ".join(f"{value:.12g}" for value in self.motion.table.ravel().tolist())
            self.session.commit(f"moved by eye: {self.step.field}", **{self.step.field: words})
            self.finished()
        elif key == Qt.Key.Key_Escape:
            self.finished()
        else:
            return False
        return True

    def take_back(self) -> bool:
        """Undo the last drag or key."""
        if not self._before:
            return False
        self._show(self._before.pop())
        return True

    def leave(self) -> None:
        """Everything lies where it is kept."""
        self.session.held = None
        self.stage.toggled.emit()


def _about(axis: Floats, angle: float) -> Floats:
    """The rotation (3, 3) about a unit axis that looks clockwise to one who looks along it."""
    return np.asarray(Rotation.from_rotvec(axis * angle).as_matrix())
