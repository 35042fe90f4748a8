"""The input shaper's answers in words."""

from __future__ import annotations

import math
from typing import Any

from omphalon.answers.commands import Command, command, prose
from omphalon.answers.finding import Finding, Shown, answer
from omphalon.answers.settings import Setting
from omphalon.base.stages import begins
from omphalon.lines.dialect import Dialect
from omphalon.physics.resonance import Mode
from omphalon.physics.shaping import Candidate
from omphalon.studies.shaper.fit import (
    DRIFT_OF_PLACES,
    AxisChoice,
    PlaceChoice,
    ShaperFit,
    fit_shaper,
)
from omphalon.studies.shaper.modes import BROAD_DAMPING, MANY, UNEXPLAINED, AxisReading
from omphalon.studies.shaper.question import AXES, ShaperQuestion
from omphalon.tables.units import digits, plural

LEAST_HALF_MM_S2 = 0.5
LIMITED = {"ringing": "ringing", "rounding": "rounding", "both": "ringing and rounding equally"}


def shaper_answer(question: ShaperQuestion, dialect: Dialect) -> Finding:
    """Shapers and acceleration, in words."""
    begins("shapers are chosen")
    logs = [log for axis in AXES for log in question.logs_of(axis).values()]
    return answer("shaper-fit", logs, lambda: _finding(fit_shaper(question), question, dialect))


def _finding(fit: ShaperFit, question: ShaperQuestion, dialect: Dialect) -> Finding:
    keeps, common = fit.verdict == "keep", fit.acceleration_mm_s2
    return Finding(
        kind="shaper-fit",
        verdict=fit.verdict,
        because=_because(fit, question),
        means=_means(fit),
        settings=(
            *(setting for a in fit.axes for setting in _settings(a)),
            Setting("acceleration", "acceleration", common, fit.half_width_mm_s2 or None),
        ),
        evidence={
            **{a.reading.axis: _evidence(a) for a in fit.axes},
            "unshaped_mm_s2": fit.bare_mm_s2,
            "limited_by": fit.slow.in_force.limited_by,
        },
        warnings=fit.remarks,
        lines=() if keeps else _lines(fit, dialect),
        next=prose(
            f"nothing to enter; check again {AFTER_WORK}:"
            if keeps
            else "enter the lines, set the acceleration in the slicer too (no higher than this for "
            f"outer walls), print a cube; {AFTER_WORK}:",
            _check_command(fit.slow, common),
        ),
        headline=_headline(fit),
        table=_table(fit),
        picture=fit,
    )


def _settings(one: AxisChoice) -> tuple[Setting, ...]:
    now, key = one.in_force, f"shaper-{one.reading.axis}"
    return (
        Setting(key, "shaper", now.shaper),
        Setting(key, "frequency", now.frequency_hz, one.frequency_half_hz),
        Setting(key, "damping", now.damping, one.main.damping_half),
    )


def _means(fit: ShaperFit) -> str:
    one = fit.slow.in_force
    return (
        f"at {fit.acceleration_mm_s2:.0f} mm/s² no ripple beside a corner is deeper than "
        f"{one.ringing_mm:.2g} mm, and a corner is rounded by {one.rounding_mm:.2g} mm"
    )


def _because(fit: ShaperFit, question: ShaperQuestion) -> str:
    now, limits = fit.slow.in_force, question.limits
    left = [
        f"the modes leave {a.reading.fit.unexplained:.0%} of axis {a.reading.axis} unexplained, so "
        "look at the hardware first; "
        for a in fit.axes
        if a.reading.fit is not None and a.reading.fit.unexplained > UNEXPLAINED
    ]
    because = "".join(left) + (
        f"axis {fit.slow.reading.axis} allows {now.acceleration_mm_s2:.0f} mm/s², limited by "
        f"{LIMITED[now.limited_by]} ({now.ringing_mm:.3f} of {limits.ringing_mm:g} mm, rounding "
        f"{now.rounding_mm:.2f} of {limits.rounding_mm:g} mm); without a shaper "
        f"{fit.bare_mm_s2:.0f} would stay clean, {now.acceleration_mm_s2 / fit.bare_mm_s2:.0f} "
        "times less"
    )
    ruled = [_range_words(a) for a in fit.axes if a.places]
    because = "; ".join([*ruled, because])
    if fit.verdict == "keep":
        return f"the present setting allows within 3 % of the best: {because}"
    return because


def _range_words(one: AxisChoice) -> str:
    """What one shaper for several places costs, and which place rules."""
    least = min(one.places, key=lambda place: place.allowed_mm_s2)
    return (
        f"one shaper for {plural(len(one.places), 'place')} of axis {one.reading.axis}, ruled by "
        f"{least.label}: {one.cost:.0%} less than a shaper for each would allow"
    )


def _place_rows(one: AxisChoice) -> list[Shown]:
    """A row a place: its main mode, what the pick allows there, the best for it alone."""
    rows = [
        Shown(
            f"  {place.label}",
            (
                f"main mode {place.main.frequency_hz:.1f} Hz; allows {place.allowed_mm_s2:.0f} "
                f"mm/s²; {place.alone.shaper} {place.alone.frequency_hz:.1f} Hz alone "
                f"{place.alone.acceleration_mm_s2:.0f}",
            ),
        )
        for place in one.places
    ]
    ends = sorted(one.places, key=lambda place: place.main.frequency_hz)
    if ends and _differs(ends[0].main, ends[-1].main):
        low, high = ends[0], ends[-1]
        words = (
            f"falls from {high.main.frequency_hz:.1f} Hz ({high.label}) to "
            f"{low.main.frequency_hz:.1f} Hz ({low.label})"
        )
        rows.append(Shown("  main mode", (words,)))
    elif ends:
        rows.append(Shown("  main mode", ("alike at all places, within chance",)))
    return rows


def _differs(one: Mode, other: Mode) -> bool:
    half = math.hypot(one.frequency_half_hz, other.frequency_half_hz)
    return abs(one.frequency_hz - other.frequency_hz) > max(half, 0.005 * one.frequency_hz)


AFTER_WORK = "after work on belts, bed or feet"


def _check_command(one: AxisChoice, acceleration: float) -> Command:
    """The command that judges the setting on a fresh log."""
    now = one.in_force
    drift = f"{DRIFT_OF_PLACES:g}" if one.places else None
    return command(
        "shaper check",
        "LOG",
        axis=one.reading.axis,
        shaper=now.shaper,
        frequency=f"{now.frequency_hz:.2f}",
        damping=f"{now.damping:.4f}",
        acceleration=f"{acceleration:.0f}",
        drift=drift,
    )


def mode_document(mode: Mode) -> dict[str, Any]:
    """A mode as a document has it."""
    return {"frequency_hz": mode.frequency_hz, "damping": mode.damping, "share": mode.share}


def _evidence(one: AxisChoice) -> dict[str, Any]:
    return {
        "modes": [
            {
                **mode_document(m),
                "spread": {
                    "frequency_hz": m.frequency_half_hz,
                    "damping": m.damping_half,
                    "share": m.share_half,
                },
            }
            for m in one.reading.modes
        ],
        "candidates": [_candidate(c) for c in one.found],
        "present_mm_s2": None if one.present is None else one.present.acceleration_mm_s2,
        "unshaped_mm_s2": one.bare_mm_s2,
        "sensor_axis": one.reading.sensor_axis,
        "read_as": how_words(one.reading),
        "health": health_words(one.reading),
        **({"places": [_place(p) for p in one.places], "cost": one.cost} if one.places else {}),
    }


def _place(one: PlaceChoice) -> dict[str, Any]:
    return {
        "label": one.label,
        "modes": [mode_document(m) for m in one.reading.modes],
        "allowed_mm_s2": one.allowed_mm_s2,
        "alone": _candidate(one.alone),
    }


def _candidate(one: Candidate) -> dict[str, Any]:
    return {
        "shaper": one.shaper,
        "frequency_hz": one.frequency_hz,
        "damping": one.damping,
        "ringing_mm": one.ringing_mm,
        "rounding_mm": one.rounding_mm,
        "acceleration_mm_s2": one.acceleration_mm_s2,
        "limited_by": one.limited_by,
    }


def how_words(reading: AxisReading) -> str:
    """How an axis was read."""
    facts = reading.how.facts
    if reading.how.way == "taps":
        return plural(int(facts["count"]), "tap")
    if reading.how.way == "card":
        return f"{int(facts['count'])} lines of a test card, {facts['noise']:.1f} µm of noise"
    if reading.how.way == "ripples":
        return f"{plural(int(facts['count']), 'spacing')} at {facts['speed']:g} mm/s"
    return (
        f"sweep {facts['low']:.0f} to {facts['high']:.0f} Hz at {facts['pace']:.2g} Hz/s, "
        f"{facts['rate']:.0f} samples a second"
    )


def health_words(reading: AxisReading) -> str:
    """A plain word on an axis."""
    large, peaks = reading.large, () if reading.fit is None else reading.fit.peaks_hz
    if len(peaks) >= MANY:
        places = ", ".join(f"{f:.0f}" for f in peaks)
        return f"{len(peaks)} peaks ({places} Hz): look for something loose"
    if len(large) == 1 and large[0].damping <= BROAD_DAMPING:
        return "one clean peak: a sound axis"
    if len(large) == 1:
        return "one broad peak: friction, a soft belt, or a soft sensor mount"
    end = "look for something loose" if len(large) > 2 else "usual where a bed or a head rocks"
    return f"{len(large)} comparable peaks: {end}"


def _headline(fit: ShaperFit) -> tuple[Shown, ...]:
    rows = [Shown("input shaper", ("present", "new", "", ""))]
    for a in fit.axes:
        now, new = a.present, a.in_force
        present = "–" if now is None else f"{now.shaper} {now.frequency_hz:g} Hz"
        half = f"± {digits(a.frequency_half_hz, least=2)} Hz"
        cells = (present, f"{new.shaper} {new.frequency_hz:.1f} Hz", half)
        rows.append(Shown(f"axis {a.reading.axis}", (*cells, f"damping {new.damping:.3f}")))
    label = "acceleration, both" if len(fit.axes) > 1 else "acceleration"
    known = fit.half_width_mm_s2 >= LEAST_HALF_MM_S2  # else rounding alone limits it
    half = f"± {digits(fit.half_width_mm_s2, least=2)}" if known else ""
    rows.append(Shown(label, ("", f"{fit.acceleration_mm_s2:.0f}", half, "mm/s²")))
    return tuple(rows)


def _table(fit: ShaperFit) -> tuple[Shown, ...]:
    rows = []
    for a in fit.axes:
        words = how_words(a.reading)
        words += f"; sensor's {a.reading.sensor_axis}" if a.reading.response is not None else ""
        rows.append(Shown(f"axis {a.reading.axis}", (f"{words}; {health_words(a.reading)}",)))
        rows += [Shown("  mode", (_mode_words(m),)) for m in a.reading.modes]
        rows += _place_rows(a)
    heads = (x for a in fit.axes for x in (f"axis {a.reading.axis}", "mm/s²", "limit"))
    rows.append(Shown("allowed", tuple(heads)))
    for n, one in enumerate(fit.axes[0].found):
        cells: list[str] = []
        for a in fit.axes:
            c = a.found[n]
            star = "*" if c is a.chosen else ""
            cells += [f"{c.frequency_hz:.1f} Hz", f"{c.acceleration_mm_s2:.0f}{star}", c.limited_by]
        rows.append(Shown(f"  {one.shaper}", tuple(cells)))
    return tuple(rows)


def _mode_words(mode: Mode) -> str:
    return (
        f"{mode.frequency_hz:.1f} ± {digits(mode.frequency_half_hz, least=1)} Hz, damping "
        f"{mode.damping:.3f} ± {digits(mode.damping_half, least=1)}, share {mode.share:.0%}"
    )


def _lines(fit: ShaperFit, dialect: Dialect) -> tuple[str, ...]:
    wanted: list[tuple[str, str, dict[str, object], dict[str, float]]] = []
    for a in fit.axes:
        if a.kept:
            continue
        c, axis = a.chosen, a.reading.axis
        words = f"axis {axis}: shaper {c.shaper}, {c.frequency_hz:.2f} Hz, damping {c.damping:.4f}"
        values = {"shaper": c.shaper, "frequency": c.frequency_hz, "damping": c.damping}
        halves = {"frequency": a.frequency_half_hz, "damping": a.main.damping_half}
        wanted.append(("shaper", words, {"axis": axis.upper(), **values}, halves))
    common = fit.acceleration_mm_s2
    words = f"acceleration {common:.0f} mm/s²"
    halves = {"acceleration": fit.half_width_mm_s2}
    return dialect.entering(*wanted, ("acceleration", words, {"acceleration": common}, halves))
