"""A heated block seen through a sensor, and how its model is fitted to an oscillation log.

For the rise x above ambient, with the power u (0…1), the rise R at the target and losses growing
with x:

    q(t) = K u(t − θ) − κ x²/R                             what is left over to heat, in °C of
    steady rise x    = (1 + z s) / ((1 + T1 s)(1 + T2 s)) q            one mass (T2 = z = 0) or two
    y    = x / (1 + L s) + ambient                         the sensor

Linear filters run as banded triangular solves (BLAS tbsv), one call for a whole log.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.linalg.blas import dtbsv

from omphalon.base.arrays import Array


@dataclass(frozen=True, kw_only=True)
class ThermalModel:
    """K (°C at full power, losses linear), T1, L, θ (s), ambient (°C), κ, R (°C), T2 and z (s, 0
    for one mass).
    """

    gain_c: float
    time_constant_s: float
    lag_s: float
    dead_time_s: float
    ambient_c: float
    loss_growth: float
    reference_c: float
    second_s: float = 0.0
    zero_s: float = 0.0

    @classmethod
    def between(cls, ambient_c: float, reference_c: float) -> ThermalModel:
        """A model of these temperatures; its heater is still to be filled in."""
        return cls(
            gain_c=1.0,
            time_constant_s=1.0,
            lag_s=1.0,
            dead_time_s=1.0,
            ambient_c=ambient_c,
            loss_growth=0.0,
            reference_c=reference_c,
        )

    @property
    def shares(self) -> tuple[float, float]:
        """How the masses' response splits into its two exponentials: A1 = (T1 − z)/(T1 − T2), A2 =
        1 − A1.
        """
        if self.second_s <= 0.0:
            return 1.0, 0.0
        first = (self.time_constant_s - self.zero_s) / (self.time_constant_s - self.second_s)
        return first, 1.0 - first

    @property
    def holding_power(self) -> float:
        """Power (0…1) that holds the target, from (R + κ R)/K."""
        return self.reference_c * (1 + self.loss_growth) / self.gain_c

    def at(self, reference_c: float) -> ThermalModel:
        """The same heater, its losses said about another rise: κ/R stays."""
        growth = self.loss_growth * reference_c / self.reference_c
        return replace(self, reference_c=reference_c, loss_growth=growth)

    def read_as(self, target_c: float, shown_c: float) -> ThermalModel:
        """The same heater held at a target, its temperatures moved so that it reads as another:
        loops at several targets run side by side.
        """
        rise = target_c - self.ambient_c
        return replace(self.at(rise), ambient_c=shown_c - rise)

    def losing(self, times: float) -> ThermalModel:
        """The same heater with its losses scaled, its masses as they are: what a fan does."""
        gain, constant = self.gain_c / times, self.time_constant_s / times
        return replace(self, gain_c=gain, time_constant_s=constant)

    def other_day(self, dead_time: float, power: float) -> ThermalModel:
        """The same heater with its dead time and power scaled."""
        return replace(self, dead_time_s=self.dead_time_s * dead_time, gain_c=self.gain_c * power)


def first_order(driven: Array, step_s: float, constant_s: float) -> Array:
    """Response of 1/(1 + T s), starting at 0, to an input held over cells: y' = a y + (1 − a) u.

    Parameters
    ----------
    driven : (n,)
    step_s : in s
    constant_s : T, in s

    Returns
    -------
    (n + 1,)
    """
    fade = float(np.exp(-step_s / constant_s))
    bands = np.empty((2, len(driven)), order="F")
    bands[0], bands[1] = 1.0, -fade
    return np.concatenate([[0.0], dtbsv(1, bands, (1.0 - fade) * driven, lower=1, diag=1)])
