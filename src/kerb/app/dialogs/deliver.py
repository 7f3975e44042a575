"""Deliver: choose studies, sections and page, see the report as it will be, and write it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import pypdfium2 as pdfium
from PySide6.QtCore import QObject, Qt, QTimer, Signal
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from kerb.app.dialogs.questions import shown_once
from kerb.app.dialogs.write import ask_target
from kerb.app.session import Session
from kerb.app.sheets.fields import column, section
from kerb.app.tasks import Latest
from kerb.app.widgets import Label, emptied, plain
from kerb.core.errors import KerbError
from kerb.core.progress import Progress
from kerb.formats.written import placed_when_complete
from kerb.job.job import Change
from kerb.report.deliver import chapter_of, out_of_date
from kerb.report.pages import PAGES
from kerb.report.pdf import SECTIONS, USUAL, Chapter, ReportWish, make_parts
from kerb.report.text import write_figures
from kerb.report.write import AS_DOCUMENT, AS_PAGES, made_for

PREVIEW_SCALE, SMALLEST_SCALE = 1.25, 0.5
# Width of the lists, and what a window has round it.
COLUMN, FRAME, BESIDE = 292, 60, 18


@dataclass(frozen=True)
class Made:
    """The next pages of a preview as pictures; ``number`` says of which."""

    number: int
    pages: list[QImage]


def pages_of(pdf: bytes, ratio: float, room: float = 1e6) -> list[QImage]:
    """The pages of a report as pictures for a screen of ``ratio`` pixels a unit, no wider than a room; on any thread, one at
    a time."""
    document, pages = pdfium.PdfDocument(pdf), []
    try:
        for number in range(len(document)):
            page = document[number]
            scale = max(min(PREVIEW_SCALE, room / page.get_width()), SMALLEST_SCALE)
            picture = page.render(scale=scale * ratio, rev_byteorder=True).to_pil().convert("RGB")
            wide, high = picture.size
            image = QImage(picture.tobytes(), wide, high, wide * 3, QImage.Format.Format_RGB888).copy()
            image.setDevicePixelRatio(ratio)
            pages.append(image)
    finally:
        document.close()
    return pages


class Deliver(QDialog):
    """The report with a live preview, whose pages are shown as they are made."""

    came = Signal(object)

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("Deliver")
        room = (parent.window().screen() or self.screen()).availableGeometry()
        self.resize(min(1080, room.width() - FRAME), min(740, room.height() - FRAME))
        self.worker = Latest("report", self)
        self.worker.done.connect(self._ended)
        # Pages come one by one from the worker; those of a preview that was overtaken are dropped.
        self.number, self.fresh = 0, True
        self.came.connect(self._arrived)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(150)
        self._timer.timeout.connect(self._render)
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        left = QWidget()
        left.setFixedWidth(COLUMN)
        side = QVBoxLayout(left)
        side.setContentsMargins(0, 0, 0, 0)
        side.setSpacing(0)
        lists, buttons = QWidget(), QWidget()
        # What is long scrolls; the buttons are always there.
        wheel = QScrollArea()
        wheel.setWidgetResizable(True)
        wheel.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        wheel.setFrameShape(QScrollArea.Shape.NoFrame)
        wheel.setAccessibleName("Studies and sections of the report")
        wheel.setWidget(lists)
        side.addWidget(wheel, 1)
        side.addWidget(buttons)
        outer.addWidget(left)
        self.column = column(lists, (18, 16, 18, 8))
        self._build_studies()
        self._build_sections()
        self.column = column(buttons, (18, 8, 18, 14))
        self._build_buttons()
        self.preview = scroll = QScrollArea()
        # Its room is kept, so that pages are as wide as what is left from the first one on.
        scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOn)
        scroll.setWidgetResizable(True)
        body = QWidget()
        self.pages = QVBoxLayout(body)
        self.pages.setSpacing(14)
        self.pages.setContentsMargins(BESIDE, BESIDE, BESIDE, BESIDE)
        scroll.setWidget(body)
        scroll.setAccessibleName("Preview of the report")
        outer.addWidget(scroll, 1)
        self._show_words("Making the preview…")
        self._timer.start()

    def _build_studies(self) -> None:
        self.column.addWidget(section("Studies"))
        self.studies: dict[str, QCheckBox] = {}
        for study in self.session.open_job.state.studies:
            box = QCheckBox(study.name.replace("&", "&&"))
            box.setChecked(study.found is not None and study.in_report)
            box.toggled.connect(lambda _on: self._timer.start())
            self.studies[study.id] = box
            self.column.addWidget(box)
        self.bring = QPushButton("Compute what is out of date")
        self.bring.setToolTip("Compute every study of the report whose figure does not belong to what it says now")
        self.bring.clicked.connect(self._compute)
        self.column.addWidget(self.bring)
        self._mirror_studies()
        self._following = [signal.connect(self._follow) for signal in (self.session.changed, self.session.answered)]

    def _mirror_studies(self) -> None:
        """Say of each study whether it is computed and up to date."""
        for study in self.session.open_job.state.studies:
            box = self.studies.get(study.id)
            if box is None:
                continue
            ready, stale = study.found is not None, self.session.stale(study)
            if ready and not box.isEnabled():
                box.setChecked(study.in_report)
            box.setEnabled(ready)
            box.setText(study.name.replace("&", "&&") + (" (out of date)" if stale else ""))
            tip = "Something it was computed from was changed since; the report says so across its page"
            box.setToolTip(plain(tip if stale else "" if ready else "Not computed yet"))
        waiting = out_of_date(self.session.open_job)
        self.bring.setVisible(bool(waiting))
        self.bring.setEnabled(self.session.compute_task is None)
        busy = self.session.compute_task is not None
        self.bring.setText("Computing…" if busy else f"Compute {len(waiting)} that are out of date")

    def _follow(self) -> None:
        """A study was computed or changed: the preview follows."""
        self._mirror_studies()
        self._timer.start()

    def _compute(self) -> None:
        self.session.compute_each([study.id for study in out_of_date(self.session.open_job)])
        self._mirror_studies()

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
        self.page = QComboBox()
        self.page.setToolTip("Page size")
        for name in PAGES:
            self.page.addItem(name, name)
        self.page.setCurrentText(self.session.open_job.state.title.page)
        self.page.activated.connect(lambda _i: self._timer.start())
        self.column.addWidget(self.page)
        block = QPushButton("Edit title block…")
        block.clicked.connect(self._edit_title)
        self.column.addWidget(block)
        self.column.addStretch(1)

    def _build_buttons(self) -> None:
        self.note = Label("")
        self.note.setWordWrap(True)
        self.note.setProperty("role", "small")
        self.column.addWidget(self.note)
        tables = QPushButton("Save figures…")
        tables.setToolTip("All figures of the chosen studies, full precision, as CSV; all tables as a spreadsheet")
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
        title = replace(self.session.open_job.state.title, page=self.page.currentData())
        return ReportWish(title, sections)

    def chapters(self) -> list[Chapter]:
        """The chosen studies with what they found."""
        job, made = self.session.open_job, []
        for study in job.state.studies:
            box, outcome = self.studies.get(study.id), self.session.outcome(study)
            if box is not None and box.isChecked() and outcome is not None:
                made.append(chapter_of(job, study, outcome))
        return made

    def _render(self) -> None:
        chapters, wish = self.chapters(), self.wish()
        self.session.settings.set("report_sections", list(wish.sections))
        ratio, room = self.devicePixelRatioF(), self.preview.viewport().width() - 2 * BESIDE - 4.0

        self.number += 1
        number, came = self.number, self.came.emit

        def make(overtaken: Callable[[], bool]) -> int:
            for pdf in make_parts(chapters, wish, overtaken):
                came(Made(number, pages_of(pdf, ratio, room)))
            return number

        self.fresh = True
        self.worker.submit(make)

    def _arrived(self, made: Made) -> None:
        """Show the next pages; the first ones take the place of what was shown."""
        if made.number != self.number:
            return
        if self.fresh:
            self._clear()
            self.fresh = False
        for page in made.pages:
            label = Label()
            label.setAlignment(Qt.AlignmentFlag.AlignHCenter)
            label.setPixmap(QPixmap.fromImage(page))
            self.pages.addWidget(label)
        count = self.pages.count()
        self.note.setText(f"{count} page{'s' if count != 1 else ''} so far")

    def _ended(self, result: object) -> None:
        if isinstance(result, int):
            count = self.pages.count()
            if result == self.number and not self.fresh:
                self.note.setText(f"{count} page{'s' if count != 1 else ''}")
            return
        self._show_words(f"The report could not be made: {result}")

    def _show_words(self, words: str) -> None:
        self._clear()
        label = Label(words)
        label.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.pages.addWidget(label)

    def _clear(self) -> None:
        emptied(self.pages)

    def _edit_title(self) -> None:
        from kerb.app.dialogs.title import TitleBlock

        if shown_once(TitleBlock(self.session, self)):
            self.page.setCurrentText(self.session.open_job.state.title.page)
            self._timer.start()

    def _save(self) -> None:
        path = ask_target(
            self, self.session, self.session.open_job.state.title.name, (AS_PAGES, AS_DOCUMENT), "Save report"
        )
        if path is not None:
            self.save_to(path)

    def save_to(self, path: Path) -> None:
        """Write the report beside the window, and say so in the job record when it is there."""
        chapters, wish = self.chapters(), self.wish()
        page, names = self.page.currentData(), [b.text() for b in self.studies.values() if b.isChecked()]
        session = self.session

        def work(progress: Progress) -> Path:
            data = made_for(path, chapters, wish, progress)
            progress.check()
            with placed_when_complete(path) as partial:
                partial.write_bytes(data)
            return path

        def written(_: Path) -> None:
            change = Change(
                f"Delivered report {path.name}",
                lambda state: replace(state, title=replace(state.title, page=page)),
                {"studies": names},
                undoable=False,
            )
            session.open_job.note(change)
            session.said.emit(f"Report saved as {path}")

        failed = lambda text, _error: session.complained.emit("The report was not saved", text)  # noqa: E731
        session.start(work, f"Writing {path.name}", written, failed)
        self.accept()

    def _save_csv(self) -> None:
        name = self.session.open_job.state.title.name
        path = ask_target(self, self.session, name, (".csv", ".xlsx"), "Save figures")
        if path is not None:
            self.save_tables(path)

    def save_tables(self, path: Path) -> None:
        """Write the figures of the chosen studies; into a spreadsheet all their tables too."""
        try:
            write_figures([(chapter.name, chapter.outcome) for chapter in self.chapters()], path, force=True)
        except KerbError as error:
            self.session.complained.emit("The figures were not saved", str(error))

    def done(self, result: int) -> None:
        """Stop following the job."""
        self._timer.stop()
        for link in self._following:
            QObject.disconnect(link)
        self._following.clear()
        self.number += 1
        self.worker.close()
        super().done(result)
