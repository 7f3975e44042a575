"""The stockpile study from cloud to outcome: truth, bases, units, signs, uncertainty, warnings, live figures."""

import unittest
from dataclasses import replace

import numpy as np

from kerb.core.cloud.builder import build
from kerb.core.errors import Cancelled, InputError
from kerb.core.progress import Progress, silent
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.demo import yard
from kerb.formats.las_read import LasStream
from kerb.studies.drawn import Drawn
from kerb.studies.scope import Scope
from kerb.studies.stockpile.live import LiveHeap
from kerb.studies.stockpile.run import run
from kerb.studies.stockpile.uncertainty import CORRELATED_SPACINGS
from tests.support import FAR, YARD, Folder, circle, frustum, heap_setup, jittered, measured, sources_of, store_of, toe_of

FRUSTUM = np.pi * 6 / 3 * (100 + 40 + 16)


def heap_points(factor=1.0, noise=0.0, tilt=0.0, seed=1, sign=1.0):
    xy = jittered(14, 0.12, seed)
    z = sign * frustum(xy) + tilt * xy[:, 0] + np.random.default_rng(seed).normal(0, noise, len(xy))
    return np.column_stack([xy, z]) * factor + FAR * factor


def answer(store, unit=METRE, base_store=None, **values):
    ring = values.pop("toe", circle(10.4, 36) / unit.metres + FAR[:2] / unit.metres)
    return measured(store, ring, unit, base_store, **values)


class Truth(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.store = store_of(heap_points(noise=0.01, tilt=0.02))

    def test_every_base(self):
        level = FAR[2] - 0.3
        got = {base: answer(self.store, base=base, level=level).value("net") for base in ("toe", "plane", "lowest", "level")}
        area = answer(self.store).value("plan_area")
        self.assertAlmostEqual(got["plane"] / FRUSTUM, 1.0, delta=0.003)
        self.assertAlmostEqual(got["level"], FRUSTUM + 0.3 * area, delta=1.0)
        self.assertAlmostEqual(got["lowest"], FRUSTUM + 0.02 * 10.4 * area, delta=12)

    def test_the_area_along_a_rough_top_is_not_that_of_its_wrinkles(self):
        """Noise of half a spacing wrinkles the triangles between points; cell means smooth it away."""
        want = answer(store_of(heap_points())).value("surface_area")
        for noise, way in ((0.001, "through every point"), (0.06, "over cell means of")):
            found = answer(store_of(heap_points(noise=noise))).figures["surface_area"]
            self.assertAlmostEqual(found.value / want, 1.0, delta=0.02)
            self.assertIn(way, found.note)

    def test_base_from_another_cloud(self):
        xy = jittered(15, 0.3, 9)
        before = store_of(np.column_stack([xy, 0.02 * xy[:, 0] - 0.5]) + FAR)
        outcome = answer(self.store, base_store=before, bias=0.02)
        area = outcome.value("plan_area")
        self.assertAlmostEqual(outcome.value("net"), FRUSTUM + 0.5 * area, delta=1.5)
        rows = dict((row[0], row[1]) for row in outcome.tables["uncertainty"].rows)
        self.assertAlmostEqual(rows["Vertical bias"], 0.02 * area, places=6)

    def test_feet_of_both_kinds(self):
        for unit in (FOOT, US_SURVEY_FOOT):
            with self.subTest(unit.code):
                store = store_of(heap_points(1 / unit.metres), unit, scale=0.001)
                outcome = answer(store, unit, density=1.7)
                self.assertEqual(outcome.figures["net"].unit, f"{unit.code}3")
                self.assertAlmostEqual(outcome.value("net") * unit.metres**3 / FRUSTUM, 1.0, delta=0.003)
                self.assertAlmostEqual(outcome.value("mass") / (FRUSTUM * 1.7), 1.0, delta=0.003)
                short = answer(store, unit, density=1.7, density_unit="ton/yd3")
                self.assertEqual(short.figures["mass"].unit, "ton")
                cubic_yards = FRUSTUM / 0.9144**3
                self.assertAlmostEqual(short.value("mass") / (cubic_yards * 1.7), 1.0, delta=0.003)

    def test_a_pit_lies_below(self):
        outcome = answer(store_of(heap_points(sign=-1.0)))
        self.assertAlmostEqual(outcome.value("below") / FRUSTUM, 1.0, delta=0.004)
        self.assertLess(outcome.value("net"), 0)
        self.assertLess(outcome.value("above"), 0.01 * FRUSTUM)

    def test_live_answer_follows_the_full_one(self):
        setup = heap_setup(circle(10.4, 36) + FAR[:2], density=1.5)
        sources = sources_of(self.store)
        live = LiveHeap(setup, sources)
        full = answer(self.store).value("net")
        quick = live.answer(setup)
        self.assertTrue(quick.live)
        self.assertAlmostEqual(quick.value("net") / full, 1.0, delta=0.004)
        self.assertAlmostEqual(quick.value("mass"), 1.5 * quick.value("net"), places=9)
        half = replace(setup, toe=Drawn.of([v for v in setup.toe.xy if v[0] < FAR[0] + 0.1]))
        want = run(half, sources, silent()).value("net")
        self.assertAlmostEqual(live.answer(half).value("net") / want, 1.0, delta=0.02)
        for few, covered in ((half, True), (replace(setup, toe=Drawn.of(setup.toe.xy[::12])), True),
                             (replace(setup, toe=Drawn.of(setup.toe.xy[:2])), False)):  # fmt: skip
            self.assertEqual(live.covers(few), covered)
        self.assertFalse(live.covers(replace(setup, toe=toe_of(circle(40, 8) + FAR[:2]))))

    def test_cancel(self):
        stopped = Progress()
        stopped.stop()
        with self.assertRaises(Cancelled):
            run(heap_setup(circle(10.4) + FAR[:2]), sources_of(self.store), stopped)


class Warnings(unittest.TestCase):
    def codes(self, points, classes=None, **values):
        return {note.code: note.text for note in answer(store_of(points, classes=classes), **values).warnings}

    def test_a_clean_heap_has_none(self):
        self.assertEqual(self.codes(heap_points(noise=0.01)), {})

    def test_gaps_are_measured(self):
        points = heap_points()
        points = points[np.hypot(*(points[:, :2] - FAR[:2] - [3, 2]).T) > 2.0]
        outcome = answer(store_of(points))
        self.assertAlmostEqual(outcome.value("gap_area"), np.pi * 4, delta=1.2)
        self.assertIn("gaps", {note.code for note in outcome.warnings})
        self.assertGreater(dict(r[:2] for r in outcome.tables["uncertainty"].rows)["Interpolated gaps"], 0.5)

    def test_things_on_the_heap_and_strays(self):
        points = heap_points(noise=0.01)
        near = np.hypot(*(points[:, :2] - FAR[:2] - [6, 0]).T) < 1.0
        points[near, 2] += np.random.default_rng(0).uniform(0, 2, near.sum())
        self.assertIn("rough", self.codes(points))
        points = heap_points(noise=0.01)
        points[np.argmin(np.hypot(*(points[:, :2] - FAR[:2]).T)), 2] += 8
        self.assertIn("stray", self.codes(points))

    def test_noise_classes_do_not_count_unless_chosen(self):
        points, classes = heap_points(), None
        classes = np.full(len(points), 2)
        classes[::50] = 7
        points[::50, 2] += 20.0
        clean = answer(store_of(points, classes=classes))
        self.assertAlmostEqual(clean.value("net") / FRUSTUM, 1.0, delta=0.005)
        self.assertGreater(
            answer(store_of(points, classes=classes), cloud=Scope(classes=(2, 7)), strays="counted").value("net"), 1.1 * FRUSTUM
        )

    def test_what_cannot_be_determined_is_null_with_a_reason(self):
        store = store_of(heap_points())
        for toe in (circle(5, 9) + FAR[:2] + 500, circle(0.01, 9) + FAR[:2]):
            outcome = answer(store, toe=toe)
            self.assertTrue(all(figure.value is None for figure in outcome.figures.values()))
            self.assertEqual(outcome.warnings[-1].code, "not-determinable")

    def test_setups_that_are_wrong_say_what(self):
        store = store_of(heap_points())
        bad = {
            "level": ({"base": "level"}, "needs a level"), "surface": ({"base": "surface"}, "needs a cloud"),
            "base": ({"base": "guess"}, "not one of"), "cell": ({"cell": -1.0}, "Grid cell"),
            "density": ({"density": float("nan")}, "Density"), "toe": ({"toe": np.empty((0, 2))}, "Draw a line"),
            "crossing": ({"toe": ((0, 0), (2, 2), (2, 0), (0, 2))}, "crosses"),
        }  # fmt: skip
        for name, (values, words) in bad.items():
            with self.subTest(name), self.assertRaisesRegex(InputError, words):
                answer(store, **values)


class Demo(Folder):
    """The made-up yard, whose heaps have closed-form volumes; a sparse version of it ships with the tests."""

    def test_heaps_are_found_within_their_uncertainty(self):
        store = build(LasStream(YARD), self.folder / "yard", silent())
        for heap in yard.HEAPS:
            with self.subTest(heap.name):
                outcome = measured(store, heap.toe(outside=0.4), cloud=Scope(classes=(2,)))
                net = outcome.figures["net"]
                self.assertLess(abs(net.value - heap.volume), max(net.u95, 0.015 * heap.volume))
        codes = {note.code for note in outcome.warnings}
        self.assertTrue(codes & {"toe-step", "toe-gaps"}, "the heap at the wall says that its base is interpolated")


class Parts(unittest.TestCase):
    """Each named part of the uncertainty against its formula (docs/methods/stockpile.md), on a slab of known size."""

    SIGMA = 0.02

    def slab(self, unit=METRE, gap=0.0):
        xy = jittered(12, 0.2, 4)
        z = 2.0 * (np.abs(xy).max(axis=1) < 8) + np.random.default_rng(1).normal(0, self.SIGMA, len(xy))
        keep = np.hypot(*(xy - [2, 1]).T) >= gap
        return store_of((np.column_stack([xy, z])[keep] + FAR) / unit.metres, unit)

    def parts(self, unit=METRE, gap=0.0, **values):
        ring = (np.array([[-7.0, -7], [7, -7], [7, 7], [-7, 7]]) + FAR[:2]) / unit.metres
        outcome = measured(self.slab(unit, gap), ring, unit, **values)
        rows = {row[0]: (row[1], row[2]) for row in outcome.tables["uncertainty"].rows}
        return outcome, rows

    def test_noise_bias_and_their_sum(self):
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            level, bias = (FAR[2] + 1.0) / unit.metres, 0.05 / unit.metres
            outcome, rows = self.parts(unit, base="level", level=level, bias=bias)
            area = outcome.value("plan_area")
            self.assertAlmostEqual(area * unit.metres**2, 196.0, places=3)
            self.assertAlmostEqual(rows["Vertical bias"][0], bias * area, places=6)
            inside = 196 / 0.04
            # Each point errs by itself here, so that all count.
            noise = 1.96 * self.SIGMA / unit.metres * area / np.sqrt(inside)
            self.assertAlmostEqual(rows["Vertical noise"][0] / noise, 1.0, delta=0.2)
            self.assertEqual(rows["Base under the heap"][0], 0.0)
            whole = np.sqrt(sum(value**2 for name, (value, _) in rows.items() if name != "Combined"))
            self.assertAlmostEqual(rows["Combined"][0], whole, places=9)
            self.assertAlmostEqual(outcome.figures["net"].u95, whole, places=9)
            self.assertAlmostEqual(outcome.value("net") * unit.metres**3, 196.0, delta=1.0)

    def test_noise_that_neighbours_share_counts_for_more(self):
        """Errors of whole cells of half a metre: points within each say the same, and fewer say anything."""
        xy = jittered(12, 0.2, 4)
        rng = np.random.default_rng(2)
        cell = np.floor((xy + 12) / 0.5).astype(int)
        shared = rng.normal(0, self.SIGMA, (60, 60))[cell[:, 0], cell[:, 1]]
        ring = np.array([[-7.0, -7], [7, -7], [7, 7], [-7, 7]]) + FAR[:2]
        found = []
        for z in (shared, rng.normal(0, self.SIGMA, len(xy))):
            outcome = measured(store_of(np.column_stack([xy, z]) + FAR), ring, base="level", level=FAR[2] - 2.0)
            found.append({row[0]: row[1] for row in outcome.tables["uncertainty"].rows}["Vertical noise"])
        self.assertGreater(found[0], 1.5 * found[1])
        self.assertLess(found[0], CORRELATED_SPACINGS * found[1] * 1.2)

    def test_toe_position_is_what_lines_drawn_anew_would_cut(self):
        """On a slab a metre over its base: a vertex off by s takes s times half of both its sides.

        Four corners of a square of side a, moved along their diagonals by s each: variance 4 (a s / sqrt(2))².
        """
        for error in (0.1, 0.3):
            _, rows = self.parts(base="level", level=FAR[2] + 1.0, toe_error=error)
            strip = 2 * 14 * error / np.sqrt(2)
            self.assertAlmostEqual(rows["Toe position"][0] / strip, 1.0, delta=0.25)
        outcome, rows = self.parts(base="level", level=FAR[2] + 1.0)
        self.assertIn("by 0.6", rows["Toe position"][1], "three spacings where nothing is said")
        self.assertIsNotNone(outcome.value("net"))

    def test_bias_cancels_where_top_and_base_are_one_survey(self):
        for base in ("toe", "plane", "lowest"):
            _, rows = self.parts(base=base, bias=0.5)
            self.assertEqual(rows["Vertical bias"][0], 0.0, base)
            self.assertIn("cancels", rows["Vertical bias"][1])

    def test_the_ground_behind_a_wall_is_as_unsure_as_that_before_it_is_uneven(self):
        """Half a heap against a wall: along the wall nothing of the ground is seen, on even ground that costs little."""
        parts = []
        for uneven in (0.0, 0.15):
            xy = jittered(12, 0.15, 5)
            ground = uneven * np.sin(xy[:, 0] * 1.3) * np.cos(xy[:, 1] * 0.9)
            z = np.where(xy[:, 0] > 0, 4.0, ground + np.clip(6 - np.hypot(*xy.T), 0, None) * 0.5)
            store = store_of(np.column_stack([xy, z + np.random.default_rng(2).normal(0, 0.005, len(xy))]) + FAR)
            angle = np.linspace(np.pi / 2, 3 * np.pi / 2, 24)
            ring = np.column_stack([np.minimum(6.3 * np.cos(angle), -0.05), 6.3 * np.sin(angle)]) + FAR[:2]
            outcome = measured(store, ring)
            rows = {row[0]: row for row in outcome.tables["uncertainty"].rows}
            parts.append(rows["Base under the heap"][1])
            self.assertIn("wall", " ".join(note.code + note.text for note in outcome.warnings))
            self.assertAlmostEqual(rows["Combined"][1], outcome.figures["net"].u95, places=9)
        self.assertGreater(parts[1], 5 * parts[0])
        self.assertGreater(parts[0], 0.0)
