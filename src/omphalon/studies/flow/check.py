"""Whether the walls now come out as thick as they should, within their own error."""

from __future__ import annotations

from omphalon.recording import Readings
from omphalon.studies.answer import Retest
from omphalon.studies.flow.fit import FlowFit, fit_flow
from omphalon.studies.flow.question import FlowQuestion


def check_flow(readings: Readings, question: FlowQuestion) -> FlowFit | Retest:
    """Judge the walls of a fresh print: the same sum as a fit, of which only the verdict counts.

    Parameters, returns and raises as `fit_flow`.
    """
    return fit_flow(readings, question)
