"""The reference loop run on fitted models, and what it promises.

Every `period_s`, with e = target − reading: more than `band_c` below the target the full allowed
power and the integral at 0; more than that above it no power, integral 0; between, power = clamp(kp
e + I − kd d, 0, limit), where I += ki e period is clamped to [0, limit] and d is the slope of the
reading through a first-order filter.

The scenario is a day's work: from ambient to the target, a hold, then the part-cooling fan comes on
and stays.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from omphalon.base.arrays import Array
from omphalon.physics.aims import Aim
from omphalon.physics.thermal import ThermalModel
from omphalon.tables.constants import BAND_C

# what a heater may be on another day, as factors of its dead time and power: a sensor that sits
# looser or tighter, a supply 12 % higher or 10 % lower; a judgement
OTHER_DAYS = ((1.0, 1.0), (1.3, 1.12), (1.3, 0.9), (0.85, 1.12))


@dataclass(frozen=True)
class Gains:
    """Gains for power 0…1: kp per °C, ki per °C·s, kd per °C/s."""

    kp: float
    ki: float
    kd: float

    def row(self) -> Array:
        """As an array (1, 3)."""
        return np.array([[self.kp, self.ki, self.kd]])


@dataclass(frozen=True)
class Loop:
    """The controller that will run the gains, and the work it is judged on. `saturated`: it acts
    from the cold start on, so that its integral stands at the limit when it comes within the band.
    """

    target_c: float
    limit: float = 1.0
    period_s: float = 0.2
    filter_s: float = 1.0
    band_c: float = BAND_C
    saturated: bool = False
    unit_s: float = 60.0
    fan_extra: float = 0.4
    noise_c: float = 0.05
    quantum_c: float = 0.0


SENSITIVITY_PRICE = 2.0  # of each unit of sensitivity over the aim's
MOST_TICKS = 1900  # that a run is simulated in: fewer, longer steps where it lasts long
# mean change of power a step in the hold; °C for all of full power
CHATTER_RAIL, CHATTER_PRICE = 0.08, 3.0
FALL_PRICE = 4.0  # for each °C of a fall out of the band, where the loop starts all over again


@dataclass(frozen=True, kw_only=True)
class Outcome:
    """What the loop does; each field has a row a model and a column a set of gains. `fall_c` is how
    far it fell back below its band; `trace_c` is (t, rows, columns).
    """

    overshoot_c: Array
    dip_c: Array
    hold_error_c: Array
    fan_error_c: Array
    ripple_c: Array
    fall_c: Array
    chatter: Array
    arrival_s: Array
    settle_s: Array
    trace_c: Array
    trace_s: Array
    takeover_s: Array

    def cost(self, aim: Aim, loop: Loop) -> Array:
        """Weighted faults in °C, with busy power beyond its rail and falls out of the band."""
        faults: Array = (
            aim.overshoot * self.overshoot_c
            + aim.dip * self.dip_c
            + aim.hold * self.hold_error_c
            + aim.fan * self.fan_error_c
            + aim.ripple * self.ripple_c
            + aim.arrival * self.arrival_s / loop.unit_s
            + FALL_PRICE * self.fall_c
            + CHATTER_PRICE * np.maximum(0.0, self.chatter - CHATTER_RAIL)
        )
        return faults


class _Bank:
    """Fitted models side by side, advanced together; shape (models, copies)."""

    def __init__(
        self, models: Sequence[ThermalModel], copies: int, step_s: float, sooner_s: float
    ) -> None:
        def column(values: Sequence[float]) -> Array:
            return np.array(values, dtype=np.float64)[:, None]

        self.shape = (len(models), copies)
        self.gain = column([m.gain_c for m in models])
        self.growth = column([m.loss_growth / m.reference_c for m in models])
        self.share = column([m.shares[0] for m in models])
        self.pull = column([1 - np.exp(-step_s / m.time_constant_s) for m in models])
        self.pull_second = column([1 - np.exp(-step_s / max(m.second_s, 1e-3)) for m in models])
        self.pull_sensor = column([1 - np.exp(-step_s / m.lag_s) for m in models])
        late = np.array([max(m.dead_time_s - sooner_s, 0.0) / step_s for m in models])
        self.late = np.floor(late).astype(np.int64)
        self.part = (late - self.late)[:, None]
        self.depth = int(self.late.max()) + 2
        self.past = np.zeros((self.depth, *self.shape))
        self.rows = np.arange(len(models))
        self.now = 0
        self.first, self.second, self.rise = (np.zeros(self.shape) for _ in range(3))
        self.extra: Array | None = None

    def begin(self, risen: Risen) -> None:
        """Stand where a heat-up ended."""
        for state, value in zip((self.first, self.second, self.rise), risen.states, strict=True):
            state[:] = value[:, None]
        self.past[:] = risen.past[:, :, None]

    def advance(self, power: Array | float) -> None:
        self.past[self.now % self.depth] = power
        near = self.past[(self.now - self.late) % self.depth, self.rows]
        far = self.past[(self.now - self.late - 1) % self.depth, self.rows]
        far -= near
        far *= self.part
        near += far
        x = self.first + self.second
        spent = self.growth * x
        spent *= x
        near *= self.gain
        if self.extra is not None:
            spent += self.extra * (x + spent)
        near -= spent
        shared = self.share * near
        near -= shared
        shared -= self.first
        shared *= self.pull
        self.first += shared
        near -= self.second
        near *= self.pull_second
        self.second += near
        x += self.first
        x += self.second
        x *= 0.5  # what the sensor saw in the step, not what it saw when the step began
        x -= self.rise
        x *= self.pull_sensor
        self.rise += x
        self.now += 1


class _Controller:
    """The loop's own arithmetic, a lane for each model and set of gains; in place, for speed."""

    def __init__(self, gains: Array, rise: Array, goal: Array, loop: Loop, step_s: float) -> None:
        self.kp, self.ki, self.kd = (
            np.asarray(gains, dtype=np.float64)[None, :, i] for i in range(3)
        )
        self.goal, self.loop, self.step_s = goal, loop, step_s
        self.blend = 1.0 - float(np.exp(-step_s / loop.filter_s))
        self.integral = np.full(rise.shape, loop.limit if loop.saturated else 0.0)
        self.slope = np.zeros(rise.shape)
        self.before = rise.copy()

    def power(self, reading: Array) -> Array:
        """The power until the next step, from the rise read now; overwrites `reading`."""
        loop, goal = self.loop, self.goal
        if loop.quantum_c > 0:
            reading -= goal  # a display's steps are counted from 0 °C, and targets lie on them
            reading *= 1 / loop.quantum_c
            np.rint(reading, out=reading)
            reading *= loop.quantum_c
            reading += goal
        error = goal - reading
        self.slope *= 1 - self.blend
        self.slope += (reading - self.before) * (self.blend / self.step_s)
        self.before = reading
        self.integral += self.ki * self.step_s * error
        np.maximum(self.integral, 0.0, out=self.integral)
        np.minimum(self.integral, loop.limit, out=self.integral)
        power = self.kp * error
        power += self.integral
        power -= self.kd * self.slope
        np.maximum(power, 0.0, out=power)
        np.minimum(power, loop.limit, out=power)
        return np.asarray(power)


@dataclass(frozen=True)
class Risen:
    """Where a heat-up ends: time it took, the three states and the powers still under way, a column
    a model.

    `climb` has the reading above the target, °C (negative), at each step on the way.
    """

    takeover_s: Array
    states: Array
    past: Array
    climb: list[Array]


def step_for(models: Sequence[ThermalModel], loop: Loop) -> float:
    """A whole number of loop periods, short against lag and dead time, so that slow heaters cost no
    more than fast.

    Parameters
    ----------
    models : all that will run together
    loop : its period is the least step

    Returns
    -------
    in s
    """
    slow = min(m.dead_time_s + m.lag_s + min(m.second_s, m.lag_s) for m in models)
    wanted = max(
        np.floor(slow / 7 / loop.period_s), np.round(2.5 * loop.unit_s / MOST_TICKS / loop.period_s)
    )
    return loop.period_s * float(np.clip(wanted, 1, max(1.0, 1.0 / loop.period_s)))


def run_loop(
    models: Sequence[ThermalModel],
    gains: Array,
    loop: Loop,
    *,
    step_s: float | None = None,
    start: Risen | None = None,
    fan: Array | None = None,
    trace: bool = False,
) -> Outcome:
    """Run every model under every set of gains.

    Parameters
    ----------
    models : (m,)
    gains : (n, 3)
        kp, ki, kd for power 0…1.
    loop : the controller
    step_s : in s; None: `step_for`
    start : what `heat_up` gave for the same models, loop and step, where it is known already
    fan : (m,)
        How much more each model loses when the fan comes on; None: what the loop says.
    trace : whether the readings are kept

    Returns
    -------
    Outcome|Fields of shape (m, n).
    """
    step = step_s or step_for(models, loop)
    sooner = (
        step - loop.period_s
    ) / 2  # a coarser step holds the power longer, as a dead time would
    bank = _Bank(models, len(gains), step, sooner)
    risen = start or heat_up(models, loop, step)
    takeover, climb = risen.takeover_s, risen.climb
    bank.begin(risen)
    goal = np.array([loop.target_c - m.ambient_c for m in models])[:, None]
    hold, total = round(1.5 * loop.unit_s / step), round(2.5 * loop.unit_s / step)
    noise = loop.noise_c * np.random.default_rng(20).standard_normal((total, len(models), 1))
    controller = _Controller(gains, bank.rise, goal, loop, step)
    offs = np.empty((total, *bank.shape), dtype=np.float32)
    last, chatter = np.full(bank.shape, loop.limit), np.zeros(bank.shape)
    for tick in range(total):
        if tick == hold:
            bank.extra = np.full((len(models), 1), loop.fan_extra) if fan is None else fan[:, None]
        power = controller.power(bank.rise + noise[tick])
        if tick < hold:
            change = power - last
            np.abs(change, out=change)
            chatter += change
        last = power
        bank.advance(power)
        np.subtract(bank.rise, goal, out=offs[tick], casting="same_kind")
    return _outcome(offs, hold, step, loop, takeover, chatter / hold, climb if trace else None)


def heat_up(models: Sequence[ThermalModel], loop: Loop, step_s: float) -> Risen:
    """From ambient at full allowed power to where the loop takes over, which no gains have a say
    in.

    Parameters
    ----------
    models : (m,)
    loop : its band and limit count
    step_s : in s

    Returns
    -------
    Risen
    """
    cold = _Bank(models, 1, step_s, (step_s - loop.period_s) / 2)
    goal = np.array([loop.target_c - loop.band_c - m.ambient_c for m in models])
    states = np.zeros((3, len(models)))
    past = np.zeros((cold.depth, len(models)))
    takeover = np.full(len(models), np.inf)
    climb: list[Array] = []
    while not np.all(np.isfinite(takeover)) and cold.now * step_s < 7200:
        cold.advance(loop.limit)
        climb.append(cold.rise[:, 0] - goal - loop.band_c)
        there = ~np.isfinite(takeover) & (cold.rise[:, 0] >= goal)
        if there.any():
            order = np.arange(cold.now - cold.depth, cold.now) % cold.depth
            states[:, there] = np.stack([cold.first, cold.second, cold.rise])[:, there, 0]
            past[:, there] = cold.past[order][:, there, 0]
            takeover[there] = cold.now * step_s
    return Risen(takeover, states, past, climb)


def _outcome(
    offs: NDArray[np.float32],
    hold: int,
    step: float,
    loop: Loop,
    takeover: Array,
    chatter: Array,
    climb: list[Array] | None,
) -> Outcome:
    size = np.abs(offs)
    early, late = offs[:hold], offs[hold:]
    calm = early[hold * 2 // 3 :]
    missing = size[:hold] > 1.0
    last = hold - np.argmax(missing[::-1], axis=0)
    settle = np.where(missing.any(axis=0), last, 0) * step + takeover[:, None]
    near = early > -1.0
    arrival = (
        np.where(near.any(axis=0), np.argmax(near, axis=0) + 1, hold) * step + takeover[:, None]
    )
    trace, times = _traced(offs, climb, step, loop, takeover)
    unit = step / loop.unit_s
    return Outcome(
        overshoot_c=np.maximum(early.max(axis=0), 0.0).astype(float),
        dip_c=size[hold:].max(axis=0).astype(float),
        hold_error_c=size[:hold].sum(axis=0) * unit,
        fan_error_c=np.abs(late).sum(axis=0) * unit,
        ripple_c=(calm.max(axis=0) - calm.min(axis=0)).astype(float),
        fall_c=np.maximum(-offs.min(axis=0).astype(float) - loop.band_c, 0.0),
        chatter=chatter,
        arrival_s=arrival,
        settle_s=settle,
        trace_c=trace,
        trace_s=times,
        takeover_s=takeover,
    )


def _traced(
    offs: NDArray[np.float32], climb: list[Array] | None, step: float, loop: Loop, takeover: Array
) -> tuple[Array, Array]:
    """Temperatures (t, models, gains) from the cold start on, and their times; nothing where no
    climb is given.
    """
    if climb is None:
        return np.zeros((0, *offs.shape[1:])), np.zeros(0)
    rows = round(float(takeover[0]) / step)
    trace = np.zeros((rows + len(offs), *offs.shape[1:]), dtype=np.float64)
    trace[:rows] = np.stack(climb[:rows])[:, :, None]
    trace[rows:] = offs
    return trace + loop.target_c, step * np.arange(1.0, len(trace) + 1)
