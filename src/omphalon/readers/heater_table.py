"""Temperature logs as a table with a header: which column is what, by plain words and units."""

from __future__ import annotations

import math
from dataclasses import replace

from omphalon.answers.remarks import Remark
from omphalon.base.errors import UnknownFormat, UnreadableFile, UsageError, echoed
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
from omphalon.recordings.reports import SIGN
from omphalon.tables.heaters import HEATERS, Heater

# words of headers, in the languages that spreadsheets and loggers speak
PARTS: dict[str, set[str]] = {
    "hotend": {"hotend", "nozzle", "extruder", "tool", "t", "head", "düse", "buse", "boquilla"},
    "chamber": {"chamber", "enclosure", "kammer", "bauraum", "chambre", "enceinte", "cámara"},
    "bed": {"bed", "plate", "b", "bett", "heizbett", "druckbett", "plateau", "lit", "cama"},
}
NUMBERED = {
    f"{name}{n}": n
    for name in ("hotend", "nozzle", "extruder", "tool", "t", "e")
    for n in range(10)
}
ROLES: dict[str, set[str]] = {
    "time": {
        *("time", "t", "s", "sec", "second", "seconds", "ms", "us", "µs", "elapsed", "timestamp"),
        *("clock", "date", "datetime", "zeit", "uhrzeit", "sekunden", "heure", "secondes"),
        *("tiempo", "hora", "segundos"),
    },
    "temperature": {
        *("temp", "temperature", "temperatures", "reading", "actual", "measured", "celsius"),
        *("degc", "°c", "hotend", "nozzle", "bed", "plate", "extruder", "chamber"),
        *("temperatur", "ist", "istwert", "température", "mesure", "temperatura", "medida"),
    },
    "target": {
        *("target", "setpoint", "goal", "wanted", "set"),
        *("soll", "sollwert", "ziel", "consigne", "cible", "objetivo", "consigna"),
    },
    "power": {
        *("power", "pwm", "duty", "output", "heat", "counts", "heater", "drive"),
        *("leistung", "heizleistung", "puissance", "potencia"),
    },
    "fan": {"fan", "partfan", "blower", "lüfter", "ventilateur", "ventilador"},
    "flow": {"flow", "mm3", "mm³"},
}
MOST_WORDS = 5  # of a header cell: more is prose
DATES = {"date", "datum", "fecha"}
PERCENT = {"%", "percent", "pct", "prozent", "pourcent"}
WATTS = {"w", "watt", "watts"}


def is_table(lines: list[str]) -> bool:
    """Whether the lines hold a table with a header."""
    head = header_at(lines[:2000])
    return head is not None and not SIGN.search(lines[head.at])


def read_columns(text: Text, how: Wanted) -> LogColumns:
    """The columns of a table, found by the words of its header."""
    head = header_at(text.lines)
    assert head is not None
    prose = any(len(cell.split()) > MOST_WORDS for cell in head.cells)
    named = any(_hits(cell, role) for cell in head.cells for role in ROLES)
    if prose or not (how.columns or named):
        raise UnknownFormat(
            f"{text.source}: no log: row {head.at + 1} names no time, temperature or power "
            f"({echoed(', '.join(head.cells))})",
            "give the file of the log; name the columns in its first row, for example "
            "time_s,temperature_c,power",
        )
    table = read_table(text, head)
    if not table.rows:
        raise UnreadableFile(
            f"{text.source}: no rows below its header", "fill it in, a row a report"
        )
    table = _dated(table)
    found = _roles(table, how)
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
    fan = [] if found["fan"] is None else [state(row[found["fan"]]) for row in table.rows]
    flow = [] if found["flow"] is None else table.numbers(found["flow"])
    known = drive is not None and any(map(math.isfinite, drive))
    watts = known and power is not None and bool(words(table.header[power]) & WATTS)
    if watts and power is not None and how.full_power is None:
        raise UsageError(
            f"{text.source}: {echoed(table.header[power])}: power in watts, and how many full "
            "power is cannot be told",
            "give --full-power N, in watts, and --gain-scale for the gains' own number",
        )
    return LogColumns(
        time_s=times.seconds,
        temperature_c=temperature,
        power=drive if known else None,
        target_c=target,
        fan=fan if any(map(math.isfinite, fan)) else None,
        flow_mm3_s=flow if any(map(math.isfinite, flow)) else None,
        percent=power is not None and _in_percent(table, power),
        notes=_notes(table, times, temperature),
        headers=tuple(
            f"{role} {echoed(table.header[k])}" for role, k in found.items() if k is not None
        ),
        heater=how.heater or _heater_of(_parts(table.header[at])),
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
    named = words(table.header[column]) & PERCENT
    return bool(named) or any(row[column].endswith("%") for row in table.rows)


def _notes(table: Table, times: clock.Times, temperature: list[float]) -> list[Remark]:
    notes = list(times.notes)
    rows = zip(table.line, times.seconds, temperature, strict=True)
    bad = table.bad + [line for line, t, c in rows if math.isnan(t) or math.isnan(c)]
    if bad:
        notes.append(Remark("unreadable-rows", count=len(bad), first=min(bad)))
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


def _parts(header: str) -> set[str]:
    """The heater that a header names: hotend, bed, chamber, or a numbered one; or nothing."""
    these = words(header)
    numbered = {f"hotend {NUMBERED[w]}" for w in these if w in NUMBERED}
    return numbered or {name for name, own in PARTS.items() if these & own - {"t", "b"}}


def _heater_of(parts: set[str]) -> Heater | None:
    """The heater that a header names; None where it names none, or something else."""
    known = [name for name in parts if name.partition(" ")[0] in HEATERS]
    return Heater.named(known[0]) if len(parts) == len(known) == 1 else None


def _roles(table: Table, how: Wanted) -> dict[str, int | None]:
    """Which column is what: the ones named by the user, else those whose words fit best; columns
    of one heater belong together.
    """
    heats = [k for k, header in enumerate(table.header) if _hits(header, "temperature")]
    owners = {frozenset(_parts(table.header[k])) for k in heats}
    if len(owners) > 1 and how.heater is None and "temperature" not in how.columns:
        heats.sort(key=lambda k: -_swing(table, k))
        of = _parts(table.header[heats[0]])
    else:
        of = _wanted_part(owners, str(how.heater or ""))
    found: dict[str, int | None] = {}
    for role in ("temperature", "time", "target", "power", "fan", "flow"):
        found[role] = _find(table, role, how, of)
        at = found["temperature"]
        if role == "temperature" and at is not None:
            of = _parts(table.header[at]) or of
    return {role: found[role] for role in ROLES}


def _wanted_part(owners: set[frozenset[str]], heater: str) -> set[str]:
    """The heater that was asked for, as the headers name it: a hotend may be tool 0."""
    if heater == "hotend" and frozenset({"hotend"}) not in owners:
        numbered = sorted(name for own in owners for name in own if name.startswith("hotend"))
        return {numbered[0]} if numbered else {"hotend"}
    return {heater} - {""}


def _swing(table: Table, column: int) -> float:
    """How far a temperature goes up and down, again and again: which of several heaters a test is
    of.
    """
    known = [v for v in table.numbers(column) if math.isfinite(v)]
    return sum(abs(b - a) for a, b in zip(known, known[1:], strict=False))


def _hits(header: str, role: str) -> int:
    """How many of a header's words name a role that none of another stands against."""
    these = words(header)
    if role == "temperature" and any(
        these & own for name, own in ROLES.items() if name in ("target", "power")
    ):
        return 0
    if role == "temperature" and these & ROLES["time"] - {"t"}:
        return 0
    if role == "time" and these & ({"temp", "temperature"} | ROLES["flow"]):
        return 0
    if role == "power" and these & (ROLES["target"] | ROLES["fan"] | {"temp", "temperature"}):
        return 0
    hits = len(these & ROLES[role])
    named = {"temperature": any(w in NUMBERED for w in these)}
    return hits + named.get(role, False)


def _find(table: Table, role: str, how: Wanted, of: set[str]) -> int | None:
    """The column of a role: the one named by the user, else the one whose words fit best and that
    belongs to no other heater.
    """
    if role in how.columns:
        return chosen_column(table.header, how.columns[role], table.source)
    taken = [h.lower() for r, h in how.columns.items() if r != role]
    best, most = None, 0.0
    for at, header in enumerate(table.header):
        own = _parts(header) if role != "time" else set()
        hits = (
            0 if header.lower() in taken or (of and own and not own & of) else _hits(header, role)
        )
        score = hits + 0.6 * bool(own & of) if hits else 0.0
        if score > most:
            best, most = at, score
    return best


def _dated(table: Table) -> Table:
    """A date and a clock in two columns, as spreadsheets have them, are one time."""
    dates = [k for k, header in enumerate(table.header) if words(header) <= DATES and words(header)]
    clocks = [
        k
        for k in range(len(table.header))
        if words(table.header[k]) & ROLES["time"]
        and k not in dates
        and table.rows
        and ":" in table.rows[0][k]
    ]
    if not (dates and clocks):
        return table
    date, at = dates[0], clocks[0]
    rows = [
        [
            f"{row[date]} {cell}" if k == at else "" if k == date else cell
            for k, cell in enumerate(row)
        ]
        for row in table.rows
    ]
    header = ["" if k == date else cell for k, cell in enumerate(table.header)]
    return replace(table, header=header, rows=rows)


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
