"""Acceleration logs: a table with a time and three axes becomes a MotionLog, fast where it is
clean, row by row where it is not.
"""

from __future__ import annotations

import io
import re
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from omphalon.answers.remarks import Remark
from omphalon.base.arrays import Array
from omphalon.base.errors import UnknownFormat, UnreadableFile, UsageError, echoed
from omphalon.readers import clock
from omphalon.readers.columns import (
    Head,
    chosen_column,
    header_at,
    is_number,
    number,
    read_table,
    split,
    words,
)
from omphalon.readers.text import SAMPLES, Text, decoded, lines_of, name_of, opened
from omphalon.recordings.recording import MotionLog
from omphalon.tables.constants import G_MM_S2

UNITS = {"mm/s²": 1.0, "m/s²": 1000.0, "g": G_MM_S2}
# unit → its spellings in a header, without blanks
SPELLINGS = (
    ("mm/s²", r"mm/?s(?:\^?2|²|\*\*2|-2)|mm_s2"),
    ("m/s²", r"(?<!m)m/?s(?:\^?2|²|\*\*2|-2)|(?<!m)m_s2"),
    ("g", r"(?<![a-z])g(?![a-z])"),
)
TIMES = {
    "time",
    "t",
    "timestamp",
    "seconds",
    "sec",
    "ms",
    "us",
    "µs",
    "datetime",
    "date",
    "clock",
    "elapsed",
}
OTHERS = {
    "gyro",
    "gyr",
    "gyroscope",
    "rotation",
    "rot",
    "mag",
    "magnetometer",
    "angle",
    "angular",
    "velocity",
    "vel",
    "rpm",
    "deg",
    "dps",
    "temp",
    "temperature",
}
MEANT = {"accel", "acc", "acceleration", "accelerometer", "a"}
HEAD_BYTES = 65_536
FEWEST_ROWS = 64


@dataclass(frozen=True)
class AxesWanted:
    """How a user wants a log read: its unit, seconds between samples that are numbered instead of
    timed, columns by name.
    """

    unit: str | None = None
    every_s: float | None = None
    columns: dict[str, str] = field(default_factory=dict)


def read_motion(path: str, how: AxesWanted | None = None) -> MotionLog:
    """The log in a file. Raises UnreadableFile or UnknownFormat with the file and the row."""
    how = how or AxesWanted()
    for role in how.columns:
        if role not in ("time", *"xyz"):
            raise UsageError(f"--column {echoed(role)}=…: no such column", "use time, x, y or z")
    name = name_of(path)
    with opened(path, SAMPLES) as stream:
        raw = stream.read(HEAD_BYTES)
    if not raw.strip(b"\x00 \t\r\n\xef\xbb\xbf"):
        raise UnreadableFile(f"{name}: the file is empty", "check that the recording was saved")
    layout = _layout(name, lines_of(decoded(raw, name)), how)
    time, axes, notes = _numbers(path, name, layout, how)
    time, axes, more = _ordered(time, axes)
    notes += more
    if len(time) < FEWEST_ROWS:
        raise UnknownFormat(
            f"{name}: {len(time)} readable rows", "check that the log holds the test"
        )
    found, text = _unit(axes, how.unit or layout.unit, name)
    axes *= UNITS[found]
    return MotionLog(name, time, axes, found, (*notes, *text))


@dataclass(frozen=True, kw_only=True)
class _Layout:
    """The header and where its columns stand: time (None where samples are numbered), x, y, z.

    `plain`: rows are bare numbers; `comma`: with a decimal comma.
    """

    head: Head
    time: int | None
    axes: tuple[int, int, int]
    unit: str | None
    time_scale: float | None
    plain: bool
    comma: bool


SPECTRUM = {"freq", "frequency", "hz", "frequenz"}  # words of a spectrum's first column


def _layout(name: str, lines: list[str], how: AxesWanted) -> _Layout:
    """The header: a first line with the axes x, y, z and a time, also behind a comment mark."""
    head = header_at(lines) or _commented(lines)
    if head is None:
        raise UnknownFormat(
            f"{name}: row 1: no header with a time and three axes",
            "name the columns in a first row, for example time_s,x_g,y_g,z_g",
        )
    if head.separator and not (_names(head, "x") and _names(head, "y")):
        head = _commented(lines) or head
    if any(words(cell) & SPECTRUM for cell in head.cells[:1]):
        raise UnknownFormat(
            f"{name}: row {head.at + 1}: a spectrum, by frequency ({echoed(head.cells[0])})",
            "give the log that it was made of: a time and three axes",
        )
    axes = [_axis(name, head, axis, how) for axis in "xyz"]
    where, have = f"{name}: row {head.at + 1}", echoed(", ".join(head.cells))
    if None in axes:
        raise UnknownFormat(
            f"{where}: no time and three axes among the columns ({have})",
            "name the columns, for example time_s,x_g,y_g,z_g, or say which they are with "
            "--column x=HEADER",
        )
    time = (
        chosen_column(head.cells, how.columns["time"], name)
        if "time" in how.columns
        else next(
            (n for n, cell in enumerate(head.cells) if words(cell) & TIMES and n not in axes), None
        )
    )
    if time is None and how.every_s is None:
        raise UnknownFormat(
            f"{where}: no time among the columns ({have})",
            "say how far apart the samples are with --every S or --rate HZ, or which column it is "
            "with --column time=…",
        )
    if time is not None and how.every_s is not None:
        raise UsageError(
            f"--every, --rate: {name} has times of its own ({echoed(head.cells[time])})",
            "leave them out",
        )
    x, y, z = (k for k in axes if k is not None)
    below = (x.strip() for x in lines[head.at + 1 :] if x.strip() and not x.startswith("#"))
    row = split(next(below, ""), head.separator) if head.separator else []
    comma = head.separator != "," and any("," in cell for cell in row)
    wanted = [
        row[k].replace(",", ".") if k < len(row) else ""
        for k in (x, y, z, *([] if time is None else [time]))
    ]
    quoted = any('"' in x_ for x_ in lines[head.at + 1 :])
    return _Layout(
        head=head,
        time=time,
        axes=(x, y, z),
        unit=_unit_in([head.cells[k] for k in (x, y, z)]),
        time_scale=None if time is None else clock.unit_of(words(head.cells[time])),
        plain=bool(row) and all(map(_bare, wanted)) and len(row) == len(head.cells) and not quoted,
        comma=comma,
    )


def _bare(cell: str) -> bool:
    return re.fullmatch(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?", cell, re.ASCII) is not None


def _commented(lines: list[str]) -> Head | None:
    """A header behind a comment mark, right above the numbers."""
    for at, line in enumerate(lines[:200]):
        if line.startswith("#"):
            head = header_at([line.lstrip("# ")])
            if head is not None and _names(head, "x") and _names(head, "y") and _names(head, "z"):
                return Head(at, head.separator, head.cells)
    return None


def _names(head: Head, axis: str) -> list[int]:
    """Columns whose header names an axis."""
    return [
        n
        for n, cell in enumerate(head.cells)
        if axis in words(cell)
        or re.search(rf"(?:^|[^a-z])a(?:cc(?:el)?)?[_ ]?{axis}(?![a-z])", cell.lower())
    ]


def _axis(name: str, head: Head, axis: str, how: AxesWanted) -> int | None:
    """The column of an axis: the user's, or the one that names it and is no gyro's; two that cannot
    be told apart are an error.
    """
    if axis in how.columns:
        return chosen_column(head.cells, how.columns[axis], name)
    found = [n for n in _names(head, axis) if not _senses(head.cells[n]) & OTHERS]
    meant = [
        n
        for n in found
        if _senses(head.cells[n]) & MEANT
        or re.search(rf"a(?:cc(?:el)?)?[_ ]?{axis}\b", head.cells[n].lower())
    ]
    found = meant or found
    if len(found) > 1:
        text = " and ".join(f"'{echoed(head.cells[n])}'" for n in found[:2])
        raise UnknownFormat(
            f"{name}: row {head.at + 1}: {text} could both be axis {axis}",
            f"say which with --column {axis}=HEADER",
        )
    return found[0] if found else None


def _senses(cell: str) -> set[str]:
    return {w.rstrip("xyz") if w[:-1] in OTHERS | MEANT else w for w in words(cell)}


def _unit_in(cells: list[str]) -> str | None:
    text = " ".join(cells).lower().replace(" ", "")
    loose = " ".join(re.sub(r"[_()\[\]]", " ", cell.lower()) for cell in cells)
    return next(
        (
            unit
            for unit, spelling in SPELLINGS
            if re.search(spelling, loose if unit == "g" else text)
        ),
        None,
    )


def _numbers(
    path: str, name: str, layout: _Layout, how: AxesWanted
) -> tuple[Array, Array, list[Remark]]:
    """Times and axes: by NumPy's own reader where rows are bare numbers; where it stumbles, row by
    row.
    """
    table = _fast(path, layout) if layout.plain else None
    if table is None:
        return _slowly(path, name, layout, how)
    axes = table[:, list(layout.axes)]
    if layout.time is None:
        return np.arange(len(table), dtype=np.float64) * (how.every_s or 0.0), axes, []
    stamps = table[:, layout.time]
    return np.asarray(stamps * _scale(stamps, layout), dtype=np.float64), axes, []


def _scale(stamps: Array, layout: _Layout) -> float:
    """Seconds to the column's unit: the header's word, or an epoch told by its size."""
    if layout.time_scale is not None:
        return layout.time_scale
    middle = float(stamps[len(stamps) // 2])
    return next(
        (s for s in (1.0, 1e-3, 1e-6, 1e-9) if clock.YEARS[0] <= middle * s <= clock.YEARS[1]), 1.0
    )


def _fast(path: str, layout: _Layout) -> Array | None:
    """All columns as numbers, (n, k); None where a row is not of bare numbers or has another
    length.
    """
    options: dict[str, Any] = {
        "comments": "#",
        "ndmin": 2,
        "skiprows": layout.head.at + 1,
        "encoding": "latin-1",
        "delimiter": None if layout.head.separator == " " else layout.head.separator,
    }
    try:
        with opened(path, SAMPLES) as stream:
            file = io.TextIOWrapper(stream, "latin-1")
            table = np.loadtxt(
                (line.replace(",", ".") for line in file) if layout.comma else file, **options
            )
    except (ValueError, UnicodeDecodeError):
        return None
    return table if table.shape[1] == len(layout.head.cells) else None


def _slowly(
    path: str, name: str, layout: _Layout, how: AxesWanted
) -> tuple[Array, Array, list[Remark]]:
    """Row by row through the table reader: quotes, commas, JSON Lines, dates, rows that cannot be
    read.
    """
    with opened(path, SAMPLES) as stream:
        raw = stream.read()
    text = decoded(raw, name)
    table = read_table(Text(name, lines_of(text), text.endswith(("\n", "\r"))), layout.head)
    axes = np.array(
        [[number(row[k]) for k in layout.axes] for row in table.rows], dtype=np.float64
    ).reshape(-1, 3)
    if layout.time is None:
        time = np.arange(len(axes)) * (how.every_s or 0.0)
    else:
        try:
            time = np.array(clock.read_times(table.cells(layout.time), layout.time_scale).seconds)
        except clock.NoTime as none:
            raise UnknownFormat(
                f"{name}: row {table.line[none.index]}: {echoed(layout.head.cells[layout.time])}: "
                f"'{table.first_cell(layout.time)}' is no time that is understood",
                f"understood are {clock.UNDERSTOOD}",
            ) from none
    sound = np.isfinite(time) & np.isfinite(axes).all(axis=1)
    bad = sorted([*table.bad, *(table.line[k] for k in np.flatnonzero(~sound))])
    if not sound.any() or len(bad) > sound.sum():
        first = bad[0] if bad else layout.head.at + 2
        column = next(
            (k for k in layout.axes if table.rows and not is_number(table.first_cell(k))), None
        )
        what = (
            "not numbers"
            if column is None
            else f"{echoed(layout.head.cells[column])}: '{table.first_cell(column)}' is no number"
        )
        raise UnknownFormat(f"{name}: row {first}: {what}", "check that the log holds the test")
    notes = []
    if bad:
        said = "unread-row" if len(bad) == 1 else "unread-rows"
        notes.append(Remark(said, log=name, first=bad[0], more=len(bad) - 1))
    if table.cut:
        notes.append(Remark("cut-row-of", log=name))
    return np.asarray(time[sound], dtype=np.float64), axes[sound], notes


def _ordered(time: Array, axes: Array) -> tuple[Array, Array, list[Remark]]:
    """Times that rise: doubled rows dropped, rows out of order sorted, what is not finite left
    out.
    """
    notes = []
    if not (np.isfinite(time.sum()) and np.isfinite(axes.sum())):
        fine = np.isfinite(time) & np.isfinite(axes).all(axis=1)
        notes.append(Remark("not-finite", count=int((~fine).sum())))
        time, axes = time[fine], axes[fine]
    steps = np.diff(time)
    if (steps < 0).any():
        notes.append(Remark("unordered-rows", count=int((steps < 0).sum())))
        order = np.argsort(time, kind="stable")
        time, axes = time[order], axes[order]
        steps = np.diff(time)
    if (steps == 0).any():
        once = np.concatenate([[True], steps > 0])
        time, axes = time[once], axes[once]
    return time, axes, notes


def _unit(axes: Array, given: str | None, name: str) -> tuple[str, list[Remark]]:
    """The unit: as given, held against gravity; or worked out from gravity."""
    still = float(np.linalg.norm(np.median(axes[:: max(len(axes) // 20_000, 1)], axis=0)))
    fits = [unit for unit, scale in UNITS.items() if 0.6 < still * scale / G_MM_S2 < 1.6]
    if given is None:
        if not fits:
            raise UnknownFormat(
                f"{name}: no unit in the header, and no gravity in the log to tell it by "
                f"({still:.3g} at rest)",
                "name it in the header (x_g, x_m/s2, x_mm/s2) or with --unit",
            )
        return fits[0], [Remark("unnamed-unit", gravity=still, unit=fits[0])]
    if fits and given not in fits:
        facts = {"given": given, "gravity": still, "unit": fits[0]}
        return fits[0], [Remark("other-unit", **facts)]
    return given, []
