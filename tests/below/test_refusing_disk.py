"""A disk that is full, refuses or breaks off: one line, exit status 2, nothing half left, and what was there stays.

The limit of a process for the size of a file (setrlimit(2), RLIMIT_FSIZE) stands for the full disk: the system refuses
in the same calls, and no rights are needed. A folder of the kernel stands for a medium that is read-only.
"""

import errno
import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from kerb.core import space
from kerb.core.cloud import builder, sets
from kerb.core.cloud.excerpt import excerpt
from kerb.core.errors import JobError, OutputError
from kerb.core.geometry.features import SurveyPoints
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.things import POINTS, Placed
from kerb.core.units import METRE
from kerb.formats.las_read import LasStream
from kerb.job import outcomes, vault
from kerb.job.job import Change, Job
from kerb.studies.outcome import Outcome
from tests.support import DATA, YARD, CommandLine, Folder, room_for, run_kerb, store_of

READ_ONLY = Path("/sys/kernel")


def all_files(folder: Path) -> dict[str, bytes | None]:
    return {str(p.relative_to(folder)): p.read_bytes() if p.is_file() else None for p in folder.rglob("*")}


def points(n: int) -> np.ndarray:
    return np.random.default_rng(1).uniform(0, 50, (n, 3))


class Verbs(CommandLine):
    def refused(self, *words: object) -> None:
        """The verb works; then it is refused its room, and says so in a line that names the file, and leaves nothing."""
        status, _ = self.kerb(*words)
        self.assertEqual(status, 0, self.error)
        made = self.folder / "out"
        for path in sorted(made.rglob("*"), reverse=True):
            path.unlink() if path.is_file() else path.rmdir()
        with room_for(600):
            status, out = self.kerb(*words)
        self.assertEqual((status, out), (2, ""), words)
        self.assertEqual(len(self.error.splitlines()), 1, self.error)
        self.assertIn(str(self.folder), self.error)
        self.assertEqual(all_files(made), {}, words)

    def setUp(self):
        super().setUp()
        (self.folder / "out").mkdir()
        temporary = mock.patch.object(tempfile, "tempdir", str(self.folder / "tmp"))
        (self.folder / "tmp").mkdir()
        temporary.start()
        self.addCleanup(temporary.stop)

    def tearDown(self):
        self.assertEqual(list((self.folder / "tmp").iterdir()), [], "temporary stores are gone")

    def test_every_kind_of_cloud(self):
        for ending in ("las", "laz", "ply", "csv", "e57"):
            with self.subTest(ending):
                self.refused("convert", DATA / "simple1_1.las", self.folder / "out" / f"a.{ending}")

    def test_every_kind_of_thing(self):
        corners = np.random.default_rng(1).uniform(0, 9, (60, 3))
        model = "".join(f"v {x:.3f} {y:.3f} {z:.3f}\n" for x, y, z in corners)
        (self.folder / "a.obj").write_text(model + "".join(f"f {n} {n + 1} {n + 2}\n" for n in range(1, 58)))
        (self.folder / "a.asc").write_text(
            "ncols 18\nnrows 10\nxllcorner 0\nyllcorner 0\ncellsize 1\n" + " ".join(f"{z:.4f}" for z in corners.ravel())
        )
        lines = self.folder / "lines.gpkg"
        self.assertEqual(self.kerb("convert", DATA / "recover01.dxf", lines)[0], 0, self.error)
        for source, endings in (
            (lines, ("dxf", "gpkg", "shp", "geojson", "xml")),
            (self.folder / "a.obj", ("obj", "ply", "stl", "off")),
            (self.folder / "a.asc", ("tif", "asc", "xml")),
        ):
            for ending in endings:
                with self.subTest(ending):
                    self.refused("convert", source, self.folder / "out" / f"a.{ending}")

    def test_work_that_needs_a_temporary_store(self):
        self.refused("heights", YARD, "--out", self.folder / "out" / "a.laz")

    def test_a_job_that_nothing_came_into(self):
        self.refused("add", self.folder / "out" / "a.kerb", DATA / "simple1_1.las")

    def test_figures(self):
        target = self.folder / "out" / "a.json"
        with room_for(10):
            status, _ = self.kerb("info", YARD, "--json", target)
        self.assertEqual(status, 2)
        self.assertEqual(len(self.error.splitlines()), 1, self.error)
        self.assertFalse(target.exists())

    @unittest.skipUnless(READ_ONLY.is_dir(), "no folder of the kernel here")
    def test_a_place_that_cannot_be_written(self):
        for words in (
            ("convert", YARD, READ_ONLY / "a.laz"), ("convert", DATA / "recover01.dxf", READ_ONLY / "a.gpkg"),
            ("convert", YARD, READ_ONLY / "a.e57"), ("add", READ_ONLY / "a.kerb", YARD),
            ("info", YARD, "--json", READ_ONLY / "a.json"),
        ):  # fmt: skip
            status, _ = self.kerb(*words)
            self.assertEqual(status, 2, words)
            self.assertEqual(len(self.error.splitlines()), 1, self.error)
            self.assertIn(str(READ_ONLY), self.error)

    def test_standard_output_that_is_full(self):
        with open("/dev/full", "w", encoding="utf-8") as full:
            words = [sys.executable, "-m", "kerb", "info", str(DATA / "simple1_1.las")]
            ended = subprocess.run(words, stdout=full, stderr=subprocess.PIPE, text=True)
        self.assertEqual(ended.returncode, 2)
        self.assertEqual(len(ended.stderr.splitlines()), 1, ended.stderr)
        self.assertIn("No space left", ended.stderr)

    def test_names_that_are_no_text_and_a_terminal_that_knows_letters_only(self):
        name = os.fsencode(self.folder / "bäd") + b"\xff.xyz"
        env = {**os.environ, "LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0"}
        for file, status in ((name, 2), (os.fsencode(YARD), 0)):
            ended = subprocess.run([sys.executable, "-m", "kerb", "info", file], env=env, capture_output=True)
            self.assertEqual(ended.returncode, status, ended.stderr)
            self.assertEqual(len(ended.stderr.splitlines()), int(status > 0), ended.stderr)
        with open(name, "w") as stream:
            stream.write("380000 5560000 1\n380001 5560001 2\n380002 5560000 3\n")
        ended = subprocess.run([sys.executable, "-m", "kerb", "info", name], env=env, capture_output=True)
        self.assertEqual((ended.returncode, ended.stderr), (0, b""))

    def test_temporary_stores_of_killed_ones_are_swept_by_the_next(self):
        gone = subprocess.Popen([sys.executable, "-c", "pass"])
        gone.wait()
        left, others = self.folder / "tmp" / f"kerb-{gone.pid}-abc", self.folder / "tmp" / "kerb-notes-abc"
        running = self.folder / "tmp" / f"kerb-{subprocess.os.getpid()}-abc"
        for folder in (left, others, running):
            folder.mkdir()
            (folder / "x").write_text("x")
        self.kerb("heights", YARD, "--out", self.folder / "out" / "a.laz")
        self.assertFalse(left.exists())
        self.assertTrue(others.exists() and running.exists())
        for folder in (others, running):
            (folder / "x").unlink()
            folder.rmdir()


class Room(Folder):
    def test_mapped_files_have_their_blocks_before_they_are_written(self):
        made = space.mapped_array(self.folder / "a.npy", np.int32, (50_000, 3))
        self.assertGreaterEqual(Path(made.filename).stat().st_blocks * 512, made.nbytes)
        self.assertFalse(made.any())
        self.assertEqual(np.load(self.folder / "a.npy").shape, (50_000, 3))
        self.assertEqual(space.mapped_array(self.folder / "none.npy", np.int32, (0, 3)).shape, (0, 3))

    def test_rows_are_put_in_any_order_even_where_the_system_takes_few_bytes_at_a_time(self):
        file = space.RowFile(self.folder / "a.npy", np.int16, (5, 2))
        real = os.pwrite
        with mock.patch("os.pwrite", lambda handle, data, at: real(handle, data[:3], at)):
            file.put(3, np.array([[7, 8], [9, 10]]))
            file.put(0, np.broadcast_to(np.int16(-2), (2, 2)))
        file.keep()
        file.close()
        self.assertEqual(np.load(self.folder / "a.npy").tolist(), [[-2, -2], [-2, -2], [0, 0], [7, 8], [9, 10]])
        with room_for(1000), self.assertRaises(OSError):
            space.RowFile(self.folder / "b.npy", np.int32, (50_000, 3))

    def test_what_the_disk_refuses_while_an_import_goes_on_ends_it(self):
        refused = mock.patch.object(space.RowFile, "keep", side_effect=OSError(errno.EIO, "Input/output error"))
        with refused, mock.patch.object(builder, "KEEP_EVERY", 2000), self.assertRaisesRegex(OutputError, "Input/output"):
            builder.build(LasStream(YARD), self.folder / "cloud", silent())
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_without_room_it_is_an_error_that_names_the_file(self):
        with room_for(1000), self.assertRaises(OSError) as caught:
            space.mapped_array(self.folder / "a.npy", np.int32, (50_000, 3))
        self.assertEqual(caught.exception.filename, str(self.folder / "a.npy"))
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_what_is_moved_to_its_name_was_synced_first(self):
        work = self.folder / "work"
        (work / "inner").mkdir(parents=True)
        (work / "inner" / "x").write_text("x")
        seen = []
        real = space.os.fsync

        def noted(handle):
            seen.append((Path(f"/proc/self/fd/{handle}").resolve().name, work.exists()))
            real(handle)

        with mock.patch.object(space.os, "fsync", noted):
            space.put_in_place(work, self.folder / "done")
        self.assertEqual(seen, [("x", True), ("inner", True), ("work", True), (self.folder.name, False)])
        self.assertEqual((self.folder / "done" / "inner" / "x").read_text(), "x")

    def test_processes(self):
        gone = subprocess.Popen([sys.executable, "-c", "pass"])
        gone.wait()
        self.assertFalse(space.alive(gone.pid))
        self.assertTrue(space.alive(subprocess.os.getpid()))
        self.assertTrue(space.alive(1))
        self.assertTrue(space.alive(1 << 80), "no number of a process: nothing of ours to remove")


class Jobs(Folder):
    def setUp(self):
        super().setUp()
        self.job = Job.create(self.folder / "a.kerb")
        self.cloud = store_of(points(40_000))

    def kept(self) -> tuple[dict, dict]:
        """All files but the job record, of which the job says how much of it counts."""
        mine = {name: data for name, data in all_files(self.folder).items() if not name.endswith("record.jsonl")}
        return mine, all_files(self.cloud.folder)

    def still_the_same(self, work, *errors) -> None:
        """Work that is refused its room ends with an error of ours and changes nothing on the disk."""
        before = self.kept()
        with room_for(200), self.assertRaises(errors or JobError) as caught:
            work()
        self.assertTrue(self.kept() == before)
        self.assertIn("/", str(caught.exception))

    def test_saving(self):
        state = self.job.state
        self.job.execute(Change("Named it", lambda s: s.__class__(s.title.__class__(name="Long name " * 90))))
        self.job.flush()
        (self.job.folder / "autosave.jsonl").unlink()
        self.still_the_same(self.job.save)
        self.assertTrue(self.job.changed)
        self.assertEqual(Job.open(self.job.folder).state, state)
        self.job.save()
        self.assertEqual(Job.open(self.job.folder).state, self.job.state)

    def test_saving_elsewhere(self):
        (self.job.folder / "data" / "x.npy").write_bytes(bytes(5000))
        self.still_the_same(lambda: self.job.copy_to(self.folder / "b.kerb"))

    def test_things_attributes_classes_sets_and_outcomes(self):
        many = points(400)
        item = Placed(POINTS, SurveyPoints(many, ("p",) * 400, ("",) * 400, {}), local_grid(METRE))
        self.still_the_same(lambda: vault.save_thing(self.job.folder / "data" / "p", item))
        self.still_the_same(lambda: self.cloud.add_attribute("height", "m", np.arange(40_000.0)))
        self.still_the_same(self.cloud.write_meta)
        self.still_the_same(lambda: sets.keep(self.cloud.folder, np.arange(40_000) % 3 > 0))
        (self.job.folder / "data" / outcomes.FOLDER).mkdir()
        outcome = Outcome("stockpile", "m", "", {}, {})
        self.still_the_same(lambda: outcomes.keep(self.job.folder, "s-1", outcome))

    def test_clouds(self):
        mask = np.ones(40_000, bool)
        self.still_the_same(lambda: excerpt(self.cloud, mask, self.folder / "part", silent()), JobError)
        with room_for(2000), self.assertRaises(OutputError) as caught:
            store_of(points(30_000))
        self.assertIn("File too large", str(caught.exception))

    def test_a_half_made_job_can_be_made(self):
        folder = self.folder / "half.kerb"
        with room_for(3), self.assertRaises(JobError):
            Job.create(folder)
        self.assertFalse(folder.exists())
        (folder / "data").mkdir(parents=True)
        (folder / ".job.json.partial").write_text("{")
        self.assertEqual(Job.create(folder).state, Job.open(folder).state)
        for name in ("job.json", "data/cloud", "notes.txt"):
            other = self.folder / f"{Path(name).name}.kerb"
            (other / name).parent.mkdir(parents=True)
            (other / name).write_text("mine")
            with self.assertRaises(JobError):
                Job.create(other)
            self.assertEqual((other / name).read_text(), "mine")

    def test_a_job_whose_making_was_killed_takes_files(self):
        folder = self.folder / "half.kerb"
        (folder / "data").mkdir(parents=True)
        status, _, error = run_kerb("add", folder, DATA / "simple1_1.las")
        self.assertEqual(status, 0, error)
        left = folder / "data" / "0123456789.partial"
        left.mkdir()
        status, _, error = run_kerb("add", folder, DATA / "simple1_1.las")
        self.assertEqual(status, 0, error)
        self.assertFalse(left.exists(), "what a kill left is swept")
        self.assertEqual(len(Job.open(folder).state.holdings), 2)
