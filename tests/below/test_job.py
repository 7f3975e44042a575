"""The job: one door, undo of everything, atomic saving, recovery after a kill, the record."""

import json
import os
import signal
import subprocess
import sys
from dataclasses import replace
from unittest import mock

from kerb.core.cloud.filters import Filter
from kerb.core.errors import Cancelled, InputError, JobError, TruncatedError
from kerb.core.placing import CONVERT, Placing
from kerb.core.progress import Progress, silent
from kerb.core.units import FOOT, METRE
from kerb.demo import yard
from kerb.formats.points import open_points
from kerb.job import holdings, places, studies
from kerb.job.holdings import ImportWish, import_cloud
from kerb.job.job import Change, Job
from kerb.job.lock import FolderLock, in_use
from kerb.job.state import Part
from kerb.report.deliver import dated
from kerb.studies.registry import study_kind
from kerb.studies.scope import Scope
from kerb.studies.stockpile.setup import StockpileSetup
from tests.support import DATA, YARD, Folder, run_kerb, toe_of

TITLE = Change("Named it", lambda s: replace(s, title=replace(s.title, name="Saltmarrow")))


class Base(Folder):
    def setUp(self):
        super().setUp()
        self.job = Job.create(self.folder / "yard.kerb")

    def add_cloud(self, path=YARD, **wish):
        holding = import_cloud(self.job.folder, self.job.state, ImportWish(path, **wish), silent())
        self.job.execute(holdings.added(self.job, holding))
        return holding

    def add_study(self, heap=1):
        cloud = self.job.state.holdings[0]
        setup = StockpileSetup(Scope(cloud.id), toe=toe_of(yard.HEAPS[heap].toe(20, 0.3)))
        change, study = studies.made(self.job.state, "stockpile", "Heap", setup)
        self.job.execute(change)
        return study


class Doors(Base):
    def test_undo_and_redo_of_everything(self):
        states = [self.job.state]
        self.add_cloud()
        states.append(self.job.state)
        study = self.add_study()
        states.append(self.job.state)
        for change in (
            studies.renamed(study, "Gravel"), TITLE, holdings.altered(self.job.state.holdings[0], "Dated", epoch="2026-03-12"),
            studies.removed(study), holdings.removed(self.job.state.holdings[0]),
        ):  # fmt: skip
            self.job.execute(change)
            states.append(self.job.state)
        for before in reversed(states[:-1]):
            self.job.undo()
            self.assertEqual(self.job.state, before)
        self.assertFalse(self.job.can_undo)
        for after in states[1:]:
            self.job.redo()
            self.assertEqual(self.job.state, after)
        self.assertFalse(self.job.can_redo)

    def test_an_outcome_is_no_step_of_undo(self):
        self.add_cloud()
        study = self.add_study()
        outcome, print_ = studies.run_study(self.job, study, silent())
        self.job.execute(studies.answered(study, outcome, print_))
        self.assertTrue(self.job.can_undo.startswith("New study"))
        fresh = self.job.state.study(study.id)
        self.assertFalse(studies.is_stale(self.job.state, fresh))
        self.job.execute(studies.changed(fresh, "level", replace(studies.setup_of(fresh), base="lowest")))
        self.assertTrue(studies.is_stale(self.job.state, self.job.state.study(study.id)))
        self.job.undo()
        self.assertFalse(studies.is_stale(self.job.state, self.job.state.study(study.id)))
        kept = studies.outcome_of(self.job, self.job.state.study(study.id))
        self.assertEqual(kept.figures, outcome.figures)
        self.assertEqual(set(kept.layers), {"toe", "base", "top", "gaps"})
        self.assertEqual([chart.title for chart in kept.charts], ["Length profile", "Width profile"])


class Units(Base):
    def test_first_cloud_rules_and_later_ones_are_converted(self):
        self.add_cloud(DATA / "airborne_2154.laz")
        metres = self.job.store(self.job.state.holdings[0])
        source = open_points(DATA / "airborne_feet.laz").layout.reference
        metric = replace(source, unit=METRE, vertical_unit=METRE)
        self.add_cloud(DATA / "airborne_feet.laz", placing=Placing(CONVERT, source, metric))
        feet = self.job.store(self.job.state.holdings[1])
        self.assertEqual(self.job.state.title.unit, "m")
        self.assertIn("unit-converted", dict(self.job.state.holdings[1].notes))
        self.assertAlmostEqual(feet.bounds[0][0], 636_001.76 * FOOT.metres, places=6)
        self.assertIs(feet.reference.unit, METRE)
        self.assertEqual(metres.reference.code, "EPSG:2154")


class Saving(Base):
    def test_round_trip(self):
        self.add_cloud()
        self.add_study()
        self.assertTrue(self.job.changed)
        self.job.save()
        self.assertFalse(self.job.changed)
        again = Job.open(self.job.folder)
        self.assertEqual(again.state, self.job.state)
        self.assertEqual(again.record_text(), self.job.record_text())
        self.assertEqual(again.store(again.state.holdings[0]).count, self.job.state.holdings[0].points)

    def test_a_kill_at_any_moment_loses_nothing(self):
        """A process is killed hard after a change that was not saved; the job opens either way."""
        self.job.save()
        code = (
            "import sys, os, signal; from pathlib import Path; from dataclasses import replace;"
            "from kerb.job.job import Job, Change;"
            "job = Job.open(Path(sys.argv[1]));"
            "job.execute(Change('Named it', lambda s: replace(s, title=replace(s.title, name='Saltmarrow'))));"
            "job.flush(); os.kill(os.getpid(), signal.SIGKILL)"
        )
        ended = subprocess.run([sys.executable, "-c", code, str(self.job.folder)], env=os.environ, check=False)
        self.assertEqual(ended.returncode, -signal.SIGKILL)
        self.assertTrue(Job.has_recovery(self.job.folder))
        recovered = Job.open(self.job.folder, recover=True)
        self.assertEqual(recovered.state.title.name, "Saltmarrow")
        self.assertTrue(recovered.changed)
        self.assertEqual(Job.open(self.job.folder).state.title.name, "Untitled job")
        self.assertTrue(Job.has_recovery(self.job.folder), "looking at a job gives nothing up")
        status, _, error = run_kerb("add", self.job.folder, YARD)
        self.assertEqual(status, 2)
        self.assertIn("changes that were not saved", error)
        Job.forget_recovery(self.job.folder)
        self.assertFalse(Job.has_recovery(self.job.folder))
        self.assertEqual(run_kerb("add", self.job.folder, YARD)[0], 0)

    def test_a_good_autosave_beside_a_damaged_job_is_used(self):
        """The journal holds the saved job that it goes on from, so that neither of the two files is needed alone."""
        self.job.save()
        saved = self.job.state
        self.job.execute(Change("Named it", lambda s: replace(s, title=replace(s.title, name="Saltmarrow"))))
        self.job.execute(Change("Named again", lambda s: replace(s, title=replace(s.title, client="Quay"))))
        self.job.flush()
        good = (self.job.folder / "job.json").read_bytes()
        for bad in (b"", good[: len(good) // 2], b"[" * 100_000, good.replace(b'"holdings"', b'"holding"'),
                    good.replace(b'"title"', b'"title": 1e999, "t"', 1)):  # fmt: skip
            (self.job.folder / "job.json").write_bytes(bad)
            self.assertTrue(Job.has_recovery(self.job.folder))
            Job.forget_recovery(self.job.folder)
            as_saved = Job.open(self.job.folder)
            self.assertEqual(as_saved.state, saved)
            self.assertTrue(as_saved.changed, "there is something to save")
            as_saved.sweep()
            recovered = Job.open(self.job.folder, recover=True)
            self.assertEqual(recovered.state, self.job.state)
            self.assertEqual(recovered.record_text(), self.job.record_text())
        recovered.save()
        self.assertEqual(Job.open(self.job.folder).state, self.job.state)
        self.assertFalse(Job.has_recovery(self.job.folder))
        (self.job.folder / "job.json").write_bytes(b"{")
        with self.assertRaisesRegex(JobError, "damaged"):
            Job.open(self.job.folder, recover=True)

    def test_one_kerb_at_a_time_in_a_folder(self):
        lock = FolderLock()
        self.assertTrue(lock.take(self.job.folder))
        self.assertTrue(in_use(self.job.folder))
        code = "import sys; from pathlib import Path; from kerb.job.lock import in_use; sys.exit(in_use(Path(sys.argv[1])))"
        other = [sys.executable, "-c", code, str(self.job.folder)]
        self.assertEqual(subprocess.run(other, check=False).returncode, 1)
        status, _, error = run_kerb("add", self.job.folder, YARD)
        self.assertEqual(status, 2)
        self.assertIn("is open in another Kerb (process", error)
        twin = self.folder / "twin.kerb"
        self.job.copy_to(twin)
        self.assertFalse(in_use(twin), "a copy is nobody's")
        lock.release()
        self.assertEqual(subprocess.run(other, check=False).returncode, 0)

    def test_what_was_never_saved_is_found_again_and_what_was_given_up_goes(self):
        home = self.folder / "home"
        with mock.patch.object(places, "user_data", lambda: home):
            kept, given_up, opened = (Job.create(places.unsaved_folder()) for _ in range(3))
            for job in (kept, given_up, opened):
                job.execute(TITLE)
                job.flush()
            given_up.discard()
            lock = FolderLock()
            lock.take(opened.folder)
            self.assertEqual(places.left_unsaved(), [kept.folder])
            places.sweep_unsaved()
            self.assertEqual([job.folder.exists() for job in (kept, given_up, opened)], [True, False, True])
            lock.release()
            self.assertEqual(places.left_unsaved(), [opened.folder, kept.folder])
            fresh = Job.create(places.unsaved_folder())
            made = fresh.folder.stat().st_mtime
            places.sweep_unsaved(made - 10)
            self.assertTrue(fresh.folder.exists(), "made after the window that sweeps: it has no lock yet")
            places.sweep_unsaved(made + 10)
            self.assertFalse(fresh.folder.exists())

    def test_a_half_written_file_is_never_taken(self):
        self.job.execute(TITLE)
        self.job.save()
        (self.job.folder / ".job.json.partial").write_text('{"state": {')
        self.assertEqual(Job.open(self.job.folder).state.title.name, "Saltmarrow")

    def test_copies_and_moves(self):
        self.add_cloud()
        self.job.copy_to(self.folder / "copy.kerb")
        self.assertEqual(Job.open(self.folder / "copy.kerb").state, self.job.state)
        with self.assertRaisesRegex(JobError, "already there"):
            self.job.copy_to(self.folder / "copy.kerb")
        self.job.copy_to(self.folder / "moved.kerb", move=True)
        self.assertEqual(self.job.folder, self.folder / "moved.kerb")
        self.assertFalse(self.job.changed)

    def test_what_is_no_job_says_so(self):
        for content, words in (
            ("{", "damaged"), ("[]", "no job"), (json.dumps({"state": {"title": 3}}), "damaged"),
            (json.dumps({"version": 99, "state": {}, "record": []}), "newer Kerb"),
        ):  # fmt: skip
            (self.job.folder / "job.json").write_text(content)
            with self.assertRaisesRegex(JobError, words):
                Job.open(self.job.folder)
        with self.assertRaisesRegex(JobError, "not a job"):
            Job.open(self.folder)

    def test_a_job_that_names_data_outside_of_itself_is_refused(self):
        self.add_cloud(YARD)
        self.job.save()
        good = json.loads((self.job.folder / "job.json").read_text())
        for key, bad in (
            ("data", "../other/data"), ("data", "/etc"), ("data", "data\\..\\x"), ("aside", "../../x"), ("aside", ".x"),
            ("given", [["../x", 2]]), ("parts", [{"number": 1, "name": "p", "points": "a/b", "count": 3}]),
        ):  # fmt: skip
            data = json.loads(json.dumps(good))
            data["state"]["holdings"][0][key] = bad
            (self.job.folder / "job.json").write_text(json.dumps(data))
            with self.assertRaisesRegex(JobError, "outside"):
                Job.open(self.job.folder)
        (self.job.folder / "job.json").write_text(json.dumps(good))
        self.assertEqual(len(Job.open(self.job.folder).state.holdings), 1)

    def test_failed_imports_leave_nothing(self):
        stopped = Progress()
        stopped.stop()
        with self.assertRaises(Cancelled):
            import_cloud(self.job.folder, self.job.state, ImportWish(YARD), stopped)
        broken = self.folder / "broken.las"
        broken.write_bytes((DATA / "simple1_1.las").read_bytes()[:5000])
        with self.assertRaises(TruncatedError):
            import_cloud(self.job.folder, self.job.state, ImportWish(broken), silent())
        with self.assertRaises(InputError):
            import_cloud(self.job.folder, self.job.state, ImportWish(self.folder / "none.laz"), silent())
        self.assertEqual(list((self.job.folder / "data").iterdir()), [])


class Dependence(Base):
    """All that an answer depends on, changed one by one."""

    def setUp(self):
        super().setUp()
        self.cloud = self.add_cloud()
        self.study = self.add_study()

    def asked(self, **scope):
        setup = replace(studies.setup_of(self.study), cloud=Scope(self.cloud.id, **scope))
        self.job.execute(Change("asked", lambda s: s.with_study(replace(s.study(self.study.id), setup=setup.to_json()))))

    def print_after(self, **values):
        holding = replace(self.job.state.holding(self.cloud.id), **values)
        return studies.fingerprint_of(self.job.state.with_holding(holding), self.job.state.study(self.study.id))

    def test_a_part_that_points_are_chosen_by_as_filter(self):
        one, other = Part(1, "Road", "set a", 5), Part(1, "Road", "set b", 6)
        self.assertEqual(self.print_after(parts=(one,)), self.print_after(parts=(other,)), "not asked for")
        self.asked(only=(Filter("part", values=(1,)),))
        self.assertNotEqual(self.print_after(parts=(one,)), self.print_after(parts=(other,)))
        self.asked(part="Road")
        self.assertNotEqual(self.print_after(parts=(one,)), self.print_after(parts=(other,)))

    def test_dates_of_a_series_count_and_single_dates_are_labels(self):
        self.assertEqual(self.print_after(epoch="2026-01-01"), self.print_after(epoch="2026-02-01"))
        kind = study_kind("cutfill")
        setup = kind.setup(later=Scope(self.cloud.id), further=(Scope(self.cloud.id),))
        prints = {
            studies.print_of(self.job.state.with_holding(replace(self.cloud, epoch=day)), "cutfill", setup)
            for day in ("2026-01-01", "2026-02-01")
        }
        self.assertEqual(len(prints), 2)

    def test_the_report_takes_dates_by_holding_not_by_file(self):
        twin = replace(self.cloud, id="twin", name="Twin", epoch="2020-02-02")
        self.job.execute(Change("t", lambda s: s.with_holding(twin)))
        self.job.execute(holdings.altered(self.job.state.holding(self.cloud.id), "Dated", epoch="2026-03-12"))
        outcome, print_ = studies.run_study(self.job, self.study, silent())
        self.job.execute(studies.answered(self.study, outcome, print_))
        kept = studies.outcome_of(self.job, self.job.state.study(self.study.id))
        self.assertEqual(kept.inputs[0].key, self.cloud.id)
        self.job.execute(holdings.altered(self.job.state.holding(self.cloud.id), "Dated", epoch="2026-04-01"))
        self.assertEqual([i.survey for i in dated(self.job, kept).inputs if i.key == self.cloud.id], ["2026-04-01"])
        self.assertNotIn("key", kept.to_json()["inputs"][0])

    def test_undo_leaves_outcomes_looks_and_panes_of_other_studies(self):
        other = self.add_study(2)
        self.job.execute(studies.renamed(self.job.state.study(self.study.id), "Renamed"))
        outcome, print_ = studies.run_study(self.job, other, silent())
        self.job.execute(studies.answered(other, outcome, print_))
        look = Change("l", lambda s: s.with_study(replace(s.study(other.id), look={"low": 1.0}, panes=("plan",)))).as_look()
        self.job.execute(look)
        self.job.undo()
        seen = self.job.state.study(other.id)
        self.assertEqual((self.job.state.study(self.study.id).name, seen.look, seen.panes), ("Heap", {"low": 1.0}, ("plan",)))
        self.assertEqual(seen.found.print, print_)
