"""Which of many differs from the others, and what has changed: beyond chance, each one's own
interval counted.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import stats

from omphalon.base.arrays import Array, Mask

FEWEST_VALUES = 5  # values; the deviation of fewer says nothing
# of false ones among those that are named, on the average of farms; half of one in twenty, so that
# they also stay below one in twenty of all that are named in many farms together, where a farm with
# one odd printer lets twice as many pass: docs/farm.md
RATE = 0.025
NEAR = 3.0  # deviations from the middle within which values tell their own deviation
ROUNDS, HALVINGS = 3, 45
EXACT = 1e-6  # of the range: no value is held to be known closer
# share of the degrees of freedom that is lost where the far ones are cut away before the spread is
# found; measured: docs/farm.md, farms without an odd one
LOST = 0.3


def deviation_of(half_width: Array | float) -> Array:
    """The standard deviation behind the half width of a 95 % interval of a normal quantity.

    Parameters
    ----------
    half_width : (n,), or one

    Returns
    -------
    The same shape.
    """
    return np.asarray(half_width / stats.norm.ppf(0.975))


def _cut_variance(near: float) -> float:
    """Variance that a normal law of variance 1 keeps when it is cut at ±near.

    Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 1 (1994), eq. 13.134.
    """
    return float(1 - 2 * near * stats.norm.pdf(near) / (2 * stats.norm.cdf(near) - 1))


KEPT_VARIANCE = _cut_variance(NEAR)


@dataclass(frozen=True, kw_only=True)
class Placement:
    """What is usual among many values, and how far each is from it.

    centre, spread: of the values themselves (standard deviation beyond their own intervals).
    away: (n,) distances from the centre of the others. half_width: (n,) of their 95 % intervals.
    chance: (n,) how often one lies so far off by chance. usual: which told centre and spread.
    """

    centre: float
    spread: float
    away: Array
    half_width: Array
    chance: Array
    usual: Mask


def placed_among(value: Array, deviation: Array) -> Placement:
    """How far each of many lies from the others, in the light of their spread and its own doubt.

    Centre and spread come from those within NEAR deviations of the middle (the cut is made up for);
    each is held against the others, itself left out.

    Parameters
    ----------
    value : (n,), n ≥ FEWEST_VALUES
    deviation : (n,)
        Standard deviation of each value; 0 where it is exact.

    Returns
    -------
    Placement

    Raises
    ------
    ValueError
        If there are fewer than FEWEST_VALUES.

    References
    ----------
    Paule and Mandel, J. Res. NBS 87 (1982), p. 377–385: spread beyond known deviations.
    Rousseeuw and Leroy, Robust Regression and Outlier Detection (1987), p. 129: cut, then estimate.
    """
    count = len(value)
    if count < FEWEST_VALUES:
        raise ValueError(f"{count} values, {FEWEST_VALUES} are needed")
    deviation = np.maximum(deviation, EXACT * (float(np.ptp(value)) or 1.0))
    usual, whole = np.ones(count, dtype=bool), stats.median_abs_deviation(value, scale="normal")
    centre = np.median(value)
    for _ in range(ROUNDS):
        near = np.abs(value - centre) <= NEAR * np.hypot(whole, deviation)
        usual = near if near.sum() > count / 2 else usual
        (centre,), (whole,), _ = _pooled(value, deviation, usual[None])
    others = usual & ~np.eye(count, dtype=bool)
    middle, apart, doubt = _pooled(value, deviation, others)
    one = np.sqrt(apart**2 + deviation**2 + doubt**2)
    found = apart**2 / (
        apart**2 + deviation**2
    )  # share of the variance that is not known but found
    freedom = (1 - LOST * found) * (others.sum(1) - 1)
    away = value - middle
    return Placement(
        centre=float(centre),
        spread=float(whole),
        away=away,
        half_width=one * stats.t.ppf(0.975, freedom),
        chance=_tails(away, one, freedom),
        usual=usual,
    )


def _tails(away: Array, one: Array, freedom: Array | float) -> Array:
    """Both tails of Student's law; alike exact values are no news, unlike ones are."""
    times = np.abs(away) / np.where(one > 0, one, np.finfo(float).tiny)
    return np.asarray(2 * stats.t.sf(times, freedom))


def _pooled(value: Array, deviation: Array, chosen: Mask) -> tuple[Array, Array, Array]:
    """Centre, spread beyond the known deviations, and the centre's own deviation, for each row of
    `chosen` (m, n).
    """

    def weighed(spread: Array) -> tuple[Array, Array, Array]:
        weight = chosen / (spread[:, None] ** 2 + deviation**2)
        whole = weight.sum(axis=1)
        middle = weight @ value / whole
        return middle, (weight * (value - middle[:, None]) ** 2).sum(axis=1), whole

    goal = KEPT_VARIANCE * (chosen.sum(axis=1) - 1)
    low, high = np.zeros(len(chosen)), np.full(len(chosen), 2 * float(np.ptp(value)))
    for _ in range(HALVINGS):
        between = (low + high) / 2
        more = weighed(between)[1] > goal
        low, high = np.where(more, between, low), np.where(more, high, between)
    spread = np.where(weighed(0 * low)[1] > goal, high, 0.0)
    middle, _, whole = weighed(spread)
    return middle, spread, 1 / np.sqrt(whole)


def named(chance: Array, rate: float = RATE) -> Mask:
    """Which of many findings to name, so that false ones stay a small share of those named.

    Parameters
    ----------
    chance : (n,)
        How often each comes up by chance.
    rate
        Share of false ones among the named, on the average.

    Returns
    -------
    (n,)

    References
    ----------
    Benjamini and Hochberg, J. R. Stat. Soc. B 57 (1995), p. 289–300.
    """
    if not len(chance):
        return np.zeros(0, dtype=bool)
    return np.asarray(stats.false_discovery_control(chance, method="bh") <= rate)


def changes(
    change: Array, deviation: Array, freedom: Array | float = np.inf
) -> tuple[Array, Array]:
    """Half widths of the intervals of changes, and how often such a change comes up by chance.

    Parameters
    ----------
    change, deviation : (n,)
    freedom : (n,) or one for all
        Degrees of freedom of the deviations.

    Returns
    -------
    (n,), (n,)
    """
    return deviation * stats.t.ppf(0.975, freedom), _tails(change, deviation, freedom)
