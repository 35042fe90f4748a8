"""Whether a shaper's setting still fits a fresh log; and two logs, before and after a repair.

No sentences: `words` has them.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.optimize import linear_sum_assignment

from omphalon.finding import Verdict
from omphalon.physics.fellows import deviation_of
from omphalon.physics.impulses import SHAPERS
from omphalon.physics.resonance import Mode
from omphalon.physics.shaping import Candidate, Limits, at_setting, candidates, pick
from omphalon.recording import GreyPicture, MotionLog
from omphalon.remarks import Remark
from omphalon.studies.changes import Change, Pair, held_against
from omphalon.studies.shaper.fit import KEEPS, allowed_half
from omphalon.studies.shaper.modes import AxisReading, read_axis
from omphalon.studies.shaper.question import ShaperCheckQuestion, ShaperInUse

# a mode's figures, and where their half widths stand
HALVES = {"frequency_hz": "frequency_half_hz", "damping": "damping_half", "share": "share_half"}
WORTH = 1.15  # a better setting is named when it allows so much more


@dataclass(frozen=True, kw_only=True)
class JudgedLog:
    """A log, what was read in it, and what the setting allows on it."""

    source: str
    reading: AxisReading
    allowed: Candidate


@dataclass(frozen=True, kw_only=True)
class ShaperCheck:
    """The logs, the best setting on the last one, and whether the setting in use still serves; of
    two logs the modes that belong together, and the changes of their figures, mode by mode, the
    acceleration's last.
    """

    setting: ShaperInUse
    acceleration_mm_s2: float
    logs: tuple[JudgedLog, ...]
    best: Candidate
    pairs: tuple[tuple[Mode, Mode], ...]
    changes: tuple[Change, ...]

    def enough(self, log: JudgedLog) -> bool:
        """Whether the setting allows what is in use on a log."""
        return log.allowed.acceleration_mm_s2 >= KEEPS * self.acceleration_mm_s2

    @property
    def verdict(self) -> Verdict:
        """`keep` where the last log allows what is in use."""
        return "keep" if self.enough(self.last) else "change"

    @property
    def last(self) -> JudgedLog:
        """The log that is judged."""
        return self.logs[-1]

    @property
    def gone(self) -> list[Mode]:
        """Modes of the first log that have become none of the last one's."""
        kept = [before for before, _ in self.pairs]
        return [m for m in self.logs[0].reading.modes if self.pairs and m not in kept]

    @property
    def new(self) -> list[Mode]:
        """Modes of the last log that were none of the first one's."""
        known = [after for _, after in self.pairs]
        return [m for m in self.last.reading.modes if self.pairs and m not in known]

    @property
    def like(self) -> bool:
        """Whether both logs show the same modes, or could have: a card's lines do not show all."""
        return _alike(self.logs)

    @property
    def better(self) -> bool:
        """Whether another setting would allow plainly more."""
        return self.best.acceleration_mm_s2 > WORTH * self.last.allowed.acceleration_mm_s2

    @property
    def remarks(self) -> tuple[Remark, ...]:
        """Of all logs."""
        return tuple(o for log in self.logs for o in log.reading.remarks)


def check_shaper(question: ShaperCheckQuestion) -> ShaperCheck:
    """Judge what a setting allows on the last log, against the acceleration in use.

    Raises Refusal where a log cannot carry an answer.
    """
    set_, limits = question.setting, question.limits
    readings = [_read(log, question) for log in question.logs]
    logs = tuple(
        JudgedLog(
            source=log.source,
            reading=r,
            allowed=at_setting(set_.shaper, set_.frequency_hz, set_.damping, r.modes, limits),
        )
        for log, r in zip(question.logs, readings, strict=True)
    )
    pairs = _belonging(readings[0].modes, readings[-1].modes) if len(logs) == 2 else ()
    return ShaperCheck(
        setting=set_,
        acceleration_mm_s2=question.acceleration_mm_s2,
        logs=logs,
        best=pick(candidates(readings[-1].modes, limits, tuple(SHAPERS))),
        pairs=pairs,
        changes=_changes(pairs, logs, limits) if len(logs) == 2 else (),
    )


def _read(log: MotionLog | GreyPicture, question: ShaperCheckQuestion) -> AxisReading:
    if isinstance(log, MotionLog):
        return read_axis(log, question.axis, question.sensor, question.kind)
    assert question.read_card is not None
    return question.read_card(log)


def _belonging(before: tuple[Mode, ...], after: tuple[Mode, ...]) -> tuple[tuple[Mode, Mode], ...]:
    """Each mode with the one that it became: the nearest in frequency and share, over all."""
    then, now = (np.log([[m.frequency_hz, m.share] for m in modes]) for modes in (before, after))
    cost = np.abs(then[:, None] - now[None]).sum(axis=2)
    rows, columns = linear_sum_assignment(cost)
    return tuple((before[r], after[c]) for r, c in zip(rows, columns, strict=True))


def _alike(logs: Sequence[JudgedLog]) -> bool:
    counts = {len(log.reading.modes) for log in logs}
    return len(counts) == 1 or all(math.isinf(log.reading.seen_to_hz) for log in logs)


def _changes(
    pairs: tuple[tuple[Mode, Mode], ...], logs: tuple[JudgedLog, ...], limits: Limits
) -> tuple[Change, ...]:
    found = []
    alike = _alike(logs)
    for number, (before, after) in enumerate(pairs, 1):
        for name, half in HALVES.items():
            if name == "share" and not alike:
                continue  # of a motion that is not the same
            found.append(
                Pair(
                    name=f"mode{number}_{name}",
                    before=getattr(before, name),
                    before_deviation=float(deviation_of(getattr(before, half))),
                    after=getattr(after, name),
                    after_deviation=float(deviation_of(getattr(after, half))),
                )
            )
    if not alike:
        return held_against(found)
    first, last = (
        (one.allowed, float(deviation_of(allowed_half(one.allowed, one.reading.modes, limits))))
        for one in logs
    )
    found.append(
        Pair(
            name="acceleration_mm_s2",
            before=first[0].acceleration_mm_s2,
            before_deviation=first[1],
            after=last[0].acceleration_mm_s2,
            after_deviation=last[1],
        )
    )
    return held_against(found)
