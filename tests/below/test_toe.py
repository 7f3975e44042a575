"""Toe elevations and the pull to the break of slope."""

import unittest

import numpy as np

from kerb.core.errors import NotDeterminable
from kerb.core.geometry import polygon
from kerb.core.surface.grid import filled, gridded
from kerb.core.surface.toe import ACROSS_STEP, GROUND, NO_POINTS, TYPED, GroundReader, Search, moved, pulled
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
        kept = moved(toe, 0.5)
        self.assertLess(kept[:, 0].max(), ring[:, 0].max() + 0.3)

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
