"""What is kept of each port between one command and the next, in a folder that is the user's alone:
what answered there, which heaters were left on, how the last command ended, and which keeper has it
now. Nothing in it is followed through a link, or believed of another user.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import stat
from collections.abc import Iterator
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any, TypeVar

from omphalon.base.errors import UnwritableFile
from omphalon.base.files import replacing
from omphalon.printer.port import address_of
from omphalon.tables.heaters import Heater

MOST_NOTE_BYTES = 64_000  # of a note
OWN_ALONE = 0o700
Note = TypeVar("Note")


@dataclass(frozen=True, kw_only=True)
class Known:
    """A port: the speed at which a printer answered, its own words, when; since when a heater may
    be on, if a command ended without switching it off; heaters that were left on, with their
    targets; what was done while no client was connected; the dialect of a bench's own that was
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

    def __post_init__(self) -> None:
        """Raises LookupError, ValueError, AttributeError or TypeError if heaters that were left on
        are none, or their targets no numbers: no note of ours.
        """
        if not all(isinstance(c, int | float) for c in self.heaters_left_on().values()):
            raise TypeError("targets that are no numbers")

    def heaters_left_on(self) -> dict[Heater, float]:
        """The heaters that were left on, with their targets."""
        return {Heater.named(name): target_c for name, target_c in self.left_on.items()}


@dataclass(frozen=True, kw_only=True)
class Holder:
    """The keeper that has a port: its process, what it is about, and the secret by which another
    command of the same user knows it.
    """

    process: int
    command: str
    secret: str


def place() -> Path:
    """The folder of the notes: OMPHALON_STATE, the user's state folder, the runtime folder, or one
    under the home that the system names; the first that is the user's alone.

    Raises UnwritableFile if there is none.
    """
    for folder in _candidates():
        with contextlib.suppress(OSError):
            folder.mkdir(parents=True, exist_ok=True, mode=OWN_ALONE)
            if _made_own(folder):
                return folder
    raise UnwritableFile(
        "no folder of your own for notes about ports", "set OMPHALON_STATE to one that is yours"
    )


def _candidates() -> Iterator[Path]:
    from platformdirs import user_runtime_path, user_state_path

    if named := os.environ.get("OMPHALON_STATE"):
        yield Path(named)
        return
    yield user_state_path("omphalon", appauthor=False) / "ports"
    yield user_runtime_path("omphalon", appauthor=False) / "ports"
    with contextlib.suppress(ImportError, KeyError):
        import pwd

        yield Path(pwd.getpwuid(os.geteuid()).pw_dir) / ".local/state/omphalon/ports"


def _made_own(folder: Path) -> bool:
    """Whether a folder is the user's own and no link; who else could write there no longer can."""
    if os.name == "nt":
        return os.access(folder, os.W_OK)
    number = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW)
    try:
        found = os.fstat(number)
        if found.st_uid != os.geteuid():
            return False
        if stat.S_IMODE(found.st_mode) & 0o077:
            os.fchmod(number, OWN_ALONE)
    finally:
        os.close(number)
    return os.access(folder, os.W_OK)


def name_of(port: str) -> str:
    """What the notes of a port are called: the same for every name of one device or address."""
    return hashlib.sha256(address_of(port).encode()).hexdigest()[:16]


def _read(path: Path) -> Any:
    """What a note holds: of a plain file of the user's own, never through a link.

    Raises OSError, ValueError.
    """
    flags = os.O_RDONLY | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0)
    number = os.open(path, flags)
    with os.fdopen(number, "rb") as file:
        found = os.fstat(number)
        own = os.name == "nt" or found.st_uid == os.geteuid()
        if not stat.S_ISREG(found.st_mode) or not own or found.st_size > MOST_NOTE_BYTES:
            raise ValueError("no note of ours")
        return json.loads(file.read())


def _put(path: Path, content: object) -> None:
    """Write a note; what stands at its place is replaced, and never followed."""
    try:
        with replacing(path, 0o600) as file:
            file.write(json.dumps(content).encode())
    except OSError as error:
        raise UnwritableFile(
            f"{path}: cannot be written ({error.strerror})", "set OMPHALON_STATE to another folder"
        ) from error


def _as(kind: type[Note], path: Path) -> Note | None:
    faults = (OSError, ValueError, TypeError, LookupError, AttributeError, RecursionError)
    with contextlib.suppress(*faults):
        return kind(**_read(path))
    return None


def known(port: str) -> Known:
    """The note on a port; an empty one where there is none, or none that can be read."""
    return _as(Known, place() / f"{name_of(port)}.json") or Known(port=port)


def all_known() -> list[Known]:
    """Every note, the latest first."""
    found = (_as(Known, path) for path in place().glob("*.json"))
    return sorted(filter(None, found), key=lambda one: one.seen, reverse=True)


def note(port: str, **changes: object) -> Known:
    """A note with these changes, kept."""
    one: Known = replace(known(port), **changes)  # type: ignore[arg-type]
    _put(place() / f"{name_of(port)}.json", asdict(one))
    return one


def holder(port: str) -> Holder | None:
    """The keeper of this user's that has a port, by its note."""
    return _as(Holder, place() / f"{name_of(port)}.who")


@contextlib.contextmanager
def noted_holder(port: str, who: Holder) -> Iterator[None]:
    """Note who has a port, for as long as it does."""
    path = place() / f"{name_of(port)}.who"
    with contextlib.suppress(UnwritableFile):
        _put(path, asdict(who))
    try:
        yield
    finally:
        with contextlib.suppress(OSError):
            path.unlink()
