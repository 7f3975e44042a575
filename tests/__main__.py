"""Run all tests, or those named: everything below the window with PySide6 not importable, and the window.

Each part runs in two processes, which take the next of its files as they come free, so that two cores are kept busy to the end.

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
PARTS, AT_A_TIME = ("window", "below"), 2


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


def taken(claims: Path, name: str) -> bool:
    """Whether this process is the first to take a file."""
    try:
        os.close(os.open(claims / name, os.O_CREAT | os.O_EXCL))
    except FileExistsError:
        return False
    return True


def run_part(part: str, claims: Path, names: list[str]) -> dict:
    """Run the files of a part that no other process has taken, the largest first."""
    if part == "below":
        sys.meta_path.insert(0, BlockQt())
    loader = unittest.TestLoader()
    if names:
        loader.testNamePatterns = [f"*{name}*" for name in names]
    times, counts = [], {"passed": 0, "failed": 0, "skipped": 0}
    for path in sorted((HERE / part).glob("test_*.py"), key=lambda path: -path.stat().st_size):
        if taken(claims, f"{part}.{path.stem}"):
            suite = loader.loadTestsFromName(f"tests.{part}.{path.stem}")
            if not suite.countTestCases():
                continue
            result = unittest.TextTestRunner(verbosity=1, warnings="error", resultclass=Timed).run(suite)
            failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
            counts["failed"] += failed
            counts["skipped"] += len(result.skipped)
            counts["passed"] += result.testsRun - failed - len(result.skipped)
            times += result.times
    for seconds, name in sorted(times, reverse=True)[: int(os.environ.get("SLOWEST", "5"))]:
        sys.stderr.write(f"  {seconds:5.1f} s  {name}\n")
    return counts


def in_a_process(part: str, folder: Path, claims: Path) -> tuple[int, str, dict | None]:
    """A share of a part in a process and folders of its own: its status, what it says, and its counts."""
    said, out = folder / "said.txt", folder / "counts.json"
    (folder / "scratch").mkdir(parents=True)
    home = {f"XDG_{kind}_HOME": str(folder / kind) for kind in ("DATA", "CONFIG")}
    env = {**os.environ, **home, "QT_QPA_PLATFORM": "offscreen", "TMPDIR": str(folder / "scratch")}
    command = [
        sys.executable, "-X", "faulthandler", "-m", "tests", "--part", part, str(claims), str(out), *sys.argv[1:],
    ]  # fmt: skip
    with open(said, "w") as stream:
        status = subprocess.run(command, env=env, cwd=HERE.parent, stderr=stream, stdout=stream, check=False).returncode
    return status, said.read_text(errors="replace"), json.loads(out.read_text()) if out.exists() else None


def main() -> int:
    if len(sys.argv) > 2 and sys.argv[1] == "--part":
        part, claims, out, *names = sys.argv[2:]
        Path(out).write_text(json.dumps(run_part(part, Path(claims), names)))
        sys.stdout.flush()
        os._exit(0)
    passed = failed = skipped = 0
    with tempfile.TemporaryDirectory() as folder, ThreadPoolExecutor(AT_A_TIME) as pool:
        claims = Path(folder) / "claims"
        claims.mkdir()
        shares = [(part, Path(folder) / f"{part}-{number}") for part in PARTS for number in range(AT_A_TIME)]
        for (part, _), ended in zip(shares, pool.map(lambda share: in_a_process(*share, claims), shares), strict=True):
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
