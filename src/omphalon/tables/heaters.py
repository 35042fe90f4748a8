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
    """A kind of heater. Judgements, where docs/heater.md and docs/printer.md name no source.

    `mark`: in reports. `index`: in the line of an oscillation test, a hotend's its tool, none where
    no code is shared. `usual_target_c`: where none is given. `asked_above_c`: more is asked for by
    name. `unit_s`: of time in scores and limits. `fan_cooling`: how much more heat is lost with the
    part fan on, `fan_doubt` by which factors that may lie off (on a bed it hits the plate, not the
    sensor). `fan_after_s`, `hold_s`: of a hold. `begins_s`, `quiet_s`, `test_s`: within that a test
    shows that it has begun; target and power at 0 for so long, it is over; and it is over within
    that, whatever the printer says. `falls_s`: within that a fall without power must be certain;
    `least_fall_c`: no smaller one is; `rises_c_s`: no slower it rises at full power when cold;
    `lags_s`: for so long a change of power may not show. `arrives_s`: to any target. `minutes`:
    what a run takes.
    """

    name: str
    mark: str
    index: int | None = None
    usual_target_c: float
    asked_above_c: float
    unit_s: float
    fan_cooling: float
    fan_doubt: tuple[float, float]
    fan_after_s: float | None = None
    hold_s: float
    begins_s: float
    quiet_s: float
    test_s: float
    falls_s: float
    least_fall_c: float
    rises_c_s: float
    lags_s: float
    arrives_s: float
    minutes: str

    @property
    def usual_c(self) -> float:
        """The hottest that is usual."""
        usual = QUANTITIES[f"{self.name} temperature"].usual
        return self.most_c if usual is None else usual[1]

    @property
    def most_c(self) -> float:
        """The hottest that can be."""
        return QUANTITIES[f"{self.name} temperature"].highest


KINDS = table_by("name", *rows_of("heaters", HeaterKind))


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
        return cls(KINDS[name].name, Tool(int(number or 0)))

    @property
    def kind(self) -> HeaterKind:
        """What holds for all heaters of its kind."""
        return KINDS[self.name]

    @property
    def is_hotend(self) -> bool:
        """Whether a part fan blows at it."""
        return self.name == "hotend"

    @property
    def mark(self) -> str:
        """In reports: `T1`."""
        return self.kind.mark + (f"{self.tool}" if self.tool else "")


HOTEND = Heater("hotend")
