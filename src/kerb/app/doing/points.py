"""Actions on the points of a cloud: select, set aside, parts, classes, clouds of their own, heights, statistics."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QColorDialog, QInputDialog, QWidget

from kerb.app.colouring import Colouring
from kerb.app.filtering import Filtering, title
from kerb.app.scenes import style_of, unit_of, value_names
from kerb.app.selection import Selection
from kerb.app.session import Session
from kerb.app.stage import Stage
from kerb.app.tools.select import SelectPoints
from kerb.app.views.selection_bar import PIECE, THEN
from kerb.app.widgets import there
from kerb.core.arrays import AnyArray, Bytes, Mask
from kerb.core.cloud.filters import COLOUR, LISTED, offered
from kerb.core.cloud.ground import GroundSettings
from kerb.core.cloud.normals import slopes
from kerb.core.cloud.store import CLASSES, PART
from kerb.core.errors import KerbError
from kerb.core.progress import Progress
from kerb.core.quantity import count, quantity, symbol
from kerb.draw.ramps import class_table
from kerb.job import pointwork, studies
from kerb.job.job import Change
from kerb.job.state import Holding, free_name
from kerb.studies.registry import study_kind


class PointActions(QObject):
    """The doing of actions on points."""

    shape_chosen = Signal(str)

    def __init__(
        self, session: Session, stage: Stage, colouring: Colouring, selection: Selection, filtering: Filtering
    ) -> None:
        super().__init__(stage)
        self.session, self.stage, self.colouring = session, stage, colouring
        self.selection, self.filtering = selection, filtering
        self.parent_: QWidget = stage.view
        # What the bar of the selection says is to be done with marked points, the settings of searches, and the one
        # door of actions; the window gives them.
        self.then: Callable[[], str | None] = lambda: None
        self.settings_for: Callable[[str], Any] = lambda _finder: None
        self.run: Callable[[str], None] = lambda _key: None
        colouring.compute = lambda _name: self.slope()

    # Selecting

    def select_points(self) -> None:
        if not isinstance(self.stage.view.tool, SelectPoints):
            tool = SelectPoints(self.stage.view, self.selection, self._picked, self.stage.use_edit_tool)
            self.stage.use_tool(tool)
            self.select_with("outline")

    def select_with(self, shape: str) -> None:
        """Mark points in another way: outline, brush, piece or surface."""
        self.select_points()
        tool = self.stage.view.tool
        assert isinstance(tool, SelectPoints)
        tool.use(shape)
        self.shape_chosen.emit(shape)
        self.stage.hinted.emit(tool.hint)
        self.stage.view.setFocus()

    def _picked(self, shape: str, row: int, how: str) -> None:
        settings = self.settings_for("piece" if shape == PIECE else "smooth")
        if shape == PIECE:
            self.selection.take_piece(row, settings.gap, how)
        else:
            self.selection.take_smooth(row, settings, how)

    def marked(self) -> None:
        """Points were marked: do at once what the bar says is to be done with them."""
        then = self.then()
        if isinstance(self.stage.view.tool, SelectPoints) and then not in (None, THEN) and self.selection.count:
            self.run(then)

    # What is done with a selection

    def set_aside(self) -> None:
        self._with_selection(lambda job, holding, points: pointwork.set_aside(job, holding, points))

    def keep_only(self) -> None:
        self._with_selection(pointwork.keep_only)

    def bring_back(self) -> None:
        """Bring back the selected points that are set aside, all of them where nothing is selected."""
        holding, selection = self.session.main_cloud(), self.selection
        if holding is None:
            return
        chosen = selection.mask if selection.count and selection.key == holding.id else None
        self.do_points(lambda: pointwork.bring_back(self.session.open_job, holding, chosen), forget=chosen is not None)

    def new_part(self) -> None:
        if self._chosen_points() is not None:
            name, accepted = QInputDialog.getText(self.parent_, "New part", "Name of the part")
            if accepted and name.strip():
                self.make_part(name.strip())

    def make_part(self, name: str) -> None:
        """Make a part of the selection and colour by parts."""
        if self._with_selection(lambda job, holding, points: pointwork.new_part(job, holding, points, name)):
            self.colouring.colour_by(PART)

    def ask_of_selection(self, kind: str) -> None:
        """A part of the selection, and a study of a kind asked of it: how a surface is made of what was chosen in a section."""
        chosen = self._chosen_points()
        if chosen is None:
            return
        holding = chosen[0]
        part = free_name(f"for {study_kind(kind).title.lower()}", [one.name for one in holding.parts])
        self.make_part(part)
        after = self.session.open_job.state.holding(holding.id)
        if after is None or part not in [one.name for one in after.parts]:
            return
        change, study = studies.asked_of_part(self.session.open_job.state, kind, after, part)
        self.session.execute(change)
        self.session.select(study.id)
        self.session.rest()

    def add_to_part(self, number: str) -> None:
        self._with_selection(lambda job, holding, points: pointwork.add_to_part(job, holding, points, int(number)))

    def take_from_part(self, number: str) -> None:
        self._with_selection(lambda job, holding, points: pointwork.take_from_part(job, holding, points, int(number)))

    def give_class(self, code: str) -> None:
        self._with_selection(lambda job, holding, points: pointwork.give_class(job, holding, points, int(code)))

    def new_cloud(self, hide: str = "") -> None:
        """A cloud of its own of the selection; the one it comes from hidden on wish."""
        chosen = self._chosen_points()
        if chosen is None:
            return
        job, (holding, points) = self.session.open_job, chosen

        def keep(made: Holding) -> None:
            words = f"Made cloud {made.name} of {count(made.points)} points of {holding.name}"
            self.session.execute(pointwork.cloud_added(holding, made, words, bool(hide)))
            self.selection.forget()
            self.session.said.emit(f"{words}.")

        name = f"{holding.name}, selection"
        self.session.start(lambda p: pointwork.cloud_of(job, holding, points, name, p), "Making a cloud", keep)

    def selection_statistics(self) -> None:
        chosen = self._chosen_points()
        if chosen is not None:
            self.stage.statistics_wanted.emit(chosen[0], chosen[1], "the selection")

    # Parts

    def rename_part(self, which: str) -> None:
        holding, number = self._part(which)
        part = there(holding.part(number))
        name, accepted = QInputDialog.getText(self.parent_, "Rename part", "Name of the part", text=part.name)
        if accepted and name.strip() and name.strip() != part.name:
            self.session.execute(pointwork.altered_part(holding, number, name=name.strip()))

    def colour_part(self, which: str) -> None:
        holding, number = self._part(which)
        chosen = QColorDialog.getColor(QColor(there(holding.part(number)).ink), self.parent_, "Colour of the part")
        if chosen.isValid():
            self.session.execute(pointwork.altered_part(holding, number, ink=chosen.name()))

    def toggle_part(self, which: str) -> None:
        holding, number = self._part(which)
        self.session.execute(pointwork.altered_part(holding, number, shown=not there(holding.part(number)).shown))

    def only_part(self, which: str) -> None:
        """Show one part and nothing else of its cloud, or everything again."""
        holding, number = self._part(which)
        self.filtering.only_part(holding, number)

    def select_part(self, which: str) -> None:
        holding, number = self._part(which)
        self.select_points()
        mask = pointwork.part_mask(self.session.open_job.store(holding), number)
        self.selection.combine(holding.id, mask)

    def merge_part(self, which: str) -> None:
        """Put a part into another one: ``holding|part|into``."""
        key, number, into = which.split("|")
        holding = there(self.session.open_job.state.holding(key))
        self.do_points(lambda: pointwork.merged_parts(self.session.open_job, holding, int(into), int(number)))

    def remove_part(self, which: str) -> None:
        holding, number = self._part(which)
        self.session.execute(pointwork.removed_part(holding, number))

    def split_parts(self) -> None:
        """Ask by what a cloud is split into parts."""
        holding = self.session.open_cloud
        store = self.session.open_job.store(holding)
        columns = [name for name in offered(store) if name not in (PART, COLOUR)]
        columns.sort(key=lambda name: name not in LISTED)
        text, accepted = QInputDialog.getItem(
            self.parent_, "Split into parts", "By", [title(name) for name in columns], 0, False
        )
        if not accepted:
            return
        column = next(name for name in columns if title(name) == text)
        if column in LISTED:
            self.split_by(column)
            return
        mark = symbol(self._unit_of(column))
        words = f"Limits between the parts{f' in {mark}' if mark else ''}, such as 0.5, 2"
        limits, accepted = QInputDialog.getText(self.parent_, f"Split by {title(column).lower()}", words)
        if accepted and limits.strip():
            self.split_at(column, limits)

    def split_at(self, column: str, limits: str) -> None:
        """Make a part of each range between limits, as typed, of an attribute of the main cloud."""
        holding, unit = self.session.open_cloud, self._unit_of(column)
        try:
            numbers = tuple(float(text) for text in limits.replace(";", ",").split(",") if text.strip())
        except ValueError:
            self.session.said.emit(f"“{limits}” are not numbers with commas between them.")
            return
        if self.do_points(lambda: pointwork.split_at(self.session.open_job, holding, column, numbers, unit)):
            self.colouring.colour_by(PART)

    def _unit_of(self, column: str) -> str:
        holding = self.session.open_cloud
        return unit_of(self.session.open_job.store(holding), column, self.session.unit)

    def split_by(self, column: str) -> None:
        """Make a part of each value of a listed column of the main cloud."""
        holding = self.session.open_cloud
        names = value_names(self.session.open_job.store(holding), column, holding)

        def naming(value: int) -> str:
            return str(names.get(value, f"{title(column)} {value}"))

        def inking(value: int) -> str:
            """Classes keep the colours they are shown in."""
            return QColor(*(int(v) for v in class_table()[value])).name()

        inks = inking if column == CLASSES else None
        if self.do_points(lambda: pointwork.split_by(self.session.open_job, holding, column, naming, inks)):
            self.colouring.colour_by(PART)

    def _part(self, which: str) -> tuple[Holding, int]:
        key, number = which.split("|")
        return there(self.session.open_job.state.holding(key)), int(number)

    # Ground, heights, statistics

    def find_points(self, which: str = "outliers") -> None:
        """Show the page that finds points: noise, repeats, surfaces, ground, thinning."""
        self.stage.page_wanted.emit("find", which)

    def find_ground(self) -> None:
        self.find_points("ground")

    def thin(self) -> None:
        self.find_points("thin")

    def keep_ground(self, holding: Holding, classes: Bytes, settings: GroundSettings) -> None:
        """Give the points of a cloud the classes that a search for ground found; one step."""
        job, unit = self.session.open_job, self.session.unit
        how = (
            f"Slope {settings.slope:g}, step {quantity(settings.step, unit)}, things up to "
            f"{quantity(settings.object_size, unit)}, cell {quantity(settings.cell, unit)}"
        )
        words = pointwork.ground_words(holding, classes, job.store(holding).in_use(), how)
        if self.do_points(lambda: pointwork.give_classes(job, holding, classes, words, vars(settings)), forget=True):
            self.colouring.colour_by("class")

    def ground_only(self) -> None:
        self.filtering.ground_only()

    def over_ground(self) -> None:
        self.stage.page_wanted.emit("heights", "")

    def slope(self) -> None:
        store = self.session.open_job.store(self.session.open_cloud)
        self.compute_attribute(("slope", "deg"), lambda progress: slopes(store, progress), "slope")

    def cloud_statistics(self) -> None:
        holding, layer = self.session.open_cloud, there(self.colouring.layer())
        self.stage.statistics_wanted.emit(holding, layer.shown() & layer.store.in_use(), "what is shown")

    def compute_attribute(
        self, made: tuple[str, str], work: Callable[[Progress], AnyArray], words: str,
        then: Callable[[AnyArray], None] | None = None,
    ) -> None:  # fmt: skip
        """Compute an attribute, ``made`` its name and unit, of the main cloud in the background; then colour by it."""
        job, holding = self.session.open_job, self.session.open_cloud
        store, before = job.store(holding), style_of(holding).by

        def keep(values: AnyArray) -> None:
            store.add_attribute(*made, values)
            job.note(pointwork.computed(holding, made[0], words))
            now = self.session.main_cloud()
            if now is not None and now.id == holding.id and style_of(now).by == before:
                self.colouring.colour_by(made[0])
            else:
                # Another colouring was chosen meanwhile: it stays.
                self.session.said.emit(f"{words[:1].upper()}{words[1:]} of {holding.name} is there to colour by.")
            if then is not None:
                then(values)

        self.session.start(work, f"Computing {words}", keep)

    def _chosen_points(self) -> tuple[Holding, Mask] | None:
        selection, holding = self.selection, self.session.main_cloud()
        if holding is None or not selection.count or selection.key != holding.id:
            self.session.said.emit("Nothing is selected. Press S and drag a box or click an outline.")
            return None
        return holding, there(selection.mask)

    def _with_selection(self, making: Callable[..., Change]) -> bool:
        """Do something with the selected points as one step; whether it was done."""
        chosen = self._chosen_points()
        return chosen is not None and self.do_points(lambda: making(self.session.open_job, *chosen), forget=True)

    def do_points(self, making: Callable[[], Change], forget: bool = False) -> bool:
        """Carry out a step on points, or say why it cannot be; whether it was done."""
        try:
            change = making()
        except KerbError as error:
            self.session.said.emit(str(error))
            return False
        self.session.execute(change)
        if forget:
            self.selection.forget()
        self.session.said.emit(f"{change.sentence}. Ctrl+Z takes it back.")
        return True
