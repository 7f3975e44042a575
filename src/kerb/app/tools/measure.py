"""Measure between points: distance, height difference, slope, plan area, coordinates; with a snap that can be seen."""

from __future__ import annotations

from collections.abc import Callable
from types import MappingProxyType

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QGuiApplication, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF

from kerb.app.session import Session
from kerb.app.theme import font
from kerb.app.tools.base import PointingTool
from kerb.app.tools.snapping import in_circle, target_at
from kerb.app.views.view import SECTION, View
from kerb.core.arrays import Floats
from kerb.core.errors import KerbError, NotDeterminable
from kerb.core.geometry import polygon
from kerb.core.geometry.features import SurveyPoints
from kerb.core.quantity import quantity
from kerb.core.section.corner import corner
from kerb.core.things import POINTS
from kerb.job.dimensions import dimension

NEAREST, LOWEST, HIGHEST, CORNER, TARGET = "nearest", "lowest", "highest", "corner", "target"
RADIUS = 12.0
# A survey point that is drawn this near to a click is meant.
ON_MARK = 6.0
# The circle in which a target is looked for is so many times as wide.
TARGET_TIMES = 2.0


class Measure(PointingTool):
    """Click points; the values stand beside the last one. N, L, H and K choose the snap, C copies, Escape clears."""

    hint = (
        "Click points to measure. N nearest, L lowest, H highest point in the circle, K corner or break of slope in a "
        "section, O centre of a painted target; C copies as text, D keeps it as a line; Backspace takes one back, Esc ends."
    )
    snaps = MappingProxyType({
        Qt.Key.Key_N: NEAREST, Qt.Key.Key_L: LOWEST, Qt.Key.Key_H: HIGHEST, Qt.Key.Key_K: CORNER, Qt.Key.Key_O: TARGET,
    })  # fmt: skip
    letters = frozenset({*snaps, Qt.Key.Key_C, Qt.Key.Key_D})

    def __init__(self, view: View, session: Session, finished: Callable[[], None]) -> None:
        super().__init__(view)
        self.session = session
        self.finished = finished
        self.snap = NEAREST
        self.places: list[Floats] = []

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        if not clicked or event.button() != Qt.MouseButton.LeftButton:
            return
        place = self.snapped(event.position())
        if place is None:
            self.session.said.emit("No point lies in the circle; zoom in or point at the data.")
            return
        self.take(place)
        self.view.update()

    def take(self, place: Floats) -> None:
        """Go on with the place that was clicked."""
        self.places.append(place)
        self.session.said.emit(self.lines()[-1])

    def key(self, event: QKeyEvent) -> bool:
        key = Qt.Key(event.key())
        if key in self.snaps:
            self.snap = self.snaps[key]
        elif key == Qt.Key.Key_D:
            self.keep()
        elif key == Qt.Key.Key_C:
            QGuiApplication.clipboard().setText(self.text())
        elif key == Qt.Key.Key_Backspace and self.places:
            self.places.pop()
        elif key == Qt.Key.Key_Escape:
            if self.places:
                self.places.clear()
            else:
                self.finished()
        else:
            return False
        self.view.update()
        return True

    def snapped(self, position: QPointF) -> Floats | None:
        """The point that a click takes: the nearest drawn one, or the lowest or highest within the circle."""
        view = self.view
        marked = self._survey_point(position)
        if marked is not None:
            return marked
        if view.picture is None:
            return None
        share = view.picture.size[0] / view.pixels[0] * view.ratio
        hit = view.picture.place_at(position.x() * share, position.y() * share, reach=round(RADIUS * share))
        if hit is None or self.snap == NEAREST:
            return hit
        radius = RADIUS * view.ratio * view.camera.scale
        if self.snap == TARGET:
            return self._target(hit, TARGET_TIMES * radius)
        every = [in_circle(view, layer.store, hit, radius) for layer in view.scene.clouds]
        points = np.concatenate([np.empty((0, 3)), *every])
        if self.snap == CORNER:
            return self._corner(hit, points, radius)
        if not len(points):
            return hit
        return np.asarray(points[np.argmin(points[:, 2]) if self.snap == LOWEST else np.argmax(points[:, 2])])

    def _survey_point(self, position: QPointF) -> Floats | None:
        """A survey point that is drawn where was clicked: it is meant, and not the data under it."""
        job = self.session.job
        best: tuple[float, Floats] | None = None
        for holding in job.state.of_kind(POINTS) if job is not None else ():
            thing = job.thing(holding).thing if holding.visible and job is not None else None
            if not isinstance(thing, SurveyPoints) or not thing.count:
                continue
            seen = self.view.camera.project(thing.xyz, self.view.pixels) / [self.view.ratio, self.view.ratio, 1.0]
            away = np.hypot(seen[:, 0] - position.x(), seen[:, 1] - position.y())
            near, far = self.view.camera.limits(self.view.pixels)
            away = np.where((seen[:, 2] >= near) & (seen[:, 2] <= far), away, np.inf)
            row = int(np.argmin(np.nan_to_num(away, nan=np.inf)))
            if away[row] <= ON_MARK and (best is None or away[row] < best[0]):
                best = float(away[row]), thing.xyz[row]
        return best[1] if best is not None else None

    def _corner(self, hit: Floats, points: Floats, radius: float) -> Floats | None:
        """Where two lines meet that fit the points in the circle of a slice."""
        if self.view.mode != SECTION:
            self.session.said.emit("A corner is found in a section: look along one, then click near it.")
            return None
        right, down, _ = self.view.camera.axes
        flat = np.column_stack([(points - hit) @ right, (points - hit) @ -down])
        try:
            found = corner(flat, radius)
        except NotDeterminable as error:
            self.session.said.emit(f"No corner: {error}.")
            return None
        fit = quantity(found.rms, self.session.unit, self.session.decimals)
        self.session.said.emit(f"Corner of {found.angle:.1f}°, the two lines fit within {fit} (rms).")
        return np.asarray(hit + found.place[0] * right - found.place[1] * down)

    def _target(self, hit: Floats, radius: float) -> Floats | None:
        """The centre of what stands out in brightness round a place, as it is seen."""
        try:
            place, found = target_at(self.view, hit, radius)
        except NotDeterminable as error:
            self.session.said.emit(f"No target: {error}.")
            return None
        self.session.said.emit(f"Centre of {found.words}.")
        return place

    def keep(self) -> None:
        """Keep what was measured as a line of the job."""
        if len(self.places) < 2:
            self.session.said.emit("A line needs two points.")
            return
        try:
            change = dimension(self.session.open_job, np.array(self.places), self.lines()[1:])
        except KerbError as error:
            self.session.complained.emit("The line could not be kept", str(error))
            return
        self.session.execute(change)
        self.session.said.emit(f"{change.sentence}.")
        self.places.clear()

    def lines(self) -> list[str]:
        """What was measured, a line each."""
        unit, decimals = self.session.unit, self.session.decimals
        show = lambda value, code=unit, signed=False: quantity(float(value), code, decimals, signed)  # noqa: E731
        last = self.places[-1]
        lines = [f"E {last[0]:.{decimals.length}f}  N {last[1]:.{decimals.length}f}  Z {last[2]:.{decimals.length}f}"]
        if len(self.places) > 1:
            step = self.places[-1] - self.places[-2]
            plan = float(np.hypot(*step[:2]))
            east, north, up = step.tolist()
            lines.append(f"dE {show(east, signed=True)}, dN {show(north, signed=True)}, dZ {show(up, signed=True)}")
            lines.append(f"distance {show(np.linalg.norm(step))}, in plan {show(plan)}")
            slope = np.degrees(np.arctan2(step[2], plan)) if plan or step[2] else 0.0
            lines.append(f"height difference {show(step[2], signed=True)}, slope {show(slope, 'deg', True)}")
        if len(self.places) > 2:
            ring = np.array(self.places)
            before, after = ring[-3] - ring[-2], ring[-1] - ring[-2]
            turn = np.degrees(np.arctan2(np.linalg.norm(np.cross(before, after)), before @ after))
            lines.append(f"angle at the point before {show(turn, 'deg')}")
            if self.view.mode == SECTION:
                # In its plane, so that the outline of a layer has the area it is drawn with.
                right, down, _ = self.view.camera.axes
                flat = np.column_stack([(ring - ring[0]) @ right, (ring - ring[0]) @ -down])
                lines.append(f"area in the section {show(abs(polygon.area(flat)), unit + '2')}")
            else:
                lines.append(f"plan area {show(abs(polygon.area(ring)), unit + '2')}")
            path = np.linalg.norm(np.diff(ring, axis=0), axis=1).sum()
            lines.append(f"length of the line {show(path)}")
        return lines

    def text(self) -> str:
        """Coordinates and values, for the clipboard."""
        rows = ["\t".join(f"{v:.6f}" for v in place) for place in self.places]
        return "\n".join(["easting\tnorthing\televation", *rows, *(self.lines() if self.places else [])]) + "\n"

    def paint(self, painter: QPainter) -> None:
        theme = self.view.theme
        ink = QColor(theme.accent)
        if self.mouse is not None:
            painter.setPen(QPen(ink, 1.0, Qt.PenStyle.DotLine))
            wide = RADIUS * (TARGET_TIMES if self.snap == TARGET else 1.0)
            painter.drawEllipse(self.mouse, wide, wide)
            painter.setFont(font(11))
            painter.drawText(self.mouse + QPointF(RADIUS + 3, -RADIUS + 2), self.snap)
        if not self.places:
            return
        points = [QPointF(*p) for p in self.view.to_widget(np.array(self.places))]
        if len(points) > 2:
            pale = QColor(ink)
            pale.setAlpha(28)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(pale)
            painter.drawPolygon(QPolygonF(points))
            painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, width in ((QColor(theme.sheet), 4.0), (ink, 1.8)):
            painter.setPen(QPen(colour, width))
            painter.drawPolyline(QPolygonF(points))
        for point in points:
            painter.drawLine(point + QPointF(-5, 0), point + QPointF(5, 0))
            painter.drawLine(point + QPointF(0, -5), point + QPointF(0, 5))
        paint_note(painter, points[-1] + QPointF(14, 14), self.lines(), self.view)


def paint_note(painter: QPainter, at: QPointF, lines: list[str], view: View) -> None:
    """A small card with lines of text, kept inside the view."""
    theme = view.theme
    painter.setFont(font(12))
    metrics = painter.fontMetrics()
    width = max(metrics.horizontalAdvance(line) for line in lines) + 18
    height = metrics.lineSpacing() * len(lines) + 12
    left = max(min(at.x(), view.width() - width - 8), 8)
    box = QRectF(left, min(at.y(), view.height() - height - 8), width, height)
    painter.setPen(QPen(QColor(theme.hair), 1))
    painter.setBrush(QColor(theme.sheet))
    painter.drawRoundedRect(box, 5, 5)
    painter.setPen(QColor(theme.ink))
    for number, line in enumerate(lines):
        painter.drawText(QPointF(box.x() + 9, box.y() + 6 + metrics.ascent() + number * metrics.lineSpacing()), line)
