"""Draw the pictures that docs/ explain with: python tools/make_figures.py"""

import pathlib

import numpy as np
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.patches import Ellipse, FancyBboxPatch, Polygon, Rectangle

from omphalon.plots.style import FOG, INK, PALE, SAND, SEA

OUT = pathlib.Path(__file__).parents[1] / "docs" / "figures"


def plate(ax, low, title):
    """A plate from its side, with six lines lying on it."""
    ax.add_patch(Rectangle((-5, low - 0.35), 10, 0.35, color=FOG))
    for x in np.linspace(-3.5, 3.5, 8):
        ax.add_patch(Ellipse((x, low + 0.1), 0.5, 0.24, color=SEA))
    ax.set_title(title, loc="left", color=INK, fontsize=13, fontweight="bold")
    ax.set(xlim=(-7.4, 7.4), ylim=(-1.2, 6.8), aspect="equal")
    ax.axis("off")


def said(ax, x, y, text):
    ax.text(x, y, text, color=INK, fontsize=11, ha="center", va="center")


def scanned(ax):
    plate(ax, 2.0, "Scanned: face down, dry, flat")
    ax.add_patch(FancyBboxPatch((-6, -0.9), 12, 1.6, boxstyle="round,pad=0.1", fc=PALE, ec=FOG))
    ax.add_patch(Rectangle((-6, 0.72), 12, 0.12, color=SEA, alpha=0.35))
    ax.patches[0].set_xy((-5, 1.27))
    for line in ax.patches[1:9]:
        line.set_center((line.get_center()[0], 1.15))
    ax.add_patch(Rectangle((-0.6, -0.6), 1.2, 0.5, color=SAND))
    said(ax, 3.2, -0.35, "the lamp travels")
    said(ax, 0, 3.2, "300 dpi are enough, 600 are better;\ncolour or grey, no sharpening")
    said(ax, 0, 5.2, "a sheet of another tone behind the print\nwhere the plate does not fit in")


def photographed(ax):
    plate(ax, 0.0, "Photographed: on the cold plate, light from one side")
    ax.add_patch(Rectangle((-0.7, 5.6), 1.4, 0.9, color=INK))
    ax.add_patch(Polygon([(-0.3, 5.6), (0.3, 5.6), (4.6, 0.3), (-4.6, 0.3)], color=PALE, zorder=0))
    ax.plot([0, 0], [0.4, 5.5], color=INK, lw=1, ls="--")
    said(ax, 4.3, 6.0, "square above, 30 cm or more;\nthe print fills the picture")
    ax.add_patch(Ellipse((-6.2, 3.6), 0.9, 0.9, color=SAND))
    for x in (-3.5, -1.5, 0.5):
        ax.annotate("", (x, 0.35), (-5.8, 3.4), arrowprops={"arrowstyle": "->", "color": SAND})
    said(ax, -5.4, 4.7, "lamp or window, 45°,\nacross the lines")
    said(ax, 5.3, 2.9, "no flash, no zoom\nbeyond the lens's own")


FAST_MM_S, CORNER_MM_S, BRAKE_MM_S2 = 80.0, 20.0, 2000.0
LAG_S, LINE_MM = 0.005, 0.45  # the flow's lag behind the drive; a line as it is laid


def bead_mm(advance_s):
    """Places along a way round a corner (mm from it), and how wide the bead is there: the flow lags
    behind the drive, which runs ahead by the pressure advance.
    """
    step = 1e-5
    time = np.arange(-0.1, 0.1, step)
    speed = np.clip(CORNER_MM_S + BRAKE_MM_S2 * np.abs(time), None, FAST_MM_S)
    drive = speed + advance_s * np.gradient(speed, step)
    flow = np.empty_like(drive)
    flow[0] = drive[0]
    for n in range(1, len(drive)):
        flow[n] = flow[n - 1] + (drive[n] - flow[n - 1]) * step / LAG_S
    along = np.cumsum(speed) * step
    along -= along[len(time) // 2]
    return along, LINE_MM * flow / speed


def corner(ax, advance_s):
    along, width = bead_mm(advance_s)
    for before in (True, False):
        leg = ((along <= 0) if before else (along >= 0)) & (np.abs(along) < 2.3)
        s, half = along[leg], width[leg] / 2
        if before:  # comes from the left
            ax.fill_between(2.5 + s, 2.4 - half, 2.4 + half, color=SEA, lw=0)
        else:
            ax.fill_betweenx(2.4 - s, 2.5 - half, 2.5 + half, color=SEA, lw=0)
    at = width[np.argmin(np.abs(along))]
    ax.add_patch(Ellipse((2.5, 2.4), at, at, color=SEA, lw=0))


def ripples(ax):
    x = np.linspace(0.3, 3.2, 500)
    for n in range(6):
        swing = 0.05 * np.exp(-1.1 * (x - 0.3)) * np.sin(2 * np.pi * (x - 0.3) / 0.7)
        y = 0.35 + 0.46 * n + swing
        ax.fill_between(x, y - 0.21, y + 0.21, color=SEA, lw=0)
        ax.add_patch(Rectangle((0.1, 0.14 + 0.46 * n), 0.22, 0.42, color=SEA, lw=0))


def bands(ax):
    for n in range(15):
        swing = np.sin(2 * np.pi * n / 5)
        ax.add_patch(
            Rectangle(
                (0.5, 0.1 + 0.2 * n), 2.2 + 0.05 * swing, 0.18, color=SEA, alpha=0.75 + 0.25 * swing
            )
        )


def beads(ax, high, wide, gap):
    """A first layer from its side, on the plate."""
    ax.add_patch(Rectangle((0, 0.9), 3.2, 0.25, color=FOG, lw=0))
    for x in np.arange(0.5, 2.9, LINE_MM):
        ax.add_patch(
            FancyBboxPatch(
                (x - wide / 2, 1.15 + gap), wide, high, fc=SEA, ec=PALE, lw=0.6,
                boxstyle=f"round,pad=0,rounding_size={min(high, wide) / 2.1}",
            )
        )  # fmt: skip


def threads(ax):
    for x in (0.1, 2.3):
        ax.add_patch(Rectangle((x, 0.1), 0.8, 2.9, color=SEA, lw=0))
    x = np.linspace(0.9, 2.3, 50)
    for y, sag in ((2.6, 0.1), (1.9, 0.25), (1.35, 0.06), (0.7, 0.18)):
        ax.plot(x, y - sag * (1 - ((x - 1.6) / 0.7) ** 2), color=SEA, lw=1)


def lines(ax, wide):
    """Lines of a top layer, from above."""
    for n in range(6):
        ax.add_patch(
            Rectangle((0.1, 0.35 + LINE_MM * n - wide / 2), 3, wide, fc=SEA, ec=PALE, lw=0.6)
        )


def complaints() -> Figure:
    """What is seen on a print, in true proportion: 3 mm of it, lines of 0.45 mm."""
    figure = Figure(figsize=(12.0, 6.6), dpi=100, layout="constrained")
    FigureCanvasAgg(figure)
    drawn = {
        "corners bulge": lambda ax: corner(ax, 0.0),
        "lines are thin at corners": lambda ax: corner(ax, 2.2 * LAG_S),
        "ripples beside edges": ripples,
        "bands up the wall": bands,
        "does not stick": lambda ax: beads(ax, 0.36, 0.38, 0.03),
        "is squeezed flat": lambda ax: beads(ax, 0.1, 0.62, 0.0),
        "threads between parts": threads,
        "gaps between lines": lambda ax: lines(ax, 0.36),
    }
    for ax, (title, draw) in zip(figure.subplots(2, 4).flat, drawn.items(), strict=True):
        draw(ax)
        ax.set_title(title, loc="left", color=INK, fontsize=15, fontweight="bold")
        ax.set(xlim=(0, 3.2), ylim=(0, 3.2), aspect="equal")
        ax.axis("off")
    return figure


def main() -> None:
    OUT.mkdir(exist_ok=True)
    complaints().savefig(OUT / "complaints.png", metadata={"Software": "omphalon"})
    figure = Figure(figsize=(12.8, 4.6), dpi=100, layout="constrained")
    FigureCanvasAgg(figure)
    left, right = figure.subplots(1, 2)
    scanned(left)
    photographed(right)
    figure.savefig(OUT / "taking-a-picture.png", metadata={"Software": "omphalon"})


if __name__ == "__main__":
    main()
