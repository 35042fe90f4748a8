"""Whether a shaper's setting still fits a fresh log; and two logs, before and after a repair.

No sentences: `words` has them.
"""

from __future__ import annotations

from dataclasses import dataclass

from omphalon.physics.impulses import SHAPERS
from omphalon.physics.shaping import Candidate, at_setting, candidates, pick
from omphalon.studies.answer import Oddity, Retest, Unanswerable, Verdict
from omphalon.studies.shaper.fit import KEEPS
from omphalon.studies.shaper.modes import AxisReading, read_axis
from omphalon.studies.shaper.question import ShaperCheckQuestion

WORTH = 1.15  # a better setting is named when it allows so much more


@dataclass(frozen=True, kw_only=True)
class JudgedLog:
    """A log, what was read in it, and what the setting allows on it."""

    source: str
    reading: AxisReading
    allowed: Candidate


@dataclass(frozen=True, kw_only=True)
class ShaperCheck:
    """The logs, the best setting on the last one, and whether the setting in use still serves."""

    logs: tuple[JudgedLog, ...]
    best: Candidate
    verdict: Verdict

    @property
    def last(self) -> JudgedLog:
        """The log that is judged."""
        return self.logs[-1]

    @property
    def better(self) -> bool:
        """Whether another setting would allow plainly more."""
        return self.best.acceleration_mm_s2 > WORTH * self.last.allowed.acceleration_mm_s2

    @property
    def oddities(self) -> tuple[Oddity, ...]:
        """Of all logs."""
        return tuple(o for log in self.logs for o in log.reading.oddities)


def check_shaper(question: ShaperCheckQuestion) -> ShaperCheck | Retest:
    """Judge what a setting allows on the last log, against the acceleration in use.

    Parameters
    ----------
    question : one or two logs, the setting, the acceleration

    Returns
    -------
    ShaperCheck
    Retest
        Where a log cannot carry an answer.
    """
    set_, limits = question.setting, question.limits
    try:
        readings = [
            read_axis(log, question.axis, question.sensor, question.kind) for log in question.logs
        ]
    except Unanswerable as refusal:
        return refusal.retest
    logs = tuple(
        JudgedLog(
            source=log.source,
            reading=r,
            allowed=at_setting(set_.shaper, set_.frequency_hz, set_.damping, r.modes, limits),
        )
        for log, r in zip(question.logs, readings, strict=True)
    )
    allows = logs[-1].allowed.acceleration_mm_s2
    return ShaperCheck(
        logs=logs,
        best=pick(candidates(readings[-1].modes, limits, tuple(SHAPERS))),
        verdict="keep" if allows >= KEEPS * question.acceleration_mm_s2 else "change",
    )
