"""What the trials of all studies find, a line each: figures, words, tables, layers and charts, arrays by their spread.

One epoch is a frustum, the other lies turned, raised and grown. That the figures are right is for closed forms and outside values to
say; this says that nothing of them changes unnoticed: ``python -m tests.told`` keeps them anew in ``tests/data/told.txt``.
"""

import json
import math
import re
from dataclasses import replace

import numpy as np

from kerb.core.errors import KerbError
from kerb.core.progress import silent
from kerb.studies.registry import STUDIES
from kerb.warm import try_out
from tests.support import DATA, frustum, jittered, store_of

KEPT = DATA / "told.txt"
NUMBER = re.compile(r"-?\d+(?:\.\d+)?(?:e[-+]?\d+)?")
# Numbers differ by less than this where machines round otherwise.
ROUNDING = 1e-6


def epochs():
    """Two clouds of a mound."""
    xy, moved = jittered(12, 0.22), jittered(12, 0.25, 4)
    top = frustum(xy, 6.0, 2.0, 3.0)
    then = 1.1 * frustum(moved - [0.3, 0.2], 6.0, 2.0, 3.0) + 0.05 + 0.004 * moved[:, 0]
    return store_of(np.column_stack([xy, top])), store_of(np.column_stack([moved, then]))


def spread(values):
    """An array in a few numbers."""
    values = np.asarray(values)
    if values.dtype.kind not in "fiub":
        return [*map(str, values[:3])]
    known = values[np.isfinite(values)].astype(float)
    some = (known.mean(), known.std(), known.min(), known.max()) if len(known) else ()
    return [*values.shape, len(known), *(short(float(one)) for one in some)]


def short(value):
    """Numbers with nine digits, and nothing where they are rounding; of many values the first."""
    if isinstance(value, list | tuple):
        return [short(one) for one in value[:12]]
    if isinstance(value, float):
        return float(f"{value:.9g}") if abs(value) > 1e-8 else 0.0
    return value


def flat(value, path=()):
    """The leaves of nested values with their paths."""
    if isinstance(value, dict):
        for key, one in value.items():
            empty = one is None or (isinstance(one, str | list | tuple) and not one)
            if not empty and key not in ("columns", "title", "label"):
                yield from flat(one, (*path, str(key)))
    elif isinstance(value, list | tuple) and any(isinstance(one, dict | list | tuple) for one in value):
        for key, one in enumerate(value[:12]):
            yield from flat(one, (*path, str(key)))
    else:
        yield ".".join(path), short(value)


def told(outcome):
    """All that one outcome says, path by path."""
    head, arrays = outcome.head()
    head = {key: value for key, value in head.items() if key not in ("kerb", "settings", "crs")}
    head["makes"] = [(made.name, made.words, made.item.reference.code) for made in outcome.makes]
    return [*flat(head | {"arrays": {key: spread(one) for key, one in arrays.items()}})]


def varied(kind):
    """The first trial of a kind of study with one field after the other set otherwise: all choices, switches and numbers."""
    first = kind.trial()[0]
    for name, about in kind.setup.declared().items():
        if about.show_only:
            continue
        now = getattr(first, name)
        others = []
        if about.kind == "choice":
            others = [one[0] for one in about.choices]
        elif about.kind in ("switch", "number"):
            others = [not now if about.kind == "switch" else 2 * now if now else 0.5]
        for other in others:
            if other != now:
                yield f"{name}={other}", replace(first, **{name: other})


def lines(kind, store, beside, both=None):
    """All that the trials of a kind of study say, live answers and what is refused too."""

    def said(word, both):
        for live, outcomes in zip(("", " live"), both, strict=True):
            for number, outcome in enumerate(outcomes):
                for path, value in told(outcome):
                    yield f"{kind.id}{word}{live} {number} {path} {json.dumps(value, ensure_ascii=False)}"

    found = dict.fromkeys(said("", both or try_out(kind, store, silent, beside)))
    known = {line.partition(" 0 ")[2] for line in found}
    for word, setup in varied(kind):
        one = replace(kind, trial=lambda setup=setup: (setup,), steps=(), live=None)
        try:
            more = [*said(f" {word}", try_out(one, store, silent, beside))]
        except KerbError as error:
            more = [f"{kind.id} {word} 0 refused {error}"]
        # What another setting does not change is not said again.
        found |= dict.fromkeys(line for line in more if line.partition(" 0 ")[2] not in known)
    return [*found]


def told_of(key, kept):
    """The lines of one kind of study."""
    return [line for line in kept if line.startswith(f"{key} ")]


def alike(one, other):
    """Whether two lines say the same: all that is no number to the letter, numbers to a millionth or their last digit."""
    if one == other:
        return True
    if NUMBER.sub("#", one) != NUMBER.sub("#", other):
        return False
    for a, b in zip(NUMBER.findall(one), NUMBER.findall(other), strict=True):
        if a.lstrip("-").isdigit() and b.lstrip("-").isdigit():
            if a != b:
                return False
            continue
        # Numbers in words are rounded already, and may be so to the next digit.
        last = 1.01 * 10.0 ** -len(a.partition(".")[2]) if '"' in one and "e" not in a else 0.0
        if not math.isclose(float(a), float(b), rel_tol=ROUNDING, abs_tol=max(last, ROUNDING)):
            return False
    return True


if __name__ == "__main__":
    clouds = epochs()
    KEPT.write_text("".join(f"{line}\n" for kind in STUDIES.values() for line in lines(kind, *clouds)))
