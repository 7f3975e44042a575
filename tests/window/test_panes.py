"""Panes beside one another, and a series of sections drawn, stepped and looked at in the window."""

from dataclasses import replace
from unittest import mock

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QInputDialog, QPushButton, QWidget

from kerb.app.scenes import level_along
from kerb.app.tools.editing import EditShapes
from kerb.app.views.panes import ARRANGEMENTS, Companion
from kerb.app.views.view import ORBIT, PLAN, SECTION
from kerb.core.geometry.features import SurveyPoints
from kerb.core.section.frame import Frame
from kerb.core.things import POINTS, Placed
from kerb.job import studies, vault
from kerb.job.state import Holding
from kerb.studies.drawn import Drawn
from tests.support import near
from tests.window.test_window import LEFT, PLAIN, Windowed, wait


class Panes(Windowed):
    def setUp(self):
        super().setUp()
        self.panes = self.window.panes

    def companion(self, mode):
        return next(v for v in self.panes.views() if isinstance(v, Companion) and v.mode == mode)

    def shown(self):
        return [(type(v) is not Companion, v.mode) for v in self.panes.views()]

    def test_every_arrangement_by_its_key(self):
        for number, (name, (_, modes)) in enumerate(ARRANGEMENTS.items(), 1):
            self.window.handlers.run(f"panes:{name}")
            wait(0.05)
            self.settle()
            views = self.panes.views()
            self.assertEqual((self.panes.arrangement, len(views)), (name, len(modes)), number)
            self.assertEqual(self.window.actions_by_id[f"panes:{name}"].shortcut().toString(), f"Ctrl+{number}")
            areas = [v.width() * v.height() for v in views]
            self.assertTrue(all(v.isVisible() and area > 20_000 for v, area in zip(views, areas, strict=True)), areas)
            self.assertTrue(all(v.picture is not None for v in views), "each draws")
            spots = {(v.mapTo(self.window, QPoint()).x(), v.mapTo(self.window, QPoint()).y()) for v in views}
            self.assertEqual(len(spots), len(views), "and none lies on another")
            strip = self.window.strip
            self.assertLessEqual(strip.geometry().right(), self.view.width(), "the controls lie in the pane")
            for control in (*strip.modes.values(), *strip.rest):
                if control.isVisible():
                    self.assertTrue(strip.rect().contains(control.geometry()), (name, control.accessibleName()))
            self.assertTrue(all(w.width() >= min(w.sizeHint().width(), w.maximumWidth()) for w in strip.modes.values()))
        self.window.handlers.run("panes:one")
        self.assertEqual(self.shown(), [(True, PLAN)])
        self.assertFalse(any(c.isVisible() for c in self.panes.companions))

    def test_studies_of_one_and_of_two_panes_by_turns_keep_the_scale(self):
        """What was in sight stays in sight, and is no smaller each time; who zooms meanwhile keeps that."""
        self.window.handlers.run("panes:beside")
        self.settle()
        two = {view: view.camera.scale for view in self.panes.views()}
        for number in range(3):
            for name in ("one", "beside"):
                self.window.handlers.run(f"panes:{name}")
                wait(0.05)
                self.settle()
            for view, scale in two.items():
                near(view.camera.scale / scale, 1.0, 1e-6, number)
        self.view.set_camera(replace(self.view.camera, scale=self.view.camera.scale / 4))
        scale = self.view.camera.scale
        for name in ("one", "beside"):
            self.window.handlers.run(f"panes:{name}")
            wait(0.05)
            self.settle()
        near(self.view.camera.scale / scale, 1.0, 1e-6)

    def test_dark_and_back_keeps_what_each_pane_looks_at(self):
        self.draw_toe()
        self.window.handlers.run("panes:beside")
        self.settle()
        self.panes.activate(self.panes.companions[0])
        self.window.handlers.run("fit")
        self.settle()
        before = [(view.mode, view.camera) for view in self.panes.views()]
        at = self.panes.views().index(self.panes.active)
        for name in ("dark", "light"):
            self.window.switch_theme()
            wait(0.2)
            self.session, self.view, self.panes = self.window.session, self.window.view, self.window.panes
            self.settle()
            self.assertEqual([(view.mode, view.camera) for view in self.panes.views()], before, name)
            self.assertEqual(self.panes.views().index(self.panes.active), at)
            for view in self.panes.views():
                self.assertGreater((view.picture.buffer.rows >= 0).sum(), 500, (name, view.mode))

    def test_in_a_narrow_pane_controls_fold(self):
        strip = self.window.strip
        self.window.resize(980, 620)
        self.window.handlers.run("panes:beside")
        wait(0.1)
        self.settle()
        self.assertLess(self.view.width(), 300)
        self.assertFalse(strip.colour.isVisible())
        self.assertLess(strip.height(), 75)
        QTest.mouseClick(strip.more, LEFT)
        self.assertTrue(strip.colour.isVisible() and strip.filter.isVisible())
        self.assertLessEqual(strip.geometry().right(), self.view.width())
        QTest.mouseClick(strip.more, LEFT)
        self.assertFalse(strip.colour.isVisible())
        self.window.handlers.run("panes:one")
        wait(0.1)
        self.settle()
        self.assertTrue(strip.colour.isVisible())
        self.assertFalse(strip.more.isVisible())

    def test_a_drag_from_another_pane_as_the_platform_sends_it(self):
        """Through the window and not to a widget: the toolkit itself has to find who has the mouse after the exchange."""
        self.window.handlers.run("panes:beside")
        self.settle()
        other = self.companion(SECTION)
        handle, at = self.window.windowHandle(), other.mapTo(self.window, other.rect().center())
        before = other.cameras[SECTION].target
        QTest.mouseMove(handle, at)
        QTest.mousePress(handle, LEFT, PLAIN, at)
        self.assertEqual(self.shown(), [(False, PLAN), (True, SECTION)])
        for k in range(1, 5):
            QTest.mouseMove(handle, at + QPoint(12 * k, 0))
            wait(0.03)
        QTest.mouseRelease(handle, LEFT, PLAIN, at + QPoint(48, 0))
        moved = (np.array(self.view.cameras[SECTION].target) - before) @ self.view.camera.axes[0]
        self.assertAlmostEqual(moved, -48 * self.view.camera.scale, delta=3 * self.view.camera.scale)
        self.assertIsNone(QWidget.mouseGrabber())
        self.assertFalse(self.view._navigating)
        # A click is one too, and nothing that follows without a button goes on with it.
        plan = self.companion(PLAN)
        there = plan.mapTo(self.window, plan.rect().center())
        QTest.mouseMove(handle, there)
        QTest.mouseClick(handle, LEFT, PLAIN, there)
        self.assertEqual(self.shown(), [(True, PLAN), (False, SECTION)])
        target = self.view.camera.target
        QTest.mouseMove(handle, there + QPoint(60, 0))
        wait(0.05)
        self.assertEqual(self.view.camera.target, target)

    def test_a_press_into_another_pane_goes_on_there(self):
        """What each pane shows stays where it is; the tools go with the press, and a drag moves the view under it."""
        self.window.handlers.run("panes:beside")
        self.settle()
        other = self.companion(SECTION)
        plan, where = self.view.cameras[PLAN], other.mapTo(self.window, QPoint())
        at, before = other.rect().center(), other.cameras[SECTION]
        QTest.mousePress(other, LEFT, PLAIN, at)
        self.assertEqual(self.shown(), [(False, PLAN), (True, SECTION)])
        self.assertEqual(self.view.mapTo(self.window, QPoint()), where)
        self.assertEqual(self.companion(PLAN).camera, plan)
        self.assertTrue(self.window.strip.modes[SECTION].isChecked())
        # The press belongs to the widget that got it, wherever that is now.
        for step in (30, 60):
            there = self.view.mapToGlobal(at + QPoint(step, 0))
            QTest.mouseMove(other, other.mapFromGlobal(there))
        QTest.mouseRelease(other, LEFT, PLAIN, other.mapFromGlobal(self.view.mapToGlobal(at + QPoint(60, 0))))
        moved = np.array(self.view.camera.target) - before.target
        near(moved @ self.view.camera.axes[0], -60 * before.scale * self.view.ratio, 2 * before.scale)
        self.settle()
        QTest.keyClick(self.view, Qt.Key.Key_F6)
        self.assertEqual(self.shown(), [(True, PLAN), (False, SECTION)])

    def test_a_line_is_drawn_in_one_pane_and_shown_in_all(self):
        self.window.handlers.run("panes:beside")
        self.companion(SECTION).set_mode(ORBIT)
        self.settle()
        orbit = self.companion(ORBIT)
        before = orbit.grab().toImage()
        ring = np.array([[-8.0, -8], [8, -8], [8, 8], [-8, 8]]) + np.array(self.view.camera.target[:2])
        self.session.commit("Drew it", toe=Drawn.of(ring))
        self.settle()
        wait(0.3)
        self.assertNotEqual(orbit.grab().toImage(), before)

    def test_whole_and_back_and_folded(self):
        self.window.handlers.run("panes:four")
        self.settle()
        small = self.view.width()
        self.window.handlers.run("whole_pane")
        wait(0.05)
        self.assertGreater(self.view.width(), 1.8 * small)
        self.window.handlers.run("whole_pane")
        wait(0.05)
        self.assertAlmostEqual(self.view.width(), small, delta=4)
        pane = self.panes.panes[3]
        QTest.mouseDClick(pane, LEFT, PLAIN, QPoint(60, 8))
        wait(0.05)
        self.assertIs(self.panes.panes[3].view, self.view)
        self.assertFalse(self.panes.panes[0].isVisible())
        self.window.handlers.run("panes:one")
        self.window.handlers.run("fold_all")
        wait(0.1)
        share = self.view.width() * self.view.height() / (self.window.width() * self.window.height())
        self.assertGreater(share, 0.9)
        self.window.handlers.run("fold_all")
        self.assertTrue(self.window.lists.isVisible() and self.window.right.isVisible() and self.window.drawer.isVisible())
        for key, widget in (("fold_left", self.window.lists), ("fold_right", self.window.right)):
            self.window.handlers.run(key)
            self.assertFalse(widget.isVisible())
            self.window.handlers.run(key)
            self.assertTrue(widget.isVisible())

    def test_the_arrangement_is_kept_with_the_study(self):
        first = self.session.study_id
        self.window.handlers.run("panes:three")
        self.settle()
        self.assertEqual(self.session.study.panes, ("three", PLAN, SECTION, ORBIT))
        self.assertFalse(self.session.job.can_undo, "how things look is no step")
        self.window.handlers.run("duplicate_study") if "duplicate_study" in self.window.actions_by_id else None
        self.window.handlers.run("new_study:sections")
        self.assertIsInstance(self.view.tool, EditShapes, "no tool is taken unasked")
        self.window.handlers.run("draw")
        self.settle()
        self.assertEqual(self.panes.now(), ("beside", PLAN, SECTION))
        self.session.select(first)
        self.settle()
        self.assertEqual(self.panes.now(), ("three", PLAN, SECTION, ORBIT))
        self.window.handlers.run("save")
        self.window.handlers.jobs.open_folder(self.place)
        self.settle()
        self.assertEqual(self.panes.now(), ("three", PLAN, SECTION, ORBIT))


class Picks(Windowed):
    def test_points_are_picked_with_one_click_each(self):
        """In plan and in section: the highest of a circle, names that run on, one step of undo each."""
        self.look_at_heap()
        self.window.handlers.run("pick_points")
        tool = self.view.tool
        QTest.keyClick(self.view, Qt.Key.Key_H)
        middle = self.view.rect().center()
        for dx in (0, 40, 80):
            self.click(middle + QPoint(dx, 0))
        (kept,) = [h for h in self.session.job.state.holdings if h.name == "Picked points"]
        points = self.session.job.thing(kept).thing
        self.assertEqual((points.names, points.extra["origin"]), (("P1", "P2", "P3"), ("picked",) * 3))
        store = self.session.job.store(self.session.main_cloud())
        every = store.coordinates(slice(0, store.count))
        radius = 12.0 * self.view.ratio * self.view.camera.scale
        hit = self.view.place_under(QPointF(middle + QPoint(40, 0)))
        around = every[np.hypot(*(every[:, :2] - hit[:2]).T) < radius + 0.3]
        self.assertLessEqual(points.xyz[1, 2], around[:, 2].max() + 1e-6)
        self.assertGreater(points.xyz[1, 2], np.median(around[:, 2]) - 0.05)
        QTest.keyClick(self.view, Qt.Key.Key_Backspace)
        self.assertEqual(tool.name, "P3")
        self.assertEqual(self.session.job.thing(self.session.job.state.holding(kept.id)).thing.names, ("P1", "P2"))
        tool.name, tool.code = "K-09", "kerb"
        self.window.handlers.run("view_section")
        self.settle()
        target = np.array(self.view.camera.target)
        drawn = np.argwhere(self.view.picture.buffer.rows >= 0)
        y, x = (drawn[len(drawn) // 2] / self.view.ratio).tolist()
        self.click(QPoint(round(x), round(y)))
        last = self.session.job.thing(self.session.job.state.holding(kept.id)).thing
        self.assertEqual((last.names[-1], last.codes[-1], tool.name), ("K-09", "kerb", "K-10"))
        off = (last.xyz[-1] - target)[:2] @ np.array(
            [np.sin(np.radians(self.view.camera.heading)), np.cos(np.radians(self.view.camera.heading))]
        )
        self.assertLessEqual(abs(off), self.view.camera.thickness / 2 + 1e-6, "what is picked lies in the slice")
        QTest.keyClick(self.view, Qt.Key.Key_Escape)
        self.assertIs(self.view.tool, self.window.edit_tool)
        self.window.handlers.run("undo")
        self.assertEqual(self.session.job.state.holding(kept.id).points, 2)

    def test_a_section_looks_at_the_ground_along_its_line(self):
        store = self.session.job.store(self.session.main_cloud())
        places = store.coordinates(slice(0, store.count))
        middle = np.median(places[:, :2], axis=0)
        line = middle + np.array([[-6.0, -3.0], [8.0, 1.0]])
        length = np.hypot(*(line[1] - line[0]))
        way = (line[1] - line[0]) / length
        along, aside = ((places[:, :2] - line[0]) @ turn for turn in (way, [-way[1], way[0]]))
        beside = (np.abs(aside) < 0.7) & (along > 0) & (along < length)
        found = level_along(self.session, line, 0.7)
        self.assertAlmostEqual(found, np.median(places[beside, 2]), delta=0.05)
        self.assertIsNone(level_along(self.session, line + 1e4, 0.7))
        self.window.handlers.views.frame = Frame(0.0, tuple(line.mean(axis=0)), np.arctan2(*way), length, 0.5)
        camera = self.window.handlers.views.section_camera(self.view)
        self.assertAlmostEqual(camera.target[2], found, delta=0.2)
        self.window.handlers.views.frame = None


class Accuracy(Windowed):
    def test_from_points_to_proof(self):
        """A list of points, one press for the figure, the table by keys, the bias out, and the report of both."""
        job = self.session.job
        store = job.store(self.session.main_cloud())
        some = store.coordinates(np.sort(np.random.default_rng(2).choice(store.count, 24, replace=False))) - [0, 0, 0.08]
        roles = tuple("control" if n < 6 else "check" for n in range(24))
        thing = SurveyPoints(some, tuple(f"{'K' if n < 6 else 'C'}{n}" for n in range(24)), ("",) * 24, {"role": roles})
        vault.save_thing(job.folder / "data" / "cp", Placed(POINTS, thing, store.reference))
        self.session.execute(studies.put_in("points", Holding("cp", "checkpoints", POINTS, data="data/cp", points=24)))
        self.window.handlers.run("new_study:accuracy")
        self.settle()
        self.assertAlmostEqual(self.session.outcome().value("mean"), 0.08, places=6)
        self.assertEqual(self.window.panes.now()[0], "three")
        self.window.drawer.choose("table", "points")
        wait(0.1)
        table = self.window.drawer.table
        table.setFocus()
        table.selectRow(0)
        QTest.keyClick(table, Qt.Key.Key_Down)
        self.settle()
        for view in self.window.panes.views():
            near(np.array(view.camera.target)[:2], some[1, :2], 1e-6)
            self.assertLessEqual(view.camera.scale * view.pixels[0], 30.001)
        across = [view.camera for view in self.window.panes.views() if view.mode == SECTION]
        self.assertEqual([(c.heading, c.tilt, c.thickness) for c in across], [(0.0, 0.0, 0.4), (90.0, 0.0, 0.4)])
        marks = self.window.area.marks
        self.assertEqual(len(marks), 3, "the corners of the triangle that decides its height are marked")
        self.assertLess(np.hypot(*(marks[:, :2] - some[1, :2]).T).min(), 0.01)
        self.roles_by_the_table(table)
        self.measured_from_a_point(some[1])
        self.window.handlers.run("correct_study:mean")
        self.settle()
        self.assertRegex(self.session.job.state.holdings[-1].name, r"lowered by 0\.080")
        self.assertFalse(self.session.job.state.holdings[0].visible)
        self.assertIn(", after", self.session.study.name)
        self.assertAlmostEqual(self.session.outcome().value("mean"), 0.0, places=6)
        self.assertFalse(self.complaints)
        self.window.handlers.run("undo")
        self.settle()
        self.assertTrue(self.session.job.state.holdings[0].visible)

    def roles_by_the_table(self, table):
        """Rows are left out with a reason and made check points again, each one step."""
        drawer = self.window.drawer
        self.assertEqual(drawer.chosen_names(), ("K1",))
        steps = {step.label.partition(":")[0].rstrip("…"): step for step in drawer.row_steps()}
        with mock.patch.object(QInputDialog, "getText", return_value=("in the grass", True)):
            drawer.take_row_step(steps["Leave out"], ("C9",))
        self.settle()
        self.assertEqual(self.session.setup.left_out, "C9 in the grass")
        self.assertEqual(self.session.outcome().value("n"), 17)
        self.assertIn("Leave out: C9", self.session.job.can_undo)
        drawer.take_row_step(steps["Check"], ("C9",))
        self.settle()
        self.assertEqual(self.session.outcome().value("n"), 18)
        drawer._row_menu(QPoint(5, 5))
        self.assertEqual(len(drawer.menu_shown.actions()), 3)
        drawer.menu_shown.close()
        path = self.place.parent / "points.xlsx"
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(path), "Excel workbook (*.xlsx)")):
            drawer._save()
        self.assertGreater(path.stat().st_size, 2000)

    def measured_from_a_point(self, place):
        """A click on a survey point means it, to its last digit; then how far the cloud lies from it."""
        while self.view.mode != PLAN:
            self.window.handlers.run("next_pane")
        self.settle()
        self.window.handlers.run("measure")
        tool = self.view.tool
        at = self.view.to_widget(place[None])[0]
        near(tool.snapped(QPointF(*at) + QPointF(3, -2)), place, 1e-9)
        tool.take(place)
        tool.take(place + [0.03, -0.04, 0.08])
        self.assertIn("dE +0.030", tool.lines()[1])
        self.assertIn("dN −0.040", tool.lines()[1])
        self.assertIn("dZ +0.080", tool.lines()[1])
        self.window.stage.use_edit_tool()


class Series(Windowed):
    def test_stations_are_picked_in_plan(self):
        """Clicks beside the line add the stations square to them, each a step; far off the end nothing is added."""
        self.window.handlers.run("new_study:sections")
        self.window.handlers.run("draw")
        self.settle()
        middle = QPointF(self.view.rect().center())
        for dx in (-120, 120):
            QTest.mouseClick(self.view, LEFT, PLAIN, (middle + QPointF(dx, 0)).toPoint())
        QTest.keyClick(self.view, Qt.Key.Key_Return)
        self.settle()
        self.assertEqual([b.text() for b in self.window.sheet.fields["stations"].findChildren(QPushButton)], ["Pick in plan"])
        self.window.handlers.run("pick_place:stations")
        scale, start = self.view.camera.scale, self.session.setup.line.places[0]
        for dx, dy in ((-60, 25), (30, -40)):
            QTest.mouseClick(self.view, LEFT, PLAIN, (middle + QPointF(dx, dy)).toPoint())
            self.settle()
        found = [float(word.replace("+", "")) for word in self.session.setup.stations.split(", ")]
        at = [self.view.camera.target[0] + dx * scale - start[0] for dx in (-60, 30)]
        near(found, at, 2 * scale)
        near([row[0] for row in self.session.outcome().tables["sections"].rows], found, 0.006)
        QTest.keyClick(self.view, Qt.Key.Key_Backspace)
        self.settle()
        self.assertEqual(len(self.session.setup.stations.split(", ")), 1)
        QTest.keyClick(self.view, Qt.Key.Key_Escape)
        self.assertIs(self.view.tool, self.window.edit_tool)

    def test_one_along_the_line(self):
        """Two clicks and the way: the section pane looks along them, and goes with a vertex that is dragged."""
        self.window.handlers.run("new_study:sections")
        self.window.handlers.run("draw")
        self.settle()
        middle = QPointF(self.view.rect().center())
        for dx in (-90, 90):
            QTest.mouseClick(self.view, LEFT, PLAIN, (middle + QPointF(dx, 0)).toPoint())
        QTest.keyClick(self.view, Qt.Key.Key_Return)
        self.session.commit("Along", way="along")
        self.settle()
        wait(0.2)
        other = next(v for v in self.window.panes.views() if isinstance(v, Companion))
        self.assertEqual(other.mode, SECTION)
        near(min(other.camera.heading, 360 - other.camera.heading), 0.0, 1.0)
        self.assertEqual(other.camera.thickness, 0.5)
        before = self.session.setup.line.places
        self.window.handlers.run("section_forward")
        self.settle()
        wait(0.2)
        near(self.session.setup.line.places - before, np.tile([0, 0.5], (2, 1)), 0.02)
        near(np.array(other.camera.target)[1], before[:, 1].mean() + 0.5, 0.02)
        self.window.handlers.run("section_back")
        self.settle()
        near(self.session.setup.line.places, before, 1e-6)
        self.window.handlers.run("section_flip")
        near(other.camera.heading, 180.0, 1.0)
        self.window.handlers.run("section_flip")
        first = self.session.setup.line.places[0]
        self.drag(self.at(*first, self.session.outcome().tables["line"].rows[0][2]), self.at(*(first + [0, 20]), 0))
        self.settle()
        wait(0.3)
        self.assertGreater(min(other.camera.heading, 360 - other.camera.heading), 2.0)

    def test_sections_are_drawn_stepped_and_looked_at(self):
        """A line by mouse, ten sections at once; keys in the drawer step, and the section pane goes with them."""
        self.window.handlers.run("new_study:sections")
        self.window.handlers.run("draw")
        self.settle()
        middle = QPointF(self.view.rect().center())
        for dx in (-90, 90):
            QTest.mouseClick(self.view, LEFT, PLAIN, (middle + QPointF(dx, 0)).toPoint())
        QTest.keyClick(self.view, Qt.Key.Key_Return)
        self.settle()
        self.assertEqual(self.session.study.found.value, len(self.session.outcome().charts[0].names))
        self.assertGreaterEqual(self.session.study.found.value, 8)
        wait(0.2)
        chart = next(w for kind, w in self.window.drawer._charts.items() if kind == "Sections")
        self.assertTrue(chart.isVisible())
        QTest.keyClick(chart.plot, Qt.Key.Key_PageDown)
        QTest.keyClick(chart.plot, Qt.Key.Key_Right)
        self.assertEqual(chart.number, 2)
        other = next(v for v in self.window.panes.views() if isinstance(v, Companion))
        self.assertEqual(other.mode, SECTION)
        frame = chart.frame()
        near(np.array(other.camera.target)[:2], frame.place, 1e-6)
        self.assertAlmostEqual(other.camera.heading, np.degrees(frame.azimuth) % 360, places=6)
        self.assertEqual(other.camera.thickness, frame.thickness)
        chart.field.setEditText(f"{frame.station + 3 * (chart.chart.frames[1, 0] - chart.chart.frames[0, 0]):.2f}")
        QTest.keyClick(chart.field.lineEdit(), Qt.Key.Key_Return)
        self.assertEqual(chart.number, 5)
        for step in (0, 3):
            QTest.mouseMove(other, other.rect().center() + QPoint(step, 0))
        wait(0.1)
        self.assertIn("offset", self.window.status.place.text())
        QTest.keyClick(chart.forth, Qt.Key.Key_PageUp)
        self.assertEqual(chart.number, 4)
        self.assertIn("5 of", chart.words.text())
        self.window.handlers.run("section_forward")
        self.window.handlers.run("section_back")
        self.assertEqual(chart.number, 4)
        self.session.commit("Thicker", thickness=2.0)
        self.settle()
        wait(0.2)
        self.assertEqual(chart.number, 4, "the station that was looked at stays")
        self.assertEqual(other.camera.thickness, 2.0)
