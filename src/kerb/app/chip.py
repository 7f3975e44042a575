"""The menu of the unit chip: decimals of each kind of quantity, reference system and unit."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from PySide6.QtCore import QObject, QPoint
from PySide6.QtWidgets import QMenu, QWidget

from kerb.app.session import Session
from kerb.core.quantity import Decimals
from kerb.job.job import Change
from kerb.job.state import JobState

KINDS = (("length", "Lengths"), ("area", "Areas"), ("volume", "Volumes"), ("mass", "Masses"))
MOST = 6


class DecimalsMenu(QObject):
    """Opens at the chip, and keeps what is chosen in the job."""

    def __init__(self, session: Session, run: Callable[[str], None], parent: QWidget) -> None:
        super().__init__(parent)
        self.session, self.run, self.parent_ = session, run, parent
        self.menu: QMenu | None = None

    def open_at(self, place: QPoint) -> None:
        """Open at a place of the screen."""
        menu = QMenu(self.parent_)
        decimals = self.session.decimals
        for kind, words in KINDS:
            now = getattr(decimals, kind)
            sub = menu.addMenu(f"{words}: {now} decimals")
            for count in range(MOST):
                action = sub.addAction(str(count), lambda k=kind, c=count: self.set_decimals(k, c))
                action.setCheckable(True)
                action.setChecked(now == count)
        menu.addSeparator()
        menu.addAction("Reference system…", lambda: self.run("reference_system"))
        menu.addAction("Confirm unit…", lambda: self.run("confirm_unit"))
        menu.popup(place)
        self.menu = menu

    def set_decimals(self, kind: str, count: int) -> None:
        """Show a kind of quantity with a number of decimals."""

        def apply(state: JobState) -> JobState:
            return replace(state, title=replace(state.title, decimals=_with(state.title.decimals, kind, count)))

        self.session.execute(Change(f"Shows {kind}s with {count} decimals", apply))


def _with(decimals: Decimals, kind: str, count: int) -> Decimals:
    values: dict[str, Any] = {kind: count}
    return replace(decimals, **values)
