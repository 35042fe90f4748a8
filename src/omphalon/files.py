"""Files put in place whole: written beside their place, and moved there when they are on disk."""

from __future__ import annotations

import contextlib
import os
import stat
import tempfile
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import IO

from omphalon.errors import UnwritableFile


@contextlib.contextmanager
def in_place(path: str) -> Iterator[IO[bytes]]:
    """A file to write that takes its place only when it is whole; what is no plain file (a pipe) is
    written as it is.
    """
    try:
        target = Path(path).resolve()
        if target.exists() and not stat.S_ISREG(target.stat().st_mode):
            with open(target, "wb") as file:
                yield file
            return
        number, name = tempfile.mkstemp(prefix=".omphalon-", dir=target.parent)
        try:
            with os.fdopen(number, "wb") as file:
                yield file
                file.flush()
                os.fsync(file.fileno())
            os.chmod(
                name, stat.S_IMODE(target.stat().st_mode) if target.exists() else 0o666 & ~_umask()
            )
            os.replace(name, target)
        except BaseException:
            with contextlib.suppress(OSError):
                os.unlink(name)
            raise
    except OSError as error:
        raise UnwritableFile(
            f"{path}: cannot be written ({error.strerror})", "choose another place"
        ) from error


def _umask() -> int:
    now = os.umask(0o077)
    os.umask(now)
    return now


def put_lines(path: str, lines: Iterable[str], mark: str = "#") -> None:
    """Lines into a file, under a first one that says who wrote it; `mark` begins a comment."""
    from omphalon import __version__

    with in_place(path) as file:
        file.write(f"{mark} written by omphalon {__version__}\n".encode())
        for line in lines:
            file.write(line.encode() + b"\n")


def put_with(path: str, write: Callable[[IO[bytes], str], None]) -> None:
    """What a function writes into a file object, put in place whole; it gets the file and the
    name's suffix.
    """
    with in_place(path) as file:
        write(file, Path(path).suffix.lower())


def put_bytes(path: str, data: bytes) -> None:
    """Bytes into a file."""
    with in_place(path) as file:
        file.write(data)
