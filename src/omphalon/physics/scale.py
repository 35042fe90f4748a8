"""Measured against commanded lengths: a scale with its interval, a zero error kept out of it, and
outliers.

Uncertainties are combined as in the GUM (JCGM 100:2008). What is known beforehand of one reading
(resolution, placing) is a guess at a hand nobody has seen: hands are from half to three times as
unsteady as assumed. It therefore weighs like PRIOR_FREEDOM readings around HAND times the assumed
deviation, and less where the readings' own scatter speaks against it; from five or six readings on
their own scatter rules. Measured: docs/measuring.md, table 1.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy import fft
from scipy.special import ndtri, stdtrit

from omphalon.base.arrays import Array, Mask
from omphalon.tables.constants import NORMAL_95

PRIOR_FREEDOM = 4.0  # readings that the assumed scatter counts as (see above)
HAND = math.sqrt(0.5 * 3)  # geometric mean of half and three times
OUTLIER_CHANCE = 0.012  # that sound readings hold one that is called an outlier
RECTANGULAR_95 = 1.65  # coverage factor of a rectangular distribution (GUM G.1.3, table G.1)
MOST_READINGS = 60  # that anybody takes
NEGLIGIBLE = 0.2  # of the random part: a common part smaller than that changes nothing


@dataclass(frozen=True)
class Spread:
    """What is known beforehand of one reading: its random deviation, and the part that repeats at
    the same length.
    """

    random: float
    common: float

    @property
    def whole(self) -> float:
        """Both together."""
        return math.hypot(self.random, self.common)


@dataclass(frozen=True)
class Estimate:
    """A value and the half width of its 95 % interval; deviation of one reading; degrees of
    freedom.
    """

    value: float
    half_width: float
    deviation: float
    freedom: float

    def tells(self, other: float) -> bool:
        """Whether another value lies outside the interval."""
        return abs(self.value - other) > self.half_width


@dataclass(frozen=True)
class Line:
    """measured = scale · commanded + Σ offset · side, one offset for each column of sides."""

    scale: Estimate
    offsets: tuple[Estimate, ...]


def robust_deviation(misses: Array) -> float:
    """The deviation of misses from zero, of which a minority may be wild: 1.4826 × the median of
    their size.

    Parameters
    ----------
    misses : (n,)

    Returns
    -------
    in their unit

    References
    ----------
    Hampel, J. Am. Stat. Assoc. 69 (1974), p. 388.
    """
    return float(np.median(np.abs(misses))) / float(ndtri(0.75))


def autocorrelation_time(values: Array) -> float:
    """How many neighbours in a series say the same: 1 + 2 Σ of its autocorrelation, up to the first
    negative value.

    Parameters
    ----------
    values : (n,)

    References
    ----------
    Sokal, Monte Carlo Methods in Statistical Mechanics (1997), eq. 2.19.
    """
    r = values - values.mean()
    alike = fft.irfft(np.abs(fft.rfft(r, 2 * len(r))) ** 2)[: max(len(r) // 4, 1)]
    alike = alike / max(float(alike[0]), 1e-12)
    first = int(np.argmax(alike <= 0)) or len(alike)
    return 1.0 + 2 * float(alike[1:first].sum())


def student_95(freedom: float) -> float:
    """Two-sided 95 % quantile of Student's t.

    Parameters
    ----------
    freedom : degrees, need not be whole

    Returns
    -------
    how many deviations
    """
    return float(stdtrit(freedom, 0.975))


def reading_spread(resolution: float, placing: float, ends: int = 1, placings: int = 1) -> Spread:
    """How far one reading of a distance may lie off, beforehand.

    Parameters
    ----------
    resolution : in mm
        What the rule or caliper reads to; a reading is uniform within it: resolution/√12 (GUM
        4.3.7).
    placing : in mm
        Deviation of setting or marking once.
    ends : readings of the rule in one distance
    placings : settings or marks in one distance
        A distance to a mark has two: setting the mark, and meeting it.

    Returns
    -------
    Spread
        As long as the setting scatters less than the resolution, the same length is rounded the
        same way every time and averaging does not help: of the rounding's variance the share
        exp(−(2π placing/resolution)²) repeats.

    References
    ----------
    Widrow and Kollár, Quantization Noise (2008), ch. 5: the characteristic function of the scatter
    at one over the resolution.
    """
    scatter = placing * math.sqrt(placings)
    rounding = ends * resolution**2 / 12
    share = math.exp(-min((2 * math.pi * scatter / resolution) ** 2, 700.0))
    return Spread(math.sqrt(scatter**2 + rounding * (1 - share)), math.sqrt(rounding * share))


def pooled(squares: float, freedom: float, known: float) -> tuple[float, float]:
    """The deviation of one reading from its scatter and what is known beforehand, with its degrees
    of freedom.

    Parameters
    ----------
    squares : sum of squared residuals
    freedom : of the residuals; 0 where there are none
    known : deviation assumed beforehand

    Returns
    -------
    deviation, degrees of freedom
        s² = (w·(HAND·known)² + squares)/(w + freedom), with the weight
        w = PRIOR_FREEDOM · min(1, (HAND·known)²/own²)²: a scatter far above the assumed one takes
        the guess's weight away.
    """
    guess = (HAND * known) ** 2
    own = squares / freedom if freedom > 0 else guess
    weight = PRIOR_FREEDOM * min(1.0, guess / max(own, 1e-300)) ** 2
    total = weight + freedom
    return math.sqrt((weight * guess + squares) / total), total


def _fit(columns: Array, measured: Array, spread: Spread) -> list[Estimate]:
    """Least squares of measured (n,) on columns (n, k), with the interval of each coefficient.

    Readings with the same row of columns share the common part of the spread: their scatter about
    their own mean shows the random part alone.
    """
    cover = np.linalg.inv(columns.T @ columns)
    found = cover @ (columns.T @ measured)
    common, known = spread.common, spread.random
    misses, freedom = measured - columns @ found, len(measured) - columns.shape[1]
    if common > NEGLIGIBLE * spread.random:
        _, group, count = np.unique(columns, axis=0, return_inverse=True, return_counts=True)
        if len(count) < len(measured):
            misses, freedom = (
                measured - (np.bincount(group.ravel(), measured) / count)[group.ravel()],
                len(measured) - len(count),
            )
        elif len(measured) > columns.shape[1]:
            common, known = 0.0, spread.whole
    deviation, total = pooled(float(misses @ misses), freedom, known)
    same = (columns[:, None, :] == columns[None, :, :]).all(axis=2)
    coverage = RECTANGULAR_95 if same.all() else NORMAL_95  # one rounding, or several together
    repeated = cover @ columns.T @ same @ columns @ cover
    t = student_95(total)
    return [
        Estimate(
            float(found[k]),
            math.hypot(
                t * deviation * math.sqrt(cover[k, k]),
                coverage * common * math.sqrt(repeated[k, k]),
            ),
            deviation,
            total,
        )
        for k in range(columns.shape[1])
    ]


def mean_of(values: Array, spread: Spread) -> Estimate:
    """Mean of readings (n,), with its interval.

    Parameters
    ----------
    values : (n,)
    spread : of one reading, beforehand

    Returns
    -------
    Estimate
    """
    return _fit(np.ones((len(values), 1)), values, spread)[0]


def scale_of(commanded: Array, measured: Array, spread: Spread) -> Estimate:
    """Scale through zero: Σ commanded·measured / Σ commanded², by least squares.

    Parameters
    ----------
    commanded, measured : (n,) in mm
    spread : of one reading, beforehand

    Returns
    -------
    Estimate
    """
    return _fit(commanded[:, None], measured, spread)[0]


def line_of(commanded: Array, measured: Array, sides: Array, spread: Spread) -> Line:
    """Scale, and errors that count with a side and not with the length.

    Parameters
    ----------
    commanded, measured : (n,) in mm
    sides : (n, k)
        Each column an error of its own: 1 throughout for a zero error, +1 outside and −1 inside, +1
        there and −1 back.
    spread : of one reading, beforehand

    Returns
    -------
    Line

    Raises
    ------
    ValueError
        If the readings cannot part them.
    """
    columns = np.column_stack([commanded, sides])
    if np.linalg.cond(columns / np.linalg.norm(columns, axis=0)) > 1e6:
        raise ValueError("scale and offset cannot be parted")
    first, *rest = _fit(columns, measured, spread)
    return Line(first, tuple(rest))


def readings_needed(half_width: float, matters: float, readings: int) -> int | None:
    """How many readings like these would do, as an interval shrinks with the root of their number;
    None where it would take more than anybody takes.
    """
    count = max(math.ceil(readings * (half_width / matters) ** 2), readings + 1)
    return count if count <= MOST_READINGS else None


@dataclass(frozen=True)
class Outliers:
    """Readings that disagree with the others beyond chance, and whether it cannot be told which
    of them it is.
    """

    out: Mask
    unclear: bool


def outliers(columns: Array, measured: Array, known: float) -> Outliers:
    """Which readings do not belong: the largest studentised residual, again and again, as long as
    it is beyond chance.

    Residuals of least squares, each over the deviation that the others and what is known beforehand
    tell, against Student's t at OUTLIER_CHANCE/n. Without enough readings to spare, two share the
    largest one: then nothing says which is wrong.

    Parameters
    ----------
    columns : (n, k)
        What the readings should lie on.
    measured : (n,)
    known : deviation of one reading beforehand

    Returns
    -------
    Outliers

    References
    ----------
    Cook and Weisberg, Residuals and Influence in Regression (1982), sec. 2.2.2 (outlier test with
    Bonferroni's bound).
    """
    inside = np.ones(len(measured), bool)
    while inside.sum() > columns.shape[1] + 1 or (inside.all() and inside.sum() > columns.shape[1]):
        x, y = columns[inside], measured[inside]
        cover = np.linalg.pinv(x.T @ x)
        spare = np.maximum(1 - np.einsum("ij,jk,ik->i", x, cover, x), 0.0)
        free = spare > 1e-6
        miss = np.where(free, (y - x @ (cover @ (x.T @ y))) / np.sqrt(np.maximum(spare, 1e-6)), 0.0)
        squares, freedom = float(np.sum(spare * miss**2)), len(y) - 1 - columns.shape[1]
        others = [pooled(max(squares - m**2, 0.0), freedom, known)[0] for m in miss]
        chance = 1 - OUTLIER_CHANCE / (2 * len(y))
        score = np.abs(miss) / np.array(others) / stdtrit(PRIOR_FREEDOM + freedom, chance)
        order = np.argsort(score)
        if score[order[-1]] <= 1.0:
            break
        if score[order[-2]] > 0.97 * score[order[-1]]:
            return Outliers(~inside, True)
        inside[np.flatnonzero(inside)[order[-1]]] = False
    return Outliers(~inside, False)


def slip_of_pen(value: float, expected: float, known: float, places: int) -> float | None:
    """The reading that would fit, if one slip explains it: two neighbouring digits swapped, or one
    digit off by one.

    Parameters
    ----------
    value : as it was written
    expected : where it belongs
    known : deviation of one reading
    places : decimals that were written

    Returns
    -------
    the other reading; None where no single slip brings the value to where it belongs
    """
    text = f"{abs(value):.{places}f}"
    fits = []
    for k in range(len(text) - 1):
        if text[k] != "." and text[k + 1] != ".":
            fits.append(text[:k] + text[k + 1] + text[k] + text[k + 2 :])
        elif text[k + 1] == "." and k + 2 < len(text):
            fits.append(text[:k] + text[k + 2] + "." + text[k] + text[k + 3 :])
    for k, digit in enumerate(text):
        if digit != ".":
            fits.extend(
                text[:k] + other + text[k + 1 :]
                for other in (str(int(digit) - 1), str(int(digit) + 1))
                if len(other) == 1
            )
    near = [
        math.copysign(float(f), value)
        for f in fits
        if abs(math.copysign(float(f), value) - expected) < 3 * known
    ]
    return min(near, key=lambda f: abs(f - expected)) if near else None


def falls_with(speed: Array, ratio: Array, deviation: Array) -> tuple[float, bool]:
    """How much a ratio falls from the lowest to the highest speed, by weighted least squares.

    Parameters
    ----------
    speed, ratio, deviation : (n,)
        Each ratio with its own deviation.

    Returns
    -------
    the fall, and whether it is beyond chance (95 %)
    """
    if np.ptp(speed) == 0:
        return 0.0, False
    line, cover = np.polyfit(speed, ratio, 1, w=1 / deviation, cov="unscaled")
    slope = float(line[0])
    return -slope * float(np.ptp(speed)), slope < -NORMAL_95 * math.sqrt(cover[0, 0])
