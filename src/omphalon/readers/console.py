"""Temperature logs as a serial console shows them: report lines among any other chatter."""

from __future__ import annotations

import math
import re

import numpy as np

from omphalon.errors import UnknownFormat, UsageError
from omphalon.heaters import kind_of
from omphalon.readers import clock
from omphalon.readers.columns import LogColumns, Wanted
from omphalon.readers.text import Text
from omphalon.remarks import Remark
from omphalon.reports import SIGN, Heating, report_of

FEWEST = 3  # report lines that make a console's log
FAN = re.compile(r"\bM10([67])\b(?!.*\bP[1-9])(?:.*?\bS\s*(\d+(?:\.\d+)?))?")  # the first fan's
MOST_FAN = 255.0  # of a line that names no speed


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
        mark = kind_of(want).mark + want.partition(" ")[2]
        raise UnknownFormat(
            f"{text.source}: no report lines of the {want} ({mark}:… /…) found",
            "choose with --heater",
        )
    notes = []
    several = (report_of(line) for line in text.lines if line.count(":") > 1)
    if how.heater is None and any(one is not None and len(one.heaters) > 1 for one in several):
        notes.append(Remark("cycled-heater", {"heater": want}))
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


def _reports(text: Text, heater: str) -> list[tuple[str, Heating, float]]:
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


def _busier(lines: list[str]) -> str:
    """The heater whose power went up and down more often; without powers, the one whose temperature
    moved furthest.
    """
    reported: dict[str, list[Heating]] = {"hotend": []}
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
