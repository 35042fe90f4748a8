"""Whether the walls now come out as thick as they should, within their own error."""

from __future__ import annotations

from omphalon.recording import Readings
from omphalon.studies.answer import Retest
from omphalon.studies.flow.fit import FlowFit, fit_flow
from omphalon.studies.flow.question import FlowQuestion


def check_flow(readings: Readings, question: FlowQuestion) -> FlowFit | Retest:
    """Judge the walls of a fresh print: the same sum as a fit, of which only the verdict counts.

    Parameters
    ----------
    readings : taken with the setting in force
    question : as for `fit_flow`

    Returns
    -------
    FlowFit, or Retest

    Raises
    ------
    UsageError, BadReading
        If readings are missing or cannot be.
    """
    return fit_flow(readings, question)
