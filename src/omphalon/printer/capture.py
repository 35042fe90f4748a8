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
from omphalon.errors import LinkFault, UnwritableFile, echoed
from omphalon.picture import Status
from omphalon.printer.course import Course, Moment
from omphalon.printer.guard import Guard
from omphalon.printer.link import Link
from omphalon.reports import Heating, Report

HEAD = "time_s,temperature_c,target_c,power_counts"
BACK_S = 1.0  # a printer's clock that goes back by more has started anew
LEAP_S = 10.0  # and one that leaps further ahead may be misheard
FEW = 5  # reports, of which the first may have been misheard


View = Callable[[Status], None]


class ReportClock:
    """Times of reports from the first one on: the printer's own where it stamps its reports with
    seconds, else those at which they came. A stamp out of turn is a slip of the wire, unless three
    in a row agree with one another.
    """

    def __init__(self) -> None:
        self.first: dict[bool, float] = {}
        self.last_s = 0.0
        self.count = 0
        self.odd: list[float] = []

    def time_of(self, report: Report, now_s: float) -> float | None:
        """Seconds since the first report; None where its stamp is a slip.

        Raises
        ------
        LinkFault
            If the printer's clock goes back.
        """
        try:
            own, stamped = float(report.stamp), True
        except ValueError:
            own, stamped = now_s, False
        time = own - self.first.setdefault(stamped, own)
        if not -BACK_S <= time - self.last_s <= LEAP_S:
            self.odd = [*self.odd[-2:], time]
            steps = [b - a for a, b in zip(self.odd, self.odd[1:], strict=False)]
            if len(self.odd) < 3 or not all(0 <= step <= LEAP_S for step in steps):
                return None
            if time < self.last_s and self.count >= FEW:
                raise LinkFault(
                    "the printer's clock goes back: it has started anew",
                    "what was not stored is lost: begin again",
                )
            if time < self.last_s:  # the first stamp of all was the slip
                self.first[stamped] -= self.last_s + sum(steps) - time
                time = self.last_s + sum(steps)
        self.odd, self.count, self.last_s = [], self.count + 1, max(time, self.last_s)
        return time


class Log:
    """A table that grows by one line at a time, each on its way to the disk when it is written."""

    def __init__(self, file: IO[bytes], path: str, lines: list[str]) -> None:
        self.file, self.path, self.rows = file, path, 0
        self._write(f"# written by omphalon {__version__}")
        for line in lines:
            self._write(f"# sent: {line}")
        self._write(HEAD)

    def add(self, time_s: float, seen: Heating) -> None:
        """One report; what it does not say stays empty."""
        cells = (
            f"{time_s:.3f}",
            f"{seen.temperature_c:g}",
            "" if math.isnan(seen.target_c) else f"{seen.target_c:g}",
            "" if math.isnan(seen.power) else f"{seen.power:g}",
        )
        self._write(",".join(cells))
        self.rows += 1

    def _write(self, line: str) -> None:
        try:
            self.file.write(line.encode() + b"\n")
        except OSError as error:
            raise UnwritableFile(
                f"{echoed(self.path)}: cannot be written any more ({error.strerror}); it holds "
                f"{self.rows} reports",
                "make room, and begin again",
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
    link: Link,
    course: Course,
    heater: str,
    guard: Guard,
    log: Log | None,
    view: View,
    every_s: float = 1.0,
) -> Captured:
    """Put the printer through a course, and keep what it reports.

    Parameters
    ----------
    link : on which a printer answers
    course : what is done
    heater : hotend or bed, the one that is written down
    guard : looks at every report
    log : None: nothing is kept
    view : is shown every report
    every_s : wanted between reports, where the printer has to be asked for each

    Raises
    ------
    LinkFault, Unsafe, UnwritableFile
        With the log so far kept; the heaters are the caller's to switch off.
    """
    times, queue = ReportClock(), course.start()
    count, highest, powered, time = 0, -math.inf, False, 0.0
    next_s = -math.inf  # when a report is asked for next
    ask = link.line("report")
    while not course.over or queue:
        now = link.clock()
        if not link.waiting:
            if link.dialogue.refused is not None:
                _refuse(link)
            if queue:
                link.begin(queue.pop(0), slow=True)
            elif ask is not None and not link.reporting and now >= next_s:
                next_s = max(next_s + every_s, now)
                link.begin(ask, again_s=2.0)
        for one in link.pump():
            if one.report is None or heater not in one.report.heaters:
                continue
            stamp = times.time_of(one.report, link.clock())
            if stamp is None:
                continue
            time = stamp
            seen = one.report.heaters[heater]
            if not guard.look(time, one.report):
                continue
            if log is not None:
                log.add(time, seen)
            count, highest = count + 1, max(highest, seen.temperature_c)
            powered = powered or not math.isnan(seen.power)
            queue += course.at(Moment(time_s=time, seen=seen, waiting=link.waiting))
            view(
                Status(
                    time_s=time,
                    heater=heater,
                    seen=seen,
                    told=course.told,
                    cycles=course.cycles(),
                    left_s=course.left_s(Moment(time_s=time, seen=seen, waiting=link.waiting)),
                )
            )
            if course.over:
                break
        link.check_alive()
    link.settle()
    return Captured(reports=count, seconds=time, highest_c=highest, with_power=powered)


def _refuse(link: Link) -> None:
    raise LinkFault(
        f"the printer refuses: {echoed(link.dialogue.refused or '')}",
        "look which lines it knows, and give them as a dialect: --dialect FILE",
    )
