"""Lines sent one by one, each acknowledged; where one is refused, what was applied and what not."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from omphalon.errors import LinkFault, OmphalonError, Unsafe
from omphalon.printer.link import Link, Watch

AGAIN_S = 2.0  # a line whose acknowledgement was lost is said again
COMMENT = re.compile(r"\s*;.*$")


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


def lines_of(text: str) -> list[str]:
    """The lines of a sheet or a test print that reach the printer: no comments, no blanks."""
    bare = (COMMENT.sub("", line).strip() for line in text.splitlines())
    return [line for line in bare if line and not line.startswith("#")]


def send(
    link: Link,
    lines: Sequence[str],
    told: Callable[[int], None],
    watch: Watch | None = None,
) -> Sent:
    """Send lines in their order; stop at the first that is refused or not acknowledged.

    Parameters
    ----------
    link : on which a printer answers
    lines : to be sent
    told : is handed the count of lines done
    watch : is handed each report that comes meanwhile
    """
    replies: list[str] = []
    for number, line in enumerate(lines):
        try:
            replies += link.tell(line, slow=True, again_s=AGAIN_S, watch=watch)
        except (LinkFault, Unsafe) as fault:
            refused = link.dialogue.refused is not None
            return Sent(
                applied=tuple(lines[:number]),
                doubtful=() if refused else (line,),
                left=tuple(lines[number if refused else number + 1 :]),
                fault=fault,
                replies=tuple(replies),
            )
        told(number + 1)
    return Sent(applied=tuple(lines), replies=tuple(replies))
