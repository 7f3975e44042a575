"""What the actions about data do: bring in, look over, write, find open data, listen, state what numbers are in."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QDialog, QFileDialog, QInputDialog, QWidget

from kerb.app.bringing.dialog import BringIn, name_filter
from kerb.app.dialogs.questions import ask
from kerb.app.dialogs.surface_look import SurfaceLook
from kerb.app.dialogs.systems import SystemDialog
from kerb.app.dialogs.view_picture import COLOURS, ViewPicture
from kerb.app.dialogs.write import ask_target
from kerb.app.scenes import TITLES, first_surface
from kerb.app.session import Session
from kerb.app.stage import Stage
from kerb.app.theme import Theme
from kerb.app.tools.known_length import KnownLength
from kerb.app.tools.measure import Measure
from kerb.app.tools.pick import Pick
from kerb.app.widgets import there
from kerb.core.cloud.heights import HEIGHT
from kerb.core.cloud.outgoing import from_store, with_elevations
from kerb.core.cloud.store import ELEVATION
from kerb.core.dates import date_of
from kerb.core.errors import InputError, JobError, KerbError
from kerb.core.progress import Progress
from kerb.core.quantity import first_of
from kerb.core.reference import ReferenceSystem, local_grid
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.things import CLOUD, PICTURE, SURFACE, PictureRef, Placed
from kerb.core.units import LENGTH_UNITS
from kerb.draw.seen import EACH, coloured_by, seen
from kerb.formats.stac import TileService
from kerb.formats.write_things import CLASSED, ENDINGS, endings_for, write_cloud, write_thing
from kerb.job import holdings, studies, vault
from kerb.job.job import Change
from kerb.job.state import Holding, free_name
from kerb.report.view_out import PICTURES, VALUES, write_view

RIGHT, CANCEL, REMOVE = "It is right", "Cancel", "Remove it"


class DataActions(QObject):
    """The doing of actions on holdings."""

    def __init__(self, session: Session, stage: Stage, theme: Theme, parent: QWidget) -> None:
        super().__init__(parent)
        self.session, self.stage, self.theme, self.parent_ = session, stage, theme, parent
        self.dialog: BringIn | None = None
        # The holding on the page at the right; the window says.
        self.looked_over: Callable[[], Holding | None] = lambda: None

    # Bringing in

    def import_points(self) -> None:
        start = self.session.settings.get("import_folder", str(Path.home()))
        paths, _ = QFileDialog.getOpenFileNames(self.parent_, "Bring data in", start, name_filter())
        if paths:
            self.session.settings.set("import_folder", str(Path(paths[0]).parent))
            self.bring_in([Path(path) for path in paths])

    def bring_in(self, paths: list[Path], epochs: dict[Path, str] | None = None) -> None:
        """Show what files are, and bring in what is ticked; ``epochs`` are dates that are known, for clouds to be joined by."""
        if not paths:
            return
        if self.session.job is not None:
            self._look_over(paths, epochs)
        elif self.session.ensure_job():
            # In a turn of its own: the window has the new job to show first.
            QTimer.singleShot(0, self, lambda: self._look_over(paths, epochs))

    def _look_over(self, paths: list[Path], epochs: dict[Path, str] | None) -> None:
        dialog = BringIn(self.session, self.theme, paths, self.parent_)
        if epochs is not None:
            dialog.know_epochs(epochs)
        dialog.wanted.connect(self.session.bring)
        dialog.finished.connect(self._dialog_ended)
        self.dialog = dialog
        QTimer.singleShot(0, dialog, dialog.open)

    def _dialog_ended(self) -> None:
        if self.dialog is not None:
            self.dialog.deleteLater()
        self.dialog = None

    def surface_look(self, _holding: str = "") -> None:
        """Ask how surfaces are to look."""
        if first_surface(self.session) is None:
            self.session.said.emit("No surface is shown. Bring one in, make one of a cloud, or show one.")
            return
        SurfaceLook(self.session, self.parent_).open()

    def view_picture(self) -> None:
        """Write what the view shows, to scale: its colours, or the values behind them."""
        view, job = self.stage.view, self.session.open_job
        title, unit = coloured_by(view.scene)
        dialog = ViewPicture(view.camera.scale, TITLES.get(title, title.capitalize()), self.session.unit, self.parent_)
        chosen = dialog.exec() == QDialog.DialogCode.Accepted
        what, pixel = dialog.what, dialog.pixel
        dialog.deleteLater()
        if not chosen:
            return
        colours = what == COLOURS
        endings = PICTURES if colours else VALUES
        path = ask_target(self.parent_, self.session, job.state.title.name or "View", endings)
        if path is None:
            return
        scene, camera, size = view.scene, view.camera, view.pixels
        reference = job.state.title.reference_system()
        about = (title, unit or (self.session.unit if title == ELEVATION else ""), self.session.unit)

        def work(progress: Progress) -> str:
            progress.step(0.0, "Drawing the view")
            found = seen(scene, camera, size, pixel, EACH if colours else what)
            progress.step(0.8, "Writing it")
            return write_view(path, found, colours, about, reference)

        self.session.start(work, "Drawing a picture", self.session.said.emit)

    def open_data(self) -> None:
        if self.session.ensure_job():
            self.stage.page_wanted.emit("catalogue", "")

    def field_controller(self) -> None:
        if self.session.ensure_job():
            self.stage.page_wanted.emit("controller", "")

    def use_tiles(self, service: TileService) -> None:
        """Make a picture holding of a tile service."""
        job = self.session.open_job
        system = job.state.title.reference_system()
        if not system.wkt:
            self.session.complained.emit(
                "No backdrop", "The job has no reference system, so picture tiles have no place."
            )
            return
        key = f"tiles{len(job.state.holdings)}{np.random.default_rng().integers(1 << 30):x}"
        picture = PictureRef(1, 1, (1.0, 0.0, 0.0, 0.0, -1.0, 0.0), "", service.template)
        try:
            vault.save_thing(job.folder / "data" / key, Placed(PICTURE, picture, system))
        except JobError as error:
            self.session.complained.emit("No backdrop", str(error))
            return
        name = free_name(service.title, [h.name for h in job.state.holdings])
        holding = Holding(
            key, name, PICTURE, "", "", 0, f"data/{key}", 0, steps=(f"Picture tiles of {service.template}",)
        )
        self.session.execute(Change(f"Put {name} under the plan", lambda state: state.with_holding(holding)))

    # Looking over and changing

    def look_over(self, key: str = "") -> None:
        holding = self._chosen(key, "Look over")
        if holding is None:
            return
        if holding.kind == CLOUD:
            self.session.chosen_cloud = holding.id
        self.stage.page_wanted.emit("holding", holding.id)

    def rename_holding(self, key: str = "") -> None:
        holding = self._chosen(key, "Rename")
        if holding is None:
            return
        name, accepted = QInputDialog.getText(
            self.parent_, f"Rename {holding.name}", "Name of the holding", text=holding.name
        )
        if accepted and name.strip() and name != holding.name:
            self.session.execute(holdings.altered(holding, f"Renamed {holding.name} to {name}", name=name.strip()))

    def epoch(self, key: str = "") -> None:
        holding = self._chosen(key, "Set the date of")
        if holding is None:
            return
        words = "Date of the survey, such as 2026-05-02 or 2 May 2026; empty for none"
        text, accepted = QInputDialog.getText(self.parent_, f"Date of {holding.name}", words, text=holding.epoch)
        if accepted:
            self.set_epoch(holding, text)

    def set_epoch(self, holding: Holding, text: str) -> None:
        """Give a holding a typed date; what is none is said."""
        try:
            day = date_of(text)
        except InputError as error:
            self.session.complained.emit("No date", str(error))
            return
        if day != holding.epoch:
            words = f"Set the epoch of {holding.name} to {day}" if day else f"Took the epoch from {holding.name}"
            self.session.execute(holdings.altered(holding, words, epoch=day))

    def duplicate_holding(self, key: str = "") -> None:
        holding = self._chosen(key, "Duplicate")
        if holding is None:
            return
        try:
            change, twin = holdings.duplicated(self.session.open_job, holding)
        except KerbError as error:
            self.session.complained.emit("Not duplicated", str(error))
            return
        self.session.execute(change)
        self.look_over(twin.id)

    def remove_holding(self, key: str = "") -> None:
        """Take a holding out, asking when studies are computed from it."""
        holding = self._chosen(key, "Remove")
        if holding is None:
            return
        using = studies.users_of(self.session.open_job.state, holding)
        if using:
            words = (
                f"{first_of([study.name for study in using], 6)} cannot be computed without it. Undo brings it back."
            )
            if ask(self.parent_, f"Remove {holding.name}, which studies use?", words, REMOVE, CANCEL) != REMOVE:
                return
        self.session.execute(holdings.removed(holding))

    def picture_opacity(self, words: str) -> None:
        key, _, share = words.partition("|")
        self._picture_style(key, opacity=int(share) / 100)

    def picture_drape(self, key: str) -> None:
        self._picture_style(key, drape=not there(self.session.open_job.state.holding(key)).style.get("drape", False))

    def _picture_style(self, key: str, **values: object) -> None:
        holding = there(self.session.open_job.state.holding(key))
        change = holdings.altered(holding, f"Showed {holding.name} otherwise", style={**holding.style, **values})
        self.session.execute(change.as_look())

    def relink(self, key: str) -> None:
        holding = there(self.session.open_job.state.holding(key))
        path, _ = QFileDialog.getOpenFileName(self.parent_, f"Where is {Path(holding.source).name} now?")
        if not path:
            return
        if holding.source_size and Path(path).stat().st_size != holding.source_size:
            text = "This file has another size than the one that was imported."
            if ask(self.parent_, "Another file?", text, "Use it as the source", "Leave it") != "Use it as the source":
                return
        self.session.execute(holdings.altered(holding, f"Found the source of {holding.name}", source=path))

    # What the numbers are in

    def confirm_unit(self) -> None:
        job = self.session.open_job
        names = [f"{unit.name} ({unit.code})" for unit in LENGTH_UNITS.values()]
        now = list(LENGTH_UNITS).index(job.state.title.unit) if job.state.title.unit in LENGTH_UNITS else 0
        words = "The numbers of this job are in this unit (nothing is converted):"
        chosen, accepted = QInputDialog.getItem(self.parent_, "Confirm unit", words, names, now, False)
        if not accepted:
            return
        unit = list(LENGTH_UNITS.values())[names.index(chosen)]
        reference = job.state.title.reference_system()
        confirmed = reference.confirmed(unit) if reference.wkt and reference.unit == unit else local_grid(unit)
        self._label_job(confirmed)

    def reference_system(self) -> None:
        dialog = SystemDialog(self.session.open_job.state.title.reference_system(), self.parent_, job=True)
        if dialog.exec():
            self.set_system(dialog.chosen)

    def set_system(self, system: ReferenceSystem) -> None:
        """Say what the numbers of the job are in; asks when that contradicts what the data say."""
        job = self.session.open_job
        now = job.state.title.reference_system()
        if job.state.holdings and now.unit != system.unit and now.certainty != "assumed":
            words = (
                f"The job's numbers were said to be in {now.unit.plural}; {system.name} counts in "
                f"{system.unit.plural}. No number will change."
            )
            if ask(self.parent_, "Is the new unit right?", words, RIGHT, CANCEL) != RIGHT:
                return
        self._label_job(system)

    def _label_job(self, system: ReferenceSystem) -> None:
        try:
            self.session.execute(holdings.set_system(system))
        except KerbError as error:
            self.session.complained.emit("Not labelled", str(error))

    # Writing

    def write_holding(self, key: str = "") -> None:
        holding = self._chosen(key, "Write")
        if holding is None:
            return
        grid = holding.kind != CLOUD and isinstance(self.session.open_job.thing(holding).thing, ElevationGrid)
        endings = endings_for(holding.kind, grid)
        # Triangles may become a grid here, too; a face that leans over, which a study writes, may not.
        endings += (
            tuple(e for e in ENDINGS[holding.kind] if e not in endings) if holding.kind == SURFACE and not grid else ()
        )
        target = ask_target(self.parent_, self.session, holding.name, endings)
        if target is not None:
            self.write_to(holding, target)

    def write_heights(self, key: str = "") -> None:
        """Write a cloud with heights above ground in place of elevations, which become an attribute of its own."""
        holding = self._chosen(key, "Write heights of", CLOUD)
        if holding is None:
            return
        target = ask_target(self.parent_, self.session, f"{holding.name}, heights", CLASSED)
        if target is not None:
            self.write_to(holding, target, HEIGHT)

    def write_to(self, holding: Holding, target: Path, level: str = "") -> None:
        """Write a holding to a file, with the attribute ``level`` in place of elevations where one is named.

        Sources of the job are never written to.
        """
        job = self.session.open_job
        if self.session.keeps(target):
            return
        if holding.kind == CLOUD:
            outgoing = from_store(job.store(holding).snapshot())
            try:
                outgoing = with_elevations(outgoing, level) if level else outgoing
            except ValueError as error:
                self.session.complained.emit("Not written", f"{holding.name}: {error}")
                return
            work = lambda progress: write_cloud(outgoing, target, progress)[1]  # noqa: E731
        else:
            item, data = job.thing_to_write(holding), job.folder / holding.data

            def work(progress: Progress) -> list[tuple[str, str]]:
                return write_thing(item, target, progress, data / "picture.tif")

        self.session.start(work, f"Writing {target.name}", lambda notes: self._wrote(holding, target, notes))

    def _wrote(self, holding: Holding, target: Path, notes: list[tuple[str, str]]) -> None:
        self.session.open_job.note(Change(f"Wrote {holding.name} to {target}", lambda state: state))
        words = "; ".join(text for _code, text in notes)
        self.session.said.emit(f"Wrote {target}" + (f" ({words})" if words else ""))

    # Measuring

    def measure(self) -> None:
        self.stage.use_tool(Measure(self.stage.view, self.session, self.stage.use_edit_tool))

    def pick_points(self) -> None:
        """Pick points that were not surveyed."""
        self.stage.use_tool(Pick(self.stage.view, self.session, self.stage.use_edit_tool))

    def known_length(self) -> None:
        self.stage.use_tool(KnownLength(self.stage.view, self.session, self.stage.use_edit_tool))

    def _chosen(self, key: str, what: str, *kinds: str) -> Holding | None:
        """The holding of an id; without one that on its page, or the only one there is, else which is asked for."""
        state = self.session.open_job.state
        if key:
            return there(state.holding(key))
        marked = self.looked_over()
        fitting = [holding for holding in state.holdings if not kinds or holding.kind in kinds]
        if marked is not None and (not kinds or marked.kind in kinds):
            return marked
        if len(fitting) < 2:
            return fitting[0] if fitting else None
        names = [holding.name for holding in fitting]
        main = self.session.main_cloud()
        at = fitting.index(main) if main in fitting else 0
        name, accepted = QInputDialog.getItem(self.parent_, f"{what} which holding?", "Holding", names, at, False)
        return fitting[names.index(name)] if accepted and name in names else None
