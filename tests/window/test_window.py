"""The real window without a screen: an analyst's whole path by mouse and keys, and what must hold on the way."""

import contextlib
import logging
import os
import shutil
import sys
import tempfile
import threading
import time
import traceback
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import pypdfium2 as pdfium
from PySide6.QtCore import QEvent, QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent, QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QPushButton

from kerb.__main__ import main as command
from kerb.app.actions import actions
from kerb.app.bringing.results import Results
from kerb.app.dialogs.deliver import Deliver
from kerb.app.dialogs.questions import Box
from kerb.app.dialogs.title import TitleBlock
from kerb.app.doing.jobs import CANCEL
from kerb.app.main import application
from kerb.app.panels.drawer import TABLE
from kerb.app.tools.drawing import DrawShape
from kerb.app.tools.measure import Measure
from kerb.app.window import Window
from kerb.core.cloud.sieve import Sieve
from kerb.demo import yard
from kerb.job import holdings
from kerb.job.holdings import ImportWish
from kerb.job.job import Change, Job
from kerb.job.lock import FolderLock, in_use
from kerb.job.places import Settings, unsaved_folder
from kerb.studies.scope import Scope
from kerb.studies.stockpile.setup import StockpileSetup
from tests.support import DATA, YARD, journals_done

LEFT, PLAIN = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
HEAP = yard.HEAPS[1]


def wait(seconds):
    """Let the window live without holding the lock that its threads need (QTest.qWait holds it)."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.002)


@contextlib.contextmanager
def answering(word):
    """Every question of the window is answered with a word; what was asked, as (heading, text)."""
    asked = []

    def exec_(box):
        asked.append((box.heading.text(), box.words.text()))
        box.answer = word
        return 0

    with mock.patch.object(Box, "exec", exec_):
        yield asked


@contextlib.contextmanager
def pressing(key):
    """A question of the window, shown for a moment, gets a key, or its window is closed."""

    def exec_(box):
        box.open()
        QTest.qWait(30)
        assert box.focusWidget().isDefault(), "the usual answer has the keyboard"
        if key is None:
            box.close()
        else:
            QTest.keyClick(box.focusWidget() or box, key)
        return 0

    with mock.patch.object(Box, "exec", exec_):
        yield


class LogKeeper(logging.Handler):
    """Keeps what is logged as an error: a test that causes one fails."""

    def __init__(self):
        super().__init__(logging.ERROR)
        self.lines = []

    def emit(self, record):
        error = record.exc_info[1] if record.exc_info else None
        self.lines.append(record.getMessage() + (f": {error!r}" if error is not None else ""))


class Windowed(unittest.TestCase):
    """A window with a small job in it: the yard imported, one study without a toe line."""

    # Which points of the yard the job of the test has.
    sieve = Sieve()

    @classmethod
    def setUpClass(cls):
        cls.app = application()
        holder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(holder.cleanup)
        cls.folder = Path(holder.name)
        cls.template = cls.folder / "template.kerb"
        job = Job.create(cls.template)
        from kerb.core.progress import silent
        from kerb.job import holdings, studies

        holding = holdings.import_cloud(job.folder, job.state, holdings.ImportWish(YARD, sieve=cls.sieve), silent())
        job.execute(holdings.added(job, holding))
        change, _ = studies.made(job.state, "stockpile", HEAP.name, StockpileSetup(Scope(holding.id, classes=(2,)), density=1.6))
        job.execute(change)
        job.save()

    def setUp(self):
        self.log = LogKeeper()
        logging.getLogger().addHandler(self.log)
        # what fails in a slot is only printed by Qt: here it fails the test
        self.raised = []
        hook, sys.excepthook = (sys.excepthook, lambda *about: self.raised.append(traceback.format_exception(*about)[-3:]))
        self.addCleanup(setattr, sys, "excepthook", hook)
        place = Path(tempfile.mkdtemp(dir=self.folder))
        self.place = place / "yard.kerb"
        shutil.copytree(self.template, self.place)
        self.window = Window(Settings(place / "settings.json"))
        self.window.resize(1280, 800)
        self.window.show()
        self.complaints = []
        self.window.session.complained.disconnect()
        self.window.session.complained.connect(lambda *words: self.complaints.append(words))
        self.window.handlers.jobs.open_folder(self.place)
        self.settle()
        self.session, self.view = self.window.session, self.window.view

    def tearDown(self):
        job = self.window.session.job
        if job is not None:
            job.discard()
        journals_done()
        self.window.close()
        self.window.deleteLater()
        wait(0.05)
        # without a running event loop nothing else deletes: windows would pile up, and each theme restyles them all
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        self.app.setStyleSheet("")  # else the next window is styled while it is put together, widget by widget
        logging.getLogger().removeHandler(self.log)
        self.assertEqual(self.log.lines, [])
        self.assertEqual(self.raised, [])
        left = [t.name for t in threading.enumerate() if t.name.startswith("kerb-") and "core" not in t.name]
        self.assertEqual(left, [], "threads outlive the window")

    def settle(self, seconds=60):
        """Wait until nothing is drawn, computed or answered."""
        end, quiet = time.monotonic() + seconds, 0
        while time.monotonic() < end and quiet < 3:
            wait(0.01)
            s = self.window.session
            busy = s.tasks or not self.window.view.drawing.idle() or not s.live.idle() or s.resting()
            busy = (
                busy
                or not self.window.selection.idle()
                or self.window.right.find_page._rest.isActive()
                or self.window.sheet.growing()
            )
            quiet = 0 if busy or self.window._refresh.isActive() else quiet + 1
        self.assertEqual(quiet, 3, "the window did not come to rest")

    def look_at_heap(self):
        centre = np.append(yard.ORIGIN + np.array(HEAP.centre), 3.5)
        self.view.fit(centre - [16, 16, 3], centre + [16, 16, 6])
        self.settle()

    def at(self, *place):
        """Widget position of a job place."""
        x, y = self.view.to_widget(np.array([[*place[:2], place[2] if len(place) > 2 else 3.5]]))[0]
        return QPoint(round(x), round(y))

    def click(self, point):
        QTest.mouseMove(self.view, point)
        QTest.mouseClick(self.view, LEFT, PLAIN, point)

    def drag(self, start, end, steps=6):
        QTest.mouseMove(self.view, start)
        QTest.mousePress(self.view, LEFT, PLAIN, start)
        for k in range(1, steps + 1):
            QTest.mouseMove(self.view, start + (end - start) * k / steps)
            wait(0.02)
        QTest.mouseRelease(self.view, LEFT, PLAIN, end)

    def draw_toe(self, vertices=14):
        """Draw the toe of heap 2 with the mouse: T, clicks, Enter."""
        self.look_at_heap()
        self.view.setFocus()
        self.window.actions_by_id["draw"].trigger()
        self.assertIsInstance(self.view.tool, DrawShape)
        ring = HEAP.toe(vertices, outside=0.5)
        for vertex in ring:
            self.click(self.at(*vertex))
        QTest.keyClick(self.view, Qt.Key.Key_Return)
        self.settle()
        return ring

    def net(self):
        outcome = self.session.outcome()
        return outcome.value("net") if outcome else None


class WholePath(Windowed):
    def test_draw_drag_undo_save_reopen_deliver(self):
        ring = self.draw_toe()
        drawn = self.net()
        self.assertAlmostEqual(drawn / HEAP.volume, 1.0, delta=0.02)
        self.assertEqual(len(self.session.setup.toe.xy), 14)
        self.assertIn(f"{drawn:.0f}", self.window.sheet.figure.text().replace("\u2009", ""))

        start = self.at(*self.session.setup.toe.xy[3])
        QTest.mousePress(self.view, LEFT, PLAIN, start)
        QTest.mouseMove(self.view, start + QPoint(-30, 30))
        wait(0.4)
        self.assertTrue(self.window.sheet.figure.text().startswith("≈"))
        self.assertTrue(self.session.shown().outcome.live)
        QTest.mouseRelease(self.view, LEFT, PLAIN, start + QPoint(-30, 30))
        self.settle()
        moved = self.net()
        self.assertLess(moved, drawn - 1)
        self.assertIn("moved toe line vertex", self.session.job.can_undo)

        self.window.actions_by_id["undo"].trigger()
        self.settle()
        self.assertEqual(self.net(), drawn)
        self.window.actions_by_id["redo"].trigger()
        self.settle()
        self.assertEqual(self.net(), moved)

        self.window.actions_by_id["save"].trigger()
        self.assertFalse(self.session.job.changed)
        self.window.handlers.jobs.open_folder(self.place)
        self.settle()
        self.assertEqual(self.net(), moved)
        self.assertEqual(len(self.session.outcome().profiles), 2)
        self.assertEqual(len(ring), 14)

        dialog = Deliver(self.session, self.window)
        dialog.show()
        for _ in range(300):
            wait(0.05)
            if dialog.worker.idle() and not dialog.fresh and dialog.note.text():
                break
        target = self.place.parent / "report.pdf"
        dialog.save_to(target)
        self.settle()
        document = pdfium.PdfDocument(target.read_bytes())
        words = document[0].get_textpage().get_text_bounded()
        document.close()
        self.assertIn(HEAP.name, words)
        self.assertIn(f"{moved:.1f}", words)
        self.assertIn("Delivered report report.pdf", self.session.job.record_text())
        self.assertEqual(self.complaints, [])

    def test_vertices_inserted_deleted_and_typed(self):
        self.draw_toe(10)
        toe = np.array(self.session.setup.toe.xy)
        middle = self.at(*toe[:2].mean(axis=0))
        self.drag(middle, middle + QPoint(6, -6))
        self.settle()
        self.assertEqual(len(self.session.setup.toe.xy), 11)
        self.assertIn("inserted", self.session.job.can_undo)
        self.click(self.at(*self.session.setup.toe.xy[4]))
        QTest.keyClick(self.view, Qt.Key.Key_Delete)
        self.settle()
        self.assertEqual(len(self.session.setup.toe.xy), 10)
        before = self.net()
        self.window.edit_tool.set_level(self.window.edit_tool.shapes()[0], 2, 5.0)
        self.settle()
        self.assertEqual(self.session.setup.toe.level(2), 5.0)
        self.assertLess(self.net(), before)
        for _ in range(3):
            self.window.actions_by_id["undo"].trigger()
        self.settle()
        np.testing.assert_allclose(np.array(self.session.setup.toe.xy), toe, rtol=0, atol=1e-9)

    def test_a_stretch_is_stated_by_its_menu_and_looks_it(self):
        self.draw_toe(10)
        toe = np.array(self.session.setup.toe.xy)
        tool = self.window.edit_tool
        grabbed = self.view.grab().toImage()
        middle = self.at(*toe[3:5].mean(axis=0))
        QTest.mouseClick(self.view, Qt.MouseButton.RightButton, pos=middle)
        actions = {action.text().split(":")[0]: action for action in tool.menu_shown.actions()}
        self.assertTrue(actions["As the data say"].isChecked())
        actions["Not ground"].trigger()
        tool.menu_shown.close()
        self.settle()
        self.assertEqual(self.session.setup.toe.stretch(3), "other")
        self.assertIn("not ground", self.session.job.can_undo)
        outcome = self.session.shown().outcome
        self.assertTrue([name for name in outcome.layers if name.startswith("unseen")])
        line = [grabbed.pixel(middle.x() + dx, middle.y() + dy) for dx in range(-3, 4) for dy in range(-3, 4)]
        after = self.view.grab().toImage()
        dashed = [after.pixel(middle.x() + dx, middle.y() + dy) for dx in range(-3, 4) for dy in range(-3, 4)]
        self.assertNotEqual(line, dashed)
        self.assertIn("toe-not-ground", {note.code for note in self.computed().warnings})
        inserted = self.session.setup.toe.with_vertex(4, tuple(toe[3:5].mean(axis=0)))
        self.assertEqual([inserted.stretch(k) for k in (2, 3, 4, 5)], ["", "other", "other", ""])
        self.window.actions_by_id["undo"].trigger()
        self.settle()
        self.assertEqual(self.session.setup.toe.stretches, ())
        tool.state_stretch(tool.shapes()[0], 9, "ground")
        self.settle()
        self.session.job.save()
        again = Job.open(self.place).state.studies[0]
        self.assertEqual(again.setup["toe"]["stretches"][9], "ground")

    def computed(self):
        """The full outcome of the open study."""
        self.session.compute()
        self.settle()
        return self.session.shown().outcome

    def test_a_vertex_cannot_make_the_line_cross_itself(self):
        self.draw_toe(8)
        toe = self.session.setup.toe.xy
        self.drag(self.at(*toe[0]), self.at(*toe[4]), steps=12)
        self.settle()
        self.session.setup.check()

    def test_pull_to_toe_and_back(self):
        self.draw_toe()
        before = self.session.setup.toe
        self.window.actions_by_id["step:pull"].trigger()
        self.settle()
        self.assertNotEqual(self.session.setup.toe, before)
        self.assertEqual(self.session.before_step.toe, before)
        away = np.hypot(*(np.array(self.session.setup.toe.xy) - yard.ORIGIN - HEAP.centre).T)
        self.assertLess(abs(away.mean() - 9.5), 0.3)
        self.window.actions_by_id["undo"].trigger()
        self.assertEqual(self.session.setup.toe, before)

    def test_settings_on_the_sheet_and_staleness(self):
        self.draw_toe()
        sheet, first = self.window.sheet, self.net()
        base = sheet.fields["base"].field
        base.setCurrentIndex(base.findData("lowest"))
        base.activated.emit(base.currentIndex())
        self.assertIn("out of date", self.window.lists.rows[self.session.study_id].second)
        self.settle()
        self.assertGreater(self.net(), first)
        density = sheet.fields["density"].field
        density.setFocus()
        density.selectAll()
        QTest.keyClicks(density, "2,5")
        QTest.keyClick(density, Qt.Key.Key_Return)
        self.settle()
        self.assertAlmostEqual(self.session.outcome().value("mass"), self.net() * 2.5, places=6)
        density.selectAll()
        QTest.keyClicks(density, "lots")
        QTest.keyClick(density, Qt.Key.Key_Return)
        self.settle()
        self.assertEqual(self.session.setup.density, 2.5)

    def test_compute_can_be_cancelled(self):
        self.draw_toe()
        self.session.commit("other base", base="plane")
        self.session.compute()
        self.session.compute_task.stop()
        self.settle()
        self.assertIsNone(self.session.compute_task)
        self.assertTrue(self.session.stale(self.session.study))

    def test_a_run_that_began_by_itself_is_not_cancelled_by_who_asks_for_it(self):
        self.draw_toe()
        self.session.commit("other base", base="plane")
        self.session.compute(by_itself=True)
        task, button = self.session.compute_task, self.window.bar.compute
        self.assertEqual(button.text(), "Compute")
        QTest.mouseClick(button, LEFT)
        self.assertIs(self.session.compute_task, task)
        self.assertEqual((task.progress.stopped, button.text()), (False, "Cancel"))
        self.settle()
        self.assertEqual((self.session.setup.base, self.session.shown().whole), ("plane", True))
        self.session.commit("other base", base="lowest")
        self.session.compute(by_itself=True)
        for words in ("Cancel", "Compute"):
            QTest.mouseClick(button, LEFT)
            self.assertEqual(button.text() == "Cancel" and not self.session.compute_task.progress.stopped, words == "Cancel")
        self.settle()
        self.assertTrue(self.session.stale(self.session.study))


class Views(Windowed):
    def test_modes_zoom_pan_and_orbit(self):
        self.look_at_heap()
        place = yard.ORIGIN + np.array(HEAP.centre)
        before = self.at(*place)
        scale = self.view.camera.scale
        from PySide6.QtGui import QWheelEvent

        wheel = QWheelEvent(QPointF(before), self.view.mapToGlobal(QPointF(before)), QPoint(), QPoint(0, 240),
                            Qt.MouseButton.NoButton, PLAIN, Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
        QApplication.sendEvent(self.view, wheel)
        self.assertLess(self.view.camera.scale, scale)
        self.assertLess((self.at(*place) - before).manhattanLength(), 3)
        self.drag(QPoint(300, 400), QPoint(340, 380))
        self.assertLess((self.at(*place) - before - QPoint(40, -20)).manhattanLength(), 3)
        self.settle()
        for mode in ("orbit", "section", "plan"):
            self.window.actions_by_id[f"view_{mode}"].trigger()
            self.settle()
            self.assertEqual(self.view.mode, mode)
            self.assertTrue(self.view.picture.buffer.complete)
            self.assertGreater((self.view.picture.buffer.rows >= 0).sum(), 100)
        self.window.actions_by_id["view_orbit"].trigger()
        heading = self.view.camera.heading
        self.drag(QPoint(300, 300), QPoint(360, 300))
        self.assertNotEqual(self.view.camera.heading, heading)
        self.settle()

    def test_every_colouring_draws(self):
        self.draw_toe()
        from kerb.app.scenes import colour_choices

        store = self.session.job.store(self.session.job.state.holdings[0])
        for key, words in colour_choices(store, {}):
            with self.subTest(words):
                self.window.colouring.colour_by(key)
                self.settle()
                self.assertEqual(self.session.main_cloud().style["by"], key)
        self.assertTrue(store.has("slope"))
        self.assertFalse(self.session.job.can_undo.startswith("Coloured"))

    def test_the_legend_is_the_control(self):
        legend = self.window.legend
        low, high = legend.limits
        y = round(legend._y(high))
        QTest.mousePress(legend, LEFT, PLAIN, QPoint(20, y))
        QTest.mouseMove(legend, QPoint(20, y + 40))
        QTest.mouseRelease(legend, LEFT, PLAIN, QPoint(20, y + 40))
        wait(0.5)
        self.settle()
        self.assertLess(self.session.main_cloud().style["high"], high)
        self.look_at_heap()
        QTest.mouseDClick(legend, LEFT, PLAIN, QPoint(60, 100))
        self.settle()
        style = self.session.main_cloud().style
        self.assertNotEqual((style["low"], style["high"]), (low, high))
        self.assertLess(style["high"], 9.5)

    def test_measuring_snaps_and_tells(self):
        self.look_at_heap()
        self.window.actions_by_id["measure"].trigger()
        tool = self.view.tool
        self.assertIsInstance(tool, Measure)
        centre = yard.ORIGIN + np.array(HEAP.centre)
        QTest.keyClick(self.view, Qt.Key.Key_H)
        self.click(self.at(*centre))
        QTest.keyClick(self.view, Qt.Key.Key_L)
        self.click(self.at(centre[0] + 13, centre[1]))
        self.assertEqual(len(tool.places), 2)
        rise = tool.places[0][2] - tool.places[1][2]
        self.assertAlmostEqual(rise, HEAP.height, delta=0.3)
        self.assertIn("height difference −", "\n".join(tool.lines()))
        self.click(self.at(centre[0], centre[1] + 13))
        self.assertIn("plan area", "\n".join(tool.lines()))
        QTest.keyClick(self.view, Qt.Key.Key_C)
        self.assertEqual(QGuiApplication.clipboard().text().splitlines()[0], "easting\tnorthing\televation")
        QTest.keyClick(self.view, Qt.Key.Key_Escape)
        QTest.keyClick(self.view, Qt.Key.Key_Escape)
        self.assertIs(self.view.tool, self.window.edit_tool)

    def test_profile_lines_are_dragged(self):
        self.draw_toe()
        line = self.window.drawer.charts()[0].line.copy()
        steps = self.session.job.can_undo
        self.drag(self.at(*line[0]), self.at(*line[0]) + QPoint(20, 25))
        moved = self.window.drawer.charts()[0]
        self.assertFalse(np.allclose(moved.line, line, rtol=0))
        self.assertNotEqual(self.session.job.can_undo, steps)
        self.assertTrue(np.isfinite(moved.top).sum() > 100)
        self.assertFalse(self.session.stale(self.session.study), "a profile line changes no figure")
        self.assertFalse(self.session.resting())
        net = self.net()
        self.window.actions_by_id["save"].trigger()
        self.window.handlers.jobs.open_folder(self.place)
        self.settle()
        np.testing.assert_allclose(self.window.drawer.charts()[0].line, moved.line, rtol=0, atol=1e-9)
        self.session.commit("density set", density=2.0)
        self.session.undo()
        self.settle()
        np.testing.assert_allclose(self.window.drawer.charts()[0].line, moved.line, rtol=0, atol=1e-9)
        self.assertEqual(self.net(), net)


class Around(Windowed):
    def drop(self, *paths):
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
        event = QDropEvent(QPointF(400, 300), Qt.DropAction.CopyAction, data, LEFT, PLAIN)
        self.window.dropEvent(event)
        self.settle()

    def test_the_command_line_takes_files_and_jobs_as_a_drop_does(self):
        with mock.patch("kerb.app.main.open_window", return_value=0) as opened:
            command(["open", "a.laz", "b.csv"])
            self.assertEqual(opened.call_args.kwargs, {"paths": ["a.laz", "b.csv"], "demo": False, "fresh": False})
            command([])
            self.assertEqual(opened.call_args.kwargs["paths"], ())
        doing = self.window.handlers
        with mock.patch.object(doing.jobs, "open_folder") as job, mock.patch.object(doing.data, "bring_in") as files:
            self.window.take([])
            for paths in (
                [Path("x/a.laz"), Path("b.csv")], [self.session.job.folder, Path("b.csv")], [Path("gone.kerb")],
            ):  # fmt: skip
                self.window.take(paths)
        self.assertEqual([call.args[0] for call in files.call_args_list], [[Path("x/a.laz"), Path("b.csv")]])
        self.assertEqual([call.args[0] for call in job.call_args_list], [self.session.job.folder, Path("gone.kerb")])

    def test_dropped_files_are_shown_and_bad_ones_explained(self):
        broken = self.place.parent / "broken.las"
        broken.write_bytes(b"LASF" + bytes(60))
        self.drop(DATA / "airborne_2154.laz", broken)
        dialog = self.window.handlers.data.dialog
        end = time.monotonic() + 30
        while not dialog.sure.isVisible() and time.monotonic() < end:
            wait(0.05)
        self.assertIn("broken.las", dialog.files.errors[broken])
        self.assertEqual(len(dialog.wishes()), 1)
        self.assertFalse(dialog.take.isEnabled(), "France is not in the Channel: the alarm must be seen first")
        dialog.reject()
        self.settle()
        self.assertEqual(len(self.session.job.state.holdings), 1)

    def test_command_field_does_and_goes_to(self):
        field = self.window.header.command
        QTest.keyClicks(field, "look ea")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.assertEqual((self.view.mode, self.view.camera.heading), ("orbit", 90.0))
        QTest.keyClicks(field, "crushed")
        self.assertEqual([words for _, words, _ in field.choices("crushed")], [HEAP.name])
        QTest.keyClick(field, Qt.Key.Key_Escape)
        self.assertEqual(field.text(), "")
        self.assertIn("find_points:pieces", [key for key, _, _ in field.choices("noise")])
        QTest.keyClicks(field, "small pieces")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.settle()
        self.assertEqual(self.window.right.find_page.finder.id, "pieces")
        self.assertFalse(self.window.actions_by_id["step:pull"].isEnabled())
        QTest.keyClicks(field, "pull to")
        self.assertIn("not now", field.list.item(0).text())
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.assertEqual(field.text(), "pull to", "what cannot be done now is not done")
        QTest.keyClick(field, Qt.Key.Key_Escape)

    def test_actions_mirror_the_registry(self):
        for entry in actions():
            action = self.window.actions_by_id[entry.id]
            self.assertEqual((action.text().replace("&", ""), action.toolTip()), (entry.title, entry.help))
        self.assertFalse(self.window.actions_by_id["step:pull"].isEnabled())
        self.assertTrue(self.window.actions_by_id["draw"].isEnabled())

    def test_title_block_decimals_and_tables(self):
        self.draw_toe()
        dialog = TitleBlock(self.session, self.window)
        self.assertEqual(dialog.fields["name"].selectedText(), dialog.fields["name"].text())
        dialog.fields["client"].setText("Saltmarrow Harbour Trust")
        dialog.decimals["volume"].setValue(3)
        dialog.accept()
        self.assertEqual(self.session.job.state.title.client, "Saltmarrow Harbour Trust")
        shown = self.window.sheet.lines["below"].value.text()
        self.assertEqual(len(shown.split(".")[1].split("\u00a0")[0]), 3)
        shown = self.window.sheet.lines["above"].value.text()
        self.assertEqual(len(shown.split(".")[1].split("\u00a0")[0]), 1, "its bound allows no more, whatever is asked for")
        self.window.actions_by_id["copy_figures"].trigger()
        text = QGuiApplication.clipboard().text()
        self.assertIn("Net volume\t", text)
        drawer = self.window.drawer
        for tab in range(drawer.tabs.count()):
            drawer.tabs.setCurrentIndex(tab)
            wait(0.1)
        drawer.choose(TABLE, "toe")
        self.assertEqual(drawer.rows.rowCount(), 14)
        drawer.filter.setText("ground")
        drawer.table.sortByColumn(0, Qt.SortOrder.DescendingOrder)
        ground = [row[0] for row in self.session.outcome().tables["toe"].rows if row[5] == "ground"]
        shown = [drawer.rows.index(row, 0).data() for row in range(drawer.rows.rowCount())]
        self.assertEqual(shown, [str(vertex) for vertex in sorted(ground, reverse=True)])
        drawer.copy_table()
        copied = QGuiApplication.clipboard().text().splitlines()
        self.assertEqual([line.partition("\t")[0] for line in copied[1:]], shown, "as it is sorted and filtered")

    def test_unsaved_changes_are_asked_about(self):
        self.draw_toe()
        with answering(CANCEL) as asked:
            self.assertFalse(self.window.close())
        self.assertEqual(len(asked), 1)
        self.assertTrue(self.window.isVisible())

    def test_save_as_copy_and_recent(self):
        self.window.handlers.jobs.save_to(self.place.parent / "moved", move=True)
        self.assertEqual(self.session.job.folder.name, "moved.kerb")
        self.window.handlers.jobs.save_to(self.place.parent / "moved", move=False)
        self.assertIn("already there", self.complaints[-1][1])
        self.assertEqual(self.session.settings.recent()[0].name, "moved.kerb")

    def test_a_moved_source_is_searched_for_on_wish(self):
        source = self.place.parent / "yard.laz"
        shutil.copy(YARD, source)
        holding = self.session.job.state.holdings[0]
        self.session.execute(holdings.altered(holding, "Moved", source=str(source)))
        self.session.job.save()
        source.rename(source.with_name("elsewhere.laz"))
        self.window.handlers.jobs.open_folder(self.place)
        self.settle()
        box = self.window.findChild(Box)
        self.assertIn("yard.laz", box.words.text())
        original = QFileDialog.getOpenFileName
        QFileDialog.getOpenFileName = lambda *_: (str(source.with_name("elsewhere.laz")), "")
        try:
            box.buttons["Find the file…"].click()
        finally:
            QFileDialog.getOpenFileName = original
        self.assertTrue(self.session.job.state.holdings[0].source.endswith("elsewhere.laz"))
        self.assertEqual(self.session.job.store(holding).count, holding.points)

    def test_a_file_that_breaks_off_is_offered_in_part(self):
        broken = self.place.parent / "broken.las"
        broken.write_bytes((DATA / "simple1_1.las").read_bytes()[: 227 + 28 * 500])
        self.window.session.bring([ImportWish(broken)])
        self.settle()
        (shown,) = [w for w in self.window.findChildren(Results) if w.isVisible()]
        self.assertIn("500 can be read", shown.endings[0].why)
        shown.wanted.emit([shown.endings[0].again])
        self.settle()
        shown.accept()
        self.assertEqual(self.session.job.state.holdings[-1].points, 500)
        self.assertIn("truncated", dict(self.session.job.state.holdings[-1].notes))

    def test_recovery_after_a_crash(self):
        self.draw_toe()
        crashed = self.place.parent / "crashed.kerb"
        shutil.copytree(self.place, crashed)
        self.assertTrue(Job.has_recovery(crashed))
        self.session.job.save()
        # Given up, the question leaves everything as it is.
        for key in (Qt.Key.Key_Escape, None):
            with pressing(key):
                self.window.handlers.jobs.open_folder(crashed)
            self.assertEqual(self.session.job.folder, self.place)
            self.assertTrue(Job.has_recovery(crashed))
        with pressing(Qt.Key.Key_Return):
            self.window.handlers.jobs.open_folder(crashed)
        self.settle()
        self.assertEqual(len(self.session.setup.toe.xy), 14)
        self.assertIsNotNone(self.net())

    def test_a_job_is_open_once_and_what_was_left_unsaved_is_offered(self):
        self.window.handlers.jobs.open_folder(self.place)
        self.assertEqual(self.complaints, [], "opening it again goes back to what was saved")
        other = FolderLock()
        busy = self.place.parent / "busy.kerb"
        shutil.copytree(self.place, busy)
        self.assertTrue(other.take(busy))
        self.window.handlers.jobs.open_folder(busy)
        self.session.set_job(Job.open(busy))
        self.assertEqual([title for title, _ in self.complaints], ["Already open"] * 2)
        self.assertEqual(self.session.job.folder, self.place)
        self.assertTrue(in_use(self.place))
        other.release()
        left = Job.create(unsaved_folder())
        left.execute(Change("Named it", lambda s: replace(s, title=replace(s.title, name="Half a day"))))
        left.flush()
        page = self.window.start_page
        page.mirror()
        buttons = page.left.itemAt(0).widget().findChildren(QPushButton)
        self.assertTrue(buttons[0].text().startswith("Half a day    0 holdings, begun 20"))
        self.session.job.save()
        buttons[0].click()
        self.settle()
        self.assertEqual(self.session.job.state.title.name, "Half a day")
        self.assertFalse(in_use(self.place))
        self.window.handlers.jobs.save_to(self.place.parent / "whole day", move=True)
        self.assertTrue(in_use(self.place.parent / "whole day.kerb"))
        self.assertFalse(left.folder.exists())
        page.mirror()
        self.assertEqual(page.left.count(), 0)


if os.environ.get("QT_QPA_PLATFORM") != "offscreen":
    raise unittest.SkipTest("the window tests run offscreen: use ./run test")
