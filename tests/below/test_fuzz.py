"""Damaged inputs of every reader and of job folders: the first of the long run that ``bench/fuzz.py`` keeps."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from bench import fuzz

INPUTS = 300


class Damaged(unittest.TestCase):
    def test_each_is_read_or_refused_in_our_words(self):
        self.assertEqual(list(fuzz.trials(range(INPUTS))), [])

    def test_those_that_once_were_not(self):
        """Inputs of the long runs that ended otherwise: empty heads, columns that are not there, records of no size."""
        with tempfile.TemporaryDirectory() as holder:
            good = Path(holder) / "good"
            good.mkdir()
            known = {seed.name: seed for seed in fuzz.seeds(good)}
            job = next(seed for name, seed in known.items() if name.endswith("store.json"))
            for name in job.files:
                if name.endswith(("tiles.npy", "xyz.npy", "classification.npy", "synthetic.constant.npy")):
                    for data in (
                        b"", b"\x93NUMPY\x01\x00\x76\x00{'descr'", job.files[name][:-40], job.files[name] + b"x",
                    ):  # fmt: skip
                        self.seen(job, name, data, Path(holder) / "bad")
            store = next(name for name in job.files if name.endswith("store.json"))
            text = job.files[store]
            for old, new in ((b'"withheld"', b'"witlheld"'), (b'"scale": [', b'"scale": ["x",'), (b'"count": ', b'"count": 1e308'),
                             (b"{", b"["), (b'"reference"', b'"referense"')):  # fmt: skip
                self.seen(job, store, text.replace(old, new, 1), Path(holder) / "bad")
            kept = next(name for name in job.files if name.endswith(".npz"))
            for at in range(len(job.files[kept])):
                if job.files[kept][at : at + 4] in (b"PK\x01\x02", b"PK\x03\x04"):
                    for place, value in ((4, 255), (6, 255), (8, 1), (10, 99)):
                        data = bytearray(job.files[kept])
                        data[at + place] = value
                        self.seen(job, kept, bytes(data), Path(holder) / "bad")
            las = known["extrabytes.las"]
            for at in range(225, 1200, 3):
                data = bytearray(las.files["extrabytes.las"])
                data[at] ^= 0xFF
                self.seen(las, "extrabytes.las", bytes(data), Path(holder) / "bad")
            points = known["points.dxf"]
            odd = points.files["points.dxf"].replace(b"\nTEXT\n", b"\nPOXT\n", 1)
            self.assertNotEqual(odd, points.files["points.dxf"])
            self.seen(points, "points.dxf", odd, Path(holder) / "bad")
            dxf = known["ASCII_R12.dxf"]
            lines = dxf.files["ASCII_R12.dxf"].split(b"\n")
            for at in range(0, len(lines), 41):
                self.seen(dxf, "ASCII_R12.dxf", b"\n".join(lines[:at] + lines[at + 1 :]), Path(holder) / "bad")

    def seen(self, seed, name, data, folder):
        changed = fuzz.replace(seed, files={**seed.files, name: data}, damaged="")
        path = fuzz.placed(changed, folder, np.random.default_rng(0))
        with self.subTest(name=name, data=data[:60]):
            self.assertEqual(fuzz.looked(changed, path), "")

    def test_damage_is_the_same_for_the_same_number(self):
        data = bytes(range(256)) * 9
        one, other = (fuzz.damaged(data, np.random.default_rng(5)) for _ in range(2))
        self.assertEqual(one, other)
        self.assertEqual(len({fuzz.damaged(data, np.random.default_rng(n)) for n in range(50)}), 50)
        self.assertEqual(fuzz.damaged(b"", np.random.default_rng(1)), b"")
