"""Units and reference systems: PROJ's published examples, traps of the two feet, and the place check's alarms."""

import numpy as np
import pyproj

from kerb.core import systems
from kerb.core.errors import InputError
from kerb.core.geometry.features import SurveyPoints
from kerb.core.place_check import Site, check
from kerb.core.placing import AS_IS, CONVERT, LABEL, TRANSFORM, Placing, suggested
from kerb.core.ratio import judge
from kerb.core.reference import UNKNOWN, ReferenceSystem, definition, from_text, local_grid
from kerb.core.units import FILE_UNITS, FOOT, METRE, US_SURVEY_FOOT, length_unit, unit_of_metres
from tests.support import Folder, near

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
        out = placing.mapper()(
            np.array([[6_561_666.6667, 1_640_416.6667, 3937.0], [6_561_666.6667, 1_640_416.6667, np.nan]])
        )
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


class Choices(Folder):
    def test_what_is_suggested(self):
        for source, job, unit, how in (
            (UTM, None, METRE, AS_IS), (UTM, UTM, METRE, AS_IS), (UTM, STATE, US_SURVEY_FOOT, TRANSFORM),
            (UNKNOWN, UTM, METRE, LABEL), (local_grid(FOOT), local_grid(METRE), METRE, CONVERT),
            (local_grid(FOOT), STATE, US_SURVEY_FOOT, CONVERT),
        ):  # fmt: skip
            self.assertEqual(suggested(source, job, unit).how, how)
        mixed = ReferenceSystem("x", unit=METRE, vertical_unit=FOOT, certainty="stated")
        self.assertEqual(suggested(mixed, None, METRE).result.vertical_unit, METRE)
        degrees = suggested(from_text("EPSG:4326"), None, METRE, (-4.2, 50.1))
        self.assertEqual(degrees.target.code, "EPSG:32630")
        self.assertEqual(suggested(from_text("EPSG:4326"), None, METRE, (18.4, -33.9)).target.code, "EPSG:32734")

    def test_sentences(self):
        feet = Placing(CONVERT, local_grid(FOOT), local_grid(METRE))
        self.assertEqual(feet.sentence, "converted from international feet to metres about the origin")
        plan = Placing(CONVERT, local_grid(FOOT), local_grid(METRE), vertical=False)
        self.assertEqual(plan.sentence, "converted plan from international feet to metres about the origin")
        np.testing.assert_allclose(plan.mapper()(np.array([[10.0, 20.0, 30.0]])), [[3.048, 6.096, 30.0]])
        heights = Placing(CONVERT, local_grid(FOOT), local_grid(METRE), horizontal=False)
        np.testing.assert_allclose(heights.mapper()(np.array([[10.0, 20.0, 30.0]])), [[10, 20, 9.144]])
        self.assertEqual((heights.result.unit, heights.result.vertical_unit), (FOOT, METRE))
        self.assertIn("exchanged", Placing(swap=True).sentence)
        self.assertIn("good to 1 m", Placing(TRANSFORM, from_text("EPSG:4326"), UTM).sentence)

    def test_converted_numbers_lose_the_name_of_their_system(self):
        result = Placing(CONVERT, STATE, local_grid(METRE)).result
        self.assertEqual((result.wkt, result.code, result.unit), ("", "", METRE))
        self.assertEqual(Placing(LABEL, UNKNOWN, UTM).result, UTM)


class PlaceChecks(Folder):
    """The classic mistakes, each found by its own alarm; and no alarm where all is well."""

    def setUp(self):
        super().setUp()
        self.job = Site(GROUND + [380_000, 5_560_000, 0], UTM)

    def alarms(self, xyz, reference=UTM, job=None, original=None):
        found = check(Site(np.asarray(xyz, float), reference), job or self.job, original)
        self.found = found
        return dict(found.alarms)

    def test_all_is_well(self):
        self.assertEqual(self.alarms(self.job.xyz[::7] + 0.01), {})
        self.assertEqual(self.found.overlap, 1.0)
        self.assertAlmostEqual(self.found.height, 0.01, delta=0.2)
        self.assertIn("100 %", self.found.sentence)
        beside = self.job.xyz + [380, 0, 0]
        self.assertEqual(self.alarms(beside), {})
        self.assertTrue(0 < self.found.overlap < 0.2)
        self.assertIn("nothing yet", check(self.job, None).sentence)

    def test_units(self):
        state = Site(GROUND / 0.3048 + [6_480_000, 1_840_000, 300], local_grid(FOOT))
        for factor, shown in ((0.3048, "0.3048"), (1 / 0.3048, "3.2808"), (1000.0, "1000")):
            words = self.alarms(state.xyz * factor, local_grid(FOOT), state)["unit-ratio"]
            self.assertIn(f"lies {shown} times as far", words)

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

    def test_heights(self):
        words = self.alarms(self.job.xyz[::3] + [0, 0, 31.2])["height"]
        self.assertRegex(words, r"differs by 31\.\d m from the cloud beneath \(higher\): vertical datum")
        high = Site(self.job.xyz + [0, 0, 100], UTM)
        self.assertIn("metres for feet", self.alarms(high.xyz * [1, 1, 0.3048], UTM, high)["height"])
        self.assertNotIn("height", self.alarms(self.job.xyz + [0, 0, 0.4]))

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
