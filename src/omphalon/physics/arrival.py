"""A heat-up, a hold, and the part fan coming on: what a temperature log of a working loop shows,
and how closely that is known: what a second log of the same loop would show otherwise, by chance.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy import signal

from omphalon.base.arrays import Array, Mask
from omphalon.physics.hunting import Hunting, hunting
from omphalon.physics.oscillation import noise_level, quantum
from omphalon.physics.scale import autocorrelation_time
from omphalon.tables.constants import BAND_C

ARRIVED_WITHIN_C = 1.0  # of its target: there it has arrived
LEAST_HOLD = 8  # reports
# of a report: two logs of one course may differ by one, and 1.96 √2 times this is a little more
ONE_REPORT = 0.38


@dataclass(frozen=True, kw_only=True)
class Arrival:
    """What was seen; None where the log shows no such thing. Times in s from the start of heating,
    which is start_s into the log. climbing: whether the log ends while the reading still rises by 4
    °C in unit_s or more.

    creep_s: how much longer the last 9 °C took than the heating rate before them would have.
    swing_c, swing_period_s: of a hold that swings all the time; its ripple is twice that, its bias
    the mean over whole periods. above_s: how long the first overshoot stayed above a
    third of its height. busy: share of the hold in which the power stood at a limit. fan_s, dip_c,
    recovery_s: the disturbance in the hold.
    """

    start_s: float
    noise_c: float
    step_c: float
    climbing: bool
    takeover_s: float | None
    arrival_s: float | None
    creep_s: float | None = None
    overshoot_c: float | None = None
    above_s: float | None = None
    settle_s: float | None = None
    ripple_c: float | None = None
    bias_c: float | None = None
    swing_c: float | None = None
    swing_period_s: float | None = None
    hold_s: float = 0.0
    mean_power: float | None = None
    most_power: float | None = None
    busy: float | None = None
    chatter: float | None = None
    fan_s: float | None = None
    dip_c: float | None = None
    recovery_s: float | None = None


def smoothed(y: Array) -> Array:
    """Median of three, then mean of three: one bad report goes, a curve stays.

    Parameters
    ----------
    y : (n,)

    Returns
    -------
    (n,)
    """
    padded = np.concatenate([y[:1], y, y[-1:]])
    middle = np.median(np.stack([padded[:-2], padded[1:-1], padded[2:]]), axis=0)
    padded = np.concatenate([middle[:1], middle, middle[-1:]])
    return np.asarray((padded[:-2] + padded[1:-1] + padded[2:]) / 3, dtype=np.float64)


def look(
    time_s: Array,
    reading_c: Array,
    power: Array | None,
    target_c: float,
    unit_s: float,
    fan_s: float | None = None,
) -> Arrival:
    """Measure a heat-up and hold.

    Parameters
    ----------
    time_s, reading_c, power : (n,)
        `power` is 0…1, or None where the log has none.
    target_c : in °C
    unit_s : in s
        60 for a hotend, 300 for a bed: what counts as long.
    fan_s : in s
        When the part fan came on; None where it did not.

    Returns
    -------
    Arrival
    """
    start = _start(reading_c, power)
    t, y = time_s - time_s[start], reading_c
    begun, sigma, step = float(time_s[start] - time_s[0]), noise_level(t, y), quantum(y)
    off = smoothed(y) - target_c
    tail = t > t[-1] - unit_s / 6
    climbing = bool(tail.sum() > 2 and np.polyfit(t[tail], off[tail], 1)[0] * unit_s > 4.0)
    takeover = _first(t, off >= -BAND_C, start)
    arrival = _first(t, off >= -ARRIVED_WITHIN_C, start)
    fan = None if fan_s is None else fan_s - begun
    swing = _swing(t, y - target_c, arrival, unit_s, fan, step)
    if fan is None and swing is None:  # a swing is no fan that comes on
        fan = _fan(t, off, arrival, unit_s, sigma)
    seen = Arrival(
        start_s=begun,
        noise_c=sigma,
        step_c=step,
        climbing=climbing,
        takeover_s=takeover,
        arrival_s=arrival,
        **_power_in(power, t > t[-1] - unit_s / 2),
    )
    first = (t >= (takeover or 0.0)) & (t < (fan if fan is not None else np.inf))
    if takeover is None or arrival is None or first.sum() < 5:
        return seen
    overshoot, above = _overshoot(t[first], off[first])
    outside = first & (np.abs(off) > ARRIVED_WITHIN_C + 2 * sigma / np.sqrt(3))
    settle = arrival if not outside.any() else float(t[np.flatnonzero(outside)[-1]])
    end = float(t[first][-1])
    hold = first & (t >= min(max(settle, arrival + unit_s / 4), end - unit_s / 2))
    if swing is not None:
        hold = first & (t >= arrival)
        sigma = swing.noise_c
    ripple = 2 * swing.size_c if swing else _ripple(t[hold], (y - target_c)[hold], sigma, step)
    dip, recovery = _dip(t, off, fan, sigma)
    return replace(
        seen,
        creep_s=_creep(t, off, takeover, arrival),
        overshoot_c=overshoot,
        above_s=above,
        settle_s=settle if settle < end - unit_s / 10 else None,
        noise_c=sigma,
        ripple_c=ripple,
        bias_c=swing.mean_c if swing else float(np.mean((y - target_c)[hold])),
        swing_c=swing.size_c if swing else None,
        swing_period_s=swing.period_s if swing else None,
        hold_s=float(np.ptp(t[hold])),
        fan_s=fan,
        dip_c=dip,
        recovery_s=recovery,
        **_power_in(power, hold),
    )


def _start(y: Array, power: Array | None) -> int:
    """Where heating begins: the first power, or else a rise of 3 °C."""
    begun = np.flatnonzero(power > 0.01) if power is not None else np.flatnonzero(y > y[0] + 3.0)
    return int(begun[0]) if len(begun) else 0


def _first(t: Array, true: Mask, start: int) -> float | None:
    found = np.flatnonzero(true[start:])
    return float(t[start + found[0]]) if len(found) else None


def _fan(t: Array, off: Array, arrival: float | None, unit_s: float, sigma: float) -> float | None:
    """A sudden dip out of a steady hold: where it began, or None."""
    if arrival is None:
        return None
    late = np.flatnonzero(t > arrival + 0.5 * unit_s)
    if len(late) < 5:
        return None
    low = late[np.argmin(off[late])]
    calm = (
        (t < t[low] - 0.05 * unit_s) & (t > t[low] - 0.7 * unit_s) & (t > arrival + 0.25 * unit_s)
    )
    if calm.sum() < 4:
        return None
    level, scatter = (
        float(np.median(off[calm])),
        float(np.median(np.abs(off[calm] - np.median(off[calm])))),
    )
    depth = level - off[low]
    if depth < max(4 * sigma, 6 * scatter, 0.3):
        return None
    before = np.flatnonzero((t <= t[low]) & (off >= level - 0.15 * depth))
    return float(t[before[-1]]) if len(before) else None


def _overshoot(t: Array, off: Array) -> tuple[float, float]:
    """Height of the highest reading above the target, and how long the curve stayed above a third
    of it around it.
    """
    top = int(np.argmax(off))
    height = max(float(off[top]), 0.0)
    below = np.flatnonzero(off < height / 3)
    before, after = below[below < top], below[below > top]
    begin = t[before[-1]] if len(before) else t[0]
    end = t[after[0]] if len(after) else t[-1]
    return height, float(end - begin)


def _creep(t: Array, off: Array, takeover: float, arrival: float) -> float:
    """How much longer the last stretch took than the rate just before it would have."""
    before = (t < takeover) & (off > -2.5 * BAND_C)
    rate = float(np.polyfit(t[before], off[before], 1)[0]) if before.sum() > 2 else np.inf
    return arrival - takeover - (BAND_C - ARRIVED_WITHIN_C) / max(rate, 1e-3)


def _swing(
    t: Array, off: Array, arrival: float | None, unit_s: float, fan: float | None, step: float
) -> Hunting | None:
    """The swing of the hold from its arrival to the fan, or to the end."""
    if arrival is None:
        return None
    hold = (t >= arrival + unit_s / 4) & (t < (np.inf if fan is None else fan))
    if hold.sum() < 12:
        return None
    return hunting(t[hold], off[hold], noise_level(t[hold], off[hold]), step)


def _ripple(t: Array, y: Array, sigma: float, step: float) -> float:
    """Peak to peak of what is left in the hold when trend, noise and display steps are taken
    off.
    """
    if len(t) < 6:
        return 0.0
    trend = np.polyval(np.polyfit(t, y, 1), t)
    variance = float(np.var(y - trend)) - sigma**2 - step**2 / 12
    return float(2 * np.sqrt(2 * max(variance, 0.0)))


def _dip(
    t: Array, off: Array, fan: float | None, sigma: float
) -> tuple[float | None, float | None]:
    """Depth below the target after the fan came on, and the time until the reading is back for
    good; None if never.
    """
    if fan is None:
        return None, None
    after = t >= fan
    depth = float(-np.min(off[after]))
    low = np.flatnonzero(after)[int(np.argmin(off[after]))]
    back = np.flatnonzero((np.arange(len(t)) > low) & (off > -max(0.5, 2 * sigma)))
    return depth, float(t[back[0]] - fan) if len(back) else None


def _power_in(power: Array | None, where: Mask) -> dict[str, Any]:
    """Mean power, the most in the whole log, share of time at a limit, and mean change from report
    to report.
    """
    if power is None or where.sum() < 3:
        return {}
    p, most = power[where], float(power.max())
    busy = float(np.mean((p > 0.98 * most) | (p < 0.005)))
    return {
        "mean_power": float(p.mean()),
        "most_power": most,
        "busy": busy,
        "chatter": float(np.mean(np.abs(np.diff(p)))),
    }


# noise before and after a median and a mean of three, at an extreme; measured: docs/heater.md, two
# holds of one loop
SMOOTHED = math.sqrt(2)
SINE = 2 * math.sqrt(2)  # peak to peak of a wave, in its standard deviations


def arrival_deviations(
    time_s: Array, reading_c: Array, power: Array | None, target_c: float, seen: Arrival
) -> dict[str, float]:
    """Standard deviation of each figure of an arrival, by its name.

    A reading carries noise and the steps of the display; a fan that comes on meets a swing at any
    phase; the hold's figures are means over as many independent pieces as its autocorrelation time
    leaves; times are known to a report, and to what noise makes of the slope.

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
    Sokal, Monte Carlo Methods in Statistical Mechanics (1997), eq. 2.19: the autocorrelation time.
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
    wave = (
        (seen.swing_period_s or 0.0) / 4 if (seen.ripple_c or 0.0) > ARRIVED_WITHIN_C / 2 else 0.0
    )
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
    rise = float(np.ptp(reading_c[near])) if near.sum() > 1 else ARRIVED_WITHIN_C
    return max(rise, ARRIVED_WITHIN_C) / max(end - start, 1.0)


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
    """Independent pieces in a series (n,) of mean 0: its length over its autocorrelation
    time, two at least."""
    return max(len(values) / autocorrelation_time(values), 2.0)
