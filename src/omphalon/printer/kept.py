"""A printer that a keeper has: what a command asks of it, and what it hears meanwhile. The command
may be stopped, killed or held up at its terminal at any moment; the keeper goes on without it.
"""

from __future__ import annotations

import contextlib
import hmac
import json
import os
import queue
import secrets
import select
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from typing import Any, Protocol

from omphalon.base.errors import LinkFault, OmphalonError, StillHot, UnwritableFile
from omphalon.lines.dialect import Dialect
from omphalon.printer.capture import Captured
from omphalon.printer.course import COURSES, Course
from omphalon.printer.keeper import Config
from omphalon.printer.link import reached
from omphalon.printer.messages import BEAT_S, Message, Peer, as_dialect, fault_of, proof
from omphalon.printer.notes import holder, known, note
from omphalon.printer.off import SwitchedOff, switch_off
from omphalon.printer.port import SerialWire, checked_port, held_port, met_keeper, process_at
from omphalon.printer.send import Sent
from omphalon.recordings.reports import Heating, Status
from omphalon.tables.constants import SILENCE_S, UNWATCHED_S
from omphalon.tables.heaters import Heater

HUNG_S = 15.0  # a keeper that is silent for so long hangs: it is ended, and done without
ENDS_S = 3.0  # a keeper that was told to end is waited for so long
ANSWERS_S = 15.0  # a keeper that is asked to cool down and says nothing for so long is done without


@dataclass(frozen=True, kw_only=True)
class KeeperOptions:
    """Where the printer is, how it is spoken to, and what is known of the user's patience."""

    port: str
    speed: int | None
    dialect: Dialect
    command: str
    silence_s: float = SILENCE_S
    waits_s: float = UNWATCHED_S


class FallView(Protocol):
    """Receive what is watched while heaters cool, and the end of it."""

    def __call__(self, words: str) -> None: ...

    def over(self) -> None: ...


class _Unwatched:
    def __call__(self, words: str) -> None:
        return

    def over(self) -> None:
        return


class KeptPrinter:
    """A printer whose port a keeper has; asked by one thread, while another hears the keeper.

    `said`: is handed words of the printer's own about a fault; must not wait. `called_off`: is
    called, in another thread, where the keeper has ended what was going on.
    """

    def __init__(
        self, options: KeeperOptions, said: Callable[[str], None], called_off: Callable[[], None]
    ) -> None:
        self.options, self.said, self.called_off = options, said, called_off
        self.answers: queue.SimpleQueue[Message] = queue.SimpleQueue()
        self.view: Callable[[Status], None] = lambda status: None
        self.counted: Callable[[int], None] = lambda count: None
        self.watched: FallView = _Unwatched()
        self.fault: OmphalonError | None = None  # why the keeper ended what was going on
        self.off: SwitchedOff | None = None  # what came of switching off, where that was done
        self.kept_rows: int | None = None
        self.kept_in: str | None = None
        self.number, self.left = 0, False
        self.process, self.peer = self._started()
        self.lock = threading.Lock()
        self.thread = threading.Thread(target=self._listen, daemon=True)
        self.thread.start()

    def _started(self) -> tuple[subprocess.Popen[bytes], Peer]:
        """A keeper in a session of its own, and the way to it."""
        options, token = self.options, secrets.token_hex(16)
        config = Config(
            token=token,
            port=checked_port(options.port),
            speed=options.speed,
            dialect=as_dialect(options.dialect),
            command=options.command,
            silence_s=options.silence_s,
            waits_s=options.waits_s,
        )
        process = subprocess.Popen(
            [sys.executable, "-P", "-m", "omphalon.printer.keeper"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=None if os.environ.get("OMPHALON_DEBUG") == "1" else subprocess.DEVNULL,
            start_new_session=True,
        )
        try:
            return process, self._met(process, config)
        except BaseException:  # also Ctrl-C: nothing is on yet, and nobody would end it
            process.kill()
            process.wait()
            raise

    def _met(self, process: subprocess.Popen[bytes], config: Config) -> Peer:
        """The way to a keeper that has just been started, once it has the port."""
        assert process.stdin is not None and process.stdout is not None
        with contextlib.suppress(OSError):
            process.stdin.write(json.dumps(asdict(config)).encode() + b"\n")
            process.stdin.close()
        line = process.stdout.readline()  # it says a word, or ends
        process.stdout.close()
        words = json.loads(line) if line else {}
        if "fault" in words:
            raise fault_of(words["fault"])
        connection = met_keeper(config.port) if words else None
        if connection is None or (process_at(connection) or (process.pid,))[0] != process.pid:
            raise LinkFault("the keeper of the port does not start", "try again")
        peer = Peer(connection)
        peer.say({"token": config.token})
        return peer

    # ---- the other thread: hears the keeper, and lets it know that the command lives

    def _listen(self) -> None:
        beat_s, last_s = 0.0, time.monotonic()
        while not self.peer.closed and not self.left:
            there, unsent = [self.peer.connection], bool(self.peer.outbox)
            select.select(there, there if unsent else [], [], BEAT_S)
            with self.lock:
                if time.monotonic() - beat_s >= BEAT_S:
                    beat_s = time.monotonic()
                    self.peer.say({"do": "beat"})
                self.peer.flush()
            for message in self.peer.read():
                last_s = time.monotonic()
                self._take(message)
            if time.monotonic() - last_s > HUNG_S:
                self.process.kill()
        if not self.left:
            self._alone()

    def _take(self, message: Message) -> None:
        if "status" in message:
            words = message["status"]
            self.view(Status(**{**words, "seen": Heating(**words["seen"])}))
        elif "said" in message:
            self.said(message["said"])
        elif "sent" in message:
            self.counted(message["sent"])
        elif "kept" in message:
            self.kept_rows = message["kept"]
        elif "id" in message or "cooled" in message or "watched" in message:
            self.answers.put(message)
        elif "fault" in message:
            self.off = SwitchedOff(**message["off"])
            self._call_off(fault_of(message["fault"]))

    def _call_off(self, fault: OmphalonError) -> None:
        if self.fault is None:
            self.fault = fault
            self.answers.put({"called-off": True})
            self.called_off()

    def _alone(self) -> None:
        """The keeper is gone without a word: this process switches the heaters off itself."""
        self.off = self.off or cooled_here(self.options)
        self._call_off(LinkFault("the keeper of the port was ended, or hung", "start over"))

    # ---- what a command asks for

    def _ask(self, do: str, **given: Any) -> Any:
        """The answer to one question.

        Raises what went wrong with it, or ended everything.
        """
        if self.fault is not None:
            raise self.fault
        self.off = None  # whatever it was, it may be on again
        self.number += 1
        with self.lock:
            self.peer.say({"id": self.number, "do": do, "with": given})
        while True:
            answer = self._next(drawn=do == "run")
            if self.fault is not None:
                raise self.fault
            if answer.get("id") != self.number:
                continue
            if "fault" in answer:
                if answer.get("off"):
                    self.off = SwitchedOff(**answer["off"])
                raise fault_of(answer["fault"])
            return answer["result"]

    def _next(self, drawn: bool = False) -> Message:
        """The next answer; what is watched while heaters cool is shown on the way, where no picture
        is `drawn`.
        """
        answer = self.answers.get()
        if "watched" in answer and not drawn:
            self.watched(answer["watched"])
        return answer

    def agree(self, lines: Sequence[str]) -> None:
        """Lines that the user has seen: others are not sent."""
        with self.lock:
            self.peer.say({"do": "agree", "lines": list(lines)})

    def open(self) -> None:
        """Meet the printer."""
        self._ask("open")

    def tell(self, line: str, *, slow: bool = False) -> list[str]:
        """Send a line; the words of the answer."""
        words: list[str] = self._ask("tell", line=line, slow=slow)
        return words

    def listing(self) -> str:
        """The printer's settings listing."""
        text: str = self._ask("listing")
        return text

    def ask_for_reports(self, every_s: float) -> None:
        """Let the printer report by itself, where it can."""
        self._ask("report-every", seconds=every_s)

    def send(self, lines: Sequence[str], counted: Callable[[int], None]) -> Sent:
        """Send lines; what became of them."""
        self.counted = counted
        done = self._ask("send", lines=list(lines))
        off, fault = done.pop("off"), done.pop("fault")
        if off:
            self.off = SwitchedOff(**off)
        words = {name: tuple(value) for name, value in done.items()}
        return Sent(**words, fault=fault and fault_of(fault))

    def run(
        self,
        course: Course,
        heater: Heater,
        view: Callable[[Status], None],
        *,
        out: str | None,
        every_s: float,
        max_temp_c: float | None,
        arrives_s: float | None = None,
    ) -> Captured:
        """Put the printer through a course, as `capture.capture` does."""
        self.view, self.kept_rows, self.kept_in = view, None, out
        name = next(name for name, kind in COURSES.items() if type(course) is kind)
        done = self._ask(
            "run",
            course=name,
            given=course.given(),
            heater=str(heater),
            out=out,
            every=every_s,
            max_temp=max_temp_c,
            arrives=arrives_s,
        )
        return Captured(**done)

    def left_on(self) -> dict[Heater, float] | None:
        """The heaters that a report says are on; None where none comes."""
        on: dict[str, float] | None = self._ask("left-on")
        return None if on is None else {Heater.named(name): on[name] for name in on}

    def cool(self) -> SwitchedOff:
        """Heaters off, if that was not done already; what came of it."""
        if self.off is None and self.fault is None:
            with self.lock:
                self.peer.say({"do": "cool"})
            while self.off is None and self.fault is None:
                answer = self._next()
                if "cooled" in answer:
                    self.off = SwitchedOff(**answer["off"])
            self.watched.over()
        assert self.off is not None
        off, self.off = self.off, self.off if self.fault is not None else None
        return off

    def leave(self) -> None:
        """No more is asked; the keeper ends."""
        self.left = True
        with self.lock:
            self.peer.say({"id": 0, "do": "end"})
        with contextlib.suppress(subprocess.TimeoutExpired):
            self.process.wait(ENDS_S)
        self.thread.join(ENDS_S)
        self.peer.close()


def cooled_here(options: KeeperOptions) -> SwitchedOff:
    """Heaters off without a keeper: the port opened by this process."""
    try:
        with contextlib.ExitStack() as stack:
            with contextlib.suppress(LinkFault):
                stack.enter_context(held_port(options.port))
            before = known(options.port)
            link, speed, _ = reached(options.port, options.speed, before.speed, options.dialect)
            off = switch_off(link, lambda: SerialWire(options.port, speed))
            link.wire.close()
    except OmphalonError as fault:
        words = f"{fault.problem}, and heaters off could not be sent"
        return SwitchedOff(shown=False, halted=False, words=words)
    with contextlib.suppress(UnwritableFile):
        if off.shown:
            note(options.port, heating_since=None, left_on={})
    return off


def cool_through_keeper(port: str, watched: Callable[[str], None]) -> SwitchedOff | None:
    """Heaters off by the keeper that has a port now; None where none has, or has any more: then the
    port is there to be opened. Only a keeper of this user's that proves to be it is believed; any
    other is asked, and its port is read once it lets go.

    Raises StillHot if another process has the port, and does not let go.
    """
    connection = met_keeper(port)
    if connection is None:
        return None
    has, end = holder(port), process_at(connection)
    ours = has is not None and (end is None or end == (has.process, os.geteuid()))
    try:
        off = _asked_to_cool(Peer(connection), has.secret if has and ours else None, watched)
        if off is not None:
            return off
    except TimeoutError:  # it hangs: it is ended, and the port opened here instead
        if has is not None and ours and end is not None:
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.kill(has.process, signal.SIGKILL)
    until = time.monotonic() + ANSWERS_S
    while time.monotonic() < until:
        connection = met_keeper(port)
        if connection is None:
            return None
        connection.close()
        time.sleep(0.2)
    raise StillHot(
        "another process has this port, was asked to cool it down, and cannot be believed",
        "not shown to be off here: look at the printer, or pull the plug",
    )


def _asked_to_cool(
    peer: Peer, secret: str | None, watched: Callable[[str], None]
) -> SwitchedOff | None:
    """What a keeper says of cooling down; None where it ends, or proves nothing.

    Raises TimeoutError if it falls silent.
    """
    challenge = secrets.token_hex(16)
    peer.say({"do": "cool", "challenge": challenge})
    proven, last_s = False, time.monotonic()
    with contextlib.closing(peer):
        while not peer.closed:
            if time.monotonic() - last_s > ANSWERS_S:
                raise TimeoutError
            select.select([peer.connection], [], [], 1.0)
            for message in peer.read():
                last_s = time.monotonic()
                if secret is not None and "proof" in message:
                    proven = hmac.compare_digest(str(message["proof"]), proof(secret, challenge))
                elif "watched" in message:
                    watched(str(message["watched"]))
                elif "off" in message:
                    return SwitchedOff(**message["off"]) if proven else None
    return None


def still_hot(off: SwitchedOff, why: str = "") -> StillHot:
    """The last word where heaters could not be shown to be off."""
    remedy = "still heating: pull the plug"
    if "not yet shown" in off.words:
        remedy = "pull the plug, unless you see it fall"
    return StillHot(f"{why}; {off.words}" if why else off.words, remedy)
