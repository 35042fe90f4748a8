"""The choice of gains: a search over simulated loops on an ensemble of what the heater may be."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.optimize import brentq

from omphalon.base.arrays import Array
from omphalon.physics.aims import AIMS, Aim
from omphalon.physics.linear import sensitivity, textbook, ultimate_of
from omphalon.physics.loop import (
    OTHER_DAYS,
    SENSITIVITY_PRICE,
    Gains,
    Loop,
    Outcome,
    heat_up,
    run_loop,
    step_for,
)
from omphalon.physics.thermal import ThermalModel


def _even_points(count: int, dimensions: int, offset: int) -> Array:
    """Evenly spread points (count, dimensions) in the unit cube, from the offset-th on: the
    additive recurrence of the generalised golden ratio (Roberts, The Unreasonable Effectiveness of
    Quasirandom Sequences, 2018), the root of x^(d + 1) = x + 1.

    `scipy.stats.qmc` has others; importing it takes 1.1 s, as long as the rest of a fit.
    """
    ratio = brentq(lambda x: x ** (dimensions + 1) - x - 1, 1.0, 2.0)
    steps = ratio ** -np.arange(1, dimensions + 1)
    return np.asarray(
        (0.5 + np.outer(np.arange(1 + offset, 1 + offset + count), steps)) % 1.0, dtype=np.float64
    )


# the last sample: its reach in ln kp, ln(kp/ki), ln(kd/kp), its size; totals a share CHEAP over the
# least count half; how much more than the least that was found the smooth choice may cost. Tried on
# fifty logs that differ by a row: 3 % of scatter in the gains, where the least alone had 17 %
REACH, LAST_SIZE, CHEAP, FLAT = np.array([0.2, 0.2, 0.35]), 160, 0.025, 0.03
PAIRS = [(i, j) for i in range(3) for j in range(i, 3)]


@dataclass(frozen=True)
class Choice:
    """The gains chosen, their mean cost over the ensemble, and how many loops were run to find
    them.

    `others` has the best gains seen on the way for each other aim: near its best, not its best.
    """

    gains: Gains
    cost: float
    runs: int
    others: dict[str, Gains]


def choose_gains(
    nominal: ThermalModel | Sequence[ThermalModel],
    ensemble: Sequence[ThermalModel],
    loop: Loop,
    aim: Aim,
    *,
    size: int = 80,
    rounds: int = 3,
) -> Choice:
    """Gains with the least mean cost over the ensemble, every member as it is and on other days.

    A wide, even sample around the textbook's gains, then ever narrower ones around the best twelfth
    (cross-entropy method). Coordinates are ln kp, ln(kp/ki), ln(kd/kp). The cost is flat about its
    least and rough in the small: last a quadratic is laid through an even sample there, so that a
    log with one row more gives the same gains.

    Parameters
    ----------
    nominal : the fitted model; or one for each target of a range, the middle one first
    ensemble : (m,) models that the log cannot tell from it
    loop : the controller that will run the gains
    aim : what counts how much
    size : sets of gains in a round
    rounds : of narrowing

    Returns
    -------
    Choice

    References
    ----------
    Rubinstein and Kroese, The Cross-Entropy Method (2004), ch. 2; Box and Wilson, On the
    Experimental Attainment of Optimum Conditions, J. R. Stat. Soc. B 13 (1951), 1-45.
    """
    nominals = [nominal] if isinstance(nominal, ThermalModel) else list(nominal)
    gain, period = ultimate_of(nominals[0], loop)
    start = textbook(gain, period)
    best = np.log([start.kp, start.kp / start.ki, start.kd / start.kp])
    slow = max(2.0 * nominals[0].time_constant_s, 10 * period)
    low = np.array([best[0] - 1.4, np.log(0.6 * period), np.log(0.02 * period)])
    high = np.array([best[0] + 1.4, np.log(slow), np.log(0.35 * period)])
    centre, spread, least = (low + high) / 2, (high - low) / 2, np.inf
    seen: dict[str, tuple[float, Gains]] = {}
    step = step_for(ensemble, loop)
    risen = heat_up(ensemble, loop, step)

    def cost_of(points: Array) -> Array:
        gains = _from_coordinates(points)
        outcome = run_loop(ensemble, gains, loop, step_s=step, start=risen)
        margin = np.max([sensitivity(one, gains, loop) for one in nominals], axis=0)
        for other in AIMS.values():
            worth = _total(outcome, margin, other, loop)
            if other is not aim and worth.min() < seen.get(other.name, (np.inf, start))[0]:
                at = int(worth.argmin())
                seen[other.name] = float(worth[at]), Gains(*map(float, gains[at]))
        return _total(outcome, margin, aim, loop)

    for turn in range(rounds):
        points = centre + spread * (2 * _even_points(size, 3, turn * size) - 1)
        points[0], points[1] = best, centre
        points = np.clip(points, low, high)
        totals = cost_of(points)
        order = np.argsort(totals)
        if totals[order[0]] < least:
            least, best = float(totals[order[0]]), points[order[0]]
        keep = points[order[: max(size // 12, 6)]]
        centre = (keep.mean(axis=0) + best) / 2
        spread = np.maximum(1.8 * keep.std(axis=0), 0.25 * spread)
    points = centre + REACH * (2 * _even_points(LAST_SIZE, 3, rounds * size) - 1)
    points = np.clip(points, low, high)
    smooth = np.clip(_least_of_quadratic(points, cost_of(points), centre), low, high)
    settled = float(cost_of(smooth[None])[0])
    if settled < least * (1 + FLAT):
        least, best = settled, smooth
    return Choice(
        Gains(*map(float, _from_coordinates(best[None])[0])),
        least,
        (rounds * size + LAST_SIZE + 1) * len(ensemble),
        {name: found for name, (_, found) in seen.items()},
    )


def _least_of_quadratic(points: Array, totals: Array, centre: Array) -> Array:
    """Where a quadratic through the totals (n,) of points (n, 3), the cheap ones counting most, is
    least; no further than REACH from the centre.
    """
    x = (points - centre) / REACH
    pairs = np.stack([x[:, i] * x[:, j] for i, j in PAIRS], axis=1)
    weight = np.exp(-(totals / totals.min() - 1) / (2 * CHEAP))
    basis = np.column_stack([np.ones(len(x)), x, pairs])
    fitted = np.linalg.lstsq(basis * weight[:, None], totals * weight, rcond=None)[0]
    bend = np.zeros((3, 3))
    for (i, j), value in zip(PAIRS, fitted[4:], strict=True):
        bend[i, j] += value
        bend[j, i] += value
    curvature, axes = np.linalg.eigh(bend)
    # a direction without curvature of its own tells no least: it is gone along with care
    firm = np.maximum(curvature, 0.05 * np.abs(curvature).max())
    moved: Array = centre - REACH * np.clip(axes @ ((axes.T @ fitted[1:4]) / firm), -1, 1)
    return moved


def _total(outcome: Outcome, margin: Array, aim: Aim, loop: Loop) -> Array:
    """Mean cost over the ensemble, and the price of a marginal loop; (n,)."""
    mean = outcome.cost(aim, loop).mean(axis=0)
    total = mean + SENSITIVITY_PRICE * np.maximum(0.0, margin - aim.sensitivity)
    return np.where(np.isfinite(total), total, 1e9)


def _from_coordinates(points: Array) -> Array:
    kp = np.exp(points[:, 0])
    return np.stack([kp, kp * np.exp(-points[:, 1]), kp * np.exp(points[:, 2])], axis=1)


def ensemble_of(nominal: ThermalModel, draws: Sequence[ThermalModel]) -> list[ThermalModel]:
    """The nominal model on all its days, then each draw on one of them.

    Parameters
    ----------
    nominal : the fitted model
    draws : (m,) models drawn from its doubt

    Returns
    -------
    (k,) models
    """
    return [nominal.other_day(*day) for day in OTHER_DAYS] + [
        draw.other_day(*OTHER_DAYS[n % len(OTHER_DAYS)]) for n, draw in enumerate(draws)
    ]
