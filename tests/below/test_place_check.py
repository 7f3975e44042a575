"""Units, ways between systems and the place check: every mistake it names, on either side of its limits, in metres and feet."""

import itertools
import unittest
from dataclasses import replace

import numpy as np
import pyproj
import shapely
import trimesh

from kerb.core import place_check, systems
from kerb.core.errors import InputError
from kerb.core.geometry.features import SurveyPoints, bounds_of
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.place_check import FEET_APART, RATIOS, Site, check
from kerb.core.placing import AS_IS, CONVERT, LABEL, TRANSFORM, Placing, consistent, route, same_system, suggested, utm_zone
from kerb.core.ratio import judge
from kerb.core.reference import UNKNOWN, ReferenceSystem, definition, from_text, is_geographic, local_grid
from kerb.core.things import sample_of
from kerb.core.units import DENSITY_UNITS, FILE_UNITS, FOOT, METRE, US_SURVEY_FOOT, length_unit, unit_of_metres
from tests.support import Folder, near

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
            ours = next((u for u in FILE_UNITS.values() if code in (u.name, u.name.removeprefix("international "))), None)
            known = epsg.get(code) or epsg.get(f"British {code} (Sears 1922)")
            if code == "yard":
                known = 0.9144  # exactly three international feet
            self.assertIsNotNone(ours, code)
            self.assertAlmostEqual(ours.metres, known, places=13, msg=code)
        self.assertAlmostEqual(FILE_UNITS["in"].metres * 12, FOOT.metres, places=15)
        self.assertAlmostEqual(FILE_UNITS["yd"].metres, 3 * FOOT.metres, places=15)
        self.assertTrue(proj or epsg)

    def test_tonnes_and_short_tons(self):
        self.assertEqual((DENSITY_UNITS["t/m3"].tonnes_per_m3, DENSITY_UNITS["t/m3"].mass_tonnes), (1.0, 1.0))
        self.assertAlmostEqual(DENSITY_UNITS["ton/yd3"].mass_tonnes, 0.90718474, places=9)
        self.assertAlmostEqual(DENSITY_UNITS["ton/yd3"].tonnes_per_m3, 0.90718474 / 0.9144**3, places=9)


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
        cell = place_check._cell(job)
        rough = np.random.default_rng(5).normal(0, 2.0, (99, 99))[tuple(((job.xyz - job.bounds[0])[:, :2] / cell).astype(int).T)]
        uneven = job.xyz + rough[:, None] * [0, 0, 1]
        middle, spread = place_check._height_over(uneven, job.xyz, cell)
        for times, alarmed in ((3.9, False), (4.1, True)):
            found = check(Site(uneven + [0, 0, times * spread - middle], UTM), job)
            self.assertEqual("height" in codes(found), alarmed, "four times what lies there differs by")
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

    def test_a_design_of_few_triangles_lies_where_its_faces_do(self):
        """A hall of six faces in twelve triangles, and a scan of its floor and walls, either held against the other, in two units."""
        hall = trimesh.creation.box((40, 24, 7.5), trimesh.transformations.translation_matrix([20, 12, 3.75]))
        rng = np.random.default_rng(3)
        floor = np.column_stack([rng.uniform(0, [40, 24], (40_000, 2)), np.zeros(40_000)])
        side = np.column_stack([np.resize([0.0, 40], 20_000), rng.uniform(0, [24, 7.5], (20_000, 2))])
        for unit in (METRE, FOOT):
            place = lambda xyz, m=unit.metres: (xyz + SITE) / m  # noqa: E731
            model = TriangleMesh(place(np.array(hall.vertices)), np.array(hall.faces, np.int32))
            scan = Site(place(np.concatenate([floor, side])), local_grid(unit))
            design = Site(sample_of(model), local_grid(unit))
            near(bounds_of(design.xyz), bounds_of(model.vertices), atol=0.02 / unit.metres)
            self.assertGreater(min(check(design, scan).overlap, check(scan, design).overlap), 0.99)
            flat = replace(model, vertices=model.vertices * [1, 1, 0])
            self.assertAlmostEqual(np.mean(flat.spread(9000)[:, 0]) * unit.metres - SITE[0], 20.0, delta=0.5)
        none = replace(model, triangles=np.array([[0, 0, 1]], np.int32))
        near(none.spread(5), model.vertices[:1])


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

    def test_degrees_only_where_they_could_lie(self):
        lon, lat = pyproj.Transformer.from_crs(25830, 4326, always_xy=True).transform(*lattice(400, 300, 40)[:, :2].T)
        job = Site(lattice(400, 300, 4), UTM)
        near = Site(np.column_stack([lon, lat, np.zeros(len(lon))]), local_grid(METRE))
        self.assertEqual(codes(check(near, job)), ["degrees"])
        for away in ([90.0, 0, 0], [0, -60.0, 0], [200.0, 0, 0], [0, 95.0, 0]):
            self.assertEqual(codes(check(Site(near.xyz + away, local_grid(METRE)), job)), ["local"], away)
        for row, latitude in ((0, -91.0), (1, 91.0)):
            wide = near.xyz.copy()
            wide[row, 1] = latitude
            self.assertEqual(codes(check(Site(wide, local_grid(METRE)), job)), ["local"])
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

    def test_far_away_begins_at_twice_the_size_of_the_job(self):
        job = Site(lattice(400, 300, 4), UTM)
        size = float(np.hypot(396, 296))
        for times, alarmed in ((1.8, False), (2.3, True), (2.8, True)):
            away = Site(job.xyz + [396 + times * size, 0, 0], UTM)
            self.assertEqual("far-away" in codes(check(away, job)), alarmed, times)

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
        self.assertEqual((result.code, result.unit), ("EPSG:2229", US_SURVEY_FOOT), "back in the unit of its definition")
        result = Placing(CONVERT, STATE, replace(STATE, unit=METRE, vertical_unit=METRE)).result
        self.assertEqual((result.code, result.wkt, result.unit), ("", "", METRE))
        heights = Placing(CONVERT, replace(STATE, vertical_unit=METRE), STATE, horizontal=False).result
        self.assertEqual((heights.code, heights.vertical_unit), ("EPSG:2229", US_SURVEY_FOOT))

    def test_zones_of_the_earth(self):
        """UTM: zones of 6°, the first from 180° W; 326 north and 327 south (EPSG registry)."""
        for lon, lat, code in (
            (-179.0, 10.0, 32601), (-4.7, 50.1, 32630), (0.1, 51.0, 32631), (18.4, -33.9, 32734), (179.9, 1.0, 32660),
        ):  # fmt: skip
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
        for one, other, words in ((local_grid(METRE), UTM, "name no reference system"), (UTM, local_grid(METRE), "local grid")):
            with self.assertRaisesRegex(InputError, words):
                route(one, other)

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

    def test_overlap_takes_the_neighbouring_cell_too(self):
        job = np.array([[10.5, 10.5, 0]])
        for dx, dy in itertools.product((-2, -1, 0, 1, 2), repeat=2):
            new = job + [dx, dy, 0]
            self.assertEqual(place_check._overlap(new, job, 1.0), float(max(abs(dx), abs(dy)) < 2), (dx, dy))
        several = np.array([[10.5, 10.5, 0], [10.6, 10.6, 0], [30, 30, 0], [40, 40, 0], [np.nan, 1, 1]])
        self.assertAlmostEqual(place_check._overlap(several, job, 1.0), 1 / 3)
        self.assertEqual(place_check._overlap(several[4:], job, 1.0), 0.0)

    def test_scale_between_outlines(self):
        job = lattice(100, 50, 5)
        ratio = place_check._ratio_of_outlines
        self.assertAlmostEqual(ratio(Site(job * (1 + 2e-6), UTM), Site(job, UTM)), 1 + 2e-6, places=10)
        grown = job + [0, 0, 0]
        grown[:, 0] += np.where(grown[:, 0] > SITE[0] + 50, 1.2, 0.0)
        self.assertIsNone(ratio(Site(grown, UTM), Site(job, UTM)), "sides that differ by more than a millionth")
        self.assertIsNone(ratio(Site(job + [400, 0, 0], UTM), Site(job, UTM)), "a thousandth apart is another place")
        self.assertIsNone(ratio(Site(job - SITE, UTM), Site(job - SITE, UTM)), "about the origin nothing can be told")

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


UTM, STATE = from_text("EPSG:25830"), from_text("EPSG:2229")
RNG = np.random.default_rng(6)
GROUND = np.column_stack([RNG.uniform(0, 400, 4000), RNG.uniform(0, 300, 4000), RNG.uniform(3, 4, 4000)])


class Systems(Folder):
    def test_a_worked_transformation(self):
        """OS, A guide to coordinate systems in Great Britain, worked example C (recalled): 52°39'27.2531"N
        1°43'4.5177"E on OSGB36 is E 651409.903 N 313177.270."""
        place = np.array([[1 + 43 / 60 + 4.5177 / 3600, 52 + 39 / 60 + 27.2531 / 3600, 10.0]])
        placing = Placing(TRANSFORM, from_text("EPSG:4277"), from_text("EPSG:27700"))
        near(placing.mapper()(place), [[651409.903, 313177.270, 10.0]], atol=2e-3)

    def test_state_plane_metres_to_survey_feet_is_exact(self):
        """EPSG guidance note 7-2 (recalled): the same projection in another unit; factor 3937/1200."""
        placing = Placing(TRANSFORM, from_text("EPSG:26945"), STATE)
        self.assertEqual(placing.route().accuracy, 0.0)
        metres = np.array([[2_000_000.0, 500_000.0, 100.0]])
        np.testing.assert_allclose(placing.mapper()(metres), metres * 3937 / 1200, rtol=1e-9)
        wrong = metres / 0.3048
        self.assertAlmostEqual(float(np.abs(placing.mapper()(metres) - wrong)[0, 0]), 13.1, places=1)

    def test_there_and_back(self):
        for code in ("EPSG:32631", "EPSG:2154", "EPSG:3857", "EPSG:4326"):
            place = np.array([[450_000.0, 5_411_000.0, 30.0]])
            over = Placing(TRANSFORM, from_text("EPSG:32631"), from_text(code)).mapper()(place)
            back = Placing(TRANSFORM, from_text(code), from_text("EPSG:32631")).mapper()(over)
            near(back, place, atol=1e-3)

    def test_a_missing_grid_is_said_and_a_known_way_preferred_to_a_guess(self):
        route = Placing(TRANSFORM, from_text("EPSG:27700"), UTM).route()
        if route.missing:
            self.assertIn("uk_os", route.missing[0])
            self.assertIn("not installed", route.sentence)
        self.assertIsNotNone(route.accuracy)
        self.assertLessEqual(route.accuracy, 5.0)

    def test_compound_systems_move_heights_and_feet_heights_are_scaled(self):
        feet = from_text("EPSG:2229+6360")
        self.assertEqual((feet.vertical_unit, feet.vertical_name), (US_SURVEY_FOOT, "NAVD88 height (ftUS)"))
        placing = Placing(TRANSFORM, feet, from_text("EPSG:26945"))
        out = placing.mapper()(np.array([[6_561_666.6667, 1_640_416.6667, 3937.0], [6_561_666.6667, 1_640_416.6667, np.nan]]))
        self.assertAlmostEqual(out[0, 2], 1200.0, places=6)
        self.assertTrue(np.isnan(out[1, 2]))

    def test_no_way_is_an_error_with_words(self):
        with self.assertRaisesRegex(InputError, "local grid"):
            Placing(TRANSFORM, UTM, local_grid(METRE)).mapper()
        with self.assertRaisesRegex(InputError, "no reference system"):
            Placing(TRANSFORM, UNKNOWN, UTM).mapper()

    def test_search(self):
        self.assertEqual(systems.search("25830")[0].code, "EPSG:25830")
        self.assertIn("EPSG:25830", [entry.code for entry in systems.search("etrs89 utm 30n")])
        self.assertIn("EPSG:2229", [entry.code for entry in systems.search("california zone 5 ftus")])
        self.assertEqual(systems.search("no such system at all"), [])
        self.assertIn("ODN height", [entry.name for entry in systems.vertical_for("EPSG:27700")])
        self.assertEqual(len({entry.code for entry in systems.all_systems()}), len(systems.all_systems()))

    def test_units_of_odd_systems_are_not_taken_for_metres(self):
        """EPSG:2314 counts in Clarke's feet of 0.3047972654 m, EPSG:27700 in metres."""
        clarke = from_text("EPSG:2314")
        self.assertAlmostEqual(clarke.unit.metres, 0.3047972654, places=10)
        self.assertEqual(ReferenceSystem.from_json(clarke.to_json()), clarke)
        self.assertEqual(unit_of_metres(0.001).code, "mm")
        self.assertEqual(length_unit("in").plural, "inches")
        self.assertTrue(all(length_unit(code).metres > 0 for code in FILE_UNITS))

    def test_a_local_grid_says_its_unit_in_wkt(self):
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            back = from_text(definition(local_grid(unit)))
            self.assertEqual((back.unit, back.wkt), (unit, ""))
            axis = pyproj.CRS.from_wkt(definition(local_grid(unit))).axis_info[0]
            self.assertAlmostEqual(axis.unit_conversion_factor, unit.metres, places=15)
        self.assertEqual(definition(UNKNOWN), "")


class PlaceChecks(Folder):
    """The classic mistakes, each found by its own alarm; and no alarm where all is well."""

    def setUp(self):
        super().setUp()
        self.job = Site(GROUND + [380_000, 5_560_000, 0], UTM)

    def alarms(self, xyz, reference=UTM, job=None, original=None):
        found = check(Site(np.asarray(xyz, float), reference), job or self.job, original)
        self.found = found
        return dict(found.alarms)

    def test_the_two_feet(self):
        """At a state-plane northing of 1.84 Mft and an easting of 6.48 Mft, 2 ppm are 13 ft."""
        feet = Site(GROUND + [6_480_000, 1_840_000, 300], STATE)
        by_label = self.alarms(feet.xyz, STATE, feet, Site(feet.xyz, local_grid(FOOT)))
        self.assertIn("13.0 ft (US) here", by_label["feet"])
        outline = self.alarms(feet.xyz * (1200 / 3937 / 0.3048), STATE, feet)
        self.assertIn("survey foot against international foot", outline["feet"])
        names = tuple(f"P{i}" for i in range(20))
        control = Site(feet.xyz[:20], STATE, names)
        shot = Site(feet.xyz[:20] * (0.3048 / (1200 / 3937)), STATE, names)
        self.assertIn("feet", dict(check(shot, control).alarms))
        self.assertNotIn("feet", self.alarms(feet.xyz + 0.5, STATE, feet))

    def test_swapped_axes(self):
        self.assertIn("swapped", self.alarms(self.job.xyz[::40, [1, 0, 2]]))
        points = SurveyPoints(self.job.xyz[:5, [1, 0, 2]], tuple("abcde"), ("",) * 5)
        self.assertIn("swapped", self.alarms(points.xyz))
        self.assertIn("exchanged", dict(check(Site(points.xyz, UTM), None).alarms)["swapped"])

    def test_wrong_zone_degrees_local_and_elsewhere(self):
        east, north = pyproj.Transformer.from_crs(25830, 25831, always_xy=True).transform(*self.job.xyz[:, :2].T)
        other = np.column_stack([east, north, self.job.xyz[:, 2]])
        self.assertIn("zone 31N", self.alarms(other)["zone"])
        lon, lat = pyproj.Transformer.from_crs(25830, 4326, always_xy=True).transform(*self.job.xyz[:, :2].T)
        self.assertIn("degrees", self.alarms(np.column_stack([lon, lat, self.job.xyz[:, 2]]), UNKNOWN))
        self.assertIn("local", self.alarms(GROUND + 50, UNKNOWN))
        self.assertIn("far-away", self.alarms(self.job.xyz + [9_000, 4_000, 0]))
        self.assertGreater(self.found.apart, 8_000)

    def test_outside_the_area_of_use(self):
        alarms = dict(check(Site(np.array([[5_000_000.0, 9_000_000.0, 0.0]]), from_text("EPSG:27700")), None).alarms)
        self.assertIn("outside-area", alarms)
        feet = np.array([[530_000 / 0.3048, 180_000 / 0.3048, 0.0]])
        self.assertIn("unit", dict(check(Site(feet, from_text("EPSG:27700")), None).alarms)["unit-ratio"])


class KnownObject(Folder):
    def test_mix_ups_are_named(self):
        for measured, true, words in (
            (3.2808, 1.0, "international feet taken for metres"), (0.3048, 1.0, "metres taken for international feet"),
            (1000.0, 1.0, "millimetres taken for metres"), (12.0, 1.0, "inches taken for international feet"),
            (1.0001, 1.0, "size is right"), (1.01, 1.0, "No mix-up"), (1.003, 1.0, "scale factor"),
        ):  # fmt: skip
            self.assertIn(words, judge(measured, true, 5e-4).sentence)
        self.assertAlmostEqual(judge(2.0, 1.0, 1e-3).ratio, 2.0)
        with self.assertRaises(InputError):
            judge(0.0, 1.0, 1e-3)
