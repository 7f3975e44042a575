"""What lies over every picture: coordinate grid, scale bar, north arrow and exaggeration."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from kerb.app.session import Session
from kerb.app.theme import Theme, font
from kerb.app.views.strip import ALL
from kerb.app.views.view import ORBIT, PLAN, SECTION, View
from kerb.core.arrays import Floats
from kerb.core.quantity import decimals_of, number, round_step, symbol
from kerb.core.section.placed import DOWN
from kerb.draw.contour_labels import contour_labels
from kerb.draw.picture import Picture

GRID_PIXELS = 220
BAR_PIXELS = 120
LEVEL_PIXELS = 70


class Furniture:
    """Paints the standing parts of a view."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.grid = True
        # Of each view, by its number.
        self._labelled: dict[int, tuple[Picture, list[tuple[Floats, float]]]] = {}
        # Letters of the left and right end of the section; the window knows which profile it looks along.
        self.ends: Callable[[], tuple[str, str] | None] = lambda: None
        # Where offsets of the section count from, (2,).
        self.line: Callable[[], Floats | None] = lambda: None

    def __call__(self, view: View, painter: QPainter) -> None:
        # Without anything to see the numbers would be those of what was looked at before.
        if self.session.job is None or (view.scene.empty and not self.session.has_data):
            return
        if view.mode == PLAN and self.grid:
            self._grid(view, painter)
        if view.mode == PLAN:
            self._contours(view, painter)
        if view.mode == SECTION and self.grid:
            # A level slice with north up has the coordinates of the plan.
            north_up = view.camera.tilt == DOWN and view.camera.heading == 0.0
            (self._grid if north_up else self._frame)(view, painter)
        if not view.camera.perspective:
            self._scale_bar(view, painter)
        if view.mode != SECTION:
            self._north(view, painter)
        self._words(view, painter)
        ends = self.ends() if view.mode == SECTION else None
        if ends is not None:
            for letter, x in zip(ends, (10.0, view.width() - 24.0), strict=True):
                _tag(painter, QPointF(x, view.height() / 2), letter, view.theme)

    def _grid(self, view: View, painter: QPainter) -> None:
        """Crosses at round coordinates, labelled at the left and the lower edge."""
        camera, (width, height) = view.camera, (view.width(), view.height())
        unit = camera.scale * view.ratio
        step = round_step(GRID_PIXELS * unit, 1)
        low_e, high_n = camera.target[0] - width / 2 * unit, camera.target[1] + height / 2 * unit
        eastings = np.arange(np.ceil(low_e / step), (low_e + width * unit) / step) * step
        northings = np.arange(np.ceil((high_n - height * unit) / step), high_n / step) * step
        digits = decimals_of(step)
        painter.setFont(font(10.5))
        shade = QColor(view.theme.ink)
        shade.setAlpha(110)
        painter.setPen(QPen(shade, 1))
        for e in eastings:
            x = (e - low_e) / unit
            for n in northings:
                y = (high_n - n) / unit
                painter.drawLine(QPointF(x - 4, y), QPointF(x + 4, y))
                painter.drawLine(QPointF(x, y - 4), QPointF(x, y + 4))
        # Adding zero turns a negative zero into a plain one.
        for e in eastings + 0.0:
            _tag(painter, QPointF((e - low_e) / unit + 3, height - 6), f"{e:.{digits}f} E", view.theme)
        for n in northings + 0.0:
            y = (high_n - n) / unit
            if 60 < y < height - 70:
                _tag(painter, QPointF(5, y - 3), f"{n:.{digits}f} N", view.theme)

    def _contours(self, view: View, painter: QPainter) -> None:
        """Elevations of contour lines, once for each picture, carried along while the eye moves."""
        picture = view.picture
        interval = view.scene.interval
        if picture is None or interval <= 0 or not picture.buffer.complete:
            return
        known = self._labelled.get(id(view))
        if known is None or known[0] is not picture:
            size = picture.size
            places = [(picture.camera.unproject(x, y, 0.0, size), z) for x, y, z in contour_labels(picture, interval)]
            known = self._labelled[id(view)] = picture, places
        digits = max(0, int(np.ceil(-np.log10(interval) - 1e-9)))
        for place, z in known[1]:
            at = view.to_widget(place)[0]
            painter.setFont(font(10.5))
            words = number(z, digits)
            _tag(
                painter,
                QPointF(at[0] - painter.fontMetrics().horizontalAdvance(words) / 2, at[1] + 4),
                words,
                view.theme,
            )

    def _frame(self, view: View, painter: QPainter) -> None:
        """Grid lines of a section at round elevations and offsets, or distances along its line; labelled at the edges."""
        camera, (width, height) = view.camera, (view.width(), view.height())
        unit = camera.scale * view.ratio
        up = unit / camera.exaggeration
        along, line = camera.axes[0][:2], self.line()
        # Offsets count from the middle of a section, distances from the left end of a profile; else along the picture.
        start = line if line is not None else np.array(camera.target[:2])
        left = float((np.array(camera.target[:2]) - start) @ along) - width / 2 * unit
        # Up are elevations; in a level slice distances from the middle of the section.
        upright = camera.tilt == 0.0
        up = up if upright else unit
        aim = camera.target[2] if upright else float((np.array(camera.target[:2]) - start) @ -camera.axes[1][:2])
        low = aim - height / 2 * up
        pen = QPen(QColor(view.theme.hair), 1)
        ink = QColor(view.theme.quiet)
        step = round_step(LEVEL_PIXELS * up, 1)
        painter.setFont(font(10.5))
        digits = decimals_of(step)
        for level in np.arange(np.ceil(low / step), np.floor((low + height * up) / step) + 1) * step:
            y = height / 2 - (level - aim) / up
            painter.setPen(pen)
            painter.drawLine(QPointF(0, y), QPointF(width, y))
            painter.setPen(ink)
            painter.drawText(QPointF(6, y - 3), number(float(level), digits))
        step = round_step(BAR_PIXELS * unit, 1)
        digits = decimals_of(step)
        for place in np.arange(np.ceil(left / step), np.floor((left + width * unit) / step) + 1) * step:
            x = (place - left) / unit
            painter.setPen(pen)
            painter.drawLine(QPointF(x, 0), QPointF(x, height))
            painter.setPen(ink)
            painter.drawText(QPointF(x + 3, height - 5), number(float(place), digits))

    def _scale_bar(self, view: View, painter: QPainter) -> None:
        unit = view.camera.scale * view.ratio
        length = round_step(BAR_PIXELS * unit, 1)
        if length / unit > BAR_PIXELS * 1.6:
            length /= 2
        pixels = length / unit
        x, y = 16.0, view.height() - 34.0
        painter.setPen(Qt.PenStyle.NoPen)
        back = QColor(view.theme.sheet)
        back.setAlpha(205)
        painter.setBrush(back)
        painter.drawRoundedRect(QRectF(x - 8, y - 17, pixels + 16, 29), 4, 4)
        ink = QColor(view.theme.ink)
        painter.setPen(QPen(ink, 1))
        painter.setBrush(QColor(view.theme.sheet))
        painter.drawRect(QRectF(x, y, pixels, 5))
        painter.setBrush(ink)
        painter.drawRect(QRectF(x, y, pixels / 2, 5))
        painter.setFont(font(11))
        text = f"{number(length, decimals_of(length))} {symbol(self.session.unit)}"
        painter.drawText(QRectF(x, y - 17, pixels, 15), Qt.AlignmentFlag.AlignCenter, text)

    def _north(self, view: View, painter: QPainter) -> None:
        centre = QPointF(view.width() - 30, view.height() - 40)
        painter.translate(centre)
        back = QColor(view.theme.sheet)
        back.setAlpha(205)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(back)
        painter.drawEllipse(QPointF(0, 1), 25, 25)
        painter.rotate(-view.camera.heading)
        ink = QColor(view.theme.ink)
        painter.setPen(QPen(QColor(view.theme.sheet), 1))
        painter.setBrush(ink)
        painter.drawPolygon(QPolygonF([QPointF(0, -16), QPointF(6, 8), QPointF(0, 4), QPointF(-6, 8)]))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.drawPolygon(QPolygonF([QPointF(0, -16), QPointF(6, 8), QPointF(0, 4), QPointF(-6, 8)]))
        painter.setPen(ink)
        painter.setFont(font(11, font(11).Weight.DemiBold))
        painter.drawText(QRectF(-10, 8, 20, 16), Qt.AlignmentFlag.AlignCenter, "N")
        painter.resetTransform()

    def _words(self, view: View, painter: QPainter) -> None:
        words = []
        if view.camera.exaggeration != 1.0 and view.mode != PLAN:
            words.append(f"heights × {view.camera.exaggeration:g}")
        thick = view.camera.thickness
        if view.mode == SECTION and thick is not None and thick < ALL:
            words.append(f"slice {number(thick, 2 if thick >= 0.1 else 3)} {symbol(self.session.unit)} thick")
        if view.mode == ORBIT and view.camera.perspective:
            words.append("perspective")
        if words:
            _tag(painter, QPointF(14, 62), " · ".join(words), view.theme)


def _tag(painter: QPainter, at: QPointF, text: str, theme: Theme) -> None:
    """Small text on a light patch."""
    painter.setFont(font(10.5))
    box = QRectF(painter.fontMetrics().boundingRect(text)).translated(at).adjusted(-3, -1, 3, 1)
    back = QColor(theme.sheet)
    back.setAlpha(190)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(back)
    painter.drawRoundedRect(box, 3, 3)
    painter.setPen(QColor(theme.ink))
    painter.drawText(at, text)
    shade = QColor(theme.ink)
    shade.setAlpha(110)
    painter.setPen(QPen(shade, 1))
