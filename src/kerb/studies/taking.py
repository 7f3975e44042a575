"""Drawn rings from the areas of a file or holding: geometry, and what its fields say of each."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from kerb.core.errors import InputError
from kerb.core.geometry.area import Area
from kerb.studies.drawn import Drawn, Item
from kerb.studies.fields import Field

# The field of a written file that says what the stretches of a line run over, a word a vertex.
STRETCHES_FIELD = "stretches"


def ring_from(about: Field, area: Area, fields: Mapping[str, Any]) -> Drawn:
    """A drawn ring from an area; what was stated of its stretches is read where the field of the setup knows such words.

    Raises InputError naming the area, when those words cannot be.
    """
    ring = Drawn.of(area.rings[0], area.rings[1:])
    words = _lowered(fields).get(STRETCHES_FIELD)
    if not about.stretches or words in (None, ""):
        return ring
    try:
        return ring.with_words(str(words), dict(about.stretches))
    except InputError as error:
        raise InputError(f"{area.name or about.label}: {error}") from None


def item_from(about: Field, area: Area, fields: Mapping[str, Any], key: str, name: str, origin: str) -> Item:
    """An item of a field of many rings from an area: its own values from the fields of their names.

    Raises InputError naming the item, when a value is no number where one is wanted.
    """
    values: list[tuple[str, Any]] = []
    lowered = _lowered(fields)
    for own in about.own:
        value = lowered.get(own.label.lower())
        if value not in (None, ""):
            try:
                values.append((own.label.lower(), str(value) if own.unit == "text" else float(str(value))))
            except ValueError:
                raise InputError(f"{name}: {own.label.lower()} '{value}' is not a number") from None
    return Item(key, name, ring_from(about, area, fields), tuple(values), True, origin)


def _lowered(fields: Mapping[str, Any]) -> dict[str, Any]:
    return {name.lower(): value for name, value in fields.items()}
