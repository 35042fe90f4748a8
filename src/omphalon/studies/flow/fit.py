"""From walls to a flow multiplier: which walls belong, their mean, the verdict. No sentences."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from omphalon.arrays import Mask
from omphalon.physics import scale
from omphalon.physics.scale import Estimate
from omphalon.recording import Reading, Readings
from omphalon.studies.answer import (
    Oddity,
    Retest,
    Unanswerable,
    Verdict,
    belonging,
    narrow_enough,
)
from omphalon.studies.flow.filament import Filament, measured
from omphalon.studies.flow.question import FlowQuestion, Walls, walls

FEWEST = 3
MATTERS = 0.04  # share of plastic that shows on a wall
LARGE = 0.15
FURTHEST = 2.0
DOUBLED = (1.9, 2.1)  # two walls taken for one
APART = 4.0  # deviations of the sides' means beyond which they differ


@dataclass(frozen=True, kw_only=True)
class FlowFit:
    """The mean of the walls that belong, the multiplier it makes, and what was odd; the filament,
    where it was measured too. The walls hold its width already: it says what part of the correction
    is the filament's, and how the rest of the roll may differ.
    """

    walls: Walls
    keep: Mask
    mean: Estimate
    best_flow: float
    flow: float
    half_width: float
    verdict: Verdict
    oddities: tuple[Oddity, ...]
    filament: Filament | None = None


def fit_flow(
    readings: Readings, question: FlowQuestion, widths: Readings | None = None
) -> FlowFit | Retest:
    """Find the flow multiplier that makes walls as thick as they should be.

    Parameters
    ----------
    readings : rows with wall_mm, and side where it is known
    question : the present multiplier, the expected wall, and how it was read
    widths : rows with diameter_mm, two for each place, where the filament was measured too

    Returns
    -------
    FlowFit
        New flow = flow × expected ÷ mean wall.
    Retest
        Where the walls cannot carry an answer.

    Raises
    ------
    UsageError, BadReading
        If readings are missing or cannot be.
    """
    found = walls(readings, question)
    try:
        filament = None if widths is None else measured(widths, question)
        return _flow_fit(found, question, filament)
    except Unanswerable as refusal:
        return refusal.retest


def _flow_fit(found: Walls, question: FlowQuestion, filament: Filament | None) -> FlowFit:
    values, expected = found.values_mm, question.wall_mm
    middle = float(np.median(values))
    if not 1 / FURTHEST < middle / expected < FURTHEST:
        unit = DOUBLED[0] < middle / expected < DOUBLED[1] or not 0.12 < middle / expected < 8
        raise Unanswerable(
            "no-such-flow",
            middle=middle,
            expected=expected,
            hint=" (two walls for one, or the wrong unit?)" if unit else "",
        )
    if len(values) < FEWEST:
        raise Unanswerable("few", count=len(values))
    kept = belonging(
        np.ones((len(values), 1)),
        values,
        found.known.whole,
        [r.where for r in found.rows],
        [r.numbers["wall_mm"] for r in found.rows],
    )
    mean = scale.mean_of(values[kept.keep], found.known)
    changed = mean.tells(expected)
    if not changed:
        narrow_enough(mean, MATTERS * expected, int(kept.keep.sum()), kept.oddities)
    new = question.flow * expected / mean.value
    odd = [*kept.oddities, *_sides(found.rows, kept.keep, mean.deviation)]
    if abs(new / question.flow - 1) > LARGE and changed:
        odd.append(Oddity("large-correction", "large", {"share": abs(new / question.flow - 1)}))
    return FlowFit(
        walls=found,
        keep=kept.keep,
        mean=mean,
        best_flow=new,
        flow=new if changed else question.flow,
        half_width=new * mean.half_width / mean.value,
        verdict="change" if changed else "keep",
        oddities=(*odd, *(() if filament is None else filament.oddities)),
        filament=filament,
    )


def _sides(rows: tuple[Reading, ...], keep: Mask, deviation: float) -> list[Oddity]:
    """Whether one side's walls are thicker than another's, beyond chance."""
    sides: dict[str, list[float]] = {}
    for row, good in zip(rows, keep, strict=True):
        if good and row.words.get("side"):
            sides.setdefault(row.words["side"], []).append(row.value("wall_mm"))
    means = {name: (float(np.mean(v)), len(v)) for name, v in sides.items() if len(v) > 1}
    if len(means) < 2:
        return []
    inner = math.sqrt(
        sum(float(np.sum((np.array(sides[n]) - means[n][0]) ** 2)) for n in means)
        / max(sum(means[n][1] - 1 for n in means), 1)
    )
    one = min(max(inner, deviation / 3), deviation)
    thick, thin = max(means, key=lambda s: means[s][0]), min(means, key=lambda s: means[s][0])
    gap = means[thick][0] - means[thin][0]
    if gap < APART * one / math.sqrt(min(means[thick][1], means[thin][1])):
        return []
    return [Oddity("walls-differ", "sides", {"thick": thick, "thin": thin, "gap": gap})]
