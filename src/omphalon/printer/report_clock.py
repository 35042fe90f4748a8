"""The time of each report, in a printer's own seconds or in ours; slips of the wire passed over."""

from __future__ import annotations

from omphalon.errors import LinkFault
from omphalon.reports import Report

BACK_S = 1.0  # a printer's clock that goes back by more has started anew
LEAP_S = 10.0  # and one that leaps further ahead may be misheard
FEW = 5  # reports, of which the first may have been misheard


class ReportClock:
    """Times of reports from the first one on: the printer's own where it stamps its reports with
    seconds, else those at which they came. A stamp out of turn is a slip of the wire, unless three
    in a row agree with one another.
    """

    def __init__(self) -> None:
        self.first: dict[bool, float] = {}
        self.last_s = self.before_s = 0.0  # of the last report that was taken, and the one before
        self.count = 0
        self.odd: list[float] = []

    def seconds_of(self, report: Report, now_s: float) -> float | None:
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
            if self.count >= FEW and self.before_s - BACK_S <= self.odd[0] < self.last_s:
                self.last_s = time  # the last one taken was a slip ahead: these go on from before
            elif time < self.last_s and self.count >= FEW:
                raise LinkFault(
                    "the printer's clock goes back: it has started anew",
                    "what was not stored is lost: begin again",
                )
            elif time < self.last_s:  # the first stamp of all was the slip
                self.first[stamped] -= self.last_s + sum(steps) - time
                time = self.last_s + sum(steps)
        self.before_s, self.last_s = self.last_s, max(time, self.last_s)
        self.odd, self.count = [], self.count + 1
        return time
