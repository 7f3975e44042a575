"""Levels under the wheels of trucks against planes, bends and a step, and the level that needs least work against brute force."""

import unittest

import numpy as np
from scipy.optimize import minimize_scalar

from kerb.core.errors import InputError
from kerb.core.floor.traffic import Ride, Truck, wheel_places
from kerb.core.geometry.features import Line, LineSet
from kerb.core.reference import local_grid
from kerb.core.things import LINES, Placed
from kerb.core.units import METRE, US_SURVEY_FOOT
from kerb.studies.floor.found import least_level
from tests.below.test_floor import asked, floor
from tests.support import FAR, near


def paths(unit, **lines):
    """Lines in metres as a holding in a unit, far from the origin."""
    made = tuple(Line((np.column_stack([xy, np.zeros(len(xy))]) + FAR) / unit.metres, False, name, "l")
                 for name, xy in ((name, np.asarray(xy, float)) for name, xy in lines.items()))  # fmt: skip
    return {"traffic": Placed(LINES, LineSet(made), local_grid(unit))}


class Places(unittest.TestCase):
    def test_wheels_of_a_straight_path(self):
        stations, places = wheel_places(np.array([[0.0, 0], [0, 10]]), Truck(1.2, 0.8, 1.5), 0.5)
        near(stations, np.arange(1.5, 10.01, 0.5))
        near(places[0], [[-0.6, 1.5], [0.6, 1.5], [-0.4, 0.0], [0.4, 0.0]])
        near(places[-1][:, 1], [10, 10, 8.5, 8.5])

    def test_a_bend_and_vertices_twice(self):
        path = np.array([[0.0, 0], [4, 0], [4, 0], [4, 3]])
        stations, places = wheel_places(path, Truck(1.0, 1.0, 2.0), 1.0)
        self.assertEqual(len(stations), 6)
        # The front axle is a metre past the bend, the rear one a metre before it.
        near(places[3], [[3.5, 1], [4.5, 1], [3, 0.5], [3, -0.5]])

    def test_paths_that_cannot_be(self):
        with self.assertRaisesRegex(InputError, "shorter than the truck"):
            wheel_places(np.array([[0.0, 0], [1, 0]]), Truck(1, 1, 1.5), 0.05)
        with self.assertRaisesRegex(InputError, "0 long"):
            wheel_places(np.array([[3.0, 3], [3, 3]]), Truck(1, 1, 1.5), 0.05)
        with self.assertRaisesRegex(InputError, "too many"):
            wheel_places(np.array([[0.0, 0], [1e6, 0]]), Truck(1, 1, 1.5), 0.05)

    def test_signs(self):
        ride = Ride(np.array([0.0]), np.array([[4.0, 1.0, 2.0, 1.5]]))
        near([ride.across_front[0], ride.across_rear[0], ride.along[0]], [3.0, 0.5, 0.75])


class Floors(unittest.TestCase):
    def rows(self, outcome):
        table = outcome.tables["traffic"]
        names = [column.name for column in table.columns]
        return [dict(zip(names, row, strict=True)) for row in table.rows]

    def test_a_plane_in_two_units(self):
        """Fall of 0.4 % east and 0.2 % north: across a path to the east the track times 0.2 %, along it the base times 0.4 %."""
        points = floor(lambda x, y: 0.004 * x + 0.002 * y, density=1500)
        for unit in (METRE, US_SURVEY_FOOT):
            size = {k: v / unit.metres for k, v in (("front_track", 1.2), ("rear_track", 1.0), ("wheelbase", 1.5),
                    ("most_across", 0.002), ("most_along", 0.0065))}  # fmt: skip
            outcome = asked(points, unit, paths(unit, aisle=[[1, 4.5], [11, 4.5]]), traffic="lines", **size)
            front, rear, along = self.rows(outcome)
            near([front["largest"] * unit.metres, rear["largest"] * unit.metres], [0.0024, 0.002], 3e-4)
            self.assertAlmostEqual(along["largest"] * unit.metres, 0.006, delta=3e-4)
            self.assertEqual([r["verdict"] for r in (front, along)], ["not met", "met"])
            self.assertGreater(front["beyond"], 0.9)
            self.assertEqual(along["beyond"], 0.0)
            self.assertEqual(front["path" if "path" in front else "name"], "aisle")
            profile = next(chart for chart in outcome.charts if chart.title == "Path aisle")
            self.assertAlmostEqual(float(profile.distance[0]) * unit.metres, 1.5, places=6)

    def test_a_step_is_where_it_is(self):
        """The floor rises by 4 mm 6 m from the west: front and rear axle differ by that while they straddle it."""
        points = floor(lambda x, y: 0.004 * (x > 6.0), density=2500)
        outcome = asked(points, others=paths(METRE, a=[[1, 4.5], [11, 4.5]]), traffic="lines", rear_track=0.0, most_along=0.003)
        rows = self.rows(outcome)
        self.assertEqual([row["what"] for row in rows], ["Front axle, left less right", "Front less rear axle"])
        self.assertAlmostEqual(rows[1]["largest"], 0.004, delta=1e-4)
        # The front axle is past the step, station 5 of a path that begins at 1, and the rear axle is not.
        self.assertTrue(5.0 <= rows[1]["station"] <= 6.5 + 0.06)
        self.assertAlmostEqual(rows[1]["beyond"], 1.5 / 8.5, delta=0.02)
        self.assertLess(abs(rows[0]["largest"]), 1e-6)

    def test_a_path_beside_the_floor_and_one_partly_on_it(self):
        points = floor(lambda x, y: 0 * x)
        with self.assertRaisesRegex(InputError, "out: nowhere are all wheels on the floor"):
            asked(points, others=paths(METRE, out=[[20, 4], [30, 4]]), traffic="lines")
        rows = self.rows(asked(points, others=paths(METRE, a=[[6, 4.5], [18, 4.5]]), traffic="lines"))
        # Stations from 1.5 to 12; the front axle is on the floor as far as 5.7 (0.3 off its rim).
        self.assertAlmostEqual(rows[0]["read"], 4.2 / 10.5, delta=0.03)
        self.assertEqual(rows[0]["verdict"], "")

    def test_without_paths_there_is_no_table(self):
        self.assertNotIn("traffic", asked(floor(lambda x, y: 0 * x)).tables)


class LeastWork(unittest.TestCase):
    def test_against_a_search(self):
        rng = np.random.default_rng(7)
        for above, below in ((0.001, 0.001), (0.002, 0.0005), (0.0001, 0.004)):
            z = 5 + rng.gamma(2.0, 0.003, 400)
            work = lambda at: np.maximum(z - at - above, 0).sum() + np.maximum(at - below - z, 0).sum()  # noqa: E731, B023
            best = minimize_scalar(work, bounds=(z.min(), z.max()), method="bounded", options={"xatol": 1e-12})
            self.assertLessEqual(work(least_level(z, above, below)), best.fun + 1e-9)

    def test_a_floor_within_tolerance_needs_none(self):
        self.assertAlmostEqual(least_level(np.array([1.000, 1.004]), 0.003, 0.005), 1.003)

    def test_as_a_reference(self):
        """A tenth of the floor lies 20 mm high: the mean is pulled up by 2 mm, the level of least work is not."""
        points = floor(lambda x, y: 0.02 * np.clip((x - 10.4) / 0.4, 0, 1), density=1200)
        mean = asked(points, step=0.03, band=0.03, tolerance=0.001)
        least = asked(points, step=0.03, band=0.03, tolerance=0.001, reference="least")
        work = [sum(o.value(name) for name in ("high_volume", "low_volume")) for o in (mean, least)]
        self.assertLess(work[1], 0.9 * work[0])
        self.assertIn("least grinding and filling", least.method)


if __name__ == "__main__":
    unittest.main()
