"""Files made to hold, or to bring down, whoever opens them: each is refused in one line before long."""

import json
import os
import sqlite3
import subprocess
import time
from dataclasses import replace

import numpy as np
import shapely
from ezdxf import filemanagement

from kerb.core.errors import Cancelled, FormatError, InputError, NotDeterminable
from kerb.core.geometry.alignment import Alignment, Grade, straight
from kerb.core.geometry.features import Line, LineSet
from kerb.core.placing import consistent, route
from kerb.core.progress import Progress, silent
from kerb.core.reference import from_text, local_grid
from kerb.core.units import METRE
from kerb.formats.dxf_read import read_dxf
from kerb.formats.ifc_read import head_of, read_ifc, read_ifc_head
from kerb.formats.landxml_write import LandXmlContent, write_landxml
from kerb.formats.recognise import examine
from kerb.formats.vector import read_features, vector_layers, write_layers
from kerb.formats.written import placed_when_complete
from kerb.job.job import Change, Job
from kerb.job.state import Holding, StudyRecord
from tests.support import DATA, CommandLine, store_of

HOUSE = DATA / "house.ifc"


class HoldsLong(CommandLine):
    def quickly(self, reason, what, *words):
        began = time.monotonic()
        with self.assertRaisesRegex(FormatError, reason):
            what(*words)
        self.assertLess(time.monotonic() - began, 60)

    def test_a_model_whose_placements_run_in_a_ring_ends_its_own_process(self):
        text = HOUSE.read_text()
        first = next(line for line in text.splitlines() if "IFCLOCALPLACEMENT($," in line)
        own, _, rest = first.partition("= IFCLOCALPLACEMENT($,")
        ring = self.folder / "ring.ifc"
        ring.write_text(text.replace(first, f"{own}=IFCLOCALPLACEMENT({own},{rest}"))
        self.assertGreater(sum(read_ifc_head(ring).types.values()), 10, "the list of its elements needs no place")
        self.quickly(r"ring.ifc: reading it ended the reader \(SIGSEGV\)", read_ifc, ring, (), silent())
        status, _ = self.kerb("info", ring)
        self.assertEqual(status, 2)
        self.assertEqual(len(self.error.strip().splitlines()), 1)

    def test_what_a_model_holds_is_the_same_apart(self):
        self.assertEqual(read_ifc_head(HOUSE), head_of(HOUSE, silent()))
        progress = Progress()
        progress.stop()
        with self.assertRaises(Cancelled):
            read_ifc(HOUSE, (), progress)

    def test_blocks_in_blocks(self):
        for name, make in (("nested", self.nested), ("many", self.many)):
            path = self.folder / f"{name}.dxf"
            make().saveas(path)
            self.quickly("its blocks make .* entities; the most is", read_dxf, path)

    def nested(self):
        drawing = filemanagement.new("R2013")
        block = drawing.blocks.new("A0")
        for k in range(10):
            block.add_line((0, 0), (k + 1, 1))
        for n in range(1, 8):
            outer = drawing.blocks.new(f"A{n}")
            for k in range(10):
                outer.add_blockref(f"A{n - 1}", (k, 0))
        drawing.modelspace().add_blockref("A7", (0, 0))
        return drawing

    def many(self):
        drawing = filemanagement.new("R2013")
        drawing.blocks.new("A0").add_line((0, 0), (1, 1))
        insert = drawing.modelspace().add_blockref("A0", (0, 0))
        insert.dxf.row_count = insert.dxf.column_count = 30_000
        insert.dxf.row_spacing = insert.dxf.column_spacing = 1
        return drawing

    def test_a_view_without_end(self):
        path = self.folder / "v.gpkg"
        write_layers(path, [("points", np.array([shapely.Point(1, 2, 3)], object), {"name": ["a"]})], from_text("EPSG:25830"))
        base = sqlite3.connect(path)
        base.execute("CREATE VIEW good AS SELECT fid, geom, name FROM points")
        base.execute("INSERT INTO gpkg_contents(table_name,data_type,identifier,srs_id) VALUES('good','features','good',25830)")
        base.execute("INSERT INTO gpkg_geometry_columns VALUES('good','geom','POINT',25830,1,0)")
        base.commit()
        self.assertEqual({layer.name for layer in vector_layers(path)[0]}, {"points", "good"})
        base.execute("CREATE VIEW endless AS WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n) SELECT i AS fid, geom "
                     "FROM n, points WHERE i < 0")  # fmt: skip
        base.commit()
        base.close()
        self.quickly("a view of it computes for more than", read_features, path)

    def test_a_quote_that_is_never_closed(self):
        path = self.folder / "q.csv"
        path.write_text('x,y,z,name\n1,2,3,"open\n' + "2,3,4,b\n" * 200_000)
        status, _ = self.kerb("surface", path)
        self.assertEqual(status, 2)
        self.assertIn("q.csv: a quotation mark is opened and never closed", self.error)

    def test_ground_on_one_line_has_no_heights(self):
        from kerb.core.cloud.heights import heights

        rng = np.random.default_rng(0)
        wall = np.column_stack([np.full(4000, 500.0), rng.uniform(0, 30, 4000), rng.uniform(0, 10, 4000)])
        for points in (wall, wall[:, [1, 1, 2]]):
            with self.assertRaisesRegex(NotDeterminable, "on one line in plan"):
                heights(store_of(points), (2,), silent())


class Damaged(CommandLine):
    def test_a_file_of_lines_and_areas_without_a_name_for_its_kind(self):
        shapes = {"a": {"type": "LineString", "coordinates": [[0, 0], [10, 0], [20, 5]]},
                  "b": {"type": "Polygon", "coordinates": [[[0, 0], [10, 0], [10, 10], [0, 0]]]}}  # fmt: skip
        points = {"p": {"type": "Point", "coordinates": [1, 2, 3]}}
        for name, found, wanted in (("two", shapes, {"lines": 2}), ("three", shapes | points, {"lines": 2, "points": 1})):
            features = [{"type": "Feature", "properties": {"name": key}, "geometry": g} for key, g in found.items()]
            path = self.folder / f"{name}.geojson"
            path.write_text(json.dumps({"type": "FeatureCollection", "features": features}))
            seen = examine(path)
            self.assertEqual({offer.kind: offer.count for offer in seen.offers}, wanted)
            self.assertEqual(self.kerb("add", self.folder / f"{name}.kerb", path, "--seen")[0], 0, self.error)
            self.assertEqual({h.kind: h.points for h in Job.open(self.folder / f"{name}.kerb").state.holdings}, wanted)

    def test_points_out_of_reach_and_profiles_without_numbers(self):
        far = self.folder / "far.csv"
        far.write_text("x,y,z\n1e30,2,3\n1e31,4,5\n")
        self.assertEqual(self.kerb("info", far)[0], 2)
        self.assertIn("holds no point that can be read", self.error)
        line = Alignment("a", 0.0, (straight(np.zeros(2), np.array([100.0, 0])),), (Grade(0, 1), Grade(50, 2, 20), Grade(100, 1)))
        path = self.folder / "a.xml"
        write_landxml(
            path, LandXmlContent(lines=LineSet((Line(np.zeros((2, 3)), False, "a", "alignments"),), (line,))), local_grid(METRE)
        )
        text = path.read_text()
        for bad in ("50.0 nan", "inf 2.0"):
            path.write_text(text.replace("50.0 2.0", bad))
            self.assertEqual(self.kerb("info", path)[0], 2, bad)
            self.assertIn("a.xml: line", self.error)
        path.write_text(text.replace('length="20.0"', 'length="1e300"'))
        self.assertEqual(self.kerb("info", path)[0], 0, self.error)

    def test_a_damaged_definition_of_a_system_is_named(self):
        broken = replace(from_text("EPSG:25830"), wkt="PROJCRS[nonsense")
        with self.assertRaisesRegex(InputError, "definition of the reference system .* is damaged"):
            route(broken, from_text("EPSG:4326"))
        with self.assertRaisesRegex(InputError, "is damaged"):
            consistent(broken)

    def test_what_was_saved_equals_what_was(self):
        job = Job.create(self.folder / "a.kerb")
        holding = Holding("0123456789", "H", data="data/0123456789", style={"limits": (1.0, 2.0)})
        study = StudyRecord("s", "stockpile", "S", setup={"places": ((0, 1), (2, 3))}, look={"bands": (1, 2)})
        job.execute(Change("x", lambda s: s.with_holding(holding).with_study(study)))
        job.save()
        self.assertEqual(Job.open(job.folder).state, job.state)
        self.assertFalse(job.changed)

    def test_half_written_files_of_the_dead_are_swept_whatever_they_were(self):
        dead = subprocess.Popen(["true"])
        dead.wait()
        left = self.folder / f".other name.{dead.pid}-3.partial.laz"
        mine = self.folder / f".live.{os.getpid()}-900.partial.laz"
        note = self.folder / ".my.partial notes"
        for path in (left, mine, note):
            path.write_text("x")
        # Of another name it counts as left behind when it has not changed for an hour.
        os.utime(left, (1e9, 1e9))
        with placed_when_complete(self.folder / "new.csv") as partial:
            partial.write_text("y")
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), sorted(["new.csv", mine.name, note.name]))
