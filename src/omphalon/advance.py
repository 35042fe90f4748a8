"""Pressure advance, from what was read of a print, as arrays or data frames: nothing is printed, or
read from disk.
"""

from __future__ import annotations

from omphalon.answers.remarks import Refusal
from omphalon.recordings import frames
from omphalon.recordings.frames import Frame
from omphalon.studies.advance.fit import AdvanceFit, fit_advance
from omphalon.studies.advance.question import AdvanceQuestion

__all__ = ["AdvanceFit", "AdvanceQuestion", "Refusal", "fit"]


def fit(frame: Frame, question: AdvanceQuestion | None = None) -> AdvanceFit:
    """The value at which corners are best: `value_s` ± `half_width_s`, `verdict`, `refine` (the
    next print, None where the search is over), `remarks`.

    Parameters
    ----------
    frame : `advance_s` with `speedup_mm` and `slowdown_mm`, with `bulge_mm`, or with `score`; or
        `height_mm` of a tower
    question : the tower's values, the drive, the present value

    Raises
    ------
    Refusal
        Where the readings cannot carry a value.
    """
    return fit_advance(frames.readings(frame, "advance"), question or AdvanceQuestion())
