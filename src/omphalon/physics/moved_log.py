"""A log in which a heater was moved, as its model is fitted to it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from omphalon.arrays import Array, Integers
from omphalon.physics.record import PowerSteps


@dataclass(frozen=True, kw_only=True)
class MovedLog:
    """A log as it is fitted: times from its start, readings, power 0…1, targets; each (n,).

    `rows` are the reports that are looked at. `at_rest`: it begins cold, or at the ambient
    temperature; `ambient_c` is that, or a guess. `reference_c` is the rise at the target.
    `delay_s`: a first guess of dead time and lag together. `losses_s`: when the loss changed.
    `averaged`: the power is its mean since the last report, and no sample.
    """

    time_s: Array
    reading_c: Array
    power: Array
    target_c: Array
    rows: Integers
    at_rest: bool
    ambient_c: float
    reference_c: float
    sigma_c: float
    delay_s: float
    losses_s: tuple[float, ...] = ()
    averaged: bool = False

    @property
    def interval_s(self) -> float:
        """Between two reports."""
        return float(np.median(np.diff(self.time_s)))

    @cached_property
    def steps(self) -> PowerSteps:
        """The power as steps: of a mean, since the last report; of samples, from middle to
        middle.
        """
        t, u = self.time_s, self.power
        if self.averaged:
            edge = np.concatenate([[t[0] - self.interval_s], t, [t[-1] + self.interval_s]])
            level = np.append(u, u[-1])
        else:
            edge = np.concatenate([t[:1], (t[1:] + t[:-1]) / 2, [t[-1] + self.interval_s]])
            level = u
        area = np.concatenate([[0.0], np.cumsum(np.diff(edge) * level)])
        return PowerSteps(edge, level, area, np.zeros(len(edge) - 2))

    @cached_property
    def unsure(self) -> Array:
        """Variance of what is not known of the mean power between two reports (n − 1,); none where
        means are logged.

        From how far each sample lies off the middle of its neighbours: white noise of deviation s
        gives 1.5 s² there, and s²/2 in the mean of two samples; a step of height d between two
        reports, at any moment, d²/4 and d²/12. A third serves both.
        """
        if self.averaged or len(self.power) < 4:
            return np.zeros(len(self.power) - 1)
        u = self.power
        off = np.zeros(len(u))
        off[1:-1] = (u[1:-1] - (u[2:] + u[:-2]) / 2) ** 2
        here = (off[1:] + off[:-1]) / 2
        around = np.convolve(np.pad(here, 7, mode="edge"), np.ones(15) / 15, mode="valid")
        variance: Array = (here + around) / 2 / 3
        return variance
