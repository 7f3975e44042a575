"""The verbs info, convert, add and stockpile on files of every kind, as a script calls them."""

import json
import os
import subprocess
import sys

import ezdxf
import laspy
import numpy as np
import rasterio

from kerb.demo import yard
from kerb.demo.files import control
from kerb.job.job import Job
from tests.support import DATA, YARD, CommandLine, demo_files, near


class Verbs(CommandLine):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.files = demo_files()


class Info(Verbs):
    def test_a_model(self):
        """house.ifc: 51 beams of 4.2358 m³ together (facts in tests/data, read by an independent library)."""
        found = self.json("info", DATA / "house.ifc")
        beams = [row for row in found["tables"]["elements"]["rows"] if row[1] == "IfcBeam"]
        self.assertEqual(len(beams), 51)
        self.assertAlmostEqual(sum(row[3] for row in beams), 4.2358, places=4)
        self.assertFalse(found["figures"]["closed"]["value"])
        self.assertIsNone(found["figures"]["volume"]["value"])
        self.assertIn("not-closed", [note["code"] for note in found["warnings"]])
        box = self.json("info", self.files["harbour-office.obj"])
        self.assertTrue(box["figures"]["closed"]["value"])
        self.assertEqual(box["figures"]["triangles"]["value"], 192)
        self.assertGreater(box["figures"]["volume"]["value"], 100)

    def test_meshes_count_once_and_surfaces_together(self):
        """A PLY is a mesh and could be a cloud of its vertices; of two surfaces in a LandXML file all figures are sums."""
        flat = "v 0 0 0\nv 4 0 0\nv 4 3 0\nv 0 3 0\nf 1 2 3 4\n"
        (self.folder / "a.obj").write_text(flat)
        self.json("convert", self.folder / "a.obj", self.folder / "a.ply")
        found = self.json("info", self.folder / "a.ply")
        figures = {name: figure["value"] for name, figure in found["figures"].items()}
        self.assertEqual((figures["count"], figures["triangles"], figures["plan_area"]), (2, 2, 12.0))
        self.assertEqual([row[0] for row in found["tables"]["contents"]["rows"]], ["model", "cloud"])
        self.assertEqual([note["code"] for note in found["warnings"]].count("not-closed"), 1)
        points = '<P id="1">0 0 1</P><P id="2">0 4 1</P><P id="3">{} 0 1</P>'
        surface = (
            '<Surface name="{}"><Definition surfType="TIN"><Pnts>{}</Pnts><Faces><F>1 2 3</F></Faces></Definition></Surface>'
        )
        both = "".join(surface.format(name, points.format(size)) for name, size in (("S", 3), ("T", 6)))
        (self.folder / "two.xml").write_text(
            '<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2"><Units><Metric linearUnit="meter"/></Units>'
            f"<Surfaces>{both}</Surfaces></LandXML>"
        )
        figures = self.json("info", self.folder / "two.xml")["figures"]
        self.assertEqual([figures[n]["value"] for n in ("triangles", "plan_area", "surface_area")], [2, 18.0, 18.0])

    def test_drawings_points_grids_and_clouds(self):
        drawing = self.json("info", DATA / "recover01.dxf")
        self.assertEqual(drawing["figures"]["lines"]["value"], 1441)
        self.assertIn("mended", [note["code"] for note in drawing["warnings"]])
        points = self.json("info", self.files["control.csv"])
        self.assertEqual((points["figures"]["points"]["value"], points["unit"]), (10, "m"))
        self.assertEqual(dict(points["tables"]["codes"]["rows"]), {"CHECK": 3, "CONTROL": 7})
        grid = self.json("info", self.files["terrain.tif"])
        self.assertEqual((grid["figures"]["cells"]["value"], grid["crs"]), (40_000, "EPSG:25830"))
        road = self.json("info", self.files["access-road.xml"])
        name, start, end = road["tables"]["alignments"]["rows"][0][:3]
        self.assertEqual((name, start), ("Access road", 0.0))
        self.assertAlmostEqual(end, 190.0, places=6)
        self.assertEqual(self.json("info", DATA / "bunnyFloat.e57")["figures"]["count"]["value"], 30_571)
        for name in ("recover01.dxf", "bunnyFloat.e57"):
            status, out = self.kerb("info", DATA / name)
            self.assertEqual((status, name in out), (0, True))
        for name in ("malformed.obj", "justxml.e57"):
            self.assertEqual(self.kerb("info", DATA / name), (2, ""))
            self.assertIn(name, self.error)


class Convert(Verbs):
    def test_between_formats_units_and_systems(self):
        out = self.folder / "c.dxf"
        found = self.json("convert", self.files["control.csv"], out, "--unit", "us-ft")
        self.assertEqual((found["unit"], found["figures"]["count_out"]["value"]), ("us-ft", 10))
        drawing = ezdxf.readfile(out)
        self.assertEqual(drawing.header["$INSUNITS"], 21)
        first = next(iter(drawing.layout("Model").query("POINT"))).dxf.location
        np.testing.assert_allclose(tuple(first), control().xyz[0] * 3937 / 1200, rtol=1e-12)
        feet = self.folder / "t.tif"
        self.json("convert", self.files["terrain.tif"], feet, "--unit", "ft")
        with rasterio.open(feet) as file:
            self.assertAlmostEqual(file.transform.a, 2 / 0.3048)
        moved = self.folder / "o.ply"
        self.json("convert", self.files["harbour-office.obj"], moved)
        self.assertEqual(self.json("info", moved)["figures"]["triangles"]["value"], 192)
        cloud = self.folder / "y.e57"
        self.json("convert", YARD, cloud, "--every", "50")
        back = self.folder / "y.laz"
        self.json("convert", cloud, back)
        truth = np.asarray(laspy.read(YARD).xyz)[::50]
        near(np.asarray(laspy.read(back).xyz), truth, atol=1e-3)

    def test_what_cannot_be_is_said(self):
        for words in (
            ("convert", self.files["control.csv"], self.folder / "x.obj"),
            ("convert", self.files["control.csv"], self.files["yard-lines.dxf"], self.folder / "x.dxf"),
            ("convert", self.files["terrain.tif"], self.folder / "x.tif", "--every", "2"),
            ("convert", self.files["control.csv"], self.folder / "x.dxf", "--to-crs", "EPSG:2229"),
            ("info", self.files["README.txt"]),
        ):
            self.assertEqual(self.kerb(*words), (2, ""), words[1])
            self.assertEqual(self.error.count("\n"), 1)
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_a_stated_system_is_transformed(self):
        out = self.folder / "x.csv"
        words = ("--crs", "EPSG:25830", "--to-crs", "EPSG:32630")
        found = self.json("convert", self.files["control.csv"], out, *words)
        self.assertEqual(found["crs"], "EPSG:32630")
        table = np.genfromtxt(out, delimiter=",", skip_header=1, usecols=(1, 2, 3))
        near(table, control().xyz, atol=0.6)


class Add(Verbs):
    def test_a_job_from_everything_with_the_place_check(self):
        job = self.folder / "all.kerb"
        names = ("control.csv", "control-us-feet.csv", "access-road.xml", "harbour-office.obj", "control-swapped.csv")
        found = self.json("add", job, YARD, *(self.files[name] for name in names), "--epoch", "2026-03-12", "--seen")
        kinds = [row[1] for row in found["tables"]["holdings"]["rows"]]
        self.assertEqual(kinds, ["cloud", "points", "points", "surface", "lines", "model", "points"])
        codes = [note["code"] for note in found["warnings"]]
        self.assertEqual((codes.count("swapped"), codes.count("local")), (1, 1))
        opened = Job.open(job)
        feet = opened.thing(opened.state.holding("control-us-feet")).thing
        near(feet.xyz, control().xyz, atol=1e-3)
        self.assertEqual({holding.epoch for holding in opened.state.holdings}, {"2026-03-12"})
        swapped = opened.state.holding("control-swapped")
        self.assertIn("swapped", dict(swapped.notes))

    def test_thinned_and_stated(self):
        job = self.folder / "thin.kerb"
        self.json("add", job, DATA / "simple1_1.las", "--unit-in", "ft", "--every", "5")
        opened = Job.open(job)
        self.assertEqual((opened.state.title.unit, opened.state.holdings[0].points), ("ft", 213))
        self.assertIn("one of every 5 points", opened.state.holdings[0].steps[-1])
        other = self.folder / "crs.kerb"
        self.json("add", other, DATA / "extrabytes.las", "--crs", "EPSG:2993")
        self.assertEqual(Job.open(other).state.title.reference_system().code, "EPSG:2993")


class Stockpile(Verbs):
    def test_on_a_design_surface_and_inside_a_drawn_line(self):
        """Heap 2 of the demo over the ground it was generated on: closed form within its stated bound."""
        heap = yard.HEAPS[1]
        toe = self.folder / "toe.txt"
        np.savetxt(toe, heap.toe(40, 0.6), fmt="%.3f")
        found = self.json(
            "stockpile", YARD, "--toe", toe, "--base", "surface", "--base-surface", self.files["terrain.tif"], "--classes", "2"
        )
        net = found["figures"]["net"]
        self.assertLess(abs(net["value"] - heap.volume), max(net["u95"], 0.01 * heap.volume))
        self.assertIn("placed", [note["code"] for note in found["warnings"]])
        bay = self.json("stockpile", YARD, "--toe", f"{self.files['yard-lines.dxf']}#BAY 1", "--classes", "2")
        self.assertAlmostEqual(bay["figures"]["plan_area"]["value"], 784.0, delta=2.0)


class Held(CommandLine):
    """What a job holds is an input like any file."""

    def setUp(self):
        super().setUp()
        self.job = self.folder / "one.kerb"
        self.assertEqual(self.kerb("add", self.job, YARD)[0], 0, self.error)
        self.assertEqual(Job.open(self.job).state.title.name, self.job.stem)
        self.name = f"{self.job}#{YARD.stem}"

    def test_a_cloud_is_described_and_converted(self):
        want, got = self.json("info", YARD)["figures"], self.json("info", self.name)["figures"]
        for key in ("count", "low_e", "high_n", "high_z"):
            self.assertAlmostEqual(got[key]["value"], want[key]["value"], places=6, msg=key)
        out = self.folder / "out.las"
        found = self.json("convert", self.name, out)
        self.assertEqual(found["figures"]["count_out"]["value"], want["count"]["value"])
        one, two = laspy.read(YARD), laspy.read(out)
        rows = [np.lexsort(np.array(las.xyz).T) for las in (one, two)]
        for name in ("classification", "intensity", "return_number"):
            np.testing.assert_array_equal(np.asarray(two[name])[rows[1]], np.asarray(one[name])[rows[0]], name)
        both = self.json("convert", self.name, YARD, self.folder / "both.laz")
        self.assertEqual(both["figures"]["count_out"]["value"], 2 * want["count"]["value"])

    def test_what_is_not_there_is_said(self):
        for verb in (("info", f"{self.job}#no"), ("convert", f"{self.job}#no", self.folder / "x.las")):
            status, _ = self.kerb(*verb)
            self.assertEqual(status, 2)
            self.assertIn(f"there are: {YARD.stem}", self.error)

    def test_lines_of_a_job(self):
        area = self.folder / "area.geojson"
        area.write_text(json.dumps({"type": "Polygon", "coordinates": [[[0, 0], [9, 0], [9, 9], [0, 0]]]}))
        self.assertEqual(self.kerb("add", self.job, area, "--seen")[0], 0, self.error)
        self.assertEqual(self.json("info", f"{self.job}#area")["figures"]["count"]["value"], 1)
        self.json("convert", f"{self.job}#area", self.folder / "area.dxf")
        self.assertTrue((self.folder / "area.dxf").exists())


class Added(CommandLine):
    def table(self, name, shift=(0.0, 0.0), swap=False):
        rng = np.random.default_rng(len(name))
        xyz = rng.uniform(0, 60, (300, 3)) + [500_000 + shift[0], 5_800_000 + shift[1], 10]
        path = self.folder / name
        np.savetxt(path, xyz[:, [1, 0, 2]] if swap else xyz, fmt="%.3f")
        return path

    def test_a_unit_that_only_the_first_is_told(self):
        # Numbers of a later one that says nothing are taken for those of the job, and it is told which.
        plain = self.folder / "plain.kerb"
        for number, options in enumerate((("--unit", "us-ft"), ())):
            self.json("add", plain, self.table(f"{number}.xyz"), *options)
        first, later = Job.open(plain).state.holdings
        self.assertNotIn("crs-missing", dict(first.notes))
        self.assertIn("those of the job, US survey feet", dict(later.notes)["crs-missing"])

    def test_an_alarm_stops_it_and_nothing_of_the_file_stays(self):
        job = self.folder / "one.kerb"
        self.assertEqual(self.kerb("add", job, self.table("a.xyz"), self.table("b.xyz"))[0], 0, self.error)
        before = sorted(path.name for path in (job / "data").iterdir())
        turned = self.table("turned.xyz", swap=True)
        status, _ = self.kerb("add", job, turned)
        self.assertEqual(status, 2)
        for word in ("turned.xyz", "swapped", "--seen", "--exchange", "--crs"):
            self.assertIn(word, self.error)
        self.assertEqual(self.error.strip().count("\n"), 0)
        self.assertEqual(sorted(path.name for path in (job / "data").iterdir()), before)
        self.assertEqual(len(Job.open(job).state.holdings), 2)
        found = self.json("add", job, turned, "--exchange")
        row = found["tables"]["holdings"]["rows"][0]
        self.assertAlmostEqual(row[3], 500_000, delta=2)
        self.assertAlmostEqual(row[4], 5_800_000, delta=2)


class Streams(CommandLine):
    def run_it(self, *words, to=subprocess.PIPE, **more):
        env = {**os.environ, "LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0", **more}
        command = [sys.executable, "-m", "kerb", *map(str, words)]
        return subprocess.run(command, stdout=to, stderr=subprocess.PIPE, env=env, check=False)

    def test_an_ascii_terminal_a_full_disk_and_names_that_are_not_text(self):
        plain = self.run_it("info", YARD)
        self.assertEqual((plain.returncode, plain.stderr), (0, b""))
        self.assertIn(b"points", plain.stdout)
        self.assertTrue(plain.stdout.isascii())
        for words in (("info", YARD), ("info", YARD, "--json", "-")):
            with open("/dev/full", "wb") as full:
                ended = self.run_it(*words, to=full)
            self.assertEqual(ended.returncode, 2)
            self.assertEqual(ended.stderr, b"kerb: standard output: No space left on device\n")
        odd = os.fsencode(self.folder) + b"/odd\xff.laz"
        with open(odd, "wb") as copy:
            copy.write(YARD.read_bytes())
        ended = self.run_it("info", os.fsdecode(odd))
        self.assertEqual((ended.returncode, ended.stderr), (0, b""))

    def test_degrees_are_no_metres(self):
        area = self.folder / "area.geojson"
        area.write_text(json.dumps({"type": "LineString", "coordinates": [[8, 50], [9, 51]]}))
        found = self.json("info", area)["figures"]
        self.assertEqual((found["low_e"]["value"], found["low_e"]["unit"]), (8.0, "deg"))
        self.assertIsNone(found["total_length"]["value"])


class Beside(CommandLine):
    def test_several_write_one_stem_at_once(self):
        names = [f"yard.{kind}" for kind in ("las", "laz", "ply", "csv", "xyz", "gpkg")]
        area = self.folder / "area.geojson"
        area.write_text(json.dumps({"type": "LineString", "coordinates": [[8, 50], [9, 51]]}))
        commands = [
            [sys.executable, "-m", "kerb", "convert", str(area if name.endswith("gpkg") else YARD), str(self.folder / name)]
            for name in names
        ]
        running = [subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE) for command in commands]
        said = [process.communicate()[1] for process in running]
        self.assertEqual([process.returncode for process in running], [0] * len(names), said)
        self.assertTrue(all((self.folder / name).stat().st_size for name in names))
        self.assertEqual([path.name for path in self.folder.iterdir() if "partial" in path.name], [])

    def test_what_a_killed_one_left_is_swept_and_what_a_living_one_writes_is_not(self):
        dead = subprocess.Popen([sys.executable, "-c", ""])
        dead.wait()
        left = self.folder / f".out.{dead.pid}-1.partial.las"
        mine = self.folder / f".out.{os.getpid()}-999.partial.las"
        other = self.folder / f".outer.{dead.pid}-1.partial.las"
        long_ago = self.folder / f".long.{dead.pid}-1.partial.las"
        for path in (left, mine, other, long_ago):
            path.write_bytes(b"half")
        os.utime(long_ago, (1e9, 1e9))
        self.json("convert", YARD, self.folder / "out.las")
        self.assertFalse(left.exists())
        self.assertTrue(mine.exists())
        # Of another name it may be one that a process of another machine writes in a shared folder.
        self.assertTrue(other.exists())
        self.assertFalse(long_ago.exists())
