"""Points found and thinned: against SciPy, against plain loops, and in made scenes with known answers."""

import unittest
from types import SimpleNamespace
from unittest import mock

import laspy
import numpy as np
from scipy import ndimage
from scipy.spatial import cKDTree

from kerb.core.cloud import seams
from kerb.core.cloud.cells import Cells
from kerb.core.cloud.finders import FINDERS, strip
from kerb.core.cloud.levels import LowestSurface, Underside, lowest_surface, underside
from kerb.core.cloud.noise import LowPoints, Outliers, Pieces, Sparse, low_points, outliers, piece_of, small_pieces, sparse
from kerb.core.cloud.repeats import Duplicates, Overlap, duplicates, overlap
from kerb.core.cloud.seams import offsets, stays
from kerb.core.cloud.smooth import Smooth, smooth_surface
from kerb.core.cloud.thinning import WAYS, Thinning, thinned
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.progress import silent
from kerb.core.setting import settings_of
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from tests.support import FAR, YARD, CommandLine, near, store_of

RNG = np.random.default_rng(11)


def every(store):
    return np.ones(store.count, bool)


def scene(extra, unit=METRE, floor=4.0, step=0.05):
    """A level floor with more points (n, 3), all in metres from its middle, at large coordinates in a unit."""
    side = np.arange(-floor, floor, step)
    plan = np.stack(np.meshgrid(side, side), -1).reshape(-1, 2) + RNG.uniform(-0.01, 0.01, (len(side) ** 2, 2))
    ground = np.column_stack([plan, RNG.normal(0, 0.003, len(plan))])
    return store_of((np.concatenate([ground, extra]) + FAR) / unit.metres, unit, 0.0001)


def places(store):
    """Places in metres from the middle of the scene."""
    return store.coordinates(slice(0, store.count)) * store.reference.unit.metres - FAR


class InCells(unittest.TestCase):
    def setUp(self):
        # more than one tile, so that cells are shared between tiles
        self.store = store_of(RNG.uniform(0, 20, (120_000, 3)) * [1, 1, 0.2] + FAR)
        self.assertGreater(len(self.store.tiles), 1)
        self.xyz = self.store.coordinates(slice(0, self.store.count))
        self.low = self.store.bounds[0]

    def cell_of(self, size, upright):
        whole = np.asarray(self.store.xyz, int)
        # the same arithmetic on whole numbers: what lies on a cell's side must not depend on rounding
        keys = np.floor((whole - whole.min(axis=0)) * self.store.scale * (1 / size)).astype(int)
        if upright:
            keys[:, 2] = 0
        return keys

    def test_every_point_has_its_cell(self):
        for upright in (False, True):
            cells = Cells.of(self.store, 0.7, every(self.store), silent(), upright)
            np.testing.assert_array_equal(cells.keys[cells.number], self.cell_of(0.7, upright))
            self.assertEqual(cells.count, len(np.unique(self.cell_of(0.7, upright), axis=0)))

    def test_one_point_a_cell(self):
        z = self.xyz[:, 2]
        for way, upright in (("centre", False), ("lowest", True), ("highest", True), ("median", True)):
            keep = thinned(self.store, Thinning(way, 1.0), every(self.store), silent())
            keys = self.cell_of(1.0, upright)
            _, number = np.unique(keys, axis=0, return_inverse=True)
            number = number.ravel()
            self.assertEqual(np.bincount(number[keep]).tolist(), [1] * (number.max() + 1), way)
            away = np.linalg.norm(self.xyz - self.low - keys - 0.5, axis=1)
            for cell in range(0, number.max(), 37):
                mine, kept = np.flatnonzero(number == cell), np.flatnonzero(keep & (number == cell))[0]
                if way == "centre":
                    self.assertAlmostEqual(away[kept], away[mine].min(), 9)
                else:
                    ordered = np.sort(z[mine])
                    wanted = {"lowest": ordered[0], "highest": ordered[-1], "median": ordered[(len(mine) - 1) // 2]}
                    self.assertEqual(z[kept], wanted[way])

    def test_a_least_distance_number_and_every_nth(self):
        keep = thinned(self.store, Thinning("apart", 0.8), every(self.store), silent())
        tree = cKDTree(self.xyz[keep])
        nearest, _ = tree.query(self.xyz[keep], k=2)
        self.assertGreaterEqual(nearest[:, 1].min(), 0.8 - 1e-9)
        away, _ = tree.query(self.xyz)
        self.assertLess(away.max(), 0.8, "a point that could have stayed was left out")
        among = self.xyz[:, 0] < FAR[0] + 10
        some = thinned(self.store, Thinning("random", count=5000), among, silent())
        self.assertEqual((int(some.sum()), bool((some & ~among).any())), (5000, False))
        again = thinned(self.store, Thinning("random", count=5000), among, silent())
        np.testing.assert_array_equal(some, again)
        np.testing.assert_array_equal(thinned(self.store, Thinning("random", count=10**9), among, silent()), among)
        tenth = thinned(self.store, Thinning("every", every=10), among, silent())
        self.assertEqual(int(tenth.sum()), -(-int(among.sum()) // 10))

    def test_what_cannot_be(self):
        for how in (Thinning("centre", 0.0), Thinning("apart", np.nan), Thinning("centre", 1e-12), Thinning("so", 1.0)):
            with self.assertRaises(InputError):
                thinned(self.store, how, every(self.store), silent())
        with self.assertRaises(InputError):
            sparse(self.store, Sparse(radius=-1.0), every(self.store), silent())


class Noise(unittest.TestCase):
    def setUp(self):
        self.store = store_of(np.concatenate([RNG.uniform(0, 30, (70_000, 3)) * [1, 1, 0.01], [[5, 5, 9.0]]]) + FAR)
        self.xyz = self.store.coordinates(slice(0, self.store.count)) - FAR

    def test_against_the_tree_of_scipy(self):
        tree = cKDTree(self.xyz)
        # the definition of the method page: neighbours farther than ten spacings count as ten spacings
        distance = np.minimum(tree.query(self.xyz, k=9)[0][:, 1:], 10 * self.store.spacing).mean(axis=1)
        wanted = distance > distance.mean() + 3 * distance.std()
        found = outliers(self.store, Outliers(8, 3.0, 0.0), every(self.store), silent())
        self.assertGreater(int(wanted.sum()), 10)
        np.testing.assert_array_equal(found, wanted)
        reach, near = tree.query(self.xyz, k=9)
        theirs = np.where(reach[:, 1:] < 10 * self.store.spacing, distance[near[:, 1:]], distance.mean())
        unlike = wanted & (distance > 1.5 * np.median(theirs, axis=1))
        self.assertTrue(0 < int(unlike.sum()) < int(wanted.sum()), (unlike.sum(), wanted.sum()))
        np.testing.assert_array_equal(outliers(self.store, Outliers(8, 3.0, 1.5), every(self.store), silent()), unlike)
        near = np.array([len(hits) - 1 for hits in tree.query_ball_point(self.xyz, 0.2)])
        np.testing.assert_array_equal(sparse(self.store, Sparse(0.2, 5), every(self.store), silent()), near < 5)

    def test_a_surface_with_few_points_is_no_noise_but_two_strays_are(self):
        rng = np.random.default_rng(3)
        wall = np.column_stack([np.full(900, 4.5), rng.uniform(-4, 4, 900), rng.uniform(0, 3, 900)])
        strays = np.array([[0, 0, 2.0], [0.05, 0, 2.05], [-2, 1, 1.5], [1.0, -3.0, 0.4]])
        for unit in (METRE, US_SURVEY_FOOT):
            store = scene(np.concatenate([wall, strays]), unit)
            xyz = places(store)
            whole = outliers(store, Outliers(beside=0.0), every(store), silent())
            found = outliers(store, Outliers(), every(store), silent())
            self.assertGreater(int(whole.sum()), 300, "the cloud as a whole makes half of the wall noise")
            self.assertLess(int(found.sum()), 20)
            for stray in strays:
                self.assertTrue(found[np.argmin(np.linalg.norm(xyz - stray, axis=1))], (unit.code, stray))

    def test_pieces_against_the_labels_of_scipy(self):
        gap, low = 0.15, self.store.bounds[0] - FAR
        keys = np.floor((self.xyz - low) / gap + 1e-9).astype(int)
        grid = np.zeros(keys.max(axis=0) + 1, bool)
        grid[tuple(keys.T)] = True
        label = ndimage.label(grid, np.ones((3, 3, 3)))[0][tuple(keys.T)]
        wanted = np.bincount(label)[label] < 20
        found = small_pieces(self.store, Pieces(gap, 20), every(self.store), silent())
        self.assertGreater(int(wanted.sum()), 0)
        self.assertLess(int((found != wanted).sum()), 3, "rounding at a cell's side only")
        row = int(np.argmax(self.xyz[:, 2]))
        self.assertEqual(np.flatnonzero(piece_of(self.store, row, gap, every(self.store), silent())).tolist(), [row])

    def test_low_points_in_metres_and_feet(self):
        low = np.array([[1.0, 1.0, -1.2], [-2.0, 2.0, -5.0], [2.0, -2.0, -0.3]])
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            store = scene(low, unit)
            how = LowPoints(0.5 / unit.metres, 1.0 / unit.metres, 5)
            found = low_points(store, how, every(store), silent())
            self.assertEqual(sorted(places(store)[found][:, 2].round(1).tolist()), [-5.0, -1.2], unit.code)
        pit = np.column_stack([RNG.uniform(0, 0.5, (40, 2)), np.full(40, -2.0)])
        store = scene(pit)
        self.assertFalse(low_points(store, LowPoints(0.5, 1.0, 5), every(store), silent()).any(), "a pit is a surface")


class Repeats(unittest.TestCase):
    def test_duplicates_keep_the_first(self):
        points = RNG.uniform(0, 10, (5000, 3)).round(3) + FAR
        store = store_of(np.concatenate([points, points[:300], points[:100]]), scale=0.001)
        found = duplicates(store, Duplicates(), every(store), silent())
        self.assertEqual(int(found.sum()), 400)
        xyz = np.asarray(store.xyz)
        self.assertEqual(len(np.unique(xyz[~found], axis=0)), 5000)
        self.assertFalse(duplicates(store, Duplicates(), ~found, silent()).any())

    def strips(self, share=1.0, lift=0.04):
        """Two strips of 30 m, the eastern one 10 m on: they share 20 m. The second has ``share`` of the points."""
        rng = np.random.default_rng(5)
        a = rng.uniform([0, 0], [30, 40], (24_000, 2))
        b = rng.uniform([10, 0], [40, 40], (int(24_000 * share), 2))
        b = b[~((np.abs(b[:, 0] - 24) < 1.6) & (np.abs(b[:, 1] - 20) < 1.6))]
        xyz = np.column_stack(
            [np.vstack([a, b]), 0.02 * np.concatenate([a[:, 0], b[:, 0]]) + rng.normal(0, 0.01, len(a) + len(b))]
        )
        xyz[len(a) :, 2] += lift
        store = store_of(xyz + FAR)
        store.lend("source_file", (np.asarray(store.column("number")) >= len(a)).astype(np.uint16))
        store.meta.columns.append("source_file")
        return store, (store.coordinates(slice(0, store.count)) - FAR)[:, :2].T, np.asarray(store.column("source_file"))

    def test_seams_against_every_distance(self):
        """Two like covers of odd outline, far from the corner of the grid: each cell goes to the source whose lacking ground is
        furthest, by every distance there is; single regions decide by themselves; offsets by hand."""
        rng = np.random.default_rng(8)
        rows, columns = (a.ravel() for a in np.mgrid[0:34, 0:46])
        for _ in range(4):
            a = (columns < 30 + 3 * np.sin(rows / rng.uniform(4, 9))) & (rows > 1)
            b = (columns > 14 + 3 * np.cos(rows / rng.uniform(4, 9))) & (rows < 32)
            counts = np.column_stack([a * 5, b * 5])
            keep = counts.any(axis=1)
            place, counts = np.column_stack([rows, columns, 0 * rows])[keep] + [500, -300, 0], counts[keep]
            cells = SimpleNamespace(keys=place.astype(np.int32))
            found = stays(cells, counts)
            lacking = [place[counts[:, k] == 0, :2] for k in range(2)]
            depth = np.column_stack(
                [np.hypot(*(place[:, None, :2] - one[None]).transpose(2, 0, 1)).min(axis=1) for one in lacking]
            )
            both, clear = (counts > 0).all(axis=1), np.abs(depth[:, 0] - depth[:, 1]) > 1e-9
            np.testing.assert_array_equal(found[both & clear], depth.argmax(axis=1)[both & clear])
            np.testing.assert_array_equal(found[~both], counts.argmax(axis=1)[~both])
            with mock.patch.object(seams, "MOST_CELLS", 60):
                coarse = stays(cells, counts)
            near_seam = np.abs(depth[:, 0] - depth[:, 1]) < 14
            np.testing.assert_array_equal(coarse[both & ~near_seam], found[both & ~near_seam])
            self.assertLess(np.mean(coarse[both] != found[both]), 0.25)
        line = np.column_stack([np.arange(30), np.zeros((30, 2), int)])
        counts = np.array([[9, 1]] * 4 + [[9, 0]] * 12 + [[1, 9]] * 3 + [[0, 9]] * 11)
        wanted = [0] * 16 + [1] * 14
        self.assertEqual(stays(SimpleNamespace(keys=line), counts).tolist(), wanted, "each region has its own denser one")
        self.assertEqual(stays(SimpleNamespace(keys=line), np.array([[1, 0], [0, 2]] * 15)).tolist(), [0, 1] * 15)
        counts, sums = (np.array([[3, 4], [5, 3], [2, 9], [3, 3]]), np.array([[3.0, 8.0], [5.0, 9.0], [90.0, 9.0], [3.0, 6.6]]))
        seen = SimpleNamespace(counts=counts, sums=sums, centres=np.zeros((4, 2, 2)), slopes=np.zeros((4, 2)), size=1.0)
        (one,) = offsets(seen)
        near([one.height, one.spread], [-1.2, 1.4826 * 0.2])
        self.assertEqual((one.one, one.other, one.cells), (0, 1, 3))

    def test_overlap_of_two_files(self):
        a, b = RNG.uniform(0, 10, (4000, 2)), RNG.uniform(6, 20, (30_000, 2))
        store = store_of(np.column_stack([np.concatenate([a, b]), np.zeros(34_000)]) + FAR)
        number = np.asarray(store.column("number"))
        store.lend("source_file", (number >= 4000).astype(np.uint16))
        store.meta.columns.append("source_file")
        x, y = (store.coordinates(slice(0, store.count)) - FAR)[:, :2].T
        twice = (x > 6) & (x < 10) & (y > 6) & (y < 10)
        for keep, gone in (("densest", 0), ("first", 1), ("last", 0)):
            found = overlap(store, Overlap("source_file", keep, 1.0), every(store), silent())
            source = np.asarray(store.column("source_file"))
            inner = (x > 7) & (x < 9) & (y > 7) & (y < 9)
            np.testing.assert_array_equal(found[inner], source[inner] == gone, keep)
            self.assertFalse((found & ~twice & ((x < 5) | (x > 11) | (y < 5) | (y > 11))).any())
        with self.assertRaisesRegex(InputError, "does not say"):
            overlap(store, Overlap("point_source_id"), every(store), silent())
        with self.assertRaisesRegex(InputError, "no overlap"):
            overlap(store, Overlap("source_file"), np.asarray(store.column("source_file")) == 0, silent())


class Surfaces(unittest.TestCase):
    def test_floor_under_clutter_and_soffit_over_a_road(self):
        clutter = np.column_stack([RNG.uniform(-3, 3, (4000, 2)), RNG.uniform(0.2, 1.5, 4000)])
        plan = RNG.uniform([-4, -1], [4, 1], (20_000, 2))
        soffit, deck = np.column_stack([plan, np.full(20_000, 5.0)]), np.column_stack([plan, np.full(20_000, 5.6)])
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            store = scene(np.concatenate([clutter, soffit, deck]), unit)
            z, inner = places(store)[:, 2], np.abs(places(store)[:, :2]).max(axis=1) < 3.9
            one = 1 / unit.metres
            floor = lowest_surface(store, LowestSurface(0.5 * one, 0.03 * one, 3), every(store), silent())
            self.assertGreater(float((np.abs(z) < 0.02)[floor & inner].mean()), 0.9999, unit.code)
            self.assertGreater(float(floor[np.abs(z) < 0.012].mean()), 0.99)
            under = underside(store, Underside(0.5 * one, 3.0 * one, 0.05 * one), every(store), silent())
            near(z[under], 5.0, atol=1e-3)
            self.assertTrue(under[inner & (np.abs(z - 5) < 0.01)].all())

    def test_smooth_surface_stops_at_a_step_and_at_a_slope(self):
        side = np.arange(0, 4, 0.05)
        plan = np.stack(np.meshgrid(side, side - 2), -1).reshape(-1, 2)
        noise = RNG.normal(0, 0.003, (3, len(plan)))
        kerb_side = np.column_stack([plan + [4.0, 0], 0.12 + noise[0]])
        ramp = np.column_stack([plan[:, 0] - 8.0, plan[:, 1], -(plan[:, 0] - 4) * 0.7 + noise[1]])
        wall = np.column_stack([plan[:, 0] - 2, np.full(len(plan), 2.0) + noise[2] + 2, np.abs(plan[:, 1])])
        for unit in (METRE, US_SURVEY_FOOT):
            store = scene(np.concatenate([kerb_side, ramp, wall]), unit)
            where = places(store)
            row = int(np.argmin(np.linalg.norm(where, axis=1)))
            one = 1 / unit.metres
            how = Smooth(0.03 * one, 0.02 * one, 12.0, 0.3 * one)
            found = smooth_surface(store, how, row, every(store), silent())
            floor = (np.abs(where[:, 2]) < 0.02) & (np.abs(where[:, 0]) < 3.7) & (np.abs(where[:, 1]) < 3.7)
            self.assertGreater(float(found[floor].mean()), 0.999, unit.code)
            self.assertLess(int((found & (where[:, 0] > 4.05)).sum()), 5, "over the kerb")
            self.assertFalse((found & (where[:, 0] < -4.6)).any(), "up the ramp")
            self.assertLess(float(where[found][:, 2].max()), 0.1, "up the wall")
        stray = int(np.argmax(where[:, 2]))
        with self.assertRaises(NotDeterminable):
            smooth_surface(store, how, stray, np.arange(store.count) == stray, silent())
        with self.assertRaises(InputError):
            smooth_surface(store, Smooth(0.0), row, every(store), silent())


class Registry(unittest.TestCase):
    def test_every_finder_is_whole_and_usable(self):
        store = scene(np.array([[0.0, 0.0, 3.0]]), US_SURVEY_FOOT)
        lent = np.zeros(store.count, np.uint16)
        lent[: store.count // 2] = 1
        store.lend("source_file", lent)
        for key, finder in FINDERS.items():
            how = finder.usual(store)
            self.assertIsInstance(how, finder.settings)
            self.assertEqual((finder.id, finder.page.endswith(".md")), (key, True))
            self.assertTrue(finder.title and finder.help)
            for name, (about, _) in settings_of(finder.settings).items():
                self.assertTrue(about.label and about.help, name)
            among = every(store) if finder.seeded else np.asarray(store.column("number")) % 2 == 0
            words = (store, how, 10, among, silent()) if finder.seeded else (store, how, among, silent())
            found = finder.find(*words)
            self.assertEqual((found.shape, found.dtype), ((store.count,), np.dtype(bool)))
            self.assertFalse((found & ~among).any(), f"{key} found points that it was not to look at")
        self.assertEqual({way for way, _ in WAYS}, {w for w, _ in settings_of(Thinning)["way"][0].choices})

    def test_strip_has_about_as_many_points_as_asked_for(self):
        store = scene(np.empty((0, 3)))
        middle = tuple(FAR[:2])
        mask, box = strip(store, middle, 5000)
        self.assertLess(abs(int(mask.sum()) - 5000), 800)
        y = store.coordinates(slice(0, store.count))[:, 1]
        np.testing.assert_array_equal(mask, (y >= box[1]) & (y <= box[3]))
        whole, _ = strip(store, (0.0, 0.0), 10**9)
        self.assertTrue(whole.all())


class OnTheCommandLine(CommandLine):
    def test_convert_thins_and_leaves_out(self):
        before, out = laspy.read(YARD), self.folder / "out.laz"
        found = self.json("convert", YARD, out, "--thin", "lowest", "--spacing", "2", "--force")
        after = laspy.read(out)
        self.assertEqual(found["figures"]["count_out"]["value"], len(after.x))
        low = np.array([before.x, before.y, before.z]).min(axis=1)[:2]
        keys = np.floor((np.column_stack([before.x, before.y]) - low) / 2 + 1e-9).astype(int)
        _, number = np.unique(keys, axis=0, return_inverse=True)
        lowest = np.full(number.max() + 1, np.inf)
        np.minimum.at(lowest, number.ravel(), np.asarray(before.z))
        self.assertLess(abs(len(after.x) - len(lowest)), 3)
        near(np.sort(after.z)[:50], np.sort(lowest)[:50], atol=0.01)
        self.json("convert", YARD, out, "--thin", "random", "--count", "777", "--force")
        self.assertEqual(len(laspy.read(out).x), 777)
        found = self.json("convert", YARD, out, "--without", "outliers,duplicates", "--force")
        self.assertEqual([note["code"] for note in found["warnings"]][:2], ["left-out", "left-out"])
        gone = len(before.x) - found["figures"]["count_out"]["value"]
        self.assertIn(f"{gone} points left out", found["warnings"][0]["text"])
        for words in (("--thin", "apart"), ("--without", "birds"), ("--thin", "random", "--count", "0")):
            self.assertEqual(self.kerb("convert", YARD, self.folder / "no.laz", *words)[0], 2, words)
        self.assertFalse((self.folder / "no.laz").exists())
