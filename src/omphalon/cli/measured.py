"""The fit and the check of a quantity that is measured by repeated readings: one pair of commands,
made from a row.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import UsageError
from omphalon.cli.common import (
    Answer,
    Command,
    Leaving,
    answering,
    options,
    reading_options,
    readings_template,
)
from omphalon.cli.groups import Asking

if TYPE_CHECKING:
    from omphalon.recordings.recording import Column, Readings
    from omphalon.studies.measured.engine import Measurand

Asked = tuple["Measurand[Any]", "Readings", Any]  # the row of the study, readings, question


@dataclass(frozen=True, kw_only=True)
class MeasuredCommands:
    """What a quantity's commands have of their own: its columns and what a template of them is
    called, the options before and after those of the columns, the texts of their help, and how
    options become a question.
    """

    columns: Sequence[Column]
    head: str
    before: Sequence[Command]
    after: Sequence[Command]
    fit_only: Sequence[Command] = ()
    short: tuple[str, str]
    help: tuple[str, str]
    asked: Callable[[dict[str, Any]], Asked]
    dialect: bool = True
    tool: bool = False


def together(problem: str, **given: object) -> bool:
    """Whether partners were given; some of them without the others are refused."""
    some = {name: value is not None for name, value in given.items()}
    if any(some.values()) and not all(some.values()):
        words = [
            ["--" + n.replace("_", "-") for n, there in some.items() if there == wanted]
            for wanted in (True, False)
        ]
        raise UsageError(f"{' '.join(words[0])} without {' '.join(words[1])}", problem)
    return any(some.values())


def add_fit_and_check(group: click.Group, row: MeasuredCommands) -> None:
    """Give a group its fit and its check."""
    path = click.argument("path", required=False, metavar="[READINGS.csv]")
    own = options(path, *row.before, *reading_options(row.columns), *row.after)
    fit = answering(dialect=row.dialect, tool=row.tool)(functools.partial(_judge, row, False))
    fit = own(options(*row.fit_only)(readings_template(row.columns, row.head)(fit)))
    group.command("fit", cls=Asking, short_help=row.short[0], help=row.help[0])(fit)
    check = own(answering(dialect=False, tool=row.tool)(functools.partial(_judge, row, True)))
    group.command("check", short_help=row.short[1], help=row.help[1])(check)


def _judge(row: MeasuredCommands, checking: bool, how: Leaving, **given: Any) -> Answer:
    how.check(given["path"])
    from omphalon.studies.measured.words import measured_answer

    quantity, readings, question = row.asked(given)
    lines = how.lines() if row.dialect and not checking else None
    return measured_answer(quantity, readings, question, lines, checking)
