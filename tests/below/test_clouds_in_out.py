"""Clouds of every format out and in again, each read back by a library that did not write it."""

import contextlib
import struct

import laspy
import meshio
import numpy as np
import plyfile
import pye57
import pyproj

from kerb.core.cloud.outgoing import from_store, from_stream
from kerb.core.cloud.sieve import Sieve, Sieved
from kerb.core.errors import FormatError, InputError, TruncatedError
from kerb.core.placing import CONVERT, Placing
from kerb.core.progress import silent
from kerb.core.reference import from_text, local_grid
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.formats.points import Joined, Opening, open_points, placed
from kerb.formats.recognise import examine
from kerb.formats.text_points import TextStream, read_survey_points
from kerb.formats.text_table import sniffed
from kerb.formats.write_things import write_cloud
from tests.support import DATA, FAR, Folder, near, store_of


def places(stream, size=10_000):
    """All coordinates of a stream, (n, 3), in file order."""
    layout = stream.layout
    return np.concatenate([layout.origin + rows["xyz"] * layout.scale for rows in stream.chunks(size)])


def column(stream, name):
    return np.concatenate([stream.layout.split(rows)[name] for rows in stream.chunks(7000)])


class RoundTrips(Folder):
    def setUp(self):
        super().setUp()
        self.source = open_points(DATA / "airborne_feet.laz")
        self.truth = laspy.read(DATA / "airborne_feet.laz")

    def written(self, ending):
        path = self.folder / f"out{ending}"
        count, _ = write_cloud(from_stream(self.source), path, silent())
        self.assertEqual(count, 110_000)
        self.assertEqual([p.name for p in self.folder.iterdir()], [path.name], "nothing else is left behind")
        return path

    def test_ply_read_by_plyfile(self):
        path = self.written(".ply")
        vertex = plyfile.PlyData.read(path)["vertex"]
        for axis in "xyz":
            np.testing.assert_allclose(vertex[axis], np.asarray(self.truth[axis]), rtol=0, atol=1e-9)
        np.testing.assert_array_equal(vertex["classification"], self.truth.classification)
        self.assertIn("unit ft", plyfile.PlyData.read(path).comments)
        back = open_points(path)
        self.assertEqual(back.layout.reference.unit, FOOT)
        near(places(back), np.asarray(self.truth.xyz), atol=6e-5)
        np.testing.assert_array_equal(column(back, "red"), self.truth.red)

    def test_e57_read_by_pye57_is_in_metres(self):
        path = self.written(".e57")
        file = pye57.E57(str(path))
        raw = file.read_scan(0, colors=True, intensity=True, ignore_missing_fields=True)
        file.close()
        near(raw["cartesianX"], np.asarray(self.truth.x) * 0.3048, atol=1e-6)
        np.testing.assert_array_equal(raw["intensity"].astype(int), np.asarray(self.truth.intensity).astype(int))
        self.assertEqual(open_points(path).layout.reference.unit, METRE)

    def test_text_read_by_numpy(self):
        for ending, skip, mark in ((".xyz", 0, None), (".pts", 1, None), (".csv", 1, ",")):
            with self.subTest(ending):
                path = self.written(ending)
                table = np.loadtxt(path, skiprows=skip, delimiter=mark)
                near(table[:, :3], np.asarray(self.truth.xyz), atol=1e-9)
                back = open_points(path)
                near(places(back), np.asarray(self.truth.xyz), atol=6e-5)
                if ending == ".pts":
                    self.assertEqual(path.read_text().split("\n", 1)[0], "110000")
                if ending == ".csv":
                    self.assertEqual(back.layout.reference.unit, FOOT, "the heading names the unit")
                    np.testing.assert_array_equal(column(back, "return_number"), self.truth.return_number)
                path.unlink()

    def test_las_of_a_cloud_that_came_from_text(self):
        """laspy reads coordinates, colour, extra dimension and the EPSG code of a file with no LAS ancestor."""
        rng = np.random.default_rng(2)
        xyz = np.round(FAR + rng.uniform(0, 50, (500, 3)), 3)
        path = self.folder / "a.csv"
        rows = [f"{x:.3f},{y:.3f},{z:.3f},{i % 256},7,9,{i / 7:.4f}" for i, (x, y, z) in enumerate(xyz)]
        path.write_text("easting,northing,elevation,red,green,blue,planarity\n" + "\n".join(rows) + "\n")
        stream = TextStream(path, reference=from_text("EPSG:2229"))
        write_cloud(from_stream(stream), self.folder / "a.laz", silent())
        las = laspy.read(self.folder / "a.laz")
        near(np.asarray(las.xyz), xyz, atol=1e-9)
        np.testing.assert_array_equal(las.red, (np.arange(500) % 256) * 257)
        np.testing.assert_allclose(las["planarity"], np.round(np.arange(500) / 7, 4))
        self.assertEqual(las.header.parse_crs().to_epsg(), 2229)

    def test_a_local_grid_keeps_its_unit_in_las(self):
        """Both feet come back from the GeoTIFF keys (EPSG 9002 and 9003); laspy sees the same key."""
        for unit, code in ((FOOT, 9002), (US_SURVEY_FOOT, 9003), (METRE, 9001)):
            with self.subTest(unit.code):
                path = self.folder / f"{unit.code}.las"
                write_cloud(from_store(store_of(FAR + np.random.rand(50, 3), unit)), path, silent())
                self.assertEqual(open_points(path).layout.reference.unit, unit)
                keys = next(v for v in laspy.read(path).header.vlrs if v.record_id == 34735)
                self.assertIn(code, [key.value_offset for key in keys.geo_keys])


class Setups(Folder):
    """Two scans with poses, written by pye57 itself; and what comes back after Kerb wrote them."""

    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(5)
        self.path = self.folder / "two.e57"
        file = pye57.E57(str(self.path), mode="w")
        self.global_ = []
        for k, (angle, shift) in enumerate(((0.3, FAR), (2.0, FAR + [20.0, 5.0, 1.0]))):
            local = rng.uniform(-10, 10, (1000 + k, 3))
            turn = np.array([[np.cos(angle), -np.sin(angle), 0], [np.sin(angle), np.cos(angle), 0], [0, 0, 1]])
            self.global_.append(local @ turn.T + shift)
            data = {f"cartesian{axis}": local[:, i] for i, axis in enumerate("XYZ")}
            data["intensity"] = rng.uniform(0, 1, len(local)).astype(np.float32)
            data |= {f"color{c}": rng.integers(0, 255, len(local)).astype(np.uint8) for c in ("Red", "Green", "Blue")}
            data["cartesianInvalidState"] = (np.arange(len(local)) % 10 == 0).astype(np.int8)
            quaternion = np.array([np.cos(angle / 2), 0, 0, np.sin(angle / 2)])
            file.write_scan_raw(data, name=f"ST{k + 1}", rotation=quaternion, translation=shift)
        file.close()

    def test_poses_place_the_scans_and_invalid_points_are_left_out(self):
        stream = open_points(self.path)
        valid = [xyz[np.arange(len(xyz)) % 10 != 0] for xyz in self.global_]
        near(places(stream), np.concatenate(valid), atol=2e-4)
        np.testing.assert_array_equal(np.unique(column(stream, "point_source_id")), [1, 2])
        offer = examine(self.path).offers[0]
        self.assertEqual([name for name, _ in offer.parts], ["ST1", "ST2"])
        one = open_points(self.path, how=Opening(setups=(1,)))
        near(places(one), valid[1], atol=2e-4)

    def test_setups_go_back_with_their_poses(self):
        copy = self.folder / "copy.e57"
        write_cloud(from_stream(open_points(self.path)), copy, silent())
        file = pye57.E57(str(copy))
        self.assertEqual(file.scan_count, 2)
        for number, name in enumerate(("ST1", "ST2")):
            head = file.get_header(number)
            self.assertEqual(head["name"].value(), name)
            raw = file.read_scan(number, intensity=True, colors=True, ignore_missing_fields=True)
            world = np.column_stack([raw[f"cartesian{axis}"] for axis in "XYZ"])
            mine = self.global_[number][np.arange(len(self.global_[number])) % 10 != 0]
            near(world, mine, atol=2e-4)
            self.assertGreater(raw["colorRed"].max(), 100)
        file.close()


class Copc(Folder):
    """A COPC file made from the shared one: a box and a resolution read fewer nodes, and the same points."""

    def test_a_box_is_the_points_in_it(self):
        path = DATA / "small.copc.laz"
        every = places(open_points(path))
        self.assertEqual(len(every), 1065)
        middle = np.median(every[:, :2], axis=0)
        low, high = middle - 600, middle + 600
        stream = Sieved(open_points(path, how=Opening(box=(low, high))), Sieve(box=(tuple(low), tuple(high))))
        inside = every[np.all((every[:, :2] >= low) & (every[:, :2] <= high), axis=1)]
        found = places(stream)
        self.assertGreater(len(found), 10)
        np.testing.assert_array_equal(
            found[np.lexsort(found.T)], inside[np.lexsort(inside.T)], "laspy's reading of all, cut, is the same"
        )

    def test_a_resolution_reads_the_coarse_levels_of_laspy(self):
        with laspy.CopcReader.open(str(DATA / "small.copc.laz")) as reader:
            spacing = reader.copc_info.spacing
            expected = len(reader.query(resolution=spacing))
        stream = open_points(DATA / "small.copc.laz", how=Opening(spacing=spacing))
        self.assertEqual(stream.count, expected)

    def test_a_hierarchy_that_points_at_itself_ends(self):
        data = bytearray((DATA / "small.copc.laz").read_bytes())
        at = data.find(b"copc\0")
        info = at - 2 + 54
        root, size = struct.unpack_from("<2Q", data, info + 40)
        struct.pack_into("<4iQii", data, root, 0, 0, 0, 0, root, size, -1)
        path = self.folder / "loop.copc.laz"
        path.write_bytes(data)
        with contextlib.suppress(FormatError):
            open_points(path, how=Opening(spacing=1.0))
        struct.pack_into("<Q", data, info + 40, 2**50)
        path.write_bytes(data)
        with self.assertRaisesRegex(FormatError, "outside the file"):
            open_points(path, how=Opening(spacing=1.0))


class Text(Folder):
    def plan(self, text, name="a.txt"):
        self.path = self.folder / name
        self.path.write_text(text)
        return sniffed(self.path).plan

    def test_shapes_of_the_trade(self):
        """Orders and styles that field books and exports come in (common practice)."""
        for text, roles, first in (
            ("1,500.1,600.2,10.5,EP\n2,501.1,601.2,10.7,EP\n", "name northing easting elevation code", (600.2, 500.1, 10.5)),
            ("Name;Easting;Northing;Elevation\nA;500,12;600,4;10,1\n", "name easting northing elevation", (500.12, 600.4, 10.1)),
            (
                "E\tN\tZ\n1,234,567.89\t2,345,678.9\t12.5\n1,234,577.89\t2,345,678.9\t12.5\n",
                "easting northing elevation",
                (1234567.89, 2345678.9, 12.5),
            ),
            (
                "1.234.567,89;5.345.678,9;12,5\n1.234.567,89;5.345.678,9;12,5\n",
                "easting northing elevation",
                (1234567.89, 5345678.9, 12.5),
            ),
            ("# x y z\n1.5 2.5 3.5\n4 5 6\n", "easting northing elevation", (1.5, 2.5, 3.5)),
            ("// made by hand\n1.5 2.5 3.5\n// more\n4 5 6\n", "easting northing elevation", (1.5, 2.5, 3.5)),
            (
                "2\n1.5 2.5 3.5 120 255 0 12\n1.5 2.5 3.5 90 1 2 3\n",
                "easting northing elevation intensity red green blue",
                (1.5, 2.5, 3.5),
            ),
            ("1'000.5|2'000.5|3.5\n1'000.5|2'000.5|3.5\n", "easting northing elevation", (1000.5, 2000.5, 3.5)),
        ):
            with self.subTest(text[:20]):
                plan = self.plan(text)
                self.assertEqual(" ".join(plan.roles), roles)
                if "name" in plan.roles:
                    np.testing.assert_allclose(read_survey_points(self.path, plan).xyz[0], first)
                else:
                    near(places(TextStream(self.path, plan))[0], first, atol=6e-5)

    def test_names_codes_and_further_columns_are_kept(self):
        plan = self.plan('Point,N,E,Z,Code,PDOP\n"A, 1",10.5,20.5,,CP,1.2\nB,11,21,3.25,,1.4\n')
        points = read_survey_points(self.path, plan)
        self.assertEqual(points.names, ("A, 1", "B"))
        self.assertEqual(points.codes, ("CP", ""))
        self.assertEqual(points.extra, {"PDOP": ("1.2", "1.4")})
        np.testing.assert_array_equal(points.xyz, [[20.5, 10.5, np.nan], [21.0, 11.0, 3.25]])

    def test_what_cannot_be_read_names_the_line(self):
        good = "\n".join(f"{i}.5 {i}.25 3" for i in range(300))
        for text, words in (
            (good + "\n1 2 six\n", "line 301: 'six' is not a number"),
            (good + "\n1 2 3 4\n", "line 301 has 4 columns"),
        ):
            with self.subTest(words):
                plan = self.plan(text)
                with self.assertRaisesRegex(FormatError, words):
                    places(TextStream(self.path, plan))
        for text, words in (
            ("", "empty"), ("a,b\nc,d\n", "no columns"), (",".join("1" * 10_000) + "\n", "10000 columns"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(FormatError, words):
                self.plan(text)
        self.path.write_bytes(b"1 2 3\0\n")
        with self.assertRaisesRegex(FormatError, "not a text file"):
            sniffed(self.path)


class Ply(Folder):
    def test_files_of_another_library(self):
        """meshio writes binary and ascii; the vertices come back."""
        xyz = np.random.default_rng(1).uniform(-5, 5, (40, 3))
        for binary in (True, False):
            path = self.folder / "m.ply"
            meshio.Mesh(xyz, [("triangle", np.array([[0, 1, 2]]))]).write(path, binary=binary)
            near(places(open_points(path)), xyz, atol=6e-5)
            self.assertEqual([offer.kind for offer in examine(path).offers], ["model", "cloud"])

    def test_big_endian_colours_and_float_colours(self):
        head = "ply\nformat binary_big_endian 1.0\nelement vertex 2\n" + "".join(
            f"property float {name}\n" for name in ("x", "y", "z", "red", "green", "blue")
        )
        path = self.folder / "b.ply"
        path.write_bytes((head + "end_header\n").encode() + np.array([[1, 2, 3, 0, 0.5, 1]] * 2, ">f4").tobytes())
        stream = open_points(path)
        np.testing.assert_array_equal(places(stream)[0], [1, 2, 3])
        self.assertEqual(column(stream, "blue").tolist(), [255, 255])

    def test_lies_about_the_count(self):
        path = self.folder / "lie.ply"
        head = "ply\nformat {}\nelement vertex 999999999999\nproperty float x\nproperty float y\nproperty float z\nend_header\n"
        path.write_bytes(head.format("binary_little_endian 1.0").encode() + bytes(120))
        with self.assertRaises(TruncatedError) as caught:
            open_points(path)
        self.assertEqual(caught.exception.good, 10)
        self.assertEqual(len(places(open_points(path, partial=True))), 10)
        path.write_text(head.format("ascii 1.0") + "1 2 3\n" * 7)
        with self.assertRaises(TruncatedError):
            places(open_points(path))
        self.assertEqual(len(places(open_points(path, partial=True))), 7)
        path.write_text("ply\nformat ascii 1.0\nelement vertex many\nend_header\n")
        with self.assertRaisesRegex(FormatError, "makes no sense"):
            open_points(path)


class Together(Folder):
    def test_joined_files_keep_their_number_and_their_columns(self):
        one, two = open_points(DATA / "simple1_1.las"), open_points(DATA / "extrabytes.las")
        joined = Joined([one, two])
        self.assertEqual(joined.count, one.count + two.count)
        near(places(joined), np.concatenate([places(one), places(two)]), atol=6e-5)
        numbers = column(joined, "source_file")
        self.assertEqual(np.bincount(numbers).tolist(), [one.count, two.count])
        self.assertEqual(joined.layout.details["file_names"], ["simple1_1.las", "extrabytes.las"])
        feet = open_points(DATA / "airborne_feet.laz")
        with self.assertRaisesRegex(InputError, "international feet"):
            Joined([one, feet])

    def test_sieves(self):
        stream = open_points(DATA / "airborne_feet.laz")
        every = places(stream)
        np.testing.assert_array_equal(places(Sieved(stream, Sieve(every=7)), 999), every[::7])
        thin = places(Sieved(stream, Sieve(spacing=25.0)), 999)
        cells = np.floor(every / 25.0)
        _, first = np.unique(cells, axis=0, return_index=True)
        np.testing.assert_array_equal(thin, every[np.sort(first)], "the first point of each cell, by NumPy")
        for bad in ({"every": 0}, {"spacing": -1.0}, {"spacing": np.nan}, {"box": ((0, 0), (0, 1))}):
            with self.assertRaises(InputError):
                Sieve(**bad)

    def test_unit_change_is_exact_and_swap_swaps(self):
        """State-plane numbers: US survey feet taken for international feet would be off by 2 ppm, metres out here."""
        store = store_of(np.array([[6_480_000.0, 1_840_000.0, 300.0]] * 3), US_SURVEY_FOOT)
        path = self.folder / "sp.las"
        write_cloud(from_store(store), path, silent())
        stream = open_points(path)
        source = stream.layout.reference
        metric = placed(stream, Placing(CONVERT, source, local_grid(METRE)))
        truth = np.array([6_480_000, 1_840_000, 300]) * 1200 / 3937
        near(places(metric)[0], truth, atol=1e-9)
        wrong = np.array([6_480_000, 1_840_000, 300]) * 0.3048
        self.assertAlmostEqual(abs(truth - wrong)[0], 3.95, places=2)
        swapped = placed(stream, Placing(source=source, swap=True))
        np.testing.assert_allclose(places(swapped)[0], [1_840_000, 6_480_000, 300])

    def test_transformed_stream_is_pyproj(self):
        stream = open_points(DATA / "airborne_2154.laz")
        placing = Placing("transform", stream.layout.reference, from_text("EPSG:32631"))
        moved = places(placed(stream, placing))
        e, n = pyproj.Transformer.from_crs(2154, 32631, always_xy=True).transform(*places(stream)[:, :2].T)
        near(moved[:, :2], np.column_stack([e, n]), atol=1e-4)
        near(moved[:, 2], places(stream)[:, 2], atol=1e-4)
