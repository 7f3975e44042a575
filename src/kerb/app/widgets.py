"""Widgets made in one line: properties by name, and texts that stay plain, because names in them come from files."""

from __future__ import annotations

from typing import TypeVar

from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import QLabel, QLayout, QWidget

Q = TypeVar("Q", bound=QObject)
T = TypeVar("T")


def there(thing: T | None) -> T:
    """What must be there where it is asked for, such as the cloud of a page that is shown only with one."""
    assert thing is not None
    return thing


def made(thing: Q, **properties: object) -> Q:
    """A widget or timer with Qt properties set, such as ``wordWrap``, ``toolTip`` or ``interval``."""
    if isinstance(thing, QLabel):
        thing.setTextFormat(Qt.TextFormat.PlainText)
    for name, value in properties.items():
        # An unknown name would become a property of its own and do nothing.
        assert thing.metaObject().indexOfProperty(name) >= 0, f"{type(thing).__name__} has no property {name}"
        thing.setProperty(name, value)
    return thing


def widgets_in(layout: QLayout) -> list[QWidget]:
    """The widgets of a layout, in order."""
    items = [layout.itemAt(place) for place in range(layout.count())]
    found = [item.widget() for item in items if item is not None]
    return [widget for widget in found if widget is not None]


def emptied(layout: QLayout) -> None:
    """Take all widgets out of a layout. They are hidden first, so that none becomes a window of its own."""
    while layout.count():
        item = layout.takeAt(0)
        widget = item.widget() if item is not None else None
        if widget is not None:
            widget.hide()
            widget.deleteLater()
