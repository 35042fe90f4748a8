"""Pressure advance, from what was read of a print, as arrays or data frames: nothing is printed, or
read from disk.
"""

from __future__ import annotations

from omphalon.lines.dialect import load_dialect
from omphalon.recordings import frames
from omphalon.recordings.frames import Frame
from omphalon.report.result import Result
from omphalon.studies.advance.question import AdvanceQuestion
from omphalon.studies.advance.words import advance_answer

__all__ = ["AdvanceQuestion", "Result", "fit"]


def fit(frame: Frame, question: AdvanceQuestion | None = None) -> Result:
    """The value at which corners are best; the next print, or None, is `refine` in `evidence`.

    Parameters
    ----------
    frame : `advance_s` with `speedup_mm` and `slowdown_mm`, with `bulge_mm`, or with `score`; or
        `height_mm` of a tower
    question : the tower's values, the drive, the present value
    """
    readings = frames.readings(frame, "advance")
    return Result(advance_answer(readings, question or AdvanceQuestion(), load_dialect(None)))
