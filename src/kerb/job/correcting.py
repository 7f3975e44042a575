"""Take out of a holding what a study found to be wrong with its place: a moved copy, and the same question asked of it."""

from __future__ import annotations

from dataclasses import replace

from kerb.core.errors import JobError
from kerb.job import studies
from kerb.job.holdings import duplicated
from kerb.job.job import Change, Job
from kerb.job.state import JobState, StudyRecord, free_name
from kerb.studies.fields import SURFACES
from kerb.studies.kind import Correction
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup


def _with_before(setup: Setup, value: object) -> Setup:
    """What was asked before as one of those beside it, where the kind has them: before and after in one table."""
    for name in setup.named(SURFACES):
        kept = getattr(setup, name)
        if isinstance(value, Scope) and value not in kept:
            return replace(setup, **{name: (*kept, value)})
    return setup


def corrected(job: Job, study: StudyRecord, wanted: Correction) -> tuple[Change, StudyRecord]:
    """One step: the holding that a field names as a copy that is moved, the original switched off, and a study of the copy.

    The numbers of the copy stay as they are: it has a placement. Raises JobError, when it cannot be copied.
    """
    setup = studies.setup_of(study)
    value = getattr(setup, wanted.field)
    key = value.holding if isinstance(value, Scope) else str(value)
    holding = job.state.holding(key)
    if holding is None:
        raise JobError(f"{study.name}: what it was asked of is no longer in the job")
    placement = wanted.move if holding.placement is None else holding.placement.then(wanted.move)
    _, twin = duplicated(job, holding)
    name = free_name(f"{holding.name}, {wanted.words.partition(',')[0]}", [h.name for h in job.state.holdings])
    words = f"{holding.name} {wanted.words}"
    twin = replace(
        twin, name=name, placement=placement, visible=True, steps=(*holding.steps, words[:1].upper() + words[1:])
    )
    asked = replace(setup, **{wanted.field: replace(value, holding=twin.id) if isinstance(value, Scope) else twin.id})
    asked = _with_before(asked, value)
    _, after = studies.made(
        job.state, study.kind, free_name(f"{study.name}, after", [s.name for s in job.state.studies]), asked
    )

    def apply(state: JobState) -> JobState:
        before = state.holding(holding.id)
        if before is not None:
            state = state.with_holding(replace(before, visible=False))
        return state.with_holding(twin).with_study(after)

    return Change(f"{words}: {name}", apply, wanted.move.to_json()), after
