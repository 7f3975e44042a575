"""What each action of the registry does. One method an action, named after its id."""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QFileDialog, QInputDialog, QMenu, QMessageBox

from kerb import __version__
from kerb.app.dialogs.reading import Reading, keys_page, method_page
from kerb.app.dialogs.title import TitleBlock
from kerb.app.filtering import sentence as filter_sentence
from kerb.app.handlers_data import DataHandlers
from kerb.app.handlers_points import PointHandlers
from kerb.app.tools.toe import DrawToe
from kerb.app.views.view import ORBIT, PLAN, SECTION
from kerb.core.cloud.classes import class_words
from kerb.core.cloud.filters import Filter
from kerb.core.errors import KerbError
from kerb.core.geometry.features import bounds_of
from kerb.core.things import PICTURE
from kerb.demo.job import open_demo
from kerb.job import studies
from kerb.job.job import SUFFIX, Job
from kerb.job.lock import in_use
from kerb.job.places import unsaved_folder
from kerb.report.text import figures_table, tab_separated
from kerb.studies.registry import study_kind

if TYPE_CHECKING:
    from kerb.app.window import Window

PULL_SHARE = 0.08
FAR = 100.0


class Handlers(DataHandlers, PointHandlers):
    """The doing of actions, for one window."""

    def __init__(self, window: Window) -> None:
        self.window = window
        self.session = window.session

    def run(self, key: str) -> None:
        """Do an action, or go to a study or holding named ``kind:id``."""
        name, _, what = key.partition(":")
        if name == "study":
            self.session.select(what)
            self.fit_study()
        elif name == "holding":
            self._fit_holding(what)
        elif what:
            getattr(self, name)(what)
        elif name == "import":
            self.import_points()
        else:
            getattr(self, name)()

    # Job

    def new_job(self) -> None:
        if self.window.may_leave():
            self._guard(lambda: self.session.set_job(Job.create(unsaved_folder())))

    def open_job(self) -> None:
        folder = QFileDialog.getExistingDirectory(self.window, "Open job (a folder NAME.kerb)", str(Path.home()))
        if folder:
            self.open_folder(Path(folder))

    def open_folder(self, folder: Path) -> None:
        """Open a job folder, asking about what a crash left."""
        job = self.session.job
        if (job is None or job.folder != folder) and in_use(folder):
            self.session.complained.emit("Already open", f"{folder} is open in another window of Kerb.")
            return
        if not self.window.may_leave():
            return
        recover = "unsaved" in folder.parts
        if not recover and Job.has_recovery(folder):
            answer = QMessageBox.question(
                self.window, "Recover", f"{folder.name} was not closed properly. Go on from the last change?\n\n"
                "“No” opens it as it was last saved.",
            )  # fmt: skip
            recover = answer == QMessageBox.StandardButton.Yes
            if not recover:
                Job.forget_recovery(folder)
        self._guard(lambda: self.session.set_job(Job.open(folder, recover)))

    def forget_unsaved(self, folder: Path) -> None:
        """Remove a job that was never saved, when that is confirmed."""
        words = f"Remove {folder.stem}, with the data that were brought into it? This cannot be undone."
        if QMessageBox.question(self.window, "Remove", words) == QMessageBox.StandardButton.Yes:
            shutil.rmtree(folder, ignore_errors=True)
            self.window.start_page.mirror()

    def open_demo(self, fresh: bool = False) -> None:
        if not self.window.may_leave():
            return
        self.session.start(
            lambda progress: open_demo(progress, fresh),
            "Preparing the demo",
            lambda job: self._demo_ready(job),
        )

    def _demo_ready(self, job: Job) -> None:
        self.session.set_job(job)
        self.window.show_guide(not self.session.settings.get("guide_dismissed", False))

    def save(self) -> None:
        job = self.session.job
        if job is None:
            return
        if "unsaved" in job.folder.parts:
            self.save_as()
        elif self._guard(job.save):
            self.session.said.emit(f"Saved {job.folder.name}")
            self.session.changed.emit()

    def save_as(self) -> None:
        self._save_elsewhere(move=True)

    def save_copy(self) -> None:
        self._save_elsewhere(move=False)

    def _save_elsewhere(self, move: bool) -> None:
        job = self.session.job
        start = str(Path.home() / f"{job.state.title.name}{SUFFIX}")
        path, _ = QFileDialog.getSaveFileName(self.window, "Save job", start, f"Kerb job (*{SUFFIX})")
        if path:
            self.save_to(Path(path), move)

    def save_to(self, folder: Path, move: bool) -> None:
        """Save into another folder; with ``move`` go on there."""
        job = self.session.job
        folder = folder if folder.suffix == SUFFIX else folder.with_name(folder.name + SUFFIX)
        if self._guard(lambda: job.copy_to(folder, move)):
            if move:
                self.session.moved()
                self.session.settings.add_recent(folder)
            self.session.said.emit(f"Saved {folder}")
            self.session.changed.emit()

    def title_block(self) -> None:
        TitleBlock(self.session, self.window).exec()

    def job_record(self) -> None:
        Reading("Job record", self.session.job.record_text(), self.window, markdown=False).exec()

    def deliver(self) -> None:
        from kerb.app.dialogs.deliver import Deliver

        Deliver(self.session, self.window).exec()

    def quit(self) -> None:
        self.window.close()

    # Edit

    def undo(self) -> None:
        self.session.undo()

    def redo(self) -> None:
        self.session.redo()

    def copy_figures(self) -> None:
        outcome = self.session.outcome()
        if outcome is not None:
            QGuiApplication.clipboard().setText(tab_separated(figures_table(outcome)))
            self.session.said.emit("Figures copied as text")

    def find(self) -> None:
        self.window.header.command.setFocus()
        self.window.header.command.selectAll()

    # View

    def view_plan(self) -> None:
        self.window.view.set_mode(PLAN)

    def view_orbit(self) -> None:
        self.window.view.set_mode(ORBIT)

    def view_section(self) -> None:
        self.window.look_along_profile()
        self.window.view.set_mode(SECTION)

    def fit(self) -> None:
        job = self.session.job
        growing = [layer.store.bounds for layer in self.window.view.scene.clouds]
        if job is None or not job.state.holdings:
            self._fit_boxes(growing)
            return
        placed = [h for h in job.state.holdings if h.kind != PICTURE or not job.thing(h).thing.tiles]
        shown = [h for h in placed if h.visible and h.kind != PICTURE] or placed
        boxes = {h.name: job.bounds_of(h) for h in shown}
        near = near_boxes(list(boxes.values()))
        away = [name for name, keep in zip(boxes, near, strict=True) if not keep]
        if away:
            self.session.said.emit(f"Far away and not in this view: {', '.join(away)}")
        self._fit_boxes([box for box, keep in zip(boxes.values(), near, strict=True) if keep])

    def _fit_boxes(self, boxes: list) -> None:
        if boxes:
            level = self.window.view.camera.target[2]
            low, high = bounds_of(np.concatenate([np.array(box) for box in boxes]))
            self.window.view.fit(np.nan_to_num(low, nan=level), np.nan_to_num(high, nan=level))

    def fit_study(self) -> None:
        setup = self.session.setup
        if setup is None or not setup.toe:
            self.fit()
            return
        ring = np.array(setup.toe)
        outcome = self.session.outcome()
        z = outcome.meshes["top"].vertices[:, 2] if outcome and "top" in outcome.meshes else np.array([0.0])
        if outcome is None:
            z = np.array([self.window.view.camera.target[2]])
        room = 0.25 * float(np.ptp(ring, axis=0).max())
        low = np.append(ring.min(axis=0) - room, z.min())
        high = np.append(ring.max(axis=0) + room, z.max())
        self.window.view.fit(low, high)

    def _fit_holding(self, key: str) -> None:
        holding = self.session.job.state.holding(key)
        if holding is not None:
            self._fit_boxes([self.session.job.bounds_of(holding)])

    def look_north(self) -> None:
        self._look(0.0)

    def look_east(self) -> None:
        self._look(90.0)

    def look_south(self) -> None:
        self._look(180.0)

    def look_west(self) -> None:
        self._look(270.0)

    def _look(self, heading: float) -> None:
        view = self.window.view
        view.set_mode(ORBIT)
        view.set_camera(replace(view.camera, heading=heading, tilt=0.0, perspective=False), moving=False)

    def perspective(self) -> None:
        view = self.window.view
        view.set_mode(ORBIT)
        view.set_camera(replace(view.camera, perspective=not view.camera.perspective), moving=False)

    def show_base(self) -> None:
        self.window.toggle_shown("base")

    def show_top(self) -> None:
        self.window.toggle_shown("top")

    def filter_points(self) -> None:
        card = self.window.filtering.card
        self.window.filtering.open(None if card.isVisible() else card.column or "elevation")

    def show_noise(self) -> None:
        self.window.toggle_shown("noise")

    def drawer(self) -> None:
        self.window.drawer.setVisible(not self.window.drawer.isVisible())

    def theme(self) -> None:
        self.window.switch_theme()

    # Study

    def new_stockpile(self) -> None:
        cloud = self.window.colouring.main_cloud()
        if cloud is None:
            self.session.said.emit("Import a cloud first.")
            return
        change, study = studies.made(self.session.job.state, "stockpile", "Heap", {"cloud": cloud.id})
        self.session.execute(change)
        self.session.select(study.id)
        self.draw_toe()

    def draw_toe(self) -> None:
        if self.session.study is None:
            self.new_stockpile()
            return
        if self.window.view.mode == SECTION:
            self.window.view.set_mode(PLAN)
        self.window.use_tool(DrawToe(self.window.view, self.session, self.window.use_edit_tool))

    def pull_toe(self) -> None:
        setup = self.session.setup
        heap = self.session.live.heap
        if setup is None or heap is None:
            self.session.said.emit("The heap is still being read; try again in a moment.")
            return
        ring = setup.ring()
        reach = PULL_SHARE * float(np.ptp(ring, axis=0).max())

        def keep(moved: np.ndarray) -> None:
            self.window.edit_tool.before = ring
            self.session.commit("pulled the line to the toe", toe=tuple(map(tuple, moved.tolist())), toe_z=())
            self.session.said.emit("Pulled to the toe. The dotted line is where it was; Ctrl+Z takes it back.")

        self.session.start(lambda _progress: heap.pulled_toe(setup, reach), "Pulling to the toe", keep)

    def compute(self) -> None:
        self.session.compute()

    def rename_study(self) -> None:
        study = self.session.study
        name, accepted = QInputDialog.getText(self.window, "Rename", "Name of the study", text=study.name)
        if accepted and name.strip() and name.strip() != study.name:
            self.session.execute(studies.renamed(study, name.strip()))

    def duplicate_study(self) -> None:
        change, twin = studies.duplicated(self.session.job.state, self.session.study)
        self.session.execute(change)
        self.session.select(twin.id)
        self.session.rest()

    def remove_study(self) -> None:
        self.session.execute(studies.removed(self.session.study))

    def choose_classes(self) -> None:
        """A menu of the classes that are there, ticked where they count."""
        setup = self.session.setup
        holding = self.session.job.state.holding(setup.cloud) if setup is not None else None
        if holding is None or not self.session.job.store(holding).has("classification"):
            self.session.said.emit("The cloud has no classes.")
            return
        there = self.session.job.store(holding).present("classification")
        menu = QMenu(self.window)
        every = menu.addAction("All but noise")
        every.setCheckable(True)
        every.setChecked(not setup.classes)
        every.triggered.connect(lambda: self.session.commit("uses all classes but noise", classes=()))
        for code in there:
            action = menu.addAction(class_words(code))
            action.setCheckable(True)
            action.setChecked(code in setup.classes)
            action.triggered.connect(lambda _on, c=code: self._toggle_class(c))
        sheet = self.window.sheet.classes
        menu.popup(sheet.mapToGlobal(sheet.rect().bottomLeft()))
        self.window.menu_shown = menu

    def _toggle_class(self, code: int) -> None:
        chosen = set(self.session.setup.classes) ^ {code}
        self.session.commit(f"uses classes {sorted(chosen)}", classes=tuple(sorted(chosen)))

    def choose_filters(self) -> None:
        """A menu to take over the filters that are set on the cloud, saved ones, or none."""
        setup = self.session.setup
        holding = self.session.job.state.holding(setup.cloud) if setup is not None else None
        if holding is None:
            return
        menu = QMenu(self.window)
        shown = tuple(f for f in holding.filters if f.on)
        offers = [("As the view shows it now", shown), *self.session.job.state.filters]
        for name, conditions in offers:
            action = menu.addAction(name, lambda c=conditions: self.use_filters(c))
            action.setEnabled(bool(conditions))
        menu.addAction("Every point", lambda: self.use_filters(()))
        link = self.window.sheet.only
        menu.popup(link.mapToGlobal(link.rect().bottomLeft()))
        self.window.menu_shown = menu

    def use_filters(self, conditions: tuple[Filter, ...]) -> None:
        """Let only points that pass some filters count in the open study."""
        holding = self.session.job.state.holding(self.session.setup.cloud)
        said = filter_sentence(conditions, self.session.job.store(holding), holding, self.session.unit)
        self.session.commit(f"counts points by {said}", only=conditions)

    # Help

    def study_help(self) -> None:
        kind = study_kind(self.session.study.kind)
        Reading(f"{kind.title}: how it is computed", method_page(kind.help_page), self.window).exec()

    def placing_help(self) -> None:
        Reading("Units, reference systems and the place check", method_page("placing.md"), self.window).exec()

    def ground_help(self) -> None:
        self.method("ground.md")

    def cleaning_help(self) -> None:
        self.method("cleaning.md")

    def statistics_help(self) -> None:
        self.method("statistics.md")

    def method(self, page: str) -> None:
        """Show a page about a method."""
        Reading("How it is done", method_page(page), self.window).exec()

    def guide(self) -> None:
        self.session.settings.set("guide_dismissed", False)
        self.window.show_guide(True)

    def shortcuts(self) -> None:
        Reading("Keys and mouse", keys_page(), self.window).exec()

    def about(self) -> None:
        QMessageBox.about(
            self.window, "About Kerb", f"<b>Kerb {__version__}</b><p>Compares point clouds with what they should be."
            "<p>Free software under the GNU General Public License 3 or later. Font: IBM Plex Sans (SIL OFL 1.1).",
        )  # fmt: skip

    def _guard(self, work) -> bool:
        try:
            work()
        except KerbError as error:
            self.session.complained.emit("That did not work", str(error))
            return False
        return True


def near_boxes(boxes: list) -> list[bool]:
    """Which (low, high) boxes lie near the largest group of them: one stray must not shrink the view to dots."""
    middles = np.array([(np.asarray(low)[:2] + np.asarray(high)[:2]) / 2 for low, high in boxes])
    sizes = np.array([float(np.hypot(*(np.asarray(high)[:2] - np.asarray(low)[:2]))) for low, high in boxes])
    reach = FAR * max(float(np.median(sizes)), 1.0)
    close = np.hypot(*(middles[:, None] - middles[None]).transpose(2, 0, 1)) <= reach
    return close[int(np.argmax(close.sum(axis=1)))].tolist()
