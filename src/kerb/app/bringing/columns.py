"""The start of a text file as a table, with what each column is above it, to be corrected."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHBoxLayout,
    QSpinBox,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from kerb.app.widgets import Choice, Label, made, plain
from kerb.core.quantity import count
from kerb.formats.text_table import BLANK, KEEP, ROLES, SKIP, STYLES, Sniffed, TextPlan

WORDS = {
    "easting": "Easting", "northing": "Northing", "elevation": "Elevation", "name": "Name", "code": "Code",
    "red": "Red", "green": "Green", "blue": "Blue", "intensity": "Intensity", "classification": "Class",
    KEEP: "Keep", SKIP: "Leave out",
}  # fmt: skip
MARKS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "bar", BLANK: "blanks"}
ORDERS = (
    ("Name, northing, easting, elevation, code", ("name", "northing", "easting", "elevation", "code")),
    ("Name, easting, northing, elevation, code", ("name", "easting", "northing", "elevation", "code")),
    ("Northing, easting, elevation, name", ("northing", "easting", "elevation", "name")),
    ("Easting, northing, elevation, name", ("easting", "northing", "elevation", "name")),
    ("Easting, northing, elevation", ("easting", "northing", "elevation")),
    ("Northing, easting, elevation", ("northing", "easting", "elevation")),
)
SHOWN_ROWS = 40


class Columns(QWidget):
    """Says how the file is read in words, offers the usual orders, and lets each column be chosen."""

    changed = Signal(object)
    reread = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.plan = TextPlan()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        row = QHBoxLayout()
        self.words = Label("")
        self.words.setProperty("role", "small")
        self.order = Choice()
        self.order.setToolTip("Give all columns one of the usual orders")
        self.order.setAccessibleName("Order of the columns")
        self.order.addItem("Order of columns…", None)
        for words, roles in ORDERS:
            self.order.addItem(words, roles)
        self.order.activated.connect(lambda _i: self._take_order(self.order.currentData()))
        row.addWidget(self.words, 1)
        row.addWidget(self.order)
        column.addLayout(row)
        column.addLayout(self._corrections())
        self.table = QTableWidget()
        self.table.setAccessibleName("Columns of the file, with what they are")
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        self.table.verticalHeader().hide()
        self.table.horizontalHeader().hide()
        self.table.setMinimumHeight(150)
        column.addWidget(self.table)
        self.boxes: list[QComboBox] = []

    def _corrections(self) -> QHBoxLayout:
        """How the lines are cut and the numbers written, where the guess was wrong."""
        row = QHBoxLayout()
        self.mark, self.numbers = Choice(), Choice()
        for mark, words in MARKS.items():
            self.mark.addItem(words, mark)
        for style in STYLES:
            group = {"": "", " ": " · thousands by blank"}.get(style.thousands, f" · thousands by {style.thousands}")
            self.numbers.addItem(f"1{style.decimal}5{group}", style)
        self.skip = made(QSpinBox(), minimum=0, maximum=10_000)
        for words, widget, tip in (
            ("Columns parted by", self.mark, "What stands between two columns"),
            ("numbers like", self.numbers, "Decimal mark, and what groups thousands"),
            ("skip", self.skip, "Lines before the data, the heading among them"),
        ):
            widget.setToolTip(plain(tip))
            widget.setAccessibleName(tip)
            row.addWidget(Label(words))
            row.addWidget(widget)
        row.addWidget(Label("lines"))
        row.addStretch(1)
        self.mark.activated.connect(lambda _i: self._reread())
        self.numbers.activated.connect(lambda _i: self._reread())
        self.skip.editingFinished.connect(self._reread)
        return row

    def _reread(self) -> None:
        mark, style, skip = self.mark.currentData(), self.numbers.currentData(), self.skip.value()
        wanted = replace(self.plan, delimiter=mark, style=style, skip=skip)
        if wanted != self.plan:
            self.reread.emit(wanted)

    def show_text(self, look: Sniffed, plan: TextPlan) -> None:
        """Show the first rows of a file with the roles of a plan."""
        self.plan = plan
        style = plan.style
        self.words.setText(f"The first of about {count(look.about)} lines")
        self.mark.setCurrentIndex(self.mark.findData(plan.delimiter))
        self.numbers.setCurrentIndex(STYLES.index(style))
        self.skip.setValue(plan.skip)
        width = len(plan.roles)
        self.table.clear()
        self.table.setColumnCount(width)
        self.table.setRowCount(min(len(look.rows), SHOWN_ROWS) + 1)
        self.boxes = []
        for c in range(width):
            box = Choice()
            box.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            for role in (*ROLES, KEEP, SKIP):
                box.addItem(WORDS[role], role)
            box.setCurrentIndex(box.findData(plan.roles[c]))
            heading = plan.headings[c] if c < len(plan.headings) else f"column {c + 1}"
            box.setToolTip(plain(f"What “{heading}” is"))
            box.setAccessibleName(f"Column {c + 1}")
            box.activated.connect(lambda _i, c=c: self._take_role(c))
            self.boxes.append(box)
            self.table.setCellWidget(0, c, box)
        for r, cells in enumerate(look.rows[:SHOWN_ROWS], 1):
            for c, cell in enumerate(cells):
                item = QTableWidgetItem(cell)
                if STYLES[0].pattern.match(cell) or style.pattern.match(cell):
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.table.setItem(r, c, item)
        self.table.resizeColumnsToContents()
        for c in range(width):
            self.table.setColumnWidth(c, max(self.table.columnWidth(c), 104))
        self.table.setRowHeight(0, 32)
        self.order.setCurrentIndex(0)

    def _take_role(self, column: int) -> None:
        self.changed.emit(self.plan.with_role(column, self.boxes[column].currentData()))

    def _take_order(self, roles: tuple[str, ...] | None) -> None:
        if roles is None:
            return
        width = len(self.plan.roles)
        padded = (*roles, *([KEEP] * width))[:width]
        self.changed.emit(TextPlan(**{**vars(self.plan), "roles": padded}))
