"""Pressure advance from what was read off a print: the best value told by several readings, where a
bulge crosses zero, where a score is highest. The extruder runs ahead of the path by advance (s)
times the filament's speed."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from scipy import ndimage

from omphalon.base.arrays import Array, Mask
from omphalon.physics.scale import robust_deviation, student_95
from omphalon.tables.constants import NORMAL_95

STRANGE = 3.6  # deviations beyond which a point is left out
WORTHY = (
    1.5  # fits whose prediction error is within this factor of the best have a say in the doubt
)
TENT_SHARES = (0.3, 0.5)  # of the range that a score is a tent over
SHARES, SHARP_SHARES = (1.0, 0.7, 0.5), (0.7, 0.5, 0.35, 0.25)  # of the range that counts
ROUNDS = 3  # of leaving out; the last one only fits, so that what was left out has left the fit too
VALUE_READ = 0.6  # of the step between two values: deviation of a best-looking one
END_READ = 0.3  # of the step: deviation of a clean range's end
SHARED = 0.35  # of one reading's deviation: what all readings of one print share
AT_AN_END = 2.0  # a pick at an end of the print is so much wider
CLEAN_HALF = 0.2  # of a clean range: the half width of its value
MOST_OUTLIERS = 0.2  # of the readings: more are none


Why = Literal["flat", "below", "above", "rising", "few"]


class NoAnswer(Exception):
    """The readings do not hold the best value, and why."""

    def __init__(self, why: Why) -> None:
        super().__init__(why)
        self.why = why


@dataclass(frozen=True)
class Best:
    """The best value, the half width of its 95 % interval, which readings took part, and whether a
    second one is as good.

    `curve` is the fitted line as (values, heights) for a figure; shapes (m,). `deviation` is that
    of one reading.
    """

    value: float
    half_width: float
    keep: Mask
    deviation: float
    second: bool = False
    curve: tuple[Array, Array] | None = None


def told_by(values: Array, random: float, common: float, freedom: float = 4.0) -> Best:
    """The value told by n readings of one print.

    A reading further than STRANGE pooled deviations from the median of at least three is left out.

    Parameters
    ----------
    values : (n,) in s
    random : in s
        One reader's deviation as known beforehand.
    common : in s
        Deviation that all readings of one print share, which no averaging removes.
    freedom : degrees of freedom of `random`

    Returns
    -------
    Best

    References
    ----------
    GUM (JCGM 100:2008), 4.3 and G.4.2 (Student's t).
    """
    keep = np.ones(len(values), dtype=bool)
    if len(values) >= 3:
        middle = float(np.median(values))
        spread = max(random, robust_deviation(values - middle))
        keep = np.abs(values - middle) <= STRANGE * spread
    good = values[keep]
    mean = float(good.mean())
    degrees = freedom + len(good) - 1
    deviation = math.sqrt((freedom * random**2 + float(np.sum((good - mean) ** 2))) / degrees)
    half = math.hypot(student_95(degrees) * deviation / math.sqrt(len(good)), NORMAL_95 * common)
    return Best(mean, half, keep, deviation)


def picked(values: Array, random: float, step: float, span: tuple[float, float]) -> Best:
    """The value told by picks of the best-looking one, `random` the deviation of one; twice as wide
    where it lies at an end of what was printed, and may as well lie beyond.

    `step`: between two printed values. `span`: from the lowest printed value to the highest.
    """
    best = told_by(values, random, SHARED * random)
    low, high = span
    near = step / 2
    beyond = best.value > high - near or (low > 0 and best.value < low + near)
    at_an_end = math.isfinite(near) and low < high and beyond
    return replace(best, half_width=AT_AN_END * best.half_width) if at_an_end else best


def clean_range(low: float, high: float, share: float, random: float) -> Best:
    """The value at a `share` of a range that looks clean, its ends read with a deviation of
    `random` each.
    """
    half = math.hypot(CLEAN_HALF * (high - low), NORMAL_95 * random / math.sqrt(2))
    return Best(low + (high - low) * share, half, np.ones(2, dtype=bool), random)


def crossing(values: Array, bulge: Array, known: float, shares: Sequence[float] = SHARES) -> Best:
    """Where a bulge that falls with the value crosses zero.

    Polynomials of order 1 to 3 over windows about the crossing; the one with the least final
    prediction error and those nearly as good answer by their mean, and widen the interval by how
    far apart they cross.

    Parameters
    ----------
    values : (n,) in s
    bulge : (n,) in mm, positive where corners bulge
    known : in mm
        Deviation of one reading as known beforehand.
    shares : of the readings, that the windows hold; sharper readings see the curve's bends

    Returns
    -------
    Best

    Raises
    ------
    NoAnswer
        If the readings are too few, flat, rise, or never cross.

    References
    ----------
    Akaike, Ann. Inst. Statist. Math. 21 (1969), p. 243–247.
    """
    if len(np.unique(values)) < 4:
        raise NoAnswer("few")
    rough, second = _rough_crossing(values, bulge, known)
    fits = [
        fit
        for share in shares
        for order in (1, 2, 3)
        if (fit := _local_fit(values, bulge, known, rough, share, order)) is not None
    ]
    if not fits:
        raise NoAnswer("flat")
    best = min(fits, key=lambda f: f.prediction_error)
    worthy = [f for f in fits if f.prediction_error <= WORTHY * best.prediction_error]
    value = float(
        np.average([f.value for f in worthy], weights=[1 / f.prediction_error for f in worthy])
    )
    half = math.hypot(
        float(np.median([f.half_width for f in worthy])),
        2 * float(np.sqrt(np.mean(np.square([f.value - value for f in worthy])))),
    )
    if half > 0.3 * float(np.ptp(values)):
        raise NoAnswer("flat")
    at = np.linspace(*best.window, 100)
    curve = np.asarray(np.polyval(best.curve, at - best.centre), dtype=np.float64)
    return Best(value, half, best.keep, best.deviation, second, (at, curve))


@dataclass(frozen=True, kw_only=True)
class _Fit:
    value: float
    half_width: float
    prediction_error: float
    deviation: float
    keep: Mask
    curve: Array
    centre: float
    window: tuple[float, float]


def _rough_crossing(values: Array, bulge: Array, known: float) -> tuple[float, bool]:
    """Where running medians change sign for the first time, and whether they do so again."""
    order = np.argsort(values, kind="stable")
    x, y = values[order], bulge[order]
    smooth = ndimage.median_filter(y, 3, mode="nearest")
    smooth[0], smooth[-1] = np.median(y[:2]), np.median(y[-2:])
    noise = max(known, robust_deviation(y - smooth))
    slope = np.polyfit(x - x.mean(), y, 1)[0] * float(np.ptp(x))
    if slope > 4 * noise:
        raise NoAnswer("rising")
    if (smooth > 0).all() or (smooth < 0).all():
        flat = float(np.ptp(smooth)) < 4 * noise / math.sqrt(3)
        raise NoAnswer("flat" if flat else "above" if smooth[-1] > 0 else "below")
    falls = [
        k
        for k in range(len(smooth) - 1)
        if smooth[k] >= 0 > smooth[k + 1] or smooth[k] > 0 >= smooth[k + 1]
    ]
    if not falls:
        raise NoAnswer("flat")
    whole = [
        abs(float(np.sum(np.sign(y[: k + 1]))) + float(np.sum(-np.sign(y[k + 1 :])))) for k in falls
    ]
    first = falls[int(np.argmax(whole))]
    after, before = y[x > x[first + 1]], y[x < x[first]]
    again = int(np.sum(after > 4 * noise)) >= 2 or int(np.sum(before < -4 * noise)) >= 2
    return float((x[first] + x[first + 1]) / 2) if not again else float(
        x[falls[0]] + x[falls[0] + 1]
    ) / 2, again


def _local_fit(
    values: Array, bulge: Array, known: float, rough: float, share: float, order: int
) -> _Fit | None:
    """One polynomial over the share of readings nearest to the rough crossing; None where it has no
    sound crossing.
    """
    count = max(int(round(share * len(values))), order + 3)
    if count > len(values):
        return None
    near = np.argsort(np.abs(values - rough), kind="stable")[:count]
    window = (float(values[near].min()), float(values[near].max()))
    used, keep = np.sort(near), np.ones(len(values), dtype=bool)
    for left in reversed(range(ROUNDS)):
        x, y = values[used] - rough, bulge[used]
        freedom = len(x) - order - 1
        if freedom < 1 or len(np.unique(x)) <= order:
            return None
        curve, cover = np.polyfit(x, y, order, cov="unscaled")
        miss = y - np.polyval(curve, x)
        robust = max(robust_deviation(miss) * math.sqrt(len(x) / freedom), known)
        strange = np.abs(miss) > STRANGE * robust
        if left == 0 or not strange.any() or strange.sum() > MOST_OUTLIERS * len(x):
            break
        keep[used[strange]] = False
        used = used[~strange]
    prior = 4.0
    deviation = math.sqrt((prior * known**2 + float(miss @ miss)) / (prior + freedom))
    roots = np.roots(curve)
    real = np.real(roots[np.abs(np.imag(roots)) < 1e-9])
    inside = real[(real + rough >= window[0]) & (real + rough <= window[1])]
    if len(inside) == 0:
        return None
    root = float(inside[np.argmin(np.abs(inside))])
    slope = float(np.polyval(np.polyder(curve), root))
    row = np.vander([root], order + 1)[0]
    sigma = deviation * math.sqrt(float(row @ cover @ row))
    if slope >= 0 or sigma > 0.5 * abs(slope) * (window[1] - window[0]):
        return None
    half = student_95(prior + freedom) * sigma / abs(slope)
    error = deviation**2 * (len(x) + order + 1) / (len(x) - order - 1)
    return _Fit(
        value=rough + root,
        half_width=half,
        prediction_error=error,
        deviation=deviation,
        keep=keep,
        curve=curve,
        centre=rough,
        window=window,
    )


def peak(values: Array, score: Array, step: float) -> Best:
    """Where a score is highest.

    score = top − left · (place − value)₊ − right · (value − place)₊ near the top: two straight
    flanks, closed form for each place, fitted to what scores above a share of the height; the mean
    over two such shares. The interval holds every place whose sum of squares is not worse than the
    least by more than t² variances, and half the distance between two values: the shape between
    them is not seen. Where several best scores tie, the printed value next below the peak answers.

    Parameters
    ----------
    values : (n,) in s
    score : (n,), higher is better
    step : in which scores are written

    Returns
    -------
    Best

    Raises
    ------
    NoAnswer
        If the readings are too few or flat, or the best stands at an end.

    References
    ----------
    Bates and Watts, Nonlinear Regression (1988), ch. 6.
    """
    if len(np.unique(values)) < 5:
        raise NoAnswer("few")
    split = _valley(values, score, step)
    inside = values <= split if split is not None else np.ones(len(values), dtype=bool)
    tents = [_tent(values, score, inside, share, 0.5 * step) for share in TENT_SHARES]
    value = float(np.mean([t.value for t in tents]))
    between = float(np.median(np.diff(np.unique(values)))) / 2
    half = math.hypot(
        max(t.half_width for t in tents), between, float(np.ptp([t.value for t in tents]))
    )
    best = tents[0]
    tied = values[inside & best.keep & (score >= score[inside & best.keep].max() - 1e-9)]
    below = tied[(tied <= value) & (tied >= value - half)]
    safe = float(below.max()) if len(tied) > 1 and len(below) else value
    return Best(safe, half + value - safe, best.keep, best.deviation, split is not None, best.curve)


def _tent(values: Array, score: Array, inside: Mask, share: float, known: float) -> Best:
    """The tent over what scores above the share of the height between worst and best, around the
    best.
    """
    order = np.flatnonzero(inside)[np.argsort(values[inside], kind="stable")]
    keep = np.ones(len(values), dtype=bool)
    for left in reversed(range(ROUNDS)):
        used = order[keep[order]]
        x, y = values[used], score[used]
        smooth = ndimage.uniform_filter1d(y, 3, mode="nearest")
        level = y.min() + share * (np.sort(smooth)[-2] - y.min())
        low = high = int(np.argmax(smooth))
        while low > 0 and smooth[low] >= level:
            low -= 1
        while high < len(x) - 1 and smooth[high] >= level:
            high += 1
        x, y, used = x[low : high + 1], y[low : high + 1], used[low : high + 1]
        places = np.linspace(x[0], x[-1], 121)
        flanks = np.stack(
            [
                np.broadcast_to(1.0, (len(places), len(x))),
                np.maximum(places[:, None] - x, 0),
                np.maximum(x - places[:, None], 0),
            ],
            axis=2,
        )
        solved = np.linalg.pinv(flanks) @ y
        miss = y - np.einsum("pnk,pk->pn", flanks, solved)
        sums = np.sum(miss**2, axis=1)
        at = int(np.argmin(sums))
        freedom = max(len(x) - 4, 1)
        robust = max(robust_deviation(miss[at]) * math.sqrt(len(x) / freedom), known)
        strange = np.abs(miss[at]) > STRANGE * robust
        if left == 0 or not strange.any() or strange.sum() > MOST_OUTLIERS * len(x):
            break
        keep[used[strange]] = False
    variance = (4.0 * known**2 + float(sums[at])) / (4.0 + freedom)
    if float(np.sum((score[order] - score[order].mean()) ** 2)) < 12 * variance:
        raise NoAnswer("flat")
    if at == 0 or solved[at][1] >= 0:
        raise NoAnswer("below")
    if at == len(places) - 1 or solved[at][2] >= 0:
        raise NoAnswer("above")
    allowed = places[sums <= sums[at] + variance * student_95(4.0 + freedom) ** 2]
    half = max(float(places[at] - allowed.min()), float(allowed.max() - places[at]))
    return Best(float(places[at]), half, keep, math.sqrt(variance), False, (x, y - miss[at]))


def _valley(values: Array, score: Array, step: float) -> float | None:
    """The value of the valley between two peaks that are equally good, or None."""
    x = np.unique(values)
    y = np.array([score[values == v].mean() for v in x])
    if len(x) < 7:
        return None
    smooth = ndimage.uniform_filter1d(y, 3, mode="nearest")
    noise = max(robust_deviation(y - smooth) * math.sqrt(1.5), 0.5 * step)
    top = int(np.argmax(smooth))
    for other in range(len(x)):
        low, high = sorted((top, other))
        if high - low < 4 or smooth[other] < smooth[top] - noise:
            continue
        floor = low + int(np.argmin(smooth[low : high + 1]))
        if smooth[floor] < min(smooth[top], smooth[other]) - 3 * noise:
            return float(x[floor])
    return None
