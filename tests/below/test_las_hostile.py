"""Broken and lying LAS files: a clear error that names file and reason, never a hang or a memory blow-up."""

import resource
import struct
import unittest
from pathlib import Path

import laspy
import numpy as np

from kerb.core.cloud.builder import build
from kerb.core.errors import FormatError, InputError, TruncatedError
from kerb.core.progress import silent
from kerb.formats.las_read import LasStream
from kerb.formats.las_reference import reference_of
from kerb.formats.points import open_points
from tests.support import DATA, Folder

LAS, LAZ = DATA / "simple1_1.las", DATA / "airborne_2154.laz"


class Broken(Folder):
    def changed(self, source: Path, *places, keep=None) -> Path:
        """A copy of a file with (offset, struct format, value...) overwritten, cut after ``keep`` bytes."""
        data = bytearray(source.read_bytes())
        for offset, layout, *values in places:
            struct.pack_into(layout, data, offset, *values)
        path = self.folder / f"changed{source.suffix}"
        path.write_bytes(bytes(data[:keep]))
        return path

    def refused(self, path: Path, words: str, kind=FormatError) -> None:
        with self.assertRaisesRegex(kind, words) as caught:
            build(LasStream(path), self.folder / "cloud", silent())
        self.assertIn(str(path), str(caught.exception))
        self.assertFalse((self.folder / "cloud").exists())
        self.assertFalse((self.folder / "cloud.partial").exists())

    def test_not_a_las_file(self):
        path = self.folder / "notes.las"
        path.write_text("easting northing\n")
        self.refused(path, "not a LAS")
        path.write_bytes(b"")
        self.refused(path, "not a LAS")
        with self.assertRaisesRegex(InputError, "no such file"):
            open_points(self.folder / "missing.las")
        with self.assertRaisesRegex(InputError, "folder"):
            open_points(self.folder)
        with self.assertRaisesRegex(InputError, "no kind that Kerb reads"):
            open_points(DATA / "licences" / "laspy.txt")

    def test_header_fields_that_cannot_be(self):
        self.refused(self.changed(LAS, (24, "B", 7)), "version 7.1")
        self.refused(self.changed(LAS, (94, "<H", 12)), "header size 12")
        self.refused(self.changed(LAS, (104, "B", 47)), "point format")
        self.refused(self.changed(LAS, (105, "<H", 8)), "too short for format")
        self.refused(self.changed(LAS, (96, "<I", 4_000_000_000)), "start at byte 4000000000")
        self.refused(self.changed(LAS, (100, "<I", 4_000_000_000)), "do not fit")
        self.refused(self.changed(LAS, (131, "<d", float("nan"))), "scale")
        self.refused(self.changed(LAS, (139, "<d", 0.0)), "scale")
        self.refused(self.changed(LAS, (155, "<d", 1e300)), "absurd")
        self.refused(self.changed(LAS, (107, "<I", 0)), "no points")
        self.refused(self.changed(LAS, keep=150), "ends inside the header")

    def test_a_header_record_that_runs_into_the_points(self):
        path = self.changed(DATA / "airborne_feet.laz", (227 + 20, "<H", 65_535))
        self.refused(path, "runs into the points")

    def test_truncated_las_offers_the_good_points(self):
        path = self.changed(LAS, keep=227 + 28 * 400 + 13)
        self.refused(path, "ends too early", TruncatedError)
        with self.assertRaises(TruncatedError) as caught:
            LasStream(path)
        self.assertEqual((caught.exception.good, caught.exception.claimed), (400, 1065))
        stream = LasStream(path, partial=True)
        store = build(stream, self.folder / "cloud", silent())
        self.assertEqual(store.count, 400)
        self.assertEqual([code for code, _ in stream.warnings if code == "truncated"], ["truncated"])

    def test_truncated_laz_offers_the_good_points(self):
        """Chunks of 50 000 points: cut in the only chunk, what can be unpacked before the break is right."""
        path = self.changed(LAZ, keep=LAZ.stat().st_size * 2 // 3)
        self.refused(path, "", (TruncatedError, FormatError))
        whole = np.sort(laspy.read(LAZ).points.array["X"])
        try:
            store = build(LasStream(path, partial=True), self.folder / "cloud", silent())
        except FormatError:
            return  # nothing could be unpacked, and the error said so
        self.assertTrue(0 < store.count < len(whole))
        self.assertTrue(np.isin(store.xyz[:, 0], whole).all())

    def test_lying_count_takes_no_memory(self):
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        path = self.changed(LAS, (107, "<I", 4_294_967_295))
        self.refused(path, "4294967295 points", TruncatedError)
        path = self.changed(LAZ, (247, "<Q", 10**15), (107, "<I", 0))
        self.refused(path, "", (TruncatedError, FormatError))
        self.assertLess(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before, 400_000)

    def test_garbage_instead_of_compressed_points(self):
        data = bytearray(LAZ.read_bytes())
        start = struct.unpack_from("<I", data, 96)[0]
        noise = np.random.default_rng(0).integers(0, 256, len(data) - start - 8, np.uint8)
        data[start + 8 :] = noise.tobytes()
        path = self.folder / "garbage.laz"
        path.write_bytes(bytes(data))
        try:
            build(LasStream(path), self.folder / "cloud", silent())
        except InputError as error:
            self.assertIn("garbage.laz", str(error))
        self.assertFalse((self.folder / "cloud.partial").exists())

    def test_random_damage_is_an_error_or_points_never_a_crash(self):
        rng = np.random.default_rng(11)
        source = bytearray((DATA / "with_evlr.laz").read_bytes())
        for number in range(60):
            data = bytearray(source)
            for place in rng.integers(0, len(data), 12):
                data[place] = rng.integers(0, 256)
            path = self.folder / f"{number}.laz"
            path.write_bytes(bytes(data))
            try:
                stream = LasStream(path, partial=True)
                build(stream, self.folder / f"cloud{number}", silent())
            except InputError as error:
                self.assertIn(path.name, str(error))
            path.unlink()


class Systems(unittest.TestCase):
    def test_systems_of_real_files(self):
        """Facts from the readers of other libraries: see ../shared/data/README.md."""
        facts = {
            "airborne_feet.laz": ("ft", ""), "airborne_2154.laz": ("m", "EPSG:2154"), "with_evlr.laz": ("us-ft", None),
            "simple1_1.las": ("m", ""), "small.copc.laz": ("m", None),
        }  # fmt: skip
        for name, (unit, code) in facts.items():
            with self.subTest(name):
                reference, warnings = reference_of(LasStream(DATA / name).head)
                self.assertEqual(reference.unit.code, unit)
                if code is not None:
                    self.assertEqual(reference.code, code)
                self.assertEqual("crs-missing" in dict(warnings), name == "simple1_1.las")
        self.assertIn("unit-conflict", dict(reference_of(LasStream(DATA / "small.copc.laz").head)[1]))

    def test_wkt_and_keys_that_contradict(self):
        head = LasStream(DATA / "airborne_feet.laz").head
        keys = next(record for record in head.records if record.number == 34735)
        data = bytearray(keys.data)
        for at in range(8, len(data), 8):
            if struct.unpack_from("<H", data, at)[0] == 3076:
                struct.pack_into("<H", data, at + 6, 9003)
        head.records = [type(keys)(r.user, r.number, r.description, bytes(data)) if r is keys else r for r in head.records]
        warnings = dict(reference_of(head)[1])
        self.assertIn("US survey foot", warnings["crs-conflict"])


class Layers(Folder):
    def test_a_layer_that_claims_more_than_the_file_takes_no_memory(self):
        """Found by fuzzing: the size of a layer is believed by the library that unpacks it."""
        data = bytearray((DATA / "small.copc.laz").read_bytes())
        data[26138] = 182
        path = self.folder / "small.copc.laz"
        path.write_bytes(bytes(data))
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        stream = open_points(path)
        with self.assertRaisesRegex(FormatError, "claims more bytes"):
            for _ in stream.chunks(10_000):
                pass
        with self.assertRaises(FormatError):
            stream.sample(1000)
        self.assertLess((resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024, 300)
