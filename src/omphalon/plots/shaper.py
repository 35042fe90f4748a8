"""Figures of input shapers: the measured response with its modes, and the acceleration that each
shaper allows.
"""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from omphalon.picture import LogPicture, ResponsePicture, ShaperPicture
from omphalon.plots.style import FOG, INK, PALE, SAND, SEA, SIGNAL, dress

LINES = {
    "zv": (FOG, "-"),
    "zvd": (FOG, "--"),
    "mzv": (SEA, "-"),
    "ei": (SEA, "--"),
    "two-hump": (SAND, "-"),
    "three-hump": (SAND, "--"),
}
NAME_HZ, NAME_HIGH = 1.9, 0.055  # room for a letter, Hz; for a name, of the highest peak


def draw_shaper(figure: Figure, pictures: tuple[ShaperPicture, ...]) -> None:
    """One column an axis: above, measured response against the model with the modes as bands;
    below, the allowed acceleration.
    """
    panels = figure.subplots(2, len(pictures), squeeze=False)
    for n, one in enumerate(pictures):
        if one.response is None:
            draw_bare(panels[0, n], one)
        else:
            draw_response(panels[0, n], one.response, f"Axis {one.axis}: response, motor = 1")
        draw_allowed(panels[1, n], one)


def draw_response(ax: Axes, picture: ResponsePicture, title: str) -> None:
    """Measured and modelled response, each mode a band of its width."""
    frequency, measured, modelled = picture.frequency_hz, picture.measured, picture.modelled
    modes = picture.modes
    dress(ax, x="frequency, Hz", y="response", title=title)
    top = float(max(measured.max(), modelled.max()))
    for mode in modes:
        wide = max(mode.damping * mode.frequency_hz, 0.6)
        ax.axvspan(mode.frequency_hz - wide, mode.frequency_hz + wide, color=PALE, linewidth=0)
    ax.plot(frequency, measured, ".", color=SEA, markersize=5)
    ax.plot(frequency, modelled, color=SIGNAL, linewidth=1.5)
    for n, mode in enumerate(modes):
        ax.annotate(
            f"{mode.frequency_hz:.1f} Hz, ζ {mode.damping:.3f}, {mode.share:.0%}",
            (mode.frequency_hz, top * (1.30 - 0.08 * n)),
            va="center",
            color=INK,
            fontsize=10,
            ha="left" if mode.frequency_hz < frequency.mean() else "right",
        )
        ax.plot([mode.frequency_hz] * 2, [0, top * (1.27 - 0.08 * n)], color=FOG, linewidth=0.8)
    ax.set_ylim(0, top * 1.38)
    ax.set_xlim(float(frequency[0]), float(frequency[-1]))
    ax.annotate(
        "points: measured\nline: modes",
        (0.99, 0.62),
        xycoords="axes fraction",
        ha="right",
        va="top",
        color=INK,
        fontsize=9,
    )


def draw_bare(ax: Axes, one: ShaperPicture) -> None:
    """No log: the mode that ripples tell."""
    mode = one.modes[0]
    dress(ax, x="frequency, Hz", title=f"Axis {one.axis}: from ripples, {one.told}")
    ax.axvspan(
        mode.frequency_hz - mode.half_width_hz,
        mode.frequency_hz + mode.half_width_hz,
        color=PALE,
    )
    ax.axvline(mode.frequency_hz, color=SIGNAL)
    ax.annotate(
        f" {mode.frequency_hz:.1f} ± {mode.half_width_hz:.1f} Hz",
        (mode.frequency_hz, 0.5),
        color=INK,
        fontsize=12,
    )
    ax.set_xlim(15, 130)
    ax.set_yticks([])


def draw_allowed(ax: Axes, one: ShaperPicture) -> None:
    """Allowed acceleration over each shaper's frequency; the pick marked with its value."""
    dress(
        ax,
        x="shaper's frequency, Hz",
        y="allowed, mm/s²",
        title=f"Axis {one.axis}: acceleration that stays clean",
    )
    top = max(float(curve.max()) for curve in one.curves.values())
    _name_peaks(ax, one, top)
    for name, curve in one.curves.items():
        colour, style = LINES[name]
        mine = name == one.shaper
        ax.plot(
            one.curve_hz,
            curve,
            color=SIGNAL if mine else colour,
            linestyle="-" if mine else style,
            linewidth=2.0 if mine else 1.3,
            zorder=3 if mine else 2,
        )
    ax.plot([one.frequency_hz], [one.acceleration_mm_s2], "o", color=SIGNAL, markersize=8, zorder=4)
    ax.plot([one.frequency_hz] * 2, [one.acceleration_mm_s2, top * 1.17], color=FOG, linewidth=0.8)
    ax.annotate(
        f" {one.shaper} at {one.frequency_hz:.1f} Hz: {one.acceleration_mm_s2:.0f}",
        (one.frequency_hz, top * 1.17),
        color=INK,
        fontsize=11,
        fontweight="bold",
        va="center",
    )
    ax.set_ylim(0, top * 1.28)
    ax.set_xlim(float(one.curve_hz[0]), float(one.curve_hz[-1]))


def _name_peaks(ax: Axes, one: ShaperPicture, top: float) -> None:
    """Each curve's name over its peak; where another name stands already, above that one."""
    peaks = sorted(
        (float(one.curve_hz[np.argmax(curve)]), float(curve.max()), name)
        for name, curve in one.curves.items()
        if name != one.shaper
    )
    high = NAME_HIGH * top
    placed: list[tuple[float, float, float]] = [(one.frequency_hz, 1.0, one.acceleration_mm_s2)]
    for frequency, height, name in peaks:
        half, foot = NAME_HZ * len(name) / 2, height
        for middle, other, taken in sorted(placed, key=lambda p: p[2]):
            if abs(frequency - middle) < half + other and abs(foot - taken) < high:
                foot = taken + high
        placed.append((frequency, half, foot))
        ax.annotate(
            name,
            (frequency, foot),
            (0, 3),
            textcoords="offset points",
            color=INK,
            fontsize=9,
            ha="center",
            va="bottom",
        )


def draw_before_after(figure: Figure, pictures: tuple[LogPicture, ...]) -> None:
    """One panel a log, on one scale: response and modes, and what the setting allows on it."""
    panels = figure.subplots(len(pictures), 1, squeeze=False)[:, 0]
    for ax, one in zip(panels, pictures, strict=True):
        draw_response(ax, one.response, one.title)
    high = max(ax.get_ylim()[1] for ax in panels)
    for ax in panels:
        ax.set_ylim(0, high)
