"""Open a file of points by what it is, in the unit that the job wants."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np

from kerb.core.arrays import AnyArray
from kerb.core.cloud.layout import Layout, PointStream
from kerb.core.errors import InputError
from kerb.core.reference import ReferenceSystem
from kerb.core.units import LengthUnit
from kerb.formats.las_read import LasStream

READABLE = {".las": "LAS", ".laz": "LAZ"}


def open_points(path: Path, partial: bool = False) -> PointStream:
    """A stream of the points of a file. Raises InputError, FormatError or TruncatedError naming it."""
    if path.is_dir():
        raise InputError(f"{path}: is a folder, not a file of points")
    if not path.exists():
        raise InputError(f"{path}: no such file")
    with open(path, "rb") as stream:
        start = stream.read(4)
    if start == b"LASF" or path.suffix.lower() in READABLE:
        return LasStream(path, partial)
    kinds = ", ".join(sorted(READABLE.values()))
    raise InputError(f"{path}: not a file of points that Kerb reads ({kinds})")


class Converted:
    """A stream in another unit: scale and origin are multiplied, the integers of the file stay as they are."""

    def __init__(self, stream: PointStream, target: LengthUnit) -> None:
        """Convert plan and heights, each from its own unit, to ``target``."""
        self._stream = stream
        self.count = stream.count
        reference = stream.layout.reference
        factor = np.array([reference.unit.metres, reference.unit.metres, reference.vertical_unit.metres])
        factor /= target.metres
        self.layout: Layout = replace(
            stream.layout,
            scale=stream.layout.scale * factor,
            origin=stream.layout.origin * factor,
            reference=_relabelled(reference, target),
            details={**stream.layout.details, "converted": [reference.unit.code, target.code]},
        )
        text = f"converted from {reference.unit.plural} to {target.plural}"
        if reference.unit != reference.vertical_unit:
            text += f" (heights from {reference.vertical_unit.plural})"
        self.warnings = [*stream.warnings, ("unit-converted", text)]

    def chunks(self, size: int) -> Iterator[AnyArray]:
        """The records as they are; only the layout tells the unit."""
        return self._stream.chunks(size)


def in_unit(stream: PointStream, target: LengthUnit) -> PointStream:
    """The stream itself when it is in ``target`` already, else converted."""
    reference = stream.layout.reference
    if reference.unit == target and reference.vertical_unit == target:
        return stream
    return Converted(stream, target)


def stated_unit(stream: PointStream, unit: LengthUnit) -> PointStream:
    """The stream with its unit stated by the analyst; the numbers stay."""
    reference = stream.layout.reference.confirmed(unit)
    if reference.wkt and reference.unit != stream.layout.reference.unit:
        reference = replace(reference, wkt="", code="", name=f"{reference.name} (unit overruled)")
    stream.layout = replace(stream.layout, reference=reference)
    stream.warnings = [note for note in stream.warnings if note[0] != "crs-missing"]
    return stream


def _relabelled(reference: ReferenceSystem, target: LengthUnit) -> ReferenceSystem:
    """A converted cloud no longer has the coordinates of its reference system: keep the name, drop the code."""
    name = f"{reference.name}, converted to {target.plural}" if reference.name else ""
    return replace(reference, name=name, wkt="", code="", unit=target, vertical_unit=target, certainty="confirmed")
