"""Values that have one right answer, on shapes with unequal parts: geometry, layers of outcomes, tables of inventories."""

import unittest
from dataclasses import replace

import numpy as np
import shapely
import trimesh

from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import plane, polygon
from kerb.core.geometry.alignment import Alignment, Element, Grade, arc, straight
from kerb.core.geometry.area import Area, inside_any, ring_of
from kerb.core.geometry.features import Line, LineSet, SurveyPoints, bounds_of
from kerb.core.geometry.mesh import Element as Run
from kerb.core.geometry.mesh import TriangleMesh, checked, joined
from kerb.core.place_check import Site, check
from kerb.core.reference import local_grid
from kerb.core.surface.elevation import ElevationGrid, placed, unplaced
from kerb.core.units import FOOT, METRE
from kerb.draw.ramps import SIGNED, table
from kerb.draw.scene import Scene
from kerb.studies.attributes import elevations, values_of
from kerb.studies.drawn import Drawn, Item
from kerb.studies.inventory import run as inventory_run
from kerb.studies.inventory.figures import tables, worded
from kerb.studies.inventory.matching import matched, shape_of
from kerb.studies.inventory.setup import InventorySetup
from kerb.studies.inventory.totals import GONE, Row
from kerb.studies.kind import FigureAbout, Option, Step
from kerb.studies.layers import FoundDimensions, FoundLabels, FoundLine, FoundMesh, FoundPoints, Profile
from kerb.studies.outcome import Attribute, Outcome
from kerb.studies.scope import Scope
from kerb.studies.showing import bounds_of as drawn_bounds
from kerb.studies.showing import put, toggles
from tests.support import FAR, circle, near, store_of


def solid(size=(2.0, 3.0, 5.0), at=(0, 0, 0)):
    box = trimesh.creation.box(size)
    box.apply_translation(at)
    return TriangleMesh(np.array(box.vertices) + FAR, np.array(box.faces, np.int32), (Run("b", "box", 0, 12),))


class Meshes(unittest.TestCase):
    def test_a_box_of_unequal_sides(self):
        box = solid()
        self.assertTrue(box.closed)
        self.assertAlmostEqual(box.volume, 30.0, places=6)
        self.assertAlmostEqual(box.surface_area, 2 * (6 + 10 + 15), places=6)
        self.assertAlmostEqual(box.plan_area, 2 * 6.0, places=6)
        self.assertAlmostEqual(box.tin().plan_area, 6.0, places=6)
        for lost in (0, 5, 11):
            part = TriangleMesh(box.vertices, np.delete(box.triangles, lost, axis=0))
            self.assertFalse(part.closed)
            self.assertIsNone(part.volume)
        self.assertFalse(TriangleMesh(np.empty((0, 3)), np.empty((0, 3), np.int32)).closed)
        doubled = np.concatenate([box.vertices[box.triangles[k]] for k in range(12)])
        loose = TriangleMesh(doubled, np.arange(36, dtype=np.int32).reshape(12, 3))
        self.assertTrue(loose.closed, "vertices repeated for each face are one")
        self.assertAlmostEqual(loose.volume, 30.0, places=6)

    def test_a_sloping_triangle(self):
        corners = np.array([[1.0, 2, 3], [5, 3, 8], [2, 9, 1]]) + FAR
        one = TriangleMesh(corners, np.array([[0, 1, 2]], np.int32))
        u, v = corners[1] - corners[0], corners[2] - corners[0]
        self.assertAlmostEqual(one.plan_area, 0.5 * abs(u[0] * v[1] - u[1] * v[0]), places=6)
        self.assertAlmostEqual(one.surface_area, 0.5 * np.linalg.norm(np.cross(u, v)), places=6)
        turned = TriangleMesh(corners, np.array([[0, 2, 1]], np.int32))
        self.assertGreater(turned.tin().plan_areas[0], 0)

    def test_joined_parted_and_moved(self):
        both = joined([solid(), solid((1, 1, 4), (9, 0, 0))])
        self.assertEqual([(e.first, e.count) for e in both.elements], [(0, 12), (12, 12)])
        second = both.part(both.elements[1])
        self.assertAlmostEqual(second.volume, 4.0, places=6)
        self.assertEqual(second.elements[0].first, 0)
        self.assertEqual(len(second.vertices), 8)
        triple = joined([both, solid((1, 1, 1), (-9, 0, 0))])
        self.assertEqual([e.first for e in triple.elements], [0, 12, 24])
        kept = triple.only(lambda e: e.first != 12)
        self.assertAlmostEqual(kept.volume, 31.0, places=6)
        self.assertAlmostEqual(triple.volume, 35.0, places=6)
        self.assertEqual(triple.merged("all").elements, (Run("all", "mesh", 0, 36),))
        moved = solid().mapped(lambda xyz: xyz + [1, 2, 3])
        near(moved.vertices - solid().vertices, np.tile([1.0, 2, 3], (8, 1)))
        self.assertEqual(len(joined([]).triangles), 0)

    def test_what_is_no_mesh(self):
        square = np.array([[0.0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]])
        found = checked(square, [[0, 1, 2], [0, 0, 1], [1, 1, 2], [2, 3, 2], [0, 2, 3]], "m")
        self.assertEqual(found.triangles.tolist(), [[0, 1, 2], [0, 2, 3]])
        for vertices, triangles, words in (
            (square, [], "no triangle"), (square, [[0, 1, 4]], "vertex 5 of 4"), (square, [[0, 1, -1]], "vertex"),
            (np.where(square == 1, np.nan, square), [[0, 1, 2]], "not a number"),
        ):  # fmt: skip
            with self.assertRaisesRegex(InputError, words):
                checked(vertices, np.array(triangles), "m")
        upright = TriangleMesh(np.array([[0.0, 0, 0], [1, 0, 0], [0, 0, 1]]), np.array([[0, 1, 2]], np.int32))
        with self.assertRaises(InputError):
            upright.tin()
        spare = np.vstack([square, [np.nan] * 3])
        self.assertEqual(len(checked(spare, [[0, 1, 2]], "m").triangles), 1, "a vertex nobody uses may be anything")


class Rings(unittest.TestCase):
    RING = np.column_stack([np.array([[0.0, 0], [7, 1], [6, 5], [1, 4]]), [10.0, 20, 30, 40]]) + FAR

    def test_a_third_column_changes_nothing(self):
        flat = self.RING[:, :2]
        self.assertEqual(polygon.area(self.RING), polygon.area(flat))
        self.assertEqual(polygon.perimeter(self.RING), polygon.perimeter(flat))
        near(polygon.checked(self.RING), flat)
        near(polygon.along(self.RING, 0.7), polygon.along(flat, 0.7))
        spots = np.random.default_rng(3).uniform(-1, 8, (500, 2)) + FAR[:2]
        np.testing.assert_array_equal(polygon.contains(self.RING, spots), polygon.contains(flat, spots))
        np.testing.assert_array_equal(
            polygon.contains(flat, spots), shapely.contains_xy(shapely.Polygon(flat), spots[:, 0], spots[:, 1])
        )
        near(polygon.offset(self.RING, 0.5)[0], polygon.offset(flat, 0.5)[0])
        self.assertAlmostEqual(polygon.area(flat), shapely.Polygon(flat - FAR[:2]).area, places=6)

    def test_along_perimeter_and_inside_by_hand(self):
        ring = np.array([[0.0, 0], [4, 0], [4, 3], [0, 3]])
        near(polygon.along(ring, 2.0), [[0, 0], [2, 0], [4, 0], [4, 1.5], [4, 3], [2, 3], [0, 3], [0, 1.5]])
        near(polygon.along(ring, 100.0), ring)
        self.assertEqual(polygon.perimeter(ring), 14.0)
        self.assertEqual(polygon.area(ring), 12.0)
        self.assertEqual(polygon.area(ring[::-1]), -12.0)
        spots = np.array([[1.0, 1], [3.9, 2.9], [4.1, 1], [-0.1, 1], [2, 3.1], [2, -0.1]])
        self.assertEqual(polygon.contains(ring, spots).tolist(), [True, True, False, False, False, False])
        share = polygon.coverage(ring, np.array([-1.0, -1.0]), 2.0, (3, 4))
        near(share, [[0.25, 0.5, 0.25, 0], [0.5, 1, 0.5, 0], [0, 0, 0, 0]])
        tall = polygon.coverage(ring, np.array([-0.5, -0.5]), 1.0, (5, 6))
        self.assertAlmostEqual(tall.sum(), 12.0)
        self.assertEqual(tall[0, 0], 0.25)

    def test_doubled_vertices_and_turning(self):
        flat = self.RING[:, :2]
        doubled = np.vstack([flat[:2], flat[1], flat[2:], flat[0]])
        near(polygon.checked(doubled), flat)
        near(polygon.checked(flat[::-1]), flat[::-1][::-1])
        self.assertGreater(polygon.area(polygon.checked(flat[::-1])), 0)
        for bad in (
            flat[:2],
            flat[:1],
            np.tile(flat[0], (5, 1)),
            [[0, 0], [1, 1], [2, 2]],
            [[0, 0], [1, np.nan], [2, 1]],
        ):
            with self.assertRaises(InputError):
                polygon.checked(np.array(bad, float))

    def test_mitred_offsets_end_at_twice_the_distance(self):
        square = np.array([[0.0, 0], [10, 0], [10, 10], [0, 10]])
        self.assertAlmostEqual(polygon.area(polygon.offset(square, 1.0)[0]), 144.0)
        self.assertAlmostEqual(polygon.area(polygon.offset(square, -1.0)[0]), 64.0)
        needle = np.array([[0.0, 0], [40, -1], [40, 1]])
        self.assertLess(-polygon.offset(needle, 1.0)[0][:, 0].min(), 2.6, "a sharp corner is cut off")
        self.assertGreater(-polygon.offset(needle, 1.0)[0][:, 0].min(), 1.5)
        self.assertEqual(polygon.offset(square, -5.1), [])
        waist = np.array([[0.0, 0], [10, 0], [10, 10], [6, 1], [4, 1], [0, 10]])
        self.assertEqual(len(polygon.offset(waist, -0.6)), 2)

    def test_areas(self):
        one = Area((ring_of(circle(5, 40)), ring_of(circle(2, 30)[::-1])), "a")
        self.assertAlmostEqual(one.size, one.shape.area, places=9)
        near(one.middle, [0, 0], 1e-9)
        off = Area(
            (ring_of([[0, 0], [4, 0], [4, 2], [0, 2]]), ring_of([[0.5, 0.5], [1.5, 0.5], [1.5, 1.5], [0.5, 1.5]]))
        )
        near(off.middle, [(8 * 2 - 1 * 1) / 7, 1.0])
        two = Area((ring_of(circle(1, 20) + [8, 0]),))
        spots = np.array([[3.0, 0], [0, 0], [8, 0], [20, 0]])
        self.assertEqual(inside_any((one, two), spots).tolist(), [True, False, True, False])
        self.assertEqual(inside_any((), spots).tolist(), [False] * 4)

    def test_nothing_is_lost_far_from_the_origin(self):
        """A ring of a hand's width with broken numbers, where products of coordinates have no millimetres left."""
        ring = np.array([[0.1, 0.2], [0.37, 0.23], [0.33, 0.41], [0.13, 0.39]])
        far = ring + [583_211.37, 5_812_345.61]
        exact = np.round(far - far[0], 12)
        self.assertAlmostEqual(polygon.area(far), shapely.Polygon(exact).area, places=12)
        self.assertAlmostEqual(polygon.perimeter(far), shapely.Polygon(exact).length, places=9)
        grown = polygon.offset(far, 0.05)[0] - far[0]
        near(grown, polygon.offset(exact, 0.05)[0], atol=1e-8)
        near(polygon.checked(far), far, atol=0)
        near(polygon.checked(far[::-1]), far, atol=0)
        hole = (ring - ring.mean(axis=0)) * 0.3 + ring.mean(axis=0)
        area = Area((ring_of(far), ring_of(hole + [583_211.37, 5_812_345.61])), "far")
        plain = shapely.Polygon(ring, [hole])
        near(area.middle, np.array(plain.centroid.coords[0]) + [583_211.37, 5_812_345.61], atol=1e-8)
        self.assertAlmostEqual(area.size, plain.area, places=9)
        area.check("far")
        spots = np.array([[0.25, 0.3], [0.12, 0.25], [0.2, 0.22], [0.4, 0.3]])
        self.assertEqual(
            area.contains(spots + [583_211.37, 5_812_345.61]).tolist(), shapely.contains_xy(plain, spots).tolist()
        )

    def test_areas_of_shapes(self):
        holed = shapely.Polygon(
            [[0, 0], [8, 0], [8, 6], [0, 6]], [[[1, 1], [3, 1], [3, 4], [1, 4]], [[5, 1], [7, 1], [7, 2]]]
        )
        plain = shapely.Polygon([[20, 0], [24, 0], [24, 2]])
        several = Area.of(shapely.GeometryCollection([holed, shapely.Point(1, 1), plain]), "b")
        self.assertEqual([(area.name, len(area.rings), area.size) for area in several], [("b", 3, 41.0), ("b", 1, 4.0)])
        self.assertEqual([area.name for area in Area.of(plain)], [""])
        self.assertEqual(len(several[0].rings[0]), 4, "without the doubled last vertex")
        self.assertEqual(several[1].outline.shape, (3, 2))
        self.assertEqual(several[1].holes, [])
        share = several[0].coverage(np.zeros(2), 2.0, (3, 4))
        cells = [[shapely.box(x, y, x + 2, y + 2) for x in (0, 2, 4, 6)] for y in (0, 2, 4)]
        near(share * 4, [[holed.intersection(cell).area for cell in row] for row in cells], atol=1e-12)
        self.assertAlmostEqual(share.sum() * 4, 41.0)
        turned = Area(tuple(ring[::-1] for ring in several[0].rings))
        near(turned.coverage(np.zeros(2), 2.0, (3, 4)), share, atol=1e-12)
        self.assertEqual(turned.size, 41.0)

    def test_what_is_no_area(self):
        square, inner = ring_of([[0, 0], [9, 0], [9, 9], [0, 9]]), ring_of([[1, 1], [3, 1], [3, 3], [1, 3]])
        Area((square, inner)).check("a")
        Area((square, inner[::-1], ring_of([[5, 5], [6, 5], [6, 6]]))).check("a")
        for hole in (ring_of([[8, 8], [11, 8], [11, 11]]), ring_of([[20, 20], [21, 20], [21, 21]]), square):
            with self.assertRaisesRegex(InputError, "^a: a hole crosses"):
                Area((square, hole)).check("a")
        with self.assertRaisesRegex(InputError, "^a: a hole crosses"):
            Area((square, inner, ring_of([[2, 2], [4, 2], [4, 4]]))).check("a")
        with self.assertRaisesRegex(InputError, "^a: the line crosses"):
            Area((square, ring_of([[1, 1], [3, 3], [3, 1], [1, 3]]))).check("a")
        with self.assertRaisesRegex(InputError, "three vertices"):
            Area((square[:2],)).check("a")
        for bad, words in (
            ([[0, 0], [1, 1]], "three vertices"), ([[0, 0]], "three vertices"), ([[0, 0], [4, 0], [0, 0]], "three vertices"),
            ([[0, 0], [4, 0], [2, 0]], "crosses or touches|no area"), ([[0, 0], [4, np.inf], [2, 0]], "not a number"),
        ):  # fmt: skip
            with self.assertRaisesRegex(InputError, words):
                polygon.checked(np.array(bad, float), "a")


class Planes(unittest.TestCase):
    def test_exact_and_robust(self):
        rng = np.random.default_rng(2)
        xyz = np.column_stack([rng.uniform(-9, 9, (60, 2)), np.zeros(60)]) + FAR
        xyz[:, 2] += 0.3 * (xyz[:, 0] - FAR[0]) - 0.7 * (xyz[:, 1] - FAR[1])
        one = plane.fit(xyz)
        near(one.gradient, [0.3, -0.7], 1e-9)
        near(one.at(xyz), xyz[:, 2], 1e-6)
        self.assertLess(one.residual_rms, 1e-7)
        self.assertEqual(plane.level(4.5).at(xyz[:3]).tolist(), [4.5] * 3)
        self.assertEqual(plane.level(4.5).residual_rms, 0.0)
        weights = np.ones(60)
        weights[:20] = 0.0
        spoilt = xyz.copy()
        spoilt[:20, 2] += 5.0
        near(plane.fit(spoilt, weights).gradient, [0.3, -0.7], 1e-9)
        few = xyz.copy()
        few[:8, 2] += 30.0
        near(plane.fit_robust(few).gradient, [0.3, -0.7], 1e-6)
        self.assertAlmostEqual(plane.fit(xyz + [0, 0, 1] * rng.choice([-1, 1], (60, 1))).residual_rms, 1.0, delta=0.05)
        with self.assertRaises(NotDeterminable):
            plane.fit(xyz[:2])
        with self.assertRaises(NotDeterminable):
            plane.fit(np.column_stack([np.arange(5.0), 2 * np.arange(5.0), np.ones(5)]))


class Elevations(unittest.TestCase):
    def test_a_grid_that_is_turned_and_not_square(self):
        angle = np.radians(20)
        affine = (2 * np.cos(angle), 3 * np.sin(angle), 100.0, 2 * np.sin(angle), -3 * np.cos(angle), 200.0)
        pixels = np.array([[c + 0.5, r + 0.5] for r in range(4) for c in range(6)], float)
        spots = placed(affine, pixels)
        near(unplaced(affine, spots), pixels, 1e-9)
        near(spots[1] - spots[0], [2 * np.cos(angle), 2 * np.sin(angle)])
        near(spots[6] - spots[0], [3 * np.sin(angle), -3 * np.cos(angle)])
        z = (spots @ [0.5, 0.25]).reshape(4, 6)
        grid = ElevationGrid(z, affine)
        self.assertAlmostEqual(grid.cell, 2.0)
        self.assertEqual(grid.known, 24)
        inner = placed(affine, np.array([[1.7, 1.2], [4.9, 3.1]]))
        near(grid.at(inner), inner @ [0.5, 0.25], 1e-9)
        self.assertTrue(np.isnan(grid.at(np.array([[0.0, 0.0]]))).all())
        surface = grid.tin()
        self.assertEqual(len(surface.triangles), 2 * 3 * 5)
        self.assertTrue((surface.plan_areas > 0).all())
        self.assertAlmostEqual(surface.plan_area, 3 * 5 * 6.0, places=9)
        near(surface.at(inner), inner @ [0.5, 0.25], 1e-9)
        corners = placed(affine, np.array([[0, 0], [6, 0], [6, 4], [0, 4]], float))
        near(grid.bounds[0], [*corners.min(axis=0), z.min()])
        near(grid.bounds[1], [*corners.max(axis=0), z.max()])
        holed = replace(grid, z=np.where(np.arange(24).reshape(4, 6) == 8, np.nan, z))
        self.assertEqual(holed.known, 23)
        self.assertEqual(len(holed.tin().triangles), 30 - 6)
        self.assertEqual(len(holed.tin().vertices), 23)
        self.assertLessEqual(len(ElevationGrid(np.zeros((50, 50)), affine).tin(most=400).triangles), 400)
        feet = grid.scaled(1 / 0.3048, 2.0)
        near(feet.at(inner / 0.3048), 2 * grid.at(inner), 1e-9)
        self.assertIs(grid.scaled(2.0, 1.0).z, grid.z)


class Features(unittest.TestCase):
    def test_points_and_lines(self):
        points = SurveyPoints(np.arange(9.0).reshape(3, 3), ("a", "b", "c"), ("1", "2", "3"), {"x": ("p", "q", "r")})
        some = points.only(np.array([True, False, True]))
        self.assertEqual((some.names, some.codes, some.extra["x"]), (("a", "c"), ("1", "3"), ("p", "r")))
        near(points.only(np.array([2, 0])).xyz, points.xyz[[2, 0]])
        near(points.mapped(lambda xyz: xyz * 2).xyz, points.xyz * 2)
        lines = LineSet(
            (Line(np.array([[1.0, 2, 3], [4, 5, 6]]), False, "n", "l"), Line(np.ones((1, 3)), False, "", "k"))
        )
        self.assertEqual(lines.vertices.shape, (3, 3))
        self.assertEqual(LineSet(()).vertices.shape, (0, 3))
        self.assertEqual(lines.layers, ("l", "k"))
        near(lines.scaled(2.0, 3.0).lines[0].xyz, [[2, 4, 9], [8, 10, 18]])
        near(lines.mapped(lambda xyz: xyz + 1).lines[0].xyz, [[2, 3, 4], [5, 6, 7]])

    def test_bounds(self):
        low, high = bounds_of(np.array([[1.0, 5, np.nan], [3, -2, np.nan], [2, np.nan, np.nan]]))
        np.testing.assert_array_equal(low, [1, -2, np.nan])
        np.testing.assert_array_equal(high, [3, 5, np.nan])
        for corner in bounds_of(np.empty((0, 3))):
            self.assertEqual(corner.shape, (3,))
            self.assertTrue(np.isnan(corner).all())


class Lines(unittest.TestCase):
    def test_arcs_by_their_ends(self):
        centre = np.array([10.0, 20.0])
        for right in (True, False):
            for first, sweep in ((0.3, 1.1), (2.0, 4.0), (5.5, 2.5)):
                turn = sweep if right else -sweep
                ends = [centre + 7 * np.array([np.sin(a), np.cos(a)]) for a in (first, first + turn)]
                one = arc(ends[0], centre, ends[1], right)
                self.assertAlmostEqual(one.length, 7 * sweep, places=9)
                near(one.end, ends[1], 1e-9)
                middle = centre + 7 * np.array([np.sin(first + turn / 2), np.cos(first + turn / 2)])
                near(one.at(np.array([one.length / 2]))[0], middle, 1e-9)
                self.assertEqual(np.sign(one.k0), 1 if right else -1)
        with self.assertRaises(InputError):
            arc(centre, centre, centre + 1, True)
        three = straight(np.array([1.0, 2, 9]), np.array([4.0, 6, 9]))
        self.assertAlmostEqual(three.length, 5.0)
        self.assertAlmostEqual(three.azimuth, np.arctan2(3, 4))

    def test_a_spiral_against_fine_steps(self):
        one = Element((5.0, 6.0), 0.4, 80.0, 0.0, 1 / 30)
        s = np.linspace(0, 80, 400_001)
        azimuth = 0.4 + s**2 / (2 * 80 * 30)
        east = 5 + np.concatenate([[0], np.cumsum((np.sin(azimuth)[1:] + np.sin(azimuth)[:-1]) / 2 * np.diff(s))])
        north = 6 + np.concatenate([[0], np.cumsum((np.cos(azimuth)[1:] + np.cos(azimuth)[:-1]) / 2 * np.diff(s))])
        for at in (20.0, 55.0, 80.0):
            k = round(at / 80 * 400_000)
            near(one.at(np.array([at]))[0], [east[k], north[k]], 1e-7)
        front, back = one.halves()
        near(front.end, one.at(np.array([40.0]))[0], 1e-9)
        near(back.end, one.end, 1e-7)
        self.assertAlmostEqual(back.k0, 1 / 60)
        for tolerance in (0.5, 0.01):
            spots = one.at(one.steps(tolerance))
            every = one.at(np.linspace(0, 80, 4001))
            line = shapely.LineString(spots)
            off = shapely.distance(line, shapely.points(every)).max()
            self.assertLess(off, tolerance * 1.02)
            self.assertGreater(off, 0.2 * tolerance)
        # A long spiral turns often: each radian of it has pieces of its own.
        tight = Element((0.0, 0.0), 0.0, 100.0, 0.3, 0.02)
        fine = np.linspace(0, 100, 800_001)
        turn = 0.3 * fine - 0.28 * fine**2 / 200
        north = np.concatenate([[0], np.cumsum((np.cos(turn)[1:] + np.cos(turn)[:-1]) / 2 * np.diff(fine))])
        near(tight.end[1], north[-1], 1e-6)
        bow = Element((0.0, 0.0), 0.0, 60.0, 0.02, -0.02)
        turn = 0.02 * fine * 0.6 - 0.04 * (fine * 0.6) ** 2 / 120
        east = np.concatenate([[0], np.cumsum((np.sin(turn)[1:] + np.sin(turn)[:-1]) / 2 * np.diff(fine * 0.6))])
        near(bow.end[0], east[-1], 1e-6)
        self.assertEqual(bow.steps(0.01)[-1], 60.0)
        big = one.scaled(2.0)
        near(big.end, one.end * 2, 1e-7)

    def test_flattened_keeps_to_its_tolerance_in_profile_and_runs_from_end_to_end(self):
        grades = (Grade(100, 10.0), Grade(180, 14.0, 60.0), Grade(300, 5.0, 40.0, 10.0), Grade(400, 9.0))
        line = Alignment("a", 100.0, (straight(np.zeros(2), np.array([0.0, 300])),), grades)
        fine = np.linspace(100, 400, 3001)
        for tolerance in (0.2, 0.01):
            xyz, along = line.flattened(tolerance)
            self.assertEqual((along[0], along[-1]), (100.0, 400.0))
            off = np.abs(np.interp(fine, along, xyz[:, 2]) - line.elevation(fine)).max()
            self.assertLess(off, tolerance)
            self.assertTrue({180.0, 300.0} <= set(along.tolist()))
            on_curve = along[(along >= 150) & (along <= 210)]
            bend = (0.05 + 0.075) / 60
            chord = np.diff(on_curve).max()
            self.assertLessEqual(bend * chord**2 / 8, tolerance)
            self.assertLess(len(on_curve), 2 * 60 / np.sqrt(8 * tolerance / bend) + 8)
        self.assertLess(len(line.flattened(0.2)[0]), len(line.flattened(0.01)[0]))
        self.assertTrue(np.isnan(line.elevation(np.array([99.0, 401.0]))).all())
        self.assertAlmostEqual(line.elevation(np.array([130.0]))[0], 11.5)


def outcome(**layers):
    return Outcome("x", "m", "", {}, {}, layers=layers)


def surface_of(spots):
    return np.column_stack([spots[:, :2], [0, 0, 1.0]])


class Layers(unittest.TestCase):
    PALETTE = {"edge": (1, 2, 3), "base": (4, 5, 6), "mark": (7, 8, 9), "gap": (10, 11, 12)}
    TRIANGLE = np.array([[0, 1, 2]], np.int32)

    def scene(self, found, wanted=(), skip=()):
        made = Scene((255, 255, 255), [])
        put(made, found, self.PALETTE, set(wanted), frozenset(skip))
        return made

    def test_what_is_shown_and_how(self):
        square = np.array([[0.0, 0, 0], [2, 0, 0], [2, 1, 5]])
        found = outcome(
            toe=FoundLine(square, "edge", "Toe", closed=True), gap=FoundLine(square, "base", gapped=True),
            base=FoundMesh(square, self.TRIANGLE, "base", "Base", shown=False),
            hatched=FoundMesh(square, self.TRIANGLE, "gap", hatch=True),
            empty=FoundMesh(np.empty((0, 3)), np.empty((0, 3), np.int32)), none=FoundLine(np.empty((0, 3))),
        )  # fmt: skip
        plain = self.scene(found)
        self.assertEqual([(line.colour, line.closed, line.dash) for line in plain.lines],
                         [((1, 2, 3), True, ()), ((4, 5, 6), False, (2.0, 3.0))])  # fmt: skip
        self.assertEqual([(mesh.colour, mesh.hatch) for mesh in plain.meshes], [((10, 11, 12), True)])
        self.assertEqual([(mesh.opacity, mesh.hidden) for mesh in plain.meshes], [(0.75, 0.75)])
        base = next(mesh for mesh in self.scene(found, wanted=["base"]).meshes if mesh.colour == (4, 5, 6))
        self.assertEqual((base.opacity, base.hidden), (0.85, 0.35))
        top = self.scene(outcome(top=FoundMesh(square, self.TRIANGLE))).meshes[0]
        self.assertEqual((top.opacity, top.hidden, top.colour), (1.0, 0.0, (7, 8, 9)))
        self.assertEqual(len(self.scene(found, wanted=["base"]).meshes), 2)
        self.assertEqual(len(self.scene(found, wanted=["base"], skip=["base", "toe"]).meshes), 1)
        self.assertEqual(len(self.scene(found, skip=["toe"]).lines), 1)
        self.assertEqual(toggles(found), [("base", "Base")])
        self.assertEqual(toggles(None), [])
        self.assertFalse(FoundMesh(square, self.TRIANGLE).hatch)
        for kind in (FoundLine(square), FoundMesh(square, self.TRIANGLE), FoundPoints(square),
                     FoundLabels(square, ("a",)), FoundDimensions(square[None, :2], ("a",))):  # fmt: skip
            self.assertTrue(kind.shown)

    def test_points_labels_and_dimensions(self):
        spots = np.array([[0.0, 0, 0], [1, 0, 0], [2, 0, 0]])
        values = np.array([-2.0, 0.0, 2.0])
        found = outcome(
            spots=FoundPoints(spots, "mark", names=("a", "b", "c")), valued=FoundPoints(spots, values=values),
            words=FoundLabels(spots[:1], ("x",)),
            sizes=FoundDimensions(np.array([[[0.0, 0, 0], [0, 0, 4]], [[1, 1, 0], [3, 1, 0]]]), ("4 m", "2 m")),
        )  # fmt: skip
        made = self.scene(found)
        plain, valued, words, sizes = made.marks
        self.assertEqual(plain.colours.tolist(), [[7, 8, 9]] * 3)
        self.assertEqual((plain.texts, plain.marked, words.marked, sizes.marked), (("a", "b", "c"), True, False, False))
        inks = table(SIGNED)
        np.testing.assert_array_equal(valued.colours[[0, 2]], inks[[0, -1]])
        self.assertEqual(len({tuple(colour) for colour in valued.colours.tolist()}), 3)
        near(sizes.xyz, [[0, 0, 2], [2, 1, 0]])
        self.assertEqual([marks.colours.shape for marks in made.marks], [(3, 3), (3, 3), (1, 3), (2, 3)])
        for values in (np.zeros(3), np.full(3, np.nan)):
            flat = FoundMesh(surface_of(spots), self.TRIANGLE, values=values)
            self.assertEqual(self.scene(outcome(flat=flat)).meshes[0].limits, (-1.0, 1.0))
        self.assertEqual([line.width for line in made.lines], [1.1, 1.1])
        surface = FoundMesh(
            np.column_stack([spots[:, :2], [0, 0, 1.0]]), self.TRIANGLE, values=np.array([-1.0, 3.0, np.nan])
        )
        mesh = self.scene(outcome(surface=surface)).meshes[0]
        self.assertEqual(-mesh.limits[0], mesh.limits[1])
        self.assertAlmostEqual(mesh.limits[1], np.percentile([1.0, 3.0], 98))
        self.assertTrue(mesh.ramp)
        steady = self.scene(outcome(flat=FoundPoints(spots, values=np.zeros(3)))).marks[0]
        self.assertEqual(len({tuple(colour) for colour in steady.colours.tolist()}), 1)

    def test_bounds_of_all_that_is_drawn(self):
        found = outcome(
            line=FoundLine(np.array([[1.0, 2, 3], [np.nan, 0, 0]])),
            mesh=FoundMesh(np.array([[5.0, 1, 1], [4, 9, 1], [4, 1, 7]]), self.TRIANGLE),
            sizes=FoundDimensions(np.array([[[-6.0, 0, 2], [0, 0, 4]]]), ("a",)),
        )
        low, high = drawn_bounds(found)
        near(low, [-6, 0, 1])
        near(high, [5, 9, 7])
        self.assertIsNone(drawn_bounds(outcome()))

    def test_heights_inside_lines_for_every_point(self):
        rng = np.random.default_rng(6)
        spots = np.column_stack([rng.uniform(0, 40, (250_000, 2)), rng.uniform(3, 4, 250_000)]) + FAR
        store = store_of(spots)
        self.assertGreater(len(store.tiles), 8)
        rings = [circle(4, 60) + [9, 12] + FAR[:2], circle(6, 60) + [28, 25] + FAR[:2]]
        # The surface ends at the middle of the first ring's east side, so that some points lie just outside of it.
        corners = np.array([[-5.0, -5, 0], [45, -5, 0], [45, 45, 10], [-5, 45, 10]]) + FAR
        mesh = FoundMesh(corners, np.array([[0, 1, 2], [0, 2, 3]], np.int32), "base")
        found = outcome(base=mesh, **{f"toe {k}": FoundLine(np.column_stack([r, np.zeros(60)]), closed=True)
                                      for k, r in enumerate(rings)}, other=FoundLine(corners), **{"toe open": FoundLine(corners), "toe mesh": mesh})  # fmt: skip
        values = values_of(Attribute("over", "base", "toe", "m"), found, store)
        xyz = store.coordinates(slice(0, store.count))
        inside = polygon.contains(rings[0], xyz) | polygon.contains(rings[1], xyz)
        np.testing.assert_array_equal(np.isfinite(values), inside)
        want = xyz[inside, 2] - FAR[2] - (xyz[inside, 1] - FAR[1] + 5) / 5
        near(values[inside], want, 2e-4)
        self.assertIsNone(values_of(Attribute("over", "missing", "toe", "m"), found, store))
        self.assertIsNone(values_of(Attribute("over", "base", "nothing", "m"), found, store))
        ring = np.array([[0.0, 0, 1], [1, 0, 1], [1, 1, 1], [0, 1, 1]])
        flat = checked(ring, [[0, 1, 2], [0, 2, 3]], "s").tin()
        near(elevations(flat, ring, np.array([[0.5, 0.5], [1.2, 0.4], [-3, 9]])), [1, 1, 1])


class Inventories(unittest.TestCase):
    def rows(self, compared=True):
        base = {"net": 100.0, "above": 103.0, "below": 3.0, "mass": 160.0, "plan_area": 50.0, "highest": 7.5,
                "gap_area": 1.5, "check_percent": -0.4}  # fmt: skip
        one = Row("A", "sand", 1.6, "now", base, {"Noise": 3.0}, 90.0, "A", {"Noise": 4.0}, notes=2)
        two = Row("B", "rock", 2.0, "now", {**base, "net": 50.0, "mass": 100.0}, {"Noise": 4.0}, 0.0, "", {})
        moved = replace(one, name="C", before_name="old C")
        gone = Row("D", "sand", None, GONE, {}, {}, 30.0, "D", {"Noise": 12.0})
        if compared:
            return [one, two, moved, gone]
        return [replace(row, before=None, before_name="", before_parts={}) for row in (one, two)]

    def test_every_cell_of_both_tables(self):
        found = tables(InventorySetup(), self.rows(), METRE)
        heaps = found["heaps"]
        names = [column.name for column in heaps.columns]
        self.assertEqual(names, ["name", "material", "net", "u95", "mass", "density", "above", "below", "plan_area",
                                 "highest", "gap_area", "check_percent", "notes", "before", "change", "change_u95",
                                 "state"])  # fmt: skip
        table = [dict(zip(names, row, strict=True)) for row in heaps.rows]
        self.assertEqual([row["state"] for row in table], ["", "new", "was old C", "gone"])
        first = table[0]
        self.assertEqual((first["net"], first["above"], first["below"], first["plan_area"], first["highest"]),
                         (100.0, 103.0, 3.0, 50.0, 7.5))  # fmt: skip
        self.assertEqual(
            (first["gap_area"], first["check_percent"], first["notes"], first["density"]), (1.5, -0.4, 2, 1.6)
        )
        self.assertEqual((first["before"], first["change"], first["change_u95"], first["u95"]), (90.0, 10.0, 5.0, 3.0))
        self.assertEqual(table[3]["change"], -30.0)
        units = {column.name: column.unit for column in heaps.columns}
        self.assertEqual((units["net"], units["plan_area"], units["highest"], units["change"]), ("m3", "m2", "m", "m3"))
        groups = found["materials"]
        self.assertEqual([column.name for column in groups.columns][-2:], ["change", "change_u95"])
        rows = {row[0]: row for row in groups.rows}
        self.assertEqual(rows["rock"][1:5], (1, 50.0, 4.0, 100.0))
        self.assertEqual(rows["sand"][1:3], (2, 200.0))
        self.assertAlmostEqual(rows["sand"][5], 10.0 + 10.0 - 30.0)
        self.assertAlmostEqual(rows["sand"][6], np.sqrt(9 + 16 + 9 + 16 + 144))

    def test_without_an_earlier_survey(self):
        found = tables(InventorySetup(), self.rows(compared=False), FOOT)
        self.assertEqual(len(found["heaps"].columns), 13)
        self.assertEqual([len(row) for row in found["heaps"].rows], [13, 13])
        self.assertEqual([len(row) for row in found["materials"].rows], [5, 5])
        self.assertEqual(found["heaps"].columns[2].unit, "ft3")
        unnamed = [replace(row, material="") for row in self.rows(compared=False)]
        self.assertNotIn("materials", tables(InventorySetup(), unnamed, METRE))
        mixed = [unnamed[0], self.rows(compared=False)[1]]
        self.assertIn("not named", [row[0] for row in tables(InventorySetup(), mixed, METRE)["materials"].rows])

    def test_figures(self):
        found = worded(InventorySetup(), self.rows(), METRE)
        self.assertEqual(found["total_net"].value, 250.0)
        self.assertAlmostEqual(found["total_net"].u95, np.sqrt(9 + 16 + 9))
        self.assertEqual((found["total_above"].value, found["total_below"].value), (309.0, 9.0))
        self.assertEqual((found["heaps"].value, found["change"].value), (3, 10.0 + 50.0 + 10.0 - 30.0))
        self.assertEqual(found["change"].unit, "m3")
        nothing = worded(InventorySetup(), [], METRE)
        self.assertIsNone(nothing["total_net"].value)
        self.assertEqual(nothing["heaps"].value, 0)
        self.assertEqual(nothing["change"].note, "no earlier survey")

    def test_matching_is_one_to_one_by_the_largest_common_area(self):
        box = lambda x, size=2.0: shapely.box(x, 0, x + size, 2)  # noqa: E731
        self.assertEqual(matched([box(0), box(10)], [box(10.3), box(0.5)]), {0: 1, 1: 0})
        self.assertEqual(matched([box(0), box(0.4)], [box(0.3)]), {1: 0})
        self.assertEqual(matched([box(0)], [box(1.7)]), {}, "fifteen hundredths are too little")
        self.assertEqual(matched([box(0)], [box(1.5)]), {0: 0})
        self.assertEqual(matched([box(0, 20.0)], [box(3)]), {0: 0}, "of the smaller one")
        self.assertEqual(matched([], [box(0)]), {})

    def test_an_area_with_a_hole_is_matched_by_what_is_left(self):
        ring, hole = ((0.0, 0.0), (9.0, 0.0), (9.0, 9.0), (0.0, 9.0)), ((1.0, 1.0), (8.0, 1.0), (8.0, 8.0), (1.0, 8.0))
        item = Item("a", "A", Drawn(ring, (), (hole,)))
        self.assertAlmostEqual(shape_of(item).area, 81.0 - 49.0)
        self.assertEqual(matched([shape_of(item)], [shapely.box(2, 2, 7, 7)]), {})
        crossing = Item("b", "B", Drawn(((0.0, 0.0), (2.0, 2.0), (2.0, 0.0), (0.0, 2.0))))
        self.assertTrue(shape_of(crossing).is_valid)

    def test_keys_and_names_of_what_is_proposed(self):
        some = lambda *keys: tuple(Item(key, key, Drawn(((0, 0), (1, 0), (0, 1)))) for key in keys)  # noqa: E731
        self.assertEqual(inventory_run._key(InventorySetup(), []), "h1")
        self.assertEqual(inventory_run._key(InventorySetup(heaps=some("h1", "h3")), []), "h2")
        self.assertEqual(inventory_run._key(InventorySetup(heaps=some("h1", "h2")), list(some("h3", "h4"))), "h5")
        self.assertEqual(inventory_run._key(InventorySetup(heaps=some("x", "h2")), []), "h1")
        later = inventory_run.follow(InventorySetup(cloud=Scope("c1", part="p"), heaps=some("h1")), "c2")
        self.assertEqual((later.cloud, later.earlier, later.heaps), (Scope("c2"), Scope("c1", part="p"), ()))
        self.assertEqual([item.key for item in later.earlier_heaps], ["h1"])


class Charts(unittest.TestCase):
    def test_the_two_surfaces_of_a_profile(self):
        line, along = np.zeros((2, 2)), np.arange(3.0)
        traces = tuple((name, name, along + k) for k, name in enumerate(("top", "base", "more")))
        one = Profile("p", line, along, traces)
        near(one.top, [0, 1, 2])
        near(one.base, [1, 2, 3])
        lone = Profile("p", line, along, traces[:1])
        self.assertTrue(np.isnan(lone.base).all())
        self.assertEqual(len(lone.base), 3)
        near(Profile("p", line, along, traces[:2]).base, [1, 2, 3])


class PlaceEdges(unittest.TestCase):
    def site(self, shift=(0.0, 0.0), factor=1.0):
        rng = np.random.default_rng(4)
        xyz = np.column_stack([rng.uniform(0, 100, (2000, 2)), rng.uniform(5, 6, 2000)])
        return Site((xyz + [500_000 + shift[0], 5_800_000 + shift[1], 0]) * factor, local_grid(METRE))

    def codes(self, new):
        return [code for code, _ in check(new, self.site()).alarms]

    def test_data_in_another_unit_must_come_near_the_jobs(self):
        """A quarter of the job's extent on each side is near: of data 90 m aside 35 % lie there, of data 60 m aside 65 %."""
        self.assertIn("unit-ratio", self.codes(self.site((60, 0), 0.3048)))
        self.assertIn("unit-ratio", self.codes(self.site((0, -60), 0.3048)))
        self.assertNotIn("unit-ratio", self.codes(self.site((90, 0), 0.3048)))

    def test_far_away_is_more_than_twice_the_jobs_diagonal(self):
        diagonal = np.hypot(100, 100)
        for apart, far in ((1.9 * diagonal, False), (2.1 * diagonal, True)):
            found = check(self.site((100 + apart, 0)), self.site())
            self.assertEqual("far-away" in [code for code, _ in found.alarms], far)
            self.assertAlmostEqual(found.apart, apart, delta=0.5)
        corner = check(self.site((130, 140)), self.site())
        self.assertAlmostEqual(corner.apart, 50.0, delta=0.5)


class Declarations(unittest.TestCase):
    def test_what_is_usual(self):
        self.assertTrue(Option("out", "help").output)
        self.assertEqual(Option("out", "help").endings, ())
        about = FigureAbout("net", "Net", "volume")
        self.assertEqual((about.signed, about.adds, about.shown), (False, False, ("sheet", "report")))
        self.assertFalse(Step("a", "A", "h", "toe", lambda *_: None).fresh)
