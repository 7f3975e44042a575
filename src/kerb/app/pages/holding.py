"""A holding looked over: what it is, its counts, spreads and density, where it came from, what may be done with it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QGuiApplication, QImage, QPainter, QPen
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMenu, QPushButton, QScrollArea, QVBoxLayout, QWidget

from kerb.app.session import Session
from kerb.app.sheets.fields import Line, hairline, section
from kerb.app.theme import Theme, font
from kerb.app.widgets import Label, made, there
from kerb.core.cloud.overview import Overview, overview_of
from kerb.core.quantity import number, symbol
from kerb.core.things import CLOUD, KINDS, PICTURE
from kerb.draw.ramps import table
from kerb.job import holdings
from kerb.job.about import Facts, facts_of
from kerb.job.state import Holding


class Bars(QWidget):
    """A small histogram with its ends in figures."""

    def __init__(self, theme: Theme, edges: np.ndarray, counts: np.ndarray, unit: str) -> None:
        super().__init__()
        self.theme, self.edges, self.counts, self.unit = theme, edges, counts, unit
        self.setFixedHeight(64)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        top = max(int(self.counts.max()), 1)
        width, height = self.width() / len(self.counts), self.height() - 18
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(self.theme.base))
        for k, value in enumerate(self.counts.tolist()):
            tall = height * value / top
            painter.drawRect(QRectF(k * width, height - tall, max(width - 0.5, 0.5), tall))
        painter.setPen(QPen(QColor(self.theme.hair), 1))
        painter.drawLine(QPointF(0, height), QPointF(self.width(), height))
        painter.setPen(QColor(self.theme.quiet))
        painter.setFont(font(11))
        places = 2 if self.edges[-1] - self.edges[0] < 1000 else 0
        low, high = (f"{number(float(v), places)} {self.unit}".strip() for v in (self.edges[0], self.edges[-1]))
        box = QRectF(0, height + 3, self.width(), 15)
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft, low)
        painter.drawText(box, Qt.AlignmentFlag.AlignRight, high)


class DensityMap(QWidget):
    """Points per square unit over the plan, north up, with the ramp's ends in figures."""

    def __init__(self, theme: Theme, found: Overview, unit: str) -> None:
        super().__init__()
        self.theme, self.found, self.unit = theme, found, unit
        rows, columns = found.density.shape
        self.setFixedHeight(int(min(250, max(80, 296 * rows / columns))) + 20)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        density = self.found.density[::-1]
        known = density > 0
        top = float(np.percentile(density[known], 98)) if known.any() else 1.0
        colours = table("Shore")[::-1]
        which = np.clip(density / top * (len(colours) - 1), 0, len(colours) - 1).astype(int)
        image = np.zeros((*density.shape, 4), np.uint8)
        image[..., 0], image[..., 1], image[..., 2] = (colours[which][..., k] for k in (2, 1, 0))
        image[..., 3] = np.where(known, 255, 0)
        image = np.ascontiguousarray(image)
        picture = QImage(image.data, image.shape[1], image.shape[0], image.shape[1] * 4, QImage.Format.Format_ARGB32)
        room = QRectF(0, 0, self.width(), self.height() - 20)
        scale = min(room.width() / image.shape[1], room.height() / image.shape[0])
        size = room.size()
        size.setWidth(image.shape[1] * scale)
        size.setHeight(image.shape[0] * scale)
        painter.drawImage(QRectF(QPointF((room.width() - size.width()) / 2, 0), size), picture)
        painter.setFont(font(11))
        painter.setPen(QColor(self.theme.quiet))
        words = f"pale none … dark {number(top, 1 if top < 100 else 0)} points per {self.unit}"
        painter.drawText(QRectF(0, self.height() - 16, self.width(), 16), Qt.AlignmentFlag.AlignLeft, words)


class HoldingPage(QWidget):
    """The page of one holding. The costly part is worked out in the background and kept."""

    action_wanted = Signal(str)
    closed = Signal()

    def __init__(self, session: Session, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("sheetBody")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session, self.theme = session, theme
        self.key = ""
        self.facts: Facts | None = None
        self.overviews: dict[str, Overview] = {}
        self._looking: set[str] = set()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        self.scroller = made(QScrollArea(), widgetResizable=True)
        self.scroller.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        outer.addWidget(self.scroller, 1)
        bar = made(QWidget(), objectName="bar")
        bar.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(bar)
        row.setContentsMargins(18, 8, 14, 9)
        copy = made(QPushButton("Copy all"), toolTip="Everything on this page as text, for a spreadsheet or a mail")
        copy.clicked.connect(self.copy)
        self.more = made(QPushButton("Change ▾"), toolTip="Rename, date, duplicate, write, remove")
        self.more.clicked.connect(self._menu)
        close = made(QPushButton("Close"), toolTip="Back to the study")
        close.clicked.connect(self.closed)
        row.addWidget(copy)
        row.addStretch(1)
        row.addWidget(self.more)
        row.addWidget(close)
        outer.addWidget(bar)
        session.changed.connect(self.mirror)

    @property
    def holding(self) -> Holding | None:
        """The holding that is shown."""
        return self.session.open_job.state.holding(self.key) if self.session.job is not None and self.key else None

    def show_holding(self, key: str) -> None:
        """Show another holding."""
        self.key = key
        self.mirror()
        self._look_over()

    def _look_over(self) -> None:
        """Look at the points in the background, once for each state of them."""
        holding = self.holding
        key = self._mark(holding) if holding is not None else ""
        if holding is not None and holding.kind == CLOUD and key not in self.overviews and key not in self._looking:
            self._looking.add(key)
            store, words = self.session.open_job.store(holding), f"Looking over {holding.name}"
            work = lambda progress: overview_of(store, progress)  # noqa: E731
            task = self.session.start(work, words, lambda found: self._keep(key, found))
            task.ended.connect(lambda: self._looking.discard(key))

    def _keep(self, key: str, found: Overview) -> None:
        self.overviews[key] = found
        if self.holding is not None and key == self._mark(self.holding):
            self.mirror()

    def _mark(self, holding: Holding) -> str:
        return f"{holding.id} {holding.sets.mark}"

    def mirror(self) -> None:
        """Show the holding as it is now."""
        holding = self.holding
        if holding is None:
            if self.key and self.isVisible():
                self.closed.emit()
            self.key = ""
            return
        if self.isVisible():
            self._look_over()
        self.facts = facts_of(self.session.open_job, holding, self.overviews.get(self._mark(holding)))
        at = self.scroller.verticalScrollBar().value()
        body = made(QWidget(), objectName="sheetBody")
        column = QVBoxLayout(body)
        column.setContentsMargins(18, 14, 18, 16)
        column.setSpacing(5)
        name = made(Label(holding.name), wordWrap=True)
        name.setProperty("role", "heading")
        kind = Label(f"{KINDS[holding.kind]} · {holdings.size_words(self.session.open_job, holding)}")
        kind.setProperty("role", "small")
        column.addWidget(name)
        column.addWidget(kind)
        for _code, text in holding.notes:
            column.addWidget(_warning(text))
        for title, rows in self.facts.sections:
            column.addWidget(hairline())
            column.addWidget(section(title))
            for words, value in rows:
                column.addWidget(_long(value) if not words else Line(words, Label(value)))
        self._add_pictures(column, holding)
        column.addStretch(1)
        self.scroller.setWidget(body)
        self.scroller.verticalScrollBar().setValue(at)

    def _add_pictures(self, column: QVBoxLayout, holding: Holding) -> None:
        found = self.overviews.get(self._mark(holding))
        if holding.kind != CLOUD:
            return
        if found is None:
            column.addWidget(hairline())
            column.addWidget(_long("Counting classes, returns and density…"))
            return
        code = self.session.open_job.store(holding).reference.unit.code
        for name, (edges, counts) in found.spreads.items():
            column.addWidget(hairline())
            column.addWidget(section(f"Spread of {name}"))
            column.addWidget(Bars(self.theme, edges, counts, symbol(code) if name == "elevation" else ""))
        column.addWidget(hairline())
        column.addWidget(section("Coverage and density"))
        column.addWidget(DensityMap(self.theme, found, symbol(f"{code}2")))

    def copy(self) -> None:
        """Put the whole page on the clipboard."""
        if self.facts is not None:
            QGuiApplication.clipboard().setText(self.facts.text())
            self.session.said.emit("The page was copied as text")

    def _menu(self) -> None:
        holding = there(self.holding)
        menu = QMenu(self)
        for words, action in (
            ("Rename…", "rename_holding"), ("Set epoch date…", "epoch"), ("Duplicate", "duplicate_holding"),
            ("Write to a file…", "write_holding"), ("Find source file…", "relink"), ("Remove", "remove_holding"),
        ):  # fmt: skip
            menu.addAction(words, lambda a=action: self.action_wanted.emit(f"{a}:{holding.id}"))
        if holding.kind == PICTURE:
            menu.addSeparator()
            for share in (100, 75, 50, 25):
                wanted = f"picture_opacity:{holding.id}|{share}"
                menu.addAction(f"Opacity {share} %", lambda w=wanted: self.action_wanted.emit(w))
            menu.addAction("Drape over the data or not", lambda: self.action_wanted.emit(f"picture_drape:{holding.id}"))
        menu.popup(self.more.mapToGlobal(self.more.rect().topLeft()))
        self.menu_shown = menu


def _warning(text: str) -> QLabel:
    label = made(Label(f"▲  {text[:1].upper()}{text[1:]}"), wordWrap=True)
    label.setProperty("role", "warning")
    label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    return label


def _long(text: str) -> QLabel:
    label = made(Label(text), wordWrap=True)
    label.setProperty("role", "small")
    label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    return label
