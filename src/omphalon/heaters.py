"""Heaters of a printer by kind: hotends (`hotend`, `hotend 1`, … by their tool), bed, chamber. What
differs between them stands here, once.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from omphalon.quantities import QUANTITIES
from omphalon.tables import table_by

MOST_TOOLS = 10  # numbered 0 to 9, as reports have room for


@dataclass(frozen=True, kw_only=True)
class HeaterKind:
    """A kind of heater. Judgements, where docs/heater.md and docs/printer.md name no source.

    `mark`: in reports. `index`: in the line of an oscillation test; a hotend's is its tool.
    `usual_target_c`: where none is given. `asked_above_c`: more is asked for by name. `unit_s`: of
    time in scores and limits. `fan_cooling`: how much more heat is lost with the part fan on,
    `fan_doubt` by which factors that may lie off. `fan_after_s`, `hold_s`: of a hold. `begins_s`,
    `quiet_s`, `test_s`: within that a test shows that it has begun; target and power at 0 for so
    long, it is over; and it is over within that, whatever the printer says. `falls_s`: without
    power it falls within that. `arrives_s`: to any target. `minutes`: what a run takes.
    """

    name: str
    mark: str
    index: int | None
    usual_target_c: float
    asked_above_c: float
    unit_s: float
    fan_cooling: float
    fan_doubt: tuple[float, float]
    fan_after_s: float | None
    hold_s: float
    begins_s: float
    quiet_s: float
    test_s: float
    falls_s: float
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


KINDS: Mapping[str, HeaterKind] = table_by(
    "name",
    HeaterKind(
        name="hotend",
        mark="T",
        index=0,
        usual_target_c=210.0,
        asked_above_c=300.0,
        unit_s=60.0,
        fan_cooling=0.4,
        fan_doubt=(0.5, 2.2),
        fan_after_s=120.0,
        hold_s=200.0,
        begins_s=60.0,
        quiet_s=120.0,
        test_s=3600.0,
        falls_s=45.0,
        arrives_s=600.0,
        minutes="a quarter of an hour each time, and as long to cool down",
    ),
    HeaterKind(
        name="bed",
        mark="B",
        index=-1,
        usual_target_c=60.0,
        asked_above_c=120.0,
        unit_s=300.0,
        fan_cooling=0.15,
        fan_doubt=(0.15, 2.2),  # on a bed it hits the plate, not the sensor
        fan_after_s=None,
        hold_s=600.0,
        begins_s=120.0,
        quiet_s=400.0,
        test_s=4 * 3600.0,
        falls_s=180.0,
        arrives_s=1500.0,
        minutes="an hour each time, and longer to cool down",
    ),
    HeaterKind(
        name="chamber",
        mark="C",
        index=None,  # no code for its test is shared
        usual_target_c=50.0,
        asked_above_c=80.0,
        unit_s=600.0,
        fan_cooling=0.05,
        fan_doubt=(0.1, 4.0),
        fan_after_s=None,
        hold_s=1200.0,
        begins_s=300.0,
        quiet_s=600.0,
        test_s=6 * 3600.0,
        falls_s=300.0,
        arrives_s=3600.0,
        minutes="two hours each time, and longer to cool down",
    ),
)


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
