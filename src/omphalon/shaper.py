"""Input shapers, from accelerometer logs as arrays or data frames: nothing is printed, or read from
disk.
"""

from __future__ import annotations

import numpy as np

from omphalon.lines.dialect import load_dialect
from omphalon.physics.resonance import Mode
from omphalon.physics.shaping import Candidate, Limits, candidates
from omphalon.recordings import frames
from omphalon.recordings.frames import Frame
from omphalon.recordings.recording import MotionLog
from omphalon.report.result import Result
from omphalon.studies.shaper.question import ShaperInUse, ShaperQuestion
from omphalon.studies.shaper.words import shaper_answer

__all__ = [
    "Candidate",
    "Limits",
    "Mode",
    "Result",
    "ShaperInUse",
    "ShaperQuestion",
    "candidates",
    "fit",
    "motion_log",
]


def motion_log(frame: Frame) -> MotionLog:
    """A log of an accelerometer: columns `time_s`, and `x`, `y`, `z` in mm/s² along the sensor's
    axes.
    """
    time, *axes = frames.columns(frame, "time_s", "x", "y", "z")
    return MotionLog(
        source="frame",
        time_s=time - time[:1],
        acceleration_mm_s2=np.stack(axes, axis=1),
        unit="mm/s²",
    )


def fit(question: ShaperQuestion) -> Result:
    """The shaper of each axis and the acceleration that both allow, as `shaper fit` answers; modes
    with their intervals, and what other shapers would allow, in `evidence`.

    Parameters
    ----------
    question : `logs` by axis; the shapers offered, the limits of ringing and rounding, what is in
        force
    """
    return Result(shaper_answer(question, load_dialect(None)))
