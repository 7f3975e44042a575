"""What is done with points of a cloud: sets, parts, classes, filters, clouds of their own; undo and the job reopened."""

import json
import unittest
from dataclasses import replace

import numpy as np

from kerb.core.cloud import filters, sets
from kerb.core.cloud.excerpt import excerpt
from kerb.core.cloud.filters import Filter, holds, kept
from kerb.core.cloud.sets import PointSets
from kerb.core.cloud.store import CLASSES, PART, CloudStore
from kerb.core.errors import InputError, JobError, OutputError
from kerb.core.progress import silent
from kerb.core.units import US_SURVEY_FOOT
from kerb.demo import yard
from kerb.job import holdings, pointwork, studies
from kerb.job.job import Change, Job
from kerb.job.state import JobState
from kerb.studies.scope import Scope
from kerb.studies.stockpile.setup import StockpileSetup
from tests.support import FAR, YARD, Folder, near, run_kerb, store_of, toe_of

ANGLES = np.linspace(0, 2 * np.pi, 40, endpoint=False)


class Sets(Folder):
    def test_a_damaged_or_foreign_set_is_said_and_changes_nothing(self):
        store = store_of(np.random.default_rng(3).uniform(0, 9, (500, 3)))
        good = store.keep_set(np.arange(500) < 30)
        store.take_sets(PointSets(aside=good))
        other = sets.keep(store.folder, np.ones(9999, bool))
        (store.folder / "set-broken.npy").write_bytes(b"no set")
        for name in (other, "broken", "missing"):
            with self.assertRaisesRegex(JobError, name):
                store.take_sets(PointSets(aside=name, given=((good, 5),)))
            self.assertEqual((store.used, store.sets), (470, PointSets(aside=good)))


class Filters(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(4)
        self.points = rng.uniform(0, 40, (30_000, 3)) / US_SURVEY_FOOT.metres + FAR
        self.store = store_of(self.points, US_SURVEY_FOOT, classes=rng.integers(0, 9, 30_000).astype(np.uint8))
        for name in ("red", "green", "blue"):
            self.store.lend(name, rng.integers(0, 65536, 30_000).astype(np.uint16))
        self.z = self.store.coordinates(slice(0, 30_000))[:, 2]
        self.classes = np.asarray(self.store.column(CLASSES))

    def test_values_ranges_colours_and_what_they_exclude(self):
        every = slice(0, 30_000)
        number = np.asarray(self.store.column("number"))
        red, green, blue = (np.asarray(self.store.column(name)) >> 8 for name in ("red", "green", "blue"))
        near = (np.abs(red - 100.0) <= 60) & (np.abs(green - 100.0) <= 60) & (np.abs(blue - 100.0) <= 60)
        low, high = float(np.sort(self.z)[5000]), float(np.sort(self.z)[25_000])
        for condition, wanted in (
            (Filter(CLASSES, (2, 8)), np.isin(self.classes, (2, 8))), (Filter(CLASSES, (5,), outside=True), self.classes != 5),
            (Filter("elevation", low=low, high=high), (self.z >= low - 1e-9) & (self.z <= high + 1e-9)),
            (Filter("elevation", low=low), self.z >= low - 1e-9),
            (Filter("number", low=100, high=999), (number >= 100) & (number <= 999)),
            (Filter("number", (7, 70_000)), number == 7), (Filter("colour", colour=(100, 100, 100), tolerance=60), near),
            (Filter("missing", (1,)), np.ones(30_000, bool)),
        ):  # fmt: skip
            np.testing.assert_array_equal(holds(self.store, condition, every), wanted, repr(condition))
        both = (Filter(CLASSES, (2,)), Filter("elevation", low=low), Filter("number", (1,), on=False))
        np.testing.assert_array_equal(kept(self.store, both), (self.classes == 2) & (self.z >= low - 1e-9))

    def test_toggles_and_what_cannot_be(self):
        some = filters.toggled(filters.toggled((), CLASSES, 5), CLASSES, 3)
        self.assertEqual(filters.hidden_values(some, CLASSES, range(9)), {3, 5})
        only = (Filter(CLASSES, (2,)),)
        self.assertEqual(filters.hidden_values(only, CLASSES, (1, 2, 5)), {1, 5})
        self.assertEqual(filters.toggled(only, CLASSES, 5), (Filter(CLASSES, (2, 5)),))
        self.assertEqual(filters.toggled(filters.toggled(some, CLASSES, 5), CLASSES, 3), ())
        for bad in (Filter("number"), Filter("colour", colour=(1, 2)), Filter("number", low=np.nan)):
            with self.assertRaises(InputError):
                bad.check()
        self.assertIn("elevation", filters.offered(self.store))
        edges, counts = filters.spread(self.store, "elevation", (Filter(CLASSES, (2,)),))
        self.assertLess(abs(counts.sum() - (self.classes == 2).sum()), 20)
        self.store.take_sets(PointSets(aside=self.store.keep_set(self.classes == 3)))
        want = dict(zip(*(v.tolist() for v in np.unique(self.classes[self.classes != 3], return_counts=True)), strict=True))
        self.assertEqual(filters.counts(self.store, CLASSES), want)
        self.assertEqual(len(filters.counts(self.store, "number")), self.store.used)
        self.assertGreater(edges[0], self.z.min() - 1e-6)


class Work(Folder):
    def setUp(self):
        super().setUp()
        self.job = Job.create(self.folder / "yard.kerb")
        holding = holdings.import_cloud(self.job.folder, self.job.state, holdings.ImportWish(YARD), silent())
        self.job.execute(holdings.added(self.job, holding))
        self.count = holding.points
        self.own = np.asarray(self.store.column(CLASSES)).copy()
        self.x = self.store.coordinates(slice(0, self.count))[:, 0]
        self.west, self.middle = self.x < np.quantile(self.x, 0.3), np.abs(self.x - np.median(self.x)) < 9

    @property
    def holding(self):
        return self.job.state.holdings[0]

    @property
    def store(self):
        return self.job.store(self.holding)

    def parts(self):
        column = np.asarray(self.store.column(PART)) if self.holding.parts else np.zeros(self.count)
        return {part.name: column == part.number for part in self.holding.parts}

    def test_parts_never_overlap_and_undo_goes_back(self):
        job = self.job
        job.execute(pointwork.new_part(job, self.holding, self.west, "west"))
        job.execute(pointwork.new_part(job, self.holding, self.middle, "road"))
        np.testing.assert_array_equal(self.parts()["west"], self.west & ~self.middle)
        east = self.x > np.quantile(self.x, 0.9)
        job.execute(pointwork.add_to_part(job, self.holding, east | self.west, 2))
        self.assertEqual(list(self.parts()), ["road"], "a part that lost all points is gone")
        np.testing.assert_array_equal(self.parts()["road"], self.west | self.middle | east)
        job.undo()
        np.testing.assert_array_equal(self.parts()["west"], self.west & ~self.middle)
        self.assertEqual(sum(part.count for part in self.holding.parts), int((self.west | self.middle).sum()))
        job.execute(pointwork.take_from_part(job, self.holding, self.west, 2))
        np.testing.assert_array_equal(self.parts()["road"], self.middle & ~self.west)
        job.execute(pointwork.merged_parts(job, self.holding, 1, 2))
        np.testing.assert_array_equal(self.parts()["west"], (self.west & ~self.middle) | (self.middle & ~self.west))
        job.execute(pointwork.altered_part(self.holding, 1, name="yard", ink="#123456"))
        job.execute(pointwork.altered_part(self.holding, 1, shown=False))
        job.save()
        again = Job.open(job.folder).state.holdings[0].parts
        self.assertEqual([(p.name, p.ink, p.shown) for p in again], [("yard", "#123456", False)])
        job.execute(pointwork.removed_part(self.holding, 1))
        self.assertEqual(self.parts(), {})
        with self.assertRaises(InputError):
            pointwork.new_part(job, self.holding, self.west & ~self.west, "none")

    def test_split_by_class(self):
        job = self.job
        job.execute(pointwork.split_by(job, self.holding, CLASSES, lambda v: f"class {v}"))
        for name, mask in self.parts().items():
            np.testing.assert_array_equal(mask, self.own == int(name.split()[1]))
        with self.assertRaisesRegex(InputError, "values"):
            pointwork.split_by(job, self.holding, "gps_time" if self.store.has("gps_time") else "intensity", str)

    def test_split_at_limits_of_an_attribute(self):
        z = self.store.coordinates(slice(0, self.count))[:, 2]
        low, high = float(np.quantile(z, 0.2)), float(np.quantile(z, 0.7))
        self.job.execute(pointwork.set_aside(self.job, self.holding, self.west))
        self.job.execute(pointwork.split_at(self.job, self.holding, "elevation", (low, high), "us-ft"))
        wanted = [z < low, (z >= low) & (z < high), z >= high]
        self.assertEqual([p.count for p in self.holding.parts], [int((m & ~self.west).sum()) for m in wanted])
        self.assertTrue(self.holding.parts[0].name.startswith("below "))
        self.assertTrue(self.holding.parts[1].name.endswith(" ft (US)"), self.holding.parts[1].name)
        height = np.full(self.count, np.nan, np.float32)
        height[:3000], height[3000:9000] = 0.5, 1.0
        self.store.add_attribute("height", "m", height)
        self.job.execute(pointwork.bring_back(self.job, self.holding))
        self.job.execute(pointwork.split_at(self.job, self.holding, "height", (-1.0, 1.0), "m"))
        self.assertEqual([(p.name, p.count) for p in self.holding.parts], [("−1 – 1 m", 3000), ("from 1 m", 6000)])
        for limits in ((), (2.0, 1.0), (float("nan"),), (50.0,), tuple(range(99))):
            with self.assertRaises(InputError, msg=limits):
                pointwork.split_at(self.job, self.holding, "height", limits)

    def test_classes_are_given_over_those_of_the_file(self):
        job = self.job
        job.execute(pointwork.give_class(job, self.holding, self.west, 6))
        job.execute(pointwork.give_class(job, self.holding, self.middle, 9))
        wanted = np.where(self.middle, 9, np.where(self.west, 6, self.own))
        np.testing.assert_array_equal(self.store.column(CLASSES), wanted)
        job.undo()
        np.testing.assert_array_equal(self.store.column(CLASSES), np.where(self.west, 6, self.own))
        job.redo()
        job.save()
        again = Job.open(job.folder)
        np.testing.assert_array_equal(again.store(again.state.holdings[0]).column(CLASSES), wanted)
        on_disk = CloudStore.open(job.folder / self.holding.data)
        np.testing.assert_array_equal(on_disk.column(CLASSES), self.own, "what was imported stays as it was")
        with self.assertRaisesRegex(InputError, "already"):
            pointwork.give_class(job, self.holding, self.middle, 9)
        every = np.full(self.count, 2, np.uint8)
        job.execute(pointwork.give_classes(job, self.holding, every, "all ground", {}))
        self.assertEqual(np.unique(self.store.column(CLASSES)).tolist(), [2])
        self.store.add_attribute("height_above_ground", "m", np.zeros(self.count, np.float32))
        self.assertFalse(self.store.outdated("height_above_ground"))
        job.undo()
        self.assertTrue(self.store.outdated("height_above_ground"))

    def test_looks_survive_undo(self):
        job, view = self.job, (Filter(CLASSES, (2,)),)
        job.execute(pointwork.new_part(job, self.holding, self.west, "west"))
        job.execute(pointwork.set_aside(job, self.holding, self.middle))
        seen = replace(self.holding, filters=view, style={"by": "class"})
        job.execute(Change("Filtered", lambda state: state.with_holding(seen), undoable=False))
        job.undo()
        self.assertEqual((self.holding.aside, self.holding.filters, self.holding.style), ("", view, {"by": "class"}))
        self.assertEqual(JobState.from_json(job.state.to_json()), job.state)

    def test_a_cloud_of_its_own(self):
        job = self.job
        job.execute(pointwork.give_class(job, self.holding, self.west, 6))
        before = self.store.coordinates(slice(0, self.count))
        made = pointwork.cloud_of(job, self.holding, self.west, "west", silent())
        job.execute(pointwork.cloud_added(self.holding, made, "made", True))
        store = job.store(job.state.holdings[1])
        self.assertEqual([h.visible for h in job.state.holdings], [False, True])
        found = store.coordinates(slice(0, store.count))
        order = lambda xyz: xyz[np.lexsort(xyz.T)]  # noqa: E731
        near(order(found), order(before[self.west]), atol=1e-9)
        self.assertEqual(np.unique(store.column(CLASSES)).tolist(), [6])
        for tile, row in enumerate(store.tiles):
            mine = store.coordinates(store.rows_of(tile))
            near([mine.min(axis=0), mine.max(axis=0)], [row["low"], row["high"]], atol=1e-6)
        job.undo()
        self.assertEqual([(h.name, h.visible) for h in job.state.holdings], [(self.holding.name, True)])
        with self.assertRaises(InputError):
            excerpt(self.store, ~np.ones(self.count, bool), self.folder / "none", silent())
        with self.assertRaises(OutputError):
            excerpt(self.store, self.west, self.folder, silent())
        self.assertFalse(list(self.folder.glob("*.partial")))


class Sweeping(Folder):
    def test_data_that_nothing_names_go_when_a_job_is_opened_again(self):
        job = Job.create(self.folder / "yard.kerb")
        holding = holdings.import_cloud(job.folder, job.state, holdings.ImportWish(YARD), silent())
        job.execute(holdings.added(job, holding))
        west = job.store(holding).coordinates(slice(None))[:, 0] < yard.ORIGIN[0] + 30
        job.execute(pointwork.set_aside(job, holding, west))
        job.save()
        job.execute(pointwork.bring_back(job, job.state.holdings[0]))
        job.execute(pointwork.new_part(job, job.state.holdings[0], ~west, "east"))
        job.execute(pointwork.removed_part(job.state.holdings[0], 1))
        gone = pointwork.cloud_of(job, job.state.holdings[0], west, "west", silent())
        data = job.folder / "data" / holding.id
        self.assertEqual((len(sets.kept_in(data)), (job.folder / gone.data).is_dir()), (2, True))
        crashed = Job.open(job.folder)
        crashed.sweep()
        self.assertEqual(len(sets.kept_in(data)), 2, "what a crash left is offered, and needs its data")
        again = Job.open(job.folder, recover=True)
        again.sweep()
        self.assertEqual([sets.name_of(p) for p in sets.kept_in(data)], [crashed.state.holdings[0].aside])
        self.assertFalse((job.folder / gone.data).exists())
        again.save()
        last = Job.open(job.folder)
        last.sweep()
        self.assertEqual((sets.kept_in(data), last.store(last.state.holdings[0]).count), ([], holding.points))


class StudyOfAPart(Folder):
    def test_a_study_takes_a_part_and_follows_its_name(self):
        job = Job.create(self.folder / "yard.kerb")
        holding = holdings.import_cloud(job.folder, job.state, holdings.ImportWish(YARD), silent())
        job.execute(holdings.added(job, holding))
        store = job.store(holding)
        heap = yard.HEAPS[1]
        middle = yard.ORIGIN + np.array(heap.centre)
        ring = middle + 1.15 * heap.half_axes[0] * np.column_stack([np.cos(ANGLES), np.sin(ANGLES)])
        setup = StockpileSetup(Scope(holding.id, (2,), "heap"), toe=toe_of(ring))
        change, study = studies.made(job.state, "stockpile", "Heap", setup)
        job.execute(change)
        none, _ = studies.run_study(job, study, silent())
        self.assertIsNone(none.value("net"))
        self.assertIn("no part 'heap'", " ".join(note.text for note in none.warnings))
        xyz = store.coordinates(slice(0, store.count))
        # the western half only: the volume inside the toe is then that of another surface
        west = xyz[:, 0] < middle[0]
        job.execute(pointwork.new_part(job, job.state.holdings[0], np.ones(store.count, bool), "heap"))
        whole, mark = studies.run_study(job, study, silent())
        job.execute(pointwork.new_part(job, job.state.holdings[0], ~west, "east"))
        half, other = studies.run_study(job, study, silent())
        self.assertNotEqual(mark, other)
        self.assertLess(half.inputs[0].used, 0.6 * whole.inputs[0].used)
        job.execute(pointwork.altered_part(job.state.holdings[0], 1, name="rock"))
        self.assertEqual(studies.setup_of(job.state.studies[0]).cloud.part, "rock")
        again, _ = studies.run_study(job, job.state.studies[0], silent())
        self.assertEqual(again.value("net"), half.value("net"))
        job.save()
        toe = self.folder / "toe.txt"
        toe.write_text("\n".join(f"{x} {y}" for x, y in ring), encoding="utf-8")
        named = f"{job.folder}#{holding.name}"
        status, out, error = run_kerb("stockpile", named, "--toe", toe, "--classes", "2", "--part", "rock", "--json", "-")
        self.assertEqual(status, 0, error)
        self.assertAlmostEqual(json.loads(out)["figures"]["net"]["value"], half.value("net"), 9)
        status, _, error = run_kerb("stockpile", named, "--toe", toe, "--part", "sand")
        self.assertEqual(status, 2)
        self.assertIn("there are: rock, east", error)
