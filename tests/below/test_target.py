"""Centres of painted targets against known ones: discs and squares, bright and dark, dense on one side, in both units."""

import unittest

import numpy as np

from kerb.core.cloud.target import otsu, target
from kerb.core.errors import NotDeterminable
from tests.support import near


def painted(rng, shape, at, n=4000, dense=1.0, bright=True, noise=120.0):
    """Points in a square of a metre about the origin, denser on the east side, with a mark 0.3 wide: places and intensity."""
    xy = rng.uniform(-0.5, 0.5, (n, 2))
    xy = xy[(xy[:, 0] < 0) | (rng.random(n) < dense) if dense < 1 else slice(None)]
    away = np.abs(xy - at)
    inside = np.hypot(*away.T) < 0.15 if shape == "disc" else (away < 0.15).all(axis=1)
    level = np.where(inside == bright, 2000.0, 600.0)
    return xy, level + rng.normal(0, noise, len(xy))


class Targets(unittest.TestCase):
    def test_centres_of_known_marks(self):
        rng = np.random.default_rng(3)
        for shape in ("disc", "square"):
            for bright in (True, False):
                for dense in (1.0, 0.4):
                    for unit in (1.0, 0.3048):
                        off = []
                        for _ in range(12):
                            at = rng.uniform(-0.1, 0.1, 2)
                            xy, level = painted(rng, shape, at, dense=dense, bright=bright)
                            found = target(xy / unit, level, 0.45 / unit)
                            off.append(np.array(found.place) * unit - at)
                            self.assertEqual(found.brighter, bright)
                        off = np.array(off)
                        self.assertLess(np.sqrt((off**2).sum(axis=1).mean()), 0.006, (shape, bright, dense, unit))
                        near(off.mean(axis=0), [0, 0], 0.004)

    def test_what_is_no_target(self):
        rng = np.random.default_rng(4)
        xy, level = painted(rng, "disc", np.zeros(2))
        for points, values, radius, words in (
            (xy, rng.normal(900, 100, len(xy)), 0.45, "stands out"), (xy, np.full(len(xy), 7.0), 0.45, "alike"),
            (xy[:40], level[:40], 0.1, "needs 30"), (xy, level, 0.16, "too much or too little"),
        ):  # fmt: skip
            with self.assertRaisesRegex(NotDeterminable, words):
                target(points, values, radius)

    def test_the_threshold_by_every_one_there_is(self):
        rng = np.random.default_rng(5)
        values = np.concatenate([rng.normal(10, 2, 700), rng.normal(30, 3, 300)])
        limit = otsu(values, 256)

        def within(t):
            low, high = values[values <= t], values[values > t]
            return len(low) * low.var() + len(high) * high.var()

        best = min(np.linspace(12, 28, 400), key=within)
        self.assertLess(within(limit) / within(best), 1.002)
        self.assertAlmostEqual(otsu(np.array([0.0, 0, 10, 10])), 5.0, delta=0.1)
