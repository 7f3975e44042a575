"""The working area of a window: its panes kept with the study, sections that follow their line, panels that fold away."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QObject, QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from kerb.app.doing.views import ViewActions
from kerb.app.panels.drawer import Drawer
from kerb.app.panels.status import Status
from kerb.app.session import Session
from kerb.app.shapes import shapes_of
from kerb.app.tools.bands import Bands
from kerb.app.tools.editing import EditShapes
from kerb.app.views.panes import BESIDE, Companion, Panes
from kerb.app.views.view import PLAN, SECTION, Overlay, View
from kerb.core.arrays import Floats
from kerb.core.geometry.area import ring_of
from kerb.job import studies
from kerb.studies.fields import LINE
from kerb.studies.registry import study_kind

# How much of the ground is in sight of a place that a table goes to.
CLOSE_UP_M = 30.0
# The same of a small section through it, and how thick that is.
CROSS_M, SLICE_M = 3.0, 0.4
RING = 4.5


class WorkingArea(QObject):
    """Keeps panes, study and drawer in step."""

    def __init__(
        self, session: Session, panes: Panes, drawer: Drawer, actions: ViewActions, edit: EditShapes, status: Status
    ) -> None:
        super().__init__(panes)
        self.session, self.panes, self.drawer, self.actions, self.edit = session, panes, drawer, actions, edit
        self.status, self.keeper = status, actions.keeper
        self.overlays: list[Overlay] = []
        # What folds away: by name.
        self.folding: dict[str, QWidget] = {}
        self._folded_all: set[str] = set()
        self._showing = False
        # Points that decide what was found at the place that a table went to.
        self.marks: Floats = np.empty((0, 3))
        self._gone_to: Floats | None = None
        panes.section_camera = actions.section_camera
        panes.made_companion.connect(self._dress)
        panes.changed.connect(self._keep)
        session.selected.connect(self._selected)
        for signal in (session.drafted, session.changed, session.answered):
            signal.connect(self._follow)
        drawer.place_chosen.connect(self._go_to)
        drawer.section_shown.connect(lambda: actions.look_at_section(drawer.section()))
        actions.section_changed.connect(self._follow)
        self.keeper.changed.connect(self._follow)
        self.keeper.looked_along.connect(self._look_along)
        actions.step_wanted.connect(self.step_section)
        panes.pointed.connect(self._pointed)
        actions.arrangement_wanted.connect(panes.arrange)
        doing = {
            "whole": panes.whole,
            "next": panes.next_pane,
            "colours": lambda: panes.colour_alone(None, not panes.active.own),
        }
        actions.pane_wanted.connect(lambda what: doing[what]())
        actions.fold_wanted.connect(self.fold)

    def _dress(self, companion: Companion) -> None:
        """What is painted over the pictures of a companion: the same as over the active one, and the shapes of the study."""
        tool = EditShapes(companion, self.session, Bands(companion, self.keeper))

        def shapes(_view: View, painter: QPainter) -> None:
            tool.chosen = self.edit.chosen
            tool.paint(painter)

        companion.overlays = [*self.overlays, shapes]

    def _go_to(self, place: Floats) -> None:
        """All panes look at a place; in section through it."""
        metre = 1.0 / self.session.open_job.state.title.length_unit().metres
        across = 0
        for view in self.panes.views():
            if view.mode == SECTION and self.actions.section_line() is None:
                # Two small sections across each other: one looks north, the other east.
                camera = replace(
                    view.camera, heading=(90.0 * across) % 180.0, tilt=0.0, perspective=False, exaggeration=1.0,
                    target=tuple(np.where(np.isfinite(place), place, view.camera.target).tolist()),
                    scale=CROSS_M * metre / view.pixels[0], thickness=SLICE_M * metre,
                )  # fmt: skip
                view.set_camera(camera, moving=False)
                across += 1
            else:
                view.go_to(place, CLOSE_UP_M * metre)
        self._ask_deciding(place)

    def _ask_deciding(self, place: Floats) -> None:
        """Which points of the data decide what the study found there: they are marked when they are known."""
        self.marks, self._gone_to = np.empty((0, 3)), place
        kind, setup, job = self.session.kind, self.session.setup, self.session.job
        if kind is None or kind.deciding is None or setup is None or job is None:
            return
        deciding, asked, sources = kind.deciding, setup, studies.sources_of(job, setup)

        def show(found: Floats) -> None:
            # Another place was gone to meanwhile: these are not its.
            if self._gone_to is not place:
                return
            self.marks = found
            for view in self.panes.views():
                view.update()

        self.session.start(
            lambda _p: deciding(asked, sources, place), "Looking at the point", show, lambda _t, _e: None
        )

    def paint_marks(self, view: View, painter: QPainter) -> None:
        """Rings round the points that decide what was found at the place that was gone to."""
        if not len(self.marks):
            return
        seen = view.camera.project(self.marks, view.pixels)
        near, far = view.camera.limits(view.pixels)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for ink, wide in ((view.theme.sheet, 3.4), (view.theme.accent, 1.6)):
            painter.setPen(QPen(QColor(ink), wide))
            for x, y, depth in (seen / [view.ratio, view.ratio, 1.0]).tolist():
                if near <= depth <= far:
                    painter.drawEllipse(QPointF(x, y), RING, RING)

    def _pointed(self, view: View, place: Floats | None) -> None:
        self.status.show_place(place, None if place is None else self.actions.in_section(view, place))

    def _selected(self) -> None:
        """Panes as they were kept with the study, or as its kind begins."""
        study = self.session.study
        self.actions.frame = None
        self.marks, self._gone_to = np.empty((0, 3)), None
        if study is None:
            return
        self._showing = True
        try:
            self.panes.show_kept(study.panes or study_kind(study.kind).panes)
        finally:
            self._showing = False

    def _keep(self) -> None:
        study = self.session.study
        if study is not None and not self._showing and study.panes != self.panes.now():
            self.session.execute(studies.paned(study, self.panes.now()))

    def _look_along(self) -> None:
        """A section of the job was chosen: a pane looks along it, a second one where there is none yet."""
        if not any(view.mode == SECTION for view in self.panes.views()):
            if len(self.panes.views()) == 1:
                self.panes.arrange(BESIDE, (PLAN, SECTION))
            else:
                self.actions.view_section()
        self._follow()

    def _follow(self) -> None:
        """Sections go with their line; lines are painted anew in all panes."""
        for view in self.panes.views():
            self.actions.follow_line(view)
        self.panes.repaint_all()

    def step_section(self, by: int) -> None:
        """The next section of a series; else the line that is looked along moves by its thickness, ahead or back."""
        if self.keeper.step(by) or self.drawer.step_section(by):
            return
        found = self.actions.section_line()
        lines = [s for s in shapes_of(self.session) if s.about.kind == LINE and s.quiet == (self.actions.frame is None)]
        if found is None or not lines:
            self.session.said.emit("There is no section that could be stepped.")
            return
        line, thickness = found
        shape = lines[min(self.actions.profile, len(lines) - 1)]
        step = line[-1] - line[0]
        ahead = np.array([-step[1], step[0]]) / np.hypot(*step)
        by_ = by * (thickness or self.actions.strip.slice.currentData() or 1.0)
        moved = replace(shape.drawn, xy=ring_of(shape.drawn.places + by_ * ahead))
        self.session.commit(f"{shape.name or shape.about.label} stepped", **{shape.field: moved})

    def fold(self, what: str) -> None:
        """Fold a panel away or bring it back; ``all`` brings back what it folded."""
        if what != "all":
            widget = self.folding[what]
            widget.setVisible(widget.isHidden())
            self._folded_all.discard(what)
            return
        if self._folded_all:
            for name in self._folded_all:
                self.folding[name].show()
            self._folded_all = set()
            return
        self._folded_all = {name for name, widget in self.folding.items() if not widget.isHidden()}
        for name in self._folded_all:
            self.folding[name].hide()
        if not self._folded_all:
            for widget in self.folding.values():
                widget.show()
