"""Floors against closed forms, the rules of ASTM E1155 (recalled), brute force, and a plain priority flood."""

import heapq
import unittest

import ezdxf
import numpy as np

from kerb.core.errors import InputError, NotDeterminable
from kerb.core.floor import flatness as f
from kerb.core.floor.evenness import DISTANCES, ROWS, limit, straightedge
from kerb.core.floor.slab import Rules, slab_of
from kerb.core.floor.water import draining, water_on
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.things import LINES, POINTS, Placed
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.studies.drawn import Drawn, Item
from kerb.studies.floor.kind import FLOOR, _grid
from kerb.studies.floor.run import run
from kerb.studies.floor.setup import FloorSetup
from kerb.studies.scope import Scope
from tests.support import FAR, CommandLine, near, sources_of, store_of

INCH = 0.0254


def readings(profile, count=200):
    """Readings of a profile in metres every 12 inches."""
    return f.LineReadings("L", profile(np.arange(count) * f.STEP))


def floor(top, size=(12.0, 9.0), density=900.0, noise=0.0, seed=1):
    """Points over a floor, its south-western corner at the origin."""
    rng = np.random.default_rng(seed)
    xy = rng.uniform(0, 1, (int(density * size[0] * size[1]), 2)) * size
    return np.column_stack([xy, top(*xy.T) + rng.normal(0, noise, len(xy))])


def asked(points, unit=METRE, others=None, **values):
    """The outcome of a floor of points in metres, in a unit and far from the origin."""
    store = store_of((points + FAR) / unit.metres, unit, scale=0.00001)
    lengths = ("edge", "tolerance", "spacing", "radius", "straightedge", "step", "band", "foot", "puddle", "reference_level")
    usual = {"spacing": 0.15, "edge": 0.3, "tolerance": 0.005, "straightedge": 2.0, "step": 0.01, "band": 0.02, "puddle": 0.001}
    made = {k: v / unit.metres if k in lengths and v is not None else v for k, v in {**usual, **values}.items()}
    return run(FloorSetup(cloud=Scope("cloud"), **made), sources_of(store, unit, **(others or {})), silent())


class Numbers(unittest.TestCase):
    def test_a_plane_that_falls_an_eighth_in_a_foot_has_fl_10(self):
        """Over ten feet it falls 1.25 in: FL = 12.5 / 1.25. It has no curvature at all."""
        line = readings(lambda s: 10 - s / 96)
        self.assertAlmostEqual(f.levelness([line]).value, 10.0, places=6)
        self.assertEqual(f.flatness([line]).value, f.HIGHEST)
        self.assertEqual(len(line.q), 198)
        self.assertEqual(len(line.z), 190)

    def test_a_sine_floor(self):
        """q of A sin(ks) is -4 sin²(kd/2) A sin(ks): over whole waves s_q = 4 sin²(kd/2) A / √2, its mean nought."""
        amplitude, waves, count = 0.004, 20, 400
        k = 2 * np.pi * waves / (count * f.STEP)
        line = f.LineReadings("L", amplitude * np.sin(k * np.arange(count + 2) * f.STEP))
        spread = 4 * np.sin(k * f.STEP / 2) ** 2 * amplitude / INCH / np.sqrt(2)
        self.assertAlmostEqual(f.flatness([line]).value / (4.57 / (3 * spread)), 1.0, delta=0.01)

    def test_lines_combine_by_the_rule_of_the_standard(self):
        self.assertAlmostEqual(f.combined([(20.0, 100), (20.0, 50)])[0], 20.0)
        self.assertAlmostEqual(f.combined([(20.0, 100), (40.0, 100)])[0], 800 * np.sqrt(200 / (100 * 400 + 100 * 1600)))
        three = [(18.0, 40), (25.0, 60), (31.0, 20)]
        # The rule is a weighted mean of 1/F²: the order does not matter.
        harmonic = np.sqrt(sum(n for _, n in three) / sum(n / x**2 for x, n in three))
        for order in (three, three[::-1]):
            self.assertAlmostEqual(f.combined(order)[0], harmonic)
        self.assertTrue(np.isnan(f.combined([])[0]))

    def test_gaps_in_readings_make_no_differences(self):
        h = np.sin(np.arange(60.0)) * 0.002
        h[30] = np.nan
        line = f.LineReadings("L", h)
        self.assertEqual((len(line.q), len(line.z)), (55, 48))

    def test_rules_of_layout(self):
        self.assertEqual([f.wanted_readings(a * 0.3048**2) for a in (320, 1600, 2000, 10_000)], [36, 80, 100, 500])
        box = np.array([[0.0, 0], [30, 0], [30, 20], [0, 20]])
        for unit in (1.0, 0.3048):
            lines = f.laid_out(box / unit, unit, f.wanted_readings(600))
            inside = np.concatenate([np.stack(line) for line in lines]) * unit
            self.assertGreaterEqual(float(inside.min()), 24 * INCH - 1e-9)
            self.assertTrue(np.all(inside.max(axis=0) <= [30 - 24 * INCH + 1e-9, 20 - 24 * INCH + 1e-9]))
            lengths = [float(np.hypot(*(b - a))) * unit for a, b in lines]
            self.assertGreaterEqual(min(lengths), 11 * 0.3048 - 1e-9)
            self.assertGreaterEqual(sum(int(n / f.STEP) - 1 for n in lengths), f.wanted_readings(600))
            ways = {round(float(np.degrees(np.arctan2(*(b - a)[::-1])) % 180)) for a, b in lines}
            self.assertEqual(ways, {45, 135})
        with self.assertRaisesRegex(InputError, "at least 11 ft"):
            f.stations(np.zeros(2), np.array([10.0, 0.0]), 0.3048)
        self.assertEqual(len(f.stations(np.zeros(2), np.array([11.0, 0.0]), 0.3048)), 12)

    def test_the_lower_bound_holds_by_simulation(self):
        """Floors of one spectrum: the bound lies below the value of a very long line in some 95 of 100."""
        rng = np.random.default_rng(3)
        wave = lambda n: np.convolve(rng.normal(0, 0.001, n + 8), np.ones(9) / 3, "valid")  # noqa: E731
        truth = f.f_of(f.LineReadings("L", wave(200_000)).q, 4.57)
        under = np.zeros(2)
        for _ in range(100):
            lines = [f.LineReadings(f"L{k}", wave(60)) for k in range(5)]
            found = f.flatness(lines)
            under += np.array([found.low, found.low90]) <= truth
            self.assertTrue(found.low < found.low90 < found.value < found.high)
        self.assertGreaterEqual(under[0], 88)
        self.assertTrue(82 <= under[1] <= 97, under)

    def test_noise_lowers_ff_and_is_taken_out(self):
        rng = np.random.default_rng(5)
        s = np.arange(4000) * f.STEP
        clean = 0.004 * np.sin(2 * np.pi * s / 3.0)
        noisy = f.LineReadings("L", clean + rng.normal(0, 0.0006, len(s)))
        truth = f.flatness([f.LineReadings("L", clean)]).value
        self.assertLess(f.flatness([noisy]).value, 0.95 * truth)
        self.assertAlmostEqual(f.without_noise([noisy], 0.0006) / truth, 1.0, delta=0.06)


class Evenness(unittest.TestCase):
    def test_against_brute_force(self):
        rng = np.random.default_rng(2)
        z = np.cumsum(np.cumsum(rng.normal(0, 1e-4, (14, 17)), axis=0), axis=1)
        z[5, 6] = np.nan
        spacing, length = 0.25, 1.3
        ways = [(0, 1), (1, 0), (1, 1), (1, -1), (1, 2), (2, 1), (1, -2), (2, -1)]
        most = np.where(np.isfinite(z), 0.0, np.nan)
        for dr, dc in ways:
            for r in range(z.shape[0]):
                for c in range(z.shape[1]):
                    steps = int(np.floor(length / (np.hypot(dr, dc) * spacing) + 1e-9))
                    for n in range(2, steps + 1):
                        at = [(r + k * dr, c + k * dc) for k in range(n + 1)]
                        if not all(0 <= i < z.shape[0] and 0 <= j < z.shape[1] and np.isfinite(z[i, j]) for i, j in at):
                            break
                        own = np.array([z[i, j] for i, j in at])
                        gap = np.linspace(own[0], own[-1], n + 1) - own
                        if gap.min() >= -1e-15:
                            for (i, j), g in zip(at, gap, strict=True):
                                most[i, j] = max(most[i, j], g)
        near(straightedge(z, spacing, length, silent()).gap, most, 1e-12)

    def test_a_step_and_a_trough(self):
        """Over a trough of z = c x² a straightedge of length L has a gap of c (L / 2)²; over a step it has none until it leans."""
        x = np.arange(0, 6.01, 0.05)
        z = np.tile(0.002 * (x - 3) ** 2, (5, 1))
        self.assertAlmostEqual(straightedge(z, 0.05, 2.0, silent()).largest, 0.002, places=6)
        self.assertAlmostEqual(straightedge(-z, 0.05, 2.0, silent()).largest, 0.0, places=9)
        step = np.tile(np.where(x < 3, 0.0, 0.006), (3, 1))
        # From the upper edge down to a point two metres off: just before the edge the gap is the step less a share of it.
        self.assertAlmostEqual(straightedge(step, 0.05, 2.0, silent()).largest, 0.006 * (1 - 0.05 / 2.0), places=9)

    def test_limits_of_the_table(self):
        self.assertEqual([limit("row-3", d) * 1000 for d in DISTANCES], [2, 4, 10, 12, 15])
        self.assertAlmostEqual(limit("row-4", 2.5) * 1000, 6.0)
        self.assertEqual(ROWS["row-4"][0], 1.0)


class Puddles(unittest.TestCase):
    def test_against_a_plain_priority_flood(self):
        rng = np.random.default_rng(4)
        z = rng.normal(0, 1, (23, 31))
        z[4:7, 5:9] = np.nan
        level = np.full(z.shape, np.inf)
        queue = []
        for r in range(z.shape[0]):
            for c in range(z.shape[1]):
                rim = r in (0, z.shape[0] - 1) or c in (0, z.shape[1] - 1)
                if np.isfinite(z[r, c]) and rim:
                    level[r, c] = z[r, c]
                    heapq.heappush(queue, (z[r, c], r, c))
        while queue:
            at, r, c = heapq.heappop(queue)
            for a in (-1, 0, 1):
                for b in (-1, 0, 1):
                    i, j = r + a, c + b
                    inside = 0 <= i < z.shape[0] and 0 <= j < z.shape[1]
                    if inside and np.isfinite(z[i, j]) and np.isinf(level[i, j]):
                        level[i, j] = max(z[i, j], at)
                        heapq.heappush(queue, (level[i, j], i, j))
        found = water_on(z, (0.0, 0.0), 1.0, 1e-9)
        near(found.depth, np.where(np.isfinite(z), level - z, np.nan), 1e-12)
        self.assertAlmostEqual(
            sum(pond.volume for pond in found.ponds), float(np.nansum(level[np.isfinite(z)] - z[np.isfinite(z)]))
        )

    def test_a_bowl_and_what_drains_where(self):
        """A cone of radius 3 and depth 0.3 holds π r² h / 3; with a gully at its bottom nothing stands."""
        x, y = np.meshgrid(np.arange(0, 20.01, 0.05), np.arange(0, 10.01, 0.05))
        away = np.hypot(x - 6, y - 5)
        z = np.where(away < 3, 0.1 * away - 0.3, -1e-6 * away)
        (pond,) = water_on(z, (100.0, 50.0), 0.05, 0.005).ponds
        self.assertAlmostEqual(pond.volume, np.pi * 9 * 0.3 / 3, delta=0.02)
        self.assertAlmostEqual(pond.depth, 0.3, delta=0.002)
        near(pond.place, [106.0, 55.0], 0.06)
        gully = np.array([[106.0, 55.0], [119.9, 55.0], [100.1, 50.1], [100.1, 59.9], [119.9, 50.1], [119.9, 59.9]])
        dry = water_on(z, (100.0, 50.0), 0.05, 0.005, gully)
        self.assertEqual(dry.ponds, ())
        drained = draining(dry, z, (100.0, 50.0), 0.05, gully)
        self.assertAlmostEqual(drained[0], np.pi * 9, delta=1.5)


class Slabs(unittest.TestCase):
    def test_what_stands_on_it_is_no_part_of_it(self):
        flat = floor(lambda x, y: 0 * x, noise=0.0005)
        rng = np.random.default_rng(8)
        rack = np.column_stack([rng.uniform(4, 6, 3000), rng.uniform(3, 4, 3000), rng.uniform(0.1, 2, 3000)])
        under = (np.abs(flat[:, 0] - 5) < 1) & (np.abs(flat[:, 1] - 3.5) < 0.5)
        wall = np.column_stack([rng.uniform(0, 12, 4000), np.full(4000, 8.99), rng.uniform(0, 3, 4000)])
        low = flat[:, 0] > 10
        flat[low, 2] -= 0.3
        points = np.concatenate([flat[~under], rack, wall, [[2.0, 2.0, -1.0]]])
        slab = slab_of(points, Rules(0.1, 0.08, edge=0.3))
        near(np.abs(slab.levels).max(), 0.0, 0.001, "neither the rack nor the pit nor a stray")
        self.assertTrue(np.all(slab.places[:, 0] < 10 - 0.3 + 0.1))
        off = np.hypot(np.maximum(np.abs(slab.places[:, 0] - 5) - 1, 0), np.maximum(np.abs(slab.places[:, 1] - 3.5) - 0.5, 0))
        self.assertGreater(off.min(), 0.25)
        pit = slab_of(points, Rules(0.1, 0.08), seed=(11.0, 5.0))
        near(pit.levels.mean(), -0.3, 0.001)
        with self.assertRaisesRegex(NotDeterminable, "no points at the place"):
            slab_of(points, Rules(0.1, 0.08), seed=(90.0, 5.0))
        with self.assertRaisesRegex(InputError, "nodes; the most is"):
            slab_of(points, Rules(1e-4, 0.08))


class Study(unittest.TestCase):
    def test_a_hump_in_every_unit(self):
        """A cone of height 20 mm and radius 2 m: beyond 5 mm it is a cone of 15 mm height and 1.5 m radius."""
        top = lambda x, y: np.maximum(0.02 - 0.01 * np.hypot(x - 6, y - 4.5), 0.0)  # noqa: E731
        points = floor(top, noise=0.0002)
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            m = unit.metres
            out = asked(points, unit, reference="level", reference_level=float(FAR[2]), spacing=0.1, radius=0.1)
            get = out.value
            self.assertAlmostEqual(get("high_volume") * m**3, np.pi * 1.5**2 * 0.015 / 3, delta=0.0007)
            self.assertAlmostEqual(get("above_area") * m**2, np.pi * 1.5**2, delta=0.15)
            self.assertAlmostEqual(get("max_high") * m, 0.02, delta=0.0012)
            self.assertAlmostEqual(get("below_area"), 0.0)
            self.assertAlmostEqual(get("area") * m**2, (12 - 0.6) * (9 - 0.6), delta=2.5)
            self.assertEqual(out.figures["max_high"].unit, unit.code)
            (row,) = out.tables["areas"].rows
            self.assertEqual(row[1], "high")
            near(np.array(row[2:4]) * m - FAR[:2], [6, 4.5], 0.15)
            self.assertRegex(out.figures["max_high"].text(), r"0\.0\d\d\d")
            self.assertEqual(out.tables["points"].printed, 0)

    def test_a_tilted_plane(self):
        points = floor(lambda x, y: -x / 96, size=(20.0, 15.0), density=2000)
        out = asked(points, reference="fit")
        self.assertAlmostEqual(out.value("max_high"), 0.0, delta=0.0006)
        lines = LineSet((Line(np.array([[2.0, 5, 0], [18, 5, 0]]) + FAR, False, "across", "l"),))
        out = asked(points, lines="lines", others={"lines": Placed(LINES, lines, local_grid(METRE))}, foot=0.03)
        self.assertAlmostEqual(out.value("fl"), 10.0, delta=0.15)
        self.assertEqual([row[0] for row in out.tables["lines"].rows], ["across"])
        plane = asked(points, reference="plane", falls="1.0416667, 90", reference_level=float(FAR[2]),
                      falls_at=Drawn.of(FAR[None, :2]))  # fmt: skip
        self.assertAlmostEqual(plane.value("std"), 0.0, delta=0.0003)
        tilted = asked(points, tilted=True)
        self.assertIsNone(tilted.value("fl"))
        self.assertIn("not level", tilted.figures["fl"].note)

    def test_bays_left_out_specified_and_evenness(self):
        points = floor(lambda x, y: np.where(x > 6, 0.004 * np.sin(2 * np.pi * y / 1.5), 0.0), noise=0.0001, density=2500)
        bay = lambda name, x: Item(name, name, Drawn.of(np.array([[x, 0], [x + 6, 0], [x + 6, 9], [x, 9]]) + FAR[:2]))  # noqa: E731
        out = asked(points, bays=(bay("west", 0.0), bay("east", 6.0)), din="row-4", ff=60.0)
        west, east = out.tables["bays"].rows
        self.assertGreater(west[6], 0.99)
        self.assertGreater(east[4] - east[5], 0.007)
        self.assertIn("FF 60 overall is not met", " ".join(n.text for n in out.warnings))
        verdicts = {row[0]: row[3] for row in out.tables["evenness"].rows}
        self.assertEqual(verdicts[1.0], "not met", "8 mm in 0.75 m")
        half = asked(points, left_out=(bay("under repair", 6.0),))
        self.assertAlmostEqual(half.value("area") / out.value("area"), 0.5, delta=0.03)
        self.assertEqual(half.value("above_area"), 0.0)

    def test_water_reaches_the_door(self):
        points = floor(lambda x, y: 0.01 * (np.abs(y - 4.5) - 4.5) / 4.5 - 0.001 * x, noise=0.0)
        doors = SurveyPoints(np.array([[11.6, 4.5, 0.0]]) + FAR, ("east door",), ("",))
        out = asked(points, outlets="outlets", others={"outlets": Placed(POINTS, doors, local_grid(METRE))})
        (row,) = out.tables["outlets"].rows
        self.assertGreater(row[1], 0.8 * out.value("area"))
        self.assertIn("reaches east door", " ".join(n.text for n in out.warnings))

    def test_what_cannot_be(self):
        flat = floor(lambda x, y: 0 * x)
        for words, values in (
            ("too few points", {"points": flat[:3]}), ("must be above 0", {"spacing": 0.0}), ("finer than the points", {"spacing": 0.005}),
            ("are no falls", {"reference": "plane", "falls": "steep", "reference_level": 1.0, "falls_at": Drawn.of(FAR[None, :2])}),
            ("place where the plane", {"reference": "plane", "falls": "1,0", "reference_level": 1.0}),
            ("Type the level", {"reference": "level"}), ("must be above 0", {"tolerance": 0.0}),
        ):  # fmt: skip
            points = values.pop("points", flat)
            with self.assertRaisesRegex((InputError, NotDeterminable), words):
                asked(points, **values)
        away = LineSet((Line(np.array([[50.0, 5, 0], [60, 5, 0]]) + FAR, False, "out", "l"),))
        with self.assertRaisesRegex(InputError, "out: no reading of it lies on the floor"):
            asked(flat, lines="lines", others={"lines": Placed(LINES, away, local_grid(METRE))})
        small = asked(floor(lambda x, y: 0 * x, size=(2.5, 2.0)))
        self.assertIsNone(small.value("ff"))
        self.assertIn("no sample line", small.figures["ff"].note)

    def test_cells_without_a_point_are_no_rim(self):
        """Some six points to a cell: one cell in four hundred has none, and nodes need not keep off it."""
        outcome = asked(floor(lambda x, y: 0 * x, density=260.0))
        self.assertAlmostEqual(outcome.value("area") / ((12 - 0.6) * (9 - 0.6)), 1.0, delta=0.06)

    def test_nodes_lie_as_far_apart_as_the_points_need(self):
        for density, wide in ((900.0, 0.15), (4.0, 1.0)):
            outcome = asked(floor(lambda x, y: 0 * x, density=density), spacing=None, edge=0.0, step=0.05)
            self.assertAlmostEqual(outcome.value("spacing"), wide, delta=0.35 * wide)
            self.assertGreater(outcome.value("area"), 80.0)
        feet = asked(floor(lambda x, y: 0 * x), US_SURVEY_FOOT, spacing=None)
        self.assertEqual(feet.value("spacing"), 0.5)


class Verb(CommandLine):
    def test_figures_and_files(self):
        points = floor(lambda x, y: np.maximum(0.012 - 0.01 * np.hypot(x - 6, y - 4.5), 0.0), noise=0.0003)
        cloud = self.folder / "slab.csv"
        np.savetxt(cloud, points + FAR, fmt="%.5f", delimiter=",", header="x,y,z", comments="")
        for name in ("d.tif", "d.csv", "d.dxf", "d.xml"):
            found = self.json("floor", cloud, "--unit", "m", "--out", self.folder / name)
            self.assertGreater((self.folder / name).stat().st_size, 500)
        published = ("ff", "fl", "ff95_low", "fl95_low", "above_area", "below_area", "within_area", "high_volume", "low_volume",
                     "max_high", "max_low", "straightedge")  # fmt: skip
        for name in published:
            self.assertIn(name, found["figures"])
        self.assertEqual([c["name"] for c in found["tables"]["lines"]["columns"]], ["name", "readings", "ff", "fl"])
        self.assertIn("points", found["tables"])
        texts = [t.dxf.text for t in ezdxf.readfile(self.folder / "d.dxf").modelspace().query('TEXT[layer=="deviations"]')]
        self.assertTrue(any(text.startswith("+0.00") for text in texts))
        status, text = self.kerb("floor", cloud, "--unit", "m")
        self.assertEqual(status, 0)
        self.assertRegex(text, r"Highest above +0\.0\d\d\d")
        self.assertEqual(self.kerb("floor", cloud, "--unit", "m", "--spacing", "0")[0], 2)
        self.assertIn("must be above 0", self.error)
        pdf = self.folder / "f.pdf"
        self.assertEqual(self.kerb("floor", cloud, "--unit", "m", "--report", pdf)[0], 0, self.error)
        self.assertLess(pdf.stat().st_size, 3_000_000)

    def test_a_grid_of_deviations_lies_where_the_nodes_are(self):
        vertices = np.array([[10.0, 20, 1], [10.5, 20, 1], [10, 20.5, 1], [10.5, 20.5, 1]])
        grid = _grid(vertices, np.array([1.0, 2, 3, 4]), 0.5)
        near(grid.at(vertices[:, :2]), [1, 2, 3, 4])
        self.assertEqual(FLOOR.setup.main(), "cloud")
