"""What goes wrong between the stand-in printer and whoever talks to it, on demand."""

from __future__ import annotations

import numpy as np

from omphalon.standin.machine import Machine

NOISE = 0.002  # share of the bytes that are changed
SETS = ("M92", "M301", "M304", "LEAD", "STREAM", "PUSH", "CALM", "CEIL")


class Faulty:
    """A machine with one fault that strikes so long after something was first heated."""

    def __init__(self, machine: Machine, fault: str | None, after_s: float, seed: int = 3) -> None:
        self.machine, self.fault, self.after_s = machine, fault, after_s
        self.random = np.random.default_rng(seed)
        self.heated_s: float | None = None
        self.struck = False

    def hear(self, data: bytes) -> bytes:
        """Bytes on their way in."""
        return self._changed(data) if self.fault == "noise" else data

    def take(self, line: str) -> str | None:
        """What it says to a line at once instead of doing it; None: it does it."""
        if self.fault == "refuse" and any(f"{code} " in line for code in SETS):
            number = line.split()[0][1:] if line.startswith("N") else ""
            if number.isdigit():
                self.machine.last_number = int(number)
            return "error: not allowed now"
        return None

    def say(self, data: bytes) -> bytes | None:
        """Bytes on their way out; None: the link is cut."""
        if self.fault in ("noise", "garbage"):
            return self._changed(data) if self.fault == "noise" else self._garbage(data)
        if self.fault is None or not self._due():
            return data
        first, self.struck = not self.struck, True
        if self.fault == "dropout":
            return b""
        if self.fault == "unplug":
            return None
        if first and self.fault == "restart":
            self.machine.start()
        elif first and self.fault == "stuck-sensor":
            self.machine.stuck_at = self.machine.heated["hotend"].reading_c
        elif first and self.fault == "half-line":
            return data[: len(data) // 2]
        return data

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
