"""Single pieces of surfaces by brute force and closed forms: what tests of whole studies would let pass."""

import contextlib
import unittest
from unittest import mock

import matplotlib.figure
import matplotlib.tri
import numpy as np
import scipy
import shapely

from kerb.core.cloud.thinning import Thinning
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.area import Area, ring_of
from kerb.core.geometry.shapes import CYLINDER, SPHERE, fitted
from kerb.core.progress import Progress, silent
from kerb.core.robust import spread
from kerb.core.surface import contours as contours_of
from kerb.core.surface import mending
from kerb.core.surface.contours import contours, label_places, smoothed
from kerb.core.surface.frames import BINS, about_axis
from kerb.core.surface.making import Departure, Shape, departure, surface_from
from kerb.core.surface.mending import Mended
from kerb.core.surface.overlay import mask_of
from kerb.core.surface.spots import SpotGrid, spot_levels
from kerb.core.surface.stable import proposals, stable_ground
from kerb.core.surface.tin import Tin, triangulate
from kerb.studies.scope import Scope
from tests.support import FAR, near, store_of


def lattice(count, step=1.0):
    side = np.arange(count) * step
    return np.stack(np.meshgrid(side, side), axis=-1).reshape(-1, 2)


class Frames(unittest.TestCase):
    def test_cut_open_in_the_middle_of_the_widest_gap(self):
        """Points on a ring of known bins, two gaps; the frame faces away from the middle of the wider one, to the bit of a bin."""
        line = np.array([[0.0, 0, 0], [0, 0, 1]]) + FAR
        for first, wide in ((0, 90), (50, 91), (650, 120)):
            bins = np.arange(first + wide, first + BINS)
            bins = bins[(bins < first + 400) | (bins >= first + 440)]
            turn = 2 * np.pi * (bins + 0.5) / BINS
            # The frame counts turns from east across up, which is south.
            x = np.cross([0.0, 0, 1], [1.0, 0, 0])
            for inwards in (False, True):
                frame = about_axis(np.column_stack([3 * np.cos(turn), 3 * np.sin(turn), turn]) + FAR, line, inwards)
                middle = 2 * np.pi * (first + wide / 2) / BINS
                near(frame.axes[0], [-np.cos(middle), -np.sin(middle), 0], 1e-9)
                near(x @ frame.axes[2], 0, 1e-12)
                out = frame.of(np.array([[3.5, 0, 0], [3, 0, 0]]) + FAR)[:, 2]
                self.assertEqual(out[0] > out[1], not inwards)
        near(about_axis(np.column_stack([np.cos(turn), np.sin(turn), turn]) + FAR, line).sign, 1.0)

    def test_the_axis_points_up_or_north_east(self):
        ring = (
            np.column_stack([np.cos(np.arange(0, 6, 0.01)), np.arange(600) * 0.01, np.sin(np.arange(0, 6, 0.01))]) + FAR
        )
        for way, told in (
            ([0, -1, 0.0], [0, 1, 0]),
            ([0, 1, 0.0], [0, 1, 0]),
            ([0, 1, -0.03], [0, -1, 0.03]),
            ([-1, 0.5, 0.01], [1, -0.5, -0.01]),
        ):
            axis = about_axis(ring, np.array([FAR, FAR + way])).axes[2]
            near(axis, np.array(told) / np.linalg.norm(told), 1e-9)


class Shapes(unittest.TestCase):
    def test_exact_ones_of_few_points(self):
        """Four points of a sphere give it; a cylinder of small radius from half of its round; both to rounding."""
        sphere = fitted(SPHERE, np.array([[2.0, 0, 0], [0, 2, 0], [0, 0, 2], [-2, 0, 0], [0, -2, 0]]) + FAR)
        near([*(sphere.centre - FAR), sphere.radius], [0, 0, 0, 2.0], 1e-6)
        with self.assertRaisesRegex(NotDeterminable, "plane"):
            fitted(SPHERE, np.array([[2.0, 0, 0], [0, 2, 0], [-2, 0, 0], [0, -2, 0], [1.2, 1.6, 0]]) + FAR)
        rng = np.random.default_rng(4)
        turn, along = rng.uniform(0, np.pi, 400), rng.uniform(0, 30, 400)
        pipe = np.column_stack([0.2 * np.cos(turn), along, 0.2 * np.sin(turn)]) + FAR
        found = fitted(CYLINDER, pipe)
        near([found.radius, found.rms], [0.2, 0.0], 1e-6)
        near(found.axis, [0, 1, 0], 1e-6)
        away, place = found.nearest(np.array([[0.5, 3, 0], [0.1, 3, 0], [0, 7, 0]]) + FAR)
        near(away, [0.3, -0.1, -0.2], 1e-6)
        near(place[:2] - FAR, [[0.2, 3, 0], [0.2, 3, 0]], 1e-6)


class Making(unittest.TestCase):
    def test_departure_of_a_cloud_of_several_tiles(self):
        """Of a mask, against the points themselves: each tile has rows of its own."""
        rng = np.random.default_rng(5)
        points = np.column_stack([rng.uniform(0, 60, (150_000, 2)), rng.normal(0, 0.1, 150_000)]) + FAR
        store = store_of(points)
        self.assertGreater(len(store.tiles), 1)
        mask = rng.random(store.count) < 0.3
        flat = triangulate(np.column_stack([lattice(2, 40.0), [0.0, 4, 0, 4]]) + FAR)
        kept = store.coordinates(np.flatnonzero(mask))
        away = kept[:, 2] - flat.at(kept[:, :2])
        away = away[np.isfinite(away)]
        self.assertEqual(departure(store, np.zeros(store.count, bool), flat, silent()), Departure(0.0, 0.0, 0))
        told = departure(store, mask, flat, silent())
        near([told.largest, told.rms, told.points], [np.abs(away).max(), np.sqrt(np.mean(away**2)), len(away)], 1e-9)

    def test_the_rim_beyond_the_points(self):
        """A boundary that reaches farther than the points takes the level of the nearest one there, and of the surface inside."""
        xy = lattice(21)
        store = store_of(np.column_stack([xy, 0.5 * xy[:, 0] + 0.25 * xy[:, 1]]) + FAR)
        ring = np.array([[-3.0, 5], [10, -2], [25, 12], [10, 15.5]]) + FAR[:2]
        tin = surface_from(store, np.ones(441, bool), None, Shape(ring=ring), silent())
        at = {tuple(np.round(p[:2] - FAR[:2], 6).tolist()): p[2] - FAR[2] for p in tin.points}
        near([at[-3, 5], at[10, -2], at[25, 12], at[10, 15.5]], [1.25, 5.0, 13.0, 8.875], 1e-9)
        near(tin.plan_area, shapely.Polygon(ring).area, 1e-6)
        inner = np.array([[2.5, 3], [17, 4.5], [16, 18], [3, 16]]) + FAR[:2]
        shares = []
        tin = surface_from(
            store,
            np.ones(441, bool),
            Thinning(spacing=0.5),
            Shape(ring=inner),
            Progress(lambda share, _: shares.append(share)),
        )
        near(tin.points[:, 2], FAR[2] + (tin.points[:, :2] - FAR[:2]) @ [0.5, 0.25], 1e-9)
        self.assertTrue(
            shares == sorted(shares) and shares[0] < 0.4 and max(s for s in shares if s not in (0.5, 0.8)) <= 0.4,
            shares,
        )
        # The longest edge counts: on a lattice all have just the diagonal.
        whole = surface_from(store, np.ones(441, bool), None, Shape(longest=float(np.sqrt(2.0))), silent())
        near(whole.plan_area, 400, 1e-9)
        with self.assertRaises(NotDeterminable):
            surface_from(store, np.ones(441, bool), None, Shape(longest=1.41), silent())


class TinyContours(unittest.TestCase):
    def test_of_few_triangles_against_matplotlib(self):
        """Each line of 200 surfaces of three to nine vertices: how many there are, which are closed, and how long they are."""
        rng = np.random.default_rng(6)
        for k in range(200):
            count = 3 + k % 7
            points = np.column_stack([rng.uniform(0, 10, (count, 2)), rng.uniform(0, 4, count)])
            tin = triangulate(points)
            plain = matplotlib.tri.Triangulation(*tin.points[:, :2].T, tin.triangles)
            levels = 0.3 + np.arange(5)
            figure = matplotlib.figure.Figure().subplots().tricontour(plain, tin.points[:, 2], levels=levels)
            found = contours(tin, 1.0, base=0.3)
            for level, theirs in zip(levels, figure.allsegs, strict=True):
                ours = [line for line in found if abs(line.level - level) < 1e-9]
                ends = sorted((len(line.xy), line.closed) for line in ours)
                self.assertEqual(
                    ends, sorted((len(one), bool((one[0] == one[-1]).all())) for one in theirs if len(one))
                )
                near(
                    sum(line.length for line in ours),
                    sum(np.hypot(*np.diff(one, axis=0).T).sum() for one in theirs),
                    1e-9,
                )
        self.assertEqual(contours(Tin(np.zeros((0, 3)), np.zeros((0, 3), np.int32), np.zeros(3)), 1.0), [])

    def test_limits_and_labels(self):
        tin = triangulate(np.column_stack([lattice(3), np.arange(9.0)]))
        with mock.patch.object(contours_of, "MOST_SMOOTH", 127), self.assertRaisesRegex(InputError, "too many"):
            smoothed(tin, 2)
        with mock.patch.object(contours_of, "MOST_SMOOTH", 128):
            self.assertEqual(len(smoothed(tin, 2).triangles), 128)
        # A line of 10: one label of 30, two of 5 at a quarter and three quarters, none of 41.
        line = contours(triangulate(np.column_stack([lattice(2, 10.0), [0.0, 10, 0, 10]])), 5.0, base=2.0)[:1]
        for spacing, wanted in ((30.0, [5.0]), (5.0, [2.5, 7.5]), (41.0, []), (40.0, [5.0])):
            rows, places = label_places(line, spacing)
            near(np.sort(places[:, 1]), wanted, 1e-9)
            self.assertEqual(rows.tolist(), [0] * len(wanted))


class SpotsByBlocks(unittest.TestCase):
    def test_levels_at_the_borders_of_blocks(self):
        """Nodes dense enough for several blocks, and all in one row; the points a radius away lie in the next one."""
        rng = np.random.default_rng(7)
        points = np.column_stack([rng.uniform(0, 20, (9000, 2)), rng.normal(0, 1, 9000)]) + FAR
        store = store_of(points)
        points = store.coordinates(slice(0, 9000))
        row = np.column_stack([np.linspace(2, 18, 600), np.full(600, 9.0)])
        for nodes in (lattice(60, 0.25) + 2, row):
            nodes = nodes + FAR[:2]
            with mock.patch("kerb.core.surface.spots.BLOCK", 7):
                lowest, middle = (
                    spot_levels(Scope("c").of(store), nodes, take, 0.5, silent()) for take in ("lowest", "median")
                )
            for k in range(0, len(nodes), 7):
                mine = points[np.hypot(*(points[:, :2] - nodes[k]).T) <= 0.5, 2]
                near([lowest[k], middle[k]], [mine.min(), np.median(mine)])
        for radius in (0.0, -1.0, np.nan):
            with self.assertRaisesRegex(InputError, "above zero"):
                spot_levels(Scope("c").of(store), nodes, "lowest", radius, silent())

    def test_nodes_are_read_in_few_pieces(self):
        """So many nodes a side each, of a lattice as of a row, which has no area."""
        store = store_of(np.column_stack([lattice(30), np.zeros(900)]) + FAR)
        for nodes, most in (
            (lattice(64, 0.4) + 1, 100),
            (np.column_stack([np.linspace(1, 28, 640), np.full(640, 5.0)]), 81),
        ):
            steps, watch = [], silent()
            watch.step = lambda share, _words, steps=steps: steps.append(share)
            with mock.patch("kerb.core.surface.spots.BLOCK", 8):
                spot_levels(Scope("c").of(store), nodes + FAR[:2], "lowest", 2.0, watch)
            self.assertLessEqual(len(steps), most)
            self.assertGreaterEqual(len(steps), 64)
            near(steps, np.arange(len(steps)) / len(steps))

    def test_corners_of_a_box_may_have_levels(self):
        nodes, place = SpotGrid(1.0, tuple(FAR[:2])).nodes(FAR, FAR + 3)
        near(nodes, lattice(4) + FAR[:2])
        near(place, lattice(4)[:, ::-1])

    def test_a_turned_grid_over_a_long_box(self):
        """All nodes of a wider lattice that lie in the box, and no other, row by row."""
        for turn in (0.0, 25.0, -70.0):
            grid = SpotGrid(1.5, (FAR[0] + 3, FAR[1] - 40), turn)
            low, high = FAR + [10, 2, 0], FAR + [55, 9, 3]
            nodes, place = grid.nodes(low, high)
            wide = np.stack(np.meshgrid(np.arange(-80, 80), np.arange(-80, 80)), axis=-1).reshape(-1, 2)
            a = np.radians(turn)
            xy = np.array(grid.origin) + 1.5 * wide @ [[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]]
            keep = ((xy >= low[:2] - 1e-6) & (xy <= high[:2] + 1e-6)).all(axis=1)
            near(nodes, xy[keep])
            near(place, wide[keep][:, ::-1])


class Stable(unittest.TestCase):
    def test_the_reach_of_blocks(self):
        """Differences that are one value in each block and vary between them: shared over just a block's side."""
        xy = lattice(64) + 0.5
        size = 63 / 8
        rng = np.random.default_rng(8)
        value = rng.normal(0, 0.01, (9, 9))
        value = np.clip(value, -0.02, 0.02)
        dz = value[np.floor((xy[:, 1] - 0.5) / size).astype(int), np.floor((xy[:, 0] - 0.5) / size).astype(int)]
        found = stable_ground(xy + FAR[:2], dz + 0.3)
        near(found.reach, size, 0.02 * size)
        near(found.noise, dz.std(ddof=1))
        near(found.offset, dz.mean() + 0.3)

    def test_the_bound_is_that_of_the_mean_of_blocks(self):
        """Of equal blocks SciPy's standard error of their means, by Student's t; of unequal ones each by its share."""
        rng = np.random.default_rng(10)
        xy = lattice(64) + 0.5
        block = (np.floor((xy - 0.5) / (63 / 8)) @ [1, 9]).astype(int)
        value = rng.normal(0, 0.01, 81)
        for keep in (np.ones(len(xy), bool), (xy[:, 0] < 20) | (rng.random(len(xy)) < 0.4)):
            dz = 5.0 + value[block] + 1e-9 * rng.normal(0, 1, len(xy))
            strays = np.flatnonzero(keep)[::60]
            dz[strays] = 9.0
            found = stable_ground(xy[keep] + FAR[:2], dz[keep])
            # What is far off does not count, wherever the rest lies.
            keep = keep & (dz < 8)
            here = np.unique(block[keep])
            means = np.array([dz[keep & (block == b)].mean() for b in here])
            share = np.array([np.count_nonzero(keep & (block == b)) for b in here]) / np.count_nonzero(keep)
            near(found.offset, dz[keep].mean(), 1e-9)
            self.assertEqual(found.count, np.count_nonzero(keep))
            many = len(here)
            spread = np.sqrt(many / (many - 1) * np.sum((share * (means - dz[keep].mean())) ** 2))
            near(found.u95, scipy.stats.t(many - 1).ppf(0.975) * spread, 1e-9)
        # Eight by eight places, nine times each, one in each block.
        xy = np.repeat(lattice(8, 10.0), 9, axis=0)
        value = rng.normal(0, 0.01, 64)
        told = stable_ground(xy, np.repeat(value, 9) + np.tile(1e-9 * (np.arange(9) - 4), 64))
        near(told.u95, scipy.stats.sem(value) * scipy.stats.t(63).ppf(0.975), 1e-8)

    def test_planes_without_noise(self):
        xy = lattice(30)
        for slope, tilted in ((0.002, True), (0.0, False)):
            found = stable_ground(xy + FAR[:2], 0.03 + slope * xy[:, 0])
            self.assertEqual(found.tilted, tilted)
            near(found.plane, [0.03 + slope * 14.5, slope, 0], 1e-9)
        self.assertRaisesRegex(
            NotDeterminable, "6 are needed", stable_ground, np.column_stack([np.zeros(40), np.zeros(40)]), np.zeros(40)
        )
        self.assertEqual(stable_ground(xy[:30] * [1, 3], np.zeros(30)).count, 30)

    def test_what_is_far_off_by_five_times_the_spread(self):
        """Differences of one up and down, whose spread by their median is 1.4826; one more may lie five times as far."""
        xy = lattice(20)
        for stray, counted in ((5 * 1.4826 - 0.01, 400), (5 * 1.4826 + 0.01, 399)):
            dz = np.where(np.arange(400) % 2, 1.0, -1.0)
            dz[77] = stray
            self.assertEqual(stable_ground(xy, dz).count, counted)

    def test_blocks_get_smaller_where_they_are_few(self):
        """Three places far apart: the fourth smaller side makes four blocks of each."""
        rng = np.random.default_rng(15)
        xy = np.concatenate([lattice(11) + [at, 0] for at in (0, 195, 390)])
        side = 400 / 8 / 1.6**4
        block = np.unique(np.floor(xy / side), axis=0, return_inverse=True)[1].ravel()
        dz = rng.normal(0, 0.01, 12)[block] + rng.normal(0, 0.001, len(xy))
        means, share = np.bincount(block, dz) / np.bincount(block), np.bincount(block) / len(xy)
        error = np.sqrt(12 / 11 * np.sum((share * (means - dz.mean())) ** 2))
        found = stable_ground(xy, dz)
        near([found.u95, found.count], [scipy.stats.t(11).ppf(0.975) * error, len(xy)])

    def test_proposals_round_a_pit_and_strays(self):
        """A pit is a hole two cells wider all round; strays are none."""
        dz = np.zeros((60, 100))
        dz[20:30, 40:55] = -1.0
        dz[[10, 11, 50], [10, 11, 80]] = 3.0
        (found,) = proposals(dz, 2.0)
        near(found.interiors[0].bounds, [76, 36, 114, 64])
        near(found.area, 4 * (56 * 96 - 14 * 19), 60)
        self.assertEqual(len(found.interiors), 1)

    def test_proposals_beside_a_small_step(self):
        """Four times the noise higher is another ground; of seven pieces the six largest are told."""
        rng = np.random.default_rng(16)
        dz = rng.normal(0, 0.005, (60, 100))
        dz[:, 60:] += 0.02
        (found,) = proposals(dz, 1.0)
        self.assertLess(found.bounds[2], 62)
        dz[:, 60:] -= 0.02
        dz[:, [12, 25, 38, 51, 64, 77]] = 9.0
        self.assertEqual(len(proposals(dz, 1.0)), 6)

    def test_spread_of_values_that_are_one_number(self):
        near([spread(np.array(v)) for v in ([1.0, 2, 3, 4, 100], [5.0] * 7 + [6, 6, 7])], [1.4826, 1.2533 * 0.4])
        near(
            [spread(np.array([1.0, 2, 3]), 0.0), spread(np.array([0.3, 0.1 + 0.2, 0.3, 1.3]))], [2 * 1.4826, 1.2533 / 4]
        )
        self.assertEqual(spread(np.full(9, 0.1)), 0.0)

    def test_heights_in_whole_centimetres(self):
        """Most differences are one number; the others are noise all the same, and what lies a metre off is not."""
        rng = np.random.default_rng(14)
        dz = 0.01 * rng.choice([0, 0, 0, 1, -1], 2500)
        dz[::100] = 1.0
        found = stable_ground(lattice(50), dz)
        rest = np.delete(dz, np.arange(0, 2500, 100))
        near([found.count, found.noise, found.offset], [2475, rest.std(ddof=1), rest.mean()])
        self.assertTrue(0.00015 < found.u95 < 0.0005)
        raster = 0.01 * rng.choice([0, 0, 0, 1, -1], (50, 90))
        raster[:, 40:] += 3 + 0.4 * np.arange(50)[:, None]
        near([part.bounds[2] < 41 for part in proposals(raster, 1.0)], [True])

    def test_tilts_where_an_independent_test_sees_them(self):
        """In each of 300 sets of nine unequal blocks of noise just where the F test of the regression of block means does."""
        rng, seen = np.random.default_rng(12), 0
        size = 4 * np.arange(9) + 8
        centre = lattice(3, 2.9)
        xy = np.concatenate([np.repeat(centre, size, axis=0), [[0, 0], [23.2, 0], [0, 23.2]]])
        # Three more blocks by a place each at the corners give the side of the blocks: an eighth of it.
        block = np.concatenate([np.repeat(np.arange(9), size), [0, 9, 10]])
        for _ in range(300):
            dz = rng.normal(0, 1, 11)[block]
            count = np.bincount(block)
            places = np.column_stack([np.bincount(block, xy[:, k]) / count for k in (0, 1)])
            means = np.bincount(block, dz) / count
            root = np.sqrt(count)
            rest = lambda x: np.sum(((x @ np.linalg.lstsq(x * root[:, None], means * root)[0] - means) * root) ** 2)  # noqa: B023, E731
            plain, sloped = rest(np.ones((11, 1))), rest(np.column_stack([np.ones(11), places]))
            chance = scipy.stats.f(2, 8).sf((plain - sloped) / 2 / (sloped / 8))
            found = stable_ground(xy, dz)
            if found.count == len(dz):
                self.assertEqual(found.tilted, chance < 0.05)
                seen += found.tilted
        self.assertGreater(seen, 5)

    def test_a_strip_tells_no_tilt_across(self):
        found = stable_ground(np.column_stack([np.arange(60.0), np.full(60, 7.0)]), 0.01 * np.arange(60.0) + 2)
        self.assertFalse(found.tilted)
        near(found.plane, [2.295, 0, 0])

    def test_proposals_beside_a_slope_that_was_dug(self):
        """Most was dug, at no one level; what was left alone is what most agree on. Pieces under a hundredth are not told."""
        rng = np.random.default_rng(13)
        dz = rng.normal(0.05, 0.005, (60, 100))
        dz[:, 40:] -= np.linspace(0.5, 4.0, 60)
        (found,) = proposals(dz, 1.0)
        near(found.area, 56 * 36, 0.15 * 56 * 36)
        self.assertLess(found.bounds[2], 40)
        dz = np.full((60, 100), 0.05)
        dz[:, 40] = dz[:, 52] = 9.0
        near([part.area for part in proposals(dz, 1.0)], [56 * 43, 56 * 36, 56 * 7], 1e-6)
        dz[:, 47] = 9.0
        near([part.area for part in proposals(dz, 1.0)], [56 * 43, 56 * 36, 56 * 2], 2)
        dz[:, 46] = 9.0
        near([part.area for part in proposals(dz, 1.0)], [56 * 43, 56 * 36], 1e-6)
        near([part.area for part in proposals(dz, 1.0, 1)], [56 * 43], 1e-6)

    def test_proposals_of_a_pit(self):
        """Without noise, to the cell: two cells from every border and from the pit; with noise, below."""
        dz = np.full((40, 100), 0.05)
        dz[:, 30:60] = -2.0
        near([part.area for part in proposals(dz, 2.0)], [36 * 36 * 4, 26 * 36 * 4], 1e-6)
        near(proposals(dz, 2.0)[1].bounds, [4, 4, 56, 76], 1e-6)
        self.assertEqual(len(proposals(np.full((5, 6), 0.1), 1.0, 1)), 0)

    def test_proposals_of_a_noisy_pit(self):
        """The larger of two calm sides comes first; nothing of the pit; with fewer than thirty cells nothing is said."""
        rng = np.random.default_rng(9)
        dz = rng.normal(0, 0.01, (40, 100)) + 0.05
        dz[:, 30:60] -= 2.0
        found = proposals(dz, 2.0)
        near([part.bounds[0] > 118 for part in found[:2]], [True, False])
        for part in found:
            self.assertEqual(part.intersection(shapely.box(62, 0, 118, 80)).area, 0)
        near([found[0].area, found[1].area], [36 * 36 * 4, 26 * 36 * 4], 0.15 * 36 * 36 * 4)
        few = np.full((6, 6), np.nan)
        few.ravel()[:29] = rng.normal(0, 0.01, 29)
        self.assertEqual(proposals(few, 1.0), [])


class MendedEdges(unittest.TestCase):
    def test_a_vertex_on_a_slanted_edge(self):
        """It parts the edge and both triangles beside it, and nothing of the surface moves."""
        points = np.array([[0.0, 0, 0], [9, 3, 3], [2, 7, 5], [6, -5, 1]])
        m = Mended.of(Tin.of(points + FAR, np.array([[0, 1, 2], [1, 0, 3]], np.int32)))
        places = np.random.default_rng(1).dirichlet(np.ones(3), 200) @ points[:3, :2] + FAR[:2]
        before = m.surface.at(places)
        for share in (1 / 3, 0.9):
            fresh = mending.with_vertex(m, share * points[1, :2] + FAR[:2])
            self.assertEqual(np.count_nonzero(fresh.there), 4)
            near(fresh.surface.at(places), before, 1e-9)
        inside = mending.with_vertex(m, np.array([3.0, 3]) + FAR[:2])
        self.assertEqual(np.count_nonzero(inside.there), 4)
        near(inside.surface.plan_area, m.surface.plan_area, 1e-9)

    def test_a_vertex_on_a_slanted_break_line_parts_it(self):
        """Both pieces stay edges, wherever the surface is mended next; what is cut out leaves just the rest."""
        base = triangulate(np.column_stack([lattice(9, 5.0) + [[0.2, 0.1]] * 81, np.zeros(81)]) + FAR)
        line = np.array([[7.0, 11, 1], [31, 29, 1]]) + FAR
        m, _ = mending.along_line(Mended.of(base), line)
        for share in (0.25, 0.7):
            at = line[0] + share * (line[1] - line[0])
            fresh = mending.with_vertex(m, at[:2], FAR[2] + 3)
            self.assertEqual(len(fresh.fixed), len(m.fixed) + 1)
            near(np.sum(np.linalg.norm(np.diff(fresh.vertices[fresh.fixed, :2], axis=1), axis=2)), 30.0, 1e-9)
            near(fresh.surface.at(at[None, :2]), [FAR[2] + 3], 1e-9)
        ring = np.array([[10.0, 10], [30, 10], [30, 30], [10, 30]]) + FAR[:2]
        for keep, area in ((False, 1600 - 400), (True, 400)):
            rest = mending.cut_out(Mended.of(base), ring, keep)
            near(rest.surface.plan_area, area, 1e-6)
            self.assertEqual(len(rest.surface.triangles), np.count_nonzero(rest.there))
            self.assertTrue((rest.surface.plan_areas > 0).all())

    def test_the_edge_nearest_to_a_place_is_turned(self):
        """By brute force over the three lines of the triangle there; two triangles change, nothing else."""
        rng = np.random.default_rng(9)
        xy = np.concatenate([rng.uniform(0, 40, (150, 2)), [[0, 0], [40, 0], [40, 40], [0, 40]]])
        m = Mended.of(triangulate(np.column_stack([xy, rng.uniform(0, 3, len(xy))]) + FAR))
        edges = lambda rows: {frozenset((int(a), int(b))) for t in rows for a, b in zip(t, np.roll(t, 1), strict=True)}  # noqa: E731
        before, turned = edges(m.triangles), 0
        for place in rng.uniform(1, 39, (60, 2)):
            at = m.local((place + FAR[:2])[None])[0]
            inside = [t for t in m.triangles if shapely.Polygon(m.vertices[t, :2]).contains(shapely.Point(at))]
            lines = {
                frozenset((int(a), int(b))): m.vertices[[a, b], :2]
                for a, b in zip(inside[0], np.roll(inside[0], 1), strict=True)
            }
            far = {
                key: abs(np.linalg.det([line[1] - line[0], at - line[0]])) / np.hypot(*(line[1] - line[0]))
                for key, line in lines.items()
            }
            with contextlib.suppress(InputError):
                made = mending.swapped(m, place + FAR[:2])
                after = edges(made.triangles[made.there])
                self.assertEqual(before - after, {min(far, key=far.get)})
                self.assertEqual(len(after - before), 1)
                near(made.surface.plan_area, 1600, 1e-9)
                turned += 1
        self.assertGreater(turned, 30)

    def test_a_seam_keeps_apart_what_lies_on_it(self):
        """Another surface inside a ring: its vertices on the ring are none of the patch, those just inside are."""
        ring = np.array([[10.0, 10], [30, 10], [30, 30], [10, 30]]) + FAR[:2]
        base = triangulate(np.column_stack([lattice(9, 5.0), np.zeros(81)]) + FAR)
        other = np.array([[10.0, 20, 2], [20, 20, 2], [10.001, 15, 2]]) + FAR
        made = mending.other_inside(Mended.of(base), ring, lambda xy: np.full(len(xy), FAR[2] + 2), other)
        inside = made.surface.at(np.array([[20.0, 20], [10, 20], [10.001, 15], [5, 5]]) + FAR[:2]) - FAR[2]
        near(inside, [2, 1, 2, 0], 1e-9)
        area = mask_of(Area((ring_of(ring),))).plan_area
        near(area, 400, 1e-9)
