"""omphalon printer capture."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from omphalon.cli.common import choice, number
from omphalon.cli.printer.run import (
    cool_down,
    course_of,
    goal_of,
    heated,
    one_heater,
    refuse_low_limit,
    run_course,
)
from omphalon.cli.printer.send import ask_by_name, show_lines, typed_line
from omphalon.cli.printer.wire import (
    Wired,
    agreed_dialect,
    at_printer,
    at_wire,
    confirmed,
    declined,
    kept_words,
    say_off,
    silence,
    yes,
)
from omphalon.cli.writing import check_outputs
from omphalon.errors import UsageError, echoed
from omphalon.heaters import is_hotend

if TYPE_CHECKING:
    from omphalon.printer.capture import Captured
    from omphalon.printer.course import Course


@click.command("capture", short_help="Keeps the temperature log while the printer runs its test.")
@click.option("--out", required=True, metavar="FILE", help="The log, a CSV for heater fit.")
@click.option(
    "--run",
    type=choice("oscillation", "hold", "heat-up", "step"),
    help="The printer's own test; heating up and holding, the part fan on late in it or not at "
    "all, or the target lowered for a while.",
)
@heated
@click.option("--fan", type=choice("on", "off"), help="The part fan.  [on hotend, off bed]")
@click.option("--send", "lines", multiple=True, metavar="LINE", help="A line to begin with.")
@number("--for", "time", "End after so long.", name="for_s")
@number(
    "--every",
    "interval",
    "Seconds between two reports, where each is asked for.  [1]",
    default=1.0,
    show_default=False,
)
@silence
@yes
@at_wire
def capture(
    at: Wired,
    out: str,
    run: str | None,
    which: str,
    tool: int | None,
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
    dialect = agreed_dialect(at, yes)
    which = one_heater(which, tool)
    if run is None and (target is not None or warm):
        raise UsageError("--target or --warm without --run", "--run oscillation, or --run hold")
    goal = goal_of(target, which)
    blows = fan == "on" or (fan is None and is_hotend(which))
    course = (
        _watching(lines, for_s, which)
        if run is None
        else course_of(dialect.for_tool(tool), run, which, goal, cycles, blows)
    )
    if run is not None and (lines or for_s is not None):
        raise UsageError("--send or --for with --run", "a run has its own lines and its own end")
    if run is not None:
        refuse_low_limit(max_temp, goal)
        _say_run(course.start(), goal, which, yes)
    if run is None and for_s is None:
        cold = "when what it heats has been off for some minutes, or " if lines else ""
        click.echo(f"watching; it ends {cold}with Ctrl-C; --for S ends it by itself")
    ask_by_name(lines, dialect)
    with at_printer(at, dialect, silence) as printer:
        if run is not None and not warm:
            cool_down(printer, which, quiet)
        done = run_course(
            printer, course, which, out=out, quiet=quiet, max_temp=max_temp, every=every
        )
        off = printer.cool() if run is not None or lines else None
    click.echo(_came_to(done, out))
    if off is not None:
        say_off(off)
    if run is not None:
        click.echo(f"next    {_next(run, out, which, goal, blows)}")


def _watching(lines: tuple[str, ...], for_s: float | None, heater: str) -> Course:
    """Looking on, after the user's own lines."""
    from omphalon.printer.course import Watching

    return Watching([typed_line(line, "--send") for line in lines], for_s, heater)


def _say_run(lines: list[str], target: float, heater: str, without: bool) -> None:
    """Show what a run will send, and ask; refusing ends the command with nothing sent."""
    click.echo(f"heats the {heater} to {target:g} °C; stay beside it. Lines that are sent:")
    show_lines(lines)
    click.echo("and reports are asked for; heaters off at the end.")
    if not confirmed("go on?", without):
        raise declined("nothing was sent")


def _came_to(done: Captured, out: str) -> str:
    """What a capture came to."""
    silent = "; no report says the power: it is worked out from the curve"
    return (
        f"{kept_words(done.reports, out)}, {done.seconds:.0f} s, highest {done.highest_c:.1f} °C"
        + ("" if done.with_power else silent)
    )


def _next(run: str, out: str, heater: str, target: float, blew: bool) -> str:
    if run == "hold":
        return f"omphalon heater check {echoed(out)} --target {target:g}"
    fan = "on" if blew and run == "oscillation" else "off"
    return f"omphalon heater fit {echoed(out)} --heater {heater} --target {target:g} --fan {fan}"
