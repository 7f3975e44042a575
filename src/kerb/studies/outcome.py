"""What a study found, in a form that the sheet, the report, the JSON and the clipboard are all made from."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass, field
from typing import Any

from kerb import __version__
from kerb.core.arrays import Floats, Ints32


@dataclass(frozen=True)
class Figure:
    """One named result. ``value`` None means not determinable; ``u95`` is its 95 % uncertainty, same unit."""

    value: float | None
    unit: str
    label: str
    u95: float | None = None
    note: str = ""


@dataclass(frozen=True)
class Column:
    """A table column; ``unit`` is a unit code, empty for text and counts."""

    name: str
    unit: str = ""
    label: str = ""


@dataclass(frozen=True)
class Table:
    """A named table of rows."""

    title: str
    columns: tuple[Column, ...]
    rows: tuple[tuple[Any, ...], ...]


@dataclass(frozen=True)
class Note:
    """A warning beside a figure, in words. ``code`` is stable for scripts."""

    code: str
    text: str


@dataclass(frozen=True)
class Input:
    """What went in: its role, file, points in it and points used."""

    role: str
    path: str
    points: int
    used: int
    detail: str = ""


@dataclass(frozen=True)
class MeshLayer:
    """A surface to draw: vertices (n, 3) in job coordinates, triangles (m, 3)."""

    vertices: Floats
    triangles: Ints32


@dataclass(frozen=True)
class LineLayer:
    """A line to draw, (n, 3) in job coordinates."""

    points: Floats
    closed: bool = False


@dataclass(frozen=True)
class Profile:
    """A vertical section through the outcome: distance along it, and top and base elevations there (NaN: none)."""

    title: str
    line: Floats
    distance: Floats
    top: Floats
    base: Floats


@dataclass
class Outcome:
    """Named figures, tables, drawable layers and warnings of one run of a study."""

    study: str
    unit: str
    crs: str
    figures: dict[str, Figure]
    settings: dict[str, Any]
    inputs: list[Input] = field(default_factory=list)
    tables: dict[str, Table] = field(default_factory=dict)
    warnings: list[Note] = field(default_factory=list)
    method: str = ""
    meshes: dict[str, MeshLayer] = field(default_factory=dict)
    lines: dict[str, LineLayer] = field(default_factory=dict)
    profiles: list[Profile] = field(default_factory=list)

    def value(self, name: str) -> float | None:
        """The value of a figure, None where it is missing or not determinable."""
        figure = self.figures.get(name)
        return figure.value if figure else None

    def to_json(self) -> dict[str, Any]:
        """The published form (CLI.md): plain values at full precision, no drawable layers."""
        return {
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

    @staticmethod
    def from_json(data: dict[str, Any]) -> Outcome:
        """An outcome without its drawable layers, as read from a job."""
        return Outcome(
            study=data["study"],
            unit=data["unit"],
            crs=data["crs"],
            figures={name: Figure(**figure) for name, figure in data["figures"].items()},
            settings=data["settings"],
            inputs=[Input(**item) for item in data["inputs"]],
            tables={name: _table_from(table) for name, table in data["tables"].items()},
            warnings=[Note(note["code"], note["text"]) for note in data["warnings"]],
            method=data.get("method", ""),
        )


def fingerprint(*parts: Any) -> str:
    """A short digest of plain values: equal for equal inputs, on any machine."""
    text = json.dumps(parts, sort_keys=True, default=str)
    return hashlib.sha256(text.encode()).hexdigest()[:20]


def _without_empty(values: dict[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in values.items() if key != "detail" or value}


def _figure_json(figure: Figure) -> dict[str, Any]:
    data: dict[str, Any] = {"value": figure.value, "unit": figure.unit, "label": figure.label}
    if figure.u95 is not None:
        data["u95"] = figure.u95
    if figure.note:
        data["note"] = figure.note
    return data


def _table_json(table: Table) -> dict[str, Any]:
    columns = [{"name": c.name, "unit": c.unit, "label": c.label} for c in table.columns]
    return {"title": table.title, "columns": columns, "rows": [list(row) for row in table.rows]}


def _table_from(data: dict[str, Any]) -> Table:
    columns = tuple(Column(c["name"], c["unit"], c.get("label", "")) for c in data["columns"])
    return Table(data.get("title", ""), columns, tuple(tuple(row) for row in data["rows"]))
