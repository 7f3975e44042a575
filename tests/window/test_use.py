"""What stood in the way of people at work: batches, pages that closed, legends that went, looks that were steps."""

import gc
import shutil
import tempfile
import time
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import pyproj
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QContextMenuEvent, QDragEnterEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSpinBox,
    QApplication,
    QCalendarWidget,
    QComboBox,
    QHeaderView,
    QLabel,
    QLineEdit,
    QMenu,
    QPushButton,
    QToolButton,
    QWidget,
)

from kerb.app import scenes
from kerb.app.bringing.results import Results
from kerb.app.dialogs.chooser import StudyChooser
from kerb.app.dialogs.systems import SystemDialog
from kerb.app.dialogs.title import TitleBlock
from kerb.app.garbage import NEVER, ROUNDS, Sweeper
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.units import METRE
from kerb.demo import yard
from kerb.job import holdings
from kerb.job.holdings import ImportWish
from kerb.job.job import Change, Job
from kerb.job.lock import in_use
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
            rows = np.round(np.column_stack([rng.uniform(0, 60, (300, 2)) + [463_800, 4_815_600], rng.uniform(2, 4, 300)]), 3)
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
        inner = inner or isinstance(one, QHeaderView) or (around is not None and "Combo" in around.metaObject().className())
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
            TitleBlock(self.session, self.window), SystemDialog(local_grid(METRE), self.window), StudyChooser(self.window),
        ):  # fmt: skip
            self.assertEqual(spoken(dialog), [], type(dialog).__name__)
            dialog.reject()
            dialog.deleteLater()
        dialog = self.drop(self.files["control.csv"])
        self.assertEqual(spoken(dialog), [])
        dialog.reject()


class ByKeys(Windowed):
    def test_fields_give_keys_and_undo_back(self):
        self.draw_toe()
        field = self.window.sheet.fields["density"].field
        field.setFocus()
        QApplication.processEvents()
        self.assertTrue(field.hasFocus())
        QTest.keyClick(field, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.settle()
        self.assertFalse(self.session.setup.toe, "the line was taken back, for nothing was typed in the field")
        QTest.keyClicks(field, "2")
        self.assertTrue(field.isModified())
        QTest.keyClick(field, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(field.text(), "1.6", "what was typed is taken back in the field")
        QTest.keyClick(field, Qt.Key.Key_Escape)
        self.assertTrue(self.view.hasFocus())
        self.window.handlers.run("find")
        QTest.keyClicks(self.window.header.command, "fit")
        QTest.keyClick(self.window.header.command, Qt.Key.Key_Escape)
        self.assertTrue(self.view.hasFocus())

    def test_rows_legend_and_orbit_by_keys(self):
        row = self.window.lists.rows[self.session.job.state.holdings[0].id]
        asked = []
        row.menu_wanted.connect(asked.append)
        place = row.rect().center()
        QApplication.sendEvent(row, QContextMenuEvent(QContextMenuEvent.Reason.Keyboard, place, row.mapToGlobal(place)))
        self.assertEqual(len(asked), 1)
        for menu in self.window.findChildren(QMenu):
            menu.close()
        legend = self.window.legend
        legend.set_limits("3,5 6")
        self.settle()
        self.assertEqual(legend.limits, (3.5, 6.0))
        for wrong in ("6 3", "one", "1 2 3", "nan 4"):
            legend.set_limits(wrong)
        self.assertEqual(legend.limits, (3.5, 6.0))
        high = legend.height()
        QTest.mouseClick(legend, LEFT, PLAIN, QPoint(40, 10))
        self.assertLess(legend.height(), high / 3, "folded to its title")
        QTest.mouseClick(legend, LEFT, PLAIN, QPoint(40, 10))
        self.assertEqual(legend.height(), high)
        self.window.handlers.run("view_orbit")
        before = self.view.camera
        QTest.keyClick(self.view, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
        self.assertNotEqual(self.view.camera.heading, before.heading)

    def test_menus_have_letters_and_a_job_can_be_closed_and_opened_again(self):
        for menu in self.window.menuBar().actions():
            letters = [a.text()[a.text().index("&") + 1].lower() for a in menu.menu().actions() if "&" in a.text()]
            self.assertEqual(len(letters), len(set(letters)), menu.text())
            self.assertIn("&", menu.text())
        self.session.job.save()
        self.window.actions_by_id["close_job"].trigger()
        self.settle()
        self.assertIsNone(self.session.job)
        self.assertEqual(self.window.pages.currentIndex(), 0)
        self.assertFalse(in_use(self.place))
        recent = next(m for m in self.window.inner_menus if m.title() == "Recent jobs")
        recent.aboutToShow.emit()
        recent.actions()[0].trigger()
        self.settle()
        self.assertEqual(self.session.job.folder, self.place)
        self.assertEqual(self.window.pages.currentIndex(), 1)

    def test_the_bar_of_the_selection_docks_and_the_picture_stays(self):
        self.look_at_heap()
        place = np.append(np.array(self.view.camera.target[:2]) + [3, 2], self.view.camera.target[2])
        before, high = self.view.to_widget(place)[0], self.view.height()
        self.window.handlers.run("select_points")
        self.settle()
        self.assertLess(self.view.height(), high)
        np.testing.assert_allclose(self.view.to_widget(place)[0], before, atol=1.0)
        self.window.handlers.run("edit_shapes")
        self.settle()
        self.assertEqual(self.view.height(), high)

    def test_a_coloring_chosen_meanwhile_stays(self):
        if "slope" in self.session.job.store(self.session.main_cloud()).names:
            self.skipTest("the cloud has slopes already")
        self.window.handlers.run("slope")
        self.window.colouring.colour_by("class")
        self.settle()
        self.assertEqual(scenes.style_of(self.session.main_cloud()).by, "class")


class Dated(Bringing):
    def test_a_wrong_date_is_said_and_a_wrong_zone_put_right(self):
        """Points of the yard in the numbers of the next zone, without a system: the button states it and they fit."""
        rng = np.random.default_rng(6)
        east, north = (yard.ORIGIN[:, None] + rng.uniform(5, 60, (2, 200))).tolist()
        change = pyproj.Transformer.from_crs(25830, 25831, always_xy=True)
        rows = np.column_stack([*change.transform(east, north), rng.uniform(2, 4, 200)])
        path = self.place.parent / "zone.csv"
        path.write_text("E,N,Z\n" + "\n".join(f"{x:.3f},{y:.3f},{z:.3f}" for x, y, z in rows.tolist()) + "\n")
        dialog = self.drop(path)
        self.assertIn("zone 31N", " ".join(dialog.placing.alarm_texts))
        self.assertTrue(dialog.placing.remedy.isVisible())
        self.assertIn("unknown", dialog.placing.plan_unit.currentText())
        QTest.mouseClick(dialog.placing.remedy, LEFT)
        self.looked()
        self.assertNotIn("zone", " ".join(dialog.placing.alarm_texts).replace("UTM zone", ""))
        self.assertFalse(dialog.placing.remedy.isVisible())
        # The made-up yard lies outside of what the next zone is used for: that stays said, and is seen.
        dialog.sure.click()
        dialog.epoch.setText("02/05/2026")
        self.assertFalse(dialog.take.isEnabled())
        self.assertIn("which is the day", dialog.summary.text())
        dialog.epoch.setText("2 May 2026")
        self.take(dialog)
        holding = self.session.job.state.holdings[-1]
        self.assertEqual(holding.epoch, "2026-05-02")
        low, high = self.session.job.bounds_of(holding)
        self.assertTrue((low[:2] > yard.ORIGIN).all() and (high[:2] < yard.ORIGIN + 70).all())


class Tasks(Windowed):
    def test_full_collections_wait_until_nobody_acts(self):
        """The first look only remembers; a step between two looks puts it off; too few rounds are not worth one."""
        usual = gc.get_threshold()
        sweeper = Sweeper(lambda: self.session.job.state)
        self.addCleanup(sweeper.stop)
        self.assertEqual(gc.get_threshold(), (*usual[:2], NEVER))
        with (
            mock.patch("gc.collect") as collect, mock.patch("gc.get_count", return_value=(0, 0, ROUNDS)) as count,
            mock.patch("kerb.app.garbage.QGuiApplication") as hand,
        ):  # fmt: skip
            hand.mouseButtons.return_value = Qt.MouseButton.NoButton
            sweeper.look()
            self.session.execute(Change("Named", lambda state: replace(state, title=replace(state.title, site="Quay"))))
            sweeper.look()
            hand.mouseButtons.return_value = LEFT
            sweeper.look()
            collect.assert_not_called()
            hand.mouseButtons.return_value = Qt.MouseButton.NoButton
            sweeper.look()
            collect.assert_called_once_with()
            count.return_value = (9, 9, ROUNDS - 1)
            sweeper.look()
            collect.assert_called_once_with()
        sweeper.stop()
        self.assertEqual(gc.get_threshold(), usual)

    def test_work_that_is_done_at_once_is_told(self):
        """Who begins work connects to its end afterwards: however quick it is, the end is told."""
        task = self.session.start(lambda _progress: 7, "Nothing much")
        time.sleep(0.1)
        told = []
        task.done.connect(told.append)
        task.ended.connect(lambda: told.append("ended"))
        self.settle()
        self.assertEqual(told, [7, "ended"])
