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


@dataclass(frozen=True)
class Estimate:
    """A value and the half width of its 95 % interval; deviation of one reading; degrees of freedom."""

    value: float
    half_width: float
    deviation: float
    freedom: float

    def tells(self, other: float) -> bool:
        """Whether another value lies outside the interval."""
        return abs(self.value - other) > self.half_width


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


def reading_deviation(resolution: float, placing: float = 0.0, ends: int = 1) -> float:
    """Standard deviation of a distance read with a resolution at so many ends, and marks placed by hand.

    A reading is uniform within its resolution: resolution/√12 (GUM 4.3.7); placing is a standard deviation.
    """
    return math.sqrt(ends * resolution**2 / 12 + placing**2)


def pooled_deviation(known: float, misses: Array, used: int) -> tuple[float, float]:
    """Deviation of a reading from what is known and what the misses (n,) from a fit with `used` parameters show."""
    own = max(len(misses) - used, 0)
    freedom = PRIOR_FREEDOM + own
    return math.sqrt((PRIOR_FREEDOM * known**2 + float(misses @ misses)) / freedom), freedom


def mean_of(values: Array, known: float) -> Estimate:
    """Mean of readings (n,) whose deviation is known to be about `known`."""
    misses = values - values.mean()
    deviation, freedom = pooled_deviation(known, misses, 1)
    return Estimate(float(values.mean()), student_95(freedom) * deviation / math.sqrt(len(values)), deviation, freedom)


def scale_of(asked: Array, got: Array, known: float) -> Estimate:
    """Scale through zero: Σ asked·got / Σ asked², the least squares of got = scale · asked, for readings (n,)."""
    power = float(asked @ asked)
    scale = float(asked @ got) / power
    deviation, freedom = pooled_deviation(known, got - scale * asked, 1)
    return Estimate(scale, student_95(freedom) * deviation / math.sqrt(power), deviation, freedom)


def line_of(asked: Array, got: Array, side: Array, known: float) -> Line:
    """Scale and a zero error that counts with side (+1 outside or there, −1 inside or back), for readings (n,).

    Raises ValueError where the readings cannot part the two.
    """
    columns = np.stack([asked, side], axis=1)
    normal = columns.T @ columns
    if np.linalg.cond(columns / np.linalg.norm(columns, axis=0)) > 1e6:
        raise ValueError("scale and offset cannot be parted")
    cover = np.linalg.inv(normal)
    scale, offset = (float(v) for v in cover @ (columns.T @ got))
    deviation, freedom = pooled_deviation(known, got - columns @ np.array([scale, offset]), 2)
    t = student_95(freedom)
    both = [Estimate(value, t * deviation * math.sqrt(cover[n, n]), deviation, freedom)
            for n, value in enumerate((scale, offset))]
    return Line(*both)


def outlying(values: Array, known: float) -> NDArray[np.bool_]:
    """Readings that disagree with their fellows beyond chance; none among fewer than three.

    Each against the median of the others, in deviations of that difference: √(1 + π/2 ÷ others).
    """
    n = len(values)
    found = np.zeros(n, bool)
    if n < 3:
        return found
    for k in range(n):
        others = np.delete(values, k)
        scatter = known * math.sqrt(1 + math.pi / 2 / (n - 1))
        found[k] = abs(values[k] - float(np.median(others))) > OUTLYING * scatter
    return found if found.sum() < n / 2 else np.zeros(n, bool)


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
