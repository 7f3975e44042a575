"""How the import of each file of a batch ended: in, in part or not, and why."""

from __future__ import annotations

from dataclasses import dataclass, replace

from kerb.core.errors import TruncatedError
from kerb.job.holdings import ImportWish
from kerb.job.state import Holding

IN, IN_PART, NOT = "in", "in part", "not"
# Notes of readers that say that something of a file was left out.
LEFT_OUT = ("truncated", "not-finite", "not-read", "hidden-layers", "texts", "no-place", "no-geometry", "no-shape")


@dataclass(frozen=True)
class Ending:
    """How the import of a file ended: the word, why, and a wish that could still be carried out."""

    name: str
    word: str
    why: str = ""
    again: ImportWish | None = None

    @staticmethod
    def of(wish: ImportWish, holding: Holding) -> Ending:
        """One that came in, whole or in part."""
        parts = [text for code, text in holding.notes if code in LEFT_OUT]
        return Ending(wish.path.name, IN_PART if parts else IN, "; ".join(parts))

    @staticmethod
    def failed(wish: ImportWish, text: str, error: object) -> Ending:
        """One that did not come in; where the good points of it can be had, that is offered."""
        if isinstance(error, TruncatedError) and error.good > 0 and not wish.partial:
            why = f"breaks off: the file says {error.claimed} points, {error.good} can be read"
            return Ending(wish.path.name, NOT, why, replace(wish, partial=True))
        # The name stands in front of the line already.
        return Ending(wish.path.name, NOT, text.removeprefix(f"{wish.path}: "))


def sentence(endings: list[Ending]) -> str:
    """The batch in one line."""
    if len(endings) == 1:
        return f"{endings[0].name} was not imported" if endings[0].word == NOT else f"Imported {endings[0].name}"
    return f"Imported {sum(one.word != NOT for one in endings)} of {len(endings)} files"
