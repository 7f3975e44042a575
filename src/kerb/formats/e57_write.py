"""Write points as E57 (ASTM E2807): setups keep their poses, coordinates are metres, integers keep their precision."""

from __future__ import annotations

import uuid
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrays import AnyArray, Floats
from kerb.core.cloud.layout import Columns
from kerb.core.cloud.outgoing import Outgoing
from kerb.core.errors import OutputError
from kerb.core.progress import Progress
from kerb.core.space import why
from kerb.core.units import METRE
from kerb.formats.e57_read import COLOURS, SETUP
from kerb.formats.written import placed_when_complete

CHUNK = 500_000
AXES = ("cartesianX", "cartesianY", "cartesianZ")
NAMES = {"row": "rowIndex", "column": "columnIndex"}


def write_e57(outgoing: Outgoing, path: Path, progress: Progress) -> int:
    """Write points to ``path``; those of a cloud that came from E57 go back into their setups.

    Returns
    -------
    Number of points written. A cloud in feet is converted: the standard knows metres only.

    Raises
    ------
    OutputError, when nothing is left to write or the folder cannot be written; Cancelled.
    """
    metric = outgoing.in_unit(METRE)
    setups = metric.details.get("setups") if SETUP in metric.kinds else None
    written = 0
    from pye57 import libe57

    with placed_when_complete(path) as partial:
        try:
            file = _new_file(partial, metric.reference.wkt)
            try:
                for setup in setups or [None]:
                    written += _Scan(file, metric, setup).write(progress)
            finally:
                file.close()
        except libe57.E57Exception as error:
            raise OutputError(f"{path}: {why(str(error).splitlines()[0], path.parent)}") from None
        if not written:
            raise OutputError(f"{path}: no points are left to write")
    return written


def _new_file(path: Path, wkt: str) -> Any:
    """An empty E57 file with its head; pye57's own head leaves the reference system empty for good."""
    import pye57
    from pye57 import libe57

    class WithSystem(pye57.E57):
        def close(self) -> None:
            # The library closes once more when the object goes, and tells of a full disk on the terminal.
            image = self.__dict__.pop("image_file", None)
            if image is not None:
                image.close()

        def write_default_header(self) -> None:
            image = self.image_file
            image.extensionsAdd("", libe57.E57_V1_0_URI)
            for key, text in (
                ("formatName", "ASTM E57 3D Imaging Data File"), ("guid", f"{{{uuid.uuid4()}}}"),
                ("e57LibraryVersion", libe57.E57_LIBRARY_ID), ("coordinateMetadata", wkt),
            ):  # fmt: skip
                self.root.set(key, libe57.StringNode(image, text))
            self.root.set("versionMajor", libe57.IntegerNode(image, libe57.E57_FORMAT_MAJOR))
            self.root.set("versionMinor", libe57.IntegerNode(image, libe57.E57_FORMAT_MINOR))
            self.root.set("data3D", libe57.VectorNode(image, True))
            self.root.set("images2D", libe57.VectorNode(image, True))

    return WithSystem(str(path), mode="w")


class _Scan:
    """One setup on its way into the file."""

    def __init__(self, file: Any, outgoing: Outgoing, setup: dict[str, Any] | None) -> None:
        self.file, self.outgoing, self.setup = file, outgoing, setup
        self.turn = np.array(setup["rotation"]) if setup else np.eye(3)
        self.shift = np.array(setup["translation"]) if setup else np.zeros(3)
        self.name = str(setup["name"]) if setup else (Path(outgoing.source).stem or "Cloud")

    def pieces(self) -> Iterator[tuple[Floats, Columns]]:
        """Local coordinates and columns of the points of this setup."""
        for xyz, columns in self.outgoing.blocks():
            places = self.outgoing.places(xyz)
            if self.setup is not None:
                mine = columns[SETUP] == self.setup["number"]
                places, columns = places[mine], {name: values[mine] for name, values in columns.items()}
            for at in range(0, len(places), CHUNK):
                rows = slice(at, at + CHUNK)
                local = (places[rows] - self.shift) @ self.turn
                yield local, {name: values[rows] for name, values in columns.items()}

    def write(self, progress: Progress) -> int:
        """Two passes: bounds first, which the file wants at its front, then the points."""
        limits = self._limits()
        if limits is None:
            return 0
        # Readers expect colours of eight bits; sixteen keep their upper half.
        wide = any(limits["spans"].get(name, (0, 0))[1] > 255 for name in COLOURS.values())
        libe57: Any = __import__("pye57").libe57
        image = self.file.image_file
        node = self._described(libe57, image, limits)
        prototype, arrays, buffers = self._prototype(libe57, image, limits)
        points = libe57.CompressedVectorNode(image, prototype, libe57.VectorNode(image, True))
        node.set("points", points)
        self.file.data3d.append(node)
        writer = points.writer(buffers)
        done = 0
        for local, columns in self.pieces():
            progress.step(done / max(self.outgoing.count, 1), "Writing E57")
            n = len(local)
            for axis, name in enumerate(AXES):
                arrays[name][:n] = local[:, axis]
            for name, array in arrays.items():
                if name not in AXES:
                    array[:n] = self._values(columns, name, wide)
            writer.write(n)
            done += n
        writer.close()
        return done

    def _limits(self) -> dict[str, Any] | None:
        low, high, count = np.full(3, np.inf), np.full(3, -np.inf), 0
        spans: dict[str, list[float]] = {}
        for local, columns in self.pieces():
            low, high = np.minimum(low, local.min(axis=0)), np.maximum(high, local.max(axis=0))
            count += len(local)
            for name in ("intensity", "row", "column", *COLOURS.values()):
                if name in columns and len(columns[name]):
                    span = spans.setdefault(name, [np.inf, -np.inf])
                    span[0] = min(span[0], float(np.nanmin(columns[name])))
                    span[1] = max(span[1], float(np.nanmax(columns[name])))
        return {"low": low, "high": high, "count": count, "spans": spans} if count else None

    def _described(self, libe57: Any, image: Any, limits: dict[str, Any]) -> Any:
        node = libe57.StructureNode(image)
        node.set("guid", libe57.StringNode(image, f"{{{uuid.uuid4()}}}"))
        node.set("name", libe57.StringNode(image, self.name))
        node.set("description", libe57.StringNode(image, "written by Kerb"))
        box = libe57.StructureNode(image)
        for axis, letter in enumerate("xyz"):
            box.set(f"{letter}Minimum", libe57.FloatNode(image, float(limits["low"][axis])))
            box.set(f"{letter}Maximum", libe57.FloatNode(image, float(limits["high"][axis])))
        node.set("cartesianBounds", box)
        pose, rotation, translation = (libe57.StructureNode(image) for _ in range(3))
        node.set("pose", pose)
        for part, value in zip("wxyz", quaternion(self.turn), strict=True):
            rotation.set(part, libe57.FloatNode(image, value))
        pose.set("rotation", rotation)
        for part, value in zip("xyz", self.shift.tolist(), strict=True):
            translation.set(part, libe57.FloatNode(image, float(value)))
        pose.set("translation", translation)
        self._set_limits(libe57, image, node, limits["spans"])
        return node

    def _set_limits(self, libe57: Any, image: Any, node: Any, spans: dict[str, list[float]]) -> None:
        if "intensity" in spans:
            box = libe57.StructureNode(image)
            box.set("intensityMinimum", libe57.FloatNode(image, spans["intensity"][0]))
            box.set("intensityMaximum", libe57.FloatNode(image, spans["intensity"][1]))
            node.set("intensityLimits", box)
        if "red" in spans:
            box = libe57.StructureNode(image)
            for name in COLOURS:
                box.set(f"{name}Minimum", libe57.IntegerNode(image, 0))
                box.set(f"{name}Maximum", libe57.IntegerNode(image, 255))
            node.set("colorLimits", box)

    def _prototype(self, libe57: Any, image: Any, limits: dict[str, Any]) -> tuple[Any, dict[str, AnyArray], Any]:
        prototype = libe57.StructureNode(image)
        arrays: dict[str, AnyArray] = {}
        buffers = libe57.VectorSourceDestBuffer()
        # A turned setup is no longer on the cloud's grid; a tenth of that grid keeps what the grid held.
        fine = self.outgoing.scale * (1.0 if self.setup is None else 0.1)
        for axis, name in enumerate(AXES):
            middle = float(self.outgoing.origin[axis]) if self.setup is None else 0.0
            low, high = (round((float(limits[end][axis]) - middle) / fine[axis]) for end in ("low", "high"))
            scaled = libe57.ScaledIntegerNode(image, low, low - 1, high + 1, float(fine[axis]), middle)
            prototype.set(name, scaled)
            arrays[name] = np.empty(CHUNK)
        spans = limits["spans"]
        if "intensity" in spans:
            low, high = spans["intensity"]
            prototype.set("intensity", libe57.FloatNode(image, low, libe57.E57_SINGLE, low, high))
            arrays["intensity"] = np.empty(CHUNK, np.float32)
        if all(name in spans for name in COLOURS.values()):
            for name in COLOURS:
                prototype.set(name, libe57.IntegerNode(image, 0, 0, 255))
                arrays[name] = np.empty(CHUNK, np.uint8)
        for name, field in NAMES.items():
            if name in spans:
                low, high = (int(v) for v in spans[name])
                prototype.set(field, libe57.IntegerNode(image, low, low, high))
                arrays[field] = np.empty(CHUNK, np.int32)
        for name, array in arrays.items():
            buffers.append(libe57.SourceDestBuffer(image, name, array, CHUNK, True, True))
        return prototype, arrays, buffers

    @staticmethod
    def _values(columns: Columns, field: str, wide: bool) -> AnyArray:
        back = {**COLOURS, "rowIndex": "row", "columnIndex": "column"}
        values = columns[back.get(field, field)]
        return np.asarray(values) >> 8 if wide and field in COLOURS else values


def quaternion(turn: Floats) -> list[float]:
    """Unit quaternion (w, x, y, z) of a rotation matrix (3, 3)."""
    from scipy.spatial.transform import Rotation

    x, y, z, w = Rotation.from_matrix(turn).as_quat()
    return [float(w), float(x), float(y), float(z)]
