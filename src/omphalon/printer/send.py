"""Lines sent one by one, each acknowledged; where one is refused, what was applied and what not."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from omphalon.base.errors import LinkFault, OmphalonError, UnknownFormat, Unsafe, echoed
from omphalon.lines.codes import unfit
from omphalon.lines.dialect import Dialect
from omphalon.printer.link import Link

AGAIN_S = 2.0  # a line whose acknowledgement was lost is said again
CODE = re.compile(r"[A-Za-z]\d+(?:\.\d+)?(?:[A-Z][-+.\d]*)*")


@dataclass(frozen=True, kw_only=True)
class Sent:
    """What became of the lines: applied, in doubt (said, and never acknowledged), not sent; why it
    ended, if it did; and the printer's words.
    """

    applied: tuple[str, ...]
    doubtful: tuple[str, ...] = ()
    left: tuple[str, ...] = ()
    fault: OmphalonError | None = None
    replies: tuple[str, ...] = ()


def lines_of(text: str, source: str, dialect: Dialect) -> list[str]:
    """The lines of a sheet or a test print that reach the printer: no comments, no blanks.

    `dialect`: whose own words may begin a line, beside codes of a letter and a number. Raises
    UnknownFormat with the row that is no line of a printer, or where there is none at all.
    """
    own = {t.text.split()[0] for t in dialect.templates.values() if t.section is None}
    lines = []
    for row, raw in enumerate(text.splitlines(), 1):
        line = raw.partition(";")[0].strip()
        if not line or line.startswith("#"):
            continue
        word = line.split()[0]
        wrong = unfit(line)
        if wrong is None and not (CODE.fullmatch(word) or word in own):
            wrong = "is no line of a printer"
        if wrong is not None:
            raise UnknownFormat(
                f"{source}: row {row}: {echoed(line)} {wrong}",
                "give a sheet of lines to enter, or a test print",
            )
        lines.append(line)
    if not lines:
        raise UnknownFormat(
            f"{source}: no line that could be sent", "give a sheet of lines to enter"
        )
    return lines


def send(link: Link, lines: Sequence[str], progress: Callable[[int], None]) -> Sent:
    """Send lines in their order; stop at the first that is refused or not acknowledged.

    `progress`: is handed the count of lines done.
    """
    replies: list[str] = []
    for number, line in enumerate(lines):
        try:
            if line == link.line("list"):
                replies += link.read(line)
            else:
                replies += link.tell(line, slow=True, again_s=AGAIN_S)
        except (LinkFault, Unsafe) as fault:
            refused = link.dialogue.refused is not None
            return Sent(
                applied=tuple(lines[:number]),
                doubtful=() if refused else (line,),
                left=tuple(lines[number if refused else number + 1 :]),
                fault=fault,
                replies=tuple(replies),
            )
        progress(number + 1)
    return Sent(applied=tuple(lines), replies=tuple(replies))
