"""Figures of pressure advance and of a test card: the print seen from above, the readings against
the value, corners before and after; the picture with what was followed in it, and the swing of each
axis against its model.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.collections import LineCollection
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.figure import Figure
from matplotlib.patches import Circle, Rectangle
from scipy import ndimage

from omphalon.physics.edges import Edges
from omphalon.plots.style import FOG, INK, PALE, SAND, SEA, SIGNAL, dress
from omphalon.studies.advance.fit import AdvanceFit
from omphalon.studies.advance.question import METHODS
from omphalon.studies.advance.silhouette import Silhouette
from omphalon.studies.card.sight import CardSight
from omphalon.studies.card.words import CardRead
from omphalon.tables.units import digits

if TYPE_CHECKING:
    from omphalon.studies.advance.check import AdvanceCheck

VALUES = LinearSegmentedColormap.from_list("values", [SEA, SAND, SIGNAL])
PIXEL_MM, EVERY = 0.1, 4


def draw_preview(figure: Figure, printed: Any) -> None:
    """The print from above, lines in their true width and coloured by value; the whole bed beside
    it; a tower from the side.
    """
    figure.set_layout_engine("constrained", rect=(0.0, 0.03, 1.0, 0.93))
    wide, narrow = figure.subplots(1, 2, width_ratios=[2.4, 1])
    strokes = list(printed.strokes())
    draw_bed(narrow, strokes, printed.job, "On the bed, mm")
    if printed.side_view:
        draw_side(wide, strokes, printed)
    else:
        draw_above(wide, strokes, printed)


def draw_bed(ax: Axes, strokes: list[Any], job: Any, title: str) -> None:
    """Bed, margin and everything that is laid on it."""
    dress(ax, title=title)
    bed = job.bed
    x, y = bed.centre
    for shrink, colour, style in ((0.0, INK, "-"), (bed.margin_mm, FOG, "--")):
        shape = (
            Circle((x, y), bed.x_mm / 2 - shrink)
            if bed.round
            else Rectangle(
                (x - bed.x_mm / 2 + shrink, y - bed.y_mm / 2 + shrink),
                bed.x_mm - 2 * shrink,
                bed.y_mm - 2 * shrink,
            )
        )
        shape.set(fill=False, edgecolor=colour, linestyle=style)
        ax.add_patch(shape)
    ax.add_collection(
        LineCollection([s.places for s in strokes[:4000]], colors=SEA, linewidths=0.5)
    )
    ax.set_xlim(x - bed.x_mm / 2 - 5, x + bed.x_mm / 2 + 5)
    ax.set_ylim(y - bed.y_mm / 2 - 5, y + bed.y_mm / 2 + 5)
    ax.set_aspect("equal")


def draw_above(ax: Axes, strokes: list[Any], printed: Any) -> None:
    """The print from above, as large as it goes, each value beside what it was printed with."""
    dress(ax, x="x, mm", y="y, mm", title=printed.title)
    ax.grid(False)
    first = 1.5 * printed.job.layer_mm
    low = [s for s in strokes if s.z_mm < first or s.note.startswith("digits")]
    values = np.array([np.nan if s.value is None else s.value for s in low])
    known = values[np.isfinite(values)]
    top, bottom = (float(known.max()), float(known.min())) if len(known) else (1.0, 0.0)
    colours = [
        FOG if np.isnan(v) else VALUES((v - bottom) / max(top - bottom, 1e-12)) for v in values
    ]
    places = np.concatenate([np.array(s.places) for s in low])
    ax.set_xlim(places[:, 0].min() - 4, places[:, 0].max() + 14)
    ax.set_ylim(places[:, 1].min() - 4, places[:, 1].max() + 6)
    ax.set_aspect("equal", adjustable="box")
    for stroke, known_colour in zip(low, colours, strict=True):
        colour = INK if stroke.z_mm > first else known_colour  # numbers on top of the print
        for n, speed in enumerate(stroke.speeds_mm_s):
            quick = speed > printed.job.slow_mm_s * 1.2
            ax.plot(
                *np.array(stroke.places[n : n + 2]).T,
                color=colour,
                linewidth=2.4 if quick else 1.3,
                solid_capstyle="round",
            )
    for label in printed.labels:
        ax.annotate(
            label.text,
            (label.x_mm, label.y_mm),
            color=INK,
            fontsize=8,
            va="center" if label.beside else "bottom",
            ha="left" if label.beside else "center",
        )


def draw_side(ax: Axes, strokes: list[Any], printed: Any) -> None:
    """A tower from its front: the outline of each layer coloured by its value, marks on the left,
    values at the heights.
    """
    dress(
        ax,
        x="x, mm",
        y="height, mm",
        title="The tower from its front, pressure advance in s at each mark",
    )
    ax.grid(False)
    layers = [s for s in strokes if s.value is not None]
    values = np.array([s.value for s in layers])
    span = max(float(np.ptp(values)), 1e-12)
    lines = [
        ((min(p[0] for p in s.places), s.z_mm), (max(p[0] for p in s.places), s.z_mm))
        for s in layers
    ]
    ax.add_collection(
        LineCollection(
            lines, colors=[VALUES((v - values.min()) / span) for v in values], linewidths=1.6
        )
    )
    right = max(line[1][0] for line in lines)
    left = min(line[0][0] for line in lines)
    ax.set_xlim(left - 6, right + 12)
    ax.set_ylim(0, layers[-1].z_mm * 1.06)
    ax.set_aspect("equal", adjustable="box")
    for label in printed.labels:
        ax.annotate(f"{label.text}", (right + 1.5, label.y_mm), color=INK, fontsize=10, va="center")
    ax.annotate(
        "clean corner",
        (right, layers[-1].z_mm),
        xytext=(-8, 6),
        textcoords="offset points",
        ha="right",
        color=INK,
    )
    ax.annotate(
        "a mark each 5 mm",
        (left, layers[-1].z_mm),
        xytext=(8, 6),
        textcoords="offset points",
        ha="left",
        color=INK,
    )


def draw_readings(ax: Axes, fit: AdvanceFit) -> None:
    """The readings against the value, the fitted line, and the answer with its interval."""
    read, best, keep = fit.readout, fit.best, fit.best.keep
    low, high = fit.value_s - fit.half_width_s, fit.value_s + fit.half_width_s
    looked = read.by_eye
    dress(
        ax,
        x="pressure advance, s",
        y="" if read.clean else "reading" if looked else METHODS[read.method],
        title="Where corners are best",
    )
    ax.axvspan(low, high, color=PALE, linewidth=0)
    if looked:
        seen = np.arange(1, len(read.values_s) + 1, dtype=float)
        ax.set_yticks(seen, ("clean from", "clean to") if read.clean else None)
        ax.set_ylim(0.3, len(seen) + 0.9)
        deviation: dict[str, Any] = {"xerr": 2 * best.deviation}
        ax.set_xlim(*_reach(read.span, read.values_s, best.deviation, low, high))
    else:
        seen, deviation = read.seen, {"yerr": 2 * best.deviation}
        if read.method != "score":
            ax.axhline(0, color=FOG, linewidth=1.2, linestyle="--")
    for counts, colour, marker in ((True, SEA, "o"), (False, SAND, "x")):
        some = keep == counts
        if some.any():
            ax.errorbar(
                read.values_s[some],
                seen[some],
                fmt=marker,
                color=colour,
                markersize=7,
                linewidth=1,
                capsize=3,
                **deviation,
            )
    for x, y in zip(read.values_s[~keep], seen[~keep], strict=True):
        ax.annotate(
            "left out", (x, y), xytext=(9, 0), textcoords="offset points", va="center", color=INK
        )
    if best.curve is not None:
        ax.plot(*best.curve, color=SIGNAL, linewidth=1.6)
    ax.axvline(fit.value_s, color=SIGNAL, linewidth=1.8)
    ax.annotate(
        f" best {digits(fit.value_s, fit.half_width_s)} ± {digits(fit.half_width_s, least=2)} s",
        (fit.value_s, 0.98),
        color=INK,
        fontsize=12,
        xycoords=("data", "axes fraction"),
        va="top",
    )
    if fit.present_s is not None:
        _draw_present(ax, fit.present_s)
    for n, one in enumerate(fit.speeds):
        foot, level = ax.get_xaxis_transform(), 0.08 + 0.05 * n
        own: dict[str, Any] = {"xerr": one.half_width_s, "fmt": "s", "color": SAND, "capsize": 3}
        ax.errorbar(one.value_s, level, transform=foot, **own)
        words, left = f"  {one.fast_mm_s:g} mm/s  ", one.value_s < fit.value_s
        side: Any = "right" if left else "left"
        end = one.value_s + (-one.half_width_s if left else one.half_width_s)
        ax.text(end, level, words, transform=foot, ha=side, va="center", color=INK)


def _draw_present(ax: Axes, value_s: float) -> None:
    """The present value; one that lies outside of what is shown is named at that end."""
    low, high = ax.get_xlim()
    inside = low <= value_s <= high
    if inside:
        ax.axvline(value_s, color=INK, linewidth=1.4, linestyle=":")
    beyond = f"present {digits(value_s)} →" if value_s > high else f"← present {digits(value_s)}"
    ax.annotate(
        f" present {digits(value_s)}" if inside else f" {beyond} ",
        (value_s if inside else high if value_s > high else low, 0.02),
        color=INK,
        fontsize=11,
        ha="right" if value_s > high else "left",
        xycoords=("data", "axes fraction"),
    )


def _reach(
    span: tuple[float, float], values: Any, deviation: float, low: float, high: float
) -> tuple[float, float]:
    """What of the printed range is shown: all of it, and the readings' error bars."""
    return (
        min(span[0], float(values.min()) - 2.2 * deviation, low),
        max(span[1], float(values.max()) + 2.2 * deviation, high),
    )


def draw_corners(figure: Figure, check: AdvanceCheck) -> None:
    """Each corner's bulge before and after, with the caliper's error, and the means."""
    ax = figure.add_subplot()
    dress(ax, y="bulge, mm (positive stands out)", title="Corners before and after")
    ax.axhline(0, color=FOG, linewidth=1.2, linestyle="--")
    ticks: list[tuple[float, str]] = []
    prints = (("before", check.before, SAND), ("after", check.after, SEA))
    for n, (when, read, colour) in enumerate(prints):
        bulges, mean, half = read.bulges_mm, read.mean.value, read.mean.half_width
        at = n * (len(check.before.bulges_mm) + 1.5) + np.arange(len(bulges))
        ax.fill_between([at[0] - 0.5, at[-1] + 0.5], mean - half, mean + half, color=PALE)
        ax.plot([at[0] - 0.5, at[-1] + 0.5], [mean] * 2, color=SIGNAL, linewidth=1.8)
        ax.errorbar(
            at,
            bulges,
            yerr=2 * check.reading_deviation_mm,
            fmt="o",
            color=colour,
            markersize=8,
            capsize=3,
            linewidth=1,
        )
        top = float(bulges.max()) + 2 * check.reading_deviation_mm
        ax.annotate(
            f"{when}: {mean:+.3f} ± {half:.3f} mm",
            (at.mean(), top),
            xytext=(0, 14),
            textcoords="offset points",
            ha="center",
            color=INK,
            fontsize=12,
        )
        ticks.extend(
            (float(x), name or str(k + 1))
            for k, (x, name) in enumerate(zip(at, read.names, strict=True))
        )
    ax.set_xticks([t[0] for t in ticks], [t[1] for t in ticks])
    ax.margins(y=0.25)


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
        shown = "y" if seen.comb.axis == "x" else "x"  # lines along one axis show the other
        _follow(ax, seen.course, np.array(seen.comb.places[1:]), COLOURS[shown])
    for rung in sight.rungs:
        colour = SAND if rung.why is None else FOG
        _follow(ax, rung.course, np.array(rung.rung.places)[[0, -1]], colour)
    corners = np.array([*sight.card.rings])
    ax.plot(*corners.T, "o", color=SAND, markerfacecolor="none", markersize=14)
    ax.set(xlim=(0, size), ylim=(0, size))
    ax.annotate(said, (0, -0.09), xycoords="axes fraction", fontsize=10, color=INK)


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
