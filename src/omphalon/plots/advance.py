"""Figures of pressure advance: the test print seen from above, the readings against the value,
corners before and after.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.collections import LineCollection
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.figure import Figure
from matplotlib.patches import Circle, Rectangle

from omphalon.plots.style import FOG, INK, PALE, SAND, SEA, SIGNAL, dress
from omphalon.studies.advance.question import METHODS

if TYPE_CHECKING:
    from omphalon.studies.advance.check import AdvanceCheck
    from omphalon.studies.advance.fit import AdvanceFit

VALUES = LinearSegmentedColormap.from_list("values", [SEA, SAND, SIGNAL])


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
        y="reading" if looked else METHODS[read.method],
        title="Where corners are best",
    )
    ax.axvspan(low, high, color=PALE, linewidth=0)
    if looked:
        seen = np.arange(1, len(read.values_s) + 1, dtype=float)
        ax.set_yticks(seen)
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
        f" best {fit.value_s:.3g} ± {fit.half_width_s:.2g} s",
        (fit.value_s, 0.98),
        color=INK,
        fontsize=12,
        xycoords=("data", "axes fraction"),
        va="top",
    )
    if fit.present_s is not None:
        ax.axvline(fit.present_s, color=INK, linewidth=1.4, linestyle=":")
        ax.annotate(
            f" present {fit.present_s:g}",
            (fit.present_s, 0.02),
            color=INK,
            fontsize=11,
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
