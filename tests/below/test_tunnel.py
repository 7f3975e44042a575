"""Tunnels against closed forms: cylinders in cylinders, off-centre circles, horseshoes with bumps, cones, bends of a torus, shafts of
gradient, gaps, ducts and a second date, in three units."""

import json
import unittest

import ezdxf
import laspy
import numpy as np

from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.alignment import Alignment, Grade, arc
from kerb.core.geometry.features import Line, LineSet
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.things import LINES, Placed
from kerb.core.tunnel.profile import checked, of_words
from kerb.core.tunnel.wall import Axis, Bins, patches_of
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.studies.scope import Scope
from kerb.studies.tunnel.run import run
from kerb.studies.tunnel.setup import TunnelSetup
from tests.support import FAR, CommandLine, near, sources_of, store_of

STRAIGHT = np.array([[-5.0, 0, 0], [45, 0, 0]])


def bore(radius, n=250_000, long=40.0, seed=1, noise=0.0, centre=(0.0, 0.0), turn=(0.0, 2 * np.pi), rise=0.0):
    """Points of a bore along a line to the east; right looking ahead is south. ``radius`` is a number or of angle and distance."""
    rng = np.random.default_rng(seed)
    angle, s = rng.uniform(*turn, n), rng.uniform(0, long, n)
    r = (radius(angle, s) if callable(radius) else radius) + rng.normal(0, noise, n)
    return np.column_stack([s, -(centre[0] + r * np.cos(angle)), centre[1] + r * np.sin(angle) + rise * s])


def along(line, unit=METRE):
    """A line in metres from the far corner as a holding."""
    if isinstance(line, Alignment):
        return Placed(LINES, LineSet((), (line,)).mapped(lambda xyz: xyz), local_grid(unit))
    return Placed(LINES, LineSet((Line((line + FAR) / unit.metres, False, "axis"),)), local_grid(unit))


def asked(points, unit=METRE, line=STRAIGHT, earlier=None, **values):
    """The outcome of a tunnel of points in metres, in a unit and far from the origin."""
    placed = lambda xyz: store_of((xyz + FAR) / unit.metres, unit, scale=0.00005)  # noqa: E731
    others = {"earlier": placed(earlier)} if earlier is not None else {}
    usual = {"thickness": 0.2, "cell": 0.1, "tolerance": 0.05, "stands_off": 0.3}
    lengths = {*usual, "interval", "alignment_error", "lining"}
    made = {k: v / unit.metres if k in lengths else v for k, v in {**usual, **values}.items()}
    scope = {"earlier": Scope("earlier")} if earlier is not None else {}
    sources = sources_of(placed(points), unit, alignment=along(line, unit), **others)
    return run(TunnelSetup(Scope("cloud"), alignment="alignment", **scope, **made), sources, silent())


class Bores(unittest.TestCase):
    def test_a_cylinder_in_a_cylinder_in_three_units(self):
        """π (R² − r²) a metre beyond the line, and nothing inside; the wall 2 π R."""
        area = np.pi * (3.1**2 - 9)
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            found = asked(bore(3.1), unit, profile=f"circle:{3 / unit.metres}")
            with self.subTest(unit.code):
                m = unit.metres
                near(found.value("over_volume") * m**3 / (40 * area), 1.0, 1e-3)
                near(found.value("over_volume_end_areas") * m**3 / (40 * area), 1.0, 2e-3)
                near(found.value("over_area") * m**2 / area, 1.0, 1e-3)
                near(found.value("under_volume"), 0, 1e-9)
                near([found.value("max_over") * m, found.value("max_under") * m], [0.1, 0.0], 1e-3)
                near(found.value("wall_area") * m**2 / (2 * np.pi * 3.1 * 40), 1.0, 1e-3)
                near(found.value("uncovered_share"), 0, 1e-3)
                self.assertEqual(found.figures["over_volume"].unit, unit.volume_code())

    def test_off_centre_by_both_ways(self):
        """A bore of the right size 0.2 m to the right and 0.1 m up: beyond there, inside opposite; by rays and square to the line."""
        off = np.array([0.2, 0.1])
        turn = np.linspace(0, 2 * np.pi, 400_001)[:-1]
        ahead = off @ [np.cos(turn), np.sin(turn)]
        r = ahead + np.sqrt(9 - (off @ off - ahead**2))
        areas = 0.5 * (r**2 - 9) * 2 * np.pi / len(turn)
        for way in ("radial", "normal"):
            found = asked(bore(3.0, centre=off), profile="circle:3", way=way)
            near(found.value("over_area"), areas[areas > 0].sum(), 4e-3)
            near(found.value("under_area"), -areas[areas < 0].sum(), 4e-3)
            near([found.value("max_over"), found.value("max_under")], np.full(2, np.hypot(*off)), 2e-3)
        rows = found.tables["patches"].rows
        self.assertEqual({row[0] for row in rows}, {"U1", "O1"})
        self.assertGreater(next(row[2] for row in rows if row[0] == "O1"), 2.0, "beyond on the right")
        self.assertLess(next(row[2] for row in rows if row[0] == "U1"), -2.0, "inside on the left")

    def test_a_horseshoe_with_a_known_bump(self):
        """A bump of 0.12 m on the left wall, a metre up, 1 m round: its volume π r² h / 3, its place, in one patch."""
        wide, high = 5.0, 4.5
        rng = np.random.default_rng(3)
        design = of_words(f"horseshoe:{wide}x{high}")
        s, arc_ = rng.uniform(0, 30, 400_000), rng.uniform(0, design.length, 400_000)
        place = design.where(arc_)
        bump = np.clip(1 - np.hypot(s - 12, place[:, 1] - 1.0) / 1.0, 0, None) * 0.12
        left = place[:, 0] < -wide / 2 + 1e-6
        place[:, 0] += np.where(left, bump, 0.0)
        points = np.column_stack([s, -place[:, 0], place[:, 1]])
        found = asked(points, line=STRAIGHT, profile=f"horseshoe:{wide}x{high}", tolerance=0.02, cell=0.05, way="normal")
        truth = np.pi * 0.12 / 3
        near(found.value("under_volume"), truth, 0.012 * truth + 2e-4)
        near(found.value("max_under"), 0.12, 0.006)
        patches = [row for row in found.tables["patches"].rows if row[0].startswith("U")]
        self.assertEqual(len(patches), 1)
        near(patches[0][1:4], [17.0, -2.38, FAR[2] + 1.0], 0.08)
        near(patches[0][4], np.pi * (1 - 0.02 / 0.12) ** 2, 0.08)

    def test_a_cone_and_a_gradient(self):
        """A bore that narrows from 3.2 to 2.8 m along a line that climbs five percent: volumes of frusta on either side of 3 m."""
        narrow = lambda _a, s: 3.2 - 0.4 * s / 40  # noqa: E731
        line = np.array([[-5.0, 0, -0.25], [45, 0, 2.25]])
        found = asked(bore(narrow, rise=0.05), line=line, profile="circle:3")
        s = np.linspace(0, 40, 400_001)
        each = np.pi * ((3.2 - 0.4 * s / 40) ** 2 - 9)
        near(found.value("over_volume"), np.trapezoid(np.maximum(each, 0), s), 0.02)
        near(found.value("under_volume"), -np.trapezoid(np.minimum(each, 0), s), 0.02)

    def test_a_bend_of_a_torus(self):
        """Radius 20: what lies beyond a shifted bore outside of the curve is longer; π (R² − r²) times the length of the centroid."""
        line = Alignment("Bend", 100.0, (arc(np.array([0.0, -20]) + FAR[:2], FAR[:2], np.array([20.0, 0]) + FAR[:2], False),),
                         (Grade(100.0, FAR[2]), Grade(100 + 10 * np.pi, FAR[2])))  # fmt: skip
        rng = np.random.default_rng(5)
        turn, angle = rng.uniform(-np.pi / 2, 0, 400_000), rng.uniform(0, 2 * np.pi, 400_000)
        for shift in (0.0, 1.0):
            # The centre of the bore lies outside of the line by the shift: right of it, for it turns to the left.
            r = 20 + shift + 2.2 * np.cos(angle)
            points = np.column_stack([r * np.cos(turn), r * np.sin(turn), 2.2 * np.sin(angle)])
            design = checked(of_words("circle:2").corners + [shift, 0.0])
            words = " ".join(f"{x},{y}" for x, y in design.corners)
            found = asked(points, line=line, profile=words, interval=2.0)
            length = np.pi / 2 * (20 + shift)
            near(found.value("over_volume") / (np.pi * (2.2**2 - 4) * length), 1.0, 2e-3)
            near(found.value("wall_area") / (2 * np.pi * 2.2 * length), 1.0, 3e-3)
            self.assertEqual(found.tables["stations"].rows[1][0] - found.tables["stations"].rows[0][0], 2.0)

    def test_gaps_are_left_open_and_told(self):
        """Nothing was seen of 40° of the invert: 40 degrees in each section and a ninth of the wall; volumes are those of the rest."""
        seen = bore(3.1, turn=(-np.pi / 2 + np.radians(20), 3 * np.pi / 2 - np.radians(20)))
        found = asked(seen, profile="circle:3")
        near([row[-1] for row in found.tables["stations"].rows], 40.0, 4.0)
        near(found.value("uncovered_share"), 40 / 360, 0.006)
        near(found.value("over_volume") / (40 * np.pi * (3.1**2 - 9) * 320 / 360), 1.0, 0.006)
        self.assertEqual(found.verdict, "11 % of the wall not scanned")

    def test_a_duct_is_no_wall(self):
        """A ventilation duct under the crown hides the wall behind it: marked, in no volume; counted where the limit is raised."""
        rng = np.random.default_rng(6)
        wall = bore(3.05, seed=7)
        hidden = np.abs(np.arctan2(wall[:, 1], wall[:, 2])) < 0.14
        duct = np.column_stack([rng.uniform(0, 40, 20_000), rng.uniform(-0.4, 0.4, 20_000), 2.2 + 0.1 * rng.random(20_000)])
        found = asked(np.concatenate([wall[~hidden], duct]), profile="circle:3")
        near(found.value("max_under"), 0.0, 1e-3)
        self.assertIn("stands-off", [note.code for note in found.warnings])
        near(found.value("over_volume") / (40 * np.pi * (3.05**2 - 9)), 1 - 0.3 / (2 * np.pi), 0.03)
        counted = asked(np.concatenate([wall[~hidden], duct]), profile="circle:3", stands_off=2.0)
        self.assertGreater(counted.value("max_under"), 0.6)

    def test_rock_that_bulges_in_is_wall(self):
        """Rock half a metre inside of all round it, without an edge: it is the patch that has to come off, and no thing in the bore."""
        bulge = lambda a, s: 3.05 - 0.5 * np.clip(1 - ((s - 20) ** 2 + (3 * (a - np.pi)) ** 2) / 2.25, 0, None)  # noqa: E731
        found = asked(bore(bulge), profile="circle:3")
        near(found.value("max_under"), 0.45, 0.01)
        self.assertNotIn("stands-off", [note.code for note in found.warnings])
        near(found.value("uncovered_share"), 0, 1e-3)

    def test_shotcrete_between_two_dates(self):
        """Rock at 3.2 m, a lining to 3.05 m but for a sector with 60 mm: mean, volume, and the share below 100 mm."""
        thin = lambda a, _s: np.where(np.abs(a - np.pi / 2) < 0.3, 3.14, 3.05)  # noqa: E731
        found = asked(bore(thin, seed=8), earlier=bore(3.2, seed=9), profile="circle:3", lining=0.1)
        share = 0.6 / (2 * np.pi)
        near(found.value("thickness"), 0.15 * (1 - share) + 0.06 * share, 2e-3)
        near(found.value("thickness_volume"), 40 * np.pi * ((3.2**2 - 3.05**2) * (1 - share) + (3.2**2 - 3.14**2) * share), 1.0)
        near(found.value("below_share"), share, 0.01)
        self.assertIn("earlier", found.tables)
        plain = asked(bore(3.1), profile="circle:3")
        self.assertIsNone(plain.value("thickness"))

    def test_the_bound_holds_by_simulation(self):
        """Noise of 6 mm and an alignment that lies off by chance as much as is stated: over 9 of 10, and no wider than it must be."""
        rng, inside, widths, errors = np.random.default_rng(10), 0, [], []
        for k in range(20):
            off = rng.normal(0, 0.01, 2)
            points = bore(lambda a, _s: 2.9 + 0.3 * (np.sin(a) > 0), 40_000, 20.0, 20 + k, 0.006, off)
            found = asked(points, line=STRAIGHT, profile="circle:3", alignment_error=1.96 * 0.01, cell=0.2)
            truth = 20 * np.pi * (3.2**2 - 9) / 2
            errors.append(found.value("over_volume") - truth)
            widths.append(found.figures["over_volume"].u95)
            inside += abs(errors[-1]) <= widths[-1]
        self.assertGreaterEqual(inside, 17)
        self.assertLess(np.mean(widths), 3.5 * 1.96 * np.sqrt(np.mean(np.square(errors))))

    def test_what_cannot_be(self):
        points = bore(3.1, 20_000)
        with self.assertRaisesRegex(InputError, "the alignment lies beside the cloud"):
            asked(points, line=STRAIGHT + [0, 500, 0], profile="circle:3")
        with self.assertRaisesRegex(InputError, "has no elevations"):
            asked(points, line=STRAIGHT * [1, 1, np.nan], profile="circle:3")
        for words, said in (("circle:0", "is no profile"), ("square:3", "is no profile"), ("0,0 1,1", "three corners at least"),
                            ("-1,-1 1,1 1,-1 -1,1", "crosses or touches itself"), ("horseshoe:4x1", "is no profile"),
                            ("", "Enter the design profile")):  # fmt: skip
            with self.assertRaisesRegex(InputError, said):
                asked(points, profile=words)
        for profile in ("circle:300", "circle:1"):
            with self.assertRaisesRegex(InputError, "wrong size or unit"):
                asked(points, profile=profile)
        with self.assertRaisesRegex(InputError, "hide others"):
            of_words("-3,0 3,0 3,3 2.9,3 2.9,0.1 -2.9,0.1 -2.9,3 -3,3")
        with self.assertRaisesRegex((InputError, NotDeterminable), "station"):
            asked(points, profile="circle:3", stations="900")
        backwards = asked(bore(3.1), line=STRAIGHT[::-1], profile="circle:3")
        near(backwards.value("over_volume") / (40 * np.pi * (3.1**2 - 9)), 1.0, 5e-3)


class Parts(unittest.TestCase):
    def test_design_lines(self):
        circle = of_words("circle:2.5")
        near(circle.area, np.pi * 2.5**2, 1e-9)
        near(circle.at(np.array([0.3, -2.0]))[0], 2.5, 2e-4)
        shoe = of_words("horseshoe:4x5")
        near(shoe.area, 4 * 3 + np.pi * 2, 1e-3)
        rectangle = of_words("rectangle:4x3")
        near(rectangle.centre, [0, 1.5], 1e-12)
        near(rectangle.at(np.array([0.0, np.pi / 2]))[0], [2.0, 1.5], 1e-12)
        near(rectangle.normal_distance(np.array([[3.0, 1], [0, 1], [0, -0.5]])), [1.0, -1.0, 0.5], 1e-12)
        radius, length = rectangle.at(np.linspace(-3, 3, 50))
        near(
            rectangle.where(length),
            rectangle.centre + radius[:, None] * np.column_stack([np.cos(a := np.linspace(-3, 3, 50)), np.sin(a)]),
            1e-9,
        )
        clockwise = checked(rectangle.corners[::-1])
        near(clockwise.area, 12.0, 1e-12)

    def test_bins_add_up(self):
        """Bins of a line turn once round, and their areas for a wall a little off are those of the closed form."""
        line = of_words("rectangle:4x3")
        bins = Bins.of(line, 280)
        near(bins.turn.sum(), 2 * np.pi, 1e-9)
        near(0.5 * (bins.reach * bins.radius).sum(), line.area, 0.01)
        circle = of_words("circle:3")
        near(Bins.of(circle, 190).areas(np.full(190, 0.2)).sum(), np.pi * (3.2**2 - 9), 1e-3)

    def test_places_come_back(self):
        line = Alignment(
            "", 0.0, (arc(np.array([0.0, -50]), np.zeros(2), np.array([50.0, 0]), False),), (Grade(0, 10), Grade(78, 14))
        )
        axis = Axis.of(line, 1.0)
        rng = np.random.default_rng(2)
        s, across = rng.uniform(1, 77, 300), rng.uniform(-4, 4, (300, 2))
        back, local = axis.local(axis.world(s, across))
        near(back, s, 1e-3)
        near(local, across, 1e-3)
        near(axis.bend(np.array([20.0, 50])), -1 / 50, 1e-4)

    def test_patches_meet_over_the_seam(self):
        cells = np.zeros((6, 20), bool)
        cells[2:4, 0] = cells[3, -1] = cells[5, 10] = True
        number, count = patches_of(cells)
        self.assertEqual(count, 2)
        self.assertEqual(number[2, 0], number[3, 19])
        self.assertEqual(patches_of(np.zeros((3, 3), bool))[1], 0)


class Verb(CommandLine):
    def test_contract_profiles_and_files(self):
        las = laspy.create(file_version="1.4", point_format=6)
        las.header.offsets, las.header.scales = FAR, [0.0005] * 3
        las.xyz = bore(3.1, 60_000) + FAR
        cloud = self.folder / "drive.las"
        las.write(cloud)
        line = self.folder / "axis.geojson"
        places = (STRAIGHT + FAR).tolist()
        line.write_text(
            json.dumps({"type": "Feature", "properties": {}, "geometry": {"type": "LineString", "coordinates": places}})
        )
        drawing = ezdxf.new()
        drawing.header["$INSUNITS"] = 4
        corners = of_words("circle:3").corners * 1000
        drawing.modelspace().add_lwpolyline(corners.tolist(), close=True)
        drawing.saveas(self.folder / "profile.dxf")
        (self.folder / "profile.csv").write_text("x,y\n" + "\n".join(f"{x:.6f},{y:.6f}" for x, y in of_words("circle:3").corners))
        common = ("tunnel", cloud, "--alignment", line, "--unit", "m", "--interval", "5", "--thickness", "0.4", "--cell", "0.2")
        wanted = 40 * np.pi * (3.1**2 - 9)
        for profile in ("circle:3", self.folder / "profile.csv", self.folder / "profile.dxf"):
            found = self.json(*common, "--profile", profile)
            near(found["figures"]["over_volume"]["value"] / wanted, 1.0, 3e-3)
        for name in ("over_area", "under_area", "over_volume", "under_volume", "over_volume_end_areas", "under_volume_end_areas",
                     "max_over", "max_under", "wall_area", "uncovered_share"):  # fmt: skip
            self.assertIn(name, found["figures"])
        self.assertEqual([c["name"] for c in found["tables"]["stations"]["columns"]],
                         ["station", "points", "area", "design_area", "over_area", "under_area", "max_over", "max_under", "uncovered_angle"])  # fmt: skip
        self.assertEqual([c["name"] for c in found["tables"]["patches"]["columns"]],
                         ["name", "station", "offset", "elevation", "area", "volume", "depth"])  # fmt: skip
        self.assertEqual([row[0] for row in found["tables"]["stations"]["rows"]], [5.0, 10, 15, 20, 25, 30, 35, 40, 45])
        out = ("--out", self.folder / "s.dxf", "--flat", self.folder / "flat.dxf", "--patches", self.folder / "p.csv")
        self.json(*common, "--profile", "circle:3", *out, "--report", self.folder / "t.pdf")
        layers = {entity.dxf.layer for entity in ezdxf.readfile(self.folder / "s.dxf").modelspace()}
        self.assertTrue(layers)
        self.assertIn("O1", (self.folder / "p.csv").read_text())
        for name in ("d.laz", "wall.obj", "s.csv"):
            self.assertEqual(self.kerb(*common, "--profile", "circle:3", "--out", self.folder / name)[0], 0, self.error)
        deviation = laspy.read(self.folder / "d.laz")["deviation"]
        near(np.nanmedian(deviation), 0.1, 1e-3)
        for text, said in (("x,y\n0,0\n1,0\n", "three at least"), ("0,0\n1,0\n1,z\n", "line 3 is no pair")):
            bad = self.folder / "bad.csv"
            bad.write_text(text)
            self.assertEqual(self.kerb(*common, "--profile", bad)[0], 2)
            self.assertIn(said, self.error)
