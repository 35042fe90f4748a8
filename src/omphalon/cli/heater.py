"""omphalon heater plan | fit | check."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.cli.common import (
    Answer,
    Leaving,
    Measure,
    answering,
    choice,
    filled,
    number,
    numbers_of,
    options,
    pairs,
    parsed,
    refuse_idle,
    template,
)
from omphalon.cli.gains import gains_given, gains_of_bench, refuse_two_scales
from omphalon.cli.groups import OF_BENCH, Asking, Verbs, section
from omphalon.cli.known import held
from omphalon.tables.constants import BAND_C, NORMAL_95
from omphalon.tables.heaters import KINDS, of_tool, tool_of

if TYPE_CHECKING:
    from omphalon.answers.finding import Finding
    from omphalon.lines.dialect import Dialect
    from omphalon.readers.temperature import Wanted
    from omphalon.recordings.recording import TemperatureLog
    from omphalon.studies.heater.question import HeaterQuestion

HEATERS = choice(*KINDS)
SECONDS_OF_CYCLE = Measure("time", 0.5, 3600)
POWERS = ("power_high", "power_low")
# what only a log, or what is worked out from one, gives a say
OF_A_LOG = (
    *("every_s", "column", "full_power", "max_temp_c", "from_s", "to_s", "aim", "fan"),
    *("fan_cooling", "loop_period_s", "filter_s", "band_c"),
)


aim_option = click.option(
    "--aim",
    type=choice("quick", "even", "gentle"),
    default="even",
    show_default=True,
    help="Fast recovery, a balance, or no overshoot.",
)
style_option = click.option(
    "--style",
    type=choice("oscillation", "step", "heat-up"),
    default="oscillation",
    show_default=True,
    help="The controller's own test, or one for controllers that have none.",
)


class Band(Measure):
    """How near the target a controller starts to act; the word none is 0: it always does."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if isinstance(value, str) and value.strip().lower() in ("none", "0"):
            return 0.0
        return super().convert(value, param, ctx)


@click.group(cls=Verbs)
def heater() -> None:
    """Gains that hold the hotend or the bed still at its temperature."""


@heater.command("plan", short_help="How to run the test.")
@click.option("--heater", type=HEATERS, default="hotend", show_default=True, help="Which heater.")
@number(
    "--target",
    "temperature",
    "The temperature you print at.  [210 hotend, 60 bed, 50 chamber]",
    within=(0, 1000),
)
@number("--cycles", "count", "How many times it switches on and off.", within=(3, 30), default=8)
@style_option
@answering(plot=False, tool=True)
def plan(how: Leaving, **given: Any) -> Answer:
    """Say how to run the oscillation test on this printer, or another that tells its gains.

    \b
    Example:
      omphalon heater plan --heater hotend --target 235 --cycles 8
    """
    from omphalon.studies.heater.plan import HeaterTest, plan_heater

    _refuse_tool(how.tool, given)
    return plan_heater(filled(HeaterTest, given), how.lines())


def _empty_log() -> Iterator[str]:
    yield (
        "# one row a report: seconds, °C, the target in °C, power from 0 to 1; at least one a "
        "second"
    )
    yield "time_s,temperature_c,target_c,power"


reading = options(
    click.option("--heater", type=HEATERS, help="Which heater the log shows.  [worked out]"),
    number("--every", "interval", "Seconds between reports, for a log without time."),
    click.option(
        "--column",
        multiple=True,
        metavar="NAME=HEADER",
        help="Column of time, temperature, power or target.",
    ),
    number("--full-power", "scale", "What stands for full power in the log.  [worked out]"),
    number("--max-temp", "temperature", "Warn where the log passes this."),
)


@heater.command("fit", cls=Asking, short_help="Gains from the log of a test, or of any heat-up.")
@click.argument("logs", nargs=-1, metavar="[LOG...]")
@reading
@number("--target", "temperature", "The target.  [from the log]", least=35)
@number("--from", "time", "Use the log only from here on.")
@number("--to", "time", "Use it only up to here.")
@click.option(
    "--cycle",
    "summaries",
    multiple=True,
    metavar="LOW:HIGH:S",
    help="Instead of a LOG: a cycle as a console sums it up.",
)
@number("--power-high", "share", "With --cycle: the power that heats,  [1]", within=(0.02, 1))
@number("--power-low", "share", "and the one that lets it cool.  [0]", within=(0, 1))
@number("--gain-scale", "scale", "What stands for full power in the gains.  [the dialect's: 255]")
@aim_option
@click.option(
    "--fan", type=choice("on", "off"), help="The part fan during the test.  [on hotend, off bed]"
)
@number("--fan-cooling", "times", "Heat lost more with the fan on.  [0.4 hotend, 0.15 bed]")
@number(
    "--power-limit",
    "share",
    "Share of full power the controller may use.  [1]",
    within=(0.02, 1),
    default=1.0,
    show_default=False,
)
@number("--loop-period", "interval", "How often the controller works.  [0.2]", within=(0.01, 2))
@number("--filter", "interval", "Time constant of its derivative's filter.  [1]", within=(0.01, 30))
@click.option(
    "--band",
    "band_c",
    type=Band("band"),
    metavar="C",
    help=f"How near the target it starts to act; none: it always does.  [{BAND_C:g}]",
)
@number("--kp", "gain", "Present kp, per °C in the controller's scale.")
@number("--ki", "gain", "Present ki, per °C·s.")
@number("--kd", "gain", "Present kd, per °C/s.")
@section(
    OF_BENCH,
    number("--ti", "time", "Integral time in place of ki."),
    number("--td", "time", "Derivative time in place of kd."),
)
@template(_empty_log)
@answering(tool=True)
def fit(
    how: Leaving, logs: tuple[str, ...], gain_scale: float | None, fan: str | None, **given: Any
) -> Answer:
    """Turn the LOG of an on/off oscillation test into gains, or any LOG in which the power
    really changed: a heat-up and a hold, other targets. Several LOGs of tests are fitted together.

    A LOG is a table with a header (time_s, temperature_c, target_c, power), or the text a serial
    console showed. Where there is none, --cycle for each cycle makes careful gains.

    \b
    Example:
      omphalon heater fit hotend-oscillation.csv --plot hotend.png
    """
    how.check(*logs)
    _refuse_tool(how.tool, given)
    from omphalon.readers.temperature import read_temperature
    from omphalon.studies.heater.question import HeaterQuestion
    from omphalon.studies.heater.words import heater_answer

    refuse_two_scales(how, gain_scale)
    lines = how.lines().with_loop(
        full_power=gain_scale,
        period_s=given["loop_period_s"],
        filter_s=given["filter_s"],
        band_c=given["band_c"],
    )
    question = filled(
        HeaterQuestion,
        given,
        **lines.loop.for_question(),
        gain_scale=gain_scale,
        present=gains_given(**{n: given[n] for n in ("kp", "ki", "kd", "ti_s", "td_s")}),
        fan_on=None if fan is None else fan == "on",
    )
    wanted = _wanted(given, how.tool)
    _one_way(logs, given)
    if given["summaries"]:
        return _from_summaries(given, question, lines)
    if len(set(logs)) < len(logs):
        raise UsageError("one log is given twice", "it would count double; give each once")
    read = [_part_of(read_temperature(log, wanted), given) for log in logs]
    _refuse_other_tool(read, how.tool)
    if question.present is None:
        question = replace(question, present=gains_of_bench(read, question, lines.gain_scale))
    return heater_answer(read, question, lines)


def _part_of(log: TemperatureLog, given: dict[str, Any]) -> TemperatureLog:
    """The part of a log that was asked for."""
    start, end = given["from_s"] or 0.0, given["to_s"]
    if end is not None and end <= start:
        raise UsageError(f"--from {start:g} --to {end:g}: upside down", "give the earlier first")
    since = log.time_s - log.time_s[0]
    keep = (since >= start) & (since <= (log.duration_s if end is None else end))
    if keep.sum() < 2:
        raise UsageError(
            f"--from {start:g}: {echoed(log.source)} ends after {log.duration_s:.0f} s",
            "give seconds since its first report",
        )
    return log.rows(keep)


def _one_way(logs: tuple[str, ...], given: dict[str, Any]) -> None:
    """A log or summaries, not neither and not both."""
    if bool(logs) == bool(given["summaries"]):
        raise UsageError(
            "a LOG and --cycle" if logs else "no LOG",
            "give the log of the test; or, where there is none, --cycle LOW:HIGH:S for each cycle",
        )
    refuse_idle("a LOG" if logs else "--cycle", *(POWERS if logs else OF_A_LOG))


def _from_summaries(given: dict[str, Any], question: HeaterQuestion, lines: Dialect) -> Finding:
    """The answer where only summaries of cycles are known."""
    from omphalon.studies.heater.summary import CycleSummary
    from omphalon.studies.heater.summary_words import summary_answer

    cycles = []
    for text in given["summaries"]:
        *ends, period = text.rpartition(":")[::2] if text.count(":") == 2 else (text, "")
        example = "--cycle 232.8:237.1:11.6"
        if not period.strip():
            raise UsageError(
                f"--cycle {echoed(text)}: not LOW:HIGH:SECONDS", f"for example {example}"
            )
        low, high = numbers_of(ends[0], Measure("temperature", 0), 2, "--cycle", example)
        seconds = parsed(period, SECONDS_OF_CYCLE, "--cycle").value
        cycles.append(CycleSummary(low_c=low, high_c=high, period_s=seconds))
    powers = (
        1.0 if given["power_high"] is None else given["power_high"],
        0.0 if given["power_low"] is None else given["power_low"],
    )
    return summary_answer(cycles, question, powers, lines)


def _refuse_other_tool(logs: list[TemperatureLog], tool: int | None) -> None:
    """The lines of one tool's gains are no other tool's."""
    for log in logs:
        own = tool_of(log.heater)
        if own != (tool or 0):
            raise UsageError(
                f"{echoed(log.source)}: the log is of tool {own}", f"give --tool {own}"
            )


def _refuse_tool(tool: int | None, given: dict[str, Any]) -> None:
    """A tool has a hotend, and no other heater."""
    if tool and given["heater"] not in (None, "hotend"):
        raise UsageError(f"--tool {tool} --heater {given['heater']}", "a tool's heater is a hotend")
    if tool:
        given["heater"] = "hotend"


def _wanted(given: dict[str, Any], tool: int | None) -> Wanted:
    """How the user wants logs read."""
    from omphalon.readers.temperature import Wanted

    return Wanted(
        heater=of_tool(given["heater"], tool) if given["heater"] else None,
        full_power=given["full_power"],
        every_s=given["every_s"],
        columns=pairs(given["column"]),
    )


def _known_health(heater: str) -> dict[str, tuple[float, float]]:
    """A heater's health as the bench first knew it under the gains in force, with deviations."""
    from omphalon.bench.work import known_health

    if (found := held()) is None:
        return {}
    gains = found[1].settings.get(f"{heater}-gains")
    findings = found[0].journal.entries(kind="finding")
    known = known_health(findings, heater, gains.entry if gains else 0)
    return {n: (one["value"], one["spread"] / NORMAL_95) for n, one in known.items()}


@heater.command("check", short_help="Judges a loop from the log of a heat-up and a hold.")
@click.argument("log")
@click.argument("later", required=False)
@reading
@number("--target", "temperature", "The temperature it should hold.", least=35, required=True)
@number("--from", "time", "Judge only from here on.")
@number("--to", "time", "Judge only up to here.")
@number("--fan-at", "time", "When the part fan came on.  [found]")
@answering(dialect=False, tool=True)
def check(
    how: Leaving,
    log: str,
    later: str | None,
    from_s: float | None,
    to_s: float | None,
    **given: Any,
) -> Answer:
    """Judge a loop from the LOG of a heat-up and a hold, the part fan coming on late in it.

    With two logs, LOG is the one before the change and LATER the one after; LATER is judged.

    \b
    Example:
      omphalon heater check hold-before.csv hold-after.csv --target 235 --plot check.png
    """
    how.check(log, later)
    _refuse_tool(how.tool, given)
    from omphalon.readers.temperature import read_temperature
    from omphalon.studies.heater.check_words import heater_check_answer
    from omphalon.studies.heater.question import CheckQuestion

    if from_s is not None and to_s is not None and from_s >= to_s:
        raise UsageError(
            f"--from {from_s:g} --to {to_s:g}: upside down", "give the earlier time first"
        )
    if log == later:
        raise UsageError("before and after are one log", "give two, or one")
    wanted = _wanted(given, how.tool)
    logs = [read_temperature(path, wanted) for path in (log, later) if path is not None]
    _refuse_other_tool(logs, how.tool)
    question = filled(CheckQuestion, given, from_s=from_s, to_s=to_s)
    if later is None:
        question = replace(question, health=_known_health(question.which))
    return heater_check_answer(logs, question)
