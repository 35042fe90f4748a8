"""Acceleration logs: a CSV with a time and three axes becomes a MotionLog, fast where it is clean, row by row where it is not."""

from __future__ import annotations

import gzip
import itertools
import re
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

import numpy as np

from omphalon.errors import UnknownFormat, UnreadableFile
from omphalon.readers.columns import SEPARATORS, split, words
from omphalon.recording import MotionLog, Note

G_MM_S2 = 9806.65
UNITS = {"mm/s²": 1.0, "m/s²": 1000.0, "g": G_MM_S2}
# spelling in a header, without blanks → unit
SPELLINGS = (("mm/s²", r"mm/?s(?:\^?2|²|\*\*2|-2)|mm_s2"), ("m/s²", r"(?<!m)m/?s(?:\^?2|²|\*\*2|-2)|(?<!m)m_s2"),
             ("g", r"(?<![a-z])g(?![a-z])"))
TIMES = {"time", "t", "timestamp", "seconds", "sec", "ms", "us", "µs"}
TIME_SCALES = {"ms": 1e-3, "milliseconds": 1e-3, "us": 1e-6, "µs": 1e-6, "microseconds": 1e-6}
HEAD_LINES = 200
FEWEST_ROWS = 64


def read_motion(path: str, unit: str | None = None) -> MotionLog:
    """The log in a file. Raises UnreadableFile or UnknownFormat with the file and the row."""
    name = Path(path).name
    with _opened(path, name) as file:
        try:
            head = list(itertools.islice(file, HEAD_LINES))
            packed = hasattr(getattr(file, "buffer", None), "mtime")
        except (UnicodeDecodeError, EOFError, zlib.error, gzip.BadGzipFile) as error:
            raise _damaged(name, error) from error
    layout = _layout(name, head, packed)
    table, notes = _numbers(path, name, layout)
    time, axes = table[:, 0] * layout.time_scale, table[:, 1:]
    time, axes, more = _ordered(time, axes)
    notes += more
    if len(time) < FEWEST_ROWS:
        raise UnknownFormat(f"{name}: {len(time)} readable rows", "check that the log holds the test")
    found, told = _unit(axes, unit or layout.unit, name)
    axes *= UNITS[found]
    return MotionLog(name, time, axes, found, (*notes, *told))


@dataclass(frozen=True)
class _Layout:
    """Where the columns stand, and how numbers are written."""

    at: int
    separator: str
    columns: list[int]
    unit: str | None
    time_scale: float
    comma: bool
    header: str
    packed: bool


def _opened(path: str, name: str) -> IO[str]:
    try:
        with open(path, "rb") as raw:
            first = raw.read(4)
        if first[:2] == b"\x1f\x8b":
            return gzip.open(path, "rt", encoding="utf-8-sig", newline=None)
        if not first:
            raise UnreadableFile(f"{name}: the file is empty", "check that the recording was saved")
        return open(path, encoding="utf-8-sig", newline=None)
    except FileNotFoundError as error:
        raise UnreadableFile(f"{path}: no such file", "check the path") from error
    except IsADirectoryError as error:
        raise UnreadableFile(f"{path}: is a folder", "give the log file inside it") from error
    except PermissionError as error:
        raise UnreadableFile(f"{path}: may not be read", "check its permissions") from error


def _damaged(name: str, error: Exception) -> UnreadableFile:
    if isinstance(error, UnicodeDecodeError):
        return UnreadableFile(f"{name}: a binary file, not a text log", "give a CSV with a time and three axes")
    return UnreadableFile(f"{name}: the gzip packing is damaged", "unpack it by hand or save it again")


def _layout(name: str, head: list[str], packed: bool) -> _Layout:
    """The header: the first line with a time and the axes x, y, z."""
    seen = None
    for at, line in enumerate(head):
        text = line.strip().lstrip("#").strip()
        for separator in SEPARATORS:
            cells = split(text, separator)
            if len(cells) < 4 or any(re.fullmatch(r"[-+.\deE,]+", c) for c in cells):
                continue
            seen = seen or (None if line.startswith("#") else cells)
            columns = [_column(cells, "time"), *(_column(cells, axis) for axis in "xyz")]
            if None in columns:
                continue
            sample = [split(x.strip(), separator) for x in head[at + 1:] if x.strip() and not x.startswith("#")]
            comma = separator != "," and any("," in c for row in sample[:20] for c in row)
            unit = _unit_in(cells, [c for c in columns[1:] if c is not None])
            stamp = words(cells[columns[0] or 0])
            scale = next((s for word, s in TIME_SCALES.items() if word in stamp), 1.0)
            return _Layout(at, separator, [c for c in columns if c is not None], unit, scale, comma, text, packed)
    if not any(line.strip() for line in head):
        raise UnreadableFile(f"{name}: the file is empty", "check that the recording was saved")
    if seen is None:
        raise UnknownFormat(f"{name}: row 1: no header with a time and three axes",
                            "name the columns in a first row, for example time_s,x_g,y_g,z_g")
    raise UnknownFormat(f"{name}: row 1: no time and three axes among the columns ({', '.join(seen)})",
                        "name the columns, for example time_s,x_g,y_g,z_g")


def _column(cells: list[str], what: str) -> int | None:
    for n, cell in enumerate(cells):
        found = words(cell)
        if what == "time" and found & TIMES:
            return n
        if what != "time" and (what in found or re.search(rf"(?:^|[^a-z])a(?:cc(?:el)?)?[_ ]?{what}(?![a-z])", cell.lower())):
            return n
    return None


def _unit_in(cells: list[str], columns: list[int]) -> str | None:
    text = " ".join(cells[c] for c in columns).lower().replace(" ", "")
    loose = " ".join(re.sub(r"[_()\[\]]", " ", cells[c].lower()) for c in columns)
    for unit, spelling in SPELLINGS:
        if re.search(spelling, loose if unit == "g" else text):
            return unit
    return None


def _numbers(path: str, name: str, layout: _Layout) -> tuple[np.ndarray, list[Note]]:
    """The four columns: by NumPy's own reader; and where it stumbles, once more without the rows that cannot be read."""
    options: dict[str, Any] = {"delimiter": layout.separator, "usecols": layout.columns, "comments": "#", "ndmin": 2}
    try:
        if not layout.comma and not layout.packed:
            return np.loadtxt(path, skiprows=layout.at + 1, encoding="latin-1", **options), []
        with _opened(path, name) as file:
            rows = itertools.islice(file, layout.at + 1, None)
            return np.loadtxt((row.replace(",", ".") for row in rows) if layout.comma else rows, **options), []
    except UnicodeDecodeError as error:
        raise _damaged(name, error) from error
    except ValueError:
        pass
    except (EOFError, zlib.error, gzip.BadGzipFile) as error:
        raise _damaged(name, error) from error
    bad: list[int] = []
    with _opened(path, name) as file:
        try:
            table = np.loadtxt(_sound_rows(file, layout, bad), **options)
        except UnicodeDecodeError as error:
            raise _damaged(name, error) from error
    notes = []
    if bad:
        more = f" and {len(bad) - 1} more" if len(bad) > 1 else ""
        notes.append(Note("rows-passed-over", f"{name}: row {bad[0]}{more} could not be read"))
    if len(table) == 0 or len(bad) > len(table):
        raise UnknownFormat(f"{name}: row {bad[0] if bad else layout.at + 2}: not numbers", "check that the log holds the test")
    return table, notes


def _sound_rows(file: IO[str], layout: _Layout, bad: list[int]) -> Iterator[str]:
    """Rows whose wanted cells are numbers; the file's numbers of the others are gathered in `bad`."""
    number = r"\s*\"?[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?\"?\s*"
    cells = [number if n in layout.columns else f"[^{layout.separator}]*" for n in range(max(layout.columns) + 1)]
    sound = re.compile(re.escape(layout.separator).join(cells) + rf"(?:{re.escape(layout.separator)}|$)")
    for at, line in enumerate(file):
        text = line.strip()
        if at <= layout.at or not text or text.startswith("#") or text == layout.header:
            continue
        text = (text.replace(",", ".") if layout.comma else text).replace('"', "")
        if sound.match(text):
            yield text
        else:
            bad.append(at + 1)


def _ordered(time: np.ndarray, axes: np.ndarray) -> tuple[np.ndarray, np.ndarray, list[Note]]:
    """Times that rise: doubled rows dropped, rows out of order sorted, what is not finite left out."""
    notes = []
    if not (np.isfinite(time.sum()) and np.isfinite(axes.sum())):
        fine = np.isfinite(time) & np.isfinite(axes).all(axis=1)
        notes.append(Note("rows-passed-over", f"{int((~fine).sum())} rows hold no finite number"))
        time, axes = time[fine], axes[fine]
    steps = np.diff(time)
    if (steps < 0).any():
        notes.append(Note("rows-reordered", f"{int((steps < 0).sum())} rows were out of order in time"))
        order = np.argsort(time, kind="stable")
        time, axes = time[order], axes[order]
        steps = np.diff(time)
    if (steps == 0).any():
        once = np.concatenate([[True], steps > 0])
        time, axes = time[once], axes[once]
    return time, axes, notes


def _unit(axes: np.ndarray, given: str | None, name: str) -> tuple[str, list[Note]]:
    """The unit: as given, held against gravity; or worked out from gravity."""
    still = float(np.linalg.norm(np.median(axes[::max(len(axes) // 20_000, 1)], axis=0)))
    fits = [unit for unit, scale in UNITS.items() if 0.6 < still * scale / G_MM_S2 < 1.6]
    if given is None:
        if not fits:
            raise UnknownFormat(f"{name}: no unit in the header, and no gravity in the log to tell it by ({still:.3g} at rest)",
                                "name it in the header (x_g, x_m/s2, x_mm/s2) or with --unit")
        return fits[0], [Note("unit-from-gravity", f"the header names no unit; gravity reads {still:.4g}, so it is {fits[0]}")]
    if fits and given not in fits:
        return fits[0], [Note("unit-differs", f"the unit is said to be {given}, but gravity reads {still:.4g}: taken as {fits[0]}")]
    return given, []
