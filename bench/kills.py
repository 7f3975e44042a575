"""Processes killed at any moment of saving, adding, converting, studying and making the demo: nothing may be lost.

``python -m bench.kills 500`` is the long run (two at a time); the test suite takes a few. A trial is told by its number:
``python -m bench.kills --one NUMBER``.
"""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import laspy
import numpy as np

from kerb.core.errors import KerbError
from kerb.core.progress import silent
from kerb.job import holdings
from kerb.job.holdings import ImportWish
from kerb.job.job import Job

DATA = Path(__file__).parents[1] / "tests" / "data"
YARD, SMALL = DATA / "yard_small.laz", DATA / "simple1_1.las"
SAVING = (
    "import sys; from dataclasses import replace; from pathlib import Path; from kerb.job.job import Job, Change\n"
    "job = Job.open(Path(sys.argv[1])); n = 0\n"
    "while True:\n"
    "    n += 1\n"
    "    job.execute(Change('Named', lambda s: replace(s, title=replace(s.title, name=f'Name {n}'))))\n"
    "    job.save()\n"
)
DEMO = "from kerb.core.progress import silent; from kerb.demo.job import open_demo; open_demo(silent())"
RING = "380030,5560030 380060,5560030 380060,5560060 380030,5560060"


def kerb(*words: object) -> list[str]:
    """A command line."""
    return [sys.executable, "-m", "kerb", *map(str, words)]


class Trial:
    """One kill: what is there before, the command, and what must hold afterwards."""

    longest = 3.0

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.env = {**os.environ, "TMPDIR": str(folder / "tmp"), "XDG_DATA_HOME": str(folder / "home")}
        (folder / "tmp").mkdir()

    def command(self) -> list[str]:
        raise NotImplementedError

    def wrong(self) -> str:
        """What does not hold, or nothing."""
        raise NotImplementedError

    def again(self, *words: object) -> str:
        """Run to the end, as the next use would; what it said, if it failed."""
        ended = subprocess.run(kerb(*words), env=self.env, capture_output=True, text=True, check=False)
        left = [p.name for p in (self.folder / "tmp").iterdir()] + [p.name for p in self.folder.glob(".*.partial*")]
        if ended.returncode:
            return f"the next use failed: {ended.stderr.strip()[:300]}"
        return f"left behind: {left}" if left else ""


def _job(folder: Path) -> Job:
    job = Job.create(folder)
    job.execute(holdings.added(job, holdings.import_file(folder, job.state, ImportWish(SMALL), silent())))
    job.save()
    return job


def _whole(folder: Path, least: int) -> str:
    job = Job.open(folder, Job.has_recovery(folder))
    for holding in job.state.holdings:
        if job.store(holding).count != holding.points:
            return f"{holding.name} is not whole"
    return "" if len(job.state.holdings) >= least else "a holding is lost"


class Save(Trial):
    """Saving over and over."""

    longest = 1.5

    def command(self) -> list[str]:
        _job(self.folder / "a.kerb")
        return [sys.executable, "-c", SAVING, str(self.folder / "a.kerb")]

    def wrong(self) -> str:
        return _whole(self.folder / "a.kerb", 1) or self.again("add", self.folder / "a.kerb", SMALL, "--seen")

    def again(self, *words: object) -> str:
        Job.forget_recovery(self.folder / "a.kerb")
        return super().again(*words)


class Add(Trial):
    """Adding a cloud to a job that has one."""

    def command(self) -> list[str]:
        _job(self.folder / "a.kerb")
        return kerb("add", self.folder / "a.kerb", YARD, "--seen")

    def wrong(self) -> str:
        found = _whole(self.folder / "a.kerb", 1)
        if found:
            return found
        words = self.again("add", self.folder / "a.kerb", SMALL, "--seen")
        left = list((self.folder / "a.kerb" / "data").glob("*.partial"))
        return words or (f"left in the job: {left}" if left else "")


class AddToNew(Trial):
    """Adding a cloud to a job that is made for it."""

    def command(self) -> list[str]:
        return kerb("add", self.folder / "a.kerb", SMALL)

    def wrong(self) -> str:
        return self.again("add", self.folder / "a.kerb", SMALL) or _whole(self.folder / "a.kerb", 1)


class Convert(Trial):
    """Writing over a file that is there."""

    def command(self) -> list[str]:
        shutil.copy(SMALL, self.folder / "out.las")
        shutil.copy(YARD, self.folder / "in.laz")
        return kerb("convert", self.folder / "in.laz", self.folder / "out.las", "--force")

    def wrong(self) -> str:
        if (self.folder / "in.laz").read_bytes() != YARD.read_bytes():
            return "the input changed"
        count = len(laspy.read(self.folder / "out.las").x)
        if count not in (1065, 95_700):
            return f"{count} points"
        return self.again("convert", self.folder / "in.laz", self.folder / "out.las", "--force")


class Study(Trial):
    """A study with a report and figures, over files that are there."""

    longest = 6.0

    def command(self) -> list[str]:
        for name in ("r.pdf", "f.json"):
            (self.folder / name).write_text("before")
        (self.folder / "toe.csv").write_text("e,n\n" + RING.replace(" ", "\n") + "\n")
        return self.words()

    def words(self) -> list[str]:
        pdf, figures = self.folder / "r.pdf", self.folder / "f.json"
        return kerb("stockpile", YARD, "--toe", self.folder / "toe.csv", "--report", pdf, "--json", figures, "--force")

    def wrong(self) -> str:
        pdf, figures = (self.folder / "r.pdf").read_bytes(), (self.folder / "f.json").read_text()
        if pdf != b"before" and not pdf.rstrip().endswith(b"%%EOF"):
            return "half a report"
        if figures != "before":
            json.loads(figures)
        return self.again(*self.words()[3:])


class Demo(Trial):
    """The first opening of the demo."""

    longest = 25.0

    def command(self) -> list[str]:
        return [sys.executable, "-c", DEMO]

    def wrong(self) -> str:
        ended = subprocess.run(self.command(), env=self.env, capture_output=True, text=True, check=False)
        if ended.returncode:
            return f"the demo cannot be made any more: {ended.stderr[-300:]}"
        job = Job.open(self.folder / "home" / "kerb" / "demo" / "Saltmarrow Quay.kerb")
        return "" if len(job.state.studies) == 5 and len(job.state.holdings) == 4 else "the demo is not whole"


KINDS: tuple[Callable[[Path], Trial], ...] = (Save, Add, AddToNew, Convert, Study)
# One in this many is the demo, which takes long.
DEMO_EVERY = 40


def one(number: int, kind: Callable[[Path], Trial] | None = None) -> tuple[str, bool, str]:
    """Carry out a trial: its kind, whether the process still ran when it was killed, and what was wrong."""
    rng = np.random.default_rng(number)
    chosen = kind or (Demo if number % DEMO_EVERY == DEMO_EVERY - 1 else KINDS[number % len(KINDS)])
    with tempfile.TemporaryDirectory(prefix="kerb-kill-") as holder:
        trial = chosen(Path(holder))
        process = subprocess.Popen(
            trial.command(), env=trial.env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
        )
        time.sleep(float(rng.uniform(0.2, trial.longest)))
        ran = process.poll() is None
        os.killpg(process.pid, signal.SIGKILL) if ran else None
        process.wait()
        try:
            return type(trial).__name__, ran, trial.wrong()
        except (KerbError, OSError, ValueError) as error:
            return type(trial).__name__, ran, f"{type(error).__name__}: {error}"


def main(count: int) -> int:
    """The long run."""
    kills, wrong = Counter[str](), []
    with ThreadPoolExecutor(2) as pool:
        for number, (kind, ran, what) in enumerate(pool.map(one, range(count))):
            kills[kind] += ran
            if what:
                wrong.append({"number": number, "kind": kind, "what": what})
                print(json.dumps(wrong[-1]), flush=True)
    print(json.dumps({"trials": count, "killed while running": dict(kills), "wrong": len(wrong)}))
    return 1 if wrong else 0


if __name__ == "__main__":
    if sys.argv[1] == "--one":
        print(one(int(sys.argv[2])))
    else:
        sys.exit(main(int(sys.argv[1])))
