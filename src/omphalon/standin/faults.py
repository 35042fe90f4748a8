"""What goes wrong between the stand-in printer and whoever talks to it, on demand."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from omphalon.standin.machine import Machine, Ways

LOST = 0.1  # share of the lines that are lost
NOISE = 0.002  # share of the bytes that are changed
SETS = ("M92", "M301", "M304", "LEAD", "STREAM", "PUSH", "CALM", "CEIL")


class Faulty:
    """A machine with faults, most of which strike so long after something was first heated."""

    def __init__(
        self, machine: Machine, faults: Iterable[str], after_s: float, seed: int = 3
    ) -> None:
        self.machine, self.faults, self.after_s = machine, set(faults), after_s
        self.random = np.random.default_rng(seed)
        self.heated_s: float | None = None
        self.struck = False
        self._begin(machine.ways)

    def _begin(self, ways: Ways) -> None:
        """What is so from the beginning."""
        ways.checks_early = "checks-early" in self.faults
        ways.deaf = "deaf" in self.faults
        ways.busy = "busy" in self.faults
        if "power-untold" in self.faults:
            ways.counts = None
        if "power-scale" in self.faults:
            ways.counts = 200.0
        if "second-hotend" in self.faults:
            ways.reported.add("hotend 1")
        for fault in ("test-ignored", "test-endless"):
            if fault in self.faults:
                ways.tests = fault.removeprefix("test-")

    def hear(self, data: bytes) -> bytes:
        """Bytes on their way in."""
        return self._changed(data) if "noise" in self.faults else data

    def take(self, line: str) -> str | None:
        """What it says to a line at once instead of doing it; None: it does it."""
        refused: tuple[str, ...] = SETS if "refuse" in self.faults else ()
        refused += ("M303",) if "test-refused" in self.faults else ()
        if any(f"{code} " in line for code in refused):
            number = line.split()[0][1:] if line.startswith("N") else ""
            if number.isdigit():
                self.machine.last_number = int(number)
            return "error: not allowed now"
        return None

    def loses(self) -> bool:
        """Whether the next line is lost for good."""
        return "lost-lines" in self.faults and self.random.random() < LOST

    def say(self, data: bytes) -> bytes | None:
        """Bytes on their way out; None: the link is cut."""
        if "noise" in self.faults:
            data = self._changed(data)
        if "garbage" in self.faults:
            return self._garbage(data)
        if "lost-lines" in self.faults:
            data = b"".join(x for x in data.splitlines(True) if self.random.random() >= LOST)
        if not self._due():
            return data
        first, self.struck = not self.struck, True
        if "dropout" in self.faults:
            return b""
        if first:
            self._strike(self.machine.ways)
        if first and "half-line" in self.faults:
            return data[: len(data) // 2]
        if "unplug" in self.faults or (first and "replug" in self.faults):
            return None
        return data

    def _strike(self, ways: Ways) -> None:
        """What happens all at once."""
        machine, reading = self.machine, self.machine.heated["hotend"].reading_c
        if "restart" in self.faults:
            machine.start()
        if "stuck-sensor" in self.faults:
            ways.stuck_at = reading
        if "nan" in self.faults:
            ways.stuck_at = float("nan")
        if "unreported" in self.faults:
            ways.reported = {"bed"}
        if "off-ignored" in self.faults:
            ways.heats_on = True
        if "second-hotend" in self.faults:
            machine.aim("hotend 1", 210.0)
        if "panel" in self.faults:
            machine.aim("hotend", 0.0)
        if "trip" in self.faults:
            machine.says.append("error: heating failed, the hotend was switched off")
            machine.aim("hotend", 0.0)

    def _due(self) -> bool:
        hot = any(one.target_c for one in self.machine.heated.values())
        if hot and self.heated_s is None:
            self.heated_s = self.machine.now_s
        return self.heated_s is not None and self.machine.now_s - self.heated_s >= self.after_s

    def _changed(self, data: bytes) -> bytes:
        out = bytearray(data)
        for n in np.flatnonzero(self.random.random(len(out)) < NOISE):
            out[n] = int(self.random.integers(32, 255))
        return bytes(out)

    def _garbage(self, data: bytes) -> bytes:
        return bytes(self.random.integers(128, 255, len(data)).tolist())
