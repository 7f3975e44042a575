"""Figures, tables and words of cut and fill."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from kerb.core.surface.overlay import Change
from kerb.core.units import LengthUnit
from kerb.studies.cutfill.compared import Compared
from kerb.studies.cutfill.setup import EXACT, KEEP, CutfillSetup
from kerb.studies.kind import AREA, HEADLINE, LENGTH, PERCENT, REPORT, SHEET, SUMMARY, VOLUME, FigureAbout
from kerb.studies.outcome import Column, Figure, Table
from kerb.studies.parts import Part, against, combined

SHOWN = (SHEET, REPORT)
OFFSET_LEFT_OUT = "the vertical offset between the epochs"
ABOUT = (
    FigureAbout("net", "Net: fill − cut", VOLUME, (HEADLINE, SHEET, SUMMARY, REPORT), signed=True, adds=True),
    FigureAbout("fill", "Fill", VOLUME, (SHEET, SUMMARY, REPORT), adds=True),
    FigureAbout("cut", "Cut", VOLUME, (SHEET, SUMMARY, REPORT), adds=True),
    FigureAbout("fill_area", "Area of fill", AREA, SHOWN),
    FigureAbout("cut_area", "Area of cut", AREA, SHOWN),
    FigureAbout("same_area", "Area without change", AREA, SHOWN),
    FigureAbout("only_earlier_area", "Only the earlier covers", AREA, SHOWN),
    FigureAbout("only_later_area", "Only the later covers", AREA, SHOWN),
    FigureAbout("uncovered_area", "Neither covers", AREA, SHOWN, optional=True),
    FigureAbout("check_net", "Net volume, independent check", VOLUME, SHOWN, signed=True),
    FigureAbout("check_percent", "Difference of the two ways", PERCENT, SHOWN, signed=True, optional=True),
    FigureAbout("stable_offset", "Later above earlier on stable ground", LENGTH, SHOWN, signed=True, optional=True),
    FigureAbout("stable_noise", "Noise on stable ground", LENGTH, SHOWN, optional=True),
    FigureAbout("balance_level", "Balance elevation", LENGTH, SHOWN, optional=True),
    FigureAbout("loose_cut", "Cut, loosened", VOLUME, SHOWN, optional=True),
    FigureAbout("needed_fill", "Fill required (uncompacted)", VOLUME, SHOWN, optional=True),
)  # fmt: skip


@dataclass(frozen=True)
class AreaChange:
    """What changed in one area, by both ways, and what only one surface or none covers there."""

    name: str
    exact: Change
    grid: Change
    only_earlier: float
    only_later: float
    uncovered: float = 0.0

    @property
    def known(self) -> bool:
        """Whether both surfaces cover some of it."""
        return self.exact.area > 0


def added(changes: Sequence[Change]) -> Change:
    """The sum of what changed in several areas."""
    names = ("fill", "cut", "fill_area", "cut_area", "area", "same_area")
    return Change(*(sum(getattr(one, name) for one in changes) for name in names))


def figures_of(
    setup: CutfillSetup, found: Compared, rows: Sequence[AreaChange], total: Change, parts: list[Part],
    unit: LengthUnit,
) -> dict[str, Figure]:  # fmt: skip
    """The published figures. The bound is that of the net volume; fill and cut have none of their own."""
    exact = setup.method == EXACT
    second = added([row.grid if exact else row.exact for row in rows])
    u95 = combined(parts)
    without = OFFSET_LEFT_OUT if any(part.u95 is None for part in parts) else ""
    remark = "fill minus cut"
    percent = against(second.net, total.net, u95)
    stable = found.stable
    values: dict[str, tuple[float | None, str, float | None, str]] = {
        "net": (total.net, "volume", u95, remark),
        "fill": (total.fill, "volume", None, "the later lies above the earlier"),
        "cut": (total.cut, "volume", None, "the later lies below the earlier"),
        "fill_area": (total.fill_area, "area", None, ""),
        "cut_area": (total.cut_area, "area", None, ""),
        "same_area": (total.same_area, "area", None, ""),
        "only_earlier_area": (sum(row.only_earlier for row in rows), "area", None, "not counted"),
        "only_later_area": (sum(row.only_later for row in rows), "area", None, "not counted"),
        "uncovered_area": (sum(row.uncovered for row in rows), "area", None, "not counted"),
        "check_net": (second.net, "volume", None, "by a grid" if exact else "exact, by overlay"),
        "check_percent": (percent, "%", None, ""),
        "stable_offset": (stable.offset if stable else None, "length", stable.u95 if stable else None, ""),
        "stable_noise": (stable.noise if stable else None, "length", None, "standard deviation"),
        "balance_level": (None, "length", None, "where fill and cut are alike"),
        "loose_cut": (total.cut * (1 + setup.swell / 100) if setup.swell is not None else None, "volume", None, "cut and swell"),
        "needed_fill": (
            total.fill / (1 - setup.shrink / 100) if setup.shrink is not None else None, "volume", None, "fill before it shrinks",
        ),
    }  # fmt: skip
    units = {"volume": unit.volume_code(), "area": unit.area_code(), "length": unit.code, "%": "%"}
    labels = {about.name: about.label for about in ABOUT}
    made = {
        name: Figure(value, units[kind], labels[name], error, note)
        for name, (value, kind, error, note) in values.items()
    }
    return made | {"net": replace(made["net"], without=without)}


def tables_of(setup: CutfillSetup, rows: Sequence[AreaChange], parts: list[Part], unit: LengthUnit) -> dict[str, Table]:
    """Area by area, and the parts of the bound."""
    volume, area = unit.volume_code(), unit.area_code()
    columns = (
        Column("name", "", "Area"), Column("fill", volume, "Fill"), Column("cut", volume, "Cut"), Column("net", volume, "Net"),
        Column("fill_area", area, "Area of fill"), Column("cut_area", area, "Area of cut"),
        Column("same_area", area, "No change"),
        Column("only_earlier", area, "Only earlier"), Column("only_later", area, "Only later"),
        Column("uncovered", area, "Neither"), Column("check_net", volume, "Independent check"),
    )  # fmt: skip
    found = []
    for row in rows:
        one, other = (row.exact, row.grid) if setup.method == EXACT else (row.grid, row.exact)
        counted = (one.fill, one.cut, one.net, one.fill_area, one.cut_area, one.same_area)
        # Of an area that the two do not share nothing is known, which is not the same as no change.
        found.append((row.name, *(counted if row.known else (None,) * len(counted)), row.only_earlier, row.only_later,
                      row.uncovered, other.net if row.known else None))  # fmt: skip
    bounds = tuple((part.name, part.u95, part.how) for part in parts)
    about = (Column("part", "", "Part"), Column("u95", volume, "± 95 %"), Column("how", "", "How"))
    return {
        "areas": Table("Cut and fill by area", columns, tuple(found)),
        "uncertainty": Table("Uncertainty budget (95 %)", about, bounds),
    }  # fmt: skip


def method(setup: CutfillSetup, found: Compared, unit: LengthUnit) -> str:
    """How it was found, in words."""
    earlier, later = found.names
    said = f"{later} minus {earlier}. "
    if setup.method == EXACT:
        said += "Both triangulations are laid over one another and their prisms added exactly, parted where the sign changes."
    else:
        said += "Differences in the middle of square cells, weighed by the share of each that lies inside."
    if setup.detect:
        said += f" Changes up to {setup.detect:g} {unit.symbol} are not counted."
    if setup.take_out != KEEP and found.taken_out:
        said += f" The {setup.take_out} of the stable ground was taken out of the later surface first."
    return said
