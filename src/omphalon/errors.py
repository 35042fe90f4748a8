"""Everything that can go wrong for a user.

    OmphalonError                      exit 1
    ├── UsageError                     exit 2   the command was put wrongly
    ├── UnreadableFile                 exit 1   no such file, a directory, no permission, empty, binary
    │   └── UnknownFormat              exit 1   a text in which no log can be recognised
    ├── BadReading                     exit 1   a measurement that cannot be one
    └── UnwritableFile                 exit 1   a result could not be saved

Each carries the problem and the remedy; `str()` of it is the one line a user sees. Data that cannot support an
answer are no error: they give a Finding with the verdict `retest`.
"""

from __future__ import annotations


class OmphalonError(Exception):
    """The root: one sentence on what is wrong and where, one on what to do."""

    exit_code = 1

    def __init__(self, problem: str, remedy: str) -> None:
        super().__init__(problem, remedy)
        self.problem = problem
        self.remedy = remedy

    def __str__(self) -> str:
        return f"{self.problem}; {self.remedy}"


class UsageError(OmphalonError):
    """The command was put wrongly."""

    exit_code = 2


class UnreadableFile(OmphalonError):
    """A file that cannot be opened or holds nothing to read."""


class UnknownFormat(UnreadableFile):
    """A text in which what was asked for cannot be recognised."""


class BadReading(OmphalonError):
    """A measurement that cannot be one."""


class UnwritableFile(OmphalonError):
    """A result that could not be saved."""
