"""The title block of a job: names for reports, decimals, page and logo."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from kerb.app.session import Session
from kerb.app.widgets import made
from kerb.core.quantity import PRINTED_IN, symbol
from kerb.job.job import Change
from kerb.job.state import JobState
from kerb.report.pages import PAGES

VOLUMES_IN, AREAS_IN = ("yd3",), ("acre", "ha")


class TitleBlock(QDialog):
    """Edit the title block; one undoable step."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("Title block")
        self.setMinimumWidth(430)
        title = session.open_job.state.title
        outer = QVBoxLayout(self)
        form = QFormLayout()
        outer.addLayout(form)
        self.fields = {key: QLineEdit(getattr(title, key)) for key in ("name", "client", "site", "analyst", "logo")}
        for key, words in (("name", "Job"), ("client", "Client"), ("site", "Site"), ("analyst", "Analyst")):
            form.addRow(words, self.fields[key])
            self.fields[key].setAccessibleName(words)
        self.fields["name"].selectAll()
        self.fields["logo"].setAccessibleName("Logo")
        row = QHBoxLayout()
        row.addWidget(self.fields["logo"])
        browse = QPushButton("Choose…")
        browse.clicked.connect(self._choose_logo)
        row.addWidget(browse)
        form.addRow("Logo (PNG or JPEG)", row)
        self.decimals = {}
        for key, words in (("length", "Decimals of lengths"), ("area", "Decimals of areas"),
                           ("volume", "Decimals of volumes"), ("mass", "Decimals of masses")):  # fmt: skip
            box = made(QSpinBox(), minimum=0, maximum=6, value=getattr(title.decimals, key))
            box.setToolTip(
                "The most that are shown, and no more than the 95 % bound allows; computation keeps full precision"
            )
            box.setAccessibleName(words)
            self.decimals[key] = box
            form.addRow(words, box)
        self.printed: dict[str, QComboBox] = {}
        for key, words, offers in (
            ("volume_in", "Volumes in", VOLUMES_IN), ("area_in", "Areas in", AREAS_IN),
        ):  # fmt: skip
            combo = made(QComboBox(), toolTip=f"{words}: on screen and in reports; files and JSON keep the job unit")
            own = f"{title.unit}{'3' if key == 'volume_in' else '2'}"
            combo.addItem(symbol(own), "")
            for code in offers:
                if (code, own) in PRINTED_IN:
                    combo.addItem(symbol(PRINTED_IN[code, own][1]), code)
            combo.setCurrentIndex(max(combo.findData(getattr(title.decimals, key)), 0))
            self.printed[key] = combo
            form.addRow(words, combo)
        self.page = made(QComboBox(), toolTip="Page of reports")
        self.page.addItems(list(PAGES))
        self.page.setCurrentText(title.page)
        form.addRow("Page of reports", self.page)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        outer.addWidget(buttons)

    def _choose_logo(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Choose a logo", "", "Pictures (*.png *.jpg *.jpeg)")
        if path:
            self.fields["logo"].setText(path)

    def accept(self) -> None:
        values: dict[str, Any] = {key: field.text().strip() for key, field in self.fields.items()}
        values["name"] = values["name"] or "Untitled job"
        decimals: dict[str, Any] = {key: box.value() for key, box in self.decimals.items()}
        decimals |= {key: combo.currentData() for key, combo in self.printed.items()}
        page = self.page.currentText()

        def apply(state: JobState) -> JobState:
            title = replace(state.title, page=page, decimals=replace(state.title.decimals, **decimals), **values)
            return replace(state, title=title)

        self.session.execute(Change("Changed the title block", apply, {**values, **decimals, "page": page}))
        super().accept()
