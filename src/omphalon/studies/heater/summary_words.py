"""Gains from summaries of cycles, in words."""

from __future__ import annotations

from collections.abc import Sequence

from omphalon.answers.finding import Finding, Shown, answer
from omphalon.answers.remarks import Refusal
from omphalon.lines.dialect import Dialect
from omphalon.physics.loop import Gains
from omphalon.studies.heater.gains_words import (
    UNITS,
    against_own,
    free_of,
    gain_scales,
    gain_settings,
    gains_headline,
    gains_next,
    loop_means,
    predicted_evidence,
    predicted_rows,
)
from omphalon.studies.heater.question import HeaterQuestion
from omphalon.studies.heater.summary import CycleSummary, SummaryFit, fit_summary
from omphalon.tables.units import digits, plural


def summary_answer(
    cycles: Sequence[CycleSummary],
    question: HeaterQuestion,
    powers: tuple[float, float],
    dialect: Dialect,
    reported_gain: float | None = None,
) -> Finding:
    """Gains from summaries of cycles, in words. `reported_gain`: the ultimate gain that the
    controller printed, in its scale.
    """
    return answer(
        "heater-fit",
        (),
        lambda: _finding(
            fit_summary(cycles, question, powers, dialect.gain_scale, reported_gain),
            question,
            dialect,
        ),
    )


def gains_alone_answer(own: Gains, gain_scale: float) -> Finding:
    """What three gains say where nothing was measured."""

    def find() -> Finding:
        integral = digits(own.kp / own.ki) if own.ki > 0 else "–"
        derivative = digits(own.kd / own.kp) if own.kp > 0 else "–"
        facts = {"integral": integral, "derivative": derivative}
        raise Refusal("gains-alone", kp=own.kp, scale=gain_scale, **facts)

    return answer("heater-fit", (), find)


def _own_rows(fit: SummaryFit) -> tuple[Shown, ...]:
    """The gains that the controller made of its test, and by which table."""
    if fit.own is None:
        return ()
    words = ", ".join(f"{name} {digits(getattr(fit.own, name))}" for name in UNITS)
    return (
        Shown("controller's own", (words + (f", by {fit.own_table}" if fit.own_table else ""),)),
    )


def _finding(fit: SummaryFit, question: HeaterQuestion, dialect: Dialect) -> Finding:
    gains, scaled, gain = fit.gains, fit.scaled, fit.ultimate_gain
    own_gains = fit.own and {name: getattr(fit.own, name) for name in UNITS}
    own = gain * fit.full_power
    half = own * fit.relative_spread
    fields = {k: getattr(scaled, k) for k in UNITS}
    room = {k: fit.full_power * free for k, free in free_of(fit).items()}
    words = f"{fit.heater} gains: kp {scaled.kp:.5g}, ki {scaled.ki:.5g}, kd {scaled.kd:.5g}"
    keeps = fit.verdict == "keep"
    return Finding(
        kind="heater-fit",
        verdict=fit.verdict,
        because=_because(fit, own),
        means=loop_means(fit),
        settings=gain_settings(fit.heater, gains),
        also=gain_scales(gains, fit.full_power),
        evidence={
            "heater": fit.heater,
            "target_c": fit.target_c,
            "cycles_used": len(fit.cycles),
            "period_s": fit.period_s,
            "amplitude_c": fit.amplitude_c,
            "ultimate_gain": gain,
            "ultimate_gain_spread": gain * fit.relative_spread,
            "own": own_gains and {**own_gains, "table": fit.own_table or None},
            "model": None,
            **predicted_evidence(fit.tuned),
        },
        warnings=fit.remarks,
        lines=() if keeps else dialect.entering((f"{fit.heater}-gains", words, fields, room)),
        next=gains_next(fit),
        headline=gains_headline(fit, question),
        table=(
            Shown(
                "cycles",
                (f"{len(fit.cycles)} of {fit.period_s:.1f} s, swing ±{fit.amplitude_c:.2f} °C",),
            ),
            Shown("ultimate gain", (f"{digits(own, half, 2)} ± {digits(half, least=2)} per °C",)),
            *_own_rows(fit),
            *predicted_rows(fit.tuned),
        ),
    )


def _because(fit: SummaryFit, own: float) -> str:
    how = (
        f"{plural(len(fit.cycles), 'cycle')} of {fit.period_s:.1f} s that swing by "
        f"±{fit.amplitude_c:.2f} °C make an ultimate gain of {own:.3g} per °C"
    )
    tuned = fit.tuned
    if fit.verdict == "keep":
        told = f"the best gains are better on {tuned.sure:.0%} of the heaters that swing so"
        return f"{told}, too few to change; {how}{against_own(tuned)}"
    return f"{how}; these gains suit all heaters that swing so{against_own(tuned)}"
