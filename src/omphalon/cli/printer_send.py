"""omphalon printer send."""

from __future__ import annotations

import io
import sys
from typing import TYPE_CHECKING, TextIO

import click

from omphalon.cli.printer_wire import (
    AtPrinter,
    Wired,
    at_printer,
    at_wire,
    confirmed,
    declined,
    yes,
)
from omphalon.cli.writing import check_outputs
from omphalon.errors import LinkFault, UsageError, echoed, shown
from omphalon.files import put_lines
from omphalon.lines.template import LONGEST

if TYPE_CHECKING:
    from collections.abc import Sequence

    from omphalon.lines.dialect import Dialect

DIFFERS = 4  # exit code of a readback that does not agree
MOST_SHOWN = 24
HEATS = (
    *("heat", "hotend-target", "bed-heat", "bed-target"),
    *("hotend-oscillation", "bed-oscillation"),
)


@click.command("send", short_help="Sends lines, each acknowledged, and reads them back.")
@click.argument("sheet", required=False, metavar="[SHEET]")
@click.option("--line", "typed", multiple=True, metavar="LINE", help="A line instead of a SHEET.")
@click.option("--readback", is_flag=True, help="Then list the settings and compare.")
@click.option("--out", metavar="FILE", help="Keep what the printer answers.")
@click.option("--force", is_flag=True, help="Replace a file that Omphalon did not write.")
@yes
@at_wire
def send(
    at: Wired,
    sheet: str | None,
    typed: tuple[str, ...],
    readback: bool,
    out: str | None,
    force: bool,
    yes: bool,
) -> None:
    """Send the lines of a SHEET (`omphalon bench sheet --out SHEET`, or a test print) one by one.

    It shows them first and asks, and stops at the first one that is refused.

    \b
    Example:
      omphalon printer send --line M503 --out found-settings.txt --port socket://127.0.0.1:5555
    """
    from omphalon.lines.listing import read_listing
    from omphalon.printer.send import lines_of

    if (sheet is None) == (not typed):
        raise UsageError("neither or both of SHEET and --line", "give the lines in one way")
    check_outputs(force, [sheet] if sheet else [], out=out)
    lines = (
        [typed_line(line) for line in typed]
        if sheet is None
        else lines_of(read_listing(sheet), echoed(sheet), at.lines())
    )
    if sheet is not None:
        show_lines(lines)
        if not confirmed(f"send {len(lines)} line{'s'[: len(lines) != 1]}?", yes):
            raise declined("nothing was sent")
    with at_printer(at) as printer:
        replies = sent(printer, lines, at.lines())
        if any(heats(line, at.lines()) for line in lines):
            printer.look()
        text = "\n".join(lines)
        compared = compare_with(printer, text, at.lines()) if readback else True
    if out is not None:
        put_lines(out, replies, ";")
        click.echo(f"answers {echoed(out)}")
    elif sheet is None:
        for words in replies:
            click.echo(shown(words))
    if not compared:
        raise SystemExit(DIFFERS)


def typed_line(line: str, option: str = "--line") -> str:
    """A line as it was typed, any words of the printer's; UsageError where it cannot be one."""
    bare = line.strip()
    if not bare or shown(bare) != bare or len(bare) > LONGEST:
        raise UsageError(f"{option} {echoed(line)}: no line", "give one code and its words")
    return bare


def show_lines(lines: Sequence[str]) -> None:
    """The lines that will be sent; of a long print its beginning."""
    for line in lines[:MOST_SHOWN]:
        click.echo(f"  {shown(line)}")
    if len(lines) > MOST_SHOWN:
        click.echo(f"  … and {len(lines) - MOST_SHOWN} more")


def sent(printer: AtPrinter, lines: Sequence[str], dialect: Dialect) -> tuple[str, ...]:
    """Send lines, with the count of those that are done where it is long; what was answered.

    Raises
    ------
    LinkFault
        With what was applied and what was not.
    """
    from omphalon.printer.send import send as send_lines

    if any(heats(line, dialect) for line in lines):
        printer.may_heat()
        printer.link.ask_for_reports(2.0)
    with click.progressbar(length=len(lines), label="sent", file=_to(len(lines))) as bar:
        done = send_lines(printer.link, lines, lambda count: bar.update(1), printer.watch())
    if done.fault is not None:
        click.echo(f"applied {', '.join(done.applied[-6:]) or 'nothing'}", err=True)
        if done.doubtful:
            click.echo(f"unsure  {done.doubtful[0]}: sent, and never acknowledged", err=True)
        if done.left:
            click.echo(f"not sent {', '.join(done.left[:6])}", err=True)
        raise LinkFault(
            f"{len(done.applied)} of {len(lines)} lines applied; {done.fault.problem}",
            done.fault.remedy
            if done.doubtful
            else "mend the line or the dialect, and send what was not applied",
        )
    if len(lines) > 1:
        click.echo(f"applied {len(lines)} lines, each acknowledged")
    return done.replies


def _to(count: int) -> TextIO:
    """Where progress goes: nowhere for a few lines."""
    return sys.stderr if count > MOST_SHOWN and sys.stderr.isatty() else io.StringIO()


def heats(line: str, dialect: Dialect) -> bool:
    """Whether a line may switch a heater on, by the first word of the dialect's lines that do."""
    codes = {
        template.text.split()[0]
        for name in HEATS
        if (template := dialect.templates.get(name)) is not None
    }
    word, *rest = line.split()
    return word in codes and "S0" not in rest


def compare_with(printer: AtPrinter, sheet: str, dialect: Dialect) -> bool:
    """List the settings and compare them with what was sent; whether they agree."""
    from omphalon.lines.listing import differing

    same, told = differing(sheet, printer.link.listing(), dialect)
    for words in told:
        click.echo(f"differs {words}")
    if not told:
        click.echo(f"readback agrees: {same} value{'s'[: same != 1]} as sent")
    return not told
