"""What comes in: recordings, already in our units, whatever file they came from."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

from omphalon.answers.remarks import Remark
from omphalon.base.errors import BadReading
from omphalon.tables.heaters import Heater
from omphalon.tables.units import Number

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Array = np.ndarray


@dataclass(frozen=True, kw_only=True)
class TemperatureLog:
    """A log of one heater: times in s (rising, from any start), °C, power 0…1, target °C; each
    shape (n,).

    `power` and `target_c` are None where the log has no such column; single missing values are NaN.
    `power_scale` is the number that stood for full power. `notes` say what was worked out or passed
    over, `headers` which columns were read as what, `heater` whose the
    log is, where it says so, `fan` the part fan in whatever counts.
    """

    source: str
    time_s: Array
    temperature_c: Array
    power: Array | None
    target_c: Array | None
    power_scale: float | None
    read_as: str
    notes: tuple[Remark, ...] = ()
    headers: tuple[str, ...] = ()
    heater: Heater | None = None
    fan: Array | None = None
    flow_mm3_s: Array | None = None  # of plastic, commanded

    @property
    def duration_s(self) -> float:
        """From the first report to the last."""
        return float(self.time_s[-1] - self.time_s[0])

    def rows(self, chosen: Any) -> TemperatureLog:
        """The same log with some of its rows: a mask (n,) or a slice."""
        return replace(
            self,
            time_s=self.time_s[chosen],
            temperature_c=self.temperature_c[chosen],
            power=None if self.power is None else self.power[chosen],
            fan=None if self.fan is None else self.fan[chosen],
            flow_mm3_s=None if self.flow_mm3_s is None else self.flow_mm3_s[chosen],
            target_c=None if self.target_c is None else self.target_c[chosen],
        )


@dataclass(frozen=True)
class MotionLog:
    """A log of an accelerometer: times in s (n,), rising; accelerations in mm/s² (n, 3), axes x, y,
    z of the sensor.

    `unit` is the one it was written in; `notes` say what was worked out or passed over.
    """

    source: str
    time_s: Array
    acceleration_mm_s2: Array
    unit: str
    notes: tuple[Remark, ...] = ()

    @cached_property
    def rate_hz(self) -> float:
        """Samples a second, by the median step."""
        import numpy as np

        return float(1 / np.median(np.diff(self.time_s)))

    @property
    def duration_s(self) -> float:
        """From the first sample to the last."""
        return float(self.time_s[-1] - self.time_s[0])


@dataclass(frozen=True, kw_only=True)
class Column:
    """A column of a READINGS.csv and the option of the same meaning: a quantity, or a word out of
    `choices`.

    `table` is whose readings hold it, `also` are other headers that mean it. `shared`: one value
    may stand for all readings.
    """

    table: str
    name: str
    option: str
    help: str
    quantity: str | None = None
    choices: tuple[str, ...] = ()
    also: tuple[str, ...] = ()
    shared: bool = False


@dataclass(frozen=True)
class Reading:
    """One row of measurements: where it stands (an option, a file's row), its numbers by column,
    and its words.
    """

    where: str
    numbers: dict[str, Number]
    words: dict[str, str] = field(default_factory=dict)

    def value(self, name: str) -> float:
        """The number in a column, in its quantity's unit."""
        return self.numbers[name].value


@dataclass(frozen=True)
class Readings:
    """Rows of measurements from a READINGS.csv or from repeated options; `notes` say what was
    passed over.
    """

    source: str
    rows: tuple[Reading, ...]
    notes: tuple[Remark, ...] = ()

    def has(self, *names: str) -> bool:
        """Whether every row has all these columns."""
        return bool(self.rows) and all(n in row.numbers for row in self.rows for n in names)

    def any_has(self, name: str) -> bool:
        """Whether some row has this column."""
        return any(name in row.numbers for row in self.rows)

    def refuse_gaps(self, *names: str) -> None:
        """Refuse readings of which some rows lack a column that others have: a BadReading with the
        row and the column.
        """
        for name in names:
            lacking = [row for row in self.rows if name not in row.numbers]
            if 0 < len(lacking) < len(self.rows):
                raise BadReading(
                    f"{lacking[0].where}: no {name}", "fill it in, or take the reading out"
                )

    def apart(self, name: str) -> tuple[Readings, Readings]:
        """The rows without a column, and those with it; what was noted goes with both."""
        without = tuple(row for row in self.rows if name not in row.numbers)
        having = tuple(row for row in self.rows if name in row.numbers)
        return replace(self, rows=without), replace(self, rows=having)

    def after(self, first: Readings) -> Readings:
        """These behind others; what was noted of either."""
        notes = dict.fromkeys((*first.notes, *self.notes))
        return replace(first, rows=(*first.rows, *self.rows), notes=tuple(notes))

    def step(self, *names: str) -> float:
        """The finest step in which these columns were written."""
        steps = [row.numbers[n].step for row in self.rows for n in names if n in row.numbers]
        return min(steps, default=0.01)


Place = tuple[float, float]


@dataclass(frozen=True)
class GreyPicture:
    """Grey levels (rows, columns), 0 to 255 as bytes, the channel they come from, and how many
    pixels an inch has by the file itself. Nothing is remarked where one is read.
    """

    source: str
    grey: NDArray[np.uint8]
    channel: str
    dots_an_inch: float | None = None
    notes: tuple[Remark, ...] = ()
