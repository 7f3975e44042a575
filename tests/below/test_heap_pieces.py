"""Pieces of the stockpile by hand and against twins: figures, notes at their limits, slopes, profiles, parts of the bound."""

import unittest
from dataclasses import replace
from types import SimpleNamespace as Some
from unittest import mock

import numpy as np

from kerb.core.cloud.filters import Filter
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import plane
from kerb.core.geometry.area import Area, ring_of
from kerb.core.progress import Progress, silent
from kerb.core.reference import from_text, local_grid
from kerb.core.sorting import spread_by_cells
from kerb.core.surface.along import Filling
from kerb.core.surface.grid import HeightGrid
from kerb.core.surface.tin import Tin
from kerb.core.surface.toe import GROUND, NO_POINTS, NOT_GROUND, Toe
from kerb.core.surface.volume import Volume
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.studies.drawn import Drawn
from kerb.studies.outcome import Figure
from kerb.studies.parts import Part, combined
from kerb.studies.scope import Scope
from kerb.studies.sources import Source, Sources
from kerb.studies.stockpile import drawing, figures, heap, live, notes, profiles, pull, run, shape, uncertainty
from kerb.studies.stockpile.heap import Ground, shape_heap
from kerb.studies.stockpile.kind import STOCKPILE
from kerb.studies.stockpile.measured import Measured
from kerb.studies.stockpile.second_way import _window
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
            parts = [Part("a", 3.0, ""), Part("b", 4.0, "")]
            found = Measured(made, volume, second, 0.5, gap, 1.5, (55.0, "so"), Slopes(33.0, 41.0, 1.234), parts)
            all_ = figures.worded(found, setup)
            m = unit.metres
            per = 1.6 * m**3
            heights = made.top.points[:, 2] - FAR[2] / m
            for name, value, code, u95, note in (
                ("above", 100.0, unit.volume_code(), None, ""), ("below", 4.0, unit.volume_code(), None, ""),
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
                {n: (f.value, f.unit) for n, f in figures.none(unit, setup).items()}, {n: (None, all_[n].unit) for n in all_}
            )
        self.assertEqual(figures.units(METRE, replace(setup, density_unit="ton/yd3"))["mass"], "ton")

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
            "heap": made, "volume": Volume(100.0, 0.0, 48, 0, 48), "second": Volume(100.0, 0.0, 48, 0, 48), "gap_area": 0.0,
        }  # fmt: skip
        return Some(**usual | values)

    def codes(self, toe, base="toe", unit=METRE):
        return {note.code: note.text for note in notes._toe(toe, StockpileSetup(base=base), unit)}

    def sides(self, unit=METRE, **values):
        return {note.code: note.text for note in notes._sides(self.found(**values), unit)}

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
            for unit in (METRE, FOOT):
                with mock.patch.object(shape, "stray_height", return_value=height / unit.metres):
                    self.assertEqual("stray" in self.sides(unit), said)
                uneven = FAR[2] + np.resize([1.0, -1.0], 24) * (height - 0.1) / unit.metres
                toe = toe_of([GROUND] * 24, uneven, (circle(5, 24) + FAR[:2]) / unit.metres)
                self.assertEqual("toe-uneven" in self.codes(toe, unit=unit), said)
        strays = np.array([[0.0, 0, 9], [20, 0, -3]]) + FAR
        marked = replace(made, ground=replace(made.ground, strays=strays))
        text = self.sides(heap=marked)["stray"]
        self.assertTrue(text.startswith("2 stray points (1 inside the toe, the furthest 7.0"), text)
        self.assertIn("above the rest) were left out", text)
        one = self.sides(heap=replace(made, ground=replace(made.ground, strays=strays[1:])))["stray"]
        self.assertTrue(
            one.startswith("1 stray point (0 inside the toe, the furthest 3.0") and "below the rest) was left" in one, one
        )

    def test_references(self):
        only = Scope("c", only=(Filter("height", 0.0, 9.0), Filter("off", 0.0, 9.0, on=False)))
        found = notes._outdated(StockpileSetup(only), Some(outdated=lambda _name: True))
        self.assertEqual([note.text.split("'")[1] for note in found], ["height"])
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
    def test_top_base_and_what_lies_beside(self):
        made, setup = heap_of(lambda xy: roof(xy) + 0.1 * (np.abs(xy[:, 0]) > 4.2))
        line = np.array([[-6.0, 0.1], [6, 0.1]]) + FAR[:2]
        found = profiles.profile(made, lambda xy: np.full(len(xy), FAR[2] - 1), line, "length_profile")
        self.assertEqual((found.field, found.title, len(found.distance)), ("length_profile", "Length profile", profiles.SAMPLES))
        near(found.distance[[0, 1, -1]], [0, 12 / 399, 12], atol=1e-9)
        x = found.distance - 6
        inside = np.abs(x) < 4
        np.testing.assert_array_equal(np.isfinite(found.base), inside)
        near(found.base[inside], np.full(inside.sum(), FAR[2] - 1))
        near(found.top[np.abs(x) < 3.7] - FAR[2], np.full((np.abs(x) < 3.7).sum(), 2 * (1 - 0.1 / 3)), atol=0.04)
        near(found.top[np.abs(x) > 5] - FAR[2], np.full((np.abs(x) > 5).sum(), 0.1), atol=1e-9)
        asked = []
        with mock.patch.object(profiles, "_along", side_effect=lambda _, line, reach: asked.append(reach) or np.full(400, 7.0)):
            out = profiles.profile(made, lambda xy: np.zeros(len(xy)), line, "width_profile")
        self.assertEqual((asked, out.title), ([0.5], "Width profile"))
        near(out.top[np.abs(x) > 4.1], np.full((np.abs(x) > 4.1).sum(), 7.0))
        own = replace(setup, width_profile=Drawn.of(line))
        both, moved = ([make() for make in profiles.across(made, lambda xy: np.zeros(len(xy)), one)] for one in (setup, own))
        self.assertEqual([p.field for p in both], ["length_profile", "width_profile"])
        near(moved[1].line, line)
        near(moved[0].line, both[0].line)


class Bound(unittest.TestCase):
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
    def test_how_far_round_the_line_is_looked(self):
        """Five spacings, at least 0.15 m for the ground and 0.3 m across; steps of twice that, and no more than 240 of them."""
        for unit in (METRE, FOOT):
            m = unit.metres
            for spacing, length, wanted in (
                (0.01, 0.0, (0.15, 0.3, 0.3)),
                (0.1, 0.0, (0.5, 1.0, 0.5)),
                (0.1, 480.0, (0.5, 2.0, 0.5)),
            ):
                found = heap.search_of(StockpileSetup(), spacing / m, unit, length / m)
                near(np.array([found.radius, found.step, found.width]) * m, wanted)

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
        self.assertEqual(heap.lowest_toe(Some(base=np.array([5.0, 1, 6, 3, 2]))), 3.0, "one low sample is none")

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


class Moving(unittest.TestCase):
    def setUp(self):
        ground = ground_of(roof, half=14.0)
        self.cloud = store_of(ground.points)
        self.sources = Sources(METRE, {"cloud": Source("c", "C", store=self.cloud)})
        self.setup = StockpileSetup(
            Scope("cloud"), toe=Drawn.of(SQUARE * 1.05 + FAR[:2]), base="level", level=FAR[2], density=2.0
        )

    def test_pulling(self):
        yard = live.LiveHeap(self.setup, self.sources)
        with self.assertRaisesRegex(NotDeterminable, "reaches out of the data"):
            yard.pulled_toe(replace(self.setup, toe=Drawn.of(SQUARE * 2.0 + FAR[:2])), 0.5)
        asked = []
        with mock.patch.object(live, "pulled", side_effect=lambda grid, ring, reach: asked.append((grid, reach)) or ring):
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


class Answers(unittest.TestCase):
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
