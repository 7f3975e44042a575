"""Accuracy beside heights: targets in plan, planes and motions taken out, strips without points, roles, tables to files."""

import unittest
from dataclasses import replace

import numpy as np
import openpyxl
import scipy
import shapely
from scipy.spatial import Delaunay

from kerb.core.accuracy.beneath import IDW, MEDIAN, TIN, Beneath, HowBeneath, deciding
from kerb.core.accuracy.horizontal import fitted, horizontal
from kerb.core.accuracy.strips import _trend, strips
from kerb.core.cloud.view import CloudView
from kerb.core.errors import InputError, NotDeterminable, OutputError
from kerb.core.geometry.rigid import Rigid
from kerb.core.progress import silent
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.report.text import write_table
from kerb.studies.accuracy.kind import ACCURACY, control_targets, corrections
from kerb.studies.accuracy.overlapping import LEAST_TREND
from kerb.studies.accuracy.rows import BAR_SHARE, TestedPoint
from kerb.studies.accuracy.run import _judge, run
from kerb.studies.accuracy.setup import AccuracySetup, with_role
from kerb.studies.accuracy.targets import Target, _arrows
from kerb.studies.layers import bins_of, normal_curve
from kerb.studies.outcome import Column, Outcome, Table
from kerb.studies.scope import Scope
from tests.below.test_accuracy import Study, land, listed
from tests.support import FAR, CommandLine, near, sources_of, store_of


def rotation(rng, degrees):
    return scipy.spatial.transform.Rotation.from_rotvec(np.radians(rng.uniform(-degrees, degrees, 3))).as_matrix()


class InPlan(unittest.TestCase):
    def test_figures_of_the_standard(self):
        """Equal errors: 1.7308 radial RMSE; unequal ones: 2.4477 times half their sum; from 0.6 down none (NSSDA, recalled)."""
        equal = horizontal(np.array([[0.3, 0.4], [-0.3, -0.4], [0.4, 0.3], [-0.4, -0.3]]))
        near([equal.rms_e, equal.rms_n], [np.sqrt(0.125)] * 2)
        near(equal.accuracy95, 1.7308 * 0.5)
        near([equal.mean_e, equal.mean_n, equal.n], [0, 0, 4])
        some = horizontal(np.array([[0.08, 0.1], [0.08, -0.1]]))
        near([some.mean_e, some.mean_n, some.rms_radial], [0.08, 0, np.hypot(0.08, 0.1)])
        near(some.accuracy95, 2.4477 * 0.09)
        self.assertTrue(np.isnan(horizontal(np.array([[0.05, 0.1]])).accuracy95))
        near(horizontal(np.array([[0.06, -0.1]])).accuracy95, 2.4477 * 0.08)
        none = horizontal(np.empty((0, 2)))
        self.assertTrue(np.isnan(none.rms_e) and none.n == 0)
        rng = np.random.default_rng(1)
        d = rng.normal(0, 0.02, (200_000, 2))
        self.assertAlmostEqual(np.mean(np.hypot(*d.T) <= horizontal(d).accuracy95), 0.95, delta=0.003)

    def test_motions_against_scipy(self):
        rng = np.random.default_rng(3)
        for unit in (1.0, 0.3048):
            true = Rigid.of(rotation(rng, 20), FAR / unit, np.array([3.0, -2.0, 0.7]))
            moving = (FAR + rng.uniform(-30, 30, (8, 3))) / unit
            fixed = true(moving) + rng.normal(0, 0.01, (8, 3))
            motion, scale, left = fitted(moving, fixed)
            other, rssd = scipy.spatial.transform.Rotation.align_vectors(fixed - fixed.mean(axis=0), moving - moving.mean(axis=0))
            near(motion.matrix, other.as_matrix(), 1e-7)
            near(np.sqrt((left**2).sum()), rssd, 1e-6)
            self.assertAlmostEqual(scale, 1.0, delta=5e-4)
            near(motion(moving) - fixed, left)
        near(fitted(moving[:3], true(moving[:3]))[2], np.zeros((3, 3)), 1e-6)
        for scale in (1.00012, 0.98):
            seven = Rigid.of(true.matrix, true.about, true.shift, scale)
            motion, found, left = fitted(moving, seven(moving), scaled=True)
            near([found, motion.scale], [scale, scale], 1e-9)
            near(left, np.zeros((8, 3)), 1e-6)
            near(motion.then(motion.inverse())(moving), moving, 1e-6)
            near(Rigid.from_json(motion.to_json())(moving), seven(moving), 1e-6)
            self.assertGreater(np.abs(fitted(moving, seven(moving))[2]).max(), 1e-3)
        self.assertNotIn("scale", true.to_json())
        with self.assertRaisesRegex(InputError, "above nought"):
            Rigid.of(np.eye(3), np.zeros(3), np.zeros(3), 0.0)
        line = FAR + np.column_stack([np.arange(9.0), np.zeros((9, 2))])
        for wide, good in ((0.4, True), (0.04, False)):
            strip = line + np.outer(np.arange(9) % 2, [0, wide, 0])
            if good:
                near(fitted(strip, true(strip))[2], np.zeros((9, 3)), 1e-6)
            else:
                with self.assertRaisesRegex(NotDeterminable, "along a line"):
                    fitted(strip, true(strip))
        near(fitted(moving, (moving - FAR) * 1.0002 + FAR)[1], 1.0002, 1e-9)
        mirrored = fitted(moving, (moving - FAR) * [1, 1, -1] + FAR)[0]
        self.assertAlmostEqual(np.linalg.det(mirrored.matrix), 1.0)
        for some, words in ((moving[:2], "2 targets do not fix"), (FAR + np.outer(np.arange(5), [1, 2, 0.1]), "along a line")):
            with self.assertRaisesRegex(NotDeterminable, words):
                fitted(some, some)


class Judged(unittest.TestCase):
    def test_limits_are_metres_in_every_unit(self):
        """Rough from 30 mm and three times the usual, standing from half a metre: on either side of each, in three units."""
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            usual = [point(0.005, 0.0, 0.0, unit) for _ in range(5)]
            for (rough, stands, over), words in (
                ((0.029, 0.49, 0.49), ""), ((0.031, 0.49, 0.49), "rough ground, grass?"), ((0.031, 0.51, 0.0), f"something stands up to {0.51 / unit.metres:.2f}\xa0{unit.symbol}"),
                ((0.031, 0.51, 0.51), f"under something {0.51 / unit.metres:.2f}\xa0{unit.symbol}"),
            ):  # fmt: skip
                rows = [*usual, point(rough, stands, over, unit)]
                _judge(AccuracySetup(Scope("cloud")), rows, unit)
                self.assertTrue(
                    rows[-1].remark.startswith(words) and bool(rows[-1].remark) == bool(words), (unit, words, rows[-1])
                )
            many = [point(0.012, 0.0, 0.0, unit) for _ in range(5)] + [point(0.035, 0.0, 0.0, unit)]
            _judge(AccuracySetup(Scope("cloud")), many, unit)
            self.assertEqual(many[-1].remark, "", "three times the usual is more than 30 mm here")
            for apart, twin in ((0.045, "same place as P"), (0.055, "")):
                two = [point(0.0, 0.0, 0.0, unit), point(0.0, 0.0, 0.0, unit)]
                two[1].place = two[0].place + [apart / unit.metres, 0, 0]
                two[1].height = two[1].place[2] + 0.01
                _judge(AccuracySetup(Scope("cloud")), two, unit)
                self.assertEqual([one.remark for one in two], ["", twin], apart)


RNG = np.random.default_rng(9)


def point(rough, stands, over, unit, dz=0.01):
    """A point of an accuracy study with what lies beneath it, told in metres."""
    metre = unit.metres
    found = Beneath({}, slope=0.0, rough=rough / metre, tallest=stands / metre, over=over / metre, hole=False)
    place = FAR / unit.metres + RNG.uniform(0, 90, 3)
    return TestedPoint("P", "", "check", place, found, place[2] + dz)


def flown(rng, levels, n=40_000, noise=0.02, unit=1.0):
    """Strips 60 wide that overlap by half, each at a level of its own, over ground of two slopes: points and numbers."""
    points, numbers = [], []
    for k, level in enumerate(levels):
        xy = rng.uniform([30 * k, 0], [30 * k + 60, 80], (n, 2))
        points.append(np.column_stack([xy, land(xy) + level + rng.normal(0, noise, n)]))
        numbers += [7 + k] * n
    return (np.concatenate(points) + FAR) / unit, np.array(numbers)


def stripped(points, numbers, unit=METRE):
    store = store_of(points, unit)
    store.lend("point_source_id", numbers[np.asarray(store.column("number"))])
    return store


class Strips(unittest.TestCase):
    def test_levels_of_known_strips(self):
        """Four strips of which the third lies 80 mm high: it is named, and the others stay near nought."""
        for unit in (METRE, FOOT):
            points, numbers = flown(np.random.default_rng(4), (0.0, 0.004, 0.08, -0.004), unit=unit.metres)
            store = stripped(points, numbers, unit)
            found = strips(store, "point_source_id", 2.0 / unit.metres, np.ones(store.count, bool), silent())
            self.assertEqual(found.codes, (7, 8, 9, 10))
            pairs = {(p.one, p.other): p.height * unit.metres for p in found.pairs}
            self.assertEqual(set(pairs), {(0, 1), (1, 2), (2, 3)})
            near(list(pairs.values()), [-0.004, -0.076, 0.084], 0.002)
            levels = np.array([one.level for one in found.levels]) * unit.metres
            near(levels, [-0.002, 0.002, 0.078, -0.006], 0.003)
            near(np.median(levels), 0.0, 1e-12)
            self.assertTrue(all(1e-4 < one.u95 * unit.metres < 0.002 for one in found.levels))
            x = (found.corners[:, 0] + found.cell / 2) * unit.metres - FAR[0]
            self.assertTrue(((x > 29) & (x < 121)).all())
            middle = (x > 65) & (x < 85)
            near(np.median(found.differences[middle]) * unit.metres, 0.076, 0.003)
            self.assertTrue(np.isfinite(found.z).all())

    def test_of_a_cloud_that_was_moved(self):
        """Turned and lowered, as when a bias was taken out: the same levels, and the map where the cloud lies now."""
        points, numbers = flown(np.random.default_rng(8), (0.0, 0.03), 20_000)
        store = stripped(points, numbers)
        plain = run(AccuracySetup(Scope("cloud"), strips=True), sources_of(store), silent())
        move = Rigid.turned(30.0, FAR, np.array([5.0, -3.0, -0.4]))
        store.place(move)
        moved = run(AccuracySetup(Scope("cloud"), strips=True), sources_of(store), silent())
        before, after = (one.tables["strip_levels"].rows for one in (plain, moved))
        self.assertEqual([row[:6] for row in after], [row[:6] for row in before])
        near([row[6] for row in after], [(row[6] + 30) % 360 for row in before], 0.11)
        mesh = "strip differences"
        near(moved.layers[mesh].vertices, move(plain.layers[mesh].vertices), 1e-6)
        near(moved.layers[mesh].values, plain.layers[mesh].values)
        # Two triangles cover each square cell, side by side and no cell twice.
        cell = float(np.ptp(plain.layers[mesh].vertices[:4, 0]))
        triangles = shapely.polygons(plain.layers[mesh].vertices[plain.layers[mesh].triangles][:, :, :2] - FAR[:2])
        near(shapely.area(triangles), np.full(len(triangles), cell**2 / 2), 1e-6)
        self.assertAlmostEqual(shapely.union_all(triangles).area, cell**2 * len(triangles) / 2, places=4)
        near(np.ptp(plain.layers[mesh].vertices.reshape(-1, 4, 3), axis=1)[:, :2], np.full((len(triangles) // 2, 2), cell), 1e-6)

    def test_trend_along_a_strip(self):
        """The middle one of three rises by 0.6 mm/m to the north and has a van on it: that is found, and of the others half as
        much against it, downwards where they lie beside it; of strips that lie level none is called significant more often than
        one in ten times (nominal one in twenty)."""
        rng = np.random.default_rng(11)
        for unit in (METRE, FOOT):
            points, numbers = flown(rng, (0.0, 0.0, 0.0), unit=1.0)
            mine = numbers == 8
            points[mine, 2] += 0.0006 * (points[mine, 1] - FAR[1])
            points[mine & (np.abs(points[:, 0] - FAR[0] - 50) < 2) & (np.abs(points[:, 1] - FAR[1] - 70) < 4), 2] += 2.0
            store = stripped(points / unit.metres, numbers, unit)
            found = strips(store, "point_source_id", 2.0 / unit.metres, np.ones(store.count, bool), silent())
            trend = [one.trend for one in found.levels]
            near([one.azimuth % 180 for one in trend[1:2]], [0.0], 8.0)
            near([one.slope for one in trend], [-0.0006, 0.0006, -0.0006], 0.0001)
            self.assertTrue(all(one.significant and 1e-6 < one.u95 < 0.0001 for one in trend))
            told = run(AccuracySetup(Scope("cloud"), strips=True), sources_of(store, unit), silent())
            table = np.array([row[4:7] for row in told.tables["strip_levels"].rows], float)
            near(np.abs(table[:, 0]), np.full(3, 0.6), 0.1)
            self.assertTrue(((table[:, 1] > 0.001) & (table[:, 1] < 0.1)).all(), "mm/m as the trend itself")
            trends = [n.text for n in told.warnings if n.code == "strip-trend"]
            self.assertEqual(len(trends), sum(abs(v) > 1000 * LEAST_TREND for v in table[:, 0]))
            (rises,) = [text for text in trends if "rises" in text]
            self.assertRegex(rises, r"rises by 0\.[56]\d* ± 0\.0\d+ mm/m towards (3[56]\d|[0-8])°|rises by 0\.6 ± 0\.\d+ mm/m")
        false = 0
        for _ in range(12):
            store = stripped(*flown(rng, (0.0, 0.0, 0.01), 12_000))
            found = strips(store, "point_source_id", 2.0, np.ones(store.count, bool), silent())
            false += sum(one.trend.significant for one in found.levels)
            told = run(AccuracySetup(Scope("cloud"), strips=True), sources_of(store, METRE), silent()) if not false else told
        self.assertLessEqual(false, 4)
        self.assertFalse([note for note in told.warnings if note.code == "strip-trend"], "no trend that may be chance is told")

    def test_a_trend_by_as_few_pieces_as_are_enough(self):
        """Six pieces of three cells, of twenty that the strip has: the line through their medians with the bound of a slope
        (Student's t, four degrees of freedom, 2.776 recalled from its table), whichever way the strip runs and however small."""
        at = np.array([0.0, 11.0, 19.0, 31.0, 39.0, 50.0])
        medians = 0.002 * at + 0.001 * np.array([1, -1, 0, 0, -1, 1])
        along = np.append(np.concatenate([at + k for k in (-0.1, 0.0, 0.1)]), [25.0, 25.1])
        above = np.append(np.concatenate([medians - 0.5, medians, medians + 4.0]), [0.0, 0.0])
        shared = np.array([True] * 18 + [False] * 2)
        error = np.sqrt(4e-6 / 4 / np.sum((at - 25.0) ** 2))
        for size in (1.0, 0.01, 100.0):
            for azimuth in (0.0, 40.0, 90.0, 300.0):
                east, north = np.sin(np.radians(azimuth)), np.cos(np.radians(azimuth))
                places = FAR[:2] + size * np.outer(along, [east, north])
                means = size * np.column_stack([above, np.zeros(20)]) + 12.0
                enough = np.column_stack([np.ones(20, bool), shared])
                found = _trend(places, means, enough, 0)
                with self.subTest(size=size, azimuth=azimuth):
                    near(found.slope, 0.002, 1e-6)
                    near(found.u95, 2.776 * error, 2e-4 * error + 1e-8)
                    self.assertTrue(found.significant)
                    near((found.azimuth - azimuth + 180.0) % 360.0, 180.0, 1e-3)
        lacking = enough & ~np.outer(np.arange(20) == 3, [False, True])
        for words, some, those in (
            ("five pieces", slice(None), lacking),
            ("nineteen cells", slice(0, 19), enough),
            ("none shared", slice(None), enough & [True, False]),
            ("all in one place along it", slice(None), enough & ~np.outer(np.arange(20) != 3, [False, True])),
        ):
            with self.subTest(words), np.errstate(all="raise"):
                self.assertIsNone(_trend(places[some], means[some], those[some], 0))
        flat = _trend(places, np.where(np.arange(2) == 0, means * 0 + np.tile([0.0, 0.1], 10)[:, None], 0.0), enough, 0)
        self.assertFalse(flat.significant)


class Beside(Study):
    def test_targets_in_the_study(self):
        """Every target was picked 12 mm east and 20 mm south of where it is; two are control."""
        names = [f"T{n}" for n in range(16)]
        d = np.array([0.012, -0.020, 0.03])
        picked = listed(self.points + d, names)
        self.sources = sources_of(store_of(self.cloud), points=listed(self.points, names), picked=picked)
        setup = AccuracySetup(Scope("cloud"), points="points", picked="picked", control="T0, T5")
        outcome = run(setup, self.sources, silent())
        near([outcome.value(k) for k in ("targets", "mean_e", "mean_n", "rms_e", "rms_n")], [14, 0.012, -0.02, 0.012, 0.02], 1e-6)
        near(outcome.value("accuracy95_horizontal"), 2.4477 * 0.016, 1e-6)
        table = {row[0]: row for row in outcome.tables["targets"].rows}
        near(table["T5"][2:6], [0.012, -0.02, 0.03, np.hypot(0.012, 0.02)], 1e-6)
        self.assertEqual((table["T5"][6], table["T6"][6]), ("no", "yes"))
        said = dict(outcome.tables["standards"].rows)["NSSDA, horizontal (FGDC-STD-007.3-1998)"]
        self.assertEqual(said, "Tested 0.039 meters horizontal accuracy at 95% confidence level. Too few points: 14, the standard "
                               "asks for 20.")  # fmt: skip
        arrow = outcome.layers["targets"].ends
        near(np.diff(arrow, axis=1)[:, 0, :2] @ [20.0, 12.0], np.zeros(14), 1e-6)
        drawn = [Target(TestedPoint("a", "", "check", np.array(place), Beneath({}), 0.0), np.add(place, way))
                 for place, way in (([0.0, 0, 9], [0.03, -0.04, 7.0]), ([5.0, 50, 1], [0.0, 0.025, 0.0]))]  # fmt: skip
        empty = Outcome("accuracy", "m", "", {}, {})
        _arrows(empty, drawn)
        near(np.diff(empty.layers["targets"].ends, axis=1)[:, 0], BAR_SHARE * 50 * np.array([[0.6, -0.8, 0], [0, 0.5, 0]]))
        self.assertFalse(drawn[0].row.used or drawn[0].row.vegetated)
        _arrows(still := Outcome("accuracy", "m", "", {}, {}), [replace(one, picked=one.row.place) for one in drawn])
        self.assertEqual(still.layers, {}, "where nothing differs there is no arrow")
        with self.assertRaisesRegex(InputError, "no name there is that of a point"):
            self.sources = sources_of(store_of(self.cloud), points=listed(self.points, names), picked=listed(self.points))
            run(setup, self.sources, silent())

    def test_what_would_take_it_out(self):
        """Mean and median; a plane where the control is tilted; the motion of control targets, which brings them back."""
        names = [f"G{n}" for n in range(16)]
        tilted = self.points - np.column_stack([np.zeros((16, 2)), 0.004 * (self.points[:, 0] - FAR[0]) + 0.1])
        tilted[3, 2] -= 0.05
        self.sources = sources_of(store_of(self.cloud), points=listed(tilted, names))
        outcome = run(AccuracySetup(Scope("cloud"), points="points", control="G*"), self.sources, silent())
        mean, median, plane = corrections(outcome)
        dz = np.array([row[6] for row in outcome.tables["points"].rows])
        near([mean.move.shift[2], median.move.shift[2]], [-dz.mean(), -np.median(dz)], 1e-9)
        self.assertRegex(plane.words, r"^levelled by [34]\.\d+ mm/m towards (8\d|9\d)°")
        self.assertEqual(plane.title, "Plane: " + plane.words.split(", ")[0])
        xyz = np.array([row[2:4] + (row[5],) for row in outcome.tables["points"].rows], float)
        left = plane.move(xyz)[:, 2] - tilted[:, 2]
        self.assertLess(left.std(), 0.02)
        near(left.mean(), 0.0, 1e-4)
        tilted[:, 2] = 2 * self.points[:, 2] - tilted[:, 2]
        self.sources = sources_of(store_of(self.cloud), points=listed(tilted, names))
        west = run(AccuracySetup(Scope("cloud"), points="points", control="G*"), self.sources, silent())
        rows = np.array([[row[2], row[3], row[6]] for row in west.tables["points"].rows], float) - [*FAR[:2], 0.0]
        east, north = np.linalg.lstsq(np.column_stack([rows[:, :2], np.ones(16)]), rows[:, 2], rcond=None)[0][:2]
        way = 270.0 + np.degrees(np.arctan2(north, -east))
        self.assertIn(f" towards {way:.0f}°", corrections(west)[-1].words)
        turn = Rigid.of(rotation(np.random.default_rng(7), 0.5), FAR, np.array([0.4, -0.2, 0.1]))
        rough = turn(self.points) + np.random.default_rng(8).normal(0, 0.02, (16, 3))
        self.sources = sources_of(store_of(self.cloud), points=listed(self.points, names), picked=listed(rough, names))
        found = corrections(
            run(AccuracySetup(Scope("cloud"), points="points", picked="picked", control="G*"), self.sources, silent())
        )
        self.assertRegex(found[-2].words, r"^turned by [\d.]+°, moved by [^,]+, the fit of 16 control targets by six parameters")
        self.assertRegex(found[-1].words, r"m and scaled by [+-]\d+ ppm, the fit of 16 control targets by seven parameters")
        near(found[-1].move(rough), self.points, 0.06)
        turned = np.degrees(np.linalg.norm(scipy.spatial.transform.Rotation.from_matrix(found[-2].move.matrix).as_rotvec()))
        self.assertTrue(found[-2].words.startswith(f"turned by {turned:.4f}°"), (turned, found[-2].words))
        left = np.linalg.norm(found[-2].move(rough) - self.points, axis=1)
        self.assertIn(f"; {np.sqrt(np.mean(left**2)):.3f}\xa0m left", found[-2].title)
        self.assertEqual(corrections(self.run_it(listed(self.points))), ())
        self.assertEqual([len(places) for places in control_targets(outcome)], [0, 0], "without targets there are none")

    def test_roles_by_rows_of_the_table(self):
        names = [f"P{n}" for n in range(16)]
        points = listed(self.points, names, role=("control", "check", "out", "check") * 4)
        setup = AccuracySetup(Scope("cloud"), points="points")
        for step, chosen, text in (
            (0, ("P1", "P2"), ""), (1, ("P0", "P2"), ""), (2, ("P5",), "grass"), (0, ("P5",), ""),
        ):  # fmt: skip
            setup = replace(setup, **ACCURACY.row_steps[step].apply(setup, chosen, text))
        self.assertEqual((setup.control, setup.checks, setup.left_out), ("P1, P5", "P0, P2", ""))
        roles, reasons, given = setup.roles(points.thing, np.zeros(points.thing.count, bool))
        self.assertEqual(roles[:7], ["check", "control", "check", "check", "control", "control", "left out"])
        self.assertEqual((reasons[6], given), ("left out in the list", True))
        setup = replace(setup, **with_role(setup, ("P1",), "left out", "under a lorry"))
        self.assertEqual(setup.left_out, "P1 under a lorry")
        self.assertEqual(setup.roles(points.thing, np.zeros(points.thing.count, bool))[0][1], "left out")

    def test_bars_to_scale_and_the_normal_curve(self):
        off = self.points + np.column_stack([np.zeros((16, 2)), np.linspace(-0.1, 0.1, 16)])
        outcome = self.run_it(listed(off))
        rows = {row[0]: row[6] for row in outcome.tables["points"].rows}
        for name, sign in (("bars above", 1), ("bars below", -1)):
            ends = outcome.layers[name].ends
            rise = ends[:, 1, 1] - ends[:, 0, 1]
            self.assertTrue((np.sign(rise) == sign).all())
            dz = [rows[f"P{np.argmin(np.hypot(*(off[:, :2] - e[0, :2]).T))}"] for e in ends]
            near(rise / dz, np.full(len(dz), rise[0] / dz[0]), 1e-4)
        scale = outcome.layers["bar scale"]
        size = float(scale.texts[0].split()[1])
        near((scale.ends[0, 1, 1] - scale.ends[0, 0, 1]) / size, rise[0] / dz[0], 1e-4)
        self.assertNotIn("bar scale", self.run_it(listed(off[:1])).layers, "one point has no extent to scale to")
        d = np.random.default_rng(3).normal(0.02, 0.1, 5000)
        counts, edges = bins_of(d, 40)
        curve = normal_curve(d, edges)
        width = edges[1] - edges[0]
        near(scipy.integrate.trapezoid(curve[:, 1], curve[:, 0]) / width, 5000, 25)
        near(curve[np.argmax(curve[:, 1]), 0], d.mean(), width / 2)
        middle = (edges[:-1] + edges[1:]) / 2
        self.assertLess(np.abs(np.interp(middle, *curve.T) - counts).max(), 5 * np.sqrt(counts.max()))
        self.assertEqual(len(normal_curve(np.ones(9), np.array([0.0, 1.0]))), 0)
        for few, drawn in (([1.0, 2.0], False), ([1.0, 2.0, np.nan], False), ([1.0, 2.0, 4.0], True)):
            self.assertEqual(len(normal_curve(np.array(few), np.array([0.0, 1.0]))) > 0, drawn)
        for values, most in ((d, 40), (d, 7), (d[:50], 40), (np.ones(9), 40), (np.array([np.nan]), 5)):
            known = values[np.isfinite(values)]
            count = len(np.histogram_bin_edges(known, "auto")) - 1
            counts, edges = bins_of(values, most)
            self.assertEqual((len(counts), len(edges), counts.sum()), (min(count, most), min(count, most) + 1, len(known)))

    def test_the_points_that_decide(self):
        store = store_of(self.cloud)
        view, place = CloudView(store), self.points[5, :2]
        xyz = store.coordinates(slice(0, store.count))
        away = np.hypot(*(xyz[:, :2] - place).T)
        how = HowBeneath(6, 1.0)
        corners = deciding(view, place, TIN, how)
        tin = Delaunay(xyz[:, :2] - place)
        wanted = xyz[tin.simplices[tin.find_simplex(np.zeros((1, 2)))[0]]]
        near(corners[np.lexsort(corners.T)], wanted[np.lexsort(wanted.T)], 1e-9)
        near(np.sort(np.hypot(*(deciding(view, place, IDW, how)[:, :2] - place).T)), np.sort(away)[:6], 1e-9)
        self.assertEqual(len(deciding(view, place, MEDIAN, how)), (away <= 1.0).sum())
        self.assertEqual(len(deciding(view, place + 1000.0, TIN, how)), 0)


class Files(CommandLine):
    def test_a_table_as_csv_and_as_a_workbook(self):
        table = Table(
            "Points", (Column("name", "", "Point"), Column("dz", "m", "Tested − point")), (("=A1", 0.123456789), ("B", None))
        )
        book = self.folder / "t.xlsx"
        write_table(table, book)
        cells = [tuple(c.value for c in row) for row in openpyxl.load_workbook(book).active.rows]
        self.assertEqual(cells, [("Point", "Tested − point (m)"), ("'=A1", 0.123456789), ("B", None)])
        write_table(table, self.folder / "t.csv")
        self.assertIn("0.123456789", (self.folder / "t.csv").read_text())
        with self.assertRaisesRegex(OutputError, "exists"):
            write_table(table, book)
