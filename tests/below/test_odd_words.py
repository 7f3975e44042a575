"""What is typed or named oddly: one line that names the reason, nothing written, nothing obeyed by a terminal."""

import os
import signal
import subprocess
import sys
import time

import numpy as np

from kerb.headless.options import escaped
from kerb.job.state import free_name
from tests.support import CommandLine


class Odd(CommandLine):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(1)
        xy = rng.uniform(0, 40, (4000, 2))
        self.cloud = self.folder / "g.csv"
        rows = np.column_stack([xy + [5e5, 4e6], 100 + 0.05 * xy[:, 0] + rng.normal(0, 0.01, len(xy))])
        np.savetxt(self.cloud, rows, fmt="%.3f", delimiter=",", header="x,y,z", comments="")

    def refused(self, reason, *words):
        before = sorted(self.folder.iterdir())
        status, _ = self.kerb(*words)
        self.assertEqual(status, 2, self.error)
        self.assertRegex(self.error, reason)
        self.assertEqual(len(self.error.strip().splitlines()), 1)
        self.assertEqual(sorted(self.folder.iterdir()), before)

    def test_settings_beyond_reason(self):
        out = self.folder / "x.laz"
        self.refused("--every must be one to", "convert", self.cloud, out, "--every", "99999999999999999999")
        self.refused("finer than the numbers", "convert", self.cloud, out, "--spacing", "1e-20")
        self.refused("argument --turn: invalid", "ground", self.cloud, "--turn", "inf,3", "--out", out)
        self.refused("place 0.0, 0.0 lies outside", "ground", self.cloud, "--turn", "0,0", "--out", out)
        self.refused("edges up to 1e-06 leave nothing", "cutfill", self.cloud, self.cloud, "--longest", "1e-6")
        self.refused(r"unrecognized arguments: --nonsense \(see kerb", "surface", self.cloud, "--nonsense")
        began = time.monotonic()
        status, _ = self.kerb("ground", self.cloud, "--object-size", "1e4", "--out", out)
        self.assertEqual(status, 0, self.error)
        self.assertLess(time.monotonic() - began, 60, "no wider than the cloud is looked for")

    def test_what_a_longest_edge_leaves_out_is_told(self):
        found = self.json("surface", self.cloud, "--max-edge", "0.3")
        self.assertEqual(found["verdict"], "Most of the surface is left out")
        self.assertIn("leave out", {w["code"]: w["text"] for w in found["warnings"]}["left-out"])
        self.assertNotIn("verdict", self.json("surface", self.cloud, "--max-edge", "5"))
        half = self.json("cutfill", self.cloud, self.cloud, "--longest", "0.35", "--accept-warnings")
        self.assertIn("left-out", [w["code"] for w in half["warnings"]])

    def test_a_terminal_obeys_no_name(self):
        self.assertEqual(
            escaped("a\x1b[31m\nb\u202ec\udcff 12\u2009m \u00b1\xa0é"), "a\\x1b[31m\\nb\\u202ec\\udcff 12\u2009m \u00b1\xa0é"
        )
        odd = self.folder / "od\x1b[31md\nname.csv"
        odd.write_bytes(self.cloud.read_bytes())
        _, text = self.kerb("info", odd)
        self.assertNotIn("\x1b", text)
        self.assertIn("od\\x1b[31md\\nname.csv", text)
        self.kerb("info", self.folder / "no\x1b[31m.csv")
        self.assertNotIn("\x1b", self.error)

    def test_a_name_that_is_no_utf8_is_reported_on(self):
        odd = os.fsdecode(os.fsencode(self.folder) + b"/g\xfe.csv")
        with open(odd, "wb") as out:
            out.write(self.cloud.read_bytes())
        status, _ = self.kerb("surface", odd, "--report", self.folder / "r.pdf", "--json", self.folder / "r.json")
        self.assertEqual(status, 0, self.error)
        self.assertGreater((self.folder / "r.pdf").stat().st_size, 5000)
        self.assertEqual(self.kerb("add", self.folder / "j.kerb", odd)[0], 0, self.error)

    def test_names_of_copies_count_on(self):
        self.assertEqual(free_name("Yard", ["Yard"]), "Yard (2)")
        self.assertEqual(free_name("Yard (2)", ["Yard", "Yard (2)"]), "Yard (3)")
        self.assertEqual(free_name("(2)", ["(2)"]), "(2) (2)")

    def test_stopping_by_any_signal_is_an_interruption(self):
        for number in (signal.SIGHUP, signal.SIGTERM):
            for wait in (0.25, 1.5):
                run = subprocess.Popen(
                    [sys.executable, "-m", "kerb", "surface", str(self.cloud)], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE
                )
                time.sleep(wait)
                run.send_signal(number)
                said = run.communicate(timeout=60)[1].decode()
                self.assertIn(run.returncode, (130, 0), said)
                self.assertNotIn("Traceback", said)
