"""Start the window."""

from __future__ import annotations

import gc
import importlib
import logging
import os
import socket
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from pathlib import Path

from PySide6 import QtCore, QtGui, QtWidgets
from PySide6.QtCore import QTimer
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from kerb.app import theme
from kerb.app.garbage import Sweeper
from kerb.app.icons import pixmap
from kerb.app.window import Window
from kerb.job.places import Settings, sweep_unsaved

TITLE_BAR = 36
MOST_SCREENS = 50_000
# Seconds within which a job that another Kerb makes has its lock.
BEING_MADE = 10.0
# Seconds at a stretch that the interface thread gives to what nobody waits for.
PIECE = 0.005
# The thread that loads what the start does not wait for, and the seconds that the end does.
AFTERWARDS, LONGEST_LOADING = "afterwards", 5.0


def application() -> QApplication:
    """The one application object, with fonts and icon."""
    running = QApplication.instance()
    app = running if isinstance(running, QApplication) else QApplication(sys.argv[:1])
    app.setApplicationName("Kerb")
    app.setDesktopFileName("kerb")
    app.setStyle("Fusion")
    theme.load_fonts()
    app.setFont(theme.font(13))
    app.setWindowIcon(QIcon(pixmap("kerb", "#23282a", 128)))
    if not gc.get_freeze_count():
        # All that is loaded stays: looking through it for garbage held the window for an eighth of a second at times.
        gc.freeze()
    return app


def _show(window: Window) -> None:
    """Show the window as it was left, no larger than the screen has room for with the title bar."""
    room = window.screen().availableGeometry()
    window.resize(min(window.width(), room.width()), min(window.height(), room.height() - TITLE_BAR))
    if window.session.settings.get("maximized", False):
        window.showMaximized()
    else:
        window.show()


def afterwards(began: float) -> None:
    """What the start need not wait for: charts are loaded before they are asked for, old files swept.

    PySide makes the type of a class of Qt when it is first asked for, and two threads that do so at once bring the process
    down. Charts ask for all of them, so they are made here first, some in each turn of the event loop.
    """
    _make_types(((module, name) for module in (QtCore, QtGui, QtWidgets) for name in dir(module)), began)


def _make_types(names: Iterator[tuple[object, str]], began: float) -> None:
    until = time.perf_counter() + PIECE
    for module, name in names:
        getattr(module, name)
        if time.perf_counter() > until:
            QTimer.singleShot(0, lambda: _make_types(names, began))
            return
    threading.Thread(target=_load, args=(began,), name=AFTERWARDS, daemon=True).start()


def _load(began: float) -> None:
    importlib.import_module("kerb.app.charts.sections")
    gc.freeze()
    sweep_unsaved(began - BEING_MADE)


def answers(display: str) -> bool:
    """Whether an X server listens at a display such as ``:0`` or ``host:10.0`` (X(7)); Qt aborts where none does."""
    host, _, number = display.rpartition(":")
    screen = number.partition(".")[0]
    if not screen.isdigit() or int(screen) > MOST_SCREENS:
        return False
    path = f"/tmp/.X11-unix/X{screen}"
    places: list[tuple[int, object]] = [(socket.AF_UNIX, f"\0{path}"), (socket.AF_UNIX, path)]
    if host and host != "unix":
        places = [(socket.AF_INET, (host.strip("/"), 6000 + int(screen)))]
    for family, place in places:
        with socket.socket(family, socket.SOCK_STREAM) as trial:
            trial.settimeout(5.0)
            try:
                trial.connect(place)  # type: ignore[arg-type]
                return True
            except OSError:
                continue
    return False


def open_window(paths: Sequence[str] = (), demo: bool = False, fresh: bool = False) -> int:
    """Open the window, with a job, files or the demo in it, and run until it is closed. Returns the exit status."""
    logging.basicConfig(level=logging.WARNING)
    if not os.environ.get("DISPLAY") and not os.environ.get("WAYLAND_DISPLAY") and "QT_QPA_PLATFORM" not in os.environ:
        sys.stderr.write(
            "kerb: no screen was found. Set DISPLAY, or QT_QPA_PLATFORM=offscreen to run without one; every study "
            "also runs on the command line, see kerb --help\n"
        )
        return 2
    display = os.environ.get("DISPLAY", "")
    platform = os.environ.get("QT_QPA_PLATFORM", "xcb" if not os.environ.get("WAYLAND_DISPLAY") else "")
    if platform == "xcb" and not answers(display):
        sys.stderr.write(f"kerb: the screen '{display}' does not answer. Set DISPLAY to one that does\n")
        return 2
    app = application()
    window = Window(Settings())
    _show(window)
    if demo:
        QTimer.singleShot(0, lambda: window.handlers.jobs.open_demo(fresh))
    else:
        QTimer.singleShot(0, lambda: window.take([Path(path).absolute() for path in paths]))
    afterwards(time.time())
    sweeper = Sweeper(lambda: window.session.job.state if window.session.job is not None else None)
    status = app.exec()
    sweeper.stop()
    for thread in threading.enumerate():
        if thread.name == AFTERWARDS:
            # What is loading the toolkit's parts must not see them taken down.
            thread.join(LONGEST_LOADING)
    return status
