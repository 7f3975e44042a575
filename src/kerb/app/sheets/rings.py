"""A table of many drawn rings: ticked ones count; names, materials and other values are typed in place."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from kerb.app.session import Session
from kerb.app.widgets import plain
from kerb.core.setting import Setting
from kerb.studies.drawn import Item
from kerb.studies.fields import Field

ROW, MOST_ROWS = 26, 9


class RingsTable(QTableWidget):
    """Rows of rings. ``committed`` gives all of them as they shall be, and what was done."""

    committed = Signal(object, str)

    def __init__(self, session: Session, about: Field) -> None:
        super().__init__(0, 1 + len(about.own))
        self.session, self.about = session, about
        self.shown: tuple[Item, ...] = ()
        self._filling = False
        self.setHorizontalHeaderLabels(["Name", *(own.label for own in about.own)])
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(ROW)
        header = self.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.setShowGrid(False)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setToolTip("Tick what counts; double-click or F2 types a name or value. Delete removes the chosen rows")
        self.setTabKeyNavigation(False)
        self.itemChanged.connect(self._changed)

    def show_items(self, items: tuple[Item, ...], density: str) -> None:
        """Mirror rings; ``density`` is the printed unit of densities."""
        heads = ["Name"]
        for own in self.about.own:
            heads.append(f"{own.label}\n{density}" if own.unit == "density" else own.label)
        self.setHorizontalHeaderLabels(heads)
        self.setVisible(bool(items))
        if items == self.shown and self.rowCount() == len(items):
            return
        self.shown, self._filling = items, True
        self.setRowCount(len(items))
        for row, item in enumerate(items):
            name = QTableWidgetItem(item.name)
            name.setCheckState(Qt.CheckState.Checked if item.taken else Qt.CheckState.Unchecked)
            self.setItem(row, 0, name)
            for place, own in enumerate(self.about.own, 1):
                cell = QTableWidgetItem(said(own, item.value(own.label.lower())))
                if own.choices:
                    # What it is drawn as follows from it: another one is drawn anew.
                    cell.setFlags(cell.flags() & ~Qt.ItemFlag.ItemIsEditable)
                    way = next((w for w in self.about.ways if w.id == item.value(own.label.lower())), None)
                    cell.setToolTip(plain(way.help if way is not None else own.help))
                self.setItem(row, place, cell)
        self._filling = False
        self.setFixedHeight(self.horizontalHeader().sizeHint().height() + ROW * min(len(items), MOST_ROWS) + 4)

    def _changed(self, cell: QTableWidgetItem) -> None:
        if self._filling or cell.row() >= len(self.shown):
            return
        before = self.shown[cell.row()]
        if cell.column() == 0:
            taken = cell.checkState() == Qt.CheckState.Checked
            name = cell.text().strip() or before.name
            after, words = replace(before, name=name, taken=taken), f"named {name}"
            if taken != before.taken:
                words = f"{'counts' if taken else 'leaves out'} {name}"
        else:
            own = self.about.own[cell.column() - 1]
            value, wrong = _value(own, cell.text())
            if wrong:
                self.session.said.emit(wrong)
                value = before.value(own.label.lower())
            after = before.with_value(own.label.lower(), value)
            words = f"{own.label.lower()} of {before.name} set to {value if value is not None else 'that of the study'}"
        if after == before:
            self.shown = ()  # what was typed is shown as it was
            return
        self.committed.emit(tuple(after if i.key == before.key else i for i in self.shown), words)

    def keyPressEvent(self, event: object) -> None:
        """Delete removes the chosen rows."""
        key = getattr(event, "key", lambda: 0)()
        if key == Qt.Key.Key_Delete and self.selectionModel().selectedRows():
            gone = {index.row() for index in self.selectionModel().selectedRows()}
            rest = tuple(item for row, item in enumerate(self.shown) if row not in gone)
            self.committed.emit(rest, f"removed {len(gone)}")
        else:
            super().keyPressEvent(event)  # type: ignore[arg-type]


def said(own: Setting, value: object) -> str:
    """A value of an item as a table shows it."""
    if value is None:
        return ""
    return f"{value:g}" if isinstance(value, float) else dict(own.choices).get(str(value), str(value))


def _value(own: Setting, text: str) -> tuple[str | float | None, str]:
    """What a typed text is for a value, and what is wrong with it."""
    text = text.strip()
    if not text:
        return None, ""
    if own.unit == "text":
        return text, ""
    try:
        value = float(text.replace(",", "."))
    except ValueError:
        return None, f"{own.label}: “{text}” is not a number"
    if not value < float("inf") or (own.low is not None and value <= own.low):
        return None, f"{own.label}: must be above {own.low:g}"
    return value, ""
