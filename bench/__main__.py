"""Run benchmarks and write ``bench/results.json`` and ``docs/performance.md``.

``./run bench`` runs all at their usual sizes; ``./run bench import toe`` some; ``--quick`` at small sizes.
"""

from __future__ import annotations

import json
import platform
import resource
import subprocess
import sys
import threading
import time
from datetime import date
from pathlib import Path

from bench.measures import MEASURES

HERE = Path(__file__).parent
KEPT = HERE / "results.json"


def main() -> int:
    words = [word for word in sys.argv[1:] if not word.startswith("--")]
    if "--one" in sys.argv:
        name, size = words
        start, own = time.perf_counter(), OwnMemory()
        result = MEASURES[name].run(int(size))
        result["seconds_in_all"] = round(time.perf_counter() - start, 2)
        result["peak_mb"] = round(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
        result["own_mb"] = own.peak()
        print(json.dumps(result))
        return 0
    quick = "--quick" in sys.argv
    rows = []
    for name, measure in MEASURES.items():
        if words and name not in words:
            continue
        for size in measure.quick if quick else measure.sizes:
            # A process each, so that one's memory peak is its own.
            command = [sys.executable, "-m", "bench", name, str(size), "--one"]
            ended = subprocess.run(command, capture_output=True, text=True, check=False)
            if ended.returncode:
                sys.stderr.write(f"{name} {size} failed:\n{ended.stderr[-2000:]}\n")
                continue
            result = {"name": name, "size": size, **json.loads(ended.stdout.splitlines()[-1])}
            rows.append(result)
            print(json.dumps(result), flush=True)
    before = json.loads(KEPT.read_text(encoding="utf-8")) if KEPT.exists() else {"results": []}
    data = {
        "date": date.today().isoformat(), "machine": machine(), "results": merged(rows, before["results"]),
        "remarks": before.get("remarks", []),
    }  # fmt: skip
    # A quick run is for looking: what is kept and shown was measured at the usual sizes.
    if not quick:
        KEPT.write_text(json.dumps(data, indent=1) + "\n", encoding="utf-8")
        (HERE.parent / "docs" / "performance.md").write_text(page(data), encoding="utf-8")
    return 0


class OwnMemory:
    """The most memory this process has had apart from pages of files, looked at fifty times a second (proc(5), RssAnon)."""

    def __init__(self) -> None:
        self._most, self._ended = 0, threading.Event()
        self._watch = threading.Thread(target=self._look, daemon=True)
        self._watch.start()

    def peak(self) -> int:
        """In MB, since it was made."""
        self._ended.set()
        self._watch.join()
        return self._most // 1024

    def _look(self) -> None:
        while True:
            status = Path("/proc/self/status").read_text(encoding="ascii")
            self._most = max(self._most, int(status.partition("RssAnon:")[2].split()[0]))
            if self._ended.wait(0.02):
                return


def merged(rows: list[dict], old: list[dict]) -> list[dict]:
    """Results of this run, and kept ones of measures that were not run this time."""
    fresh = {(row["name"], row["size"]): row for row in [*old, *rows]}
    order = list(MEASURES)
    return sorted(fresh.values(), key=lambda row: (order.index(row["name"]), row["size"]))


def machine() -> str:
    model = next(
        (line.split(":")[1].strip() for line in Path("/proc/cpuinfo").read_text().splitlines() if "model name" in line),
        "",
    )
    memory = int(Path("/proc/meminfo").read_text().split()[1]) / 1e6
    from kerb.core.parallel import cores

    return f"{model or platform.processor()}, {cores()} cores, {memory:.0f} GB, no graphics card, Python {platform.python_version()}"


def page(data: dict) -> str:
    """The table for people."""
    lines = [
        "# Performance", "", f"Measured {data['date']} by `./run bench` on: {data['machine']}. Each ratio is Kerb's time over",
        "the plain library's in the same run. Peak is the resident memory of the whole process, the library's share and the",
        "generated data included; own is what of it is no page of a file.", "",
        "| what | size | Kerb (s) | plain library (s) | ratio | target | peak (MB) | own (MB) |",
        "| --- | --- | --- | --- | --- | --- | --- | --- |",
    ]  # fmt: skip
    for row in data["results"]:
        size = f"{row['size'] / 1e6:g} M" if row["size"] else "–"
        target = MEASURES[row["name"]].target
        plain = f"{row['plain']:.2f} ({row['library']})" if row.get("plain") else "–"
        # Results that come from a printed table have their ratio as it was measured, before rounding.
        ratio = f"{row.get('ratio') or row['kerb'] / row['plain']:.2f}" if row.get("plain") else "–"
        lines.append(
            f"| {MEASURES[row['name']].title} | {size} | {row['kerb']:.3f} | {plain} | {ratio} | {target} | {row['peak_mb']} | {row.get('own_mb', '–')} |"
        )
        lines += [f"| &nbsp;&nbsp;{k} | | {v:.3f} | | | | | |" for k, v in row.get("also", {}).items()]
    lines += ["", *data.get("remarks", [])]
    return "\n".join(lines).rstrip("\n") + "\n"


if __name__ == "__main__":
    sys.exit(main())
