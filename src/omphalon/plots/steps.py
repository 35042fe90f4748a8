"""Figures of measured lengths: what was measured against what was commanded."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from omphalon.plots.style import FOG, INK, PALE, SAND, SEA, SIGNAL, dress
from omphalon.tables.constants import NORMAL_95
from omphalon.tables.units import digits

if TYPE_CHECKING:
    from omphalon.studies.measured.engine import Fitted, Measurement
    from omphalon.studies.motion.fit import MotionFit

ROOM = 0.25  # of the kept readings' range, left free around them


def draw_steps(figure: Figure, fit: Fitted[Any]) -> None:
    """One panel an axis: the error of each reading against the commanded length, with the fitted
    scale.
    """
    for n, one in enumerate(fit.things, 1):
        title = fit.quantity.figure[0].format(name=one.sample.name)
        draw_errors(figure.add_subplot(1, len(fit.things), n), one, title)


def draw_errors(ax: Axes, one: Measurement, title: str) -> None:
    """Measured less commanded length, with error bars of one reading (95 %), and the scale's line
    with its band; no error is zero.
    """
    keep, commanded, ratio = one.keep, one.sample.columns[:, 0], one.estimate
    aside = one.aside_mm
    alone = list(one.offsets) == ["offset"]
    what = f"offset of {abs(aside[0]):.2f} mm" if alone else " and ".join(one.offsets)
    off = f", {what} taken off" if aside.any() else ""
    dress(ax, x="commanded, mm", y=f"measured − commanded{off}, mm", title=title)
    error = one.sample.measured - commanded - aside
    reach = np.linspace(0, float(commanded.max()) * 1.1, 50)
    line, band = (ratio.value - 1) * reach, ratio.half_width * reach
    ax.fill_between(reach, line - band, line + band, color=PALE, linewidth=0)
    ax.plot(reach, line, color=SIGNAL, linewidth=1.8)
    ax.axhline(0, color=FOG, linewidth=1, linestyle="--")
    bar = NORMAL_95 * one.sample.known.whole
    nudge = np.linspace(-0.006, 0.006, one.used) * reach[-1]
    draw_dots(ax, commanded[keep] + nudge, error[keep], bar, 6)
    span = (
        min(float(error[keep].min()) - bar, float((line - band).min()), 0.0),
        max(float(error[keep].max()) + bar, float((line + band).max()), 0.0),
    )
    draw_left_out(ax, commanded[~keep], error[~keep], span, -10)
    ax.annotate(
        f"ratio {ratio.value:.4f} ± {ratio.half_width:.4f}",
        (0.03, 0.97 if line[-1] >= 0 else 0.03),
        xycoords="axes fraction",
        va="top" if line[-1] >= 0 else "bottom",
        color=INK,
        fontsize=12,
    )


def draw_dots(ax: Axes, x: Any, y: Any, bar: float, size: int) -> None:
    """Readings (n,) with the error bar of one."""
    ax.errorbar(x, y, yerr=bar, fmt="o", color=SEA, markersize=size, linewidth=1, capsize=3)


def draw_left_out(ax: Axes, x: Any, y: Any, span: tuple[float, float], aside: int) -> None:
    """Readings left out (n,): crossed, with their value; one far from the others stands at the
    edge, so that they keep their room.
    """
    room = ROOM * max(span[1] - span[0], 1e-9)
    low, high = span[0] - room, span[1] + room
    for at, value in zip(x, y, strict=True):
        place = min(max(value, low), high)
        beyond = "" if place == value else (" ↓" if value < low else " ↑")
        ax.plot([at], [place], "x", color=SAND, markersize=7, markeredgewidth=2)
        ax.annotate(
            f"left out: {value:{'+' if aside < 0 else ''}.2f} mm{beyond}",
            (at, place),
            xytext=(aside, 0),
            textcoords="offset points",
            ha="right" if aside < 0 else "left",
            va="center",
            color=INK,
        )
    ax.set_ylim(low - 0.2 * room, high + 0.2 * room)


def draw_repeated(figure: Figure, fit: Fitted[Any]) -> None:
    """Each reading with its error bar against the goal, and the mean with its band; readings left
    out are crossed, at the edge where they are far.
    """
    ax, one = figure.add_subplot(), fit.one
    title, of, name = fit.quantity.figure
    dress(ax, x="reading", y=f"{of}, mm", title=title)
    values, keep, goal, found = one.repeats
    mean, half = found.value, found.half_width
    number = np.arange(1, len(values) + 1)
    ax.axhspan(mean - half, mean + half, color=PALE, linewidth=0)
    ax.axhline(mean, color=SIGNAL, linewidth=1.8)
    ax.axhline(goal, color=FOG, linewidth=1.2, linestyle="--")
    bar = NORMAL_95 * found.deviation
    draw_dots(ax, number[keep], values[keep], bar, 7)
    span = (min(float(values[keep].min()) - bar, goal), max(float(values[keep].max()) + bar, goal))
    draw_left_out(ax, number[~keep], values[~keep], span, 12)
    ax.set_xlim(0.2, len(number) * 1.2 + 0.8)
    ax.set_xticks(number)
    for value, label in ((mean, f"mean {mean:.3f} ± {half:.3f}"), (goal, f"{name} {goal:g}")):
        ax.annotate(
            label,
            (0.99, value),
            xycoords=("axes fraction", "data"),
            xytext=(0, 3),
            textcoords="offset points",
            ha="right",
            va="bottom",
            color=INK,
            fontsize=11,
        )


def draw_motion(figure: Figure, fit: MotionFit) -> None:
    """One panel a limit: runs that passed and failed at each level, the level to trust, and the
    setting below it.
    """
    panels = figure.subplots(len(fit.limits), 1, squeeze=False)[:, 0]
    for ax, one in zip(panels, fit.limits, strict=True):
        tried = one.tried
        title = f"Axis {tried.axis}: set to {digits(one.setting)} {tried.unit}"
        dress(ax, x=f"level, {tried.unit}", title=title)
        ax.grid(False, axis="y")
        for result, colour, marker in ((True, SEA, "o"), (False, SIGNAL, "X")):
            some = [
                level for level, ok in zip(tried.levels, tried.passed, strict=True) if ok == result
            ]
            stack = [some[:n].count(level) for n, level in enumerate(some)]
            ax.plot(some, [result + 0.08 * k for k in stack], marker, color=colour, markersize=9)
        ax.axvline(one.risk_level, color=SAND, linewidth=1.4, linestyle=":")
        ax.axvline(one.setting, color=INK, linewidth=1.8)
        ax.annotate(" trusted", (one.risk_level, 0.5), color=INK, fontsize=11)
        ax.annotate(f" setting {one.setting:.0f}", (one.setting, 0.5), color=INK, fontsize=11)
        ax.margins(x=0.08)
        ax.set_yticks([0, 1], ["failed", "passed"])
        ax.set_ylim(-0.4, 1.9)
