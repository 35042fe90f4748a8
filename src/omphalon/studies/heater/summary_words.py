"""Gains from summaries of cycles, in words."""

from __future__ import annotations

from collections.abc import Sequence

from omphalon.answers.commands import command, said
from omphalon.answers.finding import Finding, Shown, answer
from omphalon.answers.remarks import Refusal
from omphalon.lines.dialect import Dialect
from omphalon.physics.loop import Gains
from omphalon.studies.heater.fit import times
from omphalon.studies.heater.question import HeaterQuestion
from omphalon.studies.heater.summary import CycleSummary, SummaryFit, fit_summary
from omphalon.studies.heater.words import UNITS, gain_scales, gain_settings
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
    room = {k: getattr(scaled, k) * fit.relative_spread for k in UNITS}
    words = f"{fit.heater} gains: kp {scaled.kp:.5g}, ki {scaled.ki:.5g}, kd {scaled.kd:.5g}"
    goal = f"{fit.target_c:.0f}"
    keeps = _near(fit, question)
    present = question.present
    kept = gains if present is None else times(present, 1 / fit.full_power)
    return Finding(
        kind="heater-fit",
        verdict="keep" if keeps else "change",
        because="the present gains lie within what summaries can tell: "
        * keeps
        + f"{plural(len(fit.cycles), 'cycle')} of {fit.period_s:.1f} s that swing by ±"
        f"{fit.amplitude_c:.2f} °C make an ultimate gain of {own:.3g} per °C; the "
        "gains are the careful ones that a table makes of it",
        means=f"the {fit.heater} comes to {goal} °C and holds it without swinging; slower than "
        "gains from a log would",
        settings=gain_settings(fit.heater, kept if keeps else gains),
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
            "predicted": None,
        },
        warnings=fit.remarks,
        lines=() if keeps else dialect.entering((f"{fit.heater}-gains", words, fields, room)),
        next=said(
            f"enter and store the lines, log a heat-up to {goal} °C with a hold, and judge it:",
            command("heater check", "LOG", target=goal),
            "better gains come from a log of the test",
        ),
        headline=_headline(fit, question),
        table=(
            Shown(
                "cycles",
                (f"{len(fit.cycles)} of {fit.period_s:.1f} s, swing ±{fit.amplitude_c:.2f} °C",),
            ),
            Shown("ultimate gain", (f"{digits(own, half, 2)} ± {digits(half, least=2)} per °C",)),
            *_own_rows(fit),
        ),
    )


def _near(fit: SummaryFit, question: HeaterQuestion) -> bool:
    """Whether the present gains lie within the half widths of the new ones."""
    old = question.present
    return old is not None and all(
        abs(getattr(old, k) / getattr(fit.scaled, k) - 1) <= fit.relative_spread for k in UNITS
    )


def _headline(fit: SummaryFit, question: HeaterQuestion) -> tuple[Shown, ...]:
    old = question.present
    heads = ("present", "new", f"(full power is {fit.full_power:g})")
    rows = [Shown(f"{fit.heater} at {fit.target_c:.0f} °C", heads)]
    for name, unit in UNITS.items():
        new = getattr(fit.scaled, name)
        half = fit.relative_spread * new
        before = "–" if old is None else digits(getattr(old, name))
        rows.append(Shown(name, (before, digits(new, half, least=2), unit)))
    return tuple(rows)
