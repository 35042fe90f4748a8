"""What of a log is the test, once other targets, single spikes and a reading that stands still are
passed over: its target, its switching, its cycles; or the reason why it holds none.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.arrays import Array, Mask
from omphalon.physics import oscillation
from omphalon.physics.oscillation import Cycles, Switching
from omphalon.recordings.recording import TemperatureLog

SPIKE_C = 5.0  # off both neighbours
BUSY = 0.01  # of full power
APART_S = 900.0  # without power and target: another session, no off half of a cycle is so long
LEAD_S = 3.0  # kept before the test
WORTH_CUTTING_S = 120.0  # less around a test does no harm
# a test switches between two levels, a controller goes in steps of all sizes. Of 384 made-up tests
# none had more than 8 % of small moves, nor less than 70 % of its reports at two levels
SMALL_MOVE, LEAST_MOVE, SOME, MOSTLY = 0.15, 0.004, 0.1, 0.5
TWO_LEVELS, LEVEL, WINDOWS = 0.7, 0.02, 6
FEWEST_MOVES = 6
FEWEST_CYCLES = 3  # that gains can be made of
MOST_CYCLES = 20  # that are looked at: more tell the same
SAME_C = 0.5  # targets no further apart are one
LEAST_SWITCH = 0.02  # of full power
LEAST_STEPS = 0.75  # of the display's step: a swing below it is not seen
LOOSE, PHASES_DEG = 0.6, (-255.0, -75.0)  # of the power's turns against the reading's
FAHRENHEIT_WITHIN_C = 8.0  # of the other scale, it is that
# a target so far outside the cycles is not theirs
AROUND_SWINGS, AROUND_C = 0.5, 1.5


def to_test(log: TemperatureLog) -> tuple[TemperatureLog, list[Remark]]:
    """The part of a long log in which the heater was switched most, by a clock of its own: what
    idles and cools around a test tells nothing of it, and takes long.
    """
    busy = np.zeros(len(log.time_s), bool)
    if log.power is not None:
        busy |= log.power > BUSY
    if log.target_c is not None:
        busy |= log.target_c > 0
    rows = np.flatnonzero(busy)
    if not len(rows):
        return log, []
    t = log.time_s
    edges = np.flatnonzero(np.diff(t[rows]) > APART_S) + 1
    sessions = [(int(part[0]), int(part[-1])) for part in np.split(rows, edges)]
    moves = np.abs(np.diff(np.zeros(len(t)) if log.power is None else log.power))
    first, last = max(sessions, key=lambda s: (float(moves[s[0] : s[1]].sum()), s[1] - s[0]))
    keep = (t >= t[first] - LEAD_S) & (t <= t[last])
    used = t[keep]
    if log.duration_s - (used[-1] - used[0]) < WORTH_CUTTING_S:
        return log, []
    minutes = {"whole": log.duration_s / 60, "start": float(used[0] - t[0]) / 60}
    part = replace(log.rows(keep), time_s=used - used[0])
    return part, [Remark("test-alone", **minutes, end=float(used[-1] - t[0]) / 60)]


def cleaned(log: TemperatureLog, every_target: bool = False) -> tuple[TemperatureLog, list[Remark]]:
    """The log without reports that are none, and what was passed over; `every_target`: other
    targets than the one that it had longest are kept.
    """
    log, odd = (log, []) if every_target else _one_target(log)
    spikes = _spikes(log.time_s, log.temperature_c)
    if spikes.any():
        first = float(log.time_s[np.argmax(spikes)] - log.time_s[0])
        odd.append(Remark("off-curve", count=int(spikes.sum()), first=first))
        log = log.rows(~spikes)
    stuck = _stuck(log)
    if stuck.any():
        at = int(np.argmax(stuck))
        since = float(log.time_s[at] - log.time_s[0])
        facts = {"level": float(log.temperature_c[at]), "since": since}
        odd.append(Remark("stands-still", **facts))
        log = log.rows(~stuck)
    return log, odd


def _one_target(log: TemperatureLog) -> tuple[TemperatureLog, list[Remark]]:
    """The longest stretch with one target above 0, and what stood before it with none."""
    if log.target_c is None or not (log.target_c > 0).any():
        return log, []
    goal = log.target_c
    edges = np.concatenate([[0], np.flatnonzero(np.abs(np.diff(goal)) > 0.01) + 1, [len(goal)]])
    spans = [(a, b) for a, b in zip(edges[:-1], edges[1:], strict=True) if goal[a] > 0]
    start, end = max(spans, key=lambda s: s[1] - s[0])
    all_goals = sorted({float(goal[a]) for a, _ in spans})
    if len(all_goals) == 1 and len(spans) == 1:
        return log, []
    keep = np.zeros(len(goal), bool)
    keep[start:end] = True
    used = float(goal[start])
    if len(all_goals) == 1:
        return log.rows(keep), [Remark("switched-off", used=used)]
    targets = ", ".join(f"{g:g}" for g in all_goals)
    return log.rows(keep), [Remark("several-targets", targets=targets, used=used)]


def _spikes(t: Array, y: Array) -> Mask:
    """Single reports further off the line between their neighbours than a heater can go and come
    back.
    """
    found = np.zeros(len(y), bool)
    middle = (y[:-2] + y[2:]) / 2
    off = np.abs(y[1:-1] - middle)
    found[1:-1] = (off > SPIKE_C + 1.5 * np.abs(y[2:] - y[:-2])) & (
        off > 6.0 * (t[2:] - t[:-2]) / 2
    )
    return found


def _stuck(log: TemperatureLog) -> Mask:
    """Eight reports and 6 s or more without a change, three times longer than any other such run in
    the log.
    """
    y = log.temperature_c
    edges = np.concatenate([[0], np.flatnonzero(np.diff(y) != 0) + 1, [len(y)]])
    heating = (
        np.maximum.accumulate(log.power > 0.01) if log.power is not None else np.ones(len(y), bool)
    )
    lengths = np.diff(edges) * heating[edges[:-1]]
    order = np.argsort(lengths)
    found = np.zeros(len(y), bool)
    longest, usual = int(lengths[order[-1]]), int(lengths[order[-2]]) if len(order) > 1 else 0
    start = int(edges[order[-1]])
    if longest >= max(8, 3 * usual) and log.time_s[start + longest - 1] - log.time_s[start] >= 6.0:
        found[start + 1 : start + longest] = True
    return found


@dataclass(frozen=True, kw_only=True)
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
    skip: Mask
    delay_s: float
    remarks: tuple[Remark, ...]

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
    """The test in a log.

    `target_c`: the one that gains are wanted for, which the test may have been run at; None: from
    the log. Raises Refusal if the log holds no test that can carry gains.
    """
    log, cut = to_test(log)
    log, cuts = cleaned(log)
    log = _first_cycles(log)
    odd = [*cut, *cuts]
    t, y = log.time_s, log.temperature_c
    own = log_target(log)
    power = _power(log, target_c if own is None and log.power is None else own, odd)
    noise, quantum = oscillation.noise_level(t, y), oscillation.quantum(y)
    switched = oscillation.switching(t, y, power, float(np.hypot(noise, quantum / np.sqrt(12))))
    if len(switched.row) < 2:
        raise Refusal("hardly-switched", odd)
    found = oscillation.cycles(t, y, power, switched)
    if found.count < FEWEST_CYCLES:
        raise Refusal("few-cycles", odd, count=found.count, fewest=FEWEST_CYCLES)
    goal = _tested_at(found, t, y, own, target_c)
    if goal is None:
        goal = round(switched.level_c, 1)
        if target_c is None:
            odd.append(Remark("switches-about", goal=goal))
    _refuse_loose(found)
    swing = float(np.median(found.amplitude_c))
    if swing < LEAST_STEPS * quantum or swing < 2 * min(noise, 0.4 * swing):
        raise Refusal("no-swing", odd, swing=swing, noise=noise, quantum=quantum)
    breaks, skip, lost = _breaks(t)
    odd += _drift(found)
    if lost:
        longest = float(np.diff(t).max())
        odd.append(Remark("gaps", count=lost, longest=longest))
    return Excerpt(
        time_s=t,
        temperature_c=y,
        power=power,
        target_c=goal,
        noise_c=noise,
        quantum_c=quantum,
        switched=switched,
        found=found,
        breaks_s=breaks,
        skip=skip,
        delay_s=_delay(t, y, switched),
        remarks=tuple(odd),
    )


def fahrenheit(level_c: float, goal_c: float) -> str:
    """Which of a level and a target is in °F, where they are one temperature in two units."""
    if abs((goal_c - 32) / 1.8 - level_c) < FAHRENHEIT_WITHIN_C:
        return "target-in-f"
    return "log-in-f" if abs((level_c - 32) / 1.8 - goal_c) < FAHRENHEIT_WITHIN_C else ""


def _refuse_loose(found: Cycles) -> None:
    """Refuse a temperature that does not follow the switching."""
    turns = found.response / np.abs(found.response)
    phase = float(np.degrees(np.angle(np.mean(turns)))) % 360 - 360
    if abs(np.mean(turns)) < LOOSE:
        raise Refusal("loose")
    if not PHASES_DEG[0] < phase < PHASES_DEG[1]:
        raise Refusal("out-of-phase", phase=phase)


def _tested_at(
    found: Cycles, t: Array, y: Array, own: float | None, target_c: float | None
) -> float | None:
    """The target that the cycles cross: the log's own, or what was given; None where the log has
    none, and gains are wanted for elsewhere.

    Raises Refusal where the log's own is not theirs and nothing else was given, or where what was
    given is their temperature in other degrees.
    """
    inside = (t >= found.start_s[0]) & (t <= found.start_s[-1] + found.period_s[-1])
    low, high = np.quantile(y[inside], [0.02, 0.98])
    room = max(AROUND_SWINGS * float(np.median(found.amplitude_c)), AROUND_C)
    for goal in (own, target_c):
        if goal is not None and low - room <= goal <= high + room:
            return goal
    given = own if target_c is None else target_c
    if given is None:
        return None
    level = float(np.median(y[inside]))
    hint = fahrenheit(level, given)
    if own is not None or hint:
        raise Refusal("cycles-elsewhere", level=level, goal=given, hint=hint)
    return None


def _first_cycles(log: TemperatureLog) -> TemperatureLog:
    """The log up to the end of its 20th cycle: more of the same says nothing new."""
    if log.power is None:
        return log
    ons = np.flatnonzero(np.diff(oscillation.power_sides(log.power)) > 0)
    if len(ons) <= MOST_CYCLES + 1:
        return log
    return log.rows(slice(0, int(ons[MOST_CYCLES + 1]) + 2))


def _drift(found: Cycles) -> list[Remark]:
    """Whether the mean power of the cycles moves by more than their scatter: a fan, a draught, heat
    still soaking in.
    """
    share = found.on_s / found.period_s
    mean = share * found.high + (1 - share) * found.low
    third = max(found.count // 3, 1)
    first, last = float(np.median(mean[1 : 1 + third])), float(np.median(mean[-third:]))
    scatter = float(np.median(np.abs(np.diff(mean)))) if found.count > 3 else 0.0
    if found.count > 3 and abs(last - first) > max(0.12 * first, 3 * scatter):
        return [Remark("holding-drifts", first=first, last=last)]
    return []


def log_target(log: TemperatureLog) -> float | None:
    """The target most reports have, of those that are not 0."""
    if log.target_c is None:
        return None
    values, counts = np.unique(log.target_c[log.target_c > 0], return_counts=True)
    return float(values[np.argmax(counts)]) if len(values) else None


def _power(log: TemperatureLog, goal: float | None, odd: list[Remark]) -> Array:
    """The power throughout; where the log has none, full below the target and none above.

    Raises Refusal where it cannot be told, the target was never reached, or nothing switched.
    """
    y = log.temperature_c
    if log.power is None and goal is None:
        raise Refusal("temperatures-only", odd)
    if goal is not None and y.max() < goal - SAME_C:
        highest = float(y.max())
        hint = fahrenheit(highest, goal)
        raise Refusal("never-reached", odd, goal=goal, highest=highest, hint=hint)
    power = log.power
    if power is None:
        odd.append(Remark("no-power"))
        power = np.where(y < goal, 1.0, 0.0)
    if power.max() - power.min() < LEAST_SWITCH:
        raise Refusal("never-switched", odd)
    return power


def _breaks(t: Array) -> tuple[tuple[float, ...], Mask, int]:
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


def by_controller(log: TemperatureLog) -> bool:
    """Whether a controller set the power, in steps of all sizes: no test switches so."""
    if log.power is None:
        return False
    near = np.arange(len(log.power)) >= int(np.argmax(log.temperature_c > _middle(log)))
    power = log.power[near]
    moves = np.abs(np.diff(power))
    moves = moves[moves > LEAST_MOVE]
    if len(moves) < FEWEST_MOVES:
        return False
    small = float(np.mean(moves < SMALL_MOVE))
    return small > MOSTLY or (small > SOME and at_two_levels(power) < TWO_LEVELS)


def at_two_levels(power: Array) -> float:
    """The share of reports at the two commonest levels of their part of the log, in the middle of
    its parts.
    """
    level = np.round(power / LEVEL).astype(np.int64)
    shares = []
    for part in np.array_split(level, WINDOWS):
        if len(part):
            counts = np.convolve(np.bincount(part - part.min()), np.ones(3), "same")
            top = int(np.argmax(counts))
            rest = counts.copy()
            rest[max(top - 2, 0) : top + 3] = 0
            shares.append((counts[top] + rest.max()) / len(part))
    return float(np.median(shares))


def _middle(log: TemperatureLog) -> float:
    """Above it a heater is nearer its target than the room."""
    low, high = float(log.temperature_c.min()), float(log.temperature_c.max())
    return low + 0.8 * (high - low)
