"""Fulmar with the plug in: heaters that warm up in their own time, lines that are read, numbered,
checked, acknowledged, and take as long as they take. No port, no clock: time is handed to it.
"""

from __future__ import annotations

import functools
import math
import operator
import re
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from omphalon.standin.heater import STEP_S, Lanes, quantised
from omphalon.standin.kept import GAIN_SCALE, MachineSettings, copied
from omphalon.standin.loop import CONTROL_S, Regulator
from omphalon.standin.oscillation import Relay, Test
from omphalon.standin.samples import FULMAR_BED, FULMAR_HOTEND

NAME = "Fulmar, made up by the stand-in printer"
COUNTS = 127  # full power in its reports
FLOWS_C = 170.0  # below, the extruder does not move
AHEAD_S = 1.0  # of moves that it keeps in store before it acknowledges the next one
ARRIVED_WITHIN_C, NEAR_S = 2.0, 1.0  # within that, for so long, a heater has arrived
HEATERS = ("hotend", "bed", "hotend 1")
MARKS = {"hotend": ("T", "@"), "bed": ("B", "B@"), "hotend 1": ("T1", "@1")}
BUSY_S = 2.0
FRAME = re.compile(r"N(\d+) (.*)\*(\d+)$")
REST_S = {"hotend": 2.0, "bed": 4.0}  # least time that the test leaves the power on or off


@dataclass
class Heated:
    """One heater's loop: its target, its regulator, a test that has taken over."""

    target_c: float = 0.0
    power: float = 0.0
    regulator: Regulator | None = None
    relay: Relay | None = None
    cycles: int = 0
    reading_c: float = 0.0
    tested: list[tuple[float, float]] = field(default_factory=list)  # of a test: s, °C


@dataclass(kw_only=True)
class Ways:
    """How this one differs from other printers, or what is wrong with it."""

    reported: set[str] = field(default_factory=lambda: {"hotend", "bed"})
    counts: float | None = COUNTS  # full power in its reports; None: not told
    checks_early: bool = False  # line numbers as they come, also while a command is at work
    deaf: bool = False  # what ends a wait or halts is read only in its turn
    busy: bool = False  # at work it says so, and reports nothing
    heats_on: bool = False  # a target of 0 is acknowledged, and not obeyed
    tests: str = "done"  # or ignored, endless
    stuck_at: float | None = None  # what the hotend's sensor says
    stuck_on: set[str] = field(default_factory=set)  # heaters whose output is fully on
    scatter_c: float = 0.0  # of every reading, beside the sensor's own noise
    codes: bool = False  # hex numbers, macros, further codes that heat


class Machine:
    """The printer. `hear` is given lines, `advance` lets time pass and gives back what it says.

    `store`: is given the settings when they are to be stored. `made`: is given each line of a print
    or a feed that was carried out, for the desk. `stamped`: whether its reports carry its own time.
    """

    def __init__(
        self,
        kept: MachineSettings,
        store: Callable[[MachineSettings], None],
        made: Callable[[str, MachineSettings], None],
        stamped: bool = True,
        seed: int = 5,
    ) -> None:
        self.stored, self.store, self.made, self.stamped = kept, store, made, stamped
        self.kept = copied(kept)
        self.random = np.random.default_rng(seed)
        self.heaters = [FULMAR_HOTEND, FULMAR_BED, FULMAR_HOTEND]
        self.lanes = Lanes(self.heaters, 1)
        self.heated = {name: Heated() for name in HEATERS}
        self.tick = 0
        self.says: list[str] = []
        self.panel: list[str] = []  # what it would show on its front: heaters on, off, stored
        self.ways = Ways()
        self.start()

    def start(self) -> None:
        """Switched on, or restarted: what was not stored is gone; the heat stays."""
        self.kept = copied(self.stored)
        for name in HEATERS:
            self.aim(name, 0.0)
        self.inbox: deque[tuple[str, bool]] = deque()  # a line, and whether it was checked
        self.wait: Callable[[], bool] | None = None  # the line at work is done when it says so
        self.last_number: int | None = None
        self.report_s, self.next_report_s, self.next_busy_s = 0.0, 0.0, 0.0
        self.moving_until_s = 0.0
        self.feed_mm_s, self.place = 20.0, {"X": 0.0, "Y": 0.0, "Z": 0.0}
        self.lanes.fan = False
        self.says.append("start")

    @property
    def now_s(self) -> float:
        return self.tick * STEP_S

    def hear(self, line: str) -> None:
        """A line that came in; what ends a wait is read at once."""
        frame = FRAME.match(line)
        bare = (frame[2] if frame else line).strip()
        if bare == "M112" and not self.ways.deaf:
            self._halt()
            return
        if bare == "M108" and not self.ways.deaf:
            self.wait = None if self.wait is None else self._broken_off
        if self.ways.checks_early:
            known = self._unframed(line)
            if known is not None:
                self.inbox.append((known, True))
            return
        self.inbox.append((line, False))

    def _halt(self) -> None:
        self.panel.append("halted")
        self.ways.heats_on = False
        for name in HEATERS:
            self.aim(name, 0.0)
        self.inbox.clear()
        self.wait = None
        self.says += ["error: halted, switch me off and on"]

    def _broken_off(self) -> bool:
        for name, heated in self.heated.items():
            if heated.relay is not None:
                self.aim(name, 0.0)
        return True

    def advance(self, until_s: float) -> list[str]:
        """Let time pass; what it says meanwhile, line by line."""
        self._work()
        while self.now_s < until_s:
            self._step()
            self._work()
        said, self.says = self.says, []
        return said

    def _step(self) -> None:
        if self.tick % round(CONTROL_S / STEP_S) == 0:
            self._control()
        powers = [
            [1.0 if name in self.ways.stuck_on else self.heated[name].power] for name in HEATERS
        ]
        self.lanes.advance(np.array(powers))
        self.tick += 1
        if self.ways.busy and self.wait is not None:
            if self.now_s >= self.next_busy_s:
                self.next_busy_s = self.now_s + BUSY_S
                self.says.append("busy: at work")
        elif self.report_s and self.now_s >= self.next_report_s:
            self.next_report_s = self.now_s + self.report_s
            self.says.append(self._report())

    def _control(self) -> None:
        for n, name in enumerate(HEATERS):
            heater, heated = self.heaters[n], self.heated[name]
            noise_c = math.hypot(heater.noise_c, self.ways.scatter_c)
            noisy = self.lanes.sensor[n, 0] + self.random.normal(0, noise_c)
            heated.reading_c = float(quantised(noisy, heater.quantum_c))
            if name == "hotend" and self.ways.stuck_at is not None:
                heated.reading_c = self.ways.stuck_at
            if math.isnan(heated.reading_c):
                continue  # it heats on as before
            if heated.relay is not None:
                switches = heated.relay.switches
                heated.power = heated.relay.power(self.now_s, heated.reading_c)
                heated.tested.append((self.now_s, heated.reading_c))
                if heated.relay.switches != switches and heated.relay.heating:
                    self._say_cycle(heated, heated.relay)
                over = heated.relay.switches > 2 * heated.cycles
                if over and self.ways.tests != "endless":
                    self.aim(name, 0.0)
            elif heated.regulator is not None:
                kp, ki, kd = (g / GAIN_SCALE for g in self.kept.gains[name.split()[0]])
                heated.power = heated.regulator.power(
                    (kp, ki, kd), heated.target_c, heated.reading_c
                )

    def _say_cycle(self, heated: Heated, relay: Relay) -> None:
        """A cycle of a test in the printer's own words, and after the last one what it makes of it:
        ultimate gain and period, and gains by Ziegler and Nichols.
        """
        readings = [reading for _, reading in heated.tested]
        period_s = heated.tested[-1][0] - heated.tested[0][0]
        low, high = min(readings), max(readings)
        heated.tested = []
        number = relay.switches // 2
        if number > 1:  # the heat-up is none
            powers = f"middle {COUNTS * relay.middle:.0f} half {COUNTS * relay.swing:.0f}"
            self.says.append(f"swing {number - 1}: low {low:.2f} high {high:.2f} {powers}")
        if number == heated.cycles:
            ultimate = 4 * GAIN_SCALE * relay.swing / (math.pi * (high - low) / 2)
            kp, ki, kd = 0.6 * ultimate, 1.2 * ultimate / period_s, 0.075 * ultimate * period_s
            self.says.append(f"swing is over: ku {ultimate:.3f} tu {period_s:.2f} s")
            self.says.append(f"try kp {kp:.3f} ki {ki:.4f} kd {kd:.3f}")

    def aim(self, name: str, target_c: float) -> None:
        """Give a heater a target; 0 switches it off, a test on it ends."""
        heated = self.heated[name]
        if self.ways.heats_on and target_c == 0:
            return
        if target_c != heated.target_c or heated.relay is not None:
            self.panel.append(f"{name} {target_c:g}" if target_c else f"{name} off")
        heated.target_c, heated.relay, heated.power = target_c, None, 0.0
        heated.regulator = Regulator(heated.reading_c) if target_c else None

    def _report(self) -> str:
        stamp = f"{self.now_s:.2f} " if self.stamped else ""
        text = [(MARKS[name], self.heated[name]) for name in HEATERS if name in self.ways.reported]
        words = [f"{mark}:{one.reading_c:.2f} /{one.target_c:.2f}" for (mark, _), one in text]
        if self.ways.counts is not None:
            words += [f"{drive}:{one.power * self.ways.counts:.0f}" for (_, drive), one in text]
        return stamp + " ".join(words)

    def _work(self) -> None:
        """Go on with the line at work, then with those that wait."""
        while True:
            if self.wait is not None:
                if not self.wait():
                    return
                self.wait = None
                self.says.append("ok")
            if not self.inbox:
                return
            raw, known = self.inbox.popleft()
            line = raw if known else self._unframed(raw)
            if line is None:
                continue
            try:
                self._do(line)
            except (ValueError, KeyError, IndexError):
                self.says.append(f"error: cannot be done: {line[:80]}")
            if self.wait is None:
                self.says.append("ok")

    def _unframed(self, line: str) -> str | None:
        """The line without its number; None where it is asked for again."""
        frame = FRAME.match(line)
        if frame is None:
            if self.last_number is not None or re.match(r"N?\d|.*\*\d*$", line):
                self._again("no whole line")
                return None
            return line.strip()
        number, words = int(frame[1]), frame[2].strip()
        text = line[: line.rindex("*")].encode("latin-1", "replace")
        if functools.reduce(operator.xor, text) != int(frame[3]):
            self._again(f"check sum of line {number}")
            return None
        counted = self.last_number is None or number == self.last_number + 1
        if not counted and not words.startswith("M110"):
            self._again(f"line {number} out of turn")
            return None
        self.last_number = number
        return words

    def _again(self, why: str) -> None:
        self.says += [f"error: {why}", f"resend: {(self.last_number or 0) + 1}", "ok"]

    def _do(self, line: str) -> None:
        code, *words = line.split() or [""]
        named = {w[0]: w[1:] for w in words}
        if self.ways.codes and self._own_code(code, named):
            return
        if code in ("M104", "M109", "M140", "M190"):
            name = "hotend" if code in ("M104", "M109") else "bed"
            if name == "hotend" and named.get("T", "0") != "0":
                name = "hotend 1"
            self.aim(name, float(named["S"]))
            if code in ("M109", "M190"):
                self.wait = self._arrival(name)
        elif code == "M303" and self.ways.tests == "ignored":
            return
        elif code == "M112":
            self._halt()
        elif code == "M303":
            self._test("bed" if named["E"] == "-1" else "hotend", named)
        elif code in ("G0", "G1", "G28", "G4", "M400", "M84"):
            self._move(code, named, line)
        elif code in ("M106", "M107"):
            self.lanes.fan = code == "M106" and float(named.get("S", 255)) > 0
        elif code == "M105":
            self.says.append(self._report())
        elif code == "M155":
            self.report_s = float(named["S"])
            self.next_report_s = self.now_s + self.report_s
        elif code == "M115":
            self.says.append(f"tell: {NAME}")
        elif code == "M500":
            self.stored = copied(self.kept)
            self.store(self.stored)
            self.panel.append("stored")
        elif code == "M501":
            self.kept = copied(self.stored)
        elif code == "M503":
            self.says += [f"tell: {x}" for x in (f"{NAME}; what is set:", *self.kept.listed())]
        elif code not in ("", "M108", "M141", "M110", "M117", "M82", "M83", "G21", "G90", "G92"):
            if not self.kept.take(code, words):
                self.says.append(f'error: unknown command "{line[:80]}"')
            elif code in ("LEAD", "PUSH"):
                self.made(line, self.kept)

    def _own_code(self, code: str, named: dict[str, str]) -> bool:
        """A code that only some controllers know; whether it was one."""
        if code in ("M104", "M109") and named.get("S", "").lower().startswith("0x"):
            self.aim("hotend", float(int(named["S"], 16)))
        elif code in ("M568", "G10") and "S" in named:
            self.aim("hotend", float(named["S"]))
        elif code == "M98":
            self.aim("hotend", 390.0)
        else:
            return False
        return True

    def _arrival(self, name: str) -> Callable[[], bool]:
        since = math.inf

        def arrived() -> bool:
            nonlocal since
            heated = self.heated[name]
            if abs(heated.reading_c - heated.target_c) > ARRIVED_WITHIN_C and heated.target_c:
                since = math.inf
                return False
            since = min(since, self.now_s)
            return self.now_s - since >= NEAR_S

        return arrived

    def _test(self, name: str, named: dict[str, str]) -> None:
        target, heated = float(named["S"]), self.heated[name]
        self.aim(name, target)
        test = Test(target_c=target, cycles=int(named["C"]), rest_s=REST_S[name])
        heated.relay, heated.cycles, heated.regulator = Relay(test), test.cycles, None
        heated.relay.since = self.now_s
        self.wait = lambda: heated.relay is None

    def _move(self, code: str, named: dict[str, str], line: str) -> None:
        spans = {"G28": 2.0, "G4": float(named.get("S", 0)), "M84": 0.0, "M400": 0.0}
        span = spans.get(code, 0.0)
        if code in ("G0", "G1"):
            if "E" in named and self.heated["hotend"].reading_c < FLOWS_C:
                self.says.append("error: too cold to feed")
                return
            self.feed_mm_s = float(named.get("F", 60 * self.feed_mm_s)) / 60
            goal = {axis: float(named.get(axis, was)) for axis, was in self.place.items()}
            way = math.dist(goal.values(), self.place.values()) or abs(float(named.get("E", 0)))
            self.place = goal
            push = self.kept.push_mm_s2
            top = min(self.feed_mm_s, math.sqrt(push * way)) or 1.0
            span = way / top + top / push
        self.moving_until_s = max(self.moving_until_s, self.now_s) + span
        self.made(line, self.kept)
        ahead = 0.0 if code in ("M400", "M84", "G4") else AHEAD_S
        self.wait = lambda: self.moving_until_s - self.now_s <= ahead
