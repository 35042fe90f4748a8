"""Figures of measured lengths: what was got against what was asked."""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from omphalon.plots.style import FOG, INK, PALE, SAND, SEA, SIGNAL, dress


def draw_steps(figure: Figure, picture: Any) -> None:
    """One panel an axis: the error of each reading against the asked length, with the fitted scale."""
    pictures = picture if isinstance(picture, tuple) else (picture,)
    for n, one in enumerate(pictures):
        draw_errors(figure.add_subplot(1, len(pictures), n + 1), one)


def draw_errors(ax: Axes, one: Any) -> None:
    """Got less asked, with error bars of one reading (95 %), the scale's line and its band; nothing wrong is zero."""
    off = "" if not one.offset_mm.any() else f", offset of {abs(one.offset_mm[0]):.2f} mm taken off"
    dress(ax, x="asked, mm", y=f"got − asked{off}, mm", title=one.title)
    error = one.got_mm - one.asked_mm - one.offset_mm
    reach = np.linspace(0, float(one.asked_mm.max()) * 1.1, 50)
    line = (one.scale.value - 1) * reach
    band = one.scale.half_width * reach
    ax.fill_between(reach, line - band, line + band, color=PALE, linewidth=0)
    ax.plot(reach, line, color=SIGNAL, linewidth=1.8)
    ax.axhline(0, color=FOG, linewidth=1, linestyle="--")
    for keep, colour, marker in ((True, SEA, "o"), (False, SAND, "x")):
        some = one.keep == keep
        if some.any():
            nudge = np.linspace(-0.006, 0.006, some.sum()) * reach[-1]
            ax.errorbar(one.asked_mm[some] + nudge, error[some], yerr=1.96 * one.deviation_mm[some],
                        fmt=marker, color=colour, markersize=6, linewidth=1, capsize=3)
    for x, y in zip(one.asked_mm[~one.keep], error[~one.keep], strict=True):
        ax.annotate("left out", (x, y), xytext=(-10, 0), textcoords="offset points", ha="right", va="center", color=INK)
    ax.annotate(f"ratio {one.scale.value:.4f} ± {one.scale.half_width:.4f}", (0.03, 0.97 if line[-1] >= 0 else 0.03),
                xycoords="axes fraction", va="top" if line[-1] >= 0 else "bottom", color=INK, fontsize=12)


def draw_flow(figure: Figure, picture: Any) -> None:
    """Each wall with its error bar against the expected thickness, and the mean with its band."""
    ax = figure.add_subplot()
    dress(ax, x="reading", y="wall, mm", title="Walls against the expected thickness")
    draw_repeats(ax, picture.walls_mm, picture, "expected", picture.expected_mm)


def draw_probe(figure: Figure, picture: Any) -> None:
    """Each drag height with its error bar against the paper's thickness, and the mean with its band."""
    ax = figure.add_subplot()
    dress(ax, x="drag", y="height, mm", title="Where the paper drags, against its thickness")
    draw_repeats(ax, picture.drags_mm, picture, "paper", picture.paper_mm)


def draw_repeats(ax: Axes, values: Any, picture: Any, name: str, goal: float) -> None:
    """Repeated readings (n,), those left out crossed, the mean and its 95 % band, and the goal."""
    number = np.arange(1, len(values) + 1)
    mean, half = picture.mean_mm, picture.half_width_mm
    ax.axhspan(mean - half, mean + half, color=PALE, linewidth=0)
    ax.axhline(mean, color=SIGNAL, linewidth=1.8)
    ax.axhline(goal, color=FOG, linewidth=1.2, linestyle="--")
    for keep, colour, marker in ((True, SEA, "o"), (False, SAND, "x")):
        some = picture.keep == keep
        if some.any():
            ax.errorbar(number[some], values[some], yerr=1.96 * picture.deviation_mm, fmt=marker, color=colour, markersize=7,
                        linewidth=1, capsize=3)
    for x, y in zip(number[~picture.keep], values[~picture.keep], strict=True):
        ax.annotate("left out", (x, y), xytext=(12, 0), textcoords="offset points", va="center", color=INK)
    ax.set_xlim(0.2, len(number) * 1.2 + 0.8)
    ax.set_xticks(number)
    for value, label in ((mean, f"mean {mean:.3f} ± {half:.3f}"), (goal, f"{name} {goal:g}")):
        ax.annotate(label, (0.99, value), xycoords=("axes fraction", "data"), xytext=(0, 3), textcoords="offset points",
                    ha="right", va="bottom", color=INK, fontsize=11)


def draw_motion(figure: Figure, picture: Any) -> None:
    """One panel a limit: runs that passed and failed at each level, the level to trust, and the setting below it."""
    panels = figure.subplots(len(picture.limits), 1, squeeze=False)[:, 0]
    for ax, one, tried, unit in zip(panels, picture.limits, picture.tried, picture.units, strict=True):
        dress(ax, x=f"level, {unit}", title=f"Axis {one.axis}: set to {one.setting:.0f} {unit}")
        ax.grid(False, axis="y")
        for result, colour, marker in ((1, SEA, "o"), (0, SIGNAL, "X")):
            some = [level for level, ok in tried if ok == result]
            stack = [some[:n].count(level) for n, level in enumerate(some)]
            ax.plot(some, [result + 0.08 * k for k in stack], marker, color=colour, markersize=9)
        ax.axvline(one.risk_level, color=SAND, linewidth=1.4, linestyle=":")
        ax.axvline(one.setting, color=INK, linewidth=1.8)
        ax.annotate(" trusted", (one.risk_level, 0.5), color=INK, fontsize=11)
        ax.annotate(f" setting {one.setting:.0f}", (one.setting, 0.5), color=INK, fontsize=11)
        ax.margins(x=0.08)
        ax.set_yticks([0, 1], ["failed", "passed"])
        ax.set_ylim(-0.4, 1.9)
