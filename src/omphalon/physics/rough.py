"""Heaters that swing as a relay test summed up: what its ultimate gain and period leave open."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from omphalon.base.arrays import Array
from omphalon.physics.thermal import ThermalModel
from omphalon.physics.thermal_engine import AMBIENT_C, GROWTH_PRIOR

# of the delay at the ultimate period, how much is lag: from next to none to nearly all of it
LAG_SHARES = (0.05, 0.85)
# of a relay's describing function: 8/π² of the true gain for a swing of straight lines (an
# integrator with dead time), all of it for a sine, which a lag makes of it
STRAIGHT = 8 / math.pi**2
GAIN_DOUBT = 0.2  # of the logarithm of the ultimate gain, to either side: noise and uneven halves
TICK_S = 0.1  # of the test's own controller, which its swing holds too
LEAST_S = 0.05
# steps that fill the unit cube evenly: the generalised golden ratio of four dimensions
STEPS = np.array([0.8567, 0.7339, 0.6287, 0.5386])


@dataclass(frozen=True, kw_only=True)
class RoughHeater:
    """What the summary of a test says of a heater: ultimate gain (power per °C) and period (s) by
    the describing function, and between which powers it holds its target.

    `rms_c`: of the readings.
    """

    ultimate_gain: float
    period_s: float
    target_c: float
    holding: tuple[float, float]
    rms_c: float

    @property
    def model(self) -> ThermalModel:
        """The heater in the middle of what is open."""
        return self._at(np.full(4, 0.5))

    def draws(self, count: int, random: np.random.Generator) -> list[ThermalModel]:
        """Heaters with that swing, spread evenly over what is open; none of it is random."""
        return [self._at((0.5 + n * STEPS) % 1) for n in range(1, count + 1)]

    def _at(self, place: Array) -> ThermalModel:
        """The heater at a place in the unit cube: lag, gain, holding power, growth of losses."""
        lag, gain, holding, growth = (float(v) for v in place)
        low, high = LAG_SHARES
        least, most = self.holding
        return swinging(
            ultimate_gain=self.ultimate_gain * math.exp(GAIN_DOUBT * (2 * gain - 1)),
            period_s=self.period_s,
            rise_c=self.target_c - AMBIENT_C,
            holding_power=least + (most - least) * holding,
            growth=2 * GROWTH_PRIOR[0] * growth,
            lag_share=low + (high - low) * lag,
        )


def swinging(
    *,
    ultimate_gain: float,
    period_s: float,
    rise_c: float,
    holding_power: float,
    growth: float,
    lag_share: float,
) -> ThermalModel:
    """A heater with one mass, a lag and a dead time that swings so in a relay test.

    Parameters
    ----------
    ultimate_gain : 4 d / (π a) of the test, in power per °C
    period_s : of its cycles, in s
    rise_c : of the target over the room, in °C
    holding_power : 0…1, that holds the target
    growth : of the losses over the rise
    lag_share : of the phase that the mass leaves to 180° at that period, how much is lag

    Returns
    -------
    ThermalModel

    References
    ----------
    Åström and Hägglund, Automatica 20 (1984), p. 645–651: phase −180° and gain 1/Ku at the period.
    """
    w = 2 * math.pi / period_s
    slope = 1 + 2 * growth  # of the loss at the target, in that of a loss that does not grow
    gain_c = rise_c * (1 + growth) / holding_power
    true_gain = ultimate_gain / (STRAIGHT + (1 - STRAIGHT) * lag_share)
    mass, lag = 10 * period_s, 0.0
    for _ in range(30):  # the mass's own phase depends on it, and is near 90° at once
        left = math.pi - math.atan(w * mass / slope)
        lag = math.tan(min(lag_share * left, 1.45)) / w
        seen = gain_c / slope * true_gain / math.hypot(1.0, w * lag)
        mass = max(slope * math.sqrt(max(seen**2 - 1, 0.0)) / w, period_s / 2)
    left = math.pi - math.atan(w * mass / slope) - math.atan(w * lag)
    return ThermalModel(
        gain_c=gain_c,
        time_constant_s=mass,
        lag_s=max(lag, LEAST_S),
        dead_time_s=max(left / w - TICK_S, LEAST_S),
        ambient_c=AMBIENT_C,
        loss_growth=growth,
        reference_c=rise_c,
    )
