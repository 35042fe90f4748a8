"""From a temperature log to gains: cycles, thermal model, gains, verdict."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from omphalon.finding import Finding, Warned
from omphalon.lines.dialect import Dialect
from omphalon.physics import oscillation, record, thermal
from omphalon.physics.loop import Gains, Loop, Outcome
from omphalon.physics.oscillation import Ultimate
from omphalon.physics.record import Record
from omphalon.physics.thermal import ThermalFit
from omphalon.recording import TemperatureLog
from omphalon.studies.heater.doubts import (
    explained,
    fit_doubts,
    heater_doubts,
    log_doubts,
    logs_disagree,
)
from omphalon.studies.heater.excerpt import Excerpt, excerpt, heater_at
from omphalon.studies.heater.tuning import (
    HeaterQuestion,
    Tuned,
    promised_range,
    sure_enough,
    tune,
    worth_keeping,
)
from omphalon.studies.heater.words import assumed, headline, number_lines, rows
from omphalon.studies.wording import Unsupported

SPIKE_NEAR_C = 8.0


@dataclass(frozen=True)
class HeaterPicture:
    """What plots/ draws of a heater fit: the (first) test, its model, and the arrival the gains
    promise.
    """

    heater: str
    test: Excerpt
    fit: ThermalFit
    loop: Loop
    run: Outcome
    labels: tuple[str, ...]


def fit_heater(
    logs: Sequence[TemperatureLog], question: HeaterQuestion, dialect: Dialect
) -> Finding:
    """Gains for the loop that will run them, with spread and reasons; `retest` where the logs
    cannot carry them.

    Several logs must be of one heater; they are fitted together.
    """
    warnings: list[Warned] = []
    try:
        for log in logs:
            warnings.extend(log_doubts(log, question.max_temp_c))
            if question.heater is not None:
                warnings.extend(heater_doubts(log, question.heater))
        tests = [excerpt(log, question.target_c) for log in logs]
        if question.heater is None:
            for log, test in zip(logs, tests, strict=True):
                warnings.extend(heater_doubts(log, heater_at(test.target_c)))
        fit, spikes = fit_without_spikes(tests)
        warnings.extend(spikes)
        loose = explained(tests[0], fit)
        return _answer(
            logs, tests, fit, [*warnings, *logs_disagree(tests), *loose], question, dialect
        )
    except Unsupported as missing:
        notes = [Warned(n.code, n.message) for log in logs for n in log.notes]
        return Finding(
            "heater-fit",
            "retest",
            missing.because,
            next=missing.remedy,
            warnings=(*warnings, *notes),
        )


def fit_model(tests: Sequence[Excerpt]) -> ThermalFit:
    """The thermal model of one or more tests, with the doubt of the switching instants in that of
    the dead time.
    """
    return thermal.fit_thermal(record.join([_record(t) for t in tests]))


def fit_without_spikes(tests: Sequence[Excerpt]) -> tuple[ThermalFit, list[Warned]]:
    """The model, fitted anew without the few reports that lie far off the first fit."""
    fit = fit_model(tests)
    miss = fit.fitted_c - np.concatenate([t.temperature_c for t in tests])
    near = (
        np.abs(np.concatenate([t.temperature_c - t.target_c for t in tests]))
        <= tests[0].near_c + SPIKE_NEAR_C
    )
    usual = 1.4826 * float(np.nanmedian(np.abs(miss[near])))
    off = near & (np.abs(miss) > max(6 * usual, 1.0))
    if not 0 < off.sum() <= 0.05 * len(off):
        return fit, []
    ends = np.cumsum([0] + [len(t.time_s) for t in tests])
    again = [
        replace(t, skip=t.skip | off[a:b])
        for t, a, b in zip(tests, ends[:-1], ends[1:], strict=True)
    ]
    count = int(off.sum())
    return fit_model(again), [
        Warned(
            "spikes",
            f"{count} report{'s'[: count != 1]} more than {max(6 * usual, 1.0):.1f} °C "
            "off the model passed over",
        )
    ]


def _record(test: Excerpt) -> Record:
    driven = record.drive(test.time_s, test.power, test.switched)
    common = float(np.sqrt(np.mean(test.switched.doubt_s**2) / len(test.switched.doubt_s)))
    return Record(
        test.time_s,
        test.temperature_c,
        np.full(len(test.time_s), test.target_c),
        driven,
        test.near_c,
        test.sigma_c,
        test.quantum_c,
        test.delay_s,
        test.skip,
        test.breaks_s,
        common,
    )


def _answer(
    logs: Sequence[TemperatureLog],
    tests: Sequence[Excerpt],
    fit: ThermalFit,
    warnings: list[Warned],
    question: HeaterQuestion,
    dialect: Dialect,
) -> Finding:
    test = tests[0]
    heater = question.heater or heater_at(test.target_c)
    scale = question.gain_scale or dialect.gain_scale
    old = question.present
    present = None if old is None else Gains(old.kp / scale, old.ki / scale, old.kd / scale)
    tuned = tune(test, fit, heater, question, present)
    cycle = oscillation.ultimate(test.found)
    keep = worth_keeping(tuned)
    answer = present if keep and present else tuned.new
    scaled = Gains(answer.kp * scale, answer.ki * scale, answer.kd * scale)
    half = tuned.relative_spread
    spread = {
        k: v * h
        for k, v, h in zip(("kp", "ki", "kd"), (answer.kp, answer.ki, answer.kd), half, strict=True)
    }
    times = {
        "integral_time_s": answer.kp / answer.ki if answer.ki else None,
        "derivative_time_s": answer.kd / answer.kp,
    }
    settings = {
        "kp": answer.kp,
        "ki": answer.ki,
        "kd": answer.kd,
        "scaled": {"kp": scaled.kp, "ki": scaled.ki, "kd": scaled.kd, "full_power": scale},
        **times,
    }
    told = tuple(
        dict.fromkeys(
            (
                *warnings,
                *(w for t in tests for w in t.warnings),
                *fit_doubts(test, fit, tuned, cycle),
            )
        )
    )
    if not keep and not sure_enough(tuned):
        raise Unsupported(
            f"whether the present gains are worse cannot be told: on {1 - tuned.sure:.0%} of what "
            "the heater may be they are as good",
            "log again with a report every 0.5 s or faster, more cycles, and nothing else changing",
        )
    return Finding(
        "heater-fit",
        "keep" if keep else "change",
        _because(tests, fit, tuned, keep),
        settings,
        {**spread, "scaled": {k: v * scale for k, v in spread.items()}},
        _evidence(tests, fit, tuned, cycle, heater),
        told,
        () if keep else number_lines(dialect, heater, scaled),
        _next(heater, test, keep),
        headline(heater, test.target_c, scaled, half, old, scale),
        rows(tests, fit, tuned, cycle, assumed(logs, question, scale, tuned)),
        HeaterPicture(
            heater,
            test,
            fit,
            tuned.loop,
            tuned.run,
            tuple(x for x in tuned.labels if not x.startswith("aim")),
        ),
    )


def _because(tests: Sequence[Excerpt], fit: ThermalFit, tuned: Tuned, keep: bool) -> str:
    masses = "one mass" if fit.masses == 1 else "two masses"
    count = sum(t.found.count for t in tests)
    where = f"{count} cycles" if len(tests) == 1 else f"{count} cycles of {len(tests)} logs"
    how = f"{where}, and a model with {masses} that follows them to {fit.rms_c:.2f} °C"
    if keep and tuned.worth is not None:
        share = 1 / (1 + tuned.worth)
        return (
            f"the best gains would bring the score to {min(share, 1.0):.1%} of the present one, "
            "less than the log can tell or a "
            f"print shows ({how})"
        )
    gained = (
        ""
        if tuned.worth is None
        else f"; they bring the score to {1 / (1 + tuned.worth):.0%} of the present ones'"
    )
    return f"{how}, carry these gains{gained}"


def _evidence(
    tests: Sequence[Excerpt], fit: ThermalFit, tuned: Tuned, cycle: Ultimate, heater: str
) -> dict[str, Any]:
    test, m, run = tests[0], fit.model, tuned.run
    promised = {label: _promised(run, tuned, n) for n, label in enumerate(tuned.labels)}
    return {
        "heater": heater,
        "target_c": test.target_c,
        "logs": len(tests),
        "cycles_used": sum(t.found.count for t in tests),
        "period_s": cycle.period_s,
        "amplitude_c": test.swing_c,
        "ultimate_gain": cycle.gain,
        "ultimate_gain_spread": cycle.gain_spread,
        "cycle_phase_deg": cycle.phase_deg,
        "noise_c": test.noise_c,
        "display_step_c": test.quantum_c,
        "model": {
            "masses": fit.masses,
            "gain_c": m.gain_c,
            "time_constant_s": m.time_constant_s,
            "lag_s": m.lag_s,
            "dead_time_s": m.dead_time_s,
            "ambient_c": m.ambient_c,
            "loss_growth": m.loss_growth,
            "second_time_constant_s": m.second_s,
            "zero_s": m.zero_s,
            "rms_c": fit.rms_c,
            "holding_power": m.holding_power,
            "spread": {
                name: fit.spread(name)
                for name in ("gain_c", "time_constant_s", "lag_s", "dead_time_s")
            },
        },
        "predicted": {
            **promised["new gains"],
            "range": {
                name: promised_range(getattr(tuned.doubt, name)[:, 0])
                for name in ("overshoot_c", "dip_c")
            },
        },
        "predicted_otherwise": {label: p for label, p in promised.items() if label != "new gains"},
    }


def _promised(run: Outcome, tuned: Tuned, column: int) -> dict[str, Any]:
    return {
        "arrival_s": run.arrival_s[0, column],
        "overshoot_c": run.overshoot_c[0, column],
        "settle_s": run.settle_s[0, column],
        "dip_c": run.dip_c[0, column],
        "ripple_c": run.ripple_c[0, column],
        "recovery_error_c": run.fan_error_c[0, column],
        "peak_sensitivity": tuned.sensitivity[column],
    }


def _next(heater: str, test: Excerpt, keep: bool) -> str:
    again = (
        "block, nozzle, sensor, cartridge, sock or fan duct"
        if heater == "hotend"
        else "plate, sensor or heater"
    )
    if keep:
        return f"nothing to enter; test again after a change of {again}"
    return (
        f"enter and store the lines, switch off and on, log a heat-up to {test.target_c:.0f} °C "
        "with a hold, and "
        f"judge it: `omphalon heater check LOG --target {test.target_c:.0f}`. Test again after a "
        f"change of {again}"
    )
