"""Surfaces, cut and fill, change and alignment in the window: by mouse, in the sheet, to the report."""

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QColor, QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel, QPushButton

from kerb.app.dialogs.deliver import Deliver
from kerb.app.dialogs.surface_look import SurfaceLook
from kerb.app.panels.drawer import CHART, TABLE
from kerb.app.shapes import elevated
from kerb.app.tools.drawing import DrawShape
from kerb.app.tools.moving import MoveByEye
from kerb.core.cloud.sieve import Sieve
from kerb.core.errors import InputError
from kerb.core.geometry.features import Line, LineSet
from kerb.core.geometry.rigid import Rigid
from kerb.core.things import LINES, Placed
from kerb.demo import yard
from kerb.draw.scene import value_map
from kerb.job import holdings, studies, vault
from kerb.job.job import Change, Job
from kerb.job.state import Holding
from kerb.report.deliver import chapter_of
from kerb.report.plan import plan_of
from kerb.studies.drawn import Drawn
from kerb.studies.scope import Scope
from tests.support import near
from tests.window.test_window import HEAP, LEFT, PLAIN, Windowed, wait

SQUARE = np.array([[-14.0, -14], [14, -14], [14, 14], [-14, 14]]) + yard.ORIGIN + HEAP.centre


class Ground(Windowed):
    sieve = Sieve(every=3)

    def setUp(self):
        super().setUp()
        self.look_at_heap()
        self.holding = self.session.main_cloud()

    def twin(self, move, name):
        """A copy of the cloud, moved."""
        change, made = holdings.duplicated(self.session.job, self.holding)
        self.session.execute(change)
        after = replace(made, placement=move, name=name, visible=False)
        self.session.execute(Change("Moved it", lambda state: state.with_holding(after)))
        return made.id

    def test_a_surface_of_what_was_selected(self):
        """A box in plan, one choice of the bar's menu: a part, and a surface through it as a holding; undo takes all back."""
        self.window.handlers.points.select_with("outline")
        self.window.actions_by_id["select_points"].trigger()
        QTest.mousePress(self.view, LEFT, PLAIN, QPoint(200, 150))
        for k in range(1, 4):
            QTest.mouseMove(self.view, QPoint(200 + 70 * k, 150 + 60 * k))
        QTest.mouseRelease(self.view, LEFT, PLAIN, QPoint(410, 330))
        self.settle()
        chosen = self.window.selection.count
        self.assertGreater(chosen, 50)
        menu = self.window.selection_bar._more_menu()
        action = next(a for a in menu.actions() if a.text() == "Surface of it")
        action.trigger()
        self.settle()
        study = self.session.study
        self.assertEqual((study.kind, self.session.setup.cloud.part), ("surface", "for surface"))
        outcome = self.session.shown().outcome
        self.assertLessEqual(outcome.value("vertices"), chosen)
        self.assertGreater(outcome.value("vertices"), 0.9 * chosen)
        made = self.session.job.state.holdings[-1]
        self.assertEqual((made.kind, made.points), ("surface", int(outcome.value("triangles"))))
        self.looks_otherwise()
        for _ in range(12):
            if not self.session.job.state.studies or self.session.job.state.holdings[0].parts == ():
                break
            self.session.undo()
        self.assertEqual(self.session.job.state.holdings[0].parts, ())

    def looks_otherwise(self):
        """By keys: what surfaces are coloured by, with a legend of its own; their edges; their contour lines. No steps."""
        steps = len(self.session.job.record)
        self.window.handlers.run("surface_look")
        dialog = self.window.findChild(SurfaceLook)
        for title, unit, limits in (("Slope", "deg", None), ("Aspect", "deg", (0.0, 360.0))):
            dialog.by.setFocus()
            QTest.keyClick(dialog.by, Qt.Key.Key_Down)
            self.settle()
            legend = self.window.surface_legend
            self.assertEqual((legend.isHidden(), legend.title, legend.unit), (False, title, unit))
            self.assertEqual(legend.limits, limits or (0.0, self.view.scene.meshes[0].steepest))
            self.assertEqual(self.view.scene.meshes[0].by, title.lower())
        QTest.mouseClick(dialog.edges, LEFT, PLAIN, QPoint(8, 8))
        for text, interval in (("0,5", 0.5), ("x", 0.0)):
            dialog.contour.setFocus()
            dialog.contour.clear()
            QTest.keyClicks(dialog.contour, text)
            QTest.keyClick(dialog.contour, Qt.Key.Key_Tab)
            self.settle()
            mesh = self.view.scene.meshes[0]
            self.assertEqual((mesh.edges, mesh.contour, self.view.scene.interval), (True, interval, interval))
        dialog.accept()
        self.assertEqual(len(self.session.job.record), steps)

    def test_cut_and_fill_against_a_level_with_an_area_that_is_dragged(self):
        self.window.handlers.run("new_study:cutfill")
        self.settle()
        self.assertIn("Choose the later surface", self.session.shown().words)
        sheet = self.window.sheet
        field = sheet.fields["level"].field
        field.setFocus()
        QTest.keyClicks(field, "4.0")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.settle()
        self.assertEqual(self.session.setup.level, 4.0)
        self.window.handlers.run("draw")
        self.assertIsInstance(self.view.tool, DrawShape)
        for place in SQUARE:
            self.click(self.at(*place))
        QTest.keyClick(self.view, Qt.Key.Key_Return)
        self.settle()
        self.window.handlers.run("compute")
        self.settle()
        outcome = self.session.shown().outcome
        self.assertFalse(outcome.live)
        near(outcome.value("fill") - outcome.value("cut"), outcome.value("net"), 1e-6)
        near(outcome.value("check_net") / outcome.value("net"), 1.0, 0.02)
        self.assertEqual(len(outcome.tables["areas"].rows), 1)
        # Areas of a drawing become stable ground where its own button is pressed; and nowhere else.
        lines = LineSet((Line(np.array([[*p, 0.0] for p in SQUARE]), True, "plate"),))
        vault.save_thing(self.place / "data" / "l", Placed(LINES, lines, self.session.job.state.title.reference_system()))
        drawing = Holding("l", "Drawing", LINES, data="data/l", points=1)
        self.session.execute(Change("Drawing", lambda state: state.with_holding(drawing)))
        button = next(b for b in sheet.findChildren(QPushButton) if b.accessibleName() == "Stable ground: from a holding…")
        self.assertIn("Stable ground: none yet", [label.text() for label in sheet.findChildren(QLabel)])
        button.click()
        self.settle()
        setup = self.session.setup
        self.assertEqual([len(setup.areas), [item.name for item in setup.stable]], [1, ["plate"]])
        self.session.undo()
        start = self.at(*self.session.setup.areas[0].ring.xy[2])
        QTest.mousePress(self.view, LEFT, PLAIN, start)
        QTest.mouseMove(self.view, start + QPoint(20, -20))
        wait(0.5)
        live = self.session.shown().outcome
        self.assertTrue(live is None or live.live)
        QTest.mouseRelease(self.view, LEFT, PLAIN, start + QPoint(20, -20))
        self.settle()
        self.window.handlers.run("compute")
        self.settle()
        drawer = self.window.drawer
        drawer.choose(TABLE, "uncertainty")
        self.assertEqual(drawer.rows.rowCount(), 5)
        drawer.choose(CHART, "0")
        dialog = Deliver(self.session, self.window)
        dialog.show()
        self.settle()
        dialog.close()
        dialog.deleteLater()

    def test_what_a_new_study_begins_with(self):
        """The only other one there is, the earlier and the later by date or as they came in; of three the only one of another date."""
        self.assertEqual(studies.begun(self.session.job.state, "cutfill", self.holding).later, Scope())
        twin = self.twin(Rigid(), "Twin")
        cloud = lambda key: self.session.job.state.holding(key)  # noqa: E731
        for dates, pair in (
            (("", ""), 0), (("2026-03-01", "2026-05-01"), 0), (("2026-05-01", "2026-03-01"), 1), (("2026-05-01", ""), 0),
        ):  # fmt: skip
            for key, date in zip((self.holding.id, twin), dates, strict=True):
                state = self.session.job.state
                self.session.execute(holdings.altered(state.holding(key), "Dated", epoch=date))
            setup = studies.begun(self.session.job.state, "cutfill", cloud(self.holding.id))
            wanted = [self.holding.id, twin]
            self.assertEqual([setup.earlier.holding, setup.later.holding], wanted[::-1] if pair else wanted)
            change = studies.begun(self.session.job.state, "change", cloud(twin))
            self.assertEqual([change.against.holding, change.compared.holding], wanted[::-1] if pair else wanted)
            self.assertEqual(studies.begun(self.session.job.state, "align", cloud(self.holding.id)).to, Scope(twin))
            self.assertEqual(studies.begun(self.session.job.state, "stockpile", cloud(self.holding.id)).surface, Scope())
        third = self.twin(Rigid(), "Third")
        for dates, later in ((("2026-03-01", "2026-05-01", ""), twin), (("", "2026-05-01", ""), ""),
                             (("2026-03-01", "2026-05-01", "2026-06-01"), ""), (("2026-03-01", "2026-03-01", "2026-06-01"), third)):  # fmt: skip
            for key, date in zip((self.holding.id, twin, third), dates, strict=True):
                self.session.execute(holdings.altered(cloud(key), "Dated", epoch=date))
            self.assertEqual(studies.begun(self.session.job.state, "cutfill", cloud(self.holding.id)).later, Scope(later))

    def test_change_and_alignment_of_a_moved_copy(self):
        """A copy 0.12 m higher: change says so with its sign; brought into line, a corrected copy lies where the first does."""
        other = self.twin(Rigid(shift=(0.0, 0.0, 0.12)), "Later")
        self.window.handlers.run("new_study:change")
        self.session.commit("set", compared=Scope(other), against=Scope(self.holding.id), method="plane")
        self.window.handlers.run("compute")
        self.settle()
        near(self.session.shown().outcome.value("median"), 0.12, 0.01)
        self.assertIn("distance", self.session.shown().outcome.attributes)
        self.probe_by_clicks()
        self.window.handlers.run("new_study:align")
        self.session.commit("set", moving=Scope(other), to=Scope(self.holding.id))
        self.window.handlers.run("compute")
        self.settle()
        outcome = self.session.shown().outcome
        near(outcome.value("shift_z"), -0.12, 0.01)
        self.window.handlers.run("correct_study")
        self.settle()
        moved = self.session.job.state.holdings[-1]
        near(np.array(moved.placement.shift)[2], 0.0, 0.01)
        self.assertFalse(self.session.job.state.holding(other).visible)

    def test_a_job_of_surfaces_without_a_cloud(self):
        """Two surfaces are compared and contoured; what is asked of a cloud says so; a new surface is what is mended next."""
        self.window.handlers.run("new_study:surface")
        self.settle()
        self.session.commit("set", keep=True, spacing=0.5)
        self.window.handlers.run("compute")
        self.settle()
        state = self.session.job.state
        made = [h for h in state.holdings if h.kind == "surface"]
        self.assertEqual(studies.begun(state, "mend", self.holding).surface, Scope(made[-1].id))
        self.assertEqual(studies.begun(state, "cutfill", self.holding).earlier, Scope(self.holding.id))
        change, twin = holdings.duplicated(self.session.job, made[-1])
        self.session.execute(change)
        self.session.execute(Change("Only surfaces", lambda s: replace(s, holdings=(made[-1], twin), studies=())))
        self.settle()
        can = self.window.actions_by_id
        self.assertFalse(can["new_study:stockpile"].isEnabled())
        for kind in ("cutfill", "contours", "mend"):
            self.assertTrue(can[f"new_study:{kind}"].isEnabled(), kind)
            self.window.handlers.run(f"new_study:{kind}")
            self.settle()
            if kind != "mend":
                self.assertTrue(self.session.shown().whole, kind)
        self.assertEqual(self.session.job.state.studies[0].found is not None, True)
        with self.assertRaisesRegex(InputError, "Bring a cloud in first"):
            studies.begun(self.session.job.state, "stockpile", None)
        with self.assertRaisesRegex(InputError, "a cloud or a surface"):
            studies.begun(replace(state, holdings=()), "cutfill", None)

    def test_a_study_that_lies_out_of_sight_is_shown_when_it_is_opened(self):
        """By a click in the list; where any of it is in sight the view stays."""
        self.window.handlers.run("new_study:change")
        ring = Drawn.of(np.array([[-9.0, -9], [9, -9], [9, 9], [-9, 9]]) + yard.ORIGIN + HEAP.centre)
        self.session.commit("set", compared=Scope(self.holding.id), against=Scope(self.twin(Rigid(), "Twin")), area=ring)
        self.window.handlers.run("compute")
        self.settle()
        key = self.session.study_id
        self.window.handlers.run("new_study:contours")
        self.settle()
        self.window.handlers.run("panes:one")
        self.settle()
        for away, moved in ((15.0, False), (400.0, True)):
            self.look_at_heap()
            camera = self.view.camera
            camera = replace(camera, target=(camera.target[0] + away, *camera.target[1:]))
            self.view.set_camera(camera)
            QTest.mouseClick(self.window.lists.rows[key], LEFT, PLAIN, QPoint(80, 15))
            self.settle()
            middle = self.view.to_widget(np.append(yard.ORIGIN + HEAP.centre, 5.0)[None])[0]
            self.assertEqual(self.view.camera.target[:2] != camera.target[:2], moved)
            if moved:
                self.assertTrue(0 < middle[0] < self.view.width() and 0 < middle[1] < self.view.height())

    def probe_by_clicks(self):
        """Two, and later two more beside them; no line joins them, and each is in the table."""
        editor, middle = self.window.sheet.fields["probes"], self.at(*(yard.ORIGIN + HEAP.centre))
        for more, words in (((-60, 0), "Draw probes"), ((60, 50), "Draw more")):
            self.assertEqual(editor.draw.text(), words)
            QTest.mouseClick(editor.draw, LEFT)
            for step in more:
                self.click(middle + QPoint(step, 30))
            QTest.keyClick(self.view, Qt.Key.Key_Return)
            self.settle()
        drawn = self.session.setup.probes
        self.assertEqual((editor.words.text(), len(drawn.xy), drawn.z), ("4 places", 4, ()))
        self.assertEqual(len(self.session.shown().outcome.tables["probes"].rows), 4)
        one, other = (self.at(*place) for place in drawn.xy[:2])
        pixels = self.view.grab().toImage()
        edge = QColor(self.view.theme.edge).rgb()
        between = (one * 3 + other) / 4
        around = {pixels.pixel(between.x(), between.y() + k) for k in range(-2, 3)}
        self.assertNotIn(edge, around, "single places are not joined")
        self.assertFalse(self.view.tool._insert_at(self.view.tool.shapes()[0], QPointF(between)))

    def test_moved_by_eye_and_then_refined(self):
        """A copy far off: dragged and turned in plan, lifted in section, arrows for millimetres, a drag taken back; Enter keeps it as
        the start, from which closest points go on; Esc keeps nothing. The views follow all the way."""
        turn = Rigid.turned(7.0, self.session.open_job.bounds_of(self.holding)[0], np.array([6.0, -4.0, 0.8]))
        other = self.twin(turn, "Later")
        self.window.handlers.run("new_study:align")
        self.session.commit("set", moving=Scope(other), to=Scope(self.holding.id))
        self.window.handlers.run("move_by_eye")
        tool = self.view.tool
        self.assertIsInstance(tool, MoveByEye)
        self.assertTrue(self.session.job.state.holding(other).visible)
        middle = np.array(tool.motion.about)
        whole = turn.inverse()
        wanted = whole(middle[None])[0] - middle

        def drag(start, end, how=PLAIN):
            for kind, at in (
                (QEvent.Type.MouseButtonPress, start), (QEvent.Type.MouseMove, end), (QEvent.Type.MouseButtonRelease, end),
            ):  # fmt: skip
                event = QMouseEvent(kind, QPointF(*at), self.view.mapToGlobal(QPointF(*at)), LEFT, LEFT, how)
                QApplication.sendEvent(self.view, event)
            self.settle()

        pixel = self.view.ratio * self.view.camera.scale
        start = np.array([300.0, 200.0])
        drag(start, start + np.array([wanted[0], -wanted[1]]) / pixel)
        near(tool.motion.shift[:2], wanted[:2], 1e-6)
        here = self.view.to_widget(middle + np.array(tool.motion.shift))[0]
        angle = np.radians(-7.0)
        away = np.array([np.cos(angle), np.sin(angle)]) * 80
        drag(here + [80.0, 0], here + away, Qt.KeyboardModifier.ControlModifier)
        near(tool.motion.matrix, whole.matrix, 1e-6)
        self.view.setFocus()
        QTest.keyClick(self.view, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
        near(tool.motion.shift[0] - wanted[0], 0.01, 1e-6)
        self.window.handlers.undo()
        near(tool.motion.shift[0] - wanted[0], 0.0, 1e-6)
        QTest.keyClick(self.view, Qt.Key.Key_Up, Qt.KeyboardModifier.ControlModifier)
        self.window.handlers.undo()
        self.window.handlers.run("look_north")
        self.settle()
        self.assertIs(self.view.tool, tool)
        drag(start, start - [0, wanted[2] / (self.view.ratio * self.view.camera.scale)])
        near(tool.motion.shift, wanted, 1e-6)
        shown = next(layer for layer in self.view.scene.clouds if layer.store.placement is None or layer.store.placement.still)
        near(shown.store.coordinates(slice(0, 50)), self.session.job.store(self.holding).coordinates(slice(0, 50)), 1e-4)
        QTest.keyClick(self.view, Qt.Key.Key_Down)
        QTest.keyClick(self.view, Qt.Key.Key_Return)
        self.settle()
        self.assertIsNone(self.session.held)
        self.assertEqual(len(self.session.setup.start.split()), 16)
        near(self.session.shown().outcome.value("rotation"), 7.0, 0.01)
        self.window.handlers.run("move_by_eye")
        QTest.keyClick(self.view, Qt.Key.Key_Left)
        before = self.session.setup
        QTest.keyClick(self.view, Qt.Key.Key_Escape)
        self.assertEqual((self.session.setup, self.session.held), (before, None))

    def test_a_surface_is_mended_by_steps(self):
        """A step from the menu, drawn by mouse; its value typed in the table; left out by its tick; each taken back by undo."""
        self.window.handlers.run("new_study:mend")
        self.settle()
        self.assertIn("Add a step", self.session.shown().words)
        editor = self.window.sheet.fields["steps"]
        more = next(b for b in editor.findChildren(QPushButton) if b.menu() is not None)
        next(a for a in more.menu().actions() if a.text() == "Raised by").trigger()
        tool = self.view.tool
        self.assertIsInstance(tool, DrawShape)
        self.assertTrue(tool.closed)
        for place in SQUARE * 0.5 + 0.5 * (yard.ORIGIN + HEAP.centre):
            self.click(self.at(*place))
        QTest.keyClick(self.view, Qt.Key.Key_Return)
        self.settle()
        self.assertEqual(self.session.setup.steps[0].value("way"), "raise")
        self.assertIn("needs a height", self.session.shown().words)
        table = editor.table
        self.assertEqual([table.item(0, k).text() for k in range(3)], ["Raised by 1", "Raised by", ""])
        table.item(0, 2).setText("0.5")
        self.settle()
        live = self.session.shown().outcome
        self.assertTrue(0 < live.value("raised") < 0.5 * 14 * 14)
        next(a for a in more.menu().actions() if a.text() == "Vertex").trigger()
        self.assertFalse(self.view.tool.closed)
        self.click(self.at(*(yard.ORIGIN + HEAP.centre)))
        QTest.keyClick(self.view, Qt.Key.Key_Return)
        self.settle()
        self.is_lifted("Vertex 1")
        self.session.compute()
        self.settle()
        rows = self.session.shown().outcome.tables["steps"].rows
        self.assertEqual([row[2] for row in rows], ["Raised by", "Vertex"])
        raised = self.session.shown().outcome.value("raised")
        table.item(0, 0).setCheckState(Qt.CheckState.Unchecked)
        self.settle()
        self.assertLess(self.session.shown().outcome.value("raised"), 0.01 * raised)
        for _ in range(3):
            # What was computed meanwhile is a step of its own.
            if not self.session.setup.steps[0].taken:
                self.session.undo()
                self.settle()
        self.assertTrue(self.session.setup.steps[0].taken)
        self.window.handlers.run("draw:steps/river")
        self.assertIn("one bank", self.view.tool.hint)

    def is_lifted(self, label):
        """With Ctrl, seen from the side, a vertex goes up with the mouse and stays where it is in plan; with keys as well. Seen from
        above it cannot be told how high, which is said."""
        tool, said = self.window.edit_tool, []
        self.session.said.connect(said.append)
        self.window.stage.use_edit_tool()
        shape = lambda: next(s for s in tool.shapes() if s.label == label)  # noqa: E731
        for way, up in (("look_north", 60), ("view_plan", 30)):
            self.window.handlers.run(way)
            self.settle()
            before = elevated(self.session.shown().outcome, shape(), self.view.camera.target[2])[0]
            start = tool._points(shape())[0]
            for kind, button, at in (
                (QEvent.Type.MouseButtonPress, LEFT, start), (QEvent.Type.MouseMove, LEFT, start - QPointF(25, up / 2)),
                (QEvent.Type.MouseMove, LEFT, start - QPointF(9, up)), (QEvent.Type.MouseButtonRelease, LEFT, start - QPointF(9, up)),
            ):  # fmt: skip
                event = QMouseEvent(kind, at, self.view.mapToGlobal(at), button, button, Qt.KeyboardModifier.ControlModifier)
                QApplication.sendEvent(self.view, event)
            self.settle()
            after = shape().drawn
            near(after.xy[0], before[:2], 1e-9)
            if way == "view_plan":
                self.assertIn("Seen from too far above", said[-1])
                self.assertEqual(after.level(0), before[2])
            else:
                near(after.level(0), before[2] + up * self.view.ratio * self.view.camera.scale, 1e-6)
                self.view.setFocus()
                QTest.keyClick(self.view, Qt.Key.Key_PageDown, Qt.KeyboardModifier.ShiftModifier)
                QTest.keyClick(self.view, Qt.Key.Key_Return)
                self.settle()
                near(shape().drawn.level(0), after.level(0) - 60 * self.view.ratio * self.view.camera.scale, 1e-6)

    def test_the_map_has_a_legend_that_colours_it(self):
        """Title, unit and even limits; typed limits and bands are kept with the study, in view and report; undo needs no step."""
        other = self.twin(Rigid(shift=(0.0, 0.0, 0.3)), "higher")
        self.window.handlers.run("new_study:cutfill")
        self.settle()
        self.session.commit("later", later=Scope(other))
        self.session.compute()
        self.settle()
        legend = self.window.surface_legend
        self.assertTrue(legend.isVisible())
        self.assertEqual((legend.title, legend.unit), ("Change", "m"))
        self.assertAlmostEqual(legend.limits[0], -legend.limits[1])
        legend.set_limits("-0.5 0.5")
        legend.set_bands("-0.2 -0.05 0.05 0.2")
        self.settle()
        mesh = value_map(self.view.scene)
        self.assertEqual((mesh.limits, mesh.bands), ((-0.5, 0.5), (-0.2, -0.05, 0.05, 0.2)))
        study = self.session.study
        self.session.job.save()
        again = Job.open(self.session.job.folder)
        self.assertEqual(next(s for s in again.state.studies if s.id == study.id).look["bands"], [-0.2, -0.05, 0.05, 0.2])
        chapter = chapter_of(self.session.job, study, self.session.outcome(study))
        plan = plan_of(chapter.cloud, chapter.outcome, look=chapter.look)
        self.assertEqual(value_map(plan.scene).bands, (-0.2, -0.05, 0.05, 0.2))
        legend.set_limits("")
        self.settle()
        self.assertAlmostEqual(*np.abs(value_map(self.view.scene).limits))
        self.assertEqual(legend.style_.bands, (-0.2, -0.05, 0.05, 0.2))

    def test_pairs_are_picked_by_clicks(self):
        """Moving, fixed, moving, fixed …: four pairs, each half a step to take back; a half pair is told; then the motion."""
        other = self.twin(Rigid(shift=(0.0, 0.0, 0.4)), "higher")
        self.window.handlers.run("new_study:align")
        self.session.commit("both", moving=Scope(other), to=Scope(self.holding.id))
        wait(0.1)  # until the views stand beside each other, not until what lies far apart is searched
        self.window.handlers.run("pick_place:pairs")
        places = np.array([[-9.0, -7], [8, -6], [2, 9], [-3, 1]]) + yard.ORIGIN + HEAP.centre
        for number, place in enumerate(places):
            self.click(self.at(*place))
            self.assertEqual(len(self.session.setup.pairs.split(";")), number + 1)
            self.click(self.at(*place))
        QTest.keyClick(self.view, Qt.Key.Key_Backspace)
        self.settle()
        self.assertIn("pick the same place", self.session.shown().words)
        self.click(self.at(*places[-1]))
        self.session.compute()
        self.settle()
        outcome = self.session.shown().outcome
        self.assertAlmostEqual(outcome.value("shift_z"), -0.4, delta=0.002)
        self.assertLess(outcome.value("rms"), 0.002)
        # What comes to nothing by itself is told in the sheet; only who pressed a button is stopped by it.
        complaints = []
        self.session.complained.connect(lambda *words: complaints.append(words))
        self.session.commit("pairs", pairs="A 0 0 0 0 0 0; B 1 1 1 1 1 1; C 2 2 2 2 2 2")
        self.session.rest()
        self.settle()
        self.assertEqual(complaints, [])
        self.assertIn("along a line", self.session.shown().words)
        self.session.compute()
        self.settle()
        self.assertEqual([title for title, _ in complaints], ["Computing Align"])
