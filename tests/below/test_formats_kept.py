"""What readers and writers used to lose or bend: each by a small file made here."""

import json

import ezdxf
import laspy
import numpy as np
import rasterio
import shapely

from kerb.core.cloud.builder import build
from kerb.core.cloud.outgoing import from_stream
from kerb.core.errors import FormatError
from kerb.core.geometry.alignment import Alignment, Grade, arc, straight
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.units import METRE
from kerb.formats.dxf_read import read_dxf
from kerb.formats.fetch import fetch
from kerb.formats.landxml_read import read_landxml
from kerb.formats.points import Joined, open_points
from kerb.formats.rasters import read_elevation
from kerb.formats.text_table import sniffed
from kerb.formats.vector import read_features, write_features
from kerb.formats.write_things import write_cloud
from tests.support import Folder, Points, near

HEAD = '<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2"><Units><Metric linearUnit="meter"/></Units>'


class LandXml(Folder):
    def read(self, body):
        path = self.folder / "one.xml"
        path.write_text(f"{HEAD}{body}</LandXML>")
        return read_landxml(path)

    def test_an_unsymmetrical_vertical_curve(self):
        """Handbook: g1 -2 %, g2 +1 %, 60 m before and 40 m behind: the curve stands 0.36 m off the station's point."""
        grades = (Grade(0, 100.0), Grade(200, 96.0, 100.0, 60.0), Grade(400, 98.0))
        line = Alignment("A", 0.0, (straight(np.zeros(2), np.array([400.0, 0])),), grades)
        off = 0.03 * 60 * 40 / (2 * 100)
        at = np.array([140.0, 170.0, 200.0, 220.0, 240.0])
        want = [97.2, 96.6 + off / 4, 96.0 + off, 96.2 + off / 4, 96.4]
        np.testing.assert_allclose(line.elevation(at), want, atol=1e-12)
        read = self.read(
            '<Alignments><Alignment name="A" length="400" staStart="0"><CoordGeom><Line><Start>0 0</Start><End>0 400</End>'
            '</Line></CoordGeom><Profile><ProfAlign name="P"><PVI>0 100</PVI><UnsymParaCurve lengthIn="60" lengthOut="40">'
            '200 96</UnsymParaCurve><PVI>400 98</PVI></ProfAlign><ProfAlign name="Q"><PVI>0 1</PVI><PVI>9 1</PVI></ProfAlign>'
            "</Profile></Alignment></Alignments>"
        )
        np.testing.assert_allclose(read.alignments[0].elevation(at), want, atol=1e-12)
        self.assertIn("'Q'", dict(read.notes)["profiles"])
        feet = line.scaled(1 / 0.3048, 1 / 0.3048)
        np.testing.assert_allclose(feet.elevation(at / 0.3048) * 0.3048, want, atol=1e-9)
        xyz, along = line.flattened(0.001)
        np.testing.assert_allclose(np.interp(at, along, xyz[:, 2]), want, atol=0.001)

    def test_several_lists_of_faces_make_one_surface(self):
        points = "".join(f'<P id="{n}">{n // 2} {n % 2} {n}</P>' for n in range(6))
        faces = "<Faces><F>0 1 2</F><F>1 3 2</F></Faces><Faces><F>2 3 4</F><F>3 5 4</F></Faces>"
        read = self.read(
            f'<Surfaces><Surface name="S"><Definition surfType="TIN"><Pnts>{points}</Pnts>{faces}</Definition></Surface></Surfaces>'
        )
        self.assertEqual(len(read.surfaces["S"].triangles), 4)

    def test_plan_features_keep_their_elevations_and_points_by_name_are_found(self):
        read = self.read(
            '<PlanFeatures><PlanFeature name="kerb"><CoordGeom><Line><Start>0 0 10</Start><End>0 8 14</End></Line>'
            '<Line><Start pntRef="b"/><End pntRef="c"/></Line></CoordGeom></PlanFeature></PlanFeatures>'
            '<CgPoints><CgPoint name="b">0 8 14</CgPoint><CgPoint name="c">6 8 11</CgPoint></CgPoints>'
        )
        np.testing.assert_allclose(read.lines[0].xyz, [[0, 0, 10], [8, 0, 14], [8, 6, 11]], atol=1e-9)
        with self.assertRaisesRegex(FormatError, "point 'z'"):
            self.read(
                '<PlanFeatures><PlanFeature name="k"><CoordGeom><Line><Start pntRef="z"/><End>0 1</End></Line></CoordGeom>'
                "</PlanFeature></PlanFeatures>"
            )

    def test_a_curve_whose_ends_nearly_meet(self):
        start, centre = np.array([10.0, 0.0]), np.zeros(2)
        short = np.array([10 * np.cos(1e-7), 10 * np.sin(1e-7)])
        for right in (False, True):
            self.assertLess(arc(start, centre, short, right).length, 1e-4)
        whole = arc(start, centre, short, True, length=62.83)
        self.assertAlmostEqual(whole.length, 2 * np.pi * 10, delta=1e-3)
        self.assertAlmostEqual(arc(start, centre, start, False, length=62.83).length, 2 * np.pi * 10, delta=1e-3)
        self.assertAlmostEqual(arc(start, centre, np.array([0.0, 10.0]), False).length, 5 * np.pi, places=9)


class Las(Folder):
    def las(self, name, fmt=6, **dims):
        header = laspy.LasHeader(point_format=fmt, version="1.4" if fmt > 5 else "1.2")
        header.scales = [0.01] * 3
        header.global_encoding.gps_time_type = dims.pop("time", laspy.header.GpsTimeType.WEEK_TIME)
        extra = dims.pop("extra", {})
        for key, (kind, _, nothing) in extra.items():
            header.add_extra_dim(laspy.ExtraBytesParams(key, kind, no_data=nothing))
        las = laspy.LasData(header)
        n = 5
        las.x, las.y, las.z = np.arange(n), np.arange(n), np.zeros(n)
        for key, (_, values, _) in extra.items():
            las[key] = values
        for key, values in dims.items():
            las[key] = values
        las.write(self.folder / name)
        return self.folder / name

    def test_what_stands_for_none_is_none_and_goes_back(self):
        try:
            path = self.las("none.las", extra={"depth": ("int16", [1, 2, -999, 4, 5], np.array([-999], np.int16))})
        except TypeError:
            self.skipTest("this laspy cannot write a no-data value")
        stream = open_points(path)
        rows = stream.layout.split(next(stream.chunks(10)))
        np.testing.assert_array_equal(np.isnan(rows["depth"]), [False, False, True, False, False])
        write_cloud(from_stream(open_points(path)), self.folder / "again.las", silent())
        np.testing.assert_array_equal(laspy.read(self.folder / "again.las")["depth"], [1, 2, -999, 4, 5])

    def test_an_extra_dimension_of_several_elements_is_as_many_columns(self):
        normals = np.arange(15.0).reshape(5, 3)[:, ::-1]
        pairs = np.arange(10).reshape(5, 2)
        path = self.las("n.las", extra={"normal": ("3f4", normals, None), "pair": ("2u2", pairs, None)})
        for name, wanted in (("again.laz", normals), ("joined.las", None), ("made.csv", None)):
            stream = open_points(path) if name != "joined.las" else Joined([open_points(path), open_points(path)])
            rows = stream.layout.split(next(stream.chunks(10)))
            self.assertNotIn("normal", rows)
            near(np.column_stack([rows["normal_1"], rows["normal_2"], rows["normal_3"]]), normals)
            write_cloud(from_stream(stream), self.folder / name, silent())
            if wanted is not None:
                near(laspy.read(self.folder / name)["normal"], wanted)
                np.testing.assert_array_equal(laspy.read(self.folder / name)["pair"], pairs)
            else:
                again = open_points(self.folder / name)
                kept = again.layout.split(next(again.chunks(10)))
                near(np.asarray(kept["normal_3"], float), np.resize(normals[:, 2], len(kept["normal_3"])))
                self.assertEqual(set(np.asarray(kept["pair_2"]).tolist()), set(pairs[:, 1].tolist()))

    def test_classes_over_31_of_an_old_format_make_it_a_new_one(self):
        path = self.las("old.las", fmt=1, classification=[1, 2, 2, 6, 7])
        stream = open_points(path)
        outgoing = from_stream(stream)

        def blocks():
            for xyz, columns in outgoing.blocks():
                yield xyz, {**columns, "classification": np.array([1, 2, 40, 64, 255], np.uint8)}

        from dataclasses import replace

        write_cloud(replace(outgoing, blocks=blocks), self.folder / "new.las", silent())
        again = laspy.read(self.folder / "new.las")
        self.assertEqual(list(again.classification), [1, 2, 40, 64, 255])

    def test_angles_and_times_of_joined_files_are_of_one_kind(self):
        old = self.las("old.las", fmt=1, scan_angle_rank=[-10, 0, 10, 20, 30], gps_time=np.arange(5.0))
        new = self.las("new.las", fmt=6, scan_angle=[-1667, 0, 1667, 0, 0], gps_time=np.arange(5.0))
        joined = Joined([open_points(old), open_points(new)])
        write_cloud(from_stream(joined), self.folder / "both.las", silent())
        again = laspy.read(self.folder / "both.las")
        np.testing.assert_allclose(np.array(again.scan_angle[:5]) * 0.006, [-10, 0, 10, 20, 30], atol=0.003)
        np.testing.assert_array_equal(again.scan_angle[5:], [-1667, 0, 1667, 0, 0])
        np.testing.assert_array_equal(again.gps_time, [*range(5), *range(5)])
        standard = self.las("std.las", gps_time=np.arange(5.0) + 1e8, time=laspy.header.GpsTimeType.STANDARD)
        mixed = Joined([open_points(new), open_points(standard)])
        self.assertNotIn("gps_time", mixed.layout.split(next(mixed.chunks(10))))
        list(mixed.chunks(10))
        self.assertIn("gps-time", dict(mixed.warnings))
        same = Joined([open_points(standard), open_points(standard)])
        write_cloud(from_stream(same), self.folder / "std2.las", silent())
        kept = laspy.read(self.folder / "std2.las").header.global_encoding.gps_time_type
        self.assertEqual(kept, laspy.header.GpsTimeType.STANDARD)

    def test_nothing_points_at_waveforms_that_are_not_there(self):
        path = self.las("wave.las")
        raw = bytearray(path.read_bytes())
        raw[6] |= 0x02
        raw[227:235] = (999_999).to_bytes(8, "little")
        path.write_bytes(raw)
        write_cloud(from_stream(open_points(path)), self.folder / "out.las", silent())
        out = (self.folder / "out.las").read_bytes()
        self.assertEqual((out[6] & 0x06, int.from_bytes(out[227:235], "little")), (0, 0))


class Dxf(Folder):
    def drawing(self, fill):
        document = ezdxf.new("R2010")
        document.header["$INSUNITS"] = 6
        fill(document, document.layout("Model"))
        path = self.folder / "one.dxf"
        document.saveas(path)
        return read_dxf(path)

    def test_arrays_of_blocks_and_the_layer_of_what_they_hold(self):
        def fill(document, space):
            block = document.blocks.new("POST")
            block.add_line((0, 0), (0.5, 0), dxfattribs={"layer": "0"})
            block.add_line((0, 0), (0, 0.5), dxfattribs={"layer": "rails"})
            space.add_blockref("POST", (10, 20), dxfattribs={
                "layer": "fence", "column_count": 3, "row_count": 2, "column_spacing": 4, "row_spacing": 5,
            })  # fmt: skip

        read = self.drawing(fill)
        starts = {tuple(line.xyz[0, :2]) for line in read.lines}
        self.assertEqual(starts, {(10.0 + 4 * c, 20.0 + 5 * r) for c in range(3) for r in range(2)})
        self.assertEqual(sorted(line.layer for line in read.lines), ["fence"] * 6 + ["rails"] * 6)

    def test_layers_off_or_frozen_texts_and_hatches_are_told(self):
        def fill(document, space):
            document.layers.add("gone").off()
            document.layers.add("cold").freeze()
            space.add_line((0, 0), (1, 1))
            for layer in ("gone", "cold"):
                space.add_line((5, 5), (6, 6), dxfattribs={"layer": layer})
            space.add_text("EL 12.30")
            hatch = space.add_hatch()
            hatch.paths.add_polyline_path([(0, 0), (1, 0), (1, 1)])

        read = self.drawing(fill)
        self.assertEqual(len(read.lines), 1)
        notes = dict(read.notes)
        self.assertIn("'gone'", notes["hidden-layers"])
        self.assertIn("'cold'", notes["hidden-layers"])
        self.assertIn("EL 12.30", notes["texts"])
        self.assertIn("1 HATCH", notes["not-read"])

    def test_frames_of_smoothed_polylines_and_blocks_seen_from_behind(self):
        def fill(_document, space):
            line = space.add_polyline2d([(0, 0), (1, 1), (2, 0)])
            line.dxf.flags |= 4
            for place in ((0, 5), (2, 5)):
                line.append_vertex(place)
            for vertex in line.vertices[3:]:
                vertex.dxf.flags |= 16

        read = self.drawing(fill)
        np.testing.assert_allclose(read.lines[0].xyz[:, :2], [[0, 0], [1, 1], [2, 0]])

        def behind(document, space):
            block = document.blocks.new("PT")
            block.add_attdef("NAME", (0, 0))
            mark = space.add_blockref("PT", (10, 20, 5), dxfattribs={"extrusion": (0, 0, -1)})
            mark.add_attrib("NAME", "P1", (10, 20))

        read = self.drawing(behind)
        np.testing.assert_allclose(read.points[0][1], [-10, 20, -5], atol=1e-9)


class Rest(Folder):
    def test_an_area_with_a_hole_keeps_its_elevations(self):
        ring = [[0, 0, 1], [9, 0, 2], [9, 9, 3], [0, 9, 4]]
        hole = [[3, 3, 5], [3, 6, 6], [6, 6, 7], [6, 3, 8]]
        path = self.folder / "in.geojson"
        close = lambda line: [*line, line[0]]  # noqa: E731
        path.write_text(json.dumps({"type": "Polygon", "coordinates": [close(ring), close(hole)]}))
        _, lines, _ = read_features(path)
        write_features(self.folder / "out.gpkg", None, lines, local_grid(METRE))
        _, again, _ = read_features(self.folder / "out.gpkg")
        found = np.concatenate([line.xyz for line in again.lines])
        self.assertEqual(sorted(found[:, 2].tolist()), [1, 2, 3, 4, 5, 6, 7, 8])
        self.assertEqual(len(again.areas()[0]), 2)
        self.assertTrue(shapely.is_valid(again.shapes()[0].shape))

    def test_a_grid_read_in_steps_lies_where_it_lies(self):
        x, y = np.arange(60) + 0.5, 50 - (np.arange(50) + 0.5)
        z = (0.1 * x[None] + 0.02 * y[:, None]).astype(np.float32)
        path = self.folder / "t.tif"
        with rasterio.open(path, "w", driver="GTiff", width=60, height=50, count=1, dtype="float32",
                           transform=rasterio.Affine(1, 0, 0, 0, -1, 50)) as out:  # fmt: skip
            out.write(z, 1)
        for step in (1, 2, 3, 4):
            grid, _ = read_elevation(path, silent(), step)
            at = np.array([[20.3, 21.7], [33.1, 30.2]])
            np.testing.assert_allclose(grid.at(at), 0.1 * at[:, 0] + 0.02 * at[:, 1], atol=1e-5)

    def test_ply_lists_and_wide_integers(self):
        path = self.folder / "l.ply"
        path.write_text(
            "ply\nformat ascii 1.0\nelement vertex 2\nproperty float x\nproperty list uchar int near\nproperty float y\n"
            "property float z\nproperty int64 id\nend_header\n1 2 7 8 2 3 9007199254740993\n4 0 5 6 12\n"
        )
        stream = open_points(path)
        rows = next(stream.chunks(9))
        np.testing.assert_allclose(stream.layout.origin + rows["xyz"] * stream.layout.scale, [[1, 2, 3], [4, 5, 6]], atol=1e-5)
        self.assertEqual(stream.layout.split(rows)["id"].tolist(), [9007199254740993, 12])
        self.assertIn("near", dict(stream.warnings)["not-held"])

    def test_a_gridded_scan_as_text_is_refused_in_words(self):
        path = self.folder / "scan.ptx"
        path.write_text("2\n2\n" + "0 0 0\n" * 4 + "1 0 0 0\n" * 4 + "1 2 3 0.5\n" * 4)
        with self.assertRaisesRegex(FormatError, "no open format"):
            sniffed(path)

    def test_checksums_in_capitals_and_of_other_kinds(self):
        import hashlib

        source = self.folder / "a.bin"
        source.write_bytes(b"survey")
        for head, name in (("1220", "sha256"), ("1114", "sha1"), ("1340", "sha512")):
            sum_ = head + hashlib.new(name, b"survey").hexdigest().upper()
            self.assertTrue(fetch(str(source), self.folder / name, 6, sum_, silent()).exists())
            with self.assertRaises(FormatError):
                fetch(str(source), self.folder / f"bad {name}", 6, head + "0" * (len(sum_) - 4), silent())
        with self.assertRaisesRegex(FormatError, "does not know"):
            fetch(str(source), self.folder / "odd", 6, "9999abcd", silent())

    def test_very_many_points_at_one_place(self):
        points = np.concatenate([np.tile([[5.0, 5.0, 1.0]], (150_000, 1)), np.random.default_rng(1).uniform(0, 10, (2000, 3))])
        store = build(Points(points), self.folder / "store", silent())
        self.assertEqual(store.count, 152_000)
        self.assertEqual(int(store.tiles["count"].sum()), 152_000)
