"""A dialogue on a wire: lines go out and are acknowledged, reports come in and are guarded."""

from __future__ import annotations

import contextlib
import re
import time
from collections.abc import Callable, Iterable, Iterator

from omphalon.base.errors import LinkFault, Unsafe, echoed
from omphalon.lines.codes import is_move, is_test, off_lines, targets_of
from omphalon.lines.dialect import Dialect
from omphalon.printer.dialogue import UNPLUG, Dialogue, Received, Speech
from omphalon.printer.guard import Guard, GuardLimits
from omphalon.printer.port import SPEEDS, SerialWire, Wire
from omphalon.recordings.reports import Report
from omphalon.tables.heaters import Heater

UNREPORTED_S = 600.0  # silence for a slow line, on a printer that reports nothing meanwhile
HELLO_AGAIN_S = 0.8
HELLO_S = 4.0  # a board that restarts when the port is opened needs some
TRIED_S = 2.0  # for each further speed that is tried
NOISY_S = 1.5  # after that, bytes without a single readable line mean the wrong speed
MOST_READS = 6  # of one answer
ANSWER_S = 1.2  # for a line that is not waited for longer
MISSED = 3.0  # reports in a row that do not come by themselves: then each is asked for
WORD_BEFORE = re.compile(r"^\w+:\s*")  # what a controller puts before anything it says


class Link:
    """One printer on one wire. `clock` is in s.

    Whoever has the link may set what is called with every round (`each_round`), before a line that
    heats goes out (`before_heat`), with the printer's own words about a fault (`on_fault`), and
    with what is watched while heaters cool (`watched`).
    """

    def __init__(
        self, wire: Wire, dialect: Dialect, clock: Callable[[], float] = time.monotonic
    ) -> None:
        self.wire, self.dialect, self.clock = wire, dialect, clock
        self.guard = Guard(GuardLimits())
        self.guarded = True
        self.agreed: set[str] | None = None  # lines that were shown; None: any may be sent
        self.frame: set[str] = set()  # lines of the dialect's frame, checked where it was read
        self.each_round: Callable[[], None] = lambda: None
        self.before_heat: Callable[[], None] = lambda: None
        self.on_fault: Callable[[str], None] = lambda words: None
        self.watched: Callable[[str], None] = lambda words: None
        self.bytes = 0
        self.reports: list[tuple[float, Report]] = []  # of the last round, with their times
        self.start()

    def start(self, wire: Wire | None = None) -> None:
        """A conversation from its beginning, perhaps on a wire that was opened again."""
        self.wire = wire or self.wire
        self.dialogue = Dialogue("number" in self.dialect.templates, self._at_work)
        self.heard_s = self.reported_s = self.clock()
        self.next_ask_s = 0.0
        self.reporting = False
        self.report_s = 0.0  # of the last report, by the printer's own clock where it has one
        self.last: Report | None = None
        self.words: list[str] = []  # of the last round, that are no reports

    def _at_work(self, line: str) -> bool:
        return any(map(self.guard.at_work, targets_of(line, self.dialect)))

    def pump(self) -> list[Received]:
        """Read once, take what was received, say again what is due.

        Raises LinkFault, Unsafe as the dialogue and the guard do, and where the printer itself
        tells of a fault while something is heated.
        """
        if self.guarded:
            self.guard.tick(self.clock())
        self.each_round()
        data, now = self.wire.read(), self.clock()
        self.bytes += len(data)
        idle = self.dialogue.pending is None
        received = list(self.dialogue.read(data, now)) if data else []
        if any(one.kind is not Speech.NOISE for one in received):
            self.heard_s = now
        self.reports, self.words = [], []
        for one in received:
            if one.report is not None:
                self._report(one.report, now)
            elif one.kind is Speech.WORD:
                self.words.append(one.text)
            if one.kind is Speech.REFUSAL:
                self._trouble(one.text, idle)
        due = self.dialogue.due(now)
        if due:
            self.wire.write(due)
        return received

    def _report(self, report: Report, now: float) -> None:
        self.last, self.reported_s = report, now
        if not self.guarded:
            with contextlib.suppress(LinkFault):
                self.report_s = self.guard.clock.seconds_of(report, now) or self.report_s
            return
        time_s = self.guard.look(report, now)
        if time_s is not None:
            self.report_s = time_s
            self.reports.append((time_s, report))

    def _trouble(self, words: str, idle: bool) -> None:
        """A complaint: the answer to a line, or the printer's own."""
        self.on_fault(words)
        if idle and self.guarded and self.guard.running:
            raise LinkFault(
                f"the printer says: {echoed(words)}", "look at it before it is heated again"
            )

    def begin(self, line: str, again_s: float = 5.0, slow: bool = False) -> None:
        """Send a line and do not wait.

        Raises Unsafe if it was not shown, and is not of the frame.
        """
        if self.agreed is not None and line not in self.agreed and line not in self.frame:
            raise Unsafe(f"{echoed(line)} was not shown, so it is not sent", "please report it")
        now = self.clock()
        self.heard_s = now
        watched = self.guarded and not is_move(line)
        targets = targets_of(line, self.dialect) if watched else {}
        if any(target > 0 for target in targets.values()):
            self.before_heat()
        for heater, target in targets.items():
            self.guard.asked(heater, target, now, by_test=is_test(line, self.dialect))
        self.wire.write(self.dialogue.say(line, now, again_s, slow))

    @property
    def waiting(self) -> bool:
        """Whether the last line is not acknowledged yet."""
        return self.dialogue.pending is not None

    def tell(self, line: str, *, slow: bool = False, again_s: float = 5.0) -> list[str]:
        """Send a line and wait until it is acknowledged; the words of the answer.

        Raises LinkFault, Unsafe if it is refused, not answered, the link is cut, or a heater must
        not go on.
        """
        self._wait(slow)  # a report may have been asked for
        self.begin(line, again_s, slow)
        self._wait(slow)
        if self.dialogue.refused is not None:
            raise LinkFault(
                f"the printer refuses {echoed(line)}: {echoed(self.dialogue.refused)}",
                "what is not shown as applied was not sent",
            )
        return self.dialogue.replies

    def _wait(self, slow: bool) -> None:
        """Wait until the last line is acknowledged."""
        while self.waiting:
            self.pump()
            self.check_alive(slow)

    def settle(self) -> None:
        """Wait a little for the pending line, then no longer."""
        until = self.clock() + ANSWER_S
        while self.waiting and self.clock() < until:
            self.pump()
        self.dialogue.forget()

    def check_alive(self, slow: bool = False) -> None:
        """Refuse to wait longer for a printer that says nothing at all."""
        if self.guarded:
            self.guard.tick(self.clock())
        silent = self.clock() - self.heard_s
        patience = self.guard.limits.silence_s
        if silent > (UNREPORTED_S if slow and not self.reporting else patience):
            raise LinkFault(f"the printer has been silent for {silent:.0f} s", UNPLUG)

    def line(self, setting: str, **values: object) -> str | None:
        """A line of the dialect's frame."""
        line = self.dialect.line(setting, **values)
        if line is not None:
            self.frame.add(line)
        return line

    def off_lines(self, heaters: Iterable[Heater]) -> list[str]:
        """The lines of the frame that switch these heaters off."""
        lines = off_lines(self.dialect, heaters)
        self.frame.update(lines)
        return lines

    def ask_report(self, every_s: float) -> None:
        """Ask for a report where it is time for one, and none comes by itself."""
        now, ask = self.clock(), self.line("report")
        by_itself = self.reporting and now - self.reported_s < MISSED * max(every_s, 1.0)
        if self.waiting or ask is None or now < self.next_ask_s or by_itself:
            return
        self.next_ask_s = max(self.next_ask_s + every_s, now)
        self.begin(ask, again_s=2.0)

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
        """The printer's settings listing.

        Raises LinkFault if its dialect has no line for that, or nothing comes.
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

        Raises LinkFault if no two are the same, or as `tell`.
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


def hello(link: Link, within_s: float = HELLO_S) -> str:
    """Begin a conversation: number the lines, ask who is there; the printer's own words.

    Raises LinkFault if nothing, or nothing readable, answers.
    """
    until, noisy = link.clock() + within_s, link.clock() + NOISY_S
    first = link.line("number", number=0) or link.line("report") or "M105"
    received: list[str] = []
    cut: LinkFault | None = None
    try:
        link.begin(first, again_s=HELLO_AGAIN_S)
        while link.waiting and link.clock() < (until if received or not link.bytes else noisy):
            received += [one.text for one in link.pump() if one.kind is not Speech.NOISE]
    except LinkFault as fault:
        cut = fault
    if link.waiting or not link.dialogue.open or link.dialogue.refused is not None:
        raise _no_answer(link, received, cut)
    words = []
    line = link.line("identify")
    if line is not None:
        try:
            words = link.tell(line, again_s=HELLO_AGAIN_S)
        except LinkFault:
            if link.dialogue.refused is None:
                raise
    return WORD_BEFORE.sub("", words[0])[:100] if words else ""


def _no_answer(link: Link, received: list[str], cut: LinkFault | None) -> LinkFault:
    """Why nobody was met: nothing came, or something else than a printer's words."""
    if received and not link.dialogue.reader.noise:
        return LinkFault(
            f"what answers there does not speak as a printer does: {echoed(received[-1])}",
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
    name: str,
    speed: int | None,
    last: int | None,
    dialect: Dialect,
    prepared: Callable[[Link], None] = lambda link: None,
) -> tuple[Link, int, str]:
    """A link on which a printer answers, its speed, and the printer's words.

    `speed`: bits a second; None: the common ones are tried, the `last` one first. `last`: that
    answered before. `prepared`: is handed each link before the first word. Raises LinkFault if
    there is no such port, or no printer on it.
    """
    fault = None
    for one in _speeds(name, speed, last):
        wire = SerialWire(name, one)
        link = Link(wire, dialect)
        prepared(link)
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
