"""A table in a window of its own, to read and to copy."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QAbstractItemView, QDialog, QHBoxLayout, QPushButton, QTableView, QVBoxLayout, QWidget

from kerb.app.panels.table_model import TableModel
from kerb.app.session import Session
from kerb.app.widgets import Label, made
from kerb.report.text import tab_separated
from kerb.studies.outcome import Table

# What is told apart here is smaller than what a job usually shows.
LEAST_DECIMALS = 4


class TableDialog(QDialog):
    """A heading, what the table says, its rows, and a button that copies them as text."""

    def __init__(self, heading: str, table: Table, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.table = table
        self.setWindowTitle(heading)
        self.resize(860, 340)
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 14)
        title = Label(heading)
        title.setProperty("role", "heading")
        column.addWidget(title)
        column.addWidget(made(Label(table.title), wordWrap=True))
        decimals = replace(session.decimals, length=max(session.decimals.length, LEAST_DECIMALS))
        self.view = QTableView()
        self.view.setAccessibleName(heading)
        self.view.setModel(TableModel(table, decimals))
        self.view.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.view.verticalHeader().hide()
        self.view.setShowGrid(False)
        self.view.resizeColumnsToContents()
        column.addWidget(self.view, 1)
        row = QHBoxLayout()
        row.addStretch(1)
        copy, close = QPushButton("Copy as text"), QPushButton("Close")
        copy.clicked.connect(self.copy)
        close.clicked.connect(self.accept)
        row.addWidget(copy)
        row.addWidget(close)
        column.addLayout(row)

    def copy(self) -> None:
        """Put the table on the clipboard, for a spreadsheet."""
        QGuiApplication.clipboard().setText(tab_separated(self.table))
