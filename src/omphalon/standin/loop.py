"""The reference loop run on made-up heaters, and how it is scored.

The loop every 0.2 s, with e = target − reading: above 10 °C of error the full allowed power and the
integral at 0; below −10 °C no power and the integral at 0; between, power = clamp(kp e + I − kd d,
0, limit), where I += ki e 0.2 is clamped to [0, limit] and d is the slope of the reading through a
first-order filter of 1 s.

The score (°C): overshoot + deepest deviation after the fan came on + mean |error| of the two
stretches + ripple in the hold + arrival time over its unit. A stretch begins when the loop takes
over (10 °C before the target) and when the fan comes on; both last 1.5 and 1.0 units; errors are
integrated and divided by one unit, which is 60 s for a hotend, 300 s for a bed. Errors are those of
the sensor before noise and quantising.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from omphalon.standin.heater import DAYS, Heater, Lanes, quantised

CONTROL_S = 0.2
BAND_C = 10.0
FILTER_S = 1.0


@dataclass(frozen=True)
class Run:
    """What a run of the loop came to; every field has one row a heater and one column a set of
    gains.
    """

    overshoot_c: np.ndarray
    dip_c: np.ndarray
    hold_error_c: np.ndarray
    fan_error_c: np.ndarray
    ripple_c: np.ndarray
    arrival_s: np.ndarray
    worst_hold_c: np.ndarray
    trace_c: np.ndarray
    unit_s: float

    @property
    def score(self) -> np.ndarray:
        faults: np.ndarray = (
            self.overshoot_c
            + self.dip_c
            + self.hold_error_c
            + self.fan_error_c
            + self.ripple_c
            + self.arrival_s / self.unit_s
        )
        return faults


def heat_up(
    heaters: list[Heater], copies: int, target_c: float, limit: float, step_s: float
) -> tuple[Lanes, np.ndarray]:
    """Lanes that stand where the loop takes over, each at its own time since the cold start."""
    cold, ready = Lanes(heaters, 1, step_s), Lanes(heaters, copies, step_s)
    taken = np.zeros(len(heaters))
    waiting = np.ones(len(heaters), bool)
    while waiting.any():
        cold.advance(limit)
        there = waiting & (cold.sensor[:, 0] >= target_c - BAND_C)
        if there.any():
            ready.take(cold, np.flatnonzero(there))
            taken[there] = cold.now * step_s
            waiting &= ~there
        if cold.now * step_s > 3600:
            raise ValueError("a heater that never reaches its target")
    return ready, taken


def run_loop(
    heaters: list[Heater],
    gains: np.ndarray,
    target_c: float,
    *,
    bed: bool = False,
    limit: float = 1.0,
    seed: int = 0,
    step_s: float | None = None,
    trace: bool = False,
) -> Run:
    """Every heater under every row of `gains` (kp, ki, kd for power 0…1)."""
    unit_s, step_s = (300.0, step_s or 0.1) if bed else (60.0, step_s or 0.05)
    kp, ki, kd = (np.asarray(gains, float)[None, :, i] for i in range(3))
    lanes, taken = heat_up(heaters, kp.shape[1], target_c, limit, step_s)
    random = np.random.default_rng(seed)
    noise = np.array([h.noise_c for h in heaters])[:, None]
    quantum = np.array([h.quantum_c for h in heaters])[:, None]
    shape, each = lanes.shape, round(CONTROL_S / step_s)
    integral = np.zeros(shape)
    before = quantised(lanes.sensor, quantum)
    slope = np.zeros(shape)
    blend = 1.0 - np.exp(-CONTROL_S / FILTER_S)
    hold, after = round(1.5 * unit_s / CONTROL_S), round(unit_s / CONTROL_S)
    overshoot, dip = np.zeros(shape), np.zeros(shape)
    errors = [np.zeros(shape), np.zeros(shape)]
    high, low = np.full(shape, -np.inf), np.full(shape, np.inf)
    arrival = np.full(shape, np.nan)
    traces = []
    for tick in range(hold + after):
        lanes.fan = tick >= hold
        reading = quantised(lanes.sensor + noise * random.normal(size=(shape[0], 1)), quantum)
        error = target_c - reading
        slope += blend * ((reading - before) / CONTROL_S - slope)
        before = reading
        integral = np.clip(integral + ki * error * CONTROL_S, 0, limit)
        power = np.clip(kp * error + integral - kd * slope, 0, limit)
        far = np.abs(error) > BAND_C
        if far.any():
            integral = np.where(far, 0.0, integral)
            power = np.where(error > BAND_C, limit, np.where(error < -BAND_C, 0.0, power))
        for _ in range(each):
            lanes.advance(power)
        off = lanes.sensor - target_c
        errors[tick >= hold] += np.abs(off) * CONTROL_S / unit_s
        if tick < hold:
            np.maximum(overshoot, off, out=overshoot)
            arrived = np.isnan(arrival) & (off > -1.0)
            arrival[arrived] = (tick + 1) * CONTROL_S
            if tick >= hold * 2 // 3:
                np.maximum(high, off, out=high)
                np.minimum(low, off, out=low)
        else:
            np.maximum(dip, np.abs(off), out=dip)
        if trace:
            traces.append(lanes.sensor.copy())
    arrival = np.where(np.isnan(arrival), hold * CONTROL_S, arrival) + taken[:, None]
    return Run(
        overshoot,
        dip,
        errors[0],
        errors[1],
        high - low,
        arrival,
        np.maximum(high, -low),
        np.array(traces),
        unit_s,
    )


def day_score(
    heater: Heater,
    gains: np.ndarray,
    target_c: float,
    *,
    bed: bool = False,
    limit: float = 1.0,
    seed: int = 0,
) -> tuple[np.ndarray, Run]:
    """Score of each row of gains averaged over the four days, and the run itself (row 0: the heater
    as it is).
    """
    run = run_loop(
        [heater.other_day(*day) for day in DAYS], gains, target_c, bed=bed, limit=limit, seed=seed
    )
    return run.score.mean(axis=0), run
