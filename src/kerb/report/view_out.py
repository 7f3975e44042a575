"""What a view shows, as a file: a picture, a raster of its values, or a list of them with their places."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from kerb.core.errors import OutputError
from kerb.core.progress import Progress
from kerb.core.reference import UNKNOWN, ReferenceSystem
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.things import PICTURE, SURFACE, Placed
from kerb.draw.seen import Seen
from kerb.formats.rasters import write_picture
from kerb.formats.write_things import ENDINGS, write_thing
from kerb.report.text import write_csv
from kerb.studies.outcome import Column, Table

PICTURES = ENDINGS[PICTURE]
VALUES = (".tif", ".asc", ".csv")


def write_view(path: Path, seen: Seen, colours: bool, about: tuple[str, str, str], reference: ReferenceSystem) -> str:
    """Write colours or values by the ending; ``about`` is what the values are, their unit and that of the job. What was done, in
    words. Raises OutputError."""
    title, unit, length = about
    system = reference if seen.in_plan else UNKNOWN
    places = "easting and northing" if seen.in_plan else "to the right of the middle of the view and up"
    if colours:
        write_picture(path, seen.image, seen.affine, system)
        return f"Wrote {path.name}, {seen.image.shape[1]} × {seen.image.shape[0]} pixels; its places are {places}."
    known = np.isfinite(seen.values)
    if not known.any():
        raise OutputError(f"{path}: nothing in the view has a value")
    if path.suffix.lower() == ".csv":
        rows = np.column_stack([seen.places[known], seen.values[known]])
        columns = (Column("e", length, "Easting"), Column("n", length, "Northing"), Column("z", length, "Elevation"),
                   Column("value", unit, title))  # fmt: skip
        write_csv(Table(title, columns, tuple(map(tuple, rows.tolist()))), path, True)
        return f"Wrote {path.name}: {len(rows)} values with their places."
    write_thing(Placed(SURFACE, ElevationGrid(seen.values, seen.affine), system), path, Progress())
    return f"Wrote {path.name}, {np.count_nonzero(known)} cells with a value; its places are {places}."
