"""What kinds of study declare, a line each: names, defaults, limits, units, what is shown where, and their trials; not the words.

Jobs, scripts and the eyes of analysts rely on it, so it changes on purpose only: ``python -m tests.declared`` keeps it anew in
``tests/data/declared.txt``, where a change is seen by whoever reads the commit.
"""

import json
from dataclasses import MISSING, fields, is_dataclass

from kerb.studies.registry import STUDIES
from tests.support import DATA

KEPT = DATA / "declared.txt"
WORDS = ("help", "label", "said", "needed", "question", "automatic", "title", "example", "name")


def plain(value):
    """Dataclasses as dictionaries of what differs from their defaults and is no wording or function."""
    if is_dataclass(value) and not isinstance(value, type):
        found = {about.name: (getattr(value, about.name), about.default) for about in fields(value)}
        return {
            name: plain(one)
            for name, (one, usual) in found.items()
            if name not in WORDS and not callable(one) and (usual is MISSING or one != usual)
        }
    if isinstance(value, tuple | list):
        return [plain(one) for one in value]
    return value


def declared():
    """All that is declared: kind of study, part, name, and what is said of it as JSON."""
    lines = []
    for key, kind in STUDIES.items():
        about, empty = plain(kind), kind.setup().to_json()
        parts = {
            "kind": {name: about[name] for name in about if name not in ("figures", "steps", "options")},
            **{f"field {name}": {**plain(one), "default": empty.get(name)} for name, one in kind.setup.declared().items()},
            **{f"figure {one.name}": plain(one) for one in kind.figures},
            **{f"step {one.id}": plain(one) for one in kind.steps},
            **{f"option {one.flag}": plain(one) for one in kind.options},
            **{f"trial {number}": one.to_json() for number, one in enumerate(kind.trial())},
        }
        lines += [f"{key}: {part} {json.dumps(one, sort_keys=True)}" for part, one in parts.items()]
    return lines


if __name__ == "__main__":
    KEPT.write_text("\n".join(declared()) + "\n")
