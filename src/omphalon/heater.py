"""Gains of a heater, from arrays or data frames: nothing is printed, or read from disk.

>>> from omphalon.heater import fit, temperature_log
>>> found = fit([temperature_log(frame)])                                # doctest: +SKIP
>>> found.verdict, found["kp"].value, found.lines                        # doctest: +SKIP
"""

from __future__ import annotations

from collections.abc import Sequence

from omphalon.base.errors import UsageError
from omphalon.lines.dialect import load_dialect
from omphalon.physics.loop import Gains
from omphalon.recordings import frames
from omphalon.recordings.frames import Frame
from omphalon.recordings.recording import TemperatureLog
from omphalon.report.result import Result
from omphalon.studies.heater.check_words import heater_check_answer
from omphalon.studies.heater.question import CheckQuestion, HeaterQuestion
from omphalon.studies.heater.words import heater_answer

__all__ = ["CheckQuestion", "Gains", "HeaterQuestion", "Result", "check", "fit", "temperature_log"]

ROUNDED = 1.001  # a power this much past full is rounding


def temperature_log(frame: Frame, *, full_power: float = 1.0) -> TemperatureLog:
    """A log of one heater.

    Parameters
    ----------
    frame : columns `time_s`, `temperature_c`, `power`, and perhaps `target_c` and `fan`
    full_power : what stands for full power in its column `power`

    Raises
    ------
    UsageError
        Where the power then lies outside 0 to 1, or never passes a hundredth of what is full.
    """
    names = [n for n in ("target_c", "fan") if n in frame]
    time, reading, power, *more = frames.columns(frame, "time_s", "temperature_c", "power", *names)
    beside = dict(zip(names, more, strict=True))
    low, high = float(power.min(initial=0.0)), float(power.max(initial=0.0))
    if low < 0 or high > full_power * ROUNDED or (full_power > 1 and 0 < high <= 1):
        raise UsageError(
            f"full_power={full_power:g}: the power goes from {low:g} to {high:g}",
            "give what stands for full power in that column",
        )
    return TemperatureLog(
        source="frame",
        time_s=time - time[:1],
        temperature_c=reading,
        power=power / full_power,
        target_c=beside.get("target_c"),
        power_scale=full_power,
        read_as="frame",
        fan=beside.get("fan"),
    )


def fit(logs: Sequence[TemperatureLog], question: HeaterQuestion | None = None) -> Result:
    """Gains, as `heater fit` answers: for a power of 0 to 1 in `settings`, in the controller's
    scale in `lines` and `document()`; the model, what the gains promise and the range in which each
    does as well in `evidence`.

    Parameters
    ----------
    logs : of oscillation tests of one heater, or one of any log in which the power really changed
    question : target, aim, the controller's loop, the present gains
    """
    return Result(heater_answer(logs, question or HeaterQuestion(), load_dialect(None)))


def check(logs: Sequence[TemperatureLog], question: CheckQuestion) -> Result:
    """Judge a loop, as `heater check` answers: one log of a heat-up and a hold, or two, before and
    after a change.
    """
    return Result(heater_check_answer(logs, question))
