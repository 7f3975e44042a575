"""The one list of studies. A kind is declared in its own folder; everything else follows from the declaration.

A kind is loaded when it is first asked for: the command line needs one of them, and not the libraries of all.
"""

from __future__ import annotations

import importlib
from collections.abc import Iterator, Mapping

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
}


class Registry(Mapping[str, StudyKind]):
    """Kinds of studies by id, each loaded when it is looked up."""

    def __init__(self) -> None:
        self._loaded: dict[str, StudyKind] = {}

    def __getitem__(self, key: str) -> StudyKind:
        """The kind of an id. Raises KeyError for an unknown one."""
        if key not in self._loaded:
            kind: StudyKind = getattr(importlib.import_module(f"kerb.studies.{key}.kind"), DECLARED[key])
            self._loaded[key] = kind
        return self._loaded[key]

    def __contains__(self, key: object) -> bool:
        """Whether there is a kind of an id, without loading it."""
        return key in DECLARED

    def __iter__(self) -> Iterator[str]:
        """All ids in order."""
        return iter(DECLARED)

    def __len__(self) -> int:
        """How many kinds there are."""
        return len(DECLARED)


STUDIES: Mapping[str, StudyKind] = Registry()


def study_kind(key: str) -> StudyKind:
    """The kind of an id. Raises KeyError for an unknown one."""
    if key not in STUDIES:
        raise KeyError(key)
    return STUDIES[key]
