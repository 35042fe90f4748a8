"""A frequency sweep seen by an accelerometer: where it runs in the log, and the response it alone
excites.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import fft, interpolate, ndimage, signal

from omphalon.base.arrays import Array, Complexes, Mask
from omphalon.physics.resonance import Response

RATE_HZ = 512.0  # all work is done at this rate
WINDOW_S = 1.0  # of one spectrum: a Hann line is 1.4 Hz wide at half power
HOP_S = 0.1  # between windows
LOW_HZ, HIGH_HZ = 4.0, 200.0  # that a sweep may reach
SPLINED_STEPS = 4.0  # a gap up to so many usual steps is spanned by a spline
LINE_BINS, LINE_TIMES = 41, 5.0  # a line stands out so many times of the median of so many bins
BEFORE_S, AFTER_S = 1.2, 2.6  # of the sweep's passing: what belongs to it at one frequency
LEAST_SPAN_HZ = 18.0  # a shorter climb is no sweep
SURE_SPAN_HZ = 90.0  # no chance line climbs so far
EDGE_HZ = 2.5  # where a sweep starts and ends, it is not yet itself


class NoSweep(Exception):
    """There is no sweep in the log."""


@dataclass(frozen=True)
class Ridge:
    """Where the sweep runs: it passes frequency (m,) Hz at passing (m,) s; `clear` is the share of
    rows in which it is seen.
    """

    frequency_hz: Array
    passing_s: Array
    clear: float

    @property
    def rate_hz_s(self) -> float:
        """Mean rate, negative for one that falls."""
        return float(
            (self.frequency_hz[-1] - self.frequency_hz[0])
            / (self.passing_s[-1] - self.passing_s[0])
        )


@dataclass(frozen=True)
class Spectra:
    """Power of short windows: power (m, k) at frequencies (m,) Hz and times (k,) s of the windows'
    middles.
    """

    frequency_hz: Array
    time_s: Array
    power: Array


def evenly(time_s: Array, values: Array, rate_hz: float, without_lines: bool = True) -> Array:
    """Values at uneven times, band-limited and put on even steps of RATE_HZ.

    Between samples by a cubic spline: a straight line over a lost sample is so far off near a tall
    resonance that what it adds is taken for further modes. Over longer gaps, where a spline swings
    out, by a line.

    Parameters
    ----------
    time_s, values : (n,)
    rate_hz : about how many a second there are
    without_lines : whether steady lines (hum) are cut out of the spectrum on the way; taps at even
        intervals look like lines themselves

    Returns
    -------
    (m,)
    """
    count = int((time_s[-1] - time_s[0]) * rate_hz) + 1
    grid = time_s[0] + np.arange(count) / rate_hz
    even = interpolate.CubicSpline(time_s, values)(grid)
    steps = np.diff(time_s)
    before = np.searchsorted(time_s[1:-1], grid, "right")
    wide = steps[before] > SPLINED_STEPS * np.median(steps)
    even[wide] = np.interp(grid[wide], time_s, values)
    size = fft.next_fast_len(count, real=True)
    less = max(int(size * RATE_HZ / rate_hz) // 2 * 2, 16)
    spectrum = fft.rfft(even - even.mean(), size)[: less // 2 + 1]
    spectrum = _without_lines(spectrum) if without_lines else spectrum
    return np.asarray(fft.irfft(spectrum, less)[: int(count * less / size)] * (less / size))


def _without_lines(spectrum: Complexes) -> Complexes:
    """The whole log's spectrum with steady lines (hum) cut down to their neighbourhood: a sweep has
    no such narrow line.
    """
    size = np.abs(spectrum)
    level = ndimage.median_filter(size, LINE_BINS)
    tall = size > LINE_TIMES * level
    return np.where(tall, spectrum * (level / np.maximum(size, 1e-300)), spectrum)


def spectra(values: Array, start_s: float) -> Spectra:
    """Power in Hann windows of WINDOW_S every HOP_S, LOW_HZ to HIGH_HZ.

    Parameters
    ----------
    values : (n,) at RATE_HZ
    start_s : time of the first one

    Returns
    -------
    Spectra
    """
    width, hop = int(WINDOW_S * RATE_HZ), int(HOP_S * RATE_HZ)
    frequency, time, power = signal.spectrogram(
        values, RATE_HZ, window="hann", nperseg=width, noverlap=width - hop, detrend=False
    )
    inside = (frequency >= LOW_HZ) & (frequency <= HIGH_HZ)
    return Spectra(frequency[inside], start_s + time, power[inside])


def follow(seen: Spectra) -> Ridge:
    """The sweep's course: the straight line (or the exponential one) in frequency and time that
    holds most power above each frequency's own median, so that a steady line counts for nothing;
    then the line is bent to the power's middle.

    A line of a multiple of another's rate from the same zero is its harmonic; the other one is the
    drive.

    Parameters
    ----------
    seen : all the sensor's axes together

    Returns
    -------
    Ridge

    Raises
    ------
    NoSweep
        If no line is long and clear enough.
    """
    calm = np.median(seen.power, axis=1, keepdims=True) + 1e-300
    evidence = np.clip(np.log(seen.power / calm) - 1.5, -1.0, 4.0)
    hop = float(seen.time_s[1] - seen.time_s[0])
    every = 4
    columns = evidence.shape[1] // every * every
    coarse = (
        evidence[::2, :columns].reshape(-1, columns // every, every).max(axis=2).astype(np.float32)
    )
    f, hop = seen.frequency_hz[::2], every * hop
    duration, span = float(seen.time_s[-1] - seen.time_s[0]), float(f[-1] - f[0])
    lines: list[_Line] = []
    for sign in (1, -1):
        if not any(line.sure(f) for line in lines):
            lines += [
                _best_line(coarse, f, rate * sign, hop, False)
                for rate in np.geomspace(27.0 / duration, span / 8.0, 34)
            ]
    best = _finer(coarse, f, hop, max(lines, key=lambda x: x.score))
    while slower := _slower(coarse, f, hop, best):
        best = max(slower, key=lambda x: x.score)
    if not best.sure(f):
        octaves = math.log(f[-1] / f[0])
        bent = [
            _best_line(coarse, f, rate * sign, hop, True)
            for sign in (1, -1)
            for rate in np.geomspace(octaves / max(duration, 1.0) * 0.4, octaves / 8.0, 40)
        ]
        best = max(
            [best, _finer(coarse, f, hop, max(bent, key=lambda x: x.score))], key=lambda x: x.score
        )
    low, high = float(f[best.rows[0]]) + EDGE_HZ, float(f[best.rows[1] - 1]) - EDGE_HZ
    if high - low < LEAST_SPAN_HZ or best.score < 0.8 * (best.rows[1] - best.rows[0]):
        raise NoSweep
    inside = (seen.frequency_hz >= low) & (seen.frequency_hz <= high)
    frequency = seen.frequency_hz[inside]
    return _bent(
        seen,
        evidence[inside],
        frequency,
        seen.time_s[0] + hop * (best.start + 0.5) + best.delay_s(frequency),
    )


@dataclass(frozen=True, kw_only=True)
class _Line:
    """A course through frequency and time: its start (in hops), rate, whether exponential, its best
    rows, its score and the share of its rows in which power stands out."""

    score: float = 0.0
    share: float = 0.0
    start: float = 0.0
    rate: float
    bent: bool
    rows: tuple[int, int] = (0, 0)
    first_hz: float
    hop_s: float

    def delay_s(self, frequency: Array) -> Array:
        """Time from the start to each frequency."""
        return np.asarray(
            (np.log(frequency / self.first_hz) if self.bent else frequency - self.first_hz)
            / self.rate
        )

    def sure(self, frequency: Array) -> bool:
        """Whether it runs so far and so clearly that no other kind of course need be tried."""
        first, end = self.rows
        return (
            end - first > 8
            and self.score > 2.0 * (end - first)
            and float(frequency[end - 1] - frequency[first]) > SURE_SPAN_HZ
        )

    def zero_s(self) -> float:
        """When a straight line passes 0 Hz."""
        return self.start * self.hop_s - self.first_hz / self.rate


def _slower(
    evidence: NDArray[np.float32], frequency: Array, hop: float, best: _Line
) -> list[_Line]:
    """Lines of which the best may be a harmonic: a half, third … of its rate, from the same zero,
    and clear.
    """
    zero = best.zero_s()
    found = [
        max(
            (
                _best_line(evidence, frequency, best.rate / n * k, hop, False, zero)
                for k in (0.98, 1.0, 1.02)
            ),
            key=lambda x: x.score,
        )
        for n in (2, 3, 4, 5)
    ]
    return [x for x in found if x.score > 0.15 * best.score and x.share > 0.75]


def _finer(evidence: NDArray[np.float32], frequency: Array, hop: float, line: _Line) -> _Line:
    """The best line among rates a little slower and faster."""
    return max(
        (
            _best_line(evidence, frequency, line.rate * k, hop, line.bent)
            for k in np.linspace(0.93, 1.07, 7)
        ),
        key=lambda x: x.score,
    )


def _best_line(
    evidence: NDArray[np.float32],
    frequency: Array,
    rate: float,
    hop: float,
    bent: bool,
    zero_s: float | None = None,
) -> _Line:
    """The start whose line of this rate has the best contiguous stretch of rows; of those that pass
    0 Hz within 4 s of `zero_s`.
    """
    shape = _Line(rate=rate, bent=bent, first_hz=float(frequency[0]), hop_s=hop)
    shift = np.rint(shape.delay_s(frequency) / hop).astype(int)
    count = evidence.shape[1]
    starts = np.arange(-int(shift.max()), count - int(shift.min()))
    if zero_s is not None:
        starts = np.arange(-int(4 / hop), int(4 / hop) + 1) + int(
            round((zero_s + frequency[0] / rate) / hop)
        )
    at = starts[:, None] + shift
    seen = np.where(
        (at >= 0) & (at < count), evidence[np.arange(len(shift)), np.clip(at, 0, count - 1)], -0.6
    )
    total = np.concatenate([np.zeros((len(starts), 1)), np.cumsum(seen, axis=1)], axis=1)
    gain = total - np.minimum.accumulate(total, axis=1)
    best = int(np.argmax(gain.max(axis=1)))
    high = int(np.argmax(gain[best]))
    low = int(np.argmin(total[best, : high + 1]))
    share = float((seen[best, low:high] > 0).mean()) if high > low else 0.0
    score, start = float(gain[best, high]), float(starts[best])
    return replace(shape, score=score, share=share, start=start, rows=(low, high))


def _bent(seen: Spectra, evidence: Array, frequency: Array, line: Array) -> Ridge:
    """The line bent to where the power stands: at each frequency the middle of what rises above
    half the row's best near the line, through which a cubic in frequency is laid; twice, the second
    time closer."""
    rows = np.flatnonzero(np.isin(seen.frequency_hz, frequency))
    scaled = (frequency - frequency.mean()) / np.ptp(frequency)
    pace = abs(float(np.ptp(frequency) / np.ptp(line)))
    sure = np.zeros(len(frequency), dtype=bool)
    for reach in (max(2.0, 6.0 / pace), max(1.2, 2.0 / pace)):
        near = np.abs(seen.time_s[None, :] - line[:, None]) < reach
        power = np.where(near, seen.power[rows], 0.0)
        weight = np.maximum(power - 0.5 * power.max(axis=1, keepdims=True), 0.0)
        middle = (weight * seen.time_s).sum(axis=1) / np.maximum(weight.sum(axis=1), 1e-300)
        sure = np.where(near, evidence, -1.0).max(axis=1) > 0.5
        if sure.sum() < 12:
            raise NoSweep
        off = middle - line
        fine = sure.copy()
        for _ in range(3):
            curve = np.polyfit(scaled[fine], off[fine], 3)
            miss = np.abs(off - np.polyval(curve, scaled))
            fine = sure & (miss < 3 * max(float(np.median(miss[fine])), 0.05))
        line = line + np.polyval(curve, scaled)
    return Ridge(frequency, line, float(sure.mean()))


def excited(seen: Spectra, ridge: Ridge) -> Response:
    """Power of the response to the sweep itself.

    It is what each frequency has around the sweep's passing, less what it has at other times while
    the sweep runs elsewhere (hum, noise). By Parseval the windows' sum is the whole passing's
    energy spectrum, seen through the window's own line.

    Parameters
    ----------
    seen : of one axis
    ridge : where the sweep runs

    Returns
    -------
    Response
    """
    rows = np.flatnonzero(np.isin(seen.frequency_hz, ridge.frequency_hz))
    away = seen.time_s[None, :] - ridge.passing_s[:, None]
    pace = abs(ridge.rate_hz_s)
    extra = 1.5 / pace if pace < 1.5 else 1.0  # a slow sweep stays in a window's line for longer
    passing = (away > -BEFORE_S - extra) & (away < AFTER_S + extra)
    first, last = sorted((float(ridge.passing_s[0]), float(ridge.passing_s[-1])))
    running = (seen.time_s > first - 0.5) & (seen.time_s < last + 0.5)
    harmonic = np.zeros_like(passing)
    for n in (2, 3, 4):
        at = np.interp(
            seen.frequency_hz[rows] / n,
            ridge.frequency_hz,
            ridge.passing_s,
            left=np.nan,
            right=np.nan,
        )
        harmonic |= np.abs(seen.time_s[None, :] - at[:, None]) < 2.5
    other = running[None, :] & ~passing & ~harmonic & (np.abs(away) > 5.0)
    power = seen.power[rows]
    background = _background(power, other)
    count = passing.sum(axis=1)
    energy = np.where(passing, power, 0.0).sum(axis=1)
    left = energy - background * count
    floor = 0.03 * energy + 1e-300
    usable = left > floor
    noise = 2 * np.sqrt(background * count * 2.0 / np.maximum(left, floor)) / math.sqrt(6.0)
    deviation = np.hypot(noise, 0.03)
    keep = usable & (deviation < 1.2)
    hertz = seen.frequency_hz[1] - seen.frequency_hz[0]
    offsets = np.arange(-10, 10.01, 1.0) * hertz / 4
    smear = _hann_line(offsets * WINDOW_S) ** 2
    frequency = ridge.frequency_hz
    pace_at = np.abs(np.gradient(ridge.passing_s, frequency))
    return Response(
        frequency[keep],
        (left / np.maximum(pace_at, 1e-9))[keep] * pace,
        deviation[keep],
        offsets,
        smear / smear.sum(),
    )


def _background(power: Array, other: Mask) -> Array:
    """Mean power of each row (m, k) where `other` holds, by its lower nine tenths; rows with too
    little of it take the median.
    """
    calm = np.sort(np.where(other, power, np.inf), axis=1)  # what belongs elsewhere comes last
    count = other.sum(axis=1)
    used = np.maximum((0.9 * count).astype(int), 1)
    total = np.cumsum(np.where(np.isfinite(calm), calm, 0.0), axis=1)
    # the mean of exponential noise below its 0.9 quantile is 0.74 of it all
    mean = np.where(count > 20, total[np.arange(len(power)), used - 1] / used * 1.35, np.nan)
    known = np.isfinite(mean)
    return np.asarray(np.where(known, mean, np.median(mean[known]) if known.any() else 0.0))


def _hann_line(bins: Array) -> Array:
    """The Hann window's line at an offset in bins, 1 in its middle and a half one bin off (Harris,
    Proc. IEEE 66, 1978).
    """
    beside = np.abs(np.abs(bins) - 1) < 1e-6
    away = np.where(beside, 0.0, bins)
    return np.asarray(np.where(beside, 0.5, np.sinc(away) / (1 - away**2)))
