"""What is asked of the axes, and which readings may answer it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from omphalon.arrays import Array
from omphalon.errors import BadReading, UsageError
from omphalon.physics.scale import Spread, reading_spread
from omphalon.recording import Reading, Readings
from omphalon.studies.answer import no_readings, refuse_gaps

PLACING_MM = {
    "move": 0.05,
    "outside": 0.03,
    "inside": 0.04,
}  # deviation of setting a caliper so; docs/measuring.md
FINEST_MM = 0.01


@dataclass(frozen=True, kw_only=True)
class TravelParts:
    """What the parts make of it: full steps a turn, microsteps, gear ratio, travel per turn of the
    output.
    """

    motor_steps: float
    microsteps: float
    gear: float
    per_turn_mm: float

    @property
    def steps_per_mm(self) -> float:
        """Motor steps × microsteps × gear ÷ travel per turn (belt pitch × teeth, or the screw's
        lead).
        """
        return self.motor_steps * self.microsteps * self.gear / self.per_turn_mm


@dataclass(frozen=True, kw_only=True)
class Rectangle:
    """Both diagonals and both sides of a printed rectangle, in mm: they tell the skew of X to Y."""

    diagonals_mm: tuple[float, float]
    sides_mm: tuple[float, float]


@dataclass(frozen=True, kw_only=True)
class AxisQuestion:
    """Present steps per mm by axis, how finely was read, the parts if known, and a rectangle's
    diagonals and sides.
    """

    steps: Mapping[str, float]
    resolution_mm: float | None = None
    placing_mm: float | None = None
    parts: TravelParts | None = None
    rectangle: Rectangle | None = None


@dataclass(frozen=True, kw_only=True)
class AxisRuns:
    """One axis's readings: lengths asked and moved (n,) in mm, all positive; +1 there and −1 back;
    kinds; what is known of one.
    """

    axis: str
    rows: tuple[Reading, ...]
    asked_mm: Array
    moved_mm: Array
    direction: Array
    kinds: tuple[str, ...]
    known: Spread


def axis_runs(readings: Readings, question: AxisQuestion) -> tuple[AxisRuns, ...]:
    """The readings of each axis.

    Raises
    ------
    UsageError, BadReading
        If something is missing, or a length cannot be one.
    """
    refuse_gaps(readings, "asked_mm", "moved_mm")
    if not readings.has("asked_mm", "moved_mm"):
        no_readings(
            "no asked and moved length for every reading",
            "give --asked with --moved, or both columns",
        )
    groups: dict[str, list[Reading]] = {}
    for row in readings.rows:
        if not row.words.get("axis"):
            raise BadReading(
                f"{row.where}: no axis", "add a column axis with x, y or z, or give --axis"
            )
        groups.setdefault(row.words["axis"], []).append(row)
    missing = [name for name in groups if name not in question.steps]
    if missing:
        raise UsageError(f"no present steps for axis {missing[0]}", f"give --steps {missing[0]}=N")
    unused = [name for name in question.steps if name not in groups]
    if unused:
        raise UsageError(
            f"--steps {unused[0]}={question.steps[unused[0]]:g}: no reading of axis {unused[0]}",
            "leave it out, or measure that axis too",
        )
    return tuple(_runs(name, rows, question) for name, rows in sorted(groups.items()))


def _runs(axis: str, rows: list[Reading], question: AxisQuestion) -> AxisRuns:
    kinds = tuple(r.words.get("kind") or "move" for r in rows)
    asked, moved = (np.array([r.value(c) for r in rows]) for c in ("asked_mm", "moved_mm"))
    for row, kind, a, m in zip(rows, kinds, asked, moved, strict=True):
        if a == 0 or (kind != "move" and a < 0):
            raise BadReading(f"{row.where}: asked {a:g} is not above 0", "measure again, in mm")
        if m * np.sign(a) <= 0:
            raise BadReading(
                f"{row.where}: measured {m:g} where {a:g} was asked",
                "write both with the sign of the direction",
            )
    resolution = question.resolution_mm or max(
        min(r.numbers["moved_mm"].step for r in rows), FINEST_MM
    )
    placing = (
        max(PLACING_MM[k] for k in kinds) if question.placing_mm is None else question.placing_mm
    )
    return AxisRuns(
        axis=axis,
        rows=tuple(rows),
        asked_mm=np.abs(asked),
        moved_mm=np.abs(moved),
        direction=np.sign(asked),
        kinds=kinds,
        known=reading_spread(resolution, placing),
    )
