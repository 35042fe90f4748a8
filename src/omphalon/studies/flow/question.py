"""What is asked of the flow, and which readings may answer it."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from omphalon.arrays import Array
from omphalon.constants import FILAMENT_MM
from omphalon.errors import UsageError
from omphalon.physics.scale import Spread, reading_spread
from omphalon.recording import Reading, Readings
from omphalon.studies.answer import no_readings, refuse_gaps

SQUEEZE_MM = 0.01  # how unlike a caliper presses a thin wall, give or take
WALL_MM = 0.012  # how unlike a wall is from place to place; measured: docs/measuring.md
FINEST_MM = 0.01


@dataclass(frozen=True, kw_only=True)
class FlowQuestion:
    """The present multiplier, the wall that should come out (None: no walls were measured), how
    finely was read, how a caliper squeezes, the filament's width as the slicer believes it.
    """

    flow: float
    expected_mm: float | None
    resolution_mm: float | None = None
    squeeze_mm: float = SQUEEZE_MM
    nominal_mm: float = FILAMENT_MM

    @property
    def wall_mm(self) -> float:
        """The wall that should come out.

        Raises
        ------
        UsageError
            If it was not given.
        """
        if self.expected_mm is None:
            raise UsageError("no --expected", "give the thickness a wall should have")
        return self.expected_mm


@dataclass(frozen=True, kw_only=True)
class Walls:
    """Wall thicknesses (n,) in mm, their rows, and what is known of one reading beforehand."""

    values_mm: Array
    rows: tuple[Reading, ...]
    known: Spread


def walls(readings: Readings, question: FlowQuestion) -> Walls:
    """The walls, and what is known of one: the caliper, its squeeze, and that no wall is even.

    Raises
    ------
    UsageError, BadReading
        If there are none, or one is missing.
    """
    refuse_gaps(readings, "wall_mm")
    if not readings.has("wall_mm"):
        no_readings("no wall thicknesses", "give --wall MM once for each, or a column wall_mm")
    resolution = question.resolution_mm or max(readings.step("wall_mm"), FINEST_MM)
    return Walls(
        values_mm=np.array([r.value("wall_mm") for r in readings.rows]),
        rows=readings.rows,
        known=reading_spread(resolution, math.hypot(question.squeeze_mm, WALL_MM)),
    )
