"""How the model of a heated block is fitted to an oscillation log, whose power is known but for the
moments at which it was switched.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from omphalon.base.arrays import Array
from omphalon.base.stages import begins
from omphalon.physics.record import PowerSteps, Record
from omphalon.physics.scale import autocorrelation_time
from omphalon.physics.thermal_engine import (
    AMBIENT_C,
    COLD_C,
    GROWTH_PRIOR,
    LATER_START_DOUBT_C,
    MOST_POINTS,
    ThermalEngine,
    ThermalFit,
    constants_of,
)


class _TestFit(ThermalEngine):
    """What does not change from step to step of a test's fit."""

    ftol = 1e-4

    def __init__(self, record: Record) -> None:
        self.record, self.delay_s = record, record.delay_s
        origin, delay = record.time_s[0], record.delay_s
        t, reading, use = record.time_s - origin, record.reading_c, ~record.skip
        interval = float(np.median(np.diff(t)))
        self.step_s = max(interval / 4, delay / 25, t[-1] / MOST_POINTS)
        self.grid_s = np.arange(0.0, t[-1] + 2 * self.step_s, self.step_s)
        # from rest a sensor hardly moves within one delay; in the midst of a heat-up it does
        cold = bool(reading[0] < COLD_C and abs(np.interp(delay, t, reading) - reading[0]) < 3)
        ambient = (float(reading[0]), 1.5) if cold else (AMBIENT_C, 4.0)
        self.reference_c = float(record.target_c[0]) - ambient[0]  # the first log's target
        rise = np.interp((self.grid_s[1:] + self.grid_s[:-1]) / 2, t, reading) - ambient[0]
        self.squared = rise**2 / self.reference_c
        away = np.maximum(0.0, np.abs(reading - record.target_c) - record.near_c)
        floor = max(min(record.noise_c, 0.05 * record.near_c), record.quantum_c / np.sqrt(12), 0.01)
        self.weight = 1.0 / np.hypot(floor, 0.02 * away)[use]
        self.driven = replace(record.driven, edge_s=record.driven.edge_s - origin)
        cell = np.minimum((t / self.step_s).astype(np.int64), len(self.grid_s) - 2)
        self.cell, self.part = cell[use], (t / self.step_s - cell)[use]
        self.time_s, self.reading_c, self.use = t[use], reading[use], use
        self.first, self.gain_c = _start(t, reading, self.driven, self.reference_c, delay)
        self.ambient_c = ambient
        # reports this close err together
        self.firmness = float(np.sqrt(max(1.0, delay / interval)))
        starts = tuple(b - origin for b in record.breaks_s if b > origin)
        self.breaks_s = (0.0, *starts)
        self.start_doubt_c = 3.0 if cold else 150.0
        self.switch_s = self.driven.edge_s[1:-1]
        self.switch_jump = np.diff(self.driven.level)
        self.switch_doubt_s = np.maximum(self.driven.doubt_s, 0.01)

    def basis(self, p: Array) -> Array:
        """Power, growing loss, ambient; for each switching the response to its coming a moment
        later, in °C·s of K; the free decays of each stretch.
        """
        masses, lag, dead = constants_of(p)
        columns = [
            self.seen(self.driven.mean(self.grid_s, dead), masses, lag),
            -self.seen(self.squared, masses, lag),
            np.ones(len(self.time_s)),
        ]
        blow = np.zeros(len(self.grid_s) - 1)
        blow[0] = 1 / self.step_s
        pulse = self.through(blow, masses, lag)
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
            for constant in (*(c for _, c in masses), lag):
                columns.append(np.where(inside, np.exp(-np.maximum(since, 0) / constant), 0.0))
        return np.stack(columns, axis=1)

    def coefficient_prior(self, size: int, masses: int) -> tuple[Array, Array]:
        rest = np.full(size - 3 - len(self.switch_s), LATER_START_DOUBT_C)
        rest[: len(rest) // len(self.breaks_s)] = self.start_doubt_c
        ambient, doubt = self.ambient_c
        return (
            np.concatenate([[self.gain_c, GROWTH_PRIOR[0], ambient], np.zeros(size - 3)]),
            np.concatenate(
                [
                    [0.3 * self.gain_c, GROWTH_PRIOR[1], doubt],
                    self.gain_c * self.switch_doubt_s,
                    rest,
                ]
            ),
        )

    def shape_prior(self, count: int) -> tuple[Array, Array]:
        delay = self.delay_s
        mean = np.array([*self.first, np.log(2 * delay), 0.5])
        return mean[:count], np.array([1.0, 0.8, 0.6 * delay, 2.0, 1.0])[:count]

    def white(self, values: Array) -> Array:
        return np.asarray((values.T * self.weight).T)


def fit_thermal(record: Record) -> ThermalFit:
    """Fit the model with one mass and with two to a log, and keep the second mass only on evidence.

    Parameters
    ----------
    record : one log, or several joined

    Returns
    -------
    ThermalFit
    """
    begins("the heater's model is fitted")
    fit = _TestFit(record)
    one = fit.fitted(fit.first, 30)
    behind = np.concatenate([one[0], [np.log(max(record.delay_s, 1.0)), 0.0]])
    beside = np.concatenate([one[0], [one[0][0] - 1.5, 1.5]])
    tries = [fit.fitted(start, 5) for start in (behind, beside)]
    two = fit.fitted(min(tries, key=lambda found: found[1])[0], 30)
    count = len(fit.reading_c)
    pieces = max(count / autocorrelation_time(fit.solve(one[0])[2][:count]), 10.0)
    evidence = float(pieces * np.log(max(one[1], 1e-12) / max(two[1], 1e-12)) - 2 * np.log(pieces))
    return _finished(fit, two[0] if evidence > 0 else one[0], evidence)


def _finished(fit: _TestFit, p: Array, evidence: float) -> ThermalFit:
    """The fit, with the doubt of the switching instants in that of the dead time, and how far off
    these were.
    """
    estimates, record = fit.estimates(p), fit.record
    best = estimates.coefficients
    shift = best[3 : 3 + len(fit.switch_s)] / max(float(best[0]), 1e-6)
    near = (np.abs(record.reading_c - record.target_c) <= record.near_c)[fit.use]
    found = fit.thermal_fit(
        p,
        estimates,
        fit.use,
        len(fit.use),
        near,
        evidence=evidence,
        shift_s=shift,
        shift_doubts=float(np.sqrt(np.mean((shift / fit.switch_doubt_s) ** 2)))
        if len(shift)
        else 0.0,
    )
    found.covariance[2, 2] += record.doubt_s**2
    return found


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
