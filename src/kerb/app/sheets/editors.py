"""An editor for each kind of field: it mirrors the setup and says what the analyst changes it to."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from kerb.app.filtering import sentence
from kerb.app.session import Session
from kerb.app.shapes import counted
from kerb.app.sheets.fields import ChoiceField, Line, NumberField, TextField
from kerb.app.sheets.rings import RingsTable
from kerb.app.widgets import Label, made, plain
from kerb.core.geometry import polygon
from kerb.core.quantity import quantity, symbol
from kerb.core.units import density_unit
from kerb.job.state import Holding
from kerb.studies.drawn import Drawn
from kerb.studies.fields import (
    CHOICE,
    CODECS,
    DRAWN,
    HOLDINGS,
    LINE,
    MANY,
    NUMBER,
    PLACES,
    RING,
    RINGS,
    SCOPE,
    SURFACE,
    SWITCH,
    TEXT,
    Field,
)
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup
from kerb.studies.sources import KINDS_OF

MOST_LETTERS = 34
MOST_LISTED = 5
NARROWING = {"classes": "Points", "filters": "Filters", "within": "Inside"}


class Editor(QWidget):
    """One field of a setup. ``committed`` gives the new value and what was done, in words."""

    committed = Signal(object, str)

    def __init__(self, session: Session, name: str, about: Field) -> None:
        super().__init__()
        self.session, self.name, self.about = session, name, about
        self.box = QVBoxLayout(self)
        self.box.setContentsMargins(0, 0, 0, 0)
        self.box.setSpacing(5)
        # Steps that change the field have their buttons here.
        self.buttons = QHBoxLayout()
        self.buttons.addStretch(1)

    def show_setup(self, setup: Setup) -> None:
        """Mirror the field."""
        raise NotImplementedError

    def empty(self, setup: Setup) -> bool:
        """Whether the field holds nothing."""
        return CODECS[self.about.kind].empty(getattr(setup, self.name))


class PlainEditor(Editor):
    """A number, a choice or a text in a line."""

    def __init__(self, session: Session, name: str, about: Field, default: object) -> None:
        super().__init__(session, name, about)
        self.field: NumberField | ChoiceField | TextField
        if about.kind == NUMBER:
            self.field = NumberField(about, default is None)
        elif about.kind == CHOICE:
            self.field = ChoiceField(about.choices)
        else:
            self.field = TextField(about.help)
        self.line = Line(about.label, self.field, about.help)
        self.field.committed.connect(self._finish)
        self.box.addWidget(self.line)

    def show_setup(self, setup: Setup) -> None:
        """Mirror the value, with its unit."""
        self.field.show_value(getattr(setup, self.name), unit_words(self.session, self.about, setup))

    def _finish(self, value: object) -> None:
        said = "automatic" if value is None else value
        if isinstance(self.field, ChoiceField):
            said = self.field.currentText()
        self.committed.emit(value, f"set to {said}")


class SwitchEditor(Editor):
    """On or off."""

    def __init__(self, session: Session, name: str, about: Field) -> None:
        super().__init__(session, name, about)
        self.field = QCheckBox(about.label)
        self.field.setToolTip(plain(about.help))
        self.field.clicked.connect(lambda on: self.committed.emit(on, "switched on" if on else "switched off"))
        self.box.addWidget(self.field)

    def show_setup(self, setup: Setup) -> None:
        """Mirror the switch."""
        self.field.setChecked(bool(getattr(setup, self.name)))


class HoldingEditor(Editor):
    """A holding of the kinds that fit; of a cloud also its part, classes, filters and areas."""

    def __init__(self, session: Session, name: str, about: Field, run: Callable[[str], None]) -> None:
        super().__init__(session, name, about)
        self.field = ChoiceField(())
        self.field.committed.connect(self._holding)
        self.box.addWidget(Line(about.label, self.field, about.help))
        self.narrowing = QWidget()
        inner = QVBoxLayout(self.narrowing)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(5)
        self.part = ChoiceField((("", "All points"),))
        self.part.committed.connect(lambda part: self._narrow(f"part {part or 'all points'}", part=part))
        self.part_line = Line("Part", self.part, "Only points of this part of the cloud count; all when empty")
        inner.addWidget(self.part_line)
        self.links: dict[str, QPushButton] = {}
        for key, tip in (
            ("classes", "Classes of points that count; noise classes never do unless chosen"),
            ("filters", "Filters that points must pass to count; they do not follow the view"),
            ("within", "Areas that points must lie in to count, holes left out"),
        ):
            link = QPushButton("")
            link.setProperty("role", "link")
            link.setToolTip(plain(tip))
            link.clicked.connect(lambda _on, k=key: run(f"choose_{k}:{self.name}"))
            self.links[key] = link
            inner.addWidget(Line(NARROWING[key], link))
        self.box.addWidget(self.narrowing)
        self.narrowing.setVisible(about.kind in (SCOPE, SURFACE))

    def show_setup(self, setup: Setup) -> None:
        """Mirror holding and narrowing."""
        state = self.session.open_job.state
        offers = tuple((h.id, _words(h)) for h in state.of_kind(*KINDS_OF[self.about.kind]))
        value = getattr(setup, self.name)
        key = value.holding if isinstance(value, Scope) else str(value)
        needed = bool(self.about.needed) and self.about.kind == SCOPE
        self.field.offer(offers if needed and key else (("", "choose…" if self.about.needed else "none"), *offers))
        self.field.show_value(key)
        holding = state.holding(key) if key else None
        narrows = isinstance(value, Scope) and holding is not None and holding.kind == "cloud"
        self.narrowing.setVisible(narrows)
        if isinstance(value, Scope) and holding is not None and narrows:
            self._show_narrowing(value, holding)

    def _show_narrowing(self, scope: Scope, holding: Holding) -> None:
        names = [part.name for part in holding.parts]
        if scope.part and scope.part not in names:
            names.append(scope.part)
        self.part.offer((("", "All points"), *((name, name) for name in names)))
        self.part.show_value(scope.part)
        self.part_line.setVisible(bool(names))
        chosen = ", ".join(map(str, scope.classes))
        self.links["classes"].setText(f"classes {chosen} ▾" if chosen else "all but noise ▾")
        said = "none"
        if scope.only:
            whole = sentence(scope.only, self.session.open_job.store(holding), holding, self.session.unit)
            self.links["filters"].setToolTip(plain(f"Only points with {whole} count"))
            said = whole if len(whole) < MOST_LETTERS else f"{len(scope.only)} filters"
        self.links["filters"].setText(f"{said} ▾")
        inside = scope.within[0].name or "an area" if len(scope.within) == 1 else f"{len(scope.within)} areas"
        self.links["within"].setText(f"{inside if scope.within else 'everywhere'} ▾")
        for key, words in NARROWING.items():
            self.links[key].setAccessibleName(f"{words}: {self.links[key].text()}")

    def _holding(self, key: str) -> None:
        value = getattr(self.session.setup, self.name)
        words = f"set to {self.field.currentText()}"
        if isinstance(value, Scope):
            # Parts and attributes are those of the cloud before.
            self.committed.emit(replace(value, holding=key, part="", only=()), words)
        else:
            self.committed.emit(key, words)

    def _narrow(self, words: str, **values: Any) -> None:
        self.committed.emit(replace(getattr(self.session.setup, self.name), **values), words)


class ManyEditor(Editor):
    """Any number of holdings, ticked in a list."""

    def __init__(self, session: Session, name: str, about: Field) -> None:
        super().__init__(session, name, about)
        head = Label(about.label)
        head.setToolTip(plain(about.help))
        self.none = Label("none in the job")
        self.none.setProperty("role", "small")
        row = QHBoxLayout()
        row.addWidget(head)
        row.addStretch(1)
        row.addWidget(self.none)
        self.box.addLayout(row)
        self.list = made(QListWidget(), toolTip=about.help)
        self.list.setAccessibleName(about.label)
        self.list.itemChanged.connect(self._ticked)
        self.box.addWidget(self.list)

    def show_setup(self, setup: Setup) -> None:
        """Mirror which are ticked."""
        chosen = {one.holding for one in getattr(setup, self.name)}
        # What a field before names, such as the compared cloud, is there already.
        taken = {value.holding for name in setup.named(SCOPE) if (value := getattr(setup, name)).holding}
        held = self.session.open_job.state.of_kind(*KINDS_OF[self.about.kind])
        offers = [h for h in held if h.id not in taken or h.id in chosen]
        self.list.blockSignals(True)
        self.list.clear()
        for holding in offers:
            item = QListWidgetItem(_words(holding))
            item.setData(Qt.ItemDataRole.UserRole, holding.id)
            item.setCheckState(Qt.CheckState.Checked if holding.id in chosen else Qt.CheckState.Unchecked)
            self.list.addItem(item)
        self.list.blockSignals(False)
        self.list.setFixedHeight(8 + 22 * min(max(len(offers), 1), MOST_LISTED))
        self.list.setVisible(bool(offers))
        self.none.setVisible(not offers)

    def _ticked(self, item: QListWidgetItem) -> None:
        key, kept = item.data(Qt.ItemDataRole.UserRole), getattr(self.session.setup, self.name)
        on = item.checkState() == Qt.CheckState.Checked
        rest = tuple(one for one in kept if one.holding != key)
        self.committed.emit((*rest, Scope(key)) if on else rest, f"{item.text()} {'taken' if on else 'left out'}")


class DrawnEditor(Editor):
    """A drawn shape: what is drawn, and a button to draw it."""

    def __init__(self, session: Session, name: str, about: Field, run: Callable[[str], None]) -> None:
        super().__init__(session, name, about)
        self.words = Label("not drawn")
        self.box.addWidget(Line(about.label, self.words, about.help))
        self.draw = QPushButton(f"Draw {about.label.lower()}")
        self.draw.setToolTip(plain(f"{about.help} ({about.key})" if about.key else about.help))
        self.draw.clicked.connect(lambda: run(f"draw:{self.name}"))
        self.buttons.addWidget(self.draw)
        self.box.addLayout(self.buttons)

    def show_setup(self, setup: Setup) -> None:
        """Mirror how many vertices or places there are and how long the line is."""
        drawn: Drawn = getattr(setup, self.name)
        self.words.setText(self._said(drawn))
        again = "Draw more" if self.about.further else "Draw anew"
        self.draw.setText(again if drawn else f"Draw {self.about.label.lower()}")
        self.draw.setProperty("role", "" if drawn else "main")
        self.draw.style().polish(self.draw)

    def _said(self, drawn: Drawn) -> str:
        if not drawn:
            return "not drawn"
        count = counted(len(drawn.xy), self.about.kind)
        if self.about.kind != RING:
            return count
        around = polygon.perimeter(drawn.places)
        return f"{count} · {quantity(around, self.session.unit, replace(self.session.decimals, length=1))}"


class RingsEditor(Editor):
    """Many drawn rings: a table with a tick, the name and values of its own for each."""

    def __init__(self, session: Session, name: str, about: Field, run: Callable[[str], None]) -> None:
        super().__init__(session, name, about)
        head = QHBoxLayout()
        self.words = Label("")
        self.words.setProperty("role", "small")
        head.addWidget(self.words)
        head.addStretch(1)
        buttons = [("Draw", f"draw:{name}", f"{about.help} ({about.key})" if about.key else about.help),
                   ("From a holding…", f"take_rings:{name}", "Take all areas of a holding of lines")]  # fmt: skip
        if about.ways:
            more = made(QPushButton("Add…"), toolTip=f"Choose what the next step does, and draw where ({about.key})")
            menu = QMenu(more)
            for kind, heading in ((PLACES, "At places"), (LINE, "Along a line"), (RING, "Inside a line")):
                # A heading: sections have no words in the window's style.
                menu.addAction(heading).setEnabled(False)
                for way in (one for one in about.ways if one.kind == kind):
                    action = menu.addAction(way.label, lambda w=way.id: run(f"draw:{name}/{w}"))
                    action.setToolTip(plain(way.help))
            menu.setToolTipsVisible(True)
            more.setMenu(menu)
            more.setProperty("role", "narrow")
            head.addWidget(more)
            buttons = []
        for label, key, tip in buttons:
            button = QPushButton(label)
            button.setToolTip(plain(tip))
            button.setAccessibleName(f"{about.label}: {label.lower()}")
            button.setProperty("role", "narrow")
            button.clicked.connect(lambda _on, k=key: run(k))
            head.addWidget(button)
        self.box.addLayout(head)
        self.table = RingsTable(session, about)
        self.table.committed.connect(self.committed)
        self.table.setAccessibleName(about.label)
        self.box.addWidget(self.table)
        self.box.addLayout(self.buttons)

    def show_setup(self, setup: Setup) -> None:
        """Mirror the rings."""
        items = getattr(setup, self.name)
        taken = sum(item.taken for item in items)
        said = f"{taken} of {len(items)}" if items else "none yet"
        self.words.setText(f"{self.about.label}: {said}")
        weighed = replace(self.about, unit="density")
        self.table.show_items(items, unit_words(self.session, weighed, setup) if self.about.unit_by else "")


def editor_of(session: Session, name: str, about: Field, default: object, run: Callable[[str], None]) -> Editor:
    """The editor of a field."""
    if about.kind in HOLDINGS:
        return HoldingEditor(session, name, about, run)
    if about.kind in MANY:
        return ManyEditor(session, name, about)
    if about.kind in DRAWN:
        return DrawnEditor(session, name, about, run)
    if about.kind == RINGS:
        return RingsEditor(session, name, about, run)
    if about.kind == SWITCH:
        return SwitchEditor(session, name, about)
    assert about.kind in (NUMBER, CHOICE, TEXT), about.kind
    return PlainEditor(session, name, about, default)


def unit_words(session: Session, about: Field, setup: Setup) -> str:
    """The printed unit of a field."""
    if about.unit == "length":
        return symbol(session.unit)
    if about.unit in ("area", "volume"):
        return symbol(f"{session.unit}{2 if about.unit == 'area' else 3}")
    if about.unit == "density":
        return density_unit(setup.unit_of(about)).symbol
    return symbol(about.unit)


def _words(holding: Holding) -> str:
    return f"{holding.name} · {holding.epoch}" if holding.epoch else holding.name
