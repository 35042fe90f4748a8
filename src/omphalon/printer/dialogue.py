"""One line after another, each acknowledged, each with its number and its check sum; what is lost
on the way is said again; bytes become lines, however they are cut into pieces. Knows no port and no
clock: bytes and times are handed to it.
"""

from __future__ import annotations

import functools
import operator
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from enum import Enum

from omphalon.base.errors import LinkFault, echoed
from omphalon.recordings.reports import Report, report_of

LONGEST_LINE = 4096  # bytes; no controller says more in one line
OK = re.compile(r"ok\b", re.I)
AGAIN = re.compile(r"(?:resend|rs)\b\D{0,8}(\d+)?", re.I)
MISHEARD = re.compile(
    r"(?:error|!!).*(?:check ?sum|line ?number|last line|out of turn|whole line)", re.I
)
BUSY = re.compile(r"(?:\w+:\s*)?busy\b", re.I)
REFUSAL = re.compile(r"(?:error|!!|halt)|.*\bunknown (?:command|code)\b", re.I)
START = re.compile(r"start\W*$", re.I)
SETTLED_S = 0.5  # after "again" an acknowledgement belongs to that; then the line is said again
VERDICT_S = 1.5  # after an error without "ok" or "again": it is a refusal
BUSY_S = 5.0  # for so long after it said so, a printer is at work
MOST_TRIES = 5
LATER = 3.0  # a slow line is said again ever more rarely: copies of it fill the printer's buffer
MOST_REPLIES = 20_000  # lines kept of an answer
UNPLUG = "if a heater may be on, pull the plug; then look at cable, speed and printer"


class Speech(Enum):
    """What a line of a printer's is."""

    OK = "acknowledgement"
    AGAIN = "asks for a line again"
    MISHEARD = "has not received a line correctly, and will ask for it again"
    BUSY = "is busy"
    REFUSAL = "refuses"
    START = "has restarted"
    REPORT = "reports temperatures"
    WORD = "says something else"
    NOISE = "no text"


@dataclass(frozen=True, kw_only=True)
class Received:
    """One line: what it is, its words, the number of the line it asks for, the report in it."""

    kind: Speech
    text: str
    number: int | None = None
    report: Report | None = None


class LineReader:
    """Cuts bytes into lines and says what each is. Knows no port."""

    def __init__(self) -> None:
        self.rest = b""
        self.too_long = False
        self.noise = 0  # lines and bytes that were no text, in all

    def read(self, data: bytes) -> Iterator[Received]:
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

    def _line(self, raw: bytes) -> Iterator[Received]:
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
        yield received_in(text)

    def _noise(self, text: str) -> Received:
        self.noise += 1
        return Received(kind=Speech.NOISE, text=text)


def received_in(text: str) -> Received:
    """What a line is, by the words that controllers share."""
    report = report_of(text)
    if OK.match(text):
        return Received(kind=Speech.OK, text=text, report=report)
    again = AGAIN.match(text)
    if again:
        return Received(kind=Speech.AGAIN, text=text, number=int(again[1]) if again[1] else None)
    if report is not None:
        return Received(kind=Speech.REPORT, text=text, report=report)
    if MISHEARD.match(text):
        return Received(kind=Speech.MISHEARD, text=text)
    if BUSY.match(text):
        return Received(kind=Speech.BUSY, text=text)
    if REFUSAL.match(text):
        return Received(kind=Speech.REFUSAL, text=text)
    if START.match(text):
        return Received(kind=Speech.START, text=text)
    return Received(kind=Speech.WORD, text=text)


@dataclass(kw_only=True)
class Pending:
    """The line that waits for its acknowledgement."""

    line: str
    frame: bytes
    number: int | None
    said_s: float
    again_s: float  # how long to wait before it is said again
    slow: bool  # it may take minutes: it is waited for as long as the printer lives
    tries: int = 1
    replies: list[str] = field(default_factory=list)
    complaint: str | None = None
    complained_s: float = 0.0
    asked_again_s: float | None = None
    busy_s: float | None = None


def framed(line: str, number: int) -> bytes:
    """A line with its number and the exclusive or of its bytes, as numbered codes are sent."""
    words = f"N{number} {line}".encode("ascii", "replace")
    return words + b"*%d\n" % functools.reduce(operator.xor, words)


class Dialogue:
    """The state of one conversation: what was said last, what was answered, what is due.

    `numbered`: whether lines carry a number and a check sum. `at_work`: whether what the printer
    reports shows it at work on a slow line.
    """

    def __init__(self, numbered: bool, at_work: Callable[[str], bool] = lambda line: False) -> None:
        self.reader = LineReader()
        self.numbered, self.at_work = numbered, at_work
        self.next_number = 0
        self.pending: Pending | None = None
        self.refused: str | None = None  # words of the refusal of the last line
        self.replies: list[str] = []  # of the last line
        self.open = False  # once a line was acknowledged, a start is a restart
        self.extra_ok_until_s = -1.0

    def say(self, line: str, now_s: float, again_s: float = 5.0, slow: bool = False) -> bytes:
        """The bytes of a line; it is pending until it is acknowledged.

        Raises LinkFault if another line waits still.
        """
        if self.pending is not None:
            raise LinkFault(f"{echoed(self.pending.line)} is not acknowledged yet", "wait for it")
        number = self.next_number if self.numbered else None
        frame = line.encode("ascii", "replace") + b"\n" if number is None else framed(line, number)
        self.next_number += 1
        self.refused, self.replies = None, []
        self.pending = Pending(
            line=line, frame=frame, number=number, said_s=now_s, again_s=again_s, slow=slow
        )
        return frame

    def forget(self) -> None:
        """Wait no longer for the pending line."""
        self.pending = None

    def read(self, data: bytes, now_s: float) -> Iterator[Received]:
        """What these bytes hold; the pending line moves on by it.

        Raises LinkFault if the printer has restarted.
        """
        for one in self.reader.read(data):
            self._take(one, now_s)
            yield one

    def due(self, now_s: float) -> bytes:
        """The bytes that must be said again now, often none.

        Raises LinkFault if a line was said too often without an acknowledgement.
        """
        one = self.pending
        if one is None:
            return b""
        if one.complaint is not None:
            if now_s - one.complained_s > VERDICT_S:
                self._done(one)
            return b""
        if one.asked_again_s is not None:
            return self._again(one, now_s) if now_s - one.asked_again_s > SETTLED_S else b""
        if now_s - one.said_s <= one.again_s:
            return b""
        if one.number is None and not one.slow:
            raise LinkFault(f"no answer to {echoed(one.line)}", UNPLUG)
        if one.slow and (one.number is None or self._at_work(one, now_s)):
            return b""
        return self._again(one, now_s)

    def _at_work(self, one: Pending, now_s: float) -> bool:
        """Whether the printer shows that it has a slow line, and is busy with it."""
        busy = one.busy_s is not None and now_s - one.busy_s < BUSY_S
        return busy or (one.slow and self.at_work(one.line))

    def _again(self, one: Pending, now_s: float) -> bytes:
        one.tries += 1
        if one.tries > MOST_TRIES and not one.slow:
            raise LinkFault(f"no answer to {echoed(one.line)}, said {MOST_TRIES} times", UNPLUG)
        one.said_s, one.asked_again_s, one.complaint = now_s, None, None
        one.again_s *= LATER if one.slow else 1.0
        return one.frame

    def _take(self, one: Received, now_s: float) -> None:
        if one.kind is Speech.START and self.open:
            self.pending = None
            raise LinkFault("the printer has restarted", "what was not stored is lost: start over")
        pending = self.pending
        if pending is None:
            if one.kind is Speech.OK:
                self.extra_ok_until_s = -1.0  # that was the one to pass over
            return
        if one.kind is Speech.OK:
            self._acknowledge(pending, now_s)
        elif one.kind in (Speech.AGAIN, Speech.MISHEARD):
            self._ask_again(pending, one, now_s)
        elif one.kind is Speech.BUSY:
            pending.busy_s = now_s
        elif one.kind is Speech.REFUSAL:
            pending.complaint, pending.complained_s = one.text, now_s
            pending.replies.append(one.text)
        elif one.kind is Speech.WORD and len(pending.replies) < MOST_REPLIES:
            pending.replies.append(one.text)

    def _acknowledge(self, pending: Pending, now_s: float) -> None:
        if pending.asked_again_s is not None:
            pending.asked_again_s = now_s - 2 * SETTLED_S  # its line is due at once
        elif now_s <= self.extra_ok_until_s:
            self.extra_ok_until_s = -1.0
        else:
            self._done(pending)

    def _ask_again(self, pending: Pending, one: Received, now_s: float) -> None:
        if pending.number is not None and one.number == pending.number + 1:
            pending.complaint, pending.asked_again_s = None, None
            self.extra_ok_until_s = now_s + SETTLED_S
            if not self._at_work(pending, now_s):
                self._done(pending)  # it has the line: only the acknowledgement was lost
        elif pending.number is None or one.number in (None, pending.number):
            pending.complaint, pending.asked_again_s = None, now_s
        elif one.number is not None and one.number < pending.number and self.open:
            self.pending = None
            raise LinkFault(
                f"the printer asks for line {one.number} at line {pending.number}: it has lost "
                "count, or restarted",
                "start over",
            )

    def _done(self, pending: Pending) -> None:
        self.refused, self.replies = pending.complaint, pending.replies
        self.pending = None
        self.open = True
