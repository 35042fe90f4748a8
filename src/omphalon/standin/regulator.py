"""The stand-in's own temperature loop for one heater: the reference loop of standin/loop.py, one
reading at a time.
"""

from __future__ import annotations

import math

from omphalon.standin.loop import BAND_C, CONTROL_S, FILTER_S


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
