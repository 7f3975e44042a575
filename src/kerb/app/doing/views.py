"""Actions on the views: which way to look, what to fit, what is shown on wish."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QObject, Signal

from kerb.app.filtering import Filtering
from kerb.app.session import Session
from kerb.app.shapes import elevated, shapes_of
from kerb.app.stage import Stage
from kerb.app.views.strip import Strip
from kerb.app.views.view import ORBIT, PLAN, SECTION
from kerb.core.arrays import Floats
from kerb.core.geometry.features import bounds_of
from kerb.core.things import PICTURE
from kerb.studies.profiles import eastward, ends_of
from kerb.studies.showing import bounds_of as found_bounds
from kerb.studies.showing import toggles

FAR = 100.0
Box = tuple[Floats, Floats]


class ViewActions(QObject):
    """The doing of actions of the menu View."""

    command_wanted = Signal()
    limits_wanted = Signal()
    drawer_wanted = Signal()
    theme_wanted = Signal()

    def __init__(self, session: Session, stage: Stage, strip: Strip, filtering: Filtering) -> None:
        super().__init__(stage)
        self.session, self.stage, self.strip, self.filtering = session, stage, strip, filtering
        self.view = stage.view
        # Which of the profile lines the section view looks along.
        self.profile = 0

    def find(self) -> None:
        """Go to the field for doing, finding and going to anything."""
        self.command_wanted.emit()

    def view_plan(self) -> None:
        """Look straight down."""
        self.view.set_mode(PLAN)

    def view_orbit(self) -> None:
        """Look from any side."""
        self.view.set_mode(ORBIT)

    def view_section(self) -> None:
        """Look at a slice along the chosen profile line."""
        self._look_along_profile()
        self.view.set_mode(SECTION)

    def section_ends(self) -> tuple[str, str] | None:
        """What the ends of the profile are called that the section looks along; None without one."""
        count = sum(shape.quiet for shape in shapes_of(self.session))
        return ends_of(min(self.profile, count - 1)) if count else None

    def _look_along_profile(self) -> None:
        lines = [shape.drawn.places for shape in shapes_of(self.session) if shape.quiet]
        camera = self.view.cameras[SECTION]
        if lines:
            line = eastward(lines[min(self.profile, len(lines) - 1)])
            step = line[-1] - line[0]
            # Left end of the line at the left of the picture: the eye looks 90° to the left of its direction.
            heading = float(np.degrees(np.arctan2(step[0], step[1]))) - 90.0
            east, north = line.mean(axis=0).tolist()
            middle = (east, north, self.view.camera.target[2])
            scale = float(np.hypot(*step)) / self.view.pixels[0] * 1.05
            camera = replace(camera, heading=heading % 360, target=middle, scale=scale)
            if self.view.mode == PLAN:
                self.view.cameras[PLAN] = replace(self.view.camera, target=middle, scale=self.view.camera.scale)
        self.view.cameras[SECTION] = replace(camera, thickness=self.strip.slice.currentData() or 1.0)

    def fit(self) -> None:
        """Show everything that lies together."""
        job = self.session.job
        growing = [layer.store.bounds for layer in self.view.scene.clouds]
        if job is None or not job.state.holdings:
            self.fit_boxes(growing)
            return
        placed = [h for h in job.state.holdings if h.kind != PICTURE or not getattr(job.thing(h).thing, "tiles", "")]
        shown = [h for h in placed if h.visible and h.kind != PICTURE] or placed
        boxes = {h.name: job.bounds_of(h) for h in shown}
        near = near_boxes(list(boxes.values()))
        away = [name for name, keep in zip(boxes, near, strict=True) if not keep]
        if away:
            self.session.said.emit(f"Far away and not in this view: {', '.join(away)}")
        self.fit_boxes([box for box, keep in zip(boxes.values(), near, strict=True) if keep])

    def fit_boxes(self, boxes: list[Box]) -> None:
        """Show some boxes of (low, high) corners."""
        if boxes:
            level = self.view.camera.target[2]
            low, high = bounds_of(np.concatenate([np.array(box) for box in boxes]))
            self.view.fit(np.nan_to_num(low, nan=level), np.nan_to_num(high, nan=level))

    def fit_study(self) -> None:
        """Show the place of the open study: what it found, else what is drawn for it, else everything."""
        outcome = self.session.outcome()
        ends = found_bounds(outcome) if outcome is not None else None
        if ends is None:
            drawn = [elevated(None, s, self.view.camera.target[2]) for s in shapes_of(self.session) if not s.quiet]
            if not drawn:
                self.fit()
                return
            whole = np.concatenate(drawn)
            ends = whole.min(axis=0), whole.max(axis=0)
        low, high = ends
        room = 0.25 * float((high - low)[:2].max())
        self.view.fit(low - [room, room, 0.0], high + [room, room, 0.0])

    def fit_holding(self, key: str) -> None:
        """Show one holding."""
        holding = self.session.open_job.state.holding(key)
        if holding is not None:
            self.fit_boxes([self.session.open_job.bounds_of(holding)])

    def look_north(self) -> None:
        """Look horizontally to the north."""
        self._look(0.0)

    def look_east(self) -> None:
        """Look horizontally to the east."""
        self._look(90.0)

    def look_south(self) -> None:
        """Look horizontally to the south."""
        self._look(180.0)

    def look_west(self) -> None:
        """Look horizontally to the west."""
        self._look(270.0)

    def _look(self, heading: float) -> None:
        self.view.set_mode(ORBIT)
        self.view.set_camera(replace(self.view.camera, heading=heading, tilt=0.0, perspective=False), moving=False)
        self.fit()

    def perspective(self) -> None:
        """Switch between perspective and parallel view."""
        self.view.set_mode(ORBIT)
        self.view.set_camera(replace(self.view.camera, perspective=not self.view.camera.perspective), moving=False)

    def study_layer(self, name: str = "") -> None:
        """Show or hide a layer of the open study, the first of those that are kept back when none is named."""
        found = toggles(self.session.shown().outcome)
        if not found:
            self.session.said.emit("The open study has nothing more to show yet.")
            return
        self.stage.toggle(name or found[0][0])

    def filter_points(self) -> None:
        """Open or close the card that sets filters."""
        card = self.filtering.card
        self.filtering.open(None if card.isVisible() else card.column or "elevation")

    def legend_limits(self) -> None:
        """Type the limits of the ramp."""
        self.limits_wanted.emit()

    def show_noise(self) -> None:
        """Draw points of the noise classes too, or not."""
        self.stage.toggle("noise")

    def show_aside(self) -> None:
        """Draw in grey what is set aside, or not."""
        self.stage.toggle("aside")

    def edit_shapes(self) -> None:
        """Give the mouse back to the shapes of the study."""
        self.stage.use_edit_tool()

    def drawer(self) -> None:
        """Show or hide the drawer."""
        self.drawer_wanted.emit()

    def theme(self) -> None:
        """Switch between dark and light."""
        self.theme_wanted.emit()


def near_boxes(boxes: list[Box]) -> list[bool]:
    """Which (low, high) boxes lie near the largest group of them: one stray must not shrink the view to dots."""
    middles = np.array([(np.asarray(low)[:2] + np.asarray(high)[:2]) / 2 for low, high in boxes])
    sizes = np.array([float(np.hypot(*(np.asarray(high)[:2] - np.asarray(low)[:2]))) for low, high in boxes])
    reach = FAR * max(float(np.median(sizes)), 1.0)
    close = np.hypot(*(middles[:, None] - middles[None]).transpose(2, 0, 1)) <= reach
    return [bool(near) for near in close[int(np.argmax(close.sum(axis=1)))]]
