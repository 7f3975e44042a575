"""The header: job name, the field to do, find or go to anything, unit chip, undo and redo, Deliver."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPoint, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QResizeEvent
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kerb.app.actions import actions
from kerb.app.icons import icon, pixmap
from kerb.app.session import Session
from kerb.app.theme import Theme
from kerb.app.widgets import Label, made, plain
from kerb.core.cloud.finders import FINDERS
from kerb.studies.fields import Field
from kerb.studies.showing import toggles

# Searches that are actions by themselves.
ROOMY = 1150
OWN_ACTION = ("ground", "thin")


class Header(QWidget):
    """The band across the top."""

    action_wanted = Signal(str)
    chip_clicked = Signal(QPoint)

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("header")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(50)
        self.session = session
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 0, 14, 0)
        row.setSpacing(9)
        mark = Label()
        mark.setPixmap(pixmap("kerb", theme.ink, 26, 2))
        self.title = made(Label("Kerb"), objectName="title")
        self.site = made(Label(""), objectName="quiet")
        self.command = CommandField(session, self)
        self.command.action_wanted.connect(self.action_wanted)
        self.chip = made(QPushButton(""), objectName="chip", toolTip="Unit and reference system; click to set decimals")
        self.chip.clicked.connect(lambda: self.chip_clicked.emit(self.chip.mapToGlobal(QPoint(0, self.chip.height()))))
        self.undo = self._button("undo", theme)
        self.redo = self._button("redo", theme)
        self.deliver = made(QPushButton("Deliver"), toolTip="Make the report for the client (Ctrl+D)")
        self.deliver.setProperty("role", "main")
        self.deliver.clicked.connect(lambda: self.action_wanted.emit("deliver"))
        for label in (mark, self.title, self.site):
            row.addWidget(label)
        row.addStretch(1)
        row.addWidget(self.command, 4)
        row.addStretch(1)
        buttons: tuple[QWidget, ...] = (self.chip, self.undo, self.redo, self.deliver)
        for widget in buttons:
            row.addWidget(widget)
        session.changed.connect(self.mirror)
        self.mirror()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Where there is little room the names are shorter."""
        super().resizeEvent(event)
        if event.oldSize().width() != event.size().width():
            self.mirror()

    def _button(self, name: str, theme: Theme) -> QToolButton:
        button = QToolButton()
        button.setIcon(icon(name, theme.ink, 18))
        button.setAccessibleName(name.capitalize())
        button.clicked.connect(lambda: self.action_wanted.emit(name))
        return button

    def mirror(self) -> None:
        """Show the job as it is now."""
        job = self.session.job
        title = job.state.title if job else None
        self.title.setText((title.name if title else "Kerb") + (" •" if job and job.changed else ""))
        self.title.setToolTip(
            plain(f"{job.folder}\n{'Changed since it was saved' if job.changed else 'Saved'}" if job else "")
        )
        self.site.setText(title.site if title else "")
        self.site.setVisible(self.width() >= ROOMY)
        self.chip.setVisible(job is not None)
        if job is not None:
            reference = job.state.title.reference_system()
            text, room = reference.sentence, 230 if self.width() >= ROOMY else 150
            self.chip.setText(self.fontMetrics().elidedText(text, Qt.TextElideMode.ElideMiddle, room))
            self.chip.setToolTip(plain(f"{text}; click to set decimals, unit and reference system"))
            sure = "no" if reference.certainty == "assumed" else "yes"
            if self.chip.property("sure") != sure:
                self.chip.setProperty("sure", sure)
                self.chip.style().unpolish(self.chip)
                self.chip.style().polish(self.chip)
        self.undo.setEnabled(bool(job and job.can_undo))
        self.redo.setEnabled(bool(job and job.can_redo))
        self.undo.setToolTip(
            plain(
                f"Undo: {job.can_undo} (Ctrl+Z)"
                if job and job.can_undo
                else "Nothing to undo: undo reaches back to where the job was opened"
            )
        )
        self.redo.setToolTip(
            plain(f"Redo: {job.can_redo} (Ctrl+Shift+Z)" if job and job.can_redo else "Nothing to redo")
        )
        self.deliver.setEnabled(bool(job and any(study.found for study in job.state.studies)))


class CommandField(QLineEdit):
    """Do, find or go to anything: actions, studies and holdings by any part of their words."""

    action_wanted = Signal(str)
    left = Signal()

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.setObjectName("command")
        self.setMaximumWidth(360)
        self.setPlaceholderText("Do, find or go to…    Ctrl+K")
        self.setToolTip("Type part of an action, study or holding; Enter does the first one")
        self.setAccessibleName("Do, find or go to")
        # Whether an action can be done now; the window knows.
        self.possible: Callable[[str], bool] = lambda _key: True
        self.list: QListWidget | None = None
        self.popup: QFrame | None = None
        self.textEdited.connect(self._show)
        self.returnPressed.connect(self._take)

    def take_focus(self) -> None:
        """Ready to be typed into."""
        self.setFocus()
        self.selectAll()

    def choices(self, text: str) -> list[tuple[str, str, str]]:
        """(id, words, kind) of everything that fits: what starts with the words, has them, is about them; help last."""
        every = [(entry.id, entry.title, entry.shortcut or entry.menu, entry.help) for entry in actions()]
        if self.session.job is not None:
            state = self.session.open_job.state
            searches = [finder for finder in FINDERS.values() if finder.id not in OWN_ACTION]
            every += [(f"find_points:{f.id}", f"Find: {f.title}", "points", f.help) for f in searches]
            every += [(f"study_layer:{name}", f"Show {title}", "study", "") for name, title in self.layers()]
            every += [(f"field:{name}", about.label, "setting", about.help) for name, about in self.settings()]
            every += [(f"study:{s.id}", s.name, "study", "") for s in state.studies]
            every += [(f"holding:{h.id}", h.name, "holding", "") for h in state.holdings]
        words, typed = text.lower().split(), " ".join(text.lower().split())

        def rank(item: tuple[str, str, str, str]) -> tuple[int, bool, str]:
            title, reading = item[1].lower(), item[2] == "Help"
            if not all(word in title for word in words):
                return 2, reading, title
            return 0 if title.startswith(typed) else 1 + reading, reading, title

        fitting = [item for item in every if all(word in f"{item[1]} {item[3]}".lower() for word in words)]
        return [item[:3] for item in sorted(fitting, key=rank)]

    def settings(self) -> list[tuple[str, Field]]:
        """The settings that the sheet of the open study shows or holds back."""
        setup = self.session.setup
        if setup is None:
            return []
        return [(name, about) for name, about in setup.declared().items() if setup.counts(name) and not about.hidden]

    def layers(self) -> list[tuple[str, str]]:
        """What of the open study can be shown on wish."""
        return toggles(self.session.shown().outcome)

    def _show(self, text: str) -> None:
        if self.popup is None or self.list is None:
            self.popup = made(QFrame(self.window()), objectName="card")
            column = QVBoxLayout(self.popup)
            column.setContentsMargins(4, 4, 4, 4)
            self.list = QListWidget()
            self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            self.list.itemClicked.connect(lambda _item: self._take())
            column.addWidget(self.list)
        self.list.clear()
        for key, words, kind in self.choices(text)[:9]:
            possible = self.possible(key)
            item = QListWidgetItem(f"{words}    {kind}" if possible else f"{words}    not now")
            item.setData(Qt.ItemDataRole.UserRole, key)
            if not possible:
                item.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(item)
        if not self.list.count():
            nothing = QListWidgetItem(f"Nothing found for “{text.strip()}”")
            nothing.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(nothing)
        self.list.setCurrentRow(0)
        corner = self.mapTo(self.window(), QPoint(0, self.height() + 4))
        height = 14 + self.list.sizeHintForRow(0) * self.list.count()
        self.popup.setGeometry(corner.x(), corner.y(), self.width(), max(height, 10))
        self.popup.setVisible(bool(text.strip()) and self.list.count() > 0)
        self.popup.raise_()

    def _take(self) -> None:
        if self.list is None or self.list.currentItem() is None or not self.text().strip():
            return
        key = self.list.currentItem().data(Qt.ItemDataRole.UserRole)
        if not key or not self.possible(key):
            return
        self._hide()
        self.action_wanted.emit(key)

    def _hide(self) -> None:
        self.clear()
        if self.popup is not None:
            self.popup.hide()
        self.clearFocus()
        self.left.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self._hide()
        elif event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up) and self.list is not None:
            step = 1 if event.key() == Qt.Key.Key_Down else -1
            self.list.setCurrentRow((self.list.currentRow() + step) % max(self.list.count(), 1))
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        if self.popup is not None and not self.popup.underMouse():
            self.popup.hide()
