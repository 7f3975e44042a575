"""The unit of a LAS file without a reference system, said in GeoTIFF keys.

OGC GeoTIFF 1.1, annex B: a user-defined projected system (32767) whose linear unit key names EPSG 9001, 9002 or 9003.
"""

from __future__ import annotations

import struct

import laspy

from kerb.core.reference import ReferenceSystem
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT

USER_DEFINED = 32767
CODES = {METRE: 9001, FOOT: 9002, US_SURVEY_FOOT: 9003}
MODEL_PROJECTED, RASTER_POINT = 1, 2


def unit_records(reference: ReferenceSystem) -> list[laspy.VLR]:
    """Header records that state plan and height unit and the system's name; none for a unit without a code."""
    plan, height = CODES.get(reference.unit), CODES.get(reference.vertical_unit)
    if plan is None or height is None or reference.certainty == "assumed":
        return []
    name = (reference.name or "local grid").encode("ascii", "replace")[:200] + b"|"
    keys = [
        (1024, 0, 1, MODEL_PROJECTED), (1025, 0, 1, RASTER_POINT), (1026, 34737, len(name), 0),
        (3072, 0, 1, USER_DEFINED), (3076, 0, 1, plan), (4096, 0, 1, USER_DEFINED), (4099, 0, 1, height),
    ]  # fmt: skip
    data = struct.pack("<4H", 1, 1, 0, len(keys)) + b"".join(struct.pack("<4H", *key) for key in keys)
    return [
        laspy.VLR("LASF_Projection", 34735, "GeoTIFF keys", data),
        laspy.VLR("LASF_Projection", 34737, "GeoTIFF texts", name + b"\0"),
    ]
