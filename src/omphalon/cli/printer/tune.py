"""omphalon printer tune heater | extruder: the whole loop over the wire, every step agreed to."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from omphalon.cli.heater import aim_field, style_field
from omphalon.cli.heater_common import usual_target
from omphalon.cli.known import facts_of_bench
from omphalon.cli.options import nested, number, takes, text
from omphalon.cli.printer.capture import (
    TARGET_HELP,
    HeatOptions,
    cool_down,
    course_of,
    goal_of,
    refuse_low_limit,
    run_course,
)
from omphalon.cli.printer.evening import Evening, evening
from omphalon.cli.printer.feed import extruder
from omphalon.cli.printer.send import ask_by_name, show_lines
from omphalon.cli.printer.setter import Setter, shown_and_kept
from omphalon.cli.printer.wire import (
    AgreeOptions,
    Wired,
    agreed_dialect,
    at_printer,
    at_wire,
    confirmed,
    declined,
    say_off,
)
from omphalon.cli.writing import check_outputs
from omphalon.tables.heaters import Heater

if TYPE_CHECKING:
    from omphalon.answers.finding import Finding
    from omphalon.lines.dialect import Dialect
    from omphalon.recordings.recording import TemperatureLog


HOW = {"oscillation": " on and off", "step": ", lowers it for a while", "heat-up": " and holds it"}


@click.group(cls=Evening)
def tune() -> None:
    """The whole loop over the wire, every step asked for: of one group, or, without a group, of all
    that is due.
    """


tune.add_command(extruder)
tune.add_command(evening)


@dataclass(frozen=True, kw_only=True)
class TuneOptions:
    """Options of `printer tune heater`."""

    target_c: float | None = number(
        "--target",
        "temperature",
        TARGET_HELP,
        least=35,
        bench=lambda state, given: usual_target(state, given.heat),
    )
    heat: HeatOptions = nested(HeatOptions)
    aim: str = aim_field()
    style: str = style_field()
    out: str = text(
        "--out", "Where the logs are put.  [here]", metavar="DIR", default=".", shown=False
    )
    agree: AgreeOptions = nested(AgreeOptions)


@tune.command("heater", short_help="Gains: test, fit, set, store, heat again, check.")
@takes(TuneOptions)
@at_wire
def heater(at: Wired, options: TuneOptions) -> int:
    """Find, set, store and check the gains of the hotend or the bed. Every step is asked for; who
    refuses one finds the printer as it was, and cold.

    \b
    Example:
      omphalon printer tune heater --heater hotend --target 235 --port socket://127.0.0.1:5555
    """
    heat, style, yes = options.heat, options.style, options.agree.yes
    which = heat.which
    goal, dialect = goal_of(options.target_c, which), agreed_dialect(at, yes)
    own = dialect.for_tool(heat.tool)
    name = str(which).replace(" ", "-")
    logs = {run: str(Path(options.out) / f"{name}-{run}.csv") for run in (style, "hold")}
    check_outputs(heat.force, (), **logs)
    refuse_low_limit(heat.max_temp_c, goal)
    fan = style == "oscillation" and which.is_hotend and "fan" in own.templates
    courses = {n: course_of(own, n, which, goal, heat.cycles, which.is_hotend) for n in logs}
    lines = [line for one in courses.values() for line in one.every_line()]
    _show_session(which, style, goal, lines, dialect, options.agree.allowed)
    if not confirmed("begin?", yes):
        raise declined("nothing was sent")

    with at_printer(at, dialect) as printer:

        def measured(name: str) -> str:
            if not heat.warm:
                cool_down(printer, which, heat.quiet)
            run_course(
                printer,
                courses[name],
                which,
                out=logs[name],
                quiet=heat.quiet,
                max_temp=heat.max_temp_c,
            )
            say_off(printer.cool())
            return logs[name]

        setter = Setter(
            printer=printer,
            dialect=own,
            keys=(f"{heat.heater}-gains",),
            found=printer.listing(),
            without=yes,
        )
        finding = _gains_finding(measured(style), which, goal, options.aim, fan, setter)
        if finding.verdict == "retest":
            return finding.exit_code
        put = setter.put(finding)
        if not confirmed("heat again, and check?", yes):
            if put:
                setter.keep_or_restore()
            raise declined("not checked")
        judged = _judged(measured("hold"), which, goal)
        if judged.verdict == "change" and put:
            setter.keep_or_restore()
    return judged.exit_code


def _show_session(
    which: Heater,
    style: str,
    goal: float,
    lines: Sequence[str],
    dialect: Dialect,
    allowed: Sequence[str],
) -> None:
    click.echo(
        f"1 heats the {which} to {goal:g} °C{HOW[style]}, and keeps the log; 2 fits the gains; "
        "3 sends, stores and reads them back; 4 heats again, and checks them."
    )
    click.echo(f"It takes {which.kind.minutes}. Stay beside it. Lines that are sent:")
    show_lines(lines)
    click.echo("and the lines of the new gains, which are shown before.")
    ask_by_name(lines, dialect, allowed)


def _read(path: str, which: Heater) -> TemperatureLog:
    from omphalon.readers.temperature import Wanted, read_temperature

    full_power = facts_of_bench(full_power="heaters.full_power").get("full_power")
    return read_temperature(
        path, Wanted(heater=which, full_power=full_power, every_s=None, columns={})
    )


def _gains_finding(
    path: str, which: Heater, goal: float, aim: str, fan: bool, setter: Setter
) -> Finding:
    """The gains of an oscillation test, beside those the printer was found with."""
    from omphalon.physics.loop import Gains
    from omphalon.studies.heater.question import HeaterQuestion
    from omphalon.studies.heater.words import heater_answer

    own = [one.values for one in setter.listed()]
    gains = [float(own[-1][k]) for k in ("kp", "ki", "kd")] if own else []
    question = HeaterQuestion(
        heater=which.name,
        target_c=goal,
        aim=aim,
        fan_on=fan,
        own=None,
        present=Gains(*gains) if gains and gains[0] else None,
        **facts_of_bench(power_limit="heaters.power_limit"),
        **setter.dialect.loop.for_question(),
    )
    logs = [_read(path, which)]
    finding = replace(heater_answer(logs, question, setter.dialect), tool=which.tool)
    shown_and_kept(finding, [path])
    return finding


def _judged(path: str, which: Heater, goal: float) -> Finding:
    from omphalon.studies.heater.check_words import heater_check_answer
    from omphalon.studies.heater.question import CheckQuestion

    question = CheckQuestion(target_c=goal, heater=which.name)
    logs = [_read(path, which)]
    finding = replace(heater_check_answer(logs, question), tool=which.tool)
    shown_and_kept(finding, [path])
    return finding
