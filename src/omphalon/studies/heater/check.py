"""Judging a loop that runs: from the log of a heat-up, a hold, and the part fan coming on.

No sentences: `words` has them.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from omphalon.arrays import Array
from omphalon.finding import Verdict
from omphalon.heaters import kind_of
from omphalon.physics.arrival import arrival_deviations, look
from omphalon.recording import TemperatureLog
from omphalon.remarks import Refusal, Remark
from omphalon.studies.changes import Change, Pair, held_against
from omphalon.studies.heater.doubts import heater_doubts, jumps, log_doubts
from omphalon.studies.heater.excerpt import target_doubts
from omphalon.studies.heater.health import health, health_pairs, health_remarks
from omphalon.studies.heater.question import CheckQuestion
from omphalon.studies.heater.signs import ALLOWED, SIGNS, Seen, Sign

FEWEST_REPORTS = 20  # that a loop is judged by
SHORTEST_UNITS, HELD_UNITS = 1 / 2, 1 / 6  # of a log, and of the hold in it
CREEPS_UNITS = 1.5  # after the takeover without arriving: that is slow, however the log goes on
FAR_C = 15.0  # a log that stays so far below a target was not asked for it


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
    unit, allowed = kind_of(heater).unit_s, ALLOWED[heater]
    parts = tuple(_part(log, question) for log in logs)
    odd = target_doubts(logs[-1], question.target_c)
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
    except Refusal as refusal:
        raise refusal.after(odd) from None
    signs = {s.name: s for s in reversed(SIGNS) if s.seen(seen[-1])}
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
