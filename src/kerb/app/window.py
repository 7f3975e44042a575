"""The main window: puts header, lists, view, sheet, drawer and status line together and keeps them in step."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import (
    QAction,
    QCloseEvent,
    QDragEnterEvent,
    QDragLeaveEvent,
    QDropEvent,
    QKeyEvent,
    QPainter,
    QResizeEvent,
)
from PySide6.QtWidgets import QHBoxLayout, QMainWindow, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from kerb.app import scenes, theme
from kerb.app.actions import actions
from kerb.app.bringing.results import Results
from kerb.app.can import possible
from kerb.app.chip import DecimalsMenu
from kerb.app.colouring import Colouring
from kerb.app.dialogs import questions
from kerb.app.doing.data import DataActions
from kerb.app.doing.jobs import JobActions
from kerb.app.doing.points import PointActions
from kerb.app.doing.reading import HelpActions
from kerb.app.doing.sections import SectionActions
from kerb.app.doing.studies import StudyActions
from kerb.app.doing.views import ViewActions
from kerb.app.filtering import Filtering
from kerb.app.handlers import Handlers
from kerb.app.keeper import SectionKeeper
from kerb.app.keys import UndoThroughFields
from kerb.app.menus import Menus, fill_menus
from kerb.app.pages.page import Desk
from kerb.app.panels.drawer import Drawer
from kerb.app.panels.header import Header
from kerb.app.panels.lists import Lists
from kerb.app.panels.start import Guide, StartPage
from kerb.app.panels.status import Status
from kerb.app.right import WIDTH as RIGHT
from kerb.app.right import RightSide
from kerb.app.selection import Selection
from kerb.app.session import Session
from kerb.app.shapes import layer_of, shapes_of
from kerb.app.stage import Stage
from kerb.app.tools.bands import Bands
from kerb.app.tools.drawing import DrawShape
from kerb.app.tools.editing import EditShapes
from kerb.app.tools.select import SelectPoints
from kerb.app.tools.tiles import ChooseTiles
from kerb.app.views.backdrop import Backdrop
from kerb.app.views.legend import Legend
from kerb.app.views.overlay import Furniture
from kerb.app.views.panes import Companion, Panes
from kerb.app.views.scene_strokes import paint_marks, paint_strokes
from kerb.app.views.selection_bar import SelectionBar
from kerb.app.views.strip import Strip
from kerb.app.views.things import ThingsOverlay
from kerb.app.views.view import PLAN, View
from kerb.app.widgets import Label, made, there
from kerb.app.working_area import WorkingArea
from kerb.core.arrays import Floats, Mask
from kerb.core.cloud.growing import GrowingCloud
from kerb.draw.camera import Camera
from kerb.draw.scene import CloudLayer, Scene
from kerb.formats.tiles import TileCache
from kerb.job.endings import IN_PART, NOT, Ending, sentence
from kerb.job.holdings import source_missing
from kerb.job.places import Settings, user_data
from kerb.job.state import Holding
from kerb.studies.showing import toggles

LEFT, DRAWER = 240, 190
# Of a narrow window the picture gets more.
NARROW, LEFT_NARROW, RIGHT_NARROW = 1100, 200, 322
# With less room than this over the picture the legends fold.
ROOMY, TALL = 520, 330


class Window(QMainWindow):
    """One window with one job."""

    def __init__(self, settings: Settings) -> None:
        super().__init__()
        self.settings = settings
        self.theme = theme.THEMES[settings.get("theme", "light")]
        theme.prepare(theme.running(), self.theme)
        self.actions_by_id: dict[str, QAction] = {}
        self._growing: GrowingCloud | None = None
        self._shown_before = False
        self._guided = ""
        self.setWindowTitle("Kerb")
        self.resize(*settings.get("size", [1280, 800]))
        self.setMinimumSize(980, 620)
        self.setAcceptDrops(True)
        self._refresh = QTimer(self)
        self._refresh.setSingleShot(True)
        self._refresh.setInterval(0)
        self._refresh.timeout.connect(self._mirror_scene)
        self._placing = made(QTimer(self), singleShot=True, interval=0)
        self._placing.timeout.connect(self._place_overlays)
        self._undo_filter = UndoThroughFields(self)
        theme.running().focusChanged.connect(self._undo_filter.follow)
        self._put_together()
        # Last: while widgets are put together, each of them would be styled again and again.
        theme.running().setStyleSheet(theme.style_sheet(self.theme))
        self._mirror_actions()
        self._mirror_scene()

    # Building

    def _put_together(self) -> None:
        self.session = Session(self.settings, self)
        self._build()
        self.actions_by_id, self.inner_menus = fill_menus(
            self, Menus(self.handlers.run, self.handlers.jobs.open_folder, self.settings.recent, self._layers)
        )
        self._connect()

    def _build(self) -> None:
        session = self.session
        self.view = View(self.theme)
        self.panes = Panes(self.view, self.theme)
        self.strip = Strip(self.view)
        self.legend = Legend(self.theme, self.view)
        self.surface_legend = Legend(self.theme, self.view, "Legend of surfaces")
        self.guide = Guide(self.theme, self.view)
        self.guide.hide()
        self.keeper = SectionKeeper(session)
        self.edit_tool = EditShapes(self.view, session, Bands(self.view, self.keeper))
        self.stage = Stage(self.view, self.edit_tool, self.panes.views)
        self.backdrop = Backdrop(session, self.view, TileCache(user_data() / "tiles"))
        self.colouring = Colouring(session, self.view, self.strip, (self.legend, self.surface_legend))
        self.selection = Selection(session, self.view, self.colouring)
        self.filtering = Filtering(session, self.colouring, self.stage, self.theme)
        self._build_doing()
        self.header = Header(session, self.theme)
        self.lists = Lists(session, self.theme, self.keeper)
        self.lists.setFixedWidth(LEFT)
        self.drawer = Drawer(session, self.theme)
        desk = Desk(session, self.view, self.colouring, self.selection, self.filtering, self.handlers.points)
        self.right = RightSide(desk, self.theme, self.handlers.run)
        self.sheet, self.bar = self.right.sheet, self.right.bar
        self.status = Status(session)
        self.start_page = StartPage(session, self.theme)
        self.selection_bar = SelectionBar(session, self.selection, self.handlers.run)
        self.furniture, self.things = Furniture(session), ThingsOverlay(session)
        self.furniture.ends = self.handlers.views.section_ends
        self.furniture.line = self.handlers.views.section_start
        self.view.overlays = [self._paint_marks, self.things, self.furniture, paint_strokes, self._paint_shapes]
        self.view.above = [paint_marks, *self.view.above]
        self.area = WorkingArea(session, self.panes, self.drawer, self.handlers.views, self.edit_tool, self.status)
        self.view.overlays.insert(-1, self.area.paint_marks)
        self.area.overlays = self.view.overlays[:-1]
        self.area.folding = {"left": self.lists, "right": self.right, "drawer": self.drawer, "header": self.header}
        self._lay_out()

    def _build_doing(self) -> None:
        """What does each action, with what it needs and no more."""
        session, stage = self.session, self.stage
        self.handlers = Handlers(
            session, JobActions(session, self), ViewActions(session, stage, self.strip, self.filtering, self.keeper),
            StudyActions(session, stage, self), DataActions(session, stage, self.theme, self),
            PointActions(session, stage, self.colouring, self.selection, self.filtering),
            SectionActions(session, stage, self.keeper, self.selection, self.colouring, self), HelpActions(session, self),
        )  # fmt: skip

    def _lay_out(self) -> None:
        split = QSplitter(Qt.Orientation.Vertical)
        upper = QWidget()
        stacked = QVBoxLayout(upper)
        stacked.setContentsMargins(0, 0, 0, 0)
        stacked.setSpacing(0)
        stacked.addWidget(self.panes, 1)
        stacked.addWidget(self.selection_bar)
        split.addWidget(upper)
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
        for part in (self.header, self.pages, self.status):
            column.addWidget(part, 1 if part is self.pages else 0)
        self.setCentralWidget(whole)
        self.drop_mark = made(
            Label("Drop files or folders to bring them in, or a job to open it"), objectName="dropmark"
        )
        self.drop_mark.setParent(self)
        self.drop_mark.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.drop_mark.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.drop_mark.hide()

    def _layers(self) -> list[tuple[str, str, bool]]:
        """Everything that the open study keeps back: name, title and whether it is shown."""
        found = toggles(self.session.shown().outcome)
        return [(name, title, name in self.stage.shown) for name, title in found]

    def _connect(self) -> None:
        session, run = self.session, self.handlers.run
        for widget in (self.header, self.lists, self.right, self.start_page):
            widget.action_wanted.connect(run)
        self._connect_doing()
        self.right.page_changed.connect(self._page_changed)
        catalogue = self.right.catalogue
        catalogue.changed.connect(self.view.update)
        catalogue.fetched.connect(lambda epochs: self.handlers.data.bring_in(list(epochs), epochs))
        catalogue.backdrop_wanted.connect(self.handlers.data.use_tiles)
        catalogue.fit_wanted.connect(self._fit_plan)
        self.backdrop.changed.connect(self._backdrop_read)
        self.backdrop.failed.connect(session.said.emit)
        self.chip = DecimalsMenu(session, run, self)
        self.header.chip_clicked.connect(self.chip.open_at)
        self.header.command.possible = self._possible
        self.start_page.job_wanted.connect(self.handlers.jobs.open_folder)
        self.start_page.removal_wanted.connect(self.handlers.jobs.forget_unsaved)
        session.opened.connect(self._job_opened)
        session.selected.connect(self._study_selected)
        for signal in (session.changed, session.answered, session.live.answered):
            signal.connect(self._refresh.start)
        session.changed.connect(self._mirror_actions)
        session.working.connect(lambda _task: self._mirror_actions())
        self.keeper.changed.connect(self._mirror_actions)
        session.drafted.connect(self.view.update)
        session.complained.connect(lambda title, text: questions.complain(self, title, text))
        session.brought.connect(self._brought)
        session.previewed.connect(self._show_growing)
        self._connect_view()
        self.guide.dismissed.connect(self._dismiss_guide)

    def _connect_doing(self) -> None:
        handlers = self.handlers
        handlers.jobs.closing.connect(self.close)
        handlers.jobs.forgotten.connect(self.start_page.mirror)
        for source in (handlers.jobs, handlers.help):
            source.guide_wanted.connect(self.show_guide)
        handlers.views.command_wanted.connect(self.header.command.take_focus)
        for legend in (self.legend, self.surface_legend):
            legend.fold_changed.connect(self._place_overlays)
        handlers.views.limits_wanted.connect(self._ask_limits)
        handlers.jobs.closed.connect(self._job_closed)
        self.header.command.left.connect(self.view.setFocus)
        handlers.views.drawer_wanted.connect(lambda: self.drawer.setVisible(not self.drawer.isVisible()))
        handlers.views.theme_wanted.connect(self.switch_theme)
        handlers.data.looked_over = lambda: self.right.holding_page.holding if self.right.page == "holding" else None
        handlers.points.shape_chosen.connect(lambda shape: self.selection_bar.shapes[shape].setChecked(True))
        handlers.points.then = lambda: self.selection_bar.then.currentData()
        handlers.points.settings_for = self.right.find_page.settings_for
        handlers.points.run = handlers.run
        handlers.show_field = self.sheet.show_field
        self.stage.page_wanted.connect(self.right.show_page)
        self.stage.statistics_wanted.connect(self.show_statistics)
        self.stage.hinted.connect(self.status.show_hint)
        self.stage.tool_changed.connect(self._mirror_selection)
        self.stage.toggled.connect(self._mirror_scene)

    def _connect_view(self) -> None:
        run = self.handlers.run
        self.strip.mode_wanted.connect(lambda mode: run(f"view_{mode}"))
        self.strip.colour_wanted.connect(self.colouring.colour_by)
        self.strip.contour_wanted.connect(lambda value: self.colouring.style(contour=value))
        self.strip.exaggeration_wanted.connect(self.handlers.views.stretch)
        self.strip.slice_wanted.connect(self.handlers.views.slice_of)
        self.strip.filter_wanted.connect(lambda _on: run("filter_points"))
        self.colouring.listen()
        self.colouring.alone_changed.connect(self.panes.tell)
        self.panes.coloured.connect(self.colouring.mirror)
        self.colouring.filters_wanted.connect(self.filtering.set)
        self.colouring.histogram_ready.connect(self.drawer.show_histogram)
        self.selection.changed.connect(self._mirror_selection)
        self.selection.taken.connect(self.handlers.points.marked)
        self.view.mode_changed.connect(self.strip.set_mode)
        self.view.camera_changed.connect(
            lambda: self.strip.show_eye(self.view.camera.thickness, self.view.camera.exaggeration)
        )
        self.view.mode_changed.connect(lambda _mode: self._place_overlays())
        self.view.resized.connect(self._placing.start)
        self.view.picture_changed.connect(
            lambda: self.status.show_points(None if self.view.scene.empty else self.view.picture)
        )
        self.drawer.profile_chosen.connect(self._profile_chosen)
        self.drawer.histogram_wanted.connect(self.colouring.show_histogram)

    # Keeping in step

    def _ask_limits(self) -> None:
        legend = self.legend if not self.legend.isHidden() else self.surface_legend
        if legend.isHidden() or legend.entries:
            self.session.said.emit("Nothing is coloured by a ramp now.")
        else:
            legend.ask_limits()

    def _job_closed(self) -> None:
        """Back to the start page."""
        self.selection.forget()
        self._growing = None
        self.view.set_scene(Scene())
        self.status.show_points(None)
        self.status.show_place(None)
        self.start_page.mirror()
        for part in (self.lists, self.header, self.sheet, self.bar):
            part.mirror()
        self._mirror_actions()
        self._mirror_scene()

    def _possible(self, key: str) -> bool:
        """Whether an action, named alone or with what it is about, can be done now."""
        action = self.actions_by_id.get(key) or self.actions_by_id.get(key.partition(":")[0])
        return action is None or action.isEnabled()

    def _job_opened(self) -> None:
        self.selection.forget()
        self._growing = None
        self.status.show_points(None)
        self._guided = ""
        self.pages.setCurrentIndex(1)
        self.status.show_place(None)
        self.panes.forget_places()
        self.view.set_mode(PLAN)
        self.stage.use_edit_tool()
        self._mirror_scene()
        QTimer.singleShot(0, lambda: self.panes.begin(self.handlers.views.fit))
        self.show_guide(False)
        moved = [h for h in self.session.open_job.state.holdings if source_missing(h)]
        if moved:
            questions.offer_search(self, moved[0], lambda: self.handlers.data.relink(moved[0].id))

    def _brought(self, endings: list[Ending]) -> None:
        """Say how the files of a batch ended: in a line when all is well, else each with its word."""
        if len(endings) == 1 and endings[0].word == NOT and endings[0].again is None:
            self.session.complained.emit(sentence(endings), endings[0].why)
            return
        self.session.said.emit(sentence(endings))
        if any(one.word == NOT or (one.word == IN_PART and len(endings) > 1) for one in endings):
            results = Results(endings, self)
            results.wanted.connect(self.session.bring)
            results.open()

    def show_statistics(self, holding: Holding, points: Mask, words: str) -> None:
        """Show the page of statistics with figures of points, (n,), of a cloud."""
        self.right.show_page("statistics")
        self.right.statistics.show_points(holding, points, words)

    def _page_changed(self, name: str) -> None:
        """The tool and the marked row follow the page."""
        self._refresh.start()
        self.lists.looked_over = self.right.holding_page.key if name == "holding" else ""
        self.lists.marks_study = name == "study"
        if self.session.job is not None:
            self.lists.mirror()
        if name == "catalogue":
            self.stage.use_tool(ChooseTiles(self.view, self.right.catalogue))
        elif isinstance(self.view.tool, ChooseTiles):
            self.stage.use_edit_tool()
        self.view.update()

    def _fit_plan(self, low: Floats, high: Floats) -> None:
        self.view.set_mode(PLAN)
        level = self.view.camera.target[2]
        self.view.fit(np.append(low, level), np.append(high, level))

    def _backdrop_read(self) -> None:
        self.view.base.pictures = self.backdrop.layers(scenes.low_level(self.session))
        self.view.set_scene(self.view.base)

    def _paint_marks(self, view: View, painter: QPainter) -> None:
        self.selection.paint(view, painter)
        self.right.find_page.paint(view, painter)

    def _mirror_selection(self) -> None:
        self.selection_bar.mirror(isinstance(self.view.tool, SelectPoints))

    def _paint_shapes(self, _view: View, painter: QPainter) -> None:
        """Keep the shapes of the study in sight while another tool has the mouse."""
        if self.view.tool is not self.edit_tool and not isinstance(self.view.tool, DrawShape):
            self.edit_tool.paint(painter)

    def _study_selected(self) -> None:
        self.stage.use_edit_tool()
        self.edit_tool.choose(None)
        setup, study = self.session.setup, self.session.study
        if setup is not None and study is not None and setup.missing():
            self._guided = study.id
        self._advance_guide()

    def _mirror_scene(self) -> None:
        """Bring view, legend, strip and charts in line with the job."""
        has_job = self.session.job is not None
        self.pages.setCurrentIndex(1 if has_job else 0)
        self.right.no_study.setVisible(self.session.study is None)
        had = self._shown_before
        outcome = self.session.shown().outcome
        with_handles = [layer_of(outcome, shape) for shape in shapes_of(self.session)]
        drawn = frozenset(
            name for name, layer in (outcome.layers.items() if outcome is not None else ())
            if any(layer is other for other in with_handles)
        )  # fmt: skip
        scene = scenes.build(self.session, self.theme, self.stage.shown, drawn)
        if self._growing is not None:
            scene.clouds.append(CloudLayer(self._growing))
        scene.pictures = self.backdrop.layers(scenes.low_level(self.session))
        self.view.set_scene(scene)
        self._shown_before = not scene.empty or self.session.has_data
        if not had and self._shown_before:
            self.handlers.views.fit()
        self.colouring.mirror()
        self.filtering.mirror()
        main = self.session.main_cloud()
        if self.selection.key and (main is None or main.id != self.selection.key):
            self.selection.forget()
        self._place_overlays()
        self._advance_guide()
        name = self.session.job.state.title.name if self.session.job is not None else ""
        self.setWindowTitle(f"{name} – Kerb" if name else "Kerb")

    def _mirror_actions(self) -> None:
        can = possible(self.session, bool(self.keeper.chosen))
        for entry in actions():
            self.actions_by_id[entry.id].setEnabled(can(entry))

    def _place_overlays(self) -> None:
        self.strip.fit_into(self.view.width() - 24)
        self.strip.move(12, 12)
        roomy = self.view.width() >= ROOMY and self.view.height() >= TALL
        for legend in (self.legend, self.surface_legend):
            legend.show_room(roomy)
        left = self.view.width() - self.legend.width() - 12
        crowded = self.strip.geometry().right() + 8 > left
        top = self.strip.geometry().bottom() + 10 if crowded else 12
        self.legend.move(left, top)
        if not self.legend.isHidden():
            top = self.legend.geometry().bottom() + 10
        self.surface_legend.move(self.view.width() - self.surface_legend.width() - 12, top)
        self.filtering.place()
        self._mirror_selection()
        self.guide.move(12, max(self.view.height() - self.guide.height() - 64, 60))

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Keep what lies on the view in its place."""
        super().resizeEvent(event)
        narrow = self.width() < NARROW
        self.lists.setFixedWidth(LEFT_NARROW if narrow else LEFT)
        self.right.setFixedWidth(RIGHT_NARROW if narrow else RIGHT)
        if event.oldSize().height() > event.size().height() and self.split.sizes()[1] > self.split.height() // 3:
            self.split.setSizes([self.split.height() - self.split.height() // 3, self.split.height() // 3])
        QTimer.singleShot(0, self._place_overlays)

    def _profile_chosen(self, number: int) -> None:
        quiet = [shape for shape in shapes_of(self.session) if shape.quiet]
        self.handlers.views.profile = number
        if number < len(quiet) and self.edit_tool.chosen is None:
            self.view.update()

    def _show_growing(self, chunk: object) -> None:
        """Draw what has been read of a file so far; the imported cloud takes its place at the end."""
        self._growing = chunk if isinstance(chunk, GrowingCloud) else None
        if self._growing is not None and len(self.view.scene.clouds) <= 1 and not self.session.has_data:
            self._mirror_scene()
            self.view.fit(*self._growing.bounds)
            return
        self._refresh.start()

    # Theme and guide

    def switch_theme(self) -> None:
        """Light to dark or back. The window is built anew around the same session's job."""
        # The window is built anew, which takes a moment: not without a sign of it.
        theme.running().setOverrideCursor(Qt.CursorShape.WaitCursor)
        try:
            self._switch_theme()
        finally:
            theme.running().restoreOverrideCursor()

    def _switch_theme(self) -> None:
        name = "dark" if self.theme.name == "light" else "light"
        self.settings.set("theme", name)
        job, study = self.session.job, self.session.study_id
        looks = [(view.mode, dict(view.cameras)) for view in self.panes.views()]
        place = self.panes.views().index(self.view)
        self._end_threads()
        self.menuBar().clear()
        for action in list(self.actions()):
            self.removeAction(action)
        self.theme = theme.THEMES[name]
        theme.apply(theme.running(), self.theme)
        self._put_together()
        if job is not None:
            self.session.set_job(job)
            self.session.select(study)
            QTimer.singleShot(0, lambda: self._look_as_before(looks, place))
        self._mirror_actions()
        self._mirror_scene()

    def _look_as_before(self, looks: list[tuple[str, dict[str, Camera]]], place: int) -> None:
        """Each pane shows what it did before, and the same one is the active one."""
        views = self.panes.views()
        for view, (mode, cameras) in zip(views, looks, strict=False):
            view.cameras = dict(cameras)
            view.look(mode, cameras[mode])
        active = views[place] if place < len(views) else self.view
        if isinstance(active, Companion):
            self.panes.activate(active)
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
        """Tick off: a study that was still to do is open; it has all it needs."""
        study, setup = self.session.study, self.session.setup
        step = 0
        if study is not None and setup is not None and study.id == self._guided:
            step = 1 if setup.missing() else 2
        self.guide.show_step(step)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Esc that nothing else wanted gives the keys back to the view."""
        if event.key() == Qt.Key.Key_Escape and self.session.job is not None:
            self.view.setFocus()
        else:
            super().keyPressEvent(event)

    # Files dropped, leaving

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Take files."""
        if event.mimeData().hasUrls():
            self.drop_mark.setGeometry(there(self.centralWidget()).geometry())
            self.drop_mark.show()
            self.drop_mark.raise_()
            event.acceptProposedAction()

    def dragLeaveEvent(self, _event: QDragLeaveEvent) -> None:
        """Nothing is dropped after all."""
        self.drop_mark.hide()

    def dropEvent(self, event: QDropEvent) -> None:
        """Open a job, or bring files in."""
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        self.drop_mark.hide()
        self.take(paths)
        event.acceptProposedAction()

    def take(self, paths: list[Path]) -> None:
        """Open the job among some paths, or bring files and folders in."""
        jobs = [path for path in paths if path.suffix == ".kerb" or (path / "job.json").exists()]
        if jobs:
            self.handlers.jobs.open_folder(jobs[0])
        elif paths:
            self.handlers.data.bring_in(paths)

    def closeEvent(self, event: QCloseEvent) -> None:
        """Ask about changes that were not saved, and end all threads."""
        if not self.handlers.jobs.may_leave():
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
        if self.handlers.data.dialog is not None:
            self.handlers.data.dialog.reject()
        self.right.stop_services()
        self.backdrop.close()
        self.selection.close()
        self.colouring.close()
        self.session.close()
        self.view.close_drawing()
        self.panes.close_drawing()
