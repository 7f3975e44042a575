"""Sections against closed forms on straight, bent and curved lines, trimesh's own cuts, and the files they are written to."""

import csv
import json
from dataclasses import replace

import ezdxf
import numpy as np
import pyogrio
import trimesh
from lxml import etree

from kerb.core.cloud.view import CloudView
from kerb.core.errors import InputError
from kerb.core.geometry.alignment import Alignment, Element, straight
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.section.cut import cut, joined_by_gaps
from kerb.core.section.cut_kernels import crossings, reference_crossings
from kerb.core.section.frame import Frame, frames
from kerb.core.section.slab import line_of, simplified, slab, spread_about
from kerb.core.section.stations import alignment_of, chosen_stations, direction_at, parsed, written
from kerb.core.things import LINES, MODEL, POINTS, Placed
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.formats.landxml_read import read_landxml
from kerb.formats.landxml_write import LandXmlContent, write_landxml
from kerb.job import vault
from kerb.studies.drawn import Drawn
from kerb.studies.scope import Scope
from kerb.studies.sections.kind import describe, drawings, with_station
from kerb.studies.sections.run import run
from kerb.studies.sections.setup import SectionsSetup
from tests.support import FAR, CommandLine, near, sources_of, store_of

BEND = np.array([[0.0, 0.0], [60.0, 0.0], [60.0, -40.0]])


def crown(offset, along):
    """A road: two per cent up along it, three per cent down to both sides."""
    return 10 + 0.02 * along - 0.03 * np.abs(offset)


class Stations(CommandLine):
    def test_stations_of_a_bent_line(self):
        line = alignment_of(BEND + FAR[:2])
        self.assertEqual((line.length, line.end_station), (100.0, 100.0))
        near(chosen_stations(line, 25.0, np.empty(0)), [0, 25, 50, 75, 100])
        near(chosen_stations(line, 30.0, np.array([12.5, 60.0])), [0, 12.5, 30, 60, 90])
        near(chosen_stations(line, None, np.array([99.0, 7.0]), ends=True, vertices=True), [0, 7, 60, 99, 100])
        near(np.degrees(direction_at(line, np.array([0.0, 59.9, 60.0, 60.1, 100.0]))), [90, 90, 135, 180, 180], 1e-6)
        for bad in (np.array([101.0]), np.array([-0.1])):
            with self.assertRaisesRegex(InputError, "is not on the line, which runs from 0 to 100"):
                chosen_stations(line, None, bad)
        with self.assertRaisesRegex(InputError, "above zero"):
            chosen_stations(line, 0.0, np.empty(0))
        with self.assertRaisesRegex(InputError, "makes 1e\\+0?8|makes 100000001"):
            chosen_stations(line, 1e-6, np.empty(0))
        with self.assertRaisesRegex(InputError, "two places that differ"):
            alignment_of(np.zeros((3, 2)))
        late = Alignment("late", 1003.0, (straight(np.zeros(2), np.array([50.0, 0])),))
        near(chosen_stations(late, 20.0, np.empty(0)), [1020, 1040], msg="multiples of the interval, not from the start")

    def test_station_equations(self):
        """As handbooks of route surveying have them (common practice): 12+50 back is 20+00 ahead, a gap; then 22+00 back is
        21+50 ahead, an overlap. Counted on from 10+00 the line is 500 long."""
        line = Alignment("road", 1000.0, (straight(np.zeros(2), np.array([500.0, 0])),), (), (), ((1250, 2000), (1450, 2150)))
        self.assertEqual([line.shown(s) for s in (1000, 1249, 1250, 1300, 1449, 1450, 1500)],
                         [1000, 1249, 2000, 2050, 2199, 2150, 2200])  # fmt: skip
        self.assertEqual([line.counted(s) for s in (1100, 1250, 1500, 2050, 2175, 2200)],
                         [[1100], [], [], [1300], [1425, 1475], [1500]])  # fmt: skip
        found = chosen_stations(line, 100.0, np.array([2175.0]))
        self.assertEqual([line.shown(s) for s in found], [1000, 1100, 1200, 2000, 2100, 2175, 2175, 2200])
        near(line.at(found)[:, 0], [0, 100, 200, 250, 350, 425, 475, 500])
        with self.assertRaisesRegex(InputError, "station 1300 is not on the line"):
            chosen_stations(line, None, np.array([1300.0]))
        self.assertEqual(line.scaled(2.0, 1.0).equations, ((2500, 4000), (2900, 4300)))
        path = self.folder / "road.xml"
        write_landxml(
            path,
            LandXmlContent(lines=LineSet((Line(np.zeros((2, 3)), False, "road", "alignments"),), (line,))),
            local_grid(METRE),
        )
        self.assertIn('staAhead="2150.0" staBack="2200.0" staInternal="1450.0"', path.read_text())
        self.assertEqual(read_landxml(path).alignments[0].equations, line.equations)
        kept = Placed(LINES, LineSet((), (line,)), local_grid(METRE))
        vault.save_thing(self.folder / "kept", kept)
        self.assertEqual(vault.load_thing(self.folder / "kept").thing.alignments[0].equations, line.equations)
        text = path.read_text().replace('staInternal="1450.0"', "").replace('staInternal="1250.0"', 'staInternal="950"')
        path.write_text(text)
        again = read_landxml(path)
        self.assertEqual(again.alignments[0].equations, (), "a place before its start, and a back side counted from there")
        self.assertIn("does not lie on it", " ".join(words for _, words in again.notes))

    def test_how_stations_are_typed_and_written(self):
        near(parsed("120, 0+140 1+05.5;-3", METRE), [120, 140, 1005.5, -3])
        near(parsed("1+05.5", FOOT), [105.5])
        self.assertEqual([written(s, METRE) for s in (0.0, 140.0, 1250.5, 999.999, -20.0)],
                         ["0+000.00", "0+140.00", "1+250.50", "1+000.00", "-0+020.00"])  # fmt: skip
        self.assertEqual([written(s, US_SURVEY_FOOT) for s in (0.0, 140.0, 1250.5)], ["0+00.00", "1+40.00", "12+50.50"])
        for bad in ("1+", "abc", "1++2", "nan"):
            with self.assertRaisesRegex(InputError, "is no station"):
                parsed(bad, METRE)

    def test_where_sections_are_taken(self):
        """On a line of 30 and 40: at a round interval only where nothing else is asked for."""
        line = alignment_of(np.array([[0.0, 0, 0], [30, 0, 0], [30, 40, 0]]) + FAR, "bend")
        for values, wanted in (
            ({}, np.arange(0, 65, 8)), ({"at_vertices": True}, [0, 30, 70]), ({"at_ends": True}, [0, 70]),
            ({"stations": "12; 0+055"}, [12, 55]), ({"stations": "12", "at_ends": True}, [0, 12, 70]),
            ({"interval": 25.0, "at_vertices": True}, [0, 25, 30, 50, 70]),
        ):  # fmt: skip
            near(SectionsSetup(Scope("cloud"), **values).chosen(line, METRE), wanted, 1e-9)


class Slices(CommandLine):
    def test_lines_on_a_bent_and_a_curved_road(self):
        """Points of a road along its own alignment, sections square to it: crown, sides and levels, in three units."""
        curve = Alignment("curve", 500.0, (Element((0.0, 0.0), 0.4, 60.0, 0.01, 0.01),))
        rng = np.random.default_rng(4)
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            for road in (alignment_of(BEND), curve):
                stations, offset = rng.uniform(road.marks[0], road.end_station, 60_000), rng.uniform(-9, 9, 60_000)
                azimuth = direction_at(road, stations)
                right = np.column_stack([np.cos(azimuth), -np.sin(azimuth)])
                # The left of the road lies half a metre higher.
                z = crown(offset, stations - road.marks[0]) + np.where(offset < 0, 0.5, 0.0)
                xy = road.at(stations)[:, :2] + offset[:, None] * right
                store = store_of(np.column_stack([xy, z]) / unit.metres + FAR, unit)
                moved = road.scaled(1 / unit.metres, 1 / unit.metres).mapped(lambda p: p + np.append(FAR[:2], 0.0))
                at = 17.0 / unit.metres + moved.marks[0]
                frame = frames(moved, np.array([at]), 16.0 / unit.metres, 1.0 / unit.metres)[0]
                local = slab(CloudView(store), frame)
                found, level = line_of(local, frame.width, 0.5 / unit.metres, "median")
                found, level = found * unit.metres, (level - FAR[2]) * unit.metres
                clear = np.abs(found) > 0.3
                wanted = crown(found, (at - moved.marks[0]) * unit.metres) + np.where(found < 0, 0.5, 0.0)
                near(level[clear], wanted[clear], 0.012)
                near(found[[0, -1]], [-8.0, 8.0])

    def test_what_belongs_to_a_slice(self):
        """Faces included: half the thickness before and behind, half the width to each side, and no more."""
        rows = [[0, 0.5, 1], [0, 0.5001, 2], [0, -0.5, 3], [5, 0, 4], [5.001, 0, 5], [-5, 0.2, 6]]
        store = store_of(np.array(rows) + [FAR[0], FAR[1], 0])
        local = slab(CloudView(store), Frame(0.0, (FAR[0], FAR[1]), 0.0, 10.0, 1.0))
        self.assertEqual(sorted(np.round(local[:, 2]).tolist()), [1, 3, 4, 6])

    def test_line_against_a_slow_one(self):
        rng = np.random.default_rng(7)
        local = np.column_stack([rng.uniform(-6, 6, 400), rng.uniform(-1, 1, 400), rng.normal(0, 3, 400)])
        local = local[np.abs(local[:, 0] - 2) > 1.2]
        for take, pick in (("lowest", np.min), ("highest", np.max), ("median", np.median)):
            offset, z = line_of(local, 10.0, 0.7, take)
            near(offset, np.arange(-7, 8) * 0.7)
            cells = [local[(local[:, 0] >= o - 0.35) & (local[:, 0] < o + 0.35)] for o in offset]
            if take == "median":
                x, m = (np.array([np.median(c[:, k]) if len(c) else np.nan for c in cells]) for k in (0, 2))
                fall = []
                for k in range(len(m)):
                    sides = [(m[j] - m[k]) / (x[j] - x[k]) for j in (k - 1, k + 1) if 0 <= j < len(m)]
                    known = [s for s in sides if np.isfinite(s)] or [0.0]
                    fall.append(min(known, key=abs) if min(known) * max(known) > 0 else 0.0)
                cells = [
                    np.column_stack([c[:, :2], c[:, 2] - f * (c[:, 0] - o)]) for c, f, o in zip(cells, fall, offset, strict=True)
                ]
            wanted = [pick(c[:, 2]) if len(c) else np.nan for c in cells]
            np.testing.assert_allclose(z, wanted, atol=1e-9)
            self.assertTrue(np.isnan(z).any(), "the gap stays open")
        ramp = np.column_stack([rng.uniform(-5, 5, 300) ** 3 / 25, np.zeros(300), np.zeros(300)])
        ramp[:, 2] = 0.5 * ramp[:, 0]
        offset, z = line_of(ramp, 10.0, 1.0, "median")
        near(z, 0.5 * offset, 1e-9, "points that lie unevenly do not shift a line on a slope")

    def test_simplified_stays_near_and_keeps_gaps(self):
        x = np.arange(0, 20.0)
        z = np.where(x < 8, 0.1 * x, np.where(x < 11, np.nan, 5.0 - 0.2 * x))
        offset, level = simplified(x, z, 0.001)
        near(offset[[0, 1, 3, 4]], [0, 7, 11, 19])
        self.assertTrue(np.isnan(level[2]))
        self.assertEqual(len(simplified(x, np.full(20, np.nan), 0.1)[0]), 0)


class Spread(CommandLine):
    def test_noise_and_gaps(self):
        """Noise of 12 mm on a slope is found again; a gap of the line does not count, nor do strays."""
        rng = np.random.default_rng(3)
        x = rng.uniform(-5, 5, 40_000)
        x = x[(x < -1) | (x > 2)]
        z = 0.3 * x + rng.normal(0, 0.012, len(x))
        z[::50] += 2.0
        local = np.column_stack([x, np.zeros(len(x)), z])
        offset, line = line_of(local, 10.0, 0.1, "median")
        self.assertAlmostEqual(spread_about(local, offset, line), 0.012, delta=0.0006)
        across = np.vstack([local, np.column_stack([rng.uniform(-0.9, 1.9, 60_000), np.zeros(60_000), np.full(60_000, 9.0)])])
        self.assertAlmostEqual(spread_about(across, offset, line), 0.012, delta=0.0006)
        self.assertIsNone(spread_about(local[:0], offset, line))
        self.assertIsNone(spread_about(local, offset, np.full(len(offset), np.nan)))


class Cuts(CommandLine):
    def test_as_trimesh_cuts(self):
        """Total length and bounds of the cut of a bumpy sphere and of a box, by trimesh's own section."""
        ball = trimesh.creation.icosphere(3, 5.0)
        ball.vertices *= 1 + 0.1 * np.sin(ball.vertices[:, [2]] * 3)
        for mesh in (ball, trimesh.creation.box((4.0, 6.0, 3.0))):
            mesh.apply_translation(FAR)
            for azimuth, along in ((0.0, 0.3), (0.7, -1.1), (2.0, 1.9)):
                frame = Frame(0.0, tuple(FAR[:2] + along * np.array([np.sin(azimuth), np.cos(azimuth)])), azimuth, 40.0, 1.0)
                lines = cut(frame, np.asarray(mesh.vertices), np.asarray(mesh.faces, np.int32))
                theirs = mesh.section([*frame.ahead, 0.0], [*frame.place, 0.0])
                length = sum(np.hypot(*np.diff(line, axis=0).T).sum() for line in lines)
                self.assertAlmostEqual(length, theirs.length, delta=1e-6 * theirs.length)
                self.assertEqual(len(lines), len(theirs.entities), "one line a body")
                self.assertTrue(all(np.array_equal(line[0], line[-1]) for line in lines), "and it is closed")
                local = frame.local(np.asarray(theirs.vertices))
                whole = np.concatenate(lines)
                near(whole.min(axis=0), local[:, [0, 2]].min(axis=0), 1e-6)
                near(whole.max(axis=0), local[:, [0, 2]].max(axis=0), 1e-6)

    def test_the_kernel_finds_the_edges_of_the_plain_way(self):
        rng = np.random.default_rng(3)
        side = rng.integers(-2, 3, 60).astype(float)
        triangles = np.array([rng.choice(60, 3, replace=False) for _ in range(400)], np.int32)
        ends, shares = np.empty((400, 2, 2), np.int64), np.empty((400, 2))
        count = crossings(side, triangles, ends, shares)
        found = [{tuple(edge) for edge in row} for row in ends[:count].tolist()]
        self.assertEqual(found, [set(row) for row in reference_crossings(side, triangles)])
        a, b = side[ends[:count, :, 0]], side[ends[:count, :, 1]]
        near(a + shares[:count] * (b - a), 0 * a, 1e-12)

    def test_a_face_in_the_plane_is_no_line_and_the_width_cuts_off(self):
        vertices = np.array([[-9, 0, 0], [9, 0, 0], [0, 0, 4], [0, 8, 1.0]])
        frame = Frame(0.0, (0.0, 0.0), 0.0, 6.0, 1.0)
        self.assertEqual(cut(frame, vertices, np.array([[0, 1, 2]], np.int32)), [])
        roof = np.array([[-9.0, -1, 0], [9, -1, 9], [9, 1, 9], [-9, 1, 0]])
        (line,) = cut(frame, roof, np.array([[0, 1, 2], [0, 2, 3]], np.int32))
        line = line[np.argsort(line[:, 0])]
        near(line[[0, -1]], [[-3, 3], [3, 6]])
        joined = joined_by_gaps([np.array([[5.0, 1], [3, 1]]), np.array([[0.0, 2], [1, 2]])])
        near(joined[:, 0], [0, 1, 3, 3, 5])
        self.assertEqual(np.flatnonzero(np.isnan(joined[:, 1])).tolist(), [2])


class Study(CommandLine):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(2)
        xy = rng.uniform([-5, -12], [105, 12], (90_000, 2))
        self.store = store_of(np.column_stack([xy, crown(xy[:, 1], xy[:, 0])]) + FAR)
        self.line = Drawn.of(np.array([[0.0, 0.0], [100.0, 0.0]]) + FAR[:2])
        shots = np.array([[20.0, -3.0, 9.0], [20.25, 2.0, 8.0], [20.26, 2.0, 8.0], [40.0, 9.99, 7.0], [40.0, -10.01, 7.0]])
        box = trimesh.creation.box((300.0, 8.0, 2.0))
        box.apply_translation(FAR)
        system = local_grid(METRE)
        self.sources = sources_of(
            self.store, points=Placed(POINTS, SurveyPoints(shots + FAR, tuple("abcde"), ("",) * 5), system),
            **{"surfaces.0": Placed(MODEL, TriangleMesh(np.asarray(box.vertices), np.asarray(box.faces, np.int32)), system)},
        )  # fmt: skip

    def run_it(self, **values):
        setup = SectionsSetup(cloud=Scope("cloud"), line=self.line, **{"interval": 20.0, **values})
        return setup, run(setup, self.sources, silent())

    def test_one_along_a_bent_line(self):
        """Unrolled at its bend: distances are stations, and it goes back to where it lies."""
        self.line = Drawn.of(np.array([[80.0, 8.0], [80.0, -3.5], [20.0, -3.5]]) + FAR[:2])
        box = Scope("surfaces.0")
        _, outcome = self.run_it(way="along", points="points", surfaces=(box,), step=0.5, thickness=2.2, interval=None)
        # Looked at from the west: sixty along the south, then eleven and a half up to the north across the crown.
        line = np.array([row[:3] for row in outcome.tables["line"].rows])
        east, north = 20 + np.minimum(line[:, 0], 60), -3.5 + np.maximum(line[:, 0] - 60, 0)
        near(line[:, 2] - FAR[2], crown(north, east), 0.05)
        self.assertEqual((line[0, 0], line[-1, 0], set(line[:, 1])), (0.0, 71.5, {0.0}))
        shots = [(row[1], round(row[0], 3), round(row[4], 3)) for row in outcome.tables["shots"].rows]
        self.assertEqual(shots, [("a", 0.0, 0.5)], "ahead of the plane is to the left of the line")
        (profile,) = outcome.profiles
        near(profile.line - FAR[:2], [[20, -3.5], [80, 8]])
        top = profile.traces[1][2] - FAR[2]
        near(top[(profile.distance > 0.5) & (profile.distance < 67.0)], 1.0)
        self.assertTrue(np.isnan(top[profile.distance > 68.1]).all(), "the box ends at four north")
        (made,) = drawings(outcome)
        # Laid out flat, its plane goes from the first to the last of its vertices.
        near(made.frame.place - FAR[:2], [20, -3.5])
        near(made.frame.right, np.array([60, 11.5]) / np.hypot(60, 11.5))
        self.assertEqual((made.frame.station, made.frame.width), (0.0, 71.5))
        later = {**outcome.settings, "stations": [s + 1000.0 for s in outcome.settings["stations"]]}
        (moved,) = drawings(replace(outcome, settings=later))
        near(moved.lines[0][1] - made.lines[0][1], np.tile([1000.0, 0.0], (len(made.lines[0][1]), 1)))
        self.assertEqual(describe({"way": "along", "thickness": 2.2}, outcome), ["along the line, 2.2 m thick"])
        across = describe({"way": "across", "thickness": 0.5, "width": 30.0}, outcome)
        self.assertEqual(across, ["30 m wide, slices of 0.5 m"])
        near(made.job(np.array([30.0, 66.0]), np.zeros(2))[:, :2] - FAR[:2], [[50, -3.5], [80, 2.5]])
        self.assertEqual(outcome.value("sections"), 1)

    def test_a_click_adds_the_station_beside_it(self):
        setup, _ = self.run_it(stations="5; 7.5")
        for place, wanted in (([30.25, 4.0], "5, 7.5, 0+030.25"), ([5.0, -9.0], None), ([160.0, 3.0], InputError)):
            place = np.array([*place, 3.0]) + FAR
            if wanted is InputError:
                with self.assertRaisesRegex(InputError, "no station square"):
                    with_station(setup, self.sources, place)
                continue
            found = with_station(setup, self.sources, place)["stations"]
            self.assertEqual(found, wanted or found)
            again = with_station(replace(setup, stations=found), self.sources, place)
            self.assertEqual(again["stations"], found, "one that is there already is not added")

    def test_thickness_decides_which_shots_lie_on_it(self):
        for thickness, names in ((0.4, "a"), (0.5, "ba"), (0.6, "bca")):
            _, outcome = self.run_it(points="points", thickness=thickness, stations="20", interval=None)
            self.assertEqual("".join(row[1] for row in outcome.tables["shots"].rows), names, thickness)

    def test_what_is_odd_is_said(self):
        self.line = Drawn.of(np.array([[0.0, 0.0], [300.0, 0.0]]) + FAR[:2])
        _, outcome = self.run_it(interval=50.0)
        notes = {note.code: note.text for note in outcome.warnings}
        self.assertIn("no point of the cloud lies in 4 of 7 sections: 0+150.00", notes["empty"])
        self.assertIsNone(outcome.tables["sections"].rows[-1][2])
        for values, words in (({"width": 0.0}, "must be above zero"), ({"stations": "1+x"}, "no station"), ({"stations": "0+301"}, "not on the line"),
                              ({"interval": 500.0, "stations": ""}, None)):  # fmt: skip
            if words is None:
                self.assertEqual(self.run_it(**values)[1].value("sections"), 1)
                continue
            with self.assertRaisesRegex(InputError, words):
                self.run_it(**values)
        self.line = Drawn()
        with self.assertRaisesRegex(InputError, "Draw the line"):
            self.run_it()

    def test_lines_of_a_holding(self):
        """An alignment with stations of its own rules; of several lines one must be named."""
        system = local_grid(METRE)
        own = Alignment("axis", 1000.0, (straight(FAR[:2], FAR[:2] + [50.0, 0]),))
        lines = (Line(np.array([[0, 0, 0], [30.0, 0, 0]]) + FAR, False, "north"), Line(np.zeros((3, 3)), True, "area"))
        for content, which, stations in (
            (LineSet(lines, (own,)), "", [1000, 1020, 1040]), (LineSet(lines, (own,)), "north", [0, 20]),
            (LineSet(lines), "", [0, 20]), (LineSet((*lines, lines[0].__class__(lines[0].xyz, False, "south"))), "", None),
        ):  # fmt: skip
            self.sources.items["along"] = sources_of(self.store, along=Placed(LINES, content, system)).items["along"]
            if stations is None:
                with self.assertRaisesRegex(InputError, "has 2 lines, one is needed; say which: north, south"):
                    self.run_it(along="along", which=which)
                continue
            _, outcome = self.run_it(along="along", which=which)
            self.assertEqual([row[0] for row in outcome.tables["sections"].rows], stations)
        with self.assertRaisesRegex(InputError, "has no line 'x'"):
            self.run_it(along="along", which="x")


class Written(CommandLine):
    def test_from_files_to_every_format(self):
        """From the command line in US survey feet: the same places in DXF, GeoPackage, LandXML, CSV, and the flat layout."""
        rng = np.random.default_rng(2)
        xy = rng.uniform([-20, -40], [330, 40], (60_000, 2))
        rows = np.column_stack([xy, 100 + 0.05 * xy[:, 1]]) + [2_000_000, 700_000, 0]
        (self.folder / "road.csv").write_text("e,n,z\n" + "\n".join(f"{e:.3f},{n:.3f},{z:.3f}" for e, n, z in rows))
        (self.folder / "axis.wkt").write_text("LINESTRING (2000000 700000, 2000300 700000)")
        ask = ["sections", "road.csv", "--along", "axis.wkt", "--unit", "us-ft", "--interval", 100, "--width", 60]
        import os

        here = os.getcwd()
        os.chdir(self.folder)
        try:
            outcome = self.json(*ask, "--out", "s.dxf", "--flat", "flat.dxf", "--report", "s.pdf")
            for name in ("s.gpkg", "s.xml", "s.csv", "s.shp"):
                self.json(*ask, "--out", name)
            status, _ = self.kerb(*ask, "--out", "s.dxf")
            self.assertEqual(status, 2, "not overwritten without --force")
            status, _ = self.kerb(*ask, "--out", "s.doc")
            self.assertIn("s.doc: sections are written as", self.error)
            self.kerb(*ask, "--out", "one.dxf", "--flat", "one.dxf")
            self.assertIn("one.dxf: is named as more than one output", self.error)
            self.kerb("sections", "road.csv", "--along", "none.wkt")
            self.assertIn("none.wkt: no such file", self.error)
        finally:
            os.chdir(here)
        self.assertEqual((outcome["unit"], outcome["figures"]["sections"]["value"]), ("us-ft", 4))
        table = outcome["tables"]["line"]["rows"]
        self.assertTrue(
            all(abs(z - (100 - 0.05 * o)) < 0.05 for _, o, z, _ in table), "the right of an axis to the east is south"
        )
        drawing = ezdxf.readfile(self.folder / "s.dxf")
        places = np.concatenate([np.array([v.dxf.location for v in e.vertices]) for e in drawing.query("POLYLINE")])
        self.assertEqual(drawing.header["$INSUNITS"], 21)
        near(sorted(set(np.round(places[:, 0] - 2_000_000))), [0, 100, 200, 300])
        near(places[:, 2], 100 + 0.05 * (places[:, 1] - 700_000), 0.05)
        flat = ezdxf.readfile(self.folder / "flat.dxf")
        self.assertEqual(len(flat.query("LWPOLYLINE[layer=='road.csv']")), 4)
        self.assertEqual(len([t for t in flat.query("TEXT") if t.dxf.text.startswith("Station 3+00.00")]), 1)
        about, _, _, values = pyogrio.raw.read(self.folder / "s.gpkg", layer="lines")
        near(sorted(values[list(about["fields"]).index("station")]), [0, 100, 200, 300])
        tree = etree.parse(self.folder / "s.xml")
        space = {"x": tree.getroot().nsmap[None]}
        self.assertEqual([c.get("sta") for c in tree.findall(".//x:CrossSect", space)], ["0.0", "100.0", "200.0", "300.0"])
        numbers = np.array(tree.find(".//x:CrossSectSurf/x:PntList2D", space).text.split(), float).reshape(-1, 2)
        near(numbers[:, 1], 100 - 0.05 * numbers[:, 0], 0.05)
        with open(self.folder / "s.csv") as stream:
            head, *body = list(csv.reader(stream))
        self.assertEqual(head[:4], ["station (us-ft)", "offset (us-ft)", "elevation (us-ft)", "code"])
        self.assertEqual(len(body), len(json.loads(json.dumps(outcome["tables"]["line"]["rows"]))))
        self.assertTrue((self.folder / "s.pdf").read_bytes().startswith(b"%PDF"))
