"""Toe elevations and the pull to the break of slope."""

import unittest

import numpy as np

from kerb.core.errors import NotDeterminable
from kerb.core.geometry import polygon
from kerb.core.surface.along import Filling, outwards
from kerb.core.surface.grid import filled, gridded
from kerb.core.surface.pulling import pulled
from kerb.core.surface.toe import ACROSS_STEP, GROUND, NO_POINTS, TYPED, GroundReader, Search
from tests.support import FAR, circle, frustum, jittered

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

    def test_a_tilted_plane_is_carried_across_gaps_exactly(self):
        z = self.xy @ [0.3, -0.2]
        spoilt = np.where(self.good, z, 99.0)
        np.testing.assert_allclose(self.filling().apply(spoilt), z, rtol=0, atol=1e-6)

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

    def test_outward_directions(self):
        away = outwards(circle(3, 60))
        np.testing.assert_allclose(away, circle(1, 60), atol=1e-9)


class Pull(unittest.TestCase):
    def setUp(self):
        grid = gridded(yard(), FAR[:2] - 16, FAR[:2] + 16, 0.2)
        self.grid = filled(grid, np.ones(grid.shape, bool))

    def test_a_rough_line_moves_to_the_foot(self):
        wobble = circle(10, 40) * (1 + 0.08 * np.sin(3 * np.linspace(0, 2 * np.pi, 40, endpoint=False)))[:, None]
        ring = pulled(self.grid, wobble + FAR[:2], 1.5)
        radius = np.hypot(*(ring - FAR[:2]).T)
        self.assertLess(np.abs(radius - 10).max(), 0.3)
        self.assertLess(abs(np.mean(radius) - 10), 0.12)

    def test_no_break_no_move(self):
        with self.assertRaisesRegex(NotDeterminable, "break of slope"):
            pulled(self.grid, circle(13.5, 30) + FAR[:2], 1.0)
