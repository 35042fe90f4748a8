"""Temperature logs as a serial console shows them: report lines among any other chatter."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

import numpy as np

from omphalon.arrays import Array
from omphalon.errors import UnknownFormat, UsageError
from omphalon.readers import clock
from omphalon.readers.log_columns import LogColumns, Wanted
from omphalon.readers.text import Text
from omphalon.recording import Note

FEWEST = 3  # report lines that make a console's log
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


def is_console(lines: list[str]) -> bool:
    """Whether the lines hold reports as a serial console shows them."""
    return sum(1 for line in lines[:4000] if SIGN.search(line)) >= FEWEST


def read_console(text: Text, how: Wanted) -> LogColumns:
    """Report lines among chatter. Without time stamps, `--every` seconds lie between two
    reports.
    """
    want = how.heater or _busier(text.lines)
    rows = _reports(text, want)
    if not rows:
        mark = "B" if want == "bed" else "T"
        raise UnknownFormat(
            f"{text.source}: no report lines of the {want} ({mark}:… /…) found",
            "choose with --heater",
        )
    notes = []
    if how.heater is None and any("B:" in x and "T:" in x for x in text.lines):
        told = f"the console shows more than one heater; the {want} is the one that was cycled"
        notes.append(Note("heater-guessed", told))
    if not text.whole:
        notes.append(Note("cut-last-row", "the last line has no end and was passed over"))
    times = _times(text.source, [r.stamp for r in rows], how)
    notes += [Note("date-order", times.told)] if times.told else []
    counts, target = [r.power for r in rows], [r.target_c for r in rows]
    return LogColumns(
        time_s=times.seconds,
        temperature_c=[r.temperature_c for r in rows],
        power=counts if not all(map(math.isnan, counts)) else None,
        target_c=target if not all(map(math.isnan, target)) else None,
        percent=False,
        notes=notes,
    )


@dataclass(frozen=True)
class _Report:
    """A report line of one heater; NaN where it says nothing."""

    stamp: str
    temperature_c: float
    target_c: float
    power: float


def _reports(text: Text, heater: str) -> list[_Report]:
    reading, drive = ("B", "B@") if heater == "bed" else ("T", "@")
    rows = []
    for line in text.lines[: len(text.lines) - (not text.whole)]:
        marks = {("T" if m[1] == "T0" else m[1]): m for m in REPORT.finditer(line)}
        if reading not in marks:
            continue
        stamp, mark, power = STAMP.match(line), marks[reading], marks.get(drive)
        goal = _plain(mark[3]) if mark[3] else math.nan
        counts = _plain(power[2]) if power else math.nan
        rows.append(_Report(stamp[1] if stamp else "", _plain(mark[2]), goal, counts))
    return rows


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
