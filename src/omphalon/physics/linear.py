"""The loop linearised around its target: frequency response, ultimate gain, how near it is to
swinging.
"""

from __future__ import annotations

import numpy as np

from omphalon.base.arrays import Array
from omphalon.physics.loop import Gains, Loop
from omphalon.physics.thermal import ThermalModel


def response(model: ThermalModel, loop: Loop, w: Array) -> Array:
    """Frequency response of the heater, linearised at the target.

    The loss κ x²/R has the slope 2κ at x = R and feeds back round the masses; the ticking of the
    controller counts as half a period of dead time.

    Parameters
    ----------
    model : of the heater
    loop : its period and filter count
    w : (n,) in rad/s

    Returns
    -------
    (n,) complex, in °C per unit of power
    """
    s = 1j * w
    masses = (1 + model.zero_s * s) / ((1 + model.time_constant_s * s) * (1 + model.second_s * s))
    plant = model.gain_c * masses / (1 + 2 * model.loss_growth * masses) / (1 + model.lag_s * s)
    return np.asarray(
        plant * np.exp(-(model.dead_time_s + loop.period_s / 2) * s), dtype=np.complex128
    )


def ultimate_of(model: ThermalModel, loop: Loop) -> tuple[float, float]:
    """Ultimate gain and period: where the response's phase passes −180°, and what it is there.

    Parameters
    ----------
    model : of the heater
    loop : the controller

    Returns
    -------
    gain in power per °C, period in s
    """
    w = np.geomspace(1e-4, np.pi / loop.period_s, 1500)
    seen = response(model, loop, w)
    phase = np.unwrap(np.angle(seen))
    at = int(np.clip(np.searchsorted(-phase, np.pi), 1, len(w) - 1))
    part = (np.pi + phase[at - 1]) / (phase[at - 1] - phase[at])
    where = float(np.exp(np.log(w[at - 1]) + part * np.log(w[at] / w[at - 1])))
    return 1 / float(np.abs(response(model, loop, np.array([where]))[0])), 2 * np.pi / where


def textbook(gain: float, period_s: float) -> Gains:
    """Gains by the table Kc = Ku/2.2, Ti = 2.2 Tu, Td = Tu/6.3.

    Parameters
    ----------
    gain : ultimate, in power per °C
    period_s : ultimate

    Returns
    -------
    Gains

    References
    ----------
    Tyreus and Luyben, Ind. Eng. Chem. Res. 31 (1992), p. 2625.
    """
    kp = gain / 2.2
    return Gains(kp, kp / (2.2 * period_s), kp * period_s / 6.3)


def sensitivity(model: ThermalModel, gains: Array, loop: Loop) -> Array:
    """How near the loop is to swinging: the peak of |1/(1 + L(jω))|, linearised around the target;
    up to 2 is sound.

    Parameters
    ----------
    model : of the heater
    gains : (n, 3)
    loop : the controller

    Returns
    -------
    (n,)

    References
    ----------
    Åström and Murray, Feedback Systems (2008), sec. 12.3.
    """
    slow = 1e-2 / (model.time_constant_s + model.dead_time_s)
    w = np.geomspace(slow, 0.9 * np.pi / loop.period_s, 300)
    kp, ki, kd = (np.asarray(gains, dtype=np.float64)[:, i, None] for i in range(3))
    control = kp + ki / (1j * w) + kd * 1j * w / (1 + loop.filter_s * 1j * w)
    return np.asarray(
        np.max(1 / np.abs(1 + response(model, loop, w) * control), axis=1), dtype=np.float64
    )
