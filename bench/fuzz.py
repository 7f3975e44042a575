"""Damaged files and job folders, many of them: each must be read or refused in our words, soon and in little memory.

``python -m bench.fuzz 20000`` is the long run (two processes); the test suite takes the first few hundred. An input is
told by its number alone: ``python -m bench.fuzz --one NUMBER`` makes it again and shows what it does.
"""

from __future__ import annotations

import contextlib
import faulthandler
import json
import re
import resource
import shutil
import subprocess
import sys
import tempfile
import time
import traceback
import warnings
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from kerb.core.cloud.outgoing import from_stream
from kerb.core.errors import KerbError
from kerb.core.geometry.features import SurveyPoints
from kerb.core.progress import silent
from kerb.core.reference import from_text
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.things import CLOUD, LINES, MODEL, POINTS, SURFACE, Placed
from kerb.formats.points import open_points
from kerb.formats.read_things import Reading, read_offer
from kerb.formats.recognise import examine
from kerb.formats.shots import parsed
from kerb.formats.stac import read_catalogue
from kerb.formats.write_things import write_cloud, write_thing
from kerb.job import holdings, outcomes
from kerb.job.holdings import ImportWish
from kerb.job.job import Job
from kerb.job.places import Settings
from kerb.studies.outcome import Outcome

DATA = Path(__file__).parents[1] / "tests" / "data"
SECONDS, MEGABYTES, CHUNK = 20.0, 900, 250
# What numbers in texts are replaced by: what is no number, too large a number, or one that means something else.
TOKENS = (
    b"nan",
    b"inf",
    b"-1",
    b"0",
    b"1e20",
    b"1e308",
    b"-1e308",
    b"2147483648",
    b"9223372036854775808",
    b"",
    b"x",
    b"1,5",
)
NUMBER = re.compile(rb"-?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?")


@dataclass(frozen=True)
class Seed:
    """A good file, or a good file of a job folder, to damage: ``look`` reads what became of it."""

    name: str
    files: dict[str, bytes]
    damaged: str
    look: Callable[[Path], None]


@dataclass(frozen=True)
class Fault:
    """What should not happen: an error that is not ours, a process that ended, too much time or memory."""

    number: int
    seed: str
    what: str


def look_at_file(path: Path) -> None:
    """Read everything a file offers."""
    seen = examine(path)
    for offer in seen.offers:
        if offer.kind == CLOUD:
            for _ in open_points(path).chunks(100_000):
                pass
        else:
            read_offer(seen, offer, Reading(), silent())


def look_at_job(folder: Path) -> None:
    """Open a job and everything in it, as the window does."""
    Settings(folder / "settings.json").recent()
    for recover in (False, True):
        job = Job.open(folder, recover and Job.has_recovery(folder))
        for holding in job.state.holdings:
            with contextlib.suppress(KerbError):
                job.bounds_of(holding)
                if holding.kind == CLOUD:
                    store = job.store(holding)
                    for name in ("xyz", *store.names):
                        np.asarray(store.column(name)[: min(store.count, 1000)])
        for path in outcomes.folder_of(folder).glob("*.npz"):
            outcomes.load(folder, path.stem)


def look_at_shots(path: Path) -> None:
    """Every line of a field controller."""
    for line in path.read_bytes().split(b"\n"):
        with contextlib.suppress(KerbError):
            parsed(line)


def look_at_catalogue(path: Path) -> None:
    """A catalogue of surveys."""
    read_catalogue(str(path), silent())


def seeds(folder: Path) -> list[Seed]:
    """Good files of every format that is read, small ones, and the files of a small job."""
    made = [path for path in sorted(DATA.iterdir()) if path.is_file() and path.stat().st_size < 200_000]
    utm = from_text("EPSG:25830")
    rng = np.random.default_rng(1)
    xyz = rng.uniform(0, 50, (40, 3)) + [380_000, 5_560_000, 0]
    names = tuple(f"P{n}" for n in range(40))
    points = Placed(POINTS, SurveyPoints(xyz, names, ("GL",) * 40, {"date": ("2026-01-01",) * 40}), utm)
    lines = _thing(DATA / "ASCII_R12.dxf", LINES)
    (folder / "box.obj").write_text(_box())
    model = _thing(folder / "box.obj", MODEL)
    grid = Placed(SURFACE, ElevationGrid(rng.uniform(0, 9, (12, 9)), (1.0, 0, 380_000, 0, -1.0, 5_560_012)), utm)
    wanted = [(points, f"points{e}") for e in (".csv", ".gpkg", ".geojson", ".xml", ".dxf", ".shp")]
    wanted += [(lines, f"lines{e}") for e in (".gpkg", ".geojson", ".dxf", ".xml", ".shp")]
    wanted += [(model, f"model{e}") for e in (".obj", ".stl", ".ply", ".off")]
    wanted += [(grid, f"grid{e}") for e in (".tif", ".asc", ".xml")]
    for item, name in wanted:
        write_thing(item, folder / name, silent())
        made.append(folder / name)
    cloud = from_stream(open_points(DATA / "simple1_1.las"))
    for ending in ("las", "laz", "ply", "csv", "xyz", "e57"):
        path = folder / f"cloud.{ending}"
        write_cloud(cloud, path, silent())
        made.append(path)
    (folder / "area.kml").write_text(KML)
    (folder / "shots.jsonl").write_text(
        '{"type":"hello","unit":"m","crs":"EPSG:25830"}\n{"type":"shot","name":"A","n":1,"e":2,"z":3}\n'
    )
    (folder / "catalog.json").write_text(CATALOGUE)
    found = [Seed(path.name, _with_companions(path), path.name, look_at_file) for path in [*made, folder / "area.kml"]]
    found.append(Seed("shots", _with_companions(folder / "shots.jsonl"), "shots.jsonl", look_at_shots))
    found.append(Seed("catalogue", _with_companions(folder / "catalog.json"), "catalog.json", look_at_catalogue))
    return found + _job_seeds(folder, folder / "points.csv", folder / "cloud.las")


def _thing(path: Path, kind: str) -> Placed:
    seen = examine(path)
    return read_offer(seen, seen.offer(kind), Reading(), silent())[0]


def _with_companions(path: Path) -> dict[str, bytes]:
    beside = [other for other in path.parent.glob(f"{path.stem}.*") if other.suffix in (".shx", ".dbf", ".prj", ".cpg")]
    return {one.name: one.read_bytes() for one in (path, *(beside if path.suffix == ".shp" else ()))}


def _job_seeds(folder: Path, *sources: Path) -> list[Seed]:
    job = Job.create(folder / "good.kerb")
    for source in sources:
        job.execute(holdings.added(job, holdings.import_file(job.folder, job.state, ImportWish(source), silent())))
    outcomes.keep(job.folder, "s-1", Outcome("stockpile", "m", "", {}, {}))
    job.save()
    job.execute(holdings.altered(job.state.holdings[0], "Renamed", name="Other"))
    job.flush()
    (job.folder / "settings.json").write_text('{"recent": ["/nowhere"], "maximized": true}')
    files = {str(p.relative_to(job.folder)): p.read_bytes() for p in job.folder.rglob("*") if p.is_file()}
    job.discard()
    some = (".json", ".jsonl", ".npz", "xyz.npy", "tiles.npy", "classification.npy", "synthetic.constant.npy")
    return [Seed(f"job {name}", files, name, look_at_job) for name in sorted(files) if name.endswith(some)]


def _box() -> str:
    corners = [(x, y, z) for x in (0, 4) for y in (0, 5) for z in (0, 6)]
    faces = ["1 2 4 3", "5 7 8 6", "1 5 6 2", "3 4 8 7", "1 3 7 5", "2 6 8 4"]
    return "".join(f"v {x} {y} {z}\n" for x, y, z in corners) + "".join(f"f {face}\n" for face in faces)


def damaged(data: bytes, rng: np.random.Generator) -> bytes:
    """The same bytes, damaged in one to three of the ways that occur: in transfer, by hand, or by ill will."""
    out = bytearray(data)
    for _ in range(int(rng.integers(1, 4))):
        if not out:
            break
        at = int(rng.integers(len(out)))
        # Heads decide more than bodies: every other hit goes there.
        if rng.random() < 0.5:
            at = int(rng.integers(min(len(out), 600)))
        size = int(min(2 ** rng.integers(0, 9), len(out) - at))
        way = int(rng.integers(8))
        if way == 0:
            del out[at:]
        elif way == 1:
            del out[at : at + size]
        elif way == 2:
            out[at : at + size] = rng.integers(0, 256, size, np.uint8).tobytes()
        elif way == 3:
            out[at] ^= 1 << int(rng.integers(8))
        elif way == 4:
            out[at:at] = out[at : at + size]
        elif way == 5:
            word = (0, 1, 2**31 - 1, 2**31, 2**32 - 1, 2**63 - 1, 2**64 - 1)[int(rng.integers(7))]
            wide = (4, 8)[int(rng.integers(2))]
            out[at : at + wide] = (word % 256**wide).to_bytes(wide, "little")
        elif way == 6:
            number = list(NUMBER.finditer(bytes(out[:200_000])))
            if number:
                one = number[int(rng.integers(len(number)))]
                out[one.start() : one.end()] = TOKENS[int(rng.integers(len(TOKENS)))]
        else:
            other = int(rng.integers(len(out)))
            out[at : at + size] = out[other : other + size]
    return bytes(out)


def placed(seed: Seed, folder: Path, rng: np.random.Generator) -> Path:
    """Write the files of a seed, the one to damage damaged, into a fresh folder; the path to look at."""
    shutil.rmtree(folder, ignore_errors=True)
    home = folder / "a.kerb" if seed.look is look_at_job else folder
    for name, data in seed.files.items():
        path = home / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(damaged(data, rng) if name == seed.damaged else data)
    return home if seed.look is look_at_job else home / next(iter(seed.files))


def looked(seed: Seed, path: Path) -> str:
    """Look at an input; what should not have happened, or nothing."""
    before, began = _peak_mb(), time.monotonic()
    what = ""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            seed.look(path)
    except KerbError as error:
        if "\n" in str(error) or len(str(error)) > 2000:
            what = f"more than a line: {str(error)[:200]!r}"
    except BaseException:
        what = traceback.format_exc().strip().splitlines()[-1][:200] + " | " + _where(sys.exc_info()[2])
    if time.monotonic() - began > SECONDS:
        what = f"{what} took {time.monotonic() - began:.0f} s"
    if _peak_mb() - before > MEGABYTES:
        what = f"{what} took {_peak_mb() - before:.0f} MB"
    return what


def trial(number: int, known: list[Seed], folder: Path) -> Fault | None:
    """Make the input of a number and look at it; what should not have happened, if anything."""
    seed = known[number % len(known)]
    what = looked(seed, placed(seed, folder, np.random.default_rng(number)))
    return Fault(number, seed.name, what) if what else None


def _where(trace: object) -> str:
    frames = traceback.extract_tb(trace)  # type: ignore[arg-type]
    ours = [f"{Path(f.filename).name}:{f.lineno}" for f in frames if "/kerb/" in f.filename]
    return " < ".join(reversed(ours[-3:]))


def _peak_mb() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def trials(numbers: range) -> Iterator[Fault]:
    """Look at some inputs in this process."""
    with tempfile.TemporaryDirectory(prefix="kerb-fuzz-") as holder:
        good = Path(holder) / "good"
        good.mkdir()
        known = seeds(good)
        for number in numbers:
            fault = trial(number, known, Path(holder) / "bad")
            if fault is not None:
                yield fault


def main(count: int, first: int = 0) -> int:
    """The long run: chunks in processes of their own, so that one that ends tells which input ended it."""
    chunks = [range(at, min(at + CHUNK, first + count)) for at in range(first, first + count, CHUNK)]
    running: list[tuple[range, subprocess.Popen[str]]] = []
    faults: list[dict] = []
    while chunks or running:
        while chunks and len(running) < 2:
            numbers = chunks.pop(0)
            command = [sys.executable, "-m", "bench.fuzz", "--chunk", str(numbers.start), str(numbers.stop)]
            running.append(
                (numbers, subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True))
            )
        numbers, process = running.pop(0)
        out, _ = process.communicate()
        lines = out.splitlines()
        new = [json.loads(line) for line in lines if line.startswith("{")]
        for fault in new:
            print(json.dumps(fault), flush=True)
        faults += new
        if process.returncode:
            last = next((int(line[1:]) for line in reversed(lines) if line.startswith("@")), numbers.start)
            faults.append({"number": last, "seed": "", "what": f"the process ended with {process.returncode}"})
            print(json.dumps(faults[-1]), flush=True)
            if last + 1 < numbers.stop:
                chunks.insert(0, range(last + 1, numbers.stop))
        print(f"{numbers.stop - first} of {count}, {len(faults)} faults", file=sys.stderr, flush=True)
    print(json.dumps({"inputs": count, "faults": len(faults), "kinds": Counter(f["what"][:60] for f in faults)}))
    return 1 if faults else 0


def _chunk(numbers: range) -> None:
    faulthandler.enable()
    with tempfile.TemporaryDirectory(prefix="kerb-fuzz-") as holder:
        good = Path(holder) / "good"
        good.mkdir()
        known = seeds(good)
        for number in numbers:
            print(f"@{number}", flush=True)
            fault = trial(number, known, Path(holder) / "bad")
            if fault is not None:
                print(json.dumps(vars(replace(fault))), flush=True)


KML = (
    '<?xml version="1.0"?><kml xmlns="http://www.opengis.net/kml/2.2"><Placemark><name>a</name><Polygon><outerBoundaryIs>'
    "<LinearRing><coordinates>-4.1,50.1,0 -4.0,50.1,0 -4.0,50.2,0 -4.1,50.1,0</coordinates></LinearRing></outerBoundaryIs>"
    "</Polygon></Placemark></kml>"
)
CATALOGUE = json.dumps({
    "type": "Catalog", "stac_version": "1.0.0", "id": "a", "description": "b",
    "links": [{"rel": "item", "href": "./item.json"}],
})  # fmt: skip


if __name__ == "__main__":
    if sys.argv[1] == "--chunk":
        _chunk(range(int(sys.argv[2]), int(sys.argv[3])))
    elif sys.argv[1] == "--one":
        where = Path(tempfile.mkdtemp(prefix="kerb-fuzz-"))
        (where / "good").mkdir()
        known_, number_ = seeds(where / "good"), int(sys.argv[2])
        seed_ = known_[number_ % len(known_)]
        path_ = placed(seed_, where / "bad", np.random.default_rng(number_))
        print(seed_.name, path_)
        seed_.look(path_)
    else:
        sys.exit(main(int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 0))
