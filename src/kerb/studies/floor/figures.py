"""Figures, tables and notes of a floor."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import scipy

from kerb.core.floor import flatness as f
from kerb.core.floor.evenness import DISTANCES, limit, straightedge
from kerb.core.floor.water import draining
from kerb.core.geometry.area import Area, inside_any
from kerb.core.progress import Progress
from kerb.core.quantity import quantity
from kerb.studies.floor.found import F_STEP, FEWEST_NODES, Found
from kerb.studies.floor.setup import NONE, FloorSetup
from kerb.studies.outcome import Column, Figure, Note, Outcome, Table
from kerb.studies.sources import Sources

MOST_REGIONS, MOST_PONDS = 40, 10


def figures(found: Found) -> dict[str, Figure]:
    """Every figure; None where it cannot be told."""
    setup, slab, lines, limits, unit = found.setup, found.slab, found.lines, found.limits, found.unit
    d, cell, fine, noise, gaps = found.d, slab.cell_area, found.fine, found.noise, found.gaps
    ff, fl = f.flatness(lines), f.levelness(lines)
    fl = fl if not setup.tilted else f.FNumber(float("nan"), 0)
    no_lines = "" if lines else "no sample line of 11 ft fits on the floor"
    no_level = no_lines if not setup.tilted else "the scan is not level, so levelness cannot be told"
    pure = f.without_noise(lines, noise * unit.metres)
    high, low = d > limits[0], d < -limits[1]
    code, area, volume = unit.code, unit.area_code(), unit.volume_code()
    known = lambda value: float(value) if np.isfinite(value) else None  # noqa: E731
    return {
        "ff": Figure(known(ff.value), "", "FF, flatness", note=no_lines, resolution=F_STEP),
        "fl": Figure(known(fl.value), "", "FL, levelness", note=no_level, resolution=F_STEP),
        "ff95_low": Figure(known(ff.low), "", "FF, lower 95 % bound", note=no_lines, resolution=F_STEP),
        "fl95_low": Figure(known(fl.low), "", "FL, lower 95 % bound", note=no_level, resolution=F_STEP),
        "ff90_low": Figure(known(ff.low90), "", "FF, lower 90 % bound", note=no_lines, resolution=F_STEP),
        "fl90_low": Figure(known(fl.low90), "", "FL, lower 90 % bound", note=no_level, resolution=F_STEP),
        "ff_without_noise": Figure(known(pure), "", "FF without the noise of the cloud", note=no_lines, resolution=F_STEP),
        "above_area": Figure(float(high.sum()) * cell, area, "Above the tolerance"),
        "below_area": Figure(float(low.sum()) * cell, area, "Below the tolerance"),
        "within_area": Figure(float((~high & ~low).sum()) * cell, area, "Within the tolerance"),
        "high_volume": Figure(float((d[high] - limits[0]).sum()) * cell, volume, "To be ground off", resolution=fine),
        "low_volume": Figure(float((-limits[1] - d[low]).sum()) * cell, volume, "To be filled", resolution=fine),
        "max_high": Figure(float(max(d.max(), 0.0)), code, "Highest above", resolution=fine),
        "max_low": Figure(float(max(-d.min(), 0.0)), code, "Lowest below", resolution=fine),
        "straightedge": Figure(known(gaps.largest), code, "Largest gap under the straightedge", resolution=fine),
        "mean": Figure(float(slab.levels.mean()), code, "Mean level", resolution=fine),
        "std": Figure(float(d.std(ddof=1)), code, "Standard deviation", resolution=fine),
        "area": Figure(float(slab.known.sum()) * cell, area, "Floor area"),
        "spacing": Figure(slab.spacing, code, "Between nodes", resolution=fine),
        "noise": Figure(known(slab.noise), code, "Scatter of the points about it", resolution=fine),
    }  # fmt: skip


def put_tables(outcome: Outcome, found: Found, sources: Sources) -> None:
    """Put the tables of a floor into its outcome."""
    setup, slab, lines, limits, unit = found.setup, found.slab, found.lines, found.limits, found.unit
    water, gaps, code, area, fine = found.water, found.gaps, found.unit.code, found.unit.area_code(), found.fine
    length = lambda name, label: Column(name, code, label, resolution=fine)  # noqa: E731
    number = lambda name, label: Column(name, "", label, resolution=F_STEP)  # noqa: E731
    rows = [(line.name, int(np.isfinite(line.h).sum()), *_f_cells([line], setup)) for line in lines]
    outcome.tables["lines"] = Table(
        "Sample lines", (Column("name", "", "Line"), Column("readings", "", "Readings"), number("ff", "FF"), number("fl", "FL")),
        tuple(rows),
    )  # fmt: skip
    if setup.bays:
        outcome.tables["bays"] = _bays(found)
    outcome.tables["areas"] = _regions(found)
    if setup.din != NONE:
        outcome.tables["evenness"] = _evenness(found)
    if water.ponds:
        outcome.tables["ponds"] = Table(
            "Standing water", (Column("number", "", "No."), Column("e", code, "Easting"), Column("n", code, "Northing"),
            length("depth", "Depth"), Column("area", area, "Area"),
            Column("volume", unit.volume_code(), "Volume", resolution=fine)),
            tuple((str(k), *p.place, p.depth, p.area, p.volume) for k, p in enumerate(water.ponds[:MOST_REGIONS], 1)),
            printed=MOST_PONDS,
        )  # fmt: skip
    if setup.outlets:
        points = sources.points("outlets")
        drained = draining(water, slab.z, slab.corner, slab.spacing, points.xyz[:, :2])
        outcome.tables["outlets"] = Table(
            "What drains where", (Column("name", "", "Outlet"), Column("area", area, "Drained area")),
            tuple(zip(points.names, drained, strict=True)),
        )  # fmt: skip
        whole = float(slab.known.sum()) * slab.cell_area
        said = [
            f"water from {quantity(own, area)} reaches {name}" for name, own in zip(points.names, drained, strict=True)
        ]
        outcome.warnings.append(Note("drains", f"of {quantity(whole, area)}, {'; '.join(said[:6])}"))
    d = found.d
    state = np.where(d > limits[0], "high", np.where(d < -limits[1], "low", "within"))
    outcome.tables["points"] = Table(
        "Nodes", (Column("e", code, "Easting"), Column("n", code, "Northing"), length("z", "Level"), length("d", "Deviation"),
                  length("gap", "Gap"), Column("state", "", "State")),
        tuple(zip(*slab.places.T.tolist(), *(v.tolist() for v in (slab.levels, d, gaps.gap[slab.known], state)), strict=True)),
        printed=0,
    )  # fmt: skip


def _f_cells(lines: list[f.LineReadings], setup: FloorSetup) -> tuple[float | None, float | None]:
    ff, fl = f.flatness(lines).value, f.levelness(lines).value
    return (ff if np.isfinite(ff) else None), (fl if np.isfinite(fl) and not setup.tilted else None)


def _bays(found: Found) -> Table:
    setup, slab, lines, limits, unit = found.setup, found.slab, found.lines, found.limits, found.unit
    fine, code = found.fine, unit.code
    rows: list[tuple[Any, ...]] = []
    for bay in setup.parts():
        inside = inside_any((bay,), slab.places)
        d = found.d[inside]
        if not len(d):
            rows.append((bay.name, *[None] * 7))
            continue
        own = [_inside(line, bay) for line in lines]
        ff, fl = _f_cells([line for line in own if np.isfinite(line.h).sum() > f.LEVEL_STEPS], setup)
        within = float(((d <= limits[0]) & (d >= -limits[1])).mean())
        mean = float(slab.levels[inside].mean())
        rows.append(
            (bay.name, ff, fl, mean, float(d.max()), float(d.min()), within, float(inside.sum()) * slab.cell_area)
        )
    columns = (
        Column("name", "", "Bay"), Column("ff", "", "FF", resolution=F_STEP), Column("fl", "", "FL", resolution=F_STEP),
        Column("mean", code, "Mean level", resolution=fine), Column("max_high", code, "Highest", resolution=fine),
        Column("max_low", code, "Lowest", resolution=fine), Column("within", "share", "Within"),
        Column("area", unit.area_code(), "Area"),
    )  # fmt: skip
    return Table("By bay", columns, tuple(rows))


def _inside(line: f.LineReadings, bay: Area) -> f.LineReadings:
    return replace(line, h=np.where(inside_any((bay,), line.places), line.h, np.nan))


def _regions(found: Found) -> Table:
    """Connected areas beyond the tolerance, largest volume first, with the worst place of each."""
    slab, away, limits, unit = found.slab, found.away, found.limits, found.unit
    code, cell, fine = unit.code, slab.cell_area, found.fine
    rows: list[tuple[Any, ...]] = []
    for side, beyond in (("high", away - limits[0]), ("low", -limits[1] - away)):
        label, _ = scipy.ndimage.label(np.nan_to_num(beyond, nan=-1.0) > 0, np.ones((3, 3)))
        for number, span in enumerate(scipy.ndimage.find_objects(label), 1):
            inside = label[span] == number
            if inside.sum() < FEWEST_NODES:
                continue
            over = np.where(inside, beyond[span], 0.0)
            row, column = np.unravel_index(int(over.argmax()), over.shape)
            at = (span[0].start + int(row), span[1].start + int(column))
            place = (slab.corner[0] + at[1] * slab.spacing, slab.corner[1] + at[0] * slab.spacing)
            rows.append((side, *place, float(away[at]), float(inside.sum()) * cell, float(over.sum()) * cell))
    rows.sort(key=lambda row: -row[5])
    columns = (
        Column("number", "", "No."), Column("side", "", "Side"), Column("e", code, "Worst at E"), Column("n", code, "Worst at N"),
        Column("worst", code, "Worst", resolution=fine), Column("area", unit.area_code(), "Area"),
        Column("volume", unit.volume_code(), "Volume beyond", resolution=fine),
    )  # fmt: skip
    return Table(
        "Areas beyond the tolerance", columns, tuple((str(n), *row) for n, row in enumerate(rows[:MOST_REGIONS], 1))
    )


def _evenness(found: Found) -> Table:
    setup, slab, unit = found.setup, found.slab, found.unit
    fine, rows = found.fine, []
    for metres in DISTANCES:
        if metres / unit.metres < 2 * slab.spacing:
            continue
        own = straightedge(slab.z, slab.spacing, metres / unit.metres, Progress()).largest
        most = limit(setup.din, metres) / unit.metres
        rows.append(
            (metres / unit.metres, most, own if np.isfinite(own) else None, "met" if own <= most else "not met")
        )
    columns = (
        Column("distance", unit.code, "Over"), Column("limit", unit.code, "Limit", resolution=fine),
        Column("largest", unit.code, "Largest gap", resolution=fine), Column("verdict", "", "Limit is"),
    )  # fmt: skip
    return Table(f"Evenness, DIN 18202 table 3 {setup.din.replace('-', ' ')}", columns, tuple(rows))


def put_notes(outcome: Outcome, found: Found) -> None:
    """Say what must be known of the figures: too few readings, noise, what was specified, what a scan cannot claim."""
    setup, slab, lines, unit, fine, noise = found.setup, found.slab, found.lines, found.unit, found.fine, found.noise
    area = float(slab.known.sum()) * slab.cell_area * unit.metres**2
    wanted, have = f.wanted_readings(area), sum(len(line.q) for line in lines)
    if lines and have < wanted:
        outcome.warnings.append(Note("few-readings", f"{have} readings of {wanted} that ASTM E1155 asks of this area"))
    pure, raw = outcome.figures["ff_without_noise"].value, outcome.value("ff")
    if pure is not None and raw is not None and pure > 1.1 * raw:
        words = f"the scatter of the points lowers FF: {raw:.1f} as read, {pure:.1f} without it (a reading scatters by "
        outcome.warnings.append(Note("noise", words + f"{quantity(noise, unit.code, resolution=fine)})"))
    for name, asked in (("ff", setup.ff), ("fl", setup.fl)):
        value, low = outcome.value(name), outcome.value(f"{name}95_low")
        if asked is None or value is None:
            continue
        local = 2 / 3 * asked
        under = [row[0] for row in outcome.tables["lines"].rows if row[2 + (name == "fl")] is not None
                 and row[2 + (name == "fl")] < local]  # fmt: skip
        verdict = "met" if value >= asked else "not met"
        sure = f", lower 95 % bound {low:.1f}" if low is not None else ""
        text = f"{name.upper()} {asked:g} overall is {verdict} ({value:.1f}{sure}); minimum local {local:.1f} (two thirds, "
        text += f"common practice) {'is not met by ' + ', '.join(under[:6]) if under else 'is met by every line'}"
        outcome.warnings.append(Note(f"{name}-specified", text))
        if name == "ff" and value < asked and pure is not None and pure >= asked:
            words = f"Without the scatter of the points FF would be {pure:.1f}: a denser or less noisy scan can tell."
            outcome.doubt("noise-decides", "FF is lowered by the scatter of the points", words)
    if setup.tilted:
        outcome.warnings.append(
            Note("not-level", "the scan is not level: FL, water and levels mean nothing; flatness holds")
        )
    outcome.warnings.append(
        Note("scan", "F-numbers are read from a scan: ASTM E1155 asks for an instrument that touches the floor, within 72 hours "
             "of placing. What is said here compares lines of one scan; acceptance by the standard needs such an instrument")
    )  # fmt: skip
