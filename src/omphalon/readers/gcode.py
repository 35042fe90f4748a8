"""The nozzle's path in any print's G-code: places and speeds, nothing else."""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from omphalon.base.errors import UnknownFormat
from omphalon.readers.text import MB, SizeLimit, read_text

WORD = re.compile(r"([A-Z])\s*([-+]?(?:\d+\.?\d*|\.\d+))", re.I)
CODE = re.compile(r"(?:N\d+\s*)?([GMT])\s*0*(\d+)(?![.\d])")
INCH_MM = 25.4
GCODE = SizeLimit(60 * MB, 200 * MB, "give a smaller print, or cut it after some layers")
FEWEST_MOVES = 20
# what is left out of a line, by the first letters of its code
LEFT_OUT = {
    "heats": ("M104", "M109", "M140", "M190", "M141", "M191", "M303"),
    "part fan": ("M106", "M107"),
    "tools": ("T",),
}
MOVES = ("G0", "G1", "G2", "G3")


@dataclass(frozen=True, kw_only=True)
class PrintPath:
    """Commanded places of the nozzle in X and Y (mm, absolute), and the speed (mm/s) of the move to
    each; what else the file held, by how often.
    """

    places: tuple[tuple[float, float], ...]
    speeds_mm_s: tuple[float, ...]
    left_out: Mapping[str, int] = field(default_factory=dict)

    def part(self, longest_s: float) -> PrintPath:
        """So many seconds out of the middle, at the commanded speeds."""
        start = end = len(self.places) // 2
        time = 0.0
        while time < longest_s and (start > 0 or end < len(self.places)):
            if end < len(self.places):
                time += self._time_s(end)
                end += 1
            if start > 0 and time < longest_s:
                start -= 1
                time += self._time_s(start)
        places, speeds = self.places[start:end], self.speeds_mm_s[start:end]
        return replace(self, places=places, speeds_mm_s=speeds)

    def _time_s(self, at: int) -> float:
        return math.dist(self.places[max(at - 1, 0)], self.places[at]) / self.speeds_mm_s[at]


def read_path(path: str) -> PrintPath:
    """The way in X and Y of a print.

    Raises UnreadableFile, or UnknownFormat where the file holds no print.
    """
    text = read_text(path, GCODE)
    found = _Walk()
    for line in text.lines:
        found.step(line.partition(";")[0].strip().upper())
    if len(found.places) < FEWEST_MOVES:
        raise UnknownFormat(
            f"{text.source}: {len(found.places)} moves of X and Y", "give the G-code of a print"
        )
    return PrintPath(
        places=tuple(found.places), speeds_mm_s=tuple(found.speeds), left_out=dict(found.left_out)
    )


class _Walk:
    """A nozzle that goes through a file."""

    def __init__(self) -> None:
        self.at = {"X": 0.0, "Y": 0.0, "Z": 0.0}
        self.speed_mm_s, self.unit, self.absolute = 50.0, 1.0, True
        self.places: list[tuple[float, float]] = []
        self.speeds: list[float] = []
        self.left_out: Counter[str] = Counter()

    def step(self, line: str) -> None:
        """One line without its comment."""
        found = CODE.match(line)
        code = found[1] + found[2] if found else ""
        if code in ("G20", "G21"):
            self.unit = INCH_MM if code == "G20" else 1.0
        elif code in ("G90", "G91"):
            self.absolute = code == "G90"
        elif code == "G92":
            words = {k: float(v) * self.unit for k, v in WORD.findall(line)}
            self.at |= {axis: v for axis, v in words.items() if axis in self.at}
        elif code in MOVES:
            self._move(code, {k: float(v) for k, v in WORD.findall(line)})
        elif line:
            self.left_out[self._kind(code)] += 1

    def _move(self, code: str, words: dict[str, float]) -> None:
        self.speed_mm_s = words.get("F", 60 * self.speed_mm_s / self.unit) * self.unit / 60
        before = dict(self.at)
        for axis in self.at.keys() & words.keys():
            base = 0.0 if self.absolute else self.at[axis]
            self.at[axis] = base + words[axis] * self.unit
        self.left_out["lines that feed"] += "E" in words
        self.left_out["arcs, run straight"] += code in ("G2", "G3")
        self.left_out["moves of Z"] += before["Z"] != self.at["Z"]
        if (before["X"], before["Y"]) != (self.at["X"], self.at["Y"]) and self.speed_mm_s > 0:
            self.places.append((self.at["X"], self.at["Y"]))
            self.speeds.append(self.speed_mm_s)

    @staticmethod
    def _kind(code: str) -> str:
        for kind, codes in LEFT_OUT.items():
            if code in codes or code[:1] in codes:
                return kind
        return "other lines"
