"""Files read, plain ones only; and put in place whole: written beside their place, and moved there
when they are on disk.
"""

from __future__ import annotations

import contextlib
import errno
import os
import stat
import tempfile
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import IO

from omphalon.base.errors import UnreadableFile, UnwritableFile

HALF_WRITTEN = ".omphalon-"  # how the name of a file begins that is not whole yet


def open_file(path: str) -> IO[bytes]:
    """A plain file's bytes; a pipe or a device, which could hold a reader up for ever, is refused.

    Raises OSError as `open`, and with a sentence of its own where it is no plain file.
    """
    number = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0))
    mode = os.fstat(number).st_mode
    if stat.S_ISREG(mode):
        return os.fdopen(number, "rb")
    os.close(number)
    if stat.S_ISDIR(mode):
        raise IsADirectoryError(errno.EISDIR, "is a folder", path)
    raise OSError(errno.EINVAL, "is no plain file, but a pipe or a device", path)


def small_file(path: str, most_bytes: int, what: str, remedy: str) -> bytes:
    """The bytes of a file that cannot be large.

    `most_bytes`: more is refused before it is read. Raises UnreadableFile if it cannot be read, or
    is too large.
    """
    try:
        with open_file(path) as file:
            data = file.read(most_bytes + 1)
    except OSError as error:
        raise UnreadableFile(f"{path}: {error.strerror}", remedy) from error
    if len(data) > most_bytes:
        size = f"{most_bytes // 1_000_000} MB" if most_bytes >= 1e6 else f"{most_bytes // 1000} kB"
        raise UnreadableFile(f"{path}: larger than {size}, no {what}", remedy)
    return data


@contextlib.contextmanager
def in_place(path: str) -> Iterator[IO[bytes]]:
    """A file to write that takes its place only when it is whole; what is no plain file (a pipe) is
    written as it is.
    """
    try:
        target = Path(path).resolve()
        if target.exists() and not stat.S_ISREG(target.stat().st_mode):
            with _opened_as_it_is(target) as file:
                yield file
            return
        mode = stat.S_IMODE(target.stat().st_mode) if target.exists() else 0o666 & ~_umask()
        with replacing(target, mode) as file:
            yield file
    except OSError as error:
        raise UnwritableFile(
            f"{path}: cannot be written ({error.strerror})", "choose another place"
        ) from error


@contextlib.contextmanager
def replacing(target: Path, mode: int) -> Iterator[IO[bytes]]:
    """A file to write that replaces whatever stands at its place, a link too, once it is on disk.

    Raises OSError.
    """
    number, name = tempfile.mkstemp(prefix=HALF_WRITTEN, dir=target.parent)
    try:
        with os.fdopen(number, "wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        os.chmod(name, mode)
        os.replace(name, target)
    except BaseException:
        with contextlib.suppress(OSError):
            os.unlink(name)
        raise


def _opened_as_it_is(target: Path) -> IO[bytes]:
    """A pipe or a device; a pipe that nobody reads would hold a writer up for ever."""
    number = os.open(target, os.O_WRONLY | getattr(os, "O_NONBLOCK", 0))
    os.set_blocking(number, True)
    return os.fdopen(number, "wb")


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
