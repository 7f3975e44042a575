"""Units and systems: what they are, and that they keep their word out and back through every format."""

import json
import unittest
from dataclasses import replace

import laspy
import numpy as np
import pyproj

from kerb.core.cloud.outgoing import from_stream
from kerb.core.errors import InputError
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.geometry.mesh import Element, TriangleMesh
from kerb.core.placing import CONVERT, Placing, consistent, same_system, suggested
from kerb.core.progress import silent
from kerb.core.reference import ReferenceSystem, from_text, is_geographic, local_grid, outside_area_of_use
from kerb.core.things import Placed
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
from kerb.formats.points import open_points, placed, stated_system, stated_unit
from kerb.formats.read_things import Reading, read_offer
from kerb.formats.recognise import examine
from kerb.formats.write_things import write_cloud, write_thing
from tests.support import CommandLine, Folder, Points


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


WRITERS = ("las", "laz", "ply", "e57", "csv", "xyz")
# Plan and heights of a system: local grids of the three units, projected in each, degrees, and heights in another unit.
SYSTEMS = {
    "local m": (local_grid(METRE), [3_000.0, 5_000.0, 40.0]),
    "local ft": (local_grid(FOOT), [3_000.0, 5_000.0, 140.0]),
    "local us-ft": (local_grid(US_SURVEY_FOOT), [3_000.0, 5_000.0, 140.0]),
    "utm": (from_text("EPSG:25832"), [512_000.0, 5_804_000.0, 60.0]),
    "ft": (from_text("EPSG:2222"), [700_000.0, 900_000.0, 1_000.0]),
    "us-ft": (from_text("EPSG:2229"), [6_500_000.0, 1_850_000.0, 300.0]),
    "us-ft over m": (from_text("EPSG:2229+5703"), [6_500_000.0, 1_850_000.0, 90.0]),
    "m over ft": (from_text("EPSG:26911+6360"), [380_000.0, 3_770_000.0, 300.0]),
    "degrees": (from_text("EPSG:4326"), [9.01, 52.35, 60.0]),
}
TENTH_M = 0.0001


def places(reference, middle, seed=3):
    """Points over 60 m round a place, in the numbers of a system, with five decimals of metres."""
    rng = np.random.default_rng(seed)
    across = np.round(rng.uniform(-30, 30, (400, 2)), 4)
    plan = 1 / 111_000 if is_geographic(reference) else 1 / reference.unit.metres
    up = np.round(rng.uniform(-4, 4, 400), 4) / reference.vertical_unit.metres
    return np.column_stack([across * plan, up]) + middle


def stream_of(points, reference):
    stream = Points(points, scale=1e-4)
    scale = np.array([1e-9, 1e-9, 2e-5]) if is_geographic(reference) else np.full(3, 2e-5)
    origin = np.floor(points.mean(axis=0))
    stream.records["xyz"] = np.round((points - origin) / scale)
    stream.layout = replace(stream.layout, scale=scale, origin=origin, reference=reference)
    return stream


def read(stream):
    rows = np.concatenate(list(stream.chunks(10_000)))
    return stream.layout.origin + rows["xyz"] * stream.layout.scale, stream.layout.reference


def metres(points, reference):
    """Places in metres, so that files in another unit compare."""
    plan = 111_000 if is_geographic(reference) else reference.unit.metres
    return points * [plan, plan, reference.vertical_unit.metres]


class RoundTrips(Folder):
    def test_out_and_back_twice(self):
        for name, (reference, middle) in SYSTEMS.items():
            for kind in WRITERS:
                with self.subTest(system=name, file=kind):
                    first = places(reference, middle)
                    stream = stream_of(first, reference)
                    for turn in range(2):
                        path = self.folder / f"{name}-{turn}.{kind}".replace(" ", "_")
                        write_cloud(from_stream(stream), path, silent())
                        stream = open_points(path)
                        found, says = read(stream)
                        if says.certainty == "assumed":
                            # The format cannot say it: the analyst does.
                            stream = stated_system(stream, reference)
                            found, says = read(stream)
                        a, b = metres(first, reference), metres(found, says)
                        a, b = a[np.lexsort(a.T)], b[np.lexsort(b.T)]
                        self.assertLess(np.abs(a - b).max(), 1.01 * TENTH_M)
                        if reference.wkt and says.wkt:
                            self.assertTrue(same_system(says, reference))
                        elif kind in ("las", "laz") and reference.wkt:
                            self.fail("the system was lost")
                        if kind not in ("e57", "xyz") and not is_geographic(reference):
                            self.assertEqual(says.unit, reference.unit)
                            self.assertEqual(says.vertical_unit, reference.vertical_unit)

    def test_converted_and_written_again_is_converted_once(self):
        """Heights in feet over a plan in metres made metres: read again, and once more, they stay what they are."""
        for name in ("m over ft", "us-ft over m"):
            reference, middle = SYSTEMS[name]
            first = places(reference, middle)
            stream = stream_of(first, reference)
            want = first[:, 2] * reference.vertical_unit.metres / reference.unit.metres
            for kind in ("las", "ply", "csv"):
                current = stream
                for turn in range(3):
                    own = current.layout.reference
                    current = placed(current, suggested(own, None, own.unit))
                    path = self.folder / f"even-{kind}-{turn}-{name[:2]}.{kind}"
                    write_cloud(from_stream(current), path, silent())
                    current = open_points(path)
                    found, says = read(current)
                    self.assertEqual(says.vertical_unit, reference.unit)
                    np.testing.assert_allclose(np.sort(found[:, 2]), np.sort(want), rtol=0, atol=4 * TENTH_M)


class ThingsRoundTrips(Folder):
    """Points, lines and surfaces: out and back twice in every format that holds them."""

    WRITERS = {
        "points": ("csv", "dxf", "xml", "gpkg", "geojson", "shp"),
        "lines": ("dxf", "xml", "gpkg", "geojson", "shp"),
        "surface": ("xml", "dxf", "obj", "ply", "off"),
    }
    # Formats that say neither unit nor system: what comes back are the numbers, and the notes say so.
    DUMB = ("obj", "off", "ply")

    def thing(self, kind, reference, middle):
        xyz = places(reference, middle)[:60]
        if kind == "points":
            return SurveyPoints(xyz, tuple(f"P{k}" for k in range(60)), ("c",) * 60)
        if kind == "lines":
            return LineSet((Line(xyz[:20], False, "a", "l"), Line(xyz[20:26], False, "b", "l")))
        return TriangleMesh(xyz[:3], np.array([[0, 1, 2]], np.int32), (Element("s", "surface", 0, 1),))

    def numbers(self, thing):
        if isinstance(thing, SurveyPoints):
            return thing.xyz
        return thing.vertices

    def back(self, path, kind):
        seen = examine(path)
        offer = next(o for o in seen.offers if o.kind == kind or (kind == "surface" and o.kind == "model"))
        item, notes = read_offer(seen, offer, Reading(tuple(offer.usual) if offer.kind == "model" else ()), silent())
        return item, [*seen.notes, *notes]

    def test_out_and_back_twice(self):
        for name, (reference, middle) in SYSTEMS.items():
            for kind, endings in self.WRITERS.items():
                for ending in endings:
                    if kind == "surface" and is_geographic(reference):
                        continue
                    with self.subTest(system=name, kind=kind, file=ending):
                        first = self.thing(kind, reference, middle)
                        item = Placed(kind, first, reference)
                        for turn in range(2):
                            path = self.folder / f"{name}-{kind}-{turn}.{ending}".replace(" ", "_")
                            said = dict(write_thing(item, path, silent()))
                            uneven = item.reference.unit != item.reference.vertical_unit and not is_geographic(reference)
                            self.assertEqual("unit-converted" in said, uneven and ending not in ("csv", "gpkg", "geojson", "shp"))
                            found, notes = self.back(path, kind)
                            says = found.reference
                            if ending in self.DUMB:
                                # Written in the unit of the plan, heights too, which the notes of the writing say.
                                says = replace(reference, vertical_unit=reference.unit)
                            elif says.certainty == "assumed":
                                says = reference
                            a, b = metres(self.numbers(first), reference), metres(self.numbers(found.thing), says)
                            a, b = a[np.lexsort(a.T)], b[np.lexsort(b.T)]
                            self.assertEqual(a.shape, b.shape)
                            self.assertLess(np.abs(a - b)[:, :2].max(), 1.01 * TENTH_M)
                            self.assertLess(np.abs(np.sort(a[:, 2]) - np.sort(b[:, 2])).max(), 1.01 * TENTH_M)
                            item = Placed(kind, found.thing, says)
                            self.assertIsNotNone(notes)


class Heights(Folder):
    def test_after_a_transformation_with_heights_they_are_in_the_unit_that_is_said(self):
        for system, unit in (("EPSG:25832+5783", FOOT), ("EPSG:25832+5783", METRE)):
            job = ReferenceSystem(**{**vars(from_text("EPSG:25833+5783")), "unit": METRE, "vertical_unit": unit})
            placing = suggested(from_text(system), job, METRE)
            placing = Placing(placing.how, placing.source, ReferenceSystem(**{**vars(placing.target), "vertical_unit": unit}))
            moved = placing.mapper()(np.array([[512_000.0, 5_804_000.0, 60.0]]))
            self.assertAlmostEqual(moved[0, 2], 60.0 / unit.metres, places=3)
            says = placing.result
            self.assertEqual(says.vertical_unit, unit)
            self.assertAlmostEqual(pyproj.CRS.from_wkt(says.wkt).axis_info[2].unit_conversion_factor, unit.metres)
        source = ReferenceSystem(**{**vars(from_text("EPSG:25832")), "unit": FOOT, "vertical_unit": FOOT})
        feet = Placing("transform", source, from_text("EPSG:25833"))
        moved = feet.mapper()(np.array([[512_000.0, 5_804_000.0, 60.0]]) / 0.3048)
        plain = Placing("transform", from_text("EPSG:25832"), from_text("EPSG:25833"))
        np.testing.assert_allclose(moved, plain.mapper()(np.array([[512_000.0, 5_804_000.0, 60.0]])), rtol=0, atol=1e-4)

    def test_a_definition_follows_its_heights(self):
        for code in ("EPSG:2229", "EPSG:2229+5703", "EPSG:26911+6360", "EPSG:4326", "EPSG:4979"):
            for unit in (METRE, FOOT, US_SURVEY_FOOT):
                system = ReferenceSystem(**{**vars(from_text(code)), "vertical_unit": unit})
                found = consistent(system)
                again = from_text(found.wkt)
                self.assertEqual(again.vertical_unit if not is_geographic(again) or "+" in again.name
                                 or len(pyproj.CRS.from_wkt(found.wkt).axis_info) > 2 else unit, unit, code)  # fmt: skip
                self.assertTrue(same_system(found, system))
                self.assertEqual(consistent(found), found)
        kept = consistent(ReferenceSystem(**{**vars(from_text("EPSG:2229+5703")), "vertical_unit": FOOT}))
        self.assertIn("North American Vertical Datum 1988", kept.wkt)

    def test_degrees_are_not_multiplied(self):
        degrees = from_text("EPSG:4326")
        placing = Placing(CONVERT, degrees, local_grid(FOOT))
        moved = placing.mapper()(np.array([[9.0, 52.0, 30.48]]))
        np.testing.assert_allclose(moved, [[9.0, 52.0, 100.0]], atol=1e-9)
        self.assertTrue(is_geographic(placing.result))


class Mappers(unittest.TestCase):
    UTM = np.array([[512_000.0, 5_804_000.0, 60.0], [512_100.0, 5_804_050.0, np.nan]])

    def moved(self, source, target, swap=False):
        return Placing("transform", source, target, swap=swap).mapper()(self.UTM[:, [1, 0, 2]] if swap else self.UTM)

    def test_to_a_job_that_counts_in_feet_on_a_system_in_metres(self):
        source, target = from_text("EPSG:25832"), from_text("EPSG:25833")
        plain = self.moved(source, target)
        east, north = pyproj.Transformer.from_crs(25832, 25833, always_xy=True).transform(*self.UTM[:, :2].T)
        np.testing.assert_allclose(plain[:, :2], np.column_stack([east, north]), rtol=0, atol=1e-4)
        np.testing.assert_array_equal(plain[:, 2], self.UTM[:, 2])
        feet = self.moved(source, replace(target, unit=FOOT, vertical_unit=US_SURVEY_FOOT))
        np.testing.assert_allclose(feet[:, :2], plain[:, :2] / 0.3048, rtol=1e-12)
        np.testing.assert_allclose(feet[0, 2], 60.0 / US_SURVEY_FOOT.metres, rtol=1e-12)
        self.assertTrue(np.isnan(feet[1, 2]))
        np.testing.assert_allclose(self.moved(source, target, swap=True), plain, rtol=0, atol=1e-9)
        degrees = self.moved(source, from_text("EPSG:4326"))
        self.assertAlmostEqual(degrees[0, 0], 9.175, delta=0.01)
        self.assertAlmostEqual(degrees[0, 1], 52.386, delta=0.01)
        back = Placing("transform", from_text("EPSG:4326"), source).mapper()(degrees)
        np.testing.assert_allclose(back[:, :2], self.UTM[:, :2], rtol=0, atol=1e-3)


class Lesser(CommandLine):
    def las(self, name, points, system, scale):
        header = laspy.LasHeader(point_format=6, version="1.4")
        header.scales, header.offsets = scale, np.floor(points.mean(axis=0))
        header.add_crs(pyproj.CRS.from_user_input(system))
        las = laspy.LasData(header)
        las.X, las.Y, las.Z = np.round((points - header.offsets) / scale).astype(np.int32).T
        las.write(self.folder / name)
        return self.folder / name

    def test_a_scale_below_zero_turns_nothing_round(self):
        points = places(*SYSTEMS["utm"])
        found = self.json("info", self.las("turned.las", points, "EPSG:25832", [-1e-3, 1e-3, -1e-3]))["figures"]
        for axis, name in enumerate("enz"):
            self.assertAlmostEqual(found[f"low_{name}"]["value"], points[:, axis].min(), delta=2e-3)
            self.assertAlmostEqual(found[f"high_{name}"]["value"], points[:, axis].max(), delta=2e-3)
        out = self.folder / "part.las"
        ring = self.folder / "ring.csv"
        east, north = SYSTEMS["utm"][1][:2]
        ring.write_text("\n".join(f"{east + x},{north + y}" for x, y in ((-9, -9), (9, -9), (9, 9), (-9, 9))))
        self.json("convert", self.folder / "turned.las", out, "--within", ring)
        inside = (np.abs(points[:, :2] - [east, north]) < 9).all(axis=1)
        self.assertEqual(len(laspy.read(out).points), inside.sum())

    def test_files_of_different_systems_or_units_are_not_joined_without_a_word(self):
        one = self.las("one.las", places(*SYSTEMS["utm"]), "EPSG:25832", [1e-3] * 3)
        for system, words in (("EPSG:25833", "transform it"), ("EPSG:25832+5778", ""), ("EPSG:26911+6360", "")):
            two = self.las("two.las", places(*SYSTEMS["utm"]), system, [1e-3] * 3)
            status, _ = self.kerb("convert", one, two, self.folder / "both.las", "--force")
            if words or "6360" in system:
                self.assertEqual(status, 2, system)
                self.assertIn("two.las", self.error)
            else:
                self.assertEqual(status, 0, self.error)

    def test_an_area_of_another_system_and_with_a_hole_cuts_where_it_lies(self):
        points = places(*SYSTEMS["utm"])
        cloud = self.las("cloud.las", points, "EPSG:25832", [1e-4] * 3)
        change = pyproj.Transformer.from_crs("EPSG:25832", "EPSG:4326", always_xy=True)
        east, north = SYSTEMS["utm"][1][:2]
        rings = [
            [list(change.transform(east + x * half, north + y * half))
             for x, y in ((-1, -1), (1, -1), (1, 1), (-1, 1), (-1, -1))] for half in (20, 8)
        ]  # fmt: skip
        area = self.folder / "area.geojson"
        area.write_text(json.dumps({"type": "Polygon", "coordinates": rings}))
        self.json("convert", cloud, self.folder / "cut.las", "--within", area)
        away = np.abs(points[:, :2] - [east, north]).max(axis=1)
        wanted = ((away < 20) & (away > 8)).sum()
        self.assertAlmostEqual(len(laspy.read(self.folder / "cut.las").points), wanted, delta=3)

    def test_kilometres_keep_their_tenth_of_a_millimetre(self):
        points = places(*SYSTEMS["utm"])
        path = self.folder / "km.xyz"
        np.savetxt(path, points / 1000, fmt="%.8f")
        stream = stated_unit(open_points(path), FILE_UNITS["km"])
        found, says = read(stream)
        self.assertLess(np.abs(np.sort(found * 1000, axis=0) - np.sort(points, axis=0)).max(), 1.1 * TENTH_M)
        self.assertEqual(says.unit.code, "km")


class MapConversion(Folder):
    """IfcMapConversion (ISO 16739-1): turned by abscissa and ordinate, scaled, in the map's unit."""

    def model(self, project="MILLI", scale=0.001, turn=(0.0, 1.0), map_unit=None, system="EPSG:25832"):
        import ifcopenshell
        import ifcopenshell.api

        run = ifcopenshell.api.run
        model = ifcopenshell.file(schema="IFC4")
        root = run("root.create_entity", model, ifc_class="IfcProject", name="P")
        length = run("unit.add_si_unit", model, unit_type="LENGTHUNIT", prefix=project or None)
        run("unit.assign_unit", model, units=[length])
        context = run("context.add_context", model, context_type="Model")
        body = run("context.add_context", model, context_type="Model", context_identifier="Body",
                   target_view="MODEL_VIEW", parent=context)  # fmt: skip
        wall = run("root.create_entity", model, ifc_class="IfcWall", name="W")
        metre = 1000.0 if project == "MILLI" else 1.0
        points = [(0, 0, 0), (10, 0, 0), (10, 1, 0), (0, 1, 0), (0, 0, 3), (10, 0, 3), (10, 1, 3), (0, 1, 3)]
        faces = [(0, 3, 2, 1), (4, 5, 6, 7), (0, 1, 5, 4), (1, 2, 6, 5), (2, 3, 7, 6), (3, 0, 4, 7)]
        corners = [[float(v) * metre for v in p] for p in points]
        shape = run("geometry.add_mesh_representation", model, context=body, vertices=[corners], faces=[faces],
                    force_faceted_brep=False, unit_scale=1.0)  # fmt: skip
        run("geometry.assign_representation", model, product=wall, representation=shape)
        unit = None
        if map_unit == "foot":
            base = model.createIfcSIUnit(None, "LENGTHUNIT", None, "METRE")
            ratio = model.createIfcMeasureWithUnit(model.createIfcLengthMeasure(1200 / 3937), base)
            unit = model.createIfcConversionBasedUnit(
                model.createIfcDimensionalExponents(1, 0, 0, 0, 0, 0, 0), "LENGTHUNIT", "US SURVEY FOOT", ratio
            )
        elif map_unit == "metre":
            unit = model.createIfcSIUnit(None, "LENGTHUNIT", None, "METRE")
        target = model.createIfcProjectedCRS(system, None, None, None, None, None, unit)
        model.createIfcMapConversion(context, target, 500_000.0, 5_800_000.0, 100.0, *turn, scale)
        path = self.folder / "model.ifc"
        model.write(str(path))
        self.assertTrue(root)
        return path

    def ends(self, path):
        from kerb.formats.read_things import Reading, read_offer
        from kerb.formats.recognise import examine

        seen = examine(path)
        item, _ = read_offer(seen, seen.offers[0], Reading(tuple(seen.offers[0].usual)), silent())
        return item.bounds, item.reference

    def test_a_quarter_turn_scale_and_units_of_the_map(self):
        for project, scale in (("MILLI", 0.001), (None, 1.0), ("MILLI", None)):
            (low, high), reference = self.ends(self.model(project, scale, map_unit="metre"))
            # Ten metres east become ten metres north, one metre north one metre west.
            np.testing.assert_allclose(low, [499_999, 5_800_000, 100], atol=1e-6)
            np.testing.assert_allclose(high, [500_000, 5_800_010, 103], atol=1e-6)
            self.assertEqual(reference.unit, METRE)
        foot = US_SURVEY_FOOT.metres
        (low, high), reference = self.ends(self.model(None, 1 / foot, (1.0, 0.0), map_unit="foot", system="EPSG:2229"))
        np.testing.assert_allclose(low, np.array([500_000, 5_800_000, 100]) * foot, atol=1e-5)
        np.testing.assert_allclose(high - low, [10, 1, 3], atol=1e-6)
        self.assertEqual(reference.unit, METRE)
