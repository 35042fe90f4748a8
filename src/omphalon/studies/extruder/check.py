"""Whether a verification run with the steps now in force gives what was asked for, within its own
error.
"""

from __future__ import annotations

from omphalon.recording import Readings
from omphalon.studies.answer import Retest
from omphalon.studies.extruder.fit import ExtruderFit, fit_extruder
from omphalon.studies.extruder.question import ExtruderQuestion


def check_extruder(readings: Readings, question: ExtruderQuestion) -> ExtruderFit | Retest:
    """Judge the steps now in force: the same sum as a fit, of which only the verdict counts.

    Parameters
    ----------
    readings : taken with the setting in force
    question : as for `fit_extruder`

    Returns
    -------
    ExtruderFit, or Retest

    Raises
    ------
    UsageError, BadReading
        If readings are missing or cannot be.
    """
    return fit_extruder(readings, question)
