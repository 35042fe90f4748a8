"""A frequency sweep seen by an accelerometer: where it runs in the log, and the response it alone excites."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from omphalon.physics.modes import Response

Array = NDArray[np.float64]

RATE_HZ = 512.0  # all work is done at this rate
FAST_HZ = 1500.0
WINDOW_S = 1.0
HOP_S = 0.1
LOW_HZ, HIGH_HZ = 4.0, 200.0
BEFORE_S, AFTER_S = 1.2, 2.6  # of the sweep's passing: what belongs to it at one frequency
LEAST_SPAN_HZ = 25.0
EDGE_HZ = 2.5  # where a sweep starts and ends, it is not yet itself


class NoSweep(Exception):
    """There is no sweep in the log."""


@dataclass(frozen=True)
class Ridge:
    """Where the sweep runs: it passes frequency (m,) Hz at passing (m,) s; `clear` is the share of rows in which it is seen."""

    frequency_hz: Array
    passing_s: Array
    clear: float

    @property
    def rate_hz_s(self) -> float:
        """Mean rate, negative for one that falls."""
        return float((self.frequency_hz[-1] - self.frequency_hz[0]) / (self.passing_s[-1] - self.passing_s[0]))


@dataclass(frozen=True)
class Spectra:
    """Power of short windows: power (m, k) at frequencies (m,) Hz and times (k,) s of the windows' middles."""

    frequency_hz: Array
    time_s: Array
    power: Array


def evenly(time_s: Array, values: Array, rate_hz: float) -> Array:
    """Values (n, …) at uneven times, band-limited and put on even steps of RATE_HZ: interpolation, then the FFT's own bins."""
    every = int(rate_hz / FAST_HZ)
    if every > 1:  # a fast sensor's neighbours are averaged first: 0.3 % is lost at 130 Hz
        used = len(time_s) // every * every
        time_s, values = (a[:used].reshape(-1, every).mean(axis=1) for a in (time_s, values))
        rate_hz /= every
    count = int((time_s[-1] - time_s[0]) * rate_hz) + 1
    at = time_s[0] + np.arange(count) / rate_hz
    even = np.interp(at, time_s, values)
    even -= even.mean()
    spectrum = np.fft.rfft(even, _smooth_size(count))
    size = _smooth_size(count)
    less = max(int(size * RATE_HZ / rate_hz) // 2 * 2, 16)
    return np.asarray(np.fft.irfft(_without_lines(spectrum[:less // 2 + 1]), less)[:int(count * less / size)] * (less / size))


def _smooth_size(count: int) -> int:
    """The next size of small factors, for which the FFT is fast."""
    best = 1 << (count - 1).bit_length()
    for three in (1, 3, 9):
        for five in (1, 5, 25):
            size = three * five
            size <<= max((count - 1) // size, 0).bit_length()
            if count <= size < best:
                best = size
    return best


def _without_lines(spectrum: NDArray[np.complex128]) -> NDArray[np.complex128]:
    """The whole log's spectrum with steady lines (hum) cut down to their neighbourhood: a sweep has no such narrow line."""
    size = np.abs(spectrum)
    wide = 41
    count = len(size) // wide
    block = np.sort(size[:count * wide].reshape(count, wide), axis=1)
    level = np.interp(np.arange(len(size)), (np.arange(count) + 0.5) * wide, block[:, wide // 2])
    tall = size > 5 * level
    return np.where(tall, spectrum * (level / np.maximum(size, 1e-300)), spectrum)


def spectra(values: Array, start_s: float) -> Spectra:
    """Power in Hann windows of WINDOW_S every HOP_S, LOW_HZ to HIGH_HZ."""
    width, hop = int(WINDOW_S * RATE_HZ), int(HOP_S * RATE_HZ)
    frames = np.lib.stride_tricks.sliding_window_view(values, width)[::hop]
    frequency = np.fft.rfftfreq(width, 1 / RATE_HZ)
    inside = (frequency >= LOW_HZ) & (frequency <= HIGH_HZ)
    window = np.hanning(width)
    power = np.empty((int(inside.sum()), len(frames)))
    for n in range(0, len(frames), 256):
        power[:, n:n + 256] = (np.abs(np.fft.rfft(frames[n:n + 256] * window, axis=1)[:, inside]) ** 2).T
    time = start_s + (np.arange(len(frames)) * hop + width / 2) / RATE_HZ
    return Spectra(np.asarray(frequency[inside], dtype=np.float64), np.asarray(time, dtype=np.float64), power)


def follow(seen: Spectra) -> Ridge:
    """The sweep's course: the straight line (or the exponential one) in frequency and time that holds most power above each
    frequency's own median, so that a steady line counts for nothing; then the line is bent to the power's middle.

    A line of twice the rate from the same start is a harmonic: the slowest of those that are nearly as clear is the drive.
    """
    calm = np.median(seen.power, axis=1, keepdims=True) + 1e-300
    evidence = np.clip(np.log(seen.power / calm) - 1.5, -1.0, 4.0)
    every = 3
    columns = evidence.shape[1] // every * every
    coarse = evidence[:, :columns].reshape(len(evidence), -1, every).max(axis=2)[::2].astype(np.float32)
    hop = float(seen.time_s[1] - seen.time_s[0]) * every
    f = seen.frequency_hz[::2]
    duration = float(seen.time_s[-1] - seen.time_s[0])
    lines: list[_Line] = []
    for sign in (1, -1):
        if not lines or max(line.share for line in lines) < 0.75:
            lines += [_best_line(coarse, f, rate * sign, hop, False)
                      for rate in np.geomspace((f[-1] - f[0]) / max(duration, 1.0) * 0.4, (f[-1] - f[0]) / 8.0, 48)]
    best = max(lines, key=lambda x: x.score)
    slower = [x for x in lines if x.score > 0.35 * best.score and _harmonic(best, x)]
    best = min(slower, key=lambda x: abs(x.rate)) if slower else best
    if best.share < 0.75:
        octaves = math.log(f[-1] / f[0])
        bent = [_best_line(coarse, f, rate * sign, hop, True) for sign in (1, -1)
                for rate in np.geomspace(octaves / max(duration, 1.0) * 0.4, octaves / 8.0, 40)]
        best = max([best, *bent], key=lambda x: x.score)
    low, high = float(f[best.rows[0]]) + EDGE_HZ, float(f[best.rows[1] - 1]) - EDGE_HZ
    if high - low < LEAST_SPAN_HZ or best.score < 0.8 * (best.rows[1] - best.rows[0]):
        raise NoSweep
    inside = (seen.frequency_hz >= low) & (seen.frequency_hz <= high)
    frequency = seen.frequency_hz[inside]
    return _bent(seen, evidence[inside], frequency, seen.time_s[0] + hop * (best.start + 0.5) + best.delay_s(frequency))


@dataclass(frozen=True)
class _Line:
    """A course through frequency and time: its start (in hops), rate, whether exponential, its best rows, its score and the share
    of its rows in which power stands out."""

    score: float
    share: float
    start: float
    rate: float
    bent: bool
    rows: tuple[int, int]
    first_hz: float

    def delay_s(self, frequency: Array) -> Array:
        """Time from the start to each frequency."""
        return np.asarray((np.log(frequency / self.first_hz) if self.bent else frequency - self.first_hz) / self.rate)

    def zero_s(self, hop: float) -> float:
        """When a straight line passes 0 Hz."""
        return self.start * hop - self.first_hz / self.rate


def _harmonic(best: _Line, slower: _Line) -> bool:
    """Whether the best line may be a harmonic of a slower one: a whole multiple of its rate, from the same zero."""
    times = best.rate / slower.rate
    return times > 1.7 and abs(times - round(times)) < 0.06 * times and abs(best.zero_s(0.3) - slower.zero_s(0.3)) < 4.0


def _best_line(evidence: Array, frequency: Array, rate: float, hop: float, bent: bool) -> _Line:
    """The start whose line of this rate has the best contiguous stretch of rows."""
    shape = _Line(0.0, 0.0, 0.0, rate, bent, (0, 0), float(frequency[0]))
    shift = np.rint(shape.delay_s(frequency) / hop).astype(int)
    count = evidence.shape[1]
    starts = np.arange(-int(shift.max()), count - int(shift.min()))
    at = starts[:, None] + shift
    seen = np.where((at >= 0) & (at < count), evidence[np.arange(len(shift)), np.clip(at, 0, count - 1)], -0.6)
    total = np.concatenate([np.zeros((len(starts), 1)), np.cumsum(seen, axis=1)], axis=1)
    gain = total - np.minimum.accumulate(total, axis=1)
    best = int(np.argmax(gain.max(axis=1)))
    high = int(np.argmax(gain[best]))
    low = int(np.argmin(total[best, :high + 1]))
    share = float((seen[best, low:high] > 0).mean()) if high > low else 0.0
    return _Line(float(gain[best, high]), share, float(starts[best]), rate, bent, (low, high), float(frequency[0]))


def _bent(seen: Spectra, evidence: Array, frequency: Array, line: Array) -> Ridge:
    """The line bent to where the power stands, by a cubic in frequency through weighted middles within 1.5 s of it."""
    near = np.abs(seen.time_s[None, :] - line[:, None]) < 1.5
    weight = np.where(near, np.maximum(evidence, 0.0), 0.0)
    total = weight.sum(axis=1)
    middle = (weight * seen.time_s).sum(axis=1) / np.maximum(total, 1e-12)
    sure = total > 1.0
    clear = float(sure.mean())
    if sure.sum() < 12:
        raise NoSweep
    scaled = (frequency - frequency.mean()) / np.ptp(frequency)
    off = middle - line
    curve = np.polyfit(scaled[sure], off[sure], 3, w=np.sqrt(total[sure]))
    miss = np.abs(off - np.polyval(curve, scaled))
    sure &= miss < 3 * max(float(np.median(miss[sure])), 0.05)
    curve = np.polyfit(scaled[sure], off[sure], 3, w=np.sqrt(total[sure]))
    return Ridge(frequency, line + np.polyval(curve, scaled), clear)


def excited(seen: Spectra, ridge: Ridge) -> Response:
    """Power of the response to the sweep itself: what each frequency has around the sweep's passing, less what it has at other
    times while the sweep runs elsewhere (hum, noise). By Parseval the windows' sum is the whole passing's energy spectrum, seen
    through the window's own line."""
    rows = np.flatnonzero(np.isin(seen.frequency_hz, ridge.frequency_hz))
    away = seen.time_s[None, :] - ridge.passing_s[:, None]
    pace = abs(ridge.rate_hz_s)
    extra = 1.5 / pace if pace < 1.5 else 1.0  # a slow sweep stays in a window's line for longer
    passing = (away > -BEFORE_S - extra) & (away < AFTER_S + extra)
    first, last = sorted((float(ridge.passing_s[0]), float(ridge.passing_s[-1])))
    running = (seen.time_s > first - 0.5) & (seen.time_s < last + 0.5)
    harmonic = np.zeros_like(passing)
    for n in (2, 3, 4):
        at = np.interp(seen.frequency_hz[rows] / n, ridge.frequency_hz, ridge.passing_s, left=np.nan, right=np.nan)
        harmonic |= np.abs(seen.time_s[None, :] - at[:, None]) < 2.5
    other = running[None, :] & ~passing & ~harmonic & (np.abs(away) > 5.0)
    power = seen.power[rows]
    calm = np.sort(np.where(other, power, np.inf), axis=1)  # what belongs elsewhere comes last
    used = np.maximum((0.9 * other.sum(axis=1)).astype(int), 1)
    total = np.cumsum(np.where(np.isfinite(calm), calm, 0.0), axis=1)
    # the mean of exponential noise below its 0.9 quantile is 0.74 of it all
    background = np.where(other.sum(axis=1) > 20, total[np.arange(len(rows)), used - 1] / used * 1.35, np.nan)
    background = np.where(np.isfinite(background), background, np.nanmedian(background) if np.isfinite(background).any() else 0.0)
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
    return Response(frequency[keep], (left / np.maximum(pace_at, 1e-9))[keep] * pace, deviation[keep], offsets,
                    smear / smear.sum())


def _hann_line(bins: Array) -> Array:
    """The Hann window's line at an offset in bins (Harris, Proc. IEEE 66, 1978)."""
    return np.asarray(np.sinc(bins) / np.where(np.abs(np.abs(bins) - 1) < 1e-9, 1.0, 1 - bins**2) * np.where(
        np.abs(np.abs(bins) - 1) < 1e-9, np.pi / np.pi * 0.5 / np.where(np.abs(np.sinc(bins)) < 1e-9, 1.0, np.sinc(bins)), 1.0))
