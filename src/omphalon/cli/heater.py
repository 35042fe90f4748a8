"""omphalon heater plan | fit | check."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, Unpack

import click

from omphalon.base.errors import OmphalonError, UsageError
from omphalon.cli.common import Answer, Leaving, answering, template
from omphalon.cli.gains import GainOptions, gains_of_bench, refuse_two_scales, scale_of_bench
from omphalon.cli.groups import Asking, Verbs
from omphalon.cli.heater_check import check
from omphalon.cli.heater_common import (
    CycleType,
    LoopOptions,
    ReadingOptions,
    heater_of_log,
    one_tool,
    refuse_other_tool,
    usual_target,
)
from omphalon.cli.known import fact, of_filament
from omphalon.cli.numbers import Measure, Span
from omphalon.cli.options import Ask, More, argument, nested, number, one_of, refuse_beside, typed
from omphalon.tables.heaters import HEATERS
from omphalon.tables.plastics import PLASTICS

if TYPE_CHECKING:
    from omphalon.answers.finding import Finding
    from omphalon.lines.dialect import Dialect
    from omphalon.readers.controller import ControllerResult
    from omphalon.recordings.recording import TemperatureLog
    from omphalon.studies.heater.question import HeaterQuestion
    from omphalon.studies.heater.summary import CycleSummary

AIMS = ("quick", "even", "gentle")
# what only temperatures give a say
OF_A_LOG = (
    *("every_s", "columns", "full_power", "max_temp_c", "from_s", "to_s", "aim", "fan"),
    *("fan_cooling", "loop_period_s", "filter_s", "band_c"),
)
STYLES = ("oscillation", "step", "heat-up")


@click.group(cls=Verbs)
def heater() -> None:
    """Gains that hold the hotend or the bed still at its temperature."""


def aim_field(**more: Unpack[More]) -> Any:
    """What the gains are to be best at."""
    help = "Fast recovery, a balance, or no overshoot."
    more.setdefault("default", "even")
    return one_of("--aim", AIMS, help, **more)


def style_field() -> Any:
    """Which test."""
    help = "The controller's own test, or one for controllers that have none."
    return one_of("--style", STYLES, help, default="oscillation")


@dataclass(frozen=True, kw_only=True)
class HeaterPlanOptions:
    """Options of `heater plan`."""

    heater: str = one_of("--heater", tuple(HEATERS), "Which heater.", default="hotend")
    target_c: float | None = number(
        "--target",
        "temperature",
        "The temperature you print at.  [210 hotend, 60 bed, 50 chamber]",
        within=(0, 1000),
        bench=usual_target,
    )
    cycles: int = number(
        "--cycles", "count", "How many times it switches on and off.", within=(3, 30), default=8
    )
    style: str = style_field()


@heater.command("plan", short_help="How to run the test.")
@answering(HeaterPlanOptions, plot=False, tool=True)
def plan(how: Leaving, options: HeaterPlanOptions) -> Answer:
    """Plan the oscillation test on this printer, or another test that yields its gains.

    \b
    Example:
      omphalon heater plan --heater hotend --target 235 --cycles 8
    """
    from omphalon.studies.heater.plan import HeaterTest, plan_heater

    test = HeaterTest(
        heater=one_tool(options.heater, how.tool) or "hotend",
        target_c=options.target_c,
        cycles=options.cycles,
        style=options.style,
    )
    return plan_heater(test, how.lines())


def _empty_log() -> Iterator[str]:
    yield (
        "# one row a report: seconds, °C, the target in °C, power from 0 to 1; at least one a "
        "second"
    )
    yield "time_s,temperature_c,target_c,power"


def _no_log(options: HeaterFitOptions) -> str:
    return "" if options.logs else "--cycle"


@dataclass(frozen=True, kw_only=True)
class HeaterFitOptions:
    """Options of `heater fit`."""

    logs: tuple[str, ...] = argument(
        "[LOG...]", several=True, ask="the log of the oscillation test, a file"
    )
    heater: str | None = heater_of_log()
    targets_c: tuple[float, float] | None = typed(
        "--target",
        Span(Measure("temperature", 35), "200:260"),
        "The target, or a range of targets for one set of gains.  [from the log]",
        ask=Ask(words="its target", may_miss=True),
    )
    reading: ReadingOptions = nested(ReadingOptions, idle=_no_log)
    summaries: tuple[CycleSummary, ...] = typed(
        "--cycle",
        CycleType(),
        "Instead of a LOG: a cycle, as a console summarises it.",
        many=True,
        excludes=("logs",),
        farm="pieces",
    )
    power_high: float | None = number(
        "--power-high", "share", "With --cycle: the power that heats,  [1]", within=(0.02, 1)
    )
    power_low: float | None = number(
        "--power-low", "share", "and the one that lets it cool.  [0]", within=(0, 1)
    )
    gain_scale: float | None = number(
        "--gain-scale",
        "scale",
        "The number for full power in the gains.  [the dialect's: 255]",
        bench=scale_of_bench,
    )
    aim: str = aim_field(idle=_no_log)
    fan: str | None = one_of(
        "--fan", ("on", "off"), "The part fan during the test.  [on hotend, off bed]", idle=_no_log
    )
    fan_cooling: float | None = number(
        "--fan-cooling",
        "times",
        "How much more heat is lost with the fan on.  [0.4 hotend, 0.15 bed]",
        idle=_no_log,
    )
    power_limit: float = number(
        "--power-limit",
        "share",
        "Share of full power the controller may use.  [1]",
        within=(0.02, 1),
        default=1.0,
        shown=False,
        bench=fact("heaters.power_limit"),
    )
    flow_mm3_s: float | None = number(
        "--volume-flow", "volume flow", "Plastic that flows: how far the hotend dips.", idle=_no_log
    )
    watts: float | None = number(
        "--watts",
        "heater power",
        "The hotend's full power.",
        bench=fact("heaters.hotend_watts"),
        needs=("plastic",),
        idle=_no_log,
    )
    plastic: str | None = one_of(
        "--plastic",
        tuple(PLASTICS),
        "What the filament is made of, for the heat that it takes.",
        bench=of_filament("plastic"),
        needs=("watts",),
        idle=_no_log,
    )
    loop: LoopOptions = nested(LoopOptions, idle=_no_log)
    present: GainOptions = nested(GainOptions)

    def goals(self) -> dict[str, Any]:
        """The target, or the range with its middle, as a question has them."""
        if self.targets_c is None:
            return {}
        low, high = self.targets_c
        return {"target_c": (low + high) / 2, "range_c": None if low == high else (low, high)}

    def powers(self) -> tuple[float, float]:
        """The power that heats and the one that lets it cool, of cycles without a log."""
        high, low = self.power_high, self.power_low
        return 1.0 if high is None else high, 0.0 if low is None else low


@heater.command("fit", cls=Asking, short_help="Gains from the log of a test, or of any heat-up.")
@template(_empty_log)
@answering(HeaterFitOptions, tool=True)
def fit(how: Leaving, options: HeaterFitOptions) -> Answer:
    """Turn the LOG of an on/off oscillation test into gains, or any LOG in which the power
    really changed: a heat-up and a hold, other targets. Several LOGs of tests are fitted together.

    A LOG is a table with a header (time_s, temperature_c, target_c, power), or the text a serial
    console showed, or what a controller printed of its own test. --cycle for each cycle makes
    careful gains where there is nothing else.

    \b
    Example:
      omphalon heater fit hotend-oscillation.csv --plot hotend.png
    """
    logs, loop = options.logs, options.loop
    how.check(*logs)
    heater = one_tool(options.heater, how.tool)
    if not logs and not options.summaries:
        remedy = "give the log of the test; or, where there is none, --cycle LOW:HIGH:S for each"
        raise UsageError("no LOG", f"{remedy} cycle")
    if len(set(logs)) < len(logs):
        raise UsageError("one log is given twice", "it would count double; give each once")
    options.reading.refuse_upside_down()
    from omphalon.readers.temperature import read_temperature
    from omphalon.studies.heater.question import HeaterQuestion
    from omphalon.studies.heater.summary_words import summary_answer
    from omphalon.studies.heater.words import heater_answer

    refuse_two_scales(how, options.gain_scale)
    lines = how.lines().with_loop(
        full_power=options.gain_scale,
        period_s=loop.loop_period_s,
        filter_s=loop.filter_s,
        band_c=loop.band_c,
    )
    question = HeaterQuestion(
        heater=heater,
        **options.goals(),
        aim=options.aim,
        power_limit=options.power_limit,
        **lines.loop.for_question(),
        gain_scale=options.gain_scale,
        present=options.present.gains(),
        own=None,
        fan_on=None if options.fan is None else options.fan == "on",
        fan_cooling=options.fan_cooling,
        max_temp_c=options.reading.max_temp_c,
        flow_mm3_s=options.flow_mm3_s,
        watts=options.watts,
        plastic=None if options.plastic is None else PLASTICS[options.plastic],
    )
    if options.summaries:
        _refuse_range(question, "--cycle")
        return summary_answer(list(options.summaries), question, options.powers(), lines)
    wanted = options.reading.wanted(heater, how.tool)
    try:
        read = [options.reading.part_of(read_temperature(log, wanted)) for log in logs]
    except OmphalonError:
        result = _result_in(logs)
        if result is None or not result.tells:
            raise
        _refuse_range(question, "cycles alone")
        return _from_result(result, options, question, lines)
    if (result := _result_in(logs)) and result.of_test:
        question = _with_own(question, result)
    refuse_beside("a LOG", "power_high", "power_low")
    refuse_other_tool(read, how.tool)
    _refuse_unknown_heat(options, read)
    if question.present is None:
        question = replace(question, present=gains_of_bench(read, question, lines.gain_scale))
    return heater_answer(read, question, lines)


def _result_in(logs: Sequence[str]) -> ControllerResult | None:
    """What a controller printed of its test, in one text."""
    from omphalon.readers.controller import controller_result

    with contextlib.suppress(OmphalonError):
        return controller_result(logs[0]) if len(logs) == 1 else None
    return None


def _from_result(
    result: ControllerResult, options: HeaterFitOptions, question: HeaterQuestion, lines: Dialect
) -> Finding:
    """The answer where a text holds no temperatures, but what the controller made of them."""
    from omphalon.physics.loop import Gains
    from omphalon.readers.controller import FEWEST_CYCLES
    from omphalon.recordings.reports import full_power
    from omphalon.studies.heater.summary import CycleSummary
    from omphalon.studies.heater.summary_words import gains_alone_answer, summary_answer

    if result.gains and len(result.cycles) < FEWEST_CYCLES:
        return gains_alone_answer(Gains(*result.gains), lines.gain_scale)
    periods = [period or result.period_s for _, _, period in result.cycles]
    if any(period is None for period in periods):
        raise UsageError(
            "cycles without their length", "give each by hand: --cycle LOW:HIGH:SECONDS"
        )
    cycles = [
        CycleSummary(low_c=low, high_c=high, period_s=period or 0.0)
        for (low, high, _), period in zip(result.cycles, periods, strict=True)
    ]
    refuse_beside("cycles alone", *OF_A_LOG)
    powers = options.powers()
    if result.bias is not None and result.half and result.half <= result.bias:
        refuse_beside("powers in the text", "power_high", "power_low")
        full = full_power(result.bias + result.half)
        powers = ((result.bias + result.half) / full, (result.bias - result.half) / full)
    return summary_answer(cycles, _with_own(question, result), powers, lines, result.gain)


def _refuse_unknown_heat(options: HeaterFitOptions, logs: Sequence[TemperatureLog]) -> None:
    """What plastic takes is worked out, or shown by a log."""
    shown = any(log.flow_mm3_s is not None for log in logs)
    if options.flow_mm3_s and not shown and None in (options.watts, options.plastic):
        remedy = "give both, or a log with the flow in it (flow_mm3_s)"
        raise UsageError("--volume-flow without --watts and --plastic", remedy)


def _refuse_range(question: HeaterQuestion, beside: str) -> None:
    """Cycles alone do not tell how losses grow with temperature."""
    if question.range_c is not None:
        low, high = question.range_c
        raise UsageError(f"--target {low:g}:{high:g} with {beside}", "a range needs a test's log")


def _with_own(question: HeaterQuestion, result: ControllerResult) -> HeaterQuestion:
    """The question with the gains that the controller made of its test."""
    from omphalon.physics.loop import Gains

    return replace(question, own=None if result.gains is None else Gains(*result.gains))


heater.add_command(check)
