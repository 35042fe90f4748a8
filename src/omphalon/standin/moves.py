"""The stand-in's ear: plain G-code becomes moves, with what was in force when each was made."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(frozen=True)
class Move:
    """A straight move from (x0, y0) to (x1, y1) mm at height z: filament fed (mm), speed asked
    (mm/s), lead (s), acceleration.
    """

    x0: float
    y0: float
    x1: float
    y1: float
    z: float
    fed_mm: float
    speed_mm_s: float
    lead_s: float
    acceleration_mm_s2: float

    @property
    def length_mm(self) -> float:
        return float(((self.x1 - self.x0) ** 2 + (self.y1 - self.y0) ** 2) ** 0.5)


def heard(lines: Iterable[str], acceleration_mm_s2: float = 3000.0) -> list[Move]:
    """Moves out of G-code with absolute places and relative feed; LEAD, PUSH as in the stand-in's
    dialect.
    """
    at = {"X": 0.0, "Y": 0.0, "Z": 0.0}
    feed, lead, moves = 1000.0, 0.0, []
    for line in lines:
        words = line.split(";")[0].split()
        if not words:
            continue
        if words[0] == "LEAD":
            lead = float(words[1])
        elif words[0] == "PUSH":
            acceleration_mm_s2 = float(words[1])
        elif words[0] in ("G0", "G1"):
            given = {w[0]: float(w[1:]) for w in words[1:]}
            feed = given.get("F", feed)
            x, y, z = (given.get(axis, at[axis]) for axis in "XYZ")
            moves.append(
                Move(
                    at["X"],
                    at["Y"],
                    x,
                    y,
                    z,
                    given.get("E", 0.0),
                    feed / 60,
                    lead,
                    acceleration_mm_s2,
                )
            )
            at = {"X": x, "Y": y, "Z": z}
        elif words[0] == "G28":
            at = {"X": 0.0, "Y": 0.0, "Z": 0.0}
    return moves
