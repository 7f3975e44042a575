"""The sheet of the open study, made from its declaration: the figure on top, then Compared, Against, Where, How, Found."""

from __future__ import annotations

import importlib
import time
from collections.abc import Callable, Iterator
from dataclasses import replace

from PySide6.QtCore import QEvent, QPoint, Qt, QTimer
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLabel, QPushButton, QScrollArea, QVBoxLayout, QWidget

from kerb.app.session import Session
from kerb.app.sheets.editors import Editor, editor_of
from kerb.app.sheets.fields import Line, column, fill_warnings, hairline, section
from kerb.app.widgets import Label, made, plain, widgets_in
from kerb.core.quantity import finer, fitting, number, symbol
from kerb.core.units import METRE, convert, length_unit
from kerb.studies.fields import SECTIONS
from kerb.studies.kind import COUNT, HEADLINE, SHEET, VOLUME, FigureAbout, StudyKind
from kerb.studies.outcome import Figure, Outcome, bounded
from kerb.studies.setup import Setup

LARGE = 100
MOST_NOTES = 3
# A sheet is built for so long at a stretch.
TURN_SECONDS = 0.006


class StudySheet(QWidget):
    """Set up and read the open study. Mirrors the session and commits settings through it."""

    def __init__(self, session: Session, run: Callable[[str], None]) -> None:
        super().__init__()
        self.setObjectName("sheetBody")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session, self.run = session, run
        self.kind: StudyKind | None = None
        self.fields: dict[str, Editor] = {}
        self.lines: dict[str, Line] = {}
        self.steps: dict[str, QPushButton] = {}
        self.own: QWidget | None = None
        self.study_id = ""
        # The box above each rare field that shows it; those of a section share one.
        self.more: dict[str, QCheckBox] = {}
        self._pieces: Iterator[None] = iter(())
        self._next_turn = made(QTimer(self), singleShot=True, interval=0)
        self._next_turn.timeout.connect(self.mirror)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        self.scroller = QScrollArea()
        self.scroller.setWidgetResizable(True)
        self.scroller.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        outer.addWidget(self.scroller)
        for signal in (session.changed, session.drafted, session.answered, session.live.answered):
            signal.connect(self.mirror)
        session.working.connect(lambda _task: self.mirror())
        self.mirror()

    # Building

    def _build(self, kind: StudyKind) -> None:
        self.kind = kind
        self.fields, self.lines, self.steps, self.own, self.more = {}, {}, {}, None, {}
        body = QWidget()
        body.setObjectName("sheetBody")
        self.column = column(body, (18, 14, 18, 16))
        # Shown while it grows: all of it at once would hold the window for a tenth of a second.
        self.scroller.setWidget(body)
        self._build_head(kind)
        self._pieces = self._rest_of(kind)
        self._grow()

    def _grow(self) -> None:
        """Build for a moment, and go on in the next turn of the event loop."""
        start = time.perf_counter()
        for _ in self._pieces:
            if time.perf_counter() - start > TURN_SECONDS:
                self._next_turn.start()
                return

    def show_field(self, name: str) -> None:
        """Bring a setting into sight, unfolded, and give it the keyboard."""
        for _ in self._pieces:
            pass
        editor = self.fields.get(name)
        if editor is None:
            return
        if name in self.more:
            self.more[name].setChecked(True)
        # The folded ones have no place until they were laid out.
        QTimer.singleShot(0, lambda: self.scroller.ensureWidgetVisible(editor, 0, 80))
        first = next(
            (child for child in editor.findChildren(QWidget) if child.focusPolicy() & Qt.FocusPolicy.TabFocus), None
        )
        (first or editor).setFocus()

    def growing(self) -> bool:
        """Whether a part of it is still to come."""
        return self._next_turn.isActive()

    def _rest_of(self, kind: StudyKind) -> Iterator[None]:
        declared = kind.setup.declared()
        for title in SECTIONS:
            names = [name for name, about in declared.items() if about.section == title and not about.hidden]
            if names:
                self._section(title)
                for name in [n for n in names if not declared[n].rare]:
                    self._add(kind, name)
                    yield
                rare = [n for n in names if declared[n].rare]
                if rare:
                    self.more |= dict.fromkeys(rare, self._build_more([declared[n].label.lower() for n in rare]))
                for name in rare:
                    self._add(kind, name)
                    yield
        if kind.sheet:
            own: QWidget = importlib.import_module(f"kerb.app.sheets.{kind.sheet}").make(self.session, self.run)
            self.own = own
            self.column.addWidget(own)
            yield
        self._build_found(kind)
        self.column.addStretch(1)
        yield

    def _build_head(self, kind: StudyKind) -> None:
        self.name = Label()
        self.name.setProperty("role", "heading")
        self.name.setWordWrap(True)
        self.question = Label(kind.question)
        self.question.setProperty("role", "small")
        row = QHBoxLayout()
        row.setSpacing(6)
        self.figure, self.unit = Label("—"), Label("")
        self.figure.setProperty("role", "headline")
        self.figure.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.unit.setProperty("role", "unit")
        row.addWidget(self.figure)
        row.addWidget(self.unit, 0, Qt.AlignmentFlag.AlignBottom)
        row.addStretch(1)
        self.state = Label("")
        self.state.setProperty("role", "small")
        self.state.setWordWrap(True)
        self.verdict = Label("")
        self.verdict.setProperty("role", "verdict")
        self.verdict.setWordWrap(True)
        self.verdict.hide()
        for widget in (self.name, self.question):
            self.column.addWidget(widget)
        self.column.addLayout(row)
        self.column.addWidget(self.verdict)
        self.column.addWidget(self.state)
        self.notes = column()
        self.column.addLayout(self.notes)
        self.every_note = False
        self.more_notes = QPushButton("")
        self.more_notes.setProperty("role", "link")
        self.more_notes.clicked.connect(self._turn_notes)
        self.more_notes.hide()
        self.column.addWidget(self.more_notes, 0, Qt.AlignmentFlag.AlignRight)
        self.room = QWidget()
        self.room.setFixedHeight(0)
        self.column.addWidget(self.room)

    def _add(self, kind: StudyKind, name: str) -> None:
        about = kind.setup.declared()[name]
        editor = editor_of(self.session, name, about, kind.setup.defaults()[name], self.run)
        self.fields[name] = editor
        self.column.addWidget(editor)
        editor.committed.connect(lambda value, words, n=name: self._commit(n, value, words))
        for place_step in (step for step in kind.place_steps if step.field == name):
            self._beside(editor, place_step.label, place_step.help, f"pick_place:{name}")
        if kind.move_step is not None and kind.move_step.moving == name:
            self._beside(editor, kind.move_step.label, kind.move_step.help, "move_by_eye")
        for step in (step for step in kind.steps if step.field == name):
            words = f"{step.help} ({step.key})" if step.key else step.help
            self.steps[step.id] = self._beside(editor, step.label, words, f"step:{step.id}")

    def _beside(self, editor: Editor, label: str, words: str, command: str) -> QPushButton:
        """A button in the row of an editor, which runs a command."""
        button = QPushButton(label)
        button.setToolTip(plain(words))
        button.clicked.connect(lambda: self.run(command))
        if editor.buttons.parent() is None:
            editor.box.addLayout(editor.buttons)
        editor.buttons.insertWidget(1, button)
        return button

    def _build_more(self, labels: list[str]) -> QCheckBox:
        more = QCheckBox("More settings")
        more.setToolTip(plain(f"Settings that rarely need a change: {', '.join(labels)}"))
        more.toggled.connect(lambda on: self._turn_more(more, on))
        self.column.addWidget(more)
        return more

    def _turn_more(self, more: QCheckBox, on: bool) -> None:
        """Show the fields of a box or not, the first of them in sight."""
        self.mirror()
        shown = [
            editor for name, editor in self.fields.items() if self.more.get(name) is more and not editor.isHidden()
        ]
        if on and shown:
            self.column.activate()
            body = self.scroller.widget()
            assert body is not None
            body.resize(body.width(), max(body.sizeHint().height(), body.height()))
            self.scroller.ensureVisible(0, shown[0].geometry().bottom(), 0, 60)

    def _build_found(self, kind: StudyKind) -> None:
        self._section("Found")
        for about in kind.where(SHEET):
            line = Line(about.label)
            self.lines[about.name] = line
            self.column.addWidget(line)
        copy = QPushButton("Copy as text")
        copy.setProperty("role", "link")
        copy.setToolTip("All figures, tab-separated, for a spreadsheet (Ctrl+Shift+C)")
        copy.clicked.connect(lambda: self.run("copy_figures"))
        self.column.addWidget(copy, 0, Qt.AlignmentFlag.AlignRight)

    def _section(self, words: str) -> None:
        self.column.addSpacing(5)
        self.column.addWidget(hairline())
        self.column.addSpacing(2)
        self.column.addWidget(section(words))

    # Mirroring

    def mirror(self) -> None:
        """Show the study as it is now, its draft included; a figure only where it belongs to that state."""
        study, setup, kind = self.session.study, self.session.setup, self.session.kind
        self.setVisible(study is not None)
        if study is None or setup is None or kind is None:
            return
        if self.kind is not kind or self.study_id != study.id:
            # Another study begins at its top.
            self.study_id = study.id
            if self.kind is not kind:
                self._build(kind)
            self.room.setFixedHeight(0)
            self.scroller.verticalScrollBar().setValue(0)
            self._fill(kind, setup, study.name)
            return
        if not self.growing():
            self._grow()
        self._keeping_still(lambda: self._fill(kind, setup, study.name))

    def _fill(self, kind: StudyKind, setup: Setup, name: str) -> None:
        self.name.setText(name)
        self._mirror_fields(kind, setup)
        shown = self.session.shown()
        if shown.outcome is None:
            self._show_none(shown.words)
        else:
            self._show(kind, shown.outcome)
        mirror = getattr(self.own, "mirror", None)
        if mirror is not None:
            mirror()

    def _mirror_fields(self, kind: StudyKind, setup: Setup) -> None:
        for name, editor in self.fields.items():
            about = kind.setup.declared()[name]
            editor.setVisible(setup.counts(name) and (not about.rare or self.more[name].isChecked()))
            if not editor.isHidden():
                editor.show_setup(setup)
        for step in kind.steps:
            if step.id in self.steps:
                self.steps[step.id].setVisible(step.fresh or not self.fields[step.field].empty(setup))

    def _show(self, kind: StudyKind, outcome: Outcome) -> None:
        decimals = self.session.decimals
        first, *others = kind.where(HEADLINE)
        figure = outcome.figures.get(first.name)
        self._judge(outcome.verdict)
        self._headline(figure, first, outcome.live)
        parts = []
        if figure is not None and figure.u95 is not None:
            parts.append(bounded(figure, decimals))
        for about in others:
            more = outcome.figures.get(about.name)
            if more is not None and more.value is not None:
                parts.append(replace(more, u95=None).text(decimals, about.signed))
        if outcome.live:
            parts.append("quick figure, follows the line")
        elif figure is None or figure.value is None:
            parts.append("not determinable")
        self.state.setText("  ·  ".join([first.label, *parts]))
        for about in kind.where(SHEET) if self.lines else ():
            own = outcome.figures.get(about.name)
            label = self.lines[about.name].value
            assert isinstance(label, QLabel)
            self.lines[about.name].setVisible(not about.optional or (own is not None and own.value is not None))
            label.setText("—" if own is None else self._text(own, about))
            label.setToolTip(plain("" if own is None else own.note))
        self._warnings([note.text for note in outcome.warnings])

    def _text(self, figure: Figure, about: FigureAbout) -> str:
        if about.quantity == COUNT and not figure.resolution:
            return "—" if figure.value is None else number(figure.value, 0)
        return figure.text(self.session.decimals, about.signed)

    def _judge(self, verdict: str) -> None:
        self.verdict.setText(f"▲ {verdict}" if verdict else "")
        self.verdict.setVisible(bool(verdict))

    def _show_none(self, words: str) -> None:
        self._judge("")
        self.figure.setText("—")
        self.unit.setText("")
        self.figure.setToolTip("")
        self.figure.setAccessibleName("")
        self.state.setText(words)
        for line in self.lines.values():
            assert isinstance(line.value, QLabel)
            line.value.setText("—")
            line.value.setToolTip("")
        self._warnings([])

    def _headline(self, figure: Figure | None, about: FigureAbout, live: bool) -> None:
        value = figure.value if figure is not None else None
        unit, u95 = (figure.unit, figure.u95) if figure is not None else ("", None)
        factor, printed = self.session.decimals.printed(unit)
        shown = None if value is None else value * factor
        decimals = self.session.decimals.of(printed)
        if about.quantity == VOLUME and shown is not None and abs(shown) >= LARGE:
            decimals = 0
        decimals = finer(decimals, figure.resolution * factor if figure is not None else 0.0)
        decimals = fitting(None if u95 is None else u95 * factor, decimals)
        self.figure.setText(("≈ " if live and value is not None else "") + number(shown, decimals))
        self.unit.setText("" if value is None else symbol(printed))
        self.figure.setAccessibleName(f"{about.label}: {self.figure.text()} {self.unit.text()}".strip())
        tip = "" if value is None else f"{number(value, 4)} {symbol(unit)}"
        if value is not None and about.quantity == VOLUME and self.session.unit != "m":
            cubic = convert(value, length_unit(self.session.unit), METRE, power=3)
            tip += f" = {number(cubic, 3)} m³"
        self.figure.setToolTip(plain(tip))

    def _warnings(self, texts: list[str]) -> None:
        few = texts if self.every_note or len(texts) <= MOST_NOTES + 1 else texts[:MOST_NOTES]
        self.more_notes.setVisible(len(texts) > MOST_NOTES + 1)
        self.more_notes.setText("Fewer notes" if self.every_note else f"{len(texts) - len(few)} more notes")
        shown = [widget.property("text_shown") for widget in widgets_in(self.notes)]
        if shown != few:
            fill_warnings(self.notes, few)
            for widget in widgets_in(self.notes):
                # A layout shows what is put into it in the next turn only, and has no room for it until then.
                widget.show()

    def _keeping_still(self, change: Callable[[], None]) -> None:
        """Change the sheet without moving what is under the mouse: it scrolls by as much, and what became shorter above keeps
        its room until the mouse leaves."""
        body, bar = self.scroller.widget(), self.scroller.verticalScrollBar()
        under = self._under_mouse(body) if body is not None else None
        if under is None or body is None:
            change()
            return
        before = under.mapTo(body, QPoint(0, 0)).y()
        change()
        if not under.isVisibleTo(body):
            return
        self._lay_out(body)
        moved = under.mapTo(body, QPoint(0, 0)).y() - before
        short = -(bar.value() + moved)
        if short > 0:
            self.room.setFixedHeight(self.room.height() + short)
            self._lay_out(body)
            moved += short
        # A sheet that is shorter than its room could not scroll at all.
        body.setMinimumHeight(bar.value() + moved + self.scroller.viewport().height())
        self._lay_out(body)
        bar.setMaximum(max(bar.maximum(), body.height() - self.scroller.viewport().height()))
        bar.setValue(bar.value() + moved)

    def _lay_out(self, body: QWidget) -> None:
        self.column.activate()
        body.resize(
            body.width(), max(body.sizeHint().height(), body.minimumHeight(), self.scroller.viewport().height())
        )

    def _under_mouse(self, body: QWidget) -> QWidget | None:
        """The part of the sheet that the mouse is over, below the head."""
        items = [self.column.itemAt(n) for n in range(self.column.indexOf(self.room) + 1, self.column.count())]
        parts = [item.widget() for item in items if item is not None]
        return next((part for part in parts if part is not None and part.isVisible() and part.underMouse()), None)

    def leaveEvent(self, event: QEvent) -> None:
        """The mouse is gone: room that was kept is given back."""
        super().leaveEvent(event)
        body = self.scroller.widget()
        if self.kind is not None and body is not None:
            self.room.setFixedHeight(0)
            body.setMinimumHeight(0)

    def _turn_notes(self) -> None:
        self.every_note = not self.every_note
        self.mirror()

    def _commit(self, name: str, value: object, words: str) -> None:
        assert self.kind is not None
        label = self.kind.setup.declared()[name].label
        self.session.commit(f"{label} {words}", **{name: value})
