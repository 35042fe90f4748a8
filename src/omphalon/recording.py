"""What comes in: recordings, already in our units, whatever file they came from."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

from omphalon.units import Length

if TYPE_CHECKING:
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


@dataclass(frozen=True)
class MotionLog:
    """A log of an accelerometer: times in s (n,), rising; accelerations in mm/s² (n, 3), axes x, y, z of the sensor.

    `unit` is the one it was written in; `notes` say what was worked out or passed over.
    """

    source: str
    time_s: Array
    acceleration_mm_s2: Array
    unit: str
    notes: tuple[Note, ...] = ()

    @cached_property
    def rate_hz(self) -> float:
        """Samples a second, by the median step."""
        import numpy as np

        return float(1 / np.median(np.diff(self.time_s)))

    @property
    def duration_s(self) -> float:
        """From the first sample to the last."""
        return float(self.time_s[-1] - self.time_s[0])


@dataclass(frozen=True)
class Reading:
    """One row of measurements: where it stands (an option, a file's row), its numbers by column, and its words."""

    where: str
    numbers: dict[str, Length]
    words: dict[str, str] = field(default_factory=dict)

    def mm(self, name: str) -> float:
        return self.numbers[name].mm


@dataclass(frozen=True)
class Readings:
    """Rows of measurements from a READINGS.csv or from repeated options."""

    source: str
    rows: tuple[Reading, ...]

    def has(self, *names: str) -> bool:
        """Whether every row has all these columns."""
        return bool(self.rows) and all(n in row.numbers for row in self.rows for n in names)

    def step_mm(self, *names: str) -> float:
        """The finest step in which these columns were written."""
        steps = [row.numbers[n].step_mm for row in self.rows for n in names if n in row.numbers]
        return min(steps, default=0.01)
