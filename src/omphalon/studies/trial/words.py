"""The answer of a stepped print."""

from __future__ import annotations

from omphalon.answers.commands import Command, Prose, command, prose
from omphalon.answers.finding import Finding, Shown, answer
from omphalon.recordings.recording import Readings
from omphalon.studies.trial.fit import TrialFit, fit_trial
from omphalon.studies.trial.question import TrialQuestion
from omphalon.tables.units import digits, plural

READ_BY = {
    "picks": "by eye: the block that looks best",
    "range": "by eye: the range that looks good",
    "scores": "by the blocks' scores",
}


def trial_answer(readings: Readings, question: TrialQuestion) -> Finding:
    """The best value of a stepped print, or why it holds none."""
    return answer("trial-fit", (), lambda: _finding(fit_trial(readings, question)))


def _finding(fit: TrialFit) -> Finding:
    asked, present = fit.question.asked, fit.question.present
    row = asked.varied
    value = digits(fit.value, fit.half_width)
    half = f"± {digits(fit.half_width, least=2)}"
    low = max(fit.value - fit.half_width, row.lowest)
    high = min(fit.value + fit.half_width, row.highest)
    read = (
        f"{fit.method}, {plural(fit.looks, 'value')}"
        if fit.question.clean is None
        else "a range, " + " to ".join(f"{end:g}" for end in fit.question.clean)
    )
    serves = (
        f"; the present {row.shown(present)} lies in it"
        if fit.verdict == "keep" and present is not None
        else ""
    )
    return Finding(
        kind="trial-fit",
        verdict=fit.verdict,
        because=f"{READ_BY[fit.method]}, between {digits(low, fit.half_width)} and "
        f"{f'{digits(high, fit.half_width)} {row.unit}'.rstrip()}{serves}",
        also={"vary": asked.vary, "value": fit.value},
        evidence={
            "vary": asked.vary,
            "value": fit.value,
            "half_width": fit.half_width,
            "method": fit.method,
            "looks": fit.looks,
            "printed": [asked.start, asked.stop, asked.step],
        },
        headline=(
            Shown("trial", ("present", "new", "", "")),
            Shown(row.words, ("–" if present is None else f"{present:g}", value, half, row.unit)),
        ),
        table=(
            Shown(
                "blocks",
                (f"{len(asked.values)}, {asked.start:g} to {asked.stop:g}, {asked.step:g} apart",),
            ),
            Shown("read as", (read,)),
        ),
        next=_next(fit),
    )


def _next(fit: TrialFit) -> Prose:
    asked, row = fit.question.asked, fit.question.asked.varied
    value = f"{fit.value:.4g}"
    parts: list[str | Command] = ["nothing to set"]
    if fit.verdict == "change":
        parts = [
            f"set {row.words} to {row.shown(float(value))} where you slice, print something of "
            "your own, and record the result:",
            command("bench trial", changed=f"{asked.vary} {value}", outcome="TEXT", score="N"),
        ]
    step = asked.step / 2
    if step >= row.finest * 0.999:
        middle = round(fit.value / step) * step
        low, high = max(middle - 3 * step, row.lowest), min(middle + 3 * step, row.highest)
        levels = f"{low:.6g}:{high:.6g}:{step:.6g}"
        parts += ["or a finer print:", command("trial plan", levels, vary=asked.vary, out="FILE")]
    return prose(*parts)
