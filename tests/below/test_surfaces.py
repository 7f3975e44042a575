"""Surfaces by hand and against twins: grids, triangles, their index, contours, spots, stable ground, mending."""

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
from kerb.core.reference import local_grid
from kerb.core.surface import grid, mending, tin
from kerb.core.surface.contours import contours
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.surface.frames import BINS, about_axis
from kerb.core.surface.grid import HeightGrid, filled, gridded
from kerb.core.surface.making import Departure, Shape, departure, surface_from
from kerb.core.surface.mending import Mended
from kerb.core.surface.overlay import mask_of
from kerb.core.surface.spots import SpotGrid, spot_levels
from kerb.core.surface.stable import proposals, stable_ground
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


class Triangles(unittest.TestCase):
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
                wanted = corner[k, 0, 2] + s[k] * (corner[k, 1, 2] - corner[k, 0, 2]) + r[k] * (corner[k, 2, 2] - corner[k, 0, 2])
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
        self.assertFalse(np.isfinite(triangulate(points, self.SQUARE, holes=[hole]).at(np.array([[3.0, 3]]) + FAR[:2])).any())
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


class Edges(unittest.TestCase):
    def test_breaklines_stay_open_and_rings_close(self):
        place = np.arange(9)
        found = tin._edges(place, [4, 3, 2], 1).tolist()
        self.assertEqual(found, [[0, 1], [1, 2], [2, 3], [3, 0], [4, 5], [5, 6], [7, 8]])
        self.assertEqual(tin._edges(place, [3, 3], 2).tolist(), [[0, 1], [1, 2], [2, 0], [3, 4], [4, 5], [5, 3]])
        self.assertEqual(tin._edges(np.array([0, 1, 1, 2]), [4], 0).tolist(), [[0, 1], [1, 2]], "no edge to itself")
        self.assertEqual(len(tin._edges(place, [], 0)), 0)


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
        for way in ([3.0, -4.0, 0.0], [3.0, 4.0, 0.0], [-3.0, -4.0, 0.5]):
            # The axis runs up, and where it is level to the east, or else to the north.
            along_ = np.array(way) / np.linalg.norm(way)
            side = np.array([along_[1], -along_[0], 0.0]) / np.hypot(*along_[:2])
            tube = along[:, None] * along_ + 0.2 * (np.cos(turn)[:, None] * side + np.sin(turn)[:, None] * np.cross(side, along_))
            near(fitted(CYLINDER, tube + FAR).axis, along_, 1e-6)
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
            store, np.ones(441, bool), Thinning(spacing=0.5), Shape(ring=inner), Progress(lambda share, _: shares.append(share))
        )
        near(tin.points[:, 2], FAR[2] + (tin.points[:, :2] - FAR[:2]) @ [0.5, 0.25], 1e-9)
        self.assertTrue(
            shares == sorted(shares) and shares[0] < 0.4 and max(s for s in shares if s not in (0.5, 0.8)) <= 0.4, shares
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
                self.assertEqual(ends, sorted((len(one), bool((one[0] == one[-1]).all())) for one in theirs if len(one)))
                near(sum(line.length for line in ours), sum(np.hypot(*np.diff(one, axis=0).T).sum() for one in theirs), 1e-9)
        self.assertEqual(contours(Tin(np.zeros((0, 3)), np.zeros((0, 3), np.int32), np.zeros(3)), 1.0), [])


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
                    spot_levels(CloudTop(Scope("c").of(store)), nodes, take, 0.5, silent()) for take in ("lowest", "median")
                )
            for k in range(0, len(nodes), 7):
                mine = points[np.hypot(*(points[:, :2] - nodes[k]).T) <= 0.5, 2]
                near([lowest[k], middle[k]], [mine.min(), np.median(mine)])
        for radius in (0.0, -1.0, np.nan):
            with self.assertRaisesRegex(InputError, "above zero"):
                spot_levels(Scope("c").of(store), nodes, "lowest", radius, silent())

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

    def test_corners_of_a_box_may_have_levels(self):
        nodes, place = SpotGrid(1.0, tuple(FAR[:2])).nodes(FAR, FAR + 3)
        near(nodes, lattice(4) + FAR[:2])
        near(place, lattice(4)[:, ::-1])


class Stable(unittest.TestCase):
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

    def test_proposals_of_a_pit(self):
        """Without noise, to the cell: two cells from every border and from the pit; with noise, below."""
        dz = np.full((40, 100), 0.05)
        dz[:, 30:60] = -2.0
        near([part.area for part in proposals(dz, 2.0)], [36 * 36 * 4, 26 * 36 * 4], 1e-6)
        near(proposals(dz, 2.0)[1].bounds, [4, 4, 56, 76], 1e-6)
        self.assertEqual(len(proposals(np.full((5, 6), 0.1), 1.0, 1)), 0)

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


class MendedEdges(unittest.TestCase):
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
