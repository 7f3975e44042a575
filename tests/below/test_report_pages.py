"""Report pages: widths by what stands in the columns, nothing small, nothing alone, turned where wide, one place to sign."""

import io
import unittest
from dataclasses import replace

import numpy as np
import pypdfium2 as pdfium
import pypdfium2.raw as raw

from kerb.core.errors import Cancelled
from kerb.core.progress import Progress
from kerb.core.quantity import Decimals
from kerb.job.state import Title
from kerb.report.flow import register_fonts
from kerb.report.pdf import Chapter, ReportWish, make_parts, make_report
from kerb.report.tables import SIZE, printed, widths
from kerb.studies.layers import FoundLine, FoundPoints, Plot
from kerb.studies.outcome import Column, Figure, Note, Outcome, Table

LENGTH = 595.28 - 2 * 17 * 72 / 25.4


def outcome(rows=3, columns=(), notes=(), **more):
    figures = {"count": Figure(float(rows), "", "Nodes with a level"), "lowest": Figure(1.25, "m", "Lowest")}
    made = Outcome("spots", "m", "", figures, {"spacing": 2.0})
    every = (Column("name", "", "Name"), Column("e", "m", "Easting"), Column("n", "m", "Northing"), Column("z", "m", "Level"),
             *columns)  # fmt: skip
    cells = tuple((f"S{k}", 500_000.0 + k, 5_560_000.0 + k, 3.25, *(1.0 for _ in columns)) for k in range(rows))
    made.tables = {"points": Table("Spot levels", every, cells)}
    made.warnings = [Note("n", text) for text in notes]
    made.layers = {"ring": FoundLine(np.array([[0.0, 0, 0], [40, 0, 1], [40, 30, 2], [0, 30, 1]]), "edge", "Ring", closed=True)}
    for name, value in more.items():
        setattr(made, name, value)
    return made


class Pages(unittest.TestCase):
    def setUp(self):
        register_fonts()

    def document(self, *outcomes, **wish):
        chapters = [Chapter(f"Study {n}", one) for n, one in enumerate(outcomes, 1)]
        made = make_report(chapters, ReportWish(Title("Quay"), **wish))
        document = pdfium.PdfDocument(made)
        self.addCleanup(document.close)
        return document

    def text(self, document):
        return [page.get_textpage().get_text_range() for page in document]

    def sizes(self, document):
        found = []
        for page in document:
            text = page.get_textpage()
            for n in range(text.count_chars()):
                if raw.FPDFText_GetUnicode(text, n) > 32:
                    found.append(raw.FPDFText_GetFontSize(text, n))
        return found

    def test_nothing_is_smaller_than_seven_points(self):
        names = tuple(f"strip {n}" for n in range(4))
        bars = Plot("Level of each strip", "bars", np.arange(4.0), np.array([1.0, -2, 3, 1]), "", "above (m)", names)
        labels = FoundPoints(np.array([[5.0, 5, 1]]), "mark", "Points")
        one = outcome(200, tuple(Column(f"c{n}", "m", f"Column {n} of many") for n in range(9)), charts=[bars])
        one.layers["points"] = labels
        document = self.document(one, outcome(3))
        self.assertGreaterEqual(min(self.sizes(document)), 7.0 - 1e-6)
        text = " ".join(self.text(document))
        for name in names:
            self.assertIn(name, text, "bars have names")

    def test_columns_are_as_wide_as_what_stands_in_them(self):
        grid = printed(outcome(3).tables["points"], Decimals())
        wide = widths(grid, LENGTH)
        from reportlab.pdfbase.pdfmetrics import stringWidth

        for n, width in enumerate(wide):
            self.assertGreater(width, max(stringWidth(row[n], "PlexSans", SIZE) for row in grid.rows))
            self.assertGreater(width, max(stringWidth(word, "PlexSans-Medium", 7) for word in grid.heads[n].split()))
        self.assertIsNone(widths(grid, 80.0))

    def test_wide_tables_leave_out_what_is_minor_then_turn_the_page_then_part(self):
        minor = tuple(Column(f"m{n}", "m", f"Minor{n}") for n in range(13))
        turned = lambda document: [page.get_width() > page.get_height() for page in document]  # noqa: E731
        document = self.document(outcome(3, tuple(replace(c, minor=True) for c in minor)))
        self.assertNotIn("Minor3", " ".join(self.text(document)))
        self.assertFalse(any(turned(document)))
        document = self.document(outcome(3, minor))
        self.assertEqual(sum(turned(document)), 1)
        self.assertIn("Minor12", " ".join(self.text(document)))
        document = self.document(outcome(3, tuple(Column(f"w{n}", "m", f"Wide{n}") for n in range(24))))
        text = " ".join(self.text(document))
        self.assertTrue(all(f"Wide{n} " in text.replace("\r\n", " ") for n in range(24)))
        self.assertGreater(text.count("Name"), 1, "the first column stands in each part")

    def test_long_lists_stand_in_columns_and_longer_ones_say_what_is_left(self):
        document = self.document(outcome(100))
        self.assertLessEqual(len(document), 3)
        self.assertTrue(all(f"S{n}" in " ".join(self.text(document)) for n in range(100)))
        text = " ".join(self.text(self.document(outcome(319))))
        self.assertIn("279 more rows are in the tables that are saved with the report", text)
        self.assertNotIn("S300", text)

    def test_no_page_holds_a_line_or_two_of_a_table(self):
        for rows in range(16, 30):
            document = self.document(outcome(rows, (Column("why", "", "Why it is so"),)), sections=("tables",))
            for page in self.text(document)[1:]:
                self.assertGreater(page.count("S"), 3, rows)

    def test_notes_of_an_item_stand_together_each_said_once(self):
        one = outcome(3, notes=("Heap 1: is steep", "Heap 1: has no points in 2 m²", "The yard is wet.", "Heap 1: is steep"))
        one.items = {"Heap 1": outcome(2)}
        (first, *_) = self.text(self.document(one, sections=()))
        words = first.replace("\r\n", " ")
        self.assertIn("Heap 1 Is steep. Has no points in 2 m².", " ".join(words.split()))
        self.assertEqual(words.count("Note"), 2)

    def test_one_place_to_sign_at_the_end(self):
        pages = self.text(self.document(outcome(3), outcome(4), outcome(5)))
        self.assertEqual([page.count("Signature") for page in pages], [0] * (len(pages) - 1) + [1])

    def test_the_preview_is_the_report_part_by_part(self):
        chapters = [Chapter(f"Study {n}", outcome(3 + n)) for n in range(3)]
        wish = ReportWish(Title("Quay"))
        parts = list(make_parts(chapters, wish, lambda: False))
        self.assertEqual(len(parts), 5, "a summary, three studies, how the figures were made")
        pages = [page for part in parts for page in self.text(pdfium.PdfDocument(io.BytesIO(part)))]
        self.assertEqual(pages, self.text(pdfium.PdfDocument(make_report(chapters, wish))))
        self.assertEqual(list(make_parts(chapters, wish, lambda: True)), [])
        progress = Progress()
        progress.stop()
        with self.assertRaises(Cancelled):
            make_report(chapters, wish, progress)
