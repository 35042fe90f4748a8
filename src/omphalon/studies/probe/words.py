"""The probe's answer in words."""

from __future__ import annotations

from omphalon.finding import Finding, Shown
from omphalon.picture import RepeatsPicture
from omphalon.recording import Readings
from omphalon.studies.answer import Retest
from omphalon.studies.probe.fit import ProbeFit
from omphalon.studies.probe.question import ProbeQuestion
from omphalon.studies.wording import noted, plural, retest_finding, warned, wide_remedy

REFUSALS = {
    "few": (
        "{counted}: the feel of paper differs from time to time",
        "take three or more with --drag; triggers alone tell only how well the probe repeats",
    ),
    "far": (
        "the paper drags {shift:+.1f} mm from where it should: no offset is that far off",
        "write the heights in mm from the present zero, and look whether the probe is mounted as "
        "it was",
    ),
    "wide": (
        "the zero is known to ±{half_width:.2f} mm only: an error of {matters:.2f} mm, which a "
        "first layer shows, could hide "
        "in it",
        "{remedy}",
    ),
}
FIRST_LAYER_MM = 0.2  # an example
ODDITIES = {
    "left-out-drag": "{where} disagrees with its fellows beyond chance",
    "large": "{shift:+.2f} mm is more than a setting should make up for: move the sensor instead",
    "sign": "the offset would change its sign: the sensor sits on the wrong side of the nozzle's "
    "height, or a height was written "
    "with the wrong sign",
    "unsteady": "the probe repeats to {repeat:.3f} mm only: no zero is better than that",
}


def probe_finding(
    fit: ProbeFit | Retest, question: ProbeQuestion, readings: Readings, checking: bool = False
) -> Finding:
    """The answer of a fit, or of a check, in words.

    Parameters
    ----------
    fit : what was decided
    question : what was asked
    readings : as they were read, for what was noted on the way
    checking : whether a check is told, not a fit
    """
    kind = "probe-check" if checking else "probe-fit"
    if isinstance(fit, Retest):
        facts = {**fit.facts, "remedy": wide_remedy(fit.facts.get("count"), "drags")}
        if fit.reason == "few":
            facts["counted"] = plural(int(str(fit.facts["count"])), "drag height")
        return retest_finding(
            kind, Retest(fit.reason, facts, fit.oddities), REFUSALS, ODDITIES, noted(readings)
        )
    keeps, mean, repeat = fit.verdict == "keep", fit.mean, fit.repeatability_mm
    return Finding(
        kind=kind,
        verdict=fit.verdict,
        because=f"paper of {question.paper_mm:g} mm drags at {mean.value:.3f} ± "
        f"{mean.half_width:.3f} mm: the zero is "
        + ("where it should be, within its error" if keeps else f"off by {fit.shift_mm:+.3f} mm"),
        means="" if checking else _means(fit),
        settings={} if checking else {"offset_mm": fit.offset_mm},
        spread={} if checking else {"offset_mm": fit.half_width_mm},
        evidence={
            "repeatability_mm": repeat,
            "readings": len(fit.keep),
            "left_out": int((~fit.keep).sum()),
            "shift_mm": fit.shift_mm,
            "best": {"offset_mm": question.offset_mm + fit.shift_mm},
        },
        warnings=(*warned(fit.oddities, ODDITIES), *noted(readings)),
        lines=() if keeps or checking else (f"; nozzle-to-probe offset {fit.offset_mm:.3f} mm",),
        next=_next(fit, question, checking),
        headline=() if checking else _headline(fit, question),
        table=_table(fit, question),
        picture=RepeatsPicture(
            values_mm=fit.heights.drags_mm,
            keep=fit.keep,
            deviation_mm=mean.deviation,
            mean_mm=mean.value,
            half_width_mm=mean.half_width,
            goal_mm=question.paper_mm,
            title="Where the paper drags, against its thickness",
            of="height",
            goal="paper",
        ),
    )


def _means(fit: ProbeFit) -> str:
    if fit.verdict == "keep":
        return f"a first layer is as thick as it was sliced, to {fit.mean.half_width:.2f} mm"
    left = FIRST_LAYER_MM - fit.shift_mm
    told = f"a first layer of {FIRST_LAYER_MM:g} mm has {max(left, 0.0):.2f} mm of room now: "
    return told + ("it is squeezed" if fit.shift_mm > 0 else "it hardly sticks")


def _headline(fit: ProbeFit, question: ProbeQuestion) -> tuple[Shown, ...]:
    present, new, half = question.offset_mm, fit.offset_mm, fit.half_width_mm
    unit = "mm; more lifts the nozzle"
    return (
        Shown("probe", ("present", "new", "", "")),
        Shown("offset", (f"{present:.3f}", f"{new:.3f}", f"± {half:.3f}", unit)),
    )


def _table(fit: ProbeFit, question: ProbeQuestion) -> tuple[Shown, ...]:
    used, repeat = int(fit.keep.sum()), fit.repeatability_mm
    repeats = (
        "–" if repeat is None else f"{repeat:.3f} mm over {len(fit.heights.triggers_mm)} triggers"
    )
    return (
        Shown("drags", (f"{used} of {len(fit.keep)}, mean {fit.mean.value:.3f} mm",)),
        Shown("paper", (f"{question.paper_mm:g} mm",)),
        Shown("probe repeats to", (repeats,)),
    )


def _next(fit: ProbeFit, question: ProbeQuestion, checking: bool) -> str:
    if fit.verdict == "keep":
        return "nothing to enter"
    if checking:
        return "run `omphalon probe fit` on these heights"
    return (
        "enter and store the offset, probe again and judge it with fresh drags: `omphalon probe "
        "check "
        f"--offset {fit.offset_mm:.3f} --paper {question.paper_mm:g} --drag MM --drag MM --drag MM`"
    )
