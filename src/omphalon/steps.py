"""Steps per mm and other measured quantities, from arrays or data frames: nothing is printed, or
read from disk. A frame's columns are those of the group's readings (docs/reference.md).
"""

from __future__ import annotations

from omphalon.lines.dialect import load_dialect
from omphalon.recordings import frames
from omphalon.recordings.frames import Frame
from omphalon.report.result import Result
from omphalon.studies.measured.axis import AXIS, AxisQuestion
from omphalon.studies.measured.engine import Measurand, Question
from omphalon.studies.measured.extruder import EXTRUDER, ExtruderQuestion
from omphalon.studies.measured.filament import FlowQuestion
from omphalon.studies.measured.flow import FLOW
from omphalon.studies.measured.probe import PROBE, ProbeQuestion
from omphalon.studies.measured.words import measured_answer

__all__ = [
    "AxisQuestion",
    "ExtruderQuestion",
    "FlowQuestion",
    "ProbeQuestion",
    "Result",
    "axis",
    "extruder",
    "flow",
    "probe",
]


def extruder(frame: Frame, question: ExtruderQuestion) -> Result:
    """Steps per mm of the extruder.

    Parameters
    ----------
    frame : `asked_mm` and one way of measuring: `mark_mm` with `left_mm`, `before_mm` with
        `after_mm`, or `fed_mm`
    question : the present steps
    """
    return _result(EXTRUDER, frame, question)


def axis(frame: Frame, question: AxisQuestion) -> Result:
    """Steps per mm of axes: `axis`, `asked_mm`, `moved_mm` and perhaps `kind`."""
    return _result(AXIS, frame, question)


def flow(frame: Frame, question: FlowQuestion) -> Result:
    """The flow, by `wall_mm` of walls printed at `expected_mm`."""
    return _result(FLOW, frame, question)


def probe(frame: Frame, question: ProbeQuestion) -> Result:
    """The probe's offset, by `drag_mm` of a paper."""
    return _result(PROBE, frame, question)


def _result(quantity: Measurand[Question], frame: Frame, question: Question) -> Result:
    readings = frames.readings(frame, quantity.group)
    return Result(measured_answer(quantity, readings, question, load_dialect(None)))
