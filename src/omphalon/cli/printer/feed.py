"""omphalon printer tune extruder."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import click

from omphalon.base.errors import LinkFault, Lowered, UsageError, echoed
from omphalon.cli.asking import BACK
from omphalon.cli.common import tool_field
from omphalon.cli.extruder import Fed
from omphalon.cli.groups import OnceEach
from omphalon.cli.numbers import Measure, parsed
from omphalon.cli.options import nested, number, takes
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
    forget_keys,
    say_off,
)
from omphalon.recordings.columns import EXTRUDER as COLUMNS
from omphalon.tables.constants import UNWATCHED_S
from omphalon.tables.tools import Tool

if TYPE_CHECKING:
    from omphalon.answers.finding import Finding
    from omphalon.lines.dialect import Dialect
    from omphalon.printer.kept import KeptPrinter
    from omphalon.recordings.recording import Readings
    from omphalon.tables.units import Number

LEFT = Measure("length", reading=True)
WRONG = f"{BACK}: the last one is wrong"


@dataclass(frozen=True, kw_only=True)
class Feeding:
    """A feeding test: the lines that heat and feed, the length, and how often."""

    heat: tuple[str, ...]
    feed: str
    asked_mm: float
    runs: int
    dialect: Dialect

    @property
    def mark_mm(self) -> float:
        """Where the mark is set, as `extruder plan` has it."""
        from omphalon.studies.measured.extruder import BEYOND_MM

        return self.asked_mm + BEYOND_MM


def feeding_of(dialect: Dialect, asked: float, runs: int, temp: float, rate: float) -> Feeding:
    """The lines of a feeding test, from a dialect.

    Raises UsageError if it has no line for one of them.
    """
    lines = {
        "heat": dialect.line("heat", target=temp),
        "relative-feed": dialect.line("relative-feed"),
        "feed": dialect.line("feed", length=asked, feed=max(60 * rate, 1.0)),
    }
    missing = [name for name, line in lines.items() if line is None]
    if missing:
        raise UsageError(
            f"the dialect {dialect.name} has no line {missing[0]}", "add it: --dialect FILE"
        )
    select = dialect.line("select") if dialect.tool else None
    return Feeding(
        heat=(*([select] if select else []), str(lines["heat"]), str(lines["relative-feed"])),
        feed=str(lines["feed"]),
        asked_mm=asked,
        runs=runs,
        dialect=dialect,
    )


@dataclass(frozen=True, kw_only=True)
class FeedOptions:
    """Options of `printer tune extruder`."""

    fed: Fed = nested(Fed)
    runs: int = number("--runs", "count", "How often.", within=(2, 20), default=3)
    rate_mm_s: float = number("--rate", "speed", "Feeding speed.", within=(0.1, 20), default=1.5)
    waits_s: float = number(
        "--waits",
        "time",
        f"Switch the heaters off when a step takes you longer than this.  [{UNWATCHED_S:g}]",
        within=(0.1, 3600),
        default=UNWATCHED_S,
        shown=False,
    )
    tool: Tool = tool_field()
    agree: AgreeOptions = nested(AgreeOptions)


@click.command(
    "extruder", cls=OnceEach, short_help="Steps: feed, measure, fit, set, store, feed again, check."
)
@takes(FeedOptions)
@at_wire
def extruder(at: Wired, options: FeedOptions) -> int:
    """Find, set, store and check the steps of the extruder; you mark the filament and read the
    rule. Every step is asked for; who refuses one finds the printer as it was, and cold.

    \b
    Example:
      omphalon printer tune extruder --port socket://127.0.0.1:5555
    """
    fed, yes = options.fed, options.agree.yes
    dialect = agreed_dialect(at, yes)
    own = dialect.for_tool(options.tool)
    feeding = feeding_of(own, fed.asked_mm, options.runs, fed.temp_c, options.rate_mm_s)
    click.echo(
        f"1 heats to {fed.temp_c:g} °C and feeds {options.runs} times {fed.asked_mm:g} mm, you "
        "read what is left; "
        "2 fits the steps; 3 sends, stores and reads them back; 4 feeds again, and checks. Lines "
        "that are sent:"
    )
    show_lines([*feeding.heat, feeding.feed])
    ask_by_name([*feeding.heat, feeding.feed], feeding.dialect, options.agree.allowed)
    if not confirmed("begin?", yes):
        raise declined("nothing was sent")
    with at_printer(at, dialect, waits_s=options.waits_s) as printer:
        setter = Setter(
            printer=printer,
            dialect=feeding.dialect,
            keys=("steps-e",),
            found=printer.listing(),
            without=yes,
        )
        finding = _round(printer, feeding, _listed_steps(setter), checking=False)
        if finding.verdict != "retest" and setter.put(finding):
            if not confirmed("feed again, and check?", yes):
                setter.keep_or_restore()
                raise declined("not checked")
            finding = _round(printer, feeding, float(finding.settings[0].value), checking=True)
            if finding.verdict == "change":
                setter.keep_or_restore()
    return finding.exit_code


def _listed_steps(setter: Setter) -> float:
    """The steps of the extruder that the printer was found with."""
    found = [float(one.values["steps"]) for one in setter.listed()]
    if not found:
        raise LinkFault(
            "the printer lists no steps of the extruder", "look for them: omphalon extruder fit"
        )
    return found[-1]


def _round(printer: KeptPrinter, feeding: Feeding, steps: float, *, checking: bool) -> Finding:
    """Heat, feed so often, read, cool, and judge."""
    from omphalon.studies.measured.extruder import EXTRUDER, ExtruderQuestion
    from omphalon.studies.measured.words import measured_answer

    printer.ask_for_reports(2.0)
    readings = _fed(printer, feeding)
    say_off(printer.cool())
    question = ExtruderQuestion(steps=steps)
    finding = measured_answer(EXTRUDER, readings, question, feeding.dialect, checking)
    finding = replace(finding, tool=feeding.dialect.tool)
    shown_and_kept(finding, ())
    return finding


def _fed(printer: KeptPrinter, feeding: Feeding) -> Readings:
    """Heat, feed, and ask what is left, run by run; where nobody answered for so long that the
    heaters were switched off, that run is begun again.
    """
    from omphalon.readers.readings import option_readings

    left: list[Number] = []
    hot = False
    while len(left) < feeding.runs:
        try:
            if not hot:
                for line in feeding.heat:
                    printer.tell(line, slow=True)
                hot = True
            place = f"{feeding.mark_mm:g} mm above the inlet"
            _ask(f"run {len(left) + 1} of {feeding.runs}: mark it {place}, then Enter")
            printer.tell(feeding.feed, slow=True)
            _read_left(left, len(left) + 1)
        except Lowered as fault:
            click.echo(f"{fault}: it heats again, and this run starts over", err=True)
            hot = False
    while _ask(f"left: {', '.join(n.written for n in left)} mm; Enter: right, {WRONG}") == BACK:
        left.pop()
        _read_left(left, feeding.runs)
    once = {"asked_mm": feeding.asked_mm, "mark_mm": feeding.mark_mm}
    given = {name: [parsed(f"{value:g}", LEFT, name)] for name, value in once.items()}
    return option_readings({**given, "left_mm": left}, COLUMNS)


def _read_left(left: list[Number], runs: int) -> None:
    """What is left after each run so far, each a number; the last can be taken back."""
    while len(left) < runs:
        text = _ask(f"left after run {len(left) + 1}, mm{f'; {WRONG}' if left else ''}")
        if text == BACK and left:
            left.pop()
            continue
        try:
            left.append(parsed(text, LEFT, "left"))
        except UsageError as error:
            click.echo(str(error), err=True)


def _ask(question: str) -> str:
    """The user's answer; none any more ends the command."""
    forget_keys()
    answer: str = click.prompt(echoed(question), default="", show_default=False, err=True)
    return answer.strip()
