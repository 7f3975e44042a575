"""What writing cannot keep is said by name; what it can is there when the file is read by another library."""

import csv
import json
from dataclasses import replace

import ezdxf
import laspy
import numpy as np
import pye57
import pyogrio

from kerb.core.cloud.outgoing import from_stream
from kerb.core.errors import OutputError
from kerb.core.geometry.alignment import Alignment, Grade, arc, exact_in_arcs, straight
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.geometry.mesh import Element, TriangleMesh
from kerb.core.progress import silent
from kerb.core.reference import from_text
from kerb.core.things import LINES, MODEL, POINTS, Placed
from kerb.formats.points import open_points
from kerb.formats.read_things import Reading, read_offer
from kerb.formats.recognise import examine
from kerb.formats.write_things import write_cloud, write_thing
from kerb.job import holdings
from kerb.job.holdings import ImportWish
from kerb.job.job import Change, Job
from tests.support import FAR, CommandLine, Folder, near

UTM = from_text("EPSG:25830")


class Losses(Folder):
    def written(self, item: Placed, name: str) -> dict[str, str]:
        """Notes of writing a thing, by code."""
        return dict(write_thing(item, self.folder / name, silent()))

    def read(self, name: str, kind: str):
        seen = examine(self.folder / name)
        return read_offer(seen, seen.offer(kind), Reading(), silent())[0]

    def points(self) -> Placed:
        extra = {
            "precision plan": ("0.01", "0.02"), "precision height": ("0.03", "0.04"), "date of the survey": ("a", "b"),
        }  # fmt: skip
        return Placed(POINTS, SurveyPoints(np.array([[1.0, 2, 3], [4, 5, 6]]) + FAR, ("A", "B"), ("GL", ""), extra), UTM)

    def test_names_of_a_shapefile_are_short_different_and_come_back(self):
        notes = self.written(self.points(), "a.shp")
        self.assertIn("precision plan as prec_plan, precision height as prec_heigh", notes["names-cut"])
        fields = list(pyogrio.read_info(self.folder / "a.shp")["fields"])
        self.assertEqual(fields, ["name", "code", "prec_plan", "prec_heigh", "date_surve"])
        with open(self.folder / "a.fields.csv", newline="") as stream:
            self.assertEqual(dict(csv.reader(stream))["date_surve"], "date of the survey")
        self.assertEqual(self.read("a.shp", POINTS).thing.extra, self.points().thing.extra)
        (self.folder / "a.fields.csv").write_text("something else\n")
        self.assertIn("prec_plan", self.read("a.shp", POINTS).thing.extra)
        many = {f"{word} of the survey": ("x", "y") for word in ("date", "data", "dale", "dare")}
        self.written(Placed(POINTS, SurveyPoints(self.points().thing.xyz, ("A", "B"), ("", ""), many), UTM), "b.shp")
        fields = list(pyogrio.read_info(self.folder / "b.shp")["fields"])
        self.assertEqual(len({name.lower() for name in fields}), 6)
        self.assertTrue(all(len(name) <= 10 for name in fields))
        self.assertEqual(set(self.read("b.shp", POINTS).thing.extra), set(many))

    def test_files_beside_that_are_somebody_elses_stay(self):
        for name, beside in (("a.shp", "a.dbf"), ("b.shp", "b.fields.csv")):
            (self.folder / beside).write_text("mine")
            with self.assertRaisesRegex(OutputError, f"{beside}: is there"):
                self.written(self.points(), name)
            self.assertEqual((self.folder / beside).read_text(), "mine")
            self.assertFalse((self.folder / name).exists())
        self.written(self.points(), "c.shp")
        self.written(self.points(), "c.shp")

    def test_the_layer_of_a_geojson_is_called_as_its_file(self):
        self.written(self.points(), "spots.geojson")
        self.assertEqual(json.loads((self.folder / "spots.geojson").read_text())["name"], "spots")

    def road(self, *grades: Grade) -> Placed:
        """60 m to the north, a quarter of a circle to the right of radius 30, 20 m to the east."""
        start = straight(FAR[:2], FAR[:2] + [0, 60.0])
        bend = arc(FAR[:2] + [0, 60.0], FAR[:2] + [30, 60.0], FAR[:2] + [30, 90.0], True)
        last = straight(FAR[:2] + [30, 90.0], FAR[:2] + [50, 90.0])
        line = Alignment("Road", 0.0, (start, bend, last), grades)
        xyz = line.flattened(0.01)[0]
        return Placed(LINES, LineSet((Line(xyz, False, "Road", "axis"),), (line,)), UTM)

    def test_an_alignment_keeps_its_arcs_in_a_drawing(self):
        flat = self.road()
        self.assertTrue(exact_in_arcs(flat.thing.alignments[0]))
        notes = self.written(flat, "a.dxf")
        self.assertNotIn("arcs", notes.get("not-held", ""))
        (line,) = ezdxf.readfile(self.folder / "a.dxf").layout("Model").query("LWPOLYLINE")
        corners = list(line.get_points("xyb"))
        near(np.array(corners)[:, :2] - FAR[:2], [[0, 0], [0, 60], [30, 90], [50, 90]], atol=1e-6)
        near([bulge for *_, bulge in corners], [0, -np.tan(np.pi / 8), 0, 0])
        self.assertEqual(line.dxf.layer, "axis")
        back = self.read("a.dxf", LINES).thing.lines[0].xyz[:, :2] - FAR[:2]
        bent = back[(back[:, 0] > 0.01) & (back[:, 1] < 89.99)]
        self.assertGreater(len(bent), 5)
        near(np.hypot(*(bent - [30, 60]).T), np.full(len(bent), 30.0), atol=0.002)
        for ending in ("gpkg", "geojson", "shp"):
            self.assertIn("1 alignments (written as chords): 'Road'", self.written(flat, f"a.{ending}")["not-held"])
        self.assertNotIn("not-held", self.written(flat, "a.xml"))

    def test_an_alignment_with_a_profile_is_drawn_with_its_heights(self):
        tall = self.road(Grade(0, 100.0), Grade(130, 103.0))
        self.assertFalse(exact_in_arcs(tall.thing.alignments[0]))
        self.assertIn("'Road'", self.written(tall, "a.dxf")["not-held"])
        (line,) = ezdxf.readfile(self.folder / "a.dxf").layout("Model").query("POLYLINE")
        self.assertGreater(len(line.vertices), 10)

    def test_models(self):
        corners = np.array([[0.0, 0, 0], [4, 0, 0], [0, 3, 0], [0, 0, 2]])
        cells = np.array([[0, 2, 1], [0, 1, 3], [1, 2, 3], [0, 3, 2]], np.int32)
        model = lambda at: Placed(MODEL, TriangleMesh(corners + at, cells, (Element("Beam", "IfcBeam", 0, 4),)), UTM)  # noqa: E731
        near_by = model(np.zeros(3))
        for ending in ("stl", "ply", "off"):
            self.assertIn("names of 1 elements", self.written(near_by, f"a.{ending}")["not-held"])
        self.assertEqual(self.written(near_by, "a.obj")["not-held"], "OBJ has no place for kinds of elements")
        self.assertFalse((self.folder / "a.origin.csv").exists())
        notes = self.written(model(FAR), "b.stl")
        self.assertIn("written relative to 500000, 5800000, 100 m", notes["moved-origin"])
        self.assertEqual((self.folder / "b.origin.csv").read_text(), "easting,northing,elevation,unit\n500000,5800000,100,m\n")
        near(self.read("b.stl", MODEL).thing.vertices.min(axis=0), FAR, atol=1e-4)

    def test_colours_of_sixteen_bits(self):
        path = self.folder / "a.las"
        las = laspy.create(point_format=2)
        las.header.offsets, las.header.scales = FAR, [0.001] * 3
        las.x, las.y, las.z = np.arange(4.0) + FAR[:, None]
        las.red, las.green, las.blue = [0, 256, 40_000, 65_535], [255, 511, 1, 2], [65_280, 0, 0, 3]
        las.write(path)
        notes = dict(write_cloud(from_stream(open_points(path)), self.folder / "a.e57", silent())[1])
        self.assertIn("8 bits", notes["colour-bits"])
        scan = pye57.E57(str(self.folder / "a.e57")).read_scan(0, colors=True, ignore_missing_fields=True)
        self.assertEqual(scan["colorRed"].tolist(), [0, 1, 156, 255])
        self.assertEqual(scan["colorGreen"].tolist(), [0, 1, 0, 0])
        file = pye57.E57(str(self.folder / "a.e57"))
        self.assertEqual(file.image_file.root()["data3D"][0]["colorLimits"]["colorRedMaximum"].value(), 255)


class OfAJob(CommandLine):
    def test_what_names_no_system_is_written_in_the_jobs(self):
        path = self.folder / "p.csv"
        path.write_text("name,easting (m),northing (m),elevation (m)\nA,380050,5560050,3\n")
        job = Job.create(self.folder / "a.kerb")
        job.execute(holdings.added(job, holdings.import_file(job.folder, job.state, ImportWish(path, name="P"), silent())))
        title = job.state.title
        self.assertEqual(job.thing_to_write(job.state.holdings[0]).reference.wkt, "")
        job.execute(Change("Set", lambda s: replace(s, title=replace(title, reference=UTM.to_json()))))
        self.assertEqual(job.thing_to_write(job.state.holdings[0]).reference.code, "EPSG:25830")
        job.save()
        status, _ = self.kerb("convert", f"{job.folder}#P", self.folder / "p.gpkg")
        self.assertEqual(status, 0, self.error)
        self.assertIn("25830", pyogrio.read_info(self.folder / "p.gpkg")["crs"])
