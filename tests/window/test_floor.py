"""What follows from the declaration of a study in the window, shown on a throw-away third kind and on the inventory."""

import time
from dataclasses import replace
from unittest import mock

import numpy as np
import pyogrio
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QCursor, QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QLabel

from kerb.app.dialogs.chooser import StudyChooser
from kerb.app.dialogs.deliver import Deliver
from kerb.app.dialogs.reading import Reading
from kerb.app.doing.jobs import DISCARD
from kerb.app.panels.drawer import CHART, TABLE
from kerb.app.tools.drawing import DrawShape
from kerb.core.cloud.sieve import Sieve
from kerb.demo import yard
from kerb.job import holdings, studies
from kerb.job.holdings import ImportWish
from kerb.job.job import Change, Job
from kerb.studies.drawn import Drawn, Item
from kerb.studies.registry import STUDIES
from kerb.studies.scope import Scope
from tests.support import DATA, YARD, near
from tests.third import THIRD, registered
from tests.window.test_actions import answers
from tests.window.test_window import HEAP, LEFT, PLAIN, Windowed, answering, wait

SQUARE = np.array([[-5.0, -5], [5, -5], [5, 5], [-5, 5]]) + yard.ORIGIN + HEAP.centre


class Third(Windowed):
    """Setup, run and one line in the registry; nothing else was touched."""

    def setUp(self):
        self.own = []

        def own(session, _run):
            label = QLabel("own widget")
            label.mirror = lambda: self.own.append(session.study_id)
            return label

        self.enterContext(registered(own))
        super().setUp()

    def test_from_the_question_to_the_report(self):  # noqa: PLR0915 one path through the whole window
        chooser = StudyChooser(self.window)
        chooser.search.setText("how high")
        self.assertEqual(chooser.list.count(), 1)
        chooser.reject()
        chooser.deleteLater()
        self.assertIn("new_study:third", [key for key, _, _ in self.window.header.command.choices("new level")])
        self.window.handlers.run("new_study:third")
        self.settle()
        session, sheet = self.session, self.window.sheet
        self.assertEqual(session.study.kind, "third")
        self.assertEqual(set(sheet.fields), set(THIRD.setup.declared()))
        self.assertTrue(self.own, "its own small widget is in the sheet and mirrors")
        self.assertIn("Draw the area", session.shown().words)
        self.assertEqual(sheet.figure.text().strip(" ≈"), "—")

        self.look_at_heap()
        self.window.handlers.run("draw")
        self.assertIsInstance(self.view.tool, DrawShape)
        for place in SQUARE:
            self.click(self.at(*place))
        QTest.keyClick(self.view, Qt.Key.Key_Return)
        self.settle()
        outcome = session.shown().outcome
        self.assertFalse(outcome.live)
        self.assertIn(f"{outcome.value('level'):.3f}", sheet.figure.text().replace("\u2009", ""))

        start = self.at(*session.setup.area.xy[2])
        QTest.mousePress(self.view, Qt.MouseButton.LeftButton, PLAIN, start)
        QTest.mouseMove(self.view, start + QPoint(25, -25))
        for _ in range(60):
            wait(0.05)
            if session.shown().outcome is not None and session.shown().outcome.live:
                break
        self.assertTrue(session.shown().outcome.live)
        self.assertTrue(sheet.figure.text().startswith("≈"))
        QTest.mouseRelease(self.view, Qt.MouseButton.LeftButton, PLAIN, start + QPoint(25, -25))
        self.settle()

        mean = sheet.fields["mean"].field
        mean.setCurrentIndex(mean.findData("median"))
        mean.activated.emit(mean.currentIndex())
        self.settle()
        self.assertEqual(session.setup.mean, "median")
        self.assertIn("Mean", session.job.can_undo)

        drawer = self.window.drawer
        drawer.choose(TABLE, "heights")
        self.assertEqual(drawer.current().words, "Heights")
        self.assertEqual(drawer.rows.rowCount(), 50)
        drawer.choose(CHART, "0")
        self.assertEqual(drawer.charts()[0].title, "Elevations")
        before = session.setup.area.places
        self.window.handlers.run("step:shrink")
        self.settle()
        np.testing.assert_allclose(np.ptp(session.setup.area.places, axis=0), np.ptp(before, axis=0) / 2)
        self.assertIsNotNone(session.before_step)
        self.window.handlers.run("copy_figures")
        self.assertIn("Level\t", QGuiApplication.clipboard().text())
        with answers() as shown:
            self.window.handlers.run("study_help")
        self.assertIsInstance(shown[0], Reading)
        shown[0].deleteLater()

        dialog = Deliver(session, self.window)
        dialog.show()
        for _ in range(200):
            wait(0.03)
            if dialog.worker.idle() and not dialog.fresh:
                break
        target = self.place.parent / "level.pdf"
        dialog.save_to(target)
        dialog.deleteLater()
        self.settle()
        self.assertTrue(target.read_bytes().startswith(b"%PDF"))
        self.assertEqual(self.complaints, [])
        self.window.handlers.run("remove_study")
        self.settle()

    def test_layers_are_drawn_and_put_away(self):
        setup = replace(THIRD.setup(Scope(self.session.job.state.holdings[0].id)), area=Drawn.of(SQUARE))
        change, study = studies.made(self.session.job.state, "third", "Level", setup)
        self.session.execute(change)
        self.session.select(study.id)
        self.session.compute()
        self.settle()
        scene = self.view.scene
        self.assertIn("Area", [line.title for line in scene.lines] + [s.label for s in self.window.edit_tool.shapes()])
        self.assertEqual(len(scene.meshes), 1)
        self.assertGreaterEqual(len(scene.marks), 2)
        before = len(scene.lines) + len(scene.marks) + len(scene.meshes)
        self.window.handlers.run("study_layer")
        after = self.view.scene
        self.assertGreater(len(after.lines) + len(after.marks) + len(after.meshes), before, "what it kept back is shown")
        self.session.select(self.session.job.state.studies[0].id)
        self.settle()


class Yard(Windowed):
    """The inventory in the window: proposed, taken, named, totalled, delivered, asked again of a later survey."""

    def setUp(self):
        super().setUp()
        self.window.handlers.run("new_study:inventory")
        self.settle()

    def test_proposed_and_taken(self):
        session = self.session
        self.assertIsNone(session.shown().outcome)
        self.window.handlers.run("step:propose")
        self.settle()
        heaps = session.setup.heaps
        self.assertEqual(len(heaps), 3)
        self.assertTrue(all(item.origin == "proposed" for item in heaps))
        whole = session.outcome().value("total_above")
        for heap in yard.HEAPS[:2]:
            middle = yard.ORIGIN + np.array(heap.centre)
            item = min(heaps, key=lambda i: np.hypot(*(i.ring.places.mean(axis=0) - middle)))
            mine = session.outcome().items[item.name].figures["net"]
            self.assertLess(abs(mine.value - heap.volume), max(mine.u95, 0.02 * heap.volume))
        table = self.window.sheet.fields["heaps"].table
        table.item(0, 0).setCheckState(Qt.CheckState.Unchecked)
        self.settle()
        self.assertEqual([item.taken for item in session.setup.heaps], [False, True, True])
        self.assertLess(session.outcome().value("total_above"), whole)
        table.item(1, 0).setText("Gravel by the gate")
        self.settle()
        self.assertIn("Gravel by the gate", [item.name for item in session.setup.heaps])
        target = self.place.parent / "heaps.gpkg"
        with answers((QFileDialog, "getSaveFileName", (str(target), ""))):
            self.window.handlers.run("write_study")
        self.settle()
        _, _, shapes, _ = pyogrio.raw.read(target)
        self.assertEqual(len(shapes), 2, "only what is taken")
        self.assertIn("Wrote Yard to", session.job.record_text())
        self.window.handlers.studies.write_study_to("out", YARD)
        self.assertIn("source of this job", self.complaints[-1][1])
        self.complaints.clear()
        session.undo()
        session.undo()
        self.settle()
        self.assertEqual(session.shown().outcome.value("total_above"), whole)
        self.assertEqual(self.complaints, [])

    def test_heaps_are_drawn_one_after_the_other(self):
        for number in (0, 1):
            heap = yard.HEAPS[number]
            centre = np.append(yard.ORIGIN + np.array(heap.centre), 3.5)
            self.view.fit(centre - [18, 18, 3], centre + [18, 18, 6])
            self.settle()
            self.window.handlers.run("draw")
            for vertex in heap.toe(10, outside=0.5):
                self.click(self.at(*vertex))
            QTest.keyClick(self.view, Qt.Key.Key_Return)
            self.settle()
        self.assertEqual([item.origin for item in self.session.setup.heaps], ["drawn", "drawn"])
        self.assertEqual(len({item.name for item in self.session.setup.heaps}), 2)
        net = self.session.outcome().value("total_net")
        self.assertAlmostEqual(net / (yard.HEAPS[0].volume + yard.HEAPS[1].volume), 1.0, delta=0.02)
        self.window.handlers.run("undo")
        self.settle()
        self.assertEqual(len(self.session.setup.heaps), 1)
        self.assertEqual(len(self.session.shown().outcome.items), 1)

    def test_the_same_of_the_next_survey_by_one_press(self):
        session = self.session
        rings = [Item(f"h{n}", h.name, Drawn.of(h.toe(20, 0.4)), (("material", h.material),)) for n, h in
                 enumerate(yard.HEAPS[:2])]  # fmt: skip
        session.commit("drawn", heaps=tuple(rings))
        self.settle()
        before = session.outcome().value("total_above")
        first = session.setup.cloud.holding
        session.execute(holdings.altered(session.job.state.holdings[0], "Dated", epoch="2026-03-12"))
        session.bring([ImportWish(YARD, epoch="2026-04-12")])
        self.settle()
        later = next(h for h in session.job.state.holdings if h.id != first)
        self.window.handlers.run(f"follow_study:{later.id}")
        self.settle()
        setup = session.setup
        self.assertEqual((setup.cloud.holding, setup.earlier.holding), (later.id, first))
        outcome = session.outcome()
        names = [item.name for item in setup.heaps]
        self.assertLessEqual({item.name for item in rings}, set(names), "heaps at the same place keep their names")
        free = sum(outcome.items[item.name].value("above") for item in rings)
        self.assertAlmostEqual(free / before, 1.0, delta=0.02)
        rows = {row[0]: row for row in outcome.tables["heaps"].rows}
        place = [column.name for column in outcome.tables["heaps"].columns].index("change")
        for item in rings:
            self.assertLess(abs(rows[item.name][place]), 0.03 * free)


class RareSettings(Windowed):
    sieve = Sieve(every=3)

    def seen(self):
        sheet = self.window.sheet
        return {name for name in sheet.more if sheet.fields[name].isVisible()}

    def test_each_box_shows_the_settings_of_its_own_section(self):
        """Of every kind of study, by mouse: there and back, and the first of them is in sight. Nothing need be computed for it."""
        with mock.patch.object(self.session, "rest"), mock.patch.object(self.session, "_ask"):
            for key, kind in STUDIES.items():
                with self.subTest(key):
                    self.window.handlers.run(f"new_study:{key}")
                    self.each_box(kind)

    def each_box(self, kind):
        sheet = self.window.sheet
        self.settle()
        sheet.mirror()
        wait(0.05)
        rare = {n: about.section for n, about in kind.setup.declared().items() if about.rare and not about.hidden}
        self.assertEqual((set(sheet.more), self.seen()), (set(rare), set()))
        for box in dict.fromkeys(sheet.more.values()):
            own = {name for name in rare if sheet.more[name] is box and self.session.setup.counts(name)}
            self.assertLessEqual(len({rare[name] for name in own}), 1)
            sheet.scroller.ensureWidgetVisible(box)
            wait(0.02)
            QTest.mouseClick(box, LEFT, PLAIN, QPoint(8, box.height() // 2))
            wait(0.05)
            self.assertEqual(self.seen(), own)
            if own:
                first = min((sheet.fields[name] for name in own), key=lambda one: one.y())
                self.assertFalse(first.visibleRegion().isEmpty())
            QTest.mouseClick(box, LEFT, PLAIN, QPoint(8, box.height() // 2))
            self.assertEqual(self.seen(), set())


class DoubleClicks(Windowed):
    def test_the_second_half_of_one_in_the_chooser_draws_nothing(self):
        self.look_at_heap()
        self.window.handlers.run("new_study")
        chooser = self.window.findChild(StudyChooser)
        row = next(k for k in range(chooser.list.count()) if "Stockpile" in chooser.list.item(k).text())
        chooser.list.scrollToItem(chooser.list.item(row))
        place = chooser.list.visualItemRect(chooser.list.item(row)).center()
        at = chooser.list.viewport().mapToGlobal(place)
        QCursor.setPos(at)
        QTest.mouseClick(chooser.list.viewport(), LEFT, PLAIN, place)
        self.window.actions_by_id["draw"].trigger()
        self.assertIsInstance(self.view.tool, DrawShape)
        for number in (0, 1):
            self.click(self.view.mapFromGlobal(at))
            self.assertEqual(len(self.view.tool.vertices), number)
            wait(0.5)


class StatesThatLie(Windowed):
    """A figure on the screen belongs to the state on the screen."""

    def test_no_figure_while_a_base_is_chosen_but_no_surface(self):
        self.draw_toe()
        figure = self.window.sheet.figure.text()
        base = self.window.sheet.fields["base"].field
        base.setCurrentIndex(base.findData("surface"))
        base.activated.emit(base.currentIndex())
        self.settle()
        self.assertEqual(self.window.sheet.figure.text().strip(), "—")
        self.assertNotEqual(self.session.shown().words, "")
        self.window.handlers.run("undo")
        self.settle()
        self.assertEqual(self.window.sheet.figure.text(), figure)

    def test_no_figure_of_a_line_that_was_taken_back(self):
        self.draw_toe()
        self.window.handlers.run("undo")
        self.settle()
        self.assertIsNone(self.session.shown().outcome)
        self.assertEqual(self.window.sheet.figure.text().strip(), "—")
        self.assertEqual([line.value.text() for line in self.window.sheet.lines.values()], ["—"] * len(self.window.sheet.lines))
        self.assertEqual(self.window.drawer.charts(), [])

    def test_no_figure_of_points_that_were_set_aside(self):
        self.draw_toe()
        before = self.net()
        self.window.handlers.run("select_points")
        centre = self.at(*(yard.ORIGIN + np.array(HEAP.centre)))
        self.drag(centre - QPoint(60, 60), centre + QPoint(60, 60))
        self.settle()
        self.assertGreater(self.window.selection.count, 100)
        with mock.patch.object(self.session, "compute"):
            self.window.handlers.run("set_aside")
            self.assertFalse(self.session.shown().whole)
            self.assertNotIn(f"{before:.1f}", self.window.sheet.figure.text())
        self.session.undo()
        self.settle()
        self.assertEqual(self.net(), before)

    def test_a_task_of_a_state_that_is_gone_is_stopped(self):
        self.draw_toe()
        self.session.commit("other base", base="plane")
        self.session.compute()
        task = self.session.compute_task
        self.session.undo()
        self.assertTrue(task.progress.stopped)
        self.settle()
        self.assertEqual(self.session.setup.base, "toe")
        self.assertTrue(self.session.shown().whole)

    def test_what_is_delivered_says_that_it_is_old_or_is_computed(self):
        self.draw_toe()
        before = self.net()
        with mock.patch.object(self.session, "rest"):
            self.session.commit("base set to Level through the lowest point", base="lowest")
        dialog = Deliver(self.session, self.window)
        dialog.show()
        wait(0.5)
        self.assertIn("out of date", dialog.studies[self.session.study_id].text())
        self.assertIn("out of date", dialog.bring.text())
        dialog._compute()
        self.settle()
        wait(0.5)
        self.assertNotEqual(self.net(), before)
        self.assertFalse(self.session.stale(self.session.study))
        target = self.place.parent / "new.pdf"
        dialog.save_to(target)
        dialog.deleteLater()
        self.settle()
        self.assertTrue(target.exists())

    def test_a_new_job_shows_nothing_of_the_last_one(self):
        self.draw_toe()
        self.window.handlers.views.view_plan()
        self.assertNotEqual(self.window.status.points.text(), "")
        with answering(DISCARD):
            self.window.handlers.run("new_job")
        self.settle()
        self.assertEqual(self.session.job.state.holdings, ())
        self.assertEqual(self.window.drawer.charts(), [])
        self.assertTrue(self.view.scene.empty)
        self.assertNotIn("of", self.window.status.points.text().replace("0 of 0", ""))
        self.assertIsNone(self.session.shown().outcome)

    def test_the_scale_bar_of_a_file_in_feet_says_feet_while_it_is_read(self):
        job = Job.create(self.place.parent / "feet.kerb")
        job.save()
        self.window.handlers.jobs.open_folder(job.folder)
        self.settle()
        seen = []
        self.session.previewed.connect(lambda chunk: seen.append(self.session.unit) if chunk is not None else None)
        self.session.bring([ImportWish(DATA / "airborne_feet.laz")])
        self.settle()
        self.assertTrue(seen)
        self.assertEqual(set(seen), {self.session.unit})


class Keys(Windowed):
    def test_a_line_is_drawn_changed_and_moved_without_the_mouse(self):
        self.look_at_heap()
        self.view.setFocus()
        self.window.handlers.run("draw")
        tool = self.view.tool
        for keys in (("Left", 40), ("Up", 40), ("Right", 80), ("Down", 80)):
            for _ in range(keys[1] // 4):
                QTest.keyClick(self.view, getattr(Qt.Key, f"Key_{keys[0]}"), Qt.KeyboardModifier.ShiftModifier)
            QTest.keyClick(self.view, Qt.Key.Key_Space)
        QTest.keyClick(self.view, Qt.Key.Key_Return)
        self.settle()
        self.assertIsNot(self.view.tool, tool)
        self.assertEqual(len(self.session.setup.toe.xy), 4)
        ring = self.session.setup.toe
        QTest.keyClick(self.view, Qt.Key.Key_Tab)
        self.assertEqual(self.window.edit_tool.chosen[1], 0)
        QTest.keyClick(self.view, Qt.Key.Key_Tab)
        self.assertEqual(self.window.edit_tool.chosen[1], 1)
        QTest.keyClick(self.view, Qt.Key.Key_Right)
        wait(1.0)
        self.settle()
        moved = self.session.setup.toe
        self.assertGreater(moved.xy[1][0], ring.xy[1][0])
        self.assertEqual(moved.xy[0], ring.xy[0])
        QTest.keyClick(self.view, Qt.Key.Key_Insert)
        self.settle()
        self.assertEqual(len(self.session.setup.toe.xy), 5)
        QTest.keyClick(self.view, Qt.Key.Key_Delete)
        self.settle()
        self.assertEqual(len(self.session.setup.toe.xy), 4)

    def test_typed_numbers(self):
        self.draw_toe(8)
        shape = self.window.edit_tool.shapes()[0]
        place = np.array(self.session.setup.toe.xy[1]) + [0.5, 0.25]
        self.window.edit_tool.type_place(shape, 1, f"{place[0]:.3f} {place[1]:.3f}")
        self.settle()
        near(self.session.setup.toe.xy[1], place, atol=6e-4)
        before = self.session.setup.toe
        self.window.edit_tool.type_place(self.window.edit_tool.shapes()[0], 1, "here")
        self.assertEqual(self.session.setup.toe, before)


class Drag(Windowed):
    def test_a_vertex_that_would_fly_off_in_orbit_stays(self):
        self.draw_toe(10)
        self.window.handlers.run("view_orbit")
        self.view.set_camera(replace(self.view.camera, tilt=2.0), False)
        self.settle()
        before = self.session.setup.toe
        at = self.view.to_widget(np.array([[*before.xy[0], 3.4]]))[0]
        start = QPoint(round(at[0]), round(at[1]))
        self.drag(start, start + QPoint(0, -250))
        self.settle()
        after = np.array(self.session.setup.toe.xy)
        self.assertLess(np.hypot(*(after - before.places).T).max(), 25.0)


class Steps(Windowed):
    def test_a_step_in_a_large_job_is_quick_and_the_file_stays_small(self):
        """Not a time limit for machines: a thousand steps must cost about the same each, whatever was done before."""
        job = self.session.job
        study = self.session.study
        times = []
        for number in range(600):
            start = time.perf_counter()
            job.execute(Change(f"Step {number}", lambda s, n=number: s.with_study(replace(study, name=f"Heap {n}"))))
            times.append(time.perf_counter() - start)
        self.assertLess(np.median(times[-100:]), 5 * np.median(times[:100]) + 1e-3)
        job.save()
        self.assertLess((job.folder / "job.json").stat().st_size, 60_000)
