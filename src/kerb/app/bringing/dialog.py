"""Bring data in: every file dropped, what it is, whether it lies where it should, and what shall be done with it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QKeyEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from kerb.app.bringing.amount import AmountPanel
from kerb.app.bringing.columns import Columns
from kerb.app.bringing.looking import ALL, EPOCHS, Files, Looked
from kerb.app.bringing.placing import PlacingPanel
from kerb.app.session import Session
from kerb.app.sheets.fields import hairline, section
from kerb.app.theme import Theme
from kerb.app.widgets import Choice, Label, emptied, made, plain, there
from kerb.core.dates import date_of
from kerb.core.errors import InputError, KerbError
from kerb.core.quantity import count
from kerb.core.things import CLOUD, KINDS, POINTS, SURFACE
from kerb.formats.recognise import SUFFIXES
from kerb.formats.text_table import TextPlan, read_as
from kerb.job.endings import NOT, Ending
from kerb.job.holdings import ImportWish
from kerb.job.prospects import Prospect

UNITS_OF = {
    CLOUD: "points",
    POINTS: "points",
    "lines": "lines",
    SURFACE: "triangles",
    "model": "triangles",
    "picture": "pixels",
}


class BringIn(QDialog):
    """Files at the left, the chosen thing at the right; the wishes are handed out when it is accepted."""

    wanted = Signal(list, list)

    def __init__(self, session: Session, theme: Theme, paths: list[Path], parent: QWidget) -> None:
        super().__init__(parent)
        self.session, self.theme = session, theme
        self.setWindowTitle("Bring data in")
        self.resize(1120, 700)
        self.setAcceptDrops(True)
        self.files = Files(session, self)
        self.items: dict[tuple, QTreeWidgetItem] = {}
        self.files.filled.connect(self._fill)
        self.files.placed.connect(self._placed)
        self.panels: tuple[QWidget, ...] = ()
        self._build()
        self.add(paths)
        # Turns of their own: with all in one the interface stood still for longer than one notices.
        self._pieces = self._panels()
        QTimer.singleShot(0, self, self._grow)

    # Building

    def _build(self) -> None:
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        row = QHBoxLayout()
        row.setSpacing(0)
        row.addWidget(self._left())
        row.addWidget(self._right(), 1)
        outer.addLayout(row, 1)
        outer.addWidget(hairline())
        outer.addLayout(self._bar())

    def _left(self) -> QWidget:
        left = made(QWidget(), objectName="left")
        left.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        left.setFixedWidth(290)
        column = QVBoxLayout(left)
        column.setContentsMargins(12, 14, 10, 12)
        column.addWidget(section("Files and what they hold"))
        self.tree = QTreeWidget()
        self.tree.setHeaderHidden(True)
        self.tree.setIndentation(14)
        self.tree.setAccessibleName("Files and what they hold")
        self.tree.currentItemChanged.connect(lambda *_: self._show_current())
        self.tree.itemChanged.connect(self._ticked)
        column.addWidget(self.tree, 1)
        row = QHBoxLayout()
        more = made(QPushButton("Add files…"), toolTip="Look at further files; or drop them here")
        more.clicked.connect(self._ask_files)
        self.drop = made(QPushButton("Leave out"), toolTip="Take the chosen file off this list (Delete)")
        self.drop.clicked.connect(self._leave_out)
        row.addWidget(more)
        row.addWidget(self.drop)
        row.addStretch(1)
        column.addLayout(row)
        return left

    def _right(self) -> QWidget:
        body = made(QWidget(), objectName="page")
        column = QVBoxLayout(body)
        column.setContentsMargins(20, 14, 20, 14)
        column.setSpacing(10)
        self.title = Label("")
        self.title.setProperty("role", "heading")
        self.title.setWordWrap(True)
        self.about = Label("")
        self.about.setProperty("role", "quiet")
        self.about.setWordWrap(True)
        self.notes = QVBoxLayout()
        self.notes.setSpacing(4)
        column.addWidget(self.title)
        column.addWidget(self.about)
        column.addLayout(self.notes)
        column.addStretch(0)
        self.column = column
        scroll = made(QScrollArea(), widgetResizable=True)
        scroll.setWidget(body)
        return scroll

    def _grow(self) -> None:
        """Make the panels of a thing, one in each turn; what the thing is can be read meanwhile."""
        if next(self._pieces, True):
            self._show_current()
        else:
            QTimer.singleShot(0, self, self._grow)

    def _panels(self) -> Iterator[bool]:
        self.columns = Columns()
        self.columns.changed.connect(self._columns_changed)
        self.columns.reread.connect(self._read_otherwise)
        yield False
        self.placing = PlacingPanel(self.files, self.theme)
        self.placing.changed.connect(self._changed)
        yield False
        self.amount = AmountPanel(self.session)
        self.amount.changed.connect(self._changed)
        yield False
        self.panels = (self.columns, self.placing, self.amount)
        self.files.failed.connect(self.placing.show_error)
        for number, panel in enumerate(self.panels):
            panel.setVisible(False)
            self.column.insertWidget(self.column.count() - 1, panel, int(number == 1))

    def _bar(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setContentsMargins(16, 10, 16, 12)
        row.setSpacing(10)
        row.addWidget(Label("Epoch"))
        self.epoch = made(
            QLineEdit(),
            placeholderText="no date",
            toolTip="Date of the survey, for all of these: 2026-05-02, 2 May 2026, 2.5.2026. Without one, those in the names of "
            "files count",
        )
        self.epoch.setAccessibleName("Epoch")
        self.epoch.setFixedWidth(120)
        self.epoch.textChanged.connect(lambda _t: self._mirror_bar())
        self.epoch.editingFinished.connect(self._tidy_date)
        row.addWidget(self.epoch)
        self.together = Choice()
        self.together.addItem("a cloud for each file", "")
        self.together.addItem("one cloud of all files", ALL)
        self.together.setToolTip(
            "Several files of points: one cloud each, or one cloud in which each point knows its file"
        )
        self.together.setAccessibleName("Several files of points")
        self.together.setCurrentIndex(int(bool(self.session.settings.get("bring_together", False))))
        self.together.activated.connect(lambda i: self.session.settings.set("bring_together", i == 1))
        row.addWidget(self.together)
        self.sure = made(
            QCheckBox("I have seen the alarms"), toolTip="Data with alarms is brought in only when this is ticked"
        )
        self.sure.clicked.connect(lambda _on: self._mirror_bar())
        row.addStretch(1)
        self.summary = Label("")
        self.summary.setProperty("role", "small")
        row.addWidget(self.summary)
        row.addWidget(self.sure)
        cancel = QPushButton("Cancel")
        cancel.clicked.connect(self.reject)
        self.take = QPushButton("Bring in")
        self.take.setProperty("role", "main")
        self.take.setDefault(True)
        self.take.clicked.connect(self.accept)
        row.addWidget(cancel)
        row.addWidget(self.take)
        return row

    # Files

    def know_epochs(self, epochs: dict[Path, str]) -> None:
        """Dates of surveys that are known beforehand: one cloud of all files, or one for each date where they differ."""
        self.files.epochs |= epochs
        dates = set(epochs.values())
        self.together.setCurrentIndex(1)
        if len(dates) > 1:
            self.together.addItem("one cloud for each epoch", EPOCHS)
            self.together.setCurrentIndex(2)
        elif dates and dates != {""}:
            self.epoch.setText(dates.pop())

    def add(self, paths: list[Path]) -> None:
        """Look at further files."""
        for path in self.files.add(paths):
            item = QTreeWidgetItem([path.name])
            item.setData(0, Qt.ItemDataRole.UserRole, (path,))
            item.setToolTip(0, plain(str(path)))
            item.addChild(QTreeWidgetItem(["looking…"]))
            self.items[(path,)] = item
            self.tree.addTopLevelItem(item)
            item.setExpanded(True)
        if self.tree.currentItem() is None and self.tree.topLevelItemCount():
            self.tree.setCurrentItem(there(self.tree.topLevelItem(0)))
        self._mirror_bar()

    def _fill(self, looked: Looked) -> None:
        item = self.items.get((looked.path,))
        if item is None:
            return
        self.tree.blockSignals(True)
        item.takeChildren()
        if looked.error:
            child = QTreeWidgetItem(["cannot be used"])
            child.setData(0, Qt.ItemDataRole.UserRole, (looked.path,))
            item.addChild(child)
        for number, prospect in enumerate(looked.prospects):
            key = (looked.path, number)
            child = QTreeWidgetItem([self._words(prospect)])
            child.setData(0, Qt.ItemDataRole.UserRole, key)
            child.setFlags(child.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            child.setCheckState(0, Qt.CheckState.Checked if prospect.taken else Qt.CheckState.Unchecked)
            item.addChild(child)
            self.items[key] = child
        self.tree.blockSignals(False)
        first = self.items.get((looked.path, 0))
        current = self.tree.currentItem()
        if first is not None and (current is None or current is item):
            self.tree.setCurrentItem(first)
        self._show_current()
        self._mirror_bar()

    @staticmethod
    def _words(prospect: Prospect) -> str:
        words = UNITS_OF[prospect.offer.kind]
        about = "about " if prospect.seen.text is not None else ""
        if prospect.seen.format.startswith("IFC"):
            words = "elements"
        if prospect.offer.key == "grid":
            words = "cells"
        return f"{prospect.offer.label} · {about}{count(prospect.offer.count)} {words}"

    # The chosen one

    def _key(self) -> tuple:
        item = self.tree.currentItem()
        return () if item is None else item.data(0, Qt.ItemDataRole.UserRole)

    def current(self) -> Prospect | None:
        """The prospect that is shown."""
        key = self._key()
        if len(key) == 1:
            key = (key[0], 0)
        return self.files.prospects.get(key)

    def _show_current(self) -> None:
        prospect, key = self.current(), self._key()
        self.files.first = (key[0], key[1] if len(key) == 2 else 0) if key else None
        emptied(self.notes)
        for panel in self.panels:
            panel.setVisible(prospect is not None)
        if prospect is None:
            path = key[0] if key else None
            self.title.setText(path.name if path else "Drop files here")
            self.about.setText("" if path in self.files.errors else "Looking at the file…" if path else "")
            if path in self.files.errors:
                self._note(self.files.errors[path])
            return
        self.title.setText(prospect.path.name)
        kind, words = KINDS[prospect.offer.kind], self._words(prospect)
        self.about.setText(f"{'' if words.startswith(kind) else f'{kind} · '}{words} · {prospect.seen.format}")
        stated = prospect.source.certainty != "assumed"
        for code, text in prospect.seen.notes[:4]:
            if not (stated and code in ("crs-missing", "unit-missing")):
                self._note(text)
        if not self.panels:
            return
        self.columns.setVisible(prospect.plan is not None and prospect.seen.text is not None)
        if prospect.plan is not None and prospect.seen.text is not None:
            self.columns.show_text(prospect.seen.text, prospect.plan)
        self.placing.mirror(prospect)
        self.amount.mirror(prospect)
        self._show_place()

    def _note(self, text: str) -> None:
        label = made(Label(f"▲  {text[:1].upper()}{text[1:]}"), wordWrap=True)
        label.setProperty("role", "warning")
        label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.notes.addWidget(label)

    def _changed(self, prospect: Prospect) -> None:
        key = self._key()
        key = (key[0], 0) if len(key) == 1 else key
        self.files.change(key, prospect)
        self.sure.setChecked(False)
        self._show_current()
        self.files.check_next()
        self._mirror_bar()

    def _columns_changed(self, plan: TextPlan) -> None:
        """Columns of a text file hold for the cloud and for the points it may be."""
        path = there(self.current()).path
        for key, prospect in list(self.files.prospects.items()):
            if key[0] == path:
                self.files.change(key, replace(prospect, plan=plan))
        self._changed(there(self.current()))

    def _read_otherwise(self, plan: TextPlan) -> None:
        """Lines cut otherwise: headings and roles are guessed anew."""
        path = there(self.current()).path
        try:
            look = read_as(path, plan)
        except KerbError as error:
            self.placing.show_error(str(error))
            self.columns.show_text(there(there(self.current()).seen.text), self.columns.plan)
            return
        for key, prospect in list(self.files.prospects.items()):
            if key[0] == path:
                self.files.prospects[key] = replace(prospect, seen=replace(prospect.seen, text=look))
        self._columns_changed(look.plan)

    def _ticked(self, item: QTreeWidgetItem, _column: int) -> None:
        key = item.data(0, Qt.ItemDataRole.UserRole)
        if key not in self.files.prospects:
            return
        self.tree.blockSignals(True)
        for other in self.files.tick(key, item.checkState(0) == Qt.CheckState.Checked):
            self.items[other].setCheckState(0, Qt.CheckState.Unchecked)
        self.tree.blockSignals(False)
        self._mirror_bar()

    # The place check

    def _placed(self) -> None:
        self._show_place()
        self._mark_alarms()
        self._mirror_bar()

    def _show_place(self) -> None:
        if not self.panels:
            return
        key = self._key()
        key = (key[0], 0) if len(key) == 1 else key
        found = self.files.checked.get(key)
        prospect = self.files.prospects.get(key)
        if prospect is not None and not prospect.readable:
            needed = (
                "Say which columns are easting and northing."
                if prospect.plan is not None
                else "Tick at least one part."
            )
            self.placing.show_error(needed)
        elif found is None:
            self.placing.show_waiting()
        elif found.error:
            self.placing.show_error(found.error)
        else:
            self.placing.show_whereabouts(there(found.found), found.against)

    def _mark_alarms(self) -> None:
        self.tree.blockSignals(True)
        for key, item in self.items.items():
            if key in self.files.prospects:
                mark = "▲ " if self.files.alarmed(key) else ""
                item.setText(0, mark + self._words(self.files.prospects[key]))
        self.tree.blockSignals(False)

    # Taking

    def _mirror_bar(self) -> None:
        taken = {key: prospect for key, prospect in self.files.prospects.items() if prospect.taken}
        clouds = sum(prospect.offer.kind == CLOUD for prospect in taken.values())
        self.together.setVisible(clouds > 1)
        alarmed = [key for key in taken if self.files.alarmed(key)]
        broken = any(self.files.checked[key].error for key in alarmed)
        ready = all(prospect.readable and key in self.files.checked for key, prospect in taken.items())
        self.sure.setVisible(bool(alarmed) and not broken)
        looking = len(self.files.waiting)
        words = f"{len(taken)} thing{'s' if len(taken) != 1 else ''}" if taken else "nothing ticked"
        if looking or (taken and not ready):
            words = "looking…"
        if broken:
            words = "▲ one that is ticked cannot be placed: untick it or say what it is in"
        dates = self.files.dates_in_names()
        self.epoch.setPlaceholderText("by their names" if len(dates) > 1 else next(iter(dates), "no date"))
        wrong = self._wrong_date()
        self.summary.setText(wrong or words)
        may = bool(taken) and ready and not looking and not broken and not wrong
        self.take.setEnabled(may and (not alarmed or self.sure.isChecked()))

    def wishes(self) -> list[ImportWish]:
        """What is to be imported, as decided. Raises InputError, when the date is none."""
        return self.files.wishes(date_of(self.epoch.text()), self.together.currentData())

    def _wrong_date(self) -> str:
        try:
            date_of(self.epoch.text())
        except InputError as error:
            return str(error)
        return ""

    def _tidy_date(self) -> None:
        """A date that was understood is shown as it is kept."""
        if not self._wrong_date():
            self.epoch.setText(date_of(self.epoch.text()))

    def accept(self) -> None:
        if self.take.isEnabled():
            wishes = self.wishes()
            refused = [Ending(path.name, NOT, why.removeprefix(f"{path}: ")) for path, why in self.files.errors.items()]
            super().accept()
            self.wanted.emit(wishes, refused)

    def done(self, result: int) -> None:
        self.files.close()
        super().done(result)

    # Mouse and keys

    def _ask_files(self) -> None:
        start = self.session.settings.get("import_folder", str(Path.home()))
        paths, _ = QFileDialog.getOpenFileNames(self, "Add files", start, name_filter())
        self.add([Path(path) for path in paths])

    def _leave_out(self) -> None:
        key = self._key()
        if not key:
            return
        path = key[0]
        self.files.leave_out(path)
        self.items = {k: item for k, item in self.items.items() if k[0] != path or k == (path,)}
        item = self.items.pop((path,))
        self.tree.takeTopLevelItem(self.tree.indexOfTopLevelItem(item))
        self._show_current()
        self._mirror_bar()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Delete:
            self._leave_out()
        else:
            super().keyPressEvent(event)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        self.add([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])
        event.acceptProposedAction()


def name_filter() -> str:
    """The filter of file dialogs: everything Kerb reads."""
    endings = " ".join(f"*{suffix} *{suffix.upper()}" for suffix in SUFFIXES)
    return f"All that Kerb reads ({endings});;All files (*)"
