"""Draw the shapes of a study: clicks or keys set their vertices; where the mouse aims in any view."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF

from kerb.app.session import Session
from kerb.app.shapes import FEWEST, Shape, counted, elevated, shapes_of, with_ring
from kerb.app.tools.base import OutlineTool
from kerb.app.views.view import ORBIT, PLAN, View
from kerb.core.arrays import Floats
from kerb.studies.drawn import Drawn
from kerb.studies.fields import LINE, PLACES, RING

SNAP_PIXELS = 14.0
# A pixel that moves a vertex further than this many pixels on the ground is seen too flat to be drawn with.
FLATTEST = 40.0
FAR_OFF = 20.0
KEY_PIXELS = 6.0
ARROWS = {
    Qt.Key.Key_Left: (-1.0, 0.0), Qt.Key.Key_Right: (1.0, 0.0), Qt.Key.Key_Up: (0.0, 1.0), Qt.Key.Key_Down: (0.0, -1.0),
}  # fmt: skip


def aim(view: View, position: QPointF, level: float | None) -> tuple[float, float] | None:
    """The plan place under a widget position: in plan the place itself, elsewhere where the line of sight meets a level.

    None where the line of sight is too flat to tell.
    """
    x, y = position.x() * view.ratio, position.y() * view.ratio
    if view.mode == PLAN or level is None:
        place: Floats | None = view.camera.unproject(x, y, 0.0, view.pixels) if view.mode == PLAN else None
        if place is None:
            place = view.place_under(position)
    else:
        place = view.camera.on_level(x, y, level, view.pixels)
        beside = view.camera.on_level(x, y + 1.0, level, view.pixels)
        flat = beside is None or place is None or np.hypot(*(beside - place)[:2]) > FLATTEST * view.camera.scale
        if flat and view.mode == ORBIT:
            return None
    return None if place is None else (float(place[0]), float(place[1]))


def snapped(session: Session, view: View, position: QPointF, but: str = "") -> tuple[float, float] | None:
    """The vertex of another shape near a widget position; None where there is none."""
    best: tuple[float, tuple[float, float]] | None = None
    for shape in shapes_of(session):
        if shape.key == but or shape.quiet:
            continue
        places = elevated(session.shown().outcome, shape, view.camera.target[2])
        away = np.hypot(*(view.to_widget(places) - (position.x(), position.y())).T)
        nearest = int(np.argmin(away))
        if away[nearest] <= SNAP_PIXELS and (best is None or away[nearest] < best[0]):
            best = float(away[nearest]), shape.drawn.xy[nearest]
    return best[1] if best is not None else None


class DrawShape(OutlineTool):
    """Click, click, and double-click or Enter to end; Backspace takes the last vertex back, Escape gives up.

    With keys: arrows move a cross, Space sets a vertex there. Shift snaps to the vertices of other shapes.
    """

    def __init__(self, view: View, session: Session, field: str, finished: Callable[[], None], way: str = "") -> None:
        super().__init__(view)
        self.session, self.field, self.finished, self.way = session, field, finished, way
        setup = session.setup
        assert setup is not None
        self.about = setup.declared()[field]
        self.kind = self.about.drawn_as(way)
        self.closed = self.kind not in (LINE, PLACES)
        what = next((one.help for one in self.about.ways if one.id == way), self.about.help)
        self.vertices: list[tuple[float, float]] = []
        self.heights: list[float] = []
        one, ends = "vertex", "closes the line" if self.closed else "ends the line"
        if self.kind == PLACES:
            one, ends = "place", "ends"
        if self.about.further:
            self._go_on(getattr(setup, field))
        them = "them" if self.kind == PLACES else "its vertices"
        self.hint = (
            f"{what}: click {them}. Double-click or Enter {ends}, Backspace takes one back, Esc stops. "
            f"Keys: arrows move the cross, Space sets a {one}."
        )

    def _go_on(self, drawn: Drawn) -> None:
        """Begin with what is there."""
        if drawn:
            shape = Shape(self.field, self.about, drawn)
            self.vertices = list(drawn.xy)
            self.heights = elevated(self.session.shown().outcome, shape, self.view.camera.target[2])[:, 2].tolist()

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        """Set a vertex."""
        if clicked and event.button() == Qt.MouseButton.LeftButton:
            self._set(event.position(), bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))

    def _set(self, position: QPointF, snap: bool = False) -> None:
        place = self.view.place_under(position)
        if place is None:
            self.session.said.emit("Nothing lies there; look more from above or point at the data.")
            return
        vertex = (float(place[0]), float(place[1]))
        if snap:
            vertex = snapped(self.session, self.view, position) or vertex
        if self.vertices and vertex == self.vertices[-1]:
            return
        if self._far_off(vertex):
            self.session.said.emit("That vertex lies far from the others, on something else? Backspace takes it back.")
        self.vertices.append(vertex)
        self.heights.append(float(place[2]) if np.isfinite(place[2]) else self.view.camera.target[2])
        self.view.update()
        if self.kind == LINE and self.about.cuts and len(self.vertices) == FEWEST[LINE]:
            self.close()

    def _far_off(self, vertex: tuple[float, float]) -> bool:
        if len(self.vertices) < 3 or self.view.mode == PLAN:
            return False
        steps = np.hypot(*np.diff(np.array(self.vertices), axis=0).T)
        return bool(np.hypot(*np.subtract(vertex, self.vertices[-1])) > FAR_OFF * np.median(steps))

    def take_back(self) -> bool:
        """Forget the last vertex."""
        if not self.vertices:
            return False
        self.vertices.pop()
        self.heights.pop()
        self.view.update()
        return True

    def stop(self) -> None:
        """Give up."""
        self.finished()

    def key(self, event: QKeyEvent) -> bool:
        """Arrows move the cross, Space sets a vertex; the rest as for any outline."""
        key = Qt.Key(event.key())
        if key in ARROWS:
            at = self.mouse or QPointF(self.view.width() / 2, self.view.height() / 2)
            step = KEY_PIXELS * (10.0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0)
            dx, dy = ARROWS[key]
            self.mouse = at + QPointF(dx * step, -dy * step)
            self.view.cursor_moved.emit(self.view.place_under(self.mouse))
            self.view.update()
            return True
        if key == Qt.Key.Key_Space:
            self._set(self.mouse or QPointF(self.view.width() / 2, self.view.height() / 2))
            return True
        return super().key(event)

    def close(self) -> None:
        """End the shape and hand it to the study."""
        setup = self.session.setup
        if setup is None:
            return
        shape = Shape(self.field, self.about, Drawn.of(self.vertices), way=self.way)
        if not shape.fits(shape.drawn):
            least = FEWEST.get(self.kind, 1)
            words = (
                f"needs at least {least} vertices"
                if len(self.vertices) < least
                else "crosses itself or encloses nothing"
            )
            self.session.said.emit(f"{self.about.label}: {words}.")
            return
        drawn = shape.drawn
        if self.about.kind == RING:
            drawn = Drawn.of(drawn.ring(self.about.label.lower()))
        if self.about.further:
            before: Drawn = getattr(setup, self.field)
            typed = dict(zip(before.xy, before.z, strict=False))
            drawn = replace(drawn, z=tuple(typed.get(one) for one in drawn.xy) if typed else ())
        values, name = with_ring(setup, self.field, drawn, self.way)
        self.session.before_step = None
        self.session.commit(f"drew the {name} ({counted(len(drawn.xy), self.kind)})", **values)
        self.finished()

    def paint(self, painter: QPainter) -> None:
        """The line so far, to the mouse."""
        colour = QColor(self.view.theme.edge)
        places = np.column_stack([np.array(self.vertices).reshape(-1, 2), self.heights])
        points = [QPointF(*p) for p in self.view.to_widget(places)] if self.vertices else []
        painter.setPen(QPen(colour, 1.6))
        if len(points) > 1 and self.kind != PLACES:
            painter.drawPolyline(QPolygonF(points))
        if self.mouse is not None:
            painter.drawLine(self.mouse + QPointF(-7, 0), self.mouse + QPointF(7, 0))
            painter.drawLine(self.mouse + QPointF(0, -7), self.mouse + QPointF(0, 7))
        if points and self.mouse is not None and self.kind != PLACES:
            painter.setPen(QPen(colour, 1.2, Qt.PenStyle.DashLine))
            painter.drawLine(points[-1], self.mouse)
            if len(points) > 1 and self.closed:
                painter.drawLine(self.mouse, points[0])
        for point in points:
            paint_handle(painter, point, colour, False)


def paint_handle(painter: QPainter, at: QPointF, colour: QColor, chosen: bool, typed: bool = False) -> None:
    """A vertex: square, filled when chosen, with a bar beneath when its elevation is typed."""
    size = 4.5 if chosen else 3.6
    painter.setPen(QPen(colour, 1.5))
    painter.setBrush(QBrush(colour if chosen else QColor("#ffffff")))
    painter.drawRect(QRectF(at.x() - size, at.y() - size, 2 * size, 2 * size))
    if typed:
        painter.drawLine(at + QPointF(-6, 8), at + QPointF(6, 8))
