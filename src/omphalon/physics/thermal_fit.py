"""How the model of a heated block is fitted to an oscillation log."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from scipy.optimize import least_squares

from omphalon.base.arrays import Array, Integers, Mask
from omphalon.base.stages import begins
from omphalon.physics.record import PowerSteps, Record
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


@dataclass(frozen=True, kw_only=True)
class _Problem:
    """Everything the fit needs that does not change from step to step."""

    time_s: Array
    reading_c: Array
    weight: Array
    grid_s: Array
    step_s: float
    driven: PowerSteps
    squared: Array
    reference_c: float
    breaks_s: tuple[float, ...]
    start_doubt_c: float
    cell: Integers
    part: Array
    prior: tuple[Array, Array]
    shape_prior: tuple[Array, Array]
    firmness: float
    switch_s: Array
    switch_jump: Array
    switch_doubt_s: Array

    def _masses(self, driven: Array, t1: float, t2: float, z: float) -> Array:
        if t2 <= 0.0:
            return first_order(driven, self.step_s, t1)
        share = (t1 - z) / (t1 - t2)
        return share * first_order(driven, self.step_s, t1) + (1 - share) * first_order(
            driven, self.step_s, t2
        )

    def basis(self, p: Array, masses: int) -> Array:
        """Columns (n, k) that the reading is a sum of.

        Power, growing loss, ambient; for each switching the response to its coming a moment later,
        in °C·s of K; the free decays of each stretch.
        """
        t1, lag, dead = float(np.exp(p[0])), float(np.exp(p[1])), float(p[2])
        t2 = min(float(np.exp(p[3])), 0.95 * t1) if masses == 2 else 0.0
        z = float(p[4]) * t2 if masses == 2 else 0.0

        def seen(driven: Array) -> Array:
            x = self._masses(driven, t1, t2, z)
            y = first_order((x[1:] + x[:-1]) / 2, self.step_s, lag)
            return y[self.cell] + self.part * (y[self.cell + 1] - y[self.cell])

        columns = [
            seen(self.driven.mean(self.grid_s, dead)),
            -seen(self.squared),
            np.ones(len(self.time_s)),
        ]
        blow = np.zeros(len(self.grid_s) - 1)
        blow[0] = 1 / self.step_s
        x = self._masses(blow, t1, t2, z)
        pulse = first_order((x[1:] + x[:-1]) / 2, self.step_s, lag)
        since = (self.time_s[None] - self.switch_s[:, None] - dead) / self.step_s + 0.5
        since = np.minimum(np.maximum(since, 0.0), len(pulse) - 1.001)
        cell = since.astype(np.int64)
        columns.extend(
            -self.switch_jump[:, None] * (pulse[cell] + (since - cell) * np.diff(pulse)[cell])
        )
        for number, start in enumerate(self.breaks_s):
            end = self.breaks_s[number + 1] if number + 1 < len(self.breaks_s) else np.inf
            since = self.time_s - start
            inside = (since >= 0) & (self.time_s < end)
            for constant in (t1, t2, lag) if masses == 2 else (t1, lag):
                columns.append(np.where(inside, np.exp(-np.maximum(since, 0) / constant), 0.0))
        return np.stack(columns, axis=1)

    def linear_prior(self, size: int) -> tuple[Array, Array]:
        """Mean and standard deviation of the linear coefficients before the log is seen."""
        centre, doubt = self.prior
        rest = np.full(size - 3 - len(self.switch_s), LATER_START_DOUBT_C)
        rest[: len(rest) // len(self.breaks_s)] = self.start_doubt_c
        return (
            np.concatenate([centre, np.zeros(size - 3)]),
            np.concatenate([doubt, centre[0] * self.switch_doubt_s, rest]),
        )

    def solve(self, p: Array, masses: int) -> tuple[Array, Array, Array]:
        """Best linear coefficients at p, the basis, and the weighted residuals with those of the
        priors behind.
        """
        basis = self.basis(p, masses)
        centre, doubt = self.linear_prior(basis.shape[1])
        left = np.vstack([basis * self.weight[:, None], np.diag(self.firmness / doubt)])
        right = np.concatenate([self.reading_c * self.weight, centre * self.firmness / doubt])
        coefficient = coefficients(left, right)
        usual, doubt = self.shape_prior
        strange = (p - usual[: len(p)]) / doubt[: len(p)] * self.firmness
        return coefficient, basis, np.concatenate([left @ coefficient - right, strange])


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


def fit_thermal(record: Record) -> ThermalFit:
    """Fit the model with one mass and with two to a log, and keep the second mass only on evidence.

    Nonlinear least squares over the time constants with the linear coefficients solved for inside
    (variable projection).

    Parameters
    ----------
    record : one log, or several joined

    Returns
    -------
    ThermalFit

    References
    ----------
    Golub and Pereyra, SIAM J. Numer. Anal. 10 (1973), p. 413–432.
    """
    begins("the heater's model is fitted")
    use = ~record.skip
    problem, first = _problem(record)
    near = (np.abs(record.reading_c - record.target_c) <= record.near_c)[use]
    one = _fit_masses(problem, 1, first, record.delay_s)
    behind = np.concatenate([one[0], [np.log(max(record.delay_s, 1.0)), 0.0]])
    beside = np.concatenate([one[0], [one[0][0] - 1.5, 1.5]])
    tries = [_fit_masses(problem, 2, start, record.delay_s, 5) for start in (behind, beside)]
    two = _fit_masses(problem, 2, min(tries, key=lambda f: f[1])[0], record.delay_s)
    pieces = max(
        len(problem.time_s) / autocorrelation_time(problem.solve(one[0], 1)[2][: use.sum()]), 10.0
    )
    evidence = float(pieces * np.log(max(one[1], 1e-12) / max(two[1], 1e-12)) - 2 * np.log(pieces))
    masses, best = (2, two[0]) if evidence > 0 else (1, one[0])
    return _model_fit(problem, best, masses, near, use, record.doubt_s, evidence)


def _problem(record: Record) -> tuple[_Problem, Array]:
    """The fit's fixed parts, and a first guess of the nonlinear parameters."""
    origin = record.time_s[0]
    t, reading, use, delay = record.time_s - origin, record.reading_c, ~record.skip, record.delay_s
    interval = float(np.median(np.diff(t)))
    step = max(interval / 4, delay / 25, t[-1] / MOST_POINTS)
    grid = np.arange(0.0, t[-1] + 2 * step, step)
    # from rest a sensor hardly moves within one delay; in the midst of a heat-up it does
    cold = bool(reading[0] < COLD_C and abs(np.interp(delay, t, reading) - reading[0]) < 3)
    ambient = (float(reading[0]), 1.5) if cold else (AMBIENT_C, 4.0)
    reference = float(np.mean(record.target_c)) - ambient[0]
    rise = np.interp((grid[1:] + grid[:-1]) / 2, t, reading) - ambient[0]
    away = np.maximum(0.0, np.abs(reading - record.target_c) - record.near_c)
    floor = max(min(record.noise_c, 0.05 * record.near_c), record.quantum_c / np.sqrt(12), 0.01)
    sigma = np.hypot(floor, 0.02 * away)
    driven = replace(record.driven, edge_s=record.driven.edge_s - origin)
    cell = np.minimum((t / step).astype(np.int64), len(grid) - 2)
    first, gain = _start(t, reading, driven, reference, delay)
    prior = (
        np.array([gain, GROWTH_PRIOR[0], ambient[0]]),
        np.array([0.3 * gain, GROWTH_PRIOR[1], ambient[1]]),
    )
    shape = (
        np.array([*first, np.log(2 * delay), 0.5]),
        np.array([1.0, 0.8, 0.6 * delay, 2.0, 1.0]),
    )
    neighbours = max(1.0, delay / interval)  # reports this close err together
    starts = tuple(b - origin for b in record.breaks_s if b > origin)
    return _Problem(
        time_s=t[use],
        reading_c=reading[use],
        weight=1.0 / sigma[use],
        grid_s=grid,
        step_s=step,
        driven=driven,
        squared=rise**2 / reference,
        reference_c=reference,
        breaks_s=(0.0, *starts),
        start_doubt_c=3.0 if cold else 150.0,
        cell=cell[use],
        part=(t / step - cell)[use],
        prior=prior,
        shape_prior=shape,
        firmness=float(np.sqrt(neighbours)),
        switch_s=driven.edge_s[1:-1],
        switch_jump=np.diff(driven.level),
        switch_doubt_s=np.maximum(driven.doubt_s, 0.01),
    ), first


def bounds(masses: int, delay_s: float) -> tuple[Array, Array]:
    low = [np.log(3.0), np.log(0.05), 0.0, np.log(0.2), 0.0]
    high = [np.log(3e4), np.log(20 * delay_s + 5), 4 * delay_s + 2, np.log(6e3), 15.0]
    size = len(ONE_MASS if masses == 1 else TWO_MASSES)
    return np.array(low[:size]), np.array(high[:size])


def _fit_masses(
    problem: _Problem, masses: int, start: Array, delay_s: float, most: int = 30
) -> tuple[Array, float]:
    """Best nonlinear parameters and their weighted sum of squares, after at most so many steps."""
    low, high = bounds(masses, delay_s)
    start = np.clip(start, low + 1e-3, high - 1e-3)
    found = least_squares(
        lambda p: problem.solve(p, masses)[2],
        start,
        bounds=(low, high),
        x_scale="jac",
        xtol=1e-4,
        ftol=1e-4,
        gtol=1e-10,
        max_nfev=most,
    )
    return np.asarray(found.x, dtype=np.float64), float(2 * found.cost)


def _start(
    t: Array, reading_c: Array, driven: PowerSteps, reference_c: float, delay_s: float
) -> tuple[Array, float]:
    """A first guess of ln T1, ln L, θ and of K: slope at full power against the power that holds
    the target.
    """
    tail = t > t[-1] / 2
    held = max(
        float(
            np.interp(t[-1], driven.edge_s, driven.area)
            - np.interp(t[tail][0], driven.edge_s, driven.area)
        )
        / (t[-1] - t[tail][0]),
        0.02,
    )
    wide = max(int(delay_s / max(float(np.median(np.diff(t))), 1e-3)), 2)
    slope = float(
        np.max((reading_c[wide:] - reading_c[:-wide]) / np.maximum(t[wide:] - t[:-wide], 1e-3))
    )
    time_constant = reference_c / held * float(driven.level.max()) / max(slope, 1e-3)
    gain = reference_c * (1 + GROWTH_PRIOR[0]) / held
    return np.array(
        [np.log(np.clip(time_constant, 10, 1e4)), np.log(max(delay_s / 2, 0.1)), delay_s / 2]
    ), gain


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


def _model_fit(
    problem: _Problem, p: Array, masses: int, near: Mask, use: Mask, doubt_s: float, evidence: float
) -> ThermalFit:
    coefficient, basis, residual = problem.solve(p, masses)
    count = len(problem.time_s)
    names = ONE_MASS if masses == 1 else TWO_MASSES
    full = slopes_at(
        p,
        coefficient,
        lambda q: problem.basis(q, masses),
        lambda values: (values.T * problem.weight).T,
    )
    size = basis.shape[1]
    sd = np.concatenate([problem.linear_prior(size)[1], problem.shape_prior[1][: len(p)]])
    information = full.T @ full
    scatter = float(residual[:count] @ residual[:count]) / max(count - len(sd), 1)
    inflation = max(scatter, 1.0) * autocorrelation_time(residual[:count])
    everything = np.linalg.inv(information / inflation + np.diag(1 / sd**2))
    keep = [*range(size, size + len(p)), 0, 1]
    covariance = np.asarray(everything[np.ix_(keep, keep)], dtype=np.float64)
    covariance[2, 2] += doubt_s**2
    fitted = np.full(len(use), np.nan)
    fitted[use] = basis @ coefficient
    miss = (fitted[use] - problem.reading_c)[near]
    around = problem.reading_c[near]
    parameters = np.concatenate([p, coefficient[:2]])
    shift = coefficient[3 : 3 + len(problem.switch_s)] / max(float(coefficient[0]), 1e-6)
    like = ThermalModel.between(float(coefficient[2]), problem.reference_c)
    model = model_of(parameters, masses, like)
    return ThermalFit(
        model=model,
        names=(*names, "gain_c", "loss_growth"),
        parameters=parameters,
        covariance=covariance,
        fitted_c=fitted,
        rms_c=float(np.sqrt(np.mean(miss**2))) if len(miss) else float("inf"),
        swing_rms_c=float(np.std(around)) if len(around) else 0.0,
        masses=masses,
        evidence=evidence,
        shift_s=shift,
        shift_doubts=float(np.sqrt(np.mean((shift / problem.switch_doubt_s) ** 2)))
        if len(shift)
        else 0.0,
    )
