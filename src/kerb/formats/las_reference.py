"""The reference system of a LAS file: WKT record or GeoTIFF keys, and what is odd between them.

GeoTIFF key numbers follow OGC GeoTIFF 1.1 (19-008r4), annex B; LAS 1.4 R15 says which of the two a file must use.
"""

from __future__ import annotations

import struct
from dataclasses import replace

from kerb.core.errors import InputError
from kerb.core.reference import UNKNOWN, ReferenceSystem, from_text
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT, LengthUnit
from kerb.formats.las_header import LasHead

WKT = ("LASF_Projection", 2112)
GEO_KEYS = ("LASF_Projection", 34735)
GEO_ASCII = ("LASF_Projection", 34737)
USER_DEFINED = 32767
EPSG_UNITS = {9001: METRE, 9002: FOOT, 9003: US_SURVEY_FOOT}
KEY_GEOGRAPHIC, KEY_PROJECTED, KEY_PROJECTED_TEXT, KEY_UNIT = 2048, 3072, 3073, 3076
KEY_CITATION, KEY_VERTICAL, KEY_VERTICAL_UNIT = 1026, 4096, 4099

Warnings = list[tuple[str, str]]


def reference_of(head: LasHead) -> tuple[ReferenceSystem, Warnings]:
    """The reference system a file states, and warnings where its statements are missing, broken or contradict."""
    warnings: Warnings = []
    from_wkt = _from_wkt(head, warnings)
    from_keys = _from_keys(head, warnings)
    if from_wkt is None and from_keys is None:
        warnings.append(("crs-missing", "the file names no reference system; its unit is unknown, metres assumed"))
        return UNKNOWN, warnings
    if from_wkt is not None and from_keys is not None:
        _compare(from_wkt, from_keys, warnings)
    prefer_keys = from_keys is not None and from_keys.code and not head.wkt_flag
    chosen = from_keys if prefer_keys or from_wkt is None else from_wkt
    assert chosen is not None
    if from_keys is not None and chosen is not from_keys:
        chosen = _heights_from(chosen, from_keys)
    if chosen.unit != chosen.vertical_unit:
        warnings.append(
            (
                "unit-conflict",
                f"plan is in {chosen.unit.plural} but heights are in {chosen.vertical_unit.plural}",
            )
        )
    return chosen, warnings


def _heights_from(chosen: ReferenceSystem, keys: ReferenceSystem) -> ReferenceSystem:
    """Where only the keys name a vertical system, take it from them."""
    if chosen.vertical_name or not keys.vertical_name:
        return chosen
    return replace(chosen, vertical_name=keys.vertical_name, vertical_unit=keys.vertical_unit)


def _compare(wkt: ReferenceSystem, keys: ReferenceSystem, warnings: Warnings) -> None:
    if wkt.unit != keys.unit:
        warnings.append(("crs-conflict", f"the WKT record says {wkt.unit.name}, the GeoTIFF keys say {keys.unit.name}"))
    elif wkt.code and keys.code and wkt.code != keys.code and "+" not in wkt.code + keys.code:
        warnings.append(("crs-conflict", f"the WKT record says {wkt.code}, the GeoTIFF keys say {keys.code}"))


def _from_wkt(head: LasHead, warnings: Warnings) -> ReferenceSystem | None:
    for record in [*head.records, *head.extended]:
        if record.key != WKT:
            continue
        text = record.data.split(b"\0", 1)[0].decode("utf-8", "replace").strip()
        if not text:
            continue
        try:
            return from_text(text)
        except InputError:
            warnings.append(("crs-conflict", "the WKT record of the file cannot be understood"))
    return None


def _from_keys(head: LasHead, warnings: Warnings) -> ReferenceSystem | None:
    keys = _geo_keys(head)
    if not keys:
        return None
    unit = _key_unit(keys, KEY_UNIT)
    vertical_unit = _key_unit(keys, KEY_VERTICAL_UNIT)
    horizontal = keys.get(KEY_PROJECTED, keys.get(KEY_GEOGRAPHIC))
    vertical = keys.get(KEY_VERTICAL)
    system = None
    if isinstance(horizontal, int) and horizontal not in (0, USER_DEFINED):
        code = f"EPSG:{horizontal}"
        known_vertical = isinstance(vertical, int) and vertical not in (0, USER_DEFINED)
        system = _first_known([f"{code}+{vertical}"] if known_vertical else [], [code], warnings)
    if system is None:
        if unit is None:
            return None
        name = keys.get(KEY_PROJECTED_TEXT) or keys.get(KEY_CITATION) or "user-defined system"
        system = ReferenceSystem(name=str(name), unit=unit, vertical_unit=vertical_unit or unit, certainty="stated")
    elif unit is not None and unit != system.unit:
        warnings.append(
            (
                "unit-conflict",
                f"{system.code} is in {system.unit.plural}, the file's unit key says {unit.plural}",
            )
        )
    return replace(system, vertical_unit=vertical_unit) if vertical_unit is not None else system


def _first_known(compound: list[str], plain: list[str], warnings: Warnings) -> ReferenceSystem | None:
    for code in [*compound, *plain]:
        try:
            return from_text(code)
        except InputError:
            continue
    warnings.append(("crs-conflict", f"the GeoTIFF keys name {plain[0]}, which is not known"))
    return None


def _key_unit(keys: dict[int, int | str], key: int) -> LengthUnit | None:
    value = keys.get(key)
    return EPSG_UNITS.get(value) if isinstance(value, int) else None


def _geo_keys(head: LasHead) -> dict[int, int | str]:
    directory = next((r.data for r in head.records if r.key == GEO_KEYS), b"")
    texts = next((r.data for r in head.records if r.key == GEO_ASCII), b"")
    keys: dict[int, int | str] = {}
    for at in range(8, len(directory) - 7, 8):
        key, place, count, value = struct.unpack_from("<4H", directory, at)
        if place == 0:
            keys[key] = value
        elif place == GEO_ASCII[1]:
            raw = texts[value : value + count].split(b"\0", 1)[0]
            keys[key] = raw.decode("ascii", "replace").strip("| ")
    return keys
