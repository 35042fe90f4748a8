"""The stand-in shaken by plain moves: G-code becomes the drive's acceleration, and the frame
answers.
"""

from __future__ import annotations

import math
from collections.abc import Iterable

import numpy as np

from omphalon.arrays import Array
from omphalon.standin.frame import FrameLog, Sensor, Swing, sensed
from omphalon.standin.moves import heard

RATE_HZ = 12800.0


def driven(lines: Iterable[str], axis: str, still_s: float = 2.0) -> Array:
    """Acceleration of one axis at RATE_HZ: each move from rest to rest, as a straight planner does
    for a turn about.
    """
    at, speed = [0.0, still_s], [0.0, 0.0]
    for move in heard(lines):
        way = move.x1 - move.x0 if axis == "x" else move.y1 - move.y0
        if way == 0:
            continue
        a = move.acceleration_mm_s2
        top = min(move.speed_mm_s, math.sqrt(a * abs(way)))
        along = abs(way) / top - top / a
        for span, value in (
            (top / a, math.copysign(top, way)),
            (along, math.copysign(top, way)),
            (top / a, 0.0),
        ):
            if span > 1e-9:
                at.append(at[-1] + span)
                speed.append(value)
    at.append(at[-1] + still_s)
    speed.append(0.0)
    grid = np.arange(0.0, at[-1], 1 / RATE_HZ)
    return np.asarray(np.diff(np.interp(grid, at, speed)) * RATE_HZ)


def shaken(lines: Iterable[str], axis: str, swings: tuple[Swing, ...], sensor: Sensor) -> FrameLog:
    """What the sensor logs while these lines run."""
    return sensed(driven(lines, axis), swings, sensor, RATE_HZ)
