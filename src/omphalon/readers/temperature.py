"""Temperature logs: a table with a header, or what a serial console shows. FORMATS is the table of
both.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from omphalon.answers.remarks import Remark
from omphalon.base.arrays import Array
from omphalon.base.errors import UnknownFormat, UsageError, echoed
from omphalon.base.stages import begins
from omphalon.readers import clock
from omphalon.readers.columns import LogColumns, Wanted
from omphalon.readers.heater_table import ROLES, is_table, read_columns
from omphalon.readers.text import LOG, Text, read_text
from omphalon.recordings.recording import TemperatureLog
from omphalon.recordings.reports import FULL_POWERS, SIGN, Heating, report_of
from omphalon.tables.heaters import HOTEND, Heater
from omphalon.tables.units import plural

CONSOLE = "console text"  # the format's name
FEWEST_REPORTS = 3  # report lines that make a console's log
FAN = re.compile(r"\bM10([67])\b(?!.*\bP[1-9])(?:.*?\bS\s*(\d+(?:\.\d+)?))?")  # the first fan's
MOST_FAN = 255.0  # of a line that names no speed
COLD_C, APART_C = 45.0, 8.0  # heaters that were not used lately read one room
RESTART_S = 60.0
LONGEST_STEP_S, LONGEST_S = 30.0, 40 * 86_400.0  # between two reports, and of a log
SHORTEST_S = 0.5  # of a log: less is another unit
MOST_SILENT_S = 30.0  # without a power: longer, and what it was then is not known
FULL = 1.001  # a power this much past full is rounding


def is_console(lines: list[str]) -> bool:
    """Whether the lines hold reports as a serial console shows them."""
    return sum(1 for line in lines[:4000] if SIGN.search(line)) >= FEWEST_REPORTS


def read_console(text: Text, how: Wanted) -> LogColumns:
    """Report lines among chatter. Without time stamps, `--every` seconds lie between two
    reports.
    """
    want = how.heater or _busier(text.lines)
    rows = _reports(text, want)
    if not rows:
        raise UnknownFormat(
            f"{text.source}: no report lines of the {want} ({want.mark}:… /…) found",
            "choose with --heater",
        )
    notes = []
    several = (report_of(line) for line in text.lines if line.count(":") > 1)
    if how.heater is None and any(one is not None and len(one.heaters) > 1 for one in several):
        notes.append(Remark("cycled-heater", heater=str(want)))
    notes += _cold_apart(text.lines)
    if not text.whole:
        notes.append(Remark("cut-line"))
    times = _times(text.source, [stamp for stamp, _, _ in rows], how)
    notes += times.notes
    counts, target = [r.power for _, r, _ in rows], [r.target_c for _, r, _ in rows]
    fan = [speed for _, _, speed in rows]
    return LogColumns(
        time_s=times.seconds,
        temperature_c=[r.temperature_c for _, r, _ in rows],
        power=counts if not all(map(math.isnan, counts)) else None,
        target_c=target if not all(map(math.isnan, target)) else None,
        percent=False,
        notes=notes,
        heater=want,
        fan=fan if any(fan) else None,
    )


def _cold_apart(lines: list[str]) -> list[Remark]:
    """A word where hotend and bed, both cold, do not read one room at the first report."""
    reports = (report for line in lines if (report := report_of(line)) is not None)
    first = next(reports, None)
    cold = {
        str(heater): one.temperature_c
        for heater, one in (first.heaters if first else {}).items()
        if one.temperature_c < COLD_C and heater.name in ("hotend", "bed")
    }
    if not cold:
        return []
    low, high = min(cold, key=lambda name: cold[name]), max(cold, key=lambda name: cold[name])
    if cold[high] - cold[low] < APART_C:
        return []
    facts = {"one": high, "reads": cold[high], "other": low, "instead": cold[low]}
    return [Remark("cold-apart", **facts)]


def _reports(text: Text, heater: Heater) -> list[tuple[str, Heating, float]]:
    """Time stamp and reading of one heater, and the part fan as the lines before set it (off until
    one does), report by report.
    """
    found, fan = [], 0.0
    for line in text.lines[: len(text.lines) - (not text.whole)]:
        report = report_of(line)
        if report is not None and heater in report.heaters:
            found.append((report.stamp, report.heaters[heater], fan))
        elif turned := FAN.search(line):
            fan = float(turned[2] or MOST_FAN) if turned[1] == "6" else 0.0
    return found


def _times(source: str, stamps: list[str], how: Wanted) -> clock.Times:
    """Times from the stamps, or from the seconds between two reports; both at once are refused."""
    stamped = sum(map(bool, stamps)) >= len(stamps) / 2
    if stamped and how.every_s is not None:
        raise UsageError(
            f"--every {how.every_s:g}: the report lines of {source} carry times of their own",
            "leave --every out",
        )
    if stamped:
        return clock.read_times(stamps, None)
    if how.every_s is None:
        raise UnknownFormat(
            f"{source}: the report lines carry no time",
            "give the seconds between two with --every S",
        )
    return clock.Times([n * how.every_s for n in range(len(stamps))])


def _busier(lines: list[str]) -> Heater:
    """The heater whose power went up and down more often; without powers, the one whose temperature
    moved furthest.
    """
    reported: dict[Heater, list[Heating]] = {HOTEND: []}
    for line in lines:
        report = report_of(line)
        for name, heating in ({} if report is None else report.heaters).items():
            reported.setdefault(name, []).append(heating)
    moves = {
        name: float((np.abs(np.diff(np.array([h.power for h in own]))) > 5).sum())
        for name, own in reported.items()
    }
    if not any(moves.values()):
        moves = {
            name: float(np.ptp([h.temperature_c for h in own])) if own else 0.0
            for name, own in reported.items()
        }
    return max(moves, key=lambda name: moves[name])


__all__ = ["CONSOLE", "FORMATS", "Wanted", "read_temperature"]


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
    begins(f"{path} is read")
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


def _log(source: str, form: Format, columns: LogColumns, how: Wanted) -> TemperatureLog:
    """Sorted, doubles spread or removed, power as a fraction."""
    time, temperature = np.array(columns.time_s), np.array(columns.temperature_c)
    good = np.isfinite(time) & np.isfinite(temperature)
    if good.sum() < 2:
        raise UnknownFormat(
            f"{source}: {plural(int(good.sum()), 'row')} with a time and a temperature",
            "check that the log holds the test",
        )
    notes = list(columns.notes)
    restarts = _restarts(time[good])
    for row in restarts:
        time[np.flatnonzero(good)[row:]] += RESTART_S + float(time[good][row - 1] - time[good][row])
    if restarts:
        notes.append(Remark("starts-over", count=len(restarts), gap=RESTART_S))
    time[good], spread = _spread_doubles(time[good], temperature[good])
    notes += spread
    order = np.argsort(time, kind="stable")
    order = order[good[order]]
    if np.any(np.diff(time[good]) < 0):
        notes.append(Remark("sorted"))
    first = np.concatenate([[True], np.diff(time[order]) > 1e-6])
    order = order[first]
    _refuse_pace(source, time[order])
    power = None if columns.power is None else np.array(columns.power)[order]
    target = None if columns.target_c is None else np.array(columns.target_c)[order]
    scale = None
    if power is not None and _silent_s(power, time[order]) > MOST_SILENT_S:
        power = None
    if power is not None:
        power = _filled(power)
        scale = _power_scale(source, power, columns.percent, how.full_power, form.scales)
        power = power / scale
    if how.full_power is None and scale is not None and scale != 1.0 and not columns.percent:
        notes.append(Remark("in-counts", scale=scale))
    return TemperatureLog(
        source=source,
        time_s=time[order] - time[order][0],
        temperature_c=temperature[order],
        power=power,
        target_c=None if target is None else _filled(target),
        power_scale=scale,
        read_as=form.name,
        notes=tuple(notes),
        headers=columns.headers,
        heater=columns.heater,
        fan=None if columns.fan is None else _filled(np.array(columns.fan)[order]),
        flow_mm3_s=None
        if columns.flow_mm3_s is None
        else _filled(np.array(columns.flow_mm3_s)[order]),
    )


def _spread_doubles(time: Array, temperature: Array) -> tuple[Array, list[Remark]]:
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
    return out, [Remark("stamped-alike", count=float(np.median(runs[1:-1])))]


def _refuse_pace(source: str, time: Array) -> None:
    """A log whose reports lie minutes apart, or that runs for days, has its times in another
    unit.
    """
    usual, whole = float(np.median(np.diff(time))), float(time[-1] - time[0])
    if whole < SHORTEST_S:
        raise UnknownFormat(
            f"{source}: {len(time)} reports in {whole:.3g} s: no heater moves in that",
            "look at the unit of the times: name the column time_s, time_ms or time_us as they are",
        )
    if usual > LONGEST_STEP_S or whole > LONGEST_S:
        raise UnknownFormat(
            f"{source}: a report every {usual:.3g} s, {whole / 3600:.3g} h in all, tells nothing "
            "of a heater",
            "if the times are in ms, name the column time_ms; if it is a longer log, cut out the "
            "test",
        )


def _restarts(time: Array) -> list[int]:
    """Rows at which a clock restarted: far back, with a steady run of 15 rows on either side."""
    back = (
        np.flatnonzero(np.diff(time) < -10 * max(float(np.median(np.abs(np.diff(time)))), 1e-9)) + 1
    )
    edges = [0, *back.tolist(), len(time)]
    return back.tolist() if len(back) and min(np.diff(edges)) >= 15 else []


def _silent_s(power: Array, time_s: Array) -> float:
    """The longest stretch without a power: some controllers say none during their own test."""
    words = time_s[np.isfinite(power)]
    ends = np.concatenate([time_s[:1], words, time_s[-1:]])
    return float(np.diff(ends).max())


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
    read: Callable[[Text, Wanted], LogColumns]
    scales: tuple[float, ...]


FORMATS = (
    Format("CSV", is_table, read_columns, FULL_POWERS),
    Format(CONSOLE, is_console, read_console, (127.0, 255.0)),
)
