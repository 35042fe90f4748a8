"""What all commands share: their kinds of option, and how an answer leaves."""

from __future__ import annotations

import functools
import sys
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, ClassVar, TypeAlias

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.base.files import put_lines, put_with
from omphalon.cli.at_work import shown_at_work
from omphalon.cli.benched import INPUTS, asked_within, choose_bench, doubted, guided, record
from omphalon.cli.known import facts_of_bench
from omphalon.cli.numbers import UNUSUAL
from omphalon.cli.options import ANSWER, Command, described, flag, option, takes, text, typed
from omphalon.cli.proposed import as_here
from omphalon.cli.writing import check_outputs
from omphalon.tables.tools import FIRST, MOST_TOOLS, Tool

if TYPE_CHECKING:
    from collections.abc import Iterable

    from omphalon.answers.finding import Finding, Plan
    from omphalon.lines.dialect import Dialect
    from omphalon.recordings.recording import Column, Readings
    from omphalon.tables.units import Number

Answer: TypeAlias = "Finding | Plan"


def chosen_readings(
    path: str | None,
    given: Mapping[str, Sequence[Number]],
    columns: Sequence[Column],
    said: Mapping[str, str] | None = None,
) -> Readings:
    """Readings from a file or from repeated options {column: numbers}; `said` are words for all
    options.
    """
    from omphalon.readers.readings import option_readings, read_readings

    return (
        read_readings(path, columns, given)
        if path is not None
        else option_readings(given, columns, said)
    )


def template(lines: Callable[[], Iterable[str]]) -> Command:
    """The option that writes an empty table to fill in, and ends."""

    def write(ctx: click.Context, _: click.Parameter, path: str | None) -> None:
        if path is None or ctx.resilient_parsing:
            return
        check_outputs(False, (), template=path)
        put_lines(path, lines())
        click.echo(f"an empty table to fill in: {echoed(path)}")
        ctx.exit(0)

    def add(command: Command) -> Command:
        option = described(
            ["--template"],
            "Write an empty table to fill in, and end.",
            {"section": ANSWER, "metavar": "FILE"},
            is_eager=True,
            expose_value=False,
            callback=write,
        )
        before = getattr(command, "__click_params__", ())
        command.__click_params__ = [option, *before]  # type: ignore[attr-defined]
        return command

    return add


def readings_template(columns: Sequence[Column], head: str) -> Command:
    """The template of a study's readings."""

    def lines() -> Iterable[str]:
        from omphalon.readers.readings import template_lines

        return template_lines(columns, head)

    return template(lines)


def bench_field() -> Any:
    """The bench, opened before any other option is read."""
    return option(
        "--bench",
        "The printer's bench.  [OMPHALON_BENCH, or this folder]",
        {"metavar": "DIR"},
        is_eager=True,
        callback=choose_bench,
    )


class ToolNumber(click.IntRange):
    """The number of a tool."""

    def __init__(self) -> None:
        super().__init__(0, MOST_TOOLS - 1)

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        return value if isinstance(value, Tool) else Tool(super().convert(value, param, ctx))


def tool_field() -> Any:
    """Which of several tools."""
    help = "Which hotend or extruder, where there are several."
    return typed("--tool", ToolNumber(), help, metavar="N", farm="one", default=FIRST, shown=False)


@dataclass(frozen=True, kw_only=True)
class Leaving:
    """How an answer is to leave: as text or JSON, quiet, with a figure, over a file that stands
    there.
    """

    section: ClassVar[str] = ANSWER

    as_json: bool = flag("--json", "Print one JSON document.")
    plot: str | None = text("--plot", "Draw the answer into FILE.png or FILE.svg.")
    dialect: str | None = text("--dialect", "Templates of the printer's lines (TOML).", farm="file")
    quiet: bool = flag("--quiet", "Print only the lines to enter.")
    force: bool = flag("--force", "Replace files that Omphalon did not write.")
    tool: Tool = tool_field()
    bench: str | None = bench_field()
    no_record: bool = flag("--no-record", "Do not record anything in the bench.")

    def check(self, *inputs: str | None, **outputs: str | None) -> None:
        """Refuse, before any work, files that must not be written."""
        click.get_current_context().meta[INPUTS] = [path for path in inputs if path is not None]
        outputs["plot"] = self.plot
        if any(path is not None for path in outputs.values()):
            check_outputs(self.force, list(filter(None, [*inputs, self.dialect])), **outputs)

    def lines(self) -> Dialect:
        """The dialect of the lines to enter, each where the bench says that it lives."""
        from omphalon.bench.facts import LIVES_FACTS
        from omphalon.lines.dialect import load_dialect

        lives = facts_of_bench(**LIVES_FACTS)
        return load_dialect(self.dialect).for_tool(self.tool).living(**lives)

    def left(self, answer: Finding | Plan) -> Finding | Plan:
        """Record an answer and show it, with its figure where one was asked for; a caller in the
        same process, who wants the answer alone, gets it unrecorded.
        """
        from omphalon.answers.commands import Prose
        from omphalon.report.text import show, show_bench, text_of

        answer = replace(answer, warnings=(*answer.warnings, *_unusual()))
        if self.tool:
            answer = replace(answer, tool=self.tool)
        if asked_within():
            return answer
        answer = doubted(answer)
        bench = None if self.no_record else record(answer)
        answer = replace(answer, next=Prose()) if guided() else answer.proposing(as_here())
        drawn = self.plot is not None and _drawn(answer, self.plot)
        if self.as_json:
            click.echo(as_json(answer, "utf" not in (sys.stdout.encoding or "").lower()))
        elif self.quiet:
            for line in answer.lines:
                click.echo(line)
            for warned in answer.warnings:
                click.echo(f"warning: {echoed(warned.message)}; {warned.remedy}", err=True)
        else:
            show(text_of(answer))
            if self.plot:
                nothing = "none: this answer has nothing to draw"
                click.echo(f"\nfigure  {echoed(self.plot) if drawn else nothing}")
            if bench:
                show_bench(bench)
        return answer


def _drawn(answer: Finding | Plan, path: str) -> bool:
    """Whether the answer has a figure, which is then written."""
    from omphalon.report.figure import draws, save_figure

    if not draws(answer):
        return False
    put_with(path, lambda file, suffix: save_figure(answer, file, suffix))
    return True


def as_json(answer: Finding | Plan, plain: bool = False) -> str:
    """An answer as its JSON document; `plain` escapes what is not ASCII."""
    import json

    from omphalon import __version__

    return json.dumps(answer.document(__version__), ensure_ascii=plain, indent=1, allow_nan=False)


def _unusual() -> list[Any]:
    """Options whose numbers can be, but are not usual."""
    from omphalon.answers.remarks import Remark

    found = click.get_current_context().meta.get(UNUSUAL, [])
    return [Remark("unusual-option", text=text) for text in dict.fromkeys(found)]


def answering(
    kind: type[Any],
    *,
    plot: bool = True,
    dialect: bool = True,
    tool: bool = False,
    bench: bool = True,
) -> Callable[[Command], Command]:
    """A command that answers with a Finding or a Plan: it is called with how its answer is to
    leave, and with the record of its own options.
    """
    without = [
        *([] if plot else ["plot"]),
        *([] if dialect else ["dialect"]),
        *([] if tool else ["tool"]),
        *([] if bench else ["bench", "no_record"]),
    ]

    def add(command: Command) -> Command:
        @functools.wraps(command)
        def gathered(*, how: Leaving, options: Any) -> Answer:
            return how.left(shown_at_work(how.quiet)(command)(how=how, options=options))

        return takes(kind)(takes(Leaving, "how", without)(gathered))

    return add


class ColumnNames(click.ParamType):  # type: ignore[type-arg]
    """One NAME=HEADER."""

    name = "NAME=HEADER"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if not isinstance(value, str):
            return value
        name, equals, header = value.partition("=")
        if not equals or not header.strip():
            raise UsageError(
                f"--column {echoed(value)}: not of the form NAME=HEADER",
                "for example --column temperature=T1",
            )
        return name.strip().lower(), header.strip()


def columns_named(pairs: Sequence[tuple[str, str]]) -> dict[str, str]:
    """Headers by the columns that they name."""
    out: dict[str, str] = {}
    for name, header in pairs:
        if name in out:
            raise UsageError(f"--column {echoed(name)}=… twice", "name each column once")
        out[name] = header
    return out
