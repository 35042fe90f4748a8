"""Temperature logs: a table with a header, or what a serial console shows. FORMATS is the table of
both.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from omphalon.errors import UnknownFormat, UsageError, echoed
from omphalon.readers import clock
from omphalon.readers.columns import Table, chosen_column, header_at, read_table, state, words
from omphalon.readers.text import LOG, Text, read_text
from omphalon.recording import Note, TemperatureLog

Array = NDArray[np.float64]

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
RESTART_S = 60.0
LONGEST_STEP_S, LONGEST_S = (
    30.0,
    86_400.0,
)  # a report in half a minute, or a log of a day, is no oscillation test
FULL = 1.001  # a power this much past full is rounding


@dataclass(frozen=True)
class Wanted:
    """How a user wants a log read."""

    heater: str | None = None
    full_power: float | None = None
    every_s: float | None = None
    columns: dict[str, str] = field(default_factory=dict)


@dataclass
class _Columns:
    time_s: list[float]
    temperature_c: list[float]
    power: list[float] | None
    target_c: list[float] | None
    percent: bool
    notes: list[Note]


NUMBER = r"-?\d+(?:[.,]\d+)?"
REPORT = re.compile(
    rf"(?:^|[^A-Za-z0-9@])(T0?|B|@|B@)\s*:\s*({NUMBER})(?:\s*/\s*({NUMBER}))?", re.ASCII
)
SIGN = re.compile(rf"(?:^|[^A-Za-z0-9@])[TB]0?\s*:\s*{NUMBER}", re.ASCII)
STAMP = re.compile(
    r"^\W*(\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?"
    r"|\d{1,2}[./]\d{1,2}[./]\d{2,4},? \d{1,2}:\d\d:\d\d(?:[.,]\d+)?(?: ?[AaPp]\.?[Mm]\.?)?"
    r"|\d{1,2}:\d\d:\d\d(?:[.,]\d+)?(?: ?[AaPp]\.?[Mm]\.?)?|\d+(?:\.\d+)?)"
    r"(?=[\s\]>,;|:-]+.*?\b[TB]0?\s*:)",
    re.ASCII,
)


def read_temperature(path: str, how: Wanted | None = None) -> TemperatureLog:
    """A temperature log of one heater from a file in any of the FORMATS.

    Raises UnreadableFile or UnknownFormat with the file's name, the row where there is one, and the
    remedy.
    """
    how = how or Wanted()
    for role in how.columns:
        if role not in ROLES:
            raise UsageError(
                f"--column {echoed(role)}=…: no such quantity", "use one of " + ", ".join(ROLES)
            )
    text = read_text(path, LOG, _recognise)
    form = next(f for f in FORMATS if f.fits(text.lines))
    return _log(text.source, form, form.read(text, how), how)


def _recognise(source: str, lines: list[str]) -> None:
    if any(form.fits(lines) for form in FORMATS):
        return
    first = next(
        (n + 1 for n, line in enumerate(lines) if line.strip() and not line.startswith("#")), 1
    )
    raise UnknownFormat(
        f"{source}: row {first}: no header and no report lines (T:… /… @:…) found",
        "name the columns in a first row, for example time_s,temperature_c,power",
    )


def _is_console(lines: list[str]) -> bool:
    return sum(1 for line in lines[:4000] if SIGN.search(line)) >= 3 and not _is_table(lines)


def _is_table(lines: list[str]) -> bool:
    head = header_at(lines[:2000])
    return head is not None and not SIGN.search(lines[head.at])


def _read_table(text: Text, how: Wanted) -> _Columns:
    head = header_at(text.lines)
    assert head is not None
    table = read_table(text, head)
    found = {role: _find(table, role, how) for role in ROLES}
    where, have = f"{text.source}: row {head.at + 1}", echoed(", ".join(table.header))
    at, time_at = found["temperature"], found["time"]
    if at is None:
        raise UnknownFormat(
            f"{where}: no temperature among the columns ({have})",
            "say which it is with --column temperature=HEADER",
        )
    if time_at is None and how.every_s is None:
        raise UnknownFormat(
            f"{where}: no time among the columns ({have})",
            "say which it is with --column time=HEADER, or the seconds a report with --every S",
        )
    if time_at is not None and how.every_s is not None:
        raise UsageError(
            f"--every {how.every_s:g}: {text.source} has times of its own "
            f"({echoed(table.header[time_at])})",
            "leave --every out",
        )
    told = ""
    if time_at is None:
        time = [n * (how.every_s or 0.0) for n in range(len(table.rows))]
    else:
        times = _times(table, time_at)
        time, told = times.seconds, times.told
    temperature = _in_celsius(table.numbers(at), table.header[at])
    _refuse_unread(table, at, temperature, "temperature")
    notes = [Note("date-order", told)] if told else []
    bad = table.bad + [
        line
        for line, t, c in zip(table.line, time, temperature, strict=True)
        if math.isnan(t) or math.isnan(c)
    ]
    if bad:
        notes.append(
            Note(
                "rows-passed-over",
                f"{len(bad)} unreadable row{'s'[: len(bad) > 1]} passed over, "
                f"the first is row {min(bad)}",
            )
        )
    if table.cut:
        notes.append(Note("cut-last-row", "the last row has no end and was passed over"))
    power, goal = found["power"], found["target"]
    drive = None if power is None else [state(row[power]) for row in table.rows]
    percent = power is not None and (
        "%" in table.header[power]
        or "percent" in words(table.header[power])
        or any(row[power].endswith("%") for row in table.rows)
    )
    target = None if goal is None else _in_celsius(table.numbers(goal), table.header[goal])
    for column, values, role in ((power, drive, "power"), (goal, target, "target")):
        if column is not None and values is not None:
            _refuse_unread(table, column, values, role)
    if drive is not None and not any(map(math.isfinite, drive)):
        drive = None
    return _Columns(time, temperature, drive, target, percent, notes)


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
        f"'{table.first_cell(column)}' is no "
        f"{role} that is understood",
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


def _read_console(text: Text, how: Wanted) -> _Columns:
    """Report lines among chatter. Without time stamps, `--every` seconds lie between two
    reports.
    """
    want = how.heater or _busier(text.lines)
    reading, drive = ("B", "B@") if want == "bed" else ("T", "@")
    rows: list[tuple[str, float, float, float]] = []
    for line in text.lines[: len(text.lines) - (not text.whole)]:
        marks = {("T" if m[1] == "T0" else m[1]): m for m in REPORT.finditer(line)}
        if reading not in marks:
            continue
        stamp = STAMP.match(line)
        goal, power = marks[reading][3], marks.get(drive)
        rows.append(
            (
                stamp[1] if stamp else "",
                _plain(marks[reading][2]),
                _plain(goal) if goal else math.nan,
                _plain(power[2]) if power else math.nan,
            )
        )
    if not rows:
        raise UnknownFormat(
            f"{text.source}: no report lines of the {want} ({reading}:… /…) found",
            "choose with --heater",
        )
    notes = (
        [
            Note(
                "heater-guessed",
                f"the console shows more than one heater; the {want} is the one that was cycled",
            )
        ]
        if how.heater is None and any("B:" in x and "T:" in x for x in text.lines)
        else []
    )
    if not text.whole:
        notes.append(Note("cut-last-row", "the last line has no end and was passed over"))
    stamps, temperature, target, counts = (list(c) for c in zip(*rows, strict=True))
    stamped = sum(map(bool, stamps))
    if stamped >= len(rows) / 2:
        if how.every_s is not None:
            raise UsageError(
                f"--every {how.every_s:g}: the report lines of {text.source} carry times of their "
                "own",
                "leave --every out",
            )
        times = clock.read_times(stamps, None)
        time_s = times.seconds
        notes += [Note("date-order", times.told)] if times.told else []
    elif how.every_s is None:
        raise UnknownFormat(
            f"{text.source}: the report lines carry no time",
            "give the seconds between two with --every S",
        )
    else:
        time_s = [n * how.every_s for n in range(len(rows))]
    return _Columns(
        time_s,
        temperature,
        counts if not all(map(math.isnan, counts)) else None,
        target if not all(map(math.isnan, target)) else None,
        False,
        notes,
    )


def _plain(text: str) -> float:
    return float(text.replace(",", "."))


def _busier(lines: list[str]) -> str:
    """The heater whose power went up and down more often; without powers, the one whose temperature
    turned more often.
    """

    def values(mark: str) -> Array:
        return np.array(
            [_plain(m[2]) for line in lines for m in REPORT.finditer(line) if m[1] == mark]
        )

    drives = {mark: int((np.abs(np.diff(values(mark))) > 5).sum()) for mark in ("@", "B@")}
    if any(drives.values()):
        return "bed" if drives["B@"] > drives["@"] else "hotend"
    swings = {
        mark: float(np.ptp(seen)) if len(seen := values(mark)) else 0.0 for mark in ("T", "B")
    }
    return "bed" if swings["B"] > swings["T"] else "hotend"


def _log(source: str, form: Format, columns: _Columns, how: Wanted) -> TemperatureLog:
    """Sorted, doubles spread or removed, power as a fraction."""
    time, temperature = np.array(columns.time_s), np.array(columns.temperature_c)
    good = np.isfinite(time) & np.isfinite(temperature)
    if good.sum() < 2:
        raise UnknownFormat(
            f"{source}: {int(good.sum())} row{'s'[: good.sum() != 1]} with a time and a "
            "temperature",
            "check that the log holds the test",
        )
    notes = list(columns.notes)
    restarts = _restarts(time[good])
    for row in restarts:
        time[np.flatnonzero(good)[row:]] += RESTART_S + float(time[good][row - 1] - time[good][row])
    if restarts:
        times = f"{len(restarts)} time{'s'[: len(restarts) != 1]}"
        notes.append(
            Note(
                "clock-restarted",
                f"the log's clock starts anew {times}; {RESTART_S:.0f} s are taken to have passed",
            )
        )
    time[good], spread = _spread_doubles(time[good], temperature[good])
    notes += spread
    order = np.argsort(time, kind="stable")
    order = order[good[order]]
    if np.any(np.diff(time[good]) < 0):
        notes.append(Note("rows-reordered", "some rows were out of order in time and were sorted"))
    first = np.concatenate([[True], np.diff(time[order]) > 1e-6])
    order = order[first]
    _refuse_pace(source, time[order])
    power = None if columns.power is None else np.array(columns.power)[order]
    target = None if columns.target_c is None else np.array(columns.target_c)[order]
    scale = None
    if power is not None:
        power = _filled(power)
        scale = _power_scale(source, power, columns.percent, how.full_power, form.scales)
        power = power / scale
    if how.full_power is None and scale is not None and scale != 1.0 and not columns.percent:
        notes.append(
            Note(
                "power-scale-guessed", f"power is given in counts; {scale:g} is taken as full power"
            )
        )
    return TemperatureLog(
        source,
        time[order] - time[order][0],
        temperature[order],
        power,
        None if target is None else _filled(target),
        scale,
        form.name,
        tuple(notes),
    )


def _spread_doubles(time: Array, temperature: Array) -> tuple[Array, list[Note]]:
    """Several reports under one stamp of a coarse clock lie evenly until the next stamp."""
    edges = np.concatenate([[0], np.flatnonzero(np.diff(time) != 0) + 1, [len(time)]])
    runs = np.diff(edges)
    if len(runs) < 3 or np.median(runs[1:-1]) < 2:
        return time, []
    stamps = time[edges[:-1]]
    usual = float(np.median(np.diff(stamps)))
    out = time.copy()
    for k, (start, count) in enumerate(zip(edges[:-1].tolist(), runs.tolist(), strict=True)):
        width = min(float(stamps[k + 1] - stamps[k]), usual) if k + 1 < len(stamps) else usual
        share = np.arange(count) / count
        if k == 0:  # the first stamp may have begun before the log did
            typical = max(int(np.median(runs[1:-1])), count)
            share = (np.arange(count) + typical - count) / typical
        out[start : start + count] += width * share
    return out, [
        Note(
            "times-spread",
            f"the clock stamps {np.median(runs[1:-1]):.0f} reports alike; they are taken to lie "
            "evenly "
            "in between",
        )
    ]


def _refuse_pace(source: str, time: Array) -> None:
    """A log whose reports lie minutes apart, or that runs for days, has its times in another
    unit.
    """
    usual, whole = float(np.median(np.diff(time))), float(time[-1] - time[0])
    if usual > LONGEST_STEP_S or whole > LONGEST_S:
        raise UnknownFormat(
            f"{source}: a report every {usual:.3g} s, {whole / 3600:.3g} h in all, is no test of "
            "a heater",
            "if the times are in ms, name the column time_ms; if it is a longer log, cut out the "
            "test",
        )


def _restarts(time: Array) -> list[int]:
    """Rows at which a clock began anew: far back, with a steady run of 15 rows on either side."""
    back = (
        np.flatnonzero(np.diff(time) < -10 * max(float(np.median(np.abs(np.diff(time)))), 1e-9)) + 1
    )
    edges = [0, *back.tolist(), len(time)]
    return back.tolist() if len(back) and min(np.diff(edges)) >= 15 else []


def _filled(values: Array) -> Array:
    """Missing values take the last one before them."""
    known = np.isfinite(values)
    if not known.any():
        return np.zeros_like(values)
    at = np.maximum.accumulate(np.where(known, np.arange(len(values)), np.argmax(known)))
    return np.asarray(values[at])


def _power_scale(
    source: str, power: Array, percent: bool, full_power: float | None, usual: tuple[float, ...]
) -> float:
    """What stands for full power: the user's word, which is obeyed or refused; % says so itself;
    else the next usual scale.

    Raises UnknownFormat or UsageError where the power then lies outside 0 to 1, and names the scale
    that would fit.
    """
    most, least = float(power.max()), float(power.min())
    fits = next((s for s in (1.0, *usual) if most <= s * FULL), most)
    if least < -0.001 * max(most, 1.0):
        raise UnknownFormat(
            f"{source}: a power of {least:g}",
            "no heater cools; check which column is the power (--column power=HEADER)",
        )
    if percent:
        if full_power not in (None, 100.0):
            raise UsageError(
                f"--full-power {full_power:g}: the power in {source} is in %, where 100 is full",
                f"leave it out; for gains in that scale give --gain-scale {full_power:g}",
            )
        if most > 100 * FULL:
            raise UnknownFormat(
                f"{source}: a power of {most:g} %",
                f"rename the column; --full-power {fits:g} would fit",
            )
        return 100.0
    if full_power is None:
        return fits
    if most > full_power * FULL:
        raise UsageError(
            f"--full-power {full_power:g}: the power in {source} goes up to {most:g}",
            f"--full-power {fits:g} would fit",
        )
    if full_power > 1 and 0 < most <= 1:
        raise UsageError(
            f"--full-power {full_power:g}: the power in {source} never passes {most:g}, so 1 is "
            "full in it",
            f"leave it out; for gains in that scale give --gain-scale {full_power:g}",
        )
    return full_power


@dataclass(frozen=True)
class Format:
    """A row of the table of formats."""

    name: str
    fits: Callable[[list[str]], bool]
    read: Callable[[Text, Wanted], _Columns]
    scales: tuple[float, ...]


FORMATS = (
    Format("CSV", _is_table, _read_table, (1.0, 100.0, 127.0, 255.0, 1023.0)),
    Format("console text", _is_console, _read_console, (127.0, 255.0)),
)
