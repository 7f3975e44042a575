"""Files made to hurt: bombs, tricks, lies and noise. Each ends in a clear error, soon, in little memory."""

import resource
import struct
import time

import numpy as np
import rasterio
import shapely
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from kerb.core.errors import InputError, KerbError
from kerb.core.progress import silent
from kerb.formats.landxml_read import read_landxml
from kerb.formats.points import open_points
from kerb.formats.read_things import Reading, read_offer
from kerb.formats.recognise import examine
from kerb.formats.text_points import TextStream, read_survey_points
from kerb.formats.text_table import sniffed
from kerb.job.holdings import ImportWish, import_file
from kerb.job.job import Job
from tests.support import DATA, Folder

SECONDS, MEGABYTES = 60.0, 900
LANDXML = '<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2"><Units><Metric linearUnit="meter"/></Units>{}</LandXML>'


class Hostile(Folder):
    def setUp(self):
        super().setUp()
        self.began = time.monotonic()
        self.before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss

    def tearDown(self):
        self.assertLess(time.monotonic() - self.began, SECONDS)
        grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - self.before) / 1024
        self.assertLess(grown, MEGABYTES, "memory")

    def file(self, name, data):
        path = self.folder / name
        path.write_bytes(data if isinstance(data, bytes) else data.encode())
        return path

    def refused(self, path, words=""):
        """Everything a file offers is refused with an error of ours that names it."""
        with self.assertRaisesRegex(InputError, words) as caught:
            seen = examine(path)
            for offer in seen.offers:
                if offer.kind == "cloud":
                    for _ in open_points(path).chunks(100_000):
                        pass
                else:
                    read_offer(seen, offer, Reading(), silent())
        self.assertIn(path.name, str(caught.exception))


class Bombs(Hostile):
    def test_xml_entities(self):
        bomb = '<!DOCTYPE l [<!ENTITY a "ha">' + "".join(f'<!ENTITY {chr(98 + k)} "{f"&{chr(97 + k)};" * 10}">' for k in range(9))
        body = "]><{0}>&j;</{0}>"
        self.refused(self.file("bomb.xml", bomb + body.format("LandXML")), "entities")
        self.refused(self.file("bomb.kml", bomb + body.format("kml")), "first bytes|entities")
        outside = '<?xml version="1.0"?><!DOCTYPE x [<!ENTITY e SYSTEM "file:///etc/passwd">]><LandXML>&e;</LandXML>'
        self.refused(self.file("reach.xml", outside), "entities")
        late = (
            "<?xml version='1.0'?>"
            + " " * 70_000
            + '<!DOCTYPE x [<!ENTITY e "x">]><LandXML><CgPoints><CgPoint>&e;</CgPoint></CgPoints></LandXML>'
        )
        self.refused(self.file("late.xml", late))

    def test_deep_and_wide_xml(self):
        self.refused(self.file("deep.xml", "<LandXML>" + "<a>" * 200_000), "valid XML")
        self.refused(
            self.file("deeper.xml", "<LandXML>" + "<a>" * 300_000 + "</a>" * 300_000 + "</LandXML>"), "holds no|valid XML"
        )
        self.refused(self.file("other.xml", "<svg><LandXML/></svg>"), "not LandXML")
        self.refused(self.file("cut.xml", LANDXML.format("<CgPoints><CgPoint name='1'>1 2 3")[:-30]), "valid XML")

    def test_raster_and_picture_bombs(self):
        png = b"\x89PNG\r\n\x1a\n" + struct.pack(">I4sIIBBBBBI", 13, b"IHDR", 2**31 - 1, 2**31 - 1, 8, 2, 0, 0, 0, 0)
        self.refused(self.file("huge.png", png))
        self.refused(self.file("huge.asc", "ncols 2000000\nnrows 2000000\nxllcorner 0\nyllcorner 0\ncellsize 1\n1 2 3\n"))
        self.refused(self.file("cut.tif", b"II*\0\x08\0\0\0\xff\xff"))

    def test_zip_and_folders(self):
        self.refused(self.file("x.kmz", b"PK\x03\x04" + bytes(99)), "ZIP")
        with self.assertRaisesRegex(InputError, "folder"):
            examine(self.folder)
        with self.assertRaisesRegex(InputError, "no such file"):
            examine(self.folder / "none.dxf")


class Lies(Hostile):
    def test_counts(self):
        self.refused(self.file("a.off", "OFF\n4000000000 4000000000 0\n0 0 0\n"), "claims more")
        self.refused(self.file("b.stl", bytes(80) + struct.pack("<I", 4_000_000_000) + bytes(60)), "too early")
        head = "ply\nformat binary_little_endian 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\n"
        head += "element face 4000000000\nproperty list uchar int vertex_indices\nend_header\n"
        self.refused(self.file("c.ply", head.encode() + bytes(36)), "claims more|too early")
        self.refused(self.file("f.ifc", "ISO-10303-21;\nHEADER;\nFILE_SCHEMA(('IFC4'));\nENDSEC;\nDATA;\n#1=IFCWALL($,$"))

    def test_numbers_that_are_none(self):
        self.refused(self.file("a.obj", "v nan 0 0\nv 1 0 0\nv 1 1 0\nf 1 2 3\n"), "not a number")
        self.refused(self.file("b.obj", "v 1 0\nf 1 2 3\n"), "line 1")
        self.refused(self.file("c.xml", LANDXML.format("<CgPoints><CgPoint>nan 1 2</CgPoint></CgPoints>")), "no place")
        self.refused(self.file("d.xml", LANDXML.format(
            '<Surfaces><Surface name="s"><Definition><Pnts><P id="1">1e999 0 0</P></Pnts></Definition></Surface></Surfaces>'
        )), "no place")  # fmt: skip
        self.refused(self.file("e.geojson", '{"type":"FeatureCollection","features":[{"type":"Feature","properties":{},'
                               '"geometry":{"type":"LineString","coordinates":[[0,0],[1e999,1]]}}]}'))  # fmt: skip
        self.refused(self.file("f.csv", "name,easting,northing\na,1,2\nb,inf,3\n"), "line 3")
        self.refused(self.file("g.csv", "name,easting,northing\n" + "a,1,2\n" * 30 + "b,x,3\n"), "line 32")

    def test_empty_and_cut(self):
        for name in (
            "a.e57", "b.ply", "c.dxf", "d.xml", "e.gpkg", "f.tif", "g.obj", "h.ifc", "i.csv", "j.shp", "k.las",
        ):  # fmt: skip
            self.refused(self.file(name, b""), "")
        whole = (DATA / "bunnyFloat.e57").read_bytes()
        for size in (10, 47, 1000, 60_000, len(whole) - 1):
            self.refused(self.file("cut.e57", whole[:size]))
        self.refused(self.file("empty.geojson", '{"type":"FeatureCollection","features":[]}'), "no features")

    def test_layer_names_and_doubles(self):
        """Names from files are shown and kept, and never become paths."""
        rows = "".join(f'<CgPoint name="../../{k % 2}">1 2 3</CgPoint>' for k in range(4))
        path = self.file("n.xml", LANDXML.format(f"<CgPoints>{rows}</CgPoints>"))
        job = Job.create(self.folder / "j.kerb")
        holding = import_file(job.folder, job.state, ImportWish(path, name="../../../tmp/x"), silent())
        self.assertTrue((job.folder / holding.data).is_relative_to(job.folder / "data"))
        self.assertEqual(job.thing(holding).thing.names, ("../../0", "../../1") * 2)
        e57 = (DATA / "bunnyFloat.e57").read_bytes()
        self.assertEqual(examine(self.file("ok.e57", e57)).offers[0].parts[0][0], "bunny")


TEXTS = st.text(alphabet=st.sampled_from("0123456789.,;-+eE \t\n\"'#/xnaif|"), max_size=400)
QUIET = settings(max_examples=150, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)
PLACES = st.lists(st.tuples(*[st.floats(-1e7, 1e7, allow_nan=False).map(lambda v: round(v, 3))] * 3), min_size=2, max_size=30)


class Sparse(Hostile):
    def test_a_small_file_that_claims_a_large_grid(self):
        path = self.folder / "big.tif"
        place = rasterio.Affine(1, 0, 380_000, 0, -1, 5_560_000)
        how = {
            "driver": "GTiff", "count": 1, "dtype": "float32", "crs": "EPSG:25830", "transform": place, "tiled": True,
        }  # fmt: skip
        with rasterio.open(path, "w", width=15_000, height=15_000, compress="deflate", SPARSE_OK=True, **how):
            pass
        self.refused(path, "cannot hold")
        with rasterio.open(path, "w", width=1500, height=1500, compress="deflate", **how) as out:
            out.write(np.ones((1500, 1500), np.float32), 1)
        seen = examine(path)
        self.assertEqual(read_offer(seen, seen.offer("surface"), Reading(), silent())[0].count, 1500 * 1500)


class Fuzz(Hostile):
    @QUIET
    @given(TEXTS)
    def test_any_text_is_read_or_refused_in_our_words(self, text):
        path = self.file("f.txt", text)
        try:
            plan = sniffed(path).plan
            read_survey_points(path, plan)
            for _ in TextStream(path, plan).chunks(50):
                pass
        except KerbError:
            pass

    @QUIET
    @given(st.binary(max_size=300), st.integers(0, 600))
    def test_landxml_with_bytes_put_in(self, junk, at):
        good = LANDXML.format(
            '<CgPoints><CgPoint name="a">1 2 3</CgPoint></CgPoints><Surfaces><Surface name="s"><Definition surfType="TIN">'
            '<Pnts><P id="1">0 0 1</P><P id="2">0 9 1</P><P id="3">9 0 1</P></Pnts><Faces><F>1 2 3</F></Faces></Definition>'
            '</Surface></Surfaces><Alignments><Alignment name="r" staStart="0"><CoordGeom><Line><Start>0 0</Start><End>0 9'
            "</End></Line></CoordGeom></Alignment></Alignments>"
        ).encode()
        try:
            found = read_landxml(self.file("l.xml", good[:at] + junk + good[at + len(junk) :]))
            self.assertTrue(np.isfinite(shapely.area(shapely.points(found.points.xyz))).all())
        except KerbError:
            pass

    @QUIET
    @given(st.lists(st.tuples(st.integers(0, 33_683), st.integers(0, 255)), min_size=1, max_size=8))
    def test_copc_and_e57_with_bytes_changed(self, changes):
        for name in ("small.copc.laz", "bunnyFloat.e57"):
            data = bytearray((DATA / name).read_bytes())
            for at, value in changes:
                data[at] = value
            path = self.file(name, bytes(data))
            try:
                for _ in open_points(path).chunks(20_000):
                    pass
            except KerbError:
                pass
