"""Surfaces where one step more or less would show: edges of grids, single triangles, helpers that do the work."""

import unittest
from unittest import mock

import numpy as np

from kerb.core.errors import InputError, NotDeterminable
from kerb.core.reference import local_grid
from kerb.core.surface import grid, tin
from kerb.core.surface.delaunay import delaunay
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.surface.grid import HeightGrid, filled, gridded
from kerb.core.surface.surfaces import CloudTop, GridSurface
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.surface.tin_kernels import locate
from kerb.core.units import METRE
from kerb.studies.scope import Scope
from tests.support import FAR, near, store_of


def located(surface: Tin, xy):
    """Triangle and elevation (relative to the origin) under each place (n, 2) in job coordinates."""
    index = surface.index
    found, out = np.empty(len(xy), np.int64), np.empty(len(xy))
    locate(surface.vertices, surface.triangles, index.low, index.inverse, index.shape, index.starts, index.listed,
           np.ascontiguousarray(xy - surface.origin[:2]), found, out)  # fmt: skip
    return found, out


class Grids(unittest.TestCase):
    def test_a_grid_covers_its_box_and_one_cell_more(self):
        points = np.array([[0.0, 0, 5], [3.9, 1.9, 7]])
        for size, shape in (((4.0, 2.0), (3, 5)), ((4.1, 2.0), (3, 6)), ((4.0, 2.1), (4, 5))):
            found = gridded(points, np.zeros(2), np.array(size), 1.0)
            self.assertEqual(found.shape, shape)
            self.assertEqual((found.z[0, 0], found.z[1, 3], int(found.count.sum())), (5.0, 7.0, 2))
            self.assertEqual(np.isnan(found.z).sum(), found.z.size - 2)
        none = gridded(np.empty((0, 3)), np.zeros(2), np.array([2.0, 1.0]), 1.0)
        self.assertTrue(np.isnan(none.z).all())

    def test_limits(self):
        for cell in (0.0, -0.1, np.nan):
            with self.assertRaisesRegex(InputError, "above zero"):
                gridded(np.zeros((1, 3)), np.zeros(2), np.ones(2), cell)
        with mock.patch.object(grid, "MAX_CELLS", 15):
            self.assertEqual(gridded(np.zeros((1, 3)), np.zeros(2), np.array([4.0, 2.0]), 1.0).shape, (3, 5))
        with mock.patch.object(grid, "MAX_CELLS", 14), self.assertRaisesRegex(InputError, "makes 15 cells; the most"):
            gridded(np.zeros((1, 3)), np.zeros(2), np.array([4.0, 2.0]), 1.0)

    def test_between_centres(self):
        z = np.array([[1.0, 2, 4], [3, 7, 13]])
        one = HeightGrid(np.array([10.0, 20.0]), 2.0, z, np.ones(z.shape, np.int64))
        near(one.centres(), [[11, 21], [13, 21], [15, 21], [11, 23], [13, 23], [15, 23]])
        near(one.at(one.centres()), z.ravel())
        near(
            one.at(np.array([[12.0, 21], [11, 22], [14.5, 22.5]])),
            [1.5, 2.0, 0.25 * (0.25 * 2 + 0.75 * 4) + 0.75 * (0.25 * 7 + 0.75 * 13)],
        )
        self.assertTrue(np.isnan(one.at(np.array([[10.9, 21], [15.1, 21], [11, 20.9], [11, 23.1]]))).all())

    def test_filling_needs_more_than_three_known_cells_around(self):
        z = np.full((5, 5), np.nan)
        z[1, 1], z[1, 3], z[3, 1] = 1.0, 3.0, 5.0
        where = ~np.isfinite(z)
        three = filled(HeightGrid(np.zeros(2), 1.0, z, where * 1), where)
        self.assertEqual(set(np.unique(three.z)), {1.0, 3.0, 5.0}, "each takes the nearest")
        z[3, 3] = 7.0
        four = filled(HeightGrid(np.zeros(2), 1.0, z, where * 1), np.ones((5, 5), bool))
        near([four.z[2, 2], four.z[1, 2], four.z[2, 1]], [4.0, 2.0, 3.0])
        row = np.array([[1.0, np.nan, 3, 4, 5, 6, np.nan]])
        line = filled(HeightGrid(np.zeros(2), 1.0, row, row), np.ones(row.shape, bool))
        self.assertEqual(line.z[0, 6], 6.0)
        self.assertIn(line.z[0, 1], (1.0, 3.0))

    def test_two_cells_about_a_gap_decide_it(self):
        """A plane with one wild cell three from the gap: it has no part in the filling."""
        rows, columns = np.mgrid[0:9, 0:9].astype(float)
        z = rows + 2 * columns
        wanted = z[4, 4]
        z[4, 4] = np.nan
        z[4, 7] = 1e6
        found = filled(HeightGrid(np.zeros(2), 1.0, z, z), np.ones(z.shape, bool))
        self.assertAlmostEqual(found.z[4, 4], wanted)


class Triangles(unittest.TestCase):
    def test_three_places_make_one_and_two_none(self):
        places = np.array([[0.0, 0], [4, 0], [0, 3]])
        self.assertEqual(delaunay(places).shape, (1, 3))
        with self.assertRaisesRegex(NotDeterminable, "three points, there are 2"):
            delaunay(places[:2])
        with self.assertRaisesRegex(NotDeterminable, "one line"):
            delaunay(np.array([[0.0, 0], [1, 1], [2, 2]]))
        points = np.column_stack([places, [1.0, 2, 3]]) + FAR
        self.assertAlmostEqual(triangulate(points).plan_area, 6.0)
        for few in (points[:2], np.repeat(points[:2], 3, axis=0)):
            with self.assertRaises(NotDeterminable):
                triangulate(few)
        with self.assertRaisesRegex(NotDeterminable, "there are 2"):
            triangulate(points[:2])

    def test_measures_of_one_triangle(self):
        """Sides 3, 4 and 5 in plan; risen by 4 over the side of 4, its area along the surface is 3 · √32 / 2."""
        one = triangulate(np.array([[0.0, 0, 0], [3, 0, 0], [0, 4, 4]]) + FAR)
        self.assertAlmostEqual(one.plan_area, 6.0)
        self.assertAlmostEqual(one.surface_area, 3 * np.sqrt(32) / 2, places=6)
        near(one.longest_edges, [5.0], atol=1e-6)
        near(
            one.at(np.array([[0.0, 2], [1, 1], [0, 0], [3, 0], [0, 4], [1.5, 2]]) + FAR[:2]),
            FAR[2] + np.array([2, 1, 0, 0, 4, 2.0]),
        )
        outside = np.array([[-1e-3, 1], [1, -1e-3], [1.51, 2], [3.001, 0], [0, 4.001]])
        self.assertTrue(np.isnan(one.at(outside + FAR[:2])).all())
        near(one.points.min(axis=0), FAR)

    def test_the_deepest_of_several(self):
        """A fan about a corner; each place is found in its own triangle, one on an edge or corner in the first of equals."""
        ring = np.array(
            [[2.0, 0, 1], [2, 2, 2], [0, 2, 3], [-2, 2, 4], [-2, 0, 5], [-2, -2, 6], [0, -2, 7], [2, -2, 8]]
        )
        corners = np.vstack([[[0.0, 0, 0]], ring])
        fan = np.array([[0, k + 1, (k + 1) % 8 + 1] for k in range(8)], np.int32)
        surface = Tin.of(corners + FAR, fan)
        middle = corners[fan][:, :, :2].mean(axis=1)
        found, z = located(surface, middle + FAR[:2])
        np.testing.assert_array_equal(found, np.arange(8))
        near(z + surface.origin[2] - FAR[2], corners[fan][:, :, 2].mean(axis=1))
        found, z = located(surface, np.array([[1.0, 0], [0, 0], [3, 0], [0, -2.5]]) + FAR[:2])
        self.assertIn(found[0], (0, 7))
        self.assertEqual(found[2:].tolist(), [-1, -1])
        self.assertTrue(np.isnan(z[2:]).all())
        near(z[:2] + surface.origin[2] - FAR[2], [0.5, 0.0])
        near(surface.at(np.array([[1.0, 0], [0, 0]]) + FAR[:2]), FAR[2] + np.array([0.5, 0.0]))

    def test_every_place_is_found_by_brute_force_too(self):
        rng = np.random.default_rng(8)
        surface = triangulate(np.column_stack([rng.uniform(0, [30, 7], (3000, 2)), rng.normal(0, 1, 3000)]) + FAR)
        places = rng.uniform([-1, -1], [31, 8], (400, 2)) + FAR[:2]
        found, z = located(surface, places)
        corner = surface.points[surface.triangles]
        for place, triangle, height in zip(places, found, z, strict=True):
            u, v, w = corner[:, 1, :2] - corner[:, 0, :2], corner[:, 2, :2] - corner[:, 0, :2], place - corner[:, 0, :2]
            det = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
            s, r = (w[:, 0] * v[:, 1] - w[:, 1] * v[:, 0]) / det, (u[:, 0] * w[:, 1] - u[:, 1] * w[:, 0]) / det
            inside = np.flatnonzero((s >= 0) & (r >= 0) & (s + r <= 1))
            self.assertEqual([triangle] if triangle >= 0 else [], inside.tolist())
            if triangle >= 0:
                k = inside[0]
                wanted = (
                    corner[k, 0, 2]
                    + s[k] * (corner[k, 1, 2] - corner[k, 0, 2])
                    + r[k] * (corner[k, 2, 2] - corner[k, 0, 2])
                )
                self.assertAlmostEqual(height + surface.origin[2], wanted, places=6)
        known = found >= 0
        near(surface.at(places)[known], z[known] + surface.origin[2])
        self.assertTrue(np.isnan(surface.at(places)[~known]).all())


class Index(unittest.TestCase):
    """How fine the grid over triangles is: too coarse is slow, too fine takes memory, and no figure would tell."""

    def row(self, n: int, far=()):
        """n squares of 2 by 1 in a row, two triangles each, with single triangles far off."""
        x = np.repeat(np.arange(n + 1) * 2.0, 2)
        corners = np.column_stack([x, np.tile([0.0, 1.0], n + 1), np.zeros(2 * n + 2)])
        first = 2 * np.arange(n)[:, None]
        cells = np.concatenate([first + [0, 2, 3], first + [0, 3, 1]])
        for place in far:
            k = len(corners)
            corners = np.vstack([corners, np.array(place) + [[0, 0, 0], [1, 0, 0], [0, 1, 0]]])
            cells = np.vstack([cells, [k, k + 1, k + 2]])
        return Tin(corners, cells.astype(np.int32), np.zeros(3))

    def test_cells(self):
        few = self.row(100).index
        self.assertAlmostEqual(1 / few.inverse, np.sqrt(200 * 1 / 4000))
        np.testing.assert_array_equal(few.shape, np.floor(np.array([200, 1]) * few.inverse).astype(int) + 1)
        many = self.row(9000).index
        self.assertAlmostEqual(1 / many.inverse, np.sqrt(18_000 * 1 / 9000))
        self.assertEqual(len(many.starts), many.shape.prod() + 1)
        self.assertEqual(many.starts[0], 0)
        self.assertEqual(many.starts[-1], len(many.listed))
        with mock.patch.object(tin, "MAX_INDEX_CELLS", 50):
            coarse = self.row(9000).index
        self.assertAlmostEqual(
            1 / coarse.inverse, 18_000 / 50, msg="a row is not cut finer than the most cells along it"
        )

    def test_every_triangle_is_listed_where_its_box_reaches(self):
        surface = self.row(60)
        index = surface.index
        cell = 1 / index.inverse
        for n in range(0, int(index.shape.prod()), 7):
            i, j = divmod(n, int(index.shape[1]))
            mine = set(index.listed[index.starts[n] : index.starts[n + 1]].tolist())
            box = surface.vertices[surface.triangles, :2]
            low, high = box.min(axis=1), box.max(axis=1)
            cells = np.floor((low - index.low) / cell), np.floor((high - index.low) / cell)
            top = index.shape - 1
            wanted = np.all((np.minimum(cells[0], top) <= [i, j]) & (np.minimum(cells[1], top) >= [i, j]), axis=1)
            self.assertEqual(mine, set(np.flatnonzero(wanted).tolist()), n)

    def test_a_few_far_out_do_not_make_it_coarse(self):
        """Beyond four times the extent of the middle 98 % a triangle belongs to the outermost cells."""
        plain = self.row(1000)
        n = 2000
        off = self.row(1000, [(1e6, 0, 5), (0, -1e6, 7)])
        low, high = off._middle_ends()
        first, last = np.percentile(plain.vertices[plain.triangles, :2].mean(axis=1), [1, 99], axis=0)
        room = last - first
        near([low[0], high[1]], [0.0, 1.0], atol=1e-9)
        near([high[0], low[1]], [last[0] + room[0], first[1] - room[1]], atol=5.0)
        self.assertLess(1 / off.index.inverse, 3.0)
        near(off.at(np.array([[1e6 + 0.2, 0.2], [0.2, 0.2 - 1e6], [700.3, 0.4]])), [5, 7, 0])
        within = self.row(1000, [(last[0] + 3.5 * room[0], 0, 5)])
        near(within._middle_ends()[1][0], last[0] + 3.5 * room[0] + 1, atol=5.0)
        few = self.row(100, [(1e6, 0, 5)])
        self.assertEqual(few._middle_ends()[1][0], 1e6 + 1, "of few triangles all count")
        self.assertEqual(n + 2, len(off.triangles))

    def test_origin(self):
        surface = triangulate(np.array([[0.4, 0.6, 0.7], [3, 0.6, 0.7], [0.4, 4, 4]]) + FAR)
        np.testing.assert_array_equal(surface.origin, FAR)
        np.testing.assert_array_equal(Tin.of(surface.points, surface.triangles).origin, FAR)


class Lines(unittest.TestCase):
    SQUARE = np.array([[0.0, 0, 1], [10, 0, 1], [10, 10, 1], [0, 10, 1]]) + FAR

    def test_a_hole_a_breakline_and_a_ring_cut_where_they_run(self):
        rng = np.random.default_rng(2)
        xy = rng.uniform(-2, 12, (600, 2))
        points = np.column_stack([xy, np.ones(600)]) + FAR
        hole = np.array([[2.0, 2, 1], [5, 2, 1], [5, 4, 1], [2, 4, 1]]) + FAR
        self.assertAlmostEqual(triangulate(points, self.SQUARE).plan_area, 100.0, places=6)
        self.assertAlmostEqual(triangulate(points, self.SQUARE, holes=[hole]).plan_area, 94.0, places=6)
        ridge = np.array([[1.0, 6, 5], [4, 7, 9], [9, 6, 5]]) + FAR
        whole = triangulate(points, self.SQUARE, lines=[ridge])
        self.assertAlmostEqual(whole.plan_area, 100.0, places=6)
        near(whole.at(np.array([[2.5, 6.5], [6.5, 6.5], [4, 7]]) + FAR[:2]), FAR[2] + np.array([7, 7, 9.0]), atol=1e-6)
        self.assertFalse(
            np.isfinite(triangulate(points, self.SQUARE, holes=[hole]).at(np.array([[3.0, 3]]) + FAR[:2])).any()
        )
        with self.assertRaisesRegex(InputError, "line round the surface"):
            triangulate(points, holes=[hole])
        with self.assertRaises(NotDeterminable):
            triangulate(points, self.SQUARE, holes=[self.SQUARE])

    def test_doubles_become_their_mean_in_the_order_given(self):
        points = np.array([[5.0, 5, 1], [0, 0, 2], [5, 5, 4], [9, 0, 3], [5, 5, 4], [0, 9, 6]]) + FAR
        surface = triangulate(points)
        near(surface.points - FAR, [[5, 5, 3], [0, 0, 2], [9, 0, 3], [0, 9, 6]])

    def test_crossing_lines_make_a_vertex_as_high_as_its_nearest(self):
        one = np.array([[0.0, 5, 1], [10, 5, 1]]) + FAR
        two = np.array([[6.0, 0, 3], [6, 10, 3]]) + FAR
        corners = self.SQUARE + [0, 0, 1.0]
        surface = triangulate(corners, lines=[one, two])
        near(surface.at(np.array([[6.0, 5]]) + FAR[:2]), FAR[2] + np.array([1.0]), atol=1e-6)
        self.assertEqual(len(surface.vertices), 9)
        self.assertAlmostEqual(surface.plan_area, 100.0)


class GridsAsSurfaces(unittest.TestCase):
    def test_the_part_asked_for_has_a_cell_more_on_each_side(self):
        rows, columns = np.mgrid[0:40, 0:60].astype(float)
        whole = ElevationGrid(columns + 100 * rows, (1.0, 0, 0, 0, -1.0, 40))
        surface = GridSurface(whole, local_grid(METRE))
        part = surface.tin(np.array([20.2, 10.2]), np.array([22.8, 12.8]))
        near(part.points[:, :2].min(axis=0), [19.5, 8.5])
        near(part.points[:, :2].max(axis=0), [24.5, 13.5])
        near(part.at(np.array([[21.0, 11.5]])), [20.5 + 100 * 28.0])
        corner = surface.tin(np.array([-5.0, -5.0]), np.array([0.9, 0.9]))
        near(corner.points[:, :2].min(axis=0), [0.5, 0.5])
        for low, high in (([-9.0, 5], [-3, 9]), ([63.0, 5], [70, 9]), ([8.0, 43], [11, 49]), ([8.0, -9], [11, -3])):
            with self.assertRaises(NotDeterminable):
                surface.tin(np.array(low), np.array(high))


class CloudTops(unittest.TestCase):
    def test_the_margin_is_five_spacings_and_a_twentieth_of_the_box(self):
        x = np.arange(0, 60, 0.25)
        xy = np.stack(np.meshgrid(x, x), axis=-1).reshape(-1, 2)
        cloud = store_of(np.column_stack([xy, 0 * xy[:, 0]]) + FAR)
        top = CloudTop(Scope().of(cloud))
        low, high = np.array([20.0, 25.0, -9.0]) + FAR, np.array([40.0, 30.0, 900.0]) + FAR
        room = 5 * cloud.spacing + 0.05 * 10.0
        part = top.tin(low, high).points - FAR
        for axis, (first, last) in enumerate(((20.0, 40.0), (25.0, 30.0))):
            self.assertTrue(first - room <= part[:, axis].min() < first - room + 0.26)
            self.assertTrue(last + room - 0.26 < part[:, axis].max() <= last + room)

    def test_three_points_make_a_top(self):
        three = np.array([[0.0, 0, 1], [4, 0, 2], [0, 4, 3]]) + FAR
        for n in (2, 3):
            top = CloudTop(Scope().of(store_of(three[:n])))
            if n == 3:
                self.assertEqual(len(top.tin(FAR, FAR + 4).triangles), 1)
            else:
                with self.assertRaisesRegex(NotDeterminable, "no points here"):
                    top.tin(FAR, FAR + 4)


class Edges(unittest.TestCase):
    def test_breaklines_stay_open_and_rings_close(self):
        place = np.arange(9)
        found = tin._edges(place, [4, 3, 2], 1).tolist()
        self.assertEqual(found, [[0, 1], [1, 2], [2, 3], [3, 0], [4, 5], [5, 6], [7, 8]])
        self.assertEqual(tin._edges(place, [3, 3], 2).tolist(), [[0, 1], [1, 2], [2, 0], [3, 4], [4, 5], [5, 3]])
        self.assertEqual(tin._edges(np.array([0, 1, 1, 2]), [4], 0).tolist(), [[0, 1], [1, 2]], "no edge to itself")
        self.assertEqual(len(tin._edges(place, [], 0)), 0)

    def test_all_in_one_place_has_an_index(self):
        index = Tin(np.zeros((3, 3)), np.array([[0, 1, 2]], np.int32), np.zeros(3)).index
        self.assertEqual(len(index.starts), index.shape.prod() + 1)
        self.assertTrue(0 < index.inverse < np.inf)

    def test_a_thousand_triangles_are_many(self):
        """From a thousand on a few that lie far out do not widen the index."""
        for squares, widened in ((499, True), (500, False)):
            row = Index().row(squares, [(1e6, 0, 5)])
            kept = Tin(row.vertices, row.triangles[1:], row.origin)
            self.assertEqual(len(kept.triangles), 2 * squares)
            self.assertEqual(kept._middle_ends()[1][0] == 1e6 + 1, widened)

    def test_points_on_a_line_and_nearly(self):
        line = np.column_stack([np.arange(50.0), 3 * np.arange(50.0), np.arange(50.0)])
        self.assertTrue(tin._on_line(line))
        line[7, 1] += 1e-3
        self.assertFalse(tin._on_line(line))
        self.assertAlmostEqual(triangulate(line + FAR).plan_area, 49 * 1e-3 / 2, delta=1e-6)
