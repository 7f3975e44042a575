"""Sections placed, dragged, stepped, typed and taken out of in the window; corners and panes with colours of their own."""

from dataclasses import replace
from unittest import mock

import laspy
import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QInputDialog

from kerb.app.dialogs.section import SectionNumbers
from kerb.app.dialogs.view_picture import ViewPicture
from kerb.app.panels.row import Row
from kerb.app.tools.place_section import PlaceSection
from kerb.app.views.view import ORBIT, PLAN, SECTION
from kerb.core.progress import silent
from kerb.core.section.placed import DOWN, through
from kerb.core.things import LINES
from kerb.demo import yard
from kerb.job import holdings, sections
from kerb.job.job import Job
from tests.below.test_placed_sections import kerb
from tests.support import near
from tests.window.test_window import HEAP, LEFT, PLAIN, Windowed, wait

CENTRE = np.append(yard.ORIGIN + np.array(HEAP.centre), 3.5)


class Sectioned(Windowed):
    def setUp(self):
        super().setUp()
        self.keeper = self.window.keeper
        self.look_at_heap()

    def tearDown(self):
        # A step that has not come to rest is a change like any other: the window would ask for it.
        self.keeper.drop()
        super().tearDown()

    def state(self):
        return self.session.job.state

    def placed(self, a=(-10.0, 0.0), b=(10.0, 4.0), thickness=0.5):
        """A section through the heap, put there by hand."""
        self.keeper.add(through(CENTRE + [*a, 0.0], CENTRE + [*b, 0.0], thickness))
        wait(0.05)
        self.settle()
        return self.keeper.section()

    def plan(self):
        """The plan is the active pane."""
        if self.view.mode != PLAN:
            self.window.handlers.run("next_pane")
        self.settle()
        self.assertEqual(self.view.mode, PLAN)

    def open_points(self, xyz, source, intensity=0):
        """A job of a cloud of points of some setups, near 380 000, 5 560 000."""
        header = laspy.LasHeader(point_format=6, version="1.4")
        header.scales, header.offsets = [1e-4] * 3, [380000.0, 5560000.0, 0.0]
        las = laspy.LasData(header)
        las.x, las.y, las.z = (xyz + [380000.0, 5560000.0, 0.0]).T
        las.point_source_id = np.broadcast_to(np.asarray(source, np.uint16), len(xyz))
        las.intensity = np.broadcast_to(np.asarray(intensity, np.uint16), len(xyz))
        path = self.place.parent / "made.las"
        las.write(path)
        job = Job.create(self.place.parent / "made.kerb")
        holding = holdings.import_cloud(job.folder, job.state, holdings.ImportWish(path), silent())
        job.execute(holdings.added(job, holding))
        job.save()
        self.window.handlers.jobs.open_folder(job.folder)
        self.settle()

    def typed(self, text):
        return mock.patch.object(QInputDialog, "getText", return_value=(text, True))


class Placing(Sectioned):
    def test_two_clicks_make_a_section_and_a_pane_looks_along_it(self):
        QTest.keyClick(self.view, Qt.Key.Key_X)
        self.assertIsInstance(self.view.tool, PlaceSection)
        a, b = CENTRE + [12.0, 3.0, 0], CENTRE + [-12.0, -3.0, 0]
        self.click(self.at(*a))
        self.assertEqual(self.state().sections, ())
        self.window.handlers.run("undo")
        self.assertEqual(self.view.tool.places, [], "undo takes the click back")
        for place in (a, b):
            self.click(self.at(*place))
        wait(0.05)
        self.settle()
        (one,) = self.state().sections
        near(one.ends, [b[:2], a[:2]], atol=3 * self.view.cameras[PLAN].scale)
        self.assertEqual((one.name, self.keeper.chosen, one.thickness), ("Section 1", one.id, 0.5))
        shown = {v.mode: v for v in self.window.panes.views()}
        self.assertEqual(set(shown), {PLAN, SECTION})
        camera = shown[SECTION].camera
        self.assertAlmostEqual(camera.heading, one.azimuth)
        self.assertEqual((camera.thickness, camera.tilt), (0.5, 0.0))
        near(camera.target, one.middle)
        row = self.window.lists.rows[one.id]
        self.assertIsInstance(row, Row)
        self.assertEqual((row.name, row.chosen), ("Section 1", True))
        self.assertIn("24.7", row.second)
        self.window.handlers.run("undo")
        self.assertEqual(self.state().sections, ())
        self.assertNotIn(one.id, self.window.lists.rows)
        self.assertEqual(self.keeper.chosen, "")

    def test_letters_choose_the_way_before_or_after_the_click(self):
        """On the western flank of the heap: across it one looks square to its fall, at its face against it."""
        flank = CENTRE + [-5.0, 0.0, 0.0]
        made = {}
        for letter, way, after in (("A", "across", False), ("F", "face", True), ("L", "level", True)):
            self.plan()
            self.window.handlers.run("place_section")
            if after:
                self.click(self.at(*flank))
                self.assertEqual(len(self.view.tool.places), 1)
            QTest.keyClick(self.view, getattr(Qt.Key, f"Key_{letter}"))
            if not after:
                self.assertEqual(self.view.tool.way, way)
                self.click(self.at(*flank))
            wait(0.05)
            self.settle()
            made[way] = self.keeper.section()
        self.assertEqual(len(self.state().sections), 3, "L and F and A are letters of the menus too")
        slope = np.degrees(np.arctan2(*(flank - CENTRE)[:2])) % 360
        near(made["face"].axes[2][:2], -np.array([np.sin(np.radians(slope)), np.cos(np.radians(slope))]), atol=0.25)
        near(abs(made["across"].axes[2] @ made["face"].axes[2]), 0.0, atol=0.1)
        self.assertEqual(made["level"].tilt, DOWN)
        camera = next(v for v in self.window.panes.views() if v.mode == SECTION).camera
        self.assertEqual((camera.tilt, camera.target[2]), (DOWN, made["level"].middle[2]))

    def test_without_a_mouse(self):
        self.window.handlers.run("place_section")
        self.view.setFocus()
        QTest.keyClick(self.view, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
        QTest.keyClick(self.view, Qt.Key.Key_Up)
        QTest.keyClick(self.view, Qt.Key.Key_Space)
        for _ in range(2):
            QTest.keyClick(self.view, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
        scale = self.view.camera.scale
        QTest.keyClick(self.view, Qt.Key.Key_Space)
        wait(0.05)
        self.settle()
        (one,) = self.state().sections
        self.assertAlmostEqual(one.width, 120 * scale, delta=0.01 * scale)
        self.assertAlmostEqual(one.azimuth, 0.0, places=6)
        self.assertAlmostEqual(one.middle[1] - self.view.camera.target[1], 6 * scale, delta=scale)

    def test_between_two_picks_and_nothing_there(self):
        self.window.handlers.run("place_section")
        QTest.keyClick(self.view, Qt.Key.Key_B)
        said = []
        self.session.said.connect(said.append)
        self.window.handlers.run("fit")
        self.settle()
        self.click(QPoint(5, self.view.height() - 5))
        self.assertIn("no point here", said[-1])
        for place in (CENTRE + [-4.0, 0, 0], CENTRE + [4.0, 0, 0]):
            self.click(self.at(*place))
        wait(0.05)
        self.settle()
        one = self.keeper.section()
        self.assertAlmostEqual(one.thickness, 8.0, delta=1.0)
        self.assertAlmostEqual(one.azimuth, 90.0, delta=3.0)
        self.plan()
        self.window.handlers.run("place_section")
        QTest.keyClick(self.view, Qt.Key.Key_Escape)
        self.assertNotIsInstance(self.view.tool, PlaceSection)


class Moving(Sectioned):
    def handle(self, name):
        self.plan()
        at = self.window.edit_tool.bands._handles(self.keeper.section())[name]
        return at.toPoint()

    def test_each_handle_is_one_step(self):
        before = self.placed()
        at = self.handle("right")
        self.drag(at, at + QPoint(30, 40))
        self.settle()
        longer = self.state().sections[0]
        scale = self.view.camera.scale
        near(longer.ends[0], before.ends[0], atol=1e-6)
        near(longer.ends[1], before.ends[1] + np.array([30, -40]) * scale, atol=3 * scale)
        self.assertIn("Moved an end", self.session.job.can_undo)
        self.window.handlers.run("undo")
        self.assertEqual(self.state().sections[0], before)
        at = self.handle("move")
        self.drag(at, at + QPoint(0, -50))
        near(self.state().sections[0].middle, np.array(before.middle) + [0, 50 * scale, 0], atol=3 * scale)
        self.window.handlers.run("undo")
        at = self.handle("deep")
        ahead = self.window.edit_tool.bands._ahead(before)
        self.drag(at, at + (ahead * 40).toPoint())
        self.assertAlmostEqual(self.state().sections[0].thickness, 0.5 + 80 * scale, delta=4 * scale)
        self.window.handlers.run("undo")
        at, middle = self.handle("turn"), self.handle("move")
        self.drag(at, middle + QPoint(60, 0))
        self.assertAlmostEqual(self.state().sections[0].azimuth, 90.0, delta=3.0)
        pane = next(v for v in self.window.panes.views() if v.mode == SECTION)
        self.settle()
        self.assertAlmostEqual(pane.camera.heading, self.state().sections[0].azimuth, places=6)

    def test_a_run_of_steps_is_one_step_to_undo(self):
        before = self.placed()
        self.window.handlers.run("section_forward")
        self.window.handlers.run("undo")
        self.assertEqual(self.keeper.section(), before, "what was not kept yet is taken back, and nothing before it")
        wait(0.8)
        self.assertEqual((self.keeper.section(), self.state().sections), (before, (before,)))
        self.window.handlers.run("section_forward")
        self.assertTrue(self.window.handlers.jobs.guarded(self.window.handlers.jobs.save))
        self.assertFalse(self.session.job.changed, "a step that had not come to rest is saved too")
        near(Job.open(self.place).state.sections[0].middle, np.array(before.middle) + 0.5 * before.axes[2], atol=1e-9)
        self.window.handlers.run("undo")
        for _ in range(4):
            QTest.keyClick(self.window, Qt.Key.Key_PageDown, Qt.KeyboardModifier.AltModifier)
            wait(0.02)
        near(self.keeper.section().middle, np.array(before.middle) + 2.0 * before.axes[2], atol=1e-9)
        pane = next(v for v in self.window.panes.views() if v.mode == SECTION)
        near(pane.camera.target[:2], self.keeper.section().middle[:2], atol=1e-9)
        QTest.keyClick(self.window, Qt.Key.Key_Down, Qt.KeyboardModifier.AltModifier)
        wait(0.8)
        near(self.state().sections[0].middle, np.array(before.middle) + 1.5 * before.axes[2], atol=1e-9)
        self.window.handlers.run("undo")
        self.assertEqual(self.state().sections[0], before)
        self.window.handlers.run("section_flip")
        wait(0.8)
        self.assertAlmostEqual(self.state().sections[0].azimuth, (before.azimuth + 180) % 360)
        self.assertEqual(self.window.handlers.views.section_ends(), ("B", "A"))

    def test_thickness_and_heights_by_the_strip_are_the_section_s_own(self):
        before = self.placed(thickness=0.37)
        self.window.handlers.run("section_along")
        self.assertEqual(self.window.strip.slice.currentText(), "Slice 0.37 m", "it tells what it is")
        self.window.colouring.mirror()
        self.assertEqual(self.window.strip.slice.currentText(), "Slice 0.37 m", "and goes on doing so")
        for box, value in ((self.window.strip.slice, 0.01), (self.window.strip.exaggeration, 5.0)):
            box.setCurrentIndex(box.findData(value))
            box.activated.emit(box.currentIndex())
        self.assertEqual((self.view.camera.thickness, self.view.camera.exaggeration), (0.01, 5.0))
        wait(0.8)
        self.assertEqual(self.state().sections[0], replace(before, thickness=0.01, exaggeration=5.0))
        box = self.window.strip.slice
        box.setCurrentIndex(box.count() - 1)
        box.activated.emit(box.currentIndex())
        self.settle()
        self.assertGreater(self.view.camera.thickness, 1e5, "all there is")

    def test_numbers_are_typed_and_wrong_ones_named(self):
        before = self.placed()
        dialog = SectionNumbers(before, "m", self.window)
        dialog.fields["width"].setText("0")
        dialog.accept()
        self.assertIn("Width: “0” is no number that can be", dialog.trouble.text())
        for key, text in (("width", "12,5"), ("azimuth", "-90"), ("step", "2"), ("easting", "380100")):
            dialog.fields[key].setText(text)
        dialog.name.setText("Kerb <b>east</b>")
        dialog.stands.setCurrentIndex(1)
        dialog.accept()
        now = dialog.section
        self.assertEqual((now.width, now.azimuth, now.step, now.middle[0], now.tilt), (12.5, 270.0, 2.0, 380100.0, DOWN))
        with mock.patch.object(SectionNumbers, "exec", lambda d: setattr(d, "section", now) or 1):
            self.window.handlers.run(f"section_numbers:{before.id}")
        self.assertEqual(self.state().sections[0], now)
        self.assertEqual(self.window.lists.rows[before.id].name, "Kerb <b>east</b>")

    def test_from_above_and_from_the_side_in_its_own_axes(self):
        one = self.placed()
        for action, mode, heading, tilt in (
            ("section_above", ORBIT, one.azimuth, 90.0), ("section_side", ORBIT, (one.azimuth + 270) % 360, 0.0),
            ("section_along", SECTION, one.azimuth, 0.0),
        ):  # fmt: skip
            self.window.handlers.run(action)
            self.settle()
            camera = self.view.camera
            self.assertEqual((self.view.mode, camera.tilt, camera.perspective), (mode, tilt, False))
            self.assertAlmostEqual(camera.heading, heading)
            near(camera.target, one.middle)

    def test_copies_and_a_series_that_goes_on(self):
        one = self.placed()
        with self.typed("three"):
            self.window.handlers.run("section_copies")
        self.assertEqual(len(self.state().sections), 1)
        with self.typed("3 x 2,5"):
            self.window.handlers.run(f"section_copies:{one.id}")
        names = [s.name for s in self.state().sections]
        self.assertEqual(names, ["Section 1", "Section 1 (2)", "Section 1 (3)", "Section 1 (4)"])
        near([s.local(np.array([one.middle]))[0, 1] for s in self.state().sections], [0, -2.5, -5, -7.5], atol=1e-9)
        with self.typed("4 x 3"):
            self.window.handlers.run("section_series")
        self.settle()
        self.assertEqual(self.session.study.kind, "sections")
        outcome = self.session.shown().outcome
        self.assertEqual(outcome.figures["sections"].value, 5)
        rows = outcome.tables["sections"].rows
        near(rows[0][6:8], one.middle[:2], atol=1e-6)
        near(np.hypot(*np.subtract(rows[4][6:8], one.middle[:2])), 12.0, atol=1e-6)
        self.assertAlmostEqual(rows[0][8], one.azimuth, places=6)
        self.window.handlers.run(f"remove_section:{one.id}")
        self.assertEqual(len(self.state().sections), 3)


class TakingOut(Sectioned):
    def test_points_outlines_and_pictures_of_a_level_slice(self):
        one = self.placed()
        level = sections.put(one.__class__(one.id, one.name, (*CENTRE[:2], CENTRE[2] + 2.0), 0.0, 40.0, 0.4, DOWN), "level")
        self.session.execute(level)
        here = self.keeper.section()
        self.window.handlers.run("section_select")
        self.settle()
        holding = self.session.main_cloud()
        store = self.session.job.store(holding)
        local = here.local(store.coordinates(slice(0, store.count)))
        shown = self.window.colouring.layer().shown()
        wanted = shown & (np.abs(local) <= [20.0, 0.2, 20.0]).all(axis=1)
        np.testing.assert_array_equal(self.window.selection.mask, wanted)
        self.assertGreater(wanted.sum(), 50)
        self.window.handlers.run("section_outlines")
        self.settle()
        (lines,) = [h for h in self.state().holdings if h.kind == LINES]
        ring = self.session.job.thing(lines).thing.lines[0]
        self.assertTrue(ring.closed)
        near(ring.xyz[:, 2], np.full(len(ring.xyz), CENTRE[2] + 2.0), atol=1e-9)
        away = np.hypot(*(ring.xyz[:, :2] - CENTRE[:2]).T)
        self.assertTrue((away < 9).all())
        path = self.place.parent / "slice.png"
        with (
            mock.patch.object(QInputDialog, "getDouble", return_value=(0.1, True)),
            mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(path), "")),
        ):
            self.window.handlers.run("section_picture")
            self.settle()
        from PIL import Image

        with Image.open(path) as image:
            size = image.size
        world = [float(v) for v in path.with_suffix(".pgw").read_text().split()]
        self.assertEqual(size[0], 400)
        near([world[0], world[3]], [0.1, -0.1])
        near(world[4], CENTRE[0] - 20.0 + 0.05, atol=1e-6)
        self.the_view_as_values(path.with_suffix(".csv"))

    def the_view_as_values(self, path):
        """The same from the view as it is, typed in its dialog: elevations of what is seen, with their places."""

        def answer(dialog):
            dialog.choice.setCurrentIndex(dialog.choice.findData("median"))
            dialog.size_.setText("none")
            dialog.accept()
            self.assertIn("no size", dialog.trouble.text())
            dialog.size_.setText("0,5")
            dialog.accept()
            return dialog.result()

        with (
            mock.patch.object(ViewPicture, "exec", answer),
            mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(path), "")),
        ):
            self.window.handlers.run("view_picture")
            self.settle()
        rows = np.genfromtxt(path, delimiter=",", skip_header=1)
        self.assertGreater(len(rows), 50)
        near(rows[:, 3], rows[:, 2], 1.0)

    def test_setups_on_a_face(self):
        rng = np.random.default_rng(3)
        n = 3000
        x, z = rng.uniform(0, 6, n), rng.uniform(0, 3, n)
        source = rng.integers(1, 4, n)
        y = np.array([0, 0.0, 0.006, -0.004])[source] + rng.normal(0, 0.002, n)
        self.open_points(np.column_stack([x, y, z]), source)
        said = []
        self.session.said.connect(said.append)
        self.window.handlers.run("compare_setups")
        self.assertIn("Select a flat face first", said[-1])
        store = self.session.job.store(self.session.main_cloud())
        self.window.selection.combine(self.session.main_cloud().id, np.ones(store.count, bool))
        self.window.handlers.run("compare_setups")
        self.settle()
        dialog = self.window.handlers.sections.shown
        table = dialog.table
        found = {frozenset(row[:2]): row[2] for row in table.rows}
        self.assertEqual(len(found), 3)
        self.assertAlmostEqual(abs(found[frozenset(("Source 2", "Source 3"))]), 0.010, delta=0.0006)
        self.assertTrue(all(row[3] < 0.0005 for row in table.rows))
        self.assertEqual(sum(row[4] for row in table.rows if row[1] == "Source 3"), int((source < 3).sum()))
        dialog.copy()
        self.assertIn("Distance (m)", QGuiApplication.clipboard().text())
        dialog.accept()


class Measured(Sectioned):
    def test_angle_area_and_lines_that_are_kept(self):
        self.placed((-12.0, 0.0), (12.0, 0.0), 1.0)
        self.window.handlers.run("section_along")
        self.window.handlers.run("measure")
        tool = self.view.tool
        for place in ((0, 0, 0), (3, 0, 0), (3, 0, 4.0)):
            tool.take(CENTRE + place)
        lines = tool.lines()
        self.assertIn("angle at the point before 90.0°", lines[4])
        self.assertIn("area in the section 6.0", lines[5])
        QTest.keyClick(self.view, Qt.Key.Key_D)
        (kept,) = [h for h in self.state().holdings if h.name == "Dimensions"]
        thing = self.session.job.thing(kept).thing
        near(thing.lines[0].xyz, CENTRE + [[0, 0, 0], [3, 0, 0], [3, 0, 4.0]])
        self.assertIn("angle at the point before 90.0°", thing.fields["measured"][0])
        for place in ((0, 0, 0), (1, 0, 0)):
            tool.take(CENTRE + place)
        QTest.keyClick(self.view, Qt.Key.Key_D)
        self.assertEqual(self.session.job.thing(self.state().holding(kept.id)).thing.count, 2)
        self.window.handlers.run("undo")
        self.assertEqual(self.session.job.thing(self.state().holding(kept.id)).thing.count, 1)

    def test_corners_of_a_kerb(self):
        """A kerb 125 mm high that runs north; in a section across it K takes flow line and edge, and P picks them as points."""
        rng = np.random.default_rng(6)
        profile = kerb(rng, 60_000, 0.002)
        self.open_points(np.column_stack([profile[:, 0], rng.uniform(0, 4, 60_000), profile[:, 1]]), 1)
        middle = np.array([380000.0, 5560002.0, 0.06])
        self.keeper.add(through(middle - [0.4, 0, 0], middle + [0.4, 0, 0], 0.4))
        wait(0.05)
        self.settle()
        self.window.handlers.run("section_along")
        self.settle()
        self.window.handlers.run("pick_points")
        QTest.keyClick(self.view, Qt.Key.Key_K)
        self.assertEqual(self.view.tool.snap, "corner")
        true = middle * [1, 1, 0] + [[0, 0, 0], [0.075, 0, 0.125]]
        for place in true:
            self.view.set_camera(replace(self.view.camera, target=tuple(place), scale=0.006), moving=False)
            self.settle()
            self.click(QPoint(self.view.width() // 2 + 2, self.view.height() // 2 - 1))
        (kept,) = [h for h in self.state().holdings if h.name == "Picked points"]
        points = self.session.job.thing(kept).thing
        near(points.xyz[:, [0, 2]], true[:, [0, 2]], atol=0.004)
        near(points.xyz[:, 1], true[:, 1], atol=0.21)
        self.assertEqual(points.extra["picked as"], ("corner", "corner"))
        self.window.handlers.run("view_plan")
        self.settle()
        said = []
        self.session.said.connect(said.append)
        self.view.tool.snapped(QPointF(self.view.rect().center()))
        self.assertIn("found in a section", said[-1])


class Painted(Sectioned):
    def test_the_centre_of_a_target_in_plan(self):
        """A white square of 0.3 on a dark yard: O takes its middle, though the click is beside it."""
        rng = np.random.default_rng(8)
        xy = rng.uniform(0, 4, (60_000, 2))
        inside = (np.abs(xy - [2.13, 1.87]) < 0.15).all(axis=1)
        level = np.where(inside, 30_000, 6000) + rng.normal(0, 900, len(xy))
        self.open_points(np.column_stack([xy, rng.normal(1.0, 0.002, len(xy))]), 1, level)
        true = np.array([380002.13, 5560001.87, 1.0])
        self.view.set_camera(replace(self.view.camera, target=tuple(true), scale=0.02), moving=False)
        self.settle()
        self.window.handlers.run("measure")
        QTest.keyClick(self.view, Qt.Key.Key_O)
        self.assertEqual(self.view.tool.snap, "target")
        found = self.view.tool.snapped(QPointF(self.view.rect().center()) + QPointF(3, -4))
        near(found, true, atol=0.006)
        said = []
        self.session.said.connect(said.append)
        self.assertIsNone(self.view.tool.snapped(QPointF(self.view.rect().center()) + QPointF(60, 0)))
        self.assertIn("No target", said[-1])

    def test_the_middle_of_a_chequer(self):
        """Four fields of 0.15 on a grey yard, turned: O takes where they meet, and says so."""
        rng = np.random.default_rng(9)
        xy = rng.uniform(0, 4, (120_000, 2))
        u, v = (xy - [2.13, 1.87]) @ [0.9, 0.436], (xy - [2.13, 1.87]) @ [-0.436, 0.9]
        level = np.where(np.maximum(abs(u), abs(v)) > 0.15, 15_000, np.where(u * v > 0, 30_000, 4000))
        self.open_points(np.column_stack([xy, rng.normal(1.0, 0.002, len(xy))]), 1, level + rng.normal(0, 900, len(xy)))
        true = np.array([380002.13, 5560001.87, 1.0])
        self.view.set_camera(replace(self.view.camera, target=tuple(true), scale=0.02), moving=False)
        self.settle()
        self.window.handlers.run("measure")
        QTest.keyClick(self.view, Qt.Key.Key_O)
        said = []
        self.session.said.connect(said.append)
        near(self.view.tool.snapped(QPointF(self.view.rect().center()) + QPointF(3, -4)), true, atol=0.006)
        self.assertIn("chequered", said[-1])


class OwnColours(Sectioned):
    def test_colouring_let_loose_for_one_pane(self):
        self.window.handlers.run("panes:beside")
        self.settle()
        panes = self.window.panes
        style = lambda v: v.scene.clouds[0].style.by  # noqa: E731
        before = self.session.main_cloud().style.get("by", "elevation")
        self.window.handlers.run("own_colours")
        self.window.colouring.colour_by("class")
        self.settle()
        self.assertEqual(sorted(map(style, panes.views())), ["class", "elevation"])
        self.assertEqual(self.session.main_cloud().style.get("by", "elevation"), before, "the job keeps its own")
        self.assertEqual(self.window.strip.colour.currentData(), "class")
        self.assertIn("by class", panes.panes[panes.views().index(self.view)].words.text())
        self.assertEqual(self.session.study.panes, ("beside", f"{PLAN}|class", SECTION))
        self.window.handlers.run("next_pane")
        self.settle()
        self.assertEqual((style(self.view), self.window.strip.colour.currentData()), ("elevation", "elevation"))
        self.assertEqual([style(v) for v in panes.views()], ["class", "elevation"], "each pane keeps what it shows")
        self.window.handlers.run("panes:one")
        self.window.handlers.run("undo") if self.session.job.can_undo else None
        panes.show_kept(("beside", f"{PLAN}|class", SECTION))
        self.settle()
        self.assertEqual([style(v) for v in panes.views()], ["class", "elevation"])
        QTest.mouseClick(panes.panes[0].alone, LEFT, PLAIN)
        self.settle()
        self.assertEqual([style(v) for v in panes.views()], ["elevation", "elevation"])
