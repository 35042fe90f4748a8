"""From drag heights to the nozzle's offset: which drags belong, their mean, the verdict. No
sentences.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from omphalon.arrays import Mask
from omphalon.physics import scale
from omphalon.physics.scale import Estimate, Spread
from omphalon.recording import Readings
from omphalon.studies.answer import Oddity, Retest, Unanswerable, Verdict, readings_needed
from omphalon.studies.probe.question import Heights, ProbeQuestion, heights

FEWEST = 2
LARGE_MM = 0.5
FURTHEST_MM = 5.0  # a first guess by eye is nearer than that
MATTERS_MM = 0.06  # of a first layer of 0.2 mm: less squeezes or lifts it by less than a third
UNSTEADY_MM = 0.05
FAR_MM = 0.2  # an offset that is larger sits clearly on one side of the nozzle


@dataclass(frozen=True, kw_only=True)
class ProbeFit:
    """The mean drag height, the shift it asks for, the offset, how the probe repeats (None: not
    measured), what was odd.
    """

    heights: Heights
    keep: Mask
    mean: Estimate
    shift_mm: float
    repeatability_mm: float | None
    offset_mm: float
    half_width_mm: float
    verdict: Verdict
    oddities: tuple[Oddity, ...]


def fit_probe(readings: Readings, question: ProbeQuestion) -> ProbeFit | Retest:
    """Find the offset with which the paper drags at its own thickness.

    Returns
    -------
    ProbeFit
        New offset = offset + mean drag height − paper, with the feel's and the probe's own scatter
        in its interval.
    Retest
        Where the heights cannot carry an answer.

    Raises
    ------
    UsageError
        If there are none.
    """
    found = heights(readings)
    try:
        return _probe_fit(found, question)
    except Unanswerable as refusal:
        return refusal.retest


def _probe_fit(found: Heights, question: ProbeQuestion) -> ProbeFit:
    drags, triggers = found.drags_mm, found.triggers_mm
    repeat = float(np.std(triggers, ddof=1)) if len(triggers) > 1 else None
    if len(drags) < FEWEST:
        raise Unanswerable("few", count=len(drags))
    feel = Spread(question.feel_mm, 0.0)
    stranger = scale.strangers(np.ones((len(drags), 1)), drags, question.feel_mm)
    if stranger.unclear:
        raise Unanswerable("disagree")
    odd = [
        Oddity("reading-left-out", "left-out-drag", {"where": found.where[k]})
        for k in np.flatnonzero(stranger.out)
    ]
    if repeat is not None and repeat > UNSTEADY_MM:
        odd.append(Oddity("probe-unsteady", "unsteady", {"repeat": repeat}))
    mean = scale.mean_of(drags[~stranger.out], feel)
    shift = mean.value - question.paper_mm
    half = math.hypot(mean.half_width, _trigger_half(triggers, repeat))
    changed = abs(shift) > scale.TELLING * half
    if abs(shift) > FURTHEST_MM:
        raise Unanswerable("far", odd, shift=shift)
    if not changed and half > MATTERS_MM:
        raise Unanswerable(
            "wide",
            odd,
            half_width=half,
            matters=MATTERS_MM,
            count=readings_needed(half, MATTERS_MM, len(drags)),
        )
    new = question.offset_mm + shift
    if abs(shift) > LARGE_MM:
        odd.append(Oddity("large-correction", "large", {"shift": shift}))
    if question.offset_mm * new < 0 and abs(question.offset_mm) > FAR_MM and changed:
        odd.append(Oddity("large-correction", "sign"))
    return ProbeFit(
        heights=found,
        keep=~stranger.out,
        mean=mean,
        shift_mm=shift,
        repeatability_mm=repeat,
        offset_mm=new if changed else question.offset_mm,
        half_width_mm=half,
        verdict="change" if changed else "keep",
        oddities=tuple(odd),
    )


def _trigger_half(triggers: np.ndarray, repeat: float | None) -> float:
    """Half width of the mean trigger height's interval; 0 where the probe was not tried."""
    return (
        0.0
        if repeat is None
        else scale.student_95(len(triggers) - 1) * repeat / math.sqrt(len(triggers))
    )
