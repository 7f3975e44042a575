"""What a study found, in a form that the sheet, the report, the JSON and the clipboard are all made from."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from kerb import __version__
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.quantity import Decimals, bound, quantity
from kerb.core.reference import ReferenceSystem
from kerb.core.things import SURFACE, Placed
from kerb.studies.layers import Chart, FoundLine, FoundMesh, Layer, Profile, put_together, taken_apart


@dataclass(frozen=True)
class Figure:
    """One named result. ``value`` None means not determinable; ``u95`` is its 95 % uncertainty, same unit, and ``without``
    what that leaves out. ``resolution`` is the smallest step that says something, in the unit: it is not shown coarser."""

    value: float | None
    unit: str
    label: str
    u95: float | None = None
    note: str = ""
    without: str = ""
    resolution: float = 0.0

    def text(self, decimals: Decimals | None = None, signed: bool = False) -> str:
        """The value with its unit as it is printed."""
        return quantity(self.value, self.unit, decimals, signed, self.u95, self.resolution)


@dataclass(frozen=True)
class Column:
    """A table column; ``unit`` is a unit code, empty for text and counts. Numbers of an ``exact`` one are of no unit and are
    printed with all their digits, to be used again. ``bound`` names the column of its 95 % bounds, where that is not the
    next. A report leaves out what is ``minor`` where the table is too wide for a page. ``resolution`` is the smallest step
    that says something, in the unit: numbers are not shown coarser."""

    name: str
    unit: str = ""
    label: str = ""
    exact: bool = False
    bound: str = ""
    minor: bool = False
    resolution: float = 0.0


@dataclass(frozen=True)
class Table:
    """A named table of rows. ``printed`` is how many of them a report has: all or the first ones by its own rule (None),
    none (0: the table goes to files only) or so many."""

    title: str
    columns: tuple[Column, ...]
    rows: tuple[tuple[Any, ...], ...]
    printed: int | None = None


@dataclass(frozen=True)
class Note:
    """A warning beside a figure, in words. ``code`` is stable for scripts."""

    code: str
    text: str


@dataclass(frozen=True)
class Input:
    """What went in: its role, file, how many points (or what ``counts`` names) are in it and were used.

    ``survey`` is the date of the survey where it is known; ``steps`` say how the numbers came about; ``key`` is the
    holding of a job, which is not published.
    """

    role: str
    path: str
    points: int
    used: int
    detail: str = ""
    counts: str = "points"
    survey: str = ""
    steps: tuple[str, ...] = ()
    key: str = ""


@dataclass(frozen=True)
class Attribute:
    """A column for the compared cloud: the height of its points over a layer, inside a closed line of the outcome; or
    ``values`` (n,) of its own for each point.

    ``over`` and ``inside`` name layers; heights are worked out when they are asked for.
    """

    title: str
    over: str
    inside: str
    unit: str
    values: Any = None


@dataclass(frozen=True)
class Made:
    """A new holding that a study made: a thing, to be put into the job by its one door."""

    name: str
    item: Placed
    words: str = ""


@dataclass
class Outcome:
    """Named figures, tables, drawable layers and warnings of one run of a study.

    ``verdict`` says in a few words why the headline figure cannot be trusted; it is empty where nothing speaks against it.
    ``seen_from`` is the heading and tilt, in degrees, of one who looks at what was found; without, it is seen from above.
    """

    study: str
    unit: str
    crs: str
    figures: dict[str, Figure]
    settings: dict[str, Any]
    inputs: list[Input] = field(default_factory=list)
    tables: dict[str, Table] = field(default_factory=dict)
    warnings: list[Note] = field(default_factory=list)
    method: str = ""
    layers: dict[str, Layer] = field(default_factory=dict)
    charts: list[Chart] = field(default_factory=list)
    attributes: dict[str, Attribute] = field(default_factory=dict)
    makes: list[Made] = field(default_factory=list)
    items: dict[str, Outcome] = field(default_factory=dict)
    live: bool = False
    verdict: str = ""
    seen_from: tuple[float, float] | None = None

    @property
    def profiles(self) -> list[Profile]:
        """The charts that are profiles."""
        return [chart for chart in self.charts if isinstance(chart, Profile)]

    def mesh(self, name: str) -> FoundMesh | None:
        """A layer that is a mesh; None where there is none of that name."""
        found = self.layers.get(name)
        return found if isinstance(found, FoundMesh) else None

    def surface_made(self, reference: ReferenceSystem) -> Placed | None:
        """The surface that goes into the job, else the mesh ``surface`` by itself; None where there is neither."""
        if self.makes:
            return self.makes[0].item
        mesh = self.ground
        return Placed(SURFACE, TriangleMesh(mesh.vertices, mesh.triangles), reference) if mesh is not None else None

    @property
    def ground(self) -> FoundMesh | None:
        """The mesh that is a surface of its own and not a map over one; None where there is none."""
        return next((layer for layer in self.layers.values() if isinstance(layer, FoundMesh) and layer.ground), None)

    def line(self, name: str) -> FoundLine | None:
        """A layer that is a line; None where there is none of that name."""
        found = self.layers.get(name)
        return found if isinstance(found, FoundLine) else None

    def value(self, name: str) -> float | None:
        """The value of a figure, None where it is missing or not determinable."""
        figure = self.figures.get(name)
        return figure.value if figure else None

    def to_json(self) -> dict[str, Any]:
        """The published form (CLI.md): plain values at full precision, no drawable layers."""
        data = {
            "kerb": __version__,
            "study": self.study,
            "unit": self.unit,
            "crs": self.crs,
            "inputs": [_without_empty(vars(item)) for item in self.inputs],
            "settings": self.settings,
            "figures": {name: _figure_json(figure) for name, figure in self.figures.items()},
            "tables": {name: _table_json(table) for name, table in self.tables.items()},
            "warnings": [{"code": note.code, "text": note.text} for note in self.warnings],
            "method": self.method,
        }
        return data | ({"verdict": self.verdict} if self.verdict else {})

    def doubt(self, code: str, verdict: str, text: str) -> None:
        """Add a warning that stands beside the headline as ``verdict``; the first one given stays there."""
        self.verdict = self.verdict or verdict
        self.warnings.insert(0, Note(code, text))

    def head(self) -> tuple[dict[str, Any], dict[str, Any]]:
        """A small plain head and the arrays beside it, from which :meth:`of_head` makes an equal outcome."""
        arrays: dict[str, Any] = {}
        data = self.to_json() | {"tables": {}, "keys": [item.key for item in self.inputs]}
        data["seen_from"] = list(self.seen_from) if self.seen_from is not None else None
        for number, (name, table) in enumerate(self.tables.items()):
            data["tables"][name] = _table_head(table, f"table.{number}", arrays)
        data["layers"] = [
            [name, taken_apart(layer, f"layer.{number}", arrays)]
            for number, (name, layer) in enumerate(self.layers.items())
        ]
        data["charts"] = [taken_apart(chart, f"chart.{n}", arrays) for n, chart in enumerate(self.charts)]
        data["attributes"] = {}
        for name, attribute in self.attributes.items():
            data["attributes"][name] = {key: value for key, value in vars(attribute).items() if key != "values"}
            if attribute.values is not None:
                arrays[f"attribute.{name}"] = attribute.values
        data["items"] = []
        for number, (name, item) in enumerate(self.items.items()):
            head, own = item.head()
            data["items"].append([name, head])
            arrays |= {f"item.{number}/{key}": value for key, value in own.items()}
        return data, arrays

    @staticmethod
    def of_head(data: dict[str, Any], arrays: dict[str, Any]) -> Outcome:
        """The reverse of :meth:`head`. Raises KeyError, TypeError or ValueError, when something is missing or wrong."""
        return Outcome(
            study=data["study"], unit=data["unit"], crs=data["crs"],
            figures={name: _figure_of(figure) for name, figure in data["figures"].items()},
            settings=data["settings"],
            inputs=[
                Input(**{**item, "steps": tuple(item.get("steps", ())), "key": key})
                for item, key in zip(data["inputs"], data.get("keys") or [""] * len(data["inputs"]), strict=True)
            ],
            tables={name: _table_of(table, arrays) for name, table in data["tables"].items()},
            warnings=[Note(note["code"], note["text"]) for note in data["warnings"]],
            method=data.get("method", ""),
            verdict=data.get("verdict", ""),
            seen_from=_two(data.get("seen_from")),
            layers={name: put_together(layer, arrays) for name, layer in data["layers"]},
            charts=[put_together(chart, arrays) for chart in data["charts"]],
            attributes={
                name: Attribute(**item, values=arrays.get(f"attribute.{name}"))
                for name, item in data.get("attributes", {}).items()
            },
            items={
                name: Outcome.of_head(item, _of_item(arrays, f"item.{number}/"))
                for number, (name, item) in enumerate(data.get("items", ()))
            },
        )  # fmt: skip


def _two(value: Any) -> tuple[float, float] | None:
    return (float(value[0]), float(value[1])) if value is not None else None


def fingerprint(*parts: Any) -> str:
    """A short digest of plain values: equal for equal inputs, on any machine."""
    text = json.dumps(parts, sort_keys=True, default=str)
    return hashlib.sha256(text.encode()).hexdigest()[:20]


def _without_empty(values: dict[str, Any]) -> dict[str, Any]:
    """An input as it is published; what is empty or usual is left out."""
    usual = {"detail": "", "counts": "points", "survey": "", "steps": ()}
    return {key: value for key, value in values.items() if key != "key" and (key not in usual or value != usual[key])}


def _figure_json(figure: Figure) -> dict[str, Any]:
    data: dict[str, Any] = {"value": figure.value, "unit": figure.unit, "label": figure.label}
    if figure.u95 is not None:
        data["u95"] = figure.u95
        if figure.without:
            data["u95_without"] = figure.without
    if figure.note:
        data["note"] = figure.note
    if figure.resolution:
        data["resolution"] = figure.resolution
    return data


def _figure_of(data: dict[str, Any]) -> Figure:
    return Figure(
        **{name: value for name, value in data.items() if name != "u95_without"}, without=data.get("u95_without", "")
    )


def bounded(figure: Figure, decimals: Decimals | None = None) -> str:
    """The 95 % bound of a figure in words, with what it leaves out: ``± 12 m³ (95 %, excluding …)``; empty without one."""
    if figure.u95 is None:
        return ""
    rest = f", excluding {figure.without}" if figure.without else ""
    return f"{bound(figure.u95, figure.unit, decimals)} (95 %{rest})"


def _table_json(table: Table) -> dict[str, Any]:
    columns = [{"name": c.name, "unit": c.unit, "label": c.label} for c in table.columns]
    return {"title": table.title, "columns": columns, "rows": [list(row) for row in table.rows]}


def _of_item(arrays: dict[str, Any], stem: str) -> dict[str, Any]:
    return {key.removeprefix(stem): arrays[key] for key in arrays if key.startswith(stem)}


def _table_head(table: Table, stem: str, arrays: dict[str, Any]) -> dict[str, Any]:
    """A table by columns: numbers as arrays, the rest as plain lists."""
    data = {
        "title": table.title,
        "printed": table.printed,
        "columns": [[c.name, c.unit, c.label, c.exact, c.bound, c.minor, c.resolution] for c in table.columns],
        "count": len(table.rows),
    }
    cells: list[Any] = []
    for number in range(len(table.columns)):
        column = [row[number] for row in table.rows]
        if column and all(type(value) is float for value in column):
            arrays[f"{stem}.{number}"] = np.array(column)
            cells.append({"array": f"{stem}.{number}"})
        elif column and all(type(value) is int and abs(value) < 2**62 for value in column):
            arrays[f"{stem}.{number}"] = np.array(column, np.int64)
            cells.append({"array": f"{stem}.{number}"})
        else:
            cells.append(column)
    return data | {"cells": cells}


def _table_of(data: dict[str, Any], arrays: dict[str, Any]) -> Table:
    columns = tuple(Column(*entry) for entry in data["columns"])
    cells = [arrays[c["array"]].tolist() if isinstance(c, dict) else c for c in data["cells"]]
    return Table(data["title"], columns, tuple(zip(*cells, strict=True)), data.get("printed"))
