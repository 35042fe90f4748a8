"""The pressure advance's answers in words."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import asdict, replace
from typing import Any

from omphalon.answers.commands import Prose, command, prose
from omphalon.answers.finding import Finding, Shown, answer
from omphalon.answers.settings import Setting
from omphalon.lines.dialect import Dialect
from omphalon.recordings.recording import GreyPicture, Readings
from omphalon.studies.advance.check import AdvanceCheck, check_advance
from omphalon.studies.advance.fit import AdvanceFit, fit_advance
from omphalon.studies.advance.question import METHODS, AdvanceQuestion
from omphalon.studies.advance.silhouette import Silhouette, silhouette
from omphalon.tables.units import digits, plural

KIND = "advance-fit"

USUAL_MM_S = 60.0  # an example
SEEN_MM = 0.005  # of a line's width: nobody sees less
AFTER = (
    "keep the value with this filament, temperature and nozzle; shorten the retraction step by "
    "step, and check a cube's corners:"
)
CHECK = command("advance check", "READINGS.csv")


def advance_answer(readings: Readings, question: AdvanceQuestion, dialect: Dialect) -> Finding:
    """The pressure advance, in words."""
    return answer(
        KIND, [readings], lambda: _finding(fit_advance(readings, question), question, dialect)
    )


def tower_answer(
    picture: GreyPicture,
    plan: Mapping[str, Any],
    question: AdvanceQuestion,
    dialect: Dialect,
    seen: Callable[[Silhouette], None],
) -> Finding:
    """The pressure advance off a tower's outline, in words.

    `picture`: along its diagonal. `seen`: is handed what was read in the picture.
    """

    def find() -> Finding:
        sight = silhouette(picture, plan)
        found = advance_answer(sight.readings, sight.asked(question), dialect)
        seen(sight)
        um = 1000 / sight.px_a_mm
        read = f"of {len(sight.height_mm)} layers, {um:.0f} µm a pixel; where the corner is passed "
        read += f"slowly nothing bulges: ± {2 * sight.shared_mm:.3f} mm"
        picked = {"um_a_pixel": um, "layers": len(sight.height_mm), "deviation_mm": sight.read_mm}
        return replace(
            found,
            evidence={**found.evidence, "picture": picked},
            table=(*found.table, Shown("outline", (read,))),
            picture=found.picture and (found.picture[0], sight),
        )

    return answer(KIND, (), find)


def _finding(fit: AdvanceFit, question: AdvanceQuestion, dialect: Dialect) -> Finding:
    value, half, refine = fit.value_s, fit.half_width_s, fit.refine
    words = f"pressure advance {digits(value, half)} s"
    if not dialect.in_slicer("advance"):
        words += " (for your controller's own line: --line TEMPLATE)"
    return Finding(
        kind=KIND,
        verdict=fit.verdict,
        because=_because(fit, question),
        means=_means(fit, question),
        settings=(Setting("advance", "advance", fit.setting_s, half),),
        evidence={
            "method": fit.readout.method,
            "best_s": value,
            "best": {"advance_s": value},
            "readings": len(fit.readout.values_s),
            "left_out": fit.left_out,
            "drive": fit.readout.drive.name,
            **({"speeds": [asdict(one) for one in fit.speeds]} if fit.speeds else {}),
            "refine": None
            if refine is None
            else {"from": refine.start_s, "to": refine.stop_s, "step": refine.step_s},
        },
        warnings=fit.remarks,
        lines=()
        if fit.verdict == "keep"
        else dialect.entering(("advance", words, {"advance": value}, {"advance": half})),
        next=_next(fit),
        headline=_headline(fit, question),
        table=_table(fit, question),
        picture=(fit, None),
    )


def _means(fit: AdvanceFit, question: AdvanceQuestion) -> str:
    """By how much line a corner gets too much or too little: the lead that is missing, at a usual
    speed.
    """
    present, speed = question.present_s, USUAL_MM_S
    if fit.verdict == "change" and present is not None:
        off = fit.value_s - present
        return (
            f"at {speed:g} mm/s a corner gets {digits(speed * abs(off), least=2)} mm of line too "
            f"{'much' if off > 0 else 'little'} now"
        )
    return (
        f"with this value a corner at {speed:g} mm/s gets the line that it needs, to "
        f"{digits(speed * fit.half_width_s, least=1)} mm of it"
    )


def _because(fit: AdvanceFit, question: AdvanceQuestion) -> str:
    words = f"{digits(fit.value_s, fit.half_width_s)} ± {digits(fit.half_width_s, least=2)} s"
    if fit.verdict == "keep":
        return (
            f"the present {question.present_s:g} s lies within the error of the best value, {words}"
        )
    read = fit.readout
    if read.clean:
        part = "middle" if read.drive.name == "direct" else "lower third"
        low, high = (f"{v:.4g}" for v in read.values_s)
        why = "" if part == "middle" else ": behind a tube starved corners show later than fat ones"
        return f"corners look clean from {low} to {high} s; the {part} of that is {words}{why}"
    if fit.speeds:
        slow, fast = fit.speeds[0].fast_mm_s, fit.speeds[-1].fast_mm_s
        if any(remark.said == "speeds-apart" for remark in fit.remarks):
            return f"lines at {slow:g} mm/s need {words}, and faster ones another value"
        return f"one value serves lines from {slow:g} to {fast:g} mm/s: {words}"
    used = plural(len(read.values_s) - len(fit.left_out), "reading")
    return f"{used} ({METHODS[read.method]}) put the best corner at {words}"


def _headline(fit: AdvanceFit, question: AdvanceQuestion) -> tuple[Shown, ...]:
    present = "–" if question.present_s is None else f"{question.present_s:g}"
    new = digits(fit.setting_s, fit.half_width_s)
    cells = (present, new, "± " + digits(fit.half_width_s, least=2), "s")
    return (Shown("advance", ("present", "new", "", "")), Shown("pressure advance", cells))


def _table(fit: AdvanceFit, question: AdvanceQuestion) -> tuple[Shown, ...]:
    read, drive, refine = fit.readout, fit.readout.drive, fit.refine
    used = len(read.values_s) - len(fit.left_out)
    span = f"printed {read.span[0]:g} to {read.span[1]:g} s"
    if question.stop_s is None and (read.clean or read.method == "values"):
        span = "with --print FILE it is known what was printed, and the interval narrower"
    if fit.rounds > 1:
        span = f"of the last of {fit.rounds} rounds; {span}"
    words = "" if question.drive else " (from the values)"
    usual = f"usually {drive.usual_s[0]:g} to {drive.usual_s[1]:g} s"
    further = (
        "none: the search is over"
        if refine is None
        else f"--from {refine.start_s:g} --to {refine.stop_s:g} --step {refine.step_s:g}"
    )
    return (
        *_speed_rows(fit),
        Shown(
            "readings", (f"{used} of {len(read.values_s)} used, {METHODS[read.method]}; {span}",)
        ),
        Shown("one reading", (_one_reading(fit),)),
        Shown("drive", (f"{drive.name}{words}, {usual}",)),
        Shown("next print", (further,)),
    )


def _speed_rows(fit: AdvanceFit) -> tuple[Shown, ...]:
    """The best value at each of several fast speeds, and what the one that is set makes there."""
    if not fit.speeds:
        return ()
    rows = [Shown("speeds", ("best", "", f"at {digits(fit.setting_s, fit.half_width_s)} s"))]
    for one in fit.speeds:
        way = "wide" if one.off_mm > 0 else "narrow"
        off = f"{abs(one.off_mm):.3f} mm too {way} when slowing"
        if abs(one.off_mm) < SEEN_MM:
            off = "right"
        own = digits(one.value_s, one.half_width_s)
        half = f"± {digits(one.half_width_s, least=2)} s"
        rows.append(Shown(f"  {one.fast_mm_s:g} mm/s", (own, half, off)))
    return tuple(rows)


def _one_reading(fit: AdvanceFit) -> str:
    read, two = fit.readout, 2 * fit.best.deviation
    if read.by_eye:
        height = f", {two / read.step:.1f} mm of height" if read.of_heights else ""
        return f"± {two:.2g} s{height}, by what eyes can tell and by their scatter"
    return f"± {two:.2g} {'points' if read.method == 'score' else 'mm'} about the fitted curve"


def _next(fit: AdvanceFit) -> Prose:
    keeps = fit.verdict == "keep"
    if fit.refine is None:
        first = "nothing to enter" if keeps else "enter it"
        words = f"{first}; the search is over: another print would not tell more. Then {AFTER}"
        return prose(words, CHECK)
    first = "" if keeps else "enter it, or first "
    return prose(
        f"{first}print finer, if you want it surer:", fit.refine.command, f"then {AFTER}", CHECK
    )


def advance_check_answer(
    readings: Readings, seam: str | None, resolution_mm: float | None
) -> Finding:
    """Whether corners are better than before, in words.

    `seam`: the corner that holds the seam, if it was named. `resolution_mm`: of the caliper; None:
    by the digits.
    """
    return answer(
        "advance-check",
        [readings],
        lambda: _check_finding(check_advance(readings, seam, resolution_mm), seam),
    )


def _check_finding(check: AdvanceCheck, seam: str | None) -> Finding:
    before, after = check.before, check.after
    side = ("bulge", "small") if after.mean.value > 0 else ("lack", "large")
    again = prose(
        f"corners now {side[0]}, so the value is too {side[1]}: print a tower or a ladder around "
        "the present value",
        command("advance plan", style="tower"),
    )
    return Finding(
        kind="advance-check",
        verdict=check.verdict,
        because=_judged(check),
        evidence={
            "before_mm": before.mean.value,
            "after_mm": after.mean.value,
            "gain_mm": check.gain_mm,
            "gain_spread_mm": check.gain_half_mm,
            "corners": [len(before.bulges_mm), len(after.bulges_mm)],
        },
        next=again
        if check.verdict == "change"
        else prose("nothing; check again with another filament, nozzle or temperature"),
        table=_corner_table(check, seam),
        picture=check,
    )


def _judged(check: AdvanceCheck) -> str:
    words = f"{abs(check.gain_mm):.3f} ± {check.gain_half_mm:.3f} mm"
    left = f"{check.after.mean.value:+.3f} mm"
    if check.change == "better":
        rest = (
            f"; what is left, {left}, another print may take off"
            if check.left
            else ", and no fault is left that the caliper can tell"
        )
        return f"it helped: corners are better by {words}{rest}"
    return {
        "worse": f"it did not help: corners are worse than before by {words}",
        "clean": f"corners are clean within the caliper's error, before and after ({words} between "
        "them)",
        "same": f"it made no difference that can be told ({words}), and corners are still {left} "
        "off",
        "unclear": f"before and after cannot be told apart ({words}); what is left is {left}",
    }[check.change]


def _corner_table(check: AdvanceCheck, seam: str | None) -> tuple[Shown, ...]:
    before, after = check.before, check.after
    words = f"corner {seam} left out: the seam" if seam else "no seam corner was named (--seam)"
    one = f"± {2 * check.reading_deviation_mm:.3f} mm by the caliper; {words}"
    means = (f"{before.mean.value:+.3f}", f"{after.mean.value:+.3f}")
    sizes = (f"{before.size.value:.3f}", f"{after.size.value:.3f}")
    return (
        Shown("corners", ("before", "after", "")),
        Shown("mean bulge", (*means, f"± {after.mean.half_width:.3f} mm")),
        Shown("size of fault", (*sizes, f"± {after.size.half_width:.3f} mm")),
        Shown("one reading", (one,)),
    )
