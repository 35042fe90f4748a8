"""The extruder's answer in words."""

from __future__ import annotations

from typing import Any

import numpy as np

from omphalon.finding import Finding, Shown, digits
from omphalon.lines.dialect import Dialect
from omphalon.picture import StepsPicture
from omphalon.recording import Readings
from omphalon.studies.answer import Retest
from omphalon.studies.extruder.fit import MATTERS, ExtruderFit
from omphalon.studies.extruder.question import ExtruderQuestion
from omphalon.studies.wording import lines_for, noted, plural, retest_finding, warned, wide_remedy

REFUSALS = {
    "swapped": (
        "every fed length is the same round number and the asked ones are not: the two look "
        "swapped",
        "put what was commanded under asked, what was measured under fed",
    ),
    "wide": (
        "the fed length is known to ±{half_width:.1%} only: an error of {matters:.1%}, which a "
        "print shows, could hide in it",
        "{remedy}",
    ),
}
ODDITIES = {
    "one": "one reading, trusted to ±{error:.2g} mm",
    "slip": "the fed length falls by {fall:.1%} from {slow:g} to {fast:g} mm/s",
    "theory": "the parts make {built:.1f} steps per mm, the readings {new:.1f}",
    "large": "{share:.0%} is much for wear or tolerance",
}
SHOWN_RUNS = 8


def extruder_finding(
    fit: ExtruderFit | Retest,
    question: ExtruderQuestion,
    readings: Readings,
    dialect: Dialect,
    checking: bool = False,
) -> Finding:
    """The answer of a fit, or of a check, in words.

    Parameters
    ----------
    fit : what was decided
    question : what was asked
    readings : as they were read, for what was noted on the way
    dialect : templates of the lines to enter
    checking : whether a check is told, not a fit
    """
    kind = "extruder-check" if checking else "extruder-fit"
    if isinstance(fit, Retest):
        return retest_finding(kind, _with_remedy(fit), REFUSALS, ODDITIES, noted(readings))
    keeps, half = fit.verdict == "keep", fit.half_width
    return Finding(
        kind=kind,
        verdict=fit.verdict,
        because=_because(fit, question.steps),
        means="" if checking else _means(fit),
        settings={} if checking else {"steps_per_mm": fit.steps},
        spread={} if checking else {"steps_per_mm": half},
        evidence=_evidence(fit, question),
        warnings=(*warned(fit.oddities, ODDITIES), *noted(readings)),
        lines=()
        if keeps or checking
        else lines_for(
            dialect, "steps", f"E steps per mm {fit.steps:.4f}", axis="E", steps=fit.steps
        ),
        next=_next(fit, checking),
        headline=() if checking else _headline(fit, question),
        table=_table(fit),
        picture=_picture(fit),
    )


def _evidence(fit: ExtruderFit, question: ExtruderQuestion) -> dict[str, Any]:
    offset = fit.offset
    evidence = {
        "best": {"steps_per_mm": fit.best_steps},
        "ratio": fit.scale.value,
        "ratio_spread": fit.scale.half_width,
        "runs": fit.used,
        "expected_mm": float(fit.runs.asked_mm[fit.keep].mean()),
        "fed_mm": float(fit.runs.fed_mm[fit.keep].mean()),
        "reading_deviation_mm": fit.scale.deviation,
        "offset_mm": None if offset is None else offset.value,
        "offset_spread_mm": None if offset is None else offset.half_width,
        "left_out": [r.where for r, k in zip(fit.runs.rows, fit.keep, strict=True) if not k],
    }
    if question.parts is not None:
        evidence["theory_steps_per_mm"] = question.parts.steps_per_mm
    return evidence


def _headline(fit: ExtruderFit, question: ExtruderQuestion) -> tuple[Shown, ...]:
    new, half = digits(fit.steps, fit.half_width), digits(fit.half_width, least=2)
    return (
        Shown("extruder", ("present", "new", "", "")),
        Shown("steps per mm", (f"{question.steps:g}", new, f"± {half}", "per mm")),
    )


def _with_remedy(retest: Retest) -> Retest:
    if retest.reason != "wide":
        return retest
    return Retest(
        "wide",
        {**retest.facts, "remedy": wide_remedy(retest.facts["count"], "runs")},
        retest.oddities,
    )


def _because(fit: ExtruderFit, present: float) -> str:
    asked, fed = fit.runs.asked_mm[fit.keep], fit.runs.fed_mm[fit.keep]
    got = (
        f"{fed.mean():.2f} mm of {asked.mean():g} mm came, a ratio of {fit.scale.value:.4f} ± "
        f"{fit.scale.half_width:.4f}"
    )
    if fit.verdict == "keep":
        return (
            f"{got}: what is missing from 1 is smaller than the error of marks and rule, and what "
            "may hide in it, up to "
            f"{MATTERS:.1%}, is not seen on a print"
        )
    if len(fed) == 1 or np.ptp(asked) == 0:
        return (
            f"{got}: {present:g} × {asked.mean():g} ÷ {fed.mean():.10g} = "
            f"{present / fit.scale.value:.10g}"
        )
    return f"{got}: {present:g} ÷ {fit.scale.value:.8g} = {present / fit.scale.value:.10g}"


def _means(fit: ExtruderFit) -> str:
    if fit.verdict == "keep":
        return (
            f"as much plastic comes as is asked for, to {fit.scale.half_width:.1%}: no print shows "
            "the rest"
        )
    off = fit.scale.value - 1
    less, more = "gaps between lines and weak walls", "bulging lines and a scraping nozzle"
    return (
        f"now {abs(off):.1%} too {'little' if off < 0 else 'much'} plastic comes: "
        f"{less if off < 0 else more}"
    )


def _table(fit: ExtruderFit) -> tuple[Shown, ...]:
    rows = [Shown("readings", ("asked", "fed", "ratio", ""))]
    runs = list(zip(fit.runs.asked_mm, fit.runs.fed_mm, fit.keep, strict=True))
    for n, (asked, fed, kept) in enumerate(runs[:SHOWN_RUNS]):
        rows.append(
            Shown(
                f"  {n + 1}",
                (
                    f"{asked:g} mm",
                    f"{fed:.2f} mm",
                    f"{fed / asked:.4f}",
                    "" if kept else "left out",
                ),
            )
        )
    if len(runs) > SHOWN_RUNS:
        rows.append(Shown("", (f"and {len(runs) - SHOWN_RUNS} more", "", "", "")))
    rows.append(
        Shown(
            "together",
            (
                plural(fit.used, "run"),
                "",
                f"{fit.scale.value:.4f}",
                f"± {fit.scale.half_width:.4f}",
            ),
        )
    )
    if fit.offset is not None:
        rows.append(
            Shown(
                "zero error",
                (
                    f"{fit.offset.value:+.2f} ± {fit.offset.half_width:.2f} mm at every length, "
                    "kept out of "
                    "the steps",
                ),
            )
        )
    return tuple(rows)


def _next(fit: ExtruderFit, checking: bool) -> str:
    if fit.verdict == "keep":
        return (
            "nothing to enter; measure again after a change of drive wheel, motor or filament "
            "path. Flow comes next"
        )
    if checking:
        return "run `omphalon extruder fit` on these readings"
    return (
        "enter and store, switch off and on, feed once more and judge it with what is left then: "
        "`omphalon extruder check "
        f"--steps {fit.steps:.2f} --asked {fit.runs.asked_mm[0]:g} --mark MM --left MM`"
    )


def _picture(fit: ExtruderFit) -> StepsPicture:
    count = len(fit.runs.fed_mm)
    return StepsPicture(
        title="Filament: fed against asked",
        asked_mm=fit.runs.asked_mm,
        got_mm=fit.runs.fed_mm,
        deviation_mm=np.full(count, fit.runs.known.whole),
        keep=fit.keep,
        scale=fit.scale.value,
        half_width=fit.scale.half_width,
        offset_mm=np.full(count, 0.0 if fit.offset is None else fit.offset.value),
    )
