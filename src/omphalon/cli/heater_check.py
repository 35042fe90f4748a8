"""omphalon heater check: a loop by its log, alone or against an earlier one."""

from __future__ import annotations

from dataclasses import dataclass, replace

import click

from omphalon.base.errors import UsageError
from omphalon.cli.common import Answer, Leaving, answering
from omphalon.cli.groups import OnceEach
from omphalon.cli.heater_common import (
    ReadingOptions,
    heater_of_log,
    one_tool,
    refuse_other_tool,
    usual_target,
)
from omphalon.cli.known import held
from omphalon.cli.options import argument, nested, number
from omphalon.tables.constants import NORMAL_95


def _known_health(heater: str) -> dict[str, tuple[float, float]]:
    """A heater's health as the bench first knew it under the gains in force, with deviations."""
    from omphalon.bench.work import known_health

    if (found := held()) is None:
        return {}
    gains = found[1].settings.get(f"{heater}-gains")
    findings = found[0].journal.entries(kind="finding")
    known = known_health(findings, heater, gains.entry if gains else 0)
    return {n: (one["value"], one["spread"] / NORMAL_95) for n, one in known.items()}


@dataclass(frozen=True, kw_only=True)
class HeaterCheckOptions:
    """Options of `heater check`."""

    log: str = argument("LOG", required=True)
    later: str | None = argument("[LATER]")
    heater: str | None = heater_of_log()
    target_c: float = number(
        "--target",
        "temperature",
        "The temperature it should hold.",
        least=35,
        required=True,
        bench=usual_target,
    )
    reading: ReadingOptions = nested(ReadingOptions)
    fan_at_s: float | None = number("--fan-at", "time", "When the part fan came on.  [found]")


@click.command(
    "check", cls=OnceEach, short_help="Judges a loop from the log of a heat-up and a hold."
)
@answering(HeaterCheckOptions, dialect=False, tool=True)
def check(how: Leaving, options: HeaterCheckOptions) -> Answer:
    """Judge a loop from the LOG of a heat-up and a hold, the part fan coming on late in it.

    With two logs, LOG is the one before the change and LATER the one after; LATER is judged.

    \b
    Example:
      omphalon heater check hold-before.csv hold-after.csv --target 235 --plot check.png
    """
    log, later, reading = options.log, options.later, options.reading
    how.check(log, later)
    heater = one_tool(options.heater, how.tool)
    from omphalon.readers.temperature import read_temperature
    from omphalon.studies.heater.check_words import heater_check_answer
    from omphalon.studies.heater.question import CheckQuestion

    reading.refuse_upside_down()
    if log == later:
        raise UsageError("before and after are one log", "give two, or one")
    wanted = reading.wanted(heater, how.tool)
    logs = [read_temperature(path, wanted) for path in (log, later) if path is not None]
    refuse_other_tool(logs, how.tool)
    question = CheckQuestion(
        target_c=options.target_c,
        heater=heater,
        from_s=reading.from_s,
        to_s=reading.to_s,
        fan_at_s=options.fan_at_s,
        max_temp_c=reading.max_temp_c,
    )
    if later is None:
        question = replace(question, health=_known_health(question.which))
    return heater_check_answer(logs, question)
