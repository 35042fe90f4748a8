"""Whether a heater that was switched off is off, by its readings alone: it falls, and chance, a
swing, or the way down to a target that is held all the same would not make it fall so far; or it is
cold, and does not rise as it would at work. Knows no port.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from omphalon.recordings.reports import Heating
from omphalon.tables.heaters import HeaterKind

COLD_C = 45.0  # so cold a heater need not fall
ROOM_C = 25.0  # what a heater cools towards, where nobody measured it
ALIKE_C, ALIKE_BELOW_C = 1.0, 60.0  # as cold as a heater that nobody switched on: cold too
FALLEN = 0.05  # of what it is above the room: no smaller fall is taken for cooling
WITHOUT_TARGET = 2.0  # times that, where no report says its target
CERTAIN = 4.5  # standard errors; tested with every report, so more than for a single test
RULED_OUT = 3.0  # standard errors that a rise as at work must lie away
GOES_ON = 0.15  # of its slope must be left in the later half: no swing that turns
LEAST_NOISE_C = 0.1  # sensors agree with themselves no better over some seconds
FEWEST_REPORTS = 4  # reports
MOST_REPORTS = 240  # readings kept; then every second one is dropped
STARTS = (0.0, 0.25, 0.5)  # shares of the readings that may be left out: a heater lags
MOST_CORRELATED = 0.95


@dataclass(frozen=True, kw_only=True)
class ReadingTrend:
    """A straight line through readings: its slope and standard error (°C/s), where it begins and
    ends (°C), and over how long (s).
    """

    slope_c_s: float
    error_c_s: float
    start_c: float
    end_c: float
    seconds: float


def trend_of(readings: Sequence[tuple[float, float]]) -> ReadingTrend:
    """Fit a line to (time in s, reading in °C), with an error that knows of noise, of the display's
    step and of readings that resemble their neighbours. A bend is no noise: it is fitted too.
    """
    count = len(readings)
    middle = sum(t for t, _ in readings) / count
    mean = sum(y for _, y in readings) / count
    times = [t - middle for t, _ in readings]
    values = [y - mean for _, y in readings]
    square = sum(t * t for t in times) or 1e-9
    slope = sum(t * y for t, y in zip(times, values, strict=True)) / square
    bend = [t * t - square / count for t in times]
    skew = sum(b * t for b, t in zip(bend, times, strict=True)) / square
    bend = [b - skew * t for b, t in zip(bend, times, strict=True)]
    size = sum(b * b for b in bend)
    bent = sum(b * y for b, y in zip(bend, values, strict=True)) / size if size > 1e-9 else 0.0
    left = [y - slope * t - bent * b for y, t, b in zip(values, times, bend, strict=True)]
    total = sum(x * x for x in left)
    alike = sum(a * b for a, b in zip(left, left[1:], strict=False)) / total if total > 0 else 0.0
    alike = min(max(alike, 0.0), MOST_CORRELATED)
    noise = math.sqrt(total / max(count - 3, 1) * (1 + alike) / (1 - alike))
    noise = max(noise, _step(readings) / math.sqrt(12), LEAST_NOISE_C)
    first, last = times[0], times[-1]
    return ReadingTrend(
        slope_c_s=slope,
        error_c_s=noise / math.sqrt(square),
        start_c=mean + slope * first,
        end_c=mean + slope * last,
        seconds=last - first,
    )


def _step(readings: Sequence[tuple[float, float]]) -> float:
    """The display's step: the least difference between two readings in a row; 0 where none is."""
    steps = (abs(b[1] - a[1]) for a, b in zip(readings, readings[1:], strict=False))
    return min((step for step in steps if step > 1e-6), default=0.0)


def deepest_fall(readings: Sequence[tuple[float, float]]) -> float:
    """How far means of five readings fell below an earlier one, beyond what noise does (°C): the
    swing of a heater that is on.
    """
    if len(readings) < 2 * FEWEST_REPORTS:
        return 0.0
    values = [y for _, y in readings]
    means = [sum(values[n : n + 5]) / 5 for n in range(len(values) - 4)]
    bends = [a - 2 * b + c for a, b, c in zip(values, values[1:], values[2:], strict=False)]
    noise = math.sqrt(sum(x * x for x in bends) / (6 * len(bends)))
    deepest, highest = 0.0, -math.inf
    for mean in means:
        highest = max(highest, mean)
        deepest = max(deepest, highest - mean)
    return max(0.0, deepest - 2.5 * noise)


@dataclass(kw_only=True)
class CoolingWatch:
    """One heater after it was switched off.

    `held_c`: the target that it had before, nan where nobody knows: falling to it proves nothing.
    `ours`: whether we have heated it. `past`: its readings while it was on, time in s and °C.
    """

    kind: HeaterKind
    held_c: float = math.nan
    ours: bool = False
    past: Iterable[tuple[float, float]] = ()
    reported: bool = False
    target_known: bool = False
    on: str = ""  # what speaks against it
    readings: list[tuple[float, float]] = field(default_factory=list)
    swings_c: float = field(init=False)

    def __post_init__(self) -> None:
        self.swings_c = deepest_fall(list(self.past))

    def take(self, time_s: float, now: Heating) -> None:
        """Take in what a report says of it. A report that says it is on starts the watch over."""
        if not math.isfinite(now.temperature_c):
            self.readings.clear()
            return
        self.reported = True
        self.target_known = math.isfinite(now.target_c)
        self.on = "it has power" if now.power > 0 else ""
        if now.target_c > 0:
            self.on = f"its target is {now.target_c:g} °C"
            self.held_c = now.target_c
        if self.on:
            self.readings.clear()
            return
        if not self.readings or time_s > self.readings[-1][0]:
            self.readings.append((time_s, now.temperature_c))
        if len(self.readings) > MOST_REPORTS:
            self.readings = self.readings[::2]
        if self.rises():
            self.on = f"it goes on rising: {now.temperature_c:g} °C"

    @property
    def idle(self) -> bool:
        """Whether nobody switched it on, as far as is known: it reads what the room reads."""
        return self.reported and not self.ours and not self.on and not self.held_c > 0

    @property
    def reading_c(self) -> float:
        """The last reading."""
        return self.readings[-1][1] if self.readings else math.nan

    def off(self, idle_c: Sequence[float] = ()) -> bool:
        """Whether its readings show it off. `idle_c`: what heaters read that nobody switched on."""
        if self.on or len(self.readings) < FEWEST_REPORTS:
            return False
        return self._cold(idle_c) or self._fallen()

    def rises(self) -> bool:
        """Whether it heats on, past what it has stored: it rises beyond chance."""
        later = self.readings[len(self.readings) // 2 :]
        if len(later) < FEWEST_REPORTS or later[0][0] - self.readings[0][0] < self.kind.lags_s:
            return False
        now = trend_of(later)
        return now.slope_c_s - CERTAIN * now.error_c_s > 0 and (
            now.end_c - now.start_c > self.kind.least_fall_c / 2
        )

    def _cold(self, idle_c: Sequence[float]) -> bool:
        last = [y for _, y in self.readings[-FEWEST_REPORTS:]]
        mean = sum(last) / len(last)
        alike = mean < ALIKE_BELOW_C and any(abs(mean - other) < ALIKE_C for other in idle_c)
        if not (mean < COLD_C or alike):
            return False
        now = trend_of(self.readings[-max(FEWEST_REPORTS, len(self.readings) // 2) :])
        watched = self.readings[-1][0] - self.readings[0][0]
        if self.ours and watched < self.kind.lags_s:
            return False
        return now.slope_c_s + RULED_OUT * now.error_c_s < self.kind.rises_c_s

    def _fallen(self) -> bool:
        return any(
            self._falls(self.readings[int(share * len(self.readings)) :]) for share in STARTS
        )

    def _falls(self, readings: Sequence[tuple[float, float]]) -> bool:
        if len(readings) < FEWEST_REPORTS:
            return False
        now = trend_of(readings)
        later = readings[len(readings) // 2 :]
        if now.slope_c_s > -CERTAIN * now.error_c_s:
            return False
        if len(later) > 2 and trend_of(later).slope_c_s > GOES_ON * now.slope_c_s:
            return False
        first = [y for _, y in self.readings[:FEWEST_REPORTS]]
        begun_c = min(now.start_c, sum(first) / FEWEST_REPORTS)
        least = max(FALLEN * (now.start_c - ROOM_C), self.kind.least_fall_c)
        if begun_c > self.held_c:  # on its way down to it, and perhaps some way past it
            begun_c = self.held_c - max(0.0, min(begun_c - self.held_c, least))
        least += self.swings_c
        return begun_c - now.end_c > (least if self.target_known else WITHOUT_TARGET * least)
