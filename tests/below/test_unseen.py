"""The bound of a mean that is not seen: against simulated fields of known variogram, and what it must not depend on."""

import unittest

import numpy as np

from kerb.core.surface.unseen import mean_error, thinned
from tests.support import FAR, circle


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

    def test_too_few_samples_or_a_straight_row_have_no_bound(self):
        samples, _ = self.case(1)
        block = self.BLOCK + FAR[:2]
        self.assertEqual(mean_error(samples[:5], np.full(5, 0.2), block).u95, np.inf)
        row = np.column_stack([np.arange(50.0), np.zeros(50), samples[:, 2]])
        self.assertEqual(mean_error(row, self.EVEN, self.BLOCK).u95, np.inf)

    def test_a_weight_on_one_side_is_less_sure(self):
        samples, _ = self.case(3)
        block = self.BLOCK + FAR[:2]
        lopsided = np.where(np.arange(50) < 10, 0.1, 0.0)
        self.assertGreater(mean_error(samples, lopsided, block).u95, 1.5 * mean_error(samples, self.EVEN, block).u95)

    def test_thinning_keeps_sums_and_places(self):
        samples, _ = self.case(2)
        weights = np.linspace(0, 1, 50)
        some, left = thinned(samples, weights, 20)
        self.assertEqual(len(some), 20)
        self.assertAlmostEqual(left.sum(), weights.sum())
        self.assertAlmostEqual(float(some[0, 2]), float(samples[:3, 2].mean()))
        same, _ = thinned(samples, weights, 50)
        self.assertIs(same, samples)
