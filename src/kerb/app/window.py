"""The main window: puts header, lists, view, sheet, drawer and status line together and keeps them in step."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtGui import QAction, QKeySequence, QPainter
from PySide6.QtWidgets import (
    QApplication,
    QDialog,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QMessageBox,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from kerb.app import scenes, theme
from kerb.app.actions import ACTIONS, MENUS, ActionEntry
from kerb.app.colouring import Colouring
from kerb.app.dialogs import questions
from kerb.app.filtering import Filtering
from kerb.app.handlers import Handlers
from kerb.app.panels.drawer import Drawer
from kerb.app.panels.header import Header
from kerb.app.panels.lists import Lists
from kerb.app.panels.start import Guide, StartPage
from kerb.app.panels.status import Status
from kerb.app.right import RightSide
from kerb.app.selection import Selection
from kerb.app.session import Session
from kerb.app.tools.base import Tool
from kerb.app.tools.profile import ProfileHandles
from kerb.app.tools.select import SelectPoints
from kerb.app.tools.tiles import ChooseTiles
from kerb.app.tools.toe import DrawToe, EditToe
from kerb.app.views.backdrop import Backdrop
from kerb.app.views.legend import Legend
from kerb.app.views.overlay import Furniture, ProfileLines
from kerb.app.views.selection_bar import SelectionBar
from kerb.app.views.strip import Strip
from kerb.app.views.things import ThingsOverlay
from kerb.app.views.view import PLAN, SECTION, View
from kerb.core.cloud.growing import GrowingCloud
from kerb.core.errors import TruncatedError
from kerb.core.surface.tin import Tin
from kerb.core.things import CLOUD
from kerb.draw.scene import CloudLayer
from kerb.formats.tiles import TileCache
from kerb.job.holdings import ImportWish, source_missing
from kerb.job.job import Change
from kerb.job.places import Settings, user_data
from kerb.job.state import Holding
from kerb.studies.outcome import Outcome
from kerb.studies.stockpile.profiles import of_surfaces

LEFT, DRAWER = 240, 190


class Window(QMainWindow):
    """One window with one job."""

    def __init__(self, settings: Settings) -> None:
        super().__init__()
        self.settings = settings
        self.theme = theme.THEMES[settings.get("theme", "light")]
        theme.prepare(QApplication.instance(), self.theme)
        self.session = Session(settings, self)
        self.handlers = Handlers(self)
        self.actions_by_id: dict[str, QAction] = {}
        self.menu_shown: QMenu | None = None
        self.shown: set[str] = set()
        # The cloud that was looked over last: what the tools act on, until another study is opened.
        self.chosen_cloud = ""
        self._profiled: Outcome | None = None
        self._growing: GrowingCloud | None = None
        self._shown_before = False
        self.dialog: QDialog | None = None
        self._surfaces: tuple[Outcome, Tin, Tin] | None = None
        self.setWindowTitle("Kerb")
        self.resize(*settings.get("size", [1280, 800]))
        self.setMinimumSize(980, 620)
        self.setAcceptDrops(True)
        self._refresh = QTimer(self, singleShot=True, interval=0)
        self._refresh.timeout.connect(self._mirror_scene)
        self._make_actions()
        self._build()
        # Last: while widgets are put together, each of them would be styled again and again.
        QApplication.instance().setStyleSheet(theme.style_sheet(self.theme))
        self._connect()
        self._mirror_actions()
        self._mirror_scene()

    # Building

    def _make_actions(self) -> None:
        for menu_name in MENUS:
            menu = self.menuBar().addMenu(menu_name)
            menu.setToolTipsVisible(True)
            for entry in ACTIONS:
                if entry.menu != menu_name:
                    continue
                if entry.separator:
                    menu.addSeparator()
                menu.addAction(self._action(entry))

    def _action(self, entry: ActionEntry) -> QAction:
        action = QAction(entry.title, self)
        action.setToolTip(entry.help)
        action.setStatusTip(entry.help)
        if entry.shortcut:
            action.setShortcut(QKeySequence(entry.shortcut))
        action.triggered.connect(lambda _on, key=entry.id: self.handlers.run(key))
        self.addAction(action)
        self.actions_by_id[entry.id] = action
        return action

    def _build(self) -> None:
        self.header = Header(self.session, self.theme)
        self.lists = Lists(self.session, self.theme)
        self.lists.setFixedWidth(LEFT)
        self.view = View(self.theme)
        self.strip = Strip(self.view)
        self.legend = Legend(self.theme, self.view)
        self.guide = Guide(self.theme, self.view)
        self.guide.hide()
        self.furniture, self.profile_lines = Furniture(self.session), ProfileLines(self.session)
        self.things = ThingsOverlay(self.session)
        self.view.overlays = [self._paint_marks, self.things, self.furniture, self.profile_lines, self._paint_toe]
        self.backdrop = Backdrop(self.session, self.view, TileCache(user_data() / "tiles"))
        self.edit_tool = EditToe(self.view, self.session)
        self.view.tool = self.edit_tool
        self.view.handles = [ProfileHandles(self.view, self.profile_lines, self._profile_moved)]
        self.drawer = Drawer(self.session, self.theme)
        self.colouring, self.selection = Colouring(self), Selection(self)
        self.filtering = Filtering(self)
        self.right = RightSide(self, self.theme)
        self.sheet, self.bar = self.right.sheet, self.right.bar
        self.status = Status(self.session)
        self.start_page = StartPage(self.session, self.theme)
        self.selection_bar = SelectionBar(self)
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(self.view)
        split.addWidget(self.drawer)
        split.setHandleWidth(1)
        split.setStretchFactor(0, 1)
        split.setSizes([500, self.settings.get("drawer", DRAWER)])
        split.setCollapsible(0, False)
        self.split = split
        work = QWidget()
        row = QHBoxLayout(work)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        for widget in (self.lists, split, self.right):
            row.addWidget(widget, 1 if widget is split else 0)
        self.pages = QStackedWidget()
        self.pages.addWidget(self.start_page)
        self.pages.addWidget(work)
        whole = QWidget()
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        for widget in (self.header, self.pages, self.status):
            column.addWidget(widget, 1 if widget is self.pages else 0)
        self.setCentralWidget(whole)

    def _connect(self) -> None:
        session, run = self.session, self.handlers.run
        for widget in (self.header, self.lists, self.right, self.start_page):
            widget.action_wanted.connect(run)
        self.right.page_changed.connect(self._page_changed)
        catalogue = self.right.catalogue
        catalogue.changed.connect(self.view.update)
        catalogue.fetched.connect(lambda paths, epoch: self.handlers.bring_in(paths, True, epoch))
        catalogue.backdrop_wanted.connect(self.handlers.use_tiles)
        catalogue.fit_wanted.connect(self._fit_plan)
        self.backdrop.changed.connect(self._backdrop_read)
        self.backdrop.failed.connect(session.said.emit)
        self.header.chip_clicked.connect(self._chip_menu)
        self.header.command.possible = self._possible
        self.bar.report_toggled.connect(self._set_in_report)
        self.start_page.job_wanted.connect(self.handlers.open_folder)
        self.start_page.removal_wanted.connect(self.handlers.forget_unsaved)
        session.opened.connect(self._job_opened)
        session.selected.connect(self._study_selected)
        for signal in (session.changed, session.answered):
            signal.connect(lambda: self._refresh.start())
        session.changed.connect(self._mirror_actions)
        session.working.connect(lambda _task: self._mirror_actions())
        session.drafted.connect(self.view.update)
        session.live.answered.connect(self._live_answered)
        session.complained.connect(lambda title, text: questions.complain(self, title, text))
        session.broken_file.connect(self._broken_file)
        session.previewed.connect(self._show_growing)
        self.strip.mode_wanted.connect(lambda mode: run(f"view_{mode}"))
        self.strip.colour_wanted.connect(self.colouring.colour_by)
        self.strip.contour_wanted.connect(lambda value: self.colouring.style(contour=value))
        self.strip.exaggeration_wanted.connect(
            lambda value: self.view.set_camera(replace(self.view.camera, exaggeration=value), moving=False)
        )
        self.strip.slice_wanted.connect(
            lambda value: self.view.set_camera(replace(self.view.camera, thickness=value), moving=False)
        )
        self.colouring.connect()
        self.selection.changed.connect(self._mirror_selection)
        self.selection.taken.connect(self.handlers.marked)
        self.strip.filter_wanted.connect(lambda _on: run("filter_points"))
        self.view.mode_changed.connect(self.strip.set_mode)
        self.view.mode_changed.connect(lambda _mode: self._place_overlays())
        self.view.cursor_moved.connect(self.status.show_place)
        self.view.picture_changed.connect(lambda: self.status.show_points(self.view.picture))
        self.drawer.profile_chosen.connect(self._profile_chosen)
        self.drawer.histogram_wanted.connect(self.colouring.show_histogram)
        self.guide.dismissed.connect(self._dismiss_guide)

    # Keeping in step

    def _possible(self, key: str) -> bool:
        """Whether an action, named alone or with what it is about, can be done now."""
        action = self.actions_by_id.get(key.partition(":")[0])
        return action is None or action.isEnabled()

    def _job_opened(self) -> None:
        self.selection.forget()
        self.pages.setCurrentIndex(1)
        self.view.set_mode(PLAN)
        self.use_edit_tool()
        self._mirror_scene()
        QTimer.singleShot(0, self.handlers.fit)
        self.show_guide(False)
        moved = [h for h in self.session.job.state.holdings if source_missing(h)]
        if moved:
            questions.offer_search(self, moved[0], lambda: self.handlers.relink(moved[0].id))

    def _broken_file(self, wish: ImportWish, error: TruncatedError) -> None:
        if questions.offer_partial(self, wish.path, error):
            self.session.bring([replace(wish, partial=True)])

    def show_page(self, name: str, key: str = "") -> None:
        """Show a page at the right side."""
        self.right.show_page(name, key)

    def show_statistics(self, holding: Holding, points: np.ndarray, words: str) -> None:
        """Show the page of statistics with figures of points, (n,), of a cloud."""
        self.show_page("statistics")
        self.right.statistics.show_points(holding, points, words)

    def _page_changed(self, name: str) -> None:
        """The tool and the marked row follow the page."""
        self._refresh.start()
        self.lists.looked_over = self.right.holding_page.key if name == "holding" else ""
        self.lists.marks_study = name == "study"
        if self.session.job is not None:
            self.lists.mirror()
        if name == "catalogue":
            self.use_tool(ChooseTiles(self.view, self.right.catalogue))
        elif isinstance(self.view.tool, ChooseTiles):
            self.use_edit_tool()
        self.view.update()

    def _fit_plan(self, low: np.ndarray, high: np.ndarray) -> None:
        self.view.set_mode(PLAN)
        level = self.view.camera.target[2]
        self.view.fit(np.append(low, level), np.append(high, level))

    def _backdrop_read(self) -> None:
        self.view.scene.pictures = self.backdrop.layers(scenes.low_level(self.session))
        self.view.redraw()

    def _paint_marks(self, view: View, painter: QPainter) -> None:
        self.selection.paint(view, painter)
        self.right.find_page.paint(view, painter)

    def _mirror_selection(self) -> None:
        self.selection_bar.mirror(isinstance(self.view.tool, SelectPoints))

    def _paint_toe(self, _view: View, painter: QPainter) -> None:
        """Keep the toe line in sight while another tool has the mouse."""
        if self.view.tool is not self.edit_tool and not isinstance(self.view.tool, DrawToe):
            self.edit_tool.paint(painter)

    def _study_selected(self) -> None:
        self.chosen_cloud = ""
        self.use_edit_tool()
        self.edit_tool.before = None
        self.edit_tool.chosen = None
        self._advance_guide()

    def _mirror_scene(self) -> None:
        """Bring view, legend, strip and profiles in line with the job."""
        has_job = self.session.job is not None
        self.pages.setCurrentIndex(1 if has_job else 0)
        self.right.no_study.setVisible(self.session.study is None)
        outcome = self.session.outcome()
        fresh = outcome is not None and not self.session.stale(self.session.study)
        if not fresh or self._profiled is not outcome:
            self.profile_lines.lines = [p.line for p in outcome.profiles] if fresh else []
            self.drawer.profiles = []
            self._profiled = outcome if fresh else None
        had = self._shown_before
        scene = scenes.build(self.session, self.theme, self.shown)
        if fresh:
            scene.meshes += scenes.surface_layers(self.session, self.theme, "top" in self.shown, "base" in self.shown)
        if self._growing is not None:
            scene.clouds.append(CloudLayer(self._growing))
        scene.pictures = self.backdrop.layers(scenes.low_level(self.session))
        self.view.set_scene(scene)
        self._shown_before = not scene.empty or self.session.has_data
        if not had and self._shown_before:
            self.handlers.fit()
        self.colouring.mirror()
        self.filtering.mirror()
        main = self.colouring.main_cloud()
        if self.selection.key and (main is None or main.id != self.selection.key):
            self.selection.forget()
        self._place_overlays()
        self._advance_guide()
        name = self.session.job.state.title.name if has_job else ""
        self.setWindowTitle(f"{name} – Kerb" if name else "Kerb")

    def _mirror_actions(self) -> None:
        job, study = self.session.job, self.session.study
        have = {
            "": True, "job": job is not None,
            "cloud": bool(job and job.state.of_kind(CLOUD)), "data": self.session.has_data, "study": study is not None,
            "toe": bool(study and study.setup.get("toe")),
            "outcome": bool(job and any(s.outcome for s in job.state.studies)),
            "undo": bool(job and job.can_undo), "redo": bool(job and job.can_redo),
        }  # fmt: skip
        for entry in ACTIONS:
            self.actions_by_id[entry.id].setEnabled(have[entry.needs])

    def _place_overlays(self) -> None:
        self.strip.adjustSize()
        self.strip.move(12, 12)
        left = self.view.width() - self.legend.width() - 12
        crowded = self.strip.geometry().right() + 8 > left
        self.legend.move(left, self.strip.geometry().bottom() + 10 if crowded else 12)
        self.filtering.place()
        self._mirror_selection()
        self.guide.move(12, max(self.view.height() - self.guide.height() - 64, 60))

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        QTimer.singleShot(0, self._place_overlays)

    def _live_answered(self, _result: object) -> None:
        self.view.update()
        layer = self.colouring.layer()
        if layer is not None and layer.style.by == scenes.OVER_BASE and self.session.draft is None:
            if scenes.lend_height_over_base(self.session):
                self.view.redraw()
            self.colouring.mirror()

    # The view

    def toggle_shown(self, what: str) -> None:
        """Show or hide the base or top surface, noise points, or what is set aside."""
        self.shown ^= {what}
        self._mirror_scene()

    def look_along_profile(self) -> None:
        """Turn the section view to look square at the chosen profile line."""
        lines, camera = self.profile_lines.lines, self.view.cameras[SECTION]
        if lines:
            line = lines[min(self.profile_lines.current, len(lines) - 1)]
            step = line[1] - line[0]
            # Left end of the line at the left of the picture: the eye looks 90° to the left of its direction.
            heading = float(np.degrees(np.arctan2(step[0], step[1]))) - 90.0
            middle = (*line.mean(axis=0).tolist(), self.view.camera.target[2])
            scale = float(np.hypot(*step)) / self.view.pixels[0] * 1.05
            self.view.cameras[SECTION] = replace(camera, heading=heading % 360, target=middle, scale=scale)
            if self.view.mode == PLAN:
                self.view.cameras[PLAN] = replace(self.view.camera, target=middle, scale=self.view.camera.scale)
        self.view.cameras[SECTION] = replace(
            self.view.cameras[SECTION], thickness=self.strip.slice.currentData() or 1.0
        )

    def use_tool(self, tool: Tool) -> None:
        """Give the mouse to a tool."""
        if self.view.tool is not None:
            self.view.tool.leave()
        self.view.tool = tool
        self._mirror_selection()
        self.view.setCursor(tool.cursor)
        self.status.show_hint(tool.hint)
        self.view.setFocus()
        self.view.update()

    def use_edit_tool(self) -> None:
        """Give the mouse back to the toe line of the open study."""
        self.use_tool(self.edit_tool)
        self.status.show_hint("")

    # The drawer

    def _profile_chosen(self, number: int) -> None:
        if self.profile_lines.current != number:
            self.profile_lines.current = number
            self.view.update()

    def _profile_moved(self, number: int) -> None:
        """A profile line was dragged: cut the surfaces of the outcome along it."""
        outcome = self._profiled
        if outcome is None or not {"top", "base"} <= outcome.meshes.keys():
            return
        if self._surfaces is None or self._surfaces[0] is not outcome:
            top, base = (Tin.of(outcome.meshes[k].vertices, outcome.meshes[k].triangles) for k in ("top", "base"))
            self._surfaces = (outcome, top, base)
        _, top, base = self._surfaces
        lines = self.profile_lines.lines
        titles = [profile.title for profile in outcome.profiles]
        shown = self.drawer.profiles or list(outcome.profiles)
        shown[number] = of_surfaces(top, base, lines[number], titles[number])
        self.drawer.profiles = shown
        self.drawer.tabs.setCurrentIndex(number)
        self.drawer.mirror()

    def _show_growing(self, chunk: object) -> None:
        """Draw what has been read of a file so far; the imported cloud takes its place at the end."""
        if chunk is None:
            self._growing = None
        else:
            xyz, layout = chunk
            first = self._growing is None or self._growing.layout is not layout
            self._growing = (GrowingCloud(layout) if first else self._growing).with_chunk(xyz)
            if len(self.view.scene.clouds) <= 1 and not (self.session.job and self.session.job.state.holdings):
                self._mirror_scene()
                self.view.fit(*self._growing.bounds)
                return
        self._refresh.start()

    # Header and questions

    def _chip_menu(self, place: QPoint) -> None:
        menu = QMenu(self)
        title = self.session.job.state.title
        for kind, words in (
            ("length", "Lengths"),
            ("area", "Areas"),
            ("volume", "Volumes"),
            ("mass", "Masses"),
        ):
            sub = menu.addMenu(f"{words}: {getattr(title.decimals, kind)} decimals")
            for count in range(6):
                action = sub.addAction(str(count), lambda k=kind, c=count: self._set_decimals(k, c))
                action.setCheckable(True)
                action.setChecked(getattr(title.decimals, kind) == count)
        menu.addSeparator()
        menu.addAction("Reference system…", lambda: self.handlers.run("reference_system"))
        menu.addAction("Confirm unit…", lambda: self.handlers.run("confirm_unit"))
        menu.popup(place)
        self.menu_shown = menu

    def _set_decimals(self, kind: str, count: int) -> None:
        def apply(state):
            return replace(state, title=replace(state.title, decimals=replace(state.title.decimals, **{kind: count})))

        self.session.execute(Change(f"Shows {kind}s with {count} decimals", apply))

    def _set_in_report(self, on: bool) -> None:
        study = self.session.study
        after = replace(study, in_report=on)
        words = f"{'Put' if on else 'Took'} {study.name} {'into' if on else 'out of'} the report"
        self.session.execute(Change(words, lambda state: state.with_study(after)))

    def switch_theme(self) -> None:
        """Light to dark or back. The window is built anew around the same session's job."""
        name = "dark" if self.theme.name == "light" else "light"
        self.settings.set("theme", name)
        job, study, mode = self.session.job, self.session.study_id, self.view.mode
        cameras = dict(self.view.cameras)
        self._end_threads()
        job_listeners = job.listeners if job is not None else []
        job_listeners.clear()
        self.menuBar().clear()
        for action in list(self.actions()):
            self.removeAction(action)
        self.theme = theme.THEMES[name]
        theme.apply(QApplication.instance(), self.theme)
        self.session = Session(self.settings, self)
        self.handlers = Handlers(self)
        self._make_actions()
        self._build()
        self._connect()
        if job is not None:
            self.session.set_job(job)
            self.session.select(study)
            self.view.cameras = cameras
            QTimer.singleShot(0, lambda: (self.view.set_mode(mode), self.view.set_camera(cameras[mode], False)))
        self._mirror_actions()
        self._mirror_scene()

    def show_guide(self, on: bool) -> None:
        """Show or hide the guided start."""
        self.guide.setVisible(on)
        self._advance_guide()
        self._place_overlays()

    def _dismiss_guide(self) -> None:
        self.settings.set("guide_dismissed", True)
        self.show_guide(False)

    def _advance_guide(self) -> None:
        study = self.session.study
        step = 0
        if study is not None and "2" in study.name:
            step = 2 if study.setup.get("toe") else 1
        self.guide.show_step(step)

    # Files dropped, leaving

    def dragEnterEvent(self, event) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        jobs = [path for path in paths if (path / "job.json").exists()]
        if jobs:
            self.handlers.open_folder(jobs[0])
        else:
            self.handlers.bring_in(paths)
        event.acceptProposedAction()

    def may_leave(self) -> bool:
        """Whether the open job may be closed: ask when it holds changes that were not saved."""
        job = self.session.job
        if job is None or not job.changed:
            return True
        buttons = QMessageBox.StandardButton
        answer = QMessageBox.question(
            self, "Kerb", f"Save the changes to {job.state.title.name}?",
            buttons.Save | buttons.Discard | buttons.Cancel, buttons.Save,
        )  # fmt: skip
        if answer == buttons.Save:
            self.handlers.save()
            return not job.changed
        if answer == buttons.Discard:
            job.discard()
            return True
        return False

    def closeEvent(self, event) -> None:
        if not self.may_leave():
            event.ignore()
            return
        normal = self.normalGeometry()
        self.settings.set("size", [normal.width(), normal.height()])
        self.settings.set("maximized", self.isMaximized())
        self.settings.set("drawer", self.split.sizes()[1] or DRAWER)
        self._end_threads()
        event.accept()

    def _end_threads(self) -> None:
        self._refresh.stop()
        if self.dialog is not None:
            self.dialog.reject()
        self.right.stop_services()
        self.backdrop.close()
        self.selection.close()
        self.session.close()
        self.view.close_drawing()
