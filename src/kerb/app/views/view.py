"""The drawing area: shows the scene in plan, orbit or section, moves the eye, and hands the mouse to a tool."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPen, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from kerb.app.theme import Theme
from kerb.app.views.drawing import Drawing
from kerb.app.views.tooling import Mouse
from kerb.app.widgets import there
from kerb.core.arrays import Floats, Floats32
from kerb.draw.camera import Camera, fitted
from kerb.draw.picture import Picture
from kerb.draw.scene import CloudLayer, Scene

PLAN, ORBIT, SECTION = "plan", "orbit", "section"
DRAG_PIXELS = 4
KEY_STEP = 60
KEY_TURN = 5.0
WHEEL_ZOOM = 1.0015

# What every cloud can be coloured by, and the columns of what is called otherwise.
ALWAYS = ("elevation", "plain")
COLUMNS = {"colour": "red", "class": "classification", "source": "point_source_id"}

Overlay = Callable[["View", QPainter], None]


def first_cameras() -> dict[str, Camera]:
    """The eyes of a view that has looked at nothing yet."""
    start = Camera((0.0, 0.0, 0.0), 1.0)
    return {
        PLAN: start,
        ORBIT: replace(start, heading=335.0, tilt=32.0, perspective=True),
        SECTION: replace(start, tilt=0.0, thickness=1.0),
    }


class View(QWidget):
    """The view. All its pixel coordinates are device pixels; ``ratio`` turns them into widget ones."""

    cursor_moved = Signal(object)
    camera_changed = Signal()
    mode_changed = Signal(str)
    picture_changed = Signal()
    # Of what is looked at, not of the eye: panes beside this one follow.
    redrawn = Signal()
    resized = Signal()

    def __init__(self, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.theme = theme
        self.mode = PLAN
        # Whether nothing was looked at in it yet.
        self.fresh = True
        self.cameras = first_cameras()
        # What is shown everywhere, and as this view shows it: with colours of its own where it has some.
        self.base = self.scene = Scene()
        self.own: dict[str, Any] = {}
        self.picture: Picture | None = None
        self.tool: Mouse | None = None
        self._held: Mouse | None = None
        self.overlays: list[Overlay] = []
        # Painted over what the tool shows.
        self.above: list[Overlay] = []
        self.drawing = Drawing(self)
        self.drawing.drawn.connect(self._drawn)
        self._press: QPointF | None = None
        self._last = QPointF()
        self._pivot: Floats | None = None
        self._navigating = False
        self._holding = False
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(200, 140)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName("Drawing area")

    def forget_places(self) -> None:
        """Look at nothing yet, as in a new window: the places of one job are none of another."""
        self.cameras, self.fresh = first_cameras(), True
        self._ask(moving=False)

    @property
    def camera(self) -> Camera:
        """The eye of the present mode."""
        return self.cameras[self.mode]

    @property
    def ratio(self) -> float:
        """Device pixels a widget pixel."""
        return self.devicePixelRatioF()

    @property
    def pixels(self) -> tuple[int, int]:
        """Size in device pixels."""
        return max(int(self.width() * self.ratio), 8), max(int(self.height() * self.ratio), 8)

    # Showing

    def set_scene(self, scene: Scene) -> None:
        """Show another scene."""
        scene.background = self.theme.canvas_rgb
        scene.ink = (30, 34, 36)
        self.base, self.scene = scene, recoloured(scene, self.own)
        self.redraw(moving=False)

    def colour_alone(self, own: dict[str, Any]) -> None:
        """Colour the clouds in this view by style values of its own, as everywhere where there are none."""
        self.own = own
        self.scene = recoloured(self.base, own)
        self._ask(moving=False)
        self.update()

    def set_camera(self, camera: Camera, moving: bool = True) -> None:
        """Move the eye."""
        if self.mode == PLAN:
            camera = replace(camera, heading=0.0, tilt=90.0, perspective=False, thickness=None)
        self.cameras[self.mode] = camera
        self._ask(moving)
        self.camera_changed.emit()

    def set_mode(self, mode: str) -> None:
        """Look in plan, orbit or section. The place looked at stays."""
        if mode == self.mode:
            return
        old = self.camera
        self.mode = mode
        self.cameras[mode] = replace(self.cameras[mode], target=old.target, scale=old.scale)
        self._ask(moving=False)
        self.mode_changed.emit(mode)
        self.camera_changed.emit()

    def go_to(self, place: Floats, across: float) -> None:
        """Look at a job place (3,) from where one looks now, so near that no more than ``across`` is in sight."""
        target = np.where(np.isfinite(place), place, self.camera.target)
        scale = min(self.camera.scale, across / self.pixels[0])
        self.set_camera(replace(self.camera, target=tuple(target.tolist()), scale=scale), moving=False)

    def look(self, mode: str, camera: Camera) -> None:
        """Look from somewhere in a mode; unlike :meth:`set_mode` nothing of the place before stays."""
        other = mode != self.mode
        self.mode, self.cameras[mode] = mode, camera
        self._ask(moving=False)
        if other:
            self.mode_changed.emit(mode)
        self.camera_changed.emit()

    def exchange(self, other: View) -> None:
        """Exchange with another view what is looked at, from where, and the picture of it."""
        self.mode, other.mode = other.mode, self.mode
        self.cameras, other.cameras = other.cameras, self.cameras
        self.picture, other.picture = other.picture, self.picture
        self.own, other.own = other.own, self.own
        for view in (self, other):
            view.scene = recoloured(view.base, view.own)
            view._ask(moving=False)
        self.mode_changed.emit(self.mode)
        self.camera_changed.emit()

    def redraw(self, moving: bool = False) -> None:
        """Ask for a picture of the scene, which is another one now."""
        self._ask(moving)
        self.redrawn.emit()

    def _ask(self, moving: bool) -> None:
        if self.width() > 0 and not self.scene.empty:
            self.drawing.ask(self.scene, self.camera, self.pixels, moving)
        else:
            self.picture = None
        self.update()

    def fit(self, low: Floats, high: Floats) -> None:
        """Show a box of job coordinates."""
        self.set_camera(fitted(low, high, self.pixels, self.camera), moving=False)

    def to_widget(self, places: Floats) -> Floats:
        """Widget positions (n, 2) of job places (n, 3)."""
        return self.camera.project(np.atleast_2d(places), self.pixels)[:, :2] / self.ratio

    def point_at(self, position: QPointF) -> tuple[CloudLayer, int] | None:
        """The cloud and row of the point drawn at or near a widget position; None where there is none."""
        picture = self.picture
        if picture is None or picture.camera.target != self.camera.target:
            return None
        share = self.ratio * picture.size[0] / self.pixels[0]
        return picture.row_at(position.x() * share, position.y() * share, round(5 * share))

    def place_under(self, position: QPointF) -> Floats | None:
        """Job coordinates under a widget position: of the point drawn there; in plan of the place even without one, in a
        section of that in its plane."""
        x, y = position.x() * self.ratio, position.y() * self.ratio
        found = None
        if self.picture is not None:
            share = self.picture.size[0] / self.pixels[0]
            if self.picture.camera.target == self.camera.target:
                found = self.picture.place_at(x * share, y * share, reach=round(4 * self.ratio))
        if self.mode == PLAN:
            place = self.camera.unproject(x, y, 0.0, self.pixels)
            place[2] = found[2] if found is not None else np.nan
            return place
        if found is not None:
            return found
        if self.mode == SECTION:
            return self.camera.unproject(x, y, 0.0, self.pixels)
        return self.camera.on_level(x, y, self.camera.target[2], self.pixels)

    def depth_now(self) -> Floats32 | None:
        """Depth under each device pixel, where the picture that is shown was drawn from where the eye is now."""
        picture = self.picture
        if picture is None or picture.camera != self.camera or picture.size != self.pixels:
            return None
        return picture.buffer.depth

    def _drawn(self, picture: Picture) -> None:
        self.picture = picture
        self.picture_changed.emit()
        self.update()

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(self.theme.canvas))
        if self.picture is not None and not self.scene.empty:
            self._paint_picture(painter)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.TextAntialiasing)
        for overlay in self.overlays:
            painter.save()
            overlay(self, painter)
            painter.restore()
        if self.tool is not None:
            self.tool.paint(painter)
        for overlay in self.above:
            painter.save()
            overlay(self, painter)
            painter.restore()
        if self.hasFocus():
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(self.theme.accent), 1))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        painter.end()

    def _paint_picture(self, painter: QPainter) -> None:
        """The last picture, moved and scaled to where the eye is now until the next one is there."""
        picture = there(self.picture)
        image = QImage(
            picture.image.data,
            picture.size[0],
            picture.size[1],
            picture.size[0] * 4,
            QImage.Format.Format_RGB32,
        )
        then, now = picture.camera, self.camera
        full = QRectF(0, 0, self.width(), self.height())
        if then.tilt == now.tilt and then.heading == now.heading and then.perspective == now.perspective:
            shown = then.scale * picture.size[0] / self.pixels[0] / now.scale
            at = self.to_widget(np.array(then.target))[0]
            if np.isfinite(at).all() and np.abs(at).max() < 1e6:
                size = full.size() * shown
                full = QRectF(at[0] - size.width() / 2, at[1] - size.height() / 2, size.width(), size.height())
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(full, image)

    def hold(self) -> None:
        """The next change of size is made by something that docks: what is seen stays where it is on the screen."""
        self._holding = True
        QTimer.singleShot(300, self._let_go)

    def _let_go(self) -> None:
        self._holding = False

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Draw at the new size."""
        before, now = event.oldSize(), event.size()
        if self._holding and before.isValid():
            dx, dy = (before.width() - now.width()) / 2, (before.height() - now.height()) / 2
            for mode, camera in self.cameras.items():
                self.cameras[mode] = camera.panned(dx * self.ratio, dy * self.ratio)
        self._ask(moving=False)
        self.resized.emit()

    # Moving the eye

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._press = self._last = event.position()
        self._navigating = False
        self._held = None
        if event.button() == Qt.MouseButton.LeftButton:
            self._held = self.tool if self.tool is not None and self.tool.press(event) else None
        if self._held is not None:
            self._press = None
            return
        self._pivot = self.place_under(event.position()) if self.mode == ORBIT else None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        position = event.position()
        self.cursor_moved.emit(self.place_under(position))
        if self._held is not None:
            self._held.move(event)
            return
        if self._press is None or event.buttons() == Qt.MouseButton.NoButton:
            if self.tool is not None:
                self.tool.move(event)
            return
        if not self._navigating and (position - self._press).manhattanLength() < DRAG_PIXELS:
            return
        self._navigating = True
        step = (position - self._last) * self.ratio
        self._last = position
        turning = event.buttons() & Qt.MouseButton.LeftButton and not (
            event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        )
        if self.mode == ORBIT and turning:
            pivot = self._pivot if self._pivot is not None else np.array(self.camera.target)
            turn, lift = -step.x() * 0.25 / self.ratio, step.y() * 0.25 / self.ratio
            self.set_camera(self.camera.orbited(turn, lift, pivot))
        else:
            self.set_camera(self.camera.panned(step.x(), step.y()))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if event.buttons() == Qt.MouseButton.NoButton and QWidget.mouseGrabber() is self:
            self.releaseMouse()
        clicked = self._press is not None and not self._navigating
        if self._held is not None:
            self._held.release(event, clicked)
            self._held = None
        elif self.tool is not None and not self._navigating:
            self.tool.release(event, clicked)
        if self._navigating:
            self._ask(moving=False)
        self._press = None
        self._navigating = False

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.tool is not None and event.button() == Qt.MouseButton.LeftButton:
            self.tool.double_click(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        factor = float(np.clip(WHEEL_ZOOM ** event.angleDelta().y(), 0.2, 5.0))
        position = event.position() * self.ratio
        self.set_camera(self.camera.zoomed(factor, position.x(), position.y(), self.pixels))

    def event(self, event: QEvent) -> bool:
        """Letters of the tool in hand come before those of the menus, and Tab goes through its vertices first."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress and self.tool is not None:
            tab = Qt.Key(event.key()) in (Qt.Key.Key_Tab, Qt.Key.Key_Backtab)
            if tab and self.tool.key(event):
                return True
        override = event.type() == QEvent.Type.ShortcutOverride
        if override and isinstance(event, QKeyEvent) and self.tool is not None and not event.modifiers():
            wanted = Qt.Key(event.key()) in self.tool.letters
            event.setAccepted(wanted)
            if wanted:
                return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self.tool is not None and self.tool.key(event):
            return
        steps = {
            Qt.Key.Key_Left: (KEY_STEP, 0), Qt.Key.Key_Right: (-KEY_STEP, 0),
            Qt.Key.Key_Up: (0, KEY_STEP), Qt.Key.Key_Down: (0, -KEY_STEP),
        }  # fmt: skip
        key = Qt.Key(event.key())
        turning = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if key in steps and turning and self.mode == ORBIT:
            dx, dy = steps[key]
            turn, lift = KEY_TURN * np.sign(dx), KEY_TURN * np.sign(dy)
            self.set_camera(self.camera.orbited(float(-turn), float(lift), np.array(self.camera.target)))
        elif key in steps:
            dx, dy = steps[key]
            self.set_camera(self.camera.panned(dx * self.ratio, dy * self.ratio))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            factor = 1 / 1.25 if key == Qt.Key.Key_Minus else 1.25
            self.set_camera(self.camera.zoomed(factor, self.pixels[0] / 2, self.pixels[1] / 2, self.pixels))
        else:
            super().keyPressEvent(event)

    def close_drawing(self) -> None:
        """End the drawing thread."""
        self.drawing.close()


def recoloured(scene: Scene, own: dict[str, Any]) -> Scene:
    """A scene whose clouds are coloured otherwise, those that have what it is coloured by."""
    if not own:
        return scene
    by = own.get("by", "")
    clouds = [
        replace(layer, style=replace(layer.style, **own))
        if by in ALWAYS or layer.store.has(COLUMNS.get(by, by))
        else layer
        for layer in scene.clouds
    ]
    return replace(scene, clouds=clouds)
