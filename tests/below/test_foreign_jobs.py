"""Job folders that came from somewhere else, two at work in one folder, and what a stopped ``add`` leaves."""

import json
import os
import subprocess
import sys
from unittest import mock
from zipfile import ZIP_DEFLATED, ZipFile

from kerb.core.errors import JobError
from kerb.job import outcomes
from kerb.job.job import Job
from kerb.job.lock import FolderLock, held_by
from tests.support import YARD, CommandLine

NAMES = ("job.json", "record.jsonl", "autosave.jsonl", ".open", ".job.json.partial")


class Foreign(CommandLine):
    def setUp(self):
        super().setUp()
        self.mine = self.folder / "mine.txt"
        self.mine.write_text("of the user")
        self.job = self.folder / "sent.kerb"
        Job.create(self.job)

    def untouched(self):
        self.assertEqual(self.mine.read_text(), "of the user")

    def test_links_are_neither_followed_nor_opened(self):
        for name in NAMES:
            with self.subTest(name):
                path = self.job / name
                kept = path.read_bytes() if path.exists() else None
                path.unlink(missing_ok=True)
                path.symlink_to(self.mine)
                lock = FolderLock()
                lock.take(self.job)
                lock.release()
                with self.assertRaisesRegex(JobError, f"{name}: is a link or no regular file"):
                    Job.open(self.job)
                status, text = self.kerb("add", str(self.job), YARD)
                self.assertEqual(status, 2, text)
                self.assertNotEqual(self.kerb("compute", str(self.job))[0], 0)
                self.untouched()
                path.unlink()
                if kept is not None:
                    path.write_bytes(kept)
        Job.open(self.job)

    def test_a_pipe_does_not_hold(self):
        (self.job / ".open").unlink(missing_ok=True)
        for name in NAMES[2:]:
            (self.job / name).unlink(missing_ok=True)
            os.mkfifo(self.job / name)
            out = subprocess.run(
                [sys.executable, "-m", "kerb", "add", str(self.job), str(YARD)], capture_output=True, text=True, timeout=60
            )
            self.assertEqual(out.returncode, 2, out.stderr)
            self.assertIn("is a link or no regular file", out.stderr)
            (self.job / name).unlink()

    def test_nothing_foreign_is_swept(self):
        away = self.folder / "away"
        (away / "outcomes").mkdir(parents=True)
        (away / "outcomes" / "thesis.npz").write_text("of the user")
        (away / "photos").mkdir()
        photos = self.job / "data" / "holiday photos"
        photos.mkdir()
        made = self.job / "data" / "0123456789"
        made.mkdir()
        Job.open(self.job).sweep()
        self.assertTrue(photos.exists())
        self.assertFalse(made.exists(), "a folder of Kerb's that no holding names")
        (self.job / "data" / "outcomes").symlink_to(away / "outcomes")
        with self.assertRaisesRegex(JobError, "outcomes: is a link"):
            Job.open(self.job)
        self.assertTrue((away / "outcomes" / "thesis.npz").exists())

    def test_names_that_lead_out_of_the_folder(self):
        data = json.loads((self.job / "job.json").read_text())
        for where in ("../mine.txt", "/etc", "data/..", "data/a/b"):
            data["state"]["holdings"] = [{"id": "h", "name": "H", "data": where}]
            (self.job / "job.json").write_text(json.dumps(data))
            with self.assertRaisesRegex(JobError, "outside of the job"):
                Job.open(self.job)
        data["state"]["holdings"] = []
        data["state"]["studies"] = [{"id": "../../x", "kind": "stockpile", "name": "S"}]
        (self.job / "job.json").write_text(json.dumps(data))
        with self.assertRaisesRegex(JobError, "names no file of the job"):
            Job.open(self.job)

    def test_an_outcome_that_unpacks_to_gigabytes_is_not_read(self):
        folder = outcomes.folder_of(self.job)
        folder.mkdir(parents=True)
        with ZipFile(folder / "a-b.npz", "w", ZIP_DEFLATED) as out, out.open("head.npy", "w", force_zip64=True) as entry:
            entry.write(bytes(3 << 20))
        with mock.patch.object(outcomes, "MOST_BYTES", 2 << 20), mock.patch.object(outcomes, "archive") as read:
            self.assertIsNone(outcomes.load(self.job, "a-b"))
        read.assert_not_called()
        self.assertLess(outcomes.MOST_BYTES, 5_000_000_000)

    def test_no_output_lies_in_a_job(self):
        for where in (self.job / "job.json", self.job / "data" / "x.json"):
            before = (self.job / "job.json").read_bytes()
            status, _ = self.kerb("info", YARD, "--json", str(where), "--force")
            self.assertEqual(status, 2)
            self.assertIn("lies in a job folder", self.error)
            self.assertEqual((self.job / "job.json").read_bytes(), before)


class Damaged(CommandLine):
    def test_a_damaged_holding_is_named_and_the_rest_is_open(self):
        points = self.folder / "p.csv"
        points.write_text("name,e,n,z\na,500100,4000100,3\nb,500140,4000120,4\n")
        folder = self.folder / "a.kerb"
        self.assertEqual(self.kerb("add", folder, YARD)[0], 0, self.error)
        self.assertEqual(self.kerb("add", folder, points, "--seen")[0], 0, self.error)
        for kind in ("points", "cloud"):
            job = Job.open(folder)
            self.assertEqual(job.without_damaged(), "")
            holding = next(h for h in job.state.holdings if h.kind == kind)
            kept = {path: path.read_bytes() for path in (folder / holding.data).iterdir() if path.is_file()}
            for path in kept:
                path.write_bytes(b"damaged")
            job = Job.open(folder)
            said = job.without_damaged()
            self.assertTrue(said.startswith(f"{holding.name}: "), said)
            self.assertIn("cannot be read", said)
            self.assertEqual([h.kind for h in job.state.holdings], [k for k in ("cloud", "points") if k != kind])
            self.assertEqual(job.can_undo, "")
            for path, data in kept.items():
                path.write_bytes(data)
            self.assertEqual(len(Job.open(folder).state.holdings), 2, "nothing was removed from the folder")


class Together(CommandLine):
    def test_two_at_once_into_one_new_job(self):
        for _ in range(3):
            job = self.folder / "both.kerb"
            words = [sys.executable, "-m", "kerb", "add", str(job), str(YARD)]
            runs = [subprocess.Popen(words, stderr=subprocess.PIPE, stdout=subprocess.PIPE, text=True) for _ in range(2)]
            ended = [(run.communicate(timeout=120), run.returncode) for run in runs]
            codes = sorted(code for _, code in ended)
            self.assertIn(codes, ([0, 2], [0, 0]), ended)
            if codes == [0, 2]:
                (refused,) = (out[1] for out, code in ended if code == 2)
                self.assertRegex(refused, r"is open in another Kerb")
            self.assertEqual(len(Job.open(job).state.holdings), codes.count(0))
            subprocess.run(["rm", "-r", str(job)], check=True)

    def test_who_holds_it(self):
        job = Job.create(self.folder / "a.kerb")
        lock = FolderLock()
        self.assertTrue(lock.take(job.folder))
        self.assertIn(f"process {os.getpid()}", held_by(job.folder))
        status, _ = self.kerb("add", str(job.folder), YARD)
        self.assertEqual(status, 2)
        self.assertIn(f"is open in another Kerb (process {os.getpid()}", self.error)
        lock.release()

    def test_a_lock_of_a_removed_folder_is_none(self):
        job = Job.create(self.folder / "a.kerb")
        lock, other = FolderLock(), FolderLock()
        self.assertTrue(lock.take(job.folder))
        (job.folder / ".open").unlink()
        self.assertTrue(other.take(job.folder), "another file, another lock")
        self.assertFalse(lock.take(job.folder))
        other.release()

    def test_add_that_fails_adds_nothing(self):
        bad = self.folder / "bad.las"
        bad.write_bytes(b"LASF" + bytes(40))
        new = self.folder / "new.kerb"
        status, text = self.kerb("add", str(new), YARD, str(bad))
        self.assertEqual(status, 2, text)
        self.assertFalse(new.exists())
        job = Job.create(self.folder / "old.kerb")
        status, _ = self.kerb("add", str(job.folder), YARD)
        self.assertEqual(status, 0)
        before = (job.folder / "job.json").read_bytes()
        status, _ = self.kerb("add", str(job.folder), YARD, str(bad))
        self.assertEqual(status, 2)
        self.assertEqual((job.folder / "job.json").read_bytes(), before)
        self.assertEqual(len([p for p in (job.folder / "data").iterdir() if p.is_dir()]), 1)
        self.assertEqual(len((job.folder / "record.jsonl").read_text().splitlines()), 1)
