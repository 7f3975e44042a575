"""What a client reads: rounding by the bound, printed units, profiles from west to east, what repeats a figure, methods."""

import io
import re
import unittest
from dataclasses import replace

import numpy as np
import pypdfium2 as pdfium
from PIL import Image

from kerb.core.cloud.finders import FINDERS
from kerb.core.dates import date_in, date_of
from kerb.core.errors import InputError
from kerb.core.quantity import Decimals, bound, digits, first_of, fitting, quantity, round_number
from kerb.core.units import FOOT, METRE
from kerb.job.state import Title
from kerb.report.flow import exaggerated
from kerb.report.pdf import SECTIONS, USUAL, Chapter, ReportWish, make_report
from kerb.report.reading import (
    FORMULA,
    HEADING,
    PICTURE,
    TABLE,
    blocks_of,
    contents_of,
    formula_picture,
    method_folder,
    method_text,
)
from kerb.report.text import bound_by, printed_cell, printed_columns
from kerb.studies.accuracy.setup import AccuracySetup
from kerb.studies.inventory.setup import InventorySetup
from kerb.studies.outcome import Column, Input, Table
from kerb.studies.registry import STUDIES
from kerb.studies.scope import Scope
from tests.support import FAR, circle, frustum, heap_setup, jittered, measured, near, store_of


def plain(text):
    return text.replace("\u2009", " ").replace("\u00a0", " ").replace("\u2212", "-")


class Rounding(unittest.TestCase):
    def test_a_figure_has_no_more_digits_than_its_bound_allows(self):
        """Two digits of the bound, the value to the same place: GUM (JCGM 100:2008) 7.2.6."""
        for value, u95, value_text, bound_text in (
            (773_826.5417, 2_363.2785, "773 800 ft³", "± 2 400 ft³"), (41_232.7, 1_013.5, "41 200 ft³", "± 1 000 ft³"),
            (2_184.31, 0.0532, "2 184.3 ft³", "± 0.1 ft³"), (-12.349, 0.96, "-12.3 ft³", "± 1.0 ft³"),
            (5.0, 0.0, "5.0 ft³", "± 0.0 ft³"),
        ):  # fmt: skip
            self.assertEqual(plain(quantity(value, "ft3", u95=u95)), value_text)
            self.assertEqual(plain(bound(u95, "ft3")), bound_text)
        self.assertEqual((fitting(None, 2), fitting(float("nan"), 2), fitting(9.96, 3), fitting(0.004, 3)), (2, 2, 1, 3))
        self.assertEqual(bound(None, "m3"), "—")
        for value, text in (
            (0.0004, "< 0.001 m"), (0.00049, "< 0.001 m"), (0.0005, "0.001 m"), (0.0, "0.000 m"), (0.02, "0.020 m"),
        ):  # fmt: skip
            self.assertEqual(plain(bound(value, "m")), f"± {text}")
        self.assertEqual(plain(bound(0.9, "ft3", Decimals(volume_in="yd3"))), "± < 0.1 yd³")
        self.assertEqual([digits(v) for v in (0.0, 0.00404, 12.34, 0.995, 123.4)], ["0", "0.0040", "12", "0.99", "123"])

    def test_printed_units(self):
        """27 cubic feet to a cubic yard, 43 560 square feet to an acre, 10 000 square metres to a hectare."""
        yards = Decimals(volume_in="yd3", area_in="acre")
        self.assertEqual(plain(quantity(2700.0, "ft3", yards)), "100.0 yd³")
        self.assertEqual(plain(quantity(2700.0, "us-ft3", yards)), "100.0 yd³ (US)")
        self.assertEqual(plain(quantity(87_120.0, "ft2", yards)), "2.000 acres")
        self.assertEqual(plain(quantity(25_000.0, "m2", Decimals(area_in="ha"))), "2.5000 ha")
        self.assertEqual(plain(quantity(5.0, "m3", yards)), "5.0 m³", "a metre job has no yards")
        self.assertEqual(plain(quantity(27_000.0, "ft3", yards, u95=2_700.0)), "1 000 yd³")

    def test_tables_round_by_their_own_bounds(self):
        table = Table("T", (Column("name"), Column("net", "ft3", "Net"), Column("u95", "ft3", "± 95 %"),
                            Column("mass", "ton"), Column("change", "ft3"), Column("change_u95", "ft3")),
                      (("A", 41_232.7, 1_013.5, 5.4, 270.0, 81.0), ("B", 10.04, None, None, None, None)))  # fmt: skip
        bounds, shown = bound_by(table), Decimals(volume_in="yd3")
        self.assertEqual(bounds, {1: 2, 2: 2, 4: 5, 5: 5})
        rows = [[plain(printed_cell(table, row, n, Decimals(), bounds)) for n in range(6)] for row in table.rows]
        self.assertEqual(rows, [["A", "41 200", "1 000", "5", "270", "81"], ["B", "10.0", "—", "—", "—", "—"]])
        self.assertEqual(plain(printed_cell(table, table.rows[0], 4, shown, bounds)), "10.0")
        self.assertEqual([c.unit for c in printed_columns(table, shown)], ["", "yd3", "yd3", "ton", "yd3", "yd3"])


class Usual(unittest.TestCase):
    def test_defaults_in_feet_are_round_numbers(self):
        found = InventorySetup.usual(FOOT)
        self.assertEqual((found["least_height"], found["least_area"], found["bias"]), (2.5, 120.0, 0.0))
        self.assertEqual((found["density_unit"], InventorySetup.usual(METRE)["density_unit"]), ("ton/yd3", "t/m3"))
        self.assertEqual((InventorySetup.usual(METRE)["least_height"], AccuracySetup.usual(FOOT)["neighbours"]), (0.8, 6.0))
        for value, wanted in ((2.62, 2.5), (129.2, 120.0), (0.0328, 0.03), (9.3, 10.0), (1640.0, 1500.0), (0.0, 0.0)):
            self.assertEqual(round_number(value), wanted)
        names = [f"n{k}" for k in range(4)]
        self.assertEqual([first_of(names, most) for most in (3, 4, 5)], ["n0, n1, n2 and 1 more", *[", ".join(names)] * 2])
        store = store_of(np.random.default_rng(1).uniform(0, 90, (500, 3)), unit=FOOT)
        self.assertEqual(FINDERS["low"].usual(store).drop, 1.5)

    def test_dates_in_names(self):
        for name, wanted in (
            ("pit_2026-03-11", "2026-03-11"), ("20260311_flight2", "2026-03-11"), ("a.2026.03.11", "2026-03-11"), ("a", ""),
            ("job 20261311", ""), ("2026-03_11", ""), ("120260311", ""), ("2026-03-11 and 2026-03-12", ""), ("30000101", ""),
            ("2026-03-11 2026-03-11", "2026-03-11"), ("20260230", ""), ("2999-01-01", ""), ("1812-06-24", ""),
        ):  # fmt: skip
            self.assertEqual(date_in(name), wanted, name)

    def test_dates_as_they_are_typed(self):
        for text in (
            "2026-05-02", "2026/5/2", "20260502", "2.5.2026", "2 May 2026", "May 2, 2026", "2nd may 2026".replace("nd", ""),
        ):  # fmt: skip
            self.assertEqual(date_of(text), "2026-05-02", text)
        self.assertEqual((date_of("  "), date_of("13/05/2026"), date_of("05/13/2026"), date_of("4/4/2026")),
                         ("", "2026-05-13", "2026-05-13", "2026-04-04"))  # fmt: skip
        for text, words in (("02/05/2026", "which is the day"), ("2026-02-30", "no such day"), ("soon", "is no date"),
                            ("1.1.0042", "no survey"), ("2026-13-01", "no such day"), ("May 2026", "is no date")):  # fmt: skip
            with self.assertRaisesRegex(InputError, words):
                date_of(text)


class Profiles(unittest.TestCase):
    def test_a_heap_looks_like_a_heap(self):
        """As little exaggeration as lets heights be read, and never more than twice for anything that stands up."""
        self.assertEqual(exaggerated(8.0, 40.0, (480.0, 58.0)), 1.0)
        self.assertEqual(exaggerated(3.0, 60.0, (480.0, 58.0)), 2.0)
        self.assertEqual(exaggerated(0.2, 60.0, (480.0, 58.0)), 20.0)
        self.assertEqual(exaggerated(0.8, 60.0, (480.0, 58.0)), 3.0)


class Reports(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        xy = jittered(14, 0.2)
        cls.store = store_of(np.column_stack([xy, frustum(xy)]) + FAR)
        cls.ring = circle(10.4, 24) + FAR[:2]
        cls.outcome = measured(cls.store, cls.ring, base="level", level=float(FAR[2]), density=1.6)
        cls.outcome.inputs = [
            Input("compared", "/x/heap.laz", 1000, 800, "", "points", "2026-05-02", ("Imported from heap.laz", "12 points are set aside")),
            Input("against", "/x/base.xml", 42, 42, "", "triangles"),
        ]  # fmt: skip
        cls.setup = heap_setup(cls.ring, Scope("c", classes=(2,)), base="level", level=float(FAR[2]), density=1.6)

    def text(self, wish, **more):
        data = make_report([Chapter("Heap", self.outcome, self.store, self.setup, **more)], wish)
        document = pdfium.PdfDocument(data)
        return [re.sub(r"\s+", " ", plain(page.get_textpage().get_text_range())) for page in document], document

    def test_long_names_are_shortened_and_letter_holds_all(self):
        title = Title("A name " * 40, "A client " * 30, "A site " * 30, "An analyst " * 20, page="Letter")
        for page in ("A4", "Letter"):
            pages, document = self.text(ReportWish(replace(title, page=page)))
            self.assertLessEqual(len(pages), 2)
            size = document[0].get_size()
            text = document[0].get_textpage()
            boxes = [text.get_rect(n) for n in range(text.count_rects())]
            self.assertLess(max(box[2] for box in boxes), size[0] - 17 / 25.4 * 72 + 2, page)
            self.assertGreater(min(box[0] for box in boxes), 17 / 25.4 * 72 - 2)
            self.assertIn("…", pages[0])

    def test_printed_in_hectares(self):
        title = Title("J", decimals=Decimals(area_in="ha"))
        pages, _ = self.text(ReportWish(title))
        self.assertIn(" ha", pages[0])

    def test_methods_as_an_appendix_on_wish(self):
        self.assertNotIn("appendix", USUAL)
        pages, _ = self.text(ReportWish(Title("J"), (*USUAL, "appendix")))
        self.assertGreater(len(pages), 1)
        self.assertIn("Stockpile: how much is in a heap", pages[2])
        self.assertIn("appendix", SECTIONS)


class Methods(unittest.TestCase):
    def test_every_page_has_contents_and_formulas_that_can_be_set(self):
        for path in sorted(method_folder().glob("*.md")):
            blocks = blocks_of(path.read_text(encoding="utf-8"))
            self.assertEqual([b.level for b in blocks if b.kind == HEADING][:1], [1], path.name)
            anchors = [anchor for _, _, anchor in contents_of(blocks)]
            self.assertGreater(len(anchors), 2, path.name)
            for block in blocks:
                for link in re.findall(r'href="([^"]+)"', block.text):
                    good = link[1:] in anchors if link.startswith("#") else (path.parent / link).is_file()
                    self.assertTrue(good, f"{path.name}: {link}")
                if block.kind == PICTURE:
                    self.assertTrue((path.parent / block.text).is_file(), f"{path.name}: {block.text}")
                if block.kind == FORMULA:
                    from matplotlib.mathtext import MathTextParser

                    MathTextParser("path").parse(f"${block.text}$")
                if block.kind == TABLE:
                    self.assertEqual(len({len(row) for row in block.rows}), 1)
        kinds = [blocks_of(method_text(kind.help_page)) for kind in STUDIES.values()]
        self.assertTrue(all(any(b.kind == FORMULA for b in blocks) for blocks in kinds), "formulas are set as formulas")
        self.assertIn("was not found", method_text("none.md"))

    def test_formulas_become_pictures(self):
        picture = Image.open(io.BytesIO(formula_picture(r"V = \frac{A\,(h_1+h_2+h_3)}{3}", "#204060", 12, 2.0)))
        ink = np.asarray(picture)
        self.assertTrue(60 < picture.size[0] < 500 and 20 < picture.size[1] < 120, picture.size)
        near(ink[ink[..., 3] == 255][0][:3], [0x20, 0x40, 0x60], atol=1)
        self.assertGreater(Image.open(io.BytesIO(formula_picture(r"\nonsense{", "#000000", 12))).size[0], 10)
