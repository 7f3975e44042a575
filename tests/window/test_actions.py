"""Every action of the registry, every menu and every reading page, done in a real window: none may fail or hang."""

import contextlib
import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
import rasterio
from affine import Affine
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QColor, QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QColorDialog, QDialog, QFileDialog, QInputDialog

from kerb.app.actions import actions
from kerb.app.dialogs.deliver import Deliver
from kerb.app.dialogs.questions import Box
from kerb.app.dialogs.reading import Reading
from kerb.app.dialogs.write import ask_target
from kerb.core.cloud.finders import FINDERS
from kerb.core.cloud.sieve import Sieve
from kerb.core.geometry.features import Line, LineSet
from kerb.core.things import LINES, PICTURE, PictureRef, Placed
from kerb.demo import yard
from kerb.job import pointwork, vault
from kerb.job.job import Change
from kerb.job.state import Holding
from tests.window.test_window import HEAP, LEFT, PLAIN, Windowed

ENDING = {
    "quit",
    "open_demo",
    "theme",
    "close_job",
    "remove_holding",
}  # these close the window or put another in its place: tested elsewhere
ASKING = (
    (QFileDialog, "getOpenFileName", ("", "")), (QFileDialog, "getOpenFileNames", ([], "")),
    (QFileDialog, "getSaveFileName", ("", "")), (QFileDialog, "getExistingDirectory", ""),
    (QInputDialog, "getText", ("", False)), (QInputDialog, "getItem", ("", False)),
    (QColorDialog, "getColor", QColor()),
)  # fmt: skip


@contextlib.contextmanager
def answers(*given):
    """Every question is answered at once: as ``given`` (kind, name, answer), the others by giving up."""
    shown = []
    with contextlib.ExitStack() as stack:
        for kind, name, answer in (*ASKING, *given):
            stack.enter_context(mock.patch.object(kind, name, staticmethod(lambda *_a, _r=answer, **_k: _r)))
        stack.enter_context(mock.patch.object(QDialog, "exec", lambda self: shown.append(self) or 0))
        stack.enter_context(mock.patch.object(Box, "exec", lambda _self: 0))
        yield shown


class EveryAction(Windowed):
    sieve = Sieve(every=3)

    def menus(self):
        """Close what popped up."""
        if self.window.handlers.studies.menu_shown is not None:
            self.window.handlers.studies.menu_shown.close()

    def test_each_can_be_done_and_given_up(self):
        """With a job: whatever is offered does something or asks, and a question may be given up."""
        self.window.resize(900, 600)
        self.draw_toe()
        before = self.session.job.state.holdings
        done = []
        with answers() as shown:
            for entry in actions():
                action = self.window.actions_by_id[entry.id]
                if entry.id in ENDING or not action.isEnabled():
                    continue
                action.trigger()
                self.menus()
                done.append(entry.id)
                if self.window.handlers.data.dialog is not None:
                    self.window.handlers.data.dialog.reject()
                self.settle()
        self.assertEqual(self.complaints, [])
        self.assertGreater(len(done), 50, done)
        self.assertGreaterEqual(sum(isinstance(dialog, Reading) for dialog in shown), 6)
        self.assertEqual([h.points for h in self.session.job.state.holdings][:1], [before[0].points])
        for dialog in shown:
            if isinstance(dialog, Deliver):
                dialog.reject()
        for dialog in shown:
            dialog.deleteLater()

    def test_search_of_every_finder_from_the_command_field(self):
        self.look_at_heap()
        page = self.window.right.find_page
        for key in FINDERS:
            self.window.handlers.run(f"find_points:{key}")
            self.settle()
            self.assertEqual(page.finder.id, key)
            self.assertTrue(page.isVisible())
            if not FINDERS[key].seeded:
                self.assertRegex(page.figure.text() + page.note.text(), r"\d|does not say")
        self.assertEqual(self.complaints, [])

    def test_only_what_the_open_study_has_to_offer_can_be_chosen(self):
        self.look_at_heap()
        offered = {"pick_place": "place_steps", "move_by_eye": "move_step", "write_study": "write"}
        found = {"keep_with_points": "keeps", "correct_study": "corrections"}
        for kind in ("", "sections", "align", "accuracy"):
            if kind:
                self.window.handlers.run(f"new_study:{kind}")
                self.settle()
            about, setup = self.window.session.kind, self.window.session.setup
            ready = {"write_study": not setup.missing()}
            for action, what in (offered | found).items():
                can = bool(getattr(about, what)) and (action not in found or not kind) and ready.get(action, True)
                self.assertEqual(self.window.actions_by_id[action].isEnabled(), can, (kind, action))


class Menus(Windowed):
    def test_menu_of_a_part(self):
        holding = self.session.job.state.holdings[0]
        job = self.session.job
        many = np.arange(holding.points) < 3000
        self.session.execute(pointwork.new_part(job, holding, many, "road"))
        self.session.execute(pointwork.new_part(job, job.state.holdings[0], ~many, "rest"))
        self.settle()

        def choose(words, inner=""):
            QTest.mouseClick(row_of("1"), Qt.MouseButton.RightButton, PLAIN, QPoint(90, 12))
            menu = row_of("1").menu_shown
            action = next(a for a in menu.actions() if a.text().startswith(words))
            inside = action.menu()
            (next(a for a in inside.actions() if a.text() == inner) if inner else action).trigger()
            menu.close()
            self.settle()

        def row_of(number):
            return self.window.lists.rows[f"{holding.id}|{number}"]

        def parts():
            return {part.number: part for part in job.state.holdings[0].parts}

        with answers((QInputDialog, "getText", ("haul road", True)), (QColorDialog, "getColor", QColor("#123456"))):
            choose("Rename")
            choose("Colour")
        self.assertEqual((parts()[1].name, parts()[1].ink), ("haul road", "#123456"))
        choose("Select its points")
        self.assertEqual(self.window.selection.count, 3000)
        choose("Show only this")
        self.assertEqual(int(self.window.colouring.layer().shown().sum()), 3000)
        choose("Merge into", "rest")
        self.assertEqual(list(parts()), [2])
        self.session.undo()
        self.settle()
        choose("Remove; its points stay")
        self.assertEqual(list(parts()), [2])
        self.assertEqual(self.session.job.store(job.state.holdings[0]).used, holding.points)

    def test_page_and_menu_of_a_holding(self):
        holding = self.session.job.state.holdings[0]
        self.window.handlers.run(f"look_over:{holding.id}")
        self.settle()
        page = self.window.right.holding_page
        page.grab()
        page.copy()
        text = QGuiApplication.clipboard().text()
        self.assertIn("Points", text)
        self.assertIn("Density", text)
        target = self.place.parent / "out.laz"
        said = (QInputDialog, "getText", ("2026-04-02", True)), (QFileDialog, "getSaveFileName", (str(target), ""))
        with answers(*said):
            for words in ("Set epoch", "Duplicate", "Write to a file"):
                page._menu()
                next(a for a in page.menu_shown.actions() if a.text().startswith(words)).trigger()
                page.menu_shown.close()
                self.settle()
        state = self.session.job.state
        self.assertEqual((state.holdings[0].epoch, len(state.holdings)), ("2026-04-02", 2))
        self.assertTrue(target.exists())
        self.assertNotEqual(state.holdings[0].data, state.holdings[1].data)
        self.session.execute(Change("x", lambda s: s))
        page._menu()
        next(a for a in page.menu_shown.actions() if a.text() == "Remove").trigger()
        page.menu_shown.close()
        self.settle()
        self.assertEqual(len(self.session.job.state.holdings), 1)
        self.session.undo()
        self.settle()
        self.assertEqual(len(self.session.job.state.holdings), 2)

    def test_a_picture_is_made_pale_and_draped(self):
        low = np.array(yard.ORIGIN)
        ref = PictureRef(20, 10, (5.0, 0.0, low[0], 0.0, -10.0, low[1] + 100))
        system = self.session.job.state.title.reference_system()
        vault.save_thing(self.place / "data" / "air", Placed(PICTURE, ref, system))
        image = self.place / "data" / "air" / "picture.tif"
        with rasterio.open(
            image, "w", driver="GTiff", width=20, height=10, count=4, dtype="uint8",
            transform=Affine(*ref.affine), crs="EPSG:25830",
        ) as out:  # fmt: skip
            out.write(np.full((4, 10, 20), 200, np.uint8))
        picture = Holding("air", "From the air", PICTURE, data="data/air", points=200)
        self.session.execute(Change("Picture", lambda state: state.with_holding(picture)))
        self.window.handlers.run("look_over:air")
        self.settle()
        page = self.window.right.holding_page
        for words in ("Opacity 50", "Drape"):
            page._menu()
            next(a for a in page.menu_shown.actions() if a.text().startswith(words)).trigger()
            page.menu_shown.close()
            self.settle()
        style = self.session.job.state.holding("air").style
        self.assertEqual((style["opacity"], style["drape"]), (0.5, True))
        self.assertEqual(self.complaints, [])

    def test_classes_of_a_study_are_ticked_in_a_menu(self):
        self.window.handlers.run("choose_classes:cloud")
        menu = self.window.handlers.studies.menu_shown
        ticked = {a.text(): a.isChecked() for a in menu.actions()}
        self.assertEqual([words for words, on in ticked.items() if on], ["2  Ground"])
        next(a for a in menu.actions() if a.text().startswith("4 ")).trigger()
        self.assertEqual(self.session.setup.cloud.classes, (2, 4))
        # A click on a tick leaves the menu open, and the tick follows.
        action = next(a for a in menu.actions() if a.text().startswith("2 "))
        QTest.mouseClick(menu, LEFT, pos=menu.actionGeometry(action).center())
        self.assertEqual(self.session.setup.cloud.classes, (4,))
        self.assertTrue(menu.isVisible())
        self.assertEqual([a.text() for a in menu.actions() if a.isChecked()], ["4  Medium vegetation"])
        menu.setActiveAction(action)
        QTest.keyClick(menu, Qt.Key.Key_Space)
        self.assertEqual(self.session.setup.cloud.classes, (2, 4))
        self.assertTrue(menu.isVisible())
        next(a for a in menu.actions() if a.text() == "All but noise").trigger()
        self.assertEqual(self.session.setup.cloud.classes, ())
        menu.close()
        self.settle()


class Reports(Windowed):
    def test_figures_and_report_are_saved_from_the_dialog(self):
        self.draw_toe()
        self.window.handlers.run("compute")
        self.settle()
        dialog = Deliver(self.session, self.window)
        folder = Path(self.place.parent)
        with answers((QFileDialog, "getSaveFileName", (str(folder / "figures.csv"), ""))):
            dialog._save_csv()
        text = (folder / "figures.csv").read_text(encoding="utf-8")
        self.assertTrue(text.startswith(HEAP.name))
        self.assertIn("Net,", text)
        with answers((QFileDialog, "getSaveFileName", (str(folder / "none" / "report.pdf"), ""))):
            dialog._save()
        self.settle()
        self.assertIn("not saved", self.complaints[-1][0])
        with answers((QFileDialog, "getSaveFileName", (str(folder / "report.pdf"), ""))):
            dialog._save()
        self.settle()
        self.assertTrue((folder / "report.pdf").read_bytes().startswith(b"%PDF"))
        self.assertIn("Delivered report", self.session.job.record_text())
        self.assertEqual(list(folder.glob("*.partial")), [])
        self.complaints.clear()
        with answers((QFileDialog, "getSaveFileName", (str(folder), ""))):
            dialog._save()
        self.assertIn("is a folder", self.complaints[-1][1])
        self.complaints.clear()
        dialog.reject()
        dialog.deleteLater()


class Targets(Windowed):
    def test_what_is_there_goes_only_when_that_was_said(self):
        """With the ending of the kind chosen; what the chooser could not ask about is asked; a source of the job stays."""
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (folder / "t.xlsx").touch()
        source = Path(self.session.main_cloud().source)

        def asked(path, chosen="", said="Cancel", endings=(".csv", ".xlsx")):
            chooser = (QFileDialog, "getSaveFileName", (str(path), chosen))
            with answers(chooser), mock.patch("kerb.app.dialogs.write.ask", return_value=said):
                return ask_target(self.window, self.session, "a/b: c", endings)

        self.assertIsNone(asked(""))
        self.assertEqual(asked(folder / "new"), folder / "new.csv")
        self.assertEqual(asked(folder / "new.1", "Spreadsheet (*.xlsx)"), folder / "new.1.xlsx")
        # The chooser itself asks about the very name that is typed.
        self.assertEqual(asked(folder / "t.xlsx"), folder / "t.xlsx")
        self.assertIsNone(asked(folder / "t", "Spreadsheet (*.xlsx)"))
        self.assertEqual(asked(folder / "t", "Spreadsheet (*.xlsx)", "Replace"), folder / "t.xlsx")
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=("", "")) as chooser:
            ask_target(self.window, self.session, "a/b: c", (".csv",))
        self.assertEqual(Path(chooser.call_args[0][2]), folder / "a_b_ c.csv")
        self.assertIsNone(asked(source, "", "Replace", (source.suffix,)))
        self.assertIn("is a source of this job", self.complaints.pop()[1])


class Legends(Windowed):
    def test_limits_are_dragged_and_fitted_again(self):
        legend = self.window.legend
        low, high = self.window.colouring.layer().limits()
        self.window.colouring.style(low=low + 0.25, high=high - 0.25)
        self.settle()
        self.assertEqual(self.window.colouring.layer().limits(), (low + 0.25, high - 0.25))
        QTest.mouseDClick(legend, LEFT, PLAIN, QPointF(legend.width() / 2, legend.height() / 2).toPoint())
        self.settle()
        again = self.window.colouring.layer().limits()
        self.assertTrue(again[0] < again[1])
        for low, high in ((49.99, 50.01), (3.0, 3.0004), (0.0, 80.0), (-500.0, 900.0)):
            legend.limits = (low, high)
            words = [legend._words(low + (high - low) * share) for share in (0, 1 / 3, 2 / 3, 1)]
            self.assertEqual(len(set(words)), 4, words)

    def test_bands_in_place_of_the_ramp(self):
        self.look_at_heap()
        legend, layer = self.window.legend, self.window.colouring.layer
        with answers((QInputDialog, "getText", ("3,2 4.5; 6", True))):
            legend._ask_bands()
        self.settle()
        self.assertEqual(layer().style.bands, (3.2, 4.5, 6.0))
        image = self.view.picture.image
        rows = self.view.picture.buffer.rows
        z = layer().store.elevations(slice(0, layer().store.count))
        self.assertGreater(len({int(np.searchsorted([3.2, 4.5, 6.0], z[r], side="right")) for r in rows[rows >= 0][::50]}), 2)
        self.assertIsNone(legend._end_at(100), "bands have no ends to drag")
        self.assertFalse(legend.grab().toImage().isNull())
        self.assertGreater(image.size, 0)
        for text in ("4 3", "a b", "1 1", " ".join(map(str, range(40))), "nan 2"):
            legend.set_bands(text)
            self.assertEqual(layer().style.bands, (3.2, 4.5, 6.0), text)
        self.window.actions_by_id["save"].trigger()
        self.window.handlers.jobs.open_folder(self.place)
        self.settle()
        self.assertEqual(self.window.colouring.layer().style.bands, (3.2, 4.5, 6.0))
        self.window.colouring.colour_by("intensity")
        self.settle()
        self.assertEqual(self.window.colouring.layer().style.bands, (), "edges are those of one attribute")
        self.window.legend.set_bands("")
        self.assertEqual(self.complaints, [])

    def test_lines_with_names_and_fields_are_drawn_everywhere(self):
        low = np.array([*yard.ORIGIN, 3.0])
        ring = low + [[20, 20, 0], [90, 25, 0], [70, 80, np.nan]]
        lines = LineSet((Line(ring, True, "bay"), Line(ring[:2], False, "edge")), fields={"mean": (4.25, None)})
        system = self.session.job.state.title.reference_system()
        vault.save_thing(self.place / "data" / "bays", Placed(LINES, lines, system))
        bays = Holding("bays", "Bays", LINES, data="data/bays", points=2, style={"field": "mean"})
        self.session.execute(Change("Bays", lambda state: state.with_holding(bays)))
        for mode in ("view_plan", "view_orbit", "view_section"):
            self.window.handlers.run(mode)
            self.settle()
            self.assertFalse(self.view.grab().toImage().isNull())
        self.assertEqual(self.complaints, [])
