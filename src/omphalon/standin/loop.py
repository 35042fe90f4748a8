"""The reference loop run on made-up heaters, and what a controller logs of it: a heat-up, a hold,
targets that change, a part fan and filament that come and go.

The loop every 0.2 s, with e = target − reading: above 10 °C of error the full allowed power and the
integral at 0; below −10 °C no power and the integral at 0; between, power = clamp(kp e + I − kd d,
0, limit), where I += ki e 0.2 is clamped to [0, limit] and d is the slope of the reading through a
first-order filter of 1 s.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from omphalon.standin.heater import STEP_S, lanes_of, quantised
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


@dataclass(frozen=True, kw_only=True)
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
