"""From a temperature log to gains: cycles, thermal model, gains, verdict."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from omphalon.bench.dialect import Dialect
from omphalon.finding import Finding, Warned
from omphalon.physics import loop as loops
from omphalon.physics import oscillation, thermal
from omphalon.physics.loop import AIMS, Gains, Loop, Outcome
from omphalon.physics.oscillation import Array, Ultimate
from omphalon.physics.thermal import ThermalFit, ThermalModel
from omphalon.recording import TemperatureLog
from omphalon.studies.heater.excerpt import Excerpt, Unanswerable, excerpt, heater_at
from omphalon.studies.heater.words import headline, number_lines, rows

UNIT_S = {"hotend": 60.0, "bed": 300.0}
DRAWS_IN_SEARCH = 4
DRAWS = 24
KEEP_WITHIN = 0.03


@dataclass(frozen=True)
class HeaterQuestion:
    """What a user wants of the fit; `present` gains are in the controller's scale, where `gain_scale` is full power."""

    heater: str | None = None
    target_c: float | None = None
    aim: str = "even"
    power_limit: float = 1.0
    loop_period_s: float = 0.2
    gain_scale: float | None = None
    present: Gains | None = None


@dataclass(frozen=True)
class HeaterPicture:
    """What plots/ draws of a heater fit: the test, its model, and the arrival with new gains (and old ones)."""

    heater: str
    test: Excerpt
    fit: ThermalFit
    loop: Loop
    run: Outcome
    labels: tuple[str, ...]


@dataclass(frozen=True)
class Tuned:
    """Gains chosen for a fitted heater, what they promise, and what the present ones do."""

    loop: Loop
    new: Gains
    relative_spread: tuple[float, float, float]
    run: Outcome
    doubt: Outcome
    sensitivity: float
    ultimates: Array
    worth: float | None


def fit_heater(log: TemperatureLog, question: HeaterQuestion, dialect: Dialect) -> Finding:
    """Gains for the loop that will run them, with spread and reasons; `retest` where the log cannot carry them."""
    try:
        test = excerpt(log, question.target_c)
        fit = fit_model(test)
        loose = _explained(test, fit)
        return _answer(test, fit, loose, question, dialect)
    except Unanswerable as missing:
        return Finding("heater-fit", "retest", missing.because, next=missing.remedy,
                       warnings=tuple(Warned(n.code, n.message) for n in log.notes))


def fit_model(test: Excerpt) -> ThermalFit:
    """The thermal model of a test, with the doubt of its switching instants in the spread of the dead time."""
    driven = thermal.drive(test.time_s, test.power, test.switched)
    common = float(np.sqrt(np.mean(test.switched.doubt_s**2) / len(test.switched.doubt_s)))
    return thermal.fit_thermal(test.time_s, test.temperature_c, driven, target_c=test.target_c, near_c=test.near_c,
                               noise_c=test.sigma_c, quantum_c=test.quantum_c, delay_s=test.delay_s, breaks_s=test.breaks_s, skip=test.skip,
                               doubt_s=common)


def _explained(test: Excerpt, fit: ThermalFit) -> tuple[Warned, ...]:
    """Refuse a model that misses the log; warn of one that follows it loosely."""
    sensor = min(test.sigma_c, 0.3 * test.swing_c)
    allowed = float(np.hypot(1.5 * sensor, 0.04 * fit.swing_rms_c))
    if fit.shift_doubts > 2.5:
        late = float(np.sqrt(np.mean(fit.shift_s**2)))
        raise Unanswerable(
            f"the model follows the log only if the heater switched {late:.1f} s off the times that power and curve "
            "tell: something else moved the temperature",
            "repeat the test with fan, room and target left alone, and log the power that is really put out")
    if fit.rms_c > 1.5 * allowed:
        raise Unanswerable(
            f"the model misses the log by {fit.rms_c:.2f} °C near the target, where noise and display steps explain "
            f"{sensor:.2f} °C: something else moved the temperature",
            "repeat the test with fan, room and target left alone, and with a report every second or faster")
    if fit.rms_c > allowed:
        return (Warned("loose-fit", f"the model follows the log to {fit.rms_c:.2f} °C near the target; "
                                    f"noise and display steps explain {sensor:.2f} °C"),)
    return ()


def loop_of(test: Excerpt, fit: ThermalFit, heater: str, question: HeaterQuestion) -> Loop:
    """The controller that will run the gains, reading through the log's own noise and display steps."""
    step = test.quantum_c / np.sqrt(12)
    noise = float(np.sqrt(max(min(test.noise_c, fit.rms_c) ** 2 - step**2, (0.3 * step) ** 2)))
    return Loop(test.target_c, limit=question.power_limit, period_s=question.loop_period_s, unit_s=UNIT_S[heater],
                noise_c=noise, quantum_c=test.quantum_c)


def tune(test: Excerpt, fit: ThermalFit, heater: str, question: HeaterQuestion, present: Gains | None) -> Tuned:
    """Choose gains over an ensemble of what the heater may be, and run them and the present ones on it."""
    loop = loop_of(test, fit, heater, question)
    draws = fit.draws(DRAWS, np.random.default_rng(1))
    ensemble = loops.ensemble_of(fit.model, draws[:DRAWS_IN_SEARCH])
    aim = AIMS[question.aim]
    choice = loops.choose_gains(fit.model, ensemble, loop, aim)
    both = [choice.gains] + ([present] if present else [])
    table = np.vstack([g.row() for g in both])
    step = loops.step_for(ensemble, loop)
    run = loops.run_loop([fit.model], table, loop, step_s=step, trace=True)
    worth = None
    if present is not None:
        costs = loops.run_loop(ensemble, table, loop, step_s=step).cost(aim, loop.unit_s).mean(axis=0)
        worth = float(costs[1] / costs[0] - 1)
    ultimates = np.array([loops.ultimate_of(d, loop) for d in draws])
    doubted = [_doubted(d, n) for n, d in enumerate(draws)]
    return Tuned(loop, choice.gains, _relative_spread(ultimates), run,
                 loops.run_loop(doubted, choice.gains.row(), loop, step_s=step),
                 float(loops.sensitivity(fit.model, choice.gains.row(), loop)[0]), ultimates, worth)


def _doubted(draw: ThermalModel, number: int) -> ThermalModel:
    """A draw with the structural doubt on top: dead time ±25 %, gain ±10 %, spread evenly over the draws."""
    first, second = (number * 0.6180339887) % 1, (number * 0.7548776662) % 1
    return draw.other_day(1 + 0.25 * (2 * first - 1), 1 + 0.1 * (2 * second - 1))


def _relative_spread(ultimates: Array) -> tuple[float, float, float]:
    """Relative 95 % half widths of kp, ki, kd: they scale as Ku, Ku/Tu, Ku·Tu, taken from the drawn models."""
    both = np.log(ultimates)
    scaled = (both[:, 0], both[:, 0] - both[:, 1], both[:, 0] + both[:, 1])
    kp, ki, kd = (float(1.96 * np.std(v, ddof=1)) for v in scaled)
    return kp, ki, kd


def _answer(test: Excerpt, fit: ThermalFit, loose: tuple[Warned, ...], question: HeaterQuestion,
            dialect: Dialect) -> Finding:
    heater = question.heater or heater_at(test.target_c)
    scale = question.gain_scale or dialect.gain_scale
    old = question.present
    present = None if old is None else Gains(old.kp / scale, old.ki / scale, old.kd / scale)
    tuned = tune(test, fit, heater, question, present)
    cycle = oscillation.ultimate(test.found)
    keep = tuned.worth is not None and tuned.worth < KEEP_WITHIN
    answer = present if keep and present else tuned.new
    scaled = Gains(answer.kp * scale, answer.ki * scale, answer.kd * scale)
    half = tuned.relative_spread
    spread = {k: v * h for k, v, h in zip(("kp", "ki", "kd"), (answer.kp, answer.ki, answer.kd), half, strict=True)}
    settings = {"kp": answer.kp, "ki": answer.ki, "kd": answer.kd,
                "scaled": {"kp": scaled.kp, "ki": scaled.ki, "kd": scaled.kd, "full_power": scale}}
    warnings = (*test.warnings, *loose, *_doubts(test, fit, tuned, cycle))
    lines = () if keep else number_lines(dialect, heater, scaled)
    labels = ("new gains",) if present is None else ("new gains", "present gains")
    return Finding(
        "heater-fit", "keep" if keep else "change", _because(test, fit, tuned, keep), settings,
        {**spread, "scaled": {k: v * scale for k, v in spread.items()}},
        _evidence(test, fit, tuned, cycle, heater), warnings, lines,
        _next(heater, test, keep), headline(heater, test.target_c, scaled, half, old, scale),
        rows(test, fit, tuned, cycle), HeaterPicture(heater, test, fit, tuned.loop, tuned.run, labels))


def _because(test: Excerpt, fit: ThermalFit, tuned: Tuned, keep: bool) -> str:
    masses = "one mass" if fit.masses == 1 else "two masses"
    how = f"{test.found.count} cycles, and a model with {masses} that follows them to {fit.rms_c:.2f} °C,"
    if keep and tuned.worth is not None:
        return f"the best gains would be {max(tuned.worth, 0):.1%} better, less than the log can tell ({how[:-1]})"
    gained = "" if tuned.worth is None else f"; {tuned.worth:.0%} better than the present ones on the same score"
    return f"{how} carry these gains{gained}"


def _doubts(test: Excerpt, fit: ThermalFit, tuned: Tuned, cycle: Ultimate) -> list[Warned]:
    """Warnings of a fit that stands, but on thin ice."""
    found = []
    turn = np.array([2 * np.pi / cycle.period_s])
    model = loops.response(fit.model, replace(tuned.loop, period_s=1e-6), turn)[0]
    ratio = float(np.abs(model)) * cycle.gain
    phase = (float(np.degrees(np.angle(model))) - cycle.phase_deg + 180) % 360 - 180
    if abs(np.log(ratio)) > 0.3 + cycle.gain_spread / cycle.gain or abs(phase) > 25:
        found.append(Warned("methods-disagree", f"at the cycles' period of {cycle.period_s:.1f} s the model swings "
                                                f"{ratio:.2f} times what was measured, {phase:+.0f}° apart"))
    if tuned.sensitivity > 2.8:
        found.append(Warned("low-sensitivity-margin",
                            f"peak sensitivity {tuned.sensitivity:.2f} (2 is calm, 3 is thin)"))
    usual = float(np.median(np.diff(test.time_s)))
    if usual > 0.25 * cycle.period_s:
        found.append(Warned("slow-reports", f"one report in {usual:.1f} s for cycles of {cycle.period_s:.1f} s"))
    if fit.model.holding_power * (1 + tuned.loop.fan_extra) > 0.95 * tuned.loop.limit:
        found.append(Warned("little-power-left", f"holding takes {fit.model.holding_power:.0%} of full power before "
                                                 "the part fan comes on"))
    if test.power.max() < 0.9 * tuned.loop.limit:
        found.append(Warned("power-limited", f"the power in the log never passes {test.power.max():.0%}, "
                                             f"and {tuned.loop.limit:.0%} is allowed"))
    return found


def _evidence(test: Excerpt, fit: ThermalFit, tuned: Tuned, cycle: Ultimate, heater: str) -> dict[str, Any]:
    m, run = fit.model, tuned.run
    return {
        "heater": heater, "target_c": test.target_c,
        "cycles_used": test.found.count, "period_s": cycle.period_s, "amplitude_c": test.swing_c,
        "ultimate_gain": cycle.gain, "ultimate_gain_spread": cycle.gain_spread, "cycle_phase_deg": cycle.phase_deg,
        "noise_c": test.noise_c, "display_step_c": test.quantum_c,
        "model": {"masses": fit.masses, "gain_c": m.gain_c, "time_constant_s": m.time_constant_s, "lag_s": m.lag_s,
                  "dead_time_s": m.dead_time_s, "ambient_c": m.ambient_c, "loss_growth": m.loss_growth,
                  "second_time_constant_s": m.second_s, "zero_s": m.zero_s, "rms_c": fit.rms_c,
                  "holding_power": m.holding_power,
                  "spread": {name: fit.spread(name) for name in ("gain_c", "time_constant_s", "lag_s", "dead_time_s")}},
        "predicted": _promised(run, tuned, 0),
        **({} if tuned.worth is None else {"predicted_present": _promised(run, None, 1)}),
        "peak_sensitivity": tuned.sensitivity,
    }


def _promised(run: Outcome, tuned: Tuned | None, column: int) -> dict[str, Any]:
    out: dict[str, Any] = {"arrival_s": run.arrival_s[0, column], "overshoot_c": run.overshoot_c[0, column],
                           "settle_s": run.settle_s[0, column], "dip_c": run.dip_c[0, column],
                           "ripple_c": run.ripple_c[0, column]}
    if tuned is not None:
        out["range"] = {name: np.quantile(getattr(tuned.doubt, name), [0.025, 0.975]).tolist()
                        for name in ("overshoot_c", "dip_c")}
    return out


def _next(heater: str, test: Excerpt, keep: bool) -> str:
    if keep:
        return "nothing to enter; test again after a change of block, nozzle, sensor, cartridge, sock or fan duct"
    return (f"enter and store the lines, switch off and on, then log a heat-up to {test.target_c:.0f} °C and a hold, "
            "the part fan coming on late in it, and look whether it arrives as predicted")
