"""A session of work by keys alone, under whatever platform there is: from the start page to the report.

Run as a script with a folder and a cloud; prints what was seen on the way as JSON. With a third word, windows are not looked for:
what looks for them runs at each event and takes as long as all else.  Each step waits for what it needs and then
presses keys where the focus is, so that dialogs with loops of their own are no obstacle.
"""

import json
import os
import sys
import time
from pathlib import Path

from PySide6.QtCore import QEvent, QObject, Qt, QTimer
from PySide6.QtGui import QKeySequence
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QDialog, QFileDialog, QWidget

from kerb.app.bringing.dialog import BringIn
from kerb.app.dialogs.deliver import Deliver
from kerb.app.main import afterwards, application
from kerb.app.tools.drawing import DrawShape
from kerb.app.window import Window
from kerb.job.places import Settings

KEY, PLAIN = Qt.Key, Qt.KeyboardModifier.NoModifier


class Watch(QObject):
    """Top-level windows as they appear, and how long the interface thread worked at a stretch."""

    def __init__(self):
        super().__init__()
        self.windows, self.worst, self.last = [], [], None

    def eventFilter(self, watched, event):
        if event.type() == QEvent.Type.Show and isinstance(watched, QWidget) and watched.isWindow():
            self.windows.append(type(watched).__name__)
        return False

    def beat(self):
        """Called with each turn of the event loop: what the thread worked since the last one."""
        now = time.thread_time()
        if self.last is not None:
            self.worst.append((now - self.last, step_name))
        self.last = now


def yardstick():
    """Seconds of processor time a fixed work takes here and now: some 10 ms on a quiet machine of 2026."""
    start = time.thread_time()
    made = {str(i * 7919 % 30011): [i, str(i)] for i in range(14_000)}
    sorted(made, key=lambda key: made[key][1])
    return time.thread_time() - start


def focus():
    return QApplication.focusWidget() or QApplication.activeWindow()


def press(shortcut, widget=None):
    """A shortcut such as Ctrl+I, where the focus is."""
    combination = QKeySequence(shortcut)[0]
    QTest.keyClick(widget or focus(), combination.key(), combination.keyboardModifiers())


def typed(text, widget=None):
    """A text, each letter in a turn of its own."""
    return [lambda letter=letter: QTest.keyClicks(widget or focus(), letter) for letter in text]


def dialog(kind):
    top = QApplication.activeModalWidget()
    return top if isinstance(top, kind) else None


def idle():
    s = window.session
    return not (s.tasks or s.resting() or not s.live.idle() or not window.view.drawing.idle() or window._refresh.isActive())


def file_named(path):
    def do():
        box = dialog(QFileDialog)
        field = box.findChild(QWidget, "fileNameEdit")
        field.setFocus()
        # What the toolkit offers to complete comes when it likes, and would take the key.
        field.setCompleter(None)

        def enter():
            # While the toolkit still reads the folder a key may do nothing: one presses it again.
            try:
                if box.isVisible():
                    QTimer.singleShot(400, enter)
                    QTest.keyClick(field, KEY.Key_Return)
            except RuntimeError:
                pass  # the dialog is gone

        return [*typed(str(path), field), enter]

    return do


def draw():
    """A ring round the middle of the view, set with arrows and Space."""
    view = window.view
    for dx, dy in ((-150, -110), (150, -110), (150, 110), (-150, 110)):
        here = view.tool.mouse
        x, y = (view.width() / 2, view.height() / 2) if here is None else (here.x(), here.y())
        for way, steps in (
            (KEY.Key_Right if view.width() / 2 + dx > x else KEY.Key_Left, abs(view.width() / 2 + dx - x)),
            (KEY.Key_Down if view.height() / 2 + dy > y else KEY.Key_Up, abs(view.height() / 2 + dy - y)),
        ):
            for _ in range(int(steps // 60)):
                yield lambda way=way: QTest.keyClick(view, way, Qt.KeyboardModifier.ShiftModifier)
            for _ in range(int(steps % 60 // 6)):
                yield lambda way=way: QTest.keyClick(view, way)
        yield lambda: QTest.keyClick(view, KEY.Key_Space)
    yield lambda: QTest.keyClick(view, KEY.Key_Return)


def all_day():
    """What is done again and again: hide and show, step from vertex to vertex, move one, take it back."""
    view = window.view
    return [
        lambda: window.lists._toggle(window.session.job.state.holdings[0]),
        lambda: window.lists._toggle(window.session.job.state.holdings[0]),
        view.setFocus,
        lambda: QTest.keyClick(view, KEY.Key_Tab),
        lambda: QTest.keyClick(view, KEY.Key_Right),
        lambda: QTest.keyClick(view, KEY.Key_Return),
        lambda: press("Ctrl+Z", window),
    ]


def steps(cloud, report):
    """(name, what must be so, what is then done: at once, and then a key in each turn of those it returns)."""
    return [
        ("start", lambda: window.isActiveWindow(), lambda: press("Ctrl+I", window)),
        ("choose the file", lambda: dialog(QFileDialog), file_named(cloud)),
        ("bring it in", lambda: (d := dialog(BringIn)) and not d.files.busy and d.take.isEnabled(),
         lambda: QTest.keyClick(focus(), KEY.Key_Return)),
        ("a new study", lambda: window.session.has_data and idle() and not dialog(QDialog), lambda: press("Ctrl+Shift+N", window)),
        ("take the tool", lambda: window.session.study and idle() and window.view.hasFocus(), lambda: press("T", window)),
        ("draw", lambda: isinstance(window.view.tool, DrawShape) and idle() and window.view.hasFocus(), draw),
        ("look along", lambda: (s := window.session.study) and s.found and idle(), lambda: press("F4", window)),
        ("the command field", idle, lambda: press("Ctrl+K", window) or typed("fit study")),
        ("take it", lambda: window.header.command.hasFocus(), lambda: QTest.keyClick(focus(), KEY.Key_Return)),
        ("keys are back", lambda: window.view.hasFocus() and idle(), lambda: press("Ctrl+D", window)),
        ("report", lambda: (d := dialog(Deliver)) and not d.fresh and d.save.isEnabled(), lambda: QTest.keyClick(focus(), KEY.Key_Return)),
        ("name it", lambda: dialog(QFileDialog), file_named(report)),
        ("written", lambda: report.exists() and not dialog(QDialog), lambda: press("F2", window)),
        *[("again", lambda: idle() and not dialog(QDialog), do) for do in all_day() * 2],
        ("done", idle, lambda: None),
    ]  # fmt: skip


def main():
    global window, step_name
    folder, cloud = Path(sys.argv[1]), Path(sys.argv[2])
    step_name = "opening"
    app = application()
    QApplication.setAttribute(Qt.ApplicationAttribute.AA_DontUseNativeDialogs)
    watch = Watch()
    window = Window(Settings(folder / "settings.json"))
    window.resize(1280, 800)
    window.show()
    afterwards(time.time())
    if len(sys.argv) < 4:
        app.installEventFilter(watch)
    todo, began, done, keys = steps(cloud, folder / "report.pdf"), time.monotonic(), [], iter(())

    pace = [yardstick() for _ in range(3)]

    def tell():
        """Say what was seen, and end without asking about changes."""
        seen = {
            "platform": QApplication.platformName(), "done": done, "left": [name for name, _, _ in todo], "windows": watch.windows,
            "report": (folder / "report.pdf").exists(),
            "pace": sorted(pace)[len(pace) // 2], "waits": {name: max(round(1000 * s) for s, of in watch.worst if of == name) for _, name in watch.worst},
        }  # fmt: skip
        print(json.dumps(seen))
        sys.stdout.flush()
        os._exit(0)

    def tick():
        global step_name
        nonlocal keys
        watch.beat()
        if not todo or time.monotonic() - began > 150:
            tell()
        key = next(keys, None)
        if key is not None:
            QTimer.singleShot(0, key)
            return
        name, ready, do = todo[0]
        if ready():
            pace.append(yardstick())
            watch.last = time.thread_time()
            todo.pop(0)
            step_name = name
            done.append(name)

            def begin():
                nonlocal keys
                # What opens a dialog comes back when it is closed, and by then others have set theirs.
                if then := do():
                    keys = iter(then)

            # Later: a timer does not fire again while what it called waits in a dialog.
            QTimer.singleShot(0, begin)

    timer = QTimer()
    timer.setInterval(5)
    timer.timeout.connect(tick)
    timer.start()
    app.exec()


if __name__ == "__main__":
    main()
