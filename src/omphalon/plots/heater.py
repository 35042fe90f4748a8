"""Figures of heaters."""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from omphalon.plots.style import FOG, INK, PALE, SAND, SEA, SIGNAL, dress


def draw_heater_fit(figure: Figure, picture: Any) -> None:
    """The log against its model with the power below, and beside it the arrival that the gains promise."""
    grid = figure.add_gridspec(2, 2, height_ratios=(3.2, 1), width_ratios=(1.5, 1))
    left = figure.add_subplot(grid[0, 0])
    strip = figure.add_subplot(grid[1, 0], sharex=left)
    right = figure.add_subplot(grid[:, 1])
    draw_log(left, picture)
    draw_power(strip, picture)
    draw_arrival(right, picture)
    left.tick_params(labelbottom=False)


def draw_log(ax: Axes, picture: Any) -> None:
    """Measured dots and the model's line, with the cycles magnified in an inset."""
    test, fit = picture.test, picture.fit
    t = test.time_s - test.time_s[0]
    dress(ax, y="temperature, °C", title=f"The {picture.heater}'s log and its model")
    ax.plot(t, test.temperature_c, ".", color=SEA, markersize=3.5)
    ax.plot(t, fit.fitted_c, "-", color=SIGNAL, linewidth=1.2)
    ax.axhline(test.target_c, color=FOG, linewidth=1, linestyle="--")
    low, high = float(np.min(test.temperature_c)), float(np.max(test.temperature_c))
    ax.set_ylim(low - 0.04 * (high - low), high + 0.10 * (high - low))
    ax.text(t[-1], test.target_c + 0.015 * (high - low), f"target {test.target_c:.0f} °C", ha="right", va="bottom",
            color=INK, fontsize=10)
    first = test.found.start_s[0] - test.time_s[0] if test.found.count else 0.0
    last = first + float(np.sum(test.found.period_s[:4]))
    inset = ax.inset_axes((0.40, 0.10, 0.57, 0.58))
    dress(inset, title="")
    shown = (t >= first) & (t <= last)
    inset.plot(t[shown], test.temperature_c[shown], "o", color=SEA, markersize=3.5, label="measured")
    inset.plot(t[shown], fit.fitted_c[shown], "-", color=SIGNAL, linewidth=1.4, label="model")
    inset.axhline(test.target_c, color=FOG, linewidth=1, linestyle="--")
    inset.set_title(f"first cycles: the model misses by {fit.rms_c:.2f} °C", loc="left", color=INK, fontsize=10)
    inset.legend(frameon=False, fontsize=9, loc="upper right", ncols=2, borderaxespad=0)
    inset.margins(y=0.22)
    inset.tick_params(labelsize=9)


def draw_power(ax: Axes, picture: Any) -> None:
    """The power as the model was driven with it."""
    test = picture.test
    t = test.time_s - test.time_s[0]
    dress(ax, x="time, s", y="power, %")
    ax.step(t, 100 * test.power, where="mid", color=SAND, linewidth=1.2)
    ax.fill_between(t, 100 * test.power, step="mid", color=SAND, alpha=0.25, linewidth=0)
    ax.set_ylim(-4, 108)


def draw_arrival(ax: Axes, picture: Any) -> None:
    """The predicted arrival and the dip when the fan comes on, new gains against present ones."""
    run, loop = picture.run, picture.loop
    dress(ax, x="time since the cold start, s", y="temperature, °C", title="What the gains promise")
    styles = (("-", SIGNAL, 2.0), ("--", SEA, 1.6))
    ax.axhline(loop.target_c, color=FOG, linewidth=1, linestyle="--")
    ax.axhspan(loop.target_c - 1, loop.target_c + 1, color=PALE, alpha=0.6, linewidth=0)
    start = float(run.takeover_s[0])
    fan = start + 1.5 * loop.unit_s
    for column, (label, (line, colour, width)) in enumerate(zip(picture.labels, styles, strict=False)):
        ax.plot(run.trace_s, run.trace_c[:, 0, column], line, color=colour, linewidth=width, label=label)
    tail = run.trace_c[run.trace_s > start, 0, :]
    low, high = float(np.min(tail)), float(np.max(tail))
    ax.set_xlim(start - 0.1 * loop.unit_s, float(run.trace_s[-1]))
    ax.set_ylim(max(loop.target_c - 12, low - 0.8), high + 0.22 * (high - low))
    ax.axvline(fan, color=SAND, linewidth=1.2, linestyle=":")
    ax.text(fan, ax.get_ylim()[0], " part fan on", color=INK, fontsize=10, va="bottom")
    ax.annotate(f"overshoot {run.overshoot_c[0, 0]:.2f} °C", (0.03, 0.97), xycoords="axes fraction", va="top",
                color=INK, fontsize=11)
    ax.annotate(f"dip {run.dip_c[0, 0]:.2f} °C", (0.97, 0.97), xycoords="axes fraction", va="top", ha="right",
                color=INK, fontsize=11)
    ax.annotate("±1 °C", (0.985, loop.target_c - 1.03), xycoords=("axes fraction", "data"), ha="right", va="top",
                color=INK, fontsize=9)
    if len(picture.labels) > 1:
        ax.legend(frameon=False, loc="lower right", fontsize=10, bbox_to_anchor=(1.0, 0.06))
