"""Bringing data in by mouse: dropped files, corrected columns, the place check, pages, open data, the controller."""

import shutil
import socket
import threading
import time
from dataclasses import replace
from unittest import mock

import laspy
import numpy as np
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QInputDialog, QLabel

from kerb.app.bringing import dialog as bringing
from kerb.app.dialogs.systems import SystemDialog
from kerb.app.doing.data import CANCEL
from kerb.app.tools.known_length import KnownLength
from kerb.app.widgets import Choice
from kerb.core.progress import silent
from kerb.core.reference import from_text, local_grid
from kerb.core.things import LINES, MODEL, PICTURE, POINTS, SURFACE
from kerb.core.units import FOOT, METRE
from kerb.demo import yard
from kerb.demo.files import control
from kerb.job import holdings
from kerb.job.holdings import ImportWish
from kerb.job.job import Change
from kerb.standins import agency as agencies
from tests.support import DATA, YARD, demo_files, near, room_for
from tests.window.test_window import LEFT, PLAIN, Windowed, answering, wait


class Bringing(Windowed):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.files = demo_files()

    def drop(self, *paths, on=None):
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
        event = QDropEvent(QPointF(60, 60), Qt.DropAction.CopyAction, data, LEFT, PLAIN)
        (on or self.window).dropEvent(event)
        return self.looked()

    def looked(self, seconds=60):
        """Wait until the dialog has looked at every file and checked its place."""
        dialog, end, quiet = self.window.handlers.data.dialog, time.monotonic() + seconds, 0
        while time.monotonic() < end and quiet < 4:
            wait(0.03)
            quiet = 0 if dialog.files.busy else quiet + 1
        self.assertEqual(quiet, 4, "the dialog did not come to rest")
        return dialog

    def settle(self, seconds=60):
        super().settle(seconds)
        end = time.monotonic() + seconds
        while not self.window.backdrop.idle() and time.monotonic() < end:
            wait(0.05)
        super().settle(seconds)

    def choose(self, dialog, name, child=0):
        """Click an item of the tree."""
        for k in range(dialog.tree.topLevelItemCount()):
            item = dialog.tree.topLevelItem(k)
            if item.text(0) == name:
                place = dialog.tree.visualItemRect(item.child(child)).center() + QPoint(30, 0)
                QTest.mouseClick(dialog.tree.viewport(), LEFT, PLAIN, place)
                return self.looked()
        raise AssertionError(f"{name} is not in the tree")

    def take(self, dialog):
        self.assertTrue(dialog.take.isEnabled(), dialog.summary.text())
        QTest.mouseClick(dialog.take, LEFT)
        self.settle()
        self.assertEqual(self.complaints, [])

    def holding(self, name):
        return self.session.job.state.holding(name)


class Dialog(Bringing):
    def test_every_kind_is_brought_in_and_undone(self):
        names = ("control.csv", "yard-lines.dxf", "access-road.xml", "terrain.tif", "orthophoto.png")
        dialog = self.drop(*(self.files[name] for name in names))
        self.assertFalse(dialog.sure.isVisible(), "nothing is wrong with these")
        before = len(self.session.job.state.holdings)
        self.take(dialog)
        kinds = sorted(h.kind for h in self.session.job.state.holdings[before:])
        self.assertEqual(kinds, sorted([POINTS, LINES, SURFACE, LINES, SURFACE, PICTURE]))
        points = self.session.job.thing(self.holding("control")).thing
        near(points.xyz, control().xyz, atol=1e-4)
        self.assertEqual(self.session.job.reference_of(self.holding("control")).code, "EPSG:25830")
        road = self.session.job.thing(self.holding("access-road, lines and areas")).thing.alignments[0]
        self.assertAlmostEqual(road.length, 190.0, places=6)
        self.window.handlers.views.fit()
        self.settle()
        self.assertEqual(len(self.view.scene.meshes), 2)
        self.assertEqual(len(self.view.scene.pictures), 1)
        for _ in range(6):
            self.window.actions_by_id["undo"].trigger()
        self.settle()
        self.assertEqual(len(self.session.job.state.holdings), before)

    def test_swapped_axes_are_said_and_put_right(self):
        dialog = self.drop(self.files["control-swapped.csv"])
        self.assertIn("swapped", " ".join(dialog.placing.alarm_texts))
        self.assertIn(" Compared with yard", dialog.placing.result.text())
        self.assertFalse(dialog.take.isEnabled())
        QTest.mouseClick(dialog.placing.swap, LEFT, PLAIN, QPoint(8, dialog.placing.swap.height() // 2))
        self.looked()
        self.assertEqual(dialog.placing.alarm_texts, [])
        self.take(dialog)
        thing = self.session.job.thing(self.holding("control-swapped")).thing
        near(thing.xyz, control().xyz, atol=1e-4)
        self.assertIn("exchanged", self.holding("control-swapped").steps[1])

    def test_columns_are_corrected_in_the_preview(self):
        path = self.place.parent / "odd.csv"
        rows = [f"{z:.3f};{n:.3f};{e:.3f};{name}" for (e, n, z), name in zip(control().xyz, control().names, strict=True)]
        path.write_text("\n".join(rows))
        dialog = self.drop(path)
        self.assertTrue(dialog.columns.isVisible())
        for column, role in ((2, "easting"), (1, "northing"), (0, "elevation"), (3, "name")):
            box = dialog.columns.boxes[column]
            box.setCurrentIndex(box.findData(role))
            box.activated.emit(box.currentIndex())
            self.looked()
        self.assertEqual(dialog.placing.alarm_texts, [])
        self.assertEqual(dialog.current().plan.roles, ("elevation", "northing", "easting", "name"))
        if not dialog.current().taken or dialog.current().offer.kind != POINTS:
            self.choose(dialog, "odd.csv", 0)
        self.take(dialog)
        holding = self.session.job.state.holdings[-1]
        low = self.session.job.bounds_of(holding)[0]
        near(low, control().xyz.min(axis=0), atol=1e-3)

    def test_lines_are_cut_otherwise(self):
        path = self.place.parent / "cut.txt"
        rows = [f"{n}|{e:.3f} {n_:.3f} {z:.3f}" for n, (e, n_, z) in zip(control().names, control().xyz, strict=True)]
        path.write_text("\n".join(rows))
        dialog = self.drop(path)
        self.assertEqual(dialog.columns.mark.currentData(), " ")
        dialog.columns.skip.setValue(2)
        dialog.columns.skip.editingFinished.emit()
        self.looked()
        self.assertEqual(dialog.current().plan.skip, 2)
        self.assertTrue(dialog.columns.table.item(1, 0).text().startswith(control().names[2]))
        dialog.columns.mark.setCurrentIndex(dialog.columns.mark.findData(";"))
        dialog.columns.mark.activated.emit(0)
        self.assertIn("no two columns", " ".join(dialog.placing.alarm_texts))
        self.assertEqual(dialog.columns.mark.currentData(), " ", "what was there stays")
        dialog.reject()

    def test_feet_are_converted_and_a_wrong_unit_is_said(self):
        dialog = self.drop(self.files["control-us-feet.csv"])
        self.assertIn("from US survey feet to metres", dialog.current().placing.sentence)
        self.assertEqual(dialog.placing.alarm_texts, [])
        QTest.mouseClick(dialog.placing.choices["as-is"], LEFT, PLAIN, QPoint(8, 8))
        self.looked()
        self.assertIn("Lies 3.2808 times as far", " ".join(dialog.placing.alarm_texts))
        QTest.mouseClick(dialog.placing.choices["convert"], LEFT, PLAIN, QPoint(8, 8))
        self.looked()
        self.take(dialog)
        thing = self.session.job.thing(self.holding("control-us-feet")).thing
        near(thing.xyz, control().xyz, atol=1e-3)

    def test_a_design_in_local_coordinates_needs_a_tick(self):
        dialog = self.drop(self.files["harbour-office.obj"])
        self.assertIn("local coordinates", " ".join(dialog.placing.alarm_texts))
        self.assertFalse(dialog.take.isEnabled())
        item = dialog.amount.list.item(0)
        for k in range(dialog.amount.list.count()):
            if dialog.amount.list.item(k).text().startswith("Roof"):
                item = dialog.amount.list.item(k)
        item.setCheckState(Qt.CheckState.Unchecked)
        self.looked()
        self.assertNotIn("Roof", dialog.current().parts)
        QTest.mouseClick(dialog.sure, LEFT, PLAIN, QPoint(8, 8))
        self.take(dialog)
        thing = self.session.job.thing(self.holding("harbour-office"))
        self.assertEqual((thing.kind, "Roof" in [e.name for e in thing.thing.elements]), (MODEL, False))

    def test_several_clouds_become_one_thinned_and_the_file_is_a_filter(self):
        halves = []
        source = laspy.read(DATA / "yard_small.laz")
        for k in range(2):
            part = laspy.LasData(source.header)
            part.points = source.points[np.arange(k, len(source.points), 2)]
            halves.append(self.place.parent / f"half{k}.laz")
            part.write(str(halves[-1]))
        dialog = self.drop(*halves)
        dialog.together.setCurrentIndex(1)
        dialog.amount.every.setText("3")
        dialog.amount.every.editingFinished.emit()
        self.looked()
        drawn = dialog.placing.thumbnail
        self.assertGreater(len(drawn.other), len(dialog.files.job_site.xyz), "what comes along is drawn too")
        self.take(dialog)
        holding = self.session.job.state.holdings[-1]
        store = self.session.job.store(holding)
        self.assertEqual(np.unique(store.column("source_file")).tolist(), [0, 1])
        self.assertIn("one of every 3 points", holding.steps[-1])
        for other in self.session.job.state.holdings[:-1]:
            self.session.execute(holdings.altered(other, "hid it", visible=False))
        self.session.study_id = ""
        self.window.colouring.colour_by("source_file")
        self.settle()
        legend = self.window.legend
        self.assertEqual([words for _, words, _ in legend.entries], ["half0.laz", "half1.laz"])
        layer = self.view.scene.clouds[-1]
        both = int(self.view.picture.buffer.drawn)
        QTest.mouseClick(legend, LEFT, PLAIN, QPoint(20, 38))
        self.settle()
        layer = self.view.scene.clouds[-1]
        which, shown = layer.mask()
        kept = shown[which] if len(which) > 1 else np.ones(store.count, bool)
        noise = np.isin(np.asarray(store.column("classification")), (7, 18))
        np.testing.assert_array_equal(kept, (np.asarray(store.column("source_file")) == 1) & ~noise)
        self.assertGreater(both, 0)

    def test_unreadable_files_say_why_and_can_be_left_out(self):
        junk = self.place.parent / "junk.dxf"
        junk.write_text("not a drawing")
        dialog = self.drop(junk, self.files["control.csv"])
        self.choose(dialog, "junk.dxf")
        self.assertIn("not a DXF drawing", dialog.files.errors[junk])
        QTest.keyClick(dialog, Qt.Key.Key_Delete)
        self.assertEqual(dialog.tree.topLevelItemCount(), 1)
        self.drop(self.files["yard-lines.dxf"], on=dialog)
        self.assertEqual(len(dialog.wishes()), 2)
        QTest.keyClick(dialog, Qt.Key.Key_Escape)
        self.assertIsNone(self.window.handlers.data.dialog)

    def test_a_unit_that_is_stated_for_the_plan_is_that_of_heights_too(self):
        """Of a file that says nothing; heights that are otherwise are said then."""
        points = self.place.parent / "feet.xyz"
        np.savetxt(points, np.random.default_rng(1).uniform(1000, 1040, (300, 3)), "%.3f")
        dialog = self.drop(points)
        self.choose(dialog, "feet.xyz")
        panel = dialog.placing
        for box, code, wanted in ((panel.plan_unit, "us-ft", ("us-ft", "us-ft")), (panel.height_unit, "m", ("us-ft", "m"))):
            box.setCurrentIndex(box.findData(code))
            box.activated.emit(box.currentIndex())
            self.looked()
            source = dialog.current().source
            self.assertEqual((source.unit.code, source.vertical_unit.code), wanted)
        # The wheel scrolls over a choice that has not the focus, and does not give it the focus.
        self.assertEqual(panel.plan_unit.focusPolicy(), Qt.FocusPolicy.StrongFocus)
        for focus, shown in ((False, "us-ft"), (True, "mm")):
            at, way = QPointF(8, 8), QPoint(0, -120)
            wheel = QWheelEvent(at, at, QPoint(), way, Qt.MouseButton.NoButton, PLAIN, Qt.ScrollPhase.NoScrollPhase, False)
            with mock.patch.object(Choice, "hasFocus", lambda _self, focus=focus: focus):
                QApplication.sendEvent(panel.plan_unit, wheel)
            self.assertEqual(panel.plan_unit.currentData(), shown)
        dialog.reject()


class Pages(Bringing):
    def bring(self, *names):
        self.session.bring([holdings.ImportWish(self.files[name]) for name in names])
        self.settle()

    def test_rename_duplicate_remove_and_undo(self):
        self.bring("control.csv")
        key = self.holding("control").id
        self.window.handlers.run(f"duplicate_holding:{key}")
        twin = self.holding("control (2)")
        self.session.job.keep_thing(twin, self.session.job.thing(twin).__class__(
            POINTS, control().only(np.arange(3)), METRE and self.session.job.reference_of(twin)))  # fmt: skip
        self.assertEqual(self.session.job.thing(self.holding("control")).count, 10, "the copy stands by itself")
        self.window.handlers.run(f"remove_holding:{key}")
        self.assertIsNone(self.holding("control"))
        self.session.undo()
        self.assertEqual(self.session.job.thing(self.holding("control")).count, 10)

    def test_written_files_and_sources_that_are_not(self):
        self.bring("control.csv", "yard-lines.dxf")
        target = self.place.parent / "out"
        original = QFileDialog.getSaveFileName
        QFileDialog.getSaveFileName = staticmethod(lambda *a, **k: (str(target), "GeoPackage (*.gpkg)"))
        self.addCleanup(setattr, QFileDialog, "getSaveFileName", original)
        self.window.handlers.run(f"write_holding:{self.holding('yard-lines').id}")
        self.settle()
        self.assertTrue(target.with_suffix(".gpkg").exists())
        self.window.handlers.data.write_to(self.holding("control"), self.files["control.csv"])
        self.assertIn("never written to", self.complaints.pop()[1])

    def test_the_job_system_is_chosen_by_search(self):
        dialog = SystemDialog(local_grid(METRE), self.window, job=True)
        QTest.keyClicks(dialog.search, "etrs89 utm 30n")
        end = time.monotonic() + 30
        while not dialog.ready and time.monotonic() < end:
            wait(0.05)
        wait(0.3)
        dialog._find()
        codes = [dialog.list.item(k).data(Qt.ItemDataRole.UserRole) for k in range(dialog.list.count())]
        dialog.list.setCurrentRow(codes.index("EPSG:25830"))
        dialog.heights.setCurrentIndex(dialog.heights.findData("5621"))
        dialog.accept()
        self.assertEqual(dialog.chosen.vertical_name, "EVRF2007 height")
        with answering(CANCEL) as asked:
            self.window.handlers.data.set_system(from_text("EPSG:2229"))
        self.assertIn("US survey feet", asked[0][1])
        self.assertEqual(self.session.job.state.title.unit, "m")
        self.window.handlers.data.set_system(dialog.chosen)
        self.assertIn("EVRF2007", self.session.job.state.title.reference_system().sentence)
        dialog.deleteLater()

    def test_a_known_length_names_the_mix_up(self):
        self.look_at_heap()
        self.window.handlers.data.known_length()
        tool = self.view.tool
        self.assertIsInstance(tool, KnownLength)
        middle = np.append(yard.ORIGIN + np.array(yard.HEAPS[1].centre), 4.0)
        typed = []
        original = QInputDialog.getText
        QInputDialog.getText = staticmethod(lambda *words, **k: (typed.append(words[2]) or "3.2808", True))
        self.addCleanup(setattr, QInputDialog, "getText", original)
        tool.places = [middle]
        self.click(self.at(*(middle + [1.0, 0, 0])))
        self.assertIn("True length in m", typed[0])
        measured = float(np.linalg.norm(tool.places[1] - tool.places[0]))
        tool.judge(str(measured * 3.28084))
        self.assertIn("metres taken for international feet", tool.verdict.sentence)
        self.assertIn("explain", " ".join(tool.lines()))
        QTest.keyClick(self.view, Qt.Key.Key_Escape)
        self.assertEqual(tool.places, [])


class Services(Bringing):
    def setUp(self):
        super().setUp()
        folder = self.folder / "agency"
        agencies.make_files(folder, silent(), density=0.05)
        self.original = agencies.agency_folder
        agencies.agency_folder = lambda: folder
        self.addCleanup(setattr, agencies, "agency_folder", self.original)

    def connected(self):
        self.window.handlers.run("open_data")
        page = self.window.right.catalogue
        QTest.mouseClick(page.simulate, LEFT)
        end = time.monotonic() + 60
        while page.catalogue is None and time.monotonic() < end:
            wait(0.05)
        self.settle()
        return page

    def test_tiles_are_chosen_in_plan_fetched_and_brought_in(self):
        page = self.connected()
        self.assertEqual(len(page.outlines), 18)
        QTest.keyClicks(page.first, "2026-01-01")
        self.assertEqual(page.list.count(), 9)
        self.window.handlers.views.fit()
        self.settle()
        place = QPointF(self.at(*(yard.ORIGIN + 40), 3.5)).toPoint()
        self.click(place)
        self.assertEqual([tile.id for tile in page.taken()], ["shq_3800_55600_2026"])
        self.click(place)
        self.assertEqual(page.taken(), [])
        page.choose_area()
        self.assertEqual(len(page.taken()), 2, "the yard lies on two tiles")
        shutil.rmtree(bringing.Path(agencies.user_data()) / "fetched", ignore_errors=True)
        page.agency.break_after = 9_000
        page.fetch_chosen()
        self.settle()
        self.assertIn("broke off after 9000", self.complaints.pop()[1])
        page.agency.break_after = 0
        asked = len(page.agency.requests)
        QTest.mouseClick(page.take, LEFT)
        self.settle()
        self.assertEqual(len(page.agency.requests) - asked, 2)
        dialog = self.looked()
        self.assertEqual((dialog.together.currentIndex(), dialog.epoch.text()), (1, "2026-02-27"))
        self.take(dialog)
        holding = self.session.job.state.holdings[-1]
        self.assertEqual((holding.points, holding.epoch), (6250, "2026-02-27"))

    def test_picture_tiles_lie_where_the_land_is(self):
        from kerb.demo import landscape

        page = self.connected()
        self.window.handlers.data.use_tiles(page.catalogue.services[0])
        self.view.fit(np.array([*(yard.ORIGIN - 80), 3.0]), np.array([*(yard.ORIGIN + 220), 5.0]))
        self.settle()
        layer = self.view.scene.pictures[0]
        a, _, c, _, e, f = layer.affine
        for centre, _, _ in landscape.SHEDS[:3]:
            east, north = np.array(centre) + yard.ORIGIN
            pixel = layer.texture[int((north - f) / e), int((east - c) / a)]
            self.assertGreater(int(pixel[0]), int(pixel[1]) + 25, "a red roof")
        asked = len(page.agency.requests)
        self.view.set_camera(self.view.camera.panned(3, 0), moving=False)
        self.settle()
        self.assertEqual(len(page.agency.requests), asked, "what was fetched is kept")

    def test_shots_come_in_as_they_are_measured(self):
        self.session.settings.set("controller_interval", 0.01)
        self.window.handlers.run("field_controller")
        page = self.window.right.controller
        QTest.mouseClick(page.simulate, LEFT)
        end = time.monotonic() + 20
        while (page.listening or page.list_ is None) and time.monotonic() < end:
            wait(0.05)
        self.settle()
        holding = self.holding("Field shots")
        self.assertEqual((holding.points, page.shots.count()), (30, 30))
        thing = self.session.job.thing(holding).thing
        self.assertEqual(set(thing.extra["precision plan"]), {"0.008"})
        self.assertTrue(np.all(np.abs(thing.xyz[:, 2] - yard.ground(thing.xyz[:, :2] - yard.ORIGIN)) < 0.06))
        self.session.undo()
        self.assertIsNone(self.holding("Field shots"))
        self.session.redo()
        self.assertEqual(self.session.job.thing(self.holding("Field shots")).count, 30)
        self.assertIn("said goodbye", page.state.text())
        page.standin.shots = page.standin.shots * 20
        page.toggle()
        end = time.monotonic() + 20
        while page.list_.count < 3 and time.monotonic() < end:
            wait(0.02)
        page.toggle()
        self.settle()
        self.assertFalse(page.listening)
        self.assertLess(page.list_.count, 600)

    def test_a_full_disk_is_told_and_the_job_stays(self):
        """The system refuses files to grow, as a full disk does: importing, setting aside, computing, saving."""
        state = self.session.job.state
        copy = self.folder / "again.laz"
        shutil.copy(YARD, copy)
        before = sorted(p.name for p in (self.session.job.folder / "data").iterdir())
        with room_for(2000):
            self.session.bring([ImportWish(copy)])
            self.settle()
        self.assertIn("File too large", self.complaints.pop()[1])
        self.assertEqual(self.session.job.state, state)
        self.assertEqual(sorted(p.name for p in (self.session.job.folder / "data").iterdir()), before)
        self.session.execute(Change("Named", lambda s: replace(s, title=replace(s.title, name="Long name " * 50))))
        self.session.job.flush()
        with room_for(300):
            self.window.handlers.run("save")
            self.settle()
        self.assertIn("cannot be written", self.complaints.pop()[1])
        self.assertTrue(self.session.job.changed)
        self.window.handlers.run("save")
        self.settle()
        self.assertEqual((self.complaints, self.session.job.changed), ([], False))

    def test_names_from_files_stay_plain_text(self):
        """Nothing that a file is called, or that stands in it, becomes markup: markup can load pictures."""
        bad = "<img src='http://127.0.0.1:9/x.png'><b>bold</b>"
        path = self.folder / f"{bad.replace('/', ' ')}.csv"
        path.write_text(f"name,e,n,z,{bad}\n{bad},380050,5560050,3,{bad}\nb,380051,5560050,3,{bad}\n")
        self.session.bring([ImportWish(path, name=bad, epoch=bad)])
        self.settle()
        self.session.execute(Change(bad, lambda s: replace(s, title=replace(s.title, name=bad, client=bad, site=bad))))
        holding = self.session.job.state.holdings[-1]
        self.assertEqual(holding.name, bad)
        self.session.complained.emit(bad, bad)
        self.session.settings.add_recent(self.session.job.folder)
        self.drop(path)
        self.settle()
        shown = 0
        for widget in QApplication.allWidgets():
            tip = widget.toolTip()
            if "<img" in tip or "<b>" in tip:
                self.fail(f"{type(widget).__name__}: {tip}")
            shown += "&lt;img" in tip
            if isinstance(widget, QLabel) and "<b>bold" in widget.text():
                shown += 1
                self.assertEqual(widget.textFormat(), Qt.TextFormat.PlainText, widget.objectName())
        self.assertGreater(shown, 2)

    def test_many_shots_at_once_are_taken_together(self):
        """A controller that was offline sends all it has: kept and shown in few steps, and a hang-up is told."""
        lines = [b'{"type":"hello","unit":"m","crs":""}', b"no sense"]
        lines += [b'{"type":"shot","name":"P%d","n":%d,"e":380050,"z":1}' % (k % 4000, 5560000 + k % 90) for k in range(5000)]
        server = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(server.close)

        def send():
            line, _ = server.accept()
            with line:
                line.sendall(b"\n".join(lines))

        threading.Thread(target=send, daemon=True).start()
        page = self.window.right.controller
        steps = []
        self.session.job.listeners.append(lambda: steps.append(1))
        self.window.handlers.run("field_controller")
        page.port.setText(str(server.getsockname()[1]))
        page.toggle()
        end = time.monotonic() + 30
        while page.listening and time.monotonic() < end:
            wait(0.05)
        self.settle()
        self.assertEqual(self.holding("Field shots").points, 5000)
        self.assertLess(len(steps), 60)
        self.assertIn("hung up", page.state.text())
        self.assertIn("1 line made no sense", page.state.text())
        self.assertEqual(page.shots.count(), 500)
        self.assertTrue(page.shots.item(0).text().startswith("P999 (2)"), page.shots.item(0).text())

    def test_a_wrong_address_is_explained(self):
        page = self.window.right.catalogue
        self.window.handlers.run("open_data")
        page.address.setText("http://127.0.0.1:9/catalog.json")
        QTest.mouseClick(page.connect_button, LEFT)
        self.settle()
        self.assertIn("127.0.0.1:9", self.complaints.pop()[1])
        controller = self.window.right.controller
        controller.port.setText("9")
        controller.toggle()
        self.settle()
        self.assertIn("no field controller answers", self.complaints.pop()[1])


class Empty(Bringing):
    def test_a_first_file_in_feet_makes_a_job_in_feet(self):
        self.window.handlers.jobs.new_job()
        self.settle()
        dialog = self.drop(DATA / "airborne_feet.laz")
        self.assertEqual(dialog.placing.alarm_texts, [])
        self.take(dialog)
        self.assertEqual(self.session.job.state.title.unit, FOOT.code)
        self.assertIn("ft", self.window.header.chip.text())
        QApplication.processEvents()
