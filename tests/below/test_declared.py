"""What studies are declared with and answer in: defaults, limits and small sums, each with one right answer."""

import unittest
from dataclasses import dataclass, replace

import numpy as np

from kerb.core.errors import InputError
from kerb.core.geometry.alignment import Alignment, straight
from kerb.core.geometry.area import Area, ring_of
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.reference import UNKNOWN, local_grid
from kerb.core.surface.surfaces import CloudTop, TinSurface
from kerb.core.surface.tin import triangulate
from kerb.core.things import LINES, MODEL, POINTS, SURFACE, Placed
from kerb.core.units import FOOT, METRE
from kerb.draw.ramps import SIGNED, table
from kerb.draw.scene import Scene
from kerb.studies import fields, showing
from kerb.studies.attributes import elevations, values_of
from kerb.studies.drawn import Drawn, Item
from kerb.studies.fields import CODECS, Field
from kerb.studies.kind import HEADLINE, REPORT, SHEET, FigureAbout, Option, Step, StudyKind
from kerb.studies.layers import FoundDimensions, FoundLabels, FoundLine, FoundMesh, FoundPoints, Plot, Profile
from kerb.studies.outcome import Attribute, Column, Figure, Input, Note, Outcome, Table
from kerb.studies.profiles import SAMPLES, Cutter
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup
from kerb.studies.sources import Source, Sources, holding_of, named_holdings, resolve
from tests.support import FAR, near, store_of

SQUARE = ((0.0, 0.0), (4.0, 0.0), (4.0, 3.0), (0.0, 3.0))


class DrawnLines(unittest.TestCase):
    def test_vertices(self):
        line = Drawn(SQUARE, (1.0, None, 3.0, None), (), ("a", "", "c", "d"))
        self.assertEqual([line.level(k) for k in range(6)], [1.0, None, 3.0, None, None, None])
        self.assertEqual([line.stretch(k) for k in range(6)], ["a", "", "c", "d", "", ""])
        self.assertEqual(line.moved(1, (9.0, 9.0)).xy, (SQUARE[0], (9.0, 9.0), *SQUARE[2:]))
        more = line.with_vertex(2, (4.0, 1.0))
        self.assertEqual((more.xy[2], len(more.xy)), ((4.0, 1.0), 5))
        self.assertEqual((more.z, more.stretches), ((1.0, None, None, 3.0, None), ("a", "", "", "c", "d")))
        self.assertEqual(line.with_vertex(3, (1.0, 3.0)).stretches, ("a", "", "c", "c", "d"))
        self.assertEqual(line.with_vertex(4, (0.0, 1.0)).stretches, ("a", "", "c", "d", "d"))
        plain = Drawn(SQUARE).with_vertex(1, (2.0, 0.0))
        self.assertEqual((plain.z, plain.stretches, plain.xy[1]), ((), (), (2.0, 0.0)))
        less = line.without(2)
        self.assertEqual(
            (less.xy, less.z, less.stretches), (SQUARE[:2] + SQUARE[3:], (1.0, None, None), ("a", "", "d"))
        )
        self.assertEqual(line.without(0).xy, SQUARE[1:])
        self.assertEqual(line.without(3).z, (1.0, None, 3.0))

    def test_levels_and_stretches_are_stated_and_taken_back(self):
        line = Drawn(SQUARE)
        typed = line.with_level(1, 7.0)
        self.assertEqual(typed.z, (None, 7.0, None, None))
        self.assertEqual(typed.with_level(1, None), line)
        self.assertEqual(typed.with_level(3, 2.0).z, (None, 7.0, None, 2.0))
        said = line.with_stretch(2, "wall")
        self.assertEqual(said.stretches, ("", "", "wall", ""))
        self.assertEqual(said.with_stretch(2, ""), line)
        near_ring = np.array(SQUARE)
        self.assertEqual(said.stated(near_ring), {2: "wall"})
        self.assertEqual(said.stated(near_ring[::-1]), {0: "wall"}, "the same stretch, run the other way")
        self.assertEqual(said.with_stretch(3, "wall").stated(near_ring[[1, 2, 3, 0]]), {1: "wall", 2: "wall"})
        last = line.with_stretch(3, "water")
        self.assertEqual(last.stated(near_ring), {3: "water"})
        self.assertEqual(last.stated(near_ring[::-1]), {3: "water"})
        self.assertEqual(line.stated(near_ring), {})
        self.assertEqual(typed.typed(near_ring[::-1]), {2: 7.0})
        self.assertEqual(line.typed(near_ring), {})
        self.assertEqual(replace(line, z=(None,) * 4).typed(near_ring), {})

    def test_kept_and_read_back(self):
        full = Drawn(SQUARE, (1.0, None, 3.0, None), (((1.0, 1.0), (2.0, 1.0), (2.0, 2.0)),), ("", "wall", "", ""))
        self.assertEqual(Drawn.from_json(full.to_json()), full)
        self.assertEqual(set(full.to_json()), {"xy", "z", "holes", "stretches"})
        self.assertEqual(Drawn(SQUARE).to_json(), {"xy": [list(p) for p in SQUARE]})
        self.assertEqual(Drawn.from_json({}), Drawn())
        self.assertFalse(Drawn())
        self.assertTrue(Drawn(SQUARE))
        self.assertEqual(Drawn().places.shape, (0, 2))
        self.assertEqual(Drawn.of(np.ones((2, 3)), [np.zeros((3, 2))]).holes, (((0.0, 0.0),) * 3,))
        with self.assertRaisesRegex(InputError, "^toe: not drawn yet"):
            Drawn().ring("toe")
        near(Drawn(SQUARE[::-1]).ring("toe"), np.array(SQUARE))

    def test_items(self):
        item = Item("h1", "Heap", Drawn(SQUARE), (("density", 1.5), ("material", "sand")))
        self.assertEqual((item.taken, item.origin), (True, ""))
        self.assertEqual((item.value("density"), item.value("colour"), item.value("colour", 3)), (1.5, None, 3))
        self.assertEqual(item.with_value("density", 2.0).values, (("material", "sand"), ("density", 2.0)))
        self.assertEqual(item.with_value("density", None).values, (("material", "sand"),))
        aside = replace(item, taken=False, origin="drawn")
        self.assertEqual(Item.from_json(aside.to_json()), aside)
        old = item.to_json()
        del old["taken"], old["origin"], old["values"]
        self.assertEqual(Item.from_json(old), replace(item, values=()))
        self.assertNotEqual(aside, replace(aside, origin=""), "where it came from makes another item")


class Fields(unittest.TestCase):
    def test_items_are_drawn_as_their_way_says(self):
        ways = tuple(fields.Way(kind[0], kind, kind, "") for kind in (fields.PLACES, fields.LINE, fields.RING))
        for asked, some, kind in (
            ("p", ways, fields.PLACES), ("l", ways, fields.LINE), ("r", ways, fields.RING), ("x", ways, fields.RING),
            ("", ways[:1], fields.RING), ("", (), fields.LINE),
        ):  # fmt: skip
            self.assertEqual(Field("F", "", kind=fields.LINE, ways=some).drawn_as(asked), kind)

    def test_defaults(self):
        plain = Field("A", "help")
        self.assertEqual(
            (plain.kind, plain.section, plain.rare, plain.show_only, plain.hidden, plain.when, plain.needed),
            (fields.TEXT, fields.HOW, False, False, False, None, ""),
        )
        for made, kind, section, default in (
            (fields.scope("a", "b"), fields.SCOPE, fields.COMPARED, Scope()),
            (fields.surface("a", "b"), fields.SURFACE, fields.AGAINST, Scope()),
            (fields.holding(fields.LINES, "a", "b"), fields.LINES, fields.WHERE, ""),
            (fields.drawn(fields.RING, "a", "b"), fields.RING, fields.WHERE, Drawn()),
            (fields.drawn(fields.LINE, "a", "b", section=fields.HOW), fields.LINE, fields.HOW, Drawn()),
            (fields.rings("a", "b"), fields.RINGS, fields.WHERE, ()),
            (fields.number("a", "b"), fields.NUMBER, fields.HOW, None),
            (fields.choice("a", "b", (("x", "X"), ("y", "Y"))), fields.CHOICE, fields.HOW, "x"),
            (fields.choice("a", "b", (("x", "X"), ("y", "Y")), default="y"), fields.CHOICE, fields.HOW, "y"),
            (fields.text("a", "b"), fields.TEXT, fields.HOW, ""),
            (fields.switch("a", "b"), fields.SWITCH, fields.HOW, False),
            (fields.switch("a", "b", True), fields.SWITCH, fields.HOW, True),
        ):
            about = made.metadata["setting"]
            self.assertEqual((about.kind, about.section, made.default), (kind, section, default), kind)
        self.assertEqual(fields.number("a", "b").metadata["setting"].unit, "length")

    def test_what_is_empty(self):
        for kind, empty, full in (
            (fields.SCOPE, Scope(classes=(2,)), Scope("c")), (fields.RING, Drawn(), Drawn(SQUARE)), (fields.TEXT, "", "x"),
            (fields.NUMBER, None, 0.0), (fields.RINGS, (), (Item("a", "A", Drawn()),)),
            (fields.RINGS, (Item("a", "A", Drawn(), taken=False),), (Item("a", "A", Drawn()),)),
        ):  # fmt: skip
            self.assertTrue(CODECS[kind].empty(empty), kind)
            self.assertFalse(CODECS[kind].empty(full), kind)
        self.assertFalse(CODECS[fields.SWITCH].empty(False))
        self.assertIs(CODECS[fields.SWITCH].read(1), True)
        self.assertEqual((CODECS[fields.NUMBER].read(3), CODECS[fields.NUMBER].read(None)), (3.0, None))


@dataclass(frozen=True)
class Asked(Setup):
    cloud: Scope = fields.scope("Cloud", "h", needed="Choose a cloud.")
    base: str = fields.choice("Base", "h", (("plane", "P"), ("surface", "S")))
    against: Scope = fields.surface("Surface", "h", needed="Choose a surface.", when=("base", ("surface",)))
    road: str = fields.holding(fields.ALIGNMENT, "Road", "h")
    toe: Drawn = fields.drawn(fields.RING, "Toe line", "h")
    axis: Drawn = fields.drawn(fields.LINE, "Axis", "h", flag="line")
    heaps: tuple[Item, ...] = fields.rings("Heaps", "h")
    cell: float | None = fields.number("Cell", "h", low=0.0, high=10.0)
    least: float = fields.number("Least", "h", default=0.0, low=0.0)
    looks: bool = fields.switch("Looks", "h", show_only=True)


class Setups(unittest.TestCase):
    def test_what_is_missing_depends_on_what_counts(self):
        self.assertEqual(Asked().missing(), ["Choose a cloud."])
        self.assertEqual(Asked(Scope("c")).missing(), [])
        self.assertEqual(Asked(Scope("c"), "surface").missing(), ["Choose a surface."])
        self.assertTrue(Asked(base="surface").counts("against"))
        self.assertFalse(Asked().counts("against"))
        with self.assertRaisesRegex(InputError, "Choose a cloud"):
            Asked().check()
        self.assertEqual(Asked.named(fields.SCOPE), ["cloud"])

    def test_checks(self):
        good = Asked(Scope("c"))
        good.check()
        for change, words in (
            ({"base": "x"}, "Base 'x' is not one of plane, surface"), ({"cell": 0.0}, "Cell: 0 must be above 0"),
            ({"cell": 10.1}, "at most 10"), ({"cell": np.inf}, "not a number"), ({"least": -1.0}, "above 0"),
            ({"toe": Drawn(SQUARE[:2])}, "^toe line: needs at least three"), ({"axis": Drawn(SQUARE[:1])}, "two places"),
            ({"axis": Drawn(((0.0, np.nan), (1.0, 1.0)))}, "two places"), ({"cloud": Scope("c", (256,))}, "0 to 255"),
            ({"cloud": Scope("c", (-1,))}, "0 to 255"), ({"heaps": (Item("a", "North", Drawn(SQUARE[:2])),)}, "^North: "),
        ):  # fmt: skip
            with self.assertRaisesRegex(InputError, words):
                replace(good, **change).check()
        for change in (
            {"cell": 10.0}, {"cell": 1e-9}, {"least": 0.0}, {"axis": Drawn(SQUARE[:2])}, {"cloud": Scope("c", (0, 255))},
            {"heaps": (Item("a", "North", Drawn(SQUARE[:2]), taken=False),)}, {"against": Scope("s", (999,))},
        ):  # fmt: skip
            replace(good, **change).check()

    def test_figures_depend_on_what_counts(self):
        one = Asked(Scope("c"))
        self.assertTrue(one.same_figures(replace(one, looks=True)))
        self.assertTrue(one.same_figures(replace(one, against=Scope("s"))))
        self.assertFalse(replace(one, base="surface").same_figures(replace(one, base="surface", against=Scope("s"))))
        self.assertFalse(one.same_figures(replace(one, cell=1.0)))

    def test_published_settings(self):
        area = Area((ring_of(SQUARE),), "in")
        full = Asked(Scope("c", (2,), within=(area,)), "surface", Scope("s", (6,)), "r", Drawn(SQUARE, (1.0, None, None, None)),
                     Drawn(SQUARE[:2]), (Item("a", "North", Drawn(SQUARE), (("density", 2.0),)),), 0.5)  # fmt: skip
        found = full.settings()
        self.assertEqual(
            (found["classes"], found["against_classes"], found["road"], found["cell"]), ([2], [6], "r", 0.5)
        )
        self.assertNotIn("against_part", found, "of the other side only what narrows it")
        self.assertEqual(
            (found["part"], found["line"], found["toe_z"]), ("", [[0, 0], [4, 0]], [1.0, None, None, None])
        )
        self.assertEqual(found["heaps"], [{"name": "North", "ring": [list(p) for p in SQUARE], "density": 2.0}])
        self.assertNotIn("holding", found)
        self.assertNotIn("line_z", found)
        self.assertEqual(Asked.from_json(full.to_json() | {"newer": 1}), full)

    def test_what_it_reads(self):
        full = Asked(Scope("c"), "plane", Scope("s"), "r")
        self.assertEqual(named_holdings(full), {"cloud": "c", "road": "r"})
        self.assertEqual(named_holdings(replace(full, base="surface")), {"cloud": "c", "against": "s", "road": "r"})
        self.assertEqual(
            (holding_of(full, "against"), holding_of(full, "road"), holding_of(Asked(), "road")), ("s", "r", "")
        )
        odd = Note("odd", "odd")
        known = {"c": Source("c", "Cloud", notes=(odd,)), "r": Source("r", "Road", kind=LINES, notes=(odd,)),
                 "s": Source("s", "Pad", kind=MODEL)}  # fmt: skip
        found = resolve(replace(full, base="surface"), known.get, FOOT)
        self.assertEqual((found.unit, set(found.items), found.stated), (FOOT, {"cloud", "against", "road"}, (odd,)))
        with self.assertRaisesRegex(InputError, "Road: what was chosen is no longer"):
            resolve(full, {"c": known["c"]}.get, METRE)
        with self.assertRaisesRegex(InputError, "Cloud: is no alignment"):
            resolve(full, {"c": known["c"], "r": known["c"]}.get, METRE)


class SourcesOfAll(unittest.TestCase):
    def test_each_kind(self):
        line = Alignment("A", 0.0, (straight(np.zeros(2), np.array([9.0, 0])),), ())
        one = LineSet((Line(np.zeros((2, 3)), False, "a"),), (line,))
        corners = np.array([[0.0, 0, 1], [4, 0, 1], [0, 3, 1]])
        mesh = TriangleMesh(corners, np.array([[0, 1, 2]], np.int32))
        things = {
            "one": Placed(LINES, one, local_grid(FOOT)), "none": Placed(LINES, replace(one, alignments=()), UNKNOWN),
            "two": Placed(LINES, replace(one, alignments=(line, line)), UNKNOWN), "pad": Placed(SURFACE, mesh, local_grid(METRE)),
            "spots": Placed(POINTS, SurveyPoints(corners, ("a", "b", "c"), ("",) * 3), UNKNOWN),
        }  # fmt: skip
        cloud = store_of(np.random.default_rng(1).uniform(0, 9, (50, 3)) + FAR)
        items = {
            name: Source(name, name.title(), kind=item.kind, load=lambda item=item: item)
            for name, item in things.items()
        }
        items["cloud"] = Source("cloud", "Cloud", "/a/b.laz", store=cloud)
        sources = Sources(METRE, items)
        self.assertIs(sources.alignment("one"), line)
        for name, words in (("none", "None: has no alignments"), ("two", "Two: has 2 alignments")):
            with self.assertRaisesRegex(InputError, words):
                sources.alignment(name)
        self.assertEqual((sources.lines("two").count, sources.points("spots").count), (1, 3))
        self.assertIs(sources.store("cloud"), cloud)
        self.assertIsInstance(sources.surface("cloud", Scope()), CloudTop)
        self.assertIsInstance(sources.surface("pad", Scope()), TinSurface)
        for call, name, words in (
            (sources.lines, "spots", "Spots: has no lines"), (sources.points, "one", "One: has no survey points"),
            (sources.store, "one", "One: is no cloud"), (sources.source, "the_other", "the other: nothing is chosen"),
            (sources.lines, "cloud", "Cloud: has no lines"), (sources.points, "cloud", "no survey points"),
        ):  # fmt: skip
            with self.assertRaisesRegex(InputError, words):
                call(name)
        self.assertEqual(sources.input("cloud", "compared"), Input("compared", "/a/b.laz", 50, 50))
        self.assertEqual(sources.input("spots", "points", 0, "x"), Input("points", "Spots", 3, 0, "x"))
        self.assertEqual((items["one"].reference.unit, items["cloud"].reference.unit), (FOOT, METRE))
        lone = Source("x", "X")
        self.assertEqual((lone.reference, lone.count, lone.item), (UNKNOWN, 0, None))


class Outcomes(unittest.TestCase):
    def test_defaults_and_look_up(self):
        plain = Outcome("s", "m", "", {}, {})
        self.assertFalse(plain.live)
        mesh = FoundMesh(np.zeros((3, 3)), np.array([[0, 1, 2]], np.int32))
        line = FoundLine(np.zeros((2, 3)))
        plain.layers = {"mesh": mesh, "line": line}
        self.assertIs(plain.mesh("mesh"), mesh)
        self.assertIs(plain.line("line"), line)
        self.assertIsNone(plain.mesh("line"))
        self.assertIsNone(plain.line("mesh"))
        self.assertIsNone(plain.value("net"))
        plain.figures = {"net": Figure(0.0, "m3", "Net", 0.0)}
        self.assertEqual(plain.value("net"), 0.0)
        plain.charts = [Plot("h", "bars", np.zeros(1), np.zeros(1))]
        self.assertEqual(plain.profiles, [])

    def test_all_of_it_comes_back(self):
        inner = Outcome("s", "ft", "EPSG:1", {"a": Figure(None, "ft", "A")}, {"x": [1]})
        full = Outcome(
            "s", "m", "EPSG:25830", {"net": Figure(1.5, "m3", "Net", 0.0, "n"), "out": Figure(None, "m", "Out")}, {"toe": [[1, 2]]},
            [Input("r", "p", 3, 2, "d")],
            {"t": Table("T", (Column("a", "m", "A"), Column("b"), Column("c"), Column("d")),
                        ((1.5, 2, "x", 1), (float("inf"), 2**62, None, 2))), "none": Table("E", (Column("a"),), ())},
            [Note("c", "w")], "m", {"l": FoundLine(np.ones((2, 3)), closed=True)}, [Plot("h", "bars", np.ones(2), np.zeros(2))],
            {"h": Attribute("H", "mesh", "line", "m")}, [], {"i": inner},
        )  # fmt: skip
        head, arrays = full.head()
        back = Outcome.of_head(head, arrays)
        self.assertEqual(back.to_json(), full.to_json())
        self.assertEqual(back.tables, full.tables)
        self.assertEqual([type(v) for v in back.tables["t"].rows[1]], [float, int, type(None), int])
        self.assertEqual(
            (back.figures, back.inputs, back.attributes, back.live), (full.figures, full.inputs, full.attributes, False)
        )
        self.assertEqual(back.items["i"].to_json(), inner.to_json())
        near(back.layers["l"].xyz, np.ones((2, 3)))
        self.assertTrue(back.layers["l"].closed)
        figures = full.to_json()["figures"]
        self.assertEqual(figures["net"], {"value": 1.5, "unit": "m3", "label": "Net", "u95": 0.0, "note": "n"})
        self.assertEqual(figures["out"], {"value": None, "unit": "m", "label": "Out"})

    def test_what_layers_are_by_themselves(self):
        xyz = np.zeros((2, 3))
        self.assertEqual((FoundPoints(xyz).role, FoundPoints(xyz).shown, FoundPoints(xyz).names), ("mark", True, ()))
        line, mesh = FoundLine(xyz), FoundMesh(xyz, np.zeros((0, 3), np.int32))
        self.assertEqual((line.role, line.closed, line.shown, line.gapped), ("edge", False, True, False))
        self.assertEqual((mesh.role, mesh.hatch, mesh.shown), ("top", False, True))
        self.assertEqual((FoundLabels(xyz, ("a", "b")).role, FoundLabels(xyz, ()).shown), ("label", True))
        self.assertEqual(
            (FoundDimensions(xyz[None], ("a",)).role, FoundDimensions(xyz[None], ()).shown), ("dimension", True)
        )


class Kinds(unittest.TestCase):
    def kind(self):
        shown = (FigureAbout("a", "A", "volume"), FigureAbout("b", "B", "area", (HEADLINE, REPORT), True, True))
        return StudyKind("k", "K", "how?", "g", "N", Asked, lambda *_: None, shown, "p", "e")

    def test_where_figures_stand(self):
        kind = self.kind()
        self.assertEqual(kind.headline.name, "b")
        self.assertEqual([f.name for f in kind.where(SHEET)], ["a"])
        self.assertEqual([f.name for f in kind.where(REPORT)], ["a", "b"])
        self.assertEqual((kind.page_each, kind.panes, kind.sheet), (False, ("plan",), ""))
        self.assertEqual(kind.setup_of({"cell": 2}).cell, 2.0)
        older = replace(kind, upgrade=lambda data: {"cell": data["width"]})
        self.assertEqual(older.setup_of({"width": 3}).cell, 3.0)

    def test_steps(self):
        grown = lambda setup, *_: replace(setup, cell=9.0)  # noqa: E731
        step = Step("s", "Grow", "h", "cell", grown, remark=lambda a, b, _: f"{a.cell} to {b.cell}")
        self.assertEqual(step.taken(Asked(cell=1.0), None, None), (Asked(cell=9.0), "1.0 to 9.0"))
        self.assertEqual(replace(step, remark=None).taken(Asked(cell=1.0), None, None), (Asked(cell=9.0), ""))
        self.assertEqual(step.lacks(Asked()), "Grow: there is nothing to change yet.")
        self.assertEqual(step.lacks(Asked(cell=1.0)), "")
        self.assertEqual(replace(step, fresh=True).lacks(Asked()), "")
        self.assertEqual(replace(step, field="cloud").lacks(Asked()), "Choose a cloud.")
        self.assertEqual((Option("o", "h").output, Option("o", "h").metavar), (True, "FILE"))


class Pictures(unittest.TestCase):
    PALETTE = {"mark": (1, 2, 3), "edge": (4, 5, 6), "top": (7, 8, 9), "base": (10, 11, 12), "gap": (13, 14, 15)}

    def scene(self, wanted=frozenset(), skip=frozenset(), **layers):
        scene = Scene()
        showing.put(scene, Outcome("s", "m", "", {}, {}, layers=layers), self.PALETTE, set(wanted), frozenset(skip))
        return scene

    def test_what_is_drawn(self):
        line, hidden = (
            FoundLine(np.ones((2, 3)), title="T", closed=True),
            FoundLine(np.ones((2, 3)), shown=False, title="H"),
        )
        self.assertEqual(len(self.scene(a=line, b=hidden).lines), 1)
        self.assertEqual(len(self.scene({"b"}, a=line, b=hidden).lines), 2)
        self.assertEqual(len(self.scene({"b"}, {"b", "a"}, a=line, b=hidden).lines), 0)
        self.assertEqual(showing.toggles(Outcome("s", "m", "", {}, {}, layers={"a": line, "b": hidden})), [("b", "H")])
        self.assertEqual(showing.toggles(None), [])
        drawn = self.scene(a=line).lines[0]
        self.assertEqual((drawn.colour, drawn.closed, drawn.title, drawn.dash), ((4, 5, 6), True, "T", ()))
        self.assertEqual(self.scene(a=replace(line, gapped=True)).lines[0].dash, (2.0, 3.0))
        self.assertEqual(self.scene(a=replace(line, role="unheard of")).lines[0].colour, (1, 2, 3))
        self.assertEqual(self.scene(a=FoundLine(np.empty((0, 3)))).lines, [])

    def test_meshes(self):
        mesh = FoundMesh(np.zeros((3, 3)), np.array([[0, 1, 2]], np.int32))
        for role, seen in (("top", (1.0, 0.0)), ("base", (0.85, 0.35)), ("gap", (0.75, 0.75))):
            found = self.scene(a=replace(mesh, role=role)).meshes[0]
            self.assertEqual((found.opacity, found.hidden, found.ramp), (*seen, ""), role)
        valued = self.scene(a=replace(mesh, values=np.array([-4.0, 1.0, 2.0]))).meshes[0]
        self.assertEqual(valued.ramp, SIGNED)
        near(valued.limits, [-np.percentile([4.0, 1, 2], 98), np.percentile([4.0, 1, 2], 98)])
        self.assertEqual(self.scene(a=replace(mesh, triangles=np.empty((0, 3), np.int32))).meshes, [])
        self.assertEqual(showing._even(None), (-1.0, 1.0))
        self.assertEqual(showing._even(np.array([np.nan, 0.0])), (-1.0, 1.0))
        self.assertEqual(showing._even(np.array([np.nan, -0.5])), (-0.5, 0.5))

    def test_marks(self):
        xyz = np.array([[0.0, 0, 0], [1, 1, 1], [2, 2, 2], [3, 3, 3]])
        plain = self.scene(a=FoundPoints(xyz, names=("a", "b", "c", "d"))).marks[0]
        np.testing.assert_array_equal(plain.colours, np.tile(np.array([1, 2, 3], np.uint8), (4, 1)))
        self.assertEqual((plain.marked, plain.texts), (True, ("a", "b", "c", "d")))
        inks = table(SIGNED)
        valued = self.scene(a=FoundPoints(xyz, values=np.array([-5.0, 5.0, np.nan, 0.0]))).marks[0]
        np.testing.assert_array_equal(valued.colours[:2], inks[[0, -1]])
        np.testing.assert_array_equal(valued.colours[2], valued.colours[3], "what has no value is drawn as zero is")
        np.testing.assert_array_equal(valued.colours[3], inks[(len(inks) - 1) // 2])
        self.assertFalse(self.scene(a=FoundLabels(xyz, ("a",) * 4)).marks[0].marked)
        ends = np.array([[[0.0, 0, 0], [2, 4, 6]]])
        measured = self.scene(a=FoundDimensions(ends, ("2 m",)))
        near(measured.marks[0].xyz, [[1, 2, 3]])
        self.assertEqual((measured.marks[0].marked, measured.lines[0].width), (False, 1.1))

    def test_bounds(self):
        layers = {
            "a": FoundLine(np.array([[0.0, 5, 1], [np.nan, 99, 99]])), "b": FoundMesh(np.array([[-1.0, 6, 2]]), np.zeros((0, 3))),
            "c": FoundDimensions(np.array([[[3.0, 0, 0], [1, 1, 9]]]), ("x",)), "d": FoundLabels(np.empty((0, 3)), ()),
        }  # fmt: skip
        near(showing.bounds_of(Outcome("s", "m", "", {}, {}, layers=layers)), [[-1, 0, 0], [3, 6, 9]])
        self.assertIsNone(showing.bounds_of(Outcome("s", "m", "", {}, {}, layers={"d": layers["d"]})))


class Cuts(unittest.TestCase):
    def test_along_another_line(self):
        corners = np.array([[0.0, 0, 0], [10, 0, 10], [10, 10, 30], [0, 10, 20]]) + FAR
        mesh = FoundMesh(corners, np.array([[0, 1, 2], [0, 2, 3]], np.int32))
        old = np.array([[1.0, 1], [9, 1]]) + FAR[:2]
        nothing = np.full(2, np.nan)
        chart = Profile(
            "P", old, np.zeros(2), (("Top", "top", nothing), ("Base", "base", nothing)), "axis", ("mesh", "none")
        )
        outcome = Outcome(
            "s", "m", "", {}, {}, layers={"mesh": mesh}, charts=[chart, Plot("h", "bars", nothing, nothing)]
        )
        cutter = Cutter(outcome)
        self.assertIs(cutter.charts(Asked())[0], chart, "no line is drawn")
        self.assertIs(cutter.charts(Asked(axis=Drawn.of(old)))[0], chart, "the line it was computed along")
        line = np.array([[2.0, 3], [5, 7]]) + FAR[:2]
        cut, other = cutter.charts(Asked(axis=Drawn.of(line)))
        self.assertIs(other, outcome.charts[1])
        self.assertEqual(len(cut.distance), SAMPLES)
        near(cut.distance[[0, -1]], [0.0, 5.0])
        near(np.diff(cut.distance), np.full(SAMPLES - 1, 5.0 / (SAMPLES - 1)))
        near(cut.top, FAR[2] + np.linspace(2 + 2 * 3, 5 + 2 * 7, SAMPLES), atol=1e-6)
        self.assertTrue(np.isnan(cut.base).all())
        self.assertEqual([(t, r) for t, r, _ in cut.traces], [("Top", "top"), ("Base", "base")])
        self.assertIs(cutter.charts(Asked(axis=Drawn.of(line)))[0], cut, "cut once")
        self.assertIsNot(cutter.charts(Asked(axis=Drawn.of(line + 1)))[0], cut)
        self.assertTrue(np.isnan(Profile("p", line, np.zeros(3), (("a", "top", np.zeros(3)),)).base).all())


class AttributesOfAll(unittest.TestCase):
    def test_heights_over_a_layer_inside_lines_and_not_in_holes(self):
        xy = np.stack(np.meshgrid(np.arange(0.25, 20, 0.5), np.arange(0.25, 10, 0.5)), -1).reshape(-1, 2)
        cloud = store_of(np.column_stack([xy, 5 + 0.0 * xy[:, 0]]) + FAR)
        corners = np.array([[0.0, 0, 1], [20, 0, 3], [20, 10, 3], [0, 10, 1]]) + FAR
        ring = lambda x, y, w, h: np.array([[x, y, 0.0], [x + w, y, 0], [x + w, y + h, 0], [x, y + h, 0]]) + FAR  # noqa: E731
        layers = {
            "base": FoundMesh(corners, np.array([[0, 1, 2], [0, 2, 3]], np.int32)),
            "heap 1": FoundLine(ring(1, 1, 6, 6), closed=True), "heap 2": FoundLine(ring(12, 2, 5, 5), closed=True),
            "heap open": FoundLine(ring(8, 1, 2, 2)), "hole 1": FoundLine(ring(2, 2, 2, 2), closed=True),
        }  # fmt: skip
        outcome = Outcome("s", "m", "", {}, {}, layers=layers)
        values = values_of(Attribute("H", "base", "heap", "m"), outcome, cloud)
        places = cloud.coordinates(slice(None)) - FAR
        x, y = places[:, 0], places[:, 1]
        inside = ((abs(x - 4) < 3) & (abs(y - 4) < 3)) | ((abs(x - 14.5) < 2.5) & (abs(y - 4.5) < 2.5))
        inside &= ~((abs(x - 3) < 1) & (abs(y - 3) < 1))
        np.testing.assert_array_equal(np.isfinite(values), inside)
        near(values[inside], (5 - (1 + x / 10))[inside], atol=1e-3)
        for attribute in (
            Attribute("H", "none", "heap", "m"),
            Attribute("H", "base", "ring", "m"),
            Attribute("H", "heap 1", "heap", "m"),
        ):
            self.assertIsNone(values_of(attribute, outcome, cloud))

    def test_just_outside_of_a_surface_the_nearest_place_on_its_line_counts(self):
        square = np.array([[0.0, 0, 0], [4, 0, 4], [4, 3, 4], [0, 3, 0]]) + FAR
        surface = triangulate(square)
        places = np.array([[2.0, 1], [5, 1], [-1, 2], [1, -2], [6, 9]]) + FAR[:2]
        near(elevations(surface, square, places) - FAR[2], [2, 4, 0, 1, 4], atol=1e-6)
