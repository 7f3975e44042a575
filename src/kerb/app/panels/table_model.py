"""Tables of outcomes for the table views of the toolkit."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

import numpy as np
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt

from kerb.core.quantity import Decimals, number
from kerb.report.text import bound_by, heading, printed_cell, printed_columns
from kerb.studies.outcome import Table

SORTED = Qt.ItemDataRole.UserRole
# Rows that tell whether a column holds numbers.
LOOKED_AT = 200
Index = QModelIndex | QPersistentModelIndex


def _is_number(value: object) -> bool:
    return isinstance(value, (int, float, np.number)) and not isinstance(value, bool)


class TableModel(QAbstractTableModel):
    """A table of an outcome, however long: cells are made when they are looked at."""

    def __init__(self, table: Table, decimals: Decimals, right: Collection[str] = ()) -> None:
        """``right`` names columns of text that stand at the right, as numbers do."""
        super().__init__()
        self.table, self.decimals = table, decimals
        numbers = [any(_is_number(row[n]) for row in table.rows[:LOOKED_AT]) for n in range(len(table.columns))]
        self.right = [number or c.name in right for number, c in zip(numbers, table.columns, strict=True)]
        self.columns, self.bounds = printed_columns(table, decimals), bound_by(table)

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008 as Qt has it
        """Rows."""
        return 0 if parent.isValid() else len(self.table.rows)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        """Columns."""
        return 0 if parent.isValid() else len(self.table.columns)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """A cell as text, as what it is sorted by, or how it stands."""
        value = self.table.rows[index.row()][index.column()]
        is_number = _is_number(value)
        if role == SORTED:
            return float(value) if is_number else -np.inf if value is None else str(value)
        if role == Qt.ItemDataRole.DisplayRole:
            if is_number:
                if isinstance(value, (int, np.integer)):
                    return number(float(value), 0)
                row = self.table.rows[index.row()]
                return printed_cell(self.table, row, index.column(), self.decimals, self.bounds)
            return "—" if value is None else str(value)
        if role == Qt.ItemDataRole.TextAlignmentRole and self.right[index.column()]:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Headings with units."""
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return heading(self.columns[section])
        return None
