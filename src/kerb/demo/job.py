"""The demo job: the yard's cloud imported, one heap measured and two to do. Made once and kept with the user's data."""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path

from kerb.core.progress import Progress
from kerb.demo import cloud, yard
from kerb.demo.files import DemoFiles, write_files
from kerb.job import holdings, studies
from kerb.job.job import Change, Job
from kerb.job.places import user_data
from kerb.job.state import Title

FILE = "saltmarrow-yard-2026-03-12.laz"
JOB = "Saltmarrow Quay.kerb"
BESIDE = (
    ("control.csv", "Control points", True), ("yard-lines.dxf", "Yard lines", False),
    ("orthophoto.png", "Orthophoto", False),
)  # fmt: skip


def demo_folder() -> Path:
    """Where the demo lives."""
    return user_data() / "demo"


def demo_file(progress: Progress, folder: Path | None = None) -> Path:
    """The yard's LAZ file, generated when it is not there yet."""
    path = (folder or demo_folder()) / FILE
    if not path.exists():
        progress.step(0.0, "Generating the demo yard")
        cloud.write(path)
    return path


def open_demo(progress: Progress, fresh: bool = False) -> Job:
    """The demo job, made when it is not there yet or ``fresh`` is wanted. Raises Cancelled."""
    folder = demo_folder() / JOB
    if fresh:
        shutil.rmtree(folder, ignore_errors=True)
    if (folder / "job.json").exists():
        return Job.open(folder)
    shutil.rmtree(folder, ignore_errors=True)
    source = demo_file(progress.within(0.0, 0.3))
    files = write_files(demo_folder() / "files", progress.within(0.3, 0.4))
    return make_demo(folder, source, progress.within(0.4, 1.0), files)


def make_demo(folder: Path, source: Path, progress: Progress, files: DemoFiles | None = None) -> Job:
    """A job with the yard, the first heap computed and two more without a toe line.

    With ``files`` it has control points, lines and a picture too, as they come from other offices.
    """
    job = Job.create(folder)
    wish = holdings.ImportWish(source, epoch="2026-03-12")
    holding = holdings.import_cloud(folder, job.state, wish, progress.within(0.0, 0.8))
    job.execute(holdings.added(job, replace(holding, name="Laydown yard, drone")))
    for name, words, shown in BESIDE if files is not None else ():
        assert files is not None
        wish = holdings.ImportWish(files[name], epoch="2026-03-12", name=words)
        beside = holdings.import_file(folder, job.state, wish, progress.within(0.8, 0.85))
        job.execute(holdings.added(job, replace(beside, visible=shown)))
    title = Title(
        name="Saltmarrow Quay",
        client="Saltmarrow Harbour Trust",
        site="Laydown yard, March",
        analyst="R. Tolland",
        unit=job.state.title.unit,
        reference=job.state.title.reference,
    )
    job.execute(Change("Titled the job", lambda state: replace(state, title=title)))
    for number, heap in enumerate(yard.HEAPS):
        setup = {"cloud": holding.id, "material": heap.material, "density": heap.density}
        if number == 0:
            setup["toe"] = [list(vertex) for vertex in heap.toe(28).round(2).tolist()]
        change, study = studies.made(job.state, "stockpile", heap.name, setup)
        job.execute(change)
        if number == 0:
            outcome, found_from = studies.run_study(job, study, progress.within(0.8, 1.0))
            job.execute(studies.answered(study, outcome, found_from))
    job.save()
    job.forget_undo()
    return job
