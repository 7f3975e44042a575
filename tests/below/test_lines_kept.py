"""Lines, alignments and texts through units, transformations and files: nothing is lost without a word."""

from dataclasses import replace

import ezdxf
import laspy
import numpy as np
import pyogrio
import shapely

from kerb.core.cloud.outgoing import from_stream
from kerb.core.errors import InputError
from kerb.core.geometry.alignment import Alignment, Grade, straight
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.placing import TRANSFORM, Placing
from kerb.core.progress import silent
from kerb.core.reference import from_text, local_grid
from kerb.core.things import LINES, POINTS, Placed, relocated
from kerb.core.units import METRE
from kerb.formats.areas import read_areas
from kerb.formats.landxml_read import read_landxml
from kerb.formats.landxml_write import LandXmlContent, write_landxml
from kerb.formats.points import open_points
from kerb.formats.vector import read_features, write_layers
from kerb.formats.write_things import write_cloud, write_thing
from kerb.studies.drawn import Drawn
from kerb.studies.scope import Scope
from kerb.studies.sections.kind import write as write_sections
from kerb.studies.sections.run import run as run_sections
from kerb.studies.sections.setup import SectionsSetup
from tests.support import CommandLine, Folder, near, sources_of, store_of

UTM, FEET = from_text("EPSG:32630"), from_text("EPSG:2263")
# New York in both: UTM zone 18 in metres, and the state's plane in US survey feet.
NEW_YORK = from_text("EPSG:32618")


class Alignments(Folder):
    def kept(self, *alignments: Alignment) -> LineSet:
        return LineSet(tuple(Line(a.flattened(0.01)[0], False, a.name, "alignments") for a in alignments), alignments)

    def test_stations_change_their_unit_with_a_transformation(self):
        line = Alignment("haul road", 100.0, (straight(np.array([585_000.0, 4_512_000.0]), np.array([585_300.0, 4_512_000.0])),),
                         (Grade(100.0, 5.0), Grade(400.0, 8.0)), equations=((200.0, 1000.0),))  # fmt: skip
        item = Placed(LINES, LineSet((Line(line.flattened(0.01)[0], False, "haul road", "alignments"),), (line,)), NEW_YORK)
        seen = relocated(item, Placing(TRANSFORM, NEW_YORK, FEET)).thing.alignments[0]
        feet = 3937 / 1200
        near(seen.marks, np.array([100.0, 400.0]) * feet, 1e-6)
        self.assertEqual([round(g.station / feet, 6) for g in seen.profile], [100.0, 400.0])
        near(np.array(seen.equations[0]) / feet, [200.0, 1000.0], 1e-9)
        self.assertAlmostEqual(float(seen.elevation(np.array([250.0 * feet]))[0]), 6.5 * feet, delta=0.02)
        # Stations of the design through the file: lengths on the map of another zone differ from them.
        self.assertGreater(abs(seen.length - 300 * feet), 0.01)
        path = self.folder / "feet.xml"
        write_landxml(path, LandXmlContent(lines=self.kept(seen)), FEET)
        again = read_landxml(path).alignments[0]
        near(again.marks[[0, -1]], seen.marks, 1e-6, "an element alone is written as two halves")
        many = Alignment("cut", 0.0, tuple(straight(np.array([x, 0.0]), np.array([x + 50.0, 0.0])) for x in (0.0, 50.0, 100.0)),
                         stations=(0.0, 50.02, 100.04, 150.06))  # fmt: skip
        write_landxml(path, LandXmlContent(lines=self.kept(many)), local_grid(METRE))
        near(read_landxml(path).alignments[0].marks, many.marks, 1e-9)
        path.write_text(path.read_text().replace('staStart="50.02"', 'staStart="5000"'))
        found = read_landxml(path)
        self.assertEqual(found.alignments[0].stations, ())
        self.assertIn("stations", dict(found.notes))

    def test_a_start_with_many_decimals_keeps_its_first_vertex(self):
        start = 100.0 / 0.3048
        line = Alignment(
            "L", start, (straight(np.zeros(2), np.array([200.0, 0])), straight(np.array([200.0, 0]), np.array([200.0, 494.9])))
        )
        xyz, stations = line.flattened(0.01)
        near(xyz[:, :2], [[0, 0], [200, 0], [200, 494.9]])
        self.assertEqual((stations[0], stations[-1]), (start, line.end_station))

    def test_irregular_lines_of_an_alignment_are_read(self):
        path = self.folder / "i.xml"
        write_landxml(path, LandXmlContent(lines=self.kept(Alignment("A", 0.0, (straight(np.zeros(2), np.array([200.0, 0])),)))),
                      local_grid(METRE))  # fmt: skip
        text = path.read_text()
        more = "<IrregularLine><Start>0 200</Start><End>0 300</End><PntList2D>0 200 30 240 0 300</PntList2D></IrregularLine></CoordGeom>"
        path.write_text(text.replace("</CoordGeom>", more))
        self.assertAlmostEqual(read_landxml(path).alignments[0].length, 200 + 50 + np.hypot(30, 60))
        path.write_text(text.replace("</CoordGeom>", more.replace("<PntList2D>0 200 30 240 0 300</PntList2D>", "")))
        self.assertAlmostEqual(read_landxml(path).alignments[0].length, 300)

    def test_two_of_one_name_are_asked_for(self):
        rng = np.random.default_rng(1)
        cloud = store_of(np.column_stack([rng.uniform(0, 60, (4000, 2)), np.zeros(4000)]))
        two = tuple(Alignment("kerb", 0.0, (straight(np.array([5.0, y]), np.array([55.0, y])),)) for y in (10.0, 40.0))
        sources = sources_of(cloud, along=Placed(LINES, LineSet((), two), local_grid(METRE)))
        setup = SectionsSetup(cloud=Scope("cloud"), along="along", which="kerb")
        with self.assertRaisesRegex(InputError, r"2 lines 'kerb'; say which: kerb \(1\), kerb \(2\)"):
            setup.alignment(sources)
        self.assertIs(replace(setup, which="kerb (2)").alignment(sources), two[1])

    def test_a_section_along_writes_what_the_series_writes(self):
        rng = np.random.default_rng(2)
        cloud = store_of(np.column_stack([rng.uniform(0, 60, (9000, 2)), np.zeros(9000)]))
        line = Alignment("road", 0.0, (straight(np.array([5.0, 30.0]), np.array([55.0, 30.0])),), equations=((20.0, 1000.0),))
        sources = sources_of(cloud, along=Placed(LINES, LineSet((), (line,)), local_grid(METRE)))
        out = run_sections(SectionsSetup(cloud=Scope("cloud"), along="along", way="along", step=1.0), sources, silent())
        written = [row[0] for row in out.tables["line"].rows]
        self.assertEqual([min(w for w in written if w >= 1000), max(written)], [1001.0, 1029.0])
        self.assertLess(max(w for w in written if w < 1000), 20.0)


class Drawings(CommandLine):
    def lines(self, *lines: Line, **more) -> Placed:
        return Placed(LINES, LineSet(lines, **more), local_grid(METRE))

    def drawn(self, item: Placed, **more):
        notes = dict(write_thing(item, self.folder / "a.dxf", silent(), **more))
        document = ezdxf.readfile(self.folder / "a.dxf")
        self.assertFalse(document.audit().has_errors)
        return document, notes

    def test_lines_of_one_name_and_unknown_elevations(self):
        straights = [straight(np.array([0.0, y]), np.array([9.0, y])) for y in (0.0, 5.0)]
        two = tuple(Alignment("kerb", 0.0, (one,)) for one in straights)
        lines = [Line(one.flattened(0.01)[0], False, "kerb", "alignments") for one in two]
        other = Line(np.array([[0.0, 8, 1], [9, 8, 2]]), False, "kerb", "walls")
        document, _ = self.drawn(self.lines(*lines, other, alignments=two))
        found = [e.get_points("xy") for e in document.modelspace().query("LWPOLYLINE")]
        self.assertEqual([[round(float(y), 9) for _, y in places] for places in found], [[0.0, 0.0], [5.0, 5.0]])
        self.assertEqual(len(document.modelspace().query("POLYLINE")), 1, "a wall of the same name is itself")
        holed = Line(np.array([[0.0, 0, 1], [1, 0, 2], [2, 0, np.nan], [3, 0, 4], [4, 0, 5]]), False, "crest", "edges")
        document, notes = self.drawn(self.lines(holed, Line(np.array([[0.0, 0, np.nan], [1, 1, np.nan]]))))
        spatial = [[tuple(v.dxf.location) for v in e.vertices] for e in document.modelspace().query("POLYLINE")]
        self.assertEqual(spatial, [[(0, 0, 1), (1, 0, 2)], [(3, 0, 4), (4, 0, 5)]])
        self.assertIn("'crest' (1 of 5)", notes["pieces"])
        self.assertIn("1 lines have no elevation", notes["no-elevation"])

    def test_layers_style_and_extents_are_defined(self):
        points = SurveyPoints(
            np.array([[0.0, 0, 4.25], [20, 0, np.nan], [20, 10, 5]]) + [1000, 2000, 0], ("1", "2", "3"), ("GL",) * 3
        )
        from kerb.formats.dxf_write import Texts

        document, notes = self.drawn(Placed(POINTS, points, local_grid(METRE)), texts=Texts(decimals=2))
        self.assertIn("1 points have no elevation", notes["no-elevation"])
        texts = {(t.dxf.text, round(t.dxf.height, 3), t.dxf.style) for t in document.modelspace().query("TEXT")}
        self.assertEqual(texts, {("4.25", 2.0, "SURVEY"), ("5.00", 2.0, "SURVEY")})
        self.assertIn("GL", document.layers)
        self.assertEqual(tuple(document.header["$EXTMAX"])[:2], (1020.0, 2010.0))
        used = {entity.dxf.layer for entity in document.modelspace()}
        self.assertTrue(all(name in document.layers for name in used))

    def test_levels_stations_and_labels_are_in_the_drawings_of_studies(self):
        mound = self.folder / "mound.csv"
        grid = np.stack(np.meshgrid(np.arange(0, 20.1, 0.5), np.arange(0, 20.1, 0.5)), -1).reshape(-1, 2)
        z = 10 * np.exp(-(np.hypot(*(grid - 10).T) ** 2) / 60)
        np.savetxt(mound, np.column_stack([grid, z]), fmt="%.4f", delimiter=",", header="e,n,z", comments="")
        out = self.folder / "c.dxf"
        self.kerb("contours", str(mound), "--interval", "1", "--out", str(out), "--unit", "m")
        labels = ezdxf.readfile(out).modelspace().query('TEXT[layer=="contour levels"]')
        self.assertTrue(labels and all(float(label.dxf.text) == float(label.dxf.insert[2]) for label in labels))
        out = self.folder / "s.dxf"
        self.kerb("spots", str(mound), "--spacing", "5", "--out", str(out), "--unit", "m")
        texts = ezdxf.readfile(out).modelspace().query("TEXT")
        self.assertTrue(texts and all(abs(float(t.dxf.text) - t.dxf.insert[2]) < 5e-4 for t in texts))
        cloud = store_of(np.column_stack([grid, z]))
        points = Placed(POINTS, SurveyPoints(np.array([[10.0, 10.0, 10.0]]), ("top",), ("",)), local_grid(METRE))
        sources = sources_of(cloud, points=points)
        setup = SectionsSetup(
            cloud=Scope("cloud"), points="points", line=Drawn.of(np.array([[0.0, 10.0], [20.0, 10.0]])), interval=10.0
        )
        outcome = run_sections(setup, sources, silent())
        notes = dict(write_sections(setup, outcome, sources, {"out": self.folder / "x.geojson"}))
        self.assertIn("1 survey points", notes["no-points"])
        write_sections(setup, outcome, sources, {"out": self.folder / "x.dxf"})
        names = {t.dxf.text for t in ezdxf.readfile(self.folder / "x.dxf").modelspace().query('TEXT[layer=="section names"]')}
        self.assertTrue(any(name.startswith("0+010.00") for name in names), names)


class Tables(Folder):
    def test_columns_called_id_and_description_and_numbers_come_back(self):
        shapes = np.array([shapely.Point(1, 2, 3), shapely.Point(4, 5, 6)], object)
        columns = {"name": ["A", "B"], "id": np.array([7, 9]), "code": ["x", "y"], "description": ["old", "new"],
                   "depth": np.array([0.5, 2.25]), "mark": ["007", "12"]}  # fmt: skip
        write_layers(self.folder / "p.gpkg", [("points", shapes, columns)], UTM)
        points = read_features(self.folder / "p.gpkg")[0]
        self.assertEqual(
            points.extra, {"id": ("7", "9"), "description": ("old", "new"), "depth": ("0.5", "2.25"), "mark": ("007", "12")}
        )
        write_thing(Placed(POINTS, points, UTM), self.folder / "q.gpkg", silent())
        kinds = dict(zip(*[pyogrio.read_info(self.folder / "q.gpkg")[key].tolist() for key in ("fields", "dtypes")], strict=True))
        self.assertEqual((kinds["id"], kinds["depth"], kinds["mark"]), ("int64", "float64", "object"))
        line = np.array([shapely.LineString([(0, 0), (1, 1)])], object)
        write_layers(self.folder / "l.gpkg", [("lines", line, {"name": ["L"], "id": np.array([3])})], UTM)
        self.assertEqual(read_features(self.folder / "l.gpkg")[1].fields, {"id": (3,)})

    def test_layers_of_landxml_and_areas_of_all_layers(self):
        two = LineSet(
            (
                Line(np.array([[0.0, 0, 1], [1, 0, 2]]), False, "a", "walls"),
                Line(np.array([[0.0, 5, 1], [1, 5, 2]]), False, "b", "kerbs"),
            )
        )
        write_landxml(self.folder / "l.xml", LandXmlContent(lines=two), local_grid(METRE))
        self.assertEqual([line.layer for line in read_landxml(self.folder / "l.xml").lines], ["walls", "kerbs"])
        box = lambda x: np.array([shapely.box(x, 0, x + 1, 1)], object)  # noqa: E731
        write_layers(self.folder / "a.gpkg", [("one", box(0), {"name": ["first"], "depth": np.array([1.5])}),
                                              ("two", box(5), {"name": ["second"]})], UTM)  # fmt: skip
        areas = read_areas(self.folder / "a.gpkg")
        self.assertEqual(areas.names, ["first", "second"])
        near(areas.fields["depth"], [1.5, np.nan])

    def test_las_clips_what_it_cannot_hold_and_says_how_many(self):
        (self.folder / "a.csv").write_text("x,y,z,intensity\n1,2,3,100000\n2,3,4,12\n3,4,5,-7\n")
        reader = open_points(self.folder / "a.csv")
        outgoing = from_stream(reader)
        outgoing = replace(outgoing, kinds={**outgoing.kinds, "intensity": np.dtype("i4")})
        inner = outgoing.blocks
        whole = lambda: ((xyz, {**c, "intensity": np.array([100000, 12, -7], "i4")}) for xyz, c in inner())  # noqa: E731
        _, notes = write_cloud(replace(outgoing, blocks=whole), self.folder / "a.las", silent())
        self.assertEqual(sorted(laspy.read(self.folder / "a.las").intensity.tolist()), [0, 12, 65535])
        self.assertIn("2 of 'intensity'", dict(notes)["clipped"])
