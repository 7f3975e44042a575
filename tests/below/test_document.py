"""A report as a Word document, read again by python-docx and as the XML that it is."""

import zipfile
from dataclasses import replace

import docx
from lxml import etree

from kerb.core.progress import silent
from kerb.demo import yard
from kerb.job import holdings, studies
from kerb.job.job import Job
from kerb.job.state import Title
from kerb.report.deliver import chapters_of
from kerb.report.pdf import ReportWish
from kerb.report.write import made_for
from kerb.studies.drawn import Drawn
from kerb.studies.outcome import Note
from kerb.studies.scope import Scope
from tests.support import YARD, CommandLine
from tests.third import LevelSetup, registered


class Document(CommandLine):
    def setUp(self):
        super().setUp()
        self.enterContext(registered())
        self.area = self.folder / "area.csv"
        self.area.write_text("500110,4000110\n500140,4000110\n500140,4000140\n500110,4000140\n")

    def chapter(self):
        ring = [
            [float(yard.ORIGIN[0]) + x, float(yard.ORIGIN[1]) + y] for x, y in ((20, 20), (40, 20), (40, 40), (20, 40), (20, 20))
        ]
        self.area = self.folder / "area.geojson"
        self.area.write_text('{"type":"Feature","properties":{},"geometry":{"type":"Polygon","coordinates":[' + str(ring) + "]}}")
        path = self.folder / "level.docx"
        self.assertEqual(
            self.kerb("third", YARD, "--area", self.area, "--remark", "a & b <c>", "--report", path)[0], 0, self.error
        )
        return path

    def test_figures_tables_pictures_and_words(self):
        path = self.chapter()
        read = docx.Document(path)
        words = "\n".join(paragraph.text for paragraph in read.paragraphs)
        for said in ("How high does it stand?", "Arithmetic mean.", "Inputs", "To repeat it", "a & b <c>"):
            self.assertIn(said, words)
        figures = {row.cells[0].text: row.cells[1].text for row in read.tables[0].rows}
        self.assertRegex(figures["Level"], r"\d\sm$")
        self.assertGreaterEqual(len(read.inline_shapes), 2, "the plan and the curve")
        heights = read.tables[1]
        self.assertEqual([cell.text for cell in heights.rows[0].cells], ["No.", "Elevation (m)"])
        self.assertEqual(len(heights.rows), 51)
        with zipfile.ZipFile(path) as held:
            for name in held.namelist():
                if name.endswith(".xml"):
                    etree.fromstring(held.read(name))
            self.assertIn(b"w:tblHeader", held.read("word/document.xml"))

    def test_by_its_ending_and_no_other(self):
        path = self.chapter()
        self.assertEqual(self.kerb("third", YARD, "--area", self.area, "--report", path)[0], 2)
        self.assertIn("--force", self.error)
        self.assertEqual(self.kerb("third", YARD, "--area", self.area, "--report", self.folder / "level.odt")[0], 2)
        self.assertIn("a report is written as .pdf or .docx", self.error)
        self.assertFalse((self.folder / "level.odt").exists())

    def test_names_of_files_with_what_xml_cannot_hold(self):
        job = Job.create(self.folder / "j.kerb")
        holding = holdings.import_cloud(job.folder, job.state, holdings.ImportWish(YARD), silent())
        job.execute(holdings.added(job, holding))
        square = Drawn.of([[yard.ORIGIN[0] + x, yard.ORIGIN[1] + y] for x, y in ((20, 20), (40, 20), (40, 40), (20, 40))])
        change, study = studies.made(job.state, "third", "x\x0b\x1b[31m\ud800", LevelSetup(Scope(holding.id), area=square))
        job.execute(change)
        outcome, print_ = studies.run_study(job, study, silent())
        job.execute(studies.answered(study, outcome, print_))
        chapters = [replace(chapter, outcome=_noted(chapter.outcome)) for chapter in chapters_of(job)]
        data = made_for(self.folder / "a.docx", chapters, ReportWish(Title(name="A\x00B")))
        (self.folder / "a.docx").write_bytes(data)
        words = "\n".join(paragraph.text for paragraph in docx.Document(self.folder / "a.docx").paragraphs)
        self.assertIn("x[31m", words)
        self.assertIn("Note: odd <b>one</b>", words)


def _noted(outcome):
    outcome.warnings.append(Note("odd", "odd\x07 <b>one</b>"))
    return outcome
