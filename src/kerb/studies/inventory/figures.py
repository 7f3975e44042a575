"""The published figures and tables of an inventory, from the rows of its heaps."""

from __future__ import annotations

from typing import Any

from kerb.core.quantity import first_of
from kerb.core.units import LengthUnit, density_unit
from kerb.studies.inventory.setup import InventorySetup
from kerb.studies.inventory.totals import GONE, Row, Total, by_material, total, without_change
from kerb.studies.kind import COUNT, HEADLINE, MASS, REPORT, SHEET, SUMMARY, VOLUME, FigureAbout
from kerb.studies.outcome import Column, Figure, Table

ABOUT = (
    FigureAbout("total_net", "Net volume of all heaps", VOLUME, (HEADLINE, SUMMARY)),
    FigureAbout("total_mass", "Mass of all heaps", MASS, (HEADLINE, SUMMARY)),
    FigureAbout("total_above", "Above base", VOLUME),
    FigureAbout("total_below", "Below base", VOLUME),
    FigureAbout("heaps", "Heaps", COUNT, (SHEET, REPORT, SUMMARY)),
    FigureAbout("change", "Change since the earlier survey", VOLUME, (SHEET, REPORT, SUMMARY), signed=True),
)
LABELS = {about.name: about.label for about in ABOUT}
VALUES = ("above", "below", "net", "plan_area", "highest", "gap_area", "check_percent")


def worded(setup: InventorySetup, rows: list[Row], unit: LengthUnit) -> dict[str, Figure]:
    """Every figure; None where no heap could be determined."""
    whole, volume = total(rows), unit.volume_code()
    none = whole.count == 0
    values: dict[str, tuple[float | None, str, float | None, str]] = {
        "total_net": (None if none else whole.net, volume, whole.u95, "above minus below"),
        "total_mass": (
            whole.mass, density_unit(setup.density_unit).mass_code, whole.mass_u95,
            "" if whole.mass is not None else "not every heap has a density",
        ),
        "total_above": (None if none else whole.above, volume, whole.u95, ""),
        "total_below": (None if none else whole.below, volume, None, ""),
        "heaps": (whole.count, "", None, ""),
        "change": (whole.change, volume, whole.change_u95, _no_change(rows) if whole.change is None else ""),
    }  # fmt: skip
    return {name: Figure(value, code, LABELS[name], u95, note) for name, (value, code, u95, note) in values.items()}


def _no_change(rows: list[Row]) -> str:
    names = without_change(rows)
    return f"not determinable at one of the dates: {first_of(names, 3)}" if names else "no earlier survey"


def tables(setup: InventorySetup, rows: list[Row], unit: LengthUnit) -> dict[str, Table]:
    """A row a heap, and a row a material."""
    compared = any(row.before is not None for row in rows)
    found = {"heaps": _heaps(setup, rows, unit, compared)}
    groups = by_material(rows)
    if len(groups) > 1 or next(iter(groups), ""):
        found["materials"] = _materials(setup, groups, unit, compared)
    return found


def _heaps(setup: InventorySetup, rows: list[Row], unit: LengthUnit, compared: bool) -> Table:
    volume, area, mass = unit.volume_code(), unit.area_code(), density_unit(setup.density_unit).mass_code
    columns = [
        Column("name", "", "Heap"), Column("material", "", "Material"), Column("net", volume, "Net volume"),
        Column("u95", volume, "± 95 %"), Column("mass", mass, "Mass"), Column("density", setup.density_unit, "Density"),
        Column("above", volume, "Above base", bound="u95"), Column("below", volume, "Below base", bound="u95"),
        Column("plan_area", area, "Plan area"), Column("highest", unit.code, "Highest point"),
        Column("gap_area", area, "Without points"), Column("check_percent", "%", "Second way"), Column("notes", "", "Notes"),
    ]  # fmt: skip
    if compared:
        columns += [
            Column("before", volume, "Earlier", bound="change_u95"), Column("change", volume, "Change"),
            Column("change_u95", volume, "± 95 %"), Column("state", "", "State"),
        ]  # fmt: skip
    cells = []
    for row in rows:
        one, get = total([row]), row.values.get
        line: list[Any] = [row.name, row.material, row.net, one.u95, get("mass"), row.density, *map(get, VALUES[:2])]
        line += [*map(get, VALUES[3:]), row.notes]
        if compared:
            line += [row.before, row.change, one.change_u95, _state(row)]
        cells.append(tuple(line))
    return Table("Heaps", tuple(columns), tuple(cells))


def _state(row: Row) -> str:
    if row.kind == GONE:
        return "gone"
    if row.before is None:
        return ""
    return "new" if not row.before_name else "" if row.before_name == row.name else f"was {row.before_name}"


def _materials(setup: InventorySetup, groups: dict[str, list[Row]], unit: LengthUnit, compared: bool) -> Table:
    volume, mass = unit.volume_code(), density_unit(setup.density_unit).mass_code
    columns = [
        Column("material", "", "Material"), Column("heaps", "", "Heaps"), Column("net", volume, "Net volume"),
        Column("u95", volume, "± 95 %"), Column("mass", mass, "Mass"),
    ]  # fmt: skip
    if compared:
        columns += [Column("change", volume, "Change"), Column("change_u95", volume, "± 95 %")]
    cells: list[tuple[Any, ...]] = []
    for name, own in groups.items():
        one: Total = total(own)
        line: list[Any] = [name or "not named", one.count, one.net if one.count else None, one.u95, one.mass]
        cells.append((*line, one.change, one.change_u95) if compared else tuple(line))
    return Table("By material", tuple(columns), tuple(cells))
