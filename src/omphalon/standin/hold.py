"""What a controller logs while it heats up a made-up heater with given gains, holds it, and the
part fan comes on.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from omphalon.standin.heater import STEP_S, Heater, Lanes, quantised
from omphalon.standin.loop import BAND_C, CONTROL_S, Regulator
from omphalon.standin.oscillation import HeaterLog


@dataclass(frozen=True)
class Hold:
    """How the heat-up and hold are run. `windup`: the integral gathers all through the heat-up, as
    in a poor loop.
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


def hold_log(heater: Heater, hold: Hold) -> HeaterLog:
    """Run it; `hold_s` and `fan_after_s` count from where the loop takes over, 10 °C below the
    target.
    """
    random = np.random.default_rng(hold.seed)
    lanes, log = Lanes([heater], 1), HeaterLog()
    regulator = Regulator(heater.ambient_c, hold.power_limit, hold.windup)
    near, power, due, tick = np.inf, 0.0, 0.0, 0
    while tick * STEP_S < min(near + hold.hold_s, hold.most_s):
        now = tick * STEP_S
        goal = hold.target_c if now >= hold.before_s else 0.0
        if tick % round(CONTROL_S / STEP_S) == 0:
            noisy = lanes.sensor[0, 0] + random.normal(0, heater.noise_c)
            reading = float(quantised(noisy, heater.quantum_c))
            power = regulator.power(hold.gains, goal, reading)
            if near == np.inf and goal and abs(goal - reading) <= BAND_C:
                near = now
        lanes.fan = hold.fan_after_s is not None and now >= near + hold.fan_after_s
        if now >= due:
            log.time_s.append(now)
            log.temperature_c.append(reading)
            log.power.append(power)
            log.target_c.append(goal)
            due += hold.report_s
        lanes.advance(power)
        tick += 1
    return log
