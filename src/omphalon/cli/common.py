"""What all commands share: their options, and how an answer leaves."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from omphalon.finding import Finding, Plan
    from omphalon.recording import Readings

Command = Callable[..., Any]
ABOVE_ZERO = click.FloatRange(min=0, min_open=True)
NOT_BELOW_ZERO = click.FloatRange(min=0)


def options(*rows: Command) -> Callable[[Command], Command]:
    """Several options (or arguments) as one decorator, shown in their order."""
    def add(command: Command) -> Command:
        for row in reversed(rows):
            command = row(command)
        return command
    return add


def chosen_readings(path: str | None, given: Mapping[str, Sequence[str]], columns: Sequence[str], words: Sequence[str] = (),
                    said: Mapping[str, str] | None = None) -> Readings:
    """Readings from a file or from repeated options {column: texts}, never both; `said` are words for all options."""
    from omphalon.errors import UsageError
    from omphalon.readers.readings import option_readings, read_readings

    if path is not None and any(given.values()):
        raise UsageError("readings in a file and in options", "give one of the two")
    return read_readings(path, columns, words) if path is not None else option_readings(given, said)


def answering(plot: bool = True) -> Callable[[Command], Command]:
    """The options of every command that answers with a Finding or a Plan."""
    def add(command: Command) -> Command:
        command = click.option("--quiet", is_flag=True, help="Print nothing but the lines to enter.")(command)
        command = click.option("--dialect", metavar="FILE", help="Templates of the printer's lines (TOML).")(command)
        if plot:
            command = click.option("--plot", metavar="FILE", help="Draw the answer into FILE.png or FILE.svg.")(command)
        return click.option("--json", "as_json", is_flag=True, help="Print one JSON document.")(command)
    return add


def leave(answer: Finding | Plan, as_json: bool, quiet: bool, plot: str | None = None) -> None:
    """Show an answer, draw it where asked, and end with its exit code."""
    from omphalon import __version__
    from omphalon.report.text import show, text_of

    drawn = False
    if plot:
        from omphalon.report.figure import save_figure

        drawn = save_figure(answer, plot)
    if as_json:
        import json

        click.echo(json.dumps(answer.document(__version__), ensure_ascii=False, indent=1, allow_nan=False))
    elif quiet:
        for line in answer.lines:
            click.echo(line)
        for warned in answer.warnings:
            click.echo(f"warning: {warned.message}; {warned.remedy}", err=True)
    else:
        show(text_of(answer))
        if plot:
            click.echo(f"\nfigure  {plot}" if drawn else "\nfigure  none: there is no answer to draw")
    sys.exit(answer.exit_code)


def check_plot(plot: str | None) -> None:
    """Refuse a bad figure name before any work."""
    if plot:
        from omphalon.report.figure import check_target

        check_target(plot)


def pairs(given: tuple[str, ...]) -> dict[str, str]:
    """NAME=HEADER options as a table."""
    from omphalon.errors import UsageError

    out = {}
    for item in given:
        name, equals, header = item.partition("=")
        if not equals or not header:
            raise UsageError(f"--column {item}: not of the form NAME=HEADER", "for example --column temperature=T1")
        out[name.strip()] = header.strip()
    return out
