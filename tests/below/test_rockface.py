"""Faces that lean over: closed forms on planes and about axes, units, sides, whole turns, layers, and how often the bound holds."""

import re
import unittest

import laspy
import numpy as np

from kerb.core.errors import NotDeterminable
from kerb.core.progress import silent
from kerb.core.surface.frames import about_axis, on_plane
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.studies.drawn import Drawn
from kerb.studies.rockface.kind import describe
from kerb.studies.rockface.run import run
from kerb.studies.rockface.setup import RockfaceSetup
from kerb.studies.scope import Scope
from tests.support import FAR, CommandLine, near, sources_of, store_of

BOTH = {"earlier": Scope("e"), "later": Scope("l")}
# A cone of 1 m height on a circle of 2 m radius.
CONE = np.pi * 4 / 3


def leaning(n, out, seed, lean=0.3):
    """Points of a face of 20 by 10 that leans over by ``lean`` (radians) to the east, ``out`` of its plane by along and across."""
    rng = np.random.default_rng(seed)
    s, t = rng.uniform(0, 20, n), rng.uniform(0, 10, n)
    way, up = np.array([np.cos(lean), 0, -np.sin(lean)]), np.array([np.sin(lean), 0, np.cos(lean)])
    return s[:, None] * [0, 1, 0] + t[:, None] * up + out(s, t)[:, None] * way + FAR


def round_wall(n, radius, seed, turn=2 * np.pi, start=0.4):
    """Points of a wall about an upright axis at the origin, 12 high."""
    rng = np.random.default_rng(seed)
    a, h = start + rng.uniform(0, turn, n), rng.uniform(0, 12, n)
    r = radius(a, h)
    return np.column_stack([r * np.cos(a), r * np.sin(a), h]) + FAR


def flat(s, _t):
    return 0.2 * np.sin(s)


def with_hole(s, t):
    return flat(s, t) - np.clip(1 - np.hypot(s - 10, t - 5) / 2, 0, None)


# A place before the face, on the side it leans over to.
EAST = FAR + [40.0, 10, 0]


def asked(earlier, later, unit=METRE, **more):
    if more.get("frame") != "axis":
        more.setdefault("front", Drawn.of(EAST[None, :2] / unit.metres))
    one, other = store_of(earlier / unit.metres, unit), store_of(later / unit.metres, unit)
    sources = sources_of(one, unit, earlier=one, later=other)
    return run(RockfaceSetup(**BOTH, **more), sources, silent()), sources


class Plane(unittest.TestCase):
    def test_a_cone_that_fell_out_in_three_units_and_both_sides(self):
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            for turned, sign in ((False, -1), (True, 1)):
                found, _ = asked(leaning(20_000, flat, 1), leaning(20_000, with_hole, 2), unit, turned=turned)
                per = unit.metres**3
                near(found.value("net") * per, sign * CONE, 0.03)
                near(found.value("grown" if turned else "gone") * per, CONE, 0.04)
                near(found.value("check_net") * per, sign * CONE, 0.03)
                self.assertEqual(describe({}, found), [found.method.split(",")[0]])
                near(found.value("overhang"), 0.0 if turned else 100.0, 0.2)
                near(found.value("face_area") * unit.metres**2, 200, 1.5)
                heading, tilt = found.settings["seen_from"]
                near([heading, tilt], [90 if turned else 270, (1 if turned else -1) * np.degrees(0.3)], 0.6)
                self.assertIn("before" if sign > 0 else "behind", found.warnings[0].text)
                lengths = (found.value("along"), found.value("across"))
                near(np.array(lengths) * unit.metres, [20, 10], 0.06)

    def test_frames(self):
        """Out and back to rounding, right-handed, level along; a floor, and where the scanner stood."""
        points = leaning(2000, flat, 3)
        for frame in (on_plane(points, EAST), on_plane(points, EAST, turned=True), about_axis(points, inwards=True, line=np.array([[9, 0, 0], [9, 1, 9]]) + FAR),
                      about_axis(points, np.array([[0, 0, 0], [0.2, 3, 9]]) + FAR)):  # fmt: skip
            near(frame.back(frame.of(points)), points, 1e-6)
            near(np.linalg.det(frame.axes), 1.0, 1e-12)
        wall = round_wall(5000, lambda a, _h: np.full(len(a), 5.0), 1, turn=2.0, start=0.4)
        for frame in (about_axis(wall), about_axis(wall, np.array([FAR, FAR - [0, 0, 1]]))):
            near(frame.axes, [[np.cos(1.4), np.sin(1.4), 0], [-np.sin(1.4), np.cos(1.4), 0], [0, 0, 1]], 0.02)
            near(frame.radius, 5.0, 1e-6)
        floor = on_plane(np.column_stack([points[:, :2], np.full(len(points), 3.0)]))
        near(floor.axes, np.eye(3), 1e-6)
        near(on_plane(points, EAST).axes[0, 2], 0.0, 1e-12)
        for eye, side in ((FAR + [40.0, 10, 0], 1), (FAR - [40.0, 10, 0], -1)):
            self.assertGreater(side * on_plane(points, eye).axes[2, 0], 0.9)
        near(floor.middle[2], 3.0)
        flat_ = np.column_stack([points[:, :2], np.full(len(points), 3.0)])
        for eye, side in ((0.4, 1), (-0.4, -1)):
            near(on_plane(flat_, floor.middle + [0, 0, eye]).axes[2], [0, 0, side], 1e-9)
        for end, way in (([-1.0, -2, 0], -1), ([1.0, -0.5, 0], 1), ([-0.5, 1.0, 0], 1)):
            axis = about_axis(wall, np.array([FAR, FAR + end])).axes[2]
            near(axis, way * np.array(end) / np.linalg.norm(end), 1e-9)
        with self.assertRaisesRegex(NotDeterminable, "another"):
            about_axis(points, np.array([[0.0, 0, 0], [0, 0, 1]]))
        with self.assertRaisesRegex(NotDeterminable, "one place"):
            about_axis(points, np.array([FAR, FAR]))

    def test_the_open_side_from_what_is_level(self):
        """A foot before the face, or a top behind it, looks up: the open side follows, for a slope and for what leans over;
        a bare face asks."""
        rng = np.random.default_rng(8)
        told = 0
        for lean in (0.3, 0.1, -0.5, 0.6):
            face = leaning(20_000, flat, 9, lean) - FAR
            foot = np.column_stack([rng.uniform(0, 6, 6000), rng.uniform(0, 20, 6000), np.zeros(6000)])
            foot[:, 0] += face[face[:, 2].argmin(), 0] + 3 * (lean > 0)
            top = np.column_stack([rng.uniform(-6, 0, 6000), rng.uniform(0, 20, 6000), np.full(6000, face[:, 2].max())])
            top[:, 0] += face[face[:, 2].argmax(), 0]
            for beside in ((foot, top), (top,), (foot,)):
                for side in (1, -1):
                    points = np.concatenate([face, *beside]) * [side, 1, 1] + FAR
                    try:
                        self.assertGreater(side * on_plane(points).axes[2, 0], 0.3)
                        told += 1
                    except NotDeterminable:
                        self.assertGreater(lean, 0)
        self.assertGreaterEqual(told, 14)
        with self.assertRaisesRegex(NotDeterminable, "which side of the face is open"):
            on_plane(leaning(2000, flat, 3))

    def test_one_stray_point(self):
        """A point 4 m before the face, at one date only: named and left out, the volume stays."""
        odd = np.array([[6.0, 9, 3]]) + FAR
        found, _ = asked(leaning(20_000, flat, 1), np.vstack([leaning(20_000, with_hole, 2), odd]))
        near(found.value("net"), -CONE, 0.03)
        self.assertIn("1 stray point was excluded", {n.code: n.text for n in found.warnings}["strays"])
        counted, _ = asked(leaning(20_000, flat, 1), np.vstack([leaning(20_000, with_hole, 2), odd]), strays="counted")
        self.assertGreater(counted.value("grown"), found.value("grown") + 0.02)

    def test_a_bush_is_marked_and_gaps_stay_open(self):
        rng = np.random.default_rng(5)
        bush = rng.normal(0, 0.3, (800, 3)) + FAR + [3.0, 5, 4]
        found, _ = asked(np.vstack([leaning(30_000, flat, 1), bush]), leaning(30_000, flat, 2))
        self.assertIn("layers", [note.code for note in found.warnings])
        near(np.median(found.layers["layers"].xyz[:, 1]) - FAR[1], 5.0, 0.5)
        text = next(note.text for note in found.warnings if note.code == "layers")
        self.assertTrue(0.3 < float(re.match(r"on (\d+\.\d)", text)[1]) < 4.0, text)
        holed = leaning(40_000, flat, 2)
        holed = holed[np.abs(holed[:, 1] - FAR[1] - 10) > 2]
        gap, _ = asked(leaning(40_000, flat, 1), holed)
        near(gap.value("face_area"), 160, 1.5)
        near(gap.value("only_earlier_area"), 40, 1.5)

    def test_the_bound_holds(self):
        """24 pairs with noise of 4 mm that lie before one another by chance as much as is stated."""
        rng, inside, widths = np.random.default_rng(6), 0, []
        for k in range(24):
            off = rng.normal(0, 0.004)
            noisy = [lambda s, t, f=f: f(s, t) + rng.normal(0, 0.004, len(s)) for f in (flat, with_hole)]
            one, other = leaning(1500, noisy[0], 2 * k), leaning(1500, lambda s, t: noisy[1](s, t) + off, 2 * k + 1)  # noqa: B023
            found, _ = asked(one, other, level_error=1.96 * 0.004)
            widths.append(found.figures["net"].u95)
            inside += abs(found.value("net") + CONE) <= widths[-1]
        self.assertGreaterEqual(inside, 21)
        self.assertLess(np.mean(widths), 3 * 1.96 * 0.004 * 200)


class AboutAnAxis(unittest.TestCase):
    def test_a_lining_of_known_thickness(self):
        """Rings between radii 5 and 5.2, once round and in part, about a drawn axis and a fitted one, seen from outside and within."""
        upright = Drawn.of(FAR[None, :2])
        for turn, axis, inwards in (
            (2 * np.pi, upright, False), (2 * np.pi, Drawn(), True), (2.0, upright, True), (2.4, Drawn(), False),
        ):  # fmt: skip
            walls = [round_wall(12_000, lambda a, _h, r=r: np.full(len(a), r), seed, turn) for seed, r in ((1, 5.0), (2, 5.2))]
            found, _ = asked(*walls, frame="axis", axis=axis, turned=inwards)
            sign = -1 if inwards else 1
            near(found.value("net") / found.value("face_area"), sign * (5.2**2 - 25) / 10, 2e-3)
            near(found.value("face_area"), 5 * turn * 12, 0.015 * 5 * turn * 12)
            near(found.value("gone" if not inwards else "grown"), 0, 1e-9)

    def test_once_round_counts_once_wherever_it_is_cut(self):
        """A bulge that lies over the cut is whole; so is a wall of 24 posts, however wide the gap at the cut."""
        turn, up = np.meshgrid(np.arange(24) * np.pi / 12, np.arange(25) / 2)
        posts = [np.column_stack([r * np.cos(turn.ravel()), r * np.sin(turn.ravel()), up.ravel()]) + FAR for r in (5.0, 5.2)]
        for longest in (None, 1.6):
            found, _ = asked(*posts, frame="axis", axis=Drawn.of(FAR[None, :2]), longest=longest)
            near(found.value("face_area"), 2 * np.pi * 5 * 12, 0.01)
            near([found.value(n) for n in ("only_earlier_area", "only_later_area")], [0, 0], 0.01)
            near(found.charts[0].x, np.full(len(found.charts[0].x), 0.2), 0.05)
        bulge = lambda a, h: 5 + np.clip(1 - np.hypot((np.angle(np.exp(1j * (a - np.pi)))) * 5, h - 6) / 2, 0, None)  # noqa: E731
        for start in (0.0, np.pi):
            plain = round_wall(30_000, lambda a, _h: np.full(len(a), 5.0), 1)
            later = round_wall(30_000, lambda a, h, s=start: bulge(a + s, h), 2)
            found, _ = asked(plain, later, frame="axis", axis=Drawn.of(FAR[None, :2]))
            # A cone of 1 m on the cylinder: its mean of (r² - 25) / 10 over the circle.
            r = np.linspace(0, 2, 20_001)
            wanted = np.trapezoid(((6 - r / 2) ** 2 - 25) / 10 * 2 * np.pi * r, r)
            near(found.value("net"), wanted, 0.02 * wanted)


class Verb(CommandLine):
    def test_from_clouds_to_a_report_and_a_model(self):
        paths = []
        for name, out, seed in (("before", flat, 1), ("after", with_hole, 2)):
            points = leaning(30_000, out, seed)
            header = laspy.LasHeader(point_format=6, version="1.4")
            header.scales, header.offsets = [0.001] * 3, points.min(axis=0)
            las = laspy.LasData(header)
            las.x, las.y, las.z = points.T
            paths.append(self.folder / f"{name}.laz")
            las.write(paths[-1])
        made, report = self.folder / "face.ply", self.folder / "face.pdf"
        self.assertEqual(self.kerb("rockface", *paths)[0], 2)
        self.assertIn("--seen-from", self.error)
        found = self.json("rockface", *paths, "--seen-from", f"{EAST[0]},{EAST[1]}", "--out", made, "--report", report)
        near(found["figures"]["net"]["value"], -CONE, 0.04)
        self.assertTrue(report.read_bytes().startswith(b"%PDF"))
        self.assertGreater(made.stat().st_size, 500_000)


if __name__ == "__main__":
    unittest.main()
