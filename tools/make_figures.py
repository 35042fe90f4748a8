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


FAST_MM_S, CORNER_MM_S, BRAKE_MM_S2 = 100.0, 12.0, 2500.0
LAG_S, LINE_MM = 0.03, 1.2  # of the flow behind the drive; drawn wider than it is laid


def laid(lead_s):
    """Places along a way round a corner (mm from it), and how wide the bead is there: the flow lags
    behind the drive, which leads by so much.
    """
    step = 1e-4
    time = np.arange(-0.25, 0.25, step)
    speed = np.clip(CORNER_MM_S + BRAKE_MM_S2 * np.abs(time), None, FAST_MM_S)
    drive = speed + lead_s * np.gradient(speed, step)
    flow = np.empty_like(drive)
    flow[0] = drive[0]
    for n in range(1, len(drive)):
        flow[n] = flow[n - 1] + (drive[n] - flow[n - 1]) * step / LAG_S
    along = np.cumsum(speed) * step
    along -= along[len(time) // 2]
    return along, LINE_MM * np.clip(flow / speed, 0.15, 2.6)


def round_a_corner(ax, title, lead_s):
    along, width = laid(lead_s)
    keep = np.abs(along) < 11
    for legs in (along <= 0, along >= 0):
        s, half = along[legs & keep], width[legs & keep] / 2
        if s[0] < 0:  # comes from the left
            ax.fill_between(s, -half, half, color=SEA, lw=0)
        else:
            ax.fill_betweenx(-s, -half, half, color=SEA, lw=0)
    ax.add_patch(Ellipse((0, 0), *(2 * [width[np.argmin(np.abs(along))]]), color=SEA))
    _seen(ax, title, (-11, 3), (-11, 3))


def ripples(ax, title):
    x = np.linspace(0, 14, 500)
    for n in range(7):
        swing = 0.35 * np.exp(-0.28 * x) * np.sin(2 * np.pi * x / 2.6)
        ax.fill_between(x, -1.3 * n - 0.55 + swing, -1.3 * n + 0.55 + swing, color=SEA, lw=0)
        ax.fill_betweenx([-1.3 * n - 0.55, -1.3 * n + 0.55], -0.6, 0.1, color=SEA, lw=0)
    _seen(ax, title, (-1, 14), (-9.5, 4.5))


def beads(ax, title, high, wide, gap):
    ax.add_patch(Rectangle((-7, -0.6), 14, 0.6, color=FOG))
    for x in np.arange(-5, 6, 2.0):
        ax.add_patch(
            FancyBboxPatch(
                (x - wide / 2 + 0.3, gap + 0.3),
                wide - 0.6,
                high - 0.6,
                boxstyle=f"round,pad=0.3,rounding_size={min(high, wide) / 2.2}",
                fc=SEA,
                ec=PALE,
            )
        )
    _seen(ax, title, (-7, 7), (-4, 6))


def bands(ax, title):
    for n in range(40):
        shade = 0.75 + 0.25 * np.sin(2 * np.pi * n / 9)
        wide = 5 + 0.12 * np.sin(2 * np.pi * n / 9)
        ax.add_patch(Rectangle((-wide, 0.3 * n), 2 * wide, 0.27, color=SEA, alpha=shade, lw=0))
    _seen(ax, title, (-7, 7), (-0.5, 12.5))


def _seen(ax, title, across, up):
    ax.set_title(title, loc="left", color=INK, fontsize=17, fontweight="bold")
    ax.set(xlim=across, ylim=up, aspect="equal")
    ax.axis("off")


def complaints() -> Figure:
    """What is seen on a print, as it comes about: beads from their flow, ripples from a swing."""
    figure = Figure(figsize=(8.0, 9.6), dpi=100, layout="constrained")
    FigureCanvasAgg(figure)
    (a, b), (c, f), (d, e) = figure.subplots(3, 2)
    round_a_corner(a, "corners bulge", 0.0)
    round_a_corner(b, "lines are thin at corners", 2 * LAG_S)
    ripples(c, "ripples beside edges")
    beads(d, "does not stick", 1.7, 1.7, 0.08)
    beads(e, "is squeezed flat", 0.7, 2.3, 0.0)
    bands(f, "bands up the wall")
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
