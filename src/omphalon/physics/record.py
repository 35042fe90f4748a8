"""What a thermal fit is given: the power as steps, one log or several put end to end, or a log in
which a heater was moved.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from omphalon.base.arrays import Array, Integers, Mask
from omphalon.physics.oscillation import Switching


@dataclass(frozen=True)
class PowerSteps:
    """Power over time as steps: `level[i]` holds from `edge_s[i]` to the next edge; `area` is its
    running integral.

    The first and the last edge are those of the log; `doubt_s` has the standard deviations of the
    others.
    """

    edge_s: Array
    level: Array
    area: Array
    doubt_s: Array

    def mean(self, grid_s: Array, delay_s: float) -> Array:
        """Mean power over each cell of a grid (shape (n,) → (n − 1,)), `delay_s` earlier; exact."""
        reached = np.interp(grid_s - delay_s, self.edge_s, self.area)
        return np.asarray(np.diff(reached) / np.diff(grid_s), dtype=np.float64)


def drive(time_s: Array, power: Array, switched: Switching) -> PowerSteps:
    """The power as steps. A change between two reports stands at its estimated instant, else in the
    middle.

    Parameters
    ----------
    time_s, power : (n,)
    switched : estimated instants

    Returns
    -------
    PowerSteps
    """
    changed = np.flatnonzero(np.diff(power) != 0)
    at = (time_s[changed] + time_s[changed + 1]) / 2
    doubt = (time_s[changed + 1] - time_s[changed]) / np.sqrt(12)
    known = {row: n for n, row in enumerate(switched.row.tolist())}
    for n, row in enumerate(changed.tolist()):
        if row in known:
            at[n], doubt[n] = switched.time_s[known[row]], switched.doubt_s[known[row]]
    edge = np.concatenate([[time_s[0]], at, [time_s[-1] + 1.0]])
    level = np.concatenate([[power[0]], power[changed + 1]])
    area = np.concatenate([[0.0], np.cumsum(np.diff(edge) * level)])
    return PowerSteps(edge, level, area, doubt)


@dataclass(frozen=True, kw_only=True)
class Record:
    """What a fit is given: one log, or several put end to end by `join`.

    time_s, reading_c, target_c: shape (n,). near_c: what counts as near the target; farther
    readings weigh less, since no model of few numbers follows a whole heat-up. noise_c, quantum_c:
    deviation of a report, display's step. delay_s: a first guess of dead time and lag together.
    breaks_s: where a stretch starts whose past power is unknown. skip: reports to pass over, shape
    (n,). doubt_s: standard deviation of the switching instants' common error.
    """

    time_s: Array
    reading_c: Array
    target_c: Array
    driven: PowerSteps
    near_c: float
    noise_c: float
    quantum_c: float
    delay_s: float
    skip: Mask
    breaks_s: tuple[float, ...] = ()
    doubt_s: float = 0.0


def join(records: Sequence[Record]) -> Record:
    """Several logs of one heater end to end, each with a start of its own.

    Parameters
    ----------
    records : in any order

    Returns
    -------
    Record
    """
    pause = 60.0
    late = np.cumsum([0.0] + [float(r.time_s[-1] - r.time_s[0]) + pause for r in records[:-1]])
    moved = [d - r.time_s[0] for d, r in zip(late, records, strict=True)]
    edges = np.concatenate([r.driven.edge_s + m for r, m in zip(records, moved, strict=True)])
    level = np.concatenate([np.append(r.driven.level, 0.0) for r in records])[:-1]
    doubts = [r.driven.doubt_s for r in records]
    for n in range(len(records) - 1):  # the edges at the seams: known, and of no consequence
        doubts[n] = np.concatenate([doubts[n], [0.01, 0.01]])
    driven = PowerSteps(
        edges,
        level,
        np.concatenate([[0.0], np.cumsum(np.diff(edges) * level)]),
        np.concatenate(doubts),
    )
    starts = [
        b + m
        for r, m in zip(records, moved, strict=True)
        for b in (float(r.time_s[0]), *r.breaks_s)
    ]
    first = records[0]
    return Record(
        time_s=np.concatenate([r.time_s + m for r, m in zip(records, moved, strict=True)]),
        reading_c=np.concatenate([r.reading_c for r in records]),
        target_c=np.concatenate([r.target_c for r in records]),
        driven=driven,
        near_c=max(r.near_c for r in records),
        noise_c=float(np.median([r.noise_c for r in records])),
        quantum_c=max(r.quantum_c for r in records),
        delay_s=first.delay_s
        if len(records) == 1
        else float(np.median([r.delay_s for r in records])),
        skip=np.concatenate([r.skip for r in records]),
        breaks_s=tuple(starts[1:]),
        doubt_s=float(np.sqrt(np.mean([r.doubt_s**2 for r in records]) / len(records))),
    )


@dataclass(frozen=True, kw_only=True)
class ExcitedLog:
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
