"""What an inventory is asked: the heaps with their names, materials and densities, and what they are compared with."""

from __future__ import annotations

from dataclasses import dataclass, fields

from kerb.core.setting import Setting
from kerb.studies.drawn import Item
from kerb.studies.fields import AGAINST, number, rings, scope
from kerb.studies.scope import Scope
from kerb.studies.stockpile.setup import STRETCHES, HeapSetup, StockpileSetup

OWN = (
    Setting("Material", "Name of the material; totals are made by it", "text"),
    Setting("Density", "Bulk density of this heap; empty: that of the study", "density", low=0.0),
)
SHARED = tuple(item.name for item in fields(HeapSetup))


@dataclass(frozen=True)
class InventorySetup(HeapSetup):
    """Inputs and settings of an inventory: those of a stockpile, for many heaps."""

    heaps: tuple[Item, ...] = rings(
        "Heaps",
        "Toe lines with name, material and density; untick one to leave it out",
        OWN,
        needed="Draw a line round each heap, take them from a holding, or let Kerb propose them.",
        stretches=STRETCHES,
        key="T",
        flag="toes",
        unit_by="density_unit",
    )
    least_height: float = number(
        "Least height", "What stands lower above the ground is not proposed as a heap", default=0.8, low=0.0, rare=True
    )
    least_area: float = number(
        "Least area", "What covers less is not proposed as a heap", "area", default=12.0, low=0.0, rare=True
    )
    earlier: Scope = scope(
        "Earlier survey", "Cloud of the same yard at an earlier date; change is counted from it", AGAINST
    )
    earlier_heaps: tuple[Item, ...] = rings(
        "Earlier heaps",
        "Toe lines of the earlier survey; matched by place",
        OWN,
        stretches=STRETCHES,
        hidden=True,
        flag="earlier_toes",
        unit_by="density_unit",
    )

    def taken(self) -> list[Item]:
        """The heaps that count."""
        return [item for item in self.heaps if item.taken]


def heap_setup(setup: InventorySetup, item: Item, earlier: bool = False) -> StockpileSetup:
    """The stockpile study of one of the heaps, at the present or at the earlier date."""
    shared = {name: getattr(setup, name) for name in SHARED}
    if earlier:
        shared["cloud"] = setup.earlier
    density = item.value("density", setup.density)
    return StockpileSetup(**shared | {"density": density}, toe=item.ring, material=str(item.value("material", "")))
