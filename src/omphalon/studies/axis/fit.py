"""From measured moves or parts to steps per mm: the scale, its zero error and backlash, the
verdict. No sentences.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
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
from omphalon.studies.axis.question import AxisQuestion, AxisRuns, Rectangle, TravelParts, axis_runs

MATTERS = 0.003  # share of a length that matters on a part: 0.3 mm on 100 mm
LARGE = 0.02  # more than belts and screws are off by
FURTHEST = 1.6
THEORY_WITHIN = 0.02
SEVERAL = 0.2  # of the longest length: a range that tells a zero error from the scale
BACKLASH_MM = 0.02  # less is no matter


@dataclass(frozen=True, kw_only=True)
class AxisSteps:
    """One axis: the scale of its readings, the zero error and the backlash kept out of it, the
    steps, the verdict.
    """

    runs: AxisRuns
    keep: Mask
    scale: Estimate
    offset: Estimate | None
    backlash: Estimate | None
    side: Array
    present: float
    best_steps: float
    steps: float
    half_width: float
    verdict: Verdict

    @property
    def axis(self) -> str:
        """Its name."""
        return self.runs.axis


@dataclass(frozen=True, kw_only=True)
class AxisFit:
    """All axes, the skew of X to Y where a rectangle tells it, and what was odd."""

    axes: tuple[AxisSteps, ...]
    skew_deg: float | None
    oddities: tuple[Oddity, ...]

    @property
    def verdict(self) -> Verdict:
        """`keep` only where every axis keeps."""
        return "keep" if all(a.verdict == "keep" for a in self.axes) else "change"


def fit_axis(readings: Readings, question: AxisQuestion) -> AxisFit | Retest:
    """Find the steps per mm with which the axes move and print what is asked.

    Parameters
    ----------
    readings : rows with axis, asked_mm, moved_mm and kind
    question : the present steps and how it was read

    Returns
    -------
    AxisFit
        New steps = steps × asked ÷ moved, a zero error and a backlash kept out of it where the
        lengths allow.
    Retest
        Where the readings cannot carry an answer.

    Raises
    ------
    UsageError, BadReading
        If readings are missing or cannot be.
    """
    runs = axis_runs(readings, question)
    odd: list[Oddity] = []
    try:
        axes = tuple(_axis_steps(one, question, odd) for one in runs)
    except Unanswerable as refusal:
        return Retest(refusal.retest.reason, refusal.retest.facts, (*odd, *refusal.retest.oddities))
    return AxisFit(
        axes=axes,
        skew_deg=None if question.rectangle is None else _skew(question.rectangle),
        oddities=tuple(odd),
    )


def _axis_steps(runs: AxisRuns, question: AxisQuestion, odd: list[Oddity]) -> AxisSteps:
    name, asked, moved = runs.axis, runs.asked_mm, runs.moved_mm
    refuse_gross(float(np.median(moved / asked)), odd, FURTHEST)
    side = np.array([-1.0 if k == "inside" else 1.0 for k in runs.kinds])
    names, sides = _sides(runs, side)
    columns = np.column_stack([asked, *sides]) if sides else asked[:, None]
    kept = belonging(
        columns,
        moved,
        runs.known.whole,
        [r.where for r in runs.rows],
        [r.numbers["moved_mm"] for r in runs.rows],
    )
    keep = kept.keep
    odd += kept.oddities
    found, errors = _scale_and_offsets(asked[keep], moved[keep], columns[keep, 1:], runs)
    refuse_gross(found.value, odd, FURTHEST)
    apart = dict(zip(names, errors, strict=False))
    backlash = apart.get("backlash")
    if backlash is not None and abs(backlash.value) > max(backlash.half_width, BACKLASH_MM / 2):
        odd.append(Oddity("backlash", "backlash", {"axis": name, "gap": abs(2 * backlash.value)}))
    present = question.steps[name]
    if len(asked) == 1:
        error = NORMAL_95 * scale.HAND * runs.known.whole
        odd.append(Oddity("one-reading", "one", {"axis": name, "error": error}))
    changed = found.tells(1.0)
    _against_parts(name, present / found.value if changed else present, question.parts)
    if not changed:
        narrow_enough(found, MATTERS, int(keep.sum()))
    new = present / found.value
    if abs(found.value - 1) > LARGE and changed:
        odd.append(
            Oddity("large-correction", "large", {"axis": name, "share": abs(1 / found.value - 1)})
        )
    return AxisSteps(
        runs=runs,
        keep=keep,
        scale=found,
        offset=apart.get("offset"),
        backlash=backlash,
        side=side,
        present=present,
        best_steps=new,
        steps=new if changed else present,
        half_width=new * found.half_width / found.value,
        verdict="change" if changed else "keep",
    )


def _sides(runs: AxisRuns, side: Array) -> tuple[list[str], list[Array]]:
    """The errors that do not grow with the length and that these readings can tell apart from the
    scale.

    Raises Unanswerable for one length of a printed part: scale and line width cannot be parted.
    """
    lengths = np.unique(np.round(runs.asked_mm, 3))
    several = len(lengths) > 1 and float(np.ptp(runs.asked_mm)) > SEVERAL * float(
        runs.asked_mm.max()
    )
    both = len(np.unique(side)) > 1
    parts = any(k != "move" for k in runs.kinds)
    if parts and not several and not both:
        longer = (
            f"{3 * lengths[0]:g} and {5 * lengths[0]:g} mm"
            if lengths[0] <= 40
            else f"{lengths[0] / 4:g} mm"
        )
        raise Unanswerable("one-length", axis=runs.axis, longer=longer)
    names, columns = [], []
    if several or both:
        names.append("offset")
        columns.append(side)
    if len(np.unique(runs.direction)) > 1:
        names.append("backlash")
        columns.append(runs.direction)
    return names, columns


def _scale_and_offsets(
    asked: Array, moved: Array, sides: Array, runs: AxisRuns
) -> tuple[Estimate, Sequence[Estimate]]:
    """The scale, and the errors where enough readings are left to part them."""
    if (
        sides.shape[1]
        and len(asked) > sides.shape[1]
        and np.linalg.matrix_rank(np.column_stack([asked, sides])) > sides.shape[1]
    ):
        line = scale.line_of(asked, moved, sides, runs.known)
        return line.scale, line.offsets
    return scale.scale_of(asked, moved, runs.known), ()


def _against_parts(axis: str, steps: float, parts: TravelParts | None) -> None:
    """Refuse a value further from what the parts make than any tolerance."""
    if parts is None:
        return
    built = parts.steps_per_mm
    for factor in (2, 4, 0.5, 0.25):
        if abs(steps / built / factor - 1) < THEORY_WITHIN:
            raise Unanswerable("microsteps", axis=axis, steps=steps, factor=factor, built=built)
    if abs(steps / built - 1) > THEORY_WITHIN:
        raise Unanswerable("theory", axis=axis, steps=steps, built=built, within=THEORY_WITHIN)


def _skew(rectangle: Rectangle) -> float:
    """How far the angle between X and Y is off a right one, in degrees, by the law of cosines for
    both diagonals.
    """
    one, two = rectangle.diagonals_mm
    return math.degrees((one**2 - two**2) / (4 * rectangle.sides_mm[0] * rectangle.sides_mm[1]))
