"""The shaper's check in words: one log, or before and after."""

from __future__ import annotations

import shlex

from omphalon.finding import Finding, Shown, answer
from omphalon.studies.changes import Change, changes_document
from omphalon.studies.shaper.check import ShaperCheck, check_shaper
from omphalon.studies.shaper.question import ShaperCheckQuestion
from omphalon.studies.shaper.words import LIMITED, health_words, mode_document
from omphalon.units import digits

# a figure of a mode, or of the whole: its unit, what it is called, decimals at least
FIGURES = {"frequency_hz": ("Hz", "", 3), "damping": ("", "damping", 2), "share": ("", "share", 2)}


def shaper_check_answer(question: ShaperCheckQuestion) -> Finding:
    """Whether a setting still serves, in words."""
    logs = question.logs
    return answer("shaper-check", logs, lambda: _finding(check_shaper(question), question))


def _finding(check: ShaperCheck, question: ShaperCheckQuestion) -> Finding:
    last, best, use = check.last, check.best, question.acceleration_mm_s2
    allows = last.allowed.acceleration_mm_s2
    carded = last.reading.how.way == "card"
    how = "card fit" if carded else f"shaper fit --{question.axis}"
    command = f"`omphalon {how} {shlex.quote(last.source)}`"
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
        next="nothing; check again after work on belts, bed or feet"
        if check.verdict == "keep"
        else f"find the new setting: {command}; until then print no faster than {allows:.0f} mm/s²",
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
