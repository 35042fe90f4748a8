"""What the keeper of a port and its clients say to one another: JSON, a line a message, over a
socket on this computer alone.
"""

from __future__ import annotations

import contextlib
import hmac
import json
import socket
from collections.abc import Iterator, Mapping
from dataclasses import asdict
from typing import Any

from omphalon.base import errors
from omphalon.base.errors import LinkFault, OmphalonError
from omphalon.lines.dialect import Dialect
from omphalon.lines.gain_forms import ControlLoop
from omphalon.lines.template import Template

BEAT_S = 1.0  # each end says so often that it lives
LONGEST_MESSAGE = 8_000_000  # bytes of one message: a print of a hundred thousand lines
MOST_READ = 262_144  # bytes that are read of one peer in a round
MOST_OF_CLIENT = 1000  # bytes of somebody who has not shown to be the owner
MOST_NEW_CLIENTS = 6  # at once
CLIENT_S = 2.0  # within that a client has said what it wants
MOST_UNREAD = 1_000_000  # bytes that wait for who does not read; what is only shown is dropped then
Message = dict[str, Any]


class Peer:
    """One end of a conversation; never waits for the other."""

    def __init__(self, connection: socket.socket) -> None:
        self.connection = connection
        self.connection.setblocking(False)
        self.inbox, self.outbox = b"", b""
        self.count = 0  # bytes so far
        self.closed = False

    def read(self) -> list[Message]:
        """The messages that have come; `closed` is set where there will be no more. One bounded
        read a call: a flood holds nothing else up.
        """
        with contextlib.suppress(BlockingIOError):
            data = self._receive()
            self.count += len(data)
            self.inbox += data
        *lines, self.inbox = self.inbox.split(b"\n")
        self.closed |= len(self.inbox) > LONGEST_MESSAGE
        found = []
        for line in lines:
            try:
                message = json.loads(line)
            except (ValueError, RecursionError):
                message = None
            if not isinstance(message, dict):
                self.closed = True  # somebody who speaks something else
                break
            found.append(message)
        return found

    def _receive(self) -> bytes:
        try:
            data = self.connection.recv(MOST_READ)
        except BlockingIOError:
            raise
        except OSError:
            data = b""
        self.closed |= not data
        return data

    def say(self, message: Mapping[str, Any], *, passing: bool = False) -> None:
        """A message on its way; one that is only shown in passing may be dropped."""
        if not passing or len(self.outbox) < MOST_UNREAD:
            self.outbox += json.dumps(message).encode() + b"\n"
        self.flush()

    def flush(self) -> None:
        """What waits, as far as the other end takes it."""
        if not self.outbox or self.closed:
            return
        try:
            self.outbox = self.outbox[self.connection.send(self.outbox) :]
        except BlockingIOError:
            return
        except OSError:
            self.closed = True

    def close(self) -> None:
        """No more; what waits gets a last chance."""
        with contextlib.suppress(OSError):
            self.connection.settimeout(1.0)
            if not self.closed:
                self.connection.sendall(self.outbox)
        self.connection.close()


class NewClients:
    """Clients that have not shown to be the owner: few at once, a short word within a short
    time.
    """

    def __init__(self, listener: socket.socket) -> None:
        self.listener = listener
        self.listener.setblocking(False)
        self.since: dict[Peer, float] = {}
        self.kept: set[Peer] = set()

    def received(self, now_s: float) -> Iterator[tuple[Peer, Message]]:
        """Take in who is new, what each has sent, and send off who sends too much or nothing."""
        with contextlib.suppress(OSError):
            while True:
                peer = Peer(self.listener.accept()[0])
                if len(self.since) < MOST_NEW_CLIENTS:
                    self.since[peer] = now_s
                else:
                    peer.connection.close()
        for peer, since in list(self.since.items()):
            for message in peer.read():
                yield peer, message
            peer.flush()
            late = peer not in self.kept and now_s - since > CLIENT_S
            if peer in self.since and (peer.closed or late or peer.count > MOST_OF_CLIENT):
                peer.closed = True
                peer.connection.close()
                self.let_go(peer)

    def keep(self, peer: Peer) -> None:
        """Let one wait for as long as it takes."""
        self.kept.add(peer)

    def let_go(self, peer: Peer) -> None:
        """It is known now, or gone."""
        self.since.pop(peer, None)
        self.kept.discard(peer)


def proof(secret: str, challenge: object) -> str:
    """What only who knows the secret can answer to a challenge (HMAC, RFC 2104)."""
    return hmac.new(secret.encode(), str(challenge).encode(), "sha256").hexdigest()


def as_fault(error: OmphalonError) -> Message:
    """An error as it is handed on."""
    return {"kind": type(error).__name__, "problem": error.problem, "remedy": error.remedy}


def fault_of(message: Mapping[str, str]) -> OmphalonError:
    """The error again."""
    kind = getattr(errors, message["kind"], LinkFault)
    error: OmphalonError = kind(message["problem"], message["remedy"])
    return error


def as_dialect(dialect: Dialect) -> Message:
    """A dialect as it is handed on."""
    lines = {name: t.text for name, t in dialect.templates.items() if t.section is None}
    return {"name": dialect.name, "loop": asdict(dialect.loop), "lines": lines}


def dialect_of(message: Mapping[str, Any]) -> Dialect:
    """The dialect again; its templates were checked where it was read."""
    templates = {name: Template(text) for name, text in message["lines"].items()}
    return Dialect(message["name"], ControlLoop(**message["loop"]), templates)
