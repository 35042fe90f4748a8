"""How files are written: checked before any work, put in place whole, and never over what is
somebody else's.
"""

from __future__ import annotations

import contextlib
import os
import stat
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import IO

from omphalon.errors import UnwritableFile, UsageError, echoed

FIGURES = (".png", ".svg")
# what a file of ours begins with, or holds near its beginning
HEADS = (
    b"<!DOCTYPE html>\n<!-- written by omphalon -->",
    b"; written by omphalon",
    b"# written by omphalon",
    b'{\n "omphalon":',
)
MARKS = {".png": b"Software\x00omphalon", ".svg": b"<dc:title>omphalon"}
HEAD_BYTES = 4096


def check_outputs(force: bool, inputs: Sequence[str], **outputs: str | None) -> None:
    """Refuse an output before any work: no folder, an input, the same file twice, or somebody
    else's file.

    Parameters
    ----------
    force : whether a file that is not ours may be replaced; an input never
    inputs : paths that are read
    outputs : option name → path, None where it was not given
    """
    seen: dict[str, str] = {}
    for name, path in outputs.items():
        if path is None:
            continue
        option, told = "--" + name.replace("_", "-"), echoed(path)
        target = Path(path)
        if "\x00" in path or not path:
            raise UsageError(f"{option} {told}: no file name", "give a name")
        if name == "plot" and target.suffix.lower() not in FIGURES:
            raise UsageError(
                f"--plot {told}: not a kind of figure", "end the name in " + " or ".join(FIGURES)
            )
        if not target.resolve().parent.is_dir():
            raise UsageError(
                f"{option} {told}: the folder is not there", "make it first, or choose another"
            )
        if target.is_dir():
            raise UsageError(f"{option} {told}: is a folder", "give a file's name")
        if any(_same(path, other) for other in inputs):
            raise UsageError(
                f"{option} {told}: would overwrite what is read", "choose another name"
            )
        place = str(target.resolve())
        if place in seen:
            raise UsageError(
                f"{option} and {seen[place]} name one file", "give each a name of its own"
            )
        seen[place] = option
        if not force and target.is_file() and not is_ours(target):
            remedy = (
                "choose another name"
                if name == "template"
                else "choose another name, or --force to replace it"
            )
            raise UsageError(
                f"{option} {told}: stands there already, and Omphalon did not write it", remedy
            )


def _same(one: str, other: str) -> bool:
    try:
        return os.path.samefile(one, other)
    except OSError:
        return False


def is_ours(path: Path) -> bool:
    """Whether Omphalon wrote a file, by its header line or metadata; an empty one holds nothing to
    lose.
    """
    try:
        with open(path, "rb") as file:
            head = file.read(HEAD_BYTES)
    except OSError:
        return False
    mark = MARKS.get(path.suffix.lower())
    return not head or head.startswith(HEADS) or (mark is not None and mark in head)


@contextlib.contextmanager
def _in_place(path: str) -> Iterator[IO[bytes]]:
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

    with _in_place(path) as file:
        file.write(f"{mark} written by omphalon {__version__}\n".encode())
        for line in lines:
            file.write(line.encode() + b"\n")


def put_with(path: str, write: Callable[[IO[bytes], str], None]) -> None:
    """What a function writes into a file object, put in place whole; it gets the file and the
    name's suffix.
    """
    with _in_place(path) as file:
        write(file, Path(path).suffix.lower())


def put_bytes(path: str, data: bytes) -> None:
    """Bytes into a file."""
    with _in_place(path) as file:
        file.write(data)
