"""Steps per mm and other measured quantities, from arrays or data frames: nothing is printed, or
read from disk. A frame's columns are those of the group's readings (docs/reference.md).
"""

from __future__ import annotations

from omphalon.answers.remarks import Refusal
from omphalon.recordings import frames
from omphalon.recordings.frames import Frame
from omphalon.studies.measured import engine
from omphalon.studies.measured.axis import AXIS, AxisQuestion
from omphalon.studies.measured.engine import Fitted, Measurement
from omphalon.studies.measured.extruder import EXTRUDER, ExtruderQuestion
from omphalon.studies.measured.filament import FlowQuestion
from omphalon.studies.measured.flow import FLOW
from omphalon.studies.measured.probe import PROBE, ProbeQuestion

__all__ = [
    "AxisQuestion",
    "ExtruderQuestion",
    "Fitted",
    "FlowQuestion",
    "Measurement",
    "ProbeQuestion",
    "Refusal",
    "axis",
    "extruder",
    "flow",
    "probe",
]


def extruder(frame: Frame, question: ExtruderQuestion) -> Fitted[ExtruderQuestion]:
    """Steps per mm of the extruder.

    Parameters
    ----------
    frame : `asked_mm` and one way of measuring: `mark_mm` with `left_mm`, `before_mm` with
        `after_mm`, or `fed_mm`
    question : the present steps

    Returns
    -------
    Fitted
        `verdict`, `remarks`; its `one` has `setting` ± `half_width`, and the `estimate`.

    Raises
    ------
    Refusal
        Where the readings cannot carry an answer.
    """
    return engine.fit(EXTRUDER, frames.readings(frame, "extruder"), question)


def axis(frame: Frame, question: AxisQuestion) -> Fitted[AxisQuestion]:
    """Steps per mm of axes: `axis`, `asked_mm`, `moved_mm` and perhaps `kind`; `things` has one
    Measurement an axis. See `extruder`.
    """
    return engine.fit(AXIS, frames.readings(frame, "axis"), question)


def flow(frame: Frame, question: FlowQuestion) -> Fitted[FlowQuestion]:
    """The flow, by `wall_mm` of walls printed at `expected_mm`. See `extruder`."""
    return engine.fit(FLOW, frames.readings(frame, "flow"), question)


def probe(frame: Frame, question: ProbeQuestion) -> Fitted[ProbeQuestion]:
    """The probe's offset, by `drag_mm` of a paper. See `extruder`."""
    return engine.fit(PROBE, frames.readings(frame, "probe"), question)
