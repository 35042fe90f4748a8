"""The flow's answer in words."""

from __future__ import annotations

from typing import Any

import numpy as np

from omphalon.finding import Finding, Shown, digits
from omphalon.lines.dialect import Dialect
from omphalon.picture import RepeatsPicture
from omphalon.recording import Readings
from omphalon.studies.answer import Retest
from omphalon.studies.flow import filament_words
from omphalon.studies.flow.filament_words import filament_evidence, filament_rows, headline_of
from omphalon.studies.flow.fit import FlowFit
from omphalon.studies.flow.question import FlowQuestion
from omphalon.studies.wording import lines_for, noted, plural, retest_finding, warned, wide_remedy

REFUSALS = {
    "no-such-flow": (
        "walls of {middle:.2f} mm where {expected:g} mm is expected{hint}: no flow is that far off",
        "check --expected (the width of one line) and the caliper's unit",
    ),
    "few": (
        "{counted}: a wall differs from place to place more than a caliper reads",
        "measure all four sides, in two heights",
    ),
    "wide": (
        "the walls' mean is known to ±{half_width:.3f} mm only: an error of {matters:.3f} mm, "
        "which a wall shows, could hide "
        "in it",
        "{remedy}",
    ),
}
OF_WIDTHS = filament_words.REFUSALS.keys() - REFUSALS.keys()
ODDITIES = {
    "large": "{share:.0%} is much for flow: set the steps of the extruder first",
    **filament_words.ODDITIES,
    "sides": "the walls of side {thick} are {gap:.3f} mm thicker than those of side {thin}",
}


def flow_finding(
    fit: FlowFit | Retest,
    question: FlowQuestion,
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
    kind = "flow-check" if checking else "flow-fit"
    if isinstance(fit, Retest) and fit.reason in OF_WIDTHS:
        return filament_words.width_refusal(fit, readings)
    if isinstance(fit, Retest):
        facts = {
            **fit.facts,
            "counted": plural(len(readings.rows), "wall reading"),
            "remedy": wide_remedy(fit.facts.get("count")),
        }
        return retest_finding(
            kind, Retest(fit.reason, facts, fit.oddities), REFUSALS, ODDITIES, noted(readings)
        )
    keeps, half, mean = fit.verdict == "keep", fit.half_width, fit.mean
    return Finding(
        kind=kind,
        verdict=fit.verdict,
        because=_because(fit, question),
        means="" if checking else _means(fit, question),
        settings={} if checking else {"flow": fit.flow},
        spread={} if checking else {"flow": half},
        evidence=_evidence(fit, question),
        warnings=(*warned(fit.oddities, ODDITIES), *noted(readings)),
        lines=()
        if keeps or checking
        else lines_for(
            dialect,
            "flow",
            f"flow multiplier {fit.flow:.4f} ({100 * fit.flow:.1f} %)",
            flow=fit.flow,
        ),
        next=_next(fit, question, checking),
        headline=() if checking else headline_of(question.flow, fit.flow, half),
        table=_table(fit, question),
        picture=RepeatsPicture(
            values_mm=fit.walls.values_mm,
            keep=fit.keep,
            deviation_mm=mean.deviation,
            mean_mm=mean.value,
            half_width_mm=mean.half_width,
            goal_mm=question.wall_mm,
            title="Walls against the expected thickness",
            of="wall",
            goal="expected",
        ),
    )


def _evidence(fit: FlowFit, question: FlowQuestion) -> dict[str, Any]:
    mean, one = fit.mean, fit.filament
    return {
        "best": {"flow": fit.best_flow},
        "mean_mm": mean.value,
        "mean_spread_mm": mean.half_width,
        "readings": len(fit.keep),
        "left_out": [r.where for r, k in zip(fit.walls.rows, fit.keep, strict=True) if not k],
        "expected_mm": question.wall_mm,
        **({} if one is None else filament_evidence(one)),
        **({} if one is None else {"flow_at_true_width": fit.flow * one.section.value}),
    }


def _because(fit: FlowFit, question: FlowQuestion) -> str:
    if fit.verdict == "keep":
        return (
            f"walls of {fit.mean.value:.3f} ± {fit.mean.half_width:.3f} mm hold the expected "
            f"{question.wall_mm:g} mm within "
            "their error"
        )
    return (
        f"{question.flow:g} × {question.wall_mm:g} ÷ {fit.mean.value:.8g} = {fit.flow:.8g}, "
        "from "
        f"{plural(int(fit.keep.sum()), 'wall')}"
    )


def _means(fit: FlowFit, question: FlowQuestion) -> str:
    off = fit.mean.value - question.wall_mm
    if fit.verdict == "keep":
        return f"walls come out as thick as they were drawn, to {fit.mean.half_width:.3f} mm"
    more = off > 0
    return (
        f"walls are {abs(off):.3f} mm too {'thick' if more else 'thin'} now, by "
        f"{abs(off) / question.wall_mm:.1%} of the plastic: "
        + ("holes close up and tops bulge" if more else "walls part and tops show gaps")
    )


def _table(fit: FlowFit, question: FlowQuestion) -> tuple[Shown, ...]:
    good = fit.walls.values_mm[fit.keep]
    return (
        Shown(
            "walls", (f"{len(good)} of {len(fit.keep)}, {good.min():.2f} to {good.max():.2f} mm",)
        ),
        Shown(
            "mean",
            (
                f"{fit.mean.value:.3f} ± {fit.mean.half_width:.3f} mm, expected "
                f"{question.wall_mm:g} mm",
            ),
        ),
        Shown(
            "one reading",
            (
                f"± {2 * fit.mean.deviation:.3f} mm, by caliper, squeeze and their scatter of "
                f"{np.std(good, ddof=1):.3f} mm",
            ),
        ),
        Shown(
            "assumed",
            (f"single walls {question.wall_mm:g} mm wide, steps of the extruder already set",),
        ),
        *(() if fit.filament is None else (*filament_rows(fit.filament), _not_twice(fit))),
    )


def _not_twice(fit: FlowFit) -> Shown:
    """The walls hold the filament's width already: what is left of the flow without it."""
    one = fit.filament
    assert one is not None
    return Shown(
        "not twice",
        (
            f"the walls hold the width already; with {one.width_mm.value:.3f} mm entered in the "
            f"slicer the multiplier is {digits(fit.flow * one.section.value, fit.half_width)}",
        ),
    )


def _next(fit: FlowFit, question: FlowQuestion, checking: bool) -> str:
    if fit.verdict == "keep":
        return "nothing to enter; measure again for another filament"
    if checking:
        return "run `omphalon flow fit` on these readings"
    return (
        "enter it for this filament, print the cube again and judge it: `omphalon flow check "
        f"--flow {fit.flow:.4f} --expected {question.wall_mm:g} --wall MM --wall MM --wall MM`"
    )
