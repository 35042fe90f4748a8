"""The best value of a stepped print: from picks, a clean range, or scores of its blocks."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from omphalon.answers.finding import Verdict
from omphalon.answers.remarks import Refusal
from omphalon.base.arrays import Array
from omphalon.physics.lead import END_READ, VALUE_READ, Best, NoAnswer, clean_range, peak, picked
from omphalon.recordings.recording import Readings
from omphalon.studies.trial.question import TrialQuestion, values_and_scores


@dataclass(frozen=True, kw_only=True)
class TrialFit:
    """The best value with the half width of its 95 % interval, how it was read, and whether the
    present one serves.
    """

    question: TrialQuestion
    value: float
    half_width: float
    method: str
    looks: int
    verdict: Verdict


def fit_trial(readings: Readings, question: TrialQuestion) -> TrialFit:
    """Find the value that prints best.

    `readings`: rows with value, and perhaps score. Raises Refusal where they hold no best value.
    """
    values, scores = values_and_scores(readings, question)
    asked = question.asked
    if question.clean is not None:
        low, high = sorted(question.clean)
        best, method = clean_range(low, high, asked.varied.clean_at, END_READ * asked.step), "range"
    elif scores is not None:
        best, method = _by_score(values, scores, question), "scores"
    else:
        span = (min(asked.values), max(asked.values))
        best, method = picked(values, VALUE_READ * asked.step, asked.step, span), "picks"
    half = max(best.half_width, asked.step / 2)  # the shape between two blocks is not seen
    serves = question.present is not None and abs(question.present - best.value) <= half
    return TrialFit(
        question=question,
        value=best.value,
        half_width=half,
        method=method,
        looks=len(values),
        verdict="keep" if serves else "change",
    )


def _by_score(values: Array, scores: Array, question: TrialQuestion) -> Best:
    """By the curve of the scores; where they are too few for one, the block with the best score."""
    asked = question.asked
    if len(np.unique(values)) < 3:
        raise Refusal("trial-few", count=len(np.unique(values)))
    try:
        return peak(values, scores, float(np.diff(np.unique(scores)).min(initial=math.inf)))
    except NoAnswer as none:
        best = np.unique(values[scores == scores.max()])
        if len(best) == len(np.unique(values)):
            raise Refusal("trial-flat") from none
        if best[0] == values.min() or best[-1] == values.max():
            raise Refusal("trial-beyond", end=asked.varied.shown(float(best.mean()))) from none
        return picked(best, VALUE_READ * asked.step, asked.step, (values.min(), values.max()))
