"""What mean widths differ by where the lead is right: windows that end before the pressure has, and
fast lines that are thinner on the whole. Taken off, so that the readings cross zero at the lead.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from omphalon.arrays import Array
from omphalon.physics.edges import Edges
from omphalon.physics.flow import Laid, fit_flow

Windows = Sequence[tuple[float, float]]  # from, to along a line, in mm
AFTER_SLOW, AFTER_FAST = 0.4, 0.7  # of a slow and of a fast stretch are read behind a change
NEAR = 8  # values nearest to where the means are alike, that the flow is fitted to


def windows_of(
    stretches_mm: Sequence[float], slow_mm_s: float, fast_mm_s: float, acceleration_mm_s2: float
) -> tuple[Windows, Windows]:
    """What is read of a line whose stretches are slow and fast in turn: behind each change to fast
    while the head speeds up and on, and behind each to slow from where it brakes.
    """
    turns = np.cumsum(stretches_mm).tolist()
    braking = (fast_mm_s**2 - slow_mm_s**2) / (2 * acceleration_mm_s2)
    on = AFTER_FAST * (stretches_mm[1] - 2 * braking)
    ups = [(turn, turn + braking + on) for turn in turns[:-1:2]]
    return ups, [(turn - braking, turn + AFTER_SLOW * stretches_mm[0]) for turn in turns[1::2]]


def laid_line(
    value_s: float,
    turns_mm: Sequence[float],
    speeds_mm_s: Sequence[float],
    acceleration_mm_s2: float,
    seen: Edges,
) -> Laid:
    """A line as it was laid, and as its edges are seen in a picture."""
    return Laid(
        value_s=value_s,
        turns_mm=tuple(turns_mm),
        speeds_mm_s=tuple(speeds_mm_s),
        acceleration_mm_s2=acceleration_mm_s2,
        along_mm=seen.along_mm,
        width_mm=np.where(seen.good, seen.width_mm, np.nan),
    )


def late_mm(lines: Sequence[Laid], ups: Windows, downs: Windows, height_mm: float) -> float:
    """What the mean width behind changes to slow has over that behind changes to fast at the lead;
    0 where no flow can be fitted.

    Parameters
    ----------
    lines : as they were laid and seen; those of one value alike but for their widths
    ups, downs : the stretches that are read behind each change
    height_mm : of the layer
    """

    def difference(along: Array, width: Array) -> float:
        means = [
            float(np.mean([np.nanmean(width[(along >= a) & (along < b)]) for a, b in some]))
            for some in (ups, downs)
        ]
        return means[1] - means[0]

    values = sorted({one.value_s for one in lines})
    whole = []
    for value in values:
        own = [one for one in lines if one.value_s == value]
        count = min(len(one.along_mm) for one in own)
        widths = np.stack([one.width_mm[:count] for one in own])
        seen = np.isfinite(widths)
        mean = np.where(seen, widths, 0).sum(axis=0) / np.maximum(seen.sum(axis=0), 1)
        mean = np.where(seen.any(axis=0), mean, np.nan)
        whole.append(replace(own[0], along_mm=own[0].along_mm[:count], width_mm=mean))
    off = [abs(difference(one.along_mm, one.width_mm)) for one in whole]
    order = [n for n in np.argsort(off) if np.isfinite(off[n])]
    flow = fit_flow([whole[n] for n in order[:NEAR]], height_mm)
    if flow is None:
        return 0.0
    at = replace(whole[0], value_s=flow.lead_s)
    return difference(at.along_mm, flow.modelled(at))
