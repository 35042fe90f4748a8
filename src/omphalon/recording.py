"""What comes in: recordings, already in our units, whatever file they came from."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

Array = np.ndarray


@dataclass(frozen=True)
class Note:
    """Something a reader saw that the user should know; `code` is a row of finding.WARNINGS."""

    code: str
    message: str


@dataclass(frozen=True)
class TemperatureLog:
    """A log of one heater: times in s (rising, from any start), °C, power 0…1, target °C; each shape (n,).

    `power` and `target_c` are None where the log has no such column; single missing values are NaN.
    `power_scale` is the number that stood for full power. `notes` say what was worked out or passed over.
    """

    source: str
    time_s: Array
    temperature_c: Array
    power: Array | None
    target_c: Array | None
    power_scale: float | None
    read_as: str
    notes: tuple[Note, ...] = ()

    @property
    def duration_s(self) -> float:
        """From the first report to the last."""
        return float(self.time_s[-1] - self.time_s[0])

    @property
    def interval_s(self) -> float:
        """The usual time between two reports."""
        return float(np.median(np.diff(self.time_s)))
