"""Volumes against closed forms, handbook rules and SciPy, in metres and feet, near and far from the origin."""

import unittest

import numpy as np
import shapely
from scipy.interpolate import LinearNDInterpolator

from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import plane, polygon
from kerb.core.geometry.area import Area, ring_of
from kerb.core.surface.grid import filled, gridded
from kerb.core.surface.tin import triangulate
from kerb.core.surface.volume import between
from kerb.core.units import US_SURVEY_FOOT
from kerb.studies.stockpile.live import volume_by_grid
from tests.support import FAR, circle, frustum, jittered, near

# Any surveying handbook: V = πh/3 (R² + Rr + r²); see ../shared/CHECKS.md.
FRUSTUM = np.pi * 6 / 3 * (100 + 40 + 16)


def solid(height, ring, step=0.1, at=FAR):
    """Top surface of a solid of revolution or of a prism on a ring, with its points."""
    xy = jittered(float(np.abs(ring).max()), step)
    xy = xy[polygon.contains(ring, xy)]
    inside = np.column_stack([xy, height(xy)]) + at
    rim = np.column_stack([ring, height(ring)]) + at
    return triangulate(inside, rim), inside


class ClosedForms(unittest.TestCase):
    def test_frustum_is_980_177(self):
        self.assertAlmostEqual(FRUSTUM, 980.177, places=3)
        ring = circle(10, 400)
        top, points = solid(frustum, ring)
        volume = between(top, plane.level(FAR[2]))
        self.assertAlmostEqual(volume.above / FRUSTUM, 1.0, delta=2e-4)
        self.assertAlmostEqual(volume.below, 0.0, places=6)
        grid = gridded(points, ring.min(0) + FAR[:2] - 1, ring.max(0) + FAR[:2] + 1, 0.2)
        grid = filled(grid, np.ones(grid.shape, bool))
        second = volume_by_grid(grid, Area((ring_of(ring + FAR[:2]),)), plane.level(FAR[2]))
        self.assertAlmostEqual(second.net / FRUSTUM, 1.0, delta=2e-3)

    def test_cone_hemisphere_and_wedge(self):
        ring = circle(8, 400)
        square = np.array([[-6, -6], [6, -6], [6, 6], [-6, 6.0]])
        cases = {
            "cone": (lambda xy: np.clip(8 - np.hypot(*xy.T), 0, None) * 0.75, ring, np.pi * 64 * 6 / 3),
            "hemisphere": (lambda xy: np.sqrt(np.clip(64 - (xy**2).sum(1), 0, None)), ring, 2 / 3 * np.pi * 512),
            "wedge": (lambda xy: (xy[:, 0] + 6) * 0.25, square, 12 * 12 * 3 / 2),
        }  # fmt: skip
        for name, (height, outline, truth) in cases.items():
            with self.subTest(name):
                top, _ = solid(height, outline)
                self.assertAlmostEqual(between(top, plane.level(FAR[2])).net / truth, 1.0, delta=1.5e-3)

    def test_inverted_pit_lies_below(self):
        top, _ = solid(lambda xy: -frustum(xy), circle(10, 400))
        volume = between(top, plane.level(FAR[2]))
        self.assertAlmostEqual(volume.below / FRUSTUM, 1.0, delta=2e-4)
        self.assertAlmostEqual(volume.above, 0.0, places=6)
        self.assertLess(volume.net, 0)

    def test_heap_on_a_tilted_plane(self):
        tilt = lambda xy: 0.08 * xy[:, 0] - 0.05 * xy[:, 1]  # noqa: E731
        ring = circle(10, 400)
        top, _ = solid(lambda xy: frustum(xy) + tilt(xy), ring)
        rim = np.column_stack([ring, tilt(ring)]) + FAR
        for base in (plane.fit(rim), triangulate(np.empty((0, 3)), rim)):
            self.assertAlmostEqual(between(top, base).net / FRUSTUM, 1.0, delta=3e-4)

    def test_mixed_signs_are_exact(self):
        """A plane that crosses the base in the middle: equal volumes above and below, s³·g/8 each for a square."""
        square = np.array([[-5, -5], [5, -5], [5, 5], [-5, 5.0]])
        top = triangulate(np.array([[0.3, 0.1, 0.03]]) + FAR, np.column_stack([square, 0.1 * square[:, 0]]) + FAR)
        volume = between(top, plane.level(FAR[2]))
        self.assertAlmostEqual(volume.above, 1000 * 0.1 / 8, places=9)
        self.assertAlmostEqual(volume.below, 1000 * 0.1 / 8, places=9)
        self.assertAlmostEqual(volume.area_above, 50.0, places=9)

    def test_feet_scale_with_the_cube(self):
        foot = 1 / US_SURVEY_FOOT.metres
        ring = circle(10, 200) * foot
        top, _ = solid(lambda xy: frustum(xy / foot) * foot, ring, step=0.1 * foot, at=FAR * foot)
        volume = between(top, plane.level(FAR[2] * foot))
        self.assertAlmostEqual(volume.above * US_SURVEY_FOOT.metres**3 / FRUSTUM, 1.0, delta=5e-4)

    def test_handbook_rules_from_the_same_sections(self):
        """Prismoidal rule L/6 (A1 + 4 Am + A2) is exact for a frustum; average end areas give 1093.27."""
        area = lambda z: np.pi * (10 - z) ** 2  # noqa: E731
        self.assertAlmostEqual(6 / 6 * (area(0) + 4 * area(3) + area(6)), FRUSTUM, places=9)
        self.assertAlmostEqual(6 * (area(0) + area(6)) / 2, 1093.27, places=2)
        top, _ = solid(frustum, circle(10, 400))
        slices = [between(top, plane.level(FAR[2] + z)).above for z in (0.0, 2.9, 3.1)]
        self.assertAlmostEqual((slices[1] - slices[2]) / 0.2 / area(3), 1.0, delta=2e-3)


class OtherLibraries(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(3)
        self.xy = rng.uniform(0, 20, (1500, 2))
        self.z = np.sin(self.xy[:, 0] / 3) + 0.1 * self.xy[:, 1]
        self.ring = np.array([[2, 2], [17, 3], [15, 16], [8, 9], [3, 17.0]])

    def test_tin_equals_scipy_interpolation(self):
        tin = triangulate(np.column_stack([self.xy, self.z]) + FAR)
        asked = np.random.default_rng(4).uniform(1, 19, (4000, 2))
        want = LinearNDInterpolator(self.xy, self.z)(asked) + FAR[2]
        # Four points on a circle may be cut either way: all but a few places agree to rounding.
        apart = np.abs(tin.at(asked + FAR[:2]) - want)
        self.assertLess(np.quantile(apart, 0.99), 1e-6)
        self.assertTrue(np.isnan(tin.at(FAR[None, :2] - 100)).all())

    def test_volume_equals_integral_of_scipy_interpolation(self):
        surface = LinearNDInterpolator(self.xy, self.z)
        cell = 0.02
        side = np.arange(0, 20, cell) + cell / 2
        grid = np.stack(np.meshgrid(side, side), axis=-1).reshape(-1, 2)
        inside = shapely.contains_xy(shapely.Polygon(self.ring), grid)
        truth = float(np.nansum(surface(grid[inside]) + 5.0)) * cell**2
        keep = polygon.contains(self.ring, self.xy)
        edge = polygon.along(self.ring, 0.1)
        rim = np.column_stack([edge, surface(edge)]) + FAR
        top = triangulate(np.column_stack([self.xy, self.z])[keep] + FAR, rim)
        self.assertAlmostEqual(between(top, plane.level(FAR[2] - 5)).net / truth, 1.0, delta=2e-3)

    def test_overlay_of_two_surfaces_is_symmetric_and_exact(self):
        rng = np.random.default_rng(8)
        other = np.column_stack([rng.uniform(0, 20, (300, 2)), rng.normal(0, 0.3, 300)])
        one, two = (triangulate(p + FAR) for p in (np.column_stack([self.xy, self.z]), other))
        there, back = between(one, two), between(two, one)
        self.assertAlmostEqual(there.above, back.below, places=6)
        self.assertAlmostEqual(there.below, back.above, places=6)
        hull = shapely.MultiPoint(self.xy).convex_hull.intersection(shapely.MultiPoint(other[:, :2]).convex_hull)
        self.assertAlmostEqual(there.area, hull.area, places=6)

    def test_cell_shares_equal_shapely(self):
        share = polygon.coverage(self.ring, np.zeros(2), 1.0, (20, 20))
        shape = shapely.Polygon(self.ring)
        want = [[shape.intersection(shapely.box(x, y, x + 1, y + 1)).area for x in range(20)] for y in range(20)]
        near(share, want, atol=1e-12)

    def test_points_inside_equal_shapely(self):
        want = shapely.contains_xy(shapely.Polygon(self.ring), self.xy)
        np.testing.assert_array_equal(polygon.contains(self.ring + FAR[:2], self.xy + FAR[:2]), want)


class Polygons(unittest.TestCase):
    def test_area_by_coordinates(self):
        # Shoelace formula, a 3-4-5 triangle; the sign tells the direction.
        triangle = np.array([[0, 0], [4, 0], [4, 3.0]]) + FAR[:2]
        self.assertAlmostEqual(polygon.area(triangle), 6.0)
        self.assertAlmostEqual(polygon.area(triangle[::-1]), -6.0)
        self.assertAlmostEqual(polygon.perimeter(triangle), 12.0)

    def test_what_is_no_polygon_says_why(self):
        for ring, words in (
            ([[0, 0], [1, 1]], "three vertices"), ([[0, 0], [2, 2], [2, 0], [0, 2]], "crosses"),
            ([[0, 0], [1, 0], [2, 0]], "crosses or touches|no area"), ([[0, 0], [1, 0], [np.nan, 1]], "not a number"),
        ):  # fmt: skip
            with self.assertRaisesRegex(InputError, words):
                polygon.checked(np.array(ring, float), "toe")

    def test_checked_turns_and_opens_the_ring(self):
        ring = polygon.checked(np.array([[0, 0], [0, 2], [2, 2], [2, 0], [0, 0.0]]))
        self.assertEqual(len(ring), 4)
        self.assertGreater(polygon.area(ring), 0)

    def test_no_surface_through_a_line_of_points(self):
        line = np.column_stack([np.arange(9.0), np.arange(9.0) * 2, np.zeros(9)])
        with self.assertRaises(NotDeterminable):
            triangulate(line)
        with self.assertRaises(NotDeterminable):
            triangulate(line[:2])

    def test_planes(self):
        rng = np.random.default_rng(1)
        points = np.column_stack([rng.uniform(0, 9, (200, 2)), np.zeros(200)]) + FAR
        points[:, 2] += 0.3 * points[:, 0] - 0.1 * points[:, 1]
        fit = plane.fit(points)
        near(fit.gradient, (0.3, -0.1), atol=1e-9)
        points[:60, 2] += rng.uniform(1, 5, 60)
        near(plane.fit_robust(points).gradient, (0.3, -0.1), atol=1e-6)
        with self.assertRaises(NotDeterminable):
            plane.fit(points[:2])
