"""Alignments, rigid transforms, areas and surfaces, against closed forms, shapely, SciPy, laspy-free twins and PROJ."""

import json
import unittest
from dataclasses import replace

import numpy as np
import shapely
from scipy.interpolate import LinearNDInterpolator
from scipy.spatial.transform import Rotation

from kerb.core.cloud.setups import ScanSetup, renumbered, setups_of, with_setups
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import plane
from kerb.core.geometry.alignment import Alignment, Element, Grade, arc, straight
from kerb.core.geometry.area import Area, inside_any, ring_of
from kerb.core.geometry.features import Line, LineSet
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.geometry.rigid import Rigid
from kerb.core.reference import local_grid
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.surface.grid import HeightGrid, filled, gridded
from kerb.core.surface.surfaces import CloudTop, GridSurface, TinSurface, surface_of
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.surface.volume import between, by_grid
from kerb.core.things import LINES, Placed, moved
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.studies.scope import Scope
from tests.support import FAR, Folder, jittered, near, store_of

UNEVEN = np.array([[0, 0], [9, 0], [9, 4], [5, 4], [5, 7], [0, 7.0]])  # an L: 9 × 4 and 5 × 3, area 51
HOLE = np.array([[1, 1], [1, 3], [4, 3], [4, 1.0]])  # clockwise, area 6


def road(at=(0.0, 0.0)):
    """A straight of 100, a clothoid of 60 into a right curve of radius 200, 80 of it, with a profile."""
    a = straight(at, (at[0] + 60.0, at[1] + 80.0))
    b = Element(tuple(a.end.tolist()), a.azimuth, 60.0, 0.0, 1 / 200)
    c = Element(tuple(b.end.tolist()), float(b.direction(np.array([60.0]))[0]), 80.0, 1 / 200, 1 / 200)
    return Alignment("road", 500.0, (a, b, c), (Grade(500, 10.0), Grade(620, 13.0, 40.0), Grade(740, 11.0)))


class Alignments(Folder):
    def test_station_and_offset_come_back(self):
        """The inverse against the forward way, at offsets on both sides and far from the origin."""
        for line in (road(), road((500_000.0, 5_800_000.0))):
            stations = np.linspace(501.0, 739.0, 300)
            offsets = np.tile([-30.0, -2.5, 0.0, 4.0, 60.0], 60)
            places = line.at(stations)[:, :2]
            ahead = line.at(stations + 1e-3)[:, :2] - line.at(stations - 1e-3)[:, :2]
            right = np.column_stack([ahead[:, 1], -ahead[:, 0]]) / np.hypot(*ahead.T)[:, None]
            found, aside = line.locate(places + right * offsets[:, None])
            near(found, stations, atol=1e-4)  # the tangent of this test is a difference
            near(aside, offsets, atol=1e-6)
        at = np.linspace(600.0, 640.0, 9)
        near(road().scaled(0.01, 0.02).elevation(0.01 * at), 0.02 * road().elevation(at))

    def test_closed_forms_of_the_inverse(self):
        line = Alignment("straight", 100.0, (straight((10, 20), (10, 120)),))
        stations, offsets = line.locate(np.array([[13.0, 50.0], [6.0, 20.0], [10.0, 120.0], [11.0, 19.0], [9.0, 121.0]]))
        near(stations[:3], [130, 100, 200], atol=1e-9)
        near(offsets[:3], [3, -4, 0], atol=1e-9)
        self.assertTrue(np.isnan([*stations[3:], *offsets[3:]]).all(), "beyond the ends there is none")
        curve = arc((0, 10), (0, 0), (10, 0), right=True)
        line = Alignment("arc", 0.0, (curve,))
        angle = np.radians([20.0, 70.0])
        outside = np.column_stack([12 * np.sin(angle), 12 * np.cos(angle)])
        stations, offsets = line.locate(outside)
        near(stations, 10 * angle, atol=1e-8)
        near(offsets, [-2, -2], atol=1e-9)
        _, offsets = line.locate(outside * 7 / 12)
        near(offsets, [3, 3], atol=1e-9)

    def test_at_a_kink_the_corner_is_the_foot(self):
        line = Alignment("kink", 0.0, (straight((0, 0), (0, 10)), straight((0, 10), (10, 10))))
        stations, offsets = line.locate(np.array([[-3.0, 14.0]]))
        self.assertAlmostEqual(stations[0], 10.0, places=6)
        self.assertAlmostEqual(offsets[0], -5.0, places=6)

    def test_nearest_by_shapely(self):
        """A brute-force twin: distances to the line flattened to a tenth of a millimetre."""
        line, rng = road(), np.random.default_rng(4)
        places = line.at(rng.uniform(505, 735, 200))[:, :2] + rng.normal(0, 20, (200, 2))
        stations, offsets = line.locate(places)
        known = np.isfinite(stations)
        self.assertGreater(known.sum(), 180)
        flat = shapely.LineString(line.flattened(1e-4)[0][:, :2])
        away = shapely.distance(flat, shapely.points(places[known]))
        near(np.abs(offsets[known]), away, atol=2e-3)

    def test_stations_of_the_design_run_on(self):
        """An alignment whose lengths are a thousandth longer than its stations: both ways, and flattened."""
        line = replace(road(), stations=(500.0, 599.9, 659.84, 739.76))
        self.assertAlmostEqual(line.end_station, 739.76)
        stations = np.array([500.0, 550.0, 599.9, 700.0, 739.76])
        near(line.locate(line.at(stations)[:, :2])[0], stations, atol=1e-6)
        self.assertTrue(np.isnan(line.at(np.array([499.0, 740.5]))[:, 0]).all())
        flat, marks = line.flattened(0.01)
        near([marks[0], marks[-1]], [500.0, 739.76], atol=1e-6)
        near(flat[-1, :2], line.elements[-1].end, atol=1e-6)
        feet = line.scaled(2.0, 3.0)
        near(feet.marks, 2 * line.marks)
        near(feet.profile[1].elevation, 39.0)

    def test_a_map_that_bends_is_followed_in_pieces(self):
        """A map that stretches more and more to the east: pieces are cut until each fits."""
        line = Alignment("east", 0.0, (straight((0, 0), (400, 0)),))
        bent = lambda p: np.column_stack([p[:, 0], p[:, 1] + 1e-5 * p[:, 0] ** 2, p[:, 2] + 5.0])  # noqa: E731
        seen = replace(line, profile=(Grade(0, 1.0), Grade(400, 2.0))).mapped(bent)
        stations = np.linspace(0, 400, 81)
        places = np.column_stack([stations, np.zeros(81), np.zeros(81)])
        off = seen.at(stations)[:, :2] - bent(places)[:, :2]
        self.assertLess(np.hypot(*off.T).max(), 6e-4)
        self.assertGreater(len(seen.elements), 4)
        self.assertEqual(len(seen.stations), len(seen.elements) + 1)
        near(seen.profile[1].elevation, 7.0)
        self.assertEqual(len(line.mapped(lambda p: p + 7.0).elements), 1, "what fits stays one piece")

    def test_turned_rigidly(self):
        line = road()
        turn = Rigid.turned(90.0, np.array([100.0, 50.0, 0.0]), np.array([5.0, -3.0, 2.0]))
        seen = moved(Placed(LINES, LineSet((Line(line.at(np.array([500.0, 600.0]))),), (line,)), local_grid(METRE)), turn)
        stations = np.linspace(500, 740, 50)
        near(seen.thing.alignments[0].at(stations), turn(line.at(stations)), atol=1e-6)
        near(seen.thing.lines[0].xyz, turn(line.at(np.array([500.0, 600.0]))), atol=1e-9)
        with self.assertRaises(InputError):
            Alignment("none", 0.0, ()).locate(np.zeros((1, 2)))


class Transforms(unittest.TestCase):
    def test_against_scipy(self):
        rng = np.random.default_rng(1)
        spin = Rotation.from_euler("zyx", [37, -8, 4], degrees=True).as_matrix()
        about, shift = FAR + 5, np.array([1.0, -2.0, 0.25])
        one = Rigid.of(spin, about, shift)
        points = FAR + rng.normal(0, 40, (30, 3))
        want = (points - about) @ spin.T + about + shift
        near(one(points), want, atol=1e-9)
        near(one.inverse()(one(points)), points, atol=1e-8)
        other = Rigid.turned(-20.0, FAR - 3, np.array([0.0, 4.0, 1.0]))
        near(one.then(other)(points), other(one(points)), atol=1e-8)
        self.assertEqual(Rigid.from_json(json.loads(json.dumps(one.to_json()))), one)

    def test_turning_is_clockwise_and_what_stands_upright(self):
        quarter = Rigid.turned(90.0, np.zeros(3), np.zeros(3))
        near(quarter(np.array([[0.0, 1.0, 5.0]])), [[1.0, 0.0, 5.0]], atol=1e-12)
        self.assertTrue(quarter.upright and not quarter.still)
        self.assertTrue(Rigid().still)
        self.assertFalse(Rigid(shift=(0.0, 0.0, 0.1)).still)
        tilted = Rigid.of(Rotation.from_euler("x", 1, degrees=True).as_matrix(), np.zeros(3), np.zeros(3))
        self.assertFalse(tilted.upright)
        near(Rigid().matrix, np.eye(3))
        leaning = Rigid.of(Rotation.from_euler("y", 30, degrees=True).as_matrix(), np.zeros(3), np.array([1.0, 2.0, 3.0]))
        self.assertFalse(leaning.upright)
        near(leaning(np.array([[2.0, 5.0, np.nan]]))[0, :2], [2 * np.cos(np.pi / 6) + 1, 7.0], atol=1e-12)
        lost = quarter(np.array([[0.0, 1.0, np.nan]]))
        self.assertTrue(np.isnan(lost[0, 2]) and np.isfinite(lost[0, :2]).all())
        for matrix in (2 * np.eye(3), np.diag([1.0, 1.0, -1.0]), np.full((3, 3), np.nan)):
            with self.assertRaises(InputError):
                Rigid.of(matrix, np.zeros(3), np.zeros(3))
        with self.assertRaises(InputError):
            Rigid.of(np.eye(3), np.zeros(3), np.array([0.0, np.inf, 0.0]))


class Setups(unittest.TestCase):
    def setUp(self):
        spin = Rotation.from_euler("zyx", [30, 2, -1], degrees=True).as_matrix()
        self.one = ScanSetup(3, "by the gate", 700, spin, FAR + [10, 20, 1.5])

    def test_kept_and_numbered_anew(self):
        details = {"setups": [self.one.to_json()], "other": 1}
        again = setups_of(json.loads(json.dumps(details)))[0]
        np.testing.assert_array_equal(again.rotation, self.one.rotation)
        self.assertEqual(with_setups({"other": 1}, lambda p: p), {"other": 1})
        self.assertEqual(with_setups(details, lambda p: p + 1)["other"], 1)
        found, changes = renumbered([details, {}, {"setups": [{**self.one.to_json(), "number": 1}, self.one.to_json()]}])
        self.assertEqual([item["number"] for item in found], [1, 2, 3])
        self.assertEqual(changes, [{3: 1}, {}, {1: 2, 3: 3}])


class Areas(unittest.TestCase):
    def setUp(self):
        self.area = Area((ring_of(UNEVEN + FAR[:2]), ring_of(HOLE + FAR[:2])), "L")

    def test_size_inside_and_shares_by_shapely(self):
        twin = shapely.Polygon(UNEVEN, [HOLE])
        self.assertAlmostEqual(self.area.size, 45.0)
        self.assertAlmostEqual(twin.area, 45.0)
        rng = np.random.default_rng(2)
        places = rng.uniform(-1, 10, (4000, 2))
        np.testing.assert_array_equal(self.area.contains(places + FAR[:2]), shapely.contains_xy(twin, places))
        share = self.area.coverage(FAR[:2] - 1, 0.7, (13, 16))
        for row, column in ((0, 0), (3, 3), (5, 7), (8, 2), (4, 9)):
            corner = np.array([column, row]) * 0.7 - 1
            cell = shapely.box(*corner, *(corner + 0.7))
            self.assertAlmostEqual(share[row, column], twin.intersection(cell).area / 0.49, places=9)
        self.assertAlmostEqual(share.sum() * 0.49, 45.0, places=8)

    def test_of_shapely_and_back(self):
        two = shapely.MultiPolygon([shapely.Polygon(UNEVEN, [HOLE]), shapely.box(20, 20, 22, 23)])
        parts = Area.of(two, "both")
        self.assertEqual([round(part.size, 9) for part in parts], [45.0, 6.0])
        self.assertEqual(len(parts[0].rings), 2)
        self.assertEqual(Area.of(shapely.Point(0, 0)), [])
        places = np.array([[2.0, 2.0], [0.5, 0.5], [21.0, 21.0], [30.0, 30.0]])
        self.assertEqual(inside_any(tuple(parts), places).tolist(), [False, True, True, False])
        self.assertEqual(inside_any((), places).tolist(), [False] * 4)
        self.assertAlmostEqual(shapely.area(self.area.shape), 45.0)

    def test_areas_of_lines_with_their_holes(self):
        flat = lambda ring: np.column_stack([ring, np.zeros(len(ring))])  # noqa: E731
        lines = LineSet((
            Line(flat(UNEVEN), True, "bay"), Line(flat(HOLE), True, "bay hole 1"), Line(flat(UNEVEN[:2]), False, "edge"),
            Line(flat(HOLE + 20), True, "yard"),
        ))  # fmt: skip
        found = lines.shapes()
        self.assertEqual([(area.name, len(area.rings), area.size) for area in found], [("bay", 2, 45.0), ("yard", 1, 6.0)])
        self.assertEqual(LineSet(()).shapes(), [])

    def test_what_is_no_area(self):
        self.area.check("yard")
        Area((ring_of(UNEVEN),)).check("yard")
        near(self.area.outline - FAR[:2], UNEVEN, atol=1e-9)
        self.assertEqual(len(self.area.holes), 1)
        for rings in ((ring_of(UNEVEN), ring_of(HOLE + 20)), (ring_of(UNEVEN[[0, 2, 1, 3]]),), (ring_of(UNEVEN[:2]),)):
            with self.assertRaisesRegex(InputError, "yard"):
                Area(rings).check("yard")


class Triangulations(unittest.TestCase):
    def setUp(self):
        xy = jittered(10, 0.8)
        self.points = np.column_stack([xy, 0.3 * xy[:, 0] - 0.1 * xy[:, 1]]) + FAR

    def on_plane(self, xy):
        return np.column_stack([xy, 0.3 * xy[:, 0] - 0.1 * xy[:, 1]]) + FAR

    def test_ring_with_holes(self):
        ring, hole = self.on_plane(UNEVEN - 4), self.on_plane(HOLE - 4)
        tin = triangulate(self.points, ring, holes=[hole])
        self.assertAlmostEqual(tin.plan_area, 45.0, places=6)
        self.assertAlmostEqual(tin.surface_area / tin.plan_area, np.sqrt(1 + 0.09 + 0.01), places=9)
        places = np.array([[-2.0, -2.0], [-3.5, -3.5], [3.0, 2.5]]) + FAR[:2]
        self.assertEqual(np.isfinite(tin.at(places)).tolist(), [False, True, False])
        with self.assertRaises(InputError):
            triangulate(self.points, holes=[hole])

    def test_against_scipy(self):
        xyz = np.column_stack([jittered(6, 0.7), np.random.default_rng(0).normal(0, 1, len(jittered(6, 0.7)))])
        tin = triangulate(xyz + FAR)
        twin = LinearNDInterpolator(xyz[:, :2], xyz[:, 2])
        places = np.random.default_rng(1).uniform(-5, 5, (500, 2))
        near(tin.at(places + FAR[:2]) - FAR[2], twin(places), atol=1e-6)
        self.assertTrue(np.isnan(tin.at(np.array([[50.0, 0.0]]) + FAR[:2])).all())
        self.assertAlmostEqual(tin.plan_area, shapely.MultiPoint(xyz[:, :2]).convex_hull.area, places=6)

    def test_lines_that_cross_share_a_vertex(self):
        """Two breaklines of equal level cross where no point is: the surface passes through both."""
        corners = np.array([[-5, -5, 0], [5, -5, 0], [5, 5, 0], [-5, 5, 0.0]]) + FAR
        lines = [np.array([[-4, -3.5, 2], [4, 3, 2.0]]) + FAR, np.array([[-4, 3, 2], [4, -3.5, 2.0]]) + FAR]
        tin = triangulate(np.empty((0, 3)), corners, lines=lines)
        self.assertEqual(len(tin.vertices), 4 + 4 + 1)
        near(tin.at(np.array([[0.0, -0.25]]) + FAR[:2]), FAR[2] + 2, atol=1e-9)
        for line in lines:
            share = np.linspace(0.02, 0.98, 20)[:, None]
            places = line[0] + share * (line[1] - line[0])
            near(tin.at(places[:, :2]), FAR[2] + 2, atol=1e-6)

    def test_a_thousand_points_on_a_line_and_one_beside(self):
        line = np.column_stack([np.arange(1100.0), 2 * np.arange(1100.0), np.zeros(1100)])
        with self.assertRaises(NotDeterminable):
            triangulate(line + FAR)
        beside = triangulate(np.concatenate([line, [[3.0, 500.0, 0.0]]]) + FAR)
        twin = shapely.MultiPoint(np.concatenate([line[:, :2], [[3.0, 500.0]]])).convex_hull.area
        self.assertAlmostEqual(beside.plan_area / twin, 1.0, places=6)


class Surfaces(unittest.TestCase):
    def grid(self):
        rows, columns = np.mgrid[0:40, 0:60]
        z = 2.0 + 0.05 * columns - 0.02 * rows
        z[3, 4] = np.nan
        return ElevationGrid(z, (0.5, 0.0, FAR[0], 0.0, -0.5, FAR[1] + 20))

    def test_one_protocol(self):
        """Grid, triangles and cloud of the same plane answer alike, in a part as in the whole."""
        slope = lambda xy: 2.0 + 0.1 * (xy[:, 0] - FAR[0] - 0.25) - 0.04 * (FAR[1] + 19.75 - xy[:, 1])  # noqa: E731
        grid = GridSurface(self.grid(), local_grid(METRE))
        xy = np.random.default_rng(0).uniform(0, 1, (6000, 2)) * [30, 20] + FAR[:2]
        cloud = store_of(np.column_stack([xy, slope(xy)]))
        corners = np.array([[0, 0], [30, 0], [30, 20], [0, 20.0]]) + FAR[:2]
        mesh = TriangleMesh(np.column_stack([corners, slope(corners)]), np.array([[0, 1, 2], [0, 2, 3]], np.int32))
        for surface in (grid, TinSurface.of(mesh, local_grid(METRE)), CloudTop(Scope().of(cloud))):
            low, high = np.array([8.0, 5.0]) + FAR[:2], np.array([14.0, 11.0]) + FAR[:2]
            places = np.random.default_rng(1).uniform(low, high, (200, 2))
            with self.subTest(type(surface).__name__):
                near(surface.at(places), slope(places), atol=2e-4)
                part = surface.tin(low, high)
                near(part.at(places), slope(places), atol=2e-4)
                self.assertGreater(surface.count, 0)
                self.assertEqual(surface.reference.unit, METRE)
                bounds = surface.bounds
                self.assertTrue((bounds[0][:2] <= low).all() and (bounds[1][:2] >= high).all())
                with self.assertRaises(NotDeterminable):
                    surface.tin(low + 500, high + 500)
        part = grid.tin(low, high)
        self.assertLess(len(part.triangles), 700, "cut before it is triangulated")

    def test_triangles_that_touch_a_box_belong_to_it(self):
        """Four triangles in a row; a box that only touches the edge between two takes both."""
        corners = np.array([[0, 0, 0], [4, 0, 1], [8, 0, 2], [0, 5, 0], [4, 5, 1], [8, 5, 2.0]]) + FAR
        cells = np.array([[0, 1, 4], [0, 4, 3], [1, 2, 5], [1, 5, 4]], np.int32)
        surface = TinSurface.of(TriangleMesh(corners, cells), local_grid(METRE))
        self.assertEqual(surface.count, 4)
        for low, high, wanted in (([0.5, 0.5], [1, 1], 2), ([4.0, 1.0], [4.0, 2.0], 4), ([4.5, 1], [5, 2], 2), ([-3, -3], [0, 0], 2),
                                  ([8, 5], [9, 9], 2), ([-1, 5], [0, 6], 2)):  # fmt: skip
            part = surface.tin(np.array(low, float) + FAR[:2], np.array(high, float) + FAR[:2])
            self.assertEqual(len(part.triangles), wanted, (low, high))
        near(surface.bounds, [FAR, FAR + [8, 5, 2]])
        for low, high in (([8.1, 0], [9, 1]), ([0, 5.1], [1, 6]), ([-2, 0], [-0.1, 1]), ([0, -2], [1, -0.1])):
            with self.assertRaises(NotDeterminable):
                surface.tin(np.array(low) + FAR[:2], np.array(high) + FAR[:2])

    def test_the_top_of_a_cloud_takes_a_margin(self):
        """Points each metre: five spacings and a twentieth of the box beyond it, so that its rim has neighbours."""
        xy = np.stack(np.meshgrid(np.arange(60.0), np.arange(60.0)), axis=-1).reshape(-1, 2)
        cloud = store_of(np.column_stack([xy, 0.1 * xy[:, 0]]) + FAR)
        top = CloudTop(Scope().of(cloud))
        low, high = np.array([20.0, 25.0]), np.array([40.0, 30.0])
        part = top.tin(low + FAR[:2], high + FAR[:2])
        room = 5 * cloud.spacing + 0.05 * 10.0
        ends = part.points[:, :2] - FAR[:2]
        near(ends.min(axis=0), np.ceil(low - room), atol=1e-3)
        near(ends.max(axis=0), np.floor(high + room), atol=1e-3)
        near(
            top.at(np.array([[20.0, 25.0], [40.0, 30.0], [33.3, 27.7]]) + FAR[:2]), FAR[2] + np.array([2.0, 4.0, 3.33]), atol=1e-3
        )
        self.assertEqual(top.count, 3600)

    def test_of_anything(self):
        self.assertIsInstance(surface_of(self.grid(), local_grid(METRE), "g"), GridSurface)
        with self.assertRaisesRegex(InputError, "road: is no surface"):
            surface_of(LineSet(()), local_grid(METRE), "road")


class Volumes(unittest.TestCase):
    """Closed forms with unequal parts above and below, on bases far apart in origin, in three units."""

    def tilted(self, at=FAR, size=10.0):
        """z = x over a square from −size/4 to 3 size/4 in x: above 9/32 size³, below 1/32 size³."""
        side = np.linspace(-size / 4, 3 * size / 4, 8)
        xy = np.stack(np.meshgrid(side, side), axis=-1).reshape(-1, 2)
        return triangulate(np.column_stack([xy, xy[:, 0]]) + at)

    def test_above_and_below_a_level(self):
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            size = 10 / unit.metres
            top = self.tilted(FAR / unit.metres, size)
            found = between(top, plane.level(FAR[2] / unit.metres))
            self.assertAlmostEqual(found.above / size**3, 9 / 32, places=6)
            self.assertAlmostEqual(found.below / size**3, 1 / 32, places=6)
            self.assertAlmostEqual(found.net / size**3, 8 / 32, places=6)
            self.assertAlmostEqual(found.area_above / size**2, 0.75, places=6)
            self.assertAlmostEqual(found.area_below / size**2, 0.25, places=6)
            self.assertAlmostEqual(found.area / size**2, 1.0, places=6)

    def test_above_and_below_triangles_of_another_origin(self):
        top = self.tilted()
        for spread in (40.0, 900.0):
            corners = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1.0]]) * spread
            level = np.column_stack([corners, np.full(4, 2.0)]) + FAR
            base = Tin.of(level, np.array([[0, 1, 2], [0, 2, 3]], np.int32))
            self.assertFalse(np.array_equal(base.origin, top.origin))
            found = between(top, base)
            # over z = 2: a prism of 5.5 to the right, 4.5 to the left of it, times the width of ten
            self.assertAlmostEqual(found.above, 5.5**2 / 2 * 10, places=5)
            self.assertAlmostEqual(found.below, 4.5**2 / 2 * 10, places=5)
            self.assertAlmostEqual(found.area, 100.0, places=6)
            self.assertAlmostEqual(found.area_above, 55.0, places=6)

    def test_what_lies_on_the_other_surface_counts_as_above(self):
        """Six of nine metres lie on the base itself, three rise from it as a wedge."""
        corners = np.array([[0, 0, 0], [6, 0, 0], [9, 0, 1.5], [9, 4, 1.5], [6, 4, 0], [0, 4, 0.0]])
        top = Tin.of(corners + FAR, np.array([[0, 1, 4], [0, 4, 5], [1, 2, 3], [1, 3, 4]], np.int32))
        flat = Tin.of(corners * [1, 1, 0] + FAR, np.array([[0, 1, 2], [0, 2, 3], [0, 3, 5], [3, 4, 5]], np.int32))
        found = between(top, flat)
        near([found.above, found.below, found.area_above, found.area_below, found.area], [9, 0, 36, 0, 36], 1e-9)

    def test_by_grid(self):
        z = np.array([[3.0, 1.0, np.nan], [0.0, 2.0, 5.0]])
        grid = HeightGrid(np.zeros(2), 2.0, z, np.ones(z.shape, np.int64))
        share = np.array([[1.0, 0.5, 1.0], [0.25, 0.0, 1.0]])
        base = np.full(z.shape, 1.5)
        base[1, 2] = np.nan
        found = by_grid(grid, share, base)
        self.assertAlmostEqual(found.above, 4 * 1.5)
        self.assertAlmostEqual(found.below, 4 * (0.5 * 0.5 + 0.25 * 1.5))
        self.assertAlmostEqual(found.area_above, 4.0)
        self.assertAlmostEqual(found.area_below, 3.0)
        self.assertAlmostEqual(found.area, 7.0)
        level = by_grid(grid, share, np.full(z.shape, 3.0))
        self.assertAlmostEqual(level.area_above, 4 * 2.0, msg="what lies level counts as above")


class Grids(unittest.TestCase):
    def test_means_counts_and_places(self):
        rng = np.random.default_rng(3)
        points = np.column_stack([rng.uniform(0, 7, 900), rng.uniform(0, 4, 900), rng.normal(50, 2, 900)]) + FAR
        low = FAR[:2] - 0.3
        grid = gridded(points, low, FAR[:2] + [7, 4], 0.9)
        column, row = (np.floor((points[:, :2] - low) / 0.9).astype(int)).T
        for r, c in ((0, 0), (2, 5), (4, 7)):
            mine = points[(row == r) & (column == c), 2]
            self.assertEqual(grid.count[r, c], len(mine))
            self.assertAlmostEqual(grid.z[r, c], mine.mean(), places=9)
        self.assertEqual(grid.count.sum(), 900)
        near(grid.centres()[grid.shape[1] * 2 + 5], low + [5.5 * 0.9, 2.5 * 0.9])
        middle = low + [4.0 * 0.9, 3.0 * 0.9]
        self.assertAlmostEqual(grid.at(middle[None])[0], grid.z[2:4, 3:5].mean(), places=9)
        self.assertTrue(np.isnan(grid.at(low[None] - 5)).all())
        for cell in (0.0, -1.0, 1e-4):
            with self.assertRaises(InputError):
                gridded(points, low, FAR[:2] + [7, 4], cell)

    def test_gaps_are_filled_from_around(self):
        rows, columns = np.mgrid[0:9, 0:11].astype(float)
        z = 1 + 0.5 * columns - 0.25 * rows
        holed = z.copy()
        holed[3:6, 4:8] = np.nan
        holed[:, 10] = np.nan
        grid = HeightGrid(np.zeros(2), 1.0, holed, np.isfinite(holed).astype(np.int64))
        inner = np.zeros(z.shape, bool)
        inner[2:7, 3:9] = True
        found = filled(grid, inner)
        near(found.z[inner], z[inner], atol=1e-9)
        self.assertTrue(np.isnan(found.z[:, 10]).all(), "what was not wanted stays empty")
        every = filled(grid, np.ones(z.shape, bool))
        near(every.z[:, 10], z[:, 9], atol=1e-9)
        self.assertIs(filled(grid, np.zeros(z.shape, bool)), grid)
