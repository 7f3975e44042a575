"""The field controller: listen to it, and see its shots come into the plan and into a list of points."""

from __future__ import annotations

import logging
from queue import SimpleQueue
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QListWidget, QPushButton, QVBoxLayout, QWidget

from kerb.app.session import Session
from kerb.app.sheets.fields import hairline, section
from kerb.app.tasks import Task
from kerb.app.widgets import Label, made
from kerb.core.errors import KerbError
from kerb.core.progress import Progress
from kerb.core.quantity import symbol
from kerb.formats.shots import BYE, HUNG_UP, Ended, Hello, Shot, listen
from kerb.job.shots import ShotList

if TYPE_CHECKING:
    from kerb.standins.controller import Controller

EVERY_MS, MOST_SHOWN = 100, 500
WORDS = "The controller sends its shots as JSON lines; the format is in docs/field-controller.md."

log = logging.getLogger("kerb.controller")


def _line(shot: Shot) -> str:
    code = f"  {shot.code}" if shot.code else ""
    plan = f" ± {shot.precision[0]:.3f}" if shot.precision else ""
    return f"{shot.name}{code}\n{shot.northing:.3f} N  {shot.easting:.3f} E  {shot.elevation:.3f}{plan}"


class ControllerPage(QWidget):
    """Start and stop listening; shots go into the job as they come."""

    closed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("sheetBody")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session = session
        self.task: Task | None = None
        self.standin: Controller | None = None
        self.list_: ShotList | None = None
        self.bad, self.end = 0, ""
        self._queue: SimpleQueue[list[Hello | Shot] | str] = SimpleQueue()
        self._timer = made(QTimer(self), interval=EVERY_MS)
        self._timer.timeout.connect(self._take)
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 14, 18, 12)
        column.setSpacing(7)
        title = Label("Field controller")
        title.setProperty("role", "heading")
        words = made(Label(WORDS), wordWrap=True)
        words.setProperty("role", "small")
        column.addWidget(title)
        column.addWidget(words)
        row = QHBoxLayout()
        self.host = QLineEdit(session.settings.get("controller_host", "127.0.0.1"))
        self.port = QLineEdit(str(session.settings.get("controller_port", "")))
        self.host.setAccessibleName("Address of the controller")
        self.port.setAccessibleName("Port of the controller")
        self.port.setPlaceholderText("port")
        self.port.setFixedWidth(70)
        row.addWidget(self.host, 1)
        row.addWidget(self.port)
        column.addLayout(row)
        row = QHBoxLayout()
        self.simulate = made(QPushButton("Simulated controller"), toolTip="Start a made-up controller on this machine")
        self.simulate.clicked.connect(self.start_standin)
        self.button = QPushButton("Listen")
        self.button.setProperty("role", "main")
        self.button.clicked.connect(self.toggle)
        row.addWidget(self.simulate)
        row.addStretch(1)
        row.addWidget(self.button)
        column.addLayout(row)
        column.addWidget(hairline())
        self.state = made(Label("Not listening"), wordWrap=True)
        self.state.setProperty("role", "quiet")
        column.addWidget(self.state)
        column.addWidget(section("Shots, newest first"))
        self.shots = QListWidget()
        self.shots.setAccessibleName("Shots")
        column.addWidget(self.shots, 1)
        close = made(QPushButton("Close"), toolTip="Back to the study; listening goes on until it is stopped")
        close.clicked.connect(self.closed)
        row = QHBoxLayout()
        row.addWidget(close)
        row.addStretch(1)
        column.addLayout(row)

    @property
    def listening(self) -> bool:
        """Whether it listens."""
        return self.task is not None

    def start_standin(self) -> None:
        """Start the simulated controller and listen to it."""
        from kerb.standins.controller import Controller

        if self.standin is None:
            self.standin = Controller(self.session.settings.get("controller_interval", 0.8))
        self.host.setText("127.0.0.1")
        self.port.setText(str(self.standin.port))
        if not self.listening:
            self.toggle()

    def toggle(self) -> None:
        """Listen, or stop listening."""
        if self.task is not None:
            self.task.stop()
            return
        if not self.session.ensure_job():
            return
        try:
            host, port = self.host.text().strip() or "127.0.0.1", int(self.port.text())
        except ValueError:
            self.state.setText("Give the port of the controller as a number.")
            return
        self.session.settings.set("controller_host", host)
        if self.standin is None:
            self.session.settings.set("controller_port", port)
        self.list_ = ShotList(self.session.open_job)
        self.shots.clear()
        self.bad, self.end = 0, ""

        def work(progress: Progress) -> Ended:
            return listen(host, port, progress, self._queue.put, self._queue.put)

        self.task = self.session.start(work, "Listening to the field controller", self._over, self._failed)
        self.task.ended.connect(self._ended)
        self._timer.start()
        self._mirror()

    def _take(self) -> None:
        """Keep all that came since the last time, then show it."""
        messages: list[Hello | Shot] = []
        while not self._queue.empty():
            what = self._queue.get()
            if isinstance(what, str):
                self.bad += 1
                log.warning("%s", what)
            else:
                messages += what
        if self.list_ is None or self.list_.job is not self.session.job:
            return
        try:
            kept = self.list_.take(messages)
        except KerbError as error:
            self.session.complained.emit("A shot could not be kept", str(error))
            if self.task is not None:
                self.task.stop()
            return
        if kept:
            self.shots.insertItems(0, [_line(shot) for shot in reversed(kept[-MOST_SHOWN:])])
        while self.shots.count() > MOST_SHOWN:
            self.shots.takeItem(self.shots.count() - 1)
        self._mirror()

    def _over(self, ended: Ended) -> None:
        self.end = {BYE: "The controller said goodbye", HUNG_UP: "The controller hung up"}.get(ended.how, "")

    def _failed(self, text: str, _error: object) -> None:
        self.session.complained.emit("Listening ended", text)

    def _ended(self) -> None:
        self._timer.stop()
        self._take()
        if self.list_ is not None and self.list_.job is self.session.job:
            self.list_.close()
        self.task = None
        self._mirror()

    def _mirror(self) -> None:
        number = self.list_.count if self.list_ is not None else 0
        words = f"{number} shot{'s' if number != 1 else ''}"
        hello = self.list_.hello if self.list_ is not None else None
        if hello is not None:
            words += f", in {symbol(hello.unit)}, {hello.crs or 'no reference system'}"
        self.button.setText("Stop" if self.listening else "Listen")
        if self.bad:
            words += f" · {self.bad} line{'s' if self.bad != 1 else ''} made no sense"
        before = f"{self.end} · " if self.end else ""
        told = number or self.bad
        self.state.setText(
            f"Listening: {words}" if self.listening else f"{before}Not listening · {words}" if told
            else f"{before}Not listening"
        )  # fmt: skip

    def stop_all(self) -> None:
        """Stop listening and the simulated controller."""
        if self.task is not None:
            self.task.stop()
            self.task.wait(5.0)
        if self.standin is not None:
            self.standin.stop()
            self.standin = None
