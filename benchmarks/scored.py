"""The reference loop (`omphalon.standin.loop`) run on made-up heaters, many at a time, and how it
is scored.

The score (°C): overshoot + deepest deviation after the fan came on + mean |error| of the two
stretches + ripple in the hold + arrival time over its unit. A stretch begins when the loop takes
over (10 °C before the target) and when the fan comes on; both last 1.5 and 1.0 units; errors are
integrated and divided by one unit, which is 60 s for a hotend, 300 s for a bed. Errors are those of
the sensor before noise and quantising.
"""

from dataclasses import dataclass

import numpy as np

from omphalon.standin.heater import Lanes, SimulatedHeater, lanes_of, quantised
from omphalon.standin.loop import BAND_C, CONTROL_S, FILTER_S

# The four days over which a loop is scored: as it is, and three others.
DAYS = ((1.0, 1.0), (1.3, 1.12), (1.3, 0.9), (0.85, 1.12))


@dataclass(frozen=True)
class Run:
    """What a run of the loop came to; every field has one row a heater and one column a set of
    gains.
    """

    overshoot_c: np.ndarray
    dip_c: np.ndarray
    hold_error_c: np.ndarray
    fan_error_c: np.ndarray
    ripple_c: np.ndarray
    arrival_s: np.ndarray
    worst_hold_c: np.ndarray
    trace_c: np.ndarray
    unit_s: float

    @property
    def score(self) -> np.ndarray:
        faults: np.ndarray = (
            self.overshoot_c
            + self.dip_c
            + self.hold_error_c
            + self.fan_error_c
            + self.ripple_c
            + self.arrival_s / self.unit_s
        )
        return faults


def heat_up(
    heaters: list[SimulatedHeater], copies: int, target_c: float, limit: float, step_s: float
) -> tuple[Lanes, np.ndarray]:
    """Lanes that stand where the loop takes over, each at its own time since the cold start."""
    cold, ready = lanes_of(heaters, 1, step_s), lanes_of(heaters, copies, step_s)
    taken = np.zeros(len(heaters))
    waiting = np.ones(len(heaters), bool)
    while waiting.any():
        cold.advance(limit)
        there = waiting & (cold.sensor[:, 0] >= target_c - BAND_C)
        if there.any():
            ready.take(cold, np.flatnonzero(there))
            taken[there] = cold.now * step_s
            waiting &= ~there
        if cold.now * step_s > 3600:
            raise ValueError("a heater that never reaches its target")
    return ready, taken


class Controller:
    """The loop of the module's docstring, a lane for each heater and set of gains."""

    def __init__(self, gains: np.ndarray, reading: np.ndarray, target_c: float, limit: float):
        self.kp, self.ki, self.kd = (np.asarray(gains, float)[None, :, i] for i in range(3))
        self.target_c, self.limit, self.before = target_c, limit, reading
        self.integral, self.slope = np.zeros(reading.shape), np.zeros(reading.shape)
        self.blend = 1.0 - np.exp(-CONTROL_S / FILTER_S)

    def power(self, reading: np.ndarray) -> np.ndarray:
        """The power until the next reading."""
        error = self.target_c - reading
        self.slope += self.blend * ((reading - self.before) / CONTROL_S - self.slope)
        self.before = reading
        self.integral = np.clip(self.integral + self.ki * error * CONTROL_S, 0, self.limit)
        power = np.clip(self.kp * error + self.integral - self.kd * self.slope, 0, self.limit)
        far = np.abs(error) > BAND_C
        if far.any():
            self.integral = np.where(far, 0.0, self.integral)
            power = np.where(error > BAND_C, self.limit, np.where(error < -BAND_C, 0.0, power))
        return power


class Tally:
    """What is read off the lanes while they run: `hold` ticks with the fan off, then with it on."""

    def __init__(self, shape: tuple[int, ...], hold: int, unit_s: float) -> None:
        self.hold, self.unit_s = hold, unit_s
        self.overshoot, self.dip = np.zeros(shape), np.zeros(shape)
        self.errors = [np.zeros(shape), np.zeros(shape)]
        self.high, self.low = np.full(shape, -np.inf), np.full(shape, np.inf)
        self.arrival = np.full(shape, np.nan)

    def add(self, tick: int, off: np.ndarray) -> None:
        """Count one tick, so far off the target."""
        self.errors[tick >= self.hold] += np.abs(off) * CONTROL_S / self.unit_s
        if tick >= self.hold:
            np.maximum(self.dip, np.abs(off), out=self.dip)
            return
        np.maximum(self.overshoot, off, out=self.overshoot)
        arrived = np.isnan(self.arrival) & (off > -1.0)
        self.arrival[arrived] = (tick + 1) * CONTROL_S
        if tick >= self.hold * 2 // 3:
            np.maximum(self.high, off, out=self.high)
            np.minimum(self.low, off, out=self.low)

    def run(self, taken: np.ndarray, traces: list[np.ndarray]) -> Run:
        """The whole, with what the heat-up had taken."""
        late = np.where(np.isnan(self.arrival), self.hold * CONTROL_S, self.arrival)
        return Run(
            overshoot_c=self.overshoot,
            dip_c=self.dip,
            hold_error_c=self.errors[0],
            fan_error_c=self.errors[1],
            ripple_c=self.high - self.low,
            arrival_s=late + taken[:, None],
            worst_hold_c=np.maximum(self.high, -self.low),
            trace_c=np.array(traces),
            unit_s=self.unit_s,
        )


def run_loop(
    heaters: list[SimulatedHeater],
    gains: np.ndarray,
    target_c: float,
    *,
    bed: bool = False,
    limit: float = 1.0,
    seed: int = 0,
    step_s: float | None = None,
    trace: bool = False,
) -> Run:
    """Every heater under every row of `gains` (kp, ki, kd for power 0…1)."""
    unit_s, step_s = (300.0, step_s or 0.1) if bed else (60.0, step_s or 0.05)
    lanes, taken = heat_up(heaters, len(gains), target_c, limit, step_s)
    random = np.random.default_rng(seed)
    noise = np.array([h.noise_c for h in heaters])[:, None]
    quantum = np.array([h.quantum_c for h in heaters])[:, None]
    hold, after = round(1.5 * unit_s / CONTROL_S), round(unit_s / CONTROL_S)
    controller = Controller(gains, quantised(lanes.sensor, quantum), target_c, limit)
    tally = Tally(lanes.shape, hold, unit_s)
    traces = []
    for tick in range(hold + after):
        lanes.fan = tick >= hold
        jitter = noise * random.normal(size=(len(heaters), 1))
        power = controller.power(quantised(lanes.sensor + jitter, quantum))
        for _ in range(round(CONTROL_S / step_s)):
            lanes.advance(power)
        tally.add(tick, lanes.sensor - target_c)
        if trace:
            traces.append(lanes.sensor.copy())
    return tally.run(taken, traces)


def day_score(
    heater: SimulatedHeater,
    gains: np.ndarray,
    target_c: float,
    *,
    bed: bool = False,
    limit: float = 1.0,
    seed: int = 0,
) -> tuple[np.ndarray, Run]:
    """Score of each row of gains averaged over the four days, and the run itself (row 0: the heater
    as it is).
    """
    run = run_loop(
        [heater.other_day(*day) for day in DAYS], gains, target_c, bed=bed, limit=limit, seed=seed
    )
    return run.score.mean(axis=0), run
