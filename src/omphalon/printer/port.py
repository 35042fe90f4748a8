"""The port at the edge: serial or TCP by pyserial, with every fault of its as a sentence; and what
is known of each port between one command and the next: who has it, what answered there, which
heaters were left on, and how the last command ended.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import ipaddress
import json
import os
import re
import socket
import stat
import tempfile
from collections.abc import Iterator
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any, Protocol

from omphalon.errors import LinkFault, UnwritableFile, echoed
from omphalon.files import put_bytes

# bits a second, the most common first; tried in this order where none is given
SPEEDS = (115200, 250000, 57600, 230400, 500000, 1000000, 38400, 19200, 9600)
READ_S = 0.02  # the longest a read waits: how fast everything else is looked at
PLUG = "look at the cable and at the printer's switch; omphalon printer list shows the ports"


@dataclass(frozen=True, kw_only=True)
class Known:
    """A port: the speed at which a printer answered, its own words, when; since when a heater may
    be on, if a command ended without switching it off; heaters that were left on, with their
    targets; what was done when nobody was there to be told; the dialect of a bench's own that was
    agreed to, by its digest. Times are ISO, UTC.
    """

    port: str
    speed: int | None = None
    name: str = ""
    seen: str = ""
    heating_since: str | None = None
    left_on: dict[str, float] = field(default_factory=dict)
    ended: str = ""
    dialect: str = ""


def place() -> Path:
    """The folder of the notes; a temporary one where the user's own cannot be written."""
    from platformdirs import user_state_path

    named = os.environ.get("OMPHALON_STATE")
    for folder in (
        *([Path(named)] if named else []),
        user_state_path("omphalon", appauthor=False) / "ports",
        Path(tempfile.gettempdir()) / f"omphalon-ports-{os.getuid() if os.name != 'nt' else ''}",
    ):
        with contextlib.suppress(OSError):
            folder.mkdir(parents=True, exist_ok=True)
            if os.access(folder, os.W_OK):
                return folder
    raise UnwritableFile("no folder for notes about ports", "set OMPHALON_STATE to one")


def _name(port: str) -> str:
    return hashlib.sha256(address_of(port).encode()).hexdigest()[:16]


def _file(port: str) -> Path:
    return place() / f"{_name(port)}.json"


def _common() -> Path:
    """The folder of the locks, where every user of this computer finds it."""
    folder = Path(tempfile.gettempdir()) / "omphalon-ports"
    with contextlib.suppress(OSError):
        folder.mkdir(exist_ok=True)
        folder.chmod(0o777)  # not sticky: there a file of another user may not be opened
    return folder if folder.is_dir() and not folder.is_symlink() else place()


def known(port: str) -> Known:
    """The note on a port; an empty one where there is none, or none that can be read."""
    with contextlib.suppress(OSError, ValueError, TypeError):
        return Known(**json.loads(_file(port).read_text("utf-8")))
    return Known(port=port)


def all_known() -> list[Known]:
    """Every note, the latest first."""
    found = []
    for path in place().glob("*.json"):
        with contextlib.suppress(OSError, ValueError, TypeError):
            found.append(Known(**json.loads(path.read_text("utf-8"))))
    return sorted(found, key=lambda one: one.seen, reverse=True)


def note(port: str, **changes: object) -> Known:
    """A note with these changes, kept."""
    one: Known = replace(known(port), **changes)  # type: ignore[arg-type]
    put_bytes(str(_file(port)), json.dumps(asdict(one)).encode())
    return one


@dataclass(frozen=True, kw_only=True)
class Holder:
    """Who has a port: the process, where it listens on this computer, and what it is about."""

    process: int
    listens: int
    command: str


def holder(port: str) -> Holder | None:
    """Who has a port now, as far as it says so."""
    with contextlib.suppress(OSError, ValueError, TypeError):
        words: dict[str, Any] = json.loads((_common() / f"{_name(port)}.who").read_text("utf-8"))
        return Holder(**words)
    return None


def is_held(port: str) -> bool:
    """Whether another process has the port now, whatever it has left written."""
    from filelock import FileLock, Timeout

    try:
        with FileLock(_lock(port), timeout=0, mode=0o666):
            return False
    except (Timeout, OSError):
        return True


def _lock(port: str) -> Path:
    return _common() / f"{_name(port)}.lock"


@contextlib.contextmanager
def held_port(port: str, who: Holder) -> Iterator[None]:
    """The port for this process alone, as long as it lives; `who` says so to others.

    Raises LinkFault if another one has it.
    """
    from filelock import FileLock, Timeout

    lock = FileLock(_lock(port), timeout=0, mode=0o666)
    try:
        lock.acquire()
    except (Timeout, PermissionError) as error:
        has = holder(port)
        words = f" (process {has.process}: {echoed(has.command)})" if has else ""
        raise LinkFault(
            f"{echoed(port)}: another omphalon is talking to this printer{words}",
            "wait until it is done, stop it there with Ctrl-C, or omphalon printer cool",
        ) from error
    said = _common() / f"{_name(port)}.who"
    try:
        with contextlib.suppress(UnwritableFile):
            put_bytes(str(said), json.dumps(asdict(who)).encode())
        yield
    finally:
        with contextlib.suppress(OSError):
            said.unlink()
        lock.release()


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


def address_of(name: str) -> str:
    """What a port's name leads to, the same for every name of one port."""
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
    return "here" if address.is_loopback or address.is_unspecified else str(address)


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
            return bytes(self.port.read(self.port.in_waiting))
        self.port.timeout = 0
        try:
            return bytes(self.port.read(65536))
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
