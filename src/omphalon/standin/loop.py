"""The reference loop run on made-up heaters, how it is scored, and what a controller logs of it: a
heat-up and a hold, targets that change, a part fan and filament that come and go.

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

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from omphalon.standin.heater import DAYS, STEP_S, Heater, Lanes, lanes_of, quantised
from omphalon.standin.oscillation import HeaterLog


class Regulator:
    """Power from reading and target. `windup`: the integral gathers all through the heat-up, as in
    a poor loop.
    """

    def __init__(self, reading: float, limit: float = 1.0, windup: bool = False) -> None:
        self.limit, self.windup, self.before = limit, windup, reading
        self.integral = self.slope = 0.0
        self.blend = 1 - math.exp(-CONTROL_S / FILTER_S)

    def power(self, gains: tuple[float, float, float], target_c: float, reading: float) -> float:
        """The power until the next reading, for gains of a power of 0…1."""
        kp, ki, kd = gains
        error = target_c - reading
        self.slope += self.blend * ((reading - self.before) / CONTROL_S - self.slope)
        self.before = reading
        self.integral = min(max(self.integral + ki * error * CONTROL_S, 0.0), self.limit)
        power = min(max(kp * error + self.integral - kd * self.slope, 0.0), self.limit)
        if abs(error) > BAND_C:
            power = self.limit if error > 0 else 0.0
            self.integral = self.integral if self.windup else 0.0
        return power


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
    cold, ready = lanes_of(heaters, 1, step_s), lanes_of(heaters, copies, step_s)
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


class Controller:
    """The loop of the module's docstring, a lane for each heater and set of gains."""

    def __init__(self, gains: np.ndarray, reading: np.ndarray, target_c: float, limit: float):
        self.kp, self.ki, self.kd = (np.asarray(gains, float)[None, :, i] for i in range(3))
        self.target_c, self.limit, self.before = target_c, limit, reading
        self.integral, self.slope = np.zeros(reading.shape), np.zeros(reading.shape)
        self.blend = 1.0 - np.exp(-CONTROL_S / FILTER_S)

    def power(self, reading: np.ndarray) -> np.ndarray:
        """The power until the next reading."""
        error = self.target_c - reading
        self.slope += self.blend * ((reading - self.before) / CONTROL_S - self.slope)
        self.before = reading
        self.integral = np.clip(self.integral + self.ki * error * CONTROL_S, 0, self.limit)
        power = np.clip(self.kp * error + self.integral - self.kd * self.slope, 0, self.limit)
        far = np.abs(error) > BAND_C
        if far.any():
            self.integral = np.where(far, 0.0, self.integral)
            power = np.where(error > BAND_C, self.limit, np.where(error < -BAND_C, 0.0, power))
        return power


class Tally:
    """What is read off the lanes while they run: `hold` ticks with the fan off, then with it on."""

    def __init__(self, shape: tuple[int, ...], hold: int, unit_s: float) -> None:
        self.hold, self.unit_s = hold, unit_s
        self.overshoot, self.dip = np.zeros(shape), np.zeros(shape)
        self.errors = [np.zeros(shape), np.zeros(shape)]
        self.high, self.low = np.full(shape, -np.inf), np.full(shape, np.inf)
        self.arrival = np.full(shape, np.nan)

    def add(self, tick: int, off: np.ndarray) -> None:
        """Count one tick, so far off the target."""
        self.errors[tick >= self.hold] += np.abs(off) * CONTROL_S / self.unit_s
        if tick >= self.hold:
            np.maximum(self.dip, np.abs(off), out=self.dip)
            return
        np.maximum(self.overshoot, off, out=self.overshoot)
        arrived = np.isnan(self.arrival) & (off > -1.0)
        self.arrival[arrived] = (tick + 1) * CONTROL_S
        if tick >= self.hold * 2 // 3:
            np.maximum(self.high, off, out=self.high)
            np.minimum(self.low, off, out=self.low)

    def run(self, taken: np.ndarray, traces: list[np.ndarray]) -> Run:
        """The whole, with what the heat-up had taken."""
        late = np.where(np.isnan(self.arrival), self.hold * CONTROL_S, self.arrival)
        return Run(
            overshoot_c=self.overshoot,
            dip_c=self.dip,
            hold_error_c=self.errors[0],
            fan_error_c=self.errors[1],
            ripple_c=self.high - self.low,
            arrival_s=late + taken[:, None],
            worst_hold_c=np.maximum(self.high, -self.low),
            trace_c=np.array(traces),
            unit_s=self.unit_s,
        )


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
    lanes, taken = heat_up(heaters, len(gains), target_c, limit, step_s)
    random = np.random.default_rng(seed)
    noise = np.array([h.noise_c for h in heaters])[:, None]
    quantum = np.array([h.quantum_c for h in heaters])[:, None]
    hold, after = round(1.5 * unit_s / CONTROL_S), round(unit_s / CONTROL_S)
    controller = Controller(gains, quantised(lanes.sensor, quantum), target_c, limit)
    tally = Tally(lanes.shape, hold, unit_s)
    traces = []
    for tick in range(hold + after):
        lanes.fan = tick >= hold
        jitter = noise * random.normal(size=(len(heaters), 1))
        power = controller.power(quantised(lanes.sensor + jitter, quantum))
        for _ in range(round(CONTROL_S / step_s)):
            lanes.advance(power)
        tally.add(tick, lanes.sensor - target_c)
        if trace:
            traces.append(lanes.sensor.copy())
    return tally.run(taken, traces)


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


@dataclass(frozen=True)
class Hold:
    """How the heat-up and hold are run. `windup`: the integral gathers all through the heat-up, as
    in a poor loop. `targets` and `cooled` say what changes later: so many s after the loop takes
    over, another target, and how much of the fan's cooling there is (1: the fan; filament that
    flows takes some, too). `averaged`: the power that is reported is its mean since the last
    report, and no sample.
    """

    target_c: float
    gains: tuple[float, float, float]
    hold_s: float = 180.0
    fan_after_s: float | None = 120.0
    report_s: float = 1.0
    power_limit: float = 1.0
    windup: bool = False
    before_s: float = 5.0
    most_s: float = 1800.0
    seed: int = 0
    targets: tuple[tuple[float, float], ...] = ()
    cooled: tuple[tuple[float, float], ...] = ()
    averaged: bool = False

    def goal(self, now_s: float, near_s: float) -> float:
        """The target at a moment; `near_s` is when the loop took over."""
        if now_s < self.before_s:
            return 0.0
        later = [goal for after, goal in self.targets if now_s >= near_s + after]
        return later[-1] if later else self.target_c

    def cooling(self, now_s: float, near_s: float) -> float:
        """How much of the fan's cooling there is."""
        fan = () if self.fan_after_s is None else ((self.fan_after_s, 1.0),)
        steps = self.cooled or fan
        later = [share for after, share in steps if now_s >= near_s + after]
        return later[-1] if later else 0.0


def hold_log(heater: Any, hold: Hold) -> HeaterLog:
    """Run it; `hold_s` and what comes later count from where the loop takes over, 10 °C below the
    target.
    """
    random = np.random.default_rng(hold.seed)
    lanes, log = lanes_of([heater], 1), HeaterLog()
    fans = np.array(lanes.extra)
    regulator = Regulator(heater.ambient_c, hold.power_limit, hold.windup)
    near, power, due, tick, given, ticks = np.inf, 0.0, 0.0, 0, 0.0, 0
    while tick * STEP_S < min(near + hold.hold_s, hold.most_s):
        now = tick * STEP_S
        goal = hold.goal(now, near)
        if tick % round(CONTROL_S / STEP_S) == 0:
            noisy = lanes.sensor[0, 0] + random.normal(0, heater.noise_c)
            reading = float(quantised(noisy, heater.quantum_c))
            power = regulator.power(hold.gains, goal, reading)
            if near == np.inf and goal and abs(goal - reading) <= BAND_C:
                near = now
        share = hold.cooling(now, near)
        lanes.fan, lanes.extra = share > 0, fans * share
        if now >= due:
            log.time_s.append(now)
            log.temperature_c.append(reading)
            log.power.append(given / ticks if hold.averaged and ticks else power)
            log.target_c.append(goal)
            due += hold.report_s
            given, ticks = 0.0, 0
        lanes.advance(power)
        given, ticks = given + power, ticks + 1
        tick += 1
    return log
