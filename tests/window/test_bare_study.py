"""A study that declares no more than it must: tenths of millimetres, a map with limits of its own, a table for files, live by its run.

Nothing in window, report or command line knows of it.
"""

from dataclasses import dataclass
from unittest import mock

import numpy as np
import pypdfium2 as pdfium

from kerb.core.progress import silent
from kerb.job import studies
from kerb.report.deliver import chapter_of
from kerb.report.pdf import ReportWish, make_report
from kerb.studies import fields as f
from kerb.studies.kind import HEADLINE, LENGTH, REPORT, SHEET, FigureAbout, StudyKind
from kerb.studies.layers import FoundMesh
from kerb.studies.outcome import Column, Figure, Outcome, Table
from kerb.studies.registry import STUDIES
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup
from tests.support import YARD, CommandLine
from tests.window.test_window import Windowed, wait

ROWS = 520


@dataclass(frozen=True)
class WaveSetup(Setup):
    """A cloud, and by how much its waves are scaled."""

    cloud: Scope = f.scope("Cloud", "Points", needed="Choose a cloud.")
    times: float = f.number("Times", "What waves are multiplied by", "", default=1.0, above=0.0)
    lift: float = f.number("Lift", "Added to each", default=0.0, low=0.0)


def run(setup: WaveSetup, sources, _progress) -> Outcome:
    """Waves of two millimetres over the middle of the cloud."""
    setup.check()
    store = sources.store("cloud")
    low, high = store.bounds
    wave = 0.0020002 * setup.times * np.sin(np.arange(ROWS)) + setup.lift
    fine = {"resolution": 0.0001}
    outcome = Outcome(
        "bare", sources.unit.code, "", {"rms": Figure(float(wave.max()), sources.unit.code, "Highest", **fine)}, setup.settings()
    )
    outcome.inputs = [sources.input("cloud", "cloud", store.count)]
    columns = (Column("n", "", "No."), Column("wave", sources.unit.code, "Wave", **fine))
    outcome.tables["waves"] = Table("Waves", columns, tuple((n, float(v)) for n, v in enumerate(wave)), printed=0)
    corners = np.array([[low[0], low[1], high[2]], [high[0], low[1], high[2]], [high[0], high[1], high[2]]])
    outcome.layers["map"] = FoundMesh(
        corners,
        np.array([[0, 1, 2]], np.int32),
        "map",
        "Waves",
        sources.unit.code,
        wave[:3],
        limits=(-0.001, 0.003),
        bands=(0.0, 0.002),
    )
    outcome.method = "A sine."
    return outcome


BARE = StudyKind(
    id="bare", title="Waves", question="How high are the waves?", group="Levels", name="Waves", setup=WaveSetup, run=run,
    help_page="placing.md", example="kerb bare yard.laz", figures=(FigureAbout("rms", "Highest", LENGTH, (HEADLINE, SHEET, REPORT)),),
    tables=("waves",), contoured=False,
)  # fmt: skip


class Bare(Windowed):
    def setUp(self):
        self.enterContext(mock.patch.dict(STUDIES, {"bare": BARE}))
        super().setUp()

    def test_in_the_window_and_the_report(self):
        self.window.handlers.run("new_study:bare")
        self.settle()
        session, sheet = self.session, self.window.sheet
        self.assertRegex(sheet.figure.text(), r"^0\.0020", "tenths of millimetres in a job of millimetres")
        layer = session.shown().outcome.mesh("map")
        self.assertEqual((layer.limits, layer.bands), ((-0.001, 0.003), (0.0, 0.002)))
        # While a number is tried its run answers, and the full answer follows when it is taken.
        session.draft_setup(times=2.0)
        for _ in range(60):
            wait(0.05)
            if session.shown().outcome is not None:
                break
        self.assertTrue(session.shown().outcome.live)
        self.assertAlmostEqual(session.shown().outcome.value("rms"), 0.0040004, delta=1e-5)
        self.assertRegex(sheet.figure.text(), r"^≈\s*0\.0040")
        session.commit("Twice", times=2.0)
        self.settle()
        self.assertTrue(session.shown().whole)
        self.assertEqual(self.window.drawer.rows.rowCount(), ROWS)
        study = session.study
        pdf = pdfium.PdfDocument(make_report([chapter_of(session.job, study, session.shown().outcome)], ReportWish()))
        text = "".join(page.get_textpage().get_text_bounded() for page in pdf)
        self.assertLessEqual(len(pdf), 3, "the table of 520 rows is in the file only")
        pdf.close()
        self.assertIn("0.0040", text)
        self.assertIn("520 rows", text)

    def test_limits_that_exclude_and_include(self):
        for values, words in (({"times": 0.0}, "must be above 0"), ({"lift": -1.0}, "must be")):
            with self.assertRaisesRegex(Exception, words):
                WaveSetup(cloud=Scope("c"), **values).check()
        WaveSetup(cloud=Scope("c"), lift=0.0).check()

    def test_again_from_the_job(self):
        change, study = studies.made(
            self.session.job.state, "bare", "Waves", WaveSetup(cloud=Scope(self.session.main_cloud().id))
        )
        self.session.execute(change)
        outcome, print_ = studies.run_study(self.session.job, study, silent())
        self.session.execute(studies.answered(study, outcome, print_))
        self.assertTrue(studies.is_fresh(self.session.job.state, self.session.job.state.studies[-1]))


class Verb(CommandLine):
    def test_on_the_command_line(self):
        with mock.patch.dict(STUDIES, {"bare": BARE}):
            found = self.json("bare", YARD)
            self.assertEqual(len(found["tables"]["waves"]["rows"]), ROWS)
            status, text = self.kerb("bare", YARD)
            self.assertEqual(status, 0, self.error)
            self.assertRegex(text, r"Highest +0\.0020\sm")
            self.assertEqual(self.kerb("bare", YARD, "--times", "0")[0], 2)
            self.assertIn("must be above 0", self.error)
