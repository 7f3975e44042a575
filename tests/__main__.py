"""Run all tests, or those named: first everything below the window with PySide6 not importable, then the window.

Ends with the line ``N passed, N failed``.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

HERE = Path(__file__).parent
PARTS = ("below", "window")


class BlockQt:
    """Makes PySide6 and shiboken6 look as if they were not installed."""

    def find_spec(self, name, _path=None, _target=None):
        if name.split(".")[0] in ("PySide6", "shiboken6", "pyqtgraph"):
            raise ImportError(f"{name} is blocked: code below the window must not need it")


class Timed(unittest.TextTestResult):
    """Keeps the time of each test, so that slow ones are seen."""

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        self.times = []

    def startTest(self, test):
        self.began = time.perf_counter()
        super().startTest(test)

    def stopTest(self, test):
        self.times.append((time.perf_counter() - self.began, test.id()))
        super().stopTest(test)


def run_part(part: str, names: list[str]) -> dict:
    """Run one part in this process."""
    if part == "below":
        sys.meta_path.insert(0, BlockQt())
    loader = unittest.TestLoader()
    suite = loader.discover(str(HERE / part), top_level_dir=str(HERE.parent))
    if names:
        loader.testNamePatterns = [f"*{name}*" for name in names]
        suite = loader.discover(str(HERE / part), top_level_dir=str(HERE.parent))
    result = unittest.TextTestRunner(verbosity=1, warnings="error", resultclass=Timed).run(suite)
    for seconds, name in sorted(result.times, reverse=True)[:5]:
        sys.stderr.write(f"  {seconds:5.1f} s  {name}\n")
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    return {
        "passed": result.testsRun - failed - len(result.skipped),
        "failed": failed,
        "skipped": len(result.skipped),
    }


def start_part(part: str, folder: Path) -> tuple[subprocess.Popen, Path, Path]:
    """A part in a process and folders of its own: the process, what it says, and where its counts will be."""
    said, out = folder / "said.txt", folder / "counts.json"
    (folder / "scratch").mkdir(parents=True)
    home = {f"XDG_{kind}_HOME": str(folder / kind) for kind in ("DATA", "CONFIG")}
    env = {**os.environ, **home, "QT_QPA_PLATFORM": "offscreen", "TMPDIR": str(folder / "scratch")}
    command = [sys.executable, "-X", "faulthandler", "-m", "tests", "--part", part, str(out), *sys.argv[1:]]
    with open(said, "w") as stream:
        process = subprocess.Popen(command, env=env, cwd=HERE.parent, stderr=stream, stdout=stream)
    return process, said, out


def main() -> int:
    if len(sys.argv) > 2 and sys.argv[1] == "--part":
        part, out, *names = sys.argv[2:]
        Path(out).write_text(json.dumps(run_part(part, names)))
        sys.stdout.flush()
        os._exit(0)
    passed = failed = skipped = 0
    with tempfile.TemporaryDirectory() as folder:
        # Both parts at once: each keeps about one core busy.
        started = [(part, *start_part(part, Path(folder) / part)) for part in PARTS]
        for part, process, said, out in started:
            status = process.wait()
            sys.stderr.write(said.read_text(errors="replace"))
            if not out.exists():
                sys.stderr.write(f"the tests of '{part}' died (status {status})\n")
                failed += 1
                continue
            counts = json.loads(out.read_text())
            passed, failed = passed + counts["passed"], failed + counts["failed"]
            skipped += counts["skipped"]
    tail = f", {skipped} skipped" if skipped else ""
    print(f"{passed} passed, {failed} failed{tail}", flush=True)
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.exit(main())
