"""Figures of heaters."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from omphalon.plots.style import FOG, INK, PALE, SAND, SEA, SIGNAL, dress, say

if TYPE_CHECKING:
    from omphalon.studies.heater.check import HeaterCheck
    from omphalon.studies.heater.excited import Excited
    from omphalon.studies.heater.fit import HeaterFit


def draw_heater_fit(figure: Figure, fit: HeaterFit) -> None:
    """The log against its model with the power below, and beside it the arrival that the gains
    promise.
    """
    grid = figure.add_gridspec(2, 2, height_ratios=(3.2, 1), width_ratios=(1.5, 1))
    left = figure.add_subplot(grid[0, 0])
    strip = figure.add_subplot(grid[1, 0], sharex=left)
    right = figure.add_subplot(grid[:, 1])
    draw_log(left, fit)
    draw_power(strip, fit)
    draw_arrival(right, fit)
    left.tick_params(labelbottom=False)


def draw_log(ax: Axes, fit: HeaterFit) -> None:
    """Measured dots and the model's line, with the cycles magnified in an inset."""
    test = fit.read
    t, y, goal = test.time_s - test.time_s[0], test.temperature_c, test.target_c
    fitted = fit.model.fitted_c[: len(t)]
    known = np.isfinite(fitted)
    dress(ax, y="temperature, °C", title=f"The {fit.heater}'s log and its model")
    ax.plot(t, y, ".", color=SEA, markersize=3.5)
    ax.plot(t[known], fitted[known], "-", color=SIGNAL, linewidth=1.2)
    ax.axhline(goal, color=FOG, linewidth=1, linestyle="--")
    low, high = float(np.min(y)), float(np.max(y))
    ax.set_ylim(low - 0.04 * (high - low), high + 0.10 * (high - low))
    ax.text(
        t[-1],
        goal + 0.015 * (high - low),
        f"target {goal:.0f} °C",
        ha="right",
        va="bottom",
        color=INK,
        fontsize=10,
    )
    if fit.excited is not None:
        draw_stretches(ax, fit.excited)
    first, last, words = closer_look(fit)
    inset = ax.inset_axes((0.47, 0.09, 0.51, 0.52))
    dress(inset, title="")
    inset.set_facecolor("white")
    shown = (t >= first) & (t <= last)
    inset.plot(t[shown], y[shown], "o", color=SEA, markersize=3.5, label="measured")
    inset.plot(
        t[shown & known], fitted[shown & known], "-", color=SIGNAL, linewidth=1.4, label="model"
    )
    inset.axhline(goal, color=FOG, linewidth=1, linestyle="--")
    inset.set_title(
        f"{words}: residual {fit.model.rms_c:.2f} °C rms", loc="left", color=INK, fontsize=10
    )
    inset.legend(frameon=False, fontsize=9, loc="upper right", ncols=2, borderaxespad=0)
    inset.margins(y=0.22)
    inset.tick_params(labelsize=9)


def closer_look(fit: HeaterFit) -> tuple[float, float, str]:
    """Which part of the log is magnified, and what it is: the first cycles, or the arrival."""
    if fit.excited is None:
        test = fit.tests[0]
        first = float(test.found.start_s[0] - test.time_s[0])
        return first, first + float(np.sum(test.found.period_s[:4])), "first cycles"
    holds = [s.start_s for s in fit.excited.stretches if s.kind == "holds"]
    delay = fit.excited.fit.log.delay_s
    return holds[0] - 2 * delay, holds[0] + 12 * delay, "arrival"


def draw_stretches(ax: Axes, excited: Excited) -> None:
    """Where stretches begin, by name, and where the loss changed."""
    top = ax.get_ylim()[1]
    width = float(excited.time_s[-1] - excited.time_s[0])
    for one in excited.stretches:
        ax.axvline(one.start_s, color=PALE, linewidth=1)
        if one.end_s - one.start_s > 0.08 * width:
            ax.text(one.start_s, top, f" {one.kind}", color=INK, fontsize=9, va="top")
    for at, share in excited.clear_losses:
        ax.axvline(at, color=SAND, linewidth=1.2, linestyle=":")
        low, high = ax.get_ylim()
        label = f" loss {share.value:+.0%}"
        ax.text(at, low + 0.88 * (high - low), label, color=INK, fontsize=9, va="top")


def draw_power(ax: Axes, fit: HeaterFit) -> None:
    """The power as the model was driven with it."""
    test = fit.read
    t = test.time_s - test.time_s[0]
    dress(ax, x="time, s", y="power, %")
    ax.step(t, 100 * test.power, where="mid", color=SAND, linewidth=1.2)
    ax.fill_between(t, 100 * test.power, step="mid", color=SAND, alpha=0.25, linewidth=0)
    ax.set_ylim(-4, 108)


def draw_arrival(ax: Axes, fit: HeaterFit) -> None:
    """The predicted arrival and the dip when the fan comes on, new gains against present ones."""
    loop, run = fit.tuned.loop, fit.tuned.run
    goal, start = loop.target_c, float(run.takeover_s[0])
    labels = [label for label in fit.tuned.labels if not label.startswith("aim")]
    traces = run.trace_c[:, 0, : len(labels)].T
    dress(ax, x="time since the cold start, s", y="temperature, °C", title="What the gains promise")
    styles = (("-", SIGNAL, 2.0), ("--", SEA, 1.6))
    ax.axhline(goal, color=FOG, linewidth=1, linestyle="--")
    ax.axhspan(goal - 1, goal + 1, color=PALE, alpha=0.6, linewidth=0)
    fan = start + 1.5 * loop.unit_s
    for label, trace, (line, colour, width) in zip(labels, traces, styles, strict=False):
        ax.plot(run.trace_s, trace, line, color=colour, linewidth=width, label=label)
    tail = traces[:, run.trace_s > start]
    low, high = float(np.min(tail)), float(np.max(tail))
    ax.set_xlim(start - 0.1 * loop.unit_s, float(run.trace_s[-1]))
    ax.set_ylim(max(goal - 12, low - 0.8), high + 0.22 * (high - low))
    ax.axvline(fan, color=SAND, linewidth=1.2, linestyle=":")
    ax.text(fan, ax.get_ylim()[0], " part fan on", color=INK, fontsize=10, va="bottom")
    say(ax, f"overshoot {run.overshoot_c[0, 0]:.2f} °C", (0.03, 0.97))
    say(ax, f"dip {run.dip_c[0, 0]:.2f} °C", (0.97, 0.97), ha="right")
    say(ax, "±1 °C", (0.985, goal - 1.03), 9, ha="right", xycoords=("axes fraction", "data"))
    if len(labels) > 1:
        ax.legend(frameon=False, loc="lower right", fontsize=10, bbox_to_anchor=(1.0, 0.06))


def draw_heater_check(figure: Figure, check: HeaterCheck) -> None:
    """One or two logs from the takeover on, in the same scale, with what was seen in them; the
    power below.
    """
    colours = (SEA,) if len(check.parts) == 1 else (FOG, SIGNAL)
    grid = figure.add_gridspec(2, 1, height_ratios=(3.2, 1))
    upper = figure.add_subplot(grid[0])
    lower = figure.add_subplot(grid[1], sharex=upper)
    draw_holds(upper, check, colours)
    dress(lower, x="time since it was 10 °C below the target, s", y="power, %")
    for part, since, colour in zip(check.parts, check.since_takeover_s, colours, strict=True):
        if part.power is not None:
            lower.step(since, 100 * part.power, where="post", color=colour, linewidth=1.1)
    lower.set_ylim(-4, 108)
    upper.tick_params(labelbottom=False)


def draw_holds(ax: Axes, check: HeaterCheck, colours: tuple[str, ...]) -> None:
    """The curves about the target."""
    goal = check.target_c
    dress(
        ax, y="temperature, °C", title=f"The {check.heater} heats up to {goal:.0f} °C and holds it"
    )
    ax.axhline(goal, color=INK, linewidth=1, linestyle="--")
    ax.axhspan(goal - 1, goal + 1, color=PALE, alpha=0.6, linewidth=0)
    tops = []
    rows = zip(check.parts, check.since_takeover_s, check.labels, colours, strict=True)
    for part, since, label, colour in rows:
        ax.plot(since, part.temperature_c, color=colour, linewidth=1.6, label=label)
        tops.append(float(part.temperature_c.max()))
    last = check.seen[-1].arrival
    if last.fan_s is not None:
        fan = last.fan_s - (last.takeover_s or 0.0)
        ax.axvline(fan, color=SAND, linewidth=1.2, linestyle=":")
        ax.text(fan, goal - 5.6, " part fan on", color=INK, fontsize=10)
    ax.set_xlim(-4, None)
    ax.set_ylim(goal - 6, max(goal + 2.5, *(min(x, goal + 12) + 0.6 for x in tops)))
    words = [
        f"overshoot {last.overshoot_c:.1f} °C" if last.overshoot_c is not None else "never arrives",
        f"ripple {last.ripple_c:.2f} °C" if last.ripple_c is not None else "",
        f"dip {last.dip_c:.1f} °C" if last.dip_c is not None else "",
    ]
    found = f"{check.labels[-1]}: " + ", ".join(filter(None, words))
    say(ax, found, (0.985, 0.97), ha="right")
    say(ax, "±1 °C", (0.995, goal - 1.05), 9, ha="right", xycoords=("axes fraction", "data"))
    if len(check.parts) > 1:
        ax.legend(frameon=False, loc="lower right", fontsize=11)
