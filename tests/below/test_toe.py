"""Ground along a toe line: what a stretch runs over, elevations bridged, pulling to the foot, and the bound of what is not seen."""

import unittest
from unittest import mock

import numpy as np
import scipy

from kerb.core.errors import NotDeterminable
from kerb.core.geometry import polygon
from kerb.core.surface import pulling, stretches, toe, unseen
from kerb.core.surface.along import Filling, surrounds
from kerb.core.surface.grid import HeightGrid
from kerb.core.surface.stretches import Evidence, on_ground
from kerb.core.surface.toe import ACROSS_STEP, GROUND, NO_POINTS, NOT_GROUND, TYPED, GroundReader, Search, plane_through
from kerb.core.surface.toe_kernels import COUNT, read_zones, robust_plane
from kerb.core.surface.unseen import mean_error
from tests.support import FAR, circle, frustum, jittered, near

SEARCH = Search(radius=0.5, step=1.0, jump=0.3)


def ground(xy):
    return 0.03 * xy[:, 0]


def yard(noise=0.01, seed=2):
    rng = np.random.default_rng(seed)
    xy = jittered(16, 0.1, seed)
    return np.column_stack([xy, ground(xy) + frustum(xy) + rng.normal(0, noise, len(xy))]) + FAR


class Elevations(unittest.TestCase):
    def test_reads_the_ground_not_the_heap(self):
        ring = circle(10.2, 40) + FAR[:2]
        toe = GroundReader(yard(), SEARCH).read(ring)
        truth = ground(toe.xy - FAR[:2]) + FAR[2]
        self.assertTrue(np.all(toe.kind == GROUND))
        self.assertLess(np.abs(toe.base - truth).max(), 0.02)
        self.assertLess(abs((toe.base - truth).mean()), 0.002)
        np.testing.assert_array_equal(toe.xy[toe.vertices], ring)

    def test_stray_points_do_not_move_it(self):
        points = yard()
        rng = np.random.default_rng(5)
        near = np.flatnonzero(np.abs(np.hypot(*(points[:, :2] - FAR[:2]).T) - 10.2) < 0.5)
        points[rng.choice(near, len(near) // 8), 2] += rng.choice([-4.0, 3.0], len(near) // 8)
        toe = GroundReader(points, SEARCH).read(circle(10.2, 40) + FAR[:2])
        self.assertLess(np.abs(toe.base - ground(toe.xy - FAR[:2]) - FAR[2]).max(), 0.04)

    def test_along_a_wall_the_base_is_interpolated_and_the_top_is_the_heap(self):
        points = yard()
        east = points[:, 0] - FAR[0]
        points[east > 4, 2] = FAR[2] + 9.0
        ring = polygon.checked(np.array([p for p in circle(10.2, 80) if p[0] <= 3.99])) + FAR[:2]
        toe = GroundReader(points, SEARCH).read(ring)
        wall = np.abs(toe.xy[:, 0] - FAR[0] - ring[:, 0].max() + FAR[0]) < 0.02
        inner = wall & (np.abs(toe.xy[:, 1] - FAR[1]) < 7)
        self.assertTrue(np.all(toe.kind[inner] == ACROSS_STEP))
        self.assertLess(np.abs(toe.base[inner] - FAR[2]).max(), 0.35)
        self.assertGreater(toe.top[inner].max(), FAR[2] + 5)

    def test_typed_elevations_rule(self):
        toe = GroundReader(yard(), SEARCH).read(circle(10.2, 12) + FAR[:2], {0: 120.0, 1: 121.0})
        self.assertEqual(toe.base[toe.vertices[0]], 120.0)
        between = slice(toe.vertices[0], toe.vertices[1] + 1)
        np.testing.assert_allclose(toe.base[between], np.linspace(120, 121, between.stop - between.start))
        self.assertTrue(np.all(toe.kind[between] == TYPED))

    def test_a_gap_is_bridged_and_none_at_all_is_said(self):
        points = yard()
        points = points[~((points[:, 0] > FAR[0] + 8) & (np.abs(points[:, 1] - FAR[1]) < 4))]
        toe = GroundReader(points, SEARCH).read(circle(10.2, 40) + FAR[:2])
        self.assertGreater(np.count_nonzero(toe.kind == NO_POINTS), 3)
        self.assertLess(np.abs(toe.base - ground(toe.xy - FAR[:2]) - FAR[2]).max(), 0.1)
        with self.assertRaises(NotDeterminable):
            GroundReader(points, SEARCH).read(circle(200, 12) + FAR[:2])

    def test_a_cloud_cut_off_at_the_line_uses_its_edge(self):
        points = yard()
        points = points[np.hypot(*(points[:, :2] - FAR[:2]).T) < 12]
        toe = GroundReader(points, SEARCH).read(circle(11.99, 90) + FAR[:2])
        self.assertLess(np.abs(toe.base - ground(toe.xy - FAR[:2]) - FAR[2]).max(), 0.05)


class Along(unittest.TestCase):
    """Gaps in a line of values, and how much each known one counts."""

    def setUp(self):
        self.xy = np.vstack([circle(5, 40), [[5.5, -0.4]]]) + FAR[:2]
        self.good = np.ones(41, bool)
        self.good[[0, 7, 8, 9, 25, 40]] = False

    def filling(self, even=None):
        return Filling(self.xy, self.good, np.zeros(41, bool) if even is None else even)

    def test_along_one_side_it_is_carried_straight_along_the_line(self):
        xy = np.array([[0.0, 0], [1, 0], [2, 0], [3, 0], [4, 0], [4, 4], [0, 4]])
        good = np.array([1, 1, 1, 1, 1, 0, 0], bool)
        filled = Filling(xy, good, np.zeros(7, bool)).apply(np.array([1.0, 1, 1, 2, 2, 0, 0]))
        # From the mean of the last three, 5/3, to that of the first three, 1, over 12 of length.
        np.testing.assert_allclose(filled[5:], [5 / 3 - 2 / 3 * 4 / 12, 5 / 3 - 2 / 3 * 8 / 12], atol=1e-12)

    def test_the_adjoint_counts_what_each_known_value_does(self):
        rng = np.random.default_rng(3)
        even = self.good & np.roll(self.good, 1) & np.roll(self.good, -1)
        for filling in (self.filling(), self.filling(even)):
            weights = rng.normal(size=41)
            count = filling.adjoint(weights)
            self.assertTrue(np.all(count[~self.good] == 0))
            for number in np.flatnonzero(self.good):
                one = np.zeros(41)
                one[number] = 1.0
                self.assertAlmostEqual(float(weights @ filling.apply(one)), count[number], places=9)


def plane_twin(x, y, z):
    """Tukey's biweight plane in four rounds of weighted least squares; the scale from the median absolute residual."""
    value, slope, scale = np.median(z), np.zeros(2), 0.0
    rest = z - value
    for _ in range(4):
        scale = max(1.4826 * np.median(np.abs(rest)), 1e-9)
        u = rest / (4.685 * scale)
        w = np.where(np.abs(u) < 1, (1 - u**2) ** 2, 0.0)
        if w.sum() <= 0:
            break
        middle = np.array([w @ x, w @ y]) / w.sum()
        dx, dy = x - middle[0], y - middle[1]
        moments = np.array([[w @ (dx * dx), w @ (dx * dy)], [w @ (dx * dy), w @ (dy * dy)]])
        if np.linalg.det(moments) <= 1e-6 * moments[0, 0] * moments[1, 1]:
            break
        dz = z - w @ z / w.sum()
        slope = np.linalg.solve(moments, [w @ (dx * dz), w @ (dy * dz)])
        value = w @ z / w.sum() - slope @ middle
        rest = z - value - slope[0] * x - slope[1] * y
    east, north = x.mean(), y.mean()
    return [east, north, value + slope @ [east, north], *slope, scale, len(x)]


class Zones(unittest.TestCase):
    def test_robust_planes(self):
        rng = np.random.default_rng(3)
        for trial in range(30):
            n = int(rng.integers(3, 40))
            x, y = rng.uniform(-3, 5, (2, n))
            z = 7 + 0.3 * x - 0.2 * y + rng.normal(0, 0.02, n)
            z[: n // 5] += rng.uniform(1, 4, n // 5)
            if trial % 5 == 0:
                y = 2 * x + 1  # along one line no plane is fixed
            out = np.empty(7)
            robust_plane(x, y, z, n, out)
            near(out, plane_twin(x, y, z), atol=1e-9, msg=trial)
        flat = np.empty(7)
        robust_plane(np.array([0.0, 1, 0, 1, 9]), np.array([0.0, 0, 1, 1, 9]), np.array([2.0, 2, 2, 2, 2, 77])[:5], 4, flat)
        near(flat, [0.5, 0.5, 2, 0, 0, 1e-9, 4], atol=1e-12)

    def test_which_points_belong_to_which_zone(self):
        rng = np.random.default_rng(5)
        points = np.column_stack([rng.uniform(-6, 6, (900, 2)), rng.normal(0, 1, 900)])
        places = np.array([[0.0, 0.0], [1.0, -2.0], [50.0, 50.0]])
        turn = np.array([0.3, 2.0, 0.0])
        normals = np.column_stack([np.cos(turn), np.sin(turn)])
        rows = [np.flatnonzero(np.hypot(*(points[:, :2] - place).T) < 5.5) for place in places]
        offsets = np.concatenate([[0], np.cumsum([len(row) for row in rows])])
        near_points = points[np.concatenate(rows)]
        inside = near_points[:, 0] + 0.4 * near_points[:, 1] < 0.3
        out = np.empty((3, 3, 7))
        radius, slack, width, fewest = 1.7, 0.6, 2.1, 5
        read_zones(near_points, inside, offsets, places, normals, radius, slack, width, fewest, out)
        for q, place in enumerate(places):
            mine = slice(offsets[q], offsets[q + 1])
            local, within = near_points[mine] - [*place, 0], inside[mine]
            by, aside = local[:, :2] @ normals[q], np.abs(local[:, 1] * normals[q, 0] - local[:, 0] * normals[q, 1])
            disc = np.hypot(*local[:, :2].T) <= radius
            zones = (within & disc, ~within & disc, ~within & (by >= slack) & (by <= slack + width) & (aside <= width))
            for zone, which in enumerate(zones):
                self.assertEqual(out[q, zone, COUNT], which.sum())
                if which.sum() >= fewest:
                    near(out[q, zone], plane_twin(*local[which].T), atol=1e-9)
                else:
                    self.assertTrue(np.isnan(out[q, zone, :COUNT]).all())
        self.assertEqual(out[2, :, COUNT].tolist(), [0, 0, 0])
        few = np.array([[0.1, 0.1, 1.0], [0.2, 0.1, 1], [0.1, 0.3, 1], [0.4, 0.1, 1], [0.2, 0.2, 1]])
        for count in (4, 5):
            read_zones(
                few[:count], np.ones(count, bool), np.array([0, count]), places[:1], normals[:1], 1.0, 0.0, 1.0, 5, out[:1]
            )
            self.assertEqual(np.isfinite(out[0, 0, 2]), count == 5)


class Ways(unittest.TestCase):
    def line(self, good):
        """Twelve samples a metre apart round a square of three, the good ones as said."""
        xy = polygon.along(np.array([[0.0, 0], [3, 0], [3, 3], [0, 3]]), 1.0)
        mask = np.array([mark == "x" for mark in good])
        return Filling(xy, mask, np.zeros(12, bool))

    def test_the_adjoint_in_every_pattern(self):
        rng = np.random.default_rng(9)
        for _ in range(25):
            good = rng.random(12) < rng.uniform(0.3, 1)
            good[3] = True
            even = good & (rng.random(12) < 0.5)
            filling = Filling(polygon.along(np.array([[0.0, 0], [3, 0.5], [3, 3], [0, 3]]), 1.0)[:12], good, even)
            z, weights = rng.normal(0, 1, 12) * good, rng.normal(0, 1, 12)
            self.assertAlmostEqual(float(weights @ filling.apply(z)), float(filling.adjoint(weights) @ z), places=9)
            self.assertFalse(filling.adjoint(weights)[~good].any())

    def test_what_surrounds(self):
        self.assertTrue(surrounds(circle(3, 6)))
        self.assertFalse(surrounds(circle(3, 6)[:5]), "five are too few")
        for width, round_ in ((0.31, True), (0.29, False)):
            self.assertEqual(surrounds(circle(10, 40) * [1, width]), round_)


def evidence(off, outer_inner=0.0, rising=(), steep=(), unknown=(), apart=1.0):
    """Samples in a row along a large ring whose levels stand ``off`` over a level ground."""
    n = len(off)
    off = np.array(off, float)
    xy = circle(apart * n / (2 * np.pi), n)
    ground = off.copy()
    ground[list(unknown)] = np.nan
    marks = np.zeros(n, bool)
    marks[list(rising)] = True
    tilt = np.zeros(n)
    tilt[list(steep)] = 1.0
    outer = off + np.broadcast_to(outer_inner, n)
    return Evidence(xy, outer, off.copy(), ground, marks, tilt, np.where(np.isfinite(ground), off, np.nan), np.zeros(3))


class OfTheGround(unittest.TestCase):
    JUMP = 0.3

    def kinds(self, seen):
        ground, step = on_ground(seen, self.JUMP)
        return "".join("s" if s else "g" if g else "." for g, s in zip(ground, step, strict=True))

    def test_what_stands_high_between_two_steps_is_not_ground(self):
        """Over two thirds of a jump and parted from the ground by more than a slope of 12 degrees would explain."""
        for off, kind in ((0.21, "."), (0.19, "g"), (-0.21, ".")):
            heights = [0.0] * 24
            heights[8:13] = [off] * 5
            seen = evidence(heights, apart=0.1)
            self.assertEqual(set(self.kinds(seen)[8:13]), {kind}, off)
            self.assertEqual(self.kinds(seen)[:8], "g" * 8)
        heights = [0.0] * 24
        heights[8:13] = [0.21] * 5
        self.assertEqual(self.kinds(evidence(heights, apart=2.0)), "g" * 24, "a slope that gentle is ground")

    def test_uneven_ground_is_given_four_times_its_own_spread(self):
        spread = [0.09, -0.09] * 14
        heights = [*spread[:10], 0.5, 0.5, 0.5, 0.5, *spread[14:]]
        four = 4 * 1.4826 * 0.09
        for top, kind in ((four + 0.02, "."), (four - 0.02, "g")):
            heights[10:14] = [top] * 4
            self.assertEqual(set(self.kinds(evidence(heights, apart=0.2))[10:14]), {kind}, top)

    def test_runs_and_parts(self):
        runs = lambda marks, cuts="": [row.tolist() for row in stretches._runs(  # noqa: E731
            np.array([m == "x" for m in marks]), np.array([str(k) in cuts.split() for k in range(len(marks))]))]  # fmt: skip
        self.assertEqual(runs("xx..xxx"), [[4, 5, 6, 0, 1]])
        self.assertEqual(runs(".xx.x."), [[1, 2], [4]])
        self.assertEqual(runs("xxxxxx", "2 4"), [[2, 3], [4, 5, 0, 1]])
        self.assertEqual(runs("xxxx"), [[0, 1, 2, 3]])
        self.assertEqual(runs("...."), [])
        self.assertEqual(runs("xxxx", "1"), [[1, 2, 3, 0]])
        seen = evidence([0.0, 0.0, 0.5, 0.5, 0.4, 0.0], apart=1.0)
        away = np.hypot(*(seen.xy[1] - seen.xy[0]))
        least = max(np.tan(np.radians(12)) * away, 0.25 * self.JUMP)
        self.assertEqual(stretches._parted(seen, self.JUMP).tolist(), [False, False, True, False, False, least < 0.4])
        close = evidence([0.0, 0.074, 0.0, 0.076, 0.0, 0.0], apart=0.01)
        self.assertEqual(stretches._parted(close, self.JUMP).tolist(), [False, False, False, True, True, False])

    def zone(self, east, north, level, rise_east, rise_north, scatter=0.0, count=9):
        return np.array([east, north, level, rise_east, rise_north, scatter, count], float)

    def test_the_lowest_plane_that_many_agree_with(self):
        xy = circle(10, 60)
        z = 0.05 * xy[:, 0] - 0.02 * xy[:, 1]
        rise = np.tile([0.05, -0.02], (60, 1))
        plane = stretches._lowest_plane(xy, z, rise, 0.15, 1.0)
        near(plane, [0.05, -0.02, 0], atol=1e-9)
        for fall in ([0.2, 0.0], [0.0, -0.2], [-0.14, 0.15]):
            near(stretches._lowest_plane(xy, xy @ fall, np.tile(fall, (60, 1)), 0.15, 1.0), [*fall, 0], atol=1e-9)
        high = z.copy()
        high[:25] += 1.0  # two fifths stand on something level
        near(stretches._lowest_plane(xy, high, rise, 0.15, 1.0), [0.05, -0.02, 0], atol=1e-9)
        flank = 0.95 * xy[:, 0]
        steep = np.tile([0.95, 0.0], (60, 1))
        low = np.where(xy[:, 0] < -5, -4.75, flank)
        rises = np.where((xy[:, 0] < -5)[:, None], 0.0, steep)
        found = stretches._lowest_plane(xy, low, rises, 0.15, 1.0)
        near(found, [0, 0, -4.75], atol=1e-6, msg="a plane of 44 degrees is a flank")

    def test_the_plane_is_fitted_to_levels_and_falls_alike(self):
        rng = np.random.default_rng(2)
        xy = circle(10, 30) * [1, 0.2]
        z = 4 + 0.03 * xy[:, 0] + rng.normal(0, 0.02, 30)
        rise = np.array([0.03, 0.01]) + rng.normal(0, 0.01, (30, 2))
        for width in (0.5, 2.0):
            rows = [[x, y, 1.0] for x, y in xy] + [[0.3 * width, 0, 0]] * 30 + [[0, 0.3 * width, 0]] * 30
            wanted = np.concatenate([z, 0.3 * width * rise[:, 0], 0.3 * width * rise[:, 1]])
            twin = np.linalg.solve(np.array(rows).T @ np.array(rows), np.array(rows).T @ wanted)
            near(stretches._lowest_plane(xy, z, rise, 0.15, width), twin, atol=1e-9)
        # Levels on one line: of those the falls alone say how it leans across.
        row = np.column_stack([np.arange(12.0), np.zeros(12)])
        lean = np.tile([0.1, 0.05], (12, 1))
        near(stretches._lowest_plane(row, 3 + 0.1 * row[:, 0], lean, 0.15, 1.0), [0.1, 0.05, 3], atol=1e-9)
        two = np.array([[0.0, 0], [5, 0], [0, 5]])
        near(stretches._lowest_plane(two, np.array([0.0, 9, 9]), np.zeros((3, 2)), 0.1, 1.0)[2], 0.0, atol=1e-9)

    def test_the_fall_of_a_zone_counts_as_far_as_it_is_sure(self):
        zones = np.array([self.zone(3, 4, 10, 0.3, 0.1, 0.05, 25), self.zone(3, 4, 10, 0.3, 0.1, 0.0, 25)])
        trend, width = np.array([0.1, -0.2]), 2.0
        level, error = stretches._extrapolated(zones, trend, width)
        of_rise = 0.05 / (5 * 0.29 * 2)
        share = np.tan(np.radians(3)) ** 2 / (np.tan(np.radians(3)) ** 2 + of_rise**2)
        near(level, [10 - 3 * (0.1 + share * 0.2) - 4 * (-0.2 + share * 0.3), 10 - 0.9 - 0.4])
        near(error, [np.hypot(0.01, share * of_rise * 5), 0])

    def test_level_ground_and_single_doubts(self):
        self.assertEqual(self.kinds(evidence([0.0] * 20)), "g" * 20)
        self.assertEqual(self.kinds(evidence([0.0] * 20, unknown=[4])), "gggg.ggggggggggggggg")
        self.assertEqual(self.kinds(evidence([0.0] * 20, rising=[7])), "ggggggg.gggggggggggg")
        step = np.zeros(20)
        step[3], step[4] = 0.31, 0.29
        self.assertEqual(self.kinds(evidence([0.0] * 20, step)), "gggsgggggggggggggggg")
        self.assertEqual(self.kinds(evidence([0.0] * 20, -step)), "gggsgggggggggggggggg")

    def test_beside_what_is_no_ground_a_high_sample_is_none_either(self):
        for off, kind in ((0.16, "."), (0.14, "g")):
            heights = [0.0] * 20
            heights[9] = off
            self.assertEqual(self.kinds(evidence(heights, rising=[10], apart=1.0))[9], kind, off)
            self.assertEqual(self.kinds(evidence(heights, rising=[8], apart=1.0))[9], kind, off)

    def test_when_next_to_nothing_is_left_all_that_is_known_is_ground(self):
        seen = evidence([0.0] * 20, rising=range(18))
        self.assertEqual(self.kinds(seen), "g" * 20, "two of twenty are too few")
        self.assertEqual(self.kinds(evidence([0.0] * 20, rising=range(17))), "." * 17 + "ggg")
        self.assertEqual(self.kinds(evidence([0.0] * 40, rising=range(37))), "g" * 40, "three of forty are too few")
        self.assertEqual(self.kinds(evidence([0.0] * 40, rising=range(36))), "." * 36 + "gggg")


class OfTheLine(unittest.TestCase):
    RING = np.array([[0.0, 0], [4, 0], [4, 3], [0, 3]])

    def test_read_in_full_on_a_slope(self):
        rng = np.random.default_rng(1)
        xy = rng.uniform(-15, 15, (20_000, 2))
        z = 3 + 0.1 * xy[:, 0] + np.maximum(0, 6 - np.hypot(*xy.T)) * 0.7
        points = np.column_stack([xy, z]) + FAR
        ring = circle(6.3, 30) + FAR[:2]
        reader = GroundReader(points, Search(0.8, 0.5, 0.4, 0.4, 1.0))
        found = reader.read(ring)
        near(found.base, FAR[2] + 3 + 0.1 * (found.xy[:, 0] - FAR[0]), atol=0.01)
        self.assertEqual(set(found.kind.tolist()), {GROUND})
        plane = plane_through(found)
        near(plane.at(np.array([[0.0, 0], [10, 0]]) + FAR[:2]), FAR[2] + np.array([3.0, 4.0]), atol=0.01)
        again = reader.read(ring, {0: 99.0}, {5: False})
        self.assertEqual((again.kind[0], again.base[0]), (TYPED, 99.0))
        row = toe._between(again.vertices, 5, len(again.xy))
        self.assertEqual(set(again.kind[row].tolist()), {NOT_GROUND})
        near(again.base[row], FAR[2] + 3 + 0.1 * (again.xy[row, 0] - FAR[0]), atol=0.05)
        for vertex, place in ((3, ring[3] + [0.9, 0.4]), (4, ring[4] - [0.7, 0.2])):
            moved = ring.copy()
            moved[vertex] = place
            fresh, kept = GroundReader(points, reader.search).read(moved), reader.read(moved)
            near(kept.base, fresh.base, atol=0, msg="what is remembered is of these places and these neighbours")
            near(kept.top, fresh.top, atol=0)
        m, kind = len(again.kind), again.kind
        ground, good = kind == GROUND, (kind == GROUND) | (kind == TYPED)
        even = [all(ground[(i + d) % m] for d in (-1, 0, 1)) and all(good[(i + d) % m] for d in (-2, 2)) for i in range(m)]
        self.assertEqual(again.filling.even.tolist(), even)
        np.testing.assert_array_equal(again.filling.good, good)
        small = np.array([[0.0, 0], [3, 0], [0, 3]]) + FAR[:2]
        coarse = GroundReader(points, Search(0.8, 50.0, 0.4, 0.4, 1.0))
        self.assertEqual(len(coarse.read(small, {0: 1.0, 1: 2.0, 2: 3.0}).xy), 3, "three are enough")
        with self.assertRaisesRegex(NotDeterminable, "fewer than three places"):
            coarse.read(small, {0: 1.0}, {1: False})
        with self.assertRaises(NotDeterminable):
            GroundReader(points[:0], reader.search).read(ring)


class Breaks(unittest.TestCase):
    def profile(self, at, inner=-0.7, outer=0.0):
        t = np.arange(-2.0, 2.05, 0.1)
        return t, np.where(t < at, inner * (t - at), outer * (t - at)) + 5

    def test_against_a_twin(self):
        """Two lines by numpy's polyfit for every place that leaves three samples on either side."""
        rng = np.random.default_rng(6)
        seen = 0
        for trial in range(150):
            n = int(rng.integers(9, 24))
            t = np.sort(rng.uniform(-2, 2, n)) if trial % 2 else np.linspace(-2, 2, n)
            at, inner, outer = rng.uniform(-2, 2), rng.uniform(-1, 0.2), rng.uniform(-0.3, 0.3)
            z = np.where(t < at, inner * (t - at), outer * (t - at)) + rng.normal(0, rng.choice([0.0, 0.02, 0.1]), n)
            error = lambda a, b: np.sum((np.polyval(np.polyfit(a, b, 1), a) - b) ** 2)  # noqa: E731
            sums = [error(t[:k], z[:k]) + error(t[k:], z[k:]) for k in range(3, n - 3)]
            k = 3 + int(np.argmin(sums))
            (a, b), (c, d) = np.polyfit(t[:k], z[:k], 1), np.polyfit(t[k:], z[k:], 1)
            meet = (d - b) / (a - c) if a != c else np.inf
            meet = meet if t[k - 3] <= meet <= t[k + 2] else t[k]
            clear = abs(a) - abs(c) > np.tan(np.radians(8)) and min(sums) < 0.6 * error(t, z)
            if np.partition(sums, 1)[1] - min(sums) < 1e-9:
                continue  # two places as good as each other
            found = pulling._break_of_slope(t, z)
            self.assertEqual(np.isfinite(found), clear, trial)
            seen += clear
            if clear:
                self.assertAlmostEqual(found, meet, places=6, msg=trial)
        self.assertGreater(seen, 30)

    def test_three_in_a_row_move_the_line_and_two_do_not(self):
        grid = self.grid(lambda xy: 0 * xy[..., 0])
        ring = circle(10, 40) + FAR[:2]
        for row, far in ((2, 10.5), (3, 11.5)):
            calls = iter(range(10_000))
            with mock.patch.object(pulling, "_break_of_slope", lambda *_, r=row, i=calls: 1.5 if 60 <= next(i) < 60 + r else 0.5):
                found = pulling.pulled(grid, ring, 1.0) - FAR[:2]
            self.assertAlmostEqual(np.hypot(*found.T).max(), far, delta=0.04)

    def grid(self, height):
        side = (np.arange(160) + 0.5) * 0.25 - 20
        z = height(np.stack(np.meshgrid(side, side), axis=-1))
        return HeightGrid(np.array([-20.0, -20.0]) + FAR[:2], 0.25, z, np.ones(z.shape, np.int64))

    def test_a_line_comes_to_the_foot(self):
        grid = self.grid(lambda xy: np.maximum(0, 10 - np.hypot(xy[..., 0], xy[..., 1])) * 0.7)
        found = pulling.pulled(grid, circle(10.8, 40) + FAR[:2], 2.0) - FAR[:2]
        near(np.hypot(*found.T), np.full(len(found), 10.0), atol=0.15)
        for corners in (5, 6, 9):
            # At the corners of a rough line what moves inwards runs over itself: small loops that go.
            rough = pulling.pulled(grid, circle(13.0, corners) + FAR[:2], 4.0)
            self.assertAlmostEqual(polygon.area(rough) / (100 * np.pi), 1.0, delta=0.02)
        with self.assertRaisesRegex(NotDeterminable, "no clear break"):
            pulling.pulled(grid, circle(14, 40) + FAR[:2], 2.0)
        with self.assertRaisesRegex(NotDeterminable, "no clear break"):
            pulling.pulled(self.grid(lambda xy: 0.3 * xy[..., 0]), circle(10, 40) + FAR[:2], 2.0)
        quarter = self.grid(
            lambda xy: np.maximum(0, 10 - np.hypot(xy[..., 0], xy[..., 1])) * 0.7 * (np.arctan2(xy[..., 1], xy[..., 0]) > 1.2)
        )
        with self.assertRaises(NotDeterminable):
            pulling.pulled(quarter, circle(10.5, 40) + FAR[:2], 2.0)


class NotSeen(unittest.TestCase):
    def twin(self, samples, weights, block):
        """The same bound with plain inverses of the whole covariance, model by model."""
        z = samples[:, 2] - samples[:, 2].mean()
        shift = samples[:, :2].mean(axis=0)
        at, places = samples[:, :2] - shift, block - shift
        both = np.concatenate([at, places])
        size = np.hypot(*np.ptp(both, axis=0))
        away = lambda a, b: np.linalg.norm(a[:, None] - b[None], axis=2)  # noqa: E731
        between = away(at, at)
        n = len(z)
        nearest = np.median([np.sort(row)[1] for row in between])
        least = max(2 * nearest, 0.01 * size)
        trend, over_block = np.column_stack([np.ones(n), at / size]), np.append(1.0, places.mean(axis=0) / size)
        rows = []
        for length in np.geomspace(least, max(2 * size, 1.5 * least), 8):
            for name in ("exponential", "matern"):
                if name == "exponential":
                    shape = lambda h: np.exp(-3 * h)  # noqa: E731
                else:
                    shape = lambda h: (1 + 5.918 * h + (5.918 * h) ** 2 / 3) * np.exp(-5.918 * h)  # noqa: E731
                for noise in (1e-4, 1e-3, 0.01, 0.1, 1.0, 8.0):
                    whole = shape(between / length) + noise * np.eye(n)
                    inverse = np.linalg.inv(whole)
                    normal = trend.T @ inverse @ trend
                    plane = np.linalg.solve(normal, trend.T @ inverse @ z)
                    rest = z - trend @ plane
                    square = max(rest @ inverse @ rest, 1e-18 * n)
                    likely = (-0.5 * np.linalg.slogdet(whole)[1] - 0.5 * np.linalg.slogdet(normal)[1]
                              - 0.5 * (n - 3) * np.log(square))  # fmt: skip
                    over = shape(away(at, places) / length).mean(axis=1)
                    mean = over_block @ plane + over @ inverse @ rest
                    gap = over_block - trend.T @ inverse @ over
                    variance = (shape(away(places, places) / length).mean() - over @ inverse @ over
                                + gap @ np.linalg.solve(normal, gap))  # fmt: skip
                    sigma2 = square / (n - 3)
                    rows.append((likely, weights @ z - mean, np.sqrt(max(variance, 0) * sigma2), sigma2, length))
        table = np.array(rows)
        weight = np.exp(0.5 * (table[:, 0] - table[:, 0].max()))
        weight /= weight.sum()
        freedom = np.clip(n * nearest / table[:, 4], 4.0, n - 3)
        scale = np.maximum(table[:, 2], 1e-12)

        def inside(u):
            cdf = scipy.stats.t.cdf
            return weight @ (cdf((u - table[:, 1]) / scale, freedom) - cdf((-u - table[:, 1]) / scale, freedom))

        u95 = scipy.optimize.brentq(lambda u: inside(u) - 0.95, 0, np.abs(table[:, 1]).max() + 50 * scale.max(), xtol=1e-12)
        return u95, np.sqrt(weight @ table[:, 3]), np.exp(weight @ np.log(table[:, 4]))

    def test_against_the_twin_where_samples_stand_in_pairs(self):
        """Closer together than a hundredth of the whole: no shorter range than that is thought of."""
        rng = np.random.default_rng(7)
        ring = np.repeat(circle(8, 12), 2, axis=0) + rng.normal(0, 0.01, (24, 2))
        samples = np.column_stack([ring, rng.normal(0, 0.1, 24)]) + FAR
        block = rng.uniform(-5, 5, (20, 2)) + FAR[:2]
        found = unseen.mean_error(samples, np.full(24, 1 / 24), block)
        near([found.u95, found.spread, found.range], self.twin(samples, np.full(24, 1 / 24), block), atol=1e-6)

    def test_thinned(self):
        samples, weights = np.arange(21.0).reshape(7, 3), np.arange(7.0)
        same, also = unseen.thinned(samples, weights, 7)
        self.assertIs(same, samples)
        self.assertIs(also, weights)
        joined, sums = unseen.thinned(samples, weights, 3)
        near(joined, [samples[:3].mean(axis=0), samples[3:5].mean(axis=0), samples[5:].mean(axis=0)])
        near(sums, [3, 7, 11])
        self.assertEqual(len(unseen.thinned(np.zeros((500, 3)), np.ones(500))[0]), 120)

    def test_too_few_or_on_a_line(self):
        ring = np.column_stack([circle(5, 6), np.zeros(6)])
        block = circle(2, 5)
        self.assertTrue(np.isfinite(unseen.mean_error(ring + [0, 0, 1], np.full(6, 1 / 6), block).u95))
        self.assertEqual(unseen.mean_error(ring[:5], np.full(5, 0.2), block).u95, np.inf)
        row = np.column_stack([np.arange(8.0), 2 * np.arange(8.0), np.zeros(8)])
        self.assertEqual(unseen.mean_error(row, np.full(8, 1 / 8), block).u95, np.inf)


def field(places, spread, length, rng):
    """One draw of a random field with exponential correlation (5 % left at ``length``), by its covariance."""
    away = np.hypot(*(places[:, None] - places[None]).transpose(2, 0, 1))
    root = np.linalg.cholesky(spread**2 * np.exp(-3 * away / length) + 1e-12 * np.eye(len(places)))
    return root @ rng.normal(size=len(places))


def inner(radius, about=140):
    """Places spread evenly over a disc."""
    side = np.linspace(-radius, radius, int(np.sqrt(about * 4 / np.pi)))
    places = np.stack(np.meshgrid(side, side), -1).reshape(-1, 2)
    return places[np.hypot(*places.T) < 0.98 * radius]


class Mean(unittest.TestCase):
    RING, BLOCK = circle(8, 50), inner(8)
    EVEN = np.full(50, 1 / 50)

    def case(self, seed, spread=0.05, length=8.0, tilt=(0.02, -0.01)):
        rng = np.random.default_rng(seed)
        both = np.concatenate([self.RING, self.BLOCK])
        z = field(both, spread, length, rng) + both @ tilt
        samples = np.column_stack([self.RING, z[:50] + rng.normal(0, 0.002, 50)]) + FAR
        return samples, float(z[:50].mean() - z[50:].mean())

    def test_the_truth_lies_within_it_as_often_as_it_says(self):
        inside, bounds, errors = [], [], []
        for seed in range(45):
            length = [2.0, 8.0, 20.0][seed % 3]
            samples, error = self.case(seed, length=length)
            bound = mean_error(samples, self.EVEN, self.BLOCK + FAR[:2]).u95
            inside.append(abs(error) <= bound)
            bounds.append(bound)
            errors.append(abs(error))
        self.assertTrue(0.9 <= np.mean(inside) <= 1.0, np.mean(inside))
        self.assertTrue(2.0 < np.mean(bounds) / np.mean(errors) < 4.5, np.mean(bounds) / np.mean(errors))

    def test_it_scales_with_the_ground_and_knows_no_place_tilt_or_unit(self):
        samples, _ = self.case(5)
        block = self.BLOCK + FAR[:2]
        first = mean_error(samples, self.EVEN, block)
        tilted = samples + np.column_stack([np.zeros((50, 2)), 0.3 * (samples[:, 0] - FAR[0])])
        self.assertAlmostEqual(mean_error(tilted, self.EVEN, block).u95 / first.u95, 1.0, places=4)
        feet = mean_error(samples / 0.3048, self.EVEN, block / 0.3048)
        self.assertAlmostEqual(feet.u95 * 0.3048 / first.u95, 1.0, places=4)
        self.assertAlmostEqual(feet.range * 0.3048 / first.range, 1.0, places=4)
        here = mean_error(samples - FAR, self.EVEN, self.BLOCK)
        self.assertAlmostEqual(here.u95 / first.u95, 1.0, places=4)
        higher = samples.copy()
        higher[:, 2] = FAR[2] + 3 * (samples[:, 2] - FAR[2])
        self.assertAlmostEqual(mean_error(higher, self.EVEN, block).u95 / first.u95, 3.0, places=3)

    def test_a_perfect_plane_leaves_nothing_open(self):
        samples = np.column_stack([self.RING, self.RING @ [0.1, 0.2]]) + FAR
        self.assertLess(mean_error(samples, self.EVEN, self.BLOCK + FAR[:2]).u95, 1e-6)

    def test_a_weight_on_one_side_is_less_sure(self):
        samples, _ = self.case(3)
        block = self.BLOCK + FAR[:2]
        lopsided = np.where(np.arange(50) < 10, 0.1, 0.0)
        self.assertGreater(mean_error(samples, lopsided, block).u95, 1.5 * mean_error(samples, self.EVEN, block).u95)
