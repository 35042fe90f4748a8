"""Input shapers, from accelerometer logs as arrays or data frames: nothing is printed, or read from
disk.
"""

from __future__ import annotations

import numpy as np

from omphalon.answers.remarks import Refusal
from omphalon.physics.resonance import Mode
from omphalon.physics.shaping import Candidate, Limits, candidates
from omphalon.recordings import frames
from omphalon.recordings.frames import Frame
from omphalon.recordings.recording import MotionLog
from omphalon.studies.shaper.fit import ShaperFit, fit_shaper
from omphalon.studies.shaper.question import ShaperInUse, ShaperQuestion

__all__ = [
    "Candidate",
    "Limits",
    "Mode",
    "Refusal",
    "ShaperFit",
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
        source="frame", time_s=time, acceleration_mm_s2=np.stack(axes, axis=1), unit="mm/s²"
    )


def fit(question: ShaperQuestion) -> ShaperFit:
    """The shaper of each axis and the acceleration that both allow: `axes` with their `reading`
    (modes with intervals) and `chosen`, `acceleration_mm_s2`, `verdict`, `remarks`.

    Parameters
    ----------
    question : `logs` by axis; the shapers offered, the limits of ringing and rounding, what is in
        force

    Raises
    ------
    Refusal
        Where a log cannot carry an answer.
    """
    return fit_shaper(question)
