"""Which actions can be done now."""

from __future__ import annotations

from collections.abc import Callable

from kerb.app.actions import ActionEntry
from kerb.app.session import Session
from kerb.core.things import CLOUD
from kerb.studies.fields import SURFACE
from kerb.studies.sources import KINDS_OF


def possible(session: Session, along: bool) -> Callable[[ActionEntry], bool]:
    """Tells of an action whether what it needs is there; ``along``: whether a section is looked along."""
    job, study, setup, kind = session.job, session.study, session.setup, session.kind
    have = {
        "": True, "job": job is not None,
        "cloud": bool(job and job.state.of_kind(CLOUD)), "data": session.has_data,
        "ground": bool(job and job.state.of_kind(*KINDS_OF[SURFACE])), "study": study is not None,
        "ready": setup is not None and not setup.missing(),
        "outcome": bool(job and any(s.found for s in job.state.studies)),
        "has": study is not None, "found": study is not None and study.found is not None,
        "section": along, "undo": bool(job and job.can_undo), "redo": bool(job and job.can_redo),
    }  # fmt: skip
    steps = (
        {step.id for step in kind.steps if not step.lacks(setup)} if kind is not None and setup is not None else set()
    )

    def can(entry: ActionEntry) -> bool:
        need, _, what = entry.needs.partition(":")
        if need == "kind":
            return kind is not None and what == kind.id and entry.id.partition(":")[2] in steps
        # Behind the colon stands what the declaration of the open study has to offer.
        return have[need] and (not what or bool(kind is not None and getattr(kind, what)))

    return can
