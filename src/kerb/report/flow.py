"""Pieces of a report page that draw themselves: plan picture, profile and the headline figure."""

from __future__ import annotations

import io

import numpy as np
from PIL import Image
from reportlab.lib.colors import Color, HexColor
from reportlab.lib.utils import ImageReader
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import Flowable

from kerb.core.arrays import Floats
from kerb.core.quantity import number, symbol
from kerb.report.plan import PlanPicture, round_step
from kerb.studies.outcome import LineLayer, Profile

INK = HexColor("#23282a")
QUIET = HexColor("#6f7577")
HAIR = HexColor("#c9c8c2")
ACCENT = HexColor("#1d4d57")
TOE = HexColor("#b5472a")
FILL = HexColor("#f3e0bf")
WARN = HexColor("#fbf1de")
REGULAR, MEDIUM, BOLD = "PlexSans", "PlexSans-Medium", "PlexSans-SemiBold"


class PlanFigure(Flowable):
    """The plan picture with toe line, coordinate ticks, scale bar, north arrow and contour interval."""

    def __init__(self, plan: PlanPicture, toe: LineLayer, unit: str, width: float) -> None:
        super().__init__()
        self.plan, self.toe, self.unit = plan, toe, unit
        self.width = width
        self.height = width * plan.size[1] / plan.size[0] + 12

    def draw(self) -> None:
        """Draw at the origin of the flow."""
        canvas: Canvas = self.canv
        scale = self.width / self.plan.size[0]
        top = self.height
        packed = io.BytesIO()
        Image.fromarray(self.plan.image).save(packed, "JPEG", quality=92)
        image = ImageReader(packed)
        canvas.drawImage(image, 0, 12, self.width, self.height - 12)
        canvas.saveState()
        clip = canvas.beginPath()
        clip.rect(0, 12, self.width, self.height - 12)
        canvas.clipPath(clip, stroke=0)
        self._ticks(canvas, scale, top)
        pixels = self.plan.to_pixels(self.toe.points) * scale
        path = canvas.beginPath()
        path.moveTo(pixels[0, 0], top - pixels[0, 1])
        for x, y in pixels[1:]:
            path.lineTo(x, top - y)
        path.close()
        canvas.setStrokeColor(TOE)
        canvas.setLineWidth(1.1)
        canvas.drawPath(path)
        canvas.restoreState()
        canvas.setStrokeColor(HAIR)
        canvas.setLineWidth(0.5)
        canvas.rect(0, 12, self.width, self.height - 12)
        self._scale_bar(canvas, scale)
        self._north(canvas)
        canvas.setFont(REGULAR, 6)
        canvas.setFillColor(QUIET)
        note = f"Contours every {number(self.plan.contour, 2)} {symbol(self.unit)}, every fifth stronger"
        canvas.drawString(0, 2, f"{note}. Toe line red; hatched: no points.")

    def _ticks(self, canvas: Canvas, scale: float, top: float) -> None:
        """Crosses of the coordinate grid with eastings and northings at the edge."""
        camera, size = self.plan.camera, self.plan.size
        low = np.array(camera.target[:2]) - np.array(size) / 2 * camera.scale
        high = np.array(camera.target[:2]) + np.array(size) / 2 * camera.scale
        step = round_step(float(high[0] - low[0]), 4)
        canvas.setStrokeColor(Color(0.1, 0.1, 0.1, 0.45))
        canvas.setFillColor(INK)
        canvas.setLineWidth(0.4)
        canvas.setFont(REGULAR, 5.5)
        for e in np.arange(np.ceil(low[0] / step), high[0] / step) * step:
            x = (e - low[0]) / camera.scale * scale
            canvas.line(x, top, x, top - 5)
            _label(canvas, x + 2, top - 7, f"{e:.0f} E")
            for n in np.arange(np.ceil(low[1] / step), high[1] / step) * step:
                y = top - (high[1] - n) / camera.scale * scale
                canvas.line(x - 3, y, x + 3, y)
                canvas.line(x, y - 3, x, y + 3)
        for n in np.arange(np.ceil(low[1] / step), high[1] / step) * step:
            y = top - (high[1] - n) / camera.scale * scale
            canvas.line(0, y, 5, y)
            _label(canvas, 6, y + 2, f"{n:.0f} N")

    def _scale_bar(self, canvas: Canvas, scale: float) -> None:
        per_point = self.plan.camera.scale / scale
        length = round_step(self.width * per_point, 5)
        width = length / per_point
        x = self.width - width - 8
        canvas.setFillColor(Color(1, 1, 1, 0.8))
        canvas.rect(x - 5, 15, width + 10, 15, stroke=0, fill=1)
        canvas.setFillColor(INK)
        canvas.rect(x, 18, width / 2, 2.5, stroke=0, fill=1)
        canvas.setStrokeColor(INK)
        canvas.setLineWidth(0.5)
        canvas.rect(x, 18, width, 2.5)
        canvas.setFont(REGULAR, 6)
        canvas.drawCentredString(x + width / 2, 22.5, f"{number(length, 0 if length >= 1 else 2)} {symbol(self.unit)}")

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
        canvas.setFont(BOLD, 6)
        canvas.drawCentredString(x, y - 4, "N")


class ProfileFigure(Flowable):
    """A profile: top over base, the part between filled, axes with round numbers, exaggeration stated."""

    def __init__(self, profile: Profile, unit: str, width: float, height: float) -> None:
        super().__init__()
        self.profile, self.unit = profile, unit
        self.width, self.height = width, height

    def draw(self) -> None:
        """Draw at the origin of the flow."""
        canvas: Canvas = self.canv
        left, bottom, top = 30.0, 14.0, self.height - 12
        both = np.concatenate([self.profile.top, self.profile.base])
        both = both[np.isfinite(both)]
        if not len(both):
            return
        span = max(float(np.ptp(both)), 1e-6)
        low, high = float(both.min()) - 0.06 * span, float(both.max()) + 0.08 * span
        sx = (self.width - left) / float(self.profile.distance[-1])
        sy = (top - bottom) / (high - low)
        x = left + self.profile.distance * sx
        canvas.setFont(MEDIUM, 7)
        canvas.setFillColor(INK)
        canvas.drawString(0, self.height - 7, self.profile.title)
        canvas.setFont(REGULAR, 6)
        canvas.setFillColor(QUIET)
        canvas.drawRightString(self.width, self.height - 7, f"heights × {sy / sx:.1f}")
        self._axes(canvas, (left, bottom, top), (low, high), (sx, sy))
        self._between(canvas, x, bottom + (self.profile.base - low) * sy, bottom + (self.profile.top - low) * sy)
        _polyline(canvas, x, bottom + (self.profile.base - low) * sy, TOE)
        _polyline(canvas, x, bottom + (self.profile.top - low) * sy, INK)

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
            canvas.line(left, y, self.width, y)
            canvas.drawRightString(left - 3, y - 2, number(float(level), 1))
        length = float(self.profile.distance[-1])
        step = round_step(length, 6)
        for place in np.arange(0, length + 1e-9, step):
            x = left + place * scale[0]
            canvas.line(x, bottom, x, bottom - 2)
            canvas.drawCentredString(x, bottom - 9, f"{number(float(place), 0)} {symbol(self.unit)}")

    def _between(self, canvas: Canvas, x: Floats, base: Floats, top: Floats) -> None:
        both = np.isfinite(base) & np.isfinite(top)
        if both.sum() < 2:
            return
        path = canvas.beginPath()
        outline = [*zip(x[both], top[both], strict=True), *zip(x[both][::-1], base[both][::-1], strict=True)]
        path.moveTo(*outline[0])
        for place in outline[1:]:
            path.lineTo(*place)
        path.close()
        canvas.setFillColor(FILL)
        canvas.drawPath(path, stroke=0, fill=1)


def _label(canvas: Canvas, x: float, y: float, text: str) -> None:
    """Small text on a light ground, readable over any picture."""
    canvas.setFillColor(Color(1, 1, 1, 0.75))
    canvas.rect(x - 1, y - 1.5, canvas.stringWidth(text, REGULAR, 5.5) + 2, 6.5, stroke=0, fill=1)
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
