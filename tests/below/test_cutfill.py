"""Surfaces, contours, spot levels, cut and fill: closed forms, brute force, other libraries, units, signs, coverage by simulation."""

import json
import unittest
import unittest.mock
from dataclasses import replace

import ezdxf
import laspy
import matplotlib.cbook as cbook
import matplotlib.figure
import matplotlib.tri
import numpy as np
import pyogrio
import pyproj
import rasterio
import shapely

from kerb.core.cloud.thinning import Thinning
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.area import Area
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.surface.columns import several_layers
from kerb.core.surface.contours import Contour, contours, gradients, index_every, label_places, smoothed
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.surface.gridding import cell_levels, gaps_filled
from kerb.core.surface.making import Shape, departure, level_table, mean_level, surface_from
from kerb.core.surface.overlay import change, covered, mask_of, pieces, zero_lines
from kerb.core.surface.spikes import Spikes, spike_free
from kerb.core.surface.spots import SpotGrid, spot_levels
from kerb.core.surface.stable import proposals, stable_ground
from kerb.core.surface.surfaces import CloudTop
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.things import SURFACE, Placed
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.studies.cutfill.live import ready
from kerb.studies.cutfill.run import run
from kerb.studies.cutfill.series import follow, propose
from kerb.studies.cutfill.setup import CutfillSetup
from kerb.studies.drawn import Drawn, Item
from kerb.studies.scope import Scope
from kerb.studies.spots.run import grid_of, named
from kerb.studies.spots.setup import SpotsSetup
from kerb.studies.surface.run import run as make_surface
from kerb.studies.surface.setup import SurfaceSetup
from tests.support import FAR, CommandLine, near, sources_of, store_of

SQUARE = np.array([[0.0, 0], [100, 0], [100, 100], [0, 100]])


def surface(seed, height, n=500, shift=FAR, corners=SQUARE):
    """Random vertices in a square of 100 and its corners, at a height that is a function of place."""
    xy = np.concatenate([np.random.default_rng(seed).uniform(0, 100, (n, 2)), corners])
    return triangulate(np.column_stack([xy, height(xy)]) + shift)


def thing(tin):
    """A surface as a holding has it."""
    return Placed(SURFACE, TriangleMesh(tin.points, tin.triangles), local_grid(METRE))


def area(ring, name="a"):
    return Area((tuple(map(tuple, np.asarray(ring, float) + FAR[:2])),), name)


def item(ring, name="a", shift=FAR):
    return Item(name, name, Drawn.of(np.asarray(ring, float) + shift[:2]))


class Exact(unittest.TestCase):
    def test_crossing_planes_in_three_units(self):
        """z = 0.02 (x - 30) over a plane: cut 0.01 × 30² × 100 = 900, fill 0.01 × 70² × 100 = 4900."""
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            one, shift = 1 / unit.metres, FAR / unit.metres
            scale = lambda tin: Tin.of((tin.points - FAR) * one + shift, tin.triangles)  # noqa: E731, B023
            earlier = scale(surface(1, lambda p: 0.3 * p[:, 0] - 0.1 * p[:, 1]))
            later = scale(surface(2, lambda p: 0.3 * p[:, 0] - 0.1 * p[:, 1] + 0.02 * (p[:, 0] - 30)))
            found = change(earlier, later)
            for value, wanted, power in ((found.fill, 4900, 3), (found.cut, 900, 3), (found.net, 4000, 3),
                                         (found.fill_area, 7000, 2), (found.cut_area, 3000, 2), (found.area, 10_000, 2)):  # fmt: skip
                self.assertAlmostEqual(value * unit.metres**power / wanted, 1.0, 9)
            back = change(later, earlier)
            self.assertAlmostEqual(back.fill / found.cut, 1.0, 9)

    def test_pyramid_over_a_tilted_base_and_prismoid(self):
        """A pyramid of base 40 × 40 and height 9 on a slope holds 40² 9 / 3 = 4800; a prismoid between end areas by its formula."""
        slope = lambda p: 0.05 * p[:, 0] + 0.02 * p[:, 1]  # noqa: E731
        earlier = surface(5, slope)
        corners = np.array([[30.0, 30], [70, 30], [70, 70], [30, 70], [50, 50]])
        z = slope(corners) + np.array([0, 0, 0, 0, 9.0])
        later = triangulate(np.column_stack([corners, z]) + FAR, np.column_stack([corners[:4], z[:4]]) + FAR)
        found = change(earlier, later)
        self.assertAlmostEqual(found.fill / 4800, 1.0, 9)
        self.assertAlmostEqual(found.area / 1600, 1.0, 9)
        self.assertAlmostEqual(covered(earlier, None) - found.area, 8400, 5)
        # Section areas rise as (1 + x/10)(2 + x/5) 10 over 100: prismoidal formula L/6 (A1 + 4 Am + A2), any handbook.
        wedge = surface(6, lambda p: (1 + p[:, 0] / 10) * 0 + 0.03 * p[:, 0])
        plain = surface(7, lambda p: 0 * p[:, 0])
        trapezium = area([[0, 20], [100, 0], [100, 100], [0, 80]])
        wide = lambda x: 60 + 0.4 * x  # noqa: E731
        ends = [0.03 * x * wide(x) for x in (0.0, 50.0, 100.0)]
        wanted = 100 / 6 * (ends[0] + 4 * ends[1] + ends[2])
        self.assertAlmostEqual(change(plain, wedge, mask_of(trapezium)).fill / wanted, 1.0, 9)

    def test_random_surfaces_against_brute_force(self):
        """Every pair of triangles intersected by Shapely, and the mean of linear differences at the corners of what is left."""
        rng = np.random.default_rng(8)
        hole = area([[10, 10], [90, 20], [60, 90]])
        hole = Area((*hole.rings, tuple(map(tuple, np.array([[50.0, 30], [60, 35], [55, 50]]) + FAR[:2]))), "holed")
        for n in (6, 25):
            earlier = surface(int(rng.integers(99)), lambda p: rng.normal(0, 3, len(p)), n)
            later = surface(int(rng.integers(99)), lambda p: rng.normal(0, 3, len(p)), n)
            for cut_to in (None, hole):
                fill = cut = both = 0.0
                shape = shapely.Polygon(SQUARE) if cut_to is None else shapely.affinity.translate(cut_to.shape, *-FAR[:2])
                for t in later.triangles:
                    for s in earlier.triangles:
                        a, b = (tin.points[k, :2] - FAR[:2] for tin, k in ((later, t), (earlier, s)))
                        piece = shapely.Polygon(a).intersection(shapely.Polygon(b)).intersection(shape)
                        for part in shapely.get_parts(shapely.constrained_delaunay_triangles(piece)) if piece.area > 0 else ():
                            corner = shapely.get_coordinates(part)[:3]
                            solve = lambda tin, k: np.linalg.solve(  # noqa: E731
                                np.column_stack([tin.points[k, :2] - FAR[:2], np.ones(3)]), tin.points[k, 2])  # fmt: skip
                            h = np.column_stack([corner, np.ones(3)]) @ (solve(later, t) - solve(earlier, s))
                            both += part.area
                            up = part.area * _positive(h)
                            fill += up
                            cut += up - part.area * h.mean()
                found = change(earlier, later, None if cut_to is None else mask_of(cut_to))
                near([found.fill, found.cut, found.area], [fill, cut, both], 1e-5)

    def test_pieces_and_the_line_of_no_change(self):
        earlier, later = (
            surface(9, lambda p: 0.1 * p[:, 1], 200),
            surface(10, lambda p: 0.1 * p[:, 1] + p[:, 0] / 50 - 0.8, 200),
        )
        corners, dz = pieces(earlier, later)
        sides = corners[:, 1:, :2] - corners[:, :1, :2]
        size = 0.5 * np.abs(sides[:, 0, 0] * sides[:, 1, 1] - sides[:, 0, 1] * sides[:, 1, 0])
        near([size.sum(), size @ dz.mean(axis=1)], [10_000, change(earlier, later).net], 1e-4)
        line = zero_lines(corners, dz)
        near(line[:, :, 0] - FAR[0], np.full(line.shape[:2], 40.0), 1e-6)
        near(np.hypot(*(line[:, 0] - line[:, 1])[:, :2].T).sum(), 100.0, 1e-5)
        near(line[:, :, 2], later.at(line[:, :, :2].reshape(-1, 2)).reshape(-1, 2), 1e-6)


def _positive(h):
    """Mean over a triangle of what is above nought of a linear function with corner values h."""
    h = np.sort(h)[::-1]
    if h[2] >= 0 or h[0] <= 0:
        return max(h.mean(), 0.0)
    if h[1] <= 0:
        return h[0] / 3 * h[0] ** 2 / ((h[0] - h[1]) * (h[0] - h[2]))
    return h.mean() - h[2] / 3 * h[2] ** 2 / ((h[2] - h[0]) * (h[2] - h[1]))


class Contours(unittest.TestCase):
    def test_of_a_cone_and_a_plane(self):
        angle = np.arange(400) * 2 * np.pi / 400
        rim = np.column_stack([10 * np.cos(angle), 10 * np.sin(angle), np.zeros(400)])
        cone = triangulate(np.concatenate([rim, [[0, 0, 10.0]]]) + FAR)
        found = contours(cone, 1.0)
        near([line.level for line in found], FAR[2] + np.arange(1, 10))
        self.assertTrue(all(line.closed for line in found))
        sides = 2 * 400 * np.sin(np.pi / 400)
        near([line.length for line in found], sides * np.arange(9, 0, -1), 1e-6)
        plane = surface(11, lambda p: 0.1 * p[:, 0])
        lines = contours(plane, 2.0, base=100.5)
        near([line.level for line in lines], [100.5, 102.5, 104.5, 106.5, 108.5])
        near([line.length for line in lines], np.full(5, 100.0), 1e-6)
        for line in lines:
            near(line.xy[:, 0], np.full(len(line.xy), FAR[0] + 10 * (line.level - FAR[2])), 1e-6)
            self.assertFalse(line.closed)
        self.assertEqual([index_every(2.0, line.level, 100.5) for line in lines], [True, False, False, False, False])
        small, rng = surface(4, lambda p: 0.1 * p[:, 0], 12), np.random.default_rng(2)
        for order in (rng.permutation(16) for _ in range(40)):  # whichever vertex and edge is the first
            place = np.argsort(order).astype(np.int32)
            mixed = contours(Tin.of(small.points[order], place[small.triangles]), 1.0, base=100.5)
            near([line.length for line in mixed], np.full(10, 100.0), 1e-6)
        with self.assertRaisesRegex(InputError, "above zero"):
            contours(plane, 0.0)
        with self.assertRaisesRegex(InputError, "levels"):
            contours(plane, 1e-9)

    def test_real_elevations(self):
        """Matplotlib's sample of real elevations (Jacksboro fault, SRTM, 344 × 403 cells of 90 m, open): every contour as contourpy
        draws it on the same triangles, areas and volumes over levels as prisms added one by one, and cut and fill against a level."""
        with cbook.get_sample_data("jacksboro_fault_dem.npz") as data:
            z = data["elevation"][100:220, 150:290].astype(float)
        rows, columns = np.mgrid[0 : z.shape[0], 0 : z.shape[1]]
        # The half of a metre keeps levels off the whole metres of the sample, where lines run through vertices.
        terrain = triangulate(np.column_stack([columns.ravel() * 90.0, -rows.ravel() * 90.0, z.ravel() + 0.5]) + FAR)
        plain = matplotlib.tri.Triangulation(*(terrain.points[:, :2] - FAR[:2]).T, terrain.triangles)
        levels = FAR[2] + np.arange(300.0, 900, 40)
        figure = matplotlib.figure.Figure().subplots().tricontour(plain, terrain.points[:, 2], levels=levels)
        found = contours(terrain, 40.0, base=FAR[2] + 20.0)
        for level, theirs in zip(levels, figure.allsegs, strict=True):
            ours = [line for line in found if abs(line.level - level) < 1e-9]
            wanted = sum(np.hypot(*np.diff(one, axis=0).T).sum() for one in theirs)
            near(sum(line.length for line in ours), wanted, 1e-5 * max(wanted, 1))
            shut = [np.array_equal(one[0], one[-1]) for one in theirs if len(one)]
            self.assertEqual((len(ours), sum(line.closed for line in ours)), (len(shut), sum(shut)))
        corner = terrain.points[terrain.triangles]
        areas, volumes = level_table(terrain, levels[:1])
        whole = terrain.plan_areas * (corner[:, :, 2].mean(axis=1) - levels[0])
        clear = corner[:, :, 2].min(axis=1) >= levels[0]
        low = corner[:, :, 2].max(axis=1) <= levels[0]
        near(volumes[0], whole[clear].sum(), np.abs(whole[~clear & ~low]).sum() + 1e-6 * whole[clear].sum())
        near(areas[0], terrain.plan_areas[clear].sum(), terrain.plan_areas[~clear & ~low].sum() + 1e-3)
        box = terrain.points.min(axis=0), terrain.points.max(axis=0)
        sides = np.array([box[0], [box[1][0], box[0][1], 0], box[1], [box[0][0], box[1][1], 0]])
        flat = Tin.of(np.column_stack([sides[:, :2], np.full(4, levels[5])]), np.array([[0, 1, 2], [0, 2, 3]], np.int32))
        both = change(flat, terrain)
        near(both.net / ((corner[:, :, 2].mean(axis=1) - levels[5]) @ terrain.plan_areas), 1.0, 1e-9)
        near(both.fill, level_table(terrain, levels[5:6])[1][0], 1e-9 * both.fill)

    def test_through_vertices_on_a_level(self):
        """A lattice of whole elevations: every level runs through vertices, in lines that neither branch nor cross."""
        grid = np.stack(np.meshgrid(np.arange(9.0), np.arange(9.0)), axis=-1).reshape(-1, 2)
        tin = triangulate(np.column_stack([grid, np.minimum(grid[:, 0], 8 - grid[:, 0])]))
        found = contours(tin, 1.0)
        near(sorted({line.level for line in found}), [1, 2, 3, 4])
        lines = [shapely.LineString(line.xy) for line in found if line.level < 4]
        self.assertEqual(len(lines), 6)
        self.assertTrue(all(line.length == 8.0 and line.is_simple for line in lines))

    def test_smooth_ones_never_cross_and_keep_the_vertices(self):
        rough = surface(13, lambda p: np.random.default_rng(1).normal(0, 2, len(p)), 300, np.zeros(3))
        fine = smoothed(rough)
        self.assertEqual(len(fine.triangles), 16 * len(rough.triangles))
        near(fine.at(rough.points[:, :2]), rough.points[:, 2], 1e-9)
        lines = [(line.level, shapely.LineString(line.xy)) for line in contours(fine, 0.5)]
        tree = shapely.STRtree([line for _, line in lines])
        for level, line in lines:
            crossed = [k for k in tree.query(line, "intersects") if lines[k][0] != level]
            self.assertEqual(crossed, [])
        # Inside a lattice of equal triangles the slopes of a parabola are true, and so are the cubics over its edges.
        rows = np.arange(9) * np.sqrt(3) / 2
        grid = np.column_stack([(np.arange(9) + np.arange(9)[:, None] % 2 / 2).ravel(), np.repeat(rows, 9)])
        bowl = smoothed(triangulate(np.column_stack([grid, grid[:, 0] ** 2 - grid[:, 0] * grid[:, 1]])), 1).points
        inner = bowl[(np.abs(bowl[:, :2] - [4, 3.5]) < [1.6, 1.6]).all(axis=1)]
        self.assertGreater(len(inner), 25)
        near(inner[:, 2], inner[:, 0] ** 2 - inner[:, 0] * inner[:, 1], 1e-9)
        for level, base, heavy in (
            (13.0, 3.0, True), (12.0, 3.0, False), (-7.0, 3.0, True), (4.0, 1.5, True), (3.5, 1.5, False),
        ):  # fmt: skip
            self.assertEqual(index_every(0.5 if base == 1.5 else 1.0, level, base), heavy)
        plane = surface(14, lambda p: 0.3 * p[:, 0] - 0.2 * p[:, 1], shift=np.zeros(3))
        near(smoothed(plane, 1).at(np.array([[33.3, 44.4]])), [0.3 * 33.3 - 0.2 * 44.4], 1e-9)
        near(gradients(plane.vertices, plane.triangles), np.tile([0.3, -0.2], (len(plane.vertices), 1)), 1e-9)
        bent = [
            Contour(1.0, np.array([[0.0, 0], [30, 0], [30, 70]])),
            Contour(2.0, np.array([[0.0, 0], [9.9, 0]])),
            Contour(3.0, np.array([[0.0, 5], [10, 5]])),
        ]
        rows, places = label_places(bent, 40.0)
        self.assertEqual(rows.tolist(), [0, 0, 2])
        near(places, [[25, 0], [30, 45], [5, 5]])
        corner = np.array([[0.0, 0], [3, 4], [0, 0], [0, 0]])
        self.assertEqual([Contour(0.0, corner[:n]).closed for n in (3, 4)], [False, True])
        self.assertEqual(Contour(0.0, corner[:3]).length, 10.0)
        for most, good in ((16 * len(plane.triangles), True), (16 * len(plane.triangles) - 1, False)):
            with unittest.mock.patch("kerb.core.surface.contours.MOST_SMOOTH", most):
                if good:
                    smoothed(plane)
                else:
                    self.assertRaisesRegex(InputError, "too many to be smoothed", smoothed, plane)
        rows, places = label_places(contours(plane, 5.0), 40.0)
        near(plane.at(places), [contours(plane, 5.0)[row].level for row in rows], 1e-6)


class Making(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(15)
        self.xy = rng.uniform(0, 40, (9000, 2))
        self.store = store_of(np.column_stack([self.xy, 0.05 * self.xy[:, 0] + 0.1 * np.sin(self.xy[:, 1])]) + FAR)
        self.all = np.ones(self.store.count, bool)

    def test_thinning_is_told(self):
        full = surface_from(self.store, self.all, None, Shape(), silent())
        self.assertEqual(len(full.vertices), 9000)
        near(departure(self.store, self.all, full, silent()).largest, 0, 1e-6)
        thin = surface_from(self.store, self.all, Thinning("lowest", 2.0), Shape(), silent())
        points = self.store.coordinates(slice(0, 9000))
        away = points[:, 2] - thin.at(points[:, :2])
        away = away[np.isfinite(away)]
        told = departure(self.store, self.all, thin, silent())
        near([told.largest, told.rms, told.points], [np.abs(away).max(), np.sqrt(np.mean(away**2)), len(away)])
        self.assertLess(len(thin.vertices), 500)

    def test_boundary_lines_and_long_edges(self):
        ring = np.array([[5.0, 5], [35, 8], [30, 33], [8, 30]]) + FAR[:2]
        line = np.array([[10, 10, 50.0], [25, 25, 50.0]]) + FAR
        tin = surface_from(self.store, self.all, None, Shape([line], ring), silent())
        near(tin.plan_area, shapely.Polygon(ring).area, 1e-6)
        near(tin.at(np.array([[17.5, 17.5]]) + FAR[:2]), [150.0], 1e-6)
        self.assertGreater(surface_from(self.store, self.all, None, Shape(longest=3.0), silent()).plan_area, 1550)
        with self.assertRaises(NotDeterminable):
            surface_from(self.store, self.all, None, Shape(longest=1e-3), silent())
        with self.assertRaisesRegex(InputError, "without elevation"):
            surface_from(self.store, self.all, None, Shape([np.array([[1, 1, np.nan], [2, 2, 0]])]), silent())

    def test_a_concave_outline(self):
        """A U of points with a gap in its foot: the bay stays open, the gap is closed, on all sides to an edge or two; in feet too."""
        rng = np.random.default_rng(19)
        xy = rng.uniform(0, 40, (12_000, 2))
        bay = (np.abs(xy[:, 0] - 20) < 8) & (xy[:, 1] > 12)
        gap = np.hypot(*(xy - [20, 6]).T) < 3
        for unit in (METRE, FOOT):
            store = store_of(np.column_stack([xy, xy[:, 0] * 0.1])[~bay & ~gap] / unit.metres + FAR, unit)
            plain = make_surface(SurfaceSetup(Scope("cloud"), rim="hull"), sources_of(store, unit), silent())
            found = make_surface(SurfaceSetup(Scope("cloud")), sources_of(store, unit), silent())
            near(plain.value("plan_area") * unit.metres**2, 1600, 15)
            near(found.value("plan_area") * unit.metres**2, 1600 - 16 * 28, 20)
            at = found.makes[0].item.thing.tin().at(np.array([[20.0, 30], [20, 6], [5, 30]]) / unit.metres + FAR[:2])
            self.assertEqual(np.isfinite(at).tolist(), [False, True, True])
            self.assertIn("concave outline", found.method)

    def test_levels_of_a_plane(self):
        tin = surface(16, lambda p: 0.1 * p[:, 0])
        near(mean_level(tin), FAR[2] + 5.0, 1e-9)
        areas, volumes = level_table(tin, FAR[2] + np.array([0.0, 4.0, 10.0]))
        near(areas, [10_000, 6000, 0], 1e-5)
        near(volumes, [50_000, 0.05 * 60**2 * 100, 0], 1e-4)
        found = make_surface(SurfaceSetup(Scope("cloud"), spacing=1.0, thin="median"), sources_of(self.store), silent())
        self.assertEqual(found.value("vertices"), len(found.makes[0].item.thing.vertices))
        self.assertIn("all points lie within", next(n.text for n in found.warnings if n.code == "thinned"))


class WithoutSpikes(unittest.TestCase):
    """First returns of a crown, and what pulses reached through it."""

    def held(self, points, mesh, spikes, level):
        """The triangles of a finished surface that let nothing of a level through."""
        corner = points[mesh.triangles[(mesh.triangles < len(points)).all(axis=1)]]
        edges = np.linalg.norm(corner[:, :, :2] - np.roll(corner, 1, axis=1)[:, :, :2], axis=2).max(axis=1)
        return corner[(edges <= spikes.edge) & (corner[:, :, 2].min(axis=1) - spikes.depth > level)]

    def test_just_at_the_depth_and_the_length(self):
        """A level triangle of edges 3, 4 and 5, five high, of depth one: what lies at four goes in, a little lower goes not, on its edge
        neither; with an edge of five it holds, with less it does not; a corner without elevations holds nothing."""
        corner = np.array([[0.0, 0, 5], [3, 0, 5], [0, 4, 5]])
        for place, level, edge, kept in (
            ((1, 1), 4.0, 5.0, True), ((1, 1), 3.999, 5.0, False), ((1.5, 0), 3.0, 5.0, False), ((1.5, 2), 3.0, 5.0, False),
            ((1, 1), 3.0, 4.999, True), ((-1, 1), 3.0, 5.0, True), ((1, 1), 9.0, 5.0, True), ((0, 4), 3.0, 4.0, False),
        ):  # fmt: skip
            points = np.vstack([corner, [*place, level]]) + FAR
            found = spike_free(points, Spikes(edge, 1.0), silent())
            self.assertEqual(found.kept.tolist(), [True] * 3 + [kept], (place, level, edge))
        for wrong in (Spikes(np.nan, 1.0), Spikes(-1.0, 1.0), Spikes(1.0, -0.1), Spikes(1.0, np.inf)):
            with self.assertRaisesRegex(InputError, "0 or more"):
                spike_free(points, wrong, silent())
        self.assertTrue(spike_free(points, Spikes(1.0, 0.0), silent()).kept[:3].all())
        # A part at a time as all at once.
        many = np.random.default_rng(6).uniform(0, 30, (2000, 3)) + FAR
        whole = spike_free(many, Spikes(1.5, 0.5), silent())
        with unittest.mock.patch("kerb.core.surface.spikes.AT_A_TIME", 300):
            parts = spike_free(many, Spikes(1.5, 0.5), silent())
        self.assertEqual((whole.kept.tolist(), len(whole.triangles)), (parts.kept.tolist(), len(parts.triangles)))
        # In order of the points and of the triangles, all over a long narrow place.
        rng = np.random.default_rng(5)
        strip = np.column_stack([rng.uniform(0, 400, 700), rng.uniform(0, 2, 700), rng.uniform(0, 1, 700)]) + FAR
        every = spike_free(strip, Spikes(1e-6, 0.0), silent())
        self.assertTrue(every.kept.all())
        inner = every.triangles[(every.triangles < 700).all(axis=1)]
        a, b, c = strip[inner][:, :, :2].transpose(1, 0, 2)
        sizes = np.linalg.det(np.stack([b - a, c - a], axis=1)) / 2
        self.assertGreaterEqual(sizes.min(), 0)
        self.assertLessEqual(sizes.sum(), shapely.MultiPoint(strip[:, :2]).convex_hull.area + 1e-6)
        self.assertGreater(sizes.sum(), 0.8 * shapely.MultiPoint(strip[:, :2]).convex_hull.area)

    def test_a_crown_over_sloping_ground_in_three_units(self):
        rng = np.random.default_rng(4)
        xy = rng.uniform(0, 40, (16_000, 2))
        away = np.hypot(*(xy - 20).T)
        z = 0.1 * xy[:, 0]
        crown = (away < 10) & (away > 2)
        deep = crown & (rng.random(len(xy)) < 0.5)
        z[crown] += 12 - 0.2 * away[crown]
        z[deep] -= rng.uniform(1.5, 9, np.count_nonzero(deep))
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            points = (np.column_stack([xy, z]) + FAR) / unit.metres
            store = store_of(points, unit)
            setup = SurfaceSetup(Scope("cloud"), spike_edge=1.5 / unit.metres)
            found = make_surface(setup, sources_of(store, unit), silent())
            tin = found.makes[0].item.thing
            at = tin.tin().at((xy[deep & (away < 8.5) & (away > 3.5)] + FAR[:2]) / unit.metres) * unit.metres - FAR[2]
            top = 0.1 * xy[:, 0] + 12 - 0.2 * away
            self.assertGreater((at - top[deep & (away < 8.5) & (away > 3.5)]).min(), -0.5)
            middle = xy[away < 1.5]
            near(tin.tin().at((middle + FAR[:2]) / unit.metres) * unit.metres - FAR[2], 0.1 * middle[:, 0], 0.01)
            share = np.count_nonzero(deep) / len(xy)
            text = next(n.text for n in found.warnings if n.code == "spikes")
            self.assertAlmostEqual(float(text.split("(")[1].split(" %")[0]) / 100, share, delta=0.02)
            self.assertAlmostEqual(found.settings["spike_depth"] * unit.metres, 0.5)
        with self.assertRaisesRegex(InputError, "above 0"):
            spike_free(points, Spikes(0.0, 0.5), silent())


class Spots(unittest.TestCase):
    def test_nodes(self):
        grid = SpotGrid(2.0, (500_001.0, 5_800_000.0), 0.0)
        nodes, place = grid.nodes(FAR[:2], FAR[:2] + 6)
        near(sorted(set(nodes[:, 0] - FAR[0])), [1, 3, 5])
        near(sorted(set(nodes[:, 1] - FAR[1])), [0, 2, 4, 6])
        near(nodes, np.array(grid.origin) + 2 * place[:, ::-1])
        turned = SpotGrid(1.0, (0.0, 0.0), 30.0)
        near(turned.axes[1], [np.sin(np.pi / 6), np.cos(np.pi / 6)])
        found, _ = turned.nodes(np.zeros(2), np.zeros(2), (Area(((((0.0, 0.0)), (10, 0), (10, 10), (0, 10)),), "a"),))
        local = found @ turned.axes.T
        near(local, np.round(local), 1e-9)
        self.assertAlmostEqual(len(found) / 100, 1.0, delta=0.12)
        for spacing in (0.0, np.nan, 1e-6):
            with self.assertRaises(InputError):
                SpotGrid(spacing, (0.0, 0.0)).nodes(np.zeros(2), np.full(2, 100.0))

    def test_levels_against_numpy(self):
        rng = np.random.default_rng(17)
        points = np.column_stack([rng.uniform(0, 30, (4000, 2)), rng.normal(0, 1, 4000)]) + FAR
        store = store_of(points)
        points = store.coordinates(slice(0, 4000))
        nodes, _ = SpotGrid(3.0, tuple(FAR[:2])).nodes(FAR[:2] - 6, FAR[:2] + 30)
        view = CloudTop(Scope("cloud").of(store), keep_strays=True)
        for take, middle in (("lowest", np.min), ("median", np.median)):
            found = spot_levels(view, nodes, take, 0.7, silent())
            for node, level in zip(nodes, found, strict=True):
                mine = points[np.hypot(*(points[:, :2] - node).T) <= 0.7, 2]
                near(level, middle(mine) if len(mine) else np.nan)
        on = spot_levels(view, nodes, "tin", 0.0, silent())
        near(on, triangulate(points).at(nodes), 1e-6)
        self.assertTrue(np.isnan(on[:5]).all())

    def test_names_and_origin(self):
        points = named(SpotsSetup(first_name="GL099b", code="X"), np.zeros((3, 2)), np.zeros(3))
        self.assertEqual((points.names, points.codes), (("GL099b", "GL100b", "GL101b"), ("X",) * 3))
        self.assertEqual(named(SpotsSetup(first_name="A"), np.zeros((2, 2)), np.zeros(2)).names, ("A1", "A2"))
        self.assertEqual(grid_of(SpotsSetup(origin="10.5, 20")).origin, (10.5, 20.0))
        for wrong in ("10", "a,b", "1,nan"):
            with self.assertRaisesRegex(InputError, "no place"):
                grid_of(SpotsSetup(origin=wrong))


def noisy(rng, n, noise, height, smooth=None):
    """A cloud of an epoch over 60 × 60: independent noise, and noise that is alike over some metres."""
    xy = rng.uniform(0, 60, (n, 2))
    z = height(xy) + rng.normal(0, noise, n)
    if smooth is not None:
        waves = rng.normal(0, 1, (12, 2)) / 2.5
        phase = rng.uniform(0, 2 * np.pi, 12)
        z = z + smooth * np.sqrt(2 / 12) * np.sin(xy @ waves.T + phase).sum(axis=1)
    return np.column_stack([xy, z]) + FAR


PIT = item([[20, 20], [50, 20], [50, 50], [20, 50]], "pit")
ROAD = item([[1, 1], [59, 1], [59, 12], [1, 12]], "road")


class Study(unittest.TestCase):
    def compare(self, earlier, later, unit=METRE, **values):
        sources = sources_of(store_of(earlier, unit), unit, later=store_of(later, unit))
        sources.items["earlier"] = sources.items["cloud"]
        return run(CutfillSetup(Scope("earlier"), Scope("later"), **values), sources, silent()), sources

    def test_signs_in_words_both_ways_and_stable_ground(self):
        """The later epoch lies 40 mm high everywhere and has a pit of 2 m: cut, and the offset told and taken out."""
        rng = np.random.default_rng(18)
        ground = lambda p: 0.02 * p[:, 0]  # noqa: E731

        def pit(p):
            inside = np.minimum(np.minimum(p[:, 0] - 24, 46 - p[:, 0]), np.minimum(p[:, 1] - 24, 46 - p[:, 1]))
            return -2.0 * np.clip(inside, 0, 1)

        truth = -2.0 * (22**2 - 2 * 22 + 4 / 3)
        earlier, later = noisy(rng, 12_000, 0.01, ground), noisy(rng, 12_000, 0.01, lambda p: ground(p) + pit(p) + 0.04)
        plain, _ = self.compare(earlier, later, areas=(PIT,), stable=(ROAD,))
        near([plain.value("stable_offset"), plain.value("stable_noise")], [0.04, 0.011], 0.004)
        near(plain.value("net"), truth + 0.04 * 900, 3.0)
        said = {note.code: note.text for note in plain.warnings}
        self.assertIn("lies below", said["sense"])
        self.assertRegex(said["stable"], r"lies 0\.0(39|40)\d*\sm .* above .* significant and makes \d")
        even, _ = self.compare(earlier, later, areas=(PIT,), stable=(ROAD,), take_out="offset")
        near(even.value("net"), truth, 3.0)
        self.assertLess(even.figures["net"].u95, plain.figures["net"].u95)
        back, _ = self.compare(earlier, later, areas=(PIT,), stable=(ROAD,), exchanged=True)
        near([back.value("fill"), back.value("net")], [plain.value("cut"), -plain.value("net")], 1e-6)
        grid, _ = self.compare(earlier, later, areas=(PIT,), method="grid", cell=0.25)
        near([grid.value("net"), grid.value("check_net")], [plain.value("check_net"), plain.value("net")], 0.2)
        self.assertIn("vertical offset", grid.figures["net"].without)
        self.assertEqual(even.figures["net"].without, "")
        ring = PIT.ring.places
        holed = replace(PIT, ring=Drawn.of(ring, (ring.mean(axis=0) + (ring - ring.mean(axis=0)) / 3,)))
        found, _ = self.compare(earlier, later, areas=(holed,), stable=(replace(holed, name="s"),))
        near(found.layers["area hole 1 pit"].xyz[:, :2], holed.ring.holes[0])
        near(found.layers["stable hole 1 0"].xyz[:, 2] - found.layers["area hole 1 pit"].xyz[:, 2], np.zeros(4))
        self.assertEqual(found.charts[1].x_title, "change (m)")

    def test_coverage(self):
        """Two dozen made-up pairs with an offset, independent noise and noise alike over metres, offset taken out by stable ground: the
        stated 95 % holds in at least nine of ten, and is no more than three times too wide (root mean square)."""
        rng = np.random.default_rng(19)
        ground = lambda p: 0.03 * p[:, 1] + 0.2 * np.sin(p[:, 0] / 9)  # noqa: E731
        hits, errors, bounds = 0, [], []
        for _ in range(24):
            offset = rng.normal(0, 0.03)
            earlier = noisy(rng, 3500, 0.02, ground, 0.01)
            later = noisy(rng, 3500, 0.02, lambda p: ground(p) - 0.5 + offset, 0.01)  # noqa: B023
            lifted = later.copy()
            road = later[:, 1] - FAR[1] < 14
            lifted[road, 2] += 0.5
            found, _ = self.compare(earlier, lifted, areas=(PIT,), stable=(ROAD,), take_out="offset")
            error, u95 = found.value("net") + 0.5 * 900, found.figures["net"].u95
            hits += abs(error) <= u95
            errors.append(error)
            bounds.append(u95)
        self.assertGreaterEqual(hits, 21)
        rms = float(np.sqrt(np.mean(np.square(errors))))
        self.assertLess(np.mean(bounds), 3 * 1.96 * rms)

    def test_levels_areas_and_live(self):
        """A slope against a level: balance at its mean; two areas, a row each; live within a percent."""
        rng = np.random.default_rng(20)
        xy = np.concatenate([rng.uniform(0, 60, (6000, 2)), [[0, 0], [60, 0], [60, 60], [0, 60]]])
        store = store_of(np.column_stack([xy, 0.1 * xy[:, 0]]) + FAR)
        sources = sources_of(store)
        sources.items["earlier"] = sources.items["cloud"]
        one, other = (item([[0, 0], [30, 0], [30, 30], [0, 30]], "west"), item([[30, 30], [60, 30], [60, 60], [30, 60]], "east"))
        setup = CutfillSetup(Scope("earlier"), level=FAR[2] + 3.0, areas=(one, other), longest=100.0)
        found = run(setup, sources, silent())
        near([row[1:4] for row in found.tables["areas"].rows], [[1350, 0, 1350], [0, 1350, -1350]], 0.05)
        near(found.value("balance_level"), FAR[2] + 3.0, 1e-4)
        near([found.value("only_earlier_area"), found.value("only_later_area")], [0, 0])
        live = ready(setup, sources)
        self.assertTrue(live.covers(setup) and not live.covers(CutfillSetup(Scope("earlier"), Scope("later"))))
        quick = live.answer(setup)
        near([quick.value("fill"), quick.value("cut")], [1350, 1350], 15)
        with self.assertRaises(NotDeterminable):
            run(CutfillSetup(Scope("earlier"), level=1.0, areas=(item([[100, 100], [110, 100], [110, 110]]),)), sources, silent())
        self.assertIn("Choose the later surface", CutfillSetup(Scope("earlier")).missing()[0])

    def test_the_map_of_large_surfaces_covers_all_of_them(self):
        rng = np.random.default_rng(24)
        square = np.array([[0, 0], [40, 0], [40, 40], [0, 40]])

        def flat(z):
            xy = np.concatenate([rng.uniform(0, 40, (900, 2)), square])
            return np.column_stack([xy, np.full(len(xy), z)]) + FAR

        with unittest.mock.patch("kerb.studies.cutfill.run.MOST_PIECES", 10):
            found, _ = self.compare(flat(0.0), flat(0.5), longest=100.0)
        mesh = found.layers["difference"]
        near(mesh.values, np.full(len(mesh.values), 0.5), 1e-3)
        near(mesh.vertices[:, 2], np.full(len(mesh.vertices), FAR[2] + 0.5), 1e-3)
        near(np.ptp(mesh.vertices[:, :2], axis=0), [40, 40], 0.3)
        near(Tin.of(mesh.vertices, mesh.triangles).plan_area, 1600, 15)

    def test_ground_that_only_one_covers(self):
        rng = np.random.default_rng(21)
        square = lambda x: np.concatenate([rng.uniform(0, 40, (800, 2)), [[0, 0], [40, 0], [40, 40], [0, 40]]]) + [x, 0]  # noqa: E731
        flat = lambda xy, z: np.column_stack([xy, np.full(len(xy), z)]) + FAR  # noqa: E731
        for away, told in ((10, 2), (0.3, 2), (0.15, 0)):  # a rim below a two-hundredth is left to the figures
            found, _ = self.compare(flat(square(0), 0.0), flat(square(away), 1.5), longest=100.0)
            areas = [found.value(n) for n in ("fill", "only_earlier_area", "only_later_area")]
            near(areas, [60 * (40 - away), 40 * away, 40 * away], 1e-3)
            self.assertEqual(sum(note.code == "uncovered" for note in found.warnings), told, away)
        with self.assertRaisesRegex(InputError, "do not lie above one another"):
            self.compare(flat(square(0), 0.0), flat(square(500), 0.0))


class StableGround(unittest.TestCase):
    def test_false_alarms_and_tilt(self):
        """Of level noise that is alike over metres the offset is called significant one time in twenty, and so is the tilt."""
        rng = np.random.default_rng(22)
        grid = np.stack(np.meshgrid(np.arange(0, 60, 0.5), np.arange(0, 12, 0.5)), axis=-1).reshape(-1, 2)
        hits = tilts = 0
        for _ in range(200):
            coarse = rng.normal(0, 0.01, (16, 62))
            dz = coarse[(grid[:, 1]).astype(int), (grid[:, 0]).astype(int)] + rng.normal(0, 0.01, len(grid))
            found = stable_ground(grid + FAR[:2], dz)
            hits += abs(found.offset) > found.u95
            tilts += found.tilted
        self.assertLessEqual(hits, 22)
        self.assertLessEqual(tilts, 22)
        tilted = stable_ground(grid + FAR[:2], 0.03 + 0.002 * (grid[:, 0] - 29.75) + rng.normal(0, 0.005, len(grid)))
        self.assertTrue(tilted.tilted)
        near(tilted.plane, [0.03, 0.002, 0.0], 5e-4)
        near(tilted.at(grid[:2] + FAR[:2], True)[0], 0.03 - 0.0595, 2e-3)
        spiked = stable_ground(grid + FAR[:2], np.where(np.arange(len(grid)) % 50 == 0, 5.0, rng.normal(0, 0.01, len(grid))))
        near(spiked.offset, 0, 0.002)
        with self.assertRaisesRegex(NotDeterminable, "30 are needed"):
            stable_ground(grid[:9], np.zeros(9))


def written(path, points, code=None):
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales, header.offsets = [0.0001] * 3, np.floor(points.min(axis=0))
    las = laspy.LasData(header)
    las.x, las.y, las.z = points.T
    las.classification = np.full(len(points), 2, np.uint8)
    las.write(path)
    return path


class Verbs(CommandLine):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(23)
        xy = np.concatenate([rng.uniform(0, 40, (4000, 2)), [[0, 0], [40, 0], [40, 40], [0, 40]]])
        self.one = written(self.folder / "march.las", np.column_stack([xy, 0.1 * xy[:, 0]]) + FAR)
        self.two = written(self.folder / "may.las", np.column_stack([xy, 0.1 * xy[:, 0] + 0.5]) + FAR)
        ring = [[FAR[0] + a, FAR[1] + b] for a, b in ((10, 10), (30, 10), (30, 30), (10, 30), (10, 10))]
        self.area = self.folder / "a.geojson"
        features = [{"type": "Feature", "properties": {"name": "a"}, "geometry": {"type": "Polygon", "coordinates": [ring]}}]
        self.area.write_text(json.dumps({"type": "FeatureCollection", "features": features}))

    def test_from_clouds_to_files(self):
        xml = self.folder / "s.xml"
        made = self.json("surface", self.one, "--class", 2, "--rim", "hull", "--out", xml)["figures"]
        self.assertEqual((made["vertices"]["value"], made["plan_area"]["unit"]), (4004, "m2"))
        near([made[n]["value"] for n in ("plan_area", "lowest", "highest", "mean")], [1600, 100, 104, 102], 1e-3)
        for source in (self.one, xml):
            found = self.json("contours", source, "--interval", 0.5, "--longest", 100, "--out", self.folder / "k.dxf", "--force")[
                "figures"
            ]
            near([found["lines"]["value"], found["total_length"]["value"]], [8, 320], 0.5)
        levels = {round(e.dxf.elevation if e.dxftype() == "LWPOLYLINE" else next(iter(e.vertices)).dxf.location.z, 3)
                  for e in ezdxf.readfile(self.folder / "k.dxf").query("LWPOLYLINE POLYLINE")}  # fmt: skip
        self.assertLessEqual({100.5, 101.0, 103.5}, levels)
        spots = self.json("spots", self.two, "--spacing", 10, "--within", self.area, "--take", "median", "--radius", 1,
                          "--first-name", "S7", "--out", self.folder / "p.csv")  # fmt: skip
        self.assertEqual([row[0] for row in spots["tables"]["points"]["rows"][:3]], ["S7", "S8", "S9"])
        flat = [row[3] - 0.1 * (row[1] - FAR[0]) for row in spots["tables"]["points"]["rows"]]
        near(flat, np.full(len(flat), 100.5), 0.1)
        found = self.json("cutfill", xml, self.two, "--within", self.area, "--out", self.folder / "d.tif")
        near([found["figures"][n]["value"] for n in ("fill", "cut", "fill_area", "only_later_area")], [200, 0, 400, 0], 0.01)
        with rasterio.open(self.folder / "d.tif") as raster:
            near(np.nanmedian(np.where(raster.read_masks(1) > 0, raster.read(1), np.nan)), 0.5, 1e-3)
        self.assertEqual(self.kerb("cutfill", self.one, self.two, "--out", self.folder / "d.tif")[0], 2, "not overwritten")

    def test_degrees_are_refused_in_words(self):
        """A cloud in longitude and latitude has no areas and volumes: each of the verbs says so, and the rest of it nothing."""
        header = laspy.LasHeader(point_format=6, version="1.4")
        header.scales, header.offsets = [1e-7, 1e-7, 1e-3], [0, 0, 0]
        header.add_crs(pyproj.CRS.from_epsg(4326))
        las, rng = laspy.LasData(header), np.random.default_rng(25)
        las.x, las.y = -3 + rng.uniform(0, 1e-3, 500), 50 + rng.uniform(0, 1e-3, 500)
        las.z = rng.uniform(0, 5, 500)
        las.write(path := self.folder / "degrees.las")
        for words in (
            ("surface", path), ("contours", path), ("spots", path), ("cutfill", path, "level:2"),
            ("change", path, "--against", path), ("align", path, "--to", path),
        ):  # fmt: skip
            self.assertEqual(self.kerb(*words)[0], 2, words)
            self.assertRegex(self.error, "degrees.las: .*degrees")

    def test_levels_in_place_of_files(self):
        up = self.json("cutfill", self.one, "level:102", "--longest", 100)["figures"]
        down = self.json("cutfill", "level:102", self.one, "--longest", 100)["figures"]
        near([up["fill"]["value"], down["cut"]["value"], up["net"]["value"]], [800, 800, 0], 0.1)
        for words in (("level:1", "level:2"), ("level:x", self.one), (self.one, "level:")):
            self.assertEqual(self.kerb("cutfill", *words)[0], 2)
            self.assertRegex(self.error, "levels?:|both levels")

    def test_lines_of_the_difference_and_both_surfaces(self):
        tilted = np.array([[0, 0, 99.0], [40, 0, 105], [40, 40, 105], [0, 40, 99]]) + [*FAR[:2], 0]
        written(self.folder / "design.las", tilted)
        out = self.folder / "lines.gpkg"
        found = self.json("cutfill", self.one, self.folder / "design.las", "--longest", 100, "--out", out)["figures"]
        near([found["fill"]["value"], found["cut"]["value"]], [400, 400], 0.5)
        lines = pyogrio.raw.read(out)
        self.assertGreater(len(lines[2]), 5)
        xml = self.folder / "both.xml"
        self.json("cutfill", self.one, self.folder / "design.las", "--out", xml)
        self.assertEqual(xml.read_text().count("<Surface "), 2)


if __name__ == "__main__":
    unittest.main()


class Dates(CommandLine):
    """Several dates, stable ground that is proposed, labels on the map."""

    def clouds(self, unit=METRE):
        """A field of 100 × 80 that sinks by 1, 2 and 5 in its middle square of 20, each date 0.1 higher as a whole."""
        rng, one = np.random.default_rng(6), 1 / unit.metres
        stores = {}
        for number, dug in enumerate((0.0, 1.0, 2.0, 5.0)):
            xy = rng.uniform(0, [100, 80], (6000, 2))
            inside = (np.abs(xy - [50, 40]) < 10).all(axis=1)
            z = 0.02 * xy[:, 0] - dug * inside + 0.1 * (number > 0) + rng.normal(0, 0.01, len(xy))
            stores[number] = store_of((np.column_stack([xy, z]) + FAR) * one, unit)
        return stores

    def test_a_series_is_what_each_date_gives_by_itself(self):
        for unit in (METRE, US_SURVEY_FOOT):
            stores, one = self.clouds(unit), 1 / unit.metres
            box = Item("a", "a", Drawn.of((np.array([[30.0, 20], [70, 20], [70, 60], [30, 60]]) + FAR[:2]) * one))
            sources = sources_of(
                None, unit, earlier=stores[0], later=stores[1], **{"further.0": stores[2], "further.1": stores[3]}
            )
            for number in (1, 2, 3):
                key = "later" if number == 1 else f"further.{number - 2}"
                sources.items[key] = replace(sources.items[key], epoch=f"2026-0{6 - number}-01")
            setup = CutfillSetup(Scope("a"), Scope("b"), areas=(box,), further=(Scope("c"), Scope("d")))
            rows = run(setup, sources, silent()).tables["series"].rows
            self.assertEqual([row[0] for row in rows], ["2026-03-01", "2026-04-01", "2026-05-01"])
            for number, row in zip((3, 2, 1), rows, strict=True):
                alone = sources_of(None, unit, earlier=stores[0], later=stores[number])
                found = run(replace(setup, further=()), alone, silent())
                near(row[1:4], [found.value(key) for key in ("fill", "cut", "net")], atol=1e-9)
                wanted = 0.1 * 1600 - 400 * {1: 1, 2: 2, 3: 5}[number]
                self.assertAlmostEqual(row[3] * unit.metres**3, wanted, delta=0.04 * abs(wanted))
            near([rows[0][4], rows[1][4]], [rows[0][3], rows[1][3] - rows[0][3]])
        undated = sources_of(None, METRE, earlier=stores[0], later=stores[1], **{"further.0": stores[2]})
        found = run(replace(setup, further=(Scope("c"),)), undated, silent())
        self.assertIn("no-dates", [note.code for note in found.warnings])
        self.assertEqual(follow(setup, "e").further[-1], Scope("e"))
        with self.assertRaisesRegex(InputError, "later surface"):
            follow(CutfillSetup(Scope("a"), level=1.0), "e")

    def test_stable_ground_is_proposed_where_nothing_was_dug(self):
        """The offset of all is no change; the pit is left out; holes of the field stay holes; what was drawn stays."""
        for unit in (METRE, FOOT):
            stores, one = self.clouds(unit), 1 / unit.metres
            sources = sources_of(None, unit, earlier=stores[0], later=stores[3])
            mine = item([[0, 0], [5, 0], [5, 5]], "mine")
            after = propose(CutfillSetup(Scope("a"), Scope("b"), stable=(mine,)), sources, silent())
            self.assertEqual(after.stable[0], mine)
            named = [(one.key, one.name) for one in after.stable[1:]]
            self.assertEqual(named, [(f"g{k}", f"Stable ground {k}") for k in range(1, len(named) + 1)])
            self.assertGreater(len(after.stable), 1)
            shapes = [area.shape for area in after.named_areas("stable")[1:]]
            pit = shapely.box(*((np.array([40.0, 30]) + FAR[:2]) * one), *((np.array([60.0, 50]) + FAR[:2]) * one))
            self.assertLess(sum(shape.intersection(pit).area for shape in shapes), 0.02 * pit.area)
            self.assertGreater(sum(shape.area for shape in shapes) * unit.metres**2, 0.6 * (8000 - 400))
            again = propose(after, sources, silent())
            self.assertEqual(len(again.stable), len(after.stable), "proposed anew, not twice")
            judged = run(replace(after, stable=after.stable[1:]), sources, silent())
            self.assertAlmostEqual(judged.value("stable_offset") * unit.metres, 0.1, delta=0.004)
        with self.assertRaisesRegex(NotDeterminable, "no stable ground"):
            propose(CutfillSetup(Scope("a"), level=1.0), sources, silent())
        self.assertEqual(proposals(np.full((20, 20), np.nan), 1.0), [])
        noisy = np.random.default_rng(1).uniform(-9, 9, (60, 60))
        noisy[:, :25] = 0.0
        near(proposals(noisy, 2.0)[0].bounds, (0, 0, 50, 120), atol=9)


def at_cell(grid, place, cell):
    """The elevation of the cell at a whole multiple of the cell size."""
    a, _, west, _, e, north = grid.affine
    column, row = ((place + 0.5) * cell - [west, north]) / [a, e]
    return float(grid.z[int(row), int(column)])


class Grids(CommandLine):
    """Grids of cells: what stands for a cell by brute force, gaps filled to a distance, borders, units, files."""

    def test_each_level_by_brute_force(self):
        for scale in (1.0, 1 / 0.3048):
            rng = np.random.default_rng(3)
            points = (np.column_stack([rng.uniform(0, 9, (700, 2)), rng.normal(0, 2, 700)]) + FAR) * scale
            cell = 1.3 * scale
            key = np.floor(points[:, :2] / cell).astype(int)
            for take, how in (("lowest", np.min), ("highest", np.max), ("mean", np.mean), ("median", np.median)):
                grid = cell_levels(points, cell, take)
                self.assertEqual(grid.known, len(np.unique(key, axis=0)))
                for place in np.unique(key, axis=0)[::7]:
                    mine = points[(key == place).all(axis=1), 2]
                    self.assertAlmostEqual(at_cell(grid, place, cell), float(how(mine)), places=6)
        with self.assertRaisesRegex(InputError, "no level"):
            cell_levels(points, cell, "modal")
        for wrong in (0.0, -1.0, np.nan):
            with self.assertRaisesRegex(InputError, "above zero"):
                cell_levels(points, wrong, "mean")
        with self.assertRaisesRegex(InputError, "cells"):
            cell_levels(points, 1e-4, "mean")
        with self.assertRaisesRegex(NotDeterminable, "no points"):
            cell_levels(points[:0], 1.0, "mean")
        border = cell_levels(np.array([[2.0, 2, 5], [3.999, 2, 7], [4.0, 4, 9]]), 2.0, "mean")
        near(border.z, [[np.nan, 9], [6, np.nan]])
        self.assertEqual(cell_levels(np.array([[0.5, 0.5, 1], [6.5, 4.5, 2]]), 2.0, "mean").z.shape, (3, 4))

    def test_gaps_are_filled_so_far_and_no_farther(self):
        """A slope with a hole of 5 × 5 and a wide one: linear where filled, open in the middle of the wide one, never outwards."""
        x, y = np.meshgrid(np.arange(40) + 0.5, np.arange(30) + 0.5)
        z = 0.5 * x + 0.2 * y
        z[5:10, 5:10] = np.nan
        z[8:24, 18:34] = np.nan
        whole = ElevationGrid(z[::-1].copy(), (1.0, 0.0, FAR[0], 0.0, -1.0, FAR[1] + 30))
        made, new = gaps_filled(whole, 3.0)
        back = made.z[::-1]
        near(back[5:10, 5:10], (0.5 * x + 0.2 * y)[5:10, 5:10], atol=1e-9)
        self.assertTrue(np.isnan(back[12:20, 22:30]).all())
        near(back[8:11, 18:34], (0.5 * x + 0.2 * y)[8:11, 18:34], atol=1e-9)
        self.assertEqual(int(new.sum()), int(np.isfinite(made.z).sum() - np.isfinite(whole.z).sum()))
        half = replace(whole, affine=(0.5, 0.0, FAR[0], 0.0, -0.5, FAR[1] + 15))
        np.testing.assert_array_equal(gaps_filled(half, 1.5)[1], new, "the same in cells of half the size")
        self.assertLess(int(gaps_filled(half, 0.5)[1].sum()), int(new.sum()))
        corners = np.full((3, 3), np.nan)
        corners[0, 0] = corners[0, 2] = corners[2, 0] = 4.0
        three = ElevationGrid(corners, (1.0, 0.0, 0.0, 0.0, -1.0, 3.0))
        self.assertEqual(int(gaps_filled(three, 1.0)[1].sum()), 2, "three cells span a plane; beyond its edge nothing is known")
        np.testing.assert_array_equal(gaps_filled(whole, 0.0)[0].z, whole.z)
        alone = np.full((9, 9), np.nan)
        alone[4, 3:6] = 1.0
        one = ElevationGrid(alone, (1.0, 0.0, 0.0, 0.0, -1.0, 9.0))
        self.assertEqual(int(gaps_filled(one, 5.0)[1].sum()), 0)
        self.assertIs(gaps_filled(one, 0.0)[0], one)

    def test_a_grid_from_a_file_to_a_file(self):
        rng = np.random.default_rng(4)
        xy = rng.uniform(0, 60, (9000, 2))
        xy = xy[np.hypot(*(xy - 30).T) > 4]
        points = np.column_stack([xy, 0.1 * xy[:, 0] + rng.normal(0, 0.01, len(xy))]) + FAR
        written(self.folder / "a.laz", points)
        out = self.folder / "g.tif"
        found = self.json("surface", self.folder / "a.laz", "--form", "grid", "--cell", 2, "--fill", 8, "--out", out)
        self.assertGreater(found["figures"]["filled_cells"]["value"], 5)
        with rasterio.open(out) as raster:
            self.assertEqual(raster.res, (2.0, 2.0))
            near(raster.transform.c % 2, 0, atol=1e-9)
            values = [v[0] for v in raster.sample([(FAR[0] + 31, FAR[1] + 31), (FAR[0] + 11, FAR[1] + 9)])]
        near(np.array(values) - FAR[2], [3.1, 1.1], atol=0.06)
        open_ = self.json("surface", self.folder / "a.laz", "--form", "grid", "--cell", 2)
        self.assertLess(open_["figures"]["cells"]["value"], found["figures"]["cells"]["value"])
        tin = self.json("surface", self.folder / "a.laz", "--form", "grid", "--cell", 2, "--level", "tin")
        self.assertAlmostEqual(tin["figures"]["mean"]["value"], FAR[2] + 3.0, delta=0.05)


class Columns(unittest.TestCase):
    """Where one elevation cannot hold the data."""

    def test_a_roof_is_found_and_a_wall_is_not(self):
        for unit in (METRE, FOOT):
            rng, one = np.random.default_rng(13), 1 / unit.metres
            ground = np.column_stack([rng.uniform(0, 40, (48_000, 2)), np.zeros(48_000)])
            roof = np.column_stack([rng.uniform([10, 10], [20, 16], (3000, 2)), np.full(3000, 3.0)])
            wall = np.column_stack([np.full(3000, 30.0), rng.uniform(5, 35, 3000), rng.uniform(0, 8, 3000)])
            steep = np.column_stack([xy := rng.uniform([0, 30], [12, 40], (4000, 2)), 1.8 * xy[:, 0]])
            ground = ground[~((ground[:, 0] < 12) & (ground[:, 1] > 30))]
            birds = np.column_stack([rng.uniform(0, 40, (40, 2)), rng.uniform(5, 20, 40)])
            points = (np.concatenate([ground, roof, wall, steep, birds]) + FAR) * one
            found = several_layers(points, 1.2 * one, 0.5 * one) / one - FAR[:2]
            self.assertGreater(len(found), 0.6 * 60 / 1.44)
            inside = (np.abs(found - [15, 13]) < [6.2, 4.2]).all(axis=1)
            self.assertTrue(inside.all(), found[~inside])
        self.assertEqual(several_layers(np.empty((0, 3)), 1.0, 1.0).shape, (0, 2))
        near(several_layers(np.array([[0.5, 0.5, z] for z in (0, 0, 0, 2, 2, 2)]), 1.0, 1.0), [[1.0, 1.0]])
        pair = np.array([[0.1, 0.1, z] for z in (0, 0.1, 0.2, 3.0, 3.1)])
        self.assertEqual(len(several_layers(pair, 1.0, 0.5)), 0, "two points are no layer")
        near(several_layers(np.concatenate([pair, [[0.2, 0.2, 3.2]]]), 1.0, 0.5), [[0.6, 0.6]])
        self.assertEqual(len(several_layers(np.concatenate([pair, [[0.2, 0.2, 3.2]]]), 1.0, 3.0)), 0)

    def test_the_study_says_so(self):
        rng = np.random.default_rng(14)
        ground = np.column_stack([rng.uniform(0, 20, (8000, 2)), np.zeros(8000)])
        roof = np.column_stack([rng.uniform([5, 5], [10, 10], (600, 2)), np.full(600, 3.0)])
        with_roof, bare = (sources_of(store_of(points + FAR)) for points in (np.concatenate([ground, roof]), ground))
        setup = SurfaceSetup(Scope("cloud"), keep=False)
        found = make_surface(setup, with_roof, silent())
        self.assertIn("layers", [note.code for note in found.warnings])
        self.assertGreater(len(found.layers["layers"].xyz), 20)
        self.assertNotIn("layers", [note.code for note in make_surface(setup, bare, silent()).warnings])
