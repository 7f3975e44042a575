"""The place check of the command line: every input of a study held against the first one."""

from __future__ import annotations

from kerb.core.cloud.view import CloudView
from kerb.core.errors import InputError
from kerb.core.place_check import Site, check
from kerb.job import site
from kerb.studies.fields import POINTS, SURFACE
from kerb.studies.outcome import Note
from kerb.studies.setup import Setup
from kerb.studies.sources import Source, Sources, field_of

# What a check says of numbers by themselves, and not of a pair of inputs.
OWN = ("crs-missing", "unit-missing")
HEIGHT = "height"


def place_notes(setup: Setup, sources: Sources, first: str, accepted: bool) -> list[Note]:
    """What the place check says of each input against the first one.

    Raises InputError naming both, where there is an alarm that was not accepted. A height offset between two surfaces may be
    what is asked about: it is told, and stops for points only.
    """
    notes: list[Note] = []
    against = _site(sources.items[first]) if first in sources.items else None
    if against is None or not len(against.xyz):
        return notes
    for name, source in sources.items.items():
        about = field_of(setup, name)
        mine = _site(source) if name != first else None
        if mine is None or not len(mine.xyz):
            continue
        for code, text in check(mine, against).alarms:
            if code == HEIGHT and about.other_height:
                continue
            words = f"{source.name} and {sources.items[first].name}: {text}"
            stops = code not in OWN and (code != HEIGHT or about.kind == POINTS)
            if stops and not accepted:
                raise InputError(f"{words}. Nothing was computed; --accept-warnings computes it as it is")
            if code != HEIGHT or about.kind in (POINTS, SURFACE):
                notes.append(Note(f"place-{code}", words))
    return notes


def _site(source: Source) -> Site | None:
    """A sample of where an input lies; None for one without places."""
    if source.store is not None:
        return Site(CloudView(source.store).sample(site.SAMPLE), source.store.reference)
    return site.of_thing(source.item) if source.item is not None else None
