"""A made-up heater: two masses, a sensor lag, a dead time, losses that grow with temperature,
noise, quantising.

    heated mass  C1 dT1/dt = P u(t − dead) − G (T1 − T2) − l1(T1)
    second mass  C2 dT2/dt = G (T1 − T2) − (1 + fan) l2(T2)
    sensor       lag dS/dt = (1 − place) T1 + place T2 − S
    losses       l(T) = h (T − Ta) (1 + growth (T − Ta))

A hotend is a small heated mass (the cartridge) with the block behind it; a bed is a heated plate
with a build plate on it. Everything runs on lanes, so that many heaters and many gains can be
simulated at once.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

STEP_S = 0.05


@dataclass(frozen=True, kw_only=True)
class SimulatedHeater:
    """What a made-up heater is. Powers in W, heat capacities in J/°C, conductances in W/°C."""

    power_w: float
    heated_j_c: float
    second_j_c: float
    coupling_w_c: float
    loss_heated_w_c: float
    loss_second_w_c: float
    growth_per_c: float
    sensor_place: float
    sensor_lag_s: float
    dead_time_s: float
    ambient_c: float = 23.0
    fan_extra: float = 0.4
    noise_c: float = 0.05
    quantum_c: float = 0.05

    def other_day(self, dead_time: float, power: float) -> SimulatedHeater:
        """The same heater on another day: dead time and power scaled."""
        return replace(self, dead_time_s=self.dead_time_s * dead_time, power_w=self.power_w * power)

    @staticmethod
    def lanes(heaters: list[SimulatedHeater], copies: int, step_s: float) -> Lanes:
        """Heaters of this kind side by side."""
        return Lanes(heaters, copies, step_s)


class Lanes:
    """Many heaters side by side, advanced together; `shape` is (heaters, copies of each)."""

    def __init__(self, heaters: list[SimulatedHeater], copies: int, step_s: float = STEP_S) -> None:
        def column(name: str) -> np.ndarray:
            return np.array([getattr(h, name) for h in heaters], float)[:, None]

        self.step_s = step_s
        self.shape = (len(heaters), copies)
        self.ambient = column("ambient_c")
        self.to_first = step_s * column("power_w") / column("heated_j_c")
        self.swap_first = step_s * column("coupling_w_c") / column("heated_j_c")
        self.swap_second = step_s * column("coupling_w_c") / column("second_j_c")
        self.loss_first = step_s * column("loss_heated_w_c") / column("heated_j_c")
        self.loss_second = step_s * column("loss_second_w_c") / column("second_j_c")
        self.growth = column("growth_per_c")
        self.place = column("sensor_place")
        self.into_sensor = 1.0 - np.exp(-step_s / column("sensor_lag_s"))
        self.extra = column("fan_extra")
        self.first = np.broadcast_to(self.ambient, self.shape).copy()
        self.second = self.first.copy()
        self.sensor = self.first.copy()
        self.fan = False
        self._delay([h.dead_time_s for h in heaters])

    def _delay(self, dead_time_s: list[float]) -> None:
        """A line that power comes out of as late as each heater asks."""
        late = np.array(dead_time_s, float)[:, None] / self.step_s
        self.late, self.part = np.floor(late).astype(int), late - np.floor(late)
        self.depth = int(self.late.max()) + 2
        self.past = np.zeros((self.depth, *self.shape))
        self.now = 0

    def _arrived(self, power: np.ndarray | float) -> np.ndarray:
        """The power that arrives now, `power` being asked for from now on."""
        self.past[self.now % self.depth] = power
        rows = np.arange(self.shape[0])[:, None], np.arange(self.shape[1])[None, :]
        near = self.past[(self.now - self.late) % self.depth, rows[0], rows[1]]
        far = self.past[(self.now - self.late - 1) % self.depth, rows[0], rows[1]]
        return np.asarray(near + self.part * (far - near))

    def advance(self, power: np.ndarray | float) -> None:
        """One step with `power` (0…1) asked for from now on."""
        arrived = self._arrived(power)
        over_first, over_second = self.first - self.ambient, self.second - self.ambient
        across = self.first - self.second
        seen = self.first - self.place * across
        blown = 1.0 + self.extra if self.fan else 1.0
        self.first += (
            self.to_first * arrived
            - self.swap_first * across
            - self.loss_first * over_first * (1 + self.growth * over_first)
        )
        self.second += self.swap_second * across - self.loss_second * blown * over_second * (
            1 + self.growth * over_second
        )
        self.sensor += self.into_sensor * (seen - self.sensor)
        self.now += 1

    def take(self, other: Lanes, rows: np.ndarray) -> None:
        """Copy the state of other's heaters `rows` (other has one copy of each) into the same rows
        of this one.
        """
        for name in ("first", "second", "sensor"):
            getattr(self, name)[rows] = getattr(other, name)[rows]
        self._take_past(other, rows)

    def _take_past(self, other: Lanes, rows: np.ndarray) -> None:
        self.past[:, rows, :] = other.past[
            np.arange(other.now - self.depth, other.now) % other.depth
        ][:, rows, :]


def quantised(value: np.ndarray, quantum_c: float | np.ndarray) -> np.ndarray:
    """What a display of that step shows."""
    return np.round(value / quantum_c) * quantum_c


def lanes_of(heaters: Sequence[Any], copies: int, step_s: float = STEP_S) -> Lanes:
    """Lanes for heaters of one kind, whatever kind that is."""
    return heaters[0].lanes(list(heaters), copies, step_s)  # type: ignore[no-any-return]
