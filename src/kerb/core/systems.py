"""The list of reference systems that PROJ's database knows, to be searched by name, code or country."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import pyproj
from pyproj.database import query_crs_info
from pyproj.enums import PJType

KINDS = {
    PJType.PROJECTED_CRS: "projected",
    PJType.COMPOUND_CRS: "projected with heights",
    PJType.VERTICAL_CRS: "heights",
    PJType.GEOGRAPHIC_2D_CRS: "degrees",
}
MOST_FOUND = 200


@dataclass(frozen=True)
class SystemEntry:
    """A system of the database: its code, such as ``EPSG:25830``, name, kind and area."""

    code: str
    name: str
    kind: str
    area: str


@lru_cache(maxsize=1)
def all_systems() -> tuple[SystemEntry, ...]:
    """Every system of the database that is not deprecated."""
    found = {}
    for kind, words in KINDS.items():
        for info in query_crs_info(pj_types=kind):
            code = f"{info.auth_name}:{info.code}"
            found[code] = SystemEntry(code, info.name, words, _area(info))
    return tuple(found.values())


def are_read() -> bool:
    """Whether the list was read already; the first time that takes a second."""
    return all_systems.cache_info().currsize > 0


def search(text: str, kinds: tuple[str, ...] = tuple(KINDS.values())) -> list[SystemEntry]:
    """Systems whose code, name or area holds every word of ``text``; exact codes first, then names, then areas."""
    words = text.lower().replace(",", " ").split()
    ranked = []
    for entry in all_systems():
        if entry.kind not in kinds:
            continue
        name, code = entry.name.lower(), entry.code.lower()
        whole = f"{code} {name} {entry.area.lower()} {entry.kind}"
        if not all(word in whole for word in words):
            continue
        exact = any(word in (code, code.partition(":")[2]) for word in words)
        in_name = all(word in name for word in words)
        ranked.append((not exact, not in_name, len(name), entry.code, entry))
    ranked.sort(key=lambda item: item[:4])
    return [item[4] for item in ranked[:MOST_FOUND]]


def vertical_for(code: str) -> list[SystemEntry]:
    """Height systems whose area meets the one of a horizontal system, by code."""
    try:
        area = pyproj.CRS.from_user_input(code).area_of_use
    except pyproj.exceptions.CRSError:
        return []
    if area is None:
        return search("", ("heights",))
    box = pyproj.aoi.AreaOfInterest(area.west, area.south, area.east, area.north)
    near = query_crs_info(pj_types=PJType.VERTICAL_CRS, area_of_interest=box)
    return [SystemEntry(f"{info.auth_name}:{info.code}", info.name, "heights", _area(info)) for info in near]


def _area(info: Any) -> str:
    return (info.area_of_use.name or "") if info.area_of_use else ""
