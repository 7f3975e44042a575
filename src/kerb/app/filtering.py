"""Which points of the cloud are shown: its filters, tried while an end is dragged and kept when the mouse rests."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QInputDialog

from kerb.app import scenes
from kerb.app.colouring import Colouring
from kerb.app.session import Session
from kerb.app.stage import Stage
from kerb.app.theme import Theme
from kerb.app.tools.pick_colour import PickColour
from kerb.app.views.chips import FilterChips
from kerb.app.views.filter_card import FilterCard
from kerb.core.cloud import filters as filtered
from kerb.core.cloud.classes import GROUND, KEY_POINTS
from kerb.core.cloud.filters import COLOUR, LISTED, Filter, counts, offered, spread
from kerb.core.cloud.store import CLASSES, PART, CloudStore
from kerb.core.quantity import symbol
from kerb.job.job import Change
from kerb.job.state import Holding, free_name

REST_MS = 300


class Filtering(QObject):
    """The filters of the window's main cloud, with the chips that say them and the card that sets them."""

    def __init__(self, session: Session, colouring: Colouring, stage: Stage, theme: Theme) -> None:
        super().__init__(stage.view)
        self.session, self.colouring, self.stage = session, colouring, stage
        self.view = stage.view
        self.chips = FilterChips(self.view)
        self.card = FilterCard(theme, self.view)
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(REST_MS)
        self._rest.timeout.connect(self._keep)
        self._tried: tuple[Filter, ...] | None = None
        self.chips.removed.connect(self._remove)
        self.chips.toggled.connect(self._toggle)
        self.chips.turned.connect(self._turn)
        self.chips.opened.connect(lambda place: self.open(self.current()[place].column))
        self.card.tried.connect(self._try)
        self.card.column_chosen.connect(self._show_column)
        self.card.cleared.connect(lambda: self.set(()))
        self.card.save_wanted.connect(self.save)
        self.card.saved_wanted.connect(self.use_saved)
        self.card.closed.connect(lambda: self.open(None))
        self.card.pick_wanted.connect(self.pick_colour)

    def current(self) -> tuple[Filter, ...]:
        """The filters as they are shown now."""
        if self._tried is not None:
            return self._tried
        holding = self.session.main_cloud()
        return holding.filters if holding is not None else ()

    def set(self, filters: tuple[Filter, ...]) -> None:
        """Keep filters of the main cloud. What is shown is no step of the work: undo passes over it."""
        self._tried = None
        self._rest.stop()
        holding = self.session.main_cloud()
        if holding is None or holding.filters == filters:
            return
        after = replace(holding, filters=filters)
        store = self.session.open_job.store(holding)
        said = sentence(filters, store, holding, self.session.unit)
        change = Change(f"Shows of {holding.name}: {said}", lambda s: s.with_holding(after)).as_look()
        self.session.execute(change)

    def ground_only(self) -> None:
        """Show the ground classes only, or everything again."""
        holding = self.session.main_cloud()
        store = self.session.open_job.store(holding) if holding is not None else None
        if store is None or not store.has(CLASSES):
            self.session.said.emit("The cloud has no classes; find the ground first.")
            return
        there = store.present(CLASSES)
        wanted = Filter(CLASSES, tuple(code for code in (GROUND, KEY_POINTS) if code in there) or (GROUND,))
        rest = tuple(f for f in self.current() if f.column != CLASSES)
        self.set(rest if wanted in self.current() else (*rest, wanted))

    def only_part(self, holding: Holding, key: int) -> None:
        """Show one part of the main cloud only, or everything again."""
        wanted = Filter(PART, (key,))
        rest = tuple(f for f in self.current() if f.column != PART)
        if holding.id == self.session.open_cloud.id:
            self.set(rest if wanted in self.current() else (*rest, wanted))

    def open(self, column: str | None) -> None:
        """Show the card on a column; None hides it."""
        layer = self.colouring.layer()
        self.card.setVisible(column is not None and layer is not None)
        self.colouring.strip.filter.setChecked(self.card.isVisible())
        if column is None or layer is None:
            return
        names = [(name, title(name)) for name in offered(layer.store)]
        chosen = column if column in dict(names) else names[0][0]
        self.card.set_columns(names, chosen)
        self._show_column(chosen)
        self.place()
        self.card.raise_()

    def mirror(self) -> None:
        """Bring chips and card in line with the main cloud."""
        holding = self.session.main_cloud()
        if holding is None:
            self.chips.show_filters([])
            self.card.hide()
            return
        store, unit = self.session.open_job.store(holding), self.session.unit
        self.chips.show_filters([(words(f, store, holding, unit), f.on) for f in self.current()])
        self.card.set_saved([name for name, _ in self.session.open_job.state.filters])
        self.place()

    def place(self) -> None:
        """Chips under the strip, the card under them."""
        view, strip = self.view, self.colouring.strip
        y = strip.geometry().bottom() + 8
        self.chips.setMaximumWidth(max(view.width() - 24 - self.colouring.legend.width() - 12, 200))
        self.chips.move(12, y)
        self.chips.adjustSize()
        if self.chips.isVisible():
            y = self.chips.geometry().bottom() + 8
        self.card.adjustSize()
        self.card.move(12, y)

    def save(self) -> None:
        """Keep the filters by name in the job."""
        if not self.current():
            self.session.said.emit("There is no filter to save yet.")
            return
        name, accepted = QInputDialog.getText(self.view, "Save filters", "Name of these filters")
        if accepted and name.strip():
            self.save_as(name.strip())

    def save_as(self, name: str) -> None:
        """Keep the filters in the job under a name, or the next free one."""
        filters = self.current()
        taken = [other for other, _ in self.session.open_job.state.filters]
        name = free_name(name, taken)
        self.session.execute(
            Change(f"Saved filters {name}", lambda s: replace(s, filters=(*s.filters, (name, filters))))
        )

    def use_saved(self, name: str) -> None:
        """Set the filters that were saved under a name."""
        self.set(dict(self.session.open_job.state.filters)[name])

    def pick_colour(self) -> None:
        """Wait for a click on a point whose colour is asked for."""

        def taken(colour: tuple[int, ...] | None) -> None:
            self.stage.use_edit_tool()
            if colour is not None:
                self.open(COLOUR)
                self.card.take_colour(colour)

        self.stage.use_tool(PickColour(self.view, taken))

    def _show_column(self, column: str) -> None:
        layer, holding = self.colouring.layer(), self.session.main_cloud()
        if layer is None or holding is None:
            return
        store = layer.store
        mine = next((f for f in self.current() if f.column == column), None)
        if column == COLOUR:
            self.card.show_colour(mine)
        elif column in LISTED:
            self.card.show_values(column, value_counts(store, column, holding), mine)
        else:
            others = tuple(f for f in self.current() if f.column != column and f.on)
            unit = symbol(scenes.unit_of(store, column, self.session.unit))
            self.card.show_range(column, spread(store, column, others), unit, mine)
        self.place()

    def _try(self, condition: Filter | None) -> None:
        """Show the effect of a condition at once; it is kept when nothing moves for a moment."""
        layer = self.colouring.layer()
        if layer is None:
            return
        column = self.card.column
        kept = [f for f in self.current() if f.column != column]
        self._tried = (*kept, condition) if condition is not None else tuple(kept)
        layer.filters = self._tried
        self.view.redraw(moving=True)
        self.mirror()
        self._rest.start()

    def _keep(self) -> None:
        if self._tried is not None:
            self.set(self._tried)

    def _remove(self, place: int) -> None:
        filters = self.current()
        self.set((*filters[:place], *filters[place + 1 :]))

    def _toggle(self, place: int) -> None:
        self._replaced(place, on=not self.current()[place].on)

    def _turn(self, place: int) -> None:
        self._replaced(place, outside=not self.current()[place].outside)

    def _replaced(self, place: int, **values: Any) -> None:
        filters = list(self.current())
        filters[place] = replace(filters[place], **values)
        self.set(tuple(filters))


def title(column: str) -> str:
    """A column in words."""
    own = {CLASSES: "Class", "point_source_id": "Setup, strip or source", "gps_time": "Time", COLOUR: "Colour"}
    return own.get(column) or scenes.TITLES.get(column) or column.replace("_", " ").capitalize()


def value_counts(store: CloudStore, column: str, holding: Holding) -> list[tuple[int, str, int]]:
    """Values of a listed column with their names and how many points in use have them."""
    names = scenes.value_names(store, column, holding)
    found = counts(store, column)
    return [(code, f"{code}  {names[code]}" if code in names else str(code), n) for code, n in found.items()]


def sentence(conditions: tuple[Filter, ...], store: CloudStore, holding: Holding, unit: str) -> str:
    """Filters that are on, in words."""
    return "; ".join(words(f, store, holding, unit) for f in conditions if f.on) or "everything"


def words(condition: Filter, store: CloudStore, holding: Holding, unit: str) -> str:
    """A filter in words, for its chip."""
    column = condition.column
    names = scenes.value_names(store, column, holding) if condition.values else {}
    return filtered.words(condition, title(column), names, scenes.unit_of(store, column, unit))
