"""Targets that were picked in what is tested: horizontal differences, their figures, and what each standard says of them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.accuracy.differences import FEWEST_NSSDA
from kerb.core.accuracy.horizontal import Horizontal, horizontal
from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.geometry.features import SurveyPoints
from kerb.core.units import LengthUnit
from kerb.studies.accuracy.figures import PLAIN_UNITS
from kerb.studies.accuracy.points import given_twice
from kerb.studies.accuracy.rows import BAR_SHARE, NO_HEIGHT, TestedPoint
from kerb.studies.layers import FoundDimensions
from kerb.studies.outcome import Column, Figure, Outcome, Table


@dataclass(frozen=True)
class Target:
    """A point and the place where it was picked: ``d`` (3,) picked minus measured."""

    row: TestedPoint
    picked: Floats

    @property
    def d(self) -> Floats:
        """Picked minus measured, (3,)."""
        return np.asarray(self.picked - self.row.place)


def matched(rows: list[TestedPoint], picked: SurveyPoints) -> list[Target]:
    """Points with the place of the same name in another list; a name given twice in either says nothing.

    Raises InputError, when none has one.
    """
    doubtful = {*given_twice(picked.names), *given_twice(tuple(row.name for row in rows))}
    places = dict(zip(picked.names, picked.xyz, strict=True))
    found = [Target(row, places[row.name]) for row in rows if row.name in places and row.name not in doubtful]
    if not found and doubtful & set(places):
        raise InputError(
            f"Picked in the cloud: {', '.join(sorted(doubtful & set(places))[:5])} is the name of several points"
        )
    if not found:
        raise InputError("Picked in the cloud: no name there is that of a point")
    return found


def add_targets(outcome: Outcome, targets: list[Target], wanted: str, unit: LengthUnit) -> None:
    """Figures, table, statement and arrows of targets; only those of the wanted role that are not left out count."""
    code = unit.code
    counted = [t for t in targets if t.row.role == wanted or wanted == "all"]
    counted = [t for t in counted if not t.row.reason or t.row.reason in NO_HEIGHT]
    found = horizontal(np.array([t.d[:2] for t in counted]).reshape(-1, 2))
    know = lambda v: None if not np.isfinite(v) else v  # noqa: E731
    for name, label, value, note in (
        ("targets", "Targets that count", found.n or None, "" if found.n else "no target was picked"),
        ("mean_e", "Mean difference east", know(found.mean_e), ""),
        ("mean_n", "Mean difference north", know(found.mean_n), ""),
        ("rms_e", "RMSE east", know(found.rms_e), ""),
        ("rms_n", "RMSE north", know(found.rms_n), ""),
        ("rms_radial", "Radial RMSE", know(found.rms_radial), ""),
        ("accuracy95_horizontal", "Horizontal accuracy at 95 % (NSSDA)", know(found.accuracy95), _why(found)),
    ):
        outcome.figures[name] = Figure(value, "" if name == "targets" else code, label, None, note)
    if not targets:
        return
    length = lambda name, label: Column(name, code, label)  # noqa: E731
    heads = (
        Column("name", "", "Target"), Column("role", "", "Role"), length("de", "East"), length("dn", "North"),
        length("dz", "Up"), length("radial", "Radial"), Column("used", "", "Counts"),
    )  # fmt: skip
    cells = tuple(
        (t.row.name, t.row.role, *t.d.tolist(), float(np.hypot(*t.d[:2])), "yes" if t in counted else "no")
        for t in targets
    )
    outcome.tables["targets"] = Table("Targets, picked − measured", heads, cells)
    if found.n:
        plain = PLAIN_UNITS.get(code, unit.plural)
        words = (
            f"Tested {found.accuracy95:.3f} {plain} horizontal accuracy at 95% confidence level."
            if np.isfinite(found.accuracy95) else "No statement: the errors east and north differ too much for its factor."
        )  # fmt: skip
        if found.n < FEWEST_NSSDA:
            words += f" Too few points: {found.n}, the standard asks for {FEWEST_NSSDA}."
        before = outcome.tables.get("standards")
        rows = (*(before.rows if before is not None else ()), ("NSSDA, horizontal (FGDC-STD-007.3-1998)", words))
        columns = (Column("standard", "", "Standard"), Column("statement", "", "Statement"))
        outcome.tables["standards"] = Table("Standards", columns, rows)
        _arrows(outcome, counted)


def _why(found: Horizontal) -> str:
    if not found.n:
        return "no target counts"
    return (
        "" if np.isfinite(found.accuracy95) else "the errors east and north differ too much for the standard's factor"
    )


def _arrows(outcome: Outcome, targets: list[Target]) -> None:
    """Horizontal differences to scale, from the point to where it was picked."""
    xyz, d = np.array([t.row.place for t in targets]), np.array([t.d for t in targets])
    most, extent = float(np.hypot(*d[:, :2].T).max()), float(np.ptp(xyz[:, :2], axis=0).max())
    if most <= 0 or extent <= 0:
        return
    tips = xyz.copy()
    tips[:, :2] += BAR_SHARE * extent * d[:, :2] / most
    outcome.layers["targets"] = FoundDimensions(np.stack([xyz, tips], axis=1), (), "mark", "Horizontal differences")
