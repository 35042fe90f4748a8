"""Gains from summaries of cycles, in words."""

from __future__ import annotations

from omphalon.finding import Finding, Shown, digits
from omphalon.lines.dialect import Dialect
from omphalon.studies.answer import Retest
from omphalon.studies.heater.question import HeaterQuestion
from omphalon.studies.heater.summary import SummaryFit
from omphalon.studies.heater.words import UNITS, gain_settings, gain_spread
from omphalon.studies.wording import lines_for, plural, retest_finding, warned

REFUSALS = {
    "few-cycles": (
        "{count} cycles: fewer than {fewest} say nothing of how they repeat",
        "give --cycle once for each, or a log of the test",
    ),
    "no-such-swing": (
        "the reading swings by {swing:.2f} °C: no on/off test of a heater does",
        "look whether the numbers are LOW:HIGH:SECONDS, in °C",
    ),
    "cycles-differ": (
        "swing or period differ by {scatter:.0%} from cycle to cycle: a draught, a fan, or one "
        "that was written down wrong",
        "run the test again in calm air, and log it",
    ),
    "target-elsewhere": (
        "the cycles swing about {middle:.1f} °C, and the target is {target:g} °C",
        "give the target of the test",
    ),
}
ODDITIES = {
    "summary": "{count} summaries instead of a log: no model, no prediction, and the gains may be "
    "a third off"
}


def summary_finding(
    fit: SummaryFit | Retest, question: HeaterQuestion, dialect: Dialect
) -> Finding:
    """The answer, in words."""
    if isinstance(fit, Retest):
        return retest_finding("heater-fit", fit, REFUSALS, ODDITIES, ())
    gains, scaled, gain = fit.gains, fit.scaled, fit.ultimate_gain
    spread = {k: getattr(gains, k) * fit.relative_spread for k in UNITS}
    fields = {k: getattr(scaled, k) for k in UNITS}
    told = f"{fit.heater} gains: kp {scaled.kp:.5g}, ki {scaled.ki:.5g}, kd {scaled.kd:.5g}"
    goal = f"{fit.target_c:.0f}"
    return Finding(
        kind="heater-fit",
        verdict="change",
        because=f"{plural(len(fit.cycles), 'cycle')} of {fit.period_s:.1f} s that swing by ±"
        f"{fit.amplitude_c:.2f} °C make an ultimate gain of {fit.ultimate_gain:.3g} per °C; the "
        "gains are the careful ones that a table makes of it",
        means=f"the {fit.heater} comes to {goal} °C and holds it without swinging; slower than "
        "gains from a log would",
        settings=gain_settings(gains, fit.full_power),
        spread=gain_spread(spread, fit.full_power),
        evidence={
            "heater": fit.heater,
            "target_c": fit.target_c,
            "cycles_used": len(fit.cycles),
            "period_s": fit.period_s,
            "amplitude_c": fit.amplitude_c,
            "ultimate_gain": gain,
            "ultimate_gain_spread": gain * fit.relative_spread,
            "model": None,
            "predicted": None,
        },
        warnings=tuple(warned(fit.oddities, ODDITIES)),
        lines=lines_for(dialect, f"{fit.heater}-gains", told, **fields),
        next=f"enter and store the lines, log a heat-up to {goal} °C with a hold, and judge it: "
        f"`omphalon heater check LOG --target {goal}`; better gains come from a log of the test",
        headline=_headline(fit, question),
        table=(
            Shown(
                "cycles",
                (f"{len(fit.cycles)} of {fit.period_s:.1f} s, swing ±{fit.amplitude_c:.2f} °C",),
            ),
            Shown(
                "ultimate gain",
                (f"{gain:.3g} ± {gain * fit.relative_spread:.1g} per °C",),
            ),
        ),
    )


def _headline(fit: SummaryFit, question: HeaterQuestion) -> tuple[Shown, ...]:
    old = question.present
    heads = ("present", "new", "", f"(full power is {fit.full_power:g})")
    rows = [Shown(f"{fit.heater} at {fit.target_c:.0f} °C", heads)]
    for name, unit in UNITS.items():
        new = getattr(fit.scaled, name)
        half = fit.relative_spread * new
        before = "–" if old is None else digits(getattr(old, name))
        cells = (before, digits(new, half, least=2), "± " + digits(half, least=1), unit)
        rows.append(Shown(name, cells))
    return tuple(rows)
