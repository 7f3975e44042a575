"""What a newcomer met: commands that act on what was not chosen, rows that jump, panes that empty, copies beside copies."""

from dataclasses import replace
from unittest import mock

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QEnterEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QInputDialog, QPushButton

from kerb.app.dialogs.chooser import StudyChooser
from kerb.app.dialogs.deliver import Deliver
from kerb.app.dialogs.surface_look import SurfaceLook
from kerb.app.dialogs.systems import SystemDialog
from kerb.app.dialogs.title import TitleBlock
from kerb.app.tools.editing import EditShapes
from kerb.app.views.panes import BESIDE
from kerb.app.views.view import PLAN, SECTION
from kerb.core.cloud.sieve import Sieve
from kerb.core.geometry.features import Line, LineSet
from kerb.core.things import LINES, Placed
from kerb.demo import yard
from kerb.draw.camera import Camera, fitted
from kerb.job import holdings, studies, vault
from kerb.job.job import Change, Job
from kerb.job.state import Holding
from kerb.studies.registry import STUDIES
from kerb.studies.scope import Scope
from tests.window.test_actions import answers
from tests.window.test_window import Windowed, answering, wait

LONG = "A very long name that somebody gave it, with place, date and instrument"


class Newcomer(Windowed):
    sieve = Sieve(every=3)

    def twin(self, name="Twin"):
        change, made = holdings.duplicated(self.session.job, self.session.main_cloud())
        self.session.execute(change)
        self.session.execute(holdings.altered(made, "Named", name=name))
        return self.session.job.state.holding(made.id)

    def test_a_command_asks_which_holding_it_is_about(self):
        first, second = self.session.main_cloud(), self.twin()
        self.window.right.show_page("study", "")
        asked = []

        def item(_parent, title, _label, names, at, _editable):
            asked.append((title, names, at))
            return names[1], True

        with mock.patch.object(QInputDialog, "getItem", item):
            self.window.handlers.run("remove_holding")
        self.assertEqual(asked[0][0], "Remove which holding?")
        self.assertEqual(asked[0][1], [first.name, second.name])
        self.assertEqual([h.id for h in self.session.job.state.holdings], [first.id])
        self.session.undo()
        with mock.patch.object(QInputDialog, "getItem", lambda *_: ("", False)):
            self.window.handlers.run("remove_holding")
        self.assertEqual(len(self.session.job.state.holdings), 2, "given up")

    def test_removing_what_studies_use_names_them(self):
        holding = self.session.main_cloud()
        self.window.handlers.run("new_study:surface")
        self.settle()
        self.assertEqual(len(studies.users_of(self.session.job.state, holding)), 2)
        with answering("Cancel") as asked:
            self.window.handlers.run(f"remove_holding:{holding.id}")
        self.assertIn(self.session.job.state.studies[0].name, asked[0][1])
        self.assertIsNotNone(self.session.job.state.holding(holding.id))
        with answering("Remove it"):
            self.window.handlers.run(f"remove_holding:{holding.id}")
        self.assertIsNone(self.session.job.state.holding(holding.id))
        said = []
        self.session.said.connect(said.append)
        self.window.handlers.run("compute")
        self.settle()
        self.assertTrue(any("Cloud: what was chosen is no longer in the job" in text for text in said), said)
        self.assertIsNone(self.session.shown().outcome)
        self.complaints.clear()

    def test_what_is_found_by_name_is_chosen(self):
        self.twin()
        key = self.session.job.state.holdings[1].id
        self.window.handlers.run(f"holding:{key}")
        self.assertEqual(self.window.right.holding_page.key, key)
        with answers((QInputDialog, "getText", ("", False))):
            self.window.handlers.run("rename_holding")
        self.assertEqual(self.window.handlers.data.looked_over().id, key)

    def test_the_field_finds_settings_and_says_when_nothing_is_found(self):
        field = self.window.header.command
        self.assertEqual(field.choices("new surface")[0][1], "New surface")
        found = {key for key, *_ in field.choices("toe")}
        self.assertTrue(any(key.startswith("field:toe") for key in found), found)
        self.window.handlers.run("field:toe_error")
        self.settle()
        editor = self.window.sheet.fields["toe_error"]
        self.assertFalse(editor.isHidden())
        field.setText("zzzz")
        field.textEdited.emit("zzzz")
        self.assertTrue(field.popup.isVisible())
        self.assertIn("Nothing found", field.list.item(0).text())
        field.returnPressed.emit()
        field._hide()

    def test_a_new_study_takes_no_tool_and_begins_at_its_top(self):
        self.enterContext(mock.patch.object(self.session, "rest"))
        for kind in STUDIES:
            self.window.sheet.scroller.verticalScrollBar().setValue(300)
            self.window.handlers.run(f"new_study:{kind}")
            self.settle()
            self.assertIsInstance(self.view.tool, EditShapes, kind)
            self.assertEqual(self.window.sheet.scroller.verticalScrollBar().value(), 0, kind)
            target = np.array(self.view.camera.target[:2])
            self.assertLess(np.abs(target - yard.ORIGIN).max(), 1000, kind)
        before = self.session.job.state
        QTest.mouseClick(self.view, Qt.MouseButton.LeftButton, pos=self.view.rect().center())
        self.assertEqual(self.session.job.state.studies, before.studies)
        self.complaints.clear()

    def test_undo_of_a_new_study_goes_back_to_the_one_before(self):
        self.window.handlers.run("new_study:surface")
        second = self.session.study_id
        self.window.handlers.run("new_study:contours")
        self.session.undo()
        self.assertEqual(self.session.study_id, second)
        self.settle()

    def test_areas_are_taken_once(self):
        squares = [np.array([[x, 0.0, 1], [x + 10, 0, 1], [x + 10, 10, 1], [x, 10, 1]]) + [*yard.ORIGIN, 0] for x in (0, 5, 40)]
        lines = LineSet(tuple(Line(xyz, True, f"A{n}", "areas") for n, xyz in enumerate(squares)))
        item = Placed(LINES, lines, self.session.job.state.title.reference_system())
        vault.save_thing(self.session.job.folder / "data" / "0123456789", item)
        self.session.execute(
            Change("l", lambda s: s.with_holding(Holding("0123456789", "Plots", LINES, data="data/0123456789", points=3)))
        )
        self.window.handlers.run("new_study:inventory")
        self.settle()
        said = []
        self.session.said.connect(said.append)
        self.window.handlers.run("take_rings:heaps")
        self.assertEqual(len(self.session.setup.heaps), 3)
        self.assertTrue(any("overlapping: A0 and A1" in text for text in said), said)
        self.window.handlers.run("take_rings:heaps")
        self.assertEqual(len(self.session.setup.heaps), 3)
        self.assertIn("none was taken twice", said[-1])

    def test_what_follows_from_the_data(self):
        cloud = self.session.main_cloud()
        job = self.session.job
        low, high = job.bounds_of(cloud)
        spots = studies.fitted(job, "spots", STUDIES["spots"].setup(cloud=Scope(cloud.id)))
        nodes = np.prod((high - low)[:2]) / spots.spacing**2
        self.assertTrue(600 < nodes < 6000, nodes)
        lines = studies.fitted(job, "contours", STUDIES["contours"].setup(surface=Scope(cloud.id)))
        self.assertTrue(8 < (high - low)[2] / lines.interval < 50)
        for step in (spots.spacing, lines.interval):
            self.assertIn(f"{step:.0e}"[0], "125")

    def test_a_surface_made_again_takes_the_place_of_the_one_before(self):
        cloud = self.session.main_cloud()
        setup = STUDIES["surface"].setup(cloud=Scope(cloud.id), spacing=2.0, keep=True)
        change, study = studies.made(self.session.job.state, "surface", "Ground", setup)
        self.session.execute(change)
        self.session.select(study.id)
        for spacing in (2.0, 4.0):
            self.session.commit("Spacing", spacing=spacing)
            self.session.compute()
            self.settle()
        made = [h for h in self.session.job.state.holdings if h.maker]
        self.assertEqual(len(made), 1)
        self.assertEqual(
            made[0].points,
            self.session.job.thing(made[0]).count if hasattr(self.session.job.thing(made[0]), "count") else made[0].points,
        )
        self.assertIn("made anew", made[0].steps)
        row = self.window.lists.rows[made[0].id]
        self.assertNotIn("out of date", row.second)
        self.session.commit("Spacing", spacing=8.0)
        self.assertTrue(studies.outdated(self.session.job.state, made[0]))
        self.settle()
        self.session.undo()

    def test_a_slice_stays_where_it_is_when_all_is_fitted(self):
        rng = np.random.default_rng(1)
        for _ in range(20):
            camera = Camera(tuple(rng.uniform(-50, 50, 3)), 1.0, heading=rng.uniform(0, 360), tilt=0.0, thickness=1.0)
            low = rng.uniform(-100, 0, 3)
            seen = fitted(low, low + rng.uniform(1, 200, 3), (800, 600), camera)
            shift = np.array(seen.target) - np.array(camera.target)
            self.assertAlmostEqual(float(shift @ camera.axes[2]), 0.0, places=9)

    def test_panes_forget_the_place_of_the_job_before(self):
        self.window.panes.arrange(BESIDE, (PLAN, SECTION))
        self.settle()
        for view in self.window.panes.views():
            view.set_camera(replace(view.camera, target=(9e5, 9e6, 0.0)), moving=False)
        folder = self.session.job.folder
        self.session.job.save()
        self.window.handlers.jobs.close_job()
        self.session.set_job(Job.open(folder))
        self.settle()
        for view in self.window.panes.views():
            self.assertLess(np.abs(np.array(view.camera.target[:2]) - yard.ORIGIN).max(), 1000, view.mode)

    def test_nothing_in_the_sheet_moves_under_the_mouse(self):
        sheet = self.window.sheet
        self.settle()
        under = sheet.fields["cloud"]
        with mock.patch.object(type(under), "underMouse", lambda widget: widget is under):
            at = under.mapToGlobal(QPoint(0, 0)).y()
            for notes in (
                ["one note"] * 1,
                [f"note {n} of some length that takes a line or two of the sheet" for n in range(4)],
                [],
            ):
                sheet._keeping_still(lambda notes=notes: (sheet._warnings(notes), sheet._judge("Wrong" if notes else "")))
                QApplication.processEvents()
                self.assertEqual(under.mapToGlobal(QPoint(0, 0)).y(), at, notes)
        sheet.leaveEvent(QEnterEvent(QPointF(0, 0), QPointF(0, 0), QPointF(0, 0)))
        self.assertEqual(sheet.room.height(), 0)

    def test_many_and_long_fit_the_smallest_window(self):
        first, study = self.session.main_cloud(), self.session.job.state.studies[0]

        def many(state):
            more = tuple(replace(first, id=f"{n:010x}", name=f"{LONG} {n}", visible=False) for n in range(199))
            asked = tuple(replace(study, id=f"s{n:09x}", name=f"{LONG} {n}", found=None) for n in range(59))
            return replace(state, holdings=(*state.holdings, *more), studies=(*state.studies, *asked))

        self.session.execute(Change("many", many))
        self.settle()
        system = self.session.job.state.title.reference_system()
        for size in ((1280, 720), (980, 620)):
            self.window.resize(*size)
            self.settle()
            self.assertEqual((self.window.width(), self.window.height()), size)
            for make in (lambda: Deliver(self.session, self.window), lambda: TitleBlock(self.session, self.window),
                         lambda: StudyChooser(self.window), lambda: SystemDialog(system, self.window),
                         lambda: SurfaceLook(self.session, self.window)):  # fmt: skip
                dialog = make()
                least = dialog.minimumSizeHint()
                self.assertLessEqual(least.width(), size[0] - 20, type(dialog))
                self.assertLessEqual(least.height(), size[1] - 60, type(dialog))
                dialog.resize(least.expandedTo(dialog.minimumSize()))
                dialog.show()
                wait(0.05)
                for button in dialog.findChildren(QPushButton):
                    inside = dialog.rect().contains(button.mapTo(dialog, QPoint(button.width() - 1, button.height() - 1)))
                    scrolled = isinstance(dialog, Deliver) and button not in (dialog.save,)
                    self.assertTrue(inside or scrolled or not button.isVisible(), (type(dialog), button.text()))
                dialog.close()
                dialog.deleteLater()
        self.session.undo()
        self.settle()
