"""omphalon printer capture."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import click

from omphalon.cli.common import Measure, choice
from omphalon.cli.printer_wire import (
    AtPrinter,
    Wired,
    at_printer,
    at_wire,
    confirmed,
    declined,
    yes,
)
from omphalon.cli.writing import check_outputs
from omphalon.errors import OmphalonError, UsageError, echoed, shown

if TYPE_CHECKING:
    from omphalon.lines.dialect import Dialect
    from omphalon.printer.capture import Captured
    from omphalon.printer.course import Course

HEATERS = choice("hotend", "bed")
USUAL_C = {"hotend": 210.0, "bed": 60.0}  # as `heater plan` has them


@click.command("capture", short_help="Keeps the temperature log while the printer runs its test.")
@click.option("--out", required=True, metavar="FILE", help="The log, a CSV for heater fit.")
@click.option(
    "--run",
    type=choice("oscillation", "hold"),
    help="The printer's own test, or heating up and holding.",
)
@click.option(
    "--heater", "which", type=HEATERS, default="hotend", show_default=True, help="Which heater."
)
@click.option(
    "--target",
    type=Measure("temperature", 35),
    metavar="C",
    help="With --run: its temperature.  [210 hotend, 60 bed]",
)
@click.option(
    "--cycles",
    type=Measure("count", 3, 30),
    default=8,
    show_default=True,
    metavar="N",
    help="With --run oscillation.",
)
@click.option("--fan", type=choice("on", "off"), help="The part fan.  [on hotend, off bed]")
@click.option("--send", "lines", multiple=True, metavar="LINE", help="A line to begin with.")
@click.option("--for", "for_s", type=Measure("time"), metavar="S", help="End after so long.")
@click.option(
    "--every",
    type=Measure("interval"),
    default=1.0,
    metavar="S",
    help="Between two reports, where each is asked for.  [1]",
)
@click.option(
    "--max-temp",
    type=Measure("temperature"),
    metavar="C",
    help="Heaters off above this.  [25 above the target]",
)
@click.option(
    "--silence",
    type=Measure("interval", 1, 60),
    default=10.0,
    metavar="S",
    help="Heaters off when nothing is heard for so long.  [10]",
)
@click.option("--warm", is_flag=True, help="With --run: do not wait until it is cold.")
@click.option("--force", is_flag=True, help="Replace a file that Omphalon did not write.")
@click.option("--quiet", is_flag=True, help="Show nothing meanwhile.")
@yes
@at_wire
def capture(
    at: Wired,
    out: str,
    run: str | None,
    which: str,
    target: float | None,
    cycles: int,
    fan: str | None,
    lines: tuple[str, ...],
    for_s: float | None,
    every: float,
    max_temp: float | None,
    silence: float,
    warm: bool,
    force: bool,
    quiet: bool,
    yes: bool,
) -> None:
    """Keep the temperature log at a printer, and end by itself when the test is over.

    Heaters off is sent at the end of a test, on Ctrl-C, above --max-temp, and when the link fails.

    \b
    Example:
      omphalon printer capture --port socket://127.0.0.1:5555 --out log.csv --for 30
    """
    check_outputs(force, (), out=out)
    if run is None and (target is not None or warm):
        raise UsageError("--target or --warm without --run", "--run oscillation, or --run hold")
    goal = target or USUAL_C[which]
    blows = fan == "on" or (fan is None and which == "hotend")
    course = (
        _watching(lines, for_s)
        if run is None
        else course_of(at.lines(), run, which, goal, cycles, blows)
    )
    if run is not None and (lines or for_s is not None):
        raise UsageError("--send or --for with --run", "a run has its own lines and its own end")
    if run is not None:
        refuse_low_limit(max_temp, goal)
        say_run(course.start(), goal, which, yes)
    with at_printer(at) as printer:
        printer.link.silence_s = silence
        if run is not None and not warm:
            cool_down(printer, which, quiet)
        done = run_course(
            printer,
            course,
            which,
            out=out,
            quiet=quiet,
            max_temp=max_temp,
            target=target and goal,
            every=every,
        )
        told = printer.cool() if run is not None or lines else ""
    for line in told_of(done, out, told):
        click.echo(line)
    if run is not None:
        click.echo(f"next    {_next(run, out, which, goal)}")
    if "not" in told:
        raise SystemExit(1)


def _watching(lines: tuple[str, ...], for_s: float | None) -> Course:
    """Looking on, after the user's own lines."""
    from omphalon.printer.course import Watching

    for line in lines:
        if not line.strip() or shown(line) != line:
            raise UsageError(f"--send {echoed(line)}: no line", "give one code and its words")
    return Watching(list(lines), for_s)


def course_of(
    dialect: Dialect, run: str, heater: str, target: float, cycles: int, fan: bool
) -> Course:
    """The course that a run is."""
    from omphalon.printer.course import INDEX, HeatAndHold, Oscillation

    if run == "hold":
        if dialect.line(f"{heater}-target", target=target) is None:
            raise _no_line(dialect, f"{heater}-target")
        return HeatAndHold(heater, target, dialect)
    line = dialect.line(f"{heater}-oscillation", index=INDEX[heater], target=target, cycles=cycles)
    if line is None:
        raise _no_line(dialect, f"{heater}-oscillation")
    return Oscillation(line, heater, dialect.line("fan", counts=255) if fan else None, cycles)


def _no_line(dialect: Dialect, setting: str) -> UsageError:
    return UsageError(f"the dialect {dialect.name} has no line {setting}", "add it: --dialect FILE")


def refuse_low_limit(max_temp: float | None, target: float) -> None:
    """A limit that the target itself passes would end every run."""
    if max_temp is not None and max_temp <= target:
        raise UsageError(
            f"--max-temp {max_temp:g}: not above the target of {target:g} °C",
            "leave it out for 25 °C above the target",
        )


def say_run(lines: list[str], target: float, heater: str, without: bool) -> None:
    """Show what a run will send, and ask; refusing ends the command with nothing sent."""
    click.echo(f"heats the {heater} to {target:g} °C; stay beside it. Lines that are sent:")
    for line in lines:
        click.echo(f"  {shown(line)}")
    click.echo("and reports are asked for; heaters off at the end.")
    if not confirmed("go on?", without):
        raise declined("nothing was sent")


def run_course(
    printer: AtPrinter,
    course: Course,
    heater: str,
    *,
    out: str | None,
    quiet: bool,
    max_temp: float | None = None,
    target: float | None = None,
    every: float = 1.0,
) -> Captured:
    """Put the printer through a course with a view of it, and say what was kept if it fails."""
    import contextlib

    from omphalon.printer.capture import capture as captured
    from omphalon.printer.capture import new_log
    from omphalon.printer.guard import Guard
    from omphalon.report.live import view_for

    guard = Guard(heater, max_temp, {heater: target} if target else None)
    lines = course.start()
    if lines:
        printer.may_heat()
    if every >= 1 or lines:
        printer.link.ask_for_reports(every)
    with contextlib.ExitStack() as stack:
        log = stack.enter_context(new_log(out, lines)) if out is not None else None
        view = stack.enter_context(view_for(quiet, passing=out is None))
        try:
            return captured(printer.link, course, heater, guard, log, view.show, every)
        except (OmphalonError, KeyboardInterrupt):
            if log is not None:
                stack.push(lambda *_: click.echo(_kept(log.rows, out), err=True))
            raise


def cool_down(printer: AtPrinter, heater: str, quiet: bool) -> None:
    """Wait until a heater is cold, where it is not."""
    from omphalon.printer.course import Cooling

    run_course(printer, Cooling(), heater, out=None, quiet=quiet)


def _kept(rows: int, out: str | None) -> str:
    return f"kept    {rows} report{'s'[: rows != 1]} in {echoed(out or '')}"


def told_of(done: Captured, out: str, told: str) -> Iterator[str]:
    """What a capture came to, line by line."""
    yield (
        f"{_kept(done.reports, out)}, {done.seconds:.0f} s, highest {done.highest_c:.1f} °C"
        + ("" if done.with_power else "; no report says the power: it is worked out from the curve")
    )
    if told:
        yield told


def _next(run: str, out: str, heater: str, target: float) -> str:
    if run == "hold":
        return f"omphalon heater check {echoed(out)} --target {target:g}"
    return f"omphalon heater fit {echoed(out)} --heater {heater} --target {target:g}"
