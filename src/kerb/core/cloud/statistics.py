"""What the points inside areas look like: number, elevations, intensity, height above ground, shares of classes."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from itertools import pairwise
from typing import Any

import numpy as np
import shapely

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.cloud.classes import NOISE_CLASSES
from kerb.core.cloud.heights import HEIGHT
from kerb.core.cloud.store import CloudStore
from kerb.core.geometry import polygon
from kerb.core.parallel import each
from kerb.core.progress import Progress

PERCENTILES = (5, 25, 50, 75, 95)
LENGTHS = ("lowest", "highest", "mean", "std", "p05", "p25", "p50", "p75", "p95", "height_min", "height_max",
           "height_mean", "height_std")  # fmt: skip


DATE = re.compile(r"\d{4}-\d{2}-\d{2}")


def area_rows(store: CloudStore, areas: list[Any], progress: Progress, among: Mask) -> list[Ints]:
    """Rows of the points of ``among`` (n,) inside each area in plan (shapely polygons, with holes).

    Raises Cancelled.
    """
    tree = shapely.STRtree(areas)

    def of_tile(tile: int) -> list[tuple[int, Ints]]:
        low, high = store.tiles["low"][tile], store.tiles["high"][tile]
        near = tree.query(shapely.box(*low[:2], *high[:2]))
        if not len(near):
            return []
        rows = store.rows_of(tile)
        xy = store.coordinates(rows)[:, :2]
        usable = among[rows]
        found = []
        for number in near:
            inside = _inside(areas[number], xy) & usable
            if inside.any():
                found.append((int(number), np.nonzero(inside)[0] + rows.start))
        return found

    kept: list[list[Ints]] = [[] for _ in areas]
    for found in each(of_tile, range(len(store.tiles)), progress, "Selecting points"):
        for number, rows in found:
            kept[number].append(rows)
    return [np.concatenate(rows) if rows else np.empty(0, np.int64) for rows in kept]


def of_areas(
    store: CloudStore, areas: list[Any], progress: Progress, among: Mask | None = None
) -> dict[str, list[float | int | None]]:
    """Figures of the points inside each area (shapely polygons) by name, with its own area first.

    ``among``, (n,), says which points count; all that are in use without it. Raises Cancelled.
    """
    rows = area_rows(store, areas, progress.within(0.0, 0.8), store.in_use() if among is None else among)
    found = []
    for done, some in enumerate(rows):
        progress.step(0.8 + 0.2 * done / max(len(rows), 1), "Computing figures")
        found.append(figures(store, some))
    names = list(dict.fromkeys(name for each_ in found for name in each_))
    values = {name: [each_.get(name, 0.0 if name.endswith("_share") else None) for each_ in found] for name in names}
    return {"area": [float(shape.area) for shape in areas], **values}


def dated(values: dict[str, list[Any]], epoch: str) -> dict[str, list[Any]]:
    """The figures under names with the date of the survey in them: ``mean_2026-05-02``. Nothing without a date."""
    return {f"{name}_{epoch}": column for name, column in values.items()} if epoch else {}


def epochs_of(fields: Iterable[str], name: str) -> list[str]:
    """The dates that a figure is kept for, the earliest first."""
    stem = f"{name}_"
    found = [field.removeprefix(stem) for field in fields if field.startswith(stem)]
    return sorted(date for date in found if DATE.fullmatch(date))


def change_name(name: str, earlier: str, later: str) -> str:
    """The field of a change between two dates."""
    return f"{name}_change_{earlier}_to_{later}"


def changes(fields: Mapping[str, Sequence[Any]], names: Iterable[str], epoch: str) -> dict[str, list[Any]]:
    """Later minus earlier of every figure of a date against the date before it, and of the date after it against it.

    ``fields`` hold dated figures, one for each area; None where either is missing.
    """
    found: dict[str, list[Any]] = {}
    for name in names:
        dates = epochs_of(fields, name)
        if epoch not in dates or name == "area":
            continue
        at = dates.index(epoch)
        for earlier, later in pairwise(dates[max(at - 1, 0) : at + 2]):
            pairs = zip(fields[f"{name}_{earlier}"], fields[f"{name}_{later}"], strict=True)
            found[change_name(name, earlier, later)] = [_less(a, b) for a, b in pairs]
    return found


def _less(earlier: Any, later: Any) -> float | None:
    try:
        found = float(later) - float(earlier)
    except (TypeError, ValueError):
        return None
    return found if np.isfinite(found) else None


def unit_of(name: str, unit: str) -> str:
    """Unit code of a figure in a cloud of a unit; nothing for counts, shares and intensities."""
    name = plain_name(name)
    if name == "area":
        return f"{unit}2"
    return unit if name in LENGTHS else ""


def plain_name(name: str) -> str:
    """A figure without the dates in its name."""
    return re.sub(r"(_change)?_\d{4}-\d{2}-\d{2}(_to_\d{4}-\d{2}-\d{2})?$", "", name)


def _inside(area: Any, xy: Floats) -> Any:
    inside = np.zeros(len(xy), np.bool_)
    for part in getattr(area, "geoms", [area]):
        mine = polygon.contains(shapely.get_coordinates(part.exterior)[:-1], xy)
        for hole in part.interiors:
            mine &= ~polygon.contains(shapely.get_coordinates(hole)[:-1], xy)
        inside |= mine
    return inside


def figures(store: CloudStore, rows: Ints) -> dict[str, float | int | None]:
    """Figures of some rows by name; None where there are no points or the cloud lacks the column.

    Noise (classes 7 and 18) does not count. Standard deviations are those of the points themselves (divided by n),
    percentiles are interpolated linearly between order statistics (NumPy's default).
    """
    classes = np.asarray(store.column("classification")[rows]) if store.has("classification") else None
    if classes is not None:
        good = ~np.isin(classes, NOISE_CLASSES)
        rows, classes = rows[good], classes[good]
    found: dict[str, float | int | None] = {"count": len(rows)}
    z = store.elevations(rows)
    found |= _spread(z, ("lowest", "highest", "mean", "std"))
    for share in PERCENTILES:
        found[f"p{share:02d}"] = float(np.percentile(z, share)) if len(z) else None
    names = tuple(f"intensity_{name}" for name in ("min", "max", "mean", "std"))
    values = np.asarray(store.column("intensity")[rows], float) if store.has("intensity") else np.empty(0)
    found |= _spread(values, names)
    if store.has(HEIGHT):
        over = np.asarray(store.lengths(HEIGHT, rows), float)
        found |= _spread(over[np.isfinite(over)], tuple(f"height_{name}" for name in ("min", "max", "mean", "std")))
    if classes is not None:
        codes, counts = np.unique(classes, return_counts=True)
        for code, count in zip(codes.tolist(), counts.tolist(), strict=True):
            found[f"class_{code}_share"] = count / len(rows)
    return found


def _spread(values: Floats, names: tuple[str, ...]) -> dict[str, float | int | None]:
    if not len(values):
        return dict.fromkeys(names)
    return dict(zip(names, map(float, (values.min(), values.max(), values.mean(), values.std())), strict=True))
