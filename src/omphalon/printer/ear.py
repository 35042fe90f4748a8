"""Bytes from a printer become what was heard: lines, whatever way they are cut into pieces."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum

from omphalon.reports import Report, report_of

LONGEST_LINE = 4096  # bytes; no controller says more in one line
OK = re.compile(r"ok\b", re.I)
AGAIN = re.compile(r"(?:resend|rs)\b\D{0,8}(\d+)?", re.I)
MISHEARD = re.compile(
    r"(?:error|!!).*(?:check ?sum|line ?number|last line|out of turn|whole line)", re.I
)
BUSY = re.compile(r"(?:\w+:\s*)?busy\b", re.I)
REFUSAL = re.compile(r"(?:error|!!|halt)|.*\bunknown (?:command|code)\b", re.I)
START = re.compile(r"start\W*$", re.I)


class Speech(Enum):
    """What a line of a printer's is."""

    OK = "acknowledgement"
    AGAIN = "asks for a line again"
    MISHEARD = "has not heard a line right, and will ask for it again"
    BUSY = "is at work"
    REFUSAL = "refuses"
    START = "has started anew"
    REPORT = "reports temperatures"
    WORD = "says something else"
    NOISE = "no text"


@dataclass(frozen=True, kw_only=True)
class Heard:
    """One line: what it is, its words, the number of the line it asks for, the report in it."""

    kind: Speech
    text: str
    number: int | None = None
    report: Report | None = None


class Ear:
    """Cuts bytes into lines and says what each is. Knows no port."""

    def __init__(self) -> None:
        self.rest = b""
        self.too_long = False
        self.noise = 0  # lines and bytes that were no text, in all

    def hear(self, data: bytes) -> Iterator[Heard]:
        """What became whole with these bytes; a piece without an end waits for the rest."""
        *lines, self.rest = (self.rest + data).split(b"\n")
        for line in lines:
            if self.too_long or len(line) > LONGEST_LINE:
                self.too_long = False
                yield self._noise("a line without an end")
            else:
                yield from self._line(line)
        if len(self.rest) > LONGEST_LINE:
            self.rest, self.too_long = b"", True

    def _line(self, raw: bytes) -> Iterator[Heard]:
        line = raw.strip(b"\r \t\x00")
        if not line:
            return
        try:
            text = line.decode("utf-8")
        except UnicodeDecodeError:
            yield self._noise("bytes that are no text")
            return
        if any(ord(c) < 32 and c != "\t" for c in text):
            yield self._noise("control characters")
            return
        yield heard_in(text)

    def _noise(self, told: str) -> Heard:
        self.noise += 1
        return Heard(kind=Speech.NOISE, text=told)


def heard_in(text: str) -> Heard:
    """What a line is, by the words that controllers share."""
    report = report_of(text)
    if OK.match(text):
        return Heard(kind=Speech.OK, text=text, report=report)
    again = AGAIN.match(text)
    if again:
        return Heard(kind=Speech.AGAIN, text=text, number=int(again[1]) if again[1] else None)
    if report is not None:
        return Heard(kind=Speech.REPORT, text=text, report=report)
    if MISHEARD.match(text):
        return Heard(kind=Speech.MISHEARD, text=text)
    if BUSY.match(text):
        return Heard(kind=Speech.BUSY, text=text)
    if REFUSAL.match(text):
        return Heard(kind=Speech.REFUSAL, text=text)
    if START.match(text):
        return Heard(kind=Speech.START, text=text)
    return Heard(kind=Speech.WORD, text=text)
