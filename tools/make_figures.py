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


def main() -> None:
    OUT.mkdir(exist_ok=True)
    figure = Figure(figsize=(12.8, 4.6), dpi=100, layout="constrained")
    FigureCanvasAgg(figure)
    left, right = figure.subplots(1, 2)
    scanned(left)
    photographed(right)
    figure.savefig(OUT / "taking-a-picture.png", metadata={"Software": "omphalon"})


if __name__ == "__main__":
    main()
