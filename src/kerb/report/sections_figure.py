"""Sections in the report: several to a page, at one stated scale, each in a frame with offsets and levels."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from reportlab.lib.colors import HexColor
from reportlab.lib.units import mm
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import Flowable, Spacer

from kerb.core.quantity import decimals_of, number, round_step, symbol
from kerb.core.units import length_unit
from kerb.report.flow import EDGE, HAIR, INK, MEDIUM, QUIET, REGULAR, SMALL, TITLE, exaggerated
from kerb.studies.layers import Sections

# One to so many: scales of drawings.
SCALES = (10, 20, 25, 50, 100, 200, 250, 500, 1000, 2000, 2500, 5000, 10000, 20000)
LEFT, BOTTOM, ABOVE = 34.0, 20.0, 13.0
HIGHEST = 62 * mm
COLOURS = (INK, EDGE, HexColor("#2f6f8f"), HexColor("#6b7f4f"), HexColor("#7a4f9a"))


def section_figures(chart: Sections, unit: str, width: float) -> list[Flowable]:
    """A figure a section, all at one scale and exaggeration; sections without anything in them are left out."""
    spans = [_span(chart, n) for n in range(len(chart.names))]
    known = [span for span in spans if span is not None]
    if not known:
        return []
    height = max(high - low for low, high in known)
    length = float(chart.frames[:, 4].max())
    scale = _scale(length, length_unit(unit).metres, width - LEFT - 10)
    points = 1000 * length_unit(unit).metres / scale * mm
    exaggeration = exaggerated(height, length, (length * points, HIGHEST))
    story: list[Flowable] = []
    for n, span in enumerate(spans):
        if span is not None:
            story += [SectionFigure(chart, n, unit, (width, points, exaggeration, scale), span), Spacer(1, 3 * mm)]
    return story


def _scale(length: float, metres: float, room: float) -> int:
    """The largest scale of drawings at which a section fits across the page."""
    smallest = length * metres * 1000 * mm / room
    return next((scale for scale in SCALES if scale >= smallest), int(np.ceil(smallest)))


def _span(chart: Sections, n: int) -> tuple[float, float] | None:
    traces, points, shots, _ = chart.one(n)
    parts = [*(trace.places[:, 1] for trace in traces), shots[:, 1]]
    if len(points):
        # Single points far off do not rule the height of the picture.
        parts.append(np.percentile(points[:, 1], [2, 98]))
    z = np.concatenate(parts)
    z = z[np.isfinite(z)]
    return (float(z.min()), float(z.max())) if len(z) else None


class SectionFigure(Flowable):
    """One section."""

    def __init__(
        self, chart: Sections, n: int, unit: str, how: tuple[float, float, float, int], span: tuple[float, float]
    ) -> None:
        super().__init__()
        self.chart, self.n, self.unit, self.span = chart, n, unit, span
        self.width, self.points, self.exaggeration, self.scale = how
        room = max(span[1] - span[0], 1e-3) * 1.15 * self.points * self.exaggeration
        self.height = min(max(room, 12 * mm), HIGHEST) + BOTTOM + ABOVE

    def draw(self) -> None:
        """Draw at the origin of the flow."""
        canvas: Canvas = self.canv
        half = float(self.chart.frames[self.n, 4]) / 2
        sx, sy = self.points, self.points * self.exaggeration
        middle = LEFT + half * sx
        low = (self.span[0] + self.span[1]) / 2 - (self.height - BOTTOM - ABOVE) / sy / 2
        canvas.setFont(MEDIUM, TITLE)
        canvas.setFillColor(INK)
        canvas.drawString(0, self.height - 7, f"Station {self.chart.names[self.n]}")
        canvas.setFont(REGULAR, SMALL)
        canvas.setFillColor(QUIET)
        words = f"1 : {self.scale}, heights × {self.exaggeration:g}, all in {symbol(self.unit)}"
        canvas.drawRightString(self.width, self.height - 7, words)
        self._axes(canvas, (middle, half, low), (sx, sy))
        path = canvas.beginPath()
        path.rect(LEFT, BOTTOM, 2 * half * sx, self.height - BOTTOM - ABOVE)
        canvas.saveState()
        canvas.clipPath(path, stroke=0, fill=0)
        traces, points, shots, names = self.chart.one(self.n)
        canvas.setFillColor(QUIET)
        for x, z in points.tolist():
            canvas.circle(middle + x * sx, BOTTOM + (z - low) * sy, 0.35, 0, 1)
        for number_, trace in enumerate(traces):
            canvas.setStrokeColor(COLOURS[number_ % len(COLOURS)])
            canvas.setLineWidth(0.9)
            for a, b in pairwise(trace.places.tolist()):
                if np.isfinite(a[1]) and np.isfinite(b[1]):
                    canvas.line(
                        middle + a[0] * sx, BOTTOM + (a[1] - low) * sy, middle + b[0] * sx, BOTTOM + (b[1] - low) * sy
                    )
        canvas.restoreState()
        canvas.setFont(REGULAR, SMALL)
        canvas.setFillColor(INK)
        for (x, z), name in zip(shots.tolist(), names, strict=True):
            canvas.circle(middle + x * sx, BOTTOM + (z - low) * sy, 1.2, 0, 1)
            canvas.drawString(middle + x * sx + 2, BOTTOM + (z - low) * sy + 1.5, name)
        self._key(canvas, [trace.title for trace in traces])

    def _key(self, canvas: Canvas, titles: list[str]) -> None:
        """Which line is of what, under the frame."""
        x = LEFT
        canvas.setFont(REGULAR, SMALL)
        for number_, title in enumerate(titles):
            canvas.setStrokeColor(COLOURS[number_ % len(COLOURS)])
            canvas.line(x, 2.5, x + 10, 2.5)
            canvas.setFillColor(INK)
            words = title if len(title) < 34 else title[:32] + "…"
            canvas.drawString(x + 12, 1, words)
            x += 20 + canvas.stringWidth(words, REGULAR, SMALL)

    def _axes(self, canvas: Canvas, place: tuple[float, float, float], scale: tuple[float, float]) -> None:
        (middle, half, low), (sx, sy) = place, scale
        canvas.setStrokeColor(HAIR)
        canvas.setLineWidth(0.4)
        high = low + (self.height - BOTTOM - ABOVE) / sy
        step = round_step(high - low, 3)
        canvas.setFont(REGULAR, SMALL)
        for level in np.arange(np.ceil(low / step), np.floor(high / step) + 1) * step:
            y = BOTTOM + (level - low) * sy
            canvas.line(LEFT, y, LEFT + 2 * half * sx, y)
            canvas.drawRightString(LEFT - 3, y - 2, number(float(level), decimals_of(step)))
        step = round_step(2 * half, 8)
        for offset in np.arange(np.ceil(-half / step - 1e-9), half / step + 1e-9) * step:
            x = middle + offset * sx
            canvas.line(x, BOTTOM, x, BOTTOM - 2)
            canvas.drawCentredString(x, BOTTOM - 9, number(float(offset), decimals_of(step)))
        canvas.line(middle, BOTTOM, middle, self.height - ABOVE)
