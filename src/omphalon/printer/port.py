"""The port at the edge: serial or TCP by pyserial, with every fault of its as a sentence; one
process has it at a time, by whatever name, and is met at a place that follows from what the port
is.
"""

from __future__ import annotations

import contextlib
import errno
import functools
import hashlib
import ipaddress
import os
import re
import socket
import stat
import struct
import sys
from collections.abc import Iterator
from typing import Any, Protocol

from omphalon.base.errors import LinkFault, echoed

# bits a second, the most common first; tried in this order where none is given
SPEEDS = (115200, 250000, 57600, 230400, 500000, 1000000, 38400, 19200, 9600)
MOST_READ = 4096  # bytes in one read: a flood holds nothing else up
LINUX = sys.platform == "linux"
READ_S = 0.02  # the longest a read waits: how fast everything else is looked at
PLUG = "look at the cable and at the printer's switch; omphalon printer list shows the ports"


HOST_AND_PORT = re.compile(r"[A-Za-z0-9.-]+:\d{1,5}")
SOCKET = re.compile(r"socket://(\[[0-9A-Fa-f:.]+\]|[A-Za-z0-9_.-]+):(\d{1,5})/?")


class Wire(Protocol):
    """What carries bytes both ways."""

    def read(self) -> bytes:
        """What has come, after a short wait at the most; nothing is no error."""

    def write(self, data: bytes) -> None:
        """Bytes on their way."""

    def close(self) -> None:
        """Let go of it."""


def checked_port(name: str) -> str:
    """A port that may be opened: a device, or `socket://HOST:PORT`; nothing else that a library
    would take for one.

    Raises LinkFault if it is another kind of address, or a plain file.
    """
    if not name.strip() or "\x00" in name:
        raise LinkFault("--port: no name", PLUG)
    if "://" in name and SOCKET.fullmatch(name) is None:
        raise LinkFault(f"{echoed(name)}: no port", f"give a device, or socket://HOST:PORT; {PLUG}")
    if HOST_AND_PORT.fullmatch(name) and not os.path.exists(name):
        raise LinkFault(
            f"{echoed(name)}: no device", f"for an address write socket://{echoed(name)}"
        )
    if "://" not in name and os.path.isfile(name):
        raise LinkFault(f"{echoed(name)}: a file, no port", PLUG)
    return name


@functools.cache
def address_of(name: str) -> str:
    """What a port's name leads to, the same for every name of one port; asked once in a process, so
    that a device that is unplugged is still that device.
    """
    there = SOCKET.fullmatch(name)
    if there is None:
        with contextlib.suppress(OSError, ValueError):
            found = os.stat(name)
            if stat.S_ISCHR(found.st_mode):
                return f"device {found.st_rdev}"
        return f"device {os.path.realpath(name)}"
    host = there[1].strip("[]")
    try:
        ways = socket.getaddrinfo(host, int(there[2]), type=socket.SOCK_STREAM)
        places = sorted(_plain_address(str(way[4][0])) for way in ways)
    except (OSError, OverflowError, UnicodeError):
        places = [host.lower()]
    return f"socket {places[0]} {int(there[2])}"


def _plain_address(text: str) -> str:
    """An address without its other spellings; all of this computer's own are one."""
    try:
        address = ipaddress.ip_address(text.partition("%")[0])
    except ValueError:
        return text
    mapped = getattr(address, "ipv4_mapped", None)
    address = mapped or address
    here = address.is_loopback or address.is_unspecified or _is_own(str(address))
    return "here" if here else str(address)


def _is_own(address: str) -> bool:
    """Whether an address is one of this computer's: only there can a socket be bound to it."""
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    with contextlib.suppress(OSError), socket.socket(family, socket.SOCK_DGRAM) as one:
        one.bind((address, 0))
        return True
    return False


def _meeting_place(port: str) -> tuple[int, Any]:
    """The family and address of the socket at which the keeper of a port listens: one for all names
    of the port, users, and folders for temporary files.
    """
    name = hashlib.sha256(address_of(port).encode()).hexdigest()
    if LINUX:
        return socket.AF_UNIX, f"\0omphalon-port-{name[:32]}"
    return socket.AF_INET, ("127.0.0.1", 20000 + int(name[:8], 16) % 12000)


@contextlib.contextmanager
def held_port(port: str, command: str = "") -> Iterator[socket.socket]:
    """The port for this process alone, as long as it lives; gives the socket at which it can be
    met. The device itself is locked where it is opened.

    Raises LinkFault if another one has it; `command`: what that is about, as far as it is known.
    """
    family, address = _meeting_place(port)
    listener = socket.socket(family)
    try:
        try:
            listener.bind(address)
            listener.listen(8)
        except OSError as error:
            raise LinkFault(
                f"{echoed(port)}: another omphalon is talking to this printer{echoed(command)}",
                "wait until it is done, stop it there with Ctrl-C, or omphalon printer cool",
            ) from error
        yield listener
    finally:
        listener.close()


def met_keeper(port: str) -> socket.socket | None:
    """A connection to the process that has a port now; None where none has."""
    family, address = _meeting_place(port)
    connection = socket.socket(family)
    connection.settimeout(2.0)
    try:
        connection.connect(address)
    except OSError:
        connection.close()
        return None
    return connection


def process_at(connection: socket.socket) -> tuple[int, int] | None:
    """The process and the user at the other end, where the system tells."""
    if not LINUX:
        return None
    raw = connection.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, struct.calcsize("3i"))
    process, user, _ = struct.unpack("3i", raw)
    return process, user


class SerialWire:
    """A port as pyserial opens it: `/dev/…`, `COMn`, `socket://host:port`."""

    def __init__(self, name: str, speed: int) -> None:
        import serial

        self.name = checked_port(name)
        self._faults = (serial.SerialException, OSError)
        try:
            own: dict[str, Any] = {} if "://" in name else {"exclusive": True}
            self.port = serial.serial_for_url(
                name, baudrate=speed, timeout=READ_S, write_timeout=5.0, **own
            )
        except (*self._faults, ValueError) as error:
            raise LinkFault(f"{echoed(name)}: {_reason(error)}", PLUG) from error

    def read(self) -> bytes:
        """What has come."""
        try:
            first: bytes = self.port.read(1)
            return first + self._rest() if first else b""
        except self._faults as error:
            raise LinkFault(
                f"{echoed(self.name)}: the link is cut ({_reason(error)})", PLUG
            ) from error

    def _rest(self) -> bytes:
        """What can be read without waiting; a socket does not count its bytes."""
        if "://" not in self.name:
            return bytes(self.port.read(min(self.port.in_waiting, MOST_READ)))
        self.port.timeout = 0
        try:
            return bytes(self.port.read(MOST_READ))
        finally:
            self.port.timeout = READ_S

    def write(self, data: bytes) -> None:
        """Bytes on their way."""
        try:
            self.port.write(data)
        except self._faults as error:
            raise LinkFault(
                f"{echoed(self.name)}: nothing can be sent ({_reason(error)})", PLUG
            ) from error

    def close(self) -> None:
        """Let go of it."""
        with contextlib.suppress(*self._faults):
            self.port.close()


def _reason(error: Exception) -> str:
    """The kernel's own words where there are any."""
    cause: BaseException | None = error
    while cause is not None:
        number = getattr(cause, "errno", None)
        if number in (errno.EAGAIN, errno.EBUSY):
            return "another program has this port"
        if isinstance(number, int):
            return os.strerror(number) if number > 0 else str(getattr(cause, "strerror", cause))
        cause = cause.__context__
    return " ".join(str(error).split())


def found_ports() -> list[tuple[str, str]]:
    """The serial ports of this computer: name, and what it says of itself."""
    from serial.tools import list_ports

    return [(port.device, port.description) for port in sorted(list_ports.comports())]
