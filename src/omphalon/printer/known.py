"""What is known of each port, between one command and the next: who has it, what answered there,
which heaters were left on, and how the last command ended.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import tempfile
from collections.abc import Iterator
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

from omphalon.errors import LinkFault, UnwritableFile, echoed
from omphalon.files import put_bytes
from omphalon.printer.port import address_of


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
