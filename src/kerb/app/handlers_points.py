"""Actions on the points of a cloud: select, set aside, bring back, heights above ground."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtWidgets import QInputDialog

from kerb.app.tools.select import SelectPoints
from kerb.core.arrays import AnyArray, Bytes, Mask
from kerb.core.cloud.classes import GROUND, KEY_POINTS
from kerb.core.cloud.ground import TERRAINS, GroundSettings, Terrain, ground
from kerb.core.cloud.heights import HEIGHT, heights
from kerb.core.cloud.slope import slopes
from kerb.core.errors import KerbError
from kerb.core.progress import Progress
from kerb.core.quantity import count
from kerb.job import holdings, prepared
from kerb.job.job import Change
from kerb.job.state import Holding

if TYPE_CHECKING:
    from kerb.app.session import Session
    from kerb.app.window import Window


class PointHandlers:
    """The doing of actions on points."""

    window: Window
    session: Session

    def select_points(self) -> None:
        self.window.use_tool(SelectPoints(self.window.view, self.window.selection, self.window.use_edit_tool))

    def set_aside(self) -> None:
        chosen = self._chosen_points()
        if chosen is not None:
            self._put_aside(chosen[0], chosen[1], "Set aside {} points of {}")

    def keep_only(self) -> None:
        chosen = self._chosen_points()
        if chosen is not None:
            self._put_aside(chosen[0], ~chosen[1], "Kept only a selection, set aside {} points of {}")

    def bring_back(self) -> None:
        holding = self.window.colouring.main_cloud()
        if holding is None or not holding.aside:
            self.session.said.emit("Nothing of this cloud is set aside.")
            return
        words = f"Brought back all points of {holding.name}"
        self.session.execute(holdings.altered(holding, words, aside=""))
        self.session.said.emit(words)

    def find_ground(self) -> None:
        """Ask for the terrain, then classify in the background."""
        titles = {key: _words(kind) for key, kind in TERRAINS.items()}
        last = list(titles).index(self.session.settings.get("terrain", "rolling"))
        question = "What is the terrain like? It decides how steep ground may be and what is too large to be removed."
        text, accepted = QInputDialog.getItem(
            self.window, "Find the ground", question, list(titles.values()), last, False
        )  # fmt: skip
        if accepted:
            terrain = next(key for key, words in titles.items() if words == text)
            self.session.settings.set("terrain", terrain)
            self.classify_ground(terrain)

    def classify_ground(self, terrain: str) -> None:
        """Find the ground of the main cloud with the usual settings of a terrain; it becomes a new cloud."""
        job, holding = self.session.job, self.window.colouring.main_cloud()
        store = job.store(holding)
        settings = GroundSettings.usual(terrain, store)

        def keep(classes: Bytes) -> None:
            try:
                change, twin = prepared.with_ground(job, holding, classes, (terrain, settings))
            except KerbError as error:
                self.session.complained.emit("The ground could not be kept", str(error))
                return
            self.session.execute(change)
            self.session.said.emit(change.sentence)
            self.window.show_page("holding", twin.id)

        self.session.start(lambda progress: ground(store, settings, progress), "Finding the ground", keep)

    def over_ground(self) -> None:
        store = self.session.job.store(self.window.colouring.main_cloud())
        keys = store.has("classification") and bool(np.any(store.column("classification") == KEY_POINTS))
        found = lambda progress: heights(store, (GROUND,), progress).astype(np.float32)  # noqa: E731
        unit = store.reference.vertical_unit.code
        more = "Class 8 (key points) was not taken for ground; where it is used it belongs there." if keys else ""
        self._compute_attribute((HEIGHT, unit), found, "height above ground (class 2)", more)

    def slope(self) -> None:
        store = self.session.job.store(self.window.colouring.main_cloud())
        self._compute_attribute(("slope", "deg"), lambda progress: slopes(store, progress), "slope")

    def _compute_attribute(
        self, made: tuple[str, str], work: Callable[[Progress], AnyArray], words: str, more: str = ""
    ) -> None:
        """Compute an attribute, ``made`` its name and unit, of the main cloud in the background; then colour by it."""
        job, holding = self.session.job, self.window.colouring.main_cloud()
        store = job.store(holding)

        def keep(values: AnyArray) -> None:
            store.add_attribute(*made, values)
            job.note(Change(f"Computed {words} of {holding.name}", lambda state: state))
            self.window.colouring.colour_by(made[0])
            if more:
                self.session.said.emit(more)

        self.session.start(work, f"Computing {words}", keep)

    def _chosen_points(self) -> tuple[Holding, Mask] | None:
        selection, holding = self.window.selection, self.window.colouring.main_cloud()
        if holding is None or not selection.count or selection.key != holding.id:
            self.session.said.emit("Nothing is selected. Press S and drag a box or click an outline.")
            return None
        return holding, selection.mask

    def _put_aside(self, holding: Holding, gone: Mask, words: str) -> None:
        store = self.session.job.store(holding)
        before = store.aside()
        if before is not None:
            gone = gone | (np.asarray(before) != 0)
        if gone.all():
            self.session.said.emit("That would set aside every point of the cloud; hide the holding instead.")
            return
        more = int(np.count_nonzero(gone)) - (int(np.count_nonzero(before)) if before is not None else 0)
        try:
            name = store.keep_aside(gone)
        except OSError as error:
            self.session.complained.emit(
                "The points could not be set aside", f"{store.folder}: {error.strerror or error}"
            )
            return
        sentence = words.format(count(more), holding.name)
        self.session.execute(holdings.altered(holding, sentence, aside=name))
        self.window.selection.forget()
        self.session.said.emit(f"{sentence}. Ctrl+Z takes it back.")


def _words(kind: Terrain) -> str:
    slope = f"slopes up to {100 * kind.slope:.0f} %"
    return f"{kind.title}: {slope}, removes things up to {kind.object_size:g} m wide"
