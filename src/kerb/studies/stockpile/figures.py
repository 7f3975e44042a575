"""The published figures and tables of a stockpile study, from what was measured."""

from __future__ import annotations

import numpy as np

from kerb.core.surface.toe import ACROSS_STEP, GROUND, NO_POINTS, NOT_GROUND, TYPED
from kerb.core.units import METRE, LengthUnit, convert, density_unit
from kerb.studies.kind import (
    ANGLE,
    AREA,
    HEADLINE,
    LENGTH,
    MASS,
    PERCENT,
    REPORT,
    SHEET,
    SUMMARY,
    VOLUME,
    FigureAbout,
)
from kerb.studies.outcome import Column, Figure, Table
from kerb.studies.parts import COMBINED, against, combined
from kerb.studies.stockpile.measured import Measured
from kerb.studies.stockpile.setup import StockpileSetup

BELOW_SHARE = 0.01
# Parts of the bound that are the same under every heap of a survey.
SHARED = ("Vertical bias",)

ABOUT = (
    FigureAbout("above", "Above base", VOLUME),
    FigureAbout("below", "Below base", VOLUME),
    FigureAbout("net", "Net volume", VOLUME, (HEADLINE, SUMMARY), adds=True),
    FigureAbout("plan_area", "Plan area", AREA, (SHEET, SUMMARY, REPORT)),
    FigureAbout("surface_area", "Surface area", AREA),
    FigureAbout("highest", "Highest point", LENGTH),
    FigureAbout("height", "Greatest height over base", LENGTH),
    FigureAbout("mean_slope", "Mean slope of the sides", ANGLE),
    FigureAbout("steepest_slope", "Steepest slope", ANGLE),
    FigureAbout("gap_area", "Area without points", AREA),
    FigureAbout("check_net", "Net, second way by grid", VOLUME),
    FigureAbout("check_percent", "Second way against first", PERCENT, signed=True),
    FigureAbout("mass", "Mass", MASS, (HEADLINE, SUMMARY), adds=True),
)
LABELS = {about.name: about.label for about in ABOUT}
KINDS = {
    GROUND: "ground", ACROSS_STEP: "across a step", TYPED: "typed", NO_POINTS: "no points", NOT_GROUND: "not ground",
}  # fmt: skip


def units(unit: LengthUnit, setup: StockpileSetup) -> dict[str, str]:
    """Unit code of each figure."""
    volume, area = unit.volume_code(), unit.area_code()
    return {
        "above": volume, "below": volume, "net": volume, "check_net": volume, "check_percent": "%",
        "plan_area": area, "surface_area": area, "gap_area": area,
        "highest": unit.code, "height": unit.code, "mean_slope": "deg", "steepest_slope": "deg",
        "mass": density_unit(setup.density_unit).mass_code,
    }  # fmt: skip


def none(unit: LengthUnit, setup: StockpileSetup) -> dict[str, Figure]:
    """Every figure as not determinable."""
    codes = units(unit, setup)
    return {name: Figure(None, codes[name], label) for name, label in LABELS.items()}


def worded(found: Measured, setup: StockpileSetup) -> dict[str, Figure]:
    """Every figure with its value, unit and, where it has meaning, its 95 % uncertainty."""
    heap, volume = found.heap, found.volume
    u95 = combined(found.parts)
    top = heap.top.points
    heights = top[:, 2] - heap.base.at(top)
    percent = against(found.second.net, volume.net, u95)
    # The bound is that of the net: it is that of what lies above where hardly anything lies below.
    above = u95 if volume.below <= BELOW_SHARE * volume.above else None
    per_volume = mass_per_volume(setup.density, setup.density_unit, heap.ground.unit)
    values: dict[str, tuple[float | None, float | None, str]] = {
        "above": (volume.above, above, ""),
        "below": (volume.below, None, ""),
        "net": (volume.net, u95, "above minus below"),
        "plan_area": (heap.top.plan_area, None, ""),
        "surface_area": (found.surface[0], None, found.surface[1]),
        "highest": (float(heap.inside[:, 2].max()), None, "elevation"),
        "height": (float(np.nanmax(heights)), None, ""),
        "mean_slope": (found.slopes.mean, None, f"over stretches of {found.slopes.length:.2g}"),
        "steepest_slope": (found.slopes.steepest, None, f"over stretches of {found.slopes.length:.2g}"),
        "gap_area": (found.gap_area, None, "interpolated"),
        "check_net": (found.second.net, None, f"cells of {found.cell:.3g}"),
        "check_percent": (percent, None, ""),
        "mass": (volume.net * per_volume, u95 * per_volume, "net times density")
        if per_volume is not None
        else (None, None, "no density given"),
    }
    codes = units(heap.ground.unit, setup)
    return {
        name: Figure(value, codes[name], LABELS[name], error, note) for name, (value, error, note) in values.items()
    }


def mass_per_volume(density: float | None, density_in: str, unit: LengthUnit) -> float | None:
    """Mass, in the density's own mass unit, of one cubic job unit; None without a density."""
    if density is None:
        return None
    kind = density_unit(density_in)
    tonnes_per_m3 = density * kind.tonnes_per_m3
    return tonnes_per_m3 * convert(1.0, unit, METRE, power=3) / kind.mass_tonnes


def tables(found: Measured, unit: LengthUnit) -> dict[str, Table]:
    """Uncertainty parts and the toe line as read."""
    volume = unit.volume_code()
    rows = tuple((part.name, part.u95, part.how) for part in found.parts)
    whole = ((COMBINED, combined(found.parts), "root sum of squares, k = 1.96"),)
    toe = found.heap.toe
    toe_rows = tuple(
        (number + 1, *toe.xy[i].tolist(), float(toe.base[i]), float(toe.top[i]), KINDS[int(toe.kind[i])])
        for number, i in enumerate(toe.vertices)
    )
    return {
        "uncertainty": Table(
            "Uncertainty of the volume (95 %)",
            (Column("part", "", "Part"), Column("u95", volume, "± 95 %"), Column("how", "", "How")),
            rows + whole,
        ),
        "toe": Table(
            "Toe line",
            (
                Column("vertex", "", "Vertex"),
                Column("e", unit.code, "Easting"),
                Column("n", unit.code, "Northing"),
                Column("base", unit.code, "Base"),
                Column("top", unit.code, "Top at line"),
                Column("read", "", "Read from"),
            ),
            toe_rows,
        ),
    }
