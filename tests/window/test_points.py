"""Points selected with the mouse, set aside and brought back; undo after each; the job reopened."""

import contextlib

import laspy
import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QCheckBox, QFileDialog, QInputDialog

from kerb.core.cloud.filters import Filter
from kerb.core.cloud.heights import HEIGHT
from kerb.core.progress import silent
from kerb.core.quantity import count, plain
from kerb.demo import yard
from kerb.job import holdings, studies
from kerb.job.job import Change, Job
from tests.support import near
from tests.window.test_window import HEAP, LEFT, PLAIN, Windowed, wait

SHIFT, CONTROL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier


class Points(Windowed):
    def setUp(self):
        super().setUp()
        self.look_at_heap()
        self.holding = self.session.main_cloud()
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
        gone = self.session.job.store(self.session.main_cloud()).aside()
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
        next(a for a in self.window.selection_bar._more_menu().actions() if a.text() == "Invert").trigger()
        shown = int((np.asarray(self.store.column("classification")) != 7).sum())
        self.assertEqual(self.window.selection.count, shown - before)
        chosen = self.window.selection.mask.copy()
        self.window.handlers.run("keep_only")
        self.settle()
        self.assertEqual(self.aside(), int((~chosen).sum()))
        self.assertTrue(self.session.stale(self.session.study))
        found = studies.ready(self.session.job, self.session.study)
        self.assertEqual(found.sources.items["cloud"].store.aside().sum(), (~chosen).sum())
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

    def drag(self, *places, modifier=PLAIN):
        """Press at the first place, move over the others, release at the last."""
        QTest.mousePress(self.view, LEFT, modifier, places[0])
        for place in places[1:]:
            QTest.mouseMove(self.view, place)
            wait(0.03)
        QTest.mouseRelease(self.view, LEFT, modifier, places[-1])
        self.settle()

    def seen_places(self):
        """Widget places (n, 2) of all points, and which of them are drawn."""
        places = self.view.to_widget(self.store.coordinates(slice(0, self.store.count)))
        return places, self.window.colouring.layer().shown()

    def test_brush_keep_common_outside_and_live_count(self):
        counts = []
        self.window.selection.counted.connect(counts.append)
        self.window.handlers.points.select_with("brush")
        tool = self.view.tool
        QTest.keyClick(self.view, "]")
        self.assertAlmostEqual(tool.radius, 14 * 1.25)
        self.drag(QPoint(200, 200), QPoint(260, 220), QPoint(320, 200))
        import shapely

        places, shown = self.seen_places()
        path = shapely.LineString([(200, 200), (260, 220), (320, 200)])
        away = shapely.distance(path, shapely.points(places))
        chosen = self.window.selection.mask
        self.assertTrue(chosen[(away < tool.radius * 0.97) & shown].all())
        self.assertFalse(chosen[(away > tool.radius * 1.01) | ~shown].any())
        self.assertTrue(counts and max(counts) <= int(chosen.sum()))
        before = chosen.copy()
        self.window.handlers.points.select_with("outline")
        self.box(QPoint(250, 100), QPoint(600, 400), SHIFT | CONTROL)
        common = before & self.inside(QPoint(250, 100), QPoint(600, 400))
        np.testing.assert_array_equal(self.window.selection.mask, common)
        self.window.selection_bar.outside.setChecked(True)
        self.box(QPoint(250, 100), QPoint(600, 400))
        outside = shown & ~self.inside(QPoint(250, 100), QPoint(600, 400))
        np.testing.assert_array_equal(self.window.selection.mask, outside)

    def test_piece_and_surface_by_a_click(self):
        places, shown = self.seen_places()
        classes = np.asarray(self.store.column("classification"))
        loader = (classes == 1) & shown & (np.abs(places - [self.view.width() / 2, self.view.height() / 2]).max(1) < 900)
        self.window.handlers.run("fit")
        self.settle()
        self.window.handlers.points.select_with("surface")
        self.settle()
        heap = yard.ORIGIN + np.array(HEAP.centre)
        xy = self.store.coordinates(slice(0, self.store.count))[:, :2]
        self.click(self.place_of(int(np.argmin(np.hypot(*(xy - heap - [0, -14]).T)))))
        self.settle()
        floor = self.window.selection.mask
        self.assertGreater(int(floor.sum()), 20_000)
        self.assertLess(float(floor[loader].mean()), 0.1)
        self.assertFalse(floor[np.hypot(*(xy - heap).T) < 3].any(), "grew up the heap")
        self.window.handlers.points.select_with("piece")
        row = int(np.argmin(np.hypot(*(xy - heap - [0, -14]).T)))
        self.click(self.place_of(row))
        self.settle()
        self.assertTrue(self.window.selection.mask[row])
        self.assertGreater(self.window.selection.count, int(floor.sum()))
        said = []
        self.session.said.connect(said.append)
        self.click(QPoint(3, self.view.height() - 3))
        self.assertIn("no point", said[-1])

    def place_of(self, row):
        """Where a point is in the view."""
        x, y = self.view.to_widget(self.store.coordinates(slice(row, row + 1)))[0]
        return QPoint(round(x), round(y))

    def test_parts_from_a_selection_listed_toggled_merged_and_undone(self):
        self.window.actions_by_id["select_points"].trigger()
        self.box(QPoint(100, 100), QPoint(300, 300))
        first = self.window.selection.mask.copy()
        with answered(QInputDialog, "getText", ("road", True)):
            self.window.actions_by_id["new_part"].trigger()
        self.settle()
        self.box(QPoint(250, 100), QPoint(400, 300))
        second = self.window.selection.mask.copy()
        menu = self.window.selection_bar._part_menu()
        self.assertEqual([a.text() for a in menu.actions() if a.text()], ["New part…", "Add to road", "Take out of road"])
        self.window.handlers.points.make_part("kerb")
        self.settle()
        holding = self.session.main_cloud()
        self.assertEqual(
            [(p.name, p.count) for p in holding.parts], [("road", int((first & ~second).sum())), ("kerb", int(second.sum()))]
        )
        self.assertEqual(holding.style["by"], "part")
        row = self.window.lists.rows[f"{holding.id}|2"]
        QTest.mouseClick(row, LEFT, PLAIN, QPoint(40, 12))
        self.settle()
        self.assertFalse((self.window.colouring.layer().shown() & second).any())
        row = self.window.lists.rows[f"{holding.id}|1"]
        QTest.mouseClick(row, LEFT, PLAIN, QPoint(120, 12))
        self.settle()
        np.testing.assert_array_equal(self.window.selection.mask, first & ~second)
        self.window.handlers.run(f"toggle_part:{holding.id}|2")
        self.window.handlers.run(f"only_part:{holding.id}|2")
        self.settle()
        np.testing.assert_array_equal(self.window.colouring.layer().shown(), second)
        self.window.filtering.set(())
        self.window.handlers.run(f"merge_part:{holding.id}|2|1")
        self.settle()
        self.assertEqual([p.count for p in self.session.main_cloud().parts], [int((first | second).sum())])
        for _ in range(3):
            self.session.undo()
        self.settle()
        self.assertEqual(self.session.main_cloud().parts, ())
        self.window.handlers.points.split_by("classification")
        self.settle()
        self.assertIn("Ground", [p.name for p in self.session.main_cloud().parts])
        with answered(QInputDialog, "getItem", ("Elevation", True)), answered(QInputDialog, "getText", ("3.5; 4", True)):
            self.window.actions_by_id["split_parts"].trigger()
        self.settle()
        names = [part.name for part in self.session.main_cloud().parts]
        self.assertEqual(names, ["below 3.5 m", "3.5 – 4 m", "from 4 m"])
        self.session.job.save()
        self.assertEqual(len(Job.open(self.place).state.holdings[0].parts), len(self.session.main_cloud().parts))

    def test_what_is_set_aside_is_shown_in_grey_and_picked(self):
        self.window.actions_by_id["select_points"].trigger()
        self.box(QPoint(100, 100), QPoint(300, 300))
        gone = self.window.selection.mask.copy()
        self.window.handlers.run("set_aside")
        self.settle()
        self.window.actions_by_id["show_aside"].trigger()
        self.settle()
        self.assertTrue(self.window.colouring.layer().shown()[gone].all())
        image = self.view.picture.image[200, 200, :3].astype(int)
        self.assertLess(int(np.ptp(image)), 12, "not grey")
        self.box(QPoint(100, 100), QPoint(200, 300))
        some = self.window.selection.mask.copy()
        QTest.mouseClick(self.window.selection_bar.buttons["bring_back"], LEFT)
        self.settle()
        np.testing.assert_array_equal(~self.store.in_use(), gone & ~some)
        self.session.undo()
        self.settle()
        self.assertEqual(self.aside(), int(gone.sum()))

    def test_new_cloud_of_a_selection(self):
        self.window.actions_by_id["select_points"].trigger()
        self.box(QPoint(100, 100), QPoint(300, 300))
        number = self.window.selection.count
        self.window.handlers.run("new_cloud:hide")
        self.settle()
        old, new = self.session.job.state.holdings
        self.assertEqual((old.visible, new.visible, new.points), (False, True, number))
        self.session.undo()
        self.settle()
        self.assertEqual(len(self.session.job.state.holdings), 1)

    def test_filters_by_dragging_ticking_and_chips(self):
        self.window.actions_by_id["filter_points"].trigger()
        card, chips = self.window.filtering.card, self.window.filtering.chips
        self.assertTrue(card.isVisible() and not chips.isVisible())
        card.column_chosen.emit("elevation")
        bars = card.bars
        low = bars.span[0] + 0.4 * (bars.span[1] - bars.span[0])
        QTest.mousePress(bars, LEFT, PLAIN, QPoint(round(bars.x_of(bars.low)), 40))
        for share in (0.3, 0.6, 1.0):
            QTest.mouseMove(bars, QPoint(round(bars.x_of(bars.span[0] + share * (low - bars.span[0]))), 40))
        QTest.mouseRelease(bars, LEFT, PLAIN, QPoint(round(bars.x_of(low)), 40))
        wait(0.4)
        self.settle()
        z = self.store.coordinates(slice(0, self.store.count))[:, 2]
        condition = self.session.main_cloud().filters[0]
        self.assertAlmostEqual(condition.low, low, delta=0.03 * (bars.span[1] - bars.span[0]))
        noise = np.asarray(self.store.column("classification")) == 7
        np.testing.assert_array_equal(self.window.colouring.layer().shown(), (z >= condition.low) & ~noise)
        self.window.actions_by_id["ground_only"].trigger()
        self.settle()
        self.assertEqual(len(chips.chips), 2)
        ground = np.asarray(self.store.column("classification")) == 2
        np.testing.assert_array_equal(self.window.colouring.layer().shown(), (z >= condition.low) & ground)
        self.window.filtering.save_as("high ground")
        chips.removed.emit(0)
        self.settle()
        np.testing.assert_array_equal(self.window.colouring.layer().shown(), ground)
        card.cleared.emit()
        self.settle()
        self.assertEqual(self.session.main_cloud().filters, ())
        card.saved_wanted.emit("high ground")
        self.settle()
        self.session.job.save()
        again = Job.open(self.place)
        self.assertEqual(again.state.holdings[0].filters, dict(again.state.filters)["high ground"])
        card.cleared.emit()
        self.settle()
        self.window.filtering.open("classification")
        item = next(i for i in map(card.values.item, range(card.values.count())) if i.text().startswith("2 "))
        item.setCheckState(Qt.CheckState.Unchecked)
        wait(0.4)
        self.settle()
        self.assertFalse((self.window.colouring.layer().shown() & ground).any())
        chips.turned.emit(0)
        self.settle()
        np.testing.assert_array_equal(self.window.colouring.layer().shown(), ground)
        chips.toggled.emit(0)
        self.settle()
        np.testing.assert_array_equal(self.window.colouring.layer().shown(), ~noise)

    def test_noise_is_looked_at_first_and_then_set_aside(self):
        self.window.actions_by_id["find_points"].trigger()
        self.settle()
        page = self.window.right.find_page
        self.assertTrue(page.isVisible())
        page.choice.setCurrentIndex(page.choice.findData("outliers"))
        page.choice.activated.emit(0)
        field = page.fields["factor"]
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, "2")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.settle()
        self.assertEqual(page.settings_for("outliers").factor, 2.0)
        found = self.window.selection.mask.copy()
        self.assertGreater(int(found.sum()), 0)
        self.assertIn(count(int(found.sum())), page.figure.text())
        self.assertEqual(self.aside(), 0)
        QTest.mouseClick(page.apply, LEFT)
        self.settle()
        self.assertEqual(self.aside(), int(found.sum()))
        self.session.undo()
        self.settle()
        self.assertEqual(self.aside(), 0)
        page.show_finder("overlap")
        page._set("by", "source_file")
        self.settle()
        self.assertIn("does not say", page.note.text())
        page.show_finder("thin")
        page._set("way", "lowest")
        self.settle()
        kept = self.window.selection.count
        QTest.mouseClick(page.other, LEFT)
        self.settle()
        old, new = self.session.job.state.holdings
        self.assertEqual((old.visible, new.points), (False, kept))

    def test_a_study_counts_what_the_view_shows(self):
        self.draw_toe()
        self.window.handlers.run("compute")
        self.settle()
        every = self.session.outcome().value("net")
        z = self.store.coordinates(slice(0, self.store.count))[:, 2]
        xy = self.store.coordinates(slice(0, self.store.count))[:, :2]
        heap = np.hypot(*(xy - yard.ORIGIN - HEAP.centre).T) < 4
        low = Filter("elevation", high=float(np.percentile(z[heap], 50)))
        self.window.filtering.set((low, Filter("intensity", low=0.0, on=False)))
        self.settle()
        self.assertFalse(self.session.stale(self.session.study), "what is shown is no input")
        only = self.window.sheet.fields["cloud"].links["filters"]
        self.assertIn("none", only.text())
        QTest.mouseClick(only, LEFT)
        menu = self.window.handlers.studies.menu_shown
        self.assertEqual([a.text() for a in menu.actions()], ["As the view shows it now", "Every point"])
        menu.actions()[0].trigger()
        menu.close()
        self.settle()
        self.assertEqual(self.session.setup.cloud.only, (low,))
        self.assertIn("Elevation … –", only.text())
        self.assertLess(self.session.outcome().value("net"), every)
        self.assertIn("counts points by Elevation", self.session.job.record_text())
        self.window.filtering.set(())
        self.settle()
        self.assertEqual(self.session.setup.cloud.only, (low,), "the study does not follow the view")
        self.session.undo()
        self.settle()
        self.assertEqual((self.session.setup.cloud.only, self.session.outcome().value("net")), ((), every))

    def test_colour_taken_from_a_point(self):
        for name in ("red", "green", "blue"):
            values = np.full(self.store.count, 40, np.uint8)
            values[: self.store.count // 2] = 200
            self.store.lend(name, values)
        self.window.filtering.open("colour")
        QTest.mouseClick(self.window.filtering.card.pick, LEFT)
        hit = next(r for r in self.view.picture.buffer.rows[200:400, 200:400].ravel().tolist() if r >= 0)
        place = self.place_of(hit)
        found = self.view.point_at(QPointF(place))
        self.click(place)
        wait(0.4)
        self.settle()
        row = found[1]
        colour = int(self.store.column("red")[row])
        condition = self.session.main_cloud().filters[0]
        self.assertEqual((condition.column, condition.colour), ("colour", (colour,) * 3))
        alike = np.asarray(self.store.column("red")) == colour
        noise = np.asarray(self.store.column("classification")) == 7
        np.testing.assert_array_equal(self.window.colouring.layer().shown(), alike & ~noise)
        QTest.mouseClick(self.window.filtering.card.pick, LEFT)
        QTest.keyClick(self.view, Qt.Key.Key_Escape)
        self.assertIs(self.view.tool, self.window.edit_tool)

    def test_heights_written_in_place_of_elevations_once(self):
        said = []
        self.session.complained.connect(lambda title, text: said.append(text))
        self.heights()
        target = self.place.parent / "flat.laz"
        with answered(QFileDialog, "getSaveFileName", (str(target), "")):
            QTest.mouseClick(self.window.right.heights.flat, LEFT)
            self.settle()
        las = laspy.read(target)
        over = np.asarray(self.store.column(HEIGHT))
        known = np.isfinite(over)
        self.assertEqual(len(las.z), int(known.sum()))
        z = self.store.coordinates(slice(0, self.store.count))[:, 2]
        near(np.sort(np.asarray(las["elevation"])), np.sort(z[known]), atol=1e-6)
        near(np.sort(np.asarray(las.z)), np.sort(over[known]), atol=1e-3)
        self.assertIn("Wrote", self.session.job.record_text())
        job = self.session.job
        flat = holdings.import_cloud(job.folder, job.state, holdings.ImportWish(target), silent())
        self.session.execute(holdings.added(job, flat))
        QTest.mouseClick(self.window.lists.rows[flat.id], LEFT, PLAIN, QPoint(120, 20))
        self.window.handlers.run("over_ground")
        self.settle()
        page = self.window.right.heights
        self.assertFalse(page.compute.isEnabled() or page.flat.isEnabled())
        self.window.handlers.data.write_to(flat, self.place.parent / "twice.laz", HEIGHT)
        self.settle()
        self.assertIn("replaced already", said[-1])
        self.assertFalse((self.place.parent / "twice.laz").exists())

    def heights(self):
        """Open the page and compute heights above ground."""
        self.window.actions_by_id["over_ground"].trigger()
        self.settle()
        QTest.mouseClick(self.window.right.heights.compute, LEFT)
        self.settle()

    def test_height_bands_become_classes(self):
        self.window.handlers.run("over_ground")
        self.settle()
        page = self.window.right.heights
        self.assertEqual(page.chosen(), (2,))
        self.assertFalse(page.give.isEnabled(), "there are no heights yet")
        self.heights()
        self.assertIn("points from", page.figure.text())
        over = np.asarray(self.store.column(HEIGHT))
        before = np.asarray(self.store.column("classification")).copy()
        QTest.mouseClick(page.give, LEFT)
        self.settle()
        after = np.asarray(self.store.column("classification"))
        open_ = np.isin(before, (0, 1, 3, 4, 5)) & (over >= 0.1)
        wanted = np.where(open_, np.digitize(over, [0.1, 0.5, 2.0]) + 2, before)
        np.testing.assert_array_equal(after, wanted)
        self.assertFalse(self.store.outdated(HEIGHT), "bands do not change the ground")
        self.session.undo()
        self.settle()
        np.testing.assert_array_equal(self.store.column("classification"), before)
        self.assertFalse(self.store.outdated(HEIGHT))
        self.window.selection.combine(self.holding.id, np.arange(self.store.count) < 50)
        self.window.handlers.run("give_class:8")
        self.settle()
        shown = [page.notes.itemAt(i).widget().text() for i in range(page.notes.count())]
        self.assertTrue(any("Class 8" in text for text in shown), shown)
        self.assertTrue(any("before classes" in text for text in shown), shown)
        page.boxes[8].setChecked(True)
        self.settle()
        shown = [page.notes.itemAt(i).widget().text() for i in range(page.notes.count())]
        self.assertFalse(any("Class 8" in text for text in shown), shown)

    def test_the_cloud_clicked_last_is_worked_on(self):
        self.window.selection.combine(self.holding.id, np.arange(self.store.count) < 5000)
        self.window.handlers.run("new_cloud")
        self.settle()
        old, new = self.session.job.state.holdings
        self.assertEqual(self.session.main_cloud().id, old.id)
        self.window.selection.combine(old.id, np.arange(self.store.count) < 10)
        row = self.window.lists.rows[new.id]
        QTest.mouseClick(row, LEFT, PLAIN, QPoint(120, 20))
        self.settle()
        self.assertEqual(self.session.main_cloud().id, new.id)
        self.assertEqual(self.window.selection.count, 0, "what is selected belongs to the other cloud")
        self.session.select(self.session.study_id)
        self.settle()
        self.assertEqual(self.session.main_cloud().id, old.id)

    def test_height_above_ground_and_statistics(self):
        self.heights()
        self.assertEqual(self.session.main_cloud().style["by"], HEIGHT)
        values = np.asarray(self.store.column(HEIGHT))
        ground = np.asarray(self.store.column("classification")) == 2
        self.assertEqual(float(np.abs(values[ground]).max()), 0.0)
        self.assertEqual(self.store.meta.attributes[HEIGHT], "m")
        self.window.actions_by_id["cloud_statistics"].trigger()
        self.settle()
        page = self.window.right.statistics
        z = self.store.coordinates(slice(0, self.store.count))[:, 2]
        noise = np.asarray(self.store.column("classification")) == 7
        self.assertAlmostEqual(page.values["mean"][0], float(z[~noise].mean()), 9)
        self.assertEqual(page.values["count"][0], int((~noise).sum()))
        QTest.mouseClick(page.copy, LEFT)
        self.assertIn(f"mean (m)\t{plain(float(z[~noise].mean()))}", QGuiApplication.clipboard().text())

    def test_statistics_of_areas_in_plan(self):
        low, high = self.store.bounds
        low, high = low + 0.01373, high - 0.01791  # no point lies on an edge
        ring = np.array([[low[0], low[1]], [high[0], low[1]], [high[0], high[1] - 0.777]])
        from kerb.core.geometry.features import Line, LineSet
        from kerb.core.things import LINES, Placed
        from kerb.job import vault
        from kerb.job.state import Holding

        lines = LineSet((Line(np.column_stack([ring, np.full(3, np.nan)]), True, "bay"),))
        vault.save_thing(self.place / "data" / "bays", Placed(LINES, lines, self.store.reference))
        bays = Holding("bays", "Bays", LINES, data="data/bays", points=1)
        self.session.execute(Change("Bays", lambda state: state.with_holding(bays)))
        self.window.handlers.run("cloud_statistics")
        self.settle()
        page = self.window.right.statistics
        page.what.setCurrentIndex(page.what.findData("areas:bays"))
        QTest.mouseClick(page.again, LEFT)
        self.settle()
        import shapely

        xyz = self.store.coordinates(slice(0, self.store.count))
        noise = np.asarray(self.store.column("classification")) == 7
        inside = shapely.contains_xy(shapely.Polygon(ring), xyz[:, 0], xyz[:, 1]) & ~noise
        self.assertAlmostEqual(page.values["mean"][0], float(xyz[inside, 2].mean()), 9)
        item = self.session.job.thing(self.session.job.state.holding("bays"))
        self.assertEqual(item.thing.fields["count"], (int(inside.sum()),))
        page.field.setCurrentIndex(page.field.findData("p50"))
        page.field.activated.emit(0)
        self.settle()
        self.assertEqual(self.session.job.state.holding("bays").style["field"], "p50")
        self.assertIn("bay\t", page.text())
        self.window.filtering.ground_only()
        self.settle()
        page.only_shown.setChecked(True)
        QTest.mouseClick(page.again, LEFT)
        self.settle()
        ground = inside & (np.asarray(self.store.column("classification")) == 2)
        self.assertEqual(page.values["count"], [int(ground.sum())])
        self.assertIn("what is shown in", page.note.text())
        self.session.undo()
        self.session.undo()
        self.settle()
        self.assertEqual(self.session.job.thing(self.session.job.state.holding("bays")).thing.fields, {})

    def test_ground_is_found_and_given_as_classes(self):
        before = np.asarray(self.store.column("classification")).copy()
        self.heights()
        self.window.actions_by_id["find_ground"].trigger()
        self.settle()
        page = self.window.right.find_page
        page._take_terrain("flat")
        QTest.mouseClick(page.everywhere, LEFT)
        self.settle()
        boxes = [box for box in page.findChildren(QCheckBox) if "×" in box.text()]
        self.assertGreaterEqual(len(boxes), 1, "the large things of the yard are named")
        words = boxes[0].text()
        ticked, before_turn = boxes[0].isChecked(), int(self.window.selection.mask.sum())
        self.assertIn("edge", boxes[0].toolTip())
        for wanted in (not ticked, ticked):
            next(box for box in page.findChildren(QCheckBox) if box.text() == words).click()
            self.settle()
            boxes = [box for box in page.findChildren(QCheckBox) if box.text() == words]
            self.assertEqual(boxes[0].isChecked(), wanted)
        self.assertEqual(int(self.window.selection.mask.sum()), before_turn)
        page._take_terrain("benches")
        QTest.mouseClick(page.everywhere, LEFT)
        self.settle()
        found = self.window.selection.mask.copy()
        QTest.mouseClick(page.apply, LEFT)
        self.settle()
        classes = np.asarray(self.store.column("classification"))
        self.assertEqual(set(np.unique(classes)), {1, 2, 7})
        np.testing.assert_array_equal(classes == 2, found & (before != 7))
        self.assertGreater(float((classes[before == 2] == 2).mean()), 0.99)
        self.assertEqual(self.session.main_cloud().style["by"], "class")
        self.assertTrue(self.store.outdated(HEIGHT), "heights over another ground must be said to be old")
        QTest.mouseClick(page.sides["gone"], LEFT)
        self.settle()
        np.testing.assert_array_equal(self.window.colouring.layer().shown(), classes == 1)
        self.session.undo()
        self.settle()
        np.testing.assert_array_equal(self.store.column("classification"), before)
        self.session.job.redo()
        self.session.job.save()
        again = Job.open(self.place)
        np.testing.assert_array_equal(again.store(again.state.holdings[0]).column("classification"), classes)
        self.assertIn("Found the ground", again.record_text())


@contextlib.contextmanager
def answered(kind, name, answer):
    """A question that is answered without being shown."""
    own = getattr(kind, name)
    setattr(kind, name, staticmethod(lambda *_a, **_k: answer))
    try:
        yield
    finally:
        setattr(kind, name, own)
