"""Draw a toe line round a heap, and drag, insert and delete its vertices while the volume follows."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QInputDialog, QMenu

from kerb.app.session import Session
from kerb.app.tools.base import OutlineTool, Tool
from kerb.app.views.view import PLAN, View
from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.geometry import polygon
from kerb.core.quantity import symbol

REACH = 9.0
Ring = list[tuple[float, float]]


def elevations(session: Session, view: View, ring: Ring) -> Floats:
    """Elevations to draw a ring at: of the live or kept toe line where it fits, else of the view's target."""
    xy = np.array(ring, float).reshape(-1, 2)
    answer = session.live.answer
    if answer is not None and len(answer.toe.vertices):
        nearest = [int(np.argmin(np.hypot(*(answer.toe.xy - place).T))) for place in xy]
        z = answer.toe.base[nearest]
    else:
        z = np.full(len(xy), view.camera.target[2])
    return np.column_stack([xy, z])


class DrawToe(OutlineTool):
    """Click, click, and double-click or Enter to close; Backspace takes the last vertex back, Escape gives up."""

    hint = "Click round the heap. Double-click or Enter closes the line, Backspace takes a vertex back, Esc stops."

    def __init__(self, view: View, session: Session, finished: Callable[[], None]) -> None:
        super().__init__(view)
        self.session = session
        self.finished = finished
        self.ring: Ring = []
        self.heights: list[float] = []

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        if not clicked or event.button() != Qt.MouseButton.LeftButton:
            return
        place = self.view.place_under(event.position())
        if place is None:
            return
        vertex = (float(place[0]), float(place[1]))
        if not self.ring or vertex != self.ring[-1]:
            self.ring.append(vertex)
            self.heights.append(float(place[2]) if np.isfinite(place[2]) else self.view.camera.target[2])
        self.view.update()

    def take_back(self) -> None:
        if self.ring:
            self.ring.pop()
            self.heights.pop()

    def stop(self) -> None:
        self.finished()

    def close(self) -> None:
        """Close the line and hand it to the study."""
        try:
            ring = polygon.checked(np.array(self.ring).reshape(-1, 2), "toe line")
        except InputError as error:
            self.session.said.emit(str(error))
            return
        toe = tuple(map(tuple, ring.tolist()))
        self.session.commit(f"drew the toe line ({len(toe)} vertices)", toe=toe, toe_z=())
        self.finished()

    def paint(self, painter: QPainter) -> None:
        colour = QColor(self.view.theme.toe)
        places = np.column_stack([np.array(self.ring).reshape(-1, 2), self.heights])
        points = [QPointF(*p) for p in self.view.to_widget(places)] if self.ring else []
        painter.setPen(QPen(colour, 1.6))
        if len(points) > 1:
            painter.drawPolyline(QPolygonF(points))
        if points and self.mouse is not None:
            painter.setPen(QPen(colour, 1.2, Qt.PenStyle.DashLine))
            painter.drawLine(points[-1], self.mouse)
            if len(points) > 1:
                painter.drawLine(self.mouse, points[0])
        for point in points:
            paint_handle(painter, point, colour, False)


class EditToe(Tool):
    """Drag vertices; click on the line to insert one; Delete takes the chosen one out; right click types a level."""

    hint = "Drag a vertex, click on the line to insert one, Delete takes it out; drag elsewhere to move the view."

    def __init__(self, view: View, session: Session) -> None:
        super().__init__(view)
        self.session = session
        self.chosen: int | None = None
        self.dragging = False
        self.inserted = False
        self.before: Floats | None = None

    @property
    def ring(self) -> Ring:
        """The toe line as it is now, draft included."""
        setup = self.session.setup
        return list(setup.toe) if setup is not None else []

    def press(self, event: QMouseEvent) -> bool:
        points = self._points()
        if len(points) < 3:
            return False
        vertex = self._vertex_at(points, event.position())
        self.inserted = False
        if vertex is None:
            vertex = self._insert_at(points, event.position())
        self.chosen = vertex
        self.dragging = vertex is not None
        self.view.update()
        return self.dragging

    def move(self, event: QMouseEvent) -> None:
        if not self.dragging:
            near = self._vertex_at(self._points(), event.position()) is not None
            self.view.setCursor(Qt.CursorShape.SizeAllCursor if near else Qt.CursorShape.ArrowCursor)
            return
        place = self._drag_place(event.position())
        if place is None:
            return
        ring = self.ring
        ring[self.chosen] = place
        try:
            polygon.checked(np.array(ring), "toe line")
        except InputError:
            return  # a line that crosses itself has no volume: the vertex stays where it last made sense
        self.session.draft_setup(toe=tuple(ring))
        self.view.update()

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        if event.button() == Qt.MouseButton.RightButton:
            self._menu(event)
        elif self.dragging:
            self.dragging = False
            if self.session.draft is not None:
                verb = "inserted" if self.inserted else "moved"
                self.session.commit(f"{verb} toe vertex {self.chosen + 1}")
        elif clicked:
            self.chosen = None
            self.view.update()

    def key(self, event: QKeyEvent) -> bool:
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.chosen is not None:
            self.delete(self.chosen)
            return True
        if event.key() == Qt.Key.Key_Escape and (self.dragging or self.chosen is not None):
            self.dragging, self.chosen = False, None
            self.session.drop_draft()
            return True
        return False

    def delete(self, vertex: int) -> None:
        """Take a vertex out of the line, unless it would no longer enclose anything."""
        ring = self.ring
        del ring[vertex]
        try:
            polygon.checked(np.array(ring), "toe line")
        except InputError as error:
            self.session.said.emit(str(error))
            return
        levels = list(self.session.setup.toe_z)
        if levels:
            del levels[vertex]
        self.chosen = None
        self.session.commit(f"deleted toe vertex {vertex + 1}", toe=tuple(ring), toe_z=tuple(levels))

    def paint(self, painter: QPainter) -> None:
        points = self._points()
        if len(points) < 2:
            return
        colour = QColor(self.view.theme.toe)
        if self.before is not None:
            pale = QPen(colour, 1.0, Qt.PenStyle.DotLine)
            painter.setPen(pale)
            places = elevations(self.session, self.view, list(map(tuple, self.before.tolist())))
            painter.drawPolygon(QPolygonF([QPointF(*p) for p in self.view.to_widget(places)]))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(self.view.theme.sheet), 3.6))
        painter.drawPolygon(QPolygonF(points))
        painter.setPen(QPen(colour, 1.8))
        painter.drawPolygon(QPolygonF(points))
        typed = self.session.setup.toe_z if self.session.setup else ()
        for number, point in enumerate(points):
            is_typed = number < len(typed) and typed[number] is not None
            paint_handle(painter, point, colour, number == self.chosen, is_typed)

    def _points(self) -> list[QPointF]:
        ring = self.ring
        if not ring:
            return []
        places = elevations(self.session, self.view, ring)
        return [QPointF(*p) for p in self.view.to_widget(places)]

    def _vertex_at(self, points: list[QPointF], position: QPointF) -> int | None:
        if not points:
            return None
        away = [QPointF.dotProduct(p - position, p - position) for p in points]
        nearest = int(np.argmin(away))
        return nearest if away[nearest] <= REACH**2 else None

    def _insert_at(self, points: list[QPointF], position: QPointF) -> int | None:
        for number, start in enumerate(points):
            end = points[(number + 1) % len(points)]
            along = end - start
            length = QPointF.dotProduct(along, along)
            share = QPointF.dotProduct(position - start, along) / length if length else 0.0
            foot = start + along * share
            apart = position - foot
            if 0 < share < 1 and QPointF.dotProduct(apart, apart) <= (REACH * 0.7) ** 2:
                place = self._drag_place(position)
                if place is None:
                    return None
                ring = self.ring
                ring.insert(number + 1, place)
                levels = list(self.session.setup.toe_z)
                if levels:
                    levels.insert(number + 1, None)
                self.session.draft_setup(toe=tuple(ring), toe_z=tuple(levels))
                self.inserted = True
                return number + 1
        return None

    def _drag_place(self, position: QPointF) -> tuple[float, float] | None:
        """Where a vertex goes: in plan the place itself, elsewhere where the line of sight meets its own level."""
        view = self.view
        if view.mode == PLAN:
            place = view.camera.unproject(position.x() * view.ratio, position.y() * view.ratio, 0.0, view.pixels)
        else:
            level = elevations(self.session, view, [self.ring[self.chosen or 0]])[0, 2]
            place = view.camera.on_level(position.x() * view.ratio, position.y() * view.ratio, level, view.pixels)
        return None if place is None else (float(place[0]), float(place[1]))

    def _menu(self, event: QMouseEvent) -> None:
        vertex = self._vertex_at(self._points(), event.position())
        if vertex is None:
            return
        menu = QMenu(self.view)
        menu.addAction("Type elevation…", lambda: self._type_level(vertex))
        levels = self.session.setup.toe_z
        if vertex < len(levels) and levels[vertex] is not None:
            menu.addAction("Read elevation from ground", lambda: self._set_level(vertex, None))
        menu.addAction("Delete vertex", lambda: self.delete(vertex))
        menu.popup(event.globalPosition().toPoint())

    def _type_level(self, vertex: int) -> None:
        now = float(elevations(self.session, self.view, [self.ring[vertex]])[0, 2])
        unit = symbol(self.session.unit)
        value, accepted = QInputDialog.getDouble(
            self.view, "Toe elevation", f"Base elevation at vertex {vertex + 1} ({unit})", now, -1e6, 1e6, 3
        )
        if accepted:
            self._set_level(vertex, value)

    def _set_level(self, vertex: int, value: float | None) -> None:
        levels = list(self.session.setup.toe_z) or [None] * len(self.ring)
        levels[vertex] = value
        what = "reads its elevation from the ground" if value is None else f"typed at {value:.3f}"
        self.session.commit(f"toe vertex {vertex + 1} {what}", toe_z=tuple(levels))


def paint_handle(painter: QPainter, at: QPointF, colour: QColor, chosen: bool, typed: bool = False) -> None:
    """A vertex: square, filled when chosen, with a bar beneath when its elevation is typed."""
    size = 4.5 if chosen else 3.6
    painter.setPen(QPen(colour, 1.5))
    painter.setBrush(QBrush(colour if chosen else QColor("#ffffff")))
    painter.drawRect(QRectF(at.x() - size, at.y() - size, 2 * size, 2 * size))
    if typed:
        painter.drawLine(at + QPointF(-6, 8), at + QPointF(6, 8))
