"""The shaper's checks in words: one log, or before and after; a sensor at rest; bands that eyes
have read.
"""

from __future__ import annotations

import numpy as np

from omphalon.answers.commands import Prose, command, marked, prose
from omphalon.answers.finding import Finding, Shown, answer
from omphalon.base.arrays import Array
from omphalon.physics.rest import Stillness, ranges
from omphalon.recordings.recording import MotionLog
from omphalon.studies.changes import Change, changes_document
from omphalon.studies.shaper.bands import BandsCheck, BandsQuestion, check_bands
from omphalon.studies.shaper.check import (
    NOISIEST_MM_S2,
    SensorCheck,
    ShaperCheck,
    check_sensor,
    check_shaper,
)
from omphalon.studies.shaper.modes import SENSOR_AXES
from omphalon.studies.shaper.question import ShaperCheckQuestion
from omphalon.studies.shaper.words import AFTER_WORK, LIMITED, health_words, mode_document
from omphalon.tables.units import digits, plural

# a figure of a mode, or of the whole: its unit, what it is called, decimals at least
FIGURES = {"frequency_hz": ("Hz", "", 3), "damping": ("", "damping", 2), "share": ("", "share", 2)}
SENSOR_CHECK = "sensor-check"  # not shaper-check: it says nothing of a shaper's setting
FIT = prose("mount it rigidly and square, then log a sweep:", command("shaper plan"))
BANDS_CHECK = "bands-check"  # not shaper-check: no log judged the setting


def shaper_check_answer(question: ShaperCheckQuestion) -> Finding:
    """Whether a setting still serves, in words."""
    logs = question.logs
    return answer("shaper-check", logs, lambda: _finding(check_shaper(question), question))


def _finding(check: ShaperCheck, question: ShaperCheckQuestion) -> Finding:
    last, best, use = check.last, check.best, question.acceleration_mm_s2
    allows = last.allowed.acceleration_mm_s2
    carded = last.reading.how.way == "card"
    again = (
        command("card fit", last.source)
        if carded
        else command("shaper fit", **{question.axis: last.source})
    )
    before = None
    if len(check.logs) > 1:
        first = check.logs[0]
        modes = [mode_document(m) for m in first.reading.modes]
        before = {"modes": modes, "acceleration_mm_s2": first.allowed.acceleration_mm_s2}
    return Finding(
        kind="shaper-check",
        verdict=check.verdict,
        because=_check_because(check, question),
        evidence={
            "modes": [mode_document(m) for m in last.reading.modes],
            "acceleration_mm_s2": allows,
            "in_use_mm_s2": use,
            "best": {
                "shaper": best.shaper,
                "frequency_hz": best.frequency_hz,
                "damping": best.damping,
                "acceleration_mm_s2": best.acceleration_mm_s2,
            },
            "before": before,
            **({"changes": changes_document(check.changes)} if check.changes else {}),
        },
        warnings=check.remarks,
        next=prose(f"nothing; check again {AFTER_WORK}")
        if check.verdict == "keep"
        else prose(
            f"print no faster than {allows:.0f} mm/s² until then, and find the new setting:", again
        ),
        table=_check_table(check),
        picture=check,
    )


def _check_because(check: ShaperCheck, question: ShaperCheckQuestion) -> str:
    set_, use, best = question.setting, question.acceleration_mm_s2, check.best
    allows = check.last.allowed.acceleration_mm_s2
    keeps = check.verdict == "keep"
    on = "card" if check.last.reading.how.way == "card" else "log"
    end = f"{use:.0f} are in use" if keeps else f"less than the {use:.0f} in use"
    words = (
        f"{set_.shaper} at {set_.frequency_hz:g} Hz allows {allows:.0f} mm/s² on this {on}, {end}"
    )
    if keeps and check.better:
        words += f"; {best.shaper} at {best.frequency_hz:.1f} Hz would allow "
        words += f"{best.acceleration_mm_s2:.0f}"
    return words


def _check_table(check: ShaperCheck) -> tuple[Shown, ...]:
    rows = []
    for log in check.logs:
        modes = ", ".join(
            f"{m.frequency_hz:.1f} Hz ({m.share:.0%}, damping {m.damping:.3f})"
            for m in log.reading.modes
        )
        allows = f"allows {log.allowed.acceleration_mm_s2:.0f} mm/s²"
        limited = f"limited by {LIMITED[log.allowed.limited_by]}"
        rows.append(Shown(log.source, (f"{allows}, {limited}; {modes}",)))
    changed = [Shown("changed", (_changed(check),))] if check.changes else []
    return (*rows, *changed, Shown("frame", (health_words(check.last.reading),)))


def _changed(check: ShaperCheck) -> str:
    """What changed beyond chance, mode by mode; what else did not."""
    text = []
    for number, (before, _) in enumerate(check.pairs, 1):
        of = {c.pair.name.removeprefix(f"mode{number}_"): c for c in check.changes}
        words = [_change(of[name], name) for name in FIGURES if name in of and of[name].differs]
        if words:
            text.append(f"the mode at {before.frequency_hz:.1f} Hz {', '.join(words)}")
    if check.like:
        text += [f"the mode at {m.frequency_hz:.1f} Hz is gone" for m in check.gone]
        text += [f"one at {m.frequency_hz:.1f} Hz is new" for m in check.new]
    else:
        text += [
            f"the mode at {m.frequency_hz:.1f} Hz is in one of the two alone: a card does not show "
            "every mode"
            for m in (*check.gone, *check.new)
        ]
    allows = check.changes[-1]
    if allows.pair.name == "acceleration_mm_s2" and allows.differs:
        text.append(f"allows {allows.change:+.0f} ± {allows.half_width:.0f} mm/s²")
    return "; ".join(text) if text else "nothing beyond chance"


def _change(change: Change, name: str) -> str:
    unit, word, least = FIGURES[name]
    sign = "+" if change.change > 0 else "-"
    words = digits(abs(change.change), change.half_width, least)
    return f"{word} {sign}{words} ± {change.half_width:.1g} {unit}".strip()


def sensor_answer(log: MotionLog) -> Finding:
    """Whether a sensor at rest is fit for a sweep, in words."""
    return answer(SENSOR_CHECK, [log], lambda: _rest_finding(check_sensor(log), log))


def _rest_finding(check: SensorCheck, log: MotionLog) -> Finding:
    because, remedy = "fit for a sweep", FIT
    if check.unfit is not None:
        because = f"not fit for a sweep: {check.unfit.because}"
        remedy = marked(f"{check.unfit.remedy}; then log five seconds at rest again")
    return Finding(
        kind=SENSOR_CHECK,
        verdict=check.verdict,
        because=because,
        evidence=_evidence(check, log),
        warnings=check.remarks,
        next=remedy,
        table=_rest_table(check, log),
    )


def _by_axis(values: Array) -> dict[str, float]:
    return dict(zip(SENSOR_AXES, values.tolist(), strict=True))


def _each(values: Array, form: str) -> str:
    return " ".join(f"{name} {value:{form}}" for name, value in _by_axis(values + 0.0).items())


def _evidence(check: SensorCheck, log: MotionLog) -> dict[str, object]:
    still = check.still
    return {
        "gravity_mm_s2": still.size_mm_s2,
        "axes_mm_s2": _by_axis(still.gravity_mm_s2),
        "upright": SENSOR_AXES[still.upright],
        "tilt_deg": still.tilt_deg,
        "unit": log.unit,
        "noise_mm_s2_hz": _by_axis(still.density_mm_s2),
        "step_mm_s2": _by_axis(still.step_mm_s2),
        "ranges_g": {str(bits): g for bits, g in _ranges(still).items()},
        "hum": {"frequency_hz": still.hum_hz, "size_mm_s2": still.hum_mm_s2},
        "rate_hz": check.gaps.rate_hz,
        "lost": check.gaps.lost,
        "longest_gap_s": check.gaps.longest_s,
        "duration_s": check.duration_s,
    }


def _ranges(still: Stillness) -> dict[int, int]:
    return ranges(float(still.step_mm_s2.max()))


def _rest_table(check: SensorCheck, log: MotionLog) -> tuple[Shown, ...]:
    still, gaps, up = check.still, check.gaps, check.still.upright
    flat = " and ".join(SENSOR_AXES[k] for k in range(3) if k != up)
    signs = _each(np.round(still.gravity_mm_s2 / 1000, 2), "+.2f")
    return (
        Shown("gravity", (f"{still.size_mm_s2 / 1000:.2f} m/s²: {signs}; read in {log.unit}",)),
        Shown(
            "axes",
            (
                f"{SENSOR_AXES[up]} is upright, {still.tilt_deg:.0f}° off; {flat} lie flat, and a "
                "sweep tells which is which",
            ),
        ),
        Shown(
            "noise",
            (f"{_each(still.density_mm_s2, '.1f')} mm/s²/√Hz; a sweep bears {NOISIEST_MM_S2:.0f}",),
        ),
        Shown("step", (_step_words(still),)),
        Shown(
            "samples",
            (
                f"{gaps.rate_hz:.0f} a second for {check.duration_s:.1f} s, {gaps.lost:.1%} "
                f"missing, longest gap {1000 * gaps.longest_s:.1f} ms",
            ),
        ),
        Shown("hum", (f"{still.hum_mm_s2 / 1000:.3f} m/s² at {still.hum_hz:.0f} Hz at most",)),
    )


def _step_words(still: Stillness) -> str:
    found = _ranges(still)
    step = f"{still.step_mm_s2.max() / 1000:.3g} m/s²"
    if not found:
        return f"{step}; its range cannot be told from that"
    words = ", ".join(f"{g} g in {bits}" for bits, g in found.items())
    return f"{step}: its range, by the bits it counts in, is {words}; a sweep needs 8 g or more"


def bands_answer(question: BandsQuestion) -> Finding:
    """The answer of eyes on a ringing print, in words."""
    read = () if question.log is None else (question.log,)
    return answer(BANDS_CHECK, read, lambda: _bands_finding(check_bands(question), question))


def _bands_finding(check: BandsCheck, question: BandsQuestion) -> Finding:
    use, seen = question.acceleration_mm_s2, check.seen
    return Finding(
        kind=BANDS_CHECK,
        verdict=check.verdict,
        because=_because(check, question),
        evidence={
            "seen_mm_s2": seen.value,
            "seen_half_mm_s2": seen.half_width,
            "in_use_mm_s2": use,
            "ringing_mm": check.ringing_mm,
            "limit_reached_mm_s2": check.reached_mm_s2,
            "eye_limit_mm": check.eye_limit_mm,
            "eye_half_mm": check.eye_half_mm,
            "readings": len(question.seen_mm_s2),
        },
        warnings=check.remarks,
        next=_next(check, question),
        table=_bands_table(check, question),
    )


def _because(check: BandsCheck, question: BandsQuestion) -> str:
    seen, limit = check.seen, question.limits.ringing_mm
    words = (
        f"up to {seen.value - seen.half_width:.0f} mm/s² a print stays clean for your eye: ripple "
        f"starts to be seen at {seen.value:.0f} ± {seen.half_width:.0f}"
    )
    where = f"the ringing limit of {limit:g} mm is reached at {check.reached_mm_s2:.0f}"
    if check.verdict == "keep":
        return f"{words}, and {where}: eye and fit agree"
    return f"{words}, but {where}: your eye's own limit is {_limit(check)} mm"


def _limit(check: BandsCheck) -> str:
    return digits(check.eye_limit_mm, check.eye_half_mm, least=2)


def _next(check: BandsCheck, question: BandsQuestion) -> Prose:
    if check.verdict == "keep":
        return prose("nothing; print at the acceleration in use")
    limit = {"ringing-limit": f"{check.eye_limit_mm:.2g}"}
    return prose(
        "fit again with your own limit, and use it from then on:",
        command("shaper fit", **{question.axis: "LOG"}, **limit),
    )


def _bands_table(check: BandsCheck, question: BandsQuestion) -> tuple[Shown, ...]:
    words = ", ".join(f"{v:g}" for v in question.seen_mm_s2)
    limit = question.limits.ringing_mm
    source = (
        "worked out from the log"
        if check.from_log
        else f"as if the {limit:g} mm of --ringing-limit had set it; with LOG it is worked out"
    )
    return (
        Shown(
            "highest clean band", (f"{words} mm/s² ({plural(len(question.seen_mm_s2), 'look')})",)
        ),
        Shown("bands", (f"{question.bands.words} mm/s²",)),
        Shown("in use", (f"{question.acceleration_mm_s2:g} mm/s²",)),
        Shown("ringing there", (f"{check.ringing_mm:.3g} mm, {source}",)),
        Shown("eye's limit", (f"{_limit(check)} ± {check.eye_half_mm:.1g} mm",)),
    )
