"""Statistics of areas against brute force with Shapely and NumPy; fields written, kept by epoch and read again."""

import warnings

import laspy
import numpy as np
import pyogrio
import shapely

from kerb.core.cloud.statistics import changes, unit_of
from tests.support import YARD, CommandLine

# Off the millimetres of the points: on an edge, inside and outside are a matter of taste.
LOW = np.array([380_000.0005, 5_560_000.0005])


class Stats(CommandLine):
    def areas(self, name="areas.geojson", crs="EPSG:25830"):
        court = shapely.Polygon([(10, 10), (60, 12), (58, 70), (12, 66)], [[(20, 20), (40, 20), (40, 40), (20, 40)]])
        two = shapely.MultiPolygon([shapely.box(70, 20, 90, 40), shapely.box(100, 60, 120, 90)])
        far = shapely.box(1000, 1000, 1010, 1010)
        self.shapes = [shapely.transform(shape, lambda xy: xy + LOW) for shape in (court, two, far)]
        path = self.folder / name
        fields = [np.array(["Court", "Pair", "Far"], object), np.array([3.0, 4.0, 5.0])]
        shapes = np.array([shapely.multipolygons(getattr(s, "geoms", [s])) for s in self.shapes], object)
        pyogrio.raw.write(path, shapely.to_wkb(shapes), fields, ["name", "keep"], geometry_type="MultiPolygon", crs=crs)
        return path

    def test_against_brute_force(self):
        path = self.areas()
        found = self.json("stats", YARD, "--areas", path)
        names = [column["name"] for column in found["tables"]["areas"]["columns"]]
        units = {column["name"]: column["unit"] for column in found["tables"]["areas"]["columns"]}
        self.assertEqual((units["mean"], units["area"], units["intensity_mean"]), ("m", "m2", ""))
        las = laspy.read(YARD)
        xyz, classes = np.asarray(las.xyz), np.asarray(las.classification)
        for shape, row in zip(self.shapes[:2], found["tables"]["areas"]["rows"], strict=False):
            inside = shapely.contains_xy(shape, xyz[:, 0], xyz[:, 1]) & ~np.isin(classes, (7, 18))
            z, intensity = xyz[inside, 2], np.asarray(las.intensity)[inside].astype(float)
            got = dict(zip(names, row, strict=True))
            self.assertEqual(got["count"], int(inside.sum()))
            wanted = {
                "lowest": z.min(), "highest": z.max(), "mean": z.mean(), "std": z.std(), "p95": np.percentile(z, 95),
                "intensity_mean": intensity.mean(), "intensity_std": intensity.std(), "area": shape.area,
                "class_2_share": (classes[inside] == 2).mean(),
            }  # fmt: skip
            for name, value in wanted.items():
                self.assertAlmostEqual(got[name], float(value), places=6, msg=name)
        self.assertEqual(found["tables"]["areas"]["rows"][2][2:4], [0, None])
        self.assertIn("empty-areas", [note["code"] for note in found["warnings"]])

    def test_in_feet(self):
        """The same ground in US survey feet: lengths and areas by 3937/1200 and its square, counts and shares the same."""
        path = self.areas()
        metres = self.json("stats", YARD, "--areas", path)["tables"]["areas"]
        self.json("convert", YARD, self.folder / "feet.laz", "--unit", "us-ft")
        scaled = [shapely.transform(shape, lambda xy: xy * 3937 / 1200) for shape in self.shapes]
        ring = self.folder / "feet.gpkg"
        shapes = np.array([shapely.multipolygons(getattr(s, "geoms", [s])) for s in scaled], object)
        names = [np.array(["Court", "Pair", "Far"], object)]
        with warnings.catch_warnings(action="ignore"):  # a local grid in feet has no system to name
            pyogrio.raw.write(ring, shapely.to_wkb(shapes), names, ["name"], geometry_type="MultiPolygon", crs=None)
        feet = self.json("stats", self.folder / "feet.laz", "--areas", ring)["tables"]["areas"]
        units = {column["name"]: column["unit"] for column in feet["columns"]}
        self.assertEqual((units["mean"], units["area"]), ("us-ft", "us-ft2"))
        for column, one, other in zip(feet["columns"], metres["rows"][0], feet["rows"][0], strict=True):
            power = {"us-ft": 1, "us-ft2": 2}.get(column["unit"], 0)
            wanted = one if power == 0 else one * (3937 / 1200) ** power
            if isinstance(wanted, float):
                np.testing.assert_allclose(other, wanted, rtol=1e-6, atol=1e-12, err_msg=column["name"])
            else:
                self.assertEqual(other, wanted)

    def test_fields_are_kept_by_epoch(self):
        path = self.areas("areas.gpkg")
        one, two = self.folder / "one.gpkg", self.folder / "two.geojson"
        self.assertEqual(self.kerb("stats", YARD, "--areas", path, "--out", one, "--epoch", "2026-03-12")[0], 0, self.error)
        las = laspy.read(YARD)
        las.z = las.z - 1.0
        las.write(self.folder / "later.laz")
        words = ("stats", self.folder / "later.laz", "--areas", one, "--out", two, "--epoch", "2026-04-12")
        self.assertEqual(self.kerb(*words)[0], 0, self.error)
        meta, _, _, columns = pyogrio.raw.read(two)
        table = dict(zip(meta["fields"], columns, strict=True))
        self.assertAlmostEqual(table["mean_2026-03-12"][0] - table["mean_2026-04-12"][0], 1.0, places=6)
        np.testing.assert_array_equal(table["mean"][:2], table["mean_2026-04-12"][:2])
        change = table["mean_change_2026-03-12_to_2026-04-12"]
        np.testing.assert_allclose(change[:2].astype(float), -1.0, atol=1e-9)
        self.assertTrue(np.isnan(float(change[2] if change[2] is not None else "nan")), "no points, no change")
        self.assertNotIn("area_change_2026-03-12_to_2026-04-12", table)
        between = changes({"h_2026-01-01": [1.0, None], "h_2026-03-01": [4.0, 1.0], "h_2026-02-01": [2.0, 5.0], "h_x": [0, 0]},
                          ["h"], "2026-02-01")  # fmt: skip
        self.assertEqual(between, {"h_change_2026-01-01_to_2026-02-01": [1.0, None],
                                   "h_change_2026-02-01_to_2026-03-01": [2.0, -4.0]})  # fmt: skip
        self.assertEqual(unit_of("p05_change_2026-01-01_to_2026-02-01", "ft"), "ft")
        self.assertEqual((unit_of("class_2_share_2026-01-01", "ft"), unit_of("area_2026-01-01", "m")), ("", "m2"))
        np.testing.assert_array_equal(table["keep"], [3, 4, 5])
        self.assertEqual(list(table["name"]), ["Court", "Pair", "Far"])
        self.assertIn("25830", meta["crs"])

    def test_what_cannot_be_is_said(self):
        path = self.areas()
        bow = self.folder / "bow.wkt"
        bow.write_text("POLYGON((0 0, 1 1, 1 0, 0 1, 0 0))")
        for words in (
            ("--areas", self.folder / "none.geojson"), ("--areas", bow), ("--areas", path, "--out", self.folder / "x.shp"),
            ("--areas", path, "--out", path, "--force"), ("--areas", path, "--epoch", "../x"),
        ):  # fmt: skip
            self.assertEqual(self.kerb("stats", YARD, *words), (2, ""), words)
            self.assertEqual(self.error.count("\n"), 1)
        other = self.areas("other.geojson", "EPSG:2229")
        found = self.json("stats", YARD, "--areas", other)
        self.assertIn("crs-conflict", [note["code"] for note in found["warnings"]])
