"""The answer about bands that eyes have read in words."""

from __future__ import annotations

from omphalon.finding import Finding, Shown, answer
from omphalon.studies.shaper.bands import BandsCheck, BandsQuestion, check_bands
from omphalon.units import digits, plural

KIND = "bands-check"  # not shaper-check: no log judged the setting


def bands_answer(question: BandsQuestion) -> Finding:
    """The answer of eyes on a ringing print, in words."""
    read = () if question.log is None else (question.log,)
    return answer(KIND, read, lambda: _finding(check_bands(question), question))


def _finding(check: BandsCheck, question: BandsQuestion) -> Finding:
    use, seen = question.acceleration_mm_s2, check.seen
    return Finding(
        kind=KIND,
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
        table=_table(check, question),
    )


def _because(check: BandsCheck, question: BandsQuestion) -> str:
    seen, limit = check.seen, question.limits.ringing_mm
    words = f"ripple starts to be seen at {seen.value:.0f} ± {seen.half_width:.0f} mm/s²"
    where = f"the ringing limit of {limit:g} mm is reached at {check.reached_mm_s2:.0f}"
    if check.verdict == "keep":
        return f"{words}, and {where}: eye and fit agree"
    return f"{words}, but {where}: your eye's own limit is {_limit(check)} mm"


def _limit(check: BandsCheck) -> str:
    return digits(check.eye_limit_mm, check.eye_half_mm, least=2)


def _next(check: BandsCheck, question: BandsQuestion) -> str:
    if check.verdict == "keep":
        return "nothing; print at the acceleration in use"
    axis = question.axis
    return (
        f"fit again with your own limit: `omphalon shaper fit --{axis} LOG --ringing-limit "
        f"{check.eye_limit_mm:.2g}`, and use it from then on"
    )


def _table(check: BandsCheck, question: BandsQuestion) -> tuple[Shown, ...]:
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
