"""Accuracy: figures against NumPy, SciPy and the standards, heights against independent code, odd points found, bias taken out."""

import shutil
import tempfile
from dataclasses import replace
from pathlib import Path

import laspy
import numpy as np
import pyogrio
import scipy

from kerb.core.accuracy.beneath import IDW, MEDIAN, PLANE, TIN, HowBeneath, beneath
from kerb.core.accuracy.beneath_kernels import lowest_of_cells, reference_lowest, reference_plane, robust_plane
from kerb.core.accuracy.differences import biased, combined, normal, outliers, spread_words, summary, tilt
from kerb.core.cloud.view import CloudView
from kerb.core.geometry.features import SurveyPoints
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.things import POINTS, SURFACE, Placed
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.job import holdings, studies
from kerb.job.correcting import corrected
from kerb.job.job import Job
from kerb.studies.accuracy.figures import statements
from kerb.studies.accuracy.kind import corrections
from kerb.studies.accuracy.run import run
from kerb.studies.accuracy.setup import AccuracySetup
from kerb.studies.scope import Scope
from tests.support import FAR, YARD, CommandLine, near, sources_of, store_of


def land(xy):
    """Ground of two slopes."""
    return 5 + 0.03 * xy[:, 0] - 0.02 * xy[:, 1]


class Differences(CommandLine):
    def test_figures_of_the_standards(self):
        """RMSE 10 cm is 19.6 cm at 95 % (FGDC-STD-007.3-1998; ASPRS 2014: NVA of the 10 cm class, recalled)."""
        d = np.array([0.06, -0.12, 0.10, 0.08, -0.13])
        found = summary(d)
        near([found.rms, found.mean, found.std], [np.sqrt((d @ d) / 5), d.mean(), d.std(ddof=1)], 1e-12)
        near(summary(d * 0.10 / found.rms).accuracy95, 0.196, 1e-12)
        near([found.p95, found.median, found.low, found.high], [np.percentile(np.abs(d), 95), 0.06, -0.13, 0.10], 1e-12)
        near(combined(0.03, 0.04), 0.05, 1e-12)
        self.assertEqual(combined(0.03, None), 0.03)
        near([found.mean_low, found.mean_high], scipy.stats.t.interval(0.95, 4, d.mean(), d.std(ddof=1) / 5**0.5), 1e-12)
        self.assertTrue(np.isnan(summary(np.empty(0)).rms) and np.isnan(summary(d[:1]).std))
        said = dict(statements(AccuracySetup(wanted=0.1, point_accuracy=0.02), summary(np.full(25, 0.1)), np.empty(0), METRE))
        self.assertEqual(said["NSSDA (FGDC-STD-007.3-1998)"], "Tested 0.196 meters vertical accuracy at 95% confidence level.")
        self.assertIn("for a 10 cm RMSEz Vertical Accuracy Class", said["ASPRS 2014"])
        self.assertIn("RMSEz = 10.0 cm, equating to +/- 19.6 cm", said["ASPRS 2014"])
        self.assertIn("for a 11 cm RMSEV", said["ASPRS 2023"])
        self.assertIn("RMSEV = 10.2 cm, the accuracy of the points included. Too few points: 25, the standard asks for 30.",
                      said["ASPRS 2023"])  # fmt: skip
        self.assertIn("not met", said["Verdict"])
        feet = dict(statements(AccuracySetup(), summary(np.full(30, 0.5)), np.empty(0), US_SURVEY_FOOT))
        self.assertIn("Tested 0.980 US survey feet", feet["NSSDA (FGDC-STD-007.3-1998)"])
        self.assertIn("for a 16 cm RMSEz", feet["ASPRS 2014"])

    def test_intervals_hold_in_95_of_100(self):
        """By simulation with few points: the mean with a bias, the RMSE without one; tilt and bias cry wolf at 5 %."""
        rng = np.random.default_rng(5)
        runs, hits, wolf = 2000, np.zeros(2), np.zeros(2)
        xy = rng.uniform(0, 100, (8, 2))
        for _ in range(runs):
            d = rng.normal(0, 0.03, 8)
            found, moved = summary(d), summary(d + 0.05)
            hits += [moved.mean_low <= 0.05 <= moved.mean_high, found.rms_low <= 0.03 <= found.rms_high]
            wolf += [biased(d)[1], tilt(xy, d).significant]
        near(hits / runs, [0.95, 0.95], 0.016)
        near(wolf / runs, [0.05, 0.05], 0.016)

    def test_outliers_by_a_published_example(self):
        """NIST/SEMATECH e-Handbook, 1.3.5.17.1 (recalled): 245.57 is an outlier of its seven neighbours."""
        d = np.array([199.31, 199.53, 200.19, 200.82, 201.92, 201.95, 202.18, 245.57])
        self.assertEqual(np.flatnonzero(outliers(d)).tolist(), [7])
        self.assertFalse(outliers(d[:7]).any())
        self.assertEqual(np.flatnonzero(outliers(np.append(d, 100.0))).tolist(), [7, 8], "one after the other")
        self.assertFalse(outliers(np.ones(9)).any())

    def test_tilt_bias_and_shape(self):
        rng = np.random.default_rng(1)
        xy = rng.uniform(0, 200, (30, 2)) + FAR[:2]
        noise = rng.normal(0, 0.01, 30)
        found = tilt(xy, 0.0005 * (xy[:, 0] - FAR[0]) - 0.001 * (xy[:, 1] - FAR[1]) + noise)
        near([found.east, found.north], [0.0005, -0.001], 1e-4)
        self.assertTrue(found.significant)
        self.assertLess(found.rms, 0.012)
        self.assertIsNone(tilt(xy[:4], noise[:4]))
        self.assertIsNone(tilt(np.column_stack([np.arange(9.0)] * 2), noise[:9]), "on one line there is no plane")
        self.assertEqual((biased(noise)[1], biased(noise + 0.02)[1]), (False, True))
        self.assertEqual(biased(noise)[0], scipy.stats.ttest_1samp(noise, 0).pvalue)
        self.assertLess(normal(np.append(noise, [0.4, 0.5, 0.6])), 0.05)
        corner = np.array([[10.0, 10], [20, 15], [80, 20], [90, 90], [70, 80], [15, 80], [12, 70]])
        low, high = np.zeros(2), np.full(2, 100.0)
        self.assertEqual(spread_words(corner[:3], low, high), "none in the north-west, north-east")
        self.assertEqual(spread_words(corner, low, high), "fewer than a fifth in the south-east")
        self.assertEqual(spread_words(corner[[0, 2, 3, 5]], low, high), "")
        near_middle = np.array([[46.0, 46], [54, 46], [46, 54], [50, 50]])
        self.assertEqual(spread_words(near_middle, low, high), "", "quarters meet in the middle, which is north-east")
        for same, said in ((np.zeros(5), False), (np.full(5, 0.02), True)):
            self.assertEqual((biased(same)[1], np.isnan(biased(same)[0])), (said, True))
        self.assertEqual(biased(np.full(2, 0.02))[1], False, "two tell nothing")


class Heights(CommandLine):
    def test_against_independent_code(self):
        """Uneven points with a hole: SciPy's interpolator of the whole cloud, an inverse distance by hand, NaN outside."""
        rng = np.random.default_rng(9)
        xy = rng.uniform(0, 40, (9000, 2)) ** [1.0, 1.0]
        xy = xy[np.hypot(*(xy - 25).T) > 4]
        xy = xy[rng.random(len(xy)) < np.where(xy[:, 0] < 12, 0.2, 1.0)]
        points = np.column_stack([xy, np.sin(xy[:, 0]) + 0.1 * xy[:, 1] + rng.normal(0, 0.02, len(xy))])
        for unit in (METRE, FOOT):
            scaled = points / unit.metres + FAR
            store = store_of(scaled, unit, scale=1e-4)
            kept = store.coordinates(slice(0, store.count)) - FAR
            whole = scipy.interpolate.LinearNDInterpolator(kept[:, :2], kept[:, 2])
            places = rng.uniform(3, 37, (24, 2)) / unit.metres
            for place in places:
                found = beneath(CloudView(store), place + FAR[:2], HowBeneath(5, 1.0 / unit.metres))
                away = np.hypot(*(kept[:, :2] - place).T)
                near_ = np.argsort(away)[:5]
                weight = 1 / away[near_] ** 2
                if np.isfinite(found.heights[TIN]):
                    near(found.heights[TIN] - FAR[2], float(np.ravel(whole(place))[0]), 1e-6)
                else:
                    self.assertLess(np.hypot(*(place * unit.metres - 25)), 4.2, "only the hole has no triangle")
                if np.isnan(found.heights[IDW]):
                    self.assertTrue(found.hole)
                    continue
                near(found.heights[IDW] - FAR[2], weight @ kept[near_, 2] / weight.sum(), 1e-6)
                circle = kept[away <= 1.0 / unit.metres, 2]
                self.assertEqual(found.count, len(circle))
                if len(circle):
                    near(found.heights[MEDIAN] - FAR[2], np.median(circle), 1e-6)
            beyond = beneath(CloudView(store), FAR[:2] + 45 / unit.metres, HowBeneath(5, 1.0 / unit.metres))
            self.assertTrue(beyond.hole and all(np.isnan(v) for v in beyond.heights.values()))

    def test_kernels_as_the_plain_way(self):
        rng = np.random.default_rng(12)
        for strays in (0, 30, 90):
            points = rng.uniform(-2, 2, (220, 3)) * [1, 1, 0.01] + [0.3, -0.2, 5.0]
            points[:, 2] += 0.3 * points[:, 0] - 0.1 * points[:, 1]
            points[:strays, 2] += rng.uniform(0.5, 4, strays)
            out = np.empty(3)
            self.assertTrue(robust_plane(points, out))
            near(out, reference_plane(points), 1e-6)
            rows = lowest_of_cells(points, 1.7, 0.4)
            self.assertEqual(sorted(rows.tolist()), reference_lowest(points, 1.7, 0.4))
        line = np.column_stack([np.arange(5.0), 2 * np.arange(5.0), np.ones(5)])
        self.assertFalse(robust_plane(line, out) or robust_plane(line[:2], out))


def listed(xyz, names=None, codes=None, **extra):
    names = tuple(names or (f"P{n}" for n in range(len(xyz))))
    return Placed(
        POINTS, SurveyPoints(np.asarray(xyz, float), names, tuple(codes or ("",) * len(names)), extra), local_grid(METRE)
    )


class Study(CommandLine):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(4)
        xy = rng.uniform(0, 60, (24_000, 2))
        self.cloud = np.column_stack([xy, land(xy) + 0.03 + rng.normal(0, 0.01, len(xy))]) + FAR
        places = np.array([[x, y] for x in (8, 22, 38, 52) for y in (9, 23, 37, 51)], float)
        self.points = np.column_stack([places, land(places)]) + FAR
        self.sources = None

    def run_it(self, points, cloud=None, unit=METRE, **values):
        store = store_of(self.cloud if cloud is None else cloud, unit)
        self.sources = sources_of(store, unit, points=points)
        return run(AccuracySetup(cloud=Scope("cloud"), points="points", **values), self.sources, silent())

    def rows(self, outcome):
        names = [c.name for c in outcome.tables["points"].columns]
        return {row[0]: dict(zip(names, row, strict=True)) for row in outcome.tables["points"].rows}

    def test_signs_units_and_all_ways(self):
        """The cloud lies 30 mm above the points: in metres and feet, by every way, and in words."""
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            for way in (TIN, IDW, PLANE, MEDIAN) if unit == METRE else (TIN,):
                points = listed(self.points / unit.metres)
                outcome = self.run_it(points, self.cloud / unit.metres, unit, way=way)
                self.assertAlmostEqual(outcome.value("mean") * unit.metres, 0.03, delta=0.006)
                self.assertEqual(outcome.value("n"), 16)
                near(outcome.value("accuracy95"), 1.96 * outcome.value("rms"))
                row = self.rows(outcome)["P3"]
                near(row["dz"], row["cloud_z"] - row["z"])
            note = next(n.text for n in outcome.warnings if n.code == "bias")
            self.assertRegex(note, r"average 0\.\d+.(m|ft|ft \(US\)) above the checkpoints")
            ways = {row[0]: row[5] for row in outcome.tables["ways"].rows}
            self.assertEqual(len(ways), 4)
            near(ways["Triangle" if unit != METRE else "Median"], outcome.value("rms"))
        below = self.run_it(listed(self.points + [0, 0, 0.2]))
        self.assertLess(below.value("mean"), 0)
        self.assertIn("below the points", below.figures["mean"].note)

    def test_several_held_against_the_same_points(self):
        """A strip 50 mm lower, and one that covers half: each with its own figures, in the order of dates."""
        half = self.cloud[self.cloud[:, 0] < FAR[0] + 30]
        store = store_of(self.cloud)
        self.sources = sources_of(
            store, points=listed(self.points),
            **{"others.0": store_of(self.cloud - [0, 0, 0.05]), "others.1": store_of(half)},
        )  # fmt: skip
        for key, date in (("cloud", "2026-05-01"), ("others.0", "2026-03-01"), ("others.1", "2026-07-01")):
            self.sources.items[key] = replace(self.sources.items[key], epoch=date)
        setup = AccuracySetup(Scope("cloud"), points="points", others=(Scope("others.0"), Scope("others.1")))
        outcome = run(setup, self.sources, silent())
        rows = outcome.tables["beside"].rows
        self.assertEqual([(row[1], row[2]) for row in rows], [("2026-03-01", 16), ("2026-05-01", 16), ("2026-07-01", 8)])
        near(rows[0][3], rows[1][3] - 0.05, 1e-4)
        near(rows[1][3], outcome.value("mean"))
        self.assertEqual(outcome.charts[-1].names, ("2026-03-01", "2026-05-01", "2026-07-01"))

    def test_odd_points_are_found_and_good_ones_left_alone(self):
        """Under a lorry, at a wall, in grass, on a slope, outside, a twin, a swapped one, one without an elevation."""
        rng = np.random.default_rng(6)

        def block(east, north, wide, long, high, n=1500):
            at = rng.uniform([east, north], [east + wide, north + long], (n, 2))
            return np.column_stack([at, land(at) + high + rng.normal(0, 0.01, n)])

        box = np.array([[14.0, 14], [17, 20]])
        ground = self.cloud - FAR
        covered = np.all((ground[:, :2] > box[0]) & (ground[:, :2] < box[1]), axis=1)
        grass_at = rng.uniform([29, 29], [34, 34], (2000, 2))
        grass = np.column_stack([grass_at, land(grass_at) + rng.uniform(0, 0.35, 2000)])
        bank_at = rng.uniform([44, 2], [50, 8], (3000, 2))
        bank = np.column_stack([bank_at, land(bank_at) + 0.9 * (bank_at[:, 0] - 44)])
        bare = ~covered & ~np.all((ground[:, :2] > 29) & (ground[:, :2] < 34), axis=1)
        bare &= ~np.all((ground[:, :2] > [44, 2]) & (ground[:, :2] < [50, 8]), axis=1)
        wall = np.column_stack([rng.uniform(40, 40.2, 600), rng.uniform(40, 50, 600), 5 + rng.uniform(0, 3, 600)])
        cloud = np.concatenate([ground[bare], block(14, 14, 3, 6, 2.5), grass, bank, wall]) + FAR
        odd = {
            "lorry": [14.2, 17, 0], "grass": [31.5, 31.5, 0], "slope": [47, 5, 0.9 * 3], "wall": [40.4, 45, 0],
            "outside": [90, 30, 0], "twin": [22.01, 23.01, 0], "swapped": [30, 10, 1.4],
        }  # fmt: skip
        extra = np.array([[e, n, land(np.array([[e, n]]))[0] + up] for e, n, up in odd.values()]) + FAR
        points = np.vstack([self.points, extra, [FAR[0] + 30, FAR[1] + 20, np.nan]])
        names = [f"P{n}" for n in range(16)] + [*odd, "flat"]
        outcome = self.run_it(listed(points, names), cloud, max_slope=30.0)
        rows = self.rows(outcome)
        said = {name: row["reason"] or row["remark"] for name, row in rows.items() if row["reason"] or row["remark"]}
        self.assertEqual(set(said), {*odd, "flat"}, said)
        for name, words in (("lorry", "something"), ("grass", "grass"), ("slope", "slope 9"), ("wall", "something stands"),
                            ("outside", "outside the data"), ("twin", "same place as P5"), ("swapped", "differs from all others"),
                            ("flat", "has no elevation")):  # fmt: skip
            self.assertIn(words, said[name])
        text = next(n.text for n in outcome.warnings if n.code == "look-at")
        self.assertIn("swapped", text)

    def test_a_surface_and_a_grid_as_what_is_tested(self):
        from kerb.core.surface.elevation import ElevationGrid

        z = np.array([[land(np.array([[e, n]]))[0] + 0.05 for e in range(62)] for n in range(62)]) + FAR[2]
        grid = ElevationGrid(z, (1.0, 0.0, FAR[0] - 0.5, 0.0, 1.0, FAR[1] - 0.5))
        self.sources = sources_of(store_of(self.cloud), points=listed(self.points))
        self.sources.items["cloud"] = sources_of(store_of(self.cloud), cloud_=Placed(SURFACE, grid, local_grid(METRE))).items[
            "cloud_"
        ]
        outcome = run(AccuracySetup(cloud=Scope("cloud"), points="points"), self.sources, silent())
        near([outcome.value("mean"), outcome.value("std")], [0.05, 0.0], 1e-9)
        self.assertNotIn("ways", outcome.tables)


class BiasOut(CommandLine):
    def test_from_control_to_proof_in_a_job(self):
        """A moved copy named for what was done; control comes to nought, check points prove, the original stays off."""
        folder = Path(self.enterContext(tempfile.TemporaryDirectory())) / "a.kerb"
        job = Job.create(folder)
        cloud = holdings.import_cloud(job.folder, job.state, holdings.ImportWish(YARD), silent())
        job.execute(holdings.added(job, cloud))
        store = job.store(cloud)
        some = store.coordinates(np.sort(np.random.default_rng(0).choice(store.count, 24, replace=False)))
        some[:, 2] -= 0.05
        text = "name,easting,northing,elevation,role\n" + "".join(
            f"{'K' if n < 6 else 'C'}{n},{e:.4f},{y:.4f},{z:.4f},{'control' if n < 6 else 'check'}\n"
            for n, (e, y, z) in enumerate(some.tolist())
        )
        path = self.folder / "points.csv"
        path.write_text(text)
        from kerb.formats.read_things import Reading, read_offer
        from kerb.formats.recognise import examine
        from kerb.job import vault
        from kerb.job.state import Holding

        seen = examine(path)
        item, _ = read_offer(seen, next(o for o in seen.offers if o.kind == POINTS), Reading(), silent())
        vault.save_thing(job.folder / "data" / "pp", replace(item, reference=store.reference))
        job.execute(studies.put_in("points", Holding("pp", "points", POINTS, data="data/pp", points=24)))
        change, study = studies.made(job.state, "accuracy", "Accuracy", AccuracySetup(Scope(cloud.id), points="pp"))
        job.execute(change)
        before, _ = studies.run_study(job, study, silent())
        near([before.value("mean"), before.value("n")], [0.05, 18], 1e-6)
        wanted = corrections(before)[0]
        self.assertEqual(wanted.words.partition(",")[0][:11], "lowered by ")
        change, after = corrected(job, study, wanted)
        job.execute(change)
        self.assertFalse(job.state.holding(cloud.id).visible)
        twin = next(h for h in job.state.holdings if h.id not in (cloud.id, "pp"))
        self.assertRegex(twin.name, r"lowered by 0\.05")
        self.assertIn("lowered by", twin.steps[-1])
        found, _ = studies.run_study(job, job.state.study(after.id), silent())
        near(found.value("mean"), 0.0, 1e-6)
        job.undo()
        self.assertTrue(job.state.holding(cloud.id).visible)
        self.assertIsNone(job.state.holding(twin.id))
        self.assertFalse(corrections(studies.run_study(job, replace(study, setup=replace(studies.setup_of(study), left_out="; ".join(
            f"K{n} used" for n in range(6)))  .to_json()), silent())[0]))  # fmt: skip

    def test_on_the_command_line(self):
        """Named columns, classes, a report; then ``shift`` by the mean, exact to the last digit, and the proof."""
        header = laspy.LasHeader(point_format=6, version="1.4")
        header.scales, header.offsets = [0.001] * 3, FAR
        rng = np.random.default_rng(1)
        xy = rng.uniform(0, 50, (20_000, 2))
        las = laspy.LasData(header)
        las.x, las.y, las.z = (np.column_stack([xy, land(xy) + 0.123]) + FAR).T
        las.classification[:] = 2
        las.write(self.folder / "f.las")
        places = rng.uniform(5, 45, (25, 2))
        rows = np.column_stack([places, land(places)]) + FAR
        (self.folder / "p.txt").write_text("".join(f"P{n} {n} {e:.3f} {y:.3f} {z:.4f} chk\n" for n, (e, y, z) in enumerate(rows)))
        ask = (
            "accuracy", self.folder / "f.las", "--points", self.folder / "p.txt", "--columns", "name,-,e,n,z,role", "--class",
            2,
        )  # fmt: skip
        found = self.json(
            *ask, "--report", self.folder / "a.pdf", "--out", self.folder / "a.gpkg", "--point-accuracy", 0.02, "--unit", "m"
        )
        self.assertAlmostEqual(found["figures"]["mean"]["value"], 0.123, delta=0.002)
        self.assertEqual((found["figures"]["n"]["value"], found["settings"]["use"]), (25, "check"))
        columns = [c["name"] for c in found["tables"]["points"]["columns"]]
        self.assertEqual(columns[:9], ["name", "role", "e", "n", "z", "cloud_z", "dz", "used", "reason"])
        self.assertTrue((self.folder / "a.pdf").read_bytes().startswith(b"%PDF"))
        about, _, shapes, values = pyogrio.raw.read(self.folder / "a.gpkg", layer="points")
        written = dict(zip(about["fields"], values, strict=True))
        rows_ = {row[0]: row[6] for row in found["tables"]["points"]["rows"]}
        near([rows_[name] for name in written["name"]], written["dz"], 1e-9)
        self.assertEqual(len(shapes), 25)
        moved = self.folder / "m.las"
        said = self.json("shift", self.folder / "f.las", "--dz", -0.123, "--dx", 0.5, "--out", moved)
        self.assertEqual(said["figures"]["count"]["value"], 20_000)
        self.assertIn("0.500\u202fm east", said["method"].replace("\u00a0", "\u202f").replace("0.5\u202f", "0.500\u202f"))
        self.assertIn("down", said["method"])
        before, after = laspy.read(self.folder / "f.las"), laspy.read(moved)
        near(np.asarray(after.z) - np.asarray(before.z), -0.123, 1e-9)
        near(np.asarray(after.x) - np.asarray(before.x), 0.5, 1e-9)
        np.testing.assert_array_equal(after.classification, before.classification)
        self.json("shift", self.folder / "f.las", "--dz", -0.123, "--out", self.folder / "d.las")
        proof = self.json("accuracy", self.folder / "d.las", *ask[2:])
        self.assertAlmostEqual(proof["figures"]["mean"]["value"], 0.0, delta=0.002)
        for words, error in (
            (("shift", moved, "--out", self.folder / "x.las"), "nothing to do"),
            (("shift", moved, "--dz", 1, "--out", moved, "--force"), "is an input"),
            (("shift", moved, "--dz", "nan", "--out", self.folder / "x.las"), "must be numbers"),
            (("accuracy", moved, "--points", self.folder / "none.csv"), "none.csv"),
            ((*ask[:4], "--columns", "name,e,n,z,role,a,b,c"), "has 6 columns, --columns names 8"),
        ):
            status, _ = self.kerb(*words)
            self.assertEqual(status, 2, words)
            self.assertIn(error, self.error)
        shutil.rmtree(self.folder, ignore_errors=True)
