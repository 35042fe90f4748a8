"""omphalon printer capture; and what it shares with tune: a heater put through a course, the log of
it kept.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import click

from omphalon.base.errors import UsageError
from omphalon.cli.common import tool_field
from omphalon.cli.groups import OnceEach
from omphalon.cli.heater_common import one_tool, usual_target
from omphalon.cli.known import held
from omphalon.cli.options import flag, nested, number, one_of, takes, text
from omphalon.cli.printer.send import ask_by_name, show_lines, typed_line
from omphalon.cli.printer.wire import (
    AgreeOptions,
    SilenceOptions,
    Wired,
    agree,
    agreed_dialect,
    at_printer,
    at_wire,
    confirmed,
    declined,
    kept_words,
    say_off,
)
from omphalon.cli.proposed import proposed
from omphalon.cli.writing import check_outputs
from omphalon.tables.constants import OVER_TARGET_C, STEP_C
from omphalon.tables.heaters import HEATERS, Heater
from omphalon.tables.tools import Tool

if TYPE_CHECKING:
    from omphalon.bench.work import State
    from omphalon.lines.dialect import Dialect
    from omphalon.printer.capture import Captured
    from omphalon.printer.course import Course
    from omphalon.printer.kept import KeptPrinter

TARGET_HELP = "The temperature you print at.  [210 hotend, 60 bed, 50 chamber]"
OWN_LINES = "a run has its own lines and its own end"


@dataclass(frozen=True, kw_only=True)
class HeatOptions:
    """Options of a run that heats."""

    heater: str = one_of("--heater", tuple(HEATERS), "Which heater.", default="hotend")
    tool: Tool = tool_field()
    cycles: int = number("--cycles", "count", "Of the oscillation test.", within=(3, 30), default=8)
    max_temp_c: float | None = number(
        "--max-temp",
        "temperature",
        f"Heaters off above this.  [{OVER_TARGET_C:g} above the target]",
    )
    warm: bool = flag("--warm", "Do not wait until it is cold.")
    force: bool = flag("--force", "Replace files that Omphalon did not write.")
    quiet: bool = flag("--quiet", "Show no picture meanwhile.")

    @property
    def which(self) -> Heater:
        """The heater; only a hotend is a tool's."""
        one_tool(self.heater, self.tool)
        return Heater(self.heater, self.tool)


def goal_of(target: float | None, heater: Heater) -> float:
    """The target; where none is given the one that `heater plan` takes."""
    return heater.kind.usual_target_c if target is None else target


def course_of(
    dialect: Dialect, run: str, heater: Heater, target: float, cycles: int, fan: bool
) -> Course:
    """The course that a run is."""
    from omphalon.printer.course import HeatAndHold, Oscillation

    kind = heater.kind
    if run != "oscillation":
        goal, lower = (
            dialect.line(f"{kind.name}-target", target=t) for t in (target, target - STEP_C)
        )
        if goal is None or lower is None:
            raise _no_line(dialect, f"{kind.name}-target")
        calm, blow = dialect.line("fan-off"), dialect.line("fan", counts=255)
        later = {
            "hold": [(kind.fan_after_s, blow)] if fan and blow and kind.fan_after_s else [],
            "heat-up": [],
            "step": [(kind.hold_s, lower), (2 * kind.hold_s, goal)],
        }
        whole = kind.hold_s * (3 if run == "step" else 1)
        begin = [calm, goal] if calm else [goal]
        return HeatAndHold(target, begin, later[run], whole, blow if calm else None)
    line = dialect.line(f"{kind.name}-oscillation", index=kind.index, target=target, cycles=cycles)
    if line is None:
        raise _no_line(dialect, f"{kind.name}-oscillation")
    return Oscillation(
        line, heater, target, dialect.line("fan", counts=255) if fan else None, cycles
    )


def _no_line(dialect: Dialect, setting: str) -> UsageError:
    own = dialect.tool.line(setting)
    return UsageError(f"the dialect {dialect.name} has no line {own}", "add it: --dialect FILE")


def refuse_low_limit(max_temp: float | None, target: float) -> None:
    """A limit that the target itself passes would end every run."""
    if max_temp is not None and max_temp <= target:
        raise UsageError(
            f"--max-temp {max_temp:g}: not above the target of {target:g} °C",
            f"leave it out for {OVER_TARGET_C:g} °C above the target",
        )


def run_course(
    printer: KeptPrinter,
    course: Course,
    heater: Heater,
    *,
    out: str | None,
    quiet: bool,
    max_temp: float | None = None,
    every: float = 1.0,
) -> Captured:
    """Put the printer through a course with a view of it."""
    from omphalon.report.live import view_for

    if every >= 1 or course.start():
        printer.ask_for_reports(every)
    with view_for(quiet, passing=out is None) as view:
        return printer.run(
            course,
            heater,
            view.show,
            out=out,
            every_s=every,
            max_temp_c=max_temp,
            arrives_s=arrives_within(heater, getattr(course, "target_c", None)),
        )


def arrives_within(heater: Heater, target_c: float | None) -> float | None:
    """How long a heater may take to a target, by the model that the bench's last fit found: twice
    its rise at full power, and a minute; None where no bench knows it.
    """
    found = held()
    entries = [] if found is None else found[0].journal.entries(kind="finding")
    whose = (heater.name, heater.tool.number)
    for entry in entries:
        document = entry.body["document"]
        evidence = document["evidence"]
        own = (evidence.get("heater"), document.get("tool", 0)) == whose
        if entry.subject == "heater-fit" and own and target_c and evidence["model"]:
            model = evidence["model"]
            share = (target_c - model["ambient_c"]) / model["gain_c"]
            if not 0 < share < 1:
                return None
            return 60.0 - 2 * float(model["time_constant_s"]) * math.log(1 - share)
    return None


def cool_down(printer: KeptPrinter, heater: Heater, quiet: bool) -> None:
    """Wait until a heater is cold, where it is not."""
    from omphalon.printer.course import Cooling

    run_course(printer, Cooling(), heater, out=None, quiet=quiet)


def _run_target(state: State, given: CaptureOptions) -> object:
    """The usual target, where a run was asked for."""
    return usual_target(state, given.heat) if given.run else None


@dataclass(frozen=True, kw_only=True)
class CaptureOptions:
    """Options of `printer capture`."""

    out: str = text("--out", "The log, a CSV for heater fit.", required=True)
    run: str | None = one_of(
        "--run",
        ("oscillation", "hold", "heat-up", "step"),
        "The printer's own test; heating up and holding, the part fan on late in it or not at all, "
        "or the target lowered for a while.",
    )
    target_c: float | None = number(
        "--target", "temperature", TARGET_HELP, least=35, bench=_run_target, needs=("run",)
    )
    heat: HeatOptions = nested(HeatOptions)
    fan: str | None = one_of("--fan", ("on", "off"), "The part fan.  [on hotend, off bed]")
    lines: tuple[str, ...] = text(
        "--send",
        "A line to send first.",
        metavar="LINE",
        many=True,
        excludes=("run",),
        remedy=OWN_LINES,
    )
    for_s: float | None = number(
        "--for", "time", "End after this time.", excludes=("run",), remedy=OWN_LINES
    )
    every_s: float = number(
        "--every",
        "interval",
        "Seconds between two reports, where each is asked for.  [1]",
        default=1.0,
        shown=False,
    )
    silence: SilenceOptions = nested(SilenceOptions)
    agree: AgreeOptions = nested(AgreeOptions)


@click.command(
    "capture", cls=OnceEach, short_help="Keeps the temperature log while the printer runs its test."
)
@takes(CaptureOptions)
@at_wire
def capture(at: Wired, options: CaptureOptions) -> None:
    """Keep the temperature log at a printer, and end by itself when the test is over.

    Heaters off is sent at the end of a test, on Ctrl-C, above --max-temp, and when the link fails.

    \b
    Example:
      omphalon printer capture --port socket://127.0.0.1:5555 --out log.csv --for 30
    """
    heat, out, run, lines = options.heat, options.out, options.run, options.lines
    check_outputs(heat.force, (), out=out)
    dialect = agreed_dialect(at, options.agree.yes)
    which = heat.which
    if run is None and heat.warm:
        raise UsageError("--warm without --run", "--run oscillation, or --run hold")
    goal = goal_of(options.target_c, which)
    blows = options.fan == "on" or (options.fan is None and which.is_hotend)
    if run is None:
        course = _watching(lines, options.for_s, which)
        if options.for_s is None:
            cold = "when what it heats has been off for some minutes, or " if lines else ""
            click.echo(f"watching; it ends {cold}with Ctrl-C; --for S ends it by itself")
        agree(lines)
        ask_by_name(lines, dialect, options.agree.allowed)
    else:
        course = course_of(dialect.for_tool(heat.tool), run, which, goal, heat.cycles, blows)
        refuse_low_limit(heat.max_temp_c, goal)
        _say_run(course.every_line(), goal, which)
        ask_by_name(course.every_line(), dialect, options.agree.allowed)
        if not confirmed("go on?", options.agree.yes):
            raise declined("nothing was sent")
    with at_printer(at, dialect, options.silence.silence_s) as printer:
        if run is not None and not heat.warm:
            cool_down(printer, which, heat.quiet)
        done = run_course(
            printer,
            course,
            which,
            out=out,
            quiet=heat.quiet,
            max_temp=heat.max_temp_c,
            every=options.every_s,
        )
        off = printer.cool() if run is not None or lines else None
    click.echo(_came_to(done, out))
    if off is not None:
        say_off(off)
    if run is not None:
        click.echo(f"next    {_next(run, out, which, goal, blows)}")


def _watching(lines: tuple[str, ...], for_s: float | None, heater: Heater) -> Course:
    """Looking on, after the user's own lines."""
    from omphalon.printer.course import Watching

    return Watching([typed_line(line, "--send") for line in lines], for_s, heater)


def _say_run(lines: list[str], target: float, heater: Heater) -> None:
    """Show what a run will send."""
    click.echo(f"heats the {heater} to {target:g} °C; stay beside it. Lines that are sent:")
    show_lines(lines)
    click.echo("and reports are asked for; heaters off at the end.")


def _came_to(done: Captured, out: str) -> str:
    """What a capture came to."""
    silent = "; no report says the power: it is worked out from the curve"
    return (
        f"{kept_words(done.reports, out)}, {done.seconds:.0f} s, highest {done.highest_c:.1f} °C"
        + ("" if done.with_power else silent)
    )


def _next(run: str, out: str, heater: Heater, target: float, blew: bool) -> str:
    if run == "hold":
        return proposed("heater check", out, heater=heater.name, target=target)
    fan = "on" if blew and run == "oscillation" else "off"
    return proposed("heater fit", out, heater=heater.name, target=target, fan=fan)
