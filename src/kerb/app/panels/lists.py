"""The left panel: holdings by epoch, and studies with their headline figure and state."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMenu, QScrollArea, QToolButton, QVBoxLayout, QWidget

from kerb.app.icons import icon, pixmap
from kerb.app.session import Session
from kerb.app.sheets.fields import hairline
from kerb.app.theme import Theme, font
from kerb.app.views.things import ink_of
from kerb.core.quantity import quantity
from kerb.core.things import LINES, PICTURE, POINTS
from kerb.job import holdings
from kerb.job.state import Holding, StudyRecord
from kerb.studies.registry import study_kind

ROW = 44


class Row(QWidget):
    """A line of a list: mark, name with a quiet second line, and a value at the right."""

    clicked = Signal()
    mark_clicked = Signal()
    menu_wanted = Signal(object)
    key_pressed = Signal(int)

    def __init__(self, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.theme = theme
        self.name = self.second = self.value = ""
        self.mark = self.ink = ""
        self.chosen = self.pale = False
        self.alarm = False
        self.setFixedHeight(ROW)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._over = False

    def sizeHint(self) -> QSize:
        return QSize(220, ROW)

    def enterEvent(self, _event: object) -> None:
        self._over = True
        self.update()

    def leaveEvent(self, _event: object) -> None:
        self._over = False
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.RightButton:
            self.clicked.emit()
            self.menu_wanted.emit(event.globalPosition().toPoint())
        elif self.mark and event.position().x() < 34:
            self.mark_clicked.emit()
        else:
            self.clicked.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            (self.mark_clicked if self.mark and event.key() == Qt.Key.Key_Space else self.clicked).emit()
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.focusNextPrevChild(event.key() == Qt.Key.Key_Down)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = self.theme
        if self.chosen or self._over:
            painter.fillRect(self.rect(), QColor(t.wash))
        if self.chosen:
            painter.fillRect(0, 0, 3, self.height(), QColor(t.accent))
        if self.hasFocus():
            painter.setPen(QPen(QColor(t.accent), 1, Qt.PenStyle.DotLine))
            painter.drawRect(self.rect().adjusted(1, 1, -2, -2))
        left = 14
        if self.mark:
            painter.drawPixmap(QPointF(12, 13), pixmap(self.mark, t.quiet, 18, max(1, round(self.devicePixelRatioF()))))
            left = 38
        if self.ink:
            painter.setPen(QPen(QColor(self.ink), 2))
            painter.drawLine(QPointF(self.width() - 18, 32), QPointF(self.width() - 10, 32))
            painter.drawLine(QPointF(self.width() - 14, 28), QPointF(self.width() - 14, 36))
        value_font = font(13, font(13).Weight.DemiBold)
        painter.setFont(value_font)
        value_width = painter.fontMetrics().horizontalAdvance(self.value) if self.value else 0
        painter.setPen(QColor(t.quiet if self.value == "—" else t.ink))
        painter.drawText(
            QRectF(self.width() - value_width - 12, 5, value_width, 19),
            Qt.AlignmentFlag.AlignRight,
            self.value,
        )
        painter.setFont(font(13))
        painter.setPen(QColor(t.quiet if self.pale else t.ink))
        room = self.width() - left - value_width - 20
        text = painter.fontMetrics().elidedText(self.name, Qt.TextElideMode.ElideRight, room)
        painter.drawText(QRectF(left, 5, room, 19), Qt.AlignmentFlag.AlignLeft, text)
        painter.setFont(font(11))
        painter.setPen(QColor(t.toe if self.alarm else t.quiet))
        painter.drawText(QRectF(left, 24, self.width() - left - 10, 16), Qt.AlignmentFlag.AlignLeft, self.second)


class Lists(QWidget):
    """Holdings above, studies below. They mirror the job and hold nothing of their own."""

    action_wanted = Signal(str)

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("left")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session, self.theme = session, theme
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 8, 1, 0)
        column.setSpacing(0)
        self.holdings = QVBoxLayout()
        self.studies = QVBoxLayout()
        for heading, box, action, tip in (
            ("Holdings", self.holdings, "import", "Bring data in… (Ctrl+I)"),
            ("Studies", self.studies, "new_stockpile", "New stockpile study (Ctrl+Shift+N)"),
        ):
            if heading == "Studies":
                column.addWidget(hairline())
                column.addSpacing(6)
            column.addLayout(self._heading(heading, action, tip))
            box.setSpacing(0)
            inner = QWidget()
            outer = QVBoxLayout(inner)
            outer.setContentsMargins(0, 0, 0, 0)
            outer.addLayout(box)
            outer.addStretch(1)
            scroll = QScrollArea(widgetResizable=True)
            scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
            scroll.setWidget(inner)
            column.addWidget(scroll, 2 if heading == "Holdings" else 3)
        self.rows: dict[str, Row] = {}
        self.looked_over = ""
        self.marks_study = True
        session.changed.connect(self.mirror)
        session.selected.connect(self.mirror)
        session.opened.connect(self.mirror)

    def _heading(self, text: str, action: str, tip: str) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setContentsMargins(14, 4, 8, 2)
        label = QLabel(text)
        label.setProperty("role", "section")
        button = QToolButton(toolTip=tip)
        button.setIcon(icon("plus", self.theme.quiet, 16))
        button.setAccessibleName(tip)
        button.clicked.connect(lambda: self.action_wanted.emit(action))
        row.addWidget(label)
        row.addStretch(1)
        row.addWidget(button)
        return row

    def mirror(self) -> None:
        """Show the job as it is now."""
        focused = next((key for key, row in self.rows.items() if row.hasFocus()), "")
        _empty(self.holdings)
        _empty(self.studies)
        self.rows.clear()
        state = self.session.job.state if self.session.job else None
        if state is None or not state.holdings:
            self.holdings.addWidget(_hint("Drop any file here: clouds, points, drawings, surfaces, models, pictures."))
        epochs: dict[str, list[Holding]] = {}
        for holding in state.holdings if state else ():
            epochs.setdefault(holding.epoch or "No epoch date", []).append(holding)
        for epoch in sorted(epochs, reverse=True):
            label = QLabel(epoch)
            label.setProperty("role", "small")
            label.setContentsMargins(14, 4, 0, 2)
            self.holdings.addWidget(label)
            for holding in epochs[epoch]:
                self.holdings.addWidget(self._holding_row(holding))
        if state is None or not state.studies:
            self.studies.addWidget(_hint("A study answers one question, such as how much is in a heap."))
        for study in state.studies if state else ():
            self.studies.addWidget(self._study_row(study))
        if focused in self.rows:
            self.rows[focused].setFocus()

    def _holding_row(self, holding: Holding) -> Row:
        row = Row(self.theme)
        row.name, row.mark = holding.name, "shown" if holding.visible else "hidden"
        row.pale = not holding.visible
        row.chosen = holding.id == self.looked_over
        missing = holdings.source_missing(holding)
        size = "picture tiles" if holding.kind == PICTURE and not holding.points else self._size(holding)
        row.second = size + (" · source file moved" if missing else "")
        if holding.kind in (POINTS, LINES):
            row.ink = ink_of(self.session, holding, self.theme.name)
        row.alarm = missing
        notes = "\n".join(f"• {text}" for _code, text in holding.notes)
        row.setToolTip(f"{holding.source}\n{notes}".strip())
        row.setAccessibleName(holding.name)
        row.clicked.connect(lambda: self.action_wanted.emit(f"look_over:{holding.id}"))
        row.mark_clicked.connect(lambda: self._toggle(holding))
        row.menu_wanted.connect(lambda place: self._holding_menu(holding, place))
        self.rows[holding.id] = row
        return row

    def _size(self, holding: Holding) -> str:
        return holdings.size_words(self.session.job, holding)

    def _toggle(self, holding: Holding) -> None:
        words = f"{'Hid' if holding.visible else 'Showed'} {holding.name}"
        change = holdings.altered(holding, words, visible=not holding.visible)
        self.session.execute(replace(change, undoable=False))

    def _holding_menu(self, holding: Holding, place: object) -> None:
        menu = QMenu(self)
        menu.addAction("Hide" if holding.visible else "Show", lambda: self._toggle(holding))
        menu.addAction("Fit in view", lambda: self.action_wanted.emit(f"holding:{holding.id}"))
        for words, action in (
            ("Look over", "look_over"), ("Rename…", "rename_holding"), ("Set epoch date…", "epoch"),
            ("Duplicate", "duplicate_holding"), ("Write to a file…", "write_holding"),
        ):  # fmt: skip
            menu.addAction(words, lambda a=action: self.action_wanted.emit(f"{a}:{holding.id}"))
        if holdings.source_missing(holding):
            menu.addAction("Find source file…", lambda: self.action_wanted.emit(f"relink:{holding.id}"))
        menu.addSeparator()
        menu.addAction("Remove", lambda: self.session.execute(holdings.removed(holding)))
        menu.popup(place)

    def _study_row(self, study: StudyRecord) -> Row:
        row = Row(self.theme)
        kind = study_kind(study.kind)
        row.name = study.name
        row.chosen = study.id == self.session.study_id and self.marks_study
        row.value, row.second = headline(self.session, study), state_words(self.session, study)
        row.alarm = "out of date" in row.second
        row.setToolTip(f"{kind.title}: {kind.question}")
        row.setAccessibleName(f"{study.name}, {row.value}, {row.second}")
        row.clicked.connect(lambda: self.session.select(study.id))
        row.menu_wanted.connect(self._study_menu)
        self.rows[study.id] = row
        return row

    def _study_menu(self, place: object) -> None:
        menu = QMenu(self)
        for words, action in (
            ("Rename…", "rename_study"), ("Duplicate", "duplicate_study"), ("Fit in view", "fit_study"),
            ("Compute", "compute"), ("Remove", "remove_study"),
        ):  # fmt: skip
            menu.addAction(words, lambda a=action: self.action_wanted.emit(a))
        menu.popup(place)


def headline(session: Session, study: StudyRecord) -> str:
    """The headline figure of a study in short form."""
    if study.outcome is None:
        return "—"
    figure = study.outcome["figures"][study_kind(study.kind).headline]
    if figure["value"] is None:
        return "—"
    decimals = replace(session.decimals, volume=0)
    return quantity(figure["value"], figure["unit"], decimals)


def state_words(session: Session, study: StudyRecord) -> str:
    """What state a study is in, in words."""
    kind = study_kind(study.kind).title
    if session.compute_task is not None and study.id == session.study_id:
        return f"{kind} · computing…"
    if not study.setup.get("toe"):
        return f"{kind} · toe not drawn"
    if study.outcome is None:
        return f"{kind} · not computed"
    if session.stale(study):
        return f"{kind} · out of date"
    notes = len(study.outcome["warnings"])
    return f"{kind} · up to date" if not notes else f"{kind} · {notes} note{'s' if notes > 1 else ''}"


def _hint(text: str) -> QLabel:
    label = QLabel(text, wordWrap=True)
    label.setProperty("role", "small")
    label.setContentsMargins(14, 6, 14, 6)
    return label


def _empty(layout: QVBoxLayout) -> None:
    while layout.count():
        widget = layout.takeAt(0).widget()
        if widget is not None:
            widget.setParent(None)
            widget.deleteLater()
