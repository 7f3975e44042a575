"""Actions on the sections of the job: place, type, copy, look from other sides, take lines, points and pictures out."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QObject
from PySide6.QtWidgets import QInputDialog, QWidget

from kerb.app.colouring import Colouring
from kerb.app.dialogs.section import SectionNumbers
from kerb.app.dialogs.table import TableDialog
from kerb.app.dialogs.write import ask_target
from kerb.app.keeper import SectionKeeper
from kerb.app.scenes import value_names
from kerb.app.selection import Selection
from kerb.app.session import Session
from kerb.app.stage import Stage
from kerb.app.tools.place_section import PlaceSection
from kerb.app.views.view import ORBIT, SECTION
from kerb.core.arrays import Floats, Mask
from kerb.core.progress import Progress
from kerb.core.quantity import count, symbol
from kerb.core.reference import UNKNOWN
from kerb.core.section.placed import DOWN, PlacedSection
from kerb.core.things import PICTURE
from kerb.draw.ortho import ortho
from kerb.draw.scene import CloudLayer
from kerb.formats.rasters import write_picture
from kerb.formats.write_things import ENDINGS
from kerb.job import sections, studies
from kerb.job.job import Change
from kerb.studies.outcome import Table
from kerb.studies.registry import STUDIES
from kerb.studies.scope import Scope

# Round the points of a slice, of its height.
MARGIN = 0.05


class SectionActions(QObject):
    """The doing of actions of the menu Section, of the section that is looked along, or of the one that is named."""

    def __init__(
        self, session: Session, stage: Stage, keeper: SectionKeeper, selection: Selection, colouring: Colouring,
        parent: QWidget,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self.session, self.stage, self.keeper, self.parent_ = session, stage, keeper, parent
        self.selection, self.colouring = selection, colouring
        self.shown: TableDialog | None = None

    def place_section(self) -> None:
        """Take the tool that places one by clicks."""
        self.stage.use_tool(PlaceSection(self.stage.view, self.keeper, self.stage.use_edit_tool))

    def look_along(self, key: str) -> None:
        """Look along a section of the list."""
        self.keeper.choose(key)

    def section_numbers(self, key: str = "") -> None:
        """Type its numbers."""
        here = self._here(key)
        if here is None:
            return
        dialog = SectionNumbers(here, self.session.unit, self.parent_)
        if dialog.exec() and dialog.section != here:
            self.keeper.change(dialog.section, f"Typed the numbers of section {dialog.section.name}")
            self.keeper.remember(dialog.section)
        dialog.deleteLater()

    def section_copies(self, key: str = "") -> None:
        """Copies of it at a spacing."""
        here = self._here(key)
        wish = self._run(here, "Copies", "How many copies, and how far apart") if here is not None else None
        if here is not None and wish is not None:
            self.keeper.copies(here, *wish)

    def section_series(self, key: str = "") -> None:
        """Ask the question of a series of sections that begins with this one."""
        here = self._here(key)
        kind = next((kind for kind in STUDIES.values() if kind.from_section is not None), None)
        cloud = self.session.main_cloud()
        if here is None or kind is None or kind.from_section is None or cloud is None:
            return
        if not here.upright:
            self.session.said.emit("A series is made of upright sections.")
            return
        wish = self._run(here, "Series", "How many more sections, and how far apart")
        if wish is None:
            return
        values = {kind.setup.main(): Scope(cloud.id), **kind.from_section(here, *wish)}
        change, study = studies.made(self.session.open_job.state, kind.id, here.name, kind.setup(**values))
        self.session.execute(change)
        self.session.select(study.id)
        self.session.rest()

    def remove_section(self, key: str = "") -> None:
        """Take it out of the job."""
        here = self._here(key)
        if here is not None:
            self.keeper.drop()
            self.session.execute(sections.removed(here))

    # Looking

    def section_along(self) -> None:
        """Look along it."""
        self._look(SECTION, 0.0, None)

    def section_above(self) -> None:
        """Look at it from above, its right end at the right."""
        self._look(ORBIT, 0.0, 90.0)

    def section_side(self) -> None:
        """Look at it from its right end."""
        self._look(ORBIT, 270.0, 0.0)

    def _look(self, mode: str, turn: float, tilt: float | None) -> None:
        here, view = self._here(), self.stage.view
        if here is None:
            return
        camera = replace(
            view.cameras[mode], heading=(here.azimuth + turn) % 360.0, tilt=here.tilt if tilt is None else tilt,
            perspective=False, target=here.middle, scale=here.width / view.pixels[0] * 1.05,
            exaggeration=here.exaggeration, thickness=here.thickness if mode == SECTION else None,
        )  # fmt: skip
        view.look(mode, camera)

    # What comes out of it

    def section_select(self, key: str = "") -> None:
        """Select the points that lie in the slice."""
        here, layer, holding = self._here(key), self.colouring.layer(), self.session.main_cloud()
        if here is None or layer is None or holding is None:
            return

        def keep(found: Mask) -> None:
            if not found.any():
                self.session.said.emit(f"No shown point of {holding.name} lies in {here.name}.")
                return
            self.selection.combine(holding.id, found)
            self.session.said.emit(f"{count(int(found.sum()))} points of {holding.name} lie in {here.name}.")

        self.session.start(lambda _p: here.inside(layer.store) & layer.shown(), "Selecting points", keep)

    def section_outlines(self, key: str = "") -> None:
        """Closed outlines of what the slice cuts, as lines."""
        here, layer, holding = self._here(key), self.colouring.layer(), self.session.main_cloud()
        if here is None or layer is None or holding is None:
            return
        job, shown = self.session.open_job, layer.shown()

        def keep(change: Change) -> None:
            self.session.execute(change)
            self.session.said.emit(f"{change.sentence} are in the list.")

        self.session.start(lambda p: sections.outlined(job, holding, here, shown, p), "Drawing outlines", keep)

    def section_picture(self, key: str = "") -> None:
        """Write a picture of the slice to scale."""
        here = self._here(key)
        if here is None:
            return
        usual = self.stage.view.camera.scale
        mark = symbol(self.session.unit)
        pixel, accepted = QInputDialog.getDouble(
            self.parent_, "Picture of the section", f"Size of a pixel ({mark})", round(usual, 4), 1e-6, 1e6, 6
        )
        path = ask_target(self.parent_, self.session, here.name, ENDINGS[PICTURE]) if accepted else None
        if path is None:
            return
        scene, job = self.stage.view.scene, self.session.open_job
        north_up = here.tilt == DOWN and here.azimuth == 0.0
        reference = job.state.title.reference_system() if north_up else UNKNOWN

        def work(progress: Progress) -> str:
            progress.step(0.0, "Drawing the slice")
            span = span_of(scene.clouds, here)
            image, affine = ortho(scene, here, pixel, span)
            progress.step(0.8, "Writing the picture")
            write_picture(path, image, affine, reference)
            places = "easting and northing" if north_up else "offset from its middle and elevation"
            return f"Wrote {path.name}, {image.shape[1]} × {image.shape[0]} pixels; its places are {places}."

        self.session.start(work, "Drawing a picture", self.session.said.emit)

    def compare_setups(self) -> None:
        """How setups, strips or files lie to one another on the face that is selected, pair by pair."""
        holding, selection = self.session.main_cloud(), self.selection
        if holding is None or not selection.count or selection.key != holding.id or selection.mask is None:
            self.session.said.emit("Select a flat face first: press S and draw a box round it in a section.")
            return
        store, mask = self.session.open_job.store(holding), selection.mask
        by = sections.told_apart(store, mask)
        if not by:
            self.session.said.emit(f"{holding.name} does not say which setup, strip or file its points are from.")
            return
        names = {code: str(name) for code, name in value_names(store, by, holding).items()}

        def show(table: Table) -> None:
            self.shown = TableDialog("Setups on this face", table, self.session, self.parent_)
            self.shown.open()

        work = lambda _p: sections.compared(store, mask, by, names, self.session.unit)  # noqa: E731
        self.session.start(work, "Comparing setups", show, lambda text, _error: self.session.said.emit(text))

    # What is asked

    def _here(self, key: str = "") -> PlacedSection | None:
        self.keeper.keep()
        here = self.keeper.section(key)
        if here is None:
            self.session.said.emit("No section is looked along. Place one, or click one in the list.")
        return here

    def _run(self, section: PlacedSection, title: str, words: str) -> tuple[int, float] | None:
        """A typed number and spacing; None where the question was given up or no numbers were typed."""
        spacing = section.step or section.thickness
        unit = symbol(self.session.unit)
        text, accepted = QInputDialog.getText(
            self.parent_, title, f"{words} ({unit}), such as 9 x {spacing:g}", text=f"9 x {spacing:g}"
        )
        if not accepted:
            return None
        wish = typed_run(text)
        if wish is None:
            self.session.said.emit(f"“{text}” is no number and spacing, such as 9 x 5.")
        return wish


def typed_run(text: str) -> tuple[int, float] | None:
    """A count and a spacing, typed as ``9 x 5``; None for anything else."""
    first, mark, second = text.replace("×", "x").lower().partition("x")
    try:
        number, spacing = int(first), float(second.replace(",", "."))
    except ValueError:
        return None
    return (number, spacing) if mark and 0 < number <= 10_000 and 0 < abs(spacing) < 1e9 else None


def span_of(clouds: list[CloudLayer], section: PlacedSection) -> tuple[float, float]:
    """Lowest and highest place of the points in a slice, with a margin; of one without points its width."""
    heights: list[Floats] = []
    for layer in clouds:
        rows = np.flatnonzero(section.inside(layer.store) & layer.shown())
        heights.append(section.local(layer.store.coordinates(rows))[:, 2])
    every = np.concatenate(heights) if heights else np.empty(0)
    if not len(every):
        level = section.middle[2] if section.upright else 0.0
        return level - section.width / 4, level + section.width / 4
    room = MARGIN * float(np.ptp(every)) + 1e-6 * section.width
    return float(every.min()) - room, float(every.max()) + room


def words_of(section: PlacedSection, unit: str) -> str:
    """What the list says beside its name."""
    size = f"{round(section.width, 2):g} × {round(section.thickness, 4):g} {symbol(unit)}"
    return f"{size}, looks to {section.azimuth:.0f}°" if section.upright else f"{size}, level"
