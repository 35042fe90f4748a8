"""Figures of input shapers: the measured response with its modes, and the acceleration that each
shaper allows.
"""

from __future__ import annotations

from itertools import cycle, product
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from omphalon.physics.resonance import response_of
from omphalon.plots.style import FOG, INK, PALE, SAND, SEA, SIGNAL, dress
from omphalon.studies.shaper.words import how_words
from omphalon.tables.constants import SHAPER_NAMES

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from omphalon.base.arrays import Array
    from omphalon.physics.shaping import Candidate
    from omphalon.studies.shaper.check import ShaperCheck
    from omphalon.studies.shaper.fit import AxisChoice, PlaceChoice, ShaperFit
    from omphalon.studies.shaper.modes import AxisReading

LINES = dict(zip(SHAPER_NAMES, cycle(product((FOG, SEA, SAND), ("-", "--"))), strict=False))
NAME_HZ, NAME_HIGH = 1.9, 0.055  # room for a letter, Hz; for a name, of the highest peak


def draw_shaper(figure: Figure, fit: ShaperFit) -> None:
    """One column an axis: above, measured response against the model with the modes as bands;
    below, the allowed acceleration.
    """
    panels = figure.subplots(2, len(fit.axes), squeeze=False)
    for n, one in enumerate(fit.axes):
        logged = [p.reading for p in one.places if p.reading.response is not None]
        ruled_by_card = one.reading.response is None and logged
        reading = logged[0] if ruled_by_card else one.reading
        if reading.response is None:
            source = "ripples, " if reading.how.way == "ripples" else ""
            title = f"Axis {reading.axis}: from {source}{how_words(reading)}"
            draw_bare(panels[0, n], reading, title)
        else:
            others = [p for p in one.places if p.reading is not reading]
            own = next((f" ({p.label})" for p in one.places if p.reading is reading), "")
            title = f"Axis {reading.axis}{own}: response, motor = 1"
            draw_response(panels[0, n], reading, title, others)
        draw_allowed(panels[1, n], one)


def draw_response(
    ax: Axes, reading: AxisReading, title: str, others: Sequence[PlaceChoice] = ()
) -> None:
    """Measured and modelled response, each mode a band of its width; and those of other places,
    each named at its highest peak.
    """
    frequency, measured, modelled = reading.curves()
    modes = reading.modes
    dress(ax, x="frequency, Hz", y="response", title=title)
    top = float(max(measured.max(), modelled.max()))
    for place in others:
        there = response_of(place.reading.modes, frequency)
        ax.plot(frequency, there, color=SAND, linewidth=1.2)
        at = int(there.argmax())
        ax.annotate(f" {place.label}", (frequency[at], there[at]), color=INK, fontsize=9)
        top = max(top, float(there.max()))
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


def draw_bare(ax: Axes, reading: AxisReading, title: str) -> None:
    """No log: the modes that a print tells."""
    dress(ax, x="frequency, Hz", title=title)
    for n, mode in enumerate(reading.modes):
        low, high = (mode.frequency_hz + s * mode.frequency_half_hz for s in (-1, 1))
        ax.axvspan(low, high, color=PALE)
        ax.axvline(mode.frequency_hz, color=SIGNAL)
        ax.annotate(
            f" {mode.frequency_hz:.1f} ± {mode.frequency_half_hz:.1f} Hz, {mode.share:.0%}",
            (mode.frequency_hz, 0.5 + 0.1 * n),
            color=INK,
            fontsize=12,
        )
    if np.isfinite(reading.seen_to_hz):
        ax.axvspan(reading.seen_to_hz, 130, color=PALE, linewidth=0)
        beyond = (reading.seen_to_hz + 1, 0.03)
        ax.annotate("a fifth of the motion would not show here", beyond, color=INK, fontsize=10)
    ax.set_xlim(15, 130)
    ax.set_ylim(0, 1)
    ax.set_yticks([])


def draw_allowed(ax: Axes, one: AxisChoice) -> None:
    """Allowed acceleration over each shaper's frequency; the pick marked with its value."""
    now, (grid, curves) = one.in_force, one.curves()
    dress(
        ax,
        x="shaper's frequency, Hz",
        y="allowed, mm/s²",
        title=f"Axis {one.reading.axis}: acceleration that stays clean",
    )
    top = max(float(curve.max()) for curve in curves.values())
    _name_peaks(ax, now, grid, curves, top)
    for name, curve in curves.items():
        colour, style = LINES[name]
        mine = name == now.shaper
        ax.plot(
            grid,
            curve,
            color=SIGNAL if mine else colour,
            linestyle="-" if mine else style,
            linewidth=2.0 if mine else 1.3,
            zorder=3 if mine else 2,
        )
    ax.plot([now.frequency_hz], [now.acceleration_mm_s2], "o", color=SIGNAL, markersize=8, zorder=4)
    ax.plot([now.frequency_hz] * 2, [now.acceleration_mm_s2, top * 1.17], color=FOG, linewidth=0.8)
    ax.annotate(
        f" {now.shaper} at {now.frequency_hz:.1f} Hz: {now.acceleration_mm_s2:.0f}",
        (now.frequency_hz, top * 1.17),
        color=INK,
        fontsize=11,
        fontweight="bold",
        va="center",
    )
    ax.set_ylim(0, top * 1.28)
    ax.set_xlim(float(grid[0]), float(grid[-1]))


def _name_peaks(
    ax: Axes, now: Candidate, grid: Array, curves: Mapping[str, Array], top: float
) -> None:
    """Each curve's name over its peak; where another name stands already, above that one."""
    peaks = sorted(
        (float(grid[np.argmax(curve)]), float(curve.max()), name)
        for name, curve in curves.items()
        if name != now.shaper
    )
    high = NAME_HIGH * top
    placed: list[tuple[float, float, float]] = [(now.frequency_hz, 1.0, now.acceleration_mm_s2)]
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


def draw_before_after(figure: Figure, check: ShaperCheck) -> None:
    """One panel a log, on one scale: response and modes, and what the setting allows on it."""
    panels = figure.subplots(len(check.logs), 1, squeeze=False)[:, 0]
    words = ("before", "after") if len(check.logs) == 2 else ("now",)
    set_, use = check.setting, check.acceleration_mm_s2
    for ax, when, log in zip(panels, words, check.logs, strict=True):
        allows = log.allowed.acceleration_mm_s2
        title = (
            f"{when}, {log.source}: {set_.shaper} at {set_.frequency_hz:g} Hz allows {allows:.0f} "
            f"mm/s², {'enough' if check.enough(log) else 'too little'} for {use:.0f}"
        )
        draw = draw_bare if log.reading.response is None else draw_response
        draw(ax, log.reading, title)
    low, high = (f(ax.get_xlim()[n] for ax in panels) for n, f in enumerate((min, max)))
    curves = [ax for ax in panels if len(ax.get_yticks())]
    top = max((ax.get_ylim()[1] for ax in curves), default=1.0)
    for ax in panels:
        ax.set_xlim(low, high)
        ax.set_ylim(0, top if ax in curves else 1)
