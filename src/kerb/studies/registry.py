"""The one list of studies. A kind is declared in its own folder; everything else follows from the declaration."""

from __future__ import annotations

from kerb.studies.accuracy.kind import ACCURACY
from kerb.studies.align.kind import ALIGN
from kerb.studies.change.kind import CHANGE
from kerb.studies.contours.kind import CONTOURS
from kerb.studies.cutfill.kind import CUTFILL
from kerb.studies.inventory.kind import INVENTORY
from kerb.studies.kind import StudyKind
from kerb.studies.mend.kind import MEND
from kerb.studies.rockface.kind import ROCKFACE
from kerb.studies.sections.kind import SECTIONS
from kerb.studies.spots.kind import SPOTS
from kerb.studies.stockpile.kind import STOCKPILE
from kerb.studies.surface.kind import SURFACE

STUDIES: dict[str, StudyKind] = {
    kind.id: kind
    for kind in (
        STOCKPILE,
        INVENTORY,
        SECTIONS,
        ACCURACY,
        SURFACE,
        MEND,
        CONTOURS,
        SPOTS,
        CUTFILL,
        ROCKFACE,
        CHANGE,
        ALIGN,
    )
}


def study_kind(key: str) -> StudyKind:
    """The kind of an id. Raises KeyError for an unknown one."""
    return STUDIES[key]
