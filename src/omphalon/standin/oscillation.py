"""What a controller logs while it switches a made-up heater on and off around a target."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from omphalon.standin.heater import STEP_S, SimulatedHeater, lanes_of, quantised


@dataclass(frozen=True, kw_only=True)
class Test:
    """How the oscillation test is run and reported."""

    __test__ = False  # not a test case for pytest

    target_c: float
    cycles: int = 8
    report_s: float = 1.0
    start_c: float | None = None
    power_limit: float = 1.0
    symmetric: bool = False
    control_s: float = 0.2
    rest_s: float = 2.0
    jitter_s: float = 0.02
    before_s: float = 3.0
    after_s: float = 0.0
    fan_on: bool = False
    fan_on_at_cycle: int | None = None
    retarget_at_cycle: int | None = None
    retarget_by_c: float = 0.0
    most_s: float = 7200.0
    seed: int = 0


@dataclass
class HeaterLog:
    """Columns of a log: time in s, reading in °C, power 0…1, target in °C."""

    time_s: list[float] = field(default_factory=list)
    temperature_c: list[float] = field(default_factory=list)
    power: list[float] = field(default_factory=list)
    target_c: list[float] = field(default_factory=list)


class Relay:
    """On/off switching whose two powers are shifted after every cycle until on and off times are
    alike.
    """

    def __init__(self, test: Test) -> None:
        self.test = test
        self.target_c = test.target_c
        self.middle = test.power_limit / 2
        self.swing = test.power_limit / 2
        self.heating = True
        self.since = self.last_on_s = 0.0
        self.switches = 0

    def power(self, time_s: float, reading: float) -> float:
        waited = time_s - self.since
        if self.heating and reading > self.target_c and waited > self.test.rest_s:
            self.heating, self.last_on_s, self.since = False, waited, time_s
            self.switches += 1
        elif not self.heating and reading < self.target_c and waited > self.test.rest_s:
            if self.switches > 1 and not self.test.symmetric:
                uneven = (self.last_on_s - waited) / (self.last_on_s + waited)
                limit = self.test.power_limit
                self.middle = float(
                    np.clip(self.middle + 0.8 * self.middle * uneven, 0.12 * limit, 0.88 * limit)
                )
                self.swing = min(self.middle, limit - self.middle)
            self.heating, self.since = True, time_s
            self.switches += 1
        return self.middle + self.swing if self.heating else self.middle - self.swing


def oscillation_log(heater: SimulatedHeater, test: Test) -> HeaterLog:
    """Run the test on the heater; deterministic for a seed."""
    random = np.random.default_rng(test.seed)
    lanes = lanes_of([heater], 1)
    lanes.fan = test.fan_on
    if test.start_c is not None:
        while lanes.sensor[0, 0] < test.start_c:
            lanes.advance(1.0)
        for _ in range(int(random.uniform(20, 120) / STEP_S)):
            lanes.advance(1.0 if lanes.sensor[0, 0] < test.start_c else 0.0)
    relay, log = Relay(test), HeaterLog()
    every, control = test.report_s, round(test.control_s / STEP_S)
    due, tick, asked, power = 0.0, 0, 0.0, 0.0
    end_s = test.before_s + test.most_s
    heats = True
    while tick * STEP_S < end_s:
        now = tick * STEP_S - test.before_s
        if heats and relay.switches > 2 * test.cycles:
            heats, end_s = False, tick * STEP_S + test.after_s
            continue
        if tick % control == 0:
            noisy = lanes.sensor[0, 0] + random.normal(0, heater.noise_c)
            reading = float(quantised(noisy, heater.quantum_c))
            if test.retarget_at_cycle is not None and relay.switches >= 2 * test.retarget_at_cycle:
                relay.target_c = test.target_c + test.retarget_by_c
            on = heats and now >= 0
            asked = relay.target_c if on else 0.0
            power = relay.power(now, reading) if on else 0.0
            if test.fan_on_at_cycle is not None and relay.switches >= 2 * test.fan_on_at_cycle:
                lanes.fan = True
        if tick * STEP_S >= due:
            log.time_s.append(max(0.0, tick * STEP_S + random.normal(0, test.jitter_s)))
            log.temperature_c.append(reading)
            log.power.append(power)
            log.target_c.append(asked)
            due += every
        lanes.advance(power)
        tick += 1
    return log


def as_csv(log: HeaterLog, head: str = "", power_counts: int = 0) -> Iterator[str]:
    """The log as CSV lines; power as a fraction, or as counts up to power_counts."""
    for line in head.splitlines():
        yield f"# {line}"
    yield "time_s,temperature_c,target_c," + ("power_counts" if power_counts else "power")
    for t, c, p, goal in zip(log.time_s, log.temperature_c, log.power, log.target_c, strict=True):
        yield f"{t:.2f},{c:.2f},{goal:.1f}," + (
            f"{p * power_counts:.0f}" if power_counts else f"{p:.3f}"
        )


def as_console(
    log: HeaterLog, bed: bool, counts: int = 127, other: tuple[float, float] = (0.0, 23.4)
) -> Iterator[str]:
    """The log as the text of a serial console: report lines among chatter, no clock."""
    yield "start"
    yield "info: ready, storage v4"
    for row, (c, p, goal) in enumerate(
        zip(log.temperature_c, log.power, log.target_c, strict=True)
    ):
        mine, rest = f"{c:.2f} /{goal:.2f}", f"{other[1]:.2f} /{other[0]:.2f}"
        hot, plate = (rest, mine) if bed else (mine, rest)
        hot_power, bed_power = (0, round(p * counts)) if bed else (round(p * counts), 0)
        yield f" T:{hot} B:{plate} @:{hot_power} B@:{bed_power}"
        if row % 37 == 11:
            yield "ok"
        if row % 113 == 57:
            yield "info: fan 0 at 100 %"
