"""Judging a loop that runs, from the log of a heat-up, a hold, and the part fan coming on: what it
may do, as rows with limits, and the signs of a bad one, each standing on rows.

No sentences: `check_words` has them.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from omphalon.answers.finding import Verdict
from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.arrays import Array
from omphalon.physics.arrival import Arrival, arrival_deviations, look
from omphalon.recordings.recording import TemperatureLog
from omphalon.studies.changes import Change, Pair, held_against
from omphalon.studies.heater.doubts import heater_doubts, jumps, log_doubts
from omphalon.studies.heater.excerpt import SAME_C, at_two_levels, log_target
from omphalon.studies.heater.health import health, health_pairs, health_remarks
from omphalon.studies.heater.question import CheckQuestion
from omphalon.tables.heaters import HEATERS

FULL_BUSY = 0.9  # of the hold with the power at an end
BANGING = 0.1  # of full power a report: at an end so often, and moving so much, it bangs
CLEAR_OF_NOISE = 2.5  # times the noise: a ripple that the moves of the power bring about
WINDUP_UNITS = 0.13  # an overshoot that stays so long is a filled integral
FEWEST_REPORTS = 20  # that a loop is judged by
SHORTEST_UNITS, HELD_UNITS = 1 / 2, 1 / 6  # of a log, and of the hold in it
CREEPS_UNITS = 1.5  # after the takeover without arriving: that is slow, however the log goes on
# a test: so many moves of the power, each so large, and so much of the time at two levels
LEAST_SWITCHES, SWITCHED, ALL_BUT_ALL = 6, 0.2, 0.97
FAR_C = 15.0  # a log that stays so far below a target was not asked for it


@dataclass(frozen=True, kw_only=True)
class Allowed:
    """What a loop may do before it is called bad: °C, units of time (60 s for a hotend, 300 s for a
    bed), shares of power.
    """

    overshoot_c: float
    ripple_c: float
    bias_c: float
    noise_c: float
    creep_units: float
    recovery_units: float = 0.75
    dip_c: float = 1.0  # a dip smaller than that may take its time
    jumps: int = 0
    mean_share: float = 0.95
    busy: float = 0.12
    chatter: float = 0.15


ALLOWED = {
    "hotend": Allowed(overshoot_c=1.5, ripple_c=1.0, bias_c=0.5, noise_c=0.35, creep_units=0.5),
    **dict.fromkeys(
        ("bed", "chamber"),
        Allowed(overshoot_c=0.7, ripple_c=0.6, bias_c=0.5, noise_c=0.35, creep_units=0.45),
    ),
}


@dataclass(frozen=True, kw_only=True)
class Row:
    """A row of the shown table: its value and its limit as numbers in one unit; `beyond`: past
    it.
    """

    name: str
    value: Callable[[Seen], float | None]
    allowed: Callable[[Seen], float | None] = lambda seen: None
    quiet: bool = False  # shown only where it is past its limit
    beyond: Callable[[Seen], bool] | None = None

    def bad(self, seen: Seen) -> bool:
        """Whether what was seen is past the row's limit."""
        if self.beyond is not None:
            return self.beyond(seen)
        value, limit = self.value(seen), self.allowed(seen)
        return value is not None and limit is not None and abs(value) > limit


@dataclass(frozen=True, kw_only=True)
class Seen:
    """One log: what was measured in it, what is allowed, its unit of time, and how often the sensor
    jumped.
    """

    arrival: Arrival
    allowed: Allowed
    unit_s: float
    jumps: int

    @property
    def mean_share(self) -> float | None:
        """The hold's mean power, as a share of the most that the log shows."""
        a = self.arrival
        return None if a.mean_power is None or not a.most_power else a.mean_power / a.most_power

    @property
    def late(self) -> bool:
        """Whether it creeps to the target, or never arrives though it has had its time."""
        a = self.arrival
        return a.arrival_s is None or (
            a.creep_s is not None and a.creep_s > self.allowed.creep_units * self.unit_s
        )


ROWS = (
    Row(
        name="arrival_s",
        value=lambda s: s.arrival.arrival_s,
        beyond=lambda s: s.arrival.arrival_s is None,
    ),
    Row(
        name="creep_s",
        value=lambda s: None if s.arrival.creep_s is None else max(s.arrival.creep_s, 0.0),
        allowed=lambda s: s.allowed.creep_units * s.unit_s,
        beyond=lambda s: s.arrival.arrival_s is not None and s.late,
    ),
    Row(
        name="overshoot_c",
        value=lambda s: s.arrival.overshoot_c,
        allowed=lambda s: s.allowed.overshoot_c,
    ),
    Row(name="settle_s", value=lambda s: s.arrival.settle_s),
    Row(
        name="ripple_c",
        value=lambda s: s.arrival.ripple_c,
        allowed=lambda s: max(s.allowed.ripple_c, 3 * s.arrival.noise_c),
    ),
    Row(name="bias_c", value=lambda s: s.arrival.bias_c, allowed=lambda s: s.allowed.bias_c),
    Row(name="dip_c", value=lambda s: s.arrival.dip_c),
    Row(
        name="recovery_s",
        value=lambda s: s.arrival.recovery_s,
        allowed=lambda s: s.allowed.recovery_units * s.unit_s,
        beyond=lambda s: (
            (s.arrival.dip_c or 0) > s.allowed.dip_c
            and (
                s.arrival.recovery_s is None
                or s.arrival.recovery_s > s.allowed.recovery_units * s.unit_s
            )
        ),
    ),
    Row(
        name="noise_c",
        value=lambda s: s.arrival.noise_c,
        allowed=lambda s: max(s.allowed.noise_c, (s.arrival.ripple_c or 0) / 6),
    ),
    Row(
        name="jumps",
        quiet=True,
        value=lambda s: float(s.jumps),
        allowed=lambda s: float(s.allowed.jumps),
    ),
    Row(
        name="mean_power",
        quiet=True,
        value=lambda s: None if s.mean_share is None else 100 * s.mean_share,
        allowed=lambda s: 100 * s.allowed.mean_share,
        beyond=lambda s: (
            (s.mean_share or 0) > s.allowed.mean_share and (s.arrival.busy or 0) > FULL_BUSY
        ),
    ),
    Row(
        name="busy",
        value=lambda s: None if s.arrival.busy is None else 100 * s.arrival.busy,
        allowed=lambda s: 100 * s.allowed.busy,
        beyond=lambda s: (
            (s.arrival.busy or 0) > s.allowed.busy and (s.arrival.chatter or 0) > BANGING
        ),
    ),
    Row(
        name="chatter",
        value=lambda s: None if s.arrival.chatter is None else 100 * s.arrival.chatter,
        allowed=lambda s: 100 * s.allowed.chatter,
        beyond=lambda s: (
            (s.arrival.chatter or 0) > s.allowed.chatter
            and (s.arrival.ripple_c or 0) > CLEAR_OF_NOISE * s.arrival.noise_c
        ),
    ),
)
ROW = {row.name: row for row in ROWS}


@dataclass(frozen=True, kw_only=True)
class Sign:
    """What can be wrong with a loop: the rows it stands on (one past its limit is enough), and what
    else must be so.
    """

    name: str
    rows: tuple[str, ...]
    also: Callable[[Seen], bool] = lambda seen: True

    def seen(self, seen: Seen) -> bool:
        """Whether a row it stands on is past its limit, and the rest is so."""
        return any(ROW[name].bad(seen) for name in self.rows) and self.also(seen)


def _one_long_overshoot(seen: Seen) -> bool:
    a = seen.arrival
    return (
        not seen.late
        and (a.above_s or 0) > WINDUP_UNITS * seen.unit_s
        and not ROW["ripple_c"].bad(seen)
    )


SIGNS = (
    Sign(name="loose sensor", rows=("jumps",)),
    Sign(name="power too weak", rows=("mean_power",)),
    Sign(name="sensor noise", rows=("noise_c",)),
    Sign(name="oscillating", rows=("ripple_c",), also=lambda s: s.arrival.swing_c is not None),
    Sign(name="windup", rows=("overshoot_c",), also=_one_long_overshoot),
    Sign(name="hot", rows=("overshoot_c", "busy", "chatter")),
    Sign(name="slow", rows=("arrival_s", "creep_s", "recovery_s")),
    Sign(name="slow", rows=("bias_c",), also=lambda s: (s.arrival.bias_c or 0) < 0),
    Sign(name="biased", rows=("bias_c",), also=lambda s: (s.arrival.bias_c or 0) > 0),
)


BY_A_SWING = ("windup", "hot", "sensor noise")


@dataclass(frozen=True, kw_only=True)
class HeaterCheck:
    """One or two logs, what was seen in each, the signs of a bad loop in the last, and of two what
    changed from the one to the other.
    """

    heater: str
    parts: tuple[TemperatureLog, ...]
    seen: tuple[Seen, ...]
    signs: tuple[Sign, ...]
    health: Mapping[str, tuple[float, float]]
    changes: tuple[Change, ...]
    target_c: float
    remarks: tuple[Remark, ...]

    @property
    def labels(self) -> tuple[str, ...]:
        """What each log is called."""
        return ("this log",) if len(self.parts) == 1 else ("before", "after")

    @property
    def since_takeover_s(self) -> list[Array]:
        """Each log's times from the takeover on."""
        return [
            p.time_s - p.time_s[0] - s.arrival.start_s - (s.arrival.takeover_s or 0.0)
            for p, s in zip(self.parts, self.seen, strict=True)
        ]

    @property
    def verdict(self) -> Verdict:
        """`keep` where no sign is seen."""
        return "change" if self.signs else "keep"


def check_heater(logs: Sequence[TemperatureLog], question: CheckQuestion) -> HeaterCheck:
    """Judge the last of one or two logs (before, after).

    `logs`: each from before a heat-up to some minutes into the hold. Raises Refusal where the logs
    are too short, or never came near the target.
    """
    heater = question.which
    unit, allowed = HEATERS[heater].unit_s, ALLOWED[heater]
    parts = tuple(_part(log, question) for log in logs)
    odd = _target_doubts(logs[-1], question.target_c)
    try:
        odd += [*heater_doubts(logs[-1], heater), *log_doubts(logs[-1], question.max_temp_c)]
        if any(
            len(p.time_s) < FEWEST_REPORTS or p.duration_s < SHORTEST_UNITS * unit for p in parts
        ):
            raise Refusal("short-log")
        goal = question.target_c
        arrivals = [
            look(p.time_s, p.temperature_c, p.power, goal, unit, _fan_s(p, question)) for p in parts
        ]
        seen = tuple(
            Seen(arrival=arrival, allowed=allowed, unit_s=unit, jumps=jumps(part))
            for arrival, part in zip(arrivals, parts, strict=True)
        )
        _refuse_early_end(seen[-1], parts[-1], goal)
        _refuse_test(parts[-1], seen[-1])
    except Refusal as refusal:
        raise refusal.after(odd) from None
    signs = {s.name: s for s in reversed(SIGNS) if s.seen(seen[-1])}
    if "oscillating" in signs:  # what a swing explains is not reported again
        signs = {name: s for name, s in signs.items() if name not in BY_A_SWING}
    found = tuple(health(p, goal) for p in parts)
    if len(parts) == 2:
        changed = held_against([*_pairs(parts, seen, goal), *health_pairs(*found)])
    else:
        changed = held_against(health_pairs(question.health, found[-1]))
    return HeaterCheck(
        heater=heater,
        target_c=goal,
        parts=parts,
        seen=seen,
        signs=tuple(reversed(signs.values())),
        health=found[-1],
        changes=changed,
        remarks=(*odd, *health_remarks(changed)),
    )


def _pairs(parts: Sequence[TemperatureLog], seen: Sequence[Seen], target_c: float) -> list[Pair]:
    """Each figure of the loop that both logs have."""
    known = [
        arrival_deviations(p.time_s, p.temperature_c, p.power, target_c, s.arrival)
        for p, s in zip(parts, seen, strict=True)
    ]
    before, after = (s.arrival for s in seen)
    return [
        Pair(
            name=name,
            before=getattr(before, name),
            before_deviation=known[0][name],
            after=getattr(after, name),
            after_deviation=known[1][name],
        )
        for name in known[0]
        if name in known[1]
    ]


def _refuse_early_end(seen: Seen, part: TemperatureLog, target_c: float) -> None:
    """Refuse a log that ends before the loop has held its target; but one that has had its time and
    creeps on is slow.
    """
    a = seen.arrival
    since = part.duration_s - a.start_s - (a.takeover_s or 0.0)
    if a.arrival_s is None and a.takeover_s is not None and since > CREEPS_UNITS * seen.unit_s:
        return
    if a.hold_s < HELD_UNITS * seen.unit_s and (a.arrival_s is not None or a.climbing):
        raise Refusal("ends-early")
    highest = float(part.temperature_c.max())
    if a.arrival_s is None and highest < target_c - FAR_C:
        raise Refusal("never-near", goal=target_c, highest=highest)


def _refuse_test(part: TemperatureLog, seen: Seen) -> None:
    """Refuse a log in which the power only switches between two levels: a test, in which no gains
    were at work.
    """
    if part.power is None or seen.arrival.arrival_s is None:
        return
    since = part.time_s - part.time_s[0] - seen.arrival.start_s
    power = part.power[since >= seen.arrival.arrival_s]
    moves = np.abs(np.diff(power)) > SWITCHED
    if moves.sum() < LEAST_SWITCHES or at_two_levels(power) < ALL_BUT_ALL:
        return
    raise Refusal("a-test", count=int(moves.sum()))


def _fan_s(part: TemperatureLog, question: CheckQuestion) -> float | None:
    """When the part fan came on, as it was said or as the log has it; None: it is looked for."""
    if question.fan_at_s is not None:
        return question.fan_at_s - (question.from_s or 0.0)
    if part.fan is None or part.fan[0] > 0 or not (part.fan > 0).any():
        return None
    return float(part.time_s[np.argmax(part.fan > 0)] - part.time_s[0])


def _part(log: TemperatureLog, question: CheckQuestion) -> TemperatureLog:
    t = log.time_s - log.time_s[0]
    end = np.inf if question.to_s is None else question.to_s
    return log.rows((t >= (question.from_s or 0.0)) & (t <= end))


def _target_doubts(log: TemperatureLog, target_c: float | None) -> list[Remark]:
    """Whether the target that was given is not the one in the log."""
    own = log_target(log)
    if target_c is None or own is None or abs(own - target_c) <= SAME_C:
        return []
    return [Remark("other-target", own=own, given=target_c)]
