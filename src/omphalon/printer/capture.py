"""A log kept while the printer is put through a course: every report is looked at, written down,
and shown.
"""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import IO

from omphalon import __version__
from omphalon.base.errors import LinkFault, UnwritableFile, echoed, shown
from omphalon.printer.course import Course, Moment
from omphalon.printer.link import Link
from omphalon.recordings.reports import Heating, Status
from omphalon.tables.heaters import Heater

HEAD = "time_s,temperature_c,target_c,power_counts,fan"
MOST_REMARKS, LONGEST_REMARK = 1000, 200  # of what a printer says, and letters of it
View = Callable[[Status], None]


class Log:
    """A table that grows by one line at a time, each on its way to the disk when it is written."""

    def __init__(self, file: IO[bytes], path: str, lines: list[str]) -> None:
        self.file, self.path, self.rows, self.remarks = file, path, 0, 0
        self._write(f"# written by omphalon {__version__}")
        for line in lines:
            self._write(f"# sent: {line}")
        self._write(HEAD)

    def add(self, time_s: float, seen: Heating, blows: bool | None) -> None:
        """One report, and whether the part fan blew; what is not known stays empty."""
        cells = (
            f"{time_s:.3f}",
            f"{seen.temperature_c:g}",
            "" if math.isnan(seen.target_c) else f"{seen.target_c:g}",
            "" if math.isnan(seen.power) else f"{seen.power:g}",
            "" if blows is None else f"{blows:d}",
        )
        self._write(",".join(cells))
        self.rows += 1

    def remark(self, words: str) -> None:
        """What the printer says beside its reports: the result of its own test among it."""
        if self.remarks < MOST_REMARKS:
            self._write(f"# received: {shown(words[:LONGEST_REMARK])}")
        self.remarks += 1

    def _write(self, line: str) -> None:
        try:
            self.file.write(line.encode() + b"\n")
        except OSError as error:
            raise UnwritableFile(
                f"{echoed(self.path)}: cannot be written any more ({error.strerror}); it holds "
                f"{self.rows} reports",
                "make room, and start over",
            ) from error


@contextlib.contextmanager
def new_log(path: str, lines: list[str]) -> Iterator[Log]:
    """A log at a path, unbuffered, so that what was reported is in it whatever happens."""
    try:
        file = open(path, "wb", buffering=0)  # noqa: SIM115
    except OSError as error:
        raise UnwritableFile(
            f"{echoed(path)}: cannot be written ({error.strerror})", "choose another place"
        ) from error
    with file:
        yield Log(file, path, lines)


@dataclass(frozen=True, kw_only=True)
class Captured:
    """What a capture came to."""

    reports: int
    seconds: float
    highest_c: float
    with_power: bool


def capture(
    link: Link, course: Course, heater: Heater, log: Log | None, view: View, every_s: float = 1.0
) -> Captured:
    """Put the printer through a course, and keep what it reports.

    `heater`: hotend or bed, the one that is written down. `log`: None: nothing is kept. `view`: is
    shown every report. `every_s`: wanted between reports, where the printer has to be asked for
    each. Raises LinkFault, Unsafe, UnwritableFile with the log so far kept; the heaters are the
    caller's to switch off.
    """
    queue = course.start()
    count, highest, powered, time = 0, -math.inf, False, 0.0
    while not course.over or queue:
        if not link.waiting:
            if link.dialogue.refused is not None:
                _refuse(link)
            if queue:
                link.begin(queue.pop(0), slow=True)
            else:
                link.ask_report(every_s)
        link.pump()
        if log is not None:
            for words in link.words:
                log.remark(words)
        for at_s, report in link.reports:
            seen = report.heaters.get(heater)
            if seen is None or course.over:
                continue
            time = at_s
            if log is not None:
                log.add(time, seen, course.blows())
            count, highest = count + 1, max(highest, seen.temperature_c)
            powered = powered or not math.isnan(seen.power)
            moment = Moment(time_s=time, seen=seen, waiting=link.waiting)
            queue += course.at(moment)
            view(_status(course, heater, moment))
        link.check_alive()
    link.settle()
    course.end()
    return Captured(reports=count, seconds=time, highest_c=highest, with_power=powered)


def _status(course: Course, heater: Heater, moment: Moment) -> Status:
    return Status(
        time_s=moment.time_s,
        heater=str(heater),
        seen=moment.seen,
        doing=course.doing,
        cycles=course.cycles(),
        left_s=course.left_s(moment),
    )


def _refuse(link: Link) -> None:
    raise LinkFault(
        f"the printer refuses: {echoed(link.dialogue.refused or '')}",
        "look which lines it knows, and give them as a dialect: --dialect FILE",
    )
