"""Heaters of a printer by kind: hotends (`hotend`, `hotend 1`, … by their tool), bed, chamber. What
differs between them stands in tables/heaters.csv, once.
"""

from __future__ import annotations

from dataclasses import dataclass

from omphalon.tables.quantities import QUANTITIES
from omphalon.tables.rows import rows_of, table_by

MOST_TOOLS = 10  # numbered 0 to 9, as reports have room for


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


def kind_of(heater: str) -> HeaterKind:
    """The kind of a heater by its name: `hotend 1` is a hotend."""
    return KINDS[heater.partition(" ")[0]]


def is_hotend(heater: str) -> bool:
    """Whether a part fan blows at it."""
    return kind_of(heater).name == "hotend"


def tool_of(heater: str) -> int:
    """The tool that a hotend belongs to; 0 for every other heater."""
    return int(heater.partition(" ")[2] or 0)


def of_tool(kind: str, tool: int | None) -> str:
    """A heater's name, where it is of that tool."""
    return f"{kind} {tool}" if kind == "hotend" and tool else kind
