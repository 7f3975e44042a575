"""The place check and placings in every unit: exact shares and distances, thresholds from both sides, twins by hand."""

import itertools
import unittest
from dataclasses import FrozenInstanceError, replace
from types import SimpleNamespace

import numpy as np
import pyproj
import shapely

from kerb.core import place_check
from kerb.core.errors import InputError
from kerb.core.geometry.features import bounds_of
from kerb.core.place_check import FEET_APART, RATIOS, PlaceCheck, Site, check
from kerb.core.placing import (
    AS_IS,
    CONVERT,
    LABEL,
    TRANSFORM,
    Placing,
    Route,
    _accuracy,
    _good_to,
    consistent,
    degrees_of,
    route,
    same_system,
    suggested,
    utm_zone,
)
from kerb.core.reference import UNKNOWN, from_text, is_geographic, local_grid
from kerb.core.units import (
    DENSITY_UNITS,
    FILE_UNITS,
    FOOT,
    LENGTH_UNITS,
    METRE,
    US_SURVEY_FOOT,
    convert,
    length_unit,
    other_unit,
    unit_of_metres,
)
from tests.support import near

UTM, STATE = from_text("EPSG:25830"), from_text("EPSG:2229")
SITE = np.array([380_000.0, 5_560_000.0, 0.0])


def lattice(wide, tall, step, at=SITE):
    xy = np.stack(np.meshgrid(np.arange(0, wide, step), np.arange(0, tall, step)), axis=-1).reshape(-1, 2)
    return np.column_stack([xy, 3 + 0.001 * xy[:, 0]]) + at


def codes(found):
    return [code for code, _ in found.alarms]


class Units(unittest.TestCase):
    def test_every_unit_is_what_proj_says(self):
        """The table of units of PROJ, and of the EPSG registry, by way of pyproj."""
        proj = {unit.code: unit.conv_factor for unit in pyproj.get_units_map(category="linear").values()}
        epsg = {unit.name: unit.conv_factor for unit in pyproj.get_units_map("EPSG", category="linear").values()}
        for code in ("millimetre", "centimetre", "kilometre", "metre", "foot", "US survey foot", "yard"):
            ours = next(
                (u for u in FILE_UNITS.values() if code in (u.name, u.name.removeprefix("international "))), None
            )
            known = epsg.get(code) or epsg.get(f"British {code} (Sears 1922)")
            if code == "yard":
                known = 0.9144  # exactly three international feet
            self.assertIsNotNone(ours, code)
            self.assertAlmostEqual(ours.metres, known, places=13, msg=code)
        self.assertAlmostEqual(FILE_UNITS["in"].metres * 12, FOOT.metres, places=15)
        self.assertAlmostEqual(FILE_UNITS["yd"].metres, 3 * FOOT.metres, places=15)
        self.assertTrue(proj or epsg)

    def test_lengths_areas_and_volumes_go_both_ways(self):
        for one, other in itertools.permutations(FILE_UNITS.values(), 2):
            self.assertAlmostEqual(convert(convert(7.0, one, other), other, one), 7.0, places=9)
        self.assertAlmostEqual(convert(1.0, METRE, FOOT), 3.280839895, places=8)
        self.assertAlmostEqual(convert(1.0, METRE, FOOT, 2), 10.76391, places=4)
        self.assertAlmostEqual(convert(1.0, METRE, FOOT, 3), 35.31467, places=4)
        self.assertAlmostEqual(convert(1.0, FILE_UNITS["km"], METRE), 1000.0)
        self.assertEqual(convert(4.0, METRE, METRE), 4.0)

    def test_tonnes_and_short_tons(self):
        self.assertEqual((DENSITY_UNITS["t/m3"].tonnes_per_m3, DENSITY_UNITS["t/m3"].mass_tonnes), (1.0, 1.0))
        self.assertAlmostEqual(DENSITY_UNITS["ton/yd3"].mass_tonnes, 0.90718474, places=9)
        self.assertAlmostEqual(DENSITY_UNITS["ton/yd3"].tonnes_per_m3, 0.90718474 / 0.9144**3, places=9)

    def test_units_of_no_table(self):
        odd = other_unit(0.5, "half")
        self.assertEqual(length_unit(odd.code), odd)
        self.assertEqual(other_unit(0.9, "x").metres, 0.9)
        for metres in (0.0, -1.0, 1e9, float("nan")):
            with self.assertRaises(ValueError):
                other_unit(metres, "bad")
            with self.assertRaises(InputError):
                length_unit(f"unit:{metres}:bad")
        self.assertIs(unit_of_metres(0.3048 + 4e-10), FOOT)
        self.assertIsNone(unit_of_metres(0.3048 + 1.5e-9))
        self.assertIsNone(unit_of_metres(0.7))
        with self.assertRaises(FrozenInstanceError):
            FOOT.metres = 1.0
        self.assertEqual(
            [unit.plural for unit in LENGTH_UNITS.values()], ["metres", "international feet", "US survey feet"]
        )
        self.assertEqual((FOOT.area_code(), FOOT.volume_code()), ("ft2", "ft3"))


class Shares(unittest.TestCase):
    def test_overlap_and_distance_are_exact(self):
        job = Site(lattice(400, 300, 4), UTM)
        half = Site(lattice(400, 300, 4) + [200, 0, 0], UTM)
        found = check(half, job)
        self.assertAlmostEqual(found.overlap, 0.5, delta=0.03)
        self.assertEqual((found.apart, codes(found)), (0.0, []))
        for shift in ([700, 0, 0], [0, 500, 0], [-500, -400, 0]):
            moved = Site(job.xyz + shift, UTM)
            boxes = [shapely.box(*s.bounds[0][:2], *s.bounds[1][:2]) for s in (job, moved)]
            found = check(moved, job)
            self.assertEqual(found.overlap, 0.0)
            self.assertAlmostEqual(found.apart, boxes[0].distance(boxes[1]), places=6)
            self.assertIn(f"{found.apart:.1f}", found.sentence)

    def test_height_is_the_median_step(self):
        job = Site(lattice(400, 300, 2), UTM)
        for step in (0.6, -0.7, 5.0, -12.25):
            found = check(Site(job.xyz + [0, 0, step], UTM), job)
            self.assertAlmostEqual(found.height, step, places=6)
            self.assertEqual("height" in codes(found), abs(step) > 1.0, step)
            self.assertIn(f"{abs(step):.2f} m {'higher' if step > 0 else 'lower'}", found.sentence)
        words = dict(check(Site(job.xyz - [0, 0, 12.25], UTM), job).alarms)["height"]
        self.assertIn("12.2 m", words)
        self.assertIn("lower", words)
        lost = job.xyz.copy()
        lost[:, 2] = np.nan
        found = check(Site(lost, UTM), job)
        self.assertIsNone(found.height)
        self.assertEqual(found.overlap, 1.0)

    def test_a_third_of_the_points_of_each_cell_may_be_strays(self):
        """Three points a cell of which one stands fifty metres high: the middle one counts, however many the job has."""
        step = 400 / 96 * 1.0001
        base = lattice(390, 290, step)
        three = np.concatenate([base + [0.1, 0.1, 0.0], base + [0.2, 0.1, 0.0], base + [0.1, 0.2, 50.0]])
        for job in (np.concatenate([base, base + [0.3, 0.3, 0]]), base):
            found = check(Site(three, UTM), Site(job, UTM))
            self.assertAlmostEqual(found.height, 0.0, places=3)
            self.assertNotIn("height", codes(found))

    def test_the_least_height_that_alarms_is_a_metre_in_any_unit(self):
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            job = Site(lattice(400, 300, 2) / unit.metres, local_grid(unit))
            for metres, alarmed in ((0.9, False), (1.1, True)):
                found = check(Site(job.xyz + [0, 0, metres / unit.metres], local_grid(unit)), job)
                self.assertEqual("height" in codes(found), alarmed, (unit.code, metres))

    def test_heights_in_another_unit_are_named(self):
        job = Site(lattice(400, 300, 2) + [0, 0, 60], UTM)
        words = dict(check(Site(job.xyz * [1, 1, 1 / 0.3048], UTM), job).alarms)["height"]
        self.assertIn("feet for metres", words)
        words = dict(check(Site(job.xyz * [1, 1, 0.3048], UTM), job).alarms)["height"]
        self.assertIn("metres for feet", words)


class Mistakes(unittest.TestCase):
    def test_every_ratio_is_found_and_worded_by_its_units(self):
        """Each factor is that of the two units its words name."""
        names = {"metres": 1.0, "feet": 0.3048, "millimetres": 0.001, "centimetres": 0.01, "inches": 0.0254}
        job = Site(lattice(400, 300, 4, np.array([6_000.0, 4_000.0, 0.0])), local_grid(METRE))
        for factor, words in RATIOS:
            said = words.partition("could be ")[2].split()
            self.assertAlmostEqual(names[said[-1]] / names[said[0]], factor, delta=factor * 1e-6, msg=words)
            found = check(Site(job.xyz * factor, local_grid(METRE)), job)
            self.assertIn(words, dict(found.alarms)["unit-ratio"])

    def test_near_the_origin_in_any_unit(self):
        for unit in (METRE, FOOT):
            job = Site((lattice(400, 300, 4)) / unit.metres, local_grid(unit))
            for away, code in ((19_000.0, ["local"]), (23_000.0, ["far-away"])):
                new = Site((lattice(400, 300, 4, np.array([away, 100.0, 0.0]))) / unit.metres, local_grid(unit))
                self.assertEqual(codes(check(new, job)), code, (unit.code, away))

    def test_outside_an_area_of_use_because_of_the_unit(self):
        """OSGB: 530 km, 180 km is London; the same numbers in feet lie in the North Sea."""
        grid = from_text("EPSG:27700")
        for factor, word in ((1 / 0.3048, "international feet"), (1.0, "")):
            found = dict(check(Site(np.array([[530_000, 180_000, 0.0]]) * factor, grid), None).alarms)
            self.assertEqual(bool(found), bool(word))
            self.assertIn(word, found.get("unit-ratio", ""))
        metres = Site(np.array([[1_975_000.0, 560_000.0, 0.0]]), STATE)  # Los Angeles, in metres
        self.assertIn("if the numbers are metres", dict(check(metres, None).alarms).get("unit-ratio", ""))

    def test_a_part_of_it_swapped_and_shares_of_boxes(self):
        """Half inside when exchanged is enough, a tenth is not; the local corner rules count by distance."""
        job = Site(lattice(400, 300, 4), UTM)
        few = job.xyz[::9, [1, 0, 2]].copy()
        for share, alarmed in ((1.0, True), (0.6, True), (0.02, False)):
            mixed = few.copy()
            mixed[int(share * len(mixed)) :] += [2e6, 3e6, 0]
            self.assertEqual("swapped" in codes(check(Site(mixed, UTM), job)), alarmed, share)

    def test_degrees_only_where_they_could_lie(self):
        lon, lat = pyproj.Transformer.from_crs(25830, 4326, always_xy=True).transform(*lattice(400, 300, 40)[:, :2].T)
        job = Site(lattice(400, 300, 4), UTM)
        near = Site(np.column_stack([lon, lat, np.zeros(len(lon))]), local_grid(METRE))
        self.assertEqual(codes(check(near, job)), ["degrees"])
        for away in ([90.0, 0, 0], [0, -60.0, 0], [200.0, 0, 0], [0, 95.0, 0]):
            self.assertEqual(codes(check(Site(near.xyz + away, local_grid(METRE)), job)), ["local"], away)
        far = Site(job.xyz, local_grid(METRE))
        self.assertEqual(codes(check(near, far)), ["local"], "a job without a system has no degrees")

    def test_the_limits_of_degrees_are_those_of_the_earth(self):
        """180° of longitude and 90° of latitude are degrees still; a job on the other side of the earth is far from 0, 0."""
        system = from_text("EPSG:32660")
        job = Site(lattice(400, 300, 4, np.array([832_000.0, 100.0, 0.0])), system)
        lon, lat = pyproj.Transformer.from_crs(32660, 4326, always_xy=True).transform(*job.xyz[::50, :2].T)
        edge = np.column_stack([np.minimum(lon, 180.0), lat, np.zeros(len(lon))])
        edge[0, 0] = 180.0
        self.assertEqual(codes(check(Site(edge, local_grid(METRE)), job)), ["degrees"])

    def test_a_place_on_the_edge_of_a_box_is_in_it(self):
        """All points of the exchanged data on the very corner of the job: they lie in it."""
        job = Site(lattice(400, 300, 4, np.array([5_000.0, 9_000.0, 0.0])), local_grid(METRE))
        for corner in (job.bounds[0], job.bounds[1]):
            near_corner = np.tile(corner[[1, 0, 2]], (5, 1))
            self.assertIn("swapped", codes(check(Site(near_corner, local_grid(METRE)), job)))

    def test_neighbours_all_round_count_as_touching(self):
        """Cells beside those of the job count: a strip along each side of it overlaps, one a cell further does not."""
        job = Site(lattice(400, 300, 2), UTM)
        cell = 398 / 96
        for side in ([1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0]):
            side = np.array(side, float)
            edge = np.where(side > 0, [398, 298, 0], 0) * np.abs(side)
            strip = (lattice(398, 2, 2) if side[1] else lattice(2, 298, 2)) * [1, 1, 0] + [0, 0, 3]
            for gap, touched in ((0.5, True), (2.6, False)):
                found = check(Site(strip + edge + side * gap * cell, UTM), job)
                self.assertEqual(found.overlap > 0.5, touched, (side.tolist(), gap))

    def test_spread_heights_alarm_only_beyond_four_spreads(self):
        rng = np.random.default_rng(5)
        job = Site(lattice(400, 300, 2), UTM)
        rough = Site(
            job.xyz + np.column_stack([np.zeros((len(job.xyz), 2)), 3.5 + rng.normal(0, 30, len(job.xyz))]), UTM
        )
        self.assertNotIn("height", codes(check(rough, job)), "no more than the roughness of what lies there")
        calm = Site(job.xyz + [0, 0, 3.5], UTM)
        self.assertIn("height", codes(check(calm, job)))

    def test_far_away_begins_at_twice_the_size_of_the_job(self):
        job = Site(lattice(400, 300, 4), UTM)
        size = float(np.hypot(396, 296))
        for times, alarmed in ((1.8, False), (2.3, True), (2.8, True)):
            away = Site(job.xyz + [396 + times * size, 0, 0], UTM)
            self.assertEqual("far-away" in codes(check(away, job)), alarmed, times)

    def test_a_share_of_it_exchanged_tells(self):
        """A tenth of the cells is enough where the data lie in the job when exchanged; two hundredths are not."""
        job = Site(lattice(400, 300, 4, np.array([5_000.0, 9_000.0, 0.0])), local_grid(METRE))
        rows = lattice(400, 300, 4, np.array([5_000.0, 9_000.0, 0.0]))[:, [1, 0, 2]]
        for share, alarmed in ((0.4, True), (0.2, True), (0.01, False)):
            mixed = rows.copy()
            order = np.random.default_rng(1).permutation(len(rows))[int(share * len(rows)) :]
            mixed[order, 1] += 700_000
            mixed[order, 0] = 900_000 + np.arange(len(order)) * 40.0
            self.assertEqual("swapped" in codes(check(Site(mixed, local_grid(METRE)), job)), alarmed, share)

    def test_names_tell_where_outlines_do_not(self):
        job = lattice(4000, 3000, 500, np.array([6_480_000.0, 1_840_000.0, 300.0]))
        names = tuple(f"P{n}" for n in range(len(job)))
        more = np.concatenate([job, [[6_470_000.0, 1_835_000.0, 300.0]]])
        control = Site(more, STATE, (*names, "far"))
        for count, ratio, found in (
            (2, 1 + FEET_APART, True),
            (2, 1.0, False),
            (1, 1 + FEET_APART, False),
            (5, 1 - FEET_APART, True),
        ):
            shot = Site(job[:count] * ratio, STATE, names[:count])
            self.assertEqual("feet" in codes(check(shot, control)), found, (count, ratio))
        bent = job[:6] * (1 + FEET_APART)
        bent[3] += 9.0
        self.assertNotIn("feet", codes(check(Site(bent, STATE, names[:6]), control)), "one of them does not agree")
        bare = Site(job[:6] * (1 + FEET_APART), STATE)
        self.assertNotIn("feet", codes(check(bare, control)), "without names nothing tells")

    def test_a_system_without_a_code_has_no_neighbouring_zone(self):
        job = Site(lattice(400, 300, 4), UTM)
        east, north = pyproj.Transformer.from_crs(25830, 25831, always_xy=True).transform(*job.xyz[:, :2].T)
        moved = np.column_stack([east, north, job.xyz[:, 2]])
        for system in (replace(UTM, code=""), replace(UTM, name="My grid")):
            self.assertNotIn("zone", codes(check(Site(moved, system), job)))

    def test_zones_two_away(self):
        job = Site(lattice(400, 300, 4), UTM)
        for step in (-1, 1, 2):
            other = pyproj.Transformer.from_crs(25830, 25830 + step, always_xy=True)
            east, north = other.transform(*job.xyz[:, :2].T)
            found = check(Site(np.column_stack([east, north, job.xyz[:, 2]]), UTM), job)
            self.assertIn(f"zone {30 + step}N", dict(found.alarms)["zone"])

    def test_two_feet_only_where_points_agree(self):
        job = lattice(4000, 3000, 500, np.array([6_480_000.0, 1_840_000.0, 300.0]))
        names = tuple(f"P{n}" for n in range(len(job)))
        control = Site(job, STATE, names)
        for ratio, found in ((1 + FEET_APART, True), (1 - FEET_APART, True), (1.0, False), (1 + 3 * FEET_APART, False)):
            self.assertEqual("feet" in codes(check(Site(job * ratio, STATE, names), control)), found, ratio)
        bent = job * (1 + FEET_APART)
        bent += np.random.default_rng(0).normal(0, 40, bent.shape)
        self.assertNotIn("feet", codes(check(Site(bent, STATE, names), control)), "the points do not agree")
        one = Site(job[:1] * (1 + FEET_APART), STATE, names[:1])
        self.assertNotIn("feet", codes(check(one, control)), "one point says nothing")
        mixed = Site(job[::-1] * (1 + FEET_APART), STATE, names[::-1])
        self.assertIn("feet", codes(check(mixed, control)), "points go by their names, not their order")


class Placings(unittest.TestCase):
    def test_factors_in_every_pair_of_units(self):
        point = np.array([[12.0, -7.0, 3.0]])
        for one, other in itertools.product((METRE, FOOT, US_SURVEY_FOOT), repeat=2):
            placing = Placing(CONVERT, local_grid(one), local_grid(other))
            ratio = one.metres / other.metres
            self.assertEqual(placing.factors, (ratio, ratio))
            near(placing.mapper()(point), point * ratio)
            self.assertEqual((placing.result.unit, placing.result.vertical_unit), (other, other))
            swapped = replace(placing, swap=True)
            near(swapped.mapper()(point), (point * ratio)[:, [1, 0, 2]])
        for how in (AS_IS, LABEL):
            placing = Placing(how, local_grid(FOOT), local_grid(METRE))
            self.assertEqual(placing.factors, (1.0, 1.0))
            self.assertTrue(placing.exact)
            np.testing.assert_array_equal(placing.mapper()(point), point)
        self.assertFalse(Placing(TRANSFORM, UTM, STATE).exact)

    def test_plan_and_heights_apart(self):
        mixed = replace(local_grid(FOOT), vertical_unit=METRE)
        placing = Placing(CONVERT, mixed, local_grid(US_SURVEY_FOOT))
        near(placing.factors, (FOOT.metres / US_SURVEY_FOOT.metres, 1 / US_SURVEY_FOOT.metres))
        self.assertIn("plan from international feet", placing.sentence)
        self.assertIn("heights from metres", placing.sentence)
        only = replace(placing, vertical=False)
        self.assertEqual(only.factors[1], 1.0)
        self.assertEqual((only.result.unit, only.result.vertical_unit), (US_SURVEY_FOOT, METRE))
        self.assertIn("without effect", Placing(CONVERT, local_grid(FOOT), local_grid(FOOT)).sentence)

    def test_the_target_in_another_unit_than_its_system(self):
        """A system that counts in metres, in a job that counts in feet: PROJ's result over the foot."""
        job = replace(from_text("EPSG:32630"), unit=FOOT, vertical_unit=FOOT)
        place = np.array([[-4.7, 50.1, 10.0], [-4.6, 50.2, np.nan]])
        found = Placing(TRANSFORM, from_text("EPSG:4326"), job).mapper()(place)
        east, north = pyproj.Transformer.from_crs(4326, 32630, always_xy=True).transform(*place[:, :2].T)
        near(found[:, 0], np.array(east) / 0.3048)
        near(found[:, 1], np.array(north) / 0.3048)
        self.assertTrue(np.isnan(found[1, 2]))

    def test_converted_labels(self):
        same = replace(STATE, unit=METRE, vertical_unit=METRE)
        result = Placing(CONVERT, same, STATE).result
        self.assertEqual(
            (result.code, result.unit), ("EPSG:2229", US_SURVEY_FOOT), "back in the unit of its definition"
        )
        result = Placing(CONVERT, STATE, replace(STATE, unit=METRE, vertical_unit=METRE)).result
        self.assertEqual((result.code, result.wkt, result.unit), ("", "", METRE))
        heights = Placing(CONVERT, replace(STATE, vertical_unit=METRE), STATE, horizontal=False).result
        self.assertEqual((heights.code, heights.vertical_unit), ("EPSG:2229", US_SURVEY_FOOT))

    def test_zones_of_the_earth(self):
        """UTM: zones of 6°, the first from 180° W; 326 north and 327 south (EPSG registry)."""
        for lon, lat, code in (
            (-179.0, 10.0, 32601),
            (-4.7, 50.1, 32630),
            (0.1, 51.0, 32631),
            (18.4, -33.9, 32734),
            (179.9, 1.0, 32660),
        ):
            self.assertEqual(utm_zone(lon, lat).code, f"EPSG:{code}")

    def test_what_is_suggested_by_unit_and_system(self):
        for source, job, unit, how in (
            (UTM, UTM, FOOT, CONVERT), (replace(UTM, unit=FOOT, vertical_unit=FOOT), UTM, METRE, CONVERT),
            (from_text("EPSG:32630"), UTM, METRE, TRANSFORM), (local_grid(METRE), UTM, METRE, LABEL),
            (UTM, local_grid(METRE), METRE, AS_IS), (local_grid(METRE), local_grid(METRE), METRE, AS_IS),
        ):  # fmt: skip
            found = suggested(source, job, unit).how
            self.assertIn(found, (how, LABEL) if how == AS_IS else (how,), (source.sentence, job.sentence, unit.code))
        self.assertTrue(same_system(UTM, from_text("EPSG:25830")))
        self.assertFalse(same_system(UTM, STATE))
        self.assertFalse(same_system(UNKNOWN, UTM))
        self.assertTrue(is_geographic(from_text("EPSG:4326")))

    def test_every_branch_of_what_is_suggested(self):
        feet_up = replace(UTM, vertical_unit=FOOT)
        self.assertEqual(suggested(feet_up, UTM, METRE).how, CONVERT, "heights alone")
        self.assertEqual(suggested(replace(UTM, unit=FOOT), UTM, METRE).how, CONVERT, "plan alone")
        self.assertEqual(suggested(UTM, None, METRE), Placing(AS_IS, UTM))
        even = suggested(feet_up, None, METRE)
        self.assertEqual((even.how, even.target.vertical_unit, even.target.unit), (CONVERT, METRE, METRE))
        degrees = from_text("EPSG:4326")
        self.assertEqual(suggested(degrees, None, METRE).how, AS_IS)
        self.assertEqual(suggested(degrees, None, METRE, (-4.1, 50.2)).target.code, "EPSG:32630")
        self.assertEqual(suggested(degrees, None, METRE, (np.nan, 50.2)).how, AS_IS)
        self.assertEqual(suggested(UTM, None, METRE, (380_000.0, 5_560_000.0)).how, AS_IS)
        moved = suggested(STATE, UTM, METRE, (6_500_000.0, 1_900_000.0))
        self.assertEqual((moved.how, moved.target.unit), (TRANSFORM, METRE))
        near(
            moved.at,
            pyproj.Transformer.from_crs(2229, 4326, always_xy=True).transform(6_500_000.0, 1_900_000.0),
            atol=1e-9,
        )
        self.assertIsNone(suggested(STATE, UTM, METRE).at)
        said = replace(local_grid(METRE), certainty="stated")
        self.assertEqual(suggested(said, UTM, METRE).how, LABEL, "a file that only says its unit")
        self.assertEqual(suggested(replace(said, unit=FOOT), UTM, METRE).how, CONVERT)
        self.assertEqual(suggested(replace(said, vertical_unit=FOOT), UTM, METRE).how, CONVERT)
        self.assertEqual(suggested(said, local_grid(METRE), METRE).how, AS_IS, "nothing to label it with")
        for one, other, same in (
            (UTM, local_grid(METRE), False), (local_grid(METRE), UTM, False), (local_grid(METRE), local_grid(METRE), False),
            (UTM, replace(UTM, code=""), True), (UTM, from_text("EPSG:25830+5773"), True),
            (replace(UTM, code=""), replace(STATE, code=""), False),
        ):  # fmt: skip
            self.assertEqual(same_system(one, other), same, (one.code, other.code))
        for longitude, code in ((-180.0, 32601), (180.0, 32660), (-174.0, 32602), (5.999, 32631), (6.0, 32632)):
            self.assertEqual(utm_zone(longitude, 0.0).code, f"EPSG:{code}")
        self.assertEqual(utm_zone(3.0, -1e-9).code, "EPSG:32731")

    def test_words_of_conversions(self):
        mixed = replace(UTM, vertical_unit=FOOT)
        feet = replace(UTM, unit=FOOT, vertical_unit=FOOT)
        for placing, words in (
            (Placing(CONVERT, UTM, feet), "from metres to international feet"),
            (Placing(CONVERT, UTM, feet, vertical=False), "plan from metres to international feet"),
            (Placing(CONVERT, UTM, feet, horizontal=False), "heights from metres to international feet"),
            (Placing(CONVERT, mixed, UTM), "heights from international feet to metres"),
            (Placing(CONVERT, mixed, replace(UTM, unit=US_SURVEY_FOOT)),
             "plan from metres to US survey feet, heights from international feet to metres"),
            (Placing(CONVERT, UTM, UTM), "without effect"), (Placing(CONVERT, UTM, feet, False, False), "without effect"),
        ):  # fmt: skip
            self.assertEqual(placing.sentence, f"converted {words} about the origin")
        self.assertTrue(Placing(CONVERT, UTM, feet, swap=True).sentence.startswith("easting and northing exchanged; "))
        plain = Placing()
        self.assertEqual(
            (plain.how, plain.horizontal, plain.vertical, plain.swap, plain.at), (AS_IS, True, True, False, None)
        )
        self.assertEqual(plain.factors, (1.0, 1.0))
        near(replace(plain, swap=True).mapper()(np.array([[1.0, 2, 3]])), [[2, 1, 3]])
        near(Placing(CONVERT, UTM, feet, vertical=False).mapper()(np.array([[0.3048, 0.6096, 3]])), [[1, 2, 3]])
        kept = Placing(CONVERT, UTM, feet, True, False, True).to_json()
        self.assertEqual((kept["horizontal"], kept["vertical"], kept["swap"]), (True, False, True))
        self.assertTrue(plain.exact and not Placing(TRANSFORM, UTM, STATE).exact)
        for metres, words in ((0, "exact"), (2.5, "good to 2.5 m"), (0.01, "good to 0.01 m"), (0.003, "good to 3 mm")):
            self.assertEqual(_good_to(metres), words)

    def test_words_of_a_way(self):
        way = Route((), "a shift", 1.5, (), False)
        self.assertEqual(way.sentence, "a shift, good to 1.5 m")
        self.assertIn("without a datum shift", replace(way, accuracy=None).sentence)
        self.assertTrue(replace(way, heights_kept=True).sentence.endswith("; heights stay as they are"))
        self.assertIn("needs the grid file a, b, which is not", replace(way, missing=("a", "b")).sentence)

    def test_heights_of_a_transformation(self):
        """Heights of systems without any stay, in the unit of the target; unknown ones stay unknown, also when all are."""
        feet = replace(from_text("EPSG:32630"), vertical_unit=FOOT)
        change = Placing(TRANSFORM, feet, UTM).mapper()
        out = change(np.array([[380_000.0, 5_560_000, 100.0], [380_000.0, 5_560_000, np.nan]]))
        near(out[0], [380_000, 5_560_000, 30.48], atol=1e-3)
        near(out[1], [380_000, 5_560_000, np.nan], atol=1e-3)
        self.assertTrue(route(feet, UTM).heights_kept)
        scaled = replace(UTM, unit=FOOT, vertical_unit=FOOT)
        near(Placing(TRANSFORM, from_text("EPSG:32630"), scaled).mapper()(out[:1]) * 0.3048, out[:1], atol=1e-3)
        near(Placing(TRANSFORM, scaled, from_text("EPSG:32630")).mapper()(out[:1] / 0.3048), out[:1], atol=1e-3)
        beyond = change(np.array([[1e12, 1e12, 1.0]]))
        self.assertTrue(np.isnan(beyond[0, :2]).all())
        for one, other, words in (
            (local_grid(METRE), UTM, "name no reference system"),
            (UTM, local_grid(METRE), "local grid"),
        ):
            with self.assertRaisesRegex(InputError, words):
                route(one, other)

    def test_what_a_converted_file_is_in(self):
        feet = replace(UTM, unit=FOOT, vertical_unit=FOOT)
        local_feet, local = local_grid(FOOT), local_grid(METRE)
        metres_of_state = from_text("EPSG:26945")
        for source, target, plan, heights, code, unit, vertical in (
            (UTM, feet, True, True, "", FOOT, FOOT),
            (UTM, feet, False, True, "EPSG:25830", METRE, FOOT),
            (replace(UTM, vertical_unit=FOOT), UTM, True, True, "EPSG:25830", METRE, METRE),
            (local_feet, UTM, True, True, "EPSG:25830", METRE, METRE),
            (local_feet, UTM, True, False, "EPSG:25830", METRE, FOOT),
            (local_feet, UTM, False, True, "", FOOT, METRE),
            (local_feet, local, True, True, "", METRE, METRE),
            (feet, UTM, True, True, "EPSG:25830", METRE, METRE),
            (feet, metres_of_state, True, True, "", METRE, METRE),
            (feet, local, True, True, "", METRE, METRE),
            (from_text("EPSG:4326"), feet, True, True, "EPSG:4326", from_text("EPSG:4326").unit, FOOT),
        ):
            found = Placing(CONVERT, source, target, plan, heights).result
            self.assertEqual(
                (found.code, found.unit, found.vertical_unit),
                (code, unit, vertical),
                (source.sentence, target.sentence),
            )
        self.assertEqual(Placing(LABEL, local, UTM).result.code, "EPSG:25830")
        self.assertEqual(Placing(AS_IS, local_feet, UTM).result, local_feet)
        for place in ((np.inf, 0.0), (0.0, np.nan), None):
            self.assertIsNone(degrees_of(UTM, place))
        self.assertIsNone(degrees_of(local, (1.0, 2.0)))
        self.assertIsNone(degrees_of(UTM, (1e12, 5e6)))
        near(degrees_of(UTM, (500_000.0, 0.0)), (-3.0, 0.0), atol=1e-9)

    def test_heights_of_files_that_count_otherwise_than_their_system(self):
        source, target = replace(from_text("EPSG:25830+5773"), vertical_unit=FOOT), from_text("EPSG:32630+5773")
        place = np.array([[380_000.0, 5_560_000, 100.0]])
        self.assertFalse(route(source, target).heights_kept)
        near(Placing(TRANSFORM, source, target).mapper()(place), [[380_000, 5_560_000, 30.48]], atol=1e-3)
        back = Placing(TRANSFORM, target, replace(source, vertical_unit=US_SURVEY_FOOT)).mapper()(place)
        near(back, [[380_000, 5_560_000, 100 / US_SURVEY_FOOT.metres]], atol=1e-3)

    def test_the_way_depends_on_the_place(self):
        """Of NAD27 there are many ways to WGS 84, each for an area (EPSG registry, by way of PROJ)."""
        old, new = from_text("EPSG:4267"), from_text("EPSG:4326")
        south, north = route(old, new, (-100.0, 40.0)), route(old, new, (-135.0, 63.0))
        self.assertNotEqual(south.description, north.description)
        self.assertEqual(route(old, new, at=(-135.0, 63.0)).description, north.description)
        self.assertEqual(Placing(TRANSFORM, old, new, at=(-100.0, 40.0)).route().description, south.description)
        self.assertEqual(
            Placing(TRANSFORM, old, new, at=(-100.0, 40.0)).route((-135.0, 63.0)).description, north.description
        )
        for value, words, wanted in (
            (None, "", None),
            (-1.0, "x", None),
            (2.0, "Ballpark geographic offset", None),
            (2.0, "x", 2.0),
            (0.0, None, 0.0),
        ):
            self.assertEqual(_accuracy(SimpleNamespace(accuracy=value, description=words)), wanted)

    def test_definitions_say_the_unit_that_heights_are_in(self):
        self.assertEqual(consistent(UTM), UTM)
        for unit, axes in ((FOOT, 3), (US_SURVEY_FOOT, 3)):
            said = consistent(replace(UTM, vertical_unit=unit))
            crs = pyproj.CRS.from_wkt(said.wkt)
            self.assertEqual((len(crs.axis_info), said.code), (axes, "EPSG:25830"))
            self.assertAlmostEqual(crs.axis_info[2].unit_conversion_factor, unit.metres, places=12)
            back = consistent(replace(said, vertical_unit=METRE))
            self.assertEqual(len(pyproj.CRS.from_wkt(back.wkt).axis_info), 3, "of a vertical system the datum stays")
        whole = consistent(replace(from_text("EPSG:25830+5773"), vertical_unit=FOOT))
        crs = pyproj.CRS.from_wkt(whole.wkt)
        self.assertAlmostEqual(crs.axis_info[2].unit_conversion_factor, 0.3048)
        self.assertIn("EGM96", crs.sub_crs_list[1].datum.name)
        self.assertEqual(whole.vertical_name, f"{crs.sub_crs_list[1].name}")
        tall = pyproj.CRS.from_epsg(2229).to_3d().to_wkt()
        self.assertEqual(
            len(pyproj.CRS.from_wkt(consistent(replace(STATE, wkt=tall)).wkt).axis_info),
            2,
            "the unit of the plan needs no saying",
        )
        yards = consistent(replace(from_text("EPSG:25830+5773"), vertical_unit=FILE_UNITS["yd"]))
        self.assertEqual(len(pyproj.CRS.from_wkt(yards.wkt).axis_info), 2, "what no definition can say is left out")
        self.assertEqual(consistent(from_text("EPSG:4978")), from_text("EPSG:4978"))
        self.assertEqual(consistent(UNKNOWN), UNKNOWN)


class Pieces(unittest.TestCase):
    """The sums that the check is made of, by hand."""

    def test_strays_at_either_end_do_not_count_in_the_outline(self):
        """Of two thousand points four at each end may be strays; what is a quarter of the rest away is."""
        xyz = lattice(100, 50, 1.58)[:2000]
        body = bounds_of(xyz)
        for axis in range(3):
            for sign in (-1, 1):
                with self.subTest(axis=axis, sign=sign):
                    size = (body[1] - body[0])[axis]
                    far, near_by = xyz.copy(), xyz.copy()
                    end = body[0 if sign < 0 else 1][axis]
                    far[[100, 900, 1500, 1600], axis] = end + sign * 5 * size
                    near_by[100, axis] = end + sign * 0.2 * size
                    found = Site(far, UTM).bounds
                    near(found[0], body[0], atol=0.02 * 100)
                    near(found[1], body[1], atol=0.02 * 100)
                    found = Site(near_by, UTM).bounds
                    self.assertAlmostEqual(found[0 if sign < 0 else 1][axis], end + sign * 0.2 * size, places=6)
                    many = xyz.copy()
                    many[::200, axis] = end + sign * 5 * size  # ten are no strays
                    self.assertAlmostEqual(
                        Site(many, UTM).bounds[0 if sign < 0 else 1][axis], end + sign * 5 * size, places=6
                    )
        few = xyz[:499].copy()
        few[7, 0] += 9000
        self.assertEqual(Site(few, UTM).bounds[1][0], few[7, 0], "of fewer than five hundred all count")
        unknown = xyz.copy()
        unknown[:, 2] = np.nan
        unknown[:3, 2] = [4.0, 7, 9]
        near(Site(unknown, UTM).bounds[0], [*body[0][:2], 4.0])
        near(Site(unknown, UTM).bounds[1], [*body[1][:2], 9.0])

    def test_numbers_without_a_system_in_an_empty_job(self):
        """UTM and zones before the easting (EPSG 4647, Germany, recalled), in metres and feet; a site's own grid says nothing."""
        large = "UTM zone or another large grid"
        for east, north, words in (
            (500_000, 5_800_000, large), (100_001, 100_001, large), (100_000, 5_800_000, ""), (500_000, 99_999, ""),
            (999_999, 5_800_000, large), (500_000, 1e7, ""), (32_500_000, 5_800_000, "number of the zone (32)"),
            (60_500_000, 1, "number of the zone (60)"), (61_500_000, 5_800_000, ""), (32_100_000, 5_800_000, ""),
            (32_900_000, 5_800_000, ""), (-500_000, 5_800_000, ""), (120, 80, ""),
        ):  # fmt: skip
            for unit in (METRE, FOOT):
                xyz = np.array([[east, north, 5.0]]) / unit.metres
                said = check(Site(xyz, local_grid(unit)), None)
                self.assertEqual(words in said.guess and bool(words), bool(said.guess), (east, north, unit.code))
                self.assertTrue(said.sentence.endswith(said.guess))
        known = Site(np.array([[500_000.0, 5_800_000, 5]]), UTM)
        self.assertEqual(check(known, None).guess, "")
        self.assertEqual(check(Site(np.empty((0, 3)), local_grid(METRE)), None).guess, "")

    def test_limits_belong_to_what_lies_within(self):
        """A thousand numbers, the third of each end at 0 and 100: a quarter beyond is still no stray, a hair more is."""
        for axis in range(3):
            for sign, limit in ((1, 125.0), (-1, -25.0)):
                for value, kept in ((limit, True), (limit + sign * 1e-6, False)):
                    xyz = np.tile(np.linspace(0, 100, 1000)[:, None], (1, 3))
                    xyz[[0, 1, 2], axis], xyz[[-1, -2, -3], axis] = 0.0, 100.0
                    xyz[500, axis] = value
                    found = Site(xyz, UTM).bounds[0 if sign < 0 else 1][axis]
                    self.assertEqual(found == value, kept, (axis, value))
        off = np.array([500_000.0, 5_000_000.0, 0.0])
        home = Site(np.array([[0.0, 0, 5], [30, 40, 5]]) + off, local_grid(METRE))
        for east, far in ((130.0, False), (130.001, True)):
            found = check(Site(np.array([[east, 0.0, 5], [east + 9, 40.0, 5]]) + off, local_grid(METRE)), home)
            self.assertEqual("far-away" in codes(found), far, "twice the diagonal of fifty")
        new = Site(np.array([[0.0, 0, 6], [30, 40, 6]]) + off, local_grid(METRE))
        self.assertNotIn("height", codes(check(new, home)), "a metre is no alarm")
        self.assertIn("height", codes(check(Site(new.xyz + [0, 0, 0.001], new.reference), home)))
        level = lambda z: Site(np.column_stack([lattice(9, 9, 3)[:, :2], np.full(9, z)]), UTM)  # noqa: E731
        self.assertIn("metres for feet", place_check._height_words(3.5 * 0.3048 - 3.5, level(3.5 * 0.3048), level(3.5)))
        self.assertIn("datum", place_check._height_words(3.0 * 0.3048 - 3.0, level(3.0 * 0.3048), level(3.0)))

    def test_sentences(self):
        self.assertEqual(PlaceCheck().sentence, "The job has nothing yet to compare with.")
        self.assertEqual(PlaceCheck(0.874, 0.0, None, [], "m").sentence, "87 % of it lies over the other data.")
        self.assertEqual(
            PlaceCheck(0.5, 0.0, 0.126, [], "m").sentence, "50 % of it lies over the other data, 0.13 m higher."
        )
        self.assertIn(", at the same height.", PlaceCheck(0.5, 0.0, -0.004, [], "m").sentence)
        self.assertIn(", 0.01 m lower.", PlaceCheck(0.5, 0.0, -0.0051, [], "m").sentence)
        self.assertEqual(
            PlaceCheck(0.0, 12_345.67, None, [], "m").sentence,
            "It does not touch the other data: 12\u2009345.7 m apart in plan.",
        )

    def test_heights_are_compared_cell_by_cell(self):
        """Cells of one: medians 10 and 20 above 4 and 8, one cell alone; steps 6 and 12, median 9, spread 3."""
        new = np.array([[0.5, 0.5, 9], [0.6, 0.5, 10], [0.5, 0.6, 11], [1.5, 0.5, 20], [7, 7, 99], [2.5, 0.5, np.nan]])
        job = np.array([[0.1, 0.1, 4], [1.1, 0.1, 8], [5, 5, 50], [2.5, 0.5, 1.0]])
        self.assertEqual(place_check._height_over(new, job, 1.0), (9.0, 3.0))
        self.assertEqual(place_check._height_over(new, job + [40, 0, 0], 1.0), (None, None))
        keys, middle = place_check._medians(np.array([5, 3, 5, 5, 3]), np.array([9.0, 2, 1, 4, 8]))
        self.assertEqual((keys.tolist(), middle.tolist()), ([3, 5], [8.0, 4.0]))

    def test_overlap_takes_the_neighbouring_cell_too(self):
        job = np.array([[10.5, 10.5, 0]])
        for dx, dy in itertools.product((-2, -1, 0, 1, 2), repeat=2):
            new = job + [dx, dy, 0]
            self.assertEqual(place_check._overlap(new, job, 1.0), float(max(abs(dx), abs(dy)) < 2), (dx, dy))
        several = np.array([[10.5, 10.5, 0], [10.6, 10.6, 0], [30, 30, 0], [40, 40, 0], [np.nan, 1, 1]])
        self.assertAlmostEqual(place_check._overlap(several, job, 1.0), 1 / 3)
        self.assertEqual(place_check._overlap(several[4:], job, 1.0), 0.0)

    def test_boxes(self):
        box = np.array([0.0, 0, 0]), np.array([10.0, 4, 1])
        near(place_check._grown(box, 0.25), [[-2.5, -1, -0.25], [12.5, 5, 1.25]])
        near(place_check._grown((box[0], np.array([0.2, 4, 0])), 0.5)[0], [-0.5, -2, -0.5])
        places = np.array([[0.0, 0, 99], [10, 4, 0], [10.1, 2, 0], [5, -0.1, 0], [np.nan, 1, 1]])
        self.assertAlmostEqual(place_check._inside(places, box), 2 / 5)
        other = np.array([13.0, 8, 0]), np.array([20.0, 9, 0])
        self.assertEqual((place_check._apart(box, other), place_check._apart(other, box)), (5.0, 5.0))
        self.assertEqual(place_check._apart(box, (np.array([5.0, 3, 0]), np.array([6.0, 9, 0]))), 0.0)
        self.assertEqual(place_check._apart(box, (np.array([5.0, 6, 0]), np.array([6.0, 9, 0]))), 2.0)
        self.assertEqual(place_check._cell(Site(lattice(97, 49, 1), UTM)), 1.0)
        self.assertEqual(place_check._cell(Site(np.zeros((3, 3)), UTM)), 1e-6)
        self.assertAlmostEqual(place_check._distance(Site(np.array([[3.0, 4, 9]] * 3), UTM)), 5.0)

    def test_scale_between_points_of_one_name(self):
        job = np.array([[1000.0, 2000, 0], [3000, 5000, 0], [4000, 100, 0], [7, 7, 7]])
        here = lambda xyz, *names: Site(xyz, UTM, names)  # noqa: E731
        ratio = place_check._ratio_of_common
        self.assertAlmostEqual(
            ratio(here(job[[2, 0, 1]] * (1 + 2e-6), "c", "a", "b"), here(job, "a", "b", "c", "")), 1 + 2e-6, places=12
        )
        self.assertIsNone(ratio(here(job[:1], "a"), here(job, "a", "b", "c", "d")), "one says nothing")
        self.assertIsNone(ratio(here(job[:2], "x", ""), here(job, "a", "b", "c", "")))
        bent = job[:3] * (1 + 2e-6)
        bent[1, 1] += 0.008
        self.assertIsNone(ratio(here(bent, "a", "b", "c"), here(job[:3], "a", "b", "c")), "they do not agree")
        self.assertIsNone(ratio(here(job), here(job, "a", "b", "c", "d")))

    def test_scale_between_outlines(self):
        job = lattice(100, 50, 5)
        ratio = place_check._ratio_of_outlines
        self.assertAlmostEqual(ratio(Site(job * (1 + 2e-6), UTM), Site(job, UTM)), 1 + 2e-6, places=10)
        grown = job + [0, 0, 0]
        grown[:, 0] += np.where(grown[:, 0] > SITE[0] + 50, 1.2, 0.0)
        self.assertIsNone(ratio(Site(grown, UTM), Site(job, UTM)), "sides that differ by more than a millionth")
        self.assertIsNone(ratio(Site(job + [400, 0, 0], UTM), Site(job, UTM)), "a thousandth apart is another place")
        self.assertIsNone(ratio(Site(job - SITE, UTM), Site(job - SITE, UTM)), "about the origin nothing can be told")

    def test_words_for_heights(self):
        words = place_check._height_words
        at = lambda z: Site(np.column_stack([lattice(9, 9, 3)[:, :2], np.full(9, z)]), UTM)  # noqa: E731
        self.assertIn("metres for feet", words(30.48 - 100, at(30.48), at(100)))
        self.assertIn("feet for metres", words(100 - 30.48, at(100.0), at(30.48)))
        self.assertIn("(higher): vertical datum?", words(45.0, at(145.0), at(100)))
        self.assertIn("(lower): vertical datum?", words(-45.0, at(55.0), at(100)))
        self.assertIn("vertical datum", words(0.6 - 2, at(0.6), at(2.0)), "within three of zero no ratio is told")
        self.assertIn("vertical datum", words(31.3 - 100, at(31.3), at(100)), "not within two in a hundred")
        self.assertIn("differs by 69.5 m", words(30.48 - 100, at(30.48), at(100)))
        self.assertEqual(place_check._length(12345.66, at(1)), "12\u2009345.7 m")

    def test_near_the_origin_is_within_twenty_kilometres(self):
        job = Site(lattice(100, 50, 5), UTM)
        for east, told in ((19_900.0, True), (20_100.0, False)):
            found = place_check._local(Site(lattice(10, 10, 2, np.array([east, 0, 0])), UNKNOWN), job)
            self.assertEqual([code for code, _ in found], ["local"] if told else [])
        home = Site(lattice(100, 50, 5, np.array([5000.0, 0, 0])), local_grid(METRE))
        self.assertEqual(place_check._local(Site(lattice(10, 10, 2, np.zeros(3)), UNKNOWN), home), [])
        feet = Site(lattice(100, 50, 5, np.array([6_500_000.0, 1_800_000, 0])), STATE)
        for east, told in ((65_000.0, True), (66_000.0, False)):
            found = place_check._local(Site(lattice(10, 10, 2, np.array([east, 0, 0])), UNKNOWN), feet)
            self.assertEqual([code for code, _ in found], ["local"] if told else [], "in feet")

    def test_degrees_are_told_by_where_they_lie(self):
        job = Site(lattice(100, 50, 5), UTM)
        to_degrees = pyproj.Transformer.from_crs(25830, 4326, always_xy=True)
        places = lattice(100, 50, 5)
        places[:, 0], places[:, 1] = to_degrees.transform(places[:, 0], places[:, 1])
        code = lambda xyz: [c for c, _ in place_check._local(Site(xyz, UNKNOWN), job)]  # noqa: E731
        self.assertEqual(code(places), ["degrees"])
        self.assertEqual(code(places + [1.0, 0, 0]), ["local"], "somewhere else")
        self.assertEqual(code(places[:, [1, 0, 2]]), ["local"], "latitude first is not taken for it")
        wide = places.copy()
        wide[0, 1] = 91.0
        self.assertEqual(code(wide), ["local"])
        self.assertEqual(place_check._local(Site(places, UNKNOWN), Site(places, from_text("EPSG:4326"))), [])
