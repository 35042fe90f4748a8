"""Figures of heaters."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from omphalon.picture import ArrivalPicture, HeaterPicture, HoldsPicture
from omphalon.plots.style import FOG, INK, PALE, SAND, SEA, SIGNAL, dress


def draw_heater_fit(figure: Figure, picture: HeaterPicture) -> None:
    """The log against its model with the power below, and beside it the arrival that the gains
    promise.
    """
    grid = figure.add_gridspec(2, 2, height_ratios=(3.2, 1), width_ratios=(1.5, 1))
    left = figure.add_subplot(grid[0, 0])
    strip = figure.add_subplot(grid[1, 0], sharex=left)
    right = figure.add_subplot(grid[:, 1])
    draw_log(left, picture)
    draw_power(strip, picture)
    draw_arrival(right, picture.arrival)
    left.tick_params(labelbottom=False)


def draw_log(ax: Axes, picture: HeaterPicture) -> None:
    """Measured dots and the model's line, with the cycles magnified in an inset."""
    t, y, fitted = picture.time_s, picture.temperature_c, picture.fitted_c
    dress(ax, y="temperature, °C", title=f"The {picture.heater}'s log and its model")
    ax.plot(t, y, ".", color=SEA, markersize=3.5)
    ax.plot(t, fitted, "-", color=SIGNAL, linewidth=1.2)
    ax.axhline(picture.target_c, color=FOG, linewidth=1, linestyle="--")
    low, high = float(np.min(y)), float(np.max(y))
    ax.set_ylim(low - 0.04 * (high - low), high + 0.10 * (high - low))
    ax.text(
        t[-1],
        picture.target_c + 0.015 * (high - low),
        f"target {picture.target_c:.0f} °C",
        ha="right",
        va="bottom",
        color=INK,
        fontsize=10,
    )
    first = picture.first_cycle_s
    last = first + float(np.sum(picture.periods_s[:4]))
    inset = ax.inset_axes((0.47, 0.09, 0.51, 0.52))
    dress(inset, title="")
    shown = (t >= first) & (t <= last)
    inset.plot(t[shown], y[shown], "o", color=SEA, markersize=3.5, label="measured")
    inset.plot(t[shown], fitted[shown], "-", color=SIGNAL, linewidth=1.4, label="model")
    inset.axhline(picture.target_c, color=FOG, linewidth=1, linestyle="--")
    inset.set_title(
        f"first cycles: the model misses by {picture.rms_c:.2f} °C",
        loc="left",
        color=INK,
        fontsize=10,
    )
    inset.legend(frameon=False, fontsize=9, loc="upper right", ncols=2, borderaxespad=0)
    inset.margins(y=0.22)
    inset.tick_params(labelsize=9)


def draw_power(ax: Axes, picture: HeaterPicture) -> None:
    """The power as the model was driven with it."""
    t = picture.time_s
    dress(ax, x="time, s", y="power, %")
    ax.step(t, 100 * picture.power, where="mid", color=SAND, linewidth=1.2)
    ax.fill_between(t, 100 * picture.power, step="mid", color=SAND, alpha=0.25, linewidth=0)
    ax.set_ylim(-4, 108)


def draw_arrival(ax: Axes, picture: ArrivalPicture) -> None:
    """The predicted arrival and the dip when the fan comes on, new gains against present ones."""
    dress(ax, x="time since the cold start, s", y="temperature, °C", title="What the gains promise")
    styles = (("-", SIGNAL, 2.0), ("--", SEA, 1.6))
    ax.axhline(picture.target_c, color=FOG, linewidth=1, linestyle="--")
    ax.axhspan(picture.target_c - 1, picture.target_c + 1, color=PALE, alpha=0.6, linewidth=0)
    start = picture.takeover_s
    fan = start + 1.5 * picture.unit_s
    for column, (label, (line, colour, width)) in enumerate(
        zip(picture.labels, styles, strict=False)
    ):
        ax.plot(
            picture.time_s,
            picture.traces_c[column],
            line,
            color=colour,
            linewidth=width,
            label=label,
        )
    tail = np.stack(picture.traces_c)[:, picture.time_s > start]
    low, high = float(np.min(tail)), float(np.max(tail))
    ax.set_xlim(start - 0.1 * picture.unit_s, float(picture.time_s[-1]))
    ax.set_ylim(max(picture.target_c - 12, low - 0.8), high + 0.22 * (high - low))
    ax.axvline(fan, color=SAND, linewidth=1.2, linestyle=":")
    ax.text(fan, ax.get_ylim()[0], " part fan on", color=INK, fontsize=10, va="bottom")
    ax.annotate(
        f"overshoot {picture.overshoot_c:.2f} °C",
        (0.03, 0.97),
        xycoords="axes fraction",
        va="top",
        color=INK,
        fontsize=11,
    )
    ax.annotate(
        f"dip {picture.dip_c:.2f} °C",
        (0.97, 0.97),
        xycoords="axes fraction",
        va="top",
        ha="right",
        color=INK,
        fontsize=11,
    )
    ax.annotate(
        "±1 °C",
        (0.985, picture.target_c - 1.03),
        xycoords=("axes fraction", "data"),
        ha="right",
        va="top",
        color=INK,
        fontsize=9,
    )
    if len(picture.labels) > 1:
        ax.legend(frameon=False, loc="lower right", fontsize=10, bbox_to_anchor=(1.0, 0.06))


def draw_heater_check(figure: Figure, picture: HoldsPicture) -> None:
    """One or two logs from the takeover on, in the same scale, with what was seen in them; the
    power below.
    """
    colours = (SEA,) if len(picture.holds) == 1 else (FOG, SIGNAL)
    grid = figure.add_gridspec(2, 1, height_ratios=(3.2, 1))
    upper = figure.add_subplot(grid[0])
    lower = figure.add_subplot(grid[1], sharex=upper)
    draw_holds(upper, picture, colours)
    dress(lower, x="time since it was 10 °C below the target, s", y="power, %")
    for hold, colour in zip(picture.holds, colours, strict=True):
        if hold.power is not None:
            lower.step(hold.time_s, 100 * hold.power, where="post", color=colour, linewidth=1.1)
    lower.set_ylim(-4, 108)
    upper.tick_params(labelbottom=False)


def draw_holds(ax: Axes, picture: HoldsPicture, colours: tuple[str, ...]) -> None:
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
    for hold, colour in zip(picture.holds, colours, strict=True):
        ax.plot(hold.time_s, hold.temperature_c, color=colour, linewidth=1.6, label=hold.label)
        tops.append(float(hold.temperature_c.max()))
    last = picture.holds[-1]
    if last.fan_s is not None:
        ax.axvline(last.fan_s, color=SAND, linewidth=1.2, linestyle=":")
        ax.text(last.fan_s, goal - 5.6, " part fan on", color=INK, fontsize=10)
    ax.set_xlim(-4, None)
    ax.set_ylim(goal - 6, max(goal + 2.5, *(min(x, goal + 12) + 0.6 for x in tops)))
    words = [
        f"overshoot {last.overshoot_c:.1f} °C" if last.overshoot_c is not None else "never arrives",
        f"ripple {last.ripple_c:.2f} °C" if last.ripple_c is not None else "",
        f"dip {last.dip_c:.1f} °C" if last.dip_c is not None else "",
    ]
    ax.text(
        0.985,
        0.97,
        f"{last.label}: " + ", ".join(filter(None, words)),
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
    if len(picture.holds) > 1:
        ax.legend(frameon=False, loc="lower right", fontsize=11)
