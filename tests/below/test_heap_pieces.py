"""Pieces of the stockpile by hand and against twins: figures, notes at their limits, slopes, profiles, parts of the bound."""

import unittest
from dataclasses import replace
from types import SimpleNamespace as Some
from unittest import mock

import numpy as np
import scipy
import shapely

from kerb.core.cloud.filters import Filter
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import plane, polygon
from kerb.core.geometry.area import Area, ring_of
from kerb.core.progress import Progress, silent
from kerb.core.reference import from_text, local_grid
from kerb.core.sorting import spread_by_cells
from kerb.core.surface.along import Filling, outwards
from kerb.core.surface.grid import HeightGrid
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.surface.toe import ACROSS_STEP, GROUND, NO_POINTS, NOT_GROUND, TYPED, Toe
from kerb.core.surface.volume import Volume, between
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.studies.drawn import Drawn
from kerb.studies.outcome import Figure
from kerb.studies.parts import Part, combined
from kerb.studies.scope import Scope
from kerb.studies.sources import Source, Sources
from kerb.studies.stockpile import drawing, figures, heap, live, notes, profiles, pull, run, shape, uncertainty
from kerb.studies.stockpile.heap import Ground, shape_heap
from kerb.studies.stockpile.kind import STOCKPILE, describe
from kerb.studies.stockpile.measured import Measured
from kerb.studies.stockpile.second_way import _window, volume_by_grid
from kerb.studies.stockpile.setup import StockpileSetup, upgraded
from kerb.studies.stockpile.shape import Slopes
from tests.support import FAR, circle, jittered, near, store_of

SQUARE = np.array([[-4.0, -3], [4, -3], [4, 3], [-4, 3]])


def ground_of(height, unit=METRE, half=9.0, step=0.25, at=FAR):
    """Points in a lattice, their heights given, in a unit."""
    side = np.arange(-half, half + step / 2, step) + step / 7
    xy = np.stack(np.meshgrid(side, side), -1).reshape(-1, 2)
    return Ground((np.column_stack([xy, height(xy)]) + at) / unit.metres, step / unit.metres, unit)


def roof(xy):
    """A roof of 6 by 8 and 2 high over level ground: 1.5 wide slopes to a ridge."""
    return np.clip(2 * (1 - np.abs(xy[:, 1]) / 3), 0, None) * (np.abs(xy[:, 0]) < 4.01)


def heap_of(height=roof, ring=SQUARE, unit=METRE, **values):
    ring = (np.asarray(ring) + FAR[:2]) / unit.metres
    values = {"base": "level", "level": FAR[2] / unit.metres} | values
    setup = StockpileSetup(Scope("cloud"), toe=Drawn.of(ring), **values)
    return shape_heap(ground_of(height, unit), setup, None, silent()), setup


def toe_of(kind, base=None, ring=None):
    ring = circle(5, len(kind)) + FAR[:2] if ring is None else ring
    base = np.full(len(kind), FAR[2]) if base is None else base
    return Toe(
        ring,
        base,
        base + 1,
        np.array(kind),
        np.arange(len(kind)),
        Filling(ring, np.ones(len(kind), bool), np.zeros(len(kind), bool)),
        base,
    )


class Figures(unittest.TestCase):
    def test_each_in_its_unit(self):
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            made, setup = heap_of(unit=unit, density=1.6)
            volume, second = Volume(100.0, 4.0, 40.0, 8.0, 48.0), Volume(99.0, 5.0, 40.0, 8.0, 48.0)
            gap = np.zeros(len(made.top.triangles), bool)
            gap[[3, 8]] = True
            found = Measured(
                made,
                volume,
                second,
                0.5,
                0.01,
                gap,
                1.5,
                (55.0, "so"),
                Slopes(33.0, 41.0, 1.234),
                [Part("a", 3.0, ""), Part("b", 4.0, "")],
            )
            all_ = figures.worded(found, setup)
            m = unit.metres
            per = 1.6 * m**3
            heights = made.top.points[:, 2] - FAR[2] / m
            for name, value, code, u95, note in (
                ("above", 100.0, unit.volume_code(), 5.0, ""), ("below", 4.0, unit.volume_code(), None, ""),
                ("net", 96.0, unit.volume_code(), 5.0, "above minus below"), ("surface_area", 55.0, unit.area_code(), None, "so"),
                ("plan_area", made.top.plan_area, unit.area_code(), None, ""), ("check_net", 94.0, unit.volume_code(), None, "cells of 0.5"),
                ("highest", made.inside[:, 2].max(), unit.code, None, "elevation"), ("height", heights.max(), unit.code, None, ""),
                ("mean_slope", 33.0, "deg", None, "over stretches of 1.2"), ("steepest_slope", 41.0, "deg", None, "over stretches of 1.2"),
                ("gap_area", made.top.plan_areas[gap].sum(), unit.area_code(), None, "interpolated"),
                ("check_percent", 100 * (94 - 96) / 96, "%", None, ""), ("mass", 96 * per, "t", 5 * per, "net times density"),
            ):  # fmt: skip
                figure = all_[name]
                self.assertAlmostEqual(figure.value, value, places=9, msg=name)
                self.assertEqual((figure.unit, figure.note, figure.label), (code, note, figures.LABELS[name]), name)
                self.assertEqual(figure.u95 is None, u95 is None, name)
                self.assertAlmostEqual(figure.u95 or 0, u95 or 0, places=9, msg=name)
            bare = figures.worded(replace(found, volume=replace(volume, above=4.0)), replace(setup, density=None))
            self.assertEqual(
                (bare["check_percent"].value, bare["mass"].value, bare["mass"].note), (None, None, "no density given")
            )
            self.assertEqual(
                {n: (f.value, f.unit) for n, f in figures.none(unit, setup).items()},
                {n: (None, all_[n].unit) for n in all_},
            )
        self.assertEqual(figures.units(METRE, replace(setup, density_unit="ton/yd3"))["mass"], "ton")

    def test_tables(self):
        made, _ = heap_of()
        toe = replace(
            made.toe, kind=np.resize(np.array([GROUND, ACROSS_STEP, TYPED, NO_POINTS, NOT_GROUND]), len(made.toe.kind))
        )
        found = Some(heap=replace(made, toe=toe), parts=[Part("a", 3.0, "x"), Part("b", 4.0, "y")])
        tables = figures.tables(found, FOOT)
        self.assertEqual(
            tables["uncertainty"].rows,
            (("a", 3.0, "x"), ("b", 4.0, "y"), ("Combined", 5.0, "root sum of squares, k = 1.96")),
        )
        self.assertEqual([c.unit for c in tables["uncertainty"].columns], ["", "ft3", ""])
        rows = tables["toe"].rows
        self.assertEqual([row[0] for row in rows], [1, 2, 3, 4])
        near([row[1:3] for row in rows], SQUARE + FAR[:2])
        i = toe.vertices
        near([row[3:5] for row in rows], np.column_stack([toe.base[i], toe.top[i]]))
        self.assertEqual([row[5] for row in rows], [figures.KINDS[int(k)] for k in toe.kind[i]])

    def test_beside_the_figure(self):
        self.assertEqual(
            describe({"density": 1.6, "density_unit": "t/m3", "material": "sand"}, None), ["at 1.6 t/m³", "sand"]
        )
        self.assertEqual(describe({}, None), [])
        then = STOCKPILE.follow(StockpileSetup(Scope("a", (2,), "p"), toe=Drawn.of(SQUARE)), "b")
        self.assertEqual((then.cloud, then.toe), (Scope("b", (2,)), Drawn.of(SQUARE)))

    def test_setups_of_the_first_weeks(self):
        old = {"cloud": "c", "classes": [2], "part": "p", "toe": [[0, 0], [1, 0], [1, 1]], "toe_z": [None, 2.0, None],
               "base_surface": "s", "density": 2.0}  # fmt: skip
        made = STOCKPILE.setup_of(old)
        self.assertEqual((made.cloud, made.surface, made.density), (Scope("c", (2,), "p"), Scope("s"), 2.0))
        self.assertEqual((made.toe.xy[2], made.toe.z), ((1.0, 1.0), (None, 2.0, None)))
        self.assertEqual(upgraded({"cloud": {"holding": "c"}}), {"cloud": {"holding": "c"}})
        with self.assertRaises(InputError):
            StockpileSetup(Scope("c"), toe=Drawn.of(SQUARE), density_unit="kg").check()


class Notes(unittest.TestCase):
    def found(self, **values):
        made, _ = heap_of()
        usual = {
            "heap": made,
            "volume": Volume(100.0, 0.0, 48, 0, 48),
            "second": Volume(100.0, 0.0, 48, 0, 48),
            "gap_area": 0.0,
        }
        return Some(**usual | values)

    def test_two_ways(self):
        for second, said in ((100.99, False), (101.0, True), (99.01, False), (99.0, True)):
            notes_ = notes._two_ways(self.found(second=Volume(second, 0, 48, 0, 48)))
            self.assertEqual(bool(notes_), said, second)
        self.assertEqual(notes_[0].text, "The two ways of computing differ by −1.0 %.")
        pit = self.found(volume=Volume(0, 100.0, 0, 48, 48), second=Volume(0, 98.0, 0, 48, 48))
        self.assertIn("+2.0 %", notes._two_ways(pit)[0].text, "less of a pit is more")
        self.assertEqual(notes._two_ways(self.found(volume=Volume(5, 5, 1, 1, 2))), [])

    def test_gaps(self):
        self.assertEqual(notes._gaps(self.found(gap_area=0.25**2), METRE), [])
        self.assertEqual(len(notes._gaps(self.found(gap_area=0.25**2 + 1e-9), METRE)), 1)
        text = notes._gaps(self.found(gap_area=4.8), METRE)[0].text
        self.assertTrue(text.startswith("4.8\u00a0m² inside the toe (10.0 %) has no points"), text)

    def codes(self, toe, base="toe", unit=METRE):
        return {note.code: note.text for note in notes._toe(toe, StockpileSetup(base=base), unit)}

    def test_the_toe_line(self):
        kinds = [GROUND] * 5 + [ACROSS_STEP] * 2 + [NOT_GROUND] * 4 + [NO_POINTS] * 6 + [TYPED] * 3
        found = self.codes(toe_of(kinds))
        for code, share in (("toe-step", 10), ("toe-not-ground", 20), ("toe-gaps", 30), ("toe-typed", 15)):
            self.assertTrue(found[code].startswith(f"{share} % of the toe"), found[code])
        rare = self.codes(toe_of([GROUND] * 196 + [ACROSS_STEP, NOT_GROUND, NO_POINTS, TYPED]))
        self.assertEqual(
            set(rare), {"toe-step", "toe-not-ground", "toe-gaps", "toe-typed"}, "half a percent is said too"
        )
        for base in ("level", "surface"):
            self.assertEqual(self.codes(toe_of(kinds), base), {})
        self.assertEqual(self.codes(toe_of([GROUND] * 20)), {})
        for off, said in ((0.99, False), (1.05, True)):
            base = np.full(24, FAR[2]) + 0.1 * np.cos(np.arange(24) * np.pi / 12)
            base[::2] += off / 2
            base[1::2] -= off / 2
            toe = toe_of([GROUND] * 24, base)
            self.assertEqual("toe-uneven" in self.codes(toe), said, off)
            single = np.full(24, FAR[2])
            single[5] += 0.56 * off
            self.assertEqual("toe-uneven" in self.codes(toe_of([GROUND] * 24, single)), said, "one place alone")
            self.assertEqual(
                "toe-uneven" in self.codes(replace(toe, base=base / 0.3048, xy=toe.xy / 0.3048), unit=FOOT), said
            )
            self.assertNotIn("toe-uneven", self.codes(toe, "plane"))

    def sides(self, **values):
        return {note.code: note.text for note in notes._sides(self.found(**values), METRE)}

    def test_below_rough_and_strays(self):
        self.assertEqual(self.sides(), {})
        self.assertNotIn("below", self.sides(volume=Volume(100.0, 1.0, 40, 8, 48)))
        self.assertIn("1.0\u00a0m³ of the top lies below", self.sides(volume=Volume(100.0, 1.01, 40, 8, 48))["below"])
        self.assertNotIn("below", self.sides(volume=Volume(0.0, 5.0, 0, 48, 48)), "a pit is not warned of")
        made, _ = heap_of()
        area = made.top.plan_area
        for rough, said in ((0.0019 * area, False), (0.0053 * area, True)):
            with mock.patch.object(shape, "rough_area", return_value=rough):
                self.assertEqual("rough" in self.sides(), said, rough)
        dense = replace(made, ground=replace(made.ground, spacing=0.05))
        for rough, said in ((0.0019 * area, False), (0.0021 * area, True)):
            with mock.patch.object(shape, "rough_area", return_value=rough):
                self.assertEqual("rough" in self.sides(heap=dense), said, rough)
        for height, said in ((0.59, False), (0.61, True)):
            with mock.patch.object(shape, "stray_height", return_value=height):
                self.assertEqual("stray" in self.sides(), said)
        strays = np.array([[0.0, 0, 9], [20, 0, -3]]) + FAR
        marked = replace(made, ground=replace(made.ground, strays=strays))
        text = self.sides(heap=marked)["stray"]
        self.assertTrue(text.startswith("2 stray points (1 inside the toe, the furthest 7.0"), text)
        self.assertIn("above the rest) were left out", text)
        one = self.sides(heap=replace(made, ground=replace(made.ground, strays=strays[1:])))["stray"]
        self.assertTrue(
            one.startswith("1 stray point (0 inside the toe, the furthest 3.0") and "below the rest) was left" in one,
            one,
        )

    def test_base_surface(self):
        setup = StockpileSetup(base="surface")
        made, _ = heap_of()
        whole = made.top.plan_area
        for area, said in ((0.9991 * whole, False), (0.9989 * whole, True)):
            self.assertEqual(bool(notes._base_surface(self.found(volume=Volume(1, 0, 1, 0, area)), setup, METRE)), said)
            self.assertEqual(
                notes._base_surface(self.found(volume=Volume(1, 0, 1, 0, area)), StockpileSetup(), METRE), []
            )

    def test_outdated_attributes_and_withheld_points(self):
        only = (Filter("height", 0.0, 9.0), Filter("rough", 0.0, 9.0), Filter("off", 0.0, 9.0, on=False))
        cloud = Some(outdated=lambda name: name != "rough", names=["withheld"], column=lambda _: np.array([0, 1, 1, 0]))
        found = notes._outdated(StockpileSetup(Scope("c", only=only)), cloud)
        self.assertEqual([note.text.split("'")[1] for note in found], ["height"])
        self.assertEqual(
            [note.text for note in notes._withheld(cloud)],
            ["2 points of the cloud are marked as withheld and do not count."],
        )
        self.assertEqual(notes._withheld(Some(names=["withheld"], column=lambda _: np.zeros(3))), [])
        self.assertEqual(notes._withheld(Some(names=[])), [])

    def test_references(self):
        utm = from_text("EPSG:25830")
        self.assertEqual(
            [n.code for n in notes.reference_notes(replace(local_grid(METRE), certainty="assumed"))], ["crs-missing"]
        )
        self.assertEqual([n.code for n in notes.reference_notes(utm)], [])
        self.assertEqual([n.code for n in notes.reference_notes(replace(utm, vertical_unit=FOOT))], ["unit-conflict"])
        cloud = store_of(np.random.default_rng(1).uniform(0, 9, (300, 3)) + FAR)
        self.assertIsNone(notes.no_volume(cloud))
        cloud.reference = from_text("EPSG:4978")
        self.assertEqual(notes.no_volume(cloud).code, "geocentric")
        cloud.reference = from_text("EPSG:4326")
        self.assertEqual(notes.no_volume(cloud).code, "degrees")
        cloud.reference = utm
        base = store_of(np.random.default_rng(1).uniform(0, 9, (300, 3)) + FAR)
        base.reference = from_text("EPSG:32630")
        sources = Sources(METRE, {"cloud": Source("c", "C", store=cloud), "surface": Source("s", "S", store=base)})
        codes = lambda setup: [note.code for note in notes.of_inputs(setup, sources)]  # noqa: E731
        self.assertEqual(codes(StockpileSetup(base="surface")), ["crs-conflict", "bias"])
        self.assertEqual(codes(StockpileSetup(base="surface", bias=0.1)), ["crs-conflict"])
        self.assertEqual(codes(StockpileSetup()), [])
        base.reference = utm
        self.assertEqual(codes(StockpileSetup(base="surface", bias=0.1)), [])


class Shapes(unittest.TestCase):
    def test_slopes_of_a_roof(self):
        made, _ = heap_of()
        found = shape.slopes(made)
        self.assertAlmostEqual(found.length, np.sqrt(48) / 8, delta=1e-6)
        hill, _ = heap_of(lambda xy: np.clip(3 - 0.5 * np.hypot(*xy.T), 0, None), circle(6.2, 40))
        cone = shape.slopes(hill)
        self.assertAlmostEqual(cone.steepest, np.degrees(np.arctan(0.5)), delta=2.5)
        self.assertAlmostEqual(cone.mean, np.degrees(np.arctan(0.5)), delta=1.5)
        self.assertGreater(cone.steepest, cone.mean)
        flat, _ = heap_of(lambda xy: np.zeros(len(xy)))
        self.assertEqual(shape.slopes(flat).mean is None or shape.slopes(flat).mean < 1e-6, True)
        fine, _ = heap_of(ring=SQUARE)
        dense = replace(fine, ground=replace(fine.ground, spacing=0.001))
        self.assertAlmostEqual(shape.slopes(dense).length, np.sqrt(fine.top.plan_area) / 60)
        middle = replace(fine, ground=replace(fine.ground, spacing=0.05))
        self.assertAlmostEqual(shape.slopes(middle).length, 0.4)

    def test_slopes_against_a_twin(self):
        rng = np.random.default_rng(3)
        bumpy = lambda xy: roof(xy) + 0.1 * np.sin(3 * xy[:, 0]) + 0.0 * rng.random()  # noqa: E731
        for spacing in (0.25, 0.05, 0.01):
            made, _ = heap_of(bumpy)
            made = replace(made, ground=replace(made.ground, spacing=spacing))
            size = np.sqrt(made.top.plan_area)
            length = min(max(8 * spacing, size / 60), size / 8)
            grid, share = shape.heap_grid(made, length / 2)
            north, east = np.gradient(grid.z, length / 2)
            steep = np.degrees(np.arctan(np.sqrt(north**2 + east**2)))
            whole = share > 0.999
            height = np.where(whole, grid.z - FAR[2], np.nan)
            inner = whole.copy()
            for axis in (0, 1):
                for way in (-1, 1):
                    inner &= np.roll(whole, way, axis)
            with np.errstate(invalid="ignore"):
                side = inner & np.isfinite(steep) & (np.abs(height) > 0.1 * np.nanmax(np.abs(height)))
            flank = steep[side & (steep >= np.percentile(steep[side], 75) / 3)]
            found = shape.slopes(made)
            near([found.mean, found.steepest, found.length], [flank.mean(), flank.max(), length], atol=1e-9)

    def test_area_along_the_surface(self):
        made, _ = heap_of()
        area, how = shape.surface_area(made, 0.03 * 0.25)
        self.assertEqual((area, how), (made.top.surface_area, "through every point"))
        area, how = shape.surface_area(made, 0.0301 * 0.25)
        self.assertEqual(how, "over cell means of 1")
        grid, share = shape.heap_grid(made, 1.0)
        dy, dx = np.gradient(grid.z, 1.0)
        stretch = np.sqrt(1 + dx**2 + dy**2)
        good = (share > 0) & np.isfinite(stretch)
        self.assertAlmostEqual(
            area, (share * np.where(good, stretch, 0)).sum() * made.top.plan_area / share[good].sum(), places=9
        )
        finer = replace(made, ground=replace(made.ground, spacing=0.1))
        area, how = shape.surface_area(finer, 1.0)
        small, part = shape.heap_grid(finer, 0.4)
        dy, dx = np.gradient(small.z, 0.4)
        whole = (part * np.sqrt(1 + dx**2 + dy**2))[part > 0].sum() / part.sum()
        self.assertAlmostEqual(area, whole * made.top.plan_area, places=6)
        self.assertAlmostEqual(part.sum() * 0.16, 48.0, places=6)
        self.assertEqual(how, "over cell means of 0.4")
        self.assertAlmostEqual(share.sum(), 48.0, places=6)
        near(grid.low, SQUARE.min(axis=0) - 2 + FAR[:2])
        self.assertEqual(grid.shape, (int(np.ceil(10.0)) + 1, 13))

    def test_gaps_rough_places_and_strays(self):
        made, _ = heap_of()
        np.testing.assert_array_equal(shape.gap_triangles(made.top, 0.3), made.top.longest_edges > 0.3)
        self.assertEqual(shape.rough_area(made), 0.0)
        scattered = made.inside.copy()
        key = np.floor((scattered[:, :2] - SQUARE.min(axis=0) - FAR[:2]) / 1.0).astype(int)
        for cell, up in (((2, 1), 2.4), ((5, 3), 2.0), ((3, 4), -2.9)):
            mine = np.flatnonzero((key == cell).all(axis=1))
            level = scattered[mine, 2]
            scattered[mine[0], 2] = (level.max() if up < 0 else level.min()) + up
        # Over a cell of one a scatter of 0.3 m and twice its width is allowed.
        self.assertAlmostEqual(shape.rough_area(replace(made, inside=scattered)), 2.0)
        self.assertEqual(shape.stray_height(made), 0.0)
        top = made.inside[np.argmax(made.inside[:, 2])]
        high = np.vstack([made.inside, top + [0, 0, 4.0]])
        near_by = high[np.hypot(*(high[:, :2] - top[:2]).T) < 1.5]
        self.assertAlmostEqual(
            shape.stray_height(replace(made, inside=high)), top[2] + 4 - np.percentile(near_by[:, 2], 90) - 1.5
        )
        self.assertEqual(shape.stray_height(replace(made, inside=high[-3:])), 0.0, "too few to tell")


class Spread(unittest.TestCase):
    def test_heights_by_cells_by_brute_force(self):
        """Where cells are few, and where a stray ten thousand kilometres off makes them too many to count one by one."""
        points = np.random.default_rng(1).uniform(0, 30, (4000, 3)) * [1, 0.4, 1] + FAR
        for away, room in ((0.0, (0, 0)), (1e7, (0, 0)), (0.0, (4.0, 90.0))):
            some = np.vstack([points, FAR + [away, away, 5.0]])
            low = some[:, :2].min(axis=0) - room
            which, lowest, highest, many = spread_by_cells(some, low, 1.5)
            cells, wanted = np.unique(np.floor((some[:, :2] - low) / 1.5), axis=0, return_inverse=True)
            held = np.unique(which).astype(int)
            self.assertEqual((len(held), int(many.sum()), int((many > 0).sum())), (len(cells), len(some), len(cells)))
            for number, cell in enumerate(held):
                z = some[which == cell, 2]
                np.testing.assert_array_equal(wanted.ravel() == number, which == cell)
                self.assertEqual((lowest[cell], highest[cell], many[cell]), (z.min(), z.max(), len(z)))


class Profiles(unittest.TestCase):
    def test_axes(self):
        long, short = profiles.axes(SQUARE + FAR[:2])
        near(np.sort(long[:, 0]) - FAR[0], [-8 * 0.58, 8 * 0.58])
        near(long[:, 1] - FAR[1], [0, 0], atol=1e-6)
        near(np.sort(short[:, 1]) - FAR[1], [-6 * 0.58, 6 * 0.58])
        tall, _ = profiles.axes(SQUARE[:, ::-1][::-1] + FAR[:2])
        near(np.sort(tall[:, 1]) - FAR[1], [-8 * 0.58, 8 * 0.58])

    def test_top_base_and_what_lies_beside(self):
        made, setup = heap_of(lambda xy: roof(xy) + 0.1 * (np.abs(xy[:, 0]) > 4.2))
        line = np.array([[-6.0, 0.1], [6, 0.1]]) + FAR[:2]
        found = profiles.profile(made, lambda xy: np.full(len(xy), FAR[2] - 1), line, "length_profile")
        self.assertEqual(
            (found.field, found.title, len(found.distance)), ("length_profile", "Length profile", profiles.SAMPLES)
        )
        near(found.distance[[0, 1, -1]], [0, 12 / 399, 12], atol=1e-9)
        x = found.distance - 6
        inside = np.abs(x) < 4
        np.testing.assert_array_equal(np.isfinite(found.base), inside)
        near(found.base[inside], np.full(inside.sum(), FAR[2] - 1))
        near(found.top[np.abs(x) < 3.7] - FAR[2], np.full((np.abs(x) < 3.7).sum(), 2 * (1 - 0.1 / 3)), atol=0.04)
        near(found.top[np.abs(x) > 5] - FAR[2], np.full((np.abs(x) > 5).sum(), 0.1), atol=1e-9)
        asked = []
        with mock.patch.object(
            profiles, "_along", side_effect=lambda _, line, reach: asked.append(reach) or np.full(400, 7.0)
        ):
            out = profiles.profile(made, lambda xy: np.zeros(len(xy)), line, "width_profile")
        self.assertEqual((asked, out.title), ([0.5], "Width profile"))
        near(out.top[np.abs(x) > 4.1], np.full((np.abs(x) > 4.1).sum(), 7.0))
        own = replace(setup, width_profile=Drawn.of(line))
        both, moved = (
            [make() for make in profiles.across(made, lambda xy: np.zeros(len(xy)), one)] for one in (setup, own)
        )
        self.assertEqual([p.field for p in both], ["length_profile", "width_profile"])
        near(moved[1].line, line)
        near(moved[0].line, both[0].line)

    def test_medians_along(self):
        points = (
            np.array(
                [[1.0, 0.1, 5], [1.05, -0.1, 7], [1.1, 0.3, 99], [3, 0, 4], [-0.3, 0, 2], [-0.6, 0, 50], [4.4, 0.1, 8]]
            )
            + FAR
        )
        made = Some(ground=Some(points=points))
        found = profiles._along(made, np.array([[0.0, 0], [4, 0]]) + FAR[:2], 0.25) - FAR[2]
        at = np.linspace(0, 4, 400)
        self.assertTrue(np.isnan(found[np.abs(at - 2) < 0.5]).all())
        near(found[np.argmin(np.abs(at - 1.02))], 6)
        near(found[np.argmin(np.abs(at - 3.2))], 4)
        self.assertTrue(np.isnan(found[0]) and np.isnan(found[-1]), "a quarter beside and beyond is near, no more")


class Bound(unittest.TestCase):
    def test_noise_bias_and_gaps(self):
        made, setup = heap_of()
        area, n = made.top.plan_area, len(made.inside)
        self.assertAlmostEqual(uncertainty._noise(made, 0.02, 0.0).u95, 1.96 * 0.02 * area / np.sqrt(n))
        shared = uncertainty._noise(made, 0.02, 0.4)
        self.assertAlmostEqual(shared.u95, 1.96 * 0.02 * area / np.sqrt(n / (1 + 0.4 * 15)))
        self.assertIn("0.02 m (1σ), 40%", shared.how)
        lone = replace(made, inside=made.inside[:3])
        self.assertAlmostEqual(uncertainty._noise(lone, 0.02, 1.0).u95, 1.96 * 0.02 * area)
        for base, bias in (("level", 0.3 * area), ("surface", 0.3 * area), ("toe", 0), ("plane", 0), ("lowest", 0)):
            self.assertAlmostEqual(uncertainty._bias(made, replace(setup, base=base, bias=0.3)).u95, bias)
        gaps = np.array([[2.0, 0.5], [3.0, 1.0]])
        self.assertAlmostEqual(uncertainty._gaps(gaps).u95, 1.96 * (0.5 + 1.5) / np.sqrt(3))
        self.assertEqual((uncertainty._gaps(gaps[:0]).u95, uncertainty._gaps(gaps[:0]).how), (0.0, "no gaps"))
        names = [p.name for p in uncertainty.parts(made, setup, run._wide_grid(made, 0.5), (0.02, 0.0), gaps)]
        self.assertEqual(
            names, ["Vertical noise", "Vertical bias", "Toe position", "Base under the heap", "Interpolated gaps"]
        )

    def test_toe_position(self):
        made, setup = heap_of(toe_error=0.4)
        grid = run._wide_grid(made, 0.5)
        holes = [np.array([[0.2, 0], [0, 1], [1, 1], [1, 0.0]]) + at for at in ([1.0, 1.0], [3.0, 2.0])]
        plate = HeightGrid(np.zeros(2), 0.5, np.ones((20, 20)), np.ones((20, 20), np.int64))
        ring = np.array([[0.3, 0.3], [8, 0.3], [8, 6.1], [0.3, 6.1]])
        self.assertAlmostEqual(
            uncertainty._column_sum(2 * plate.z, plate, ring, Area((ring_of(ring / 2), *map(ring_of, holes)))),
            2 * (7.7 * 5.8 - sum(abs(polygon.area(hole)) for hole in holes)),
        )
        part = uncertainty._toe_position(made, setup, grid)
        height = grid.z - FAR[2]
        normal = outwards(made.ring)
        rng = np.random.default_rng(1)
        share = lambda ring: Area((ring_of(ring),)).coverage(grid.low, grid.cell, grid.shape)  # noqa: E731
        here = (share(made.ring) * height).sum() * 0.25
        changes = []
        seen = made.toe.seen[made.toe.vertices]
        self.assertTrue(seen.any())
        for _ in range(60):
            by = rng.normal(0, 0.4 / 1.96, 4)
            by = np.where(seen, by, -np.abs(by))
            changes.append((share(made.ring + normal * by[:, None]) * height).sum() * 0.25 - here)
        self.assertAlmostEqual(part.u95, 1.96 * np.sqrt(np.mean(np.square(changes))), places=6)
        self.assertIn("60 lines whose vertices lie elsewhere by 0.4 m (95 %)", part.how)
        self.assertAlmostEqual(uncertainty.toe_error(replace(setup, toe_error=None), made), 0.75)

    def test_base_under_the_heap(self):
        made, setup = heap_of()
        for base in ("level", "lowest", "surface"):
            self.assertEqual(uncertainty._base_model(made, replace(setup, base=base)).u95, 0.0)
        toe = replace(setup, base="toe")
        stands = replace(made, base=heap.make_base(toe, made.toe, made.ring, None))
        part = uncertainty._base_model(stands, toe)
        weights = uncertainty._weights(stands.base, made.toe.xy)
        self.assertAlmostEqual(weights.sum(), 1.0)
        thirds = np.zeros(len(stands.base.vertices))
        for triangle, area in zip(stands.base.triangles, stands.base.plan_areas, strict=True):
            thirds[triangle] += area / 3
        order = scipy.spatial.cKDTree(stands.base.points[:, :2]).query(made.toe.xy)[1]
        near(weights, thirds[order] / thirds[order].sum())
        seen = made.toe.seen
        known = made.toe.filling.adjoint(weights)[seen]
        samples = np.column_stack([made.toe.xy, made.toe.read])[seen]
        wanted = uncertainty.mean_error(
            *uncertainty.thinned(samples, known / known.sum()), uncertainty.spread_over(made.area)
        )
        self.assertAlmostEqual(part.u95, wanted.u95 * 48, places=6)
        side = replace(
            stands, toe=replace(made.toe, kind=np.where(made.toe.xy[:, 1] < FAR[1] - 2.9, GROUND, NOT_GROUND))
        )
        one = uncertainty._base_model(side, toe)
        row = side.toe.seen
        known = side.toe.filling.adjoint(weights)[row]
        middle = (known / known.sum()) @ side.toe.xy[row]
        away = np.hypot(*(middle - FAR[:2]))
        uneven = np.std(side.toe.read[row])
        self.assertAlmostEqual(one.u95, np.hypot(0.025 * away, 1.96 * uneven) * 48, places=4)
        self.assertIn("one side only: a cross fall of 2.5% over", one.how)

    def test_weights_of_a_plane_and_places_over_an_area(self):
        xy, seen = circle(5, 8), np.arange(8) != 3
        weights = uncertainty.plane_weights(xy, seen, np.array([1.0, 0.5]))
        z = 2 + 0.3 * xy[:, 0] - 0.1 * xy[:, 1]
        self.assertAlmostEqual(weights @ z, 2 + 0.3 - 0.05)
        self.assertEqual(weights[3], 0.0)
        self.assertAlmostEqual(weights.sum(), 1.0)
        area = Area((ring_of(SQUARE), ring_of(SQUARE * 0.25)))
        places = uncertainty.spread_over(area)
        self.assertTrue(area.contains(places).all())
        self.assertAlmostEqual(len(places), 150, delta=12)
        step = np.sqrt(45 / 150)
        near(places[0], [-4 + step / 2, -3 + step / 2], atol=1e-9)
        near(places.mean(axis=0), [0, 0], atol=0.3)
        self.assertAlmostEqual(len(uncertainty.spread_over(area, 20)), 20, delta=6)
        sliver = Area((ring_of([[0, 0], [9, 0.001], [9, 0.002]]),))
        near(uncertainty.spread_over(sliver, 1), [sliver.middle])

    def test_noise_of_points(self):
        rng = np.random.default_rng(5)
        xy = jittered(6, 0.2, 3)
        z = 0.2 * xy[:, 0] + rng.normal(0, 0.02, len(xy))
        made = Some(inside=np.column_stack([xy, z]) + FAR, ring=SQUARE * 1.5 + FAR[:2], ground=Some(spacing=0.2))
        sigma, together = uncertainty.point_noise(made)
        self.assertAlmostEqual(sigma, 0.02, delta=0.0006)
        self.assertLess(together, 0.12)
        cells = np.floor((made.inside[:, :2] - made.ring.min(axis=0)) / 1.2).astype(int)
        spreads, close, apart = [], [], []
        groups = {}
        for k, cell in enumerate(map(tuple, cells)):
            groups.setdefault(cell, []).append(k)
        chosen = [groups[cell] for cell in sorted(groups) if len(groups[cell]) >= 6]
        for group in chosen[:: max(1, len(chosen) // 400)]:
            points = made.inside[group]
            fit = plane.fit(points)
            spreads.append(fit.residual_rms * np.sqrt(len(group) / (len(group) - 3)))
            rest = points[:, 2] - fit.at(points[:, :2])
            for i in range(len(group)):
                for j in range(i + 1, len(group)):
                    away = np.hypot(*(points[i, :2] - points[j, :2]))
                    half = 0.5 * (rest[i] - rest[j]) ** 2
                    if away < 0.2:
                        close.append(half)
                    if away > 0.5:
                        apart.append(half)
        wanted = np.clip(1 - np.mean(close) / np.mean(apart) - 0.1, 0, 1)
        near([sigma, together], [np.median(spreads), wanted], atol=1e-9)
        five = np.vstack([made.inside[groups[cell]] for cell in sorted(groups) if len(groups[cell]) >= 6][:5])
        self.assertGreater(uncertainty.point_noise(Some(inside=five, ring=made.ring, ground=made.ground))[0], 0)
        few = Some(inside=made.inside[:20], ring=made.ring, ground=made.ground)
        self.assertEqual(uncertainty.point_noise(few), (0.0, 1.0))
        self.assertAlmostEqual(combined([Part("a", 2.0, ""), Part("b", 3.0, ""), Part("c", 6.0, "")]), 7.0)


class Geometry(unittest.TestCase):
    def test_how_the_line_is_looked_at(self):
        for unit in (METRE, FOOT):
            m = unit.metres
            setup = StockpileSetup()
            fine = heap.search_of(setup, 0.02 / m, unit, 10 / m)
            near(
                [fine.radius * m, fine.step * m, fine.jump * m, fine.slack * m, fine.width * m],
                [0.15, 0.3, 0.3, 0.2, 0.3],
            )
            wide = heap.search_of(setup, 0.3 / m, unit, 1000 / m)
            near(
                [wide.radius * m, wide.step * m, wide.jump * m, wide.slack * m, wide.width * m],
                [1.5, 1000 / 240, 0.6, 0.9, 1.5],
            )
            self.assertEqual(heap.line_error(replace(setup, toe_error=0.7), 0.3, unit), 0.7)
        self.assertEqual(heap.search_of(StockpileSetup(toe_error=0.0), 0.3, METRE).slack, 0.0)
        self.assertEqual(
            heap.search_of(StockpileSetup(), 0.3, METRE).step, 3.0, "twice the radius where no length is said"
        )
        self.assertEqual(Ground(np.zeros((4, 3)), 1.0, METRE).strays.shape, (0, 3))

    def test_what_is_gathered(self):
        ground = ground_of(roof, half=14.0)
        cloud = store_of(ground.points)
        setup = StockpileSetup(Scope("cloud"), toe=Drawn.of(SQUARE + FAR[:2]))
        found = heap.gather(cloud, setup, METRE, silent())
        outer = polygon.offset(setup.ring(), 2 * heap.search_of(setup, cloud.spacing, METRE).reach)[0]
        wanted = shapely.contains_xy(shapely.Polygon(outer), ground.points[:, :2])
        self.assertAlmostEqual(len(found.points), wanted.sum(), delta=6)
        self.assertEqual(len(found.strays), 0)
        wild = ground.points.copy()
        middle = int(np.argmin(np.hypot(*(wild[:, :2] - FAR[:2] - 1.3).T)))
        wild[middle, 2] -= 50
        strayed = store_of(wild)
        left = heap.gather(strayed, setup, METRE, silent())
        counted = heap.gather(strayed, replace(setup, strays="counted"), METRE, silent())
        self.assertEqual((len(left.strays), len(left.points)), (1, len(counted.points) - 1))
        self.assertEqual(len(counted.strays), 0)
        near(left.strays, wild[[middle]], atol=1e-3)
        with self.assertRaisesRegex(NotDeterminable, "no points lie in or near"):
            heap.gather(cloud, replace(setup, toe=Drawn.of(SQUARE + FAR[:2] + 900)), METRE, silent())

    def test_spacing_where_points_are(self):
        xy = jittered(10, 0.2, 1)
        points = np.column_stack([xy, 0 * xy[:, 0]])
        self.assertAlmostEqual(heap.local_spacing(points, SQUARE * 2.5, 9.0), 0.2, delta=0.01)
        cell = 4 * np.sqrt(300 / len(points))
        touched = {tuple(key) for key in np.floor((points[:, :2] - [-10, -7.5]) / cell).astype(int).tolist()}
        self.assertAlmostEqual(
            heap.local_spacing(points, SQUARE * 2.5, 9.0), np.sqrt(len(touched) * cell**2 / len(points)), places=12
        )
        half = points[points[:, 0] < 0]
        self.assertAlmostEqual(heap.local_spacing(half, SQUARE * 2.5, 9.0), 0.2, delta=0.02)
        self.assertEqual(heap.local_spacing(points, np.zeros((3, 2)), 9.0), 9.0)

    def test_bases(self):
        made, setup = heap_of(lambda xy: roof(xy) + 0.05 * xy[:, 0])
        toe = made.toe
        at = lambda base, x: base.at(np.array([[x, 0.0]]) + FAR[:2])[0] - FAR[2]  # noqa: E731
        make = lambda **values: heap.make_base(replace(setup, **values), toe, made.ring, None)  # noqa: E731
        self.assertAlmostEqual(at(make(base="toe"), 2), 0.1, delta=0.02)
        self.assertAlmostEqual(at(make(base="plane"), 2), 0.1, delta=0.02)
        self.assertAlmostEqual(at(make(base="level", level=7.0), 2) + FAR[2], 7.0)
        low = at(make(base="lowest"), 2)
        self.assertAlmostEqual(low, np.maximum(toe.base, np.roll(toe.base, 1)).min() - FAR[2])
        stands = make(base="toe")
        self.assertEqual(len(stands.vertices), len(toe.xy), "through the samples of the line and nothing else")
        with self.assertRaisesRegex(InputError, "surface to stand on"):
            make(base="surface")
        asked = []

        def cut(low, high):
            asked.append((low, high))
            return triangulate(np.column_stack([SQUARE * 2, np.zeros(4)]) + FAR)

        heap.surface_under(Some(tin=cut), made.ring)
        near(asked[0], SQUARE[[0, 2]] + FAR[:2])
        with self.assertRaisesRegex(NotDeterminable, "does not reach under"):
            heap.surface_under(Some(tin=cut), made.ring + 50)
        self.assertEqual(heap.lowest_toe(Some(base=np.array([5.0, 1, 6, 3, 2]))), 3.0, "one low sample is none")

    def test_near_the_line(self):
        ring = SQUARE + FAR[:2]
        points = np.array([[0.0, 0, 0], [3.5, 0, 0], [4.5, 0, 0], [5.5, 0, 0], [0, 2.2, 0], [0, 1.8, 0]]) + FAR
        self.assertEqual(heap._within_reach(ring, 1.0, points).tolist(), [False, True, True, False, True, False])
        line = np.array([[0.0, 0, 1], [3, 0, 4], [3, 4, 0]])
        finer = heap._finer(line, 1.5)
        near(finer, [[0, 0, 1], [1.5, 0, 2.5], [3, 0, 4], [3, 4 / 3, 8 / 3], [3, 8 / 3, 4 / 3], [3, 4, 0],
                     [2.25, 3, 0.25], [1.5, 2, 0.5], [0.75, 1, 0.75]])  # fmt: skip

    def test_too_few_points_and_no_ground(self):
        setup = StockpileSetup(Scope("cloud"), toe=Drawn.of(SQUARE + FAR[:2]))
        ground = ground_of(roof)
        inside = setup.area().contains(ground.points)
        for n in (9, 10):
            some = replace(ground, points=np.vstack([ground.points[inside][:n], ground.points[~inside]]))
            if n == 9:
                with self.assertRaisesRegex(NotDeterminable, "only 9 points lie inside the toe line, 10 are needed"):
                    shape_heap(some, setup, None, silent())
            else:
                self.assertEqual(len(shape_heap(some, setup, None, silent()).inside), 10)
        alone = replace(ground, points=np.vstack([ground.points[inside][300:312]]))
        with self.assertRaises(NotDeterminable):
            shape_heap(alone, setup, None, silent())
        level = shape_heap(alone, replace(setup, base="level", level=FAR[2]), None, silent())
        self.assertEqual(set(level.toe.kind.tolist()), {NO_POINTS})
        near(level.toe.base, np.full(len(level.toe.base), np.median(alone.points[:, 2])))

    def test_progress_of_shaping(self):
        heard = []
        setup = StockpileSetup(Scope("cloud"), toe=Drawn.of(SQUARE + FAR[:2]))
        shape_heap(ground_of(roof), setup, None, Progress(lambda share, _: heard.append(share)))
        self.assertEqual(heard, [0.1, 0.2, 0.8])

    def test_a_hole_has_the_height_of_what_is_round_it(self):
        ground = ground_of(lambda xy: 0.5 * xy[:, 0])
        hole = SQUARE * 0.3 + FAR[:2]
        rim = heap._rim(hole, ground.points, 0.5)
        near(rim[:, 2], FAR[2] + 0.5 * (rim[:, 0] - FAR[0]), atol=1e-3)
        self.assertEqual(len(rim), len(polygon.along(hole, 0.5)))
        with self.assertRaisesRegex(NotDeterminable, "beside a hole"):
            heap._rim(hole + 50, ground.points, 0.5)

    def test_by_grid(self):
        made, _ = heap_of()
        grid, _ = shape.heap_grid(made, 0.5)
        found = volume_by_grid(grid, made.area, made.base)
        share = made.area.coverage(grid.low, 0.5, grid.shape)
        height = np.where(share > 0, grid.z - FAR[2], 0)
        self.assertAlmostEqual(found.net, (share * height).sum() * 0.25, places=6)
        self.assertAlmostEqual(found.net, 48.0, delta=0.5)
        self.assertAlmostEqual(found.area, 48.0, places=6)
        tin = triangulate(np.column_stack([SQUARE, np.zeros(4)]) + FAR)
        self.assertAlmostEqual(volume_by_grid(grid, made.area, tin).net, found.net, places=6)
        self.assertAlmostEqual(between(made.top, made.base).net, 48.0, delta=0.5)

    def test_the_window_of_a_grid_under_a_line(self):
        grid = HeightGrid(np.array([100.0, 200.0]), 0.5, np.zeros((10, 12)), np.zeros((10, 12), int))
        ring = np.array([[101.1, 200.6], [102.9, 200.7], [102.0, 202.4]])
        self.assertEqual(_window(grid, ring), (slice(1, 5), slice(2, 6)))
        self.assertEqual(_window(grid, ring - [2, 1]), (slice(0, 3), slice(0, 2)))

    def test_what_is_drawn(self):
        toe = toe_of([GROUND, GROUND, NOT_GROUND, GROUND, GROUND, GROUND], np.arange(6.0))
        layers = drawing.toe_lines(toe, [toe.xy[:3] * 1.0 + 0.01])
        self.assertEqual(list(layers), ["toe", "hole 1", "unseen 1"])
        near(layers["hole 1"].xyz[:, 2], [0, 1, 2])
        near(layers["unseen 1"].xyz[:, 2], [1, 2, 3])
        self.assertTrue(layers["unseen 1"].gapped and layers["toe"].closed and layers["hole 1"].closed)
        area = Area((ring_of(SQUARE + FAR[:2]), ring_of(SQUARE * 0.25 + FAR[:2])))
        base = drawing.base_mesh(plane.level(7.0), area)
        self.assertAlmostEqual(Tin.of(base.vertices, base.triangles).plan_area, 45.0, places=6)
        near(base.vertices[:, 2], np.full(len(base.vertices), 7.0))
        self.assertFalse(base.shown)
        made, _ = heap_of()
        gap = np.zeros(len(made.top.triangles), bool)
        meshes = drawing.top_meshes(made.top, gap)
        self.assertEqual((len(meshes["gaps"].triangles), meshes["gaps"].hatch, meshes["top"].shown), (0, True, False))
        gap[:3] = True
        self.assertEqual(len(drawing.top_meshes(made.top, gap)["gaps"].triangles), 3)

    def test_settings_that_were_taken(self):
        made, setup = heap_of()
        used = run.settings_used(setup, 0.5, 1.5, 0.75)
        self.assertEqual((used["cell"], used["gap_edge"], used["toe_error"]), (0.5, 1.5, 0.75))
        own = run.settings_used(replace(setup, cell=0.1, gap_edge=0.2, toe_error=0.3))
        self.assertEqual((own["cell"], own["gap_edge"], own["toe_error"]), (0.1, 0.2, 0.3))
        found = run.measure(made, setup, silent())
        self.assertEqual((found.cell, found.gap_edge), (0.5, 1.5))
        self.assertAlmostEqual(found.volume.net, between(made.top, made.base).net, places=9)
        asked = run.measure(made, replace(setup, cell=0.4, gap_edge=0.3), silent())
        self.assertEqual((asked.cell, asked.gap_edge), (0.4, 0.3))
        np.testing.assert_array_equal(asked.gap, made.top.longest_edges > 0.3)
        self.assertAlmostEqual(asked.gap_area, made.top.plan_areas[asked.gap].sum())
        table = run._gap_table(made.top, asked.gap)
        corners = made.top.vertices[made.top.triangles[asked.gap], 2]
        near(table, np.column_stack([made.top.plan_areas[asked.gap], corners.max(axis=1) - corners.min(axis=1)]))
        self.assertEqual(run._gap_table(made.top, asked.gap & False).shape, (0, 2))
        wide = run._wide_grid(made, 0.5)
        near(wide.low, made.ground.points[:, :2].min(axis=0) - 0.5)
        self.assertTrue(np.isfinite(wide.z).all())


class Moving(unittest.TestCase):
    def setUp(self):
        ground = ground_of(roof, half=14.0)
        self.cloud = store_of(ground.points)
        self.sources = Sources(METRE, {"cloud": Source("c", "C", store=self.cloud)})
        self.setup = StockpileSetup(
            Scope("cloud"), toe=Drawn.of(SQUARE * 1.05 + FAR[:2]), base="level", level=FAR[2], density=2.0
        )

    def test_the_live_answer(self):
        yard = live.LiveHeap(self.setup, self.sources)
        found = yard.answer(self.setup)
        self.assertAlmostEqual(found.value("net"), 48.0, delta=1.0)
        self.assertAlmostEqual(found.value("mass"), 2 * found.value("net"))
        self.assertEqual(
            (found.figures["net"].unit, found.figures["mass"].unit, found.figures["plan_area"].unit), ("m3", "t", "m2")
        )
        self.assertAlmostEqual(found.value("plan_area"), 48 * 1.05**2, places=6)
        self.assertTrue(found.live)
        self.assertEqual((found.attributes["over"].over, "base" in found.layers), ("base", True))
        self.assertNotIn("mass", yard.answer(replace(self.setup, density=None)).figures)
        grown = yard.region - FAR[:2]
        near(np.abs(grown).max(axis=0), np.array([4.2, 3.15]) + 0.35 * np.sqrt(48) * 1.05, atol=1e-6)
        self.assertTrue(yard.covers(replace(self.setup, toe=Drawn.of(SQUARE * 1.3 + FAR[:2]))))
        self.assertFalse(yard.covers(replace(self.setup, toe=Drawn.of(SQUARE * 2.0 + FAR[:2]))))
        self.assertFalse(yard.covers(replace(self.setup, cloud=Scope("cloud", (2,)))))
        self.assertFalse(yard.covers(replace(self.setup, surface=Scope("s"))))
        self.assertFalse(yard.covers(replace(self.setup, toe=Drawn.of(SQUARE[:2] + FAR[:2]))))
        self.assertAlmostEqual(yard.grid.cell, 2 * yard.ground.spacing)
        with mock.patch.object(live, "LIVE_CELLS", 100):
            self.assertAlmostEqual(
                live._live_grid(yard.ground, yard.region).cell, np.sqrt(shapely.Polygon(grown).area / 100), places=5
            )

    def test_pulling(self):
        yard = live.LiveHeap(self.setup, self.sources)
        with self.assertRaisesRegex(NotDeterminable, "reaches out of the data"):
            yard.pulled_toe(replace(self.setup, toe=Drawn.of(SQUARE * 2.0 + FAR[:2])), 0.5)
        asked = []
        with mock.patch.object(
            live, "pulled", side_effect=lambda grid, ring, reach: asked.append((grid, reach)) or ring
        ):
            yard.pulled_toe(self.setup, 0.1)
            yard.pulled_toe(self.setup, 12.0)
        cell = 2 * yard.ground.spacing
        near([asked[0][0].cell, asked[0][1]], [cell, 5 * cell])
        near([asked[1][0].cell, asked[1][1]], [1.0, 12.0])
        self.assertTrue(np.isfinite(asked[0][0].z).all())
        with mock.patch.object(pull.LiveHeap, "pulled_toe", side_effect=lambda _, reach: asked.append(reach) or SQUARE):
            heard = []
            made = pull.pull(self.setup, self.sources, Progress(lambda share, _: heard.append(share)))
            self.assertEqual(heard, [0.1, 0.6])
        self.assertAlmostEqual(asked[-1], 0.08 * 8 * 1.05)
        near(made.toe.places, SQUARE)

    def test_whether_a_line_is_less_sure(self):
        for was, now, said in (
            (10.0, 10.49, False),
            (10.0, 1.05 * 10.0, False),
            (10.0, 10.51, True),
            (None, 5.0, False),
            (5.0, None, False),
        ):
            with mock.patch.object(pull, "bound_of", side_effect=[was, now]):
                words = pull.wider(self.setup, self.setup, self.sources)
            self.assertEqual(bool(words), said, (was, now))
            if said:
                self.assertIn("from ± 10.0", words.replace("10.00", "10.0"))
        ground = live.LiveHeap(self.setup, self.sources).ground
        seen = []

        def shaped(some, *_):
            seen.append(some)
            raise NotDeterminable("enough")

        with mock.patch.object(pull, "shape_heap", shaped), mock.patch.object(pull, "BOUND_POINTS", 1000):
            self.assertIsNone(pull.bound_of(ground, self.setup, self.sources))
        step = len(ground.points) // 1000
        self.assertEqual(len(seen[0].points), len(ground.points) // step)
        self.assertAlmostEqual(seen[0].spacing, ground.spacing * np.sqrt(step))
        with mock.patch.object(pull, "shape_heap", shaped):
            pull.bound_of(ground, self.setup, self.sources)
        self.assertEqual((len(seen[1].points), seen[1].spacing), (len(ground.points), ground.spacing))
        full = pull.bound_of(ground, self.setup, self.sources)
        self.assertGreater(full, 0)


class Answers(unittest.TestCase):
    def test_everything_that_is_answered(self):
        cloud = store_of(ground_of(roof).points)
        below = store_of(ground_of(lambda xy: 0 * xy[:, 0] - 0.5).points)
        sources = Sources(
            METRE,
            {"cloud": Source("c", "C", "/c.laz", store=cloud), "surface": Source("s", "S", "/s.laz", store=below)},
        )
        heard = []
        setup = StockpileSetup(Scope("cloud"), toe=Drawn.of(SQUARE + FAR[:2]), base="surface", surface=Scope("surface"))
        found = run.run(setup, sources, Progress(lambda share, _: heard.append(share)))
        self.assertAlmostEqual(found.value("net"), 48.0 + 0.5 * 48, delta=0.6)
        self.assertEqual([(i.role, i.path) for i in found.inputs], [("compared", "/c.laz"), ("against", "/s.laz")])
        inside = setup.area().contains(ground_of(roof).points).sum()
        self.assertEqual(
            (found.inputs[0].points, found.inputs[0].used, found.inputs[1].used), (cloud.count, inside, below.count)
        )
        self.assertIn("bias", [note.code for note in found.warnings])
        self.assertEqual([chart.field for chart in found.charts], ["length_profile", "width_profile"])
        near(found.charts[0].base[150:250], np.full(100, FAR[2] - 0.5), atol=1e-6)
        self.assertEqual(
            set(found.layers), {"toe", "base", "top", "gaps"} | {n for n in found.layers if n.startswith("unseen")}
        )
        self.assertEqual(
            (found.settings["cell"], found.settings["gap_edge"]), (found.settings["cell"], 3 * found.settings["cell"])
        )
        self.assertEqual(set(found.tables), {"uncertainty", "toe"})
        self.assertEqual(heard, sorted(heard))
        self.assertEqual((min(heard) >= 0.0, heard[-1], max(heard)), (True, 1.0, 1.0))
        self.assertLess(heard[0], 0.2)
        for share in (0.5, 0.9):
            self.assertTrue(any(share - 0.3 < one < share + 0.09 for one in heard), heard)
        own = run.run(replace(setup, base="toe"), sources, silent())
        self.assertEqual([i.role for i in own.inputs], ["compared"])
        self.assertNotIn("bias", [note.code for note in own.warnings])

    def test_the_rim_of_the_top_has_samples_as_close_as_its_points(self):
        made, _ = heap_of()
        local = made.top.points[:, :2] - FAR[:2]
        on_line = np.abs(np.abs(local) / [4, 3]).max(axis=1) > 1 - 1e-9
        self.assertTrue(28 / 0.75 <= on_line.sum() < 28 / 0.75 * 2.2, on_line.sum())

    def test_what_is_not_determinable_says_why(self):
        cloud = store_of(ground_of(roof).points)
        sources = Sources(METRE, {"cloud": Source("c", "C", "/c.laz", store=cloud)})
        away = run.run(StockpileSetup(Scope("cloud"), toe=Drawn.of(SQUARE + FAR[:2] + 500)), sources, silent())
        self.assertTrue(all(figure.value is None for figure in away.figures.values()))
        self.assertEqual((away.warnings[-1].code, away.inputs[0].used), ("not-determinable", 0))
        cloud.reference = from_text("EPSG:4326")
        flat = run.run(StockpileSetup(Scope("cloud"), toe=Drawn.of(SQUARE + FAR[:2])), sources, silent())
        self.assertEqual([note.code for note in flat.warnings], ["degrees"])
        self.assertEqual(flat.figures["net"], Figure(None, "m3", "Net volume"))
        self.assertIsInstance(HeightGrid, type)
