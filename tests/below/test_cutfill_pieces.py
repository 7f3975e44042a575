"""Pieces of the study of cut and fill on plane surfaces, where each figure, line, label and bound has a closed form."""

import json
import unittest
from dataclasses import replace

import numpy as np
import rasterio

from kerb.core.errors import NotDeterminable, OutputError
from kerb.core.geometry.area import Area, ring_of
from kerb.core.progress import silent
from kerb.core.surface.overlay import Change
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.studies.cutfill import uncertainty
from kerb.studies.cutfill.compared import Compared
from kerb.studies.cutfill.kind import corrections, describe, write
from kerb.studies.cutfill.live import ready
from kerb.studies.cutfill.run import run
from kerb.studies.cutfill.setup import CutfillSetup
from kerb.studies.drawn import Drawn
from kerb.studies.scope import Scope
from tests.below.test_cutfill import item, thing
from tests.support import FAR, Folder, near, sources_of

SIDE = 40.0
LINES = np.linspace(0, SIDE, 21)
WHOLE = [[0, 0], [SIDE, 0], [SIDE, SIDE], [0, SIDE]]


def level(xy):
    return np.zeros(len(xy))


def ramp(xy):
    """Nought at 10, a tenth up to the east: 200 below and 1800 above the level over a square of 40."""
    return 0.1 * (xy[:, 0] - 10)


def plane(height, seed=1, unit=METRE, keep=None):
    """A surface on a lattice whose inner nodes are somewhat off."""
    xy = np.stack(np.meshgrid(LINES, LINES), axis=-1).reshape(-1, 2)
    inner = ((xy > 0) & (xy < SIDE)).all(axis=1)
    xy[inner] += np.random.default_rng(seed).uniform(-0.4, 0.4, (inner.sum(), 2))
    xy = xy[keep(xy)] if keep is not None else xy
    return triangulate((np.column_stack([xy, height(xy)]) + FAR) / unit.metres)


def compare(earlier, later, unit=METRE, **values):
    sources = sources_of(None, unit, earlier=thing(earlier), later=thing(later))
    setup = CutfillSetup(Scope("a"), Scope("b"), **values)
    return run(setup, sources, silent()), setup, sources


class Figures(unittest.TestCase):
    def test_a_ramp_over_a_level_in_three_units(self):
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            one = 1 / unit.metres
            found, *_ = compare(
                plane(level, unit=unit), plane(ramp, 2, unit), unit, swell=25.0, shrink=20.0, level_error=0.01 * one
            )
            for name, value in (
                ("fill", 1800), ("cut", 200), ("net", 1600), ("loose_cut", 250), ("needed_fill", 2250),
            ):  # fmt: skip
                near(found.value(name), value * one**3, 1e-6 * one**3, name)
            near([found.value(n) for n in ("fill_area", "cut_area")], np.array([1200, 400]) * one**2, 1e-4)
            near([found.value(n) for n in ("same_area", "only_earlier_area", "only_later_area")], [0, 0, 0])
            near(found.value("check_net"), 1600 * one**3, 0.006 * 1600 * one**3)
            near(found.value("check_percent"), 100 * (found.value("check_net") / found.value("net") - 1), 1e-9)
            parts = {row[0]: row[1] for row in found.tables["uncertainty"].rows}
            near(parts["Offset"], 16.0 * one**3, 1e-6 * one**3)
            near([parts[name] for name in ("Noise", "Interpolation", "Edge")], [0, 0, 0], 1e-6)
            near(found.figures["net"].u95, parts["Offset"], 1e-6)
        row = found.tables["areas"].rows[0]
        names = [column.name for column in found.tables["areas"].columns]
        for name in ("fill", "cut", "net", "fill_area", "cut_area", "check_net"):
            self.assertEqual(row[names.index(name)], found.value(name))
        self.assertEqual([i.role for i in found.inputs], ["earlier", "later"])
        self.assertEqual(describe({}, found), ["later minus earlier"])

    def test_dead_band_and_the_other_way(self):
        """Up to half a metre does not count: 25 below that over 5 m, 625 m² of it beyond on the other side."""
        found, *_ = compare(plane(level), plane(ramp), detect=0.5)
        near([found.value(n) for n in ("fill", "cut")], [(0.5 + 3.0) / 2 * 25 * 40, (0.5 + 1.0) / 2 * 5 * 40], 1e-6)
        near([found.value(n) for n in ("same_area", "fill_area")], [400, 1000], 1e-6)
        self.assertIn("up to 0.500", found.method + " ".join(note.text for note in found.warnings))
        grid, *_ = compare(plane(level), plane(ramp), method="grid", cell=0.1)
        near([grid.value(n) for n in ("fill", "cut", "check_net")], [1800, 200, 1600], 0.5)

    def test_what_is_drawn(self):
        """The line of no change where the ramp is nought, the longest piece first; profiles; labels; the histogram; all areas."""
        wide, narrow = (
            item([[0, 2], [40, 2], [40, 22], [0, 22]], "wide"),
            item([[0, 25], [40, 25], [40, 30], [0, 30]], "narrow"),
        )
        found, *_ = compare(
            plane(level), plane(ramp), areas=(narrow, wide), labels=10.0,
        )  # fmt: skip
        zero = [layer.xyz - FAR for name, layer in found.layers.items() if name.startswith("zero ")]
        self.assertEqual([round(float(np.ptp(line[:, 1]))) for line in zero], [20, 5])
        for line in zero:
            near(line[:, [0, 2]], np.tile([10.0, 0.0], (len(line), 1)), 1e-3)
            self.assertTrue(all(np.diff(line[:, 1]) > 0) or all(np.diff(line[:, 1]) < 0))
        labels = found.layers["change on a grid"]
        wanted = {(x, y) for x in (0, 10, 20, 30, 40) for y in (10, 20, 30)}
        self.assertLessEqual({(x, y) for x, y in wanted if 0 < x < 40 and y < 30}, set(map(tuple, labels.xyz[:, :2] - FAR[:2])))
        self.assertLessEqual(set(map(tuple, labels.xyz[:, :2] - FAR[:2])), wanted)
        near(labels.values, ramp(labels.xyz - FAR), 1e-9)
        sums = found.layers["labels"]
        near(sums.values, [200, 800], 1e-6)
        near(sums.xyz[:, 1] - FAR[1], [27.5, 12.0])
        histogram, bars = (next(c for c in found.charts if c.title == t) for t in ("Changes", "Net by area"))
        near([histogram.x.min(), histogram.x.max()], [-1, 3], 0.03)
        near(bars.y, [200, 800], 1e-6)
        near(bars.x, [0, 1])
        drawn, *_ = compare(plane(level), plane(ramp), profile=Drawn.of(np.array([[4.0, 5.0], [34.0, 45.0]]) + FAR[:2]))
        (profile,) = drawn.profiles
        near(profile.line - FAR[:2], [[4, 5], [34, 45]])
        near(profile.distance[[0, 1, -1]], [0.0, 50 / 399, 50.0])
        top, base = profile.traces
        self.assertEqual((top[:2], base[:2]), (("later", "top"), ("earlier", "base")))
        inside = np.isfinite(top[2])
        near(top[2][inside] - FAR[2], ramp(4.0 + 0.6 * profile.distance[inside][:, None]), 1e-9)
        self.assertEqual(inside.sum(), np.count_nonzero(5 + 0.8 * profile.distance <= 40))
        plain, *_ = compare(plane(level), plane(ramp))
        near(plain.profiles[0].line - FAR[:2], [[0, 20], [40, 20]], 1e-9)
        self.assertFalse(any(name.startswith(("area", "labels")) for name in plain.layers))

    def test_stable_ground_tilt_and_what_would_bring_it_back(self):
        strip = item([[0, 0], [40, 0], [40, 40], [0, 40]], "s")
        for height, way in (
            (lambda xy: 0.03 + 0.004 * xy[:, 0] + 0.003 * xy[:, 1], "lowered"),
            (lambda xy: level(xy) - 0.1, "raised"),
        ):
            found, *_ = compare(plane(level), plane(height), stable=(strip,))
            offset = found.value("stable_offset")
            near(offset, {"lowered": 0.17, "raised": -0.1}[way], 2e-3)
            (back,) = corrections(found)
            near(back.move.shift, [0, 0, -offset])
            self.assertIn(way, back.words)
            notes = {note.code: note.text for note in found.warnings}
            self.assertEqual("5.0" in notes.get("tilt", "") or "5.00" in notes.get("tilt", ""), way == "lowered", notes)
            taken, *_ = compare(plane(level), plane(height), stable=(strip,), take_out="plane")
            near(taken.value("net"), 0.0, 0.2 if way == "lowered" else 1e-6)
            self.assertIn("The plane of the stable ground was taken out", taken.method)
            self.assertNotIn("was taken out", found.method)
            other, *_ = compare(plane(level), plane(height), stable=(strip,), exchanged=True)
            self.assertEqual((corrections(taken), corrections(other)), ((), ()))
        self.assertEqual(corrections(compare(plane(level), plane(ramp))[0]), ())
        for asked, told in (
            ({"take_out": "offset"}, True), ({"take_out": "offset", "stable": (strip,)}, False), ({}, False),
        ):  # fmt: skip
            found, setup, _ = compare(plane(level), plane(ramp), **asked)
            self.assertEqual("not-taken-out" in [note.code for note in found.warnings], told, asked)
            self.assertEqual(setup.counts("take_out"), "stable" in asked)


class Bounds(unittest.TestCase):
    def parts(self, earlier, later, rim=None, area=1600.0, stable=None, **values):
        found = Compared(earlier, later, ("a", "b"), stable=stable, taken_out=values.pop("taken_out", False))
        one = Change(0, 0, 0, 0, area, 0)
        where = uncertainty.Where(np.empty((0, 3)) if rim is None else rim, values.pop("areas", ()))
        made = uncertainty.parts(CutfillSetup(**values), found, one, where, "m")
        return {part.name: part.u95 for part in made}

    def test_noise_of_single_points(self):
        """White noise of two lattices: each vertex stands for a cell a, so that the net errs by s √(A a) (JCGM 100:2008)."""
        rng = np.random.default_rng(5)
        rough = lambda s: lambda xy: 0.05 * xy[:, 0] + rng.normal(0, s, len(xy))  # noqa: E731
        one, other = plane(rough(0.03)), plane(rough(0.04), 2)
        found = self.parts(one, other)
        shares = [1600 / len(tin.vertices) for tin in (one, other)]
        wanted = 1.96 * 40 * np.hypot(0.03 * np.sqrt(shares[0]), 0.04 * np.sqrt(shares[1]))
        self.assertAlmostEqual(found["Noise"] / wanted, 1.0, delta=0.15)
        self.assertLess(found["Interpolation"], 1.5 * found["Noise"])
        few = triangulate(np.column_stack([WHOLE, [0.0, 1, 0, 1]]) + FAR)
        self.assertEqual(self.parts(few, few)["Noise"], 0.0)

    def test_of_gaps_against_a_loop(self):
        """A strip without points on a slope, bridged by triangles: half their range of heights each."""
        one = plane(lambda xy: 0.2 * xy[:, 0], keep=lambda xy: (xy[:, 0] < 7) | (xy[:, 0] > 33))
        flat = plane(level)
        total, longest = (
            0.0,
            np.array([max(np.hypot(*np.diff(t[[0, 1, 2, 0], :2], axis=0).T)) for t in one.points[one.triangles]]),
        )
        for corners, length in zip(one.points[one.triangles], longest, strict=True):
            if length > 6 * np.median(longest):
                a, b = corners[1, :2] - corners[0, :2], corners[2, :2] - corners[0, :2]
                total += np.ptp(corners[:, 2]) / 2 * abs(a[0] * b[1] - a[1] * b[0]) / 2
        self.assertGreater(total, 100)
        near(self.parts(one, flat)["Gaps"], 1.96 * total / np.sqrt(3), 1e-6)
        near(self.parts(one, one)["Gaps"], 1.96 * total * np.sqrt(2 / 3), 1e-6)
        near(self.parts(flat, flat)["Gaps"], 0.0)
        away = Area((ring_of([[FAR[0] + a, FAR[1] + b] for a, b in ((0, 0), (5, 0), (5, 40), (0, 40))]),))
        near(self.parts(one, flat, areas=(away,))["Gaps"], 0.0)

    def test_of_the_edge(self):
        """A border of length L with the change d all along: d s √(L s) / 2 / √3 of a spacing s, however finely it is walked."""
        one = plane(level)
        spacing = float(np.median(one.longest_edges))
        for many in (200, 800):
            x = np.linspace(0, 100, many, endpoint=False)
            rim = np.column_stack([x, np.zeros(many), np.where(np.arange(many) % 2, 0.5, -0.5)])
            near(self.parts(one, one, rim)["Edge"], 1.96 * 0.5 * spacing * np.sqrt(100 * spacing) / 2 / np.sqrt(3), 1e-6)
            rim[: many // 2, 2] = np.nan
            near(self.parts(one, one, rim)["Edge"], 1.96 * 0.5 * spacing * np.sqrt(50 * spacing) / 2 / np.sqrt(3), 1e-6)
        coarse = np.column_stack([np.arange(0, 100, 10.0), np.zeros(10), np.ones(10)])
        near(self.parts(one, one, coarse)["Edge"], 1.96 * 10 * np.sqrt(10) * spacing / 2 / np.sqrt(3), 1e-6)
        finer = Tin.of(one.points[[0, 20, -1]], np.array([[0, 1, 2]], np.int32))
        near(self.parts(finer, one, coarse)["Edge"], self.parts(one, one, coarse)["Edge"])


class Live(unittest.TestCase):
    def test_levels_and_areas_follow(self):
        """A level that is moved, both ways round, over an area by the border, and one that hangs out over it."""
        sources = sources_of(None, METRE, earlier=thing(plane(ramp)))
        corner = item([[30, 30], [50, 30], [50, 50], [30, 50]], "corner")
        for exchanged in (False, True):
            setup = CutfillSetup(Scope("a"), level=FAR[2] + 1.0, exchanged=exchanged)
            live = ready(setup, sources)
            for asked in (
                setup, replace(setup, level=FAR[2] + 2.0), replace(setup, areas=(corner,)), replace(setup, detect=0.4),
            ):  # fmt: skip
                self.assertTrue(live.covers(asked))
                quick, whole = live.answer(asked), run(asked, sources, silent())
                self.assertTrue(quick.live)
                for name in ("net", "fill", "cut", "fill_area", "cut_area"):
                    near(quick.value(name), whole.value(name), 0.01 * 1600)
                    self.assertEqual(quick.figures[name].unit, whole.figures[name].unit)
        # A tall ground, one cell of it, and beside it.
        xyz = np.stack([*np.meshgrid(np.arange(11.0), np.arange(41.0)), np.zeros((41, 11))], axis=-1).reshape(-1, 3)
        tall = sources_of(None, METRE, earlier=thing(triangulate(xyz + FAR)))
        setup = CutfillSetup(Scope("a"), level=FAR[2] + 2.0)
        live = ready(setup, tall)
        for corners, area in (([[0, 0], [10, 0], [10, 40], [0, 40]], 400), ([[2, 38], [2.5, 38], [2.5, 38.5], [2, 38.5]], 0.25)):
            found = live.answer(replace(setup, areas=(item(corners, "some"),)))
            near(found.value("fill_area"), area, 1e-6)
        with self.assertRaisesRegex(NotDeterminable, "share no ground"):
            live.answer(replace(setup, areas=(item([[20, 0], [30, 0], [30, 9]], "beside"),)))
        setup = CutfillSetup(Scope("a"), level=FAR[2] + 1.0, exchanged=True)
        live = ready(setup, sources)
        for other in (
            replace(setup, exchanged=False), replace(setup, longest=3.0), replace(setup, level=None), replace(setup, take_out="plane"),
        ):  # fmt: skip
            self.assertFalse(live.covers(other))


class Written(Folder):
    def test_a_raster_of_the_difference_lies_over_it(self):
        found, setup, sources = compare(plane(level), plane(ramp), cell=0.5)
        write(setup, found, sources, {"out": str(self.folder / "d.tif")})
        with rasterio.open(self.folder / "d.tif") as raster:
            dz, to = raster.read(1, masked=True), raster.transform
        self.assertEqual((dz.shape, to.a, to.b, to.d, to.e, dz.count()), ((81, 81), 0.5, 0, 0, -0.5, 6400))
        near([to.c, to.f], [FAR[0], FAR[1] + SIDE + 0.5])
        near(dz[1:, :80], np.tile(0.1 * (np.arange(80) * 0.5 + 0.25 - 10), (80, 1)), 1e-5)

        long = item([[0, 0], [40, 0], [40, 10], [0, 10]], "long")
        found, setup, sources = compare(plane(level), plane(ramp), areas=(long,))
        write(setup, found, sources, {"out": str(self.folder / "l.tif")})
        with rasterio.open(self.folder / "l.tif") as raster:
            self.assertEqual((raster.transform.a, raster.shape), (0.04, (251, 1001)), "a thousand cells along the longer side")

    def test_lines_of_the_difference_lie_at_their_level(self):
        whole = item(WHOLE, "whole")
        found, setup, sources = compare(plane(lambda xy: 5 + level(xy)), plane(lambda xy: 5 + ramp(xy)), areas=(whole,))
        out = self.folder / "d.geojson"
        write(setup, found, sources, {"out": str(out)})
        sides, levels = set(), []
        for feature in json.loads(out.read_text())["features"]:
            about, xyz = feature["properties"], np.array(feature["geometry"]["coordinates"], float)
            value = 0.0 if about["layer"] == "no change" else xyz[0, 2]
            sides.add((about["layer"], np.sign(value)))
            levels.append(value)
            near(xyz[:, 0] - FAR[0], np.full(len(xyz), 10 + 10 * value), 2e-3)
            near(np.ptp(xyz[:, 1]), SIDE, 1e-6)
        self.assertEqual(sides, {("no change", 0.0), ("fill", 1.0), ("cut", -1.0)})
        near(np.diff(np.unique(np.round(levels, 6))), np.full(len(set(levels)) - 1, np.ptp(levels) / (len(set(levels)) - 1)))
        for name, outcome in (("d.txt", found), ("e.geojson", replace(found, layers={}))):
            with self.assertRaisesRegex(OutputError, f"{name}: differences are written as"):
                write(setup, outcome, sources, {"out": str(self.folder / name)})
