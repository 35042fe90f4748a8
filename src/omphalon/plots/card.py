"""Figures of a test card, and of a ladder: the picture with what was followed in it, the swing of
each axis against its model, and the readings for pressure advance.
"""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from scipy import ndimage

from omphalon.physics.edges import Edges
from omphalon.plots.advance import draw_readings
from omphalon.plots.style import FOG, INK, PALE, SAND, SEA, SIGNAL, dress
from omphalon.studies.advance.fit import AdvanceFit
from omphalon.studies.advance.silhouette import Silhouette
from omphalon.studies.card.sight import CardSight
from omphalon.studies.card.words import CardRead

PIXEL_MM, EVERY = 0.1, 4
COLOURS = {"x": SEA, "y": SIGNAL}


def draw_card(figure: Figure, read: CardRead) -> None:
    """The card on the left; the answers' evidence on the right."""
    grid = figure.add_gridspec(3, 2, width_ratios=[1.35, 1])
    said = "blue: X swings across these; red: Y; ochre: pressure advance and the rings"
    _draw_picture(figure.add_subplot(grid[:, 0]), read.sight, said)
    rights = [figure.add_subplot(grid[n, 1]) for n in range(3)]
    for ax, axis in zip(rights, "xy", strict=False):
        _draw_swing(ax, read, axis)
    advance = next((p.picture for p in read.parts if p.kind == "advance-fit"), None)
    if advance is None:
        rights[2].set_axis_off()
    else:
        draw_readings(rights[2], advance[0])
        rights[2].set_ylabel("widths apart, mm", color=INK, fontsize=11)


def draw_advance(figure: Figure, found: tuple[AdvanceFit, CardSight | Silhouette | None]) -> None:
    """The readings against the value, the fitted line, and the answer with its interval; beside the
    picture that they were read from, if they were.
    """
    fit, sight = found
    if sight is None:
        draw_readings(figure.add_subplot(), fit)
        return
    grid = figure.add_gridspec(1, 2, width_ratios=[1.2, 1])
    ax = figure.add_subplot(grid[0])
    if isinstance(sight, Silhouette):
        _draw_outline(ax, sight, fit)
    else:
        _draw_picture(ax, sight, "ochre: the lines that were read, and rings")
    draw_readings(figure.add_subplot(grid[1]), fit)


def _draw_outline(ax: Axes, sight: Silhouette, fit: AdvanceFit) -> None:
    """How far a tower's clean corner stands out at each height; the bands, and the answer."""
    dress(ax, x="stands out, mm", y="height, mm", title="The clean corner's outline")
    for low, high in sight.plan["bands_mm"]:
        ax.axhspan(low, high, color=PALE, linewidth=0)
        ax.annotate(
            "passed slowly: any value is right",
            (0.02, (low + high) / 2),
            xycoords=("axes fraction", "data"),
            va="center",
            color=INK,
            fontsize=10,
        )
    ax.axvline(0, color=FOG, linewidth=1.2, linestyle="--")
    ax.plot(sight.out_mm, sight.height_mm, color=SEA, linewidth=1.4)
    ax.axhline((fit.value_s - sight.plan["start"]) / sight.plan["per_mm"], color=SIGNAL)


def _draw_picture(ax: Axes, sight: CardSight, said: str) -> None:
    """The picture brought square, with the middles that were followed."""
    size = sight.card.size_mm
    span = np.arange(0.0, size, PIXEL_MM)
    at = sight.pose.seen_at(np.stack(np.meshgrid(span, span), axis=-1))
    grey = ndimage.map_coordinates(
        sight.picture.grey, [at[..., 1], at[..., 0]], order=1, output=np.uint8, mode="nearest"
    )
    dress(ax, x="x, mm", y="y, mm", title="What was followed in the picture")
    ax.grid(visible=False)
    ax.imshow(grey, cmap="gray", origin="lower", extent=(0, size, 0, size), vmin=0, vmax=255)
    for seen in sight.combs:
        _follow(ax, seen.course, np.array(seen.comb.places[1:]), COLOURS[_shows(seen.comb.axis)])
    for rung in sight.rungs:
        colour = SAND if rung.why is None else FOG
        _follow(ax, rung.course, np.array(rung.rung.places)[[0, -1]], colour)
    corners = np.array([*sight.card.rings])
    ax.plot(*corners.T, "o", color=SAND, markerfacecolor="none", markersize=14)
    ax.set(xlim=(0, size), ylim=(0, size))
    ax.annotate(said, (0, -0.09), xycoords="axes fraction", fontsize=10, color=INK)


def _shows(along: str) -> str:
    """The axis that swings across lines along the other one."""
    return "y" if along == "x" else "x"


def _follow(ax: Axes, course: Edges, ends: np.ndarray, colour: str) -> None:
    way = (ends[1] - ends[0]) / np.hypot(*(ends[1] - ends[0]))
    side = np.array([-way[1], way[0]])
    middle = np.where(course.good, (course.low_mm + course.high_mm) / 2, np.nan)
    points = ends[0] + course.along_mm[:, None] * way + middle[:, None] * side
    ax.plot(*points[::EVERY].T, color=colour, linewidth=1.0)


def _draw_swing(ax: Axes, read: CardRead, axis: str) -> None:
    """The line that shows an axis best: its middle, and the model."""
    title = f"{axis.upper()}: a line's middle behind its corner"
    dress(ax, x="mm from the corner", y="to the side, µm", title=title)
    if axis not in read.swings or not read.swings[axis].modes:
        ax.annotate("no swing seen", (0.4, 0.5), xycoords="axes fraction", color=INK)
        return
    along, seen, model = max(read.swings[axis].lines, key=lambda line: float(np.ptp(line[2])))
    ax.plot(along, 1000 * seen, ".", color=FOG, markersize=4, label="read")
    ax.plot(along, 1000 * model, color=COLOURS[axis], linewidth=1.6, label="model")
    modes = ", ".join(f"{m.frequency_hz:.1f} Hz" for m in read.swings[axis].modes)
    ax.legend(frameon=False, loc="upper right", title=modes, fontsize=9)
