"""Temperature logs as a table with a header: which column is what, by plain words and units."""

from __future__ import annotations

import math

from omphalon.errors import UnknownFormat, UnreadableFile, UsageError, echoed
from omphalon.readers import clock
from omphalon.readers.columns import (
    LogColumns,
    Table,
    Wanted,
    chosen_column,
    header_at,
    read_table,
    state,
    words,
)
from omphalon.readers.text import Text
from omphalon.remarks import Remark
from omphalon.reports import SIGN

PARTS: dict[str, set[str]] = {
    "hotend": {"hotend", "nozzle", "extruder", "tool", "tool0", "t", "t0", "head"},
    "bed": {"bed", "plate", "b"},
}
ROLES: dict[str, set[str]] = {
    "time": {
        "time",
        "t",
        "s",
        "sec",
        "second",
        "seconds",
        "ms",
        "us",
        "µs",
        "elapsed",
        "timestamp",
        "clock",
        "date",
        "datetime",
    },
    "temperature": {
        "temp",
        "temperature",
        "temperatures",
        "reading",
        "actual",
        "measured",
        "celsius",
        "degc",
        "°c",
        "hotend",
        "nozzle",
        "bed",
        "plate",
        "extruder",
    },
    "target": {"target", "setpoint", "goal", "wanted", "set"},
    "power": {"power", "pwm", "duty", "output", "heat", "counts", "heater", "drive"},
}


def is_table(lines: list[str]) -> bool:
    """Whether the lines hold a table with a header."""
    head = header_at(lines[:2000])
    return head is not None and not SIGN.search(lines[head.at])


def read_columns(text: Text, how: Wanted) -> LogColumns:
    """The columns of a table, found by the words of its header."""
    head = header_at(text.lines)
    assert head is not None
    table = read_table(text, head)
    if not table.rows:
        raise UnreadableFile(
            f"{text.source}: no rows below its header", "fill it in, a row a report"
        )
    found = {role: _find(table, role, how) for role in ROLES}
    at, power, goal = found["temperature"], found["power"], found["target"]
    if at is None:
        raise UnknownFormat(
            f"{text.source}: row {head.at + 1}: no temperature among the columns "
            f"({echoed(', '.join(table.header))})",
            "say which it is with --column temperature=HEADER",
        )
    times = _timed(table, found["time"], head.at, how)
    temperature = _in_celsius(table.numbers(at), table.header[at])
    _refuse_unread(table, at, temperature, "temperature")
    drive = None if power is None else [state(row[power]) for row in table.rows]
    target = None if goal is None else _in_celsius(table.numbers(goal), table.header[goal])
    for column, values, role in ((power, drive, "power"), (goal, target, "target")):
        if column is not None and values is not None:
            _refuse_unread(table, column, values, role)
    known = drive is not None and any(map(math.isfinite, drive))
    return LogColumns(
        time_s=times.seconds,
        temperature_c=temperature,
        power=drive if known else None,
        target_c=target,
        percent=power is not None and _in_percent(table, power),
        notes=_notes(table, times, temperature),
    )


def _timed(table: Table, column: int | None, row: int, how: Wanted) -> clock.Times:
    """The times of a column, or of rows that are numbered; both at once are refused."""
    if column is None and how.every_s is None:
        raise UnknownFormat(
            f"{table.source}: row {row + 1}: no time among the columns "
            f"({echoed(', '.join(table.header))})",
            "say which it is with --column time=HEADER, or the seconds a report with --every S",
        )
    if column is not None and how.every_s is not None:
        raise UsageError(
            f"--every {how.every_s:g}: {table.source} has times of its own "
            f"({echoed(table.header[column])})",
            "leave --every out",
        )
    if column is None:
        return clock.Times([n * (how.every_s or 0.0) for n in range(len(table.rows))])
    return _times(table, column)


def _in_percent(table: Table, column: int) -> bool:
    """Whether a power is in %, by its header or behind its numbers."""
    header = table.header[column]
    text = "%" in header or "percent" in words(header)
    return text or any(row[column].endswith("%") for row in table.rows)


def _notes(table: Table, times: clock.Times, temperature: list[float]) -> list[Remark]:
    notes = list(times.notes)
    rows = zip(table.line, times.seconds, temperature, strict=True)
    bad = table.bad + [line for line, t, c in rows if math.isnan(t) or math.isnan(c)]
    if bad:
        notes.append(Remark("unreadable-rows", {"count": len(bad), "first": min(bad)}))
    if table.cut:
        notes.append(Remark("cut-row"))
    return notes


def _refuse_unread(table: Table, column: int, values: list[float], role: str) -> None:
    """A column of which no cell can be read is named with its first one."""
    if (
        not table.rows
        or any(map(math.isfinite, values))
        or (role != "temperature" and not any(table.cells(column)))
    ):
        return
    raise UnknownFormat(
        f"{table.source}: row {table.line[0]}: {echoed(table.header[column])}: "
        f"'{table.first_cell(column)}' is no {role} that is understood",
        f"write numbers; or name another column with --column {role}=HEADER",
    )


def _find(table: Table, role: str, how: Wanted) -> int | None:
    """The column of a role: the one named by the user, else the one whose words fit best."""
    if role in how.columns:
        return chosen_column(table.header, how.columns[role], table.source)
    taken = [h.lower() for r, h in how.columns.items() if r != role]
    best, most = None, 0.0
    wanted = PARTS.get(how.heater or "", set())
    others = (
        set().union(*(p for name, p in PARTS.items() if name != how.heater))
        if how.heater
        else set()
    )
    for at, header in enumerate(table.header):
        these = words(header)
        hits = 0 if header.lower() in taken else len(these & ROLES[role])
        for other, vocabulary in ROLES.items():
            if other not in (role, "temperature") and these & vocabulary and role == "temperature":
                hits = 0
        if role == "time" and these & {"temp", "temperature"}:
            hits = 0
        if role == "power" and these & (ROLES["target"] | {"temp", "temperature"}):
            hits = 0
        score = (
            hits + 0.6 * len(these & wanted) - 0.6 * len(these & others - wanted) if hits else 0.0
        )
        if score > most:
            best, most = at, score
    return best


def _times(table: Table, column: int) -> clock.Times:
    try:
        times = clock.read_times(table.cells(column), clock.unit_of(words(table.header[column])))
    except clock.NoTime as none:
        raise UnknownFormat(
            f"{table.source}: row {table.line[none.index]}: {echoed(table.header[column])}: "
            f"'{echoed(table.rows[none.index][column])}' is no time that is understood",
            f"understood are {clock.UNDERSTOOD}",
        ) from none
    _refuse_unread(table, column, times.seconds, "time")
    return times


def _in_celsius(values: list[float], header: str) -> list[float]:
    unit = words(header)
    if unit & {"f", "°f", "degf", "fahrenheit"}:
        return [(v - 32) / 1.8 for v in values]
    if unit & {"k", "kelvin"}:
        return [v - 273.15 for v in values]
    return values
