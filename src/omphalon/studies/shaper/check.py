"""Whether a shaper's setting still fits a fresh log; two logs, before and after a repair; and
whether a sensor that nobody moves is fit for a sweep.

No sentences: `check_words` has them.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.optimize import linear_sum_assignment

from omphalon.answers.finding import Verdict
from omphalon.answers.remarks import Refusal, Remark
from omphalon.physics.comparison import deviation_of
from omphalon.physics.impulses import SHAPERS
from omphalon.physics.resonance import Mode
from omphalon.physics.rest import STRETCHES, Stillness, at_rest
from omphalon.physics.shaping import Candidate, Limits, at_setting, candidates, pick
from omphalon.recordings.recording import GreyPicture, MotionLog
from omphalon.studies.changes import Change, Pair, held_against
from omphalon.studies.shaper.fit import KEEPS, allowed_half
from omphalon.studies.shaper.modes import (
    OVERSAMPLED,
    SENSOR_AXES,
    USUAL_END_HZ,
    AxisReading,
    Gaps,
    gaps_of,
    read_axis,
)
from omphalon.studies.shaper.question import ShaperCheckQuestion, ShaperInUse
from omphalon.tables.constants import G_MM_S2

# a mode's figures, and where their half widths stand
HALVES = {"frequency_hz": "frequency_half_hz", "damping": "damping_half", "share": "share_half"}
WORTH = 1.15  # a better setting is named when it allows so much more
SHORTEST_S = 2.0  # that noise is judged by
# measured on sweeps of 2000 mm/s², the least that `shaper plan` writes: modes are found up to a
# noise of 240 mm/s²/√Hz and no more at 430
NOISIEST_MM_S2 = 120.0
GRAVITY_WITHIN = 0.1  # a sensor's own scale is good to 3 %
ASKEW_DEG = 10.0
HUMS_MM_S2 = 200.0  # a tenth of such a sweep
HUMS_NOISES = 4.0  # of the noise in one hertz: what chance makes stand out is half of it
MOVED_MM_S2, MOVED_NOISES = (
    300.0,
    8.0,
)  # apart: the sensor was turned or pushed; its own drift is a tenth of it
KNOCKED_MM_S2, KNOCKED_NOISES = 1500.0, 9.0  # a single sample's deviation: somebody knocked


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
    return question.read_card(log, question.axis)


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


@dataclass(frozen=True, kw_only=True)
class SensorCheck:
    """A sensor at rest, the gaps in its log, and what makes it unfit for a sweep."""

    still: Stillness
    duration_s: float
    gaps: Gaps
    unfit: Refusal | None
    remarks: tuple[Remark, ...]

    @property
    def verdict(self) -> Verdict:
        """Keep: fit for a sweep."""
        return "keep" if self.unfit is None else "change"


def check_sensor(log: MotionLog) -> SensorCheck:
    """Judge a few seconds of a sensor that nobody moves.

    `log`: accelerations in mm/s². Raises Refusal where it was moved, the log is too short, or its
    readings never change.
    """
    _refuse(log)
    gaps = gaps_of(log)
    still = at_rest(log.time_s, log.acceleration_mm_s2, gaps.rate_hz)
    _refuse_moved(log, still, gaps.rate_hz)
    return SensorCheck(
        still=still,
        duration_s=log.duration_s,
        gaps=gaps,
        unfit=_unfit(still, gaps),
        remarks=tuple(_odd(still, gaps)),
    )


def _refuse(log: MotionLog) -> None:
    if log.duration_s < SHORTEST_S:
        raise Refusal("short-rest", log=log.source, duration=log.duration_s)
    if not np.ptp(log.acceleration_mm_s2, axis=0).any():
        raise Refusal("all-still", log=log.source)


def _refuse_moved(log: MotionLog, still: Stillness, rate_hz: float) -> None:
    noise = still.density_mm_s2 * np.sqrt(rate_hz / 2)
    of_mean = noise / np.sqrt(len(log.time_s) / STRETCHES)
    for k in range(3):
        facts = {"log": log.source, "sensor": SENSOR_AXES[k]}
        if still.wander_mm_s2[k] > max(MOVED_MM_S2, MOVED_NOISES * of_mean[k]):
            raise Refusal("moved", **facts, much=still.wander_mm_s2[k] / 1000)
        if still.furthest_mm_s2[k] > max(KNOCKED_MM_S2, KNOCKED_NOISES * noise[k]):
            raise Refusal("knocked", **facts, much=still.furthest_mm_s2[k] / 1000)


def _unfit(still: Stillness, gaps: Gaps) -> Refusal | None:
    """The first thing that a sweep would be refused for."""
    enough = OVERSAMPLED * USUAL_END_HZ
    if gaps.rate_hz < enough:
        return Refusal("slow", rate=gaps.rate_hz, enough=enough)
    if gaps.too_many:
        return Refusal("lossy", share=gaps.lost)
    if gaps.too_long:
        return Refusal("broken", gap=gaps.longest_s, at=gaps.at_s)
    worst = int(np.argmax(still.density_mm_s2))
    noise = float(still.density_mm_s2[worst])
    if noise > NOISIEST_MM_S2:
        return Refusal("noisy", sensor=SENSOR_AXES[worst], noise=noise)
    return None


def _odd(still: Stillness, gaps: Gaps) -> list[Remark]:
    """What a sweep bears, but its owner should know."""
    odd = list(gaps.remarks)
    share = still.size_mm_s2 / G_MM_S2
    if abs(share - 1) > GRAVITY_WITHIN:
        odd.append(Remark("gravity", size=still.size_mm_s2 / 1000))
    if still.tilt_deg > ASKEW_DEG:
        odd.append(Remark("tilted", sensor=SENSOR_AXES[still.upright], tilt=still.tilt_deg))
    for k in np.flatnonzero(still.step_mm_s2 == 0).tolist():
        odd.append(Remark("dead-axis", sensor=SENSOR_AXES[k]))
    chance = HUMS_NOISES * float(np.linalg.norm(still.density_mm_s2))
    if still.hum_mm_s2 > max(HUMS_MM_S2, chance):
        odd.append(Remark("hums", frequency=still.hum_hz, size=still.hum_mm_s2 / 1000))
    return odd
