"""What is judged from its surroundings: large things by their edges, lone points by gaps; closed forms and slow twins."""

import unittest

import numpy as np
from scipy.spatial import cKDTree

from kerb.core.cloud.large import LargeThing, judged
from kerb.core.cloud.lone import lone
from tests.support import near

NONE = np.empty((0, 2), int)
CELL, STEP = 2.0, 0.5
# Just a step, and just none, over a neighbour: 1.2 cells and a step.
OVER, UNDER = 1.2 * CELL + STEP + 1e-9, 1.2 * CELL + STEP


def slow_lone(points, spacing, least):
    """As the words of ``lone`` say, cell by cell and point by point."""
    found = np.zeros(len(points), bool)
    for cells in (4.0, 12.0):
        cell, rest = cells * spacing, np.flatnonzero(~found)
        gap, corner = max(least, cell / 2), points[rest, :2].min(axis=0)
        groups = {}
        for row in rest:
            groups.setdefault(tuple(np.floor((points[row, :2] - corner) / cell)), []).append(row)
        for rows in (np.array(group) for group in groups.values()):
            z = np.sort(points[rows, 2])
            if len(rows) < 5:
                continue
            below = max((k + 1 for k in range(3) if z[k + 1] - z[k] > gap), default=0)
            above = max((k + 1 for k in range(3) if z[-k - 1] - z[-k - 2] > gap), default=0)
            order = rows[np.argsort(points[rows, 2])]
            found[order[:below]] = True
            found[order[len(order) - above :]] = True
    reach, tree = max(least, 3 * spacing), cKDTree(points)
    return found & np.array([len(tree.query_ball_point(p, reach)) <= 3 for p in points])


class Lone(unittest.TestCase):
    def test_as_the_slow_way(self):
        """Steep ground of uneven density with birds in flocks of one to five, above and below, near and just too near."""
        for seed, least, spacing in ((1, 0.6, 0.1), (2, 0.15, 0.1), (3, 2.0, 0.3)):
            rng = np.random.default_rng(seed)
            ground = rng.uniform(0, 6, (3000, 2)) ** [1.0, 1.4]
            ground = np.column_stack([ground, 0.9 * ground[:, 0] + rng.normal(0, 0.02, 3000)])
            birds = []
            for size in (1, 2, 3, 4, 5) * 12:
                at = ground[rng.integers(3000)] + [0, 0, rng.choice([-1, 1]) * rng.uniform(0.2, 9.0)]
                birds.append(at + rng.normal(0, 0.3 * least, (size, 3)))
            points = np.concatenate([ground, *birds])
            wanted = slow_lone(points, spacing, least)
            self.assertGreater(np.count_nonzero(wanted), 8)
            self.assertEqual(np.flatnonzero(lone(points, spacing, least)).tolist(), np.flatnonzero(wanted).tolist(), seed)

    def test_the_limits(self):
        """One cell of four and one of five points; a gap that is just reached; whole steps, so that all is exact."""
        cell = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0], [0.5, 0.5, 8.0]])
        self.assertEqual(np.flatnonzero(lone(cell, 1.0, 4.0)).tolist(), [4])
        self.assertFalse(lone(cell[1:], 1.0, 4.0).any(), "four points say nothing")
        self.assertFalse(lone(cell, 1.0, 8.0).any(), "a gap must be exceeded")
        self.assertFalse(lone(cell * [1, 1, 0.25], 1.0, 1.0).any(), "half a cell of four spacings is two")
        self.assertEqual(np.flatnonzero(lone(cell * [1, 1, -1], 1.0, 4.0)).tolist(), [4], "below as well")


def scene(thing, height, rows=12, columns=9):
    """Flat ground at 0 with something of some cells on it; lowest elevations and what an opening left."""
    low = np.zeros((rows + 8, columns + 11))
    low[4 : 4 + rows, 6 : 6 + columns] += height
    bare = np.ones(low.shape, bool)
    bare[4 : 4 + rows, 6 : 6 + columns] = ~thing
    return low, bare


class Large(unittest.TestCase):
    def judge(self, low, bare, turned=NONE, known=None, step=STEP):
        known = np.ones_like(bare) if known is None else known
        return judged(low, bare, known, CELL, step, np.asarray(turned))

    def test_a_hall_and_a_pit(self):
        for height in (OVER, -OVER):
            low, bare = scene(np.ones((12, 9), bool), height)
            out, (hall,) = self.judge(low, bare)
            near([*hall.middle, hall.length, hall.width, hall.height], [10.0, 9.5, 24.0, 18.0, height])
            self.assertEqual((hall.stepped, hall.ground), (1.0, False))
            self.assertEqual(out.tolist(), bare.tolist())
            out, (turned,) = self.judge(low, bare, [[5, 7]])
            self.assertTrue(turned.ground and out.all(), "turned over by a click anywhere on it")
        low, bare = scene(np.ones((12, 9), bool), UNDER)
        out, (dam,) = self.judge(low, bare)
        self.assertTrue(dam.ground and out.all(), "what is just no step is a slope")
        self.assertEqual(dam.stepped, 0.0)
        out, (turned,) = self.judge(low, bare, [[15, 14]])
        self.assertEqual((turned.ground, out.tolist()), (False, bare.tolist()))

    def test_words(self):
        hall = LargeThing((0, 0), 100.4, 59.6, 10.04, 0.975, False)
        self.assertEqual(hall.words("m"), "100 × 60 m, 10.0 m high: no ground (a step along 98 % of its edge)")
        pit = LargeThing((0, 0), 8.0, 6.0, -2.0, 0.25, True)
        self.assertEqual(pit.words("ft"), "8 × 6 ft, 2.0 ft deep: ground (a step along 25 % of its edge)")
        self.assertEqual(LargeThing((0, 0), 8.0, 6.0, 0.0, 0.2, True).size("m"), "8 × 6 m, 0.0 m high")

    def test_the_share_of_the_edge(self):
        """12 × 8 cells have 40 sides: with 22 steps (0.55) it is no ground, with 21 it is; unknown neighbours do not count."""
        for steps, ground in ((22, False), (21, True)):
            low, bare = scene(np.ones((12, 8), bool), UNDER, 12, 8)
            # Ground beside the first sides lies a little lower: there it is a step.
            beside = [(r, 5) for r in range(4, 16)] + [(3, c) for c in range(6, 14)] + [(16, 6), (16, 7)]
            for row, column in beside[:steps]:
                low[row, column] -= 1e-6
            _, (thing,) = self.judge(low, bare)
            self.assertEqual((thing.stepped, thing.ground), (steps / 40, ground))
        low, bare = scene(np.ones((12, 8), bool), UNDER, 12, 8)
        low[4:16, 5] -= 1.0
        known = np.ones_like(bare)
        known[16, 6:14] = False
        _, (thing,) = self.judge(low, bare, known=known)
        self.assertEqual(thing.stepped, 12 / 32)
        near(thing.height, UNDER)

    def test_what_lies_apart(self):
        """A gap of two cells does not part a thing, one of three does."""
        for gap, count in ((2, 1), (3, 2)):
            low, bare = scene(np.ones((12, 20), bool), 9.0, columns=20)
            low[4:16, 14 : 14 + gap], bare[4:16, 14 : 14 + gap] = 0.0, True
            self.assertEqual(len(self.judge(low, bare)[1]), count)

    def test_how_many_cells_count(self):
        for taken, count in ((60, 1), (59, 0)):
            thing = np.zeros(12 * 9, bool)
            thing[:taken] = True
            low, bare = scene(thing.reshape(12, 9), 9.0)
            low[~bare] = 12.0
            self.assertEqual(len(self.judge(low, bare)[1]), count, taken)
        self.assertEqual(self.judge(np.full((9, 9), 1.0), np.ones((9, 9), bool))[1], [])

    def test_what_is_rough_is_no_ground(self):
        """Every cell of stripes lies their whole height off the median of its neighbours: a step and a twentieth of a cell."""
        for bump, ground in ((STEP + 0.05 * CELL, True), (STEP + 0.05 * CELL + 1e-6, False)):
            low, bare = scene(np.ones((12, 9), bool), 0.0)
            low[4:16, 6:15] = bump * (np.arange(9) % 2)
            _, (thing,) = self.judge(low, bare)
            self.assertEqual((thing.stepped, thing.ground), (0.0, ground))

    def test_at_the_rim_of_the_data_nothing_is_beside_it(self):
        """A hall in a corner of the grid: only its two inner sides count, and nothing comes round from the other end."""
        low, bare = np.full((20, 20), 3.0), np.ones((20, 20), bool)
        low[:10, :8], bare[:10, :8] = 9.0, False
        low[-1], low[:, -1] = 100.0, 100.0
        _, (hall,) = self.judge(low, bare)
        self.assertEqual((hall.stepped, hall.ground, hall.length, hall.width), (1.0, False, 20.0, 16.0))
        near(hall.height, 6.0)
