"""Alignment under hard conditions: changed ground, vegetation, two scenes that are not one; inputs that do not belong together."""

import unittest

import laspy
import numpy as np
import pyproj
import scipy

from kerb.core.change.local_kernels import student_95
from kerb.core.errors import InputError, OutputError
from kerb.core.progress import silent
from kerb.studies.align.kind import corrections, write
from kerb.studies.align.run import run
from kerb.studies.align.setup import AlignSetup
from kerb.studies.scope import Scope
from tests.support import FAR, CommandLine, near, sources_of, store_of


def scene(rng, n=120_000, vegetation=0.0, mound=0.0, moved=0.0):
    """Waves of 3 m and some 170 m; vegetation on a share of the points; a flat mound of 1.5 m with a radius."""
    xy = rng.uniform(0, 500, (n, 2))
    z = 3 * np.sin(2 * np.pi * xy[:, 0] / 170) * np.cos(2 * np.pi * xy[:, 1] / 185)
    if mound:
        z += 1.5 * np.clip(1 - (np.hypot(*(xy - [300, 200]).T) / mound) ** 4, 0, 1)
    z += rng.normal(0, 0.02, n)
    high = rng.random(n) < vegetation
    z[high] += rng.gamma(2, 0.4, np.count_nonzero(high))
    return np.column_stack([xy + [moved, 0], z]) + FAR


def aligned(one, other, **asked):
    fixed = store_of(other)
    sources = sources_of(fixed, moving=store_of(one), to=fixed)
    setup = AlignSetup(Scope("moving"), Scope("to"), **asked)
    return run(setup, sources, silent()), setup, sources


def bounds(found):
    return {row[0]: row[2] for row in found.tables["directions"].rows}


class Changed(unittest.TestCase):
    def test_what_changed_does_not_move_the_cloud(self):
        """Nothing, 4 % and 27 % of the site under a mound: the truth is no motion; within what is stated, and the change is told."""
        for radius, told in ((0.0, False), (56.0, True), (150.0, True)):
            rng = np.random.default_rng(3)
            found, _, _ = aligned(scene(rng), scene(rng, mound=radius))
            self.assertEqual(found.verdict, "")
            self.assertEqual("changed" in [note.code for note in found.warnings], told, radius)
            self.assertLess(abs(found.value("shift_z")), 0.002)
            worst = max(value for name, value in bounds(found).items() if name.startswith("slide") and value is not None)
            self.assertLess(np.hypot(found.value("shift_e"), found.value("shift_n")), 2 * worst)
            self.assertLess(worst, 0.03)

    def test_vegetation(self):
        rng = np.random.default_rng(5)
        found, _, _ = aligned(scene(rng, vegetation=0.2), scene(rng, vegetation=0.2, mound=56.0))
        self.assertLess(abs(found.value("shift_z")), bounds(found)["up and down"])
        self.assertLess(abs(found.value("shift_z")), 0.01)

    def test_a_shift_is_found_all_the_same(self):
        rng = np.random.default_rng(6)
        found, _, _ = aligned(scene(rng, moved=0.8), scene(rng, mound=100.0))
        self.assertAlmostEqual(found.value("shift_e"), -0.8, delta=0.03)

    def test_most_of_it_changed(self):
        """45 % under a mound: no figure, and why beside it; nothing can be written or corrected."""
        rng = np.random.default_rng(3)
        found, setup, sources = aligned(scene(rng), scene(rng, mound=190.0))
        self.assertIsNone(found.value("rms"))
        self.assertIn("Not reliable", found.verdict)
        self.assertEqual(corrections(found), ())
        with self.assertRaisesRegex(OutputError, "nothing was written"):
            write(setup, found, sources, {"matrix-out": "/nowhere/m.txt"})

    def test_too_few_match(self):
        """A quarter of the moving cloud lies on the other: not aligned, unless the overlap is stated."""
        rng = np.random.default_rng(7)
        one, other = scene(rng, 60_000), scene(rng, 60_000)
        other = other[other[:, 0] < FAR[0] + 120]
        found, _, _ = aligned(one, other)
        self.assertRegex(found.verdict, r"Not aligned: 2\d % of the points match")
        self.assertIsNone(found.value("rms"))
        stated, _, _ = aligned(one, other, overlap=0.24)
        self.assertIsNotNone(stated.value("rms"))


class Typed(unittest.TestCase):
    def test_mirrored_and_repeated_pairs(self):
        rng = np.random.default_rng(9)
        fixed = rng.uniform(0, 50, (6, 3))

        def text(moving):
            rows = (np.concatenate(pair).tolist() for pair in zip(moving, fixed, strict=True))
            return "\n".join(" ".join(map(repr, row)) for row in rows)

        cloud = store_of(np.column_stack([rng.uniform(0, 50, (500, 2)), np.zeros(500)]))
        sources = sources_of(cloud, moving=cloud, to=cloud)
        asked = lambda pairs: run(AlignSetup(Scope("moving"), Scope("to"), pairs=pairs), sources, silent())  # noqa: E731
        self.assertEqual(asked(text(fixed + [3, 4, 5])).verdict, "")
        self.assertEqual(asked(text(fixed[:, [1, 0, 2]])).verdict, "Pairs look mirrored")
        self.assertEqual(asked(text(fixed * [1, 1, -1])).verdict, "Pairs look mirrored")
        with self.assertRaisesRegex(InputError, "pairs P1 and P2 have the same moving place"):
            asked(text(np.concatenate([fixed[:1], fixed[:1], fixed[2:]])))

    def test_few_points_have_students_factor(self):
        for free in (3, 4, 6, 12, 40, 1000):
            self.assertAlmostEqual(student_95.py_func(float(free)) / scipy.stats.t.ppf(0.975, free), 1.0, delta=0.01)


class Pairs(CommandLine):
    def las(self, name, points):
        header = laspy.LasHeader(point_format=6, version="1.4")
        header.scales, header.offsets = [0.001] * 3, np.floor(points.min(axis=0))
        header.add_crs(pyproj.CRS.from_epsg(25830))
        las = laspy.LasData(header)
        las.x, las.y, las.z = points.T
        las.write(self.folder / name)
        return self.folder / name

    def test_inputs_that_do_not_belong_together(self):
        """Exchanged columns, another unit and another height stop with a word and write nothing; accepted, they are computed."""
        rng = np.random.default_rng(8)
        xy = rng.uniform(0, 60, (20_000, 2))
        cloud = self.las("yard.las", np.column_stack([xy, 0.02 * xy[:, 0]]) + FAR)
        places = rng.uniform(5, 55, (12, 2))
        rows = np.column_stack([places, 0.02 * places[:, 0]]) + FAR
        for name, these, words in (
            ("swapped.csv", rows[:, [1, 0, 2]], "exchanged"), ("feet.csv", rows / 0.3048, "feet|unit"),
            ("high.csv", rows + [0, 0, 40.0], "higher|lower"),
        ):  # fmt: skip
            lines = [f"P{n},{e:.4f},{m:.4f},{z:.4f}" for n, (e, m, z) in enumerate(these)]
            (self.folder / name).write_text("name,easting,northing,elevation\n" + "\n".join(lines) + "\n")
            status, _ = self.kerb("accuracy", cloud, "--points", self.folder / name)
            self.assertEqual(status, 2, name)
            self.assertRegex(self.error, words)
            self.assertIn("--accept-warnings", self.error)
        found = self.json("accuracy", cloud, "--points", self.folder / "high.csv", "--accept-warnings")
        near(found["figures"]["mean"]["value"], -40.0, 0.05)
        self.assertIn("place-height", [note["code"] for note in found["warnings"]])
        # Numbers in feet, and said so: converted, and no alarm.
        found = self.json("accuracy", cloud, "--points", self.folder / "feet.csv", "--unit", "ft")
        near(found["figures"]["n"]["value"], 12)
        self.assertEqual(self.kerb("cutfill", cloud, cloud)[0], 0)


if __name__ == "__main__":
    unittest.main()
