"""Many heaps at once: closed forms, correlated sums, matching by place, proposals under hard conditions, units, verb."""

import json
import sqlite3
import unittest
from dataclasses import replace

import numpy as np
import openpyxl
import shapely

from kerb.core.errors import InputError
from kerb.core.progress import silent
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.demo import yard
from kerb.report.text import write_figures
from kerb.studies.drawn import Drawn, Item
from kerb.studies.inventory.live import LiveYard
from kerb.studies.inventory.propose import proposals
from kerb.studies.inventory.run import follow, run
from kerb.studies.inventory.setup import InventorySetup, heap_setup
from kerb.studies.inventory.totals import Row, rows, total, without_change
from kerb.studies.outcome import Figure, Outcome, Table
from kerb.studies.parts import joined
from kerb.studies.scope import Scope
from kerb.studies.sources import Source, Sources
from kerb.studies.stockpile.figures import SHARED
from kerb.studies.stockpile.run import run as run_stockpile
from tests.support import FAR, YARD, CommandLine, Folder, circle, jittered, near, store_of

# A cone of radius 5 and height 4, and a frustum of radii 6 and 2, 3 high: πr²h/3 and πh/3 (R² + Rr + r²), any handbook.
CONE, FRUSTUM = np.pi * 25 * 4 / 3, np.pi * 3 / 3 * (36 + 12 + 4)
MIDDLES = ((-14.0, 0.0), (14.0, 2.0))


def yard_points(unit=METRE, tilt=0.0, gap=0.0, step=0.16, seed=3):
    """Two heaps on a sloping yard, 60 by 40 m."""
    xy = jittered(30, step, seed)
    xy = xy[np.abs(xy[:, 1]) < 20]
    cone = np.clip(5 - np.hypot(*(xy - MIDDLES[0]).T), 0, None) * 0.8
    frustum = np.clip((6 - np.hypot(*(xy - MIDDLES[1]).T)) / 4, 0, 1) * 3
    z = tilt * xy[:, 0] + np.maximum(cone, frustum) + np.random.default_rng(seed).normal(0, 0.01, len(xy))
    keep = np.ones(len(xy), bool) if not gap else np.hypot(*(xy - MIDDLES[1] - [1, 1]).T) > gap
    return (np.column_stack([xy, z])[keep] + FAR) / unit.metres


def toe(number, unit=METRE, grown=0.3):
    return (circle((5.0, 6.0)[number] + grown, 40) + np.array(MIDDLES[number]) + FAR[:2]) / unit.metres


def heaps(unit=METRE, **values):
    return tuple(
        Item(f"h{n}", name, Drawn.of(toe(n, unit)), (("material", material), ("density", density)))
        for n, (name, material, density) in enumerate((("Cone", "sand", 1.5), ("Frustum", "rock", 2.0)))
    )


def sources(store, unit=METRE, earlier=None):
    items = {"cloud": Source("cloud", "Now", store=store)}
    if earlier is not None:
        items["earlier"] = Source("earlier", "Then", store=earlier)
    return Sources(unit, items)


def asked(unit=METRE, **values):
    return InventorySetup(Scope("cloud"), **{"heaps": heaps(unit), **values})


class Truth(unittest.TestCase):
    def test_closed_forms_on_a_slope_in_every_unit(self):
        for unit, tilt in ((METRE, 0.0), (METRE, 0.04), (FOOT, 0.02), (US_SURVEY_FOOT, -0.03)):
            with self.subTest(f"{unit.code} {tilt}"):
                outcome = run(asked(unit), sources(store_of(yard_points(unit, tilt), unit), unit), silent())
                cubic = unit.metres**3
                nets = {row[0]: row for row in outcome.tables["heaps"].rows}
                for name, truth in (("Cone", CONE), ("Frustum", FRUSTUM)):
                    self.assertLess(abs(nets[name][2] * cubic - truth), nets[name][3] * cubic)
                    self.assertAlmostEqual(nets[name][2] * cubic / truth, 1.0, delta=0.01)
                whole = outcome.figures["total_net"]
                self.assertEqual(whole.unit, unit.volume_code())
                self.assertAlmostEqual(whole.value, sum(row[2] for row in nets.values()), places=9)
                mass = outcome.figures["total_mass"]
                self.assertAlmostEqual(mass.value / (CONE * 1.5 + FRUSTUM * 2.0), 1.0, delta=0.01)
                self.assertEqual(outcome.value("heaps"), 2)

    def test_each_heap_is_the_stockpile_study_of_it(self):
        store = store_of(yard_points(tilt=0.03, gap=1.2))
        setup = asked(base="plane", bias=0.02)
        outcome = run(setup, sources(store), silent())
        for item in setup.heaps:
            one = run_stockpile(heap_setup(setup, item), sources(store), silent())
            mine = outcome.items[item.name]
            self.assertEqual({k: f.value for k, f in mine.figures.items()}, {k: f.value for k, f in one.figures.items()})
            self.assertEqual(mine.figures["net"].u95, one.figures["net"].u95)
        self.assertTrue(any(note.text.startswith("Frustum: ") for note in outcome.warnings), "the gap is said of its heap")
        labels, tops = outcome.layers["labels"], [outcome.items[item.name].value("highest") for item in setup.heaps]
        near(labels.xyz[:, 2], tops, atol=0.05)
        self.assertTrue(all(layer.closed for name, layer in outcome.layers.items() if name.startswith("toe ")))
        table = outcome.tables["materials"]
        self.assertEqual([row[0] for row in table.rows], ["sand", "rock"])
        self.assertAlmostEqual(sum(row[2] for row in table.rows), outcome.value("total_net"), places=9)

    def test_what_is_not_taken_or_has_no_points_does_not_count(self):
        store = store_of(yard_points())
        first, second = heaps()
        only = run(asked(heaps=(replace(first, taken=False), second)), sources(store), silent())
        self.assertAlmostEqual(only.value("total_net") / FRUSTUM, 1.0, delta=0.01)
        away = replace(first, ring=Drawn.of(toe(0) + 500))
        part = run(asked(heaps=(away, second)), sources(store), silent())
        self.assertAlmostEqual(part.value("total_net"), only.value("total_net"), places=9)
        self.assertIn("total-part", [note.code for note in part.warnings])
        self.assertIsNone(part.tables["heaps"].rows[0][2])
        none = run(asked(heaps=(away,)), sources(store), silent())
        self.assertIsNone(none.value("total_net"))
        with self.assertRaises(InputError):
            run(asked(heaps=()), sources(store), silent())

    def test_live_follows_the_full_one(self):
        source = sources(store_of(yard_points()))
        setup = asked()
        whole, live = run(setup, source, silent()), LiveYard(setup, source)
        quick = live.answer(setup)
        self.assertTrue(quick.live)
        self.assertAlmostEqual(quick.value("total_net") / whole.value("total_net"), 1.0, delta=0.02)
        moved = replace(setup, heaps=(replace(setup.heaps[0], ring=Drawn.of(toe(0, grown=-1.0))), setup.heaps[1]))
        self.assertLess(live.answer(moved).value("total_net"), quick.value("total_net"))
        self.assertTrue(live.covers(moved))
        self.assertFalse(live.covers(replace(setup, cloud=Scope("cloud", classes=(2,)))))


class Sums(unittest.TestCase):
    """Independent parts by root sum of squares, the shared bias by plain addition (JCGM 100:2008, 5.1 and 5.2)."""

    def row(self, net, parts, mass=None, before=None, before_parts=None, kind="now", name="x"):
        return Row(name, "m", None, kind, {"net": net, "above": net, "below": 0.5, "mass": mass}, parts, before, "y",
                   before_parts or {})  # fmt: skip

    def test_by_simulation(self):
        """Ten thousand yards drawn with one bias for all heaps: the stated bound holds 95 % of them."""
        rng = np.random.default_rng(8)
        areas, own, bias = np.array([80.0, 150.0, 40.0, 220.0]), np.array([2.0, 5.0, 1.0, 6.0]), 0.05
        parts = [{"Sampling": 1.96 * s, "Vertical bias": 1.96 * bias * a} for s, a in zip(own, areas, strict=True)]
        errors = rng.normal(0, own, (10_000, 4)) + rng.normal(0, bias, (10_000, 1)) * areas
        self.assertAlmostEqual(float((np.abs(errors.sum(axis=1)) < joined(parts, SHARED)).mean()), 0.95, delta=0.01)
        without = np.sqrt(sum(v**2 for p in parts for v in p.values()))
        self.assertLess(float((np.abs(errors.sum(axis=1)) < without).mean()), 0.9, "by root sum of squares it would not")
        then = rng.normal(0, own, (10_000, 4)) + rng.normal(0, bias, (10_000, 1)) * areas
        found = [self.row(1.0, p, before=1.0, before_parts=p) for p in parts]
        change = (errors - then).sum(axis=1)
        self.assertAlmostEqual(float((np.abs(change) < total(found).change_u95).mean()), 0.95, delta=0.01)

    def test_rows_of_two_surveys(self):
        def outcome(net):
            table = Table("u", (), (("Sampling", 1.0, ""), ("Combined", 1.0, "")))
            return Outcome("s", "m", "", {"net": Figure(net, "m3", "Net")}, {"density": 1.5}, tables={"uncertainty": table})

        now = [(Item("a", "A", Drawn()), outcome(10.0)), (Item("b", "B", Drawn()), outcome(20.0))]
        then = [(Item("c", "C", Drawn()), outcome(4.0)), (Item("d", "D", Drawn()), outcome(6.0))]
        found = rows(now, then, {1: 0})
        self.assertEqual([(r.name, r.net, r.before, r.before_name, r.kind) for r in found],
                         [("A", 10.0, 0.0, "", "now"), ("B", 20.0, 4.0, "C", "now"), ("D", None, 6.0, "", "gone")])  # fmt: skip
        self.assertEqual([r.change for r in found], [10.0, 16.0, -6.0])
        self.assertEqual(found[1].parts, {"Sampling": 1.0})
        self.assertEqual([r.before for r in rows(now, [], {})], [None, None])
        self.assertEqual(total(found).change, 20.0)
        # An earlier heap that is gone and had no figure: what changed on the yard cannot be told.
        gone = rows(now, [then[0], (then[1][0], outcome(None))], {1: 0})
        self.assertIsNone(total(gone).change)
        self.assertEqual(without_change(gone), ["D"])
        self.assertEqual(without_change(rows(now, [], {})), [])


class Matching(unittest.TestCase):
    def test_change_between_two_surveys(self):
        """The cone was taken away by half its height, the frustum is new."""
        now, then = yard_points(), yard_points(seed=5)
        near = np.hypot(*(then[:, :2] - FAR[:2] - MIDDLES[1]).T) < 8
        then[near, 2] = FAR[2]
        setup = asked(earlier=Scope("earlier"), earlier_heaps=(heaps()[0],))
        outcome = run(setup, sources(store_of(now), earlier=store_of(then)), silent())
        table = outcome.tables["heaps"]
        place = {column.name: n for n, column in enumerate(table.columns)}
        cone, frustum = table.rows
        self.assertAlmostEqual(cone[place["change"]], 0.0, delta=cone[place["change_u95"]])
        self.assertAlmostEqual(frustum[place["change"]], frustum[place["net"]])
        self.assertEqual((cone[place["state"]], frustum[place["state"]]), ("", "new"))
        self.assertAlmostEqual(outcome.value("change"), cone[place["change"]] + frustum[place["change"]])
        # What counts of the earlier cloud is chosen by itself: sheets lay over its heaps then.
        sheet = then[np.hypot(*(then[:, :2] - FAR[:2] - MIDDLES[0]).T) < 4] + [0, 0, 0.4]
        classes = np.repeat([2, 6], [len(then), len(sheet)]).astype(np.uint8)
        bare = replace(setup, earlier=Scope("earlier", classes=(2,)))
        covered = sources(store_of(now), earlier=store_of(np.vstack([then, sheet]), classes=classes))
        (row, _) = run(bare, covered, silent()).tables["heaps"].rows
        self.assertAlmostEqual(row[place["change"]], cone[place["change"]], delta=0.5)
        self.assertGreater(run(setup, covered, silent()).tables["heaps"].rows[0][place["before"]], row[place["before"]] + 5)
        gone = run(replace(setup, heaps=(heaps()[1],)), sources(store_of(now), earlier=store_of(then)), silent())
        self.assertEqual([row[0] for row in gone.tables["heaps"].rows], ["Frustum", "Cone"])
        self.assertEqual(gone.tables["heaps"].rows[1][place["state"]], "gone")
        later = follow(setup, "next")
        self.assertEqual((later.cloud.holding, later.earlier.holding, later.heaps), ("next", "cloud", ()))
        self.assertEqual([item.name for item in later.earlier_heaps], ["Cone", "Frustum"])


class Proposals(unittest.TestCase):
    def found(self, points, least=(0.8, 12.0), unit=METRE):
        return proposals(Scope().of(store_of(points, unit)), least, unit, silent())

    def test_on_a_slope_in_every_unit(self):
        for unit, tilt in ((METRE, 0.0), (METRE, 0.08), (US_SURVEY_FOOT, 0.03)):
            least = (0.8 / unit.metres, 12 / unit.metres**2)
            shapes = self.found(yard_points(unit, tilt, step=0.25), least, unit)
            self.assertEqual(len(shapes), 2, (unit.code, tilt))
            for n, radius in ((0, 5.0), (1, 6.0)):
                middle = shapely.Point((FAR[:2] + MIDDLES[n]) / unit.metres)
                mine = next(shape for shape in shapes if shape.contains(middle))
                self.assertAlmostEqual(np.sqrt(mine.area / np.pi) * unit.metres, radius, delta=0.85, msg="within about a cell")

    def test_touching_heaps_are_parted_along_the_valley(self):
        xy = jittered(24, 0.25)
        tops = np.array([[-5.0, 0.0], [4.0, 0.0]])
        z = np.max([np.clip(6 - np.hypot(*(xy - top).T), 0, None) * 0.75 for top in tops], axis=0)
        shapes = self.found(np.column_stack([xy, z]) + FAR)
        self.assertEqual(len(shapes), 2)
        self.assertLess(shapes[0].intersection(shapes[1]).area, 0.5)
        for top in tops:
            self.assertEqual(sum(shape.contains(shapely.Point(top + FAR[:2])) for shape in shapes), 1)
        valley = shapely.LineString([[-0.5 + FAR[0], FAR[1] - 3], [-0.5 + FAR[0], FAR[1] + 3]])
        self.assertLess(max(shape.boundary.distance(shapely.Point(-0.5 + FAR[0], FAR[1])) for shape in shapes), 0.8)
        self.assertTrue(all(shape.boundary.distance(valley) < 0.8 for shape in shapes))

    def test_strays_holes_and_walls_make_no_heaps(self):
        points = yard_points(step=0.25)
        rng = np.random.default_rng(0)
        below, above = rng.choice(len(points), 30, False), rng.choice(len(points), 10, False)
        points[below, 2] -= 4.0
        points[above, 2] += 6.0
        local = points[:, :2] - FAR[:2]
        points[(np.abs(local[:, 0]) < 1.5) & (np.abs(local[:, 1]) < 8), 2] += 5.0  # a building
        points = points[np.hypot(*(local - [0, -15]).T) > 3]  # a hole in the data
        shapes = self.found(points)
        self.assertEqual(len(shapes), 2)
        for n in (0, 1):
            self.assertEqual(sum(s.contains(shapely.Point(FAR[:2] + MIDDLES[n])) for s in shapes), 1)


class Verb(CommandLine):
    def setUp(self):
        super().setUp()
        rings = [heap.toe(24, 0.4) for heap in yard.HEAPS[:2]]
        self.toes = self.folder / "heaps.geojson"
        self.toes.write_text(json.dumps({
            "type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::25830"}},
            "features": [
                {"type": "Feature", "properties": {"name": heap.name, "material": heap.material, "density": heap.density},
                 "geometry": {"type": "Polygon", "coordinates": [[*ring.tolist(), ring[0].tolist()]]}}
                for heap, ring in zip(yard.HEAPS[:2], rings, strict=True)
            ],
        }))  # fmt: skip

    def test_figures_tables_and_files(self):
        out, pdf = self.folder / "figures.gpkg", self.folder / "yard.pdf"
        found = self.json("inventory", YARD, "--toes", self.toes, "--classes", "2", "--out", out, "--report", pdf)
        truth = yard.HEAPS[0].volume + yard.HEAPS[1].volume
        self.assertLess(abs(found["figures"]["total_net"]["value"] - truth), found["figures"]["total_net"]["u95"])
        self.assertAlmostEqual(found["figures"]["total_above"]["value"] / truth, 1.0, delta=0.02)
        self.assertEqual([row[0] for row in found["tables"]["heaps"]["rows"]], [h.name for h in yard.HEAPS[:2]])
        masses = sum(h.volume * h.density for h in yard.HEAPS[:2])
        self.assertAlmostEqual(found["figures"]["total_mass"]["value"] / masses, 1.0, delta=0.02)
        with sqlite3.connect(out) as base:
            layer = base.execute("select table_name from gpkg_contents").fetchone()[0]
            kept = base.execute(f'select name, net, material from "{layer}"').fetchall()
        base.close()
        self.assertEqual([row[0] for row in kept], [h.name for h in yard.HEAPS[:2]])
        self.assertAlmostEqual(sum(row[1] for row in kept), found["figures"]["total_net"]["value"], places=6)
        self.assertTrue(pdf.read_bytes().startswith(b"%PDF"))
        status, _ = self.kerb("inventory", YARD, "--toes", self.toes, "--out", out)
        self.assertEqual(status, 2)
        self.assertIn("--force", self.error)

    def test_proposed_without_lines(self):
        status, text = self.kerb("inventory", YARD, "--propose", "--classes", "2")
        self.assertEqual(status, 0, self.error)
        self.assertIn("Net volume of all heaps", text)
        status, _ = self.kerb("inventory", YARD)
        self.assertEqual(status, 2)
        self.assertRegex(self.error, "toes|line round each heap|propose")

    def test_change_since_an_earlier_survey(self):
        found = self.json(
            "inventory", YARD, "--toes", self.toes, "--classes", "2", "--earlier", YARD, "--earlier-toes", self.toes
        )
        self.assertAlmostEqual(found["figures"]["change"]["value"], 0.0, delta=found["figures"]["change"]["u95"] + 20)


class Files(Folder):
    def test_csv_and_workbook(self):
        outcome = run(asked(), sources(store_of(yard_points(step=0.3))), silent())
        for name in ("one.csv", "one.xlsx"):
            write_figures([("Yard", outcome)], self.folder / name)
        text = (self.folder / "one.csv").read_text(encoding="utf-8")
        self.assertIn("Net volume of all heaps", text)
        self.assertIn("Frustum", text)
        book = openpyxl.load_workbook(self.folder / "one.xlsx")
        cells = [cell for sheet in book for row in sheet.iter_rows(values_only=True) for cell in row]
        near = [c for c in cells if isinstance(c, float) and abs(c - outcome.value("total_net")) < 1e-9]
        self.assertTrue(near, "to the last digit but one, as the format writes them")
        self.assertIn("Frustum", cells)
