"""Whether a cube's corners are better than before, against the caliper's error."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from omphalon.columns import PRINTS
from omphalon.errors import UsageError, echoed
from omphalon.finding import Finding, Shown
from omphalon.physics import scale
from omphalon.recording import Reading, Readings
from omphalon.studies.wording import Unsupported, noted

Array = NDArray[np.float64]

LENGTHS = ("bulge_mm", "diagonal_mm", "x_mm", "y_mm")
CALIPER_MM = 0.02  # how unlike a caliper is put to a corner
FEWEST = 2


@dataclass(frozen=True)
class CornersPicture:
    """What plots/ draws: each corner's bulge (mm) before and after, their means and half widths,
    one reading's deviation.
    """

    bulges_mm: tuple[Array, Array]
    names: tuple[tuple[str, ...], tuple[str, ...]]
    means: tuple[scale.Estimate, scale.Estimate]
    deviation_mm: float


def check_advance(readings: Readings, seam: str | None, resolution_mm: float | None) -> Finding:
    """Whether corners bulge (or lack) less than before, by how much, against the error of reading
    them.
    """
    try:
        return _judged(readings, seam, resolution_mm)
    except Unsupported as refusal:
        return refusal.finding("advance-check", noted(readings))


def _judged(readings: Readings, seam: str | None, resolution_mm: float | None) -> Finding:
    groups: dict[str, list[tuple[str, float]]] = {name: [] for name in PRINTS}
    for row in readings.rows:
        which = row.words.get("print", "")
        if which not in PRINTS:
            raise UsageError(f"{row.where}: print '{echoed(which)}'", "write before or after")
        if seam is None or row.words.get("corner", "") != seam.lower():
            groups[which].append((row.words.get("corner", ""), _bulge(row)))
    if seam is not None and all(r.words.get("corner", "") != seam.lower() for r in readings.rows):
        raise UsageError(
            f"--seam {seam}: no corner of that name", "name it as in the file's column corner"
        )
    for name, corners in groups.items():
        if len(corners) < FEWEST:
            raise Unsupported(
                f"{len(corners)} corner{'s'[: len(corners) != 1]} {name}, {FEWEST} at least are "
                "needed",
                "measure the same three corners of both prints, without the seam's",
            )
    # a diagonal's bulge is half of a difference of readings; its own error is no larger than a
    # bulge read directly
    caliper = scale.reading_spread(resolution_mm or max(readings.step(*LENGTHS), 0.01), CALIPER_MM)
    bulges = [np.array([bulge for _, bulge in groups[name]]) for name in PRINTS]
    sizes = [scale.mean_of(np.abs(b), caliper) for b in bulges]
    means = [scale.mean_of(b, caliper) for b in bulges]
    gain = sizes[0].value - sizes[1].value
    error = math.hypot(sizes[0].half_width, sizes[1].half_width)
    verdict, because = _verdict(gain, error, means[1])
    side = "bulge" if means[1].value > 0 else "lack"
    table = (
        Shown("corners", ("before", "after", "")),
        Shown(
            "mean bulge",
            (f"{means[0].value:+.3f}", f"{means[1].value:+.3f}", f"± {means[1].half_width:.3f} mm"),
        ),
        Shown(
            "size of fault",
            (f"{sizes[0].value:.3f}", f"{sizes[1].value:.3f}", f"± {sizes[1].half_width:.3f} mm"),
        ),
        Shown(
            "one reading",
            (
                f"± {2 * caliper.whole:.3f} mm by the caliper; "
                + (
                    f"corner {seam} left out: the seam"
                    if seam
                    else "no seam corner was named (--seam)"
                ),
            ),
        ),
    )
    return Finding(
        "advance-check",
        verdict,
        because,
        evidence={
            "before_mm": means[0].value,
            "after_mm": means[1].value,
            "gain_mm": gain,
            "gain_spread_mm": error,
            "corners": [len(b) for b in bulges],
        },
        next=(
            "print a tower or a ladder around the present value: `omphalon advance plan --style "
            "tower`; corners now "
            f"{side}, so the value is too {'small' if side == 'bulge' else 'large'}"
        )
        if verdict == "change"
        else "nothing; check again with another filament, nozzle or temperature",
        warnings=tuple(noted(readings)),
        table=table,
        picture=CornersPicture(
            (bulges[0], bulges[1]),
            (tuple(n for n, _ in groups["before"]), tuple(n for n, _ in groups["after"])),
            (means[0], means[1]),
            caliper.whole,
        ),
    )


def _verdict(gain: float, error: float, after: scale.Estimate) -> tuple[str, str]:
    told = f"{abs(gain):.3f} ± {error:.3f} mm"
    if gain < -error:
        return "change", f"it did not help: corners are worse than before by {told}"
    if gain > error:
        return "keep", f"it helped: corners are better by {told}" + (
            ", and no fault is left that the caliper can tell"
            if abs(after.value) <= after.half_width
            else f"; what is left, {after.value:+.3f} mm, another print may take off"
        )
    if abs(after.value) <= after.half_width:
        return (
            "keep",
            f"corners are clean within the caliper's error, before and after ({told} between them)",
        )
    if abs(after.value) > 3 * after.half_width:
        return (
            "change",
            f"it made no difference that can be told ({told}), and corners are still "
            f"{after.value:+.3f} mm off",
        )
    return (
        "keep",
        f"before and after cannot be told apart ({told}); what is left is {after.value:+.3f} mm",
    )


def _bulge(row: Reading) -> float:
    """Bulge of one corner: as read, or half of what the diagonal has more than the sides make
    it.
    """
    if "bulge_mm" in row.numbers:
        return row.value("bulge_mm")
    if all(n in row.numbers for n in ("diagonal_mm", "x_mm", "y_mm")):
        return (row.value("diagonal_mm") - math.hypot(row.value("x_mm"), row.value("y_mm"))) / 2
    raise UsageError(f"{row.where}: no bulge", "give bulge_mm, or diagonal_mm with x_mm and y_mm")
