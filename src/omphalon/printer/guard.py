"""Whether the heaters may go on: looked at with every report, by the printer's own clock or ours,
and with every moment that none comes. Knows no port.
"""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass, field

from omphalon.base.errors import LinkFault, Unsafe
from omphalon.recordings.reports import Heating, Report
from omphalon.tables.constants import OVER_TARGET_C, SILENCE_S, UNWATCHED_S
from omphalon.tables.heaters import HOTEND, Heater

BACK_S = 1.0  # a printer's clock that goes back by more has restarted
LEAP_S = 10.0  # and one that leaps further ahead may be misheard
FEW = 5  # reports, of which the first may have been misheard
STILL_S = 60.0
RISE_C = 1.0  # least rise in that time at full power
RISES_BELOW_C = 5.0  # below its target a heater at full power must rise
FULL = 0.95  # of the most power that was reported: counts as full
LEAST_C = -30.0  # below, no printer stands: a missing sensor
MOST_READING_C = 1000.0
MOST_JUMP_C_S = 25.0  # no heater of a printer changes its block so fast
IN_A_ROW = 3
LONGEST_RUN_S = 12 * 3600.0  # whatever is heated, so long and no longer
AS_ASKED_C = 0.6  # a reported target is the one that was asked for: lines round it
AS_TESTED_C = 5.0  # the same while a controller's own test sets it
COOLS_BY_C = 5.0  # above its lowest reading so far, one that was hotter before has stopped to cool
PAST = 300  # readings kept of a heater that has come to its target: how it swings while it is on


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

        Raises LinkFault if the printer's clock goes back.
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
                    "the printer's clock goes back: it has restarted",
                    "what was not stored is lost: start over",
                )
            elif time < self.last_s:  # the first stamp of all was the slip
                self.first[stamped] -= self.last_s + sum(steps) - time
                time = self.last_s + sum(steps)
        self.before_s, self.last_s = self.last_s, max(time, self.last_s)
        self.odd, self.count = [], self.count + 1
        return time


@dataclass(frozen=True, kw_only=True)
class GuardLimits:
    """What a user may set: the most that one heater may read (None: 25 °C past its highest target,
    or the usual limit of its kind), how long it may take to its target (None: the limit of its
    kind), and how long a reading, and a user, may be awaited.
    """

    heater: Heater = HOTEND
    max_temp_c: float | None = None
    arrives_s: float | None = None
    silence_s: float = SILENCE_S
    waits_s: float = UNWATCHED_S


@dataclass(kw_only=True)
class _Watched:
    """One heater so far."""

    asked_c: float = 0.0  # by a line of ours, or left on by an earlier command
    before_c: float = 0.0  # by the line before it: reported until that one has come through
    hottest_asked_c: float = 0.0
    hot_c: float = -math.inf  # it was hotter than that when it was asked: on its way down
    asked_s: float = -math.inf  # when it was sent, by our clock
    by_test: bool = False  # the controller's own test runs: what it reports as target is its affair
    most_power: float = 0.0
    since: deque[tuple[float, float]] = field(default_factory=deque)  # at full power: time, reading
    last: tuple[float, float] | None = None
    now: Heating = Heating(temperature_c=math.nan)
    read_s: float = 0.0  # when it was last read, by our clock
    begun_s: float | None = None  # its way to the target, by the guard's clock
    odd: int = 0  # readings in a row that cannot be; a single one may be a slip of the wire
    unasked: int = 0  # reports in a row of a target that nobody asked for
    dropped: int = 0  # reports in a row in which the target is gone
    held: bool = False  # its target was reported once
    past: deque[tuple[float, float]] = field(default_factory=lambda: deque(maxlen=PAST))

    @property
    def target_c(self) -> float:
        return self.now.target_c if self.now.target_c > 0 else self.asked_c

    @property
    def on(self) -> bool:
        return self.asked_c > 0 or self.now.target_c > 0 or self.now.power > 0


@dataclass(frozen=True, kw_only=True)
class BeforeOff:
    """A heater while it was on: its target (nan: none is known), whether we have asked for it, and
    its readings near the target, time in s and °C.
    """

    target_c: float
    asked: bool
    readings: tuple[tuple[float, float], ...]


class Guard:
    """Ends a run in which a reading goes too high, jumps, stands still, is missing, or comes too
    late to its target; in which a heater is on that nobody asked for, or off at the printer's own
    wish.

    Two clocks are kept, the printer's (where it stamps its reports) and ours; of the two the one
    that has gone further counts, so that neither a stamp that stands still nor a fast one is
    believed.

    `limits`: what a user has set. `left_on`: heaters that an earlier command left on, with their
    targets: those were asked for.
    """

    def __init__(self, limits: GuardLimits, left_on: Mapping[Heater, float] | None = None) -> None:
        self.limits = limits
        self.left_on = {n: c for n, c in (left_on or {}).items() if math.isfinite(c)}
        self.heaters: dict[Heater, _Watched] = {}
        self.clock = ReportClock()
        self.running = False  # heaters that nobody asked for are switched off, in a run of ours
        self.begun_s: float | None = None  # since when something is heated
        self.report_s = self.first_s = 0.0

    def asked(
        self, heater: Heater, target_c: float, now_s: float, *, by_test: bool = False
    ) -> None:
        """A line of ours that gives a heater a target is on its way.

        `target_c`: 0 switches it off. `by_test`: the controller's own test will set it, and end it.
        """
        one = self.heaters.setdefault(heater, _Watched())
        one.before_c, one.asked_s = one.asked_c, now_s
        one.asked_c, one.by_test, one.held, one.dropped = target_c, by_test, False, 0
        one.read_s, one.begun_s = now_s, None
        one.hottest_asked_c = max(one.hottest_asked_c, target_c)
        one.hot_c = one.now.temperature_c if one.last is not None else math.inf
        one.since.clear()
        if target_c > 0:
            self.running = True
            self.begun_s = self.begun_s if self.begun_s is not None else now_s

    def over(self) -> None:
        """What was asked for is over: heaters off was sent, or a test has ended."""
        for one in self.heaters.values():
            one.asked_c, one.begun_s, one.now = 0.0, None, Heating(temperature_c=math.nan)
            one.hottest_asked_c = 0.0
            one.past.clear()
        self.left_on.clear()
        self.running, self.begun_s = False, None

    def before_off(self, heater: Heater) -> BeforeOff:
        """What is known of a heater that is about to be switched off."""
        one = self.heaters.get(heater, _Watched())
        target = max(one.asked_c, self.left_on.get(heater, 0.0))
        seen_c = one.now.target_c if one.now.target_c > 0 else math.nan
        return BeforeOff(
            target_c=seen_c if target == 0 else target, asked=target > 0, readings=tuple(one.past)
        )

    def on(self) -> dict[Heater, float]:
        """The heaters that are on, with their targets."""
        return {name: one.target_c for name, one in self.heaters.items() if one.on}

    def at_work(self, heater: Heater) -> bool:
        """Whether the reports show that a heater is on its way, or a test runs."""
        one = self.heaters.get(heater)
        if one is None or one.asked_c <= 0:
            return False
        if one.by_test:
            return one.now.target_c > 0 or one.now.power > 0
        return (
            one.now.target_c > 0 and abs(one.now.temperature_c - one.now.target_c) > RISES_BELOW_C
        )

    def look(self, report: Report, now_s: float) -> float | None:
        """Look at a report; its time in s since the first one, None where it holds a slip of the
        wire.

        Raises Unsafe, LinkFault with the heater, the reading and the reason.
        """
        time_s = self.clock.seconds_of(report, now_s)
        if time_s is None:
            return None
        self.first_s = self.first_s or now_s
        self.report_s = max(self.report_s, time_s)
        at_s = max(self.report_s, now_s - self.first_s)
        sound = True
        for heater, now in report.heaters.items():
            one = self.heaters.setdefault(heater, _Watched())
            fault = self._fault(heater, one, at_s, now)
            one.odd = 0 if fault is None else one.odd + 1
            if fault is not None:
                if one.odd >= IN_A_ROW:
                    raise fault
                sound = False
                continue
            one.now, one.last, one.read_s = now, (at_s, now.temperature_c), now_s
            self._unasked(heater, one, now_s)
            self._dropped(heater, one)
            self._late(heater, one, at_s)
            if one.begun_s == math.inf:
                one.past.append((at_s, now.temperature_c))
            self._stands_still(heater, one, at_s)
        return time_s if sound else None

    def tick(self, now_s: float) -> None:
        """Look at a moment, whether or not something was reported.

        Raises Unsafe if a heater is on that was not read for too long, or for ever.
        """
        for heater, one in self.heaters.items():
            unread = now_s - one.read_s
            if one.on and unread > self.limits.silence_s:
                raise Unsafe(
                    f"the {heater} is on, and was not read for {unread:.0f} s",
                    "look at cable and sensor; --silence sets how long it may take",
                )
        if self.begun_s is not None and now_s - self.begun_s > LONGEST_RUN_S:
            raise Unsafe(f"heaters have been on for {LONGEST_RUN_S / 3600:.0f} hours", "start over")

    def _most(self, heater: Heater, one: _Watched) -> float:
        """The most that a heater may read: ours, never what the printer reports as its target."""
        if heater == self.limits.heater and self.limits.max_temp_c is not None:
            return self.limits.max_temp_c
        asked = max(one.hottest_asked_c, self.left_on.get(heater, 0.0))
        if asked == 0:
            return heater.kind.usual_c
        return max(asked + OVER_TARGET_C, min(one.hot_c, heater.kind.usual_c) + COOLS_BY_C)

    def _fault(self, heater: Heater, one: _Watched, at_s: float, now: Heating) -> Unsafe | None:
        """What is wrong with one reading by itself, or beside the last one."""
        reading = now.temperature_c
        if not math.isfinite(reading) and not one.on and heater != self.limits.heater:
            return None  # a missing sensor, of a heater that nobody uses
        if not LEAST_C < reading < MOST_READING_C:
            return Unsafe(
                f"the {heater} reads {reading:g} °C: its sensor is broken or loose",
                "mend it before anything is heated",
            )
        one.hot_c = min(one.hot_c, reading)
        most = self._most(heater, one)
        if reading > most:
            return Unsafe(
                f"the {heater} reads {reading:g} °C, above {most:g} °C",
                "--max-temp sets the limit, if it was meant so",
            )
        if one.last is None:
            return None
        gone, jump = max(at_s - one.last[0], 1.0), abs(reading - one.last[1])
        if jump <= MOST_JUMP_C_S * gone:
            return None
        return Unsafe(
            f"the {heater} jumps from {one.last[1]:g} to {reading:g} °C: "
            "a loose wire of its sensor",
            "mend it before anything is heated",
        )

    def _unasked(self, heater: Heater, one: _Watched, now_s: float) -> None:
        """A target that no line of ours gave, on any heater; one that we end is reported until our
        line has come through, and said again where it is lost.
        """
        target = one.now.target_c
        on_its_way = target == one.before_c and now_s - one.asked_s < SILENCE_S
        asked = one.asked_c or self.left_on.get(heater, 0.0)
        alike = abs(target - asked) <= (AS_TESTED_C if one.by_test else AS_ASKED_C)
        strange = self.running and target > 0 and not alike and not on_its_way
        one.unasked = one.unasked + 1 if strange else 0
        if one.unasked >= IN_A_ROW:
            instead = f": here {asked:g} °C was" if asked else ""
            raise Unsafe(
                f"the {heater} has a target of {target:g} °C that was not asked for here{instead}",
                "somebody else heats it: at the printer, or with another program",
            )

    def _dropped(self, heater: Heater, one: _Watched) -> None:
        """A target that was there, and is gone without a line of ours."""
        if one.asked_c <= 0 or one.by_test:
            return
        one.held |= one.now.target_c > 0
        one.dropped = one.dropped + 1 if one.held and one.now.target_c == 0 else 0
        if one.dropped >= IN_A_ROW:
            raise LinkFault(
                f"the target of the {heater} was set to 0 at the printer",
                "somebody ended it there, or it tripped: look at its own words",
            )

    def _late(self, heater: Heater, one: _Watched, at_s: float) -> None:
        """A heater that does not come to its target."""
        if not one.on or one.target_c <= 0:
            one.begun_s = None
            return
        one.begun_s = at_s if one.begun_s is None else one.begun_s
        if one.now.temperature_c > one.target_c - RISES_BELOW_C:
            one.begun_s = math.inf  # it has arrived
        limit = heater.kind.arrives_s
        if heater == self.limits.heater and self.limits.arrives_s is not None:
            limit = self.limits.arrives_s
        if at_s - one.begun_s > limit:
            raise Unsafe(
                f"the {heater} has not come to {one.target_c:g} °C within {limit / 60:.2g} "
                f"minutes: it reads {one.now.temperature_c:g} °C",
                "look at its heater, its supply and its sensor",
            )

    def _stands_still(self, heater: Heater, one: _Watched, at_s: float) -> None:
        """A reading that does not rise at full power. Power that is not reported counts as full,
        and the most that was reported is what full means: nobody says what its scale is.
        """
        power, reading = one.now.power, one.now.temperature_c
        one.most_power = max(one.most_power, 0.0 if math.isnan(power) else power)
        full = math.isnan(power) or (power > 0 and power >= FULL * one.most_power)
        if not (one.on and full) or reading > one.target_c - RISES_BELOW_C:
            one.since.clear()
            return
        one.since.append((at_s, reading))
        if at_s - one.since[0][0] < STILL_S:
            return
        while len(one.since) > 1 and at_s - one.since[1][0] >= STILL_S:
            one.since.popleft()
        if reading - one.since[0][1] < RISE_C:
            words = "at full power" if power > 0 else "(its power is not reported)"
            raise Unsafe(
                f"the {heater} has been heated {words} for a minute and reads {reading:g} °C, "
                f"{one.since[0][1]:g} °C before",
                "look at its sensor and its heater cartridge: one of them is loose or broken",
            )
