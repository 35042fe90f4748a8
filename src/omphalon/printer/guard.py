"""Whether a heater may go on: looked at with every report. Knows no port."""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass, field

from omphalon.constants import OVER_TARGET_C
from omphalon.errors import Unsafe
from omphalon.quantities import BED_USUAL_C, HOTEND_USUAL_C
from omphalon.reports import Report, full_power

MOST_C = {"hotend": HOTEND_USUAL_C, "bed": BED_USUAL_C}  # where no target is known
STILL_S = 60.0
RISE_C = 1.0  # least rise in that time at full power
NEAR_C = 5.0  # below its target a heater at full power must rise
LEAST_C = -30.0  # below, no printer stands: a sensor that is not there
MOST_READING_C = 1000.0
MOST_JUMP_C_S = 25.0  # no heater of a printer changes its block so fast
IN_A_ROW = 3


@dataclass
class _Seen:
    """One heater so far: highest power, highest target, and readings since it is at full power."""

    most_power: float = 0.0
    target_c: float = 0.0
    since: deque[tuple[float, float]] = field(default_factory=deque)
    last: tuple[float, float] | None = None
    odd: int = 0  # readings in a row that cannot be; a single one may be a slip of the wire


class Guard:
    """Ends a run whose reading goes too high, jumps, or stands still at full power.

    Parameters
    ----------
    max_temp_c : for the heater that is watched; None: 25 °C past its highest target, or the usual
        limit of its kind where none is known
    targets_c : of heaters whose target the printer does not report during a test, by name
    """

    def __init__(
        self, watched: str, max_temp_c: float | None, targets_c: dict[str, float] | None = None
    ) -> None:
        self.watched, self.max_temp_c = watched, max_temp_c
        self.targets_c = targets_c or {}
        self.seen = {name: _Seen(target_c=self.targets_c.get(name, 0.0)) for name in MOST_C}

    def look(self, time_s: float, report: Report) -> bool:
        """Look at a report; whether its readings can be: a single one that cannot is a slip of the
        wire.

        Raises
        ------
        Unsafe
            With the heater, the reading and the reason.
        """
        sound = True
        for name, now in report.heaters.items():
            seen, reading = self.seen[name], now.temperature_c
            seen.target_c = max(seen.target_c, 0.0 if math.isnan(now.target_c) else now.target_c)
            fault = self._fault(name, seen, time_s, reading)
            seen.odd = 0 if fault is None else seen.odd + 1
            if fault is not None:
                if seen.odd >= IN_A_ROW:
                    raise fault
                sound = False
                continue
            seen.last = (time_s, reading)
            power = 0.0 if math.isnan(now.power) else now.power
            seen.most_power = max(seen.most_power, power)
            target = now.target_c if now.target_c > 0 else self.targets_c.get(name, 0.0)
            self._stands_still(name, seen, time_s, reading, power, target)
        return sound

    def _most(self, name: str) -> float:
        if name == self.watched and self.max_temp_c is not None:
            return self.max_temp_c
        target = self.seen[name].target_c
        return target + OVER_TARGET_C if target > 0 else MOST_C[name]

    def _fault(self, name: str, seen: _Seen, time_s: float, reading: float) -> Unsafe | None:
        """What is wrong with one reading by itself, or beside the last one."""
        if not LEAST_C < reading < MOST_READING_C:
            return Unsafe(
                f"the {name} reads {reading:g} °C: its sensor is broken or loose",
                "mend it before anything is heated",
            )
        most = self._most(name)
        if reading > most:
            return Unsafe(
                f"the {name} reads {reading:g} °C, above {most:g} °C",
                "--max-temp sets the limit, if it was meant so",
            )
        if seen.last is None:
            return None
        gone, jump = max(time_s - seen.last[0], 1.0), abs(reading - seen.last[1])
        if jump <= MOST_JUMP_C_S * gone:
            return None
        return Unsafe(
            f"the {name} jumps from {seen.last[1]:g} to {reading:g} °C: a loose wire of its sensor",
            "mend it before anything is heated",
        )

    def _stands_still(
        self, name: str, seen: _Seen, time_s: float, reading: float, power: float, target: float
    ) -> None:
        if power < 0.95 * full_power(seen.most_power) or reading > target - NEAR_C:
            seen.since.clear()
            return
        seen.since.append((time_s, reading))
        first = seen.since[0]
        if time_s - first[0] < STILL_S:
            return
        while len(seen.since) > 1 and time_s - seen.since[1][0] >= STILL_S:
            seen.since.popleft()
        if reading - seen.since[0][1] < RISE_C:
            raise Unsafe(
                f"the {name} has been heated at full power for a minute and reads {reading:g} °C, "
                f"{seen.since[0][1]:g} °C before",
                "look at its sensor and its heater cartridge: one of them is loose or broken",
            )
