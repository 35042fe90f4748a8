"""The stand-in printer on a wire: TCP on this computer alone, or a pseudo-terminal; and what goes
wrong between it and whoever talks to it, on demand.
"""

from __future__ import annotations

import contextlib
import os
import select
import socket
import time
from collections.abc import Callable, Iterable, Iterator
from typing import Any

import numpy as np

from omphalon.standin.machine import Machine, Ways

LOST = 0.1  # share of the lines that are lost
NOISE = 0.002  # share of the bytes that are changed
SETS = ("M92", "M301", "M304", "LEAD", "STREAM", "PUSH", "CALM", "CEIL")
WAIT_S = 0.003  # of real time between two looks
MOST_STEP_S = 2.0  # of its time in one round, however much has passed: it answers first
MOST_UNREAD = 1_000_000  # bytes that wait for a reader; more is lost
LONGEST_LINE = 1000
REPLUGGED_S = 5.0  # a link that is cut for a while


class Faulty:
    """A machine with faults, most of which strike so long after something was first heated."""

    def __init__(
        self, machine: Machine, faults: Iterable[str], after_s: float, seed: int = 3
    ) -> None:
        self.machine, self.faults, self.after_s = machine, set(faults), after_s
        self.random = np.random.default_rng(seed)
        self.heated_s: float | None = None
        self.struck = False
        self._begin(machine.ways)

    def _begin(self, ways: Ways) -> None:
        """What is so from the beginning."""
        ways.checks_early = "checks-early" in self.faults
        ways.deaf = "deaf" in self.faults
        ways.busy = "busy" in self.faults
        if "power-untold" in self.faults:
            ways.counts = None
        if "power-scale" in self.faults:
            ways.counts = 200.0
        if "second-hotend" in self.faults:
            ways.reported.add("hotend 1")
        if "no-bed" in self.faults:
            ways.reported.discard("bed")
        if "noisy" in self.faults:
            ways.scatter_c = 0.7
        ways.codes = "codes" in self.faults
        for fault in ("test-ignored", "test-endless"):
            if fault in self.faults:
                ways.tests = fault.removeprefix("test-")

    def hear(self, data: bytes) -> bytes:
        """Bytes on their way in."""
        return self._changed(data) if "noise" in self.faults else data

    def take(self, line: str) -> str | None:
        """What it says to a line at once instead of doing it; None: it does it."""
        refused: tuple[str, ...] = SETS if "refuse" in self.faults else ()
        refused += ("M303",) if "test-refused" in self.faults else ()
        if any(f"{code} " in line for code in refused):
            number = line.split()[0][1:] if line.startswith("N") else ""
            if number.isdigit():
                self.machine.last_number = int(number)
            return "error: not allowed now"
        return None

    def loses(self) -> bool:
        """Whether the next line is lost for good."""
        return "lost-lines" in self.faults and self.random.random() < LOST

    def say(self, data: bytes) -> bytes | None:
        """Bytes on their way out; None: the link is cut."""
        if "noise" in self.faults:
            data = self._changed(data)
        if "garbage" in self.faults:
            return bytes(self.random.integers(128, 255, len(data)).tolist())
        if "lost-lines" in self.faults:
            data = b"".join(x for x in data.splitlines(True) if self.random.random() >= LOST)
        if not self._due():
            return data
        first, self.struck = not self.struck, True
        if "dropout" in self.faults:
            return b""
        if first:
            self._strike(self.machine.ways)
        if first and "half-line" in self.faults:
            return data[: len(data) // 2]
        if "unplug" in self.faults or (first and "replug" in self.faults):
            return None
        return data

    def _strike(self, ways: Ways) -> None:
        """What happens all at once."""
        machine, reading = self.machine, self.machine.heated["hotend"].reading_c
        if "restart" in self.faults:
            machine.start()
        if "stuck-sensor" in self.faults:
            ways.stuck_at = reading
        if "nan" in self.faults:
            ways.stuck_at = float("nan")
        if "unreported" in self.faults:
            ways.reported = {"bed"}
        if "off-ignored" in self.faults:
            ways.heats_on = True
        if "second-hotend" in self.faults:
            machine.aim("hotend 1", 210.0)
        if "panel-target" in self.faults:
            machine.aim("hotend", 290.0)
        if "stuck-on" in self.faults:
            ways.stuck_on.add("hotend")
        if "bed-stuck-on" in self.faults:
            ways.stuck_on.add("bed")
        if "panel" in self.faults:
            machine.aim("hotend", 0.0)
        if "trip" in self.faults:
            machine.says.append("error: heating failed, the hotend was switched off")
            machine.aim("hotend", 0.0)

    def _due(self) -> bool:
        hot = any(one.target_c for one in self.machine.heated.values())
        if hot and self.heated_s is None:
            self.heated_s = self.machine.now_s
        return self.heated_s is not None and self.machine.now_s - self.heated_s >= self.after_s

    def _changed(self, data: bytes) -> bytes:
        out = bytearray(data)
        for n in np.flatnonzero(self.random.random(len(out)) < NOISE):
            out[n] = int(self.random.integers(32, 255))
        return bytes(out)


class Terminal:
    """A pseudo-terminal. `speed`: the bits a second that it wants, None: any."""

    def __init__(self, speed: int | None) -> None:
        import tty

        self.ours, self.theirs = os.openpty()
        tty.setraw(self.theirs)
        os.set_blocking(self.ours, False)
        self.name, self.speed = os.ttyname(self.theirs), speed

    def wait(self, seconds: float) -> None:
        """Until there is something to read, or so long."""
        select.select([self.ours], [], [], seconds)

    def read(self) -> bytes:
        """What has come; garbled where the other end has another speed."""
        try:
            data = os.read(self.ours, 65536)
        except OSError:
            return b""
        return data if self._right() else bytes(b ^ 0xA5 for b in data)

    def write(self, data: bytes) -> int:
        """How many bytes went out."""
        with contextlib.suppress(OSError):
            return os.write(self.ours, data if self._right() else bytes(b | 0x80 for b in data))
        return 0

    def _right(self) -> bool:
        import termios

        if self.speed is None:
            return True
        wanted = getattr(termios, f"B{self.speed}", None)
        return bool(termios.tcgetattr(self.theirs)[4] == wanted)

    def cut(self) -> None:
        """Unplugged: the other end sees it."""
        os.close(self.ours)
        os.close(self.theirs)


class Tcp:
    """A port on this computer alone; one talks at a time."""

    def __init__(self, number: int) -> None:
        self.listener = socket.create_server(("127.0.0.1", number))
        self.listener.setblocking(False)
        self.name = f"socket://127.0.0.1:{self.listener.getsockname()[1]}"
        self.peer: socket.socket | None = None
        self.away_until_s = 0.0

    def wait(self, seconds: float) -> None:
        """Until there is something to read, or so long."""
        if self.peer is None and time.monotonic() < self.away_until_s:
            time.sleep(seconds)
            return
        select.select([self.peer or self.listener], [], [], seconds)

    def read(self) -> bytes:
        """What has come; takes on who calls."""
        if self.peer is None:
            if time.monotonic() < self.away_until_s:
                return b""
            with contextlib.suppress(OSError):
                self.peer = self.listener.accept()[0]
                self.peer.setblocking(False)
                self.peer.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            return b""
        try:
            data = self.peer.recv(65536)
        except BlockingIOError:
            return b""
        except OSError:
            data = b""
        if not data:
            self.cut()
        return data

    def write(self, data: bytes) -> int:
        """How many bytes went out; to nobody: all."""
        if self.peer is None:
            return len(data)
        try:
            return self.peer.send(data)
        except BlockingIOError:
            return 0
        except OSError:
            self.cut()
            return len(data)

    def cut(self) -> None:
        """Hang up."""
        if self.peer is not None:
            self.peer.close()
            self.peer = None


def serve(
    wire: Any,
    faulty: Faulty,
    pace: float,
    panel: Callable[[float, str], None],
    clock: Callable[[], float] = time.monotonic,
) -> Iterator[None]:
    """Run the machine on a wire for ever; yields once a round, so that the caller can end it.

    `faulty`: the machine, and what goes wrong on the way. `pace`: seconds of its time in one of
    ours. `panel`: is handed what it shows on its front, with its time.
    """
    machine: Machine = faulty.machine
    last, virtual, rest, out = clock(), machine.now_s, b"", b""
    while True:
        time.sleep(WAIT_S) if out else wire.wait(WAIT_S)
        *lines, rest = (rest + faulty.hear(wire.read())).replace(b"\r", b"\n").split(b"\n")
        rest = rest[-LONGEST_LINE:]
        for raw in lines:
            line = raw.decode("latin-1")
            if faulty.loses():
                continue
            at_once = faulty.take(line)
            if at_once is None:
                machine.hear(line)
            else:
                machine.says += [at_once, "ok"]
        now = clock()
        if not any(lines):  # what was received is answered first
            virtual += min(pace * (now - last), MOST_STEP_S)
            last = now
        said = faulty.say(b"".join(f"{x}\n".encode() for x in machine.advance(virtual)))
        for words in machine.panel:
            panel(machine.now_s, words)
        machine.panel.clear()
        if said is None:
            wire.cut()
            if "unplug" in faulty.faults:
                return
            wire.away_until_s, said = clock() + REPLUGGED_S, b""
        out = (out + said)[-MOST_UNREAD:]
        out = out[wire.write(out) :] if out else b""
        yield
