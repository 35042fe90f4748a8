"""How closely the figures of a heat-up and hold are known: what a second log of the same loop would
show otherwise, by chance.
"""

from __future__ import annotations

import math

import numpy as np
from scipy import signal

from omphalon.arrays import Array
from omphalon.physics.arrival import NEAR_C, Arrival
from omphalon.physics.scale import memory

# noise before and after a median and a mean of three, at an extreme; measured: docs/heater.md, two
# holds of one loop
SMOOTHED = math.sqrt(2)
SINE = 2 * math.sqrt(2)  # peak to peak of a wave, in its standard deviations
LEAST_HOLD = 8  # reports
# of a report: two logs of one course may differ by one, and 1.96 √2 times this is a little more
ONE_REPORT = 0.38


def arrival_deviations(
    time_s: Array, reading_c: Array, power: Array | None, target_c: float, seen: Arrival
) -> dict[str, float]:
    """Standard deviation of each figure of an arrival, by its name.

    A reading carries noise and the steps of the display; a fan that comes on meets a swing at any
    phase; the hold's figures are means over as many independent pieces as its own memory leaves;
    times are known to a report, and to what noise makes of the slope.

    Parameters
    ----------
    time_s, reading_c, power : (n,)
        `power` is None where the log has none.
    target_c : in °C
    seen : what was measured in them

    Returns
    -------
    dict
        Of those figures alone that `seen` has.

    References
    ----------
    Sokal, Monte Carlo Methods in Statistical Mechanics (1997), eq. 2.19: the memory of a series.
    """
    if seen.arrival_s is None or seen.overshoot_c is None:
        return {}
    since = time_s - time_s[0] - seen.start_s
    report = ONE_REPORT * float(np.median(np.diff(time_s)))
    one = math.hypot(seen.noise_c / SMOOTHED, seen.step_c / math.sqrt(12))
    swing = (seen.ripple_c or 0.0) / SINE
    extreme = math.hypot(one, swing)
    end = np.inf if seen.fan_s is None else seen.fan_s
    hold = (since >= min(end, float(since[-1])) - seen.hold_s) & (since <= end)
    climb = _slope(since, reading_c, seen)
    arrival = math.hypot(report, one / climb)
    # a swing that comes near the edge of what counts as settled counts once more, or once less
    wave = (seen.swing_period_s or 0.0) / 4 if (seen.ripple_c or 0.0) > NEAR_C / 2 else 0.0
    out = {
        "arrival_s": arrival,
        "overshoot_c": one,
        "settle_s": math.hypot(arrival, wave),
        "dip_c": extreme,
    }
    if seen.recovery_s and seen.dip_c:
        out["recovery_s"] = math.hypot(report, extreme * seen.recovery_s / max(seen.dip_c, one))
    if hold.sum() >= LEAST_HOLD:
        out |= _of_hold(reading_c[hold] - target_c, None if power is None else power[hold], seen)
    return {name: v for name, v in out.items() if getattr(seen, name) is not None}


def _slope(since: Array, reading_c: Array, seen: Arrival) -> float:
    """°C a second at which it came near the target."""
    start, end = seen.takeover_s or 0.0, seen.arrival_s or 0.0
    near = (since >= min(start, end - 1.0)) & (since <= end)
    rise = float(np.ptp(reading_c[near])) if near.sum() > 1 else NEAR_C
    return max(rise, NEAR_C) / max(end - start, 1.0)


def _of_hold(off: Array, power: Array | None, seen: Arrival) -> dict[str, float]:
    """Of the figures that are means over the hold."""
    left = signal.detrend(off)
    count = pieces(left)
    variance = float(np.var(left))
    wave = max(variance - seen.noise_c**2 - seen.step_c**2 / 12, 0.0)
    doubt = variance * math.sqrt(2 / count)
    # the ripple is 2√2 times the root of `wave`, whose own doubt this is
    half = math.sqrt(wave + doubt) - math.sqrt(wave)
    # even where nothing swings, one hold's mean lies a step of the display from another's
    out = {
        "ripple_c": SINE * half,
        "bias_c": math.hypot(math.sqrt(variance / count), seen.step_c / math.sqrt(12)),
    }
    if power is not None:
        out["mean_power"] = float(np.std(power)) / math.sqrt(pieces(signal.detrend(power)))
    return out


def pieces(values: Array) -> float:
    """Independent pieces in a series (n,) of mean 0: its length over its memory, two at least."""
    return max(len(values) / memory(values), 2.0)
