"""Survey points and lines of the job, painted over every view: what is in sight and, in a section, in the slice."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from kerb.app.session import Session
from kerb.app.theme import font
from kerb.app.views.view import PLAN, SECTION, View
from kerb.core.arrays import Floats
from kerb.core.geometry.features import LineSet, SurveyPoints
from kerb.core.quantity import number as number_text
from kerb.core.things import LINES, POINTS
from kerb.draw.ramps import SIGNED, table
from kerb.job.state import Holding

# Apart in lightness and hue, and told apart by place and name as well: a holding's colour follows its number.
INKS = {
    "light": ("#7a3e9d", "#0b6e8a", "#6b6410", "#2f6b4a", "#8a1f6a", "#44506b"),
    "dark": ("#c9a2e6", "#7ccbe2", "#d6cf7a", "#9bd6b4", "#ee9bd8", "#b6c2de"),
}
MOST_NAMES = 120
MARK = 4.5
MOST_VERTICES = 400_000


class ThingsOverlay:
    """Paints points as crosses with names where there is room, and lines with areas lightly filled."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self._ends: dict[str, np.ndarray] = {}

    def __call__(self, view: View, painter: QPainter) -> None:
        job = self.session.job
        if job is None:
            return
        inks = INKS[view.theme.name]
        # Of all lists together no more are named than can be read.
        names = MOST_NAMES
        painted = [
            (number, holding, job.thing(holding).thing)
            for number, holding in enumerate(job.state.holdings)
            if holding.visible and holding.kind in (POINTS, LINES)
        ]
        lists = [thing.xyz for _, _, thing in painted if isinstance(thing, SurveyPoints)]
        # Of hundreds of short lists the places are worked out in one go.
        at, shown = _seen(view, np.concatenate(lists)) if lists else (np.empty((0, 2)), np.empty(0, np.bool_))
        first = 0
        for number, holding, thing in painted:
            ink = QColor(inks[number % len(inks)])
            if isinstance(thing, SurveyPoints):
                mine = slice(first, first + len(thing.xyz))
                first = mine.stop
                names -= paint_points(view, painter, thing, (at[mine], shown[mine]), ink, names)
            elif isinstance(thing, LineSet):
                signed = "_change_" in holding.style.get("field", "")
                paint_lines(view, painter, thing, ink, _values(thing, holding), signed)


def ink_of(session: Session, holding: Holding, theme: str) -> str:
    """The colour a holding of points or lines is painted in."""
    inks = INKS[theme]
    number = next(n for n, other in enumerate(session.open_job.state.holdings) if other.id == holding.id)
    return inks[number % len(inks)]


def paint_points(
    view: View, painter: QPainter, points: SurveyPoints, seen: tuple[Floats, np.ndarray], ink: QColor, names: int
) -> int:
    """Crosses at points, ``seen`` as :func:`_seen` has them; names when no more than ``names`` are in sight; how many were
    named."""
    at, shown = seen
    rows = np.flatnonzero(shown)
    if not len(rows):
        return 0
    halo = QColor(view.theme.sheet)
    crosses = [
        line
        for x, y in at[rows[:MOST_VERTICES]].tolist()
        for line in (QLineF(x - MARK, y, x + MARK, y), QLineF(x, y - MARK, x, y + MARK))
    ]
    for colour, width in ((halo, 3.6), (ink, 1.6)):
        painter.setPen(QPen(colour, width))
        painter.drawLines(crosses)
    if len(rows) > names:
        return 0
    painter.setFont(font(11))
    # In a section: how far behind its plane (before it: negative) each of them lies.
    away = view.camera.project(points.xyz, view.pixels)[:, 2] if view.mode == SECTION else None
    for row in rows.tolist():
        place = QPointF(at[row, 0] + 6, at[row, 1] - 5)
        words = (
            points.names[row]
            if away is None
            else f"{points.names[row]}  {number_text(float(away[row]), 2, signed=True)}"
        )
        _outlined(painter, place, words, ink, halo)
    return len(rows)


def _values(lines: LineSet, holding: Holding) -> list[float | None] | None:
    """The values of the field that the areas of a holding are coloured by; None where there is no such field."""
    values = lines.fields.get(holding.style.get("field", ""))
    if values is None or not any(isinstance(value, (int, float)) for value in values):
        return None
    return [float(value) if isinstance(value, (int, float)) else None for value in values]


def _shades(values: list[float | None], signed: bool) -> list[QColor | None]:
    """A colour for each value, from pale to dark over their range; ``signed`` alike on both sides of zero."""
    known = [value for value in values if value is not None]
    low, high = min(known), max(known)
    if signed:
        high = max(-low, high, 1e-12)
        low = -high
    colours = table(SIGNED if signed else "Shore")
    shades: list[QColor | None] = []
    for value in values:
        if value is None:
            shades.append(None)
            continue
        share = (value - low) / (high - low) if high > low else 0.5
        shade = QColor(*(int(v) for v in colours[round(share * (len(colours) - 1))]))
        shade.setAlpha(150)
        shades.append(shade)
    return shades


def paint_lines(
    view: View, painter: QPainter, lines: LineSet, ink: QColor, values: list[float | None] | None = None,
    signed: bool = False,
) -> None:  # fmt: skip
    """Lines; areas filled lightly in plan, or by ``values`` with the value beside the name; names of few only."""
    vertices = lines.vertices
    if not len(vertices) or len(vertices) > MOST_VERTICES * 5:
        return
    at, shown = _seen(view, vertices)
    ends = np.cumsum([len(line.xyz) for line in lines.lines])
    pale = QColor(ink)
    pale.setAlpha(26)
    few = len(lines.lines) <= MOST_NAMES
    shades = _shades(values, signed) if values is not None else [None] * len(lines.lines)
    start = 0
    for number, (line, end) in enumerate(zip(lines.lines, ends.tolist(), strict=True)):
        own, visible = at[start:end], shown[start:end]
        start = end
        if not visible.any() or not np.isfinite(own).all():
            continue
        polygon = QPolygonF([QPointF(x, y) for x, y in own.tolist()])
        if line.closed and view.mode == PLAN:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(shades[number] or pale)
            painter.drawPolygon(polygon)
            painter.setBrush(Qt.BrushStyle.NoBrush)
        if line.closed:
            polygon.append(polygon.first())
        for colour, width in ((QColor(view.theme.sheet), 3.2), (ink, 1.5)):
            painter.setPen(QPen(colour, width))
            painter.drawPolyline(polygon)
        if few and (line.name or shades[number]):
            painter.setFont(font(11))
            first = own[int(np.argmax(visible))]
            value = values[number] if values is not None else None
            text = line.name if value is None else f"{line.name}  {_short(value, signed)}".strip()
            at_ = QPointF(first[0] + 5, first[1] - 5)
            if value is not None and view.mode == PLAN:
                middle = own.mean(axis=0)
                at_ = QPointF(middle[0] - painter.fontMetrics().horizontalAdvance(text) / 2, middle[1] + 4)
            # A line's own ink may be that of the fill under it.
            _outlined(painter, at_, text, ink if value is None else QColor(view.theme.ink), QColor(view.theme.sheet))


def _short(value: float, signed: bool) -> str:
    return number_text(value, 0 if abs(value) >= 10_000 or value == int(value) else 2, signed=signed)


def _seen(view: View, xyz: Floats) -> tuple[Floats, np.ndarray]:
    """Widget positions (n, 2), and which are in the picture and in the slice; places without elevation lie level."""
    level = view.camera.target[2]
    places = xyz
    if np.isnan(xyz[:, 2]).any():
        places = np.column_stack([xyz[:, :2], np.where(np.isnan(xyz[:, 2]), level, xyz[:, 2])])
    seen = view.camera.project(places, view.pixels)
    near, far = view.camera.limits(view.pixels)
    at = seen[:, :2] / view.ratio
    with np.errstate(invalid="ignore"):
        shown = (seen[:, 2] >= near) & (seen[:, 2] <= far)
        shown &= (at[:, 0] > -50) & (at[:, 0] < view.width() + 50) & (at[:, 1] > -50) & (at[:, 1] < view.height() + 50)
    return at, shown


def _outlined(painter: QPainter, at: QPointF, text: str, ink: QColor, halo: QColor) -> None:
    painter.setPen(halo)
    for dx, dy in ((-1, 0), (1, 0), (0, -1), (0, 1)):
        painter.drawText(at + QPointF(dx, dy), text)
    painter.setPen(ink)
    painter.drawText(at, text)
