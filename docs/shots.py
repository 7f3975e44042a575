"""Take the pictures of docs/screenshots from the demo data (``./run shots``)."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
HOME = tempfile.mkdtemp(prefix="kerb-shots-")
os.environ["XDG_CONFIG_HOME"] = HOME

from PySide6.QtWidgets import QApplication

from kerb.app.dialogs.deliver import Deliver
from kerb.app.main import application
from kerb.app.window import Window
from kerb.core.progress import silent
from kerb.demo import yard
from kerb.demo.job import demo_file, make_demo
from kerb.job.places import Settings

OUT = Path(__file__).parent / "screenshots"


def wait(seconds: float) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.003)


def settle(window: Window) -> None:
    quiet = 0
    while quiet < 8:
        wait(0.04)
        session = window.session
        busy = session.tasks or not window.view.drawing.idle() or not session.live.idle() or session._rest.isActive()
        quiet = 0 if busy else quiet + 1


def opened(theme: str, size: tuple[int, int], job: object = None) -> Window:
    settings = Settings(Path(HOME) / f"{theme}-{size[0]}.json")
    settings.set("theme", theme)
    window = Window(settings)
    window.resize(*size)
    window.show()
    if job is not None:
        window.session.set_job(job)
        settle(window)
    return window


def shut(window: Window) -> None:
    window._end_threads()
    window.session.job = None
    window.close()
    wait(0.05)


def main() -> int:
    application()
    OUT.mkdir(exist_ok=True)
    save = lambda widget, name: widget.grab().save(str(OUT / f"{name}.png"))  # noqa: E731
    start = opened("light", (1280, 800))
    wait(0.2)
    save(start, "start")
    shut(start)
    job = make_demo(Path(HOME) / "Saltmarrow Quay.kerb", demo_file(silent()), silent())
    window = opened("light", (1280, 800), job)
    window._style(contour=0.25)
    window.handlers.run("fit_study")
    settle(window)
    save(window, "stockpile-plan")
    window.handlers.run("view_orbit")
    settle(window)
    save(window, "stockpile-orbit")
    window.handlers.run("view_section")
    window.colour_by("colour")
    settle(window)
    save(window, "stockpile-section")
    window.colour_by("elevation")
    window.handlers.run("view_plan")
    for number in (1, 2):
        study = job.state.studies[number]
        window.session.select(study.id)
        ring = yard.HEAPS[number].toe(18, outside=0.3)
        window.session.commit("drew the toe line", toe=tuple(map(tuple, ring.tolist())))
        settle(window)
    window.handlers.run("fit_study")
    window.drawer.tabs.setCurrentIndex(4)
    settle(window)
    save(window, "heap-at-wall")
    dialog = Deliver(window.session, window)
    dialog.show()
    while not dialog.note.text():
        wait(0.05)
    pages = dialog.pages
    wait(0.3)
    scroll = pages.parentWidget().parentWidget().parentWidget()
    scroll.verticalScrollBar().setValue(pages.itemAt(1).widget().y() - 12)
    wait(0.1)
    save(dialog, "deliver")
    dialog.reject()
    shut(window)
    for theme, size in (("dark", (1280, 800)), ("light", (1920, 1080))):
        window = opened(theme, size, job)
        window.handlers.run("fit_study")
        settle(window)
        save(window, f"stockpile-{theme}-{size[0]}")
        shut(window)
    return 0


if __name__ == "__main__":
    sys.exit(main())
