"""What is kept of compiled kernels: used again as long as all they were compiled from is the same, and no longer."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import kerb

OUTER = """
from kerb.core.jit import kernel
from inner import STEP, twice
@kernel
def outer(x):
    return twice(x) + STEP
print(outer(3.0), sum(outer.stats.cache_hits.values()))
"""
INNER = """
from kerb.core.jit import kernel
STEP = {step}
@kernel
def twice(x):
    return x * {factor}
"""


class Kept(unittest.TestCase):
    def test_a_kernel_follows_what_it_calls_in_another_module(self):
        with tempfile.TemporaryDirectory() as folder:
            paths = [folder, str(Path(kerb.__file__).parents[1])]
            env = {**os.environ, "PYTHONPATH": os.pathsep.join(paths), "NUMBA_CACHE_DIR": str(Path(folder) / "cache")}

            def told(step, factor):
                (Path(folder) / "outer.py").write_text(OUTER)
                (Path(folder) / "inner.py").write_text(INNER.format(step=step, factor=factor))
                command = [sys.executable, "-B", "-c", "import outer"]
                return subprocess.run(command, env=env, capture_output=True, text=True, check=True).stdout.split()

            self.assertEqual(told(10, 2), ["16.0", "0"])
            self.assertEqual(told(10, 2), ["16.0", "1"], "compiled once")
            self.assertEqual(told(10, 5), ["25.0", "0"])
            self.assertEqual(told(20, 5), ["35.0", "0"])
            self.assertEqual(told(20, 5), ["35.0", "1"])
