"""Figures of measured lengths: what was got against what was asked."""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from omphalon.constants import NORMAL_95
from omphalon.picture import LimitPicture, RepeatsPicture, StepsPicture
from omphalon.plots.style import FOG, INK, PALE, SAND, SEA, SIGNAL, dress

ROOM = 0.25  # of the kept readings' range, left free around them


def draw_steps(figure: Figure, picture: StepsPicture | tuple[StepsPicture, ...]) -> None:
    """One panel an axis: the error of each reading against the asked length, with the fitted
    scale.
    """
    pictures = picture if isinstance(picture, tuple) else (picture,)
    for n, one in enumerate(pictures):
        draw_errors(figure.add_subplot(1, len(pictures), n + 1), one)


def draw_errors(ax: Axes, one: StepsPicture) -> None:
    """Got less asked, with error bars of one reading (95 %), the scale's line and its band; nothing
    wrong is zero.
    """
    off = "" if not one.offset_mm.any() else f", offset of {abs(one.offset_mm[0]):.2f} mm taken off"
    dress(ax, x="asked, mm", y=f"got − asked{off}, mm", title=one.title)
    error = one.got_mm - one.asked_mm - one.offset_mm
    reach = np.linspace(0, float(one.asked_mm.max()) * 1.1, 50)
    line = (one.scale - 1) * reach
    band = one.half_width * reach
    ax.fill_between(reach, line - band, line + band, color=PALE, linewidth=0)
    ax.plot(reach, line, color=SIGNAL, linewidth=1.8)
    ax.axhline(0, color=FOG, linewidth=1, linestyle="--")
    nudge = np.linspace(-0.006, 0.006, one.keep.sum()) * reach[-1]
    ax.errorbar(
        one.asked_mm[one.keep] + nudge,
        error[one.keep],
        yerr=NORMAL_95 * one.deviation_mm[one.keep],
        fmt="o",
        color=SEA,
        markersize=6,
        linewidth=1,
        capsize=3,
    )
    bars = NORMAL_95 * one.deviation_mm[one.keep]
    draw_left_out(
        ax,
        one.asked_mm[~one.keep],
        error[~one.keep],
        (
            min(float((error[one.keep] - bars).min()), float((line - band).min()), 0.0),
            max(float((error[one.keep] + bars).max()), float((line + band).max()), 0.0),
        ),
        "mm",
        -10,
    )
    ax.annotate(
        f"ratio {one.scale:.4f} ± {one.half_width:.4f}",
        (0.03, 0.97 if line[-1] >= 0 else 0.03),
        xycoords="axes fraction",
        va="top" if line[-1] >= 0 else "bottom",
        color=INK,
        fontsize=12,
    )


def draw_left_out(
    ax: Axes, x: Any, y: Any, span: tuple[float, float], unit: str, aside: int
) -> None:
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
            f"left out: {value:+.2f} {unit}{beyond}"
            if aside < 0
            else f"left out: {value:.2f} {unit}{beyond}",
            (at, place),
            xytext=(aside, 0),
            textcoords="offset points",
            ha="right" if aside < 0 else "left",
            va="center",
            color=INK,
        )
    ax.set_ylim(low - 0.2 * room, high + 0.2 * room)


def draw_repeated(figure: Figure, picture: RepeatsPicture) -> None:
    """Each reading with its error bar against the goal, and the mean with its band."""
    ax = figure.add_subplot()
    dress(ax, x="reading", y=f"{picture.of}, mm", title=picture.title)
    draw_repeats(ax, picture, picture.goal)


def draw_repeats(ax: Axes, picture: RepeatsPicture, name: str) -> None:
    """Repeated readings, those left out crossed at the edge, the mean and its 95 % band, and the
    goal.
    """
    values, keep, mean, half = (
        picture.values_mm,
        picture.keep,
        picture.mean_mm,
        picture.half_width_mm,
    )
    number = np.arange(1, len(values) + 1)
    ax.axhspan(mean - half, mean + half, color=PALE, linewidth=0)
    ax.axhline(mean, color=SIGNAL, linewidth=1.8)
    ax.axhline(picture.goal_mm, color=FOG, linewidth=1.2, linestyle="--")
    bar = NORMAL_95 * picture.deviation_mm
    ax.errorbar(
        number[keep],
        values[keep],
        yerr=bar,
        fmt="o",
        color=SEA,
        markersize=7,
        linewidth=1,
        capsize=3,
    )
    span = (
        min(float(values[keep].min()) - bar, picture.goal_mm),
        max(float(values[keep].max()) + bar, picture.goal_mm),
    )
    draw_left_out(ax, number[~keep], values[~keep], span, "mm", 12)
    ax.set_xlim(0.2, len(number) * 1.2 + 0.8)
    ax.set_xticks(number)
    for value, label in (
        (mean, f"mean {mean:.3f} ± {half:.3f}"),
        (picture.goal_mm, f"{name} {picture.goal_mm:g}"),
    ):
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


def draw_motion(figure: Figure, pictures: tuple[LimitPicture, ...]) -> None:
    """One panel a limit: runs that passed and failed at each level, the level to trust, and the
    setting below it.
    """
    panels = figure.subplots(len(pictures), 1, squeeze=False)[:, 0]
    for ax, one in zip(panels, pictures, strict=True):
        dress(ax, x=f"level, {one.unit}", title=one.title)
        ax.grid(False, axis="y")
        for result, colour, marker in ((True, SEA, "o"), (False, SIGNAL, "X")):
            some = [level for level, ok in zip(one.levels, one.passed, strict=True) if ok == result]
            stack = [some[:n].count(level) for n, level in enumerate(some)]
            ax.plot(some, [result + 0.08 * k for k in stack], marker, color=colour, markersize=9)
        ax.axvline(one.trusted, color=SAND, linewidth=1.4, linestyle=":")
        ax.axvline(one.setting, color=INK, linewidth=1.8)
        ax.annotate(" trusted", (one.trusted, 0.5), color=INK, fontsize=11)
        ax.annotate(f" setting {one.setting:.0f}", (one.setting, 0.5), color=INK, fontsize=11)
        ax.margins(x=0.08)
        ax.set_yticks([0, 1], ["failed", "passed"])
        ax.set_ylim(-0.4, 1.9)
