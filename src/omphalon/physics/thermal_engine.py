"""The engine of every fit of a heated block: the model is simulated from the power over a grid,
the coefficients that it is linear in are solved for inside (variable projection: Golub and Pereyra,
SIAM J. Numer. Anal. 10 (1973), p. 413–432), time constants, lag and dead time are searched, and the
covariance is that at the best. A fit says what else the reading is a sum of, what is known before,
and how its errors are weighed.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.optimize import least_squares

from omphalon.base.arrays import Array, Integers, Mask
from omphalon.physics.scale import autocorrelation_time
from omphalon.physics.thermal import ThermalModel, first_order
from omphalon.tables.constants import NORMAL_95

AMBIENT_C = 23.0  # of a room, where no log starts cold
COLD_C = 45.0  # a log that starts below may have started at rest
# growth of the loss over the whole rise, and its deviation, before a log tells: free convection and
# radiation of parts at 100 to 300 °C; and what no heater passes
GROWTH_PRIOR, MOST_GROWTH = (0.3, 0.3), 1.2
LEAST_GROWTH = -0.5  # of a drawn model, about a target that a test swings around
MOST_POINTS = 6000  # reports that a fit looks at; of more, evenly some
LATER_START_DOUBT_C = 150.0  # where a log begins warm, the parts' own temperatures are unknown


@dataclass(frozen=True, kw_only=True)
class ThermalFit:
    """A fitted model and how far to trust it.

    `names` label the rows of `covariance` (shape (p, p)), in the order of `parameters`. `fitted_c`
    has the model's reading at each report (NaN where passed over). `rms_c` is the residual near the
    target, `swing_rms_c` that of the readings there about their mean. `shift_s` is how much later
    than estimated each switching came, `shift_doubts` the root mean square of that over its doubt
    (about 1 or less in a sound log). `least_growth`: of the losses of a drawn model.
    """

    model: ThermalModel
    names: tuple[str, ...]
    parameters: Array
    covariance: Array
    fitted_c: Array
    rms_c: float
    swing_rms_c: float
    masses: int
    evidence: float
    shift_s: Array
    shift_doubts: float
    least_growth: float = LEAST_GROWTH

    def draws(self, count: int, random: np.random.Generator) -> list[ThermalModel]:
        """Models that the log cannot tell from the fitted one, drawn from the covariance."""
        spread = np.linalg.cholesky(self.covariance + 1e-12 * np.eye(len(self.parameters)))
        scatter = np.clip(random.standard_normal((count, len(self.parameters))), -2.5, 2.5)
        drawn = (self.parameters + spread @ z for z in scatter)
        return [model_of(p, self.masses, self.model, self.least_growth) for p in drawn]

    def spread(self, name: str) -> float:
        """Half width of the 95 % interval of a parameter in its own unit (logarithms turned
        back).
        """
        at = self.names.index(name)
        half = NORMAL_95 * float(np.sqrt(self.covariance[at, at]))
        return float(np.exp(self.parameters[at]) * np.sinh(half)) if name in LOGARITHMS else half


LOGARITHMS = ("time_constant_s", "lag_s", "second_s")
ONE_MASS = ("time_constant_s", "lag_s", "dead_time_s")
TWO_MASSES = (*ONE_MASS, "second_s", "zero_ratio")


class ThermalEngine(ABC):
    """One fit of the model to one log, or to several joined.

    A subclass sets the grid (n + 1 points `step_s` apart), where each report lies on it (`cell` and
    `part` of it), the readings, and how firmly the priors hold.
    """

    step_s: float
    grid_s: Array
    cell: Integers
    part: Array
    reading_c: Array
    delay_s: float
    reference_c: float
    firmness: float = 1.0
    ftol: float = 1e-5  # share of χ² that a further step must gain

    @abstractmethod
    def basis(self, p: Array) -> Array:
        """Columns (reports, k) that the reading is a sum of: power, growing loss, ambient first."""

    @abstractmethod
    def coefficient_prior(self, size: int, masses: int) -> tuple[Array, Array]:
        """Mean and deviation of so many coefficients before the log is seen."""

    @abstractmethod
    def shape_prior(self, count: int) -> tuple[Array, Array]:
        """The same of the parameters."""

    @abstractmethod
    def white(self, values: Array) -> Array:
        """Values at the reports, of one deviation and apart from one another."""

    def through(self, driven: Array, masses: Sequence[tuple[float, float]], lag: float) -> Array:
        """An input over the grid through masses (share, time constant) and the sensor."""
        parts = [share * first_order(driven, self.step_s, constant) for share, constant in masses]
        x = np.sum(parts, axis=0)
        return first_order((x[1:] + x[:-1]) / 2, self.step_s, lag)

    def seen(self, driven: Array, masses: Sequence[tuple[float, float]], lag: float) -> Array:
        """What the sensor reads at the reports."""
        y = self.through(driven, masses, lag)
        return np.asarray(y[self.cell] + self.part * (y[self.cell + 1] - y[self.cell]))

    def solve(self, p: Array) -> tuple[Array, Array, Array]:
        """Best coefficients at p, the basis, and the whitened residuals with those of the priors
        behind.
        """
        basis = self.basis(p)
        mean, doubt = self.coefficient_prior(basis.shape[1], masses_in(p))
        whitened = self.white(np.column_stack([basis, self.reading_c]))
        left = np.vstack([whitened[:, :-1], np.diag(self.firmness / doubt)])
        right = np.concatenate([whitened[:, -1], mean * self.firmness / doubt])
        best = coefficients(left, right)
        typical, deviation = self.shape_prior(len(p))
        apart = (p - typical) / deviation * self.firmness
        return best, basis, np.concatenate([left @ best - right, apart])

    def fitted(self, start: Array, most: int) -> tuple[Array, float]:
        """Best parameters from a start after at most so many steps, and their χ²."""
        low, high = bounds(masses_in(start), self.delay_s)
        found = least_squares(
            lambda p: self.solve(p)[2],
            np.clip(start, low + 1e-3, high - 1e-3),
            bounds=(low, high),
            x_scale="jac",
            xtol=1e-4,
            ftol=self.ftol,
            gtol=1e-10,
            max_nfev=most,
        )
        return np.asarray(found.x, dtype=np.float64), float(2 * found.cost)

    def estimates(self, p: Array) -> Estimates:
        """What the log says at the best parameters."""
        best, basis, residual = self.solve(p)
        count, size = len(self.reading_c), basis.shape[1]
        full = slopes_at(p, best, self.basis, self.white)
        masses = masses_in(p)
        doubt = np.concatenate(
            [self.coefficient_prior(size, masses)[1], self.shape_prior(len(p))[1]]
        )
        misfit = float(residual[:count] @ residual[:count]) / max(count - len(doubt), 1)
        more = max(misfit, 1.0) * max(autocorrelation_time(residual[:count]), 1.0)
        return Estimates(
            coefficients=best,
            covariance=np.asarray(
                np.linalg.inv(full.T @ full / more + np.diag(1 / doubt**2)), dtype=np.float64
            ),
            fitted_c=basis @ best,
            misfit=misfit,
        )

    def thermal_fit(
        self, p: Array, estimates: Estimates, rows: Any, total: int, near: Mask, **more: Any
    ) -> ThermalFit:
        """The fit at the best parameters. `rows`: which of `total` reports took part; `near`: which
        of those lie near the target.
        """
        size, masses = len(estimates.coefficients), masses_in(p)
        keep = [*range(size, size + len(p)), 0, 1]
        fitted = np.full(total, np.nan)
        fitted[rows] = estimates.fitted_c
        miss, around = (estimates.fitted_c - self.reading_c)[near], self.reading_c[near]
        parameters = np.concatenate([p, estimates.coefficients[:2]])
        like = ThermalModel.between(float(estimates.coefficients[2]), self.reference_c)
        return ThermalFit(
            model=model_of(parameters, masses, like),
            names=(*(ONE_MASS if masses == 1 else TWO_MASSES), "gain_c", "loss_growth"),
            parameters=parameters,
            covariance=np.asarray(estimates.covariance[np.ix_(keep, keep)], dtype=np.float64),
            fitted_c=fitted,
            rms_c=float(np.sqrt(np.mean(miss**2))) if len(miss) else float("inf"),
            swing_rms_c=float(np.std(around)) if len(around) else 0.0,
            masses=masses,
            **more,
        )


@dataclass(frozen=True, kw_only=True)
class Estimates:
    """What a log says at the best parameters: coefficients (k,), covariance of these and the
    parameters (k + m, k + m), the model's reading at each report, χ² a degree of freedom.
    """

    coefficients: Array
    covariance: Array
    fitted_c: Array
    misfit: float


def masses_in(p: Array) -> int:
    """How many masses parameters are of."""
    return 1 if len(p) == len(ONE_MASS) else 2


def constants_of(p: Array) -> tuple[list[tuple[float, float]], float, float]:
    """Masses as (share, time constant), lag and dead time of parameters."""
    t1, lag, dead = float(np.exp(p[0])), float(np.exp(p[1])), float(p[2])
    if masses_in(p) == 1:
        return [(1.0, t1)], lag, dead
    t2 = min(float(np.exp(p[3])), 0.95 * t1)
    share = (t1 - float(p[4]) * t2) / (t1 - t2)
    return [(share, t1), (1 - share, t2)], lag, dead


def coefficients(left: Array, right: Array) -> Array:
    """Least squares of a basis (rows, k) and a reading (rows,), the second coefficient, the growth
    of the losses, held between none and what no heater passes; (k,).
    """
    normal, product = left.T @ left, left.T @ right
    best = np.linalg.solve(normal, product)
    if not 0.0 <= best[1] <= MOST_GROWTH:
        fixed = min(max(best[1], 0.0), MOST_GROWTH)
        free = np.arange(len(best)) != 1
        rest = product[free] - normal[free, 1] * fixed
        best[free] = np.linalg.solve(normal[np.ix_(free, free)], rest)
        best[1] = fixed
    return np.asarray(best, dtype=np.float64)


def model_of(
    p: Array, masses: int, like: ThermalModel, least_growth: float = LEAST_GROWTH
) -> ThermalModel:
    """The model of a parameter vector (nonlinear ones, then K, κ)."""
    t1 = float(np.exp(p[0]))
    t2 = min(float(np.exp(p[3])), 0.95 * t1) if masses == 2 else 0.0
    return replace(
        like,
        time_constant_s=t1,
        lag_s=float(np.exp(p[1])),
        dead_time_s=max(float(p[2]), 0.0),
        second_s=t2,
        zero_s=max(float(p[4]), 0.0) * t2 if masses == 2 else 0.0,
        gain_c=float(p[-2]),
        loss_growth=max(float(p[-1]), least_growth),
    )


def bounds(masses: int, delay_s: float) -> tuple[Array, Array]:
    low = [np.log(3.0), np.log(0.05), 0.0, np.log(0.2), 0.0]
    high = [np.log(3e4), np.log(20 * delay_s + 5), 4 * delay_s + 2, np.log(6e3), 15.0]
    size = len(ONE_MASS if masses == 1 else TWO_MASSES)
    return np.array(low[:size]), np.array(high[:size])


def slopes_at(
    p: Array,
    coefficient: Array,
    basis_of: Callable[[Array], Array],
    weighed: Callable[[Array], Array],
) -> Array:
    """What weighed readings change by with each coefficient and each parameter, (n, k + m)."""
    basis = basis_of(p)
    slopes = [weighed(basis)]
    for n in range(len(p)):
        nudge = 1e-4 * max(1.0, abs(p[n]))
        nudged = p.copy()
        nudged[n] += nudge
        slopes.append(weighed((basis_of(nudged) - basis) @ coefficient / nudge)[:, None])
    return np.hstack(slopes)
