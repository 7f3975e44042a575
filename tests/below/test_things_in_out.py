"""Points, lines, surfaces, models and pictures out and in again, read back by libraries that did not write them."""

import json
import sqlite3
import struct
import xml.etree.ElementTree as ElementTree
from pathlib import Path

import ezdxf
import meshio
import numpy as np
import pyogrio
import rasterio
import shapefile
import shapely
import trimesh
from PIL import Image

from kerb.core.errors import FormatError, InputError, OutputError
from kerb.core.geometry.alignment import Alignment, Element, Grade, arc, straight
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.geometry.mesh import TriangleMesh, checked
from kerb.core.progress import silent
from kerb.core.reference import from_text, local_grid
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.things import LINES, MODEL, PICTURE, POINTS, SURFACE, Placed, relocated
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.formats.dxf_read import read_dxf
from kerb.formats.ifc_read import read_ifc
from kerb.formats.landxml_read import read_landxml
from kerb.formats.meshes import read_mesh
from kerb.formats.rasters import read_part, read_raster_head, store_picture, write_picture
from kerb.formats.read_things import Reading, read_offer
from kerb.formats.recognise import examine
from kerb.formats.write_things import write_thing
from tests.support import DATA, FAR, Folder, near

AT = np.array([380_000.0, 5_560_000.0, 0.0])
UTM, STATE = from_text("EPSG:25830"), from_text("EPSG:2229")
POINT_LIST = SurveyPoints(
    AT + np.array([[0.1234, 0.5, 3.125], [10.0, 20.0, 4.0], [1.0, 2.0, 5.0]]), ("A1", "B 2", "Ü"), ("CP", "", "EDGE"),
    {"rms": ("0.01", "0.02", "")},
)  # fmt: skip
LINE_SET = LineSet((
    Line(AT + np.array([[0, 0, 1.0], [10, 0, 1.5], [10, 5, 2.0]]), False, "edge", "kerbs"),
    Line(AT + np.array([[0, 0, 1.0], [10, 0, 1.5], [10, 5, 2.0], [2, 7, 2.5]]), True, "yard", "areas"),
))  # fmt: skip
ROOF = checked(
    AT + np.array([[0, 0, 5], [10, 0, 5], [10, 10, 7], [0, 10, 7.0]]), np.array([[0, 1, 2], [0, 2, 3]]), "roof"
)  # fmt: skip
GRID = ElevationGrid(
    np.where(np.arange(20) == 7, np.nan, np.arange(20) / 4).astype(np.float32).reshape(4, 5),
    (2.0, 0.0, AT[0], 0.0, -2.0, AT[1] + 8.0),
)  # fmt: skip


class Things(Folder):
    def write(self, kind, thing, name, reference=UTM):
        path = self.folder / name
        self.notes = dict(write_thing(Placed(kind, thing, reference), path, silent()))
        return path

    def back(self, path, kind, **how):
        seen = examine(path)
        return read_offer(seen, seen.offer(kind), Reading(**how), silent())[0]


class Points(Things):
    def test_csv_by_the_standard_library(self):
        import csv

        text = self.write(POINTS, POINT_LIST, "p.csv").read_text(encoding="utf-8")
        rows = list(csv.DictReader(text.splitlines()))
        self.assertEqual(rows[0], {"name": "A1", "easting (m)": "380000.1234", "northing (m)": "5560000.5000",
                                   "elevation (m)": "3.1250", "code": "CP", "rms": "0.01"})  # fmt: skip

    def test_geopackage_by_sqlite(self):
        path = self.write(POINTS, POINT_LIST, "p.gpkg")
        with sqlite3.connect(path) as base:
            names = [row[0] for row in base.execute("SELECT name FROM points ORDER BY fid")]
            system = base.execute(
                "SELECT organization_coordsys_id FROM gpkg_spatial_ref_sys WHERE organization='EPSG' AND srs_id>4326"
            )
            self.assertIn((25830,), system.fetchall())
        base.close()
        self.assertEqual(names, ["A1", "B 2", "Ü"])

    def test_geojson_by_json(self):
        data = json.loads(self.write(POINTS, POINT_LIST, "p.geojson").read_text(encoding="utf-8"))
        self.assertEqual(data["features"][1]["geometry"]["coordinates"], [380010.0, 5560020.0, 4.0])
        self.assertIn("25830", json.dumps(data["crs"]))
        self.assertIn("geojson-degrees", self.notes)

    def test_shapefile_by_pyshp(self):
        with shapefile.Reader(str(self.write(POINTS, POINT_LIST, "p.shp"))) as reader:
            self.assertEqual(reader.shape(0).points[0], (380000.1234, 5560000.5))
            self.assertEqual(reader.record(0)["code"], "CP")
        self.assertIn("UTM", (self.folder / "p.prj").read_text())

    def test_dxf_by_gdal(self):
        path = self.write(POINTS, POINT_LIST, "p.dxf", local_grid(US_SURVEY_FOOT))
        meta, _, shapes, columns = pyogrio.raw.read(path)
        kinds = [shapely.from_wkb(shape).geom_type for shape in shapes]
        self.assertEqual(kinds.count("Point"), 6, "three points and three names")
        self.assertIn("EDGE", columns[list(meta["fields"]).index("Layer")])
        self.assertEqual(ezdxf.readfile(path).header["$INSUNITS"], 21)

    def test_landxml_order_is_northing_easting_elevation(self):
        """LandXML 1.2 schema, recalled through CHECKS: northing easting elevation."""
        root = ElementTree.parse(self.write(POINTS, POINT_LIST, "p.xml", STATE)).getroot()
        space = {"l": "http://www.landxml.org/schema/LandXML-1.2"}
        first = root.find("l:CgPoints/l:CgPoint", space)
        self.assertEqual([float(v) for v in first.text.split()], [5560000.5, 380000.1234, 3.125])
        self.assertEqual(root.find("l:Units/l:Imperial", space).get("linearUnit"), "USSurveyFoot")
        self.assertEqual(root.find("l:CoordinateSystem", space).get("epsgCode"), "2229")

    def test_missing_elevations_stay_missing_where_the_format_can(self):
        flat = SurveyPoints(AT + np.array([[0, 0, 1.0], [5, 5, np.nan]]), ("a", "b"), ("", ""))
        for ending in (".csv", ".xml", ".gpkg", ".geojson"):
            item = self.back(self.write(POINTS, flat, f"f{ending}"), POINTS)
            self.assertTrue(np.isnan(item.thing.xyz[1, 2]), ending)
        for ending in (".dxf", ".shp"):
            self.write(POINTS, flat, f"f{ending}")
            self.assertIn("no-elevation", self.notes)


class Lines(Things):
    def test_dxf_by_gdal_and_layers(self):
        path = self.write(LINES, LINE_SET, "l.dxf")
        meta, _, shapes, columns = pyogrio.raw.read(path)
        lengths = sorted(round(shapely.from_wkb(shape).length, 6) for shape in shapes)
        expected = sorted((15.0, 10 + 5 + np.hypot(8, 2) + np.hypot(2, 7)))
        near(lengths, expected, atol=1e-6)
        self.assertEqual(sorted(columns[list(meta["fields"]).index("Layer")]), ["areas", "kerbs"])
        one = self.back(path, LINES, parts=("areas",))
        self.assertEqual((one.count, one.thing.lines[0].closed), (1, True))

    def test_curves_stay_within_the_tolerance(self):
        """A circle of radius 50, an arc, a bulge and a spline made by ezdxf, flattened to 5 mm and to 0.1 mm."""
        document = ezdxf.new()
        space = document.layout("Model")
        space.add_circle((0, 0), 50)
        space.add_lwpolyline([(0, 0, 1.0), (10, 0, 0.0)], format="xyb")
        space.add_spline([(0, 0, 0), (5, 8, 1), (10, -4, 2), (15, 0, 3)])
        path = self.folder / "c.dxf"
        document.saveas(path)
        for tolerance in (0.005, 0.0001):
            lines = read_dxf(path, tolerance).lines
            circle, bulge, spline = lines
            chords = np.vstack([circle.xyz, circle.xyz[:1]])
            middles = (chords[1:] + chords[:-1]) / 2
            self.assertLess(50 - np.hypot(*middles[:, :2].T).min(), tolerance)
            away = np.hypot(bulge.xyz[:, 0] - 5, bulge.xyz[:, 1])
            near(away, 5, atol=1e-9)
            self.assertGreater(len(spline.xyz), 10)

    def test_a_damaged_drawing_is_mended_and_says_so(self):
        drawing = read_dxf(DATA / "recover01.dxf")
        self.assertEqual(len(drawing.lines), 1441)
        self.assertIn("mended", dict(drawing.notes))
        self.assertIn("unit-missing", dict(drawing.notes))
        self.assertEqual(len(read_dxf(DATA / "ASCII_R12.dxf").lines), 2)

    def test_blocks_and_faces_in_a_drawing(self):
        document = ezdxf.new()
        document.header["$INSUNITS"] = 4
        block = document.blocks.new("PT")
        block.add_attdef("NAME", (0, 0))
        block.add_point((0, 0))
        frame = document.blocks.new("FRAME")
        frame.add_line((0, 0), (1, 0))
        space = document.layout("Model")
        space.add_blockref("PT", (100, 200, 7), dxfattribs={"layer": "SHOTS"}).add_auto_attribs({"NAME": "N7"})
        space.add_blockref("FRAME", (10, 0), dxfattribs={"xscale": 5, "yscale": 5, "zscale": 5})
        space.add_3dface([(0, 0, 0), (4, 0, 0), (4, 4, 1), (0, 4, 1)], dxfattribs={"layer": "SLAB"})
        mesh = space.add_mesh(dxfattribs={"layer": "CUBE"})
        with mesh.edit_data() as data:
            data.vertices = [(0, 0, 0), (2, 0, 0), (2, 2, 0), (0, 2, 0), (0, 0, 2), (2, 0, 2), (2, 2, 2), (0, 2, 2)]
            data.faces = [(3, 2, 1, 0), (4, 5, 6, 7), (0, 1, 5, 4), (1, 2, 6, 5), (2, 3, 7, 6), (3, 0, 4, 7)]
        path = self.folder / "d.dxf"
        document.saveas(path)
        drawing = read_dxf(path)
        self.assertEqual(drawing.unit.code, "mm")
        self.assertEqual(drawing.survey_points().names, ("N7",))
        np.testing.assert_array_equal(drawing.line_set().lines[0].xyz[:, 0], [10, 15])
        self.assertAlmostEqual(drawing.mesh(("CUBE",)).volume, 8.0)
        self.assertEqual(len(drawing.mesh(("SLAB",)).triangles), 2)
        placed = relocated(self.back(path, MODEL, parts=("CUBE",)), _to_metres(examine(path).reference))
        self.assertAlmostEqual(placed.thing.volume, 8e-9, places=15)


def _to_metres(source):
    from kerb.core.placing import CONVERT, Placing

    return Placing(CONVERT, source, local_grid(METRE))


class Alignments(Things):
    """Closed forms: a quarter circle, the Fresnel integrals of a clothoid, a parabola."""

    def test_arc_and_straight(self):
        quarter = arc((0.0, 0.0), (10.0, 0.0), (10.0, 10.0), right=True)
        self.assertAlmostEqual(quarter.length, np.pi * 5)
        near(quarter.end, [10, 10], atol=1e-12)
        np.testing.assert_allclose(quarter.at(np.array([np.pi * 2.5]))[0], [10 - 10 / np.sqrt(2), 10 / np.sqrt(2)])
        left = arc((0.0, 0.0), (-10.0, 0.0), (-10.0, 10.0), right=False)
        near(left.end, [-10, 10], atol=1e-12)
        self.assertAlmostEqual(straight((0, 0), (3, 4)).azimuth, np.arctan2(3, 4))

    def test_clothoid_is_the_fresnel_integral(self):
        """SciPy's Fresnel integrals: x = A√π S(s / A√π), y = A√π C(…), with A² = R L."""
        from scipy.special import fresnel

        radius, length = 300.0, 120.0
        element = Element((0.0, 0.0), 0.0, length, 0.0, 1 / radius)
        s = np.linspace(0, length, 25)
        scale = np.sqrt(radius * length * np.pi)
        sine, cosine = fresnel(s / scale)
        near(element.at(s), np.column_stack([sine, cosine]) * scale, atol=1e-9)

    def test_parabola_and_stations(self):
        """Handbook: over a crest of grades +2 % and −3 %, length 100, the curve lies 0.625 below the intersection."""
        profile = (Grade(0, 100), Grade(200, 104, 100), Grade(400, 98))
        road = Alignment("road", 0.0, (straight((0, 0), (400, 0)),), profile)
        z = road.elevation(np.array([0, 150, 200, 250, 400, 401.0]))
        np.testing.assert_allclose(z[:5], [100, 103, 104 - 0.05 * 100 / 8, 102.5, 98])
        self.assertTrue(np.isnan(z[5]))

    def test_landxml_round_trip_is_exact(self):
        bend = Element((100.0, 0.0), np.pi / 2, 50.0, 0.0, 1 / 200)
        turned = float(bend.direction(np.array([50.0]))[0])
        curve = Element(tuple(bend.end.tolist()), turned, 80.0, 1 / 200, 1 / 200)
        out = Element(tuple(curve.end.tolist()), float(curve.direction(np.array([80.0]))[0]), 40.0, 1 / 200, -1 / 500)
        road = Alignment("road", 1000.0, (straight((0, 0), (100, 0)), bend, curve, out),
                         (Grade(1000, 10), Grade(1100, 12, 40), Grade(1270, 9)))  # fmt: skip
        xyz, stations = road.flattened(0.001)
        self.assertAlmostEqual(stations[-1], 1270.0)
        path = self.write(LINES, LineSet((Line(xyz, False, "road", "alignments"),), (road,)), "a.xml")
        found = read_landxml(path).alignments[0]
        at = np.linspace(1000, 1270, 400)
        near(found.at(at), road.at(at), atol=1e-6)
        item = relocated(self.back(path, LINES), _to_feet(UTM))
        near(item.thing.alignments[0].at(at / 0.3048), road.at(at) / 0.3048, atol=1e-5)

    def test_flattening_keeps_the_tolerance(self):
        road = Alignment("r", 0.0, (Element((0.0, 0.0), 0.0, 150.0, 1 / 80, 1 / 30),))
        xyz, stations = road.flattened(0.01)
        fine = road.at(np.linspace(0, 150, 5000))[:, :2]
        line = shapely.LineString(xyz[:, :2])
        self.assertLess(shapely.distance(line, shapely.points(fine)).max(), 0.01)
        self.assertLess(len(stations), 120)


def _to_feet(source):
    from kerb.core.placing import CONVERT, Placing

    return Placing(CONVERT, source, local_grid(FOOT))


class Surfaces(Things):
    def test_landxml_surface_parsed_by_the_standard_library(self):
        path = self.write(SURFACE, ROOF, "s.xml", local_grid(FOOT))
        space = {"l": "http://www.landxml.org/schema/LandXML-1.2"}
        root = ElementTree.parse(path).getroot()
        places = {p.get("id"): [float(v) for v in p.text.split()] for p in root.iter(f"{{{space['l']}}}P")}
        faces = [f.text.split() for f in root.iter(f"{{{space['l']}}}F")]
        area = 0.0
        for face in faces:
            (n0, e0, _), (n1, e1, _), (n2, e2, _) = (places[corner] for corner in face)
            area += 0.5 * ((e1 - e0) * (n2 - n0) - (e2 - e0) * (n1 - n0))
        self.assertAlmostEqual(area, 100.0, places=6, msg="counter-clockwise in plan")

    def test_invisible_and_broken_faces(self):
        text = (
            '<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2"><Units><Metric linearUnit="meter"/></Units>'
            '<Surfaces><Surface name="a/../b"><SourceData><Breaklines><Breakline name="k"><PntList3D>0 0 1 5 5 2'
            '</PntList3D></Breakline></Breaklines></SourceData><Definition surfType="TIN"><Pnts><P id="7">0 0 1</P>'
            '<P id="9">0 10 1</P><P id="3">10 0 1</P><P id="4">10 10 1</P></Pnts><Faces><F>7 9 3</F><F i="1">9 4 3</F>'
            "</Faces></Definition></Surface></Surfaces></LandXML>"
        )
        path = self.folder / "s.xml"
        path.write_text(text)
        found = read_landxml(path)
        self.assertEqual(len(found.surfaces["a/../b"].triangles), 1)
        np.testing.assert_array_equal(found.lines[0].xyz, [[0, 0, 1], [5, 5, 2]])
        path.write_text(text.replace("<F>7 9 3</F>", "<F>7 9 8</F>"))
        with self.assertRaisesRegex(FormatError, "line 1.*point '8'"):
            read_landxml(path)

    def test_geotiff_by_pillow(self):
        """Pillow reads the tags: pixel scale, tie point and the EPSG code among the GeoTIFF keys (OGC 19-008r4)."""
        path = self.write(SURFACE, GRID, "g.tif")
        with Image.open(path) as image:
            self.assertEqual(tuple(image.tag_v2[33550][:2]), (2.0, 2.0))
            self.assertEqual(tuple(image.tag_v2[33922][3:5]), (AT[0], AT[1] + 8.0))
            keys = dict(zip(image.tag_v2[34735][4::4], image.tag_v2[34735][7::4], strict=False))
            self.assertEqual(keys[3072], 25830)
            self.assertEqual(image.getpixel((3, 2)), GRID.z[2, 3])

    def test_triangles_become_a_grid(self):
        """A tilted square with a corner cut off, in metres and feet: the plane in the middle of each cell, nothing beyond it."""
        corners = np.array([[0.0, 0], [90, 0], [90, 50], [50, 90], [0, 90]])
        for unit, ending in ((METRE, ".tif"), (US_SURVEY_FOOT, ".asc")):
            vertices = np.column_stack([corners, 0.2 * corners[:, 0] - 0.1 * corners[:, 1]]) + FAR
            mesh = TriangleMesh(vertices, np.array([[0, 1, 2], [0, 2, 3], [0, 3, 4]], np.int32))
            path = self.folder / f"plane{ending}"
            notes = dict(write_thing(Placed(SURFACE, mesh, local_grid(unit)), path, silent()))
            self.assertIn(f"cells of 0.25 {unit.symbol}", notes["gridded"])
            with rasterio.open(path) as raster:
                z, step = raster.read(1, masked=True).filled(np.nan), raster.transform
            rows, columns = np.nonzero(np.isfinite(z))
            x, y = step.c + (columns + 0.5) * step.a - FAR[0], step.f + (rows + 0.5) * step.e - FAR[1]
            near(z[rows, columns] - FAR[2], 0.2 * x - 0.1 * y, 0.01)
            near(len(rows) * step.a**2, 8100 - 800, 20)

    def test_grid_between_pixels_is_bilinear_by_scipy(self):
        from scipy.interpolate import RegularGridInterpolator

        z = np.random.default_rng(3).uniform(0, 9, (30, 40))
        grid = ElevationGrid(z, (0.5, 0, AT[0], 0, -0.5, AT[1]))
        y, x = AT[1] - 0.5 * (np.arange(30) + 0.5), AT[0] + 0.5 * (np.arange(40) + 0.5)
        truth = RegularGridInterpolator((y[::-1], x), z[::-1])
        xy = np.column_stack(
            [np.random.default_rng(4).uniform(x[0], x[-1], 500), np.random.default_rng(5).uniform(y[-1], y[0], 500)]
        )
        near(grid.at(xy), truth(xy[:, ::-1]), atol=1e-6)


class Models(Things):
    def test_meshes_read_by_meshio(self):
        """meshio reads what was written; the volume of a box comes back whatever the format."""
        box = trimesh.creation.box((2, 3, 4))
        mesh = TriangleMesh(box.vertices + [10, 20, 30], box.faces.astype(np.int32))
        self.assertAlmostEqual(mesh.volume, 24.0)
        self.assertAlmostEqual(mesh.surface_area, 52.0)
        for ending in (".obj", ".stl", ".ply"):
            other = meshio.read(self.write(MODEL, mesh, f"m{ending}"))
            self.assertAlmostEqual(float(other.points[:, 2].max()), 32.0, places=5)
            self.assertEqual(len(other.cells_dict["triangle"]), 12)
        for ending in (".obj", ".stl", ".ply", ".off", ".dxf"):
            item = self.back(self.write(MODEL, mesh, f"n{ending}"), MODEL)
            self.assertAlmostEqual(item.thing.volume, 24.0, places=4, msg=ending)
        open_box = TriangleMesh(mesh.vertices, mesh.triangles[:-1])
        self.assertIsNone(open_box.volume)

    def test_large_coordinates_survive_single_precision_stl(self):
        box = trimesh.creation.box((2, 3, 4))
        mesh = TriangleMesh(box.vertices + AT, box.faces.astype(np.int32))
        item = self.back(self.write(MODEL, mesh, "far.stl", local_grid(US_SURVEY_FOOT)), MODEL)
        near(item.bounds[0], mesh.vertices.min(axis=0), atol=1e-5)
        self.assertEqual(item.reference.unit, US_SURVEY_FOOT)
        self.assertAlmostEqual(item.thing.volume, 24.0, places=4)

    def test_obj_groups_polygons_and_negative_indices(self):
        path = self.folder / "o.obj"
        path.write_text(
            "mtllib ../../etc/passwd\no slab\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nf 1/1/1 2 3 4\ng beam\nf -4 -3 -2\n"
        )
        mesh = read_mesh(path)
        self.assertEqual([(e.name, e.count) for e in mesh.elements], [("slab", 2), ("beam", 1)])
        with self.assertRaisesRegex(FormatError, "line 28.*vertex 0"):
            read_mesh(DATA / "malformed.obj")

    def test_ifc_by_element_types(self):
        """house.ifc, facts from an independent library (tests/data): 51 beams of 4.2358 m³, a column of 0.01798 m³,
        slabs of 24.0, 19.967, 16.512 and 16.512 m³, 13 walls of 54.504 m³."""
        path = DATA / "house.ifc"
        offer = examine(path).offers[0]
        types = dict(offer.parts)
        self.assertEqual([types[name] for name in ("IfcBeam", "IfcColumn", "IfcSlab", "IfcWallStandardCase")], [51, 1, 4, 13])
        self.assertNotIn("IfcSpace", offer.usual)
        volumes = {}
        for name in ("IfcBeam", "IfcColumn", "IfcSlab", "IfcWallStandardCase"):
            mesh, _ = read_ifc(path, (name,), silent())
            volumes[name] = sorted(mesh.part(element).volume for element in mesh.elements)
        self.assertAlmostEqual(sum(volumes["IfcBeam"]), 4.2358, places=4)
        self.assertAlmostEqual(volumes["IfcColumn"][0], 0.01798, places=5)
        near(volumes["IfcSlab"], [16.512, 16.512, 19.967, 24.0], atol=1e-3)
        self.assertAlmostEqual(sum(volumes["IfcWallStandardCase"]), 54.504, places=3)
        with self.assertRaisesRegex(InputError, "no IfcRoof"):
            read_ifc(path, ("IfcRoof",), silent())
        cut = self.folder / "cut.ifc"
        cut.write_bytes(path.read_bytes()[:2_000])
        with self.assertRaises(FormatError):
            read_ifc(cut, (), silent())


class Pictures(Things):
    def picture(self, name, size=(600, 400)):
        rng = np.random.default_rng(8)
        image = rng.integers(0, 255, (size[1], size[0], 3)).astype(np.uint8)
        image[:, : size[0] // 2] = (200, 30, 10)
        affine = (0.1, 0.0, AT[0], 0.0, -0.1, AT[1] + size[1] * 0.1)
        write_picture(self.folder / name, image, affine, UTM)
        return image, affine

    def test_world_file_lines(self):
        """Common convention: pixel x size, rotation, rotation, negative y size, centre of the upper left pixel."""
        image, affine = self.picture("p.png")
        lines = [float(line) for line in (self.folder / "p.pgw").read_text().split()]
        np.testing.assert_allclose(lines, [0.1, 0, 0, -0.1, AT[0] + 0.05, affine[5] - 0.05])
        with Image.open(self.folder / "p.png") as other:
            np.testing.assert_array_equal(np.asarray(other), image)
        head = read_raster_head(self.folder / "p.png")
        np.testing.assert_allclose(head.affine, affine)
        self.assertIn("crs-missing", dict(head.notes))

    def test_kept_with_overviews_and_read_in_parts(self):
        image, affine = self.picture("p.tif")
        kept = self.folder / "kept.tif"
        width, height, place = store_picture(self.folder / "p.tif", kept, (None, None), silent())
        self.assertEqual((width, height), (600, 400))
        np.testing.assert_allclose(place, affine)
        np.testing.assert_array_equal(read_part(kept, (350, 100, 50, 40), (50, 40))[:, :, :3], image[100:140, 350:400])
        small = read_part(kept, (0, 0, 600, 400), (60, 40))
        near(small[:, :25, :3].reshape(-1, 3).mean(axis=0), [200, 30, 10], atol=1)
        with rasterio.open(kept) as file:
            self.assertTrue(file.overviews(1))

    def test_warped_to_another_system_lands_where_pyproj_says(self):
        import pyproj

        self.picture("p.tif")
        target = from_text("EPSG:32631")
        width, height, place = store_picture(
            self.folder / "p.tif", self.folder / "k.tif", (None, (UTM.wkt, target.wkt)), silent()
        )
        middle = pyproj.Transformer.from_crs(25830, 32631, always_xy=True).transform(AT[0] + 30, AT[1] + 20)
        np.testing.assert_allclose([place[2] + place[0] * width / 2, place[5] + place[4] * height / 2], middle, atol=0.3)

    def test_a_picture_without_a_place_says_what_to_do(self):
        Image.fromarray(np.zeros((5, 5, 3), np.uint8)).save(self.folder / "n.png")
        seen = examine(self.folder / "n.png")
        with self.assertRaisesRegex(InputError, "world file"):
            read_offer(seen, seen.offer(PICTURE), Reading(), silent())


class Refusals(Things):
    def test_what_does_not_fit(self):
        for kind, thing, name in ((POINTS, POINT_LIST, "p.obj"), (MODEL, ROOF, "m.csv"), (LINES, LineSet(()), "l.dxf")):
            with self.assertRaises(OutputError):
                self.write(kind, thing, name)
        with self.assertRaises(OutputError):
            write_thing(Placed(POINTS, POINT_LIST, UTM), Path("/nowhere/p.csv"), silent())
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_vector_files_are_what_their_name_says(self):
        """GDAL would open a virtual description that names other files; Kerb looks at the first bytes first."""
        trick = self.folder / "trick.geojson"
        trick.write_text(
            '<OGRVRTDataSource><OGRVRTLayer name="x"><SrcDataSource>/etc/passwd</SrcDataSource></OGRVRTLayer></OGRVRTDataSource>'
        )
        with self.assertRaisesRegex(FormatError, "first bytes"):
            examine(trick)
        trick = self.folder / "trick.tif"
        trick.write_text('<VRTDataset rasterXSize="5" rasterYSize="5"></VRTDataset>')
        with self.assertRaisesRegex(FormatError, "neither TIFF"):
            examine(trick)
        zipped = self.folder / "z.kmz"
        zipped.write_bytes(b"PK\x03\x04" + bytes(60))
        with self.assertRaisesRegex(InputError, "ZIP archive"):
            examine(zipped)

    def test_binary_stl_that_lies(self):
        path = self.folder / "s.stl"
        path.write_bytes(bytes(80) + struct.pack("<I", 4_000_000_000) + bytes(50))
        with self.assertRaisesRegex(FormatError, "ends too early"):
            read_mesh(path)
