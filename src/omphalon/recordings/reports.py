"""Lines in which a controller reports its temperatures, in a saved console and on a wire."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from omphalon.tables.heaters import HEATERS, Heater
from omphalon.tables.tools import Tool
from omphalon.tables.units import plain_number

NUMBER = r"[-+]?(?:\d+(?:[.,]\d+)?|(?i:nan|inf)(?![A-Za-z]))"
REPORT = re.compile(
    rf"(?:^|[^A-Za-z0-9@])(T\d?|B|C|@\d?|B@|C@)\s*:\s*({NUMBER})(?:\s*/\s*({NUMBER}))?", re.ASCII
)
SIGN = re.compile(rf"(?:^|[^A-Za-z0-9@])[TB]0?\s*:\s*{NUMBER}", re.ASCII)
STAMP = re.compile(
    r"^\W{0,20}(\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?"
    r"|\d{1,2}[./]\d{1,2}[./]\d{2,4},? \d{1,2}:\d\d:\d\d(?:[.,]\d+)?(?: ?[AaPp]\.?[Mm]\.?)?"
    r"|\d{1,2}:\d\d:\d\d(?:[.,]\d+)?(?: ?[AaPp]\.?[Mm]\.?)?|\d+(?:\.\d+)?)"
    r"(?=[\s\]>,;|:-])",
    re.ASCII,
)
LONGEST_REPORT = 4096  # letters of a line that are read: no controller says more in one
FULL_POWERS = (1.0, 100.0, 127.0, 255.0, 1023.0)  # what stands for full power


@dataclass(frozen=True, kw_only=True)
class Heating:
    """One heater in one report: reading and target in °C, power in the controller's own counts; NaN
    where it says nothing.
    """

    temperature_c: float
    target_c: float = math.nan
    power: float = math.nan

    @property
    def off(self) -> bool:
        """Whether the report itself says that it is off."""
        return self.target_c == 0 and not self.power > 0


@dataclass(frozen=True, kw_only=True)
class Status:
    """What is seen of a printer that is watched: the moment, what is going on, how far it is."""

    time_s: float
    heater: str
    seen: Heating
    doing: str
    cycles: int | None
    left_s: float | None


@dataclass(frozen=True, kw_only=True)
class Report:
    """One report line: its time stamp as it is written, and the heaters in it."""

    stamp: str
    heaters: dict[Heater, Heating]


def heater_of(mark: str) -> Heater:
    """The heater that a report calls `T0`, `T1`, `B` or `C`; `T` is the hotend in use."""
    kind = next(kind.name for kind in HEATERS.values() if kind.mark == mark[0])
    return Heater(kind, Tool(int(mark[1:] or 0)))


def report_of(line: str) -> Report | None:
    """The report in a line, or None where there is none.

    `line`: for example `12.5 T:23.40 /0.00 B:19.50 /75.00 @:0 B@:127`, amid any other words.
    """
    line = line[:LONGEST_REPORT]
    marks = {m[1]: m for m in REPORT.finditer(line)}
    readings = [mark for mark in marks if "@" not in mark]
    if not any(mark[0] in "TB" for mark in readings):
        return None
    drives = {mark: mark.replace("T", "@") if mark[0] == "T" else f"{mark}@" for mark in readings}
    if "T0" in readings:  # the tool in use is reported twice
        readings = [mark for mark in readings if mark != "T"]
        drives["T0"] = "@0" if "@0" in marks else "@"
    stamp = STAMP.match(line)
    return Report(
        stamp=stamp[1] if stamp else "",
        heaters={heater_of(m): _heating(marks[m], marks.get(drives[m])) for m in readings},
    )


def _heating(mark: re.Match[str], power: re.Match[str] | None) -> Heating:
    return Heating(
        temperature_c=plain_number(mark[2]),
        target_c=plain_number(mark[3]) if mark[3] else math.nan,
        power=plain_number(power[2]) if power else math.nan,
    )


def full_power(most: float) -> float:
    """What stands for full power, by the most that was seen of it."""
    return next((f for f in FULL_POWERS if f >= most), most)
