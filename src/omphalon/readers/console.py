"""Temperature logs as a serial console shows them: report lines among any other chatter."""

from __future__ import annotations

import math

import numpy as np

from omphalon.arrays import Array
from omphalon.errors import UnknownFormat, UsageError
from omphalon.readers import clock
from omphalon.readers.columns import LogColumns, Wanted
from omphalon.readers.text import Text
from omphalon.remarks import Remark
from omphalon.reports import REPORT, SIGN, Heating, plain_number, report_of

FEWEST = 3  # report lines that make a console's log


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
        notes.append(Remark("cycled-heater", {"heater": want}))
    if not text.whole:
        notes.append(Remark("cut-line"))
    times = _times(text.source, [stamp for stamp, _ in rows], how)
    notes += times.notes
    counts, target = [r.power for _, r in rows], [r.target_c for _, r in rows]
    return LogColumns(
        time_s=times.seconds,
        temperature_c=[r.temperature_c for _, r in rows],
        power=counts if not all(map(math.isnan, counts)) else None,
        target_c=target if not all(map(math.isnan, target)) else None,
        percent=False,
        notes=notes,
    )


def _reports(text: Text, heater: str) -> list[tuple[str, Heating]]:
    """Time stamp and reading of one heater, line by line."""
    lines = text.lines[: len(text.lines) - (not text.whole)]
    found = (report for line in lines if (report := report_of(line)) is not None)
    return [(r.stamp, r.heaters[heater]) for r in found if heater in r.heaters]


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
    turned more often.
    """

    def values(mark: str) -> Array:
        return np.array(
            [plain_number(m[2]) for line in lines for m in REPORT.finditer(line) if m[1] == mark]
        )

    drives = {mark: int((np.abs(np.diff(values(mark))) > 5).sum()) for mark in ("@", "B@")}
    if any(drives.values()):
        return "bed" if drives["B@"] > drives["@"] else "hotend"
    swings = {
        mark: float(np.ptp(seen)) if len(seen := values(mark)) else 0.0 for mark in ("T", "B")
    }
    return "bed" if swings["B"] > swings["T"] else "hotend"
