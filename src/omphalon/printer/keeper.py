"""The keeper: a process of its own that has the port. It alone reads and writes it, keeps the log,
watches the heaters, and switches them off: when a guard or a deadline says so, when it is asked to,
and when the command that started it dies, stops, or falls silent.

    python -P -m omphalon.printer.keeper      (what it needs to know comes on standard input)

It says on standard output that it has the port, and nothing else there. Who knows its token is its
owner, and may ask for all that `ASKED` names; anybody on this computer may ask it to cool down, and
who knows the secret in the user's own folder can tell that it is this keeper who answers.
"""

from __future__ import annotations

import contextlib
import json
import os
import secrets
import signal
import socket
import sys
import time
import traceback
from collections import deque
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, replace
from datetime import UTC, datetime
from typing import Any

from omphalon.base.errors import LinkFault, Lowered, OmphalonError
from omphalon.printer.capture import capture, new_log
from omphalon.printer.course import course_named
from omphalon.printer.guard import Guard, GuardLimits
from omphalon.printer.link import Link, reached
from omphalon.printer.messages import BEAT_S, Message, NewClients, Peer, as_fault, dialect_of, proof
from omphalon.printer.notes import Holder, holder, known, note, noted_holder
from omphalon.printer.off import SwitchedOff, seen_off, switch_off
from omphalon.printer.port import SerialWire, held_port
from omphalon.printer.send import send
from omphalon.tables.heaters import Heater

SILENT_S = 5.0  # an owner that is silent for so long is gone, or stopped
IDLE_REPORT_S = 2.0  # between two reports while nothing else is done, and a heater is on
TERMINATED = "this computer ended it"
LEFT = "the command that heated it died, was stopped or fell silent"


@dataclass(frozen=True, kw_only=True)
class Config:
    """What the keeper of a port is told at its start."""

    token: str
    port: str
    speed: int | None
    dialect: Message
    command: str
    silence_s: float
    waits_s: float


class Stopped(BaseException):
    """Whatever is done ends here, heaters off; why, for the note of the port."""


def now() -> str:
    """The moment, ISO, UTC."""
    return datetime.now(UTC).isoformat(timespec="seconds")


class Keeper:
    """One printer, those who ask for something, and what is being done."""

    def __init__(self, config: Config, listener: socket.socket, secret: str) -> None:
        self.config, self.secret = config, secret
        self.link: Link | None = None
        self.agreed: set[str] = set()  # lines that the owner's user has seen
        self.speed = 0
        self.owner: Peer | None = None
        self.new_clients = NewClients(listener)
        self.waiting: list[Peer] = []  # for what comes of cooling down
        self.asked: deque[Message] = deque()
        self.cooling = self.ended = self.lowered = False
        self.stop: str | None = None
        self.unshown: SwitchedOff | None = None  # heaters that could not be shown to be off
        self.clock = time.monotonic
        self.heard_s = self.asked_s = self.beat_s = self.clock()

    # ---- clients

    def look(self) -> None:
        """Hear who is there, the owner first; Stopped where the owner is gone, or somebody wants it
        cooled down. Bounded, whatever anybody sends.
        """
        if self.owner is not None:
            for message in self.owner.read():
                self._hear(message)
            self.owner.flush()
        gone = self.owner is not None and self.owner.closed
        if (gone or self.clock() - self.heard_s > SILENT_S) and not self.ended:
            self.stop = self.stop or LEFT
        self._look_at_new_clients()
        if self.clock() - self.beat_s > BEAT_S:
            self.beat_s = self.clock()
            for peer in filter(None, (self.owner, *self.waiting)):
                peer.say({"beat": True}, passing=True)
        if self.stop is not None and not self.cooling:
            raise Stopped(self.stop)

    def _look_at_new_clients(self) -> None:
        """Everybody but the owner. Anybody may ask it to cool down; who knows the token is the
        owner.
        """
        for peer, message in self.new_clients.received(self.clock()):
            token = str(message.get("token")).encode("utf-8", "replace")
            if peer is self.owner:
                self._hear(message)
            elif message.get("do") == "cool":
                self.waiting.append(peer)
                self.new_clients.keep(peer)
                challenge = message.get("challenge")
                peer.say({"cooling": True, "proof": proof(self.secret, challenge)})
                self.stop = "omphalon printer cool asked for it"
            elif self.owner is None and secrets.compare_digest(token, self.config.token.encode()):
                self.owner, self.heard_s = peer, self.clock()
                self.new_clients.let_go(peer)
            else:
                peer.closed = True
        self.waiting = [peer for peer in self.waiting if not peer.closed]

    def _hear(self, message: Message) -> None:
        self.heard_s = self.clock()
        if message["do"] == "cool":
            if self.owner is not None:
                self.waiting.append(self.owner)
            self.stop = self.stop or "asked for"
        elif message["do"] == "agree":
            self.agreed.update(message["lines"])
        elif message["do"] != "beat":
            self.asked.append(message)

    def tell(self, message: Mapping[str, Any], *, passing: bool = False) -> None:
        """Something for the owner, if there is one."""
        if self.owner is not None:
            self.owner.say(message, passing=passing)

    # ---- what it does

    def serve(self) -> None:
        """Do what is asked for, and watch meanwhile, until it is told to end or is alone."""
        while not self.ended:
            try:
                if self.asked:
                    self._carry_out(self.asked.popleft())
                elif self.link is None:
                    self.look()
                    time.sleep(0.01)
                else:
                    self._watch_idle(self.link)
            except Stopped as why:
                self._stopped(str(why))
            except OmphalonError as fault:
                self._give_up(fault)
            except Exception as fault:  # the last door: whatever it is, heaters off comes first
                if os.environ.get("OMPHALON_DEBUG") == "1":
                    traceback.print_exc()
                words = f"a fault of omphalon itself ({type(fault).__name__}: {fault})"
                self._give_up(LinkFault(words, "please report it"))

    def _give_up(self, fault: OmphalonError) -> None:
        """Heaters off, and no more of this link."""
        off = self._off()
        self.tell({"fault": as_fault(fault), "off": asdict(off)})
        self._let_go()

    def _let_go(self) -> None:
        """The link is of no more use."""
        if self.link is not None:
            self.link.wire.close()
            self.link = None

    def _watch_idle(self, link: Link) -> None:
        """Nothing is asked for: look on, for as long as a user may think."""
        on = link.guard.on()
        if on:
            link.ask_report(IDLE_REPORT_S)
        link.pump()
        if on and self.clock() - self.asked_s > link.guard.limits.waits_s:
            self._off()
            self.lowered = True

    def _carry_out(self, message: Message) -> None:
        """One thing that was asked for; what goes wrong in it switches the heaters off first."""
        number, do = message["id"], message["do"]
        self.asked_s = self.clock()
        try:
            if self.lowered:
                self.lowered = False
                raise Lowered(
                    "nobody answered for so long that the heaters were switched off",
                    "begin this step again",
                )
            result = ASKED[do](self, **message.get("with", {}))
        except OmphalonError as fault:
            off = self._off() if self.link is not None else None
            self.tell({"id": number, "fault": as_fault(fault), "off": off and asdict(off)})
        else:
            self.tell({"id": number, "result": result})
        self.asked_s = self.clock()

    def _stopped(self, why: str) -> None:
        """Heaters off, and who waits is told; alone, it ends with a note of it."""
        alone = self.owner is None or self.owner.closed or why in (LEFT, TERMINATED)
        by_owner = self.owner in self.waiting
        unmet = self.link is None and self.unshown is None
        off = self._off(why if alone else None)
        for peer in self.waiting:
            if peer is self.owner or not unmet:
                peer.say({"off": asdict(off), "cooled": True})
            else:
                peer.closed = True  # nothing is known of the printer yet: it is read there
        if not by_owner:
            self.tell({"fault": as_fault(LinkFault(why, "start over")), "off": asdict(off)})
        self.waiting.clear()
        self.asked.clear()
        self.stop = None
        self.ended = alone

    def _off(self, ended: str | None = None) -> SwitchedOff:
        """Heaters off, with a note of what came of it, and of why this ended, in one piece."""
        port = self.config.port
        noted: dict[str, object] = {}
        if self.link is None:
            nothing = SwitchedOff(shown=True, halted=False, words="nothing was sent")
            off = self.unshown or nothing
        else:
            self.cooling = True
            try:
                off = switch_off(self.link, lambda: SerialWire(port, self.speed))
            finally:
                self.cooling = False
            since = None if off.shown else known(port).heating_since or now()
            noted = {"heating_since": since, **({"left_on": {}} if off.shown else {})}
            if not off.shown:
                self.unshown = off
                self._let_go()
        if ended is not None:
            noted["ended"] = f"{now()[:16].replace('T', ' ')} UTC: {ended}: {off.words}"
        with contextlib.suppress(OmphalonError):
            note(port, **noted)
        return off

    # ---- what may be asked for

    def open(self) -> None:
        """Meet the printer."""
        port, before = self.config.port, known(self.config.port)

        def prepared(link: Link) -> None:
            link.each_round = self.look
            link.before_heat = self._noted
            link.agreed = self.agreed
            link.on_fault = lambda words: self.tell({"said": words}, passing=True)
            link.watched = self._watched
            link.guard = Guard(
                GuardLimits(silence_s=self.config.silence_s, waits_s=self.config.waits_s),
                before.heaters_left_on(),
            )

        dialect = dialect_of(self.config.dialect)
        link, speed, words = reached(port, self.config.speed, before.speed, dialect, prepared)
        self.link, self.speed = link, speed
        note(port, speed=speed, name=words, seen=now(), ended="")

    def _watched(self, words: str) -> None:
        for peer in filter(None, (self.owner, *self.waiting)):
            peer.say({"watched": words}, passing=True)

    def _noted(self) -> None:
        """From here on a heater may be on: noted, for the case that this process dies."""
        if known(self.config.port).heating_since is None:
            note(self.config.port, heating_since=now())

    def printer(self) -> Link:
        """The link, while it is of use."""
        if self.link is None:
            raise LinkFault("the link was given up", "start over")
        return self.link

    def tell_line(self, line: str, slow: bool) -> list[str]:
        """One line, and what is answered."""
        return self.printer().tell(line, slow=slow)

    def listing(self) -> str:
        """What the printer lists."""
        return self.printer().listing()

    def report_every(self, seconds: float) -> None:
        """Reports that come by themselves, where the printer can."""
        self.printer().ask_for_reports(seconds)

    def send(self, lines: list[str]) -> Message:
        """Lines, one by one; a fault among them switches the heaters off."""
        done = send(self.printer(), lines, lambda count: self.tell({"sent": count}, passing=True))
        off = self._off() if done.fault is not None else None
        words = {**asdict(replace(done, fault=None)), "off": off and asdict(off)}
        return {**words, "fault": done.fault and as_fault(done.fault)}

    def run(
        self,
        course: str,
        given: Message,
        heater: str,
        out: str | None,
        every: float,
        max_temp: float | None,
        arrives: float | None,
    ) -> Message:
        """Put the printer through a course, its log kept."""
        link = self.printer()
        link.guard.limits = replace(
            link.guard.limits, heater=Heater.named(heater), max_temp_c=max_temp, arrives_s=arrives
        )
        one = course_named(course, given)
        with contextlib.ExitStack() as stack:
            log = stack.enter_context(new_log(out, one.start())) if out is not None else None
            try:
                done = capture(
                    link,
                    one,
                    link.guard.limits.heater,
                    log,
                    lambda status: self.tell({"status": asdict(status)}, passing=True),
                    every,
                )
            finally:
                if log is not None:
                    self.tell({"kept": log.rows})
        return asdict(done)

    def left_on(self) -> dict[str, float] | None:
        """Which heaters are on now, by a report; None where none comes. The note keeps it."""
        link = self.printer()
        seen = seen_off(link)
        on = None if seen is None else {str(heater): target for heater, target in seen.items()}
        if on is not None:
            since = known(self.config.port).heating_since or now()
            note(self.config.port, left_on=on, heating_since=since if on else None)
        return on

    def end(self) -> None:
        """No more is asked for; what is on stays on, and stands in the note."""
        self.ended = True
        self._let_go()


ASKED: dict[str, Callable[..., Any]] = {
    "open": Keeper.open,
    "tell": Keeper.tell_line,
    "listing": Keeper.listing,
    "report-every": Keeper.report_every,
    "send": Keeper.send,
    "run": Keeper.run,
    "left-on": Keeper.left_on,
    "end": Keeper.end,
}
DEAF_TO = ("SIGINT", "SIGHUP", "SIGQUIT", "SIGTSTP", "SIGTTOU", "SIGTTIN", "SIGPIPE")


def main() -> None:
    """Take the config, have the port, serve; nothing of it reaches a terminal."""
    config = Config(**json.loads(sys.stdin.readline()))
    for name in DEAF_TO:
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), signal.SIG_IGN)
    has = holder(config.port)
    command = f" (process {has.process}: {has.command})" if has else ""
    try:
        with held_port(config.port, command) as listener:
            who = Holder(process=os.getpid(), command=config.command, secret=secrets.token_hex(16))
            keeper = Keeper(config, listener, who.secret)
            signal.signal(signal.SIGTERM, lambda *_: setattr(keeper, "stop", TERMINATED))
            with noted_holder(config.port, who):
                print(json.dumps({"held": True}), flush=True)
                keeper.serve()
            for peer in filter(None, (keeper.owner, *keeper.waiting)):
                peer.close()
    except OmphalonError as fault:
        print(json.dumps({"fault": as_fault(fault)}), flush=True)


if __name__ == "__main__":
    main()
