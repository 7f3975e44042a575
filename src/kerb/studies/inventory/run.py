"""Run an inventory: each heap as a stockpile study, then totals, by material, and change since an earlier survey."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kerb.core.errors import NotDeterminable
from kerb.core.geometry.area import Area, overlapping
from kerb.core.parallel import each
from kerb.core.progress import Progress
from kerb.core.quantity import first_of, number, quantity
from kerb.studies.drawn import Drawn, Item
from kerb.studies.inventory import figures, totals
from kerb.studies.inventory.matching import matched, shape_of
from kerb.studies.inventory.propose import proposals
from kerb.studies.inventory.setup import InventorySetup, heap_setup
from kerb.studies.layers import FoundLabels, FoundLine, FoundMesh
from kerb.studies.outcome import Attribute, Note, Outcome
from kerb.studies.sources import Sources
from kerb.studies.stockpile import notes
from kerb.studies.stockpile.run import run as run_stockpile

STUDY = "inventory"
KEPT = ("toe", "base", "gaps", "unseen", "hole")


def run(setup: InventorySetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'how much is on the yard?'.

    A heap that cannot be determined keeps its row without figures, and a warning says why; totals then leave it out,
    which is said. Raises InputError, when the setup is wrong; Cancelled.
    """
    setup.check()
    cloud = sources.cloud("cloud")
    outcome = Outcome(
        STUDY, sources.unit.code, cloud.reference.code or cloud.reference.name, {}, setup.settings(),
        method=_method(setup, sources),
    )  # fmt: skip
    items = setup.taken()
    jobs = [(heap_setup(setup, item), sources) for item in items]
    before = [item for item in setup.earlier_heaps if item.taken] if setup.earlier.holding else []
    if before:
        then = replace(sources, items={**sources.items, "cloud": sources.source("earlier")})
        jobs += [(heap_setup(setup, item, earlier=True), then) for item in before]
    found = each(lambda one: run_stockpile(*one, progress.unseen()), jobs, progress, "Measuring heaps")
    heaps = list(zip(items, found[: len(items)], strict=True))
    earlier = list(zip(before, found[len(items) :], strict=True))
    pairs = matched([shape_of(item) for item in items], [shape_of(item) for item in before])
    _fill(outcome, setup, sources, (heaps, earlier, pairs))
    return outcome


Heaps = list[tuple[Item, Outcome]]


def _fill(
    outcome: Outcome, setup: InventorySetup, sources: Sources, found: tuple[Heaps, Heaps, dict[int, int]]
) -> None:
    heaps, earlier, pairs = found
    rows = totals.rows(heaps, earlier, pairs)
    used = sum(one.inputs[0].used for _, one in heaps)
    outcome.inputs = [sources.input("cloud", "compared", used, notes.cloud_detail(sources.cloud("cloud")))]
    if earlier:
        outcome.inputs.append(sources.input("earlier", "against", sum(one.inputs[0].used for _, one in earlier)))
    elif setup.base == "surface":
        outcome.inputs.append(sources.input("surface", "against"))
    outcome.figures = figures.worded(setup, rows, sources.unit)
    outcome.tables = figures.tables(setup, rows, sources.unit)
    outcome.warnings = _warnings(setup, sources, heaps, rows)
    for one, other, common in overlapping([Area((item.ring.xy, *item.ring.holes), item.name) for item, _ in heaps]):
        words = f"{one} and {other} overlap on {quantity(common, sources.unit.area_code())}, which counts twice."
        outcome.doubt("overlap", "Heaps overlap and count twice", words)
    _draw(outcome, heaps)


def _warnings(setup: InventorySetup, sources: Sources, heaps: Heaps, rows: list[totals.Row]) -> list[Note]:
    shared = notes.of_inputs(setup, sources)
    known = {note.text for note in shared}
    found = [*shared]
    unfit = notes.no_volume(sources.cloud("cloud"))
    found += [unfit] if unfit is not None else []
    for item, one in heaps:
        for note in one.warnings:
            if note.text not in known and note != unfit:
                found.append(Note(note.code, f"{item.name}: {note.text}"))
    gone = [row for row in rows if row.net is None and row.kind == totals.NOW]
    if gone and len(gone) < len(heaps):
        found.append(Note("total-part", f"The totals leave out {len(gone)} of {len(heaps)} heaps without a figure."))
    unknown = totals.without_change(rows)
    if unknown:
        words = f"The change of the yard is not given: no figure at one of the dates for {first_of(unknown, 5)}."
        found.append(Note("change-part", words))
    if len({item.name for item, _ in heaps}) < len(heaps):
        found.append(Note("names", "Two heaps have the same name."))
    return found


def _draw(outcome: Outcome, heaps: Heaps) -> None:
    meshes: dict[str, list[FoundMesh]] = {"base": [], "gaps": []}
    places: list[list[float]] = []
    texts: list[str] = []
    values: list[tuple[float | None, float | None]] = []
    for item, one in heaps:
        line = one.line("toe")
        if line is None:
            ring = item.ring.places
            outcome.layers[f"toe {item.key}"] = FoundLine(
                np.column_stack([ring, np.zeros(len(ring))]), "edge", item.name, closed=True
            )
            continue
        outcome.layers[f"toe {item.key}"] = replace(line, title=item.name)
        for name, layer in one.layers.items():
            if isinstance(layer, FoundLine) and (layer.gapped or name.startswith("hole ")):
                outcome.layers[f"{name} {item.key}"] = layer
        for name, list_ in meshes.items():
            mesh = one.mesh(name)
            if mesh is not None and len(mesh.triangles):
                list_.append(mesh)
        net = one.figures["net"]
        top = one.mesh("top")
        middle = line.xyz.mean(axis=0)
        places.append([*middle[:2], top.vertices[:, 2].max() if top is not None else middle[2]])
        texts.append(item.name)
        values.append((net.value, net.u95))
        kept = {key: layer for key, layer in one.layers.items() if key.split()[0] in KEPT}
        # A page each: heaps of the same name keep theirs.
        title = item.name if item.name not in outcome.items else f"{item.name} ({item.key})"
        outcome.items[title] = replace(one, layers=kept)
    for name, list_ in meshes.items():
        if list_:
            outcome.layers[name] = _joined(list_)
    if places:
        outcome.layers["labels"] = FoundLabels(
            np.array(places), tuple(texts), title="Names and volumes", values=tuple(value for value, _ in values),
            bounds=tuple(u95 for _, u95 in values), unit=f"{outcome.unit}3",
        )  # fmt: skip
    if "base" in outcome.layers:
        outcome.attributes["over"] = Attribute("Height above base", "base", "toe", outcome.unit)


def _joined(meshes: list[FoundMesh]) -> FoundMesh:
    starts = np.cumsum([0, *(len(mesh.vertices) for mesh in meshes[:-1])])
    triangles = [mesh.triangles + np.int32(start) for mesh, start in zip(meshes, starts, strict=True)]
    return replace(
        meshes[0], vertices=np.concatenate([m.vertices for m in meshes]), triangles=np.concatenate(triangles)
    )


def propose(setup: InventorySetup, sources: Sources, progress: Progress) -> InventorySetup:
    """The heaps that stand on the yard, found by Kerb; those at the place of a known one keep its name and values.

    Raises InputError, NotDeterminable; Cancelled.
    """
    store = sources.cloud("cloud")
    least = setup.least_height, setup.least_area
    shapes = proposals(setup.cloud.of(store), least, sources.unit, progress)
    if not shapes:
        words = f"nothing higher than {number(least[0], 2)} and larger than {number(least[1], 1)} stands on the yard"
        raise NotDeterminable(words)
    known = [*setup.heaps, *setup.earlier_heaps]
    pairs = matched(shapes, [shape_of(item) for item in known])
    drawn = [item for item in setup.heaps if item.origin != "proposed"]
    taken = {item.key for item in drawn}
    made: list[Item] = []
    count = 1
    for n, shape in enumerate(shapes):
        old = known[pairs[n]] if n in pairs else None
        if old is not None and old.key in taken:
            continue  # a line that the analyst drew stays as it is
        while f"Heap {count}" in {item.name for item in (*known, *made)}:
            count += 1
        ring = Drawn.of(np.round(np.array(shape.exterior.coords)[:-1], 3))
        name, values = (old.name, old.values) if old is not None else (f"Heap {count}", ())
        made.append(Item(_key(setup, made), name, ring, values, old.taken if old is not None else True, "proposed"))
    return replace(setup, heaps=(*drawn, *made))


def _key(setup: InventorySetup, made: list[Item]) -> str:
    taken = {item.key for item in (*setup.heaps, *made)}
    return next(f"h{n}" for n in range(1, len(taken) + 2) if f"h{n}" not in taken)


def follow(setup: InventorySetup, cloud: str) -> InventorySetup:
    """The same question for a later survey: the present heaps become the earlier ones, to be found anew."""
    kept = tuple(item for item in setup.heaps if item.taken)
    return replace(setup, cloud=replace(setup.cloud, holding=cloud, part="", only=()), earlier=setup.cloud,
                   earlier_heaps=kept, heaps=())  # fmt: skip


def _method(setup: InventorySetup, sources: Sources) -> str:
    words = notes.method(setup, sources.cloud("cloud"))
    return (
        f"Each heap is a stockpile study of its own. {words} Totals: sums; of the uncertainty independent parts by root "
        "sum of squares, the vertical bias, which all heaps share, by plain addition."
    )
