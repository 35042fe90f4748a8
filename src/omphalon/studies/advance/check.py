"""Whether a cube's corners are better than before, against the caliper's error. No sentences."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np

from omphalon.answers.finding import Verdict
from omphalon.answers.remarks import Refusal
from omphalon.base.arrays import Array
from omphalon.base.errors import UsageError, echoed
from omphalon.physics import scale
from omphalon.physics.scale import Estimate
from omphalon.recordings.columns import PRINTS
from omphalon.recordings.recording import Reading, Readings

Change = Literal["worse", "better", "clean", "same", "unclear"]

LENGTHS = ("bulge_mm", "diagonal_mm", "x_mm", "y_mm")
CALIPER_MM = 0.02  # how unlike a caliper is put to a corner
FEWEST_CORNERS = 2  # corners of a print
PLAINLY = 3.0  # intervals: a fault so large is plain


@dataclass(frozen=True, kw_only=True)
class CornersRead:
    """One print's corners: bulges (n,) in mm, their names, their mean, and the mean of their
    size.
    """

    bulges_mm: Array
    names: tuple[str, ...]
    mean: Estimate
    size: Estimate


@dataclass(frozen=True, kw_only=True)
class AdvanceCheck:
    """CornersRead before and after, how much smaller their fault is, and what that means."""

    before: CornersRead
    after: CornersRead
    gain_mm: float
    gain_half_mm: float
    reading_deviation_mm: float
    change: Change
    verdict: Verdict

    @property
    def left(self) -> bool:
        """Whether a fault is left that the caliper can tell."""
        return abs(self.after.mean.value) > self.after.mean.half_width


def check_advance(
    readings: Readings, seam: str | None = None, resolution_mm: float | None = None
) -> AdvanceCheck:
    """Judge whether corners bulge (or lack) less than before.

    `readings`: rows with print (before or after), and bulge_mm or diagonal_mm with x_mm and y_mm.
    `seam`: name of the corner with the seam, which is left out. `resolution_mm`: what the caliper
    reads to; None: from the digits. Raises Refusal where there are too few corners; UsageError if a
    row says neither before nor after, or no corner has the seam's name.
    """
    groups: dict[str, list[tuple[str, float]]] = {name: [] for name in PRINTS}
    for row in readings.rows:
        which, corner = row.words.get("print", ""), row.words.get("corner", "")
        if which not in PRINTS:
            raise UsageError(f"{row.where}: print '{echoed(which)}'", "write before or after")
        if seam is None or corner != seam.lower():
            groups[which].append((corner, _bulge(row)))
    if seam is not None and all(r.words.get("corner", "") != seam.lower() for r in readings.rows):
        raise UsageError(
            f"--seam {echoed(seam)}: no corner of that name",
            "name it as in the file's column corner",
        )
    return _judged(groups, resolution_mm or max(readings.step(*LENGTHS), 0.01))


def _judged(groups: dict[str, list[tuple[str, float]]], resolution_mm: float) -> AdvanceCheck:
    for name, corners in groups.items():
        if len(corners) < FEWEST_CORNERS:
            raise Refusal("few-corners", count=len(corners), print=name, fewest=FEWEST_CORNERS)
    # a diagonal's bulge is half of a difference of readings: its error is no larger than a bulge's
    caliper = scale.reading_spread(resolution_mm, CALIPER_MM)
    before, after = (_corners(groups[name], caliper) for name in PRINTS)
    gain = before.size.value - after.size.value
    error = math.hypot(before.size.half_width, after.size.half_width)
    change = _change(gain, error, after.mean)
    return AdvanceCheck(
        before=before,
        after=after,
        gain_mm=gain,
        gain_half_mm=error,
        reading_deviation_mm=caliper.whole,
        change=change,
        verdict="change" if change in ("worse", "same") else "keep",
    )


def _corners(corners: list[tuple[str, float]], caliper: scale.Spread) -> CornersRead:
    bulges = np.array([bulge for _, bulge in corners])
    return CornersRead(
        bulges_mm=bulges,
        names=tuple(name for name, _ in corners),
        mean=scale.mean_of(bulges, caliper),
        size=scale.mean_of(np.abs(bulges), caliper),
    )


def _change(gain: float, error: float, after: Estimate) -> Change:
    if gain < -error:
        return "worse"
    if gain > error:
        return "better"
    if abs(after.value) <= after.half_width:
        return "clean"
    return "same" if abs(after.value) > PLAINLY * after.half_width else "unclear"


def _bulge(row: Reading) -> float:
    """Bulge of one corner: as read, or half of what the diagonal has more than the sides make
    it.
    """
    if "bulge_mm" in row.numbers:
        return row.value("bulge_mm")
    if all(n in row.numbers for n in ("diagonal_mm", "x_mm", "y_mm")):
        return (row.value("diagonal_mm") - math.hypot(row.value("x_mm"), row.value("y_mm"))) / 2
    raise UsageError(f"{row.where}: no bulge", "give bulge_mm, or diagonal_mm with x_mm and y_mm")
