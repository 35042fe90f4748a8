"""Heaters off, whatever else was going on; believed only where reports show it."""

from __future__ import annotations

import contextlib
import math
import time
from collections.abc import Callable
from dataclasses import dataclass

from omphalon.errors import LinkFault
from omphalon.heaters import kind_of
from omphalon.lines.codes import off_lines
from omphalon.printer.link import ANSWER_S, Link
from omphalon.printer.port import Wire
from omphalon.reports import Heating

REOPEN_S = 30.0  # a link that is cut is opened again for so long
AGAIN_S = 4.0  # off is said again after so long without a report that shows it
UNHEARD_S = 8.0  # without any report, or with a heater still on: given up, and the printer halted
FALL_C = 0.5  # below its highest reading since: it falls
FALL_UNTOLD_C = 8.0  # the same where the reports do not say its target
COOL_C = 45.0  # so cold a heater need not fall
ASK_S = 0.5  # between two reports that are asked for
TWICE = 2  # reports in a row that must show it
ALWAYS = ("hotend", "bed")


@dataclass(frozen=True, kw_only=True)
class SwitchedOff:
    """What came of switching the heaters off: whether reports show it, whether the printer was
    halted for it, and the sentence.
    """

    shown: bool
    halted: bool
    words: str


@dataclass
class _Cooling:
    """One heater after it was switched off."""

    highest_c: float = -math.inf
    shows: int = 0  # reports in a row that show it off and falling
    on: str = ""  # what the last report says against it

    def look(self, now: Heating) -> None:
        """Take in what a report says of it."""
        if not math.isfinite(now.temperature_c):
            self.shows = 0
            return
        words = math.isfinite(now.target_c)
        self.highest_c = max(self.highest_c, now.temperature_c)
        power = "it has power" if now.power > 0 else ""
        self.on = f"its target is {now.target_c:g} °C" if now.target_c > 0 else power
        cool = now.temperature_c < COOL_C and words
        fallen = self.highest_c - now.temperature_c
        falls = cool or fallen >= (FALL_C if words else FALL_UNTOLD_C)
        self.shows = self.shows + 1 if falls and not self.on else 0


class _Off:
    """The heaters of one printer on their way to cold."""

    def __init__(self, link: Link, reopen: Callable[[], Wire] | None) -> None:
        self.link, self.reopen = link, reopen
        link.reporting = False  # each report is asked for: what was promised may be forgotten
        known = link.guard.heaters
        self.required = {name for name, one in known.items() if one.asked_c > 0}
        self.heaters = {name: _Cooling() for name in (*ALWAYS, *sorted({*known} - {*ALWAYS}))}

    def shown(self) -> bool:
        """Whether the reports show it of every heater that they name, or that we have heated."""
        known = [
            one
            for name, one in self.heaters.items()
            if name in self.required or math.isfinite(one.highest_c)
        ]
        return bool(known) and all(one.shows >= TWICE for one in known)

    def said(self) -> bool:
        """Say it until the reports show it, or will not; whether it could be said at all."""
        begun, sent = self.link.clock(), False
        while not sent or self.link.clock() - begun < UNHEARD_S:
            try:
                self._say()
                sent = True
                self.watch()
            except LinkFault:
                if self._cut():
                    sent = False
                    if not self._opened_again():
                        return False
                    begun = self.link.clock()
                elif self.link.clock() - begun > UNHEARD_S:
                    return sent
            if self.shown():
                return True
        return sent

    def watch(self) -> None:
        """Look at reports until they show it: for a while where they show a heater on, or none
        come; for as long as it takes to fall where they show them off.
        """
        begun, begun_report = self.link.clock(), self.link.report_s
        until = begun + AGAIN_S
        while self.link.clock() < until and not self.shown():
            self.link.last = None
            self.link.ask_report(ASK_S)
            self.link.pump()
            if self.link.last is None:
                continue
            for name, heating in self.link.last.heaters.items():
                self.heaters.setdefault(name, _Cooling()).look(heating)
            gone = max(self.link.clock() - begun, self.link.report_s - begun_report)
            if not any(one.on for one in self.heaters.values()) and gone < self._patience_s():
                until = self.link.clock() + AGAIN_S

    def _patience_s(self) -> float:
        """How long the slowest heater that does not fall yet may take."""
        slow = [name.split()[0] for name, one in self.heaters.items() if not one.shows]
        return max((kind_of(kind).falls_s for kind in slow), default=0.0)

    def _say(self) -> None:
        """All that switches off: what is waited for ended, the count begun anew, each line until it
        is acknowledged, and all of them once more without numbers.
        """
        link = self.link
        lines = off_lines(link.dialect, self.heaters)
        if "break" in link.dialect.templates:
            self._urgent(lines.pop(0))
        for _ in range(2):
            heard = self._count_anew()
            missed = [line for line in lines if not self._urgent(line, waits=heard)]
            if heard and not missed:
                break
        link.wire.write("".join(f"{line}\n" for line in lines).encode("ascii", "replace"))
        until = link.clock() + ANSWER_S / 3
        while link.clock() < until:
            link.pump()
        self._count_anew()

    def _count_anew(self) -> bool:
        """The line that begins the count anew; whether it was acknowledged."""
        line = self.link.line("number", number=0) if self.link.dialogue.numbered else None
        self.link.dialogue.next_number = 0
        return line is None or self._urgent(line)

    def _urgent(self, line: str, waits: bool = True) -> bool:
        """Say a line now, three times at the most; whether it was acknowledged."""
        link = self.link
        link.dialogue.forget()
        link.begin(line, again_s=ANSWER_S / 3)
        until = link.clock() + (ANSWER_S if waits else ANSWER_S / 6)
        try:
            while link.waiting and link.clock() < until:
                link.pump()
        except LinkFault:
            if self._cut():
                raise
            return False  # it has lost count, or has started anew
        finally:
            answered = not link.waiting
            link.dialogue.forget()
        return answered and link.dialogue.refused is None

    def _cut(self) -> bool:
        """Whether the wire itself no longer carries anything."""
        try:
            self.link.wire.write(b"\n")
            self.link.wire.read()
        except LinkFault:
            return True
        return False

    def _opened_again(self) -> bool:
        """Open the wire anew, for as long as that may help."""
        until = self.link.clock() + REOPEN_S
        self.link.wire.close()
        while self.reopen is not None and self.link.clock() < until:
            try:
                self.link.start(self.reopen())
                return True
            except LinkFault:
                self.link.each_round()
                time.sleep(0.3)
        return False

    def halt(self) -> SwitchedOff:
        """Halt the printer, and look once more."""
        line, name_on = self.link.line("halt"), ""
        for name, one in self.heaters.items():
            name_on = f"the {name} ({one.on}) may still be heating" if one.on else name_on
        with contextlib.suppress(LinkFault):
            if line is not None:
                self._urgent(line)
                self.link.wire.write(line.encode("ascii", "replace") + b"\n")
                self._count_anew()
            self.watch()
        if self.shown():
            return SwitchedOff(
                shown=True,
                halted=line is not None,
                words="heaters off was not obeyed, so the printer was halted; now they are off: "
                "switch it off and on",
            )
        halted = ", though the printer was told to halt" if line is not None else ""
        why = name_on or "no report shows that the heaters are off"
        return SwitchedOff(shown=False, halted=line is not None, words=f"{why}{halted}")


def switch_off(link: Link, reopen: Callable[[], Wire] | None = None) -> SwitchedOff:
    """Switch every heater off that the reports name, and watch until they show it: target 0, no
    power, and a reading that falls. Said again while they do not; as a last resort the printer is
    halted. Nothing that comes meanwhile ends it early.

    `link`: to the printer, in whatever state it is. `reopen`: opens the wire anew where it is cut;
    None: it cannot be.
    """
    off = _Off(link, reopen)
    link.guarded = False
    try:
        sent = off.said()
        if not off.shown() and sent:
            return off.halt()
        words = (
            "the heaters are off" if sent else "the link is cut, and heaters off could not be sent"
        )
        return SwitchedOff(shown=off.shown(), halted=False, words=words)
    finally:
        link.guarded = True
        if off.shown():
            link.guard.over()


def seen_off(link: Link) -> dict[str, float] | None:
    """The heaters that a report now says are on, with their targets; None where none comes."""
    until = link.clock() + 4 * ANSWER_S
    link.last, link.next_ask_s = None, 0.0
    while link.clock() < until:
        link.ask_report(ASK_S)
        link.pump()
        if link.last is not None:
            return {n: one.target_c for n, one in link.last.heaters.items() if not one.off}
    return None
