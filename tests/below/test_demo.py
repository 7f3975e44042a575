"""The demo: the same yard each time, with the truth it says, and a job that opens with an answer in it."""

import unittest
from dataclasses import replace
from unittest import mock

import laspy
import numpy as np
import pyproj

from kerb.core.progress import silent
from kerb.demo import adit, bridge, cloud, files, pit, quay, slab, storey, yard
from kerb.demo import job as demo
from kerb.job import studies
from kerb.job.job import Change, Job
from kerb.job.picked import with_columns
from kerb.studies.accuracy.kind import ACCURACY
from tests.support import Folder, demo_files, near

THIN = 6.0


class Yard(unittest.TestCase):
    def test_heaps_have_the_volumes_they_say(self):
        """Heights over the ground summed on a fine lattice (midpoint rule) against the closed forms."""
        step = 0.1
        side = [np.arange(step / 2, size, step) for size in yard.SIZE]
        xy = np.stack(np.meshgrid(*side), axis=-1).reshape(-1, 2)
        for heap in yard.HEAPS:
            self.assertAlmostEqual(float(heap.over_ground(xy).sum()) * step**2 / heap.volume, 1.0, delta=2e-3)


def setup_words(job, study):
    return studies.setup_of(job.state.study(study.id)).left_out


class DemoJob(Folder):
    def test_a_file_as_a_survey_office_would_send_it(self):
        path = cloud.write(self.folder / "yard.laz", THIN)
        las = laspy.read(path)
        self.assertEqual(las.header.parse_crs(), pyproj.CRS.from_user_input(yard.CRS))
        self.assertTrue((las.header.mins[:2] >= yard.ORIGIN - 1).all())
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["yard.laz"])
        self.assertEqual(len(cloud.write(self.folder / "grey.laz", THIN, colour=False).read_bytes()) > 1000, True)
        self.assertNotIn("red", laspy.read(self.folder / "grey.laz").point_format.dimension_names)

    def test_the_job_has_an_answer_that_holds_against_the_truth(self):
        source = cloud.write(self.folder / "yard.laz", 16.0)
        made = demo.make_demo(self.folder / "Quay.kerb", source, silent(), demo_files())
        job = Job.open(made.folder)
        self.assertEqual(job.state.title.name, "Saltmarrow Quay")
        names = [
            "Control points", "Checkpoints", "Yard lines", "Orthophoto", "Pit, March", "Pit, May", "Pit, design",
            "Pit, second scan",
        ]  # fmt: skip
        self.assertEqual([h.name for h in job.state.holdings][1:], [*names, *(words for _, words, _ in demo.REST)])
        self.assertEqual(
            [s.name for s in job.state.studies],
            [*(heap.name for heap in yard.HEAPS), *demo.INVENTORIES, *demo.OTHERS, *demo.PITS, *demo.QUAY],
        )
        first = job.state.studies[0]
        accuracy = next(s for s in job.state.studies if s.name == demo.OTHERS[1])
        pit_found = studies.outcome_of(job, next(s for s in job.state.studies if s.name == demo.PITS[0]))
        self.assertLess(abs(pit_found.value("net") - pit.fill() + pit.cut()), pit_found.figures["net"].u95)
        self.assertAlmostEqual(pit_found.value("stable_offset"), pit.OFFSET, delta=0.003)
        into = studies.outcome_of(job, next(s for s in job.state.studies if s.name == demo.PITS[7]))
        self.assertAlmostEqual(into.value("rotation"), 0.35, delta=0.01)
        self.assertAlmostEqual(into.value("shift_z"), 0.16, delta=0.01)
        self.assertAlmostEqual(pit_found.value("cut") / pit.cut(), 1.0, delta=0.01)
        self.the_rest_of_the_quay(job)
        net = studies.outcome_of(job, first).figures["net"]
        self.assertLess(abs(net.value - yard.HEAPS[0].volume), net.u95)
        self.assertFalse(studies.is_stale(job.state, first))
        proof = studies.outcome_of(job, accuracy)
        self.assertAlmostEqual(proof.value("mean"), files.BIAS, delta=0.012)
        setup = replace(studies.setup_of(accuracy), left_out="").to_json()
        proof, _ = studies.run_study(job, replace(accuracy, setup=setup), silent())
        rows = {row[0]: row[8] or row[9] for row in proof.tables["points"].rows if row[8] or row[9]}
        self.assertLessEqual({name for name, _, _, why in files.ODD if why}, set(rows), "every odd one is named")
        self.assertLessEqual(set(rows), {name for name, *_ in files.ODD}, "and no good one")
        self.assertEqual((made.can_undo, job.has_recovery(job.folder)), ("", False))
        self.roles_live_with_the_list(job, accuracy)

    def the_rest_of_the_quay(self, job):
        """Scour, blast, and what is out of place in the corridor, as they were made; the second scan slides and that is said."""
        storm, along, blast, built, line, floor, plan, bridge_, rock, lined = (
            studies.outcome_of(job, next(s for s in job.state.studies if s.name == name)) for name in demo.QUAY
        )
        self.assertLess(abs(storm.value("net") - quay.DEPOSIT.volume + quay.SCOUR.volume), storm.figures["net"].u95)
        # One in three: distances along the normal are shorter than upright ones.
        shorter = quay.SHORE_FALL / np.hypot(quay.SHORE_FALL, 1.0)
        self.assertAlmostEqual(along.value("min"), -quay.SCOUR.depth * shorter, delta=0.06)
        self.assertLess(abs(blast.value("net") + sum(cone.volume for cone in quay.BLAST)), blast.figures["net"].u95)
        self.assertGreater(blast.value("overhang"), 90)
        rows = built.tables["elements"].rows
        self.assertEqual({row[0] for row in rows[:2]}, {quay.LOW_BEAM, quay.OUT_COLUMN})
        worst = {row[1]: row for row in floor.tables["areas"].rows[:2]}
        for side, (middle, _, most) in (("high", slab.HUMP), ("low", slab.POND)):
            away = np.hypot(*(np.array(worst[side][2:4]) - yard.ORIGIN - slab.CORNER - middle))
            self.assertLess(away, 0.6, side)
            self.assertAlmostEqual(abs(worst[side][4]), most, delta=0.0035)
        deepest = floor.tables["ponds"].rows[0]
        self.assertLess(np.hypot(*(np.array(deepest[1:3]) - yard.ORIGIN - slab.CORNER - slab.POND[0])), 0.6)
        self.assertAlmostEqual(floor.value("noise"), slab.NOISE, delta=0.0001)
        self.assertGreater(floor.value("fl"), 10)
        self.assertTrue(any("slide along 90°" in note.text for note in line.warnings))
        self.assertAlmostEqual(line.value("rotation"), 0.4, delta=0.01)
        self.assertAlmostEqual(line.value("shift_n"), 0.08, delta=0.003)
        areas = [np.prod(np.subtract(high, low)) for low, high in storey.ROOMS] + [np.pi * storey.TOWER[1] ** 2]
        areas[5] -= np.pi * storey.COLUMN[1] ** 2
        near(sorted(row[1] for row in plan.tables["rooms"].rows), sorted(areas), 0.06)
        lowest = bridge.PIPE - bridge.SAG - bridge.RISE * bridge.PIPES[1]
        self.assertLess(abs(bridge_.value("lowest") - lowest), bridge_.figures["lowest"].u95)
        self.assertEqual(bridge_.value("strays"), 2)
        self.assertEqual([row[0] for row in rock.tables["patches"].rows if row[0][0] == "U"][:1], ["U1"])
        worst = next(row for row in rock.tables["patches"].rows if row[0] == "U1")
        self.assertAlmostEqual(worst[1], 100 + adit.INSIDE[0], delta=0.4)
        self.assertAlmostEqual(worst[6], adit.INSIDE[3], delta=0.06)
        self.assertAlmostEqual(
            lined.value("thickness"), adit.LINING * (1 - 0.5 * 4 / 60) + 0.03 * 2 * np.sqrt(np.pi) / 60, delta=0.003
        )
        self.assertIn("stands-off", [note.code for note in rock.warnings])

    def roles_live_with_the_list(self, job, study):
        """What the study says of roles goes into the list, one step; asked without typed words it finds the same; undo takes both."""
        before, points = studies.outcome_of(job, study), job.state.holding("Checkpoints")
        kept = ACCURACY.keeps(studies.setup_of(study), before)
        after = with_columns(job, points, kept.columns)
        asked = replace(study, setup=replace(studies.setup_of(study), **kept.values).to_json())
        job.execute(Change("Kept", lambda state: state.with_holding(after).with_study(asked)))
        again, _ = studies.run_study(job, job.state.study(study.id), silent())
        for name in ("mean", "rms", "n", "left_out"):
            self.assertEqual(again.value(name), before.value(name))
        extra = job.thing(job.state.holding("Checkpoints")).thing.extra
        self.assertIn("control", extra["role"])
        self.assertIn("under the loader", extra["reason"])
        self.assertEqual(setup_words(job, study), "")
        job.undo()
        self.assertNotIn("reason", job.thing(job.state.holding("Checkpoints")).thing.extra)
        self.assertIn("loader", setup_words(job, study))

    def test_made_once_and_anew_on_wish(self):
        whole = cloud.write

        def small(path, *_):
            path.parent.mkdir(parents=True, exist_ok=True)
            return whole(path, 3.0)

        home = mock.patch.object(demo, "user_data", lambda: self.folder)
        written = mock.patch.object(demo, "write_files", lambda *_: demo_files())
        with home, written, mock.patch.object(cloud, "write", small), mock.patch.object(demo, "_add_quay"):
            job = demo.open_demo(silent())
            job.execute(studies.removed(job.state.studies[2]))
            job.save()
            self.assertEqual(len(demo.open_demo(silent()).state.studies), 6)
            self.assertEqual(len(demo.open_demo(silent(), fresh=True).state.studies), 7)
