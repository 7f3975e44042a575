"""The compute bar: pinned to the bottom of the sheet, with progress and cancel; it can never scroll away."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QProgressBar, QPushButton, QVBoxLayout, QWidget

from kerb.app.session import Session
from kerb.app.tasks import Task
from kerb.app.widgets import Label, made, plain


class ComputeBar(QWidget):
    """Help, 'in report', and Compute or Cancel."""

    action_wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("bar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session = session
        self._watched: Task | None = None
        outer = QVBoxLayout(self)
        outer.setContentsMargins(18, 8, 18, 10)
        outer.setSpacing(6)
        self.progress = made(QProgressBar(), textVisible=False, maximum=1000)
        self.words = Label("")
        self.words.setProperty("role", "small")
        outer.addWidget(self.progress)
        outer.addWidget(self.words)
        row = QHBoxLayout()
        self.help = QPushButton("How it is computed")
        self.help.setProperty("role", "link")
        self.help.setToolTip("Method, formulas, sources and limits (F1)")
        self.help.clicked.connect(lambda: self.action_wanted.emit("study_help"))
        self.in_report = QCheckBox("In report")
        self.in_report.setToolTip("Whether this study goes into the report")
        self.in_report.clicked.connect(lambda _on: self.action_wanted.emit("in_report"))
        self.compute = QPushButton("Compute")
        self.compute.setProperty("role", "main")
        self.compute.clicked.connect(self._pressed)
        row.addWidget(self.help)
        row.addStretch(1)
        row.addWidget(self.in_report)
        row.addWidget(self.compute)
        outer.addLayout(row)
        for signal in (session.changed, session.drafted):
            signal.connect(self.mirror)
        session.working.connect(lambda _task: self.mirror())
        self.mirror()

    def mirror(self) -> None:
        """Show what is being computed, or that it can be."""
        task, study = self.session.compute_task, self.session.study
        running = task is not None
        if task is not None and task is not self._watched:
            self._watched = task
            task.progressed.connect(self._progress)
        self.progress.setVisible(running)
        self.words.setVisible(running)
        if not running:
            self._watched = None
            self.progress.setValue(0)
            self.words.setText("")
        # A run that began by itself must not turn the button under a hand that is about to ask for it.
        asked = running and not self.session.unasked
        self.compute.setText("Cancel" if asked else "Compute")
        setup = self.session.setup
        missing = setup.missing() if setup is not None else []
        ready = study is not None and not missing
        self.compute.setEnabled(running or ready)
        self.compute.setToolTip(
            plain(
                "Stop computing"
                if asked
                else "Being computed already"
                if running
                else "Compute in full (F5)"
                if ready
                else (missing or ["Open a study first"])[0]
            )
        )
        self.in_report.setEnabled(study is not None)
        self.in_report.setChecked(study is not None and study.in_report)
        self.setEnabled(study is not None)

    def _progress(self, fraction: float, sentence: str) -> None:
        self.progress.setValue(int(fraction * 1000))
        self.words.setText(sentence)

    def _pressed(self) -> None:
        if self.session.compute_task is not None and not self.session.unasked:
            self.session.compute_task.stop()
        else:
            self.action_wanted.emit("compute")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape and self.session.compute_task is not None:
            self.session.compute_task.stop()
        else:
            super().keyPressEvent(event)
