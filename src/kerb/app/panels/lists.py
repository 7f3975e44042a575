"""The left panel: holdings by epoch, and studies with their headline figure and state."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

from PySide6.QtCore import QPoint, Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMenu, QScrollArea, QToolButton, QVBoxLayout, QWidget

from kerb.app.doing.sections import words_of
from kerb.app.icons import icon
from kerb.app.keeper import SectionKeeper
from kerb.app.panels.parts import PartRow
from kerb.app.panels.row import ROW, Row, RowDoing, RowWords
from kerb.app.session import Session
from kerb.app.sheets.fields import hairline
from kerb.app.theme import Theme
from kerb.app.views.things import ink_of
from kerb.app.widgets import Label, made
from kerb.core.quantity import quantity
from kerb.core.section.placed import PlacedSection
from kerb.core.things import LINES, PICTURE, POINTS, SURFACE
from kerb.job import holdings, studies
from kerb.job.state import Holding, Part, StudyRecord
from kerb.studies.registry import study_kind

# What the menus of rows offer: words and action.
OF_SECTION = (
    ("Look along", "look_along"), ("Numbers and name…", "section_numbers"), ("Copies…", "section_copies"),
    ("Series of sections…", "section_series"), ("Select its points", "section_select"), ("Outlines", "section_outlines"),
    ("Picture to a file…", "section_picture"), ("Remove", "remove_section"),
)  # fmt: skip
OF_STUDY = (
    ("Rename…", "rename_study"), ("Duplicate", "duplicate_study"), ("Same for the next survey…", "follow_study"),
    ("Fit in view", "fit_study"), ("Compute", "compute"), ("Remove", "remove_study"),
)  # fmt: skip


MOST_SECTIONS = 3


class Lists(QWidget):
    """Holdings above, sections where there are any, studies below. They mirror the job and hold nothing of their own."""

    action_wanted = Signal(str)

    def __init__(self, session: Session, theme: Theme, keeper: SectionKeeper, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.keeper = keeper
        self.setObjectName("left")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session, self.theme = session, theme
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 8, 1, 0)
        column.setSpacing(0)
        self.holdings = QVBoxLayout()
        self.sections = QVBoxLayout()
        self.studies = QVBoxLayout()
        self._of_sections: list[QWidget] = []
        for heading, box, action, tip in (
            ("Holdings", self.holdings, "import", "Bring data in… (Ctrl+I)"),
            ("Sections", self.sections, "place_section", "Place a section by clicks (X)"),
            ("Studies", self.studies, "new_study", "New study: choose a question (Ctrl+Shift+Q)"),
        ):
            line, head = hairline(), self._heading(heading, action, tip)
            line.setVisible(heading != "Holdings")
            column.addWidget(line)
            column.addWidget(head)
            box.setSpacing(0)
            inner = QWidget()
            outer = QVBoxLayout(inner)
            outer.setContentsMargins(0, 0, 0, 0)
            outer.addLayout(box)
            outer.addStretch(1)
            scroll = made(QScrollArea(), widgetResizable=True)
            scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
            scroll.setWidget(inner)
            column.addWidget(scroll, {"Holdings": 4, "Sections": 2}.get(heading, 5))
            if heading == "Sections":
                self._of_sections = [line, head, scroll]
        self.rows: dict[str, Row] = {}
        self._kept_holdings: dict[str, QWidget] = {}
        self._kept_studies: dict[str, QWidget] = {}
        self._kept_sections: dict[str, QWidget] = {}
        self.looked_over = ""
        self.marks_study = True
        # Opening and choosing end with a change: once is enough.
        session.changed.connect(self.mirror)
        keeper.changed.connect(self._mirror_sections)
        self._mirror_sections()

    def _heading(self, text: str, action: str, tip: str) -> QWidget:
        whole = QWidget()
        row = QHBoxLayout(whole)
        row.setContentsMargins(14, 4, 8, 2)
        label = Label(text)
        label.setProperty("role", "section")
        button = made(QToolButton(), toolTip=tip)
        button.setIcon(icon("plus", self.theme.quiet, 16))
        button.setAccessibleName(tip)
        button.clicked.connect(lambda: self.action_wanted.emit(action))
        row.addWidget(label)
        row.addStretch(1)
        row.addWidget(button)
        return whole

    def mirror(self) -> None:
        """Show the job as it is now. Rows stay and are changed; only what is new is made, only what is gone goes."""
        state = self.session.open_job.state if self.session.job else None
        wanted: list[tuple[str, Callable[[], QWidget], Callable[[QWidget], None]]] = []
        if state is None or not state.holdings:
            words = "Drop any file here: clouds, points, drawings, surfaces, models, pictures."
            wanted.append(("hint", partial(_hint, words), _nothing))
        epochs: dict[str, list[Holding]] = {}
        for holding in state.holdings if state else ():
            epochs.setdefault(holding.epoch or "No epoch date", []).append(holding)
        for epoch in sorted(epochs, reverse=True):
            wanted.append((f"epoch {epoch}", partial(_epoch, epoch), _nothing))
            for holding in epochs[epoch]:
                wanted.append((holding.id, self._new_row, partial(self._fill_holding, holding=holding)))
                wanted += [
                    (f"{holding.id}|{part.number}", partial(self._part_row, holding, part),
                     partial(self._fill_part, holding=holding, part=part))
                    for part in holding.parts
                ]  # fmt: skip
        _arrange(self.holdings, self._kept_holdings, wanted)
        wanted = []
        if state is None or not state.studies:
            words = "A study answers one question about the data. Press + to choose one."
            wanted.append(("hint", partial(_hint, words), _nothing))
        for study in state.studies if state else ():
            wanted.append((study.id, self._new_row, partial(self._fill_study, study=study)))
        _arrange(self.studies, self._kept_studies, wanted)
        self._gather()

    def _gather(self) -> None:
        """Rows by the id of what they show."""
        every = {**self._kept_holdings, **self._kept_studies, **self._kept_sections}
        self.rows = {key: row for key, row in every.items() if isinstance(row, Row)}

    def _mirror_sections(self) -> None:
        """Show the sections; without any their part of the panel is not there."""
        found = self.keeper.all()
        _arrange(
            self.sections,
            self._kept_sections,
            [(s.id, self._new_row, partial(self._fill_section, section=s)) for s in found],
        )
        for widget in self._of_sections:
            widget.setVisible(bool(found))
        # No more room than it needs, and no more than for three rows.
        self._of_sections[-1].setMaximumHeight(ROW * min(max(len(found), 1), MOST_SECTIONS) + 4)
        self._gather()

    def _fill_section(self, row: QWidget, section: PlacedSection) -> None:
        assert isinstance(row, Row)
        words = words_of(section, self.session.unit)
        row.show_words(
            RowWords(section.name, words, chosen=section.id == self.keeper.chosen, tip=f"{section.name}: {words}")
        )
        row.doing = RowDoing(
            lambda: self.action_wanted.emit(f"look_along:{section.id}"), None,
            lambda place: self._menu(f":{section.id}", OF_SECTION, place),
        )  # fmt: skip

    def _menu(self, about: str, entries: tuple[tuple[str, str], ...], place: QPoint) -> None:
        menu = QMenu(self)
        for words, action in entries:
            menu.addAction(words, lambda a=action: self.action_wanted.emit(f"{a}{about}"))
        menu.popup(place)

    def _new_row(self) -> Row:
        return Row(self.theme)

    def _fill_holding(self, row: QWidget, holding: Holding) -> None:
        assert isinstance(row, Row)
        # Most changes are about one holding: the rows of the others say what they did.
        old = studies.outdated(self.session.open_job.state, holding) if holding.maker else False
        state = (holding, holding.id == self.looked_over, self.session.unit, old)
        if row.filled is not None and row.filled[0] is holding and row.filled[1:] == state[1:]:
            return
        row.filled = state
        missing = holdings.source_missing(holding)
        size = "picture tiles" if holding.kind == PICTURE and not holding.points else self._size(holding)
        notes = "\n".join(f"• {text}" for _code, text in holding.notes)
        row.show_words(
            RowWords(
                holding.name, size + (" · source file moved" if missing else " · out of date" if old else ""),
                mark="shown" if holding.visible else "hidden", pale=not holding.visible,
                ink=ink_of(self.session, holding, self.theme.name) if holding.kind in (POINTS, LINES) else "",
                chosen=holding.id == self.looked_over, alarm=missing or old, tip=f"{holding.source}\n{notes}".strip(),
            )
        )  # fmt: skip
        row.doing = RowDoing(
            lambda: self.action_wanted.emit(f"look_over:{holding.id}"), lambda: self._toggle(holding),
            lambda place: self._holding_menu(holding, place),
        )  # fmt: skip

    def _part_row(self, holding: Holding, part: Part) -> PartRow:
        row = PartRow(self.theme, holding, part)
        row.action_wanted.connect(self.action_wanted)
        return row

    def _fill_part(self, row: QWidget, holding: Holding, part: Part) -> None:
        assert isinstance(row, PartRow)
        row.show_part(holding, part)

    def _size(self, holding: Holding) -> str:
        return holdings.size_words(self.session.open_job, holding)

    def _toggle(self, holding: Holding) -> None:
        words = f"{'Hid' if holding.visible else 'Showed'} {holding.name}"
        change = holdings.altered(holding, words, visible=not holding.visible)
        self.session.execute(change.as_look())

    def _holding_menu(self, holding: Holding, place: QPoint) -> None:
        menu = QMenu(self)
        menu.addAction("Hide" if holding.visible else "Show", lambda: self._toggle(holding))
        menu.addAction("Fit in view", lambda: self.action_wanted.emit(f"holding:{holding.id}"))
        for words, action in (
            ("Look over", "look_over"), ("Rename…", "rename_holding"), ("Set epoch date…", "epoch"),
            ("Duplicate", "duplicate_holding"), ("Write to a file…", "write_holding"),
        ):  # fmt: skip
            menu.addAction(words, lambda a=action: self.action_wanted.emit(f"{a}:{holding.id}"))
        if holding.kind == SURFACE:
            menu.addAction("Look of surfaces…", lambda: self.action_wanted.emit(f"surface_look:{holding.id}"))
        if holdings.source_missing(holding):
            menu.addAction("Find source file…", lambda: self.action_wanted.emit(f"relink:{holding.id}"))
        menu.addSeparator()
        menu.addAction("Remove", lambda: self.action_wanted.emit(f"remove_holding:{holding.id}"))
        menu.popup(place)

    def _fill_study(self, row: QWidget, study: StudyRecord) -> None:
        assert isinstance(row, Row)
        kind = study_kind(study.kind)
        value, second = headline(self.session, study), state_words(self.session, study)
        chosen = study.id == self.session.study_id and self.marks_study
        alarm = "out of date" in second or second.startswith("▲")
        row.show_words(
            RowWords(study.name, second, value, chosen=chosen, alarm=alarm, tip=f"{kind.title}: {kind.question}")
        )
        row.doing = RowDoing(lambda: self._open(study.id), None, lambda place: self._study_menu(place))

    def _open(self, key: str) -> None:
        self.session.select(key)
        self.action_wanted.emit("study_in_sight")

    def _study_menu(self, place: QPoint) -> None:
        self._menu("", OF_STUDY, place)


def headline(session: Session, study: StudyRecord) -> str:
    """The headline figure of a study in short form; a dash where none belongs to what the study says now."""
    if study.found is None or study.found.value is None or session.stale(study):
        return "—"
    decimals = replace(session.decimals, volume=0)
    signed = study_kind(study.kind).headline.signed
    found = study.found
    return quantity(found.value, found.unit, decimals, signed, found.u95, found.resolution)


def state_words(session: Session, study: StudyRecord) -> str:
    """What state a study is in, in words."""
    kind = study_kind(study.kind).title
    if session.compute_task is not None and study.id == session.computing[0]:
        return f"{kind} · computing…"
    setup = studies.setup_of(study)
    if setup.missing():
        return f"{kind} · still to do"
    if study.found is None:
        return f"{kind} · not computed"
    if session.stale(study):
        return f"{kind} · out of date"
    if study.found.verdict:
        return f"▲ {study.found.verdict}"
    notes = study.found.notes
    return f"{kind} · up to date" if not notes else f"{kind} · {notes} note{'s' if notes > 1 else ''}"


def _arrange(
    box: QVBoxLayout, kept: dict[str, QWidget],
    wanted: list[tuple[str, Callable[[], QWidget], Callable[[QWidget], None]]],
) -> None:  # fmt: skip
    """Bring the widgets of a box in line with a list of (key, make, fill), keeping those that are there."""
    keys = {key for key, _, _ in wanted}
    for key in [key for key in kept if key not in keys]:
        gone = kept.pop(key)
        # Hidden first: a widget without a parent that waits to be shown would become a window of its own.
        gone.hide()
        box.removeWidget(gone)
        gone.deleteLater()
    for place, (key, make, fill) in enumerate(wanted):
        widget = kept.get(key)
        if widget is None:
            widget = kept[key] = make()
            box.insertWidget(place, widget)
        else:
            item = box.itemAt(place)
            if item is None or item.widget() is not widget:
                box.removeWidget(widget)
                box.insertWidget(place, widget)
        fill(widget)


def _nothing(_widget: QWidget) -> None:
    """A hint or heading stays as it is."""


def _epoch(text: str) -> QLabel:
    label = Label(text)
    label.setProperty("role", "small")
    label.setContentsMargins(14, 4, 0, 2)
    return label


def _hint(text: str) -> QLabel:
    label = Label(text)
    label.setWordWrap(True)
    label.setProperty("role", "small")
    label.setContentsMargins(14, 6, 14, 6)
    return label
