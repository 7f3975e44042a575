"""What is kept and what counts: setups, scopes, fingerprints, journals, outcomes, placements, and declarations."""

import json
import unittest
from dataclasses import dataclass, replace
from unittest import mock

import numpy as np

from kerb.core.cloud.classes import NOISE_CLASSES
from kerb.core.cloud.filters import Filter
from kerb.core.cloud.finders import FINDERS, strip
from kerb.core.cloud.ground import GroundSettings, ground
from kerb.core.cloud.heights import heights
from kerb.core.errors import InputError, JobError, NotDeterminable
from kerb.core.geometry import polygon
from kerb.core.geometry.area import Area, ring_of
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.geometry.rigid import Rigid
from kerb.core.progress import silent
from kerb.core.quantity import Decimals
from kerb.core.reference import local_grid
from kerb.core.section.frame import Frame
from kerb.core.things import LINES, MODEL, SURFACE, Placed
from kerb.core.units import FOOT, METRE
from kerb.demo import yard
from kerb.job import holdings, journal, outcomes, studies, vault
from kerb.job.holdings import ImportWish, import_cloud
from kerb.job.job import Change, Job
from kerb.job.state import Holding
from kerb.studies import fields, showing
from kerb.studies.attributes import values_of
from kerb.studies.drawn import Drawn, Item
from kerb.studies.fields import Field
from kerb.studies.layers import FoundDimensions, FoundLabels, FoundLine, FoundMesh, FoundPoints, Plot, Profile, Sections, Trace
from kerb.studies.outcome import Attribute, Column, Figure, Input, Made, Note, Outcome, Table, fingerprint
from kerb.studies.profiles import Cutter, eastward
from kerb.studies.scope import Scope, usable_classes, without_noise
from kerb.studies.setup import Setup
from kerb.studies.sources import Source, Sources, holding_of, named_holdings, resolve
from kerb.studies.stockpile.setup import StockpileSetup
from tests.support import FAR, YARD, Folder, circle, frustum, jittered, measured, near, store_of, toe_of
from tests.third import LevelSetup, registered

TURN = Rigid.turned(30.0, FAR, np.array([120.0, -40.0, 2.5]))
RING = circle(6, 40) + FAR[:2]


def full_outcome():
    """An outcome with something of everything."""
    ring = np.column_stack([RING, np.arange(40.0)])
    layers = {
        "a/b": FoundLine(ring, "edge", "A / B", closed=True),
        "mesh": FoundMesh(ring[:3], np.array([[0, 1, 2]], np.int32), "top", "M", "m", np.array([1.0, np.nan, 3.0]), True),
        "points": FoundPoints(ring[:4], "mark", "P", "m", None, ("a", "b", "c", "d")),
        "labels": FoundLabels(ring[:1], ("text",)),
        "dims": FoundDimensions(ring[None, :2], ("one",), shown=False),
    }  # fmt: skip
    charts = [
        Profile(
            "Along", RING[:2], np.arange(3.0), (("top", "top", np.arange(3.0)), ("base", "base", np.zeros(3))), "f", ("mesh",)
        ),
        Plot("Many", "bars", np.arange(4.0), np.arange(4.0) ** 2, "n", "n²", ("a", "b", "c", "d")),
    ]
    table = Table("T", (Column("n"), Column("x", "m", "X"), Column("t")), ((1, 0.5, "a"), (2, 1.5, None), (3, 2.5, "c")))
    inner = Outcome("third", "m", "", {"level": Figure(1.0, "m", "L")}, {}, layers={"a/b": layers["a/b"]})
    return Outcome(
        "third", "m", "EPSG:25830", {"level": Figure(1.25, "m", "Level", 0.1, "note"), "none": Figure(None, "m", "None")},
        {"level": 1.0}, [Input("cloud", "/x", 9, 5, "d")], {"t": table}, [Note("c", "w")], "By hand.", layers, charts,
        {"over": Attribute("Over", "mesh", "a/b", "m")}, [], {"one/two": inner},
    )  # fmt: skip


class Outcomes(Folder):
    def test_everything_comes_back(self):
        before = full_outcome()
        outcomes.keep(self.folder, "x", before)
        after = outcomes.load(self.folder, "x")
        self.assertEqual(after.to_json(), before.to_json())
        self.assertEqual(list(after.layers), list(before.layers))
        for name, layer in before.layers.items():
            for key, value in vars(layer).items():
                again = getattr(after.layers[name], key)
                np.testing.assert_array_equal(again, value) if isinstance(value, np.ndarray) else self.assertEqual(again, value)
        self.assertEqual(after.charts[0].traces[0][:2], ("top", "top"))
        np.testing.assert_array_equal(after.charts[0].traces[0][2], np.arange(3.0))
        self.assertEqual(after.charts[1].names, ("a", "b", "c", "d"))
        self.assertEqual(after.attributes, before.attributes)
        self.assertEqual(after.items["one/two"].figures, before.items["one/two"].figures)
        np.testing.assert_array_equal(after.items["one/two"].layers["a/b"].xyz, before.layers["a/b"].xyz)
        # Whole numbers that no array holds come back as they are; a setup in another order is the same; the first thing made counts.
        wide = Table("W", (Column("n"),), ((2**62 + 1,), (-(2**70),)))
        outcomes.keep(self.folder, "w", replace(before, tables={"w": wide}))
        self.assertEqual(outcomes.load(self.folder, "w").tables["w"], wide)
        self.assertEqual(fingerprint({"a": 1, "b": 2}), fingerprint({"b": 2, "a": 1}))
        mesh, other = (
            Placed(SURFACE, TriangleMesh(np.eye(3), np.array([[0, 1, 2]])), local_grid(unit)) for unit in (METRE, FOOT)
        )
        made = replace(before, makes=[Made("one", mesh), Made("two", other)])
        self.assertIs(made.surface_made(local_grid(METRE)), mesh)
        self.assertEqual([len(after.profiles), after.mesh("a/b"), after.line("mesh"), after.value("no")], [1, None, None, None])

    def test_damaged_missing_and_full_disk(self):
        outcomes.keep(self.folder, "x", full_outcome())
        path = outcomes.folder_of(self.folder) / "x.npz"
        whole = path.read_bytes()
        for size in (0, 10, len(whole) // 2, len(whole) - 30):
            path.write_bytes(whole[:size])
            self.assertIsNone(outcomes.load(self.folder, "x"), size)
        self.assertIsNone(outcomes.load(self.folder, "y"))
        path.write_bytes(whole)
        with (
            mock.patch("numpy.savez", side_effect=OSError(28, "No space left on device")),
            self.assertRaisesRegex(JobError, "No space"),
        ):
            outcomes.keep(self.folder, "x", full_outcome())
        self.assertEqual(path.read_bytes(), whole)
        self.assertEqual([p.name for p in path.parent.iterdir()], ["x.npz"])


class Setups(unittest.TestCase):
    def whole(self):
        area = Area((ring_of(RING), ring_of(circle(2, 8) + FAR[:2])), "hole")
        scope = Scope("c", (2, 6), "Road", (Filter("intensity", low=3.0),), (area,))
        return LevelSetup(
            scope, Scope("s"), Drawn.of(RING).with_level(3, 4.5), Drawn.of(RING[:2]), Drawn.of(RING[:1]), "m", "r", 1.5,
            "median", "word", True,
        )  # fmt: skip

    def test_limits_of_numbers(self):
        """What is no default may not lie on the lower limit; the upper one may be reached."""
        one = StockpileSetup(Scope("c"), toe=toe_of(RING))
        for name, about in StockpileSetup.declared().items():
            if about.kind != fields.NUMBER:
                continue
            for value, good in ((about.low, StockpileSetup.defaults()[name] is not None), (about.high, True)):
                if value is None:
                    continue
                asked = replace(one, **{name: float(value)})
                if not asked.counts(name):
                    continue
                if good:
                    asked.check()
                else:
                    with self.assertRaisesRegex(InputError, about.label):
                        asked.check()
            for value in (None if about.low is None else about.low - 1e-6, None if about.high is None else about.high + 1e-6):
                if value is not None and one.counts(name):
                    with self.assertRaisesRegex(InputError, about.label):
                        replace(one, **{name: value}).check()

    def test_missing_and_wrong(self):
        self.assertEqual(LevelSetup().missing(), ["Choose a cloud.", "Draw the area."])
        setup = self.whole()
        setup.check()
        for values, words in (
            ({"cloud": Scope()}, "Choose a cloud"), ({"area": Drawn()}, "Draw the area"), ({"mean": "mode"}, "mode"),
            ({"level": np.inf}, "Level"), ({"area": Drawn.of(RING[[0, 20, 10, 30]])}, "crosses"),
            ({"axis": Drawn.of(RING[:1])}, "Axis"), ({"cloud": Scope("c", (300,))}, "0 to 255"),
        ):  # fmt: skip
            with self.assertRaisesRegex(InputError, words):
                replace(setup, **values).check()

    def test_what_has_no_meaning_or_is_for_show_changes_no_figure(self):
        one = StockpileSetup(Scope("c"), toe=toe_of(RING))
        show = [n for n, about in StockpileSetup.declared().items() if about.show_only and about.kind in fields.DRAWN]
        self.assertTrue(show)
        self.assertEqual(one.shorn(), replace(one, **{show[0]: Drawn.of(RING[:2])}).shorn())
        self.assertEqual(one.shorn(), replace(one, surface=Scope("s")).shorn(), "no surface counts while the base is the toe")
        self.assertNotEqual(one.shorn(), replace(one, base="surface", surface=Scope("s")).shorn())
        self.assertNotEqual(one.shorn(), replace(one, density=2.0).shorn())

    def test_drawn_values(self):
        line = Drawn.of([[0, 0, 9], [4, 0, 9], [4, 3, 9]])
        self.assertEqual(line.moved(1, (5.0, 1.0)).xy, ((0, 0), (5, 1), (4, 3)))
        typed = line.with_level(2, 7.5)
        self.assertEqual([typed.level(n) for n in range(4)], [None, None, 7.5, None])
        more = typed.with_vertex(1, (2.0, 0.0))
        self.assertEqual((more.xy[1], more.level(3), more.level(1)), ((2.0, 0.0), 7.5, None))
        self.assertEqual(more.without(0).level(2), 7.5)
        self.assertEqual(typed.with_level(2, None).z, ())
        self.assertEqual(typed.typed(np.array([[4.0, 3.0], [0, 0]])), {0: 7.5})
        self.assertFalse(Drawn())
        item = Item("k", "name", line, (("density", 1.5),))
        self.assertEqual(item.with_value("material", "sand").value("material"), "sand")
        self.assertEqual(item.with_value("density", None).values, ())
        self.assertEqual(Item.from_json(json.loads(json.dumps(item.to_json()))), item)

    def test_what_a_source_gives(self):
        grid = np.array([[0, 0, 1], [9, 0, 1], [9, 9, 1], [0, 9, 1.0]]) + FAR
        mesh = Placed(SURFACE, TriangleMesh(grid, np.array([[0, 1, 2], [0, 2, 3]], np.int32)), local_grid(FOOT))
        loads = []
        source = Source("s", "Design", "/d.xml", SURFACE, None, lambda: loads.append(1) or mesh)
        found = Sources(METRE, {"surface": source})
        surface = found.surface("surface", Scope("s"))
        near(surface.at(np.array([[4.0, 5.0]]) + FAR[:2]), FAR[2] + 1)
        self.assertIs(found.surface("surface", Scope("s")), surface, "made once")
        self.assertEqual((loads, source.count, source.reference.unit), ([1], 2, FOOT))
        given = found.input("surface", "against", None, "d")
        told = (given.role, given.path, given.points, given.used, given.detail, given.counts)
        self.assertEqual(told, ("against", "/d.xml", 2, 2, "d", "triangles"))
        self.assertEqual(Sources(METRE, {"s": replace(source, path="")}).input("s", "x", 1).path, "Design")
        with self.assertRaisesRegex(InputError, "Design: is no cloud"):
            found.store("surface")
        with self.assertRaisesRegex(InputError, "Design: has no lines"):
            found.lines("surface")
        with self.assertRaisesRegex(InputError, "Design: has no survey points"):
            found.points("surface")


class Journals(Folder):
    def job(self, count=3):
        job = Job.create(self.folder / "one.kerb")
        job.save()
        for number in range(count):
            name = f"Step {number}"
            job.execute(Change(name, lambda s, n=name: replace(s, title=replace(s.title, name=n))))
        job.flush()
        return job

    def test_a_torn_line_costs_one_step_and_no_more(self):
        job = self.job()
        path = job.folder / journal.NAME
        whole = path.read_bytes()
        path.write_bytes(whole[:-7])
        again = Job.open(job.folder, recover=True)
        self.assertEqual(again.state.title.name, "Step 1")
        again.execute(Change("More", lambda s: replace(s, title=replace(s.title, site="Here"))))
        again.flush()
        third = Job.open(job.folder, recover=True)
        self.assertEqual((third.state.title.name, third.state.title.site), ("Step 1", "Here"))
        self.assertEqual([entry.sentence for entry in third.record][-2:], ["Step 1", "More"])

    def test_a_journal_of_another_job_is_passed_over(self):
        job = self.job()
        path = job.folder / journal.NAME
        path.write_text(path.read_text().replace(json.loads(path.read_text().splitlines()[0])["saved"], "other"))
        self.assertFalse(Job.has_recovery(job.folder))
        again = Job.open(job.folder, recover=True)
        self.assertEqual(again.state.title.name, "Untitled job")
        again.execute(Change("New", lambda s: replace(s, title=replace(s.title, name="New"))))
        again.flush()
        self.assertEqual(Job.open(job.folder, recover=True).state.title.name, "New")

    def test_each_kind_of_change_comes_back(self):
        job = self.job(0)
        steps = [
            lambda s: s.with_holding(Holding("a", "A", filters=(Filter("x", low=1.0),), given=(("p", 2),), notes=(("c", "t"),))),
            lambda s: s.with_holding(Holding("b", "B", placement=TURN, edited="1")),
            lambda s: replace(s, filters=(("mine", (Filter("y", (1, 2)),)),)), lambda s: replace(s, holdings=s.holdings[::-1]),
            lambda s: s.without_holding("a"),
        ]  # fmt: skip
        for number, apply in enumerate(steps):
            job.execute(Change(f"Step {number}", apply))
            job.flush()
            self.assertEqual(Job.open(job.folder, recover=True).state, job.state, number)
        job.undo()
        job.flush()
        again = Job.open(job.folder, recover=True)
        self.assertEqual([h.id for h in again.state.holdings], ["b", "a"])
        job.save()
        self.assertEqual(Job.open(job.folder).state, job.state)
        self.assertFalse(Job.has_recovery(job.folder))

    def test_a_disk_that_is_full_is_told_and_the_job_goes_on(self):
        job, told = self.job(0), []
        job.troubles.append(told.append)
        with mock.patch("os.fsync", side_effect=OSError(28, "No space left on device")):
            job.execute(Change("x", lambda s: replace(s, title=replace(s.title, name="x"))))
            job.flush()
        self.assertIn("No space", told[0])
        self.assertEqual(job.state.title.name, "x")

    def test_the_job_file_does_not_grow_with_what_was_found(self):
        with registered():
            job = self.job(0)
            change, study = studies.made(job.state, "third", "L", LevelSetup(Scope("c"), area=Drawn.of(RING)))
            job.execute(change)
            job.save()
            size = (job.folder / "job.json").stat().st_size
            table = Table("T", (Column("n"),), tuple((n,) for n in range(100_000)))
            outcome = Outcome("third", "m", "", {"level": Figure(1.0, "m", "L", 0.1)}, {}, tables={"t": table})
            job.execute(studies.answered(study, outcome, "p"))
            for number in range(200):
                job.execute(studies.renamed(job.state.studies[0], f"N{number}"))
            job.save()
            self.assertLess((job.folder / "job.json").stat().st_size, size + 600)
            found = Job.open(job.folder).state.studies[0].found
            self.assertEqual((found.value, found.unit, found.u95, found.notes), (1.0, "m", 0.1, 0))


class Fingerprints(Folder):
    """A study knows when anything it was computed from is no longer as it was."""

    def setUp(self):
        super().setUp()
        self.job = Job.create(self.folder / "one.kerb")
        cloud = import_cloud(self.job.folder, self.job.state, ImportWish(YARD), silent())
        self.job.execute(holdings.added(self.job, cloud))
        corners = np.array([[0, 0, 3], [200, 0, 3], [200, 200, 3], [0, 200, 3.0]]) + [*yard.ORIGIN, 0]
        mesh = Placed(
            SURFACE, TriangleMesh(corners, np.array([[0, 1, 2], [0, 2, 3]], np.int32)), self.job.state.title.reference_system()
        )
        vault.save_thing(self.job.folder / "data" / "s", mesh)
        surface = Holding("s", "Design", SURFACE, data="data/s", points=2)
        self.job.execute(Change("s", lambda state: state.with_holding(surface)))
        setup = StockpileSetup(Scope(cloud.id), base="surface", surface=Scope("s"), toe=toe_of(yard.HEAPS[1].toe(20, 0.3)))
        change, study = studies.made(self.job.state, "stockpile", "Heap", setup)
        self.job.execute(change)
        outcome, print_ = studies.run_study(self.job, study, silent())
        self.job.execute(studies.answered(study, outcome, print_))
        self.cloud = cloud

    def stale_after(self, key, **values):
        before = self.job.state.holding(key)
        self.job.execute(Change("x", lambda s: s.with_holding(replace(before, **values))))
        found = studies.is_stale(self.job.state, self.job.state.studies[0])
        self.job.undo()
        self.assertFalse(studies.is_stale(self.job.state, self.job.state.studies[0]), "undo brings it back")
        return found

    def test_what_counts(self):
        for values in ({"data": "data/other"}, {"edited": "once"}, {"placement": TURN}, {"points": 4}):
            self.assertTrue(self.stale_after("s", **values), values)
            self.assertTrue(self.stale_after(self.cloud.id, **values), values)
        self.assertTrue(self.stale_after(self.cloud.id, aside="some"))
        self.assertTrue(self.stale_after(self.cloud.id, given=(("x", 2),)))
        for values in ({"name": "n"}, {"steps": ("by hand",)}):
            self.assertTrue(self.stale_after("s", **values), "an outcome says what its inputs are called")

    def test_what_does_not(self):
        for values in ({"visible": False}, {"epoch": "2026-01-01"}, {"style": {"by": "class"}},
                       {"filters": (Filter("x", low=1.0),)}, {"placement": Rigid()}):  # fmt: skip
            self.assertFalse(self.stale_after("s", **values), values)
            self.assertFalse(self.stale_after(self.cloud.id, **values), values)

    def test_an_edited_surface_of_equal_size_gives_another_figure(self):
        """The same two triangles, half a metre higher, in place of the first: 400 m² of heap lose what lies between."""
        study = self.job.state.studies[0]
        before = studies.outcome_of(self.job, study).value("net")
        surface = self.job.state.holding("s")
        mesh = self.job.thing(surface)
        higher = replace(mesh, thing=TriangleMesh(mesh.thing.vertices + [0, 0, 0.5], mesh.thing.triangles))
        vault.save_thing(self.job.folder / "data" / "s2", higher)
        self.job.execute(Change("edited", lambda s: s.with_holding(replace(surface, data="data/s2", edited="1"))))
        self.assertTrue(studies.is_stale(self.job.state, self.job.state.studies[0]))
        outcome, _ = studies.run_study(self.job, self.job.state.studies[0], silent())
        self.assertAlmostEqual(before - outcome.value("net"), 0.5 * outcome.value("plan_area"), places=4)

    def test_a_placement_moves_what_is_measured_on(self):
        surface = self.job.state.holding("s")
        lifted = replace(surface, placement=Rigid(shift=(0.0, 0.0, 0.25)))
        before = studies.outcome_of(self.job, self.job.state.studies[0]).value("net")
        self.job.execute(Change("placed", lambda s: s.with_holding(lifted)))
        outcome, _ = studies.run_study(self.job, self.job.state.studies[0], silent())
        self.assertAlmostEqual(before - outcome.value("net"), 0.25 * outcome.value("plan_area"), places=4)
        low, high = self.job.bounds_of(self.job.state.holding("s"))
        near([low[2], high[2]], 3.25)


class Placements(unittest.TestCase):
    """A cloud that is moved measures, is found, counted and written where it was moved to; nothing on disk changes."""

    @classmethod
    def setUpClass(cls):
        xy = jittered(14, 0.2)
        cls.points = np.column_stack([xy, frustum(xy) + 0.02 * xy[:, 0]]) + FAR
        cls.still = store_of(cls.points, classes=np.where(xy[:, 0] > 0, 2, 1))
        cls.moved = cls.still.snapshot()
        cls.moved.place(TURN)

    def test_selections_and_elevation_filters(self):
        """By hand: the moved points in a ring and between two elevations."""
        ring = TURN(np.column_stack([RING, np.zeros(40)]))[:, :2]
        limits = Filter("elevation", low=FAR[2] + 2.5 + 4.3, high=FAR[2] + 2.5 + 5.6)
        found = np.sort(Scope("", (2,), "", (limits,)).of(self.moved, ring).all_rows())
        store = self.moved
        every = store.coordinates(slice(0, store.count))
        want = polygon.contains(ring, every) & (every[:, 2] >= limits.low) & (every[:, 2] <= limits.high)
        want &= np.asarray(store.column("classification")) == 2
        np.testing.assert_array_equal(found, np.flatnonzero(want))
        self.assertGreater(len(found), 100)

    def test_a_study_of_it(self):
        ring = circle(11, 40) + FAR[:2]
        moved_ring = TURN(np.column_stack([ring, np.zeros(40)]))[:, :2]
        one, other = measured(self.still, ring), measured(self.moved, moved_ring)
        self.assertAlmostEqual(other.value("net") / one.value("net"), 1.0, delta=2e-4)
        self.assertAlmostEqual(other.value("highest"), one.value("highest") + 2.5, places=6)

    def test_what_compares_points_with_each_other_finds_the_same(self):
        among = self.still.in_use()
        for key, finder in FINDERS.items():
            if key == "overlap":
                continue
            seed = [int(self.still.count // 2)] if finder.seeded else []
            settings = finder.usual(self.still)
            try:
                one = finder.find(self.still, settings, *seed, among, silent())
            except (InputError, NotDeterminable):
                continue
            np.testing.assert_array_equal(finder.find(self.moved, settings, *seed, among, silent()), one, key)
        settings = GroundSettings.of("benches", METRE, self.still.spacing)
        np.testing.assert_array_equal(ground(self.moved, settings, silent()), ground(self.still, settings, silent()))
        near(heights(self.moved, (2,), silent()), heights(self.still, (2,), silent()))
        mask, box = strip(self.moved, tuple(TURN(FAR[None])[0, :2]), 2000)
        north = self.moved.coordinates(slice(0, self.moved.count))[:, 1]
        np.testing.assert_array_equal(mask, (north >= box[1]) & (north <= box[3]))


class Scopes(unittest.TestCase):
    def setUp(self):
        xy = jittered(8, 0.25)
        self.classes = np.where(xy[:, 0] > 4, 7, np.where(xy[:, 1] > 0, 2, 1))
        self.store = store_of(np.column_stack([xy, xy[:, 0]]) + FAR, classes=self.classes)
        self.xyz = self.store.coordinates(slice(0, self.store.count)) - FAR
        self.codes = np.asarray(self.store.column("classification"))

    def rows(self, scope, ring=None):
        return set(scope.of(self.store, ring).all_rows().tolist())

    def test_noise_only_by_number(self):
        self.assertEqual(self.rows(Scope()), set(np.flatnonzero(self.codes != 7).tolist()))
        self.assertEqual(self.rows(Scope(classes=(7,))), set(np.flatnonzero(self.codes == 7).tolist()))
        self.assertEqual(self.rows(Scope(classes=(1, 2))), set(np.flatnonzero(np.isin(self.codes, (1, 2))).tolist()))

    def test_areas_with_holes_and_filters(self):
        outer, hole = ring_of(circle(6, 60) + FAR[:2]), ring_of(circle(3, 60) + FAR[:2])
        other = Area((ring_of(circle(1, 30) + FAR[:2] + [-7, 0]),))
        scope = Scope(classes=(1, 2, 7), within=(Area((outer, hole)), other), only=(Filter("elevation", low=FAR[2] - 2),))
        away = np.hypot(*self.xyz[:, :2].T)
        sure = ((away > 3.05) & (away < 5.95) & (self.xyz[:, 2] >= -2)).nonzero()[0]
        found = self.rows(scope)
        self.assertLessEqual(set(sure.tolist()), found)
        self.assertFalse(found & set(np.flatnonzero((away < 2.9) | (away > 8.1)).tolist()))
        low = replace(scope, only=())
        near = np.hypot(*(self.xyz[:, :2] - [-7, 0]).T) < 0.9
        self.assertLessEqual(set(np.flatnonzero(near).tolist()), self.rows(low), "several areas count together")
        self.assertIn("inside the areas", low.words(self.store))

    def test_classes_that_count(self):
        self.assertEqual(usable_classes(self.store), tuple(c for c in range(256) if c not in NOISE_CLASSES))
        clean = store_of(self.xyz + FAR, classes=np.ones(len(self.xyz), int))
        self.assertIsNone(usable_classes(clean), "without noise nothing narrows")
        bare = mock.Mock(**{"has.return_value": False})
        self.assertIsNone(usable_classes(bare), "a cloud need not have classes")
        bare.present.assert_not_called()
        shown = without_noise()
        self.assertEqual((len(shown), np.flatnonzero(~shown).tolist()), (256, sorted(NOISE_CLASSES)))
        for parts, told in (({}, "none"), ({"north": 2, "south": 3}, "north, south")):
            clean.part_names = parts
            with self.assertRaisesRegex(NotDeterminable, f"no part 'x'; there are: {told}$"):
                Scope("c", part="x").of(clean)
        self.assertEqual([fields.CODECS[fields.SWITCH].empty(on) for on in (False, True)], [False, False])
        Scope("c", (0, 255)).check("Top")
        for code in (-1, 256):
            with self.assertRaisesRegex(InputError, "Top: class numbers"):
                Scope("c", (code,)).check("Top")


class Shown(unittest.TestCase):
    def test_profiles_are_cut_where_the_line_is_moved_to(self):
        corners = np.array([[-10, -10, -1], [10, -10, 1], [10, 10, 1], [-10, 10, -1.0]]) + FAR
        mesh = FoundMesh(corners, np.array([[0, 1, 2], [0, 2, 3]], np.int32))
        line = np.array([[-5.0, 0], [5, 0]]) + FAR[:2]
        chart = Profile(
            "P", line, np.linspace(0, 10, 5), (("top", "top", np.zeros(5)), ("no", "base", np.zeros(5))), "axis", ("lid", "none")
        )
        cutter = Cutter(Outcome("third", "m", "", {}, {}, layers={"lid": mesh}, charts=[chart]))
        self.assertIs(cutter.charts(LevelSetup())[0], chart)
        moved = line + [2.0, 1.0]
        cut = cutter.charts(LevelSetup(axis=Drawn.of(moved)))[0]
        near(cut.top, FAR[2] + np.linspace(-0.3, 0.7, len(cut.top)), atol=1e-9)
        self.assertTrue(np.isnan(cut.base).all())
        self.assertAlmostEqual(cut.distance[-1], 10.0)
        self.assertIs(cutter.charts(LevelSetup(axis=Drawn.of(moved)))[0], cut, "cut once")

    def test_heights_over_a_layer(self):
        xy = jittered(6, 0.3)
        store = store_of(np.column_stack([xy, 2.0 + 0 * xy[:, 0]]) + FAR)
        ring = np.column_stack([circle(4, 60), np.zeros(60)]) + FAR
        corners = np.array([[-9, -9, -0.9], [9, -9, 0.9], [9, 9, 0.9], [-9, 9, -0.9]]) + FAR
        base = FoundMesh(corners, np.array([[0, 1, 2], [0, 2, 3]], np.int32))
        outcome = Outcome("third", "m", "", {}, {}, layers={"base": base, "toe a": FoundLine(ring, closed=True)})
        values = values_of(Attribute("Over", "base", "toe", "m"), outcome, store)
        local = store.coordinates(slice(0, store.count)) - FAR
        inside = np.hypot(*local[:, :2].T) < 3.95
        near(values[inside], 2.0 - 0.1 * local[inside, 0], atol=1e-4)
        self.assertTrue(np.isnan(values[np.hypot(*local[:, :2].T) > 4.0]).all())
        self.assertIsNone(values_of(Attribute("Over", "none", "toe", "m"), outcome, store))
        for many, known in ((store.count, True), (store.count - 1, False)):
            given = values_of(Attribute("Own", "", "", "m", np.arange(float(many))), outcome, store)
            self.assertEqual(given is not None and given.tolist() == list(range(many)), known)
        self.assertIsNone(values_of(Attribute("Over", "base", "other", "m"), outcome, store))


SQUARE = ((0.0, 0.0), (4.0, 0.0), (4.0, 3.0), (0.0, 3.0))


class Fields(unittest.TestCase):
    def test_items_are_drawn_as_their_way_says(self):
        ways = tuple(fields.Way(kind[0], kind, kind, "") for kind in (fields.PLACES, fields.LINE, fields.RING))
        for asked, some, kind in (
            ("p", ways, fields.PLACES), ("l", ways, fields.LINE), ("r", ways, fields.RING), ("x", ways, fields.RING),
            ("", ways[:1], fields.RING), ("", (), fields.LINE),
        ):  # fmt: skip
            self.assertEqual(Field("F", "", kind=fields.LINE, ways=some).drawn_as(asked), kind)


@dataclass(frozen=True)
class Asked(Setup):
    cloud: Scope = fields.scope("Cloud", "h", needed="Choose a cloud.")
    base: str = fields.choice("Base", "h", (("plane", "P"), ("surface", "S")))
    against: Scope = fields.surface("Surface", "h", needed="Choose a surface.", when=("base", ("surface",)))
    road: str = fields.holding(fields.ALIGNMENT, "Road", "h")
    toe: Drawn = fields.drawn(fields.RING, "Toe line", "h")
    axis: Drawn = fields.drawn(fields.LINE, "Axis", "h", flag="line")
    heaps: tuple[Item, ...] = fields.rings("Heaps", "h")
    cell: float | None = fields.number("Cell", "h", low=0.0, high=10.0)
    least: float = fields.number("Least", "h", default=0.0, low=0.0)
    looks: bool = fields.switch("Looks", "h", show_only=True)


class Reads(unittest.TestCase):
    def test_what_it_reads(self):
        full = Asked(Scope("c"), "plane", Scope("s"), "r")
        self.assertEqual(named_holdings(full), {"cloud": "c", "road": "r"})
        self.assertEqual(named_holdings(replace(full, base="surface")), {"cloud": "c", "against": "s", "road": "r"})
        self.assertEqual((holding_of(full, "against"), holding_of(full, "road"), holding_of(Asked(), "road")), ("s", "r", ""))
        odd = Note("odd", "odd")
        known = {"c": Source("c", "Cloud", notes=(odd,)), "r": Source("r", "Road", kind=LINES, notes=(odd,)),
                 "s": Source("s", "Pad", kind=MODEL)}  # fmt: skip
        found = resolve(replace(full, base="surface"), known.get, FOOT)
        self.assertEqual((found.unit, set(found.items), found.stated), (FOOT, {"cloud", "against", "road"}, (odd,)))
        with self.assertRaisesRegex(InputError, "Road: what was chosen is no longer"):
            resolve(full, {"c": known["c"]}.get, METRE)
        with self.assertRaisesRegex(InputError, "Cloud: is no alignment"):
            resolve(full, {"c": known["c"], "r": known["c"]}.get, METRE)


class DrawnLines(unittest.TestCase):
    def test_a_vertex_goes_with_its_stretch_whichever_way_the_line_runs(self):
        xy = ((0.0, 0.0), (4.0, 0.0), (4.0, 3.0), (0.0, 3.0))
        line = Drawn(xy, (None, 7.0, None, 2.0), (), ("", "wall", "", "water"))
        self.assertEqual(line.without(1), Drawn((xy[0], *xy[2:]), (None, None, 2.0), (), ("", "", "water")))
        self.assertEqual(
            (line.stated(np.array(xy)), line.stated(np.array(xy)[::-1])), ({1: "wall", 3: "water"}, {1: "wall", 3: "water"})
        )
        self.assertEqual(line.typed(np.array(xy)[::-1]), {0: 2.0, 2: 7.0})


class Rules(unittest.TestCase):
    def test_what_narrows_what_is_published_and_where_limits_and_lines_lie(self):
        self.assertEqual([one.narrow for one in (Scope("c"), Scope("c", (2,)), Scope("c", part="x"))], [False, True, True])
        told = StockpileSetup(Scope("c", (2,)), base="surface", surface=Scope("s", (6,))).settings()
        self.assertEqual((told["classes"], told["base_surface_classes"]), ([2], [6]))
        values = np.array([np.nan, -4.0, 1.0, 2.0])
        near([showing._reach(values), showing._even(values)], [(-4, 2), (-3.96, 3.96)], atol=0.05)
        self.assertEqual((showing._reach(None), showing._even(np.array([np.nan, 0.0]))), ((0.0, 1.0), (-1.0, 1.0)))
        # A typed nought is a limit as any other, and limits that fall are none.
        typed = [{"low": low, "high": high} for low, high in ((0.0, 0.5), (-1.0, 0.0), (2.0, 2.0), (None, None))]
        self.assertEqual((showing.limits_of(None, {}), showing.bounds_of(Outcome("x", "m", "", {}, {}))), ((-1.0, 1.0), None))
        near([showing.limits_of(values, look) for look in typed], [(0, 0.5), (-1, 0), (2, 2), (-3.96, 3.96)], atol=0.05)
        for end, kept in (([9, 3], True), ([-9, 3], False), ([-3, 9], True), ([3, -9], False), ([9, -5], True)):
            line = np.array([[0.0, 0], end])
            near(eastward(line), line if kept else line[::-1])

    def test_words_beside_figures_and_one_section_of_many(self):
        labels = FoundLabels(np.zeros((2, 3)), ("A", ""), values=(1234.56, None), bounds=(None, None), unit="m3")
        self.assertEqual(labels.said(Decimals(volume=2)), ("A  1\u2009235\xa0m³", "—"))
        self.assertEqual(replace(labels, bare=True, signed=True).said(Decimals(volume=2))[0], "+1\u2009234.56")
        rows = np.array([[0.0, -1.0, 5.0], [1.0, 2.0, 6.0], [0.0, 3.0, 7.0]])
        series = Sections("S", ("a", "b"), np.array([[10.0, 1, 2, 0.5, 8, 0.2], [20.0, 3, 4, 0.6, 9, 0.3]]),
                          (Trace("T", "top", rows),), rows[1:], rows[:2], ("p", "q"))  # fmt: skip
        (line,), points, shots, names = series.one(0)
        near([*line.places, *points, *shots], [[-1, 5], [3, 7], [3, 7], [-1, 5]], atol=0)
        self.assertEqual((names, series.frame(1)), (["p"], Frame(20.0, (3.0, 4.0), 0.6, 9.0, 0.3)))


class AttributesOfAll(unittest.TestCase):
    def test_heights_over_a_layer_inside_lines_and_not_in_holes(self):
        xy = np.stack(np.meshgrid(np.arange(0.02, 20, 0.04), np.arange(0.02, 10, 0.04)), -1).reshape(-1, 2)
        cloud = store_of(np.column_stack([xy, 5 + 0.0 * xy[:, 0]]) + FAR)
        corners = np.array([[0.0, 0, 1], [20, 0, 3], [20, 10, 3], [0, 10, 1]]) + FAR
        ring = lambda x, y, w, h: np.array([[x, y, 0.0], [x + w, y, 0], [x + w, y + h, 0], [x, y + h, 0]]) + FAR  # noqa: E731
        layers = {
            "base": FoundMesh(corners, np.array([[0, 1, 2], [0, 2, 3]], np.int32)),
            "heap 1": FoundLine(ring(1, 1, 6, 6), closed=True), "heap 2": FoundLine(ring(12, 2, 5, 5), closed=True),
            "heap open": FoundLine(ring(8, 1, 2, 2)), "hole 1": FoundLine(ring(2, 2, 2, 2), closed=True),
        }  # fmt: skip
        outcome = Outcome("s", "m", "", {}, {}, layers=layers)
        values = values_of(Attribute("H", "base", "heap", "m"), outcome, cloud)
        places = cloud.coordinates(slice(None)) - FAR
        x, y = places[:, 0], places[:, 1]
        inside = ((abs(x - 4) < 3) & (abs(y - 4) < 3)) | ((abs(x - 14.5) < 2.5) & (abs(y - 4.5) < 2.5))
        inside &= ~((abs(x - 3) < 1) & (abs(y - 3) < 1))
        np.testing.assert_array_equal(np.isfinite(values), inside)
        near(values[inside], (5 - (1 + x / 10))[inside], atol=1e-3)
        for attribute in (
            Attribute("H", "none", "heap", "m"), Attribute("H", "base", "ring", "m"), Attribute("H", "heap 1", "heap", "m"),
        ):  # fmt: skip
            self.assertIsNone(values_of(attribute, outcome, cloud))
