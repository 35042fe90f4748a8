"""A heater switched on and off around a target: when it switched, its cycles, its ultimate gain."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.special import stdtrit

from omphalon.base.arrays import Array, Complexes, Integers
from omphalon.physics.scale import robust_deviation

# half width, as a share of the gain, of what intervals and noise of the reports cut off a cycle:
# from the families "two masses" and "radiation" of benchmarks/intervals.py
CUT = 0.02
MEDIAN = float(
    np.sqrt(np.pi / 2)
)  # a median's error over a mean's, for normal scatter (Kendall and Stuart, vol. 1, ex. 10.7)


@dataclass(frozen=True)
class Switching:
    """The instants at which the power changed, shape (s,): estimates, their doubt (s), and the side
    (+1 on, −1 off).
    """

    time_s: Array
    doubt_s: Array
    side: Integers
    row: Integers
    level_c: float


@dataclass(frozen=True, kw_only=True)
class Cycles:
    """Full cycles, each from one switching-on to the next; arrays of shape (c,), `response` complex
    in °C per power.

    `response` is the fundamental of the temperature over that of the power: the heater's frequency
    response at the cycle's frequency, whatever the relay did to bring the cycle about.
    """

    start_s: Array
    period_s: Array
    on_s: Array
    amplitude_c: Array
    high: Array
    low: Array
    response: Complexes

    @property
    def count(self) -> int:
        return len(self.period_s)


@dataclass(frozen=True)
class Ultimate:
    """Gain (power per °C) and period at which the cycles turn, with 95 % half widths, and their
    phase in degrees.

    A phase of −180° makes it the ultimate gain; a relay that waits before it switches back turns
    slower than that.
    """

    gain: float
    period_s: float
    gain_spread: float
    period_spread_s: float
    phase_deg: float


def noise_level(time_s: Array, temperature_c: Array) -> float:
    """Standard deviation of one report, from how far each lies off the cubic through its four
    neighbours.

    The weights −1, 4, −6, 4, −1 (fourth difference) cancel a curve of third degree; for white noise
    of deviation s their sum has deviation √70 s. The median keeps switching kinks out; only the
    flatter two fifths of the log count, since on a slope the clock's jitter looks like noise.

    Parameters
    ----------
    time_s, temperature_c : (n,)

    Returns
    -------
    in °C; 0 where there are fewer than 9 reports
    """
    if len(temperature_c) < 9:
        return 0.0
    y = temperature_c
    off = (y[:-4] - 4 * y[1:-3] + 6 * y[2:-2] - 4 * y[3:-1] + y[4:]) / np.sqrt(70.0)
    steep = np.abs(y[4:] - y[:-4]) / np.maximum(time_s[4:] - time_s[:-4], 1e-9)
    off = off[steep <= np.quantile(steep, 0.4)]
    return robust_deviation(off)


def quantum(temperature_c: Array) -> float:
    """The step in which temperatures are given: the smallest difference that is not zero.

    Parameters
    ----------
    temperature_c : (n,)

    Returns
    -------
    in °C; 0 where nothing changes
    """
    steps = np.diff(np.unique(np.round(temperature_c, 4)))
    return float(steps.min()) if len(steps) else 0.0


def power_sides(power: Array) -> Integers:
    """+1 where the power is on its high side, −1 on its low side, by whether it jumped up or down
    last.

    A jump counts when it is more than a quarter of the whole range; smaller shifts keep the side.

    Parameters
    ----------
    power : (n,)

    Returns
    -------
    (n,)
    """
    jump = np.diff(power)
    big = np.abs(jump) > 0.25 * (np.max(power) - np.min(power))
    first = 1 if power[0] > 0.5 * (np.max(power) + np.min(power)) else -1
    marks = np.where(big, np.sign(jump), 0.0)
    last = np.maximum.accumulate(np.where(big, np.arange(1, len(power)), 0))
    sides = np.where(last > 0, marks[last - 1], first)
    return np.concatenate([[first], sides]).astype(np.int64)


def switching(time_s: Array, temperature_c: Array, power: Array, noise_c: float) -> Switching:
    """When the power changed, between two reports.

    The report only tells the interval. Inside it, the instant is where the curve (a parabola
    through the nearest reports) crosses the level that this kind of switching has in common;
    crossing and the interval's middle are combined by their variances, noise/slope for the one,
    interval/√12 for the other.

    Parameters
    ----------
    time_s, temperature_c, power : (n,)
    noise_c : deviation of one report

    Returns
    -------
    Switching
    """
    sides = power_sides(power)
    row = np.flatnonzero(np.diff(sides) != 0)
    side = sides[row + 1]
    early, late = time_s[row], time_s[row + 1]
    middle, half = (early + late) / 2, (late - early) / 2
    at = np.zeros((len(row), 3))
    for n, r in enumerate(row.tolist()):
        lo, hi = max(0, r - 2), min(len(time_s), r + 4)
        at[n, 2] = temperature_c[r]
        if hi - lo > 3:
            at[n] = np.polyfit(time_s[lo:hi] - middle[n], temperature_c[lo:hi], 2)
    level = {
        s: float(np.median(at[side == s, 2][1:] if (side == s).sum() > 2 else at[side == s, 2]))
        for s in (1, -1)
        if (side == s).any()
    }
    goal = np.array([level[s] for s in side])
    slope = np.where(
        at[:, 1] * side < 0, at[:, 1], 0.0
    )  # off while rising, on while falling; else no crossing
    with np.errstate(divide="ignore", invalid="ignore"):
        offset = np.where(np.abs(slope) > 1e-9, (goal - at[:, 2]) / slope, 0.0)
        bend = np.where(np.abs(slope) > 1e-9, at[:, 0] * offset**2 / slope, 0.0)
    crossing = np.clip(np.nan_to_num(offset - bend), -half, half)
    spread_mid = 2 * half / np.sqrt(12)
    spread_cross = np.hypot(1.2 * max(noise_c, 1e-3) / np.maximum(np.abs(slope), 1e-6), 0.1 * half)
    trust = spread_mid**2 / (spread_mid**2 + spread_cross**2)
    doubt = np.sqrt(spread_mid**2 * (1 - trust))
    both = float(np.mean(list(level.values()))) if level else float("nan")
    return Switching(middle + trust * crossing, doubt, side, row, both)


def cycles(time_s: Array, temperature_c: Array, power: Array, switched: Switching) -> Cycles:
    """Full cycles between switchings-on. The heat-up and the first overshoot belong to none of
    them.

    Parameters
    ----------
    time_s, temperature_c, power : (n,)
    switched : when the power changed

    Returns
    -------
    Cycles
    """
    ons = np.flatnonzero(switched.side > 0)
    if len(switched.side) and switched.side[0] > 0 and len(ons) > 1:
        first_off = np.flatnonzero(switched.side < 0)
        ons = ons[ons > first_off[0]] if len(first_off) else ons[:0]
    rows, responses, drives, folded = [], [], [], []
    for a, b in zip(ons[:-1], ons[1:], strict=True):
        offs = [k for k in range(a + 1, b) if switched.side[k] < 0]
        inside = (time_s >= switched.time_s[a]) & (time_s <= switched.time_s[b])
        if len(offs) != 1 or inside.sum() < 2:
            continue
        start, end, off = switched.time_s[a], switched.time_s[b], switched.time_s[offs[0]]
        t, y, turn = time_s[inside], temperature_c[inside], 2 * np.pi / (end - start)
        wave = np.exp(-1j * turn * (t - start))
        fit = _wave(t, y, wave) if len(t) > 3 else np.full(4, np.nan)
        folded.append((wave, y - y.mean()))
        heating = (time_s > start) & (time_s < off)
        resting = (time_s > off) & (time_s < end)
        high = (
            float(np.median(power[heating])) if heating.any() else float(power[switched.row[a] + 1])
        )
        low = (
            float(np.median(power[resting]))
            if resting.any()
            else float(power[switched.row[offs[0]] + 1])
        )
        drive = (
            (high - low) * (1 - np.exp(-1j * turn * (off - start))) / (1j * turn * (end - start))
        )
        rows.append((start, end - start, off - start, (y.max() - y.min()) / 2, high, low))
        drives.append(drive)
        responses.append(
            complex(fit[2], fit[3]) / 2 / drive if abs(drive) > 1e-9 else complex("nan")
        )
    table = np.array(rows, dtype=np.float64).reshape(len(rows), 6)
    start, period, on, amplitude, high_power, low_power = table.T
    response = np.array(responses, dtype=np.complex128)
    missing = np.isnan(response)
    if missing.any():  # too few reports in a cycle: all cycles laid over each other
        waves, values = (np.concatenate(v) for v in zip(*folded, strict=True))
        fit = _wave(np.zeros(len(values)), values, waves)
        response[missing] = complex(fit[2], fit[3]) / 2 / np.array(drives)[missing]
    return Cycles(
        start_s=start,
        period_s=period,
        on_s=on,
        amplitude_c=amplitude,
        high=high_power,
        low=low_power,
        response=response,
    )


def _wave(t: Array, y: Array, wave: Complexes) -> Array:
    """Mean, drift (where there are reports enough to tell) and the two parts of the fundamental in
    y (n,).
    """
    drift = (t - t.mean()) * (len(t) > 6)
    columns = np.stack([np.ones_like(t), drift, wave.real, wave.imag], axis=1)
    return np.asarray(np.linalg.lstsq(columns, y, rcond=None)[0], dtype=np.float64)


def ultimate(found: Cycles) -> Ultimate:
    """Gain and period of the cycles, by the describing function of a relay with bias.

    A square wave between two powers, on for the part D of the period, has the fundamental 2 (high −
    low) sin(πD)/π; divided by the fundamental of the temperature it is the gain at which the loop
    oscillates. Hysteresis shows in the measured phase instead of being assumed.

    Parameters
    ----------
    found : at least one cycle

    Returns
    -------
    Ultimate

    References
    ----------
    Åström and Hägglund, Automatica 20 (1984), p. 645–651.
    """
    gain = 1 / np.abs(found.response)
    root = np.sqrt(max(found.count, 1))
    t95 = MEDIAN * float(stdtrit(max(found.count - 1, 1), 0.975))
    deviation = [
        float(np.std(v, ddof=1)) if found.count > 1 else 0.0 for v in (gain, found.period_s)
    ]
    middle = float(np.median(gain))
    phase = float(np.degrees(np.angle(np.mean(found.response / np.abs(found.response)))))
    return Ultimate(
        middle,
        float(np.median(found.period_s)),
        float(np.hypot(t95 * deviation[0] / root, CUT * middle)),
        t95 * deviation[1] / root,
        phase - 360 if phase > 0 else phase,
    )
