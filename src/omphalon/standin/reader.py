"""What eye and caliper would read off a print of the stand-in's: heights, bulges, scores, widths,
as CSV.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from omphalon.base.arrays import Array, Mask
from omphalon.standin.bead import Bead, Nozzle, beads
from omphalon.standin.frame import Move, moves_in

CORNER_MM = 1.5  # to both sides of a corner, where a bulge is seen


@dataclass(frozen=True)
class Reader:
    """A person: deviation of a look along a tower (mm), of a caliper on a bulge (mm), of a score
    (points).

    `tells_mm` is the least bulge that an eye sees. `careless` multiplies all of them.
    """

    look_mm: float = 1.0
    caliper_mm: float = 0.02
    points: float = 0.6
    tells_mm: float = 0.02
    careless: float = 1.0
    seed: int = 0


def tower_csv(lines: list[str], nozzle: Nozzle, reader: Reader, looks: int = 5) -> Iterator[str]:
    """Heights where the tower's clean corner looks best."""
    random = np.random.default_rng(reader.seed)
    height, bulge, slow = tower_bulges(lines, nozzle, random)
    height, bulge = height[~slow], bulge[~slow]  # who looks knows the bands
    curve = np.polyfit(height, bulge, 5)
    at = np.linspace(height[0], height[-1], 2000)
    seen = np.polyval(curve, at)
    best = int(np.argmin(np.abs(seen)))
    slope = abs(np.gradient(seen, at)[best])
    blur = reader.careless * math.hypot(reader.look_mm, reader.tells_mm / max(slope, 1e-3))
    yield "height_mm"
    for _ in range(looks):
        seen_mm = round(2 * (at[best] + random.normal(0, min(blur, 8.0)))) / 2
        yield f"{float(np.clip(seen_mm, 0, height[-1])):.1f}"


def tower_bulges(
    lines: list[str], nozzle: Nozzle, random: np.random.Generator
) -> tuple[Array, Array, Mask]:
    """Height of each layer's middle, its clean corner's bulge (the front right corner of the loops
    that close), and whether that corner was passed slowly.
    """
    heights, bulges, speeds, layer = [], [], [], 0.0
    for bead in beads(moves_in(lines), nozzle, random):
        layer = layer or bead.moves[0].z
        right, front = max(m.x1 for m in bead.moves), min(m.y1 for m in bead.moves)
        for move, end in zip(bead.moves, bead.ends_mm, strict=True):
            if move.z > 1.5 * layer and abs(move.x1 - right) < 0.01 and abs(move.y1 - front) < 0.01:
                heights.append(move.z - layer / 2)
                bulges.append(corner_bulge(bead, end))
                speeds.append(move.speed_mm_s)
    return np.array(heights), np.array(bulges), np.array(speeds) < 0.5 * max(speeds)


def ladder_widths(
    lines: list[str], nozzle: Nozzle, random: np.random.Generator
) -> tuple[Array, Array, Array]:
    """Each line's value, and its widths behind its changes of speed: after speeding up, after
    slowing down.
    """
    found = []
    for bead in beads(moves_in(lines), nozzle, random):
        run = bead.moves
        slow, fast = run[::2], run[1::2]
        if len(run) < 3 or len(run) % 2 == 0 or not _in_turn(slow, fast):
            continue
        after = 0.4 * slow[0].length_mm
        braking = (fast[0].speed_mm_s ** 2 - slow[0].speed_mm_s ** 2) / (
            2 * fast[0].acceleration_mm_s2
        )
        rising = np.concatenate([bead.near(at, 0.0, after + braking) for at in bead.ends_mm[:-1:2]])
        falling = np.concatenate([bead.near(at, braking, after) for at in bead.ends_mm[1:-1:2]])
        found.append((run[0].lead_s, float(rising.mean()), float(falling.mean())))
    values, up, down = np.array(found).T
    return values, up, down


def ladder_csv(
    lines: list[str], nozzle: Nozzle, reader: Reader, score: bool = False
) -> Iterator[str]:
    """Each line's widths behind its changes of speed, or a score of how even it looks there."""
    random = np.random.default_rng(reader.seed)
    values, up, down = ladder_widths(lines, nozzle, random)
    if score:
        yield from scores_csv(values, np.abs(down - up), reader, random)
        return
    yield "advance_s,speedup_mm,slowdown_mm"
    blur = reader.caliper_mm * reader.careless
    for value, thin, fat in zip(values, up, down, strict=True):
        yield (
            f"{value:g},{max(thin + random.normal(0, blur), 0):.2f}"
            f",{max(fat + random.normal(0, blur), 0):.2f}"
        )


def _in_turn(slow: Sequence[Move], fast: Sequence[Move]) -> bool:
    """Whether these are the stretches of a ladder's line: one speed each, and far apart."""
    speeds = {m.speed_mm_s for m in slow}, {m.speed_mm_s for m in fast}
    return all(len(some) == 1 for some in speeds) and max(speeds[0]) < max(speeds[1])


def corner_bulge(bead: Bead, corner_mm: float) -> float:
    """How far a corner stands out from its legs: what lies too much there, as width; it spreads,
    and lacks at most all.
    """
    legs = np.concatenate([bead.near(corner_mm, 8.0, -4.0), bead.near(corner_mm, -4.0, 8.0)])
    excess = float(bead.near(corner_mm, CORNER_MM, CORNER_MM).mean()) - float(legs.mean())
    return max(1.2 * math.tanh(excess / 1.2), -0.85 * bead.line_mm)


def scores_csv(
    values: Array, fault: Array, reader: Reader, random: np.random.Generator
) -> Iterator[str]:
    """Points from 1 to 10: the print's own best and worst set the scale."""
    yield "advance_s,score"
    scaled = 10 - 9 * (fault - fault.min()) / max(float(np.ptp(fault)), 1e-6)
    noisy = scaled + random.normal(0, reader.points * reader.careless, len(values))
    for value, points in zip(values, np.clip(np.round(noisy), 1, 10), strict=True):
        yield f"{value:g},{points:.0f}"
