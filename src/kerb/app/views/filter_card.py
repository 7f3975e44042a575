"""The card that sets a filter: ends dragged on the spread of an attribute, values ticked, a colour with tolerance."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import (
    QColorDialog,
    QComboBox,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QMenu,
    QPushButton,
    QSlider,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kerb.app.sheets.fields import NumberField
from kerb.app.theme import Theme, font
from kerb.app.widgets import Label, made, there
from kerb.core.arrays import Floats
from kerb.core.cloud.filters import COLOUR, Filter
from kerb.core.quantity import count, number
from kerb.core.setting import Setting

WIDTH = 316
BARS = QRectF(10, 6, WIDTH - 44, 84)
TOLERANCE = 24


class RangeBars(QWidget):
    """A histogram whose two ends can be dragged; what lies between them is shown."""

    moved = Signal(float, float)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.edges: Floats | None = None
        self.counts: Floats | None = None
        self.low, self.high = 0.0, 1.0
        self._dragged = ""
        self.setMouseTracking(True)
        self.setFixedSize(int(BARS.width()) + 20, int(BARS.height()) + 26)
        self.setToolTip("Drag an end: points between the two are shown. Double-click shows all")
        self.setAccessibleName("Spread of the attribute with its limits")

    def sizeHint(self) -> QSize:
        return self.size()

    def show_spread(self, spread: tuple[Floats, Floats], low: float, high: float) -> None:
        """Show edges and counts with the limits set."""
        self.edges, self.counts = spread
        self.low, self.high = low, high
        self.update()

    @property
    def span(self) -> tuple[float, float]:
        """Lowest and highest value that is drawn."""
        edges = there(self.edges)
        return float(edges[0]), float(edges[-1])

    def x_of(self, value: float) -> float:
        """Where a value is, in widget pixels."""
        low, high = self.span
        return BARS.left() + min(max((value - low) / (high - low), 0.0), 1.0) * BARS.width()

    def paintEvent(self, _event: object) -> None:
        if self.edges is None or self.counts is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        top = max(float(self.counts.max()), 1.0)
        painter.setPen(Qt.PenStyle.NoPen)
        wide = BARS.width() / len(self.counts)
        for place, value in enumerate(self.counts.tolist()):
            middle = (self.edges[place] + self.edges[place + 1]) / 2
            inside = self.low <= middle <= self.high
            painter.setBrush(QColor(self.theme.accent if inside else self.theme.hair))
            # The root: a bar of few points can still be seen beside one of many.
            tall = BARS.height() * (value / top) ** 0.5
            painter.drawRect(QRectF(BARS.left() + place * wide, BARS.bottom() - tall, max(wide - 0.5, 0.5), tall))
        painter.setPen(QPen(QColor(self.theme.hair), 1))
        painter.drawLine(BARS.bottomLeft(), BARS.bottomRight())
        for value in (self.low, self.high):
            x = self.x_of(value)
            painter.setPen(QPen(QColor(self.theme.ink), 1.5))
            painter.drawLine(QPointF(x, BARS.top() - 3), QPointF(x, BARS.bottom() + 3))
            painter.setBrush(QColor(self.theme.sheet))
            painter.drawEllipse(QPointF(x, BARS.bottom() + 3), 4.5, 4.5)
        painter.setFont(font(10.5))
        painter.setPen(QColor(self.theme.quiet))
        low, high = self.span
        decimals = 2 if high - low < 1000 else 0
        line = QRectF(BARS.left(), BARS.bottom() + 6, BARS.width(), 14)
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft, number(low, decimals))
        painter.drawText(line, Qt.AlignmentFlag.AlignRight, number(high, decimals))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.edges is None:
            return
        x = event.position().x()
        away = {"low": abs(self.x_of(self.low) - x), "high": abs(self.x_of(self.high) - x)}
        nearest = min(away, key=lambda end: away[end])
        self._dragged = nearest
        self._drag(x)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._dragged:
            self._drag(event.position().x())

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        self._dragged = ""

    def mouseDoubleClickEvent(self, _event: QMouseEvent) -> None:
        self.low, self.high = self.span
        self.moved.emit(self.low, self.high)
        self.update()

    def _drag(self, x: float) -> None:
        low, high = self.span
        value = low + (min(max(x, BARS.left()), BARS.right()) - BARS.left()) / BARS.width() * (high - low)
        if self._dragged == "low":
            self.low = min(value, self.high)
        else:
            self.high = max(value, self.low)
        self.moved.emit(self.low, self.high)
        self.update()


class FilterCard(QWidget):
    """Choose an attribute, then what of it is shown."""

    tried = Signal(object)
    column_chosen = Signal(str)
    cleared = Signal()
    save_wanted = Signal()
    saved_wanted = Signal(str)
    closed = Signal()
    pick_wanted = Signal()

    def __init__(self, theme: Theme, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(WIDTH)
        self.column = ""
        self._saved: list[str] = []
        self._filling = False
        whole = QVBoxLayout(self)
        whole.setContentsMargins(12, 10, 12, 10)
        whole.setSpacing(8)
        head = QHBoxLayout()
        head.addWidget(Label("Show by"))
        self.columns = made(QComboBox(), toolTip="The attribute that decides which points are shown")
        self.columns.activated.connect(lambda _i: self.column_chosen.emit(self.columns.currentData()))
        head.addWidget(self.columns, 1)
        self.fold = made(QToolButton(), text="▾", toolTip="Fold the card to this line, or unfold it", checkable=True)
        self.fold.setAccessibleName("Fold ▾ ▸")
        self.fold.toggled.connect(self._folded)
        head.addWidget(self.fold)
        whole.addLayout(head)
        self.stack = QStackedWidget()
        self.stack.addWidget(self._range_page(theme))
        self.stack.addWidget(self._values_page())
        self.stack.addWidget(self._colour_page())
        whole.addWidget(self.stack)
        row = QHBoxLayout()
        row.setSpacing(6)
        self.saved = made(QPushButton("Saved ▾"), toolTip="Filters that were saved by name in this job")
        self.saved.clicked.connect(self._menu)
        save = made(QPushButton("Save…"), toolTip="Keep all filters that are set by a name, in the job")
        save.clicked.connect(self.save_wanted)
        clear = made(QPushButton("Show all"), toolTip="Drop all filters")
        clear.clicked.connect(self.cleared)
        close = made(QPushButton("Close"), toolTip="Put the card away; the filters stay")
        close.clicked.connect(self.closed)
        for button in (self.saved, save, clear, close):
            button.setProperty("role", "narrow")
            row.addWidget(button)
        self.tail = QWidget()
        self.tail.setLayout(row)
        row.setContentsMargins(0, 0, 0, 0)
        whole.addWidget(self.tail)
        self.hide()

    def _folded(self, on: bool) -> None:
        self.fold.setText("▸" if on else "▾")
        for part in (self.stack, self.tail):
            part.setVisible(not on)
        self.adjustSize()

    def _range_page(self, theme: Theme) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        self.bars = RangeBars(theme)
        self.bars.moved.connect(self._dragged)
        column.addWidget(self.bars)
        row = QHBoxLayout()
        about = Setting("Limit", "Shown from here on", "")
        self.low, self.high = NumberField(about, True), NumberField(about, True)
        for field, words in ((self.low, "from"), (self.high, "to")):
            field.setFixedWidth(104)
            field.setAccessibleName(f"Shown {words}")
            field.committed.connect(lambda _v: self._typed())
            row.addWidget(Label(words))
            row.addWidget(field)
        row.addStretch(1)
        column.addLayout(row)
        return page

    def _values_page(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        self.values = made(QListWidget(), toolTip="Ticked values are shown")
        self.values.itemChanged.connect(lambda _item: self._ticked())
        self.values.setFixedHeight(150)
        column.addWidget(self.values)
        row = QHBoxLayout()
        for words, on in (("Tick all", True), ("Tick none", False)):
            button = QPushButton(words)
            button.setProperty("role", "link")
            button.clicked.connect(lambda _on, o=on: self._tick_all(o))
            row.addWidget(button)
        row.addStretch(1)
        column.addLayout(row)
        return page

    def _colour_page(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout()
        self.swatch = made(QPushButton("Choose a colour…"), toolTip="Points of about this colour are shown")
        self.swatch.clicked.connect(self._choose_colour)
        row.addWidget(self.swatch)
        self.pick = made(QPushButton("Take from a point"), toolTip="Click a point in the view: its colour is asked for")
        self.pick.clicked.connect(self.pick_wanted)
        row.addWidget(self.pick)
        row.addStretch(1)
        column.addLayout(row)
        self.tolerance = made(QSlider(Qt.Orientation.Horizontal), minimum=1, maximum=128, value=TOLERANCE)
        self.tolerance.setToolTip("How far red, green and blue may be off, of 255")
        self.tolerance.valueChanged.connect(lambda _v: self._coloured())
        column.addWidget(Label("Tolerance"))
        column.addWidget(self.tolerance)
        column.addStretch(1)
        self.colour: tuple[int, ...] = ()
        return page

    def set_columns(self, names: list[tuple[str, str]], chosen: str) -> None:
        """List the attributes."""
        self.columns.clear()
        for key, title in names:
            self.columns.addItem(title, key)
        self.columns.setCurrentIndex(max(self.columns.findData(chosen), 0))

    def set_saved(self, names: list[str]) -> None:
        """Name the saved filters."""
        self._saved = names
        self.saved.setEnabled(bool(names))

    def show_range(self, column: str, spread: tuple[Floats, Floats], unit: str, mine: Filter | None) -> None:
        """Show the spread of an attribute, with the limits of its filter."""
        self.column, self.unit = column, unit
        low, high = float(spread[0][0]), float(spread[0][-1])
        if mine is not None and not mine.values:
            low, high = (own if own is not None else end for own, end in ((mine.low, low), (mine.high, high)))
        self.bars.show_spread(spread, low, high)
        self._show_limits()
        self.stack.setCurrentIndex(0)

    def show_values(self, column: str, entries: list[tuple[int, str, int]], mine: Filter | None) -> None:
        """Show values to tick, (value, words, points)."""
        self.column = column
        self._filling = True
        self.values.clear()
        for code, words, points in entries:
            item = QListWidgetItem(f"{words}    {count(points)}")
            item.setData(Qt.ItemDataRole.UserRole, code)
            passes = mine is None or (code in mine.values) != mine.outside
            item.setCheckState(Qt.CheckState.Checked if passes else Qt.CheckState.Unchecked)
            self.values.addItem(item)
        self._filling = False
        self.stack.setCurrentIndex(1)

    def show_colour(self, mine: Filter | None) -> None:
        """Show the colour that is asked for."""
        self.column = COLOUR
        self._filling = True
        self.colour = mine.colour if mine is not None else ()
        self.tolerance.setValue(mine.tolerance if mine is not None else TOLERANCE)
        self._filling = False
        self._paint_swatch()
        self.stack.setCurrentIndex(2)

    def take_colour(self, colour: tuple[int, ...]) -> None:
        """Ask for points of about this colour."""
        self.colour = colour
        self._paint_swatch()
        self._coloured()

    def _dragged(self, low: float, high: float) -> None:
        self._show_limits()
        span = self.bars.span
        # An end at the edge is no limit: what lies beyond the drawn spread is shown too.
        ends = (low if low > span[0] else None, high if high < span[1] else None)
        self.tried.emit(Filter(self.column, low=ends[0], high=ends[1]) if ends != (None, None) else None)

    def _show_limits(self) -> None:
        self.low.show_value(self.bars.low, self.unit)
        self.high.show_value(self.bars.high, self.unit)

    def _typed(self) -> None:
        values = []
        for field, end in ((self.low, self.bars.span[0]), (self.high, self.bars.span[1])):
            text = field.text().replace("\u2009", "").replace(",", ".").strip()
            values.append(float(text) if text else end)
        self.bars.low, self.bars.high = min(values), max(values)
        self.bars.update()
        self.tried.emit(Filter(self.column, low=min(values), high=max(values)))

    def _ticked(self) -> None:
        if self._filling:
            return
        items = [self.values.item(row) for row in range(self.values.count())]
        off = [i.data(Qt.ItemDataRole.UserRole) for i in items if i.checkState() != Qt.CheckState.Checked]
        on = [i.data(Qt.ItemDataRole.UserRole) for i in items if i.checkState() == Qt.CheckState.Checked]
        if not off:
            self.tried.emit(None)
        elif len(on) <= len(off) and on:
            self.tried.emit(Filter(self.column, tuple(on)))
        else:
            self.tried.emit(Filter(self.column, tuple(off), outside=True))

    def _tick_all(self, on: bool) -> None:
        self._filling = True
        for row in range(self.values.count()):
            self.values.item(row).setCheckState(Qt.CheckState.Checked if on else Qt.CheckState.Unchecked)
        self._filling = False
        self._ticked()

    def _choose_colour(self) -> None:
        start = QColor(*self.colour) if self.colour else QColor("#808080")
        chosen = QColorDialog.getColor(start, self, "Show points of about this colour")
        if chosen.isValid():
            self.take_colour((chosen.red(), chosen.green(), chosen.blue()))

    def _coloured(self) -> None:
        if not self._filling and self.colour:
            self.tried.emit(Filter(COLOUR, colour=self.colour, tolerance=self.tolerance.value()))

    def _paint_swatch(self) -> None:
        if self.colour:
            ink = "#ffffff" if sum(self.colour) < 380 else "#000000"
            self.swatch.setStyleSheet(f"background: rgb{tuple(self.colour)}; color: {ink};")
            self.swatch.setText(f"#{bytes(self.colour).hex()}")
        else:
            self.swatch.setStyleSheet("")
            self.swatch.setText("Choose a colour…")

    def _menu(self) -> None:
        menu = QMenu(self)
        for name in self._saved:
            menu.addAction(name, lambda n=name: self.saved_wanted.emit(n))
        menu.popup(self.saved.mapToGlobal(self.saved.rect().bottomLeft()))
        self.menu_shown = menu
