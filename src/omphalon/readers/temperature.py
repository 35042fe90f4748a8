"""Temperature logs: a CSV with a header, or what a serial console shows. FORMATS is the table of both."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from omphalon.errors import UsageError
from omphalon.readers import clock
from omphalon.readers.columns import Table, chosen_column, header_at, read_table, unknown, words
from omphalon.readers.text import Text, read_text
from omphalon.recording import Note, TemperatureLog

PARTS: dict[str, set[str]] = {
    "hotend": {"hotend", "nozzle", "extruder", "tool", "tool0", "t", "t0", "head"},
    "bed": {"bed", "plate", "b"},
}
ROLES: dict[str, set[str]] = {
    "time": {"time", "t", "s", "sec", "second", "seconds", "ms", "elapsed", "timestamp", "clock", "date", "datetime"},
    "temperature": {"temp", "temperature", "temperatures", "reading", "actual", "measured", "celsius", "degc", "°c",
                    "hotend", "nozzle", "bed", "plate", "extruder"},
    "target": {"target", "setpoint", "goal", "wanted", "set"},
    "power": {"power", "pwm", "duty", "output", "heat", "counts", "heater", "drive"},
}
RESTART_S = 60.0


@dataclass(frozen=True)
class Reading:
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


REPORT = re.compile(r"(?:^|[^A-Za-z0-9@])(T0?|B|@|B@)\s*:\s*(-?\d+(?:\.\d+)?)(?:\s*/\s*(-?\d+(?:\.\d+)?))?")
SIGN = re.compile(r"\b[TB]0?\s*:\s*-?\d+(?:\.\d+)?\s*/\s*-?\d")
STAMP = re.compile(r"^\W*(\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?|\d{1,2}:\d\d:\d\d(?:[.,]\d+)?|\d+(?:\.\d+)?)"
                   r"(?=[\s\]>,;|:-]+.*?\bT0?:)")


def read_temperature(path: str, how: Reading | None = None) -> TemperatureLog:
    """A temperature log of one heater from a file in any of the FORMATS.

    Raises UnreadableFile or UnknownFormat with the file's name, the row where there is one, and the remedy.
    """
    how = how or Reading()
    for role in how.columns:
        if role not in ROLES:
            raise UsageError(f"--column {role}=…: no such quantity", "use one of " + ", ".join(ROLES))
    text = read_text(path, _recognise)
    form = next(f for f in FORMATS if f.fits(text.lines))
    return _finish(text.source, form, form.read(text, how), how)


def _recognise(source: str, lines: list[str]) -> None:
    if not any(form.fits(lines) for form in FORMATS):
        raise _not_a_log(source, lines)


def _not_a_log(source: str, lines: list[str]) -> Exception:
    first = next((n + 1 for n, line in enumerate(lines) if line.strip() and not line.startswith("#")), 1)
    return unknown(source, f"row {first}: no header and no report lines (T:… /… @:…) found",
                   "name the columns in a first row, for example time_s,temperature_c,power")


def _is_console(lines: list[str]) -> bool:
    return sum(1 for line in lines[:4000] if SIGN.search(line)) >= 3 and not _is_csv(lines)


def _is_csv(lines: list[str]) -> bool:
    at = header_at(lines)
    return at is not None and not REPORT.search(lines[at[0]])


def _read_csv(text: Text, how: Reading) -> _Columns:
    at = header_at(text.lines)
    assert at is not None
    table = read_table(text, *at)
    found = {role: _find(table, role, how) for role in ROLES}
    row = at[0] + 1
    have = ", ".join(table.header)
    if found["temperature"] is None:
        raise unknown(text.source, f"row {row}: no temperature among the columns ({have})",
                      "say which it is with --column temperature=HEADER")
    if found["time"] is None and how.every_s is None:
        raise unknown(text.source, f"row {row}: no time among the columns ({have})",
                      "say which it is with --column time=HEADER, or the seconds a report with --every S")
    notes = []
    time = [n * how.every_s for n in range(len(table.rows))] if how.every_s is not None \
        else _times(table, found["time"])  # type: ignore[arg-type]
    temperature = _in_celsius(table.numbers(found["temperature"]), table.header[found["temperature"]])
    bad = table.bad + [line for line, t, c in zip(table.line, time, temperature, strict=True)
                       if math.isnan(t) or math.isnan(c)]
    if bad:
        notes.append(Note("rows-passed-over", f"{len(bad)} unreadable row{'s'[:len(bad) > 1]} passed over, "
                                              f"the first is row {min(bad)}"))
    if table.cut:
        notes.append(Note("cut-last-row", "the last row has no end and was passed over"))
    power, goal = found["power"], found["target"]
    percent = power is not None and ("%" in table.header[power] or "percent" in words(table.header[power]))
    target = None if goal is None else _in_celsius(table.numbers(goal), table.header[goal])
    return _Columns(time, temperature, None if power is None else table.numbers(power), target, percent, notes)


def _find(table: Table, role: str, how: Reading) -> int | None:
    """The column of a role: the one named by the user, else the one whose words fit best."""
    if role in how.columns:
        return chosen_column(table, how.columns[role])
    best, most = None, 0.0
    wanted = PARTS.get(how.heater or "", set())
    others = set().union(*(p for name, p in PARTS.items() if name != how.heater)) if how.heater else set()
    for at, header in enumerate(table.header):
        these = words(header)
        hits = len(these & ROLES[role])
        for other, vocabulary in ROLES.items():
            if other != role and other != "temperature" and these & vocabulary and role == "temperature":
                hits = 0
        if role == "time" and these & {"temp", "temperature"}:
            hits = 0
        if role == "power" and these & (ROLES["target"] | {"temp", "temperature"}):
            hits = 0
        score = hits + 0.6 * len(these & wanted) - 0.6 * len(these & others - wanted) if hits else 0.0
        if score > most:
            best, most = at, score
    return best


def _times(table: Table, column: int) -> list[float]:
    cells = [row[column] for row in table.rows]
    values = [clock.seconds(c.replace(",", ".") if table.decimal_comma else c) for c in cells]
    if cells and clock.is_clock(cells[0]):
        values = clock.past_midnight(values)
    if "ms" in words(table.header[column]) or "milliseconds" in words(table.header[column]):
        values = [v / 1000 for v in values]
    elif "min" in words(table.header[column]) or "minutes" in words(table.header[column]):
        values = [v * 60 for v in values]
    return values


def _in_celsius(values: list[float], header: str) -> list[float]:
    unit = words(header)
    if unit & {"f", "°f", "degf", "fahrenheit"}:
        return [(v - 32) / 1.8 for v in values]
    if unit & {"k", "kelvin"}:
        return [v - 273.15 for v in values]
    return values


def _read_console(text: Text, how: Reading) -> _Columns:
    """Report lines among chatter. Without time stamps, `--every` seconds lie between two reports."""
    want = how.heater or _busier(text.lines)
    reading, drive = ("B", "B@") if want == "bed" else ("T", "@")
    rows: list[tuple[float, float, float, float]] = []
    stamped = clocks = 0
    for line in text.lines[:len(text.lines) - (not text.whole)]:
        marks = {("T" if m[1] == "T0" else m[1]): m for m in REPORT.finditer(line)}
        if reading not in marks:
            continue
        stamp = STAMP.match(line)
        time = clock.seconds(stamp[1]) if stamp else math.nan
        stamped += not math.isnan(time)
        clocks += stamp is not None and clock.is_clock(stamp[1])
        goal, power = marks[reading][3], marks.get(drive)
        rows.append((time, float(marks[reading][2]), float(goal) if goal else math.nan,
                     float(power[2]) if power else math.nan))
    if not rows:
        raise unknown(text.source, f"no report lines of the {want} ({reading}:… /…) found", "choose with --heater")
    notes = [Note("heater-guessed", f"the console shows more than one heater; the {want} is the one that was cycled")] \
        if how.heater is None and any("B:" in x and "T:" in x for x in text.lines) else []
    time_s, temperature, target, power_counts = (list(c) for c in zip(*rows, strict=True))
    if stamped < len(rows) / 2 or how.every_s is not None:
        if how.every_s is None:
            raise unknown(text.source, "the report lines carry no time", "give the seconds between two with --every S")
        time_s = [n * how.every_s for n in range(len(rows))]
    elif clocks > stamped / 2:
        time_s = clock.past_midnight(time_s)
    return _Columns(time_s, temperature, power_counts if not all(map(math.isnan, power_counts)) else None,
                    target if not all(map(math.isnan, target)) else None, False, notes)


def _busier(lines: list[str]) -> str:
    """The heater whose power went up and down more often."""
    def turns(mark: str) -> int:
        values = [float(m[2]) for line in lines for m in REPORT.finditer(line) if m[1] == mark]
        return int((np.abs(np.diff(values)) > 5).sum()) if len(values) > 1 else 0

    return "bed" if turns("B@") > turns("@") else "hotend"


def _finish(source: str, form: Format, columns: _Columns, how: Reading) -> TemperatureLog:
    """Sorted, doubles removed, power as a fraction."""
    time, temperature = np.array(columns.time_s), np.array(columns.temperature_c)
    good = np.isfinite(time) & np.isfinite(temperature)
    if good.sum() < 2:
        raise unknown(source, "fewer than two readable rows", "check that the log holds the test")
    notes = list(columns.notes)
    restarts = _restarts(time[good])
    for row in restarts:
        time[np.flatnonzero(good)[row:]] += RESTART_S + float(time[good][row - 1] - time[good][row])
    if restarts:
        times = f"{len(restarts)} time{'s'[:len(restarts) != 1]}"
        notes.append(Note("clock-restarted", f"the log's clock starts anew {times}; {RESTART_S:.0f} s are taken to have "
                                             "passed"))
    order = np.argsort(time, kind="stable")
    order = order[good[order]]
    if np.any(np.diff(time[good]) < 0):
        notes.append(Note("rows-reordered", "some rows were out of order in time and were sorted"))
    first = np.concatenate([[True], np.diff(time[order]) > 1e-6])
    order = order[first]
    power = None if columns.power is None else np.array(columns.power)[order]
    target = None if columns.target_c is None else np.array(columns.target_c)[order]
    scale = None
    if power is not None:
        power = _filled(power)
        scale = _power_scale(power, columns.percent, how.full_power, form.scales)
        power = power / scale
    if how.full_power is None and scale is not None and scale != 1.0 and not columns.percent:
        notes.append(Note("power-scale-guessed", f"power is given in counts; {scale:g} is taken as full power"))
    return TemperatureLog(source, time[order] - time[order][0], temperature[order], power,
                          None if target is None else _filled(target), scale, form.name, tuple(notes))


def _restarts(time: np.ndarray) -> list[int]:
    """Rows at which a clock began anew: far back, with a steady run of 15 rows on either side."""
    back = np.flatnonzero(np.diff(time) < -10 * max(float(np.median(np.abs(np.diff(time)))), 1e-9)) + 1
    edges = [0, *back.tolist(), len(time)]
    return back.tolist() if len(back) and min(np.diff(edges)) >= 15 else []


def _filled(values: np.ndarray) -> np.ndarray:
    """Missing values take the last one before them."""
    known = np.isfinite(values)
    if not known.any():
        return np.zeros_like(values)
    at = np.maximum.accumulate(np.where(known, np.arange(len(values)), np.argmax(known)))
    return np.asarray(values[at])


def _power_scale(power: np.ndarray, percent: bool, full_power: float | None, usual: tuple[float, ...]) -> float:
    """What stands for full power: a fraction or % says so itself; else the user's word; else the next usual scale."""
    most = float(power.max())
    if percent:
        return 100.0
    if most <= 1.0:
        return 1.0
    if full_power is not None:
        return full_power
    return next((s for s in usual if most <= s), most)


@dataclass(frozen=True)
class Format:
    """A row of the table of formats."""

    name: str
    fits: Callable[[list[str]], bool]
    read: Callable[[Text, Reading], _Columns]
    scales: tuple[float, ...]


FORMATS = (Format("CSV", _is_csv, _read_csv, (1.0, 100.0, 127.0, 255.0, 1023.0)),
           Format("console text", _is_console, _read_console, (127.0, 255.0)))
