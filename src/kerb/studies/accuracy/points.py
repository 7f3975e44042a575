"""The points of an accuracy study: one list or two, names given twice, elevations that stand for none."""

from __future__ import annotations

from collections import Counter

import numpy as np

from kerb.core.arrays import Mask
from kerb.core.geometry.features import SurveyPoints
from kerb.studies.accuracy.setup import AccuracySetup
from kerb.studies.sources import Sources

# Numbers that programs write where a point has no elevation (common practice).
NO_DATA = (-9999.0, -99999.0, -999999.0, -32768.0, -32767.0)


def tested_points(setup: AccuracySetup, sources: Sources) -> tuple[SurveyPoints, Mask]:
    """The points of both lists, and which of them come from the list of control (n,)."""
    points = sources.points("points")
    control = np.zeros(points.count, np.bool_)
    if setup.control_list:
        more = sources.points("control_list")
        headings = list(dict.fromkeys([*points.extra, *more.extra]))
        extra = {
            heading: (*points.extra.get(heading, ("",) * points.count), *more.extra.get(heading, ("",) * more.count))
            for heading in headings
        }
        points = SurveyPoints(
            np.concatenate([points.xyz, more.xyz]), points.names + more.names, points.codes + more.codes, extra
        )
        control = np.append(control, np.ones(more.count, np.bool_))
    xyz = points.xyz.copy()
    xyz[np.isin(xyz[:, 2], NO_DATA), 2] = np.nan
    return SurveyPoints(xyz, points.names, points.codes, points.extra), control


def given_twice(names: tuple[str, ...]) -> list[str]:
    """Names that stand for more than one point, in order."""
    return [name for name, count in Counter(names).items() if count > 1 and name]
