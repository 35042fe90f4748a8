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
    number = np.arange(1, len(picture.walls_mm) + 1)
    ax.axhspan(picture.mean_mm - picture.half_width_mm, picture.mean_mm + picture.half_width_mm, color=PALE, linewidth=0)
    ax.axhline(picture.mean_mm, color=SIGNAL, linewidth=1.8)
    ax.axhline(picture.expected_mm, color=FOG, linewidth=1.2, linestyle="--")
    for keep, colour, marker in ((True, SEA, "o"), (False, SAND, "x")):
        some = picture.keep == keep
        if some.any():
            ax.errorbar(number[some], picture.walls_mm[some], yerr=1.96 * picture.deviation_mm, fmt=marker, color=colour,
                        markersize=7, linewidth=1, capsize=3)
    for x, y in zip(number[~picture.keep], picture.walls_mm[~picture.keep], strict=True):
        ax.annotate("left out", (x, y), xytext=(12, 0), textcoords="offset points", va="center", color=INK)
    ax.set_xlim(0.2, len(number) + 1.8)
    ax.set_xticks(number)
    for value, label in ((picture.mean_mm, f"mean {picture.mean_mm:.3f}"),
                         (picture.expected_mm, f"expected {picture.expected_mm:g}")):
        ax.annotate(label, (len(number) + 1.75, value), ha="right", va="bottom", color=INK, fontsize=11)
