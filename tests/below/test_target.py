"""Centres of painted targets against known ones: discs and squares, bright and dark, dense on one side, in both units."""

import unittest

import numpy as np

from kerb.core.cloud.target import chequer, middle_of, target
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


def chequered(rng, at, turn, half=0.1, wall=0.6, many=24_000, noise=0.1, dense=1.0, slope=0.0):
    """Points in a square of 1.8 m about the origin, denser on the west side, with a chequer on a wall: places and brightness."""
    xy = rng.uniform(-0.9, 0.9, (many, 2))
    xy = xy[(xy[:, 0] < 0) | (rng.random(many) < dense)]
    seen = xy - at + rng.normal(0, 0.003, xy.shape)
    u, v = seen @ [np.cos(turn), np.sin(turn)], seen @ [-np.sin(turn), np.cos(turn)]
    level = np.where(np.maximum(abs(u), abs(v)) > half, wall, u * v > 0)
    return xy, level + slope * xy[:, 0] + rng.normal(0, noise, len(xy))


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

    def test_chequers_of_any_turn(self):
        """On walls of any brightness, seen unevenly, lit from a side, of some sizes: points lie 12 mm apart (6 mm the last), and the
        rms of the places is a tenth to a third of that, half where one side has less."""
        rng, quarter = np.random.default_rng(7), np.pi / 2
        for about, most in (
            ({}, 0.003), ({"wall": 1.0}, 0.003), ({"wall": 0.0}, 0.003), ({"dense": 0.3}, 0.006), ({"slope": 0.5}, 0.003),
            ({"half": 0.3}, 0.0015), ({"many": 96_000, "half": 0.07}, 0.002),
        ):  # fmt: skip
            off, turned = [], []
            for unit in (1.0, 1 / 0.3048) * 5:
                at, turn = rng.uniform(-0.12, 0.12, 2), rng.uniform(0, np.pi)
                xy, level = chequered(rng, at, turn, **about)
                found = chequer(xy * unit, level * 900, 0.4 * unit)
                off.append(np.array(found.place) / unit - at)
                turned.append((found.turn - turn + quarter / 2) % quarter - quarter / 2)
                self.assertLessEqual(found.radius, 0.4 * unit)
                self.assertTrue(0 <= found.turn < quarter)
            self.assertLess(np.sqrt(np.mean(np.sum(np.square(off), axis=1))), most, about)
            near(np.mean(off, axis=0), [0, 0], most)
            self.assertLess(np.max(np.abs(turned)), 0.15, about)

    def test_what_is_no_chequer(self):
        """Noise, a disc, a square and the corner where a dark square meets the wall; a mark is then taken as one, where it is."""
        rng = np.random.default_rng(8)
        for k in range(12):
            xy, _ = chequered(rng, np.zeros(2), 0.3)
            at = rng.uniform(-0.1, 0.1, 2)
            shape = (np.hypot(*(xy - at).T) < 0.15, (np.abs(xy - at) < 0.12).all(axis=1), (xy > at).all(axis=1), xy[:, 0] < -9)[
                k % 4
            ]
            level = shape + rng.normal(0, 0.1, len(xy))
            with self.assertRaisesRegex(NotDeterminable, "four fields"):
                chequer(xy, level, 0.4)
            if k % 4 < 2:
                near(middle_of(xy, level, 0.5).place, at, 0.006)
        with self.assertRaisesRegex(NotDeterminable, "needs 30"):
            chequer(xy[:20] / 9, level[:20], 0.4)
        # Four fields that run into one another at their edges, and all over; of which some and too many points are the other colour.
        near(chequer(xy, np.tanh(10 * xy).prod(axis=1), 0.4).place, [0, 0], 0.003)
        for share, good in ((0.08, True), (0.14, False)):
            flipped = xy.prod(axis=1) * np.where(rng.random(len(xy)) < share, -1, 1)
            if good:
                near(chequer(xy, np.sign(flipped), 0.4).place, [0, 0], 0.006)
            else:
                with self.assertRaisesRegex(NotDeterminable, "four fields"):
                    chequer(xy, np.sign(flipped), 0.4)
        with self.assertRaisesRegex(NotDeterminable, "four fields"):
            chequer(xy, np.tanh(2 * xy).prod(axis=1), 0.4)

    def test_specks_beside_do_not_pull(self):
        rng = np.random.default_rng(6)
        for shape in ("disc", "square"):
            xy, level = painted(rng, shape, np.array([0.05, 0.0]), noise=20.0)
            speck = (np.abs(xy - [-0.33, 0.1]) < 0.03).all(axis=1) | (np.abs(xy - [-0.3, -0.12]) < 0.03).all(axis=1)
            level[speck] = 2000.0
            near(target(xy, level, 0.45).place, [0.05, 0.0], 0.006)
            # Six times their spread apart, bright and dark differ clearly.
            xy, level = painted(rng, shape, np.array([0.0, 0.05]), noise=230.0)
            near(target(xy, level, 0.45).place, [0.0, 0.05], 0.01)
        side = (np.arange(6) - 2.5) * 0.1
        thirty = np.stack(np.meshgrid(side, side[:5] + 0.05), axis=-1).reshape(-1, 2)
        light = 1000.0 * (np.abs(thirty - [0.05, 0]).max(axis=1) < 0.12)
        near(target(thirty, light, 0.45).place, [0.05, 0.0], 0.05)
        with self.assertRaisesRegex(NotDeterminable, "29 points"):
            target(thirty[1:], light[1:], 0.45)

    def test_what_is_no_target(self):
        rng = np.random.default_rng(4)
        xy, level = painted(rng, "disc", np.zeros(2))
        for points, values, radius, words in (
            (xy, rng.normal(900, 100, len(xy)), 0.45, "stands out"), (xy, np.full(len(xy), 7.0), 0.45, "alike"),
            (xy[:40], level[:40], 0.1, "needs 30"), (xy, level, 0.16, "too much or too little"),
        ):  # fmt: skip
            with self.assertRaisesRegex(NotDeterminable, words):
                target(points, values, radius)
