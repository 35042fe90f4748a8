"""Whether the paper now drags at its own thickness, within the error of feel and probe."""

from __future__ import annotations

from omphalon.recording import Readings
from omphalon.studies.answer import Retest
from omphalon.studies.probe.fit import ProbeFit, fit_probe
from omphalon.studies.probe.question import ProbeQuestion


def check_probe(readings: Readings, question: ProbeQuestion) -> ProbeFit | Retest:
    """Judge the offset on fresh drags: the same sum as a fit, of which only the verdict counts.

    Parameters
    ----------
    readings : taken with the setting in force
    question : as for `fit_probe`

    Returns
    -------
    ProbeFit, or Retest

    Raises
    ------
    UsageError, BadReading
        If readings are missing or cannot be.
    """
    return fit_probe(readings, question)
