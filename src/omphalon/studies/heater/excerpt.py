"""What of a log is the test: its target, its switching, its cycles; or the reason why it holds
none.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from omphalon.finding import Warned
from omphalon.physics import oscillation
from omphalon.physics.oscillation import Array, Cycles, Switching
from omphalon.recording import TemperatureLog
from omphalon.studies.heater.cleaning import cleaned
from omphalon.studies.wording import Unsupported

FEWEST_CYCLES = 3
MOST_CYCLES = 20
HOTEND_FROM_C = 135.0
FAHRENHEIT_WITHIN_C = 8.0
# a target so far outside the cycles is not theirs
AROUND_SWINGS, AROUND_C = 0.5, 1.5


@dataclass(frozen=True)
class Excerpt:
    """The test inside a log: arrays of shape (n,), power known throughout."""

    time_s: Array
    temperature_c: Array
    power: Array
    target_c: float
    noise_c: float
    quantum_c: float
    switched: Switching
    found: Cycles
    breaks_s: tuple[float, ...]
    skip: NDArray[np.bool_]
    delay_s: float
    warnings: tuple[Warned, ...]

    @property
    def sigma_c(self) -> float:
        """Standard deviation of one report: noise and display steps together."""
        return float(np.hypot(self.noise_c, self.quantum_c / np.sqrt(12)))

    @property
    def swing_c(self) -> float:
        return float(np.median(self.found.amplitude_c))

    @property
    def near_c(self) -> float:
        """What counts as near the target: the cycles, and a little beyond."""
        return 1.5 * float(np.max(self.found.amplitude_c))


def excerpt(log: TemperatureLog, target_c: float | None) -> Excerpt:
    """The test in a log, or Unsupported."""
    warnings = [*target_doubts(log, target_c), *(Warned(n.code, n.message) for n in log.notes)]
    log, cuts = cleaned(log)
    log = _first_cycles(log)
    warnings.extend(cuts)
    t, y = log.time_s, log.temperature_c
    goal = target_c if target_c is not None else log_target(log)
    if log.power is None and goal is None:
        raise Unsupported(
            "the log has temperatures only: neither power nor target",
            "give the target with --target: the power is then worked out from the turns of the "
            "curve; better log "
            "both",
        )
    if goal is not None and y.max() < goal - 0.5:
        raise Unsupported(
            f"the target of {goal:.0f} °C was never reached: the highest reading is {y.max():.1f} "
            f"°C{fahrenheit_hint(float(y.max()), goal)}",
            "let the heater get there, or give the right target with --target",
        )
    power, guessed = _power(log, goal)
    if guessed:
        warnings.append(
            Warned(
                "power-missing",
                "the log has no power; full power is taken where the reading is below "
                "the target, none where it is above",
            )
        )
    if power.max() - power.min() < 0.02:
        raise Unsupported(
            "the power never changes in this log: the heater was not switched",
            "run the oscillation test that `omphalon heater plan` describes, and log its power",
        )
    noise, quantum = oscillation.noise_level(t, y), oscillation.quantum(y)
    sigma = float(np.hypot(noise, quantum / np.sqrt(12)))
    switched = oscillation.switching(t, y, power, sigma)
    if len(switched.row) < 2:
        raise Unsupported(
            "the heater switches fewer than twice in this log",
            "run the oscillation test that `omphalon heater plan` describes",
        )
    found = oscillation.cycles(t, y, power, switched)
    if found.count < FEWEST_CYCLES:
        raise Unsupported(
            f"{found.count} full cycle{'s'[: found.count != 1]} in the log, at least "
            f"{FEWEST_CYCLES} are "
            "needed",
            "repeat the test with more cycles: `omphalon heater plan --cycles 8`",
        )
    if goal is None:
        goal = round(switched.level_c, 1)
        warnings.append(
            Warned("target-guessed", f"no target in the log; it switches about {goal:g} °C")
        )
    _refuse_elsewhere(found, t, y, goal)
    turns = found.response / np.abs(found.response)
    phase = float(np.degrees(np.angle(np.mean(turns)))) % 360 - 360
    loose = abs(np.mean(turns)) < 0.6
    if loose or not -255 < phase < -75:
        raise Unsupported(
            "the temperature does not follow the switching: its phase against the power is "
            + ("different in every cycle" if loose else f"{phase:.0f}°, not near -180°"),
            "check that temperature and power are those of the same heater (--heater, --column)",
        )
    swing = float(np.median(found.amplitude_c))
    if swing < 0.75 * quantum or swing < 2 * min(noise, 0.4 * swing):
        raise Unsupported(
            f"the swing of ±{swing:.2f} °C hardly stands out of noise ({noise:.2f} °C) and display "
            f"steps ({quantum:.2f} °C)",
            "log with a finer display, or let the test swing wider",
        )
    breaks, skip, lost = _breaks(t)
    warnings.extend(_drift(found))
    if lost:
        warnings.append(
            Warned(
                "dropout",
                f"{lost} gap{'s'[: lost != 1]} in the log, the longest "
                f"{float(np.diff(t).max()):.0f} s",
            )
        )
    return Excerpt(
        t,
        y,
        power,
        goal,
        noise,
        quantum,
        switched,
        found,
        breaks,
        skip,
        _delay(t, y, switched),
        tuple(warnings),
    )


def target_doubts(log: TemperatureLog, target_c: float | None) -> list[Warned]:
    """Whether the target that was given is not the one in the log."""
    own = log_target(log)
    if target_c is None or own is None or abs(own - target_c) <= 0.5:
        return []
    return [
        Warned(
            "target-differs",
            f"the log's own target is {own:g} °C, not the {target_c:g} °C that was given",
        )
    ]


def fahrenheit_hint(level_c: float, goal_c: float) -> str:
    """A question, where a level and a target are one another in degrees of the other kind."""
    if abs((goal_c - 32) / 1.8 - level_c) < FAHRENHEIT_WITHIN_C:
        return ": is the target in °F?"
    if abs((level_c - 32) / 1.8 - goal_c) < FAHRENHEIT_WITHIN_C:
        return ": are the log's temperatures °F? (name the column temp_f)"
    return ""


def _refuse_elsewhere(found: Cycles, t: Array, y: Array, goal: float) -> None:
    """Refuse cycles that never cross the target: a wrong target, or degrees of another kind."""
    inside = (t >= found.start_s[0]) & (t <= found.start_s[-1] + found.period_s[-1])
    low, high = np.quantile(y[inside], [0.02, 0.98])
    room = max(AROUND_SWINGS * float(np.median(found.amplitude_c)), AROUND_C)
    if low - room <= goal <= high + room:
        return
    level = float(np.median(y[inside]))
    hint = fahrenheit_hint(level, goal)
    raise Unsupported(
        f"the cycles lie about {level:.0f} °C, the target is {goal:g} °C{hint}",
        "give the target that was in force: --target",
    )


def _first_cycles(log: TemperatureLog) -> TemperatureLog:
    """The log up to the end of its 20th cycle: more of the same says nothing new."""
    if log.power is None:
        return log
    ons = np.flatnonzero(np.diff(oscillation.power_sides(log.power)) > 0)
    if len(ons) <= MOST_CYCLES + 1:
        return log
    end = int(ons[MOST_CYCLES + 1]) + 2
    return replace(
        log,
        time_s=log.time_s[:end],
        temperature_c=log.temperature_c[:end],
        power=log.power[:end],
        target_c=None if log.target_c is None else log.target_c[:end],
    )


def _drift(found: Cycles) -> list[Warned]:
    """Whether the mean power of the cycles moves by more than their scatter: a fan, a draught, heat
    still soaking in.
    """
    share = found.on_s / found.period_s
    mean = share * found.high + (1 - share) * found.low
    third = max(found.count // 3, 1)
    first, last = float(np.median(mean[1 : 1 + third])), float(np.median(mean[-third:]))
    scatter = float(np.median(np.abs(np.diff(mean)))) if found.count > 3 else 0.0
    if found.count > 3 and abs(last - first) > max(0.12 * first, 3 * scatter):
        return [
            Warned(
                "drift",
                f"holding took {first:.0%} of full power in the first cycles, {last:.0%} in the "
                "last",
            )
        ]
    return []


def heater_at(target_c: float) -> str:
    """hotend or bed, by the target's height."""
    return "hotend" if target_c >= HOTEND_FROM_C else "bed"


def log_target(log: TemperatureLog) -> float | None:
    """The target most reports have, of those that are not 0."""
    if log.target_c is None:
        return None
    values, counts = np.unique(log.target_c[log.target_c > 0], return_counts=True)
    return float(values[np.argmax(counts)]) if len(values) else None


def _power(log: TemperatureLog, goal: float | None) -> tuple[Array, bool]:
    if log.power is not None:
        return log.power, False
    y = log.temperature_c
    level = (
        goal
        if goal is not None
        else float((np.max(y[len(y) // 2 :]) + np.min(y[len(y) // 2 :])) / 2)
    )
    return np.where(y < level, 1.0, 0.0), True


def _breaks(t: Array) -> tuple[tuple[float, ...], NDArray[np.bool_], int]:
    """Where a stretch begins whose past power is unknown, and the reports right behind, to pass
    over.
    """
    step = np.diff(t)
    usual = float(np.median(step))
    gaps = np.flatnonzero(step > max(4 * usual, usual + 2.0))
    starts = tuple(float(t[g + 1]) for g in gaps)
    skip = np.zeros(len(t), bool)
    for start in starts:
        skip |= (t >= start) & (t < start + 2 * usual + 2.0)
    return starts, skip, len(gaps)


def _delay(t: Array, y: Array, switched: Switching) -> float:
    """From a switching to the turn of the curve behind it, in the middle: a first guess of dead
    time and lag.
    """
    waits = []
    for n in range(len(switched.row) - 1):
        between = (t > switched.time_s[n]) & (t <= switched.time_s[n + 1])
        if between.sum() > 2:
            turn = np.argmax(y[between] * -switched.side[n])
            waits.append(t[between][turn] - switched.time_s[n])
    usual = float(np.median(np.diff(t)))
    return max(float(np.median(waits)) if waits else usual, usual, 0.3)
