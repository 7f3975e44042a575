"""The declaration of the inventory: many heaps at once."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import shapely

from kerb.core.errors import OutputError
from kerb.formats.areas import Areas, check_areas_output, write_areas
from kerb.studies.drawn import Item
from kerb.studies.inventory.figures import ABOUT
from kerb.studies.inventory.live import LiveYard
from kerb.studies.inventory.run import follow, propose, run
from kerb.studies.inventory.setup import InventorySetup
from kerb.studies.kind import Option, Step, StudyKind
from kerb.studies.outcome import Outcome
from kerb.studies.sources import Sources
from kerb.studies.taking import STRETCHES_FIELD
from kerb.studies.trials import circle


def write(setup: InventorySetup, outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write the toe lines with their figures as fields. Raises OutputError."""
    path = Path(paths["out"])
    check_areas_output(path)
    items, table = setup.taken(), outcome.tables["heaps"]
    if not items:
        raise OutputError(f"{path}: there are no heaps to write")
    shapes = [shapely.Polygon(item.ring.xy, item.ring.holes) for item in items]
    names = [column.name for column in table.columns]
    fields = {name: [row[n] for row in table.rows[: len(items)]] for n, name in enumerate(names) if name != "name"}
    words = [item.ring.stretch_words() for item in items]
    if any(words):
        fields[STRETCHES_FIELD] = words
    own = {"name": np.array([item.name for item in items], object)}
    return write_areas(
        Areas(shapes, [item.name for item in items], own), fields, path, sources.cloud("cloud").reference
    )


def trial() -> tuple[InventorySetup, ...]:
    """One heap in a ring of seven metres' radius."""
    ring = circle(7.0)
    return (InventorySetup(heaps=(Item("a", "Mound", ring),)),)


INVENTORY = StudyKind(
    id="inventory",
    title="Inventory",
    question="How much is on the yard?",
    group="Volumes",
    name="Yard",
    setup=InventorySetup,
    run=run,
    figures=ABOUT,
    live=LiveYard,
    steps=(
        Step(
            "propose", "Propose heaps", "Find what stands above the ground; tick or untick each one afterwards", "heaps",
            propose, "Heaps were proposed: look at each line, untick what is none. Ctrl+Z takes them back.",
            "Ctrl+Shift+H", fresh=True,
        ),
    ),
    options=(Option("out", "the toe lines with the figures as fields: .gpkg or .geojson", endings=(".gpkg", ".geojson")),),
    write=write,
    help_page="inventory.md",
    example="kerb inventory yard.laz --toes heaps.gpkg --density 1.6 --out figures.gpkg --report yard.pdf",
    key="Ctrl+Shift+Y",
    tables=("heaps", "materials"),
    page_each=True,
    follow=follow,
    trial=trial,
)  # fmt: skip
