"""omphalon printer send: lines one by one, each acknowledged; and reading back."""

from __future__ import annotations

import io
import sys
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, TextIO

import click

from omphalon.base.errors import LinkFault, UsageError, echoed, shown
from omphalon.base.files import put_lines
from omphalon.cli.groups import OnceEach
from omphalon.cli.options import argument, flag, nested, takes, text
from omphalon.cli.printer.wire import (
    AgreeOptions,
    SilenceOptions,
    Wired,
    agree,
    agreed_dialect,
    at_printer,
    at_wire,
    confirmed,
    declined,
    hot_words,
    say_off,
)
from omphalon.cli.proposed import proposed
from omphalon.cli.writing import check_outputs
from omphalon.tables.heaters import Heater
from omphalon.tables.units import plural

if TYPE_CHECKING:
    from collections.abc import Sequence

    from omphalon.lines.dialect import Dialect
    from omphalon.printer.kept import KeptPrinter

DIFFERS = 4  # exit code of a readback that does not agree
OFTEN = 8  # times that a line of one word is shown
LONG = 24  # lines: the progress of more is shown


@dataclass(frozen=True, kw_only=True)
class SendOptions:
    """Options of `printer send`."""

    sheet: str | None = argument("[SHEET]")
    typed: tuple[str, ...] = text("--line", "A line instead of a SHEET.", metavar="LINE", many=True)
    readback: bool = flag("--readback", "Then list the settings and compare.")
    out: str | None = text("--out", "Keep what the printer answers.")
    force: bool = flag("--force", "Replace a file that Omphalon did not write.")
    silence: SilenceOptions = nested(SilenceOptions)
    agree: AgreeOptions = nested(AgreeOptions)


@click.command(
    "send", cls=OnceEach, short_help="Sends lines, each acknowledged, and reads them back."
)
@takes(SendOptions)
@at_wire
def send(at: Wired, options: SendOptions) -> int:
    """Send the lines of a SHEET (`omphalon bench sheet --out SHEET`, or a test print) one by one.

    It shows them first and asks, and stops at the first one that is refused.

    \b
    Example:
      omphalon printer send --line M503 --out found-settings.txt --port socket://127.0.0.1:5555
    """
    from omphalon.lines.listing import read_listing
    from omphalon.printer.send import lines_of

    sheet, typed, out = options.sheet, options.typed, options.out
    yes, allowed = options.agree.yes, options.agree.allowed
    if (sheet is None) == (not typed):
        raise UsageError("neither or both of SHEET and --line", "give the lines in one way")
    check_outputs(options.force, [sheet] if sheet else [], out=out)
    dialect = agreed_dialect(at, yes)
    lines = (
        [typed_line(line) for line in typed]
        if sheet is None
        else lines_of(read_listing(sheet), echoed(sheet), dialect)
    )
    if sheet is not None:
        show_lines(lines)
    agree(lines)
    asked = ask_by_name(lines, dialect, allowed)
    if sheet is not None and not confirmed(f"send {plural(len(lines), 'line')}?", yes):
        raise declined("nothing was sent")
    with at_printer(at, dialect, options.silence.silence_s) as printer:
        heat = HeatWatch(printer, dialect, yes)
        replies: list[str] = []
        done = 0
        for part in parts_ending_with(lines, asked):
            replies += sent(printer, part, dialect, of=lines[:done], left=lines[done + len(part) :])
            done += len(part)
            heat.look(part, over=False)
        if len(lines) > 1:
            click.echo(f"applied {len(lines)} lines, each acknowledged")
        text = "\n".join(lines)
        compared = compare_with(printer, text, dialect) if options.readback else True
        heat.look((), over=True)
    if out is not None:
        put_lines(out, replies, ";")
        click.echo(f"answers {echoed(out)}")
    elif sheet is None:
        for words in replies:
            click.echo(shown(words))
    return 0 if compared else DIFFERS


def typed_line(line: str, option: str = "--line") -> str:
    """A line as it was typed, any words of the printer's; UsageError where it cannot be one."""
    from omphalon.lines.codes import unfit

    bare = line.strip()
    wrong = "is empty" if not bare else unfit(bare)
    if wrong is not None:
        raise UsageError(f"{option} {echoed(line)}: {wrong}", "give one code and its words")
    return bare


def show_lines(lines: Sequence[str]) -> None:
    """Show every line that will be sent, which lets it be sent; of moves in a row, and of one word
    again and again between them, how many.
    """
    from omphalon.lines.codes import is_move, is_target

    agree(lines)
    counts = Counter(line.split()[0] for line in lines)
    moves = [is_move(line) for line in lines]
    alike: list[str] = []
    for n, line in enumerate([*lines, ""]):
        amid = 0 < n < len(lines) - 1 and moves[n - 1] and moves[n + 1] and not is_target(line)
        if line and (moves[n] or (amid and counts[line.split()[0]] > OFTEN)):
            alike.append(line)
            continue
        between = Counter(x.split()[0] for x in alike if not is_move(x))
        repeated = "".join(f", and {n} times {word}" for word, n in between.items())
        if len(alike) > 2:
            alike[1:-1] = [f"… {plural(len(alike) - 2 - between.total(), 'more move')}{repeated}"]
        for one in [*alike, line][: len(alike) + bool(line)]:
            click.echo(f"  {shown(one)}")
        alike = []


def ask_by_name(
    lines: Sequence[str], dialect: Dialect, allowed: Sequence[str] = ()
) -> frozenset[str]:
    """Ask for what is not known to be harmless, what is hotter than usual and what cannot be taken
    back, each line by its name; --yes does not answer that, `allowed` does, to the letter. Gives
    the lines that were asked for.
    """
    from omphalon.lines.codes import asked_by_name

    found = frozenset(line for line in dict.fromkeys(lines) if asked_by_name(line, dialect))
    for line in dict.fromkeys(lines):
        for words in asked_by_name(line, dialect) if line not in allowed else ():
            if not confirmed(f"really {words}?", without=False):
                raise declined(f"nothing was sent: {words} was not agreed to")
    return found


def parts_ending_with(lines: Sequence[str], ends: frozenset[str]) -> Iterator[list[str]]:
    """The lines in parts, each of which ends behind one of `ends`."""
    part: list[str] = []
    for line in lines:
        part.append(line)
        if line in ends:
            yield part
            part = []
    if part:
        yield part


class HeatWatch:
    """Which heaters lines leave on, by reports: shown, noted for the port, and confirmed. What was
    on before is only shown.
    """

    def __init__(self, printer: KeptPrinter, dialect: Dialect, without: bool) -> None:
        self.printer, self.dialect, self.without = printer, dialect, without
        self.before = printer.left_on() or {}
        self.asked: dict[Heater, float] = {}  # targets that the lines so far gave

    def look(self, lines: Sequence[str], over: bool) -> None:
        """Look after these lines. `over`: no more come."""
        from omphalon.lines.codes import targets_of

        for line in lines:
            self.asked |= targets_of(line, self.dialect)
        on, off = self.printer.left_on(), proposed("printer cool")
        if on is None:
            if over:
                click.echo(f"left on  not known: no report comes; all off:\n         {off}")
            return
        new = {n: t for n, t in on.items() if self.before.get(n) != t}
        unasked = {n: t for n, t in new.items() if not abs(self.asked.get(n, 0.0) - t) < 1}
        if on and (over or unasked):
            click.echo(f"left on  {hot_words(on)}; off:\n         {off}")
        if unasked and not confirmed(
            f"no line that omphalon knows asked for that ({hot_words(unasked)}): leave it on?",
            without=False,
        ):
            raise declined("heaters off: what a line had switched on was not agreed to")
        self.before |= unasked
        if over and new and not unasked and not confirmed("leave it on?", self.without):
            say_off(self.printer.cool())


def sent(
    printer: KeptPrinter,
    lines: Sequence[str],
    dialect: Dialect,
    *,
    of: Sequence[str] = (),
    left: Sequence[str] = (),
) -> tuple[str, ...]:
    """Send lines, with the count of those that are done where it is long; what was answered. `of`
    were applied before them, `left` are to come.

    Raises LinkFault with what was applied and what was not.
    """
    from omphalon.lines.codes import heats

    if any(heats(line, dialect) for line in lines):
        printer.ask_for_reports(2.0)
    with click.progressbar(length=len(lines), label="sent", file=_to(len(lines))) as bar:
        done = printer.send(lines, lambda count: bar.update(count - bar.pos))
    if done.fault is not None:
        applied, left = (*of, *done.applied), (*done.left, *left)
        click.echo(f"applied {', '.join(applied[-6:]) or 'nothing'}", err=True)
        if done.doubtful:
            click.echo(f"unsure  {done.doubtful[0]}: sent, and never acknowledged", err=True)
        if left:
            click.echo(f"not sent {', '.join(left[:6])}", err=True)
        raise type(done.fault)(
            f"{len(applied)} of {len(of) + len(lines) + len(left) - len(done.left)} lines applied; "
            f"{done.fault.problem}",
            done.fault.remedy
            if done.doubtful
            else "mend the line or the dialect, and send what was not applied",
        )
    return done.replies


def _to(count: int) -> TextIO:
    """Where progress goes: nowhere for a few lines."""
    return sys.stderr if count > LONG and sys.stderr.isatty() else io.StringIO()


def compare_with(printer: KeptPrinter, sheet: str, dialect: Dialect) -> bool:
    """List the settings and compare them with what was sent, twice where they differ; whether they
    agree.

    Raises LinkFault if nothing that was sent is listed.
    """
    from omphalon.lines.listing import differing

    same, text = differing(sheet, printer.listing(), dialect)
    if text:
        same, text = differing(sheet, printer.listing(), dialect)
    for words in text:
        click.echo(f"differs {words}")
    if not same and not text:
        raise LinkFault(
            "readback could compare nothing: none of these lines sets what the printer lists",
            "leave --readback out, or look for it: omphalon printer send --line M503",
        )
    if text:
        click.echo(
            "left so: what was sent is in force as the printer lists it, and not as it was sent"
        )
    else:
        click.echo(f"readback agrees: {plural(same, 'value')} as sent")
    return not text
