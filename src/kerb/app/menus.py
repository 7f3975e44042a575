"""The menu bar, made from the registry of actions, with letters, recent jobs and the layers of the open study."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMainWindow, QMenu

from kerb.app.actions import MENUS, ActionEntry, actions
from kerb.app.keys import lettered
from kerb.app.widgets import plain


@dataclass(frozen=True)
class Menus:
    """What menus need: to do an action, to open a job, the recent jobs, and (name, title, shown) of layers."""

    run: Callable[[str], None]
    open_job: Callable[[Path], None]
    recent: Callable[[], list[Path]]
    layers: Callable[[], list[tuple[str, str, bool]]]


def fill_menus(bar: QMainWindow, needs: Menus) -> tuple[dict[str, QAction], list[QMenu]]:
    """Make the menus of a window; its actions by id, and menus in menus, which live as long as somebody holds them."""
    made: dict[str, QAction] = {}
    inner: list[QMenu] = []
    for menu_name, shown in zip(MENUS, lettered(list(MENUS)), strict=True):
        menu = bar.menuBar().addMenu(shown)
        menu.setToolTipsVisible(True)
        entries = [entry for entry in actions() if entry.menu == menu_name]
        for entry, words in zip(entries, lettered([entry.title for entry in entries]), strict=True):
            if entry.separator:
                menu.addSeparator()
            made[entry.id] = _action(bar, entry, words, needs)
            menu.addAction(made[entry.id])
            if entry.id == "study_layer":
                layers = _inner("Layers of the study", menu, inner)
                layers.aboutToShow.connect(partial(_fill_layers, layers, needs))
            elif entry.id == "open_job":
                recent = _inner("Recent jobs", menu, inner)
                recent.setToolTipsVisible(True)
                recent.aboutToShow.connect(partial(_fill_recent, recent, needs))
    return made, inner


def _inner(title: str, menu: QMenu, kept: list[QMenu]) -> QMenu:
    made = QMenu(title, menu)
    menu.addMenu(made)
    kept.append(made)
    return made


def _action(bar: QMainWindow, entry: ActionEntry, words: str, needs: Menus) -> QAction:
    action = QAction(words, bar)
    action.setToolTip(plain(entry.help))
    action.setStatusTip(entry.help)
    if entry.shortcut:
        action.setShortcuts([QKeySequence(keys) for keys in (entry.shortcut, entry.also) if keys])
    action.triggered.connect(lambda _on: needs.run(entry.id))
    bar.addAction(action)
    return action


def _fill_recent(menu: QMenu, needs: Menus) -> None:
    """The jobs that were open last."""
    menu.clear()
    for folder in needs.recent():
        action = menu.addAction(folder.stem.replace("&", "&&"), partial(needs.open_job, folder))
        action.setToolTip(plain(str(folder)))
    if menu.isEmpty():
        menu.addAction("None yet").setEnabled(False)


def _fill_layers(menu: QMenu, needs: Menus) -> None:
    """Everything that the open study keeps back, ticked where it is shown."""
    menu.clear()
    for name, title, shown in needs.layers():
        action = menu.addAction(title, partial(needs.run, f"study_layer:{name}"))
        action.setCheckable(True)
        action.setChecked(shown)
    if menu.isEmpty():
        menu.addAction("Nothing yet").setEnabled(False)
