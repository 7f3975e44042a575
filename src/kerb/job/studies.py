"""Studies of a job: make, duplicate, change, run on a snapshot, keep what was found, and know when it is stale."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from kerb.core.cloud.store import PART, CloudStore
from kerb.core.errors import InputError, JobError
from kerb.core.progress import Progress
from kerb.core.things import CLOUD
from kerb.core.things import SURFACE as SURFACE_HOLDING
from kerb.job import outcomes, vault
from kerb.job.job import Change, Job
from kerb.job.state import Found, Holding, JobState, StudyRecord, free_name
from kerb.studies.fields import HOLDINGS, MANY, SCOPE, SURFACE, Field
from kerb.studies.outcome import Note, Outcome, fingerprint
from kerb.studies.registry import study_kind
from kerb.studies.scope import Scope, ground_classes
from kerb.studies.setup import Setup
from kerb.studies.sources import KINDS_OF, Source, Sources, named_holdings, resolve, value_of

# Setups and fingerprints of records, which never change: worked out once for each.
_setups: dict[str, tuple[StudyRecord, Setup]] = {}
_prints: dict[str, tuple[tuple[Any, ...], str]] = {}
# Surfaces are costly to make ready; one is kept for each holding as it is.
_surfaces: dict[str, tuple[tuple[Any, ...], Source]] = {}
MOST_REMEMBERED = 5_000
MOST_SURFACES = 6


def made(state: JobState, kind: str, name: str, setup: Setup) -> tuple[Change, StudyRecord]:
    """Add a study. Returns the change and the record it adds."""
    taken = [s.name for s in state.studies]
    study = StudyRecord(uuid.uuid4().hex[:10], kind, free_name(name, taken), setup.to_json())
    return Change(f"New study: {study.name}", lambda s: s.with_study(study)), study


def begun(state: JobState, kind: str, cloud: Holding | None) -> Setup:
    """A setup as a new study of a cloud has it, or of what else there is that it can be asked of.

    What it needs besides is chosen where the job has just one that it can be, where dates are compared just one of another
    date; of an earlier and a later one the date tells which is which, else the order in which they came in. Raises
    InputError, when the job has nothing that it can be asked of.
    """
    about = study_kind(kind).setup
    main, values = about.main(), about.usual(state.title.length_unit())
    cloud = _asked_of(state, about.declared()[main], cloud)
    values[main] = Scope(cloud.id)
    bare = about(**values)
    for name, field in about.declared().items():
        if name == main or field.kind in MANY or not (field.needed or field.dated):
            continue
        if field.kind not in KINDS_OF or not bare.counts(name):
            continue
        others = [holding for holding in state.of_kind(*KINDS_OF[field.kind]) if holding.id != cloud.id]
        if field.dated and cloud.epoch and len(others) > 1:
            others = [holding for holding in others if holding.epoch not in ("", cloud.epoch)]
        if len(others) == 1:
            values[name] = Scope(others[0].id) if field.kind in (SCOPE, SURFACE) else others[0].id
            later = _when(state, others[0], cloud) > _when(state, cloud, others[0])
            either = field.dated and others[0].kind in KINDS_OF[about.declared()[main].kind]
            if either and later != (field.dated > 0):
                values[main], values[name] = values[name], values[main]
    return about(**values)


def on_ground(job: Job, setup: Setup) -> Setup:
    """A setup with the ground classes of classified clouds, where its kind stands on ground. Raises JobError."""
    values = {}
    for name, about in setup.declared().items():
        scope = getattr(setup, name)
        holding = job.state.holding(scope.holding) if about.ground else None
        if holding is not None and holding.kind == CLOUD and not scope.narrow:
            values[name] = replace(scope, classes=ground_classes(job.store(holding)))
    return replace(setup, **values)


def fitted(job: Job, kind: str, setup: Setup) -> Setup:
    """A setup with the values that follow from the size of what it is asked of. Raises JobError."""
    begin = study_kind(kind).begin
    holding = job.state.holding(getattr(setup, setup.main()).holding)
    return setup if begin is None or holding is None else begin(setup, *job.bounds_of(holding))


def size_of(job: Job, setup: Setup) -> int:
    """How many points the clouds have that a setup names."""
    named = [job.state.holding(key) for key in named_holdings(setup).values()]
    return sum(holding.points for holding in named if holding is not None and holding.kind == CLOUD)


def _asked_of(state: JobState, field: Field, cloud: Holding | None) -> Holding:
    """The holding that a new study is asked of: the cloud in hand, unless a surface is meant first or there is no cloud."""
    others = state.of_kind(*KINDS_OF[field.kind])
    surfaces = [holding for holding in others if holding.kind == SURFACE_HOLDING]
    if field.finished and surfaces:
        return surfaces[-1]
    if cloud is None and not others:
        raise InputError(
            "Bring a cloud in first." if len(KINDS_OF[field.kind]) == 1 else "Bring a cloud or a surface in first."
        )
    return cloud or others[0]


def _when(state: JobState, holding: Holding, other: Holding) -> tuple[str, int]:
    """What tells which of two is the later one."""
    place = state.holdings.index(holding)
    return (holding.epoch, place) if holding.epoch and other.epoch else ("", place)


def asked_of_part(state: JobState, kind: str, holding: Holding, part: str) -> tuple[Change, StudyRecord]:
    """Add a study of a kind that is asked of a part of a cloud, named for both."""
    about = study_kind(kind)
    values = about.setup.usual(state.title.length_unit())
    values[about.setup.main()] = Scope(holding.id, part=part)
    name = free_name(f"{about.name}, {part}", [study.name for study in state.studies])
    return made(state, kind, name, about.setup(**values))


def duplicated(state: JobState, study: StudyRecord) -> tuple[Change, StudyRecord]:
    """Add a copy of a study, with its setup and without an outcome."""
    name = free_name(study.name, [s.name for s in state.studies])
    twin = replace(study, id=uuid.uuid4().hex[:10], name=name, found=None)
    return Change(f"Duplicated {study.name}", lambda s: s.with_study(twin, after=study.id)), twin


def following(state: JobState, study: StudyRecord, cloud: Holding) -> tuple[Change, StudyRecord]:
    """Ask the same of another cloud, such as that of the next survey. Raises InputError, when the kind cannot."""
    follow = study_kind(study.kind).follow
    if follow is None:
        raise InputError(f"{study.name}: there is no next survey for this kind of study")
    base = study.name.partition(", ")[0]
    name = f"{base}, {cloud.epoch or cloud.name}"
    change, made_ = made(state, study.kind, name, follow(setup_of(study), cloud.id))
    return replace(change, sentence=f"{study.name} asked of {cloud.name}: {made_.name}"), made_


def later_clouds(state: JobState, study: StudyRecord) -> list[Holding]:
    """What a study may be asked of next, clouds mostly: those of a later date first, then all others it does not use."""
    setup = setup_of(study)
    used, kinds = set(named_holdings(setup).values()), KINDS_OF[setup.declared()[setup.main()].kind]
    own = max((h.epoch for h in state.holdings if h.id in used), default="")
    rest = [h for h in state.of_kind(*kinds) if h.id not in used]
    return sorted(rest, key=lambda h: (h.epoch <= own, h.epoch))


def changed(study: StudyRecord, sentence: str, setup: Setup) -> Change:
    """Change the setup of a study; the record names what became different."""
    data = setup.to_json()
    different = {key: value for key, value in data.items() if study.setup.get(key) != value}
    after = replace(study, setup=data)
    return Change(f"{study.name}: {sentence}", lambda s: s.with_study(after), different)


def renamed(study: StudyRecord, name: str) -> Change:
    """Give a study another name."""
    after = replace(study, name=name)
    return Change(f"Renamed {study.name} to {name}", lambda s: s.with_study(after))


def coloured(study: StudyRecord, **look: Any) -> Change:
    """Colour the map of a study otherwise; None goes back to what the values say. That is no step of the work."""
    kept = {
        name: list(value) if isinstance(value, tuple) else value
        for name, value in {**study.look, **look}.items()
        if value
    }
    after = replace(study, look=kept)
    return Change(f"Coloured the map of {study.name}", lambda s: s.with_study(after)).as_look()


def paned(study: StudyRecord, panes: tuple[str, ...]) -> Change:
    """Keep which panes show a study, and what each looks at. That is no step of the work."""
    after = replace(study, panes=panes)
    return Change(f"Arranged the panes of {study.name}", lambda s: s.with_study(after)).as_look()


def users_of(state: JobState, holding: Holding) -> list[StudyRecord]:
    """The studies that are computed from a holding."""
    return [study for study in state.studies if holding.id in named_holdings(setup_of(study)).values()]


def removed(study: StudyRecord) -> Change:
    """Take a study out of the job."""
    return Change(f"Removed study {study.name}", lambda s: s.without_study(study.id))


def answered(study: StudyRecord, outcome: Outcome, print_: str) -> Change:
    """Keep an outcome, in short, with the fingerprint of what it was found from."""
    figure = outcome.figures.get(study_kind(study.kind).headline.name)
    found = Found(print_, figure.value if figure else None, figure.unit if figure else "",
                  figure.u95 if figure else None, len(outcome.warnings), outcome.verdict,
                  figure.resolution if figure else 0.0)  # fmt: skip

    def apply(state: JobState) -> JobState:
        current = state.study(study.id)
        return state if current is None else state.with_study(replace(current, found=found))

    return Change(f"Computed {study.name}", apply, {"value": found.value, "unit": found.unit}, undoable=False)


def put_in(words: str, holding: Holding) -> Change:
    """Put a holding that was made into the job."""
    return Change(words, lambda state: state.with_holding(holding))


def made_holdings(job: Job, study: StudyRecord, outcome: Outcome) -> list[Change]:
    """The steps that put what a study made into the job, each undone by itself. Raises JobError.

    What the same study made before is replaced: it keeps its name and look, and the studies that use it go on with it.
    """
    steps = []
    for number, item in enumerate(outcome.makes):
        key = uuid.uuid4().hex[:10]
        vault.save_thing(job.folder / "data" / key, item.item)
        maker = f"{study.id}:{number}"
        before = next((h for h in job.state.holdings if h.maker == maker and h.kind == item.item.kind), None)
        if before is not None:
            words = f"Made {before.name} anew"
            told = (*(item.words or f"Made {before.name}",), "made anew")
            again = replace(before, data=f"data/{key}", points=item.item.count, edited=key, steps=told, placement=None)
            steps.append(put_in(words, again))
            continue
        name = free_name(item.name, [h.name for h in job.state.holdings])
        words = item.words or f"Made {name}"
        holding = Holding(
            key, name, item.item.kind, data=f"data/{key}", points=item.item.count, steps=(words,), maker=maker
        )
        steps.append(put_in(words, holding))
    return steps


def outdated(state: JobState, holding: Holding) -> bool:
    """Whether a holding was made by a study that says something else now, or that has to be computed anew."""
    study = state.study(holding.maker.partition(":")[0]) if holding.maker else None
    return study is not None and is_stale(state, study)


def part_renamed(state: JobState, holding: str, old: str, new: str) -> JobState:
    """The state with studies of a part going on with its new name."""
    for study in state.studies:
        setup = setup_of(study)
        values: dict[str, Any] = {}
        for name, about in setup.declared().items():
            value = getattr(setup, name)
            if about.kind in HOLDINGS and isinstance(value, Scope) and (value.holding, value.part) == (holding, old):
                values[name] = replace(value, part=new)
            if about.kind in MANY and any((one.holding, one.part) == (holding, old) for one in value):
                values[name] = tuple(
                    replace(one, part=new) if (one.holding, one.part) == (holding, old) else one for one in value
                )
        if values:
            state = state.with_study(replace(study, setup=replace(setup, **values).to_json()))
    return state


def setup_of(study: StudyRecord) -> Setup:
    """The typed setup of a study. Raises JobError, when the job is damaged."""
    known = _setups.get(study.id)
    if known is not None and known[0].setup is study.setup:
        return known[1]
    try:
        setup = study_kind(study.kind).setup_of(study.setup)
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise JobError(f"study '{study.name}' is damaged or of a newer Kerb ({error!r})") from None
    if len(_setups) > MOST_REMEMBERED:
        _setups.clear()
    _setups[study.id] = (study, setup)
    return setup


def fingerprint_of(state: JobState, study: StudyRecord) -> str:
    """Digest of everything the outcome of a study depends on."""
    return print_of(state, study.kind, setup_of(study), study.id)


def print_of(state: JobState, kind: str, setup: Setup, remember: str = "") -> str:
    """Digest of everything the outcome of a setup depends on: the fields that count, and the holdings they name."""
    named = named_holdings(setup)
    used = {name: state.holding(key) for name, key in named.items()}
    # A series of dates is in the order of its dates and says them.
    dated = any(name not in setup.declared() for name in named)
    marks = (kind, setup, *used.values(), state.title.unit, state.title.reference)
    known = _prints.get(remember)
    if known is not None and len(known[0]) == len(marks) and all(a is b for a, b in zip(known[0], marks, strict=True)):
        return known[1]
    inputs = [[name, mark_of(holding, value_of(setup, name), dated)] for name, holding in used.items()]
    found = fingerprint(kind, setup.shorn().to_json(), inputs, state.title.unit, state.title.reference)
    if remember:
        if len(_prints) > MOST_REMEMBERED:
            _prints.clear()
        _prints[remember] = (marks, found)
    return found


def mark_of(holding: Holding | None, value: Any, dated: bool = False) -> Any:
    """What of a holding a field depends on. Parts and attributes matter only where they are asked for, its date only where
    the answer has dates; its name and how it came about are written in the outcome."""
    if holding is None:
        return None
    place = holding.placement.to_json() if holding.placement is not None and not holding.placement.still else None
    mark: list[Any] = [
        holding.id,
        holding.name,
        list(holding.steps),
        holding.data,
        holding.edited,
        holding.points,
        holding.aside,
        list(holding.given),
        place,
    ]
    if holding.label:
        mark.append(holding.label)
    if dated:
        mark.append(holding.epoch)
    if isinstance(value, Scope):
        filtered = any(condition.column == PART for condition in value.only)
        mark.append(
            [[part.name, part.number, part.points] for part in holding.parts if filtered or part.name == value.part]
        )
        mark.append([holding.computed.get(condition.column, "") for condition in value.only])
    return mark


def is_stale(state: JobState, study: StudyRecord) -> bool:
    """Whether an outcome is there that was found from something else than what the study says now."""
    return study.found is not None and study.found.print != fingerprint_of(state, study)


def is_fresh(state: JobState, study: StudyRecord) -> bool:
    """Whether an outcome is there that belongs to what the study says now."""
    return study.found is not None and not is_stale(state, study)


def outcome_of(job: Job, study: StudyRecord) -> Outcome | None:
    """The kept outcome; None where there is none or it cannot be read any more."""
    return outcomes.load(job.folder, f"{study.id}-{study.found.print}") if study.found is not None else None


def source_of(job: Job, holding: Holding) -> Source:
    """A holding as a study reads it: of a cloud the columns and sets of this moment. Raises JobError."""
    notes = tuple(Note(code, text) for code, text in holding.notes if code not in ("crs-missing", "unit-conflict"))
    if holding.kind == CLOUD:
        store = job.store(holding).snapshot()
        return Source(
            holding.id, holding.name, holding.source, CLOUD, store, None, notes, holding.epoch, _history(holding, store)
        )
    labels = (holding.name, holding.epoch, holding.steps)
    marks = (job.folder, holding.data, holding.edited, holding.placement, job.state.title.reference, *labels)
    known = _surfaces.get(holding.id)
    if known is None or known[0] != marks:
        if len(_surfaces) >= MOST_SURFACES:
            _surfaces.clear()
        made_ = Source(
            holding.id, holding.name, holding.source, holding.kind, None, lambda: job.thing(holding), notes,
            holding.epoch, holding.steps,
        )  # fmt: skip
        known = _surfaces[holding.id] = (marks, made_)
    return known[1]


def _history(holding: Holding, store: CloudStore) -> tuple[str, ...]:
    """How the points of a cloud came to be as they are: the import, what is set aside, what was given classes."""
    gone = store.count - store.used
    steps = [*holding.steps]
    if gone:
        steps.append(f"{gone} points are set aside and do not count")
    if holding.given:
        steps.append(f"Classes were given to points in {len(holding.given)} steps since the import")
    if holding.placement is not None and not holding.placement.still:
        steps.append("Moved by a rigid transform")
    return tuple(steps)


def finder(job: Job, state: JobState | None = None) -> Callable[[str], Source | None]:
    """What keys of holdings mean in a job."""
    state = state or job.state

    def find(key: str) -> Source | None:
        holding = state.holding(key)
        return None if holding is None else source_of(job, holding)

    return find


def sources_of(job: Job, setup: Setup) -> Sources:
    """What a setup reads, from a job. Raises InputError when a holding is missing or of the wrong kind; JobError."""
    return resolve(setup, finder(job), job.state.title.length_unit())


@dataclass(frozen=True)
class Run:
    """A study made ready to run on another thread: everything it needs, taken from the job at one moment."""

    study: StudyRecord
    setup: Setup
    sources: Sources
    print: str

    def __call__(self, job: Job, progress: Progress) -> Outcome:
        """Run it and keep the outcome in the job's folder. Raises InputError, JobError; Cancelled."""
        outcome = study_kind(self.study.kind).compute(self.setup, self.sources, progress)
        progress.check()
        outcomes.keep(job.folder, f"{self.study.id}-{self.print}", outcome)
        return outcome


def ready(job: Job, study: StudyRecord) -> Run:
    """Make a study ready to run. Raises InputError when something is missing or the setup cannot be run; JobError."""
    setup = setup_of(study)
    setup.check()
    return Run(study, setup, sources_of(job, setup), fingerprint_of(job.state, study))


def run_study(job: Job, study: StudyRecord, progress: Progress) -> tuple[Outcome, str]:
    """Run a study of a job at once; returns outcome and fingerprint. Raises as :func:`ready` and the run do."""
    run = ready(job, study)
    return run(job, progress), run.print
