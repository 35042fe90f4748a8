"""What a printer is put through while it is watched: each course is handed one report after another
and says which lines to send, and when it is over. Knows no port.
"""

from __future__ import annotations

import math
from collections import deque
from dataclasses import MISSING, dataclass, field, fields
from typing import Any

from omphalon.base.errors import LinkFault
from omphalon.recordings.reports import Heating
from omphalon.tables.heaters import Heater

HOLD_WITHIN_C = 10.0  # where a hold begins, as `heater check` counts it
BEGUN_C = 3.0  # by so much of a rise, where neither target nor power are reported
FEWEST_CYCLES = 3  # a test that ends with fewer did not take place
COLD_C, WARM_C = 30.0, 45.0
COOLS_S, COOLS_C = 120.0, 1.0  # a heater that cools slower than that is as cold as it gets


@dataclass(frozen=True, kw_only=True)
class Moment:
    """One report of the heater that is watched."""

    time_s: float
    seen: Heating
    waiting: bool  # the last line is not acknowledged yet


@dataclass
class Course:
    """What is done while reports come in: `doing` is what is going on."""

    doing: str = field(default="", kw_only=True)
    over: bool = field(default=False, kw_only=True)

    def start(self) -> list[str]:
        """Lines to begin with."""
        return []

    def every_line(self) -> list[str]:
        """All lines that it may send, in their order."""
        return self.start()

    def at(self, moment: Moment) -> list[str]:
        """Lines to send at this report; sets `over`."""
        raise NotImplementedError

    def left_s(self, moment: Moment) -> float | None:
        """Seconds that remain, where that can be told."""
        return None

    def cycles(self) -> int | None:
        """Times the power went on so far, where that says something."""
        return None

    def blows(self) -> bool | None:
        """Whether the part fan was sent on; None where the course leaves it as it is."""
        return None

    def end(self) -> None:
        """Say what is wrong with a course that is over, if anything is; LinkFault."""

    def given(self) -> dict[str, Any]:
        """What it was made with."""
        bare = (f for f in fields(self) if f.default is MISSING and f.default_factory is MISSING)
        made = {f.name: getattr(self, f.name) for f in bare}
        return made | ({"heater": str(made["heater"])} if "heater" in made else {})


@dataclass
class _Turns:
    """Counts how often the power goes on."""

    count: int = 0
    last_s: deque[float] = field(default_factory=lambda: deque(maxlen=4))
    on: bool = False
    most: float = math.nan  # power that was reported

    def see(self, moment: Moment) -> None:
        power = moment.seen.power
        if math.isnan(power):
            return
        self.most = max(power, 0.0 if math.isnan(self.most) else self.most)
        on = power > 0.5 * self.most > 0
        if on and not self.on:
            self.count += 1
            self.last_s.append(moment.time_s)
        self.on = on

    def left_s(self, wanted: int, now_s: float) -> float | None:
        """Seconds until so many cycles are done, by the last ones; the heat-up is none."""
        if self.count < 4:
            return None
        period = (self.last_s[-1] - self.last_s[0]) / (len(self.last_s) - 1)
        return max(0.0, (wanted + 2 - self.count) * period - (now_s - self.last_s[-1]))


@dataclass
class Watching(Course):
    """Nothing but looking, after the user's own lines; for a time, or until what they heated has
    been off for long, or until Ctrl-C.
    """

    lines: list[str]
    for_s: float | None
    heater: Heater
    doing: str = field(default="watching", kw_only=True)
    turns: _Turns = field(default_factory=_Turns)
    first_s: float | None = None
    heated: bool = False
    quiet_since: float | None = None

    def start(self) -> list[str]:
        return list(self.lines)

    def at(self, moment: Moment) -> list[str]:
        self.first_s = moment.time_s if self.first_s is None else self.first_s
        self.turns.see(moment)
        if self.for_s is not None:
            self.over = moment.time_s - self.first_s >= self.for_s
        elif self.lines:
            self.heated |= moment.seen.target_c > 0 or moment.seen.power > 0
            idle = self.heated and moment.seen.off and not moment.waiting
            self.quiet_since = (self.quiet_since or moment.time_s) if idle else None
            since = moment.time_s if self.quiet_since is None else self.quiet_since
            self.over = moment.time_s - since >= self.heater.kind.quiet_s
        return []

    def left_s(self, moment: Moment) -> float | None:
        if self.for_s is None or self.first_s is None:
            return None
        return max(0.0, self.for_s - (moment.time_s - self.first_s))

    def cycles(self) -> int | None:
        return self.turns.count if self.turns.count > 2 else None


@dataclass
class Oscillation(Course):
    """The controller's own test: one line, which is acknowledged when it is over. Where it is
    acknowledged at once, the test is over when the heater has been off for long.
    """

    line: str
    heater: Heater
    target_c: float
    fan: str | None
    wanted: int
    doing: str = field(default="oscillation test", kw_only=True)
    turns: _Turns = field(default_factory=_Turns)
    quiet_since: float | None = None
    waited: bool = False  # the line was still unacknowledged once the heater had been on
    first: Moment | None = None
    begun: bool = False

    def start(self) -> list[str]:
        return [*([self.fan] if self.fan else []), self.line]

    def at(self, moment: Moment) -> list[str]:
        self.turns.see(moment)
        self.first = self.first or moment
        heated = self.turns.count > 0 or moment.seen.target_c > 0
        rise = moment.seen.temperature_c - self.first.seen.temperature_c
        self.begun |= heated or rise > BEGUN_C
        gone = moment.time_s - self.first.time_s
        if not (self.begun or moment.waiting) and gone > self.heater.kind.begins_s:
            raise LinkFault(
                f"the printer has taken the line of its test, and after {gone:.0f} s nothing shows "
                "that it runs",
                "look which lines it knows, and give them as a dialect: --dialect FILE",
            )
        if gone > self.heater.kind.test_s:
            raise LinkFault(
                f"the test has not ended after {gone / 60:.0f} minutes", "look at the printer"
            )
        self.waited |= heated and moment.waiting
        idle = self.begun and moment.seen.off
        if not idle:
            self.quiet_since = None
        elif self.quiet_since is None:
            self.quiet_since = moment.time_s
        quiet = self.quiet_since is not None and (
            moment.time_s - self.quiet_since >= self.heater.kind.quiet_s
        )
        self.over = quiet or (self.waited and not moment.waiting)
        return []

    def left_s(self, moment: Moment) -> float | None:
        return self.turns.left_s(self.wanted, moment.time_s)

    def cycles(self) -> int | None:
        return max(0, self.turns.count - 1)

    def blows(self) -> bool | None:
        return True if self.fan else None

    def end(self) -> None:
        done = self.turns.count - 1
        if not math.isnan(self.turns.most) and done < min(FEWEST_CYCLES, self.wanted):
            raise LinkFault(
                f"the test ended after {max(done, 0)} of {self.wanted} cycles: it was broken off, "
                "or the printer gave it up",
                "look at its own words and at its panel, and start over",
            )


@dataclass
class HeatAndHold(Course):
    """Heat up and hold; lines that are sent later: the part fan on, another target, and back. `fan`
    is the line that switches it on, where it is off to begin with.
    """

    target_c: float
    lines: list[str]  # that begin it: fan off, target
    later: list[tuple[float, str]]  # so many s after it has come near its target
    hold_s: float
    fan: str | None
    doing: str = field(default="heat up and hold", kw_only=True)
    near_s: float | None = None
    sent: int = 0

    def start(self) -> list[str]:
        return list(self.lines)

    def every_line(self) -> list[str]:
        return [*self.lines, *(line for _, line in self.later)]

    def at(self, moment: Moment) -> list[str]:
        if self.near_s is None and moment.seen.temperature_c >= self.target_c - HOLD_WITHIN_C:
            self.near_s = moment.time_s
        if self.near_s is None:
            return []
        held = moment.time_s - self.near_s
        self.over = held >= self.hold_s
        due = [line for after, line in self.later[self.sent :] if held >= after]
        self.sent += len(due)
        return due

    def blows(self) -> bool | None:
        return None if self.fan is None else self.fan in (x for _, x in self.later[: self.sent])

    def left_s(self, moment: Moment) -> float | None:
        if self.near_s is None:
            return None
        return max(0.0, self.hold_s - (moment.time_s - self.near_s))


@dataclass
class Cooling(Course):
    """Wait until a heater is cold: a test starts from room temperature."""

    doing: str = field(default="waiting until it is cold", kw_only=True)
    past: list[tuple[float, float]] = field(default_factory=list)

    def at(self, moment: Moment) -> list[str]:
        now = (moment.time_s, moment.seen.temperature_c)
        self.past = [p for p in self.past if p[0] > now[0] - COOLS_S - 5] + [now]
        first = self.past[0]
        slow = now[0] - first[0] >= COOLS_S and first[1] - now[1] < COOLS_C
        self.over = now[1] < COLD_C or (slow and now[1] < WARM_C)
        return []


# what a course is called between the command and the keeper of its port
COURSES: dict[str, type[Course]] = {
    "watching": Watching,
    "oscillation": Oscillation,
    "hold": HeatAndHold,
    "cooling": Cooling,
}


def course_named(name: str, given: dict[str, Any]) -> Course:
    """A course as `given` says it was made."""
    heater = {"heater": Heater.named(given["heater"])} if "heater" in given else {}
    return COURSES[name](**given | heater)
