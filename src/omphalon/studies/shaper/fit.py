"""Shaper, frequency, damping and acceleration from the modes of one or both axes."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from omphalon.errors import BadReading, UsageError
from omphalon.finding import Finding, Shown, Warned, digits
from omphalon.lines.dialect import Dialect
from omphalon.physics.impulses import (
    SHAPERS,
    Candidate,
    Limits,
    allowed,
    at_setting,
    candidates,
    pick,
    unshaped,
)
from omphalon.physics.modes import Mode
from omphalon.recording import MotionLog
from omphalon.studies.shaper.reading import AxisReading, health_words, read_axis
from omphalon.studies.wording import Unsupported

Array = NDArray[np.float64]

KEEPS = 0.97
LIMITED = {"ringing": "ringing", "rounding": "rounding", "both": "ringing and rounding alike"}
RIPPLE_DAMPING = 0.05
RIPPLE_READ = 0.04  # deviation of one ripple spacing read off a print, as a share
DRAWS = 40


@dataclass(frozen=True)
class Setting:
    """A shaper as it is set: name, frequency (Hz), damping."""

    shaper: str
    frequency_hz: float
    damping: float


@dataclass(frozen=True)
class ShaperQuestion:
    """What is asked: logs by axis with the sensor's axis, ripples (mm) by axis and the speed they
    were printed at, the shapers offered, the limits, the settings now in force by axis, and whether
    logs hold a sweep or taps."""

    logs: Mapping[str, MotionLog]
    sensor: Mapping[str, str | None]
    ripples_mm: Mapping[str, Sequence[float]]
    speed_mm_s: float | None
    offered: tuple[str, ...] = tuple(SHAPERS)
    limits: Limits = Limits()
    present: Mapping[str, Setting] | None = None
    kind: str = "sweep"


@dataclass(frozen=True)
class AxisAnswer:
    """One axis: how it was read, the candidates, the pick, what the present setting allows, and
    what no shaper would.
    """

    reading: AxisReading
    limits: Limits
    found: tuple[Candidate, ...]
    chosen: Candidate
    kept: bool
    present: Candidate | None
    bare_mm_s2: float


@dataclass(frozen=True)
class ShaperPicture:
    """What plots/ draws for one axis: frequencies (m,) with the measured and the modelled response
    (None without a log), modes, each shaper's allowed acceleration over frequency (k,), the
    pick."""

    axis: str
    frequency_hz: Array | None
    measured: Array | None
    modelled: Array | None
    modes: tuple[Mode, ...]
    curve_hz: Array
    curves: dict[str, Array]
    chosen: Candidate
    title: str


def fit_shaper(question: ShaperQuestion, dialect: Dialect) -> Finding:
    """The picks, the acceleration that both axes share, and why."""
    unknown = [name for name in question.offered if name not in SHAPERS]
    if unknown or not question.offered:
        raise UsageError(
            f"--offered {','.join(question.offered)}: no shaper '{(unknown or [''])[0]}'",
            "choose from " + ",".join(SHAPERS),
        )
    readings = []
    try:
        for axis in ("x", "y"):
            if axis in question.logs:
                readings.append(
                    read_axis(question.logs[axis], axis, question.sensor.get(axis), question.kind)
                )
            elif question.ripples_mm.get(axis):
                readings.append(from_ripples(axis, question.ripples_mm[axis], question.speed_mm_s))
        if not readings:
            raise UsageError("no log", "give --x LOG and --y LOG, or --ripple-x MM with --speed")
    except Unsupported as refusal:
        return refusal.finding("shaper-fit", [w for r in readings for w in r.warnings])
    answers = [answer(reading, question) for reading in readings]
    return _told(answers, question, dialect)


def from_ripples(axis: str, spacings_mm: Sequence[float], speed_mm_s: float | None) -> AxisReading:
    """A mode from the spacing of ripples on a print: f = speed ÷ spacing; its damping is
    assumed.
    """
    if speed_mm_s is None or speed_mm_s <= 0:
        raise UsageError(
            "ripples without the speed", "give --speed MM_S, the speed of the wall that shows them"
        )
    spacing = np.array(spacings_mm, dtype=np.float64)
    for value in spacing:
        if not value > 0:
            raise BadReading(
                f"--ripple-{axis} {value:g}: not above 0",
                "give the distance from one ripple to the next, in mm",
            )
    frequency = speed_mm_s / spacing
    if not 10 <= float(np.median(frequency)) <= 200:
        raise Unsupported(
            f"axis {axis}: ripples {np.median(spacing):g} mm apart at {speed_mm_s:g} mm/s make "
            f"{np.median(frequency):.0f} Hz",
            "no frame swings so; measure over several ripples and divide, and check the wall's "
            "speed",
        )
    if float(np.ptp(frequency)) > 0.3 * float(np.median(frequency)):
        raise Unsupported(
            f"axis {axis}: the ripples' spacings differ by "
            f"{np.ptp(spacing) / np.median(spacing):.0%}",
            "measure over several ripples and divide by their number; two frequencies need a "
            "sensor",
        )
    deviation = max(
        RIPPLE_READ * float(np.median(frequency)),
        float(np.std(frequency, ddof=1)) if len(frequency) > 1 else 0.0,
    )
    half = 2.2 * deviation / math.sqrt(len(frequency))
    middle = float(np.mean(frequency))
    warned = [
        Warned(
            "ripples-only",
            f"axis {axis}: one frequency, its damping assumed as {RIPPLE_DAMPING:g}; what else "
            "swings is "
            "not seen",
        )
    ]
    if len(frequency) == 1:
        warned.append(Warned("one-reading", f"axis {axis}: a single spacing"))
    return AxisReading(
        axis,
        (Mode(middle, RIPPLE_DAMPING, 1.0, half, 0.03, 0.0),),
        "–",
        f"{len(frequency)} spacing{'s'[: len(frequency) != 1]} at {speed_mm_s:g} mm/s",
        tuple(warned),
        extra_drift=half / middle,
    )


def answer(reading: AxisReading, question: ShaperQuestion) -> AxisAnswer:
    """Candidates and pick of one axis."""
    limits = replace(question.limits, drift=math.hypot(question.limits.drift, reading.extra_drift))
    found = tuple(candidates(reading.modes, limits, question.offered))
    chosen = pick(found)
    now = (question.present or {}).get(reading.axis)
    present = (
        None
        if now is None
        else at_setting(now.shaper, now.frequency_hz, now.damping, reading.modes, limits)
    )
    kept = present is not None and present.acceleration_mm_s2 >= KEEPS * max(
        c.acceleration_mm_s2 for c in found
    )
    return AxisAnswer(
        reading, limits, found, chosen, kept, present, unshaped(reading.modes, limits)
    )


def spread_of(chosen: Candidate, modes: tuple[Mode, ...], limits: Limits) -> float:
    """Half width of the allowed acceleration's 95 % interval: modes drawn from their spreads, seed
    fixed.
    """
    random = np.random.default_rng(1)
    drawn = []
    for _ in range(DRAWS):
        shares = np.maximum([m.share + random.normal(0, m.share_half / 1.96) for m in modes], 1e-3)
        some = [
            Mode(
                m.frequency_hz + random.normal(0, m.frequency_half_hz / 1.96),
                min(max(m.damping + random.normal(0, m.damping_half / 1.96), 1e-3), 0.5),
                float(s / shares.sum()),
            )
            for m, s in zip(modes, shares, strict=True)
        ]
        drawn.append(
            at_setting(
                chosen.shaper, chosen.frequency_hz, chosen.damping, some, limits
            ).acceleration_mm_s2
        )
    return 1.96 * float(np.std(drawn))


def in_force(one: AxisAnswer) -> Candidate:
    """What is to be set: the pick, or the present setting where it is kept."""
    return one.present if one.kept and one.present is not None else one.chosen


def _told(answers: list[AxisAnswer], question: ShaperQuestion, dialect: Dialect) -> Finding:
    common = min(in_force(a).acceleration_mm_s2 for a in answers)
    common = math.floor(common / 10) * 10.0 if common > 100 else common
    verdict = "keep" if all(a.kept for a in answers) else "change"
    settings: dict[str, Any] = {
        a.reading.axis: {
            "shaper": in_force(a).shaper,
            "frequency_hz": in_force(a).frequency_hz,
            "damping": in_force(a).damping,
        }
        for a in answers
    }
    spread: dict[str, Any] = {
        a.reading.axis: {"frequency_hz": _frequency_half(a), "damping": _main(a).damping_half}
        for a in answers
    }
    slow = min(answers, key=lambda a: in_force(a).acceleration_mm_s2)
    half = spread_of(in_force(slow), slow.reading.modes, slow.limits)
    settings["acceleration_mm_s2"], spread["acceleration_mm_s2"] = common, half
    bare = min(a.bare_mm_s2 for a in answers)
    told = in_force(slow)
    limits = question.limits
    because = (
        f"axis {slow.reading.axis} allows {told.acceleration_mm_s2:.0f} mm/s², limited by "
        f"{LIMITED[told.limited_by]} "
        f"({told.ringing_mm:.3f} of {limits.ringing_mm:g} mm, rounding {told.rounding_mm:.2f} of "
        f"{limits.rounding_mm:g} mm); "
        f"without a shaper {bare:.0f} would stay clean, {told.acceleration_mm_s2 / bare:.0f} "
        "times less"
    )
    if verdict == "keep":
        because = f"the present setting allows within 3 % of the best: {because}"
    return Finding(
        "shaper-fit",
        verdict,
        because,
        settings,
        spread,
        {
            **{a.reading.axis: _evidence(a) for a in answers},
            "unshaped_mm_s2": bare,
            "limited_by": told.limited_by,
        },
        (*[w for a in answers for w in a.reading.warnings], *_swapped(answers)),
        () if verdict == "keep" else _lines(answers, common, dialect),
        "nothing to enter; check again after work on belts, bed or feet: "
        f"{_check_command(slow, common)}"
        if verdict == "keep"
        else "enter the lines, set the acceleration in the slicer too (no higher than this for "
        "outer walls), print a cube; after work "
        f"on belts, bed or feet: {_check_command(slow, common)}",
        _headline(answers, common, half),
        _table(answers),
        tuple(_picture(a) for a in answers),
    )


def _check_command(one: AxisAnswer, acceleration: float) -> str:
    """The command that judges the setting on a fresh log."""
    now = in_force(one)
    return (
        f"`omphalon shaper check LOG --axis {one.reading.axis} --shaper {now.shaper} --frequency "
        f"{now.frequency_hz:.2f} --damping "
        f"{now.damping:.4f} --acceleration {acceleration:.0f}`"
    )


def _main(one: AxisAnswer) -> Mode:
    return max(one.reading.modes, key=lambda m: m.share / m.frequency_hz**2)


def _frequency_half(one: AxisAnswer) -> float:
    mode = _main(one)
    return in_force(one).frequency_hz * mode.frequency_half_hz / mode.frequency_hz


def _evidence(one: AxisAnswer) -> dict[str, Any]:
    return {
        "modes": [
            {
                "frequency_hz": m.frequency_hz,
                "damping": m.damping,
                "share": m.share,
                "spread": {
                    "frequency_hz": m.frequency_half_hz,
                    "damping": m.damping_half,
                    "share": m.share_half,
                },
            }
            for m in one.reading.modes
        ],
        "candidates": [
            {
                "shaper": c.shaper,
                "frequency_hz": c.frequency_hz,
                "damping": c.damping,
                "ringing_mm": c.ringing_mm,
                "rounding_mm": c.rounding_mm,
                "acceleration_mm_s2": c.acceleration_mm_s2,
                "limited_by": c.limited_by,
            }
            for c in one.found
        ],
        "present_mm_s2": None if one.present is None else one.present.acceleration_mm_s2,
        "unshaped_mm_s2": one.bare_mm_s2,
        "sensor_axis": one.reading.sensor_axis,
        "read_as": one.reading.told,
        "health": health_words(one.reading.modes),
    }


def _headline(answers: list[AxisAnswer], common: float, half: float) -> tuple[Shown, ...]:
    rows = [Shown("input shaper", ("present", "new", "", ""))]
    for a in answers:
        now, new = a.present, in_force(a)
        rows.append(
            Shown(
                f"axis {a.reading.axis}",
                (
                    "–" if now is None else f"{now.shaper} {now.frequency_hz:g} Hz",
                    f"{new.shaper} {new.frequency_hz:.1f} Hz",
                    f"± {digits(_frequency_half(a), least=2)} Hz",
                    f"damping {new.damping:.3f}",
                ),
            )
        )
    rows.append(
        Shown(
            "acceleration, both" if len(answers) > 1 else "acceleration",
            ("", f"{common:.0f}", f"± {digits(half, least=2)}", "mm/s²"),
        )
    )
    return tuple(rows)


def _table(answers: list[AxisAnswer]) -> tuple[Shown, ...]:
    rows = []
    for a in answers:
        rows.append(
            Shown(
                f"axis {a.reading.axis}",
                (
                    f"{a.reading.told}; sensor's {a.reading.sensor_axis}; "
                    f"{health_words(a.reading.modes)}",
                ),
            )
        )
        for m in a.reading.modes:
            rows.append(
                Shown(
                    "  mode",
                    (
                        f"{m.frequency_hz:.1f} ± {digits(m.frequency_half_hz, least=1)} Hz, "
                        "damping "
                        f"{m.damping:.3f} ± {digits(m.damping_half, least=1)}, share {m.share:.0%}",
                    ),
                )
            )
    rows.append(
        Shown(
            "allowed",
            tuple(x for a in answers for x in (f"axis {a.reading.axis}", "mm/s²", "limit")),
        )
    )
    for n in range(len(answers[0].found)):
        rows.append(
            Shown(
                f"  {answers[0].found[n].shaper}",
                tuple(
                    x
                    for a in answers
                    for x in (
                        f"{a.found[n].frequency_hz:.1f} Hz",
                        f"{a.found[n].acceleration_mm_s2:.0f}"
                        + ("*" if a.found[n] is a.chosen else ""),
                        a.found[n].limited_by,
                    )
                ),
            )
        )
    return tuple(rows)


def _swapped(answers: list[AxisAnswer]) -> list[Warned]:
    """Two logs of one sensor that show each other's axis."""
    seen = {a.reading.axis: a.reading.sensor_axis for a in answers}
    if seen == {"x": "y", "y": "x"}:
        return [
            Warned(
                "files-swapped", "the log given for x moves the sensor's y, and the one for y its x"
            )
        ]
    return []


def _lines(answers: list[AxisAnswer], common: float, dialect: Dialect) -> tuple[str, ...]:
    out = []
    for a in answers:
        if a.kept:
            continue
        c, axis = a.chosen, a.reading.axis
        out.append(
            dialect.line(
                "shaper",
                axis=axis.upper(),
                shaper=c.shaper,
                frequency=c.frequency_hz,
                damping=c.damping,
            )
            or f"; axis {axis}: shaper {c.shaper}, {c.frequency_hz:.2f} Hz, damping {c.damping:.4f}"
        )
    out.append(
        dialect.line("acceleration", acceleration=common) or f"; acceleration {common:.0f} mm/s²"
    )
    if any(not line.startswith(";") for line in out):
        out += [x for x in (dialect.line("store"), dialect.line("list")) if x is not None]
    return tuple(out)


def _picture(one: AxisAnswer) -> ShaperPicture:
    reading = one.reading
    grid = np.arange(15.0, 130.0, 0.5)
    curves = {
        c.shaper: allowed(c.shaper, reading.modes, one.limits, grid, c.damping)[0]
        for c in one.found
    }
    if reading.response is None:
        return ShaperPicture(
            reading.axis, None, None, None, reading.modes, grid, curves, in_force(one), reading.told
        )
    return ShaperPicture(
        reading.axis, *reading.curves(), reading.modes, grid, curves, in_force(one), reading.told
    )
