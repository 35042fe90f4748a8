"""What mean widths differ by where the lead is right: windows that end before the pressure has, and
fast lines that are thinner on the whole. Taken off, so that the readings cross zero at the lead.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from omphalon.arrays import Array
from omphalon.physics.flow import Laid, fit_flow

NEAR = 8  # values nearest to where the means are alike, that the flow is fitted to


def late_mm(
    lines: Sequence[Laid], difference: Callable[[Array, Array], float], height_mm: float
) -> float:
    """By how much a difference of means is off zero at the lead; 0 where no flow can be fitted.

    Parameters
    ----------
    lines : as they were laid and seen; those of one value alike but for their widths
    difference : of the means, by places along a line and widths there, (n,) each
    height_mm : of the layer
    """
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
