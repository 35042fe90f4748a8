"""The pressure advance's answers in words."""

from __future__ import annotations

from functools import partial

from omphalon.finding import Finding, Shown, digits
from omphalon.lines.dialect import Dialect
from omphalon.picture import AdvancePicture, CornersPicture
from omphalon.recording import Readings
from omphalon.studies.advance.check import AdvanceCheck
from omphalon.studies.advance.fit import AdvanceFit, NextPrint
from omphalon.studies.advance.question import METHODS, AdvanceQuestion
from omphalon.studies.advance.sight import Sight
from omphalon.studies.advance.sight_words import REFUSALS as UNSEEN
from omphalon.studies.advance.sight_words import (
    laid_over,
    seen_evidence,
    seen_rows,
    seen_warnings,
)
from omphalon.studies.answer import Retest
from omphalon.studies.wording import lines_for, noted, plural, retest_finding, warned

REFUSALS = {
    "few": (
        "readings at {count} values are too few to see where it is best",
        "read five values or more, on both sides of the best",
    ),
    "flat": (
        "what was read does not depend on the value beyond the readings' scatter",
        "print over a wider range, with a faster fast speed, and read in side light",
    ),
    "rising": (
        "the bulge grows with the value, which cannot be",
        "write a bulging corner as positive, a starved one as negative; check the values",
    ),
    "starved": (
        "corners are starved from 0 s on: no advance could be low enough",
        "look at flow and retraction first, and whether something else already corrects the "
        "corners",
    ),
    "above": (
        "it is still getting better at the end of what was printed, {end:g} s",
        "print higher values: {command}",
    ),
    "below": (
        "it is still getting better at the start of what was printed, {end:g} s",
        "print lower values: {command}",
    ),
    "wide": (
        "the best value is known to ±{half} s only, where a corner shows {matters:g} s",
        "{more}{command}",
    ),
    "two-apart": (
        "the two readings disagree beyond what an eye gets wrong",
        "read the print once or twice more",
    ),
    "all-outside": (
        "all heights lie above the tower of {top:.0f} mm",
        "measure from the plate upwards, in mm",
    ),
    "scores-alike": (
        "all scores are {score:g}: nothing to choose by",
        "score them apart, best highest, worst lowest",
    ),
    "few-corners": (
        "{counted} {print}, {fewest} at least are needed",
        "measure the same three corners of both prints, without the seam's",
    ),
}
ODDITIES = {
    "outside": "{where}: {height:g} mm on a tower of {top:.0f} mm was left aside",
    "beyond": "the best value lies beyond {end:g} s",
    "left-out-here": "{where}: {seen:g} disagrees with its fellows beyond chance",
    "at-end": "the best value, {value:.3g} s, lies at the end of what was printed",
    "at-top": "a reading lies at the top of the tower",
    "two": "two values apart from each other look equally good",
    "unusual": "{value:.3g} s is unusual for a {drive} drive ({least:g} to {most:g} s)",
    "apart": "single readings lie {range:.2g} s apart",
}
USUAL_MM_S = 60.0  # an example
AFTER = (
    "keep the value with this filament, temperature and nozzle; shorten the retraction step by "
    "step, and judge a cube's corners: `omphalon advance check READINGS.csv`"
)


def advance_finding(
    fit: AdvanceFit | Retest,
    question: AdvanceQuestion,
    readings: Readings,
    dialect: Dialect,
    sight: Sight | None = None,
) -> Finding:
    """The answer of a fit, in words.

    Parameters
    ----------
    fit : what was decided
    question : what was asked
    readings : as they were read, for what was noted on the way
    dialect : templates of the lines to enter
    sight : the picture that the readings come from, if they do
    """
    told_by_picture = [] if sight is None else seen_warnings(sight)
    if isinstance(fit, Retest):
        filled = _filled(fit, question)
        both = [*told_by_picture, *noted(readings)]
        return retest_finding("advance-fit", filled, {**REFUSALS, **UNSEEN}, ODDITIES, both)
    value, half, refine = fit.value_s, fit.half_width_s, fit.refine
    told = (
        f"pressure advance {digits(value, half)} s (for your controller's own line: --line "
        "TEMPLATE)"
    )
    return Finding(
        kind="advance-fit",
        verdict=fit.verdict,
        because=_because(fit, question),
        means=_means(fit, question),
        settings={"advance_s": fit.setting_s},
        spread={"advance_s": half},
        evidence={
            "method": fit.readout.method,
            "best_s": value,
            "readings": len(fit.readout.values_s),
            "left_out": fit.left_out,
            "drive": fit.readout.drive.name,
            "refine": None
            if refine is None
            else {"from": refine.start_s, "to": refine.stop_s, "step": refine.step_s},
            **({} if sight is None else {"picture": seen_evidence(sight)}),
        },
        warnings=(*warned(fit.oddities, ODDITIES), *told_by_picture, *noted(readings)),
        lines=() if fit.verdict == "keep" else lines_for(dialect, "advance", told, advance=value),
        next=_next(fit, question),
        headline=_headline(fit, question),
        table=(*_table(fit, question), *(() if sight is None else seen_rows(sight))),
        picture=_picture(fit, question)
        if sight is None
        else partial(laid_over, sight, _picture(fit, question), fit.left_out),
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


def _filled(retest: Retest, question: AdvanceQuestion) -> Retest:
    """A refusal with the next print's command, and its numbers as they are shown."""
    facts = dict(retest.facts)
    wanted = facts.get("print")
    if isinstance(wanted, NextPrint):
        facts["command"] = command(wanted, question)
    if retest.reason == "wide":
        facts["half"] = digits(float(str(facts["half_width"])), least=2)
        facts["more"] = (
            f"read about {plural(int(str(facts['count'])), 'time')}, or "
            if facts["count"]
            else "print finer: "
        )
    return Retest(retest.reason, facts, retest.oddities)


def command(wanted: NextPrint, question: AdvanceQuestion) -> str:
    """The command that writes the next print, ready to paste.

    Parameters
    ----------
    wanted : the range and step of the print
    question : its drive and style stay
    """
    return (
        f"`omphalon advance plan --style {wanted.style} --drive {wanted.drive} --from "
        f"{wanted.start_s:.6g} --to {wanted.stop_s:.6g} --step {wanted.step_s:g} "
        f"{question.line_words} --out {wanted.style}.gcode`"
    )


def _because(fit: AdvanceFit, question: AdvanceQuestion) -> str:
    told = f"{digits(fit.value_s, fit.half_width_s)} ± {digits(fit.half_width_s, least=2)} s"
    if fit.verdict == "keep":
        return (
            f"the present {question.present_s:g} s lies within the error of the best value, {told}"
        )
    used = len(fit.readout.values_s) - len(fit.left_out)
    return f"{used} readings ({METHODS[fit.readout.method]}) put the best corner at {told}"


def _headline(fit: AdvanceFit, question: AdvanceQuestion) -> tuple[Shown, ...]:
    present = "–" if question.present_s is None else f"{question.present_s:g}"
    new = digits(fit.setting_s, fit.half_width_s)
    cells = (present, new, "± " + digits(fit.half_width_s, least=2), "s")
    return (Shown("advance", ("present", "new", "", "")), Shown("pressure advance", cells))


def _table(fit: AdvanceFit, question: AdvanceQuestion) -> tuple[Shown, ...]:
    read, drive, refine = fit.readout, fit.readout.drive, fit.refine
    used = len(read.values_s) - len(fit.left_out)
    span = f"printed {read.span[0]:g} to {read.span[1]:g} s"
    told = "" if question.drive else " (from the values)"
    usual = f"usually {drive.usual_s[0]:g} to {drive.usual_s[1]:g} s"
    further = (
        "none: the search is over"
        if refine is None
        else f"--from {refine.start_s:g} --to {refine.stop_s:g} --step {refine.step_s:g}"
    )
    return (
        Shown(
            "readings", (f"{used} of {len(read.values_s)} used, {METHODS[read.method]}; {span}",)
        ),
        Shown("one reading", (_one_reading(fit),)),
        Shown("drive", (f"{drive.name}{told}, {usual}",)),
        Shown("next print", (further,)),
    )


def _one_reading(fit: AdvanceFit) -> str:
    read, two = fit.readout, 2 * fit.best.deviation
    if read.by_eye:
        height = f", {two / read.step:.1f} mm of height" if read.of_heights else ""
        return f"± {two:.2g} s{height}, by what eyes can tell and by their scatter"
    return f"± {two:.2g} {'points' if read.method == 'score' else 'mm'} about the fitted curve"


def _next(fit: AdvanceFit, question: AdvanceQuestion) -> str:
    keeps = fit.verdict == "keep"
    if fit.refine is None:
        first = "nothing to enter" if keeps else "enter it"
        return f"{first}; the search is over: another print would not tell more. Then {AFTER}"
    first = "" if keeps else "enter it, or first "
    finer = command(fit.refine, question)
    return f"{first}print finer, if you want it surer: {finer}; then {AFTER}"


def _picture(fit: AdvanceFit, question: AdvanceQuestion) -> AdvancePicture:
    read, best = fit.readout, fit.best
    return AdvancePicture(
        values_s=read.values_s,
        seen=read.seen,
        read=METHODS[read.method],
        looked=read.by_eye,
        keep=best.keep,
        deviation=best.deviation,
        curve=best.curve,
        answer_s=fit.value_s,
        half_s=fit.half_width_s,
        span_s=read.span,
        present_s=question.present_s,
    )


def advance_check_finding(
    check: AdvanceCheck | Retest, seam: str | None, readings: Readings
) -> Finding:
    """The answer of a check, in words.

    Parameters
    ----------
    check : what was decided
    seam : the corner that holds the seam, if it was named
    readings : as they were read, for what was noted on the way
    """
    if isinstance(check, Retest):
        facts = {**check.facts, "counted": plural(int(str(check.facts["count"])), "corner")}
        filled = Retest(check.reason, facts, check.oddities)
        return retest_finding("advance-check", filled, REFUSALS, ODDITIES, noted(readings))
    before, after = check.before, check.after
    side = ("bulge", "small") if after.mean.value > 0 else ("lack", "large")
    again = (
        "print a tower or a ladder around the present value: `omphalon advance plan --style "
        "tower`; "
        f"corners now {side[0]}, so the value is too {side[1]}"
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
        warnings=tuple(noted(readings)),
        next=again
        if check.verdict == "change"
        else "nothing; check again with another filament, nozzle or temperature",
        table=_corner_table(check, seam),
        picture=CornersPicture(
            bulges_mm=(before.bulges_mm, after.bulges_mm),
            names=(before.names, after.names),
            means_mm=(before.mean.value, after.mean.value),
            half_widths_mm=(before.mean.half_width, after.mean.half_width),
            deviation_mm=check.reading_deviation_mm,
        ),
    )


def _judged(check: AdvanceCheck) -> str:
    told = f"{abs(check.gain_mm):.3f} ± {check.gain_half_mm:.3f} mm"
    left = f"{check.after.mean.value:+.3f} mm"
    if check.change == "better":
        rest = (
            f"; what is left, {left}, another print may take off"
            if check.left
            else ", and no fault is left that the caliper can tell"
        )
        return f"it helped: corners are better by {told}{rest}"
    return {
        "worse": f"it did not help: corners are worse than before by {told}",
        "clean": f"corners are clean within the caliper's error, before and after ({told} between "
        "them)",
        "same": f"it made no difference that can be told ({told}), and corners are still {left} "
        "off",
        "unclear": f"before and after cannot be told apart ({told}); what is left is {left}",
    }[check.change]


def _corner_table(check: AdvanceCheck, seam: str | None) -> tuple[Shown, ...]:
    before, after = check.before, check.after
    told = f"corner {seam} left out: the seam" if seam else "no seam corner was named (--seam)"
    one = f"± {2 * check.reading_deviation_mm:.3f} mm by the caliper; {told}"
    means = (f"{before.mean.value:+.3f}", f"{after.mean.value:+.3f}")
    sizes = (f"{before.size.value:.3f}", f"{after.size.value:.3f}")
    return (
        Shown("corners", ("before", "after", "")),
        Shown("mean bulge", (*means, f"± {after.mean.half_width:.3f} mm")),
        Shown("size of fault", (*sizes, f"± {after.size.half_width:.3f} mm")),
        Shown("one reading", (one,)),
    )
