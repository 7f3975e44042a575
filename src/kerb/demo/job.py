"""The demo job: the yard's cloud imported, of each kind of study one ready and one to do. Made once and kept."""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path

import numpy as np

from kerb.core.progress import Progress
from kerb.demo import adit, bridge, cloud, pit, quay, slab, storey, yard
from kerb.demo.files import ODD, PIT_MARCH, PIT_MAY, PIT_SCAN, DemoFiles, write_files
from kerb.job import holdings, studies
from kerb.job.job import Change, Job
from kerb.job.places import user_data
from kerb.job.state import Title
from kerb.studies.accuracy.setup import AccuracySetup
from kerb.studies.align.setup import AlignSetup
from kerb.studies.change.setup import ChangeSetup
from kerb.studies.clearance.setup import ClearanceSetup
from kerb.studies.contours.setup import ContoursSetup
from kerb.studies.cutfill.setup import CutfillSetup
from kerb.studies.drawn import Drawn, Item
from kerb.studies.floor.setup import FloorSetup
from kerb.studies.inventory.setup import InventorySetup
from kerb.studies.mend.setup import MendSetup
from kerb.studies.plan.setup import PlanSetup
from kerb.studies.rockface.setup import RockfaceSetup
from kerb.studies.scope import Scope
from kerb.studies.sections.setup import SectionsSetup
from kerb.studies.setup import Setup
from kerb.studies.spots.setup import SpotsSetup
from kerb.studies.stockpile.setup import StockpileSetup
from kerb.studies.surface.setup import SurfaceSetup
from kerb.studies.tunnel.setup import TunnelSetup

FILE = "saltmarrow-yard-2026-03-12.laz"
JOB = "Saltmarrow Quay.kerb"
INVENTORIES = ("Yard, all heaps", "Yard, heaps to be proposed")
PITS = (
    "Pit, March to May", "Pit against a level or the design", "Pit as a surface", "Contours of the design", "Spot levels",
    "Pit, distances of May", "Distances from the design", "Second scan into line", "March into line",
    "Pond and ditch, mended",
)  # fmt: skip
QUAY = (
    "Shore slope, scour and deposits", "Shore slope after the storm", "Cut face after the blast", "Corridor against its model",
    "Corridor scan into line", "New quay slab", "Office, floor plan", "Pipe bridge over the haul road",
    "Adit, rock against the line", "Adit, shotcrete",
)  # fmt: skip
# File, name and date of the rest of the quay.
REST = (
    ("shore-before.laz", "Shore, before the storm", "2026-03-12"), ("shore-after.laz", "Shore, after the storm", "2026-05-20"),
    ("face-before.laz", "Cut face, before", "2026-03-12"), ("face-after.laz", "Cut face, after the blast", "2026-05-20"),
    ("corridor-model.obj", "Corridor, model", ""), ("office-scan.laz", "Corridor, scan", "2026-05-20"),
    ("corridor-second-scan.laz", "Corridor, second scan", "2026-05-20"), (slab.FILE, "Quay slab, scan", "2026-05-20"),
    (bridge.FILE, "Pipe bridge, scan", "2026-05-20"), (storey.FILE, "Office, upper storey", "2026-05-20"),
    (adit.ROCK, "Adit, rock", "2026-04-20"), (adit.LINED, "Adit, lined", "2026-05-20"), (adit.AXIS, "Adit, alignment", ""),
)  # fmt: skip
OTHERS = ("Sections across the south", "Flight of March, accuracy")
BESIDE = (
    ("control.csv", "Control points", True), ("checkpoints.csv", "Checkpoints", False),
    ("yard-lines.dxf", "Yard lines", False), ("orthophoto.png", "Orthophoto", False),
)  # fmt: skip


def questions(cloud: str, points: str = "") -> list[tuple[str, str, Setup]]:
    """The studies of the demo, (kind, name, setup): of each kind one that is ready, and some to do.

    ``points`` are the checkpoints, where there are any.
    """
    scope = Scope(cloud)
    rings = [Drawn.of(heap.toe(28).round(2)) for heap in yard.HEAPS]
    found: list[tuple[str, str, Setup]] = []
    for number, heap in enumerate(yard.HEAPS):
        drawn = rings[number] if number == 0 else Drawn()
        setup = StockpileSetup(scope, density=heap.density, material=heap.material, toe=drawn)
        found.append(("stockpile", heap.name, setup))
    items = tuple(
        Item(f"h{n}", heap.name, rings[n - 1], (("material", heap.material), ("density", heap.density)), True, "drawn")
        for n, heap in enumerate(yard.HEAPS, 1)
    )
    found.append(("inventory", INVENTORIES[0], InventorySetup(scope, heaps=items)))
    found.append(("inventory", INVENTORIES[1], InventorySetup(scope)))
    along = np.array([[8.0, 20.0], [112.0, 20.0]]) + yard.ORIGIN
    found.append(("sections", OTHERS[0], SectionsSetup(scope, line=Drawn.of(along), interval=10.0, width=30.0)))
    if points:
        reasons = "; ".join(f"{name} {why}" for name, _, _, why in ODD if why and why != "outside")
        found.append(
            (
                "accuracy",
                OTHERS[1],
                AccuracySetup(scope, points=points, left_out=reasons, way="plane", point_accuracy=0.01, strips=True),
            )
        )
    return found


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
    # Made beside its name: a demo that was stopped half-way is never taken for one.
    work = folder.with_name(f"making {folder.name}")
    shutil.rmtree(work, ignore_errors=True)
    try:
        make_demo(work, source, progress.within(0.4, 1.0), files).flush()
        work.rename(folder)
    except BaseException:
        shutil.rmtree(work, ignore_errors=True)
        raise
    return Job.open(folder)


def make_demo(folder: Path, source: Path, progress: Progress, files: DemoFiles | None = None) -> Job:
    """A job with the yard, the first heap and the inventory computed, the others still to do.

    With ``files`` it has control points, lines and a picture too, as they come from other offices.
    """
    job = Job.create(folder)
    wish = holdings.ImportWish(source, epoch="2026-03-12")
    holding = holdings.import_cloud(folder, job.state, wish, progress.within(0.0, 0.8))
    job.execute(holdings.added(job, replace(holding, name="Laydown yard, drone")))
    points = ""
    for name, words, shown in BESIDE if files is not None else ():
        assert files is not None
        wish = holdings.ImportWish(files[name], epoch="2026-03-12", name=words)
        beside = holdings.import_file(folder, job.state, wish, progress.within(0.8, 0.85))
        job.execute(holdings.added(job, replace(beside, visible=shown)))
        points = beside.id if words == "Checkpoints" else points
    title = Title(
        name="Saltmarrow Quay",
        client="Saltmarrow Harbour Trust",
        site="Laydown yard, March",
        analyst="R. Tolland",
        unit=job.state.title.unit,
        reference=job.state.title.reference,
    )
    job.execute(Change("Titled the job", lambda state: replace(state, title=title)))
    for number, (kind, name, setup) in enumerate(questions(holding.id, points)):
        change, study = studies.made(job.state, kind, name, setup)
        job.execute(change)
        if not setup.missing():
            share = progress.within(0.85 + 0.02 * number, 0.87 + 0.02 * number)
            outcome, print_ = studies.run_study(job, study, share)
            job.execute(studies.answered(study, outcome, print_))
    if files is not None:
        _add_quay(job, files, progress.within(0.9, 0.99))
    job.save()
    job.forget_undo()
    return job


def pit_questions(march: str, may: str, design: str, scan: str) -> list[tuple[str, str, Setup]]:
    """The studies of the link-span pit, (kind, name, setup): some ready, some to do."""
    works = Item("p1", "Works", Drawn.of(pit.works().round(2)), (), True, "drawn")
    road = Item("p2", "Road", Drawn.of(pit.road().round(2)), (), True, "drawn")
    water = (
        Item("m1", "Pond", Drawn.of(pit.pond().round(2)), (("way", "still"),), True, "drawn"),
        Item("m2", "Ditch", Drawn.of(pit.ditch().round(2)), (("way", "river"),), True, "drawn"),
    )
    return [
        ("cutfill", PITS[0], CutfillSetup(Scope(march), Scope(may), areas=(works,), stable=(road,), take_out="offset")),
        ("cutfill", PITS[1], CutfillSetup(Scope(may))),
        ("surface", PITS[2], SurfaceSetup(Scope(may), spacing=0.5, thin="median", keep=False)),
        ("contours", PITS[3], ContoursSetup(Scope(design), interval=0.5)),
        ("spots", PITS[4], SpotsSetup(Scope(may), spacing=4.0, take="median", radius=0.6)),
        ("change", PITS[5], ChangeSetup(Scope(may), Scope(march), area=Drawn.of(pit.works().round(2)), tolerance=0.1)),
        ("change", PITS[6], ChangeSetup(Scope(may))),
        ("align", PITS[7], AlignSetup(Scope(scan), Scope(may))),
        ("align", PITS[8], AlignSetup(Scope(march))),
        ("mend", PITS[9], MendSetup(Scope(may), steps=water, keep=False)),
    ]


def quay_questions(keys: list[str]) -> list[tuple[str, str, Setup]]:
    """The studies of the rest of the quay, (kind, name, setup); ``keys`` are the holdings in order."""
    before, after, face, blasted, model, scan, second, floor, crossing, rooms, rock, lined, axis = (
        Scope(key) for key in keys
    )
    # The cut face looks south.
    before_the_face = Drawn.of((yard.ORIGIN + np.array(quay.FACE_FOOT[:2]) + [quay.FACE_LONG / 2, -20.0])[None])
    along = ChangeSetup(
        after,
        before,
        method="normal",
        normal_scale=3.0,
        cylinder=1.5,
        depth=2.5,
        registration_error=0.01,
        tolerance=0.1,
    )
    lanes = tuple(
        Item(f"l{n}", name, Drawn.of(ring), (("way", "area"),), True, "drawn")
        for n, (name, ring) in enumerate(bridge.lanes(), 1)
    )
    path = Drawn.of(bridge.path())
    shotcrete = TunnelSetup(lined, axis.holding, profile=adit.PROFILE, earlier=rock, interval=5.0, lining=0.08)
    under = ClearanceSetup(crossing, lanes=lanes, path=path, envelope="3.0x4.9", required=5.0)
    return [
        ("cutfill", QUAY[0], CutfillSetup(before, after, longest=1.5)),
        ("change", QUAY[1], along),
        ("rockface", QUAY[2], RockfaceSetup(face, blasted, front=before_the_face, level_error=0.005)),
        ("change", QUAY[3], ChangeSetup(scan, model, method="mesh", tolerance=0.01)),
        ("align", QUAY[4], AlignSetup(second, scan)),
        ("floor", QUAY[5], FloorSetup(floor, tolerance=0.004, ff=35.0, din="row-3")),
        ("plan", QUAY[6], PlanSetup(rooms, level=storey.FLOOR + 2.0, thickness=0.2, arcs=True)),
        ("clearance", QUAY[7], under),
        ("tunnel", QUAY[8], TunnelSetup(rock, axis.holding, profile=adit.PROFILE, interval=5.0)),
        ("tunnel", QUAY[9], shotcrete),
    ]


def _add_quay(job: Job, files: DemoFiles, progress: Progress) -> None:
    """The pit, the shore, the cut face and the corridor, and what is asked of them."""
    pits = (
        (PIT_MARCH, "Pit, March", "2026-03-12"), (PIT_MAY, "Pit, May", "2026-05-20"), ("pit-design.xml", "Pit, design", ""),
        (PIT_SCAN, "Pit, second scan", "2026-05-20"),
    )  # fmt: skip
    keys = []
    for name, words, epoch in (*pits, *REST):
        wish = holdings.ImportWish(files[name], epoch=epoch, name=words)
        made = holdings.import_file(job.folder, job.state, wish, progress.within(0.0, 0.3))
        job.execute(holdings.added(job, replace(made, name=words, visible=False)))
        keys.append(made.id)
    for kind, name, setup in [*pit_questions(*keys[: len(pits)]), *quay_questions(keys[len(pits) :])]:
        change, study = studies.made(job.state, kind, name, setup)
        job.execute(change)
        if not setup.missing():
            outcome, print_ = studies.run_study(job, study, progress.within(0.3, 1.0))
            job.execute(studies.answered(study, outcome, print_))
