"""A throw-away third kind of study, registered by one line: job, command line, report, clipboard and help follow."""

import json
from dataclasses import replace

import numpy as np
import pypdfium2 as pdfium

from kerb import cli
from kerb.core.progress import silent
from kerb.demo import yard
from kerb.job import holdings, studies
from kerb.job.holdings import ImportWish, import_cloud
from kerb.job.job import Change, Job
from kerb.job.lock import FolderLock
from kerb.report.deliver import chapter_of, chapters_of, out_of_date
from kerb.report.pdf import ReportWish, make_report
from kerb.studies.drawn import Drawn
from kerb.studies.scope import Scope
from tests.support import YARD, CommandLine
from tests.third import LevelSetup, registered

SQUARE = (np.array([[-5.0, -5], [5, -5], [5, 5], [-5, 5]]) + yard.ORIGIN + yard.HEAPS[1].centre).round(2)


class Third(CommandLine):
    def setUp(self):
        super().setUp()
        self.enterContext(registered())
        self.area = self.folder / "area.txt"
        np.savetxt(self.area, SQUARE, fmt="%.3f")

    def truth(self, job):
        store = job.store(job.state.holdings[0])
        xyz = store.coordinates(slice(0, store.count))
        inside = ((xyz[:, :2] > SQUARE.min(axis=0)) & (xyz[:, :2] < SQUARE.max(axis=0))).all(axis=1)
        inside &= np.asarray(store.column("classification")) != 7
        return xyz[inside, 2]

    def job(self):
        job = Job.create(self.folder / "one.kerb")
        holding = import_cloud(job.folder, job.state, ImportWish(YARD), silent())
        job.execute(holdings.added(job, holding))
        return job

    def asked(self, job, **values):
        setup = LevelSetup(Scope(job.state.holdings[0].id), area=Drawn.of(SQUARE), **values)
        change, study = studies.made(job.state, "third", "Level of heap 2", setup)
        job.execute(change)
        return study

    def test_in_a_job_from_setup_to_report(self):
        job = self.job()
        study = self.asked(job, level=2.0, keep=True)
        z = self.truth(job)
        outcome, print_ = studies.run_study(job, study, silent())
        self.assertAlmostEqual(outcome.value("level"), z.mean() - 2.0, places=9)
        self.assertEqual(outcome.value("points"), len(z))
        job.execute(studies.answered(study, outcome, print_))
        for change in studies.made_holdings(job, study, outcome):
            job.execute(change)
        self.assertEqual(job.state.holdings[-1].name, "Area of it")
        job.save()
        again = Job.open(job.folder)
        study = again.state.studies[0]
        self.assertFalse(studies.is_stale(again.state, study))
        kept = studies.outcome_of(again, study)
        self.assertEqual(list(kept.layers), list(outcome.layers), "a name with a slash comes back whole")
        np.testing.assert_array_equal(kept.layers["some"].xyz, outcome.layers["some"].xyz)
        self.assertEqual(kept.charts[0].title, "Elevations")
        pdf = pdfium.PdfDocument(make_report([chapter_of(again, study, kept)], ReportWish()))
        text = "".join(page.get_textpage().get_text_bounded() for page in pdf)
        pdf.close()
        for words in ("Level of heap 2", "Arithmetic mean", "Heights", f"{z.mean() - 2.0:.3f}"):
            self.assertIn(words, text)

    def test_what_is_out_of_date_says_so_on_its_page_and_in_the_summary(self):
        job = self.job()
        for number in (1, 2):
            study = self.asked(job, level=float(number))
            outcome, print_ = studies.run_study(job, study, silent())
            job.execute(studies.answered(study, outcome, print_))
        self.assertEqual(out_of_date(job), [])
        first = job.state.studies[0]
        job.execute(studies.changed(first, "other", replace(studies.setup_of(first), level=7.0)))
        self.assertEqual([study.id for study in out_of_date(job)], [first.id])
        chapters = chapters_of(job)
        self.assertEqual([bool(chapter.out_of_date) for chapter in chapters], [True, False])
        pdf = pdfium.PdfDocument(make_report(chapters, ReportWish()))
        pages = [page.get_textpage().get_text_bounded() for page in pdf]
        pdf.close()
        self.assertIn("Out of date: Level of heap 2.", pages[0])
        self.assertEqual([("changed since" in page) for page in pages[1:3]], [True, False])
        job.execute(Change("Out", lambda s: s.with_study(replace(s.studies[0], in_report=False))))
        self.assertEqual(len(chapters_of(job)), 1)
        self.assertEqual(out_of_date(job), [], "what is not in the report need not be computed for it")

    def test_on_the_command_line(self):
        found = self.json("third", YARD, "--area", self.area, "--level", "2", "--mean", "median", "--report",
                          self.folder / "level.pdf")  # fmt: skip
        z = np.median(self.truth(self.job())) - 2.0
        self.assertAlmostEqual(found["figures"]["level"]["value"], z, places=9)
        self.assertEqual((found["study"], found["settings"]["mean"]), ("third", "median"))
        self.assertTrue((self.folder / "level.pdf").read_bytes().startswith(b"%PDF"))
        status, text = self.kerb("third", YARD, "--area", self.area)
        self.assertEqual(status, 0)
        self.assertRegex(text, r"Level +\+?\d")
        for words, said in (
            (("--area", self.area, "--mean", "mode"), "mode"), (("--area", self.area, "--level", "high"), "high"),
            (("--area", self.folder / "none.txt"), "none.txt"), ((), "--area"),
            (("--area", self.area, "--report", YARD), "yard_small.laz"),
        ):  # fmt: skip
            status, _ = self.kerb("third", YARD, *words)
            self.assertEqual(status, 2, words)
            self.assertIn(said, self.error)
        self.assertIn("How high does it stand?", cli.parser().format_help() + cli.verbs()["third"])

    def test_no_output_is_overwritten_or_an_input(self):
        """The JSON, the report and what a study writes: existing, an input, the same place twice, no such folder."""
        cloud = self.folder / "cloud.laz"
        cloud.write_bytes(YARD.read_bytes())
        there = self.folder / "there.json"
        there.write_text("{}")
        for words, said in (
            (("--json", there), "--force"), (("--json", cloud, "--force"), "is an input"),
            (("--json", self.area, "--force"), "is an input"), (("--report", cloud, "--force"), "is an input"),
            (("--json", self.folder / "a.pdf", "--report", self.folder / "a.pdf"), "more than one output"),
            (("--json", self.folder / "none" / "a.json"), "folder does not exist"),
            (("--report", self.folder / "none" / "a.pdf"), "folder does not exist"),
        ):  # fmt: skip
            status, out = self.kerb("third", cloud, "--area", self.area, *words)
            self.assertEqual((status, out), (2, ""), words)
            self.assertIn(said, self.error)
            self.assertEqual(len(self.error.splitlines()), 1)
        self.assertEqual(cloud.read_bytes(), YARD.read_bytes())
        self.assertEqual(there.read_text(), "{}")
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["area.txt", "cloud.laz", "there.json"])
        self.assertEqual(self.kerb("third", cloud, "--area", self.area, "--json", there, "--force")[0], 0)
        self.assertEqual(json.loads(there.read_text())["study"], "third")
        self.assertEqual(self.kerb("info", cloud, "--json", cloud, "--force")[0], 2)
        self.assertEqual(cloud.read_bytes(), YARD.read_bytes())

    def test_compute_tells_of_what_cannot_be_computed_and_does_the_rest(self):
        job = self.job()
        good = self.asked(job, level=2.0)
        empty = LevelSetup(Scope(job.state.holdings[0].id), area=Drawn.of(SQUARE + 5000))
        change, bad = studies.made(job.state, "third", "Nowhere", empty)
        job.execute(change)
        job.save()
        status, out = self.kerb("compute", job.folder, "--json", "-")
        self.assertEqual(status, 2)
        self.assertIn("Nowhere", self.error)
        rows = {row[0]: row for row in json.loads(out)["tables"]["studies"]["rows"]}
        self.assertEqual(rows["Level of heap 2"][2], "computed")
        self.assertIn("no points lie in the area", rows["Nowhere"][2])
        again = Job.open(job.folder)
        self.assertTrue(studies.is_fresh(again.state, again.state.study(good.id)))
        self.assertIsNone(again.state.study(bad.id).found)
        for words, said in ((("--study", "Other"), "no study 'Other'"), (("--report", YARD, "--force"), "")):
            status, _ = self.kerb("compute", job.folder, *words) if said else (2, "")
            self.assertEqual(status, 2)
            self.assertIn(said, self.error)
        self.assertEqual(self.kerb("compute", job.folder, "--study", "Level of heap 2")[0], 0, self.error)
        self.assertEqual(self.kerb("compute", self.folder / "none.kerb")[0], 2)
        other = FolderLock()
        self.assertTrue(other.take(job.folder))
        self.assertEqual(self.kerb("compute", job.folder)[0], 2)
        self.assertIn("open in another Kerb (process", self.error)
        other.release()

    def test_compute_of_a_job_does_what_is_out_of_date(self):
        job = self.job()
        self.asked(job, level=2.0)
        job.save()
        done = self.json("compute", job.folder, "--report", self.folder / "month.pdf")
        self.assertTrue((self.folder / "month.pdf").exists())
        self.assertIn("Level of heap 2", json.dumps(done))
        again = Job.open(job.folder)
        self.assertFalse(studies.is_stale(again.state, again.state.studies[0]))
