"""Accuracy under hard conditions: vegetation, limits by rounding, names, lists, strips on slopes, noisy clouds."""

import unittest

import numpy as np

from kerb.core.accuracy.strips import strips
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.features import SurveyPoints
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.things import POINTS, Placed
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.studies.accuracy.kind import describe
from kerb.studies.accuracy.points import given_twice
from kerb.studies.accuracy.run import run
from kerb.studies.accuracy.setup import AccuracySetup, left_out, named
from kerb.studies.outcome import Input, Outcome
from kerb.studies.scope import Scope
from tests.support import FAR, near, sources_of, store_of

RNG = np.random.default_rng(1)
PLACES = np.array([[x, y] for x in (5, 15, 25, 35) for y in (5, 15, 25, 35)], float)


def listed(xyz, names=None, **extra):
    names = tuple(names or (f"P{n}" for n in range(len(xyz))))
    return Placed(POINTS, SurveyPoints(np.asarray(xyz, float), names, ("",) * len(names), extra), local_grid(METRE))


def flat(noise=0.0, level=0.0, n=12_000):
    xy = RNG.uniform(0, 40, (n, 2))
    return np.column_stack([xy, level + RNG.normal(0, noise, n) if noise else np.full(n, level)]) + FAR


def asked(cloud, points, unit=METRE, control_list=None, picked=None, **values):
    store = store_of(cloud / unit.metres, unit)
    more = {"control_list": control_list, "picked": picked}
    sources = sources_of(store, unit, points=points, **{k: v for k, v in more.items() if v is not None})
    named_ = {k: k for k, v in more.items() if v is not None}
    return run(AccuracySetup(cloud=Scope("cloud"), points="points", **named_, **values), sources, silent())


class Figures(unittest.TestCase):
    def test_vegetation_is_apart(self):
        """Twelve points off by 2 cm, four in vegetation off by 30 cm: the figures are those of the twelve; VVA has its own."""
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            z = np.where(np.arange(16) < 4, -0.30, -0.02)
            points = listed(np.column_stack([PLACES, z]) / unit.metres + FAR / unit.metres)
            found = asked(flat(), points, unit, vegetated="P0, P1, P2, P3")
            near([found.value(k) * unit.metres for k in ("rms", "mean", "vegetated95")], [0.02, 0.02, 0.30], 2e-3)
            self.assertEqual((found.value("n"), found.value("n_vegetated")), (12, 4))
            said = dict(found.tables["standards"].rows)
            self.assertIn("+/- 30.0 cm at the 95th percentile (4 points)", said["ASPRS 2014, vegetated"])
            self.assertIn("RMSEV = 30.0 cm", said["ASPRS 2023, vegetated"])
            self.assertIn("RMSEz = 2.0 cm", said["ASPRS 2014"])
            self.assertNotIn("tilt", [note.code for note in found.warnings])
        rows = {row[0]: row[-1] for row in found.tables["points"].rows}
        self.assertEqual((rows["P0"], rows["P9"]), ("yes", ""))

    def test_limits_are_not_passed_by_rounding(self):
        points = listed(np.column_stack([PLACES, np.full(16, -0.05)]) + FAR)
        said = dict(asked(flat(), points, wanted=0.05).tables["standards"].rows)["Verdict"]
        self.assertIn(": met", said)
        cloud = flat()
        cloud[:, 2] += 0.1 * (cloud[:, 0] - FAR[0])
        on = listed(np.column_stack([PLACES, 0.1 * PLACES[:, 0]]) + FAR)
        self.assertEqual(asked(cloud, on, max_slope=10.0).value("n"), 16)
        self.assertEqual(asked(cloud, on, max_slope=9.9).value("n"), 0)

    def test_the_noise_of_the_cloud_is_told(self):
        points = listed(np.column_stack([PLACES, np.zeros(16)]) + FAR)
        note = {n.code: n.text for n in asked(flat(0.03), points).warnings}["cloud-noise"]
        self.assertRegex(note, r"0\.0(2|3)\d.m .* about 0\.0[12]\d.m .* Local plane")
        self.assertNotIn("cloud-noise", [n.code for n in asked(flat(0.03), points, way="plane").warnings])
        self.assertNotIn("cloud-noise", [n.code for n in asked(flat(), points).warnings])

    def test_no_elevation_and_control_at_the_place_of_a_check(self):
        xyz = np.column_stack([PLACES, np.zeros(16)]) + FAR
        xyz[3, 2] = -9999
        xyz[5, :2] = xyz[4, :2] + 0.01
        found = asked(flat(), listed(xyz), control="P4")
        rows = {row[0]: row for row in found.tables["points"].rows}
        self.assertEqual(rows["P3"][8], "has no elevation")
        self.assertIn("same place as P4 (control): not independent", rows["P5"][9])
        self.assertLess(abs(found.value("mean")), 1e-3)

    def test_the_worst_are_named_first(self):
        z = np.zeros(16)
        z[[2, 9]] = -0.7, -2.0
        z += RNG.normal(0, 0.005, 16)
        found = asked(flat(), listed(np.column_stack([PLACES, z]) + FAR))
        text = {n.code: n.text for n in found.warnings}["look-at"]
        self.assertLess(text.index("P9"), text.index("P2"))
        bars = found.layers["bars above"].ends if hasattr(found.layers["bars above"], "ends") else None
        self.assertTrue(bars is None or len(bars))

    def test_what_was_corrected_stands_beside_the_figure(self):
        one = Input("tested", "a.laz", 9, 9, steps=("Imported", "Yard lowered by 0.031 m, the mean of control"))
        outcome = Outcome("accuracy", "m", "", {}, {"use": "check"}, inputs=[one])
        self.assertEqual(describe({"use": "check"}, outcome)[1], "Yard lowered by 0.031 m, the mean of control")


class Names(unittest.TestCase):
    def test_names_with_blanks(self):
        names, codes = ("GCP 1", "1", "GCP 2", "K7"), ("",) * 4
        self.assertEqual(named("GCP 1", names, codes, "Control"), ["GCP 1"])
        self.assertEqual(named("GCP*; 1 K7", names, codes, "Control"), ["GCP*", "1", "K7"])
        self.assertEqual(left_out("GCP 1 grass; K7: slope", names), {"GCP 1": "grass", "K7": "slope"})
        with self.assertRaisesRegex(InputError, "Control: no point has the name or code K77"):
            named("K77", names, codes, "Control")

    def test_names_given_twice_and_unknown_roles(self):
        self.assertEqual(given_twice(("a", "b", "a", "", "")), ["a"])
        xyz = np.column_stack([PLACES, np.zeros(16)]) + FAR
        twice = listed(xyz, [*(f"P{n}" for n in range(15)), "P0"])
        picks = listed(xyz[[0, 1, 2, 2]] + [0.1, 0, 0], ["P0", "P1", "P2", "P2"])
        found = asked(flat(), twice, picked=picks)
        self.assertEqual(found.value("targets"), 1)
        near(found.value("mean_e"), 0.1, 1e-6)
        said = {note.code: note.text for note in found.warnings}
        self.assertIn("P0", said["names"])
        self.assertIn("P2", said["picks"])
        with self.assertRaisesRegex(InputError, "several points"):
            asked(flat(), twice, picked=listed(xyz[[0]], ["P0"]))
        with self.assertRaisesRegex(InputError, "P0: 'base' is not a known role"):
            asked(flat(), listed(xyz, None, role=("base",) * 16))
        self.assertEqual(asked(flat(), listed(xyz, None, role=("CTL",) * 4 + ("check",) * 12)).value("n"), 12)

    def test_control_and_checks_from_two_lists(self):
        xyz = np.column_stack([PLACES, np.zeros(16)]) + FAR
        control = listed(xyz[:5] + [0, 0, -0.3], [f"K{n}" for n in range(5)])
        found = asked(flat(), listed(xyz[5:]), control_list=control)
        self.assertEqual(found.value("n"), 11)
        roles = {row[0]: row[1] for row in found.tables["points"].rows}
        self.assertEqual((len(roles), roles["K3"], roles["P3"]), (16, "control", "check"))
        near(asked(flat(), listed(xyz[5:]), control_list=control, use="control").value("mean"), 0.3, 1e-6)


class Strips(unittest.TestCase):
    def cloud(self, slope, offset=0.0, touching=False, noise=0.01):
        """Two strips over a plane; each cell of the overlap is covered by one mostly here, by the other mostly there."""
        rng = np.random.default_rng(3)
        one = np.column_stack([rng.uniform(0, 40, 24_000), rng.uniform(0, 50, 24_000)])
        other = np.column_stack([rng.uniform(40.0 if touching else 25.3, 70, 24_000), rng.uniform(0, 50, 24_000)])
        xy = np.concatenate([one, other])
        which = np.repeat([0, 1], 24_000)
        z = slope * xy[:, 0] + offset * which + rng.normal(0, noise, len(xy))
        store = store_of(np.column_stack([xy, z]) + FAR)
        number = np.asarray(store.column("number"))
        store.lend("source_file", (number >= 24_000).astype(np.uint16))
        store.meta.columns.append("source_file")
        return store

    def test_on_a_slope_nothing_comes_of_nothing(self):
        for slope in (0.0, 0.2, -0.5):
            store = self.cloud(slope)
            found = strips(store, "source_file", 1.7, np.ones(store.count, bool), silent())
            self.assertLess(abs(found.pairs[0].height), 0.002, slope)
            self.assertLess(abs(found.levels[0].level), max(found.levels[0].u95, 0.002))
        store = self.cloud(0.2, 0.05)
        found = strips(store, "source_file", 1.7, np.ones(store.count, bool), silent())
        near(found.pairs[0].height, -0.05, 0.002)

    def test_strips_that_only_touch(self):
        store = self.cloud(0.2, touching=True)
        with self.assertRaisesRegex(NotDeterminable, "no two strips"):
            strips(store, "source_file", 1.7, np.ones(store.count, bool), silent())


if __name__ == "__main__":
    unittest.main()
