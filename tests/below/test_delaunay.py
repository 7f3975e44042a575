"""The triangulation: signs against fractions, triangles against SciPy, empty circles, lines kept, strays, lattices, doubles."""

import unittest
from fractions import Fraction
from unittest import mock

import numpy as np
import scipy
import shapely

from kerb.core.errors import NotDeterminable
from kerb.core.sorting import sorted_keys
from kerb.core.surface import delaunay as module
from kerb.core.surface.delaunay import Arranged, Halves, constrained, delaunay, doubles, in_steps
from kerb.core.surface.delaunay_kernels import cut_level, sort_ties
from kerb.core.surface.predicates_kernels import exact_circle, exact_side, in_circle, whole_circle
from kerb.core.surface.tin import triangulate


def canonical(triangles):
    triangles = np.sort(triangles, axis=1)
    return triangles[np.lexsort(triangles.T[::-1])]


def areas(places, triangles):
    a, b, c = (places[triangles[:, k]] for k in range(3))
    return 0.5 * ((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0])


def det_side(a, b, c):
    a, b, c = ([Fraction(float(v)) for v in p] for p in (a, b, c))
    return (a[0] - c[0]) * (b[1] - c[1]) - (a[1] - c[1]) * (b[0] - c[0])


def det_circle(a, b, c, d):
    rows = [[Fraction(float(u)) - Fraction(float(v)) for u, v in zip(p, d, strict=True)] for p in (a, b, c)]
    lift = [x * x + y * y for x, y in rows]
    cross = [rows[i][0] * rows[j][1] - rows[j][0] * rows[i][1] for i, j in ((1, 2), (2, 0), (0, 1))]
    return sum(p * q for p, q in zip(lift, cross, strict=True))


def sign(value):
    return (value > 0) - (value < 0)


class Signs(unittest.TestCase):
    def test_against_fractions(self):
        """Places in line and on one circle but for the last bits, as doubles and as whole numbers up to 2²⁶."""
        rng = np.random.default_rng(1)
        for trial in range(300):
            a, b = rng.uniform(-1, 1, (2, 2)) * 10.0 ** rng.integers(-3, 6)
            c = a + rng.uniform(-2, 2) * (b - a)
            if trial % 2:
                c = np.nextafter(c, c + rng.choice([-1, 1], 2))
            self.assertEqual(sign(exact_side(*a, *b, *c)), sign(det_side(a, b, c)))
            angle = np.sort(rng.uniform(0, 2 * np.pi, 4))[[0, 2, 3, 1]]
            on = rng.uniform(-1e3, 1e3, 2) + 10.0 ** rng.integers(-2, 4) * np.column_stack([np.cos(angle), np.sin(angle)])
            self.assertEqual(sign(exact_circle(*on.ravel())), sign(det_circle(*on)))
            self.assertEqual(in_circle(on, 0, 1, 2, 3, False), det_circle(*on) > 0)
            whole = rng.integers(0, 2 ** int(rng.integers(2, 27)), (4, 2)).astype(float)
            if trial % 3 == 0:
                whole[3] = whole[0] + whole[2] - whole[1]
                whole[1] = whole[0] + np.array([-1, 1]) * (whole[2] - whole[0])[::-1]
            if (whole < 0).any() or (whole >= 2**26).any():
                continue
            self.assertEqual(in_circle(whole, 0, 1, 2, 3, True), det_circle(*whole) > 0)
        square = np.array([[0, 0], [2**26 - 1, 0], [2**26 - 1, 2**26 - 1], [0, 2**26 - 1]], float)
        self.assertFalse(in_circle(square, 0, 1, 2, 3, True))
        square[3] += [1, -1]
        self.assertTrue(in_circle(square, 0, 1, 2, 3, True))
        big = 2**53 - 1
        for signs in ((1, 1, 1), (-1, 1, 1), (1, -1, -1), (1, -1, 0)):
            wanted = sum(s * big * (big - k) for k, s in enumerate(signs))
            found = whole_circle(*[float(big)] * 3, *(float(s * (big - k)) for k, s in enumerate(signs)))
            self.assertEqual(sign(found), sign(wanted))

    def test_levels_of_cuts(self):
        keys = [np.uint64(v) for v in (0b1000, 0b1001, 0b1001, 1 << 40, (1 << 40) + 2)]
        found = [cut_level(keys[k], keys[k + 1], k + 1) for k in range(4)]
        self.assertEqual(found, [64, 1, 64 + 40, 64 + 1])
        self.assertEqual([cut_level(keys[1], keys[1], k) for k in (1, 2, 3, 4, 6, 8)], [0, 1, 0, 2, 1, 3])


class Free(unittest.TestCase):
    def check(self, places, triangles):
        """Counter-clockwise, covering the hull once (Euler's formula), and no place inside a circle that a neighbour shares."""
        hull = scipy.spatial.ConvexHull(places)
        self.assertGreater(areas(places, triangles).min(), 0.0)
        self.assertAlmostEqual(areas(places, triangles).sum() / hull.volume, 1.0, 4)
        edges = np.sort(triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
        once, counts = np.unique(edges, axis=0, return_counts=True)
        rim = int((counts == 1).sum())
        self.assertEqual((len(triangles), len(once)), (2 * len(places) - 2 - rim, 3 * len(places) - 3 - rim))
        across, exact = {}, in_steps(places)[0]
        for t in triangles.tolist():
            for k in range(3):
                across[t[k], t[(k + 1) % 3]] = t[(k + 2) % 3]
        for (a, b), c in across.items():
            if (b, a) in across and a < b:
                self.assertLessEqual(det_circle(*exact[[a, b, c, across[b, a]]]), 0)

    def test_as_scipy_has_it(self):
        rng = np.random.default_rng(2)
        for n in (3, 4, 5, 7, 40, 1500, 60_000):
            for digits in (None, 3):
                places = rng.uniform(-30, 70, (n, 2)) * [1, 3]
                if digits:
                    places = np.unique(places.round(digits), axis=0)
                    rng.shuffle(places)
                found = delaunay(places)
                np.testing.assert_array_equal(canonical(found), canonical(scipy.spatial.Delaunay(places).simplices))
                self.assertGreater(areas(places, found).min(), 0.0)
                self.assertEqual(in_steps(places)[1], bool(digits))

    def test_whole_steps_far_off_whichever_side_is_long(self):
        """Millimetres far from nought, up to 2²⁶ of them along the longer side; a step more, or a place between, and they are not."""
        rng = np.random.default_rng(8)
        for wide in ((2**26 - 1, 900), (900, 2**26 - 1)):
            steps = np.column_stack([rng.integers(0, one + 1, 500) for one in wide])
            steps[:2] = (0, 0), wide
            far = np.array([500_000.0, 5_800_000.0])
            found, whole = in_steps(steps / 1000 + far)
            self.assertTrue(whole)
            np.testing.assert_array_equal(found, steps)
            longer = steps.copy()
            longer[1, np.argmax(wide)] += 1
            self.assertFalse(in_steps(longer / 1000 + far)[1])
            between = steps / 1000 + far
            between[-1, 1] += 0.0004
            self.assertFalse(in_steps(between)[1])

    def test_hard_places(self):
        """A lattice, one turned (no whole numbers), with a stray a million times as far, on a circle, in one column but for one."""
        rng = np.random.default_rng(3)
        grid = np.stack(np.meshgrid(np.arange(13.0), np.arange(9.0)), axis=-1).reshape(-1, 2)
        turn = np.array([[0.8, 0.6], [-0.6, 0.8]])
        angle = np.arange(40) * 2 * np.pi / 40
        ring = np.column_stack([np.cos(angle), np.sin(angle)])
        column = np.column_stack([np.zeros(50), rng.permutation(50)])
        dense = 1e-7 * rng.uniform(0, 1, (300, 2))
        for places in (
            grid, grid * 0.1, grid @ turn + np.pi, np.concatenate([grid + 0.5, [[9e6, 3e6]]]), ring, ring.round(2),
            np.concatenate([column, [[1.0, 17.0]]]), np.concatenate([dense, [[1e4, -7e3]]]),
        ):  # fmt: skip
            self.check(places, delaunay(places))

    def test_no_surface(self):
        for places in (np.zeros((2, 2)), np.column_stack([np.arange(9.0), 2 * np.arange(9.0)])):
            with self.assertRaises(NotDeterminable):
                delaunay(places)
        slope = np.column_stack([np.arange(4000.0), np.zeros(4000)]) / 3
        with self.assertRaisesRegex(NotDeterminable, "one line"):
            delaunay(slope)

    def test_the_same_in_any_parts_and_on_any_number_of_cores(self):
        places = np.random.default_rng(4).uniform(0, 9, (20_000, 2))
        whole = canonical(delaunay(places))
        for part in (50, 700):
            with mock.patch.object(module, "PART", part):
                np.testing.assert_array_equal(canonical(delaunay(places)), whole)

    def test_doubles(self):
        places = np.array([[1.0, 2], [3, 4], [1, 2], [np.pi, 0], [3, 4], [np.pi, 1e-30]])
        found = doubles(Arranged.of(places))
        self.assertEqual((found[0] == found[2], found[1] == found[4], len(set(found.tolist()))), (True, True, 4))
        self.assertIsNone(doubles(Arranged.of(places[[0, 1, 3]])))
        self.assertIsNone(doubles(Arranged.of(places[:2])))
        near = np.array([[0.0, 0], [0.001, 0], [0.001 + 1e-10, 0]])
        self.assertEqual(doubles(Arranged.of(near)).tolist(), [0, 1, 1], "apart by rounding only")

    def test_sorting(self):
        rng = np.random.default_rng(5)
        for n, most in ((1000, 50), (300_000, 2**60), (300_000, 700), (250_000, 1), (0, 1)):
            keys = rng.integers(0, most, n).astype(np.uint64)
            order, ordered = sorted_keys(keys)
            np.testing.assert_array_equal(order, np.argsort(keys, kind="stable"))
            np.testing.assert_array_equal(ordered, keys[order])
        # Nearly all in the first buckets, and by twos, the larger first, all the way up.
        twos = (
            np.arange(60, dtype=np.uint64)[:, None] * np.uint64(2**54) + np.uint64(2**53) - np.arange(2, dtype=np.uint64)
        ).ravel()
        keys = np.concatenate([rng.integers(0, 2**40, 300_000).astype(np.uint64), twos])
        np.testing.assert_array_equal(sorted_keys(keys)[1], np.sort(keys))
        xy = np.array([[2.0, 1], [1, 5], [1, 3], [0, 0], [2, 0]])
        order = np.arange(5)
        self.assertTrue(sort_ties(xy, np.array([7, 7, 7, 8, 9], np.uint64), order))
        self.assertEqual(order.tolist(), [2, 1, 0, 3, 4])
        self.assertFalse(sort_ties(np.zeros((300, 2)), np.zeros(300, np.uint64), np.arange(300)))


class WithLines(unittest.TestCase):
    def test_a_line_through_places_and_many_edges(self):
        """A breakline along a row of a lattice and one across everything: all are edges; one that crosses another is not made."""
        grid = np.stack(np.meshgrid(np.arange(20.0), np.arange(20.0)), axis=-1).reshape(-1, 2)
        row = constrained(grid, np.array([[40, 59], [1, 398]]), 0)
        self.assertIsNone(row, "they cross between places")
        some = np.concatenate([np.random.default_rng(7).uniform(0, 19, (500, 2)), [[-1.0, 7.3], [20, 9.1]]])
        mesh = Halves.of(some)
        self.assertTrue(mesh.follow(np.array([[500, 501]]), 0))
        found = mesh.triangles()
        edges = {tuple(sorted(e)) for e in found[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2).tolist()}
        self.assertIn((500, 501), edges)
        self.assertGreater(areas(some, found).min(), 0.0)
        along = constrained(grid, np.array([[40, 59]]), 0)
        edges = {tuple(sorted(e)) for e in along[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2).tolist()}
        self.assertTrue(all((k, k + 1) in edges for k in range(40, 59)))

    def test_a_line_across_a_notch_is_no_wall(self):
        """The outline is L-shaped; a line from tip to tip, outside of it, encloses nothing."""
        corners = np.array([[0.0, 0], [4, 0], [4, 2], [2, 2], [2, 4], [0, 4]])
        ring = np.column_stack([np.arange(6), np.roll(np.arange(6), -1)])
        for lines, area in (([[2, 4]], 12.0), ([[0, 3], [2, 4]], 12.0)):
            found = constrained(corners, np.concatenate([ring, lines]), 6)
            self.assertAlmostEqual(float(areas(corners, found).sum()), area)
        self.assertAlmostEqual(float(areas(corners, constrained(corners, np.concatenate([ring, [[2, 4]]]), 7)).sum()), 14.0)

    def test_holes_and_lines_within_a_ring(self):
        rng = np.random.default_rng(8)
        ring = np.array([[0, 0, 0.0], [30, 0, 0], [30, 20, 0], [0, 20, 0]])
        hole = np.array([[5, 5, 0.0], [12, 6, 0], [9, 14, 0]])
        line = np.array([[15, 3, 1.0], [22, 9, 1], [16, 17, 1]])
        points = np.column_stack([rng.uniform(-5, 35, (400, 2)), np.zeros(400)])
        wanted = 600 - shapely.Polygon(hole[:, :2]).area
        tin = triangulate(points, ring, [line], [hole])
        self.assertAlmostEqual(tin.plan_area, wanted, 9)
        self.assertAlmostEqual(triangulate(points, ring, [line]).plan_area, 600.0, 9)
        near = tin.at(np.array([[18.5, 6.0], [10, 9]]))
        self.assertAlmostEqual(near[0], 1.0, 6)
        self.assertTrue(np.isnan(near[1]))


if __name__ == "__main__":
    unittest.main()
