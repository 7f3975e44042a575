import unittest

import numpy as np
import pyproj

from kerb.core.errors import InputError
from kerb.core.quantity import Decimals, decimals_of, number, quantity
from kerb.core.reference import ReferenceSystem, from_text, local_grid, outside_area_of_use
from kerb.core.units import (
    FILE_UNITS,
    FOOT,
    METRE,
    US_SURVEY_FOOT,
    YARD_M,
    convert,
    density_unit,
    length_unit,
    other_unit,
    unit_of_metres,
)
from kerb.report.plan import round_step


class Units(unittest.TestCase):
    def test_feet_are_what_nist_says(self):
        # NIST SP 811 and the Federal Register notice of 2020 (recalled).
        self.assertEqual(FOOT.metres, 0.3048)
        self.assertEqual(US_SURVEY_FOOT.metres, 1200 / 3937)
        self.assertAlmostEqual(600_000 * (US_SURVEY_FOOT.metres - FOOT.metres), 0.366, places=3)

    def test_feet_agree_with_the_epsg_registry_in_pyproj(self):
        units = {u.code: u.conv_factor for u in pyproj.get_units_map("EPSG").values()}
        self.assertAlmostEqual(units["9002"], FOOT.metres, places=15)
        self.assertAlmostEqual(units["9003"], US_SURVEY_FOOT.metres, places=15)
        self.assertIs(unit_of_metres(units["9003"]), US_SURVEY_FOOT)
        self.assertIs(unit_of_metres(units["9002"]), FOOT)

    def test_decimals_that_a_tenth_of_a_millimetre_needs(self):
        """Ten thousandths of a metre, tenths of a millimetre; of a foot a step of 0.0001 is 0.03 mm, of 0.001 0.3 mm."""
        wanted = {"m": 4, "ft": 4, "us-ft": 4, "mm": 1, "cm": 2, "km": 7, "in": 3, "yd": 4}
        self.assertEqual({code: unit.decimals for code, unit in FILE_UNITS.items()}, wanted)
        self.assertEqual(other_unit(0.00005, "fine").decimals, 0)
        self.assertEqual(other_unit(0.0001, "tenth").decimals, 0)
        self.assertEqual(other_unit(0.00011, "more").decimals, 1)

    def test_other_units_by_their_code(self):
        clarke = other_unit(0.3047972654, "Clarke's foot")
        self.assertEqual(length_unit(clarke.code), clarke)
        self.assertEqual((clarke.plural, clarke.area_code()[-1], clarke.volume_code()[-1]), ("Clarke's feet", "2", "3"))
        self.assertEqual([FILE_UNITS[code].plural for code in ("in", "m", "yd")], ["inches", "metres", "yards"])
        for metres in (0.0, -1.0, 1e9, float("nan")):
            with self.assertRaises(ValueError):
                other_unit(metres, "x")
        self.assertEqual(other_unit(9.9e8, "x").metres, 9.9e8)
        for code in ("unit:0:x", "unit:nan:x", "unit:x", "furlong", ""):
            with self.assertRaises(InputError):
                length_unit(code)
        self.assertIsNone(unit_of_metres(0.3048 + 2e-9))
        self.assertIs(unit_of_metres(0.3048 + 0.5e-9), FOOT)

    def test_conversion_of_volumes(self):
        self.assertAlmostEqual(convert(27.0, FOOT, METRE, 3), YARD_M**3, places=12)
        self.assertEqual(convert(5.0, FOOT, FOOT, 3), 5.0)

    def test_short_tons_per_cubic_yard(self):
        # 1 short ton/yd³ = 2000 lb/yd³ = 1186.553 kg/m³ (common practice).
        self.assertAlmostEqual(density_unit("ton/yd3").tonnes_per_m3, 1.186553, places=5)

    def test_unknown_codes_name_themselves(self):
        for call in (length_unit, density_unit):
            with self.assertRaisesRegex(InputError, "furlong"):
                call("furlong")


class Quantities(unittest.TestCase):
    def test_marks_of_axes_say_what_they_are(self):
        """Whatever round step an axis has, its marks are written to the last digit they need."""
        for span in np.geomspace(1e-4, 1e6, 173):
            step = round_step(float(span), 3)
            for k in (-3, 1, 2, 5, 7):
                self.assertAlmostEqual(float(f"{k * step:.{decimals_of(step)}f}"), k * step, delta=1e-6 * step)
        self.assertEqual([decimals_of(v) for v in (2.5, 0.25, 1.25, 20.0, 0.05)], [1, 2, 2, 0, 2])

    def test_numbers_as_written(self):
        self.assertEqual(number(-1234.5678, 2), "−1\u2009234.57")
        self.assertEqual(number(0.0004, 3, signed=True), "0.000")
        self.assertEqual(number(2.0, 1, signed=True), "+2.0")
        self.assertEqual(number(None), "—")
        self.assertEqual(number(float("nan")), "—")

    def test_decimals_by_kind(self):
        shown = Decimals(length=4, volume=2)
        self.assertEqual(quantity(1.0, "ft", shown), "1.0000\u00a0ft")
        self.assertEqual(quantity(1.0, "us-ft3", shown), "1.00\u00a0ft³ (US)")
        self.assertEqual(quantity(30.0, "deg"), "30.0°")


class Reference(unittest.TestCase):
    def test_units_of_systems(self):
        # EPSG registry through pyproj: 2225 is in US survey feet, 2222 in international feet.
        self.assertIs(from_text("EPSG:2225").unit, US_SURVEY_FOOT)
        self.assertIs(from_text("EPSG:2222").unit, FOOT)
        self.assertIs(from_text("EPSG:25830").unit, METRE)

    def test_compound_system(self):
        system = from_text("EPSG:2225+6360")
        self.assertIs(system.vertical_unit, US_SURVEY_FOOT)
        self.assertIn("NAVD88", system.vertical_name)

    def test_round_trip_and_sentences(self):
        system = from_text("EPSG:25830")
        self.assertEqual(ReferenceSystem.from_json(system.to_json()), system)
        self.assertIn("metres assumed", ReferenceSystem().sentence)
        self.assertIn("local grid", local_grid(FOOT).sentence)

    def test_area_of_use(self):
        system = from_text("EPSG:25830")
        self.assertFalse(outside_area_of_use(system, 380_000, 5_560_000))
        self.assertTrue(outside_area_of_use(system, 380_000 / 0.3048, 5_560_000 / 0.3048))

    def test_unknown_system_is_named(self):
        with self.assertRaisesRegex(InputError, "EPSG:999999"):
            from_text("EPSG:999999")
        self.assertTrue(np.isfinite(METRE.metres))
