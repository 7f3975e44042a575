"""Studies of a job: make, duplicate, change, run on a snapshot, keep what was found, and know when it is stale."""

from __future__ import annotations

import uuid
from dataclasses import dataclass, replace
from typing import Any

from kerb.core.errors import InputError
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.progress import Progress
from kerb.core.surface.design import DesignSurface
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.things import CLOUD
from kerb.job.job import Change, Job
from kerb.job.state import Holding, JobState, StudyRecord, free_name
from kerb.studies.outcome import Note, Outcome, fingerprint
from kerb.studies.registry import study_kind
from kerb.studies.stockpile import HeapData, StockpileSetup
from kerb.studies.stockpile.heap import BaseSource

DISPLAY_ONLY = ("material",)


def made(state: JobState, kind: str, name: str, setup: dict[str, Any]) -> tuple[Change, StudyRecord]:
    """Add a study. Returns the change and the record it adds."""
    study = StudyRecord(uuid.uuid4().hex[:10], kind, free_name(name, [s.name for s in state.studies]), setup)
    return Change(f"New study: {study.name}", lambda s: s.with_study(study)), study


def duplicated(state: JobState, study: StudyRecord) -> tuple[Change, StudyRecord]:
    """Add a copy of a study, with its setup and without an outcome."""
    name = free_name(study.name, [s.name for s in state.studies])
    twin = replace(study, id=uuid.uuid4().hex[:10], name=name, outcome=None, found_from="")
    return Change(f"Duplicated {study.name}", lambda s: s.with_study(twin, after=study.id)), twin


def changed(study: StudyRecord, sentence: str, **values: Any) -> Change:
    """Change settings of a study by name."""
    setup = {**study.setup, **values}
    after = replace(study, setup=setup)
    return Change(f"{study.name}: {sentence}", lambda s: s.with_study(after), dict(values))


def renamed(study: StudyRecord, name: str) -> Change:
    """Give a study another name."""
    after = replace(study, name=name)
    return Change(f"Renamed {study.name} to {name}", lambda s: s.with_study(after))


def removed(study: StudyRecord) -> Change:
    """Take a study out of the job."""
    return Change(f"Removed study {study.name}", lambda s: s.without_study(study.id))


def answered(study: StudyRecord, outcome: Outcome, found_from: str) -> Change:
    """Keep an outcome with the fingerprint of what it was found from."""
    data = outcome.to_json()

    def apply(state: JobState) -> JobState:
        current = state.study(study.id)
        return state if current is None else state.with_study(replace(current, outcome=data, found_from=found_from))

    value = outcome.value(study_kind(study.kind).headline)
    return Change(f"Computed {study.name}", apply, {"value": value, "settings": outcome.settings}, undoable=False)


def fingerprint_of(state: JobState, study: StudyRecord) -> str:
    """Digest of everything the outcome of a study depends on."""
    setup = {key: value for key, value in study.setup.items() if key not in DISPLAY_ONLY}
    used = [state.holding(setup.get(key, "")) for key in ("cloud", "base_surface")]
    part = next((p.points for h in used[:1] if h for p in h.parts if p.name == setup.get("part")), "")
    # Parts do not matter unless one is named: sorting points into parts makes no study stale.
    inputs: list[Any] = [
        [h.id, h.points, *([h.aside] if h.aside else []), *map(list, h.given)] if h is not None else None for h in used
    ]
    if part:
        inputs.append([part])
    columns = [item["column"] for item in setup.get("only", ())]
    marks = [[name, h.computed[name]] for h in used[:1] if h for name in columns if name in h.computed]
    if marks:
        inputs.append(marks)
    return fingerprint(study.kind, setup, inputs, state.title.unit, state.title.reference)


def is_stale(state: JobState, study: StudyRecord) -> bool:
    """Whether an outcome is there that was found from something else than what the study says now."""
    return study.outcome is not None and study.found_from != fingerprint_of(state, study)


def outcome_of(job: Job, study: StudyRecord) -> Outcome | None:
    """The kept outcome with its drawable layers."""
    if study.outcome is None:
        return None
    outcome = Outcome.from_json(study.outcome)
    job.layers(f"{study.id}-{study.found_from}", outcome)
    return outcome


def setup_of(study: StudyRecord) -> StockpileSetup:
    """The typed setup of a stockpile study."""
    setup: StockpileSetup = study_kind(study.kind).setup.from_json(study.setup)  # type: ignore[attr-defined]
    return setup


def data_for(job: Job, study: StudyRecord) -> HeapData:
    """What the study reads, from a job. Raises InputError when a holding is missing."""
    setup = setup_of(study)
    top = job.state.holding(setup.cloud)
    if top is None:
        raise InputError(f"{study.name}: choose the cloud of the top")
    base: BaseSource | None = None
    base_path = ""
    if setup.base == "surface":
        holding = job.state.holding(setup.base_surface)
        if holding is None:
            raise InputError(f"{study.name}: choose the surface that the heap stands on")
        base, base_path = base_of(job, holding), holding.source
    stated = tuple(Note(code, text) for code, text in top.notes if code not in ("crs-missing", "unit-conflict"))
    return HeapData(job.store(top), job.state.title.length_unit(), base, top.source, base_path, stated)


def base_of(job: Job, holding: Holding) -> BaseSource:
    """What a heap may stand on: a cloud, a surface, or a model seen from above. Raises InputError for another kind."""
    if holding.kind == CLOUD:
        return job.store(holding)
    item = job.thing(holding)
    if not isinstance(item.thing, (TriangleMesh, ElevationGrid)):
        raise InputError(f"{holding.name}: is no surface")
    return DesignSurface.of(item.thing, item.reference)


@dataclass(frozen=True)
class Run:
    """A study made ready to run on another thread: everything it needs, taken from the job at one moment."""

    study: StudyRecord
    setup: StockpileSetup
    data: HeapData
    found_from: str

    def __call__(self, job: Job, progress: Progress) -> Outcome:
        """Run it and keep its drawable layers in the job's folder. Raises InputError; Cancelled."""
        outcome = study_kind(self.study.kind).run(self.setup, self.data, progress)
        job.keep_layers(f"{self.study.id}-{self.found_from}", outcome)
        return outcome


def ready(job: Job, study: StudyRecord) -> Run:
    """Make a study ready to run. Raises InputError when a holding is missing or the setup cannot be run."""
    setup = setup_of(study)
    setup.check()
    return Run(study, setup, data_for(job, study), fingerprint_of(job.state, study))


def run_study(job: Job, study: StudyRecord, progress: Progress) -> tuple[Outcome, str]:
    """Run a study of a job at once; returns outcome and fingerprint. Raises as :func:`ready` and the run do."""
    run = ready(job, study)
    return run(job, progress), run.found_from
