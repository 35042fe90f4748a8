"""The fit and the check of a quantity that is measured by repeated readings: one pair of commands,
made from a row.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, TypeAlias

import click

from omphalon.cli.common import Answer, Leaving, answering, readings_template
from omphalon.cli.groups import Asking

if TYPE_CHECKING:
    from omphalon.recordings.recording import Column, Readings
    from omphalon.studies.measured.engine import Measurand

# the row of the study, readings, question
Asked: TypeAlias = "tuple[Measurand[Any], Readings, Any]"


@dataclass(frozen=True, kw_only=True)
class MeasuredCommands:
    """What a quantity's commands have of their own: the records of their options, their columns and
    what a template of them is called, the texts of their help, and how options become a question.
    """

    fit: type[Any]
    check: type[Any]
    columns: Sequence[Column]
    head: str
    short: tuple[str, str]
    help: tuple[str, str]
    asked: Callable[[Any], Asked]
    dialect: bool = True
    tool: bool = False


def add_fit_and_check(group: click.Group, row: MeasuredCommands) -> None:
    """Give a group its fit and its check."""
    fit = answering(row.fit, dialect=row.dialect, tool=row.tool)(
        functools.partial(_judge, row, False)
    )
    fit = readings_template(row.columns, row.head)(fit)
    group.command("fit", cls=Asking, short_help=row.short[0], help=row.help[0])(fit)
    check = answering(row.check, dialect=False, tool=row.tool)(functools.partial(_judge, row, True))
    group.command("check", cls=Asking, short_help=row.short[1], help=row.help[1])(check)


def _judge(row: MeasuredCommands, checking: bool, how: Leaving, options: Any) -> Answer:
    how.check(options.path)
    from omphalon.studies.measured.words import measured_answer

    quantity, readings, question = row.asked(options)
    lines = how.lines() if row.dialect and not checking else None
    return measured_answer(quantity, readings, question, lines, checking)
