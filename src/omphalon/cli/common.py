"""What all commands share: their kinds of option, and how an answer leaves."""

from __future__ import annotations

import functools
import re
import sys
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, fields, replace
from typing import TYPE_CHECKING, Any, TypeAlias, TypeVar

import click
from click.core import ParameterSource

from omphalon.base.errors import UsageError, echoed
from omphalon.base.files import put_lines, put_with
from omphalon.cli.at_work import shown_at_work
from omphalon.cli.benched import INPUTS, asked_within, choose_bench, doubted, record
from omphalon.cli.groups import ANSWER, section
from omphalon.cli.writing import check_outputs
from omphalon.tables.heaters import MOST_TOOLS
from omphalon.tables.quantities import QUANTITIES
from omphalon.tables.units import NoSuchNumber, Number, is_usual, number_in, plural

if TYPE_CHECKING:
    from collections.abc import Iterable

    from omphalon.answers.finding import Finding, Plan
    from omphalon.lines.dialect import Dialect
    from omphalon.recordings.recording import Column, Readings

Command = Callable[..., Any]
Filled = TypeVar("Filled")
Answer: TypeAlias = "Finding | Plan"
UNUSUAL = "omphalon.unusual"
# unit, or quantity where it has none → what stands for a number in help
METAVARS = {"mm": "MM", "mm/s": "MM_S", "mm/s²": "MM_S2", "Hz": "HZ", "Hz/s": "HZ_S", "s": "S"}
# unit → what an option's name ends with, as the field does that it fills
ENDS = {"mm": "_mm", "mm/s": "_mm_s", "mm/s²": "_mm_s2", "°C": "_c", "s": "_s", "Hz": "_hz"}
DRAWN = "Draw the answer into FILE.png or FILE.svg."
TEMPLATES = "Templates of the printer's lines (TOML)."


class Measure(click.ParamType):  # type: ignore[type-arg]
    """An option's number: a row of the table of quantities, perhaps in a narrower range."""

    name = "number"

    def __init__(
        self,
        quantity: str,
        lowest: float | None = None,
        highest: float | None = None,
        reading: bool = False,
    ) -> None:
        self.quantity, self.lowest, self.highest, self.reading = (
            QUANTITIES[quantity],
            lowest,
            highest,
            reading,
        )

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if not isinstance(value, str):
            return value
        option = param.opts[0] if param is not None and param.opts else "the number"
        number = parsed(value, self, option)
        if ctx is not None and not is_usual(number.value, self.quantity) and not self.reading:
            ctx.meta.setdefault(UNUSUAL, []).append(f"{option} {echoed(value)}")
        if self.reading:
            return number
        return int(number.value) if self.quantity.whole else number.value


def parsed(text: str, measure: Measure, option: str) -> Number:
    """A text as a number, or a UsageError that names the option."""
    try:
        return number_in(text, measure.quantity, measure.lowest, measure.highest)
    except NoSuchNumber as error:
        raise UsageError(f"{option} {echoed(text)}: {error.problem}", error.remedy) from error


def numbers_of(text: str, measure: Measure, count: int, option: str, example: str) -> list[float]:
    """Numbers between colons, as many as asked for."""
    parts = text.split(":")
    if len(parts) != count or not all(p.strip() for p in parts):
        raise UsageError(
            f"{option} {echoed(text)}: not {plural(count, 'number')}"
            f"{' with colons between' if count > 1 else ''}",
            f"for example {example}",
        )
    return [parsed(part, measure, option).value for part in parts]


def choice(*words: str) -> click.Choice[str]:
    """One of some words, whatever their case."""
    return click.Choice(list(words), case_sensitive=False)


def options(*rows: Command) -> Callable[[Command], Command]:
    """Several options (or arguments) as one decorator, shown in their order."""

    def add(command: Command) -> Command:
        for row in reversed(rows):
            command = row(command)
        return command

    return add


METAVARS |= {"°C": "C", "s/mm": "S", "share": "F", "flow": "F", "times": "F", "damping": "Z"}


def number(
    option: str,
    quantity: str,
    help: str,
    *,
    least: float | None = None,
    within: tuple[float, float] | None = None,
    name: str | None = None,
    reading: bool = False,
    **more: Any,
) -> Command:
    """An option that holds a number of a quantity, perhaps in a narrower range; its default is
    shown. Its name ends with its unit: --bed-temp is `bed_temp_c`.
    """
    low, high = (least, None) if within is None else within
    row = QUANTITIES[quantity]
    metavar = METAVARS.get(row.unit) or METAVARS.get(quantity, "N")
    more = {"metavar": metavar, "show_default": more.get("default") is not None, **more}
    name = name or option[2:].replace("-", "_") + ENDS.get(row.unit, "")
    return click.option(option, name, type=Measure(quantity, low, high, reading), help=help, **more)


def filled(kind: Callable[..., Filled], given: Mapping[str, Any], **more: Any) -> Filled:
    """A dataclass out of the options that are named as its fields, and of `more`; what was not
    given is left to its default.
    """
    names = {field.name for field in fields(kind)}  # type: ignore[arg-type]
    own = {name: given[name] for name in names & given.keys() if given[name] is not None}
    return kind(**{**own, **more})


def reading_options(columns: Sequence[Column]) -> list[Command]:
    """A repeatable option for each column that holds a number."""
    return [
        number(c.option, c.quantity, c.help, name=c.name, reading=True, multiple=True)
        for c in columns
        if c.quantity is not None
    ]


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

    return section(
        ANSWER,
        click.option(
            "--template",
            metavar="FILE",
            is_eager=True,
            expose_value=False,
            callback=write,
            help="Write an empty table to fill in, and end.",
        ),
    )


def readings_template(columns: Sequence[Column], head: str) -> Command:
    """The template of a study's readings."""

    def lines() -> Iterable[str]:
        from omphalon.readers.readings import template_lines

        return template_lines(columns, head)

    return template(lines)


@dataclass(frozen=True, kw_only=True)
class Leaving:
    """How an answer is to leave: as text or JSON, quiet, with a figure, over a file that stands
    there.
    """

    as_json: bool
    quiet: bool
    force: bool
    plot: str | None = None
    dialect: str | None = None
    bench: str | None = None
    no_record: bool = False
    tool: int | None = None

    def check(self, *inputs: str | None, **outputs: str | None) -> None:
        """Refuse, before any work, files that must not be written."""
        click.get_current_context().meta[INPUTS] = [path for path in inputs if path is not None]
        outputs["plot"] = self.plot
        if any(path is not None for path in outputs.values()):
            check_outputs(self.force, list(filter(None, [*inputs, self.dialect])), **outputs)

    def lines(self) -> Dialect:
        """The dialect of the lines to enter."""
        from omphalon.lines.dialect import load_dialect

        return load_dialect(self.dialect).for_tool(self.tool)

    def left(self, answer: Finding | Plan) -> Finding | Plan:
        """Record an answer and show it, with its figure where one was asked for; a caller in the
        same process, who wants the answer alone, gets it unrecorded.
        """
        from omphalon.report.text import show, show_bench, text_of

        answer = replace(answer, warnings=(*answer.warnings, *_unusual()))
        if self.tool:
            answer = replace(answer, tool=self.tool, next=_with_tool(answer.next, self.tool))
        if asked_within():
            return answer
        answer = doubted(answer)
        bench = None if self.no_record else record(answer)
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


def _with_tool(text: str, tool: int) -> str:
    """What comes next, its commands about the same tool."""
    return re.sub(r"(omphalon (?:heater|extruder|flow|advance) \w+)", rf"\1 --tool {tool}", text)


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
    return [Remark("unusual-option", {"text": text}) for text in dict.fromkeys(found)]


bench_option = click.option(
    "--bench",
    metavar="DIR",
    is_eager=True,
    callback=choose_bench,
    help="The printer's bench.  [OMPHALON_BENCH, or this folder]",
)
in_bench = options(
    bench_option, click.option("--no-record", is_flag=True, help="Leave no trace in the bench.")
)


tool_option = click.option(
    "--tool",
    type=click.IntRange(0, MOST_TOOLS - 1),
    metavar="N",
    help="Which of several hotends and extruders.",
)


def answering(
    plot: bool = True, dialect: bool = True, bench: bool = True, tool: bool = False
) -> Callable[[Command], Command]:
    """The options of every command that answers with a Finding or a Plan; they reach it as one
    `how`.
    """

    rows: tuple[Any, ...] = (
        click.option("--json", "as_json", is_flag=True, help="Print one JSON document."),
        plot and click.option("--plot", metavar="FILE", help=DRAWN),
        dialect and click.option("--dialect", metavar="FILE", help=TEMPLATES),
        click.option("--quiet", is_flag=True, help="Print nothing but the lines to enter."),
        click.option("--force", is_flag=True, help="Replace files that Omphalon did not write."),
        tool and tool_option,
        bench and in_bench,
    )

    def add(command: Command) -> Any:
        @functools.wraps(command)
        def gathered(*args: Any, **given: Any) -> Any:
            names = Leaving.__dataclass_fields__
            how = Leaving(**{name: given.pop(name) for name in names if name in given})
            return how.left(shown_at_work(how.quiet)(command)(*args, how=how, **given))

        return section(ANSWER, *filter(None, rows))(gathered)

    return add


def by_hand(*names: str) -> str:
    """The first of these options of the running command that was given on the command line."""
    ctx = click.get_current_context()
    given = {n for n in names if ctx.get_parameter_source(n) is ParameterSource.COMMANDLINE}
    return next((param.opts[0] for param in ctx.command.params if param.name in given), "")


def refuse_idle(beside: str, *names: str) -> None:
    """Refuse these options where they were given: they have no say beside that."""
    if idle := by_hand(*names):
        raise UsageError(f"{idle} with {beside}: it has no say there", "leave it out")


def pairs(given: tuple[str, ...]) -> dict[str, str]:
    """NAME=HEADER options as a table."""
    out = {}
    for item in given:
        name, equals, header = item.partition("=")
        if not equals or not header.strip():
            raise UsageError(
                f"--column {echoed(item)}: not of the form NAME=HEADER",
                "for example --column temperature=T1",
            )
        if name.strip().lower() in out:
            raise UsageError(f"--column {echoed(name)}=… twice", "name each column once")
        out[name.strip().lower()] = header.strip()
    return out
