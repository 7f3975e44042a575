"""Pieces of a report page that draw themselves: plan picture, profile and the headline figure."""

from __future__ import annotations

import io
from importlib import resources
from xml.sax.saxutils import escape

import numpy as np
from PIL import Image
from reportlab.lib.colors import Color, HexColor
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.utils import ImageReader
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import Flowable, Paragraph

from kerb.core.arrays import Floats
from kerb.core.quantity import decimals_of, number, round_step, symbol, telling_apart
from kerb.draw.ramps import banded, table_between
from kerb.draw.scene import value_map
from kerb.draw.strokes import strokes
from kerb.report.plan import PlanPicture
from kerb.studies.layers import Plot, Profile, between, bins_of, normal_curve
from kerb.studies.profiles import ends_of

INK = HexColor("#23282a")
QUIET = HexColor("#6f7577")
HAIR = HexColor("#c9c8c2")
ACCENT = HexColor("#1d4d57")
EDGE = HexColor("#b5472a")
ALARM = HexColor("#a03018")
FILL, CUT = HexColor("#f3e0bf"), HexColor("#d6daf0")
WARN = HexColor("#fbf1de")
# A profile lower than this share of its room is drawn higher than twice.
FLAT_SHARE = 0.3
EXAGGERATIONS = (3.0, 5.0, 10.0, 20.0, 50.0, 100.0, 200.0, 500.0, 1000.0)
# Labels whose lines stand closer than this (points) touch.
LABEL_HIGH = 8.8
# Nothing in a report is smaller.
SMALL, TITLE = 7.0, 8.0
NAME_ROOM = 26.0
REGULAR, MEDIUM, BOLD = "PlexSans", "PlexSans-Medium", "PlexSans-SemiBold"


def register_fonts() -> None:
    """Make the fonts of reports known, once a process; whoever lays out words in them needs that first."""
    if REGULAR in pdfmetrics.getRegisteredFontNames():
        return
    folder = resources.files("kerb") / "assets" / "fonts"
    for name, file in ((REGULAR, "Regular"), (MEDIUM, "Medium"), (BOLD, "SemiBold")):
        pdfmetrics.registerFont(TTFont(name, str(folder / f"PlexSans-{file}.ttf")))


def shortened(canvas: Canvas, text: str, room: float) -> str:
    """A text as it fits into a width in the font that is set: cut in the middle of what does not fit, with an ellipsis."""
    font, size = canvas._fontname, canvas._fontsize
    if canvas.stringWidth(text, font, size) <= room:
        return text
    keep = len(text)
    while keep > 2 and canvas.stringWidth(f"{text[: keep - keep // 3]}…{text[-(keep // 3) :]}", font, size) > room:
        keep -= 1
    return f"{text[: keep - keep // 3]}…{text[-(keep // 3) :]}"


class PlanFigure(Flowable):
    """The plan picture with lines and labels, coordinate ticks, scale bar, north arrow, legend and contour interval."""

    def __init__(self, plan: PlanPicture, unit: str, width: float) -> None:
        super().__init__()
        self.plan, self.unit = plan, unit
        self.width = width
        style = ParagraphStyle("c", fontName=REGULAR, fontSize=SMALL, leading=8.8, textColor=QUIET)
        self.caption = Paragraph(escape(self._words()), style)
        self.under = self.caption.wrap(width, 100)[1] + 4
        self.height = width * plan.size[1] / plan.size[0] + self.under

    def draw(self) -> None:
        """Draw at the origin of the flow."""
        canvas: Canvas = self.canv
        scale = self.width / self.plan.size[0]
        top = self.height
        packed = io.BytesIO()
        Image.fromarray(self.plan.image).save(packed, "JPEG", quality=92)
        image = ImageReader(packed)
        under = self.under
        canvas.drawImage(image, 0, under, self.width, self.height - under)
        canvas.saveState()
        clip = canvas.beginPath()
        clip.rect(0, under, self.width, self.height - under)
        canvas.clipPath(clip, stroke=0)
        if self.plan.from_above:
            self._ticks(canvas, scale, top)
        digits = max(0, int(np.ceil(-np.log10(self.plan.contour) - 1e-9))) if self.plan.contour > 0 else 0
        for x, y, z in self.plan.labels:
            words = number(z, digits)
            _label(canvas, x * scale - canvas.stringWidth(words, REGULAR, SMALL) / 2, top - y * scale - 2, words)
        self._lines(canvas, scale, top)
        self._profiles(canvas, scale, top)
        self._marks(canvas, scale, top)
        canvas.restoreState()
        canvas.setStrokeColor(HAIR)
        canvas.setLineWidth(0.5)
        canvas.rect(0, under, self.width, self.height - under)
        self._scale_bar(canvas, scale)
        if self.plan.from_above:
            self._north(canvas)
        self._legend(canvas)
        self.caption.drawOn(canvas, 0, 0)

    def _words(self) -> str:
        """What lines and hatching mean."""
        said = []
        if not self.plan.from_above:
            camera = self.plan.camera
            way = f"{abs(camera.tilt):.0f}° {'down' if camera.tilt >= 0 else 'up'}"
            said.append(f"Seen from its front, looking to bearing {camera.heading:.0f}°, {way}")
        if self.plan.contour > 0:
            said.append(f"Contours every {number(self.plan.contour, 2)} {symbol(self.unit)}, every fifth stronger")
        if self.plan.scene.lines:
            titles = dict.fromkeys(line.title for line in self.plan.scene.lines if line.title and not line.dash)
            said.append(f"line: {next(iter(titles))}" if len(titles) == 1 else "lines: outlines of what is measured")
            broken = dict.fromkeys(line.title for line in self.plan.scene.lines if line.title and line.dash)
            if broken:
                said.append(f"broken: {', '.join(broken).lower()}")
        if self.plan.gaps:
            said.append("hatched: no points")
        if self.plan.profiles:
            said.append("dashed: profiles")
        words = "; ".join(said)
        return words[:1].upper() + words[1:] + ("." if said else "")

    def _lines(self, canvas: Canvas, scale: float, top: float) -> None:
        for line in self.plan.scene.lines:
            for stroke in strokes(line, self.plan.camera, self.plan.size, None):
                path = canvas.beginPath()
                for number_, (x, y) in enumerate((stroke.points * scale).tolist()):
                    (path.lineTo if number_ else path.moveTo)(x, top - y)
                canvas.setStrokeColor(Color(*(v / 255 for v in line.colour)))
                canvas.setLineWidth(line.width * 0.7)
                canvas.setDash(*([part * line.width for part in line.dash],) if line.dash else ())
                canvas.drawPath(path)
        canvas.setDash()

    def _profiles(self, canvas: Canvas, scale: float, top: float) -> None:
        """The lines of the profiles, with the letters of their ends."""
        level = self.plan.camera.target[2]
        for number_, line in enumerate(self.plan.profiles):
            at = self.plan.to_pixels(np.column_stack([line, np.full(len(line), level)])) * scale
            canvas.setStrokeColor(INK)
            canvas.setLineWidth(0.7)
            canvas.setDash(4, 2)
            canvas.line(at[0, 0], top - at[0, 1], at[-1, 0], top - at[-1, 1])
            canvas.setDash()
            for (x, y), letter in zip(at[[0, -1]].tolist(), ends_of(number_), strict=True):
                x = min(max(x, 8.0), self.width - 10.0)
                y = min(max(top - y, 20.0), top - 8.0)
                canvas.setFillColor(Color(1, 1, 1, 0.85))
                canvas.circle(x, y, 4.6, stroke=1, fill=1)
                canvas.setFillColor(INK)
                canvas.setFont(BOLD, SMALL)
                canvas.drawCentredString(x, y - 2.3, letter)

    def _marks(self, canvas: Canvas, scale: float, top: float) -> None:
        """Marks and labels; of labels that would lie on another the later ones are left out, as in a view."""
        canvas.setFont(MEDIUM, SMALL)
        taken: list[tuple[float, float, float]] = []
        for layer in self.plan.scene.marks:
            at = self.plan.to_pixels(layer.xyz) * scale
            for row, (x, y) in enumerate(at.tolist()):
                canvas.setFillColor(Color(*(v / 255 for v in layer.colours[row].tolist())))
                if layer.marked:
                    canvas.circle(x, top - y, 1.6, stroke=0, fill=1)
                if row < len(layer.texts):
                    wide = canvas.stringWidth(layer.texts[row], MEDIUM, SMALL)
                    place = x + (3 if layer.marked else -wide / 2)
                    place = min(max(place, 3.0), self.width - wide - 4.0)
                    if any(abs(y - v) < LABEL_HIGH and place < b and a < place + wide for a, b, v in taken):
                        continue
                    taken.append((place, place + wide, y))
                    _label(canvas, place, top - y, layer.texts[row], MEDIUM)

    def _legend(self, canvas: Canvas) -> None:
        """The ramp of the map with its ends, else that of the elevations, at the upper left."""
        mapped = value_map(self.plan.scene)
        by_elevation = self.plan.scene.clouds or any(mesh.ramp for mesh in self.plan.scene.meshes)
        if not by_elevation and mapped is None:
            return
        title, unit, ramp, low, high = "Elevation", self.unit, self.plan.ramp, self.plan.low, self.plan.high
        if mapped is not None:
            title, unit, ramp = mapped.title.partition(":")[0], mapped.unit, mapped.ramp
            low, high = mapped.limits
        head = f"{title} ({symbol(unit)})" if symbol(unit) else title
        ends = [low + share * (high - low) for share in (0.0, 0.5, 1.0)]
        words = [number(value, max(2, telling_apart((high - low) / 2))) for value in ends]
        wide = max(
            canvas.stringWidth(head, REGULAR, SMALL), *(9 + canvas.stringWidth(w, REGULAR, SMALL) for w in words)
        )
        x, y, tall = 6.0, self.height - 68, 48.0
        canvas.setFillColor(Color(1, 1, 1, 0.82))
        canvas.roundRect(x - 3, y - 5, wide + 6, tall + 20, 2, stroke=0, fill=1)
        colours = table_between(ramp, float(low), float(high))
        steps = 40
        for step in range(steps):
            share = (step + 0.5) / steps
            tone = colours[int(share * 255)]
            if mapped is not None and mapped.bands:
                tone = banded(np.array([low + share * (high - low)]), mapped.bands, ramp)[0]
            canvas.setFillColor(Color(*(v / 255 for v in tone.tolist())))
            canvas.rect(x, y + step * tall / steps, 6, tall / steps + 0.3, stroke=0, fill=1)
        canvas.setFillColor(INK)
        canvas.setFont(REGULAR, SMALL)
        canvas.drawString(x, y + tall + 6, head)
        for share, word in zip((0.0, 0.5, 1.0), words, strict=True):
            canvas.drawString(x + 9, y + share * tall - 2.2, word)

    def _ticks(self, canvas: Canvas, scale: float, top: float) -> None:
        """Crosses of the coordinate grid with eastings and northings at the edge."""
        camera, size = self.plan.camera, self.plan.size
        low = np.array(camera.target[:2]) - np.array(size) / 2 * camera.scale
        high = np.array(camera.target[:2]) + np.array(size) / 2 * camera.scale
        step = round_step(float(high[0] - low[0]), 4)
        canvas.setStrokeColor(Color(0.1, 0.1, 0.1, 0.45))
        canvas.setFillColor(INK)
        canvas.setLineWidth(0.4)
        canvas.setFont(REGULAR, SMALL)

        def covered(x: float, y: float) -> bool:
            """Whether a number would lie under the legend, the north arrow or outside."""
            legend = bool(self.plan.scene.clouds or value_map(self.plan.scene)) and x < 70 and y > self.height - 84
            return legend or (x > self.width - 74 and y > self.height - 42) or not self.under < y < self.height

        for e in np.arange(np.ceil(low[0] / step), high[0] / step) * step:
            x = (e - low[0]) / camera.scale * scale
            canvas.line(x, top, x, top - 5)
            if not covered(x + 2, top - 7):
                _label(canvas, x + 2, top - 7, f"{e + 0.0:.{decimals_of(step)}f} E")
            for n in np.arange(np.ceil(low[1] / step), high[1] / step) * step:
                y = top - (high[1] - n) / camera.scale * scale
                canvas.line(x - 3, y, x + 3, y)
                canvas.line(x, y - 3, x, y + 3)
        for n in np.arange(np.ceil(low[1] / step), high[1] / step) * step:
            y = top - (high[1] - n) / camera.scale * scale
            canvas.line(0, y, 5, y)
            if not covered(6, y + 2):
                _label(canvas, 6, y + 2, f"{n + 0.0:.{decimals_of(step)}f} N")

    def _scale_bar(self, canvas: Canvas, scale: float) -> None:
        per_point = self.plan.camera.scale / scale
        length = round_step(self.width * per_point, 5)
        width = length / per_point
        x = self.width - width - 8
        canvas.setFillColor(Color(1, 1, 1, 0.8))
        low = self.under + 3
        canvas.rect(x - 5, low, width + 10, 15, stroke=0, fill=1)
        canvas.setFillColor(INK)
        canvas.rect(x, low + 3, width / 2, 2.5, stroke=0, fill=1)
        canvas.setStrokeColor(INK)
        canvas.setLineWidth(0.5)
        canvas.rect(x, low + 3, width, 2.5)
        canvas.setFont(REGULAR, SMALL)
        canvas.drawCentredString(x + width / 2, low + 7.5, f"{number(length, decimals_of(length))} {symbol(self.unit)}")

    def _north(self, canvas: Canvas) -> None:
        x, y = self.width - 14, self.height - 24
        canvas.setFillColor(Color(1, 1, 1, 0.8))
        canvas.circle(x, y + 5, 11, stroke=0, fill=1)
        canvas.setFillColor(INK)
        path = canvas.beginPath()
        path.moveTo(x, y + 14)
        path.lineTo(x - 3.2, y + 3)
        path.lineTo(x, y + 5.2)
        path.lineTo(x + 3.2, y + 3)
        path.close()
        canvas.drawPath(path, stroke=0, fill=1)
        canvas.setFont(BOLD, SMALL)
        canvas.drawCentredString(x, y - 4, "N")


class ProfileFigure(Flowable):
    """A profile: top over base, the part between filled, axes with round numbers, exaggeration stated."""

    def __init__(self, profile: Profile, unit: str, width: float, height: float, number: int = 0) -> None:
        super().__init__()
        self.profile, self.unit = profile, unit
        self.width, self.height, self.ends = width, height, ends_of(number)

    def draw(self) -> None:
        """Draw at the origin of the flow."""
        canvas: Canvas = self.canv
        left, bottom, top = 34.0, 15.0, self.height - 14
        both = np.concatenate([trace for _, _, trace in self.profile.traces])
        both = both[np.isfinite(both)]
        if not len(both):
            return
        span = max(float(np.ptp(both)), 1e-6)
        low, high = float(both.min()) - 0.06 * span, float(both.max()) + 0.08 * span
        right = self.width - 10
        sx = (right - left) / float(self.profile.distance[-1])
        room = top - bottom
        exaggeration = exaggerated(high - low, float(self.profile.distance[-1]), (right - left, room))
        if exaggeration * sx * (high - low) > room:
            # Too high for the page: smaller as a whole, and in the middle.
            sx = room / (high - low) / exaggeration
            left += (right - left - float(self.profile.distance[-1]) * sx) / 2
        sy = exaggeration * sx
        x = left + self.profile.distance * sx
        canvas.setFont(MEDIUM, TITLE)
        canvas.setFillColor(INK)
        canvas.drawString(0, self.height - 8, self.profile.title)
        canvas.setFont(REGULAR, SMALL)
        canvas.setFillColor(QUIET)
        canvas.drawRightString(self.width, self.height - 7, f"heights × {exaggeration:g}, all in {symbol(self.unit)}")
        self._axes(canvas, (left, bottom, top), (low, high), (sx, sy))
        if len(self.profile.traces) > 1:
            place, over, under = between(self.profile)
            at, floor = left + place * sx, bottom + (under - low) * sy
            self._between(canvas, at, floor, bottom + (np.maximum(over, under) - low) * sy, FILL)
            self._between(canvas, at, floor, bottom + (np.minimum(over, under) - low) * sy, CUT)
        for _, role, trace in reversed(self.profile.traces):
            _polyline(canvas, x, bottom + (trace - low) * sy, EDGE if role == "base" else INK)
        canvas.setFont(BOLD, SMALL)
        canvas.setFillColor(INK)
        for at, letter in zip((x[0] - 3, x[-1] + 3), self.ends, strict=True):
            canvas.drawCentredString(float(at), top + 1, letter)

    def _axes(
        self,
        canvas: Canvas,
        frame: tuple[float, float, float],
        z: tuple[float, float],
        scale: tuple[float, float],
    ) -> None:
        left, bottom, _ = frame
        canvas.setStrokeColor(HAIR)
        canvas.setLineWidth(0.4)
        step = round_step(z[1] - z[0], 3)
        for level in np.arange(np.ceil(z[0] / step), z[1] / step) * step:
            y = bottom + (level - z[0]) * scale[1]
            canvas.line(left, y, left + float(self.profile.distance[-1]) * scale[0], y)
            canvas.drawRightString(left - 3, y - 2, number(float(level), decimals_of(step)))
        length = float(self.profile.distance[-1])
        step = round_step(length, 6)
        for place in np.arange(0, length + 1e-9, step):
            x = left + place * scale[0]
            canvas.line(x, bottom, x, bottom - 2)
            canvas.drawCentredString(x, bottom - 9, f"{number(float(place), decimals_of(step))} {symbol(self.unit)}")

    def _between(self, canvas: Canvas, x: Floats, base: Floats, top: Floats, colour: Color) -> None:
        if len(x) < 2:
            return
        path = canvas.beginPath()
        outline = [*zip(x, top, strict=True), *zip(x[::-1], base[::-1], strict=True)]
        path.moveTo(*outline[0])
        for place in outline[1:]:
            path.lineTo(*place)
        path.close()
        canvas.setFillColor(colour)
        canvas.drawPath(path, stroke=0, fill=1)


def exaggerated(height: float, length: float, room: tuple[float, float]) -> float:
    """How much larger heights are drawn than lengths: as little as lets them be read, so that a heap looks like a heap."""
    scale = room[0] / length
    usual = [factor for factor in (1.0, 1.5, 2.0) if factor * scale * height <= room[1]]
    if not usual:
        return 1.0
    if 2.0 * scale * height >= FLAT_SHARE * room[1]:
        return usual[-1]
    return next((f for f in EXAGGERATIONS if f * scale * height >= FLAT_SHARE * room[1]), EXAGGERATIONS[-1])


class PlotFigure(Flowable):
    """A chart of numbers: bars, points or a curve, with its axes named."""

    def __init__(self, plot: Plot, width: float, height: float) -> None:
        super().__init__()
        self.plot, self.width, self.height = plot, width, height

    def draw(self) -> None:
        """Draw at the origin of the flow."""
        canvas: Canvas = self.canv
        left, bottom, top = 40.0, 22.0, self.height - 14
        canvas.setFont(MEDIUM, TITLE)
        canvas.setFillColor(INK)
        canvas.drawString(0, self.height - 8, self.plot.title)
        x, y = _plotted(self.plot)
        if not len(x):
            return
        bars = self.plot.kind in ("bars", "histogram")
        curve = _normal(self.plot)
        low, high = float(min(y.min(), 0.0) if bars else y.min()), float(max(y.max(), curve[:, 1].max(initial=y.max())))
        span = max(high - low, 1e-12)
        step = float(np.ptp(x)) / max(len(x) - 1, 1) or 1.0
        ends = np.concatenate([x - step / 2, x + step / 2, curve[:, 0]])
        first, last = float(ends.min()), float(ends.max())
        sx, sy = (self.width - left) / (last - first), (top - bottom) / span
        canvas.setFont(REGULAR, SMALL)
        for level, words in _rounds(low, high, 3):
            at = bottom + (level - low) * sy
            canvas.setStrokeColor(HAIR)
            canvas.line(left, at, self.width, at)
            canvas.setFillColor(QUIET)
            canvas.drawRightString(left - 3, at - 2, words)
        if self.plot.kind == "bars" and self.plot.names:
            canvas.setFillColor(QUIET)
            _bar_names(canvas, self.plot.names, left + (x - first) * sx, step * sx, bottom)
        elif self.plot.kind != "bars":
            for value, words in _rounds(first, last, 8):
                at = left + (value - first) * sx
                canvas.line(at, bottom, at, bottom - 2)
                canvas.drawCentredString(min(max(at, left + 6), self.width - 8), bottom - 9, words)
        canvas.drawCentredString((left + self.width) / 2, 2, self.plot.x_title)
        canvas.drawRightString(self.width, self.height - 7, self.plot.y_title)
        places = left + (x - first) * sx
        if bars:
            canvas.setFillColor(ACCENT)
            for at, value in zip(places.tolist(), y.tolist(), strict=True):
                canvas.rect(
                    at - step * sx * 0.4, bottom + (min(value, 0) - low) * sy, step * sx * 0.8, abs(value) * sy, 0, 1
                )
            _polyline(canvas, left + (curve[:, 0] - first) * sx, bottom + (curve[:, 1] - low) * sy, INK)
        elif self.plot.kind == "curve":
            _polyline(canvas, places, bottom + (y - low) * sy, INK)
        else:
            canvas.setFillColor(ACCENT)
            for at, value in zip(places.tolist(), y.tolist(), strict=True):
                canvas.circle(at, bottom + (value - low) * sy, 1.2, 0, 1)


def _bar_names(canvas: Canvas, names: tuple[str, ...], places: Floats, room: float, bottom: float) -> None:
    """The name of each bar under it, cut where it is too long, every second or third where there are too many."""
    every = max(1, int(np.ceil(NAME_ROOM / max(room, 1e-6))))
    for number_ in range(0, len(names), every):
        words = shortened(canvas, names[number_], room * every - 4)
        canvas.drawCentredString(float(places[number_]), bottom - 9, words)


def _rounds(low: float, high: float, parts: int) -> list[tuple[float, str]]:
    """Round numbers between two ends, some so many, and how they are written."""
    step = round_step(high - low, parts)
    values = np.arange(np.ceil(low / step - 1e-9), np.floor(high / step + 1e-9) + 1) * step
    return [(float(value), number(float(value), decimals_of(step))) for value in values]


def _normal(plot: Plot) -> Floats:
    """The normal curve over a histogram, (k, 2); nothing where none is wanted."""
    known = plot.x[np.isfinite(plot.x)]
    return normal_curve(known, bins_of(known, 40)[1]) if plot.normal and len(known) else np.empty((0, 2))


def _plotted(plot: Plot) -> tuple[Floats, Floats]:
    if plot.kind != "histogram":
        return plot.x, plot.y
    known = plot.x[np.isfinite(plot.x)]
    if not len(known):
        return np.empty(0), np.empty(0)
    counts, edges = bins_of(known, 40)
    return (edges[:-1] + edges[1:]) / 2, counts


def _label(canvas: Canvas, x: float, y: float, text: str, font: str = REGULAR) -> None:
    """Small text on a light ground, readable over any picture."""
    canvas.setFont(font, SMALL)
    canvas.setFillColor(Color(1, 1, 1, 0.75))
    canvas.rect(x - 1, y - 1.8, canvas.stringWidth(text, font, SMALL) + 2, 8, stroke=0, fill=1)
    canvas.setFillColor(INK)
    canvas.drawString(x, y, text)


def _polyline(canvas: Canvas, x: Floats, y: Floats, colour: Color) -> None:
    canvas.setStrokeColor(colour)
    canvas.setLineWidth(0.9)
    path = canvas.beginPath()
    pen_down = False
    for a, b in zip(x, y, strict=True):
        if not np.isfinite(b):
            pen_down = False
            continue
        (path.lineTo if pen_down else path.moveTo)(a, b)
        pen_down = True
    canvas.drawPath(path)
