"""Drag, insert, delete and type the vertices of a study's shapes while the figure follows; with keys as well."""

from __future__ import annotations

import itertools
from functools import partial

import numpy as np
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QInputDialog, QMenu

from kerb.app.session import Session
from kerb.app.shapes import FEWEST, Shape, elevated, gaps_of, shapes_of
from kerb.app.theme import font
from kerb.app.tools.bands import Bands
from kerb.app.tools.base import Tool
from kerb.app.tools.drawing import FAR_OFF, aim, paint_handle, snapped
from kerb.app.views.scene_strokes import paint_line
from kerb.app.views.view import ORBIT, View
from kerb.core.arrays import Floats
from kerb.core.quantity import symbol
from kerb.draw.scene import LineLayer
from kerb.draw.strokes import strokes
from kerb.studies.drawn import Drawn
from kerb.studies.fields import RING
from kerb.studies.profiles import eastward, ends_of
from kerb.studies.showing import GAPS

REACH = 9.0
KEY_PIXELS = 6.0
KEY_REST_MS = 700
ARROWS = {
    Qt.Key.Key_Left: (-1.0, 0.0), Qt.Key.Key_Right: (1.0, 0.0), Qt.Key.Key_Up: (0.0, 1.0), Qt.Key.Key_Down: (0.0, -1.0),
}  # fmt: skip
LIFTS = {Qt.Key.Key_PageUp: 1.0, Qt.Key.Key_PageDown: -1.0}
# A unit of height must be seen as so much of a unit of length to be dragged.
FLATTEST = 0.2
MOST_WITH_HANDLES = 1


class EditShapes(Tool):
    """Drag vertices; click on a line to insert one; Delete takes the chosen one out; right click types numbers.

    With Ctrl a drag seen from the side changes the elevation of a vertex alone. With keys: Tab goes from vertex to vertex, arrows
    move the chosen one, Page Up and Down raise and lower it, Insert adds one behind it, Delete takes it out.
    """

    hint = (
        "Drag a vertex, with Ctrl from the side up or down; click on the line to insert one, Delete takes it out; drag "
        "elsewhere to move the view."
    )

    def __init__(self, view: View, session: Session, bands: Bands) -> None:
        super().__init__(view)
        self.session, self.bands = session, bands
        self.chosen: tuple[str, int] | None = None
        self.dragging = False
        self.verb = ""
        self._grip: tuple[Floats, tuple[float, float]] | None = None
        self._rest = QTimer(view)
        self._rest.setSingleShot(True)
        self._rest.setInterval(KEY_REST_MS)
        self._rest.timeout.connect(self._keep)

    # What there is

    def shapes(self) -> list[Shape]:
        """All shapes of the open study."""
        return shapes_of(self.session)

    def shape(self) -> Shape | None:
        """The shape of the chosen vertex."""
        return next((s for s in self.shapes() if self.chosen is not None and s.key == self.chosen[0]), None)

    def choose(self, shape: Shape | None, vertex: int = 0) -> None:
        """Choose a vertex, or none."""
        self._keep()
        self.chosen = (shape.key, vertex) if shape is not None else None
        self.view.update()

    def _places(self, shape: Shape) -> Floats:
        """Its vertices (n, 3) in the job, those without a level on what the study found there."""
        return elevated(self.session.shown().outcome, shape, self.view.camera.target[2])

    def _points(self, shape: Shape) -> list[QPointF]:
        return [QPointF(*p) for p in self.view.to_widget(self._places(shape))]

    def _handles(self, shape: Shape) -> list[tuple[int, QPointF]]:
        """Vertices that can be taken, by number: in a slice those that lie in it."""
        places = self._places(shape)
        depth = self.view.camera.project(places, self.view.pixels)[:, 2]
        near, far = self.view.camera.limits(self.view.pixels)
        points = self._points(shape)
        return [(number, points[number]) for number in np.flatnonzero((depth >= near) & (depth <= far)).tolist()]

    def _visible(self, shape: Shape) -> bool:
        return not shape.quiet or self.view.mode != "section"

    # Mouse

    def press(self, event: QMouseEvent) -> bool:
        """Take a vertex, or put one into a line."""
        self._keep()
        self._grip = None
        at = event.position()
        if self.bands.press(event):
            return True
        for shape in self._by_choice():
            vertex = _vertex_at(self._handles(shape), at)
            if vertex is not None:
                self._begin(shape, vertex, "moved")
                return True
        for shape in self._by_choice():
            if shape.quiet and self._take_whole(shape, at):
                return True
            if not shape.quiet and self._insert_at(shape, at):
                return True
        self.chosen = None
        self.view.update()
        return False

    def _by_choice(self) -> list[Shape]:
        """Shapes in sight, that of the chosen vertex first."""
        mine = self.chosen[0] if self.chosen is not None else ""
        return sorted((s for s in self.shapes() if self._visible(s)), key=lambda s: s.key != mine)

    def _begin(self, shape: Shape, vertex: int, verb: str) -> None:
        self.chosen, self.dragging, self.verb = (shape.key, vertex), True, verb
        self.view.update()

    def _take_whole(self, shape: Shape, at: QPointF) -> bool:
        """Take a quiet line by its middle."""
        points = self._points(shape)
        middle = QPointF((points[0].x() + points[-1].x()) / 2, (points[0].y() + points[-1].y()) / 2)
        place = aim(self.view, at, None)
        if (middle - at).manhattanLength() > REACH * 1.4 or place is None:
            return False
        self._begin(shape, 0, "moved")
        self._grip = shape.drawn.places, place
        return True

    def move(self, event: QMouseEvent) -> None:
        """Drag, or show what could be taken."""
        if self.bands.move(event):
            return
        if not self.dragging:
            near = any(_vertex_at(self._handles(s), event.position()) is not None for s in self._by_choice())
            self.view.setCursor(Qt.CursorShape.SizeAllCursor if near else Qt.CursorShape.ArrowCursor)
            return
        shape = self.shape()
        if shape is None or self.chosen is None:
            return
        if self._grip is not None:
            self._drag_whole(shape, event.position())
            return
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._lift(shape, self.chosen[1], event.position())
            return
        level = float(self._places(shape)[self.chosen[1], 2])
        place = aim(self.view, event.position(), level)
        if place is None:
            self.session.said.emit("Seen too flat from here to move a vertex; look more from above.")
            return
        if self.view.mode == ORBIT and self._thrown(shape, place):
            self.session.said.emit(
                "That would throw the vertex far off; it stays. Look more from above to move it so far."
            )
            return
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            place = snapped(self.session, self.view, event.position(), shape.key) or place
        self._try(shape, shape.drawn.moved(self.chosen[1], place))

    def _lift(self, shape: Shape, vertex: int, at: QPointF) -> None:
        """Put a vertex at the elevation that lies beside a place of the view, where heights are to be seen."""
        place = self._places(shape)[vertex]
        foot, top = self.view.to_widget(np.array([place, place + [0.0, 0.0, 1.0]]))
        up = np.subtract(top, foot)
        if float(np.hypot(*up)) * self.view.camera.scale * self.view.ratio < FLATTEST:
            self.session.said.emit("Seen from too far above to raise a vertex; look from the side, or in section.")
            return
        share = float(np.dot(np.subtract((at.x(), at.y()), foot), up) / np.dot(up, up))
        self._raise(shape, vertex, float(place[2]) + share)

    def _raise(self, shape: Shape, vertex: int, level: float) -> bool:
        self.verb = "raised or lowered"
        done = self._try(shape, shape.drawn.with_level(vertex, level))
        if done:
            unit = symbol(self.session.unit)
            self.session.said.emit(f"{shape.label}, vertex {vertex + 1}: elevation {level:.3f} {unit}")
        return done

    def _thrown(self, shape: Shape, place: tuple[float, float]) -> bool:
        """Whether a place lies further from the other vertices than the shape is wide."""
        others = np.delete(shape.drawn.places, self.chosen[1] if self.chosen is not None else 0, axis=0)
        wide = float(np.hypot(*np.ptp(others, axis=0)))
        return float(np.hypot(*(others - place).T).min()) > max(wide, FAR_OFF * self.view.camera.scale)

    def _drag_whole(self, shape: Shape, at: QPointF) -> None:
        place = aim(self.view, at, None)
        if place is not None and self._grip is not None:
            start, first = self._grip
            self._try(shape, Drawn.of(start + (np.array(place) - first)))

    def _try(self, shape: Shape, drawn: Drawn) -> bool:
        """Let the study follow; a shape that would cross itself stays where it last made sense."""
        setup = self.session.setup
        if setup is None or not shape.fits(drawn):
            return False
        self.session.before_step = None
        self.session.draft_setup(**shape.values(setup, drawn))
        self.view.update()
        return True

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        """Keep what was dragged as one step."""
        if self.bands.release():
            return
        if event.button() == Qt.MouseButton.RightButton:
            self._menu_at(event.position(), event.globalPosition().toPoint())
        elif self.dragging:
            self.dragging = False
            self._grip = None
            self._keep()
        elif clicked:
            self.choose(None)

    def _keep(self) -> None:
        self._rest.stop()
        shape = self.shape()
        if self.session.draft is None or shape is None or self.chosen is None:
            return
        what = f"the {shape.label}" if shape.quiet else f"{shape.label} vertex {self.chosen[1] + 1}"
        self.session.commit(f"{self.verb or 'moved'} {what}")

    def _insert_at(self, shape: Shape, position: QPointF) -> bool:
        number = _stretch_at(self._points(shape), position, shape.closed) if shape.joined else None
        if self.session.setup is None or number is None:
            return False
        level = float(self._places(shape)[number, 2])
        place = aim(self.view, position, level)
        if place is None:
            return False
        if self._try(shape, shape.drawn.with_vertex(number + 1, place)):
            self._begin(shape, number + 1, "inserted")
        return True

    # Keys

    def key(self, event: QKeyEvent) -> bool:
        """Choose, move, add and delete vertices without the mouse."""
        key = Qt.Key(event.key())
        if key in (Qt.Key.Key_Tab, Qt.Key.Key_Backtab):
            return self._next(1 if key == Qt.Key.Key_Tab else -1)
        shape = self.shape()
        if shape is None or self.chosen is None:
            return False
        vertex = self.chosen[1]
        if key in ARROWS:
            wide = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self._nudge(shape, vertex, ARROWS[key], 10.0 if wide else 1.0)
        elif key in LIFTS:
            wide = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            level = float(self._places(shape)[vertex, 2])
            step = self._key_length() / self.view.camera.exaggeration * (10.0 if wide else 1.0)
            if self._raise(shape, vertex, level + LIFTS[key] * step):
                self._rest.start()
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.delete(shape, vertex)
        elif key == Qt.Key.Key_Insert:
            self._insert_behind(shape, vertex)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._keep()
        elif key == Qt.Key.Key_Menu:
            at = self._points(shape)[vertex]
            self._menu(shape, vertex, self.view.mapToGlobal(at.toPoint()))
        elif key == Qt.Key.Key_Escape:
            self._rest.stop()
            self.dragging, self.chosen = False, None
            self.session.drop_draft()
        else:
            return False
        return True

    def _next(self, step: int) -> bool:
        places = [(s.key, n) for s in self.shapes() if self._visible(s) for n in range(len(s.drawn.xy))]
        if not places:
            return False
        self._keep()
        if self.chosen in places:
            at = places.index(self.chosen) + step
            if not 0 <= at < len(places):
                self.chosen = None
                self.view.update()
                return False  # the keys go on to the next control
            self.chosen = places[at]
        else:
            self.chosen = places[0 if step > 0 else -1]
        shape = self.shape()
        if shape is not None:
            x, y = shape.drawn.xy[self.chosen[1]]
            length = self._key_length()
            self.session.said.emit(
                f"{shape.label}, vertex {self.chosen[1] + 1}: E {x:.3f} N {y:.3f}. Arrows move it by {length:.3g} "
                f"{symbol(self.session.unit)}, Shift by ten times that, Page Up and Down raise and lower "
                "it; Insert adds one, Delete takes it out."
            )
        self.view.update()
        return True

    def _key_length(self) -> float:
        return KEY_PIXELS * self.view.ratio * self.view.camera.scale

    def _nudge(self, shape: Shape, vertex: int, way: tuple[float, float], times: float) -> None:
        length = self._key_length() * times
        turn = np.radians(self.view.camera.heading)
        east = way[0] * np.cos(turn) + way[1] * np.sin(turn)
        north = -way[0] * np.sin(turn) + way[1] * np.cos(turn)
        x, y = shape.drawn.xy[vertex]
        self.verb = "moved"
        if self._try(shape, shape.drawn.moved(vertex, (float(x + east * length), float(y + north * length)))):
            self._rest.start()

    def _insert_behind(self, shape: Shape, vertex: int) -> None:
        here, following = shape.drawn.places[vertex], shape.drawn.places[(vertex + 1) % len(shape.drawn.xy)]
        middle = (here + following) / 2
        if self._try(shape, shape.drawn.with_vertex(vertex + 1, (float(middle[0]), float(middle[1])))):
            self.chosen, self.verb = (shape.key, vertex + 1), "inserted"
            self._keep()

    def delete(self, shape: Shape, vertex: int) -> None:
        """Take a vertex out, unless nothing of its kind would be left."""
        setup, drawn = self.session.setup, shape.drawn.without(vertex)
        if setup is None or not shape.fits(drawn):
            least = FEWEST.get(shape.kind, 1)
            self.session.said.emit(f"{shape.label}: needs at least {least} vertices and must not cross itself.")
            return
        self.chosen = None
        self.session.commit(f"deleted {shape.label} vertex {vertex + 1}", **shape.values(setup, drawn))

    # Numbers

    def _menu_at(self, position: QPointF, at: QPoint) -> None:
        for shape in self._by_choice():
            vertex = _vertex_at(self._handles(shape), position)
            if vertex is not None and not shape.quiet:
                self._menu(shape, vertex, at)
                return
        for shape in self._by_choice():
            stretch = _stretch_at(self._points(shape), position, shape.closed)
            if stretch is not None and shape.about.stretches:
                self._stretch_menu(shape, stretch, at)
                return

    def _stretch_menu(self, shape: Shape, stretch: int, at: QPoint) -> None:
        menu = QMenu(self.view)
        self._state_actions(menu, shape, stretch)
        menu.popup(at)
        self.menu_shown = menu

    def _state_actions(self, menu: QMenu, shape: Shape, stretch: int) -> None:
        now = shape.drawn.stretch(stretch)
        for kind, label in (("", "As the data say"), *shape.about.stretches):
            action = menu.addAction(label, partial(self.state_stretch, shape, stretch, kind))
            action.setCheckable(True)
            action.setChecked(kind == now)

    def state_stretch(self, shape: Shape, stretch: int, kind: str) -> None:
        """Say what the line behind a vertex runs over, or let the data say it again."""
        setup = self.session.setup
        if setup is not None:
            words = dict(shape.about.stretches).get(kind, "as the data say").split(":")[0].lower()
            drawn = shape.drawn.with_stretch(stretch, kind)
            self.session.commit(f"{shape.label} stretch {stretch + 1}: {words}", **shape.values(setup, drawn))

    def _menu(self, shape: Shape, vertex: int, at: QPoint) -> None:
        menu = QMenu(self.view)
        menu.addAction("Type coordinates…", lambda: self._type_place(shape, vertex))
        menu.addAction("Type elevation…", lambda: self._type_level(shape, vertex))
        if shape.drawn.level(vertex) is not None:
            menu.addAction("Read elevation from ground", lambda: self.set_level(shape, vertex, None))
        menu.addAction("Delete vertex", lambda: self.delete(shape, vertex))
        if shape.about.stretches:
            self._state_actions(menu.addMenu("Line behind it"), shape, vertex)
        if shape.item:
            menu.addAction(f"Remove {shape.label}", lambda: self._remove(shape))
        menu.popup(at)
        self.menu_shown = menu

    def _remove(self, shape: Shape) -> None:
        if self.session.setup is not None:
            self.chosen = None
            self.session.commit(f"removed {shape.label}", **shape.removed(self.session.setup))

    def _type_place(self, shape: Shape, vertex: int) -> None:
        x, y = shape.drawn.xy[vertex]
        words = f"Easting, northing of vertex {vertex + 1} ({symbol(self.session.unit)})"
        text, accepted = QInputDialog.getText(self.view, "Vertex", words, text=f"{x:.3f}, {y:.3f}")
        if accepted:
            self.type_place(shape, vertex, text)

    def type_place(self, shape: Shape, vertex: int, text: str) -> None:
        """Move a vertex to typed coordinates."""
        setup = self.session.setup
        try:
            east, north = two_numbers(text)
        except ValueError:
            self.session.said.emit(f"“{text}” are not two numbers, easting and northing.")
            return
        drawn = shape.drawn.moved(vertex, (east, north))
        if setup is None or not (np.isfinite([east, north]).all() and shape.fits(drawn)):
            self.session.said.emit("There the line would cross itself; the vertex stays.")
            return
        self.session.commit(f"moved {shape.label} vertex {vertex + 1}", **shape.values(setup, drawn))

    def _type_level(self, shape: Shape, vertex: int) -> None:
        now = float(self._places(shape)[vertex, 2])
        words = f"Elevation at vertex {vertex + 1} ({symbol(self.session.unit)})"
        value, accepted = QInputDialog.getDouble(self.view, "Elevation", words, now, -1e6, 1e6, 3)
        if accepted:
            self.set_level(shape, vertex, value)

    def set_level(self, shape: Shape, vertex: int, value: float | None) -> None:
        """Type the elevation of a vertex, or let it be read from the ground again."""
        setup = self.session.setup
        if setup is not None:
            what = "reads its elevation from the ground" if value is None else f"typed at {value:.3f}"
            drawn = shape.drawn.with_level(vertex, value)
            self.session.commit(f"{shape.label} vertex {vertex + 1} {what}", **shape.values(setup, drawn))

    # Painting

    def paint(self, painter: QPainter) -> None:
        """All shapes, what lies behind something faintly, with handles."""
        shapes = [shape for shape in self.shapes() if self._visible(shape)]
        self.bands.paint(painter)
        self._paint_before(painter)
        plain = [shape for shape in shapes if not shape.quiet]
        for shape in shapes:
            handles = shape.quiet or self._mine(shape) or len(plain) <= MOST_WITH_HANDLES
            (self._paint_quiet if shape.quiet else self._paint_shape)(painter, shape, handles)

    def _mine(self, shape: Shape) -> bool:
        """Whether a vertex of it is chosen."""
        return self.chosen is not None and self.chosen[0] == shape.key

    def _paint_before(self, painter: QPainter) -> None:
        """The lines as they were before a step, dotted."""
        before = self.session.before_step
        if before is None:
            return
        painter.setPen(QPen(QColor(self.view.theme.edge), 1.0, Qt.PenStyle.DotLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for name, about in before.declared().items():
            value = getattr(before, name)
            if about.kind == RING and value:
                painter.drawPolygon(QPolygonF(self._points(Shape(name, about, value))))

    def _paint_shape(self, painter: QPainter, shape: Shape, handles: bool) -> None:
        colour = QColor(self.view.theme.edge if shape.taken else self.view.theme.quiet)
        places = self._places(shape)
        level = float(np.median(places[:, 2]))
        holes = [np.column_stack([hole, np.full(len(hole), level)]) for hole in shape.drawn.holes]
        layers = [LineLayer(line, (0, 0, 0), closed=shape.closed) for line in (places, *holes) if shape.joined]
        style = Qt.PenStyle.SolidLine if shape.taken else Qt.PenStyle.DashLine
        view, depth = self.view, self.view.depth_now()
        # In a section only of the chosen line what lies outside of the slice: of every area it would be a level line across.
        every = [strokes(layer, view.camera, view.pixels, depth, outside=self._mine(shape)) for layer in layers]
        for stroke in itertools.chain(*every):
            line = QPolygonF([QPointF(x, y) for x, y in (stroke.points / self.view.ratio).tolist()])
            if stroke.hidden:
                faint = QColor(colour)
                faint.setAlpha(70)
                painter.setPen(QPen(faint, 1.2))
                painter.drawPolyline(line)
                continue
            for ink, width in ((QColor(self.view.theme.sheet), 3.6), (colour, 1.8)):
                painter.setPen(QPen(ink, width, style))
                painter.drawPolyline(line)
        self._paint_gaps(painter, shape)
        for number, point in self._handles(shape) if handles else ():
            chosen = self.chosen == (shape.key, number)
            paint_handle(painter, point, colour, chosen, shape.drawn.level(number) is not None)
        if shape.item and not shape.taken:
            painter.setFont(font(11))
            painter.drawText(self._points(shape)[0] + QPointF(6, -6), f"{shape.name} (left out)")

    def _paint_gaps(self, painter: QPainter, shape: Shape) -> None:
        """Breaks in the line where what it runs over is not what it should be."""
        outcome = self.session.shown().outcome
        for layer in gaps_of(outcome, shape):
            paint_line(self.view, painter, LineLayer(layer.xyz, self._sheet(), 4.0, dash=GAPS), outside=True)

    def _sheet(self) -> tuple[int, int, int]:
        ink = QColor(self.view.theme.sheet)
        return ink.red(), ink.green(), ink.blue()

    def _paint_quiet(self, painter: QPainter, shape: Shape, _handles: bool) -> None:
        points = self._points(shape)
        ink = QColor(self.view.theme.ink)
        if not self._mine(shape):
            ink.setAlpha(130)
        painter.setPen(QPen(ink, 1.3, Qt.PenStyle.DashLine))
        painter.drawPolyline(QPolygonF(points))
        painter.setBrush(QColor(self.view.theme.sheet))
        painter.setPen(QPen(ink, 1.5))
        mine = [s.key for s in self.shapes() if s.quiet]
        letters = ends_of(mine.index(shape.key) if shape.key in mine else 0)
        same = np.array_equal(eastward(shape.drawn.places), shape.drawn.places)
        for end, letter in zip((points[0], points[-1]), letters if same else letters[::-1], strict=True):
            painter.drawEllipse(end, 8.0, 8.0)
            painter.setFont(font(10.5, font(10.5).Weight.DemiBold))
            painter.drawText(QRectF(end.x() - 8, end.y() - 8, 16, 16), Qt.AlignmentFlag.AlignCenter, letter)


def two_numbers(text: str) -> tuple[float, float]:
    """Two typed numbers; where a semicolon or blank parts them, a comma is a decimal one. Raises ValueError."""
    if ";" in text:
        parts = text.split(";")
    else:
        parts = text.split(",") if text.count(",") == 1 else text.split()
    first, second = (float(part.replace(",", ".")) for part in parts)
    return first, second


def _stretch_at(points: list[QPointF], position: QPointF, closed: bool) -> int | None:
    """The vertex whose line to the next one passes near a place."""
    for number in range(len(points) if closed else len(points) - 1):
        start, along = points[number], points[(number + 1) % len(points)] - points[number]
        length = QPointF.dotProduct(along, along)
        share = QPointF.dotProduct(position - start, along) / length if length else 0.0
        apart = position - (start + along * share)
        if 0 < share < 1 and QPointF.dotProduct(apart, apart) <= (REACH * 0.7) ** 2:
            return number
    return None


def _vertex_at(handles: list[tuple[int, QPointF]], position: QPointF) -> int | None:
    """The number of the handle at a place."""
    away = {number: QPointF.dotProduct(p - position, p - position) for number, p in handles}
    nearest = min(away, key=lambda number: away[number], default=None)
    return nearest if nearest is not None and away[nearest] <= REACH**2 else None
