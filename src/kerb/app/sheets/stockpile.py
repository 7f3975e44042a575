"""The sheet of a stockpile study: the figure on top, then Compared, Against, Where, How and Found."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLabel, QPushButton, QScrollArea, QVBoxLayout, QWidget

from kerb.app.filtering import sentence
from kerb.app.session import Session
from kerb.app.sheets.fields import ChoiceField, Line, NumberField, TextField, column, fill_warnings, hairline, section
from kerb.core.geometry import polygon
from kerb.core.quantity import number, quantity, symbol
from kerb.core.setting import settings_of
from kerb.core.things import CLOUD, MODEL, SURFACE
from kerb.core.units import METRE, convert, density_unit, length_unit
from kerb.studies.outcome import Outcome
from kerb.studies.stockpile import BASES, StockpileSetup
from kerb.studies.stockpile.figures import LABELS, mass_per_volume

LENGTHS = ("cell", "gap_edge", "toe_error", "bias")
MOST_LETTERS = 34
SHOWN = (
    "above", "below", "plan_area", "surface_area", "highest", "height", "mean_slope", "steepest_slope", "gap_area",
    "check_net", "check_percent",
)  # fmt: skip


class StockpileSheet(QWidget):
    """Set up and read one stockpile study. Mirrors the session and commits settings through it."""

    action_wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("sheetBody")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session = session
        self.about = settings_of(StockpileSetup)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        scroll = QScrollArea(widgetResizable=True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        body = QWidget()
        body.setObjectName("sheetBody")
        scroll.setWidget(body)
        outer.addWidget(scroll)
        self.column = column(body, (18, 14, 18, 16))
        self.fields: dict[str, NumberField | ChoiceField | TextField] = {}
        self.lines: dict[str, Line] = {}
        self._build_head()
        self._build_roles()
        self._build_how()
        self._build_found()
        self.column.addStretch(1)
        for signal in (
            session.changed,
            session.selected,
            session.drafted,
            session.answered,
            session.live.answered,
        ):
            signal.connect(self.mirror)
        self.mirror()

    # Building

    def _build_head(self) -> None:
        self.name = QLabel()
        self.name.setProperty("role", "heading")
        self.name.setWordWrap(True)
        self.question = QLabel("How much is in it?")
        self.question.setProperty("role", "small")
        row = QHBoxLayout()
        row.setSpacing(6)
        self.figure, self.unit = QLabel("—"), QLabel("")
        self.figure.setProperty("role", "headline")
        self.figure.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.figure.setAccessibleName("Net volume")
        self.unit.setProperty("role", "unit")
        row.addWidget(self.figure)
        row.addWidget(self.unit, 0, Qt.AlignmentFlag.AlignBottom)
        row.addStretch(1)
        self.state = QLabel("")
        self.state.setProperty("role", "small")
        self.state.setWordWrap(True)
        for widget in (self.name, self.question):
            self.column.addWidget(widget)
        self.column.addLayout(row)
        self.column.addWidget(self.state)
        self.notes = column()
        self.column.addLayout(self.notes)

    def _build_roles(self) -> None:
        self._section("Compared")
        self._add("cloud", "Top", ChoiceField(()), "The cloud whose surface is the top of the heap")
        self._add("part", "Part", ChoiceField((("", "All points"),)), self.about["part"][0].help)
        self.classes = QPushButton("")
        self.classes.setProperty("role", "link")
        self.classes.setToolTip("Classes of points that count; noise classes never do unless chosen")
        self.classes.clicked.connect(lambda: self.action_wanted.emit("choose_classes"))
        self.column.addWidget(Line("Points", self.classes))
        self.only = QPushButton("")
        self.only.setProperty("role", "link")
        self.only.setToolTip(
            "Filters that points must pass to count, each in its own unit; they do not follow the view"
        )
        self.only.clicked.connect(lambda: self.action_wanted.emit("choose_filters"))
        self.column.addWidget(Line("Filters", self.only))
        self._section("Against")
        self._add("base", "Base", ChoiceField(BASES), self.about["base"][0].help)
        self._add("level", "Level", NumberField(self.about["level"][0], True), self.about["level"][0].help)
        self._add("base_surface", "Surface", ChoiceField(()), self.about["base_surface"][0].help)
        self._section("Where")
        self.toe = Line("Toe", QLabel("not drawn"))
        self.column.addWidget(self.toe)
        row = QHBoxLayout()
        self.draw = QPushButton("Draw toe line")
        self.draw.clicked.connect(lambda: self.action_wanted.emit("draw_toe"))
        self.pull = QPushButton("Pull to toe")
        self.pull.setToolTip("Move the line to the break of slope near it; undo takes it back (Ctrl+T)")
        self.pull.clicked.connect(lambda: self.action_wanted.emit("pull_toe"))
        row.addStretch(1)
        row.addWidget(self.pull)
        row.addWidget(self.draw)
        self.column.addLayout(row)

    def _build_how(self) -> None:
        self._section("How")
        self._add("material", "Material", TextField(self.about["material"][0].help), self.about["material"][0].help)
        self._add("density", "Density", NumberField(self.about["density"][0], True), self.about["density"][0].help)
        self._add("density_unit", "", ChoiceField(self.about["density_unit"][0].choices), "Unit of the density")
        self.more = QCheckBox("Grid, gaps and stated errors")
        self.more.setToolTip("Show settings that rarely need a change")
        self.more.toggled.connect(lambda _on: self.mirror())
        self.column.addWidget(self.more)
        for name in LENGTHS:
            about, default = self.about[name]
            self._add(name, about.label, NumberField(about, default is None), about.help)

    def _build_found(self) -> None:
        self._section("Found")
        for name in SHOWN:
            line = Line(LABELS[name])
            self.lines[name] = line
            self.column.addWidget(line)
        copy = QPushButton("Copy as text")
        copy.setProperty("role", "link")
        copy.setToolTip("All figures, tab-separated, for a spreadsheet (Ctrl+Shift+C)")
        copy.clicked.connect(lambda: self.action_wanted.emit("copy_figures"))
        self.column.addWidget(copy, 0, Qt.AlignmentFlag.AlignRight)

    def _section(self, words: str) -> None:
        self.column.addSpacing(5)
        self.column.addWidget(hairline())
        self.column.addSpacing(2)
        self.column.addWidget(section(words))

    def _add(self, name: str, words: str, field: NumberField | ChoiceField | TextField, tip: str) -> None:
        line = Line(words, field, tip)
        self.fields[name] = field
        self.lines[f"field:{name}"] = line
        field.committed.connect(lambda value, n=name, w=words: self._commit(n, w, value))
        self.column.addWidget(line)

    # Mirroring

    def mirror(self, *_ignored: object) -> None:
        """Show the study as it is now, its draft included."""
        study, setup = self.session.study, self.session.setup
        self.setVisible(study is not None)
        if study is None or setup is None:
            return
        self.name.setText(study.name)
        self._mirror_fields(setup)
        outcome = self.session.outcome()
        live = self.session.live.answer
        fresh = outcome is not None and self.session.draft is None and not self.session.stale(study)
        if fresh:
            self._show_outcome(outcome)
        elif live is not None and setup.toe:
            self._show_live(setup)
        else:
            self._show_none(setup)

    def _mirror_fields(self, setup: StockpileSetup) -> None:
        state = self.session.job.state
        clouds = tuple((h.id, _holding_words(h)) for h in state.of_kind(CLOUD))
        bases = tuple((h.id, _holding_words(h)) for h in state.of_kind(CLOUD, SURFACE, MODEL))
        unit = symbol(self.session.unit)
        for name in ("cloud", "base_surface"):
            field = self.fields[name]
            wanted = clouds if name == "cloud" else (("", "choose…"), *bases)
            if [field.itemData(i) for i in range(field.count())] != [key for key, _ in wanted] or any(
                field.itemText(i) != words for i, (_, words) in enumerate(wanted)
            ):
                field.set_choices(wanted)
        self._mirror_parts(setup)
        for name, field in self.fields.items():
            shown = density_unit(setup.density_unit).symbol if name == "density" else unit
            field.show_value(getattr(setup, name), shown)
        self.lines["field:level"].setVisible(setup.base == "level")
        self.lines["field:base_surface"].setVisible(setup.base == "surface")
        for name in LENGTHS:
            self.lines[f"field:{name}"].setVisible(self.more.isChecked())
        chosen = ", ".join(map(str, setup.classes))
        self.classes.setText(f"classes {chosen} ▾" if chosen else "all but noise ▾")
        self.only.setText(f"{self._filter_words(setup)} ▾")
        self.draw.setText("Draw anew" if setup.toe else "Draw toe line")
        self.draw.setProperty("role", "" if setup.toe else "main")
        self.draw.style().polish(self.draw)
        self.pull.setVisible(bool(setup.toe))
        self.toe.value.setText(self._toe_words(setup))

    def _mirror_parts(self, setup: StockpileSetup) -> None:
        holding = self.session.job.state.holding(setup.cloud)
        names = [part.name for part in holding.parts] if holding is not None else []
        if setup.part and setup.part not in names:
            names.append(setup.part)
        field = self.fields["part"]
        wanted = (("", "All points"), *((name, name) for name in names))
        if [field.itemData(i) for i in range(field.count())] != [key for key, _ in wanted]:
            field.set_choices(wanted)
        self.lines["field:part"].setVisible(bool(names))

    def _filter_words(self, setup: StockpileSetup) -> str:
        holding = self.session.job.state.holding(setup.cloud)
        if not setup.only or holding is None:
            return "none"
        said = sentence(setup.only, self.session.job.store(holding), holding, self.session.unit)
        self.only.setToolTip(f"Only points with {said} count")
        return said if len(said) < MOST_LETTERS else f"{len(setup.only)} filters"

    def _toe_words(self, setup: StockpileSetup) -> str:
        if not setup.toe:
            return "not drawn"
        try:
            around = polygon.perimeter(setup.ring())
        except Exception:
            return f"{len(setup.toe)} vertices"
        length = quantity(around, self.session.unit, replace(self.session.decimals, length=1))
        return f"{len(setup.toe)} vertices · {length}"

    def _show_outcome(self, outcome: Outcome) -> None:
        decimals = self.session.decimals
        net, mass = outcome.figures["net"], outcome.figures["mass"]
        self._headline(net.value, net.unit)
        parts = []
        if net.u95 is not None:
            parts.append(f"± {quantity(net.u95, net.unit, decimals)} (95 %)")
        if mass.value is not None:
            parts.append(quantity(mass.value, mass.unit, decimals))
        self.state.setText("Net volume" + ("  ·  " + "  ·  ".join(parts) if parts else ": not determinable"))
        for name in SHOWN:
            figure = outcome.figures[name]
            text = quantity(figure.value, figure.unit, decimals, signed=name == "check_percent")
            self.lines[name].value.setText(text)
            self.lines[name].value.setToolTip(figure.note)
        self._warnings([note.text for note in outcome.warnings])

    def _show_live(self, setup: StockpileSetup) -> None:
        volume, unit = self.session.live.answer.volume, self.session.unit
        decimals = self.session.decimals
        self._headline(volume.net, f"{unit}3", live=True)
        per_volume = mass_per_volume(setup, length_unit(unit))
        mass = ""
        if per_volume is not None:
            code = density_unit(setup.density_unit).mass_code
            mass = f"  ·  {quantity(volume.net * per_volume, code, decimals)}"
        self.state.setText(f"Net volume by grid, follows the line{mass}")
        shown = {"above": (volume.above, "3"), "below": (volume.below, "3"), "plan_area": (volume.area, "2")}
        for name in SHOWN:
            value, power = shown.get(name, (None, ""))
            self.lines[name].value.setText(quantity(value, f"{unit}{power}", decimals))
        self._warnings([])

    def _show_none(self, setup: StockpileSetup) -> None:
        self._headline(None, f"{self.session.unit}3")
        words = "Draw a line round the foot of the heap." if not setup.toe else "Not computed yet."
        self.state.setText(words)
        for name in SHOWN:
            self.lines[name].value.setText("—")
        self._warnings([])

    def _headline(self, value: float | None, unit: str, live: bool = False) -> None:
        decimals = 0 if value is None or abs(value) >= 100 else self.session.decimals.volume
        self.figure.setText(("≈ " if live else "") + number(value, decimals))
        self.unit.setText("" if value is None else symbol(unit))
        exact = "" if value is None else f"{number(value, 4)} {symbol(unit)}"
        in_metres = ""
        if value is not None and self.session.unit != "m":
            cubic = convert(value, length_unit(self.session.unit), METRE, power=3)
            in_metres = f" = {number(cubic, 3)} m³"
        self.figure.setToolTip(exact + in_metres)

    def _warnings(self, texts: list[str]) -> None:
        shown = [self.notes.itemAt(i).widget().property("text_shown") for i in range(self.notes.count())]
        if shown == texts:
            return
        fill_warnings(self.notes, texts)

    def _commit(self, name: str, words: str, value: object) -> None:
        shown = "automatic" if value is None else value
        field = self.fields[name]
        if isinstance(field, ChoiceField):
            shown = field.currentText()
        self.session.commit(f"{words or 'density unit'} set to {shown}", **{name: value})


def _holding_words(holding: object) -> str:
    return f"{holding.name} · {holding.epoch}" if holding.epoch else holding.name
