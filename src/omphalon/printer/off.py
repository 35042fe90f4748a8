"""Heaters off, whatever else was going on; believed only where readings show it."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from omphalon.base.errors import LinkFault
from omphalon.printer.cooling import CoolingWatch
from omphalon.printer.link import ANSWER_S, Link
from omphalon.printer.port import Wire
from omphalon.tables.heaters import HOTEND, Heater

REOPEN_S = 30.0  # a link that is cut is opened again for so long
AGAIN_S = 4.0  # off is said again after so long without a report that shows it
UNHEARD_S = 8.0  # without any report, or with a heater still on: given up, and the printer halted
ASK_S = 0.5  # between two reports that are asked for
ALWAYS = (HOTEND, Heater("bed"))


@dataclass(frozen=True, kw_only=True)
class SwitchedOff:
    """What came of switching the heaters off: whether reports show it, whether the printer was
    halted for it, and the sentence.
    """

    shown: bool
    halted: bool
    words: str


class _Off:
    """The heaters of one printer on their way to cold."""

    def __init__(self, link: Link, reopen: Callable[[], Wire] | None) -> None:
        self.link, self.reopen = link, reopen
        link.reporting = False  # each report is asked for: what was promised may be forgotten
        self.before = {} if link.guard.heaters else self._targets_now()
        self.begun_s, self.begun_report_s = link.clock(), link.report_s
        known = {*ALWAYS, *link.guard.heaters}
        self.heaters = {
            heater: self._watched(heater) for heater in (*ALWAYS, *sorted(known - {*ALWAYS}))
        }

    def _targets_now(self) -> dict[Heater, float]:
        """Targets that one report tells before off is sent, where nothing was ever reported: a fall
        to such a target proves nothing.
        """
        link = self.link
        until, link.last, link.next_ask_s = link.clock() + ASK_S, None, 0.0
        with contextlib.suppress(LinkFault):
            while link.last is None and link.clock() < until:
                link.ask_report(ASK_S)
                link.pump()
        if link.last is None:
            return {}
        return {n: one.target_c for n, one in link.last.heaters.items() if one.target_c > 0}

    def _watched(self, heater: Heater) -> CoolingWatch:
        before = self.link.guard.before_off(heater)
        held_c = self.before.get(heater, before.target_c)
        return CoolingWatch(
            kind=heater.kind, held_c=held_c, ours=before.asked, past=before.readings
        )

    def _concerned(self) -> dict[Heater, CoolingWatch]:
        """The heaters that reports name, or that we have heated."""
        return {heater: one for heater, one in self.heaters.items() if one.reported or one.ours}

    def waited_for(self) -> dict[Heater, CoolingWatch]:
        """Those of them that are not shown to be off."""
        known = self._concerned()
        idle = {heater: one.reading_c for heater, one in known.items() if one.idle}
        return {
            heater: one
            for heater, one in known.items()
            if not one.off([c for other, c in idle.items() if other != heater])
        }

    def shown(self) -> bool:
        """Whether readings show it of every heater that reports name, or that we have heated."""
        return bool(self._concerned()) and not self.waited_for()

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
        come; for as long as a fall takes to be certain where they show them off.
        """
        until = self.link.clock() + AGAIN_S
        begun_s, shown = self._gone_s(), self.shown()
        while self.link.clock() < until and not shown:
            self.link.last = None
            self.link.ask_report(ASK_S)
            self.link.pump()
            if self.link.last is None:
                continue
            for heater, heating in self.link.last.heaters.items():
                if heater not in self.heaters:
                    self.heaters[heater] = self._watched(heater)
                self.heaters[heater].take(self._gone_s(), heating)
            waited = self.waited_for()
            shown = bool(self._concerned()) and not waited
            self.link.watched(self.words(waited))
            patience_s = max((one.kind.falls_s for one in waited.values()), default=0.0)
            if not any(one.on for one in waited.values()) and self._gone_s() - begun_s < patience_s:
                until = self.link.clock() + AGAIN_S

    def _gone_s(self) -> float:
        """Seconds so far, by the printer's clock or ours, whichever is further."""
        link = self.link
        return max(link.clock() - self.begun_s, link.report_s - self.begun_report_s)

    @staticmethod
    def words(waited: Mapping[Heater, CoolingWatch]) -> str:
        """What is watched, for a view."""
        seen = (
            f"{heater} {one.reading_c:.1f} °C" for heater, one in waited.items() if one.readings
        )
        return f"off was sent; watching it fall: {', '.join(seen)}"

    def _say(self) -> None:
        """All that switches off: what is waited for ended, the count restarted, each line until it
        is acknowledged, and all of them once more without numbers.
        """
        link = self.link
        lines = link.off_lines(self.heaters)
        if "break" in link.dialect.templates:
            self._urgent(lines.pop(0))
        for _ in range(2):
            received = self._recount()
            missed = [line for line in lines if not self._urgent(line, waits=received)]
            if received and not missed:
                break
        link.wire.write("".join(f"{line}\n" for line in lines).encode("ascii", "replace"))
        until = link.clock() + ANSWER_S / 3
        while link.clock() < until:
            link.pump()
        self._recount()

    def _recount(self) -> bool:
        """The line that restarts the count; whether it was acknowledged."""
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
            return False  # it has lost count, or has restarted
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
        """Open the wire again, for as long as that may help."""
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
        """Halt the printer, and watch once more."""
        line = self.link.line("halt")
        before = [
            f"the {heater} ({one.on}) may still be heating"
            for heater, one in self.heaters.items()
            if one.on
        ]
        with contextlib.suppress(LinkFault):
            if line is not None:
                self._urgent(line)
                self.link.wire.write(line.encode("ascii", "replace") + b"\n")
                self._recount()
            self.watch()
        if self.shown():
            return SwitchedOff(
                shown=True,
                halted=line is not None,
                words="heaters off was not obeyed, so the printer was halted; now they are off: "
                "switch it off and on",
            )
        halted = ", though the printer was told to halt" if line is not None else ""
        return SwitchedOff(
            shown=False, halted=line is not None, words=f"{self._why(before)}{halted}"
        )

    def _why(self, before: Sequence[str]) -> str:
        """Why heaters are not shown to be off, the surest evidence first."""
        if before:
            return before[-1]
        waited = [(heater, one) for heater, one in self.waited_for().items() if one.readings]
        if not waited:
            return "no report shows that the heaters are off"
        heater, one = waited[0]
        seconds = one.readings[-1][0] - one.readings[0][0]
        return (
            f"the {heater} is not yet shown to be off: it reads {one.reading_c:g} °C, "
            f"{one.readings[0][1]:g} °C {seconds:.0f} s before"
        )


def switch_off(link: Link, reopen: Callable[[], Wire] | None = None) -> SwitchedOff:
    """Switch every heater off that the reports name, and watch until they show it: target 0, no
    power, and a reading that is certain to fall, or is cold. Repeated while they do not; as a
    last resort the printer is halted. Nothing that comes meanwhile ends it early.

    `link`: to the printer, in whatever state it is. `reopen`: opens the wire again where it is cut;
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


def seen_off(link: Link) -> dict[Heater, float] | None:
    """The heaters that a report now says are on, with their targets; None where none comes."""
    until = link.clock() + 4 * ANSWER_S
    link.last, link.next_ask_s = None, 0.0
    while link.clock() < until:
        link.ask_report(ASK_S)
        link.pump()
        if link.last is not None:
            return {n: one.target_c for n, one in link.last.heaters.items() if not one.off}
    return None
