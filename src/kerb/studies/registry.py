"""The one list of studies. Menu, command field, command line, report and help follow from these entries."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from kerb.core.progress import Progress
from kerb.studies.outcome import Outcome
from kerb.studies.stockpile import HeapData, StockpileSetup
from kerb.studies.stockpile import run as run_stockpile


@dataclass(frozen=True)
class StudyKind:
    """One kind of study: its question, what it is set up with, how it runs and which figure is its headline."""

    id: str
    title: str
    question: str
    setup: type
    run: Callable[[Any, Any, Progress], Outcome]
    data: type
    headline: str
    help_page: str
    example: str


STUDIES: dict[str, StudyKind] = {
    kind.id: kind
    for kind in (
        StudyKind(
            id="stockpile",
            title="Stockpile",
            question="How much is in it?",
            setup=StockpileSetup,
            run=run_stockpile,
            data=HeapData,
            headline="net",
            help_page="stockpile.md",
            example="kerb stockpile yard.laz --toe heap2.geojson --density 1.6 --report heap2.pdf",
        ),
    )
}


def study_kind(key: str) -> StudyKind:
    """The kind of an id. Raises KeyError for an unknown one."""
    return STUDIES[key]
