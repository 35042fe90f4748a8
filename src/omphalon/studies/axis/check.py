"""Whether the steps now in force move and print what is asked, within the readings' own error."""

from __future__ import annotations

from omphalon.recording import Readings
from omphalon.studies.answer import Retest
from omphalon.studies.axis.fit import AxisFit, fit_axis
from omphalon.studies.axis.question import AxisQuestion


def check_axis(readings: Readings, question: AxisQuestion) -> AxisFit | Retest:
    """Judge the steps now in force: the same sum as a fit, of which only the verdict counts.

    Parameters
    ----------
    readings : taken with the setting in force
    question : as for `fit_axis`

    Returns
    -------
    AxisFit, or Retest

    Raises
    ------
    UsageError, BadReading
        If readings are missing or cannot be.
    """
    return fit_axis(readings, question)
