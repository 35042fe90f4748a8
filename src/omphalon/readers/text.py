"""Text out of a file, whatever its wrapping: plain or gzip, byte-order mark, CRLF; and what is refused."""

from __future__ import annotations

import gzip
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from omphalon.errors import UnreadableFile

MOST_BYTES = 30_000_000
HEAD_BYTES = 262_144


@dataclass(frozen=True)
class Text:
    """A text file: its lines without their ends, and whether the last one had an end at all."""

    source: str
    lines: list[str]
    whole: bool


def read_text(path: str, recognise: Callable[[str, list[str]], None] | None = None) -> Text:
    """The lines of a text file, or UnreadableFile.

    `recognise`, a function of the file's name and its head's lines, may raise before a large file is read whole.
    """
    name = Path(path).name
    raw = _bytes(path, HEAD_BYTES, name)
    if not raw.strip(b"\x00 \t\r\n\xef\xbb\xbf"):
        raise UnreadableFile(f"{name}: the file is empty", "check that the recording was saved")
    head = _decoded(raw, name)
    cut = len(raw) >= HEAD_BYTES
    if recognise is not None:
        recognise(name, head.splitlines()[:-1] if cut else head.splitlines())
    if cut:
        raw = _bytes(path, MOST_BYTES + 1, name)
        if len(raw) > MOST_BYTES:
            raise UnreadableFile(f"{name}: larger than {MOST_BYTES // 1_000_000} MB",
                                 "cut out the part that holds the test and give that")
        head = _decoded(raw, name)
    return Text(name, head.splitlines(), head.endswith(("\n", "\r")))


def _bytes(path: str, most: int, name: str) -> bytes:
    """The first bytes of a file, unpacked."""
    remedy = "check the path"
    try:
        with open(path, "rb") as plain:
            if plain.read(2) != b"\x1f\x8b":
                plain.seek(0)
                return plain.read(most)
        with gzip.open(path, "rb") as packed:
            return packed.read(most)
    except FileNotFoundError as error:
        raise UnreadableFile(f"{path}: no such file", remedy) from error
    except IsADirectoryError as error:
        raise UnreadableFile(f"{path}: is a folder", "give the log file inside it") from error
    except PermissionError as error:
        raise UnreadableFile(f"{path}: no permission to read it", "allow reading, or copy the file") from error
    except (EOFError, zlib.error, gzip.BadGzipFile) as error:
        raise UnreadableFile(f"{name}: the gzip packing is damaged", "unpack it by hand or save it again") from error
    except OSError as error:
        raise UnreadableFile(f"{path}: cannot be read ({error.strerror})", remedy) from error


def _decoded(raw: bytes, name: str) -> str:
    """UTF-8, UTF-16 with its mark, or Latin-1; not a binary file."""
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return raw.decode("utf-16", errors="replace")
    strange = sum(raw[:65536].count(bytes([b])) for b in (*range(9), *range(14, 27), *range(28, 32)))
    if strange > len(raw[:65536]) * 0.002:
        raise UnreadableFile(f"{name}: a binary file, not a text log", "give a CSV or the text of a serial console")
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        if error.reason == "unexpected end of data" or error.start > len(raw) - 4:
            return raw[:error.start].decode("utf-8-sig")
        return raw.decode("latin-1")
