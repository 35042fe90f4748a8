"""Text out of a file, whatever its wrapping: plain or gzip, byte-order mark, CRLF; and what is
refused.
"""

from __future__ import annotations

import contextlib
import gzip
import io
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

from omphalon.base.errors import OmphalonError, UnreadableFile, UsageError, shown
from omphalon.base.files import open_file
from omphalon.base.shapes import parsed

if TYPE_CHECKING:
    from _typeshed import WriteableBuffer as Buffer

HEAD_BYTES = 262_144
BLOCK = 1 << 18
MB = 1_000_000
MOST_LINE = 65_536  # letters; five hundred columns take no more
# first bytes → what they are, and what to do; gzip is the one that is unpacked
UNPACK, TYPE = "unpack it, and give the log inside it", "give the numbers as a text or a table"
PACKINGS = {
    b"PK\x03\x04": ("a zip archive", UNPACK),
    b"BZh": ("packed with bzip2", UNPACK),
    b"\xfd7zXZ": ("packed with xz", UNPACK),
    b"\x28\xb5\x2f\xfd": ("packed with zstd", UNPACK),
    b"7z\xbc\xaf": ("a 7-zip archive", UNPACK),
    b"Rar!": ("a rar archive", UNPACK),
    b"%PDF": ("a PDF", TYPE),
    b"\x89PNG": ("a picture", TYPE),
    b"\xff\xd8\xff": ("a picture", TYPE),
}
GZIP = b"\x1f\x8b"
HEAD, MARK = 12, "; plan "  # the line in which a print says what it is


@dataclass(frozen=True)
class SizeLimit:
    """The most of one kind of file that is read, in bytes as it lies on disk and unpacked; `what`
    for the message.
    """

    packed: int
    unpacked: int
    remedy: str


LOG = SizeLimit(30 * MB, 30 * MB, "cut out the part that holds the test and give that")
SAMPLES = SizeLimit(200 * MB, 300 * MB, "cut out the part that holds the sweep and give that")
TABLE = SizeLimit(MB, MB, "a table of readings is some rows; give that")


@dataclass(frozen=True)
class Text:
    """A text file: its lines without their ends, and whether the last one had an end at all."""

    source: str
    lines: list[str]
    whole: bool


def name_of(path: str) -> str:
    """A file's name as it may be echoed."""
    return shown(Path(path).name or path)


@contextlib.contextmanager
def opened(path: str, limit: SizeLimit) -> Iterator[io.BufferedReader]:
    """The bytes of a file, unpacked; whatever goes wrong with it leaves as UnreadableFile."""
    name = name_of(path)
    try:
        with open_file(path) as plain:
            first = plain.read(8)
            plain.seek(0)
            for mark, (what, remedy) in PACKINGS.items():
                if first.startswith(mark):
                    raise UnreadableFile(f"{name}: {what}, not a text", remedy)
            raw = _Counted(plain, limit.packed, name, limit.remedy)
            if first.startswith(GZIP):
                unpacked: IO[bytes] = gzip.GzipFile(fileobj=raw)  # type: ignore[assignment]
                raw = _Counted(unpacked, limit.unpacked, name, limit.remedy)
            yield io.BufferedReader(raw, BLOCK)
    except OmphalonError:
        raise
    except FileNotFoundError as error:
        raise UnreadableFile(f"{path}: no such file", "check the path") from error
    except IsADirectoryError as error:
        raise UnreadableFile(f"{path}: is a folder", "give the log file inside it") from error
    except PermissionError as error:
        raise UnreadableFile(
            f"{path}: no permission to read it", "allow reading, or copy the file"
        ) from error
    except (EOFError, zlib.error, gzip.BadGzipFile) as error:
        raise UnreadableFile(
            f"{name}: the gzip packing is damaged", "unpack it by hand or save it again"
        ) from error
    except OSError as error:
        words = error.strerror or "the name is none"
        raise UnreadableFile(f"{path}: cannot be read ({words})", "check the path") from error


class _Counted(io.RawIOBase):
    """A stream that refuses to give more bytes than its limit."""

    def __init__(self, stream: IO[bytes], most: int, source: str, remedy: str) -> None:
        super().__init__()
        self.stream, self.left, self.most = stream, most, most
        self.source, self.remedy = source, remedy

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Buffer) -> int:
        view = memoryview(buffer)
        data = self.stream.read(len(view))
        self.left -= len(data)
        if self.left < 0:
            raise UnreadableFile(f"{self.source}: larger than {self.most // MB} MB", self.remedy)
        view[: len(data)] = data
        return len(data)


def read_text(
    path: str, limit: SizeLimit, recognise: Callable[[str, list[str]], None] | None = None
) -> Text:
    """The lines of a text file, or UnreadableFile.

    `recognise`, a function of the file's name and its head's lines, may raise before a large file
    is read whole.
    """
    name = name_of(path)
    with opened(path, limit) as stream:
        raw = stream.read(HEAD_BYTES)
        if not raw.strip(b"\x00 \t\r\n\xef\xbb\xbf"):
            raise UnreadableFile(f"{name}: the file is empty", "check that the recording was saved")
        head = decoded(raw, name)
        cut = len(raw) >= HEAD_BYTES
        if recognise is not None:
            recognise(name, lines_of(head)[:-1] if cut else lines_of(head))
        if cut:
            head = decoded(raw + stream.read(), name)
    lines = lines_of(head)
    long = next((row for row, line in enumerate(lines, 1) if len(line) > MOST_LINE), None)
    if long is not None:
        raise UnreadableFile(
            f"{name}: row {long}: {len(lines[long - 1])} letters, no row of a log or of readings",
            "give a text of rows",
        )
    return Text(name, lines, head.endswith(("\n", "\r")))


def lines_of(text: str) -> list[str]:
    """Lines by LF, CR LF or CR alone; other marks that Python takes for line ends stay inside the
    line.
    """
    lines = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    return lines[:-1] if lines and lines[-1] == "" else lines


def decoded(raw: bytes, name: str) -> str:
    """UTF-8, UTF-16 with its mark, or Latin-1; not a binary file."""
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return raw.decode("utf-16", errors="replace")
    strange = sum(
        raw[:65536].count(bytes([b])) for b in (*range(9), *range(14, 27), *range(28, 32))
    )
    if strange > len(raw[:65536]) * 0.002:
        raise UnreadableFile(
            f"{name}: a binary file, not a text log", "give a CSV or the text of a serial console"
        )
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        if error.reason == "unexpected end of data" or error.start > len(raw) - 4:
            return raw[: error.start].decode("utf-8-sig")
        return raw.decode("latin-1")


PRINT = SizeLimit(30 * MB, 30 * MB, "give the print that `omphalon advance plan` wrote")


def read_plan(path: str) -> dict[str, Any]:
    """What a print of ours says of itself.

    Raises UsageError if the file is none of ours, or cannot be read.
    """
    text = read_text(path, PRINT)
    plan = next((line[len(MARK) :] for line in text.lines[:HEAD] if line.startswith(MARK)), "")
    try:
        found: dict[str, Any] = parsed(plan, {"print": str})
        return found
    except ValueError as error:
        raise UsageError(
            f"{text.source}: not a print that omphalon wrote, or one of an earlier version",
            "give the file that was printed, or plan it again",
        ) from error
