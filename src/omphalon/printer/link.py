"""A dialogue on a wire: lines go out and are acknowledged, reports come in, heaters go off."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from omphalon.errors import LinkFault, echoed
from omphalon.lines.dialect import Dialect
from omphalon.printer.dialogue import UNPLUG, Dialogue
from omphalon.printer.ear import Heard, Speech
from omphalon.printer.port import SPEEDS, SerialWire, Wire
from omphalon.reports import Report

SILENCE_S = 10.0  # real seconds without a byte while something is waited for
UNREPORTED_S = 600.0  # the same for a slow line on a printer that reports nothing meanwhile
HELLO_AGAIN_S = 0.8
HELLO_S = 4.0  # a board that starts anew when the port is opened needs some
TRIED_S = 2.0  # for each further speed that is tried
NOISY_S = 1.5  # after that, bytes without a single readable line mean the wrong speed
MOST_READS = 6  # of one answer
ANSWER_S = 1.2  # for each line that switches off
WORD_BEFORE = re.compile(r"^\w+:\s*")  # what a controller puts before anything it says
Watch = Callable[[Report], None]


@dataclass(frozen=True, kw_only=True)
class SwitchedOff:
    """What came of switching the heaters off."""

    acknowledged: bool
    confirmed: bool  # a report says so
    halted: bool
    told: str


class Link:
    """One printer on one wire. `clock` is in s."""

    def __init__(
        self, wire: Wire, dialect: Dialect, clock: Callable[[], float] = time.monotonic
    ) -> None:
        self.wire, self.dialect, self.clock = wire, dialect, clock
        self.dialogue = Dialogue("number" in dialect.templates)
        self.heard_s = clock()
        self.reporting = False
        self.last: Report | None = None
        self.silence_s = SILENCE_S
        self.bytes = 0

    def pump(self) -> list[Heard]:
        """Read once, take what was heard, say again what is due."""
        data, now = self.wire.read(), self.clock()
        self.bytes += len(data)
        heard = list(self.dialogue.hear(data, now)) if data else []
        if any(one.kind is not Speech.NOISE for one in heard):
            self.heard_s = now
        for one in heard:
            self.last = one.report or self.last
        due = self.dialogue.due(now)
        if due:
            self.wire.write(due)
        return heard

    def begin(self, line: str, again_s: float = 5.0, slow: bool = False) -> None:
        """Send a line and do not wait."""
        now = self.clock()
        self.heard_s = now
        self.wire.write(self.dialogue.say(line, now, again_s, slow))

    @property
    def waiting(self) -> bool:
        """Whether the last line is not acknowledged yet."""
        return self.dialogue.pending is not None

    def tell(
        self, line: str, *, slow: bool = False, watch: Watch | None = None, again_s: float = 5.0
    ) -> list[str]:
        """Send a line and wait until it is acknowledged; the words of the answer.

        Parameters
        ----------
        line : a code and its words
        slow : it may take minutes
        watch : is handed each report that comes meanwhile; what it raises ends the wait
        again_s : wait before it is said again

        Raises
        ------
        LinkFault
            If it is refused, not answered, or the link is cut.
        """
        self.begin(line, again_s, slow)
        while self.waiting:
            for one in self.pump():
                if one.report is not None and watch is not None:
                    watch(one.report)
            self.check_alive(slow)
        if self.dialogue.refused is not None:
            raise LinkFault(
                f"the printer refuses {echoed(line)}: {echoed(self.dialogue.refused)}",
                "what is not shown as applied was not sent",
            )
        return self.dialogue.replies

    def settle(self) -> None:
        """Wait a little for the pending line, then no longer."""
        until = self.clock() + ANSWER_S
        while self.waiting and self.clock() < until:
            self.pump()
        self.dialogue.forget()

    def check_alive(self, slow: bool = False) -> None:
        """Refuse to wait longer for a printer that says nothing at all."""
        silent = self.clock() - self.heard_s
        if silent > (UNREPORTED_S if slow and not self.reporting else self.silence_s):
            raise LinkFault(f"the printer has been silent for {silent:.0f} s", UNPLUG)

    def line(self, setting: str, **values: object) -> str | None:
        """A line of the dialect."""
        return self.dialect.line(setting, **values)

    def ask_for_reports(self, every_s: float) -> None:
        """Let the printer report by itself, where it can."""
        line = self.line("report-every", seconds=max(1.0, every_s))
        if line is None:
            return
        try:
            self.tell(line)
            self.reporting = True
        except LinkFault:
            if self.dialogue.refused is None:
                raise
            self.dialogue.refused = None  # each is asked for instead

    def listing(self) -> str:
        """What the printer lists of its settings.

        Raises
        ------
        LinkFault
            If its dialect has no line for that, or nothing comes.
        """
        line = self.line("list")
        if line is None:
            raise LinkFault(
                f"the dialect {self.dialect.name} has no line that lists the settings",
                "add `list` to it",
            )
        return "\n".join(self.read(line)) + "\n"

    def read(self, line: str) -> list[str]:
        """The answer to a line that only asks, read until two in a row are the same: no check sum
        guards an answer on its way.

        Raises
        ------
        LinkFault
            If no two are the same, or as `tell`.
        """
        last = self.tell(line)
        for _ in range(MOST_READS):
            again = self.tell(line)
            if again == last:
                return again
            last = again
        raise LinkFault(
            f"the printer's answer to {echoed(line)} is another one each time",
            "the wire loses bytes: look at the cable",
        )

    def switch_off(self) -> SwitchedOff:
        """Heaters off, whatever else was going on; said again where nothing answers, and as a last
        resort the printer is halted.
        """
        lines = [
            self.line("break"),
            self.line("hotend-target", target=0),
            self.line("bed-target", target=0),
            self.line("fan-off"),
        ]
        answered = [self._urgent(line) for line in lines if line is not None]
        if self.seen_off():
            return SwitchedOff(
                acknowledged=True, confirmed=True, halted=False, told="the heaters are off"
            )
        if len(answered) > 1 and all(answered[1:]):
            told = "heaters off was acknowledged, but no report says that they are"
            return SwitchedOff(acknowledged=True, confirmed=False, halted=False, told=told)
        halt = self.line("halt")
        halted = halt is not None and (self._urgent(halt) or self._complained())
        told = (
            "heaters off was not acknowledged, so the printer was halted: switch it off and on"
            if halted
            else "heaters off was sent and not confirmed: pull the printer's plug"
        )
        return SwitchedOff(acknowledged=False, confirmed=False, halted=halted, told=told)

    def _urgent(self, line: str) -> bool:
        """Say a line now, three times at the most; whether it was acknowledged."""
        self.dialogue.forget()
        try:
            self.begin(line, again_s=ANSWER_S / 3)
            until = self.clock() + ANSWER_S
            while self.waiting and self.clock() < until:
                self.pump()
        except LinkFault:
            return False
        return not self.waiting and self.dialogue.refused is None

    def _complained(self) -> bool:
        """Whether the last line was answered with an error, as a printer does that halts."""
        pending = self.dialogue.pending
        return self.dialogue.refused is not None or (
            pending is not None and pending.complaint is not None
        )

    def seen_off(self) -> bool:
        """Whether a report that came after says that all heaters are off."""
        line = self.line("report")
        for _ in range(2):
            self.last = None
            if line is not None:
                self._urgent(line)
            if self.last is not None and all(one.off for one in self.last.heaters.values()):
                return True
        return False


def hello(link: Link, within_s: float = HELLO_S) -> str:
    """Begin a conversation: number the lines, ask who is there; the printer's own words.

    Raises
    ------
    LinkFault
        If nothing, or nothing readable, answers.
    """
    until, noisy = link.clock() + within_s, link.clock() + NOISY_S
    first = link.line("number", number=0) or link.line("report") or "M105"
    heard: list[str] = []
    cut: LinkFault | None = None
    try:
        link.begin(first, again_s=HELLO_AGAIN_S)
        while link.waiting and link.clock() < (until if heard or not link.bytes else noisy):
            heard += [one.text for one in link.pump() if one.kind is not Speech.NOISE]
    except LinkFault as fault:
        cut = fault
    if link.waiting or not link.dialogue.open or link.dialogue.refused is not None:
        raise _no_answer(link, heard, cut)
    words = []
    line = link.line("identify")
    if line is not None:
        try:
            words = link.tell(line, again_s=HELLO_AGAIN_S)
        except LinkFault:
            if link.dialogue.refused is None:
                raise
    return WORD_BEFORE.sub("", words[0])[:100] if words else ""


def _no_answer(link: Link, heard: list[str], cut: LinkFault | None) -> LinkFault:
    """Why nobody was met: nothing came, or something else than a printer's words."""
    if heard and not link.dialogue.ear.noise:
        return LinkFault(
            f"what answers there does not speak as a printer does: {echoed(heard[-1])}",
            "look whether this is the printer's port, or give its lines with --dialect FILE",
        )
    if link.bytes:
        return LinkFault(
            "what comes from there is no text that a printer sends",
            "the speed may be wrong: give the printer's own with --speed",
        )
    if cut is not None and "silent" not in cut.problem and "no answer" not in cut.problem:
        return cut
    return LinkFault(
        "nothing answers there",
        "look whether the printer is on, and whether port and speed (--speed) are its own",
    )


def reached(
    name: str, speed: int | None, last: int | None, dialect: Dialect
) -> tuple[Link, int, str]:
    """A link on which a printer answers, its speed, and the printer's words.

    Parameters
    ----------
    name : of the port
    speed : bits a second; None: the common ones are tried, the `last` one first
    last : that answered before
    dialect : the printer's lines

    Raises
    ------
    LinkFault
        If there is no such port, or no printer on it.
    """
    fault = None
    for one in _speeds(name, speed, last):
        wire = SerialWire(name, one)
        link = Link(wire, dialect)
        try:
            return link, one, hello(link, HELLO_S if fault is None else TRIED_S)
        except LinkFault as error:
            wire.close()
            fault = error
    assert fault is not None
    raise LinkFault(f"{echoed(name)}: {fault.problem}", fault.remedy)


def _speeds(name: str, speed: int | None, last: int | None) -> Iterator[int]:
    if speed is not None:
        yield speed
    elif "://" in name:
        yield SPEEDS[0]
    else:
        yield from dict.fromkeys([*([last] if last else []), *SPEEDS])
