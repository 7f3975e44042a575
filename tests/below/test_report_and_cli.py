"""Report, tables and command line on a file that is not the demo: what is written is read back."""

import json
from dataclasses import replace

import laspy
import numpy as np
import pypdfium2 as pdfium
import shapely

from kerb.core.errors import FormatError, OutputError
from kerb.demo import yard
from kerb.formats.polygons import read_polygons
from kerb.job.state import Title
from kerb.report.pdf import Chapter, ReportWish, make_report
from kerb.report.text import comma_separated, figures_table, tab_separated, write_csv
from kerb.report.write import write_report
from kerb.studies.outcome import Column, Table
from tests.support import DATA, FAR, YARD, Folder, circle, frustum, jittered, measured, run_kerb, store_of


def text_of(pdf: bytes) -> list[str]:
    document = pdfium.PdfDocument(pdf)
    try:
        return [document[i].get_textpage().get_text_bounded() for i in range(len(document))]
    finally:
        document.close()


class Report(Folder):
    @classmethod
    def setUpClass(cls):
        xy = jittered(13, 0.15)
        cls.store = store_of(np.column_stack([xy, frustum(xy)]) + FAR)
        ring = circle(10.3, 30) + FAR[:2]
        cls.outcome = measured(cls.store, ring, density=1.7, material="Gravel <fine> & co")
        cls.title = Title(name="Saltmarrow & Sons <ferry>", client="Client", site="Yard", analyst="R. Tolland")

    def test_a_heap_with_all_that_was_asked_for(self):
        pages = text_of(make_report([Chapter("Heap 1", self.outcome, self.store)], ReportWish(self.title)))
        self.assertLessEqual(len(pages), 2)
        whole = " ".join(pages).replace("\r\n", " ")
        for words in (
            "Saltmarrow & Sons <ferry>", "R. Tolland", "Heap 1", "Net volume", "Plan area", "yard.laz", "Toe position",
            "constrained Delaunay", "Signature", "Gravel <fine>", "Contours every",
        ):  # fmt: skip
            self.assertIn(words, whole)
        self.assertEqual(whole.count("Signature"), 1)
        number = f"{self.outcome.value('net'):.1f}"
        self.assertIn(number, pages[0])

    def test_several_heaps_have_a_summary_whose_total_adds_up(self):
        """What surveys share, the bias, adds plainly (JCGM 100:2008, 5.2), the rest by root sum of squares: √(0.6² + 2 · 0.04²)."""
        table = replace(self.outcome.tables["uncertainty"], rows=(("Vertical bias", 0.3, ""), ("Toe position", 0.04, "")))
        both = replace(self.outcome, tables={"uncertainty": table})
        chapters = [Chapter(name, both, self.store) for name in ("One", "Two")]
        pages = text_of(make_report(chapters, ReportWish(self.title)))
        self.assertEqual(len(pages), 4, "a summary, a page each, and how the figures were made")
        self.assertIn("Summary", pages[0])
        self.assertIn("Signature", pages[-1])
        self.assertEqual("".join(pages).count("Signature"), 1, "one place to sign")
        total = f"{2 * self.outcome.value('net'):,.1f}".replace(",", "\u2009")
        self.assertIn(total, pages[0])
        self.assertIn("± 0.6 m", pages[0])
        self.assertIn("vertical bias", pages[0])

    def test_warnings_and_null_figures_are_carried(self):
        nothing = measured(self.store, circle(3, 8) + FAR[:2] + 900)
        pages = text_of(make_report([Chapter("Heap", nothing, self.store)], ReportWish(self.title)))
        self.assertIn("Not determinable", pages[0])
        self.assertIn("—", pages[0])

    def test_nothing_is_overwritten_unasked(self):
        path = self.folder / "report.pdf"
        chapters = [Chapter("Heap", self.outcome, self.store)]
        write_report(path, chapters, ReportWish(self.title))
        with self.assertRaisesRegex(OutputError, "report.pdf"):
            write_report(path, chapters, ReportWish(self.title))
        write_report(path, chapters, ReportWish(self.title), force=True)
        with self.assertRaises(OutputError):
            write_report(self.folder / "no" / "report.pdf", chapters, ReportWish(self.title))
        self.assertEqual([p.name for p in self.folder.iterdir()], ["report.pdf"])

    def test_tables_as_text(self):
        table = figures_table(self.outcome)
        rows = [line.split("\t") for line in tab_separated(table).splitlines()]
        net = next(row for row in rows if row[0] == "Net volume")
        self.assertAlmostEqual(float(net[1]), self.outcome.value("net"), places=9)
        nasty = Table("t", (Column("name"), Column("v", "m")), (("=1+1", -2.5), ('a "b", c', None), ("", 0.5)))
        self.assertEqual(comma_separated(nasty), 'name,v (m)\r\n\'=1+1,-2.5\r\n"a ""b"", c",\r\n,0.5\r\n')
        write_csv(nasty, self.folder / "t.csv")
        with self.assertRaises(OutputError):
            write_csv(nasty, self.folder / "t.csv")


class Polygons(Folder):
    def write(self, name, text):
        path = self.folder / name
        path.write_text(text)
        return path

    def test_every_format_gives_the_same_ring(self):
        ring = circle(4, 7) + FAR[:2]
        closed = [*ring.tolist(), ring[0].tolist()]
        feature = {
            "type": "Feature", "properties": {"name": "Heap"}, "geometry": {"type": "Polygon", "coordinates": [closed]},
        }  # fmt: skip
        paths = [
            self.write("a.geojson", json.dumps({"type": "FeatureCollection", "features": [feature]})),
            self.write("b.wkt", shapely.Polygon(ring).wkt),
            self.write("c.csv", "name;northing;easting\n" + "\n".join(f"{i};{y!r};{x!r}" for i, (x, y) in enumerate(ring.tolist()))),
            self.write("d.txt", "# toe\n" + "\n".join(f"{x!r}\t{y!r}\t5.0" for x, y in ring.tolist())),
        ]  # fmt: skip
        import pyogrio

        pyogrio.raw.write(self.folder / "e.gpkg", np.array([shapely.to_wkb(shapely.Polygon(ring))]), [np.array(["Heap"])],
                          ["name"], geometry_type="Polygon", crs="EPSG:25830")  # fmt: skip
        for path in [*paths, self.folder / "e.gpkg"]:
            with self.subTest(path.suffix):
                self.assertLess(np.abs(read_polygons(path)[0].xy - ring).max(), 1e-6)

    def test_what_is_no_polygon_names_file_and_reason(self):
        for name, content, words in (
            ("a.geojson", '{"type": "FeatureColl', "a.geojson"), ("b.txt", "1 2\nthree four\n", "vertex 2"),
            ("c.wkt", "POLYGON ((0 0, 1", "WKT"), ("d.csv", "", "no vertices"), ("e.txt", "1 nan\n2 3\n4 5", "not a number"),
            ("f.geojson", '{"type":"FeatureCollection","features":[]}', "no polygon"),
        ):  # fmt: skip
            with self.subTest(name), self.assertRaisesRegex(FormatError, words):
                read_polygons(self.write(name, content))


class Verbs(Folder):
    def kerb(self, *words):
        return run_kerb(*words)

    def toes(self):
        features = [
            {"type": "Feature", "properties": {"name": heap.name},
             "geometry": {"type": "Polygon", "coordinates": [[*heap.toe().tolist(), heap.toe()[0].tolist()]]}}
            for heap in yard.HEAPS
        ]  # fmt: skip
        path = self.folder / "toes.geojson"
        path.write_text(json.dumps({"type": "FeatureCollection", "features": features}))
        return path

    def test_info_tells_what_other_readers_found(self):
        """Counts and bounds as in ../shared/data/README.md, read there by an independent library."""
        status, out, _ = self.kerb("info", DATA / "airborne_feet.laz", "--json", "-")
        self.assertEqual(status, 0)
        data = json.loads(out)
        self.assertEqual((data["unit"], data["figures"]["count"]["value"]), ("ft", 110_000))
        self.assertEqual([tuple(row[::2]) for row in data["tables"]["classes"]["rows"]], [(1, 83_893), (2, 26_107)])
        self.assertAlmostEqual(data["figures"]["low_e"]["value"], 636_001.76)
        self.assertAlmostEqual(data["figures"]["high_z"]["value"], 520.51)
        self.assertEqual(len(data["tables"]["returns"]["rows"]), 4)
        codes = [note["code"] for note in json.loads(self.kerb("info", DATA / "small.copc.laz", "--json", "-")[1])["warnings"]]
        self.assertIn("unit-conflict", codes)

    def test_info_sees_what_is_odd(self):
        las = laspy.read(DATA / "simple1_1.las")
        x = np.array(las.x)
        x[0] += 2_000_000
        las.x = x
        array = las.points.array
        array[5] = array[6]
        las.write(self.folder / "odd.las")
        raw = bytearray((self.folder / "odd.las").read_bytes())
        raw[179:187] = np.float64(1.0).tobytes()
        (self.folder / "odd.las").write_bytes(raw)
        notes = {n["code"] for n in json.loads(self.kerb("info", self.folder / "odd.las", "--json", "-")[1])["warnings"]}
        self.assertLessEqual({"crs-missing", "far-points", "duplicate-points", "header-bounds"}, notes)

    def test_convert_filters_and_units(self):
        out = self.folder / "ground.laz"
        self.assertEqual(self.kerb("convert", DATA / "airborne_feet.laz", out, "--classes", "2", "--every", "1")[0], 0)
        las = laspy.read(out)
        self.assertEqual((len(las), set(np.unique(las.classification).tolist())), (26_107, {2}))
        self.assertEqual(self.kerb("convert", DATA / "airborne_feet.laz", out, "--classes", "2")[0], 2)
        self.assertEqual(self.kerb("convert", DATA / "airborne_feet.laz", out, "--every", "10", "--force")[0], 0)
        self.assertEqual(len(laspy.read(out)), 11_000)
        metric = self.folder / "metric.las"
        self.kerb("convert", DATA / "airborne_feet.laz", metric, "--unit", "m")
        self.assertAlmostEqual(laspy.read(metric).x.min(), 636_001.76 * 0.3048, places=4)
        thin = self.folder / "thin.las"
        self.kerb("convert", YARD, thin, "--spacing", "2.0")
        cells = np.floor(np.asarray(laspy.read(thin).xyz) / 2.0).astype(int)
        self.assertEqual(len(np.unique(cells, axis=0)), len(cells))
        ring = self.folder / "ring.wkt"
        ring.write_text(shapely.box(*(yard.ORIGIN + 10), *(yard.ORIGIN + 60)).wkt)
        inside = self.folder / "inside.las"
        self.kerb("convert", YARD, inside, "--within", ring)
        x = np.asarray(laspy.read(inside).x)
        self.assertTrue(np.all((x >= yard.ORIGIN[0] + 10) & (x <= yard.ORIGIN[0] + 60)))

    def test_convert_to_another_system(self):
        """pyproj does it itself on the same points."""
        import pyproj

        out = self.folder / "utm31.las"
        self.assertEqual(self.kerb("convert", DATA / "airborne_2154.laz", out, "--to-crs", "EPSG:25831")[0], 0)
        source, got = laspy.read(DATA / "airborne_2154.laz"), laspy.read(out)
        want = pyproj.Transformer.from_crs(2154, 25831, always_xy=True).transform(source.x, source.y)
        self.assertLess(np.abs(np.sort(want[0]) - np.sort(got.x)).max(), 0.001)
        self.assertEqual(got.header.parse_crs().to_epsg(), 25831)

    def test_stockpile_json_and_report(self):
        toe = f"{self.toes()}#{yard.HEAPS[1].name}"
        pdf, js = self.folder / "heap.pdf", self.folder / "heap.json"
        words = (
            "stockpile", YARD, "--toe", toe, "--density", "1.6", "--classes", "2", "--json", js, "--report", pdf,
        )  # fmt: skip
        status, out, err = self.kerb(*words)
        self.assertEqual((status, err), (0, ""))
        data = json.loads(js.read_text())
        self.assertEqual(data["study"], "stockpile")
        self.assertEqual(data["crs"], "EPSG:25830")
        self.assertAlmostEqual(data["figures"]["net"]["value"] / yard.HEAPS[1].volume, 1.0, delta=0.02)
        self.assertEqual(data["inputs"][0]["role"], "compared")
        self.assertIn("Net volume", text_of(pdf.read_bytes())[0])
        self.assertIn("m³", out)
        self.assertEqual(self.kerb(*words)[0], 2)

    def test_a_library_that_panics_adds_no_lines(self):
        """In a process of its own, with the real standard error: one line, whatever lazrs prints."""
        import subprocess
        import sys

        data = bytearray((DATA / "airborne_2154.laz").read_bytes())
        data[4000:] = bytes(np.random.default_rng(2).integers(0, 256, len(data) - 4000, np.uint8))
        broken = self.folder / "broken.laz"
        broken.write_bytes(data)
        ended = subprocess.run([sys.executable, "-m", "kerb", "info", str(broken)], capture_output=True, text=True, check=False)
        self.assertEqual((ended.returncode, ended.stdout), (2, ""))
        self.assertEqual(ended.stderr.count("\n"), 1, ended.stderr)
        self.assertIn("broken.laz", ended.stderr)

    def test_unusable_input_is_one_line_and_status_2(self):
        toes = self.toes()
        for words in (
            ("info", self.folder / "none.laz"), ("info", DATA / "licences" / "laspy.txt"),
            ("stockpile", YARD, "--toe", toes), ("stockpile", YARD, "--toe", f"{toes}#nobody"),
            ("stockpile", YARD, "--toe", f"{toes}#{yard.HEAPS[0].name}", "--base", "level"),
            ("convert", YARD, YARD, "--force"), ("convert", YARD, self.folder / "out.gpkg"),
            ("convert", YARD, self.folder / "out.las", "--classes", "99"),
            ("add", self.folder / "job", YARD),
        ):  # fmt: skip
            with self.subTest(words[0]):
                status, out, err = self.kerb(*words)
                self.assertEqual((status, out), (2, ""))
                self.assertEqual(err.count("\n"), 1)
        self.assertEqual(self.kerb("stockpile", YARD)[0], 2)
        self.assertEqual([p.name for p in self.folder.iterdir()], ["toes.geojson"])
