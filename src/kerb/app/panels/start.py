"""The first screen without a job, and the guided start that can be dismissed."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen, QShowEvent
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton, QToolButton, QVBoxLayout, QWidget

from kerb.app.icons import icon, pixmap
from kerb.app.session import Session
from kerb.app.theme import Theme
from kerb.app.widgets import Label, emptied, made, plain, there
from kerb.core.errors import KerbError
from kerb.job.job import Job
from kerb.job.places import left_unsaved
from kerb.studies.registry import STUDIES

MOST_LEFT = 4


class StartPage(QWidget):
    """What can be done: drop a file, open a job, or look at the demo."""

    action_wanted = Signal(str)
    job_wanted = Signal(object)
    removal_wanted = Signal(object)

    def __init__(self, session: Session, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("page")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session, self.theme = session, theme
        self.over = False
        outer = QHBoxLayout(self)
        outer.addStretch(1)
        column = QVBoxLayout()
        outer.addLayout(column)
        outer.addStretch(1)
        column.addStretch(2)
        mark = Label()
        mark.setPixmap(pixmap("kerb", theme.ink, 56, 2))
        column.addWidget(mark)
        column.addSpacing(10)
        title = Label("What do you want to know?")
        title.setProperty("role", "welcome")
        column.addWidget(title)
        words = Label(
            "Drop clouds, points, drawings, surfaces, models or pictures on this window. Your files stay as they are."
        )
        words.setProperty("role", "quiet")
        column.addWidget(words)
        column.addSpacing(18)
        self.drop = _DropField(theme)
        self.drop.clicked.connect(lambda: self.action_wanted.emit("import"))
        column.addWidget(self.drop)
        column.addSpacing(14)
        row = QHBoxLayout()
        for words_, action, tip in (
            ("Bring data in…", "import", "Clouds, points, drawings, surfaces, models and pictures (Ctrl+I)"),
            ("Open job…", "open_job", "A folder NAME.kerb (Ctrl+O)"),
            ("Find open data…", "open_data", "Tiles of a public agency, through a STAC catalogue"),
            ("Open the demo", "open_demo", "Saltmarrow Quay: a made-up yard with three heaps"),
        ):
            button = made(QPushButton(words_), toolTip=tip)
            button.clicked.connect(lambda _c, a=action: self.action_wanted.emit(a))
            row.addWidget(button)
        row.addStretch(1)
        column.addLayout(row)
        column.addSpacing(18)
        column.addWidget(self._questions())
        column.addSpacing(18)
        self.left_heading = Label("Not saved when Kerb ended")
        self.left_heading.setProperty("role", "section")
        column.addWidget(self.left_heading)
        self.left = QVBoxLayout()
        self.left.setContentsMargins(0, 0, 0, 14)
        column.addLayout(self.left)
        self.recent_heading = Label("Recent jobs")
        self.recent_heading.setProperty("role", "section")
        column.addWidget(self.recent_heading)
        self.recent = QVBoxLayout()
        column.addLayout(self.recent)
        column.addStretch(3)
        self.mirror()

    def _questions(self) -> QWidget:
        """The questions that Kerb answers, by group."""
        box = QWidget()
        grid = QGridLayout(box)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(18)
        heading = Label("Questions that Kerb answers once data are in")
        heading.setProperty("role", "section")
        grid.addWidget(heading, 0, 0, 1, 2)
        for number, kind in enumerate(sorted(STUDIES.values(), key=lambda k: k.group)):
            words = Label(f"{kind.question}  {kind.title}")
            words.setToolTip(plain(f"{kind.group}: {kind.title}"))
            words.setProperty("role", "quiet")
            grid.addWidget(words, 1 + number // 2, number % 2)
        return box

    def mirror(self) -> None:
        """List jobs that a crash left unsaved, and recent ones."""
        for rows in (self.left, self.recent):
            emptied(rows)
        left = left_unsaved()[:MOST_LEFT]
        self.left_heading.setVisible(bool(left))
        for folder in left:
            self.left.addWidget(self._left_row(folder))
        jobs = self.session.settings.recent()[:6]
        self.recent_heading.setVisible(bool(jobs))
        for folder in jobs:
            button = QPushButton(f"{folder.stem}    {_short(folder.parent)}")
            button.setProperty("role", "link")
            button.setProperty("side", "left")
            button.setToolTip(plain(str(folder)))
            button.clicked.connect(lambda _c, f=folder: self.job_wanted.emit(f))
            self.recent.addWidget(button, 0, Qt.AlignmentFlag.AlignLeft)

    def _left_row(self, folder: Path) -> QWidget:
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        button = made(QPushButton(_left_words(folder)), toolTip=f"Go on with it: {folder}")
        button.setProperty("role", "link")
        button.clicked.connect(lambda: self.job_wanted.emit(folder))
        line.setSpacing(18)
        away = made(QPushButton("Remove"), toolTip="Give it up, with the data that were brought into it")
        away.setProperty("role", "link")
        away.clicked.connect(lambda: self.removal_wanted.emit(folder))
        line.addWidget(button)
        line.addWidget(away)
        line.addStretch(1)
        return row


class _DropField(QPushButton):
    """The place to drop a file on, or to click."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.setFixedSize(560, 132)
        self.setAccessibleName("Drop a file here, or click to choose one")

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        edge = self.theme.accent if self.underMouse() or self.hasFocus() else self.theme.quiet
        painter.setPen(QPen(QColor(edge), 1.4, Qt.PenStyle.DashLine))
        painter.setBrush(QColor(self.theme.sheet))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 10, 10)
        mark = pixmap("drop", self.theme.accent, 30, 2)
        painter.drawPixmap(int(self.width() / 2 - 15), 32, mark)
        painter.setPen(QColor(self.theme.quiet))
        painter.drawText(QRectF(0, 74, self.width(), 24), Qt.AlignmentFlag.AlignCenter, "Drop files here, or click")


class Guide(QWidget):
    """Three steps to a first figure; ticks off what was done, and goes away when told."""

    dismissed = Signal()

    STEPS = (
        "Choose a study with a dash in the list: it is still to do.",
        "Press T and draw what it asks for; double-click ends the line.",
        "Read the figure. Drag a vertex and watch it follow.",
    )

    def __init__(self, theme: Theme, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 10, 10, 12)
        row = QHBoxLayout()
        title = Label("Guided start")
        title.setProperty("role", "section")
        close = made(QToolButton(), toolTip="Dismiss; Help brings it back")
        close.setIcon(icon("close", theme.quiet, 14))
        close.setAccessibleName("Dismiss the guided start")
        close.clicked.connect(self.dismissed)
        row.addWidget(title)
        row.addStretch(1)
        row.addWidget(close)
        column.addLayout(row)
        self.labels = [made(Label(), wordWrap=True) for _ in self.STEPS]
        for label in self.labels:
            column.addWidget(label)
        self.setFixedWidth(300)
        self.show_step(0)

    def show_step(self, done: int) -> None:
        """Tick off the first ``done`` steps."""
        for place, label in enumerate(self.labels):
            mark = "✓" if place < done else f"{place + 1}."
            label.setText(f"{mark}  {self.STEPS[place]}")
            label.setProperty("role", "" if place == done else "quiet")
            label.style().polish(label)
        self._fit()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._fit()

    def _fit(self) -> None:
        """As high as its wrapped texts need: Qt asks for a height by a width only inside of layouts."""
        layout = there(self.layout())
        layout.activate()
        self.resize(self.width(), layout.totalHeightForWidth(self.width()))


def _left_words(folder: Path) -> str:
    """What a job is that was left: its name, what it has, and when it was begun."""
    stem = folder.stem
    begun = f"{stem[:4]}-{stem[4:6]}-{stem[6:8]} {stem[9:11]}:{stem[11:13]}"
    try:
        state = Job.open(folder, recover=True).state
    except KerbError:
        return f"{folder.stem}    begun {begun}"
    number = len(state.holdings)
    return f"{state.title.name}    {number} holding{'s' if number != 1 else ''}, begun {begun}"


def _short(folder: Path) -> str:
    home = Path.home()
    return f"~/{folder.relative_to(home)}" if folder.is_relative_to(home) else str(folder)
