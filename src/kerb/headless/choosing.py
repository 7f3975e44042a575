"""How points are chosen on the command line: by filters on their attributes, and by what is found in the cloud."""

from __future__ import annotations

import argparse
import re
from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np

from kerb.core.arrays import Mask
from kerb.core.cloud.filters import COLOUR, Filter, kept, lacking
from kerb.core.cloud.finders import FINDERS
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import InputError
from kerb.core.progress import Progress

LEFT_OUT = ("outliers", "sparse", "low", "pieces", "duplicates", "overlap")
ONLY_HELP = (
    "only points that pass, such as classification=2,6, intensity=100..900, height_above_ground=..0.5 or, for the "
    "others, source_file!=3; may be given several times"
)


@dataclass(frozen=True)
class Search:
    """A way to find points that is asked for, with the settings that were named; the others are the usual ones."""

    finder: str
    values: tuple[tuple[str, str], ...] = ()

    def settings(self, store: CloudStore) -> Any:
        """The settings for a cloud. Raises InputError, when one is not known or not a number."""
        usual = FINDERS[self.finder].usual(store)
        given: dict[str, Any] = {}
        for name, text in self.values:
            now = getattr(usual, name)
            try:
                given[name] = text if isinstance(now, str) else type(now)(text)
            except ValueError:
                raise InputError(f"--without {self.finder}: {name} is a number, not '{text}'") from None
        return replace(usual, **given)


def add_only(parser: argparse.ArgumentParser) -> None:
    """The option ``--only``."""
    parser.add_argument("--only", type=filter_of, action="append", default=[], metavar="NAME=WHAT", help=ONLY_HELP)


def filter_of(text: str) -> Filter:
    """A filter from ``NAME=LOW..HIGH`` (an end may be missing) or ``NAME=1,2``; ``!=`` for the others.

    Raises ArgumentTypeError for anything else.
    """
    found = re.fullmatch(r"\s*([^=!]+?)\s*(!?=)\s*(.+?)\s*", text)
    if found is None:
        raise argparse.ArgumentTypeError(f"'{text}': write NAME=LOW..HIGH or NAME=1,2")
    column, sign, what = found.groups()
    if column == COLOUR:
        raise argparse.ArgumentTypeError("by colour points are chosen in the window; here by red, green and blue")
    outside = sign == "!="
    try:
        if ".." in what:
            low, high = (float(end) if end.strip() else None for end in what.split("..", 1))
            condition = Filter(column, low=low, high=high, outside=outside)
        else:
            condition = Filter(column, tuple(int(value) for value in what.split(",")), outside=outside)
        condition.check()
    except (ValueError, InputError) as error:
        raise argparse.ArgumentTypeError(f"'{text}': {error}") from None
    return condition


def chosen(store: CloudStore, only: list[Filter], name: str, progress: Progress) -> Mask:
    """Points, (n,), in use that pass the filters. Raises InputError, when an attribute is not there or none pass."""
    missing = lacking(store, tuple(only))
    if missing:
        raise InputError(f"{name}: has no attribute '{missing[0]}'; there are: elevation, {', '.join(store.names)}")
    keep = store.in_use() & kept(store, tuple(only), progress)
    if not keep.any():
        raise InputError(f"{name}: no point passes --only")
    return keep


def searches(text: str) -> tuple[Search, ...]:
    """What is to be found, separated by commas, each with settings where wanted: ``low:drop=0.3:cell=2,pieces``.

    Raises ArgumentTypeError for anything else.
    """
    return tuple(_search(part.strip()) for part in text.split(","))


def _search(text: str) -> Search:
    key, *given = text.split(":")
    if key not in LEFT_OUT:
        raise argparse.ArgumentTypeError(f"'{key}': choose from {', '.join(LEFT_OUT)}")
    known = [item.name for item in fields(FINDERS[key].settings)]
    values = []
    for item in given:
        name, sign, value = item.partition("=")
        if name not in known or not sign:
            raise argparse.ArgumentTypeError(f"'{item}': {key} has the settings {', '.join(known) or 'none'}")
        values.append((name, value))
    return Search(key, tuple(values))


def without(
    store: CloudStore, wanted: tuple[Search, ...], keep: Mask, progress: Progress
) -> tuple[Mask, list[tuple[str, str]]]:
    """What is left of points, (n,), and a note on each search. Raises InputError; Cancelled."""
    notes = []
    for done, search in enumerate(wanted):
        finder, settings = FINDERS[search.finder], search.settings(store)
        part = progress.within(done / len(wanted), (done + 1) / len(wanted))
        told: list[str] = []
        found = finder.find(store, settings, keep, part, *([told] if finder.tells else []))
        how = ", ".join(f"{k} {v if isinstance(v, str) else f'{v:g}'}" for k, v in vars(settings).items())
        words = f"{int(np.count_nonzero(found))} points left out as {finder.title.lower()}"
        notes.append(("left-out", f"{words} ({how})" if how else words))
        notes += [("overlap-offset", line) for line in told]
        keep = keep & ~found
    return keep, notes
