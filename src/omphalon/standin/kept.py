"""What the stand-in printer is set to: read from lines, listed as lines, stored in a file."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

GAIN_SCALE = 255.0


@dataclass(kw_only=True)
class MachineSettings:
    """Settings by the words of the stand-in's dialect; gains for power 0…255."""

    steps: dict[str, float] = field(default_factory=dict)
    gains: dict[str, list[float]] = field(default_factory=dict)
    lead_s: float = 0.0
    push_mm_s2: float = 1500.0
    stream: float = 1.0
    calm: dict[str, list[Any]] = field(default_factory=dict)
    ceil: dict[str, float] = field(default_factory=dict)

    def listed(self) -> Iterator[str]:
        """What the printer lists of itself; what was never set is left out."""
        yield "M92 " + " ".join(f"{axis}{value:.4f}" for axis, value in self.steps.items())
        for heater, code in (("hotend", "M301"), ("bed", "M304")):
            kp, ki, kd = self.gains[heater]
            yield f"{code} P{kp:.5f} I{ki:.5f} D{kd:.5f}"
        if self.stream != 1.0:
            yield f"STREAM {self.stream:.4f}"
        yield f"LEAD {self.lead_s:.5f}"
        for axis, (name, frequency, damping) in self.calm.items():
            yield f"CALM {axis} {name} {frequency:.2f} {damping:.4f}"
        yield f"PUSH {self.push_mm_s2:.0f}"
        for words, value in self.ceil.items():
            yield f"CEIL {words} {value:.1f}"

    def take(self, code: str, words: list[str]) -> bool:
        """One line that sets something; whether it does. ValueError where its words are none."""
        named = {w[0]: float(w[1:]) for w in words} if code in ("M92", "M301", "M304") else {}
        if code == "M92":
            unknown = set(named) - set(self.steps)
            if unknown or not all(value > 0 for value in named.values()):
                raise ValueError("no such steps")
            self.steps.update(named)
        elif code in ("M301", "M304"):
            self.gains["hotend" if code == "M301" else "bed"] = [named[k] for k in "PID"]
        elif code == "LEAD":
            self.lead_s = float(words[0])
        elif code == "STREAM":
            self.stream = float(words[0])
        elif code == "PUSH":
            self.push_mm_s2 = float(words[0])
        elif code == "CALM":
            self.calm[words[0]] = [words[1], float(words[2]), float(words[3])]
        elif code == "CEIL":
            self.ceil[f"{words[0]} {words[1]}"] = float(words[2])
        else:
            return False
        return True


def copied(one: MachineSettings) -> MachineSettings:
    """The same settings, apart."""
    return MachineSettings(**json.loads(json.dumps(asdict(one))))


def read_kept(path: Path, usual: MachineSettings) -> MachineSettings:
    """The settings in a file; the usual ones where there is none."""
    if not path.exists():
        return copied(usual)
    return MachineSettings(**json.loads(path.read_text("utf-8")))


def kept_text(one: MachineSettings) -> str:
    """The settings as the file holds them."""
    return json.dumps(asdict(one), indent=1) + "\n"
