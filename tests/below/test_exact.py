"""Values that have one right answer, on shapes with unequal parts: geometry, tables of inventories."""

import unittest
from dataclasses import replace

import numpy as np
import shapely
import trimesh

from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import plane, polygon
from kerb.core.geometry.alignment import Element
from kerb.core.geometry.area import Area, ring_of
from kerb.core.geometry.features import Line, LineSet, SurveyPoints, bounds_of
from kerb.core.geometry.mesh import Element as Run
from kerb.core.geometry.mesh import TriangleMesh, checked, joined
from kerb.core.surface.elevation import ElevationGrid, placed, unplaced
from kerb.core.units import METRE
from kerb.studies.inventory.figures import tables
from kerb.studies.inventory.setup import InventorySetup
from kerb.studies.inventory.totals import GONE, Row
from tests.support import FAR, near


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
        self.assertAlmostEqual(box.plan_area, 6.0, places=6)
        for lost in (0, 5, 11):
            part = TriangleMesh(box.vertices, np.delete(box.triangles, lost, axis=0))
            self.assertFalse(part.closed)
            self.assertIsNone(part.volume)
        self.assertFalse(TriangleMesh(np.empty((0, 3)), np.empty((0, 3), np.int32)).closed)
        doubled = np.concatenate([box.vertices[box.triangles[k]] for k in range(12)])
        loose = TriangleMesh(doubled, np.arange(36, dtype=np.int32).reshape(12, 3))
        self.assertTrue(loose.closed, "vertices repeated for each face are one")
        self.assertAlmostEqual(loose.volume, 30.0, places=6)

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

    def test_the_middle_of_what_is_left_beside_a_hole(self):
        outline, hole = ([[0, 0], [4, 0], [4, 2], [0, 2]], [[0.5, 0.5], [1.5, 0.5], [1.5, 1.5], [0.5, 1.5]])
        holed = Area(tuple(ring_of(np.array(ring, float) + FAR[:2]) for ring in (outline, hole)))
        near([*(holed.middle - FAR[:2]), holed.size], [(8 * 2 - 1 * 1) / 7, 1.0, 7.0], 1e-6)

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
        lines = LineSet((Line(np.array([[1.0, 2, 3], [4, 5, 6]]), False, "n", "l"), Line(np.ones((1, 3)), False, "", "k")))
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
        self.assertEqual((first["gap_area"], first["check_percent"], first["notes"], first["density"]), (1.5, -0.4, 2, 1.6))
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
