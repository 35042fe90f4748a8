"""How the model of a heated block is fitted to any log in which the power really changed: a
heat-up, holds, other targets, changes of loss.

The controller made the power out of the noisy reading, and what is logged of it is a sample, or
the mean, of five decisions a second. So the reading is simulated from the power alone, which no
noise of the reading biases (output error: Ljung, System Identification, 2nd ed. 1999, ch. 13.4),
and what the samples leave open of the power is carried as noise at the model's input: the
residuals' covariance is that of the sensor, of the model's own error on the way, and of the unknown
part of the power through the model.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.linalg import cholesky, solve_triangular

from omphalon.base.arrays import Array
from omphalon.physics.record import ExcitedLog
from omphalon.physics.scale import Estimate, student_95
from omphalon.physics.thermal_engine import (
    GROWTH_PRIOR,
    LATER_START_DOUBT_C,
    MOST_POINTS,
    ThermalEngine,
    ThermalFit,
    constants_of,
    masses_in,
)

MOST_ROWS = 600  # reports that a fit looks at: where something moves all of them, else some
# what two masses miss of a real heater on the way to the target, as a share of the way, and at
# rest, with how long such an error lasts, in delays; tuned on two of the benchmark's families
ASTRAY, ASTRAY_REST_C = 0.004, 0.02
ASTRAY_DELAYS, REST_DELAYS = 2.0, 8.0
ASTRAY_BEYOND_C = 3.0  # as near as that nothing is astray
SECOND_MASS_WORTH = 6.0  # of χ² that two more parameters must explain
STARTS = ((0.5, 0.5), (0.3, 0.15), (0.7, 0.1))  # of lag and dead time, as shares of the delay
MANY = 60.0  # degrees of freedom, where they are many
MOST_CHANGES = 6  # of loss, that one log is asked for
WIDE_LOSS = 1.0  # deviation of a change of loss before the log is seen, as a share of the loss
AMBIENT_DOUBT_C = 1.5


@dataclass(frozen=True, kw_only=True)
class ExcitedFit:
    """The model, as from a test, the changes of loss (as shares of the loss at the target), and the
    log posterior up to a constant, by which two ways of reading one log are told apart.
    """

    log: ExcitedLog
    thermal: ThermalFit
    losses: tuple[Estimate, ...]
    likelihood: float
    misfit: float


class _Course(ThermalEngine):
    """What does not change from step to step of a fit."""

    def __init__(self, log: ExcitedLog) -> None:
        self.log, self.delay_s, self.reference_c = log, log.delay_s, log.reference_c
        t = log.time_s
        self.step_s = max(log.interval_s / 4, log.delay_s / 25, t[-1] / MOST_POINTS)
        start = t[0] - log.interval_s
        self.grid_s = np.arange(start, t[-1] + 2 * self.step_s, self.step_s)
        middle = (self.grid_s[1:] + self.grid_s[:-1]) / 2
        self.rise = np.interp(middle, t, log.reading_c) - log.ambient_c
        self.changed = [(middle >= at).astype(np.float64) for at in log.losses_s]
        place = (t[log.rows] - start) / self.step_s
        self.cell = np.minimum(place.astype(np.int64), len(self.grid_s) - 2)
        self.part = place - self.cell
        self.time = t[log.rows]
        self.reading_c = log.reading_c[log.rows]
        self.own = _own_errors(log, self.time, self.reading_c)
        self.root = cholesky(self.own, lower=True)
        held = log.power[np.abs(log.reading_c - log.target_c) < ASTRAY_BEYOND_C]
        holds = max(float(np.mean(held)) if len(held) else 0.3, 0.03)
        self.gain = log.reference_c * (1 + GROWTH_PRIOR[0]) / holds
        wide = max(int(max(log.delay_s, 5.0) / log.interval_s), 2)
        slope = float(
            np.max((log.reading_c[wide:] - log.reading_c[:-wide]) / (t[wide:] - t[:-wide]))
        )
        slow = log.reference_c / holds * float(log.power.max()) / max(slope, 1e-3)
        self.slow = float(np.log(np.clip(slow, 10, 1e4)))

    def basis(self, p: Array) -> Array:
        """Power, growing loss, ambient; each change of loss, which may act on either mass; where it
        began warm, the free decays.
        """
        masses, lag, dead = constants_of(p)
        columns = [
            self.seen(self.log.steps.mean(self.grid_s, dead), masses, lag),
            -self.seen(self.rise**2 / self.log.reference_c, masses, lag),
            np.ones(len(self.time)),
        ]
        for later in self.changed:
            columns += [-self.seen(self.rise * later, [(1.0, c)], lag) for _, c in masses]
        if not self.log.at_rest:
            since = self.time - self.time[0]
            columns += [np.exp(-since / c) for c in (*(c for _, c in masses), lag)]
        return np.stack(columns, axis=1)

    def coefficient_prior(self, size: int, masses: int) -> tuple[Array, Array]:
        lost = len(self.changed) * masses
        mean = np.concatenate(
            [[self.gain, GROWTH_PRIOR[0], self.log.ambient_c], np.zeros(size - 3)]
        )
        ambient = AMBIENT_DOUBT_C if self.log.at_rest else 3 * AMBIENT_DOUBT_C
        start = np.full(size - 3 - lost, LATER_START_DOUBT_C)
        known = [0.5 * self.gain, GROWTH_PRIOR[1], ambient]
        return mean, np.concatenate([known, np.full(lost, WIDE_LOSS), start])

    def shape_prior(self, count: int) -> tuple[Array, Array]:
        delay = self.log.delay_s
        mean = np.array([self.slow, np.log(max(delay / 2, 0.3)), delay / 2, np.log(2 * delay), 0.5])
        return mean[:count], np.array([1.5, 1.0, delay, 2.0, 1.0])[:count]

    def whiten(self, p: Array, gain_c: float) -> None:
        """The residuals' covariance with what is not known of the power, through this model."""
        masses, lag, dead = constants_of(p)
        variance, span = self.log.unsure, np.diff(self.log.time_s)
        where = np.flatnonzero(variance > 0)
        if not len(where):
            return
        blow = np.zeros(len(self.grid_s) - 1)
        blow[0] = gain_c / self.step_s
        pulse = self.through(blow, masses, lag)
        middle = (self.log.time_s[1:] + self.log.time_s[:-1])[where] / 2
        since = self.time[:, None] - middle[None] - dead
        shown = np.interp(since, np.arange(len(pulse)) * self.step_s, pulse, left=0.0)
        shown *= np.sqrt(variance[where]) * span[where]
        self.root = cholesky(self.own + shown @ shown.T, lower=True)

    def white(self, values: Array) -> Array:
        """Values at the rows, of one deviation and apart from one another."""
        whitened: Array = solve_triangular(self.root, values, lower=True, check_finite=False)
        return whitened

    def best(self) -> Array:
        """Best parameters of one mass, or of two where they explain more."""
        delay = self.log.delay_s
        starts = [
            np.array([self.slow, np.log(max(delay * lag, 0.15)), delay * dead])
            for lag, dead in STARTS
        ]
        one = min((self.fitted(start, 15) for start in starts), key=lambda found: found[1])
        behind = (np.log(max(delay, 1.0)), 0.0)
        beside = (one[0][0] - 1.5, 1.5)
        tries = [
            self.fitted(np.concatenate([base, extra]), 12)
            for base in (one[0], *starts[:2])
            for extra in (behind, beside)
        ]
        two = self.fitted(min(tries, key=lambda found: found[1])[0], 40)
        return two[0] if two[1] < one[1] - SECOND_MASS_WORTH else one[0]


def _own_errors(log: ExcitedLog, time_s: Array, reading_c: Array) -> Array:
    """Covariance of the sensor's noise and of the model's own error on the way and at rest."""
    away = np.abs(reading_c - log.target_c[log.rows]) - ASTRAY_BEYOND_C
    way = np.minimum(np.maximum(away, 0.0), np.abs(reading_c - log.ambient_c))
    apart = np.abs(time_s[:, None] - time_s[None])
    lasts = max(ASTRAY_DELAYS * log.delay_s, 3 * log.interval_s)
    astray = ASTRAY**2 * np.outer(way, way) * np.exp(-apart / lasts)
    rest = ASTRAY_REST_C**2 * np.exp(-apart / lasts * ASTRAY_DELAYS / REST_DELAYS)
    return np.asarray(np.eye(len(time_s)) * log.sigma_c**2 + astray + rest)


def fit_excited(log: ExcitedLog) -> ExcitedFit:
    """Fit the model to a log in which a heater was excited.

    Parameters
    ----------
    log : with the changes of its loss, as far as they are known

    References
    ----------
    Ljung, System Identification, 2nd ed. (1999), ch. 13.4; Golub and Pereyra, SIAM J. Numer. Anal.
    10 (1973), p. 413–432.
    """
    course = _Course(log)
    p = course.best()
    course.whiten(p, float(course.solve(p)[0][0]))
    p, score = course.fitted(p, 40)
    whole = score + 2 * float(np.sum(np.log(np.diag(course.root))))
    return _excited_fit(course, p, -whole / 2)


def _excited_fit(course: _Course, p: Array, likelihood: float) -> ExcitedFit:
    """A fit with its covariance, by the curvature at its best."""
    log, estimates = course.log, course.estimates(p)
    thermal = course.thermal_fit(
        p,
        estimates,
        log.rows,
        len(log.time_s),
        np.abs(course.reading_c - log.target_c[log.rows]) <= ASTRAY_BEYOND_C,
        evidence=0.0,
        shift_s=np.zeros(0),
        shift_doubts=0.0,
        least_growth=0.0,  # losses that shrink run away on the long way from cold
    )
    return ExcitedFit(
        log=log,
        thermal=thermal,
        losses=_losses(course, p, estimates.coefficients, estimates.covariance),
        likelihood=likelihood,
        misfit=estimates.misfit,
    )


def _losses(course: _Course, p: Array, best: Array, covariance: Any) -> tuple[Estimate, ...]:
    """Each change of loss in steady state, as a share of what is lost at the target: the sum of
    what it does through both masses, over the loss's own.
    """
    masses = masses_in(p)
    grown = 1 + float(best[1])
    found = []
    for n in range(len(course.changed)):
        own = slice(3 + n * masses, 3 + (n + 1) * masses)
        spread = float(np.sqrt(max(covariance[own, own].sum(), 0.0)))
        value = float(best[own].sum()) / grown
        half = student_95(MANY) * spread / grown
        found.append(Estimate(value, half, spread / grown, MANY))
    return tuple(found)


def loss_changes(
    log: ExcitedLog, fit: ExcitedFit, candidates_s: Array, worth: float
) -> list[float]:
    """Moments at which the loss changed, one after the other as long as each explains more than
    `worth` of χ², with the model as it was fitted.

    Parameters
    ----------
    log : all of it, its changes of loss still unknown
    fit : of its beginning
    candidates_s : (n,) moments to try
    worth : of χ²
    """
    p = fit.thermal.parameters[:-2]
    course = _Course(replace(log, losses_s=()))
    course.whiten(p, fit.thermal.model.gain_c)
    best, basis, _ = course.solve(p)
    masses, lag, _ = constants_of(p)
    middle = (course.grid_s[1:] + course.grid_s[:-1]) / 2

    def columns(at: float) -> Array:
        cut = course.rise * (middle >= at)
        return course.white(np.stack([-course.seen(cut, [(1.0, c)], lag) for _, c in masses], 1))

    tried = [columns(at) for at in candidates_s]
    mean, doubt = course.coefficient_prior(basis.shape[1], len(masses))
    left = np.vstack([course.white(basis), np.diag(1 / doubt)])
    right = np.concatenate([course.white(course.reading_c), mean / doubt])
    found: list[float] = []
    while tried and len(found) < MOST_CHANGES:
        known = np.linalg.qr(left)[0]
        rest = right - known @ (known.T @ right)
        gains = []
        for own in tried:
            new = _below(own, len(left))
            turned = np.linalg.qr(new - known @ (known.T @ new))[0]
            gains.append(float(np.sum((turned.T @ rest) ** 2)))
        top = int(np.argmax(gains))
        if gains[top] < worth:
            break
        found.append(float(candidates_s[top]))
        count = tried[top].shape[1]
        prior = np.hstack([np.zeros((count, left.shape[1])), np.eye(count) / WIDE_LOSS])
        left = np.vstack([np.hstack([left, _below(tried[top], len(left))]), prior])
        right = np.concatenate([right, np.zeros(count)])
    return sorted(found)


def _below(columns: Array, rows: int) -> Array:
    """Columns with zeros below them, where priors stand."""
    return np.vstack([columns, np.zeros((rows - len(columns), columns.shape[1]))])
