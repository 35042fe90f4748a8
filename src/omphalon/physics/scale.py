"""Asked against got: a scale with its interval, a zero error kept out of it, and readings that do not belong.

Uncertainties are combined as in the GUM (JCGM 100:2008). What is known beforehand of one reading (resolution, placing)
counts as an estimate of its deviation with PRIOR_FREEDOM degrees of freedom (G.4.2: known to about 13 %), to which the
scatter of the readings adds its own; the interval is Student's t with both together.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

PRIOR_FREEDOM = 30.0
OUTLYING = 3.4
TELLING = 1.2


@dataclass(frozen=True)
class Spread:
    """What is known beforehand of one reading: its random deviation, and the part that repeats at the same length."""

    random: float
    common: float

    @property
    def whole(self) -> float:
        return math.hypot(self.random, self.common)


@dataclass(frozen=True)
class Estimate:
    """A value and the half width of its 95 % interval; deviation of one reading; degrees of freedom."""

    value: float
    half_width: float
    deviation: float
    freedom: float

    def tells(self, other: float) -> bool:
        """Whether another value lies outside the interval, by a fifth of it: so noise is chased once in twenty at most."""
        return abs(self.value - other) > TELLING * self.half_width


@dataclass(frozen=True)
class Line:
    """got = scale · asked + offset · side."""

    scale: Estimate
    offset: Estimate


def student_95(freedom: float) -> float:
    """Two-sided 95 % quantile of Student's t, by the expansion of Abramowitz and Stegun 26.7.5 (0.3 % from 3 on)."""
    if freedom < 3:
        return {1: 12.706, 2: 4.303}.get(max(round(freedom), 1), 4.303)
    z, v = 1.959964, freedom
    return (z + (z**3 + z) / (4 * v) + (5 * z**5 + 16 * z**3 + 3 * z) / (96 * v**2)
            + (3 * z**7 + 19 * z**5 + 17 * z**3 - 15 * z) / (384 * v**3)
            + (79 * z**9 + 776 * z**7 + 1482 * z**5 - 1920 * z**3 - 945 * z) / (92160 * v**4))


def reading_spread(resolution: float, placing: float, ends: int = 1) -> Spread:
    """Spread of a distance read with a resolution at so many ends, and set or marked with a deviation `placing`.

    A reading is uniform within its resolution: resolution/√12 (GUM 4.3.7). As long as the setting scatters less than the
    resolution, the same length is rounded the same way every time, and averaging does not help: of the rounding's variance
    the share exp(−(2π placing/resolution)²) repeats (Widrow and Kollár, Quantization Noise, 2008, ch. 5: the characteristic
    function of the scatter at one over the resolution).
    """
    rounding = ends * resolution**2 / 12
    share = math.exp(-min((2 * math.pi * placing / resolution) ** 2, 700.0))
    return Spread(math.sqrt(placing**2 + rounding * (1 - share)), math.sqrt(rounding * share))


def _fit(columns: Array, got: Array, spread: Spread) -> list[Estimate]:
    """Least squares of got (n,) on columns (n, k), with the interval of each coefficient.

    Readings with the same row of columns share the common part of the spread.
    """
    cover = np.linalg.inv(columns.T @ columns)
    found = cover @ (columns.T @ got)
    misses = got - columns @ found
    freedom = PRIOR_FREEDOM + max(len(got) - columns.shape[1], 0)
    known = spread.whole if spread.common > spread.random else spread.random
    deviation = math.sqrt((PRIOR_FREEDOM * known**2 + float(misses @ misses)) / freedom)
    scatter = min(deviation, spread.random) if spread.common > spread.random else deviation
    same = (columns[:, None, :] == columns[None, :, :]).all(axis=2)
    repeated = cover @ columns.T @ same @ columns @ cover
    t = student_95(freedom)
    return [Estimate(float(found[k]), math.hypot(t * scatter * math.sqrt(cover[k, k]),
                                                 1.96 * spread.common * math.sqrt(repeated[k, k])), deviation, freedom)
            for k in range(columns.shape[1])]


def mean_of(values: Array, spread: Spread) -> Estimate:
    """Mean of readings (n,)."""
    return _fit(np.ones((len(values), 1)), values, spread)[0]


def scale_of(asked: Array, got: Array, spread: Spread) -> Estimate:
    """Scale through zero: Σ asked·got / Σ asked², the least squares of got = scale · asked, for readings (n,)."""
    return _fit(asked[:, None], got, spread)[0]


def line_of(asked: Array, got: Array, side: Array, spread: Spread) -> Line:
    """Scale and a zero error that counts with side (+1 outside or there, −1 inside or back), for readings (n,).

    Raises ValueError where the readings cannot part the two.
    """
    columns = np.stack([asked, side], axis=1)
    if np.linalg.cond(columns / np.linalg.norm(columns, axis=0)) > 1e6:
        raise ValueError("scale and offset cannot be parted")
    return Line(*_fit(columns, got, spread))


@dataclass(frozen=True)
class Strangers:
    """Readings that disagree with their fellows beyond chance, and whether it cannot be told which of them it is."""

    out: NDArray[np.bool_]
    unclear: bool


def strangers(columns: Array, got: Array, deviation: float) -> Strangers:
    """The largest normalised residual, again and again, as long as it is beyond chance (Baarda's test, 1968).

    Residuals of the least squares of got (n,) on columns (n, k) over deviation · √(1 − leverage). Without enough readings
    to spare, two share the largest residual: then it cannot be told which is wrong.
    """
    inside = np.ones(len(got), bool)
    while inside.sum() > columns.shape[1] + 1 or (inside.all() and inside.sum() > columns.shape[1]):
        x, y = columns[inside], got[inside]
        cover = np.linalg.pinv(x.T @ x)
        spare = np.maximum(1 - np.einsum("ij,jk,ik->i", x, cover, x), 0.0)
        miss = np.abs(y - x @ (cover @ (x.T @ y)))
        score = np.where(spare > 1e-6, miss / (deviation * np.sqrt(np.maximum(spare, 1e-6))), 0.0)
        order = np.argsort(score)
        if score[order[-1]] <= OUTLYING:
            break
        if score[order[-2]] > 0.97 * score[order[-1]]:
            return Strangers(~inside, True)
        inside[np.flatnonzero(inside)[order[-1]]] = False
    return Strangers(~inside, False)


def slip_of_pen(value: float, expected: float, known: float, places: int) -> float | None:
    """The reading that would fit, if one slip explains it: two neighbouring digits swapped, or one digit off by one.

    `places` is how many decimals were written; None where no single slip brings the value to where it belongs.
    """
    text = f"{abs(value):.{places}f}"
    fits = []
    for k in range(len(text) - 1):
        if text[k] != "." and text[k + 1] != ".":
            fits.append(text[:k] + text[k + 1] + text[k] + text[k + 2:])
        elif text[k + 1] == "." and k + 2 < len(text):
            fits.append(text[:k] + text[k + 2] + "." + text[k] + text[k + 3:])
    for k, digit in enumerate(text):
        if digit != ".":
            fits.extend(text[:k] + other + text[k + 1:] for other in (str(int(digit) - 1), str(int(digit) + 1))
                        if len(other) == 1)
    near = [math.copysign(float(f), value) for f in fits if abs(math.copysign(float(f), value) - expected) < 3 * known]
    return min(near, key=lambda f: abs(f - expected)) if near else None


def falls_with(speed: Array, ratio: Array, deviation: Array) -> tuple[float, bool]:
    """How much the ratio falls from the lowest to the highest speed, and whether that is beyond chance (95 %).

    Weighted least squares of ratio (n,) on speed (n,), each with its deviation (n,).
    """
    weight = 1 / deviation**2
    centre = float(np.sum(weight * speed) / weight.sum())
    spread = float(np.sum(weight * (speed - centre) ** 2))
    if spread <= 0:
        return 0.0, False
    slope = float(np.sum(weight * (speed - centre) * ratio)) / spread
    return -slope * float(np.ptp(speed)), slope < -1.96 / math.sqrt(spread)
