"""Deliver: choose studies, sections and page, see the report as it will be, and write it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pypdfium2 as pdfium
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from kerb.app.session import Session
from kerb.app.sheets.fields import column, section
from kerb.app.tasks import Latest
from kerb.core.errors import KerbError
from kerb.job.job import Change
from kerb.report.pages import PAGES
from kerb.report.pdf import SECTIONS, USUAL, Chapter, ReportWish, make_report
from kerb.report.text import comma_separated, figures_table

PREVIEW_SCALE = 1.25


class Deliver(QDialog):
    """The report with a live preview."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("Deliver")
        self.resize(1080, 740)
        self.pdf = b""
        self.worker = Latest("report", self)
        self.worker.done.connect(self._arrived)
        self._timer = QTimer(self, singleShot=True, interval=150)
        self._timer.timeout.connect(self._render)
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        left = QWidget()
        left.setFixedWidth(280)
        self.column = column(left, (18, 16, 18, 14))
        outer.addWidget(left)
        self._build_studies()
        self._build_sections()
        self._build_buttons()
        scroll = QScrollArea(widgetResizable=True)
        body = QWidget()
        self.pages = QVBoxLayout(body)
        self.pages.setSpacing(14)
        self.pages.setContentsMargins(18, 18, 18, 18)
        scroll.setWidget(body)
        scroll.setAccessibleName("Preview of the report")
        outer.addWidget(scroll, 1)
        self._show_words("Making the preview…")
        self._timer.start()

    def _build_studies(self) -> None:
        self.column.addWidget(section("Studies"))
        self.studies: dict[str, QCheckBox] = {}
        for study in self.session.job.state.studies:
            box = QCheckBox(study.name)
            ready = study.outcome is not None
            box.setEnabled(ready)
            box.setChecked(ready and study.in_report)
            if not ready:
                box.setToolTip("Not computed yet")
            elif self.session.stale(study):
                box.setText(f"{study.name} (out of date)")
                box.setToolTip("Its inputs changed since it was computed; compute it first")
            box.toggled.connect(lambda _on: self._timer.start())
            self.studies[study.id] = box
            self.column.addWidget(box)

    def _build_sections(self) -> None:
        self.column.addSpacing(10)
        self.column.addWidget(section("Sections"))
        chosen = self.session.settings.get("report_sections", list(USUAL))
        self.sections: dict[str, QCheckBox] = {}
        for key, words in SECTIONS.items():
            box = QCheckBox(words)
            box.setChecked(key in chosen)
            box.toggled.connect(lambda _on: self._timer.start())
            self.sections[key] = box
            self.column.addWidget(box)
        self.column.addSpacing(10)
        self.column.addWidget(section("Page"))
        self.page = QComboBox(toolTip="Page size")
        for name in PAGES:
            self.page.addItem(name, name)
        self.page.setCurrentText(self.session.job.state.title.page)
        self.page.activated.connect(lambda _i: self._timer.start())
        self.column.addWidget(self.page)
        block = QPushButton("Edit title block…")
        block.clicked.connect(self._edit_title)
        self.column.addWidget(block)
        self.column.addStretch(1)

    def _build_buttons(self) -> None:
        self.note = QLabel("", wordWrap=True)
        self.note.setProperty("role", "small")
        self.column.addWidget(self.note)
        tables = QPushButton("Save figures as CSV…", toolTip="All figures of the chosen studies, full precision")
        tables.clicked.connect(self._save_csv)
        self.save = QPushButton("Save report…")
        self.save.setProperty("role", "main")
        self.save.setDefault(True)
        self.save.clicked.connect(self._save)
        self.column.addWidget(tables)
        self.column.addWidget(self.save)

    def wish(self) -> ReportWish:
        """What was chosen."""
        sections = tuple(key for key, box in self.sections.items() if box.isChecked())
        title = replace(self.session.job.state.title, page=self.page.currentData())
        return ReportWish(title, sections)

    def chapters(self) -> list[Chapter]:
        """The chosen studies with what they found."""
        job, made = self.session.job, []
        for study in job.state.studies:
            box, outcome = self.studies.get(study.id), self.session.outcome(study)
            if box is None or not box.isChecked() or outcome is None:
                continue
            if self.session.stale(study):
                from kerb.studies.outcome import Note

                stale = Note("stale", "Out of date: inputs changed after this was computed.")
                outcome = replace(outcome, warnings=[stale, *outcome.warnings])
            holding = job.state.holding(study.setup.get("cloud", ""))
            made.append(Chapter(study.name, outcome, job.store(holding) if holding else None))
        return made

    def _render(self) -> None:
        chapters, wish = self.chapters(), self.wish()
        self.session.settings.set("report_sections", list(wish.sections))
        self.worker.submit(lambda _overtaken: make_report(chapters, wish))

    def _arrived(self, result: object) -> None:
        if not isinstance(result, bytes):
            self._show_words(f"The report could not be made: {result}")
            self.save.setEnabled(False)
            return
        self.pdf = result
        self.save.setEnabled(True)
        self._clear()
        ratio = self.devicePixelRatioF()
        document = pdfium.PdfDocument(result)
        try:
            for number in range(len(document)):
                bitmap = document[number].render(scale=PREVIEW_SCALE * ratio, rev_byteorder=True)
                picture = bitmap.to_pil().convert("RGB")
                image = QImage(
                    picture.tobytes(),
                    picture.width,
                    picture.height,
                    picture.width * 3,
                    QImage.Format.Format_RGB888,
                ).copy()
                image.setDevicePixelRatio(ratio)
                label = QLabel(alignment=Qt.AlignmentFlag.AlignHCenter)
                label.setPixmap(QPixmap.fromImage(image))
                self.pages.addWidget(label)
        finally:
            document.close()
        count = self.pages.count()
        self.note.setText(f"{count} page{'s' if count != 1 else ''}, {len(result) / 1024:.0f} kB")

    def _show_words(self, words: str) -> None:
        self._clear()
        self.pages.addWidget(QLabel(words, alignment=Qt.AlignmentFlag.AlignCenter))

    def _clear(self) -> None:
        while self.pages.count():
            widget = self.pages.takeAt(0).widget()
            if widget is not None:
                widget.setParent(None)
                widget.deleteLater()

    def _edit_title(self) -> None:
        from kerb.app.dialogs.title import TitleBlock

        if TitleBlock(self.session, self).exec():
            self.page.setCurrentText(self.session.job.state.title.page)
            self._timer.start()

    def _save(self) -> None:
        start = str(Path(self.session.settings.get("report_folder", str(Path.home()))) / f"{self._stem()}.pdf")
        path, _ = QFileDialog.getSaveFileName(self, "Save report", start, "PDF (*.pdf)")
        if path:
            self.save_to(Path(path))

    def save_to(self, path: Path) -> None:
        """Write the report as previewed, and say so in the job record."""
        partial = path.with_name(path.name + ".partial")
        try:
            partial.write_bytes(self.pdf or make_report(self.chapters(), self.wish()))
            partial.replace(path)
        except (OSError, KerbError) as error:
            partial.unlink(missing_ok=True)
            self.session.complained.emit("The report was not saved", f"{path}: {error}")
            return
        self.session.settings.set("report_folder", str(path.parent))
        page, names = self.page.currentData(), [b.text() for b in self.studies.values() if b.isChecked()]
        change = Change(
            f"Delivered report {path.name}",
            lambda state: replace(state, title=replace(state.title, page=page)),
            {"studies": names},
            undoable=False,
        )
        self.session.job.note(change)
        self.session.said.emit(f"Report saved as {path}")
        self.accept()

    def _save_csv(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Save figures", f"{self._stem()}.csv", "CSV (*.csv)")
        if not path:
            return
        text = ""
        for chapter in self.chapters():
            text += f"{chapter.name}\r\n{comma_separated(figures_table(chapter.outcome))}\r\n"
        try:
            Path(path).write_text(text, encoding="utf-8", newline="")
        except OSError as error:
            self.session.complained.emit("The figures were not saved", f"{path}: {error}")

    def _stem(self) -> str:
        return "".join(c if c.isalnum() or c in " -_" else "-" for c in self.session.job.state.title.name).strip()

    def done(self, result: int) -> None:
        self._timer.stop()
        self.worker.close()
        super().done(result)
