"""Everything that can go wrong for a user.

    OmphalonError            exit 1
    ├── UsageError           exit 2   the command was put wrongly
    ├── UnreadableFile       exit 1   no such file, a folder, no permission, empty, binary, large
    │   └── UnknownFormat    exit 1   a text in which what was asked for cannot be recognised
    ├── BadReading           exit 1   a measurement in a file that cannot be one
    ├── UnwritableFile       exit 1   a result could not be saved
    ├── LinkFault            exit 1   the wire to a printer: no port, busy, silent, refused, cut
    │   └── Lowered          exit 1   nobody answered, so the heaters were switched off
    ├── Unsafe               exit 1   a heater that must not go on
    └── StillHot             exit 5   a heater that could not be shown to be off

Each carries the problem and the remedy; `str()` of it is the one line a user sees. Data that cannot
support an answer are no error: they give a Finding with the verdict `retest`.
"""

from __future__ import annotations

import re

CONTROL = re.compile(
    r"[\x00-\x1f\x7f-\x9f\u2028\u2029\u200e\u200f\u202a-\u202e\u2066-\u2069\ud800-\udfff]"
)
LONGEST_ECHO = 120


def shown(text: str) -> str:
    r"""A text from a file, a name or an option as it may be echoed: control characters as `\x1b`,
    on one line.
    """
    return CONTROL.sub(
        lambda m: f"\\x{ord(m[0]):02x}" if ord(m[0]) < 256 else f"\\u{ord(m[0]):04x}", text
    )


def echoed(text: str) -> str:
    """A piece of a user's text for a message: shown, and cut where it is long."""
    safe = shown(text)
    return safe if len(safe) <= LONGEST_ECHO else safe[: LONGEST_ECHO - 1] + "…"


class OmphalonError(Exception):
    """The root: one sentence on what is wrong and where, one on what to do."""

    exit_code = 1

    def __init__(self, problem: str, remedy: str) -> None:
        super().__init__(problem, remedy)
        self.problem = problem
        self.remedy = remedy

    def __str__(self) -> str:
        return shown(f"{self.problem}; {self.remedy}")


class UsageError(OmphalonError):
    """The command was put wrongly."""

    exit_code = 2


class UnreadableFile(OmphalonError):
    """A file that cannot be opened or holds nothing to read."""


class UnknownFormat(UnreadableFile):
    """A text in which what was asked for cannot be recognised."""


class BadReading(OmphalonError):
    """A measurement in a file that cannot be one."""


class UnwritableFile(OmphalonError):
    """A result that could not be saved."""


class LinkFault(OmphalonError):
    """The wire to a printer does not carry what it should."""


class Unsafe(OmphalonError):
    """A heater that must not go on."""


class Lowered(LinkFault):
    """Nobody answered for long, so the heaters were switched off; the step may be begun again."""


class StillHot(OmphalonError):
    """A heater that could not be shown to be off."""

    exit_code = 5
