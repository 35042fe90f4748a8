"""Figures of heaters."""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from omphalon.plots.style import FOG, INK, PALE, SAND, SEA, SIGNAL, dress


def draw_heater_fit(figure: Figure, picture: Any) -> None:
    """The log against its model with the power below, and beside it the arrival that the gains
    promise.
    """
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
    ax.text(
        t[-1],
        test.target_c + 0.015 * (high - low),
        f"target {test.target_c:.0f} °C",
        ha="right",
        va="bottom",
        color=INK,
        fontsize=10,
    )
    first = test.found.start_s[0] - test.time_s[0] if test.found.count else 0.0
    last = first + float(np.sum(test.found.period_s[:4]))
    inset = ax.inset_axes((0.47, 0.09, 0.51, 0.52))
    dress(inset, title="")
    shown = (t >= first) & (t <= last)
    inset.plot(
        t[shown], test.temperature_c[shown], "o", color=SEA, markersize=3.5, label="measured"
    )
    inset.plot(t[shown], fit.fitted_c[shown], "-", color=SIGNAL, linewidth=1.4, label="model")
    inset.axhline(test.target_c, color=FOG, linewidth=1, linestyle="--")
    inset.set_title(
        f"first cycles: the model misses by {fit.rms_c:.2f} °C", loc="left", color=INK, fontsize=10
    )
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
    for column, (label, (line, colour, width)) in enumerate(
        zip(picture.labels, styles, strict=False)
    ):
        ax.plot(
            run.trace_s, run.trace_c[:, 0, column], line, color=colour, linewidth=width, label=label
        )
    tail = run.trace_c[run.trace_s > start, 0, :]
    low, high = float(np.min(tail)), float(np.max(tail))
    ax.set_xlim(start - 0.1 * loop.unit_s, float(run.trace_s[-1]))
    ax.set_ylim(max(loop.target_c - 12, low - 0.8), high + 0.22 * (high - low))
    ax.axvline(fan, color=SAND, linewidth=1.2, linestyle=":")
    ax.text(fan, ax.get_ylim()[0], " part fan on", color=INK, fontsize=10, va="bottom")
    ax.annotate(
        f"overshoot {run.overshoot_c[0, 0]:.2f} °C",
        (0.03, 0.97),
        xycoords="axes fraction",
        va="top",
        color=INK,
        fontsize=11,
    )
    ax.annotate(
        f"dip {run.dip_c[0, 0]:.2f} °C",
        (0.97, 0.97),
        xycoords="axes fraction",
        va="top",
        ha="right",
        color=INK,
        fontsize=11,
    )
    ax.annotate(
        "±1 °C",
        (0.985, loop.target_c - 1.03),
        xycoords=("axes fraction", "data"),
        ha="right",
        va="top",
        color=INK,
        fontsize=9,
    )
    if len(picture.labels) > 1:
        ax.legend(frameon=False, loc="lower right", fontsize=10, bbox_to_anchor=(1.0, 0.06))


def draw_heater_check(figure: Figure, picture: Any) -> None:
    """One or two logs from the takeover on, in the same scale, with what was seen in them; the
    power below.
    """
    colours = (SEA,) if len(picture.logs) == 1 else (FOG, SIGNAL)
    grid = figure.add_gridspec(2, 1, height_ratios=(3.2, 1))
    upper = figure.add_subplot(grid[0])
    lower = figure.add_subplot(grid[1], sharex=upper)
    draw_holds(upper, picture, colours)
    dress(lower, x="time since it was 10 °C below the target, s", y="power, %")
    for (t, _, power, seen), colour in zip(picture.logs, colours, strict=True):
        if power is not None:
            lower.step(t - began(seen), 100 * power, where="post", color=colour, linewidth=1.1)
    lower.set_ylim(-4, 108)
    upper.tick_params(labelbottom=False)


def began(seen: Any) -> float:
    """The time in the log at which the loop took over; its first report where it never did."""
    return float(seen.start_s + (seen.takeover_s or 0.0))


def draw_holds(ax: Axes, picture: Any, colours: tuple[str, ...]) -> None:
    """The curves about the target."""
    goal = picture.target_c
    dress(
        ax,
        y="temperature, °C",
        title=f"The {picture.heater} heats up to {goal:.0f} °C and holds it",
    )
    ax.axhline(goal, color=INK, linewidth=1, linestyle="--")
    ax.axhspan(goal - 1, goal + 1, color=PALE, alpha=0.6, linewidth=0)
    tops = []
    for (t, y, _, seen), colour, label in zip(picture.logs, colours, picture.labels, strict=True):
        start = began(seen)
        ax.plot(t - start, y, color=colour, linewidth=1.6, label=label)
        tops.append(float(y.max()))
        if seen.fan_s is not None and label in ("this log", "after"):
            at = seen.start_s + seen.fan_s - start
            ax.axvline(at, color=SAND, linewidth=1.2, linestyle=":")
            ax.text(at, goal - 5.6, " part fan on", color=INK, fontsize=10)
    ax.set_xlim(-4, None)
    ax.set_ylim(goal - 6, max(goal + 2.5, *(min(x, goal + 12) + 0.6 for x in tops)))
    last = picture.logs[-1][3]
    words = [
        f"overshoot {last.overshoot_c:.1f} °C" if last.overshoot_c is not None else "never arrives",
        f"ripple {last.ripple_c:.2f} °C" if last.ripple_c is not None else "",
        f"dip {last.dip_c:.1f} °C" if last.dip_c is not None else "",
    ]
    ax.text(
        0.985,
        0.97,
        f"{picture.labels[-1]}: " + ", ".join(filter(None, words)),
        transform=ax.transAxes,
        ha="right",
        va="top",
        color=INK,
        fontsize=11,
    )
    ax.annotate(
        "±1 °C",
        (0.995, goal - 1.05),
        xycoords=("axes fraction", "data"),
        ha="right",
        va="top",
        color=INK,
        fontsize=9,
    )
    if len(picture.labels) > 1:
        ax.legend(frameon=False, loc="lower right", fontsize=11)
