"""Toe lines that do not run over ground all round, against what lies inside them by construction."""

import unittest
from dataclasses import replace
from unittest import mock

import numpy as np

from kerb.core.errors import InputError
from kerb.core.geometry.area import Area, ring_of
from kerb.core.progress import silent
from kerb.core.units import METRE, US_SURVEY_FOOT
from kerb.studies.drawn import Drawn
from kerb.studies.parts import combined
from kerb.studies.stockpile.heap import Ground, local_spacing, shape_heap
from kerb.studies.stockpile.pull import bound_of, pull, wider
from kerb.studies.stockpile.run import measure, run
from kerb.studies.stockpile.setup import StockpileSetup
from tests.support import FAR, circle, heap_setup, sources_of, store_of

STEEP = np.tan(np.radians(35.0))


def cone(xy, middle, height):
    return np.maximum(height - STEEP * np.hypot(*(xy - np.array(middle)).T), 0)


def answer(top, ring, half=9.0, spacing=0.16, noise=0.01, unit=METRE, **values):
    """A heap measured inside a ring of metres, from points of a top over the plan."""
    rng = np.random.default_rng(7)
    xy = rng.uniform(-half, half, (int((2 * half / spacing) ** 2), 2))
    points = (np.column_stack([xy, top(xy) + rng.normal(0, noise, len(xy))]) + FAR) / unit.metres
    toe = (np.asarray(ring, float) + FAR[:2]) / unit.metres
    holes = [(np.asarray(hole, float) + FAR[:2]) / unit.metres for hole in values.pop("holes", ())]
    drawn = replace(Drawn.of(toe, holes), stretches=values.pop("stretches", ()))
    setup = StockpileSetup(toe=drawn, **values)
    heap = shape_heap(Ground(points, local_spacing(points, toe, spacing / unit.metres), unit), setup, None, silent())
    return measure(heap, setup, silent())


def truth(height, ring, holes=()):
    """What stands over its ground inside a ring, by columns of three centimetres."""
    area = Area((ring_of(ring), *(ring_of(hole) for hole in holes)))
    low, high = area.outline.min(axis=0), area.outline.max(axis=0)
    side = [np.arange(a, b, 0.03) for a, b in zip(low, high, strict=True)]
    cells = np.stack(np.meshgrid(*side), -1).reshape(-1, 2)
    return float(np.sum(height(cells[area.contains(cells)]))) * 0.03**2


def wall_line(off):
    """Round the foot of a heap of 4 m at (-3, 0), cut off at ``off`` before a wall at x = 0."""
    radius = 4 / STEEP
    end = np.arctan2(np.sqrt(radius**2 - (3 - off) ** 2), 3 - off)
    angle = np.linspace(end, 2 * np.pi - end, 30)
    return np.column_stack([-3 + radius * np.cos(angle), radius * np.sin(angle)])


def heap_at_wall(xy):
    return np.where(xy[:, 0] < 0, cone(xy, (-3, 0), 4.0), 0.0)


class NotGround(unittest.TestCase):
    def check(self, top, height, ring, within=0.01, **values):
        found = answer(top, ring, **values)
        true = truth(height, ring)
        self.assertLess(abs(found.volume.net / true - 1), within)
        self.assertLess(combined(found.parts), 0.13 * true)
        return found

    def test_a_line_off_the_wall_and_walls_lower_than_the_heap(self):
        for wall in (6.0, 2.0, 1.0):
            for off in (0.05, 0.3, 1.0):
                with self.subTest(wall=wall, off=off):
                    found = self.check(
                        lambda xy, wall=wall: np.where((xy[:, 0] >= 0) & (xy[:, 0] < 0.4), wall, heap_at_wall(xy)),
                        heap_at_wall, wall_line(off),
                    )  # fmt: skip
                    self.assertTrue(0.04 < np.mean(~found.heap.toe.seen) < 0.4)

    def test_higher_ground_retained_behind_the_wall(self):
        for off in (0.3, -0.2):
            wall = lambda xy: np.where(xy[:, 0] >= 0, 2.0, heap_at_wall(xy))  # noqa: E731
            self.check(wall, wall, wall_line(off))

    def test_touching_heaps_with_the_line_in_the_valley(self):
        height = lambda xy: np.maximum(cone(xy, (-4, 0), 4.0), cone(xy, (4, 0), 4.0))  # noqa: E731
        radius = 4 / STEEP
        end = np.arctan2(np.sqrt(radius**2 - 16), 4)
        angle = np.linspace(end, 2 * np.pi - end, 40)
        arc = np.array([-4, 0]) + (radius + 0.1) * np.column_stack([np.cos(angle), np.sin(angle)])
        for slope in (0.0, 0.1):
            for off in (0.0, 0.25):
                line = np.vstack([arc, [[off, -2], [off, 0], [off, 2]]])
                self.check(lambda xy, slope=slope: height(xy) + slope * xy[:, 1], height, line, half=11.0)

    def test_a_bay_with_ground_on_one_side_only(self):
        height = lambda xy: np.clip((xy[:, 0] + 4) / 2, 0, 3.0) * (np.abs(xy[:, 1]) < 5) * (xy[:, 0] < 4)  # noqa: E731

        def top(xy):
            inside = (np.abs(xy[:, 1]) < 5) & (xy[:, 0] < 4)
            wall = (np.abs(xy[:, 1]) < 5.4) & (xy[:, 0] < 4.4) & (xy[:, 0] > -6) & ~inside
            return np.where(wall, 4.0, height(xy))

        for off in (0.05, 0.5):
            ring = [[-4.2, -5 + off], [4 - off, -5 + off], [4 - off, 5 - off], [-4.2, 5 - off]]
            self.check(top, height, ring)
        found = self.check(top, height, ring, stretches=("other", "other", "other", "ground"))
        self.assertIn("one side only", found.parts[3].how)
        # Two and a half percent (common practice for the fall of yards) over half the length, over the whole area.
        self.assertAlmostEqual(found.parts[3].u95 / (0.025 * 4 * found.heap.area.size), 1.0, delta=0.15)

    def test_an_edge_beyond_which_it_falls_away_and_a_machine_beside_it(self):
        for off in (0.05, 0.3):
            middle = (-3 / STEEP - 0.1 - off, 0)
            height = lambda xy, middle=middle: cone(xy, middle, 3.0)  # noqa: E731
            ring = np.array(middle) + circle(3 / STEEP + 0.1, 36)
            self.check(lambda xy, height=height: np.where(xy[:, 0] < 0, height(xy), -5.0), height, ring)
        radius = 3 / STEEP + 0.15
        height = lambda xy: cone(xy, (0, 0), 3.0)  # noqa: E731
        near = lambda xy: (xy[:, 0] > radius) & (xy[:, 0] < radius + 3) & (np.abs(xy[:, 1]) < 1.5)  # noqa: E731
        found = self.check(lambda xy: np.where(near(xy), 2.5, height(xy)), height, circle(radius, 36))
        self.assertGreater(np.mean(~found.heap.toe.seen), 0.05)

    def test_ground_that_falls_or_waves_is_ground_all_round(self):
        height = lambda xy: cone(xy, (0, 0), 3.0)  # noqa: E731
        ring = circle(3 / STEEP + 0.1, 36)
        for slope in (0.0, 0.27, 0.47):
            found = self.check(lambda xy, slope=slope: height(xy) + slope * xy[:, 0], height, ring)
            self.assertTrue(found.heap.toe.seen.all())
        waves = lambda xy: height(xy) + 0.08 * np.sin(2 * xy[:, 0]) * np.sin(1.7 * xy[:, 1])  # noqa: E731
        found = self.check(waves, height, ring, within=0.03)
        self.assertTrue(found.heap.toe.seen.all())
        self.assertGreater(found.parts[3].u95, 5 * self.check(height, height, ring).parts[3].u95)

    def test_a_line_inside_the_foot_reads_the_ground_and_not_the_flank(self):
        height = lambda xy: cone(xy, (0, 0), 4.0)  # noqa: E731
        for inside in (0.1, 0.2):
            ring = circle(4 / STEEP - inside, 60)
            found = self.check(height, height, ring, noise=0.02)
            self.assertLess(np.abs(found.heap.toe.base - FAR[2]).max(), 0.03)

    def test_in_feet(self):
        wall = lambda xy: np.where(xy[:, 0] >= 0, 2.0, heap_at_wall(xy))  # noqa: E731
        found = answer(wall, wall_line(0.3), unit=US_SURVEY_FOOT)
        true = truth(heap_at_wall, wall_line(0.3)) / US_SURVEY_FOOT.metres**3
        self.assertLess(abs(found.volume.net / true - 1), 0.01)

    def test_what_the_analyst_states_rules(self):
        """The machine's own top taken for ground on one stretch, and good ground not looked at on another."""
        height = lambda xy: cone(xy, (0, 0), 3.0)  # noqa: E731
        ring = circle(3 / STEEP + 0.15, 12)
        shelf = lambda xy: np.where(xy[:, 0] > 3.2, 0.5, height(xy))  # noqa: E731
        plain = answer(shelf, ring)
        toe = plain.heap.toe
        self.assertLess(toe.base.max(), FAR[2] + 0.05)
        here = toe.xy[:, 0] - FAR[0] > 4.0
        self.assertFalse(toe.seen[here].any())
        forced = answer(shelf, ring, stretches=("ground", *("",) * 10, "ground"))
        self.assertGreater(forced.heap.toe.base.max(), FAR[2] + 0.4)
        left = answer(shelf, ring, stretches=("other",) * 4 + ("",) * 8)
        self.assertGreater(np.sum(~left.heap.toe.seen), np.sum(~toe.seen) + 3)
        self.assertAlmostEqual(left.volume.net / plain.volume.net, 1.0, delta=0.01)


class Holes(unittest.TestCase):
    def test_a_hole_of_the_toe_counts_for_nothing(self):
        height = lambda xy: cone(xy, (0, 0), 4.0)  # noqa: E731
        ring, hole = circle(4 / STEEP + 0.2, 40), circle(1.5, 24)[::-1] + [0.5, 0.3]
        found = answer(height, ring, holes=[hole])
        true = truth(height, ring, [hole])
        self.assertAlmostEqual(found.volume.net / true, 1.0, delta=0.005)
        self.assertAlmostEqual(found.second.net / true, 1.0, delta=0.01)
        self.assertAlmostEqual(found.heap.top.plan_area, Area((ring_of(ring), ring_of(hole))).size, places=6)
        self.assertLess(found.gap_area, 0.5)
        self.assertLess(truth(height, ring, [hole]), 0.9 * truth(height, ring))

    def test_a_hole_outside_is_refused(self):
        with self.assertRaisesRegex(InputError, "hole"):
            answer(lambda xy: cone(xy, (0, 0), 4.0), circle(6, 20), holes=[circle(1, 8) + [9, 0]])


class Pulling(unittest.TestCase):
    def sources(self, points):
        return sources_of(store_of(points))

    def points(self, noise=0.01):
        rng = np.random.default_rng(5)
        xy = rng.uniform(-11, 11, (int((22 / 0.15) ** 2), 2))
        return np.column_stack([xy, cone(xy, (0, 0), 4.0) + rng.normal(0, noise, len(xy))]) + FAR

    def test_a_rough_line_comes_to_the_foot_and_never_onto_the_flank(self):
        sources, radius = self.sources(self.points()), 4 / STEEP
        for out in (0.5, -0.4):
            rough = heap_setup(circle(radius + out, 40) + FAR[:2])
            moved = pull(rough, sources, silent())
            away = np.hypot(*(moved.toe.places - FAR[:2]).T)
            self.assertGreater(away.min(), radius - 0.25)
            self.assertLess(away.max(), radius + 0.35)
        good = heap_setup(circle(radius + 0.1, 60) + FAR[:2])
        before, after = (run(one, sources, silent()).figures["net"] for one in (good, pull(good, sources, silent())))
        self.assertLess(abs(after.value / before.value - 1), 0.003)
        self.assertLess(after.u95, 2 * before.u95)

    def test_a_line_that_is_less_sure_is_told(self):
        sources = self.sources(self.points())
        setup = heap_setup(circle(4 / STEEP + 0.3, 40) + FAR[:2])
        with mock.patch("kerb.studies.stockpile.pull.bound_of", side_effect=[2.0, 3.0]):
            self.assertRegex(wider(setup, setup, sources), "± 2.*± 3.*surer")
        with mock.patch("kerb.studies.stockpile.pull.bound_of", side_effect=[2.0, 2.05]):
            self.assertEqual(wider(setup, setup, sources), "")
        self.assertEqual(wider(setup, setup, sources), "")
        ground = Ground(self.points(), 0.15, METRE)
        rows = {row[0]: row[1] for row in run(setup, sources, silent()).tables["uncertainty"].rows}
        self.assertAlmostEqual(bound_of(ground, setup, sources) / rows["Combined"], 1.0, delta=0.2)
        asked = []
        with (
            mock.patch("kerb.studies.stockpile.pull.BOUND_POINTS", len(ground.points) // 4),
            mock.patch("kerb.studies.stockpile.pull.shape_heap", side_effect=lambda some, *_: asked.append(some)),
            self.assertRaises(AttributeError),
        ):
            bound_of(ground, setup, sources)
        self.assertEqual((len(asked[0].points), asked[0].spacing), (len(ground.points) // 4, 2 * ground.spacing))
        far = replace(setup, toe=Drawn.of(circle(1, 9) + FAR[:2] + 500))
        self.assertIsNone(bound_of(ground, far, sources))
