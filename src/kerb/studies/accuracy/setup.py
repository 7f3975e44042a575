"""What an accuracy study is asked: what is tested, against which points, in which roles, and by which way."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass
from fnmatch import fnmatchcase

from kerb.core.accuracy.beneath import IDW, MEDIAN, PLANE, TIN
from kerb.core.arrays import Mask
from kerb.core.errors import InputError
from kerb.core.geometry.features import SurveyPoints
from kerb.studies.fields import AGAINST, POINTS, SURFACES, choice, holding, many, number, surface, switch, text
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup

POINTS_NEEDED = "Choose the points it is held against."
CHECK, CONTROL, LEFT_OUT = "check", "control", "left out"
AUTO, ALL = "auto", "all"
ROLE_HEADINGS = ("role", "use", "type")
REASON_HEADINGS = ("reason", "why", "remark")
ROLE_WORDS = {
    **dict.fromkeys(("check", "checkpoint", "check point", "cp", "chk"), CHECK),
    **dict.fromkeys(("control", "control point", "gcp", "ctl", "ctrl"), CONTROL),
    **dict.fromkeys(("left out", "out", "excluded", "none"), LEFT_OUT),
}


@dataclass(frozen=True)
class AccuracySetup(Setup):
    """Inputs and settings of an accuracy study."""

    cloud: Scope = surface(
        "Tested", "The cloud, surface or grid whose heights are tested", "Compared", needed="Choose what is tested."
    )
    points: str = holding(
        POINTS, "Points", "Points that were measured better: check points, control points", AGAINST,
        needed=POINTS_NEEDED,
    )  # fmt: skip
    control_list: str = holding(
        POINTS, "Control list", "A second list of points, all of them control: they may be used to adjust", AGAINST,
        flag="control-points", rare=True,
    )  # fmt: skip
    picked: str = holding(
        POINTS, "Picked in it", "The same points picked in what is tested, by name: their horizontal differences are counted",
        AGAINST, flag="picked", rare=True,
    )  # fmt: skip
    others: tuple[Scope, ...] = many(
        SURFACES, "Beside it", "Other epochs, strips or surfaces, held against the same points", AGAINST, flag="beside",
        rare=True,
    )  # fmt: skip
    use: str = choice(
        "Statistics of", "Whose differences make the figures; check points where roles are given, else all",
        ((AUTO, "Check points, else all"), (CHECK, "Check points"), (CONTROL, "Control points"), (ALL, "All points")),
    )  # fmt: skip
    control: str = text("Control points", "Names or codes of points that may be used to adjust, such as GCP*, K1, K2")
    checks: str = text(
        "Check points", "Names of points that only prove, whatever the list says of them, such as P1, P2", rare=True
    )
    left_out: str = text("Left out", "Names of points that do not count, each with its reason: P4 grass; P7 slope")
    vegetated: str = text(
        "In vegetation", "Names or codes of points that stand in vegetation; the 95th percentile is theirs", rare=True
    )
    way: str = choice(
        "Height by", "How the height of a cloud at a point is found",
        ((TIN, "Triangle"), (IDW, "Inverse distance"), (PLANE, "Local plane"), (MEDIAN, "Median")), flag="surface",
    )  # fmt: skip
    neighbours: float = number(
        "Neighbours",
        "Nearest points of the inverse distance, weights 1/d²",
        "",
        default=6.0,
        low=1.0,
        high=200.0,
        rare=True,
    )
    radius: float | None = number(
        "Radius", "Points within it make the local plane and the median", automatic="four point spacings", low=0.0,
        rare=True,
    )  # fmt: skip
    max_slope: float | None = number(
        "Steepest ground", "Points on steeper ground are left out", "%", low=0.0, high=1000.0
    )
    point_accuracy: float | None = number(
        "Accuracy of the points",
        "Their own RMSE in height, added by squares for edition 2 of the ASPRS standards",
        low=0.0,
    )
    strips: bool = switch(
        "Strips",
        "Strips or files against one another where they cover the same ground; no points are needed for it",
        rare=True,
    )
    wanted: float | None = number(
        "RMSE asked for", "The vertical accuracy class that was asked for; the verdict follows", low=0.0
    )

    def missing(self) -> list[str]:
        """What is still needed; strips are held against one another without points."""
        return [words for words in super().missing() if not (self.strips and words == POINTS_NEEDED)]

    def roles(self, points: SurveyPoints, of_control: Mask) -> tuple[list[str], list[str], bool]:
        """Role and reason of each point, and whether roles were given at all; ``of_control`` (n,) come from the control list.

        What is typed rules over a column of the list. Raises InputError, naming a point that is not there, or a role that is
        not known.
        """
        reasons = left_out(self.left_out, points.names)
        control, checks = (
            named(typed, points.names, points.codes, label)
            for typed, label in ((self.control, "Control points"), (self.checks, "Check points"))
        )
        column = next((points.extra[h] for h in points.extra if h.strip().lower() in ROLE_HEADINGS), None)
        why_not = next(
            (points.extra[h] for h in points.extra if h.strip().lower() in REASON_HEADINGS), ("",) * points.count
        )
        unknown = [name for name in reasons if name not in points.names]
        if unknown:
            raise InputError(f"Left out: there is no point named {', '.join(unknown[:5])}")
        found, why, given = [], [], bool(self.control.strip() or self.checks.strip() or of_control.any())
        for row, (name, code) in enumerate(zip(points.names, points.codes, strict=True)):
            said = column[row] if column is not None else code
            written = ROLE_WORDS.get(said.strip().lower(), "")
            if column is not None and said.strip() and not written:
                raise InputError(f"{name}: '{said.strip()}' is not a known role; use check, control or left out")
            given = given or bool(written)
            role = CONTROL if of_control[row] or matches(control, name, code) else written or CHECK
            if matches(checks, name, ""):
                role = CHECK
            if name in reasons:
                role = LEFT_OUT
            found.append(role)
            listed = why_not[row].strip() or "left out in the list"
            why.append(reasons.get(name, listed if role == LEFT_OUT else ""))
        return found, why, given

    def in_vegetation(self, points: SurveyPoints) -> list[bool]:
        """Which points stand in vegetation."""
        patterns = named(self.vegetated, points.names, points.codes, "In vegetation")
        return [matches(patterns, n, c) for n, c in zip(points.names, points.codes, strict=True)]


def with_role(setup: AccuracySetup, names: tuple[str, ...], role: str, reason: str = "") -> dict[str, str]:
    """The values of the setup in which points have another role; names with blanks or marks in them stay as they are typed."""
    reasons = left_out(setup.left_out)
    rest = {
        key: [word for word in re.split(r"[,;\s]+", typed.strip()) if word and word not in names]
        for key, typed in ((CONTROL, setup.control), (CHECK, setup.checks))
    }
    for name in names:
        reasons.pop(name, None)
        if role == LEFT_OUT:
            reasons[name] = reason.strip() or "left out by the analyst"
    if role in rest:
        rest[role] += names
    out = "; ".join(f"{name} {why}" for name, why in reasons.items())
    return {"control": ", ".join(rest[CONTROL]), "checks": ", ".join(rest[CHECK]), "left_out": out}


def left_out(words: str, names: Collection[str] = ()) -> dict[str, str]:
    """Names of points that are left out, with reasons, from ``P4 grass; P7 slope``; names of the list may have blanks."""
    found = {}
    for part in (part.strip() for part in words.split(";")):
        known = [name for name in names if " " in name and re.match(re.escape(name) + r"($|[\s:,])", part)]
        name = max(known, key=len) if known else part.partition(" ")[0]
        if name:
            found[name if known else name.rstrip(":,")] = part[len(name) :].strip(" :,") or "left out by the analyst"
    return found


def named(words: str, names: Collection[str], codes: Collection[str], label: str) -> list[str]:
    """Patterns of names and codes, parted by commas, semicolons or blanks; a name with blanks that is in the list stays whole.

    Raises InputError, when one is that of no point.
    """
    values = {value for value in (*names, *codes) if value}
    found: list[str] = []
    for part in (part.strip() for part in re.split(r"[,;]", words)):
        whole = any(fnmatchcase(value, part) for value in values if " " in value)
        found += [part] if whole else part.split()
    unknown = [p for p in found if not any(fnmatchcase(value, p) for value in values)]
    if unknown:
        raise InputError(f"{label}: no point has the name or code {', '.join(unknown[:5])}")
    return found


def matches(patterns: Collection[str], name: str, code: str) -> bool:
    """Whether a pattern is that of a name or a code."""
    return any(fnmatchcase(value, pattern) for pattern in patterns for value in (name, code) if value)
