"""What speaks against a log or a fit: refusals, and warnings from the gravest to the mildest."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import median_filter

from omphalon.finding import Warned
from omphalon.physics import loop as loops
from omphalon.physics import oscillation
from omphalon.physics.oscillation import Ultimate
from omphalon.physics.thermal import ThermalFit
from omphalon.recording import TemperatureLog
from omphalon.studies.heater.excerpt import Excerpt
from omphalon.studies.heater.tuning import Tuned
from omphalon.studies.wording import Unsupported, plural
from omphalon.units import BED_MOST_C, BED_USUAL_C, HOTEND_MOST_C, HOTEND_USUAL_C

FASTEST_C_S = 15.0
MOST_C = {"hotend": (HOTEND_USUAL_C, HOTEND_MOST_C), "bed": (BED_USUAL_C, BED_MOST_C)}
FASTEST_BED_C_S = 2.0  # no bed heats so fast, measured over ten seconds


def log_doubts(log: TemperatureLog, max_temp_c: float | None) -> list[Warned]:
    """Safety first: too hot, a sensor that jumps, a temperature that rises without power."""
    found = []
    t, y = log.time_s, log.temperature_c
    if max_temp_c is not None and y.max() > max_temp_c:
        found.append(
            Warned(
                "too-hot", f"the log reaches {y.max():.1f} °C, above the {max_temp_c:g} °C allowed"
            )
        )
    rows, size = _jumps(log)
    if len(rows):
        found.append(
            Warned(
                "sensor-jump",
                f"the reading jumps by {size:.0f} °C in one report, {plural(len(rows), 'time')}, "
                "first "
                f"after {t[rows[0]]:.0f} s",
            )
        )
    if log.power is not None:
        found.extend(_heats_alone(log))
    return found


def jumps(log: TemperatureLog) -> int:
    """How often the reading jumps by more than a heater can do."""
    return len(_jumps(log)[0])


def _jumps(log: TemperatureLog) -> tuple[NDArray[np.int64], float]:
    """The rows at which it does, and the largest jump in °C."""
    y = log.temperature_c
    calm = y - np.median(np.stack([np.roll(y, k) for k in (-2, -1, 0, 1, 2)]), axis=0)
    calm[:2] = calm[-2:] = 0.0
    rows = np.flatnonzero(np.abs(calm[:-1]) > np.maximum(FASTEST_C_S * np.diff(log.time_s), 8.0))
    return rows, float(np.abs(calm[rows]).max()) if len(rows) else 0.0


def heater_doubts(log: TemperatureLog, heater: str) -> list[Warned]:
    """Whether the log can be of this heater: too hot for it, or heating as only a hotend does.

    Raises Unsupported above what can be; single spikes do not count.
    """
    usual, most = MOST_C[heater]
    top = float(np.sort(log.temperature_c)[-max(len(log.temperature_c) // 50, 3)])
    if top > most:
        raise Unsupported(
            f"the log reaches {top:.0f} °C: no {heater} does",
            f"°F? name the column temp_f; or is it another heater (--heater)? A {heater} ends at "
            f"{most:g} °C",
        )
    out = []
    if top > usual:
        out.append(
            Warned(
                "unusual-temperature",
                f"the log reaches {top:.0f} °C; a {heater} rarely passes {usual:g}: °F?",
            )
        )
    if heater == "bed" and (pace := fastest_rise(log)) > FASTEST_BED_C_S:
        out.append(
            Warned(
                "heater-doubtful",
                f"it heats by {pace:.1f} °C/s, which no bed does: a hotend's log?",
            )
        )
    return out


def fastest_rise(log: TemperatureLog) -> float:
    """The steepest rise over ten seconds, in °C/s; single spikes do not count."""
    calm = median_filter(log.temperature_c, 5, mode="nearest")
    ahead = np.searchsorted(log.time_s, log.time_s + 10.0)
    inside = np.flatnonzero(ahead < len(log.time_s))
    if not len(inside):
        return 0.0
    rise = calm[ahead[inside]] - calm[inside]
    return float((rise / (log.time_s[ahead[inside]] - log.time_s[inside])).max())


def _heats_alone(log: TemperatureLog) -> list[Warned]:
    """More than 15 s without power, and still 5 °C warmer at the end than 15 s into it."""
    assert log.power is not None
    t, y, off = log.time_s, log.temperature_c, log.power < 0.01
    edges = np.flatnonzero(np.diff(np.concatenate([[0], off.astype(int), [0]])))
    for start, end in zip(edges[::2], edges[1::2] - 1, strict=True):
        late = start + int(np.searchsorted(t[start : end + 1], t[start] + 15.0))
        if late < end and y[end] > y[late] + 5.0:
            return [
                Warned(
                    "heats-alone",
                    f"the temperature rises by {y[end] - y[late]:.0f} °C while the power is 0, "
                    f"{t[start]:.0f} to {t[end]:.0f} s into the log",
                )
            ]
    return []


def explained(test: Excerpt, fit: ThermalFit) -> list[Warned]:
    """Refuse a model that misses the log; warn of one that follows it loosely."""
    sensor = min(test.sigma_c, 0.3 * test.swing_c)
    allowed = float(np.hypot(1.5 * sensor, 0.04 * fit.swing_rms_c))
    if fit.shift_doubts > 2.5:
        late = float(np.sqrt(np.mean(fit.shift_s**2)))
        raise Unsupported(
            f"the model follows the log only if the heater switched {late:.1f} s off the times "
            "that power and curve "
            "tell: something else moved the temperature",
            "repeat the test with fan, room and target left alone, and log the power that is "
            "really put out",
        )
    if fit.rms_c > 1.5 * allowed:
        raise Unsupported(
            f"the model misses the log by {fit.rms_c:.2f} °C near the target, where noise and "
            "display steps explain "
            f"{sensor:.2f} °C: something else moved the temperature",
            "repeat the test with fan, room and target left alone, and with a report every second "
            "or faster",
        )
    if fit.rms_c > allowed:
        return [
            Warned(
                "loose-fit",
                f"the model follows the log to {fit.rms_c:.2f} °C near the target; "
                f"noise and display steps explain {sensor:.2f} °C",
            )
        ]
    return []


def logs_disagree(tests: Sequence[Excerpt]) -> list[Warned]:
    """Logs of one heater whose cycles differ by more than their spreads and 10 %."""
    cycles = [oscillation.ultimate(t.found) for t in tests]
    first = cycles[0]
    for n, other in enumerate(cycles[1:], 2):
        for name, one, two, spread in (
            ("gain", first.gain, other.gain, first.gain_spread + other.gain_spread),
            (
                "period",
                first.period_s,
                other.period_s,
                first.period_spread_s + other.period_spread_s,
            ),
        ):
            if abs(one - two) > spread + 0.10 * one:
                return [
                    Warned(
                        "logs-disagree",
                        f"log 1 and log {n} do not show the same heater: the cycles' {name} is "
                        f"{one:.3g} in one and {two:.3g} in the other",
                    )
                ]
    return []


def fit_doubts(test: Excerpt, fit: ThermalFit, tuned: Tuned, cycle: Ultimate) -> list[Warned]:
    """Warnings of a fit that stands, but on thin ice."""
    found = []
    turn = np.array([2 * np.pi / cycle.period_s])
    model = loops.response(fit.model, replace(tuned.loop, period_s=1e-6), turn)[0]
    ratio = float(np.abs(model)) * cycle.gain
    phase = (float(np.degrees(np.angle(model))) - cycle.phase_deg + 180) % 360 - 180
    if abs(np.log(ratio)) > 0.3 + cycle.gain_spread / cycle.gain or abs(phase) > 25:
        found.append(
            Warned(
                "methods-disagree",
                f"at the cycles' period of {cycle.period_s:.1f} s the model swings "
                f"{ratio:.2f} times what was measured, {phase:+.0f}° apart",
            )
        )
    if tuned.sensitivity[0] > 2.8:
        found.append(
            Warned(
                "low-sensitivity-margin",
                f"peak sensitivity {tuned.sensitivity[0]:.2f} (2 is calm, 3 is thin)",
            )
        )
    usual = float(np.median(np.diff(test.time_s)))
    if usual > 0.25 * cycle.period_s:
        found.append(
            Warned(
                "slow-reports", f"one report in {usual:.1f} s for cycles of {cycle.period_s:.1f} s"
            )
        )
    holding = tuned.model.holding_power
    if holding * (1 + tuned.loop.fan_extra) > 0.95 * tuned.loop.limit:
        found.append(
            Warned(
                "little-power-left",
                f"holding takes {holding:.0%} of full power before the part fan comes on",
            )
        )
    if test.power.max() < 0.9 * tuned.loop.limit:
        found.append(
            Warned(
                "power-limited",
                f"the power in the log never passes {test.power.max():.0%}, "
                f"and {tuned.loop.limit:.0%} is allowed",
            )
        )
    return found
