"""What stood in the way of people at work: batches, pages that closed, legends that went, looks that were steps."""

import shutil
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDragEnterEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSpinBox,
    QCalendarWidget,
    QComboBox,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QToolButton,
    QWidget,
)

from kerb.app import scenes
from kerb.app.bringing.results import Results
from kerb.app.dialogs.chooser import StudyChooser
from kerb.app.dialogs.systems import SystemDialog
from kerb.app.dialogs.title import TitleBlock
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.units import METRE
from kerb.job import holdings
from kerb.job.holdings import ImportWish
from kerb.job.job import Change, Job
from tests.support import YARD, demo_files
from tests.window.test_bringing import Bringing
from tests.window.test_window import LEFT, PLAIN, Windowed


def cut_short(path, share=0.6):
    path.write_bytes(YARD.read_bytes()[: int(YARD.stat().st_size * share)])
    return path


class Batches(Bringing):
    def setUp(self):
        super().setUp()
        self.data = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def results(self):
        return next(w for w in self.window.findChildren(Results) if w.isVisible())

    def test_every_file_ends_with_its_own_word(self):
        for name in ("a.laz", "z.laz"):
            shutil.copy(YARD, self.data / name)
        broken = cut_short(self.data / f"broken{YARD.suffix}")
        (self.data / "odd.dxf").write_bytes(b"\x00\x01 not a drawing")
        dialog = self.drop(self.data / "a.laz", broken, self.data / "odd.dxf", self.data / "z.laz")
        self.take(dialog)
        shown = self.results()
        words = {one.name: one.word for one in shown.endings}
        self.assertEqual(words, {"odd.dxf": "not", "a.laz": "in", broken.name: "not", "z.laz": "in"})
        self.assertEqual({h.name for h in self.session.job.state.holdings} >= {"a", "z"}, True)
        self.assertIn(f"{broken.name}\tnot\tbreaks off", shown.text())
        (again,) = [b for b in shown.findChildren(QPushButton) if b.text() == "Import what is good"]
        QTest.mouseClick(again, LEFT)
        self.settle()
        partial = next(h for h in self.session.job.state.holdings if h.name == "broken")
        self.assertLess(partial.points, self.session.job.state.holdings[0].points)
        self.assertIn("truncated", dict(partial.notes))
        for window in self.window.findChildren(Results):
            window.close()

    def test_a_folder_is_taken_and_its_files_are_held_against_one_another(self):
        """Three files of an empty job, one of them with easting and northing exchanged: that one is named, not the others."""
        self.window.handlers.jobs.may_leave = lambda: True
        self.session.set_job(Job.create(self.data / "new.kerb"))
        inner = self.data / "survey" / "day 1"
        inner.mkdir(parents=True)
        for name, order in (("one.csv", [0, 1, 2]), ("three.csv", [0, 1, 2]), ("two.csv", [1, 0, 2])):
            rng = np.random.default_rng(len(name))
            rows = np.round(
                np.column_stack([rng.uniform(0, 60, (300, 2)) + [463_800, 4_815_600], rng.uniform(2, 4, 300)]), 3
            )
            rows = rows if order[0] == "E" else rows[:, [0, 1, 2]]
            text = "\n".join(",".join(map(str, row)) for row in rows[:, order].tolist())
            (inner / name).write_text(f"E,N,Z\n{text}\n")
        (inner / "readme.md").write_text("no data")
        dialog = self.drop(self.data / "survey")
        self.assertEqual(
            [p.name for p in dict.fromkeys(k[0] for k in dialog.files.prospects)], ["one.csv", "three.csv", "two.csv"]
        )
        alarmed = {key[0].name for key, p in dialog.files.prospects.items() if p.taken and dialog.files.alarmed(key)}
        self.assertEqual(alarmed, {"two.csv"})
        dialog.reject()

    def test_a_mark_shows_where_files_may_be_dropped(self):
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(YARD))])
        where, copy = QPointF(60, 60).toPoint(), Qt.DropAction.CopyAction
        self.window.dragEnterEvent(QDragEnterEvent(where, copy, data, LEFT, PLAIN))
        self.assertTrue(self.window.drop_mark.isVisible())
        self.window.dragLeaveEvent(None)
        self.assertFalse(self.window.drop_mark.isVisible())
        self.drop(YARD).reject()
        self.assertFalse(self.window.drop_mark.isVisible())


class States(Windowed):
    def test_a_page_stays_in_a_job_without_a_study(self):
        self.window.actions_by_id["remove_study"].trigger()
        self.settle()
        self.assertIsNone(self.session.study)
        self.window.handlers.run("cloud_statistics")
        self.settle()
        self.assertEqual(self.window.right.page, "statistics")
        holding = self.session.main_cloud()
        self.session.execute(Change("Renamed", lambda s: s.with_holding(replace(holding, name="Yard"))))
        holding = self.session.main_cloud()
        self.session.execute(scenes.style_change(holding, ramp="Dusk"))
        self.window.lists._toggle(self.session.job.state.holdings[0])
        self.settle()
        self.assertEqual(self.window.right.page, "statistics", "a change closed the page")

    def test_the_strip_stays_and_surfaces_have_a_legend(self):
        job = self.session.job
        grid = holdings.import_file(job.folder, job.state, ImportWish(demo_files()["terrain.tif"]), silent())
        self.session.execute(holdings.added(job, grid))
        self.settle()
        legend = self.window.surface_legend
        self.assertTrue(self.window.legend.isVisible() and not legend.isVisible(), "one ramp of elevations for both")
        self.window.lists._toggle(job.state.holdings[0])
        self.settle()
        self.assertTrue(self.window.strip.isVisible() and not self.window.strip.colour.isVisible())
        self.assertFalse(self.window.legend.isVisible())
        self.assertTrue(legend.isVisible())
        mesh = self.view.scene.meshes[0]
        self.assertEqual(legend.limits, mesh.limits)
        legend.limits_changed.emit(1.0, 2.0)
        legend.limits = (1.0, 2.0)
        self.window.colouring._keep_surfaces()
        self.settle()
        self.assertEqual(self.view.scene.meshes[0].limits, (1.0, 2.0))
        QTest.mouseDClick(legend, LEFT)
        self.settle()
        self.assertEqual(self.view.scene.meshes[0].limits, mesh.limits)

    def test_looks_are_no_steps(self):
        lines = len(self.session.job.record)
        holding = self.session.main_cloud()
        for ramp in ("Dusk", "Shore"):
            self.session.execute(scenes.style_change(self.session.job.state.holding(holding.id), ramp=ramp))
        self.window.lists._toggle(self.session.job.state.holdings[0])
        self.assertEqual(len(self.session.job.record), lines)
        self.session.job.flush()
        self.assertFalse(
            Job.open(self.place, recover=True).state.holdings[0].visible, "the journal keeps them all the same"
        )

    def test_looking_north_shows_everything(self):
        self.look_at_heap()
        self.view.set_camera(self.view.camera.panned(90_000, 0), moving=False)
        self.window.handlers.run("look_north")
        self.settle()
        low, high = self.session.job.bounds_of(self.session.main_cloud())
        seen = self.view.camera.project(np.array([low, high]), self.view.pixels)[:, :2]
        self.assertTrue((seen > 0).all() and (seen < np.array(self.view.pixels)).all())


def spoken(widget):
    """What of a widget is named wrongly for somebody who hears the window: controls without a name, texts hidden by one."""
    wrong = []
    for one in [widget, *widget.findChildren(QWidget)]:
        name, text = (
            one.accessibleName(),
            getattr(one, "text", lambda: "")() if isinstance(one, (QLabel, QAbstractButton)) else "",
        )
        around = one.parent()
        inner = isinstance(around, (QComboBox, QAbstractItemView, QAbstractSpinBox, QCalendarWidget))
        inner = (
            inner or isinstance(one, QHeaderView) or (around is not None and "Combo" in around.metaObject().className())
        )
        field = isinstance(one, (QComboBox, QAbstractItemView, QLineEdit, QAbstractSpinBox))
        if one.objectName().startswith("qt_") or inner:
            continue
        if field and not name:
            wrong.append(f"{type(one).__name__} {one.toolTip()[:40]!r} has no name")
        if isinstance(one, QToolButton) and not text and not name:
            wrong.append(f"button {one.toolTip()[:40]!r} has no name")
        plain_text = text.replace("&", "")
        if name and plain_text and plain_text not in name and name not in plain_text:
            wrong.append(f"{type(one).__name__} shows {plain_text[:40]!r} and is called {name[:40]!r}")
    return wrong


class Spoken(Bringing):
    maxDiff = None

    def test_every_control_has_a_name_that_fits(self):
        self.window.handlers.run("filter_points")
        self.window.handlers.run("select_points")
        for page in self.window.right.pages:
            self.window.right.show_page(page, self.session.job.state.holdings[0].id if page == "holding" else "")
        self.settle()
        self.assertEqual(spoken(self.window), [])
        for dialog in (
            TitleBlock(self.session, self.window),
            SystemDialog(local_grid(METRE), self.window),
            StudyChooser(self.window),
        ):
            self.assertEqual(spoken(dialog), [], type(dialog).__name__)
            dialog.reject()
            dialog.deleteLater()
        dialog = self.drop(self.files["control.csv"])
        self.assertEqual(spoken(dialog), [])
        dialog.reject()
