"""What speaks against a log or a fit: refusals, and warnings from the gravest to the mildest."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from omphalon.finding import Warned
from omphalon.physics import loop as loops
from omphalon.physics import oscillation
from omphalon.physics.oscillation import Ultimate
from omphalon.physics.thermal import ThermalFit
from omphalon.recording import TemperatureLog
from omphalon.studies.answer import Unanswerable
from omphalon.studies.heater.excerpt import Excerpt
from omphalon.studies.heater.tuning import Tuned

FASTEST_C_S = 15.0


def log_doubts(log: TemperatureLog, max_temp_c: float | None) -> list[Warned]:
    """Safety first: too hot, a sensor that jumps, a temperature that rises without power."""
    found = []
    t, y = log.time_s, log.temperature_c
    if max_temp_c is not None and y.max() > max_temp_c:
        found.append(Warned("too-hot", f"the log reaches {y.max():.1f} °C, above the {max_temp_c:g} °C allowed"))
    calm = y - np.median(np.stack([np.roll(y, k) for k in (-2, -1, 0, 1, 2)]), axis=0)
    calm[:2] = calm[-2:] = 0.0
    step = np.diff(t)
    jumps = np.flatnonzero(np.abs(calm[:-1]) > np.maximum(FASTEST_C_S * step, 8.0))
    if len(jumps):
        times = f"{len(jumps)} time{'s'[:len(jumps) != 1]}"
        found.append(Warned("sensor-jump", f"the reading jumps by {np.abs(calm[jumps]).max():.0f} °C in one report, "
                                           f"{times}, first after {t[jumps[0]]:.0f} s"))
    if log.power is not None:
        found.extend(_heats_alone(log))
    return found


def _heats_alone(log: TemperatureLog) -> list[Warned]:
    """More than 15 s without power, and still 5 °C warmer at the end than 15 s into it."""
    assert log.power is not None
    t, y, off = log.time_s, log.temperature_c, log.power < 0.01
    edges = np.flatnonzero(np.diff(np.concatenate([[0], off.astype(int), [0]])))
    for start, end in zip(edges[::2], edges[1::2] - 1, strict=True):
        late = start + int(np.searchsorted(t[start:end + 1], t[start] + 15.0))
        if late < end and y[end] > y[late] + 5.0:
            return [Warned("heats-alone", f"the temperature rises by {y[end] - y[late]:.0f} °C while the power is 0, "
                                          f"{t[start]:.0f} to {t[end]:.0f} s into the log")]
    return []


def explained(test: Excerpt, fit: ThermalFit) -> list[Warned]:
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
        return [Warned("loose-fit", f"the model follows the log to {fit.rms_c:.2f} °C near the target; "
                                    f"noise and display steps explain {sensor:.2f} °C")]
    return []


def logs_disagree(tests: Sequence[Excerpt]) -> list[Warned]:
    """Logs of one heater whose cycles differ by more than their spreads and 10 %."""
    cycles = [oscillation.ultimate(t.found) for t in tests]
    first = cycles[0]
    for n, other in enumerate(cycles[1:], 2):
        for name, one, two, spread in (
                ("gain", first.gain, other.gain, first.gain_spread + other.gain_spread),
                ("period", first.period_s, other.period_s, first.period_spread_s + other.period_spread_s)):
            if abs(one - two) > spread + 0.10 * one:
                return [Warned("logs-disagree", f"log 1 and log {n} do not show the same heater: the cycles' {name} is "
                                                f"{one:.3g} in one and {two:.3g} in the other")]
    return []


def fit_doubts(test: Excerpt, fit: ThermalFit, tuned: Tuned, cycle: Ultimate) -> list[Warned]:
    """Warnings of a fit that stands, but on thin ice."""
    found = []
    turn = np.array([2 * np.pi / cycle.period_s])
    model = loops.response(fit.model, replace(tuned.loop, period_s=1e-6), turn)[0]
    ratio = float(np.abs(model)) * cycle.gain
    phase = (float(np.degrees(np.angle(model))) - cycle.phase_deg + 180) % 360 - 180
    if abs(np.log(ratio)) > 0.3 + cycle.gain_spread / cycle.gain or abs(phase) > 25:
        found.append(Warned("methods-disagree", f"at the cycles' period of {cycle.period_s:.1f} s the model swings "
                                                f"{ratio:.2f} times what was measured, {phase:+.0f}° apart"))
    if tuned.sensitivity[0] > 2.8:
        found.append(Warned("low-sensitivity-margin",
                            f"peak sensitivity {tuned.sensitivity[0]:.2f} (2 is calm, 3 is thin)"))
    usual = float(np.median(np.diff(test.time_s)))
    if usual > 0.25 * cycle.period_s:
        found.append(Warned("slow-reports", f"one report in {usual:.1f} s for cycles of {cycle.period_s:.1f} s"))
    holding = tuned.model.holding_power
    if holding * (1 + tuned.loop.fan_extra) > 0.95 * tuned.loop.limit:
        found.append(Warned("little-power-left",
                            f"holding takes {holding:.0%} of full power before the part fan comes on"))
    if test.power.max() < 0.9 * tuned.loop.limit:
        found.append(Warned("power-limited", f"the power in the log never passes {test.power.max():.0%}, "
                                             f"and {tuned.loop.limit:.0%} is allowed"))
    return found
