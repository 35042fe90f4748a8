"""Heaters of a printer: hotends (`hotend`, `hotend 1`, … by their tool), bed, chamber. What differs
between their kinds stands in tables/heaters.csv, once.
"""

from __future__ import annotations

from dataclasses import dataclass

from omphalon.tables.quantities import QUANTITIES
from omphalon.tables.rows import rows_of, table_by
from omphalon.tables.tools import FIRST, Tool


@dataclass(frozen=True, kw_only=True)
class HeaterKind:
    """A kind of heater. Judgements, where docs/heater.md and docs/printer.md name no source."""

    name: str
    mark: str  # in reports
    index: int | None = None  # in the line of a test; a hotend's is its tool; None: no shared code
    usual_target_c: float  # where none is given
    asked_above_c: float  # a higher target is asked for by name
    unit_s: float  # of time, in scores and limits
    fan_cooling: float  # share of heat lost more with the part fan on
    fan_doubt: tuple[float, float]  # factors on it: on a bed the fan hits the plate, not the sensor
    fan_after_s: float | None = None  # of a hold: the part fan comes on
    hold_s: float
    begins_s: float  # within that a test shows that it has begun
    quiet_s: float  # target and power at 0 for so long: the test is over
    test_s: float  # within that it is over, whatever the printer says
    falls_s: float  # within that a fall without power must be certain
    least_fall_c: float  # a smaller fall is not certain
    rises_c_s: float  # least rise at full power from cold
    lags_s: float  # for so long a change of power may not show
    arrives_s: float  # at any target
    minutes: str  # that a run takes, in words

    @property
    def usual_c(self) -> float:
        """The hottest that is usual."""
        usual = QUANTITIES[f"{self.name} temperature"].usual
        return self.most_c if usual is None else usual[1]

    @property
    def most_c(self) -> float:
        """The hottest that can be."""
        return QUANTITIES[f"{self.name} temperature"].highest


HEATERS = table_by("name", *rows_of("heaters", HeaterKind))


@dataclass(frozen=True, order=True)
class Heater:
    """One heater: the name of its kind, and the tool that it belongs to, where it is a hotend."""

    name: str
    tool: Tool = FIRST

    def __post_init__(self) -> None:
        if self.tool and not self.is_hotend:
            raise ValueError(f"a {self.name} belongs to no tool")

    def __str__(self) -> str:
        return f"{self.name} {self.tool}" if self.tool else self.name

    @classmethod
    def named(cls, text: str) -> Heater:
        """The heater of a name as `str` writes it: `hotend 1`."""
        name, _, number = text.partition(" ")
        return cls(HEATERS[name].name, Tool(int(number or 0)))

    @property
    def kind(self) -> HeaterKind:
        """What holds for all heaters of its kind."""
        return HEATERS[self.name]

    @property
    def is_hotend(self) -> bool:
        """Whether a part fan blows at it."""
        return self.name == "hotend"

    @property
    def mark(self) -> str:
        """In reports: `T1`."""
        return self.kind.mark + (f"{self.tool}" if self.tool else "")


HOTEND = Heater("hotend")
