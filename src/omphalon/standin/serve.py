"""The stand-in printer on a wire: TCP on this computer alone, or a pseudo-terminal."""

from __future__ import annotations

import contextlib
import os
import select
import socket
import time
from collections.abc import Callable, Iterator
from typing import Any

from omphalon.standin.faults import Faulty
from omphalon.standin.machine import Machine

WAIT_S = 0.003  # of real time between two looks
MOST_STEP_S = 2.0  # of its time in one round, however much has passed: it answers first
MOST_UNREAD = 1_000_000  # bytes that wait for a reader; more is lost
LONGEST_LINE = 1000
REPLUGGED_S = 5.0  # a link that is cut for a while


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
        if not any(lines):  # what was heard is answered first
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
