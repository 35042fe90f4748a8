"""From fed lengths to steps per mm: which runs count, the scale, the verdict. No sentences."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from omphalon.arrays import Array, Mask
from omphalon.constants import NORMAL_95
from omphalon.physics import scale
from omphalon.physics.scale import Estimate
from omphalon.recording import Readings
from omphalon.studies.answer import (
    Oddity,
    Retest,
    Unanswerable,
    Verdict,
    belonging,
    narrow_enough,
    refuse_gross,
)
from omphalon.studies.extruder.question import DriveParts, ExtruderQuestion, FedRuns, fed_runs

MATTERS = 0.015  # share of plastic that is seen on a print: a wall's 1.5 %
LARGE = 0.15  # more than wear or tolerance
FURTHEST = 1.6  # no drive is further off than that
THEORY_WITHIN = 0.10
SLIPPED = 0.005
SEVERAL = 0.2  # of the longest asked length: a range that tells a zero error from the scale


@dataclass(frozen=True, kw_only=True)
class ExtruderFit:
    """The scale of the runs that count, the steps it makes, and what was odd. `offset` is a zero
    error kept out of it; `best_steps`: what the readings say; `steps`: kept, or new.
    """

    runs: FedRuns
    keep: Mask
    scale: Estimate
    offset: Estimate | None
    best_steps: float
    steps: float
    half_width: float
    verdict: Verdict
    oddities: tuple[Oddity, ...]

    @property
    def used(self) -> int:
        """Runs that count."""
        return int(self.keep.sum())


def fit_extruder(readings: Readings, question: ExtruderQuestion) -> ExtruderFit | Retest:
    """Find the steps per mm that feed what is asked.

    Parameters
    ----------
    readings : rows with asked_mm and one way of measuring what came
    question : the present steps and how it was read

    Returns
    -------
    ExtruderFit
        New steps = steps × asked ÷ fed, with the interval of marks, rule and scatter.
    Retest
        Where the runs cannot carry an answer.

    Raises
    ------
    UsageError, BadReading
        If readings are missing or cannot be.
    """
    runs = fed_runs(readings, question)
    try:
        return _extruder_fit(runs, question)
    except Unanswerable as refusal:
        return refusal.retest


def _extruder_fit(runs: FedRuns, question: ExtruderQuestion) -> ExtruderFit:
    refuse_gross(float(np.median(runs.fed_mm / runs.asked_mm)), furthest=FURTHEST)
    _refuse_swapped(runs)
    slow, odd = _without_slip(runs)
    keep, left_out = _belonging(runs, slow)
    odd += left_out
    asked, fed = runs.asked_mm[keep], runs.fed_mm[keep]
    line = (
        scale.line_of(asked, fed, np.ones((len(fed), 1)), runs.known) if _several(asked) else None
    )
    found = line.scale if line else scale.scale_of(asked, fed, runs.known)
    refuse_gross(found.value, odd, FURTHEST)
    changed = found.tells(1.0)
    if not changed:
        narrow_enough(found, MATTERS, len(fed), odd)
    new = question.steps / found.value
    if len(fed) == 1:
        odd.append(
            Oddity("one-reading", "one", {"error": NORMAL_95 * scale.HAND * runs.known.whole})
        )
    odd += _against_parts(new, question.parts)
    if abs(found.value - 1) > LARGE and changed:
        odd.append(Oddity("large-correction", "large", {"share": abs(1 / found.value - 1)}))
    return ExtruderFit(
        runs=runs,
        keep=keep,
        scale=found,
        offset=line.offsets[0] if line else None,
        best_steps=new,
        steps=new if changed else question.steps,
        half_width=new * found.half_width / found.value,
        verdict="change" if changed else "keep",
        oddities=tuple(odd),
    )


def _refuse_swapped(runs: FedRuns) -> None:
    """Readings that are all one round number against asked lengths that are not: the columns
    changed places.
    """
    round_fed = np.all(runs.fed_mm == runs.fed_mm[0]) and float(runs.fed_mm[0]).is_integer()
    odd = np.any(runs.asked_mm % 1 != 0) and np.ptp(runs.asked_mm) > 0
    if len(runs.fed_mm) > 1 and round_fed and odd:
        raise Unanswerable("swapped")


def _several(asked: Array) -> bool:
    """Whether there are lengths enough to tell a zero error (of mark or edge) from the scale."""
    return len(asked) >= 3 and float(np.ptp(asked)) > SEVERAL * float(asked.max())


def _belonging(runs: FedRuns, slow: Mask) -> tuple[Mask, list[Oddity]]:
    """Of the slow runs those that lie with the others on one ratio."""
    some = [r for r, s in zip(runs.rows, slow, strict=True) if s]
    asked = runs.asked_mm[slow]
    columns = np.stack([asked, np.ones(len(asked))], axis=1) if _several(asked) else asked[:, None]
    kept = belonging(
        columns,
        runs.fed_mm[slow],
        runs.known.whole,
        [r.where for r in some],
        [r.numbers[runs.read_column] for r in some],
        runs.way.signs[-1],
    )
    keep = slow.copy()
    keep[slow] = kept.keep
    return keep, list(kept.oddities)


def _without_slip(runs: FedRuns) -> tuple[Mask, list[Oddity]]:
    """Where the ratio falls with speed beyond chance, only the slowest runs count."""
    every = np.ones(len(runs.fed_mm), bool)
    if not all("speed_mm_s" in r.numbers for r in runs.rows):
        return every, []
    speed = np.array([r.value("speed_mm_s") for r in runs.rows])
    ratio = runs.fed_mm / runs.asked_mm
    within = sum(
        float(np.sum((ratio[speed == s] - ratio[speed == s].mean()) ** 2)) for s in np.unique(speed)
    )
    freedom = len(speed) - len(np.unique(speed))
    one, _ = scale.pooled(within * float(np.mean(runs.asked_mm**2)), freedom, runs.known.whole)
    fall, sure = scale.falls_with(speed, ratio, one / runs.asked_mm)
    if not sure or fall < SLIPPED:
        return every, []
    slowest = speed <= speed.min() * 1.01
    return slowest, [
        Oddity(
            "slip", "slip", {"fall": fall, "slow": float(speed.min()), "fast": float(speed.max())}
        )
    ]


def _against_parts(new: float, parts: DriveParts | None) -> list[Oddity]:
    if parts is None or abs(new / parts.steps_per_mm - 1) < THEORY_WITHIN:
        return []
    return [Oddity("theory-differs", "theory", {"built": parts.steps_per_mm, "new": new})]
