"""Times as logs write them: numbers with a unit, ISO 8601, epochs, clocks, local dates. All become
seconds.
"""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from omphalon.answers.remarks import Remark
from omphalon.tables.units import plain_number

NUMBER = re.compile(r"[-+]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:e[-+]?\d+)?", re.I | re.ASCII)
CLOCK = re.compile(r"(\d{1,2}):([0-5]\d):([0-5]\d(?:[.,]\d+)?)", re.ASCII)
# a date, or a clock of 12 hours, or one without seconds: what dateutil is asked about
DATED = re.compile(
    r"\d{1,4}[-/.]\d{1,2}[-/.]\d{1,4}([T ,]+\d{1,2}:\d\d.*)?|\d{1,2}:\d\d(:\d\d([.,]\d+)?)?( "
    r"?[ap]\.?m\.?)?"
    r"|\d{1,2} \w{3,9} \d{4}.*|\w{3,9} \d{1,2},? \d{4}.*",
    re.I | re.ASCII,
)
FIELDS = re.compile(r"(\d{1,2})[-/.](\d{1,2})[-/.](\d{2,4})", re.ASCII)
DAY_S = 86400.0
YEARS = (978_307_200.0, 4_102_444_800.0)  # 2001 to 2100, as seconds since 1970
UNITS = {
    1.0: {"s", "sec", "second", "seconds"},
    1e-3: {"ms", "msec", "millis", "milliseconds"},
    1e-6: {"µs", "us", "usec", "micros", "microseconds"},
    60.0: {"min", "minute", "minutes"},
    3600.0: {"h", "hour", "hours"},
}
UNDERSTOOD = (
    "seconds, ms, µs, min, ISO 8601 (2026-11-23T10:00:05), seconds since 1970, a clock (23:59:50, "
    "11:59:50 PM), a date and clock (23.11.2026 10:00:05)"
)


class NoTime(ValueError):
    """A cell that is no time; its index in the column."""

    def __init__(self, index: int) -> None:
        super().__init__(index)
        self.index = index


@dataclass(frozen=True)
class Times:
    """A column as seconds, NaN where a cell is none; `notes` say what had to be assumed, if it
    matters.
    """

    seconds: list[float]
    notes: tuple[Remark, ...] = ()


def unit_of(words: set[str]) -> float | None:
    """Seconds to the unit that a header's words name, or None."""
    return next((scale for scale, names in UNITS.items() if words & names), None)


def read_times(cells: Sequence[str], unit_s: float | None) -> Times:
    """A column of times as seconds from any origin.

    `unit_s`: seconds to the header's unit; None where it names none. Raises NoTime if no cell at
    all is a time; it names the first.
    """
    first = next((k for k, cell in enumerate(cells) if cell.strip()), 0)
    sample = [c.strip() for c in cells if c.strip()][:50]
    numeric = sum(NUMBER.fullmatch(c) is not None for c in sample)
    if numeric >= max(len(sample) / 2, 1):
        return Times(_numbers(cells, unit_s))
    clocks = sum(CLOCK.fullmatch(c) is not None for c in sample)
    if clocks >= max(len(sample) / 2, 1):
        return Times(past_midnight([_of_day(c) for c in cells]))
    day_first, notes = _order(cells)
    seconds = [_dated(c, day_first) for c in cells]
    if all(math.isnan(s) for s in seconds):
        raise NoTime(first)
    if not any(FIELDS.search(c) or "-" in c for c in sample):
        seconds = past_midnight(seconds)
    return Times(seconds, notes)


def seconds(text: str) -> float:
    """One time as seconds from any origin; NaN where the text is none. Clock times count from
    midnight.
    """
    try:
        return read_times([text], None).seconds[0]
    except NoTime:
        return math.nan


def _numbers(cells: Sequence[str], unit_s: float | None) -> list[float]:
    """Numbers in the header's unit; without one, seconds, or an epoch in s, ms, µs or ns by its
    size.
    """
    values = [plain_number(c.strip()) if NUMBER.fullmatch(c.strip()) else math.nan for c in cells]
    if unit_s is not None:
        return [v * unit_s for v in values]
    known = sorted(v for v in values if math.isfinite(v))
    middle = known[len(known) // 2] if known else 0.0
    scale = next((s for s in (1.0, 1e-3, 1e-6, 1e-9) if YEARS[0] <= middle * s <= YEARS[1]), 1.0)
    return [v * scale for v in values]


def _of_day(text: str) -> float:
    found = CLOCK.fullmatch(text.strip())
    if not found:
        return math.nan
    hour, minute, second = found.groups()
    return int(hour) * 3600 + int(minute) * 60 + plain_number(second)


def past_midnight(times: list[float]) -> list[float]:
    """Clock times with a day added after each fall of more than half a day."""
    out, days, last = [], 0.0, None
    for time in times:
        if last is not None and time + days < last - DAY_S / 2:
            days += DAY_S
        out.append(time + days)
        last = out[-1] if not math.isnan(time) else last
    return out


def _order(cells: Sequence[str]) -> tuple[bool, tuple[Remark, ...]]:
    """Whether the day comes first, and a word on it where the file cannot tell and it matters."""
    fields = [m.groups() for c in cells if (m := FIELDS.search(c)) and len(m[1]) <= 2]
    if not fields or any(int(first) > 12 for first, _, _ in fields):
        return True, ()
    if any(int(second) > 12 for _, second, _ in fields):
        return False, ()
    if any("." in c for c in cells[:5]) and all("/" not in c for c in cells[:5]):
        return True, ()
    if len(set(fields)) < 2:
        return True, ()
    spans = []
    for day_first in (True, False):
        values = [_dated(c, day_first) for c in cells]
        known = [v for v in values if math.isfinite(v)]
        spans.append(max(known, default=0.0) - min(known, default=0.0))
    day_first = spans[0] <= spans[1]
    return day_first, (Remark("day-or-month", first="day" if day_first else "month"),)


def _dated(text: str, day_first: bool) -> float:
    """A date and clock as seconds since 2000; NaN where it is none."""
    text = text.strip()
    if not DATED.fullmatch(text) and not (len(text) >= 10 and text[4:5] == "-"):
        return math.nan
    moment = _iso(text) or _asked_dateutil(text, day_first)
    if moment is None:
        return math.nan
    if moment.tzinfo is not None:
        moment = moment.astimezone(UTC).replace(tzinfo=None)
    return (moment - datetime(2000, 1, 1)).total_seconds()


def _iso(text: str) -> datetime | None:
    try:
        return datetime.fromisoformat(text.replace(",", ".") if text[4:5] == "-" else text)
    except ValueError:
        return None


def _asked_dateutil(text: str, day_first: bool) -> datetime | None:
    from dateutil import parser

    try:
        found: datetime = parser.parse(
            re.sub(r",(\d+)", r".\1", text) if re.search(r":\d\d,\d", text) else text,
            dayfirst=day_first,
            default=datetime(2000, 1, 1),
        )
    except (ValueError, OverflowError):
        return None
    return found
