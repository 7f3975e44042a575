"""Run all tests, or those named: everything below the window with PySide6 not importable, and the window.

Both are cut into pieces, two of which run at a time in processes of their own, so that two cores are kept busy to the end.

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
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

HERE = Path(__file__).parent
# Pieces of each part; the first and longest are begun first.
PIECES = {"window": 2, "below": 5}
AT_A_TIME = 2


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


def run_piece(part: str, piece: int, names: list[str]) -> dict:
    """Run a piece of a part in this process: every so many-th file of tests."""
    if part == "below":
        sys.meta_path.insert(0, BlockQt())
    loader = unittest.TestLoader()
    if names:
        loader.testNamePatterns = [f"*{name}*" for name in names]
    files = sorted((HERE / part).glob("test_*.py"))[piece :: PIECES[part]]
    suite = loader.loadTestsFromNames([f"tests.{part}.{path.stem}" for path in files])
    result = unittest.TextTestRunner(verbosity=1, warnings="error", resultclass=Timed).run(suite)
    for seconds, name in sorted(result.times, reverse=True)[: int(os.environ.get("SLOWEST", 5))]:
        sys.stderr.write(f"  {seconds:5.1f} s  {name}\n")
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    return {
        "passed": result.testsRun - failed - len(result.skipped),
        "failed": failed,
        "skipped": len(result.skipped),
    }


def in_a_process(part: str, piece: int, folder: Path) -> tuple[int, str, dict | None]:
    """A piece in a process and folders of its own: its status, what it says, and its counts."""
    said, out = folder / "said.txt", folder / "counts.json"
    (folder / "scratch").mkdir(parents=True)
    home = {f"XDG_{kind}_HOME": str(folder / kind) for kind in ("DATA", "CONFIG")}
    env = {**os.environ, **home, "QT_QPA_PLATFORM": "offscreen", "TMPDIR": str(folder / "scratch")}
    command = [sys.executable, "-X", "faulthandler", "-m", "tests", "--part", part, str(piece), str(out), *sys.argv[1:]]
    with open(said, "w") as stream:
        status = subprocess.run(command, env=env, cwd=HERE.parent, stderr=stream, stdout=stream, check=False).returncode
    return status, said.read_text(errors="replace"), json.loads(out.read_text()) if out.exists() else None


def main() -> int:
    if len(sys.argv) > 2 and sys.argv[1] == "--part":
        part, piece, out, *names = sys.argv[2:]
        Path(out).write_text(json.dumps(run_piece(part, int(piece), names)))
        sys.stdout.flush()
        os._exit(0)
    passed = failed = skipped = 0
    with tempfile.TemporaryDirectory() as folder, ThreadPoolExecutor(AT_A_TIME) as pool:
        pieces = [(part, piece) for part, count in PIECES.items() for piece in range(count)]
        homes = [Path(folder) / f"{part}-{piece}" for part, piece in pieces]
        for (part, _), ended in zip(pieces, pool.map(in_a_process, *zip(*pieces, strict=True), homes), strict=True):
            status, said, counts = ended
            sys.stderr.write(said)
            if counts is None:
                sys.stderr.write(f"the tests of '{part}' died (status {status})\n")
                failed += 1
                continue
            passed, failed = passed + counts["passed"], failed + counts["failed"]
            skipped += counts["skipped"]
    tail = f", {skipped} skipped" if skipped else ""
    print(f"{passed} passed, {failed} failed{tail}", flush=True)
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.exit(main())
