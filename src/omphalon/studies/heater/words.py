"""The heater's fit in words; the check's stand in `check_words`."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import asdict, replace
from typing import Any

from omphalon.answers.finding import Finding, Shown, answer
from omphalon.lines.dialect import Dialect
from omphalon.physics.loop import Gains
from omphalon.recordings.recording import TemperatureLog
from omphalon.studies.heater.excited import Excited
from omphalon.studies.heater.fit import HeaterFit, fit_heater, times
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
from omphalon.tables.units import digits, plural


def heater_answer(
    logs: Sequence[TemperatureLog], question: HeaterQuestion, dialect: Dialect
) -> Finding:
    """Gains from one or more logs of a heater, in words."""
    found = answer(
        "heater-fit",
        logs,
        lambda: _finding(fit_heater(logs, question, dialect.gain_scale), dialect),
    )
    return read_from(found, logs)


def read_from(found: Finding, logs: Sequence[TemperatureLog]) -> Finding:
    """An answer; one that refuses says which columns were read as what."""
    if found.verdict != "retest":
        return found
    rows = (
        Shown("read", (f"{log.source}: {', '.join(log.headers)}",)) for log in logs if log.headers
    )
    return replace(found, table=tuple(rows))


def _finding(fit: HeaterFit, dialect: Dialect) -> Finding:
    question = fit.question
    keeps, gains = fit.verdict == "keep", fit.gains
    dialect = dialect.with_loop(full_power=fit.full_power, period_s=question.loop_period_s)
    return Finding(
        kind="heater-fit",
        verdict=fit.verdict,
        because=_because(fit),
        means=loop_means(fit),
        settings=gain_settings(fit.heater, gains),
        also=gain_scales(gains, fit.full_power),
        evidence=_evidence(fit),
        warnings=fit.remarks,
        lines=() if keeps else dialect.entering(*_wanted(fit, dialect)),
        next=gains_next(fit),
        headline=gains_headline(fit, question),
        table=_table(fit, question),
        picture=fit,
    )


Wanted = tuple[str, str, dict[str, object], dict[str, float]]


def _wanted(fit: HeaterFit, dialect: Dialect) -> Iterator[Wanted]:
    """The gains to be entered: one set, and a set for each target where the controller keeps them
    apart.
    """
    name = f"{fit.heater}-gains"
    apart = fit.tuned.spans if f"{name}-at" in dialect.templates else ()
    room = {k: fit.full_power * free for k, free in free_of(fit).items()}
    if name in dialect.templates or not apart:
        yield name, *_gains(fit, fit.gains), room
    for one in apart:
        words, fields = _gains(fit, one.alone)
        yield f"{name}-at", words, {**fields, "target": one.target_c}, {}


def _gains(fit: HeaterFit, gains: Gains) -> tuple[str, dict[str, object]]:
    """Gains for a power of 0…1 in words, and as fields in the controller's scale."""
    own = times(gains, fit.full_power)
    words = f"{fit.heater} gains: kp {own.kp:.5g}, ki {own.ki:.5g}, kd {own.kd:.5g}"
    return words, {k: getattr(own, k) for k in UNITS}


def _because(fit: HeaterFit) -> str:
    masses = "one-mass" if fit.model.masses == 1 else "two-mass"
    where = f"{fit.cycles} cycles" + ("" if len(fit.tests) == 1 else f" of {len(fit.tests)} logs")
    if fit.excited is not None:
        where = f"{plural(len(fit.excited.stretches), 'stretch')} without a test"
    how = f"{where} fit a {masses} model (residual {fit.model.rms_c:.2f} °C)"
    tuned = fit.tuned
    if fit.verdict == "keep" and tuned.worth is not None:
        unsure = f"the best gains are better on {tuned.sure:.0%} of the heaters that the log allows"
        return (
            f"{unsure}, too few to change; {how}"
            if tuned.gained
            else f"no figure would improve visibly; {how}"
        )
    gained = ", ".join(
        f"{GAINED[name][0]} {new:.{places}f} for {old:.{places}f} {unit}"
        for name, old, new in tuned.gained[:2]
        for _, unit, places in (GAINED[name],)
    )
    better = f": {gained}; better on {tuned.sure:.0%} of the heaters that the log allows"
    return f"{how}{better if gained else ''}{against_own(fit.tuned)}"


# figure → phrase for its gain, unit, decimals
GAINED = {
    "overshoot_c": ("overshoot", "°C", 2),
    "dip_c": ("dip with the fan", "°C", 2),
    "ripple_c": ("ripple", "°C", 2),
    "hold_error_c": ("mean error of the hold", "°C", 2),
    "fan_error_c": ("mean error with the fan", "°C", 2),
    "arrival_s": ("arrival after", "s", 0),
    "settle_s": ("settled after", "s", 0),
}


def _evidence(fit: HeaterFit) -> dict[str, Any]:
    test, m, tuned = fit.read, fit.model.model, fit.tuned
    spreads = ("gain_c", "time_constant_s", "lag_s", "dead_time_s")
    limit, limit_half = (values.tolist() for values in tuned.ultimate)
    halves = dict(zip(("gain", "period_s"), limit_half, strict=True))
    return {
        "heater": fit.heater,
        "best": {"kp": tuned.new.kp, "ki": tuned.new.ki, "kd": tuned.new.kd},
        "target_c": fit.tuned.loop.target_c,
        "tested_c": test.target_c,
        "logs": max(len(fit.tests), 1),
        **_cycle_evidence(fit),
        "noise_c": test.noise_c,
        "display_step_c": test.quantum_c,
        "model": {
            "masses": fit.model.masses,
            "gain_c": m.gain_c,
            "time_constant_s": m.time_constant_s,
            "lag_s": m.lag_s,
            "dead_time_s": m.dead_time_s,
            "ambient_c": m.ambient_c,
            "loss_growth": m.loss_growth,
            "second_time_constant_s": m.second_s,
            "zero_s": m.zero_s,
            "rms_c": fit.model.rms_c,
            "holding_power": m.holding_power,
            "spread": {name: fit.model.spread(name) for name in spreads},
        },
        "model_limit": {
            **dict(zip(("gain", "period_s"), limit, strict=True)),
            **({"spread": halves} if fit.power_logged else {}),
        },
        **predicted_evidence(tuned),
    }


def _cycle_evidence(fit: HeaterFit) -> dict[str, Any]:
    """The cycles of a test; of an ordinary log its stretches, and where its model would turn."""
    if fit.cycle is not None:
        return {
            "cycles_used": fit.cycles,
            "period_s": fit.cycle.period_s,
            "amplitude_c": fit.tests[0].swing_c,
            "ultimate_gain": fit.cycle.gain,
            "ultimate_gain_spread": fit.cycle.gain_spread if fit.power_logged else None,
            "cycle_phase_deg": fit.cycle.phase_deg,
        }
    assert fit.excited is not None
    (gain, period), (spread, _) = fit.tuned.ultimate
    return {
        "cycles_used": 0,
        "period_s": period,
        "amplitude_c": None,
        "ultimate_gain": gain,
        "ultimate_gain_spread": spread,
        "stretches": [asdict(s) for s in fit.excited.stretches],
        "losses": [
            {"at_s": at, "share": e.value, "spread": e.half_width} for at, e in fit.excited.losses
        ],
        "power_logged": "mean" if fit.excited.averaged else "sample",
    }


def assumed(fit: HeaterFit, question: HeaterQuestion) -> str:
    """What was taken for granted, in one line: fan, scale of power, the controller's own ways."""
    fan = "on" if question.fan_blew(fit.heater) else "off"
    words = "" if question.fan_on is not None else " (--fan if not)"
    if question.fan_unsure(fit.heater):
        fan, words = "on or off", " (--fan says which, and sharpens both gains and ranges)"
    if fit.excited is not None:
        fan, words = "on" if question.fan_on else "off", " (--fan if not)"
        if fit.excited.cooling is not None:
            fan, words = "off", f", then on: it takes {fit.excited.cooling.value:.0%} more heat"
    scale, loop = fit.log_scale, fit.tuned.loop
    acts = (
        f"from {loop.band_c:g} °C below the target on"
        if question.band_c
        else "at every distance from the target"
    )
    power = "no power in the log" if scale is None else f"{scale:g} is full power in the log"
    return (
        f"part fan {fan} in the log{words}; {power}, {fit.full_power:g} in the gains; the "
        f"controller works every {loop.period_s:g} s, its derivative filtered over "
        f"{loop.filter_s:g} s, up to {loop.limit:.0%} of power, {acts}"
    )


def _measured(fit: HeaterFit, value: float, half: float, unit: str) -> str:
    """A value with its half width; without the power in the log the half width holds too seldom."""
    if not fit.power_logged:
        return f"about {digits(value, half, 2)} {unit}"
    return f"{digits(value, half, 2)} ± {digits(half, least=2)} {unit}"


def _table(fit: HeaterFit, question: HeaterQuestion) -> tuple[Shown, ...]:
    """The evidence as a small table."""
    test, m = fit.read, fit.model.model
    full = fit.full_power
    (gain, period), (gain_half, period_half) = fit.tuned.ultimate
    limit = (
        f"{_measured(fit, full * gain, full * gain_half, 'per °C')}, period "
        f"{_measured(fit, period, period_half, 's')}, dead time about {m.dead_time_s:.2g} s"
    )
    masses = "one mass" if fit.model.masses == 1 else "two masses"
    holds = f"{m.holding_power:.0%} of full power holds {test.target_c:.0f} °C"
    return (
        *(_stretch_rows(fit.excited) if fit.excited is not None else _cycle_rows(fit)),
        Shown("model", (f"{masses}, {holds}",)),
        Shown("model's limit", (limit,)),
        *predicted_rows(fit.tuned),
        Shown("assumed", (assumed(fit, question),)),
    )


def _cycle_rows(fit: HeaterFit) -> tuple[Shown, ...]:
    """What a test's cycles are."""
    test, cycle, full = fit.tests[0], fit.cycle, fit.full_power
    assert cycle is not None
    cycles = f"{test.found.count} of {digits(cycle.period_s, cycle.period_spread_s, 2)} ± "
    cycles += f"{digits(cycle.period_spread_s, least=2)} s"
    swing = f"swing ±{test.swing_c:.2f} °C, noise {test.noise_c:.2f} °C"
    ultimate = _measured(fit, full * cycle.gain, full * cycle.gain_spread, "per °C")
    return (
        Shown("cycles", (f"{cycles}, {swing}",)),
        Shown("ultimate gain", (f"{ultimate}, phase {cycle.phase_deg:.0f}°",)),
    )


TELLS = {
    "rests": "the room's temperature, the noise",
    "heats up": "power, masses, growing losses",
    "holds": "holding power, delay at its start",
    "falls to it": "losses, delay",
    "cools": "losses",
}
MOST_STRETCHES = 6  # that are shown; the document has all


def _stretch_rows(excited: Excited) -> list[Shown]:
    """The stretches of an ordinary log with what each tells, and the changes of loss."""
    shown = sorted(excited.stretches, key=lambda s: s.start_s - s.end_s)[:MOST_STRETCHES]
    rows = [Shown("stretches", ("from", "to", "power", "tells"))]
    for one in sorted(shown, key=lambda s: s.start_s):
        span = (f"{one.start_s:.0f} s", f"{one.end_s:.0f} s", f"{one.power:.0%}")
        rows.append(Shown(f"  {one.kind}", (*span, TELLS[one.kind])))
    for at, share in excited.clear_losses:
        words = f"at {at:.0f} s, by {share.value:+.0%} ± {share.half_width:.0%} of what is lost"
        rows.append(Shown("change point", (words,)))
    logged = "a mean since the last report" if excited.averaged else "a sample at each report"
    return [*rows, Shown("power logged", (f"as {logged}, by what follows it better",))]
