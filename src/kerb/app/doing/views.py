"""Actions on the views: which way to look, what to fit, what is shown on wish."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QObject, Signal

from kerb.app.filtering import Filtering
from kerb.app.keeper import SectionKeeper
from kerb.app.scenes import level_along
from kerb.app.session import Session
from kerb.app.shapes import elevated, shapes_of
from kerb.app.stage import Stage
from kerb.app.tools.bands import letters
from kerb.app.views.strip import Strip
from kerb.app.views.view import ORBIT, PLAN, SECTION, View
from kerb.core.arrays import Floats
from kerb.core.geometry.features import bounds_of
from kerb.core.section.frame import Frame
from kerb.core.section.placed import PlacedSection
from kerb.core.things import PICTURE
from kerb.draw.camera import Camera
from kerb.studies.profiles import eastward, ends_of
from kerb.studies.showing import bounds_of as found_bounds
from kerb.studies.showing import toggles

FAR = 100.0
# A line that is dragged changes its length by less than this share from one look to the next.
SAME_LENGTH = 0.5
# Of the length of a section: so far beside it the ground is looked at for its height.
BESIDE = 0.02
Box = tuple[Floats, Floats]


class ViewActions(QObject):
    """The doing of actions of the menu View."""

    command_wanted = Signal()
    limits_wanted = Signal()
    drawer_wanted = Signal()
    theme_wanted = Signal()
    section_changed = Signal()
    arrangement_wanted = Signal(str)
    pane_wanted = Signal(str)
    fold_wanted = Signal(str)
    step_wanted = Signal(int)

    def __init__(
        self, session: Session, stage: Stage, strip: Strip, filtering: Filtering, keeper: SectionKeeper
    ) -> None:
        super().__init__(stage)
        self.session, self.stage, self.strip, self.filtering = session, stage, strip, filtering
        self.keeper = keeper
        self.view = stage.view
        # Which of the profile lines the section view looks along, and the section of a series in its place.
        self.profile = 0
        self.frame: Frame | None = None
        self.flipped = False
        # The line that each view in section looked along last, its own thickness, and the section of the job it is of.
        self._looked: dict[int, tuple[Floats, float | None, PlacedSection | None]] = {}

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
        self.view.look(SECTION, self.section_camera(self.view))

    def section_ends(self) -> tuple[str, str] | None:
        """What the ends of the profile are called that the section looks along; None without one."""
        placed = self.keeper.section()
        if placed is not None:
            return letters(placed)
        count = sum(shape.quiet for shape in shapes_of(self.session))
        return ends_of(min(self.profile, count - 1)) if count else None

    def section_line(self) -> tuple[Floats, float | None] | None:
        """Left and right end (2, 2) of what the section views look along, and its own thickness where it has one.

        The section of the job that was chosen, else that which is looked at in the drawer, else the chosen profile line; None
        where there is none of them.
        """
        placed = self.keeper.section()
        if placed is not None:
            return placed.ends, placed.thickness
        way = -1 if self.flipped else 1
        if self.frame is not None:
            return self.frame.ends[::way], self.frame.thickness
        lines = [shape.drawn.places for shape in shapes_of(self.session) if shape.quiet]
        return (eastward(lines[min(self.profile, len(lines) - 1)])[::way], None) if lines else None

    def section_start(self) -> Floats | None:
        """Where the offsets of the section count from, (2,): its middle, or the left end of a profile line."""
        found = self.section_line()
        if found is None:
            return None
        middle = self.frame is not None or self.keeper.section() is not None
        return found[0].mean(axis=0) if middle else found[0][0]

    def in_section(self, view: View, place: Floats) -> float | None:
        """Offset of a place (3,) in the section that a view looks along; None where it looks along none."""
        start = self.section_start() if view.mode == SECTION else None
        return None if start is None else float((place[:2] - start) @ view.camera.axes[0][:2])

    def section_camera(self, view: View) -> Camera:
        """Where a view looks at the section from: the whole of its line, its left end at the left of the picture."""
        camera, found = view.cameras[SECTION], self.section_line()
        thickness = self.strip.slice.currentData() or 1.0
        if found is None:
            now = view.camera
            return replace(camera, target=now.target, scale=now.scale, thickness=thickness)
        line, own = found
        placed = self.keeper.section()
        self._looked[id(view)] = line, own, placed
        step = line[-1] - line[0]
        scale = float(np.hypot(*step)) / view.pixels[0] * 1.05
        if placed is not None:
            return replace(
                camera, heading=placed.azimuth, tilt=placed.tilt, target=placed.middle, scale=scale,
                thickness=placed.thickness, exaggeration=placed.exaggeration, perspective=False,
            )  # fmt: skip
        # The eye looks 90° to the left of the line's direction.
        heading = float(np.degrees(np.arctan2(step[0], step[1]))) - 90.0
        east, north = line.mean(axis=0).tolist()
        level = level_along(self.session, line, max(own or thickness, BESIDE * float(np.hypot(*step))))
        return replace(
            camera, heading=heading % 360, tilt=0.0, scale=scale, thickness=own or thickness,
            target=(east, north, view.camera.target[2] if level is None else level),
        )  # fmt: skip

    def follow_line(self, view: View) -> None:
        """A view in section goes with its line, where that was moved; what is seen stays as large as it is."""
        found = self.section_line()
        if view.mode != SECTION or found is None:
            return
        line, thickness, before = self._looked.get(id(view), (np.empty(0), None, None))
        placed = self.keeper.section()
        if np.array_equal(found[0], line) and found[1] == thickness and placed == before:
            return
        after, now = self.section_camera(view), view.camera
        # As large as it is, unless the line is another one altogether.
        same = len(line) and abs(_length(line) - _length(found[0])) <= SAME_LENGTH * _length(line)
        if placed is not None and before is not None and placed.id == before.id:
            # Of one that is dragged or stepped, what is seen stays where it is.
            lift = now.target[2] - before.middle[2] if placed.upright else 0.0
            after = replace(after, target=(*after.target[:2], after.target[2] + lift), exaggeration=now.exaggeration)
        elif same and placed is None:
            # The ground along it may rise and fall a little before the picture goes with it.
            room = 0.25 * view.pixels[1] * now.scale / now.exaggeration
            level = now.target[2] if abs(after.target[2] - now.target[2]) < room else after.target[2]
            after = replace(after, target=(*after.target[:2], level))
        view.set_camera(replace(after, scale=now.scale) if same else after, moving=True)

    def slice_of(self, thickness: float) -> None:
        """Another thickness of the slice; of the section of the job that is looked along it is its own."""
        here = self.keeper.section() if self.view.mode == SECTION else None
        if here is not None:
            self.keeper.try_(replace(here, thickness=thickness), "Made thicker or thinner")
        self.view.set_camera(replace(self.view.camera, thickness=thickness), moving=False)

    def stretch(self, factor: float) -> None:
        """Another exaggeration of heights, kept with the section of the job that is looked along."""
        here = self.keeper.section() if self.view.mode == SECTION else None
        if here is not None:
            self.keeper.try_(replace(here, exaggeration=factor), "Stretched the heights of")
        self.view.set_camera(replace(self.view.camera, exaggeration=factor), moving=False)

    def look_at_section(self, frame: Frame | None) -> None:
        """Another section of the open study is looked at; None when there is none."""
        if frame is not None:
            self.keeper.choose("")
        self.frame = frame
        self.section_changed.emit()

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
        self._fit_to(self.view, ends)

    def _fit_to(self, view: View, ends: tuple[Floats, Floats]) -> None:
        """Show the box of the open study in a pane, a face from before it."""
        outcome, (low, high) = self.session.outcome(), ends
        room = 0.25 * float((high - low)[:2].max())
        facing = outcome.seen_from if outcome is not None else None
        if facing is not None and view.mode == ORBIT:
            eye = replace(view.camera, heading=facing[0], tilt=facing[1], perspective=False)
            view.set_camera(eye, moving=False)
        view.fit(low - [room, room, 0.0], high + [room, room, 0.0])

    def study_in_sight(self) -> None:
        """Show the place of the open study in every pane in which nothing of what it found lies."""
        outcome = self.session.outcome()
        ends = found_bounds(outcome) if outcome is not None else None
        if ends is None:
            return
        corners = np.array(list(itertools.product(*zip(*ends, strict=True))))
        for view in self.stage.views():
            if view.mode == SECTION:
                continue
            seen = view.camera.project(corners, view.pixels)[:, :2]
            if (seen.max(axis=0) < 0).any() or (seen.min(axis=0) > view.pixels).any():
                self._fit_to(view, ends)

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

    def panes(self, arrangement: str) -> None:
        """Choose an arrangement of panes."""
        self.arrangement_wanted.emit(arrangement)

    def section_forward(self) -> None:
        """The next section, or the one that is looked at moved by its thickness."""
        self.step_wanted.emit(1)

    def section_back(self) -> None:
        """The section before, or the one that is looked at moved back by its thickness."""
        self.step_wanted.emit(-1)

    def section_flip(self) -> None:
        """Look at the section from the other side; offsets count from the other end then."""
        if self.keeper.flip():
            return
        self.flipped = not self.flipped
        self.section_changed.emit()

    def next_pane(self) -> None:
        """Go to the next pane."""
        self.pane_wanted.emit("next")

    def whole_pane(self) -> None:
        """Make the active pane whole, or put it back."""
        self.pane_wanted.emit("whole")

    def own_colours(self) -> None:
        """Let the colouring of the active pane loose, or bind it to that of the others."""
        self.pane_wanted.emit("colours")

    def fold_left(self) -> None:
        """Fold the lists away, or bring them back."""
        self.fold_wanted.emit("left")

    def fold_right(self) -> None:
        """Fold the sheet away, or bring it back."""
        self.fold_wanted.emit("right")

    def fold_all(self) -> None:
        """Fold everything round the picture away, or bring it back."""
        self.fold_wanted.emit("all")

    def drawer(self) -> None:
        """Show or hide the drawer."""
        self.drawer_wanted.emit()

    def theme(self) -> None:
        """Switch between dark and light."""
        self.theme_wanted.emit()


def _length(line: Floats) -> float:
    return float(np.hypot(*(line[-1] - line[0])))


def near_boxes(boxes: list[Box]) -> list[bool]:
    """Which (low, high) boxes lie near the largest group of them: one stray must not shrink the view to dots."""
    middles = np.array([(np.asarray(low)[:2] + np.asarray(high)[:2]) / 2 for low, high in boxes])
    sizes = np.array([float(np.hypot(*(np.asarray(high)[:2] - np.asarray(low)[:2]))) for low, high in boxes])
    reach = FAR * max(float(np.median(sizes)), 1.0)
    close = np.hypot(*(middles[:, None] - middles[None]).transpose(2, 0, 1)) <= reach
    return [bool(near) for near in close[int(np.argmax(close.sum(axis=1)))]]
