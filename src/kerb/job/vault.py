"""Keep things other than clouds in a folder of the job: numbers as .npy, words as JSON, pictures as GeoTIFF."""

from __future__ import annotations

import json
import shutil
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrayfile import loaded
from kerb.core.errors import JobError
from kerb.core.geometry.alignment import Alignment, Element, Grade
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.geometry.mesh import Element as MeshElement
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.reference import ReferenceSystem
from kerb.core.space import put_in_place, refusal
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.things import PictureRef, Placed
from kerb.job.journal import plain

VERSION = 1
HEAD = "thing.json"
# Things of fewer bytes are read as a whole when a job is opened.
READ_WHOLE = 4_000_000


def save_thing(folder: Path, item: Placed) -> None:
    """Write a thing into ``folder``, which appears when it is complete. Raises JobError when it cannot be written."""
    work = folder.with_name(folder.name + ".partial")
    try:
        shutil.rmtree(work, ignore_errors=True)
        work.mkdir(parents=True)
        write_parts(work, item)
        put_in_place(work, folder)
    except OSError as error:
        shutil.rmtree(work, ignore_errors=True)
        raise JobError(refusal(error, folder)) from None


def write_parts(folder: Path, item: Placed) -> None:
    """Write the files of a thing into a folder that is there, the head last: what grows is whole at any moment."""
    arrays, words = _taken_apart(item.thing)
    for name, values in arrays.items():
        partial = folder / f"{name}.partial"
        with open(partial, "wb") as stream:
            np.save(stream, values, allow_pickle=False)
        partial.replace(folder / f"{name}.npy")
    head = {"version": VERSION, "kind": item.kind, "is": type(item.thing).__name__,
            "reference": item.reference.to_json(), **words}  # fmt: skip
    partial = folder / f"{HEAD}.partial"
    partial.write_text(json.dumps(head, default=plain), encoding="utf-8")
    partial.replace(folder / HEAD)


def load_thing(folder: Path) -> Placed:
    """Read a thing back. Raises JobError when it is missing, damaged or of a newer version."""
    try:
        head = json.loads((folder / HEAD).read_text(encoding="utf-8"))
        if head["version"] > VERSION:
            raise JobError(f"{folder}: written by a newer Kerb")
        arrays = {path.stem: loaded(path, mapped=path.stem == "z") for path in folder.glob("*.npy")}
        thing = _BUILDERS[head["is"]](arrays, head)
        return Placed(head["kind"], thing, ReferenceSystem.from_json(head["reference"]))
    except (OSError, ValueError, KeyError, TypeError, IndexError) as error:
        raise JobError(f"{folder}: the imported data cannot be read ({error})") from None


def check_thing(folder: Path) -> None:
    """Raises JobError, when a thing cannot be read; of a large one the heads of its files are looked at only."""
    if sum(path.stat().st_size for path in folder.glob("*") if path.is_file()) < READ_WHOLE:
        load_thing(folder)
        return
    try:
        head = json.loads((folder / HEAD).read_text(encoding="utf-8"))
        if head["is"] not in _BUILDERS:
            raise ValueError(f"holds a '{str(head['is'])[:40]}', which is not known")
        for path in folder.glob("*.npy"):
            loaded(path, mapped=True)
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise JobError(f"{folder}: the imported data cannot be read ({error})") from None


def _taken_apart(thing: Any) -> tuple[dict[str, Any], dict[str, Any]]:
    if isinstance(thing, SurveyPoints):
        words = {"names": thing.names, "codes": thing.codes, "extra": thing.extra}
        return {"xyz": thing.xyz}, words
    if isinstance(thing, LineSet):
        ends = np.cumsum([len(line.xyz) for line in thing.lines], dtype=np.int64)
        rows = [(line.closed, line.name, line.layer) for line in thing.lines]
        return {"xyz": thing.vertices, "ends": ends}, {
            "lines": rows,
            "fields": thing.fields,
            "alignments": [asdict(alignment) for alignment in thing.alignments],
        }
    if isinstance(thing, TriangleMesh):
        elements = [(e.name, e.kind, e.first, e.count) for e in thing.elements]
        return {"vertices": thing.vertices, "triangles": thing.triangles}, {"elements": elements}
    if isinstance(thing, ElevationGrid):
        return {"z": thing.z}, {"affine": list(thing.affine)}
    return {}, asdict(thing)


def _points(arrays: dict[str, Any], head: dict[str, Any]) -> SurveyPoints:
    extra = {key: tuple(values) for key, values in head["extra"].items()}
    # A list that grows has its places written first: those that no name belongs to were not yet kept.
    return SurveyPoints(arrays["xyz"][: len(head["names"])], tuple(head["names"]), tuple(head["codes"]), extra)


def _lines(arrays: dict[str, Any], head: dict[str, Any]) -> LineSet:
    pieces = np.split(arrays["xyz"], arrays["ends"][:-1]) if len(head["lines"]) else []
    lines = tuple(
        Line(xyz, bool(closed), name, layer) for xyz, (closed, name, layer) in zip(pieces, head["lines"], strict=True)
    )
    fields = {key: tuple(values) for key, values in head.get("fields", {}).items()}
    return LineSet(lines, tuple(_alignment(item) for item in head["alignments"]), fields)


def _alignment(data: dict[str, Any]) -> Alignment:
    elements = tuple(Element(**{**item, "start": tuple(item["start"])}) for item in data["elements"])
    return Alignment(data["name"], data["start_station"], elements, tuple(Grade(**item) for item in data["profile"]),
                     tuple(data.get("stations", ())), tuple(map(tuple, data.get("equations", ()))))  # fmt: skip


def _mesh(arrays: dict[str, Any], head: dict[str, Any]) -> TriangleMesh:
    return TriangleMesh(arrays["vertices"], arrays["triangles"], tuple(MeshElement(*e) for e in head["elements"]))


def _grid(arrays: dict[str, Any], head: dict[str, Any]) -> ElevationGrid:
    return ElevationGrid(arrays["z"], tuple(head["affine"]))


def _picture(_arrays: dict[str, Any], head: dict[str, Any]) -> PictureRef:
    return PictureRef(head["width"], head["height"], tuple(head["affine"]), head["file"], head.get("tiles", ""))


_BUILDERS: dict[str, Any] = {
    "SurveyPoints": _points, "LineSet": _lines, "TriangleMesh": _mesh, "ElevationGrid": _grid, "PictureRef": _picture,
}  # fmt: skip
