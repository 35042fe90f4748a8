"""What the heater's commands share: how a log is read, a cycle of a console, the loop."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.cli.common import ColumnNames, columns_named
from omphalon.cli.known import fact
from omphalon.cli.numbers import Measure, numbers_of, parsed
from omphalon.cli.options import number, one_of, typed
from omphalon.tables.constants import BAND_C
from omphalon.tables.heaters import HEATERS, Heater
from omphalon.tables.tools import FIRST, Tool

if TYPE_CHECKING:
    from omphalon.bench.work import State
    from omphalon.readers.temperature import Wanted
    from omphalon.recordings.recording import TemperatureLog

SECONDS_OF_CYCLE = Measure("time", 0.5, 3600)


class Band(Measure):
    """How near the target a controller starts to act; the word none is 0: it always does."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if isinstance(value, str) and value.strip().lower() in ("none", "0"):
            return 0.0
        return super().convert(value, param, ctx)


@dataclass(frozen=True, kw_only=True)
class ReadingOptions:
    """How a log is read, and which part of it."""

    every_s: float | None = number(
        "--every", "interval", "Seconds between reports, for a log without time."
    )
    columns: tuple[tuple[str, str], ...] = typed(
        "--column",
        ColumnNames(),
        "Column of time, temperature, power or target.",
        many=True,
        farm="pieces",
    )
    full_power: float | None = number(
        "--full-power",
        "scale",
        "The number for full power in the log.  [worked out]",
        bench=fact("heaters.full_power"),
    )
    max_temp_c: float | None = number("--max-temp", "temperature", "Warn if the log passes this.")
    from_s: float | None = number("--from", "time", "Use the log only from here on.")
    to_s: float | None = number("--to", "time", "Use the log only up to here.")

    def wanted(self, heater: str | None, tool: Tool) -> Wanted:
        """How logs of a heater are read."""
        from omphalon.readers.temperature import Wanted

        return Wanted(
            heater=Heater(heater, tool) if heater else None,
            full_power=self.full_power,
            every_s=self.every_s,
            columns=columns_named(self.columns),
        )

    def refuse_upside_down(self) -> None:
        """Refuse a part that ends before it begins."""
        start, end = self.from_s or 0.0, self.to_s
        if end is not None and end <= start:
            raise UsageError(
                f"--from {start:g} --to {end:g}: upside down", "give the earlier time first"
            )

    def part_of(self, log: TemperatureLog) -> TemperatureLog:
        """The part of a log that was asked for."""
        start, end = self.from_s or 0.0, self.to_s
        since = log.time_s - log.time_s[0]
        keep = (since >= start) & (since <= (log.duration_s if end is None else end))
        if keep.sum() < 2:
            raise UsageError(
                f"--from {start:g}: {echoed(log.source)} ends after {log.duration_s:.0f} s",
                "give seconds since its first report",
            )
        return log.rows(keep)


class CycleType(click.ParamType):  # type: ignore[type-arg]
    """A cycle as a console sums it up."""

    name = "LOW:HIGH:S"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        from omphalon.studies.heater.summary import CycleSummary

        if not isinstance(value, str):
            return value
        *ends, period = value.rpartition(":")[::2] if value.count(":") == 2 else (value, "")
        example = "--cycle 232.8:237.1:11.6"
        if not period.strip():
            raise UsageError(
                f"--cycle {echoed(value)}: not LOW:HIGH:SECONDS", f"for example {example}"
            )
        low, high = numbers_of(ends[0], Measure("temperature", 0), 2, "--cycle", example)
        seconds = parsed(period, SECONDS_OF_CYCLE, "--cycle").value
        return CycleSummary(low_c=low, high_c=high, period_s=seconds)


@dataclass(frozen=True, kw_only=True)
class LoopOptions:
    """What the controller's loop is."""

    loop_period_s: float | None = number(
        "--loop-period",
        "interval",
        "How often the controller works.  [0.2]",
        within=(0.01, 2),
        bench=fact("controller.loop_period"),
    )
    filter_s: float | None = number(
        "--filter",
        "interval",
        "Time constant of its derivative's filter.  [1]",
        within=(0.01, 30),
        bench=fact("controller.filter"),
    )
    band_c: float | None = typed(
        "--band",
        Band("band"),
        f"How near the target the gains start to act; none: everywhere.  [{BAND_C:g}]",
        metavar="C",
        bench=fact("controller.band"),
    )


def usual_target(state: State, given: Any) -> object:
    """The temperature at which the heater prints."""
    return state.facts.get(f"heaters.{given.heater or 'hotend'}_target")


def one_tool(heater: str | None, tool: Tool) -> str | None:
    """The heater's kind: a tool has a hotend, and no other."""
    if tool and heater not in (None, "hotend"):
        raise UsageError(f"--tool {tool} --heater {heater}", "a tool's heater is a hotend")
    return "hotend" if tool else heater


def heater_of_log() -> Any:
    """Which heater a log shows."""
    help = "Which heater the log shows.  [worked out]"
    return one_of("--heater", tuple(HEATERS), help, ask="which heater")


def refuse_other_tool(logs: list[TemperatureLog], tool: Tool) -> None:
    """The lines of one tool's gains are no other tool's."""
    for log in logs:
        own = FIRST if log.heater is None else log.heater.tool
        if own != tool:
            raise UsageError(
                f"{echoed(log.source)}: the log is of tool {own}", f"give --tool {own}"
            )
