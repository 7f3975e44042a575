"""The left panel: holdings by epoch, and studies with their headline figure and state."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMenu, QScrollArea, QToolButton, QVBoxLayout, QWidget

from kerb.app.icons import icon
from kerb.app.panels.parts import PartRow
from kerb.app.panels.row import Row
from kerb.app.session import Session
from kerb.app.sheets.fields import hairline
from kerb.app.theme import Theme
from kerb.app.views.things import ink_of
from kerb.core.quantity import quantity
from kerb.core.things import LINES, PICTURE, POINTS
from kerb.job import holdings
from kerb.job.state import Holding, Part, StudyRecord
from kerb.studies.registry import study_kind


class Lists(QWidget):
    """Holdings above, studies below. They mirror the job and hold nothing of their own."""

    action_wanted = Signal(str)

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("left")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session, self.theme = session, theme
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 8, 1, 0)
        column.setSpacing(0)
        self.holdings = QVBoxLayout()
        self.studies = QVBoxLayout()
        for heading, box, action, tip in (
            ("Holdings", self.holdings, "import", "Bring data in… (Ctrl+I)"),
            ("Studies", self.studies, "new_stockpile", "New stockpile study (Ctrl+Shift+N)"),
        ):
            if heading == "Studies":
                column.addWidget(hairline())
                column.addSpacing(6)
            column.addLayout(self._heading(heading, action, tip))
            box.setSpacing(0)
            inner = QWidget()
            outer = QVBoxLayout(inner)
            outer.setContentsMargins(0, 0, 0, 0)
            outer.addLayout(box)
            outer.addStretch(1)
            scroll = QScrollArea(widgetResizable=True)
            scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
            scroll.setWidget(inner)
            column.addWidget(scroll, 2 if heading == "Holdings" else 3)
        self.rows: dict[str, Row] = {}
        self.looked_over = ""
        self.marks_study = True
        session.changed.connect(self.mirror)
        session.selected.connect(self.mirror)
        session.opened.connect(self.mirror)

    def _heading(self, text: str, action: str, tip: str) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setContentsMargins(14, 4, 8, 2)
        label = QLabel(text)
        label.setProperty("role", "section")
        button = QToolButton(toolTip=tip)
        button.setIcon(icon("plus", self.theme.quiet, 16))
        button.setAccessibleName(tip)
        button.clicked.connect(lambda: self.action_wanted.emit(action))
        row.addWidget(label)
        row.addStretch(1)
        row.addWidget(button)
        return row

    def mirror(self) -> None:
        """Show the job as it is now."""
        focused = next((key for key, row in self.rows.items() if row.hasFocus()), "")
        _empty(self.holdings)
        _empty(self.studies)
        self.rows.clear()
        state = self.session.job.state if self.session.job else None
        if state is None or not state.holdings:
            self.holdings.addWidget(_hint("Drop any file here: clouds, points, drawings, surfaces, models, pictures."))
        epochs: dict[str, list[Holding]] = {}
        for holding in state.holdings if state else ():
            epochs.setdefault(holding.epoch or "No epoch date", []).append(holding)
        for epoch in sorted(epochs, reverse=True):
            label = QLabel(epoch)
            label.setProperty("role", "small")
            label.setContentsMargins(14, 4, 0, 2)
            self.holdings.addWidget(label)
            for holding in epochs[epoch]:
                self.holdings.addWidget(self._holding_row(holding))
                for part in holding.parts:
                    self.holdings.addWidget(self._part_row(holding, part))
        if state is None or not state.studies:
            self.studies.addWidget(_hint("A study answers one question, such as how much is in a heap."))
        for study in state.studies if state else ():
            self.studies.addWidget(self._study_row(study))
        if focused in self.rows:
            self.rows[focused].setFocus()

    def _holding_row(self, holding: Holding) -> Row:
        row = Row(self.theme)
        row.name, row.mark = holding.name, "shown" if holding.visible else "hidden"
        row.pale = not holding.visible
        row.chosen = holding.id == self.looked_over
        missing = holdings.source_missing(holding)
        size = "picture tiles" if holding.kind == PICTURE and not holding.points else self._size(holding)
        row.second = size + (" · source file moved" if missing else "")
        if holding.kind in (POINTS, LINES):
            row.ink = ink_of(self.session, holding, self.theme.name)
        row.alarm = missing
        notes = "\n".join(f"• {text}" for _code, text in holding.notes)
        row.setToolTip(f"{holding.source}\n{notes}".strip())
        row.setAccessibleName(holding.name)
        row.clicked.connect(lambda: self.action_wanted.emit(f"look_over:{holding.id}"))
        row.mark_clicked.connect(lambda: self._toggle(holding))
        row.menu_wanted.connect(lambda place: self._holding_menu(holding, place))
        self.rows[holding.id] = row
        return row

    def _part_row(self, holding: Holding, part: Part) -> PartRow:
        row = PartRow(self.theme, holding, part)
        row.action_wanted.connect(self.action_wanted)
        self.rows[f"{holding.id}|{part.number}"] = row
        return row

    def _size(self, holding: Holding) -> str:
        return holdings.size_words(self.session.job, holding)

    def _toggle(self, holding: Holding) -> None:
        words = f"{'Hid' if holding.visible else 'Showed'} {holding.name}"
        change = holdings.altered(holding, words, visible=not holding.visible)
        self.session.execute(replace(change, undoable=False))

    def _holding_menu(self, holding: Holding, place: object) -> None:
        menu = QMenu(self)
        menu.addAction("Hide" if holding.visible else "Show", lambda: self._toggle(holding))
        menu.addAction("Fit in view", lambda: self.action_wanted.emit(f"holding:{holding.id}"))
        for words, action in (
            ("Look over", "look_over"), ("Rename…", "rename_holding"), ("Set epoch date…", "epoch"),
            ("Duplicate", "duplicate_holding"), ("Write to a file…", "write_holding"),
        ):  # fmt: skip
            menu.addAction(words, lambda a=action: self.action_wanted.emit(f"{a}:{holding.id}"))
        if holdings.source_missing(holding):
            menu.addAction("Find source file…", lambda: self.action_wanted.emit(f"relink:{holding.id}"))
        menu.addSeparator()
        menu.addAction("Remove", lambda: self.session.execute(holdings.removed(holding)))
        menu.popup(place)

    def _study_row(self, study: StudyRecord) -> Row:
        row = Row(self.theme)
        kind = study_kind(study.kind)
        row.name = study.name
        row.chosen = study.id == self.session.study_id and self.marks_study
        row.value, row.second = headline(self.session, study), state_words(self.session, study)
        row.alarm = "out of date" in row.second
        row.setToolTip(f"{kind.title}: {kind.question}")
        row.setAccessibleName(f"{study.name}, {row.value}, {row.second}")
        row.clicked.connect(lambda: self.session.select(study.id))
        row.menu_wanted.connect(self._study_menu)
        self.rows[study.id] = row
        return row

    def _study_menu(self, place: object) -> None:
        menu = QMenu(self)
        for words, action in (
            ("Rename…", "rename_study"), ("Duplicate", "duplicate_study"), ("Fit in view", "fit_study"),
            ("Compute", "compute"), ("Remove", "remove_study"),
        ):  # fmt: skip
            menu.addAction(words, lambda a=action: self.action_wanted.emit(a))
        menu.popup(place)


def headline(session: Session, study: StudyRecord) -> str:
    """The headline figure of a study in short form."""
    if study.outcome is None:
        return "—"
    figure = study.outcome["figures"][study_kind(study.kind).headline]
    if figure["value"] is None:
        return "—"
    decimals = replace(session.decimals, volume=0)
    return quantity(figure["value"], figure["unit"], decimals)


def state_words(session: Session, study: StudyRecord) -> str:
    """What state a study is in, in words."""
    kind = study_kind(study.kind).title
    if session.compute_task is not None and study.id == session.study_id:
        return f"{kind} · computing…"
    if not study.setup.get("toe"):
        return f"{kind} · toe not drawn"
    if study.outcome is None:
        return f"{kind} · not computed"
    if session.stale(study):
        return f"{kind} · out of date"
    notes = len(study.outcome["warnings"])
    return f"{kind} · up to date" if not notes else f"{kind} · {notes} note{'s' if notes > 1 else ''}"


def _hint(text: str) -> QLabel:
    label = QLabel(text, wordWrap=True)
    label.setProperty("role", "small")
    label.setContentsMargins(14, 6, 14, 6)
    return label


def _empty(layout: QVBoxLayout) -> None:
    while layout.count():
        widget = layout.takeAt(0).widget()
        if widget is not None:
            widget.setParent(None)
            widget.deleteLater()
