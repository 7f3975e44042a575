"""Draws the figures of the method pages: ``.venv/bin/python docs/figures.py``."""

import io
from pathlib import Path

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from PIL import Image

INK, FAINT, TOP, BASE, GROUND, BELOW = "#2b3133", "#8b9496", "#b4552d", "#2f6f8f", "#6b7f4f", "#7a4f9a"
FOLDER = Path(__file__).parent / "methods"


def frame(title: str, high: float = 2.4) -> tuple[Figure, Axes]:
    """A figure of the width of a page and its only axes, without ticks."""
    figure = Figure(figsize=(7.4, high), dpi=150)
    axes = figure.add_axes((0.02, 0.04, 0.96, 0.82))
    axes.set_title(title, fontsize=9, color=INK, loc="left")
    axes.set_xticks([])
    axes.set_yticks([])
    for side in axes.spines.values():
        side.set_color("#d5d9d9")
    return figure, axes


def note(axes: Axes, words: str, at: tuple[float, float], to: tuple[float, float], colour: str = INK) -> None:
    """Words with a line to what they name."""
    axes.annotate(
        words, to, at, fontsize=8, color=colour, ha="center", arrowprops={"arrowstyle": "-", "color": colour, "lw": 0.7}
    )


def ground(x: np.ndarray) -> np.ndarray:
    """Ground that falls a little and undulates."""
    return 0.6 - 0.03 * x + 0.12 * np.sin(x * 0.9)


def stockpile() -> Figure:
    """A section through a heap: top, base, what lies above and below, and what is not seen."""
    figure, axes = frame("A section through a heap: what is counted, and with which sign")
    x = np.linspace(0, 20, 500)
    heap = np.clip(np.minimum((x - 5) * 0.75, (13.4 - x) * 0.75), 0, 2.4)
    dip = -0.45 * np.exp(-(((x - 14.2) / 0.45) ** 4))
    top = ground(x) + 0.9 * heap + dip
    a, b = 5.0, 15.2
    line = ground(np.array([a, b]))
    base = np.interp(x, [a, b], line)
    inside = (x >= a) & (x <= b)
    axes.fill_between(x, base, top, where=inside & (top >= base), color=TOP, alpha=0.22, lw=0)
    axes.fill_between(x, base, top, where=inside & (top < base), color=BELOW, alpha=0.45, lw=0)
    axes.plot(x, top, color=TOP, lw=1.6)
    axes.plot(x[inside], base[inside], color=BASE, lw=1.6)
    axes.plot(x[inside], ground(x)[inside], color=GROUND, lw=1.0, ls=(0, (2, 2)))
    axes.plot([a, b], line, "o", color=INK, ms=4)
    note(axes, "top: the surface of the points", (4.2, 3.0), (8.2, 2.6), TOP)
    note(axes, "base: through the toe line", (17.4, 1.6), (14.6, base[inside][-1]), BASE)
    axes.text(9.2, 1.2, "above (+)", fontsize=8, color=TOP, ha="center")
    note(axes, "below (−)", (16.6, -0.75), (14.2, 0.05), BELOW)
    note(
        axes,
        "ground beneath, not seen: part of the 95 % bound",
        (8.6, -0.75),
        (11.0, ground(np.array([11.0]))[0]),
        GROUND,
    )
    note(axes, "toe line", (2.4, 1.5), (a, line[0]))
    axes.set_xlim(0, 20)
    axes.set_ylim(-1.1, 3.5)
    return figure


def inventory() -> Figure:
    """Two touching heaps: when the saddle between them parts them."""
    figure, axes = frame("Touching heaps: two summits are two heaps where both rise far enough above the saddle")
    x = np.linspace(0, 24, 600)
    left, right = 3.2 - 0.55 * np.abs(x - 8), 2.6 - 0.55 * np.abs(x - 15)
    bump = 0.25 * np.exp(-(((x - 5.4) / 0.35) ** 2))
    z = np.maximum(np.maximum(left, right) + bump, 0)
    axes.fill_between(x, 0, z, color=TOP, alpha=0.2, lw=0)
    axes.plot(x, z, color=TOP, lw=1.6)
    axes.axhline(0, color=GROUND, lw=1.2)
    saddle = float(z[(x > 10) & (x < 13)].min())
    axes.plot([7, 16], [saddle, saddle], color=INK, lw=0.8, ls=(0, (3, 2)))
    for at, high in ((8.0, 3.2), (15.0, 2.6)):
        axes.annotate("", (at, high), (at, saddle), arrowprops={"arrowstyle": "<->", "color": BASE, "lw": 1.0})
    note(
        axes, "rises above the saddle by more than\na share of the least height: a heap", (19.6, 2.9), (15.1, 2.0), BASE
    )
    note(axes, "saddle: the toe lines meet here", (11.5, 0.35), (11.9, saddle), INK)
    note(axes, "a bump that rises less stays part of it", (4.0, 3.3), (5.4, 2.0), FAINT)
    axes.set_xlim(0, 24)
    axes.set_ylim(-0.3, 3.9)
    return figure


def opening() -> Figure:
    """Ground finding: the lowest of each cell, the opening, and what is taken for what."""
    figure, axes = frame(
        "Finding ground: the highest of the lowest within a disk; what stands above it by more than it may rise"
    )
    x = np.linspace(0, 30, 900)
    land = 0.3 + 0.05 * x
    hall = np.where((x > 6) & (x < 12), 2.2, 0)
    dam = np.clip(np.minimum((x - 17) * 0.55, (27 - x) * 0.55), 0, 1.5)
    z = land + hall + dam
    axes.plot(x, z, color=TOP, lw=1.6)
    axes.plot(x, land, color=BASE, lw=1.2, ls=(0, (4, 2)))
    axes.fill_between(x, land, z, where=(x > 6) & (x < 12), color=FAINT, alpha=0.35, lw=0)
    axes.fill_between(x, land, z, where=(x > 17) & (x < 27), color=GROUND, alpha=0.25, lw=0)
    note(axes, "a step all along its edge:\nno ground", (3.0, 3.0), (6.2, 2.4), FAINT)
    note(axes, "slopes along its edge:\nground after all", (26.8, 3.6), (25.2, 2.5), GROUND)
    note(axes, "opened with a disk wider than the hall", (15.0, 0.25), (13.6, 0.95), BASE)
    axes.set_xlim(0, 30)
    axes.set_ylim(-0.2, 4.4)
    return figure


if __name__ == "__main__":
    for name, draw in (("stockpile", stockpile), ("inventory", inventory), ("ground", opening)):
        made = io.BytesIO()
        draw().savefig(made)
        # A few colours are enough, and keep the files small.
        Image.open(made).convert("RGB").quantize(32).save(FOLDER / f"{name}.png", optimize=True)
