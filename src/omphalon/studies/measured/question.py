"""What is asked of the flow: by walls, or by the filament's width."""

from __future__ import annotations

from dataclasses import dataclass

from omphalon.constants import FILAMENT_MM
from omphalon.errors import UsageError
from omphalon.recording import Readings

SQUEEZE_MM = 0.01  # how unlike a caliper presses a thin wall, give or take; a judgement
FINEST_MM = 0.01  # that a caliper reads to


@dataclass(frozen=True, kw_only=True)
class FlowQuestion:
    """The present multiplier, the wall that should come out (None: no walls were measured), how
    finely was read, how a caliper squeezes, the filament's width as the slicer believes it, and
    its widths where they were measured beside walls.
    """

    flow: float
    expected_mm: float | None
    resolution_mm: float | None = None
    squeeze_mm: float = SQUEEZE_MM
    nominal_mm: float = FILAMENT_MM
    widths: Readings | None = None

    @property
    def wall_mm(self) -> float:
        """The wall that should come out; a UsageError where it was not given."""
        if self.expected_mm is None:
            raise UsageError("no --expected", "give the thickness a wall should have")
        return self.expected_mm
