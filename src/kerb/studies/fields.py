"""The kinds of fields a setup is declared with: what each holds, what it needs, and how it is kept as plain JSON."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from kerb.core.setting import Setting
from kerb.studies.drawn import Drawn, Item
from kerb.studies.scope import Scope

SCOPE, SURFACE, LINES, ALIGNMENT, POINTS = "scope", "surface", "lines", "alignment", "points"
RING, LINE, PLACES, DIRECTION, RINGS = "ring", "line", "places", "direction", "rings"
NUMBER, CHOICE, TEXT, SWITCH = "number", "choice", "text", "switch"
# Any number of clouds, and of things with elevations.
CLOUDS, SURFACES = "clouds", "surfaces"
MANY = (CLOUDS, SURFACES)
HOLDINGS = (SCOPE, SURFACE, LINES, ALIGNMENT, POINTS)
DRAWN = (RING, LINE, PLACES, DIRECTION)
COMPARED, AGAINST, WHERE, HOW = "Compared", "Against", "Where", "How"
SECTIONS = (COMPARED, AGAINST, WHERE, HOW)


@dataclass(frozen=True)
class Way:
    """One of the ways an item of a field can be: what it is drawn as (``ring``, ``line`` or ``places``), and what it does."""

    id: str
    label: str
    kind: str
    help: str


@dataclass(frozen=True)
class Field(Setting):
    """What is known of one field of a setup, beyond what every setting has.

    ``needed`` says in words what is missing while it is empty; ``when`` names another field and the values of it that give
    this one a meaning; with no values, any does. ``rare`` ones are folded away, ``show_only`` ones change no figure. ``flag``
    is its name on the command line where that differs, ``key`` the shortcut that draws it, ``own`` the values each item of
    ``rings`` has; ``stretches`` what can be stated of the stretches of its line (value, label). ``cuts`` are the surfaces a
    line shows a profile of; ``title`` then names that profile. ``naming`` is the field that says which of the lines of a
    holding is meant. A ``positional`` one is the second word of the command line; there ``level:Z`` in place of a file fills
    the number that ``level`` names, and, as the first word, sets the switch that ``swap`` names. ``ways`` are what the items
    of ``rings`` can be where they are more than rings; an item's value ``way`` names its own. What is said ``by_hand``
    matters only where somebody looks and picks: it is no option of the command line. ``dated`` says of a holding that it is
    the later (1) or the earlier one (-1) of it and the main one, so that a new study has them in order. Drawing ``further``
    places adds to those that are there. A field that is ``finished`` is first thought to be a surface, and a cloud where
    there is none. Of a cloud that is classified, ``ground`` ones are proposed with the ground classes only.
    ``unit_by`` names the choice that says a number's unit; ``in_feet`` is what a choice begins with in jobs of feet.
    ``classes_flag`` is a further name of the option that gives its classes; one of the ``same_cloud``, where only those are
    given, is the main cloud. What is of ``other_height`` is not held against the main input by its elevations.
    """

    kind: str = TEXT
    section: str = HOW
    needed: str = ""
    when: tuple[str, tuple[str, ...]] | None = None
    rare: bool = False
    show_only: bool = False
    hidden: bool = False
    by_hand: bool = False
    flag: str = ""
    key: str = ""
    own: tuple[Setting, ...] = ()
    stretches: tuple[tuple[str, str], ...] = ()
    cuts: tuple[str, ...] = ()
    title: str = ""
    naming: str = ""
    positional: bool = False
    level: str = ""
    swap: str = ""
    dated: int = 0
    further: bool = False
    finished: bool = False
    ground: bool = False
    ways: tuple[Way, ...] = ()
    unit_by: str = ""
    in_feet: str = ""
    classes_flag: str = ""
    same_cloud: bool = False
    other_height: bool = False

    def drawn_as(self, way: str = "") -> str:
        """What is drawn for the field, or for an item of one of its ways: a kind of fields."""
        return next((one.kind for one in self.ways if one.id == way), RING if self.ways else self.kind)


@dataclass(frozen=True)
class Codec:
    """How a value of a kind is kept: to JSON and back, and whether it is there."""

    write: Callable[[Any], Any]
    read: Callable[[Any], Any]
    empty: Callable[[Any], bool]


def _same(value: Any) -> Any:
    return value


def _number(value: Any) -> float | None:
    return None if value is None else float(value)


CODECS: dict[str, Codec] = {
    **{kind: Codec(lambda v: v.to_json(), Scope.from_json, lambda v: not v.holding) for kind in (SCOPE, SURFACE)},
    **{kind: Codec(lambda v: [one.to_json() for one in v], lambda v: tuple(Scope.from_json(one) for one in v),
                   lambda v: not v) for kind in MANY},
    **{kind: Codec(_same, str, lambda v: not v) for kind in (LINES, ALIGNMENT, POINTS, TEXT, CHOICE)},
    **{kind: Codec(lambda v: v.to_json(), Drawn.from_json, lambda v: not v.xy) for kind in DRAWN},
    RINGS: Codec(lambda v: [item.to_json() for item in v], lambda v: tuple(Item.from_json(item) for item in v),
                 lambda v: not any(item.taken for item in v)),
    NUMBER: Codec(_same, _number, lambda v: v is None),
    SWITCH: Codec(_same, bool, lambda v: False),
}  # fmt: skip


def _made(default: Any, about: Field) -> Any:
    return field(default=default, metadata={"setting": about})


def scope(label: str, help_: str, section: str = COMPARED, **more: Any) -> Any:
    """Points of a cloud."""
    return _made(Scope(), Field(label, help_, kind=SCOPE, section=section, **more))


def surface(label: str, help_: str, section: str = AGAINST, **more: Any) -> Any:
    """Anything with elevations: a cloud's top, a surface, a grid, a model seen from above."""
    return _made(Scope(), Field(label, help_, kind=SURFACE, section=section, **more))


def many(kind: str, label: str, help_: str, section: str = COMPARED, **more: Any) -> Any:
    """Any number of clouds, or of things with elevations."""
    return _made((), Field(label, help_, kind=kind, section=section, **more))


def holding(kind: str, label: str, help_: str, section: str = WHERE, **more: Any) -> Any:
    """A holding of lines, an alignment or points, by its id."""
    return _made("", Field(label, help_, kind=kind, section=section, **more))


def drawn(kind: str, label: str, help_: str, **more: Any) -> Any:
    """A ring, a line, places or a direction that is drawn."""
    more.setdefault("section", WHERE)
    return _made(Drawn(), Field(label, help_, kind=kind, **more))


def rings(label: str, help_: str, own: tuple[Setting, ...] = (), **more: Any) -> Any:
    """Many drawn rings with names and values of their own."""
    more.setdefault("section", WHERE)
    return _made((), Field(label, help_, kind=RINGS, own=own, **more))


def number(label: str, help_: str, unit: str = "length", default: float | None = None, **more: Any) -> Any:
    """A number; None is automatic, or none at all."""
    return _made(default, Field(label, help_, unit, kind=NUMBER, **more))


def choice(label: str, help_: str, choices: tuple[tuple[str, str], ...], **more: Any) -> Any:
    """One of some choices, the first where nothing is said."""
    default = more.pop("default", choices[0][0])
    return _made(default, Field(label, help_, choices=choices, kind=CHOICE, **more))


COUNTED = "counted"
STRAYS = (("left-out", "Left out"), (COUNTED, "Counted"))


def strays() -> Any:
    """Whether single stray points count: one rule and one choice for all studies of surfaces."""
    words = "Single points 0.6 m or more above or below all that is round them, or far off in plan"
    return choice("Stray points", words, STRAYS, rare=True)


def text(label: str, help_: str, **more: Any) -> Any:
    """A short text."""
    return _made("", Field(label, help_, kind=TEXT, **more))


def switch(label: str, help_: str, default: bool = False, **more: Any) -> Any:
    """On or off."""
    return _made(default, Field(label, help_, kind=SWITCH, **more))
