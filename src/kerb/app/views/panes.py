"""The working area: one to four panes, each in plan, orbit or section, with the mouse and the tools in the active one.

There is one :class:`View` with tools, legend and strip, which lies in the active pane; the other panes show companions of it.
A press into another pane exchanges the two, so that everything else of the window knows one view only.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from PySide6.QtCore import QPointF, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QHBoxLayout, QSplitter, QToolButton, QVBoxLayout, QWidget

from kerb.app.theme import Theme, font
from kerb.app.views.view import ORBIT, PLAN, SECTION, View
from kerb.app.widgets import Label, made
from kerb.core.arrays import Floats
from kerb.draw.camera import Camera

ONE, BESIDE, ABOVE, THREE, FOUR = "one", "beside", "above", "three", "four"
# Of each arrangement: its words, and what its panes show at first.
ARRANGEMENTS = {
    ONE: ("One pane", (PLAN,)),
    BESIDE: ("Two side by side", (PLAN, SECTION)),
    ABOVE: ("Two above each other", (PLAN, SECTION)),
    THREE: ("One large, two small", (PLAN, SECTION, ORBIT)),
    FOUR: ("Four panes", (PLAN, ORBIT, SECTION, SECTION)),
}
BY_COUNT = {1: ONE, 2: BESIDE, 3: THREE, 4: FOUR}
WORDS = {PLAN: "Plan", ORBIT: "Orbit", SECTION: "Section"}
FOLLOW_MS, MARK_MS = 150, 45
MARK = 7.0


class Companion(View):
    """A view beside the active one: wheel and cursor work in it, a press makes it the active one and goes on there."""

    pressed = Signal(object)

    def __init__(self, theme: Theme, active: View) -> None:
        super().__init__(theme)
        self.active = active
        self._forwarding = False
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setAccessibleName("Drawing area, another pane")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Become the active pane, and let the press count there."""
        self.pressed.emit(self)
        self._forwarding = True
        # Both have another parent now, and the toolkit no longer knows who has the mouse: without a word the rest of the drag,
        # and the release, would go to nobody.
        self.active.grabMouse()
        self.active.mousePressEvent(self._there(event))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Go on with what the press began, else tell the place."""
        self._forwarding = self._forwarding and event.buttons() != Qt.MouseButton.NoButton
        if self._forwarding:
            self.active.mouseMoveEvent(self._there(event))
        else:
            super().mouseMoveEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """End what the press began."""
        if self._forwarding:
            self._forwarding = False
            self.active.mouseReleaseEvent(self._there(event))

    def _there(self, event: QMouseEvent) -> QMouseEvent:
        at = event.globalPosition()
        return QMouseEvent(
            event.type(), self.active.mapFromGlobal(at), at, event.button(), event.buttons(), event.modifiers()
        )


class Pane(QWidget):
    """A place for a view, with a caption: what it shows, and a button that makes it whole."""

    whole_wanted = Signal(object)
    alone_wanted = Signal(object, bool)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("pane")
        self.box = QVBoxLayout(self)
        self.box.setContentsMargins(0, 0, 0, 0)
        self.box.setSpacing(0)
        self.caption = QWidget()
        self.caption.setFixedHeight(22)
        row = QHBoxLayout(self.caption)
        row.setContentsMargins(8, 0, 4, 0)
        self.words = Label("")
        self.words.setProperty("role", "small")
        self.whole = made(QToolButton(), text="⤢", autoRaise=True, toolTip="Make this pane whole, or put it back (F12)")
        self.whole.setFixedSize(22, 20)
        self.whole.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.whole.clicked.connect(lambda: self.whole_wanted.emit(self))
        tip = "Colours of this pane only: what is chosen to colour the points by does not count for the others"
        self.alone = made(QToolButton(), text="Own colours", autoRaise=True, checkable=True, toolTip=tip)
        self.alone.setFixedHeight(20)
        self.alone.setFont(font(11))
        self.alone.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.alone.clicked.connect(lambda on: self.alone_wanted.emit(self, on))
        row.addWidget(self.words)
        row.addStretch(1)
        row.addWidget(self.alone)
        row.addWidget(self.whole)
        self.box.addWidget(self.caption)
        self.view: View | None = None

    def hold(self, view: View) -> None:
        """Show a view here."""
        self.view = view
        self.box.addWidget(view, 1)
        view.show()

    def tell(self, active: bool) -> None:
        """Say what is shown."""
        if self.view is None:
            return
        own = f"  ·  by {self.view.own['by'].replace('_', ' ')}" if self.view.own else ""
        self.words.setText(f"{WORDS[self.view.mode]}{own}{'  ·  active' if active else ''}")
        self.alone.setChecked(bool(self.view.own))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """On the caption: whole, or back."""
        if event.position().y() <= self.caption.height():
            self.whole_wanted.emit(self)


@dataclass(frozen=True)
class Sight:
    """How much was in sight of a view when somebody last looked somewhere: its pixels and scales then, and the scales it was
    ``left`` with, fitted to panes of other sizes. Fitting from there each time, panes of two sizes by turns do not drift."""

    size: tuple[int, int]
    scales: dict[str, float]
    left: dict[str, float] = field(default_factory=dict)


def _scales(view: View) -> dict[str, float]:
    return {mode: camera.scale for mode, camera in view.cameras.items()}


class Panes(QWidget):
    """The panes of a window. ``changed`` tells that the arrangement, or what a pane shows, is another one."""

    changed = Signal()
    # The view and the place under the cursor, in whatever pane that is.
    pointed = Signal(object, object)
    made_companion = Signal(object)
    # The active pane shows other colours.
    coloured = Signal()

    def __init__(self, active: View, theme: Theme) -> None:
        super().__init__()
        self.active, self.theme = active, theme
        self.arrangement = ONE
        self.is_whole = False
        self.panes: list[Pane] = []
        self.companions: list[Companion] = []
        self._sights: dict[View, Sight] = {}
        self.place: Floats | None = None
        # Companions that were given the eye of the active view just now.
        self._new: set[View] = set()
        # Where a section looks when nothing was looked at in it yet; the window says it.
        self.section_camera: Callable[[View], Camera] = lambda view: view.cameras[SECTION]
        self.box = QVBoxLayout(self)
        self.box.setContentsMargins(0, 0, 0, 0)
        self._splits: list[QSplitter] = []
        self._soon = made(QTimer(self), singleShot=True, interval=FOLLOW_MS)
        self._soon.timeout.connect(self._follow)
        self._marks = made(QTimer(self), singleShot=True, interval=MARK_MS)
        self._marks.timeout.connect(self._mark)
        active.redrawn.connect(self._soon.start)
        active.mode_changed.connect(lambda _mode: self._tell(changed=True))
        active.cursor_moved.connect(self._moved)
        active.above.append(self._paint_mark)
        self._under: View = active
        self._lay_out([active])

    # What there is

    def views(self) -> list[View]:
        """The views in sight, in the order of the panes."""
        return [pane.view for pane in self.panes if pane.view is not None]

    def now(self) -> tuple[str, ...]:
        """The arrangement and the mode of each pane, as it is kept with a study."""
        return (self.arrangement, *(f"{v.mode}|{v.own['by']}" if v.own else v.mode for v in self.views()))

    def show_kept(self, kept: tuple[str, ...]) -> None:
        """Show what :meth:`now` told; modes alone mean the arrangement for so many panes."""
        if not kept or kept[0] not in ARRANGEMENTS:
            kept = (BY_COUNT.get(len(kept), ONE), *kept)
        if tuple(kept) != self.now():
            self.arrange(kept[0], kept[1:])

    # Arranging

    def arrange(self, name: str, modes: tuple[str, ...] = ()) -> None:
        """Choose an arrangement; panes keep what they show as far as there are any."""
        before, size = [view.mode for view in self.views()], self.active.pixels
        wanted = list(modes) or [*before, *ARRANGEMENTS[name][1][len(before) :]]
        count = len(ARRANGEMENTS[name][1])
        wanted, colours = _parted(wanted[:count])
        self.arrangement, self.is_whole = name, False
        views: list[View] = [view for view in self.views() if view is self.active or isinstance(view, Companion)][
            :count
        ]
        if self.active not in views:
            views[-1] = self.active
        while len(views) < count:
            spare = next((c for c in self.companions if c not in views), None)
            views.append(spare or self._companion())
        self._lay_out(views)
        for view, mode, own in zip(views, wanted, colours, strict=False):
            self._look(view, mode)
            if modes and own != view.own:
                view.colour_alone(own)
        self._follow()
        self._tell(changed=True)
        # The panes get their sizes when the layout does; what looks along a section fits it then.
        QTimer.singleShot(0, lambda: self._fit(size))

    def _fit(self, size: tuple[int, int]) -> None:
        """What was in sight of the active view stays in sight of it, and of those that begin where it looks."""
        begun = [view for view in self.views() if view is self.active or view in self._new]
        self._new.clear()
        for view in begun:
            sight = self._sights.get(view)
            if sight is None or sight.left != _scales(view):
                # Somebody zoomed since: from here on that is what stays in sight.
                sight = Sight(size, _scales(view))
            share = max(sight.size[0] / view.pixels[0], sight.size[1] / view.pixels[1])
            for mode, camera in view.cameras.items():
                view.cameras[mode] = replace(camera, scale=sight.scales[mode] * share)
            self._sights[view] = replace(sight, left=_scales(view))
            view.set_camera(view.camera, moving=False)
        for view in self.views():
            if view.mode == SECTION and view is not self.active:
                view.look(SECTION, self.section_camera(view))

    def forget_places(self) -> None:
        """All panes look at nothing yet: the places of one job are none of another."""
        for view in (self.active, *self.companions):
            view.forget_places()

    def begin(self, fit: Callable[[], None]) -> None:
        """Show a job from its start: the active pane what fits it, the others the same place in their own way."""
        fit()
        here = self.active.camera
        for view in self.views():
            if view is self.active:
                continue
            for mode, camera in view.cameras.items():
                view.cameras[mode] = replace(camera, target=here.target, scale=here.scale)
            if view.mode == SECTION:
                view.look(SECTION, self.section_camera(view))
            else:
                view.set_camera(view.camera, moving=False)

    def _companion(self) -> Companion:
        one = Companion(self.theme, self.active)
        one.pressed.connect(self.activate)
        one.cursor_moved.connect(self._moved)
        one.above = [self._paint_mark]
        self.companions.append(one)
        self.made_companion.emit(one)
        return one

    def _look(self, view: View, mode: str) -> None:
        """Show a mode in a view. One that was not used before looks where the active one does."""
        if view is not self.active and view.fresh:
            view.fresh = False
            self._new.add(view)
            for name, camera in self.active.cameras.items():
                view.cameras[name] = camera
            view.mode = self.active.mode
        if view.mode != mode and mode == SECTION:
            view.look(mode, self.section_camera(view))
        elif view.mode != mode:
            view.set_mode(mode)

    def _lay_out(self, views: list[View]) -> None:
        # A widget that moves to another parent loses the keys.
        had_keys = self.active.hasFocus()
        for view in (self.active, *self.companions):
            view.setParent(self)
        for split in self._splits:
            split.setParent(None)
            split.deleteLater()
        for pane in self.panes:
            pane.setParent(None)
            pane.deleteLater()
        self._splits, self.panes = [], []
        for view in views:
            pane = Pane()
            pane.hold(view)
            pane.whole_wanted.connect(self.whole)
            pane.alone_wanted.connect(self.colour_alone)
            pane.caption.setVisible(len(views) > 1)
            self.panes.append(pane)
        for companion in self.companions:
            companion.setVisible(companion in views)
        self.box.addWidget(self._arranged())
        if had_keys:
            self.active.setFocus()

    def _arranged(self) -> QWidget:
        panes: list[QWidget] = list(self.panes)
        if len(panes) == 1:
            return panes[0]
        across, down = Qt.Orientation.Horizontal, Qt.Orientation.Vertical
        if self.arrangement == ABOVE:
            return self._split(down, panes, (1, 1))
        if self.arrangement == THREE:
            return self._split(across, [panes[0], self._split(down, panes[1:], (1, 1))], (3, 2))
        if self.arrangement == FOUR:
            rows = [self._split(across, panes[:2], (1, 1)), self._split(across, panes[2:], (1, 1))]
            return self._split(down, rows, (1, 1))
        return self._split(across, panes, (1, 1))

    def _split(self, way: Qt.Orientation, parts: Sequence[QWidget], shares: tuple[int, ...]) -> QSplitter:
        split = QSplitter(way)
        split.setHandleWidth(3)
        split.setChildrenCollapsible(False)
        for part, share in zip(parts, shares, strict=True):
            split.addWidget(part)
            split.setStretchFactor(split.indexOf(part), share)
        split.setSizes([1000 * share for share in shares])
        self._splits.append(split)
        return split

    def whole(self, pane: Pane | None = None) -> None:
        """Make a pane whole, or put it back; the active one when none is named."""
        if len(self.panes) < 2:
            return
        if pane is not None and pane.view is not self.active and isinstance(pane.view, Companion):
            self.activate(pane.view)
        self.is_whole = not self.is_whole
        for one in self.panes:
            one.setVisible(not self.is_whole or one.view is self.active)
        for split in self._splits:
            inside = [split.widget(n) for n in range(split.count())]
            split.setVisible(not self.is_whole or any(self._holds_active(widget) for widget in inside))

    def _holds_active(self, widget: QWidget | None) -> bool:
        return widget is not None and widget.isAncestorOf(self.active)

    def colour_alone(self, pane: Pane | None, on: bool) -> None:
        """Let the colouring of a pane loose, or bind it to that of the others again; of the active one when none is named."""
        if pane is not None and pane.view is not self.active and isinstance(pane.view, Companion):
            self.activate(pane.view)
        clouds = self.active.scene.clouds
        self.active.colour_alone({"by": clouds[0].style.by} if on and clouds else {})
        self.coloured.emit()
        self._tell(changed=True)

    def next_pane(self) -> None:
        """The next pane becomes the active one."""
        views = self.views()
        after = views[(views.index(self.active) + 1) % len(views)]
        if isinstance(after, Companion):
            self.activate(after)

    def activate(self, companion: Companion) -> None:
        """Exchange the active view and a companion: what each pane shows stays where it is."""
        mine = next(pane for pane in self.panes if pane.view is self.active)
        its = next((pane for pane in self.panes if pane.view is companion), None)
        if its is None:
            return
        sizes = [split.sizes() for split in self._splits]
        self.active.exchange(companion)
        mine.hold(companion)
        its.hold(self.active)
        for split, kept in zip(self._splits, sizes, strict=True):
            split.setSizes(kept)
        # At once: what goes on with the press needs the places of both.
        for pane in (mine, its):
            pane.box.activate()
        self.active.setFocus()
        self.coloured.emit()
        self._tell()

    # Following

    def _follow(self) -> None:
        """Companions in sight draw what the active view shows."""
        for view in self.views():
            if view is not self.active:
                view.set_scene(self.active.base)

    def repaint_all(self) -> None:
        """What is drawn over the pictures has changed, such as a line that is dragged."""
        for view in self.views():
            if view is not self.active:
                view.update()

    def tell(self) -> None:
        """Say in the captions what is shown, and keep it."""
        self._tell(changed=True)

    def _tell(self, changed: bool = False) -> None:
        for pane in self.panes:
            pane.tell(pane.view is self.active)
        if changed:
            self.changed.emit()

    def _moved(self, place: object) -> None:
        sender = self.sender()
        self._under = sender if isinstance(sender, View) else self.active
        self.place = place if isinstance(place, np.ndarray) else None
        self.pointed.emit(self._under, place)
        if len(self.panes) > 1 and not self._marks.isActive():
            self._marks.start()

    def _mark(self) -> None:
        for view in self.views():
            if view is not self._under:
                view.update()

    def _paint_mark(self, view: View, painter: QPainter) -> None:
        """The place under the cursor of another pane."""
        if view is self._under or self.place is None or len(self.panes) < 2:
            return
        place = np.where(np.isfinite(self.place), self.place, view.camera.target)
        x, y = view.to_widget(place)[0].tolist()
        if not (np.isfinite([x, y]).all() and -MARK < x < view.width() + MARK and -MARK < y < view.height() + MARK):
            return
        for width, ink in ((3.0, self.theme.sheet), (1.4, self.theme.accent)):
            painter.setPen(QPen(QColor(ink), width))
            painter.drawLine(QPointF(x - MARK, y), QPointF(x - 2, y))
            painter.drawLine(QPointF(x + 2, y), QPointF(x + MARK, y))
            painter.drawLine(QPointF(x, y - MARK), QPointF(x, y - 2))
            painter.drawLine(QPointF(x, y + 2), QPointF(x, y + MARK))

    def close_drawing(self) -> None:
        """End the drawing threads."""
        for companion in self.companions:
            companion.close_drawing()


def _parted(kept: list[str]) -> tuple[list[str], list[dict[str, str]]]:
    """Modes, and colours of their own, of panes as they are kept: ``section|intensity``."""
    parts = [text.partition("|") for text in kept]
    return [mode if mode in WORDS else PLAN for mode, _, _ in parts], [{"by": by} if by else {} for _, _, by in parts]
