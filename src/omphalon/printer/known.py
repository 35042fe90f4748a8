"""What is known of each port, between one command and the next: who has it, what answered there,
and whether a heater was left on.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import tempfile
from collections.abc import Iterator
from dataclasses import asdict, dataclass, replace
from pathlib import Path

from omphalon.errors import LinkFault, UnwritableFile, echoed
from omphalon.files import put_bytes


@dataclass(frozen=True, kw_only=True)
class Known:
    """A port: the speed at which a printer answered, its own words, when; and since when a heater
    may be on, if a command ended without switching it off. Times are ISO, UTC.
    """

    port: str
    speed: int | None = None
    name: str = ""
    seen: str = ""
    heating_since: str | None = None


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


def _file(port: str, suffix: str) -> Path:
    real = port if "://" in port or not os.path.exists(port) else os.path.realpath(port)
    real = real.replace("socket://localhost:", "socket://127.0.0.1:")
    return place() / (hashlib.sha256(real.encode()).hexdigest()[:16] + suffix)


def known(port: str) -> Known:
    """The note on a port; an empty one where there is none, or none that can be read."""
    with contextlib.suppress(OSError, ValueError, TypeError):
        return Known(**json.loads(_file(port, ".json").read_text("utf-8")))
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
    put_bytes(str(_file(port, ".json")), json.dumps(asdict(one)).encode())
    return one


@contextlib.contextmanager
def held_port(port: str) -> Iterator[None]:
    """The port for this process alone, as long as it lives.

    Raises
    ------
    LinkFault
        If another one has it.
    """
    from filelock import FileLock, Timeout

    lock = FileLock(_file(port, ".lock"), timeout=0)
    try:
        lock.acquire()
    except Timeout as error:
        raise LinkFault(
            f"{echoed(port)}: another omphalon is talking to this printer",
            "wait until it is done, or stop it there with Ctrl-C",
        ) from error
    try:
        yield
    finally:
        lock.release()
