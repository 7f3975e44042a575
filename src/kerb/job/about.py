"""What there is to say of a holding, as sections of rows: for its page, and as text."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kerb.core.cloud.classes import class_words
from kerb.core.cloud.overview import Overview
from kerb.core.geometry.features import LineSet, SurveyPoints
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.quantity import count, number, symbol
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.things import CLOUD, PictureRef
from kerb.job.job import Job
from kerb.job.state import Holding

Rows = list[tuple[str, str]]
MOST_ROWS = 24


@dataclass(frozen=True)
class Facts:
    """Sections of (words, value); a row without words is a sentence."""

    name: str
    sections: tuple[tuple[str, Rows], ...]

    def text(self) -> str:
        """Everything as text, tab-separated."""
        lines = [self.name]
        for title, rows in self.sections:
            lines += ["", title, *("\t".join(part for part in row if part) for row in rows)]
        return "\n".join(lines) + "\n"


def facts_of(job: Job, holding: Holding, found: Overview | None = None) -> Facts:
    """Everything known of a holding; ``found`` adds what counting every point of a cloud gave. Raises JobError."""
    sections: list[tuple[str, Rows]] = [
        ("What it is", _what(job, holding, found)),
        ("Where it lies", _where(job, holding)),
    ]
    if holding.kind == CLOUD and found is not None:
        sections += _counts(job, holding, found)
    if holding.kind != CLOUD:
        thing = job.thing(holding).thing
        if isinstance(thing, SurveyPoints) and any(thing.codes):
            codes = Counter(code or "no code" for code in thing.codes)
            sections.append(("Codes", [(code, count(n)) for code, n in codes.most_common(MOST_ROWS)]))
        if isinstance(thing, LineSet):
            layers = Counter(line.layer or "no layer" for line in thing.lines)
            sections.append(("Layers", [(layer, count(n)) for layer, n in layers.most_common(MOST_ROWS)]))
        if isinstance(thing, TriangleMesh) and len(thing.elements) > 1:
            rows = [(e.name or e.kind, f"{count(e.count)} triangles") for e in thing.elements[:MOST_ROWS]]
            sections.append(("Elements", rows))
    sections.append(("Where it came from", _origin(job, holding)))
    return Facts(holding.name, tuple(sections))


def _what(job: Job, holding: Holding, found: Overview | None) -> Rows:
    reference = job.reference_of(holding)
    unit, metres = symbol(reference.unit.code), reference.unit.code
    rows: Rows = [("Epoch", holding.epoch or "no date")]
    if holding.kind == CLOUD:
        store = job.store(holding)
        rows += [
            ("Points", f"{store.count:,}".replace(",", "\u2009")),
            ("Spacing", f"{number(store.spacing, 3)} {unit}"),
        ]
        if found is not None:
            rows += [("Density", f"{number(found.mean_density, 1)} per {unit}²"), ("Set aside", count(found.aside))]
        rows += [(f"Part {part.name}", f"{count(part.count)} points") for part in holding.parts]
        if holding.given:
            rows.append(("Classes given", f"in {len(holding.given)} steps; those of the file stay underneath"))
        rows += [(name, "computed before classes or set-aside points changed") for name in store.meta.made_with
                 if store.outdated(name)]  # fmt: skip
        return rows
    thing = job.thing(holding).thing
    if isinstance(thing, TriangleMesh):
        volume = thing.volume
        rows += [
            ("Triangles", count(len(thing.triangles))),
            ("Closed", "yes" if volume is not None else "no"),
            ("Volume", f"{number(volume, 3)} {symbol(metres + '3')}"),
            ("Surface area", f"{number(thing.surface_area, 2)} {symbol(metres + '2')}"),
        ]
    elif isinstance(thing, ElevationGrid):
        rows += [
            ("Cells", f"{thing.z.shape[1]} × {thing.z.shape[0]}"),
            ("Cell size", f"{number(thing.cell, 3)} {unit}"),
        ]
    elif isinstance(thing, PictureRef):
        pixel = float(np.hypot(thing.affine[0], thing.affine[3]))
        rows += [("Pixels", f"{thing.width} × {thing.height}"), ("Pixel size", f"{number(pixel, 3)} {unit}")]
    elif isinstance(thing, LineSet):
        rows += [("Lines", count(thing.count)), ("Closed ones", count(sum(line.closed for line in thing.lines)))]
        rows += [("Alignment", f"{a.name}: {a.start_station:.2f} … {a.end_station:.2f}") for a in thing.alignments[:6]]
    else:
        rows.append(("Points", count(thing.count)))
    return rows


def _where(job: Job, holding: Holding) -> Rows:
    reference = job.reference_of(holding)
    rows: Rows = [
        ("", reference.sentence),
        ("Code", reference.code or "none"),
        ("Certainty", {"stated": "by the file", "confirmed": "by the analyst"}.get(reference.certainty, "assumed")),
    ]
    low, high = job.bounds_of(holding)
    for axis, words in enumerate(("Easting", "Northing", "Elevation")):
        unit = symbol((reference.vertical_unit if axis == 2 else reference.unit).code)
        if np.isfinite(low[axis]):
            rows.append((words, f"{low[axis]:.3f} … {high[axis]:.3f} {unit}"))
    return rows


def _counts(job: Job, holding: Holding, found: Overview) -> list[tuple[str, Rows]]:
    details = job.store(holding).meta.details
    names = dict(enumerate(details.get("file_names", [])))
    setups = {item["number"]: item["name"] for item in details.get("setups", [])}
    words = {
        "classification": ("Classes", class_words),
        "return_number": ("Returns", lambda code: f"Return {code}"),
        "point_source_id": (
            "Setups" if setups else "Strips or sources",
            lambda code: setups.get(code, f"Source {code}"),
        ),
        "source_file": ("Files", lambda code: names.get(code, f"File {code}")),
    }
    sections = []
    for column, counts in found.tables.items():
        title, named = words[column]
        if len(counts) < 2 and column != "classification":
            continue
        rows: Rows = [
            (named(code), f"{count(n)}   {100 * n / max(found.count, 1):.1f} %")
            for code, n in list(counts.items())[:MOST_ROWS]
        ]
        if len(counts) > MOST_ROWS:
            rows.append(("", f"and {len(counts) - MOST_ROWS} more"))
        sections.append((title, rows))
    return sections


def _origin(job: Job, holding: Holding) -> Rows:
    rows: Rows = []
    if holding.source:
        gone = "" if Path(holding.source).exists() else "  (not there any more)"
        rows.append(("", holding.source + gone))
    if holding.kind == CLOUD:
        files = job.store(holding).meta.details.get("files", [])
        rows += [("", str(path)) for path in files[1:MOST_ROWS]]
    rows += [("", f"{number_}. {step}") for number_, step in enumerate(holding.steps, 1)]
    rows += [("", f"{e.when[:16]}  {e.sentence}") for e in job.record if holding.name in e.sentence][-8:]
    return rows
