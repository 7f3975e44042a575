"""What the window does with much at once: shots of a controller, long lists, many dropped files."""

from __future__ import annotations

import os
import shutil
import socket
import tempfile
import threading
import time
from pathlib import Path

import numpy as np


def _window(folder: Path):
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    os.environ["XDG_DATA_HOME"] = str(folder / "home")
    from kerb.app.main import application
    from kerb.app.window import Window
    from kerb.job.places import Settings

    app = application()
    window = Window(Settings(folder / "settings.json"))
    window.resize(1280, 800)
    window.show()
    return app, window


class Beat:
    """The longest stretch of processor time that the interface thread worked at once."""

    def __init__(self, app) -> None:
        self.app, self.worst = app, 0.0

    def until(self, done, most: float = 120.0) -> float:
        """Seconds until something is so."""
        start = time.perf_counter()
        while not done() and time.perf_counter() - start < most:
            before = time.thread_time()
            self.app.processEvents()
            self.worst = max(self.worst, time.thread_time() - before)
            time.sleep(0.002)
        return time.perf_counter() - start


def shots(count: int) -> dict:
    """So many shots of a controller in a second: kept and shown."""
    from kerb.job.job import Job

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        app, window = _window(folder)
        window.session.set_job(Job.create(folder / "a.kerb"))
        server = socket.create_server(("127.0.0.1", 0))
        lines = b'{"type":"hello","unit":"m","crs":""}\n' + b"".join(
            b'{"type":"shot","name":"P%d","n":%d,"e":380050,"z":1}\n' % (k, 5560000 + k % 900) for k in range(count)
        )

        def send():
            link, _ = server.accept()
            piece = len(lines) // 100
            for at in range(0, len(lines), piece):
                link.sendall(lines[at : at + piece])
                time.sleep(0.01)
            link.close()

        threading.Thread(target=send, daemon=True).start()
        page = window.right.controller
        window.handlers.run("field_controller")
        page.host.setText("127.0.0.1")
        page.port.setText(str(server.getsockname()[1]))
        beat = Beat(app)
        page.toggle()
        kept = lambda: sum(h.points for h in window.session.open_job.state.holdings)  # noqa: E731
        seconds = beat.until(lambda: kept() >= count)
        window.session.close()
        return {"kerb": seconds, "also": {"interface thread held at most": beat.worst, "shots kept": float(kept())}}


def lists(count: int) -> dict:
    """So many holdings and two thirds as many studies in the lists: hiding one, choosing a study, renaming."""
    from kerb.core.geometry.features import SurveyPoints
    from kerb.core.reference import local_grid
    from kerb.core.things import POINTS, Placed
    from kerb.core.units import METRE
    from kerb.job import holdings, studies, vault
    from kerb.job.job import Change, Job
    from kerb.job.state import Holding
    from kerb.studies.scope import Scope
    from kerb.studies.stockpile.setup import StockpileSetup

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        app, window = _window(folder)
        job = Job.create(folder / "a.kerb")
        thing = SurveyPoints(np.zeros((1, 3)), ("P",), {})
        vault.save_thing(job.folder / "data" / "one", Placed(POINTS, thing, local_grid(METRE)))
        items = tuple(
            Holding(f"h{k}", f"Points {k}", POINTS, f"2026-{1 + k % 12:02d}-01", data="data/one", points=1)
            for k in range(count)
        )
        job.execute(Change("Many", lambda s: holdings.replace(s, holdings=items)))
        for k in range(count * 2 // 3):
            job.execute(studies.made(job.state, "stockpile", f"Heap {k}", StockpileSetup(Scope("h0")))[0])
        window.session.set_job(job)
        beat = Beat(app)
        beat.until(lambda: False, 1.5)
        beat.worst = 0.0
        times = []
        for k in range(12):
            for what in (
                lambda: window.lists._toggle(job.state.holdings[k]),  # noqa: B023
                lambda: window.session.select(job.state.studies[k].id),  # noqa: B023
                lambda: window.session.execute(holdings.altered(job.state.holdings[k], "Named", name=f"Other {k}")),  # noqa: B023
            ):
                start = time.thread_time()
                what()
                app.processEvents()
                times.append(time.thread_time() - start)
        window.session.close()
        return {"kerb": float(np.median(times)), "also": {"slowest of 36": max(times)}}


def drop(count: int) -> dict:
    """So many files dropped at once: looked at, checked against one another and the job."""
    from kerb.job.job import Job

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        app, window = _window(folder)
        window.session.set_job(Job.create(folder / "a.kerb"))
        source = Path(__file__).parents[1] / "tests" / "data" / "yard_small.laz"
        paths = []
        for k in range(count):
            paths.append(folder / f"tile {k:02d}.laz")
            shutil.copy(source, paths[-1])
        beat = Beat(app)
        start = time.perf_counter()
        window.handlers.data.bring_in(paths)
        dialog = window.handlers.data.dialog
        beat.until(lambda: not dialog.files.busy and len(dialog.files.checked) == count)
        looked = time.perf_counter() - start
        dialog.reject()
        window.session.close()
        return {"kerb": looked, "also": {"interface thread held at most": beat.worst}}


def panes(count: int) -> dict:
    """Pictures while the active of four panes moves, from the move to the picture; beside it the same with one pane."""
    from dataclasses import replace

    from bench.measures import store
    from kerb.app.theme import LIGHT
    from kerb.app.views.panes import Panes
    from kerb.app.views.view import ORBIT, View
    from kerb.draw.scene import CloudLayer, Scene

    cloud = store(count)
    with tempfile.TemporaryDirectory() as name:
        app, window = _window(Path(name))
        window.hide()
        view = View(LIGHT)
        area = Panes(view, LIGHT)
        area.resize(1280, 760)
        area.show()
        view.set_scene(Scene([CloudLayer(cloud)]))
        view.fit(*cloud.bounds)
        beat = Beat(app)
        idle = lambda: all(v.drawing.idle() and v.picture is not None for v in area.views())  # noqa: E731

        def moves(times: int = 25) -> float:
            """Median seconds from a move of the active pane to its picture."""
            seen: list[object] = []
            view.drawing.drawn.connect(seen.append)
            taken = []
            for k in range(times):
                before, start = len(seen), time.perf_counter()
                view.set_camera(replace(view.camera, heading=view.camera.heading + 2.0 + 0.01 * k), moving=True)
                while len(seen) == before and time.perf_counter() - start < 20:
                    app.processEvents()
                    time.sleep(0.001)
                taken.append(time.perf_counter() - start)
            view.drawing.drawn.disconnect(seen.append)
            return float(np.median(taken))

        view.set_mode(ORBIT)
        beat.until(idle)
        one = moves()
        beat.until(idle)
        area.arrange("four", ("orbit", "plan", "section", "section"))
        rest = beat.until(idle)
        four = moves()
        beat.until(idle)
        # While the others are still being drawn.
        for companion in area.companions:
            companion.redraw(moving=False)
        busy = moves()
        also = {"one pane": one, "four, the others being drawn": busy, "four at rest": rest,
                "interface thread held at most": beat.worst}  # fmt: skip
        for each in (view, *area.companions):
            each.close_drawing()
        window.session.close()
        return {"kerb": four, "also": also}
