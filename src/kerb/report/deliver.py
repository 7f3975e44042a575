"""What a job delivers: a chapter for each study that goes into the report, with what is out of date said."""

from __future__ import annotations

from dataclasses import replace

from kerb.core.errors import KerbError
from kerb.core.things import CLOUD
from kerb.job import studies
from kerb.job.job import Job
from kerb.job.state import StudyRecord
from kerb.report.pdf import Chapter
from kerb.studies.outcome import Outcome
from kerb.studies.sources import holding_of

CHANGED = "something it was computed from was changed since; compute it again."


def chapters_of(job: Job, known: dict[str, Outcome] | None = None) -> list[Chapter]:
    """Chapters of all studies in the report that were computed. ``known`` spares reading outcomes again, by study id."""
    found = []
    for study in job.state.studies:
        if not study.in_report or study.found is None:
            continue
        outcome = (known or {}).get(study.id) or studies.outcome_of(job, study)
        if outcome is not None:
            found.append(chapter_of(job, study, outcome))
    return found


def chapter_of(job: Job, study: StudyRecord, outcome: Outcome) -> Chapter:
    """The chapter of a study."""
    setup = studies.setup_of(study)
    old = CHANGED if studies.is_stale(job.state, study) else ""
    store = None
    for name in (setup.main(),):
        holding = job.state.holding(holding_of(setup, name))
        if holding is not None and holding.kind == CLOUD:
            try:
                store = job.store(holding).snapshot()
            except KerbError:
                store = None
    return Chapter(study.name, dated(job, outcome), store, setup, old, study.look)


def dated(job: Job, outcome: Outcome) -> Outcome:
    """The outcome with the dates of survey that its holdings have now: a date is a label and makes no figure old."""
    dates = {holding.id: holding.epoch for holding in job.state.holdings}
    inputs = [replace(item, survey=dates.get(item.key, item.survey)) for item in outcome.inputs]
    return replace(outcome, inputs=inputs)


def out_of_date(job: Job) -> list[StudyRecord]:
    """Studies in the report whose figure does not belong to what they say now, or that have none yet but could."""
    found = []
    for study in job.state.studies:
        ready = not studies.setup_of(study).missing()
        if study.in_report and ready and not studies.is_fresh(job.state, study):
            found.append(study)
    return found
