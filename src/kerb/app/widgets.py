"""Widgets made in one line: properties by name, and texts that stay plain, because names in them come from files."""

from __future__ import annotations

from html import escape
from typing import TypeVar

from PySide6.QtCore import QEvent, QObject, Qt, QTimer
from PySide6.QtGui import QCursor, QKeyEvent, QMouseEvent, QWheelEvent
from PySide6.QtGui import Qt as GuiQt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QAbstractSpinBox,
    QApplication,
    QBoxLayout,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QLabel,
    QLayout,
    QLineEdit,
    QMenu,
    QWidget,
)  # fmt: skip

Q = TypeVar("Q", bound=QObject)
T = TypeVar("T")
LONG = 90
# Two clicks no farther apart (pixels) are one double click.
SAME_PLACE = 8
NAMELESS = (QComboBox, QAbstractItemView, QLineEdit, QAbstractSpinBox)


def there(thing: T | None) -> T:
    """What must be there where it is asked for, such as the cloud of a page that is shown only with one."""
    assert thing is not None
    return thing


def plain(text: str) -> str:
    """A text that tooltips and messages show as it is, long ones in several lines.

    Names come from files, and Qt takes some for rich text, which can load pictures.
    """
    long = max(map(len, text.splitlines()), default=0) > LONG
    rich = GuiQt.mightBeRichText(text)
    return f"<qt>{escape(text)}</qt>".replace("\n", "<br>") if long or rich else text


class Label(QLabel):
    """A label that shows its text as it is; the only one there is."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)


class Choice(QComboBox):
    """A choice in what can be scrolled: the wheel turns it only while it has the focus, else it scrolls on."""

    def __init__(self) -> None:
        super().__init__()
        # Of itself a wheel that passes over would give it the focus, and then turn it.
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.hasFocus():
            super().wheelEvent(event)
        else:
            event.ignore()


def made(thing: Q, **properties: object) -> Q:
    """A widget or timer with Qt properties set, such as ``wordWrap``, ``toolTip`` or ``interval``."""
    for name, value in properties.items():
        # An unknown name would become a property of its own and do nothing.
        assert thing.metaObject().indexOfProperty(name) >= 0, f"{type(thing).__name__} has no property {name}"
        thing.setProperty(name, plain(value) if name == "toolTip" and isinstance(value, str) else value)
    tip = properties.get("toolTip")
    if isinstance(thing, NAMELESS) and isinstance(tip, str) and not thing.accessibleName():
        # A list or field shows what is chosen, not what it is for.
        thing.setAccessibleName(tip)
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


def taken_or_told(dialog: QDialog, outer: QBoxLayout) -> Label:
    """The foot of a dialog whose numbers may be refused: what is wrong with them, hidden, above OK and Cancel."""
    trouble = made(Label(""), wordWrap=True)
    trouble.setProperty("role", "warning")
    trouble.hide()
    outer.addWidget(trouble)
    buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
    buttons.accepted.connect(dialog.accept)
    buttons.rejected.connect(dialog.reject)
    outer.addWidget(buttons)
    return trouble


class TickMenu(QMenu):
    """A menu that stays open while its ticks are set, with mouse or space; Escape or a click beside it closes it."""

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        action = self.actionAt(event.position().toPoint())
        if action is not None and action.isCheckable() and action.isEnabled():
            action.trigger()
        else:
            super().mouseReleaseEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        action = self.activeAction()
        if event.key() == Qt.Key.Key_Space and action is not None and action.isCheckable() and action.isEnabled():
            action.trigger()
        else:
            super().keyPressEvent(event)


class SecondClick(QObject):
    """Eats the second half of a double click: its first half closed what it was on, and what lies beneath was not meant."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.place = QCursor.pos()
        there(QApplication.instance()).installEventFilter(self)
        QTimer.singleShot(QApplication.doubleClickInterval(), self.deleteLater)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if not isinstance(event, QMouseEvent) or event.type() == QEvent.Type.MouseMove:
            return False
        return (event.globalPosition().toPoint() - self.place).manhattanLength() <= SAME_PLACE
