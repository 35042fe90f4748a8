"""The heater's fit in words; the check's stand in `check_words`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, replace
from typing import Any

from omphalon.answers.commands import Said, command, said
from omphalon.answers.finding import Finding, Shown, answer
from omphalon.answers.settings import Setting
from omphalon.lines.dialect import Dialect
from omphalon.physics.loop import Gains
from omphalon.recordings.recording import TemperatureLog
from omphalon.studies.heater.excited import Excited
from omphalon.studies.heater.fit import HeaterFit, fit_heater
from omphalon.studies.heater.question import HeaterQuestion
from omphalon.studies.heater.tuning import OWN, promised_range
from omphalon.tables.parts import parts_of
from omphalon.tables.units import digits, plural

UNITS = {"kp": "per °C", "ki": "per °C·s", "kd": "per °C/s"}


def heater_answer(
    logs: Sequence[TemperatureLog], question: HeaterQuestion, dialect: Dialect
) -> Finding:
    """Gains from one or more logs of a heater, in words."""
    question = question.of_logs(logs)
    found = answer(
        "heater-fit",
        logs,
        lambda: _finding(fit_heater(logs, question, dialect.gain_scale), question, dialect),
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


def _finding(fit: HeaterFit, question: HeaterQuestion, dialect: Dialect) -> Finding:
    keeps, gains, scaled = fit.verdict == "keep", fit.gains, fit.scaled
    words = f"{fit.heater} gains: kp {scaled.kp:.5g}, ki {scaled.ki:.5g}, kd {scaled.kd:.5g}"
    fields = {k: getattr(scaled, k) for k in UNITS}
    room = {k: fit.full_power * free for k, free in _free(fit).items()}
    dialect = dialect.with_loop(full_power=fit.full_power, period_s=question.loop_period_s)
    return Finding(
        kind="heater-fit",
        verdict=fit.verdict,
        because=_because(fit),
        means=_means(fit),
        settings=gain_settings(fit.heater, gains),
        also=gain_scales(gains, fit.full_power),
        evidence=_evidence(fit),
        warnings=fit.remarks,
        lines=() if keeps else dialect.entering((f"{fit.heater}-gains", words, fields, room)),
        next=_next(fit),
        headline=_headline(fit, question),
        table=_table(fit, question),
        picture=fit,
    )


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
    return f"{how}{better if gained else ''}{_against_own(fit)}"


def _against_own(fit: HeaterFit) -> str:
    """How the gains that the controller made of its test compare."""
    if OWN not in fit.tuned.labels:
        return ""
    own = _promised(fit, fit.tuned.labels.index(OWN))
    if own["ripple_c"] > UNSTABLE_C:
        return "; the controller's own gains would swing"
    over, here = own["overshoot_c"], _promised(fit, 0)["overshoot_c"]
    if over < here + OWN_MISSED_C:
        return "; the controller's own gains overshoot no more"
    return f"; the controller's own gains overshoot by {over:.1f} °C, these by {here:.1f}"


OWN_MISSED_C = 0.2  # of overshoot: less is not worth a word
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
DIGITS = 0.03  # share of a gain that its last digits show
UNSTABLE_C = 1.5  # ripple of a loop that runs on nothing but its sensor's noise


def gain_settings(heater: str, gains: Gains) -> tuple[Setting, ...]:
    """Gains for a power of 0…1. They are a choice, not an estimate, and have no half width."""
    return tuple(Setting(f"{heater}-gains", k, getattr(gains, k)) for k in UNITS)


def gain_scales(gains: Gains, full_power: float) -> dict[str, Any]:
    """The same in the controller's scale and as times, for a document.

    `gains`: for a power of 0…1. `full_power`: what stands for it in the controller's gains.
    """
    own = {k: getattr(gains, k) * full_power for k in UNITS}
    return {
        "scaled": {**own, "full_power": full_power},
        "integral_time_s": gains.kp / gains.ki if gains.ki else None,
        "derivative_time_s": gains.kd / gains.kp,
    }


def _free(fit: HeaterFit) -> dict[str, float]:
    """How far each gain can move before it does worse; for a power of 0…1."""
    best = fit.tuned.new
    return {
        name: min(getattr(best, name) - low, high - getattr(best, name))
        for name, (low, high) in fit.tuned.as_good.items()
    }


def _evidence(fit: HeaterFit) -> dict[str, Any]:
    test, m, tuned = fit.read, fit.model.model, fit.tuned
    promised = {label: _promised(fit, n) for n, label in enumerate(tuned.labels)}
    new = promised.pop("new gains")
    ranges = {
        name: promised_range(getattr(tuned.doubt, name)[:, 0]) for name in ("overshoot_c", "dip_c")
    }
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
        "does_as_well": dict(tuned.as_good),
        "predicted": {**new, "range": ranges},
        "predicted_otherwise": promised,
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


def _means(fit: HeaterFit) -> str:
    promised = {label: _promised(fit, n) for n, label in enumerate(fit.tuned.labels)}
    new, old = promised["new gains"], promised.get("present gains")
    words = f"the {fit.heater} swings by {new['ripple_c']:.2g} °C while it prints"
    if fit.heater == "hotend":
        words += f" and dips by {new['dip_c']:.1f} °C when the fan comes on"
    if old is None:
        return words
    dips = f" and {old['dip_c']:.1f} °C" if fit.heater == "hotend" else ""
    return words + f"; with the present gains {old['ripple_c']:.2g} °C{dips}"


def _promised(fit: HeaterFit, column: int) -> dict[str, Any]:
    run = fit.tuned.run
    return {
        "arrival_s": run.arrival_s[0, column],
        "overshoot_c": run.overshoot_c[0, column],
        "settle_s": run.settle_s[0, column],
        "dip_c": run.dip_c[0, column],
        "ripple_c": run.ripple_c[0, column],
        "recovery_error_c": run.fan_error_c[0, column],
        "peak_sensitivity": fit.tuned.sensitivity[column],
    }


def _next(fit: HeaterFit) -> Said:
    again = parts_of(f"{fit.heater}-gains")
    if fit.verdict == "keep":
        return said(f"nothing to enter; test again after a change of {again}")
    goal = f"{fit.tuned.loop.target_c:.0f}"
    return said(
        f"enter and store the lines, switch off and on, log a heat-up to {goal} °C with a hold, "
        "and judge it:",
        command("heater check", "LOG", target=goal),
        f"test again after a change of {again}",
    )


def _headline(fit: HeaterFit, question: HeaterQuestion) -> tuple[Shown, ...]:
    """The gains, old and new, each with the range that does as well; the times below."""
    scaled, old = fit.scaled, question.present
    heads = ("present", "new", "does as well", f"(full power is {fit.full_power:g})")
    rows = [Shown(f"{fit.heater} at {fit.tuned.loop.target_c:.0f} °C", heads)]
    for name, free in _free(fit).items():
        new = getattr(scaled, name)
        last = max(fit.full_power * free, DIGITS * new)
        before = "–" if old is None else digits(getattr(old, name))
        ends = " to ".join(digits(fit.full_power * end, last) for end in fit.tuned.as_good[name])
        rows.append(Shown(name, (before, digits(new, last), ends, UNITS[name])))
    if scaled.ki > 0:
        integral, derivative = digits(scaled.kp / scaled.ki), digits(scaled.kd / scaled.kp)
        words = f"Ti {integral} s, Td {derivative} s"
        rows.append(Shown("as times", ("", "", "", words)))
    return tuple(rows)


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
        *_predicted(fit),
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


def _predicted(fit: HeaterFit) -> list[Shown]:
    tuned, run = fit.tuned, fit.tuned.run
    heads = ("overshoot", "settled at", "dip, fan on", "ripple", "sensitivity")
    rows = [Shown("predicted", heads)]
    for n, label in enumerate(tuned.labels):
        cells = (
            f"{run.overshoot_c[0, n]:.2f} °C",
            f"{run.settle_s[0, n]:.0f} s",
            f"{run.dip_c[0, n]:.2f} °C",
            f"{run.ripple_c[0, n]:.2f} °C",
            "unstable" if run.ripple_c[0, n] > UNSTABLE_C else f"{tuned.sensitivity[n]:.2f}",
        )
        rows.append(Shown("  " + label, cells))
    over, dip = (
        "{:.2f}–{:.2f}".format(*promised_range(v[:, 0]))
        for v in (tuned.doubt.overshoot_c, tuned.doubt.dip_c)
    )
    rows.insert(2, Shown("    95 % range", (over, "", dip, "", "2 robust, 3 marginal")))
    return rows
