"""The modes that a measured response supports: a sweep's, or that of free decays after taps."""

from __future__ import annotations

import functools
import math
from dataclasses import dataclass

import numpy as np
from scipy import ndimage, signal
from scipy.optimize import least_squares

from omphalon.base.arrays import Array, Mask
from omphalon.physics.resonance import DriveShape, Law, Mode, Response, follows, rising
from omphalon.physics.scale import robust_deviation
from omphalon.physics.sweep import RATE_HZ
from omphalon.tables.constants import NORMAL_95

MOST_MODES = 8  # that one axis is fitted with
IN_VAIN = 2  # further modes in a row that better nothing: then no more are tried
PROMINENT = 1.0  # in ln power: a peak that stands out by that, and by 4 deviations, is one
LEAST_SHARE = 0.015  # of the motion: less is noise
DAMPINGS = (0.004, 0.35)  # between a bell and no mode at all
BROADEST = 0.3  # what is broader explains a slope, not a peak
INSIDE = 1e-6  # of a bound: where a search may start
SOFT = 3.0  # deviations beyond which a miss counts less
EXPLAINED = 0.4  # mean square of the misses, in deviations, at which no further mode is asked for
LOWEST_HZ = 10.0  # below it a frame rocks as a whole
# What clock, interpolation and the window leave beyond chance, as half widths of 95 %: measured on
# the stand-in (docs/shaper.md)
DOUBT_FREQUENCY, DOUBT_DAMPING, DOUBT_SHARE = 0.0008, 0.021, 0.002
LOW_HZ, MOST_HZ = 8.0, 130.0  # of what taps tell
FEWEST_TAPS = 3  # taps that tell anything
TIMES_QUIET, LOUD_SHARE, APART_S = 8.0, 0.15, 0.5  # how a blow stands out, and from the next


@dataclass(frozen=True, kw_only=True)
class ModeFit:
    """The modes, lowest first; the drive's power law; misfit of the log response (root mean square,
    in deviations); the model's power at the response's frequencies; share of the measured power
    that the model leaves unexplained; the Bayesian criterion; the peaks that stand out of the
    response itself, whatever the modes are."""

    modes: tuple[Mode, ...]
    drive_power: float
    misfit: float
    model: Array
    unexplained: float
    score: float
    peaks_hz: tuple[float, ...] = ()


class _Model:
    """ln of the smeared model's power for [ln f…, ln ζ…, ln share…, the drive's shape]; the gain is
    found in closed form.
    """

    def __init__(self, response: Response, law: Law, drive: DriveShape) -> None:
        self.response, self.law = response, law
        step = float(np.median(np.diff(response.smear_hz)))
        self.fine = np.arange(
            max(response.frequency_hz[0] + response.smear_hz[0], 0.5),
            response.frequency_hz[-1] + response.smear_hz[-1] + step,
            step,
        )
        at = (response.frequency_hz[:, None] + response.smear_hz - self.fine[0]) / step
        self.index = np.clip(np.rint(at).astype(int), 0, len(self.fine) - 1)
        self.smear = np.zeros((len(response.power), len(self.fine)))
        for k, weight in enumerate(response.smear):
            self.smear[np.arange(len(response.power)), self.index[:, k]] += weight
        self.weight = 1 / response.deviation
        self.share_of = self.weight**2 / float((self.weight**2).sum())
        self.logged = np.log(response.power)
        self.drive = drive(self.fine)

    def power(self, parameters: Array) -> Array:
        return self._evaluated(parameters)[0]

    def _evaluated(self, parameters: Array) -> tuple[Array, Array]:
        """Power (m,) and the derivative of its logarithm by each parameter (m, p)."""
        count = (len(parameters) - 1) // 3
        f, z, raw = (np.exp(parameters[k * count : (k + 1) * count]) for k in range(3))
        share = raw / raw.sum()
        term, by_frequency, by_damping = self.law(self.fine, f, z)
        h = term @ share
        drive = np.exp(2 * parameters[-1] * self.drive)
        slopes = np.concatenate(
            [share * by_frequency, share * by_damping, share * (term - h[:, None])], axis=1
        )
        rows = 2 * (np.conj(h)[:, None] * slopes).real * drive[:, None]
        size = np.abs(h) ** 2 * drive
        power = np.maximum(self.smear @ size, 1e-300)
        return power, self.smear @ np.column_stack([rows, 2 * size * self.drive]) / power[:, None]

    def misses(self, parameters: Array) -> tuple[Array, Array]:
        """Weighted misses of ln power, the gain taken out by its weighted mean, and their
        derivatives.
        """
        power, slopes = self._evaluated(parameters)
        miss = self.logged - np.log(power)
        miss = miss - float(self.share_of @ miss)
        return miss * self.weight, -(slopes - self.share_of @ slopes) * self.weight[:, None]

    def gain(self, parameters: Array) -> float:
        return math.exp(float(self.share_of @ (self.logged - np.log(self.power(parameters)))))


@dataclass(frozen=True)
class _Solved:
    """Parameters (p,), half the sum of soft squares, and the derivatives (m, p), each row by the
    root of what its miss counts.
    """

    parameters: Array
    cost: float
    jacobian: Array


def _solve(model: _Model, start: Array, lower: Array, upper: Array) -> _Solved:
    """Least squares within bounds, misses beyond SOFT counting less (soft L1:
    2c²(√(1 + (r/c)²) − 1)).
    """

    @functools.lru_cache(maxsize=2)
    def misses(place: bytes) -> tuple[Array, Array]:
        """Misses and their derivatives come together; the search asks for one after the other."""
        return model.misses(np.frombuffer(place))

    found = least_squares(
        lambda x: misses(x.tobytes())[0],
        np.clip(start, lower + INSIDE, upper - INSIDE),
        jac=lambda x: misses(x.tobytes())[1],
        bounds=(lower, upper),
        loss="soft_l1",
        f_scale=SOFT,
        ftol=1e-5,
        xtol=1e-5,
        max_nfev=50,
    )
    miss, slopes = model.misses(found.x)
    counts = 1 / np.sqrt(1 + (miss / SOFT) ** 2)
    return _Solved(found.x, float(found.cost), slopes * np.sqrt(counts)[:, None])


def fit_modes(
    response: Response, law: Law = follows, drive: DriveShape = rising, most: int = MOST_MODES
) -> ModeFit:
    """One to eight modes by least squares on ln power.

    Another mode only where the Bayesian criterion, with the deviations as known, asks for it, it
    holds a share worth naming, and its frequency is not that of another. Covariance from the
    curvature, scaled by the misfit; neighbouring frequencies share the window, which counts as
    fewer readings.

    Parameters
    ----------
    response : as measured
    law : what a mode does to the motion
    drive : ln of the drive over frequency, per unit of its shape
    most : modes

    Returns
    -------
    ModeFit

    References
    ----------
    Schwarz, Ann. Statist. 6 (1978), p. 461–464.
    """
    model = _Model(response, law, drive)
    low, high = (
        max(1.3 * float(response.frequency_hz[0]), LOWEST_HZ),
        0.97 * float(response.frequency_hz[-1]),
    )
    apart = float(np.median(np.diff(response.frequency_hz)))
    step = float(np.median(np.diff(response.smear_hz)))
    independent = min(
        max(1.0, step / (apart * float((response.smear**2).sum()))), 4.0
    )  # bins that one window's line covers
    size = len(response.frequency_hz) / independent
    best: tuple[float, _Solved, float] | None = None
    start, vain = np.zeros(0), 0
    for count in range(1, most + 1):
        lower = np.append(np.repeat([math.log(low), math.log(DAMPINGS[0]), -7.0], count), -1.5)
        upper = np.append(np.repeat([math.log(high), math.log(DAMPINGS[1]), 1.0], count), 2.5)
        found = min(
            (
                _solve(model, guess, lower, upper)
                for guess in _guesses(model, start, count, low, high)
            ),
            key=lambda s: s.cost,
        )
        variance = 2 * found.cost / len(response.frequency_hz)
        score = 2 * found.cost / independent + (3 * count + 1) * math.log(size)
        start = found.parameters
        vain += 1
        if best is None or (score < best[0] - 2 and _sound(start, count)):
            best, vain = (score, found, variance), 0
        if variance < EXPLAINED or vain > IN_VAIN:
            break
    assert best is not None
    return _mode_fit(model, best, independent)


def _sound(parameters: Array, count: int) -> bool:
    """Whether all modes hold a share worth naming, stand apart, and are peaks at all."""
    f, z, s = (np.exp(parameters[k * count : (k + 1) * count]) for k in range(3))
    share = s / s.sum()
    gaps = np.diff(np.sort(f)) / np.sort(f)[1:]
    return bool(
        share.min() > LEAST_SHARE and z.max() < BROADEST and (len(gaps) == 0 or gaps.min() > 0.03)
    )


def _guesses(model: _Model, before: Array, count: int, low: float, high: float) -> list[Array]:
    """Starting points: the modes found so far with one more where the response stands out most
    above them; and the most prominent peaks of the response, with the drive flat or rising."""
    f = model.response.frequency_hz
    inner = (f > low) & (f < high)
    peaks = _prominent(f, model.logged, inner)[:count]
    out = []
    for q in (0.0, 1.0):
        places = [float(f[k]) for k in peaks]
        while len(places) < count:
            places.append(float(low * (high / low) ** ((len(places) + 0.5) / count)))
        order = np.sort(places)
        weight = np.array(
            [math.exp(0.5 * float(np.interp(p, f, model.logged)) - q * math.log(p)) for p in order]
        )
        out.append(
            np.concatenate(
                [
                    np.log(order),
                    np.full(count, math.log(0.05)),
                    np.clip(np.log(weight / weight.sum()), -4, 0),
                    [q],
                ]
            )
        )
    if count == 1:
        return out
    old = count - 1
    miss = model.misses(before)[0] / model.weight
    smooth = ndimage.uniform_filter1d(miss, 3, mode="constant")
    place = float(f[max(np.flatnonzero(inner), key=lambda k: smooth[k])])
    share = np.exp(before[2 * old : 3 * old])
    out.append(
        np.concatenate(
            [
                before[:old],
                [math.log(place)],
                before[old : 2 * old],
                [math.log(0.04)],
                before[2 * old : 3 * old],
                [math.log(float(share.sum()) * 0.25)],
                before[-1:],
            ]
        )
    )
    return out


def _prominent(f: Array, logged: Array, inner: Mask) -> list[int]:
    """Local peaks of ln power (m,) at frequencies (m,), the most prominent first."""
    smooth = ndimage.convolve1d(logged, [0.25, 0.5, 0.25], mode="nearest")
    places, seen = signal.find_peaks(smooth, prominence=0.0)
    order = np.argsort(-seen["prominences"], kind="stable")
    return [int(k) for k in places[order] if inner[k]]


def _mode_fit(model: _Model, best: tuple[float, _Solved, float], independent: float) -> ModeFit:
    score, solved, variance = best
    parameters, jacobian = solved.parameters, solved.jacobian
    count = (len(parameters) - 1) // 3
    f, z, raw = (np.exp(parameters[k * count : (k + 1) * count]) for k in range(3))
    share = raw / raw.sum()
    cover = np.linalg.pinv(jacobian.T @ jacobian, rcond=1e-12) * max(variance, 0.05) * independent
    shares = np.diag(share) - np.outer(share, share)  # d share / d ln raw
    share_cover = shares @ cover[2 * count : 3 * count, 2 * count : 3 * count] @ shares.T
    half = NORMAL_95 * np.sqrt(np.maximum(np.diag(cover), 0))
    order = np.argsort(f)
    modes = tuple(
        Mode(
            float(f[k]),
            float(z[k]),
            float(share[k]),
            float(f[k] * math.hypot(half[k], DOUBT_FREQUENCY)),
            float(z[k] * math.hypot(half[count + k], DOUBT_DAMPING)),
            math.hypot(2 * NORMAL_95 * math.sqrt(max(share_cover[k, k], 0.0)), DOUBT_SHARE)
            if count > 1
            else 0.0,
        )
        for k in order
    )
    power = model.power(parameters) * model.gain(parameters)
    measured = model.response.power
    unexplained = float(np.sum(np.maximum(measured - power, 0.0)) / np.sum(measured))
    return ModeFit(
        modes=modes,
        drive_power=float(parameters[-1]),
        misfit=math.sqrt(variance),
        model=power,
        unexplained=unexplained,
        score=score,
        peaks_hz=peaks_of(model.response),
    )


def peaks_of(response: Response) -> tuple[float, ...]:
    """Frequencies of the peaks that stand out of a response, lowest first: counted on the data,
    before any model.
    """
    logged, f = np.log(response.power), response.frequency_hz
    smooth = ndimage.convolve1d(logged, [0.25, 0.5, 0.25], mode="nearest")
    places, seen = signal.find_peaks(smooth, prominence=PROMINENT)
    clear = seen["prominences"] > 4 * response.deviation[places] / math.sqrt(2)
    return tuple(float(v) for v in f[places[clear & (f[places] > LOWEST_HZ)]])


SKIP_S, LISTEN_S = 3 / RATE_HZ, 0.8  # what the blow itself takes, and what is used after it


class NoTaps(Exception):
    """Fewer taps than are needed stand out of the log; `seen` says how many."""

    def __init__(self, seen: int) -> None:
        super().__init__(seen)
        self.seen = seen


def tapped(values: Array) -> tuple[Response, int]:
    """Mean power of the decays after taps, less the noise before them.

    Parameters
    ----------
    values : (n,) at RATE_HZ

    Returns
    -------
    Response
    int
        Taps that were found.

    Raises
    ------
    NoTaps
        If they are fewer than FEWEST_TAPS.
    """
    starts = _starts(values)
    width = int(LISTEN_S * RATE_HZ)
    skip = round(SKIP_S * RATE_HZ)
    starts = [s for s in starts if s + skip + width < len(values) and s > width // 4]
    if len(starts) < FEWEST_TAPS:
        raise NoTaps(len(starts))
    pad = int(RATE_HZ)  # 1 Hz steps
    fade = np.ones(width)
    fade[-width // 4 :] = 0.5 * (1 + np.cos(np.linspace(0, np.pi, len(fade[-width // 4 :]))))
    decays = np.stack(
        [np.abs(np.fft.rfft(values[s + skip : s + skip + width] * fade, pad)) ** 2 for s in starts]
    )
    before = [values[s - width // 4 : s - 8] for s in starts]
    noise = float(np.median([np.mean((b - b.mean()) ** 2) for b in before])) * float(
        (fade**2).sum()
    )
    frequency = np.fft.rfftfreq(pad, 1 / RATE_HZ)
    size = decays / decays.sum(axis=1, keepdims=True)
    mean = decays.mean(axis=0)
    left = mean - noise
    scatter = (
        size.std(axis=0, ddof=1) / np.maximum(size.mean(axis=0), 1e-300) / np.sqrt(len(starts))
    )
    above = left > 0.05 * mean
    deviation = np.hypot(
        np.maximum(scatter, 0.05), noise / np.where(above, left, mean) / np.sqrt(len(starts))
    )
    keep = above & (frequency >= LOW_HZ) & (frequency <= MOST_HZ) & (deviation < 1.2)
    # a decay that is over before the window ends is seen as it is: no smear
    return Response(
        frequency[keep],
        left[keep],
        deviation[keep],
        np.array([-0.5, 0.0, 0.5]),
        np.array([0.0, 1.0, 0.0]),
    ), len(starts)


def _starts(values: Array) -> list[int]:
    """Where the blows fall: peaks of the size that rise to TIMES_QUIET times the quiet between, and
    to a share of the loudest, at least APART_S apart.
    """
    loud = np.abs(values)
    quiet = robust_deviation(values) + 1e-300
    block = int(0.02 * RATE_HZ)
    level = loud[: len(loud) // block * block].reshape(-1, block).max(axis=1)
    least = max(TIMES_QUIET * quiet, LOUD_SHARE * float(np.quantile(level, 0.995)))
    return [int(k) for k in signal.find_peaks(loud, least, distance=int(APART_S * RATE_HZ))[0]]
