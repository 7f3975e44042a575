"""The bar at the foot of the view: how points are selected, how many are, and what can be done with them."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QComboBox,
    QMenu,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kerb.app.selection import ADD, COMMON, REPLACE, TAKE_AWAY, Selection
from kerb.app.session import Session
from kerb.app.widgets import Label, made, plain
from kerb.app.wrapping import WrapLayout
from kerb.core.cloud.classes import CLASS_NAMES, class_words
from kerb.core.quantity import count
from kerb.studies.registry import STUDIES

OUTLINE, BRUSH, PIECE, SURFACE = "outline", "brush", "piece", "surface"
SHAPES = (
    (OUTLINE, "Outline", "Click an outline or drag a box"),
    (BRUSH, "Brush", "Drag over points; [ and ] change the size of the brush"),
    (PIECE, "Piece", "Click a point: everything that hangs together with it"),
    (SURFACE, "Surface", "Click a floor or road: the smooth surface up to the next step or rough place"),
)
WAYS = (
    (REPLACE, "Start anew", "What is marked next replaces the selection"),
    (ADD, "Add", "What is marked next is added (Shift)"),
    (TAKE_AWAY, "Take away", "What is marked next is taken away (Ctrl)"),
    (COMMON, "Keep common", "Only what is in both stays (Shift+Ctrl)"),
)
THEN = "select"


class SelectionBar(QWidget):
    """Docked under the view, which keeps its picture where it is. Two rows: marking above, doing below."""

    def __init__(self, session: Session, selection: Selection, run: Callable[[str], None]) -> None:
        super().__init__()
        self.session, self.selection, self.run = session, selection, run
        self.setObjectName("selectionBar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.buttons: dict[str, QPushButton] = {}
        self.shapes: dict[str, QToolButton] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 6, 8, 6)
        column.setSpacing(5)
        column.addLayout(self._marking())
        self.doing = QWidget()
        self.doing.setLayout(self._doing())
        column.addWidget(self.doing)
        selection.counted.connect(self._live)
        self.hide()

    def _marking(self) -> WrapLayout:
        row = WrapLayout(gap=4)
        self.label = Label()
        self.label.setMinimumWidth(118)
        row.addWidget(self.label)
        group = QButtonGroup(self)
        for key, words, tip in SHAPES:
            button = made(QToolButton(), text=words, checkable=True, toolTip=tip, checked=key == OUTLINE)
            button.clicked.connect(lambda _on, k=key: self.run(f"select_with:{k}"))
            group.addButton(button)
            self.shapes[key] = button
            row.addWidget(button)
        self.way = made(QComboBox(), toolTip="How what is marked next goes together with the selection")
        for key, words, tip in WAYS:
            self.way.addItem(words, key)
            self.way.setItemData(self.way.count() - 1, tip, Qt.ItemDataRole.ToolTipRole)
        self.way.activated.connect(lambda _i: setattr(self.selection, "how", self.way.currentData()))
        self.way.setFixedWidth(118)
        row.addWidget(self.way)
        self.seen = made(QCheckBox("seen only"), toolTip="Leave out points hidden behind others in this view")
        self.seen.toggled.connect(lambda on: setattr(self.selection, "only_seen", on))
        self.outside = made(QCheckBox("outside"), toolTip="Take what lies outside of what is marked")
        self.outside.toggled.connect(lambda on: setattr(self.selection, "outside", on))
        row.addWidget(self.seen)
        row.addWidget(self.outside)
        done = made(QPushButton("Done"), toolTip="Select nothing and put the tool away (Esc)")
        done.clicked.connect(lambda: self._do("drop"))
        self.buttons["drop"] = done
        row.addWidget(done)
        return row

    def _doing(self) -> WrapLayout:
        row = WrapLayout(gap=5)
        row.setContentsMargins(0, 0, 0, 0)
        for key, words, tip in (
            ("set_aside", "Set aside", "Out of sight and out of every computation (A); Ctrl+Z brings them back"),
            ("bring_back", "Bring back", "Bring back the selected points that are set aside, or all (Shift+A)"),
            ("keep_only", "Keep only", "Set aside everything else of the cloud"),
            ("part", "Part ▾", "Make a part of the selection, add it to one or take it out"),
            ("class", "Class ▾", "Give the selection a class of the LAS standard"),
            ("more", "More ▾", "New cloud, statistics, invert"),
        ):
            button = made(QPushButton(words), toolTip=tip)
            button.clicked.connect(lambda _on, k=key: self._do(k))
            self.buttons[key] = button
            row.addWidget(button)
        self.then = made(QComboBox(), toolTip="What happens with points as soon as they are marked")
        self.then.setFixedWidth(122)
        self.then.activated.connect(lambda _i: self.mirror(True))
        row.addWidget(self.then)
        return row

    def _do(self, key: str) -> None:
        menus = {"part": self._part_menu, "class": self._class_menu, "more": self._more_menu}
        if key == "drop":
            self.run("edit_shapes")
        elif key in menus:
            menu = menus[key]()
            menu.popup(self.buttons[key].mapToGlobal(self.buttons[key].rect().topLeft()))
            self.menu_shown = menu
        else:
            self.run(key)

    def _part_menu(self) -> QMenu:
        menu, run = QMenu(self), self.run
        menu.addAction("New part…", lambda: run("new_part"))
        holding = self.session.open_cloud
        for words, key in (("Add to {}", "add_to_part"), ("Take out of {}", "take_from_part")):
            if holding.parts:
                menu.addSeparator()
            for part in holding.parts:
                menu.addAction(words.format(part.name), lambda k=key, n=part.number: run(f"{k}:{n}"))
        return menu

    def _class_menu(self) -> QMenu:
        menu = QMenu(self)
        for code in CLASS_NAMES:
            menu.addAction(class_words(code), lambda c=code: self.run(f"give_class:{c}"))
        return menu

    def _more_menu(self) -> QMenu:
        menu, run = QMenu(self), self.run
        menu.addAction("New cloud of it", lambda: run("new_cloud"))
        menu.addAction("New cloud of it, hide this one", lambda: run("new_cloud:hide"))
        for kind in STUDIES.values():
            if kind.of_selection:
                menu.addAction(f"{kind.title} of it", lambda key=kind.id: run(f"ask_of_selection:{key}"))
        menu.addAction("Statistics of it", lambda: run("selection_statistics"))
        menu.addSeparator()
        menu.addAction("Invert", self.selection.invert)
        menu.addAction("Select nothing", self.selection.forget)
        return menu

    def mirror(self, selecting: bool) -> None:
        """Show the bar while something is selected or the tool is in hand."""
        selection, holding = self.selection, self.session.main_cloud()
        chosen = selection.count
        self.label.setText(f"{count(chosen)} points selected" if chosen else "Nothing selected")
        self.label.setToolTip(
            plain(f"Points of {holding.name}; click another cloud in the list to work on that" if holding else "")
        )
        for key in ("set_aside", "keep_only", "part", "class", "more"):
            self.buttons[key].setEnabled(chosen > 0)
        self.buttons["bring_back"].setEnabled(holding is not None and bool(holding.aside))
        self._fill_then()
        wanted = holding is not None and (selecting or chosen > 0)
        if wanted != (not self.isHidden()):
            self.selection.view.hold()
            self.setVisible(wanted)

    def _fill_then(self) -> None:
        holding = self.session.main_cloud()
        wanted = [(THEN, "Then: select"), ("set_aside", "Then: set aside"), ("bring_back", "Then: bring back")]
        wanted += [
            (f"add_to_part:{part.number}", f"Then: to {part.name}") for part in (holding.parts if holding else ())
        ]
        wanted += [(f"give_class:{code}", f"Then: class {code}") for code in (2, 1, 3, 4, 5, 6, 7, 8, 9, 11, 17)]
        kept = self.then.currentData()
        if [self.then.itemData(i) for i in range(self.then.count())] == [key for key, _ in wanted]:
            return
        self.then.clear()
        for key, words in wanted:
            self.then.addItem(words, key)
        self.then.setCurrentIndex(max(self.then.findData(kept), 0))

    def _live(self, number: int) -> None:
        self.label.setText(f"{count(number)} points marked")
