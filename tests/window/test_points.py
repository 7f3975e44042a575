"""Points selected with the mouse, set aside and brought back; undo after each; the job reopened."""

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from kerb.core.cloud.heights import HEIGHT
from kerb.core.quantity import count
from kerb.job import studies
from kerb.job.job import Job
from tests.window.test_window import LEFT, PLAIN, Windowed

SHIFT, CONTROL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier


class Points(Windowed):
    def setUp(self):
        super().setUp()
        self.look_at_heap()
        self.holding = self.window.colouring.main_cloud()
        self.store = self.session.job.store(self.holding)

    def inside(self, *corners):
        """Points under a box between two widget places, from the job coordinates, in plan."""
        places = np.array([self.view.camera.unproject(c.x(), c.y(), 0.0, self.view.pixels) for c in corners])
        xyz = self.store.coordinates(slice(0, self.store.count))
        shown = np.asarray(self.store.column("classification")) != 7
        within = (xyz[:, :2] > places.min(axis=0)[:2]) & (xyz[:, :2] < places.max(axis=0)[:2])
        return within.all(axis=1) & shown

    def box(self, start, end, modifier=PLAIN):
        QTest.mousePress(self.view, LEFT, modifier, start)
        for k in range(1, 4):
            QTest.mouseMove(self.view, start + (end - start) * k / 3)
        QTest.mouseRelease(self.view, LEFT, modifier, end)
        self.settle()

    def aside(self):
        gone = self.session.job.store(self.window.colouring.main_cloud()).aside()
        return 0 if gone is None else int(np.count_nonzero(gone))

    def test_box_add_take_away_set_aside_and_reopen(self):
        self.window.actions_by_id["select_points"].trigger()
        self.assertTrue(self.window.selection_bar.isVisible())
        one, two, three = QPoint(150, 150), QPoint(300, 260), QPoint(420, 330)
        self.box(one, two)
        first = self.inside(one, two)
        np.testing.assert_array_equal(self.window.selection.mask, first)
        self.assertIn("points selected", self.window.selection_bar.label.text())
        self.box(QPoint(250, 200), three, SHIFT)
        both = first | self.inside(QPoint(250, 200), three)
        np.testing.assert_array_equal(self.window.selection.mask, both)
        self.box(QPoint(200, 200), QPoint(270, 240), CONTROL)
        left = both & ~self.inside(QPoint(200, 200), QPoint(270, 240))
        np.testing.assert_array_equal(self.window.selection.mask, left)
        QTest.mouseClick(self.window.selection_bar.buttons["set_aside"], LEFT)
        self.settle()
        self.assertEqual(self.aside(), int(left.sum()))
        self.assertEqual(self.window.selection.count, 0)
        self.assertEqual(self.store.used, self.store.count - int(left.sum()))
        self.assertIn(f"of {count(self.store.used)} points drawn", self.window.status.points.text())
        self.session.undo()
        self.settle()
        self.assertEqual(self.aside(), 0)
        self.session.job.redo()
        self.session.job.save()
        again = Job.open(self.place)
        gone = again.store(again.state.holdings[0]).aside()
        np.testing.assert_array_equal(gone != 0, left)
        self.assertIn("Set aside", again.record_text())
        self.window.handlers.run("bring_back")
        self.settle()
        self.assertEqual(self.aside(), 0)

    def test_outline_in_orbit_section_and_only_what_is_seen(self):
        self.window.handlers.run("view_orbit")
        self.settle()
        self.window.actions_by_id["select_points"].trigger()
        corners = [QPoint(250, 150), QPoint(420, 170), QPoint(400, 320), QPoint(240, 300)]
        for corner in corners:
            self.click(corner)
        QTest.keyClick(self.view, Qt.Key.Key_Return)
        self.settle()
        deep = self.window.selection.mask.copy()
        seen = self.view.camera.project(self.store.coordinates(slice(0, self.store.count)), self.view.pixels)
        import shapely

        under = shapely.contains_xy(shapely.Polygon([(c.x(), c.y()) for c in corners]), seen[:, 0], seen[:, 1])
        under &= np.asarray(self.store.column("classification")) != 7
        self.assertGreater(int(deep.sum()), 100)
        self.assertLess(int((deep != under).sum()), 3)
        self.window.selection_bar.seen.setChecked(True)
        self.box(QPoint(250, 150), QPoint(420, 320))
        self.assertGreater(self.window.selection.count, 50)
        shown = self.view.picture.buffer.rows
        self.assertTrue(np.isin(np.nonzero(self.window.selection.mask)[0], shown[shown >= 0]).all())
        QTest.keyClick(self.view, Qt.Key.Key_Escape)
        self.assertFalse(self.window.selection_bar.isVisible())
        self.assertEqual(self.window.selection.count, 0)

    def test_keep_only_makes_the_study_stale_and_invert(self):
        self.draw_toe()
        self.window.handlers.run("compute")
        self.settle()
        self.assertFalse(self.session.stale(self.session.study))
        self.window.actions_by_id["select_points"].trigger()
        self.box(QPoint(5, 5), QPoint(300, 300))
        before = self.window.selection.count
        QTest.mouseClick(self.window.selection_bar.buttons["invert"], LEFT)
        shown = int((np.asarray(self.store.column("classification")) != 7).sum())
        self.assertEqual(self.window.selection.count, shown - before)
        chosen = self.window.selection.mask.copy()
        self.window.handlers.run("keep_only")
        self.settle()
        self.assertEqual(self.aside(), int((~chosen).sum()))
        self.assertTrue(self.session.stale(self.session.study))
        found = studies.ready(self.session.job, self.session.study)
        self.assertEqual(found.data.cloud.aside().sum(), (~chosen).sum())
        self.session.undo()
        self.settle()
        self.assertFalse(self.session.stale(self.session.study))

    def test_nothing_selected_and_everything_selected(self):
        said = []
        self.session.said.connect(said.append)
        self.window.handlers.run("set_aside")
        self.assertIn("Nothing is selected", said[-1])
        self.window.handlers.run("bring_back")
        self.assertIn("Nothing", said[-1])

    def test_height_above_ground(self):
        self.window.handlers.run("over_ground")
        self.settle()
        self.assertEqual(self.window.colouring.main_cloud().style["by"], HEIGHT)
        values = np.asarray(self.store.column(HEIGHT))
        ground = np.asarray(self.store.column("classification")) == 2
        self.assertEqual(float(np.abs(values[ground]).max()), 0.0)
        self.assertEqual(self.store.meta.attributes[HEIGHT], "m")

    def test_ground_becomes_a_new_cloud(self):
        before = np.asarray(self.store.column("classification")).copy()
        self.window.handlers.run("over_ground")
        self.settle()
        self.window.handlers.classify_ground("benches")
        self.settle()
        old, new = self.session.job.state.holdings
        self.assertEqual((old.visible, new.visible, new.name), (False, True, f"{old.name}, ground"))
        self.assertEqual(new.style["by"], "class")
        self.assertFalse(self.session.job.store(new).has(HEIGHT), "heights over another ground must not stay")
        self.assertTrue(self.session.job.store(old).has(HEIGHT))
        classes = np.asarray(self.session.job.store(new).column("classification"))
        self.assertEqual(set(np.unique(classes)), {1, 2, 7})
        self.assertGreater(float((classes[before == 2] == 2).mean()), 0.99)
        np.testing.assert_array_equal(self.session.job.store(old).column("classification"), before)
        self.assertIn("Quarry benches", self.session.job.record_text())
        self.session.undo()
        self.settle()
        self.assertEqual([h.visible for h in self.session.job.state.holdings], [True])
        self.session.job.redo()
        self.session.job.save()
        again = Job.open(self.place)
        np.testing.assert_array_equal(again.store(again.state.holdings[1]).column("classification"), classes)
