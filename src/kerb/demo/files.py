"""Files of the made-up scenario in the formats that other offices send: to bring in, and to see the checks at work.

Some are wrong on purpose: one list has its axes the other way round, one is in US survey feet, one design is in local
coordinates.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.geometry.alignment import Alignment, Element, Grade, straight
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.geometry.mesh import Element as Piece
from kerb.core.geometry.mesh import TriangleMesh, joined
from kerb.core.progress import Progress
from kerb.core.reference import from_text, local_grid
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.things import LINES, MODEL, POINTS, SURFACE, Placed
from kerb.core.units import US_SURVEY_FOOT
from kerb.demo import adit, bridge, landscape, pit, quay, slab, storey, yard
from kerb.demo.boxes import box
from kerb.formats.rasters import write_picture
from kerb.formats.write_things import write_thing

PAD = (18.0, 10.0, 40.0, 26.0)
PICTURE_PIXEL = 0.1
PIT_MARCH, PIT_MAY, PIT_SCAN = "pit-2026-03-12.laz", "pit-2026-05-20.laz", "pit-second-scan.laz"
README = """Made-up files of Saltmarrow Quay, to be dropped on the window:

control.csv               control and check points: name, easting, northing, elevation, code
checkpoints.csv           points the flight is proven with, by role; some of them are odd on purpose
control-swapped.csv       the same with easting and northing the other way round: see the place check
control-us-feet.csv       the same points in US survey feet
yard-lines.dxf            kerbs, fences and two areas
access-road.xml           alignment of the access road with its profile, and the design surface of a pad (LandXML)
harbour-office.obj        design model of the harbour office, in its own local coordinates
terrain.tif               elevation grid of the land around (GeoTIFF)
orthophoto.png            picture of the yard from above, with a world file
pit-2026-03-12.laz        the link-span pit in March; and in May (pit-2026-05-20.laz), a few centimetres too high
pit-second-scan.laz       the pit in May once more, turned and shifted: to be brought into line
pit-areas.dxf             round the works, and a road that did not change
pit-design.xml            design of the pit (LandXML)
shore-before.laz          the shore slope before a storm; and after it (shore-after.laz), with a patch without points
face-before.laz           a cut face that leans over, before a blast; and after it (face-after.laz)
corridor-model.obj        the corridor of the harbour office as designed, in job coordinates
office-scan.laz           the corridor as built: one beam and one column are out of place
corridor-second-scan.laz  the corridor once more, turned and shifted, without what would stop it from sliding along
"""


@dataclass(frozen=True)
class DemoFiles:
    """Where the files are."""

    folder: Path

    def __getitem__(self, name: str) -> Path:
        return self.folder / name


def control() -> SurveyPoints:
    """Control and check points round the yard, in job coordinates; true elevations with a centimetre of noise."""
    rng = np.random.default_rng(yard.SEED + 5)
    places = np.array(
        [[6, 6], [70, 5], [118, 8], [121, 60], [118, 97], [66, 99], [8, 96], [5, 52], [60, 30], [22, 24]], float
    )
    z = yard.ground(places) + rng.normal(0, 0.006, len(places))
    xyz = np.column_stack([places + yard.ORIGIN, z])
    names = tuple(f"CP{k}" if k < 9 else f"BM{k}" for k in range(1, len(places) + 1))
    codes = tuple("CHECK" if k % 3 == 2 else "CONTROL" for k in range(len(places)))
    return SurveyPoints(np.round(xyz, 4), names, codes)


# How much higher the flight lies than the checkpoints: its bias, in metres.
BIAS = 0.031
# Odd ones: name, place, how much their elevation is off, and why.
ODD = (
    ("C21", (72.4, 38.3), 0.0, "under the loader"), ("C22", (58.2, 93.2), 0.0, "in plants"),
    ("C23", (yard.WALL_X - 0.35, 60.0), 0.0, "at the wall"), ("C24", (-60.0, 20.0), 0.0, "outside"),
    ("C25", (30.0, 94.0), 0.0, ""), ("C26", (30.02, 94.01), 0.0, "the same place as C25"),
    ("C27", (16.0, 60.0), 0.42, "mistaken for another"), ("BASE", (112.5, 12.3), 1.6, "the base station on its pillar"),
)  # fmt: skip


def checkpoints() -> SurveyPoints:
    """Control and check points over the whole yard with their roles; the flight lies BIAS above all of them."""
    rng = np.random.default_rng(yard.SEED + 9)
    good: list[tuple[float, float]] = []
    while len(good) < 26:
        place = rng.uniform([4.0, 4.0], [yard.WALL_X - 4.0, 98.0])
        # On the quarter of the yard whose turn it is, on open ground and away from what is odd.
        turn = len(good) % 4
        fits = (place[0] > 63.0) == (turn % 2 == 1) and (place[1] > 51.0) == (turn > 1)
        clear = not any(heap.over_ground(_ring(place, 2.5)).any() for heap in yard.HEAPS)
        clear = clear and all(np.hypot(place[0] - e, place[1] - n) > r + 3.0 for e, n, r in yard.BUSHES)
        clear = clear and all(np.hypot(place[0] - e, place[1] - n) > max(a, b) + 1.5 for e, n, a, b in yard.GAPS)
        clear = clear and np.hypot(place[0] - 72.0, place[1] - 38.0) > 8.0
        if fits and clear and all(np.hypot(*(place - np.array(other))) > 6.0 for other in good):
            good.append((float(place[0]), float(place[1])))
    places = np.array([*good, *(place for _, place, _, _ in ODD)])
    z = yard.ground(places) - BIAS + rng.normal(0, 0.005, len(places))
    z[len(good) :] += [off for _, _, off, _ in ODD]
    names = tuple(f"K{n}" if n <= 6 else f"C{n - 6}" for n in range(1, len(good) + 1)) + tuple(odd[0] for odd in ODD)
    roles = tuple("control" if name.startswith("K") else "check" for name in names)
    xyz = np.column_stack([places + yard.ORIGIN, z])
    return SurveyPoints(np.round(xyz, 4), names, ("",) * len(names), {"role": roles})


def _ring(place: Floats, radius: float) -> Floats:
    angle = np.linspace(0, 2 * np.pi, 12)
    return place + radius * np.column_stack([np.cos(angle), np.sin(angle)])


def yard_lines() -> LineSet:
    """Kerb, fence, laydown area and a stockpile bay, on the ground."""

    def on_ground(local: list[tuple[float, float]], lift: float = 0.0) -> Floats:
        xy = np.array(local, float)
        return np.column_stack([xy + yard.ORIGIN, yard.ground(xy) + lift])

    fence = [(2.0, 2.0), (2.0, 102.0), (126.5, 102.0)]
    kerb = [(2.0 + s, 14.0 + 2.2 * np.sin(s / 18.0)) for s in np.linspace(0, 122, 40)]
    bay = [(74.0, 60.0), (102.0, 60.0), (102.0, 88.0), (74.0, 88.0)]
    laydown = [(10.0, 22.0), (66.0, 22.0), (66.0, 92.0), (10.0, 92.0)]
    return LineSet((
        Line(on_ground(fence, 1.8), False, "", "FENCE"), Line(on_ground(kerb, 0.1), False, "", "KERB"),
        Line(on_ground(bay), True, "", "BAY"), Line(on_ground(laydown), True, "", "LAYDOWN"),
    ))  # fmt: skip


def access_road() -> Alignment:
    """A straight, a clothoid and an arc with a crest, as LandXML holds them."""
    east, north = yard.ORIGIN
    first = straight(np.array([east - 120.0, north + 16.0]), np.array([east - 30.0, north + 16.0]))
    bend = Element(tuple(first.end.tolist()), first.azimuth, 40.0, 0.0, -1 / 150)
    curve = Element(tuple(bend.end.tolist()), float(bend.direction(np.array([40.0]))[0]), 60.0, -1 / 150, -1 / 150)
    return Alignment("Access road", 0.0, (first, bend, curve), (Grade(0, 6.2), Grade(95, 3.9, 60), Grade(190, 4.4)))


def pad_design() -> TriangleMesh:
    """Design surface of a pad with a fall of one in a hundred."""
    x0, y0, wide, deep = PAD
    side = np.stack(np.meshgrid(np.linspace(0, wide, 9), np.linspace(0, deep, 7)), -1).reshape(-1, 2)
    z = 3.55 + 0.01 * side[:, 0]
    vertices = np.column_stack([side + np.array([x0, y0]) + yard.ORIGIN, z])
    number = np.arange(63).reshape(7, 9)
    a, b, c, d = number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]
    triangles = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
    return TriangleMesh(vertices, triangles.astype(np.int32), (Piece("Pad", "surface", 0, len(triangles)),))


def office() -> TriangleMesh:
    """The harbour office as boxes, in local coordinates about its own corner."""
    parts = [("Slab", (0, 0, -0.3), (24, 12, 0.3)), ("Roof", (-0.4, -0.4, 3.4), (24.8, 12.8, 0.35))]
    parts += [(f"Column {k + 1}", (4.8 * (k % 6), 11.6 * (k // 6), 0), (0.4, 0.4, 3.4)) for k in range(12)]
    parts += [("North wall", (0, 11.75, 0), (24, 0.25, 3.4)), ("Core", (9, 4, 0), (5, 4, 3.4))]
    return joined([box(name, corner, size) for name, corner, size in parts])


def terrain() -> ElevationGrid:
    """Bare ground on cells of two metres."""
    x, y = np.meshgrid(np.arange(-125, 275, 2.0) + 1, np.arange(275, -125, -2.0) - 1)
    z = landscape.ground(np.column_stack([x.ravel(), y.ravel()])).reshape(x.shape).astype(np.float32)
    return ElevationGrid(z, (2.0, 0.0, yard.ORIGIN[0] - 125, 0.0, -2.0, yard.ORIGIN[1] + 275))


def write_files(folder: Path, progress: Progress) -> DemoFiles:
    """Write all files where they are not there yet. Raises OutputError; Cancelled."""
    files = DemoFiles(folder)
    about = files["README.txt"]
    if about.exists() and about.read_text(encoding="utf-8") == README:
        return files
    folder.mkdir(parents=True, exist_ok=True)
    utm, points = from_text(yard.CRS), control()
    progress.step(0.1, "Writing the demo files")
    feet = points.mapped(lambda xyz: xyz / US_SURVEY_FOOT.metres)
    for name, item in (
        ("control.csv", Placed(POINTS, points, utm)),
        ("checkpoints.csv", Placed(POINTS, checkpoints(), utm)),
        ("control-swapped.csv", Placed(POINTS, points.mapped(lambda xyz: xyz[:, [1, 0, 2]]), utm)),
        ("control-us-feet.csv", Placed(POINTS, feet, local_grid(US_SURVEY_FOOT))),
        ("yard-lines.dxf", Placed(LINES, yard_lines(), utm)),
        ("harbour-office.obj", Placed(MODEL, office(), local_grid(utm.unit))),
        ("terrain.tif", Placed(SURFACE, terrain(), utm)),
        ("pit-areas.dxf", Placed(LINES, pit.areas(), utm)),
        ("pit-design.xml", Placed(SURFACE, pit.design(), utm)),
        ("corridor-model.obj", Placed(MODEL, quay.model(), utm)),
    ):
        write_thing(item, files[name], progress)
    _write_road(files["access-road.xml"])
    for name, later, off in ((PIT_MARCH, False, False), (PIT_MAY, True, False), (PIT_SCAN, True, True)):
        pit.write(files[name], later, off)
    quay.write(folder)
    slab.write(folder)
    bridge.write(folder)
    storey.write(folder)
    adit.write(folder)
    progress.step(0.5, "Drawing the picture of the yard")
    size = int((yard.SIZE[0] + 40) / PICTURE_PIXEL), int((yard.SIZE[1] + 40) / PICTURE_PIXEL)
    x, y = np.meshgrid(
        (np.arange(size[0]) + 0.5) * PICTURE_PIXEL - 20, yard.SIZE[1] + 20 - (np.arange(size[1]) + 0.5) * PICTURE_PIXEL
    )
    colours = landscape.colours(np.column_stack([x.ravel(), y.ravel()])).reshape(size[1], size[0], 3)
    place = (PICTURE_PIXEL, 0.0, yard.ORIGIN[0] - 20, 0.0, -PICTURE_PIXEL, yard.ORIGIN[1] + yard.SIZE[1] + 20)
    write_picture(files["orthophoto.png"], colours, place, utm)
    about.write_text(README, encoding="utf-8")
    return files


def _write_road(path: Path) -> None:
    from kerb.formats.landxml_write import LandXmlContent, write_landxml

    road = access_road()
    line = Line(road.flattened(0.01)[0], False, road.name, "alignments")
    content = LandXmlContent(None, LineSet((line,), (road,)), {"Pad": pad_design().tin()})
    write_landxml(path, content, from_text(yard.CRS))
