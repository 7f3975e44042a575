"""The one list of studies. A kind is declared in its own folder; everything else follows from the declaration.

A kind is loaded when it is first asked for: the command line needs one of them, and not the libraries of all.
"""

from __future__ import annotations

import importlib
from collections.abc import Iterator, MutableMapping

from kerb.studies.kind import StudyKind

# Id, which is the folder as well, and the name of the declaration in its module ``kind``; in the order of the window.
DECLARED = {
    "stockpile": "STOCKPILE",
    "inventory": "INVENTORY",
    "sections": "SECTIONS",
    "accuracy": "ACCURACY",
    "surface": "SURFACE",
    "mend": "MEND",
    "contours": "CONTOURS",
    "spots": "SPOTS",
    "cutfill": "CUTFILL",
    "rockface": "ROCKFACE",
    "change": "CHANGE",
    "align": "ALIGN",
    "floor": "FLOOR",
    "plan": "PLAN",
    "clearance": "CLEARANCE",
    "tunnel": "TUNNEL",
}


class Registry(MutableMapping[str, StudyKind]):
    """Kinds of studies by id, each loaded when it is looked up."""

    def __init__(self) -> None:
        self._kinds: dict[str, StudyKind | None] = dict.fromkeys(DECLARED)

    def __getitem__(self, key: str) -> StudyKind:
        """The kind of an id. Raises KeyError for an unknown one."""
        kind = self._kinds[key]
        if kind is None:
            kind = self._kinds[key] = getattr(importlib.import_module(f"kerb.studies.{key}.kind"), DECLARED[key])
        assert kind is not None
        return kind

    def __setitem__(self, key: str, kind: StudyKind) -> None:
        """Add a kind."""
        self._kinds[key] = kind

    def __delitem__(self, key: str) -> None:
        """Take a kind out."""
        del self._kinds[key]

    def __contains__(self, key: object) -> bool:
        """Whether there is a kind of an id, without loading it."""
        return key in self._kinds

    def __iter__(self) -> Iterator[str]:
        """All ids in order."""
        return iter(self._kinds)

    def __len__(self) -> int:
        """How many kinds there are."""
        return len(self._kinds)


STUDIES: MutableMapping[str, StudyKind] = Registry()


def study_kind(key: str) -> StudyKind:
    """The kind of an id. Raises KeyError for an unknown one."""
    if key not in STUDIES:
        raise KeyError(key)
    return STUDIES[key]
