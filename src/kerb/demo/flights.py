"""Made-up points as a file of a flight or scan: LAZ 1.4 with its reference system."""

from __future__ import annotations

from pathlib import Path

import laspy
import numpy as np
import pyproj

from kerb.core.arrays import Floats
from kerb.demo import yard


def write_flight(path: Path, xyz: Floats, system: str = "simulated scanner", step: float = 0.001) -> Path:
    """Write points (n, 3) in job coordinates, all of the ground, in steps of a metre's part. Returns the path."""
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales, header.offsets = np.full(3, step), np.array([*yard.ORIGIN, 0.0])
    header.add_crs(pyproj.CRS.from_user_input(yard.CRS))
    header.system_identifier, header.generating_software = system, "Kerb demo"
    las = laspy.LasData(header)
    las.xyz = xyz
    las.classification = np.full(len(xyz), 2, np.uint8)
    las.return_number = las.number_of_returns = np.ones(len(xyz), np.uint8)
    path.parent.mkdir(parents=True, exist_ok=True)
    partial = path.with_name("partial-" + path.name)
    las.write(str(partial))
    partial.replace(path)
    return path
