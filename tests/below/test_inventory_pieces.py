"""Pieces of the inventory by hand: how heaps are found in a grid, told apart, named, counted and drawn together."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import pyogrio
import shapely
import trimesh

from kerb.core.errors import InputError, NotDeterminable, OutputError
from kerb.core.geometry.area import Area
from kerb.core.geometry.mesh import TriangleMesh, joined
from kerb.core.progress import Progress, silent
from kerb.core.surface.grid import HeightGrid
from kerb.core.units import FOOT, METRE
from kerb.headless.placed import areas_of
from kerb.studies.drawn import Drawn, Item
from kerb.studies.inventory import figures, matching, propose, totals
from kerb.studies.inventory import run as running
from kerb.studies.inventory.kind import INVENTORY
from kerb.studies.inventory.propose import Yard
from kerb.studies.inventory.setup import InventorySetup
from kerb.studies.layers import FoundLine, FoundMesh
from kerb.studies.outcome import Column, Figure, Input, Note, Outcome, Table
from kerb.studies.parts import Part, combined, parts_of
from kerb.studies.parts import joined as added
from kerb.studies.scope import Scope
from kerb.studies.sources import Source, Sources
from kerb.studies.stockpile.figures import SHARED
from kerb.studies.taking import item_from, ring_from
from tests.below.test_exact import solid
from tests.support import FAR, circle, near, store_of


def yard(height, cell=1.0, known=None, ground=0.0):
    """A grid of heights (rows, columns) over level ground."""
    height = np.array(height, float)
    grid = HeightGrid(np.array([100.0, 200.0]), cell, height + ground, np.ones(height.shape, np.int64))
    return Yard(grid, np.full(height.shape, ground), np.ones(height.shape, bool) if known is None else known)


def cone(size, at, top, slope=0.5):
    rows, columns = np.mgrid[0:size, 0:size]
    return np.maximum(0, top - slope * np.hypot(rows - at[0], columns - at[1]))


def item(key, name, ring, **values):
    return Item(key, name, Drawn.of(ring), tuple(values.items()))


def measured(net, u95=None, **parts):
    """An outcome as a stockpile gives it: a net volume, a mesh, a line, and parts of its uncertainty."""
    outcome = Outcome("stockpile", "m", "", {"net": Figure(net, "m3", "Net", u95)}, {"density": 1.5})
    outcome.inputs = [Input("compared", "c", 100, 60)]
    rows = (*parts.items(), ("Combined", u95 or 0.0))
    outcome.tables = {"uncertainty": Table("U", (Column("part"), Column("u95", "m3")), rows)}
    return outcome


def edges(drawn):
    """Stretches by their two ends, with what was stated of them."""
    ends = zip(drawn.xy, (*drawn.xy[1:], drawn.xy[0]), drawn.stretches, strict=False)
    return {(frozenset(map(tuple, np.round([a, b], 3).tolist())), kind) for a, b, kind in ends}


def full_yard():
    """A yard with everything on it, in metres: heaps of many sizes, touching, low, cut off, walled; buildings; a fall."""
    rng = np.random.default_rng(12)
    xy = rng.uniform(0, [130, 100], (90_000, 2))
    x, y = xy.T
    z = 0.015 * x - 0.008 * y + 0.05 * np.sin(x / 9) * np.cos(y / 7)
    heap = np.zeros(len(xy))
    for east, north, high, fall in (
        (15, 15, 5.0, 0.7), (38, 14, 3.0, 0.6), (44, 17, 2.6, 0.6), (62, 15, 4.0, 0.6), (70, 15, 3.2, 0.6), (90, 14, 0.95, 0.4),
        (104, 14, 0.75, 0.4), (118, 16, 2.0, 1.2), (14, 42, 1.5, 0.8), (25, 42, 1.2, 0.9), (2, 70, 4.0, 0.6), (45, 45, 6.0, 0.55),
        (80, 45, 1.4, 0.9), (100, 45, 2.5, 0.62), (110, 46, 2.3, 0.62), (105, 52, 2.0, 0.62), (60, 85, 3.5, 0.65), (90, 85, 2.2, 0.5),
    ):  # fmt: skip
        heap = np.maximum(heap, high - fall * np.hypot(x - east, y - north))
    z = z + heap
    z[(x > 20) & (x < 40) & (y > 70) & (y < 85)] += 7.0  # a hall
    z[(np.abs(x - 110) < 9) & (np.abs(y - 82) < 7) & ((np.abs(x - 110) > 8.2) | (np.abs(y - 82) > 6.2))] += 3.0  # a walled box
    z += (np.abs(x - 110) < 8.2) * (np.abs(y - 82) < 6.2) * np.clip(2.2 - 0.3 * np.hypot(x - 110, y - 82), 0, None)
    z[rng.choice(len(xy), 6, replace=False)] -= 9.0
    keep = ~((np.abs(x - 80) < 3) & (np.abs(y - 52) < 3))
    return np.column_stack([xy, z + rng.normal(0, 0.02, len(xy))])[keep] + FAR


class Found(unittest.TestCase):
    def test_proposed_from_points(self):
        rng = np.random.default_rng(3)
        xy = rng.uniform(0, 60, (40_000, 2))
        z = 0.02 * xy[:, 0] + np.maximum(0, 4 - 0.6 * np.hypot(xy[:, 0] - 20, xy[:, 1] - 30))
        z += np.maximum(0, 3 - 0.6 * np.hypot(xy[:, 0] - 45, xy[:, 1] - 20))
        cloud = store_of(np.column_stack([xy, z]) + FAR)
        found = propose.proposals(Scope().of(cloud), (0.8, 12.0), METRE, silent())
        self.assertEqual(len(found), 2)
        for line, (x, y, top) in zip(found, ((20, 30, 4), (45, 20, 3)), strict=True):
            near(np.array(line.centroid.coords[0]) - FAR[:2], [x, y], atol=0.3)
            self.assertTrue(top / 0.6 < np.sqrt(line.area / np.pi) < top / 0.6 + 1.25 * 0.9)
        said = []
        propose.proposals(
            Scope().of(cloud), (0.8, 12.0), METRE, Progress(lambda share, words: said.append((round(share, 6), words)))
        )
        self.assertEqual(list(dict.fromkeys(said)), [(0.0, "Reading points"), (0.32, "Finding the ground"), (0.6, "Parting heaps"),
                                                     (0.8, "Drawing toe lines")])  # fmt: skip
        self.assertEqual(len(propose.proposals(Scope().of(cloud), (3.5, 12.0), METRE, silent())), 1)
        self.assertEqual(len(propose.proposals(Scope().of(cloud), (0.8, 100.0), METRE, silent())), 1)
        few = store_of(rng.uniform(0, 9, (99, 3)) + FAR)
        with self.assertRaisesRegex(NotDeterminable, "too few points"):
            propose.proposals(Scope().of(few), (0.8, 12.0), METRE, silent())

    def test_only_larger_walls_are_left_out(self):
        """A steep patch on the outline counts from more than four cells, whatever their size."""
        heap = yard(cone(60, (30, 30), 4.0), 0.5)
        labels = propose._parted(heap, (1.0, 1.0), METRE)
        for wide, slant, shared in ((2, 2.0, True), (3, 2.0, False), (3, propose.STEEPEST, True)):
            slope = np.zeros((60, 60))
            slope[38:40, 30 : 30 + wide] = slant
            with mock.patch.object(propose, "_slope", lambda _yard, slope=slope: slope):
                (line,) = propose._outlines(heap, labels, (1.0, 1.0), METRE)
            patch = shapely.box(115.0, 219.0, 115.0 + wide / 2, 220.0)
            self.assertEqual(line.intersection(patch).area > 0.1, shared)
        with mock.patch.object(propose, "_slope", lambda _yard: np.full((60, 60), propose.STEEPEST)):
            np.testing.assert_array_equal(propose._parted(heap, (1.0, 1.0), METRE), labels, "just so steep is no wall")
        away = np.abs(np.hypot(*(np.mgrid[0:60, 0:60] - 30)) - 16)
        with mock.patch.object(propose, "_slope", lambda _yard: np.where(away < 2, 2.0, 0.0)):
            (within,) = propose._outlines(heap, labels, (1.0, 1.0), METRE)
        (free,) = propose._outlines(heap, labels, (1.0, 1.0), METRE)
        self.assertTrue(within.equals(free), "a wall all round it takes nothing of it")

    def test_a_full_yard_stays_as_it_was_found(self):
        """Where heaps were built is known; areas and corners are as Kerb found them on 2026-11-26, so that changes are seen."""
        wanted = [
            (45.03, 45.29, 463.2, 16), (14.85, 15.08, 220.5, 10), (61.1, 15.07, 169.7, 15), (109.9, 81.65, 144.3, 16),
            (60.03, 84.99, 136.3, 9), (71.04, 14.73, 104.9, 13), (37.32, 13.65, 104.1, 13), (44.87, 17.13, 79.2, 14),
            (90.07, 85.02, 89.9, 9), (99.76, 44.91, 81.4, 9), (110.07, 45.96, 77.9, 9), (112.83, 88.44, 37.1, 10),
            (104.82, 52.29, 53.5, 9), (108.49, 75.15, 35.1, 9), (106.24, 88.47, 25.1, 10),
        ]  # fmt: skip
        for unit, slack in ((METRE, 0.02), (FOOT, 0.8)):
            m = unit.metres
            cloud = store_of(full_yard() / m, unit)
            found = propose.proposals(Scope().of(cloud), (0.8 / m, 12.0 / m**2), unit, silent())
            rows = [(*(np.array(line.centroid.coords[0]) * m - FAR[:2]), line.area * m**2) for line in found]
            near(rows, [row[:3] for row in wanted], atol=slack + 0.04)
            if unit == METRE:
                self.assertEqual([len(line.exterior.coords) for line in found], [row[3] for row in wanted])


class Proposed(unittest.TestCase):
    def setUp(self):
        self.cloud = store_of(np.random.default_rng(1).uniform(0, 9, (200, 3)) + FAR)
        self.sources = Sources(METRE, {"cloud": Source("cloud", "c", store=self.cloud)})
        self.shapes = [shapely.Polygon(circle(5, 20) + [x, 0]) for x in (0, 20, 40)]

    def propose(self, setup, shapes=None):
        with mock.patch.object(running, "proposals", return_value=self.shapes if shapes is None else shapes) as asked:
            made = running.propose(setup, self.sources, silent())
        self.assertEqual(asked.call_args.args[1], (setup.least_height, setup.least_area))
        return made

    def test_names_keys_and_what_was_known(self):
        drawn = replace(item("h1", "North", circle(5, 20) + [20.5, 0], density=2.0), origin="drawn")
        old = replace(item("h7", "Heap 1", circle(5, 20) + [40, 1], material="sand"), origin="proposed", taken=False)
        made = self.propose(InventorySetup(Scope("cloud"), heaps=(drawn, old))).heaps
        self.assertEqual([(i.key, i.name, i.taken, i.origin) for i in made],
                         [("h1", "North", True, "drawn"), ("h2", "Heap 2", True, "proposed"), ("h3", "Heap 1", False, "proposed")])  # fmt: skip
        self.assertEqual((made[0], made[2].values), (drawn, (("material", "sand"),)))
        near(made[1].ring.places, np.round(np.array(self.shapes[0].exterior.coords)[:-1], 3), atol=0)
        again = self.propose(InventorySetup(Scope("cloud"), heaps=made)).heaps
        self.assertEqual([(i.name, i.taken) for i in again], [(i.name, i.taken) for i in made])
        fresh = self.propose(InventorySetup(Scope("cloud"))).heaps
        self.assertEqual([(i.key, i.name, i.values) for i in fresh], [(f"h{n}", f"Heap {n}", ()) for n in (1, 2, 3)])
        with self.assertRaisesRegex(NotDeterminable, "nothing higher than 0.80 and larger than 12.0"):
            self.propose(InventorySetup(Scope("cloud")), [])


class Counted(unittest.TestCase):
    def setUp(self):
        self.cloud = store_of(np.random.default_rng(1).uniform(0, 9, (200, 3)) + FAR)
        self.sources = Sources(
            METRE, {"cloud": Source("cloud", "c", store=self.cloud), "earlier": Source("e", "e", store=self.cloud)}
        )

    def run_with(self, setup, found):
        """The inventory with what each heap is measured to be given."""
        with mock.patch.object(running, "run_stockpile", side_effect=lambda one, *_: found[one.toe.xy]):
            return running.run(setup, self.sources, silent())

    def test_warnings(self):
        a, b = item("a", "Same", circle(5, 40)), item("b", "Same", circle(5, 40) + [8, 0])
        lost = measured(None)
        lost.warnings = [Note("edge", "it is cut off")]
        found = self.run_with(InventorySetup(Scope("cloud"), heaps=(a, b)), {a.ring.xy: measured(5.0), b.ring.xy: lost})
        said = {note.code: note.text for note in found.warnings}
        self.assertEqual(said["edge"], "Same: it is cut off")
        self.assertEqual(said["total-part"], "The totals leave out 1 of 2 heaps without a figure.")
        self.assertEqual(said["names"], "Two heaps have the same name.")
        # A heap without a figure keeps the line it was given; the label of another stands over the middle of its line, at its top.
        line = found.layers["toe b"]
        self.assertEqual((line.role, line.title, line.closed), ("edge", "Same", True))
        near(line.xyz, np.column_stack([b.ring.places, np.zeros(40)]), atol=0)
        high, ring = measured(5.0), np.column_stack([a.ring.places, np.linspace(1.0, 2.0, 40)])
        for tops, level in (({}, 1.5), ({"top": FoundMesh(ring + [0, 0, 7], np.array([[0, 1, 2]], np.int32), "top")}, 9.0)):
            high.layers = {"toe": FoundLine(ring, "edge", closed=True), **tops}
            labels = self.run_with(InventorySetup(Scope("cloud"), heaps=(a,)), {a.ring.xy: high}).layers["labels"]
            near(labels.xyz, [[*a.ring.places.mean(axis=0), level]], atol=1e-9)
        common = shapely.Polygon(a.ring.xy).intersection(shapely.Polygon(b.ring.xy)).area
        self.assertIn(f"Same and Same overlap on {common:.1f}"[:26], said["overlap"])
        self.assertIn("counts twice", said["overlap"])
        for share, told in ((0.5e-6, False), (2e-6, True)):
            one = item("a", "A", np.array([[0.0, 0], [10, 0], [10, 10], [0, 10]]))
            two = item("b", "B", np.array([[10 - 10 * share, 0], [20, 0], [20, 10], [10 - 10 * share, 10]]))
            found = self.run_with(
                InventorySetup(Scope("cloud"), heaps=(one, two)), {one.ring.xy: measured(5.0), two.ring.xy: measured(6.0)}
            )
            self.assertEqual("overlap" in [note.code for note in found.warnings], told, share)
        shared = replace(self.sources, stated=(Note("odd", "the file is odd"),))
        again = measured(5.0)
        again.warnings = [Note("odd", "the file is odd"), Note("rough", "it is rough")]
        with mock.patch.object(self, "sources", shared):
            found = self.run_with(InventorySetup(Scope("cloud"), heaps=(a,)), {a.ring.xy: again})
        self.assertEqual([n.text for n in found.warnings if n.code in ("odd", "rough")], ["the file is odd", "Same: it is rough"])
        alone = self.run_with(InventorySetup(Scope("cloud"), heaps=(a,)), {a.ring.xy: lost})
        self.assertNotIn("total-part", [note.code for note in alone.warnings], "where nothing is left no part is left out")
        apart = item("c", "C", circle(5, 40) + [10.0001, 0])
        two = self.run_with(
            InventorySetup(Scope("cloud"), heaps=(a, apart)), {a.ring.xy: measured(5.0), apart.ring.xy: measured(1.0)}
        )
        self.assertNotIn("names", [note.code for note in two.warnings])
        self.assertNotIn("overlap", [n.code for n in self.run_with(
            InventorySetup(Scope("cloud"), heaps=(a, apart)), {a.ring.xy: measured(5.0), apart.ring.xy: measured(1.0)}).warnings])  # fmt: skip

    def test_totals(self):
        row = lambda net, **more: totals.Row("a", "m", None, values={"net": net}, **more)  # noqa: E731
        self.assertEqual((row(5.0, before=3.0).change, row(None, before=3.0).change, row(5.0).change), (2.0, None, None))
        self.assertEqual(totals.Row("a", "", None, totals.GONE, before=4.0).change, -4.0)
        self.assertEqual(parts_of(measured(5.0, 9.0, Noise=1.0, Offset=None)), {"Noise": 1.0}, "neither unknown nor the sum")
        self.assertEqual(combined([Part("a", 3.0, ""), Part("b", None, ""), Part("c", 4.0, "")]), 5.0)
        parts = [{"Vertical bias": 3.0, "Noise": 1.0}, {"Vertical bias": 4.0, "Noise": 2.0, "Other": 6.0}]
        self.assertAlmostEqual(added(parts, SHARED), np.sqrt(49 + 1 + 4 + 36))
        self.assertAlmostEqual(added(parts, SHARED, [2.0, 0.5]), np.sqrt(64 + 4 + 1 + 9))
        changed = [row(5.0, before=3.0, parts={"Vertical bias": 3.0}, before_parts={"Vertical bias": 4.0})]
        self.assertAlmostEqual(totals.total(changed).change_u95, 5.0)
        self.assertEqual((totals.total([row(5.0)]).above, totals.total([row(5.0)]).below), (0.0, 0.0))
        inside = np.arange(12)[:, None] + np.zeros((1, 9)) > 4
        near(propose._evened(np.where(inside, 7.0, 99.0), inside), np.where(inside, 7.0, np.nan))
        nothing = totals.total([row(None)])
        self.assertEqual((nothing.u95, nothing.mass, nothing.change, nothing.count, nothing.net), (None, None, None, 0, 0.0))
        heavy = totals.Row("a", "m", 2.0, values={"net": 3.0, "mass": 6.0, "above": 4.0, "below": 1.0}, parts={"Noise": 0.5})
        found = totals.total([heavy, heavy])
        self.assertEqual((found.mass, found.above, found.below, found.count), (12.0, 8.0, 2.0, 2))
        self.assertAlmostEqual(found.mass_u95, 2 * np.sqrt(0.5))
        for named, told in ((("", ""), False), (("", "m"), True), (("m", "m"), True), (("m", ""), True)):
            made = figures.tables(InventorySetup(Scope("c")), [replace(heavy, material=name) for name in named], METRE)
            self.assertEqual("materials" in made, told, named)
        self.assertEqual(
            [len(rows) for rows in totals.by_material([heavy, replace(heavy, material="x"), heavy]).values()], [2, 1]
        )

    def test_matching(self):
        square = lambda x, y, w: shapely.box(x, y, x + w, y + w)  # noqa: E731
        now, before = [square(0, 0, 10), square(20, 0, 10)], [square(8.1, 0, 10), square(7.9, 0, 10), square(1, 1, 3)]
        self.assertEqual(matching.matched(now[:1], before[:1]), {}, "19 of 100 are too little")
        self.assertEqual(matching.matched(now[:1], before[:2]), {0: 1})
        self.assertEqual(matching.matched(now, [square(8, 0, 10)]), {}, "a fifth itself is too little")
        self.assertEqual(matching.matched(now[:1], [*before, square(2, 0, 10)]), {0: 3}, "the largest common area first")
        self.assertEqual(matching.matched([square(0, 0, 10), square(1, 0, 10)], [square(0.4, 0, 10)]), {0: 0})
        self.assertEqual(
            matching.matched(now[:1], [square(1, 1, 3)]), {0: 0}, "a tenth of the large one, but all of the small one"
        )
        holed = Item("a", "A", Drawn.of(circle(5, 40), [circle(2, 40)]))
        self.assertAlmostEqual(matching.shape_of(holed).area, shapely.Polygon(circle(5, 40), [circle(2, 40)]).area)


class Asked(unittest.TestCase):
    def test_stretches_go_out_and_come_back(self):
        """Whichever way round a line runs, what was stated of its stretches is kept in the file and read from it."""
        cloud = store_of(np.random.default_rng(1).uniform(0, 9, (200, 3)) + FAR)
        sources = Sources(METRE, {"cloud": Source("cloud", "c", store=cloud)})
        about = InventorySetup.declared()["heaps"]
        ring = circle(5, 6) + FAR[:2]
        plain = item("p", "Plain", ring + 50)
        ways = [
            replace(one, ring=one.ring.with_stretch(1, "other").with_stretch(4, "ground"))
            for one in (item("a", "On", ring), item("b", "Back", ring[::-1] + 20))
        ]
        setup = InventorySetup(Scope("cloud"), heaps=(*ways, plain))
        outcome = Outcome("inventory", "m", "", {}, {})
        outcome.tables = {"heaps": Table("Heaps", (Column("name"),), tuple((i.name,) for i in setup.heaps))}
        for ending in ("gpkg", "geojson"):
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / f"toes.{ending}"
                INVENTORY.write(setup, outcome, sources, {"out": path})
                found, _ = areas_of(str(path), cloud.reference)
            for before, one in zip(setup.heaps, found, strict=True):
                after = item_from(about, one.area, one.fields, "x", one.name, "file").ring
                self.assertEqual(edges(after), edges(before.ring), (ending, one.name))
                self.assertEqual(bool(after.stretches), one.name != "Plain")
        turned = Drawn.of(ring[::-1]).with_words("other - - - - -", ("other",))
        self.assertEqual(turned.stretches, ("", "", "", "", "", "other"))
        for words, wrong in (("other -", "2 words for 6"), ("wall - - - - -", "'wall' is not one of")):
            with self.assertRaisesRegex(InputError, f"Odd: stretches: {wrong}"):
                ring_from(about, Area((Drawn.of(ring).xy,), "Odd"), {"Stretches": words})
        self.assertEqual(Drawn.of(ring).with_words("- - - - - -", ("other",)).stretches, ())
        holed = [circle(9, 12), *(circle(1, 5) + [3 * k, 0] for k in (-1, 1))]
        taken = ring_from(about, Area(tuple(holed)), {})
        self.assertEqual(len(taken.holes), 2)
        for hole, wanted in zip(taken.holes, holed[1:], strict=True):
            self.assertEqual(sorted(map(tuple, hole)), sorted(map(tuple, wanted.tolist())))

    def test_toe_lines_are_written_with_their_figures(self):
        cloud = store_of(np.random.default_rng(1).uniform(0, 9, (200, 3)) + FAR)
        sources = Sources(METRE, {"cloud": Source("cloud", "c", store=cloud)})
        heaps = (item("a", "A", circle(5, 12)), Item("b", "B", Drawn.of(circle(4, 12) + [30, 0], [circle(1, 9) + [30, 0]])))
        off = replace(item("x", "X", circle(3, 12) + [90, 0]), taken=False)
        setup = InventorySetup(Scope("cloud"), heaps=(*heaps, off))
        columns = (Column("name"), Column("net", "m3"), Column("note"))
        outcome = Outcome(
            "inventory",
            "m",
            "",
            {},
            {},
            tables={"heaps": Table("H", columns, (("A", 5.0, "x"), ("B", 7.0, "y"), ("Gone", 1.0, "z")))},
        )
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "toes.gpkg"
            INVENTORY.write(setup, outcome, sources, {"out": path})
            meta, _, shapes, values = pyogrio.raw.read(path)
            found = dict(zip(meta["fields"], values, strict=True))
            self.assertEqual(
                (found["name"].tolist(), found["net"].tolist(), found["note"].tolist()), (["A", "B"], [5, 7], ["x", "y"])
            )
            areas = shapely.area(shapely.from_wkb(shapes))
            near(areas, [shapely.Polygon(circle(5, 12)).area, shapely.Polygon(circle(4, 12), [circle(1, 9)]).area], atol=1e-6)
            with self.assertRaisesRegex(OutputError, "no heaps to write"):
                INVENTORY.write(replace(setup, heaps=(off,)), outcome, sources, {"out": Path(folder) / "none.gpkg"})


class Bodies(unittest.TestCase):
    """Closed meshes of several bodies: one inside out, one in another, one in a hole of another."""

    def test_senses_and_volumes(self):
        box = lambda size, at=(0.0, 0, 0), turned=False: (  # noqa: E731
            replace(solid(size, at), triangles=solid(size, at).triangles[:, [0, 2, 1]]) if turned else solid(size, at)
        )
        big, hole, core = (10.0, 10, 10), (6.0, 5, 4), (2.0, 2, 2)
        for meshes, volume, senses in (
            ([box(big)], 1000.0, [1]), ([box(big, turned=True)], 1000.0, [-1]),
            ([box(big), box(hole, turned=True)], 880.0, [1, 1]), ([box(big), box(hole)], 880.0, [1, -1]),
            ([box(big, turned=True), box(hole, turned=True)], 880.0, [-1, 1]),
            ([box(big), box(hole, turned=True), box(core)], 888.0, [1, 1, 1]), ([box(big), box(hole), box(core)], 888.0, [1, -1, 1]),
            ([box(hole), box(core, (9.0, 0, 0), True)], 128.0, [1, -1]), ([box(core, (4.0, 0, 0)), box(hole)], 128.0, [1, 1]),
        ):  # fmt: skip
            mesh = joined(meshes)
            self.assertAlmostEqual(mesh.volume, volume, places=5, msg=senses)
            order = [int(mesh._bodies[12 * k]) for k in range(len(meshes))]
            self.assertEqual([int(mesh.senses[body]) for body in order], senses)
            # From above only what looks upwards counts: tops, and floors of cavities.
            sizes = [(10.0, 10.0), (6.0, 5.0), (2.0, 2.0)][: len(meshes)]
            if volume in (1000.0, 880.0, 888.0):
                self.assertAlmostEqual(mesh.tin().plan_area, sum(a * b for a, b in sizes), places=5)

    def test_edges_that_differ_in_one_end_are_others(self):
        """Two tetrahedra that have a corner in common and one with a side left out."""
        corners = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1], [-1, 0, 0], [0, -1, 0], [0, 0, -1]])
        one = [[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]]
        other = [[0, 4, 5], [0, 6, 4], [0, 5, 6], [4, 6, 5]]
        mesh = lambda cells: TriangleMesh(corners, np.array(cells, np.int32))  # noqa: E731
        self.assertTrue(mesh(one + other).closed)
        for lost in range(8):
            self.assertFalse(mesh([c for k, c in enumerate(one + other) if k != lost]).closed)
        self.assertAlmostEqual(mesh(one).volume, 1 / 6)
        self.assertAlmostEqual(mesh(one + other).volume, 1 / 3, places=9)
        plate = mesh([[0, 1, 2], [0, 2, 1]])
        self.assertEqual((plate.closed, plate.volume, plate.senses.tolist()), (True, 0.0, [1]))
        with self.assertRaises(InputError):
            mesh([[0, 1, 3]]).tin()
        self.assertEqual(len(joined([]).vertices), 0)
        self.assertEqual([(e.first, e.count) for e in joined([mesh(one), mesh(other)]).elements], [(0, 4), (4, 4)])

    def test_many_small_triangles_far_off(self):
        ball = trimesh.creation.icosphere(subdivisions=3, radius=0.05)
        at = np.array([583_211.37, 5_812_345.61, 71.23])
        mesh = TriangleMesh(np.array(ball.vertices) + at, np.array(ball.faces, np.int32))
        self.assertTrue(mesh.closed)
        for lost in range(0, len(mesh.triangles), 53):
            self.assertFalse(TriangleMesh(mesh.vertices, np.delete(mesh.triangles, lost, axis=0)).closed)
        self.assertAlmostEqual(mesh.volume / ball.volume, 1.0, places=5)
        self.assertAlmostEqual(mesh.surface_area / ball.area, 1.0, places=5)
        cap = mesh.tin()
        self.assertTrue((cap.plan_areas > 0).all())
        self.assertAlmostEqual(cap.plan_area / (np.pi * 0.05**2), 1.0, delta=0.02)
        self.assertGreater(cap.points[:, 2].min(), at[2] - 0.06)
        upside = TriangleMesh(mesh.vertices, mesh.triangles[:, [0, 2, 1]]).tin()
        self.assertAlmostEqual(upside.plan_area, cap.plan_area, places=9)
